package standard

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
)

// Structure says which segments a message has, in which order and groups.
type Structure struct {
	Name, Title string
	// Nodes are the message itself, and behind each group its members.
	Nodes  []Node
	known  map[string]int  // the segments, by number
	chosen map[string]bool // the segments of which some are chosen by an element
	once   sync.Once
	steps  []Step  // for each node the steps to all segments, made when the first is asked for
	table  []named // the segments by the hash of their names
}

// named is a segment and its number, from 1 on.
type named struct {
	name   string
	number int
}

// hash finds a name's first place in the table, whose size is a power of two.
func hash(name []byte) uint32 {
	h := uint32(0)
	for _, c := range name {
		h = h*31 + uint32(c)
	}
	return h ^ h>>7
}

// Node is a segment or a group of a structure.
type Node struct {
	Name     string   // of the group or segment
	Segments []string // which it may be; none: a group
	Choice   *Choice  // of which segments of that name, nil: any
	As       string   // the segment as it is described for this place, empty: as everywhere
	Min, Max int      // how often it must and may come, Max 0: any number
	Parent   int
	End      int // Nodes[i:End] is the node with all its members
}

// Choice says by which element a segment is told from others of its name.
type Choice struct {
	Element int // whose first component it is
	Values  []string
}

// Holds tells whether a value is one of the choice.
func (c *Choice) Holds(value string) bool { return slices.Contains(c.Values, value) }

// Step is where a segment stands in a structure, after the one before it.
type Step struct {
	Node    int   // the segment's, -1: it has no place here
	Started int   // the outermost node that begins with it, anew or for the first time
	Skipped []int // required nodes that should have come before it
	Odd     bool  // its place is not here: it stands at the next one that may be meant
	Passed  bool  // there is only one before
	Late    bool  // it belongs to a group that goes on, in which its place is before
}

// Knows tells whether the structure has segments of that name anywhere.
func (s *Structure) Knows(name string) bool { _, ok := s.known[name]; return ok }

// Next finds where a segment stands that follows the one at a node, 0 before the
// first one. The innermost group that may take it does. It allocates nothing but the
// first time.
func (s *Structure) Next(from int, name []byte) *Step { return s.At(from, s.Number(name)) }

// At is Next for a name by its number.
func (s *Structure) At(from, number int) *Step {
	if number == 0 {
		return &nowhere
	}
	return &s.steps[from*len(s.known)+number-1]
}

// Number is that of a segment's name, 0 if there is none of that name.
func (s *Structure) Number(name []byte) int {
	s.once.Do(func() {
		s.steps = make([]Step, len(s.Nodes)*len(s.known))
		size := 8
		for size < 3*len(s.known) {
			size *= 2
		}
		s.table = make([]named, size)
		for name, i := range s.known {
			k := hash([]byte(name)) & uint32(size-1)
			for s.table[k].number > 0 {
				k = (k + 1) & uint32(size-1)
			}
			s.table[k] = named{name, i + 1}
			for from := range s.Nodes {
				s.steps[from*len(s.known)+i] = s.step(from, name, whichever)
			}
		}
	})
	last := uint32(len(s.table) - 1)
	for k := hash(name) & last; s.table[k].number > 0; k = (k + 1) & last {
		if s.table[k].name == string(name) {
			return s.table[k].number
		}
	}
	return 0
}

var nowhere = Step{Node: -1}

// Chooses tells whether segments of a name are chosen by their elements.
func (s *Structure) Chooses(name []byte) bool {
	return len(s.chosen) > 0 && s.chosen[string(name)]
}

// Follow is Next for structures in which segments are chosen by their elements: is tells
// whether the segment is of a choice.
func (s *Structure) Follow(from int, name []byte, is func(*Choice) bool) *Step {
	if !s.chosen[string(name)] {
		return s.Next(from, name)
	}
	step := s.step(from, string(name), is)
	return &step
}

func whichever(*Choice) bool { return true }

func (s *Structure) step(from int, name string, is func(*Choice) bool) Step {
	fits := func(n *Node) bool { return slices.Contains(n.Segments, name) && (n.Choice == nil || is(n.Choice)) }
	step := s.find(from, fits)
	if step.Node < 0 {
		step = s.late(from, fits)
	}
	if step.Node < 0 { // its place has passed: it begins what it is in, and what follows that, anew
		if step.Node = s.anywhere(0, fits); step.Node < 0 {
			return Step{Node: -1}
		}
		for step.Started = step.Node; s.Nodes[step.Started].Parent > 0; {
			step.Started = s.Nodes[step.Started].Parent
		}
		step.Passed, step.Odd = true, true
	} else if !step.Late {
		step.Skipped = s.skipped(from, step)
	}
	return step
}

