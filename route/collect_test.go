package route

import (
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"ydrion/core/finding"
	"ydrion/core/flow"
	"ydrion/core/lang"
	"ydrion/workspace"
)

// collected is a route whose files are read together.
func collected(t *testing.T, rest string, more map[string]string) (*Compiled, string) {
	t.Helper()
	content := map[string][]byte{
		"routes/r.yaml":       []byte("route: r\nlisten: {folder: \"{in}\"}\ncollect: {complete: 2}\n" + rest + "rejected: {folder: \"{out}/rejected\"}\n"),
		"schemas/s.json":      []byte(`{"fields": [{"name": "tag"}, {"name": "kg", "type": "number"}]}`),
		"environments/t.yaml": []byte("environment: t\nplaces: {in: in, out: out}\n"),
	}
	for name, text := range more {
		content[name] = []byte(text)
	}
	w := workspace.FromFiles(content)
	c, findings := Compile(w, "r")
	if c == nil {
		return nil, fmt.Sprint(append(w.Findings, findings...))
	}
	return c, ""
}

// routed compiles a route of some files, by name, in an environment with the places in, out, bad and office.
func routed(t *testing.T, about string, files map[string]string) (*Compiled, finding.List) {
	t.Helper()
	content := map[string][]byte{"environments/t.yaml": []byte("environment: t\nplaces: {in: in, out: out, bad: bad, office: {address: \"smtp://mail.skerry.example\", tls: explicit, from: a@skerry.example, to: [b@skerry.example]}}\n")}
	for name, text := range files {
		content[name] = []byte(text)
	}
	w := workspace.FromFiles(content)
	c, findings := Compile(w, "r")
	if c == nil {
		t.Fatal(about, w.Findings, findings)
	}
	return c, findings
}

// runAll sends files through a route in one run: a file with one name each, a, b, c.
func runAll(t *testing.T, c *Compiled, cores int, in ...string) (all flow.All, written string, wrong []string) {
	t.Helper()
	var files []flow.File
	for k, text := range in {
		files = append(files, flow.File{Name: string(rune('a' + k)), Size: int64(len(text)), Open: func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(text)), nil }})
	}
	o := &output{}
	all, err := c.Plan.RunAll(context.Background(), files, flow.Inputs{Facts: lang.Facts{Name: "a", Key: "K", Files: len(in)}, Cores: cores}, o)
	if err != nil || all.Unfinished != nil {
		t.Fatal(err, all.Unfinished)
	}
	if o.opened != nil {
		written = o.whole(t)
	}
	for _, r := range all.Files {
		for _, f := range r.Findings {
			wrong = append(wrong, f.String())
		}
	}
	return all, written, append(wrong, o.wrong...)
}

const asCameRows = "read: {format: csv}\ncheck: {schema: schemas/s.json}\nbranches: [{name: rows, deliver: {folder: \"{out}\", name: \"{file.name}\"}}]\n"

// TestRowsOfSeveralFiles: rows that go on as they came have one heading, and each its own line; a file with another
// heading is not mixed with them.
func TestRowsOfSeveralFiles(t *testing.T) {
	c, why := collected(t, asCameRows, nil)
	if c == nil {
		t.Fatal(why)
	}
	for _, cores := range []int{1, 3} {
		all, written, wrong := runAll(t, c, cores, "tag,kg\nT-1,5", "tag,kg\r\nT-2,6\r\nT-3,heavy\r\nT-4,7", "kg,tag\n1,T-5\n", "", "tag,kg\nT-6,8\n")
		if want := "tag,kg\nT-1,5\nT-2,6\r\nT-4,7\r\nT-6,8\n"; written != want {
			t.Errorf("%q, want %q", written, want)
		}
		var balances []string
		for _, r := range all.Files {
			balances = append(balances, fmt.Sprint(r.In, r.Good, r.Rejected, r.Unreadable))
		}
		if want := []string{"1 1 0 false", "3 2 1 false", "0 0 0 true", "0 0 0 true", "1 1 0 false"}; !slices.Equal(balances, want) {
			t.Errorf("%v, want %v", balances, want)
		}
		said := strings.Join(wrong, "\n")
		for _, part := range []string{"c:1:1: error: the heading has its columns in another order; that of a, the first file, is another", "b:3:5 record 3 kg: error: kg is not a number"} {
			if !strings.Contains(said, part) {
				t.Errorf("%q is not in %s", part, said)
			}
		}
	}
}

