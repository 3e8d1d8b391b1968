package jsonschema

import (
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"

	"ydrion/core/finding"
	"ydrion/core/value"
)

const order = `{"$schema": "https://json-schema.org/draft/2020-12/schema", "$id": "https://skerry.example/schemas/order.json",
 "type": "object", "required": ["order", "station", "specimens"], "additionalProperties": false,
 "properties": {"order": {"type": "integer", "minimum": 1}, "station": {"$ref": "parts/station.json"}, "note": {"type": ["string", "null"], "maxLength": 10},
  "specimens": {"type": "array", "minItems": 1, "items": {"$ref": "#/$defs/specimen"}}},
 "$defs": {"specimen": {"type": "object", "required": ["id"], "properties": {
  "id": {"type": "string", "pattern": "^[A-Z]{2}-[0-9]+$"}, "taken": {"type": "string", "format": "date"}, "weight": {"type": "number", "exclusiveMaximum": 450, "multipleOf": 0.1},
  "tests": {"type": "array", "uniqueItems": true, "items": {"enum": ["WBC", "HGB", 7, null]}}, "station": {"const": "here"},
  "animal": {"oneOf": [{"type": "object", "required": ["tag"], "properties": {"tag": {"type": "string"}, "age": {"type": "number"}}}, {"type": "object", "required": ["chip"], "properties": {"chip": {"type": "integer"}, "age": {"type": "string"}}}]}}}}}`

const station = `{"type": "object", "required": ["code"], "properties": {"code": {"type": "string", "minLength": 2}, "lat": {"anyOf": [{"type": "number"}, {"type": "null"}]}, "open": {"type": "boolean"}, "a/b": {}}}`

func load(t *testing.T, source, records string, asserted bool) *Schema {
	t.Helper()
	s, findings := Load("schemas/order.json", []byte(source), records, asserted, func(name string) ([]byte, bool) {
		return []byte(station), name == "schemas/parts/station.json"
	})
	if s == nil || findings.HasErrors() {
		t.Fatal(findings)
	}
	return s
}

// TestFieldsOfASchema: the members that are not objects and lists are fields, those that every record
// is checked against with their types; nearest first, and those of what holds the records behind them.
func TestFieldsOfASchema(t *testing.T) {
	kinds := map[value.Kind]string{value.Text: "", value.Number: " number", value.Bool: " bool", value.Time: " time"}
	for _, test := range []struct {
		records  string
		asserted bool
		want     string
	}{
		{"", false, "note=/note, order=/order number, station.a/b=/station/a~1b, station.code=/station/code, station.lat=/station/lat number, station.open=/station/open bool"},
		{"/specimens/*", false, "animal.age=/animal/age, animal.tag=/animal/tag, animal.chip=/animal/chip, id=/id, station=/station, taken=/taken, weight=/weight number, note=2/note, order=2/order, station.a/b=2/station/a~1b, station.code=2/station/code, station.lat=2/station/lat, station.open=2/station/open"},
		{"/specimens/*", true, "animal.age=/animal/age, animal.tag=/animal/tag, animal.chip=/animal/chip, id=/id, station=/station, taken=/taken time, weight=/weight number, note=2/note, order=2/order, station.a/b=2/station/a~1b, station.code=2/station/code, station.lat=2/station/lat, station.open=2/station/open"},
		{"/specimens/*/tests/*", false, "value=0, animal.age=2/animal/age"},
	} {
		var got []string
		for _, f := range load(t, order, test.records, test.asserted).Record {
			got = append(got, f.Name+"="+f.Path+kinds[f.Kind])
			if f.Checked != (f.Kind != value.Text) {
				t.Errorf("%+v", f)
			}
		}
		all := strings.Join(got, ", ")
		if test.records == "/specimens/*/tests/*" && strings.HasPrefix(all, test.want) {
			continue
		}
		slices.Sort(got)
		want := strings.Split(test.want, ", ")
		slices.Sort(want)
		if !slices.Equal(got, want) {
			t.Errorf("%q: %s\nnot\n%s", test.records, all, test.want)
		}
	}
	for _, endless := range []string{`{"properties": {"a": {"$ref": "#"}, "b": {"type": "string"}}}`, `{"allOf": [{"$ref": "#/$defs/x"}], "$defs": {"x": {"properties": {"up": {"$ref": "#/$defs/x"}, "b": {"type": "string"}}}}}`, `{"type": "array", "items": {"properties": {"b": {"type": "string"}}}}`} {
		if s := load(t, endless, "", false); !slices.ContainsFunc(s.Record.Names(), func(n string) bool { return n == "b" || strings.HasSuffix(n, ".b") }) || len(s.Record) > 30 {
			t.Errorf("%s: %v", endless, s.Record.Names())
		}
	}
}

