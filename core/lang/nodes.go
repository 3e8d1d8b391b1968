package lang

import (
	"fmt"
	"strings"

	"ydrion/core/value"
)

// Node is an expression. Every node knows where it stands and can print
// itself.
type Node interface {
	Pos() int
	String() string
}

type at int

func (a at) Pos() int { return int(a) }

func (a *at) move(by int) { *a += at(by) }

type (
	// Text is a text literal: constant parts and expressions in braces.
	Text struct {
		at
		Parts []Part
	}
	// Part is a constant or, if Node is set, an expression.
	Part struct {
		Text string
		Node Node
	}
	// Number is a number literal.
	Number struct {
		at
		Written string
		Value   value.Decimal
	}
	// Constant is true, false, absent, empty or null.
	Constant struct {
		at
		Name string
	}
	// Name is a source field or something from the context.
	Name struct {
		at
		Name  string
		Field bool // said with `field "…"`: never the context
	}
	// Call is a function, in a pipeline (the first argument is what comes
	// before) or in the form name(argument, …).
	Call struct {
		at
		Name    string
		Piped   bool
		Args    []Node
		Instead Node // answer of a lookup for a code that is not listed, of number and date for what they cannot read
	}
	// Answer replaces absent, empty or null.
	Answer struct {
		at
		X, Value Node
		When     value.Kind
	}
	// Choice is a value by condition: the first case that holds, or what is said otherwise.
	Choice struct {
		at
		Cases     []Case
		Otherwise Node
		Blocks    bool // each case is said in a block of its own
	}
	// Case is a value and when it is the one.
	Case struct{ Value, When Node }
	// Binary is an operator between two expressions.
	Binary struct {
		at
		Op   string
		L, R Node
	}
	// Not turns a condition around.
	Not struct {
		at
		X Node
	}
	// Is asks for absent, empty or null.
	Is struct {
		at
		X    Node
		Not  bool
		What value.Kind
	}
)

func (n *Text) String() string {
	var b strings.Builder
	b.WriteByte('"')
	for _, p := range n.Parts {
		if p.Node != nil {
			fmt.Fprintf(&b, "{%s}", p.Node)
			continue
		}
		b.WriteString(textEscapes.Replace(p.Text))
	}
	b.WriteByte('"')
	return b.String()
}

var textEscapes = strings.NewReplacer("\\", "\\\\", "\"", "\\\"", "\n", "\\n", "\r", "\\r", "\t", "\\t", "{", "{{", "}", "}}")

func (n *Number) String() string   { return n.Written }
func (n *Constant) String() string { return n.Name }

func (n *Name) String() string {
	if n.Field {
		return fmt.Sprintf("field %q", n.Name)
	}
	return n.Name
}

func (n *Call) String() string {
	args := n.Args
	var b strings.Builder
	if n.Piped {
		fmt.Fprintf(&b, "%s | %s", args[0], n.Name)
		for _, a := range args[1:] {
			fmt.Fprintf(&b, " %s", operand(a))
		}
	} else {
		b.WriteString(n.Name)
		if len(args) > 0 {
			b.WriteByte('(')
			for i, a := range args {
				if i > 0 {
					b.WriteString(", ")
				}
				b.WriteString(a.String())
			}
			b.WriteByte(')')
		}
	}
	if n.Instead != nil {
		fmt.Fprintf(&b, " if %s %s", instead[n.Name], operand(n.Instead))
	}
	return b.String()
}

func (n *Answer) String() string {
	return fmt.Sprintf("%s if %s %s", n.X, n.When, operand(n.Value))
}
func (n *Choice) String() string {
	var b strings.Builder
	for _, c := range n.Cases {
		fmt.Fprintf(&b, "%s when %s, ", c.Value, c.When)
	}
	return b.String() + "otherwise " + n.Otherwise.String()
}
func (n *Binary) String() string { return fmt.Sprintf("%s %s %s", operand(n.L), n.Op, operand(n.R)) }
func (n *Not) String() string    { return "not " + operand(n.X) }

func (n *Is) String() string {
	if n.Not {
		return fmt.Sprintf("%s is not %s", operand(n.X), n.What)
	}
	return fmt.Sprintf("%s is %s", operand(n.X), n.What)
}

// operand puts parentheses where a node would otherwise fall apart.
func operand(n Node) string {
	switch n.(type) {
	case *Binary, *Answer, *Not, *Is, *Choice:
		return "(" + n.String() + ")"
	case *Call:
		if n.(*Call).Piped {
			return "(" + n.String() + ")"
		}
	}
	return n.String()
}

// children are the nodes directly below a node.
func children(n Node) []Node {
	switch n := n.(type) {
	case *Text:
		var out []Node
		for _, p := range n.Parts {
			if p.Node != nil {
				out = append(out, p.Node)
			}
		}
		return out
	case *Rows:
		var out []Node
		for _, below := range []Node{n.Where, n.Once, n.By} {
			if below != nil {
				out = append(out, below)
			}
		}
		return out
	case *Call:
		if n.Instead != nil {
			return append(append([]Node{}, n.Args...), n.Instead)
		}
		return n.Args
	case *Answer:
		return []Node{n.X, n.Value}
	case *Choice:
		var out []Node
		for _, c := range n.Cases {
			out = append(out, c.Value, c.When)
		}
		return append(out, n.Otherwise)
	case *Binary:
		return []Node{n.L, n.R}
	case *Not:
		return []Node{n.X}
	case *Is:
		return []Node{n.X}
	}
	return nil
}

// Map is a parsed map.
type Map struct {
	Name         string
	SourceFormat string
	SourceSchema string
	TargetFormat string
	TargetSample string
	AsCame       bool // the target is the record as it came
	At           struct{ Map, Source, Schema, Target, Sample int }
	Body         []Statement
}

// Statement is a line or a block of a map.
type Statement struct {
	At        int
	Verb      string // assign, let, keep, clear, ignore, drop, add, when, repeat, reject, skip
	Paths     []Name
	Value     Node // of an assignment; of reject and skip the reason
	Condition Node
	Each      *Rows       // of repeat
	Body      []Statement // of add, when and repeat
}

// Mentioned calls say for each name in an expression, and in all that stands below it.
func Mentioned(n Node, say func(name string, pos int)) {
	if n == nil {
		return
	}
	if name, is := n.(*Name); is {
		say(name.Name, name.Pos())
	}
	for _, below := range children(n) {
		Mentioned(below, say)
	}
}

// Mentions calls say for each name in the expressions of a map.
func (m *Map) Mentions(say func(name string, pos int)) { mentions(m.Body, say) }

func mentions(body []Statement, say func(name string, pos int)) {
	for _, s := range body {
		Mentioned(s.Value, say)
		Mentioned(s.Condition, say)
		if s.Each != nil {
			Mentioned(s.Each, say)
		}
		if s.Verb == "ignore" {
			for _, p := range s.Paths {
				say(p.Name, p.Pos())
			}
		}
		mentions(s.Body, say)
	}
}
