package e2e

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"net/url"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"ydrion/service"
	"ydrion/testbed"
	"ydrion/wire"
)

// logs is a route that collects the temperature logs of a day.
func logs(collect string) map[string]string {
	return map[string]string{
		"routes/pool-logs.yaml": "route: pool-logs\nlisten: {folder: \"{stations}/logs\", names: \"*.csv\"}\ncollect: " + collect + `
order: {by: name}
read: {format: csv}
check: {schema: schemas/log.json, tolerate: 50%}
map: maps/log.map
deliver: {folder: "{laboratory}/logs", name: "pools-{collect.key}.csv"}
rejected: {folder: "{stations}/rejected"}
`,
		"schemas/log.json": `{"fields": [{"name": "pool"}, {"name": "celsius", "type": "number"}]}`,
		"maps/log.map":     "map log\nsource csv schemas/log.json\ntarget csv based on samples/log.csv\n\npool = pool\ncelsius = celsius\nfrom = file.stem\n",
		"samples/log.csv":  "pool,celsius,from\n",
	}
}

// byName are the pickups that have come, the newest of each name.
func byName(t *testing.T, b *testbed.Bed) map[string]wire.Pickup {
	t.Helper()
	page, err := b.Client.Pickups(context.Background(), url.Values{"limit": {"500"}})
	if err != nil {
		t.Fatal(err)
	}
	out := map[string]wire.Pickup{}
	for _, p := range page.Items {
		if _, has := out[p.Name]; !has {
			out[p.Name] = p
		}
	}
	return out
}

// waiting are the files that have not been taken, and why.
func waiting(t *testing.T, b *testbed.Bed, route string) (out []string) {
	t.Helper()
	sheet, err := b.Client.Route(context.Background(), route)
	if err != nil {
		t.Fatal(err)
	}
	for _, w := range sheet.WaitingFiles {
		out = append(out, w.Name+": "+w.Reason)
	}
	slices.Sort(out)
	return out
}

