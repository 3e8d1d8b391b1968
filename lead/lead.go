// Package lead shares the routes out among the nodes of one database and leads those that
// fall to this node: each in a goroutine of its own, so that a route whose folder hangs, or
// that meets a defect of this program, keeps nobody else.
package lead

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"ydrion/fetch"
	"ydrion/files"
	"ydrion/listen"
	"ydrion/receive"
	"ydrion/remote"
	"ydrion/route"
	"ydrion/run"
	"ydrion/store"
)

// Config is what a service leads its routes with.
type Config struct {
	Records Records
	// Join makes the service a node. The node's life ends when it is not sure any more
	// that nobody has taken over what it leads.
	Join func(ctx context.Context) (Node, error)
	// Conduct begins to work on a route's pickups, until life ends; when work ends, it
	// leaves even what is under way.
	Conduct func(life, work context.Context, node run.Node, r store.Route) Conductor
	// Compiled gives a route as it was published.
	Compiled func(ctx context.Context, name, revision string) (*route.Compiled, error)
	// Resolve turns a folder of a route into a path.
	Resolve func(folder string) (string, error)
	FS      files.FS
	// Places are the servers that files are fetched from. What was fetched waits below the folder Holding; Mark is that of the
	// installation, and Fetches what is recorded of it.
	Places  *remote.Places
	Holding string
	Mark    string
	Fetches fetch.Records
	// Answers brings what becomes of what was received to those who wait for it.
	Answers *receive.Answers
	Watcher *listen.Watcher // nil: folders are looked at instead
	Log     *slog.Logger
	// Alert is told what a person should know; over says that it is a thing of the
	// moment. Over is told that the reason of an alert has gone away.
	Alert func(a store.Alert, over bool)
	Over  func(kind, about string)
	// Hint is told what other nodes said that is not about leading. It is false if the
	// hint is not known, which may come from a later edition of this program: then there
	// is a look at everything.
	Hint func(hint string) bool
	// Looked is called after each look that nobody asked for, once a second.
	Looked func(ctx context.Context)
	// Away is told that the database has been away since a time, and why, and Back that
	// it answers again after that was told.
	Away func(since time.Time, why error)
	Back func(since time.Time)
	// Still is how long something may not move before people are told.
	Still time.Duration
}

// Records is what leading asks of the database. The real one is a *store.Store, where
// each of these is described.
type Records interface {
	Lead(ctx context.Context, node int64, rescue []string) (store.Leading, error)
	Yield(ctx context.Context, node int64, route string) error
	Applied(ctx context.Context, node int64, route string, version int64) error
	LeftFiles(ctx context.Context, route string) ([]store.LeftFile, error)
	Hint(ctx context.Context, what string)
}

// Node is this service's life among the nodes.
type Node struct {
	run.Node
	Life  context.Context // ends when the node is not sure any more that it lives
	Hints <-chan string   // what other nodes say; closed when the life ends
	Leave func()
}

// Conductor is what leading asks of a *run.Conductor.
type Conductor interface {
	Set(r store.Route)
	Listen(l *listen.Listener, c *route.Compiled)
	Look()
	Tidy() error
	Stuck(after time.Duration) *run.Stuck
	Behind() map[string]int
	Done() <-chan struct{}
	Err() error
}

// Hints about routes that nodes give each other.
const (
	hintRoute  = "route "  // a route was published, started, stopped, paused, asked
	hintPickup = "pickup " // there is something to do for a route's pickups
)

// Leader leads routes for one service: one node after the other, for as long as the
// service lives.
type Leader struct {
	Config
	signal chan struct{} // there may be something to do

	mu     sync.Mutex
	node   *Node
	routes map[string]*Route
	round  int            // how often the routes were shared out
	given  map[string]int // routes that were given up, and in which round
	others int            // living nodes besides this one
	shared time.Time      // when the routes were last shared out
	lonely []string       // routes that nobody has led for a while
	tasks  sync.WaitGroup
}

// New makes a leader that is not a node yet.
func New(c Config) *Leader {
	return &Leader{Config: c, routes: map[string]*Route{}, given: map[string]int{}, signal: make(chan struct{}, 1)}
}

// Route gives a route that this node leads, nil if it does not.
func (l *Leader) Route(name string) *Route {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.routes[name]
}

// All gives the routes that this node leads, by name.
func (l *Leader) All() map[string]*Route {
	l.mu.Lock()
	defer l.mu.Unlock()
	return maps.Clone(l.routes)
}

