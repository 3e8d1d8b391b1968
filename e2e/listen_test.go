package e2e

import (
	"context"
	"errors"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"ydrion/api"
	"ydrion/files"
	"ydrion/service"
	"ydrion/testbed"
	"ydrion/wire"
)

// orders is the demo's route with all records of a pickup in one file and other
// settings in place of some.
func orders(t *testing.T, changes ...string) map[string]string {
	t.Helper()
	files := inOneFile(t)
	r := files["routes/specimen-orders.yaml"]
	for i := 0; i < len(changes); i += 2 {
		if !strings.Contains(r, changes[i]) {
			t.Fatalf("the demo's route does not hold %q any more; this test must follow", changes[i])
		}
		r = strings.Replace(r, changes[i], changes[i+1], 1)
	}
	files["routes/specimen-orders.yaml"] = r
	return files
}

// listening changes settings of the listener.
func listening(t *testing.T, settings string) map[string]string {
	return orders(t, "  names: \"*.csv\"\n", "  names: \"*.csv\"\n  rhythm: 200ms\n"+settings)
}

// sheet is a sheet of one row that no other sheet has.
func sheet(n int) string { return heading + row(n) }

// states gives the pickups, oldest first, as name=state.
func states(b *testbed.Bed) string {
	b.T.Helper()
	page, err := b.Client.Pickups(context.Background(), url.Values{"limit": {"500"}})
	var away *api.Problem
	for deadline := time.Now().Add(time.Minute); errors.As(err, &away) && away.Status == http.StatusServiceUnavailable && time.Now().Before(deadline); {
		time.Sleep(50 * time.Millisecond) // a machine that hardly gets on
		page, err = b.Client.Pickups(context.Background(), url.Values{"limit": {"500"}})
	}
	if err != nil {
		b.T.Fatal(err)
	}
	var out []string
	for _, p := range slices.Backward(page.Items) {
		out = append(out, p.Name+"="+p.State)
	}
	return strings.Join(out, " ")
}

func until(b *testbed.Bed, want string) {
	b.T.Helper()
	deadline := time.Now().Add(time.Minute)
	for {
		got := states(b)
		if got == want {
			return
		}
		if time.Now().After(deadline) {
			b.T.Fatalf("the pickups are %s, not %s", got, want)
		}
		time.Sleep(5 * time.Millisecond)
	}
}

// waits waits until a file waits for a reason.
func waits(b *testbed.Bed, name, reason string) {
	b.T.Helper()
	var last any
	testbed.Until(b.T, name+" waits: "+reason, func() bool {
		s, err := b.Client.Route(context.Background(), "specimen-orders")
		if err != nil {
			b.T.Fatal(err)
		}
		if last = s.WaitingFiles; b.T.Failed() {
			b.T.Log(last)
		}
		for _, w := range s.WaitingFiles {
			if w.Name == name && strings.Contains(w.Reason, reason) {
				return true
			}
		}
		return false
	})
}

func newest(b *testbed.Bed) wire.Pickup {
	b.T.Helper()
	page, err := b.Client.Pickups(context.Background(), url.Values{"limit": {"1"}})
	if err != nil || len(page.Items) == 0 {
		b.T.Fatal("no pickups", err)
	}
	return page.Items[0]
}

func TestMarkerAndLastLine(t *testing.T) {
	b := testbed.Start(t)
	b.Publish(listening(t, "  marker: \"{file.stem}.ok\"\n"))
	b.Drop("stations/inbox", "a.csv", sheet(1))
	waits(b, "a.csv", "its marker a.ok is not there")
	b.Drop("stations/inbox", "a.ok", "")
	until(b, "a.csv=delivered")
	testbed.Until(t, "the marker is gone too", func() bool { return len(b.List("stations/inbox")) == 0 })
	// The same name once more needs a marker of its own.
	b.Drop("stations/inbox", "a.csv", sheet(2))
	waits(b, "a.csv", "its marker a.ok is not there")
	if _, err := b.Client.Take(context.Background(), "specimen-orders", "a.csv"); err != nil {
		t.Fatal(err)
	}
	until(b, "a.csv=delivered a.csv=delivered")

	b.Publish(listening(t, "  last line: \"^AP-000009,\"\n"))
	b.Drop("stations/inbox", "b.csv", sheet(8))
	waits(b, "b.csv", "its last line does not match")
	if err := os.WriteFile(b.Path("stations/inbox/b.csv"), []byte(heading+row(8)+row(9)), 0o644); err != nil {
		t.Fatal(err)
	}
	until(b, "a.csv=delivered a.csv=delivered b.csv=delivered")
	if p := newest(b); p.In != 2 {
		t.Errorf("%+v", p)
	}
}

