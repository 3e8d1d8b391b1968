package hl7

import (
	"fmt"
	"strings"

	"ydrion/core/finding"
	"ydrion/core/format"
	"ydrion/core/place"
	"ydrion/core/text"
)

// Target lays a map out on a sample message: which segments there are, in
// which order, and which values the sample carries over.
type Target struct {
	file    string
	source  []byte
	sample  *Message
	escapes *text.Escapes
	end     string // of a segment
}

// NewTarget takes the sample message apart.
func NewTarget(file string, sample []byte) (*Target, error) {
	m, err := Parse(sample)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	return &Target{file: file, source: sample, sample: m, escapes: m.Separators.Escapes(), end: "\r"}, nil
}

var _ format.Target = (*Target)(nil)

// EndAsSample makes segments end as those of the sample do, instead of with CR (2.5.4).
func (t *Target) EndAsSample() {
	first, rest, _ := strings.Cut(string(t.source), "\n")
	switch {
	case rest == "" && !strings.HasSuffix(string(t.source), "\n"):
	case strings.HasSuffix(first, "\r"):
		t.end = "\r\n"
	case !strings.Contains(first, "\r"):
		t.end = "\n"
	}
}

// Escapes is the table for the sample's separators.
func (t *Target) Escapes() *text.Escapes { return t.escapes }

// Null is how a field is told to be deleted (2.5.3, "the null value").
func (t *Target) Null() (string, bool) { return `""`, true }

// Frame is nothing: each message stands for itself.
func (t *Target) Frame() format.Frame { return format.Frame{} }

// Position finds a position; its segment must be in the sample or be added.
func (t *Target) Position(p string) (format.Position, error) {
	at, err := parsePath(p)
	if err != nil {
		return format.Position{}, err
	}
	if at.field == 0 {
		return format.Position{}, fmt.Errorf("%q is a whole segment; name one of its fields, as in %s-1", p, p)
	}
	if at.segment == "MSH" && at.field <= 2 {
		return format.Position{}, fmt.Errorf("%s says the separators and follows the sample", p)
	}
	return format.Position{Key: at.String(), Segment: at.part()}, nil
}

// Part finds a segment of the sample.
func (t *Target) Part(p string) (string, error) {
	at, err := parsePath(p)
	if err != nil {
		return "", err
	}
	if at.field != 0 {
		return "", fmt.Errorf("%q is a field; name a segment, as in %s", p, at.part())
	}
	return at.part(), nil
}

// node is a field, repetition, component or subcomponent being laid out:
// either children, or a leaf that is a constant or an expression.
type node struct {
	children   map[int]*node
	constant   string // escaped as in the sample
	expression int    // -1: none
	leaf       bool
}

func newNode() *node { return &node{expression: -1} }

func (n *node) child(i int) *node {
	if n.children == nil {
		n.children = map[int]*node{}
	}
	c, ok := n.children[i]
	if !ok {
		c = newNode()
		n.children[i] = c
	}
	return c
}

func (n *node) last() int {
	last := 0
	for i := range n.children {
		last = max(last, i)
	}
	return last
}

// plan is a segment being laid out.
type plan struct {
	name      string
	part      string
	fields    *node
	condition int // of dropping or adding
	adding    bool
	dropped   bool
	optional  bool
}

func (t *Target) plans() []*plan {
	var out []*plan
	count := map[string]int{}
	for _, s := range t.sample.Segments {
		count[s.Name]++
		at := path{segment: s.Name, occurrence: count[s.Name]}
		out = append(out, &plan{name: s.Name, part: at.part(), fields: newNode(), condition: -1})
	}
	return out
}

// sampleValue is a value that the sample carries over unless told otherwise.
type sampleValue struct {
	at     path
	value  string
	offset int
	used   bool
}

