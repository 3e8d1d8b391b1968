package json

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/format"
	"ydrion/core/schema"
	"ydrion/core/shape"
	"ydrion/core/text"
)

// read reads a file in batches of a size: the records' values and findings, line
// by line, and what was wrong with the file as a whole.
func read(t testing.TB, file, records string, size int, paths ...string) (lines, raws []string, wrong string) {
	t.Helper()
	in, err := text.Decode(strings.NewReader(file), text.UTF8)
	if err != nil {
		t.Fatal(err)
	}
	opened, findings, err := format.Open(Source{records}, in, shape.Of(paths...))
	if err != nil {
		t.Fatal(err)
	}
	if opened == nil {
		return nil, nil, said(findings[len(findings)-1])
	}
	r := opened.(*Reader)
	r.Size = size
	b := &batch.Batch{First: 1}
	for more := true; more; {
		b.Reset()
		var err error
		more, err = r.Cut(b)
		r.Split(b)
		for i := range b.Records() {
			var line []string
			for slot := range paths {
				v, ok := b.Value(i, slot)
				switch {
				case b.Spans[i*b.Slots+slot] == batch.Null:
					v = []byte("<null>")
				case !ok:
					v = []byte("-")
				}
				line = append(line, string(v))
			}
			for _, n := range b.Notes {
				if int(n.Record) == i {
					line = append(line, said(r.Describe(b, n)))
				}
			}
			lines, raws = append(lines, strings.Join(line, " ")), append(raws, string(r.Raw(b, i)))
		}
		b.First += int64(b.Records())
		var broken *format.Broken
		if errors.As(err, &broken) {
			return lines, raws, said(broken.Finding)
		} else if err != nil {
			t.Fatal(err)
		}
	}
	for _, f := range r.Finish(b.First - 1) {
		wrong = said(f)
	}
	return lines, raws, wrong
}

func said(f finding.Finding) string {
	return fmt.Sprintf("%s at %d:%d +%d", f.Code, f.Place.Line, f.Place.Column, f.Place.Offset)
}

