package e2e

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"ydrion/api"
	"ydrion/files"
	"ydrion/managed"
	"ydrion/service"
	"ydrion/testbed"
)

// ask sends a request and gives status, content type and at most 1 MB of the body.
func ask(t *testing.T, b *testbed.Bed, method, path, token, body string) (int, string, string) {
	t.Helper()
	r, err := http.NewRequest(method, b.URL+path, strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	if token != "" {
		r.Header.Set("Authorization", "Bearer "+token)
	}
	r.Header.Set("Content-Type", "application/json")
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(io.LimitReader(answer.Body, 1<<20))
	if err != nil {
		t.Fatal(err)
	}
	return answer.StatusCode, answer.Header.Get("Content-Type"), string(text)
}

// get asks for a path.
func get(t *testing.T, b *testbed.Bed, path, token string) (int, string, string) {
	t.Helper()
	return ask(t, b, http.MethodGet, path, token, "")
}

// send posts a body and gives status and answer.
func send(t *testing.T, b *testbed.Bed, path, body string) (int, string) {
	t.Helper()
	status, _, text := ask(t, b, http.MethodPost, path, b.Token, body)
	return status, text
}

func TestHTTP(t *testing.T) {
	b := testbed.Start(t)
	tests := []struct {
		path, token string
		status      int
		kind, says  string
	}{
		{"/api/routes", "", 401, "application/problem+json", "a valid token is needed"},
		{"/api/routes", "wrong", 401, "application/problem+json", "a valid token is needed"},
		{"/metrics", "", 401, "application/problem+json", "token"},
		{"/api/routes", b.Token, 200, "application/json", `"items":[]`},
		{"/api/routes/none", b.Token, 404, "application/problem+json", `there is no route \"none\"`},
		{"/api/pickups/0", b.Token, 404, "application/problem+json", "there is no pickup 0"},
		{"/api/pickups/x", b.Token, 422, "application/problem+json", "invalid integer"},
		{"/api/pickups?limit=0", b.Token, 422, "application/problem+json", "expected number >= 1"},
		{"/api/alerts?before=9223372036854775807", b.Token, 200, "application/json", `"items":[]`},
		{"/api/lookups/none/content?version=9223372036854775807", b.Token, 404, "application/problem+json", "there is no such record"},
		{"/api/pickups?name=a%00b", b.Token, 422, "application/problem+json", "a NUL character"},
		{"/api/pickups?name=%ff", b.Token, 422, "application/problem+json", "not UTF-8"},
		{"/api/routes/a%00b", b.Token, 422, "application/problem+json", "a NUL character"},
		{"/api/pickups?stat=held", b.Token, 422, "application/problem+json", `there is no parameter \"stat\"; there are`},
		{"/api/routes?x=1", b.Token, 422, "application/problem+json", `there is no parameter`},
		{"/api/pickups?limit=1&limit=2", b.Token, 422, "application/problem+json", "stands there 2 times"},
		{"/api/pickups/7/original", b.Token, 404, "application/problem+json", "nothing at"},
		{"/api/nothing", b.Token, 404, "application/problem+json", "there is nothing at /api/nothing"},
		{"/assets/nothing.js", "", 404, "application/problem+json", "there is nothing at"},
		{"/healthz", "", 200, "application/json", "alive"},
		{"/readyz", "", 200, "application/json", "ready"},
		{"/metrics", b.Token, 200, "text/plain", "ydrion_routes_running 0"},
		{"/api/openapi.json", "", 200, "application/", `"openapi":"3.1.0"`},
		{"/pickups/12", "", 200, "text/html", "<title>Ydrion</title>"},
	}
	for _, test := range tests {
		status, kind, text := get(t, b, test.path, test.token)
		if status != test.status || !strings.HasPrefix(kind, test.kind) || !strings.Contains(text, test.says) {
			t.Errorf("%s: %d %s %.300s", test.path, status, kind, text)
		}
		if test.kind == "application/problem+json" {
			var p api.Problem
			if err := json.Unmarshal([]byte(text), &p); err != nil || p.Status != test.status || p.Title == "" {
				t.Errorf("%s: no problem document: %s", test.path, text)
			}
		}
	}
	// HEAD says what GET would, without the body.
	for path, want := range map[string]int{"/api/routes": 200, "/api/routes/none": 404, "/healthz": 200, "/api/openapi.json": 200, "/api/events": 405} {
		status, kind, body := ask(t, b, http.MethodHead, path, b.Token, "")
		if _, asGet, _ := get(t, b, "/healthz", ""); status != want || body != "" || path == "/healthz" && kind != asGet {
			t.Errorf("HEAD %s: %d %s %q", path, status, kind, body)
		}
	}
	// An address that encodes more than it must is the same address.
	b.Publish(inOneFile(t))
	for path, want := range map[string]string{"/api/routes/weight%2Dlog": `"name":"weight-log"`, "/api/routes/a%2Fb": `no route \"a/b\"`, "/api/routes/%2525": `no route \"%25\"`} {
		if _, _, text := get(t, b, path, b.Token); !strings.Contains(text, want) {
			t.Errorf("%s: %.300s", path, text)
		}
	}
	unchanged(t, b)
	// What is not understood does nothing: neither a pickup instead of a trial, nor all
	// alerts instead of none.
	for _, q := range []string{"trial=yes", "trial=", "tiral=1", "limit=x&trial=1", "limit=5", "trial=1&trial=0", "rejected=maybe&trial=1"} {
		if status, text := send(t, b, "/api/routes/specimen-orders/files?name=a.csv&"+q, sheet(1)); status != 422 {
			t.Errorf("%s: %d %s", q, status, text)
		}
	}
	for _, q := range []string{"trial=1", "trial=True", "trial=true&limit=5&rejected=1"} {
		if status, text := send(t, b, "/api/routes/specimen-orders/files?name=a.csv&"+q, sheet(1)); status != 200 || !strings.Contains(text, `"records"`) {
			t.Errorf("%s: %d %s", q, status, text)
		}
	}
	if now := states(b); now != "" {
		t.Errorf("there are pickups: %s", now)
	}
	b.Ask(new(int), `with x as (insert into alerts (kind, route, about, message) values ('held', 'specimen-orders', 'x', 'x') returning 1) select 1 from x`)
	for body, want := range map[string]string{`{"alerts":[]}`: `{"alerts":0}`, `{}`: `{"alerts":0}`, `{"alerts":[999]}`: `{"alerts":0}`, `{"all":true,"alerts":[1]}`: "either all"} {
		if _, text := send(t, b, "/api/alerts/seen", body); !strings.Contains(text, want) {
			t.Errorf("%s: %s", body, text)
		}
	}
	if _, text := send(t, b, "/api/alerts/seen", `{"by":"a\u0000b","all":true}`); !strings.Contains(text, "cannot be kept") {
		t.Errorf("%s", text)
	}
	if _, text := send(t, b, "/api/alerts/seen", `{"all":true}`); !strings.Contains(text, `{"alerts":1}`) {
		t.Errorf("%s", text)
	}
	// The document in the repository is the one that is served.
	c, err := os.ReadFile("../docs/openapi.json")
	if err != nil {
		t.Fatal(err)
	}
	d, err := api.Document()
	if err != nil {
		t.Fatal(err)
	}
	if strings.TrimSpace(string(c)) != strings.TrimSpace(string(d)) {
		t.Error("docs/openapi.json is out of date: run `make api`")
	}
}

// unchanged: who names the content that he has is told that it is the same, and gets it when it
// is not.
func unchanged(t *testing.T, b *testbed.Bed) {
	t.Helper()
	ask := func(path, has string) (int, string, string) {
		r, err := http.NewRequest(http.MethodGet, b.URL+path, nil)
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set("Authorization", "Bearer "+b.Token)
		if has != "" {
			r.Header.Set("If-None-Match", has)
		}
		answer, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		defer answer.Body.Close()
		text, err := io.ReadAll(answer.Body)
		if err != nil {
			t.Fatal(err)
		}
		return answer.StatusCode, answer.Header.Get("ETag"), string(text)
	}
	for _, path := range []string{"/api/alerts", "/api/routes/weight-log", "/api/openapi.json", "/"} {
		status, tag, text := ask(path, "")
		if status != 200 || len(tag) < 10 || text == "" {
			t.Fatalf("%s: %d %s", path, status, tag)
		}
		for has, want := range map[string]int{tag: 304, `"x", W/` + tag: 304, "*": 304, `"x"`: 200} {
			if status, again, got := ask(path, has); status != want || again != tag || (got == "") != (want == 304) {
				t.Errorf("%s, having %s: %d %s %.100s", path, has, status, again, got)
			}
		}
	}
	_, tag, _ := ask("/api/routes/weight-log", "")
	if _, err := b.Client.SetRunning(context.Background(), "weight-log", false); err != nil {
		t.Fatal(err)
	}
	if status, again, text := ask("/api/routes/weight-log", tag); status != 200 || again == tag || !strings.Contains(text, "stopped") {
		t.Errorf("after a change: %d %.100s", status, text)
	}
	if status, tag, _ := ask("/api/routes/none", "*"); status != 404 || tag != "" {
		t.Errorf("what is not there: %d %s", status, tag)
	}
}

func TestPagesOfPickups(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	b.Publish(inOneFile(t))
	for i := range 7 {
		name := fmt.Sprintf("sheet-%d.csv", i)
		b.Drop("stations/inbox", name, heading+row(i))
		b.Ended(name, 0)
	}
	var seen []int64
	path := "/api/pickups?limit=3"
	for range 5 {
		status, _, text := get(t, b, path, b.Token)
		var page struct {
			Items []struct{ ID int64 }
			Next  int64
		}
		if err := json.Unmarshal([]byte(text), &page); err != nil || status != 200 {
			t.Fatal(status, text)
		}
		for _, p := range page.Items {
			seen = append(seen, p.ID)
		}
		if page.Next == 0 {
			break
		}
		path = fmt.Sprintf("/api/pickups?limit=3&before=%d", page.Next)
	}
	// A page that is exactly full is the last one if nothing comes behind it.
	if _, _, text := get(t, b, "/api/pickups?limit=7", b.Token); !strings.Contains(text, `"next":0`) && strings.Contains(text, `"next"`) {
		t.Errorf("there is said to be more behind the last: %s", text[max(0, len(text)-200):])
	}
	if fmt.Sprint(seen) != "[7 6 5 4 3 2 1]" {
		t.Errorf("the pages give %v", seen)
	}
}

func TestEvents(t *testing.T) {
	b := testbed.Start(t)
	b.Publish(inOneFile(t))
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, b.URL+"/api/events", nil)
	if err != nil {
		t.Fatal(err)
	}
	r.Header.Set("Authorization", "Bearer "+b.Token)
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	if kind := answer.Header.Get("Content-Type"); kind != "text/event-stream" {
		t.Fatalf("content type %s", kind)
	}
	lines := bufio.NewScanner(answer.Body)
	lines.Scan() // ": watching"
	b.Drop("stations/inbox", "live.csv", heading+row(1)+"short\n")
	var said strings.Builder
	for lines.Scan() {
		said.WriteString(lines.Text() + "\n")
		if strings.Contains(lines.Text(), `"state":"delivered"`) {
			if !strings.Contains(lines.Text(), `"in":2,"good":1,"rejected":1`) || !strings.Contains(said.String(), "event: pickup") || !strings.Contains(said.String(), "id: ") {
				t.Errorf("the events are\n%s", said.String())
			}
			return
		}
	}
	t.Fatalf("no event of the delivery in\n%s", said.String())
}

