package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"unicode/utf16"

	"ydrion/cli"
	"ydrion/core/finding"
	"ydrion/files"
	"ydrion/testbed"
	"ydrion/wire"
)

const heading = "specimen_id,animal_tag,species,station,collected_at,sex,weight_kg,note,test_code,priority\n"

// row is a good row with a number.
func row(n int) string {
	return fmt.Sprintf("AP-%06d,T-%d,GS,Ansel Point,24/11/2026 06:30,Male,36.5,calm,WBC,routine\n", n, n)
}

// inOneFile is the demo's route with all records of a pickup in one file.
func inOneFile(t *testing.T) map[string]string {
	t.Helper()
	w := testbed.Workspace(t)
	r := string(w.Files["routes/specimen-orders.yaml"])
	r = strings.ReplaceAll(r, `"{specimen_id}-{sequence | pad 6 \"0\"}.hl7"`, `"{file.stem}.hl7"`)
	r = strings.ReplaceAll(r, "one file per: record", `one file per: pickup`)
	if !strings.Contains(r, "file.stem") || strings.Contains(r, "per: record") {
		t.Fatal("the demo's route has changed; this test must follow")
	}
	return map[string]string{"routes/specimen-orders.yaml": r}
}

func latin1(s string) string {
	out := make([]byte, 0, len(s))
	for _, r := range s {
		out = append(out, byte(r))
	}
	return string(out)
}

func utf16LE(s string, mark bool) string {
	var out []byte
	if mark {
		out = append(out, 0xFF, 0xFE)
	}
	for _, u := range utf16.Encode([]rune(s)) {
		out = append(out, byte(u), byte(u>>8))
	}
	return string(out)
}

func thousands(n int, badEvery int) string {
	var b strings.Builder
	b.WriteString(heading)
	for i := range n {
		r := row(i)
		if badEvery > 0 && i%badEvery == 1 {
			r = strings.Replace(r, "36.5", "n/a", 1)
		}
		b.WriteString(r)
	}
	return b.String()
}