// TestCollected: the logs of a day go on in one run when all have come, whatever came in between; what is wrong in one is
// rejected from it alone; what became of each is seen from each.
func TestCollected(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	b.Publish(logs(`{by: '{file.stem | before "_"}', complete: ["*_north.csv", "*_south.csv", "*_west.csv"]}`))
	b.Drop("stations/logs", "mon_north.csv", "pool,celsius\nN1,4.5\nN2,cold\nN3,5\n")
	b.Drop("stations/logs", "tue_south.csv", "pool,celsius\nS1,4.5\n")
	b.Drop("stations/logs", "mon_west.csv", "celsius,pool\nwarm,W1\n")
	testbed.Until(t, "the files wait for others", func() bool {
		w := waiting(t, b, "pool-logs")
		return len(w) == 3 && strings.Contains(w[0], "mon_north.csv: it waits for others with mon until 2") && strings.HasSuffix(w[0], ": there is no file *_south.csv yet") && strings.Contains(w[2], "*_north.csv, and none *_west.csv")
	})
	b.Drop("stations/logs", "mon_south.csv", "pool,celsius\nS1,6.25\nS2,7\n")
	b.Ended("mon_south.csv", 0)
	if got := b.Read("laboratory/logs/pools-mon.csv"); got != "pool,celsius,from\nN1,4.5,mon_north\nN3,5,mon_north\nS1,6.25,mon_south\nS2,7,mon_south\n" {
		t.Errorf("%q", got)
	}
	all := byName(t, b)
	for name, want := range map[string]string{"mon_north.csv": "delivered 3 2 1", "mon_south.csv": "delivered 2 2 0", "mon_west.csv": "rejected 1 0 1"} {
		p := all[name]
		if got := fmt.Sprint(p.State, p.In, p.Good, p.Rejected); got != strings.Replace(want, " ", "", 1) && got != want || p.Run != all["mon_north.csv"].Run || p.Files != 3 {
			t.Errorf("%s: %s, want %s: %+v", name, got, want, p)
		}
	}
	// The log of the west has more than half of its rows wrong: it comes back whole, with what is wrong with them.
	run := all["mon_north.csv"].Run
	if got := b.Read(fmt.Sprintf("stations/rejected/mon_west.rejected-%d.csv", run)); got != "celsius,pool\nwarm,W1\n" {
		t.Errorf("%q", got)
	}
	if got := b.Read(fmt.Sprintf("stations/rejected/mon_north.rejected-%d.csv", run)); got != "pool,celsius\nN2,cold\n" {
		t.Errorf("%q", got)
	}
	said := b.Read(fmt.Sprintf("stations/rejected/mon_west.rejected-%d.findings.txt", run))
	for _, part := range []string{"line 2, column 1", "celsius is not a number", "1 of 1 records were rejected"} {
		if !strings.Contains(said, part) {
			t.Errorf("%q is not in %s", part, said)
		}
	}
	var told struct {
		Findings []struct {
			Place struct {
				File string
				Line int
			}
		}
	}
	if err := json.Unmarshal([]byte(b.Read(fmt.Sprintf("stations/rejected/mon_west.rejected-%d.findings.json", run))), &told); err != nil || len(told.Findings) != 2 || told.Findings[0].Place.File != "mon_west.csv" {
		t.Errorf("%+v %v", told, err)
	}
	// Its run is seen from each of the files, with what became of each.
	for _, name := range []string{"mon_north.csv", "mon_south.csv"} {
		p, err := b.Client.Pickup(context.Background(), all[name].ID)
		if err != nil {
			t.Fatal(err)
		}
		var files []string
		for _, f := range p.Runs[0].Files {
			files = append(files, fmt.Sprint(f.Name, " ", f.In, f.Good, f.Rejected, f.Whole))
		}
		if want := []string{"mon_north.csv 3 2 1 false", "mon_south.csv 2 2 0 false", "mon_west.csv 1 0 1 true"}; !slices.Equal(files, want) || p.Runs[0].Key != "mon" || p.Runs[0].In != 6 || p.Runs[0].Good != 4 || p.Runs[0].Rejected != 2 {
			t.Errorf("%v, want %v: %+v", files, want, p.Runs[0])
		}
	}
	rejects, err := b.Client.Rejects(context.Background(), run, url.Values{})
	if err != nil || len(rejects.Items) != 2 || rejects.Items[0].File != 1 || rejects.Items[1].File != 3 || rejects.Items[1].Findings[0].Place.File != "mon_west.csv" {
		t.Errorf("%+v %v", rejects, err)
	}
	trial, err := b.Client.Records(context.Background(), run, url.Values{"limit": {"20"}})
	if err != nil {
		t.Fatal(err)
	}
	var records []string
	for _, r := range trial.Records {
		records = append(records, fmt.Sprint(r.Record, " ", r.File, " ", r.Line, " ", r.Outcome))
	}
	if want := []string{"1 mon_north.csv 2 good", "2 mon_north.csv 3 rejected", "3 mon_north.csv 4 good", "4 mon_south.csv 2 good", "5 mon_south.csv 3 good"}; !slices.Equal(records, want) {
		t.Errorf("%v, want %v", records, want)
	}
	// The client says it in words.
	_, out := command(b, "pickup", fmt.Sprint(all["mon_south.csv"].ID), "--limit", "4")
	for _, part := range []string{"of 3 files with mon:", "mon_north.csv  3 in = 2 good + 1 rejected + 0 filtered", "mon_west.csv   1 in = 0 good + 1 rejected + 0 filtered, rejected whole", "record 4, line 2 of mon_south.csv: good", "3 files: 6 in = 4 good + 2 rejected + 0 filtered"} {
		if !strings.Contains(out, part) {
			t.Errorf("%q is not in\n%s", part, out)
		}
	}
	// Run again, they are run again together.
	answer, err := b.Client.Again(context.Background(), service.AgainRequest{Pickups: []int64{all["mon_south.csv"].ID}})
	if err != nil || answer[0].Problem != "" {
		t.Fatal(answer, err)
	}
	testbed.Until(t, "they have been run again", func() bool {
		p, err := b.Client.Pickup(context.Background(), all["mon_north.csv"].ID)
		return err == nil && len(p.Runs) == 2 && p.Runs[0].State == "published"
	})
	if got, want := b.Read("laboratory/logs/pools-mon-2.csv"), b.Read("laboratory/logs/pools-mon.csv"); got != want {
		t.Errorf("%q, want %q", got, want)
	}
	if w := waiting(t, b, "pool-logs"); len(w) != 1 {
		t.Errorf("%v", w)
	}
	// Somebody does not want to wait any longer.
	if _, err := b.Client.Take(context.Background(), "pool-logs", ""); err != nil {
		t.Fatal(err)
	}
	p, err := b.Client.Pickup(context.Background(), b.Ended("tue_south.csv", 0).ID)
	if err != nil || p.State != "delivered" || p.Runs[0].Findings[0].Code != "collect.incomplete" {
		t.Errorf("%+v %v", p, err)
	}
}

