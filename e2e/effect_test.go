package e2e

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"ydrion/api"
	"ydrion/service"
	"ydrion/testbed"
)

// TestPublishIsInEffect: when publishing, starting, stopping or pausing has been
// answered it is so, on whichever node leads the route: a file that comes right after is
// treated by it.
func TestPublishIsInEffect(t *testing.T) {
	t.Parallel()
	data, database := t.TempDir(), testbed.Database(t)
	named := func(name string) testbed.Option {
		return testbed.With(func(c *service.Config) { c.Name = name })
	}
	beds := []*testbed.Bed{testbed.Start(t, testbed.In(data, database), named("one"))}
	ctx := context.Background()
	base := orders(t)
	revision := func(n int) map[string][]byte {
		w := testbed.Workspace(t)
		for name, c := range base {
			w.Files[name] = []byte(c)
		}
		w.Files["routes/specimen-orders.yaml"] = []byte(strings.Replace(base["routes/specimen-orders.yaml"], "{laboratory}/orders", fmt.Sprintf("{laboratory}/orders-%d", n), 1))
		return w.Files
	}
	beds[0].Publish(nil)
	rounds := 8
	if soak {
		rounds = 60
	}
	for n := range rounds {
		if n == rounds/2 {
			beds = append(beds, testbed.Start(t, testbed.In(data, database), named("two")))
			testbed.Until(t, "they share the routes", func() bool {
				list, err := beds[1].Client.Nodes(ctx)
				return err == nil && len(list) == 2 && list[0].Routes > 0 && list[1].Routes > 0
			})
		}
		b := beds[n%len(beds)]
		answer, err := b.Client.Publish(ctx, api.PublishRequest{Files: revision(n), Routes: []string{"specimen-orders"}})
		if err != nil || !answer.Published || !answer.Routes[0].InEffect {
			t.Fatalf("%+v %v", answer, err)
		}
		b.Drop("stations/inbox", fmt.Sprintf("at-once-%d.csv", n), sheet(n))
		testbed.Until(t, "it has come out", func() bool {
			return strings.Contains(states(b), fmt.Sprintf("at-once-%d.csv=delivered", n))
		})
		if got := b.List(fmt.Sprintf("laboratory/orders-%d", n)); len(got) != 1 {
			t.Fatalf("round %d: a file that came after the answer was treated by the revision before: %v", n, got)
		}
		sheetOf, err := b.Client.SetRunning(ctx, "specimen-orders", false)
		if err != nil || sheetOf.State != "stopped" || !sheetOf.InEffect {
			t.Fatalf("%+v %v", sheetOf, err)
		}
		b.Drop("stations/inbox", fmt.Sprintf("stopped-%d.csv", n), sheet(100+n))
		time.Sleep(30 * time.Millisecond) // it would be taken by now
		if _, err := os.Lstat(b.Path("stations/inbox", fmt.Sprintf("stopped-%d.csv", n))); err != nil {
			t.Fatalf("round %d: it was taken after the route had been stopped: %v", n, err)
		}
		if sheetOf, err = b.Client.SetRunning(ctx, "specimen-orders", true); err != nil || sheetOf.State != "running" || !sheetOf.InEffect {
			t.Fatalf("%+v %v", sheetOf, err)
		}
		if sheetOf, err = b.Client.Pause(ctx, "specimen-orders", time.Time{}); err != nil || sheetOf.State != "paused" || !sheetOf.InEffect {
			t.Fatalf("%+v %v", sheetOf, err)
		}
		b.Drop("stations/inbox", fmt.Sprintf("paused-%d.csv", n), sheet(200+n))
		time.Sleep(30 * time.Millisecond)
		if _, err := os.Lstat(b.Path("stations/inbox", fmt.Sprintf("paused-%d.csv", n))); err != nil {
			t.Fatalf("round %d: it was taken while the route was paused: %v", n, err)
		}
		if _, err := b.Client.SetRunning(ctx, "specimen-orders", true); err != nil {
			t.Fatal(err)
		}
	}
}

// TestKeysThatAreNoText: what stands in a lane or a business key may be anything; it
// stops nobody's claim.
func TestKeysThatAreNoText(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	b.Publish(orders(t, "read:\n", "order:\n  lane: \"{station}\"\n  failure: holds\nduplicates:\n  key: \"{specimen_id}\"\n  same key: hold\n\nread:\n"))
	bad := strings.Replace(sheet(1), "AP-000001", "AP-\x00\xff1", 1)
	bad = strings.Replace(bad, "Ansel Point", "Ansel\x00\xfe", 1)
	b.Drop("stations/inbox", "bad.csv", bad)
	for n := range 5 {
		b.Drop("stations/inbox", fmt.Sprintf("good-%d.csv", n), sheet(10+n))
	}
	testbed.Until(t, "all have ended", func() bool {
		return strings.Count(states(b), "=delivered") == 5 && strings.Contains(states(b), "bad.csv=rejected")
	})
}

