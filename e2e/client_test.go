package e2e

import (
	"encoding/json"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"ydrion/cli"
	"ydrion/testbed"
)

// command runs the client against a service and gives its exit code and output.
func command(b *testbed.Bed, args ...string) (int, string) {
	var out, errOut strings.Builder
	if b != nil {
		args = append(args, "--data", b.Data)
	}
	code := cli.Main(args, &out, &errOut)
	return code, out.String() + errOut.String()
}

func TestClient(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	w := filepath.Join("..", "demo", "workspace")
	steps := []struct {
		args  string
		code  int
		says  []string
		never string
	}{
		{"routes", 0, []string{"no routes are published yet"}, ""},
		{"pickups", 0, []string{"no pickups match"}, ""},
		{"publish " + w + " --dry-run", 0, []string{"specimen-orders: would be published for the first time"}, "published as"},
		{"publish " + w + " --start", 0, []string{"specimen-orders: published as revision 1", "weight-log: published as revision 1"}, ""},
		{"publish " + w, 0, []string{"specimen-orders: unchanged, revision 1"}, ""},
		{"routes", 0, []string{"ROUTE", "specimen-orders    running", "weight-log"}, ""},
		{"stop weight-log", 0, []string{"weight-log: stopped"}, ""},
		{"start weight-log", 0, []string{"weight-log: running"}, ""},
		{"start nothing", 2, []string{`nothing: there is no route "nothing"`}, ""},
		{"route specimen-orders", 0, []string{"listen   Picks up files named *.csv", "Kernel events", "check    Checks 10 fields", "deliver  Delivers one file for each record"}, ""},
		{"route night-logs", 0, []string{"Nobody weighs at two.", "All files that are there go on together"}, ""},
		{"pickup 99", 2, []string{"there is no pickup 99"}, ""},
		{"pickup x", 2, []string{`"x" is not a pickup number`}, ""},
		{"pickups --since never", 2, []string{`"never" is neither a time`}, ""},
		{"pickups --limit 9999", 2, []string{"expected number <= 500"}, ""},
		{"nonsense", 2, []string{`unknown command "nonsense"`}, ""},
		{"routes --nonsense", 2, []string{"unknown flag", "It is written so: ydrion routes", "`ydrion routes --help`"}, ""},
		{"try a", 2, []string{"It is written so: ydrion try ROUTE FILE..."}, ""},
		{"check /nowhere", 2, []string{"is not a workspace"}, ""},
		{"check " + w, 0, []string{"14 routes, nothing wrong"}, ""},
		{"format --check " + w, 0, []string{}, ""},
		{"format --check " + w + "/maps/weight-to-result.map --json", 0, []string{`"changed": []`}, ""},
		{"format nosuch.map", 3, []string{"no such file"}, ""},
		{"functions", 0, []string{"VALUE | trim", `value | pad 6 "0"`, "gives"}, ""},
		{"overview", 0, []string{"0 pickups, 0 in = 0 good + 0 rejected + 0 filtered", "specimen-orders"}, ""},
		{"completion bash", 0, []string{"ydrion"}, ""},
		{"openapi", 0, []string{`"openapi": "3.1.0"`, "/api/again"}, ""},
	}
	for _, s := range steps {
		code, said := command(b, strings.Fields(s.args)...)
		if code != s.code {
			t.Errorf("ydrion %s: exit code %d, want %d: %s", s.args, code, s.code, said)
		}
		for _, part := range s.says {
			if !strings.Contains(said, part) {
				t.Errorf("ydrion %s does not say %q but\n%s", s.args, part, said)
			}
		}
		if s.never != "" && strings.Contains(said, s.never) {
			t.Errorf("ydrion %s says %q", s.args, s.never)
		}
	}
}

