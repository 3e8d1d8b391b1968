// Package run takes pickups through a route to their deliveries.
//
// The order of things is what keeps promises: notice, claim (a row), take (a
// rename into a hidden folder, then the archive), process (into hidden
// temporaries), commit (one transaction with everything about the run), publish
// (renames), record. A crash before the commit leaves temporaries that are
// swept and a run that is started over; a crash after it leaves renames that
// are gone on with. See docs/promises.md.
package run

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"path/filepath"
	"runtime/debug"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"ydrion/archive"
	"ydrion/core/finding"
	"ydrion/core/flow"
	"ydrion/core/lang"
	"ydrion/core/place"
	"ydrion/core/value"
	"ydrion/deliver"
	"ydrion/files"
	"ydrion/listen"
	"ydrion/route"
	"ydrion/store"
	"ydrion/workspace"
)

// Config is what an engine works with.
type Config struct {
	Store   *store.Store
	FS      files.FS
	Archive *archive.Archive
	Log     *slog.Logger
	// Resolve turns a folder of a route into a path.
	Resolve func(folder string) (string, error)
	// Tell is told what happens, for those who watch.
	Tell func(Event)
	// Cores bounds how many cores one run uses; 0 takes all.
	Cores int
}

// Engine runs routes.
type Engine struct {
	Config
	poke chan struct{}
	// troubles counts what has gone wrong: after trouble with the database,
	// files may be held that it no longer knows.
	troubles atomic.Int64

	mu         sync.Mutex
	compiled   map[string]*route.Compiled // by route and revision
	lanes      map[string]*sync.Mutex     // one pickup of a route at a time
	busy       map[int64]bool             // pickups that are being worked on
	tries      map[int64]try              // pickups that could not go on
	recovering map[string]bool            // routes whose open pickups are being gone on with
	current    map[int64]Progress         // by run
}

// try is when a pickup will be tried again.
type try struct {
	count int
	next  time.Time
}

// Event is something that has happened to a route or a pickup.
type Event struct {
	Kind     string        `json:"kind" enum:"pickup,progress,route"`
	Route    string        `json:"route"`
	Pickup   int64         `json:"pickup,omitempty"`
	Run      int64         `json:"run,omitempty"`
	Name     string        `json:"name,omitempty"`
	State    string        `json:"state,omitempty"`
	Reason   string        `json:"reason,omitempty"`
	Balance  *flow.Balance `json:"balance,omitempty"`
	Duration float64       `json:"seconds,omitempty"`
}

// Progress is how far a run has got.
type Progress struct {
	Pickup  int64        `json:"pickup"`
	Run     int64        `json:"run"`
	Route   string       `json:"route"`
	Name    string       `json:"name"`
	Balance flow.Balance `json:"balance"`
	Size    int64        `json:"size"`
	Since   time.Time    `json:"since"`
}

// New makes an engine ready.
func New(c Config) *Engine {
	if c.Tell == nil {
		c.Tell = func(Event) {}
	}
	return &Engine{Config: c, poke: make(chan struct{}, 1), compiled: map[string]*route.Compiled{}, lanes: map[string]*sync.Mutex{}, busy: map[int64]bool{},
		tries: map[int64]try{}, recovering: map[string]bool{}, current: map[int64]Progress{}}
}

// lane gives the lock of a route.
func (e *Engine) lane(name string) *sync.Mutex {
	e.mu.Lock()
	defer e.mu.Unlock()
	l, ok := e.lanes[name]
	if !ok {
		l = &sync.Mutex{}
		e.lanes[name] = l
	}
	return l
}

// Compiled gives a published revision ready to run.
func (e *Engine) Compiled(ctx context.Context, name, hash string) (*route.Compiled, error) {
	key := name + "/" + hash
	e.mu.Lock()
	c, ok := e.compiled[key]
	e.mu.Unlock()
	if ok {
		return c, nil
	}
	content, err := e.Store.RevisionFiles(ctx, name, hash)
	if err != nil {
		return nil, fmt.Errorf("revision %.12s of %s: %w", hash, name, err)
	}
	c, findings := route.Compile(workspace.FromFiles(content), name)
	if c == nil {
		return nil, fmt.Errorf("revision %.12s of %s no longer compiles: %w", hash, name, findings)
	}
	e.mu.Lock()
	e.compiled[key] = c
	e.mu.Unlock()
	return c, nil
}

