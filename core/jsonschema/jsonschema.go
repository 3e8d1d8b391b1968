// Package jsonschema checks records against a JSON Schema (2020-12, 2019-09, draft-07, -06 and -04),
// and tells which fields records have by it.
//
// The rules are those of the schema; how they are applied is left to a library. What is done here
// is to find the part of the schema that records are of, to read from it what maps can use, to say
// what is wrong in a sentence, and to find the byte.
package jsonschema

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"net/url"
	"path"
	"slices"
	"strings"

	js "github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/santhosh-tekuri/jsonschema/v6/kind"

	"ydrion/core/finding"
	"ydrion/core/place"
	"ydrion/core/shape"
)

// Schema is what records are checked against.
type Schema struct {
	File   string
	Record shape.Record // the fields that maps can use
	Lists  []shape.List // those of a record
	of     []*js.Schema
	ruled  *ruled        // the same, as far as values are proved to fit
	levels map[int]level // what is said of the values around records
}

// Is tells whether a document is a JSON Schema rather than a Table Schema.
func Is(source []byte) bool {
	var document map[string]json.RawMessage
	if json.Unmarshal(source, &document) != nil || document["fields"] != nil {
		return false
	}
	for _, keyword := range []string{"$schema", "$ref", "$defs", "definitions", "properties", "type", "items", "allOf", "anyOf", "oneOf", "required", "enum", "const"} {
		if document[keyword] != nil {
			return true
		}
	}
	return false
}

// workspace is the scheme of the addresses of files while a schema is read. They never leave here.
const workspace = "workspace:///"

// Load reads a schema. Open gives other files of the workspace that it refers to, by their names.
// Records is the pointer to the records in a document, as a route says it; asserted lets
// "format" be a rule and not only a remark. Findings have their place in the schema.
func Load(file string, source []byte, records string, asserted bool, open func(name string) ([]byte, bool)) (*Schema, finding.List) {
	root, findings := compile(file, source, asserted, &loader{file: file, id: identifier(source), open: open}, js.Draft2020)
	if root == nil {
		return nil, findings
	}
	fail := func(code, format string, args ...any) (*Schema, finding.List) {
		return nil, finding.List{finding.New(code, place.InFile(file), format, args...)}
	}
	s := &Schema{File: file}
	steps, problem := pointer(records)
	if problem != "" {
		return fail("schema.records", "%s", problem)
	}
	of := parted{sure: []*js.Schema{root}}
	above := []parted{of}
	for i, step := range steps {
		if of = of.inner(step); len(of.all()) == 0 {
			return fail("schema.records", "the schema says nothing of what stands at /%s, where the route's records are (%s)", strings.Join(steps[:i+1], "/"), records)
		}
		above = append(above, of)
	}
	if records == "" && list(root) { // a document that is a list: its elements are the records
		if below := of.inner("*"); len(below.all()) > 0 {
			of = below
			above, steps = append(above, below), []string{"*"}
		}
	}
	s.of = of.sure
	s.ruled = newRuled(s.of)
	f := &fields{asserted: asserted, named: map[string]bool{}}
	for i, part := range of.all() {
		f.collect(part, nil, "", "", i < len(of.sure), true)
	}
	if len(f.record) == 0 { // an element that is not an object, or one of which nothing is known
		f.named["value"] = true
		f.record = append(f.record, field("value", "0", of.all()[0], asserted && len(of.sure) > 0))
	}
	for up := 1; up < len(above); up++ {
		k := len(above) - 1 - up
		for _, part := range above[k].all() {
			f.collect(part, nil, fmt.Sprint(up), steps[k], false, false)
		}
	}
	s.Record, s.Lists = f.record, f.lists
	unchecked := s.surround(above, steps)
	if len(of.maybe) > 0 {
		unchecked = append(unchecked, "what alternatives and conditions say of each record")
	}
	if len(unchecked) > 0 {
		warning := finding.Warn("schema.unchecked", place.InFile(file), "not checked, because the records at %s are read one after the other: %s", records, strings.Join(unchecked, "; "))
		findings = append(findings, warning.Suggest("say it of each record, or leave record out of the route, so that documents are checked whole"))
	}
	return s, findings
}

