package route

import (
	"cmp"
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/flow"
	spilling "ydrion/core/order"
	"ydrion/workspace"
)

// shaped is a route whose rows are put into order.
func shaped(t *testing.T, read, steps, rest string) (*Compiled, string) {
	t.Helper()
	c, findings := Compile(workspace.FromFiles(map[string][]byte{
		"routes/r.yaml":       []byte("route: r\nlisten: {folder: \"{in}\"}\nread: {" + read + "}\ncheck: {schema: schemas/s.json}\nshape:\n" + steps + rest + "deliver: {folder: \"{out}\", name: \"{file.name}\"}\nrejected: {folder: \"{out}/rejected\"}\n"),
		"schemas/s.json":      []byte(`{"fields": [{"name": "station"}, {"name": "tag", "constraints": {"pattern": "T-[0-9]+"}}, {"name": "kg", "type": "number"}, {"name": "note"}]}`),
		"maps/m.map":          []byte("map m\nsource csv schemas/s.json\ntarget json based on samples/s.json\n\nstation = station\nrepeat animals for a in animals\n  tag = a.tag\n  kg = a.kg\n  note = a.note\nend\n"),
		"samples/s.json":      []byte(`{"station":"","animals":[{"tag":"","kg":0,"note":""}]}`),
		"environments/t.yaml": []byte("environment: t\nplaces: {in: in, out: out}\n"),
	}), "r")
	if c == nil {
		return nil, fmt.Sprint([]finding.Finding(findings))
	}
	return c, ""
}

// seal is a row of such a file.
type seal struct {
	station, tag, kg, note string
	line                   int
}

func (s *seal) wrong() bool {
	_, err := strconv.ParseFloat(s.kg, 64)
	return s.tag == "wrong" || err != nil
}

// row writes it, with quotes where it needs them.
func (s *seal) row() string {
	var b strings.Builder
	w := csv.NewWriter(&b)
	w.Write([]string{s.station, s.tag, s.kg, s.note}) //nolint: a builder takes everything
	w.Flush()
	return b.String()
}

// manySeals makes rows up: with line breaks in quotes, some of them wrong, few different tags and weights.
func manySeals(r *rand.Rand, n int) (rows []seal, file string) {
	var b strings.Builder
	b.WriteString("station,tag,kg,note\n")
	line := 2
	for range n {
		s := seal{fmt.Sprintf("S%d", r.IntN(7)), fmt.Sprintf("T-%d", r.IntN(n/2+1)), []string{"1", "1.0", "9", "10", "-3.5", "100", "0.25"}[r.IntN(7)], []string{"", "a \"b\"", "two\nlines", "x,y", "é日"}[r.IntN(5)], line}
		switch r.IntN(20) {
		case 0:
			s.tag = "wrong"
		case 1:
			s.kg = "heavy"
		}
		if r.IntN(15) == 0 {
			b.WriteString("\n") // lines that are no rows
			s.line++
		}
		b.WriteString(s.row())
		line = s.line + strings.Count(s.row(), "\n")
		rows = append(rows, s)
	}
	return rows, strings.TrimSuffix(b.String(), "\n")
}

