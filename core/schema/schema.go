// Package schema says what a record must look like, in Table Schema (the
// Frictionless Data specification, version 1): a JSON document with a list of
// fields, each with a type, a format and constraints.
//
// A value that is one of missingValues is missing: it satisfies everything but
// "required". The empty text arrives in a map as empty, any other missing value
// as absent.
package schema

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"ydrion/core/finding"
	"ydrion/core/place"
	"ydrion/core/shape"
	"ydrion/core/text"
	"ydrion/core/value"
)

// Schema is a checked Table Schema.
type Schema struct {
	File    string
	Title   string
	Record  shape.Record
	Lists   []shape.List // of the record
	Rows    bool         // a record is made of rows, which are the first list: they are what is checked
	Taken   []int        // where a record is made of rows: the columns that are taken of its first row, and in which the others should agree with it
	Unique  []string     // names of the fields whose values must differ
	key     []int        // the columns whose values must not be the same together, if they are several
	columns []column
	busy    []int // the columns of which something could be wrong
	missing []string
	byList  map[string]*Schema // of the rows of each list, by its name behind those of the lists that it is in
	tables  []*Schema          // the same by the lists' tables; nil: nothing is checked in one
	needed  bool               // of a list: it must have a row
	rules   string             // JSON Pointer of the list
}

type document struct {
	Title         string          `json:"title"`
	Name          string          `json:"name"`
	Description   string          `json:"description"`
	Fields        []fieldDocument `json:"fields"`
	Lists         []listDocument  `json:"lists"`
	MissingValues []string        `json:"missingValues"`
	PrimaryKey    any             `json:"primaryKey"`
}

// listDocument is our own: Table Schema knows no lists in a record.
type listDocument struct {
	Name        string          `json:"name"`
	Path        string          `json:"path"`
	Title       string          `json:"title"`
	Description string          `json:"description"`
	Fields      []fieldDocument `json:"fields"`
	Lists       []listDocument  `json:"lists"`
	Constraints struct {
		Required bool `json:"required"`
	} `json:"constraints"`
}

type fieldDocument struct {
	Name        string   `json:"name"`
	Path        string   `json:"path"`
	Title       string   `json:"title"`
	Description string   `json:"description"`
	Example     any      `json:"example"`
	Type        string   `json:"type"`
	Format      string   `json:"format"`
	DecimalChar string   `json:"decimalChar"`
	GroupChar   string   `json:"groupChar"`
	BareNumber  *bool    `json:"bareNumber"`
	TrueValues  []string `json:"trueValues"`
	FalseValues []string `json:"falseValues"`
	Constraints struct {
		Required  bool   `json:"required"`
		Unique    bool   `json:"unique"`
		MinLength *int   `json:"minLength"`
		MaxLength *int   `json:"maxLength"`
		Minimum   any    `json:"minimum"`
		Maximum   any    `json:"maximum"`
		Pattern   string `json:"pattern"`
		Enum      []any  `json:"enum"`
	} `json:"constraints"`
}

var kinds = map[string]value.Kind{
	"": value.Text, "any": value.Text, "string": value.Text, "number": value.Number, "integer": value.Number, "boolean": value.Bool,
	"date": value.Time, "datetime": value.Time, "time": value.Time, "year": value.Time, "yearmonth": value.Time,
}

// AllowExponents takes numbers with an exponent for what they are, as in JSON. Otherwise those
// that look like what spreadsheet programs make of long numbers are refused: they may have
// lost digits.
func (s *Schema) AllowExponents() {
	for i := range s.columns {
		s.columns[i].exponents = true
	}
	for _, rows := range s.byList {
		rows.AllowExponents()
	}
}

