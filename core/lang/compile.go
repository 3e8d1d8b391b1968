package lang

import (
	"bytes"
	"strings"
	"ydrion/core/batch"

	"ydrion/core/lookup"
	"ydrion/core/mail"
	"ydrion/core/text"
	"ydrion/core/value"
)

// compiler turns checked nodes into evaluators.
type compiler struct {
	*checker
	totals []figure // of the records of an output

	notes bool // what is compiled notes what it gives
	aside bool // it is none of an output's values, but a name or a condition
}

// arguments compiles the arguments of a call after its input.
func (c *compiler) arguments(nodes []Node) []argument {
	var out []argument
	for _, n := range nodes {
		a := argument{}
		switch n := n.(type) {
		case *Text:
			if len(n.Parts) == 1 {
				a.text = n.Parts[0].Text
			}
		case *Number:
			a.num, _ = n.Value.Int64()
		}
		a.eval = c.compile(n)
		out = append(out, a)
	}
	return out
}

func (c *compiler) compile(n Node) evaluator {
	eval := c.compileNode(n)
	if c.notes {
		return c.noting(n, eval)
	}
	return eval
}

func (c *compiler) compileNode(n Node) evaluator {
	switch n := n.(type) {
	case *Text:
		return c.text(n)
	case *Number:
		v := value.OfWritten(n.Value, []byte(n.Written))
		return func(*Env) value.Value { return v }
	case *Constant:
		v := map[string]value.Value{"true": value.OfBool(true), "false": value.OfBool(false), "absent": {}, "empty": {Kind: value.Empty}, "null": {Kind: value.Null}}[n.Name]
		return func(*Env) value.Value { return v }
	case *Name:
		return c.compileName(n)
	case *Call:
		return c.compileCall(n)
	case *Choice:
		return c.compileChoice(n)
	case *Answer:
		x, answer, when := c.compile(n.X), c.compile(n.Value), n.When
		if nothing(n.Value) {
			answer = func(*Env) value.Value { return value.Value{Kind: value.Empty} }
		}
		return func(e *Env) value.Value {
			v := x(e)
			if v.Kind == when && !e.failed {
				return answer(e)
			}
			return v
		}
	case *Not:
		x := c.compile(n.X)
		return func(e *Env) value.Value { return value.OfBool(!x(e).Truth) }
	case *Is:
		x, what, not := c.compile(n.X), n.What, n.Not
		return func(e *Env) value.Value { return value.OfBool((x(e).Kind == what) != not) }
	case *Binary:
		return c.compileBinary(n)
	}
	return func(*Env) value.Value { return value.Value{} }
}

func (c *compiler) text(n *Text) evaluator {
	if constant(n) {
		var b []byte
		if len(n.Parts) == 1 {
			b = []byte(n.Parts[0].Text)
		}
		v := value.OfText(b)
		return func(*Env) value.Value { return v }
	}
	type part struct {
		text []byte
		eval evaluator
	}
	var parts []part
	for _, p := range n.Parts {
		if p.Node != nil {
			parts = append(parts, part{eval: c.compile(p.Node)})
			continue
		}
		parts = append(parts, part{text: []byte(p.Text)})
	}
	if len(parts) == 1 {
		eval := parts[0].eval
		return func(e *Env) value.Value {
			v := eval(e)
			if v.Kind == value.Text {
				return v
			}
			return e.text(v, func(to, _ []byte) []byte { return v.Append(to) })
		}
	}
	return func(e *Env) value.Value {
		// What the parts need of the scratch space stands before the text.
		var few [8]value.Value
		values := few[:0]
		for _, p := range parts {
			if p.eval != nil {
				values = append(values, p.eval(e))
			}
		}
		return e.text(value.Value{}, func(to, _ []byte) []byte {
			for _, p := range parts {
				if p.eval == nil {
					to = append(to, p.text...)
					continue
				}
				to, values = values[0].Append(to), values[1:]
			}
			return to
		})
	}
}

func (c *compiler) compileChoice(n *Choice) evaluator {
	type kase struct{ when, value evaluator }
	var cases []kase
	for _, k := range n.Cases {
		cases = append(cases, kase{c.compile(k.When), c.compile(k.Value)})
	}
	otherwise, blocks := c.compile(n.Otherwise), n.Blocks
	return func(e *Env) value.Value {
		if blocks {
			e.block = 0
		}
		for i, k := range cases {
			holds := k.when(e).Truth
			if e.failed {
				return value.Value{}
			}
			if holds {
				if blocks {
					e.block = int32(i + 1)
				}
				return k.value(e)
			}
		}
		return otherwise(e)
	}
}