// TestShapes checks rows that are sorted, chosen and gathered against a plain sort of them: with any memory and on any
// number of cores the same rows come, in the same order, and findings stand at their lines in the file.
func TestShapes(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 9))
	byStation := func(a, b seal) int { return strings.Compare(a.station, b.station) }
	byWeight := func(a, b seal) int {
		x, errX := strconv.ParseFloat(a.kg, 64)
		y, errY := strconv.ParseFloat(b.kg, 64)
		if errX != nil || errY != nil {
			return cmp.Compare(fmt.Sprint(errX != nil), fmt.Sprint(errY != nil))
		}
		return cmp.Compare(x, y)
	}
	one := func(rows []seal, last bool) []seal {
		rows = slices.Clone(rows)
		if last {
			slices.Reverse(rows)
		}
		came := map[string]bool{}
		rows = slices.DeleteFunc(rows, func(s seal) bool {
			again := came[s.tag] && !s.wrong()
			came[s.tag] = came[s.tag] || !s.wrong()
			return again
		})
		if last {
			slices.Reverse(rows)
		}
		return rows
	}
	for _, test := range []struct {
		steps string
		plain func([]seal) []seal
		map_  bool
	}{
		{"  - sort: station\n", func(s []seal) []seal { slices.SortStableFunc(s, byStation); return s }, false},
		{"  - sort: [station descending, kg]\n", func(s []seal) []seal {
			slices.SortStableFunc(s, func(a, b seal) int { return cmp.Or(byStation(b, a), byWeight(a, b)) })
			return s
		}, false},
		{"  - one per: tag\n", func(s []seal) []seal { return one(s, false) }, false},
		{"  - one per: [tag]\n    keep: last\n  - sort: kg descending\n", func(s []seal) []seal {
			s = one(s, true)
			slices.SortStableFunc(s, func(a, b seal) int { return byWeight(b, a) })
			return s
		}, false},
		{"  - gather: animals\n    by: station\n    sort: [kg, tag]\n", func(s []seal) []seal {
			slices.SortStableFunc(s, func(a, b seal) int {
				return cmp.Or(byStation(a, b), byWeight(a, b), strings.Compare(a.tag, b.tag))
			})
			return s
		}, true},
		{"  - one per: tag\n  - gather: animals\n    by: station\n", func(s []seal) []seal { s = one(s, false); slices.SortStableFunc(s, byStation); return s }, true},
	} {
		for _, n := range []int{0, 1, 30, 4000} {
			rows, file := manySeals(r, n)
			if test.map_ { // a wrong row rejects all that it is put together with
				for i := range rows {
					if rows[i].station != "S1" && rows[i].wrong() {
						rows[i].tag, rows[i].kg = "T-1", "1"
					}
				}
				file = "station,tag,kg,note\n"
				for i := range rows {
					rows[i].line = 1 + strings.Count(file, "\n")
					file += rows[i].row()
				}
			}
			want := test.plain(slices.Clone(rows))
			rest := ""
			if test.map_ {
				rest = "map: maps/m.map\n"
			}
			c, wrong := shaped(t, "format: csv", test.steps, rest)
			if c == nil {
				t.Fatal(wrong)
			}
			for _, memory := range []int{0, 2000} {
				for _, cores := range []int{1, 3} {
					o := &output{}
					result, err := c.Plan.Run(context.Background(), strings.NewReader(file), flow.Inputs{Cores: cores, Memory: memory, Spill: func() (spilling.Spill, error) { return os.CreateTemp(t.TempDir(), "") }}, o)
					if err != nil {
						t.Fatal(err)
					}
					got, lines := o.whole(t), []string{}
					for _, w := range o.wrong {
						lines = append(lines, strings.Split(w, ":")[0])
					}
					if test.map_ {
						gatheredAs(t, want, got, lines)
					} else {
						sortedAs(t, want, got, lines)
					}
					if left := int64(len(rows) - len(want)); result.In != result.Good+result.Rejected+result.Filtered+result.Merged || result.In != int64(len(rows)) || result.Filtered != left || (left > 0) != strings.Contains(fmt.Sprint([]finding.Finding(result.Findings)), "shape.one-per") {
						t.Errorf("%s: %+v, %d were to be left out", test.steps, result, left)
					}
					if t.Failed() {
						t.Fatalf("%s %d rows, %d cores, memory %d", test.steps, n, cores, memory)
					}
				}
			}
		}
	}
}

// sortedAs checks rows as they came against those that must come.
func sortedAs(t *testing.T, want []seal, got string, lines []string) {
	t.Helper()
	var must [][]string
	var wrong []string
	for _, s := range want {
		if s.wrong() {
			wrong = append(wrong, fmt.Sprint(s.line))
		} else {
			must = append(must, []string{s.station, s.tag, s.kg, s.note})
		}
	}
	in := csv.NewReader(strings.NewReader(got))
	is, err := in.ReadAll()
	if err != nil || len(is) > 0 && fmt.Sprint(is[1:]) != fmt.Sprint(must) || len(is) == 0 && len(must) > 0 {
		t.Errorf("%v: %d rows, not %d, or in another order", err, len(is)-1, len(must))
	}
	lines = slices.Compact(lines)
	if fmt.Sprint(lines) != fmt.Sprint(wrong) {
		t.Errorf("findings stand in lines %v, not %v", lines, wrong)
	}
}

