package e2e

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"ydrion/files"
	"ydrion/service"
	"ydrion/testbed"
)

// ready asks whether a service can work, and how long the answer took.
func ready(t *testing.T, b *testbed.Bed) (status int, said string, took time.Duration) {
	t.Helper()
	begun := time.Now()
	status, _, said = get(t, b, "/readyz", "")
	return status, said, time.Since(begun)
}

// TestSilentConnections: connections to the database go silent, as when a firewall has
// forgotten them. New ones answer: the service finds out by itself and goes on. When
// none answers it says so, at once, and goes on when they speak again.
func TestSilentConnections(t *testing.T) {
	t.Parallel()
	database := testbed.Database(t)
	proxy := testbed.NewProxy(t, database)
	b := testbed.Start(t, testbed.In(t.TempDir(), proxy.URL), testbed.With(func(c *service.Config) { c.Lease = shortLease }))
	b.Publish(inOneFile(t))
	b.Drop("stations/inbox", "before.csv", sheet(1))
	b.Ended("before.csv", 0)
	proxy.Silence(false)
	silent := time.Now()
	b.Drop("stations/inbox", "silent.csv", sheet(2))
	testbed.Until(t, "it comes out all the same", func() bool { return specimens(b)["AP-000002"] == 1 })
	if took := time.Since(silent); took > 40*time.Second {
		t.Errorf("it took %s", took)
	}
	testbed.Until(t, "it is ready", func() bool { status, _, _ := ready(t, b); return status == http.StatusOK })
	proxy.Silence(true)
	testbed.Until(t, "it says that the database does not answer", func() bool {
		status, said, took := ready(t, b)
		if took > 8*time.Second {
			t.Errorf("the answer took %s", took)
		}
		return status == http.StatusServiceUnavailable && strings.Contains(said, "the database")
	})
	begun := time.Now()
	code, said := command(b, "routes")
	if code != 3 || !strings.Contains(said, "the database does not answer") && !strings.Contains(said, "the database cannot be reached") {
		t.Errorf("exit code %d: %s", code, said)
	}
	if took := time.Since(begun); took > 30*time.Second {
		t.Errorf("the client waited %s", took)
	}
	b.Drop("stations/inbox", "mute.csv", sheet(3))
	proxy.Speak()
	testbed.Until(t, "it has come out", func() bool { return specimens(b)["AP-000003"] == 1 })
	testbed.Until(t, "it is ready", func() bool { status, _, _ := ready(t, b); return status == http.StatusOK })
	for id, n := range specimens(b) {
		if n != 1 {
			t.Errorf("%s came out %d times", id, n)
		}
	}
}

// TestOneRouteHangs: a file system that does not answer holds the route that works in
// it, with an alert, and nothing else: not the other routes, not people who ask, not
// the service's readiness. When it answers again the file comes out once.
func TestOneRouteHangs(t *testing.T) {
	t.Parallel()
	var hang atomic.Bool
	answers := make(chan struct{})
	fsys := &files.Faulty{FS: files.Real{}, Fail: func(_ int64, operation, name string) error {
		if hang.Load() && strings.Contains(name, "laboratory/orders") {
			<-answers
		}
		return nil
	}}
	b := testbed.Start(t, testbed.On(fsys), testbed.With(func(c *service.Config) { c.Still = time.Second }))
	again := sync.OnceFunc(func() { hang.Store(false); close(answers) })
	t.Cleanup(again)
	b.Publish(inOneFile(t))
	hang.Store(true)
	b.Drop("stations/inbox", "hangs.csv", sheet(1))
	testbed.Until(t, "people are told", func() bool {
		_, said := command(b, "alerts")
		return strings.Contains(said, "standstill") && strings.Contains(said, "specimen-orders stands still: processing hangs.csv")
	})
	b.Drop("stations/weights", "weights-2026-11-25.csv", testbed.Demo(t, "weights-2026-11-25.csv"))
	b.Ended("weights-2026-11-25.csv", 0)
	if _, err := b.Client.SetRunning(context.Background(), "weight-log", false); err != nil {
		t.Error(err)
	}
	if status, said, took := ready(t, b); status != http.StatusOK || took > 3*time.Second {
		t.Errorf("%d after %s: %s", status, took, said)
	}
	again()
	b.Ended("hangs.csv", 0)
	if got := specimens(b); got["AP-000001"] != 1 {
		t.Errorf("%v", got)
	}
	testbed.Until(t, "the alert is over", func() bool {
		var open int
		b.Ask(&open, `select count(*) from alerts where kind = 'standstill' and ended_at is null`)
		return open == 0
	})
}

