package segments

import (
	"fmt"
	"strconv"
	"strings"
)

// Position is where a value stands in a message: NAD-3.1, LIN[2]-1, NAD(BY)-2. The brackets
// count segments from 1; the parentheses choose segments by their first element, or by
// another: HL(3=22)-1. What stands before a slash is the loop that they are in: N1(BY)/N3-1.
type Position struct {
	Within     string // the loops, the outermost first, with slashes between them; empty: none
	Segment    string
	Occurrence int // from 1
	Element    int // whose first component the segment is chosen by, 0: by nothing
	Value      string
	Field      int // 0: the segment as a whole
	Repetition int // from 1
	By         int // the component by which the repetition is chosen instead, 0: it is counted
	Is         string
	Component  int // 0: the path stops before
	Sub        int // subcomponent, 0: the path stops before; not in a standard without them
}

func (p Position) String() string {
	if p.By == 0 {
		return p.Part() + Path("", 1, p.Field, p.Repetition, p.Component, p.Sub)
	}
	s := fmt.Sprintf("%s-%d[%d=%s]", p.Part(), p.Field, p.By, p.Is)
	for _, n := range []int{p.Component, p.Sub} {
		if n == 0 {
			break
		}
		s += fmt.Sprintf(".%d", n)
	}
	return s
}

// Part is the position of the segment as a whole.
func (p Position) Part() string {
	s := p.Segment
	if p.Within != "" {
		s = p.Within + "/" + s
	}
	switch {
	case p.Element == 1:
		s += "(" + p.Value + ")"
	case p.Element > 1:
		s += fmt.Sprintf("(%d=%s)", p.Element, p.Value)
	}
	if p.Occurrence > 1 {
		s += fmt.Sprintf("[%d]", p.Occurrence)
	}
	return s
}

// Short leaves out a component and subcomponent that are the only ones.
func (p Position) Short() string {
	if p.Sub == 1 {
		p.Sub = 0
	}
	if p.Sub == 0 && p.Component == 1 {
		p.Component = 0
	}
	return p.String()
}

// covers tells whether a position includes that of a value.
func (p Position) covers(v Position) bool {
	return p.Segment == v.Segment && p.Occurrence == v.Occurrence && (p.Field == 0 ||
		p.Field == v.Field && p.Repetition == v.Repetition && (p.Component == 0 || p.Component == v.Component && (p.Sub == 0 || p.Sub == v.Sub)))
}

// Inner parts a path at its last slash that stands in no parentheses: in the loops that it names, and the
// rest. What is wrong with a loop is an error.
func Inner(path string) (within, rest string, err error) {
	deep, at := 0, -1
	for i := range len(path) {
		switch path[i] {
		case '(':
			deep++
		case ')':
			deep--
		case '/':
			if deep == 0 {
				at = i
			}
		}
	}
	if at < 0 {
		return "", path, nil
	}
	p, err := ParsePosition(path[:at])
	if err == nil && (p.Field > 0 || p.Occurrence > 1) {
		err = fmt.Errorf("%q is not a loop: before a slash stands a segment, as in N1(BY)/N3-1", path[:at])
	}
	return path[:at], path[at+1:], err
}

// ParsePosition reads a position.
func ParsePosition(s string) (Position, error) {
	within, s, err := Inner(s)
	if err != nil {
		return Position{}, err
	}
	p, err := parsePosition(s)
	p.Within = within
	return p, err
}

func parsePosition(s string) (Position, error) {
	bad := func(why string) (Position, error) {
		return Position{}, fmt.Errorf("%q is not a position: %s", s, why)
	}
	p := Position{Occurrence: 1, Repetition: 1}
	n := 0
	for n < len(s) && n < 3 && (s[n] >= 'A' && s[n] <= 'Z' || n > 0 && s[n] >= '0' && s[n] <= '9') {
		n++
	}
	if n < 2 {
		return bad("it begins with a segment's name such as LIN or N1")
	}
	p.Segment = s[:n]
	rest := s[n:]
	number := func(into *int, most int) bool {
		n := 0
		for n < len(rest) && rest[n]-'0' <= 9 {
			n++
		}
		v, err := strconv.Atoi(rest[:n])
		if err != nil || v < 1 || v > most {
			return false
		}
		*into, rest = v, rest[n:]
		return true
	}
	if inner, after, ok := strings.Cut(rest, ")"); ok && strings.HasPrefix(inner, "(") {
		inner, rest = inner[1:], after
		p.Element = 1
		if of, value, ok := strings.Cut(inner, "="); ok {
			v, err := strconv.Atoi(of)
			if err != nil || v < 1 || v > 99 {
				return bad("parentheses choose by an element, as in HL(3=22), or by the first, as in NAD(BY)")
			}
			p.Element, inner = v, value
		}
		if p.Value = inner; inner == "" {
			return bad("nothing stands in its parentheses")
		}
	}
	if strings.HasPrefix(rest, "[") {
		if rest = rest[1:]; !number(&p.Occurrence, 99999) || !strings.HasPrefix(rest, "]") {
			return bad("[n] counts segments from 1")
		}
		rest = rest[1:]
	}
	if rest == "" {
		return p, nil
	}
	if rest[0] != '-' {
		return bad("a hyphen and the element's number follow the segment, as in LIN-1")
	}
	if rest = rest[1:]; !number(&p.Field, 999) {
		return bad("the element's number must follow the hyphen")
	}
	if strings.HasPrefix(rest, "[") {
		if rest = rest[1:]; !number(&p.Repetition, 999) || !strings.HasPrefix(rest, "]") {
			return bad("[n] counts repetitions from 1")
		}
		rest = rest[1:]
	}
	if strings.HasPrefix(rest, ".") {
		if rest = rest[1:]; !number(&p.Component, 999) {
			return bad("a number must follow the dot, as in NAD-3.1")
		}
	}
	if rest != "" {
		return bad("nothing can follow the component")
	}
	return p, nil
}
