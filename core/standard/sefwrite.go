package standard

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
)

// text writes what has been read in our own format.
func (s *sef) text(g *Guideline) string {
	var b strings.Builder
	var like *Dictionary
	if catalog := s.known[s.standard]; catalog != nil {
		like = catalog.Version(s.version)
	}
	if like == nil {
		like = &Dictionary{}
	}
	fmt.Fprintf(&b, "# %s\n# from %s, a guideline in the Standard Exchange Format\n", strings.TrimSpace(g.Name+" "+g.Title), s.file)
	names := map[string]*described{}
	for _, d := range s.segments {
		if names[d.name] != nil {
			s.line = d.line
			s.bad("segment %s is described twice", d.name)
		}
		names[d.name] = d
	}
	for _, m := range s.sets {
		s.line = m.line
		fmt.Fprintf(&b, "\nstructure %s %s %s\n%s\n", m.name, s.version, s.named("SETS", m.name, m.name), s.structure(m, names))
	}
	for _, d := range s.segments {
		s.block(&b, "segment", "SEGS", d, 0, like.Segment(d.name))
		for _, mask := range slices.Sorted(maps.Keys(s.variants[d.name])) {
			s.block(&b, "segment", "SEGS", d, mask, like.Segment(d.name))
		}
	}
	for _, d := range s.composites {
		s.block(&b, "type", "COMS", d, 0, like.Type(d.name))
	}
	for _, name := range slices.Sorted(maps.Keys(s.used)) {
		table := like.Table(name)
		if table == nil {
			table = &Table{Title: "codes of " + name}
		}
		fmt.Fprintf(&b, "\ntable %s %s\n", name, s.named("ELMS", name, table.Title))
		for _, code := range s.codes[name] {
			means, ok := table.Meaning(code)
			if !ok {
				means = code
			}
			fmt.Fprintf(&b, "%s = %s\n", code, s.named("ELMS", name+"~"+code, means))
		}
	}
	return b.String()
}

// named is the name of something, or what stands for it.
func (s *sef) named(kind, key, otherwise string) string {
	if n := s.texts[kind+" "+key]; n != "" {
		return n
	}
	return otherwise
}

// block writes a segment or a type; with a mask a segment as it is used at certain places.
// like is its description by the standard, nil if there is none.
func (s *sef) block(b *strings.Builder, kind, texts string, d *described, mask int, like *Composite) {
	if s.line = d.line; b.Len() > sefText {
		s.bad("the guideline is too large: its description has more than %d MiB", sefText>>20)
		return
	}
	name, signs := d.name, ""
	if mask > 0 {
		name += "@" + strconv.Itoa(mask)
		if mask > len(d.masks) {
			s.bad("segment %s has no mask %d", d.name, mask)
			return
		}
		signs = d.masks[mask-1]
	}
	if like == nil {
		like = &Composite{Title: d.name}
	}
	fmt.Fprintf(b, "\n%s %s %s %s\n", kind, name, s.version, s.named(texts, d.name, like.Title))
	numbers, known := []string{}, false
	for i, p := range d.parts {
		usage := p.usage
		if i < len(signs) {
			switch signs[i] {
			case '.':
				usage = 'X'
			case '!', '$':
				usage = 'R'
			case '-', '&':
				s.attribute(signs[i : i+1])
			}
		}
		repeats := ""
		switch {
		case p.repeats == 0:
			repeats = "*"
		case p.repeats > 1:
			repeats = "*" + strconv.Itoa(p.repeats)
		}
		e, simple := s.elements[p.name]
		composite := slices.ContainsFunc(s.composites, func(c *described) bool { return c.name == p.name })
		what := ""
		switch {
		case composite:
			what = p.name
		case simple:
			low, high := e.min, e.max
			if p.max > 0 {
				low, high = p.min, p.max
			}
			what = fmt.Sprintf("%s(%d..%d)", e.kind, low, high)
			if len(s.codes[p.name]) > 0 {
				s.used[p.name] = true
				what += "#" + p.name
			}
		default:
			s.bad("%s: there is no element %s in .ELMS or .COMS", d.name, p.name)
			continue
		}
		title := "element " + p.name
		if i < len(like.Elements) {
			title = like.Elements[i].Title
		}
		title = s.named("ELMS", p.name, s.named("COMS", p.name, title))
		fmt.Fprintf(b, "%c%s %s %s\n", usage, repeats, what, title)
		if composite {
			numbers = append(numbers, "-")
		} else {
			numbers, known = append(numbers, p.name), true
		}
	}
	if known {
		fmt.Fprintf(b, "numbers %s\n", strings.Join(numbers, " "))
	}
	if len(d.notes) > 0 {
		fmt.Fprintf(b, "notes %s\n", strings.Join(d.notes, " "))
	}
}

