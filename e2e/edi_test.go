package e2e

import (
	"context"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"ydrion/demo"
	"ydrion/testbed"
)

// TestGuidelineByHand: a partner's guideline is read, written as a description, and checked against, with
// exit codes and in JSON.
func TestGuidelineByHand(t *testing.T) {
	const sef, orders = "../demo/workspace/descriptions/holm-orders.sef", "../demo/workspace/samples/reagent-orders.x12"
	folder := t.TempDir()
	description, broken := filepath.Join(folder, "holm.txt"), filepath.Join(folder, "broken.sef")
	if err := os.WriteFile(broken, []byte(".INI\nx,,005 010,X,005010,Y\n.SETS\n850=[ST\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	for _, step := range []struct {
		args string
		code int
		says []string
	}{
		{"guideline " + sef, 0, []string{"not taken: notes in .TEXT,SETS", "holm_850: X12 005010, 850: Orders to Holm Reagents", "18 segments, 1 composite, 5 code lists, 7 with conditions"}},
		{"guideline " + sef + " --output " + description, 0, []string{"written to " + description}},
		{"guideline " + sef + " --output " + description, 2, []string{"the output cannot be made"}},
		{"guideline " + sef + " --json", 0, []string{`"standard": "x12"`, `"messages": [`, `"code": "sef.notes"`, "structure 850 005010"}},
		{"guideline " + broken, 1, []string{"broken.sef:4:1: error: 850: a bracket is not closed", "nothing was taken"}},
		{"guideline /nowhere.sef", 2, []string{"cannot be opened"}},
		{"look " + orders + " --description " + description, 0, []string{"0 errors, 0 warnings", "Purpose"}},
		{"look " + orders + " --description " + broken, 1, []string{"a bracket is not closed"}},
		{"look ../demo/workspace/samples/reagent-answers.x12 --description " + sef, 0, []string{"the description that was given has nothing on 855 of 004010"}},
		{"convert " + orders + " --to x12 --canonical --output " + filepath.Join(folder, "usual.x12"), 0, []string{"2 of 2 records written"}},
		{"convert " + orders + " --to json --canonical", 2, []string{"--canonical and --number are for x12 and edifact"}},
		{"look ../demo/files/weights-2026-11-24.csv --description " + sef, 0, []string{"holm-orders.sef describes messages of HL7 v2, X12 or EDIFACT, and was not used"}},
		{"convert " + orders + " --to x12", 2, []string{"only its canonical style could be written"}},
	} {
		code, said := command(nil, strings.Fields(step.args)...)
		for _, want := range step.says {
			if code != step.code || !strings.Contains(said, want) {
				t.Errorf("%s: exit code %d, does not say %q:\n%s", step.args, code, want, said)
			}
		}
	}
	usual, err := os.ReadFile(filepath.Join(folder, "usual.x12"))
	if err != nil || strings.Contains(string(usual), "\n") || !strings.HasSuffix(string(usual), "IEA*1*000000071~") {
		t.Errorf("%s, %v", usual, err)
	}
}

// TestInterchangesOut: messages go out in interchanges that have numbers of their own, in the repertoire that
// they say; a description that a route is given rejects what differs.
func TestInterchangesOut(t *testing.T) {
	b := testbed.Start(t)
	w := testbed.Workspace(t)
	const answers = "routes/reagent-answers.yaml"
	b.Publish(map[string]string{answers: strings.Replace(string(w.Files[answers]), "differences: warn", "differences: reject", 1)})
	read := func(name string) string {
		c, err := fs.ReadFile(demo.Files(), name)
		if err != nil {
			t.Fatal(err)
		}
		return string(c)
	}
	for _, day := range []string{"24", "25"} {
		b.Drop("stations/feed", "feed-requests-2026-11-"+day+".csv", read("feed-requests-2026-11-24.csv")+"SC-70"+day+",Calder,TW-2210,,3,piece,01/12/2026,\n")
	}
	b.Drop("suppliers/holm/out", "reagents-2026-11-25.x12", read("reagents-2026-11-25.x12"))
	testbed.Until(t, "all have ended", func() bool { return strings.Count(states(b), "delivered") == 3 })
	var numbers []string
	for _, day := range []string{"24", "25"} {
		out, err := os.ReadFile(filepath.Join(b.Data, "suppliers/tidewrack/feed-requests-2026-11-"+day+".edi"))
		if err != nil {
			t.Fatal(err)
		}
		text := string(out)
		_, number, _ := strings.Cut(text, "UNZ+5+")
		numbers = append(numbers, strings.Trim(number, "'\r\n"))
		if !strings.HasPrefix(text, "UNA:+.? '\r\nUNB+UNOC:3+") || !strings.Contains(text, "Cr\xe8che") || !strings.Contains(text, "?'Pup?+?''") || !strings.Contains(text, "BGM+220+SC-70"+day+"+9'") || !strings.HasSuffix(number, "'\r\n") || !strings.Contains(text, "+"+strings.TrimSpace(number)) {
			t.Errorf("%q", text)
		}
	}
	if slices.Sort(numbers); !slices.Equal(numbers, []string{"000001", "000002"}) {
		t.Errorf("the interchanges have the numbers %v", numbers)
	}
	list, err := b.Client.Pickups(context.Background(), url.Values{"route": {"reagent-answers"}})
	if err != nil || len(list.Items) != 1 || list.Items[0].Good != 3 || list.Items[0].Rejected != 2 {
		t.Fatalf("%+v, %v", list, err)
	}
	rejects, err := b.Client.Rejects(context.Background(), list.Items[0].Run, url.Values{"limit": {"10"}})
	if err != nil || !strings.Contains(string(mustJSON(t, rejects)), "there is no such day") {
		t.Errorf("%s, %v", mustJSON(t, rejects), err)
	}
	for route, want := range map[string][]string{
		"reagent-answers": {"Checks messages against the standard; what differs rejects the record.", "Reads X12 in utf-8; each segment PO1 is a record, with what stands around it."},
		"feed-orders":     {"Makes EDIFACT messages in interchanges by maps/feed-request-to-order.map."},
		"reagent-orders":  {"rows that stand together and agree in order are one record", "Lists of a record: rows."},
		"feed-answers":    {"Lists of a record: LIN."},
	} {
		code, said := command(b, "route", route)
		for _, w := range want {
			if code != 0 || !strings.Contains(said, w) {
				t.Errorf("%d: %s does not say %q", code, said, w)
			}
		}
	}
}
