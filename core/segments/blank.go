package segments

import (
	"slices"
	"strings"

	"ydrion/core/finding"
	"ydrion/core/format"
	"ydrion/core/place"
)

// Blank is a sample message that maps are laid out on: which segments there are, in
// which order, and which values the sample carries over.
type Blank struct {
	File     string
	Segments []Sampled
	// Separators are those of fields, repetitions, components and subcomponents, which
	// a message may not have.
	Separators [4]byte
	Release    byte                           // takes its meaning from what follows it; 0: none
	Plain      func(written string) string    // undoes escapes, for people
	Parse      func(string) (Position, error) // reads a map's position
	// Given tells of values that are not the map's to say: separators, what is computed.
	Given func(segment string, field int) bool
	// Strict takes added segments only where the sample has their like.
	Strict bool
}

// Sampled is a segment of a sample. Fields[0] is field 1: repetitions of components of
// subcomponents, as they are written.
type Sampled struct {
	Name   string
	Fields [][][][]string
}

// Slot is a field, repetition, component or subcomponent being laid out: either parts, or
// a leaf that is a constant or an expression.
type Slot struct {
	Parts      map[int]*Slot
	Constant   string // as it is written in the sample
	Expression int    // -1: none
	Leaf       bool
}

func newSlot() *Slot { return &Slot{Expression: -1} }

// Part gives a part, which it makes if there is none.
func (n *Slot) Part(i int) *Slot {
	if n.Parts == nil {
		n.Parts = map[int]*Slot{}
	}
	c, ok := n.Parts[i]
	if !ok {
		c = newSlot()
		n.Parts[i] = c
	}
	return c
}

// Last is the number of the last part.
func (n *Slot) Last() int {
	last := 0
	for i := range n.Parts {
		last = max(last, i)
	}
	return last
}

// First is the leaf that stands first in a slot; nil if nothing does.
func (n *Slot) First() *Slot {
	for n != nil && !n.Leaf {
		n = n.Parts[1]
	}
	return n
}

// Planned is a segment being laid out.
type Planned struct {
	Name   string
	Fields *Slot

	part      string
	condition int // of dropping or adding, -1: none
	adding    bool
	dropped   bool
}

// Optional tells whether the segment depends on a condition.
func (p *Planned) Optional() bool { return p.condition >= 0 && !p.dropped }

// sampleValue is a value that the sample carries over unless told otherwise.
type sampleValue struct {
	at    Position
	value string
	used  bool
}

// each calls f for all segments of the sample with their positions.
func (t *Blank) each(f func(s *Sampled, at Position)) {
	count := map[string]int{}
	for i := range t.Segments {
		s := &t.Segments[i]
		count[s.Name]++
		f(s, Position{Segment: s.Name, Occurrence: count[s.Name], Repetition: 1})
	}
}

func (t *Blank) values() []*sampleValue {
	var out []*sampleValue
	t.each(func(s *Sampled, at Position) {
		for f, field := range s.Fields {
			at.Field = f + 1
			if t.Given(s.Name, at.Field) {
				continue
			}
			for r, repetition := range field {
				for c, component := range repetition {
					for b, sub := range component {
						if at.Repetition, at.Component, at.Sub = r+1, c+1, b+1; strings.TrimRight(sub, " ") != "" {
							out = append(out, &sampleValue{at: at, value: sub})
						}
					}
				}
			}
		}
	})
	return out
}