// structure turns ^[ST,M][BEG*1,M]{:200[N1][N2,,2]}[SE,M] into a structure. ^ begins a table of the
// message, +10 counts positions: neither is a rule.
func (s *sef) structure(m *described, segments map[string]*described) string {
	var b strings.Builder
	var open []string        // what is to follow each loop's bracket
	loops, first := 0, false // of a loop
	rest := m.body
	fail := func(what string) string {
		s.bad("%s: %s at %.30q", m.name, what, rest)
		return ""
	}
	for rest != "" {
		switch c := rest[0]; {
		case c == '^':
			rest = rest[1:]
		case c == '+' || c == '-' || c == '@': // positions
			end := 1
			for end < len(rest) && rest[end]-'0' <= 9 {
				end++
			}
			rest = rest[end:]
		case c == '{':
			i := strings.IndexAny(rest, "[}")
			if i < 0 || rest[i] == '}' {
				return fail("a loop must have segments")
			}
			if loops++; loops > sefLoops || len(open) > 50 {
				return fail("there are too many loops")
			}
			name, often, _ := strings.Cut(rest[1:i], ":")
			usage, name := s.attribute(name)
			requirement := ""
			often, requirement, _ = strings.Cut(often, ",")
			often, _, _ = strings.Cut(often, "+")
			name, _, _ = strings.Cut(name, "+")
			trigger := s.bracket(rest[i:])
			if trigger.usage == 'X' { // a loop that nothing can begin
				end := closing(rest)
				if end < 0 {
					return fail("a loop is not closed")
				}
				rest = rest[end:]
				continue
			}
			if name == "" {
				name = trigger.name
			}
			if strings.ContainsAny(name, " ?*+{}()[]@|#") || name == "" {
				return fail("a loop has no name")
			}
			if prefix := "LOOP_"; name[0]-'0' <= 9 {
				name = "SG" + name
			} else {
				name = prefix + name
			}
			required := usage == 'R' || s.requirement(requirement) == 'R' || s.standard == "x12" && trigger.usage == 'R'
			fmt.Fprintf(&b, "%s%s(", name, times(required, s.number(often, 1)))
			open, rest, first = append(open, name), rest[i:], true
		case c == '}':
			if len(open) == 0 {
				return fail("a loop is closed that was not opened")
			}
			b.WriteString(") ")
			open, rest = open[:len(open)-1], rest[1:]
		case c == '[':
			_, after, closed := strings.Cut(rest, "]")
			if !closed {
				return fail("a bracket is not closed")
			}
			p := s.bracket(rest)
			if p.name == "" || strings.ContainsAny(p.name, " ?+{}()[]@|#") {
				return fail("a segment has no name")
			}
			if segments[p.name] == nil {
				s.bad("%s: there is no segment %s in .SEGS", m.name, p.name)
			}
			name := p.name
			if p.mask != "" {
				n, err := strconv.Atoi(p.mask)
				if err != nil || n < 1 {
					return fail("a mask is a number")
				}
				if s.variants[name] == nil {
					s.variants[name] = map[int]bool{}
				}
				s.variants[name][n] = true
				name += "@" + strconv.Itoa(n)
			}
			if p.usage == 'C' && s.standard == "x12" {
				s.skip("conditional segments", "their conditions stand in notes for people")
			}
			if p.usage != 'X' { // what a partner does not use has no place
				b.WriteString(name + times(first || p.usage == 'R', p.repeats) + " ")
			}
			rest, first = after, false
		case c == ' ':
			rest = rest[1:]
		default:
			return fail("nothing is known of this")
		}
	}
	if len(open) > 0 {
		return fail("a loop is not closed")
	}
	return strings.ReplaceAll(strings.TrimSpace(b.String()), " )", ")")
}

// inSet is a segment of a message.
type inSet struct {
	name, mask string
	usage      byte
	repeats    int
}

// bracket reads [BEG*1,M,2].
func (s *sef) bracket(text string) (p inSet) {
	inner, _, _ := strings.Cut(text[1:], "]")
	usage, inner := s.attribute(inner)
	f := append(strings.Split(inner, ","), "", "")
	if len(f) > 5 {
		s.skip("more than name, requirement and repetition in brackets", "it is not known what it says")
	}
	name, _, _ := strings.Cut(f[0], "@")
	p.name, p.mask, _ = strings.Cut(strings.TrimSpace(name), "*")
	p.usage, p.repeats = s.requirement(strings.TrimSpace(f[1])), s.number(strings.TrimSpace(f[2]), 1)
	if usage != 0 {
		p.usage = usage
	}
	return p
}

// closing finds what stands behind the bracket that closes the one at the beginning, -1 if none does.
func closing(text string) int {
	depth := 0
	for i := range len(text) {
		switch text[i] {
		case '{':
			depth++
		case '}':
			if depth--; depth == 0 {
				return i + 1
			}
		}
	}
	return -1
}

// times writes how often something comes.
func times(required bool, most int) string {
	least := 0
	if required {
		least = 1
	}
	switch {
	case most == 1 && required:
		return ""
	case most == 1:
		return "?"
	case most == 0 && required:
		return "+"
	case most == 0:
		return "*"
	}
	return fmt.Sprintf("{%d,%d}", least, most)
}