// TestEventsGoOn: a watcher whose connection was cut names the last event that came, and gets
// what came since; one whom the service does not know is told that there was more.
func TestEventsGoOn(t *testing.T) {
	b := testbed.Start(t)
	b.Publish(inOneFile(t))
	watch := func(last string, until func(id, event, data string) bool) {
		ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
		defer cancel()
		r, err := http.NewRequestWithContext(ctx, http.MethodGet, b.URL+"/api/events", nil)
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set("Authorization", "Bearer "+b.Token)
		if last != "" {
			r.Header.Set("Last-Event-ID", last)
		}
		answer, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		defer answer.Body.Close()
		fields := map[string]string{}
		for lines := bufio.NewScanner(answer.Body); lines.Scan(); {
			if lines.Text() == "" {
				if until(fields["id"], fields["event"], fields["data"]) {
					return
				}
				clear(fields)
			}
			name, value, _ := strings.Cut(lines.Text(), ": ")
			fields[name] = value
		}
		t.Fatalf("the events behind %q ended", last)
	}
	mark, begun := "", false
	watch("", func(id, _, data string) bool {
		if !begun { // it is watched
			begun = true
			b.Drop("stations/inbox", "one.csv", heading+row(1))
		}
		mark = id
		return strings.Contains(data, `"delivered"`)
	})
	for _, name := range []string{"two.csv", "three.csv"} { // while nobody watches
		b.Drop("stations/inbox", name, heading+row(2))
		b.Ended(name, 0)
	}
	var came []string
	watch(mark, func(_, event, data string) bool {
		if event == "missed" || strings.Contains(data, "one.csv") && strings.Contains(data, `"delivered"`) {
			t.Errorf("%s %s", event, data)
		}
		if strings.Contains(data, `"delivered"`) {
			came = append(came, data)
		}
		return len(came) == 2
	})
	if !strings.Contains(came[0], "two.csv") || !strings.Contains(came[1], "three.csv") {
		t.Errorf("%v", came)
	}
	watch("another-12", func(_, event, _ string) bool { return event == "missed" })
}

