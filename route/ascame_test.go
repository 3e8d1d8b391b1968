package route

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"ydrion/core/batch"
	"ydrion/core/flow"
	"ydrion/workspace"
)

// asCame runs a map over messages as they came, and gives what is written and what was wrong; if it does not
// compile, why.
func asCame(t *testing.T, read, lines, in string) (string, string) {
	t.Helper()
	w := workspace.FromFiles(map[string][]byte{
		"routes/r.yaml":          []byte("route: r\nlisten:\n  folder: \"{in}\"\n  names: \"*\"\nread:\n  format: hl7\n" + read + "map: maps/m.map\ndeliver:\n  name: \"{file.stem}.out\"\n  to:\n    - folder: \"{out}\"\nrejected:\n  folder: \"{out}/rejected\"\n"),
		"maps/m.map":             []byte("map m\nsource hl7\ntarget hl7 as it came\n" + lines),
		"lookups/sexes.csv":      []byte("from,to\nF,2\nM,1\n"),
		"environments/test.yaml": []byte("environment: test\nplaces:\n  in: in\n  out: out\n"),
	})
	c, findings := Compile(w, "r")
	if c == nil {
		return "", findings.Error()
	}
	o := &output{}
	if _, err := c.Plan.Run(context.Background(), strings.NewReader(in), flow.Inputs{}, o); err != nil {
		t.Fatal(err)
	}
	return o.whole(t), strings.Join(o.wrong, "\n")
}

// TestMessagesAsTheyCame: what a map does not name goes on byte for byte.
func TestMessagesAsTheyCame(t *testing.T) {
	const (
		head  = "MSH|^~\\&|A|B|C|D|20261128||ORU^R01|1|P|2.5.1\r"
		other = "MSH#*~\\&#A#B#C#D#20261128##ORU*R01#1#P#2.5.1######8859/1\r\nPID#1##9***S*MR~8***S*PI##caf\xe9 | \\H\\x\\N\\###F\r\n\r\n"
		pid   = "PID|1||9^^^S^MR~8^^^S^PI||O'Hara^Sam||\"\"|F\rPV1|1|O\r"
		obx   = "OBX|1|NM|WBC||4|g/L\rNTE|1||a\rOBX|2|NM|HGB||8|g/L||\rNTE|1||b\rZZZ|1|\\Zx\\\r"
	)
	for _, test := range []struct{ lines, in, want, wrong string }{
		{"PID-8 = PID-8 | lookup sexes", head + pid + obx, head + strings.Replace(pid, "|F\r", "|2\r", 1) + obx, ""},
		{"PID-8 = PID-8 | lookup sexes", other + other, strings.ReplaceAll(other+other, "#F\r", "#2\r"), ""},
		{"PID-5 = \"{PID-5} | é#\"", other, strings.Replace(other, "caf\xe9 | \\H\\x\\N\\#", "caf\xe9 | \\H\\x\\N\\ | \xe9\\F\\#", 1), ""},
		{"PID-5 = \"日\"", other + head + pid, "", "MSH-18 names"},
		{"PID-5.1 = \"é\"", head + pid, "", "is not ASCII, and MSH-18 names no character set"},
		{"PID-3[5=PI].1 = \"7\"\nPID-3[1].4.2 = \"u\"", head + pid, head + strings.Replace(pid, "9^^^S^MR~8^", "9^^^S&u^MR~7^", 1), ""},
		{"PID-3[5=XX].1 = \"7\"", head + pid, "", `no repetition of PID-3 has "XX" in component 5`},
		{"PID-3[5=XX].1 = absent", head + pid, head + pid, ""},
		{"PID-30 = \"N\"", head + pid, head + strings.Replace(pid, "|F\r", "|F"+strings.Repeat("|", 22)+"N\r", 1), ""},
		{"PID-30 = absent\nclear PID-7", head + pid, head + strings.Replace(pid, "\"\"", "", 1), ""},
		{"PID-7 = null", head + pid, head + pid, ""},
		{"PD1-4 = \"x\"", head + pid, "", "the message has no PD1 for the value"},
		{"PD1-4 = absent", head + pid, head + pid, ""},
		{"OBX[2]-5 = \"9\"\nOBX(3=WBC)-5 = \"3\"", head + pid + obx, head + pid + strings.NewReplacer("||4|", "||3|", "||8|", "||9|").Replace(obx), ""},
		{"drop NTE\ndrop OBX(3=HGB)", head + pid + obx, head + pid + "OBX|1|NM|WBC||4|g/L\rZZZ|1|\\Zx\\\r", ""},
		{"drop NTE[2] when PID-8 = \"F\"\ndrop ZZZ when PID-8 = \"M\"", head + pid + obx, head + pid + strings.Replace(obx, "NTE|1||b\r", "", 1), ""},
		{"repeat OBX for obx in OBX where (OBX-5 | number) > 5\n  OBX-8 = \"H{obx.position}\"\n  OBX-6 = NTE | count\nend\nPID-8 = \"x\"", head + pid + obx, head + strings.Replace(pid, "|F\r", "|x\r", 1) + strings.Replace(obx, "||8|g/L||", "||8|1||H1", 1), ""},
		{"when PID-8 = \"M\"\n  PID-8 = \"1\"\nend", head + pid, head + pid, ""},
		{"reject when PID-8 = \"F\" because \"no\"", head + pid, "", "no"},
		{"keep PID", head, "", "everything stays as it came"},
		{"MSH-18 = \"ASCII\"", head, "", "stays as it came"},
		{"NTE-3 = \"x\"\nNTE-3 = \"y\"", head, "", "assigned twice"},
		{"repeat NTE for obx in OBX\n  NTE-3 = \"x\"\nend", head, "", "and OBX are not NTE"},
		{"repeat OBX for obx in OBX\n  PID-3 = \"x\"\nend", head, "", "PID-3 is not in the segment that is changed here, OBX"},
		{"drop MSH", head, "", "cannot be dropped"},
	} {
		got, wrong := asCame(t, "", test.lines, test.in)
		if got != test.want || !strings.Contains(wrong, test.wrong) || (wrong == "") != (test.wrong == "") {
			t.Errorf("%s\nof %q is\n%q, not\n%q\n%s", test.lines, test.in, got, test.want, wrong)
		}
	}
	for read, want := range map[string]string{"  record: OBX\n": "whole messages go on", "  encoding: utf-8\n": "leave the encoding out"} {
		if _, wrong := asCame(t, read, "PID-8 = \"x\"", head); !strings.Contains(wrong, want) {
			t.Errorf("%s: %s", read, wrong)
		}
	}
}

