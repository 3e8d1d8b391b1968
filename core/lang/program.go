package lang

import (
	"bytes"
	"fmt"
	"math"
	"slices"
	"sort"
	"strconv"
	"strings"
	"unicode/utf8"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/format"
	"ydrion/core/place"
	"ydrion/core/text"
	"ydrion/core/value"
)

// Program is a compiled map: rules that reject or skip a record, then a flat
// list of actions, each a constant prefix and one thing to append. It holds
// nothing that changes, so that all cores run the same one.
type Program struct {
	rules    []rule
	actions  []action
	columns  []column // for each action
	escapes  *text.Escapes
	null     string
	nullable bool   // the target can say null
	taken    string // no text can be written so, because null is; empty: any can
	bare     bool   // numbers and truth values stand without the quotes of texts
	decimal  byte   // numbers stand in plain decimal notation with this mark; 0: as they were written
	says     *text.Repertoire
	leading  []int32 // slots of the first actions, as long as each depends on one of the record's or on none: -1
	lines    []line
	Sequence bool // uses the route's sequence
	Record   bool // uses record numbers

	begins, ends *Program // what stands around the records of an output
	skip         int
	several      bool // a record becomes any number of the target, which are counted

	editor format.Editor // writes records as they came; nil: the actions write them
	edits  []edit

	// Most is how many bytes the records of one batch may become together; 0: it follows from the batch.
	Most int
}

// MostMade is how many bytes are made at most of a message or record that is larger than a usual batch:
// a long value that goes into each of a message's records would take all memory.
const MostMade = 256 << 20

// most is how many bytes the records of a batch may become. Small records may become as much as a
// batch can count: each would be good alone.
func (p *Program) most(b *batch.Batch) int {
	switch {
	case p.Most > 0:
		return p.Most
	case b.N > 2*batch.Size:
		return MostMade
	}
	return math.MaxUint32
}

// tooMuch is what becomes of a record that would make the output of its batch too large.
func (p *Program) tooMuch(b *batch.Batch) Outcome {
	return Outcome{What: batch.Rejected, Line: MadeRule, Reason: fmt.Sprintf("with this record, more than %d bytes would be made of its message", p.most(b))}
}

// line is where in the map an action comes from.
type line struct {
	at     place.Place
	target string
	slot   int // the source field that it is about, or -1
	lists  []within
	row    frame // whose field that is, if it is one of a row
}

// within is a list of which rows are around an expression, and the walk through it.
type within struct {
	list  string
	table int
	walk  int
}

type rule struct {
	condition evaluator
	because   evaluator
	skip      bool
	line      int32
}

type actionKind uint8

const (
	write     actionKind = iota // the prefix only
	copyClean                   // a slot whose check proved that it holds nothing special
	copyText                    // a slot, escaped
	answered                    // a slot, escaped, or what is written for none and for an empty one
	translate                   // a slot through a table with answers ready to write
	rearrange                   // a slot's digits in another order
	evaluate                    // an expression, escaped
	jumpUnless
	jumpIf
	trim
	filled
	tally
	one
	count
	total
	level
	above
	each  // to the first row of a loop, or behind its end
	again // to the next row, and to the action behind each, or on
)

type action struct {
	prefix []byte
	member []byte // stands before the value, and a comma behind, if there is a value
	kind   actionKind
	number bool // a number is to stand there without quotes: an empty value cannot
	blank  bool // null is said by nothing there
	plain  bool // a number is to stand there in plain decimal notation
	read   bool // what is evaluated is the number that the slot's text is, if it is one
	// bounded: the target has not room for all values, or not all characters.
	bounded bool
	slot    int32
	walk    int32 // through rows: the slot is that of the one at which it is; 0: the record's
	line    int32
	jump    int32 // index of the action to go on with
	eval    evaluator
	moves   *text.Rearrangement
	reads   *text.Pattern // proves the slot's text before it is rearranged; nil: proved already
	table   *answers
	set     []byte
	extra   *extra // seldom needed
}

