package lang

import (
	"slices"

	"ydrion/core/batch"
)

// column is an action that copies a value behind a separator, if nothing in it is written otherwise.
type column struct {
	slot      int32
	until     int32 // the next action that does more than that
	separator byte
	separates uint8 // 1: there is a separator
}

// findColumns finds the columns among the actions.
func (p *Program) findColumns() {
	p.columns = make([]column, len(p.actions))
	until := int32(len(p.actions))
	for i := len(p.actions) - 1; i >= 0; i-- {
		a, c := &p.actions[i], &p.columns[i]
		copies := a.kind == copyText && p.escapes.Plainly() || a.kind == copyClean && !a.plain && !p.bare
		if !copies || a.bounded || a.member != nil || a.walk > 0 || len(a.prefix) > 1 {
			until = int32(i)
		}
		*c = column{slot: a.slot, until: until}
		if len(a.prefix) > 0 {
			c.separator, c.separates = a.prefix[0], 1
		}
	}
}

// stretch writes columns one after the other, as run does, and faster. It ends before the first of which there is more to say, and gives
// how many it has written.
func (p *Program) stretch(columns []column, buf []byte, row []batch.Span, out []byte) ([]byte, int) {
	most := len(columns)
	for i := range columns {
		if s := row[columns[i].slot]; !s.Absent() {
			most += s.Len()
		}
	}
	out = slices.Grow(out, most)
	n, special := len(out), p.escapes.Specials()
	room, at := out[n:cap(out)], 0
	for i := range columns {
		c := &columns[i]
		s, from := row[c.slot], at
		room[at] = c.separator
		at += int(c.separates)
		if s.Absent() {
			if s == batch.Null {
				return out[:n+from], i
			}
			continue
		}
		v := buf[s.Off:s.End]
		if len(v) == len(p.taken) && len(v) > 0 && string(v) == p.taken {
			return out[:n+from], i
		}
		to := room[at:][:len(v)]
		for k, b := range v {
			if special[b] {
				return out[:n+from], i
			}
			to[k] = b
		}
		at += len(v)
	}
	return out[:n+at], len(columns)
}
