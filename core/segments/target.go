package segments

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"ydrion/core/finding"
	"ydrion/core/format"
	"ydrion/core/standard"
	"ydrion/core/text"
)

// Target lays a map out on a sample interchange with one message: each record becomes a
// message, and all those of an output stand in one interchange. Counts are computed, and the numbers
// of closing segments are those of the opening ones.
type Target struct {
	rules   *Rules
	syntax  Syntax
	source  []byte // the sample as UTF-8
	blank   *Template
	head    int // where the message begins in the sample
	tail    int // its last segment
	escapes *text.Escapes
	says    *text.Repertoire
	end     string // of a segment
	reader  *Reader
	above   map[string][]int // of each level of the sample's hierarchy, by its position: those above it, the nearest first
}

// NewTarget takes the sample interchange apart.
func NewTarget(rules *Rules, file string, sample []byte) (*Target, error) {
	from := skipLines(sample, 0)
	syntax, problem := rules.Begin(sample[from:])
	if problem != "" {
		return nil, fmt.Errorf("%s: %s", file, problem)
	}
	source, err := decoded(sample[from:], rules, syntax)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	t := &Target{rules: rules, syntax: syntax, source: source, end: string(syntax.Terminator), head: -1, tail: -1}
	t.blank = &Template{
		File: file, Separators: [4]byte{syntax.Element, syntax.Repetition, syntax.Component}, Release: syntax.Release,
		Plain: func(s string) string { return string(syntax.AppendPlain(nil, []byte(s))) }, Parse: t.parse, Given: t.given, Strict: true,
	}
	t.reader = &Reader{bound: &bound{Rules: rules}}
	t.reader.syntaxes.Store(&[]dated{{0, syntax}})
	if err := t.take(source); err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	if err := t.hierarchy(); err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	t.escapes, t.says = t.repertoire()
	return t, nil
}

// hierarchy finds which levels of the sample stand above which. Their numbers are written anew.
func (t *Target) hierarchy() (err error) {
	t.above = map[string][]int{}
	numbers := map[string]int{}
	var chains [][]int
	t.blank.each(func(s *Sampled, at Position) {
		if s.Name != t.rules.Hierarchy || t.rules.Hierarchy == "" {
			return
		}
		value := func(n int) string {
			if len(s.Fields) < n {
				return ""
			}
			return s.Fields[n-1][0][0][0]
		}
		var chain []int
		if number := value(2); number != "" {
			k, known := numbers[number]
			if !known {
				err = fmt.Errorf("%s stands below level %s, which does not come before it", at.Part(), number)
				return
			}
			chain = append([]int{k}, chains[k]...)
		}
		numbers[value(1)] = len(chains)
		chains = append(chains, chain)
		t.above[at.Part()] = chain
	})
	return err
}

var _ format.Target = (*Target)(nil)

// decoded gives a sample as UTF-8.
func decoded(b []byte, rules *Rules, s Syntax) ([]byte, error) {
	if rules.Declares && s.Set != "" && s.Set != text.UTF8 && !text.IsASCII(b) {
		if text.FirstInvalid(b) < 0 {
			return nil, fmt.Errorf("it is UTF-8, and says that it is %s: save it in that, or without characters beyond ASCII", s.Set)
		}
		return text.DecodeAll(b, s.Set)
	}
	if i := text.FirstInvalid(b); i >= 0 {
		return nil, fmt.Errorf("byte %d, %02X, is not a text", i+1, b[i])
	}
	return b, nil
}

// take finds the segments of the sample: those that open levels, one message, and those that close
// the levels.
func (t *Target) take(source []byte) error {
	s := &t.syntax
	at := s.Size
	var open []string
	for at = skipLines(source, at); at < len(source); at = skipLines(source, at) {
		stop := t.reader.segmentEnd(s, source, at)
		raw := source[at:stop]
		at = stop + 1
		name := string(raw[:min(len(raw), s.next(raw, 0, s.Element))])
		if len(name) < 2 || len(name) > 3 || !upper([]byte(name)) {
			return fmt.Errorf("%.40q is not a segment", raw)
		}
		if _, has := t.rules.Binary[name]; has {
			return fmt.Errorf("%s holds bytes, which maps do not write", name)
		}
		level := slices.IndexFunc(t.rules.Levels, func(l Level) bool { return l.Open == name || l.Close == name })
		switch {
		case name == t.rules.Head && t.head >= 0:
			return fmt.Errorf("it has a second message; a sample has one, which stands for all")
		case name == t.rules.Head:
			t.head = len(t.blank.Segments)
		case name == t.rules.Tail:
			t.tail = len(t.blank.Segments)
		case level >= 0 && t.rules.Levels[level].Open == name:
			if slices.Contains(open, name) || t.head >= 0 {
				return fmt.Errorf("%s stands there twice, or too late", name)
			}
			open = append(open, name)
		case level >= 0 && (t.tail < 0 || len(open) == 0 || open[len(open)-1] != t.rules.Levels[level].Open):
			return fmt.Errorf("%s closes what was not opened", name)
		case level >= 0:
			open = open[:len(open)-1]
		case t.head < 0 || t.tail >= 0:
			return fmt.Errorf("%s stands outside of the message", name)
		}
		t.blank.Segments = append(t.blank.Segments, t.sampled(name, raw))
	}
	if t.head < 1 || t.tail < 0 || len(open) > 0 {
		return fmt.Errorf("an interchange with one message was expected, with all that opens and closes both")
	}
	return nil
}