// TestBadInputs fixes, for each bad input: the pickup's state, its balance, the
// finding, where the good and the rejected parts are, that the original is in
// the archive, and what `try` answers.
func TestBadInputs(t *testing.T) {
	t.Parallel()
	big := strings.Repeat("x", 50<<20)
	tests := []struct {
		name    string
		file    string // name of the file; made from the name of the case if empty
		content string
		state   string
		balance [3]int64 // in, good, rejected
		whole   bool
		codes   []string // findings of the file and of its rejected records
		says    string   // part of the report for the partner
		exit    int      // of try
	}{
		{name: "zero bytes", content: "", state: "rejected", whole: true, codes: []string{"file.empty"}, says: "0 bytes", exit: 1},
		{name: "heading only", content: heading, state: "delivered", codes: []string{"file.no-records"}, exit: 0},
		{name: "missing column", content: strings.ReplaceAll(heading+row(1), ",priority", ""), state: "rejected", whole: true, codes: []string{"csv.column-missing"}, says: `column "priority" is missing`, exit: 1},
		{name: "renamed column", content: strings.Replace(heading+row(1), "weight_kg", "weight kg", 1), state: "rejected", whole: true, codes: []string{"csv.column-missing", "csv.column-surplus"}, says: `was column "weight kg" renamed?`, exit: 1},
		{name: "column twice", content: strings.Replace(heading+row(1), "note", "sex", 1), state: "rejected", whole: true, codes: []string{"csv.column-twice", "csv.column-missing"}, says: `both called "sex"`, exit: 1},
		{name: "surplus column", content: strings.ReplaceAll(heading+row(1), "\n", ",vet\n"), state: "delivered", balance: [3]int64{1, 1, 0}, codes: []string{"csv.column-surplus"}, exit: 0},
		{name: "other delimiter", content: strings.ReplaceAll(heading+row(1), ",", ";"), state: "rejected", whole: true, codes: []string{"csv.delimiter"}, says: "the delimiter seems to be a semicolon", exit: 1},
		{name: "unclosed quote", content: heading + row(1) + strings.Replace(row(2), "calm", `"calm`, 1) + row(3), state: "delivered", balance: [3]int64{2, 1, 1}, codes: []string{"csv.quote-unclosed"}, says: "line 3, column 57", exit: 1},
		{name: "wrong encoding", content: latin1(heading + row(1) + strings.Replace(row(2), "calm", "4 °C", 1)), state: "delivered", balance: [3]int64{2, 1, 1}, codes: []string{"text.encoding"}, says: "byte B0 here is not UTF-8", exit: 1},
		{name: "utf-16 with a mark", content: utf16LE(heading+row(1), true), state: "delivered", balance: [3]int64{1, 1, 0}, codes: []string{"text.charset"}, exit: 0},
		{name: "utf-16 without a mark", content: utf16LE(heading+row(1), false), state: "rejected", whole: true, codes: []string{"text.charset", "csv.nul"}, says: "the heading has a NUL byte", exit: 1},
		{name: "utf-8 with a mark", content: "\xEF\xBB\xBF" + heading + row(1), state: "delivered", balance: [3]int64{1, 1, 0}, exit: 0},
		{name: "NUL bytes", content: heading + row(1) + strings.Replace(row(2), "calm", "ca\x00lm", 1) + row(3), state: "delivered", balance: [3]int64{3, 2, 1}, codes: []string{"csv.nul"}, says: "the row has a NUL byte", exit: 1},
		{name: "short row", content: heading + row(1) + "AP-0002,T-2\n" + row(3), state: "delivered", balance: [3]int64{3, 2, 1}, codes: []string{"csv.columns-missing"}, says: "the row has 2 columns, the heading has 10", exit: 1},
		{name: "long row", content: heading + row(1) + strings.Replace(row(2), "calm", "calm, then not", 1), state: "delivered", balance: [3]int64{2, 1, 1}, codes: []string{"csv.columns-surplus"}, says: "must stand in quotes", exit: 1},
		{name: "text after a quote", content: heading + row(1) + strings.Replace(row(2), "calm", `"calm" or so`, 1), state: "delivered", balance: [3]int64{2, 1, 1}, codes: []string{"csv.quote-text"}, says: "text follows the closing quote", exit: 1},
		{name: "stray quote", content: heading + strings.Replace(row(1), "calm", `5" of net`, 1), state: "delivered", balance: [3]int64{1, 1, 0}, exit: 0},
		{name: "CR only and empty lines", content: strings.ReplaceAll(heading+"\n"+row(1)+"\n\n"+row(2), "\n", "\r"), state: "delivered", balance: [3]int64{2, 2, 0}, exit: 0},
		{name: "CR LF without an end", content: strings.TrimSuffix(strings.ReplaceAll(heading+row(1)+row(2), "\n", "\r\n"), "\r\n"), state: "delivered", balance: [3]int64{2, 2, 0}, exit: 0},
		{name: "field of 50 MB", content: heading + row(1) + strings.Replace(row(2), "calm", big, 1) + row(3), state: "delivered", balance: [3]int64{3, 2, 1}, codes: []string{"schema.maxLength"}, says: "note has 52428800 characters, at most 2000 are allowed", exit: 1},
		{name: "3 percent bad", content: thousands(100_000, 33), state: "delivered", balance: [3]int64{100_000, 96_969, 3_031}, codes: []string{"schema.type"}, says: `weight_kg is not a number with a point as decimal mark: "n/a"`, exit: 1},
		{name: "more bad than tolerated", content: thousands(3, 1), state: "delivered", balance: [3]int64{3, 3, 0}, codes: nil, exit: 0},
		{name: "mostly bad", content: strings.ReplaceAll(thousands(4, 0), "36.5", "-"), state: "rejected", balance: [3]int64{4, 0, 4}, whole: true, codes: []string{"route.tolerate", "schema.type"}, says: "4 of 4 records were rejected", exit: 1},
		{name: "odd name", file: "odd; $(touch owned) 'ä' %2F \\ü.csv", content: heading + row(1), state: "rejected", whole: true, codes: []string{"deliver.name"}, says: "holds a slash or a control character", exit: 0},
		{name: "another odd name", file: "-rf * ? 'ä' %2F .. .csv", content: heading + row(71), state: "delivered", balance: [3]int64{1, 1, 0}, exit: 0},
		{name: "line end in the name", file: "two\nlines.csv", content: heading + row(72), state: "rejected", whole: true, codes: []string{"deliver.name"}, says: "holds a slash or a control character", exit: 0},
	}
	b := testbed.Start(t)
	b.Publish(inOneFile(t))
	workspaceFolder := t.TempDir()
	if err := os.CopyFS(workspaceFolder, os.DirFS("../demo/workspace")); err != nil {
		t.Fatal(err)
	}
	for name, c := range inOneFile(t) {
		if err := os.WriteFile(filepath.Join(workspaceFolder, name), []byte(c), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			b.T = t
			name := test.file
			if name == "" {
				name = strings.ReplaceAll(test.name, " ", "-") + ".csv"
			}
			b.Drop("stations/inbox", name, test.content)
			p := b.Ended(name, 0)
			if p.State != test.state || [3]int64{p.In, p.Good, p.Rejected} != test.balance || p.Whole != test.whole {
				t.Errorf("ended %s with %d in, %d good, %d rejected, whole %v; want %s %v %v", p.State, p.In, p.Good, p.Rejected, p.Whole, test.state, test.balance, test.whole)
			}
			if got := findings(t, b, p); !same(got, test.codes) {
				t.Errorf("findings %v, want %v", got, test.codes)
			}
			original(t, b, p, test.content)
			places(t, b, p, test.content, test.says)
			sample := filepath.Join(t.TempDir(), "sample.csv")
			if err := os.WriteFile(sample, []byte(test.content), 0o644); err != nil {
				t.Fatal(err)
			}
			var out, errOut strings.Builder
			if got := cli.Main([]string{"try", "specimen-orders", sample, "-w", workspaceFolder, "--limit", "2"}, &out, &errOut); got != test.exit {
				t.Errorf("try gives exit code %d, want %d: %s%s", got, test.exit, out.String(), errOut.String())
			}
		})
	}
	b.T = t
	if left := b.List("stations/inbox"); len(left) != 0 {
		t.Errorf("left in the inbox: %v", left)
	}
}

