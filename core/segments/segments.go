// Package segments shows and validates records that are made of segments, with what a
// standard says about them: which groups they form, what their fields are called,
// and where they differ from it. The formats bring the segments taken apart.
package segments

import (
	"bytes"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"ydrion/core/finding"
	"ydrion/core/format"
	"ydrion/core/standard"
)

// Segment is a segment taken apart. Fields[0] is field 1.
type Segment struct {
	Name     string
	From, To int // in bytes of the record
	Fields   []Field
	Outside  bool // it is not a part of the message: an envelope's
	Partial  bool // it goes on in another one, or with one: its fields are not whole
	// Values is where fields begin that can be proved as they are written, behind Before others that say what the separators
	// are; 0: it is to be taken apart first.
	Values, Before int
}

// Field is a field: its repetitions, of which there is at least one if it is there.
type Field []Value

// Value is the text of a field: of its first component, if it has some.
func (s *Segment) Value(field int) string {
	if len(s.Fields) < field || len(s.Fields[field-1]) == 0 {
		return ""
	}
	v := s.Fields[field-1][0]
	for len(v.Parts) > 0 {
		v = v.Parts[0]
	}
	return v.Text
}

// Value is a repetition of a field, a component or a subcomponent.
type Value struct {
	From, To int
	Text     string  // as it was before it was written; of the whole if there are parts: empty
	Parts    []Value // its components, if it has separators
	Syntax   bool    // it says what the separators are: it is neither shown nor validated
}

// Filled is how many of its values something stands in, without their parts.
func (s *Segment) Filled() (n int) {
	for _, field := range s.Fields {
		for i := range field {
			if !field[i].Empty() {
				n++
			}
		}
	}
	return n
}

// further is the first of its parts behind the first that is there; nil: there is none.
func (v *Value) further() *Value {
	for c := range v.Parts {
		p := &v.Parts[c]
		if c == 0 || p.Empty() {
			if inner := p.further(); inner != nil {
				return inner
			}
			continue
		}
		for len(p.Parts) > 0 {
			i := slices.IndexFunc(p.Parts, func(v Value) bool { return !v.Empty() })
			if i < 0 {
				break
			}
			p = &p.Parts[i]
		}
		return p
	}
	return nil
}

// Empty tells whether nothing stands there.
func (v Value) Empty() bool { return v.From == v.To }

// Message is a record with what is known about its kind.
type Message struct {
	Segments  []Segment
	Book      *standard.Dictionary // nil: nothing is known
	Structure *standard.Structure  // nil: not known
	// Typed gives the field of a segment whose type another field says, and that one; 0: there is none.
	Typed func(segment string) (field, by int)
	// Form says what is wrong with a text as a value of a type, "" if nothing is.
	Form func(kind, text string) string
	// Closed tells whether all codes of a table are the standard's, in a value of a type.
	Closed          func(kind, table string) bool
	Hierarchy, Last string // as in Rules
	// Local tells whether a segment may stand anywhere, as those of our own making do, that no standard knows; nil if the
	// dictionary does not have all segments of its standard.
	Local func(name string) bool
	// Dates gives the values of a segment that are dates in a form which another value of it names,
	// with what is wrong with them; nil: there are none.
	Dates func(s *Segment, say func(field, component int, v *Value, wrong string))
	Dated []string // the segments that have such values
	// Proof tells of segments that they are good; nil: they are all taken apart. Apart does that with those that can be proved and
	// have no fields yet.
	Proof *Proof
	Apart Opener
	// Scratch is memory for judging, that may be used again for another message; nil: none.
	Scratch *Scratch
}

// Opener takes segments apart, and lets the memory for the one that was opened last go.
type Opener interface {
	Open(s *Segment)
	Close(s *Segment)
}

// MaxValues is how many values a message may have to be taken apart: each needs some 90 bytes.
const MaxValues = 2_000_000

// TooMany tells whether a text has more separators than that.
func TooMany(text []byte, separators ...byte) bool {
	return len(text) > MaxValues && Count(text, separators...) > MaxValues
}

// Long is from how many bytes on a message is worth counting, so that the memory for taking it
// apart is asked for once.
const Long = 1 << 16

