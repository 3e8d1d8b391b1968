package e2e

import (
	"archive/zip"
	"bufio"
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"ydrion/core/formats"
	"ydrion/testbed"
)

const samples = "../demo/workspace/samples/"

// TestLook: client and HTTP interface say the same of a file.
func TestLook(t *testing.T) {
	b := testbed.Start(t)
	for _, name := range []string{"lab-results.hl7", "lab-results-broken.hl7", "specimens.json", "specimens-broken.json", "weights-broken.csv", "brunholm-specimens.csv", "feed-orders.edi", "feed-answers.edi", "feed-orders-broken.edi", "reagent-orders.x12", "reagent-answers.x12", "reagent-orders-broken.x12"} {
		f, err := os.Open(samples + name)
		if err != nil {
			t.Fatal(err)
		}
		sent, err := b.Client.Sample(context.Background(), url.Values{"name": {samples + name}}, f)
		f.Close()
		if err != nil {
			t.Fatal(err)
		}
		over := sent.Look
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
	r, err := http.Post(b.URL+"/api/samples", "text/plain", strings.NewReader("a,b\n"))
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

// TestOrderLines: lines of a supplier's orders go through a route one by one; one that is wrong comes back
// as an interchange of its own, and a file that does not agree with itself as a whole.
func TestOrderLines(t *testing.T) {
	b := testbed.Start(t)
	files := map[string]string{}
	for _, name := range []string{"routes/order-lines.yaml", "maps/order-lines-to-objects.map", "schemas/order-lines.json", "samples/order-line.json"} {
		c, err := os.ReadFile("../bench/workspace/" + name)
		if err != nil {
			t.Fatal(err)
		}
		files[name] = strings.NewReplacer("{bench}/orders-in", "{stations}/orders", "{bench}/orders-out", "{laboratory}/lines", "{bench}/rejected", "{stations}/rejected").Replace(string(c))
	}
	b.Publish(files)
	whole, err := os.ReadFile(samples + "feed-orders.edi")
	if err != nil {
		t.Fatal(err)
	}
	broken, err := os.ReadFile(samples + "feed-orders-broken.edi")
	if err != nil {
		t.Fatal(err)
	}
	wrong := strings.Replace(string(whole), "QTY+21:4:PCE", "QTY+21:four:PCE", 1)
	b.Drop("stations/orders", "a.edi", string(whole))
	b.Drop("stations/orders", "b.edi", wrong)
	b.Drop("stations/orders", "c.edi", string(broken))
	if p := b.Ended("a.edi", 0); p.In != 5 || p.Good != 5 {
		t.Errorf("%+v", p)
	}
	lines := b.Read("laboratory/lines/a.jsonl")
	if strings.Count(lines, "\n") != 5 || !strings.Contains(lines, `{"ref":"2","order":"SC-7002","date":"2026-11-24","buyer":"ANSEL","supplier":"TW","currency":"EUR","no":2,"item":"TW-3302","text":"Crèche mat 60 x 90","qty":4,"unit":"PCE","price":33.10}`) || !strings.Contains(lines, `"text":"Seal gruel 'Pup+'"`) {
		t.Errorf("%s", lines)
	}
	if p := b.Ended("b.edi", 0); p.Good != 4 || p.Rejected != 1 {
		t.Errorf("%+v", p)
	}
	name := b.List("stations/rejected")[0]
	rejected := b.Read("stations/rejected/" + name)
	// In the bytes in which it came, with one line, counted anew, in its envelope.
	for _, part := range []string{"UNA:+.? '\nUNB+UNOC:3+SKERRYCOAST+TIDEWRACK+261124:1630+SC000412'\nUNH+2+", "LIN+2++TW-3302:SA'\nIMD+F++:::Cr\xe8che mat 60 x 90'\nQTY+21:four:PCE'", "'\nUNZ+1+SC000412'\n"} {
		if !strings.Contains(rejected, part) {
			t.Errorf("%s is %q, without %q", name, rejected, part)
		}
	}
	if strings.Count(rejected, "LIN+") != 1 {
		t.Errorf("%s has several lines: %q", name, rejected)
	}
	b.Drop("stations/orders", "again.edi", strings.Replace(rejected, "four", "4", 1))
	if p := b.Ended("again.edi", 0); p.Good != 1 || p.Rejected != 0 {
		t.Errorf("the rejected line, mended: %+v", p)
	}
	if p := b.Ended("c.edi", 0); p.State != "rejected" || p.Good != 0 || !strings.Contains(p.Reason, "UNZ says 3 messages, but 2 came") {
		t.Errorf("%+v", p)
	}
}

// TestListOutputs: with a list as the map's sample each output is a whole list, be it of all records
// or of one.
func TestListOutputs(t *testing.T) {
	b := testbed.Start(t)
	files := map[string]string{
		"schemas/tags.json": `{"fields": [{"name": "tag", "constraints": {"required": true}}]}`,
		"samples/tags.json": `[{"tag": ""}]`,
		"maps/tags.map":     "map tags\nsource csv schemas/tags.json\ntarget json based on samples/tags.json\n\ntag = tag\n",
	}
	for _, per := range []string{"pickup", "record"} {
		name := map[string]string{"pickup": "{file.stem}.json", "record": "{tag}.json"}[per]
		files["routes/by-"+per+".yaml"] = "route: by-" + per + "\nlisten:\n  folder: \"{stations}/" + per + "\"\n  names: \"*.csv\"\nread:\n  format: csv\ncheck:\n  schema: schemas/tags.json\nmap: maps/tags.map\ndeliver:\n  folder: \"{laboratory}/" + per + "\"\n  name: \"" + name + "\"\n  one file per: " + per + "\nrejected:\n  folder: \"{stations}/rejected\"\n"
	}
	b.Publish(files)
	const rows = "tag\n\"\"\nT-1\nT-2\n\"\"\nT-3\n" // the first is rejected
	b.Drop("stations/pickup", "all.csv", rows)
	b.Drop("stations/record", "each.csv", rows)
	if p := b.Ended("all.csv", 0); p.Good != 3 || p.Rejected != 2 {
		t.Errorf("%+v", p)
	}
	b.Ended("each.csv", 0)
	if got := b.Read("laboratory/pickup/all.json"); got != "[\n{\"tag\":\"T-1\"},\n{\"tag\":\"T-2\"},\n{\"tag\":\"T-3\"}\n]\n" {
		t.Errorf("all: %q", got)
	}
	if got := b.Read("laboratory/record/T-2.json"); got != "[\n{\"tag\":\"T-2\"}\n]\n" {
		t.Errorf("one: %q", got)
	}
}

// packedTags is a workspace whose route reads tags from compressed files.
func packedTags(more, compression string) map[string]string {
	return map[string]string{
		"schemas/tags.json": `{"fields": [{"name": "tag", "constraints": {"required": true}}, {"name": "kg", "type": "number"}]}`,
		"samples/tags.json": `{"tag": ""}`,
		"maps/tags.map":     "map tags\nsource csv schemas/tags.json\ntarget json based on samples/tags.json\n\ntag = tag\nignore kg\n",
		"routes/tags.yaml": "route: tags\nlisten: {folder: \"{stations}/tags\"}\n" + more + "read: {format: csv, " + compression + "}\ncheck: {schema: schemas/tags.json}\nmap: maps/tags.map\n" +
			"deliver: {folder: \"{laboratory}/tags\", name: \"{file.stem}.jsonl\", one file per: pickup}\nrejected: {folder: \"{stations}/rejected\"}\n",
	}
}

// TestCompressedFiles: a route that says so undoes gzip; what is damaged, or not as it says, is rejected
// as it came.
func TestCompressedFiles(t *testing.T) {
	b := testbed.Start(t)
	b.Publish(packedTags("", "compression: gzip"))
	var rows strings.Builder
	rows.WriteString("tag,kg\n")
	for i := range 50_000 {
		fmt.Fprintf(&rows, "T-%d,%d\n", i, i*7919%977)
	}
	rows.WriteString("T-bad,heavy\n")
	pack := func(s string) string {
		var out bytes.Buffer
		z := gzip.NewWriter(&out)
		if _, err := io.WriteString(z, s); err != nil {
			t.Fatal(err)
		}
		if err := z.Close(); err != nil {
			t.Fatal(err)
		}
		return out.String()
	}
	whole := pack(rows.String())
	b.Drop("stations/tags", "good.csv.gz", whole)
	b.Drop("stations/tags", "cut.csv.gz", whole[:len(whole)/2])
	b.Drop("stations/tags", "changed.csv.gz", whole[:1000]+"????"+whole[1004:])
	b.Drop("stations/tags", "plain.csv", rows.String())
	if p := b.Ended("good.csv.gz", 0); p.Good != 50_000 || p.Rejected != 1 {
		t.Errorf("%+v", p)
	}
	if got := b.Read("laboratory/tags/good.csv.jsonl"); strings.Count(got, "\n") != 50_000 {
		t.Errorf("%d lines", strings.Count(got, "\n"))
	}
	rejected := map[string]string{"cut.csv.gz": "the compressed data is damaged", "changed.csv.gz": "the compressed data is damaged", "plain.csv": "not compressed with gzip"}
	for name, reason := range rejected {
		if p := b.Ended(name, 0); p.State != "rejected" || p.Good != 0 || !strings.Contains(p.Reason, reason) {
			t.Errorf("%s: %+v", name, p)
		}
	}
	for _, name := range b.List("stations/rejected") {
		content := b.Read("stations/rejected/" + name)
		switch {
		case strings.HasPrefix(name, "good.csv") && strings.HasSuffix(name, ".csv") && content != "tag,kg\nT-bad,heavy\n",
			strings.HasPrefix(name, "cut") && strings.HasSuffix(name, ".gz") && content != whole[:len(whole)/2],
			strings.HasPrefix(name, "good") && strings.HasSuffix(name, ".gz"):
			t.Errorf("%s holds %.60q", name, content)
		}
	}
	if n := len(b.List("laboratory/tags")); n != 1 {
		t.Errorf("%d outputs", n)
	}
}

// TestArchivesAsFiles: of an archive the member is read that the route says, its key is that of its first record, and what
// is rejected of it stands in plain text again; an archive of which it is not clear what to read is rejected as it came.
func TestArchivesAsFiles(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	b.Publish(packedTags("duplicates: {key: \"{tag}\", same key: reject}\n", "compression: zip, member: \"*.csv\""))
	pack := func(members ...string) string {
		var out bytes.Buffer
		z := zip.NewWriter(&out)
		for i := 0; i < len(members); i += 2 {
			w, err := z.Create(members[i])
			if err == nil {
				_, err = io.WriteString(w, members[i+1])
			}
			if err != nil {
				t.Fatal(err)
			}
		}
		if err := z.Close(); err != nil {
			t.Fatal(err)
		}
		return out.String()
	}
	good := "tag,kg\nT-1,20\nT-2,heavy\n" + strings.Repeat("T-3,21.5\n", 40_000)
	two := pack("a.csv", good, "b.csv", good)
	b.Drop("stations/tags", "week.zip", pack("notes.txt", "none", "week/sheet.csv", good))
	if p := b.Ended("week.zip", 0); p.Good != 40_001 || p.Rejected != 1 {
		t.Errorf("%+v", p)
	}
	b.Drop("stations/tags", "again.zip", pack("sheet.csv", "tag,kg\nT-1,20\n"))
	b.Drop("stations/tags", "two.zip", two)
	b.Drop("stations/tags", "sheet.csv", "tag,kg\nT-9,20\n")
	for name, reason := range map[string]string{"again.zip": "T-1", "two.zip": "the archive has 2 members", "sheet.csv": "not a zip archive"} {
		if p := b.Ended(name, 0); p.State != "rejected" || p.Good != 0 || !strings.Contains(p.Reason, reason) {
			t.Errorf("%s: %+v", name, p)
		}
	}
	if got := b.Read("laboratory/tags/week.jsonl"); strings.Count(got, "\n") != 40_001 || !strings.HasPrefix(got, "{\"tag\":\"T-1\"}\n{\"tag\":\"T-3\"}\n") {
		t.Errorf("%d lines, %.60q", strings.Count(got, "\n"), got)
	}
	plain, whole := false, false
	for _, name := range b.List("stations/rejected") {
		content := b.Read("stations/rejected/" + name)
		plain = plain || strings.HasPrefix(name, "week.") && strings.HasSuffix(name, ".csv") && content == "tag,kg\nT-2,heavy\n"
		whole = whole || strings.HasPrefix(name, "two.") && strings.HasSuffix(name, ".zip") && content == two
	}
	if !plain || !whole {
		t.Errorf("rejected are %q", b.List("stations/rejected"))
	}
}

// TestSamples: a sample is sent once, and any part of it can be asked for.
func TestSamples(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	ctx := context.Background()
	content, err := os.ReadFile(samples + "lab-results.hl7")
	if err != nil {
		t.Fatal(err)
	}
	many := "FHS|^~\\&\rBHS|^~\\&\r"
	message := content[strings.Index(string(content), "MSH|"):]
	message = message[:strings.Index(string(message[1:]), "MSH|")+1]
	for i := range 3000 {
		many += strings.Replace(string(message), "|LAB-0001|", fmt.Sprintf("|LAB-%d|", i+1), 1)
	}
	sent, err := b.Client.Sample(ctx, url.Values{"name": {"many.hl7"}}, strings.NewReader(many+"BTS|3000\rFTS|1\r"))
	if err != nil || sent.Look.Records != 3000 || sent.Look.Errors != 0 {
		t.Fatalf("%+v, %v", sent, err)
	}
	got, err := b.Client.SampleRecords(ctx, sent.ID, url.Values{"at": {"2711"}})
	if err != nil || len(got.Items) != 1 || !strings.Contains(got.Items[0].Raw, "|LAB-2711|") || got.Tables["0085"] == nil {
		t.Fatalf("record 2711: %.200v, %v", got, err)
	}
	at := got.Items[0].Offset
	if !strings.HasPrefix(many[at:], got.Items[0].Raw) {
		t.Errorf("record 2711 does not stand at byte %d", at)
	}
	next, err := b.Client.SampleRecords(ctx, sent.ID, url.Values{"at": {"SPM-1"}, "from": {"2000"}})
	if err != nil || len(next.Items) != 0 {
		t.Errorf("SPM-1 from 2000 on: %d, %v", len(next.Items), err)
	}
	ask := func(path string, into any) int {
		r, err := http.NewRequest(http.MethodGet, b.URL+"/api/samples/"+path, nil)
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set("Authorization", "Bearer "+b.Token)
		answer, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		defer answer.Body.Close()
		if err := json.NewDecoder(answer.Body).Decode(into); err != nil {
			t.Fatal(err)
		}
		return answer.StatusCode
	}
	var rows struct{ Items []formats.Row }
	ask(sent.ID+"/rows?from=0&rows=3", &rows)
	if len(rows.Items) != 3 || !strings.Contains(rows.Items[2].Text, "|LAB-1|P|") || sent.Rows != int64(strings.Count(many, "\r"))+2 {
		t.Errorf("rows: %+v of %d", rows.Items, sent.Rows)
	}
	var found struct{ Hit *formats.Hit }
	if ask(sent.ID+"/find?text=lab-2999&from=0", &found); found.Hit == nil || many[found.Hit.Offset:found.Hit.Offset+8] != "LAB-2999" {
		t.Errorf("found %+v", found.Hit)
	}
	var row struct{ Row int64 }
	if ask(fmt.Sprintf("%s/row?byte=%d", sent.ID, at), &row); row.Row != got.Items[0].Line-1 {
		t.Errorf("byte %d is in row %d, not %d", at, row.Row, got.Items[0].Line-1)
	}
	var problem struct{ Detail string }
	for path, want := range map[string]string{sent.ID + "/records?at=record+x": "is not a place", sent.ID + "/records?records=0": "validation failed", "NOBODY/rows": "not kept any more"} {
		if status := ask(path, &problem); status != http.StatusUnprocessableEntity || !strings.Contains(problem.Detail, want) {
			t.Errorf("%s: %d %q", path, status, problem.Detail)
		}
	}

	// An archive with several members asks which one.
	var archive bytes.Buffer
	z := zip.NewWriter(&archive)
	for name, content := range map[string][]byte{"a.hl7": content, "b.csv": []byte("id,x\n1,2\n")} {
		w, err := z.Create(name)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := w.Write(content); err != nil {
			t.Fatal(err)
		}
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	list, err := b.Client.Sample(ctx, url.Values{"name": {"week.zip"}}, bytes.NewReader(archive.Bytes()))
	if err != nil || list.ID != "" || list.Look != nil || len(list.Members) != 2 {
		t.Fatalf("%+v, %v", list, err)
	}
	member, err := b.Client.Sample(ctx, url.Values{"name": {"week.zip"}, "member": {"b.csv"}}, bytes.NewReader(archive.Bytes()))
	if err != nil || member.Look.Format != "csv" || member.Look.Name != "week.zip: b.csv" {
		t.Fatalf("%+v, %v", member, err)
	}
	if _, err := b.Client.Sample(ctx, url.Values{"name": {"week.zip"}, "member": {"c"}}, bytes.NewReader(archive.Bytes())); err == nil || !strings.Contains(err.Error(), "no member") {
		t.Error(err)
	}
	// The oldest are forgotten when there are too many.
	for range 16 {
		if _, err := b.Client.Sample(ctx, url.Values{"name": {"x"}}, strings.NewReader("a,b\n1,2\n")); err != nil {
			t.Fatal(err)
		}
	}
	if status := ask(sent.ID+"/rows", &problem); status != http.StatusUnprocessableEntity {
		t.Errorf("the oldest sample is still kept: %d", status)
	}
}

// TestConsoleSamples: a file is chosen; its text, its structure, its fields and its faults are
// gone through.
func TestConsoleSamples(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	ctx := browser(t)
	do(t, ctx, chromedp.Navigate(b.URL+"/samples#token="+b.Token))
	text(t, ctx, "main", "Drop a file here", "X12 and EDIFACT")
	file := func(name string) string {
		path, err := filepath.Abs(samples + name)
		if err != nil {
			t.Fatal(err)
		}
		return path
	}
	do(t, ctx, chromedp.SetUploadFiles(chromedp.CSS("input[type=file]"), []string{file("lab-results-broken.hl7")}))
	text(t, ctx, "main", "HL7 v2, ORU^R01 2.5.1", "3 records", "3 errors", "ORDER_OBSERVATION", "Patient Identification", "MSH|^~\\&|SKERRYLAB", "record 1 of 3, line 3: ORU^R01")
	// Pointing at a part marks its text, and says what it is and which codes there are.
	do(t, ctx, chromedp.Click("//div[@role='treeitem'][.//span[.='PID-8']]"))
	text(t, ctx, ".about", "Administrative Sex", "means Male", "codes of table 0001", "Female")
	text(t, ctx, ".marked", "M")
	shot(t, ctx, "console-samples")
	// Clicking at the text shows its record, and pointing marks its part.
	do(t, ctx, chromedp.Click("//span[@data-from][contains(., 'T-0815')]"))
	text(t, ctx, "main", "record 2 of 3, line 10")
	do(t, ctx, chromedp.Click("//button[contains(., 'Next')]"))
	text(t, ctx, "main", "record 3 of 3, line 14")
	do(t, ctx, chromedp.SendKeys(chromedp.CSS("input.filter"), "record 2\r"))
	text(t, ctx, "main", "record 2 of 3", "4 °C in the box")
	do(t, ctx, chromedp.SendKeys(chromedp.CSS("input.search"), "skerrylab\r"))
	text(t, ctx, ".marked", "SKERRYLAB")
	do(t, ctx, chromedp.Click("//button[contains(., '3 errors')]"))
	text(t, ctx, "main", "this line is not a segment", "MSH-18 must name it")
	do(t, ctx, chromedp.Click("//div[contains(@class, 'finding') and @tabindex][contains(., 'this line is not a segment')]"))
	text(t, ctx, "main", "record 1 of 3")
	do(t, ctx, chromedp.Click("//button[contains(., 'fields')]"))
	text(t, ctx, "main", "Patient Identifier List: ID Number")
	do(t, ctx, chromedp.Click("//td[.='NTE-3']"))
	text(t, ctx, "main", "Next with NTE-3")
	do(t, ctx, chromedp.SetUploadFiles(chromedp.CSS("input.another"), []string{file("weights-broken.csv")}))
	text(t, ctx, "main", "CSV", "record 1 of")
	do(t, ctx, chromedp.Click("//button[contains(., 'error')]"))
	text(t, ctx, "main", "skip: 1", "exponent form", "the quote opened here is never closed")
	// Of a file that cannot be followed from its beginning the text is shown, and the reason.
	odd := filepath.Join(t.TempDir(), "odd.edi")
	if err := os.WriteFile(odd, []byte("UNB+UNOQ:3+A+B+261125:0930+1'\nUNH+1+ORDERS:D:96A:UN'\nUNT+2+1'\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	do(t, ctx, chromedp.SetUploadFiles(chromedp.CSS("input.another"), []string{odd}))
	text(t, ctx, "main", "no records", "UNH+1+ORDERS", "UNB names the repertoire")
	do(t, ctx, chromedp.SetUploadFiles(chromedp.CSS("input.another"), []string{file("reagent-answers.x12")}))
	text(t, ctx, "main", "X12, 855 004010", "LOOP_PO1", "purchase order acknowledgement")
	do(t, ctx, chromedp.SendKeys(chromedp.CSS("input.filter"), "SN1\r"))
	text(t, ctx, "main", "record 2 of 2", "Quantity shipped", "Next with SN1")
	// A partner's guideline takes the standard's place, until it is taken away.
	guideline := func(path string) {
		t.Helper()
		do(t, ctx, chromedp.SetUploadFiles(chromedp.CSS("input.guideline"), []string{path}))
	}
	do(t, ctx, chromedp.SetUploadFiles(chromedp.CSS("input.another"), []string{file("reagent-orders.x12")}))
	text(t, ctx, "main", "X12, 850 005010", "Purpose", "0 errors, 0 warnings")
	broken := filepath.Join(t.TempDir(), "broken.sef")
	if err := os.WriteFile(broken, []byte(".INI\nx,,005 010,X,005010,Y\n.SETS\n850=[ST\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	guideline(broken)
	text(t, ctx, "main", "broken.sef cannot be read: line 4", "a bracket is not closed")
	strict := filepath.Join(t.TempDir(), "strict.sef")
	partner, err := os.ReadFile("../demo/workspace/descriptions/holm-orders.sef")
	if err == nil {
		err = os.WriteFile(strict, []byte(strings.Replace(string(partner), "98=BY,SE", "98=BY", 1)), 0o644)
	}
	if err != nil {
		t.Fatal(err)
	}
	guideline(strict)
	text(t, ctx, "main", "against strict.sef", "Validated against strict.sef, which describes 850 005010", "not taken: notes in .TEXT,SETS", "not among the codes of table 98", "0 errors, 2 warnings")
	do(t, ctx, chromedp.Click("//button[@aria-label='Hold against the standard']"))
	text(t, ctx, "main", "Hold against a description", "0 errors, 0 warnings")
}

// TestConsoleLargeSample: a large file is scrolled through without being fetched whole.
func TestConsoleLargeSample(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	ctx := browser(t)
	const n = 1_000_000
	large := filepath.Join(t.TempDir(), "large.csv")
	f, err := os.Create(large)
	if err != nil {
		t.Fatal(err)
	}
	w := bufio.NewWriter(f)
	fmt.Fprintln(w, "id,station,animal,weight_kg,remark")
	for i := 1; i <= n; i++ {
		fmt.Fprintf(w, "%07d,Brunholm,T-%07d,%d.%d,a remark that makes the line about a hundred bytes long: %d\n", i, i, 20+i%90, i%10, i)
	}
	if err := errors.Join(w.Flush(), f.Close()); err != nil {
		t.Fatal(err)
	}
	do(t, ctx, chromedp.Navigate(b.URL+"/samples#token="+b.Token), chromedp.SetUploadFiles(chromedp.CSS("input[type=file]"), []string{large}))
	text(t, ctx, "main", "1,000,000 records", "0000001,Brunholm", "record 1 of 1,000,000")
	scroll := func(part float64) {
		do(t, ctx, chromedp.Evaluate[chromedp.Void](fmt.Sprintf("(() => { const p = document.querySelector('.text'); p.scrollTop = %f * (p.scrollHeight - p.clientHeight) })()", part)))
	}
	scroll(0.5)
	text(t, ctx, ".text", "0500000,Brunholm")
	scroll(1)
	text(t, ctx, ".text", "1000000,Brunholm", "1,000,001")
	do(t, ctx, chromedp.Click("//span[@data-from][contains(., '0999999,')]"))
	text(t, ctx, "main", "record 999,999 of 1,000,000")
	do(t, ctx, chromedp.Focus(chromedp.CSS(".text")), chromedp.KeyEvent(kb.Home))
	text(t, ctx, ".text", "0000001,Brunholm")
	do(t, ctx, chromedp.SendKeys(chromedp.CSS("input.filter"), "765,432\r"))
	text(t, ctx, ".text", "0765432,Brunholm")
	do(t, ctx, chromedp.SendKeys(chromedp.CSS("input.search"), "t-0912345\r"))
	text(t, ctx, ".marked", "T-0912345")
}