// Plan puts a map's instructions and the sample together. All values of the sample must be
// accounted for.
func (t *Blank) Plan(in format.Instructions) ([]*Planned, finding.List) {
	var out finding.List
	values := t.values()
	var plans []*Planned
	t.each(func(s *Sampled, at Position) {
		plans = append(plans, &Planned{Name: s.Name, part: at.Part(), Fields: newSlot(), condition: -1})
	})
	find := func(part string) *Planned {
		if i := slices.IndexFunc(plans, func(p *Planned) bool { return p.part == part }); i >= 0 {
			return plans[i]
		}
		return nil
	}
	unknown := func(n format.Named, part string) {
		var names []string
		for _, p := range plans {
			names = append(names, p.part)
		}
		f := finding.New("map.segment-unknown", n.At, "the sample %s has no segment %s; it has %s", t.File, part, strings.Join(names, " "))
		if t.Strict {
			f = f.Suggest("put the segment into the sample, and `drop` it when it is not wanted")
		} else {
			f = f.Suggest("add the segment with `add %s … end`, or put it into the sample", strings.SplitN(part, "[", 2)[0])
		}
		out = append(out, f)
	}
	cover := func(names []format.Named, mark func(*sampleValue)) {
		for _, n := range names {
			at, err := t.Parse(n.Path)
			if err != nil {
				out = append(out, finding.New("map.position", n.At, "%v", err))
				continue
			}
			hit := false
			for _, v := range values {
				if at.covers(v.at) {
					hit = true
					mark(v)
				}
			}
			if !hit {
				out = append(out, finding.New("map.nothing-there", n.At, "the sample %s has no value at %s", t.File, n.Path))
			}
		}
	}
	for _, a := range in.Assign {
		at, err := t.Parse(a.Path)
		if err != nil {
			continue // it has been complained about
		}
		p := find(at.Part())
		if p == nil {
			unknown(a.Named, at.Part())
			continue
		}
		out = append(out, p.assign(at, a)...)
		for _, v := range values {
			if at.covers(v.at) {
				v.used = true
			}
		}
	}
	cover(in.Clear, func(v *sampleValue) { v.used = true })
	cover(in.Keep, func(v *sampleValue) {
		if v.used {
			return
		}
		v.used = true
		n := find(v.at.Part()).Fields.Part(v.at.Field).Part(v.at.Repetition).Part(v.at.Component).Part(v.at.Sub)
		n.Leaf, n.Constant = true, v.value
	})
	for _, d := range in.Drop {
		p := find(d.Path)
		if p == nil {
			unknown(d.Named, d.Path)
			continue
		}
		if p.dropped || p.condition >= 0 {
			out = append(out, finding.New("map.twice", d.At, "%s is dropped twice", d.Path))
			continue
		}
		p.dropped, p.condition = d.Condition < 0, d.Condition
		for _, v := range values {
			if p.dropped && v.at.Part() == d.Path {
				v.used = true
			}
		}
	}
	for _, v := range values {
		if !v.used {
			f := finding.New("map.sample-value", place.InFile(""), "the sample's value %q at %s would go into every message", t.Plain(v.value), v.at.Short())
			if len(in.Keep) > 0 {
				f.Place = in.Keep[0].At
			}
			out = append(out, f.Suggest("say `keep %s` if it is a constant, `clear %s` if not, or assign it", v.at.Short(), v.at.Short()))
		}
	}
	plans = t.insert(plans, in.Add, &out)
	return slices.DeleteFunc(plans, func(p *Planned) bool { return p.dropped }), out
}

// insert puts added segments after the last of their name, or at the end.
func (t *Blank) insert(plans []*Planned, added []format.Added, out *finding.List) []*Planned {
	for _, a := range added {
		at, err := t.Parse(a.Path)
		if err != nil || at.Field != 0 || at.Occurrence != 1 || at.Element != 0 || t.Given(at.Segment, 1) {
			*out = append(*out, finding.New("map.segment", a.At, "%q cannot be added: name a segment, as it stands within a message", a.Path))
			continue
		}
		p := &Planned{Name: a.Path, part: a.Path, Fields: newSlot(), condition: a.Condition, adding: true}
		for _, line := range a.Assign {
			at, _ := t.Parse(line.Path)
			if at.Segment != a.Path || at.Occurrence != 1 {
				*out = append(*out, finding.New("map.segment", line.At, "%s is not in the segment that is added here, %s", line.Path, a.Path))
				continue
			}
			*out = append(*out, p.assign(at, line)...)
		}
		where := -1
		for i, q := range plans {
			if q.Name == a.Path {
				where = i + 1
			}
		}
		if where < 0 && t.Strict {
			*out = append(*out, finding.New("map.segment", a.At, "the sample %s has no %s that this one could follow", t.File, a.Path).Suggest("put the segment into the sample, and `drop` it when it is not wanted"))
			continue
		}
		if where < 0 {
			where = len(plans)
		}
		plans = slices.Insert(plans, where, p)
	}
	return plans
}

