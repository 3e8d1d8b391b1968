package route

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"ydrion/core/flow"
)

// TestAroundRecords: what a JSON Schema says of what holds the records counts, too, wherever it
// stands: of a document that is read record by record, of each of several, and of elements in it. It is
// wrong with all records in it, and with nobody else's.
func TestAroundRecords(t *testing.T) {
	const schema = `{"$schema": "https://json-schema.org/draft/2020-12/schema", "type": "object", "required": ["station", "week"], "additionalProperties": false, "properties": {
 "station": {"type": "string", "minLength": 2}, "week": {"type": "integer"}, "seals": {"type": "array", "minItems": 1, "maxItems": 3, "items": {
  "type": "object", "required": ["tag"], "properties": {"tag": {"type": "string"}, "kg": {"type": "number"}, "tests": {"type": "array", "minItems": 1, "items": {"type": "object", "required": ["code"], "properties": {"code": {"type": "string"}}}}}}}}}`
	const seals, tests = "format: json, record: /seals/*", "format: json, record: /seals/*/tests/*"
	for name, test := range map[string]struct{ read, in, want string }{
		"right":             {seals, `{"station": "Holm", "week": 48, "seals": [{"tag": "a"}, {"tag": "b"}]}`, "a b"},
		"before the list":   {seals, "{\"station\": 5,\n \"week\": 48, \"seals\": [{\"tag\": \"a\"}]}", `a | 1:13 /station station is a number, not a text`},
		"behind the list":   {seals, "{\"week\": 48, \"seals\": [{\"tag\": \"a\"}],\n \"station\" : \"x\" }", `; station has 1 character, at least 2 are needed`},
		"not there":         {seals, `{"seals": [{"tag": "a"}, {"kg": 1}], "week": 1.5}`, `; station is missing ; week is a number, not a whole number ; station is missing`},
		"surplus":           {seals, "{\"station\": \"Holm\", \"week\": 48, \"seals\": [{\"tag\": \"a\"}],\n \"by\" : 1}", `a | 2:9 /by by is not among the members that the schema allows`},
		"too many":          {seals, `{"station": "Holm", "week": 48, "seals": [{"tag": "a"}, {"tag": "b"}, {"tag": "c"}, {"tag": "d"}]}`, `a b c d | 1:42 /seals seals has 4 elements, at most 3 are allowed`},
		"none":              {seals, `{"station": "Holm", "week": 48, "seals": []}`, `| 1:42 /seals seals has 0 elements, at least 1 are needed`},
		"a document a line": {seals, "{\"station\": \"Holm\", \"week\": 48, \"seals\": [{\"tag\": \"a\"}]}\n{\"station\": \"Holm\", \"seals\": [{\"tag\": \"b\"}, {\"tag\": \"c\"}]}\n{\"station\": \"\", \"week\": 1, \"seals\": []}\n{\"station\": \"Holm\", \"week\": 1, \"seals\": [{\"tag\": \"d\"}]}", `a d ; week is missing ; week is missing ; station has 0 characters, at least 2 are needed ; seals has 0 elements, at least 1 are needed`},
		"elements in it":    {tests, "{\"station\": \"Holm\", \"week\": 48, \"seals\": [{\"tag\": \"a\", \"tests\": [{\"code\": \"x\"}, {\"code\": 1}]}, {\"tests\": [{\"code\": \"y\"}, {\"code\": \"z\"}], \"kg\": \"1\"}, {\"tag\": \"c\", \"tests\": []}]}", `x ; code is a number, not a text ; tag is missing ; kg is a text, not a number ; tag is missing ; tests has 0 elements, at least 1 are needed`},
		"more around them":  {tests, "{\"seals\": [{\"tag\": \"a\", \"tests\": [{\"code\": \"x\"}]}], \"week\": 48, \"station\": 1}", `; station is a number, not a text`},
	} {
		line := "a = tag"
		if test.read == tests {
			line = "a = code"
		}
		for _, cores := range []int{1, 4} {
			c, said := compiled(t, test.read, schema, line, "a", "")
			if c == nil || len(said) > 0 {
				t.Fatalf("%s: %v", name, said)
			}
			o := &output{}
			result, err := c.Plan.Run(context.Background(), strings.NewReader(test.in), flow.Inputs{Cores: cores}, o)
			if err != nil {
				t.Fatal(err)
			}
			got := strings.Fields(strings.TrimPrefix(o.whole(t), "a\n"))
			for _, one := range o.wrong {
				_, one, _ = strings.Cut(one, "error: ")
				one, _, _ = strings.Cut(one, " [")
				got = append(got, "; "+one)
			}
			for _, f := range result.Findings {
				got = append(got, fmt.Sprintf("| %d:%d %s %s", f.Place.Line, f.Place.Column, f.Place.Path, f.Message))
			}
			if all := strings.Join(got, " "); all != test.want || result.Disagrees != strings.Contains(test.want, "|") {
				t.Errorf("%s, %d cores: %s\nnot %s", name, cores, all, test.want)
			}
		}
	}
}

// TestUncheckedIsSaid: what cannot be checked against records one after the other is a warning of the
// check, and a rule that would turn around without it is not applied by half.
func TestUncheckedIsSaid(t *testing.T) {
	for rules, want := range map[string]string{
		`"properties": {"seals": {"uniqueItems": true, "items": {"properties": {"tag": {}}}}}`:                                                               "uniqueItems at /seals",
		`"properties": {"seals": {"items": {"properties": {"tag": {}}}, "contains": {"required": ["kg"]}}}`:                                                  "contains at /seals",
		`"properties": {"seals": {"items": {"properties": {"tag": {}}}}}, "not": {"properties": {"seals": {"items": {"required": ["kg"]}}}}`:                 "not at /seals",
		`"properties": {"seals": {"items": {"properties": {"tag": {}}}}}, "if": {"properties": {"seals": {"items": {"required": ["kg"]}}}}, "then": false`:   "if at /seals",
		`"properties": {"seals": {"items": {"properties": {"tag": {}}}}}, "anyOf": [{"properties": {"seals": {"items": {"required": ["kg"]}}}}, {}]`:         "what alternatives and conditions say of each record",
		`"properties": {"seals": {"items": {"properties": {"tag": {}}, "anyOf": [{"required": ["tag"]}, {"required": ["kg"]}]}}}, "allOf": [{"not": false}]`: "",
	} {
		c, said := compiled(t, "format: json, record: /seals/*", `{"type": "object", `+rules+`}`, "a = tag", "a", "")
		if c == nil || want == "" && len(said) > 0 || want != "" && (len(said) != 1 || !strings.Contains(said[0], want) || !strings.Contains(said[0], "[schema.unchecked]")) {
			t.Errorf("%s: %v", rules, said)
			continue
		}
		o := &output{}
		if r, err := c.Plan.Run(context.Background(), strings.NewReader(`{"seals": [{"tag": "a"}, {"tag": "b"}]}`), flow.Inputs{}, o); err != nil || r.Disagrees || r.Good != 2 {
			t.Errorf("%s: %+v %v", rules, r, err)
		}
	}
}
