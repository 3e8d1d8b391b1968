package segments

import (
	"bytes"
	"encoding/binary"
	"slices"
	"strconv"

	"ydrion/core/batch"
	"ydrion/core/format"
)

var _ format.Enveloped = (*Reader)(nil)

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
		n, key := w.name(p, stop)
		switch name := w.segment[:n]; {
		case key == 0:
			w.Stray(p, stop)
		case string(name) == r.Tail:
			tail = batch.Span{Off: uint32(p), End: uint32(stop)}
		default:
			w.named = n + 1
			w.Keep(name, key, p, stop)
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