// Take takes the lists that are read: its own, which may have more in them than the schema says, and others.
func (s *Schema) Take(lists []shape.List) {
	s.Lists, s.tables = lists, nil
	whole := s.Shape()
	var names []string
	for _, t := range whole.Tables() {
		name := t.Name
		if t.Above >= 0 {
			name = names[t.Above] + " " + name
		}
		names = append(names, name)
		s.tables = append(s.tables, s.byList[name])
	}
}

// Parse reads a Table Schema. Everything that is wrong with it is a finding
// with its place in the document.
func Parse(file string, source []byte) (*Schema, finding.List) {
	decoder := json.NewDecoder(bytes.NewReader(source))
	decoder.DisallowUnknownFields()
	decoder.UseNumber()
	var doc document
	if err := decoder.Decode(&doc); err != nil {
		return nil, finding.List{decodeFinding(file, source, decoder, err)}
	}
	p := &parser{file: file, source: source, schema: &Schema{File: file, Title: doc.Title, missing: doc.MissingValues}}
	if doc.MissingValues == nil {
		p.schema.missing = []string{""}
	}
	if len(doc.Fields) == 0 {
		p.bad("/fields", "a schema needs at least one field")
	}
	keys, is := primaryKey(doc.PrimaryKey)
	if !is {
		p.bad("/primaryKey", "primaryKey is the name of a field, or a list of names")
	}
	for i, f := range doc.Fields {
		p.field(i, f, keys)
	}
	p.schema.byList = map[string]*Schema{}
	p.schema.Take(p.lists(doc.Lists, "/lists", "", p.schema.byList))
	for _, k := range keys {
		if p.schema.Record.Slot(k) < 0 {
			p.bad("/primaryKey", "primaryKey names %q, which is not a field", k)
		} else if len(keys) > 1 {
			p.schema.key = append(p.schema.key, p.schema.Record.Slot(k))
		}
	}
	if p.out.HasErrors() {
		return nil, p.out
	}
	return p.schema, p.out
}

// Shape is what is read of a record.
func (s *Schema) Shape() shape.Shape { return shape.Shape{Fields: s.Record, Lists: s.Lists} }

// Of is a schema that gives fields their slots and checks nothing about them: something else does.
func Of(file string, record shape.Record) *Schema {
	s := &Schema{File: file}
	for _, f := range record {
		s.add(f)
	}
	return s
}

// Add takes a field of text that stands under its name, which nothing is checked about.
func (s *Schema) Add(name string) { s.add(shape.Field{Name: name, Kind: value.Text}) }

func (s *Schema) add(f shape.Field) {
	s.columns = append(s.columns, column{name: f.Name, slot: int32(len(s.Record)), kind: f.Kind, field: f, plain: true, unique: -1, minLength: -1, maxLength: -1})
	s.Record = append(s.Record, f)
}

// primaryKey are the fields of a primary key: there is a name or a list of them, or nothing.
func primaryKey(v any) (names []string, ok bool) {
	switch v := v.(type) {
	case nil:
		return nil, true
	case string:
		return []string{v}, true
	case []any:
		for _, k := range v {
			s, is := k.(string)
			if !is {
				return nil, false
			}
			names = append(names, s)
		}
		return names, true
	}
	return nil, false
}

// Key are the names of the fields whose values must not be the same together.
func (s *Schema) Key() (names []string) {
	for _, i := range s.key {
		names = append(names, s.columns[i].name)
	}
	return names
}

