package csv

import (
	"bytes"
	"hash/maphash"
	"strings"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/place"
	"ydrion/core/shape"
)

// Rows is the list of a record's rows, where rows that stand together are one record.
const Rows = "rows"

// gathers finds the slots by which rows are told from those of another record.
func (d Dialect) gathers(of shape.Shape) (keys []int, out finding.List) {
	for _, column := range d.Together {
		slot := -1
		for i := range of.Fields {
			if of.Fields[i].At() == column {
				slot = i
			}
		}
		if slot < 0 {
			f := finding.New("csv.column-missing", place.Place{Line: 1, Column: 1, Path: column}, "no field of the schema stands in the column %q, by which rows are put together", column)
			var columns []string
			for i := range of.Fields {
				columns = append(columns, of.Fields[i].At())
			}
			if near := finding.Nearest(column, columns); near != "" {
				f = f.Suggest("was %s meant?", near)
			}
			out = append(out, f)
		}
		keys = append(keys, slot)
	}
	return keys, out
}

// whole leaves those rows out that may not be all of their record: the last ones that stand together,
// which the file may go on with. It is 0 if all rows are of one record.
func (r *Reader) whole(buf []byte, n int) int {
	last := 0
	for _, slot := range r.keys {
		last = max(last, r.slotColumn[slot])
	}
	began, first := 0, true
	r.groups = r.groups[:0]
	var key, before []byte
	for p := 0; p < n; {
		switch {
		case buf[p] == '\n' || buf[p] == r.terminator || buf[p] == '\r' && p+1 < n && buf[p+1] == '\n':
			p++
			continue
		case r.dialect.Comment != 0 && buf[p] == r.dialect.Comment:
			end := bytes.IndexByte(buf[p:n], r.terminator)
			if end < 0 {
				return began
			}
			p += end + 1
			continue
		}
		start, ended := p, false
		key = key[:0]
		for k := 0; k <= last && !ended; k++ {
			var value []byte
			_, value, p, ended = r.field(buf, p, n, k, nil)
			for _, slot := range r.keys {
				if r.slotColumn[slot] == k {
					key = append(append(key, value...), 0)
				}
			}
		}
		if !ended {
			s := scan{from: p}
			if r.dialect.Widths != nil {
				if end := bytes.IndexByte(buf[p:n], r.terminator); end >= 0 {
					s.last = p + end + 1
				}
			} else {
				r.rows(buf[:n], &s, true, p)
			}
			if s.last == 0 {
				s.last = n
			}
			p = s.last
		}
		if first || !bytes.Equal(key, before) {
			began, first = start, false
			key, before = before, key
			if r.came != nil {
				r.groups = append(r.groups, group{start, maphash.Bytes(r.seed, before)})
			}
		}
	}
	return began
}

// group is where rows begin that stand together, and the hash of what they are put together by.
type group struct {
	at   int
	hash uint64
}

// mostApart is how many places are told where rows stand apart from others of their record.
const mostApart = 5

// apart notes the groups, up to an offset, whose like has come before: their rows are another record.
func (r *Reader) apart(buf []byte, n int) {
	for _, g := range r.groups {
		if g.at >= n {
			return
		}
		if _, twice := r.came[g.hash]; !twice {
			r.came[g.hash] = struct{}{}
			continue
		}
		if r.apartOnes++; r.apartOnes <= mostApart {
			f := finding.Warn("csv.apart", r.Place(buf, g.at), "rows with the same %s came before, and others stand between: these are a record of their own", strings.Join(r.dialect.Together, ", "))
			r.ended = append(r.ended, f.Suggest("if they belong together, the file must be sorted by %s", strings.Join(r.dialect.Together, ", ")))
		}
	}
}

// gather makes one record of rows that stand together and agree in what they are put together by. Its
// values are those of the first row; its rows are a list.
func (r *Reader) gather(b *batch.Batch) {
	slots := b.Slots
	b.Lay([]int{slots}, []int{-1})
	t := &b.Tables[0]
	t.Spans = append(t.Spans, b.Spans...)
	same := func(x, y []batch.Span) bool {
		for _, slot := range r.keys {
			v, w := x[slot], y[slot]
			if v.Absent() != w.Absent() || !v.Absent() && !bytes.Equal(b.Buf[v.Off:v.End], b.Buf[w.Off:w.End]) {
				return false
			}
		}
		return true
	}
	records, of := 0, make([]int32, len(b.Bounds)) // the record of each row
	for i := range b.Bounds {
		row := t.Spans[i*slots : (i+1)*slots]
		if i > 0 && same(row, t.Spans[(i-1)*slots:i*slots]) {
			b.Bounds[records-1].End = b.Bounds[i].End
		} else {
			b.Begin(-1, records)
			b.Bounds[records] = b.Bounds[i]
			copy(b.Spans[records*slots:], row)
			records++
		}
		t.At = append(t.At, b.Bounds[i].Off)
		of[i] = int32(records - 1)
	}
	for i := range b.Notes {
		b.Notes[i].Record = of[b.Notes[i].Record]
	}
	b.Bounds, b.Spans = b.Bounds[:records], b.Spans[:records*slots]
	b.Filled()
	r.rowsIn.Add(int64(len(t.At)))
}