// TestBatchesAroundMessages: what a sample has around its message stands around all of an output, with the
// number of messages; or around each, where each is an output of its own.
func TestBatchesAroundMessages(t *testing.T) {
	const (
		head = "FHS|^~\\&|A|B|C|D|20261128||f.hl7\rBHS|^~\\&|A|B|C|D|20261128||||7\r"
		mess = "MSH|^~\\&|A|B|C|D|20261128||ADT^A04|1|P|2.5.1\rPID|1||x\r"
		tail = "BTS|1|of one\rFTS|1\r"
	)
	make := func(sample, per, lines string) (string, string) {
		w := workspace.FromFiles(map[string][]byte{
			"routes/r.yaml":          []byte("route: r\nlisten:\n  folder: \"{in}\"\n  names: \"*\"\nread:\n  format: csv\ncheck:\n  schema: schemas/s.json\nmap: maps/m.map\ndeliver:\n  name: \"" + map[string]string{"pickup": "{file.stem}.out", "record": "{tag}.out"}[per] + "\"\n  one file per: " + per + "\n  to:\n    - folder: \"{out}\"\nrejected:\n  folder: \"{out}/rejected\"\n"),
			"maps/m.map":             []byte("map m\nsource csv schemas/s.json\ntarget hl7 based on samples/s.hl7\n" + lines),
			"samples/s.hl7":          []byte(sample),
			"schemas/s.json":         []byte(`{"fields":[{"name":"tag","constraints":{"pattern":"T-[0-9]"}}]}`),
			"environments/test.yaml": []byte("environment: test\nplaces:\n  in: in\n  out: out\n"),
		})
		c, findings := Compile(w, "r")
		if c == nil {
			said := ""
			for _, f := range findings {
				said += f.String() + "\n"
			}
			return "", said
		}
		o := &output{}
		if _, err := c.Plan.Run(context.Background(), strings.NewReader("tag\nT-1\nwrong\nT-2\nT-3\n"), flow.Inputs{}, o); err != nil {
			t.Fatal(err)
		}
		return o.whole(t), ""
	}
	const lines = "keep FHS-3, FHS-4, FHS-5, FHS-6, FHS-7, BHS, MSH, PID-1, BTS-2\nFHS-9 = \"f-2\"\nPID-3 = tag\n"
	opened := strings.Replace(head, "f.hl7", "f-2", 1)
	one := func(tag string) string { return strings.Replace(mess, "x", tag, 1) }
	if got, wrong := make(head+mess+tail, "pickup", lines); got != opened+one("T-1")+one("T-2")+one("T-3")+"BTS|3|of one\rFTS|1\r" {
		t.Errorf("%q %s", got, wrong)
	}
	if got, wrong := make(head+mess+tail, "record", lines); got != opened+one("T-1")+tail+opened+one("T-2")+tail+opened+one("T-3")+tail {
		t.Errorf("%q %s", got, wrong)
	}
	for _, test := range []struct{ sample, lines, want string }{
		{head + mess + tail, "keep FHS, BHS, MSH, PID-1, BTS-2\nPID-3 = tag\nBTS-1 = 3", "BTS-1 is computed"},
		{head + mess + tail, "keep FHS, MSH, PID-1, BTS-2\nPID-3 = tag", "at BHS-3 would go into every message"},
		{head + mess + tail, "keep FHS, BHS, MSH, PID-1, BTS-2\nPID-3 = tag\nBHS-11 = tag", "BHS-11 stands around all messages of a file"},
		{head + mess + tail, "keep FHS, BHS, MSH, PID-1, BTS-2\nPID-3 = tag\ndrop BHS", "BHS stands around messages"},
		{head + mess, "keep MSH\nPID-3 = tag", "it has FHS BHS MSH"},
		{mess + mess, "keep MSH\nPID-3 = tag", "this one has 2"},
		{strings.ReplaceAll(head, "^~", "~^") + mess + tail, "keep MSH\nPID-3 = tag", "MSH names other separators"},
	} {
		if _, wrong := make(test.sample, "pickup", test.lines); !strings.Contains(wrong, test.want) {
			t.Errorf("%s\nsays %s, not %s", test.lines, wrong, test.want)
		}
	}
}