// Node is the number of the node that the service is, 0 if it is none at the moment.
func (l *Leader) Node() int64 {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.node == nil {
		return 0
	}
	return l.node.ID
}

// Others is how many nodes live besides this one.
func (l *Leader) Others() int {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.others
}

// Shared is when the routes were last shared out, zero if they never were.
func (l *Leader) Shared() time.Time {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.shared
}

// sharedWithin is how long ago the routes may have been shared out for a node that works.
const sharedWithin = 15 * time.Second

// Ready tells whether this node shares the routes out, and each running route has a
// leader. It is nil if so, and otherwise says what is wrong.
func (l *Leader) Ready() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	switch {
	case l.shared.IsZero():
		return errors.New("the node has not joined the others yet")
	case time.Since(l.shared) > sharedWithin:
		return fmt.Errorf("the node has not shared out the routes since %s", l.shared.Format("15:04:05 MST"))
	case len(l.lonely) > 0:
		return fmt.Errorf("no node works on %s", strings.Join(l.lonely, ", "))
	}
	return nil
}

// Changed tells this node and all others that people have decided something about a route.
func (l *Leader) Changed(ctx context.Context, name string) {
	l.nudge()
	l.Records.Hint(ctx, hintRoute+name)
}

// ToDo tells whichever node leads a route that there is something to do for its pickups.
func (l *Leader) ToDo(ctx context.Context, name string) {
	if r := l.Route(name); r != nil {
		r.Look()
		return
	}
	l.Records.Hint(ctx, hintPickup+name)
}

// nudge lets the node look at once what it is to do.
func (l *Leader) nudge() {
	select {
	case l.signal <- struct{}{}:
	default: // it has been told already
	}
}

const (
	// awayFor is how long the database may be away before people are told.
	awayFor = 20 * time.Second
	// rejoinEvery is how often a service tries to be a node again.
	rejoinEvery = 500 * time.Millisecond
)

// Run leads routes as node and, when that node's life has ended, as others, until life
// ends. With a nil node it joins first. When work ends, it leaves even what is under way.
func (l *Leader) Run(life, work context.Context, node *Node) {
	defer l.tasks.Wait()
	for {
		if node != nil {
			if l.asNode(life, work, node); life.Err() != nil {
				return
			}
			l.Log.Error("the database cannot be reached, or not in time: nothing is taken until it answers")
		}
		if node = l.join(life); node == nil {
			return
		}
		l.Log.Info("the database answers again", "node", node.ID)
	}
}

// join makes the service a node as soon as that can be. It is nil if the service's life
// has ended before.
func (l *Leader) join(life context.Context) *Node {
	since, told := time.Now(), false
	for life.Err() == nil {
		node, err := l.Join(life)
		if err == nil {
			if told {
				l.Back(since)
			}
			return &node
		}
		if !told && time.Since(since) > awayFor {
			told = true
			l.Away(since, err)
		}
		select {
		case <-life.Done():
		case <-time.After(rejoinEvery):
		}
	}
	return nil
}

// lookEvery is how often a node looks whether others have died, and whether there is
// something to do that it was not told.
const lookEvery = time.Second

// asNode leads routes as one node, until the node's or the service's life ends.
func (l *Leader) asNode(life, work context.Context, node *Node) {
	life, end := context.WithCancel(life)
	work, kill := context.WithCancel(work)
	defer kill()
	// A node that is not sure any more that it lives leaves everything as it is.
	defer context.AfterFunc(node.Life, func() { end(); kill() })()
	l.mu.Lock()
	l.node = node
	l.mu.Unlock()
	defer func() {
		end()
		all := l.All()
		for _, r := range all {
			r.end()
		}
		for _, r := range all {
			l.letGo(r)
		}
		node.Leave()
	}()
	alone := map[string]time.Time{} // routes that nobody leads, and since when
	for life.Err() == nil {
		l.mu.Lock()
		l.round++
		l.mu.Unlock()
		mine, err := l.Records.Lead(work, node.ID, overdue(alone))
		switch {
		case errors.Is(err, store.ErrGone):
			return
		case err != nil && life.Err() == nil:
			l.Log.Error("sharing out the routes", "error", err)
		case err == nil:
			l.mu.Lock()
			l.others, l.shared = mine.Others, time.Now()
			// The answer may be older than a route's being given up meanwhile.
			mine.Mine = slices.DeleteFunc(mine.Mine, func(r store.Route) bool { return l.given[r.Name] == l.round })
			maps.DeleteFunc(l.given, func(_ string, round int) bool { return round < l.round })
			l.mu.Unlock()
			l.reconcile(life, work, node, mine)
			l.orphans(alone, mine.Orphans)
		}
		if !l.await(life, node.Hints) {
			return
		}
	}
}

