package route

import (
	"bytes"
	"cmp"
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	"ydrion/core/flow"
	spilling "ydrion/core/order"
	"ydrion/workspace"
)

// reading is a value of such a file.
type reading struct {
	Pool  string   `json:"pool"`
	At    string   `json:"at"`
	Temp  *float64 `json:"temp"`
	Notes []string `json:"notes"`
	by    string   // what stands around it
	seq   int
}

// TestJSONInAnotherOrder: values of JSON are sorted, and one of each goes on, in all the forms in which they come: held
// against a plain sort, with what stands around them, their places, and lists in them.
func TestJSONInAnotherOrder(t *testing.T) {
	for seed := range uint64(28) {
		r := rand.New(rand.NewPCG(seed, 3))
		form := []string{"list", "lines", "members", "members behind", "lists of lists", "documents", "mixed"}[seed%7]
		mixed := form == "mixed" // nobody has said where the values are: each file has them in another form
		var files []flow.File
		var all []reading
		for k := range 1 + r.IntN(3) {
			if mixed {
				form = []string{"list", "lists", "lines"}[(int(seed)/7+k)%3]
			}
			var here []reading
			for range r.IntN(60) {
				v := reading{Pool: []string{"north", "süd \"1\"", "日"}[r.IntN(3)], At: fmt.Sprintf("2026-11-%02dT%02d:00:00Z", 1+r.IntN(28), r.IntN(24)), by: fmt.Sprintf("logger %d", k), seq: len(all) + len(here)}
				if r.IntN(6) > 0 {
					temp := float64(r.IntN(200)-100) / 4
					v.Temp = &temp
				}
				for n := range r.IntN(3) {
					v.Notes = append(v.Notes, fmt.Sprintf("note %d\n of %d", n, v.seq))
				}
				here = append(here, v)
			}
			text := formed(t, r, form, fmt.Sprintf("logger %d", k), here)
			if form == "lines" || form == "list" || form == "lists" {
				for i := range here {
					here[i].by = ""
				}
			}
			all = append(all, here...)
			files = append(files, flow.File{Name: fmt.Sprintf("f%d.json", k), Size: int64(len(text)), Open: func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(text)), nil }})
		}
		record, by := map[string]string{"members": "/readings/*", "members behind": "/readings/*", "lists of lists": "/pools/*/readings/*", "documents": "/readings/*"}[form], "2/logger"
		if form == "lists of lists" {
			by = "4/logger"
		}
		fields := `{"name": "pool"}, {"name": "at", "type": "datetime"}, {"name": "temp", "type": "number"}, {"name": "seq", "type": "integer"}`
		if record != "" {
			fields += `, {"name": "logger", "path": "` + by + `"}`
		}
		if form == "lists of lists" {
			fields = strings.Replace(fields, `{"name": "pool"}`, `{"name": "pool", "path": "2/pool"}`, 1)
		}
		lines := "pool = pool\nat = at if absent \"\"\ntemp = temp\nseq = seq\nnotes = notes | join value \"/\" if absent \"\"\n"
		if by := "by = \"\"\n"; record != "" {
			lines += "by = logger\n"
		} else {
			lines += by
		}
		c, findings := Compile(workspace.FromFiles(map[string][]byte{
			"routes/r.yaml":  []byte("route: r\nlisten: {folder: \"{in}\"}\nread: {format: json, record: \"" + record + "\"}\ncheck: {schema: schemas/s.json}\nshape:\n  - {one per: [at, pool], keep: last}\n  - {sort: [pool, temp descending]}\nmap: maps/m.map\ndeliver: {folder: \"{out}\", name: \"{file.name}\"}\nrejected: {folder: \"{bad}\"}\n"),
			"schemas/s.json": []byte(`{"fields": [` + fields + `], "lists": [{"name": "notes", "fields": [{"name": "value", "path": "0"}]}]}`),
			"maps/m.map":     []byte("map m\nsource json schemas/s.json\ntarget csv based on samples/m.csv\n\n" + strings.ReplaceAll(lines, "at = at if absent \"\"", "at = at | format \"yyyy-MM-dd HH\"")),
			"samples/m.csv":  []byte("pool,at,temp,seq,notes,by\n"),
		}), "r")
		if c == nil {
			t.Fatal(findings)
		}
		// The plain way: the last of each, sorted stably; what has no number stands first, descending last.
		last := map[string]int{}
		for i, v := range all {
			last[v.At+v.Pool] = i
		}
		var want []reading
		for i, v := range all {
			if last[v.At+v.Pool] == i {
				want = append(want, v)
			}
		}
		slices.SortStableFunc(want, func(a, b reading) int {
			temp := func(v reading) float64 {
				if v.Temp == nil {
					return -1000
				}
				return *v.Temp
			}
			return cmp.Or(strings.Compare(a.Pool, b.Pool), cmp.Compare(temp(b), temp(a)))
		})
		var rows []string
		for _, v := range want {
			temp := ""
			if v.Temp != nil {
				temp = strings.TrimSuffix(fmt.Sprint(*v.Temp), ".0")
			}
			rows = append(rows, fmt.Sprint([]string{v.Pool, strings.Replace(v.At[:13], "T", " ", 1), temp, fmt.Sprint(v.seq), strings.Join(v.Notes, "/"), v.by}))
		}
		for _, memory := range []int{0, 3000} {
			o := &output{}
			result, err := c.Plan.RunAll(context.Background(), files, flow.Inputs{Cores: 1 + int(seed%3), Memory: memory, Spill: func() (spilling.Spill, error) { return os.CreateTemp(t.TempDir(), "") }}, o)
			if err != nil {
				t.Fatal(err)
			}
			var got []string
			read, err := csv.NewReader(strings.NewReader(o.whole(t))).ReadAll()
			if err != nil {
				t.Fatal(err)
			}
			for i, row := range read {
				if i > 0 {
					got = append(got, fmt.Sprint(row))
				}
			}
			if len(o.wrong) > 0 || !slices.Equal(got, rows) {
				t.Fatalf("seed %d, %s, memory %d: %v\n%s\nnot\n%s", seed, form, memory, o.wrong, strings.Join(got, "\n"), strings.Join(rows, "\n"))
			}
			if sum := result.Sum(); sum.In != int64(len(all)) || sum.Good != int64(len(want)) || sum.Filtered != sum.In-sum.Good {
				t.Errorf("seed %d: %s", seed, sum)
			}
		}
	}
}