func (p *Planned) assign(at Position, a format.Assignment) finding.List {
	n := p.Fields.Part(at.Field).Part(at.Repetition)
	for _, i := range []int{at.Component, at.Sub} {
		if i == 0 {
			break
		}
		if n.Leaf {
			return finding.List{finding.New("map.twice", a.At, "%s lies within a position that is already assigned", a.Path)}
		}
		n = n.Part(i)
	}
	if n.Leaf || len(n.Parts) > 0 {
		return finding.List{finding.New("map.twice", a.At, "%s is assigned twice", a.Path)}
	}
	n.Leaf, n.Expression = true, a.Expression
	return nil
}

// Composer collects pieces, joining constants.
type Composer struct {
	Blank   *Blank
	pieces  []format.Piece
	literal []byte
	dynamic bool // the last thing written can be empty
}

// Pieces gives what has been collected, and begins anew.
func (w *Composer) Pieces() []format.Piece {
	w.flush()
	pieces := w.pieces
	w.pieces = nil
	return pieces
}

func (w *Composer) flush() {
	if len(w.literal) > 0 {
		w.pieces = append(w.pieces, format.Piece{Kind: format.Literal, Bytes: w.literal})
		w.literal = nil
	}
}

// Text writes a constant.
func (w *Composer) Text(s string) {
	if s != "" {
		w.literal = append(w.literal, s...)
		w.dynamic = false
	}
}

// Piece writes anything.
func (w *Composer) Piece(p format.Piece) {
	w.flush()
	w.pieces = append(w.pieces, p)
}

// When writes what depends on a segment's condition, if it has one.
func (w *Composer) When(p *Planned, write func()) {
	if !p.Optional() {
		write()
		return
	}
	kind := format.Unless
	if p.adding {
		kind = format.If
	}
	w.Piece(format.Piece{Kind: kind, Expression: p.condition})
	write()
	w.Piece(format.Piece{Kind: format.End})
}

// Fields writes fields from a number on, each behind a separator. Separators behind the last
// value are left out.
func (w *Composer) Fields(p *Planned, first int) {
	for f := first; f <= p.Fields.Last(); f++ {
		w.literal = append(w.literal, w.Blank.Separators[0])
		if n, ok := p.Fields.Parts[f]; ok {
			w.parts(n, w.Blank.Separators[1:])
		}
	}
	w.trim(w.Blank.Separators[:1])
}

// trim takes separators off that follow the last value, where that is only
// known when a record is written.
func (w *Composer) trim(separators []byte) {
	if w.dynamic {
		w.Piece(format.Piece{Kind: format.Trim, Bytes: separators, Release: w.Blank.Release})
	}
}

// parts writes a slot whose parts are separated by the first separator.
func (w *Composer) parts(n *Slot, separators []byte) {
	if n.Leaf {
		if n.Expression >= 0 {
			w.Piece(format.Piece{Kind: format.Value, Expression: n.Expression})
			w.dynamic = true
			return
		}
		w.Text(n.Constant)
		return
	}
	last := n.Last()
	for i := 1; i <= last; i++ {
		if i > 1 {
			w.literal = append(w.literal, separators[0])
		}
		if c, ok := n.Parts[i]; ok {
			w.parts(c, separators[1:])
		}
	}
	if last > 1 {
		w.trim(separators)
	}
}
