package e2e

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"ydrion/files"
	"ydrion/managed"
	"ydrion/service"
	"ydrion/testbed"
)

// specimens counts how often each specimen stands in the orders.
func specimens(b *testbed.Bed) map[string]int {
	b.T.Helper()
	seen := map[string]int{}
	for _, name := range b.List("laboratory/orders") {
		for _, line := range strings.Split(b.Read("laboratory/orders", name), "\r") {
			if strings.HasPrefix(line, "ORC|") {
				seen[strings.Split(line, "|")[2]]++
			}
		}
	}
	return seen
}

// TestPowerFails takes the power away at arbitrary calls of the file system and
// loses an arbitrary part of what was not durable. Nothing may be lost for good;
// and since the outputs are still there, nothing may come twice either.
func TestPowerFails(t *testing.T) {
	t.Parallel()
	rounds := 8
	if testing.Short() {
		rounds = 4
	}
	if soak {
		rounds = 250
	}
	seed := uint64(time.Now().UnixNano())
	for round := range rounds {
		r := rand.New(rand.NewPCG(seed, uint64(round)))
		database, data, saved := testbed.Database(t), t.TempDir(), t.TempDir()
		power := files.NewVolatile(data, saved)
		var last atomic.Int64
		last.Store(math.MaxInt64)
		fsys := &files.Faulty{FS: power, Fail: func(call int64, _, _ string) error {
			if call > last.Load() {
				power.Cut()
			}
			return nil
		}}
		t.Run(fmt.Sprintf("seed %d round %d", seed, round), func(t *testing.T) {
			b := testbed.Start(t, testbed.On(fsys), testbed.In(data, database))
			switch publish := inOneFile(t); round % 4 {
			case 0:
				b.Publish(publish)
			case 1:
				b.Publish(ordersInBranches(t))
			case 2: // all three go on together
				const file = "routes/specimen-orders.yaml"
				publish[file] = strings.Replace(publish[file], "read:\n", "collect: {complete: 3}\nread:\n", 1)
				b.Publish(publish)
			default: // a file for each value
				b.Publish(delivering(t, "deliver:\n  folder: \"{laboratory}/orders\"\n  name: \"{specimen_id}-{file.stem}.hl7\"\n  one file per: \"{specimen_id}\"\n"))
			}
			k := int64(r.IntN(90))
			last.Store(fsys.Calls.Load() + k)
			for n := range 3 {
				b.Drop("stations/inbox", fmt.Sprintf("sheet%d.csv", n), heading+row(2*n)+row(2*n+1))
			}
			testbed.Until(t, "the power is off or all is done", func() bool {
				return fsys.Calls.Load() > last.Load() || strings.Count(states(b), "delivered") == 3
			})
			power.Cut()
			if err := b.End(); err != nil {
				t.Fatal(err)
			}
			lost, err := power.Lose(r)
			if err != nil {
				t.Fatal(err)
			}
			t.Logf("the power failed at call %d; lost %v", k, lost)
			c := testbed.Start(t, testbed.In(data, database))
			testbed.Until(t, "all is there", func() bool {
				page, err := c.Client.Pickups(context.Background(), url.Values{"state": {"claimed,taken,committed,held"}})
				return err == nil && len(page.Items) == 0 && len(c.List("stations/inbox")) == 0 && len(specimens(c)) == 6
			})
			for id, n := range specimens(c) {
				if n != 1 {
					t.Errorf("%s is there %d times", id, n)
				}
			}
			for n := range 3 {
				if round%4 == 1 {
					copies(t, c, fmt.Sprintf("sheet%d", n), fmt.Sprintf("AP-%06d", 2*n+1), fmt.Sprintf("AP-%06d", 2*n))
				}
			}
			page, err := c.Client.Pickups(context.Background(), url.Values{"state": {"delivered"}})
			if err != nil {
				t.Fatal(err)
			}
			for _, p := range page.Items {
				if _, err := os.Stat(filepath.Join(data, "archive", p.SHA256[:2], p.SHA256)); err != nil {
					t.Errorf("the original of %s: %v", p.Name, err)
				}
			}
		})
	}
}