func TestRecords(t *testing.T) {
	const nested = `{"version": 2, "station": {"code": "K"}, "skip": [[{"a": 1}], "]}"],
 "specimens": [ {"id": "S1", "tests": [{"c": "ALT", "v": 1.50}, {"c": "URE"}]},
  {"tests": [], "id": "S2"}, {"tests": [{"c": "X"}], "id": "S3"} ], "end": [1, {"x": "}"}]}`
	for _, test := range []struct {
		name, file, records string
		paths               []string
		want                []string
		wrong               string
	}{
		{"one document", ` {"a": {"b/c": "x"}, "d": [1, 2]} `, "", []string{"/a/b~1c", "d", "/d/1", "e", "/a"}, []string{`x [1, 2] 2 - {"b/c": "x"}`}, ""},
		{"lines", "{\"a\":1}\n{\"a\":null}\n\n{\"a\":\"\"}\n{}", "", []string{"a"}, []string{"1", "<null>", "", "-"}, ""},
		{"a name with a quote", "{\"a\\\"b\":1}\n{\"a\"b\":1}\n", "", []string{"a\"b"}, []string{"1", "- json.syntax at 2:5 +15"}, ""},
		{"sequence", "\x1e{\"a\":1}\n\x1e{\"a\":2}\n", "", []string{"a"}, []string{"1", "2"}, ""},
		{"list", "[{\"a\":1},\n{\"a\":true}]\n", "", []string{"a"}, []string{"1", "true"}, ""},
		{"empty list", " [ ] ", "", []string{"a"}, nil, ""},
		{"lists of lists", "[[1,2],[3]]", "/*/*", []string{"1/0", "0"}, []string{"1 1", "1 2", "3 3"}, ""},
		{"numbers stay what they are", `[9007199254740993, 1e400, 0.10, -0]`, "/*", []string{"0"}, []string{"9007199254740993", "1e400", "0.10", "-0"}, ""},
		{"escapes", `["\u00e9\n\"\\\/", "\ud83e\uddad"]`, "/*", []string{"0"}, []string{"é\n\"\\/", "🦭"}, ""},
		{"within", nested, "/specimens/*", []string{"id", "/tests/0/v", "2/station/code", "2/version"}, []string{"S1 1.50 K 2", "S2 - K 2", "S3 - K 2"}, ""},
		{"units", nested, "/specimens/*/tests/*", []string{"c", "v", "2/id", "4/station/code"}, []string{"ALT 1.50 S1 K", "URE - S1 K", "X - S3 K"}, ""},
		{"an element without a list", `[{"t":[1]},{"u":[2]},{"t":[]},{"t":5},{"t":[3]}]`, "/*/t/*", []string{"0"}, []string{"1", "- json.no-record at 1:12 +11", "- json.no-record at 1:31 +30", "3"}, ""},
		{"an element of a line without a list", "{\"l\":[{\"t\":[1]},{\"u\":[2]},{\"t\":[]}]}\n{\"l\":[{\"u\":1}]}\n{\"l\":[]}\n{\"l\":[{\"t\":[3]}]}\n", "/l/*/t/*", []string{"0"}, []string{"1", "- json.no-record at 1:17 +16", "- json.no-record at 2:7 +43", "3"}, ""},
		{"no such member", nested, "/specimen/*", nil, nil, "json.no-records at 3:91 +239"},
		{"no list", `{"a": 1}`, "/a/*", nil, nil, "json.no-records at 1:7 +6"},
		{"nothing", " \n", "", nil, nil, "file.empty at 1:1 +0"},
		{"after the end", "[1] [2]", "/*", []string{"0"}, []string{"1", "2"}, ""},
		{"after the end, not said", "[1] [2]", "", []string{"0"}, []string{"1"}, "json.structure at 1:5 +4"},
		{"a list a line", "[1]\n [2, 3]\n[]\n", "/*", []string{"0"}, []string{"1", "2", "3"}, ""},
		{"a list a line, not said", "[1]\n [2, 3]\n{}\n", "", []string{"0"}, []string{"1", "2", "3", "- json.no-record at 3:1 +12"}, ""},
		{"a document a line", "{\"of\":1,\"t\":[{\"a\":1},{\"a\":2}]}\n{\"t\":[]}\n{\"u\":1}\n{\"t\":[{\"a\":3}],\"of\":3}", "/t/*", []string{"a", "2/of"}, []string{"1 1", "2 1", "- - json.no-record at 3:1 +40", "3 3"}, ""},
		{"a document a line, one broken", "{\"t\":[{\"a\":1}]}\n{\"t\":[{\"a\":2}\n{\"t\":[{\"a\":3}]}\n", "/t/*", []string{"a"}, []string{"1", "- json.syntax at 2:14 +29", "3"}, ""},
		{"broken lines", "{\"a\":1}\n{\"a\":\n{\"a\":\"x\n{\"a\":4}}\r\n]\nnull x\n{\"a\":5}", "", []string{"a"}, []string{"1", "- json.syntax at 2:6 +13", "- json.syntax at 3:6 +19", "4 json.syntax at 4:8 +29", "- json.syntax at 5:1 +32", "- json.syntax at 6:5 +38", "5"}, ""},
		{"the first line broken", "{\"a\":1\n{\"a\":2}\n{\"a\":3}\n", "", []string{"a"}, []string{"1 json.syntax at 1:7 +6", "2", "3"}, ""},
		{"no lines, but values", "{\"a\":1} {\"a\":2}\n{\"a\":\n3}", "", []string{"a"}, []string{"1", "2", "3"}, ""},
		{"several documents", "{\"of\":1,\n\"t\":[{\"a\":1},{\"a\":2}]}\n{\"t\":[],\n\"of\":2}\n{\"t\":[{\"a\":3}],\n\"of\":3} {\"u\":1}", "/t/*", []string{"a", "2/of"}, []string{"1 1", "2 1", "3 3", "- - json.no-record at 6:9 +73"}, ""},
		{"behind the list", `{"t":[{"a":1},{"a":2}],"of":"x","in":{"b":[7,8]}}`, "/t/*", []string{"a", "2/of", "2/in/b/1", "2/none"}, []string{"1 x 8 -", "2 x 8 -"}, ""},
		{"behind an inner list", `{"s":[{"t":[{"a":1}],"of":"x"},{"t":[{"a":2}],"of":"y"}],"z":9}`, "/s/*/t/*", []string{"a", "2/of", "4/z"}, []string{"1 x 9", "2 y 9"}, ""},
		{"null before, a value behind another", `{"of":null,"t":[{"a":1}],"in":{"of":2}}`, "/t/*", []string{"a", "2/of"}, []string{"1 <null>"}, ""},
		{"behind, and broken", `{"t":[{"a":1}],"of":`, "/t/*", []string{"a", "2/of"}, []string{"1 -"}, "json.structure at 1:21 +20"},
		{"an object as a list", `{"t":{"k1":{"a":1},"k\u00e9":{"a":2},"":{"a":3}},"of":"x"}`, "/t/*", []string{"a", "0#", "2/of", "1#"}, []string{"1 k1 x t", "2 ké x t", "3  x t"}, ""},
		{"objects in objects", `{"t":{"A":{"u":{"x":1,"y":[2]}},"B":{"u":{}}}}`, "/t/*/u/*", []string{"0", "0#", "2#"}, []string{"1 x A", "[2] y A"}, ""},
		{"an empty object as a list", `{"t":{}}`, "/t/*", []string{"a"}, nil, ""},
		{"places in a list", `{"t":["x","y"]}`, "/t/*", []string{"0", "0#"}, []string{"x 0", "y 1"}, ""},
		{"an object, not said", "{\"a\":{\"b\":1}}", "", []string{"/a/b"}, []string{"1"}, ""},
		{"a document without indents", "{\"t\":[\n{\"a\":1}\n]}\n", "/t/*", []string{"a"}, []string{"1"}, ""},
		{"a sequence of numbers", "\x1e12\n\x1e34\x1e5 \n\x1e67", "", []string{"0"}, []string{"12", "34 json.syntax at 2:4 +7", "5", "67 json.syntax at 3:4 +14"}, ""},
		{"a broken sequence", "\x1e{\"a\":\n1}\n\x1e{\"a\":2\n\x1e\x1e{\"a\":\"\n\x1e{\"a\":3}\n", "", []string{"a"}, []string{"1", "2 json.syntax at 3:8 +17", "- json.syntax at 4:8 +25", "3"}, ""},
		{"not closed", "[1, {\"a\": 2", "/*", []string{"0"}, []string{"1"}, "json.structure at 1:5 +4"},
		{"list not closed", "[1, 2,", "/*", []string{"0"}, []string{"1", "2"}, "json.structure at 1:7 +6"},
		{"document not closed", `{"a": [1, 2]`, "/a/*", []string{"0"}, []string{"1", "2"}, "json.structure at 1:13 +12"},
		{"wrong bracket", `[1, {"a": [2}], 3]`, "/*", []string{"0"}, []string{"1"}, "json.structure at 1:13 +12"},
		{"no comma", `[1 2]`, "/*", []string{"0"}, []string{"1"}, "json.structure at 1:4 +3"},
		{"two names", "{\"a\":1,\n \"\\u0061\":2}", "", []string{"a"}, []string{"2 json.name-twice at 2:2 +9"}, ""},
		{"half a pair", `{"a": "x\ud800"}`, "", []string{"a"}, []string{"- json.surrogate at 1:9 +8"}, ""},
		{"not UTF-8", "[\"a\",\n\"caf\xe9\"]", "", []string{"0"}, []string{"a", "- text.encoding at 2:5 +10"}, ""},
		{"UTF-8 beside what is not", "[\"caf\u00e9 \u2603 \U0001f9ad\",\"caf\xe9\",\"long enough to be read in words \u00e9\"]", "", []string{"0"}, []string{"café ☃ 🦭", "- text.encoding at 1:17 +22", "long enough to be read in words é"}, ""},
		{"two names of many", `[{"ab":1,"ba":2,"a":3,"b":4,"":5,"aab":6,"abb":7},{"ab":1,"cd":2,"ab":3},{"":1,"x":2,"":3}]`, "", []string{"abb"}, []string{"7", "- json.name-twice at 1:66 +65", "- json.name-twice at 1:86 +85"}, ""},
		{"more than are taken", `[{"t":[1,2]},{"t":[1,2,3,4]},{"t":[[1],[2,3,4]]}]`, "", []string{"/t/0", "/t/1"}, []string{"1 2", "1 2 json.beyond at 1:24 +23", "[1] [2,3,4]"}, ""},
		{"the first is taken", `[{"t":[1,2,3]}]`, "", []string{"/t/0"}, []string{"1"}, ""},
		{"more than are taken of units", `{"l":[{"t":[{"v":[1,2,3]}]}]}`, "/l/*/t/*", []string{"/v/1"}, []string{"2 json.beyond at 1:23 +22"}, ""},
		{"a tab in a string", "{\"a\": \"x\ty\"}", "", []string{"a"}, []string{"- json.control at 1:9 +8"}, ""},
		{"bad escape", `{"a": "\x"}`, "", []string{"a"}, []string{`- json.escape at 1:8 +7`}, ""},
		{"leading zero", `[1, 01, .5, 1., +1, 2]`, "", []string{"0"}, []string{"1", "- json.number at 1:5 +4", "- json.syntax at 1:9 +8", "- json.number at 1:13 +12", "- json.syntax at 1:17 +16", "2"}, ""},
		{"no colon", `[{"a" 1}, {"a":}, {,}, {"a":1,}, [1,], nul, tru]`, "", []string{"a"}, []string{"- json.syntax at 1:7 +6", "- json.syntax at 1:16 +15", "- json.syntax at 1:20 +19", "1 json.syntax at 1:31 +30", "- json.syntax at 1:37 +36", "- json.syntax at 1:40 +39", "- json.syntax at 1:45 +44"}, ""},
		{"too deep", "[" + strings.Repeat("[", 505) + strings.Repeat("]", 505) + "]", "", []string{"0"}, []string{"- json.depth at 1:503 +502"}, ""},
	} {
		for _, size := range []int{1, 7, 1 << 10} {
			got, raws, wrong := read(t, test.file, test.records, size, test.paths...)
			if !slices.Equal(got, test.want) || wrong != test.wrong {
				t.Errorf("%s, size %d:\n%q %s\nwant\n%q %s", test.name, size, got, wrong, test.want, test.wrong)
			}
			if test.name == "units" && (len(raws) != 3 || raws[1] != `{"version": 2, "station": {"code": "K"}, "skip": [[{"a": 1}], "]}"],  "specimens": [{"id": "S1", "tests": [{"c": "URE"}]}]}`+"\n") {
				t.Errorf("units alone are %q", raws)
			}
		}
	}
}