// hold marks a pickup as being worked on; false if it is already.
func (e *Engine) hold(pickup int64) bool {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.busy[pickup] {
		return false
	}
	e.busy[pickup] = true
	return true
}

func (e *Engine) release(pickup int64) {
	e.mu.Lock()
	defer e.mu.Unlock()
	delete(e.busy, pickup)
}

// Current lists the runs that are under way.
func (e *Engine) Current() []Progress {
	e.mu.Lock()
	defer e.mu.Unlock()
	out := make([]Progress, 0, len(e.current))
	for _, p := range e.current {
		out = append(out, p)
	}
	return out
}

// Take claims a file that a listener found ready and takes it all the way. An
// error says that the file is still where it was.
func (e *Engine) Take(ctx context.Context, name, revision string, c listen.Candidate) error {
	lane := e.lane(name)
	lane.Lock()
	defer lane.Unlock()
	id, mine, err := e.Store.Claim(ctx, store.Claim{Route: name, Path: c.Path, Folder: c.Folder, Name: c.Name, Size: c.Info.Size, Modified: c.Info.Modified, Device: c.Info.Device, Inode: c.Info.Inode, Noticed: c.Noticed})
	if err != nil {
		e.troubles.Add(1)
		return err
	}
	if !mine {
		return nil
	}
	if !e.hold(id) {
		return nil
	}
	defer e.release(id)
	p := store.Pending{Pickup: id, Route: name, Path: c.Path, Folder: c.Folder, Name: c.Name, State: "claimed", Revision: &revision}
	e.settle(ctx, p, e.proceed(ctx, &p))
	if p.State == putBack {
		return errPutBack
	}
	return nil
}

// putBack is where a pickup stands whose file was found busy after all.
const putBack = "put back"

var errPutBack = errors.New("somebody opened it in the last moment; it was put back")

// settle records how an attempt ended that did not come to its end.
func (e *Engine) settle(ctx context.Context, p store.Pending, err error) {
	e.mu.Lock()
	if err == nil {
		delete(e.tries, p.Pickup)
		e.mu.Unlock()
		return
	}
	t := e.tries[p.Pickup]
	t.count++
	t.next = time.Now().Add(pause(t.count))
	e.tries[p.Pickup] = t
	e.mu.Unlock()
	if ctx.Err() != nil {
		return // stopped: the next start goes on with it
	}
	e.troubles.Add(1)
	e.Log.Error("a pickup cannot go on; it will be tried again", "pickup", p.Pickup, "route", p.Route, "file", p.Name, "error", err, "try", t.count, "again_in", pause(t.count))
	reason, _, _ := strings.Cut(err.Error(), "\n")
	if err := e.Store.Held(ctx, p.Pickup, reason); err != nil {
		e.Log.Error("recording why a pickup is held", "pickup", p.Pickup, "error", err)
	}
	e.Tell(Event{Kind: "pickup", Route: p.Route, Pickup: p.Pickup, Name: p.Name, State: "held", Reason: reason})
}

// pause grows from a second to a minute.
func pause(tries int) time.Duration {
	return min(time.Second<<min(tries-1, 6), time.Minute)
}

