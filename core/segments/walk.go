package segments

import (
	"bytes"
	"cmp"
	"slices"
	"strconv"
	"unicode/utf8"

	"ydrion/core/batch"
	"ydrion/core/format"
	"ydrion/core/marks"
	"ydrion/core/standard"
	"ydrion/core/text"
)

// Split finds the wanted elements of each message, or of each unit in it.
func (r *Reader) Split(b *batch.Batch) {
	r.Lay(b)
	list, around := messages(b)
	w := newWalk(r, b)
	ascii, controls := w.s.sets().controls.In(b.Buf[:b.N])
	w.plainText = (ascii || !r.declared && utf8.Valid(b.Buf[:b.N])) && !(r.declared && w.s.Extends && bytes.ContainsAny(b.Buf[:b.N], changes))
	if !w.plainText {
		w.separators = w.s.sets().strange
		for c := 0x80; c < 0x100; c++ {
			w.class[c] |= isHigh
		}
	}
	w.marks.Mark(b.Buf, 0, b.N, w.separators)
	b.Ends.Mark(b.Buf, 0, b.N, w.s.sets().terminator)
	w.controls = controls
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
	w.Course.End()
	b.Filled()
}

func newWalk(r *Reader, b *batch.Batch) *walk {
	w := &walk{Reader: r, b: b, s: r.syntax(b.Base), opening: -1, marks: &b.Marks}
	w.separators = w.s.sets().separators
	w.class[w.s.Element], w.class[w.s.Terminator], w.class[w.s.Component] = isElement, isElement, isComponent
	if w.s.Repetition != 0 {
		w.class[w.s.Repetition] = isRepetition
	}
	if w.s.Release != 0 {
		w.class[w.s.Release] = isRelease
	}
	w.Course = NewCourse(r.Wanted, r.Habits(), b, w)
	w.watch = make([]watched, len(r.Positions))
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

// outer is a fault of an envelope of a level.
type outer struct {
	Fault
	level int
}

// walk goes through the messages of a batch.
type walk struct {
	*Reader
	Course
	b          *batch.Batch
	s          Syntax
	class      [256]class
	marks      *marks.Bits // of all that separates or releases, and of what is beyond ASCII, where that must be looked at
	separators *marks.Set  // is that
	plainText  bool        // the text is UTF-8, and declared so
	controls   bool        // there may be control characters in it
	segment    []byte      // at which it is
	begins     int
	named      int          // so many bytes of it are its name, with what follows that
	row        []batch.Span // that it fills
	parts      [16]int      // where the components of an element end that has nothing else
	faults     []Fault      // of the message, whose units they are given to when all are known
	outer      []outer      // faults of the envelopes that are open, which all that is in them has
	opening    int          // the level of the one that is being opened, -1: none is

	lines   [][]byte            // the envelopes' segments
	kind    []byte              // the head for which a structure was found last
	found   *standard.Structure // nil: not known
	book    *standard.Dictionary
	watch   []watched            // by the number of the position: what may stand behind its value, in messages of
	watches *standard.Dictionary // nil: nothing describes them
}

// wrong notes an error of the message at hand, or of those of its units that have it.
func (w *walk) wrong(rule, slot, at int) {
	switch {
	case w.opening >= 0:
		w.outer = append(w.outer, outer{Fault{rule, slot, at}, w.opening})
	case w.Unit >= 0:
		w.faults = append(w.faults, Fault{rule, slot, at})
	default:
		w.note(rule, slot, at, false)
	}
}

// blame gives the faults of a message to its units, the first of which is this record.
func (w *walk) blame(first, start, end int) {
	if len(w.faults) == 0 {
		return
	}
	kin, _ := w.kindred(w.b, &w.s, batch.Span{Off: uint32(start), End: uint32(end)})
	record := w.Record
	kin.Blame(w.faults, len(w.b.Bounds)-first, func(unit int, f Fault) {
		w.Record = first + unit
		w.note(f.Rule, f.Slot, f.At, false)
	})
	w.Record, w.faults = record, w.faults[:0]
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
	if p >= w.b.N { // it stands before the batch
		w.marks.Mark(w.b.Buf, p, stop, w.separators)
	}
	w.row, w.opening = w.outside, level
	w.outer = slices.DeleteFunc(w.outer, func(f outer) bool { return f.level >= level })
	lost, strange := -1, -1
	if w.control(p, stop, &lost, &strange); lost >= 0 {
		w.wrong(ruleControl, -1, lost)
	}
	if at := w.characters(p, stop); at >= 0 {
		w.wrong(at>>32, -1, at&0xffffffff)
	}
	for i := range w.Parts {
		if k := &w.Parts[i]; k.table < 0 && k.Name == w.Levels[level].Open {
			for n := range k.Wants {
				w.row[k.Wants[n].Slot] = batch.Missing
			}
			w.take(k.Wants, p+len(k.Name)+1, stop, 1)
		}
	}
	w.opening = -1
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
	if found := w.structureOf(buf[start:end]); w.Placed() {
		structure = found
	}
	w.Begin(record, structure)
	for _, f := range w.outer {
		if f.At >= w.b.N { // the envelope stands before the batch
			f.At = start
		}
		w.wrong(f.Rule, f.Slot, f.At)
	}
	count, last := 0, start
	tail, ended := segmentKey(w.Tail), -1 // where the message seems to end, and goes on
	lost, strange := -1, -1
	for p := start; ; {
		if p = skipLines(buf[:end], p); p >= end {
			break
		}
		stop := w.segmentStop(p, end)
		count++
		last = p
		n, key := w.name(p, stop)
		name := buf[p : p+n]
		if key == 0 {
			w.wrong(ruleSegment, -1, p)
			p = stop + 1
			continue
		}
		if w.controls && w.Binary[string(name)] == 0 {
			if w.control(p, stop, &lost, &strange); w.Unit >= 0 && lost >= 0 {
				w.wrong(ruleControl, -1, lost)
				lost = -1
			}
		}
		if key == tail && ended < 0 && skipLines(buf[:end], stop+1) < end {
			ended = p
		}
		w.segment, w.named, w.begins = buf[p:stop], n+1, p
		for i := range w.Segment(name, key, p, min(stop+1, w.b.N)) {
			part, row, occurrence, more := w.Take(i)
			if more && w.Alone(part) {
				w.firsts.Left(Segments, part, w.b, w.Record, p)
			} else if more {
				w.note(ruleMore, w.MostOf(part), p, true)
			}
			w.row = row
			w.take(w.Parts[part].Wants, p+n+1, stop, occurrence)
		}
		p = stop + 1
	}
	w.ends(start, last, end, count)
	if ended >= 0 {
		w.whole(ruleGoesOn, ended, false)
	}
	if w.Unit >= 0 && len(w.b.Bounds) == units {
		w.Open(start, end)
		w.note(ruleNoUnit, -1, start, false)
	}
	if lost >= 0 {
		w.wrong(ruleControl, -1, lost)
	}
	if strange >= 0 {
		w.within(record, ruleControlled, strange, true)
	}
	if !w.plainText && w.characters(start, end) >= 0 {
		w.strangers(start, end)
	} else if !w.plainText && w.declared && w.s.Set != "" && w.s.Set != text.UTF8 {
		w.misread.Message(w.b, w.Record, start, end, w.s.Set)
	}
	w.blame(units, start, end)
}

// segmentStop is segmentEnd in a batch that is being split.
func (w *walk) segmentStop(p, end int) int {
	if w.Binary != nil && w.b.Buf[p] == 'B' {
		return w.segmentEnd(&w.s, w.b.Buf[:end], p)
	}
	at := w.b.Ends.Next(p)
	for at < end && w.b.Buf[max(at-1, p)] == w.s.Release && w.s.released(w.b.Buf, p, at) {
		at = w.b.Ends.Next(at + 1)
	}
	return min(at, end)
}

// strangers notes what is wrong with the bytes beyond ASCII of a message, or of each of its segments where its units are records.
func (w *walk) strangers(start, end int) {
	for p := start; p < end; {
		stop := end
		if w.Unit >= 0 {
			stop = min(w.segmentEnd(&w.s, w.b.Buf[:end], p)+1, end)
		}
		if at := w.characters(p, stop); at >= 0 {
			w.wrong(at>>32, -1, at&0xffffffff)
		}
		p = stop
	}
}

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

// name reads the name of a segment, of which it gives the length and the key; 0: it has none, or something else than an element follows it
// (ISO 9735 once let counters of nesting stand there, which nobody uses).
func (w *walk) name(p, stop int) (n int, key uint32) {
	if p+3 < stop { // three characters, as most have
		b := w.b.Buf[p : p+4]
		if w.class[b[0]]|w.class[b[1]]|w.class[b[2]] == plain && w.class[b[3]]&isElement != 0 && upper(b[:3]) {
			return 3, uint32(b[0])<<16 | uint32(b[1])<<8 | uint32(b[2])
		}
	}
	for ; n < 4 && p+n < stop && w.class[w.b.Buf[p+n]] == plain; n++ {
		key = key<<8 | uint32(w.b.Buf[p+n])
	}
	if n < 2 || n > 3 || !upper(w.b.Buf[p:p+n]) || p+n < stop && w.class[w.b.Buf[p+n]]&isElement == 0 {
		return n, 0
	}
	return n, key
}

// ends checks what the tail says against the message. What is wrong with a message is wrong with
// each of its units.
func (w *walk) ends(start, last, end, count int) {
	tail := w.b.Buf[last:end]
	if i := len(w.Tail); len(tail) <= i || string(tail[:i]) != w.Tail || tail[i] != w.s.Element {
		w.whole(ruleTail, last, false)
		return
	}
	stop := w.segmentStop(last, end)
	if n, err := strconv.Atoi(string(bytes.TrimSpace(w.element(last, stop, 1)))); err != nil || n != count {
		from, has := len(w.b.Notes), strconv.Itoa(count)
		w.whole(ruleCount, last, false)
		for i := range w.b.Notes[from:] {
			w.b.Notes[from+i].Text = has
		}
	}
	if !bytes.Equal(w.element(start, w.segmentStop(start, end), w.HeadNumber), w.element(last, stop, 2)) {
		w.whole(ruleNumber, last, false)
	}
}

// element is the text of an element of a segment in a batch that is being split, with what it is written as; nil: there are not so many.
func (w *walk) element(p, stop, n int) []byte {
	for at := w.marks.Next(p); at < stop; at = w.marks.Next(at + 1) {
		switch c := w.class[w.b.Buf[at]]; {
		case c&isRelease != 0:
			at = min(at+1, stop-1)
		case c&isElement != 0 && n == 0:
			return w.b.Buf[p:at]
		case c&isElement != 0:
			p = at + 1
			n--
		}
	}
	if n > 0 {
		return nil
	}
	return w.b.Buf[p:stop]
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
	n := 0
	for i := 0; i < len(value); i++ {
		c := value[i]
		if w.class[c]&(isElement|isComponent|isRepetition) != 0 {
			break
		}
		if w.class[c]&isRelease != 0 && i+1 < len(value) { // it may stand before any character
			i++
			c = value[i]
		}
		if n == len(is) || c != is[n] {
			return false
		}
		n++
	}
	return n == len(is)
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
		if w.book, w.found = w.describe(format.AsRead, w.lines, head, w.s); w.book == nil {
			version, kind := w.Names(w.lines, head, w.s)
			if book := w.Catalog.Version(w.Nearest(version)); book != nil {
				w.found = book.Structure(kind)
			}
		}
		w.kind = kind
		if w.book != w.watches {
			w.watches, w.watch = w.book, w.watched(w.book, w.watch)
		}
	}
	return w.found
}

// component is the first component of an element.
func component(s *Syntax, element []byte) []byte { return element[:s.next(element, 0, s.Component)] }