// TestMarkersAndOlder: a marker says that all have come, and is not read; of several only the newest goes on, where the
// route says so; what is set aside says why, and is kept.
func TestMarkersAndOlder(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	b.Publish(logs(`{by: '{file.stem | before "_" if absent file.stem}', marker: "*.done", only: newest}`))
	b.Drop("stations/logs", "mon_1.csv", "pool,celsius\nN1,1\n")
	b.Drop("stations/logs", "mon_2.csv", "pool,celsius\nN1,2\n")
	b.Drop("stations/logs", "mon_10.csv", "pool,celsius\nN1,10\n")
	b.Drop("stations/logs", "mon.done", "3 files\n")
	b.Ended("mon.done", 0)
	if got := b.Read("laboratory/logs/pools-mon.csv"); got != "pool,celsius,from\nN1,10,mon_10\n" {
		t.Errorf("%q", got)
	}
	all := byName(t, b)
	newest := all["mon_10.csv"].ID
	for name, want := range map[string]string{
		"mon_10.csv": "delivered ",
		"mon_1.csv":  fmt.Sprintf("set aside a newer file was taken instead: mon_10.csv, in pickup %d", newest),
		"mon_2.csv":  fmt.Sprintf("set aside a newer file was taken instead: mon_10.csv, in pickup %d", newest),
		"mon.done":   fmt.Sprintf("set aside its coming completed the files that it belongs to; it is not read (pickup %d)", newest),
	} {
		if got := all[name].State + " " + all[name].Reason; got != want {
			t.Errorf("%s: %s, want %s", name, got, want)
		}
	}
	if status, _, original := ask(t, b, "GET", fmt.Sprintf("/api/pickups/%d/original", all["mon_2.csv"].ID), b.Token, ""); status != 200 || original != "pool,celsius\nN1,2\n" {
		t.Errorf("%d %q", status, original)
	}
	if got := b.List("stations/logs"); len(got) != 0 {
		t.Errorf("%v", got)
	}
	page, err := b.Client.Pickups(context.Background(), url.Values{"state": {"set aside"}})
	if err != nil || len(page.Items) != 3 {
		t.Errorf("%+v %v", page, err)
	}
}

// TestManyCollected: two hundred files, sorted into one, are those of one file; a moment of a timetable takes all that
// are there. Others come meanwhile, and wait for the next one.
func TestManyCollected(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	files := logs("{by: night}")
	files["routes/pool-logs.yaml"] = strings.NewReplacer("listen: {", "listen: {notice: asked, ", "read: ", "shape: [{sort: [pool, celsius]}]\nread: ").Replace(files["routes/pool-logs.yaml"])
	b.Publish(files)
	var want [][]string
	for k := range 200 {
		text := "pool,celsius\n"
		for i := range 20 {
			row := []string{fmt.Sprintf("P%d", (k*7+i)%13), fmt.Sprint((i*31+k)%97 - 20)}
			text += strings.Join(row, ",") + "\n"
			want = append(want, append(row, fmt.Sprintf("log-%d", k)))
		}
		b.Drop("stations/logs", fmt.Sprintf("log-%d.csv", k), text)
	}
	slices.SortStableFunc(want, func(a, b []string) int {
		if c := strings.Compare(a[0], b[0]); c != 0 {
			return c
		}
		var x, y int
		fmt.Sscan(a[1], &x) //nolint: they are numbers
		fmt.Sscan(b[1], &y) //nolint: they are numbers
		return x - y
	})
	testbed.Until(t, "all are there", func() bool { return len(waiting(t, b, "pool-logs")) == 200 })
	if _, err := b.Client.Take(context.Background(), "pool-logs", ""); err != nil {
		t.Fatal(err)
	}
	p := b.Ended("log-150.csv", 0)
	if p.Files != 200 || p.In != 20 || p.Good != 20 {
		t.Errorf("%+v", p)
	}
	got, err := csv.NewReader(strings.NewReader(b.Read("laboratory/logs/pools-night.csv"))).ReadAll()
	if err != nil || !slices.EqualFunc(got[1:], want, slices.Equal) {
		t.Errorf("%d rows, want %d (%v): %v", len(got)-1, len(want), err, got[:min(len(got), 4)])
	}
	trial, err := b.Client.Records(context.Background(), p.Run, url.Values{"limit": {"2"}, "from": {"2000"}})
	if err != nil || trial.Records[0].File != want[1999][2]+".csv" {
		t.Errorf("%+v %v, want %v", trial.Records, err, want[1999])
	}
}