// proceed brings a pickup from where it stands to its end. A defect of this
// program holds the pickup that met it, and nothing else.
func (e *Engine) proceed(ctx context.Context, p *store.Pending) (err error) {
	defer func() {
		if r := recover(); r != nil {
			e.Log.Error("a defect of this program", "pickup", p.Pickup, "panic", r, "stack", string(debug.Stack()))
			err = fmt.Errorf("a defect of this program: %v", r)
		}
	}()
	if p.State == "claimed" {
		gone, err := e.take(ctx, p)
		if err != nil || gone {
			return err
		}
	}
	if p.Run == nil {
		return fmt.Errorf("pickup %d is %s but has no run", p.Pickup, p.State)
	}
	e.Tell(Event{Kind: "pickup", Route: p.Route, Pickup: p.Pickup, Run: *p.Run, Name: p.Name, State: p.State})
	started := time.Now()
	var commit store.Commit
	if p.State == "committed" {
		done, err := e.Store.Run(ctx, *p.Run)
		if err != nil {
			return err
		}
		commit.Balance, commit.Whole = flow.Balance{In: done.In, Good: done.Good, Rejected: done.Rejected, Filtered: done.Filtered}, done.Whole
		if commit.Deliveries, err = e.Store.Unpublished(ctx, *p.Run); err != nil {
			return err
		}
	} else {
		if commit, err = e.process(ctx, p); err != nil {
			return err
		}
	}
	// The archive has the original and the database knows it: what is held is
	// needed no more.
	if err := e.FS.Remove(e.holding(p)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("giving up the held file: %w", err)
	}
	if err := e.publish(ctx, commit.Deliveries); err != nil {
		return err
	}
	state, err := e.Store.Published(ctx, *p.Run, p.Pickup)
	if err != nil {
		return err
	}
	b, took := commit.Balance, time.Since(started)
	e.Log.Info("pickup ended", "pickup", p.Pickup, "route", p.Route, "file", p.Name, "state", state, "records", b.In, "good", b.Good, "rejected", b.Rejected, "seconds", took.Seconds())
	e.Tell(Event{Kind: "pickup", Route: p.Route, Pickup: p.Pickup, Run: *p.Run, Name: p.Name, State: state, Balance: &b, Duration: took.Seconds()})
	return nil
}

// holding is where a file lies until its run is committed: beside the inbox's
// files, hidden, under the pickup's number and the file's own name.
func (e *Engine) holding(p *store.Pending) string {
	return filepath.Join(filepath.Dir(p.Path), files.Hidden, fmt.Sprintf("%s%d-%s", heldPrefix, p.Pickup, p.Name))
}

const heldPrefix = "pickup-"

// Troubles counts what has gone wrong so far.
func (e *Engine) Troubles() int64 { return e.troubles.Load() }

// Restore puts files back into an inbox that are held for pickups that the
// database does not know: it has lost its latest records or is another one.
func (e *Engine) Restore(ctx context.Context, inbox string) error {
	entries, err := e.FS.List(filepath.Join(inbox, files.Hidden))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("looking for held files: %w", err)
	}
	held := map[int64]string{} // name in the hidden folder
	var ids []int64
	for _, entry := range entries {
		number, _, ok := strings.Cut(strings.TrimPrefix(entry.Name, heldPrefix), "-")
		id, err := strconv.ParseInt(number, 10, 64)
		if ok && err == nil && strings.HasPrefix(entry.Name, heldPrefix) {
			held[id] = entry.Name
			ids = append(ids, id)
		}
	}
	known, err := e.Store.OpenPaths(ctx, ids)
	if err != nil {
		return err
	}
	for id, entry := range held {
		name := strings.TrimPrefix(entry, fmt.Sprintf("%s%d-", heldPrefix, id))
		if known[id] == filepath.Join(inbox, name) {
			continue
		}
		if err := e.putBack(filepath.Join(inbox, files.Hidden, entry), inbox, name); err != nil {
			return err
		}
		e.Log.Warn("a held file that no record knows was put back", "file", name, "inbox", inbox)
	}
	return nil
}

// putBack moves a held file into its inbox again, under its name or, if there is
// another of that name by now, with a number. It is good if the file is gone.
func (e *Engine) putBack(held, inbox, name string) error {
	err := fs.ErrExist
	for n := 1; errors.Is(err, fs.ErrExist); n++ {
		err = e.FS.Move(held, filepath.Join(inbox, deliver.Counted(name, n)))
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("putting %s back into %s: %w", name, inbox, err)
	}
	return nil
}

