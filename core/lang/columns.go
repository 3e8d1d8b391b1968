package lang

import (
	"encoding/binary"
	"slices"

	"ydrion/core/batch"
	"ydrion/core/value"
)

// column is an action that writes a value of a row as it stands or nearly so, with what stands around it. Several
// of them in a row are a stretch.
type column struct {
	prefix, member constantText
	how            how
	slot, walk     int32
	until          int32 // the next action that does more than that
	room           int   // for all that is not the value
	action         *action
}

// how a column writes its value.
type how uint8

const (
	asText     how = iota // with its special characters escaped; there are none
	asNumber              // without quotes, as JSON writes numbers; it does so already
	asDecimal             // a number in plain decimal notation; it is in it already
	asDate                // with its digits in another order
	asCode                // as a table says
	asAnswered            // as text, or as what is written for none and for an empty one
	noValue               // there is only what stands before
	trims                 // separators are taken off the end
)

// constantText is one that is copied in two words of eight bytes, if it is not longer.
type constantText struct {
	first, second uint64
	long          []byte
	size          int
}

func newConstantText(text []byte) constantText {
	c := constantText{size: len(text)}
	if len(text) > 16 {
		c.long = text
		return c
	}
	padded := append(slices.Clone(text), make([]byte, 16)...)
	c.first, c.second = binary.LittleEndian.Uint64(padded), binary.LittleEndian.Uint64(padded[8:])
	return c
}

// put writes it into a room, of which up to 16 bytes are written.
func (c *constantText) put(room []byte) int {
	if c.long != nil {
		return copy(room, c.long)
	}
	binary.LittleEndian.PutUint64(room, c.first)
	binary.LittleEndian.PutUint64(room[8:], c.second)
	return c.size
}

// findColumns finds the columns among the actions.
func (p *Program) findColumns() {
	p.columns = make([]column, len(p.actions))
	until, walk := int32(len(p.actions)), int32(-1) // of the stretch behind an action
	for i := len(p.actions) - 1; i >= 0; i-- {
		a, c := &p.actions[i], &p.columns[i]
		how, is := p.columnOf(a)
		switch {
		case !is || a.bounded:
			until, walk = int32(i), -1
		case how < noValue && walk != a.walk:
			if walk >= 0 {
				until = int32(i + 1)
			}
			walk = a.walk
		}
		*c = column{prefix: newConstantText(a.prefix), member: newConstantText(a.member), how: how, slot: a.slot, walk: max(walk, 0), until: until, action: a}
		c.room = c.prefix.size + c.member.size + len(",") + 32 // whole words, and quotes
		if a.table != nil {
			c.room += a.table.longest()
		}
		if a.moves != nil {
			c.room += len(a.moves.Fixed)
		}
	}
}

// columnOf tells how an action writes a column, if it does.
func (p *Program) columnOf(a *action) (how, bool) {
	switch a.kind {
	case copyText:
		return asText, p.escapes.Copies()
	case copyClean:
		if p.bare {
			return asNumber, true
		}
		if a.plain {
			return asDecimal, true
		}
		return asText, p.escapes.Copies()
	case answered:
		return asAnswered, p.escapes.Copies()
	case translate:
		return asCode, true
	case rearrange:
		return asDate, a.reads == nil
	case evaluate:
		return asNumber, a.read && p.bare
	case write:
		return noValue, true
	case trim:
		return trims, true
	}
	return 0, false
}