// TestBind: paths that cannot be.
func TestBind(t *testing.T) {
	for path, says := range map[string]string{"9/a": "there are not 9 levels above a record", "1/a": "levels above a record"} {
		in, _ := text.Decode(strings.NewReader(`{"a": [1]}`), text.UTF8)
		if r, findings, err := format.Open(Source{"/a/*"}, in, shape.Of(path)); r != nil || err != nil || !strings.Contains(findings.Error(), says) {
			t.Errorf("%s: %v", path, findings)
		}
	}
}

// FuzzReader checks the reader against the standard library's, and small blocks
// against large ones.
func FuzzReader(f *testing.F) {
	f.Add(`{"a": {"b": [1, "x\u00e9", null, true]}, "c": -1.5e3}`, 3)
	f.Add("[{\"a\":1},\n{\"a\":\"\\ud83e\\uddad\"}] x", 5)
	f.Fuzz(func(t *testing.T, file string, size int) {
		size = 1 + size&0xff
		lines, raws, wrong := read(t, file, "", size, "a", "/a/b", "c")
		again, _, wrongAgain := read(t, file, "", 1<<20, "a", "/a/b", "c")
		if !slices.Equal(lines, again) || wrong != wrongAgain {
			t.Fatalf("in blocks of %d\n%q %s\nwhole\n%q %s", size, lines, wrong, again, wrongAgain)
		}
		read(t, file, "/a/*/b/*", size, "c", "2/a", "4/c")
		for i, raw := range raws {
			good := !strings.Contains(lines[i], " json.") && !strings.Contains(lines[i], " text.encoding")
			if good && !json.Valid([]byte(raw)) {
				t.Fatalf("%q was taken for JSON: %q", raw, lines[i])
			}
			if !good && json.Valid([]byte(raw)) && !strings.Contains(lines[i], "twice") && !strings.Contains(lines[i], "surrogate") && !strings.Contains(lines[i], "encoding") && !strings.Contains(lines[i], "depth") && !strings.Contains(file, "\x1e") {
				t.Fatalf("%q was not taken for JSON: %q", raw, lines[i])
			}
		}
	})
}