// let is a value that a map has named.
type let struct {
	node   Node
	frames []frame // where that was
	used   bool
	size   int // how many nodes it is, with those of the names in it

	asked, lacks bool // whether it may have no value has been found out, and it may
}

// inside goes to where a value was named, and gives the way back.
func (c *checker) inside(l *let) (back func()) {
	around := c.frames
	c.frames = l.frames
	return func() { c.frames = around }
}

func (c *compiler) compileName(n *Name) evaluator {
	if l := c.bound[n]; l != nil {
		defer c.inside(l)()
		return c.compile(l.node)
	}
	depth, slot, word := c.find(n)
	if word != "" {
		return placeOf(c.frames[depth].walk, word)
	}
	if slot < 0 || depth == 0 && !n.Field && c.words[n.Name] {
		return contextValue(n.Name)
	}
	f, walk := c.frames[depth].fields[slot], c.frames[depth].walk
	if f.Kind == value.Text {
		return func(e *Env) value.Value {
			s := e.row(walk)[slot]
			if s.Absent() {
				return missing(s)
			}
			return value.OfText(e.Buf[s.Off:s.End])
		}
	}
	return func(e *Env) value.Value {
		s := e.row(walk)[slot]
		if s.Absent() {
			return missing(s)
		}
		v, ok := f.Read(e.Buf[s.Off:s.End])
		if !ok {
			return e.fail("%q is not of the field's type, "+f.Kind.String(), value.OfText(e.Buf[s.Off:s.End]), "")
		}
		return v
	}
}

func contextValue(name string) evaluator {
	switch name {
	case "now":
		return func(e *Env) value.Value { return value.OfTime(e.Now) }
	case "sequence":
		return func(e *Env) value.Value { return value.OfNumber(value.Int(e.Seq)) }
	case "part.number":
		return func(e *Env) value.Value { return value.OfNumber(value.Int(e.Part.Number)) }
	case "part.count":
		return func(e *Env) value.Value { return value.OfNumber(value.Int(e.Part.Count)) }
	case "part.records":
		return func(e *Env) value.Value { return value.OfNumber(value.Int(e.Part.Records)) }
	case "record":
		return func(e *Env) value.Value { return value.OfNumber(value.Int(e.Record)) }
	case "collect.files":
		return func(e *Env) value.Value { return value.OfNumber(value.Int(int64(e.Files))) }
	case "mail.date":
		return func(e *Env) value.Value {
			if e.Mail == nil || e.Mail.Date.IsZero() {
				return value.Value{}
			}
			return value.OfTime(value.FromTime(e.Mail.Date))
		}
	case "mail.from", "mail.to", "mail.subject", "mail.id":
		of := map[string]func(*mail.Head) string{
			"mail.from": func(m *mail.Head) string { return m.From }, "mail.to": func(m *mail.Head) string { return m.To },
			"mail.subject": func(m *mail.Head) string { return m.Subject }, "mail.id": func(m *mail.Head) string { return m.ID },
		}[name]
		return func(e *Env) value.Value {
			if e.Mail == nil {
				return value.OfText(nil)
			}
			return value.OfText([]byte(of(e.Mail)))
		}
	case "file.head":
		return func(e *Env) value.Value { return value.OfText(bytes.ToValidUTF8(e.Head, []byte("\uFFFD"))) }
	case "file.size":
		return func(e *Env) value.Value { return value.OfNumber(value.Int(e.Size)) }
	}
	return func(e *Env) value.Value {
		var s string
		dot := strings.LastIndexByte(e.Name, '.')
		switch name {
		case "route":
			s = e.Route
		case "file.name":
			s = e.Name
		case "file.stem":
			s = e.Name
			if dot > 0 {
				s = e.Name[:dot]
			}
		case "file.extension":
			if dot > 0 {
				s = e.Name[dot+1:]
			}
		case "file.folder":
			s = e.Folder
		case "file.type":
			s = e.Type
		case "file.event":
			s = e.Event
		case "collect.key":
			s = e.Key
		}
		return value.OfText([]byte(s))
	}
}

