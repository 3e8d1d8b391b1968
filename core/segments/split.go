package segments

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"unicode/utf8"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/format"
	"ydrion/core/standard"
	"ydrion/core/text"
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
)

// changes are the characters that change between sets (ISO 2022): escape, shift out and in.
const changes = "\x1b\x0e\x0f"

// Split finds the wanted elements of each message, or of each unit in it.
func (r *Reader) Split(b *batch.Batch) {
	r.Lay(b)
	list, around := messages(b)
	w := newWalk(r, b)
	w.plainText = utf8.Valid(b.Buf[:b.N]) && (!r.declared || text.IsASCII(b.Buf[:b.N]) && !(w.s.Extends && bytes.ContainsAny(b.Buf[:b.N], changes)))
	if !w.plainText {
		for c := 0x80; c < 0x100; c++ {
			w.class[c] |= isHigh
		}
	}
	w.controls = text.Controlled(b.Buf[:b.N], w.s.plain())
	for _, a := range around {
		w.envelope(int(a.Off), int(a.End))
	}
	at := 0
	heads := b.Notes // by message
	if w.Unit >= 0 {
		b.Notes = nil
	}
	for i, m := range list {
		w.between(at, int(m.Off))
		w.message(int(m.Off), int(m.End))
		at = int(m.End)
		for ; w.Unit >= 0 && len(heads) > 0 && int(heads[0].Record) == i; heads = heads[1:] {
			w.whole(int(heads[0].Rule), int(heads[0].At), heads[0].Warn)
		}
	}
	b.Filled()
}

func newWalk(r *Reader, b *batch.Batch) *walk {
	w := &walk{Reader: r, b: b, s: r.syntax(b.Base)}
	w.class[w.s.Element], w.class[w.s.Terminator], w.class[w.s.Component] = isElement, isElement, isComponent
	if w.s.Repetition != 0 {
		w.class[w.s.Repetition] = isRepetition
	}
	if w.s.Release != 0 {
		w.class[w.s.Release] = isRelease
	}
	w.Course = NewCourse(r.Wanted, r.Habits(), b, w)
	w.outside = make([]batch.Span, r.Slots)
	for i := range w.outside {
		w.outside[i] = batch.Missing
	}
	return w
}

// Habits are those of the standard's messages.
func (r *Rules) Habits() Habits {
	return Habits{Note: r.Note, Nested: r.Nested, Last: r.Last}
}

// class says what a character is.
type class uint8

const (
	plain     class = 0
	isElement class = 1 << iota
	isRepetition
	isComponent
	isRelease
	isHigh // beyond ASCII, where that must be looked at
)

// walk goes through the messages of a batch.
type walk struct {
	*Reader
	Course
	b         *batch.Batch
	s         Syntax
	class     [256]class
	plainText bool   // the text is UTF-8, and declared so
	controls  bool   // there may be control characters in it
	segment   []byte // at which it is
	begins    int
	named     int          // so many bytes of it are its name, with what follows that
	row       []batch.Span // that it fills

	lines [][]byte            // the envelopes' segments
	kind  []byte              // the head for which a structure was found last
	found *standard.Structure // nil: not known
}

func (w *walk) note(rule, slot, at int, warn bool) {
	w.b.Notes = append(w.b.Notes, batch.Note{Record: int32(w.Record), Slot: int32(slot), Rule: int32(rule), Source: batch.Syntax, At: uint32(at), Warn: warn})
}

// envelope takes what is wanted of an envelope's segment.
func (w *walk) envelope(p, stop int) {
	segment := w.b.Buf[p:stop]
	level := w.level(w.b.Buf[p:stop+1], &w.s)
	if level < 0 || level >= len(w.Levels) {
		return
	}
	w.lines = append(w.lines[:min(level, len(w.lines))], segment)
	w.kind = nil
	w.row = w.outside
	for i := range w.Parts {
		if k := &w.Parts[i]; k.table < 0 && k.Name == w.Levels[level].Open {
			for n := range k.Wants {
				w.row[k.Wants[n].Slot] = batch.Missing
			}
			w.take(k.Wants, p+len(k.Name)+1, stop, 1)
		}
	}
}

// between goes through the envelopes before a message.
func (w *walk) between(p, end int) {
	for {
		p = skipLines(w.b.Buf[:end], p)
		if p >= end {
			return
		}
		if n := w.adviceSize(&w.s, w.b.Buf[p:end]); n > 0 {
			p += n
			continue
		}
		stop := w.segmentEnd(&w.s, w.b.Buf[:end], p)
		w.envelope(p, stop)
		p = stop + 1
	}
}

