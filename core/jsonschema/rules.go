package jsonschema

import (
	"encoding/json"
	"math/big"

	js "github.com/santhosh-tekuri/jsonschema/v6"

	"ydrion/core/value"
)

// rules are those of a schema, as far as a proof can apply them.
type rules struct {
	open  bool // there are others
	never bool // nothing fits
	kinds kinds
	among *allowed
	// Of texts.
	pattern           js.Regexp
	format            *js.Format
	shortest, longest *int
	// Of numbers.
	least, most, above, below, multiple *value.Decimal
	// Of objects.
	members          members
	required         uint64 // a bit for each member that must be there
	bits             int    // so many members have one
	depends          []dependence
	patterns         []patterned
	others           *rules // of members that are none of these
	closed           bool   // there may be none
	more             bool   // it is said whether there are others
	listed           bool   // all are listed here that anything is known of
	names            *rules
	fewest, greatest *int // members
	// Of lists.
	first              []*rules
	rest               *rules
	full               bool // there may be no more elements than the first
	fewestIn, mostIn   *int // elements
	unique             bool
	contains           *rules
	leastHeld, maxHeld *int
	// Of all values.
	all, any, one   []*rules
	left            []*rules // what is left to the library, as far as it can be known which that is
	not             *rules
	when, then, els *rules
}

// kinds are types of values, a bit for each; 0: all.
type kinds uint8

const (
	isNull kinds = 1 << iota
	isTruth
	isWhole
	isNumber
	isText
	isList
	isObject
)

var kindsByName = map[string]kinds{"null": isNull, "boolean": isTruth, "integer": isWhole, "number": isNumber, "string": isText, "array": isList, "object": isObject}

// allowed are the values of which one is allowed.
type allowed struct {
	texts               map[string]bool
	numbers             []value.Decimal
	null, truth, untrue bool
	deep                bool // some are objects or lists
}

type patterned struct {
	names js.Regexp
	of    *rules
}

// members are those that have rules of their own, or must be there. They are found by their length and two of their bytes.
type members struct {
	list  []member
	heads [64]int16 // of the members with a hash: the first, from 1
}

type member struct {
	name  string
	ruled bool   // it has rules of its own
	of    *rules // nil: anything fits
	bit   uint64 // of those that are asked for; 0: it is not
	next  int16  // with the same hash, from 1; 0: none
}

func hash(name []byte) int {
	if len(name) == 0 {
		return 0
	}
	return (len(name)*7 + int(name[0])*3 + int(name[len(name)-1])) & 63
}

// dependence is what an object with a certain member must have, or fit.
type dependence struct {
	on, needs uint64 // the bits of members
	of        *rules
}

func (m *members) find(name []byte) *member {
	for i := m.heads[hash(name)]; i > 0; i = m.list[i-1].next {
		if k := &m.list[i-1]; k.name == string(name) {
			return k
		}
	}
	return nil
}

func (m *members) add(name string) *member {
	if k := m.find([]byte(name)); k != nil {
		return k
	}
	h := hash([]byte(name))
	m.list = append(m.list, member{name: name, next: m.heads[h]})
	m.heads[h] = int16(len(m.list))
	return &m.list[len(m.list)-1]
}

// ruled are the rules of schemas.
type ruled struct {
	top  []*rules // a value has to fit each
	done map[*js.Schema]*rules
	all  bool // some ask what others have left over
}

func newRuled(of []*js.Schema) *ruled {
	d := &ruled{done: map[*js.Schema]*rules{}}
	d.top = d.each(of)
	d.findListed()
	return d
}

func (d *ruled) each(of []*js.Schema) (out []*rules) {
	for _, s := range of {
		out = append(out, d.rules(s))
	}
	return out
}

// rules are those of a schema; nil if anything fits it, or there is none.
func (d *ruled) rules(s *js.Schema) *rules {
	if s == nil {
		return nil
	}
	if r, done := d.done[s]; done {
		return r
	}
	if s.Bool != nil && *s.Bool {
		d.done[s] = nil
		return nil
	}
	r := &rules{}
	d.done[s] = r
	if s.Bool != nil {
		r.never = true
		return r
	}
	if s.Types != nil {
		for _, name := range s.Types.ToStrings() {
			r.kinds |= kindsByName[name]
		}
	}
	if s.Enum != nil {
		r.among = d.allowed(s.Enum.Values)
	}
	if s.Const != nil {
		if r.among != nil {
			r.open = true
		}
		r.among = d.allowed([]any{*s.Const})
	}
	r.format = s.Format
	if s.Ref != nil {
		if r.all = []*rules{d.rules(s.Ref)}; s.DraftVersion < 2019 {
			return r // what stands beside a reference counts for nothing
		}
	}
	r.open = r.open || s.RecursiveRef != nil || s.DynamicRef != nil ||
		s.UnevaluatedProperties != nil || s.UnevaluatedItems != nil || len(s.Extensions) > 0 || s.ContentEncoding != nil || s.ContentMediaType != nil || s.ContentSchema != nil
	if s.RecursiveRef != nil {
		r.left = append(r.left, d.rules(s.RecursiveRef))
	}
	if s.DynamicRef != nil {
		r.left = append(r.left, d.rules(s.DynamicRef.Ref))
	}
	d.all = d.all || s.UnevaluatedProperties != nil || s.UnevaluatedItems != nil
	r.pattern, r.shortest, r.longest = s.Pattern, s.MinLength, s.MaxLength
	for _, bound := range []struct {
		of *big.Rat
		to **value.Decimal
	}{{s.Minimum, &r.least}, {s.Maximum, &r.most}, {s.ExclusiveMinimum, &r.above}, {s.ExclusiveMaximum, &r.below}, {s.MultipleOf, &r.multiple}} {
		if bound.of != nil {
			var exact bool
			*bound.to, exact = decimal(bound.of)
			r.open = r.open || !exact
		}
	}
	d.object(r, s)
	d.list(r, s)
	r.all = append(r.all, d.each(s.AllOf)...)
	r.any, r.one = d.each(s.AnyOf), d.each(s.OneOf)
	if s.Not != nil {
		if r.not = d.rules(s.Not); r.not == nil {
			r.never = true
		}
	}
	if s.If != nil {
		if r.when = d.rules(s.If); r.when == nil {
			r.when = &rules{}
		}
		r.then, r.els = d.rules(s.Then), d.rules(s.Else)
	}
	return r
}

