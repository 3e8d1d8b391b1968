package route

import (
	"fmt"
	"os"
	"regexp"
	"strings"
	"testing"

	"ydrion/core/finding"
	"ydrion/workspace"
)

// changed is the demo's workspace with one text replaced in one file.
func changed(t *testing.T, file, old, with string) *workspace.Workspace {
	t.Helper()
	w, err := workspace.Load(os.DirFS("../demo/workspace"))
	if err != nil {
		t.Fatal(err)
	}
	if file == "" {
		return w
	}
	source := string(w.Files[file])
	if !strings.Contains(source, old) {
		t.Fatalf("%s does not hold %q", file, old)
	}
	w.Files[file] = []byte(strings.Replace(source, old, with, 1))
	return workspace.FromFiles(w.Files)
}

func TestCompile(t *testing.T) {
	w := changed(t, "", "", "")
	c, findings := Compile(w, "specimen-orders")
	if c == nil || len(findings) > 0 {
		t.Fatal(findings)
	}
	// A revision is made of what the route depends on, no more and no less.
	for _, name := range []string{"routes/specimen-orders.yaml", "maps/specimen-to-order.map", "schemas/specimen-sheet.json", "samples/blank-order.hl7", "lookups/sex_codes.csv"} {
		if c.Files[name] == nil {
			t.Errorf("%s is not part of the revision", name)
		}
	}
	if c.Files["routes/weight-log.yaml"] != nil || c.Files["schemas/weight-log.json"] != nil {
		t.Error("a neighbour's files are part of the revision")
	}
	again, findings := Compile(workspace.FromFiles(c.Files), "specimen-orders")
	if again == nil || again.Hash != c.Hash {
		t.Errorf("the revision does not compile from its own files: %v", findings)
	}
	other, _ := Compile(changed(t, "lookups/sex_codes.csv", "Male,M", "Male,X"), "specimen-orders")
	if other == nil || other.Hash == c.Hash {
		t.Error("another lookup makes the same revision")
	}
}

// TestLookupsAreFoundByUse: a table belongs to a revision if an expression looks something up
// in it, wherever that stands, and not because its name occurs somewhere.
func TestLookupsAreFoundByUse(t *testing.T) {
	const file = "routes/specimen-orders.yaml"
	for _, test := range []struct {
		old, with string
		used      bool
	}{
		{"read:\n", "order:\n  lane: '{sex | lookup feed_units if unlisted \"?\"}'\nread:\n", true},
		{"read:\n", "duplicates:\n  key: '{sex | lookup feed_units if unlisted \"?\"}'\nread:\n", true},
		{"{specimen_id}-{sequence", "{sex | lookup feed_units if unlisted 'x'}-{sequence", true},
		{"notes:", "# feed_units\nnotes:", false},
	} {
		w := changed(t, file, test.old, strings.ReplaceAll(test.with, "'x'", `\"x\"`))
		c, findings := Compile(w, "specimen-orders")
		if c == nil {
			t.Fatalf("%s: %v", test.with, findings)
		}
		if got := c.Files["lookups/feed_units.csv"] != nil; got != test.used {
			t.Errorf("%s: the table is part of the revision: %v", test.with, got)
		}
		// What does not use it does not care whether it is good.
		w.Files["lookups/feed_units.csv"] = []byte("a\nb\n")
		if c, _ := Compile(workspace.FromFiles(w.Files), "specimen-orders"); (c == nil) != test.used {
			t.Errorf("%s: with a broken table it compiles: %v", test.with, c != nil)
		}
	}
}