func (t *Target) sampleValues() []*sampleValue {
	var out []*sampleValue
	count := map[string]int{}
	for _, s := range t.sample.Segments {
		count[s.Name]++
		for f, field := range s.Fields {
			if s.Name == "MSH" && f < 2 {
				continue
			}
			for r, repetition := range field {
				for c, component := range repetition {
					for b, sub := range component {
						if sub == "" {
							continue
						}
						at := path{segment: s.Name, occurrence: count[s.Name], field: f + 1, repetition: r + 1, component: c + 1, sub: b + 1}
						out = append(out, &sampleValue{at: at, value: sub, offset: s.Offset})
					}
				}
			}
		}
	}
	return out
}

// covers tells whether a path includes a subcomponent's full path.
func (p path) covers(v path) bool {
	return p.segment == v.segment && p.occurrence == v.occurrence && (p.field == 0 ||
		p.field == v.field && p.repetition == v.repetition && (p.component == 0 || p.component == v.component && (p.sub == 0 || p.sub == v.sub)))
}

// Layout turns instructions into pieces.
func (t *Target) Layout(in format.Instructions) ([]format.Piece, finding.List) {
	var out finding.List
	plans, values := t.plans(), t.sampleValues()
	find := func(part string) *plan {
		for _, p := range plans {
			if p.part == part {
				return p
			}
		}
		return nil
	}
	unknown := func(n format.Named, part string) {
		var names []string
		for _, p := range plans {
			names = append(names, p.part)
		}
		f := finding.New("map.segment-unknown", n.At, "the sample %s has no segment %s; it has %s", t.file, part, strings.Join(names, " "))
		out = append(out, f.Suggest("add the segment with `add %s … end`, or put it into the sample", strings.SplitN(part, "[", 2)[0]))
	}
	cover := func(names []format.Named, mark func(*sampleValue)) {
		for _, n := range names {
			at, err := parsePath(n.Path)
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
				out = append(out, finding.New("map.nothing-there", n.At, "the sample %s has no value at %s", t.file, n.Path))
			}
		}
	}
	for _, a := range in.Assign {
		at, _ := parsePath(a.Path)
		p := find(at.part())
		if p == nil {
			unknown(a.Named, at.part())
			continue
		}
		out = append(out, assign(p, at, a)...)
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
		n := find(v.at.part()).fields.child(v.at.field).child(v.at.repetition).child(v.at.component).child(v.at.sub)
		n.leaf, n.constant = true, v.value
	})
	for _, d := range in.Drop {
		p := find(d.Path)
		if p == nil {
			unknown(d.Named, d.Path)
			continue
		}
		if p.dropped || p.optional {
			out = append(out, finding.New("map.twice", d.At, "%s is dropped twice", d.Path))
			continue
		}
		p.dropped, p.optional, p.condition = d.Condition < 0, d.Condition >= 0, d.Condition
		for _, v := range values {
			if p.dropped && v.at.part() == d.Path {
				v.used = true
			}
		}
	}
	for _, v := range values {
		if !v.used {
			f := finding.New("map.sample-value", place.InFile(""), "the sample's value %q at %s would go into every message", t.sample.Separators.Unescape(v.value), v.at.short())
			if len(in.Keep) > 0 {
				f.Place = in.Keep[0].At
			}
			out = append(out, f.Suggest("say `keep %s` if it is a constant, `clear %s` if not, or assign it", v.at.short(), v.at.short()))
		}
	}
	plans = t.insert(plans, in.Add, &out)
	if out.HasErrors() {
		return nil, out
	}
	return t.write(plans), out
}

// short leaves out a subcomponent and component that are the only ones.
func (p path) short() string {
	if p.sub == 1 {
		p.sub = 0
	}
	if p.sub == 0 && p.component == 1 {
		p.component = 0
	}
	return p.String()
}

// insert puts added segments after the last of their name, or at the end.
func (t *Target) insert(plans []*plan, added []format.Added, out *finding.List) []*plan {
	for _, a := range added {
		if !segmentName(a.Path) || a.Path == "MSH" {
			*out = append(*out, finding.New("map.segment", a.At, "%q cannot be added: name a segment such as OBX", a.Path))
			continue
		}
		p := &plan{name: a.Path, part: a.Path, fields: newNode(), condition: a.Condition, adding: true, optional: a.Condition >= 0}
		for _, line := range a.Assign {
			at, _ := parsePath(line.Path)
			if at.segment != a.Path || at.occurrence != 1 {
				*out = append(*out, finding.New("map.segment", line.At, "%s is not in the segment that is added here, %s", line.Path, a.Path))
				continue
			}
			*out = append(*out, assign(p, at, line)...)
		}
		where := len(plans)
		for i, q := range plans {
			if q.name == a.Path {
				where = i + 1
			}
		}
		plans = append(plans[:where], append([]*plan{p}, plans[where:]...)...)
	}
	return plans
}

