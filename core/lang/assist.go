package lang

import (
	"fmt"
	"slices"
	"strings"

	"ydrion/core/finding"
	"ydrion/core/format"
	"ydrion/core/value"
)

// Assistant answers who edits a map: what may stand at a place, what stands there, and what is wrong.
type Assistant struct {
	Scope Scope
	// Target is what the map is based on, nil if that is not known; Positions are those that it has.
	Target    format.Target
	Positions []string
}

// Candidate is a text that may stand at a place.
type Candidate struct {
	Text string `json:"text"`
	Kind string `json:"kind" doc:"verb, position, field, row, list, function, word, value or table"`
	Doc  string `json:"doc"`
}

// verbs are the words that lines begin with.
var verbs = []Candidate{
	{"add", "verb", "add SEGMENT … end: one more segment"}, {"clear", "verb", "clear POSITION: nothing stands there"}, {"drop", "verb", "drop PART when CONDITION: it is left out"},
	{"end", "verb", "the end of a block"}, {"ignore", "verb", "ignore FIELD: it is not used on purpose"}, {"keep", "verb", "keep POSITION: the sample's value is a constant"},
	{"let", "verb", "let NAME = VALUE: a named value"}, {"reject", "verb", "reject when CONDITION because TEXT: the record is rejected"}, {"repeat", "verb", "repeat PART for ROW in LIST … end: the part for each row"},
	{"skip", "verb", "skip when CONDITION because TEXT: the record is left out"}, {"when", "verb", "when CONDITION … end: only then"},
}

// Problems are what is wrong with a map, as a check finds it.
func (a *Assistant) Problems(file, source string) finding.List {
	m, findings := Parse(file, source)
	if findings.HasErrors() || a.Target == nil {
		return findings
	}
	_, more := Build(m, file, source, a.Target, a.Scope)
	return append(findings, more...)
}

// around is what stands around a place in a map: the rows that blocks go through, named values, and the words
// of the line before it.
type around struct {
	checker *checker
	lets    []string
	words   []token
	goes    bool // the line goes on with the one before
}

// look goes through the lines of a map up to a place.
func (a *Assistant) look(source string, at int) *around {
	out := &around{checker: newChecker(a.Scope, nil)}
	open := []bool{} // blocks: whether they go through rows
	lines := strings.Split(source[:at], "\n")
	for n, raw := range lines {
		l := tidy(raw)
		comma := len(out.words) > 0 && out.words[len(out.words)-1].text == ","
		if out.words = l.words; n == len(lines)-1 {
			out.goes = comma || len(l.words) > 0 && (l.words[0].text == "|" || l.words[0].text == "if")
			break
		}
		if len(l.words) == 0 || comma {
			continue
		}
		switch l.words[0].text {
		case "add", "when":
			open = append(open, false)
		case "let":
			if len(l.words) > 1 {
				out.lets = append(out.lets, l.words[1].text)
			}
		case "repeat":
			i := slices.IndexFunc(l.words, func(t token) bool { return t.kind == word && t.text == "for" })
			entered := false
			if i > 0 && len(l.words) > i+3 {
				depth, table := out.checker.listed(l.words[i+3].text)
				if entered = table >= 0; entered {
					c := out.checker
					c.frames = append(c.frames, frame{name: l.words[i+1].text, fields: c.tables[table].Fields, table: table, above: depth})
				}
			}
			open = append(open, entered)
		case "end":
			if k := len(open) - 1; k >= 0 {
				if open[k] {
					out.checker.leave()
				}
				open = open[:k]
			}
		}
	}
	return out
}

