package jsonschema

import (
	"fmt"
	"slices"
	"strings"

	js "github.com/santhosh-tekuri/jsonschema/v6"
)

// parted are the schemas that a value is described by.
type parted struct {
	sure  []*js.Schema // it is checked against each
	maybe []*js.Schema // it is checked against some, or under conditions: nobody knows here
}

func (p *parted) add(more parted, sure bool) {
	if sure {
		p.sure = append(p.sure, more.sure...)
	} else {
		p.maybe = append(p.maybe, more.sure...)
	}
	p.maybe = append(p.maybe, more.maybe...)
}

func (p parted) all() []*js.Schema { return append(slices.Clone(p.sure), p.maybe...) }

// inner finds what a schema says of a member, or with * of each element or member.
func (p parted) inner(step string) (below parted) {
	for _, s := range p.sure {
		below.add(inner(s, step, nil), true)
	}
	for _, s := range p.maybe {
		below.add(inner(s, step, nil), false)
	}
	return below
}

// inner finds what a schema says of a member, or with * of each element or member.
func inner(s *js.Schema, step string, seen []*js.Schema) (below parted) {
	if slices.Contains(seen, s) {
		return below
	}
	seen = append(seen, s)
	one := func(s *js.Schema, sure bool) { below.add(parted{sure: []*js.Schema{s}}, sure) }
	if step == "*" {
		elements(s, one)
	} else {
		known := false
		if p := s.Properties[step]; p != nil {
			known = true
			one(p, true)
		}
		for pattern, p := range s.PatternProperties {
			if pattern.MatchString(step) {
				known = true
				one(p, true)
			}
		}
		if other, is := s.AdditionalProperties.(*js.Schema); is && other != nil && !known {
			one(other, true)
		}
	}
	for _, p := range always(s) {
		below.add(inner(p, step, seen), true)
	}
	for _, p := range perhaps(s) {
		below.add(inner(p, step, seen), false)
	}
	for _, all := range [][]*js.Schema{below.sure, below.maybe} { // patterns come in any order
		slices.SortStableFunc(all, func(a, b *js.Schema) int { return strings.Compare(a.Location, b.Location) })
	}
	return below
}

// elements tells what one schema says of each element of a list, or each member of an object.
func elements(s *js.Schema, one func(s *js.Schema, sure bool)) {
	if s.Items2020 != nil {
		one(s.Items2020, len(s.PrefixItems) == 0)
		return
	}
	switch of := s.Items.(type) {
	case *js.Schema:
		if of != nil {
			one(of, true)
			return
		}
	case []*js.Schema:
		if other, is := s.AdditionalItems.(*js.Schema); is && other != nil {
			one(other, false)
		}
		return
	}
	closed := s.AdditionalProperties == false
	for _, of := range s.PatternProperties {
		one(of, closed && len(s.PatternProperties) == 1 && len(s.Properties) == 0)
	}
	if other, is := s.AdditionalProperties.(*js.Schema); is && other != nil {
		one(other, len(s.PatternProperties) == 0 && len(s.Properties) == 0)
	}
}

// level is what a schema says of a value that holds records, but for what it says of them.
type level struct {
	of    []*js.Schema
	ruled *ruled
	path  []string // members that lead from the value to the list in it
	most  int      // elements up to which their number matters
}

// mostCounted bounds how many elements a list is counted to.
const mostCounted = 1 << 20

// surround makes ready what the values around records are checked against. Steps lead to the records;
// above are the schemas at each of them. It gives the rules that cannot be applied, since records
// are read one after the other.
func (s *Schema) surround(above []parted, steps []string) (unchecked []string) {
	s.levels = map[int]level{}
	for from := 0; from < len(steps); {
		to := from + slices.Index(steps[from:], "*")
		if to < from {
			break
		}
		strip := stripper{done: map[stripped]*js.Schema{}}
		l := level{path: steps[from:to]}
		for _, of := range above[from].sure {
			l.of = append(l.of, strip.without(of, l.path))
		}
		l.ruled = newRuled(l.of)
		l.most = min(strip.most+1, mostCounted)
		s.levels[from] = l
		for _, rule := range strip.unchecked {
			unchecked = append(unchecked, fmt.Sprintf("%s at /%s", rule, strings.Join(steps[:to], "/")))
		}
		from = to + 1
	}
	slices.Sort(unchecked)
	return slices.Compact(unchecked)
}

// stripper copies schemas without what they say of the elements of a list.
type stripper struct {
	done      map[stripped]*js.Schema
	most      int      // the largest number of elements that a rule names
	took      int      // how much has been left out
	unchecked []string // rules that are not applied therefore
}

type stripped struct {
	of    *js.Schema
	steps int
}

