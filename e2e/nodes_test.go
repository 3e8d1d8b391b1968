package e2e

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ydrion/api"
	"ydrion/service"
	"ydrion/testbed"
)

// pouncer takes outputs away at once and counts which specimens came out how
// often.
type pouncer struct {
	t      *testing.T
	folder string
	seen   map[string]int
}

func (p *pouncer) pounce() {
	entries, err := os.ReadDir(p.folder)
	if err != nil {
		return // not there yet
	}
	for _, e := range entries {
		if strings.HasPrefix(e.Name(), ".") {
			continue
		}
		path := filepath.Join(p.folder, e.Name())
		c, err := os.ReadFile(path)
		if err != nil {
			p.t.Fatal(err)
		}
		for _, line := range strings.Split(string(c), "\r") {
			if strings.HasPrefix(line, "ORC|") {
				p.seen[strings.Split(line, "|")[2]]++
			}
		}
		if n := strings.Count(string(c), "\rORC|"); strings.HasPrefix(e.Name(), "pair-") && n != 2 {
			p.t.Errorf("%s has %d orders, and is of two files with one", e.Name(), n)
		}
		if err := os.Remove(path); err != nil {
			p.t.Fatal(err)
		}
	}
}

// once checks that each of so many specimens came out exactly once.
func (p *pouncer) once(total int) {
	p.t.Helper()
	for i := range total {
		if id := fmt.Sprintf("AP-%06d", i); p.seen[id] != 1 {
			p.t.Errorf("%s came out %d times", id, p.seen[id])
		}
	}
}

// program builds the real program.
func program(t *testing.T) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "ydrion")
	if out, err := exec.Command("../scripts/build", path).CombinedOutput(); err != nil {
		t.Fatalf("building: %v\n%s", err, out)
	}
	return path
}

// TestTwoNodes: two services on one database and one data folder share the
// routes; what one does the other shows; when one ends the other takes over.
func TestTwoNodes(t *testing.T) {
	t.Parallel()
	data, database := t.TempDir(), testbed.Database(t)
	named := func(name string) testbed.Option {
		return testbed.With(func(c *service.Config) { c.Name = name })
	}
	one := testbed.Start(t, testbed.In(data, database), named("one"))
	one.Publish(listening(t, ""))
	two := testbed.Start(t, testbed.In(data, database), named("two"))
	ctx := context.Background()
	testbed.Until(t, "each leads a route", func() bool {
		list, err := two.Client.Nodes(ctx)
		return err == nil && len(list) == 2 && list[0].Routes+list[1].Routes == 14 && list[0].Routes > 0 && list[1].Routes > 0 && list[1].Self
	})
	// Either shows what is to be seen.
	for n := range 6 {
		one.Drop("stations/inbox", fmt.Sprintf("a%d.csv", n), sheet(n))
	}
	one.Drop("stations/weights", "weights-2026-11-25.csv", testbed.Demo(t, "weights-2026-11-25.csv"))
	for _, b := range []*testbed.Bed{one, two} {
		testbed.Until(t, "all have ended", func() bool { return strings.Count(states(b), "delivered") == 7 })
	}
	// Either starts, stops and pauses; both say so.
	if _, err := two.Client.SetRunning(ctx, "specimen-orders", false); err != nil {
		t.Fatal(err)
	}
	testbed.Until(t, "the other says so", func() bool {
		r, err := one.Client.Route(ctx, "specimen-orders")
		return err == nil && r.State == "stopped"
	})
	if _, err := one.Client.SetRunning(ctx, "specimen-orders", true); err != nil {
		t.Fatal(err)
	}
	if _, err := two.Client.Pause(ctx, "specimen-orders", time.Time{}); err != nil {
		t.Fatal(err)
	}
	testbed.Until(t, "it is paused", func() bool {
		r, err := one.Client.Route(ctx, "specimen-orders")
		return err == nil && r.State == "paused"
	})
	one.Drop("stations/inbox", "late.csv", sheet(90))
	for _, b := range []*testbed.Bed{one, two} {
		waits(b, "late.csv", "the route is paused")
	}
	if _, err := two.Client.SetRunning(ctx, "specimen-orders", true); err != nil {
		t.Fatal(err)
	}
	testbed.Until(t, "it has ended", func() bool { return strings.Contains(states(one), "late.csv=delivered") })
	// A file taken by name and one by hand reach whoever leads the route.
	for n, b := range []*testbed.Bed{one, two} {
		if _, err := b.Client.Hand(ctx, "specimen-orders", fmt.Sprintf("hand%d.csv", n), strings.NewReader(sheet(50+n))); err != nil {
			t.Fatal(err)
		}
		testbed.Until(t, "it has ended", func() bool { return strings.Contains(states(b), fmt.Sprintf("hand%d.csv=delivered", n)) })
	}
	if err := one.End(); err != nil {
		t.Fatal(err)
	}
	testbed.Until(t, "the other leads all", func() bool {
		list, err := two.Client.Nodes(ctx)
		return err == nil && list[len(list)-1].Routes == 14
	})
	two.Drop("stations/inbox", "after.csv", sheet(99))
	testbed.Until(t, "it has ended", func() bool { return strings.Contains(states(two), "after.csv=delivered") })
}