// TestAgainstStandardLibrary: the same values come out.
func TestAgainstStandardLibrary(t *testing.T) {
	for _, record := range []string{`{"a":"x\ty\u20ac","b":[1,{"c":"d"}],"n":12.50}`, `{"n":1E+2,"a":""}`, `{"b":{"c":"\ud83e\uddad\u0000"},"a":"é"}`} {
		var want map[string]json.RawMessage
		if err := json.Unmarshal([]byte(record), &want); err != nil {
			t.Fatal(err)
		}
		for name, raw := range want {
			lines, _, wrong := read(t, record, "", 4, name)
			expected := string(raw)
			if raw[0] == '"' {
				if err := json.Unmarshal(raw, &expected); err != nil {
					t.Fatal(err)
				}
			}
			if wrong != "" || len(lines) != 1 || lines[0] != expected {
				t.Errorf("%s of %s is %q (%s), want %q", name, record, lines, wrong, expected)
			}
		}
	}
}

// TestListsInLists: rows of lists in lists are those that a slow reading of the same documents gives, with
// members before and behind the lists, lists that are empty, not there or no lists, in one document and in
// many.
func TestListsInLists(t *testing.T) {
	dice := rand.New(rand.NewPCG(7, 11))
	pick := func(texts ...string) string { return texts[dice.IntN(len(texts))] }
	for range 400 {
		shuffled := func(members ...string) string {
			dice.Shuffle(len(members), func(i, j int) { members[i], members[j] = members[j], members[i] })
			return "{" + strings.Join(slices.DeleteFunc(members, func(m string) bool { return m == "" }), pick(",", " ,\n ")) + "}"
		}
		var documents []string
		for range 1 + dice.IntN(3) {
			var outer []string
			for range dice.IntN(4) {
				var inner []string
				for range dice.IntN(4) {
					inner = append(inner, pick("5", `"x"`, "null", "[1]", "{}", shuffled(`"v":`+pick("1.50", `"a\u00e9\n"`, "null"), pick("", `"w":{"deep":[{"v":9}]}`))))
				}
				outer = append(outer, shuffled(pick(`"id":`+pick("1", `"two"`, "null"), ""), pick(`"t":[`+strings.Join(inner, ",")+"]", `"t":[`+strings.Join(inner, " , ")+"]", "", `"t":7`, `"t":[]`), pick("", `"u":{"t":[{"v":0}]}`)))
			}
			documents = append(documents, shuffled(pick(`"by":"me"`, ""), pick(`"l":[`+strings.Join(outer, ",")+"]", `"l":[`+strings.Join(outer, ",\n")+"]", `"l":[]`), `"z":[{"t":[{"v":3}]}]`))
		}
		if len(documents) > 1 {
			for i := range documents {
				documents[i] = strings.ReplaceAll(documents[i], "\n ", " ")
			}
		}
		file := strings.ReplaceAll(strings.Join(documents, "\x00"), "\n", " ")
		file = strings.ReplaceAll(file, "\x00", "\n")
		var want []string
		for _, text := range strings.Split(file, "\n") {
			var document struct {
				By json.RawMessage
				L  []map[string]json.RawMessage
			}
			if err := json.Unmarshal([]byte(text), &document); err != nil {
				t.Fatal(err)
			}
			for _, o := range document.L {
				var list []json.RawMessage
				if json.Unmarshal(o["t"], &list) != nil || o["t"] == nil {
					want = append(want, "- "+slow(o["id"])+" "+slow(document.By)+" rejected")
					continue
				}
				for _, e := range list {
					var members map[string]json.RawMessage
					json.Unmarshal(e, &members) //nolint: it need not be an object
					want = append(want, slow(members["v"])+" "+slow(o["id"])+" "+slow(document.By))
				}
			}
		}
		for _, size := range []int{1, 60, 4000} {
			got, _, wrong := read(t, file, "/l/*/t/*", size, "v", "2/id", "4/by")
			for i := range got {
				if strings.Contains(got[i], " json.no-record") {
					got[i] = got[i][:strings.Index(got[i], " json.")] + " rejected"
				}
			}
			if !slices.Equal(got, want) || wrong != "" {
				t.Fatalf("%s\n%q %s\nnot\n%q", file, got, wrong, want)
			}
		}
	}
}

