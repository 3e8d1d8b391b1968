package segments

import (
	"bytes"
	"fmt"

	"ydrion/core/batch"
	"ydrion/core/finding"
)

// Rules of the syntax, as numbers in batch notes.
const (
	ruleSegment = iota
	ruleTail
	ruleCount
	ruleNumber
	ruleNoUnit
	ruleUndecoded
	ruleUndeclared
	ruleExtended
	ruleTwice
	ruleOutside
	ruleLoose
	ruleMisfit
	ruleControl
	ruleControlled
	ruleMore
	ruleGoesOn
)

// Describe makes the finding of a syntax note.
func (r *Reader) Describe(b *batch.Batch, n batch.Note) finding.Finding {
	at := b.Place(int(n.Record), n.At)
	s := r.syntax(b.Base)
	rest := b.Buf[min(int(n.At), b.N):b.N]
	segment := rest[:s.end(rest, 0)]
	if n.Slot >= 0 {
		at.Path = r.Positions[n.Slot].String()
	}
	seen := func(f finding.Finding) finding.Finding { f.Seen = finding.Shorten(segment); return f }
	whole := b.Messages[min(r.wholeIn(b, n.At), len(b.Messages)-1)]
	message := b.Buf[whole.Off:whole.End]
	switch n.Rule {
	case ruleSegment:
		return seen(finding.New(r.Name+".segment", at, "this is not a segment: a name of two or three capital letters and digits must begin it, and %q or the end follow it", s.Element))
	case ruleTail:
		return seen(finding.New(r.Name+".unfinished", at, "the message ends without %s: it may not be whole", r.Tail)).Suggest("ask for the file again")
	case ruleGoesOn:
		return seen(finding.New(r.Name+".unfinished", at, "%s ends the message here, and it goes on: others may have run into it", r.Tail)).Suggest("ask for the file again")
	case ruleCount:
		at.Path = r.Tail + "-1"
		f := seen(finding.New(r.Name+".count", at, "%s says %s segments, but the message has %s", r.Tail, s.field(segment, 1), n.Text))
		f.Expected = n.Text
		return f.Suggest("the message may not be whole: ask for it again")
	case ruleNumber:
		at.Path = r.Tail + "-2"
		number := s.field(message[:s.end(message, 0)], r.HeadNumber)
		f := seen(finding.New(r.Name+".number", at, "%s says number %s, but %s said %s", r.Tail, s.field(segment, 2), r.Head, number))
		f.Expected = string(number)
		return f
	case ruleTwice:
		at.Path = fmt.Sprintf("%s-%d", r.Head, r.HeadNumber)
		return seen(finding.Warn(r.Name+".number", at, "%s says number %s, as one before it does: numbers differ from each other", r.Head, s.field(segment, r.HeadNumber)))
	case ruleOutside:
		return finding.New(r.Name+".envelope", at, "the message stands in no interchange: there is no %s before it", r.Levels[0].Open).Suggest("the file may not be whole: ask for it again")
	case ruleLoose:
		return finding.New(r.Name+".envelope", at, "the message stands in no group: there is no %s before it", r.Levels[len(r.Levels)-1].Open).Suggest("the file may not be whole: ask for it again")
	case ruleMisfit:
		kind := s.field(segment, 3-r.HeadNumber)
		problem := ""
		for _, line := range r.opened(b, int(whole.Off)) {
			if r.level(append(bytes.Clone(line), s.Terminator), &s) == len(r.Levels)-1 {
				problem = r.Fits(string(s.field(line, 1)), string(kind[:s.next(kind, 0, s.Component)]))
			}
		}
		return seen(finding.Warn(r.Name+".envelope", at, "the message is not of the kind of its group: %s", problem))
	case ruleControl:
		return finding.New(r.Name+".control", at, "byte %02X here stands for a character that was lost", b.Buf[n.At]).Suggest("the sender must send the text that was meant")
	case ruleMore:
		f := finding.Warn(r.Name+".beyond", at, "there are more %s here than the %d that are taken: this one and those behind it go nowhere", r.Positions[n.Slot].Segment, r.Positions[n.Slot].Occurrence)
		return f.Suggest("take more of them, choose by a value as in NAD(BY)-2.1, or make each a record")
	case ruleControlled:
		return finding.Warn(r.Name+".control", at, "byte %02X here is a control character, which has no place in a message", b.Buf[n.At])
	case ruleExtended:
		return finding.New(r.Name+".charset", at, "the interchange changes to another character set here (ISO 2022), as its repertoire allows; that is not followed").Suggest("say in the route which encoding it is, such as iso-2022-jp")
	case ruleUndeclared:
		return finding.New(r.Name+".charset", at, "byte %02X here is not ASCII, and the interchange says that it is", b.Buf[n.At]).Suggest("the interchange must name its character set, or the route's encoding must be set")
	case ruleUndecoded:
		return finding.New("text.encoding", at, "byte %02X here is none of the character set that is declared", b.Buf[n.At]).Suggest("the right one must be declared, or the route's encoding must be set")
	}
	return finding.New(r.Name+".no-unit", at, "the message has none of the segments that are records in this route")
}

func orNone(s string) string {
	if s == "" || s == "." {
		return "no name"
	}
	return s
}