// TestObjectsAsTheyCame: what a map does not name goes on byte for byte, blanks and all.
func TestObjectsAsTheyCame(t *testing.T) {
	const doc = `{ "tag" : "T-1", "kg": 4.50,"animal": {"name":"Mar\u00e9 \"x\"" , "sex": null}, "lines": [ {"a": "x", "n": 1 }, {"n":2},{} ], "e":{ } }`
	with := func(pairs ...string) string { return strings.NewReplacer(pairs...).Replace(doc) + "\n" }
	schema := `{"properties":{"tag":{"type":"string"},"kg":{"type":"number"},"animal":{"properties":{"name":{"type":"string"},"sex":{"type":["string","null"]}}},"lines":{"type":"array","items":{"properties":{"a":{"type":"string"},"n":{"type":"number"}}}}}}`
	for _, test := range []struct{ lines, want, wrong string }{
		{"tag = tag | upper", with(), ""},
		{"tag = \"é\\\"\\n\"", with(`"T-1"`, `"é\"\n"`), ""},
		{"kg = kg * 2", with("4.50", "9.00"), ""},
		{"kg = kg", with(), ""},
		{"animal.sex = \"F\"\nanimal.born = \"2021\"", with("null}", `"F","born":"2021"}`), ""},
		{"/animal/home/at = \"Quay\"", with(`"sex": null}`, `"sex": null,"home":{"at":"Quay"}}`), ""},
		{"e.one = 1\ne.two = true", strings.Replace(doc, `{ } }`, `{ "one":1,"two":true} }`, 1) + "\n", ""},
		{"new = null\nnewer = \"\"", strings.Replace(doc, `{ } }`, `{ },"new":null,"newer":"" }`, 1) + "\n", ""},
		{"clear tag\nclear animal.sex\nclear nothing\nclear e", `{ "kg": 4.50,"animal": {"name":"Mar\u00e9 \"x\""}, "lines": [ {"a": "x", "n": 1 }, {"n":2},{} ] }` + "\n", ""},
		{"clear lines\nclear e", doc[:strings.Index(doc, `, "lines"`)] + " }\n", ""},
		{"clear tag\nclear kg", "{ " + doc[strings.Index(doc, `"animal"`):] + "\n", ""},
		{"clear tag\nclear kg\nclear animal\nclear lines\nclear e\nnew = 1", `{ "new":1 }` + "\n", ""},
		{"clear kg\nclear animal", `{ "tag" : "T-1"` + doc[strings.Index(doc, `, "lines"`):] + "\n", ""},
		{"clear animal.name", with(`"name":"Mar\u00e9 \"x\"" , `, ""), ""},
		{"drop kg when kg > 4\ndrop tag when kg > 5", with(`, "kg": 4.50`, ""), ""},
		{"repeat lines for line in lines\n  n = line.position when n is absent, otherwise n * 10\n  a = \"x{a}\"\nend", with(`"a": "x", "n": 1`, `"a": "xx", "n": 10`, `{"n":2}`, `{"n":20,"a":"x"}`, `,{} ]`, `,{"n":3,"a":"x"} ]`), ""},
		{"repeat lines for line in lines where n = 2\n  n = 3\nend\ntag = \"t\"", with(`"n":2`, `"n":3`, `"T-1"`, `"t"`), ""},
		{"/lines/0/a = \"y\"", with(`"x"`, `"y"`), ""},
		{"/lines/7/a = \"y\"", "", "the list has 3 elements"}, {"tag.x = 1", "", "there is no object that x could be a member of"}, {"clear /lines/0", "", "its neighbours would be others"},
		{"animal = \"x\"\nanimal.name = \"y\"", "", "change the same part"}, {"new = \"x\"\nnew.name = \"y\"", "", "change the same part"}, {"new.name = \"x\"\nnew = \"y\"", "", "change the same part"},
		{"new.a = 1\nnew.b = \"x\"\nnewer.q.r = 1\ne.s = 2\nnewer.q.s = 2\nnewer.t = null\ne.t.u = 3", with(`{ } }`, `{ "s":2,"t":{"u":3}},"new":{"a":1,"b":"x"},"newer":{"q":{"r":1,"s":2},"t":null} }`), ""},
		{"tag = 1\n/tag = 2", "", "assigned twice"}, {"keep tag", "", "need not be kept"}, {"repeat lines for l in rows\nend", "", "there is no list"},
		{"repeat animal for l in lines\n  n = 1\nend", "", "/lines is not animal"},
	} {
		w := workspace.FromFiles(map[string][]byte{
			"routes/r.yaml":          []byte("route: r\nlisten:\n  folder: \"{in}\"\n  names: \"*\"\nread:\n  format: json\ncheck:\n  schema: schemas/s.json\nmap: maps/m.map\ndeliver:\n  name: \"{file.stem}.out\"\n  to:\n    - folder: \"{out}\"\nrejected:\n  folder: \"{out}/rejected\"\n"),
			"maps/m.map":             []byte("map m\nsource json schemas/s.json\ntarget json as it came\n" + test.lines + "\n"),
			"schemas/s.json":         []byte(schema),
			"environments/test.yaml": []byte("environment: test\nplaces:\n  in: in\n  out: out\n"),
		})
		c, findings := Compile(w, "r")
		got, wrong := "", ""
		if c == nil {
			for _, f := range findings {
				wrong += f.String() + "\n"
			}
		} else {
			o := &output{}
			if _, err := c.Plan.Run(context.Background(), strings.NewReader(doc), flow.Inputs{}, o); err != nil {
				t.Fatal(err)
			}
			got, wrong = o.whole(t), strings.Join(o.wrong, "\n")
		}
		if got != test.want || !strings.Contains(wrong, test.wrong) || (wrong == "") != (test.wrong == "") {
			t.Errorf("%s\nis\n%s, not\n%s\n%s", test.lines, got, test.want, wrong)
		}
		if got != "" && !json.Valid([]byte(got)) {
			t.Errorf("%s is not JSON", got)
		}
	}
}

