// Package run takes pickups through a route to their deliveries.
//
// The order of things is what keeps promises: notice, claim (a row), take (a
// rename into a hidden folder, then the archive), process (into hidden
// temporaries), commit (one transaction with everything about the run), publish
// (renames), record. A crash before the commit leaves temporaries that are
// swept and a run that is started over; a crash after it leaves renames that
// are gone on with. See docs/promises.md.
//
// Each route has a Conductor, on the one node that leads the route. Pickups pass
// its stages in groups: what is ready at the same time is claimed, synced,
// committed and recorded together.
package run

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"log/slog"
	"maps"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"ydrion/archive"
	"ydrion/core/flow"
	"ydrion/core/order"
	"ydrion/deliver"
	"ydrion/files"
	"ydrion/remote"
	"ydrion/route"
	"ydrion/store"
	"ydrion/workspace"
)

// Config is what an engine works with.
type Config struct {
	Store   Records
	Mark    string // of the installation, in the names of hidden files
	Spool   string // folder for outputs whose destinations are out of order
	FS      files.FS
	Archive *archive.Archive
	Log     *slog.Logger
	// Own is the folder below which what was fetched or received waits to be taken: nobody else reaches it. Empty: there is none.
	Own string
	// Resolve turns a folder of a route into a path.
	Resolve func(folder string) (string, error)
	// Places are the servers that outputs are brought to.
	Places *remote.Places
	// Tell is told what happens, for those who watch.
	Tell func(Event)
	// Alert is told what a person should know; over says that it is a thing of
	// the moment.
	Alert func(a store.Alert, over bool)
	// Over is told that the reason of an alert has gone away.
	Over func(kind, about string)
	// Cores bounds how many cores one run uses; 0 takes all.
	Cores int
	// Clock is what time it is for timetables; nil: the machine's.
	Clock func() time.Time
}

// Engine is what the conductors of a service share.
type Engine struct {
	Config
	turns chan struct{} // one for each core: routes take turns, see turn
	names files.Turns   // names that outputs get, in place of others
	avoid atomic.Int64  // until when (nanoseconds) whole file systems are not synced

	mu       sync.Mutex
	compiled map[string]*route.Compiled // by route and revision
	current  map[int64]Progress         // by run

	withTables map[string]withTables // by route
}

// Event is something that has happened to a route or a pickup.
type Event struct {
	Kind     string        `json:"kind" enum:"pickup,progress,route,alert"`
	Route    string        `json:"route"`
	Pickup   int64         `json:"pickup,omitempty"`
	Run      int64         `json:"run,omitempty"`
	Name     string        `json:"name,omitempty"`
	State    string        `json:"state,omitempty"`
	Reason   string        `json:"reason,omitempty"`
	Balance  *flow.Balance `json:"balance,omitempty"`
	Stage    flow.Stage    `json:"stage,omitempty"`
	About    int64         `json:"about,omitempty"`
	Duration float64       `json:"seconds,omitempty"`

	Output *deliver.Made `json:"-"` // of an answer
}

// Answer is the kind of an event that is for whoever sent the file and waits for an answer, and for nobody else.
const Answer = "answer"

// Progress is how far a run has got.
type Progress struct {
	Pickup  int64        `json:"pickup"`
	Run     int64        `json:"run"`
	Route   string       `json:"route"`
	Name    string       `json:"name"`
	Balance flow.Balance `json:"balance"`
	Size    int64        `json:"size"`
	Since   time.Time    `json:"since"`
	Stage   flow.Stage   `json:"stage" enum:"ordering,working" doc:"ordering: its records are read, to be put into another order"`
	File    int          `json:"file" doc:"which of its files is read, from 1"`
	Files   int          `json:"files" doc:"how many it has"`
	About   int64        `json:"about" doc:"how many records there will have been, about; 0: that is not known yet"`
	// Branches tell of how many records each has made something, where the route has several.
	Branches []BranchProgress `json:"branches"`
}

// BranchProgress is how far a run has got in a branch.
type BranchProgress struct {
	Name    string `json:"name"`
	Records int64  `json:"records"`
}

// New makes an engine ready.
func New(c Config) *Engine {
	if c.Tell == nil {
		c.Tell = func(Event) {}
	}
	if c.Clock == nil {
		c.Clock = time.Now
	}
	if c.Places == nil {
		c.Places = remote.New(&workspace.Environment{})
	}
	if c.Alert == nil {
		c.Alert, c.Over = func(store.Alert, bool) {}, func(string, string) {}
	}
	return &Engine{Config: c, turns: make(chan struct{}, runtime.GOMAXPROCS(0)), compiled: map[string]*route.Compiled{}, current: map[int64]Progress{}, withTables: map[string]withTables{}}
}

