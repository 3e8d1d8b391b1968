package e2e

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"ydrion/api"
	"ydrion/files"
	"ydrion/service"
	"ydrion/testbed"
)

// inLanes is the demo's workspace with orders in one file each, in two lanes that hold.
func inLanes(t *testing.T) map[string]string {
	return orders(t, "read:\n", "order:\n  lane: \"{file.stem | before \\\"-\\\"}\"\n  failure: holds\n\nread:\n")
}

// TestOrderHolds lets everything go wrong that can while files come in two lanes: the
// target refuses for a while, connections to the database are cut at any exchange, the
// route is published anew, stopped and started, the service ends and another one goes
// on. Files keep the times of change that they had elsewhere, as senders' files do.
// Each lane comes out in the order in which its files came, each file once, and at the
// end nothing waits.
func TestOrderHolds(t *testing.T) {
	t.Parallel()
	rounds := 2
	if testing.Short() {
		rounds = 1
	}
	if soak {
		rounds = 40
	}
	seed := uint64(time.Now().UnixNano())
	for round := range rounds {
		t.Run(fmt.Sprintf("seed %d round %d", seed, round), func(t *testing.T) { chaos(t, rand.New(rand.NewPCG(seed, uint64(round)))) })
	}
}

func chaos(t *testing.T, r *rand.Rand) {
	data, database := t.TempDir(), testbed.Database(t)
	proxy := testbed.NewProxy(t, database)
	var refuses atomic.Bool
	fsys := &files.Faulty{FS: files.Real{}, Fail: func(_ int64, operation, name string) error {
		if refuses.Load() && (operation == "move" || operation == "create") && strings.Contains(name, "laboratory") {
			return syscall.EIO
		}
		return nil
	}}
	start := func() *testbed.Bed {
		return testbed.Start(t, testbed.In(data, proxy.URL), testbed.On(fsys), testbed.With(func(c *service.Config) { c.Lease = shortLease }))
	}
	b := start()
	watched := watchOrder(t, filepath.Join(data, "laboratory/orders"))
	changes := inLanes(t)
	b.Publish(changes)
	lanes := []string{"ansel", "brun"}
	came := map[string][]string{}
	total := 0
	inbox := b.Path("stations/inbox")
	bring := func() {
		lane := lanes[r.IntN(2)]
		name := fmt.Sprintf("%s-%03d.csv", lane, total)
		part := filepath.Join(inbox, ".part")
		if err := os.WriteFile(part, []byte(sheet(total)), 0o644); err != nil {
			t.Fatal(err)
		}
		old := time.Now().Add(-time.Duration(r.IntN(100_000)) * time.Second)
		if err := os.Chtimes(part, old, old); err != nil {
			t.Fatal(err)
		}
		if err := os.Rename(part, filepath.Join(inbox, name)); err != nil {
			t.Fatal(err)
		}
		time.Sleep(5 * time.Millisecond) // the kernel tells times of arrival apart by some four
		came[lane] = append(came[lane], strings.TrimSuffix(name, ".csv"))
		total++
	}
	said := []string{}
	for range 12 {
		for range r.IntN(12) {
			bring()
			if r.IntN(3) == 0 {
				time.Sleep(time.Duration(r.IntN(8)) * time.Millisecond)
			}
		}
		what := r.IntN(7)
		said = append(said, fmt.Sprint(what))
		switch what {
		case 0:
			refuses.Store(true)
		case 1:
			refuses.Store(false)
		case 2:
			proxy.CutAt(1+r.IntN(6), r.IntN(2) == 0)
		case 3: // another revision, which does the same
			changes["routes/specimen-orders.yaml"] += fmt.Sprintf("# %d\n", r.IntN(1000))
			w := testbed.Workspace(t)
			for n, c := range changes {
				w.Files[n] = []byte(c)
			}
			b.Client.Publish(context.Background(), api.PublishRequest{Files: w.Files, Routes: []string{"specimen-orders"}}) //nolint: the database may be away
		case 4:
			b.Client.SetRunning(context.Background(), "specimen-orders", false) //nolint: as above
			bring()
			testbed.Until(t, "it runs again", func() bool {
				sheet, err := b.Client.SetRunning(context.Background(), "specimen-orders", true)
				return err == nil && sheet.State == "running"
			})
		case 5:
			if err := b.End(); err != nil {
				t.Log(err)
			}
			bring()
			bring()
			proxy.CutAt(0, false) // a service that cannot begin says so and ends
			b = start()
		case 6:
			time.Sleep(time.Duration(r.IntN(600)) * time.Millisecond)
		}
	}
	refuses.Store(false)
	testbed.Until(t, "everything has ended", func() bool {
		page, err := b.Client.Pickups(context.Background(), url.Values{"limit": {"500"}, "state": {"claimed,taken,committed,held"}})
		return err == nil && len(page.Items) == 0 && len(b.List("laboratory/orders")) == total && len(b.List("stations/inbox")) == 0
	})
	out := map[string][]string{}
	for _, name := range watched.names() {
		stem := strings.TrimSuffix(name, ".hl7")
		lane, _, _ := strings.Cut(stem, "-")
		out[lane] = append(out[lane], stem)
	}
	for _, lane := range lanes {
		if got, want := strings.Join(out[lane], " "), strings.Join(came[lane], " "); got != want {
			t.Errorf("lane %s came out as\n%s\ninstead of\n%s\n(after %v)", lane, got, want, said)
		}
	}
	for id, n := range specimens(b) {
		if n != 1 {
			t.Errorf("%s came out %d times", id, n)
		}
	}
}