// message walks through the segments of a message.
func (w *walk) message(start, end int) {
	buf := w.b.Buf
	units, record := len(w.b.Bounds), len(w.b.Bounds)
	if w.Unit < 0 {
		record, _ = slices.BinarySearchFunc(w.b.Bounds, uint32(start), func(s batch.Span, off uint32) int { return cmp.Compare(s.Off, off) })
	}
	var structure *standard.Structure
	if w.Placed() {
		structure = w.structureOf(buf[start:end])
	}
	w.Begin(record, structure)
	count, last := 0, start
	trouble, lost, strange := -1, -1, -1
	for p := start; ; {
		if p = skipLines(buf[:end], p); p >= end {
			break
		}
		stop := w.segmentEnd(&w.s, buf[:end], p)
		count++
		last = p
		n, key := w.name(p, stop)
		name := buf[p : p+n]
		if key == 0 {
			w.note(ruleSegment, -1, p, false)
			p = stop + 1
			continue
		}
		if w.controls && w.Binary[string(name)] == 0 {
			w.control(p, stop, &lost, &strange)
		}
		w.segment, w.named, w.begins = buf[p:stop], n+1, p
		w.Segment(name, key)
		for i := w.First(key); i >= 0; i = w.Next(i, key) {
			row, occurrence, more := w.Into(i, p, min(stop+1, w.b.N))
			if more {
				w.note(ruleMore, w.MostOf(i), p, true)
			}
			w.row = row
			w.take(w.Parts[i].Wants, p+n+1, stop, occurrence)
		}
		p = stop + 1
	}
	w.ends(start, last, end, count)
	if w.Unit >= 0 && len(w.b.Bounds) == units {
		w.Open(start, end)
		w.note(ruleNoUnit, -1, start, false)
	}
	if lost >= 0 {
		w.within(record, ruleControl, lost, false)
	}
	if strange >= 0 {
		w.within(record, ruleControlled, strange, true)
	}
	if !w.plainText {
		trouble = w.characters(start, end)
	}
	if trouble < 0 {
		return
	}
	if w.Unit < 0 {
		w.note(trouble>>32, -1, trouble&0xffffffff, false)
		return
	}
	for w.Record = units; w.Record < len(w.b.Bounds); w.Record++ {
		w.note(trouble>>32, -1, trouble&0xffffffff, false)
	}
}

// control finds the first byte of a segment that stands for a lost character (NUL, SUB), and the
// first other control character.
func (w *walk) control(p, stop int, lost, strange *int) {
	plain := w.s.plain()
	for ; p < stop; p++ {
		switch c := w.b.Buf[p]; {
		case plain[c]:
		case (c == 0 || c == 0x1a) && *lost < 0:
			*lost = p
		case *strange < 0 && c != 0 && c != 0x1a:
			*strange = p
		}
	}
}

// plain are the bytes that have their place in an interchange.
func (s *Syntax) plain() *[256]bool {
	if p, ok := plains.Load(*s); ok {
		return p.(*[256]bool)
	}
	p := &[256]bool{}
	for c := range p {
		p[c] = c >= ' ' && c != 0x7f || c == '\r' || c == '\n' || c == '\t' || c != 0 && s.special(byte(c)) || s.Extends && strings.IndexByte(changes, byte(c)) >= 0
	}
	plains.Store(*s, p)
	return p
}

// plains are the plain bytes of the syntaxes that have come.
var plains sync.Map

// within notes something about the unit, of those from the first on, in which an offset lies; about
// all of them if it lies in none.
func (w *walk) within(first, rule, at int, warn bool) {
	if w.Unit < 0 {
		w.note(rule, -1, at, warn)
		return
	}
	record, all := w.Record, true
	for i := len(w.b.Bounds) - 1; i >= first && all; i-- {
		if int(w.b.Bounds[i].Off) <= at && at < int(w.b.Bounds[i].End) {
			w.Record, all = i, false
			w.note(rule, -1, at, warn)
		}
	}
	for i := first; all && i < len(w.b.Bounds); i++ {
		w.Record = i
		w.note(rule, -1, at, warn)
	}
	w.Record = record
}

// name reads the name of a segment, of which it gives the length and the key; 0: it has none.
func (w *walk) name(p, stop int) (n int, key uint32) {
	for ; n < 4 && p+n < stop && w.class[w.b.Buf[p+n]] == plain; n++ {
		key = key<<8 | uint32(w.b.Buf[p+n])
	}
	if n < 2 || n > 3 || !upper(w.b.Buf[p:p+n]) {
		return n, 0
	}
	return n, key
}

// ends holds what the tail says against the message. What is wrong with a message is wrong with
// each of its units.
func (w *walk) ends(start, last, end, count int) {
	tail := w.b.Buf[last:end]
	if i := len(w.Tail); len(tail) <= i || string(tail[:i]) != w.Tail || tail[i] != w.s.Element {
		w.whole(ruleTail, last, false)
		return
	}
	tail = tail[:w.s.end(tail, 0)]
	if n, err := strconv.Atoi(string(bytes.TrimSpace(w.s.field(tail, 1)))); err != nil || n != count {
		from, has := len(w.b.Notes), strconv.Itoa(count)
		w.whole(ruleCount, last, false)
		for i := range w.b.Notes[from:] {
			w.b.Notes[from+i].Text = has
		}
	}
	head := w.b.Buf[start:end]
	head = head[:w.s.end(head, 0)]
	if !bytes.Equal(w.s.field(head, w.HeadNumber), w.s.field(tail, 2)) {
		w.whole(ruleNumber, last, false)
	}
}

