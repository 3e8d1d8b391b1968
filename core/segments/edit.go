package segments

import (
	"bytes"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/format"
	"ydrion/core/standard"
	"ydrion/core/text"
)

// Edits are what a map says of messages as they came: values that are changed or cleared, segments that are
// dropped.
type Edits struct {
	Parse func(path string) (Position, error)
	// Stays says why a position, or a segment as a whole, stays as it came.
	Stays func(p Position) error
	// Example is a position, and two that choose; for messages.
	Counted, Chosen string

	Lines []EditLine
}

// EditLine is one such line of a map.
type EditLine struct {
	Position
	Drop, All bool // all segments of the name are meant
}

// Position is any that does not stay; segments and repetitions can be chosen by a value.
func (t *Edits) Position(path string) (format.Position, error) {
	p, err := t.Parse(path)
	switch {
	case err != nil:
	case p.Field == 0:
		err = fmt.Errorf("%q is a whole segment; name one of its parts, as in %s-1", path, path)
	case p.Within != "":
		err = fmt.Errorf("%q is in a loop, and what is changed is counted or chosen by a value: name it as in %s or %s", path, t.Counted, t.Chosen)
	default:
		err = t.Stays(p)
	}
	return format.Position{Key: path}, err
}

// Part is a segment.
func (t *Edits) Part(path string) (string, error) {
	p, err := t.Parse(path)
	if err == nil && (p.Field != 0 || p.Within != "" || t.Stays(p) != nil) {
		segment, _, _ := strings.Cut(t.Chosen, "-")
		err = fmt.Errorf("%q cannot be dropped: name a segment, as in %s", path, segment)
	}
	return path, err
}

// Inside is a segment of which each that came can be changed.
func (t *Edits) Inside(path string) error {
	p, err := t.Parse(path)
	if path == "" || err == nil && (p.Field != 0 || p.Within != "" || p.Element > 0 || p.Occurrence > 1) {
		segment, _, _ := strings.Cut(t.Chosen, "(")
		err = fmt.Errorf("name the segment that is changed for each row, as in `repeat %s for row in %s`", segment, segment)
	}
	return err
}

// Layout keeps what is changed.
func (t *Edits) Layout(in format.Instructions, layout *format.Layout) finding.List {
	t.Lines = nil
	return t.layout(in, nil, nil, layout)
}

func (t *Edits) layout(in format.Instructions, loops, conditions []int, layout *format.Layout) (out finding.List) {
	part := ""
	if len(loops) > 0 {
		part = in.Of
	}
	take := func(n format.Named, e format.Edit, drop bool) {
		p, err := t.Parse(n.Path)
		if err == nil && p.Field > 0 {
			err = t.Stays(p)
		}
		if err != nil {
			out = append(out, finding.New("map.position", n.At, "%v", err))
			return
		}
		if len(loops) > 0 && (p.Segment != part || p.Occurrence > 1 || p.Element > 0) {
			out = append(out, finding.New("map.repeat", n.At, "%s is not in the segment that is changed here, %s", n.Path, part))
		}
		e.Named, e.Loops, e.Conditions = n, loops, conditions
		if e.Condition >= 0 {
			e.Conditions = append(conditions[:len(conditions):len(conditions)], e.Condition)
		}
		segment, _, _ := strings.Cut(n.Path, "-")
		layout.Edits = append(layout.Edits, e)
		t.Lines = append(t.Lines, EditLine{p, drop, e.Expression < 0 && !strings.Contains(segment, "[")})
	}
	seen := map[string]bool{}
	for _, a := range in.Assign {
		if p, err := t.Parse(a.Path); err == nil && seen[p.String()] {
			out = append(out, finding.New("map.twice", a.At, "%s is assigned twice", a.Path))
		} else if err == nil {
			seen[p.String()] = true
		}
		take(a.Named, format.Edit{Expression: a.Expression, Condition: -1}, false)
	}
	for _, n := range in.Keep {
		f := finding.New("map.nothing-there", n.At, "everything stays as it came; %s need not be kept", n.Path)
		out = append(out, f)
	}
	for _, n := range in.Clear {
		take(n, format.Edit{Expression: -1, Condition: -1}, false)
	}
	for _, d := range in.Drop {
		take(d.Named, format.Edit{Expression: -1, Condition: d.Condition}, true)
	}
	for _, a := range in.Add {
		out = append(out, finding.New("map.segment", a.At, "segments cannot be added to messages as they came; base the map on a sample"))
	}
	for _, r := range in.Repeat {
		of, err := t.Parse(r.List)
		if err != nil || of.Segment != r.Path || of.Field > 0 {
			out = append(out, finding.New("map.repeat", r.At, "what is changed for each row is the row's segment as it came, and %s are not %s", r.List, r.Path))
		}
		inner := conditions
		if r.Condition >= 0 {
			inner = append(conditions[:len(conditions):len(conditions)], r.Condition)
		}
		r.Body.Of = r.Path
		out = append(out, t.layout(r.Body, append(loops[:len(loops):len(loops)], r.Loop), inner, layout)...)
	}
	return out
}

