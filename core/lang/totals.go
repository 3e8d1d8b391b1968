package lang

import (
	"slices"

	"ydrion/core/batch"
	"ydrion/core/shape"
	"ydrion/core/value"
)

// partName is what the records of an output are called in its name, as a list: part | sum kg.
const partName = "part"

// ofPart tells whether a function asks all records of an output, and not the rows of a list.
func (c *checker) ofPart(n *Call) bool {
	name, is := n.Args[0].(*Name)
	if !is || name.Name != partName || name.Field || !c.scope.Words["part.records"] {
		return false
	}
	return !slices.Contains(c.scope.Fields.Names(), partName) && !slices.ContainsFunc(c.tables, func(t shape.Table) bool { return t.Name == partName })
}

// overPart checks a function that works on the records of an output.
func (c *checker) overPart(n *Call, f *Function) value.Kind {
	c.words["part.records"] = true // it is known when the output has been written
	switch n.Name {
	case "sum", "smallest", "largest":
		return c.ofEach(n, f)
	case "count":
		c.bad(n, "map.list", "how many records are in the output is part.records")
	default:
		c.bad(n, "map.list", "of the records of an output sum, smallest and largest can be asked, not %s", n.Name)
		if n.Name == "first" {
			c.suggest("a field by itself is that of the first record: %s", n.Args[1])
		}
	}
	return f.Out
}

// figure is what a name asks of the records of its output.
type figure struct {
	function string
	of       evaluator
}

// compilePart compiles a function on the records of an output: what has been added up is there when it is named.
func (c *compiler) compilePart(n *Call) evaluator {
	nth := len(c.totals)
	c.totals = append(c.totals, figure{n.Name, c.compile(n.Args[1])})
	return func(e *Env) value.Value {
		if nth < len(e.Part.Totals) {
			return e.Part.Totals[nth].value()
		}
		return value.Value{}
	}
}

// Totals are what the records of an output have come to so far, in the order in which its name asks for it.
type Totals []sofar

type sofar struct {
	function string
	sum      value.Decimal
	out      value.Value
}

func (s *sofar) value() value.Value {
	if s.function == "sum" {
		return value.OfNumber(s.sum)
	}
	return s.out
}

// Totals tells whether the name asks for something of all records of its output.
func (n *Template) Totals() bool { return len(n.totals) > 0 }

// Add adds a record of the output to the totals. The problem says why that is not possible.
func (n *Template) Add(to Totals, e *Env, b *batch.Batch, record int) (_ Totals, problem string) {
	e.start(b, record)
	for i, t := range n.totals {
		if i == len(to) {
			to = append(to, sofar{function: t.function, sum: value.Int(0)})
		}
		v := t.of(e)
		switch s := &to[i]; {
		case e.failed:
			return to, e.reason
		case !v.Has():
		case t.function == "sum":
			s.sum = s.sum.Add(v.Number)
		default:
			order, ok := 0, true
			if s.out.Has() {
				order, ok = compare(v, s.out)
			}
			switch {
			case !ok:
				return to, "a time has a time zone where another has none"
			case !s.out.Has(), t.function == "smallest" && order < 0, t.function == "largest" && order > 0:
				s.out = v
				s.out.Bytes = slices.Clone(v.Bytes) // the batch is used again
			}
		}
	}
	return to, ""
}
