package csv

import (
	"bytes"
	"slices"
	"unicode/utf8"

	"ydrion/core/batch"
	"ydrion/core/marks"
	"ydrion/core/text"
)

// unusual are the bytes that may be what has no place in a row: NUL, and characters that could not be decoded.
var unusual = marks.Of(0).With(marks.Beyond)

// Split finds the rows and the spans of the wanted columns. A field that holds doubled quotes is rewritten after
// the text.
func (r *Reader) Split(b *batch.Batch) {
	r.split(b)
	if b.Give(r.twins); r.spoils != nil {
		r.spoils.watch(b)
	}
	if r.keys != nil {
		r.gather(b)
	}
}

func (r *Reader) split(b *batch.Batch) {
	odd := b.Unusual
	if at := unusual.First(b.Buf[:b.N]); at >= 0 {
		rest := b.Buf[at:b.N]
		odd = odd || bytes.IndexByte(rest, 0) >= 0 || r.charset == text.UTF8 && !utf8.Valid(rest) || r.charset != text.UTF8 && bytes.Contains(rest, []byte(string(utf8.RuneError)))
	}
	odd = odd || r.terminator == '\r' && bytes.IndexByte(b.Buf[:b.N], '\n') >= 0
	slots := len(r.slotColumn)
	b.Slots = slots
	if r.dialect.Widths != nil {
		r.splitFixed(b, odd)
		return
	}
	buf, n := b.Buf, b.N
	columns := r.columns
	ends := &b.Marks
	ends.Mark(buf, 0, n, marks.Of(r.delimiter, r.terminator))
	quote := r.quote
	if !r.quoting {
		quote = r.terminator // no field starts with it
	}
	spans := b.Spans
	crs := 0 // CR that stand before LF
	for p := 0; p < n; {
		if buf[p] == '\n' && r.terminator == '\r' { // behind a CR, in a file of such
			p++
			continue
		}
		start := p
		if r.dialect.Comment != 0 && buf[p] == r.dialect.Comment {
			p += bytes.IndexByte(buf[p:], r.terminator) + 1 // the slack ends the last
			continue
		}
		if len(columns) > 1 {
			if buf[p] == r.terminator {
				p++
				continue
			}
			if buf[p] == '\r' && buf[p+1] == '\n' {
				p += 2
				crs++
				continue
			}
		}
		at := len(spans)
		if cap(spans)-at < slots {
			grown := make([]batch.Span, at, 2*cap(spans)+64*(slots+1))
			copy(grown, spans)
			spans = grown
		}
		spans = spans[:at+slots]
		row := spans[at:]
		k := 0
		for {
			var s batch.Span
			if buf[p] == quote && p < n && r.quoting {
				s, p = r.quoted(b, p)
				buf = b.Buf
			} else {
				from := p
				p = ends.Next(p)
				end := min(p, n)
				if end > from && buf[end-1] == '\r' && (p >= n || buf[p] == '\n') {
					end--
				}
				s = batch.Span{Off: uint32(from), End: uint32(end)}
			}
			if k < len(columns) {
				if slot := columns[k]; slot >= 0 {
					row[slot] = s
				}
			}
			k++
			if p >= n || buf[p] == r.terminator {
				if p > start && buf[p-1] == '\r' {
					crs++
				}
				p++
				break
			}
			p++
		}
		record := len(b.Bounds)
		b.Bounds = append(b.Bounds, batch.Span{Off: uint32(start), End: uint32(min(p, n))})
		if k != len(columns) {
			r.ragged(b, row, record, k)
		} else if r.isHeading(b.Raw(record)) {
			b.Notes = append(b.Notes, batch.Note{Record: int32(record), Slot: -1, Rule: ruleHeading, Source: batch.Syntax, At: b.Bounds[record].Off})
		}
		if odd {
			r.inspect(b, record)
		}
	}
	b.Spans = spans
	if !odd && r.terminator == '\n' && bytes.Count(buf[:n], []byte{'\r'}) != crs {
		for i := range b.Bounds {
			r.inspect(b, i) // some stand elsewhere
		}
	}
}

// splitFixed finds rows of columns of fixed width.
func (r *Reader) splitFixed(b *batch.Batch, odd bool) {
	odd = odd || bytes.IndexByte(b.Buf[:b.N], '\r'^'\n'^r.terminator) >= 0
	for p := 0; p < b.N; {
		if b.Buf[p] == '\n' && r.terminator == '\r' {
			p++
			continue
		}
		end := p + bytes.IndexByte(b.Buf[p:], r.terminator) // the slack ends the last
		end = min(end, b.N)
		if len(bytes.TrimRight(b.Buf[p:end], "\r")) == 0 || r.dialect.Comment != 0 && b.Buf[p] == r.dialect.Comment {
			p = end + 1
			continue
		}
		at := len(b.Spans)
		b.Spans = slices.Grow(b.Spans, b.Slots)[:at+b.Slots]
		row := b.Spans[at:]
		record, start, k := len(b.Bounds), p, 0
		for last := false; !last; k++ {
			var value []byte
			var span batch.Span
			from := p
			span, value, p, last = r.field(b.Buf, p, end, k, nil)
			if k < len(r.columns) && r.columns[k] >= 0 {
				off := span.Off + uint32(bytes.Index(b.Buf[from:span.End], value))
				row[r.columns[k]] = batch.Span{Off: off, End: off + uint32(len(value))}
			}
		}
		p = end + 1
		b.Bounds = append(b.Bounds, batch.Span{Off: uint32(start), End: uint32(min(p, b.N))})
		if k != len(r.columns) {
			r.ragged(b, row, record, k)
		} else if r.isHeading(b.Raw(record)) {
			b.Notes = append(b.Notes, batch.Note{Record: int32(record), Slot: -1, Rule: ruleHeading, Source: batch.Syntax, At: b.Bounds[record].Off})
		}
		if odd {
			r.inspect(b, record)
		}
	}
}

// quoted reads the quoted field at p and gives its value's span and where the
// next delimiter or line end is.
func (r *Reader) quoted(b *batch.Batch, p int) (batch.Span, int) {
	raw, value, next, _ := r.field(b.Buf, p, b.N, 0, b.Buf[len(b.Buf):]) // rewritten in place, if there is room
	s := batch.Span{Off: raw.Off + 1, End: raw.Off + 1 + uint32(len(value))}
	if int(s.End) > b.N || !bytes.Equal(value, b.Buf[s.Off:s.End]) {
		s = batch.Span{Off: uint32(len(b.Buf)), End: uint32(len(b.Buf) + len(value))}
		b.Buf = append(b.Buf, value...)
	}
	return s, next - 1
}

// ragged handles a row with another number of columns than the heading.
func (r *Reader) ragged(b *batch.Batch, row []batch.Span, record, columns int) {
	rule, at := ruleSurplus, b.Bounds[record].Off
	if columns < len(r.columns) {
		rule = ruleShort
		for k := columns; k < len(r.columns); k++ {
			if slot := r.columns[k]; slot >= 0 {
				row[slot] = batch.Missing
			}
		}
	}
	b.Notes = append(b.Notes, batch.Note{Record: int32(record), Slot: -1, Rule: int32(rule), Source: batch.Syntax, At: at})
}
