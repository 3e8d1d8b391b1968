package hl7

import (
	"bytes"
	"slices"
	"strings"

	"ydrion/core/batch"
	"ydrion/core/format"
	"ydrion/core/marks"
	"ydrion/core/segments"
	"ydrion/core/standard"
	"ydrion/core/text"
)

// key is a segment's name as a number.
func key(name string) uint32 { return uint32(name[0])<<16 | uint32(name[1])<<8 | uint32(name[2]) }

func keyAt(b []byte, p int) uint32 {
	return uint32(b[p])<<16 | uint32(b[p+1])<<8 | uint32(b[p+2])
}

// Split finds the wanted fields of each message, or of each unit in it.
func (r *Reader) Split(b *batch.Batch) {
	r.Lay(b)
	messages := b.Bounds
	if r.Unit >= 0 {
		messages = b.Messages
	}
	controls := inMessages
	if r.blocks {
		controls = inBlocks
	}
	ascii, controlled := controls.In(b.Buf[:b.N])
	w := newWalk(r, b)
	w.odd, w.controls = !ascii || bytes.IndexByte(b.Buf[:b.N], escape) >= 0, controlled
	for i, m := range messages {
		w.message(i, int(m.Off), int(m.End))
	}
	w.End()
	b.Filled()
}

// habits are those of messages: a note belongs to what it follows, and to an observation belongs nothing
// else.
var habits = segments.Habits{Note: "NTE", Close: true, Bare: "OBX"}

func newWalk(r *Reader, b *batch.Batch) *walk {
	w := &walk{Reader: r, b: b, marks: &b.Marks}
	w.Course = segments.NewCourse(r.Wanted, habits, b, w)
	return w
}

// walk goes through one message after the other.
type walk struct {
	*Reader
	segments.Course
	b   *batch.Batch
	odd bool // there are bytes beyond ASCII
	// controls: there may be control characters.
	controls bool
	scan     []byte // the text, without what looks like a separator and is none
	mask     []byte
	sep      Separators
	said     [len("MSH|^~\\&|")]byte // by which they were said last; 0: nothing has
	charset  text.Charset            // of the message, where it is not UTF-8
	p, stop  int                     // the segment at which it is
	row      []batch.Span            // that it fills
	ends     []int                   // see fields
	faults   []segments.Fault        // of the message, whose units they are given to when all are known

	kind, version []byte              // of the message that a structure was looked for last
	found         *standard.Structure // nil: not known
	describes     *standard.Dictionary
	says          [2][]byte // the kind and the version of the message at hand
	elementary    segments.Elementary

	classes *classes    // of the message's characters
	known   [2]*classes // without and with what is beyond ASCII, of messages that separate
	classed [5]byte     // by these
	marks   *marks.Bits // of the text, of what has a class, up to an offset
	upTo    int
	// terminator is what ends segments, up to the same offset.
	terminator byte
}

func (w *walk) note(rule, slot, at int, warn bool) {
	w.b.Notes = append(w.b.Notes, batch.Note{Record: int32(w.Record), Slot: int32(slot), Rule: int32(rule), Source: batch.Syntax, At: uint32(at), Warn: warn})
}

// message walks through a message, and rejects all of it if it is a block that does not end or
// has something behind its end.
func (w *walk) message(i, start, end int) {
	first, stop := len(w.b.Bounds), end
	if w.blocks {
		if i := bytes.IndexByte(w.b.Buf[start:end], blockEnd); i >= 0 {
			stop = start + i
		}
	}
	w.segments(i, start, stop)
	if w.controls {
		w.control(first, start, stop)
	}
	if len(w.faults) > 0 {
		record := w.Record
		w.kindred(w.b, i).Blame(w.faults, len(w.b.Bounds)-first, func(unit int, f segments.Fault) {
			w.Record = first + unit
			w.note(f.Rule, f.Slot, f.At, false)
		})
		w.Record, w.faults = record, w.faults[:0]
	}
	if !w.blocks {
		return
	}
	if stop == end {
		w.all(first, ruleBlock, start, false)
	}
	for p := stop; p < end; p++ {
		if !between(w.b.Buf[p]) {
			w.all(first, ruleBehind, p, false)
			return
		}
	}
}

// wrong notes an error of the message at hand, or of those of its units that have it.
func (w *walk) wrong(rule, slot, at int) {
	if w.Unit >= 0 {
		w.faults = append(w.faults, segments.Fault{Rule: rule, Slot: slot, At: at})
		return
	}
	w.note(rule, slot, at, false)
}

// all notes something about a message: in each of its records, from the first on.
func (w *walk) all(first, rule, at int, warn bool) {
	if w.Unit < 0 {
		w.note(rule, -1, at, warn)
		return
	}
	for w.Record = first; w.Record < len(w.b.Bounds); w.Record++ {
		w.note(rule, -1, at, warn)
	}
}

