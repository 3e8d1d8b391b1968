package run

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"testing/synctest"
	"time"

	"ydrion/archive"
	"ydrion/demo"
	"ydrion/files"
	"ydrion/listen"
	"ydrion/route"
	"ydrion/store"
	"ydrion/timetable"
	"ydrion/workspace"
)

// stand is a conductor alone: with records in memory, real files, and a clock that
// jumps to where something happens next.
type stand struct {
	*Conductor
	t       *testing.T
	data    string
	records *memory
	fs      *files.Faulty
	fails   atomic.Pointer[func(call int64, operation, name string) error] // what the file system is asked before each call
	sure    atomic.Bool

	mu     sync.Mutex
	alerts []string
}

// newStand begins to lead the demo's route with orders in one file each, and listens.
// It must be called in a bubble of synctest.
func newStand(t *testing.T, settings string) *stand { return newStandOf(t, settings, false) }

// newStandOf is one whose inbox only we can reach, or not.
func newStandOf(t *testing.T, settings string, own bool) *stand {
	t.Helper()
	w, err := workspace.Load(demo.Workspace())
	if err != nil {
		t.Fatal(err)
	}
	const file = "routes/specimen-orders.yaml"
	text := string(w.Files[file])
	for old, now := range map[string]string{`{specimen_id}-{sequence | pad 6 \"0\"}.hl7`: "{file.stem}.hl7", "one file per: record": "one file per: pickup", "names: \"*.csv\"\n": "names: \"*.csv\"\n  notice: looks\n  rhythm: 1s\n", "read:\n": settings + "read:\n"} {
		if !strings.Contains(text, old) {
			t.Fatalf("the demo's route does not hold %q any more; this test must follow", old)
		}
		text = strings.Replace(text, old, now, 1)
	}
	content := map[string][]byte{}
	for n, c := range w.Files {
		content[n] = c
	}
	content[file] = []byte(text)
	loaded := workspace.FromFiles(content)
	if loaded.Findings.HasErrors() {
		t.Fatal(loaded.Findings)
	}
	compiled, findings := route.Compile(loaded, "specimen-orders")
	if compiled == nil {
		t.Fatal(findings)
	}
	s := &stand{t: t, data: t.TempDir(), records: &memory{leader: 1}, fs: &files.Faulty{FS: files.Real{}}}
	s.fs.Fail = func(call int64, operation, name string) error {
		if fail := s.fails.Load(); fail != nil {
			return (*fail)(call, operation, name)
		}
		return nil
	}
	s.sure.Store(true)
	environment := workspace.Environment{Places: workspace.Folders(map[string]string{"stations": "stations", "laboratory": "laboratory"})}
	resolve := func(folder string) (string, error) { return environment.Resolve(folder, s.data) }
	only := ""
	if own {
		only = filepath.Join(s.data, "stations")
	}
	e := New(Config{Own: only, Store: s.records, Mark: "test", Spool: filepath.Join(s.data, "spool"), FS: s.fs, Archive: archive.New(s.fs, filepath.Join(s.data, "archive")), Log: slog.New(slog.DiscardHandler), Resolve: resolve, Cores: 1,
		Alert: func(a store.Alert, _ bool) {
			s.mu.Lock()
			defer s.mu.Unlock()
			s.alerts = append(s.alerts, a.Kind+": "+a.Message)
		},
		Over: func(string, string) {}})
	e.compiled["specimen-orders/"+compiled.Hash] = compiled
	life, end := context.WithCancel(context.Background())
	s.Conductor = e.Conduct(life, life, Node{ID: 1, Sure: s.sure.Load, Fresh: s.sure.Load}, store.Route{Name: "specimen-orders", Revision: compiled.Hash, Running: true})
	inbox, err := resolve(compiled.Listen.Folder)
	if err != nil {
		t.Fatal(err)
	}
	l := &listen.Listener{Settings: compiled.Listen, InOrder: compiled.Order.Lane != "none", Folder: inbox, FS: files.Real{}, Log: e.Log}
	l.Start()
	s.Listen(l, compiled)
	var listening sync.WaitGroup
	listening.Go(func() { l.Run(life) }) //nolint: the folder is there
	t.Cleanup(func() {
		end()
		<-s.Done()
		listening.Wait()
	})
	<-l.Up()
	return s
}

// drop renames a sheet of one row into the inbox.
func (s *stand) drop(name string) { s.dropRow(name, 1) }