// stretch writes columns one after the other, as run does, and faster. It ends before the first of which there is
// more to say, and gives how many it has written. The record begins at an offset.
func (p *Program) stretch(columns []column, e *Env, row []batch.Span, out []byte, begin int) ([]byte, int) {
	buf, room, at := e.Buf, out[:cap(out)], len(out)
	quote, taken := p.escapes.Always(), len(p.taken)
	for i := range columns {
		c := &columns[i]
		if c.how >= noValue {
			if len(room)-at < c.room {
				room = widened(room[:at], c.room)
			}
			if at += c.prefix.put(room[at:]); c.how == trims {
				at = len(trimmed(room[:at], begin, c.action.set, c.action.extra.release))
			}
			continue
		}
		s := row[c.slot]
		var v []byte
		if !s.Absent() {
			v = buf[s.Off:s.End]
		}
		if need := c.room + len(v); len(room)-at < need {
			room = widened(room[:at], need)
		}
		from := at
		if c.prefix.size > 0 {
			at += c.prefix.put(room[at:])
		}
		mark := at
		if c.member.size > 0 {
			at += c.member.put(room[at:])
		}
		n := -1
		switch {
		case s.Absent():
			if t := c.action.table; s == batch.Null || c.action.kind == evaluate || c.action.required && (t == nil || t.absent == nil) {
				return room[:from], i
			} else if t != nil {
				n = copy(room[at:], t.absent)
			} else {
				n = 0
			}
		case c.how == asText:
			if len(v) == taken && len(v) > 0 && string(v) == p.taken {
				return room[:from], i
			}
			if int(s.End) >= e.marked || e.specials.Within(int(s.Off), int(s.End)) {
				n = p.escapes.Copy(room[at:], v)
				break
			}
			if quote == 0 {
				n = copied(room[at:], v)
			} else {
				room[at] = quote
				n = copied(room[at+1:], v) + 2
				room[at+n-1] = quote
			}
		case c.how == asNumber:
			n = plainNumber(room[at:], v)
		case c.how == asDecimal:
			if len(v) > 0 && !value.IsNumber(v) {
				return room[:from], i
			}
			n = copied(room[at:], v)
		default:
			n = p.value(c, room[at:], v)
		}
		if n < 0 || n == 0 && c.action.nonempty {
			return room[:from], i
		}
		at += n
		if c.action.member != nil {
			if n == 0 {
				at = mark
			} else {
				room[at] = ','
				at++
			}
		}
	}
	return room[:at], len(columns)
}

// copied copies a value, in two words if it is short and there is memory behind it and its room: a call would cost as much as
// the copying. Of the room 16 bytes are written then.
func copied(room, v []byte) int {
	if len(v) <= 16 && cap(v) >= 16 && len(room) >= 16 {
		in := v[:16]
		first, second := binary.LittleEndian.Uint64(in), binary.LittleEndian.Uint64(in[8:])
		binary.LittleEndian.PutUint64(room, first)
		binary.LittleEndian.PutUint64(room[8:], second)
		return len(v)
	}
	return copy(room, v)
}

// widened makes room behind a text.
func widened(out []byte, need int) []byte {
	out = slices.Grow(out, need)
	return out[:cap(out)]
}

// value writes the value of a column into a room, and gives how many bytes that are; -1: there is more to say of
// it.
func (p *Program) value(c *column, room, v []byte) int {
	switch c.how {
	case asDate:
		quote := p.escapes.Always()
		if quote == 0 {
			return c.action.moves.Copy(room, v)
		}
		n := c.action.moves.Copy(room[1:], v)
		if n >= 0 {
			room[0], room[n+1] = quote, quote
			n += 2
		}
		return n
	case asCode:
		to, listed := c.action.table.append(room[:0], v)
		if !listed {
			return -1
		}
		return len(to)
	}
	switch {
	case len(v) == 0:
		return copy(room, c.action.table.empty)
	case string(v) == p.taken:
		return -1
	}
	return p.escapes.Copy(room, v)
}

// plainNumber copies a number that is written as JSON wants it (RFC 8259, 6): digits, without a zero before
// others, perhaps with a sign and a point. It is -1 if the text is not one.
func plainNumber(room, v []byte) int {
	i := 0
	if len(v) > 0 && v[0] == '-' {
		i++
	}
	if !value.IsNumber(v) || v[i] == '0' && i+1 < len(v) && v[i+1] != '.' {
		return -1
	}
	return copied(room, v)
}
