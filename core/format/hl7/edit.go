package hl7

import (
	"bytes"
	"fmt"
	"sync"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/format"
	"ydrion/core/segments"
	"ydrion/core/standard"
	"ydrion/core/text"
)

// AsCame is a target whose messages are those of the source, byte for byte, but for what a map says of
// them: values that are changed or cleared, segments that are dropped.
type AsCame struct {
	segments.Edits
	own []*standard.Catalog // see By
}

// NewAsCame makes such a target.
func NewAsCame() *AsCame {
	return &AsCame{Edits: segments.Edits{Parse: parsePath, Counted: "OBX[2]-5", Chosen: "OBX(3=WBC)-5", Stays: func(p segments.Position) error {
		switch {
		case p.Segment != "MSH":
		case p.Field == 0:
			return fmt.Errorf("MSH begins the message")
		case p.Field <= 2 || p.Field == 18:
			return fmt.Errorf("MSH-%d says how the message is written, and stays as it came", p.Field)
		}
		return nil
	}}}
}

var _ format.Target = (*AsCame)(nil)
var _ format.Editor = (*AsCame)(nil)

// Escapes is the table of the usual separators. What is written has those of its message.
func (t *AsCame) Escapes() *text.Escapes { return Usual.Escapes() }

// Null is how a field is told to be deleted.
func (t *AsCame) Null() (string, bool) { return `""`, true }

// Inside is a segment of which each that came can be changed.
func (t *AsCame) Inside(path string) (string, format.Target, error) {
	return path, t, t.Edits.Inside(path)
}

// By gives it a description of one's own, that its messages are validated against instead of the standard.
func (t *AsCame) By(own *standard.Catalog) { t.own = []*standard.Catalog{own} }

// Validating tells where what was made of messages, each in its own character set, differs from their description.
func (t *AsCame) Validating(format.Reader, *batch.Batch) func(record int, made []byte, say func(format.Difference)) {
	return func(_ int, made []byte, say func(format.Difference)) { validated(t.own, false, made, say) }
}

// Layout keeps what is changed.
func (t *AsCame) Layout(in format.Instructions) (format.Layout, finding.List) {
	editor := *t // each layout has its own
	layout := format.Layout{Editor: &editor, Decimal: '.'}
	return layout, editor.Edits.Layout(in, &layout)
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
func (t *AsCame) Edit(out []byte, _ format.Reader, b *batch.Batch, record int, changes []format.Change) (_ []byte, problem string) {
	raw := b.Raw(record)
	sep, wrong := separators(raw)
	if wrong != "" {
		return out, wrong
	}
	if i := bytes.IndexByte(raw, blockEnd); i >= 0 { // the block around it is not the message's
		raw = raw[:i]
	}
	terminator := terminatorOf(raw)
	head, _, _ := bytes.Cut(raw, []byte{terminator})
	set, known := declaredCharset(head, sep)
	if !known {
		return out, "MSH-18 names a character set that is not known"
	}
	sep.Marked = true
	applied := make([]bool, len(changes))
	count := map[string]int{}
	for p := 0; p < len(raw); {
		stop, next := segmentEnd(raw, p, terminator)
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
			c, e := &changes[i], &t.Lines[changes[i].Edit]
			if e.Segment != string(line[:3]) || c.At >= 0 && c.At != p || c.At < 0 && !t.means(e, line, sep, set, count[e.Segment], applied[i]) {
				continue
			}
			applied[i] = true
			if e.Drop {
				dropped = true
				continue
			}
			value, why := written(c, sep, set)
			if why != "" {
				return out, fmt.Sprintf("%s: %s", e.Position, why)
			}
			if fields == nil {
				fields = pieces(bytes.Clone(line), sep.Field, set)
			}
			if fields, why = sep.set(fields, e.Position, value, set); why != "" {
				return out, why
			}
		}
		switch {
		case (dropped || fields != nil) && len(raw)-next > 3 && string(raw[next:next+3]) == "ADD":
			return out, fmt.Sprintf("%s goes on in the ADD segment that follows it, and stays as it came", line[:3])
		case dropped:
		case fields != nil:
			out = append(append(out, bytes.Join(fields, []byte{sep.Field})...), raw[stop:next]...)
		default:
			out = append(out, raw[p:next]...)
		}
		p = next
	}
	for i := range changes {
		if e := &t.Lines[changes[i].Edit]; !applied[i] && !e.Drop && !changes[i].Absent {
			return out, fmt.Sprintf("the message has no %s for the value", e.Part())
		}
	}
	return out, ""
}

// means tells whether a line of a map is about a segment, which is the nth of its name.
func (t *AsCame) means(e *segments.EditLine, line []byte, sep Separators, set text.Charset, n int, before bool) bool {
	if e.Element > 0 {
		var value []byte
		if fields := pieces(line, sep.Field, set); e.Element < len(fields) {
			value = fields[e.Element]
		}
		for _, by := range []byte{sep.Repetition, sep.Component, sep.Subcomponent} {
			value = pieces(value, by, set)[0]
		}
		return sep.says(value, set, e.Value) && (e.All || !before)
	}
	return e.All || n == e.Occurrence
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
func (s Separators) set(fields [][]byte, p segments.Position, value []byte, set text.Charset) ([][]byte, string) {
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
		for i, r := range pieces(fields[at], s.Repetition, set) {
			var by []byte
			if components := pieces(r, s.Component, set); p.By <= len(components) {
				by = pieces(components[p.By-1], s.Subcomponent, set)[0]
			}
			if s.says(by, set, p.Is) && repetition == 0 {
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
		fields[at] = put(fields[at], value, []byte{s.Repetition, s.Component, s.Subcomponent}, []int{max(repetition, 1), p.Component, p.Sub}, set)
	}
	return fields, ""
}

// put replaces the piece of a text that numbers say, one for each separator; 0 says all of what is left.
func put(text, value, separators []byte, numbers []int, set text.Charset) []byte {
	if len(numbers) == 0 || numbers[0] == 0 {
		return value
	}
	parts := pieces(text, separators[0], set)
	for len(parts) < numbers[0] {
		if len(value) == 0 {
			return text
		}
		parts = append(parts, nil)
	}
	parts[numbers[0]-1] = put(parts[numbers[0]-1], value, separators[1:], numbers[1:], set)
	return bytes.Join(parts, separators[:1])
}

// Show gives a written message as lines of path and unescaped value.
func (t *AsCame) Show(record []byte) []format.Line { return Show(record) }
