package route

import (
	"context"
	"encoding/csv"
	"fmt"
	"strings"
	"testing"

	"ydrion/core/flow"
	"ydrion/workspace"
)

// TestRowsAsTheyCame: what a map does not name goes on byte for byte, quotes, blanks and line ends included,
// behind the file's own heading and before its own last lines, in its own character set.
func TestRowsAsTheyCame(t *testing.T) {
	const sheet = "tag;kg;note\r\n\"T-1\"; 1,5 ;\"a \"\"b\"\"\"\r\nT-2;;x y\r\n"
	for name, test := range map[string]struct{ read, lines, in, want, wrong string }{
		"nothing":            {"delimiter: \";\"", "", sheet, sheet, ""},
		"one column":         {"delimiter: \";\"", "tag = tag | lower", sheet, strings.NewReplacer("\"T-1\"", "t-1", "T-2", "t-2").Replace(sheet), ""},
		"quoted":             {"delimiter: \";\"", "note = \"{note};\\n\\\"\"", sheet, "tag;kg;note\r\n\"T-1\"; 1,5 ;\"a \"\"b\"\";\n\"\"\"\r\nT-2;;\"x y;\n\"\"\"\r\n", ""},
		"emptied":            {"delimiter: \";\"", "clear kg\nnote = absent", sheet, "tag;kg;note\r\n\"T-1\";;\r\nT-2;;\r\n", ""},
		"under a condition":  {"delimiter: \";\"", "when kg is not empty\nnote = \"n\"\nend", sheet, strings.Replace(sheet, "\"a \"\"b\"\"\"", "n", 1), ""},
		"added":              {"delimiter: \";\"", "age = 3\n\"who;\" = \"v;\" when tag = \"T-2\", otherwise absent", sheet, "tag;kg;note;age;\"who;\"\r\n\"T-1\"; 1,5 ;\"a \"\"b\"\"\";3;\r\nT-2;;x y;3;\"v;\"\r\n", ""},
		"left out":           {"delimiter: \";\"", "skip when tag = \"T-1\" because \"x\"", sheet, "tag;kg;note\r\nT-2;;x y\r\n", "x"},
		"no line end":        {"", "age = 3\nkg = \"9\"", "tag,kg,note\na,b,c", "tag,kg,note,age\na,9,c,3", ""},
		"another order":      {"", "kg = \"9\"", "note,extra,kg,tag\na,\"b\",c,d\n", "note,extra,kg,tag\na,\"b\",9,d\n", ""},
		"not UTF-8":          {"encoding: windows-1252", "note = \"é\"", "tag,kg,note\n\xe4,b,c\n", "tag,kg,note\n\xe4,b,\xe9\n", ""},
		"none of the set":    {"encoding: windows-1252", "note = \"日\"", "tag,kg,note\n\xe4,b,c\n", "", "does not have, in which the file is"},
		"a mark":             {"", "kg = \"9\"", "\xef\xbb\xbftag,kg,note\na,b,c\n", "\xef\xbb\xbftag,kg,note\na,9,c\n", ""},
		"lines before":       {"skip: 1, comment: \"#\"", "tag = \"#1\"\nkg = \"#\"", "a report\ntag,kg,note\n# remark\na,b,c\n", "a report\ntag,kg,note\n\"#1\",#,c\n", ""},
		"a footer":           {"footer: 1, total: \"^Rows: ([0-9]+)\"", "skip when tag = \"a\" because \"x\"", "tag,kg,note\na,b,c\nd,e,f\ng,h,i\nRows: 3, all\n", "tag,kg,note\nd,e,f\ng,h,i\nRows: 2, all\n", "x"},
		"no quotes":          {"quote: none", "kg = \"\\\"\"", "tag,kg,note\na,\"b,c\n", "tag,kg,note\na,\",c\n", ""},
		"no quotes for that": {"quote: none", "kg = \"1,5\"", "tag,kg,note\na,\"b,c\n", "", "has what separates"},
		"null":               {"", "kg = null", "tag,kg,note\na,b,c\n", "", "null, which cannot be said"},
		"dropped":            {"", "drop kg when tag = \"a\"", "", "", "clear kg"},
		"twice":              {"", "kg = \"1\"\nkg = \"2\"", "", "", "assigned twice"},
	} {
		read := "format: csv"
		if test.read != "" {
			read += ", " + test.read
		}
		c, findings := Compile(workspace.FromFiles(map[string][]byte{
			"routes/r.yaml":  []byte("route: r\nlisten: {folder: \"{in}\"}\nread: {" + read + "}\ncheck: {schema: schemas/s.json}\nmap: maps/m.map\ndeliver: {folder: \"{out}\", name: \"{file.stem}.csv\"}\nrejected: {folder: \"{out}/rejected\"}\n"),
			"maps/m.map":     []byte("map m\nsource csv schemas/s.json\ntarget csv as it came\n" + test.lines + "\n"),
			"schemas/s.json": []byte(`{"fields": [{"name": "tag"}, {"name": "kg"}, {"name": "note"}]}`),
		}), "r")
		if c == nil {
			if test.wrong == "" || !strings.Contains(findings.Error(), test.wrong) {
				t.Errorf("%s: %v", name, findings)
			}
			continue
		}
		for _, cores := range []int{1, 3} {
			o := &output{}
			if _, err := c.Plan.Run(context.Background(), strings.NewReader(test.in), flow.Inputs{Cores: cores}, o); err != nil {
				t.Fatal(err)
			}
			wrong := strings.Join(o.wrong, "\n")
			if got := o.whole(t); got != test.want || !strings.Contains(wrong, test.wrong) {
				t.Errorf("%s: %q, not %q\n%s", name, got, test.want, wrong)
			}
		}
	}
}