// TestConnectionIsCut cuts all connections to the database at each exchange that
// a pickup needs: before the words arrive, and after they did and the answer is
// lost - around the commit, too.
func TestConnectionIsCut(t *testing.T) {
	t.Parallel()
	most := 7
	if testing.Short() {
		most = 4
	}
	if soak {
		most = 200
	}
	database := testbed.Database(t)
	proxy := testbed.NewProxy(t, database)
	b := testbed.Start(t, testbed.In(t.TempDir(), proxy.URL))
	b.Publish(inOneFile(t))
	total := 0
	for k := 1; k <= most; k++ {
		for _, after := range []bool{false, true} {
			proxy.CutAt(k, after)
			b.Drop("stations/inbox", fmt.Sprintf("sheet-%03d.csv", total), heading+row(total))
			total++
			testbed.Until(t, fmt.Sprintf("file %d has come out", total), func() bool { return len(specimens(b)) == total && len(b.List("stations/inbox")) == 0 })
			proxy.CutAt(0, false)
		}
	}
	testbed.Until(t, "all have ended", func() bool {
		page, err := b.Client.Pickups(context.Background(), url.Values{"state": {"claimed,taken,committed,held"}})
		return err == nil && len(page.Items) == 0
	})
	for id, n := range specimens(b) {
		if n != 1 {
			t.Errorf("%s came out %d times", id, n)
		}
	}
}

