package jsonschema

import (
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	js "github.com/santhosh-tekuri/jsonschema/v6"
)

// random makes schemas and values that have something to do with each other.
type random struct{ *rand.Rand }

func (r random) of(all ...string) string { return all[r.IntN(len(all))] }

// value is JSON text.
func (r random) value(depth int) string {
	k := r.IntN(9)
	if depth > 3 {
		k = r.IntN(6)
	}
	switch k {
	case 0:
		return r.of("0", "1", "2", "3", "-1", "1.0", "1.5", "-0", "0.10", "10", "2.50", "1e2", "12345678901234567890123", "0.1", "1E-2", "100", "1.5e1", "15e-1", "0e0", "-2.50E+0001", "1e1001", "1e-0999")
	case 1:
		return r.of("true", "false", "null")
	case 2, 3, 4, 5:
		return `"` + r.of("", "a", "ab", "abc", "GS", "x-1", "é", `\u0061`, `a\"b`, `\ud83e\uddad`, "2026-11-23", "2026-13-01", "seal@skerry.example", "long enough to be long") + `"`
	case 6:
		var all []string
		for range r.IntN(4) {
			all = append(all, r.value(depth+1))
		}
		return "[" + strings.Join(all, r.of(",", " , ")) + "]"
	}
	var all []string
	for _, name := range []string{"a", "b", "c", "id", `\u0061x`, "x-1"} {
		if r.IntN(2) == 0 {
			all = append(all, fmt.Sprintf(`"%s"%s%s`, name, r.of(":", ": ", " :\n"), r.value(depth+1)))
		}
	}
	return "{" + strings.Join(all, r.of(",", ", ")) + "}"
}

// schema has some keywords of all kinds.
func (r random) schema(depth int) string {
	if depth > 3 || r.IntN(12) == 0 {
		return r.of("true", "false", "{}", `{"type":"string"}`, `{"type":["integer","null"]}`, `{"type":"number"}`)
	}
	below := func() string { return r.schema(depth + 1) }
	some := func() string {
		all := []string{below()}
		for range r.IntN(3) {
			all = append(all, below())
		}
		return "[" + strings.Join(all, ",") + "]"
	}
	number := func() string { return r.of("0", "1", "2", "1.5", "0.1", "10", "-1", "2.5e1", "3") }
	count := func() string { return r.of("0", "1", "2", "3") }
	keywords := []func() string{
		func() string {
			return `"type":"` + r.of("string", "number", "integer", "object", "array", "null", "boolean") + `"`
		},
		func() string {
			return `"type":["` + r.of("string", "number", "object") + `","` + r.of("integer", "array", "null") + `"]`
		},
		func() string { return `"enum":[` + r.value(2) + "," + r.value(3) + "," + r.value(3) + "]" },
		func() string { return `"const":` + r.value(3) },
		func() string { return `"minimum":` + number() },
		func() string { return `"maximum":` + number() },
		func() string { return `"multipleOf":` + r.of("1", "0.1", "2", "0.25", "3") },
		func() string { return `"minLength":` + count() },
		func() string { return `"maxLength":` + count() },
		func() string { return `"pattern":"` + r.of("^a", "b$", "^.$", "[0-9]", "^$") + `"` },
		func() string { return `"format":"` + r.of("date", "email", "uuid", "regex") + `"` },
		func() string { return `"required":["` + r.of("a", "id") + `","` + r.of("b", "c") + `"]` },
		func() string { return `"properties":{"a":` + below() + `,"id":` + below() + `,"ax":` + below() + "}" },
		func() string { return `"properties":{"b":` + below() + "}" },
		func() string { return `"patternProperties":{"` + r.of("^a", "b", "-", "^$") + `":` + below() + "}" },
		func() string { return `"additionalProperties":` + below() },
		func() string { return `"additionalProperties":false` },
		func() string { return `"propertyNames":` + r.of(below(), `{"maxLength":1}`, `{"pattern":"^[a-z]+$"}`) },
		func() string { return `"minProperties":` + count() },
		func() string { return `"maxProperties":` + count() },
		func() string { return `"minItems":` + count() },
		func() string { return `"maxItems":` + count() },
		func() string { return `"uniqueItems":true` },
		func() string { return `"items":` + below() },
		func() string { return `"contains":` + below() },
		func() string { return `"minContains":` + count() },
		func() string { return `"maxContains":` + count() },
		func() string { return `"allOf":` + some() },
		func() string { return `"anyOf":` + some() },
		func() string { return `"oneOf":` + some() },
		func() string { return `"not":` + below() },
		func() string { return `"if":` + below() + `,"then":` + below() + `,"else":` + below() },
		func() string { return `"$ref":"` + r.of("#", "#/definitions/x", "#/definitions/y") + `"` },
		func() string { return `"dependencies":{"a":["b"],"id":` + below() + `}` },
		func() string { return `"dependentRequired":{"` + r.of("a", "ax") + `":["b","id"],"c":["a"]}` },
		func() string { return `"dependentSchemas":{"` + r.of("a", "b", "ax") + `":` + below() + `}` },
		func() string { return `"unevaluatedProperties":false` },
	}
	var all []string
	named := map[string]bool{}
	for range 1 + r.IntN(4) {
		k := keywords[r.IntN(len(keywords))]()
		if name, _, _ := strings.Cut(k, ":"); !named[name] {
			named[name] = true
			all = append(all, k)
		}
	}
	if depth == 0 {
		all = append(all, `"definitions":{"x":`+below()+`,"y":`+below()+"}")
	}
	return "{" + strings.Join(all, ",") + "}"
}