// findings gives the codes of a pickup's findings, each once.
func findings(t *testing.T, b *testbed.Bed, p wire.Pickup) []string {
	t.Helper()
	d, err := b.Client.Pickup(context.Background(), p.ID)
	if err != nil {
		t.Fatal(err)
	}
	var list finding.List
	for _, f := range d.Runs[0].Findings {
		list = append(list, f)
	}
	page, err := b.Client.Rejects(context.Background(), p.Run, url.Values{"limit": {"100"}})
	if err != nil {
		t.Fatal(err)
	}
	for _, r := range page.Items {
		list = append(list, r.Findings...)
	}
	var codes []string
	for _, f := range list {
		if f.Message == "" || f.Place.File == "" {
			t.Errorf("a finding without a sentence or a file: %+v", f)
		}
		if !slices.Contains(codes, f.Code) {
			codes = append(codes, f.Code)
		}
	}
	return codes
}

func same(a, b []string) bool {
	for _, x := range a {
		if !slices.Contains(b, x) {
			return false
		}
	}
	for _, x := range b {
		if !slices.Contains(a, x) {
			return false
		}
	}
	return true
}

// original checks that the archive has the file byte for byte.
func original(t *testing.T, b *testbed.Bed, p wire.Pickup, want string) {
	t.Helper()
	r, err := http.NewRequest(http.MethodGet, fmt.Sprintf("%s/api/pickups/%d/original", b.URL, p.ID), nil)
	if err != nil {
		t.Fatal(err)
	}
	r.Header.Set("Authorization", "Bearer "+b.Token)
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	got, err := io.ReadAll(answer.Body)
	if err != nil || answer.StatusCode != 200 || string(got) != want {
		t.Errorf("the archive gives %s and %d bytes, want %d (%v)", answer.Status, len(got), len(want), err)
	}
}

// places checks that every output of a run is where it is said to be, that
// rejected files are whole, and what the partner is told.
func places(t *testing.T, b *testbed.Bed, p wire.Pickup, content, says string) {
	t.Helper()
	d, err := b.Client.Pickup(context.Background(), p.ID)
	if err != nil {
		t.Fatal(err)
	}
	told := ""
	for _, o := range d.Runs[0].Deliveries {
		c, err := os.ReadFile(filepath.Join(o.Folder, o.Name))
		if err != nil {
			t.Error(err)
			continue
		}
		if int64(len(c)) != o.Size {
			t.Errorf("%s has %d bytes, %d were recorded", o.Name, len(c), o.Size)
		}
		switch o.Kind {
		case "rejected":
			if p.Whole && string(c) != content {
				t.Errorf("the file that was rejected whole is not the one that came: %d bytes instead of %d", len(c), len(content))
			}
			if !p.Whole && !strings.HasPrefix(string(c), heading) {
				t.Errorf("rejected records do not begin with the heading: %.80q", c)
			}
		case "report":
			told = string(c)
		}
	}
	if !strings.Contains(told, says) {
		t.Errorf("the report does not say %q but\n%.2000s", says, told)
	}
}