// TestBatchesAsTheyCame: messages go on in the files and batches that they stood in, counted anew; each
// in its own, where each is an output.
func TestBatchesAsTheyCame(t *testing.T) {
	adt := func(n int, kind string) string {
		return fmt.Sprintf("MSH|^~\\&|A||||2026||%s|%d|P|2.5\rPID|%d||%s\r", kind, n, n, strings.Repeat("x", 300))
	}
	const fhs, bhs1, bhs2 = "FHS|^~\\&|A|f\r", "BHS|^~\\&|A|1\r", "BHS|^~\\&|A|2\r"
	var in, want strings.Builder
	in.WriteString(fhs)
	want.WriteString(fhs)
	for i, bhs := range []string{bhs1, bhs2} {
		in.WriteString(bhs)
		want.WriteString(bhs)
		n := 2500 + i
		kept := 0
		for k := range n {
			kind := []string{"ADT^A04", "ORU^R01", "ADT^A08"}[k%3]
			in.WriteString(adt(k, kind))
			if kind != "ORU^R01" {
				want.WriteString(adt(k, kind))
				kept++
			}
		}
		fmt.Fprintf(&in, "BTS|%d|as it was\r", n)
		fmt.Fprintf(&want, "BTS|%d\r", kept)
	}
	in.WriteString("FTS|2\r")
	want.WriteString("FTS|2\r")
	for _, test := range []struct{ in, lines, want string }{
		{in.String(), "skip when MSH-9.1 = \"ORU\" because \"x\"\n", want.String()},
		{fhs + adt(1, "A") + adt(2, "A") + "FTS|1\r", "PID-1 = 7\n", strings.NewReplacer("PID|1", "PID|7", "PID|2", "PID|7").Replace(fhs + adt(1, "A") + adt(2, "A") + "FTS|1\r")},
		{bhs1 + adt(1, "A") + "BTS|1\r" + bhs2 + adt(2, "B") + "BTS|1\r", "skip when MSH-9 = \"A\" because \"x\"\n", bhs2 + adt(2, "B") + "BTS|1\r"},
		{strings.ReplaceAll(bhs1+adt(1, "A")+"BTS|1\r", "\r", "\r\n"), "PID-9 = absent\n", strings.ReplaceAll(bhs1+adt(1, "A")+"BTS|1\r", "\r", "\r\n")},
		// Batches that begin alike are two.
		{bhs1 + adt(1, "A") + adt(2, "A") + "BTS|2\r" + bhs1 + adt(3, "A") + "BTS|1\r", "PID-9 = absent\n", bhs1 + adt(1, "A") + adt(2, "A") + "BTS|2\r" + bhs1 + adt(3, "A") + "BTS|1\r"},
		{strings.Repeat(strings.Repeat(bhs1+strings.Repeat(adt(1, "A"), 1500)+"BTS|1500\r", 2), 2), "PID-9 = absent\n", strings.Repeat(bhs1+strings.Repeat(adt(1, "A"), 1500)+"BTS|1500\r", 4)},
		{adt(1, "A") + adt(2, "B"), "PID-9 = absent\n", adt(1, "A") + adt(2, "B")},
	} {
		if got, wrong := asCame(t, "", test.lines, test.in); got != test.want {
			t.Errorf("%s: %.3000q, not %.3000q\n%.300s", test.lines, got, test.want, wrong)
		}
	}
}

