package segments

import (
	"cmp"
	"slices"

	"ydrion/core/batch"
	"ydrion/core/standard"
)

// Kin tells which segments of a message belong to one unit alone, and which are context of some: what
// a unit takes along when it is rejected. It is made in one walk through a message and asked for its
// units in their order, so that all of them together cost one walk and what they take.
type Kin struct {
	structure *standard.Structure // of the message, nil: it is not known

	pieces []kindred
	alive  [][]int // what is context as the walk comes by, by node
	levels []int   // of that, what stands in levels of a hierarchy
	firsts []int   // the first piece of each unit
	tops   []int   // context that stands outside of all groups which units can be in

	// Where no structure is known:
	among []int          // the parts for which the segment at hand is context
	of    map[int][]int  // what is context for each part
	met   map[uint32]int // the place of each segment's name among
	names []met          // those that are context, in the order in which they have come

	context []int // of the unit that was asked for last
	at      int   // behind the pieces that context was chosen from
	unit    int
}

// kindred is a segment.
type kindred struct {
	batch.Span
	unit        int  // that it belongs to, -1: it is context
	node, level int  // where it stands in the structure, and in a hierarchy
	number      int  // of its name there, 0: elements choose its node
	dead        int  // behind this piece it is no context any more, 0: it is to the end
	parts       int  // for which it is context, where no structure is known
	attached    bool // it goes with the piece before it
}

// met is a name of segments that are context.
type met struct {
	key      uint32
	unwanted []int // of which nothing is wanted
}

// Own takes a segment of a unit: the nth of the message.
func (k *Kin) Own(from, to, unit int) {
	if unit == len(k.firsts) {
		k.firsts = append(k.firsts, len(k.pieces))
	}
	k.pieces = append(k.pieces, kindred{Span: batch.Span{Off: uint32(from), End: uint32(to)}, unit: unit})
}

// Context takes a segment of no unit. Top tells that units before it have it as context, too.
func (k *Kin) Context(from, to, node, level int, top bool) {
	n := len(k.pieces)
	if node >= len(k.alive) {
		k.alive = append(k.alive, make([][]int, node+1-len(k.alive))...)
	}
	if k.alive[node] = append(k.alive[node], n); level > 0 {
		k.levels = append(k.levels, n)
	}
	if top {
		k.tops = append(k.tops, n)
	}
	k.pieces = append(k.pieces, kindred{Span: batch.Span{Off: uint32(from), End: uint32(to)}, unit: -1, node: node, level: level})
}

// Among takes a segment of no unit where no structure is known. It is context as long as it is one for any of the parts; if nothing of it is wanted, until
// a segment of its name comes again behind units, or of one that came before it; not where the name has no key.
func (k *Kin) Among(from, to int, key uint32, level int) {
	if k.met == nil {
		k.met, k.of = map[uint32]int{}, map[int][]int{}
	}
	n := len(k.pieces)
	at, again := k.met[key]
	switch {
	case key == 0:
	case !again:
		at = len(k.names)
		k.met[key], k.names = at, append(k.names, met{key: key})
	case len(k.firsts) > 0:
		for i := len(k.names) - 1; i >= at; i-- {
			for _, piece := range k.names[i].unwanted {
				k.end(piece)
			}
			if i > at {
				delete(k.met, k.names[i].key)
			}
		}
		k.names = k.names[:at+1]
		k.names[at].unwanted = nil
	}
	for _, part := range k.among {
		k.of[part] = append(k.of[part], n)
	}
	if len(k.among) == 0 && key != 0 {
		k.names[at].unwanted = append(k.names[at].unwanted, n)
	}
	k.Context(from, to, 0, level, false)
	k.pieces[n].parts = len(k.among)
}

// Attached takes a segment that goes with the one before it.
func (k *Kin) Attached(from, to int) {
	k.Context(from, to, 0, 0, false)
	k.pieces[len(k.pieces)-1].attached = true
}

// Release says that what was context for a part in a level of a hierarchy is no more. Above it stays: another level beside
// this one has it.
func (k *Kin) Release(part, level int) {
	if len(k.of[part]) == 0 {
		return
	}
	k.of[part] = slices.DeleteFunc(k.of[part], func(i int) bool {
		p := &k.pieces[i]
		if p.level < level {
			return false
		}
		if p.parts--; p.parts == 0 {
			k.end(i)
		}
		return true
	})
}

