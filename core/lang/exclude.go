package lang

import (
	"slices"

	"ydrion/core/value"
)

// excludes tells whether two conditions can be seen never to hold together.
func (c *checker) excludes(a, b Node) bool {
	for _, both := range [2][2]Node{{a, b}, {b, a}} {
		if or, is := both[0].(*Binary); is && or.Op == "or" {
			return c.excludes(or.L, both[1]) && c.excludes(or.R, both[1])
		}
	}
	for _, x := range parted(a) {
		for _, y := range parted(b) {
			if c.opposite(x, y) || c.opposite(y, x) {
				return true
			}
		}
	}
	return false
}

// parted are the conditions of which all must hold.
func parted(n Node) []Node {
	if and, is := n.(*Binary); is && and.Op == "and" {
		return append(parted(and.L), parted(and.R)...)
	}
	return []Node{n}
}

// opposite tells whether one condition says what cannot be if another holds.
func (c *checker) opposite(x, y Node) bool {
	switch x := x.(type) {
	case *Not:
		return c.same(x.X, y)
	case *Is:
		switch y := y.(type) {
		case *Is:
			return c.same(x.X, y.X) && (x.What == y.What && x.Not != y.Not || x.What != y.What && !x.Not && !y.Not)
		case *Binary: // what is absent, empty or null is compared with nothing
			return !x.Not && comparison(y) && (c.same(y.L, x.X) || c.same(y.R, x.X))
		}
	case *Binary:
		if y, is := y.(*Binary); is && comparison(x) && comparison(y) && c.same(x.L, y.L) {
			return c.apart(x, y)
		}
	}
	return false
}

// same tells whether two expressions are the same: in their words, and in what those that a map has named stand for.
func (c *checker) same(x, y Node) bool {
	if x.String() != y.String() {
		return false
	}
	of := func(n Node) (lets []*let) {
		for nodes := []Node{n}; len(nodes) > 0; nodes = nodes[1:] {
			if name, is := nodes[0].(*Name); is {
				lets = append(lets, c.bound[name])
			}
			nodes = append(nodes, children(nodes[0])...)
		}
		return lets
	}
	return slices.Equal(of(x), of(y))
}

func comparison(n *Binary) bool {
	return slices.Contains([]string{"=", "!=", "<", "<=", ">", ">="}, n.Op)
}

// apart tells whether two comparisons of one thing cannot both hold.
func (c *checker) apart(x, y *Binary) bool {
	if c.same(x.R, y.R) {
		switch x.Op + " " + y.Op {
		case "= !=", "!= =", "< >=", ">= <", "> <=", "<= >", "< >", "> <", "= <", "< =", "= >", "> =":
			return true
		}
		return false
	}
	if a, is := x.R.(*Text); is {
		b, is := y.R.(*Text)
		return is && constant(a) && constant(b) && x.Op == "=" && y.Op == "=" && textOf(a) != textOf(b)
	}
	p, fixed := bounds(x)
	q, too := bounds(y)
	return fixed && too && (p.below(q) || q.below(p))
}

// interval is the numbers for which a comparison holds; a bound that is nil bounds nothing.
type interval struct {
	from, to     *value.Decimal
	above, under bool // from and to themselves are not of it
}

// bounds are the numbers for which a comparison with a number holds.
func bounds(n *Binary) (s interval, is bool) {
	number, is := n.R.(*Number)
	if !is {
		return s, false
	}
	v := &number.Value
	switch n.Op {
	case "=":
		return interval{from: v, to: v}, true
	case "<", "<=":
		return interval{to: v, under: n.Op == "<"}, true
	case ">", ">=":
		return interval{from: v, above: n.Op == ">"}, true
	}
	return s, false
}

// below tells whether all of a interval is below all of another.
func (s interval) below(t interval) bool {
	if s.to == nil || t.from == nil {
		return false
	}
	order := s.to.Cmp(*t.from)
	return order < 0 || order == 0 && (s.under || t.above)
}

// textOf is a text that is constant.
func textOf(n *Text) string {
	if len(n.Parts) == 0 {
		return ""
	}
	return n.Parts[0].Text
}

// besides makes what a block says of a position one of the cases of what is said of it already, where both never hold. It is
// false where they might.
func (b *builder) besides(said *expression, node, outer Node) bool {
	cases := said.cases
	if cases == nil {
		cases = []Case{{said.node, said.condition}}
	}
	for _, c := range cases {
		if c.When == nil || outer == nil || !b.excludes(c.When, outer) {
			return false
		}
	}
	said.cases = append(cases, Case{node, outer})
	choice := &Choice{at: at(cases[0].Value.Pos()), Cases: said.cases, Otherwise: &Constant{at(node.Pos()), "absent"}, Blocks: true}
	if b.kinds[choice] = b.kinds[said.node]; b.kinds[choice] != b.kinds[node] {
		b.kinds[choice] = anyKind
	}
	said.node, said.condition = choice, nil
	return true
}