// TestSetsOfFiles: a letter and its cover, of two inboxes, go on as they are, together, or not at all.
func TestSetsOfFiles(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	route := `route: letters
listen: {folder: "{stations}/post", subfolders: true, names: "*"}
collect: {by: '{file.stem}', complete: ["covers/*.txt", "letters/*.pdf"], within: 1h, else: reject}
read: {format: file}
deliver:
  name: "{collect.key}/{file.name}"
  to:
    - {folder: "{laboratory}/letters", when: 'file.extension = "pdf"'}
    - {folder: "{laboratory}/letters", name: "{collect.key}/cover.txt", when: otherwise}
rejected: {folder: "{stations}/rejected"}
`
	hasty := strings.NewReplacer("route: letters", "route: hasty", "1h", "300ms", "{stations}/post", "{stations}/hasty").Replace(route)
	sets := `route: sets
listen: {folder: "{stations}/sets"}
collect: {by: '{file.head | capture "(R-[0-9]+)" if absent file.stem}', complete: ["*.dat", "*.ctl"]}
read: {format: file}
deliver: {folder: "{laboratory}/sets", name: "{collect.key}-{file.name}"}
rejected: {folder: "{stations}/rejected"}
`
	b.Publish(map[string]string{"routes/letters.yaml": route, "routes/hasty.yaml": hasty, "routes/sets.yaml": sets})
	b.Drop("stations/post/letters", "SC-7.pdf", "%PDF-1.7\n")
	b.Drop("stations/post/covers", "SC-7.txt", "to Maren\n")
	b.Drop("stations/hasty/letters", "SC-8.pdf", "%PDF-1.7 alone\n")
	if p := b.Ended("SC-7.pdf", 0); p.State != "delivered" || p.Files != 2 {
		t.Errorf("%+v", p)
	}
	if got := fmt.Sprint(b.List("laboratory/letters/SC-7"), b.Read("laboratory/letters/SC-7/cover.txt")); got != "[SC-7.pdf cover.txt]to Maren\n" {
		t.Errorf("%s", got)
	}
	p := b.Ended("SC-8.pdf", 0)
	if p.State != "rejected" || p.Reason != "others that belong to it have not come in time: there is no file covers/*.txt yet" {
		t.Errorf("%+v", p)
	}
	if got := b.Read(fmt.Sprintf("stations/rejected/SC-8.rejected-%d.pdf", p.Run)); got != "%PDF-1.7 alone\n" {
		t.Errorf("%q", got)
	}
	if _, err := os.Stat(b.Path("laboratory/letters/SC-8")); err == nil {
		t.Error("a letter went on without its cover")
	}
	// What they have in common may be in their text.
	for name, text := range map[string]string{"one.dat": "ref R-1\n\x00\x01", "two.ctl": "R-2", "three.ctl": "control of R-1", "four.dat": "none"} {
		b.Drop("stations/sets", name, text)
	}
	if p := b.Ended("one.dat", 0); p.State != "delivered" || p.Files != 2 {
		t.Errorf("%+v", p)
	}
	if got := strings.Join(b.List("laboratory/sets"), " "); got != "R-1-one.dat R-1-three.ctl" {
		t.Errorf("%s", got)
	}
	if w := waiting(t, b, "sets"); len(w) != 2 || !strings.HasPrefix(w[0], "four.dat: it waits for others with four until ") || !strings.HasPrefix(w[1], "two.ctl: it waits for others with R-2 until ") {
		t.Errorf("%v", w)
	}
	// The cover comes late: it does not wait for a letter that is gone.
	b.Drop("stations/hasty/covers", "SC-8.txt", "to Finn\n")
	if p := b.Ended("SC-8.txt", 0); p.State != "rejected" || !strings.HasPrefix(p.Reason, "it came after others that belong to it") {
		t.Errorf("%+v", p)
	}
}