// without is a schema that says nothing of the elements of the list at a path. It allows more than the
// schema itself, and never less: what could turn around by it is left out.
func (t *stripper) without(s *js.Schema, path []string) *js.Schema {
	if s == nil || s.Bool != nil {
		return s
	}
	if done := t.done[stripped{s, len(path)}]; done != nil {
		return done
	}
	c := *s
	t.done[stripped{s, len(path)}] = &c
	each := func(all []*js.Schema) []*js.Schema {
		out := make([]*js.Schema, len(all))
		for i, of := range all {
			out[i] = t.without(of, path)
		}
		return out
	}
	c.Ref, c.RecursiveRef = t.without(s.Ref, path), t.without(s.RecursiveRef, path)
	c.AllOf, c.AnyOf = each(s.AllOf), each(s.AnyOf)
	c.Then, c.Else = t.without(s.Then, path), t.without(s.Else, path)
	// Where fewer rules would forbid more, it is all or nothing.
	turns := func(rule string, leave func(), of ...*js.Schema) {
		before := t.took
		for _, s := range of {
			t.without(s, path)
		}
		if t.took > before {
			t.unchecked = append(t.unchecked, rule)
			leave()
		}
	}
	if s.DynamicRef != nil {
		turns("$dynamicRef", func() { c.DynamicRef = nil }, s.DynamicRef.Ref)
	}
	turns("oneOf", func() { c.OneOf = nil }, s.OneOf...)
	turns("not", func() { c.Not = nil }, s.Not)
	turns("if", func() { c.If, c.Then, c.Else = nil, nil, nil }, s.If)
	for _, of := range s.DependentSchemas {
		turns("dependentSchemas", func() { c.DependentSchemas = nil }, of)
	}
	for _, of := range s.Dependencies {
		if of, is := of.(*js.Schema); is {
			turns("dependencies", func() { c.Dependencies = nil }, of)
		}
	}
	drop := func(rule string, is bool, leave func()) {
		if is {
			t.took++
			t.unchecked = append(t.unchecked, rule)
			leave()
		}
	}
	drop("enum", s.Enum != nil, func() { c.Enum = nil })
	drop("const", s.Const != nil, func() { c.Const = nil })
	if len(path) == 0 {
		t.list(&c, drop)
	} else {
		t.member(&c, path)
	}
	return &c
}

// list leaves out what is said of the elements of a list, or the members of an object; of how many
// there are it may say what it likes.
func (t *stripper) list(c *js.Schema, drop func(rule string, is bool, leave func())) {
	if c.Items != nil || c.Items2020 != nil || c.AdditionalItems != nil || c.AdditionalProperties != nil || len(c.PatternProperties) > 0 {
		t.took++ // they are said of each record, and applied there
	}
	c.Items, c.Items2020, c.AdditionalProperties, c.PatternProperties = nil, nil, nil, nil
	drop("prefixItems", len(c.PrefixItems) > 0 || c.AdditionalItems != nil, func() { c.PrefixItems, c.AdditionalItems = nil, nil })
	drop("unevaluatedItems", c.UnevaluatedItems != nil, func() { c.UnevaluatedItems = nil })
	drop("contains", c.Contains != nil, func() { c.Contains, c.MinContains, c.MaxContains = nil, nil, nil })
	drop("uniqueItems", c.UniqueItems, func() { c.UniqueItems = false })
	drop("properties", len(c.Properties) > 0, func() { c.Properties = nil })
	drop("required", len(c.Required) > 0, func() { c.Required = nil })
	drop("propertyNames", c.PropertyNames != nil, func() { c.PropertyNames = nil })
	drop("unevaluatedProperties", c.UnevaluatedProperties != nil, func() { c.UnevaluatedProperties = nil })
	drop("dependentRequired", len(c.DependentRequired) > 0, func() { c.DependentRequired = nil })
	for rule, bound := range map[string]**int{"minItems": &c.MinItems, "maxItems": &c.MaxItems, "minProperties": &c.MinProperties, "maxProperties": &c.MaxProperties} {
		if *bound == nil {
			continue
		}
		drop(rule, **bound >= mostCounted-1, func() { *bound = nil })
		if *bound != nil {
			t.most = max(t.most, **bound)
		}
	}
}

// member goes on to the member that leads to the list.
func (t *stripper) member(c *js.Schema, path []string) {
	known := false
	if of := c.Properties[path[0]]; of != nil {
		known = true
		members := make(map[string]*js.Schema, len(c.Properties))
		for name, of := range c.Properties {
			members[name] = of
		}
		members[path[0]] = t.without(of, path[1:])
		c.Properties = members
	}
	patterns := make(map[js.Regexp]*js.Schema, len(c.PatternProperties))
	for pattern, of := range c.PatternProperties {
		if pattern.MatchString(path[0]) {
			known = true
			of = t.without(of, path[1:])
		}
		patterns[pattern] = of
	}
	c.PatternProperties = patterns
	if other, is := c.AdditionalProperties.(*js.Schema); is && other != nil && !known {
		// It is of other members, too; those keep what is said of them.
		members := map[string]*js.Schema{path[0]: t.without(other, path[1:])}
		for name, of := range c.Properties {
			members[name] = of
		}
		c.Properties = members
	}
}

// Around checks a value that holds records, without them, against what is said of it: the list that they
// are elements of is empty in its text, and had so many. Level is how many steps of the pointer to the
// records lead to the value; below the first, paths are those in the value.
func (s *Schema) Around(at int, raw []byte, elements int, say func(Violation)) {
	l, known := s.levels[at]
	if !known || len(l.of) == 0 {
		return
	}
	if _, spent := l.ruled.verdict(raw, nil); spent {
		say(boundless("the document"))
		return
	}
	value, ok := readable(raw, "the document", say)
	if !ok {
		return
	}
	fill(&value, l.path, min(elements, l.most))
	validate(l.of, value, raw, "the document", say)
}

// fill gives the list at a path so many elements.
func fill(value *any, path []string, elements int) {
	if len(path) > 0 {
		if members, is := (*value).(map[string]any); is {
			if member, is := members[path[0]]; is {
				fill(&member, path[1:], elements)
				members[path[0]] = member
			}
		}
		return
	}
	switch of := (*value).(type) {
	case []any:
		*value = make([]any, elements)
	case map[string]any:
		for i := range elements {
			of[fmt.Sprint(i)] = nil
		}
	}
}