// take moves the file out of sight and finds out what it is. It may be repeated
// after a crash at any point. It tells whether the file has gone.
func (e *Engine) take(ctx context.Context, p *store.Pending) (gone bool, err error) {
	if p.Revision == nil {
		r, err := e.Store.Route(ctx, p.Route)
		if err != nil {
			return false, err
		}
		p.Revision = &r.Revision
	}
	folder := filepath.Dir(p.Path)
	held := e.holding(p)
	if _, err := e.FS.Look(held); errors.Is(err, fs.ErrNotExist) {
		if _, err := files.HiddenFolder(e.FS, folder); err != nil {
			return false, fmt.Errorf("preparing to take %s: %w", p.Path, err)
		}
		err := e.FS.Move(p.Path, held)
		if errors.Is(err, fs.ErrNotExist) {
			e.Tell(Event{Kind: "pickup", Route: p.Route, Pickup: p.Pickup, Name: p.Name, State: "withdrawn"})
			return true, e.Store.Withdrawn(ctx, p.Pickup, "the file went away before it was taken")
		}
		if err != nil {
			return false, fmt.Errorf("taking %s: %w", p.Path, err)
		}
	} else if err != nil {
		return false, fmt.Errorf("taking %s: %w", p.Path, err)
	}
	// Out of sight nobody can open it any more: if nobody has it open for writing
	// now, it will not change.
	switch reason, err := e.FS.Free(held); {
	case err != nil:
		return false, fmt.Errorf("taking %s: %w", p.Path, err)
	case reason != "":
		if err := e.putBack(held, folder, p.Name); err != nil {
			return false, err
		}
		e.Tell(Event{Kind: "pickup", Route: p.Route, Pickup: p.Pickup, Name: p.Name, State: "withdrawn", Reason: reason})
		p.State = putBack
		return true, e.Store.Withdrawn(ctx, p.Pickup, "it was put back: "+reason)
	}
	sum, size, err := e.hash(held)
	if err != nil {
		return false, err
	}
	now := stamp()
	begun, err := e.Store.Taken(ctx, p.Pickup, sum, size, store.NewRun{Route: p.Route, Revision: *p.Revision, Now: now})
	if err != nil {
		return false, err
	}
	p.State, p.SHA256, p.Size, p.Run, p.Now, p.Before, p.BeforeName = "taken", &sum, size, &begun.Run, &now, begun.Before, begun.BeforeName
	return false, nil
}

// hash reads the held file; a change while it is read starts that over.
func (e *Engine) hash(path string) (string, int64, error) {
	for range 5 {
		f, err := e.FS.Open(path)
		if err != nil {
			return "", 0, fmt.Errorf("reading %s: %w", path, err)
		}
		before, err := f.Info()
		var sum string
		var size int64
		if err == nil {
			sum, size, err = archive.Hash(f)
		}
		after, lookErr := f.Info()
		if err := errors.Join(err, lookErr, f.Close()); err != nil {
			return "", 0, fmt.Errorf("reading %s: %w", path, err)
		}
		if before.Same(after) && size == after.Size {
			return sum, size, nil
		}
	}
	return "", 0, fmt.Errorf("reading %s: somebody keeps changing it", path)
}

// process runs the route over the original and commits.
func (e *Engine) process(ctx context.Context, p *store.Pending) (store.Commit, error) {
	none := store.Commit{}
	compiled, err := e.Compiled(ctx, p.Route, *p.Revision)
	if err != nil {
		return none, err
	}
	if held := e.holding(p); !e.Archive.Has(*p.SHA256) || e.there(held) {
		if err := e.Archive.Keep(held, *p.SHA256); err != nil {
			return none, err
		}
	}
	out := &outputs{fs: e.FS, route: compiled, run: *p.Run, name: p.Name}
	out.keep = func(list []store.Reject, first bool) error { return e.Store.KeepRejects(ctx, *p.Run, list, first) }
	if out.good, err = e.Resolve(compiled.Good.Folder); err != nil {
		return none, err
	}
	if out.rejected, err = e.Resolve(compiled.Rejected); err != nil {
		return none, err
	}
	for _, folder := range []string{out.good, out.rejected} {
		if err := deliver.Sweep(e.FS, folder, *p.Run); err != nil {
			return none, err
		}
	}
	commit, err := e.fill(ctx, p, compiled, out)
	if err != nil {
		return none, errors.Join(err, out.discard())
	}
	if err := e.Store.Commit(ctx, commit); err != nil {
		// Nobody knows whether the transaction got through: ask.
		if done, ask := e.Store.Committed(context.WithoutCancel(ctx), *p.Run); ask != nil || !done {
			return none, errors.Join(err, ask)
		}
	}
	p.State = "committed"
	return commit, nil
}

