package lang

import (
	"strconv"
	"strings"

	"ydrion/core/value"
)

// elementOf is the element of a segment that a position stands in: PID-3 of PID-3[2].1, OBX[2]-5 of OBX[2]-5.
func elementOf(path string) string {
	dash := strings.LastIndexByte(path, '-')
	if end := strings.IndexAny(path[dash+1:], ".["); dash >= 0 && end >= 0 {
		return path[:dash+1+end]
	}
	return path
}

// requires tells whether an expression may be absent at a position that must have a value, and of whose element nothing
// else is said.
func (b *builder) requires(e expression) bool {
	element := elementOf(e.path)
	segment, number, is := strings.Cut(element, "-")
	if b.scope.Required == nil || !is || e.condition != nil || e.cases != nil || b.filled[element] != 1 {
		return false
	}
	switch strings.TrimPrefix(e.path, element) {
	case "", ".1", ".1.1", "[1]", "[1].1", "[1].1.1":
	default:
		return false // another part of it
	}
	if end := strings.IndexAny(segment, "[("); end >= 0 {
		segment = segment[:end]
	}
	n, err := strconv.Atoi(number)
	return err == nil && b.scope.Required(segment, n) && b.canLack(e.node)
}

// canLack tells whether the value of an expression may be absent, for all that is known.
func (b *builder) canLack(n Node) bool {
	switch n := n.(type) {
	case *Text, *Number, *Is, *Not:
		return false
	case *Constant:
		return n.Name == "absent"
	case *Name:
		if l := b.bound[n]; l != nil {
			around := b.frames
			b.frames = l.frames
			defer func() { b.frames = around }()
			return b.canLack(l.node)
		}
		depth, slot, word := b.find(n)
		if word != "" || slot < 0 {
			return n.Name == "mail.date"
		}
		return !b.frames[depth].fields[slot].Required
	case *Call:
		if f, known := functions[n.Name]; len(n.Args) == 0 || known && f.Rows {
			return n.Name != "count" && n.Name != "sum"
		}
		return b.canLack(n.Args[0])
	case *Answer:
		if n.When == value.Absent {
			return b.canLack(n.Value)
		}
		return b.canLack(n.X)
	case *Binary:
		return n.Op != "and" && n.Op != "or" && !comparison(n) && (b.canLack(n.L) || b.canLack(n.R))
	}
	return true
}