func assign(p *plan, at path, a format.Assignment) finding.List {
	n := p.fields.child(at.field).child(at.repetition)
	steps := []int{at.component, at.sub}
	for _, i := range steps {
		if i == 0 {
			break
		}
		if n.leaf {
			return finding.List{finding.New("map.twice", a.At, "%s lies within a position that is already assigned", a.Path)}
		}
		n = n.child(i)
	}
	if n.leaf || len(n.children) > 0 {
		return finding.List{finding.New("map.twice", a.At, "%s is assigned twice", a.Path)}
	}
	n.leaf, n.expression = true, a.Expression
	return nil
}

// writer collects pieces, joining constants.
type writer struct {
	end     string // of a segment
	pieces  []format.Piece
	literal []byte
	sep     Separators
	dynamic bool // the last thing written can be empty
}

func (w *writer) flush() {
	if len(w.literal) > 0 {
		w.pieces = append(w.pieces, format.Piece{Kind: format.Literal, Bytes: w.literal})
		w.literal = nil
	}
}

func (w *writer) text(s string) {
	if s != "" {
		w.literal = append(w.literal, s...)
		w.dynamic = false
	}
}

func (w *writer) piece(p format.Piece) {
	w.flush()
	w.pieces = append(w.pieces, p)
}

func (t *Target) write(plans []*plan) []format.Piece {
	w := &writer{sep: t.sample.Separators, end: t.end}
	for _, p := range plans {
		if p.dropped {
			continue
		}
		if p.optional {
			kind := format.Unless
			if p.adding {
				kind = format.If
			}
			w.piece(format.Piece{Kind: kind, Expression: p.condition})
		}
		w.segment(p)
		if p.optional {
			w.piece(format.Piece{Kind: format.End})
		}
	}
	w.flush()
	return w.pieces
}

func (w *writer) segment(p *plan) {
	w.text(p.name)
	first := 1
	if p.name == "MSH" {
		w.text(string([]byte{w.sep.Field, w.sep.Component, w.sep.Repetition, w.sep.Escape, w.sep.Subcomponent}))
		first = 3
	}
	for f := first; f <= p.fields.last(); f++ {
		w.literal = append(w.literal, w.sep.Field)
		if n, ok := p.fields.children[f]; ok {
			w.repetitions(n)
		}
	}
	w.trim(string(w.sep.Field))
	w.text(w.end)
}

// trim takes separators off that follow the last value, where that is only
// known when a record is written.
func (w *writer) trim(separators string) {
	if w.dynamic {
		w.piece(format.Piece{Kind: format.Trim, Bytes: []byte(separators)})
	}
}

func (w *writer) repetitions(n *node) {
	w.parts(n, []byte{w.sep.Repetition, w.sep.Component, w.sep.Subcomponent})
}

// parts writes a node whose children are separated by the first separator.
func (w *writer) parts(n *node, separators []byte) {
	if n.leaf {
		if n.expression >= 0 {
			w.piece(format.Piece{Kind: format.Value, Expression: n.expression})
			w.dynamic = true
			return
		}
		w.text(n.constant)
		return
	}
	last := n.last()
	for i := 1; i <= last; i++ {
		if i > 1 {
			w.literal = append(w.literal, separators[0])
		}
		if c, ok := n.children[i]; ok {
			w.parts(c, separators[1:])
		}
	}
	if last > 1 {
		w.trim(string(separators))
	}
}

// Show gives a written message as lines of path and unescaped value.
func (t *Target) Show(record []byte) []format.Line { return Show(record) }
