// Package batch has the unit of work of the engine: a block of whole records
// with the spans of the fields that somebody asked for.
//
// A batch lives and dies whole. Its buffer holds the decoded text of the
// records, then a tail of values that had to be rewritten (doubled quotes
// undone). A span is a piece of that buffer. Nothing is allocated for a
// record.
package batch

import (
	"bytes"
	"cmp"
	"slices"
	"unicode/utf8"

	"ydrion/core/marks"
	"ydrion/core/place"
)

// A batch holds at least Small bytes, if there are as many, and, where records are smaller than it, at most Size.
const (
	Size  = 256 << 10
	Small = 32 << 10
)

// Slack is how many bytes after the text may be read, never used, so that a
// scan may load words.
const Slack = 64

// Span is a half-open piece of a batch's buffer.
type Span struct{ Off, End uint32 }

// Missing is the span of a field that is absent.
var Missing = Span{Off: ^uint32(0), End: ^uint32(0)}

// Null is the span of a field that says that there is no value, in formats that
// can say so. It counts as absent for who does not ask.
var Null = Span{Off: ^uint32(0), End: ^uint32(0) - 1}

// Len is the number of bytes.
func (s Span) Len() int { return int(s.End - s.Off) }

// Absent tells whether there is no field at all.
func (s Span) Absent() bool { return s.Off == ^uint32(0) }

// Note is a finding before anybody asked for its sentence: which record, which
// slot, which rule of the plan.
type Note struct {
	Record int32 // index in the batch
	Slot   int32 // -1: the whole record
	Rule   int32 // index in the rules of whoever found it
	Branch int32 // whose map found it
	Source Source
	Warn   bool
	Table  int32  // from 1, of whose row something is said; 0: of the record
	Row    int32  // in that table
	At     uint32 // offset in the buffer, for findings of the syntax
	Text   string // what went wrong, as far as the rule does not say it
	Detail *Detail
}

// Detail is what else there is to say of a difference from a standard.
type Detail struct{ Code, Path, Seen string }

// Source says whose rules a note counts in.
type Source uint8

const (
	Syntax Source = iota
	Check
	Map
	Standard
)

// Outcome is what became of a record.
type Outcome uint8

const (
	Good Outcome = iota
	Rejected
	Filtered
)

// Opened is a segment that has opened what records stand in, and its offset in the decoded stream.
type Opened struct {
	Text []byte
	At   int64
}

// Origin is where a text stands in the file that begins at an offset in a batch.
type Origin struct {
	Off      uint32
	File     int   // of those of the run, from 0
	At, Line int64 // offset in the decoded stream, and line
	Recast   bool  // it has another form there: only where it begins is known
	Column   int64 // where it begins there, from 1
	// What of the text stands there so but for its line ends, where there is more around it: the record itself, with the offsets of its
	// line ends from its beginning.
	Own  Span
	Ends []uint32
}

// Batch is a block of whole records.
type Batch struct {
	Origins  []Origin // of the texts of its records, where those stand in another order than in the file
	Open     []Opened // what its records stand in before it begins, the outermost first, where that is known
	Buf      []byte   // text, slack, tail of rewritten values
	Plain    []byte   // the same for values that leave the format they came in; nil: there is no difference
	N        int      // bytes of text
	File     int      // that it is of, of those of the run, from 0
	Base     int64    // offset of the text in the decoded stream
	Line     int64    // line of the first byte
	Lead     int64    // characters that stand before the first byte in its line
	First    int64    // number of the first record, from 1
	Seq      int64    // sequence number of the first record
	Lines    int64    // line ends in the text
	Unusual  bool     // the cutter saw something that needs the careful splitter
	Bounds   []Span   // the records, with their line ends
	Messages []Span   // what the records are parts of, where they are: messages
	Slots    int      // fields asked for
	Spans    []Span   // Slots for each record
	Tables   []Table  // the rows of the records' lists
	Outcomes []Outcome
	Notes    []Note
	Branches []Branch      // what the records became in each
	Turn     chan struct{} // closed when all batches before have been numbered
	Next     chan struct{} // to be closed when this one has been
	Done     chan struct{} // receives when the batch is ready to be given out

	Marks, Ends marks.Bits // of its text, for who splits it: what tells parts apart, and what ends segments

	counted []mark // what Place has counted
}

