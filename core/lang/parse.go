package lang

import (
	"fmt"
	"strconv"
	"strings"

	"ydrion/core/finding"
	"ydrion/core/place"
	"ydrion/core/value"
)

// parser turns tokens into nodes. After an error it goes on with the next
// line, so that all errors of a map are found at once.
type parser struct {
	file   string
	source string
	offset int          // of source in the file, for expressions within texts
	index  *place.Index // of the file
	scan   scanner
	tok    token
	depth  int // of parentheses, negations and blocks
	words  int // of the line so far
	out    finding.List
}

// How large a map may be and how deep its expressions and blocks.
const (
	maxSource = 1 << 20
	maxDepth  = 100
	maxWords  = 5000 // of one line with those that go on with it
)

// deeper bounds recursion; the caller takes the step back itself.
func (p *parser) deeper() {
	if p.depth++; p.depth > maxDepth {
		p.fail(p.tok.pos, "this is nested more than %d deep", maxDepth)
	}
}

// failure carries a syntax error up to the line.
type failure struct {
	pos     int
	message string
}

func newParser(file, source string) *parser {
	p := &parser{file: file, source: source, index: place.NewIndex(file, []byte(source)), scan: scanner{source: source}}
	return p
}

func (p *parser) place(pos int) place.Place {
	return p.index.At(pos + p.offset)
}

func (p *parser) fail(pos int, format string, args ...any) {
	panic(failure{pos, fmt.Sprintf(format, args...)})
}

func (p *parser) next() {
	comma := p.is(",")
	p.tok = p.scan.next()
	if comma && p.tok.kind == newline { // the line goes on
		p.tok = p.scan.next()
	}
	if p.tok.kind == broken {
		p.fail(p.tok.pos, "%s", p.tok.text)
	}
	if p.words++; p.tok.kind == newline {
		p.words = 0
	} else if p.words > maxWords {
		p.fail(p.tok.pos, "this line is longer than %d words", maxWords)
	}
}

func (p *parser) is(text string) bool {
	return (p.tok.kind == sign || p.tok.kind == word) && p.tok.text == text
}

func (p *parser) take(text string) bool {
	if p.is(text) {
		p.next()
		return true
	}
	return false
}

func (p *parser) describe() string {
	switch p.tok.kind {
	case end, newline:
		return p.tok.text
	case literal:
		return fmt.Sprintf("the text %q", p.tok.text)
	}
	return p.tok.text
}

// guard runs f and turns a syntax error into a finding.
func (p *parser) guard(f func()) (ok bool) {
	defer func() {
		switch r := recover().(type) {
		case nil:
		case failure:
			p.out = append(p.out, finding.New("map.syntax", p.place(r.pos), "%s", r.message))
			ok = false
		default:
			panic(r)
		}
	}()
	f()
	return true
}

// skipLine goes to the start of the next line.
func (p *parser) skipLine() {
	if p.tok.kind != newline {
		rest := p.source[min(p.scan.at, len(p.source)):]
		if i := strings.IndexByte(rest, '\n'); i >= 0 {
			rest = rest[:i]
		}
		p.scan.at = min(p.scan.at, len(p.source)) + len(rest)
	}
	for {
		if p.guard(p.next) {
			break
		}
		p.out = p.out[:len(p.out)-1]
	}
	for p.tok.kind == newline {
		p.guard(p.next)
	}
}

// Parse parses a whole map.
func Parse(file, source string) (*Map, finding.List) {
	p := newParser(file, source)
	m := &Map{}
	if len(source) > maxSource {
		return m, finding.List{finding.New("map.size", p.place(0), "the map is larger than %d bytes", maxSource)}
	}
	m.At.Map, m.At.Source, m.At.Target = -1, -1, -1
	p.guard(p.next)
	for p.tok.kind == newline {
		p.guard(p.next)
	}
	m.Body = p.statements(m, false)
	for _, h := range []struct {
		at   int
		line string
	}{{m.At.Map, "map NAME"}, {m.At.Source, "source FORMAT SCHEMA"}, {m.At.Target, "target FORMAT based on SAMPLE"}} {
		if h.at < 0 && !p.out.HasErrors() {
			p.out = append(p.out, finding.New("map.heading", p.place(0), "the line `%s` is missing", h.line))
		}
	}
	return m, p.out
}