// extra is what only some targets want of an action.
type extra struct {
	release byte
	number  int
	chain   []int
	width   int
	zeros   bool
	loop    *loop
}

// answers is a lookup with escaped answers.
type answers struct {
	few         []listed // small tables are searched through
	many        map[string][]byte
	empty       []byte
	absent      []byte
	unlisted    []byte
	hasUnlisted bool
	file        string
}

type listed struct {
	key    string
	answer []byte
}

// longest is how many bytes are written for a value at most.
func (t *answers) longest() int {
	n := max(len(t.empty), len(t.absent), len(t.unlisted))
	for _, a := range t.few {
		n = max(n, len(a.answer))
	}
	return n
}

func (t *answers) get(key []byte) ([]byte, bool) {
	if t.many != nil {
		a, ok := t.many[string(key)]
		return a, ok
	}
	for i := range t.few {
		if t.few[i].key == string(key) {
			return t.few[i].answer, true
		}
	}
	return nil, false
}

// builder collects what a map says, in the order in which a target wants it.
type builder struct {
	*compiler
	file   string
	source string
	target format.Target        // of what is said now: that of a part within its block
	in     *format.Instructions // the same
	nodes  []expression
	loops  []looped
	letAt  []Name // where values have been named
	rules  []statementRule
	ignore map[string]bool
}

type expression struct {
	node      Node
	condition Node // nil: always
	path      string
	frames    []frame // that are around it
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
	at := place.NewIndex(file, []byte(source)).At
	b := &builder{compiler: &compiler{checker: newChecker(scope, at)}, file: file, source: source, target: target, in: &format.Instructions{}, ignore: map[string]bool{}}
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
	p := b.program(layout.Record, layout)
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
	b.nodes = append(b.nodes, expression{node, condition, path, b.frames})
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
	b.lets[name.Name] = &let{node: s.Value, frames: b.frames}
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

// below are the nodes directly below a node, or the one that a name stands for.
func (b *builder) below(n Node) []Node {
	if name, is := n.(*Name); is && b.bound[name] != nil {
		return []Node{b.bound[name].node}
	}
	return children(n)
}

func (b *builder) paths(s Statement) {
	for _, p := range s.Paths {
		switch s.Verb {
		case "keep":
			b.in.Keep = append(b.in.Keep, b.named(p))
		case "clear":
			b.in.Clear = append(b.in.Clear, b.named(p))
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
			Suggest(`as in %s = %s | format "yyyyMMddHHmm"`, pos.Key, s.Value))
	}
	if outer != nil {
		b.check(outer)
	}
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
				continue
			}
			if e.condition == nil && constant(e.node) {
				written := p.append(nil, b.compile(e.node)(&Env{}), &Env{})
				b.lacks(p, e, written)
				prefix = append(prefix, written...)
				continue
			}
			a := b.action(p, e)
			a.line = b.line(p, e.node.Pos(), e.path, e.node)
			if blanks {
				kind := b.check(e.node)
				a.blank = kind == value.Number || kind == value.Bool
			}
			emit(a)
		case format.Member:
			e := b.nodes[piece.Expression]
			a := b.action(p, e)
			a.line, a.member = b.line(p, e.node.Pos(), e.path, e.node), piece.Bytes
			a.number = p.bare && b.check(e.node) == value.Number
			emit(a)
		case format.If, format.Unless:
			kind := jumpUnless
			if piece.Kind == format.Unless {
				kind = jumpIf
			}
			e := b.nodes[piece.Expression]
			open = append(open, len(p.actions))
			emit(action{kind: kind, eval: b.compile(e.node), line: b.line(p, e.node.Pos(), "when", e.node)})
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
	p.lines = append(p.lines, l)
	return int32(len(p.lines) - 1)
}

// lacks tells of a constant that the target cannot say.
func (b *builder) lacks(p *Program, e expression, written []byte) {
	if problem := p.lacks(written); problem != "" {
		b.out = append(b.out, finding.New("map.character", b.place(e.node.Pos()), "%s: %s", e.path, problem))
	}
}