// whole notes something for the message, or for each of its units.
func (w *walk) whole(rule, at int, warn bool) {
	if w.Unit < 0 {
		w.note(rule, -1, at, warn)
		return
	}
	record := w.Record
	from := len(w.b.Bounds)
	for from > 0 && w.b.Bounds[from-1].Off >= w.b.Messages[w.wholeOf(at)].Off {
		from--
	}
	for w.Record = from; w.Record < len(w.b.Bounds); w.Record++ {
		w.note(rule, -1, at, warn)
	}
	w.Record = record
}

// wholeOf is the message that holds an offset.
func (r *Reader) wholeIn(b *batch.Batch, at uint32) int {
	i, _ := slices.BinarySearchFunc(b.Messages, at, func(s batch.Span, off uint32) int { return cmp.Compare(s.End, off+1) })
	return i
}

func (w *walk) wholeOf(at int) int { return w.wholeIn(w.b, uint32(at)) }

// Is tells whether the first component of an element of the segment at hand has a value.
func (w *walk) Is(element int, is string) bool {
	value := w.segment[min(w.named, len(w.segment)):]
	if element > 1 {
		value = w.s.field(w.segment, element)
	}
	return bytes.HasPrefix(value, []byte(is)) && (len(value) == len(is) || w.class[value[len(is)]]&(isElement|isComponent|isRepetition) != 0)
}

// Begins is where the segment at hand begins.
func (w *walk) Begins() int { return w.begins }

// Component is the text of a component of an element of the segment at hand.
func (w *walk) Component(element, n int) []byte {
	at := w.named // where an element begins
	end := func() (i int) {
		for i = at; i < len(w.segment) && w.class[w.segment[i]]&isElement == 0; i++ {
			if w.class[w.segment[i]]&isRelease != 0 {
				i++
			}
		}
		return min(i, len(w.segment))
	}
	for ; element > 1; element-- {
		at = end() + 1
	}
	if at >= len(w.segment) {
		return nil
	}
	text := w.segment[at:end()]
	for ; n > 1; n-- {
		text = text[min(w.s.next(text, 0, w.s.Component)+1, len(text)):]
	}
	return component(&w.s, text)
}

// structureOf finds the structure of a message; nil if it is not known.
func (w *walk) structureOf(message []byte) *standard.Structure {
	head := message[:w.s.end(message, 0)]
	kind := head[len(w.Head):]
	if w.HeadNumber == 1 { // the number differs from message to message
		kind = kind[min(len(kind), 1+len(w.s.field(head, 1))):]
	} else if i := bytes.IndexByte(kind[min(1, len(kind)):], w.s.Element); i >= 0 {
		kind = kind[:i+1]
	}
	if w.kind == nil || !bytes.Equal(kind, w.kind) {
		_, w.found = w.describe(format.AsRead, w.lines, head, w.s)
		w.kind = kind
	}
	return w.found
}

// component is the first component of an element.
func component(s *Syntax, element []byte) []byte { return element[:s.next(element, 0, s.Component)] }

// take fills the slots of one segment, whose first element begins at p.
func (w *walk) take(wants []Want, p, stop, occurrence int) {
	buf := w.b.Buf
	for field := 1; len(wants) > 0 && p <= stop; field++ {
		from, structured := p, false
		for p < stop {
			c := w.class[buf[p]]
			if c == plain {
				p++
				continue
			}
			if c&isElement != 0 {
				break
			}
			structured = true
			if c&isRelease != 0 && p+1 < stop {
				p++
			}
			p++
		}
		for len(wants) > 0 && wants[0].Field == field {
			n := &wants[0]
			wants = wants[1:]
			switch {
			case n.Occurrence != occurrence || from == p:
			case n.Rows >= 0:
				w.repetitions(n, from, p)
				buf = w.b.Buf
			case structured:
				w.inner(n, from, p)
				buf = w.b.Buf
			case n.First:
				w.row[n.Slot] = batch.Span{Off: uint32(from), End: uint32(p)}
			}
			if n.Number && w.s.Decimal == ',' && n.Occurrence == occurrence {
				w.pointed(n.Slot)
				buf = w.b.Buf
			}
		}
		p++
	}
}

// repetitions makes rows of those of an element.
func (w *walk) repetitions(n *Want, from, end int) {
	above := w.row
	for at := from; at <= end; {
		stop := at
		for stop < end && w.class[w.b.Buf[stop]]&isRepetition == 0 {
			if w.class[w.b.Buf[stop]]&isRelease != 0 && stop+1 < end {
				stop++
			}
			stop++
		}
		w.row = w.b.Row(n.Rows, uint32(at))
		for i := range n.Wants {
			if in := &n.Wants[i]; at < stop {
				w.inner(in, at, stop)
				if in.Number && w.s.Decimal == ',' {
					w.pointed(in.Slot)
				}
			}
		}
		at = stop + 1
	}
	w.row = above
}