// Count is how many of these characters a text has; those that are 0 are none.
func Count(text []byte, characters ...byte) (n int) {
	for _, c := range characters {
		if c != 0 {
			n += bytes.Count(text, []byte{c})
		}
	}
	return n
}

// TooManyRemark says so.
func TooManyRemark(path string, at int) format.Difference {
	return format.Difference{Code: "standard.too-long", Path: path, At: at, Text: fmt.Sprintf("the message has more than %d values, and is not checked against its description", MaxValues)}
}

// Scratch is memory for judging.
type Scratch struct {
	came  []int          // how often each node came in its group
	count map[string]int // of the segments before one, by name
	upTo  int            // that is
	known [buckets]knownSegment
	typed [16]typed
}

// typed is an element with the type that another says.
type typed struct {
	of   *standard.Element
	kind string
	is   *standard.Element
}

// knownSegment is what a dictionary says of a segment, and the number that it has in a structure.
type knownSegment struct {
	key    uint32
	name   string
	of     *standard.Dictionary
	is     *standard.Composite
	in     *standard.Structure
	number int // -1: some are chosen by an element
}

// occurrence counts the segments of the name of one up to that, and so all before it. It is asked for from the first to the last.
func (m *Message) occurrence(k *Scratch, of int) int {
	if k.upTo == 0 {
		k.count = map[string]int{}
	}
	for ; k.upTo <= of; k.upTo++ {
		k.count[m.Segments[k.upTo].Name]++
	}
	return k.count[m.Segments[of].Name]
}

// Path is the path of a value: a segment, its occurrence in the record, and numbers from 1
// on, 0 where the path stops before.
func Path(segment string, occurrence, field, repetition, component, sub int) string {
	b := append(make([]byte, 0, 24), segment...)
	number := func(before byte, n int, after string) {
		b = append(strconv.AppendInt(append(b, before), int64(n), 10), after...)
	}
	if occurrence > 1 {
		number('[', occurrence, "]")
	}
	if field == 0 {
		return string(b)
	}
	number('-', field, "")
	if repetition > 1 {
		number('[', repetition, "]")
	}
	if component > 0 {
		number('.', component, "")
	}
	if sub > 0 {
		number('.', sub, "")
	}
	return string(b)
}

// Outline gives the parts of a message in their order, the groups of its structure
// included.
func (m *Message) Outline() []format.Node {
	var out format.Parts
	count := map[string]int{}
	var open []int // the nodes of the structure's groups that are open
	var at []int   // where they stand in out
	from, end, deeper := 0, 0, 0
	levels := map[string]int{} // how deep each level of a hierarchy is
	// Where the structure tells the levels apart, its groups stand in each other already.
	nested := m.Structure != nil && m.Hierarchy != "" && m.Structure.Times(m.Hierarchy) > 1
	for i := range m.Segments {
		s := &m.Segments[i]
		known := m.about(s.Name)
		switch {
		case m.Hierarchy == "" || nested:
		case s.Name == m.Hierarchy:
			deeper = 0
			if above := s.Value(2); above != "" {
				deeper = levels[above] + 1
			}
			levels[s.Value(1)] = deeper
		case s.Name == m.Last || s.Outside:
			deeper = 0
		}
		if s.Outside {
			for _, k := range at {
				out.Nodes[k].To = end
			}
			open, at, from = open[:0], at[:0], 0
		} else if step := m.next(from, s); step.Late { // groups go on behind it
			known = m.as(step, known)
		} else if step.Node >= 0 {
			from, known = step.Node, m.as(step, known)
			var groups []int
			for g := m.Structure.Nodes[from].Parent; g > 0; g = m.Structure.Nodes[g].Parent {
				groups = append([]int{g}, groups...)
			}
			same := 0
			for same < len(open) && same < len(groups) && open[same] == groups[same] && groups[same] != step.Started {
				same++
			}
			for _, k := range at[same:] {
				out.Nodes[k].To = end
			}
			open, at = open[:same], at[:same]
			for _, g := range groups[same:] {
				if !out.Add(format.Node{Kind: format.Group, Name: m.Structure.Nodes[g].Name, Depth: len(at) + deeper, From: s.From}) {
					break
				}
				open, at = append(open, g), append(at, len(out.Nodes)-1)
			}
		}
		end = s.To
		count[s.Name]++
		if !m.segment(&out, s, known, count[s.Name], len(at)+deeper) {
			break
		}
	}
	for _, k := range at {
		out.Nodes[k].To = end
	}
	if m.Hierarchy != "" && !nested {
		enclose(out.Nodes)
	}
	return out.Nodes
}