// Spill makes room for records that are put into order and do not fit into memory.
func (e *Engine) Spill() (order.Spill, error) { return files.Unnamed(e.Spool) }

// maxCompiled is how many revisions are kept ready to run.
const maxCompiled = 1000

// Compiled gives a published revision ready to run.
func (e *Engine) Compiled(ctx context.Context, name, hash string) (*route.Compiled, error) {
	key := name + "/" + hash
	e.mu.Lock()
	c, ok := e.compiled[key]
	e.mu.Unlock()
	if ok {
		return c, nil
	}
	var err error
	if c, err = e.compile(ctx, name, hash, nil); err != nil {
		return nil, err
	}
	e.mu.Lock()
	if len(e.compiled) >= maxCompiled {
		clear(e.compiled)
	}
	e.compiled[key] = c
	e.mu.Unlock()
	return c, nil
}

// compile compiles a published revision, with other contents of some lookups.
func (e *Engine) compile(ctx context.Context, name, hash string, tables map[string]string) (*route.Compiled, error) {
	content, err := e.Store.RevisionFiles(ctx, name, hash)
	if err != nil {
		return nil, fmt.Errorf("revision %.12s of %s: %w", hash, name, err)
	}
	if len(tables) > 0 {
		content = maps.Clone(content)
		for table, text := range tables {
			content["lookups/"+table+".csv"] = []byte(text)
		}
	}
	w := workspace.FromFiles(content)
	for was, r := range w.Routes { // a revision is of one route, which may have had another name then
		delete(w.Routes, was)
		r.Name = name
		w.Routes[name] = r
		break
	}
	c, findings := route.Compile(w, name)
	if c == nil {
		return nil, fmt.Errorf("revision %.12s of %s no longer compiles: %w", hash, name, findings)
	}
	return c, nil
}

// With gives a revision that looks codes up in other contents than those that were published, by the names of the
// tables.
func (e *Engine) With(ctx context.Context, of *route.Compiled, tables map[string]string) (*route.Compiled, error) {
	if len(tables) == 0 {
		return of, nil
	}
	sum := sha256.New()
	for _, name := range slices.Sorted(maps.Keys(tables)) {
		fmt.Fprintf(sum, "%d %s %d %s", len(name), name, len(tables[name]), tables[name])
	}
	key := of.Hash + hex.EncodeToString(sum.Sum(nil))
	e.mu.Lock()
	last, is := e.withTables[of.Name]
	e.mu.Unlock()
	if is && last.key == key && !of.Joins() {
		return last.compiled, nil
	}
	c, err := e.compile(ctx, of.Name, of.Hash, tables)
	if err == nil {
		c.Hash = of.Hash
	}
	if err == nil && !of.Joins() {
		e.mu.Lock()
		e.withTables[of.Name] = withTables{key, c} // of each route the last: tables may be large
		e.mu.Unlock()
	}
	return c, err
}

// withTables is a revision that looks codes up in certain contents.
type withTables struct {
	key      string
	compiled *route.Compiled
}

// Current lists the runs that are under way.
func (e *Engine) Current() []Progress {
	e.mu.Lock()
	defer e.mu.Unlock()
	out := make([]Progress, 0, len(e.current))
	for _, p := range e.current {
		out = append(out, p)
	}
	slices.SortFunc(out, func(a, b Progress) int { return int(a.Run - b.Run) })
	return out
}

// watch makes a run visible while it is under way.
func (e *Engine) watch(p *store.Pending, run int64, files int) (done func()) {
	e.mu.Lock()
	e.current[run] = Progress{Pickup: p.Pickup, Run: run, Route: p.Route, Name: p.Name, Size: p.Size, Since: time.Now(), Stage: flow.Working, File: 1, Files: files, Branches: []BranchProgress{}}
	e.mu.Unlock()
	return func() {
		e.mu.Lock()
		delete(e.current, run)
		e.mu.Unlock()
	}
}

// stamp is the time that a run's map sees: whole microseconds, which is what
// the store keeps, so that a later run can see the same.
func stamp() time.Time { return time.Now().Truncate(time.Microsecond) }

// pause grows from a second to a minute.
func pause(tries int) time.Duration {
	return min(time.Second<<min(max(tries, 1)-1, 6), time.Minute)
}

// tried is how long something has been tried that failed so many times.
func tried(tries int) (long time.Duration) {
	for n := 1; n <= min(tries, 7); n++ {
		long += pause(n)
	}
	return long + time.Duration(max(0, tries-7))*time.Minute
}
