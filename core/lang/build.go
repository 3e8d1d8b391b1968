package lang

import (
	"cmp"
	"slices"
	"sort"
	"strings"

	"ydrion/core/finding"
	"ydrion/core/format"
	"ydrion/core/place"
	"ydrion/core/value"
)

// builder collects what a map says, in the order in which a target wants it.
type builder struct {
	*compiler
	file   string
	source string
	target format.Target        // of what is said now: that of a part within its block
	in     *format.Instructions // the same
	to     string               // the target's format

	explains bool // the program says what it does
	assigned map[string]place.Place
	filled   map[string]int // how many lines say what stands in an element of a segment
	nodes    []expression
	loops    []looped
	letAt    []Name // where values have been named
	rules    []statementRule
	ignore   map[string]bool
}

type expression struct {
	node      Node
	condition Node // nil: always
	path      string
	frames    []frame // that are around it
	cases     []Case  // of blocks that exclude each other; nil: it is of one
}

// looped is a list that a block goes through.
type looped struct {
	rows   *Rows
	frames []frame // with that of its rows
}

type statementRule struct {
	Statement
	condition Node
	blocks    []looped // that it stands in
	frames    []frame
}

// Build checks a parsed map against its source's fields and its target, and
// compiles it.
func Build(m *Map, file, source string, target format.Target, scope Scope) (*Program, finding.List) {
	return assemble(m, file, source, target, scope, false)
}

func assemble(m *Map, file, source string, target format.Target, scope Scope, explains bool) (*Program, finding.List) {
	at := place.NewIndex(file, []byte(source)).At
	b := &builder{compiler: &compiler{checker: newChecker(scope, at)}, file: file, source: source, target: target, in: &format.Instructions{}, to: m.TargetFormat, assigned: map[string]place.Place{}, filled: map[string]int{}, ignore: map[string]bool{}}
	b.explains, b.notes = explains, explains
	b.statements(m.Body, nil, nil)
	b.unused(m)
	b.in.Separate = scope.Separate
	layout, out := target.Layout(*b.in)
	for _, f := range out {
		if f.Place.File == "" {
			f.Place = at(m.At.Target)
		}
		b.out = append(b.out, f)
	}
	if b.out.HasErrors() {
		// Compiling finds the rest of what is wrong: patterns, arguments.
		for _, e := range b.nodes {
			b.frames = e.frames
			b.compile(e.node)
		}
		sort.SliceStable(b.out, func(i, j int) bool { return b.out[i].Place.Offset < b.out[j].Place.Offset })
		return nil, slices.CompactFunc(b.out, func(x, y finding.Finding) bool { return x.String() == y.String() })
	}
	b.notes = false // actions are as they are; beside them stands what notes
	p := b.program(layout.Record, layout)
	p.assigned, p.Taken, b.notes = b.assigned, b.taken, explains
	p.editor = layout.Editor
	for _, e := range layout.Edits {
		p.edits = append(p.edits, b.edit(p, e))
	}
	for _, r := range b.rules {
		b.frames = r.frames
		compiled := rule{b.compile(r.condition), b.compile(r.Value), r.Verb == "skip", b.line(p, r.Statement.At, r.Verb, r.Value, r.condition)}
		compiled.condition = b.anyRow(r.blocks, compiled.condition)
		p.rules = append(p.rules, compiled)
	}
	b.frames = b.frames[:1]
	p.Sequence, p.Record, p.skip = b.numbers(layout.Record, layout.Edits, b.rules), b.words["record"], layout.Skip
	b.around(append(slices.Clone(layout.Begins), layout.Ends...))
	p.begins, p.ends = b.program(layout.Begins, layout), b.program(layout.Ends, layout)
	p.begins.Sequence = b.numbers(layout.Begins, nil, nil)
	if b.out.HasErrors() {
		return nil, b.out
	}
	return p, b.out
}

