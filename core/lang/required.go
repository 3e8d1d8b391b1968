package lang

import (
	"slices"
	"strconv"
	"strings"
)

// elementOf is the element of a segment that a position stands in: PID-3 of PID-3[2].1, OBX[2]-5 of OBX[2]-5.
func elementOf(path string) string {
	dash := strings.LastIndexByte(path, '-')
	if end := strings.IndexAny(path[dash+1:], ".["); dash >= 0 && end >= 0 {
		return path[:dash+1+end]
	}
	return path
}

// saysEmpty tells whether an expression may give an empty text because it says so.
func (b *builder) saysEmpty(n Node) bool {
	switch n := n.(type) {
	case *Text:
		return len(n.Parts) == 0 || len(n.Parts) == 1 && n.Parts[0].Node == nil && n.Parts[0].Text == ""
	case *Constant:
		return n.Name == "empty"
	case *Name:
		l := b.bound[n]
		return l != nil && b.saysEmpty(l.node)
	case *Answer:
		return b.saysEmpty(n.X) || b.saysEmpty(n.Value)
	case *Call:
		return n.Instead != nil && b.saysEmpty(n.Instead)
	case *Choice:
		return b.saysEmpty(n.Otherwise) || slices.ContainsFunc(n.Cases, func(c Case) bool { return b.saysEmpty(c.Value) })
	}
	return false
}

// requires tells whether an expression stands at a position that must have a value, and of whose element nothing
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
	return err == nil && b.scope.Required(segment, n)
}