func TestCompileRefuses(t *testing.T) {
	tests := []struct{ file, old, with, says string }{
		{"routes/specimen-orders.yaml", "specimen-sheet.json", "specimen-shet.json", "routes/specimen-orders.yaml:15:11: error: there is no file schemas/specimen-shet.json [route.file-missing]\n    was schemas/specimen-sheet.json meant?"},
		{"routes/specimen-orders.yaml", "maps/specimen-to-order.map", "maps/weight-to-result.map", "the map reads records of schemas/weight-log.json, the route checks them against schemas/specimen-sheet.json"},
		{"routes/specimen-orders.yaml", "{specimen_id}-{sequence | pad 6 \\\"0\\\"}.hl7", "order.hl7", "every record goes into a file of its own, but all would be called"},
		{"routes/specimen-orders.yaml", "{specimen_id}", "{specimen}", `there is no field "specimen"`},
		{"routes/weight-log.yaml", "{file.stem}", "{Waight}", `there is no field "Waight"`},
		{"maps/specimen-to-order.map", "blank-order.hl7", "blank.hl7", "there is no file samples/blank.hl7"},
		{"maps/specimen-to-order.map", "target hl7", "target papyrus", `records cannot be written as "papyrus"`},
		{"samples/blank-order.hl7", "MSH", "ABC", "it does not begin with MSH"},
		{"maps/specimen-to-order.map", "keep MSH-3, ", "keep ", `the sample's value "SEALNET" at MSH-3 would go into every message`},
		{"lookups/sex_codes.csv", "Female,F", "Male,F", `lookups/sex_codes.csv:3:1: error: "Male" stands twice, with "M" and with "F"`},
		{"schemas/specimen-sheet.json", `"type": "number"`, `"type": "numeral"`, "is not checked here"},
		{"maps/specimen-to-order.map", "weight_kg\n", "wait_kg\n", "was weight_kg meant?"},
	}
	for _, test := range tests {
		w := changed(t, test.file, test.old, test.with)
		said := ""
		refused := false
		for _, name := range []string{"specimen-orders", "weight-log"} {
			c, findings := Compile(w, name)
			said += fmt.Sprint([]finding.Finding(findings))
			refused = refused || c == nil
		}
		if !refused || !strings.Contains(said, test.says) {
			t.Errorf("%s with %q: refused %v, does not say %q but\n%s", test.file, test.with, refused, test.says, said)
		}
	}
	if _, findings := Compile(changed(t, "", "", ""), "specimen-order"); !strings.Contains(fmt.Sprint(findings), `was "specimen-orders" meant?`) {
		t.Error(findings)
	}
}

func TestGuard(t *testing.T) {
	route := func(name, inbox, names, out, outName, rejected string, subfolders bool) *workspace.Route {
		r := &workspace.Route{Name: name, Rejected: workspace.Destination{Folder: rejected, Place: "deliver.rejected"}}
		r.Listen = workspace.Listen{Folder: inbox, Names: names, Subfolders: subfolders}
		r.Branches = []workspace.Branch{{Good: workspace.Good{FileName: outName, To: []workspace.Destination{{Folder: out, Place: "deliver"}}}}}
		return r
	}
	tests := []struct {
		name   string
		routes []*workspace.Route
		says   string // empty: allowed
	}{
		{"apart", []*workspace.Route{route("a", "/in", "*.csv", "/out", "{x}.hl7", "/bad", false)}, ""},
		{"into its own inbox", []*workspace.Route{route("a", "/in", "*", "/in", "{x}.hl7", "/bad", false)}, "a delivers to /in (deliver.folder), where a listens"},
		{"into its own inbox under other names", []*workspace.Route{route("a", "/in", "*.csv", "/in", "{x}.hl7", "/bad", false)}, ""},
		{"rejects into its own inbox", []*workspace.Route{route("a", "/in", "*.csv", "/out", "{x}.hl7", "/in", false)}, "(deliver.rejected.folder), where a listens"},
		{"into a subfolder that is not listened to", []*workspace.Route{route("a", "/in", "*", "/in/done", "{x}", "/bad", false)}, ""},
		{"into a subfolder that is listened to", []*workspace.Route{route("a", "/in", "*", "/in/done", "{x}", "/bad", true)}, "a delivers to /in/done"},
		{"a folder whose name begins alike", []*workspace.Route{route("a", "/in", "*", "/inside", "{x}", "/bad", true)}, ""},
		{"a chain", []*workspace.Route{route("a", "/1", "*", "/2", "{x}", "/bad", false), route("b", "/2", "*", "/3", "{x}", "/bad", false)}, ""},
		{"a circle of two", []*workspace.Route{route("a", "/1", "*", "/2", "{x}", "/bad", false), route("b", "/2", "*", "/1", "{x}", "/bad", false)}, "a delivers to /2 (deliver.folder), where b listens; b delivers to /1 (deliver.folder), where a listens"},
		{"a circle of three through rejects", []*workspace.Route{route("a", "/1", "*", "/2", "{x}", "/bad", false), route("b", "/2", "*", "/x", "{x}", "/3", false), route("c", "/3", "*", "/1", "{x}", "/bad", false)}, "c delivers to /1"},
		{"a fixed name that does not match", []*workspace.Route{route("a", "/in", "in-*.csv", "/in", "all.csv", "/bad", false)}, ""},
		{"a fixed name that matches", []*workspace.Route{route("a", "/in", "a*.csv", "/in", "all.csv", "/bad", false)}, "would pick up its own output"},
	}
	for _, test := range tests {
		findings := Guard(test.routes, func(f string) (string, error) { return f, nil })
		if test.says == "" && len(findings) > 0 || test.says != "" && !strings.Contains(fmt.Sprint([]finding.Finding(findings)), test.says) {
			t.Errorf("%s: %v, want %q", test.name, findings, test.says)
		}
	}
}