// Complete gives what may stand at a place, instead of what stands from another place on before it.
func (a *Assistant) Complete(source string, at int) (from int, out []Candidate) {
	around := a.look(source, at)
	start := strings.LastIndexByte(source[:at], '\n') + 1
	words, begun := around.words, ""
	if n := len(words); n > 0 && words[n-1].kind == word && start+words[n-1].pos+len(words[n-1].text) == at {
		begun, words = words[n-1].text, words[:n-1]
	} else if n > 0 && strings.HasSuffix(source[:at], ".") && words[n-1].kind == word { // row.
		begun, words = words[n-1].text+".", words[:n-1]
	}
	before := ""
	if len(words) > 0 {
		before = words[len(words)-1].text
	}
	first := ""
	if len(words) > 0 && !around.goes {
		first = words[0].text
	}
	switch {
	case len(words) == 0 && !around.goes:
		out = append(slices.Clone(verbs), a.positions()...)
	case before == "|":
		for _, f := range Functions() {
			out = append(out, Candidate{f.Name, "function", f.usage() + ": " + f.Doc})
		}
	case len(words) > 1 && before == "lookup" && words[len(words)-2].text == "|":
		out = a.lookups()
	case first == "repeat" && before == "in":
		out = around.all(true)
	case (first == "keep" || first == "clear") && (before == first || before == ","), (first == "drop" || first == "add" || first == "repeat") && len(words) == 1:
		out = a.positions()
	case first == "ignore":
		for _, f := range a.Scope.Fields {
			out = append(out, Candidate{f.Name, "field", described(f.Kind, f.At())})
		}
	default:
		out = around.all(false)
	}
	out = slices.DeleteFunc(out, func(c Candidate) bool { return !strings.HasPrefix(strings.ToLower(c.Text), strings.ToLower(begun)) })
	slices.SortStableFunc(out, func(x, y Candidate) int { return strings.Compare(x.Text, y.Text) })
	return at - len(begun), slices.CompactFunc(out, func(x, y Candidate) bool { return x.Text == y.Text })
}

func (a *Assistant) positions() (out []Candidate) {
	for _, p := range a.Positions {
		out = append(out, Candidate{p, "position", ""})
	}
	return out
}

func (a *Assistant) lookups() (out []Candidate) {
	if a.Scope.Lookups == nil {
		return nil
	}
	for _, name := range a.Scope.Lookups.Names() {
		out = append(out, Candidate{name, "table", "lookups/" + name + ".csv"})
	}
	return out
}

func described(kind value.Kind, at string) string { return fmt.Sprintf("a %s, at %s", kind, at) }

// all are the values, or only the lists, that an expression may name.
func (k *around) all(lists bool) (out []Candidate) {
	c := k.checker
	for depth := c.inner(); depth >= 0; depth-- {
		f := &c.frames[depth]
		prefix := ""
		if depth > 0 || c.inner() > 0 {
			prefix = f.name + "."
		}
		for n, t := range c.tables {
			if t.Above == f.table {
				out = append(out, Candidate{c.tables[n].Name, "list", "a list, at " + t.At()})
			}
		}
		if lists {
			continue
		}
		for _, field := range f.fields {
			out = append(out, Candidate{field.Name, "field", described(field.Kind, field.At())})
			if prefix != "" {
				out = append(out, Candidate{prefix + field.Name, "field", described(field.Kind, field.At())})
			}
		}
		if depth > 0 {
			out = append(out, Candidate{f.name + ".position", "row", "its place in the list, from 1"}, Candidate{f.name + ".first", "row", "whether it is the first"}, Candidate{f.name + ".last", "row", "whether it is the last"})
		}
	}
	if lists {
		return out
	}
	for name, w := range contextWords {
		if c.scope.Words[name] || c.scope.Words == nil && !seldom(name) {
			out = append(out, Candidate{name, "word", w.Doc})
		}
	}
	for _, name := range k.lets {
		out = append(out, Candidate{name, "value", "a value that the map has named"})
	}
	return out
}

// Hover says what stands at a place; empty if there is nothing to say.
func (a *Assistant) Hover(source string, at int) string {
	start := strings.LastIndexByte(source[:at], '\n') + 1
	end := len(source)
	if i := strings.IndexByte(source[at:], '\n'); i >= 0 {
		end = at + i
	}
	l := tidy(source[start:end])
	for i, t := range l.words {
		if t.kind != word || at < start+t.pos || at > start+t.pos+len(t.text) {
			continue
		}
		if f, is := functions[t.text]; is && i > 0 && l.words[i-1].text == "|" {
			on := "VALUE"
			if f.Rows {
				on = "LIST"
			}
			return fmt.Sprintf("%s | %s: %s", on, f.usage(), f.Doc)
		}
		if k := slices.IndexFunc(verbs, func(v Candidate) bool { return v.Text == t.text }); k >= 0 && i == 0 {
			return verbs[k].Doc
		}
		for _, c := range a.look(source, start).all(false) {
			if c.Text == t.text {
				return t.text + ": " + c.Doc
			}
		}
	}
	return ""
}