// numbers tells whether pieces or rules use the route's sequence.
func (b *builder) numbers(pieces []format.Piece, edits []format.Edit, rules []statementRule) bool {
	var about []Node
	for _, e := range edits {
		for _, x := range append(slices.Clone(e.Conditions), e.Expression) {
			if x >= 0 {
				about = append(about, b.nodes[x].node, b.nodes[x].condition)
			}
		}
	}
	for _, piece := range pieces {
		switch piece.Kind {
		case format.Value, format.Member, format.If, format.Unless:
			about = append(about, b.nodes[piece.Expression].node, b.nodes[piece.Expression].condition)
		}
	}
	for _, r := range rules {
		about = append(about, r.condition, r.Value)
	}
	for ; len(about) > 0; about = about[1:] {
		if name, ok := about[0].(*Name); ok && name.Name == "sequence" && !name.Field {
			return true
		}
		if about[0] != nil {
			about = append(about, b.below(about[0])...)
		}
	}
	return false
}

// around holds that what stands around all records does not differ between them.
func (b *builder) around(pieces []format.Piece) {
	seen := map[int]bool{}
	for _, piece := range pieces {
		if piece.Kind != format.Value || seen[piece.Expression] {
			continue
		}
		seen[piece.Expression] = true
		for about := []Node{b.nodes[piece.Expression].node, b.nodes[piece.Expression].condition}; len(about) > 0; about = about[1:] {
			n := about[0]
			if n == nil {
				continue
			}
			name, isName := n.(*Name)
			if _, _, isField := b.field(n); isField || isName && name.Name == "record" {
				f := finding.New("map.around", b.place(n.Pos()), "%s stands around all messages of a file, and %s may differ between them", b.nodes[piece.Expression].path, n)
				b.out = append(b.out, f.Suggest("write one file per record, or use a constant, sequence, now, route or a word of the file"))
			}
			about = append(about, b.below(n)...)
		}
	}
}

func (b *builder) unused(m *Map) {
	for _, f := range b.scope.Fields {
		if !b.used[f.Name] && !b.ignore[f.Name] && !b.scope.Offered && !b.scope.Elsewhere[f.Name] {
			b.out = append(b.out, finding.Warn("map.field-unused", b.place(max(m.At.Source, 0)), "the field %s goes nowhere", f.Name).
				Suggest("use it, or say `ignore %s`", format.Word(f.Name)))
		}
	}
}

// and joins the conditions of nested blocks.
func and(a, b Node) Node {
	switch {
	case a == nil:
		return b
	case b == nil:
		return a
	}
	return &Binary{at(b.Pos()), "and", a, b}
}

func (b *builder) add(node, condition Node, path string) int {
	b.nodes = append(b.nodes, expression{node: node, condition: condition, path: path, frames: b.frames})
	return len(b.nodes) - 1
}

// anyRow asks a condition of each row of the blocks that it stands in, up to the first that it holds for.
func (b *builder) anyRow(blocks []looped, condition evaluator) evaluator {
	for i := len(blocks) - 1; i >= 0; i-- {
		b.frames = blocks[i].frames
		l, inner := b.loop(blocks[i].rows), condition
		condition = func(e *Env) value.Value {
			for more := l.begin(e); more && !e.failed; more = l.next(e) {
				if v := inner(e); v.Truth || e.failed {
					return v
				}
			}
			return value.OfBool(false)
		}
	}
	return condition
}

// repeat takes what a map says about a part that is repeated.
func (b *builder) repeat(s Statement, outer Node, blocks []looped) {
	part := Name{at: at(s.At)}
	if len(s.Paths) > 0 {
		part = s.Paths[0]
	}
	key, inner, err := b.target.Inside(part.Name)
	if err != nil {
		b.out = append(b.out, finding.New("map.repeat", b.place(part.Pos()), "%v", err))
	}
	if outer != nil {
		b.check(outer)
	}
	around := b.condition(outer)
	if !b.enter(s.Each) {
		return
	}
	block := looped{s.Each, b.frames}
	b.loops = append(b.loops, block)
	r := format.Repeated{Named: format.Named{Path: key, At: b.place(part.Pos())}, Condition: around, Loop: len(b.loops) - 1, List: b.tables[b.frames[b.inner()].table].At()}
	if err == nil {
		in, target := b.in, b.target
		b.in, b.target = &r.Body, inner
		b.statements(s.Body, nil, append(blocks[:len(blocks):len(blocks)], block))
		b.in, b.target = in, target
		b.in.Repeat = append(b.in.Repeat, r)
	}
	b.leave()
}

func (b *builder) condition(n Node) int {
	if n == nil {
		return -1
	}
	b.want(n, value.Bool, "when")
	return b.add(n, nil, "")
}

