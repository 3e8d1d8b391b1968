package lead

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"ydrion/files"
	"ydrion/listen"
	"ydrion/route"
	"ydrion/run"
	"ydrion/store"
	"ydrion/workspace"
)

// records keep what is asked of the database, in memory.
type records struct {
	mu       sync.Mutex
	leading  store.Leading
	applied  []string
	yielded  []string
	hints    []string
	rescued  []string
	slow     time.Duration  // how long the answer to sharing out takes to come
	conducts map[string]int // how often each route was begun
}

func (r *records) Lead(_ context.Context, _ int64, rescue []string) (store.Leading, error) {
	r.mu.Lock()
	r.rescued = rescue
	answer, slow := r.leading, r.slow
	r.mu.Unlock()
	time.Sleep(slow)
	return answer, nil
}

func (r *records) Yield(_ context.Context, _ int64, name string) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.yielded = append(r.yielded, name)
	r.leading.Mine = slices.DeleteFunc(slices.Clone(r.leading.Mine), func(m store.Route) bool { return m.Name == name })
	r.leading.Surplus = 0
	return nil
}

func (r *records) Applied(_ context.Context, node int64, name string, version int64) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.applied = append(r.applied, fmt.Sprintf("%s %d by %d", name, version, node))
	for i := range r.leading.Mine {
		if r.leading.Mine[i].Name == name {
			r.leading.Mine = slices.Clone(r.leading.Mine)
			r.leading.Mine[i].Applied = true
		}
	}
	return nil
}

func (r *records) LeftFiles(context.Context, string) ([]store.LeftFile, error) { return nil, nil }

func (r *records) Hint(_ context.Context, what string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.hints = append(r.hints, what)
}

func (r *records) read(f func()) {
	r.mu.Lock()
	defer r.mu.Unlock()
	f()
}

// conductor does nothing but end when it should, or with a defect.
type conductor struct {
	done  chan struct{}
	err   error
	stuck atomic.Pointer[run.Stuck]
}

func (c *conductor) Set(store.Route)                          {}
func (c *conductor) Listen(*listen.Listener, *route.Compiled) {}
func (c *conductor) Look()                                    {}
func (c *conductor) Tidy() error                              { return nil }
func (c *conductor) Behind() map[string]int                   { return nil }
func (c *conductor) Stuck(time.Duration) *run.Stuck           { return c.stuck.Load() }
func (c *conductor) Done() <-chan struct{}                    { return c.done }
func (c *conductor) Err() error                               { return c.err }

// stand is a leader with records and conductors in memory and inboxes in a folder. Its
// time is that of a synctest bubble.
type stand struct {
	*Leader
	records *records
	folder  string
	fs      *files.Faulty
	closed  atomic.Bool        // whether closed.csv cannot be opened
	broken  atomic.Bool        // whether folders cannot be made
	lose    context.CancelFunc // ends the node's life
	mu      sync.Mutex
	told    []string
	refuse  error // of joining
	joined  int
	conduct func(life context.Context, name string) *conductor
}

