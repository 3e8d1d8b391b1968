package lang

import (
	"ydrion/core/finding"
	"ydrion/core/value"
)

// asked are the names for which a condition, or one around it, asks whether they are absent, empty or null.
type asked map[string]int

func (a asked) add(n Node, by int) {
	if n == nil {
		return
	}
	if is, ok := n.(*Is); ok {
		a.names(is.X, by)
	}
	for _, below := range children(n) {
		a.add(below, by)
	}
}

func (a asked) names(n Node, by int) {
	if name, ok := n.(*Name); ok {
		a[name.Name] += by
	}
	for _, below := range children(n) {
		a.names(below, by)
	}
}

// Names collects the names in an expression.
func Names(n Node, into map[string]bool) {
	if name, ok := n.(*Name); ok {
		into[name.Name] = true
	}
	for _, below := range children(n) {
		if below != nil {
			Names(below, into)
		}
	}
}

// OfRecord collects the names in an expression that mean the record itself: what rows of a list are asked is not among them.
func OfRecord(n Node, into map[string]bool) {
	switch of := n.(type) {
	case *Name:
		into[of.Name] = true
	case *Rows:
		return
	case *Call:
		if functions[of.Name].Rows {
			if of.Instead != nil {
				OfRecord(of.Instead, into)
			}
			return
		}
	}
	for _, below := range children(n) {
		if below != nil {
			OfRecord(below, into)
		}
	}
}

// unsaid warns of a comparison that turns what is not there into something: one with !=, or within a
// not. It does not hold then, and its reader may think that it does.
func (c *checker) unsaid(n *Binary) {
	if n.Op != "!=" && c.turned == 0 || c.warned[n.Pos()] {
		return
	}
	for _, operand := range []Node{n.L, n.R} {
		name, may := c.mayLack(operand)
		if !may || c.asked[name.Name] > 0 {
			continue
		}
		c.warned[n.Pos()] = true
		holds := "this does not hold then"
		if c.turned%2 == 1 {
			holds = "this holds then, since a comparison with what is not there does not"
		}
		f := finding.Warn("map.absent", c.place(n.Pos()), "%s may be absent or empty, and %s", name, holds)
		c.out = append(c.out, f.Suggest("say what is meant, with `or %s is absent` or `and %s is not absent` (or empty, or null), or let the schema require it", name, name))
		return
	}
}

// mayLack finds a field for want of which an expression has no value.
func (c *checker) mayLack(n Node) (*Name, bool) {
	switch n := n.(type) {
	case *Name:
		if l := c.lets[n.Name]; l != nil && !n.Field {
			if !l.asked {
				_, l.lacks = c.mayLack(l.node)
				l.asked = true
			}
			return n, l.lacks
		}
		depth, slot, word := c.find(n)
		return n, word == "" && slot >= 0 && !c.frames[depth].fields[slot].Required
	case *Call:
		if f, known := functions[n.Name]; len(n.Args) == 0 || known && f.Rows {
			return nil, false
		}
		return c.mayLack(n.Args[0])
	case *Answer:
		if n.When == value.Absent || n.When == value.Empty { // that something is said shows that it was thought of
			return c.mayLack(n.Value)
		}
		return c.mayLack(n.X)
	case *Binary:
		if name, may := c.mayLack(n.L); may {
			return name, true
		}
		return c.mayLack(n.R)
	}
	return nil, false
}