// TestShareGoes takes a share away from under its mount point after a commit. Another
// file makes the hidden folder anew in the bare mount point: its emptiness proves
// nothing. The pickup is uncertain until the share is back, and then goes on by itself.
func TestShareGoes(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	share, target := filepath.Join(t.TempDir(), "share"), filepath.Join(data, "laboratory/orders")
	for _, f := range []string{share, target} {
		if err := os.MkdirAll(f, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	mountShare := func() {
		t.Helper()
		if err := syscall.Mount(share, target, "", syscall.MS_BIND, ""); err != nil {
			t.Skipf("nothing can be mounted here: %v", err)
		}
	}
	mountShare()
	t.Cleanup(func() { syscall.Unmount(target, syscall.MNT_DETACH) })
	var refuses atomic.Bool
	fsys := &files.Faulty{FS: files.Real{}, Fail: func(_ int64, operation, name string) error {
		if refuses.Load() && operation == "move" && strings.Contains(name, "laboratory/orders") {
			return syscall.EIO
		}
		return nil
	}}
	b := testbed.Start(t, testbed.In(data, testbed.Database(t)), testbed.On(fsys))
	b.Publish(inOneFile(t))
	refuses.Store(true)
	b.Drop("stations/inbox", "first.csv", sheet(1))
	until(b, "first.csv=held")
	if err := syscall.Unmount(target, syscall.MNT_DETACH); err != nil {
		t.Fatal(err)
	}
	refuses.Store(false)
	b.Drop("stations/inbox", "second.csv", sheet(2))
	until(b, "first.csv=uncertain second.csv=delivered")
	if got := specimens(b); got["AP-000001"] != 0 || got["AP-000002"] != 1 {
		t.Errorf("in the bare mount point: %v", got)
	}
	testbed.Until(t, "people are told", func() bool {
		_, said := command(b, "alerts")
		return strings.Contains(said, "uncertain") && strings.Contains(said, "first")
	})
	mountShare()
	b.Drop("stations/inbox", "third.csv", sheet(3)) // the route looks about
	until(b, "first.csv=delivered second.csv=delivered third.csv=delivered")
	if got := specimens(b); got["AP-000001"] != 1 {
		t.Errorf("on the share: %v", got)
	}
}