// TestViolations: everything that is wrong is told, with the byte at which it stands and a sentence
// that says what to do.
func TestViolations(t *testing.T) {
	for _, test := range []struct{ records, in, want string }{
		{"", `{"order": 7, "station": {"code": "BR", "lat": null}, "specimens": [{"id": "BR-1", "weight": 31.5, "tests": ["WBC", 7, null]}], "note": null}`, ""},
		{"", `{"order": 1e2, "station": {"code": "BR"}, "specimens": [{"id": "BR-1"}]}`, ""},
		{"", `{"order": 0, "x": 1, "specimens": []}`, `1 schema.required | "station is missing" at {; schema.minimum /order "order is 0, the least allowed is 1" at 0; schema.surplus /x "x is not among the members that the schema allows" at 1; schema.items /specimens "specimens has 0 elements, at least 1 are needed" at []`},
		{"", ` {"order": "7", "station": {"code": "é"}, "specimens": [{"id": "x"}], "note": "long, longer, longest"}`, `schema.type /order "order is a text, not a whole number" at "7"; schema.minLength /station/code "station.code has 1 character, at least 2 are needed" at "é"; schema.pattern /specimens/0/id "specimens.0.id does not match ^[A-Z]{2}-[0-9]+$: "x"" at "x"; schema.maxLength /note "note has 21 characters, at most 10 are allowed" at "long, longer, longest"`},
		{"/specimens/*", `{"id": "BR-1", "weight": 450, "tests": ["XRAY", "WBC", "WBC"], "station": "there", "animal": {}}`, `schema.maximum /weight "weight is 450, it must be less than 450" at 450; schema.unique /tests "elements 2 and 3 of tests are the same" at ["XRAY", "WBC", "WBC"]; schema.enum /tests/0 "tests.0 is "XRAY", allowed are "WBC", "HGB", 7, null" at "XRAY"; schema.enum /station "station is "there", allowed is "here"" at "there"; schema.alternative /animal "animal fits none of the 2 forms that the schema allows: animal.tag is missing; or animal.chip is missing" at {}`},
		{"/specimens/*", `{"id": "BR-1", "weight": 1.25, "animal": {"tag": "a", "chip": 1}}`, `schema.multiple /weight "weight is 1.25, it must be a multiple of 0.1" at 1.25; schema.alternative /animal "animal fits several forms of the schema of which it may fit only one" at {"tag": "a", "chip": 1}`},
		{"/specimens/*", `{"id": "BR-1", "weight": 1e99999999}`, `schema.maximum /weight "weight has an exponent of more than 1000, which is not checked against anything" at 1e99999999`},
		{"/specimens/*", `[1]`, `schema.type | "the record is a list, not an object" at [1]`},
		{"/specimens/*", `{"id": "BR-1", "taken": "2026-13-01"}`, `schema.format /taken "taken is not of the format date: "2026-13-01"" at "2026-13-01"`},
	} {
		var got []string
		load(t, order, test.records, true).Check([]byte(test.in), func(v Violation) {
			if v.Path == "" {
				v.Path = "|"
			}
			seen := v.Seen
			if seen == strings.TrimSpace(test.in) && len(seen) > 5 {
				seen = seen[:1]
			}
			got = append(got, fmt.Sprintf("%s %s \"%s\" at %s", v.Code, v.Path, v.Text, seen))
			if rest := test.in[v.At:]; !strings.HasPrefix(rest, v.Seen[:min(len(v.Seen), 20)]) {
				t.Errorf("%s: %d is %.30q", v.Text, v.At, rest)
			}
		}, nil)
		want := strings.Split(strings.TrimPrefix(test.want, "1 "), "; s")
		for i := range want {
			if i > 0 {
				want[i] = "s" + want[i]
			}
		}
		if test.want == "" {
			want = nil
		}
		slices.Sort(got)
		slices.Sort(want)
		if !slices.Equal(got, want) {
			t.Errorf("%s:\n%s\nnot\n%s", test.in, strings.Join(got, "\n"), strings.Join(want, "\n"))
		}
	}
}