// evaluator is an expression under its condition, if it has one.
func (b *builder) evaluator(e expression) evaluator {
	then := b.compile(e.node)
	if e.condition == nil {
		return then
	}
	condition := b.compile(e.condition)
	return func(env *Env) value.Value {
		if condition(env).Truth {
			return then(env)
		}
		return value.Value{}
	}
}

// action finds the fastest way to write an expression.
func (b *builder) action(p *Program, e expression) action {
	if e.condition != nil {
		return action{kind: evaluate, eval: b.evaluator(e)}
	}
	if depth, n, ok := b.field(e.node); ok {
		f := b.frames[depth].fields[n]
		if f.Plain() && (p.decimal == 0 || p.decimal == '.' || f.Kind != value.Number) && !p.escapes.Special("0123456789+-.") {
			return action{kind: copyClean, slot: int32(n), walk: int32(b.frames[depth].walk), plain: p.decimal != 0 && f.Kind == value.Number, eval: b.compile(e.node)}
		}
		if f.Kind == value.Text {
			return action{kind: copyText, slot: int32(n), walk: int32(b.frames[depth].walk)}
		}
	}
	if a, ok := b.reformat(e.node, p.escapes); ok {
		return a
	}
	if a, ok := b.translation(e.node, p.escapes); ok {
		return a
	}
	if a, ok := b.answered(p, e.node); ok {
		return a
	}
	if depth, n, ok := b.numeric(e.node); ok {
		return action{kind: evaluate, eval: b.compile(e.node), read: true, slot: int32(n), walk: int32(b.frames[depth].walk)}
	}
	return action{kind: evaluate, eval: b.compile(e.node)}
}

// numeric recognises a text field that is read as a number, whatever is answered if it is none.
func (b *builder) numeric(n Node) (depth, slot int, is bool) {
	for a, ok := n.(*Answer); ok; a, ok = n.(*Answer) {
		n = a.X
	}
	call, ok := n.(*Call)
	if !ok || call.Name != "number" || len(call.Args) != 1 {
		return 0, 0, false
	}
	depth, slot, is = b.field(call.Args[0])
	return depth, slot, is && b.frames[depth].fields[slot].Kind == value.Text
}

// field tells whether a node is a field of the record or of a row around it, and which.
func (b *builder) field(n Node) (depth, slot int, is bool) {
	name, ok := n.(*Name)
	if !ok || b.bound[name] != nil {
		return 0, 0, false
	}
	depth, slot, _ = b.find(name)
	return depth, slot, slot >= 0
}

// reformat recognises a date that only changes the order of its digits.
func (b *builder) reformat(n Node, escapes *text.Escapes) (action, bool) {
	call, ok := n.(*Call)
	if !ok || call.Name != "format" || !constant(call.Args[1]) {
		return action{}, false
	}
	to, err := text.ParsePattern(b.arguments(call.Args[1:])[0].text)
	if err != nil {
		return action{}, false
	}
	if escapes.Special(to.String()) {
		return action{}, false
	}
	var from, reads *text.Pattern
	depth, slot, direct := b.field(call.Args[0])
	if direct {
		if f := b.frames[depth].fields[slot]; f.Kind == value.Time && f.Checked {
			from = f.Pattern
		}
	} else if date, ok := call.Args[0].(*Call); ok && date.Name == "date" && date.Instead == nil {
		if depth, slot, ok = b.field(date.Args[0]); ok && b.frames[depth].fields[slot].Kind == value.Text && constant(date.Args[1]) {
			if from, err = text.ParsePattern(b.arguments(date.Args[1:])[0].text); err != nil {
				return action{}, false
			}
			reads = from
		}
	}
	if from == nil {
		return action{}, false
	}
	moves, ok := text.Rearrange(from, to)
	if !ok {
		return action{}, false
	}
	return action{kind: rearrange, slot: int32(slot), walk: int32(b.frames[depth].walk), moves: &moves, reads: reads}, true
}