// pointed writes a number with a point, in an interchange whose decimal mark is a comma (ISO 9735-1,
// 8.2).
func (w *walk) pointed(slot int) {
	span := w.row[slot]
	if span.Absent() || bytes.IndexByte(w.b.Buf[span.Off:span.End], ',') < 0 {
		return
	}
	from := span.Off
	if int(span.Off) >= w.b.N { // it was written anew already
		from = binary.LittleEndian.Uint32(w.b.Buf[span.Off-4:])
	}
	w.b.Buf = binary.LittleEndian.AppendUint32(w.b.Buf, from)
	off := len(w.b.Buf)
	w.b.Buf = append(w.b.Buf, w.b.Buf[span.Off:span.End]...)
	at := off + bytes.IndexByte(w.b.Buf[off:], ',')
	w.b.Buf[at] = '.'
	w.row[slot] = batch.Span{Off: uint32(off), End: uint32(len(w.b.Buf))}
}

// inner takes a component of a repetition, undone of releases and of its character set.
func (w *walk) inner(n *Want, from, end int) {
	buf := w.b.Buf
	repetition, component, written := n.Repetition-1, n.Component-1, false
	at := from
loop:
	for ; at < end; at++ {
		switch c := w.class[buf[at]]; {
		case c == plain:
		case c&isRelease != 0:
			written = true
			at++
		case c&isHigh != 0 && c&^isHigh == 0:
			written = true
		case repetition == 0 && component == 0:
			break loop
		case c&isRepetition != 0:
			if repetition == 0 {
				return
			}
			repetition--
			from, written = at+1, false
		case c&isComponent != 0 && repetition == 0:
			component--
			from, written = at+1, false
		}
	}
	at = min(at, end)
	switch {
	case repetition != 0 || component != 0 || from >= at:
	case written:
		value := buf[from:at]
		if w.declared && w.s.Set != "" && w.s.Set != text.UTF8 && !text.IsASCII(value) {
			decoded, err := text.DecodeAll(value, w.s.Set)
			if err != nil {
				w.note(ruleUndecoded, n.Slot, from, false)
				return
			}
			value = decoded
		}
		w.b.Buf = binary.LittleEndian.AppendUint32(w.b.Buf, uint32(from))
		off := len(w.b.Buf)
		w.b.Buf = w.s.AppendPlain(w.b.Buf, value)
		w.row[n.Slot] = batch.Span{Off: uint32(off), End: uint32(len(w.b.Buf))}
	default:
		w.row[n.Slot] = batch.Span{Off: uint32(from), End: uint32(at)}
	}
}

// characters says what is wrong with the bytes beyond ASCII of a message: a rule and an offset,
// -1 if nothing is.
func (w *walk) characters(start, end int) int {
	text1 := w.b.Buf[start:end]
	if w.declared && w.s.Extends {
		if i := bytes.IndexAny(text1, changes); i >= 0 {
			return ruleExtended<<32 | (start + i)
		}
	}
	if text.IsASCII(text1) {
		return -1
	}
	switch {
	case w.declared && w.s.Set == "":
		for i, c := range text1 {
			if c >= utf8.RuneSelf {
				return ruleUndeclared<<32 | (start + i)
			}
		}
	case !w.declared || w.s.Set == text.UTF8:
		if i := text.FirstInvalid(text1); i >= 0 {
			return ruleUndecoded<<32 | (start + i)
		}
		if i := bytes.Index(text1, []byte(string(utf8.RuneError))); i >= 0 {
			return ruleUndecoded<<32 | (start + i)
		}
	}
	return -1
}

// Locate gives where a value stands in the text: its first byte, or the record's if it is absent
// or stands in an envelope before the batch.
func (r *Reader) Locate(b *batch.Batch, record, slot int) (uint32, string) {
	s := b.Spans[record*b.Slots+slot]
	at := s.Off
	_, around := messages(b)
	if !s.Absent() && int(at) >= b.N && !slices.ContainsFunc(around, func(a batch.Span) bool { return at >= a.Off && at < a.End }) {
		at = binary.LittleEndian.Uint32(b.Buf[at-4:])
	}
	if s.Absent() || int(at) >= b.N {
		at = b.Bounds[record].Off
	}
	return at, r.Fields[slot]
}

// opened are the envelopes' segments that are open before an offset of a batch.
func (r *Reader) opened(b *batch.Batch, offset int) (lines [][]byte) {
	r.eachOpened(b, offset, func(_ int, open []batch.Opened) {
		lines = lines[:0]
		for _, o := range open {
			lines = append(lines, o.Text)
		}
	})
	return lines
}

