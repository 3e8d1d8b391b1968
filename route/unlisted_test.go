package route

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
)

// TestUnlisted: members that a JSON Schema does not list where it lists others are told of, once for all of a file, at the first; not where the schema
// says whether there may be others, or where something else may list them.
func TestUnlisted(t *testing.T) {
	const order = `"type":"object","properties":{"id":{"type":"integer"},"name":{},"animal":%s,"lines":{"type":"array","items":%s}},"required":["id"]%s`
	const line, animal = `{"type":"object","properties":{"sku":{"type":"string"}}}`, `{"type":"object","properties":{"tag":{"type":"string"}}}`
	for name, test := range map[string]struct {
		schema              string
		top, inAnimal, rows bool // where they are told of
	}{
		"plain":                       {fmt.Sprintf("{"+order+"}", animal, line, ""), true, true, true},
		"by reference":                {fmt.Sprintf(`{"$ref":"#/$defs/o","$defs":{"a":`+animal+`,"o":{`+order+`}}}`, `{"$ref":"#/$defs/a"}`, line, ""), true, true, true},
		"it says that there are":      {fmt.Sprintf("{"+order+"}", animal, line, `,"additionalProperties":true`), false, true, true},
		"it says of what kind":        {fmt.Sprintf("{"+order+"}", strings.TrimSuffix(animal, "}")+`,"additionalProperties":{"type":"integer"}}`, line, ""), true, false, true},
		"by patterns":                 {fmt.Sprintf("{"+order+"}", animal, strings.TrimSuffix(line, "}")+`,"patternProperties":{"^y":{}}}`, ""), true, true, false},
		"of several together":         {fmt.Sprintf(`{"allOf":[{`+order+`},{"properties":{"animal":{"properties":{"sex":{}}}}}]}`, animal, line, ""), false, false, false},
		"of several, inside":          {fmt.Sprintf("{"+order+"}", `{"anyOf":[`+animal+`,{"type":"null"}]}`, line, ""), true, false, true},
		"under a condition":           {fmt.Sprintf("{"+order+"}", animal, line, `,"if":{"required":["x"]},"then":{"properties":{"x":{}}}`), false, false, false},
		"listed in two ways":          {fmt.Sprintf(`{"$defs":{"a":`+animal+`},`+order+`}`, `{"$ref":"#/$defs/a"}`, `{"allOf":[{"$ref":"#/$defs/a"},`+line+`]}`, ""), true, false, false},
		"of draft-07":                 {fmt.Sprintf(`{"$schema":"http://json-schema.org/draft-07/schema#",`+order+`}`, animal, line, ""), true, true, true},
		"that what is left is judged": {fmt.Sprintf("{"+order+"}", animal, line, `,"unevaluatedProperties":true`), false, true, true},
	} {
		c, _ := routed(t, name, map[string]string{
			"routes/r.yaml":  "route: r\nlisten: {folder: \"{in}\"}\nread: {format: json}\ncheck: {schema: schemas/s.json}\nmap: maps/m.map\ndeliver: {folder: \"{out}\", name: \"{file.name}\"}\nrejected: {folder: \"{bad}\"}\n",
			"maps/m.map":     "map m\nsource json schemas/s.json\ntarget csv based on samples/o.csv\nvalue = id\n",
			"samples/o.csv":  "value\n",
			"schemas/s.json": test.schema,
		})
		for seed := range uint64(6) {
			r := rand.New(rand.NewPCG(seed, 4))
			var in strings.Builder
			var want []string
			place := ""
			often := []int{3, 40, 4000}[seed%3]
			member := func(told bool) string {
				if r.IntN(often) > 0 {
					return ""
				}
				name := []string{"x", "nmae", "y1", "a\\u0062c", "ligne"}[r.IntN(5)]
				known := false
				for _, w := range want {
					known = known || w == name
				}
				if told && !known {
					want = append(want, name)
				}
				return `"` + name + `":1,`
			}
			for i := range []int{5, 3000}[seed%2] {
				before := len(want)
				record := `{"$schema":"s.json",` + member(test.top) + fmt.Sprintf(`"id":%d,"animal":{`, i) + member(test.inAnimal) + `"tag":"T-1"},"lines":[{"sku":"A"},{` + member(test.rows) + `"sku":"B"}]}`
				if in.WriteString(record + "\n"); before == 0 && len(want) > 0 {
					place = fmt.Sprintf("%d:%d: ", i+1, strings.Index(record, `"`+want[0]+`"`)+1)
				}
			}
			for _, cores := range []int{1, 3} {
				all, _, _ := runAll(t, c, cores, in.String())
				said := ""
				for _, f := range all.Files[0].Findings {
					if f.Code == "json.member-surplus" {
						said += f.String() + "\n"
					}
				}
				right := said == "" == (len(want) == 0)
				if right && len(want) > 0 {
					quoted := ""
					for i, name := range want {
						if i > 0 {
							quoted += ", "
						}
						quoted += `"` + strings.Replace(name, `\u0062`, "b", 1) + `"`
					}
					right = strings.HasPrefix(said, place) && strings.Contains(said, "came: "+quoted+"; nothing") && strings.Count(said, "json.member-surplus") == 1
				}
				if !right {
					t.Errorf("%s, seed %d, %d cores: %q\nnot %s %q", name, seed, cores, said, place, want)
				}
			}
		}
	}
}