// TestPublishingACircle refuses routes that would pick up what they deliver,
// also when the other route was published before.
func TestPublishingACircle(t *testing.T) {
	b := testbed.Start(t)
	b.Publish(nil)
	w := testbed.Workspace(t)
	second := strings.NewReplacer("route: weight-log", "route: back", "{stations}/weights", "{laboratory}/orders", "{laboratory}/results", "{stations}/inbox", "weights-[0-9]{4}-[0-9]{2}-[0-9]{2}\\\\.(csv|txt)", ".*", "{file.stem}.hl7", "{file.stem}.csv").Replace(string(w.Files["routes/weight-log.yaml"]))
	w.Files["routes/back.yaml"] = []byte(second)
	answer, err := b.Client.Publish(context.Background(), api.PublishRequest{Files: w.Files, Routes: []string{"back"}})
	if err != nil {
		t.Fatal(err)
	}
	said := fmt.Sprint(answer.Findings)
	if answer.Published || !strings.Contains(said, "would pick up its own output: back delivers to") || !strings.Contains(said, "specimen-orders delivers to") {
		t.Errorf("published %v: %s", answer.Published, said)
	}
	list, err := b.Client.Routes(context.Background())
	if err != nil || len(list) != 14 {
		t.Errorf("%d routes, %v", len(list), err)
	}
}

