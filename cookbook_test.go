package ydrion

import (
	"context"
	"os"
	"strings"
	"testing"

	"ydrion/core/batch"
	"ydrion/core/flow"
	"ydrion/core/format"
	"ydrion/core/lang"
	"ydrion/core/place"
	"ydrion/core/shape"
	"ydrion/core/value"
	"ydrion/route"
	"ydrion/workspace"
)

// TestCookbook runs each recipe of the cookbook.
func TestCookbook(t *testing.T) {
	text, err := os.ReadFile("docs/cookbook.md")
	if err != nil {
		t.Fatal(err)
	}
	recipes := 0
	for _, line := range strings.Split(string(text), "\n") {
		cells := strings.Split(strings.ReplaceAll(line, `\|`, "\x00"), "|")
		if len(cells) != 6 || !strings.HasPrefix(line, "|") || !strings.Contains(cells[2], "`") {
			continue
		}
		recipes++
		expression := strings.ReplaceAll(strings.Trim(strings.TrimSpace(cells[2]), "`"), "\x00", "|")
		if got := evaluated(t, expression, strings.TrimSpace(cells[3])); got != strings.TrimSpace(cells[4]) {
			t.Errorf("%s of %s gives %q", expression, cells[3], got)
		}
	}
	for _, section := range strings.Split(string(text), "\n## ")[1:] {
		if strings.Contains(section, "```map\n") {
			title, _, _ := strings.Cut(section, "\n")
			recipes++
			t.Run(title, func(t *testing.T) { cook(t, section) })
		}
	}
	if recipes < 40 {
		t.Errorf("there are %d recipes", recipes)
	}
}

// evaluated is what an expression gives for a field x.
func evaluated(t *testing.T, expression, field string) string {
	t.Helper()
	node, findings := lang.ParseText("x", "{"+expression+"}", "{"+expression+"}", 0)
	if findings.HasErrors() {
		t.Fatalf("%s: %v", expression, findings)
	}
	namer, findings := lang.CompileName([]lang.Node{node}, lang.Scope{Fields: shape.Record{{Name: "x", Kind: value.Text}}}, func(int) place.Place { return place.Place{} })
	if findings.HasErrors() {
		t.Fatalf("%s: %v", expression, findings)
	}
	b := &batch.Batch{Buf: []byte(field), Slots: 1, Bounds: []batch.Span{{}}, Spans: []batch.Span{{Off: 0, End: uint32(len(field))}}}
	got, problem := namer.Text(&lang.Env{}, b, 0)
	if problem != "" {
		return "fails: " + problem
	}
	return got
}

// cook runs a recipe that is a whole map.
func cook(t *testing.T, section string) {
	block := func(name string) (head, text string) {
		_, rest, there := strings.Cut(section, "```"+name)
		if !there {
			return "", ""
		}
		head, rest, _ = strings.Cut(rest, "\n")
		text, _, _ = strings.Cut(rest, "```")
		return strings.TrimSpace(head), text
	}
	_, read := block("read")
	_, schema := block("schema")
	of, sample := block("sample")
	_, lines := block("map")
	_, in := block("in")
	_, want := block("out")
	from := strings.TrimSpace(strings.TrimPrefix(strings.Split(read, "\n")[0], "format:"))
	source, check, target := from, "", "target "+of+" based on samples/s"
	if schema != "" {
		source, check = from+" schemas/s.json", "check:\n  schema: schemas/s.json\n"
	}
	if of == "" {
		of, target = from, "target "+from+" as it came"
	}
	ends := func(format, text string) string {
		if format == "hl7" {
			return strings.ReplaceAll(text, "\n", "\r")
		}
		return text
	}
	files := map[string][]byte{
		"routes/r.yaml":          []byte("route: r\nlisten:\n  folder: \"{in}\"\n  names: \"*\"\nread:\n  " + strings.ReplaceAll(strings.TrimSpace(read), "\n", "\n  ") + "\n" + check + "map: maps/m.map\ndeliver:\n  name: \"{file.stem}.out\"\n  to:\n    - folder: \"{out}\"\nrejected:\n  folder: \"{out}/rejected\"\n"),
		"maps/m.map":             []byte("map m\nsource " + source + "\n" + target + "\n" + lines),
		"samples/s":              []byte(ends(of, sample)),
		"schemas/s.json":         []byte(schema),
		"environments/test.yaml": []byte("environment: test\nplaces:\n  in: in\n  out: out\n"),
	}
	for rest := section; ; {
		var there bool
		if _, rest, there = strings.Cut(rest, "```lookup "); !there {
			break
		}
		name, table, _ := strings.Cut(rest, "\n")
		table, _, _ = strings.Cut(table, "```")
		files["lookups/"+name+".csv"] = []byte(table)
	}
	w := workspace.FromFiles(files)
	c, findings := route.Compile(w, "r")
	if c == nil {
		t.Fatal(findings)
	}
	made := &dish{}
	if _, err := c.Plan.Run(context.Background(), strings.NewReader(ends(from, in)), flow.Inputs{}, made); err != nil {
		t.Fatal(err)
	}
	closes, err := made.opened.Assemblies[0].Ends()
	if err != nil {
		t.Fatal(err)
	}
	if made.text.Write(closes); made.text.String() != ends(of, want) {
		t.Errorf("it makes\n%s", strings.ReplaceAll(made.text.String(), "\r", "\n"))
	}
}

// dish is what a recipe makes.
type dish struct {
	opened *flow.Opened
	text   strings.Builder
}

func (d *dish) Open(o *flow.Opened) error { d.opened = o; return nil }

func (d *dish) Batch(b *batch.Batch) error {
	made, err := d.opened.Assemblies[0].All(b)
	d.text.Write(made)
	return err
}

func (d *dish) Broken(b *format.Broken) error { return b }