// compile makes a schema ready. Draft is the edition of one that does not name its own.
func compile(file string, source []byte, asserted bool, from js.URLLoader, draft *js.Draft) (*js.Schema, finding.List) {
	document, err := js.UnmarshalJSON(bytes.NewReader(source))
	if err != nil {
		var syntax *json.SyntaxError
		at := place.InFile(file)
		if errors.As(err, &syntax) {
			at = place.At(file, source, max(int(syntax.Offset)-1, 0))
		}
		return nil, finding.List{finding.New("schema.document", at, "the schema is not valid JSON: %v", err)}
	}
	c := js.NewCompiler()
	c.DefaultDraft(draft)
	c.UseLoader(from)
	if asserted {
		c.AssertFormat()
	}
	if err := c.AddResource(workspace+file, document); err != nil {
		return nil, finding.List{finding.New("schema.document", place.InFile(file), "the schema cannot be read: %v", err)}
	}
	root, err := c.Compile(workspace + file)
	if err != nil {
		return nil, finding.List{refused(file, source, err)}
	}
	return root, nil
}

// identifier is a document's own "$id" (or "id" of draft-04), if it is an address.
func identifier(source []byte) string {
	var document struct {
		ID  any `json:"$id"`
		Old any `json:"id"`
	}
	if json.Unmarshal(source, &document) != nil {
		return ""
	}
	for _, id := range []any{document.ID, document.Old} {
		if address, is := id.(string); is && strings.Contains(address, "://") {
			return address
		}
	}
	return ""
}

// loader finds the files that schemas refer to: those of the workspace, and no others.
type loader struct {
	file, id string
	open     func(name string) ([]byte, bool)
}

func (l *loader) Load(address string) (any, error) {
	name, within := strings.CutPrefix(address, workspace)
	if !within && l.id != "" {
		// What stands beside the schema under its own address stands beside it in the workspace.
		folder := l.id[:strings.LastIndexByte(l.id, '/')+1]
		if rest, beside := strings.CutPrefix(address, folder); beside {
			name, within = path.Join(path.Dir(l.file), rest), true
		}
	}
	if !within {
		return nil, fmt.Errorf("%s is not in the workspace: put the schema there and refer to it by its place beside this one", address)
	}
	if unescaped, err := url.PathUnescape(name); err == nil {
		name = unescaped
	}
	content, is := l.open(name)
	if !is {
		return nil, fmt.Errorf("there is no file %s", name)
	}
	return js.UnmarshalJSON(bytes.NewReader(content))
}

// refused is the finding of a schema that cannot be used.
func refused(file string, source []byte, err error) finding.Finding {
	var invalid *js.SchemaValidationError
	var load *js.LoadURLError
	var ve *js.ValidationError
	switch {
	case errors.As(err, &invalid) && errors.As(invalid.Err, &ve):
		var found finding.Finding
		each(ve, "the schema", func(at []string, _, text string) {
			if found.Code == "" {
				where := place.At(file, source, Offset(source, at))
				where.Path = "/" + strings.Join(at, "/")
				found = finding.New("schema.definition", where, "%s", text)
			}
		})
		return found
	case errors.As(err, &load):
		return finding.New("schema.reference", place.InFile(file), "a reference cannot be followed: %v", load.Err)
	}
	return finding.New("schema.definition", place.InFile(file), "the schema cannot be used: %s", strings.ReplaceAll(err.Error(), workspace, ""))
}

func pointer(s string) (steps []string, problem string) {
	if s == "" {
		return nil, ""
	}
	if s[0] != '/' {
		return nil, "a pointer begins with a slash: /" + s
	}
	for _, step := range strings.Split(s[1:], "/") {
		steps = append(steps, strings.NewReplacer("~1", "/", "~0", "~").Replace(step))
	}
	return steps, ""
}