// answered recognises a text field that has answers to being empty or absent, which are constant or null.
func (b *builder) answered(p *Program, n Node) (action, bool) {
	t := &answers{}
	for {
		a, is := n.(*Answer)
		if !is {
			break
		}
		if _, is := a.Value.(*Constant); !is && !constant(a.Value) {
			return action{}, false
		}
		v := b.compile(a.Value)(&Env{})
		if v.Kind != value.Text && (v.Kind != value.Null || !p.nullable) {
			return action{}, false
		}
		written := p.append([]byte{}, v, &Env{})
		switch {
		case v.Kind == value.Text && string(written) == p.taken:
			return action{}, false
		case a.When == value.Empty && t.empty == nil:
			t.empty = written
		case a.When == value.Absent && t.absent == nil:
			t.absent = written
		default:
			return action{}, false
		}
		n = a.X
	}
	depth, slot, is := b.field(n)
	if !is || b.frames[depth].fields[slot].Kind != value.Text {
		return action{}, false
	}
	if t.empty == nil {
		t.empty = p.append([]byte{}, value.Value{Kind: value.Empty}, &Env{})
	}
	return action{kind: answered, slot: int32(slot), walk: int32(b.frames[depth].walk), table: t}, true
}

// fewKeys is how many codes are searched one by one.
const fewKeys = 8

// translation recognises a lookup of a field with constant answers.
func (b *builder) translation(n Node, escapes *text.Escapes) (action, bool) {
	t := &answers{}
	for {
		a, ok := n.(*Answer)
		if !ok {
			break
		}
		if !constant(a.Value) || a.When == value.Null {
			return action{}, false
		}
		answer := escapes.Append([]byte{}, b.compile(a.Value)(&Env{}).Append(nil))
		switch {
		case a.When == value.Empty && t.empty == nil:
			t.empty = answer
		case a.When == value.Absent && t.absent == nil:
			t.absent = answer
		default:
			return action{}, false
		}
		n = a.X
	}
	call, ok := n.(*Call)
	if !ok || call.Name != "lookup" || len(call.Args) != 2 {
		return action{}, false
	}
	depth, slot, ok := b.field(call.Args[0])
	source := b.lookupTable(call)
	if !ok || source == nil || source.Tracked() || b.frames[depth].fields[slot].Kind != value.Text {
		return action{}, false
	}
	if call.Instead != nil {
		if !constant(call.Instead) {
			return action{}, false
		}
		t.unlisted, t.hasUnlisted = escapes.Append([]byte{}, b.compile(call.Instead)(&Env{}).Append(nil)), true
	}
	t.file = source.File
	if t.empty == nil && escapes.Always() != 0 {
		t.empty = escapes.Append(nil, nil)
	}
	for _, k := range source.Keys() {
		answer, _ := source.Get([]byte(k))
		written := escapes.Append([]byte{}, []byte(answer))
		if answer == "" && t.empty != nil {
			written = t.empty
		}
		t.few = append(t.few, listed{k, written})
	}
	if len(t.few) > fewKeys {
		t.many = map[string][]byte{}
		for _, a := range t.few {
			t.many[a.key] = a.answer
		}
	}
	return action{kind: translate, slot: int32(slot), walk: int32(b.frames[depth].walk), table: t}, true
}

// Outcome of a record, and for one that was rejected or skipped the reason and
// the line of the map.
type Outcome struct {
	What   batch.Outcome
	Line   int32
	Reason string
	Table  int // from 1, of the row that it is about; 0: of none
	Row    int // in that table
	Slot   int // from 1, of the field in the row; 0: of none
	Parts  int // how many of the target the record has become, in outputs that count them
}

// Run writes one record of a batch. If the record does not become anything,
// what was written is taken back.
func (p *Program) Run(e *Env, b *batch.Batch, record int, out []byte) ([]byte, Outcome) {
	begin := len(out)
	out, o := p.run(e, b, record, out)
	if o.What == batch.Good && len(out) > p.most(b) {
		out, o = out[:begin], p.tooMuch(b)
	}
	if o.What != batch.Rejected || o.Line < 0 {
		return out, o
	}
	if lists := p.lines[o.Line].lists; len(lists) > 0 { // which rows it was
		where := ""
		for _, w := range lists {
			where += fmt.Sprintf("%s %d, ", w.list, e.rows[w.walk].position)
		}
		o.Reason = strings.TrimSuffix(where, ", ") + ": " + o.Reason
		l := &p.lines[o.Line]
		of := lists[len(lists)-1] // the innermost row
		if l.row.walk > 0 {
			of.table, of.walk = l.row.table, l.row.walk
			o.Slot = l.slot + 1
		}
		if row := e.rows[of.walk].index; row >= 0 && (l.slot < 0 || o.Slot > 0) {
			o.Table, o.Row = of.table+1, row
		}
	}
	return out, o
}

