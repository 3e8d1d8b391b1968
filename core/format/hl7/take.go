package hl7

import (
	"bytes"
	"encoding/binary"
	"math/bits"

	"ydrion/core/batch"
	"ydrion/core/marks"
	"ydrion/core/segments"
	"ydrion/core/standard"
	"ydrion/core/text"
)

// take takes the wanted fields of the segment at hand.
func (w *walk) take(part int, name uint32, occurrence int) {
	wants := w.Parts[part].Wants
	if len(wants) == 0 || occurrence == 0 {
		return
	}
	first := 1 // the number of the field behind the name
	if name == msh {
		first = 2 // MSH-1 is the separator itself
		for len(wants) > 0 && wants[0].Field == 1 {
			w.row[wants[0].Slot] = batch.Span{Off: uint32(w.p + 3), End: uint32(w.p + 4)}
			wants = wants[1:]
		}
		if len(wants) == 0 {
			return
		}
	}
	ends := w.fields(wants[len(wants)-1].Field - first + 1)
	buf, row := w.scan, w.row
	for i := range wants {
		n := &wants[i]
		at := n.Field - first + 1
		if at >= len(ends) {
			return
		}
		from, end := ends[at-1]>>1+1, ends[at]>>1
		switch {
		case n.Occurrence != occurrence || from == end:
		case name == msh && n.Field == 2:
			row[n.Slot] = batch.Span{Off: uint32(from), End: uint32(end)}
		case n.Rows >= 0:
			w.repetitions(n, from, end)
		case ends[at]&1 != 0 || n.By > 0:
			if n.Alone && w.repeats(buf[from:end]) {
				w.firsts.Left(segments.Repetitions, n.Nth, w.b, w.Record, from)
			}
			w.piece(n, from, end)
		case !n.First:
		case end-from == 2 && buf[from] == '"' && buf[from+1] == '"':
			row[n.Slot] = batch.Null
		default:
			row[n.Slot] = batch.Span{Off: uint32(from), End: uint32(end)}
		}
	}
}

// repeats tells whether a field has more than one repetition: a separator with nothing behind it begins none.
func (w *walk) repeats(field []byte) bool {
	if i := bytes.IndexByte(field, w.sep.Repetition); i >= 0 {
		for _, c := range field[i:] {
			if c != w.sep.Repetition {
				return true
			}
		}
	}
	return false
}

// fields gives where so many fields of the segment at hand end, twice that, and one more where not all of a field is plain; as the first,
// where the separator stands before them.
func (w *walk) fields(most int) []int {
	if most+1 > cap(w.ends) {
		w.ends = make([]int, most+1)
	}
	buf, stop, ends := w.scan, w.stop, w.ends[:most+1]
	at := w.p + 3
	ends[0] = at << 1
	if at >= stop {
		return ends[:1]
	}
	n, structured := 1, 0
	field := w.sep.Field
	block, found := w.marks.From(at + 1)
	for {
		for ; found != 0; found &= found - 1 {
			if at = block + bits.TrailingZeros64(found); at >= stop {
				ends[n] = stop<<1 | structured
				return ends[:n+1]
			}
			ends[n] = at<<1 | structured
			structured = 1
			if buf[at] == field {
				structured = 0
				if n++; n == len(ends) {
					return ends
				}
			}
		}
		block, found = w.marks.Behind(block)
	}
}

// class says what a character is in a message.
type class uint8

const (
	plain class = iota
	isField
	isRepetition
	isComponent
	isSubcomponent
	isEscape
	isHigh // beyond ASCII, where that has to be decoded
)

// repetitions makes rows of those of a field.
func (w *walk) repetitions(n *segments.Want, from, end int) {
	above := w.row
	for at := from; at <= end; {
		stop := at
		for stop < end && w.classes.of[w.scan[stop]] != isRepetition {
			stop++
		}
		w.row = w.b.Row(n.Rows, uint32(at))
		for i := range n.Wants {
			w.piece(&n.Wants[i], at, stop)
		}
		at = stop + 1
	}
	w.row = above
}

// classes are those of the characters of messages that separate by the same.
type classes struct {
	of  [256]class
	set *marks.Set // of those that have one
}

func newClasses(sep Separators, highs bool) *classes {
	c := &classes{set: marks.Of(sep.Field, sep.Repetition, sep.Component, sep.Subcomponent, sep.Escape)}
	if highs {
		for i := 0x80; i < 0x100; i++ {
			c.of[i] = isHigh
		}
		c.set = c.set.With(marks.Beyond)
	}
	c.of[sep.Field], c.of[sep.Repetition], c.of[sep.Component], c.of[sep.Subcomponent], c.of[sep.Escape] = isField, isRepetition, isComponent, isSubcomponent, isEscape
	return c
}

var lineFeeds, returns, lineEnds = marks.Of('\n'), marks.Of('\r'), marks.Of('\r', '\n')