// Branch is what the records of a batch became in a branch of a route.
type Branch struct {
	Out    []byte   // in order
	Ends   []uint32 // end in Out for each record
	Taken  []bool   // by record, whether it has become anything here; empty: every good one has
	Names  []string // for each record a name at each destination (or none), when outputs are named by records each
	Values []*Value // by record, what its output is told apart by, where that is a value; nil: it goes into none
	Pieces []uint32 // by record, how many of the target it has become, where those are told apart
	Parts  int64    // how many of the target the good records have become
	Number int64    // of the output of all records, where it has one
	Said   []uint64 // by record, hashes of what it would say of its output, where the first in it does
}

// Value is one by which outputs are told apart.
type Value struct {
	Key    string
	ID     int      // from 1, in the order in which they came; 0: none yet
	Number int64    // of the output, of the route's sequence
	Names  []string // of the output at each destination, as its first record calls it
}

// Made is what a record became.
func (m *Branch) Made(record int) []byte { return m.Out[m.From(record):m.Ends[record]] }

// Called are the names of the outputs at so many destinations that a record which has become something goes into, where
// outputs are named by records.
func (m *Branch) Called(record, destinations int) []string {
	if record < len(m.Values) && m.Values[record] != nil && m.Values[record].Names != nil {
		return m.Values[record].Names
	}
	if from := record * destinations; from+destinations <= len(m.Names) {
		return m.Names[from : from+destinations]
	}
	return nil
}

// From is where in Out a record begins, when those before it have ended.
func (m *Branch) From(record int) int {
	if record == 0 {
		return 0
	}
	return int(m.Ends[record-1])
}

// In tells whether a record has become something in a branch.
func (b *Batch) In(branch, record int) bool {
	taken := b.Branches[branch].Taken
	return b.Outcomes[record] == Good && (len(taken) == 0 || taken[record])
}

// Divide makes room for so many branches.
func (b *Batch) Divide(branches int) {
	for len(b.Branches) < branches {
		b.Branches = append(b.Branches, Branch{})
	}
	b.Branches = b.Branches[:branches]
}

// reset makes it empty.
func (m *Branch) reset() {
	m.Out, m.Ends, m.Names = usual(m.Out, 32*Size)[:0], usual(m.Ends, Size/4)[:0], usual(m.Names, Size/16)[:0]
	clear(m.Values)
	m.Said = usual(m.Said, Size/16)[:0]
	m.Values, m.Pieces, m.Taken = usual(m.Values, Size/16)[:0], usual(m.Pieces, Size/16)[:0], usual(m.Taken, Size)[:0]
	m.Parts, m.Number = 0, 0
}

// mark is how many lines end before an offset, and how many characters stand before it in its line.
type mark struct {
	off         int
	lines, lead int64
}

// stride is about how far marks are apart, in bytes.
const stride = 512

// Table holds the rows of a list of all records. The rows of one record, or of one row of the
// list that it is in, follow each other; all are in the order of the file.
type Table struct {
	Slots int
	Above int      // the table of the rows that they belong to, -1: to the records
	Spans []Span   // Slots for each row
	At    []uint32 // where each row begins in the text
	Ends  []uint32 // for each row above or record: behind its last row here
}

// Lay makes room for the rows of lists: their slots, and the table above each.
func (b *Batch) Lay(slots, above []int) {
	b.Tables = slices.Grow(b.Tables[:0], len(slots))[:len(slots)]
	for i := range b.Tables {
		t := &b.Tables[i]
		t.Slots, t.Above, t.Spans, t.At, t.Ends = slots[i], above[i], t.Spans[:0], t.At[:0], t.Ends[:0]
	}
}

// Row adds a row to a table, with nothing in it.
func (b *Batch) Row(table int, at uint32) []Span {
	t := &b.Tables[table]
	n := len(t.Spans)
	t.Spans = slices.Grow(t.Spans, t.Slots)[:n+t.Slots]
	for i := n; i < len(t.Spans); i++ {
		t.Spans[i] = Missing
	}
	t.At = append(t.At, at)
	b.Begin(table, len(t.At)-1)
	return t.Spans[n:]
}

// Begin ends what rows before a row of a table (-1: records before a record) have in the tables below it:
// what comes now is the row's own.
func (b *Batch) Begin(table, row int) {
	for i := range b.Tables {
		if t := &b.Tables[i]; t.Above == table {
			for len(t.Ends) < row {
				t.Ends = append(t.Ends, uint32(len(t.At)))
			}
		}
	}
}

// Filled is called when all rows are there.
func (b *Batch) Filled() {
	for i := range b.Tables {
		if above := b.Tables[i].Above; above < 0 {
			b.Begin(-1, b.Records())
		} else {
			b.Begin(above, len(b.Tables[above].At))
		}
	}
}