func (p *Program) run(e *Env, b *batch.Batch, record int, out []byte) ([]byte, Outcome) {
	e.start(b, record)
	for i := range p.rules {
		r := &p.rules[i]
		if hit := r.condition(e).Truth; e.failed {
			return out, Outcome{What: batch.Rejected, Line: r.line, Reason: e.reason}
		} else if hit {
			reason := string(r.because(e).Append(nil))
			if r.skip {
				return out, Outcome{What: batch.Filtered, Line: r.line, Reason: reason}
			}
			return out, Outcome{What: batch.Rejected, Line: r.line, Reason: reason}
		}
	}
	if p.editor != nil {
		return p.edit(e, b, record, out)
	}
	begin := len(out)
	buf, row := e.Buf, e.Row
	l := &e.before
	e.tally, e.levels, e.parts = 0, e.levels[:0], 0
	from, to, same := 0, 0, false // the actions whose text is that of the record before, or is kept for the next
	if len(p.leading) > 1 && l.looks() {
		same = l.common(p.leading, row)
		from, to = l.from, l.to
	}
	start := begin // of their text
	for i := 0; i < len(p.actions); i++ {
		if i == from && same {
			out = append(out, l.text...)
			if i, from = to, len(p.actions); i == len(p.actions) {
				break
			}
		}
		switch {
		case same || to == 0:
		case i == from:
			start = len(out)
		case i == to:
			l.keep(out[start:])
		}
		a := &p.actions[i]
		if until := int(p.columns[i].until); until > i {
			if i < from {
				until = min(until, from)
			} else if i < to {
				until = min(until, to)
			}
			n := 0
			if out, n = p.stretch(p.columns[i:until], buf, e.row(int(p.columns[i].walk)), out, begin); n > 0 {
				i += n - 1
				continue
			}
		}
		if len(a.prefix) == 1 { // a separator
			out = append(out, a.prefix[0])
		} else {
			out = append(out, a.prefix...)
		}
		mark, after := len(out), 0
		if a.member != nil {
			out = append(out, a.member...)
			after = len(out)
		}
		var s batch.Span
		if a.kind >= copyClean && a.kind <= rearrange {
			of := row
			if a.walk > 0 {
				of = e.rows[a.walk].row
			}
			if s = of[a.slot]; s.Absent() && (a.kind != translate && a.kind != answered || s == batch.Null) {
				if s == batch.Null && !a.blank {
					if !p.nullable {
						return out[:begin], unsayable(a, "null")
					}
					out = append(out, p.null...)
				}
				out = p.after(a, out, mark, after)
				continue
			}
		}
		switch a.kind {
		case write:
		case copyClean:
			switch {
			case a.plain && s.Len() > 0 && !value.IsNumber(buf[s.Off:s.End]):
				v := a.eval(e)
				if e.failed {
					return out[:begin], Outcome{What: batch.Rejected, Line: a.line, Reason: e.reason}
				}
				out = p.append(out, v, e)
			case !p.bare:
				out = append(out, buf[s.Off:s.End]...)
			case s.Len() == 0:
				return out[:begin], unsayable(a, "empty")
			default:
				out = appendNumber(out, buf[s.Off:s.End])
			}
		case copyText, answered:
			if a.kind == answered && s.Absent() {
				out = append(out, a.table.absent...)
				break
			}
			if a.kind == answered && s.Len() == 0 {
				out = append(out, a.table.empty...)
				break
			}
			if s.Len() == len(p.taken) && s.Len() > 0 && string(buf[s.Off:s.End]) == p.taken {
				return out[:begin], p.meansNull(a)
			}
			out = p.escapes.Append(out, buf[s.Off:s.End])
		case translate:
			if s.Absent() {
				out = append(out, a.table.absent...)
				break
			}
			var ok bool
			if out, ok = a.table.append(out, buf[s.Off:s.End]); !ok {
				e.fail("%q is not listed in %s", value.OfText(buf[s.Off:s.End]), a.table.file)
				return out[:begin], Outcome{What: batch.Rejected, Line: a.line, Reason: e.reason}
			}
		case rearrange:
			v := buf[s.Off:s.End]
			if len(v) == 0 {
				out = p.append(out, value.Value{Kind: value.Empty}, e)
				break
			}
			if a.reads != nil {
				if _, ok := a.reads.Read(v); !ok {
					e.fail("%q is not a date in the form %s", value.OfText(v), a.reads.String())
					return out[:begin], Outcome{What: batch.Rejected, Line: a.line, Reason: e.reason}
				}
			}
			if quote := p.escapes.Always(); quote != 0 {
				out = append(a.moves.Append(append(out, quote), v), quote)
				break
			}
			out = a.moves.Append(out, v)
		case evaluate:
			v := a.eval(e)
			if e.failed {
				return out[:begin], Outcome{What: batch.Rejected, Line: a.line, Reason: e.reason}
			}
			if v.Kind == value.Null && a.blank {
				v = value.Value{}
			}
			if v.Kind == value.Null && !p.nullable {
				return out[:begin], unsayable(a, "null")
			}
			if a.number && v.Kind == value.Empty {
				return out[:begin], unsayable(a, "empty")
			}
			from := len(out)
			out = p.append(out, v, e)
			if p.taken != "" && v.Kind != value.Null && string(out[from:]) == p.taken {
				return out[:begin], p.meansNull(a)
			}
		case jumpUnless, jumpIf:
			truth := a.eval(e).Truth
			if e.failed {
				return out[:begin], Outcome{What: batch.Rejected, Line: a.line, Reason: e.reason}
			}
			if truth == (a.kind == jumpIf) {
				i = int(a.jump) - 1
			}
		case trim:
			out = trimmed(out, begin, a.set, a.extra.release)
		case filled:
			if n := len(out); n == begin || out[n-1] == '\n' || out[n-1] == '\r' {
				out = append(out, a.set...)
			}
		case tally:
			e.tally += a.extra.number
		case count:
			out = strconv.AppendInt(out, int64(a.extra.number+e.tally), 10)
			e.tally = 0
		case total:
			n := e.total
			if p.several {
				n = int64(e.parts)
			}
			out = strconv.AppendInt(out, n, 10)
		case one:
			e.levels = e.levels[:0]
			e.parts++
		case level:
			e.levels = append(e.levels, a.extra.number)
			out = strconv.AppendInt(out, int64(len(e.levels)), 10)
		case above:
			for _, k := range a.extra.chain {
				i := len(e.levels) - 1
				for i >= 0 && e.levels[i] != k {
					i--
				}
				if i >= 0 {
					out = strconv.AppendInt(out, int64(i+1), 10)
					break
				}
			}
		case each, again:
			more := false
			if l := a.extra.loop; a.kind == each {
				more = l.begin(e)
			} else {
				more = l.next(e)
			}
			if e.failed {
				return out[:begin], Outcome{What: batch.Rejected, Line: a.line, Reason: e.reason}
			}
			if more && len(out) > p.most(b) {
				return out[:begin], p.tooMuch(b)
			}
			if more == (a.kind == again) {
				i = int(a.jump) - 1
			}
		}
		if !a.bounded {
			if a.member != nil {
				out = p.after(a, out, mark, after)
			}
			continue
		}
		if a.extra != nil {
			var fits bool
			if out, fits = a.extra.pad(out, mark); !fits {
				return out[:begin], Outcome{What: batch.Rejected, Line: a.line, Reason: fmt.Sprintf("%q is longer than the %d characters that are there for it", out[mark:], a.extra.width)}
			}
		}
		if problem := p.lacks(out[mark:]); problem != "" {
			return out[:begin], Outcome{What: batch.Rejected, Line: a.line, Reason: problem}
		}
		if a.member != nil {
			out = p.after(a, out, mark, after)
		}
	}
	if to == len(p.actions) && to > 0 && !same {
		l.keep(out[start:])
	}
	if !p.several {
		return out, Outcome{Parts: 1}
	}
	if e.parts == 0 { // nothing stands around nothing
		out = out[:begin]
	}
	return out, Outcome{Parts: e.parts}
}

