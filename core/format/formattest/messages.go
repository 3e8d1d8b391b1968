package formattest

import (
	"regexp"
	"strings"
	"testing"

	"ydrion/core/standard"
)

// Writing is what a message is written with; what is empty there is not.
type Writing struct{ Element, Repetition, Component, Sub, Release, End string }

// Dice gives numbers from 0 on, below one.
type Dice interface{ IntN(below int) int }

// Message makes a message of a structure, with values that are mostly as they are described. Its first segment is given.
func Message(dice Dice, book *standard.Dictionary, of *standard.Structure, head string, w Writing) string {
	m := &message{dice: dice, book: book, of: of, Writing: w}
	m.out.WriteString(head + w.End)
	m.group(0, true)
	return m.out.String()
}

type message struct {
	Writing
	dice Dice
	book *standard.Dictionary
	of   *standard.Structure
	out  strings.Builder
}

func (m *message) one(in int) bool { return m.dice.IntN(in) == 0 }

// group writes the members of a group; the first of the message stands there already.
func (m *message) group(at int, begun bool) {
	for i := at + 1; i < m.of.Nodes[at].End && m.out.Len() < 4000; i = m.of.Nodes[i].End {
		n := &m.of.Nodes[i]
		times := n.Min
		if n.Min == 0 && m.one(2) || n.Max != 1 && m.one(4) || m.one(60) {
			times++
		}
		if begun {
			begun = false
			continue
		}
		for range times {
			if len(n.Segments) == 0 {
				m.group(i, false)
				continue
			}
			name := n.Segments[m.dice.IntN(len(n.Segments))]
			as := name
			if n.As != "" {
				as = n.As
			}
			m.segment(name, n.Choice, m.book.Segment(as))
		}
	}
}

func (m *message) segment(name string, choice *standard.Choice, known *standard.Composite) {
	var fields []string
	for i := 0; known != nil && i < len(known.Elements); i++ {
		e := &known.Elements[i]
		value := ""
		switch {
		case choice != nil && choice.Element == i+1:
			value = choice.Values[m.dice.IntN(len(choice.Values))]
		case m.wanted(e):
			value = m.value(e, m.Component, 0)
			for m.Repetition != "" && (e.Repeats != 1 && m.one(3) || m.one(100)) {
				value += m.Repetition + m.value(e, m.Component, 0)
			}
		}
		fields = append(fields, value)
	}
	if m.one(100) {
		fields = append(fields, "more")
	}
	m.out.WriteString(m.joined(append([]string{name}, fields...), m.Element) + m.End)
}

// joined leaves out what is empty at the end, mostly.
func (m *message) joined(values []string, by string) string {
	for len(values) > 0 && values[len(values)-1] == "" && !m.one(50) {
		values = values[:len(values)-1]
	}
	return strings.Join(values, by)
}

func (m *message) wanted(e *standard.Element) bool {
	switch e.Usage {
	case standard.Required:
		return !m.one(80)
	case standard.NotUsed:
		return m.one(80)
	}
	return m.one(4)
}

func (m *message) value(e *standard.Element, by string, depth int) string {
	of := e.Of()
	if of == nil || by == "" || depth == 3 || m.one(30) {
		return m.leaf(e)
	}
	var parts []string
	for i := range of.Elements {
		part := ""
		if i == 0 || m.wanted(&of.Elements[i]) {
			part = m.value(&of.Elements[i], m.Sub, depth+1)
			if by == m.Sub {
				part = m.leaf(&of.Elements[i])
			}
		}
		parts = append(parts, part)
	}
	if m.one(100) {
		parts = append(parts, "X")
	}
	return m.joined(parts, by)
}

func (m *message) leaf(e *standard.Element) string {
	for range 3 {
		if of := e.Of(); of != nil {
			e = &of.Elements[0]
		}
	}
	if m.one(60) {
		return []string{`""`, "", "Möwe", "12x", "-", "20260230", strings.Repeat("long ", 60), m.Release + m.Element + "a", m.Sub, " "}[m.dice.IntN(10)]
	}
	if t := e.Codes(); t != nil {
		return t.Codes[m.dice.IntN(len(t.Codes))].Code
	}
	characters, most := "ABCDEFGHIJKLMNOPQRSTUVWXYZ 0123456789", 8
	switch e.Type {
	case "DT", "TS", "DTM", "TM":
		text := "20261125093000"
		if e.Type == "TM" {
			text = text[8:]
		}
		if e.Max > 0 {
			text = text[:min(len(text), e.Max)]
		}
		if e.Type == "DT" {
			text = text[:min(len(text), 8)]
		}
		return text
	case "N", "n", "R", "NM", "SI", "N0", "N2":
		characters = "123456789"
	}
	if e.Max > 0 {
		most = min(most, e.Max)
	}
	out := make([]byte, max(1, e.Min, m.dice.IntN(most+1)))
	for i := range out {
		out[i] = characters[m.dice.IntN(len(characters))]
	}
	return string(out)
}

// Stricter is a description of one's own: what the text of a standard's says, all of whose tables have all codes that there may be, and in which
// something that may be there mostly is not used.
func Stricter(t *testing.T, of *standard.Catalog, text string) *standard.Catalog {
	t.Helper()
	lines := strings.Split(text, "\n")
	tables := map[string]bool{}
	for _, line := range lines {
		if name, is := strings.CutPrefix(line, "table "); is {
			name, _, _ = strings.Cut(name, " ")
			tables[name] = true
		}
	}
	table := regexp.MustCompile(`#\w+`)
	for i, line := range lines {
		line = table.ReplaceAllStringFunc(line, func(name string) string {
			if tables[name[1:]] {
				return name
			}
			return "" // one that nobody has written down
		})
		lines[i] = line
		if i%7 == 0 && (strings.HasPrefix(line, "C ") || strings.HasPrefix(line, "O ")) {
			lines[i] = "X" + line[1:]
		}
	}
	for {
		own, err := standard.Own(strings.Join(lines, "\n"))
		if err == nil {
			return own
		}
		_, name, is := strings.Cut(err.Error(), "there is no type ")
		if !is {
			t.Fatal(err)
		}
		lines = append(lines, "", "type "+name+" "+strings.Join(of.Versions, ",")+" An elementary one", "")
	}
}
