package lang

import (
	"fmt"
	"math"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/format"
	"ydrion/core/place"
	"ydrion/core/text"
)

// Program is a compiled map: rules that reject or skip a record, then a flat
// list of actions, each a constant prefix and one thing to append. It holds
// nothing that changes, so that all cores run the same one.
type Program struct {
	rules    []rule
	actions  []action
	columns  []column // for each action
	escapes  *text.Escapes
	null     string
	nullable bool   // the target can say null
	taken    string // no text can be written so, because null is; empty: any can
	bare     bool   // numbers and truth values stand without the quotes of texts
	decimal  byte   // numbers stand in plain decimal notation with this mark; 0: as they were written
	says     *text.Repertoire
	leading  []int32 // slots of the first actions, as long as each depends on one of the record's or on none: -1
	lines    []line
	assigned map[string]place.Place // where the map speaks of each position
	noted    []evaluator            // for each action what notes how its value came about, where the program explains what it does
	source   []string               // the lines of the map, where the program explains what it does
	Sequence bool                   // uses the route's sequence
	Record   bool                   // uses record numbers
	Taken    map[string]bool        // fields of the record itself that are used, and not only asked of its rows

	begins, ends *Program // what stands around the records of an output
	skip         int
	several      bool // a record becomes any number of the target, which are counted

	editor format.Editor // writes records as they came; nil: the actions write them
	edits  []edit

	// Most is how many bytes the records of one batch may become together; 0: it follows from the batch.
	Most int
}

// MostMade is how many bytes are made at most of a message or record that is larger than a usual batch:
// a long value that goes into each of a message's records would take all memory.
const MostMade = 256 << 20

// most is how many bytes the records of a batch may become. Small records may become as much as a
// batch can count: each would be good alone.
func (p *Program) most(b *batch.Batch) int {
	switch {
	case p.Most > 0:
		return p.Most
	case b.N > 2*batch.Size:
		return MostMade
	}
	return math.MaxUint32
}

// tooMuch is what becomes of a record that would make the output of its batch too large.
func (p *Program) tooMuch(b *batch.Batch) *Outcome {
	return &Outcome{What: batch.Rejected, Line: MadeRule, Reason: fmt.Sprintf("with this record, more than %d bytes would be made of its message", p.most(b))}
}

// line is where in the map an action comes from.
type line struct {
	at     place.Place
	target string
	slot   int // the source field that it is about, or -1
	lists  []within
	row    frame // whose field that is, if it is one of a row
	blocks int32 // so many lines behind it are those of the blocks that say the position
}

// within is a list of which rows are around an expression, and the walk through it.
type within struct {
	list  string
	table int
	walk  int
}

type rule struct {
	condition evaluator
	because   evaluator
	skip      bool
	line      int32
}

// lacks says which character of a value the target does not have; "" if it has all.
func (p *Program) lacks(written []byte) string {
	if p.says == nil {
		return ""
	}
	if c, lacking := p.says.Lacking(written); lacking {
		return fmt.Sprintf("%q is not among the characters of %s", c, p.says.Name)
	}
	return ""
}

// Surround writes what stands before the records of an output and behind them, total of them, of
// which Skip bytes of the first are left out. A finding says why that is not possible.
func (p *Program) Surround(facts Facts, sequence int64, total int64) (before, behind []byte, problem *finding.Finding) {
	e := &Env{Facts: facts, total: total}
	b := &batch.Batch{First: 1, Seq: sequence}
	for _, x := range []struct {
		program *Program
		out     *[]byte
	}{{p.begins, &before}, {p.ends, &behind}} {
		var o *Outcome
		if *x.out, o = x.program.Run(e, b, 0, nil); o.What != batch.Good {
			l := x.program.lines[o.Line]
			f := finding.New("map.around", place.Place{Line: 1, Column: 1}, "%s: %s", l.target, o.Reason)
			f.Rule = l.at.String() + " " + l.target
			return nil, nil, &f
		}
	}
	return before, behind, nil
}

// Numbered tells whether an output as a whole has a number of the route's sequence.
func (p *Program) Numbered() bool { return p.begins.Sequence }

// Closes tells whether something stands behind the last record of an output.
func (p *Program) Closes() bool { return len(p.ends.actions) > 0 }

// Skip is how many bytes of an output's first record only stand between two.
func (p *Program) Skip() int { return p.skip }

// AsCame tells whether records go on as they came, with changes.
func (p *Program) AsCame() bool { return p.editor != nil }

// Framer is what writes records as they came with what stands around them, if that is so.
func (p *Program) Framer() (format.Framer, bool) {
	f, is := p.editor.(format.Framer)
	return f, is
}

// Encode gives what has been written in the character set in which it goes out.
func (p *Program) Encode(written []byte) ([]byte, error) { return p.says.Encode(written) }

// Describe makes the finding of a map note.
func (p *Program) Describe(b *batch.Batch, n batch.Note, r format.Reader) finding.Finding {
	record := int(n.Record)
	if n.Rule == NameRule {
		return finding.New("deliver.name", b.Place(record, b.Bounds[record].Off), "no file can be named after this record: %s", n.Text)
	}
	if n.Rule == MadeRule {
		return finding.New("map.large", b.Place(record, b.Bounds[record].Off), "%s", n.Text).Suggest("make fewer records of a message, or write less for each")
	}
	if n.Rule == DescriptionRule {
		f := finding.New("deliver.standard", b.Place(record, b.Bounds[record].Off), "what is made of it differs from %s", n.Text)
		if n.Warn {
			f.Severity = finding.Warning
		}
		return f
	}
	if n.Rule == KeptRule {
		return finding.New("map.as-it-came", b.Place(record, b.Bounds[record].Off), "the record cannot go on as it came: %s", n.Text)
	}
	l := p.lines[n.Rule]
	offset, name := b.Bounds[record].Off, ""
	f := finding.Finding{Severity: finding.Error, Code: "map.value", Rule: l.at.String() + " " + l.target, Message: n.Text}
	if l.slot >= 0 && l.row.walk == 0 {
		offset, name = r.Locate(b, record, l.slot)
		v, _ := b.Value(record, l.slot)
		f.Seen = finding.Shorten(v)
	}
	f.Place = b.Place(record, offset)
	f.Place.Path = name
	switch {
	case l.target == "reject" || l.target == "skip":
		f.Code = "map." + l.target
	case name != "":
		f.Message = name + ": " + n.Text
	}
	if n.Warn {
		f.Severity = finding.Warning
	}
	return f
}