// statements parses lines up to `end` (in a block) or the end of the file.
func (p *parser) statements(m *Map, block bool) []Statement {
	var out []Statement
	depth := p.depth
	for p.tok.kind != end {
		p.depth = depth
		if block && p.is("end") {
			return out
		}
		ok := p.guard(func() {
			if s, is := p.statement(m, block); is {
				out = append(out, s)
			}
			if p.tok.kind != newline && p.tok.kind != end {
				p.fail(p.tok.pos, "%s cannot follow here; a new line was expected", p.describe())
			}
		})
		if !ok {
			p.skipLine()
			continue
		}
		for p.tok.kind == newline {
			if !p.guard(p.next) {
				p.skipLine()
			}
		}
	}
	return out
}

func (p *parser) statement(m *Map, block bool) (Statement, bool) {
	s := Statement{At: p.tok.pos, Verb: p.tok.text}
	if p.tok.kind != word && p.tok.kind != literal {
		p.fail(p.tok.pos, "a line begins with a target position or a word such as keep, drop or when; this is %s", p.describe())
	}
	first := p.tok
	if first.kind == literal { // a column or member whose name is no word, or one of the language's
		first.text = ""
	}
	switch first.text {
	case "map", "source", "target", "keep", "clear", "ignore", "drop", "add", "when", "repeat", "reject", "skip", "end":
		if after := strings.TrimLeft(p.source[first.pos-p.offset+len(first.text):], " \t"); strings.HasPrefix(after, "=") {
			p.fail(first.pos, "%s is a word of the language; write \"%[1]s\" for a position of that name", first.text)
		}
	}
	switch first.text {
	case "map", "source", "target":
		if block {
			p.fail(first.pos, "%s belongs at the top of the map", first.text)
		}
		p.heading(m, first)
		return s, false
	case "keep", "clear", "ignore":
		for {
			p.next()
			s.Paths = append(s.Paths, p.path())
			if !p.is(",") {
				return s, true
			}
		}
	case "drop", "add":
		p.next()
		s.Paths = []Name{p.path()}
		if p.take("when") {
			s.Condition = p.condition()
		}
		if s.Verb == "add" {
			s.Body = p.block(m, s.At)
		}
		return s, true
	case "when":
		p.next()
		s.Condition = p.condition()
		s.Body = p.block(m, s.At)
		return s, true
	case "repeat":
		p.next()
		if !p.is("for") {
			s.Paths = []Name{p.path()}
		}
		if !p.take("for") {
			p.fail(p.tok.pos, "`repeat PART for ROW in LIST` was expected, this is %s", p.describe())
		}
		s.Each = p.rows()
		s.Body = p.block(m, s.At)
		return s, true
	case "reject", "skip":
		p.next()
		if !p.take("when") {
			p.fail(p.tok.pos, "`%s when CONDITION because TEXT` was expected, this is %s", s.Verb, p.describe())
		}
		s.Condition = p.condition()
		if !p.take("because") {
			p.fail(p.tok.pos, "say why: `because \"…\"` must follow the condition")
		}
		s.Value = p.value()
		return s, true
	case "end":
		p.fail(first.pos, "there is no block to end here")
	}
	s.Verb = "assign"
	if first.text == "let" {
		s.Verb = "let"
		p.next()
		if p.tok.kind != word || reserved[p.tok.text] || strings.ContainsAny(p.tok.text, ".-[(/") {
			p.fail(p.tok.pos, "`let NAME = VALUE` was expected, with a name such as total; this is %s", p.describe())
		}
	}
	s.Paths = []Name{p.path()}
	if !p.take("=") {
		p.fail(p.tok.pos, "= was expected after %s, this is %s", s.Paths[0].Name, p.describe())
	}
	if s.Verb == "let" {
		s.Value = p.cases(p.condition())
	} else {
		s.Value = p.cases(p.value())
	}
	return s, true
}