// enclose lets groups end behind the levels that are shown in them.
func enclose(nodes []format.Node) {
	var open []int
	for i := range nodes {
		for len(open) > 0 && nodes[open[len(open)-1]].Depth >= nodes[i].Depth {
			open = open[:len(open)-1]
		}
		for _, k := range open {
			nodes[k].To = max(nodes[k].To, nodes[i].To)
		}
		if nodes[i].Kind == format.Group {
			open = append(open, i)
		}
	}
}

var nowhere = standard.Step{Node: -1}

func (m *Message) next(from int, s *Segment) *standard.Step {
	if m.Structure == nil {
		return &nowhere
	}
	if m.Scratch != nil {
		k := m.known(s.Name)
		if k.in != m.Structure {
			if k.in, k.number = m.Structure, -1; !m.Structure.Chooses([]byte(s.Name)) {
				k.number = m.Structure.Number([]byte(s.Name))
			}
		}
		if k.number >= 0 {
			return m.Structure.At(from, k.number)
		}
	} else if name := []byte(s.Name); !m.Structure.Chooses(name) {
		return m.Structure.Next(from, name)
	}
	m.open(s)
	return m.Structure.Follow(from, []byte(s.Name), func(c *standard.Choice) bool { return c.Holds(s.Value(c.Element)) })
}

// as is how a segment is described at its place.
func (m *Message) as(step *standard.Step, known *standard.Composite) *standard.Composite {
	if as := m.Structure.Nodes[step.Node].As; as != "" {
		return m.about(as)
	}
	return known
}

// Required are the elements that the segments of a message must have, by the segments' names: of a name, those that are required
// wherever it comes.
func (m *Message) Required() map[string][]bool {
	out := map[string][]bool{}
	from := 0
	for i := range m.Segments {
		s := &m.Segments[i]
		known := m.about(s.Name)
		if step := m.next(from, s); !s.Outside && step.Node >= 0 {
			if known = m.as(step, known); !step.Late {
				from = step.Node
			}
		}
		all, came := out[s.Name]
		switch {
		case known == nil:
			all = []bool{}
		case !came:
			for f := range known.Elements {
				all = append(all, known.Elements[f].Usage == standard.Required)
			}
		default:
			for f := range all {
				all[f] = all[f] && f < len(known.Elements) && known.Elements[f].Usage == standard.Required
			}
		}
		out[s.Name] = all
	}
	return out
}

func (m *Message) segment(out *format.Parts, s *Segment, known *standard.Composite, occurrence, depth int) bool {
	n := format.Node{Kind: format.Segment, Path: Path(s.Name, occurrence, 0, 0, 0, 0), Depth: depth, From: s.From, To: s.To}
	if known != nil {
		n.Name = known.Title
	}
	out.Add(n)
	for f, field := range s.Fields {
		e := &nothing
		if known != nil && f < len(known.Elements) {
			e = m.typed(s, f+1, &known.Elements[f])
		}
		for r, v := range field {
			if out.Full {
				return false
			}
			if v.Empty() || v.Syntax {
				continue
			}
			path := func(component, sub int) string { return Path(s.Name, occurrence, f+1, r+1, component, sub) }
			out.Add(m.value(v, e, path(0, 0), depth+1))
			for c, part := range v.Parts {
				if part.Empty() {
					continue
				}
				inner := constituent(e, c)
				out.Add(m.value(part, inner, path(c+1, 0), depth+2))
				for k, sub := range part.Parts {
					if !sub.Empty() {
						out.Add(m.value(sub, constituent(inner, k), path(c+1, k+1), depth+3))
					}
				}
			}
		}
	}
	return !out.Full
}

// deepest is how many levels of components there are.
const deepest = 3