// TestManyRowsAsTheyCame: a large file with one column changed and one added is, to another reader, the same
// table with these.
func TestManyRowsAsTheyCame(t *testing.T) {
	var in strings.Builder
	w := csv.NewWriter(&in)
	w.Write([]string{"tag", "kg", "note"})
	for i := range 40_000 {
		w.Write([]string{fmt.Sprint("T-", i), fmt.Sprint(i % 90), []string{"calm", "a, \"b\"", "two\nlines", "", " é"}[i%5]})
	}
	w.Flush()
	c, findings := Compile(workspace.FromFiles(map[string][]byte{
		"routes/r.yaml":  []byte("route: r\nlisten: {folder: \"{in}\"}\nread: {format: csv}\ncheck: {schema: schemas/s.json}\nmap: maps/m.map\ndeliver: {folder: \"{out}\", name: \"{file.stem}.csv\"}\nrejected: {folder: \"{out}/rejected\"}\n"),
		"maps/m.map":     []byte("map m\nsource csv schemas/s.json\ntarget csv as it came\nkg = kg * 2\nfull = \"{tag}, {note}\"\n"),
		"schemas/s.json": []byte(`{"fields": [{"name": "tag"}, {"name": "kg", "type": "integer"}, {"name": "note"}]}`),
	}), "r")
	if c == nil {
		t.Fatal(findings)
	}
	o := &output{}
	if r, err := c.Plan.Run(context.Background(), strings.NewReader(in.String()), flow.Inputs{Cores: 4}, o); err != nil || r.Good != 40_000 {
		t.Fatal(r, err)
	}
	rows, err := csv.NewReader(strings.NewReader(o.whole(t))).ReadAll()
	if err != nil || len(rows) != 40_001 || strings.Join(rows[0], " ") != "tag kg note full" {
		t.Fatal(err, len(rows))
	}
	for i, row := range rows[1:] {
		if row[0] != fmt.Sprint("T-", i) || row[1] != fmt.Sprint(i%90*2) || row[3] != row[0]+", "+row[2] {
			t.Fatal(i, row)
		}
	}
}