// slow is a value as the standard library reads it.
func slow(raw json.RawMessage) string {
	switch string(raw) {
	case "":
		return "-"
	case "null":
		return "<null>"
	}
	var s string
	if json.Unmarshal(raw, &s) == nil {
		return s
	}
	return string(raw)
}

// TestStreams: a list of any length needs the memory of a batch.
func TestStreams(t *testing.T) {
	const n = 100_000
	pr, pw := io.Pipe()
	go func() {
		io.WriteString(pw, `{"list": [`)
		for i := range n {
			if i > 0 {
				io.WriteString(pw, ",")
			}
			fmt.Fprintf(pw, `{"i": %d, "text": "%s"}`, i, strings.Repeat("x", 100))
		}
		io.WriteString(pw, `]}`)
		pw.Close()
	}()
	in, err := text.Decode(pr, text.UTF8)
	if err != nil {
		t.Fatal(err)
	}
	r, findings, err := format.Open(Source{"/list/*"}, in, shape.Of("i"))
	if r == nil || err != nil {
		t.Fatal(findings, err)
	}
	b, count := &batch.Batch{}, 0
	for more := true; more; {
		b.Reset()
		if more, err = r.Cut(b); err != nil {
			t.Fatal(err)
		}
		r.Split(b)
		for i := range b.Records() {
			if v, _ := b.Value(i, 0); string(v) != fmt.Sprint(count) {
				t.Fatalf("record %d has %q", count, v)
			}
			count++
		}
		if cap(b.Buf) > 2*batch.Size && count > 200_000 { // the first has what was read to find lines
			t.Fatalf("a batch has %d bytes", cap(b.Buf))
		}
	}
	if count != n {
		t.Errorf("%d records", count)
	}
}