// Holding tells of each node whether a segment of that name stands in it.
func (s *Structure) Holding(name string) []bool {
	out := make([]bool, len(s.Nodes))
	for i := range s.Nodes {
		if !slices.Contains(s.Nodes[i].Segments, name) {
			continue
		}
		for out[i] = true; i > 0; {
			i = s.Nodes[i].Parent
			out[i] = true
		}
	}
	return out
}

// Scope is the node whose segments belong to a unit that stands at a node: its group or, where units
// follow each other in a group that is not theirs, such as the observations of a specimen, nothing
// but itself. Where the group comes once and begins another, as that of a patient begins that of his results, it is the other.
func (s *Structure) Scope(node int) int {
	n := s.Nodes
	if n[node].Max != 1 && n[node].Parent+1 != node {
		return node
	}
	group := n[node].Parent
	for begins := func(at, group int) bool { return group > 0 && group+1 == at }; begins(node, group) && n[group].Max == 1 && begins(group, n[group].Parent); {
		node, group = group, n[group].Parent
	}
	return group
}

// Times is how many places there are for segments of a name.
func (s *Structure) Times(name string) (n int) {
	for i := range s.Nodes {
		if slices.Contains(s.Nodes[i].Segments, name) {
			n++
		}
	}
	return n
}

// Missing are the required nodes that a message lacks that ends behind a node.
func (s *Structure) Missing(last int) []int {
	var out []int
	for at := last; at > 0; at = s.Nodes[at].Parent {
		for c := s.Nodes[at].End; c < s.Nodes[s.Nodes[at].Parent].End; c = s.Nodes[c].End {
			if s.Nodes[c].Min > 0 {
				out = append(out, c)
			}
		}
	}
	if last == 0 {
		for c := 1; c < len(s.Nodes); c = s.Nodes[c].End {
			if s.Nodes[c].Min > 0 {
				out = append(out, c)
			}
		}
	}
	return out
}

// find goes outwards from a node: to what may follow it in its group, to the group
// again, to what may follow the group.
func (s *Structure) find(from int, fits func(*Node) bool) Step {
	n := s.Nodes
	if from > 0 && n[from].Max != 1 && fits(&n[from]) {
		return Step{Node: from, Started: from}
	}
	for at := from; ; at = n[at].Parent {
		group, next := n[at].Parent, n[at].End
		if at == 0 {
			group, next = 0, 1
		}
		if at == 0 && from != 0 {
			return Step{Node: -1}
		}
		for c := next; c < n[group].End; c = n[c].End {
			if to := s.opening(c, fits); to >= 0 {
				return Step{Node: to, Started: c}
			}
		}
		if at == 0 {
			return Step{Node: -1}
		}
		if group != 0 && n[group].Max != 1 {
			if to := s.opening(group, fits); to >= 0 {
				return Step{Node: to, Started: group}
			}
		}
	}
}

// late goes outwards from a node to a segment whose place is not there: to one before it in its group, which goes on, as nothing
// but what a group begins with can begin it anew; or to one in a group behind it whose beginning is missing.
func (s *Structure) late(from int, fits func(*Node) bool) Step {
	n := s.Nodes
	for at := from; at > 0; at = n[at].Parent {
		group := n[at].Parent
		begins := s.opening(group, fits)
		before := func(enter func(int, func(*Node) bool) int) (step Step, is bool) {
			for c := group + 1; c <= at && group != 0; c = n[c].End {
				if to := enter(c, fits); to >= 0 && to != begins {
					return Step{Node: to, Started: c, Late: true}, true
				}
			}
			return step, false
		}
		if step, is := before(s.opening); is {
			return step
		}
		for c := n[at].End; c < n[group].End; c = n[c].End {
			if to := s.anywhere(c, fits); to >= 0 {
				return Step{Node: to, Started: c, Odd: true}
			}
		}
		if step, is := before(s.anywhere); is {
			return step
		}
	}
	if from == 0 {
		if to := s.anywhere(0, fits); to >= 0 {
			step := Step{Node: to, Started: to, Odd: true}
			for n[step.Started].Parent > 0 {
				step.Started = n[step.Started].Parent
			}
			return step
		}
	}
	return Step{Node: -1}
}

// opening finds a segment that a node may begin with.
func (s *Structure) opening(node int, fits func(*Node) bool) int {
	n := s.Nodes
	if n[node].Segments != nil {
		if fits(&n[node]) {
			return node
		}
		return -1
	}
	for c := node + 1; c < n[node].End; c = n[c].End {
		if to := s.opening(c, fits); to >= 0 {
			return to
		}
		if n[c].Min > 0 {
			break
		}
	}
	return -1
}

// anywhere finds a segment within a node.
func (s *Structure) anywhere(node int, fits func(*Node) bool) int {
	for c := node; c < s.Nodes[node].End; c++ {
		if fits(&s.Nodes[c]) {
			return c
		}
	}
	return -1
}

