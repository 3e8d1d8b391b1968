package lang

import (
	"ydrion/core/text"
	"ydrion/core/value"
)

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
	prefix   []byte
	member   []byte // stands before the value, and a comma behind, if there is a value
	kind     actionKind
	number   bool // a number is to stand there without quotes: an empty value cannot
	blank    bool // null is said by nothing there
	plain    bool // a number is to stand there in plain decimal notation
	required bool // there must be a value
	nonempty bool // and it is told if that is empty: the map does not say so itself
	fraction bool // it is a number that may have decimals
	read     bool // what is evaluated is the number that the slot's text is, if it is one
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
	} else if date, ok := call.Args[0].(*Call); ok && date.Name == "date" && date.Instead == nil && len(date.Args) == 2 {
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
