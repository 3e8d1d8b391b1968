package e2e

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"math"
	"math/rand/v2"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"ydrion/api"
	"ydrion/files"
	"ydrion/service"
	"ydrion/testbed"
)

// shortLease lets nodes be given up soon.
const shortLease = 2 * time.Second

// gate keeps whoever comes to a chosen call until it is opened.
type gate struct {
	at      atomic.Int64 // the call that is kept
	kept    chan string  // receives what was kept
	open    chan struct{}
	pattern string // of names that count; empty: all
}

func newGate() *gate {
	g := &gate{kept: make(chan string, 1), open: make(chan struct{})}
	g.at.Store(math.MaxInt64)
	return g
}

// TestPausedAtEveryStep stops a node in the very moment of a call of the file system,
// after it has made sure of its lease, and lets nothing reach it or leave it. Another
// node takes over and delivers. Then a newer file of the same name comes, and the first
// node wakes up and does what it was about to do. Whatever that is: each record comes
// out once, and no file is lost from sight.
func TestPausedAtEveryStep(t *testing.T) {
	t.Parallel()
	step := int64(12)
	if testing.Short() {
		step = 20
	}
	if soak {
		step = 1
	}
	paused := 0
	for k := 1 + rand.Int64N(step); ; k += step {
		if !t.Run(fmt.Sprintf("call %d", k), func(t *testing.T) {
			if !pausedAt(t, k) {
				k = math.MaxInt64 - step
			} else {
				paused++
			}
		}) {
			break
		}
		if k > 1000 {
			break
		}
	}
	if paused < 2 {
		t.Errorf("only %d pauses", paused)
	}
}

// pausedAt tells whether the call came before the pickup had ended.
func pausedAt(t *testing.T, k int64) bool {
	data, database := t.TempDir(), testbed.Database(t)
	proxy := testbed.NewProxy(t, database)
	g := newGate()
	broken := &files.Faulty{FS: files.Real{}, Fail: func(call int64, operation, name string) error {
		if call == g.at.Load() {
			proxy.Silence(true)
			g.kept <- operation + " " + filepath.Base(name)
			<-g.open
		}
		return nil
	}}
	lease := testbed.With(func(c *service.Config) { c.Lease = shortLease })
	one := testbed.Start(t, testbed.On(broken), testbed.In(data, proxy.URL), lease)
	opened := sync.OnceFunc(func() { close(g.open); proxy.Speak() })
	t.Cleanup(opened)
	one.Publish(inOneFile(t))
	g.at.Store(broken.Calls.Load() + k)
	content := heading + row(1) + strings.Replace(row(2), "36.5", "n/a", 1) + row(3)
	one.Drop("stations/inbox", "sheet.csv", content)
	var what string
	testbed.Until(t, "it is kept or has ended", func() bool {
		select {
		case what = <-g.kept:
			return true
		case <-time.After(20 * time.Millisecond):
			soon, end := context.WithTimeout(context.Background(), time.Second) // nothing is answered while a node is kept
			defer end()
			page, err := one.Client.Pickups(soon, url.Values{})
			return err == nil && len(page.Items) == 1 && page.Items[0].EndedAt != nil
		}
	})
	if what == "" {
		return false
	}
	t.Log("kept at", what)
	two := testbed.Start(t, testbed.In(data, database), lease)
	two.Ended("sheet.csv", 0)
	// A newer file of the same name and, as partners do, with the same content lies in
	// the inbox when the first node wakes up.
	if _, err := two.Client.Pause(context.Background(), "specimen-orders", time.Time{}); err != nil {
		t.Fatal(err)
	}
	two.Drop("stations/inbox", "sheet.csv", content)
	waits(two, "sheet.csv", "the route is paused")
	opened()
	testbed.Until(t, "the first node is back", func() bool {
		list, err := two.Client.Nodes(context.Background())
		alive := 0
		for _, n := range list {
			if n.EndedAt == nil {
				alive++
			}
		}
		return err == nil && alive == 2
	})
	if _, err := two.Client.SetRunning(context.Background(), "specimen-orders", true); err != nil {
		t.Fatal(err)
	}
	testbed.Until(t, "the newer file is there as a second pickup", func() bool {
		return strings.Count(states(two), "sheet.csv=delivered") == 2
	})
	seen := specimens(two)
	if len(seen) != 2 || seen["AP-000001"] != 2 || seen["AP-000003"] != 2 {
		t.Errorf("came out: %v", seen)
	}
	if got := two.List("stations/rejected"); len(got) != 6 {
		t.Errorf("rejected files: %v", got)
	}
	if got := two.List("stations/inbox"); len(got) != 0 {
		t.Errorf("left in the inbox: %v", got)
	}
	if held, err := os.ReadDir(two.Path("stations/inbox", files.Hidden)); err != nil && !os.IsNotExist(err) || len(held) != 0 {
		t.Errorf("left hidden in the inbox: %v %v", held, err)
	}
	return true
}