// mount mounts a small file system in memory; the test is skipped where that is
// not allowed.
func mount(t *testing.T, folder string, size int) {
	t.Helper()
	if err := os.MkdirAll(folder, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := unix.Mount("tmpfs", folder, "tmpfs", 0, fmt.Sprintf("size=%d,mode=0755", size)); err != nil {
		t.Skipf("file systems cannot be mounted here: %v", err)
	}
	t.Cleanup(func() {
		if err := unix.Unmount(folder, unix.MNT_DETACH); err != nil {
			t.Error(err)
		}
	})
}

// fill takes all the space of a file system, and gives it back.
func fill(t *testing.T, folder string) (empty func()) {
	t.Helper()
	path := filepath.Join(folder, ".ballast")
	f, err := os.Create(path)
	if err != nil {
		t.Fatal(err)
	}
	block := make([]byte, 4096)
	for err == nil {
		_, err = f.Write(block)
	}
	if err := f.Close(); err != nil {
		t.Fatal(err)
	}
	return func() {
		if err := os.Remove(path); err != nil {
			t.Fatal(err)
		}
	}
}

// TestDiskFull fills, in turn, the disks of the inbox, of the target, of the
// rejected records and of the archive. The pickup is held and people are told;
// when there is space again it goes on, once.
func TestDiskFull(t *testing.T) {
	t.Parallel()
	for _, test := range []struct {
		place string
		held  bool
	}{{"laboratory/orders", true}, {"stations/rejected", true}, {"archive", true}, {"stations/inbox", false}} {
		t.Run(test.place, func(t *testing.T) {
			data := t.TempDir()
			mount(t, filepath.Join(data, test.place), 1<<20)
			b := testbed.Start(t, testbed.In(data, testbed.Database(t)))
			b.Publish(inOneFile(t))
			b.Drop("stations/inbox", "before.csv", heading+row(1)+strings.Replace(row(2), "36.5", "x", 1))
			b.Ended("before.csv", 0)
			content := heading + row(3) + strings.Replace(row(4), "36.5", "x", 1)
			if test.place == "stations/inbox" {
				b.Drop("stations/inbox", "full.csv", content)
				defer fill(t, b.Path(test.place))()
			} else {
				empty := fill(t, b.Path(test.place))
				b.Drop("stations/inbox", "full.csv", content)
				testbed.Until(t, "it is held", func() bool {
					p := newest(b)
					return p.Name == "full.csv" && p.State == "held" && strings.Contains(p.Reason, "no space left on device")
				})
				// What another destination takes is out already.
				others := map[string]int{"stations/rejected": 1}[test.place]
				if got := specimens(b); got["AP-000003"] != others {
					t.Errorf("what came out of it: %v", got)
				}
				testbed.Until(t, "people are told", func() bool {
					_, said := command(b, "alerts")
					return strings.Contains(said, "no space left on device")
				})
				empty()
			}
			p := b.Ended("full.csv", 0)
			if p.Good != 1 || p.Rejected != 1 || specimens(b)["AP-000003"] != 1 {
				t.Errorf("%+v %v", p, specimens(b))
			}
		})
	}
}

// TestTargetReadOnlyAndBack: nothing is lost while a target cannot be written.
func TestTargetReadOnlyAndBack(t *testing.T) {
	data := t.TempDir()
	target := filepath.Join(data, "laboratory", "orders")
	mount(t, target, 1<<20)
	b := testbed.Start(t, testbed.In(data, testbed.Database(t)))
	b.Publish(inOneFile(t))
	b.Drop("stations/inbox", "a.csv", sheet(1))
	b.Ended("a.csv", 0)
	if err := unix.Mount("", target, "", unix.MS_REMOUNT|unix.MS_RDONLY, ""); err != nil {
		t.Fatal(err)
	}
	for n := range 5 {
		b.Drop("stations/inbox", fmt.Sprintf("b%d.csv", n), sheet(10+n))
	}
	testbed.Until(t, "all are held", func() bool { return strings.Count(states(b), "held") == 5 })
	if p := newest(b); !strings.Contains(p.Reason, "read-only file system") {
		t.Errorf("%+v", p)
	}
	if err := unix.Mount("", target, "", unix.MS_REMOUNT, ""); err != nil {
		t.Fatal(err)
	}
	testbed.Until(t, "all have ended", func() bool { return strings.Count(states(b), "delivered") == 6 })
	for id, n := range specimens(b) {
		if n != 1 {
			t.Errorf("%s came out %d times", id, n)
		}
	}
}

// TestDatabaseDiskFull fills the disk of the private database while files come.
func TestDatabaseDiskFull(t *testing.T) {
	t.Parallel()
	data, err := managed.TempFolder()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := os.RemoveAll(data); err != nil {
			t.Error(err)
		}
	})
	mount(t, filepath.Join(data, "postgres"), 120<<20)
	b := testbed.Start(t, testbed.Private(data))
	b.Publish(inOneFile(t))
	empty := fill(t, b.Path("postgres"))
	const total = 400
	for n := range total {
		b.Drop("stations/inbox", fmt.Sprintf("sheet-%03d.csv", n), sheet(n))
	}
	time.Sleep(3 * time.Second) // it meets the full disk, more than once
	if errors := strings.Count(b.Log.String(), "level=ERROR"); errors > 150 {
		t.Errorf("%d errors in the log in some three seconds", errors)
	} else {
		t.Logf("%d errors in the log in some three seconds", errors)
	}
	empty()
	testbed.Until(t, "all have come out", func() bool { return len(specimens(b)) == total })
	for id, n := range specimens(b) {
		if n != 1 {
			t.Errorf("%s came out %d times", id, n)
		}
	}
}

// TestClockJumps: a timetable's moment is kept once, however the clock jumps.
func TestClockJumps(t *testing.T) {
	var now atomic.Int64
	at := func(clock string) {
		c, err := time.Parse("15:04:05", clock)
		if err != nil {
			t.Fatal(err)
		}
		now.Store(time.Date(2026, 11, 25, c.Hour(), c.Minute(), c.Second(), 0, time.UTC).UnixNano())
	}
	at("06:00:00")
	b := testbed.Start(t, testbed.With(func(c *service.Config) { c.Clock = func() time.Time { return time.Unix(0, now.Load()) } }))
	b.Publish(listening(t, "  timetable:\n    at: [\"06:30\", \"12:00\"]\n    zone: UTC\n"))
	b.Drop("stations/inbox", "a.csv", sheet(1))
	waits(b, "a.csv", "it is taken at 06:30 UTC")
	poke := func() { b.Drop("stations/inbox", ".poke", "x"); b.Drop("stations/inbox", "poke.csv", sheet(9)) }
	at("06:30:01")
	b.Drop("stations/inbox", "b.csv", sheet(2)) // noticed: the route looks at the clock
	testbed.Until(t, "the moment is kept", func() bool { return strings.Contains(states(b), "a.csv=delivered") })
	at("05:00:00") // back
	poke()
	waits(b, "poke.csv", "it is taken at 12:00 UTC")
	at("06:31:00") // and forth: half past six has been
	b.Drop("stations/inbox", "c.csv", sheet(3))
	waits(b, "c.csv", "it is taken at 12:00 UTC")
	if strings.Contains(states(b), "poke.csv") {
		t.Errorf("half past six was kept twice: %s", states(b))
	}
	at("23:00:00") // forth beyond noon
	b.Drop("stations/inbox", "d.csv", sheet(4))
	testbed.Until(t, "noon is made up for", func() bool {
		return strings.Contains(states(b), "poke.csv=delivered") && strings.Contains(states(b), "c.csv=delivered")
	})
}