const (
	// aloneFor is how long a route may have no leader, or one that does not do what
	// people decided, before somebody is told, and rescueAfter how long before another
	// node takes it although it is not its share.
	aloneFor    = 20 * time.Second
	rescueAfter = 30 * time.Second
)

// overdue are the routes that nobody has led for too long.
func overdue(alone map[string]time.Time) (out []string) {
	for name, since := range alone {
		if time.Since(since) > rescueAfter {
			out = append(out, name)
		}
	}
	return out
}

// orphans follows the routes that nobody leads as they should be led.
func (l *Leader) orphans(alone map[string]time.Time, now []string) {
	for name := range alone {
		if !slices.Contains(now, name) {
			delete(alone, name)
			l.Over("no leader", name)
		}
	}
	late := []string{}
	for _, name := range now {
		if alone[name].IsZero() {
			alone[name] = time.Now()
		}
		if time.Since(alone[name]) > aloneFor {
			late = append(late, name)
			l.Alert(store.Alert{Kind: "no leader", Route: name, About: name, Message: fmt.Sprintf("no node works on %s as people have decided, since %s", name, alone[name].Format("15:04:05 MST"))}, false)
		}
	}
	l.mu.Lock()
	l.lonely = late
	l.mu.Unlock()
}

// await waits until there may be something to do. It is false when the hints have ended:
// the node is not alive any more.
func (l *Leader) await(life context.Context, hints <-chan string) bool {
	timer := time.NewTimer(lookEvery)
	defer timer.Stop()
	for {
		select {
		case <-life.Done():
			return true
		case <-timer.C:
			l.Looked(life)
			return true
		case <-l.signal:
			return true
		case hint, ok := <-hints:
			if !ok {
				return false
			}
			if name, isPickup := strings.CutPrefix(hint, hintPickup); isPickup {
				if r := l.Route(name); r != nil {
					r.Look()
				}
			} else if !l.Hint(hint) {
				return true
			}
		}
	}
}

// reconcile makes what this node does what it is to do. It waits for nothing.
func (l *Leader) reconcile(life, work context.Context, node *Node, mine store.Leading) {
	wanted := map[string]bool{}
	for _, r := range mine.Mine {
		wanted[r.Name] = true
		if led := l.Route(r.Name); led != nil {
			led.set(r)
			continue
		}
		led := l.lead(life, work, node, r)
		l.mu.Lock()
		l.routes[r.Name] = led
		l.mu.Unlock()
	}
	for name, r := range l.All() {
		if !wanted[name] && r.life.Err() == nil {
			r.end()
			l.tasks.Go(func() { l.letGo(r) })
		}
	}
	// Others want their share: the last ones are given up, once they are at rest.
	for i := len(mine.Mine) - 1; i >= 0 && mine.Surplus > 0; i-- {
		mine.Surplus--
		r := l.Route(mine.Mine[i].Name)
		if r == nil || r.life.Err() != nil {
			continue
		}
		r.end()
		l.tasks.Go(func() {
			<-r.done
			if err := l.Records.Yield(work, node.ID, r.name); err != nil {
				if work.Err() == nil {
					l.Log.Error("giving up a route", "route", r.name, "error", err)
				}
			} else {
				l.mu.Lock()
				l.given[r.name] = l.round
				l.mu.Unlock()
				l.Records.Hint(work, hintRoute+r.name)
			}
			l.letGo(r)
		})
	}
}

// letGo ends the work on a route.
func (l *Leader) letGo(r *Route) {
	r.end()
	<-r.done
	l.mu.Lock()
	if l.routes[r.name] == r {
		delete(l.routes, r.name)
	}
	l.mu.Unlock()
}

// watchEvery is how often routes are looked at for things that do not move.
const watchEvery = 5 * time.Second

// Watch tells people of what does not move although nothing holds it, until life ends: a
// stage that hangs in a file system, a file that is ready and not taken. Whatever the
// reason, it must not be silent.
func (l *Leader) Watch(life context.Context) {
	for {
		select {
		case <-life.Done():
			return
		case <-time.After(watchEvery):
		}
		for _, r := range l.All() {
			r.watch()
		}
	}
}