// AsCame is a target whose messages are those of the source, byte for byte, but for what a map says of
// them. Counts and the numbers in closing segments follow.
type AsCame struct {
	rules *Rules
	own   []*standard.Catalog
	Edits
}

// NewAsCame makes such a target.
func NewAsCame(rules *Rules) *AsCame {
	t := &AsCame{rules: rules}
	t.Edits = Edits{Parse: ParsePosition, Counted: "LIN[2]-1", Chosen: "NAD(BY)-2", Stays: t.stays}
	if rules.Head == "ST" {
		t.Counted, t.Chosen = "PO1[2]-1", "N1(BY)-4"
	}
	return t
}

var _ format.Target = (*AsCame)(nil)
var _ format.Editor = (*AsCame)(nil)

// stays says what of an interchange cannot be changed.
func (t *AsCame) stays(p Position) error {
	switch level := slices.ContainsFunc(t.rules.Levels, func(l Level) bool { return l.Open == p.Segment || l.Close == p.Segment }); {
	case level:
		return fmt.Errorf("%s stands around messages, and stays as it came", p.Segment)
	case p.Segment == t.rules.Tail:
		return fmt.Errorf("%s is computed", p.Segment)
	case p.Segment == t.rules.Head && p.Field == 0:
		return fmt.Errorf("%s begins the message", p.Segment)
	case t.rules.Binary[p.Segment] > 0:
		return fmt.Errorf("%s holds bytes, which stay as they came", p.Segment)
	}
	return nil
}

// By gives it a description of one's own, that its messages are validated against instead of the standard.
func (t *AsCame) By(own *standard.Catalog) { t.own = []*standard.Catalog{own} }

// Validating tells where what was made of a batch's messages differs from their description: that which is found by what stands
// around them.
func (t *AsCame) Validating(from format.Reader, b *batch.Batch) func(record int, made []byte, say func(format.Difference)) {
	r := from.(*Reader)
	taker := &Reader{bound: &bound{Rules: t.rules, own: t.own}, declared: r.declared}
	s, by := r.syntax(b.Base), format.ByStandard
	if t.own != nil {
		by = 0
	}
	around := make([][]batch.Opened, 0, b.Records())
	r.eachOpened(b, b.N, func(message int, open []batch.Opened) {
		if n := len(around); n > 0 && slices.EqualFunc(around[n-1], open, func(a, b batch.Opened) bool { return a.At == b.At }) {
			around = append(around, around[n-1])
		} else {
			around = append(around, slices.Clone(open))
		}
	})
	return func(record int, made []byte, say func(format.Difference)) {
		k := slabs.Get().(*slab)
		defer k.done()
		lines := make([][]byte, 0, 4)
		for _, o := range around[record] {
			lines = append(lines, o.Text)
		}
		taker.judge(k, by, s, lines, made, say)
	}
}

// Escapes writes values as they are: what would separate is known from each interchange.
func (t *AsCame) Escapes() *text.Escapes { return text.NewEscapes(nil) }

// Null is nothing that an interchange can say.
func (t *AsCame) Null() (string, bool) { return "", false }

// Inside is a segment of which each that came can be changed.
func (t *AsCame) Inside(path string) (string, format.Target, error) {
	return path, t, t.Edits.Inside(path)
}

// Layout keeps what is changed.
func (t *AsCame) Layout(in format.Instructions) (format.Layout, finding.List) {
	editor := *t // each layout has its own
	layout := format.Layout{Editor: &editor, Decimal: '.'}
	return layout, editor.Edits.Layout(in, &layout)
}

// Show gives a written message as lines of path and value: it has the syntax of the usual ones.
func (t *AsCame) Show(record []byte) []format.Line { return nil }