func (e *Engine) there(path string) bool {
	_, err := e.FS.Look(path)
	return err == nil
}

// fill writes a run's outputs and says what is to be committed.
func (e *Engine) fill(ctx context.Context, p *store.Pending, compiled *route.Compiled, out *outputs) (store.Commit, error) {
	original, err := e.Archive.Open(*p.SHA256)
	if err != nil {
		return store.Commit{}, err
	}
	defer original.Close()
	inputs := e.inputs(ctx, p, compiled)
	result := flow.Result{Unreadable: true}
	if !compiled.Plan.Separate {
		var problem string
		if out.fileName, problem = compiled.Plan.Names.Name(&lang.Env{Facts: inputs.Facts}, nil, 0); problem != "" {
			result.Findings = finding.List{finding.New("deliver.name", place.InFile(p.Name), "the output cannot be named: %s", problem)}
		}
	}
	if len(result.Findings) == 0 {
		defer e.watch(p, *p.Run)()
		if result, err = compiled.Plan.Run(ctx, original, inputs, out); err != nil {
			return store.Commit{}, err
		}
	}
	for i := range result.Findings {
		result.Findings[i].Place.File = p.Name
	}
	if p.Before > 0 {
		result.Findings = append(result.Findings, finding.Warn("file.again", place.InFile(p.Name), "the same content came before, as %s in pickup %d", p.BeforeName, p.Before))
	}
	commit := store.Commit{Run: *p.Run, Pickup: p.Pickup, Balance: result.Balance}
	over := compiled.Tolerate >= 0 && result.In > 0 && float64(result.Rejected) > compiled.Tolerate*float64(result.In)
	switch {
	case over:
		result.Findings = append(result.Findings, tooMany(p.Name, result.Balance, compiled.Tolerate))
		commit.Balance.Rejected, commit.Balance.Good = result.In-result.Filtered, 0
		fallthrough
	case result.Unreadable:
		commit.Whole = true
		whole, err := e.Archive.Open(*p.SHA256)
		if err != nil {
			return commit, err
		}
		defer whole.Close()
		if err := out.whole(whole, result.Findings); err != nil {
			return commit, err
		}
	case result.In == 0:
		result.Findings = append(result.Findings, finding.Warn("file.no-records", place.InFile(p.Name), "the file has a heading but no records"))
	}
	if err := out.finish(); err != nil {
		return commit, err
	}
	commit.Findings, commit.Deliveries, commit.Rejects = result.Findings, out.deliveries, out.rejects
	return commit, nil
}

func (e *Engine) inputs(ctx context.Context, p *store.Pending, compiled *route.Compiled) flow.Inputs {
	now := value.FromTime(p.Now.In(time.Local))
	ord := 0
	var told time.Time
	return flow.Inputs{
		Facts: lang.Facts{Route: compiled.Name, Now: now, Name: p.Name, Folder: p.Folder},
		Cores: e.Cores,
		Size:  p.Size,
		Sequence: func(n int) (int64, error) {
			ord++
			return e.Store.Sequence(ctx, p.Route, *p.Run, ord, n)
		},
		Progress: func(b flow.Balance) {
			e.mu.Lock()
			now := e.current[*p.Run]
			now.Balance = b
			e.current[*p.Run] = now
			e.mu.Unlock()
			if time.Since(told) > 200*time.Millisecond {
				if !told.IsZero() {
					e.Tell(Event{Kind: "progress", Route: p.Route, Pickup: p.Pickup, Run: *p.Run, Name: p.Name, State: "taken", Balance: &b})
				}
				told = time.Now()
			}
		},
	}
}