func (t *Target) sampled(name string, raw []byte) Sampled {
	s := &t.syntax
	split := func(b []byte, separator byte) [][]byte {
		if separator == 0 {
			return [][]byte{b}
		}
		var out [][]byte
		for {
			i := s.next(b, 0, separator)
			out = append(out, b[:i])
			if i == len(b) {
				return out
			}
			b = b[i+1:]
		}
	}
	out := Sampled{Name: name}
	for _, f := range split(raw, s.Element)[1:] {
		var field [][][]string
		if t.rules.Widths[name] != nil {
			out.Fields = append(out.Fields, [][][]string{{{string(f)}}})
			continue
		}
		for _, r := range split(f, s.Repetition) {
			var repetition [][]string
			for _, c := range split(r, s.Component) {
				repetition = append(repetition, []string{string(c)})
			}
			field = append(field, repetition)
		}
		out.Fields = append(out.Fields, field)
	}
	return out
}

// given tells of elements that no map says: what is computed, and separators.
func (t *Target) given(segment string, field int) bool {
	return segment == t.rules.Tail || segment == t.rules.Hierarchy && field <= 2 || slices.ContainsFunc(t.rules.Levels, func(l Level) bool { return l.Close == segment }) ||
		slices.Contains(t.rules.Separating[segment], field)
}

// repertoire says which characters values may have and how they are written.
func (t *Target) repertoire() (*text.Escapes, *text.Repertoire) {
	s := &t.syntax
	with := map[byte]string{}
	for c := range byte(128) {
		if s.special(c) && s.Release != 0 {
			with[c] = string([]byte{s.Release, c})
		}
	}
	says := s.repertoire(t.rules.Declares)
	if says.Name = "the sample's interchange, in which it would separate"; t.rules.Declares {
		says.Name = t.blank.Segments[0].Fields[0][0][0][0]
	}
	return text.NewEscapes(with), says
}

// repertoire are the characters that values may have. Declared tells that the interchange says its
// character set.
func (s *Syntax) repertoire(declared bool) *text.Repertoire {
	says := &text.Repertoire{}
	for c := range byte(128) {
		says.Lacks[c] = c < ' ' || c == 127 || s.special(c) && s.Release == 0 || declared && s.Narrow && !s.special(c) && !levelA(rune(c))
	}
	if declared {
		says.Charset, says.ASCII = s.Set, s.Set == ""
	}
	return says
}

// EndAsSample lets follow each segment what follows the first one of the sample: a line end.
func (t *Target) EndAsSample() {
	first := t.reader.segmentEnd(&t.syntax, t.source, skipLines(t.source, t.syntax.Size)) + 1
	t.end = string(t.syntax.Terminator) + string(t.source[first:skipLines(t.source, first)])
}

// Escapes is the table for the sample's separators.
func (t *Target) Escapes() *text.Escapes { return t.escapes }

// Null cannot be said: an element that is left out is one.
func (t *Target) Null() (string, bool) { return "", false }

// parse reads a position of the sample. A segment that is chosen by an element is the one of the
// sample that has it.
func (t *Target) parse(path string) (Position, error) {
	p, err := ParsePosition(path)
	if err != nil {
		return p, err
	}
	if p.Within != "" {
		return p, fmt.Errorf("%q is in a loop, and what is written is counted, or chosen by a value that the sample has: name it as in N3[2]-1", path)
	}
	if p.Repetition > 1 && t.syntax.Repetition == 0 {
		return p, fmt.Errorf("%s: nothing repeats in the sample's interchange, which has no separator for that", path)
	}
	if p.Element == 0 {
		return p, nil
	}
	n, of := 0, 0
	for i := range t.blank.Segments {
		s := &t.blank.Segments[i]
		if s.Name != p.Segment {
			continue
		}
		of++
		if len(s.Fields) < p.Element || t.blank.Plain(s.Fields[p.Element-1][0][0][0]) != p.Value {
			continue
		}
		if n++; n == p.Occurrence {
			p.Occurrence, p.Element, p.Value = of, 0, ""
			return p, nil
		}
	}
	return p, fmt.Errorf("the sample %s has no segment %s", t.blank.File, Position{Segment: p.Segment, Element: p.Element, Value: p.Value, Occurrence: p.Occurrence}.Part())
}