func (b *builder) named(n Name) format.Named { return format.Named{Path: n.Name, At: b.place(n.Pos())} }

func (b *builder) statements(body []Statement, outer Node, blocks []looped) {
	var named []string // in this block
	defer func() {
		for _, name := range named {
			b.forget(name)
		}
	}()
	for _, s := range body {
		switch s.Verb {
		case "assign":
			if a, ok := b.assignment(s, outer); ok {
				b.in.Assign = append(b.in.Assign, a)
			}
		case "let":
			b.let(s)
			named = append(named, s.Paths[0].Name)
		case "keep", "clear", "ignore":
			if outer != nil {
				b.out = append(b.out, finding.New("map.condition", b.place(s.At), "%s holds always; it cannot stand in a block", s.Verb))
				continue
			}
			b.paths(s)
		case "drop", "add":
			part, err := b.target.Part(s.Paths[0].Name)
			if err != nil {
				b.out = append(b.out, finding.New("map.segment", b.place(s.Paths[0].Pos()), "%v", err))
				continue
			}
			named := format.Named{Path: part, At: b.place(s.Paths[0].Pos())}
			if s.Verb == "drop" {
				b.in.Drop = append(b.in.Drop, format.Conditional{Named: named, Condition: b.condition(and(outer, s.Condition))})
				continue
			}
			added := format.Added{Named: named, Condition: b.condition(and(outer, s.Condition))}
			for _, line := range s.Body {
				if line.Verb != "assign" {
					b.out = append(b.out, finding.New("map.block", b.place(line.At), "only assignments can stand in `add`; this is %s", line.Verb))
					continue
				}
				if a, ok := b.assignment(line, nil); ok {
					added.Assign = append(added.Assign, a)
				}
			}
			b.in.Add = append(b.in.Add, added)
		case "when":
			b.want(s.Condition, value.Bool, "when")
			b.asked.add(s.Condition, 1)
			b.statements(s.Body, and(outer, s.Condition), blocks)
			b.asked.add(s.Condition, -1)
		case "repeat":
			b.repeat(s, outer, blocks)
		case "reject", "skip":
			b.want(s.Condition, value.Bool, s.Verb)
			b.check(s.Value)
			if s.Verb == "skip" && len(blocks) > 0 {
				f := finding.New("map.block", b.place(s.At), "skip leaves a record out, and this stands in a block for each row")
				b.out = append(b.out, f.Suggest("say which rows are wanted: `repeat … for %s in %s where CONDITION`", blocks[len(blocks)-1].rows.As, blocks[len(blocks)-1].rows.List))
			}
			b.rules = append(b.rules, statementRule{s, and(outer, s.Condition), blocks, b.frames})
		}
	}
}

// let names a value, for what follows in its block.
func (b *builder) let(s Statement) {
	name := s.Paths[0]
	_, slot, _ := b.find(&Name{Name: name.Name})
	switch {
	case b.lets[name.Name] != nil:
		b.out = append(b.out, finding.New("map.name", b.place(name.Pos()), "%s is named already", name.Name))
	case slot >= 0:
		b.out = append(b.out, finding.New("map.name", b.place(name.Pos()), "%s is a field; give the value another name", name.Name))
	case contextWords[name.Name].Doc != "" || functions[name.Name] != nil:
		b.out = append(b.out, finding.New("map.name", b.place(name.Pos()), "%s is a word of the language; give the value another name", name.Name))
	}
	b.check(s.Value)
	b.lets[name.Name] = &let{node: s.Value, frames: b.frames, size: b.size(s.Value)}
	b.letAt = append(b.letAt, name)
}

// forget ends a name at the end of its block.
func (b *builder) forget(name string) {
	for i := len(b.letAt) - 1; i >= 0 && b.lets[name] != nil; i-- {
		if b.letAt[i].Name == name {
			if !b.lets[name].used {
				b.out = append(b.out, finding.Warn("map.name-unused", b.place(b.letAt[i].Pos()), "%s is named, and not used", name))
			}
			break
		}
	}
	delete(b.lets, name)
}

