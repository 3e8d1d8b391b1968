package standard

import (
	"cmp"
	"slices"
	"strconv"
	"strings"

	"ydrion/core/finding"
	"ydrion/core/place"
	"ydrion/core/text"
)

// Guideline is what a partner's guideline in the Standard Exchange Format says about messages, in
// our own text format for descriptions.
type Guideline struct {
	Standard string   `json:"standard"` // x12 or edifact
	Version  string   `json:"version"`  // 004010, D.96A
	Name     string   `json:"name"`
	Title    string   `json:"title"`
	Messages []string `json:"messages"`
	Text     string   `json:"text" doc:"the description"`
}

// sef reads a guideline: sections that begin with a line such as .SEGS, in them a line for each entry
// with its name before an equals sign.
type sef struct {
	file     string
	known    map[string]*Catalog
	out      finding.List
	line     int64
	standard string
	version  string

	sets, segments, composites []*described
	elements                   map[string]basic
	codes                      map[string][]string
	texts                      map[string]string // names of what has one
	used                       map[string]bool   // tables
	skipped                    map[string]*finding.Finding
	variants                   map[string]map[int]bool // segments that sets name with a mask
}

// described is an entry that has been read as far as its brackets.
type described struct {
	name string
	line int64
	body string
	// of segments and composites
	parts []partOf
	notes []string
	masks []string
}

// partOf is an element of a segment or composite.
type partOf struct {
	name     string
	usage    byte
	repeats  int
	min, max int // Max 0: as the element has it
}

// basic is a simple element.
type basic struct {
	kind     string
	min, max int
}

// What is made of a guideline is bounded: elements and masks of a segment, loops of a message,
// and bytes.
const (
	sefParts = 1_000
	sefLoops = 2_000
	sefText  = 64 << 20
)

// ReadSEF reads a guideline in the Standard Exchange Format (SEF 1.0 to 1.6, the parts on messages).
// What it says and cannot be held here is a warning; what cannot be read is an error, and there is
// no guideline then.
//
// What it does not name is named as in the standard's own description of the same version, if there
// is one: known has those by the standard.
func ReadSEF(file string, b []byte, known map[string]*Catalog) (*Guideline, finding.List) {
	s := &sef{file: file, known: known, elements: map[string]basic{}, codes: map[string][]string{}, texts: map[string]string{}, used: map[string]bool{}, skipped: map[string]*finding.Finding{}, variants: map[string]map[int]bool{}}
	g := &Guideline{}
	if text.FirstInvalid(b) >= 0 {
		decoded, err := text.DecodeAll(b, text.Latin1)
		if err != nil {
			s.bad("it is not a text: %v", err)
			return nil, s.out
		}
		b = decoded
		s.skip("its encoding", "it is not UTF-8, and was read as iso-8859-1")
	}
	section, private := "", false
	for raw := range strings.SplitSeq(strings.TrimPrefix(string(b), "\uFEFF"), "\n") {
		s.line++
		line := strings.TrimRight(raw, "\r \x1a")
		if line == "" || line[0] == '*' {
			continue
		}
		if line[0] == '.' {
			name, rest, _ := strings.Cut(line[1:], " ")
			section = strings.ToUpper(name)
			switch {
			case section == "PRIVATE":
				private = true
				s.skip("private part of "+rest, "a part that only one program understands")
			case section == "PUBLIC":
				private = false
			}
			continue
		}
		if !private {
			s.entry(section, line, g)
		}
	}
	if s.standard == "" {
		s.bad("it does not begin with a section .INI that says of which standard and version it is")
	}
	if len(s.sets) == 0 {
		s.bad("it has no messages: the section .SETS is missing or empty")
	}
	if !s.out.HasErrors() {
		g.Standard, g.Version = s.standard, s.version
		for _, m := range s.sets {
			g.Messages = append(g.Messages, m.name)
		}
		g.Text = s.text(g)
	}
	if !s.out.HasErrors() {
		if _, err := Own(g.Text); err != nil {
			s.bad("what it describes does not hold together: %v", err)
		}
	}
	for _, f := range s.skipped {
		s.out = append(s.out, *f)
	}
	slices.SortStableFunc(s.out, func(a, b finding.Finding) int { return cmp.Compare(a.Place.Line, b.Place.Line) })
	if s.out.HasErrors() {
		return nil, s.out
	}
	return g, s.out
}