// TestPublishingEmptyFiles: files of a workspace that are empty keep nothing from being published; what is not base64 is said.
func TestPublishingEmptyFiles(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	b.Publish(map[string]string{"maps/.keep": "", "lookups/none.csv": "", "samples/empty.csv": ""})
	list, err := b.Client.Routes(context.Background())
	if err != nil || len(list) != 14 {
		t.Errorf("%d routes, %v", len(list), err)
	}
	large := testbed.Workspace(t).Files
	for i := range 5 {
		large[fmt.Sprintf("samples/%d.bin", i)] = make([]byte, 11_000_000+i)
	}
	if _, err := b.Client.Publish(context.Background(), api.PublishRequest{Files: large}); err == nil || !strings.Contains(err.Error(), "the workspace has 55 MB, and at most 50 can be published") || !strings.Contains(err.Error(), "the largest files are samples/4.bin (11 MB), samples/3.bin") {
		t.Errorf("%v", err)
	}
	for _, body := range []string{`{"files": {"routes/a.yaml": "%%%"}}`, `{"files": {"routes/a.yaml": 5}}`, `{"files": {"routes/a.yaml": "YQ="}}`} {
		if status, text := send(t, b, "/api/publish", body); status/100 != 4 || !strings.Contains(text, "base64") && !strings.Contains(text, "string") {
			t.Errorf("%s: %d %s", body, status, text)
		}
	}
}

