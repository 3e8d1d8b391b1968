// Package hl7 reads and writes HL7 version 2 in its vertical-bar form (HL7
// v2.5.1, chapter 2).
//
// Terms:
//
//   - message: segments, the first of which is MSH;
//   - segment: a line that ends with CR; three letters, then fields;
//   - field: between field separators, may repeat;
//   - component, subcomponent: parts of a field;
//   - escape sequence: how a separator is said in data, such as \F\ for |.
//
// Paths are SEG[n]-field[repetition].component.subcomponent, all numbers from 1
// and [1] left out: PID-5.1, OBX[2]-5, PID-3[2].4.
package hl7

import (
	"bytes"
	"fmt"
	"strconv"
	"strings"

	"ydrion/core/text"
)

// Separators are the characters that are structure in a message (chapter 2,
// 2.5.4: MSH-1 and MSH-2).
type Separators struct {
	Field, Component, Repetition, Escape, Subcomponent byte
}

// Usual are the separators that the standard recommends.
var Usual = Separators{'|', '^', '~', '\\', '&'}

// Escapes is the table for values written with these separators (2.7.1), with
// line breaks as \.br\.
func (s Separators) Escapes() *text.Escapes {
	esc := func(letters string) string { return string(s.Escape) + letters + string(s.Escape) }
	return text.NewEscapes(map[byte]string{
		s.Field: esc("F"), s.Component: esc("S"), s.Subcomponent: esc("T"), s.Repetition: esc("R"), s.Escape: esc("E"),
		'\n': esc(".br"), '\r': esc(".br"),
	})
}

// Unescape gives a value as it was before it was written. Sequences without a
// plain meaning (highlighting, character set changes) stay as they are.
func (s Separators) Unescape(value string) string {
	e := string(s.Escape)
	if !strings.Contains(value, e) {
		return value
	}
	var b strings.Builder
	for {
		before, rest, ok := strings.Cut(value, e)
		b.WriteString(before)
		if !ok {
			return b.String()
		}
		sequence, after, ok := strings.Cut(rest, e)
		if !ok {
			b.WriteString(e + rest)
			return b.String()
		}
		switch {
		case sequence == "F":
			b.WriteByte(s.Field)
		case sequence == "S":
			b.WriteByte(s.Component)
		case sequence == "T":
			b.WriteByte(s.Subcomponent)
		case sequence == "R":
			b.WriteByte(s.Repetition)
		case sequence == "E":
			b.WriteByte(s.Escape)
		case sequence == ".br":
			b.WriteByte('\n')
		case strings.HasPrefix(sequence, "X") && len(sequence) > 2 && len(sequence)%2 == 1 && hexBytes(sequence[1:], &b):
		default:
			b.WriteString(e + sequence + e)
		}
		value = after
	}
}

func hexBytes(digits string, to *strings.Builder) bool {
	var out []byte
	for i := 0; i < len(digits); i += 2 {
		n, err := strconv.ParseUint(digits[i:i+2], 16, 8)
		if err != nil {
			return false
		}
		out = append(out, byte(n))
	}
	to.Write(out)
	return true
}

// Field is a field as repetitions of components of subcomponents, all escaped
// as in the message.
type Field [][][]string

// Segment is a segment's name and its fields; Fields[0] is field 1.
type Segment struct {
	Name   string
	Fields []Field
	Offset int // in the message
}

// Message is a message taken apart.
type Message struct {
	Separators Separators
	Segments   []Segment
}

// Parse takes one message apart. Segments may end with CR, LF or CR LF.
func Parse(b []byte) (*Message, error) {
	if len(b) < 8 || string(b[:3]) != "MSH" {
		return nil, fmt.Errorf("the message does not begin with MSH")
	}
	line := b
	if i := bytes.IndexAny(b, "\r\n"); i >= 0 {
		line = b[:i]
	}
	m := &Message{Separators: Separators{Field: line[3]}}
	if len(line) < 8 {
		return nil, fmt.Errorf("MSH-2 must name four separators")
	}
	m.Separators.Component, m.Separators.Repetition, m.Separators.Escape, m.Separators.Subcomponent = line[4], line[5], line[6], line[7]
	for i := range 5 {
		for j := range i {
			if line[3+i] == line[3+j] {
				return nil, fmt.Errorf("separators %d and %d of MSH are the same: %q", j+1, i+1, line[3+i])
			}
		}
	}
	offset := 0
	for len(b) > 0 {
		i := bytes.IndexAny(b, "\r\n")
		next := i + 1
		if i < 0 {
			i, next = len(b), len(b)
		}
		if line := string(b[:i]); line != "" {
			s, err := m.segment(line)
			if err != nil {
				return nil, fmt.Errorf("segment %d: %w", len(m.Segments)+1, err)
			}
			s.Offset = offset
			m.Segments = append(m.Segments, s)
		}
		b, offset = b[next:], offset+next
	}
	return m, nil
}

