package e2e

import (
	"context"
	"encoding/json"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"ydrion/core/formats"
	"ydrion/testbed"
)

const samples = "../demo/workspace/samples/"

// TestLook: client and HTTP interface say the same of a file.
func TestLook(t *testing.T) {
	b := testbed.Start(t)
	for _, name := range []string{"lab-results.hl7", "lab-results-broken.hl7", "specimens.json", "specimens-broken.json", "weights-broken.csv", "brunholm-specimens.csv"} {
		f, err := os.Open(samples + name)
		if err != nil {
			t.Fatal(err)
		}
		over, err := b.Client.Look(context.Background(), url.Values{"name": {samples + name}}, f)
		f.Close()
		if err != nil {
			t.Fatal(err)
		}
		code, said := command(b, "look", samples+name, "--json")
		var local formats.Look
		if err := json.Unmarshal([]byte(said), &local); err != nil {
			t.Fatalf("%v: %s", err, said)
		}
		if a, _ := json.Marshal(over); strings.TrimSpace(string(mustJSON(t, &local))) != string(a) {
			t.Errorf("%s: over HTTP\n%s\nthe client\n%s", name, a, said)
		}
		if want := map[bool]int{true: 1}[over.Errors > 0]; code != want || over.Errors > 0 != strings.Contains(name, "broken") {
			t.Errorf("%s: exit code %d with %d errors", name, code, over.Errors)
		}
	}
	for query, says := range map[string]string{"at=record+x": "is no place", "records=1001": "from 0 to 1000", "records=x": "from 0 to 1000"} {
		q, _ := url.ParseQuery(query)
		if _, err := b.Client.Look(context.Background(), q, strings.NewReader("a,b\n")); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", query, err)
		}
	}
	r, err := http.Post(b.URL+"/api/look", "text/plain", strings.NewReader("a,b\n"))
	if err != nil {
		t.Fatal(err)
	}
	r.Body.Close()
	if r.StatusCode != http.StatusUnauthorized {
		t.Errorf("without a token: %s", r.Status)
	}
}