// TestPublishBesideABrokenRoute: a published route that compiles no longer is failing, with
// the reason, and keeps nobody from publishing others.
func TestPublishBesideABrokenRoute(t *testing.T) {
	data, database := t.TempDir(), testbed.Database(t)
	b := testbed.Start(t, testbed.In(data, database))
	b.Publish(nil)
	if err := b.End(); err != nil {
		t.Fatal(err)
	}
	var damaged string
	b.Ask(&damaged, `update revision_files set content = 'map weights' where route = 'weight-log' and name like 'maps/%' returning name`)
	b = testbed.Start(t, testbed.In(data, database))
	changes := inOneFile(t)
	w := testbed.Workspace(t)
	for name, c := range changes {
		w.Files[name] = []byte(c)
	}
	answer, err := b.Client.Publish(context.Background(), api.PublishRequest{Files: w.Files, Routes: []string{"specimen-orders"}})
	if err != nil || !answer.Published {
		t.Fatalf("%+v %v", answer, err)
	}
	b.Drop("stations/inbox", "beside.csv", heading+row(1))
	b.Ended("beside.csv", 0)
	testbed.Until(t, "the broken one says what it has", func() bool {
		list, err := b.Client.Routes(context.Background())
		for _, r := range list {
			if r.Name == "weight-log" && strings.Contains(r.Problem, "no longer compiles") && strings.Contains(r.Problem, damaged) {
				return err == nil
			}
		}
		return false
	})
}

// TestRevisions lets a route go on with a new revision while files come.
func TestRevisions(t *testing.T) {
	b := testbed.Start(t)
	b.Publish(inOneFile(t))
	b.Drop("stations/inbox", "first.csv", heading+row(1))
	first := b.Ended("first.csv", 0)
	changes := inOneFile(t)
	changes["lookups/sex_codes.csv"] = "sheet,hl7\nMale,X\n"
	b.Publish(changes)
	b.Drop("stations/inbox", "second.csv", heading+row(2))
	b.Ended("second.csv", 0)
	if c := b.Read("laboratory/orders/first.hl7"); !strings.Contains(c, "U|||M|") {
		t.Errorf("the first revision made %q", c)
	}
	if c := b.Read("laboratory/orders/second.hl7"); !strings.Contains(c, "U|||X|") {
		t.Errorf("the second revision made %q", c)
	}
	// Run again with the revision of then, and of now.
	for _, test := range []struct{ revision, want string }{{"then", "U|||M|"}, {"now", "U|||X|"}} {
		revision, want := test.revision, test.want
		answers, err := b.Client.Again(context.Background(), service.AgainRequest{Pickups: []int64{first.ID}, Revision: revision})
		if err != nil || len(answers) != 1 || answers[0].Problem != "" {
			t.Fatal(answers, err)
		}
		run := answers[0].Run
		var name string
		testbed.Until(t, "the run has ended", func() bool {
			p, err := b.Client.Pickup(context.Background(), first.ID)
			if err != nil {
				t.Fatal(err)
			}
			if p.EndedAt == nil || p.Run != run {
				return false
			}
			name = p.Runs[0].Deliveries[0].Name
			return true
		})
		if c := b.Read("laboratory/orders", name); !strings.Contains(c, want) {
			t.Errorf("with the revision of %s: %s holds %q", revision, name, c)
		}
		if revision == "then" {
			if _, err := b.Client.Again(context.Background(), service.AgainRequest{Pickups: []int64{999}}); err == nil || !strings.Contains(err.Error(), "there is no pickup 999") {
				t.Errorf("a pickup that is not there was run again: %v", err)
			}
		}
	}
}