// TestCrashTwice lets a service crash at an arbitrary call, and the one that
// goes on with what is left at another.
func TestCrashTwice(t *testing.T) {
	t.Parallel()
	pairs := 4
	if testing.Short() {
		pairs = 2
	}
	if soak {
		pairs = 200
	}
	seed := uint64(time.Now().UnixNano())
	content := heading + row(1) + strings.Replace(row(2), "36.5", "n/a", 1) + row(3)
	for pair := range pairs {
		r := rand.New(rand.NewPCG(seed, uint64(pair)))
		first, second := int64(r.IntN(36)), int64(r.IntN(30))
		t.Run(fmt.Sprintf("seed %d calls %d and %d", seed, first, second), func(t *testing.T) {
			database, data := testbed.Database(t), t.TempDir()
			for n, k := range []int64{first, second} {
				var last atomic.Int64
				last.Store(math.MaxInt64)
				fsys := &files.Faulty{FS: files.Real{}, Fail: func(call int64, _, _ string) error {
					if call > last.Load() {
						return errCrash
					}
					return nil
				}}
				if n > 0 {
					last.Store(k)
				}
				b := testbed.Start(t, testbed.On(fsys), testbed.In(data, database))
				if n == 0 {
					b.Publish(inOneFile(t))
					last.Store(fsys.Calls.Load() + k)
					b.Drop("stations/inbox", "sheet.csv", content)
				}
				testbed.Until(t, "it crashes or ends", func() bool {
					return fsys.Calls.Load() > last.Load() || strings.Contains(states(b), "sheet.csv=delivered")
				})
				last.Store(0)
				if err := b.End(); err != nil {
					t.Fatal(err)
				}
			}
			c := testbed.Start(t, testbed.In(data, database))
			oracle(t, c, 1)
		})
	}
}

// TestOriginalIsCut: an original that is no longer what was taken is not taken
// for it: the pickup waits for a person.
func TestOriginalIsCut(t *testing.T) {
	data, database, fsys := t.TempDir(), testbed.Database(t), &broken{}
	b := testbed.Start(t, testbed.On(fsys), testbed.In(data, database))
	b.Publish(orders(t, "read:\n", "duplicates:\n  content: hold\n\nread:\n"))
	b.Drop("stations/inbox", "a.csv", sheet(1))
	until(b, "a.csv=delivered")
	b.Drop("stations/inbox", "b.csv", sheet(1))
	until(b, "a.csv=delivered b.csv=held")
	p := newest(b)
	if err := os.Truncate(b.Path("archive", p.SHA256[:2], p.SHA256), 120); err != nil {
		t.Fatal(err)
	}
	if code, said := command(b, "decide", fmt.Sprint(p.ID), "admit"); code != 0 {
		t.Errorf("exit code %d: %s", code, said)
	}
	testbed.Until(t, "it waits for a person", func() bool {
		q := newest(b)
		return q.State == "held" && q.NextTry == nil && strings.Contains(q.Reason, "the original is not what it was when it was taken: 120 bytes instead of")
	})
	if got := specimens(b)["AP-000001"]; got != 1 {
		t.Errorf("it came out %d times", got)
	}
}
