package segments

import (
	"slices"

	"ydrion/core/standard"
)

// Loop is what a path such as N1(BY)/N3-1 names before the last slash: a segment, maybe with a value by
// which it is chosen, and maybe within another. To it belong the segments of its group in the structure of
// the message, and those that begin a group within that. Where no structure is known, they are all that
// follow it, up to the next segment of its name; a note belongs to the segment that it follows.
type Loop struct {
	Segment string
	Element int // by whose first component it is chosen, 0: it is not
	Value   string
	Outer   int // the loop that it is in, -1: none
}

// Loops are those that wanted values are in. Each stands behind the one that it is in.
type Loops []Loop

// Add gives the number of the loop that a path names; -1: it names none.
func (l *Loops) Add(p Position) int {
	if p.Within == "" {
		return -1
	}
	in, err := ParsePosition(p.Within)
	if err != nil {
		return -1 // it has been read before
	}
	loop := Loop{in.Segment, in.Element, in.Value, l.Add(in)}
	i := slices.Index(*l, loop)
	if i < 0 {
		i = len(*l)
		*l = append(*l, loop)
	}
	return i
}

// Looping follows a message and knows which of its loops are open.
type Looping struct {
	// Units tells that units are under the loops: those that they are not under any more are forgotten.
	Units bool
	// Again are the loops that the last segment has opened again.
	Again []int

	loops  Loops
	states []loopState
	notes  string // the segment that belongs to the one that it follows; empty: there is none
	last   string // the segment that came last, but notes
	note   bool   // the one that came last is a note
}

type loopState struct {
	open   bool
	closed bool // it has been open, and the first is meant
	fresh  bool // what comes belongs to something else than what came
	node   int  // where it stands in the structure
	group  int
}

// Begin is called before the first segment of a message. Notes is the segment that belongs to the one that it
// follows, in messages that are not described.
func (k *Looping) Begin(loops Loops, units bool, notes string) {
	k.loops, k.Units, k.notes, k.last, k.note = loops, units, notes, "", false
	k.states = append(k.states[:0], make([]loopState, len(loops))...)
}

// Renew is called before the segment that begins a unit.
func (k *Looping) Renew() {
	for i := range k.states {
		k.states[i].closed, k.states[i].fresh = false, true
	}
}

// Ends is called where what stood at nodes of a structure, from one on to before another, is no context
// any more.
func (k *Looping) Ends(from, to int) {
	for i := range k.states {
		if s := &k.states[i]; s.node >= from && s.node < to {
			s.closed, s.fresh = false, true
		}
	}
}

// Segment is called for each segment with its step in the structure, if there is one. Is tells whether it has
// the value by which a loop is chosen; level, that it begins a level of a hierarchy, which ends the one
// before; late, that it comes later than it should, and ends nothing.
func (k *Looping) Segment(name []byte, structure *standard.Structure, step *standard.Step, level, late bool, is func(*Loop) bool) {
	if k.note = string(name) == k.notes; !k.note && k.last != string(name) {
		k.last = string(name)
	}
	k.Again = k.Again[:0]
	moved := structure != nil && step != nil && step.Node >= 0
	for i := range k.loops {
		l, s := &k.loops[i], &k.states[i]
		if s.open && (string(name) == l.Segment || level || l.Outer >= 0 && !k.states[l.Outer].open ||
			moved && !late && s.group > 0 && (step.Started <= s.group || step.Node >= structure.Nodes[s.group].End)) {
			s.open, s.closed = false, !s.fresh
		}
		came := s.closed
		s.fresh = false
		latest := k.Units && (structure == nil || level) // nothing else says where another one ends
		if string(name) != l.Segment || came && !latest || l.Outer >= 0 && !k.in(l.Outer, structure, step) || l.Element > 0 && !is(l) {
			continue
		}
		if came {
			k.Again = append(k.Again, i)
		}
		*s = loopState{open: true}
		if moved {
			s.node, s.group = step.Node, structure.Nodes[step.Node].Parent
		}
		for j := range k.loops {
			if k.loops[j].Outer == i {
				k.states[j].closed = false
			}
		}
	}
}

// Within tells whether a loop is another or in it.
func (l Loops) Within(loop, outer int) bool {
	for loop >= 0 && loop != outer {
		loop = l[loop].Outer
	}
	return loop >= 0
}

// In tells whether the segment that came last belongs to a loop.
func (k *Looping) In(loop int, structure *standard.Structure, step *standard.Step) bool {
	return loop < 0 || k.in(loop, structure, step)
}

func (k *Looping) in(loop int, structure *standard.Structure, step *standard.Step) bool {
	s := &k.states[loop]
	switch {
	case !s.open:
		return false
	case k.note && structure == nil:
		return k.last == k.loops[loop].Segment
	case structure == nil || step == nil || step.Node < 0 || step.Node == s.node || s.node == 0:
		return true
	}
	parent := structure.Nodes[step.Node].Parent
	return parent == s.group || parent+1 == step.Node && structure.Nodes[parent].Parent == s.group
}