// TestOriginalsThatStay: known by their content from then on, also after a
// restart; a changed content is a new pickup, and so is a file that disappears.
func TestOriginalsThatStay(t *testing.T) {
	t.Parallel()
	data, database := t.TempDir(), testbed.Database(t)
	b := testbed.Start(t, testbed.In(data, database))
	changes := listening(t, "  originals: left\n  files that disappear: true\n")
	changes["maps/specimen-to-order.map"] = strings.Replace(string(testbed.Workspace(t).Files["maps/specimen-to-order.map"]), "NTE-3 = note", "NTE-3 = \"{note} {file.event}\"", 1)
	if !strings.Contains(changes["maps/specimen-to-order.map"], "file.event") {
		t.Fatal("the demo's map has changed; this test must follow")
	}
	b.Publish(changes)
	b.Drop("stations/inbox", "a.csv", sheet(1))
	b.Drop("stations/inbox", "b.csv", sheet(2))
	testbed.Until(t, "both have ended", func() bool { return strings.Count(states(b), "delivered") == 2 })
	if got := b.List("stations/inbox"); len(got) != 2 {
		t.Errorf("left: %v", got)
	}
	if err := b.End(); err != nil {
		t.Fatal(err)
	}
	b = testbed.Start(t, testbed.In(data, database))
	// A touch changes nothing; another content does.
	now := time.Now()
	if err := os.Chtimes(b.Path("stations/inbox/b.csv"), now, now); err != nil {
		t.Fatal(err)
	}
	testbed.Until(t, "the touched one was looked at", func() bool { return strings.Contains(states(b), "withdrawn") })
	if p := newest(b); p.Name != "b.csv" || p.Reason != "its content is the same as before" {
		t.Errorf("%+v", p)
	}
	b.Drop("stations/inbox", "a.csv", sheet(3))
	testbed.Until(t, "the changed one has ended", func() bool { return strings.Count(states(b), "a.csv=delivered") == 2 })
	if p := newest(b); p.Event != "changed" {
		t.Errorf("%+v", p)
	}
	if err := os.Remove(b.Path("stations/inbox/a.csv")); err != nil {
		t.Fatal(err)
	}
	testbed.Until(t, "the one that is gone has ended", func() bool { return strings.Count(states(b), "a.csv=delivered") == 3 })
	p := newest(b)
	if p.Event != "gone" || p.In != 1 {
		t.Errorf("%+v", p)
	}
	detail, err := b.Client.Pickup(context.Background(), p.ID)
	if err != nil {
		t.Fatal(err)
	}
	if made := b.Read("laboratory/orders", detail.Runs[0].Deliveries[0].Name); !strings.Contains(made, "calm gone") || !strings.Contains(made, "AP-000003") {
		t.Errorf("made of what is gone: %q", made)
	}
	// It is gone once, also after a restart, and its name may come back.
	if err := b.End(); err != nil {
		t.Fatal(err)
	}
	b = testbed.Start(t, testbed.In(data, database))
	time.Sleep(time.Second) // several looks
	b.Drop("stations/inbox", "a.csv", sheet(3))
	testbed.Until(t, "it has come back", func() bool { return strings.Count(states(b), "a.csv=delivered") == 4 })
	if p := newest(b); p.Event != "arrived" {
		t.Errorf("%+v", p)
	}
}

func TestOriginalsThatAreNotKept(t *testing.T) {
	b := testbed.Start(t)
	b.Publish(listening(t, "  originals: removed\n"))
	b.Drop("stations/inbox", "a.csv", sheet(1))
	until(b, "a.csv=delivered")
	p := newest(b)
	testbed.Until(t, "the original is gone", func() bool {
		_, err := os.Stat(b.Path("archive", p.SHA256[:2], p.SHA256))
		return os.IsNotExist(err)
	})
	code, said := command(b, "again", "1", "--yes")
	if code != 1 || !strings.Contains(said, "its original is no longer kept") {
		t.Errorf("exit code %d: %s", code, said)
	}
}