func decodeFinding(file string, source []byte, d *json.Decoder, err error) finding.Finding {
	at := int(d.InputOffset())
	var syntax *json.SyntaxError
	var kind *json.UnmarshalTypeError
	switch {
	case errors.As(err, &syntax):
		at = int(syntax.Offset)
	case errors.As(err, &kind):
		at = int(kind.Offset)
		return finding.New("schema.document", place.At(file, source, max(at-1, 0)), "%s cannot be %s", kind.Field, kind.Value)
	case strings.Contains(err.Error(), "unknown field"):
		name := strings.Trim(strings.TrimPrefix(err.Error(), "json: unknown field "), `"`)
		if i := bytes.Index(source, []byte(`"`+name+`"`)); i >= 0 {
			at = i
		}
		known := []string{"lists", "name", "path", "title", "description", "type", "format", "constraints", "fields", "missingValues", "primaryKey", "decimalChar", "groupChar", "bareNumber",
			"trueValues", "falseValues", "required", "unique", "minLength", "maxLength", "minimum", "maximum", "pattern", "enum"}
		f := finding.New("schema.key-unknown", place.At(file, source, at), "%q is not a key of a Table Schema that is understood here", name)
		switch near := finding.Nearest(name, known); {
		case near == "":
		case near != name:
			f = f.Suggest("was %q meant?", near)
		case slices.Contains(known[len(known)-8:], name):
			f = f.Suggest("it stands in the `constraints` of a field")
		case name == "lists" || name == "fields" || name == "missingValues" || name == "primaryKey":
			f = f.Suggest("it holds for all fields, and stands beside `fields`")
		default:
			f = f.Suggest("it is said of a field")
		}
		return f
	}
	return finding.New("schema.document", place.At(file, source, max(at-1, 0)), "the schema is not valid JSON: %v", err)
}

type parser struct {
	file   string
	source []byte
	schema *Schema
	within string // JSON Pointer of the list whose fields are read, empty: they are the record's
	out    finding.List
}

// lists reads those of a record or a row, and keeps a schema for the rows of each under its name behind
// those of the lists that it is in.
func (p *parser) lists(docs []listDocument, pointer, above string, rowsOf map[string]*Schema) (out []shape.List) {
	for i, l := range docs {
		at := fmt.Sprintf("%s/%d", pointer, i)
		if l.Name == "" || strings.ContainsAny(l.Name, " .") {
			p.bad(at, "list %d needs a name without blanks and points", i+1)
			continue
		}
		if slices.ContainsFunc(out, func(o shape.List) bool { return o.Name == l.Name }) || p.schema.Record.Slot(l.Name) >= 0 {
			p.bad(at+"/name", "two fields or lists are called %q", l.Name)
		}
		if len(l.Fields)+len(l.Lists) == 0 {
			p.bad(at, "the list %s needs at least one field", l.Name)
		}
		rows := &Schema{File: p.file, missing: p.schema.missing, needed: l.Constraints.Required, rules: at}
		of := &parser{file: p.file, source: p.source, schema: rows, within: at}
		for k, f := range l.Fields {
			if f.Constraints.Unique {
				of.bad(fmt.Sprintf("%s/fields/%d/constraints/unique", at, k), "values that differ are not checked for in lists")
			}
			of.field(k, f, nil)
		}
		rowsOf[above+l.Name] = rows
		rows.Lists = of.lists(l.Lists, at+"/lists", above+l.Name+" ", rowsOf)
		p.out = append(p.out, of.out...)
		out = append(out, shape.List{Name: l.Name, Path: l.Path, Shape: rows.Shape()})
	}
	return out
}

func (p *parser) bad(pointer, format string, args ...any) {
	at := place.At(p.file, p.source, locate(p.source, pointer))
	at.Path = pointer
	p.out = append(p.out, finding.New("schema.definition", at, format, args...))
}