func (s *sef) at() place.Place { return place.Place{File: s.file, Line: s.line, Column: 1} }

func (s *sef) bad(format string, args ...any) {
	s.out = append(s.out, finding.New("sef.syntax", s.at(), format, args...))
}

// skip notes that something is not taken: once for each kind, with the first place.
func (s *sef) skip(what, why string) { s.leave("sef.not-taken", what, why) }

// note tells of what is for people, and no rule.
func (s *sef) note(what, why string) { s.leave("sef.notes", what, why) }

func (s *sef) leave(code, what, why string) {
	if s.skipped[what] == nil {
		f := finding.Warn(code, s.at(), "not taken: %s (%s)", what, why)
		s.skipped[what] = &f
	}
}

// entry reads a line of a section.
func (s *sef) entry(section, line string, g *Guideline) {
	switch section {
	case "INI":
		s.ini(line, g)
		return
	case "VER", "DATE", "STD":
		return
	case "SETS", "SEGS", "COMS", "ELMS", "CODES":
	case "TEXT,SETS", "TEXT,SEGS", "TEXT,COMS", "TEXT,ELMS":
		s.textOf(strings.TrimPrefix(section, "TEXT,"), line)
		return
	case "":
		s.bad("%.40q stands before the first section", line)
		return
	default:
		s.skip("section ."+section, "its entries say nothing that can be checked against messages here")
		return
	}
	name, body, ok := strings.Cut(line, "=")
	if name = strings.TrimSpace(name); !ok || name == "" || strings.ContainsAny(name, " []{}#@(") {
		s.bad("%.40q is not an entry: a name and an equals sign begin it", line)
		return
	}
	d := &described{name: name, line: s.line, body: strings.TrimSpace(body)}
	switch section {
	case "SETS":
		s.sets = append(s.sets, d)
	case "SEGS":
		s.partsOf(d)
		s.segments = append(s.segments, d)
	case "COMS":
		s.partsOf(d)
		s.composites = append(s.composites, d)
	case "ELMS":
		s.element(d)
	case "CODES":
		for code := range strings.SplitSeq(d.body, ",") {
			if usage, code := s.attribute(strings.TrimSpace(code)); usage != 'X' && code != "" {
				s.codes[name] = append(s.codes[name], code)
			}
		}
	}
}

// ini reads which standard and version the guideline is of: name,,version,agency,code,title.
func (s *sef) ini(line string, g *Guideline) {
	if s.standard != "" {
		return
	}
	f := append(strings.SplitN(line, ",", 6), "", "", "", "", "")
	g.Name, g.Title = strings.TrimSpace(f[0]), strings.TrimSpace(f[5])
	words := strings.Fields(f[2])
	switch agency := strings.TrimSpace(f[3]); {
	case (agency == "UN" || agency == "UNO") && len(words) == 2:
		s.standard, s.version = "edifact", words[0]+"."+words[1]
	case agency == "X" && len(words) > 0:
		s.standard, s.version = "x12", strings.Join(words, "")
	default:
		s.bad("it is of version %q of agency %q; known are versions of X (X12) and UN (EDIFACT)", f[2], f[3])
	}
}