// dropRow renames a sheet of a row with the nth number into the inbox.
func (s *stand) dropRow(name string, n int) {
	s.t.Helper()
	sample, err := demo.Files().Open("brunholm-2026-11-23.csv")
	if err != nil {
		s.t.Fatal(err)
	}
	defer sample.Close()
	buf := make([]byte, 64<<10)
	size, _ := sample.Read(buf)
	lines := strings.SplitAfter(string(buf[:size]), "\n")
	inbox := filepath.Join(s.data, "stations", "inbox")
	part := filepath.Join(inbox, ".part")
	if err := os.WriteFile(part, []byte(lines[0]+strings.Replace(lines[1], "BR-1101", fmt.Sprintf("BR-%d", 1100+n), 1)), 0o644); err != nil {
		s.t.Fatal(err)
	}
	if err := os.Rename(part, filepath.Join(inbox, name)); err != nil {
		s.t.Fatal(err)
	}
}

func (s *stand) orders() (names []string) {
	entries, _ := os.ReadDir(filepath.Join(s.data, "laboratory", "orders")) //nolint: not there yet
	for _, e := range entries {
		if !strings.HasPrefix(e.Name(), ".") {
			names = append(names, e.Name())
		}
	}
	return names
}

// breaks gives what breaks calls of the records, or mends them; "files" are moves and the like, those of them that are
// chosen.
func (s *stand) breaks(chosen func() bool) (set func(what string, is bool)) {
	var mu sync.Mutex
	broken := map[string]bool{}
	is := func(what string) bool { mu.Lock(); defer mu.Unlock(); return broken[what] }
	fail := func(_ int64, operation, name string) error {
		if is("files") && (operation == "move" || operation == "link" || operation == "create") && chosen() {
			return syscall.EIO
		}
		return nil
	}
	s.fails.Store(&fail)
	s.records.fails(func(call string) error {
		if is(call) {
			return errors.New("the database is away")
		}
		return nil
	})
	return func(what string, is bool) { mu.Lock(); broken[what] = is; mu.Unlock() }
}

func (s *stand) told(part string) int {
	s.mu.Lock()
	defer s.mu.Unlock()
	n := 0
	for _, a := range s.alerts {
		if strings.Contains(a, part) {
			n++
		}
	}
	return n
}

// within waits until something is so and tells how long, by the bubble's clock.
func (s *stand) within(what string, limit time.Duration, condition func() bool) time.Duration {
	s.t.Helper()
	began := time.Now()
	for !condition() {
		if time.Since(began) > limit {
			s.t.Fatalf("not within %s: %s; %v %v", limit, what, s.records.states(), s.orders())
		}
		time.Sleep(20 * time.Millisecond)
	}
	return time.Since(began)
}

// TestRetries: a pickup that cannot go on is tried again after pauses that grow to a
// minute, and comes out when it can, hours later.
func TestRetries(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := newStand(t, "")
		var refuses atomic.Bool
		var tries atomic.Int64
		fail := func(_ int64, operation, name string) error {
			if operation == "move" && strings.Contains(name, "laboratory") && refuses.Load() {
				tries.Add(1)
				return syscall.EIO
			}
			return nil
		}
		s.fails.Store(&fail)
		refuses.Store(true)
		s.drop("a.csv")
		s.within("it is held", time.Minute, func() bool { return slices.Equal(s.records.states(), []string{"a.csv=held"}) })
		time.Sleep(time.Hour)
		// 1+2+4+8+16+32 s, then every minute.
		if n := tries.Load(); n < 60 || n > 70 {
			t.Errorf("%d tries in an hour", n)
		}
		if s.told("cannot go on") == 0 {
			t.Error("nobody was told")
		}
		refuses.Store(false)
		if took := s.within("it comes out", 2*time.Minute, func() bool { return len(s.orders()) == 1 }); took > 70*time.Second {
			t.Errorf("it took %s", took)
		}
	})
}

// TestRetryLimit: when the limit is over a person is told once more, since it is another
// thing to know.
func TestRetryLimit(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := newStand(t, "")
		s.compiled.Retry.For = 5 * time.Minute
		fail := func(_ int64, operation, name string) error {
			if operation == "move" && strings.Contains(name, "laboratory") {
				return syscall.EIO
			}
			return nil
		}
		s.fails.Store(&fail)
		s.drop("a.csv")
		s.within("it is given up", 10*time.Minute, func() bool { return s.told("is not tried any more and waits for a person") == 1 })
		before := s.told("a.csv")
		time.Sleep(time.Hour)
		if after := s.told("a.csv"); after != before {
			t.Errorf("%d alerts when it was given up, %d an hour later", before, after)
		}
	})
}

