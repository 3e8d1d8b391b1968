package route

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"

	"ydrion/core/flow"
	"ydrion/workspace"
)

// picking is a condition on a line: as a map says it, and as it is.
type picking struct {
	says  func(own, more string) string
	holds func(own, more *string) bool
}

// randomPicking makes conditions of conditions. Comparisons with what is absent or empty do not hold.
func randomPicking(r *rand.Rand, deep int, empty bool) picking {
	there := func(s *string) bool { return s != nil && (*s != "" || !empty) }
	switch n := r.IntN(7); {
	case n == 0 && deep > 0:
		a, b := randomPicking(r, deep-1, empty), randomPicking(r, deep-1, empty)
		return picking{func(o, m string) string { return "(" + a.says(o, m) + " and " + b.says(o, m) + ")" }, func(o, m *string) bool { return a.holds(o, m) && b.holds(o, m) }}
	case n == 1 && deep > 0:
		a, b := randomPicking(r, deep-1, empty), randomPicking(r, deep-1, empty)
		return picking{func(o, m string) string { return "(" + a.says(o, m) + " or " + b.says(o, m) + ")" }, func(o, m *string) bool { return a.holds(o, m) || b.holds(o, m) }}
	case n == 2 && deep > 0:
		a := randomPicking(r, deep-1, empty)
		return picking{func(o, m string) string { return "not " + a.says(o, m) }, func(o, m *string) bool { return !a.holds(o, m) }}
	case n <= 3:
		return picking{func(o, _ string) string { return "(" + o + " is absent)" }, func(o, _ *string) bool { return !there(o) }}
	case n == 4:
		return picking{func(o, m string) string { return "(" + o + " = " + m + ")" }, func(o, m *string) bool { return there(o) && there(m) && *o == *m && *o != "" }}
	case n == 5:
		return picking{func(_, m string) string { return "(" + m + ` | begins "a")` }, func(_, m *string) bool { return there(m) && strings.HasPrefix(*m, "a") }}
	}
	return picking{func(o, _ string) string { return "((" + o + ` | length) > 2)` }, func(o, _ *string) bool { return there(o) && len([]rune(*o)) > 2 }}
}