func TestDuplicates(t *testing.T) {
	b := testbed.Start(t)
	b.Publish(orders(t, "read:\n", "duplicates:\n  content: reject\n  key: '{station} {collected_at | format \"yyyy-MM-dd HH:mm\"}'\n  same key: hold\n\nread:\n"))
	b.Drop("stations/inbox", "a.csv", sheet(1))
	until(b, "a.csv=delivered")
	b.Drop("stations/inbox", "b.csv", sheet(1)) // the same content (and key)
	until(b, "a.csv=delivered b.csv=rejected")
	if p := newest(b); !strings.Contains(p.Reason, "the same content came before, as a.csv in pickup 1") || p.Key != "Ansel Point 2026-11-24 06:30" {
		t.Errorf("%+v", p)
	}
	b.Drop("stations/inbox", "c.csv", sheet(2)) // another content, the same key
	b.Drop("stations/inbox", "d.csv", strings.Replace(sheet(3), "06:30", "07:30", 1))
	until(b, "a.csv=delivered b.csv=rejected c.csv=held d.csv=delivered")
	code, said := command(b, "pickup", "3")
	if code != 0 || !strings.Contains(said, "came before, as a.csv in pickup 1") {
		t.Errorf("exit code %d: %s", code, said)
	}
	testbed.Until(t, "there is an alert", func() bool {
		_, said := command(b, "alerts")
		return strings.Contains(said, "duplicate") && strings.Contains(said, "c.csv (pickup 3) waits for a person")
	})
	if code, said := command(b, "decide", "3", "admit"); code != 0 {
		t.Errorf("exit code %d: %s", code, said)
	}
	until(b, "a.csv=delivered b.csv=rejected c.csv=delivered d.csv=delivered")
	// Two at once: the second is held too.
	b.Drop("stations/inbox", "e.csv", strings.Replace(sheet(5), "06:30", "08:30", 1))
	b.Drop("stations/inbox", "f.csv", strings.Replace(sheet(6), "06:30", "08:30", 1))
	testbed.Until(t, "one of them is held", func() bool {
		s := states(b)
		return strings.Contains(s, "e.csv=delivered") && strings.Contains(s, "f.csv=held")
	})
	if code, said := command(b, "decide", "6", "withdraw"); code != 0 {
		t.Errorf("exit code %d: %s", code, said)
	}
	testbed.Until(t, "it is withdrawn", func() bool { return strings.Contains(states(b), "f.csv=withdrawn") })
	// It does not come back: it is in the archive, and not held any more.
	testbed.Until(t, "it is not held any more", func() bool {
		hidden, err := os.ReadDir(b.Path("stations/inbox", files.Hidden))
		return err == nil && len(hidden) == 0
	})
	sum := newest(b).SHA256
	if _, err := os.Stat(b.Path("archive", sum[:2], sum)); err != nil || len(b.List("stations/inbox")) != 0 {
		t.Errorf("the archive: %v; the inbox holds %v", err, b.List("stations/inbox"))
	}
}