// cases parses what may follow a value: when it is the one, and others.
func (p *parser) cases(first Node) Node {
	if !p.is("when") {
		return first
	}
	n := &Choice{at: at(first.Pos())}
	for of := first; ; {
		if !p.take("when") {
			p.fail(p.tok.pos, "`when CONDITION` was expected after %s, this is %s", of, p.describe())
		}
		n.Cases = append(n.Cases, Case{of, p.condition()})
		if !p.take(",") {
			p.fail(p.tok.pos, "say what it is if nothing of this holds: `, otherwise VALUE`, or `, otherwise absent`")
		}
		if p.take("otherwise") {
			n.Otherwise = p.value()
			return n
		}
		of = p.value()
	}
}

// rows parses ROW in LIST, and which of them.
func (p *parser) rows() *Rows {
	as := p.tok
	if as.kind != word || reserved[as.text] || strings.ContainsAny(as.text, ".-[(/") || as.text == "record" || contextWords[as.text].Doc != "" {
		p.fail(as.pos, "a name for each row was expected after for, such as line; this is %s", p.describe())
	}
	p.next()
	if !p.take("in") {
		p.fail(p.tok.pos, "`for %s in LIST` was expected, this is %s", as.text, p.describe())
	}
	list := p.path()
	return p.chosen(&Rows{at: list.at, List: list.Name, As: as.text})
}

// chosen parses which rows of a list are meant, and in which order.
func (p *parser) chosen(n *Rows) *Rows {
	if p.take("where") {
		n.Where = p.condition()
	}
	if p.is("once") {
		p.next()
		p.expect("by")
		n.Once = p.atom()
	}
	if p.is("sorted") {
		p.next()
		p.expect("by")
		n.By = p.atom()
		n.Down = p.take("down")
	}
	if p.is("up") {
		p.next()
		p.expect("to")
		if n.Most = int(p.whole()); n.Most == 0 {
			p.fail(p.tok.pos, "`up to 10` takes so many rows, and 0 are none")
		}
	}
	return n
}

func (p *parser) expect(word string) {
	if !p.take(word) {
		p.fail(p.tok.pos, "%s was expected, this is %s", word, p.describe())
	}
}

// whole parses a whole number.
func (p *parser) whole() int64 {
	n, err := strconv.ParseInt(p.tok.text, 10, 31)
	if p.tok.kind != digits || err != nil {
		p.fail(p.tok.pos, "a whole number was expected, this is %s", p.describe())
	}
	p.next()
	return n
}

func (p *parser) block(m *Map, start int) []Statement {
	if p.tok.kind != newline {
		p.fail(p.tok.pos, "a new line was expected, this is %s", p.describe())
	}
	for p.tok.kind == newline {
		p.next()
	}
	p.deeper()
	body := p.statements(m, true)
	p.depth--
	if !p.is("end") {
		p.fail(start, "the block that begins here has no `end`")
	}
	p.next()
	return body
}

func (p *parser) path() Name {
	if p.tok.kind == literal {
		n := Name{at(p.tok.pos), p.unescape(p.tok), true}
		p.next()
		return n
	}
	if p.tok.kind != word {
		p.fail(p.tok.pos, "a position was expected, this is %s", p.describe())
	}
	n := Name{at(p.tok.pos), p.tok.text, false}
	p.next()
	return n
}

