package segments

import (
	"fmt"
	"slices"
	"strings"
	"sync"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/place"
	"ydrion/core/shape"
	"ydrion/core/value"
)

// Wanted are the values that somebody wants of messages, and the segments that they are in.
type Wanted struct {
	Positions []Position // of the record by slot, behind them those of rows
	Fields    []string   // their names
	Slots     int        // of the record
	Parts     []Part
	Unit      int   // the part that is the record, -1: the message is
	Loops     Loops // that parts are in

	subs      bool // see Demand
	lists     []list
	parted    [buckets]int // the first part of each place
	beginning uint64       // the places of the parts that begin rows
	choosing  uint64       // the places of those that are chosen by an element
	crowded   bool         // there are very many in one place
	atlases   sync.Pool
}

// list is a list of the record or of a row: each segment of a part begins a row, or each repetition of
// one of its fields is one.
type list struct {
	part  int // that begins rows, -1: repetitions are the rows
	above int // the list that it is in, -1: none
	slots int
	inner []int // the lists in it
	parts []int // whose segments its rows take
}

// Part is a kind of segment of which values are wanted.
type Part struct {
	Name    string
	Element int // by whose first component it is chosen, 0: it is not
	Value   string
	Wants   []Want // in the order of the fields

	key    uint32
	table  int  // the list whose rows take it, -1: the record does
	loop   int  // that it is in, -1: none
	most   int  // of them are taken, 0: the first, or one that is named
	mostOf int  // the position of the last of those
	alone  bool // of several the first is taken, and nobody says that it is meant
	said   bool // that is said of one of its positions: NTE[1]-3
	told   int  // of which it is told that it is there, from 1; 0: of none
	next   int  // part with a name in the same place, -1: none
}

// Opened says which parts a position may mean any of.
type Opened uint8

const (
	Closed Opened = iota
	ToSubs
	ToComponents
)

// Want is a wanted value of a segment.
type Want struct {
	Slot                                          int    // in the row
	Nth                                           int    // among all positions
	Field, Occurrence, Repetition, Component, Sub int    // from 1
	By                                            int    // see Position
	Is                                            string // the same
	First                                         bool   // of the first repetition, component and subcomponent
	Number                                        bool   // and no mark is set for it
	Open                                          Opened // it may have parts, and the position does not say which is meant
	Alone                                         bool   // of several repetitions the first is taken, and nobody says that it is meant; noted at the first want of a field
	// Rows is the list whose rows the repetitions of the field are, -1: a value is wanted. Of
	// each of them these are.
	Rows  int
	Wants []Want
}

// NewWanted wants nothing yet. A unit is the segment that is a record; without one the message is.
func NewWanted(unit *Position) *Wanted {
	w := &Wanted{Unit: -1}
	if unit != nil {
		w.Unit = w.part(*unit, -1) // the first, so that it is open when its values are taken
	}
	w.index()
	return w
}

// Demand is how the positions of a standard are read and what is said of them.
type Demand struct {
	Code  string // of findings
	Parse func(path string) (Position, error)
	// Unknown says that the standard does not know a position, and what comes near.
	Unknown func(Position) (problem, near string)
	// Belongs tells whether a segment can stand in what belongs to another.
	Belongs func(segment, to string) bool
	// Level tells whether a segment begins a level of a hierarchy; nil: none does.
	Level func(segment string) bool
	// Subs tells whether components have parts of their own, and repetitions can be chosen by a component.
	Subs bool
	// Partly says that the standard has more than is described: what Unknown finds may be there.
	Partly bool
}