// always are the schemas that a value has to fit besides this one.
func always(s *js.Schema) (all []*js.Schema) {
	for _, more := range [][]*js.Schema{{s.Ref, s.RecursiveRef}, s.AllOf} {
		for _, m := range more {
			if m != nil {
				all = append(all, m)
			}
		}
	}
	return all
}

// perhaps are the schemas of which a value has to fit some.
func perhaps(s *js.Schema) (all []*js.Schema) {
	if s.DynamicRef != nil {
		all = append(all, s.DynamicRef.Ref)
	}
	for _, more := range [][]*js.Schema{s.AnyOf, s.OneOf, {s.Then, s.Else}} {
		for _, m := range more {
			if m != nil {
				all = append(all, m)
			}
		}
	}
	return all
}

func parts(s *js.Schema) []*js.Schema { return append(always(s), perhaps(s)...) }

func list(s *js.Schema) bool {
	kinds, known := kindsOf(s, nil)
	return known && slices.Equal(kinds, []string{"array"})
}

// Violation is one thing that is wrong with a record.
type Violation struct {
	At               int // byte in the record
	Path, Code, Text string
	Seen             string
}

// mostDigits is how large an exponent may be that is checked against bounds.
const mostDigits = 1000

// Check validates a record, whose syntax is right, against the schema, and tells of members that it does not list, if anybody asks.
func (s *Schema) Check(raw []byte, say func(Violation), unlisted func(Unlisted)) {
	v, spent := s.ruled.verdict(raw, unlisted)
	switch {
	case v == fits:
		return
	case spent:
		say(boundless(record))
		return
	}
	if value, ok := readable(raw, record, say); ok {
		validate(s.of, value, raw, record, say)
	}
}

// boundless is what is wrong with a value that would be gone through without end.
func boundless(whole string) Violation {
	return Violation{Code: "schema.alternative", Text: whole + " has alternatives of the schema within alternatives, each of which would be tried with each: it is not checked"}
}

// record is what a record is called in a sentence.
const record = "the record"

// readable reads a value whose syntax is right. One that cannot be checked against anything is said.
func readable(raw []byte, whole string, say func(Violation)) (any, bool) {
	value, exponents, ok := decode(raw)
	if !ok {
		say(Violation{Code: "schema.type", Text: whole + " cannot be read"})
		return nil, false
	}
	if exponents {
		if at, large := tooLarge(value, nil); large {
			say(violation(raw, at, "schema.maximum", fmt.Sprintf("%s has an exponent of more than %d, which is not checked against anything", name(whole, at), mostDigits)))
			return nil, false
		}
	}
	return value, true
}

// validate checks a value against schemas, and says what is wrong in the order of its places. What several
// say is said once.
func validate(all []*js.Schema, value any, raw []byte, whole string, say func(Violation)) {
	type wrong struct {
		at         []string
		code, text string
	}
	var found []wrong
	for _, of := range all {
		var ve *js.ValidationError
		if errors.As(of.Validate(value), &ve) {
			each(ve, whole, func(at []string, code, text string) { found = append(found, wrong{slices.Clone(at), code, text}) })
		}
	}
	if len(found) > mostPlaced { // those that are told are always the same
		slices.SortFunc(found, func(a, b wrong) int { return cmp.Or(slices.Compare(a.at, b.at), strings.Compare(a.text, b.text)) })
		found = found[:mostPlaced]
	}
	var said []Violation
	for _, w := range found {
		said = append(said, violation(raw, w.at, w.code, w.text))
	}
	slices.SortFunc(said, func(a, b Violation) int { return cmp.Or(cmp.Compare(a.At, b.At), strings.Compare(a.Text, b.Text)) })
	for _, v := range slices.Compact(said) {
		say(v)
	}
}

// mostPlaced bounds how many violations of one value are told: the place of each is looked for from its
// beginning.
const mostPlaced = 100

func violation(raw []byte, at []string, code, text string) Violation {
	v := Violation{At: Offset(raw, at), Code: code, Text: text}
	if len(at) > 0 {
		v.Path = "/" + strings.Join(escaped(at), "/")
	}
	v.Seen = finding.Shorten(seen(raw[v.At:]))
	return v
}