// TestSchemasThatCannotBe: what is wrong with a schema is said with its place, and nothing outside of
// the workspace is asked for.
func TestSchemasThatCannotBe(t *testing.T) {
	for source, want := range map[string]string{
		`{"type": "objct"}`: `schema.definition +9 type fits none`, `{"minLength": -1}`: "schema.definition +14 minLength is -1, the least allowed is 0",
		`{"properties": {"a": {"pattern": "(?<=a)b"}}}`: "schema.definition +33 properties.a.pattern is not of the format regex", `{"type": }`: "schema.document +9 the schema is not valid JSON",
		`{"$ref": "#/$defs/none"}`: "schema.definition -1 the schema cannot be used", `{"$ref": "none.json"}`: "schema.reference -1 a reference cannot be followed: there is no file schemas/none.json",
		`{"$ref": "https://elsewhere.example/x.json"}`: "schema.reference -1 a reference cannot be followed: https://elsewhere.example/x.json is not in the workspace",
		`{"$ref": "file:///etc/passwd"}`:               "schema.reference -1 a reference cannot be followed: file:///etc/passwd is not in the workspace", `{"$ref": "../../etc/passwd"}`: "schema.reference -1 a reference cannot be followed: there is no file",
		`{"$id": "https://a.example/s/x.json", "$ref": "https://a.example/other/y.json"}`: "is not in the workspace",
	} {
		s, findings := Load("schemas/x.json", []byte(source), "", true, func(string) ([]byte, bool) { return nil, false })
		if s != nil || len(findings) != 1 {
			t.Errorf("%s: %v", source, findings)
			continue
		}
		f := findings[0]
		if got := fmt.Sprintf("%s %+d %s", f.Code, f.Place.Offset, f.Message); !strings.Contains(got, want) || f.Severity != finding.Error || f.Place.File != "schemas/x.json" {
			t.Errorf("%s: %s, not %s", source, got, want)
		}
	}
	for records, want := range map[string]string{"/none/*": "the schema says nothing of what stands at /none", "/order/*": "at /order/*", "specimens": "begins with a slash"} {
		if s, findings := Load("schemas/order.json", []byte(strings.Replace(order, `"$ref": "parts/station.json"`, `"type": "string"`, 1)), records, false, nil); s != nil || len(findings) != 1 || !strings.Contains(findings[0].Message, want) {
			t.Errorf("%s: %v", records, findings)
		}
	}
	for source, want := range map[string]bool{order: true, `{"type": "object"}`: true, `{"fields": [{"name": "type"}]}`: false, `{"fields": [], "$schema": "x"}`: false, `[]`: false, `{`: false, `{"name": "x"}`: false} {
		if Is([]byte(source)) != want {
			t.Errorf("%.40s: %v", source, !want)
		}
	}
}

// TestOldEditions: exclusiveMinimum is a number since draft-06, and was true or false before.
func TestOldEditions(t *testing.T) {
	for edition, exclusive := range map[string]string{
		"http://json-schema.org/draft-04/schema#": `"minimum": 5, "exclusiveMinimum": true`, "http://json-schema.org/draft-06/schema#": `"exclusiveMinimum": 5`,
		"http://json-schema.org/draft-07/schema#": `"exclusiveMinimum": 5`, "https://json-schema.org/draft/2019-09/schema": `"exclusiveMinimum": 5`, "https://json-schema.org/draft/2020-12/schema": `"exclusiveMinimum": 5`,
	} {
		s := load(t, `{"$schema": "`+edition+`", "properties": {"n": {"type": "number", `+exclusive+`}}}`, "", false)
		for in, valid := range map[string]bool{`{"n": 6}`: true, `{"n": 5}`: false} {
			said := 0
			s.Check([]byte(in), func(Violation) { said++ }, nil)
			if (said == 0) != valid {
				t.Errorf("%s, %s: %d", edition, in, said)
			}
		}
	}
}

func FuzzOffset(f *testing.F) {
	f.Add(`{"a": [1, {"b": "x"}]}`, "a/1/b")
	f.Add(` [ [ ] , { } ]`, "1")
	f.Fuzz(func(t *testing.T, raw, at string) {
		if !json.Valid([]byte(raw)) {
			t.Skip()
		}
		if o := Offset([]byte(raw), strings.Split(at, "/")); o < 0 || o >= len(raw) || strings.IndexByte(" \t\r\n:,", raw[o]) >= 0 {
			t.Errorf("%q at %q: %d", raw, at, o)
		}
	})
}

// FuzzDecode: a value is read as encoding/json reads it.
func FuzzDecode(f *testing.F) {
	for _, s := range []string{`{"a": [1, -2.5e+3, "x\u00e9\ud83e\uddad\n\"\\\/\b", true, false, null, {}, []]}`, ` "\u0000" `, `[ ]`, `{"":{"":0}}`, `0`, `"\ud83e\u0041"`} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, raw string) {
		if !json.Valid([]byte(raw)) || !utf8.ValidString(raw) || strings.Contains(strings.ToLower(raw), `\ud`) && !strings.Contains(raw, `\ud83e\uddad`) {
			t.Skip() // halves of pairs are found before
		}
		d := json.NewDecoder(strings.NewReader(raw))
		d.UseNumber()
		var want any
		if err := d.Decode(&want); err != nil {
			t.Skip()
		}
		got, _, ok := decode([]byte(raw))
		if !ok || !reflect.DeepEqual(got, want) {
			t.Errorf("%q: %#v, not %#v", raw, got, want)
		}
		for cut := range raw {
			decode([]byte(raw[:cut])) // it must end
		}
	})
}

func BenchmarkCheck(b *testing.B) {
	s, findings := Load("schemas/order.json", []byte(strings.Replace(order, `"$ref": "parts/station.json"`, `"type": "object"`, 1)), "", false, nil)
	if s == nil {
		b.Fatal(findings)
	}
	raw := []byte(`{"order": 7, "station": {"code": "BR", "lat": 5.1}, "specimens": [{"id": "BR-1", "weight": 31.5, "tests": ["WBC", 7, null], "animal": {"tag": "T-1"}}, {"id": "BR-2", "taken": "2026-11-20"}], "note": "calm"}`)
	b.SetBytes(int64(len(raw)))
	b.ReportAllocs()
	for b.Loop() {
		s.Check(raw, func(v Violation) { b.Fatal(v.Text) }, nil)
	}
}