// TestRandomMapsWithLists: whatever a map picks, counts, joins and writes of a record's lines is what a plain
// evaluation makes of them.
func TestRandomMapsWithLists(t *testing.T) {
	sample := `{"n":0,"picked":0,"joined":"","first":"","last":"","lines":[{"own":"","more":"","parent":"","place":1,"final":true,"alike":0}]}`
	for seed := range uint64(120) {
		r := rand.New(rand.NewPCG(7, seed))
		from := []string{"json", "hl7"}[seed%2]
		names := map[string][4]string{"json": {"lines", "own", "more", "record.parent"}, "hl7": {"OBX", "OBX-5", "OBX-8", "record.PID-3.1"}}[from]
		list, own, more, parent := names[0], names[1], names[2], names[3]
		some, where := randomPicking(r, 2, from == "hl7"), randomPicking(r, 2, from == "hl7")
		var groups []group
		for range 1 + r.IntN(6) {
			g := group{parents: [2]*string{randomText(r, false), randomText(r, true)}}
			for range r.IntN(5) {
				g.records = append(g.records, [2]*string{randomText(r, true), randomText(r, true)})
			}
			for i := range g.records {
				for k, s := range g.records[i] {
					if s != nil && *s == `""` { // that says null in HL7
						g.records[i][k] = nil
					}
				}
			}
			if *g.parents[0] == `""` {
				*g.parents[0] = "'"
			}
			groups = append(groups, g)
		}
		read, check, source := sources[from].read, "", from
		if from == "json" {
			read, check, source = "format: json\n  record: /groups/*", "check:\n  schema: schemas/s.json\n", "json schemas/s.json"
		} else {
			read = "format: hl7"
		}
		said := fmt.Sprintf("n = %[1]s | count\npicked = (%[1]s where %[5]s) | count\njoined = (%[1]s where not (%[2]s is absent)) | join %[2]s \"+\"\nfirst = %[1]s | first %[2]s\nlast = (%[1]s where %[5]s) | last %[3]s\nrepeat lines for l in %[1]s where %[6]s\n  own = %[2]s\n  more = l.%[3]s when %[5]s, otherwise absent\n  parent = %[4]s\n  place = l.position\n  final = l.last\n  alike = (record.%[1]s where %[5]s) | count\nend\n",
			list, own, more, parent, some.says(own, more), where.says(own, more))
		w := workspace.FromFiles(map[string][]byte{
			"routes/r.yaml":          []byte("route: r\nlisten:\n  folder: \"{in}\"\n  names: \"*\"\nread:\n  " + read + "\n" + check + "map: maps/m.map\ndeliver:\n  name: \"{file.stem}.out\"\n  to:\n    - folder: \"{out}\"\nrejected:\n  folder: \"{out}/rejected\"\n"),
			"maps/m.map":             []byte("map m\nsource " + source + "\ntarget json based on samples/s\n" + said),
			"samples/s":              []byte(sample),
			"schemas/s.json":         []byte(`{"fields":[{"name":"parent"}],"lists":[{"name":"lines","fields":[{"name":"own"},{"name":"more"}]}],"missingValues":["\u0000"]}`),
			"environments/test.yaml": []byte("environment: test\nplaces:\n  in: in\n  out: out\n"),
		})
		c, findings := Compile(w, "r")
		if c == nil {
			t.Fatalf("%v\n%s", findings, said)
		}
		in := sources[from].write(groups)
		o := &output{}
		if _, err := c.Plan.Run(context.Background(), strings.NewReader(in), flow.Inputs{}, o); err != nil {
			t.Fatal(err)
		}
		if len(o.wrong) > 0 { // null in HL7 cannot be said everywhere
			t.Fatalf("seed %d: %v\n%s\n%s", seed, o.wrong, said, in)
		}
		d := json.NewDecoder(strings.NewReader(o.whole(t)))
		for i, g := range groups {
			var got map[string]any
			if err := d.Decode(&got); err != nil {
				t.Fatal(err)
			}
			if want := plainly(g, from == "hl7", some.holds, where.holds); !reflect.DeepEqual(got, want) {
				t.Fatalf("seed %d, record %d:\n%v, not\n%v\n%s\n%s", seed, i+1, got, want, said, in)
			}
		}
		if d.More() {
			t.Errorf("seed %d: there is more than %d records", seed, len(groups))
		}
	}
}

// plainly is what the map of the test makes of a group.
func plainly(g group, empty bool, some, where func(own, more *string) bool) map[string]any {
	out := map[string]any{"n": float64(len(g.records))}
	put := func(o map[string]any, name string, v *string) {
		if v != nil && (*v != "" || !empty) {
			o[name] = *v
		}
	}
	picked, lines := 0, []any{}
	var joined []string
	var last *string
	for i, l := range g.records {
		if some(l[0], l[1]) {
			picked++
			last = l[1]
		}
		if l[0] != nil && (*l[0] != "" || !empty) && *l[0] != "" {
			joined = append(joined, *l[0])
		}
		if i == 0 {
			put(out, "first", l[0])
		}
	}
	for _, l := range g.records {
		if !where(l[0], l[1]) {
			continue
		}
		row := map[string]any{"place": float64(len(lines) + 1), "final": false}
		put(row, "own", l[0])
		put(row, "parent", g.parents[0])
		if some(l[0], l[1]) {
			put(row, "more", l[1])
		}
		lines = append(lines, row)
	}
	for i := range lines {
		lines[i].(map[string]any)["final"] = i == len(lines)-1
		lines[i].(map[string]any)["alike"] = float64(picked)
	}
	put(out, "last", last)
	if joined != nil {
		all := strings.Join(joined, "+")
		out["joined"] = all
	}
	out["picked"], out["lines"] = float64(picked), lines
	return out
}
