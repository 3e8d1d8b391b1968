package e2e

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/url"
	"os"
	"strings"
	"testing"

	"ydrion/testbed"
)

// TestFilesThatGoOnUnread: any file goes on byte for byte, by what it is, how large it is and where it came
// from, to several places under names with a number; one that nothing takes is rejected as it came.
func TestFilesThatGoOnUnread(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	files := map[string]string{"routes/reports.yaml": `route: reports
listen: {folder: "{stations}/reports", names: "*", subfolders: true}
read: {format: file}
deliver:
  name: "{file.folder}/{file.stem}-{sequence}.{file.extension}"
  to:
    - {folder: "{laboratory}/pictures", when: 'file.type | begins "image/"'}
    - {folder: "{laboratory}/reports", when: 'file.type = "application/pdf" and file.size < 1000'}
    - {folder: "{laboratory}/letters", when: 'file.head | contains "Dear "', name: '{file.head | capture "(?s)Reference: ([A-Z0-9-]+)" if absent "none"}.txt'}
    - {folder: "{laboratory}/all", when: 'file.type != "application/zip"', name: "{file.name}"}
rejected: {folder: "{stations}/rejected"}
`}
	b.Publish(files)
	noise := make([]byte, 3<<20)
	r := rand.New(rand.NewPCG(1, 2))
	for i := range noise {
		noise[i] = byte(r.Uint32())
	}
	for name, content := range map[string]string{
		"a.png": "\x89PNG\r\n\x1a\n" + string(noise), "b.pdf": "%PDF-1.7\n\x00\xff", "large.pdf": "%PDF-1.7\n" + strings.Repeat("x", 2000), "c.dat": "\x00\x01\x02", "d.txt": "plain", "l.txt": "Dear Maren,\nReference: SC-77/b\n", "m.txt": strings.Repeat(" ", 60_000) + "Dear \xff all", "far.txt": strings.Repeat(" ", 70_000) + "Dear all", "e.zip": "PK\x03\x04rest", "empty.txt": "",
	} {
		b.Drop("stations/reports", name, content)
		p := b.Ended(name, 0)
		want := map[bool]string{true: "rejected", false: "delivered"}[name == "e.zip"]
		if p.State != want || p.In != 1 && want == "delivered" {
			t.Fatalf("%s: %+v", name, p)
		}
		at := "laboratory/all"
		if want == "rejected" {
			at = "stations/rejected"
		}
		if want == "rejected" {
			name = fmt.Sprintf("e.rejected-%d.zip", p.Run)
		}
		if got := b.Read(at + "/" + name); got != content {
			t.Errorf("%s came as %d bytes, not %d", name, len(got), len(content))
		}
		for _, folder := range []string{"pictures", "reports"} {
			if to := map[string]string{"a.png": "pictures", "b.pdf": "reports"}[name]; to == folder {
				found := false
				for _, n := range b.List("laboratory/" + folder) {
					found = found || strings.HasPrefix(n, name[:1]+"-") && b.Read("laboratory/"+folder+"/"+n) == content
				}
				if !found {
					t.Errorf("%s is not in %s: %v", name, folder, b.List("laboratory/"+folder))
				}
			}
		}
	}
	if got := fmt.Sprint(len(b.List("laboratory/pictures")), len(b.List("laboratory/reports"))); got != "1 1" {
		t.Error(got)
	}
	if got := strings.Join(b.List("laboratory/letters"), " "); got != "SC-77.txt none.txt" {
		t.Errorf("letters %s", got)
	}
	_, said := command(b, "route", "reports")
	if !strings.Contains(said, "Passes files on as they are, unread.") || !strings.Contains(said, "Delivers each file to each of 4 destinations") {
		t.Error(said)
	}
	b.Drop("stations/reports/deep/er", "x.png", "\x89PNG\r\n\x1a\n")
	p := b.Ended("x.png", 0)
	if got := b.List("laboratory/pictures/deep/er"); len(got) != 1 || !strings.HasPrefix(got[0], "x-") {
		t.Error(got)
	}
	shown, err := b.Client.Records(context.Background(), p.Run, url.Values{})
	if err != nil || len(shown.Records) != 1 || !strings.HasPrefix(shown.Records[0].Became[0].Files[0].Name, "deep/er/x-") || shown.Records[0].Fields[0].Value != "image/png" {
		t.Errorf("%+v %v", shown, err)
	}
	if _, said := command(b, "again", "--pickup", fmt.Sprint(p.ID)); strings.Contains(said, "panic") {
		t.Error(said)
	}
	folder := t.TempDir()
	files["maps/none.map"] = "map none\n"
	writeAll(t, folder, files)
	writeAll(t, folder, map[string]string{"in.pdf": "%PDF-1.7\n", "in.zip": "PK\x03\x04"})
	if code, said := command(nil, "try", "reports", folder+"/in.pdf", "-w", folder); code != 0 || !strings.Contains(said, "good, becomes in-1.pdf") || !strings.Contains(said, "file.type = application/pdf") {
		t.Errorf("%d %s", code, said)
	}
	if code, said := command(nil, "try", "reports", folder+"/in.zip", "-w", folder); code != 1 || !strings.Contains(said, "none of the route's destinations takes it") {
		t.Errorf("%d %s", code, said)
	}
	for old, test := range map[string][2]string{
		"read: {format: file}":  {"read: {format: file}\nmap: maps/none.map", "neither a map nor checks"},
		"read: {format: file} ": {"read: {format: file}\ncheck: {schema: x}", "neither a map nor checks"},
		"deliver:\n":            {"deliver:\n  one file per: record\n", "they have no records"},
		"file.type | begins":    {"file.tipe | begins", "was file.type meant?"},
		"{file.name}":           {"{tag}", "tag"},
	} {
		other := t.TempDir()
		writeAll(t, other, map[string]string{"routes/reports.yaml": strings.Replace(files["routes/reports.yaml"], strings.TrimRight(old, " "), test[0], 1), "maps/none.map": "map none\n"})
		if code, said := command(nil, "check", other); code == 0 || !strings.Contains(said, test[1]) {
			t.Errorf("%s: %d %s", test[0], code, said)
		}
	}
	// Other routes read their files: what is known of unread ones has no meaning there.
	if code, said := command(nil, "check", func() string {
		other := t.TempDir()
		writeAll(t, other, byStation("csv", "tag,kg\n", "tag = file.type\nkg = file.size\nignore tag, station, kg\n", "    name: x.csv\n    folder: \"{laboratory}/x\"\n"))
		return other
	}()); code == 0 || !strings.Contains(said, "file.type has no meaning here") {
		t.Errorf("%d %s", code, said)
	}
}

