package lang

import (
	"strings"

	"ydrion/core/shape"
	"ydrion/core/value"
)

// Takes finds what a map takes of a source whose values can be named by their positions: fields and lists
// that its shape does not have by name yet.
type Takes struct {
	Shape shape.Shape // grows
	// Position tells whether a name is that of a value, List whether it can be that of a list.
	Position, List func(name string) bool
	// Said is told of each field and list that is new, with the name of the list before it that it is in; Add
	// of those fields that are the record's.
	Said func(name string, pos int)
	Add  func(name string)
}

// growing is the shape of the record or of a row while it grows.
type growing struct {
	name   string // by which its values are asked for
	list   string // that it is a row of, with a blank behind; empty: it is the record
	fields shape.Record
	own    int // so many are there by name; the others by their positions
	lists  []*growingList
	named  int // so many of them are there by name
}

type growingList struct {
	list shape.List
	rows growing
}

// Of goes through a map.
func (t *Takes) Of(m *Map) {
	record := grown(t.Shape)
	record.name = "record"
	t.statements(m.Body, []*growing{record})
	t.Shape = record.shape()
}

// Mentioned goes through an expression that stands in no map.
func (t *Takes) Mentioned(n Node) {
	record := grown(t.Shape)
	record.name = "record"
	t.node(n, []*growing{record})
	t.Shape = record.shape()
}

func grown(s shape.Shape) *growing {
	g := &growing{fields: s.Fields, own: len(s.Fields)}
	for _, l := range s.Lists {
		g.lists = append(g.lists, &growingList{l, *grown(l.Shape)})
	}
	g.named = len(g.lists)
	return g
}

func (g *growing) shape() shape.Shape {
	s := shape.Shape{Fields: g.fields}
	for _, l := range g.lists {
		l.list.Shape = l.rows.shape()
		s.Lists = append(s.Lists, l.list)
	}
	return s
}

func (t *Takes) statements(body []Statement, around []*growing) {
	for _, s := range body {
		t.node(s.Condition, around)
		t.node(s.Value, around)
		if s.Verb == "ignore" {
			for _, p := range s.Paths {
				t.field(p.Name, p.Pos(), around)
			}
		}
		inner := around
		if s.Each != nil {
			inner = t.rows(s.Each, around)
		}
		t.statements(s.Body, inner)
	}
}

func (t *Takes) node(n Node, around []*growing) {
	switch n := n.(type) {
	case nil:
	case *Name:
		t.field(n.Name, n.Pos(), around)
	case *Rows:
		t.rows(n, around)
	case *Call:
		if f, known := functions[n.Name]; known && f.Rows && len(n.Args) > 0 {
			if rows := list(n.Args[0]); rows != nil {
				inner := t.rows(rows, around)
				for _, a := range n.Args[1:] {
					t.node(a, inner)
				}
				return
			}
		}
		for _, below := range children(n) {
			t.node(below, around)
		}
	default:
		for _, below := range children(n) {
			t.node(below, around)
		}
	}
}

// rows goes into the rows of a list: what is around an expression there.
func (t *Takes) rows(n *Rows, around []*growing) []*growing {
	var found *growingList
	in := around[len(around)-1]
	name := n.List
	for i := len(around) - 1; i >= 0 && found == nil; i-- {
		for k, l := range around[i].lists {
			if l.list.Name == n.List && (k < around[i].named || around[i] == in) {
				found = l
			}
		}
	}
	if head, rest, ok := strings.Cut(n.List, "."); ok && found == nil {
		for _, g := range around {
			if g.name == head {
				in, name = g, rest
			}
		}
		for _, l := range in.lists {
			if l.list.Name == name {
				found = l
			}
		}
	}
	if found == nil && n.List == partName {
		return around // what all records of an output are asked for is asked of each
	}
	if found == nil && t.List(name) {
		found = &growingList{list: shape.List{Name: name}}
		in.lists = append(in.lists, found)
		t.Said(in.list+name, n.Pos())
	}
	if found == nil {
		found = &growingList{} // it will be complained about
	}
	found.rows.name, found.rows.list = n.As, name+" "
	inner := append(around[:len(around):len(around)], &found.rows)
	for _, below := range children(n) {
		t.node(below, inner)
	}
	return inner
}

// field gives a position to the record or row that it is asked of: the innermost, if it does not say.
func (t *Takes) field(name string, pos int, around []*growing) {
	for i := len(around) - 1; i >= 0; i-- {
		if around[i].fields[:around[i].own].Slot(name) >= 0 {
			return
		}
	}
	in := around[len(around)-1]
	if head, rest, ok := strings.Cut(name, "."); ok && len(around) > 1 {
		for _, g := range around {
			if g.name == head {
				in, name = g, rest
			}
		}
	}
	if in.fields.Slot(name) >= 0 || !t.Position(name) {
		return
	}
	t.Said(in.list+name, pos)
	in.fields = append(in.fields, shape.Field{Name: name, Kind: value.Text})
	if in == around[0] {
		t.Add(name)
	}
}