// TestOldAnswer: a pickup that ends while the records answer which are open is not begun again because of
// what they say: it would be delivered twice.
func TestOldAnswer(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := newStand(t, "")
		s.records.mu.Lock()
		s.records.late = func() { time.Sleep(3 * time.Second) }
		s.records.mu.Unlock()
		time.Sleep(20 * time.Second) // it has begun, and waits for files
		var asked atomic.Bool
		fail := func(_ int64, operation, name string) error {
			if operation == "create" && strings.Contains(name, "laboratory") && asked.CompareAndSwap(false, true) {
				s.Look() // the records are asked meanwhile, and answer when all is over
				time.Sleep(2 * time.Second)
			}
			return nil
		}
		s.fails.Store(&fail)
		s.drop("a.csv")
		s.within("it has come out", time.Minute, func() bool { return len(s.orders()) > 0 })
		time.Sleep(time.Minute)
		if got := s.orders(); len(got) != 1 {
			t.Errorf("it came out as %v", got)
		}
		if states := s.records.states(); !slices.Equal(states, []string{"a.csv=delivered"}) {
			t.Error(states)
		}
	})
}

// TestOrderInMemory: whatever the records and the files refuse for a while, a lane comes
// out in order, each file once.
func TestOrderInMemory(t *testing.T) {
	for seed := range uint64(40) {
		synctest.Test(t, func(t *testing.T) {
			s := newStandOf(t, "order:\n  lane: all\n  failure: holds\n\n", seed%2 > 0)
			r := rand.New(rand.NewPCG(seed, 3))
			set := s.breaks(func() bool { return true })
			calls := []string{"files", "claim", "claim lost", "begin", "begin lost", "taken", "taken lost", "held", "commit", "abandon", "published", "unfinished", "holders", "numbers", "owners"}
			const total = 30
			for n := range total {
				s.drop(fmt.Sprintf("f%03d.csv", n))
				if r.IntN(2) == 0 {
					set(calls[r.IntN(len(calls))], r.IntN(3) > 0)
				}
				time.Sleep(time.Duration(r.IntN(3000)) * time.Millisecond)
			}
			for _, c := range calls {
				set(c, false)
			}
			s.within(fmt.Sprintf("all of %d have come out", seed), time.Hour, func() bool { return len(s.orders()) == total })
			s.within("all have ended", time.Hour, func() bool {
				return !slices.ContainsFunc(s.records.states(), func(p string) bool { return !strings.HasSuffix(p, "=delivered") && !strings.HasSuffix(p, "=withdrawn") })
			})
			last := ""
			for _, p := range s.records.states() {
				name, state, _ := strings.Cut(p, "=")
				if state != "delivered" {
					continue
				}
				if name <= last {
					t.Fatalf("seed %d: %s came after %s", seed, name, last)
				}
				last = name
			}
		})
	}
}

// TestHangs: a stage that hangs in a file system is found, and gives its turn to others.
func TestHangs(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := newStand(t, "")
		hangs := make(chan struct{})
		fail := func(_ int64, operation, name string) error {
			if operation == "create" && strings.Contains(name, "laboratory") {
				<-hangs
			}
			return nil
		}
		s.fails.Store(&fail)
		s.drop("a.csv")
		s.within("it is at work", time.Minute, func() bool { return len(s.e.turns) == 1 })
		s.within("its turn is given to others", time.Minute, func() bool { return len(s.e.turns) == 0 })
		if stuck := s.Stuck(2 * time.Minute); stuck != nil {
			t.Errorf("after %s already: %+v", quietTurn, stuck)
		}
		time.Sleep(3 * time.Minute)
		if stuck := s.Stuck(2 * time.Minute); stuck == nil || stuck.Pickup != 1 || !strings.Contains(stuck.What, "processing a.csv (pickup 1) has shown no sign of life for 3m") {
			t.Errorf("%+v", stuck)
		}
		close(hangs)
		s.within("it comes out", time.Minute, func() bool { return len(s.orders()) == 1 })
		if stuck := s.Stuck(2 * time.Minute); stuck != nil {
			t.Errorf("%+v", stuck)
		}
	})
}

// TestGivenUp: a node that is not sure of its lease any more leaves no mark.
func TestGivenUp(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := newStand(t, "")
		s.drop("a.csv")
		s.within("it comes out", time.Minute, func() bool { return len(s.orders()) == 1 })
		s.sure.Store(false)
		s.drop("b.csv")
		time.Sleep(10 * time.Minute)
		if _, err := os.Lstat(filepath.Join(s.data, "stations", "inbox", "b.csv")); err != nil {
			t.Errorf("it was moved: %v", err)
		}
		if got := s.orders(); len(got) != 1 {
			t.Errorf("%v", got)
		}
	})
}