// Rows are those of a table that belong to a row of the table above it, or to a record: from one on to
// before another.
func (b *Batch) Rows(table, above int) (from, to int) {
	t := &b.Tables[table]
	if above > 0 {
		from = int(t.Ends[above-1])
	}
	return from, int(t.Ends[above])
}

// Cut takes away what was added since there were so many records, and rows in each table.
func (b *Batch) Cut(records int, rows []int) {
	b.Bounds, b.Spans = b.Bounds[:records], b.Spans[:records*b.Slots]
	for i := range b.Tables {
		t, above := &b.Tables[i], records
		if t.Above >= 0 {
			above = rows[t.Above]
		}
		t.At, t.Spans, t.Ends = t.At[:rows[i]], t.Spans[:rows[i]*t.Slots], t.Ends[:min(len(t.Ends), above)]
	}
}

// Reset makes a used batch empty and keeps its memory, unless large records or very many
// have made it unusually big.
func (b *Batch) Reset() {
	b.Buf, b.Plain = usual(b.Buf, 4*Size), nil
	b.Bounds, b.Messages, b.Spans = usual(b.Bounds, Size/8), usual(b.Messages, Size/8), usual(b.Spans, Size)
	b.Notes, b.Outcomes = usual(b.Notes, Size/32), usual(b.Outcomes, Size)
	b.N, b.Unusual, b.Lines, b.Lead = 0, false, 0, 0
	b.Bounds, b.Messages, b.Spans, b.Notes, b.Outcomes = b.Bounds[:0], b.Messages[:0], b.Spans[:0], b.Notes[:0], b.Outcomes[:0]
	for i := range b.Tables {
		t := &b.Tables[i]
		t.Spans, t.At, t.Ends = usual(t.Spans, Size), usual(t.At, Size), usual(t.Ends, Size)
	}
	b.Tables = b.Tables[:0]
	for i := range b.Branches {
		b.Branches[i].reset()
	}
	b.Open, b.Origins = b.Open[:0], usual(b.Origins, Size/8)[:0]
	b.counted = usual(b.counted, Size/stride)[:0]
	b.Marks.Trim(4 * Size)
	b.Ends.Trim(4 * Size)
}

// usual is a slice as it is, or none if it has grown beyond so many items.
func usual[T any](s []T, most int) []T {
	if cap(s) > most {
		return nil
	}
	return s
}

// Records is how many records the batch has.
func (b *Batch) Records() int { return len(b.Bounds) }

// Raw is a record as it stands in the text, with its line end.
func (b *Batch) Raw(record int) []byte { s := b.Bounds[record]; return b.Buf[s.Off:s.End] }

// Value is the text of a slot of a record, and false if it is absent.
func (b *Batch) Value(record, slot int) ([]byte, bool) {
	s := b.Spans[record*b.Slots+slot]
	if s.Absent() {
		return nil, false
	}
	return b.Buf[s.Off:s.End], true
}

// Twin is a slot that is to have what another has: two fields stand in one place.
type Twin struct{ Slot, As int }

// Give gives twins their spans.
func (b *Batch) Give(twins []Twin) { give(b.Spans, b.Slots, twins) }

// Give gives twins their spans.
func (t *Table) Give(twins []Twin) { give(t.Spans, t.Slots, twins) }

func give(spans []Span, slots int, twins []Twin) {
	for row := 0; row < len(spans) && len(twins) > 0; row += slots {
		for _, t := range twins {
			spans[row+t.Slot] = spans[row+t.As]
		}
	}
}

// One is a record alone, with its values and rows and without its text: it can be kept.
func (b *Batch) One(record int) *Batch {
	one := &Batch{File: b.FileOf(record), First: b.First + int64(record), Seq: b.Seq + int64(record), Slots: b.Slots, Bounds: []Span{{}}}
	buf := b.Buf
	if b.Plain != nil {
		buf = b.Plain
	}
	take := func(spans []Span) (out []Span) {
		for _, s := range spans {
			if !s.Absent() {
				off := uint32(len(one.Buf))
				one.Buf = append(one.Buf, buf[s.Off:s.End]...)
				s = Span{off, uint32(len(one.Buf))}
			}
			out = append(out, s)
		}
		return out
	}
	one.Spans = take(b.Spans[record*b.Slots : record*b.Slots+b.Slots])
	from, to := make([]int, len(b.Tables)), make([]int, len(b.Tables)) // rows of each table
	for i := range b.Tables {
		t := &b.Tables[i]
		own := Table{Slots: t.Slots, Above: t.Above}
		above, end := record, record+1
		if t.Above >= 0 {
			above, end = from[t.Above], to[t.Above]
		}
		if above < end {
			from[i], _ = b.Rows(i, above)
			_, to[i] = b.Rows(i, end-1)
		}
		for ; above < end; above++ {
			own.Ends = append(own.Ends, t.Ends[above]-uint32(from[i]))
		}
		own.Spans, own.At = take(t.Spans[from[i]*t.Slots:to[i]*t.Slots]), make([]uint32, to[i]-from[i])
		one.Tables = append(one.Tables, own)
	}
	return one
}