// Add wants the fields and lists of a shape. Findings of severity error say that no message can have them.
func (w *Wanted) Add(of shape.Shape, how Demand) finding.List {
	var out finding.List
	w.Slots, w.subs = len(of.Fields), how.Subs
	w.fields(of.Fields, -1, "", "", how, &out)
	tables := of.Tables()
	repeated := make([]bool, len(tables)) // their rows are repetitions of a field
	for n, t := range tables {
		l := list{part: -1, above: t.Above, slots: len(t.Fields)}
		above := ""
		if t.Above >= 0 {
			above = tables[t.Above].Name + " "
		}
		wrong := func(format string, args ...any) {
			f := finding.New(how.Code, place.Place{Line: 1, Column: 1, Path: above + t.Name}, "the list %s cannot be found: %s", t.Name, fmt.Sprintf(format, args...))
			out = append(out, f)
		}
		p, err := how.Parse(t.At())
		switch {
		case err != nil:
			wrong("%v", err)
		case p.Occurrence > 1 || p.Field > 0 && (p.Repetition > 1 || p.By > 0 || p.Component > 0):
			wrong("%s is one; a list is each segment of a name, such as %s, or each repetition of a field, such as %s-3", t.At(), p.Segment, p.Segment)
		case p.Field == 0 && w.Unit >= 0 && p.Segment == w.Parts[w.Unit].Name && !(how.Level != nil && how.Level(p.Segment) && w.Parts[w.Unit].Element > 0 && p.Value != w.Parts[w.Unit].Value):
			wrong("each %s is a record", p.Segment)
		case t.Above >= 0 && repeated[t.Above]:
			wrong("the repetitions of a field have no lists in them")
		case p.Field > 0:
			var inner []Want
			for i := range t.Fields {
				f := &t.Fields[i]
				in, err := how.Parse(f.At())
				if err == nil && (in.Part() != p.Part() || in.Field != p.Field || in.Repetition > 1 || in.By > 0) {
					err = fmt.Errorf("%s is not in a repetition of %s", f.At(), t.At())
				}
				inner = append(inner, w.want(in, f, i, how.Subs))
				if err != nil {
					out = append(out, finding.New(how.Code, place.Place{Line: 1, Column: 1, Path: t.Name + " " + f.Name}, "the field %s cannot be found: %v", f.Name, err))
				}
			}
			k := &w.Parts[w.part(p, t.Above)]
			repeated[n] = true
			k.add(Want{Field: p.Field, Occurrence: 1, Rows: n, Wants: inner})
		default:
			l.part = w.part(p, t.Above)
			w.fields(t.Fields, n, t.Name+" ", p.Segment, how, &out)
		}
		if l.above >= 0 {
			w.lists[l.above].inner = append(w.lists[l.above].inner, n)
		}
		w.lists = append(w.lists, l)
	}
	w.index()
	return out
}

// fields wants those of a record or, from 0 on, a list, whose rows begin with a segment.
func (w *Wanted) fields(of shape.Record, table int, list, begins string, how Demand, out *finding.List) {
	for i := range of {
		f := &of[i]
		at := place.Place{Line: 1, Column: 1, Path: list + f.Name}
		p, err := how.Parse(f.At())
		if err == nil && p.Field == 0 {
			err = fmt.Errorf("%q is a whole segment; name one of its fields, as in %s-1", f.At(), f.At())
		}
		want := w.want(p, f, i, how.Subs)
		if err != nil {
			*out = append(*out, finding.New(how.Code, at, "the field %s cannot be found: %v", f.Name, err))
			continue
		}
		if problem, near := how.Unknown(p); problem != "" {
			says := "no message that follows the standard has %s: %s"
			if how.Partly {
				says = "no description here has %s: %s"
			}
			unknown := finding.Warn(how.Code, at, says, f.At(), problem)
			unknown.Suggestion = near
			*out = append(*out, unknown)
		} else if first, _, _ := strings.Cut(p.Part(), "/"); begins != "" && !how.Belongs(Name(first), begins) {
			apart := finding.Warn(how.Code, at, "no row of %s has %s: in a message that follows the standard no %s belongs to %s", begins, f.At(), Name(first), begins)
			*out = append(*out, apart.Suggest("say record.%s for that of the record", f.At()))
		}
		k := &w.Parts[w.part(p, table)]
		if p.Occurrence > max(k.most, 1) {
			k.most, k.mostOf = p.Occurrence, want.Nth
		}
		if strings.Contains(f.At(), "[1]-") {
			k.said = true
		}
		want.Alone = p.By == 0 && want.Repetition == 1 && !strings.Contains(f.At(), fmt.Sprintf("-%d[1]", p.Field))
		k.add(want)
	}
}

