package route

import (
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
	"testing"

	"ydrion/core/flow"
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
