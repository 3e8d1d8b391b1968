package segments

import (
	"cmp"
	"slices"

	"ydrion/core/batch"
)

// Kin tells which segments of a message belong to one unit alone, and which are context of some: what
// a unit takes along when it is rejected. It is made in one walk through a message and asked for its
// units in their order, so that all of them together cost one walk and what they take.
type Kin struct {
	pieces []kindred
	alive  []int // context of the units that have not been asked for, as it was when the walk came by
	firsts []int // the first piece of each unit
	tops   []int // context that stands outside of all groups which units can be in

	context []int // of the unit that was asked for last
	at      int   // behind the pieces that context was chosen from
	unit    int
}

// kindred is a segment.
type kindred struct {
	batch.Span
	unit        int // that it belongs to, -1: it is context
	node, level int // where it stands in the structure, and in a hierarchy
	dead        int // behind this piece it is no context any more, 0: it is to the end
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
	if k.alive = append(k.alive, len(k.pieces)); top {
		k.tops = append(k.tops, len(k.pieces))
	}
	k.pieces = append(k.pieces, kindred{Span: batch.Span{Off: uint32(from), End: uint32(to)}, unit: -1, node: node, level: level})
}

// Ends takes away what is no context any more: segments that stand at nodes of a structure from
// one on to before another, or in a hierarchy below a level.
func (k *Kin) Ends(from, to, level int) {
	k.alive = slices.DeleteFunc(k.alive, func(i int) bool {
		p := &k.pieces[i]
		gone := p.node > 0 && p.node >= from && p.node < to || p.level > level
		if gone {
			p.dead = len(k.pieces)
		}
		return gone
	})
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
	k.Stretches(unit, take)
	top, _ := slices.BinarySearch(k.tops, first)
	for _, i := range k.tops[top:] {
		take(k.pieces[i].Span)
	}
}

// Stretches gives the segments that belong to a unit alone.
func (k *Kin) Stretches(unit int, take func(batch.Span)) {
	for i := k.firsts[unit]; i < len(k.pieces); i++ {
		switch k.pieces[i].unit {
		case unit:
			take(k.pieces[i].Span)
		case -1:
		default:
			return
		}
	}
}
