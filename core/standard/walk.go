package standard

import (
	"fmt"
	"slices"
)

// Walk builds for each group of a structure the shortest message that has it, follows it, and
// says which groups cannot be reached that way. It is for tests of descriptions.
func (s *Structure) Walk() (unreached []string) {
	for g := 1; g < len(s.Nodes); g++ {
		if s.Nodes[g].Segments != nil {
			continue
		}
		var above, path []int
		for p := g; p > 0; p = s.Nodes[p].Parent {
			above = append([]int{p}, above...)
		}
		// What must come before the group on each level, and then its first segment.
		for _, p := range above {
			for c := s.Nodes[p].Parent + 1; c < p; c = s.Nodes[c].End {
				if s.Nodes[c].Min > 0 {
					path = append(path, s.first(c))
				}
			}
		}
		path = append(path, s.first(g))
		at := 0
		for _, leaf := range path {
			n := &s.Nodes[leaf]
			if at = s.Follow(max(at, 0), []byte(n.Segments[0]), func(c *Choice) bool { return n.Choice != nil && slices.Equal(c.Values, n.Choice.Values) }).Node; at < 0 {
				break
			}
		}
		if first := s.first(g); at < 0 || !slices.Contains(s.Nodes[at].Segments, s.Nodes[first].Segments[0]) {
			unreached = append(unreached, fmt.Sprintf("%s: group %s", s.Name, s.Nodes[g].Name))
		}
	}
	return unreached
}

// first is the first segment of a node.
func (s *Structure) first(n int) int {
	for s.Nodes[n].Segments == nil {
		n++
	}
	return n
}