func (b *builder) paths(s Statement) {
	for _, p := range s.Paths {
		switch s.Verb {
		case "keep":
			b.filled[elementOf(p.Name)]++
			b.in.Keep = append(b.in.Keep, b.named(p))
		case "clear":
			b.in.Clear = append(b.in.Clear, b.named(p))
			b.assigned[p.Name] = b.place(p.Pos())
		case "ignore":
			if b.scope.Fields.Slot(p.Name) < 0 {
				f := finding.New("map.field-unknown", b.place(p.Pos()), "there is no field %q", p.Name)
				if near := finding.Nearest(p.Name, b.scope.Fields.Names()); near != "" {
					f = f.Suggest("was %s meant?", near)
				}
				b.out = append(b.out, f)
			}
			b.ignore[p.Name] = true
		}
	}
}

func (b *builder) assignment(s Statement, outer Node) (format.Assignment, bool) {
	name := s.Paths[0]
	pos, err := b.target.Position(name.Name)
	if err != nil {
		f := finding.New("map.position", b.place(name.Pos()), "%v", err)
		b.out = append(b.out, f)
		return format.Assignment{}, false
	}
	if b.check(s.Value) == value.Time {
		b.out = append(b.out, finding.New("map.type", b.place(s.Value.Pos()), "%s is a time; say how %s is to be written", s.Value, pos.Key).
			Suggest(`as in %s = %s | format %q`, pos.Key, s.Value, cmp.Or(map[string]string{"csv": "ISO 8601", "json": "ISO 8601", "hl7": "HL7"}[b.to], "yyyyMMdd")))
	}
	if outer != nil {
		b.check(outer)
	}
	for _, a := range b.in.Assign {
		if a.Path == pos.Key && b.besides(&b.nodes[a.Expression], s.Value, outer) {
			return format.Assignment{}, false
		}
	}
	b.assigned[pos.Key] = b.place(name.Pos())
	b.filled[elementOf(pos.Key)]++
	return format.Assignment{Named: format.Named{Path: pos.Key, At: b.place(name.Pos())}, Expression: b.add(s.Value, outer, pos.Key)}, true
}