// TestColumnsAreUnited: where a map makes what goes on, columns are found by their names in each file.
func TestColumnsAreUnited(t *testing.T) {
	c, why := collected(t, "read: {format: csv}\ncheck: {schema: schemas/s.json}\nmap: maps/m.map\ndeliver: {folder: \"{out}\", name: \"{collect.key}.csv\"}\n", map[string]string{
		"maps/m.map":    "map m\nsource csv schemas/s.json\ntarget csv based on samples/s.csv\n\ntag = tag\nkg = kg\nfrom = \"{file.name} of {collect.files} for {collect.key}\"\nrow = record\n",
		"samples/s.csv": "tag,kg,from,row\n"})
	if c == nil {
		t.Fatal(why)
	}
	_, written, wrong := runAll(t, c, 1, "tag,kg\nT-1,5\n", "kg,sex,tag\n6,F,T-2\n", "tag\nT-3\n")
	if want := "tag,kg,from,row\nT-1,5,a of 3 for K,1\nT-2,6,b of 3 for K,2\n"; written != want {
		t.Errorf("%q, want %q", written, want)
	}
	if said := strings.Join(wrong, "\n"); !strings.Contains(said, `b:1:1: warning: the heading has "sex" besides; that of a, the first file, is another`) || !strings.Contains(said, `1:1 kg: error: column "kg" is missing`) {
		t.Errorf("%s", said)
	}
}

// TestSortedFromSeveralFiles: records of all files are put into one order, as one file would be, and each knows the file
// it is from.
func TestSortedFromSeveralFiles(t *testing.T) {
	c, why := collected(t, "read: {format: csv}\ncheck: {schema: schemas/s.json, tolerate: 100%}\nshape: [{one per: [tag]}, {sort: [kg, tag]}]\nmap: maps/m.map\ndeliver: {folder: \"{out}\", name: \"x.csv\"}\n", map[string]string{
		"maps/m.map":    "map m\nsource csv schemas/s.json\ntarget csv based on samples/s.csv\n\ntag = tag\nkg = kg\nfrom = file.name\n",
		"samples/s.csv": "tag,kg,from\n"})
	if c == nil {
		t.Fatal(why)
	}
	r := rand.New(rand.NewPCG(1, 2))
	for round := range 20 {
		type row struct {
			tag, file string
			kg        int
		}
		var rows []row
		files := []string{"tag,kg\n", "tag,kg\n", "tag,kg\n"}
		left, bad, seen := 0, 0, map[string]bool{}
		for k := range files {
			for range r.IntN(2000) {
				one := row{fmt.Sprintf("T-%04d", r.IntN(3000)), string(rune('a' + k)), r.IntN(50)}
				if r.IntN(50) == 0 {
					files[k] += one.tag + ",heavy\n"
					bad++
					continue
				}
				files[k] += fmt.Sprintf("%s,%d\n", one.tag, one.kg)
				if seen[one.tag] {
					left++
					continue
				}
				seen[one.tag] = true
				rows = append(rows, one)
			}
			files[k] = strings.TrimSuffix(files[k], "\n")
		}
		if round%2 == 1 { // with the columns in another order, and quotes
			lines := strings.Split(files[1], "\n")
			for i, line := range lines {
				a, b, _ := strings.Cut(line, ",")
				lines[i] = b + `,"` + a + `"`
			}
			files[1] = strings.Join(lines, "\r\n")
		}
		slices.SortStableFunc(rows, func(a, b row) int { return a.kg*10000 - b.kg*10000 + strings.Compare(a.tag, b.tag) })
		want := "tag,kg,from\n"
		for _, one := range rows {
			want += fmt.Sprintf("%s,%d,%s\n", one.tag, one.kg, one.file)
		}
		all, written, wrong := runAll(t, c, 1+r.IntN(3), files...)
		if len(rows) > 0 && written != want {
			t.Fatalf("%d rows:\n%.300s\nwant\n%.300s", len(rows), written, want)
		}
		sum := all.Sum()
		if sum.In != int64(len(rows)+left+bad) || sum.Filtered != int64(left) || sum.Rejected != int64(bad) {
			t.Errorf("%+v, want %d good, %d left out, %d rejected", sum, len(rows), left, bad)
		}
		for k, f := range all.Files {
			if f.In != int64(max(strings.Count(files[k], "\n"), 0)) {
				t.Errorf("%d of %d records are said to be of file %d", f.In, strings.Count(files[k], "\n"), k)
			}
		}
		for _, f := range wrong {
			if strings.Contains(f, "heavy") {
				var file string
				var line int
				fmt.Sscanf(strings.Replace(f, ":", " ", 2), "%s %d", &file, &line) //nolint: it is compared
				if text := strings.Split(files[file[0]-'a'], "\n")[line-1]; !strings.Contains(text, "heavy") {
					t.Fatalf("%s is said of the line %q", f, text)
				}
			}
		}
	}
}

