package segments

import (
	"slices"

	"ydrion/core/shape"
	"ydrion/core/value"
)

// Wanted are the values that somebody wants of messages, and the segments that they are in.
type Wanted struct {
	Positions []Position // by slot
	Fields    []string   // their names
	Parts     []Part
	Unit      int   // the part that is the record, -1: the message is
	Loops     Loops // that parts are in

	parted [buckets]int // the first part of each place
}

// Part is a kind of segment of which values are wanted.
type Part struct {
	Name    string
	Element int // by whose first component it is chosen, 0: it is not
	Value   string
	Wants   []Want // in the order of the fields

	key    uint32
	loop   int // that it is in, -1: none
	most   int // of them are taken, 0: the first, or one that is named
	mostOf int // the slot of the last of those
	next   int // part with a name in the same place, -1: none
}

// Want is a wanted value of a segment.
type Want struct {
	Slot                                          int
	Field, Occurrence, Repetition, Component, Sub int // from 1
	By                                            int // see Position
	Is                                            string
	First                                         bool // of the first repetition, component and subcomponent
	Number                                        bool // and no mark is set for it
}

// NewWanted wants nothing yet. A unit is the segment that is a record; without one the message is.
func NewWanted(unit *Position) *Wanted {
	w := &Wanted{Unit: -1}
	if unit != nil {
		w.Unit = w.part(*unit) // the first, so that it is open when its values are taken
	}
	w.index()
	return w
}

// Add wants the value at a position in the slot of its number.
func (w *Wanted) Add(p Position, f *shape.Field) {
	slot := len(w.Positions)
	w.Positions, w.Fields = append(w.Positions, p), append(w.Fields, f.Name)
	if p.Field == 0 {
		return
	}
	k := &w.Parts[w.part(p)]
	if p.Occurrence > max(k.most, 1) {
		k.most, k.mostOf = p.Occurrence, slot
	}
	want := Want{Slot: slot, Field: p.Field, Occurrence: p.Occurrence, Repetition: max(p.Repetition, 1), Component: max(p.Component, 1), Sub: max(p.Sub, 1), By: p.By, Is: p.Is}
	want.First = p.By == 0 && want.Repetition == 1 && want.Component == 1 && want.Sub == 1
	want.Number = f.Kind == value.Number && (f.Decimal == 0 || f.Decimal == '.')
	at, _ := slices.BinarySearchFunc(k.Wants, p.Field+1, func(n Want, field int) int { return n.Field - field })
	k.Wants = slices.Insert(k.Wants, at, want)
	w.index()
}

// part finds the part that a position is in.
func (w *Wanted) part(p Position) int {
	loop := w.Loops.Add(p)
	i := slices.IndexFunc(w.Parts, func(k Part) bool {
		return k.Name == p.Segment && k.Element == p.Element && k.Value == p.Value && k.loop == loop
	})
	if i < 0 {
		i = len(w.Parts)
		w.Parts = append(w.Parts, Part{Name: p.Segment, key: key([]byte(p.Segment)), Element: p.Element, Value: p.Value, loop: loop})
	}
	return i
}

// index makes the parts of a name quick to find, in their order.
func (w *Wanted) index() {
	for i := range w.parted {
		w.parted[i] = -1
	}
	for i := len(w.Parts) - 1; i >= 0; i-- {
		at := bucket(w.Parts[i].key)
		w.Parts[i].next, w.parted[at] = w.parted[at], i
	}
}

// key is a segment's name as a number.
func key(name []byte) (k uint32) {
	for _, c := range name {
		k = k<<8 | uint32(c)
	}
	return k
}

// buckets is how many places there are for names of segments.
const buckets = 64

// bucket is a name's place.
func bucket(key uint32) uint32 { return (key * 0x9E3779B1) >> 26 }