// pad brings what stands behind mark to its width.
func (x *extra) pad(out []byte, mark int) ([]byte, bool) {
	n := utf8.RuneCount(out[mark:])
	if n > x.width {
		return out, false
	}
	for ; n < x.width; n++ {
		if x.zeros {
			out = slices.Insert(out, mark, '0')
		} else {
			out = append(out, ' ')
		}
	}
	return out, true
}

// lacks says which character of a value the target does not have; "" if it has all.
func (p *Program) lacks(written []byte) string {
	if p.says == nil {
		return ""
	}
	if c, lacking := p.says.Lacking(written); lacking {
		return fmt.Sprintf("%q is not among the characters of %s", c, p.says.Name)
	}
	return ""
}

// Surround writes what stands before the records of an output and behind them, total of them, of
// which Skip bytes of the first are left out. A finding says why that is not possible.
func (p *Program) Surround(facts Facts, sequence int64, total int64) (before, behind []byte, problem *finding.Finding) {
	e := &Env{Facts: facts, total: total}
	b := &batch.Batch{First: 1, Seq: sequence}
	for _, x := range []struct {
		program *Program
		out     *[]byte
	}{{p.begins, &before}, {p.ends, &behind}} {
		var o Outcome
		if *x.out, o = x.program.Run(e, b, 0, nil); o.What != batch.Good {
			l := x.program.lines[o.Line]
			f := finding.New("map.around", place.Place{Line: 1, Column: 1}, "%s: %s", l.target, o.Reason)
			f.Rule = l.at.String() + " " + l.target
			return nil, nil, &f
		}
	}
	return before, behind, nil
}