// Ends takes away what is no context any more: segments that stand at nodes of a structure from
// one on to before another, or in a hierarchy below a level.
func (k *Kin) Ends(from, to, level int) {
	for node := max(from, 1); node < min(to, len(k.alive)); node++ {
		for _, i := range k.alive[node] {
			k.end(i)
		}
		k.alive[node] = k.alive[node][:0]
	}
	k.levels = slices.DeleteFunc(k.levels, func(i int) bool {
		if k.pieces[i].level > level {
			k.end(i)
		}
		return k.pieces[i].dead > 0
	})
}

func (k *Kin) end(i int) {
	if k.pieces[i].dead > 0 {
		return
	}
	k.pieces[i].dead = len(k.pieces)
	for i++; i < len(k.pieces) && k.pieces[i].attached; i++ {
		k.pieces[i].dead = len(k.pieces)
	}
}

// anyLevel keeps all levels.
const anyLevel = 1 << 30

// Units is how many there are.
func (k *Kin) Units() int { return len(k.firsts) }

// At finds the unit that begins at an offset, -1 if none does.
func (k *Kin) At(off uint32) int {
	unit, is := slices.BinarySearchFunc(k.firsts, off, func(i int, off uint32) int { return cmp.Compare(k.pieces[i].Off, off) })
	if !is {
		return -1
	}
	return unit
}

// Of gives what a unit takes along, in the order of the message.
func (k *Kin) Of(unit int, take func(batch.Span)) {
	first := k.firsts[unit]
	if unit < k.unit {
		k.context, k.at = k.context[:0], 0
	}
	k.unit = unit
	for ; k.at < first; k.at++ {
		if k.pieces[k.at].unit < 0 {
			k.context = append(k.context, k.at)
		}
	}
	k.context = slices.DeleteFunc(k.context, func(i int) bool { return k.pieces[i].dead > 0 && k.pieces[i].dead <= first })
	for _, i := range k.context {
		take(k.pieces[i].Span)
	}
	at := 0 // the node of what came last
	k.own(unit, func(p *kindred) {
		take(p.Span)
		at = p.node
	})
	top, _ := slices.BinarySearch(k.tops, first)
	for _, i := range k.tops[top:] {
		p := &k.pieces[i]
		if p.number > 0 && k.structure.At(at, p.number).Node != p.node {
			continue // without what stands between it would belong to the unit
		}
		take(p.Span)
		at = p.node
	}
}

// Sharing tells which units, from one on to before another, have the segment in which an offset lies: the one that it belongs to, those
// that it is around, or all where no segment is there.
func (k *Kin) Sharing(at uint32) (from, to int, own bool) {
	i, _ := slices.BinarySearchFunc(k.pieces, at, func(p kindred, at uint32) int { return cmp.Compare(p.End, at+1) })
	if i == len(k.pieces) || k.pieces[i].Off > at {
		return 0, len(k.firsts), false
	}
	p := &k.pieces[i]
	switch {
	case p.unit < 0:
		from, to = k.under(i)
		return from, to, false
	case i+1 < len(k.pieces) && k.pieces[i+1].Off == p.Off: // others are under it, too
		_, to = k.under(i + 1)
		return p.unit, max(to, p.unit+1), false
	}
	return p.unit, p.unit + 1, true
}

// under tells which units a piece is context of.
func (k *Kin) under(i int) (from, to int) {
	to = len(k.firsts)
	if dead := k.pieces[i].dead; dead > 0 {
		to, _ = slices.BinarySearch(k.firsts, dead)
	}
	if _, top := slices.BinarySearch(k.tops, i); !top {
		from, _ = slices.BinarySearch(k.firsts, i)
	}
	return from, max(from, to)
}

// Fault is something that is wrong at a place in a message, and with all units that have it.
type Fault struct {
	Rule, Slot, At int
}