func (d *ruled) object(r *rules, s *js.Schema) {
	if len(s.Properties)+len(s.Required) > 1<<14 {
		r.open = true
		return
	}
	for name, of := range s.Properties {
		below := d.rules(of)
		m := r.members.add(name)
		m.ruled, m.of = true, below
	}
	r.required = r.bitsOf(s.Required)
	depends := func(name string, needs []string, of *js.Schema) {
		r.depends = append(r.depends, dependence{r.bitsOf([]string{name}), r.bitsOf(needs), d.rules(of)})
	}
	for name, needs := range s.DependentRequired {
		depends(name, needs, nil)
	}
	for name, of := range s.DependentSchemas {
		depends(name, nil, of)
	}
	for name, of := range s.Dependencies {
		switch of := of.(type) {
		case []string:
			depends(name, of, nil)
		case *js.Schema:
			depends(name, nil, of)
		default:
			r.open = true
		}
	}
	for names, of := range s.PatternProperties {
		r.patterns = append(r.patterns, patterned{names, d.rules(of)})
	}
	r.more = s.AdditionalProperties != nil || s.UnevaluatedProperties != nil
	switch others := s.AdditionalProperties.(type) {
	case bool:
		r.closed = !others
	case *js.Schema:
		r.others = d.rules(others)
	}
	r.fewest, r.greatest = s.MinProperties, s.MaxProperties
	if s.PropertyNames != nil && s.DraftVersion > 4 {
		r.names = d.rules(s.PropertyNames)
	}
}

// bitsOf are those of members that are asked for.
func (r *rules) bitsOf(names []string) (bits uint64) {
	for _, name := range names {
		m := r.members.add(name)
		if m.bit == 0 {
			if r.bits == 64 || len(r.members.list) > 1<<14 {
				r.open = true // there are too many
				return bits
			}
			m.bit = 1 << r.bits
			r.bits++
		}
		bits |= m.bit
	}
	return bits
}

func (d *ruled) list(r *rules, s *js.Schema) {
	r.fewestIn, r.mostIn, r.unique = s.MinItems, s.MaxItems, s.UniqueItems
	if s.Contains != nil {
		if r.contains = d.rules(s.Contains); r.contains == nil {
			r.contains = &rules{}
		}
		r.leastHeld, r.maxHeld = s.MinContains, s.MaxContains
	}
	if s.DraftVersion >= 2020 {
		r.first, r.rest = d.each(s.PrefixItems), d.rules(s.Items2020)
		return
	}
	switch of := s.Items.(type) {
	case *js.Schema:
		r.rest = d.rules(of)
	case []*js.Schema:
		r.first = d.each(of)
		switch others := s.AdditionalItems.(type) {
		case bool:
			r.full = !others
		case *js.Schema:
			r.rest = d.rules(others)
		}
	default:
		r.open = r.open || s.AdditionalItems != nil
	}
}

// decimal is a bound as a decimal number; false if it is none, or very long.
func decimal(of *big.Rat) (*value.Decimal, bool) {
	digits, exact := of.FloatPrec()
	if !exact || digits > value.MaxDigits/2 {
		return nil, false
	}
	d, err := value.ParseDecimal([]byte(of.FloatString(digits)))
	return &d, err == nil
}

func (d *ruled) allowed(values []any) *allowed {
	a := &allowed{texts: map[string]bool{}}
	for _, v := range values {
		switch v := v.(type) {
		case string:
			a.texts[v] = true
		case bool:
			a.truth, a.untrue = a.truth || v, a.untrue || !v
		case nil:
			a.null = true
		case json.Number:
			n, err := value.ParseDecimal([]byte(v))
			if err != nil {
				rat, ok := new(big.Rat).SetString(v.String())
				if !ok {
					a.deep = true
					continue
				}
				exact, is := decimal(rat)
				if !is {
					continue // no number that a proof knows is this one
				}
				n = *exact
			}
			a.numbers = append(a.numbers, n)
		default:
			a.deep = true
		}
	}
	return a
}
