package lang

import "ydrion/core/value"

// fraction tells whether an expression gives numbers that may have decimals: of nothing is it known that there are none.
func (c *compiler) fraction(n Node) bool {
	if k := c.kindOnce(n); k != value.Number && k != anyKind {
		return false
	}
	switch n := n.(type) {
	case *Number:
		return n.Value.Cmp(n.Value.Round(0, value.Down)) != 0
	case *Name:
		if l := c.bound[n]; l != nil {
			defer c.inside(l)()
			return c.fraction(l.node)
		}
		depth, slot, word := c.find(n)
		if word != "" || slot < 0 || depth == 0 && !n.Field && c.words[n.Name] { // they count something
			return false
		}
		f := &c.frames[depth].fields[slot]
		return f.Kind == value.Number && !f.Whole
	case *Call:
		if f := functions[n.Name]; f == nil || !c.fits(n, f) {
			return false // it has been complained about
		}
		switch n.Name {
		case "count", "length", "until", "weekday", "week", "dayofyear", "epoch":
			return false
		case "round":
			decimals, is := n.Args[1].(*Number)
			return !is || decimals.Value.Cmp(value.Decimal{}) > 0
		case "abs":
			return c.fraction(n.Args[0])
		case "min", "max":
			return c.fraction(n.Args[0]) || c.fraction(n.Args[1])
		}
		return true
	case *Answer:
		return c.fraction(n.X) || c.fraction(n.Value)
	case *Choice:
		may := c.fraction(n.Otherwise)
		for _, of := range n.Cases {
			may = may || c.fraction(of.Value)
		}
		return may
	case *Binary:
		return n.Op == "/" || c.fraction(n.L) || c.fraction(n.R)
	}
	return false
}