func (c *compiler) compileCall(n *Call) evaluator {
	f, ok := functions[n.Name]
	if !ok || !c.fits(n, f) {
		return func(*Env) value.Value { return value.Value{} } // it has been complained about
	}
	if f.Rows {
		return c.compileRows(n)
	}
	in := c.compile(n.Args[0])
	if n.Name == "lookup" {
		return c.compileLookup(n, in)
	}
	op, err := f.build(c.arguments(n.Args[1:]))
	if err != nil {
		c.bad(n, "map.arguments", "%v", err)
		return in
	}
	if f.needs != nil {
		op = c.needing(n, op, f.needs(c.arguments(n.Args[1:])))
	}
	if n.Name == "format" {
		op = c.zoned(n, op)
	}
	var answer evaluator
	if n.Instead != nil {
		answer = c.compile(n.Instead)
	}
	return func(e *Env) value.Value {
		v := in(e)
		if !v.Has() || e.failed {
			return v
		}
		if answer == nil {
			return op(e, v)
		}
		e.answered = true
		v = op(e, v)
		e.answered = false
		if e.failed {
			e.failed = false
			return answer(e)
		}
		return v
	}
}

// needing checks a function's times against what it asks for: at once where it is clear what is known of them, else each.
func (c *compiler) needing(n *Call, op operation, lacks func(value.Moment) string) operation {
	if known, is := c.known(n.Args[0]); is {
		if part := lacks(known); part != "" {
			c.bad(n, "map.time", "%s asks for the %s of a time of which that is not known%s", n.Name, part, map[string]string{
				"time of day": "; if midnight is meant, write it as a text between apostrophes, as in `format \"yyyyMMdd'0000'\"`", "offset from UTC": "; say before where it is local, as in `zone \"Europe/Dublin\"` or `zone \"UTC\"`"}[part])
		}
		return op
	}
	return func(e *Env, in value.Value) value.Value {
		if part := lacks(in.Time); part != "" {
			return e.fail("the "+part+" of %q is not known, which %s asks for", in, n.Name)
		}
		return op(e, in)
	}
}

// known is what is known of each time that an expression gives, if that is clear before any is there.
func (c *compiler) known(n Node) (value.Moment, bool) {
	switch n := n.(type) {
	case *Name:
		if l := c.bound[n]; l != nil {
			return value.Moment{}, false
		}
		if depth, slot, _ := c.find(n); slot >= 0 && c.frames[depth].fields[slot].Kind == value.Time && c.frames[depth].fields[slot].Pattern != nil {
			says, _ := c.frames[depth].fields[slot].Pattern.Says()
			return says, true
		}
	case *Call:
		if n.Name == "date" && n.Instead == nil && len(n.Args) > 1 && constant(n.Args[1]) {
			if p, err := text.ParsePattern(c.arguments(n.Args[1:])[0].text); err == nil {
				says, _ := p.Says()
				return says, true
			}
		}
		if n.Name == "local" && len(n.Args) > 0 {
			says, is := c.known(n.Args[0])
			says.Offset = value.NoZone
			return says, is
		}
	}
	return value.Moment{}, false
}

// fits tells whether a call has the arguments that its function is built with.
func (c *compiler) fits(n *Call, f *Function) bool {
	if len(n.Args) == 0 || len(n.Args)-1 < f.needed() || len(n.Args)-1 > len(f.Args) {
		return false
	}
	for i, a := range n.Args[1:] {
		if f.Args[i].Constant && !constant(a) {
			return false
		}
	}
	return true
}

func (c *compiler) lookupTable(n *Call) *lookup.Table {
	if len(n.Args) < 2 {
		return nil
	}
	name, ok := n.Args[1].(*Name)
	if !ok {
		return nil
	}
	return c.scope.table(name.Name)
}

func (c *compiler) compileLookup(n *Call, in evaluator) evaluator {
	t := c.lookupTable(n)
	if t == nil {
		return in
	}
	if kinds := t.Kinds(); len(n.Args) > 2 || len(kinds) > 0 && kinds[0] != value.Text {
		return c.compileIndex(n, in, t)
	}
	var unlisted evaluator
	if n.Instead != nil {
		unlisted = c.compile(n.Instead)
	}
	return func(e *Env) value.Value {
		v := in(e)
		if !v.Has() || e.failed {
			return v
		}
		if answer, ok := t.Get(v.Bytes); ok {
			return value.OfText([]byte(answer))
		}
		if unlisted != nil {
			return unlisted(e)
		}
		return e.fail("%q is not listed in %s", v, t.File)
	}
}