func newStand(t *testing.T, conduct func(life context.Context, name string) *conductor, names ...string) *stand {
	t.Helper()
	s := &stand{conduct: conduct, records: &records{conducts: map[string]int{}}, folder: t.TempDir()}
	s.fs = &files.Faulty{FS: files.Real{}, Fail: func(_ int64, operation, name string) error {
		if operation == "free" && strings.HasSuffix(name, "closed.csv") && s.closed.Load() {
			return os.ErrPermission
		}
		if operation == "make folder" && s.broken.Load() {
			return os.ErrPermission
		}
		return nil
	}}
	for _, n := range names {
		s.records.leading.Mine = append(s.records.leading.Mine, store.Route{Name: n, Revision: "r1", Running: true, Version: 1})
		if err := os.Mkdir(filepath.Join(s.folder, n), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	say := func(f string, args ...any) {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.told = append(s.told, fmt.Sprintf(f, args...))
	}
	s.Leader = New(Config{
		Records: s.records, Join: s.joinAgain, FS: s.fs, Log: slog.New(slog.DiscardHandler), Still: time.Minute,
		Resolve: func(folder string) (string, error) { return filepath.Join(s.folder, folder), nil },
		Compiled: func(_ context.Context, name, revision string) (*route.Compiled, error) {
			if revision == "bad" {
				return nil, errors.New("it does not compile")
			}
			return &route.Compiled{Hash: revision, Route: &workspace.Route{Name: name, Listen: workspace.Listen{Folder: name, Names: "*", Notice: workspace.ByLooks, Rhythm: time.Second}}}, nil
		},
		Conduct: func(life, _ context.Context, _ run.Node, r store.Route) Conductor {
			s.records.read(func() { s.records.conducts[r.Name]++ })
			if s.conduct != nil {
				if c := s.conduct(life, r.Name); c != nil {
					return c
				}
			}
			c := &conductor{done: make(chan struct{})}
			context.AfterFunc(life, func() { close(c.done) })
			return c
		},
		Alert:  func(a store.Alert, _ bool) { say("%s of %s: %s", a.Kind, a.Route, a.Message) },
		Over:   func(kind, about string) { say("over: %s of %s", kind, about) },
		Hint:   func(string) bool { return true },
		Looked: func(context.Context) {},
		Away:   func(_ time.Time, why error) { say("away: %v", why) },
		Back:   func(since time.Time) { say("back after %s", time.Since(since).Truncate(time.Second)) },
	})
	life, end := context.WithCancel(context.Background())
	var running sync.WaitGroup
	running.Go(func() { s.Run(life, life, nil) })
	running.Go(func() { s.Watch(life) })
	t.Cleanup(func() { end(); running.Wait() })
	return s
}

func (s *stand) joinAgain(context.Context) (Node, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.refuse != nil {
		return Node{}, s.refuse
	}
	s.joined++
	life, lose := context.WithCancel(context.Background())
	hints := make(chan string)
	context.AfterFunc(life, func() { close(hints) })
	s.lose = lose
	return Node{Node: run.Node{ID: int64(s.joined)}, Life: life, Hints: hints, Leave: lose}, nil
}

// said gives what people were told and begins anew.
func (s *stand) said() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := s.told
	s.told = nil
	return out
}

func (s *stand) refuses(err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.refuse = err
}

// TestAnotherNode: a service that has lost the database leads its routes again as another
// node, tells people of a long time without it, once, and does what is decided only once
// its listeners work.
func TestAnotherNode(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := newStand(t, nil, "orders", "results")
		time.Sleep(5 * time.Second)
		if err := s.Ready(); err != nil {
			t.Error(err)
		}
		s.refuses(errors.New("connection refused"))
		s.said()
		s.lose()
		synctest.Wait()
		if n := len(s.All()); n != 0 {
			t.Errorf("%d routes are still led by a node that is not sure of itself", n)
		}
		time.Sleep(time.Minute + 200*time.Millisecond)
		if err := s.Ready(); err == nil {
			t.Error("a service without a database says that it is ready")
		}
		s.refuses(nil)
		s.records.read(func() {
			for i := range s.records.leading.Mine {
				s.records.leading.Mine[i].Applied = false
			}
		})
		time.Sleep(5 * time.Second)
		told := slices.DeleteFunc(s.said(), func(w string) bool { return strings.HasPrefix(w, "over: defect") })
		if want := []string{"away: connection refused", "back after 1m0s"}; !slices.Equal(told, want) {
			t.Errorf("people were told %q, not %q", told, want)
		}
		s.records.read(func() {
			slices.Sort(s.records.applied)
			if want := []string{"orders 1 by 1", "orders 1 by 2", "results 1 by 1", "results 1 by 2"}; !slices.Equal(s.records.applied, want) {
				t.Errorf("applied %q, not %q", s.records.applied, want)
			}
		})
	})
}