// eachOpened tells of each message of a batch, and at last of an offset behind some, which envelopes' segments
// are open before it.
func (r *Reader) eachOpened(b *batch.Batch, offset int, say func(message int, open []batch.Opened)) {
	list, _ := messages(b)
	s, open := r.syntax(b.Base), slices.Clone(b.Open)
	at := 0
	for i := 0; ; i++ {
		end := offset
		if i < len(list) {
			end = min(offset, int(list[i].Off))
		}
		for p := skipLines(b.Buf[:end], at); p < end; p = skipLines(b.Buf[:end], p) {
			if n := r.adviceSize(&s, b.Buf[p:end]); n > 0 {
				p += n
				continue
			}
			stop := r.segmentEnd(&s, b.Buf[:end], p)
			if level := r.level(b.Buf[p:stop+1], &s); level >= 0 && level < len(r.Levels) {
				open = append(open[:min(level, len(open))], batch.Opened{Text: b.Buf[p:stop], At: b.Base + int64(p)})
			}
			p = stop + 1
		}
		if say(i, open); i >= len(list) || int(list[i].Off) >= offset {
			return
		}
		at = int(list[i].End)
	}
}

// Preface is what has opened the envelopes around a record.
func (r *Reader) Preface(b *batch.Batch, record int) []byte {
	s := r.syntax(b.Base)
	out := r.advice(&s)
	for _, segment := range r.opened(b, int(b.Bounds[record].Off)) {
		out = append(append(out, segment...), s.Terminator)
	}
	return out
}

// adviceSize is how many bytes of a text are the service string advice that it begins with; 0: it does
// not, as where a segment is called so in an interchange without one.
func (r *Reader) adviceSize(s *Syntax, b []byte) int {
	if r.Head != "UNH" || !bytes.HasPrefix(b, []byte("UNA")) {
		return 0
	}
	return min(s.Size, len(b))
}

// advice is the service string advice that an interchange with other than the usual characters
// begins with (ISO 9735-1, 8).
func (r *Reader) advice(s *Syntax) []byte {
	if s.Size == 0 || r.Head != "UNH" {
		return nil
	}
	or := func(c byte) byte {
		if c == 0 {
			return ' '
		}
		return c
	}
	return []byte{'U', 'N', 'A', s.Component, s.Element, or(s.Decimal), or(s.Release), or(s.Repetition), s.Terminator}
}

// Raw is a record as an interchange of its own: with its envelopes, and of a message with
// several units those segments that are of no other.
func (r *Reader) Raw(b *batch.Batch, record int) []byte {
	s := r.syntax(b.Base)
	unit := b.Bounds[record]
	m := b.Messages[r.wholeIn(b, unit.Off)]
	out := r.Preface(b, record)
	line := s.line(b.Buf[m.Off:b.N])
	out = bytes.ReplaceAll(out, []byte{s.Terminator}, line)
	if a := r.advice(&s); a != nil {
		out = append(a, out[len(a)-1+len(line):]...)
		out = append(a[:len(a):len(a)], append(line[1:len(line):len(line)], out[len(a):]...)...)
	}
	opened := r.opened(b, int(m.Off))
	if r.Unit < 0 || unit == m {
		out = append(out, b.Buf[m.Off:m.End]...)
		if out[len(out)-1] != s.Terminator {
			out = append(out, s.Terminator)
		}
		out = append(out, line[1:]...)
	} else {
		out = append(out, r.alone(b, &s, m, unit, line)...)
	}
	for i := len(opened) - 1; i >= 0; i-- {
		out = append(out, r.Levels[i].Close...)
		out = append(append(append(out, s.Element, '1', s.Element), s.field(opened[i], r.Levels[i].Number)...), line...)
	}
	return out
}

// line is what ends a segment: they stand in lines of their own, or not.
func (s *Syntax) line(text []byte) []byte {
	line := []byte{s.Terminator}
	if i := s.end(text, 0); i+1 < len(text) && (text[i+1] == '\n' || text[i+1] == '\r') {
		line = append(line, text[i+1:skipLines(text, i+1)]...)
	}
	return line
}

var _ format.Enveloped = (*Reader)(nil)

// Envelopes tells what stands around each message of a batch, the outermost first.
func (r *Reader) Envelopes(b *batch.Batch, say func(record int, around []format.Envelope, end []byte)) {
	s := r.syntax(b.Base)
	list, _ := messages(b)
	if len(list) == 0 || r.Unit >= 0 {
		return
	}
	line := s.line(b.Buf[list[0].Off:b.N])
	r.eachOpened(b, b.N, func(message int, open []batch.Opened) {
		if message >= len(list) {
			return
		}
		around := make([]format.Envelope, len(open))
		for i, opened := range open {
			e, segment := &around[i], opened.Text
			e.At = opened.At
			if i == 0 {
				if e.Opens = r.advice(&s); e.Opens != nil {
					e.Opens = append(e.Opens, line[1:]...)
				}
			}
			e.Opens = append(append(e.Opens, segment...), line...)
			e.Closes = append([]byte(r.Levels[i].Close), s.Element)
			e.Number = append(append([]byte{s.Element}, s.field(segment, r.Levels[i].Number)...), line...)
		}
		say(message, around, line[1:])
	})
}