func (m *Message) segment(line string) (Segment, error) {
	sep := m.Separators
	parts := strings.Split(line, string(sep.Field))
	s := Segment{Name: parts[0]}
	if !segmentName(s.Name) {
		return s, fmt.Errorf("%q is no segment name: three capital letters or digits", s.Name)
	}
	for i, f := range parts[1:] {
		if s.Name == "MSH" && i == 0 {
			s.Fields = append(s.Fields, Field{{{string(sep.Field)}}}, Field{{{f}}})
			continue
		}
		var field Field
		for _, r := range strings.Split(f, string(sep.Repetition)) {
			var repetition [][]string
			for _, c := range strings.Split(r, string(sep.Component)) {
				repetition = append(repetition, strings.Split(c, string(sep.Subcomponent)))
			}
			field = append(field, repetition)
		}
		s.Fields = append(s.Fields, field)
	}
	return s, nil
}

func segmentName(s string) bool {
	if len(s) != 3 || s[0] < 'A' || s[0] > 'Z' {
		return false
	}
	for _, c := range s[1:] {
		if (c < 'A' || c > 'Z') && (c < '0' || c > '9') {
			return false
		}
	}
	return true
}

// Get gives the unescaped value at a path, and whether it is there.
func (m *Message) Get(path string) (string, bool) {
	p, err := parsePath(path)
	if err != nil || p.field == 0 {
		return "", false
	}
	n := 0
	for _, s := range m.Segments {
		if s.Name != p.segment {
			continue
		}
		if n++; n < p.occurrence {
			continue
		}
		if p.field > len(s.Fields) {
			return "", false
		}
		f := s.Fields[p.field-1]
		component, sub := max(p.component, 1), max(p.sub, 1)
		if p.repetition > len(f) || component > len(f[p.repetition-1]) || sub > len(f[p.repetition-1][component-1]) {
			return "", false
		}
		return m.Separators.Unescape(f[p.repetition-1][component-1][sub-1]), true
	}
	return "", false
}

// path is a parsed path; component and sub are 0 when the path stops before.
type path struct {
	segment              string
	occurrence           int
	field, repetition    int
	component, sub       int
	hasOccurrence, whole bool
}

func (p path) part() string {
	if p.occurrence == 1 {
		return p.segment
	}
	return fmt.Sprintf("%s[%d]", p.segment, p.occurrence)
}

func (p path) String() string {
	s := p.part()
	if p.field == 0 {
		return s
	}
	s += "-" + strconv.Itoa(p.field)
	if p.repetition > 1 {
		s += fmt.Sprintf("[%d]", p.repetition)
	}
	if p.component > 0 {
		s += "." + strconv.Itoa(p.component)
	}
	if p.sub > 0 {
		s += "." + strconv.Itoa(p.sub)
	}
	return s
}

func parsePath(s string) (path, error) {
	bad := func(why string) (path, error) { return path{}, fmt.Errorf("%q is no HL7 position: %s", s, why) }
	p := path{occurrence: 1, repetition: 1}
	if len(s) < 3 || !segmentName(s[:3]) {
		return bad("it begins with a segment name such as PID")
	}
	p.segment = s[:3]
	rest := s[3:]
	index := func(into *int) bool {
		if !strings.HasPrefix(rest, "[") {
			return true
		}
		end := strings.IndexByte(rest, ']')
		if end < 0 {
			return false
		}
		n, err := strconv.Atoi(rest[1:end])
		if err != nil || n < 1 || n > 99999 {
			return false
		}
		*into, rest = n, rest[end+1:]
		return true
	}
	number := func(into *int) bool {
		n := 0
		for n < len(rest) && rest[n] >= '0' && rest[n] <= '9' {
			n++
		}
		v, err := strconv.Atoi(rest[:n])
		if err != nil || v < 1 || v > 999 {
			return false
		}
		*into, rest = v, rest[n:]
		return true
	}
	if !index(&p.occurrence) {
		return bad("[n] counts segments from 1")
	}
	if rest == "" {
		p.whole = true
		return p, nil
	}
	if rest[0] != '-' {
		return bad("a hyphen and the field's number follow the segment, as in PID-5")
	}
	rest = rest[1:]
	if !number(&p.field) {
		return bad("the field's number must follow the hyphen")
	}
	if !index(&p.repetition) {
		return bad("[n] counts repetitions from 1")
	}
	for _, into := range []*int{&p.component, &p.sub} {
		if rest == "" {
			return p, nil
		}
		if rest[0] != '.' {
			break
		}
		rest = rest[1:]
		if !number(into) {
			return bad("a number must follow the dot, as in PID-5.1")
		}
	}
	if rest != "" {
		return bad("nothing can follow the subcomponent")
	}
	return p, nil
}