// TestCollectionsChangeNodes: files that wait for others go on waiting when another node leads their route, from when the
// first of them had come.
func TestCollectionsChangeNodes(t *testing.T) {
	t.Parallel()
	data, database := t.TempDir(), testbed.Database(t)
	b := testbed.Start(t, testbed.In(data, database))
	b.Publish(logs(`{by: '{file.stem | before "_"}', complete: 2, within: 1h}`))
	b.Drop("stations/logs", "mon_north.csv", "pool,celsius\nN1,4.5\n")
	until := func(b *testbed.Bed) (w string) {
		testbed.Until(t, "it waits", func() bool {
			list := waiting(t, b, "pool-logs")
			if len(list) == 1 && strings.Contains(list[0], " until ") {
				w = list[0]
			}
			return w != ""
		})
		return w
	}
	first := until(b)
	b.Ask(new(string), "update collections set began_at = began_at - interval '50 minutes' returning key")
	if err := b.End(); err != nil {
		t.Fatal(err)
	}
	c := testbed.Start(t, testbed.In(data, database))
	if second := until(c); second == first {
		t.Errorf("%s, and it had waited for 50 minutes", second)
	}
	c.Drop("stations/logs", "mon_south.csv", "pool,celsius\nS1,5\n")
	if p := c.Ended("mon_south.csv", 0); p.State != "delivered" || p.Files != 2 {
		t.Errorf("%+v", p)
	}
	var left int
	c.Ask(&left, "select count(*) from collections where ended_at is null")
	if left != 0 {
		t.Errorf("%d collections are still open", left)
	}
}

// TestConsoleTogether: the console shows of a file that went on with others which those were, what became of each, and
// from which file each record is; and of files that wait, for what.
func TestConsoleTogether(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t, pictured(t)...)
	b.Publish(nil)
	for _, name := range []string{"night-pool-1.csv", "night-pool-2.csv", "night-pool-3.csv"} {
		b.Drop("stations/night-logs", name, testbed.Demo(t, name))
	}
	b.Drop("stations/post/letters", "SC-0815.pdf", "%PDF-1.4\n")
	testbed.Until(t, "all are there", func() bool { return len(waiting(t, b, "night-logs")) == 3 && len(waiting(t, b, "letters")) == 1 })
	if _, err := b.Client.Take(context.Background(), "night-logs", ""); err != nil {
		t.Fatal(err)
	}
	p := b.Ended("night-pool-2.csv", 0)
	ctx := browser(t)
	do(t, ctx, chromedp.Navigate(fmt.Sprintf("%s/pickups/%d#token=%s", b.URL, p.ID, b.Token)))
	text(t, ctx, ".files", "3 files went on together", "night-pool-1.csv", "3 in = 3 good + 0 rejected + 0 left out", "delivered in part")
	text(t, ctx, ".pair", "line 3 of night-pool-2.csv", "celsius is not a number")
	shot(t, ctx, "console-together")
	do(t, ctx, chromedp.Click(".files a"))
	text(t, ctx, "h1", "night-pool-1.csv")
	do(t, ctx, chromedp.Navigate(b.URL+"/routes/letters#token="+b.Token))
	text(t, ctx, "main", "Files with the same {file.stem} go on together when there is one of each", "it waits for others with SC-0815 until ", ": there is no file covers/*.txt yet")
	shot(t, ctx, "console-waiting")
}