// TestNodesArePaused stops one of two processes for longer than its lease at random
// moments, again and again, while files with many records each come under few names and
// a reader takes the outputs away at once. Every record must come out exactly once.
func TestNodesArePaused(t *testing.T) {
	t.Parallel()
	pauses := 2
	if testing.Short() {
		pauses = 1
	}
	if soak {
		pauses = 40
	}
	path, data, database := program(t), t.TempDir(), testbed.Database(t)
	start := func() *exec.Cmd { return serve(t, path, data, database, "--lease", shortLease.String()) }
	nodes := []*exec.Cmd{start(), nil}
	clients := []*api.Client{clientOf(t, data), nil}
	client := clients[0]
	w := testbed.Workspace(t)
	// An output for each record: the writing takes a while, and is met.
	if _, err := client.Publish(context.Background(), api.PublishRequest{Files: w.Files, Routes: []string{"specimen-orders"}}); err != nil {
		t.Fatal(err)
	}
	if _, err := client.SetRunning(context.Background(), "specimen-orders", true); err != nil {
		t.Fatal(err)
	}
	nodes[1] = start()
	clients[1] = clientOf(t, data)
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 11))
	p := &pouncer{t, filepath.Join(data, "laboratory", "orders"), map[string]int{}}
	inbox := filepath.Join(data, "stations", "inbox")
	const records = 100
	total := 0
	bring := func() {
		name := fmt.Sprintf("sheet-%d.csv", r.IntN(3))
		if _, err := os.Lstat(filepath.Join(inbox, name)); err == nil {
			return // the former one is still there
		}
		content := heading
		for n := range records {
			content += row(total + n)
		}
		drop(t, inbox, name, content)
		total += records
	}
	for range pauses {
		for range 6 {
			bring()
			p.pounce()
			time.Sleep(time.Duration(r.IntN(30)) * time.Millisecond)
		}
		leader, other := 0, 1
		if led(t, client) == nodes[1].Process.Pid {
			leader, other = 1, 0
		}
		if err := nodes[leader].Process.Signal(syscall.SIGSTOP); err != nil {
			t.Fatal(err)
		}
		client = clients[other] // ask the one that lives
		before := total
		testbed.Until(t, "the other has brought everything out", func() bool { p.pounce(); return len(p.seen) >= before })
		for range 3 {
			bring()
			time.Sleep(time.Duration(r.IntN(20)) * time.Millisecond)
		}
		if err := nodes[leader].Process.Signal(syscall.SIGCONT); err != nil {
			t.Fatal(err)
		}
		for range 20 {
			p.pounce()
			time.Sleep(5 * time.Millisecond)
		}
	}
	testbed.Until(t, "everything has come out", func() bool { p.pounce(); return len(p.seen) >= total })
	testbed.Until(t, "everything has ended", func() bool {
		page, err := client.Pickups(context.Background(), url.Values{"limit": {"500"}, "state": {"claimed,taken,committed,held"}})
		return err == nil && len(page.Items) == 0
	})
	time.Sleep(300 * time.Millisecond) // what a woken node might still bring
	p.pounce()
	p.once(total)
	if held, err := os.ReadDir(filepath.Join(inbox, files.Hidden)); err != nil && !os.IsNotExist(err) || len(held) != 0 {
		t.Errorf("left hidden in the inbox: %v %v", held, err)
	}
	t.Logf("%d pauses, %d records, each exactly once", pauses, len(p.seen))
}

// led gives the process of the node that leads the orders' route.
func led(t *testing.T, client *api.Client) int {
	t.Helper()
	var pid int
	testbed.Until(t, "the route is led", func() bool {
		sheet, err := client.Route(context.Background(), "specimen-orders")
		if err != nil {
			return false
		}
		list, err := client.Nodes(context.Background())
		for _, n := range list {
			if n.ID == sheet.Leader && n.EndedAt == nil {
				_, after, _ := strings.Cut(n.Name, ":")
				fmt.Sscan(after, &pid)
			}
		}
		return err == nil && pid > 0
	})
	return pid
}

// order watches a folder and remembers the names in the order in which they came.
type order struct {
	t    *testing.T
	file *os.File
	mu   sync.Mutex
	came []string
}

func watchOrder(t *testing.T, folder string) *order {
	t.Helper()
	if err := os.MkdirAll(folder, 0o755); err != nil {
		t.Fatal(err)
	}
	fd, err := unix.InotifyInit1(unix.IN_CLOEXEC | unix.IN_NONBLOCK)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := unix.InotifyAddWatch(fd, folder, unix.IN_MOVED_TO); err != nil {
		t.Fatal(err)
	}
	o := &order{t: t, file: os.NewFile(uintptr(fd), "inotify")}
	t.Cleanup(func() { o.file.Close() })
	go func() {
		buf := make([]byte, 256<<10)
		for {
			n, err := o.file.Read(buf)
			if err != nil {
				return
			}
			o.mu.Lock()
			for b := buf[:n]; len(b) >= unix.SizeofInotifyEvent; {
				size := int(binary.NativeEndian.Uint32(b[12:]))
				o.came = append(o.came, string(bytes.TrimRight(b[unix.SizeofInotifyEvent:unix.SizeofInotifyEvent+size], "\x00")))
				b = b[unix.SizeofInotifyEvent+size:]
			}
			o.mu.Unlock()
		}
	}()
	return o
}

func (o *order) names() []string {
	o.mu.Lock()
	defer o.mu.Unlock()
	return append([]string{}, o.came...)
}
