package segments

import (
	"bytes"
	"encoding/binary"

	"ydrion/core/batch"
	"ydrion/core/text"
)

// take fills the slots of one segment, whose first element begins at p.
func (w *walk) take(wants []Want, p, stop, occurrence int) {
	buf := w.b.Buf
	parts := &w.parts
	for field := 1; len(wants) > 0 && p <= stop; field++ {
		from, structured, n := p, plain, 0
		for p = w.marks.Next(p); p < stop; p = w.marks.Next(p) {
			c := w.class[buf[p]]
			if c&isElement != 0 {
				break
			}
			structured |= c
			if n < len(parts) {
				parts[n] = p
				n++
			}
			if c&isRelease != 0 && p+1 < stop {
				p++
			}
			p++
		}
		p = min(p, stop)
		if structured == isComponent && n < len(parts) {
			parts[n] = p
		} else {
			n = -1
		}
		for len(wants) > 0 && wants[0].Field == field {
			want := &wants[0]
			wants = wants[1:]
			switch {
			case want.Occurrence != occurrence || from == p:
			case want.Rows >= 0:
				w.repetitions(want, from, p)
				buf = w.b.Buf
			case structured == plain:
				if want.First {
					w.row[want.Slot] = batch.Span{Off: uint32(from), End: uint32(p)}
				}
			case n < 0:
				w.inner(want, from, p)
				buf = w.b.Buf
			case want.Repetition == 1 && want.Component <= n+1:
				begin := from
				if want.Component > 1 {
					begin = parts[want.Component-2] + 1
				}
				if end := parts[want.Component-1]; begin < end {
					w.row[want.Slot] = batch.Span{Off: uint32(begin), End: uint32(end)}
				}
			}
			if want.Number && w.s.Decimal == ',' && want.Occurrence == occurrence {
				w.pointed(want.Slot)
				buf = w.b.Buf
			}
			if structured&isRepetition != 0 && want.Alone && want.Occurrence == occurrence && w.repeats(from, p) {
				w.firsts.Left(Repetitions, want.Nth, w.b, w.Record, from)
			}
			if structured&isComponent != 0 && (n < 0 || n >= want.Component) && want.Rows < 0 && w.watch[want.Nth] != unwatched && want.Occurrence == occurrence {
				w.behind(want, from, p)
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
				if w.inner(in, at, stop); w.watch[in.Nth] != unwatched {
					w.behind(in, at, stop)
				}
				if in.Number && w.s.Decimal == ',' {
					w.pointed(in.Slot)
				}
			}
		}
		at = stop + 1
	}
	w.row = above
}

// repeats tells whether an element has more than one repetition: a separator with nothing behind it begins none.
func (w *walk) repeats(from, end int) bool {
	more := false
	for at := from; at < end; at++ {
		switch c := w.class[w.b.Buf[at]]; {
		case c&isRepetition != 0:
			more = true
		case more:
			return true
		case c&isRelease != 0:
			at++
		}
	}
	return false
}

// behind notes what stands behind the component that is taken, where nothing should, or where its text goes on.
func (w *walk) behind(n *Want, from, end int) {
	if w.opening >= 0 { // envelopes are described with what is in them
		return
	}
	buf, repetition, component, first := w.b.Buf, n.Repetition, n.Component, -1
	for at := from; at < end; at++ {
		switch c := w.class[buf[at]]; {
		case c&isRepetition != 0:
			if repetition--; repetition < 1 {
				return
			}
			continue
		case repetition != 1:
		case c&isComponent != 0:
			if component--; component == 0 {
				first = at
			}
			if pieces := int(w.watch[n.Nth]); component < -pieces {
				return
			}
			continue
		case first >= 0:
			switch pieces := w.watch[n.Nth]; {
			case pieces == whole:
				w.firsts.Left(Components, n.Nth, w.b, w.Record, first)
			case -component < int(pieces):
				w.firsts.Left(Pieces, n.Nth, w.b, w.Record, at)
			}
			return
		}
		if w.class[buf[at]]&isRelease != 0 {
			at++
		}
	}
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
				w.wrong(ruleUndecoded, n.Slot, from+text.FirstUndecoded(value, w.s.Set))
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