// formed writes values in one of the forms in which they come.
func formed(t *testing.T, r *rand.Rand, form, logger string, of []reading) string {
	t.Helper()
	say := func(v any) string {
		var b bytes.Buffer
		e := json.NewEncoder(&b)
		if e.SetEscapeHTML(r.IntN(2) == 0); r.IntN(2) == 0 {
			e.SetIndent("", "  ")
		}
		if err := e.Encode(v); err != nil {
			t.Fatal(err)
		}
		return b.String()
	}
	values := []string{}
	for _, v := range of {
		member := map[string]any{"pool": v.Pool, "at": v.At, "temp": v.Temp, "seq": v.seq, "notes": v.Notes}
		if form == "lists of lists" {
			delete(member, "pool")
			values = append(values, `{"pool": `+strings.TrimSpace(say(v.Pool))+`, "readings": [`+say(member)+`]}`)
			continue
		}
		values = append(values, say(member))
	}
	list := "[" + strings.Join(values, ",\n") + "]"
	switch form {
	case "list":
		return list
	case "lines":
		for i, v := range values {
			var b bytes.Buffer
			if err := json.Compact(&b, []byte(v)); err != nil {
				t.Fatal(err)
			}
			values[i] = b.String() + "\n"
		}
		return strings.Join(values, "")
	case "lists": // some on each line
		var b strings.Builder
		for len(values) > 0 {
			n := 1 + r.IntN(len(values))
			var line bytes.Buffer
			if err := json.Compact(&line, []byte("["+strings.Join(values[:n], ",")+"]")); err != nil {
				t.Fatal(err)
			}
			b.WriteString(line.String() + "\n")
			values = values[n:]
		}
		return b.String()
	case "members behind":
		return `{"readings": ` + list + `, "logger": "` + logger + `"}`
	case "lists of lists":
		return `{"logger": "` + logger + `", "pools": ` + list + `}`
	case "documents":
		var b strings.Builder
		for _, v := range values {
			b.WriteString(`{"logger": "` + logger + `", "readings": [` + v + `]}` + "\n")
		}
		return b.String()
	}
	return `{"logger": "` + logger + `", "readings": ` + list + `}`
}