// seen is the value that a text begins with, as far as it is shown.
func seen(raw []byte) []byte {
	p := proof{raw: raw, left: math.MaxInt}
	end, _ := p.value(0, nil, 0)
	if p.lost {
		return nil
	}
	return raw[:end]
}

// tooLarge finds a number that would become very long if it were written out.
func tooLarge(value any, at []string) ([]string, bool) {
	switch value := value.(type) {
	case json.Number:
		_, exponent, has := strings.Cut(strings.ToLower(value.String()), "e")
		exponent = strings.TrimLeft(exponent, "+-0")
		return at, has && (len(exponent) > 4 || len(exponent) == 4 && exponent > "1000")
	case []any:
		for i, v := range value {
			if found, large := tooLarge(v, append(at, fmt.Sprint(i))); large {
				return slices.Clone(found), true
			}
		}
	case map[string]any:
		for k, v := range value {
			if found, large := tooLarge(v, append(at, k)); large {
				return slices.Clone(found), true
			}
		}
	}
	return nil, false
}

// pointerEscapes are those of a JSON Pointer (RFC 6901, 3).
var pointerEscapes = strings.NewReplacer("~", "~0", "/", "~1")

func escaped(steps []string) []string {
	out := make([]string, len(steps))
	for i, s := range steps {
		out[i] = pointerEscapes.Replace(s)
	}
	return out
}

// name is what a place is called in a sentence.
func name(whole string, at []string) string {
	if len(at) == 0 {
		return whole
	}
	return strings.Join(at, ".")
}

// each calls say for everything that is wrong, with its place in the value.
func each(e *js.ValidationError, whole string, say func(at []string, code, text string)) {
	at, of := e.InstanceLocation, name(whole, e.InstanceLocation)
	switch k := e.ErrorKind.(type) {
	case *kind.Schema, *kind.Group, *kind.AllOf, *kind.Reference:
		for _, cause := range e.Causes {
			each(cause, whole, say)
		}
	case *kind.Required:
		for _, missing := range k.Missing {
			say(at, "schema.required", name(whole, append(slices.Clone(at), missing))+" is missing")
		}
	case *kind.DependentRequired:
		for _, missing := range k.Missing {
			say(at, "schema.required", fmt.Sprintf("%s is missing, which must be there because %s is", name(whole, append(slices.Clone(at), missing)), k.Prop))
		}
	case *kind.Dependency:
		for _, missing := range k.Missing {
			say(at, "schema.required", fmt.Sprintf("%s is missing, which must be there because %s is", name(whole, append(slices.Clone(at), missing)), k.Prop))
		}
	case *kind.AdditionalProperties:
		for _, p := range k.Properties {
			say(append(slices.Clone(at), p), "schema.surplus", fmt.Sprintf("%s is not among the members that the schema allows", name(whole, append(slices.Clone(at), p))))
		}
	case *kind.AnyOf:
		say(at, "schema.alternative", fmt.Sprintf("%s fits none of the %d forms that the schema allows: %s", of, len(e.Causes), alternatives(e.Causes, whole)))
	case *kind.OneOf:
		if len(k.Subschemas) > 0 {
			say(at, "schema.alternative", fmt.Sprintf("%s fits several forms of the schema of which it may fit only one", of))
			return
		}
		say(at, "schema.alternative", fmt.Sprintf("%s fits none of the %d forms that the schema allows: %s", of, len(e.Causes), alternatives(e.Causes, whole)))
	default:
		code, text := sentence(of, e.ErrorKind)
		say(at, code, text)
	}
}

// alternatives says what is wrong with the first forms.
func alternatives(causes []*js.ValidationError, whole string) string {
	var all []string
	for _, c := range causes {
		each(c, whole, func(_ []string, _, text string) {
			if !slices.Contains(all, text) {
				all = append(all, text)
			}
		})
	}
	if len(all) > 3 {
		all = append(all[:3], fmt.Sprintf("and %d more", len(all)-3))
	}
	return strings.Join(all, "; or ")
}