// TestBranchesOfOtherFormats: what only HL7 can say goes on where messages go on into HL7, and as it stands in the
// message where they leave it, in one route.
func TestBranchesOfOtherFormats(t *testing.T) {
	c, findings := Compile(workspace.FromFiles(map[string][]byte{
		"routes/r.yaml": []byte(`route: r
listen: {folder: "{in}"}
read: {format: hl7}
branches:
  - name: on
    map: maps/on.map
    deliver: {folder: "{out}", name: "{file.name}"}
  - name: rows
    when: OBX-5 != "none"
    map: maps/rows.map
    deliver: {folder: "{out}/rows", name: "{file.stem}.csv"}
rejected: {folder: "{out}/rejected"}
`),
		"maps/on.map":         []byte("map on\nsource hl7\ntarget hl7 as it came\n\nOBX-5 = \"{OBX-5}!\"\n"),
		"maps/rows.map":       []byte("map rows\nsource hl7\ntarget csv based on samples/row.csv\n\nid = MSH-10\nvalue = OBX-5\n"),
		"samples/row.csv":     []byte("id,value\n"),
		"environments/t.yaml": []byte("environment: t\nplaces: {in: in, out: out}\n"),
	}), "r")
	if c == nil {
		t.Fatal(findings)
	}
	message := func(id, value string) string {
		return "MSH|^~\\&|LAB|S|O|S|20261125||ORU^R01|" + id + "|P|2.5.1\rPID|1||7\rOBR|1||S1|WBC\rOBX|1|TX|N||" + value + "\r"
	}
	for _, cores := range []int{1, 2} {
		o := &output{}
		if _, err := c.Plan.Run(context.Background(), strings.NewReader(message("M1", `a\H\b\N\ \T\ c`)+message("M2", "none")+message("M3", `\.sp2\x`)), flow.Inputs{Cores: cores}, &second{o, t}); err != nil {
			t.Fatal(err)
		}
		if got := o.text.String(); got != message("M1", `a\H\b\N\ \T\ c!`)+message("M2", "none!")+message("M3", `\.sp2\x!`)+"|"+"id,value\nM1,a\\H\\b\\N\\ & c\nM3,\\.sp2\\x\n" {
			t.Errorf("%q", got)
		}
	}
}