// within notes something about the unit, of those from the first on, in which an offset lies; about all of them if it lies in none.
func (w *walk) within(first, rule, at int, warn bool) {
	if w.Unit >= 0 {
		i, within := slices.BinarySearchFunc(w.b.Bounds[first:], uint32(at), func(s batch.Span, at uint32) int {
			if s.End <= at {
				return -1
			} else if s.Off > at {
				return 1
			}
			return 0
		})
		if within {
			w.Record = first + i
			w.note(rule, -1, at, warn)
			return
		}
	}
	w.all(first, rule, at, warn)
}

// segments walks through the segments of a message.
func (w *walk) segments(record, start, end int) {
	buf := w.b.Buf
	units := len(w.b.Bounds)
	if w.Unit >= 0 {
		record = units
	}
	var problem string
	if said := buf[start:min(start+len(w.said), end)]; w.said[0] == 0 || !bytes.Equal(said, w.said[:]) {
		w.said[0] = 0
		if w.sep, problem = separators(buf[start:end]); problem == "" && w.sep.Truncation == 0 && said[len(said)-1] == w.sep.Field {
			copy(w.said[:], said)
		}
	}
	if problem != "" {
		w.Begin(record, nil)
		if w.Unit >= 0 {
			w.Open(start, end)
		}
		w.note(ruleSeparators, -1, start, false)
		return
	}
	terminator := terminatorOf(buf[start:end])
	trouble := w.character(start, end, terminator)
	w.classify(start, end, terminator)
	var structure *standard.Structure
	var goesOn bool
	if w.says[0], w.says[1], goesOn = w.head(start, end); w.Placed() {
		structure = w.structureOf(w.says[0], w.says[1])
	}
	w.Begin(record, structure)
	if w.sep.Set = w.charset; w.declared && w.charset == "" && bytes.IndexByte(buf[min(start+8, end):end], w.sep.Escape) >= 0 {
		line, _, _ := bytes.Cut(buf[start:end], []byte{terminator})
		w.sep.Set, _ = declaredCharset(line, w.sep)
	} else if !w.declared && w.Reader.charset != text.UTF8 {
		w.sep.Set = w.Reader.charset
	}
	w.sep.Marked = w.marked
	if len(w.Positions) == 0 { // somebody only looks
		w.escapes(start, end)
	}
	other := '\r' ^ '\n' ^ terminator // the other half of a line end
	mixed, swallowed, kept, fragment := false, -1, -1, -1
	if goesOn {
		fragment = start
	}
	taken := false // something of the segment that came last
	for at := start; !mixed; {
		i := bytes.IndexByte(buf[at:end], other)
		if i < 0 {
			break
		}
		at += i + 1
		mixed = at-1 == start || buf[at-2] != terminator
	}
	for p := start; p < end; {
		if between(buf[p]) {
			p++
			continue
		}
		stop := min(w.b.Ends.Next(p), end)
		next := stop + 1
		if mixed {
			stop = w.lineEnds(p, stop, other, &swallowed, &kept)
		}
		if !w.names(p, stop) {
			w.wrong(ruleSegment, -1, p)
			p = next
			continue
		}
		name := keyAt(buf, p)
		if name == fhs || name == bhs || name == bts || name == fts {
			w.all(units, ruleBatch, p, false)
			p = next
			continue
		}
		if name == add {
			w.continued(taken)
		}
		w.p, w.stop = p, stop
		if name == dsc && len(w.Component(1, 1)) > 0 && string(w.Component(2, 1)) != "I" { // that is the next answer to a query
			fragment = p
		}
		taken = false
		for i := range w.Segment(buf[p:p+3], name, p, stop) {
			part, row, occurrence, more := w.Take(i)
			if more && w.Alone(part) {
				w.firsts.Left(segments.Segments, part, w.b, w.Record, p)
			} else if more {
				w.note(ruleMore, w.MostOf(part), p, true)
			}
			w.row = row
			taken = taken || len(w.Parts[part].Wants) > 0
			w.take(part, name, occurrence)
		}
		buf = w.b.Buf
		p = next
	}
	if w.Unit >= 0 && len(w.b.Bounds) == units {
		w.Open(start, end)
		w.note(ruleNoUnit, -1, start, false)
	}
	if swallowed >= 0 {
		w.all(units, ruleSwallowed, swallowed, false)
	}
	if kept >= 0 {
		w.within(units, ruleBreak, kept, true)
	}
	if fragment >= 0 { // once for a message
		if w.Unit >= 0 {
			w.Record = units
		}
		w.note(ruleFragment, -1, fragment, true)
	}
	if w.charset != "" {
		w.misread.Message(w.b, w.Record, start, end, w.charset)
	}
	if trouble >= 0 {
		w.strangers(trouble>>32, start, end, terminator)
	}
}

// continued notes that the segment at hand goes on in another, which is behind it: what is taken of it is not whole. Where nothing is, somebody only
// looks or hands it on.
func (w *walk) continued(taken bool) {
	switch {
	case taken:
		w.wrong(ruleContinued, -1, w.p)
	case len(w.Positions) == 0 && w.Record < len(w.b.Bounds):
		w.note(ruleContinued, -1, w.p, true)
	}
}

