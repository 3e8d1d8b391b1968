package lang

import (
	"fmt"
	"slices"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/format"
	"ydrion/core/mail"
	"ydrion/core/marks"
	"ydrion/core/shape"
	"ydrion/core/value"
)

// Facts are what a run hands to its maps: nothing in the language reads a clock
// or a file by itself.
type Facts struct {
	Route  string
	Now    value.Moment
	Name   string     // of the file
	Folder string     // below the listened folder
	Event  string     // arrived, changed, gone
	Key    string     // of the files that were collected, and
	Files  int        // how many those are; 0: files come one by one
	Size   int64      // in bytes, and
	Type   string     // as a media type (RFC 6838): of files that go on unread
	Head   []byte     // the beginning of those, as it stands in the file
	Mail   *mail.Head // that the file was attached to; nil: to none
}

// PartOf is what is known of one of several outputs of a file, when it has been written.
type PartOf struct {
	Number, Count, Records int64
	Totals                 Totals
}

// Env is what an expression is evaluated in: one record.
type Env struct {
	Reader format.Reader // of the batches
	Facts
	Buf    []byte
	Row    []batch.Span
	Record int64
	Seq    int64
	Part   PartOf
	Number int64 // of the output, in whose name it is the sequence; 0: that is the record's
	// Plain has values that do not go on into their own format: see batch.Batch.
	Plain bool
	Zones *LostZones // nil: nobody asks

	batch    *batch.Batch
	records  int        // of it that have been begun
	specials marks.Bits // of what has to be written otherwise, in its buffer
	marked   int        // behind the end of what has been looked at; 0: nothing has

	index   int             // of the record in it
	changes []format.Change // of a record as it came
	rows    []walking       // the walks through lists, by their number
	steps   int             // through rows, for this record
	block   int32           // of several that say the same position, the one that did so last, from 1

	trace    *trace // of a program that explains what it does
	scratch  []byte
	failed   bool
	answered bool // somebody has an answer to a failure: its sentence is not needed
	reason   string
	before   written
	tally    int     // what the record counts
	levels   []int   // of its hierarchy, in the order in which they were written
	total    int64   // records of the output
	parts    int     // what the record has become
	empties  []int32 // lines whose values must be there, and are empty
	good     Outcome // of a record that is
}

// written is what a record has in common with the one before it in the same batch, as it was written: records that
// are parts of one message or document share what stands around them. It is a copy, because what comes behind may take
// some of it back and write over it.
type written struct {
	row         []batch.Span // of the record before; nil: there is none
	from, to    int          // the actions whose text is kept; as many: none is
	text        []byte
	kept        bool // it is that of the record before
	more, other int  // how often in a row records had more in common, or something else
	tried, used int
}

// tries is after how many records of a batch that have little in common nobody looks any more.
const tries = 32

// Begin makes the environment ready for a batch of which the program is to run over records. What comes without that is
// written the same, but slower.
func (p *Program) Begin(e *Env, b *batch.Batch) {
	e.Turn()
	e.batch, e.marked, e.records = b, 0, 0
	e.specials.Trim(4 * batch.Size)
}

// mark looks for all of a batch that has to be written otherwise, when it has turned out that so many of its records are written.
func (p *Program) mark(e *Env) {
	e.marked = len(e.Buf) + 1
	e.specials.Mark(e.Buf, 0, len(e.Buf), p.escapes.Specials())
}

// few is how many records of a batch are written without that: where a route has many branches, each writes few.
const few = 4

// Turn makes it ready for another file in the same batch.
func (e *Env) Turn() { e.before = written{text: e.before.text} }

// looks tells whether it is worth to look for what records have in common.
func (l *written) looks() bool { return l.tried < tries || l.used*4 >= l.tried }

// common tells whether the kept text is that of this record, too: it is if the actions of its run, by the slots that
// they depend on, write what they wrote for the record before. If not, it is to be kept anew, of the same run or of
// another.
func (l *written) common(slots []int32, row []batch.Span) bool {
	before := l.row
	l.row = row
	if before == nil {
		return false
	}
	l.tried++
	if l.to > 0 {
		run := slots[l.from:l.to]
		if i := slices.IndexFunc(run, func(slot int32) bool { return slot >= 0 && row[slot] != before[slot] }); i >= 0 {
			if l.kept = false; l.other < 3 {
				l.other++
				return false
			}
		} else {
			l.used++
			l.other = 0
			common := func(slot int32) bool { return slot >= 0 && row[slot] == before[slot] && !row[slot].Absent() }
			if (l.from == 0 || !common(slots[l.from-1])) && (l.to == len(slots) || !common(slots[l.to])) {
				l.more = 0
				return l.kept
			}
			if l.more++; l.more < 2 {
				return l.kept
			}
		}
	}
	from, to, most := longestRun(slots, row, before)
	if l.kept = false; most >= 2 {
		l.used++
		l.from, l.to, l.more, l.other = from, to, 0, 0
	}
	return false
}

// longestRun finds the longest run of slots that two rows have in common, and how many values are in it.
func longestRun(slots []int32, row, before []batch.Span) (from, to, most int) {
	first, values := 0, 0
	for i, slot := range slots {
		if slot < 0 {
			continue
		}
		s := row[slot]
		if s != before[slot] {
			if values > most {
				from, to, most = first, i, values
			}
			first, values = i+1, 0
		} else if !s.Absent() {
			values++
		}
	}
	if values > most {
		from, to, most = first, len(slots), values
	}
	return from, to, most
}

// keep takes what the actions of the run have written.
// keep keeps a text, unless there is more to say of it.
func (l *written) keep(text []byte, e *Env) {
	if len(e.empties) == 0 {
		l.text, l.kept = append(l.text[:0], text...), true
	}
}

type evaluator func(e *Env) value.Value

// fail notes why an expression cannot go on. The record will be rejected.
func (e *Env) fail(format string, in value.Value, more string) value.Value {
	if !e.failed {
		e.failed = true
		if e.answered {
			return value.Value{}
		}
		seen := finding.Shorten(in.Append(nil))
		if more == "" {
			e.reason = fmt.Sprintf(format, seen)
		} else {
			e.reason = fmt.Sprintf(format, seen, more)
		}
	}
	return value.Value{}
}

// text makes a new text in the scratch space.
func (e *Env) text(in value.Value, f func(to, in []byte) []byte) value.Value {
	start := len(e.scratch)
	e.scratch = f(e.scratch, in.Bytes)
	return value.OfText(e.scratch[start:len(e.scratch):len(e.scratch)])
}

// start makes the environment ready for a record.
func (e *Env) start(b *batch.Batch, record int) {
	e.Buf = e.bufferOf(b)
	if e.batch != b {
		e.marked, e.records = 0, few
	}
	e.Row = b.Spans[record*b.Slots : record*b.Slots+b.Slots]
	e.batch, e.index, e.steps = b, record, 0
	e.Record, e.Seq = b.First+int64(record), b.Seq+int64(record)
	if e.Number != 0 {
		e.Seq = e.Number
	}
	e.scratch, e.failed, e.reason = e.scratch[:0], false, ""
}

// bufferOf is the text that fields are taken from.
func (e *Env) bufferOf(b *batch.Batch) []byte {
	if e.Plain && b.Plain != nil {
		return b.Plain
	}
	return b.Buf
}

func numberField(decimal, group byte) shape.Field {
	return shape.Field{Kind: value.Number, Decimal: decimal, Group: group}
}