// TestOutputsOfSeveral: outputs of values and numbers of the sequence are those of the run, whatever file a record is of;
// the same once more has the same numbers, though a file of the run was rejected as one piece. Files that are only checked
// go on each as it came, or come back.
func TestOutputsOfSeveral(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	files := logs("{complete: 3}")
	files["routes/pool-logs.yaml"] = strings.NewReplacer(`name: "pools-{collect.key}.csv"`, `name: "{pool}-{file.stem}.csv", one file per: "{pool}"`).Replace(files["routes/pool-logs.yaml"])
	files["maps/log.map"] += "number = sequence\n"
	files["samples/log.csv"] = "pool,celsius,from,number\n"
	files["routes/checked.yaml"] = `route: checked
listen: {folder: "{stations}/checked"}
collect: {complete: 3}
read: {format: csv}
check: {schema: schemas/log.json}
deliver: {folder: "{laboratory}/checked", name: "{collect.files}-{file.name}"}
rejected: {folder: "{stations}/rejected"}
`
	b.Publish(files)
	for _, route := range []string{"logs", "checked"} {
		b.Drop("stations/"+route, route+"-1.csv", "pool,celsius\nA,1\nB,2")
		b.Drop("stations/"+route, route+"-2.csv", "pool,celsius\nA,x\nB,y\nC,z\n")
		b.Drop("stations/"+route, route+"-3.csv", "pool,celsius\r\nB,3\r\nA,4\r\n")
	}
	first := b.Ended("logs-1.csv", 0)
	read := func(names ...string) string {
		var all []string
		for _, name := range names {
			all = append(all, b.Read("laboratory/logs", name))
		}
		return strings.Join(all, "|")
	}
	got := read("A-logs-1.csv", "B-logs-1.csv")
	numbers := map[string]bool{}
	for line := range strings.Lines(got) {
		if n := strings.TrimSpace(line[strings.LastIndex(line, ",")+1:]); !strings.HasPrefix(n, "number") {
			numbers[strings.TrimSuffix(n, "|pool")] = true
		}
	}
	plain := regexp.MustCompile(`,[0-9]+\n`).ReplaceAllString(got, ",#\n")
	if want := "pool,celsius,from,number\nA,1,logs-1,#\nA,4,logs-3,#\n|pool,celsius,from,number\nB,2,logs-1,#\nB,3,logs-3,#\n"; plain != want || len(numbers) != 4 || len(b.List("laboratory/logs")) != 2 {
		t.Errorf("%q, want %q: %v", plain, want, numbers)
	}
	if p := byName(t, b)["logs-2.csv"]; p.State != "rejected" || !p.Whole || p.In != 3 {
		t.Errorf("%+v", p)
	}
	if code, out := command(b, "again", fmt.Sprint(first.ID), "--same", "--yes"); code != 0 {
		t.Fatal(out)
	}
	testbed.Until(t, "it has been run once more", func() bool { return len(b.List("laboratory/logs")) == 4 })
	if again := read("A-logs-1-2.csv", "B-logs-1-2.csv"); again != got {
		t.Errorf("%q, want %q", again, got)
	}
	b.Ended("checked-2.csv", 0)
	if got := strings.Join(b.List("laboratory/checked"), " "); got != "3-checked-1.csv 3-checked-3.csv" || b.Read("laboratory/checked/3-checked-1.csv") != "pool,celsius\nA,1\nB,2" || b.Read("laboratory/checked/3-checked-3.csv") != "pool,celsius\r\nB,3\r\nA,4\r\n" {
		t.Errorf("%s", got)
	}
	p := byName(t, b)["checked-2.csv"]
	if got := b.Read(fmt.Sprintf("stations/rejected/checked-2.rejected-%d.csv", p.Run)); p.State != "rejected" || got != "pool,celsius\nA,x\nB,y\nC,z\n" {
		t.Errorf("%+v %q", p, got)
	}
}

// TestLeftOutAfterMany: a file that is rejected as one piece is left out after hundreds of outputs and rejects were stored of it and the others: what is
// made of the others alone is all that is known of the run.
func TestLeftOutAfterMany(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	b.Publish(map[string]string{
		"routes/logs.yaml": "route: logs\nlisten: {folder: \"{stations}/logs\", names: \"*.csv\"}\ncollect: {by: '{file.stem | before \"_\"}', complete: 2, within: 1h}\norder: {by: name}\nread: {format: csv, footer: 1, total: \"^Rows: ([0-9]+)\"}\ncheck: {schema: schemas/l.json}\nmap: maps/l.map\ndeliver: {folder: \"{laboratory}/logs\", name: \"{tag}.csv\", one file per: record}\nrejected: {folder: \"{stations}/rejected\"}\n",
		"schemas/l.json":   `{"fields": [{"name": "tag"}, {"name": "kg", "type": "number"}]}`,
		"maps/l.map":       "map l\nsource csv schemas/l.json\ntarget csv based on samples/l.csv\n\ntag = tag\nkg = kg\n",
		"samples/l.csv":    "tag,kg\n",
	})
	n := 0
	for _, wrong := range []int{0, 100, 700} { // of 1,300 records
		for _, names := range [][2]string{{"a", "b"}, {"b", "a"}} { // that which is left out comes first, or last
			n++
			many, few := fmt.Sprintf("%d_%s.csv", n, names[0]), fmt.Sprintf("%d_%s.csv", n, names[1])
			text := "tag,kg\n"
			for i := range 1300 {
				text += fmt.Sprintf("A-%d-%d,%s\n", n, i, map[bool]string{true: "x", false: "7"}[i < wrong])
			}
			b.Drop("stations/logs", many, text+"Rows: 9\n")
			b.Drop("stations/logs", few, fmt.Sprintf("tag,kg\nB-%d-1,1\nB-%[1]d-2,2\nB-%[1]d-3,x\nRows: 3\n", n))
			whole, good := b.Ended(many, 0), b.Ended(few, 0)
			if !whole.Whole || whole.Rejected != 1300 || good.Whole || good.Good != 2 || good.Rejected != 1 || good.State != "delivered" {
				t.Errorf("%d wrong: %+v %+v", wrong, whole, good)
			}
			var outputs, rejects int
			b.Ask(&outputs, `select count(*) from deliveries where run = $1 and kind = 'good'`, good.Run)
			b.Ask(&rejects, `select count(*) from rejects where run = $1`, good.Run)
			if outputs != 2 || rejects != wrong+1 {
				t.Errorf("%d wrong: %d outputs and %d rejects are known", wrong, outputs, rejects)
			}
			if got := b.List("laboratory/logs"); len(got) != 2*n {
				t.Errorf("%d wrong: %s came", wrong, got)
			}
		}
	}
}