func (p *parser) heading(m *Map, first token) {
	parts := p.scan.line()
	text := func(i int) string {
		if i < len(parts) {
			return parts[i].text
		}
		return ""
	}
	pos := func(i int) int {
		if i < len(parts) {
			return parts[i].pos
		}
		return first.pos
	}
	twice := func(at *int) {
		if *at >= 0 {
			p.fail(first.pos, "there is a second `%s` line", first.text)
		}
		*at = first.pos
	}
	switch first.text {
	case "map":
		twice(&m.At.Map)
		if m.Name = text(0); len(parts) != 1 {
			p.fail(first.pos, "`map NAME` was expected")
		}
	case "source":
		twice(&m.At.Source)
		m.SourceFormat, m.SourceSchema, m.At.Schema = text(0), text(1), pos(1)
		if len(parts) != 1 && len(parts) != 2 {
			p.fail(first.pos, "`source FORMAT SCHEMA` was expected, as in `source csv schemas/specimen-sheet.json`")
		}
	case "target":
		twice(&m.At.Target)
		m.TargetFormat, m.TargetSample, m.At.Sample = text(0), text(3), pos(3)
		if m.AsCame = len(parts) == 4 && text(1) == "as" && text(2) == "it" && text(3) == "came"; m.AsCame {
			m.TargetSample = ""
		} else if len(parts) != 4 || text(1) != "based" || text(2) != "on" {
			p.fail(first.pos, "`target FORMAT based on SAMPLE` was expected, as in `target hl7 based on samples/blank-order.hl7`, or `target FORMAT as it came`")
		}
	}
	p.next()
}

// ParseText parses a text with expressions in braces, as file names are given.
func ParseText(file, source string, whole string, offset int) (Node, finding.List) {
	p := newParser(file, source)
	p.index, p.offset = place.NewIndex(file, []byte(whole)), offset
	var n Node
	p.guard(func() { n = p.template(source, 0) })
	return n, p.out
}

// ParseCondition parses a condition on its own.
func ParseCondition(file, source string) (Node, finding.List) {
	p := newParser(file, source)
	var n Node
	p.guard(func() {
		p.next()
		n = p.condition()
		if p.tok.kind != end {
			p.fail(p.tok.pos, "%s cannot follow here", p.describe())
		}
	})
	return n, p.out
}

// condition = and-terms joined by or.
func (p *parser) condition() Node {
	n := p.conjunction()
	for p.is("or") {
		pos := p.tok.pos
		p.next()
		n = &Binary{at(pos), "or", n, p.conjunction()}
	}
	return n
}

func (p *parser) conjunction() Node {
	n := p.negation()
	for p.is("and") {
		pos := p.tok.pos
		p.next()
		n = &Binary{at(pos), "and", n, p.negation()}
	}
	return n
}

func (p *parser) negation() Node {
	if p.is("not") {
		pos := p.tok.pos
		p.next()
		p.deeper()
		n := &Not{at(pos), p.negation()}
		p.depth--
		return n
	}
	return p.comparison()
}

var comparisons = map[string]bool{"=": true, "!=": true, "<": true, "<=": true, ">": true, ">=": true}

func (p *parser) comparison() Node {
	n := p.value()
	pos := p.tok.pos
	if p.tok.kind == sign && comparisons[p.tok.text] {
		op := p.tok.text
		p.next()
		return &Binary{at(pos), op, n, p.value()}
	}
	if p.take("is") {
		not := p.take("not")
		what, ok := map[string]value.Kind{"absent": value.Absent, "empty": value.Empty, "null": value.Null}[p.tok.text]
		if !ok || p.tok.kind != word {
			p.fail(p.tok.pos, "absent, empty or null was expected after is, this is %s", p.describe())
		}
		p.next()
		return &Is{at(pos), n, not, what}
	}
	return n
}

// value = a sum, then stages of a pipeline and answers.
func (p *parser) value() Node {
	n := p.sum()
	for {
		switch {
		case p.is("|"):
			p.next()
			n = p.stage(n)
		case p.is("if"):
			pos := p.tok.pos
			p.next()
			n = p.answer(n, pos)
		default:
			return n
		}
	}
}