// TestEnvelopesOfSeveralFiles: messages of two interchanges that begin at the same place of their files stand in two
// again, with what is in them counted.
func TestEnvelopesOfSeveralFiles(t *testing.T) {
	c, why := collected(t, "read: {format: edifact}\nbranches: [{name: all, deliver: {folder: \"{out}\", name: \"x\"}}]\ncheck: {}\n", nil)
	if c == nil {
		t.Fatal(why)
	}
	interchange := func(number, messages int) string {
		out := fmt.Sprintf("UNB+UNOA:3+A+B+261129:0900+%d'", number)
		for m := range messages {
			out += fmt.Sprintf("UNH+%d+ORDERS:D:96A:UN'BGM+220+N%d'UNT+3+%d'", m+1, m, m+1)
		}
		return out + fmt.Sprintf("UNZ+%d+%d'", messages, number)
	}
	one, two := interchange(7, 2), interchange(8, 3)
	if _, written, wrong := runAll(t, c, 1, one, two); written != one+two || len(wrong) > 0 {
		t.Errorf("%s\nwant\n%s\n%v", written, one+two, wrong)
	}
	// One that is cut, or says of itself what is not so, takes nothing of the others with it.
	cut := strings.TrimSuffix(two, "UNT+3+3'UNZ+3+8'")
	all, written, _ := runAll(t, c, 1, cut, one, strings.Replace(one, "UNZ+2", "UNZ+5", 1))
	if !strings.HasSuffix(written[:strings.LastIndex(written, "UNB")], one) || all.Files[1].Good != 2 || all.Files[1].Findings.HasErrors() {
		t.Errorf("%s\n%+v", written, all.Files)
	}
	if f := all.Files[2]; !f.Disagrees {
		t.Errorf("%+v", f)
	}
}

// TestMessagesOfSeveralFiles: HL7 messages and JSON values of several files are those of one after the other.
func TestMessagesOfSeveralFiles(t *testing.T) {
	const msh = "MSH|^~\\&|A|B|C|D|20261128||ORU^R01|%d|P|2.5.1\rPID|1||9\r"
	hl7, why := collected(t, "read: {format: hl7}\ncheck: {}\nbranches: [{name: all, deliver: {folder: \"{out}\", name: \"x\"}}]\n", nil)
	if hl7 == nil {
		t.Fatal(why)
	}
	one, two, three := fmt.Sprintf(msh, 1), strings.TrimSuffix(fmt.Sprintf(msh, 2), "\r"), fmt.Sprintf(msh, 3)
	if _, written, wrong := runAll(t, hl7, 1, one, two, three); written != one+two+"\r"+three || len(wrong) > 0 {
		t.Errorf("%q %v", written, wrong)
	}
	lines, why := collected(t, "read: {format: json}\ncheck: {schema: schemas/s.json}\nbranches: [{name: all, deliver: {folder: \"{out}\", name: \"x\"}}]\n", nil)
	if lines == nil {
		t.Fatal(why)
	}
	if _, written, wrong := runAll(t, lines, 1, `{"tag": "T-1"}`, `{"tag": "T-2"}`+"\n"); written != "{\"tag\": \"T-1\"}\n{\"tag\": \"T-2\"}\n" || len(wrong) > 0 {
		t.Errorf("%q %v", written, wrong)
	}
	objects, why := collected(t, "read: {format: json, record: /seals/*}\ncheck: {schema: schemas/s.json}\nmap: maps/m.map\ndeliver: {folder: \"{out}\", name: \"x.csv\"}\n", map[string]string{
		"maps/m.map":    "map m\nsource json schemas/s.json\ntarget csv based on samples/s.csv\n\ntag = tag\nkg = kg\n",
		"samples/s.csv": "tag,kg\n"})
	if objects == nil {
		t.Fatal(why)
	}
	all, written, wrong := runAll(t, objects, 1, `{"seals": [{"tag": "T-1", "kg": 4}, {"tag": "T-2"`, `{"seals": [{"tag": "T-3", "kg": 5}]}`)
	if want := "tag,kg\nT-1,4\nT-3,5\n"; written != want || !all.Files[0].Broken || all.Files[1].Good != 1 {
		t.Errorf("%q, want %q: %v", written, want, wrong)
	}
}

// TestCollectIsChecked: what a route says of files that are collected is told apart from what it cannot mean.
func TestCollectIsChecked(t *testing.T) {
	for _, test := range []struct{ collect, said string }{
		{"{}", "it is not said when files are complete"},
		{"{complete: 1}", "from 2 to 10000"},
		{"{complete: 2, marker: \"*.done\"}", "not both"},
		{"{complete: 2, within: forever, else: reject}", "never comes to `else`"},
		{"{complete: [\"a/*.csv\"]}", "subfolders: true"},
		{"{by: \"{file.stm}\", complete: 2}", "file.stem"},
		{"{complete: 2}\norder: {lane: \"{tag}\"}", "order.lane is none or all"},
	} {
		w := workspace.FromFiles(map[string][]byte{
			"routes/r.yaml":       []byte("route: r\nlisten: {folder: \"{in}\"}\ncollect: " + test.collect + "\nread: {format: file}\ndeliver: {folder: \"{out}\", name: \"{file.name}\"}\nrejected: {folder: \"{out}/rejected\"}\n"),
			"environments/t.yaml": []byte("environment: t\nplaces: {in: in, out: out}\n"),
		})
		said := fmt.Sprint([]finding.Finding(w.Findings))
		if !w.Findings.HasErrors() {
			_, findings := Compile(w, "r")
			said = fmt.Sprint([]finding.Finding(findings))
		}
		if !strings.Contains(said, test.said) {
			t.Errorf("%s: %s", test.collect, said)
		}
	}
}