// TestDestinationOutOfOrder: a file in the place of a destination's folder keeps
// neither the other destinations nor a person's decision; and when the folder is there
// its output comes.
func TestDestinationOutOfOrder(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	files := delivering(t, `deliver:
  name: "{file.stem}.hl7"
  to:
    - folder: "{laboratory}/orders"
    - folder: "{laboratory}/copies"
      name: "{file.stem}-copy.hl7"
`)
	if err := os.MkdirAll(b.Path("laboratory"), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(b.Path("laboratory/copies"), nil, 0o644); err != nil {
		t.Fatal(err)
	}
	b.Publish(files)
	b.Drop("stations/inbox", "a.csv", sheet(1))
	b.Drop("stations/inbox", "b.csv", sheet(2))
	testbed.Until(t, "the other destination has its outputs", func() bool { return len(b.List("laboratory/orders")) == 2 })
	until(b, "a.csv=held b.csv=held")
	if code, said := command(b, "decide", "1", "abandoned"); code != 0 {
		t.Errorf("exit code %d: %s", code, said)
	}
	until(b, "a.csv=delivered b.csv=held")
	if err := os.Remove(b.Path("laboratory/copies")); err != nil {
		t.Fatal(err)
	}
	command(b, "decide", "2", "try") // or in a moment by itself
	until(b, "a.csv=delivered b.csv=delivered")
	if got := b.List("laboratory/copies"); len(got) != 1 || got[0] != "b-copy.hl7" || b.Read("laboratory/copies/b-copy.hl7") != b.Read("laboratory/orders/b.hl7") {
		t.Errorf("%v", got)
	}
	testbed.Until(t, "nothing is left in the spool", func() bool {
		entries, err := os.ReadDir(b.Path("archive/spool"))
		left := 0
		for _, e := range entries {
			if strings.Contains(e.Name(), "-2-") { // of the second run; the first one's is swept later
				left++
			}
		}
		return err == nil && left == 0
	})
}

// TestNobodyElseLooks: what is hidden or archived only we can look into, also where an
// earlier program left it open.
func TestNobodyElseLooks(t *testing.T) {
	data, database := t.TempDir(), testbed.Database(t)
	for _, f := range []string{"stations/inbox/.ydrion", "archive"} {
		if err := os.MkdirAll(filepath.Join(data, f), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	b := testbed.Start(t, testbed.In(data, database))
	b.Publish(listening(t, "  subfolders: true\n"))
	b.Drop("stations/inbox/monday", "a.csv", sheet(1))
	b.Ended("a.csv", 0)
	for _, f := range []string{"stations/inbox/.ydrion", "laboratory/orders/.ydrion", "archive", "archive/spool"} {
		if info, err := os.Stat(b.Path(f)); err != nil || info.Mode().Perm() != 0o700 {
			t.Errorf("%s: %v %v", f, info.Mode().Perm(), err)
		}
	}
	if info, err := os.Stat(b.Path("laboratory/orders/a.hl7")); err != nil || info.Mode().Perm() != 0o644 {
		t.Errorf("the output: %v %v", info, err)
	}
}

// TestSubfolderCanBeRemoved: nothing of ours stays in a folder that a sender made.
func TestSubfolderCanBeRemoved(t *testing.T) {
	b := testbed.Start(t)
	b.Publish(listening(t, "  subfolders: true\n"))
	b.Drop("stations/inbox/monday/early", "a.csv", sheet(1))
	b.Ended("a.csv", 0)
	testbed.Until(t, "the folder is empty", func() bool {
		return os.Remove(b.Path("stations/inbox/monday/early")) == nil && os.Remove(b.Path("stations/inbox/monday")) == nil
	})
	if entries, err := os.ReadDir(b.Path("stations/inbox/.ydrion")); err != nil || len(entries) != 0 {
		t.Errorf("left hidden: %v %v", entries, err)
	}
}

// TestFirstStartIsKilled kills the program while it makes its database: the next start
// begins anew.
func TestFirstStartIsKilled(t *testing.T) {
	t.Parallel()
	path := program(t)
	moments := []time.Duration{300 * time.Millisecond}
	if soak {
		moments = []time.Duration{20 * time.Millisecond, 60 * time.Millisecond, 150 * time.Millisecond, 300 * time.Millisecond, 600 * time.Millisecond, time.Second, 1500 * time.Millisecond}
	}
	for _, after := range moments {
		data := t.TempDir()
		if err := os.Chmod(filepath.Dir(data), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.Chmod(data, 0o755); err != nil {
			t.Fatal(err)
		}
		cmd := serve(t, path, data, "")
		time.Sleep(after)
		if err := cmd.Process.Kill(); err != nil {
			t.Fatal(err)
		}
		cmd.Wait() //nolint: it was killed
		cmd = serve(t, path, data, "")
		client := clientOf(t, data)
		if _, err := client.Overview(context.Background()); err != nil {
			t.Errorf("after %s: %v", after, err)
		}
		if err := cmd.Process.Signal(syscall.SIGTERM); err != nil {
			t.Fatal(err)
		}
		if err := cmd.Wait(); err != nil {
			t.Errorf("after %s: %v", after, err)
		}
	}
}
