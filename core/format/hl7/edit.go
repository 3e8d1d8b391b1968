package hl7

import (
	"bytes"
	"fmt"
	"strings"
	"sync"

	"ydrion/core/finding"
	"ydrion/core/format"
	"ydrion/core/segments"
	"ydrion/core/text"
)

// AsCame is a target whose messages are those of the source, byte for byte, but for what a map says of
// them: values that are changed or cleared, segments that are dropped.
type AsCame struct {
	edits []edit
}

// edit is one such line of a map.
type edit struct {
	segments.Position
	drop, all bool // all segments of the name are meant
}

var _ format.Target = (*AsCame)(nil)
var _ format.Editor = (*AsCame)(nil)

// Escapes is the table of the usual separators. What is written has those of its message.
func (t *AsCame) Escapes() *text.Escapes { return Usual.Escapes() }

// Null is how a field is told to be deleted.
func (t *AsCame) Null() (string, bool) { return `""`, true }

// Position is any but the separators; segments and repetitions can be chosen by a value.
func (t *AsCame) Position(path string) (format.Position, error) {
	p, err := parsePath(path)
	switch {
	case err != nil:
		return format.Position{}, err
	case p.Field == 0:
		return format.Position{}, fmt.Errorf("%q is a whole segment; name one of its fields, as in %s-1", path, path)
	case p.Within != "":
		return format.Position{}, fmt.Errorf("%q is in a loop, and what is changed is counted or chosen by a value: name it as in OBX[2]-5 or OBX(3=WBC)-5", path)
	case p.Segment == "MSH" && (p.Field <= 2 || p.Field == 18):
		return format.Position{}, fmt.Errorf("%s says how the message is written, and stays as it came", path)
	}
	return format.Position{Key: path}, nil
}

// Part is a segment.
func (t *AsCame) Part(path string) (string, error) {
	p, err := parsePath(path)
	if err == nil && (p.Field != 0 || p.Within != "" || p.Segment == "MSH") {
		err = fmt.Errorf("%q cannot be dropped: name a segment, as in NTE or OBX(3=WBC)", path)
	}
	return path, err
}

// Inside is a segment of which each that came can be changed.
func (t *AsCame) Inside(path string) (string, format.Target, error) {
	p, err := parsePath(path)
	if path == "" || err == nil && (p.Field != 0 || p.Within != "" || p.Element > 0 || p.Occurrence > 1) {
		err = fmt.Errorf("name the segment that is changed for each row, as in `repeat OBX for obx in OBX`")
	}
	return path, t, err
}

// Layout keeps what is changed.
func (t *AsCame) Layout(in format.Instructions) (format.Layout, finding.List) {
	t.edits = nil
	layout := format.Layout{Editor: t, Decimal: '.'}
	out := t.layout(in, nil, nil, &layout)
	return layout, out
}