// TestOrderKeysAndMarkers: texts that are made before a file is taken are
// checked against the fields, and cannot use what is only known later.
func TestOrderKeysAndMarkers(t *testing.T) {
	const file = "routes/specimen-orders.yaml"
	for _, test := range []struct{ with, says string }{
		{"order:\n  lane: \"{station}\"\n", ""},
		{"order:\n  lane: \"{statoin}\"\n", `there is no field "statoin"`},
		{"order:\n  lane: \"{sequence}\"\n", "the sequence is not known before a file is taken"},
		{"order:\n  by: \"{collected_at | format \\\"yyyyMMdd\\\"}\"\n", ""},
		{"order:\n  by: newest\n", "the order is by arrival, name, time, or a text"},
		{"duplicates:\n  key: \"{specimen_id}\"\n", ""},
		{"duplicates:\n  key: \"{weight_kg | lookup none}\"\n", "none"},
	} {
		c, findings := Compile(changed(t, file, "read:\n", test.with+"read:\n"), "specimen-orders")
		said := fmt.Sprint([]finding.Finding(findings))
		if (c == nil) != (test.says != "") || !strings.Contains(said, test.says) {
			t.Errorf("%q: refused %v, does not say %q but\n%s", test.with, c == nil, test.says, said)
		}
	}
	for marker, says := range map[string]string{
		"{file.stem}.ok": "", "{file.name}.done": "", "ready": "the marker's name must come from the file's",
		"{file.name}": "the marker's name must come from the file's", "{specimen_id}.ok": "there is no field",
	} {
		c, findings := Compile(changed(t, file, "listen:\n", "listen:\n  marker: \""+marker+"\"\n"), "specimen-orders")
		said := fmt.Sprint([]finding.Finding(findings))
		if (c == nil) != (says != "") || !strings.Contains(said, says) {
			t.Errorf("%q: refused %v, does not say %q but\n%s", marker, c == nil, says, said)
		}
	}
}

// TestConditionsOfDestinations: they see what there is to see.
func TestConditionsOfDestinations(t *testing.T) {
	const file = "routes/specimen-orders.yaml"
	one := "  folder: \"{laboratory}/orders\"\n  name: \"{specimen_id}-{sequence | pad 6 \\\"0\\\"}.hl7\"\n  one file per: record\n"
	for _, test := range []struct{ good, says string }{
		{"  name: \"{specimen_id}.hl7\"\n  one file per: record\n  to:\n    - folder: a\n      when: weight_kg > 100\n", ""},
		{"  name: \"{specimen_id}.hl7\"\n  one file per: record\n  to:\n    - folder: a\n      when: weight_kg\n", "a condition is needed"},
		{"  name: \"{specimen_id}.hl7\"\n  one file per: record\n  to:\n    - folder: a\n      when: weihgt_kg > 1\n", "was weight_kg meant?"},
		{"  name: \"{file.stem}.hl7\"\n  to:\n    - folder: a\n      when: weight_kg > 100\n", "say `one file per: record` if it should"},
		{"  name: \"{file.stem}.hl7\"\n  to:\n    - folder: a\n      when: file.extension = \"csv\"\n", ""},
		{"  name: \"{station}/{specimen_id}.hl7\"\n  one file per: record\n  folder: a\n", ""},
		{"  name: \"x/{station | format \\\"/\\\"}.hl7\"\n  one file per: record\n  folder: a\n", "format"},
	} {
		c, findings := Compile(changed(t, file, one, test.good), "specimen-orders")
		said := fmt.Sprint([]finding.Finding(findings))
		if (c == nil) != (test.says != "") || !strings.Contains(said, test.says) {
			t.Errorf("%q: refused %v, does not say %q but\n%s", test.good, c == nil, test.says, said)
		}
	}
}