// Blame tells which of the units of a message, so many, the faults are those of: each unit once of each rule and slot.
func (k *Kin) Blame(faults []Fault, units int, say func(unit int, f Fault)) {
	if k.Units() != units { // there is none, and the message stands for it
		for u := range units {
			for _, f := range faults {
				say(u, f)
			}
		}
		return
	}
	slices.SortStableFunc(faults, func(a, b Fault) int { return cmp.Compare(a.At, b.At) })
	type kind struct{ rule, slot int }
	told, done := map[kind][]bool{}, map[kind]int{} // done: so far have all that segments are around been told
	for _, f := range faults {
		as := kind{f.Rule, f.Slot}
		if told[as] == nil {
			told[as] = make([]bool, k.Units())
		}
		from, to, own := k.Sharing(uint32(f.At))
		switch {
		case own:
		case from == 0 && done[as] == k.Units():
			continue
		default:
			if from > 0 {
				from = max(from, done[as])
			}
			done[as] = max(done[as], to)
		}
		for u := from; u < to; u++ {
			if !told[as][u] {
				told[as][u] = true
				say(u, f)
			}
		}
	}
}

// Stretches gives the segments that belong to a unit alone.
func (k *Kin) Stretches(unit int, take func(batch.Span)) {
	k.own(unit, func(p *kindred) { take(p.Span) })
}

func (k *Kin) own(unit int, take func(*kindred)) {
	for i := k.firsts[unit]; i < len(k.pieces); i++ {
		switch k.pieces[i].unit {
		case unit:
			take(&k.pieces[i])
		case -1:
		default:
			return
		}
	}
}

// Kindred prepares a walk through one message that finds which segments belong to its units.
func (c *Course) Kindred(structure *standard.Structure) *Kin {
	c.kin = &Kin{}
	c.Begin(0, structure)
	c.kin.structure = c.structure
	return c.kin
}

// Keep gives the segment at hand to the unit that it belongs to, or to what stands around units.
func (c *Course) Keep(name []byte, key uint32, from, to int) {
	if c.Last != "" && string(name) == c.Last { // it ends the levels
		c.levels, c.inside = c.levels[:0], false
		c.kin.Ends(0, 0, 0)
	}
	c.follow(name, key)
	n := c.kin.Units()
	switch {
	case c.is(c.Unit, key):
		c.enclose()
		c.kin.Own(from, to, n)
	case c.structure == nil:
		c.keepAmong(key, from, to)
	case c.inside:
		c.kin.Own(from, to, n-1)
	default:
		c.kin.Context(from, to, c.place, len(c.levels), !c.Close && len(c.levels) == 0 && c.top())
	}
	if c.structure != nil {
		p := &c.kin.pieces[len(c.kin.pieces)-1]
		if p.node = c.place; !c.structure.Chooses(name) {
			p.number = c.structure.Number(name)
		}
	}
}

// keepAmong does so where no structure is known: a segment of which something is wanted goes where that goes, another one with those around it.
func (c *Course) keepAmong(key uint32, from, to int) {
	c.kin.among = c.kin.among[:0]
	note, own := c.Close && key == c.note, false
	for i := c.of(c.parted[bucket(key)], key); i >= 0; i = c.of(c.Parts[i].next, key) {
		if c.Parts[i].table < 0 && !c.beneath(i) && c.enter(i) {
			if own = own || c.inside; !c.inside {
				c.kin.among = append(c.kin.among, i)
			}
		}
	}
	if own || c.inside && (!note || c.previous) { // it may be that, and what others are under
		c.kin.Own(from, to, c.kin.Units()-1)
		own = true
	}
	switch {
	case slices.Contains(c.nested, key): // levels see to themselves
		c.kin.Among(from, to, 0, len(c.levels))
	case len(c.kin.among) > 0 || !own && !note:
		c.kin.Among(from, to, key, len(c.levels))
	case !own:
		c.kin.Attached(from, to)
	}
}

// Stray gives what is no segment to what the segment before it was given to: it is told as wrong with that.
func (c *Course) Stray(from, to int) {
	switch {
	case c.inside:
		c.kin.Own(from, to, c.kin.Units()-1)
	case c.structure == nil:
		c.kin.Attached(from, to)
	default:
		c.kin.Context(from, to, c.place, len(c.levels), false)
	}
}

// top tells whether the segment that came last stands outside of all groups that units can be in.
func (c *Course) top() bool {
	if c.structure == nil {
		return false
	}
	for g := c.place; g > 0; g = c.structure.Nodes[g].Parent {
		if c.holding[g] {
			return false
		}
	}
	return true
}