// TestDefectHoldsOneRoute: a defect ends the work on one route, which begins again after
// a while that grows; the others go on.
func TestDefectHoldsOneRoute(t *testing.T) {
	for _, how := range []string{"panics", "ends with a defect"} {
		t.Run(how, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				s := newStand(t, func(_ context.Context, name string) *conductor {
					if name != "bad" {
						return nil
					}
					if how == "panics" {
						panic("a nil map")
					}
					c := &conductor{done: make(chan struct{}), err: errors.New("a nil map")}
					close(c.done)
					return c
				}, "good", "bad")
				time.Sleep(31 * time.Second) // begun at 0, 2, 6, 14 and 30 seconds
				s.records.read(func() {
					if got := s.records.conducts; got["good"] != 1 || got["bad"] != 5 {
						t.Errorf("begun so often: %v", got)
					}
				})
				if p := s.Route("bad").Problem(); !strings.Contains(p, "a nil map") {
					t.Errorf("the problem of the route is %q", p)
				}
				if p := s.Route("good").Problem(); p != "" || s.Route("good").Listener() == nil {
					t.Errorf("the other route does not run: %q", p)
				}
				if told := s.said(); !slices.ContainsFunc(told, func(w string) bool { return strings.HasPrefix(w, "defect of bad") }) || slices.ContainsFunc(told, func(w string) bool { return strings.HasPrefix(w, "defect of good") }) {
					t.Errorf("people were told %q", told)
				}
			})
		})
	}
}

// TestShareIsGivenAtRest: a route that others should lead is given up only when nothing
// is under way in it any more.
func TestShareIsGivenAtRest(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := newStand(t, func(life context.Context, _ string) *conductor {
			c := &conductor{done: make(chan struct{})}
			context.AfterFunc(life, func() { time.Sleep(30 * time.Second); close(c.done) })
			return c
		}, "a", "b", "c")
		s.records.read(func() { s.records.slow = 700 * time.Millisecond }) // an answer can be older than the giving up
		time.Sleep(2 * time.Second)
		s.records.read(func() { s.records.leading.Surplus = 1 })
		time.Sleep(20 * time.Second)
		s.records.read(func() {
			if len(s.records.yielded) != 0 {
				t.Errorf("%q was given up while something was under way", s.records.yielded)
			}
		})
		time.Sleep(20 * time.Second)
		s.records.read(func() {
			if !slices.Equal(s.records.yielded, []string{"c"}) || !slices.Contains(s.records.hints, "route c") {
				t.Errorf("given up: %q; others were told %q", s.records.yielded, s.records.hints)
			}
		})
		s.records.read(func() {
			if n := s.records.conducts["c"]; n != 1 {
				t.Errorf("it was begun %d times", n)
			}
		})
		if s.Route("c") != nil || s.Route("a") == nil || s.Route("b") == nil {
			t.Errorf("it leads %d routes", len(s.All()))
		}
	})
}

// TestNobodyLeads: of a route without a leader people are told and the service is not
// ready; after a while this node asks for it although it is not its share.
func TestNobodyLeads(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := newStand(t, nil)
		s.records.read(func() { s.records.leading.Orphans = []string{"orders"} })
		time.Sleep(15 * time.Second)
		if told := s.said(); len(told) != 0 || s.Ready() != nil {
			t.Errorf("too early: %q, %v", told, s.Ready())
		}
		time.Sleep(10 * time.Second)
		if told := s.said(); len(told) == 0 || !strings.HasPrefix(told[0], "no leader of orders") || s.Ready() == nil {
			t.Errorf("people were told %q, and readiness is %v", told, s.Ready())
		}
		s.records.read(func() {
			if len(s.records.rescued) != 0 {
				t.Errorf("it asks for %q too early", s.records.rescued)
			}
		})
		time.Sleep(10 * time.Second)
		s.records.read(func() {
			if !slices.Equal(s.records.rescued, []string{"orders"}) {
				t.Errorf("it asks for %q", s.records.rescued)
			}
			s.records.leading.Orphans = nil
		})
		s.said()
		time.Sleep(2 * time.Second)
		if told := s.said(); !slices.Contains(told, "over: no leader of orders") || s.Ready() != nil {
			t.Errorf("afterwards: %q, %v", told, s.Ready())
		}
	})
}