func (p *parser) stage(before Node) Node {
	if p.tok.kind != word {
		p.fail(p.tok.pos, "the name of a function was expected after |, this is %s", p.describe())
	}
	c := &Call{at: at(p.tok.pos), Name: p.tok.text, Piped: true, Args: []Node{before}}
	p.next()
	for p.tok.kind == literal || p.tok.kind == digits || p.is("(") || p.negative() || p.tok.kind == word && !reserved[p.tok.text] && !clauses[p.tok.text] {
		c.Args = append(c.Args, p.atom())
	}
	return c
}

// clauses are the words that say which rows of a list are meant, behind an expression.
var clauses = map[string]bool{"where": true, "once": true, "sorted": true, "up": true, "otherwise": true}

// negative tells whether a minus sign stands before a number without a gap.
func (p *parser) negative() bool {
	return p.is("-") && p.tok.pos+1 < len(p.source) && p.source[p.tok.pos+1]-'0' <= 9
}

var reserved = map[string]bool{"if": true, "and": true, "or": true, "not": true, "is": true, "because": true, "when": true, "end": true}

// instead is what a function can fail to do that an answer may stand in for.
var instead = map[string]string{"lookup": "unlisted", "number": "unreadable", "date": "unreadable"}

func (p *parser) answer(n Node, pos int) Node {
	when := p.tok
	if when.kind == word {
		p.next()
		switch when.text {
		case "absent":
			return &Answer{at(pos), n, p.atom(), value.Absent}
		case "empty":
			return &Answer{at(pos), n, p.atom(), value.Empty}
		case "null":
			return &Answer{at(pos), n, p.atom(), value.Null}
		case "unlisted", "unreadable":
			c := n
			for {
				a, ok := c.(*Answer)
				if !ok {
					break
				}
				c = a.X
			}
			if call, ok := c.(*Call); ok && instead[call.Name] == when.text && call.Instead == nil {
				call.Instead = p.atom()
				return n
			}
			if when.text == "unlisted" {
				p.fail(pos, "`if unlisted` answers a lookup; there is none before it")
			}
			p.fail(pos, "`if unreadable` answers number or date; there is neither before it")
		}
	}
	p.fail(when.pos, "absent, empty, null, unlisted or unreadable was expected after if, this is %s", when.text)
	return nil
}

func (p *parser) sum() Node {
	n := p.product()
	for p.is("+") || p.is("-") {
		op := p.tok
		p.next()
		n = &Binary{at(op.pos), op.text, n, p.product()}
	}
	return n
}

func (p *parser) product() Node {
	n := p.atom()
	for p.is("*") || p.is("/") {
		op := p.tok
		p.next()
		n = &Binary{at(op.pos), op.text, n, p.atom()}
	}
	return n
}

func (p *parser) atom() Node {
	t := p.tok
	switch t.kind {
	case literal:
		n := p.template(t.text, t.pos+1)
		p.next()
		return n
	case digits:
		d, err := value.ParseDecimal([]byte(t.text))
		if err != nil {
			p.fail(t.pos, "%s is not a number", t.text)
		}
		p.next()
		return &Number{at(t.pos), t.text, d}
	case sign:
		switch t.text {
		case "(":
			p.next()
			p.deeper()
			n := p.condition()
			if name, is := n.(*Name); is && (p.is("where") || p.is("once") || p.is("sorted") || p.is("up")) {
				n = p.chosen(&Rows{at: name.at, List: name.Name})
				if p.is("|") {
					p.fail(p.tok.pos, "close the list before it is asked for something: %s | …", n)
				}
			}
			n = p.cases(n)
			p.depth--
			if !p.take(")") {
				p.fail(p.tok.pos, ") was expected, this is %s", p.describe())
			}
			return n
		case "-":
			p.next()
			if p.tok.kind == digits {
				n := p.atom().(*Number)
				return &Number{at(t.pos), "-" + n.Written, n.Value.Neg()}
			}
		}
	case word:
		if reserved[t.text] {
			break
		}
		p.next()
		switch t.text {
		case "true", "false", "absent", "empty", "null":
			return &Constant{at(t.pos), t.text}
		case "field":
			if p.tok.kind != literal {
				p.fail(p.tok.pos, "the field's name in quotes was expected after field")
			}
			n := &Name{at(t.pos), p.unescape(p.tok), true}
			p.next()
			return n
		}
		if p.is("(") && p.tok.pos == t.pos+len(t.text) {
			return p.call(t)
		}
		return &Name{at(t.pos), t.text, false}
	}
	p.fail(t.pos, "a value was expected, this is %s", p.describe())
	return nil
}