func BenchmarkReader(b *testing.B) {
	record := []byte(`{"specimen_id":"SC61803398","collected_at":"2024-05-27T13:35:00","station":{"code":"ST01","name":"Gull Point"},"animal":{"tag":"T-6TCJHJ","species":"GS","sex":"U"},"weight_kg":8.4,"note":"said \"lively\" by crew","tests":[{"code":"RBC","value":36.63,"unit":"10*12/L","flag":null}]}` + "\n")
	file := bytes.Repeat(record, 10_000)
	b.SetBytes(int64(len(file)))
	b.ReportAllocs()
	bt := &batch.Batch{}
	for b.Loop() {
		in, _ := text.Decode(bytes.NewReader(file), text.UTF8)
		r, _, _ := format.Open(Source{}, in, shape.Of("specimen_id", "/animal/tag", "weight_kg"))
		for more := true; more; {
			bt.Reset()
			more, _ = r.Cut(bt)
			r.Split(bt)
		}
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/10_000, "ns/record")
}

// TestAround: what stands around records is JSON, too, or it is said where it is not. A second list of the name would be lost.
func TestAround(t *testing.T) {
	long := `{"t": [{"a":"x"}]` + strings.Repeat(`, "b": "`+strings.Repeat("x", 1<<20)+`"`, 9) + "}"
	for file, want := range map[string]string{
		long: "json.long at 1:1 +0",
		"{\"a\": \"\xff\", \"t\": [{\"a\":\"x\"}]}":         "text.encoding at 1:8 +7",
		"{\"t\": [{\"a\":\"x\"}], \"b\": [\"é\xe9\"]}":      "text.encoding at 1:28 +28",
		`{"a": 1, "t": [{"a":"x"}], "b": [1, {"c": null}]}`: "",
		`{"a": "\e", "t": [{"a":"x"}]}`:                     "json.escape at 1:8 +7",
		"{\"a\": \"\n\", \"t\": [{\"a\":\"x\"}]}":           "json.control at 1:8 +7",
		`{"a": tru, "t": [{"a":"x"}]}`:                      "json.syntax at 1:7 +6",
		`{"a": 01, "t": [{"a":"x"}]}`:                       "json.number at 1:7 +6",
		`{"a": 1, "a": 2, "t": [{"a":"x"}]}`:                "json.name-twice at 1:10 +9",
		`{"t": [{"a":"x"}], "t": [{"a":"y"}]}`:              "json.name-twice at 1:20 +19",
		"{\"t\": [{\"a\":\"x\"}],\n \"b\": tru}":            "json.syntax at 2:7 +25",
		`{"t": [{"a":"x"}],}`:                               "json.syntax at 1:19 +18",
		`{"t": [{"a":"x"}] "b": 1}`:                         "json.syntax at 1:19 +18",
		`{"t": [{"a":"x"}], "b" 1}`:                         "json.syntax at 1:24 +23",
		`{"t": [{"a":"x"}], "b": "\e"}`:                     "json.escape at 1:26 +25",
		`{"o": {"t": [{"a":"x"}],, "b": 1}}`:                "json.syntax at 1:25 +24",
	} {
		records := "/t/*"
		if strings.HasPrefix(file, `{"o"`) {
			records = "/o/t/*"
		}
		lines, _, wrong := read(t, file, records, 1<<20, "a")
		if wrong != want || len(lines) != 1 || lines[0] != "x" {
			t.Errorf("%s: %q, %s, not %s", file, lines, wrong, want)
		}
	}
}

