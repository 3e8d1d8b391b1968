package e2e

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math"
	"math/rand/v2"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"ydrion/api"
	"ydrion/files"
	"ydrion/managed"
	"ydrion/testbed"
	"ydrion/wire"
)

// errCrash is what every file operation says after a crash.
var errCrash = errors.New("the machine is off")

// TestCrashAtEveryStep lets a service lose its file system for good at the k-th
// call, for every third k that a pickup needs and in the long run for each, starts another service on what is
// left, and asks whether everything is there exactly once.
func TestCrashAtEveryStep(t *testing.T) {
	t.Parallel()
	// Every third call, beginning at any of the first three, tells in a while of all of
	// them; the long run takes each.
	crashed, missed, step := 0, 0, int64(3)
	if testing.Short() {
		step = 5
	}
	if soak {
		step = 1
	}
	begin := 1 + rand.Int64N(step)
	t.Logf("from call %d on, every %d", begin, step)
	for k := begin; ; k += step {
		database := testbed.Database(t)
		first := int64(math.MaxInt64)
		var last atomic.Int64 // the last call that goes well
		last.Store(math.MaxInt64)
		broken := &files.Faulty{FS: files.Real{}, Fail: func(call int64, _, _ string) error {
			if call > last.Load() {
				return errCrash
			}
			return nil
		}}
		reached := crash(t, fmt.Sprintf("call %d", k), broken, database, database, kinds[k/step%int64(len(kinds))],
			func() { first = broken.Calls.Load() + k; last.Store(first - 1) },
			func() bool { return broken.Calls.Load() >= first })
		if missed++; reached {
			missed = 0
			crashed++
		}
		if missed == len(kinds) {
			break
		}
	}
	if crashed < 10 && !testing.Short() {
		t.Errorf("only %d crashes: the file system is not really used through its port", crashed)
	}
}

// TestCrashAtEveryExchange dies at each exchange with the database that follows a
// file's arrival: before the words of the service arrive there, and after, so that
// nobody hears the answer.
func TestCrashAtEveryExchange(t *testing.T) {
	t.Parallel()
	crashed, missed, step := 0, 0, 6
	if testing.Short() {
		step = 9
	}
	if soak {
		step = 1
	}
	for k := 1; ; k += step {
		reached := false
		for _, after := range []bool{false, true} {
			database := testbed.Database(t)
			proxy := testbed.NewProxy(t, database)
			dead := &files.Faulty{FS: files.Real{}, Fail: func(int64, string, string) error {
				if proxy.Reached() {
					return errCrash
				}
				return nil
			}}
			reached = crash(t, fmt.Sprintf("exchange %d after %v", k, after), dead, proxy.URL, database, kinds[k/step%len(kinds)], func() { proxy.DieAt(k, after) }, proxy.Reached) || reached
		}
		if missed++; reached {
			missed = 0
			crashed++
		}
		if missed == len(kinds) {
			break
		}
	}
	if crashed*step < 8 {
		t.Errorf("only %d crashes", crashed)
	}
}

// crash hands a file to a service that dies at a chosen moment, starts another in
// its place, and asks the oracle. It tells whether the moment came before the
// pickup had ended.
func crash(t *testing.T, name string, fsys files.FS, database, after string, of kind, arm func(), dead func() bool) (reached bool) {
	data := t.TempDir()
	wrong := strings.Replace(row(2), "36.5", "n/a", 1)
	come := map[string]string{"sheet.csv": heading + row(1) + wrong + row(3)}
	if of == together {
		come = map[string]string{"sheet.csv": heading + row(1) + wrong, "then.csv": heading + row(3)}
	}
	t.Run(name+" "+string(of), func(t *testing.T) {
		b := testbed.Start(t, testbed.On(fsys), testbed.In(data, database))
		b.Publish(ordersOf(t, of))
		arm()
		for _, name := range slices.Sorted(maps.Keys(come)) {
			b.Drop("stations/inbox", name, come[name])
		}
		testbed.Until(t, "it crashes or ends", func() bool {
			if reached = dead(); reached && database != after {
				return true // nobody answers any more
			}
			page, err := b.Client.Pickups(context.Background(), url.Values{})
			if err != nil && !dead() {
				t.Fatal(err)
			}
			open := slices.ContainsFunc(page.Items, func(p wire.Pickup) bool { return p.EndedAt == nil && p.Reason == "" })
			return err == nil && (len(page.Items) >= len(come) && !open || reached && len(page.Items) == 0)
		})
		reached = dead()
		if err := b.End(); err != nil && database == after {
			t.Fatal(err)
		}
		c := testbed.Start(t, testbed.In(data, after))
		oracle(t, c, len(come))
		if of == inBranches {
			copies(t, c, "sheet", "AP-000003", "AP-000001")
		}
	})
	return reached
}