// lineEnds gives the end of a segment without the other half of its line end, and notes where that character first stands within a segment of the
// message: before what looks like a segment, which is swallowed then, or as a part of a value.
func (w *walk) lineEnds(p, stop int, other byte, swallowed, kept *int) int {
	buf := w.b.Buf
	for stop > p && buf[stop-1] == other {
		stop--
	}
	for at := p; ; at++ {
		i := bytes.IndexByte(buf[at:stop], other)
		if i < 0 {
			return stop
		}
		at += i
		from := at + 1
		for from < stop && (buf[from] == ' ' || buf[from] == '\t') { // they may stand before a segment
			from++
		}
		switch {
		case from+3 < stop && nameAt(buf, from) && buf[from+3] == w.sep.Field:
			if *swallowed < 0 {
				*swallowed = from
			}
		case *kept < 0:
			*kept = at
		}
	}
}

// Is tells whether the first component of a field of the segment at hand has a value.
func (w *walk) Is(element int, is string) bool {
	from, end := w.element(element)
	for i, c := range w.scan[from:end] {
		if c == w.sep.Component || c == w.sep.Repetition || c == w.sep.Subcomponent {
			end = from + i
			break
		}
	}
	value := w.b.Buf[from:end]
	return w.sep.says(value, w.charset, is)
}

// Begins is where the segment at hand begins.
func (w *walk) Begins() int { return w.p }

// Component is the text of a component of the first repetition of a field of the segment at hand.
func (w *walk) Component(n, component int) []byte {
	from, end := w.element(n)
	repetition, _ := field(w.b.Buf[from:end], w.sep.Repetition, 1)
	value, _ := field(repetition, w.sep.Component, component)
	return value
}

// element is where the nth field of the segment at hand stands.
func (w *walk) element(n int) (from, end int) {
	for from = min(w.p+3+1, w.stop); ; from = end + 1 {
		if i := bytes.IndexByte(w.scan[from:w.stop], w.sep.Field); i >= 0 {
			end = from + i
		} else if end = w.stop; n > 1 {
			from = end
		}
		if n--; n <= 0 || end == w.stop {
			return from, end
		}
	}
}

// names tells whether a line is a segment: its name begins it, and a separator follows that.
func (w *walk) names(p, stop int) bool {
	return stop-p >= 3 && nameAt(w.b.Buf, p) && (stop-p == 3 || w.b.Buf[p+3] == w.sep.Field)
}

// nameAt tells whether a segment's name stands at p.
func nameAt(b []byte, p int) bool {
	upper := func(c byte) bool { return c >= 'A' && c <= 'Z' }
	return upper(b[p]) && (upper(b[p+1]) || b[p+1]-'0' <= 9) && (upper(b[p+2]) || b[p+2]-'0' <= 9)
}

var msh, fhs, bhs, bts, fts = key("MSH"), key("FHS"), key("BHS"), key("BTS"), key("FTS")

// add goes on with the segment before it, and dsc says that the message goes on in another (HL7 v2 chapter 2, 2.10.2).
var add, dsc = key("ADD"), key("DSC")

// head is what a message says of its kind and version (MSH-9 and MSH-12), and whether it goes on with another (MSH-14).
func (w *walk) head(start, end int) (kind, version []byte, goesOn bool) {
	w.p, w.stop = start, min(w.b.Ends.Next(start), end)
	ends := w.fields(14 - 1)
	field := func(n int) []byte { // the first behind the name is MSH-2
		if n -= 1; n < len(ends) {
			return w.scan[ends[n-1]>>1+1 : ends[n]>>1]
		}
		return nil
	}
	return field(9), field(12), len(field(14)) > 0
}

// book describes the segments of the message at hand; nil if nothing does.
func (w *walk) book() *standard.Dictionary {
	w.structureOf(w.says[0], w.says[1])
	return w.describes
}

// structureOf finds the structure of messages of a kind and version; nil if it is not known.
func (w *walk) structureOf(kind, version []byte) *standard.Structure {
	if w.kind != nil && bytes.Equal(kind, w.kind) && bytes.Equal(version, w.version) {
		return w.found
	}
	parts := append(strings.Split(string(kind), string(w.sep.Component)), "", "")
	of, _, _ := strings.Cut(string(version), string(w.sep.Component))
	w.kind, w.version = kind, version
	if w.describes, w.found = described(w.own, format.AsRead, of, parts[0], parts[1], parts[2]); w.describes == nil {
		w.found = structure(Versions.Version(nearest(of)), parts[0], parts[1], parts[2])
	}
	return w.found
}

// field gives the nth field of a text and what follows it.
func field(line []byte, separator byte, n int) (field, rest []byte) {
	for ; n > 1; n-- {
		i := bytes.IndexByte(line, separator)
		if i < 0 {
			return nil, nil
		}
		line = line[i+1:]
	}
	if i := bytes.IndexByte(line, separator); i >= 0 {
		return line[:i], line[i+1:]
	}
	return line, nil
}