// TestJSONPlacesInAnyOrder: whatever the order, what is wrong is told at the same places of the file, however its lines end and whatever stands around
// the values.
func TestJSONPlacesInAnyOrder(t *testing.T) {
	compiled := func(record, shape string) *Compiled {
		c, findings := Compile(workspace.FromFiles(map[string][]byte{
			"routes/r.yaml":  []byte("route: r\nlisten: {folder: \"{in}\"}\nread: {format: json" + record + "}\ncheck: {schema: schemas/s.json}\n" + shape + "map: maps/m.map\ndeliver: {folder: \"{out}\", name: \"{file.name}\"}\nrejected: {folder: \"{bad}\"}\n"),
			"schemas/s.json": []byte(`{"fields": [{"name": "id"}, {"name": "n", "type": "integer"}, {"name": "note"}]}`),
			"maps/m.map":     []byte("map m\nsource json schemas/s.json\ntarget csv based on samples/m.csv\n\nid = id\nn = n\nignore note\n"),
			"samples/m.csv":  []byte("id,n\n"),
		}), "r")
		if c == nil {
			t.Fatal(findings)
		}
		return c
	}
	told := 0
	for of, record := range map[string]string{"": "", "list": "", "rows": ", record: \"/rows/*\"", "days": ", record: \"/days/*/rows/*\""} {
		inFile, sorted := compiled(record, ""), compiled(record, "shape: [{sort: [n, id]}]\n")
		for seed := range uint64(150) {
			r := rand.New(rand.NewPCG(seed, 4))
			gap := func() string { return []string{"", " ", "\n", "\r\n  ", "\r", "\n\n\t"}[r.IntN(6)] }
			if of == "" { // values on lines of their own
				gap = func() string { return []string{"", " "}[r.IntN(2)] }
			}
			rows := func() string {
				var all []string
				for range r.IntN(6) {
					n := []string{"1", "2", `"x"`, "1.5", "3 3", "tru"}[r.IntN(6)]
					if of != "" && n != "1" { // a document that cannot be followed ends there
						n = []string{"2", `"x"`, "1.5", `"é"`}[r.IntN(4)]
					}
					all = append(all, fmt.Sprintf(`{%s"id":%s"é%d",%s"note":"ü\n[{",%s"n":%s%s%s}`, gap(), gap(), r.IntN(100), gap(), gap(), gap(), n, gap()))
				}
				if of == "" {
					return strings.Join(all, "\n") + "\n"
				}
				return "[" + gap() + strings.Join(all, gap()+","+gap()) + gap() + "]"
			}
			in := rows()
			switch of {
			case "rows":
				in = `{"of":` + gap() + `"ä",` + gap() + `"rows":` + gap() + in + "," + gap() + `"behind": [1]}`
			case "days":
				in = `{"days": [{"rows":` + in + "}," + gap() + `{"day":` + gap() + `2, "rows":` + rows() + "}]}"
			}
			places := func(c *Compiled) (out []string) {
				o := &output{}
				if _, err := c.Plan.Run(context.Background(), strings.NewReader(in), flow.Inputs{Cores: 1}, o); err != nil {
					t.Fatal(err)
				}
				for _, said := range o.wrong {
					out = append(out, regexp.MustCompile(` record [0-9]+`).ReplaceAllString(said, ""))
				}
				slices.Sort(out)
				return out
			}
			want, got := places(inFile), places(sorted)
			if told += len(want); !slices.Equal(got, want) {
				t.Errorf("%s %d: %q\n%q\nnot %q", of, seed, in, got, want)
			}
		}
	}
	if told < 500 {
		t.Errorf("only %d findings", told)
	}
}

// TestJSONOrderPlaces: a value that is wrong is told at its place in the file, and rejected with what stands around it.
func TestJSONOrderPlaces(t *testing.T) {
	const in = "{\"logger\": \"L\", \"readings\": [\n  {\"pool\": \"b\", \"temp\": 1},\n  {\"pool\": \"a\", \"temp\": \"warm\"},\n  {\"pool\": \"a\", \"temp\": 2}]}\n"
	compile := func(schema, steps, rest string) (*Compiled, string) {
		files := map[string][]byte{
			"routes/r.yaml":  []byte("route: r\nlisten: {folder: \"{in}\"}\nread: {format: json, record: \"/readings/*\"}\ncheck: {schema: schemas/s.json}\nshape:\n" + steps + rest + "deliver: {folder: \"{out}\", name: \"{file.name}\"}\nrejected: {folder: \"{bad}\"}\n"),
			"schemas/s.json": []byte(schema),
			"maps/m.map":     []byte("map m\nsource json schemas/s.json\ntarget csv based on samples/m.csv\n\npool = pool\ntemp = temp\n"),
			"samples/m.csv":  []byte("pool,temp\n"),
		}
		c, findings := Compile(workspace.FromFiles(files), "r")
		return c, findings.Error()
	}
	const schema, with = `{"fields": [{"name": "pool"}, {"name": "temp", "type": "number"}]}`, "map: maps/m.map\n"
	c, said := compile(schema, "  - sort: pool\n", with)
	if c == nil {
		t.Fatal(said)
	}
	o := &output{}
	result, err := c.Plan.Run(context.Background(), strings.NewReader(in), flow.Inputs{}, o)
	if err != nil {
		t.Fatal(err)
	}
	if got := o.whole(t); got != "pool,temp\na,2\nb,1\n" || result.Rejected != 1 || len(o.wrong) != 1 || !strings.HasPrefix(o.wrong[0], "3:26 record 1 temp: error: temp is not a number") {
		t.Errorf("%q %+v %s", got, result, o.wrong)
	}
	for _, test := range []struct{ schema, steps, rest, says string }{
		{schema, "  - sort: pool\n", "", "do not go on as they came; give the route a map"},
		{schema, "  - {gather: all, by: pool}\n", with, "only rows of csv can be gathered"},
		{strings.Replace(schema, `{"name": "pool"}`, `{"name": "pool", "path": "0#"}`, 1), "  - sort: temp\n", with, "the field pool is the place of a value in its list"},
		{`{"$schema": "https://json-schema.org/draft/2020-12/schema", "type": "object", "properties": {"readings": {"type": "array", "minItems": 9, "items": {"properties": {"pool": {"type": "string"}, "temp": {"type": "number"}}}}}}`, "  - sort: pool\n", with, "is a JSON Schema, which is about the order and the number of values"},
	} {
		if c, said := compile(test.schema, test.steps, test.rest); c != nil || !strings.Contains(said, test.says) {
			t.Errorf("%s %s: %s", test.steps, test.rest, said)
		}
	}
}
