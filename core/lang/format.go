package lang

import (
	"strings"

	"ydrion/core/finding"
)

// Format writes a map as maps are written: two blanks for each block, one between words, comments behind two,
// the equals signs of lines that stand together under each other, and no more than one empty line. What the
// map says stays the same. A map that cannot be read is given back with what is wrong.
func Format(file, source string) (string, finding.List) {
	if _, findings := Parse(file, source); findings.HasErrors() {
		return source, findings
	}
	var lines []tidied
	depth, goes, open := 0, false, false // a line goes on: with | or if, or behind a comma
	for raw := range strings.SplitSeq(strings.TrimRight(strings.ReplaceAll(source, "\r\n", "\n"), " \t\n"), "\n") {
		l := tidy(raw)
		goes = open && len(l.words) > 0 || len(l.words) > 0 && (l.words[0].text == "|" || l.words[0].text == "if" && l.words[0].kind == word)
		first := ""
		if len(l.words) > 0 && l.words[0].kind == word && !goes {
			first = l.words[0].text
		}
		if first == "end" {
			depth--
		}
		l.depth = depth
		if goes {
			l.depth++
		}
		l.goes = goes
		if assigns := len(l.words) > 2 && !goes && l.words[1].kind == sign && l.words[1].text == "="; assigns {
			l.name = l.write(0, 1)
		}
		lines = append(lines, l)
		switch {
		case first == "add" || first == "repeat" || first == "when":
			depth++
		}
		if len(l.words) > 0 {
			last := l.words[len(l.words)-1]
			open = last.kind == sign && last.text == ","
		}
	}
	align(lines)
	var out strings.Builder
	empty := true // none at the beginning
	for _, l := range lines {
		if len(l.words) == 0 && l.comment == "" {
			if !empty {
				out.WriteByte('\n')
			}
			empty = true
			continue
		}
		empty = false
		text := strings.Repeat("  ", l.depth)
		if l.name != "" {
			text += l.name + strings.Repeat(" ", l.pad) + " = " + l.write(2, len(l.words))
		} else {
			text += l.write(0, len(l.words))
		}
		if l.comment != "" {
			if len(l.words) > 0 {
				text += "  "
			}
			text += l.comment
		}
		out.WriteString(strings.TrimRight(text, " "))
		out.WriteByte('\n')
	}
	return out.String(), nil
}

// tidied is a line of a map.
type tidied struct {
	raw     string
	words   []token
	comment string
	depth   int
	goes    bool   // on with the one before
	name    string // that is assigned
	pad     int
}

// tidy takes a line apart.
func tidy(raw string) tidied {
	l := tidied{raw: raw}
	s := scanner{source: raw}
	heading := false
	for {
		s.blanks()
		if s.at < len(raw) && raw[s.at] == '#' {
			l.comment = strings.TrimRight(raw[s.at:], " \t\r")
			return l
		}
		if heading { // file names, as they stand
			for _, t := range s.line() {
				l.words = append(l.words, t)
			}
			if at := s.at; at < len(raw) && strings.IndexByte(raw[:at], '#') >= 0 {
				at = strings.IndexByte(raw, '#')
				l.comment = strings.TrimRight(raw[at:], " \t\r")
			} else if i := strings.Index(raw, " #"); i >= 0 {
				l.comment = strings.TrimRight(raw[i+1:], " \t\r")
			}
			return l
		}
		t := s.next()
		if t.kind == end || t.kind == newline || t.kind == broken {
			return l
		}
		l.words = append(l.words, t)
		heading = len(l.words) == 1 && t.kind == word && (t.text == "map" || t.text == "source" || t.text == "target")
	}
}

// blanks goes behind blanks, and not behind comments.
func (s *scanner) blanks() {
	for s.at < len(s.source) && (s.source[s.at] == ' ' || s.source[s.at] == '\t' || s.source[s.at] == '\r') {
		s.at++
	}
}

// write gives words from one on to before another, with blanks between them where there belong some.
func (l *tidied) write(from, to int) string {
	var b strings.Builder
	for i := from; i < to; i++ {
		t := l.words[i]
		text := t.text
		if t.kind == literal {
			text = `"` + t.text + `"`
		}
		if i > from && l.apart(i) {
			b.WriteByte(' ')
		}
		b.WriteString(text)
	}
	return b.String()
}

// apart tells whether a blank stands before a word.
func (l *tidied) apart(i int) bool {
	t, before := l.words[i], l.words[i-1]
	width := len(before.text)
	if before.kind == literal {
		width += 2
	}
	tight := before.pos+width == t.pos
	switch {
	case t.kind == sign && (t.text == ")" || t.text == ","), before.kind == sign && before.text == "(":
		return false
	case t.kind == sign && t.text == "(" && before.kind == word:
		return !tight || reserved[before.text] // a function's own
	case before.kind == sign && before.text == "-" && tight:
		return false // of a number
	}
	return true
}

// align puts the equals signs of lines that stand together under each other, unless names differ much.
func align(lines []tidied) {
	for i := 0; i < len(lines); {
		k, longest := i, 0
		for k < len(lines) && lines[k].name != "" && lines[k].depth == lines[i].depth && len([]rune(lines[k].name)) <= 24 {
			longest = max(longest, len([]rune(lines[k].name)))
			k++
		}
		for j := i; j < k; j++ {
			lines[j].pad = longest - len([]rune(lines[j].name))
		}
		i = max(k, i+1)
	}
}