// compileIndex compiles a lookup of several keys, or for the answer in a column that is named.
func (c *compiler) compileIndex(n *Call, in evaluator, t *lookup.Table) evaluator {
	args := c.arguments(n.Args[2:])
	answer := ""
	if len(args) > 0 {
		answer, args = args[0].text, args[1:]
	}
	index, err := t.By(1+len(args), answer)
	if err != nil {
		return in // it has been complained about
	}
	kinds := index.Kinds()
	var unlisted evaluator
	if n.Instead != nil {
		unlisted = c.compile(n.Instead)
	}
	return func(e *Env) value.Value {
		v := in(e)
		if !v.Has() || e.failed {
			return v
		}
		start, within := len(e.scratch), [3]value.Value{}
		ranges, lacks := 0, false
		for i, kind := range kinds {
			if i > 0 {
				if v = args[i-1].eval(e); e.failed {
					return v
				}
			}
			if kind != value.Text {
				if part := v.Time.Lacks(value.Year, value.Day); v.Kind == value.Time && part != "" {
					return e.fail("the "+part+" of %q is not known, which is looked for in a range of %s", v, t.File)
				}
				within[ranges] = v
				ranges++
				lacks = lacks || !v.Has()
				continue
			}
			if i > ranges {
				e.scratch = append(e.scratch, 0)
			}
			e.scratch = v.Append(e.scratch)
		}
		keys := e.scratch[start:len(e.scratch):len(e.scratch)]
		var answer string
		var listed bool
		if ranges == 0 {
			answer, listed = index.Get(keys)
		} else if !lacks {
			answer, listed = index.Within(keys, within[:ranges])
		}
		if listed {
			return value.OfText([]byte(answer))
		}
		if unlisted != nil {
			return unlisted(e)
		}
		said := strings.Split(string(keys), "\x00")
		if ranges == len(kinds) {
			said = nil
		}
		for _, v := range within[:ranges] {
			said = append(said, string(v.Append(nil)))
		}
		return e.fail("%q is not listed in %s", value.OfText([]byte(strings.Join(said, ", "))), t.File)
	}
}

func (c *compiler) compileBinary(n *Binary) evaluator {
	l, r, op := c.compile(n.L), c.compile(n.R), n.Op
	switch op {
	case "and":
		return func(e *Env) value.Value { return value.OfBool(l(e).Truth && r(e).Truth) }
	case "or":
		return func(e *Env) value.Value { return value.OfBool(l(e).Truth || r(e).Truth) }
	case "+", "-", "*", "/":
		return func(e *Env) value.Value { return arithmetic(e, op, l(e), r(e)) }
	}
	return func(e *Env) value.Value {
		x, y := l(e), r(e)
		if !x.Has() || !y.Has() || x.Kind != y.Kind {
			return value.OfBool(false)
		}
		order, ok := compare(x, y)
		if !ok {
			return e.fail(incomparable(x, y), x, "")
		}
		switch op {
		case "=":
			ok = order == 0
		case "!=":
			ok = order != 0
		case "<":
			ok = order < 0
		case "<=":
			ok = order <= 0
		case ">":
			ok = order > 0
		case ">=":
			ok = order >= 0
		}
		return value.OfBool(ok)
	}
}

func compare(x, y value.Value) (int, bool) {
	switch x.Kind {
	case value.Number:
		return x.Number.Cmp(y.Number), true
	case value.Time:
		return x.Time.Compare(y.Time)
	case value.Bool:
		if x.Truth == y.Truth {
			return 0, true
		}
		return 1, true
	}
	return bytes.Compare(x.Bytes, y.Bytes), true
}

func arithmetic(e *Env, op string, x, y value.Value) value.Value {
	if !x.Has() || e.failed {
		return x
	}
	if !y.Has() {
		return y
	}
	a, b := x.Number, y.Number
	switch op {
	case "+":
		a = a.Add(b)
	case "-":
		a = a.Sub(b)
	case "*":
		a = a.Mul(b)
	case "/":
		q, ok := a.Div(b, 12, value.HalfEven)
		if !ok {
			return e.fail("%q cannot be divided by zero", x, "")
		}
		a = q
	}
	return value.OfNumber(a)
}

// missing is the value of a field without one: absent or null.
func missing(s batch.Span) value.Value {
	if s == batch.Null {
		return value.Value{Kind: value.Null}
	}
	return value.Value{}
}