// TestFindInWhatWasRejectedTogether: files that are rejected as one piece, all of a run or some, have no numbers of the route's sequence; their records
// are shown and found all the same, and those of others.
func TestFindInWhatWasRejectedTogether(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	b.Publish(map[string]string{
		"routes/logs.yaml": "route: logs\nlisten: {folder: \"{stations}/logs\", names: \"*.csv\"}\ncollect: {by: '{file.stem | before \"_\"}', complete: 2, within: 1h}\norder: {by: name}\nread: {format: csv}\ncheck: {schema: schemas/l.json, tolerate: 40%}\nmap: maps/l.map\ndeliver: {folder: \"{laboratory}/logs\", name: \"{tag}-{sequence}.csv\", one file per: record}\nrejected: {folder: \"{stations}/rejected\"}\n",
		"schemas/l.json":   `{"fields": [{"name": "tag"}, {"name": "kg", "type": "number"}]}`,
		"maps/l.map":       "map l\nsource csv schemas/l.json\ntarget csv based on samples/l.csv\n\ntag = tag\nkg = sequence\nignore kg\n",
		"samples/l.csv":    "tag,kg\n",
	})
	var long strings.Builder // several portions of numbers
	for i := range 20_000 {
		fmt.Fprintf(&long, "L-%d,%s\n", i, map[bool]string{true: "x", false: "7"}[i%2 == 0])
	}
	for name, content := range map[string]string{
		"1_a.csv": "A-1,1\nA-2,x\n", "1_b.csv": "B-1,x\n", // all
		"2_a.csv": long.String(), "2_b.csv": "C-1,1\nC-2,2\n", // the first
	} {
		b.Drop("stations/logs", name, "tag,kg\n"+content)
	}
	for name, whole := range map[string]bool{"1_a.csv": true, "1_b.csv": true, "2_a.csv": true, "2_b.csv": false} {
		p := b.Ended(name, 0)
		if p.Whole != whole {
			t.Errorf("%+v", p)
		}
		if trial, err := b.Client.Records(context.Background(), p.Run, nil); err != nil || len(trial.Records) == 0 {
			t.Errorf("%s: %+v %v", name, trial, err)
		}
	}
	for text, want := range map[string]string{"A-1": "1_a.csv rejected", "B-1": "1_b.csv rejected", "L-19999": "2_a.csv rejected", "C-2": "2_b.csv good"} {
		answer, err := b.Client.Find(context.Background(), url.Values{"text": {text + ","}})
		if err != nil || len(answer.Items) != 1 || answer.Items[0].Name+" "+answer.Items[0].Outcome != want {
			t.Errorf("%s: %+v %v", text, answer, err)
			continue
		}
		for _, file := range answer.Items[0].WentInto {
			if !strings.HasPrefix(b.Read(below(b, []string{file}, "")), "tag,kg\n"+text+",") {
				t.Errorf("%s is not in %s", text, file)
			}
		}
	}
}