// kind is how the files of a route that crashes go on.
type kind string

const (
	oneByOne   kind = "one by one"
	inBranches kind = "in branches" // records go in another order, and into a second branch, too
	together   kind = "together"    // two files go on in one run
)

var kinds = []kind{oneByOne, inBranches, together}

// ordersOf is the demo's route with orders in one file, of a kind.
func ordersOf(t *testing.T, of kind) map[string]string {
	t.Helper()
	switch of {
	case inBranches:
		return ordersInBranches(t)
	case together:
		files := inOneFile(t)
		files["routes/specimen-orders.yaml"] = strings.Replace(files["routes/specimen-orders.yaml"], "read:\n", "collect: {complete: 2}\nread:\n", 1)
		return files
	}
	return inOneFile(t)
}

// ordersInBranches lets records go on in another order, as orders in one file for each pickup, and as rows in a
// file each.
func ordersInBranches(t *testing.T) map[string]string {
	t.Helper()
	files := inOneFile(t)
	r := files["routes/specimen-orders.yaml"]
	from, to := strings.Index(r, "map: "), strings.Index(r, "rejected:\n")
	if from < 0 || to < from {
		t.Fatal("the demo's route has changed; this test must follow")
	}
	files["routes/specimen-orders.yaml"] = r[:from] + `shape:
  - sort: specimen_id descending
branches:
  - name: orders
    map: maps/specimen-to-order.map
    deliver: {folder: "{laboratory}/orders", name: "{file.stem}.hl7"}
  - name: rows
    deliver: {folder: "{laboratory}/rows", name: "{file.stem}-{part.number}-of-{part.count}.csv", one file per: 1 record}

` + r[to:]
	return files
}

// copies checks the rows of a sheet against their specimens.
func copies(t *testing.T, b *testbed.Bed, stem string, specimens ...string) {
	t.Helper()
	var names []string
	for i, specimen := range specimens {
		name := fmt.Sprintf("%s-%d-of-%d.csv", stem, i+1, len(specimens))
		names = append(names, name)
		if got := b.Read("laboratory/rows", name); !strings.HasPrefix(got, heading) || !strings.HasPrefix(strings.TrimPrefix(got, heading), specimen+",") || strings.Count(got, "\n") != 2 {
			t.Errorf("%s: %q", name, got)
		}
	}
	var got []string
	for _, name := range b.List("laboratory/rows") {
		if strings.HasPrefix(name, stem+"-") {
			got = append(got, name)
		}
	}
	if fmt.Sprint(got) != fmt.Sprint(names) {
		t.Errorf("rows %v, not %v", got, names)
	}
}

// oracle asks whether so many files with three records have come out exactly once.
func oracle(t *testing.T, b *testbed.Bed, n int) {
	t.Helper()
	var good, rejected int64
	testbed.Until(t, "all have ended", func() bool {
		page, err := b.Client.Pickups(context.Background(), url.Values{})
		if err != nil {
			t.Fatal(err)
		}
		ended, runs := 0, map[int64]bool{}
		good, rejected = 0, 0
		for _, p := range page.Items {
			if p.State == "withdrawn" && n > 1 { // what was claimed together is put back if it cannot be taken together
				continue
			}
			good, rejected, runs[p.Run] = good+p.Good, rejected+p.Rejected, true
			if p.EndedAt != nil {
				ended++
			}
		}
		if ended > n || len(runs) > 1 {
			t.Fatalf("%+v", page.Items)
		}
		return ended == n
	})
	if good != 2 || rejected != 1 {
		t.Errorf("%d good and %d rejected", good, rejected)
	}
	if got := b.List("laboratory/orders"); len(got) != 1 || got[0] != "sheet.hl7" {
		t.Errorf("outputs %v", got)
	} else if n := strings.Count(b.Read("laboratory/orders/sheet.hl7"), "MSH|"); n != 2 {
		t.Errorf("%d messages", n)
	}
	if got := b.List("stations/rejected"); len(got) != 3 {
		t.Errorf("rejected files %v", got)
	}
	if got := b.List("stations/inbox"); len(got) != 0 {
		t.Errorf("left in the inbox: %v", got)
	}
	for _, folder := range []string{"stations/inbox", "laboratory/orders", "stations/rejected"} {
		hidden, err := os.ReadDir(b.Path(folder, files.Hidden))
		if err != nil && !os.IsNotExist(err) || len(hidden) != 0 {
			t.Errorf("left hidden in %s: %v %v", folder, hidden, err)
		}
	}
}