// gatheredAs checks objects against the rows that must be in them.
func gatheredAs(t *testing.T, want []seal, got string, lines []string) {
	t.Helper()
	spoiled := slices.ContainsFunc(want, func(s seal) bool { return s.wrong() })
	type animal struct {
		Tag, Note string
		Kg        json.Number
	}
	type gathered struct {
		Station string
		Animals []animal
	}
	var must, is []gathered
	var wrong []string
	for _, s := range want {
		if s.wrong() {
			wrong = append(wrong, fmt.Sprint(s.line))
		}
		if spoiled && s.station == "S1" {
			continue
		}
		if n := len(must); n == 0 || must[n-1].Station != s.station {
			must = append(must, gathered{Station: s.station})
		}
		last := &must[len(must)-1]
		last.Animals = append(last.Animals, animal{s.tag, s.note, json.Number(s.kg)})
	}
	for line := range strings.Lines(got) {
		var one gathered
		if err := json.Unmarshal([]byte(line), &one); err != nil {
			t.Fatal(err)
		}
		is = append(is, one)
	}
	if fmt.Sprint(is) != fmt.Sprint(must) {
		t.Errorf("%d objects, not %d, or others", len(is), len(must))
	}
	slices.Sort(lines)
	slices.Sort(wrong)
	if lines = slices.Compact(lines); fmt.Sprint(lines) != fmt.Sprint(wrong) {
		t.Errorf("findings stand in lines %v, not %v", lines, wrong)
	}
}

// TestShapesOfOddFiles: a total in the footer counts the rows of the file; what follows a quote that is never closed is
// rejected behind the others; rows end as they came.
func TestShapesOfOddFiles(t *testing.T) {
	for _, test := range []struct{ read, steps, file, want, wrong string }{
		{"format: csv, footer: 1, total: \"^TOTAL ([0-9]+)\"", "  - sort: tag descending\n", "station,tag,kg,note\r\nA,T-1,1,\r\nB,T-2,2,\r\nTOTAL 2\r\n", "station,tag,kg,note\r\nB,T-2,2,\r\nA,T-1,1,\r\nTOTAL 2\r\n", ""},
		{"format: csv, footer: 1, total: \"^TOTAL ([0-9]+)\"", "  - one per: station\n", "station,tag,kg,note\nA,T-1,1,\nA,T-2,2,\nTOTAL 2\n", "station,tag,kg,note\nA,T-1,1,\nTOTAL 1\n", "1 record was left out"},
		{"format: csv, footer: 1, total: \"^TOTAL ([0-9]+)\"", "  - sort: tag\n", "station,tag,kg,note\nA,T-2,1,\nA,T-1,2,\nTOTAL 3\n", "", "the footer says 3 rows, but 2 came"},
		{"format: csv", "  - sort: tag\n", "station,tag,kg,note\nA,T-2,1,\nA,T-1,2,\nA,T-3,3,\"open\n", "station,tag,kg,note\nA,T-1,2,\nA,T-2,1,\n", "4:9"},
		{"format: csv, delimiter: \";\", comment: \"#\", encoding: utf-16", "  - sort: tag\n", "station;tag;kg;note\n# none\nA;T-2;1;\nA;T-1;2;", "station;tag;kg;note\nA;T-1;2;\nA;T-2;1;\n", ""},
		{"format: csv", "  - sort: tag\n", "station,tag,kg,note\nA,T-2,1,,\nA,T-1,2,\nA\n", "station,tag,kg,note\nA,T-1,2,\n", "4:"},
		{"format: csv", "  - sort: tag\n", "station,tag,kg,note\rA,T-2,1,\rA,T-1,2,", "station,tag,kg,note\rA,T-1,2,\rA,T-2,1,\r", ""},
		{"format: csv", "  - sort: tag\n", "station,tag,kg,note\r\nA,T-2,1,\r\nA,T-1,2,", "station,tag,kg,note\r\nA,T-1,2,\r\nA,T-2,1,\r\n", ""},
		{"format: csv", "  - sort: tag\n", "station,tag,kg,note\n", "", ""},
		{"format: csv", "  - sort: tag\n", "", "", "0 bytes"},
	} {
		c, wrong := shaped(t, test.read, test.steps, "")
		if c == nil {
			t.Fatal(wrong)
		}
		in := test.file
		if strings.Contains(test.read, "utf-16") {
			in = "\xfe\xff" + strings.Join(strings.Split("\x00"+strings.Join(strings.Split(in, ""), "\x00"), ""), "")
		}
		o := &output{}
		result, err := c.Plan.Run(context.Background(), strings.NewReader(in), flow.Inputs{Cores: 1}, o)
		if err != nil {
			t.Fatal(err)
		}
		got := ""
		if o.opened != nil && !result.Disagrees {
			got = o.whole(t)
		}
		if strings.Contains(test.read, "utf-16") {
			got = strings.ReplaceAll(strings.TrimPrefix(got, "\xfe\xff"), "\x00", "")
		}
		said := fmt.Sprint([]finding.Finding(result.Findings), o.wrong)
		if got != test.want || !strings.Contains(said, test.wrong) {
			t.Errorf("%s %s %q: %q, not %q; %s", test.read, test.steps, test.file, got, test.want, said)
		}
	}
}