// TestHostileSender lets a sender do what one can do to his own files: links and pipes
// swapped in, names that are not text, a folder that becomes a link, a second name by
// which he writes on. Others' files come out, and nothing of anybody else's is taken.
func TestHostileSender(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	b.Publish(listening(t, "  subfolders: true\n"))
	inbox := b.Path("stations/inbox")
	other := filepath.Join(t.TempDir(), "theirs")
	if err := os.MkdirAll(other, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(other, "secret.csv"), []byte(sheet(666)), 0o600); err != nil {
		t.Fatal(err)
	}
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	// Links and pipes take the place of files, again and again, in the folder and in
	// one below it, which itself becomes a link.
	stop := make(chan struct{})
	var swapping sync.WaitGroup
	swapping.Go(func() {
		for n := 0; n < 300; n++ {
			select {
			case <-stop:
				return
			default:
			}
			sub := filepath.Join(inbox, "sub")
			os.Mkdir(sub, 0o755)                                                        //nolint: a race on purpose, here and below
			os.WriteFile(filepath.Join(sub, "secret.csv"), []byte(sheet(700+n)), 0o644) //nolint
			file := filepath.Join(inbox, fmt.Sprintf("swap-%d.csv", n%5))
			os.WriteFile(file+".part", []byte(sheet(2000+n)), 0o644) //nolint
			os.Rename(file+".part", file)                            //nolint
			time.Sleep(time.Duration(n%7) * time.Millisecond)
			os.Rename(sub, filepath.Join(inbox, fmt.Sprintf("gone-%d", n))) //nolint
			os.Symlink(other, sub)                                          //nolint
			if n%2 == 0 {
				os.Symlink(filepath.Join(other, "secret.csv"), file+".part") //nolint
			} else {
				syscall.Mkfifo(file+".part", 0o644) //nolint
			}
			os.Rename(file+".part", file) //nolint
			time.Sleep(time.Duration(n%5) * time.Millisecond)
			os.Remove(sub) //nolint
		}
	})
	// Names that are not text are taken, and rejected: no output can be called so.
	for n, name := range []string{"bad-\xff\xfe.csv", "latin-\xe9.csv", "new\nline.csv", "tab\t.csv", `back\slash.csv`} {
		must(os.WriteFile(filepath.Join(inbox, ".part"), []byte(sheet(10+n)), 0o644))
		must(os.Rename(filepath.Join(inbox, ".part"), filepath.Join(inbox, name)))
	}
	for n := range 30 {
		b.Drop("stations/inbox", fmt.Sprintf("good-%02d.csv", n), sheet(100+n))
	}
	testbed.Until(t, "the others' files have come out", func() bool {
		seen := specimens(b)
		for n := range 30 {
			if seen[fmt.Sprintf("AP-%06d", 100+n)] == 0 {
				return false
			}
		}
		var odd int
		b.Ask(&odd, `select count(*) from pickups where state = 'rejected' and reason like 'the output cannot be named%'`)
		return odd == 5
	})
	time.Sleep(time.Second) // some more of it
	close(stop)
	swapping.Wait()
	seen := specimens(b)
	if seen["AP-000666"] != 0 {
		t.Error("a file was taken through a link")
	}
	for id, n := range seen {
		if n != 1 {
			t.Errorf("%s came out %d times", id, n)
		}
	}
	if _, err := os.Lstat(filepath.Join(other, "secret.csv")); err != nil {
		t.Errorf("it was moved: %v", err)
	}
	if entries, err := os.ReadDir(other); err != nil || len(entries) != 1 {
		t.Errorf("something was left in a folder of somebody else: %v %v", entries, err)
	}
	b.Drop("stations/inbox", "after.csv", sheet(200))
	b.Ended("after.csv", 0)
	if status, said, _ := ready(t, b); status != http.StatusOK {
		t.Errorf("%d: %s", status, said)
	}
}

// TestSenderWritesOn: a sender who keeps a second name of his file, or has it open, and
// changes it when it was taken changes nothing: neither what comes out nor what is kept.
func TestSenderWritesOn(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	b.Publish(inOneFile(t))
	for n, way := range []string{"link", "reader"} {
		name := way + ".csv"
		content := sheet(n + 1)
		path := filepath.Join(t.TempDir(), name)
		if err := os.WriteFile(path, []byte(content), 0o644); err != nil {
			t.Fatal(err)
		}
		open, err := os.Open(path)
		if err != nil {
			t.Fatal(err)
		}
		defer open.Close()
		if way == "link" {
			if err := os.Link(path, filepath.Join(filepath.Dir(path), "second")); err != nil {
				t.Fatal(err)
			}
			open.Close() //nolint: it was only read
		}
		if err := os.Rename(path, b.Path("stations/inbox", name)); err != nil {
			if err := copyInto(path, b.Path("stations/inbox", name)); err != nil {
				t.Skip("the inbox is on another file system")
			}
		}
		p := b.Ended(name, 0)
		again := fmt.Sprintf("/proc/self/fd/%d", open.Fd())
		if way == "link" {
			again = filepath.Join(filepath.Dir(path), "second")
		}
		if f, err := os.OpenFile(again, os.O_WRONLY|os.O_TRUNC, 0); err == nil {
			fmt.Fprint(f, "something else")
			f.Close() //nolint: whatever becomes of it
		}
		original(t, b, p, content)
	}
}

func copyInto(from, to string) error {
	c, err := os.ReadFile(from)
	if err != nil {
		return err
	}
	return os.WriteFile(to, c, 0o644)
}
