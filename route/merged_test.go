package route

import (
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"regexp"
	"slices"
	"strings"
	"testing"

	"ydrion/core/batch"
	"ydrion/core/flow"
	"ydrion/core/format"
	"ydrion/core/lang"
	"ydrion/workspace"
)

// TestMergedRowsAreCounted: in = good + rejected + filtered + merged, by file, where in is how many rows each file has and
// what goes on is how many records they become: checked against a plain count of keys.
func TestMergedRowsAreCounted(t *testing.T) {
	for seed := range uint64(20) {
		r := rand.New(rand.NewPCG(seed, 1))
		gather := seed%2 == 0
		files := map[string][]byte{
			"routes/r.yaml":  []byte("route: r\nlisten: {folder: \"{in}\"}\nread: {format: csv}\ncheck: {schema: schemas/s.json}\nshape: [{gather: lines, by: [k]}]\nmap: maps/m.map\ndeliver: {folder: \"{out}\", name: \"{file.name}\"}\nrejected: {folder: \"{bad}\"}\n"),
			"schemas/s.json": []byte(`{"fields": [{"name": "k"}, {"name": "n", "type": "number"}]}`),
			"maps/m.map":     []byte("map m\nsource csv schemas/s.json\ntarget json based on samples/o.json\n\nk = k\nrepeat lines for l in lines\nn = n\nend\nskip when k = \"k3\" because \"no\"\n"),
			"samples/o.json": []byte("{\"k\": \"a\", \"lines\": [{\"n\": 1}]}\n"),
		}
		if !gather {
			files["routes/r.yaml"] = []byte(strings.NewReplacer("shape: [{gather: lines, by: [k]}]\n", "", "{format: csv}", "{format: csv, together: [k]}").Replace(string(files["routes/r.yaml"])))
			files["maps/m.map"] = []byte(strings.Replace(string(files["maps/m.map"]), "for l in lines", "for l in rows", 1))
		}
		c, findings := Compile(workspace.FromFiles(files), "r")
		if c == nil {
			t.Fatal(findings)
		}
		// What each file has, and what is to come of it.
		want := make([]flow.Balance, 1+r.IntN(3))
		if !gather {
			want = want[:1]
		}
		var of []flow.File
		wrong, first := map[string]bool{}, map[string]int{}
		type line struct {
			key  string
			file int
		}
		var lines []line
		for i := range want {
			text := "k,n\n"
			for n := range r.IntN([]int{300, 300, 300, 2}[seed%4]) { // few or none, too
				key := fmt.Sprintf("k%d", r.IntN(40))
				if !gather { // those that are to go on together stand together
					key = fmt.Sprintf("k%d", n/(1+int(seed%5)))
				}
				value := fmt.Sprint(n)
				if r.IntN(40) == 0 {
					value, wrong[key] = "x", true
				}
				text += key + "," + value + "\n"
				lines = append(lines, line{key, i})
				want[i].In++
			}
			of = append(of, flow.File{Name: fmt.Sprint(i), Size: int64(len(text)), Open: func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(text)), nil }})
		}
		for _, l := range lines {
			b := &want[l.file]
			_, came := first[l.key]
			first[l.key] = l.file
			switch {
			case came:
				b.Merged++
			case wrong[l.key]:
				b.Rejected++
			case l.key == "k3":
				b.Filtered++
			default:
				b.Good++
			}
		}
		all, err := c.Plan.RunAll(context.Background(), of, flow.Inputs{Cores: 1 + int(seed%3)}, &output{})
		if err != nil {
			t.Fatal(err)
		}
		for i := range want {
			got := all.Files[i].Balance
			if got.String() != want[i].String() || got.In != got.Good+got.Rejected+got.Filtered+got.Merged {
				t.Errorf("seed %d, file %d: %s, not %s", seed, i, got, want[i])
			}
		}
	}
}