// program turns pieces into actions.
func (b *builder) program(pieces []format.Piece, of format.Layout) *Program {
	p := &Program{escapes: b.target.Escapes(), says: of.Says, decimal: of.Decimal}
	if p.null, p.nullable = b.target.Null(); p.escapes.Always() == 0 {
		p.taken = p.null
	}
	p.bare = p.escapes.Always() != 0
	_, blanks := b.target.(format.Blanking)
	var prefix []byte
	var open []int
	outside := b.frames
	defer func() { b.frames = outside }()
	emit := func(a action) {
		a.prefix, prefix = prefix, nil
		a.bounded = p.says != nil && a.kind >= copyText && a.kind <= evaluate || a.kind == evaluate && a.extra != nil
		p.actions = append(p.actions, a)
		if b.explains {
			p.noted = append(p.noted, nil)
		}
	}
	note := func(e expression) {
		if b.explains {
			b.notes = true
			p.noted[len(p.noted)-1] = b.evaluator(e)
			b.notes = false
		}
	}
	for _, piece := range pieces {
		if piece.Kind == format.Value || piece.Kind == format.Member || piece.Kind == format.If || piece.Kind == format.Unless {
			b.frames = b.nodes[piece.Expression].frames
		}
		switch piece.Kind {
		case format.Literal:
			prefix = append(prefix, piece.Bytes...)
		case format.Value:
			e := b.nodes[piece.Expression]
			if piece.Width > 0 {
				a := action{kind: evaluate, eval: b.evaluator(e), extra: &extra{width: piece.Width, zeros: piece.Zeros}}
				if constant(e.node) {
					written := p.append(nil, b.compile(e.node)(&Env{}), &Env{})
					if _, fits := a.extra.pad(written, 0); !fits {
						b.out = append(b.out, finding.New("map.length", b.place(e.node.Pos()), "%q is longer than the %d characters of %s", written, piece.Width, e.path))
					}
					b.lacks(p, e, written)
				}
				a.line = b.line(p, e.node.Pos(), e.path, e.node)
				emit(a)
				note(e)
				continue
			}
			if e.condition == nil && constant(e.node) && !b.explains {
				written := p.append(nil, b.compile(e.node)(&Env{}), &Env{})
				b.lacks(p, e, written)
				prefix = append(prefix, written...)
				continue
			}
			a := b.action(p, e)
			a.line = b.line(p, e.node.Pos(), e.path, e.node)
			a.required = b.requires(e)
			a.nonempty = a.required && !b.saysEmpty(e.node)
			a.fraction = p.decimal != 0 && b.fraction(e.node)
			if blanks {
				kind := b.kindOnce(e.node)
				a.blank = kind == value.Number || kind == value.Bool
			}
			emit(a)
			note(e)
		case format.Member:
			e := b.nodes[piece.Expression]
			a := b.action(p, e)
			a.line, a.member = b.line(p, e.node.Pos(), e.path, e.node), piece.Bytes
			a.number = p.bare && b.kindOnce(e.node) == value.Number
			emit(a)
			note(e)
		case format.If, format.Unless:
			kind := jumpUnless
			if piece.Kind == format.Unless {
				kind = jumpIf
			}
			e := b.nodes[piece.Expression]
			open = append(open, len(p.actions))
			emit(action{kind: kind, eval: b.compile(e.node), line: b.line(p, e.node.Pos(), "when", e.node)})
			note(expression{node: e.node})
		case format.Each:
			block := b.loops[piece.Number]
			b.frames = block.frames
			open = append(open, len(p.actions))
			emit(action{kind: each, extra: &extra{loop: b.loop(block.rows)}, line: b.line(p, block.rows.Pos(), "repeat", block.rows)})
		case format.End:
			begin := open[len(open)-1]
			if p.actions[begin].kind == each {
				emit(action{kind: again, extra: p.actions[begin].extra, line: p.actions[begin].line, jump: int32(begin + 1)})
			} else if prefix != nil {
				emit(action{kind: write})
			}
			p.actions[begin].jump = int32(len(p.actions))
			open = open[:len(open)-1]
		case format.Filled:
			emit(action{kind: filled, set: piece.Bytes})
		case format.Trim:
			emit(action{kind: trim, set: piece.Bytes, extra: &extra{release: piece.Release}})
		default:
			kind := map[format.PieceKind]actionKind{format.Tally: tally, format.Count: count, format.Total: total, format.Level: level, format.Above: above, format.One: one}[piece.Kind]
			p.several = p.several || kind == one
			emit(action{kind: kind, extra: &extra{number: piece.Number, chain: piece.Chain}})
		}
	}
	if prefix != nil {
		emit(action{kind: write})
	}
	if b.explains {
		p.source, p.columns = strings.Split(b.source, "\n"), make([]column, len(p.actions))
		return p
	}
	for i := range p.actions {
		a := &p.actions[i]
		if a.kind > rearrange || a.walk != 0 {
			break
		}
		slot := a.slot
		if a.kind == write {
			slot = -1
		}
		p.leading = append(p.leading, slot)
	}
	p.findColumns()
	return p
}

// line notes where an action comes from and which source field it is about: the
// first that its expressions name.
func (b *builder) line(p *Program, pos int, target string, about ...Node) int32 {
	var of Node
	if len(about) > 0 {
		of = about[0]
	}
	l := line{at: b.place(pos), target: target, slot: -1}
	for _, f := range b.frames[1:] {
		l.lists = append(l.lists, within{b.tables[f.table].Name, f.table, f.walk})
	}
	for len(about) > 0 && l.slot < 0 {
		if depth, slot, ok := b.field(about[0]); ok {
			if l.slot = slot; depth > 0 {
				l.row = b.frames[depth]
			}
		}
		about = append(b.below(about[0]), about[1:]...)
	}
	number := len(p.lines)
	p.lines = append(p.lines, l)
	if choice, is := of.(*Choice); is && choice.Blocks {
		p.lines[number].blocks = int32(len(choice.Cases))
		for _, k := range choice.Cases {
			b.line(p, k.Value.Pos(), target, k.Value)
		}
	}
	return int32(number)
}

// at is the line that was at work where an action's or an edit's is this one.
func (p *Program) at(line int32, e *Env) int32 {
	if p.lines[line].blocks > 0 {
		return line + e.block
	}
	return line
}

// lacks tells of a constant that the target cannot say.
func (b *builder) lacks(p *Program, e expression, written []byte) {
	if problem := p.lacks(written); problem != "" {
		b.out = append(b.out, finding.New("map.character", b.place(e.node.Pos()), "%s: %s", e.path, problem))
	}
}