// classify finds the classes of a message's characters, and marks where those are that have one, and where segments end: in all
// messages behind it, too, if it is the first of its batch, as most separate by the same.
func (w *walk) classify(start, end int, terminator byte) {
	if w.classed != w.sep.chars() {
		w.classed, w.known = w.sep.chars(), [2]*classes{}
	}
	c := &w.known[0]
	if w.charset != "" {
		c = &w.known[1]
	}
	if *c == nil {
		*c = newClasses(w.sep, w.charset != "")
	}
	if *c == w.classes && terminator == w.terminator && end <= w.upTo {
		return
	}
	if w.classes == nil && w.charset == "" {
		end = w.b.N
	}
	w.classes, w.terminator, w.upTo = *c, terminator, end
	w.marks.Mark(w.scan, start, end, w.classes.set)
	if terminator == '\n' {
		w.b.Ends.Mark(w.b.Buf, start, end, lineFeeds)
	} else {
		w.b.Ends.Mark(w.b.Buf, start, end, returns)
	}
}

// piece finds the repetition, component and subcomponent that is wanted of a field, and undoes
// escapes.
func (w *walk) piece(p *segments.Want, from, end int) {
	buf, class, slot := w.scan, &w.classes.of, p.Slot
	if p.By > 0 {
		if from, end = w.repetition(p, from, end); from < 0 {
			return
		}
	}
	repetition, component, sub := p.Repetition-1, p.Component-1, p.Sub-1 // still to come
	written := false
	at := w.marks.Next(from)
	for ; at < end; at = w.marks.Next(at + 1) {
		c := class[buf[at]]
		switch c {
		case isEscape, isHigh:
			written = true
			continue
		}
		if repetition|component|sub == 0 {
			break // the wanted piece ends here
		}
		switch {
		case c == isRepetition && repetition > 0:
			repetition--
		case c == isComponent && repetition == 0 && component > 0:
			component--
		case c == isSubcomponent && repetition|component == 0 && sub > 0:
			sub--
		case c == isRepetition || repetition == 0 && (c == isComponent || component == 0):
			return // there are not so many
		default:
			continue
		}
		from, written = at+1, false
	}
	if p.Open != segments.Closed && at < end && repetition|component|sub == 0 {
		if c := class[buf[at]]; c == isSubcomponent || c == isComponent && p.Open == segments.ToComponents {
			w.behind(p, at, end)
		}
	}
	at = min(at, end)
	switch {
	case repetition|component|sub != 0 || from == at:
	case at-from == 2 && buf[from] == '"' && buf[from+1] == '"':
		w.row[slot] = batch.Null
	case written:
		w.rewrite(slot, from, at)
	default:
		w.row[slot] = batch.Span{Off: uint32(from), End: uint32(at)}
	}
}

// repetition finds that of a field whose component is the one by which it is chosen; -1: none is.
func (w *walk) repetition(p *segments.Want, from, end int) (int, int) {
	for at := from; at <= end; {
		stop := at
		for stop < end && w.classes.of[w.scan[stop]] != isRepetition {
			stop++
		}
		from, to := at, at // of its component
		for n := p.By; ; n-- {
			for to < stop && w.classes.of[w.scan[to]] != isComponent {
				to++
			}
			if n <= 1 {
				break
			} else if to == stop {
				from = to
				break
			}
			to++
			from = to
		}
		if i := bytes.IndexByte(w.scan[from:to], w.sep.Subcomponent); i >= 0 {
			to = from + i
		}
		if w.sep.says(w.b.Buf[from:to], w.charset, p.Is) {
			return at, stop
		}
		at = stop + 1
	}
	return -1, -1
}

// rewrite puts a value that is not written as it is behind the text: where it
// stands in the text, then the value.
func (w *walk) rewrite(slot, from, end int) {
	b := w.b
	value := b.Buf[from:end]
	if w.charset != "" {
		decoded, err := text.DecodeAll(value, w.charset)
		if err != nil {
			w.wrong(ruleUndecoded, slot, from+text.FirstUndecoded(value, w.charset))
			return
		}
		value = decoded
	}
	b.Buf = binary.LittleEndian.AppendUint32(b.Buf, uint32(from))
	off := len(b.Buf)
	var strange int
	b.Buf, strange = w.sep.AppendUnescaped(b.Buf, value)
	if strange >= 0 {
		w.note(ruleEscape, slot, from, true)
	}
	w.row[slot] = batch.Span{Off: uint32(off), End: uint32(len(b.Buf))}
}

// behind notes what stands behind a value, at the separator that ends it, if that has no components.
func (w *walk) behind(p *segments.Want, at, end int) {
	for i := at; i < end; i++ {
		switch c := w.classes.of[w.scan[i]]; {
		case c == isRepetition || c == isComponent && p.Open == segments.ToSubs:
			return
		case c == isComponent || c == isSubcomponent:
			continue
		}
		if book := w.book(); w.elementary.Is(p, w.Wanted, book) || w.elementaryHere(p, book) {
			w.firsts.Left(segments.Components, p.Nth, w.b, w.Record, at)
		}
		return
	}
}

// elementaryHere tells whether a field has no components by the type that another field of the segment says.
func (w *walk) elementaryHere(p *segments.Want, book *standard.Dictionary) bool {
	position := &w.Positions[p.Nth]
	at, by := typed(position.Segment)
	if book == nil || at != p.Field || p.Open != segments.ToComponents {
		return false
	}
	segment := book.Segment(position.Segment)
	return segment != nil && at <= len(segment.Elements) && book.Typed(&segment.Elements[at-1], string(w.Component(by, 1))).Parts() == 1
}