// value shows a field or a part of one: a leaf has its value.
func (m *Message) value(v Value, e *standard.Element, path string, depth int) format.Node {
	n := format.Node{Kind: format.Leaf, Path: path, Depth: depth, From: v.From, To: v.To, Name: e.Title, Type: e.Type, Number: e.Number}
	if len(v.Parts) > 0 {
		n.Kind = format.Composite
		return n
	}
	n.Value = v.Text
	for range deepest { // of a composite only the first part may be there
		if e.Table != "" || constituent(e, 0) == &nothing {
			break
		}
		e = constituent(e, 0)
	}
	if t := e.Codes(); t != nil {
		n.Table = e.Table
		n.Means, _ = t.Meaning(v.Text)
	}
	return n
}

func (m *Message) about(segment string) *standard.Composite {
	switch {
	case m.Book == nil:
		return nil
	case m.Scratch == nil:
		return m.Book.Segment(segment)
	}
	return m.known(segment).is
}

// known is what the dictionary says of a segment, found once.
func (m *Message) known(segment string) *knownSegment {
	key := segmentKey(segment)
	k := &m.Scratch.known[bucket(key)]
	if k.key != key || k.of != m.Book || len(segment) > wholeKey && k.name != segment {
		*k = knownSegment{key: key, name: strings.Clone(segment), of: m.Book, is: m.Book.Segment(segment)}
	}
	return k
}

// typed is an element of a segment, with the type that another field says if one does.
func (m *Message) typed(s *Segment, field int, e *standard.Element) *standard.Element {
	if m.Typed == nil {
		return e
	}
	at, by := m.Typed(s.Name)
	if at != field || len(s.Fields) < by || len(s.Fields[by-1]) == 0 {
		return e
	}
	return m.kinded(e, s.Fields[by-1][0].Text)
}

// kinded is an element with a type that has been said; empty: it keeps its own.
func (m *Message) kinded(e *standard.Element, kind string) *standard.Element {
	switch {
	case kind == "" || kind == e.Type:
		return e
	case m.Scratch == nil || len(kind) > 3:
		return m.Book.Typed(e, kind)
	}
	t := &m.Scratch.typed[spread(segmentKey(kind))>>28]
	if t.of != e || t.kind != kind {
		*t = typed{e, strings.Clone(kind), m.Book.Typed(e, kind)}
	}
	return t.is
}

// open takes a segment apart if that has not been done.
func (m *Message) open(s *Segment) {
	if s.Values > 0 && s.Fields == nil {
		m.Apart.Open(s)
	}
}

var nothing standard.Element

// constituent is what the standard says of a component of an element.
func constituent(e *standard.Element, i int) *standard.Element {
	if t := e.Of(); t != nil && i < len(t.Elements) {
		return &t.Elements[i]
	}
	return &nothing
}

// Meaning is what a dictionary calls a position; empty where that is not known.
func Meaning(b *standard.Dictionary, path string) string {
	p, err := ParsePosition(path)
	if b == nil || err != nil {
		return ""
	}
	s := b.Segment(p.Segment)
	switch {
	case s == nil:
		return ""
	case p.Field == 0:
		return s.Title
	case p.Field > len(s.Elements):
		return ""
	}
	e := s.Elements[p.Field-1]
	if t := b.Type(e.Type); p.Component > 0 && t != nil && p.Component <= len(t.Elements) {
		return e.Title + ": " + t.Elements[p.Component-1].Title
	}
	return e.Title
}

