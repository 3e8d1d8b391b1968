package service

import (
	"flag"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ydrion/demo"
)

var update = flag.Bool("update", false, "write the golden files anew")

// TestDemoFilesBecomeWhatTheyBecame holds what the demo's routes make of the
// demo's files against golden files: every message and every finding.
func TestDemoFilesBecomeWhatTheyBecame(t *testing.T) {
	for _, d := range demo.Drops {
		route := "specimen-orders"
		for of, name := range map[string]string{"weights": "weight-log", "feed": "feed-orders", "holm": "reagent-answers", "purchases": "reagent-orders", "tidewrack": "feed-answers", "temperatures": "pool-temperatures", "animals": "animal-list", "pictures": "", "weighings": ""} {
			if strings.Contains(d.Inbox, of) {
				route = name
			}
		}
		if route == "" {
			continue // it goes on unread, or is looked up in a list that comes first
		}
		content, err := fs.ReadFile(demo.Files(), d.File)
		if err != nil {
			t.Fatal(err)
		}
		trial := try(t, route, string(content), TrialRequest{From: 1, Limit: 100})
		var got strings.Builder
		for _, f := range trial.Findings {
			fmt.Fprintf(&got, "%s\n", f)
		}
		for _, r := range trial.Records {
			made, name := "", ""
			if len(r.Became) > 0 {
				made = r.Became[0].Made
			}
			if len(r.Became) > 0 && len(r.Became[0].Files) > 0 {
				name = r.Became[0].Files[0].Name
			}
			fmt.Fprintf(&got, "\n-- record %d, line %d: %s %s\n", r.Record, r.Line, r.Outcome, name)
			for _, f := range r.Findings {
				fmt.Fprintf(&got, "%s (%s)\n", f, f.Rule)
			}
			got.WriteString(strings.ReplaceAll(strings.TrimRight(made, "\r\n"), "\r", "\n"))
			if made != "" {
				got.WriteByte('\n')
			}
		}
		b := trial.Balance
		fmt.Fprintf(&got, "\n%s\n", b)
		golden := filepath.Join("testdata", d.File+".golden")
		if *update {
			if err := os.WriteFile(golden, []byte(got.String()), 0o644); err != nil {
				t.Fatal(err)
			}
			continue
		}
		want, err := os.ReadFile(golden)
		if err != nil {
			t.Fatal(err)
		}
		if got.String() != string(want) {
			t.Errorf("%s became something else; if that is right, run the test with -update\n%s", d.File, difference(string(want), got.String()))
		}
	}
}

// difference shows the first lines that differ.
func difference(want, got string) string {
	w, g := strings.Split(want, "\n"), strings.Split(got, "\n")
	for i := range max(len(w), len(g)) {
		a, b := "(nothing)", "(nothing)"
		if i < len(w) {
			a = w[i]
		}
		if i < len(g) {
			b = g[i]
		}
		if a != b {
			return fmt.Sprintf("line %d was\n%s\nand is\n%s", i+1, a, b)
		}
	}
	return ""
}