// Edit writes a message with changes.
func (t *AsCame) Edit(out []byte, from format.Reader, b *batch.Batch, record int, changes []format.Change) (_ []byte, problem string) {
	r := from.(*Reader)
	s := r.syntax(b.Base)
	raw := b.Raw(record)
	says := s.repertoire(r.declared)
	if says.Name = "the interchange, in which it would separate"; r.declared {
		says.Name = "the set that the interchange names"
	} else if r.charset != text.UTF8 {
		says.Charset = r.charset
	}
	begin := len(out)
	applied, count, segments := make([]bool, len(changes)), map[string]int{}, 0
	var number []byte // of the message
	for p := 0; p < len(raw); {
		stop := min(r.segmentEnd(&s, raw, p), len(raw))
		next := min(stop+1, len(raw))
		for next < len(raw) && (raw[next] == '\r' || raw[next] == '\n' || raw[next] == ' ') {
			next++
		}
		line := raw[p:stop]
		name := string(line[:min(len(line), s.next(line, 0, s.Element))])
		count[name]++
		if name == t.rules.Tail {
			out = append(append(out, name...), s.Element)
			out = append(strconv.AppendInt(out, int64(segments+1), 10), s.Element)
			out = append(append(out, number...), raw[stop:next]...)
			p = next
			continue
		}
		var elements [][]byte
		dropped, cleared := false, false
		for i := range changes {
			c, e := &changes[i], &t.Lines[changes[i].Edit]
			if e.Segment != name || c.At >= 0 && c.At != p || c.At < 0 && !t.means(e, &s, line, count[name], applied[i]) {
				continue
			}
			applied[i] = true
			if e.Drop {
				dropped = true
				continue
			}
			if elements == nil {
				elements = s.pieces(bytes.Clone(line), s.Element)
			}
			value, why := t.written(c, &s, says, r.declared)
			if why != "" {
				return out[:begin], fmt.Sprintf("%s: %s", e.Position, why)
			}
			cleared = cleared || len(value) == 0
			for len(elements) <= e.Field && len(value) > 0 {
				elements = append(elements, nil)
			}
			if e.Field < len(elements) {
				elements[e.Field] = s.put(elements[e.Field], value, e.Position)
			}
		}
		for cleared && len(elements) > 1 && len(elements[len(elements)-1]) == 0 {
			elements = elements[:len(elements)-1]
		}
		if elements != nil {
			line = bytes.Join(elements, []byte{s.Element})
		}
		if name == t.rules.Head {
			number = bytes.Clone(s.field(line, t.rules.HeadNumber))
		}
		if !dropped {
			segments++
			out = append(append(out, line...), raw[stop:next]...)
		}
		p = next
	}
	for i := range changes {
		if e := &t.Lines[changes[i].Edit]; !applied[i] && !e.Drop && !changes[i].Absent {
			return out[:begin], fmt.Sprintf("the message has no %s for the value", e.Part())
		}
	}
	return out, ""
}

// means tells whether a line of a map is about a segment, which is the nth of its name.
func (t *AsCame) means(e *EditLine, s *Syntax, line []byte, n int, before bool) bool {
	if e.Element > 0 {
		value := component(s, s.field(line, e.Element))
		return string(s.AppendPlain(nil, value)) == e.Value && (e.All || !before)
	}
	return e.All || n == e.Occurrence
}

// written is a value as it stands in a message.
func (t *AsCame) written(c *format.Change, s *Syntax, says *text.Repertoire, declared bool) ([]byte, string) {
	if c.Absent {
		return nil, ""
	}
	if c.Null {
		return nil, "the value is null, which cannot be said here; answer it with `if null …`"
	}
	if r, lacks := says.Lacking(c.Value); lacks {
		return nil, fmt.Sprintf("%q is not among the characters of %s", r, says.Name)
	}
	value := c.Value
	if c.Bare && s.Decimal == ',' {
		value = bytes.ReplaceAll(value, []byte("."), []byte(","))
	}
	out := s.appendReleased(nil, value)
	if declared && says.Charset != "" && says.Charset != text.UTF8 {
		encoded, err := text.Encode(out, says.Charset)
		if err != nil {
			return nil, err.Error()
		}
		return encoded, ""
	}
	return out, ""
}

// pieces cuts a text at separators that are not released.
func (s *Syntax) pieces(b []byte, separator byte) (out [][]byte) {
	if separator == 0 {
		return [][]byte{b}
	}
	for {
		i := s.next(b, 0, separator)
		out = append(out, b[:i:i])
		if i == len(b) {
			return out
		}
		b = b[i+1:]
	}
}

// put replaces an element, a repetition of it or a component.
func (s *Syntax) put(element, value []byte, p Position) []byte {
	if p.Component == 0 && p.Repetition <= 1 {
		return value
	}
	repetitions := s.pieces(element, s.Repetition)
	if len(value) == 0 && len(repetitions) < p.Repetition { // there is nothing to take away
		return element
	}
	for len(repetitions) < p.Repetition {
		repetitions = append(repetitions, nil)
	}
	at := max(p.Repetition, 1) - 1
	if p.Component == 0 {
		repetitions[at] = value
	} else {
		components := s.pieces(repetitions[at], s.Component)
		for len(components) < p.Component {
			components = append(components, nil)
		}
		components[p.Component-1] = value
		for len(components) > 1 && len(components[len(components)-1]) == 0 {
			components = components[:len(components)-1]
		}
		repetitions[at] = bytes.Join(components, []byte{s.Component})
	}
	return bytes.Join(repetitions, []byte{s.Repetition})
}