// TestShapesThatAreWrong: each is refused with what to do.
func TestShapesThatAreWrong(t *testing.T) {
	for _, test := range []struct{ read, steps, says string }{
		{"format: csv", "  - sort: tagg\n", "was tag meant?"},
		{"format: csv", "  - gather: animals\n", "by is missing"},
		{"format: csv", "  - gather: a b\n    by: tag\n", "a word of letters"},
		{"format: csv", "  - sort: tag\n  - sort: kg\n", "records are sorted once"},
		{"format: csv", "  - sort: tag\n  - one per: kg\n", "stands once, before"},
		{"format: csv", "  - one per: kg\n    keep: middle\n", "it can be first or last"},
		{"format: csv", "  - order: kg\n", "a step of the shape is"},
		{"format: csv, together: [tag]", "  - sort: kg\n", "read.together"},
		{"format: csv, together: [tag]", "  - gather: rows\n    by: kg\n", "leave that out, and gather"},
		{"format: json", "  - sort: kg\n", "values of json that are put into another order do not go on as they came"},
		{"format: csv", "  - gather: animals\n    by: tag descending\n", "leave `descending` out"},
		{"format: csv", "  - gather: animals\n    by: tag\n", "the route puts rows together"},
	} {
		w := workspace.FromFiles(map[string][]byte{
			"routes/r.yaml":  []byte("route: r\nlisten: {folder: in}\nread: {" + test.read + "}\ncheck: {schema: schemas/s.json}\nshape:\n" + test.steps + "deliver: {folder: out, name: \"{file.name}\"}\nrejected: {folder: rejected}\n"),
			"schemas/s.json": []byte(`{"fields": [{"name": "tag"}, {"name": "kg", "type": "number"}]}`),
		})
		said := fmt.Sprint([]finding.Finding(w.Findings))
		if w.Routes["r"] != nil {
			c, findings := Compile(w, "r")
			if said = fmt.Sprint([]finding.Finding(findings)); c != nil {
				t.Errorf("%s compiles", test.steps)
			}
		}
		if !strings.Contains(said, test.says) {
			t.Errorf("%s: does not say %q but %s", test.steps, test.says, said)
		}
	}
}