// TestDefect: a defect in a stage ends the work on the route, and says so; nothing else
// ends.
func TestDefect(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := newStand(t, "")
		s.records.fails(func(call string) error {
			if call == "unfinished" {
				s.records.mu.Unlock()
				panic("a defect that was put here")
			}
			return nil
		})
		s.Look()
		<-s.Done()
		var d *Defect
		if err := s.Err(); !errors.As(err, &d) || !strings.Contains(d.Stack, "resume") {
			t.Errorf("%v", err)
		}
	})
}

// TestDue: a clock that was set back does not keep a pickup from being tried.
func TestDue(t *testing.T) {
	now := time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)
	for left, want := range map[time.Duration]bool{-time.Second: true, 0: true, time.Second: false, time.Minute: false, time.Hour: true} {
		next := now.Add(left)
		if is, _ := due(&next, now); is != want {
			t.Errorf("%s before its next try: %v", left, is)
		}
	}
}

// TestClockSetBack: a moment of the timetable that is to come by a clock that was set back since the route began is kept.
func TestClockSetBack(t *testing.T) {
	half, err := timetable.ParseClock("06:30")
	if err != nil {
		t.Fatal(err)
	}
	days, err := timetable.ParseDays("mon-fri")
	if err != nil {
		t.Fatal(err)
	}
	at := func(minute, second int) time.Time { return time.Date(2026, 11, 25, 6, minute, second, 0, time.UTC) }
	c := &Conductor{e: New(Config{Store: &memory{leader: 1}, Log: slog.New(slog.DiscardHandler)}), node: Node{ID: 1}, name: "orders", work: context.Background(), began: at(31, 0)}
	table := &timetable.Table{At: []timetable.Clock{half}, Days: days, Zone: time.UTC}
	if _, ok, reason, wait := c.timetable(table, at(29, 57), time.Time{}); ok || wait != 3*time.Second || !strings.Contains(reason, "06:30 UTC on Wednesday, 25 November") {
		t.Errorf("%v, %q, in %s", ok, reason, wait)
	}
	if _, ok, reason, _ := c.timetable(table, at(30, 0), time.Time{}); !ok || !strings.Contains(reason, "Thursday, 26 November") {
		t.Errorf("%v, %q", ok, reason)
	}
}

// TestTidy removes temporaries of runs that are over or have long been unknown, and
// leaves what is written, what will be published, and what others wrote.
func TestTidy(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := newStand(t, "")
		var refuses atomic.Bool
		fail := func(_ int64, operation, name string) error {
			if refuses.Load() && operation == "move" && strings.Contains(name, "laboratory") {
				return syscall.EIO
			}
			return nil
		}
		s.fails.Store(&fail)
		s.drop("a.csv")
		s.within("it comes out", time.Minute, func() bool { return slices.Equal(s.records.states(), []string{"a.csv=delivered"}) })
		refuses.Store(true)
		s.drop("b.csv")
		s.within("it is held", time.Minute, func() bool { return slices.Equal(s.records.states(), []string{"a.csv=delivered", "b.csv=held"}) })
		hidden := filepath.Join(s.data, "laboratory", "orders", files.Hidden)
		put := func(name string, age time.Duration) {
			path := filepath.Join(hidden, name)
			if err := os.WriteFile(path, nil, 0o644); err != nil {
				t.Fatal(err)
			}
			when := time.Now().Add(-age)
			if err := os.Chtimes(path, when, when); err != nil {
				t.Fatal(err)
			}
		}
		put("run-test-1001-1-left", 0)                 // of the first pickup's run, which is over
		put("run-test-77-1-all-0", time.Hour)          // of a run that nobody knows, young
		put("run-test-78-1-all-0", 8*24*time.Hour)     // and old
		put("run-other-1001-1-all-0", 30*24*time.Hour) // of another installation
		put("something else", 30*24*time.Hour)
		if err := s.Tidy(); err != nil {
			t.Fatal(err)
		}
		entries, err := os.ReadDir(hidden)
		if err != nil {
			t.Fatal(err)
		}
		var left []string
		for _, e := range entries {
			left = append(left, e.Name())
		}
		if want := []string{"run-other-1001-1-all-0", "run-test-1002-1-all-0", "run-test-77-1-all-0", "something else"}; !slices.Equal(left, want) {
			t.Errorf("left %v, want %v", left, want)
		}
		refuses.Store(false)
		s.within("the other comes out", 5*time.Minute, func() bool { return len(s.orders()) == 2 })
	})
}