// Validate tells where a message differs from what the standard says about it.
func (m *Message) Validate(say func(format.Difference)) {
	if m.Book == nil {
		return
	}
	k := m.Scratch
	if k == nil {
		k = &Scratch{}
	}
	k.count, k.upTo = nil, 0
	var levels map[string]bool
	if m.Hierarchy != "" {
		levels = map[string]bool{}
	}
	from := 0
	var came []int
	if m.Structure != nil {
		came = slices.Grow(k.came[:0], len(m.Structure.Nodes))[:len(m.Structure.Nodes)]
		clear(came)
		k.came = came
	}
	names := func(nodes []int) string {
		var out string
		for i, n := range nodes {
			if i > 0 {
				out += ", "
			}
			out += m.Structure.Nodes[n].Name
		}
		return out
	}
	for i := range m.Segments {
		s := &m.Segments[i]
		closed := s.Values > 0 && s.Fields == nil
		of := about{m, k, i, say}
		known, step := m.about(s.Name), &nowhere
		local := m.Local != nil && m.Local(s.Name)
		if known == nil && !local && m.Local != nil {
			of.tell("standard.unknown-segment", "", "%s is not a segment of version %s", s.Name, m.Book.Version)
		}
		if m.Structure != nil && !local && !s.Outside {
			step = m.next(from, s)
			switch {
			case step.Node < 0:
				if known != nil || m.Local == nil {
					of.tell("standard.place", "", "%s has no place in %s", s.Name, m.Structure.Name)
				}
			case step.Passed, step.Late:
				of.tell("standard.place", "", "%s should stand before what precedes it in %s", s.Name, m.Structure.Name)
			case len(step.Skipped) > 0:
				of.tell("standard.missing", "", "%s is missing before %s: %s requires it", names(step.Skipped), s.Name, m.Structure.Name)
			}
			if step.Node >= 0 {
				if !step.Late {
					from = step.Node
					m.counted(came, step, &of)
				}
				known = m.as(step, known)
			}
		}
		switch {
		case known == nil || s.Partial:
		case s.Values > 0 && m.proved(s, known):
			if slices.Contains(m.Dated, s.Name) {
				m.open(s)
				m.dates(s, &of)
			}
		default:
			m.open(s)
			m.fields(s, &of, known)
		}
		if m.Hierarchy != "" && s.Name == m.Hierarchy {
			m.open(s)
			number, above := s.Value(1), s.Value(2)
			if above != "" && !levels[above] {
				of.tell("standard.level", above, "the level above is said to be %s, and no level before has that number", above)
			}
			if levels[number] {
				of.tell("standard.level", number, "there is a level with number %s already", number)
			}
			levels[number] = true
		}
		if closed && s.Fields != nil {
			m.Apart.Close(s)
		}
	}
	if m.Structure == nil || len(m.Segments) == 0 {
		return
	}
	if missing := m.Structure.Missing(from); len(missing) > 0 {
		last := len(m.Segments) - 1
		for last > 0 && m.Segments[last].Outside {
			last--
		}
		of := about{m, k, last, say}
		of.tell("standard.missing", "", "%s is missing behind %s: %s requires it", names(missing), m.Segments[last].Name, m.Structure.Name)
	}
}

func remark(code string, at int, path, seen, text string) format.Difference {
	return format.Difference{Code: code, At: at, Path: path, Seen: seen, Text: text}
}

// about is what remarks are about: a segment.
type about struct {
	*Message
	k   *Scratch
	at  int
	say func(format.Difference)
}

// occurrence is which of its name the segment is.
func (a *about) occurrence() int { return a.Message.occurrence(a.k, a.at) }

func (a *about) tell(code, seen, format string, args ...any) {
	s := &a.Segments[a.at]
	a.say(remark(code, s.From, Path(s.Name, a.occurrence(), 0, 0, 0, 0), seen, fmt.Sprintf(format, args...)))
}

// counted checks how often a node came against how often it may.
func (m *Message) counted(came []int, step *standard.Step, of *about) {
	nodes := m.Structure.Nodes
	clear(came[step.Started+1 : nodes[step.Started].End])
	for n := step.Node; ; n = nodes[n].Parent {
		came[n]++
		if n == step.Started {
			break
		}
	}
	if n := step.Started; nodes[n].Max > 0 && came[n] == nodes[n].Max+1 && !step.Odd {
		of.tell("standard.repeats", "", "%s comes more than %s here", nodes[n].Name, times(nodes[n].Max))
	}
}

func times(n int) string {
	if n == 1 {
		return "once"
	}
	return fmt.Sprintf("%d times", n)
}

// where is a value's place in a message.
type where struct {
	segment                                       string
	occurrence, field, repetition, component, sub int
}

func (w where) String() string {
	return Path(w.segment, w.occurrence, w.field, w.repetition, w.component, w.sub)
}

// below is the place of a component.
func (w where) below(n int) where {
	if w.component == 0 {
		w.component = n
	} else {
		w.sub = n
	}
	return w
}

// rulebook is what a message is checked against, for people.
func (m *Message) rulebook() string {
	if m.Book.Closed {
		return "the description"
	}
	return "version " + m.Book.Version
}