// TestProofs: what a proof says of a value is what the library says, in all editions and for rules and values at random; what
// it does not know, it does not say.
func TestProofs(t *testing.T) {
	r := random{rand.New(rand.NewPCG(3, 5))}
	told := map[verdict]int{}
	for range 8_000 {
		draft := []*js.Draft{js.Draft4, js.Draft6, js.Draft7, js.Draft2019, js.Draft2020}[r.IntN(5)]
		source := r.schema(0)
		root, _ := compile("x.json", []byte(source), r.IntN(2) == 0, &loader{}, draft)
		if root == nil {
			continue
		}
		of := newRuled([]*js.Schema{root})
		for range 15 {
			raw := []byte(r.value(0))
			v, _ := of.verdict(raw, nil)
			if told[v]++; v == open {
				continue
			}
			value, _, ok := decode(raw)
			var wrong *js.ValidationError
			if is := !errors.As(root.Validate(value), &wrong); !ok || !json.Valid(raw) || is != (v == fits) {
				t.Fatalf("%s, %s: fits is %v, and a proof says %v (%v)", source, raw, is, v == fits, wrong)
			}
		}
	}
	t.Log(told)
	for _, v := range []verdict{fits, fails} {
		if told[v] < 15_000 {
			t.Errorf("only %v were told", told)
		}
	}
}

// TestAlternativesWithin: alternatives within alternatives, which would be gone through again and again, end.
func TestAlternativesWithin(t *testing.T) {
	const source = `{"$ref":"#/$defs/n","$defs":{"n":{"$dynamicAnchor":"n","anyOf":[{"type":"object","properties":{"n":{"$ref":"#/$defs/n"},"z":{"type":"null"}}},{"type":"object","properties":{"n":{"$ref":"#/$defs/n"}}}]}}}`
	for _, more := range []string{"", `"unevaluatedItems":true,`, "$dynamicRef"} {
		schema := strings.Replace(source, "{", "{"+more, 1)
		if more == "$dynamicRef" {
			schema = strings.ReplaceAll(source, `"$ref":"#/$defs/n"`, `"$dynamicRef":"#n"`)
		}
		s, findings := Load("x.json", []byte(schema), "", false, nil)
		if findings.HasErrors() {
			t.Fatal(findings)
		}
		for depth, want := range map[int]bool{4: false, 60: true, 450: true} {
			var said []string
			// What does not fit is found at once by who stops there; the library does not.
			s.Check([]byte(strings.Repeat(`{"z":0,"n":`, depth)+`5`+strings.Repeat(`}`, depth)), func(v Violation) { said = append(said, v.Text) }, nil)
			if bounded := len(said) == 1 && strings.Contains(said[0], "within alternatives"); bounded != want || !bounded && len(said) == 0 {
				t.Errorf("%s%d deep, and wrong: %q", more, depth, said)
			}
			said = nil
			s.Check([]byte(strings.Repeat(`{"n":`, depth)+`{"z":1}`+strings.Repeat(`,"z":0}`, depth)), func(v Violation) { said = append(said, v.Text) }, nil)
			if bounded := len(said) == 1 && strings.Contains(said[0], "within alternatives"); bounded != want || !bounded && len(said) > 0 {
				t.Errorf("%s%d deep: %q", more, depth, said)
			}
		}
	}
}