// TestPuzzled: a file that cannot be looked into for a fault of its sender holds nobody
// else; one that the file system does not give waits with those behind it for a moment.
func TestPuzzled(t *testing.T) {
	for _, test := range []struct {
		problem error
		holds   bool
	}{{files.ErrNotRegular, false}, {os.ErrPermission, false}, {syscall.EIO, true}} {
		synctest.Test(t, func(t *testing.T) {
			s := newStand(t, "order:\n  lane: \"{station}\"\n  failure: holds\n\n")
			fail := func(_ int64, operation, name string) error {
				if operation == "open" && strings.HasSuffix(name, "/inbox/bad.csv") {
					return test.problem
				}
				return nil
			}
			s.fails.Store(&fail)
			s.drop("bad.csv")
			time.Sleep(10 * time.Millisecond)
			s.drop("good.csv")
			took := s.within("the other comes out", time.Minute, func() bool { return slices.Equal(s.orders(), []string{"good.hl7"}) })
			if limit := mostPuzzled * puzzledFor; (took > limit) != test.holds {
				t.Errorf("%v: the other came out after %s", test.problem, took)
			}
			if states := s.records.states(); !slices.Equal(states, []string{"good.csv=delivered"}) {
				t.Errorf("%v: %v", test.problem, states)
			}
		})
	}
}

// TestTakenOnce: a file that cannot be taken for a while has one pickup, however often
// it is noticed meanwhile.
func TestTakenOnce(t *testing.T) {
	for n, order := range []string{"", "order:\n  lane: \"{station}\"\n  failure: holds\n\n", "", "order:\n  lane: \"{station}\"\n  failure: holds\n\n"} {
		synctest.Test(t, func(t *testing.T) {
			s := newStandOf(t, order, n > 1)
			var refuses atomic.Bool
			refuses.Store(true)
			fail := func(_ int64, operation, name string) error {
				if operation == "move" && refuses.Load() {
					return syscall.EIO
				}
				return nil
			}
			s.fails.Store(&fail)
			s.drop("a.csv")
			s.within("it is held", time.Minute, func() bool { return slices.Equal(s.records.states(), []string{"a.csv=held"}) })
			time.Sleep(10 * time.Minute)
			refuses.Store(false)
			s.within("it comes out", 2*time.Minute, func() bool { return len(s.orders()) == 1 })
			if states := s.records.states(); !slices.Equal(states, []string{"a.csv=delivered"}) {
				t.Errorf("%v", states)
			}
		})
	}
}

// TestTakenAndBack: a file whose run is open, and which a file system that lost its power has back in the inbox, is not
// taken a second time.
func TestTakenAndBack(t *testing.T) {
	for _, own := range []bool{false, true} {
		synctest.Test(t, func(t *testing.T) { takenAndBack(t, newStandOf(t, "", own)) })
	}
}

func takenAndBack(t *testing.T, s *stand) {
	{
		var refuses atomic.Bool
		refuses.Store(true)
		fail := func(_ int64, operation, name string) error {
			if operation == "sync file" || operation == "sync folder" || operation == "sync all" || operation == "move" && strings.Contains(name, "laboratory") {
				if refuses.Load() {
					return syscall.EIO
				}
			}
			return nil
		}
		s.fails.Store(&fail)
		s.drop("a.csv")
		s.within("it is held", time.Minute, func() bool { return slices.Equal(s.records.states(), []string{"a.csv=held"}) })
		inbox := filepath.Join(s.data, "stations", "inbox")
		held, err := filepath.Glob(filepath.Join(inbox, files.Hidden, "pickup-*"))
		if err == nil && len(held) == 1 {
			err = os.Rename(held[0], filepath.Join(inbox, "a.csv"))
		}
		if err != nil {
			t.Fatal(held, err)
		}
		time.Sleep(2 * time.Second)
		if states := s.records.states(); !slices.Equal(states, []string{"a.csv=held"}) {
			t.Errorf("%v", states)
		}
		refuses.Store(false)
		s.within("it comes out", 5*time.Minute, func() bool { return len(s.orders()) == 1 })
		time.Sleep(5 * time.Minute)
		if states := s.records.states(); !slices.Equal(states, []string{"a.csv=delivered"}) || len(s.orders()) != 1 {
			t.Errorf("%v %v", states, s.orders())
		}
	}
}
