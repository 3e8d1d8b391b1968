package segments

import (
	"bytes"
	"slices"

	"ydrion/core/batch"
)

// surroundings are a context and the state of its parts.
type surroundings struct {
	context []batch.Span
	state   []int
	outer   []hidden
}

// hidden is what was known of a part.
type hidden struct {
	part, seen, first, deep int
	values                  []batch.Span
}

// level is one that is open.
type level struct {
	nesting int
	number  []byte
	end     int // the node behind its group, 0: that is not known
}

// around takes a segment as context of units, where the structure says what it is around; false: it belongs
// to what it follows, which is not a unit.
func (c *Course) around(i int) bool {
	if k := &c.Parts[i]; c.Close && k.Name == c.Note && k.loop < 0 {
		return false
	}
	c.Row = c.context
	at := max(c.place, 1)
	if c.first[i] != 0 && (c.first[i] != at || c.deep[i] != len(c.levels)) { // another place for such a segment, nearer to the units to come
		c.hide(i)
		c.forget(i)
	}
	c.first[i], c.deep[i] = at, len(c.levels)
	return true
}

// hide keeps what is known of a part, for when what comes now is no context any more.
func (c *Course) hide(i int) {
	h := hidden{part: i, seen: c.seen[i], first: c.first[i], deep: c.deep[i]}
	for n := range c.Parts[i].Wants {
		h.values = append(h.values, c.context[c.Parts[i].Wants[n].Slot])
	}
	c.outer = slices.DeleteFunc(c.outer, func(o hidden) bool { return o.part == i && o.first == h.first }) // it was hidden from there before
	c.outer = append(c.outer, h)
}

// show goes back to what was known of a part before, if there is anything.
func (c *Course) show(i int) {
	for k := len(c.outer) - 1; k >= 0; k-- {
		h := &c.outer[k]
		if h.part != i {
			continue
		}
		c.seen[i], c.first[i], c.deep[i] = h.seen, h.first, h.deep
		for n := range h.values {
			c.context[c.Parts[i].Wants[n].Slot] = h.values[n]
		}
		c.outer = slices.Delete(c.outer, k, k+1)
		return
	}
}

// beneath tells whether the segment at hand stands in a level below the unit, and is of a part that the unit has from what it stands under: that is
// nearer to it.
func (c *Course) beneath(i int) bool {
	return i != c.Unit && c.inside && c.depth > 0 && len(c.levels) > c.depth && c.first[i] != 0
}

// enter takes a segment where no structure is known. It is false for a note that belongs to something
// else than a unit.
func (c *Course) enter(i int) bool {
	k := &c.Parts[i]
	switch {
	case c.Close && k.Name == c.Note && (c.previous || k.loop < 0):
		return c.previous
	case c.first[i] == 0 && c.inside:
		return true
	}
	c.Row, c.inside = c.context, false
	if c.first[i] == 0 {
		c.order++
		c.first[i], c.deep[i] = c.order, len(c.levels)
	}
	at, level := c.first[i], slices.ContainsFunc(c.Nested, func(n Nesting) bool { return n.Segment == k.Name }) // levels see to themselves
	for other := range c.Parts {
		if other != i && (level || c.first[other] <= at || c.Parts[other].key == k.key) {
			continue
		}
		c.forget(other)
	}
	c.first[i] = at
	return true
}

// forget takes away what is known of a part, for the units to come.
func (c *Course) forget(i int) {
	c.seen[i], c.first[i] = 0, 0
	c.clear(i, c.context)
	if c.kin != nil {
		c.kin.Release(i, len(c.levels))
	}
	if c.learning != nil {
		c.learning.forgets = append(c.learning.forgets, i)
	}
}

// descend goes to a level of a hierarchy, which has a number and may name the one above it. Its context is what
// stands above it, and nothing of the levels beside it.
func (c *Course) descend(nesting int, above, number []byte) {
	n := len(c.levels)
	for n > 0 && c.levels[n-1].nesting >= nesting && !(c.levels[n-1].nesting == nesting && bytes.Equal(c.levels[n-1].number, above)) {
		n--
	}
	c.levels = append(c.levels[:n], level{nesting: nesting, number: number})
	for i := range c.rows {
		c.rows[i].open = c.rows[i].open && c.rows[i].deep <= n
	}
	if c.Unit < 0 {
		return
	}
	c.below = c.above(nesting, n)
	if !c.below {
		c.inside, c.Row = false, c.context
	}
	if c.kin != nil {
		c.kin.Ends(0, 0, n)
	}
	if n < len(c.saved) { // what has come in levels since is no context any more
		c.saved = c.saved[:n+1]
		s := &c.saved[n]
		copy(c.context, s.context)
		copy(c.state, s.state)
		c.outer = append(c.outer[:0], s.outer...)
		return
	}
	c.saved = slices.Grow(c.saved, 1)[:n+1]
	s := &c.saved[n]
	s.context, s.state = append(s.context[:0], c.context...), append(s.state[:0], c.state...)
	s.outer = append(s.outer[:0], c.outer...)
}

// above tells whether a level that begins under so many others belongs to the unit that goes on: where it is no unit, but under one that is
// a level, such as the items of an order, or a line in a consignment; where no level is one, its place in the structure must be there, too.
func (c *Course) above(nesting, levels int) bool {
	if !c.inside || levels < c.depth || c.is(c.Unit, c.nested[nesting]) {
		return false
	}
	unit := slices.Index(c.nested, c.Parts[c.Unit].key)
	return nesting >= unit && (unit >= 0 || c.structure != nil)
}