func TestClientOnPickups(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	b.Publish(nil)
	b.Drop("stations/inbox", "brunholm-2026-11-23.csv", testbed.Demo(t, "brunholm-2026-11-23.csv"))
	b.Ended("brunholm-2026-11-23.csv", 0)
	steps := []struct {
		args string
		code int
		says []string
	}{
		{"pickups", 0, []string{"PICKUP", "brunholm-2026-11-23.csv  delivered  15     9         6"}},
		{"pickups --state rejected,held", 0, []string{"no pickups match"}},
		{"pickups --name brunholm* --route specimen-orders --since 1h", 0, []string{"brunholm-2026-11-23.csv"}},
		{"pickups --until 1h", 0, []string{"no pickups match"}},
		{"pickup 1", 0, []string{"run 1 committed: 15 in = 9 good + 6 rejected + 0 filtered", "published 12 outputs", "BR-1101-000001.hl7", "good     … and 4 more", "stations/rejected/brunholm-2026-11-23.rejected-1.findings.txt", "brunholm-2026-11-23.rejected-1.csv", "record 1, line 2: good", "PID-35.2 = Harbour seal", "record 2, line 3: rejected", "write it with a point: 7.5"}},
		{"pickup 1 --rejected --limit 1", 0, []string{"record 2, line 3: rejected"}},
		{"pickup 1 --warned --from 2", 0, []string{"15 in = 9 good + 6 rejected + 0 filtered"}},
		{"rejects 1", 0, []string{"brunholm-2026-11-23.csv:3:51 record 2 weight_kg: error: weight_kg is not a number", "| BR-1102,B-202", `"XRAY" is not listed in lookups/test_names.csv`, "no ringed seal weighs 180.0 kg", "specimen_id \"BR-1101\" was in record 1 already"}},
		{"rejects 1 --limit 2", 0, []string{"more: --after 3"}},
		{"again 1", 0, []string{"would run pickup 1 again: brunholm-2026-11-23.csv", "say --yes"}},
		{"again 1 --yes", 0, []string{"pickup 1 (brunholm-2026-11-23.csv): run 2 has begun"}},
	}
	for _, s := range steps {
		code, said := command(b, strings.Fields(s.args)...)
		if code != s.code {
			t.Errorf("ydrion %s: exit code %d, want %d: %s", s.args, code, s.code, said)
		}
		for _, part := range s.says {
			if !strings.Contains(said, part) {
				t.Errorf("ydrion %s does not say %q but\n%s", s.args, part, said)
			}
		}
	}
	testbed.Until(t, "the second run has ended", func() bool {
		_, said := command(b, "pickup", "1")
		return strings.Contains(said, "run 2 published 12 outputs")
	})
	// Nothing of the first run was touched: the outputs of both are there.
	if got := b.List("laboratory/orders"); len(got) != 18 {
		t.Errorf("%d outputs: %v", len(got), got)
	}
	if got := b.List("stations/rejected"); len(got) != 6 {
		t.Errorf("%d rejected files: %v", len(got), got)
	}
}

// TestEveryListingSpeaksJSON parses what --json prints.
func TestEveryListingSpeaksJSON(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	b.Publish(nil)
	b.Drop("stations/inbox", "a.csv", testbed.Demo(t, "brunholm-2026-11-23.csv"))
	b.Ended("a.csv", 0)
	w := filepath.Join("..", "demo", "workspace")
	sample := filepath.Join("..", "demo", "files", "brunholm-2026-11-23.csv")
	for _, args := range []string{"routes", "route specimen-orders", "pickups", "pickup 1", "rejects 1", "overview", "functions", "check " + w, "publish " + w, "try specimen-orders " + sample + " -w " + w, "start weight-log", "stop weight-log"} {
		_, said := command(b, append(strings.Fields(args), "--json")...)
		var v any
		if err := json.Unmarshal([]byte(said), &v); err != nil {
			t.Errorf("ydrion %s --json: %v in\n%.300s", args, err, said)
		}
	}
}

func TestWithoutAService(t *testing.T) {
	empty := t.TempDir()
	var out, errOut strings.Builder
	if code := cli.Main([]string{"routes", "--data", empty}, &out, &errOut); code != 3 || !strings.Contains(errOut.String(), "no service is running with the data folder") {
		t.Errorf("exit code %d: %s", code, errOut.String())
	}
	errOut.Reset()
	if code := cli.Main([]string{"routes", "--service", "http://127.0.0.1:9", "--token", "x"}, &out, &errOut); code != 3 || !strings.Contains(errOut.String(), "asking the service at http://127.0.0.1:9") {
		t.Errorf("exit code %d: %s", code, errOut.String())
	}
	// A workspace with errors: each with its place, and exit code 1.
	w := t.TempDir()
	if err := os.CopyFS(w, os.DirFS("../demo/workspace")); err != nil {
		t.Fatal(err)
	}
	m := filepath.Join(w, "maps", "specimen-to-order.map")
	c, err := os.ReadFile(m)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(m, []byte(strings.Replace(string(c), "= weight_kg", "= wait_kg", 1)), 0o644); err != nil {
		t.Fatal(err)
	}
	code, said := command(nil, "check", w)
	if code != 1 || !strings.Contains(said, "maps/specimen-to-order.map:25:11: error: there is no field \"wait_kg\"") || !strings.Contains(said, "was weight_kg meant?") || !strings.Contains(said, "14 routes, 1 error, ") {
		t.Errorf("exit code %d:\n%s", code, said)
	}
}