func (m *Message) fields(s *Segment, of *about, known *standard.Composite) {
	occurrence, say := of.occurrence(), of.say
	for f := range known.Elements {
		e := &known.Elements[f]
		at := where{segment: s.Name, occurrence: occurrence, field: f + 1, repetition: 1}
		var field Field
		if f < len(s.Fields) {
			field = s.Fields[f]
		}
		if len(field) == 0 || len(field) == 1 && field[0].Empty() {
			if e.Usage == standard.Required {
				from := s.To
				if len(field) > 0 {
					from = field[0].From
				}
				say(format.Difference{Code: "standard.required", At: from, Path: at.String(), Text: e.Title + " is required, and empty"})
			}
			continue
		}
		if e.Usage == standard.NotUsed {
			say(format.Difference{Code: "standard.not-used", At: field[0].From, Path: at.String(), Text: e.Title + " is not used in " + m.rulebook()})
			continue
		}
		if e.Repeats > 0 && len(field) > e.Repeats {
			at.repetition = e.Repeats + 1
			say(format.Difference{Code: "standard.repeats", At: field[e.Repeats].From, Path: at.String(), Text: fmt.Sprintf("%s may come %s, not %d times", e.Title, times(e.Repeats), len(field))})
		}
		e = m.typed(s, f+1, e)
		for r := range field {
			at.repetition = r + 1
			m.validate(&field[r], e, deepest, at, say)
		}
	}
	if slices.Contains(m.Dated, s.Name) {
		m.dates(s, of)
	}
	if len(known.Conditions) > 0 {
		conditions(s, occurrence, known, say)
	}
	for f := len(known.Elements); f < len(s.Fields) && m.complete(); f++ {
		if v := s.Fields[f]; len(v) > 0 && !v[0].Empty() {
			say(format.Difference{Code: "standard.more-fields", At: v[0].From, Path: Path(s.Name, occurrence, f+1, 1, 0, 0), Text: fmt.Sprintf("%s knows %d fields of %s", m.rulebook(), len(known.Elements), s.Name)})
			return
		}
	}
}

// complete tells whether segments have no elements but those that are described: of the segments of X12 those are that are usually
// filled.
func (m *Message) complete() bool { return m.Book.Closed || m.Local != nil }

// dates checks the values that are dates in a form which another value of the segment names.
func (m *Message) dates(s *Segment, of *about) {
	m.Dates(s, func(field, component int, v *Value, wrong string) {
		at := where{segment: s.Name, occurrence: of.occurrence(), field: field, repetition: 1, component: component}
		of.say(format.Difference{Code: "standard.form", At: v.From, Path: at.String(), Seen: v.Text, Text: fmt.Sprintf("%s: %s", strconv.Quote(finding.Shorten([]byte(v.Text))), wrong)})
	})
}

// conditions checks which elements a segment has beside which.
func conditions(s *Segment, occurrence int, known *standard.Composite, say func(format.Difference)) {
	there := func(n int) bool {
		return n <= len(s.Fields) && len(s.Fields[n-1]) > 0 && !(len(s.Fields[n-1]) == 1 && s.Fields[n-1][0].Empty())
	}
	for i := range known.Conditions {
		if c := &known.Conditions[i]; c.Wrong(there) != "" {
			say(format.Difference{Code: "standard.condition", At: s.From, Path: Path(s.Name, occurrence, 0, 0, 0, 0), Text: fmt.Sprintf("elements of %s: %s (%s)", s.Name, c.Wrong(there), c.Text)})
		}
	}
}