func (p *parser) call(name token) Node {
	c := &Call{at: at(name.pos), Name: name.text}
	p.next()
	p.deeper()
	defer func() { p.depth-- }()
	for !p.take(")") {
		if len(c.Args) > 0 && !p.take(",") {
			p.fail(p.tok.pos, ", or ) was expected, this is %s", p.describe())
		}
		c.Args = append(c.Args, p.condition())
	}
	return c
}

func (p *parser) unescape(t token) string {
	var b strings.Builder
	for i := 0; i < len(t.text); i++ {
		c := t.text[i]
		if c == '\\' {
			i++
			c = p.escape(t.text, i, t.pos+1)
		}
		b.WriteByte(c)
	}
	return b.String()
}

func (p *parser) escape(text string, i, pos int) byte {
	if i < len(text) {
		switch text[i] {
		case 'n':
			return '\n'
		case 'r':
			return '\r'
		case 't':
			return '\t'
		case '"', '\\':
			return text[i]
		}
	}
	p.fail(pos+i-1, `only \n \r \t \" and \\ can follow a backslash`)
	return 0
}

// template parses a text with expressions in braces; a doubled brace is a
// brace.
func (p *parser) template(text string, pos int) Node {
	n := &Text{at: at(max(pos-1, 0))}
	var b strings.Builder
	for i := 0; i < len(text); i++ {
		c := text[i]
		switch {
		case c == '\\':
			i++
			b.WriteByte(p.escape(text, i, pos))
		case (c == '{' || c == '}') && i+1 < len(text) && text[i+1] == c:
			b.WriteByte(c)
			i++
		case c == '}':
			p.fail(pos+i, "this } closes nothing; write }} for a brace")
		case c == '{':
			close := nestedEnd(text, i) - i
			if close < 0 {
				p.fail(pos+i, "unclosed {; write {{ for a brace")
			}
			if b.Len() > 0 {
				n.Parts = append(n.Parts, Part{Text: b.String()})
				b.Reset()
			}
			n.Parts = append(n.Parts, Part{Node: p.inner(text[i+1:i+close], pos+i+1)})
			i += close
		default:
			b.WriteByte(c)
		}
	}
	if b.Len() > 0 {
		n.Parts = append(n.Parts, Part{Text: b.String()})
	}
	return n
}

// inner parses the expression within braces.
func (p *parser) inner(source string, pos int) Node {
	in := &parser{file: p.file, source: source, index: p.index, offset: p.offset + pos, scan: scanner{source: source}}
	var n Node
	defer func() {
		if r := recover(); r != nil {
			f, ok := r.(failure)
			if !ok {
				panic(r)
			}
			p.fail(f.pos+pos, "%s", f.message)
		}
	}()
	in.next()
	n = in.value()
	if in.tok.kind != end {
		in.fail(in.tok.pos, "%s cannot follow here", in.describe())
	}
	shift(n, pos)
	return n
}

// shift moves a parsed expression to where its source stands.
func shift(n Node, by int) {
	n.(interface{ move(by int) }).move(by)
	for _, c := range children(n) {
		shift(c, by)
	}
}