// serve starts the real program as a process.
func serve(t *testing.T, program, data, database string, more ...string) *exec.Cmd {
	t.Helper()
	return serveAs(t, 0, program, data, database, append(more, "--environment", "../demo/workspace/environments/demo.yaml")...)
}

// serveAs is serve under another account, unless that is 0. It is not told an
// environment.
func serveAs(t *testing.T, account uint32, program, data, database string, more ...string) *exec.Cmd {
	t.Helper()
	cmd := exec.Command(program, "serve", "--data", data, "--listen", "127.0.0.1:0")
	if database != "" {
		cmd.Args = append(cmd.Args, "--database-url", database)
	}
	cmd.Args = append(cmd.Args, more...)
	log, err := os.OpenFile(filepath.Join(data, "process.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
	if err != nil {
		t.Fatal(err)
	}
	cmd.Stdout, cmd.Stderr = log, log
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	if account != 0 {
		cmd.SysProcAttr.Credential = &syscall.Credential{Uid: account, Gid: account}
		cmd.Dir, cmd.Env = data, append(os.Environ(), "HOME="+data)
	}
	if err := os.Remove(filepath.Join(data, "service.json")); err != nil && !os.IsNotExist(err) {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	if err := log.Close(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if cmd.ProcessState == nil {
			cmd.Process.Kill() //nolint: it may have ended by itself
			cmd.Wait()         //nolint: it was killed
		}
		if t.Failed() {
			c, err := os.ReadFile(filepath.Join(data, "process.log"))
			t.Logf("the service's log: %s %v", c[max(0, len(c)-6000):], err)
		}
	})
	return cmd
}

// clientOf waits until a service process answers.
func clientOf(t *testing.T, data string) *api.Client {
	t.Helper()
	var c *api.Client
	testbed.Until(t, "the service answers", func() bool {
		b, err := os.ReadFile(filepath.Join(data, "service.json"))
		if err != nil {
			return false
		}
		var at struct{ URL string }
		if json.Unmarshal(b, &at) != nil {
			return false
		}
		token, err := os.ReadFile(filepath.Join(data, "token"))
		if err != nil {
			return false
		}
		c = &api.Client{Base: at.URL, Token: strings.TrimSpace(string(token))}
		_, err = c.Routes(context.Background())
		return err == nil
	})
	return c
}

// TestKilled kills the real program at random moments while files keep coming
// and a reader takes outputs away at once. Every record must come out exactly
// once, whether files go on one by one or together.
func TestKilled(t *testing.T) {
	t.Parallel()
	for of, kills := range map[kind]int{oneByOne: 6, together: 3} {
		switch {
		case testing.Short():
			kills = 2
		case soak:
			kills = 60
		}
		t.Run(string(of), func(t *testing.T) { killed(t, of, kills) })
	}
}

func killed(t *testing.T, of kind, kills int) {
	path, data, database := program(t), t.TempDir(), testbed.Database(t)
	cmd := serve(t, path, data, database)
	client := clientOf(t, data)
	beginWith(t, client, ordersOf(t, of), "specimen-orders")
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 2))
	p := &pouncer{t, filepath.Join(data, "laboratory", "orders"), map[string]int{}}
	total := 0
	for range kills {
		for range 20 {
			drop(t, filepath.Join(data, "stations", "inbox"), fmt.Sprintf("sheet-%05d.csv", total), heading+row(2*total)+row(2*total+1))
			total++
			p.pounce()
		}
		time.Sleep(time.Duration(r.IntN(40_000)) * time.Microsecond)
		if err := cmd.Process.Kill(); err != nil {
			t.Fatal(err)
		}
		cmd.Wait() //nolint: it was killed
		p.pounce()
		cmd = serve(t, path, data, database)
		client = clientOf(t, data)
	}
	testbed.Until(t, "everything has come out", func() bool { p.pounce(); return len(p.seen) >= 2*total })
	testbed.Until(t, "everything has ended", func() bool {
		page, err := client.Pickups(context.Background(), url.Values{"limit": {"500"}, "state": {"claimed,taken,committed,held"}})
		return err == nil && len(page.Items) == 0
	})
	p.pounce()
	p.once(2 * total)
	t.Logf("%d kills, %d files, %d records, each exactly once", kills, total, len(p.seen))
	// An orderly end.
	if err := cmd.Process.Signal(syscall.SIGTERM); err != nil {
		t.Fatal(err)
	}
	if err := cmd.Wait(); err != nil {
		t.Errorf("the service ended with %v", err)
	}
}

