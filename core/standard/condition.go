package standard

import (
	"fmt"
	"math/bits"
	"slices"
	"strconv"
	"strings"
)

// Condition is a rule between the elements of a segment, or the components of a type: which of
// them come together (X12.6, relational conditions: P0304; ISO 9735, dependency notes: D1(010,020)).
type Condition struct {
	Text     string // as it is written
	Relation Relation
	Elements []int // from 1 on

	bits uint64 // of the elements, the lowest the first one's; 0: there are some beyond the 64th, or one stands there twice
}

// Relation is what a condition asks for.
type Relation byte

// The relations, by the letters of X12.6; two are those of ISO 9735 only.
const (
	AllOrNone    Relation = 'P' // D2
	AtLeastOne   Relation = 'R' // D3
	AtMostOne    Relation = 'E' // D4
	ThenAll      Relation = 'C' // if the first is there, D5
	ThenOneMore  Relation = 'L' // if the first is there, D6
	ExactlyOne   Relation = '1' // D1
	ThenNoOthers Relation = '7' // if the first is there, D7
)

// ParseCondition reads P0304 or D1(010,020).
func ParseCondition(s string) (Condition, error) {
	c := Condition{Text: s}
	bad := func() (Condition, error) {
		return c, fmt.Errorf("%q is not a condition: it is written P0304 or D1(010,020)", s)
	}
	if inner, dependency := strings.CutSuffix(s, ")"); dependency {
		kind, list, ok := strings.Cut(inner, "(")
		relations := map[string]Relation{"D1": ExactlyOne, "D2": AllOrNone, "D3": AtLeastOne, "D4": AtMostOne, "D5": ThenAll, "D6": ThenOneMore, "D7": ThenNoOthers}
		if c.Relation = relations[kind]; !ok || c.Relation == 0 {
			return bad()
		}
		for number := range strings.SplitSeq(list, ",") {
			n, err := strconv.Atoi(strings.TrimSpace(number))
			if err != nil || n < 10 || n%10 != 0 {
				return bad()
			}
			c.Elements = append(c.Elements, n/10)
		}
	} else {
		if len(s) < 5 || len(s)%2 != 1 || !strings.Contains("PRECL", s[:1]) {
			return bad()
		}
		c.Relation = Relation(s[0])
		for i := 1; i < len(s); i += 2 {
			n, err := strconv.Atoi(s[i : i+2])
			if err != nil || n < 1 {
				return bad()
			}
			c.Elements = append(c.Elements, n)
		}
	}
	if len(c.Elements) < 2 {
		return bad()
	}
	for _, e := range c.Elements {
		c.bits |= 1 << (e - 1)
	}
	if slices.Max(c.Elements) > 64 || bits.OnesCount64(c.bits) < len(c.Elements) {
		c.bits = 0
	}
	return c, nil
}

// Holds tells whether nothing is wrong, by which of the first 64 elements are there; false may be wrong if there are others.
func (c *Condition) Holds(there uint64) bool {
	n, all, first := bits.OnesCount64(there&c.bits), len(c.Elements), there>>(c.Elements[0]-1)&1 != 0
	switch c.Relation {
	case AllOrNone:
		return c.bits != 0 && (n == 0 || n == all)
	case AtLeastOne:
		return n > 0
	case AtMostOne:
		return c.bits != 0 && n <= 1
	case ExactlyOne:
		return n == 1
	case ThenAll:
		return c.bits != 0 && (!first || n == all)
	case ThenOneMore:
		return c.bits != 0 && (!first || n > 1)
	}
	return c.bits != 0 && (!first || n == 1)
}

// Wrong says what is wrong, by which elements are there; "" if nothing is.
func (c *Condition) Wrong(there func(element int) bool) string {
	var room [2][12]int // on the stack: conditions are asked of each segment
	has, lacks := room[0][:0], room[1][:0]
	for _, e := range c.Elements {
		if there(e) {
			has = append(has, e)
		} else {
			lacks = append(lacks, e)
		}
	}
	first, rest := there(c.Elements[0]), c.Elements[1:]
	switch c.Relation {
	case AllOrNone:
		if len(has) > 0 && len(lacks) > 0 {
			return fmt.Sprintf("%s come together or not at all, and %s missing", list(c.Elements, "and"), is(lacks))
		}
	case AtLeastOne:
		if len(has) == 0 {
			return fmt.Sprintf("at least one of %s must be there", list(c.Elements, "and"))
		}
	case AtMostOne:
		if len(has) > 1 {
			return fmt.Sprintf("only one of %s may be there, and %s", list(c.Elements, "and"), is(has))
		}
	case ExactlyOne:
		if len(has) != 1 {
			return fmt.Sprintf("one of %s must be there, and no other: %d are", list(c.Elements, "and"), len(has))
		}
	case ThenAll:
		if first && len(lacks) > 0 {
			return fmt.Sprintf("with %d there must be %s, and %s missing", c.Elements[0], list(rest, "and"), is(lacks))
		}
	case ThenOneMore:
		if first && len(has) == 1 {
			return fmt.Sprintf("with %d there must be %s", c.Elements[0], list(rest, "or"))
		}
	case ThenNoOthers:
		if first && len(has) > 1 {
			return fmt.Sprintf("with %d there may be none of %s, and %s", c.Elements[0], list(rest, "and"), is(has[1:]))
		}
	}
	return ""
}

func list(numbers []int, last string) string {
	var b strings.Builder
	for i, n := range numbers {
		switch {
		case i > 0 && i == len(numbers)-1:
			b.WriteString(" " + last + " ")
		case i > 0:
			b.WriteString(", ")
		}
		b.WriteString(strconv.Itoa(n))
	}
	return b.String()
}

func is(numbers []int) string {
	if len(numbers) == 1 {
		return list(numbers, "and") + " is"
	}
	return list(numbers, "and") + " are"
}
