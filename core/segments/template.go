package segments

import (
	"slices"
	"strings"

	"ydrion/core/finding"
	"ydrion/core/format"
	"ydrion/core/place"
)

// Template is a sample message that maps are laid out on: which segments there are, in
// which order, and which values the sample carries over.
type Template struct {
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

// Node is a field, repetition, component or subcomponent being laid out: either parts, or
// a leaf that is a constant or an expression.
type Node struct {
	Parts      map[int]*Node
	Constant   string // as it is written in the sample
	Expression int    // -1: none
	Leaf       bool
}

func newSlot() *Node { return &Node{Expression: -1} }

// Part gives a part, which it makes if there is none.
func (n *Node) Part(i int) *Node {
	if n.Parts == nil {
		n.Parts = map[int]*Node{}
	}
	c, ok := n.Parts[i]
	if !ok {
		c = newSlot()
		n.Parts[i] = c
	}
	return c
}

// Last is the number of the last part.
func (n *Node) Last() int {
	last := 0
	for i := range n.Parts {
		last = max(last, i)
	}
	return last
}

// First is the leaf that stands first in a slot; nil if nothing does.
func (n *Node) First() *Node {
	for n != nil && !n.Leaf {
		n = n.Parts[1]
	}
	return n
}

// SegmentLayout is a segment being laid out.
type SegmentLayout struct {
	Name   string
	Fields *Node

	part      string
	condition int // of dropping or adding, -1: none
	adding    bool
	dropped   bool
	blocks    []*Block // that repeat it, the outermost first
}

// Block is a stretch of segments that is written for each row of a list: from the segment that it names to
// the last one that something is said about in it.
type Block struct {
	*format.Repeated
	outer *Block
	part  string
	named map[string]bool // the parts that something is said about
}

// In tells whether the segment is repeated.
func (p *SegmentLayout) In() bool { return len(p.blocks) > 0 }

// Optional tells whether the segment depends on a condition.
func (p *SegmentLayout) Optional() bool { return p.condition >= 0 && !p.dropped }

// sampleValue is a value that the sample carries over unless told otherwise.
type sampleValue struct {
	at    Position
	value string
	used  bool
}

// each calls f for all segments of the sample with their positions.
func (t *Template) each(f func(s *Sampled, at Position)) {
	count := map[string]int{}
	for i := range t.Segments {
		s := &t.Segments[i]
		count[s.Name]++
		f(s, Position{Segment: s.Name, Occurrence: count[s.Name], Repetition: 1})
	}
}

func (t *Template) values() []*sampleValue {
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
func (t *Template) Plan(in format.Instructions) ([]*SegmentLayout, finding.List) {
	var out finding.List
	values := t.values()
	var plans []*SegmentLayout
	t.each(func(s *Sampled, at Position) {
		plans = append(plans, &SegmentLayout{Name: s.Name, part: at.Part(), Fields: newSlot(), condition: -1})
	})
	blocks := t.blocks(in.Repeat, nil)
	for _, k := range blocks {
		out = append(out, k.lay(plans, t.File)...)
	}
	said := func(k *Block, n format.Named, part string) { // what is said of a segment stands in its block
		for _, p := range plans {
			if p.part != part {
				continue
			}
			var in *Block
			if len(p.blocks) > 0 {
				in = p.blocks[len(p.blocks)-1]
			}
			if in != k && in != nil {
				f := finding.New("map.repeat", n.At, "%s is repeated with %s, and this is said outside of that block", part, in.part)
				out = append(out, f.Suggest("say it within `repeat %s for …`", in.part))
			}
		}
	}
	find := func(part string) *SegmentLayout {
		if i := slices.IndexFunc(plans, func(p *SegmentLayout) bool { return p.part == part }); i >= 0 {
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
	all := []*format.Instructions{&in}
	within := []*Block{nil}
	for _, k := range blocks {
		all, within = append(all, &k.Body), append(within, k)
	}
	for i, in := range all {
		k := within[i]
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
			said(k, a.Named, at.Part())
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
			said(k, d.Named, d.Path)
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
	for i, in := range all {
		plans = t.insert(plans, in.Add, within[i], &out)
	}
	return slices.DeleteFunc(plans, func(p *SegmentLayout) bool { return p.dropped }), out
}

// blocks are those of instructions, each before those within it.
func (t *Template) blocks(repeated []format.Repeated, outer *Block) (out []*Block) {
	for i := range repeated {
		r := &repeated[i]
		k := &Block{Repeated: r, outer: outer, part: r.Path, named: map[string]bool{r.Path: true}}
		name := func(path string) {
			if at, err := t.Parse(path); err == nil {
				for k := k; k != nil; k = k.outer {
					k.named[at.Part()] = true
				}
			}
		}
		for k := outer; k != nil; k = k.outer {
			k.named[r.Path] = true
		}
		for _, a := range r.Body.Assign {
			name(a.Path)
		}
		for _, n := range append(slices.Clone(r.Body.Keep), r.Body.Clear...) {
			name(n.Path)
		}
		for _, d := range r.Body.Drop {
			name(d.Path)
		}
		out = append(append(out, k), t.blocks(r.Body.Repeat, k)...)
	}
	return out
}

// lay finds the segments of a block.
func (k *Block) lay(plans []*SegmentLayout, file string) finding.List {
	first, last := -1, -1
	for i, p := range plans {
		switch {
		case !k.named[p.part]:
		case p.part == k.part:
			first, last = i, i
		case first < 0:
			f := finding.New("map.repeat", k.At, "%s stands before %s in the sample %s, and is said in the block that repeats %s", p.part, k.part, file, k.part)
			return finding.List{f.Suggest("the block begins with the segment that it names: `repeat %s for …`", p.part)}
		default:
			last = i
		}
	}
	if first < 0 {
		return finding.List{finding.New("map.repeat", k.At, "the sample %s has no segment %s, which stands for all that are repeated", file, k.part)}
	}
	for _, p := range plans[first : last+1] {
		if in := len(p.blocks); in > 0 && p.blocks[in-1] != k.outer || in == 0 && k.outer != nil {
			return finding.List{finding.New("map.repeat", k.At, "%s is repeated in another block, too", p.part)}
		}
		p.blocks = append(p.blocks, k)
	}
	return nil
}

// insert puts added segments after the last of their name, or at the end.
func (t *Template) insert(plans []*SegmentLayout, added []format.Added, in *Block, out *finding.List) []*SegmentLayout {
	for _, a := range added {
		at, err := t.Parse(a.Path)
		if err != nil || at.Field != 0 || at.Occurrence != 1 || at.Element != 0 || t.Given(at.Segment, 1) {
			*out = append(*out, finding.New("map.segment", a.At, "%q cannot be added: name a segment, as it stands within a message", a.Path))
			continue
		}
		p := &SegmentLayout{Name: a.Path, part: a.Path, Fields: newSlot(), condition: a.Condition, adding: true}
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
			if q.Name == a.Path && (in == nil || slices.Contains(q.blocks, in)) {
				where = i + 1
			}
		}
		if where < 0 && in != nil { // behind all others of the block
			where = 1 + slices.IndexFunc(plans, func(q *SegmentLayout) bool { return slices.Contains(q.blocks, in) })
			for where < len(plans) && slices.Contains(plans[where].blocks, in) {
				where++
			}
		}
		for k := in; k != nil; k = k.outer {
			p.blocks = append([]*Block{k}, p.blocks...)
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

func (p *SegmentLayout) assign(at Position, a format.Assignment) finding.List {
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
	Blank   *Template
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
func (w *Composer) When(p *SegmentLayout, write func()) {
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

// Each writes segments one after the other, those of a block for each of its rows.
func (w *Composer) Each(plans []*SegmentLayout, write func(*SegmentLayout)) {
	var open []*Block
	for _, p := range plans {
		same := 0
		for same < len(open) && same < len(p.blocks) && open[same] == p.blocks[same] {
			same++
		}
		open = w.close(open, same)
		for _, k := range p.blocks[same:] {
			if k.Condition >= 0 {
				w.Piece(format.Piece{Kind: format.If, Expression: k.Condition})
			}
			w.Piece(format.Piece{Kind: format.Each, Number: k.Loop})
			open = append(open, k)
		}
		w.When(p, func() { write(p) })
	}
	w.close(open, 0)
}

// close ends blocks but for so many.
func (w *Composer) close(open []*Block, but int) []*Block {
	for ; len(open) > but; open = open[:len(open)-1] {
		w.Piece(format.Piece{Kind: format.End})
		if open[len(open)-1].Condition >= 0 {
			w.Piece(format.Piece{Kind: format.End})
		}
	}
	return open
}

// Fields writes fields from a number on, each behind a separator. Separators behind the last
// value are left out.
func (w *Composer) Fields(p *SegmentLayout, first int) {
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
func (w *Composer) parts(n *Node, separators []byte) {
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