// TestKilledInALongRun: a run that had stored some of its outputs when it was killed leaves nothing behind when it has been done again.
func TestKilledInALongRun(t *testing.T) {
	t.Parallel()
	path, data, database := program(t), t.TempDir(), testbed.Database(t)
	cmd := serve(t, path, data, database)
	client := clientOf(t, data)
	beginWith(t, client, nil, "specimen-orders")
	const records = 3000
	var all strings.Builder
	for n := range records {
		all.WriteString(row(n))
	}
	hidden := filepath.Join(data, "laboratory", "orders", files.Hidden)
	temporaries := func() int {
		entries, err := os.ReadDir(hidden)
		if err != nil && !errors.Is(err, os.ErrNotExist) {
			t.Fatal(err)
		}
		return len(entries)
	}
	outputs := func() (n int) {
		entries, err := os.ReadDir(filepath.Dir(hidden))
		if err != nil && !errors.Is(err, os.ErrNotExist) {
			t.Fatal(err)
		}
		for _, e := range entries {
			if e.Name() != files.Hidden {
				n++
			}
		}
		return n
	}
	for n := range 10 { // a machine that is busy may see too late that it is time
		drop(t, filepath.Join(data, "stations", "inbox"), fmt.Sprintf("long-%d.csv", n), heading+all.String())
		testbed.Until(t, "it has stored outputs", func() bool { return temporaries() > 1000 || outputs() > n*records })
		if err := cmd.Process.Kill(); err != nil {
			t.Fatal(err)
		}
		cmd.Wait() //nolint: it was killed
		inTime := outputs() == n*records
		cmd = serve(t, path, data, database)
		client = clientOf(t, data)
		testbed.Until(t, "it has ended", func() bool {
			page, err := client.Pickups(context.Background(), url.Values{"state": {"delivered"}})
			return err == nil && len(page.Items) == n+1
		})
		if all, left := outputs(), temporaries(); all != (n+1)*records || left > 0 {
			t.Errorf("%d outputs and %d temporaries", all, left)
		}
		if inTime {
			return
		}
	}
	t.Error("it was never killed in time")
}

// TestDatabaseDies ends the service's private database again and again while
// files come. It is started again, and every record comes out exactly once.
func TestDatabaseDies(t *testing.T) {
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
	b := testbed.Start(t, testbed.Private(data))
	b.Publish(inOneFile(t))
	const total, deaths = 60, 3
	for i := range total {
		b.Drop("stations/inbox", fmt.Sprintf("sheet-%02d.csv", i), heading+row(i))
		if i%(total/deaths) != total/deaths/2 {
			continue
		}
		testbed.Until(t, "some have come out", func() bool { return len(b.List("laboratory/orders")) > i-5 })
		pid, err := os.ReadFile(filepath.Join(data, "postgres", "postmaster.pid"))
		if err != nil {
			t.Fatal(err)
		}
		n, err := strconv.Atoi(strings.SplitN(string(pid), "\n", 2)[0])
		if err != nil {
			t.Fatal(err)
		}
		if err := syscall.Kill(n, syscall.SIGQUIT); err != nil {
			t.Fatal(err)
		}
	}
	testbed.Until(t, "all have come out", func() bool { return len(b.List("laboratory/orders")) >= total })
	testbed.Until(t, "all have ended", func() bool {
		page, err := b.Client.Pickups(context.Background(), url.Values{"limit": {"500"}})
		if err != nil {
			return false // the database is away
		}
		ended := 0
		for _, p := range page.Items {
			if p.State == "delivered" {
				ended++
			}
		}
		return ended >= total
	})
	seen := map[string]int{}
	for _, name := range b.List("laboratory/orders") {
		for _, line := range strings.Split(b.Read("laboratory/orders", name), "\r") {
			if strings.HasPrefix(line, "ORC|") {
				seen[strings.Split(line, "|")[2]]++
			}
		}
	}
	for i := range total {
		if id := fmt.Sprintf("AP-%06d", i); seen[id] != 1 {
			t.Errorf("%s came out %d times", id, seen[id])
		}
	}
	if got := strings.Count(b.Log.String(), "is started again"); got < deaths {
		t.Errorf("the log tells of %d deaths", got)
	}
}