func TestTryWritesWholeFiles(t *testing.T) {
	folder := t.TempDir()
	good, bad := filepath.Join(folder, "good.hl7"), filepath.Join(folder, "bad.csv")
	code, said := command(nil, "try", "specimen-orders", "../demo/files/brunholm-2026-11-23.csv", "-w", "../demo/workspace", "--output", good, "--rejects", bad)
	if code != 1 || !strings.Contains(said, "15 in = 9 good + 6 rejected") {
		t.Errorf("exit code %d: %s", code, said)
	}
	g, err := os.ReadFile(good)
	if err != nil {
		t.Fatal(err)
	}
	r, err := os.ReadFile(bad)
	if err != nil {
		t.Fatal(err)
	}
	if strings.Count(string(g), "MSH|") != 9 || strings.Count(string(r), "BR-") != 6 || !strings.HasPrefix(string(r), "specimen_id,") {
		t.Errorf("%d messages, rejects:\n%s", strings.Count(string(g), "MSH|"), r)
	}
	if code, said := command(nil, "try", "specimen-orders", "/nowhere.csv", "-w", "../demo/workspace"); code != 2 || !strings.Contains(said, "cannot be opened") {
		t.Errorf("exit code %d: %s", code, said)
	}
	if code, said := command(nil, "try", "specimen-order", "x", "-w", "../demo/workspace"); code != 1 || !strings.Contains(said, `was "specimen-orders" meant?`) {
		t.Errorf("exit code %d: %s", code, said)
	}
}

// TestCompletion: what has a name that the service, the workspace or the command knows is
// completed by it.
func TestCompletion(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	b.Publish(inOneFile(t))
	b.Drop("stations/inbox", "evil\x1b[31m.csv", heading+row(1))
	pickup := b.Ended("evil\x1b[31m.csv", 0)
	if code, said := command(b, "legal-hold", "place", "--because", "inquiry 7"); code != 0 {
		t.Fatal(said)
	}
	number := strconv.FormatInt(pickup.ID, 10)
	for _, test := range []struct {
		words []string
		want  string
	}{
		{[]string{"stop", ""}, "animal-list dunmarra-orders feed-answers feed-orders letters mailed-sheets night-logs pictures pool-temperatures reagent-answers reagent-orders specimen-orders weighings weight-log :4"},
		{[]string{"stop", "weight-log", "feed-orders", "spec"}, "animal-list dunmarra-orders feed-answers letters mailed-sheets night-logs pictures pool-temperatures reagent-answers reagent-orders specimen-orders weighings :4"},
		{[]string{"route", "weight-log", ""}, ":4"},
		{[]string{"pickups", "--route", ""}, "animal-list dunmarra-orders feed-answers feed-orders letters mailed-sheets night-logs pictures pool-temperatures reagent-answers reagent-orders specimen-orders weighings weight-log :4"},
		{[]string{"pickups", "--state", "held,uncertain,re"}, "held,uncertain,claimed held,uncertain,taken held,uncertain,committed held,uncertain,delivered held,uncertain,rejected held,uncertain,set aside held,uncertain,withdrawn :4"},
		{[]string{"again", "--state", ""}, "delivered rejected :4"},
		{[]string{"rejects", ""}, number + "\trejected evil [31m.csv :4"},
		{[]string{"decide", ""}, ":4"},
		{[]string{"decide", number, "a"}, "try admit pass withdraw arrived abandoned :4"},
		{[]string{"legal-hold", "lift", ""}, "1\tinquiry 7 :4"},
		{[]string{"convert", "x", "--to", ""}, "csv json hl7 x12 edifact :4"},
		{[]string{"try", "--workspace", "../demo/workspace", ""}, "animal-list dunmarra-orders feed-answers feed-orders letters mailed-sheets night-logs pictures pool-temperatures reagent-answers reagent-orders specimen-orders weighings weight-log :4"},
		{[]string{"serve", "--log-format", ""}, "text json :4"},
	} {
		var out, errOut strings.Builder
		if code := cli.Main(append([]string{"__complete", "--data", b.Data}, test.words...), &out, &errOut); code != 0 {
			t.Errorf("%q: exit code %d: %s", test.words, code, errOut.String())
		}
		if got := strings.ReplaceAll(strings.TrimSpace(out.String()), "\n", " "); got != test.want {
			t.Errorf("%q: %q, not %q", test.words, got, test.want)
		}
	}
	// A shell must not be kept waiting by a service that is not there.
	var out, errOut strings.Builder
	if code := cli.Main([]string{"__complete", "--data", t.TempDir(), "stop", ""}, &out, &errOut); code != 0 || strings.TrimSpace(out.String()) != ":4" {
		t.Errorf("exit code %d: %q", code, out.String())
	}
}

// TestInterrupted: a command that waits for a service that does not answer ends at once, and says why, once.
func TestInterrupted(t *testing.T) {
	t.Parallel()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	c := exec.Command(program(t), "routes", "--service", "http://"+l.Addr().String(), "--token", "t", "--data", t.TempDir())
	var said strings.Builder
	c.Stderr = &said
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	asked, err := l.Accept() // and never answered
	if err != nil {
		t.Fatal(err)
	}
	defer asked.Close()
	if err := c.Process.Signal(os.Interrupt); err != nil {
		t.Fatal(err)
	}
	if c.Wait(); c.ProcessState.ExitCode() != 130 || said.String() != "ydrion: interrupted\n" { //nolint: the exit code is what is judged
		t.Errorf("exit code %d: %q", c.ProcessState.ExitCode(), said.String())
	}
}
