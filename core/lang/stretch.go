package lang

import (
	"slices"

	"ydrion/core/batch"
)

// stretches tells each action how far those reach, from it on, that only copy. Most of most maps is that.
func (p *Program) stretches() {
	p.special, p.leads = p.escapes.Specials()
	until := int32(len(p.actions))
	for i := len(p.actions) - 1; i >= 0; i-- {
		if a := &p.actions[i]; a.kind > copyText || a.bounded || a.plain {
			until = int32(i)
		}
		p.actions[i].until = until
	}
}

// stretch runs actions that only copy, from one on, as run does, and faster. It ends before the first of which there is more to say,
// and gives its index.
func (p *Program) stretch(e *Env, row []batch.Span, i int, out []byte) ([]byte, int) {
	buf, quote := e.Buf, p.escapes.Always()
	for until := int(p.actions[i].until); i < until; i++ {
		a := &p.actions[i]
		var s batch.Span
		if a.kind != write {
			of := row
			if a.walk > 0 {
				of = e.rows[a.walk].row
			}
			s = of[a.slot]
		}
		null := s == batch.Null && !a.blank
		if null && !p.nullable {
			return out, i
		}
		var v []byte
		if !s.Absent() {
			v = buf[s.Off:s.End]
		}
		n := len(out)
		if need := len(a.prefix) + len(a.member) + max(len(v), len(p.null)) + len(`"",`); cap(out)-n < need {
			out = slices.Grow(out, need)
		}
		room := out[n:cap(out)]
		at := 1
		if len(a.prefix) == 1 { // a separator
			room[0] = a.prefix[0]
		} else {
			at = copy(room, a.prefix)
		}
		if a.kind == write || s.Absent() && !null {
			out = out[:n+at]
			continue
		}
		mark := at
		at += copy(room[at:], a.member)
		after := at
		switch {
		case null:
			at += copy(room[at:], p.null)
		case a.kind == copyText:
			if p.taken != "" && string(v) == p.taken {
				return out[:n], i
			}
			if quote != 0 {
				room[at] = quote
				at++
			}
			k, to := 0, room[at:]
			for k < len(v) && !p.special[v[k]] {
				to[k] = v[k]
				k++
			}
			if k < len(v) || k > 0 && p.leads[v[0]] {
				out = p.escapes.Append(out[:n+after], v)
				if a.member != nil {
					out = append(out, ',')
				}
				continue
			}
			if at += k; quote != 0 {
				room[at] = quote
				at++
			}
		case !p.bare:
			at += copy(room[at:], v)
		case len(v) == 0:
			return out[:n], i
		default:
			if out = appendNumber(out[:n+at], v); a.member != nil {
				out = append(out, ',')
			}
			continue
		}
		if a.member != nil {
			if at == after { // no value, no member
				at = mark
			} else {
				room[at] = ','
				at++
			}
		}
		out = out[:n+at]
	}
	return out, i
}