// TestWhenFilesAreTaken: paused, asked for, by the timetable.
func TestWhenFilesAreTaken(t *testing.T) {
	t.Parallel()
	// Half past six is in five seconds.
	var real atomic.Pointer[time.Time]
	again := func() {
		now := time.Now()
		real.Store(&now)
	}
	again()
	due := time.Date(2026, 11, 25, 6, 30, 0, 0, time.UTC)
	clock := func() time.Time { return due.Add(time.Since(*real.Load()) - 5*time.Second) }
	b := testbed.Start(t, testbed.With(func(c *service.Config) { c.Clock = clock }))
	b.Publish(listening(t, ""))
	if code, said := command(b, "pause", "specimen-orders", "--for", "1h"); code != 0 || !strings.Contains(said, "specimen-orders: paused until") {
		t.Errorf("exit code %d: %s", code, said)
	}
	b.Drop("stations/inbox", "a.csv", sheet(1))
	waits(b, "a.csv", "the route is paused until")
	if code, said := command(b, "start", "specimen-orders"); code != 0 || !strings.Contains(said, "running") {
		t.Errorf("exit code %d: %s", code, said)
	}
	until(b, "a.csv=delivered")

	b.Publish(listening(t, "  notice: asked\n"))
	b.Drop("stations/inbox", "b.csv", sheet(2))
	waits(b, "b.csv", "it is taken when somebody asks")
	if code, said := command(b, "take", "specimen-orders"); code != 0 || !strings.Contains(said, "takes what is there now") {
		t.Errorf("exit code %d: %s", code, said)
	}
	until(b, "a.csv=delivered b.csv=delivered")
	b.Drop("stations/inbox", "c.csv", sheet(3))
	waits(b, "c.csv", "it is taken when somebody asks")
	b.Drop("stations/inbox", "d.csv", sheet(4))
	if code, said := command(b, "take", "specimen-orders", "d.csv"); code != 0 {
		t.Errorf("exit code %d: %s", code, said)
	}
	until(b, "a.csv=delivered b.csv=delivered d.csv=delivered")
	if code, said := command(b, "take", "specimen-orders", "none.csv"); code == 0 || !strings.Contains(said, "there is no such file in the route's inbox") {
		t.Errorf("exit code %d: %s", code, said)
	}

	again()
	b.Publish(listening(t, "  timetable:\n    at: \"06:30\"\n    days: mon-fri\n    zone: UTC\n"))
	waits(b, "c.csv", "it is taken at 06:30 UTC on Wednesday, 25 November (timetable)")
	until(b, "a.csv=delivered b.csv=delivered d.csv=delivered c.csv=delivered")
	if now := clock(); now.Before(due) {
		t.Errorf("taken at %v, before %v", now, due)
	}
	b.Drop("stations/inbox", "e.csv", sheet(5))
	waits(b, "e.csv", "it is taken at 06:30 UTC on Thursday, 26 November (timetable)")
}

// TestHanding gives files to a route by hand.
func TestHanding(t *testing.T) {
	b := testbed.Start(t)
	b.Publish(listening(t, ""))
	file := t.TempDir() + "/by-hand.csv"
	if err := os.WriteFile(file, []byte(heading+row(1)+strings.Replace(row(2), "36.5", "n/a", 1)), 0o644); err != nil {
		t.Fatal(err)
	}
	code, said := command(b, "hand", "specimen-orders", file, "--trial")
	if code != 1 || !strings.Contains(said, "2 in = 1 good + 1 rejected + 0 filtered") || states(b) != "" || len(b.List("laboratory/orders")) != 0 {
		t.Errorf("exit code %d: %s; %s", code, said, states(b))
	}
	if code, said := command(b, "hand", "specimen-orders", file); code != 0 || !strings.Contains(said, "is pickup 1") {
		t.Errorf("exit code %d: %s", code, said)
	}
	until(b, "by-hand.csv=delivered")
	if p := newest(b); p.Origin != "handed" || p.Good != 1 || p.Rejected != 1 {
		t.Errorf("%+v", p)
	}
	if _, err := os.Stat(file); err != nil {
		t.Errorf("the file itself was taken: %v", err)
	}
	// A route that is stopped takes it too; and an original of the archive.
	if code, said := command(b, "stop", "specimen-orders"); code != 0 {
		t.Errorf("exit code %d: %s", code, said)
	}
	if code, said := command(b, "hand", "specimen-orders", "--pickup", "1"); code != 0 || !strings.Contains(said, "the original of pickup 1 is pickup 2") {
		t.Errorf("exit code %d: %s", code, said)
	}
	until(b, "by-hand.csv=delivered by-hand.csv=delivered")
	for args, says := range map[string]string{
		"hand specimen-orders /nowhere/x.csv":  "no such file",
		"hand nothing " + file:                 "there is nothing at",
		"hand specimen-orders --pickup 99":     "there is no pickup 99",
		"hand specimen-orders":                 "name a file",
		"hand specimen-orders x.csv --limit z": "invalid argument",
	} {
		if code, said := command(b, strings.Fields(args)...); code == 0 || !strings.Contains(said, says) {
			t.Errorf("%s: exit code %d: %s", args, code, said)
		}
	}
}