func (t *AsCame) layout(in format.Instructions, loops, conditions []int, layout *format.Layout) (out finding.List) {
	part := ""
	if len(loops) > 0 {
		part = in.Of
	}
	take := func(n format.Named, e format.Edit, drop bool) {
		p, err := parsePath(n.Path)
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
		t.edits = append(t.edits, edit{p, drop, e.Expression < 0 && !strings.Contains(segment, "[")})
	}
	seen := map[string]bool{}
	for _, a := range in.Assign {
		if p, err := parsePath(a.Path); err == nil && seen[p.String()] {
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
		of, err := parsePath(r.List)
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

// tables are the escapes for the separators of the messages that have come.
var tables sync.Map

func escapesFor(s Separators) *text.Escapes {
	if t, known := tables.Load(s); known {
		return t.(*text.Escapes)
	}
	t := s.Escapes()
	tables.Store(s, t)
	return t
}

// Edit writes a message with changes. The problem says why that is not possible.
func (t *AsCame) Edit(out, raw []byte, changes []format.Change) (_ []byte, problem string) {
	sep, wrong := separators(raw)
	if wrong != "" {
		return out, wrong
	}
	if i := bytes.IndexByte(raw, blockEnd); i >= 0 { // the block around it is not the message's
		raw = raw[:i]
	}
	head, _, _ := bytes.Cut(raw, []byte{'\r'})
	set, known := declaredCharset(head, sep)
	if !known {
		return out, "MSH-18 names a character set that is not known"
	}
	sep.Marked = true
	applied := make([]bool, len(changes))
	count := map[string]int{}
	for p := 0; p < len(raw); {
		stop := len(raw)
		if i := bytes.IndexAny(raw[p:], "\r\n"); i >= 0 {
			stop = p + i
		}
		next := stop
		for next < len(raw) && between(raw[next]) {
			next++
		}
		line := raw[p:stop]
		if len(line) < 3 {
			out = append(out, raw[p:next]...)
			p = next
			continue
		}
		count[string(line[:3])]++
		var fields [][]byte
		dropped := false
		for i := range changes {
			c, e := &changes[i], &t.edits[changes[i].Edit]
			if e.Segment != string(line[:3]) || c.At >= 0 && c.At != p || c.At < 0 && !t.means(e, line, sep, count[e.Segment], applied[i]) {
				continue
			}
			applied[i] = true
			if e.drop {
				dropped = true
				continue
			}
			value, why := written(c, sep, set)
			if why != "" {
				return out, fmt.Sprintf("%s: %s", e.Position, why)
			}
			if fields == nil {
				fields = bytes.Split(bytes.Clone(line), []byte{sep.Field})
			}
			if fields, why = sep.set(fields, e.Position, value); why != "" {
				return out, why
			}
		}
		switch {
		case dropped:
		case fields != nil:
			out = append(append(out, bytes.Join(fields, []byte{sep.Field})...), raw[stop:next]...)
		default:
			out = append(out, raw[p:next]...)
		}
		p = next
	}
	for i := range changes {
		if e := &t.edits[changes[i].Edit]; !applied[i] && !e.drop && !changes[i].Absent {
			return out, fmt.Sprintf("the message has no %s for the value", e.Part())
		}
	}
	return out, ""
}

// means tells whether a line of a map is about a segment, which is the nth of its name.
func (t *AsCame) means(e *edit, line []byte, sep Separators, n int, before bool) bool {
	if e.Element > 0 {
		value, _ := field(line[min(4, len(line)):], sep.Field, e.Element)
		value, _ = field(value, sep.Repetition, 1)
		value, _ = field(value, sep.Component, 1)
		return sep.Unescape(string(value)) == e.Value && (e.all || !before)
	}
	return e.all || n == e.Occurrence
}

// written is a value as it stands in a message.
func written(c *format.Change, sep Separators, set text.Charset) ([]byte, string) {
	switch {
	case c.Absent:
		return nil, ""
	case c.Null:
		return []byte(`""`), ""
	case string(c.Value) == `""`:
		return nil, `the value is the text "", which says null here; write something else for it`
	}
	out := escapesFor(sep).Append(nil, c.Value)
	switch {
	case set == "" && !text.IsASCII(out):
		return nil, fmt.Sprintf("%q is not ASCII, and MSH-18 names no character set", c.Value)
	case set == "" || set == text.UTF8:
		return out, ""
	}
	encoded, err := text.Encode(out, set)
	if err != nil {
		return nil, fmt.Sprintf("%q is not among the characters of %s, which MSH-18 names", c.Value, set)
	}
	return encoded, ""
}

// set puts a value into the fields of a segment.
func (s Separators) set(fields [][]byte, p segments.Position, value []byte) ([][]byte, string) {
	at := p.Field
	if name := string(fields[0]); name == "MSH" { // its first field is the separator
		at--
	}
	for len(fields) <= at {
		if len(value) == 0 {
			return fields, ""
		}
		fields = append(fields, nil)
	}
	repetition := p.Repetition
	if p.By > 0 {
		repetition = 0
		for i, r := range bytes.Split(fields[at], []byte{s.Repetition}) {
			of, _ := field(r, s.Component, p.By)
			if of, _ = field(of, s.Subcomponent, 1); s.Unescape(string(of)) == p.Is && repetition == 0 {
				repetition = i + 1
			}
		}
		if repetition == 0 {
			if len(value) == 0 {
				return fields, ""
			}
			return fields, fmt.Sprintf("no repetition of %s-%d has %q in component %d", p.Segment, p.Field, p.Is, p.By)
		}
	}
	whole := p.Component == 0
	switch {
	case whole && repetition <= 1 && p.By == 0 && p.Repetition <= 1:
		fields[at] = value // all of the field
	default:
		fields[at] = put(fields[at], value, []byte{s.Repetition, s.Component, s.Subcomponent}, []int{max(repetition, 1), p.Component, p.Sub})
	}
	return fields, ""
}

// put replaces the piece of a text that numbers say, one for each separator; 0 says all of what is left.
func put(text, value, separators []byte, numbers []int) []byte {
	if len(numbers) == 0 || numbers[0] == 0 {
		return value
	}
	pieces := bytes.Split(text, separators[:1])
	for len(pieces) < numbers[0] {
		if len(value) == 0 {
			return text
		}
		pieces = append(pieces, nil)
	}
	pieces[numbers[0]-1] = put(pieces[numbers[0]-1], value, separators[1:], numbers[1:])
	return bytes.Join(pieces, separators[:1])
}

// Show gives a written message as lines of path and unescaped value.
func (t *AsCame) Show(record []byte) []format.Line { return Show(record) }