// Position finds a position of the message or of what stands around it.
func (t *Target) Position(path string) (format.Position, error) {
	at, err := t.parse(path)
	switch {
	case err != nil:
		return format.Position{}, err
	case at.Field == 0:
		return format.Position{}, fmt.Errorf("%q is a whole segment; name one of its elements, as in %s-1", path, path)
	case t.given(at.Segment, at.Field):
		return format.Position{}, fmt.Errorf("%s is computed, or follows the sample", path)
	}
	return format.Position{Key: at.String()}, nil
}

// Part finds a segment that can be dropped or added.
func (t *Target) Part(path string) (string, error) {
	at, err := t.parse(path)
	switch {
	case err != nil:
		return "", err
	case at.Field != 0:
		return "", fmt.Errorf("%q is an element; name a segment, as in %s", path, at.Part())
	case t.frames(at.Segment):
		return "", fmt.Errorf("%s stands around messages: it can be neither dropped nor added", path)
	}
	return at.Part(), nil
}

// Inside is a segment that can be repeated, with those behind it that something is said about in its block.
func (t *Target) Inside(path string) (string, format.Target, error) {
	if path == "" { // a message for each row
		return "", t, nil
	}
	part, err := t.Part(path)
	return part, t, err
}

// frames tells whether a segment begins or ends a message or a level.
func (t *Target) frames(name string) bool {
	return name == t.rules.Head || name == t.rules.Tail || slices.ContainsFunc(t.rules.Levels, func(l Level) bool { return l.Open == name || l.Close == name })
}

// Layout turns instructions into pieces.
func (t *Target) Layout(in format.Instructions) (format.Layout, finding.List) {
	level := func(name string) int {
		return slices.IndexFunc(t.rules.Levels, func(l Level) bool { return l.Open == name })
	}
	out, several := in.Around(func(path string) bool { at, err := ParsePosition(path); return err == nil && level(at.Segment) >= 0 }), in.Several()
	layout := format.Layout{Says: t.says, Decimal: t.syntax.Decimal}
	var begins, ends []format.Piece
	layout.Record = in.Rows(func(in format.Instructions) []format.Piece {
		plans, findings := t.blank.Plan(in)
		out = append(out, findings...)
		if findings.HasErrors() {
			return nil
		}
		if begins == nil {
			out = append(out, t.numbered(plans)...)
		}
		var message []format.Piece
		begins, message, ends = t.layout(plans, in.Separate && !several, several)
		return message
	})
	if in.Separate {
		layout.Record = slices.Concat(begins, layout.Record, ends)
	} else {
		layout.Begins, layout.Ends = begins, ends
	}
	return layout, out
}

// layout turns what is planned into what stands before messages, a message, and what stands behind them.
// Alone says that there is one message; several that a record becomes any number.
func (t *Target) layout(plans []*SegmentLayout, alone, several bool) (begins, message, ends []format.Piece) {
	w := &Composer{Blank: t.blank}
	head := slices.IndexFunc(plans, func(p *SegmentLayout) bool { return p.Name == t.rules.Head })
	tail := slices.IndexFunc(plans, func(p *SegmentLayout) bool { return p.Name == t.rules.Tail })

	if t.syntax.Size > 0 { // it says its separators
		w.Text(string(t.source[:t.syntax.Size]) + strings.TrimPrefix(t.end, string(t.syntax.Terminator)))
	}
	for _, p := range plans[:head] {
		t.segment(w, p)
	}
	begins = w.Pieces()
	if several {
		w.Piece(format.Piece{Kind: format.One})
	}
	count := 2
	for _, p := range plans[head:tail] {
		if !p.Optional() && !p.In() && p.Name != t.rules.Head {
			count++
		}
	}
	w.Each(plans[head:tail], func(p *SegmentLayout) {
		t.segment(w, p)
		if p.Optional() || p.In() {
			w.Piece(format.Piece{Kind: format.Tally, Number: 1})
		}
	})
	t.closing(w, t.rules.Tail, func() { w.Piece(format.Piece{Kind: format.Count, Number: count}) }, plans[head].Fields, t.rules.HeadNumber)
	message = w.Pieces()
	for i := head - 1; i >= 0; i-- {
		level := t.rules.Levels[slices.IndexFunc(t.rules.Levels, func(l Level) bool { return l.Open == plans[i].Name })]
		t.closing(w, level.Close, func() {
			if i < head-1 || alone {
				w.Text("1")
			} else {
				w.Piece(format.Piece{Kind: format.Total})
			}
		}, plans[i].Fields, level.Number)
	}
	return begins, message, w.Pieces()
}