// want notes a position that is wanted in a slot.
func (w *Wanted) want(p Position, f *shape.Field, slot int, subs bool) Want {
	n := Want{Slot: slot, Nth: len(w.Positions), Field: p.Field, Occurrence: p.Occurrence, Repetition: max(p.Repetition, 1), Component: max(p.Component, 1), Sub: max(p.Sub, 1), By: p.By, Is: p.Is, Rows: -1}
	switch {
	case p.Component == 0:
		n.Open = ToComponents
	case subs && p.Sub == 0:
		n.Open = ToSubs
	}
	n.First = p.By == 0 && n.Repetition == 1 && n.Component == 1 && n.Sub == 1
	n.Number = f.Kind == value.Number && (f.Decimal == 0 || f.Decimal == '.')
	w.Positions, w.Fields = append(w.Positions, p), append(w.Fields, f.Name)
	return n
}

// add puts a want behind those of its field.
func (k *Part) add(n Want) {
	at, _ := slices.BinarySearchFunc(k.Wants, n.Field+1, func(n Want, field int) int { return n.Field - field })
	for i := at - 1; i >= 0 && k.Wants[i].Field == n.Field; i-- {
		n.Alone = n.Alone && !k.Wants[i].Alone
	}
	k.Wants = slices.Insert(k.Wants, at, n)
}

// Placed tells whether it matters where in its message a segment stands.
func (w *Wanted) Placed() bool { return w.Unit >= 0 || w.Loops != nil || w.lists != nil }

// Lay makes room in a batch.
func (w *Wanted) Lay(b *batch.Batch) {
	b.Slots = w.Slots
	slots, above := make([]int, len(w.lists)), make([]int, len(w.lists))
	for i := range w.lists {
		slots[i], above[i] = w.lists[i].slots, w.lists[i].above
	}
	b.Lay(slots, above)
}

// part finds the part that a position is in, for the rows of a table.
func (w *Wanted) part(p Position, table int) int {
	loop := w.Loops.Add(p)
	i := slices.IndexFunc(w.Parts, func(k Part) bool {
		return k.Name == p.Segment && k.Element == p.Element && k.Value == p.Value && k.loop == loop && k.table == table
	})
	if i < 0 {
		i = len(w.Parts)
		w.Parts = append(w.Parts, Part{Name: p.Segment, key: key([]byte(p.Segment)), Element: p.Element, Value: p.Value, loop: loop, table: table})
	}
	return i
}

// index makes the parts of a name quick to find, in their order.
func (w *Wanted) index() {
	for i := range w.parted {
		w.parted[i] = -1
	}
	for i := range w.Parts {
		k := &w.Parts[i]
		k.alone = k.most == 0 && !k.said && slices.ContainsFunc(k.Wants, func(n Want) bool { return n.Rows < 0 })
		if k.told = 0; k.alone {
			k.told = 2
		} else if k.most > 0 {
			k.told = k.most + 1
		}
	}
	var together [buckets]int
	for i := len(w.Parts) - 1; i >= 0; i-- {
		at := bucket(w.Parts[i].key)
		w.Parts[i].next, w.parted[at] = w.parted[at], i
		if together[at]++; w.Parts[i].Element > 0 {
			w.choosing |= 1 << at
		}
		w.crowded = w.crowded || together[at] > mostChosen
	}
	for i := range w.lists {
		l := &w.lists[i]
		if l.parts = nil; l.part >= 0 {
			w.beginning |= 1 << bucket(w.Parts[l.part].key)
		}
		for k := range w.Parts {
			if w.Parts[k].table == i {
				l.parts = append(l.parts, k)
			}
		}
	}
}

// Name is the segment that the part of a position names.
func Name(part string) string {
	if i := strings.IndexAny(part, "(["); i >= 0 {
		return part[:i]
	}
	return part
}

// upper tells whether a name has capital letters and, behind the first, digits alone.
func upper(name []byte) bool {
	for i, c := range name {
		if (c < 'A' || c > 'Z') && (i == 0 || c < '0' || c > '9') {
			return false
		}
	}
	return true
}

// key is a segment's name as a number.
func key(name []byte) (k uint32) {
	for _, c := range name {
		k = k<<8 | uint32(c)
	}
	return k
}

// wholeKey is up to how many characters two names are the same if their keys are.
const wholeKey = 3

func segmentKey(name string) (k uint32) {
	for i := range len(name) {
		k = k<<8 | uint32(name[i])
	}
	return k
}

// buckets is how many places there are for names of segments.
const buckets = 64

// bucket is a name's place.
func bucket(key uint32) uint32 { return spread(key) >> 26 }

// spread is a number whose first bits differ where names do.
func spread(key uint32) uint32 { return key * 0x9E3779B1 }