// alone is a message with one unit, what belongs to it and what it stands under, with its segments counted
// anew.
func (r *Reader) alone(b *batch.Batch, s *Syntax, m, unit batch.Span, line []byte) (out []byte) {
	if of := b.Base + int64(m.Off); r.kin == nil || r.kinOf != of || r.kinEnd != of+int64(m.Len()) {
		r.kin, r.kinTail = r.kindred(b, s, m)
		r.kinOf, r.kinEnd = of, of+int64(m.Len())
	}
	this := r.kin.At(unit.Off)
	if this < 0 {
		return append(out, b.Buf[m.Off:m.End]...)
	}
	count := 0
	r.kin.Of(this, func(p batch.Span) {
		count++
		out = append(append(out, b.Buf[p.Off:p.End]...), line...)
	})
	if tail := b.Buf[r.kinTail.Off:r.kinTail.End]; len(tail) > 0 {
		out = append(append(out, r.Tail...), s.Element)
		out = append(strconv.AppendInt(out, int64(count+1), 10), s.Element)
		out = append(append(out, s.field(tail, 2)...), line...)
	}
	return out
}

// kindred walks through a message and finds which segments belong to its units. The tail is none
// of them.
func (r *Reader) kindred(b *batch.Batch, s *Syntax, m batch.Span) (*Kin, batch.Span) {
	w := newWalk(r, b)
	w.lines = r.opened(b, int(m.Off))
	kin := w.Kindred(w.structureOf(b.Buf[m.Off:m.End]))
	var tail batch.Span
	for p := skipLines(b.Buf[:m.End], int(m.Off)); p < int(m.End); p = skipLines(b.Buf[:m.End], p) {
		stop := r.segmentEnd(s, b.Buf[:m.End], p)
		w.segment = b.Buf[p:stop]
		name := w.segment[:s.next(w.segment, 0, s.Element)]
		if w.named = len(name) + 1; string(name) == r.Tail {
			tail = batch.Span{Off: uint32(p), End: uint32(stop)}
		} else {
			w.Keep(name, key(name), p, stop)
		}
		p = stop + 1
	}
	return kin, tail
}

// Divide tells which stretches of a message belong to one unit alone: its segment, and what stands
// in its group.
func (r *Reader) Divide(b *batch.Batch, whole int, say func(from, to, n int)) {
	if r.Unit < 0 {
		return
	}
	s := r.syntax(b.Base)
	kin, _ := r.kindred(b, &s, b.Messages[whole])
	for n := range kin.Units() {
		kin.Stretches(n, func(p batch.Span) { say(int(p.Off), int(p.End), n) })
	}
}

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
		return seen(finding.New(r.Name+".segment", at, "this is not a segment: a name of two or three capital letters and digits must begin it"))
	case ruleTail:
		return seen(finding.New(r.Name+".unfinished", at, "the message ends without %s: it may not be whole", r.Tail)).Suggest("ask for the file again")
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

// Survey calls f for the values of a message. Repeated segments and elements are not told apart.
func (r *Reader) Survey(raw []byte, f func(path, value []byte)) {
	s := r.current()
	path, scratch := make([]byte, 0, 32), make([]byte, 0, 256)
	for p := skipLines(raw, 0); p < len(raw); p = skipLines(raw, p) {
		stop := r.segmentEnd(&s, raw, p)
		segment := raw[p:stop]
		p = stop + 1
		n := s.next(segment, 0, s.Element)
		if n < 2 || n > 3 {
			continue
		}
		name := append(append(path[:0], segment[:n]...), '-')
		for at, number := n+1, 1; at <= len(segment); number++ {
			end := s.next(segment, at, s.Element)
			element := segment[at:end]
			at = end + 1
			if len(element) == 0 {
				continue
			}
			numbered := strconv.AppendInt(name, int64(number), 10)
			for len(element) > 0 {
				repetition := element
				element = nil
				if s.Repetition != 0 {
					i := s.next(repetition, 0, s.Repetition)
					element = repetition[min(i+1, len(repetition)):]
					repetition = repetition[:i]
				}
				several := s.next(repetition, 0, s.Component) < len(repetition)
				for c := 1; len(repetition) > 0; c++ {
					i := s.next(repetition, 0, s.Component)
					value := repetition[:i]
					repetition = repetition[min(i+1, len(repetition)):]
					if len(value) == 0 {
						continue
					}
					if s.Release != 0 && bytes.IndexByte(value, s.Release) >= 0 {
						scratch = s.AppendPlain(scratch[:0], value)
						value = scratch
					}
					if several {
						f(strconv.AppendInt(append(numbered, '.'), int64(c), 10), value)
					} else {
						f(numbered, value)
					}
				}
			}
		}
	}
}

// current is the syntax that was met last.
func (r *Reader) current() Syntax {
	all := *r.syntaxes.Load()
	return all[len(all)-1].Syntax
}

var _ format.Validator = (*Reader)(nil)