// TestUnreadFilesThatDisappear: a file that disappears is passed on with what it held last.
func TestUnreadFilesThatDisappear(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	b.Publish(map[string]string{"routes/reports.yaml": `route: reports
listen: {folder: "{stations}/reports", originals: left, files that disappear: true, rhythm: 200ms}
read: {format: file}
deliver: {folder: "{laboratory}/out", name: "{file.event}-{file.name}"}
rejected: {folder: "{stations}/rejected"}
`})
	b.Drop("stations/reports", "a.txt", "calm")
	b.Ended("a.txt", 0)
	if err := os.Remove(b.Path("stations/reports/a.txt")); err != nil {
		t.Fatal(err)
	}
	testbed.Until(t, "the one that is gone has ended", func() bool { return strings.Count(states(b), "a.txt=delivered") == 2 })
	p := newest(b)
	detail, err := b.Client.Pickup(context.Background(), p.ID)
	if err != nil {
		t.Fatal(err)
	}
	if p.Event != "gone" || p.In != 1 || len(detail.Runs[0].Deliveries) != 1 || b.Read("laboratory/out", detail.Runs[0].Deliveries[0].Name) != "calm" {
		t.Errorf("%+v %+v", p, detail.Runs[0])
	}
}

// TestFilesThatAreOnlyChecked: a file whose records are checked goes on byte for byte as it came; one in which
// anything is wrong is rejected whole, with its findings, unless the route tolerates some.
func TestFilesThatAreOnlyChecked(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	route := func(name, read, check string) string {
		return fmt.Sprintf("route: %s\nlisten: {folder: \"{stations}/%[1]s\"}\nread: {%s}\ncheck: {%s}\ndeliver: {folder: \"{laboratory}/%[1]s\", name: \"{file.name}\"}\nrejected: {folder: \"{stations}/rejected-%[1]s\"}\n", name, read, check)
	}
	b.Publish(map[string]string{
		"routes/sheets.yaml":      route("sheets", "format: csv, encoding: windows-1252, delimiter: \";\"", "schema: schemas/sheet.json"),
		"routes/some.yaml":        route("some", "format: csv", "schema: schemas/sheet.json, tolerate: 50%"),
		"routes/list.yaml":        route("list", "format: json, record: /*", "schema: schemas/sheet.json, tolerate: 90%"),
		"routes/edi.yaml":         route("edi", "format: edifact", "description: standard"),
		"routes/guided.yaml":      strings.Replace(route("guided", "format: edifact", "?"), "{?}", "\n  - { when: UNB-2 = \"SKERRY\" and UNH-2.1 = \"ORDERS\", description: descriptions/stores.txt }\n  - { when: UNH-2.1 = \"DESADV\", description: none }\n  - { when: UNB-2 = \"HOLM\", description: standard }", 1),
		"descriptions/stores.txt": "structure ORDERS D.96A Order\nUNH BGM DTM+ FTX SG1*(LIN) UNS UNT\n\nsegment FTX D.96A Text\nR an(3) What\n",
		"schemas/sheet.json":      `{"fields": [{"name": "tag"}, {"name": "kg", "type": "number"}]}`,
	})
	const order = "UNA:+.? '\r\nUNB+UNOC:3+SKERRY+LAB+261125:0930+7'\r\nUNH+1+ORDERS:D:96A:UN'BGM+220+A+9'DTM+137:20261125:102'LIN+1++X:SA'QTY+21:1'UNS+S'UNT+7+1'\r\nUNZ+1+7'\r\n"
	for _, test := range []struct{ route, name, content, state string }{
		{"sheets", "good.csv", "tag;kg\r\n\"T-\xe9\" ; 1\n;2.50\r\n\n", "rejected"}, // blanks are no part of a number
		{"sheets", "fine.csv", "tag;kg\r\n\"T-\xe9\";1\r\n;2.50\r\n\r\n", "delivered"},
		{"sheets", "bad.csv", "tag;kg\nT-1;1\nT-2;x\n", "rejected"},
		{"sheets", "none.csv", "tag;kg\n", "delivered"},
		{"some", "half.csv", "tag,kg\nT-1,1\nT-2,x\n", "delivered"},
		{"some", "most.csv", "tag,kg\nT-1,y\nT-2,x\n", "rejected"},
		{"list", "some.json", `[{"tag": "T-1", "kg": 1}, {"tag": "T-2", "kg": "x"}]`, "delivered"},
		{"list", "broken.json", `[{"tag": "T-1", "kg": 1}, {"tag": "T-2", "kg": 2}, {"tag": `, "rejected"}, // nobody can tell what was to come
		{"edi", "order.edi", order, "delivered"},
		{"edi", "wrong.edi", strings.Replace(order, "20261125", "20261131", 1), "rejected"},
		{"guided", "invoice.edi", strings.Replace(order, "ORDERS", "INVOIC", 1), "rejected"},
		{"guided", "no-text.edi", order, "rejected"}, // the stores want a text, the standard does not
		{"guided", "text.edi", strings.NewReplacer("LIN+1", "FTX+AAI'LIN+1", "QTY+21:1'", "").Replace(order), "delivered"},
		{"guided", "holm.edi", strings.Replace(order, "SKERRY", "HOLM", 1), "delivered"},
		{"guided", "despatch.edi", strings.NewReplacer("ORDERS", "DESADV", "LIN", "XXX").Replace(order), "delivered"},
		{"edi", "cut.edi", order[:len(order)-30], "rejected"},
	} {
		b.Drop("stations/"+test.route, test.name, test.content)
		p := b.Ended(test.name, 0)
		if p.State != test.state {
			t.Errorf("%s: %s, %s", test.name, p.State, p.Reason)
			continue
		}
		at := "laboratory/" + test.route + "/" + test.name
		if test.state == "rejected" {
			stem, ending, _ := strings.Cut(test.name, ".")
			at = fmt.Sprintf("stations/rejected-%s/%s.rejected-%d.%s", test.route, stem, p.Run, ending)
			if _, said := command(b, "rejects", fmt.Sprint(p.ID)); !strings.Contains(said, test.name) {
				t.Errorf("%s: %s", test.name, said)
			}
		}
		if got := b.Read(at); got != test.content {
			t.Errorf("%s came as %q", test.name, got)
		}
		if got := len(b.List("laboratory/" + test.route)); test.state == "rejected" && got > 2 {
			t.Errorf("%s: %d files went on", test.name, got)
		}
	}
	if _, said := command(b, "route", "guided"); !strings.Contains(said, `Checks messages with UNH-2.1 = "DESADV" against no description.`) || !strings.Contains(said, `with UNB-2 = "SKERRY" and UNH-2.1 = "ORDERS" against descriptions/stores.txt; what differs rejects the record`) {
		t.Error(said)
	}
	if _, said := command(b, "route", "edi"); !strings.Contains(said, "Delivers each file as it came to") || strings.Contains(said, "by .") {
		t.Error(said)
	}
	folder := t.TempDir()
	writeAll(t, folder, map[string]string{"routes/r.yaml": route("r", "format: csv", "tolerate: 1%")})
	if code, said := command(nil, "check", folder); code == 0 || !strings.Contains(said, "map is missing") && !strings.Contains(said, "check.schema is missing") {
		t.Error(said)
	}
	writeAll(t, folder, map[string]string{"routes/r.yaml": route("r", "format: csv", "schema: schemas/s.json"), "schemas/s.json": `{"fields": [{"name": "tag"}, {"name": "kg", "type": "number"}]}`, "in.csv": "tag,kg\nT-1,x\n", "fine.csv": "tag,kg\nT-1,1\n"})
	if code, said := command(nil, "try", "r", folder+"/in.csv", "-w", folder); code != 1 || !strings.Contains(said, "The route rejects this file whole") {
		t.Errorf("%d %s", code, said)
	}
	if code, said := command(nil, "try", "r", folder+"/fine.csv", "-w", folder, "--output", folder+"/out.csv"); code != 0 || !strings.Contains(said, "1 good") {
		t.Errorf("%d %s", code, said)
	}
	if out, err := os.ReadFile(folder + "/out.csv"); err != nil || string(out) != "tag,kg\nT-1,1\n" {
		t.Errorf("%q %v", out, err)
	}
}