func mustJSON(t *testing.T, v any) []byte {
	t.Helper()
	b, err := json.Marshal(v)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// TestConvertThereAndBack: messages come back with the same bytes.
func TestConvertThereAndBack(t *testing.T) {
	b := testbed.Start(t)
	folder := t.TempDir()
	object, back := filepath.Join(folder, "a.json"), filepath.Join(folder, "a.hl7")
	if code, said := command(b, "convert", samples+"lab-results.hl7", "--to", "json", "--output", object); code != 0 || !strings.Contains(said, "3 of 3 records written") {
		t.Fatalf("%d %s", code, said)
	}
	if code, said := command(b, "convert", object, "--to", "hl7", "--output", back); code != 0 {
		t.Fatalf("%d %s", code, said)
	}
	want, err := os.ReadFile(samples + "lab-results.hl7")
	if err != nil {
		t.Fatal(err)
	}
	if got, err := os.ReadFile(back); err != nil || string(got) != string(want) {
		t.Errorf("%v %q", err, got)
	}
	if code, said := command(b, "convert", object, "--to", "hl7", "--output", back); code != 2 || !strings.Contains(said, "exists") {
		t.Errorf("an output is overwritten: %d %s", code, said)
	}
}

// TestLaboratoryResults: units of messages are delivered and rejected apart, each
// with what stands around it; a batch that is not whole is rejected whole.
func TestLaboratoryResults(t *testing.T) {
	b := testbed.Start(t)
	files := map[string]string{}
	for _, name := range []string{"routes/observations.yaml", "maps/observations-to-rows.map", "schemas/observations.json", "samples/observation.csv"} {
		c, err := os.ReadFile("../bench/workspace/" + name)
		if err != nil {
			t.Fatal(err)
		}
		files[name] = strings.NewReplacer("{bench}/observations-in", "{stations}/results", "{bench}/observations-out", "{laboratory}/rows", "{bench}/rejected", "{stations}/rejected").Replace(string(c))
	}
	b.Publish(files)
	for _, name := range []string{"lab-results.hl7", "lab-results-broken.hl7"} {
		c, err := os.ReadFile(samples + name)
		if err != nil {
			t.Fatal(err)
		}
		b.Drop("stations/results", name, string(c))
	}
	p := b.Ended("lab-results.hl7", 0)
	if p.In != 5 || p.Good != 4 || p.Rejected != 1 {
		t.Errorf("%+v", p)
	}
	rows := b.Read("laboratory/rows/lab-results.csv")
	if !strings.HasPrefix(rows, "message_id,station,") || strings.Count(rows, "\n") != 5 || !strings.Contains(rows, `LAB-0002,LAB,2026-11-24T09:30:00,T-0815,GS,F,L00702,CBC,2,TX,RMK,Remark,"flipper & eye checked, 4 °C",,,,F`) {
		t.Errorf("%s", rows)
	}
	rejected := b.Read("stations/rejected/lab-results.rejected-1.hl7")
	if strings.Count(rejected, "MSH|") != 1 || !strings.Contains(rejected, "LAB-0003") || !strings.Contains(rejected, `OBX|1|NM|CRP^C-reactive protein^L||""`) {
		t.Errorf("rejected is %q", rejected)
	}
	p = b.Ended("lab-results-broken.hl7", 0)
	if p.State != "rejected" || p.Good != 0 || !strings.Contains(p.Reason, "BTS says 4 messages, but 3 came") || len(b.List("laboratory/rows")) != 1 {
		t.Errorf("%+v, %v", p, b.List("laboratory/rows"))
	}
	whole, err := os.ReadFile(samples + "lab-results-broken.hl7")
	if err != nil {
		t.Fatal(err)
	}
	if got := b.Read("stations/rejected/lab-results-broken.rejected-2.hl7"); got != string(whole) {
		t.Errorf("rejected as %q", got)
	}
}

// TestConsoleSamples: a file is chosen, a field and a place are gone to.
func TestConsoleSamples(t *testing.T) {
	b := testbed.Start(t)
	ctx := browser(t)
	do(t, ctx, chromedp.Navigate(b.URL+"/samples#token="+b.Token))
	text(t, ctx, "main", "Drop a file here", "X12 and EDIFACT are recognised")
	file := func(name string) string {
		path, err := filepath.Abs(samples + name)
		if err != nil {
			t.Fatal(err)
		}
		return path
	}
	do(t, ctx, chromedp.SetUploadFiles(chromedp.CSS("input[type=file]"), []string{file("lab-results-broken.hl7")}))
	text(t, ctx, "main", "HL7 v2 2.5.1 ORU^R01", "3 records", "3 errors", "this line is no segment", "line 9, column 1", "Patient Identifier List: ID Number", "record 1, line 3, byte 98: ORU^R01")
	do(t, ctx, chromedp.Click("//button[contains(., 'Next')]"))
	text(t, ctx, "main", "record 2, line 10", "T-0815", "4 °C in the box")
	do(t, ctx, chromedp.SendKeys(chromedp.CSS("input.filter"), "record 3\r"))
	text(t, ctx, "main", "record 3, line 14")
	shot(t, ctx, "console-samples")
	do(t, ctx, chromedp.Click("//button[.='text']"))
	text(t, ctx, "main pre", "MSH|^~\\&|SKERRYLAB", "PID|1||C-77")
	do(t, ctx, chromedp.Click("//td[.='PID-8']"))
	text(t, ctx, "main", "3 records with PID-8", "Administrative Sex")
	do(t, ctx, chromedp.SetUploadFiles(chromedp.CSS("input[type=file]"), []string{file("weights-broken.csv")}))
	text(t, ctx, "main", "CSV", "skip: 1", "digits with leading zeros", "exponent form", "the quote opened here is never closed")
}
