package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ydrion/api"
	"ydrion/testbed"
)

// necropsies is a workspace with a route that checks JSON against a JSON Schema in two files.
func necropsies(t *testing.T) string {
	t.Helper()
	folder := t.TempDir()
	writeAll(t, folder, map[string]string{
		"routes/necropsies.yaml": `route: necropsies
notes: The museum sends reports with a schema of its own.
listen:
  folder: "{stations}/museum"
read:
  format: json
  record: /reports/*
check:
  schema: schemas/report.schema.json
  formats: checked
map: maps/report-to-row.map
deliver:
  folder: "{laboratory}/necropsies"
  name: "{file.stem}.csv"
  one file per: pickup
rejected:
  folder: "{stations}/rejected"
`,
		"schemas/report.schema.json": `{"$schema": "https://json-schema.org/draft/2020-12/schema", "$id": "https://museum.example/report.schema.json",
  "properties": {"museum": {"type": "string"}, "reports": {"type": "array", "items": {
    "type": "object", "required": ["number", "found"], "additionalProperties": false, "properties": {
      "number": {"type": "integer", "minimum": 1}, "found": {"type": "string", "format": "date"},
      "animal": {"$ref": "animal.schema.json"}, "remarks": {"type": "array", "items": {"type": "string"}}}}}}}`,
		"schemas/animal.schema.json": `{"type": "object", "required": ["species"], "properties": {"species": {"enum": ["GS", "HS"]}, "length": {"type": "number", "exclusiveMaximum": 350}}}`,
		"maps/report-to-row.map":     "map report_to_row\nsource json schemas/report.schema.json\ntarget csv based on samples/row.csv\n\nnumber  = number\nfound   = found | format \"dd.MM.yyyy\"\nspecies = animal.species\nlength  = animal.length | round 0\nmuseum  = museum\n",
		"samples/row.csv":            "number,found,species,length,museum\n",
	})
	return folder
}

// writeAll writes files into a folder.
func writeAll(t *testing.T, folder string, files map[string]string) {
	t.Helper()
	for name, content := range files {
		at := filepath.Join(folder, filepath.FromSlash(name))
		if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(at, []byte(content), 0o644); err != nil {
			t.Fatal(err)
		}
	}
}

// TestJSONSchema: a route checks JSON against the schema that its sender already has, from the check
// of the workspace to the findings beside the rejected file.
func TestJSONSchema(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	folder := necropsies(t)
	for _, args := range [][]string{{"check", folder}, {"publish", folder, "--start"}} {
		bed := b
		if args[0] == "check" {
			bed = nil
		}
		if code, said := command(bed, args...); code != 0 {
			t.Fatalf("%v: exit code %d: %s", args, code, said)
		}
	}
	const in = `{"reports": [
 {"number": 1, "found": "2026-11-20", "animal": {"species": "GS", "length": 151.7}},
 {"number": 0, "found": "2026-13-20", "animal": {"species": "XX", "length": 350}, "by": "us"},
 {"found": "2026-11-22", "animal": {"length": "long"}},
 {"number": 4, "found": "2026-11-23", "remarks": ["calm"]}], "museum": "Holm"}`
	b.Drop("stations/museum", "week.json", in)
	p := b.Ended("week.json", 0)
	if p.State != "delivered" || p.In != 4 || p.Good != 2 || p.Rejected != 2 {
		t.Fatalf("%+v", p)
	}
	if got, want := b.Read("laboratory/necropsies/week.csv"), "number,found,species,length,museum\n1,20.11.2026,GS,152,Holm\n4,23.11.2026,,,Holm\n"; got != want {
		t.Errorf("%q, not %q", got, want)
	}
	want := []string{
		`/number: error: number is 0, the least allowed is 1 [schema.minimum]`, `/found: error: found is not of the format date: "2026-13-20" [schema.format]`, `/animal/species: error: animal.species is "XX", allowed are "GS", "HS" [schema.enum]`,
		`/animal/length: error: animal.length is 350, it must be less than 350 [schema.maximum]`, `/by: error: by is not among the members that the schema allows [schema.surplus]`,
		`error: number is missing [schema.required]`, `error: animal.species is missing [schema.required]`, `/animal/length: error: animal.length is a text, not a number [schema.type]`,
	}
	_, said := command(b, "rejects", fmt.Sprint(p.ID))
	for _, w := range want {
		if !strings.Contains(said, w) {
			t.Errorf("%q is not in\n%s", w, said)
		}
	}
	// Each place is the byte of the value in the file as it came.
	page, err := b.Client.Rejects(context.Background(), p.Run, url.Values{})
	if err != nil || len(page.Items) != 2 {
		t.Fatalf("%+v %v", page, err)
	}
	for _, r := range page.Items {
		for _, f := range r.Findings {
			rest := in[f.Place.Offset:]
			var value json.RawMessage
			if err := json.NewDecoder(strings.NewReader(rest)).Decode(&value); err != nil || !strings.HasPrefix(string(value), strings.TrimSuffix(f.Seen, "…")[:min(len(f.Seen), 10)]) {
				t.Errorf("%s: at %d stands %.30q, not %q (%v)", f.Message, f.Place.Offset, rest, f.Seen, err)
			}
			if line := strings.Count(in[:f.Place.Offset], "\n") + 1; int64(line) != f.Place.Line {
				t.Errorf("%s: line %d, not %d", f.Message, f.Place.Line, line)
			}
		}
	}
	sheet, err := b.Client.Route(context.Background(), "necropsies")
	if err != nil || !strings.Contains(fmt.Sprint(sheet.Stages), "Checks records against schemas/report.schema.json, a JSON Schema") || !strings.Contains(fmt.Sprint(sheet.Stages), "Formats such as date and email are checked") {
		t.Errorf("%+v %v", sheet, err)
	}
	if len(sheet.Files) != 5 {
		t.Errorf("the revision has %d files, and depends on 5", len(sheet.Files))
	}
	// A schema that cannot be is not published, over HTTP as well.
	files := map[string][]byte{}
	for _, f := range sheet.Files {
		files[f.Name] = []byte(f.Content)
	}
	files["schemas/animal.schema.json"] = []byte(`{"$ref": "https://elsewhere.example/x.json"}`)
	answer, err := b.Client.Publish(context.Background(), api.PublishRequest{Files: files})
	if err != nil || answer.Published || !strings.Contains(fmt.Sprint(answer.Routes), "is not in the workspace") {
		t.Errorf("%+v %v", answer, err)
	}
}