// Outline gives the groups, segments, elements and components of a message.
func (r *Reader) Outline(raw []byte) []format.Node {
	if s := r.current(); r.tooMany(&s, raw) {
		return format.Whole(r.Head, raw)
	}
	return r.apart(raw).Outline()
}

// Validate tells where a message differs from the standard's description, if it has one.
func (r *Reader) Validate(raw []byte, say func(format.Difference)) {
	if s := r.current(); r.tooMany(&s, raw) {
		say(TooManyRemark(r.Head, max(0, bytes.Index(raw, []byte(r.Head)))))
		return
	}
	k := slabs.Get().(*slab)
	defer k.done()
	m := r.apartWithin(k, format.AsRead, r.current(), nil, raw)
	if s := r.current(); s.Narrow && r.Declares {
		m.narrow(say)
	}
	if m.Structure != nil {
		if len(r.own) == 1 && !m.Book.Closed {
			head := max(0, slices.IndexFunc(m.Segments, func(s Segment) bool { return s.Name == r.Head }))
			say(format.Difference{Code: format.Undescribed, Path: r.Head, At: m.Segments[head].From, Text: "the description that was given has nothing on " + m.Structure.Name + " of " + m.Book.Version + "; the standard's is taken"})
		}
		m.Validate(say)
	}
}

// levelA tells whether a character is of level A.
func levelA(c rune) bool {
	return c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || strings.ContainsRune(" .,-()/='+:?!\"%&*;<>", c)
}

// ValidateAll tells where the messages of a batch differ from their descriptions.
func (r *Reader) ValidateAll(b *batch.Batch, by func(int) int, say func(int, format.Difference)) {
	k := slabs.Get().(*slab)
	defer k.done()
	list, around := messages(b)
	w := newWalk(r, b)
	for _, a := range around {
		w.envelope(int(a.Off), int(a.End))
	}
	at := 0
	for i, span := range list {
		w.between(at, int(span.Off))
		at = int(span.End)
		which := by(i)
		if which == format.ByNone {
			continue
		}
		text := b.Buf[span.Off:span.End]
		if r.tooMany(&w.s, text) {
			say(i, TooManyRemark(r.Head, int(span.Off)))
			continue
		}
		m := r.apartWithin(k, which, w.s, w.lines, text)
		if m.Structure == nil || which >= 0 && !m.Book.Closed {
			version, kind := r.Names(w.lines, text[:w.s.end(text, 0)], w.s)
			say(i, format.Difference{Code: format.Undescribed, Path: r.Head, At: int(span.Off), Text: fmt.Sprintf("the message is %s of %s, which nothing describes here", orNone(kind), orNone(version))})
			continue
		}
		m.Validate(func(d format.Difference) {
			d.At += int(span.Off)
			say(i, d)
		})
	}
}

// narrow tells where a message first has a character that is not of level A (ISO 9735, annex A):
// capital letters, digits, blanks and some signs.
func (m *Message) narrow(say func(format.Difference)) {
	var look func(s *Segment, v *Value, at where) bool
	look = func(s *Segment, v *Value, at where) bool {
		for c := range v.Parts {
			if look(s, &v.Parts[c], at.below(c+1)) {
				return true
			}
		}
		for _, c := range v.Text {
			if levelA(c) {
				continue
			}
			say(format.Difference{Code: "edifact.repertoire", At: v.From, Path: at.String(), Seen: v.Text, Text: fmt.Sprintf("%q is not among the characters of UNOA, which the interchange says it is in", c)})
			return true
		}
		return false
	}
	count := map[string]int{}
	for i := range m.Segments {
		s := &m.Segments[i]
		count[s.Name]++
		for f, field := range s.Fields {
			for r := range field {
				if !s.Outside && look(s, &field[r], where{segment: s.Name, occurrence: count[s.Name], field: f + 1, repetition: r + 1}) {
					return
				}
			}
		}
	}
}

// Dictionary gives the description that a message is checked against.
func (r *Reader) Dictionary(raw []byte) *standard.Dictionary { return r.apart(raw).Book }

// apart takes a message apart, with the envelopes that stand around it, as far as it is shown.
func (r *Reader) apart(raw []byte) *Message {
	return r.apartWithin(&slab{most: format.MostParts}, format.AsRead, r.current(), nil, raw)
}

