package hl7

import (
	"bytes"
	"fmt"

	"ydrion/core/batch"
	"ydrion/core/finding"
)

// Syntax rules, as numbers in batch notes.
const (
	ruleSeparators = iota
	ruleSegment
	ruleCharset   // a charset that MSH-18 names and nobody knows
	ruleUndecoded // a byte that the declared charset does not have
	ruleUndeclared
	ruleEscape
	ruleNoUnit
	ruleBlock // the block does not end
	ruleBehind
	ruleBatch
	ruleControl
	ruleControlled
	ruleMore
	ruleSwallowed // a segment behind a line end that is none in its message
	ruleBreak
	ruleContinued // a segment goes on in ADD
	ruleFragment  // a message goes on in another
)

// Describe makes the finding of a syntax note.
func (r *Reader) Describe(b *batch.Batch, n batch.Note) finding.Finding {
	at := b.Place(int(n.Record), n.At)
	rest := b.Buf[min(int(n.At), b.N):b.N]
	line := rest
	if i := bytes.IndexAny(rest, "\r\n"); i >= 0 {
		line = rest[:i]
	}
	if n.Slot >= 0 {
		at.Path = r.Positions[n.Slot].String()
	}
	seen := func(f finding.Finding, b []byte) finding.Finding { f.Seen = finding.Shorten(b); return f }
	switch n.Rule {
	case ruleSeparators:
		_, problem := separators(rest)
		return seen(finding.New("hl7.separators", at, "the message's separators cannot be read: %s", problem), line)
	case ruleSegment:
		return seen(finding.New("hl7.segment", at, "this line is not a segment: a name of three capital letters or digits and %q must begin it", b.Buf[b.Bounds[n.Record].Off+3]), line).
			Suggest("a line break in a value must be written as an escape sequence, such as \\.br\\")
	case ruleSwallowed:
		return seen(finding.New("hl7.line-end", at, "a segment begins here behind %s, which ends no segment in this message: it would be taken for a part of the one before", lineEnd(b.Buf[len(bytes.TrimRight(b.Buf[:n.At], " \t"))-1])), line).
			Suggest("all segments of a message end alike: ask for it again")
	case ruleBreak:
		return finding.Warn("hl7.line-end", at, "%s stands here in a segment; it ends none in this message, and is kept as it is", lineEnd(b.Buf[n.At])).
			Suggest("a line break in a value must be written as an escape sequence, such as \\.br\\")
	case ruleContinued:
		goes := fmt.Sprintf("%s goes on in the ADD segment that follows it, and they are not put together", line[:min(3, len(line))])
		if n.Warn {
			return finding.Warn("hl7.continued", at, "%s", goes)
		}
		return finding.New("hl7.continued", at, "%s: what is taken may not be whole", goes).Suggest("ask the sender for the segment as one")
	case ruleFragment:
		says := "MSH-14 says that this message goes on with another"
		if bytes.HasPrefix(line, []byte("DSC")) {
			says = "DSC-1 says that another message goes on with this one"
		}
		return finding.Warn("hl7.continued", at, "%s: each is worked on by itself, with what it has", says).Suggest("ask the sender for the message as one")
	case ruleBlock:
		return finding.New("hl7.block", at, "the block that begins before this message (VT) does not end (FS CR): the message may not be whole").Suggest("ask for it again")
	case ruleBehind:
		return seen(finding.New("hl7.block", at, "something stands behind the end of the message's block (FS) and is in no block"), line).Suggest("ask for the file again")
	case ruleBatch:
		return seen(finding.New("hl7.batch", at, "%s stands among messages, and the file does not begin with FHS or BHS", line[:min(3, len(line))]), line).Suggest("the file may be put together of others, or not be whole: ask for it again")
	case ruleControl:
		return finding.New("hl7.control", at, "byte %02X here stands for a character that was lost", b.Buf[n.At]).Suggest("the sender must send the text that was meant")
	case ruleMore:
		return finding.Warn("hl7.beyond", at, "there are more %s here than the %d that are taken: this one and those behind it go nowhere", r.Positions[n.Slot].Segment, r.Positions[n.Slot].Occurrence).
			Suggest("take more of them, choose by a value as in OBX(3=WBC)-5, or make each a record")
	case ruleControlled:
		return finding.Warn("hl7.control", at, "byte %02X here is a control character, which has no place in a message (HL7 v2 chapter 2, 2.5.4)", b.Buf[n.At])
	case ruleCharset:
		return finding.New("hl7.charset", at, "MSH-18 names a character set that is not known").Suggest("set the route's encoding")
	case ruleUndeclared:
		if b.Buf[n.At] == escape {
			return finding.New("hl7.charset", at, "an escape sequence changes to another character set here (ISO 2022), and MSH-18 does not name it").
				Suggest("MSH-18 must name it, as in ASCII~ISO IR87")
		}
		return finding.New("hl7.charset", at, "byte %02X here is not ASCII, and MSH-18 does not say which character set it is of", b.Buf[n.At]).
			Suggest("MSH-18 must name it, or the route's encoding must be set")
	case ruleUndecoded:
		return finding.New("text.encoding", at, "byte %02X here is none of the character set that MSH-18 names", b.Buf[n.At]).Suggest("MSH-18 must name the one in use, or the route's encoding must be set")
	case ruleNoUnit:
		return finding.New("hl7.no-unit", at, "the message has none of the segments that are records in this route")
	}
	return seen(finding.Warn("hl7.escape", at, "an escape sequence here has no meaning in text; it was kept as it is"), line)
}

func lineEnd(c byte) string {
	if c == '\n' {
		return "a line feed (LF)"
	}
	return "a carriage return (CR)"
}