// second keeps what two branches make.
type second struct {
	*output
	t *testing.T
}

func (s *second) Batch(b *batch.Batch) error {
	for k := range 2 {
		made, err := s.opened.Assemblies[k].All(b)
		if err != nil {
			return err
		}
		if s.text.Write(made); k == 0 {
			s.text.WriteString("|")
		}
	}
	return nil
}

// TestWhatIsChangedIsValidated: messages that go on as they came are validated when a map has changed them, where the route wants that, and what a
// map does to the route's own sample is told at check: not what was so before.
func TestWhatIsChangedIsValidated(t *testing.T) {
	const (
		right = "MSH|^~\\&|A|B|C|D|20261128||ORU^R01^ORU_R01|1|P|2.5.1\rPID|1||9||Pup\rOBR|1|||C\rOBX|1|NM|WBC||4|g/L|||||F\r"
		odd   = "MSH#*~\\&#A#B#C#D#20261128##ORU*R01*ORU_R01#1#P#2.5.1######8859/1\rPID#1##9##caf\xe9\rOBR#1##F#C\rOBX#1#NM#WBC##4#g/L#####F\r"
		wrong = "MSH|^~\\&|A|B|C|D|20261128||ORU^R01^ORU_R01|1|P|2.5.1\rPID|1||9||\rOBR|1|||C\rOBX|1|NM|WBC||4|g/L|||||F\r"
	)
	for name, test := range map[string]struct {
		lines, read, deliver, in string
		good                     int64
		says                     []string
	}{
		"right":                  {"OBX-5 = \"5\"", "", "  differences: reject\n", right + odd, 2, nil},
		"changed to what is not": {"OBX-11 = \"Q\"", "", "  differences: reject\n", right, 0, []string{"what is made of it differs from its standard: OBX-11: Observation Result Status: \"Q\" is not among the codes"}},
		"with other separators":  {"OBX-5 = OBR-3", "", "  differences: reject\n", odd, 0, []string{"OBX-5: Observation Value is not a value of type NM"}},
		"told":                   {"OBX-11 = \"Q\"", "", "  differences: warn\n", right, 1, []string{"warning: what is made of it differs from its standard: OBX-11"}},
		"came so":                {"OBX-5 = \"5\"", "", "  differences: reject\n", wrong, 0, []string{"PID-5: Patient Name is required, and empty"}},
		"nothing is said":        {"OBX-11 = \"Q\"", "", "", right, 1, nil},
		"taken away":             {"PID-5 = absent", "", "", right, 1, nil},
		"one's own":              {"OBX-5 = \"55555\"", "", "  description: descriptions/d.txt\n", right, 0, []string{"differs from descriptions/d.txt: OBX-5: Value has 5 characters"}},
		"one's own has it not":   {"OBX-5 = \"5\"", "", "  description: descriptions/d.txt\n", strings.ReplaceAll(right, "2.5.1", "2.4"), 0, []string{`the description has nothing on messages "ORU" of version 2.4`}},
		"of the sample":          {"OBX-11 = \"Q\"\nOBX-5 = \"x\"", "  sample: samples/s.hl7\n", "", right, 1, []string{"maps/m.map:4:1: warning: OBX-11 of what is made of record 1 of samples/s.hl7: Observation Result Status", "OBX-5 of what is made of record 1"}},
		"the sample has it so":   {"OBX-5 = \"5\"", "  sample: samples/wrong.hl7\n", "", right, 1, nil},
	} {
		asChanged(t, name, "hl7", test.read, test.lines, test.deliver, test.in, map[string]string{"samples/s.hl7": right, "samples/wrong.hl7": wrong,
			"descriptions/d.txt": "structure ORU_R01 2.5.1 Results\nMSH PID OBR OBX+\n\nsegment OBX 2.5.1 Observation\nO SI(4) Set\nR ID(2..3)#0125 Type\nR CWE(250) What\nO ST(20) Sub\nR NM(3) Value\nO CWE(9) Unit\nO ST(9) Range\nO IS(5) Flag\nO NM(5) Probability\nO ID(2) Nature\nR ID(1) Status\n"}, test.good, test.says)
	}
}