// Unnumbered is the place of an offset while a batch is split: its records have no numbers before it has its turn.
func (b *Batch) Unnumbered(record int, offset uint32) place.Place {
	p := b.Place(record, offset)
	p.Record = 0
	return p
}

// Place resolves an offset in the text to its place in the file. Lines are
// counted once, however often and in whatever order places are asked for.
func (b *Batch) Place(record int, offset uint32) place.Place {
	offset = min(offset, uint32(b.N))
	if len(b.Origins) > 0 {
		return b.origin(record, offset)
	}
	if len(b.counted) == 0 {
		b.counted = append(b.counted, mark{lead: b.Lead})
	}
	last := b.counted[len(b.counted)-1]
	for last.off+stride <= int(offset) {
		next := last.off + stride
		for k := 0; k < utf8.UTFMax-1 && !utf8.RuneStart(b.Buf[next]); k++ {
			next--
		}
		if b.Buf[next] == '\n' && b.Buf[next-1] == '\r' {
			next--
		}
		lines, lead := advance(b.Buf[last.off:next], last.lead)
		last = mark{next, last.lines + lines, lead}
		b.counted = append(b.counted, last)
	}
	i, found := slices.BinarySearchFunc(b.counted, int(offset), func(m mark, off int) int { return cmp.Compare(m.off, off) })
	if !found {
		i--
	}
	lines, lead := advance(b.Buf[b.counted[i].off:offset], b.counted[i].lead)
	return place.Place{Record: b.First + int64(record), Offset: b.Base + int64(offset), Line: b.Line + b.counted[i].lines + lines, Column: lead + 1}
}

// FileOf is the file that a record is of, or begins in, of those of the run, from 0.
func (b *Batch) FileOf(record int) int {
	if len(b.Origins) == 0 {
		return b.File
	}
	return b.from(b.Bounds[record].Off).File
}

// FileAt is the file that an offset is of, of those of the run, from 0.
func (b *Batch) FileAt(offset uint32) int {
	if len(b.Origins) == 0 {
		return b.File
	}
	return b.from(offset).File
}

// from is the origin of the text that an offset is in.
func (b *Batch) from(offset uint32) *Origin {
	i, found := slices.BinarySearchFunc(b.Origins, offset, func(o Origin, off uint32) int { return cmp.Compare(o.Off, off) })
	if !found {
		i = max(0, i-1)
	}
	return &b.Origins[i]
}

// origin is the place of an offset where records stand in another order than in the file.
func (b *Batch) origin(record int, offset uint32) place.Place {
	o := b.from(offset)
	if o.Own.Len() > 0 {
		at := min(max(offset, o.Own.Off), o.Own.End) - o.Own.Off
		line, _ := slices.BinarySearch(o.Ends, at)
		from, lead := uint32(0), o.Column-1
		if line > 0 {
			from, lead = o.Ends[line-1]+1, 0
		}
		text := b.Buf[o.Own.Off:][from:at]
		return place.Place{Record: b.First + int64(record), Offset: o.At + int64(at), Line: o.Line + int64(line), Column: lead + int64(utf8.RuneCount(text)) + 1}
	}
	if o.Recast {
		offset = o.Off
	}
	lines, lead := advance(b.Buf[o.Off:max(o.Off, offset)], 0)
	return place.Place{Record: b.First + int64(record), Offset: o.At + int64(offset) - int64(o.Off), Line: o.Line + lines, Column: lead + 1}
}

// advance counts the line ends of a text, and the characters that stand before its end in
// its last line, of which so many stand before the text.
func advance(text []byte, lead int64) (lines, after int64) {
	if lines = place.CountLines(text); lines == 0 {
		return 0, lead + int64(utf8.RuneCount(text))
	}
	if i := bytes.LastIndexAny(text, "\r\n"); i >= 0 {
		lead, text = 0, text[i+1:]
	}
	return lines, lead + int64(utf8.RuneCount(text))
}