// TestStopWhileAtWork stops a service in the middle of a large file: the next
// one brings it to its end, once.
func TestStopWhileAtWork(t *testing.T) {
	t.Parallel()
	data, database := t.TempDir(), testbed.Database(t)
	slow := &files.Faulty{FS: files.Real{}, Fail: func(_ int64, operation, name string) error {
		if operation == "write" && strings.Contains(name, "laboratory") {
			time.Sleep(2 * time.Millisecond)
		}
		return nil
	}}
	b := testbed.Start(t, testbed.In(data, database), testbed.On(slow))
	b.Publish(inOneFile(t))
	content := thousands(60_000, 33)
	b.Drop("stations/inbox", "large.csv", content)
	testbed.Until(t, "it is at work", func() bool {
		list, err := b.Client.Routes(context.Background())
		if err != nil {
			t.Fatal(err)
		}
		for _, r := range list {
			if r.Name == "specimen-orders" {
				return len(r.Current) == 1 && r.Current[0].Balance.In > 0
			}
		}
		return false
	})
	if err := b.End(); err != nil {
		t.Fatal(err)
	}
	c := testbed.Start(t, testbed.In(data, database))
	p := c.Ended("large.csv", 0)
	if p.In != 60_000 || p.Rejected != 1819 || p.Good != 58_181 {
		t.Errorf("%+v", p)
	}
	if got := c.List("laboratory/orders"); len(got) != 1 {
		t.Errorf("outputs %v", got)
	} else if n := strings.Count(c.Read("laboratory/orders", got[0]), "MSH|"); n != 58_181 {
		t.Errorf("%d messages", n)
	}
	page, err := c.Client.Rejects(context.Background(), p.Run, url.Values{"limit": {"1000"}, "after": {"59000"}})
	if err != nil || len(page.Items) == 0 || page.Next != 0 {
		t.Errorf("%d late rejects, %v", len(page.Items), err)
	}
}

// busy says once that somebody has a held file open for writing.
type busy struct {
	files.Real
	said atomic.Bool
}

func (b *busy) Free(name string) (string, bool, error) {
	if strings.Contains(name, files.Hidden) && !b.said.Swap(true) {
		return "somebody still has the file open for writing", true, nil
	}
	return b.Real.Free(name)
}

// TestOpenedInTheLastMoment: a file that somebody opened for writing between
// the look and the taking is put back, and taken later.
func TestOpenedInTheLastMoment(t *testing.T) {
	b := testbed.Start(t, testbed.On(&busy{}))
	b.Publish(inOneFile(t))
	b.Drop("stations/inbox", "sheet.csv", heading+row(1))
	testbed.Until(t, "it has come out", func() bool { return len(b.List("laboratory/orders")) == 1 })
	page, err := b.Client.Pickups(context.Background(), url.Values{"state": {"withdrawn"}})
	if err != nil || len(page.Items) != 1 || !strings.Contains(page.Items[0].Reason, "it was put back: somebody still has the file open") {
		t.Errorf("%+v %v", page.Items, err)
	}
	if got := b.List("laboratory/orders"); len(got) != 1 || strings.Count(b.Read("laboratory/orders", got[0]), "MSH|") != 1 {
		t.Errorf("outputs %v", got)
	}
}
