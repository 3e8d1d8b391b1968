package segments

import "ydrion/core/standard"

// Kind says what a character is in a segment as it is written.
type Kind uint8

// The kinds of characters: those that end something, and those by which a value is not what is written: it is released or
// escaped, or beyond ASCII.
const (
	Ordinary    Kind = 0
	EndsElement Kind = 1 << iota
	EndsRepetition
	EndsComponent
	EndsSub
	Changes
)

// Proof tells of segments, by their text, that they are as they are described, without taking them apart. What it cannot tell is
// found out by that: most segments of most messages are good.
type Proof struct {
	Text  string // of the message
	Kinds [256]Kind
	ends  []int // of the elements of the segment at hand
}

// most is how many elements a segment has, or components a value, of which something is told.
const most = 64

// proved tells whether a segment is known to be as it is described, but for its dates.
func (m *Message) proved(s *Segment, known *standard.Composite) bool {
	p := m.Proof
	filled, n := uint64(1)<<s.Before-1, s.Before
	p.ends = p.ends[:0]
	for range n {
		p.ends = append(p.ends, s.Values-1)
	}
	typed, by := 0, 0
	if m.Typed != nil {
		typed, by = m.Typed(s.Name)
	}
	for at := s.Values; at <= s.To; n++ {
		end, has := p.end(at, s.To, EndsElement)
		if p.ends = append(p.ends, end); n == most || has&Changes != 0 {
			return false
		}
		switch {
		case at == end:
		case n >= len(known.Elements):
			if m.complete() {
				return false
			}
			filled |= 1 << n
		default:
			e := &known.Elements[n]
			if n+1 == typed {
				if by > n {
					return false
				}
				e = m.kinded(e, p.first(s, by))
			}
			filled |= 1 << n
			if has == Ordinary {
				if !m.holdsAlone(e, p.Text[at:end], deepest) {
					return false
				}
				break
			}
			if has&EndsRepetition == 0 {
				if !m.holds(e, at, end, has, deepest, EndsComponent) {
					return false
				}
				break
			}
			for count := 1; at <= end; count++ {
				stop, has := p.end(at, end, EndsRepetition)
				if count > e.Repeats && e.Repeats > 0 || !m.holds(e, at, stop, has, deepest, EndsComponent) {
					return false
				}
				at = stop + 1
			}
		}
		at = end + 1
	}
	return known.Has(filled, true)
}

// end finds the first of some characters from an offset on, or the end, and which kinds stand before it.
func (p *Proof) end(at, stop int, of Kind) (end int, has Kind) {
	for ; at < stop; at++ {
		if k := p.Kinds[p.Text[at]]; k != Ordinary {
			if k&of != 0 {
				break
			}
			has |= k
		}
	}
	return at, has
}

// first is the text of the first repetition of an element; empty if it has components.
func (p *Proof) first(s *Segment, element int) string {
	at := s.Values
	if element > 1 {
		at = p.ends[element-2] + 1
	}
	end, has := p.end(at, p.ends[element-1], EndsRepetition)
	if has != Ordinary {
		return ""
	}
	return p.Text[at:end]
}

// holds tells whether a value is as its element is described. What separates its components ends the one.
func (m *Message) holds(e *standard.Element, from, to int, has Kind, levels int, ends Kind) bool {
	switch length := to - from; {
	case length == 0:
		return true
	case has&(EndsComponent|EndsSub) == 0:
		return m.holdsAlone(e, m.Proof.Text[from:to], levels)
	case e.Max > 0 && length > e.Max || length < e.Min:
		return false
	}
	of := e.Of()
	if of == nil { // nothing is known of its components, or it has none
		return e.Parts() != 1
	}
	filled := uint64(0)
	for n, at := 0, from; at <= to; n++ {
		end, has := m.Proof.end(at, to, ends)
		if at < end {
			if n >= min(len(of.Elements), most) || !m.holds(&of.Elements[n], at, end, has, levels-1, EndsSub) {
				return false
			}
			filled |= 1 << n
		}
		at = end + 1
	}
	return of.Has(filled, m.Book.Closed)
}

// holdsAlone is holds for a value without separators.
func (m *Message) holdsAlone(e *standard.Element, text string, levels int) bool {
	if text == `""` {
		return true
	}
	if e.Max > 0 && len(text) > e.Max || len(text) < e.Min {
		return false
	}
	if of := e.Of(); of != nil && levels > 0 {
		return of.Has(1, m.Book.Closed) && m.holdsAlone(&of.Elements[0], text, levels-1)
	}
	if m.Form != nil && m.Form(e.Type, text) != "" {
		return false
	}
	t := m.codes(e)
	if t == nil {
		return true
	}
	_, has := t.Meaning(text)
	return has
}