// TestNodesAreKilled kills one of two services at random moments while files
// keep coming and a reader takes outputs away at once. Every record must come
// out exactly once.
func TestNodesAreKilled(t *testing.T) {
	t.Parallel()
	kills := 6
	if testing.Short() {
		kills = 2
	}
	if soak {
		kills = 50
	}
	path, data, database := program(t), t.TempDir(), testbed.Database(t)
	nodes := []*exec.Cmd{serve(t, path, data, database), nil}
	client := clientOf(t, data)
	changes := inOneFile(t)
	changes["routes/paired-orders.yaml"] = strings.NewReplacer("route: specimen-orders", "route: paired-orders", "{stations}/inbox", "{stations}/pairs", "read:\n", "collect: {by: '{file.stem | before \"_\"}', complete: 2}\nread:\n").Replace(changes["routes/specimen-orders.yaml"])
	beginWith(t, client, changes, "specimen-orders", "paired-orders", "weight-log")
	nodes[1] = serve(t, path, data, database)
	clientOf(t, data)
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 7))
	p := &pouncer{t, filepath.Join(data, "laboratory", "orders"), map[string]int{}}
	total := 0
	for range kills {
		for range 30 {
			drop(t, filepath.Join(data, "stations", "pairs"), fmt.Sprintf("pair-%05d_a.csv", total), heading+row(4*total))
			drop(t, filepath.Join(data, "stations", "inbox"), fmt.Sprintf("sheet-%05d.csv", total), heading+row(4*total+1)+row(4*total+2))
			p.pounce()
			time.Sleep(time.Duration(r.IntN(4000)) * time.Microsecond)
			drop(t, filepath.Join(data, "stations", "pairs"), fmt.Sprintf("pair-%05d_b.csv", total), heading+row(4*total+3))
			total++
		}
		k := r.IntN(2)
		if err := nodes[k].Process.Kill(); err != nil {
			t.Fatal(err)
		}
		nodes[k].Wait() //nolint: it was killed
		p.pounce()
		if r.IntN(3) > 0 { // sometimes the other is alone for a while
			testbed.Until(t, "the other goes on", func() bool { p.pounce(); return len(p.seen) >= 4*total-20 })
		}
		nodes[k] = serve(t, path, data, database)
		client = clientOf(t, data)
	}
	testbed.Until(t, "everything has come out", func() bool { p.pounce(); return len(p.seen) >= 4*total })
	testbed.Until(t, "everything has ended", func() bool {
		page, err := client.Pickups(context.Background(), url.Values{"limit": {"500"}, "state": {"claimed,taken,committed,held"}})
		return err == nil && len(page.Items) == 0
	})
	p.pounce()
	p.once(4 * total)
	t.Logf("%d kills, %d sheets and pairs, %d records, each exactly once", kills, total, len(p.seen))
}

// beginWith publishes the demo's workspace with changes, and starts routes.
func beginWith(t *testing.T, client *api.Client, changes map[string]string, routes ...string) {
	t.Helper()
	w := testbed.Workspace(t)
	for n, c := range changes {
		w.Files[n] = []byte(c)
	}
	if _, err := client.Publish(context.Background(), api.PublishRequest{Files: w.Files}); err != nil {
		t.Fatal(err)
	}
	for _, r := range routes {
		if _, err := client.SetRunning(context.Background(), r, true); err != nil {
			t.Fatal(err)
		}
	}
}

// drop renames a file into a folder.
func drop(t *testing.T, folder, name, content string) {
	t.Helper()
	part := filepath.Join(folder, ".part-"+name)
	if err := os.WriteFile(part, []byte(content), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.Rename(part, filepath.Join(folder, name)); err != nil {
		t.Fatal(err)
	}
}