// apartWithin is apart for text with these separators that stands within envelopes. The message is
// good until the slab is used again.
func (r *Reader) apartWithin(k *slab, by int, s Syntax, around [][]byte, raw []byte) *Message {
	if at := skipLines(raw, 0); at < len(raw) && r.opens(raw[at:]) {
		if own, problem := r.Begin(raw[at:]); problem == "" {
			s = own
		}
	}
	k.begin(s)
	m := &Message{Form: r.Form, Dates: r.Dates, Hierarchy: r.Hierarchy, Last: r.Last, Scratch: &k.Scratch}
	m.Closed = func(string, string) bool { return m.Book.Closed }
	around = slices.Clone(around)
	whole := string(raw)
	filled := 0
	for p := skipLines(raw, 0); p < len(raw) && (k.most == 0 || filled <= k.most); p = skipLines(raw, p) {
		if n := r.adviceSize(&s, raw[p:]); n > 0 {
			p += n
			continue
		}
		stop := r.segmentEnd(&s, raw, p)
		segment := r.takeApart(k, &s, raw, whole, p, stop)
		level := r.level(raw[p:], &s)
		segment.Outside = level >= 0
		if level >= 0 && level < len(r.Levels) {
			around = append(around[:min(level, len(around))], raw[p:stop])
		}
		if segment.Name == r.Head && m.Structure == nil && m.Book == nil {
			m.Book, m.Structure = r.describe(by, around, raw[p:stop], s)
		}
		if segment.Name != "" {
			k.segments = append(k.segments, segment)
		}
		if k.most > 0 {
			filled += segment.Filled()
		}
		p = stop + 1
	}
	m.Segments = k.segments
	return m
}

// slab is memory for segments, fields and values, of which pieces are taken.
type slab struct {
	Scratch
	segments []Segment
	fields   []Field
	values   []Value
	most     int // filled values are enough; 0: all are wanted
	of       Syntax
	class    [256]class // of the characters in that syntax
}

// slabs are used again by who is done with a message.
var slabs = sync.Pool{New: func() any { return &slab{} }}

// done lets the slab be used again, unless an uncommon message has made it large.
func (k *slab) done() {
	if cap(k.values) <= 1<<15 {
		slabs.Put(k)
	}
}

func (r *Reader) tooMany(s *Syntax, raw []byte) bool {
	return TooMany(raw, s.Element, s.Component, s.Repetition, s.Terminator)
}

func (k *slab) begin(s Syntax) {
	k.segments, k.fields, k.values = k.segments[:0], k.fields[:0], k.values[:0]
	if k.of == s {
		return
	}
	k.of, k.class = s, s.classify()
	for c := 0x80; c < 0x100; c++ {
		k.class[c] |= isHigh
	}
}

// cut gives what has been appended since a length, and never more of it.
func cut[T any](of []T, from int) []T { return of[from:len(of):len(of)] }

// takeApart takes a segment apart; whole is the same text as raw, of which values are pieces.
func (r *Reader) takeApart(k *slab, s *Syntax, raw []byte, whole string, p, stop int) Segment {
	out := Segment{From: p, To: stop}
	n := s.next(raw[p:stop], 0, s.Element)
	if n < 2 || n > 3 {
		return out
	}
	out.Name = whole[p : p+n]
	splits := isElement | isRepetition | isComponent
	switch {
	case r.Widths[out.Name] != nil:
		splits = isElement
	case out.Name == r.Levels[0].Open:
		splits &^= isRepetition
	}
	bytesIn := 0 // the element of bytes of a stated length
	if r.Binary != nil && r.binary(s, raw, p) > 0 {
		bytesIn, splits = r.Binary[out.Name]+1, isElement
	}
	firstField := len(k.fields)
	for at, element := p+n+1, 1; at <= stop; element++ {
		if element == bytesIn {
			splits = 0
		}
		var few [4]Value
		field := few[:0]
		firstPart, from, part, has := -1, at, at, plain // of the repetition, of its component, and what characters it has
		for i := at; ; i++ {
			c := isElement
			if i < stop {
				if c = k.class[raw[i]] & (splits | isRelease | isHigh); c == plain {
					continue
				}
				if c&(splits&(isElement|isRepetition|isComponent)) == 0 {
					if has |= c; c&isRelease != 0 {
						i = min(i+1, stop-1)
					}
					continue
				}
			}
			if c&isComponent != 0 || firstPart >= 0 {
				if firstPart < 0 {
					firstPart = len(k.values)
				}
				k.values = append(k.values, Value{From: part, To: i, Text: r.plain(s, whole[part:i], has)})
				part, has = i+1, plain
			}
			if c&isComponent != 0 {
				continue
			}
			v := Value{From: from, To: i}
			if firstPart >= 0 {
				v.Parts = cut(k.values, firstPart)
			} else {
				v.Text = r.plain(s, whole[from:i], has)
			}
			field = append(field, v)
			firstPart, from, part, has = -1, i+1, i+1, plain
			if c&isElement != 0 {
				at = i + 1
				break
			}
		}
		first := len(k.values)
		k.values = append(k.values, field...)
		k.fields = append(k.fields, cut(k.values, first))
	}
	out.Fields = cut(k.fields, firstField)
	return out
}

// plain is a value undone of release characters and of its character set, if it has such characters.
func (r *Reader) plain(s *Syntax, v string, has class) string {
	ascii := has&isHigh == 0 || !r.declared || s.Set == "" || s.Set == text.UTF8
	if ascii && has&isRelease == 0 {
		return v
	}
	b := []byte(v)
	if !ascii {
		if decoded, err := text.DecodeAll(b, s.Set); err == nil {
			b = decoded
		}
	}
	return string(s.AppendPlain(nil, b))
}