// Numbered tells whether an output as a whole has a number of the route's sequence.
func (p *Program) Numbered() bool { return p.begins.Sequence }

// Closes tells whether something stands behind the last record of an output.
func (p *Program) Closes() bool { return len(p.ends.actions) > 0 }

// Skip is how many bytes of an output's first record only stand between two.
func (p *Program) Skip() int { return p.skip }

// AsCame tells whether records go on as they came, with changes.
func (p *Program) AsCame() bool { return p.editor != nil }

// Framer is what writes records as they came with what stands around them, if that is so.
func (p *Program) Framer() (format.Framer, bool) {
	f, is := p.editor.(format.Framer)
	return f, is
}

// Encode gives what has been written in the character set in which it goes out.
func (p *Program) Encode(written []byte) ([]byte, error) { return p.says.Encode(written) }

// unsayable is what becomes of a record with a value that its target cannot say.
func unsayable(a *action, what string) Outcome {
	return Outcome{What: batch.Rejected, Line: a.line, Reason: "the value is " + what + ", which cannot be said here; answer it with `if " + what + " …`"}
}

// meansNull is what becomes of a record with a text that would be read as null.
func (p *Program) meansNull(a *action) Outcome {
	return Outcome{What: batch.Rejected, Line: a.line, Reason: fmt.Sprintf("the value is the text %s, which says null here; write something else for it", p.taken)}
}

// after ends a member: with a comma, or without a trace if it has no value.
func (p *Program) after(a *action, out []byte, mark, after int) []byte {
	switch {
	case a.member == nil:
		return out
	case len(out) == after:
		return out[:mark]
	}
	return append(out, ',')
}