// watch makes a run visible while it is under way.
func (e *Engine) watch(p *store.Pending, run int64) (done func()) {
	e.mu.Lock()
	e.current[run] = Progress{Pickup: p.Pickup, Run: run, Route: p.Route, Name: p.Name, Since: time.Now()}
	e.mu.Unlock()
	return func() {
		e.mu.Lock()
		delete(e.current, run)
		e.mu.Unlock()
	}
}

// publish makes the outputs of a committed run visible.
func (e *Engine) publish(ctx context.Context, open []store.Delivery) error {
	folders := map[string]bool{}
	for _, d := range open {
		folders[d.Folder] = true
		for n := 1; ; n++ {
			name := deliver.Counted(d.Name, n)
			if n > 1 {
				if err := e.Store.Rename(ctx, d.Run, d.Ord, name); err != nil {
					return err
				}
			}
			outcome, err := deliver.Publish(e.FS, d.Temporary, d.Folder, name)
			if err != nil {
				return err
			}
			if outcome != deliver.Taken {
				break
			}
		}
	}
	for f := range folders {
		if err := e.FS.SyncFolder(f); err != nil {
			return err
		}
	}
	return nil
}

// retryEvery is how often pickups that could not go on are looked at.
const retryEvery = time.Second

// Recover goes on with what an earlier service has left, then with whatever is
// held or asked for, until life ends. What is under way then goes on until
// work ends. Routes do not wait for each other.
func (e *Engine) Recover(life, work context.Context) {
	var routes sync.WaitGroup
	defer routes.Wait()
	for {
		open, err := e.Store.Unfinished(life)
		if err != nil && life.Err() == nil {
			e.Log.Error("looking for open pickups", "error", err)
		}
		byRoute := map[string][]store.Pending{}
		for _, p := range open {
			byRoute[p.Route] = append(byRoute[p.Route], p)
		}
		for name, list := range byRoute {
			if !e.recover(name, true) {
				continue
			}
			routes.Go(func() {
				defer e.recover(name, false)
				for _, p := range list {
					if life.Err() != nil {
						return
					}
					e.resume(work, p)
				}
			})
		}
		select {
		case <-life.Done():
			return
		case <-e.poke:
		case <-time.After(retryEvery):
		}
	}
}

// recover marks a route as being recovered; false if it is already.
func (e *Engine) recover(name string, begin bool) bool {
	e.mu.Lock()
	defer e.mu.Unlock()
	if begin && e.recovering[name] {
		return false
	}
	e.recovering[name] = begin
	return true
}

// resume goes on with one pickup.
func (e *Engine) resume(ctx context.Context, p store.Pending) {
	e.mu.Lock()
	later := e.tries[p.Pickup].next
	e.mu.Unlock()
	if time.Now().Before(later) || !e.hold(p.Pickup) {
		return
	}
	defer e.release(p.Pickup)
	lane := e.lane(p.Route)
	lane.Lock()
	defer lane.Unlock()
	// It may have gone on since the list was made.
	now, err := e.Store.OpenPickup(ctx, p.Pickup)
	if err != nil || now.State == "delivered" || now.State == "rejected" || now.State == "withdrawn" {
		return
	}
	e.settle(ctx, now, e.proceed(ctx, &now))
}

// Again runs an ended pickup again, from the archive, with a revision.
func (e *Engine) Again(ctx context.Context, pickup int64, name, revision string) (run int64, err error) {
	run, err = e.Store.Again(ctx, pickup, store.NewRun{Route: name, Revision: revision, Again: true, Now: stamp()})
	if err != nil {
		return 0, err
	}
	select {
	case e.poke <- struct{}{}:
	default: // it has been told already
	}
	return run, nil
}