// skipped are the required nodes between one segment and the next.
func (s *Structure) skipped(from int, step Step) []int {
	var out []int
	n := s.Nodes
	add := func(c, end int) {
		for ; c < end; c = n[c].End {
			if n[c].Min > 0 {
				out = append(out, c)
			}
		}
	}
	again := step.Started <= from && from < n[step.Started].End && from != 0
	above := n[step.Started].Parent // the group in which the step goes on
	for at := from; from != 0 && at != above && !(again && at == step.Started); at = n[at].Parent {
		end := n[n[at].Parent].End
		if n[at].Parent == above && !again {
			end = step.Started
		}
		add(n[at].End, end)
	}
	if from == 0 {
		add(1, step.Started)
	}
	for at := step.Node; at != step.Started; at = n[at].Parent { // what the groups that begin should begin with
		var before []int
		for c := n[at].Parent + 1; c < at; c = n[c].End {
			if n[c].Min > 0 {
				before = append(before, c)
			}
		}
		out = append(out, before...)
	}
	return out
}

// Path names the groups that a node stands in, from the outermost.
func (s *Structure) Path(node int) []string {
	var out []string
	for at := s.Nodes[node].Parent; at > 0; at = s.Nodes[at].Parent {
		out = append([]string{s.Nodes[at].Name}, out...)
	}
	return out
}

// parseStructure reads a line such as "MSH PATIENT*(PID PV1?) OBX+": ? * + say how often
// a member comes, as does {2,5}; a name before brackets is a group's, A|B is a choice; A@1 is a
// segment A that is described as A@1.
func parseStructure(name, title, text string) (*Structure, error) {
	s := &Structure{Name: name, Title: title, Nodes: []Node{{Name: name, Min: 1, Max: 1}}, known: map[string]int{}, chosen: map[string]bool{}}
	group := 0
	for text = strings.TrimSpace(text); text != ""; {
		switch text[0] {
		case ' ':
			text = text[1:]
			continue
		case ')':
			if group == 0 {
				return nil, fmt.Errorf("a bracket is closed that was not opened: %q", text)
			}
			s.Nodes[group].End = len(s.Nodes)
			group, text = s.Nodes[group].Parent, text[1:]
			continue
		}
		i := strings.IndexAny(text, "?*+{( )[")
		if i < 0 {
			i = len(text)
		}
		if i == 0 {
			return nil, fmt.Errorf("a name is missing before %q", text)
		}
		n := Node{Name: text[:i], Min: 1, Max: 1, Parent: group, End: len(s.Nodes) + 1}
		text = text[i:]
		if name, _, described := strings.Cut(n.Name, "@"); described {
			n.Name, n.As = name, n.Name
		}
		if strings.HasPrefix(text, "[") {
			inner, rest, closed := strings.Cut(text[1:], "]")
			element, values, by := strings.Cut(inner, "=")
			e, err := strconv.Atoi(element)
			if !closed || !by || err != nil || values == "" {
				return nil, fmt.Errorf("[%s] does not say which %s is meant: it is written [1=BY,SU]", inner, n.Name)
			}
			n.Choice, text = &Choice{e, strings.Split(values, ",")}, rest
		}
		switch {
		case strings.HasPrefix(text, "?"):
			n.Min, text = 0, text[1:]
		case strings.HasPrefix(text, "*"):
			n.Min, n.Max, text = 0, 0, text[1:]
		case strings.HasPrefix(text, "+"):
			n.Max, text = 0, text[1:]
		case strings.HasPrefix(text, "{"):
			inner, rest, closed := strings.Cut(text[1:], "}")
			low, high, both := strings.Cut(inner, ",")
			var err1, err2 error
			n.Min, err1 = strconv.Atoi(low)
			n.Max, err2 = strconv.Atoi(high)
			if !closed || !both || err1 != nil || err2 != nil {
				return nil, fmt.Errorf("{%s} does not say how often %s comes: it is written {2,5}", inner, n.Name)
			}
			text = rest
		}
		if strings.HasPrefix(text, "(") {
			text = text[1:]
			group = len(s.Nodes)
		} else {
			n.Segments = strings.Split(n.Name, "|")
			if n.Choice != nil {
				n.Name += "(" + strings.Join(n.Choice.Values, ",") + ")"
			}
			for _, name := range n.Segments {
				if n.Choice != nil {
					s.chosen[name] = true
				}
				if _, known := s.known[name]; !known {
					s.known[name] = len(s.known)
				}
			}
		}
		s.Nodes = append(s.Nodes, n)
	}
	if group != 0 {
		return nil, fmt.Errorf("the bracket of %s is not closed", s.Nodes[group].Name)
	}
	s.Nodes[0].End = len(s.Nodes)
	return s, nil
}