// TestNumbersOfValues: an output of a value has the number that the value was given when it came first, whichever core
// its first good record is worked on by. Here the first records of each value make nothing.
func TestNumbersOfValues(t *testing.T) {
	c, findings := Compile(workspace.FromFiles(map[string][]byte{
		"routes/r.yaml":       []byte("route: r\nlisten: {folder: \"{in}\"}\nread: {format: csv}\ncheck: {schema: schemas/s.json}\nmap: maps/m.map\ndeliver: {folder: \"{out}\", name: \"{sequence}.json\", one file per: \"{station}\"}\nrejected: {folder: \"{out}/rejected\"}\n"),
		"schemas/s.json":      []byte(`{"fields": [{"name": "station"}, {"name": "tag"}]}`),
		"maps/m.map":          []byte("map m\nsource csv schemas/s.json\ntarget json based on samples/s.json\n\nskip when tag = \"early\" because \"it is early\"\ntag = tag\n"),
		"samples/s.json":      []byte(`{"tag":""}`),
		"environments/t.yaml": []byte("environment: t\nplaces: {in: in, out: out}\n"),
	}), "r")
	if c == nil {
		t.Fatal(findings)
	}
	var in strings.Builder
	in.WriteString("station,tag\n")
	want := map[string]int64{}
	for i := range 150_000 {
		station, tag := fmt.Sprintf("S%d", i*7919%50), "early"
		if want[station] == 0 {
			want[station] = int64(1000 + len(want))
		}
		if i > 30_000 {
			tag = fmt.Sprint("T-", i)
		}
		fmt.Fprintf(&in, "%s,%s\n", station, tag)
	}
	for range 5 {
		next := int64(1000)
		n := &numbered{output: output{}, t: t, want: want}
		if _, err := c.Plan.Run(context.Background(), strings.NewReader(in.String()), flow.Inputs{Cores: 3, Sequence: func(n int) (int64, error) { next += int64(n); return next - int64(n), nil }}, n); err != nil {
			t.Fatal(err)
		}
		if n.seen == 0 {
			t.Error("no record has come")
		}
	}
}

// numbered checks the numbers and names of values against those that they must have.
type numbered struct {
	output
	t    *testing.T
	want map[string]int64
	seen int
}

func (n *numbered) Batch(b *batch.Batch) error {
	for i, v := range b.Branches[0].Values {
		if !b.In(0, i) {
			continue
		}
		n.seen++
		if name := b.Branches[0].Called(i, 1)[0]; v.Number != n.want[v.Key] || name != fmt.Sprintf("%d.json", v.Number) {
			return fmt.Errorf("the output of %s has the number %d and the name %s, not %d", v.Key, v.Number, name, n.want[v.Key])
		}
	}
	return nil
}

// TestGatheredInOrder: what is gathered comes in the order of the types of what its rows have the same, one behind the other, and rows that say the same
// otherwise (1, 1.0) are not put together.
func TestGatheredInOrder(t *testing.T) {
	c, wrong := shaped(t, "format: csv", "  - gather: animals\n    by: [kg, station]\n", "map: maps/m.map\n")
	if c == nil {
		t.Fatal(wrong)
	}
	var file strings.Builder
	file.WriteString("station,tag,kg,note\n")
	for i, row := range []string{"b,10", "a,9", "b,1.0", "a,1", "z,-2", "a,10", "a,1.0", "b,10"} {
		station, kg, _ := strings.Cut(row, ",")
		fmt.Fprintf(&file, "%s,T-%d,%s,\n", station, i, kg)
	}
	o := &output{}
	if _, err := c.Plan.Run(context.Background(), strings.NewReader(file.String()), flow.Inputs{Cores: 1}, o); err != nil {
		t.Fatal(err)
	}
	var is []string
	for d := json.NewDecoder(strings.NewReader(o.whole(t))); d.More(); {
		var g struct {
			Station string
			Animals []struct {
				Tag string
				Kg  json.Number
			}
		}
		if err := d.Decode(&g); err != nil {
			t.Fatal(err)
		}
		said := g.Station + ":"
		for _, a := range g.Animals {
			said += " " + a.Tag + "=" + a.Kg.String()
		}
		is = append(is, said)
	}
	if want := "z: T-4=-2; a: T-3=1; a: T-6=1.0; b: T-2=1.0; a: T-1=9; a: T-5=10; b: T-0=10 T-7=10"; strings.Join(is, "; ") != want {
		t.Errorf("%s\nnot %s", strings.Join(is, "; "), want)
	}
}