// numbered tells which messages and levels have no number.
func (t *Target) numbered(plans []*SegmentLayout) (out finding.List) {
	for _, p := range plans {
		number := 0
		if p.Name == t.rules.Head {
			number = t.rules.HeadNumber
		}
		for _, l := range t.rules.Levels {
			if l.Open == p.Name {
				number = l.Number
			}
		}
		if number > 0 && p.Fields.Parts[number].First() == nil {
			f := finding.New("map.number", finding.Finding{}.Place, "nothing numbers %s: %s-%d is neither assigned nor kept", p.Name, p.Name, number)
			out = append(out, f.Suggest("as in %s-%d = sequence", p.Name, number))
		}
	}
	return out
}

// segment writes a segment.
func (t *Target) segment(w *Composer, p *SegmentLayout) {
	w.Text(p.Name)
	if p.Name == t.rules.Hierarchy {
		w.Text(string(t.syntax.Element))
		at, _ := ParsePosition(p.part) // it is one of the sample's
		w.Piece(format.Piece{Kind: format.Level, Number: at.Occurrence - 1})
		w.Text(string(t.syntax.Element))
		if chain := t.above[p.part]; len(chain) > 0 {
			w.Piece(format.Piece{Kind: format.Above, Chain: chain})
		}
		w.Fields(p, 3)
		w.Text(t.end)
		return
	}
	widths := t.rules.Widths[p.Name]
	if widths == nil {
		w.Fields(p, 1)
		w.Text(t.end)
		return
	}
	sample := t.blank.Segments[slices.IndexFunc(t.blank.Segments, func(s Sampled) bool { return s.Name == p.Name })]
	for f, width := range widths {
		w.Text(string(t.syntax.Element))
		if slices.Contains(t.rules.Separating[p.Name], f+1) {
			w.Text(sample.Fields[f][0][0][0])
			continue
		}
		n := p.Fields.Parts[f+1].First()
		switch {
		case n != nil && n.Expression >= 0:
			w.Piece(format.Piece{Kind: format.Value, Expression: n.Expression, Width: width, Zeros: f+1 == t.rules.Levels[0].Number})
		case n != nil:
			w.Text(fmt.Sprintf("%-*s", width, n.Constant))
		default:
			w.Text(strings.Repeat(" ", width))
		}
	}
	w.Text(t.end)
}

// closing writes a segment that closes something: a count, and the number of what it closes.
func (t *Target) closing(w *Composer, name string, count func(), opened *Node, number int) {
	w.Text(name + string(t.syntax.Element))
	count()
	w.Text(string(t.syntax.Element))
	if n := opened.Parts[number].First(); n != nil {
		widths := t.rules.Widths[t.rules.Levels[0].Open]
		switch {
		case n.Expression < 0:
			w.Text(n.Constant)
		case name == t.rules.Levels[0].Close && widths != nil:
			w.Piece(format.Piece{Kind: format.Value, Expression: n.Expression, Width: widths[number-1], Zeros: true})
		default:
			w.Piece(format.Piece{Kind: format.Value, Expression: n.Expression})
		}
	}
	w.Text(t.end)
}

// Show gives a written message as lines of path and value.
func (t *Target) Show(record []byte) []format.Line {
	return format.Lines(t.reader.Outline(bytes.TrimRight(record, "\r\n")))
}

// By gives it a description of one's own, that its messages are validated against instead of the standard.
func (t *Target) By(own *standard.Catalog) { t.reader.own = []*standard.Catalog{own} }

// by is what its messages are described by.
func (t *Target) by() int {
	if t.reader.own != nil {
		return 0
	}
	return format.AsRead
}

// Described tells whether there is a description of its messages.
func (t *Target) Described() bool {
	m := t.reader.apartWithin(&slab{most: format.MostParts}, t.by(), t.reader.current(), nil, t.source, false)
	return m.Structure != nil && (t.reader.own == nil || m.Book.Closed)
}

// Required are the elements that its segments must have, see Message.
func (t *Target) Required() map[string][]bool {
	return t.reader.apartWithin(&slab{most: format.MostParts}, t.by(), t.reader.current(), nil, t.source, false).Required()
}

// Sample is the message that it is based on.
func (t *Target) Sample() []byte { return t.source }

// Validate tells where a message, alone or in its envelope, differs from its description.
func (t *Target) Validate(message []byte, say func(format.Difference)) {
	t.reader.validate(t.by(), message, say)
}