func (p *parser) field(i int, f fieldDocument, keys []string) {
	pointer := fmt.Sprintf("%s/fields/%d", p.within, i)
	if f.Name == "" {
		p.bad(pointer, "field %d has no name", i+1)
		return
	}
	if p.schema.Record.Slot(f.Name) >= 0 {
		p.bad(pointer+"/name", "two fields are called %q", f.Name)
		return
	}
	kind, ok := kinds[f.Type]
	if !ok {
		p.bad(pointer+"/type", "type %q is not checked here; known are string, number, integer, boolean, date, time, datetime, year, yearmonth, any", f.Type)
		return
	}
	s := shape.Field{Name: f.Name, Path: f.Path, Kind: kind, Whole: f.Type == "integer", Checked: true, Required: f.Constraints.Required, Missing: p.schema.missing}
	c := column{name: f.Name, slot: int32(i), kind: kind, integer: f.Type == "integer", required: f.Constraints.Required, rules: pointer, unique: -1}
	for _, m := range p.schema.missing {
		if m == "" {
			c.empty = true
		} else {
			c.missing = append(c.missing, m)
		}
	}
	c.minLength, c.maxLength = -1, -1
	if f.Constraints.MinLength != nil {
		c.minLength = *f.Constraints.MinLength
	}
	if f.Constraints.MaxLength != nil {
		c.maxLength = *f.Constraints.MaxLength
	}
	switch kind {
	case value.Time:
		s.Pattern = p.pattern(pointer, f)
	case value.Number:
		s.Decimal, s.Group = mark(f.DecimalChar), mark(f.GroupChar)
		if len(f.DecimalChar) > 1 || len(f.GroupChar) > 1 || f.DecimalChar != "" && f.DecimalChar == f.GroupChar {
			p.bad(pointer, "decimalChar and groupChar must be two different characters")
		}
		if f.BareNumber != nil && !*f.BareNumber {
			p.bad(pointer+"/bareNumber", "numbers with text around them are not checked here")
		}
	case value.Bool:
		c.trues, c.falses = f.TrueValues, f.FalseValues
		if c.trues == nil {
			c.trues = []string{"true", "True", "TRUE", "1"}
		}
		if c.falses == nil {
			c.falses = []string{"false", "False", "FALSE", "0"}
		}
		s.Truths = c.trues
	case value.Text:
		if c.form, ok = stringForms[f.Format]; !ok {
			p.bad(pointer+"/format", "format %q is not checked here; known are default, email, uri, uuid", f.Format)
		}
	}
	if f.Constraints.Pattern != "" {
		re, err := regexp.Compile("^(?:" + f.Constraints.Pattern + ")$")
		if err != nil {
			p.bad(pointer+"/constraints/pattern", "the pattern is not a regular expression: %v", err)
		}
		c.pattern, c.patternText = re, f.Constraints.Pattern
	}
	c.field = s
	for k, e := range f.Constraints.Enum {
		text := fmt.Sprint(e)
		if _, ok := s.Read([]byte(text)); !ok {
			p.bad(fmt.Sprintf("%s/constraints/enum/%d", pointer, k), "%q is not of type %s", text, f.Type)
		}
		c.enum = append(c.enum, text)
	}
	c.minimum = p.bound(pointer+"/constraints/minimum", f.Constraints.Minimum, s)
	c.maximum = p.bound(pointer+"/constraints/maximum", f.Constraints.Maximum, s)
	for _, k := range keys {
		if k == f.Name {
			c.required = true
		}
	}
	if f.Constraints.Unique || len(keys) == 1 && keys[0] == f.Name {
		c.unique = len(p.schema.Unique)
		p.schema.Unique = append(p.schema.Unique, f.Name)
	}
	c.typeName = typeName(f.Type, s)
	c.plain = c.minLength < 0 && c.maxLength < 0 && c.minimum == nil && c.maximum == nil && c.pattern == nil && c.enum == nil
	p.schema.Record = append(p.schema.Record, s)
	p.schema.columns = append(p.schema.columns, c)
	if !c.idle() {
		p.schema.busy = append(p.schema.busy, len(p.schema.columns)-1)
	}
}

func mark(s string) byte {
	if s == "" {
		return 0
	}
	return s[0]
}