func (p *Program) append(out []byte, v value.Value, e *Env) []byte {
	switch v.Kind {
	case value.Text:
		return p.escapes.Append(out, v.Bytes)
	case value.Null:
		return append(out, p.null...)
	case value.Absent:
		return out
	case value.Number, value.Bool:
		if p.bare {
			e.scratch = v.Append(e.scratch[:0])
			return appendNumber(out, e.scratch)
		}
	}
	if v.Kind == value.Number && p.decimal != 0 {
		if !value.IsNumber(v.Bytes) {
			v.Bytes = nil
		}
		e.scratch = v.Append(e.scratch[:0])
		if i := bytes.IndexByte(e.scratch, '.'); i >= 0 && p.decimal != '.' {
			e.scratch[i] = p.decimal
			return append(out, e.scratch...)
		}
		return p.escapes.Append(out, e.scratch)
	}
	e.scratch = v.Append(e.scratch[:0])
	return p.escapes.Append(out, e.scratch)
}

// append writes the answer to a value, if there is one.
func (t *answers) append(out, v []byte) ([]byte, bool) {
	if len(v) == 0 {
		return append(out, t.empty...), true
	}
	if a, ok := t.get(v); ok {
		return append(out, a...), true
	}
	return append(out, t.unlisted...), t.hasUnlisted
}

func trimmed(out []byte, begin int, set []byte, release byte) []byte {
	for len(out) > begin {
		if last := out[len(out)-1]; bytes.IndexByte(set, last) < 0 || last == 0 {
			return out
		}
		if release != 0 && released(out[begin:len(out)-1], release) {
			return out
		}
		out = out[:len(out)-1]
	}
	return out
}

// released tells whether what follows a text has lost its meaning.
func released(before []byte, release byte) bool {
	n := 0
	for n < len(before) && before[len(before)-1-n] == release {
		n++
	}
	return n%2 == 1
}

// Describe makes the finding of a map note.
func (p *Program) Describe(b *batch.Batch, n batch.Note, r format.Reader) finding.Finding {
	record := int(n.Record)
	if n.Rule == NameRule {
		return finding.New("deliver.name", b.Place(record, b.Bounds[record].Off), "no file can be named after this record: %s", n.Text)
	}
	if n.Rule == MadeRule {
		return finding.New("map.large", b.Place(record, b.Bounds[record].Off), "%s", n.Text).Suggest("make fewer records of a message, or write less for each")
	}
	if n.Rule == KeptRule {
		return finding.New("map.as-it-came", b.Place(record, b.Bounds[record].Off), "the record cannot go on as it came: %s", n.Text)
	}
	l := p.lines[n.Rule]
	offset, name := b.Bounds[record].Off, ""
	f := finding.Finding{Severity: finding.Error, Code: "map.value", Rule: l.at.String() + " " + l.target, Message: n.Text}
	if l.slot >= 0 && l.row.walk == 0 {
		offset, name = r.Locate(b, record, l.slot)
		v, _ := b.Value(record, l.slot)
		f.Seen = finding.Shorten(v)
	}
	f.Place = b.Place(record, offset)
	f.Place.Path = name
	switch {
	case l.target == "reject" || l.target == "skip":
		f.Code = "map." + l.target
	case name != "":
		f.Message = name + ": " + n.Text
	}
	if n.Warn {
		f.Severity = finding.Warning
	}
	return f
}

// appendNumber writes a number as JSON wants it (RFC 8259, 6): without plus sign and zeros
// before it, with a digit on both sides of its point; or a truth value as it is.
func appendNumber(out, written []byte) []byte {
	if len(written) > 0 && (written[0] == '-' || written[0] == '+') {
		if written[0] == '-' {
			out = append(out, '-')
		}
		written = written[1:]
	}
	for len(written) > 1 && written[0] == '0' && written[1]-'0' <= 9 {
		written = written[1:]
	}
	if len(written) > 0 && written[0] == '.' {
		out = append(out, '0')
	}
	if i := bytes.IndexByte(written, '.'); i >= 0 && (i+1 == len(written) || written[i+1]-'0' > 9) {
		out, written = append(out, written[:i]...), written[i+1:]
	}
	return append(out, written...)
}