func TestSameNameTwice(t *testing.T) {
	b := testbed.Start(t)
	b.Publish(inOneFile(t))
	b.Drop("stations/inbox", "sheet.csv", heading+row(1))
	first := b.Ended("sheet.csv", 0)
	b.Drop("stations/inbox", "sheet.csv", heading+row(2)+row(3))
	second := b.Ended("sheet.csv", first.ID)
	if got := b.List("laboratory/orders"); len(got) != 2 || got[0] != "sheet-2.hl7" || got[1] != "sheet.hl7" {
		t.Fatalf("outputs %v", got)
	}
	if !strings.Contains(b.Read("laboratory/orders/sheet.hl7"), "AP-000001") || !strings.Contains(b.Read("laboratory/orders/sheet-2.hl7"), "AP-000003") {
		t.Error("the outputs are not what their files became")
	}
	// The same content again is taken, and said to have come before.
	b.Drop("stations/inbox", "again.csv", heading+row(1))
	third := b.Ended("again.csv", second.ID)
	if got := findings(t, b, third); !same(got, []string{"file.again"}) {
		t.Errorf("findings %v", got)
	}
}

func TestFilesThatHaveToWait(t *testing.T) {
	denied := &files.Faulty{FS: files.Real{}}
	denied.Fail = func(_ int64, operation, name string) error {
		if operation == "free" && strings.HasSuffix(name, "denied.csv") {
			return &os.PathError{Op: "open", Path: name, Err: syscall.EACCES}
		}
		return nil
	}
	b := testbed.Start(t, testbed.On(denied))
	outside := b.Path("secret.csv")
	if err := os.WriteFile(outside, []byte(heading+row(9)), 0o644); err != nil {
		t.Fatal(err)
	}
	b.Publish(inOneFile(t))
	inbox := b.Path("stations/inbox")
	if err := os.Symlink(outside, filepath.Join(inbox, "link.csv")); err != nil {
		t.Fatal(err)
	}
	if err := syscall.Mkfifo(filepath.Join(inbox, "pipe.csv"), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.Mkdir(filepath.Join(inbox, "folder.csv"), 0o755); err != nil {
		t.Fatal(err)
	}
	b.Drop("stations/inbox", "denied.csv", heading+row(1))
	b.Drop("stations/inbox", ".hidden.csv", heading+row(2))
	slow, err := os.Create(filepath.Join(inbox, "slow.csv"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := slow.WriteString(heading + row(3)); err != nil {
		t.Fatal(err)
	}
	// The route goes on with others meanwhile.
	b.Drop("stations/inbox", "good.csv", heading+row(4))
	b.Ended("good.csv", 0)
	if _, err := b.Client.SetRunning(context.Background(), "specimen-orders", false); err != nil {
		t.Fatal(err)
	}
	if _, err := b.Client.SetRunning(context.Background(), "specimen-orders", true); err != nil {
		t.Fatal(err)
	}
	want := map[string]string{
		"link.csv":   "it is a symbolic link; links are not followed out of the folder",
		"pipe.csv":   "it is not an ordinary file",
		"denied.csv": "permission to read it is missing",
		"slow.csv":   "somebody still has the file open for writing",
	}
	testbed.Until(t, "all four are reported", func() bool {
		s, err := b.Client.Route(context.Background(), "specimen-orders")
		if err != nil {
			t.Fatal(err)
		}
		n := 0
		for _, w := range s.WaitingFiles {
			if want[w.Name] == w.Reason {
				n++
			}
		}
		return n == len(want) && len(s.WaitingFiles) == len(want)
	})
	if _, err := slow.WriteString(row(5)); err != nil {
		t.Fatal(err)
	}
	if err := slow.Close(); err != nil {
		t.Fatal(err)
	}
	if p := b.Ended("slow.csv", 0); p.In != 2 {
		t.Errorf("the slow file was taken with %d of 2 records", p.In)
	}
	if c, err := os.ReadFile(outside); err != nil || string(c) != heading+row(9) {
		t.Errorf("the file outside of the inbox was touched: %v", err)
	}
}

func TestTargetThatCannotBeWritten(t *testing.T) {
	t.Parallel()
	broken := &files.Faulty{FS: files.Real{}}
	var down = make(chan struct{})
	broken.Fail = func(_ int64, operation, name string) error {
		select {
		case <-down:
			return nil
		default:
		}
		if operation == "create" && strings.Contains(name, "laboratory") {
			return &os.PathError{Op: "open", Path: name, Err: syscall.EROFS}
		}
		return nil
	}
	b := testbed.Start(t, testbed.On(broken))
	b.Publish(inOneFile(t))
	b.Drop("stations/inbox", "sheet.csv", heading+row(1))
	testbed.Until(t, "the pickup is held", func() bool {
		page, err := b.Client.Pickups(context.Background(), url.Values{"state": {"held"}})
		if err != nil {
			t.Fatal(err)
		}
		return len(page.Items) == 1 && strings.Contains(page.Items[0].Reason, "read-only file system")
	})
	// A file of another route is not stopped by it.
	close(down)
	if p := b.Ended("sheet.csv", 0); p.State != "delivered" || p.Good != 1 {
		t.Errorf("after the target is back: %+v", p)
	}
	if got := b.List("laboratory/orders"); len(got) != 1 {
		t.Errorf("outputs %v", got)
	}
}

// TestRejectsGoBackAsTheyCame: rejected records are written in the character
// set of their file, with its mark, its heading and its line ends.
func TestRejectsGoBackAsTheyCame(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	b.Publish(inOneFile(t))
	bad := strings.Replace(row(2), "36.5,calm", "36,Pool 4 °C", 1)
	bad = strings.Replace(bad, "GS", "XX", 1)
	for name, encode := range map[string]func(string) string{
		"wide.csv":   func(s string) string { return utf16LE(strings.ReplaceAll(s, "\n", "\r\n"), true) },
		"marked.csv": func(s string) string { return "\xEF\xBB\xBF" + s },
		"plain.csv":  func(s string) string { return s },
	} {
		b.Drop("stations/inbox", name, encode(heading+row(1)+bad+row(3)))
		p := b.Ended(name, 0)
		if p.Good != 2 || p.Rejected != 1 {
			t.Errorf("%s: %+v", name, p)
		}
		rejected := b.Read("stations/rejected", strings.TrimSuffix(name, ".csv")+fmt.Sprintf(".rejected-%d.csv", p.Run))
		if want := encode(heading + bad); rejected != want {
			t.Errorf("%s: rejected as %q, want %q", name, rejected, want)
		}
		if told := b.Read("stations/rejected", strings.TrimSuffix(name, ".csv")+fmt.Sprintf(".rejected-%d.findings.txt", p.Run)); !strings.Contains(told, `line 3, column 15 (record 2): species is "XX", allowed are GS, HS, RS`) || !strings.Contains(told, "Pool 4 °C") {
			t.Errorf("%s: told %s", name, told)
		}
		var listed struct {
			File     string
			Run      int64
			Findings []finding.Finding
		}
		if err := json.Unmarshal([]byte(b.Read("stations/rejected", strings.TrimSuffix(name, ".csv")+fmt.Sprintf(".rejected-%d.findings.json", p.Run))), &listed); err != nil || listed.File != name || listed.Run != p.Run || len(listed.Findings) != 1 || listed.Findings[0].Seen != "XX" {
			t.Errorf("%s: listed %+v (%v)", name, listed, err)
		}
	}
}

// TestManyOutputs: one file for each of a thousand records.
func TestManyOutputs(t *testing.T) {
	b := testbed.Start(t)
	b.Publish(nil)
	b.Drop("stations/inbox", "many.csv", thousands(1000, 10))
	p := b.Ended("many.csv", 0)
	if p.Good != 900 || p.Rejected != 100 || len(b.List("laboratory/orders")) != 900 {
		t.Errorf("%+v, %d outputs", p, len(b.List("laboratory/orders")))
	}
	d, err := b.Client.Pickup(context.Background(), p.ID)
	if err != nil || d.Runs[0].Outputs != 903 || len(d.Runs[0].Deliveries) != 203 {
		t.Errorf("%d outputs, %d listed, %v", d.Runs[0].Outputs, len(d.Runs[0].Deliveries), err)
	}
	hidden, err := os.ReadDir(b.Path("laboratory/orders", files.Hidden))
	if err != nil || len(hidden) != 0 {
		t.Errorf("left hidden: %d %v", len(hidden), err)
	}
}