// TestColumnsThatAreNoWords: columns whose names are no words, or words of the language, are assigned in
// quotes, as the check says to write it.
func TestColumnsThatAreNoWords(t *testing.T) {
	make := func(lines string) (string, string) {
		c, findings := Compile(workspace.FromFiles(map[string][]byte{
			"routes/r.yaml":  []byte("route: r\nlisten: {folder: \"{in}\"}\nread: {format: csv}\ncheck: {schema: schemas/s.json}\nmap: maps/m.map\ndeliver: {folder: \"{out}\", name: \"{file.stem}.csv\"}\nrejected: {folder: \"{out}/rejected\"}\n"),
			"maps/m.map":     []byte("map m\nsource csv schemas/s.json\ntarget csv based on samples/s\n" + lines),
			"samples/s":      []byte("Tag no.,keep,Größe,when\n"),
			"schemas/s.json": []byte(`{"fields": [{"name": "tag"}, {"name": "my kg"}]}`),
		}), "r")
		if c == nil || len(findings) > 0 {
			said := ""
			for _, f := range findings {
				said += f.String() + "\n"
			}
			return "", said
		}
		o := &output{}
		if _, err := c.Plan.Run(context.Background(), strings.NewReader("tag,my kg\na,1\n"), flow.Inputs{}, o); err != nil {
			t.Fatal(err)
		}
		return o.whole(t), ""
	}
	if got, wrong := make("\"Tag no.\" = tag\n\"keep\" = field \"my kg\"\n\"Größe\" = \"m\"\nclear \"when\"\n"); got != "Tag no.,keep,Größe,when\na,1,m,\n" {
		t.Errorf("%q %s", got, wrong)
	}
	// What is suggested can be written.
	_, wrong := make("")
	lines := ""
	for _, part := range strings.Split(wrong, "`") {
		if strings.HasPrefix(part, "clear ") || strings.HasPrefix(part, "ignore ") {
			lines += part + "\n"
		}
	}
	if got, still := make(lines); got != "Tag no.,keep,Größe,when\n,,,\n" {
		t.Errorf("%s gives %q %s", lines, got, still)
	}
}

// TestRowsOfOneColumn: a row of which nothing is left is still a row to another reader, as it came and as it is made anew.
func TestRowsOfOneColumn(t *testing.T) {
	for lines, target := range map[string]string{"tag = \"\" when tag = \"b\", otherwise tag": "csv as it came", "tag = absent when tag = \"b\", otherwise tag": "csv based on samples/s.csv"} {
		w := workspace.FromFiles(map[string][]byte{
			"routes/r.yaml":  []byte("route: r\nlisten: {folder: \"{in}\"}\nread: {format: csv}\ncheck: {schema: schemas/s.json}\nmap: maps/m.map\ndeliver: {folder: \"{out}\", name: \"{file.name}\"}\nrejected: {folder: \"{bad}\"}\n"),
			"schemas/s.json": []byte(`{"fields": [{"name": "tag"}]}`),
			"samples/s.csv":  []byte("tag\n"),
			"maps/m.map":     []byte("map m\nsource csv schemas/s.json\ntarget " + target + "\n\n" + lines + "\n"),
		})
		c, findings := Compile(w, "r")
		if c == nil {
			t.Fatal(findings)
		}
		o := &output{}
		if _, err := c.Plan.Run(context.Background(), strings.NewReader("tag\na\nb\nb\nc\nb\n"), flow.Inputs{}, o); err != nil {
			t.Fatal(err)
		}
		rows, err := csv.NewReader(strings.NewReader(o.whole(t))).ReadAll()
		if err != nil || fmt.Sprint(rows) != "[[tag] [a] [] [] [c] []]" {
			t.Errorf("%s: %v %v of %q %v", target, rows, err, o.whole(t), o.wrong)
		}
	}
}