// TestBehindAVeryLongList: what stands behind a list that is longer than is read at once is not
// known to its records, and that is told; nothing is told where nothing is missing.
func TestBehindAVeryLongList(t *testing.T) {
	list := `{"before":"b","t":[` + strings.Repeat(`{"a":"`+strings.Repeat("x", 1<<20)+`"},`, 65) + `{"a":"last"}]`
	for behind, test := range map[string]struct {
		path, value, wrong string
	}{
		`,"of":"x"}`:                  {"2/of", "-", fmt.Sprintf("json.behind at 1:%d +%d", len(list)+7, len(list)+6)},
		`,"other":{"of":["of",1]}}`:   {"2/of", "-", ""},
		`,"other":1,"in":{"of":"x"}}`: {"2/in/of", "-", fmt.Sprintf("json.behind at 1:%d +%d", len(list)+17, len(list)+16)},
		`, "before" : "b"}`:           {"2/before", "b", fmt.Sprintf("json.name-twice at 1:%d +%d", len(list)+3, len(list)+2)},
	} {
		lines, _, wrong := read(t, list+behind, "/t/*", 1<<20, "a", test.path)
		if len(lines) != 66 || lines[65] != "last "+test.value || wrong != test.wrong {
			t.Errorf("%s: %d records, %s, not %s", behind, len(lines), wrong, test.wrong)
		}
	}
	spoilt := strings.Replace(list, `"b",`, "\"\xff\","+`"c":"`+strings.Repeat("x", longestAround)+`",`, 1) + "}"
	if _, _, wrong := read(t, spoilt, "/t/*", 1<<20, "a", "2/before"); wrong != "text.encoding at 1:12 +11" {
		t.Errorf("what cannot be read before a very long list: %s", wrong)
	}
	if _, _, wrong := read(t, list+"}", "/t/*", 1<<20, "0#"); wrong != "json.long at 1:1 +0" {
		t.Errorf("places in a very long list: %s", wrong)
	}
	if _, _, wrong := read(t, strings.NewReplacer(`"t":[`, `"t":{`, `}]`, `}}`, `{"a":"x`, `"k":{"a":"x`, `{"a":"l`, `"k":{"a":"l`).Replace(list)+"}", "/t/*", 1<<20, "a"); wrong != "json.long at 1:1 +0" {
		t.Errorf("a very long object: %s", wrong)
	}
}

// TestStarsInPaths: a path with a * is found out before any file comes; a star in a longer name is none.
func TestStarsInPaths(t *testing.T) {
	s, findings := schema.Parse("s.json", []byte(`{"fields": [{"name": "a", "path": "/rows/*/a"}, {"name": "b", "path": "2/*"}, {"name": "c", "path": "/c*/d"}, {"name": "*"}],
		"lists": [{"name": "rows", "path": "/rows/*", "fields": [{"name": "kg", "path": "/rows/*/kg"}, {"name": "tag", "path": "/tag"}]}]}`))
	if findings.HasErrors() {
		t.Fatal(findings)
	}
	_, told := Source{Records: "/of/*"}.Bind(s.Shape())
	var names []string
	for _, f := range told {
		if f.Code != "json.star" || f.Severity != finding.Warning {
			t.Error(f)
		}
		names = append(names, f.Place.Path)
	}
	if got := strings.Join(names, " "); got != "a b rows kg" {
		t.Error(got, told)
	}
}