// TestRowsThatDisagree: a record that is made of rows has the values of its first one. Where another row has others in a field
// that is taken of the record, in the map or in a name, that is said at the first such row; not where it has none, or the same
// value in another form, nor of fields that each row is asked for: checked against a plain look at the rows.
func TestRowsThatDisagree(t *testing.T) {
	for seed := range uint64(24) {
		r := rand.New(rand.NewPCG(seed, 2))
		gather := seed%2 == 0
		list, read, step := "rows", "{format: csv, together: [k]}", ""
		if gather {
			list, read, step = "lines", "{format: csv}", "shape: [{gather: lines, by: [k]}]\n"
		}
		m := "map m\nsource csv schemas/s.json\ntarget json based on samples/o.json\n\nk = k\nkg = kg if empty 0\nfirst = LIST | first who\nreject when (LIST once by rank) | count > 9 because \"no\"\nrepeat lines for l in LIST\nn = n\nday = record.day | format \"ISO 8601\"\nend\n"
		c, _ := routed(t, "rows that disagree", map[string]string{
			"routes/r.yaml":  "route: r\nlisten: {folder: \"{in}\"}\nread: " + read + "\ncheck: {schema: schemas/s.json}\n" + step + "map: maps/m.map\ndeliver: {folder: \"{out}\", name: \"{place}-{record}.json\", one file per: record}\nrejected: {folder: \"{bad}\"}\n",
			"schemas/s.json": `{"fields": [{"name": "k"}, {"name": "kg", "type": "number"}, {"name": "who"}, {"name": "n", "type": "number"}, {"name": "day", "type": "date"}, {"name": "place"}, {"name": "rank"}], "missingValues": ["", "-"]}`,
			"maps/m.map":     strings.ReplaceAll(m, "LIST", list),
			"samples/o.json": "{\"k\": \"a\", \"kg\": 1, \"first\": \"\", \"lines\": [{\"n\": 1, \"day\": \"\"}]}\n",
		})
		text, names := "k,kg,who,n,day,place,rank\n", []string{"k", "kg", "who", "n", "day", "place", "rank"}
		some := map[string][]string{"kg": {"1", "1.0", "01", "2", ""}, "who": {"Ada", "Bo", ""}, "n": {"1", "2"}, "day": {"2026-12-01", "2026-12-01", "2026-12-02", ""}, "place": {"Holm", "Holm", "Skerry", "", "-"}, "rank": {"a", "b"}}
		meant := func(name, v string) string { // what two texts that mean the same have in common
			switch {
			case name == "kg" && (v == "1.0" || v == "01"):
				return "1"
			case name == "place" && v == "-":
				return ""
			}
			return v
		}
		firsts, said, rows := map[string]map[string]string{}, map[string]bool{}, map[string]int{}
		var want []string
		for i := range 120 {
			key := fmt.Sprintf("k%02d", i/5)
			if gather {
				key = fmt.Sprintf("k%02d", r.IntN(30))
			}
			row, line := map[string]string{"k": key}, []string{key}
			for _, name := range names[1:] {
				row[name] = some[name][r.IntN(len(some[name]))]
				line = append(line, row[name])
			}
			text += strings.Join(line, ",") + "\n"
			rows[key]++
			if firsts[key] == nil {
				firsts[key] = row
				continue
			}
			for _, name := range []string{"kg", "day", "place"} {
				v, first := meant(name, row[name]), meant(name, firsts[key][name])
				if v != "" && v != first && !said[key+name] {
					said[key+name] = true
					line := fmt.Sprintf("%d %s[%d] %q", i+2, name, rows[key], row[name])
					if first != "" {
						line += fmt.Sprintf(" %q", firsts[key][name])
					}
					want = append(want, line)
				}
			}
		}
		o := &disagreeing{}
		result, err := c.Plan.Run(context.Background(), strings.NewReader(text), flow.Inputs{Facts: lang.Facts{Name: "a"}, Cores: 1 + int(seed%3)}, o)
		if err != nil {
			t.Fatal(err)
		}
		slices.Sort(want)
		slices.Sort(o.said)
		if !slices.Equal(o.said, want) || result.Warnings != int64(len(want)) || result.Rejected != 0 {
			t.Fatalf("seed %d: %d warnings, %d rejected:\n%s\nnot\n%s\nof\n%s", seed, result.Warnings, result.Rejected, strings.Join(o.said, "\n"), strings.Join(want, "\n"), text)
		}
	}
}

// disagreeing takes where rows are said to disagree.
type disagreeing struct {
	opened *flow.Opened
	said   []string
}

func (d *disagreeing) Open(o *flow.Opened) error   { d.opened = o; return nil }
func (d *disagreeing) Broken(*format.Broken) error { return nil }
func (d *disagreeing) Batch(b *batch.Batch) error {
	for i := range b.Records() {
		for _, f := range d.opened.Findings(b, i) {
			d.said = append(d.said, fmt.Sprintf("%d %s %s", f.Place.Line, f.Place.Path, strings.Join(quoted.FindAllString(f.Message, -1), " ")))
		}
	}
	return nil
}

var quoted = regexp.MustCompile(`"[^"]*"`)