// asChanged runs a file of messages through a map of some lines that leaves them as they came, and compares how many are good, and that this and
// nothing else is said at check and of them.
func asChanged(t *testing.T, name, format, read, lines, deliver, in string, files map[string]string, good int64, says []string) {
	t.Helper()
	w := map[string][]byte{
		"routes/r.yaml":          []byte("route: r\nlisten:\n  folder: \"{in}\"\n  names: \"*\"\nread:\n  format: " + format + "\n" + read + "map: maps/m.map\ndeliver:\n  folder: \"{out}\"\n  name: \"{file.name}\"\n" + deliver + "rejected:\n  folder: \"{out}/rejected\"\n"),
		"maps/m.map":             []byte("map m\nsource " + format + "\ntarget " + format + " as it came\n" + lines + "\n"),
		"environments/test.yaml": []byte("environment: test\nplaces:\n  in: in\n  out: out\n"),
	}
	for file, content := range files {
		w[file] = []byte(content)
	}
	c, findings := Compile(workspace.FromFiles(w), "r")
	if c == nil {
		t.Errorf("%s: %v", name, findings)
		return
	}
	o := &output{}
	if _, err := c.Plan.Run(context.Background(), strings.NewReader(in), flow.Inputs{}, o); err != nil {
		t.Fatal(err)
	}
	said := strings.Join(o.wrong, "\n")
	for _, f := range findings {
		said += f.String() + "\n"
	}
	for _, want := range says {
		if !strings.Contains(said, want) {
			t.Errorf("%s: does not say %s:\n%s", name, want, said)
		}
	}
	if o.good != good || len(says) == 0 && said != "" {
		t.Errorf("%s: %d good, want %d: %s", name, o.good, good, said)
	}
}