// validate checks a value against its element, and its parts against theirs.
func (m *Message) validate(v *Value, e *standard.Element, levels int, at where, say func(format.Difference)) {
	if v.Empty() || v.Syntax || v.Text == `""` {
		return
	}
	length := v.To - v.From
	if len(v.Parts) == 0 {
		length = utf8.RuneCountInString(v.Text)
	}
	if e.Max > 0 && length > e.Max {
		say(format.Difference{Code: "standard.length", At: v.From, Path: at.String(), Seen: v.Text, Text: fmt.Sprintf("%s has %d characters, and at most %d are allowed", e.Title, length, e.Max)})
	}
	if e.Min > 0 && length < e.Min {
		say(format.Difference{Code: "standard.length", At: v.From, Path: at.String(), Seen: v.Text, Text: fmt.Sprintf("%s has %d characters, and must have %d at least", e.Title, length, e.Min)})
	}
	of := e.Of()
	switch {
	case len(v.Parts) == 0 && of != nil && levels > 0: // only the first is there
		m.parts(v, e, of, at, say)
		m.validate(v, &of.Elements[0], levels-1, at, say)
		return
	case len(v.Parts) == 0:
		m.elementary(v, e, at, say)
		return
	}
	switch {
	case of != nil:
		m.parts(v, e, of, at, say)
	case e.Parts() == 1:
		if p := v.further(); p != nil {
			say(format.Difference{Code: "standard.more-parts", At: p.From, Path: at.String(), Seen: p.Text, Text: fmt.Sprintf("%s is of type %s, which has no components, and %s stands behind a separator of components", e.Title, e.Type, strconv.Quote(finding.Shorten([]byte(p.Text))))})
		}
		return
	}
	for c := range v.Parts {
		p := &v.Parts[c]
		inner := constituent(e, c)
		if inner == &nothing {
			if p.Empty() {
				continue
			}
			if of != nil {
				say(format.Difference{Code: "standard.more-parts", At: p.From, Path: at.below(c + 1).String(), Text: fmt.Sprintf("%s has %d components of type %s", e.Title, len(of.Elements), e.Type)})
			}
			return
		}
		m.validate(p, inner, levels-1, at.below(c+1), say)
	}
}

// parts checks which components a value has against its type.
func (m *Message) parts(v *Value, e *standard.Element, of *standard.Composite, at where, say func(format.Difference)) {
	there := func(n int) bool {
		return n == 1 && len(v.Parts) == 0 || n <= len(v.Parts) && !v.Parts[n-1].Empty()
	}
	for i := range of.Elements {
		switch inner := &of.Elements[i]; {
		case inner.Usage == standard.Required && !there(i+1) && (m.Book.Closed || !v.Empty()):
			say(format.Difference{Code: "standard.required", At: v.From, Path: at.below(i + 1).String(), Text: fmt.Sprintf("%s of %s is required, and empty", inner.Title, e.Title)})
		case m.Book.Closed && inner.Usage == standard.NotUsed && there(i+1):
			from := v.From
			if len(v.Parts) > 0 {
				from = v.Parts[i].From
			}
			say(format.Difference{Code: "standard.not-used", At: from, Path: at.below(i + 1).String(), Text: fmt.Sprintf("%s of %s is not used", inner.Title, e.Title)})
		}
	}
	for i := range of.Conditions {
		if c := &of.Conditions[i]; c.Wrong(there) != "" {
			say(format.Difference{Code: "standard.condition", At: v.From, Path: at.String(), Text: fmt.Sprintf("components of %s: %s (%s)", e.Title, c.Wrong(there), c.Text)})
		}
	}
}

// codes is the table that an element takes all its values from; nil: there is none, or it may have others.
func (m *Message) codes(e *standard.Element) *standard.Table {
	t := e.Codes()
	if t == nil || !t.Own && m.Closed != nil && !m.Closed(e.Type, e.Table) {
		return nil
	}
	return t
}

// elementary checks a text against the form and the codes of its element.
func (m *Message) elementary(v *Value, e *standard.Element, at where, say func(format.Difference)) {
	if m.Form != nil {
		if wrong := m.Form(e.Type, v.Text); wrong != "" {
			say(format.Difference{Code: "standard.form", At: v.From, Path: at.String(), Seen: v.Text, Text: fmt.Sprintf("%s is not a value of type %s: %s", e.Title, e.Type, wrong)})
		}
	}
	t := m.codes(e)
	if t == nil {
		return
	}
	if _, ok := t.Meaning(v.Text); !ok {
		known := " that are known here"
		if m.Book.Closed || t.Own {
			known = ""
		}
		say(format.Difference{Code: "standard.code", At: v.From, Path: at.String(), Seen: v.Text, Text: fmt.Sprintf("%s: %s is not among the codes of table %s (%s)%s", e.Title, strconv.Quote(finding.Shorten([]byte(v.Text))), t.Name, t.Title, known)})
	}
}
