package jsonschema

import (
	"slices"
	"strings"

	js "github.com/santhosh-tekuri/jsonschema/v6"

	"ydrion/core/shape"
	"ydrion/core/value"
)

// mostLevels is how deep objects are looked into for fields.
const mostLevels = 20

// fields collects what maps can use: the values of a record that are neither objects nor lists, by
// their names with dots, and those of what holds it; and the record's lists.
type fields struct {
	asserted bool
	record   shape.Record
	lists    []shape.List
	named    map[string]bool
	on       []*js.Schema // the schemas that are being looked into
}

// collect takes the members of an object. Up says how many levels above the record it stands, ""
// that it is the record; without is the member that leads to the record. Sure tells that each record
// is checked against this part of the schema, so that its types are proved.
//
// There tells that the object itself always stands there.
func (f *fields) collect(s *js.Schema, path []string, up, without string, sure, there bool) {
	if slices.Contains(f.on, s) || len(path) > mostLevels {
		return
	}
	f.on = append(f.on, s)
	defer func() { f.on = f.on[:len(f.on)-1] }()
	for _, p := range always(s) {
		f.collect(p, path, up, without, sure, there)
	}
	names := make([]string, 0, len(s.Properties))
	for name := range s.Properties {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		if len(path) == 0 && name == without {
			continue
		}
		member, at := s.Properties[name], append(slices.Clone(path), name)
		kinds, _ := kindsOf(member, nil)
		needed := sure && there && slices.Contains(s.Required, name)
		switch {
		case object(member, nil):
			f.collect(member, at, up, "", sure, needed && only(member, "object"))
			continue
		case slices.Contains(kinds, "array") && len(kinds) == 1:
			if called := strings.Join(at, "."); up == "" && !f.named[called] {
				f.named[called] = true
				f.list(called, "/"+strings.Join(escaped(at), "/"), member, sure)
			}
			continue
		}
		called := strings.Join(at, ".")
		if f.named[called] {
			continue
		}
		f.named[called] = true
		of := field(called, up+"/"+strings.Join(escaped(at), "/"), member, f.asserted)
		of.Required = needed && len(kinds) > 0 && only(member, kinds...)
		if !sure {
			of.Kind, of.Checked, of.Truths = value.Text, false, nil
		}
		f.record = append(f.record, of)
	}
	for _, p := range perhaps(s) {
		f.collect(p, path, up, without, false, false)
	}
}

// Element is what a row is called that is neither an object nor a list.
const Element = "value"

// list takes a list and what its elements have.
func (f *fields) list(name, path string, s *js.Schema, sure bool) {
	if len(f.on) > mostLevels {
		return
	}
	rows := &fields{asserted: f.asserted, named: map[string]bool{}, on: f.on}
	switch of := items(s, nil); {
	case of == nil:
		rows.record = shape.Record{{Name: Element, Path: "0", Kind: value.Text}}
	case object(of, nil):
		rows.collect(of, nil, "", "", sure, true)
	default:
		if kinds, _ := kindsOf(of, nil); slices.Contains(kinds, "array") && len(kinds) == 1 {
			rows.on = append(slices.Clone(f.on), s)
			rows.list(Element, "0", of, sure)
			break
		}
		row := field(Element, "0", of, f.asserted)
		if !sure {
			row.Kind, row.Checked, row.Truths = value.Text, false, nil
		}
		rows.record = shape.Record{row}
	}
	f.lists = append(f.lists, shape.List{Name: name, Path: path, Shape: shape.Shape{Fields: rows.record, Lists: rows.lists}})
}

// items is what the elements of a list are described by, nil if nothing describes them.
func items(s *js.Schema, seen []*js.Schema) *js.Schema {
	if slices.Contains(seen, s) {
		return nil
	}
	if s.Items2020 != nil {
		return s.Items2020
	}
	if of, is := s.Items.(*js.Schema); is {
		return of
	}
	for _, p := range parts(s) {
		if of := items(p, append(seen, s)); of != nil {
			return of
		}
	}
	return nil
}

// object tells whether a value has members that are described.
func object(s *js.Schema, seen []*js.Schema) bool {
	if slices.Contains(seen, s) {
		return false
	}
	return len(s.Properties) > 0 || slices.ContainsFunc(parts(s), func(p *js.Schema) bool { return object(p, append(seen, s)) })
}

// kindsOf are the types that a value can have, but for null. It is not known if any can be.
func kindsOf(s *js.Schema, seen []*js.Schema) (kinds []string, known bool) {
	if slices.Contains(seen, s) {
		return nil, false
	}
	seen = append(seen, s)
	if s.Types != nil {
		for _, k := range s.Types.ToStrings() {
			if k != "null" {
				kinds = append(kinds, k)
			}
		}
		return kinds, true
	}
	for _, p := range always(s) {
		if kinds, known = kindsOf(p, seen); known {
			return kinds, true
		}
	}
	for _, forms := range [][]*js.Schema{s.AnyOf, s.OneOf} {
		kinds, known = nil, len(forms) > 0
		for _, form := range forms {
			of, all := kindsOf(form, seen)
			known = known && all
			kinds = append(kinds, of...)
		}
		if known {
			return kinds, true
		}
	}
	return nil, false
}

// only tells whether a value is of some types, and cannot be null.
func only(s *js.Schema, kinds ...string) bool {
	if s.Types == nil {
		return slices.ContainsFunc(always(s), func(p *js.Schema) bool { return only(p, kinds...) })
	}
	return !slices.ContainsFunc(s.Types.ToStrings(), func(k string) bool { return !slices.Contains(kinds, k) })
}

// formatOf is the format that a text must have.
func formatOf(s *js.Schema, seen []*js.Schema) string {
	if s.Format != nil {
		return s.Format.Name
	}
	if slices.Contains(seen, s) {
		return ""
	}
	for _, p := range always(s) {
		if of := formatOf(p, append(seen, s)); of != "" {
			return of
		}
	}
	return ""
}

// field is what a map sees of a value. Only what the schema proves has a kind of its own.
func field(name, path string, s *js.Schema, asserted bool) shape.Field {
	f := shape.Field{Name: name, Path: path, Kind: value.Text}
	kinds, _ := kindsOf(s, nil)
	only := func(allowed ...string) bool {
		return len(kinds) > 0 && !slices.ContainsFunc(kinds, func(k string) bool { return !slices.Contains(allowed, k) })
	}
	switch {
	case only("number", "integer"):
		f.Kind, f.Checked, f.Whole = value.Number, true, only("integer")
	case only("boolean"):
		f.Kind, f.Checked, f.Truths = value.Bool, true, []string{"true"}
	case only("string") && asserted:
		if of := formatOf(s, nil); of == "date" || of == "date-time" {
			f.Kind, f.Checked = value.Time, true
		}
	}
	return f
}