// attribute takes the sign off that a guideline puts before what a partner uses otherwise than the
// standard. X: not used, R: must be used, 0: as the standard says.
func (s *sef) attribute(text string) (usage byte, rest string) {
	if text == "" {
		return 0, ""
	}
	switch text[0] {
	case '.':
		return 'X', text[1:]
	case '!', '$':
		return 'R', text[1:]
	case '-':
		s.skip("- (not recommended)", "it is advice, and no rule")
		return 0, text[1:]
	case '&':
		s.skip("& (dependent)", "what it depends on stands in notes for people")
		return 0, text[1:]
	}
	return 0, text
}

// number reads how often something may come; 0: any number of times.
func (s *sef) number(text string, otherwise int) int {
	if text == "" {
		return otherwise
	}
	if strings.HasPrefix(text, ">") {
		return 0
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < 1 {
		s.bad("%q does not say how often", text)
		return otherwise
	}
	return n
}

// requirement reads M, O, C and their like.
func (s *sef) requirement(text string) byte {
	switch text {
	case "M", "R":
		return 'R'
	case "", "O":
		return 'O'
	case "C", "D", "X", "F":
		if text != "C" {
			s.skip("requirement "+text, "it is taken as optional")
		}
		return 'C'
	}
	s.bad("%q says no requirement: M, O or C", text)
	return 'O'
}

// element reads the type and lengths of a simple element: ID,2,3.
func (s *sef) element(d *described) {
	f := append(strings.Split(d.body, ","), "", "")
	kind := strings.TrimSpace(f[0])
	low, err1 := strconv.Atoi(strings.TrimSpace(f[1]))
	high, err2 := strconv.Atoi(strings.TrimSpace(f[2]))
	if err1 != nil || err2 != nil || low < 0 || high < max(low, 1) {
		s.bad("element %s: %q is not a type with its shortest and longest length, as ID,2,3", d.name, d.body)
		return
	}
	e := basic{kind, low, high}
	switch {
	case s.standard == "edifact":
		e.kind = strings.ToLower(kind)
		if e.kind == "id" {
			e.kind = "an"
		}
		if e.kind != "a" && e.kind != "n" && e.kind != "an" {
			s.bad("element %s: there is no type %s in EDIFACT", d.name, kind)
		}
	case len(kind) == 2 && kind[0] == 'N' && kind[1]-'0' <= 9:
		if kind == "N0" {
			e.kind = "N"
		}
	case !slices.Contains([]string{"AN", "ID", "N", "R", "DT", "TM", "B"}, kind):
		s.bad("element %s: there is no type %s in X12", d.name, kind)
	}
	s.elements[d.name] = e
}

// partsOf reads the elements of a segment or composite: [353,M][92;2:2,M,3]{2[235][234]}+P0304R0102,.!$
func (s *sef) partsOf(d *described) {
	rest := d.body
	take := func(text string) (partOf, bool) {
		usage, text := s.attribute(text)
		f := append(strings.Split(text, ","), "", "")
		name, lengths, measured := strings.Cut(strings.TrimSpace(f[0]), ";")
		p := partOf{name: name, usage: s.requirement(strings.TrimSpace(f[1])), repeats: s.number(strings.TrimSpace(f[2]), 1)}
		if usage != 0 {
			p.usage = usage
		}
		if measured {
			low, high, both := strings.Cut(lengths, ":")
			var err1, err2 error
			p.min, err1 = strconv.Atoi(low)
			p.max, err2 = strconv.Atoi(high)
			if !both || err1 != nil || err2 != nil || p.max < max(1, p.min) || p.min < 0 {
				s.bad("%s: %q is not a length, as in [93;1:35]", d.name, lengths)
				p.min, p.max = 0, 0
			}
		}
		if len(f) > 5 {
			s.skip("more than name, requirement and repetition in brackets", "it is not known what it says")
		}
		return p, name != ""
	}
	for rest != "" {
		if len(d.parts) > sefParts {
			s.bad("%s has more than %d elements", d.name, sefParts)
			return
		}
		switch {
		case rest[0] == '[':
			inner, after, closed := strings.Cut(rest[1:], "]")
			p, named := take(inner)
			if !closed || !named {
				s.bad("%s: a bracket is not closed, or empty, at %.20q", d.name, rest)
				return
			}
			d.parts, rest = append(d.parts, p), after
		case rest[0] == '{':
			inner, after, closed := strings.Cut(rest[1:], "}")
			i := strings.IndexByte(inner, '[')
			if !closed || i < 1 {
				s.bad("%s: repeated elements are written {5[235][234]}, not %.20q", d.name, rest)
				return
			}
			times, err := strconv.Atoi(inner[:i])
			var group []partOf
			for text := inner[i:]; text != ""; {
				one, more, closed := strings.Cut(strings.TrimPrefix(text, "["), "]")
				p, named := take(one)
				if text[0] != '[' || !closed || !named {
					s.bad("%s: repeated elements are written {5[235][234]}, not %.20q", d.name, rest)
					return
				}
				group, text = append(group, p), more
			}
			if err != nil || times < 1 || times*len(group) > sefParts {
				s.bad("%s: %q does not say how often elements come", d.name, inner[:i])
				return
			}
			for range times {
				d.parts = append(d.parts, group...)
			}
			rest = after
		case rest[0] == '+':
			notes, masks, _ := strings.Cut(rest[1:], ",")
			for strings.Count(notes, "(") > strings.Count(notes, ")") && masks != "" { // D1(010,020)
				var more string
				more, masks, _ = strings.Cut(masks, ",")
				notes += "," + more
			}
			s.notes(d, notes)
			rest = ""
			if masks != "" {
				rest = "," + masks
			}
		case rest[0] == ',':
			d.masks = strings.Split(rest[1:], ",")
			if len(d.masks) > sefParts {
				s.bad("%s has more than %d masks", d.name, sefParts)
				return
			}
			for _, m := range d.masks {
				if strings.Trim(m, ".!$-&+ ") != "" {
					s.bad("%s: %q is not a mask: a sign for each element, of . ! $ - & +", d.name, m)
				}
			}
			rest = ""
		default:
			s.bad("%s: nothing is known of %.20q", d.name, rest)
			return
		}
	}
	if len(d.parts) == 0 {
		s.bad("%s has no elements", d.name)
	}
}

// notes cuts conditions apart: P0304R0102, D1(010,020)D5(030,040).
func (s *sef) notes(d *described, text string) {
	for text = strings.TrimSpace(text); text != ""; {
		end := 1
		for end < len(text) && (text[end] < 'A' || text[end] > 'Z') {
			end++
		}
		note := strings.TrimSpace(text[:end])
		text = text[end:]
		c, err := ParseCondition(note)
		if err != nil {
			s.bad("%s: %v", d.name, err)
			continue
		}
		if last := slices.Max(c.Elements); last > len(d.parts) {
			s.bad("%s: %s names element %d, and there are %d", d.name, note, last, len(d.parts))
			continue
		}
		d.notes = append(d.notes, note)
	}
}

// textOf takes the name of something: 353,0,Purpose or 353~00,0,Original.
func (s *sef) textOf(kind, line string) {
	f := strings.SplitN(line, ",", 3)
	if len(f) < 3 {
		s.note("text without a place and a kind", "it is for people")
		return
	}
	where := strings.TrimRight(strings.TrimSpace(f[0]), "~")
	key := kind + " " + where
	if strings.Count(where, "~") > 1 || strings.Contains(where, "~") && kind != "ELMS" || s.texts[key] != "" {
		s.note("notes in .TEXT,"+kind, "they are for people; the first of each is its name")
		return
	}
	name, rest, _ := strings.Cut(strings.TrimSpace(f[2]), "\n")
	if rest != "" || len(name) > 120 {
		name = name[:min(len(name), 120)]
	}
	s.texts[key] = strings.Join(strings.FieldsFunc(name, func(r rune) bool { return r < ' ' || r == ' ' }), " ")
}