// TestCannotRun: a route that cannot run says why and runs once it can; nothing is
// recorded as in effect with the old revision.
func TestCannotRun(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := newStand(t, nil, "orders")
		s.records.read(func() { s.records.leading.Mine[0].Revision = "bad" })
		time.Sleep(10 * time.Second)
		if p := s.Route("orders").Problem(); p != "it does not compile" || s.Route("orders").Listener() != nil {
			t.Errorf("the problem is %q", p)
		}
		s.records.read(func() {
			s.records.leading.Mine = []store.Route{{Name: "orders", Revision: "r2", Running: true, Version: 2}}
		})
		time.Sleep(5 * time.Second)
		r := s.Route("orders")
		if p := r.Problem(); p != "" || r.Listener() == nil || r.Compiled().Hash != "r2" {
			t.Errorf("after a good revision: %q", p)
		}
		// It stops, and its listener ends with it.
		s.records.read(func() {
			s.records.leading.Mine = []store.Route{{Name: "orders", Revision: "r2", Version: 3}}
		})
		time.Sleep(5 * time.Second)
		if r.Listener() != nil {
			t.Error("a stopped route listens")
		}
	})
}

// TestStandstill: what does not move is told, and that it moves again.
func TestStandstill(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		c := &conductor{done: make(chan struct{})}
		c.stuck.Store(&run.Stuck{Pickup: 7, What: "the share does not answer"})
		s := newStand(t, func(life context.Context, _ string) *conductor {
			context.AfterFunc(life, func() { close(c.done) })
			return c
		}, "orders")
		time.Sleep(7 * time.Second)
		if told := s.said(); !slices.Contains(told, "standstill of orders: orders stands still: the share does not answer") {
			t.Errorf("people were told %q", told)
		}
		c.stuck.Store(nil)
		time.Sleep(6 * time.Second)
		if told := s.said(); !slices.Contains(told, "over: standstill of orders") {
			t.Errorf("people were told %q", told)
		}
	})
}

// TestUnreadable: a file that cannot be opened stays in the inbox, and people are told so
// after a while, and when it is over.
func TestUnreadable(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := newStand(t, nil, "orders")
		s.closed.Store(true)
		for _, name := range []string{"closed.csv", "open.csv"} {
			if err := os.WriteFile(filepath.Join(s.folder, "orders", name), []byte("a"), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		time.Sleep(50 * time.Second)
		if told := strings.Join(s.said(), "\n"); strings.Contains(told, "closed.csv") {
			t.Errorf("too early: %s", told)
		}
		time.Sleep(20 * time.Second)
		if told := strings.Join(s.said(), "\n"); !strings.Contains(told, "held of orders: closed.csv of orders stays in the inbox since ") || !strings.Contains(told, ": permission to read it is missing") || strings.Contains(told, "open.csv") {
			t.Errorf("people were told %q", told)
		}
		s.closed.Store(false)
		time.Sleep(10 * time.Second)
		if told := s.said(); !slices.Contains(told, "over: held of orders inbox") {
			t.Errorf("people were told %q", told)
		}
	})
}

// TestFailsAndWorksAgain: a route whose folder cannot be listened to is failing for as long as
// that is so, at every moment, and not any longer.
func TestFailsAndWorksAgain(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := newStand(t, nil, "orders")
		time.Sleep(5 * time.Second)
		if p := s.Route("orders").Problem(); p != "" {
			t.Fatal(p)
		}
		for range 2 {
			s.broken.Store(true)
			// It is found out when the folder is looked at anew: by a new revision here.
			s.records.read(func() {
				r := s.records.leading.Mine[0]
				r.Version, r.Revision, r.Applied = r.Version+1, fmt.Sprintf("r%d", r.Version+1), false
				s.records.leading.Mine = []store.Route{r}
			})
			time.Sleep(5 * time.Second)
			for range 100 {
				if p := s.Route("orders").Problem(); p == "" {
					t.Fatal("it does not fail although its folder cannot be made")
				}
				time.Sleep(70 * time.Millisecond)
			}
			s.broken.Store(false)
			time.Sleep(5 * time.Second)
			for range 100 {
				if p := s.Route("orders").Problem(); p != "" {
					t.Fatalf("it fails although everything is good: %s", p)
				}
				time.Sleep(70 * time.Millisecond)
			}
		}
	})
}