// TestListening: what was there before the start, subfolders that appear later,
// names that do not match, the beginning.
func TestListening(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	b.Drop("stations/weights/pool-1/deep", "weights-2026-01-01.csv", testbed.Demo(t, "weights-2026-11-25.csv"))
	b.Drop("stations/weights", "notes.txt", "not for us")
	w := testbed.Workspace(t)
	old := b.Path("stations/inbox/old.csv")
	b.Drop("stations/inbox", "old.csv", heading+row(1))
	long := time.Now().Add(-48 * time.Hour)
	if err := os.Chtimes(old, long, long); err != nil {
		t.Fatal(err)
	}
	since := strings.Replace(string(w.Files["routes/specimen-orders.yaml"]), `names: "*.csv"`, "names: \"*.csv\"\n  rhythm: 200ms\n  since: "+time.Now().Add(-time.Hour).UTC().Format(time.RFC3339), 1)
	b.Publish(map[string]string{"routes/specimen-orders.yaml": since})
	if p := b.Ended("weights-2026-01-01.csv", 0); p.Folder != "pool-1/deep" || p.Good != 2 {
		t.Errorf("%+v", p)
	}
	if err := os.MkdirAll(b.Path("stations/weights/pool-9/new"), 0o755); err != nil {
		t.Fatal(err)
	}
	b.Drop("stations/weights/pool-9/new", "weights-2026-01-02.csv", testbed.Demo(t, "weights-2026-11-24.csv"))
	b.Ended("weights-2026-01-02.csv", 0)
	if got := b.List("stations/weights"); !slices.Contains(got, "notes.txt") {
		t.Errorf("a file with another name was taken: %v", got)
	}
	b.Drop("stations/inbox", "new.csv", heading+row(2))
	b.Ended("new.csv", 0)
	if got := b.List("stations/inbox"); len(got) != 1 || got[0] != "old.csv" {
		t.Errorf("in the inbox: %v", got)
	}
}

// TestLooking: a route without kernel events finds files all the same.
func TestLooking(t *testing.T) {
	b := testbed.Start(t)
	w := testbed.Workspace(t)
	looks := strings.Replace(string(w.Files["routes/specimen-orders.yaml"]), `names: "*.csv"`, "names: \"*.csv\"\n  notice: looks\n  rhythm: 100ms\n  quiet: 300ms", 1)
	b.Publish(map[string]string{"routes/specimen-orders.yaml": looks})
	b.Drop("stations/inbox", "looked.csv", heading+row(1))
	if p := b.Ended("looked.csv", 0); p.Good != 1 {
		t.Errorf("%+v", p)
	}
}

// TestHeldFilesWithoutARecord puts files back that an earlier life of the
// service has taken and that its database does not know.
func TestHeldFilesWithoutARecord(t *testing.T) {
	b := testbed.Start(t)
	b.Drop("stations/inbox/"+files.Hidden, "pickup-"+b.Mark()+"-977-lost.csv", heading+row(1))
	b.Publish(inOneFile(t))
	if p := b.Ended("lost.csv", 0); p.Good != 1 {
		t.Errorf("%+v", p)
	}
}

// TestTwoServicesOnOneFolder: the second is refused.
func TestTwoServicesOnOneFolder(t *testing.T) {
	data, err := managed.TempFolder()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := os.RemoveAll(data); err != nil {
			t.Error(err)
		}
	})
	testbed.Start(t, testbed.Private(data))
	code, said := command(nil, "serve", "--data", data, "--listen", "127.0.0.1:0")
	if code != 3 || !strings.Contains(said, "another service is using the data folder") {
		t.Errorf("exit code %d: %s", code, said)
	}
}