// TestOverlap checks the patterns that two routes can share against names tried one by one.
func TestOverlap(t *testing.T) {
	patterns := []string{"*", "*.csv", "a*", "*a", "?", "??", "a?c", "abc", "b*c", "*b*", "{a,b}*", "{ab,bc}c", "*.{csv,txt}", "a.txt", "[ab]c", "a*b*c", ""}
	var names []string
	for _, a := range []string{"", "a", "b", "c", "ab", "bc"} {
		for _, b := range []string{"", "a", "b", "c", "bc", ".csv", ".txt"} {
			for _, c := range []string{"", "c", "a", ".csv"} {
				names = append(names, a+b+c)
			}
		}
	}
	for _, a := range patterns {
		for _, b := range patterns {
			both := ""
			for _, n := range names {
				if n != "" && workspace.MatchName(a, n) && workspace.MatchName(b, n) {
					both = n
				}
			}
			x, y := &workspace.Route{Listen: workspace.Listen{Names: a}}, &workspace.Route{Listen: workspace.Listen{Names: b}}
			got, _ := share(x, y)
			careful := strings.Contains(a+b, "[") || a == "" || b == ""
			if both != "" && !got || both == "" && got && !careful {
				t.Errorf("%q and %q: share %v, and %q fits both", a, b, got, both)
			}
		}
	}
}

// TestPathsThatCannotBe: a schema's path that no record of the format can have is refused
// before any file comes.
func TestPathsThatCannotBe(t *testing.T) {
	for _, test := range []struct{ route, file, old, with, says string }{
		{"observations", "schemas/observations.json", `"OBX-5"`, `"OBX.5"`, "OBX.5"},
		{"observations", "schemas/observations.json", `"PID-3.1"`, `"9/w"`, "9/w"},
		{"observations", "schemas/observations.json", `"OBX-5"`, `"OBX-6"`, ""},
		{"order-lines", "schemas/order-lines.json", `"LIN-1"`, `"LIN.1"`, "LIN.1"},
		{"order-lines", "routes/order-lines.yaml", "record: LIN", "record: lin(", "is not a segment that can be a record"},
	} {
		w, err := workspace.Load(os.DirFS("../bench/workspace"))
		if err != nil {
			t.Fatal(err)
		}
		if !strings.Contains(string(w.Files[test.file]), test.old) {
			t.Fatalf("%s does not hold %s", test.file, test.old)
		}
		w.Files[test.file] = []byte(strings.Replace(string(w.Files[test.file]), test.old, test.with, 1))
		c, findings := Compile(workspace.FromFiles(w.Files), test.route)
		if test.says == "" {
			if c == nil {
				t.Errorf("%s: %v", test.with, findings)
			}
			continue
		}
		if c != nil || !strings.Contains(findings.Error(), test.says) || !strings.Contains(findings.Error(), test.file) && test.file[0] == 's' {
			t.Errorf("%s: compiled %v, %v", test.with, c != nil, findings)
		}
	}
}

// TestOneInbox: two routes that could both take a file are refused; if that cannot be told,
// it is said.
func TestOneInbox(t *testing.T) {
	resolve := func(folder string) (string, error) { return "/" + folder, nil }
	for _, test := range []struct {
		folder, names, expression string
		subfolders                bool
		says                      string
	}{
		{"in", "*.csv", "", false, "error"}, {"in", "ansel-*", "", false, "error"}, {"in", "*.json", "", false, ""}, {"other", "*.csv", "", false, ""},
		{"in/below", "*.csv", "", false, ""}, {"", "*.csv", "", true, "error"}, {"in", "", "x", false, "warning"},
	} {
		one := &workspace.Route{Name: "a", Listen: workspace.Listen{Folder: "in", Names: "*.csv"}}
		two := &workspace.Route{Name: "b", Listen: workspace.Listen{Folder: test.folder, Names: test.names, Subfolders: test.subfolders}}
		if test.folder == "" {
			two.Listen.Folder = ""
		}
		if test.expression != "" {
			two.Expression = regexp.MustCompile(test.expression)
		}
		got := ""
		for _, f := range together([]*workspace.Route{one, two}, resolve) {
			got += string(f.Severity)
		}
		if got != test.says {
			t.Errorf("%+v: %q", test, got)
		}
	}
}