func (p *parser) pattern(pointer string, f fieldDocument) *text.Pattern {
	var pattern *text.Pattern
	var err error
	switch {
	case f.Format != "" && f.Format != "default" && f.Format != "any":
		pattern, err = text.ParseStrptime(strings.TrimPrefix(f.Format, "fmt:"))
	case f.Format == "any":
		p.bad(pointer+"/format", "format any would guess; name the format, as in %%d/%%m/%%Y")
	case f.Type == "date":
		pattern = text.MustPattern("yyyy-MM-dd")
	case f.Type == "time":
		pattern = text.MustPattern("HH:mm:ss")
	case f.Type == "year":
		pattern = text.MustPattern("yyyy")
	case f.Type == "yearmonth":
		pattern = text.MustPattern("yyyy-MM")
	}
	if err != nil {
		p.bad(pointer+"/format", "%v", err)
	}
	return pattern
}

func (p *parser) bound(pointer string, v any, f shape.Field) *value.Value {
	if v == nil {
		return nil
	}
	if f.Kind == value.Text || f.Kind == value.Bool {
		p.bad(pointer, "a bound needs a number or a date; the field is neither")
		return nil
	}
	written := []byte(fmt.Sprint(v))
	plain := f
	if f.Kind == value.Number {
		plain.Decimal, plain.Group = 0, 0
	}
	read, ok := plain.Read(written)
	if !ok && f.Kind == value.Time {
		var m value.Moment
		m, ok = text.ReadISO(written)
		read = value.OfTime(m)
	}
	if ok && f.Kind == value.Time && f.Pattern != nil { // a day and a time of day have no order
		says, _ := f.Pattern.Says()
		ok = says.From == read.Time.From
	}
	if !ok {
		p.bad(pointer, "%q is not of the field's type", written)
		return nil
	}
	return &read
}

func typeName(t string, f shape.Field) string {
	switch {
	case t == "integer":
		return "a whole number"
	case f.Kind == value.Number && (f.Decimal != 0 && f.Decimal != '.'):
		return fmt.Sprintf("a number with %q as decimal mark", f.Decimal)
	case f.Kind == value.Number:
		return "a number with a point as decimal mark"
	case f.Kind == value.Time && f.Pattern != nil:
		return "a date in the form " + f.Pattern.String()
	case f.Kind == value.Time:
		return "a date and time as in 2026-11-25T06:30:00"
	}
	return "a " + t
}

// locate gives the offset of the value at a JSON Pointer (RFC 6901) of plain
// names, or of the nearest parent that is there.
func locate(source []byte, pointer string) int {
	d := json.NewDecoder(bytes.NewReader(source))
	best := 0
	steps := strings.Split(strings.TrimPrefix(pointer, "/"), "/")
	if _, err := d.Token(); err != nil {
		return 0
	}
	for _, step := range steps {
		for n := 0; d.More(); n++ {
			before := int(d.InputOffset())
			name := fmt.Sprint(n)
			t, err := d.Token()
			if err != nil {
				return best
			}
			if key, isKey := t.(string); isKey && isObjectKey(source, int(d.InputOffset())) {
				name, before = key, int(d.InputOffset())
				if name != step {
					var skip json.RawMessage
					if d.Decode(&skip) != nil {
						return best
					}
					continue
				}
				best = start(source, before)
				if _, err := d.Token(); err != nil {
					return best
				}
				break
			}
			if name == step {
				best = start(source, before)
				break
			}
			for depth := opens(t); depth > 0; {
				if t, err = d.Token(); err != nil {
					return best
				}
				depth += opens(t)
			}
		}
	}
	return best
}

func opens(t json.Token) int {
	switch t {
	case json.Delim('{'), json.Delim('['):
		return 1
	case json.Delim('}'), json.Delim(']'):
		return -1
	}
	return 0
}

func isObjectKey(source []byte, at int) bool {
	rest := bytes.TrimLeft(source[at:], " \t\r\n")
	return len(rest) > 0 && rest[0] == ':'
}

// start skips what stands between two values.
func start(source []byte, at int) int {
	for at < len(source) && bytes.IndexByte([]byte(" \t\r\n,:"), source[at]) >= 0 {
		at++
	}
	return at
}
