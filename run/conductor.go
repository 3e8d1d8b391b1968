package run

import (
	"context"
	"errors"
	"fmt"
	"runtime/debug"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"ydrion/core/finding"
	"ydrion/core/flow"
	"ydrion/deliver"
	"ydrion/files"
	"ydrion/listen"
	"ydrion/route"
	"ydrion/store"
)

// Node is this service's life among others, as far as conductors need to know it.
type Node struct {
	ID int64
	// Sure tells whether nobody can have taken over what the node leads. It is asked
	// before everything that leaves a mark on a file system.
	Sure func() bool
	// Fresh tells whether it was heard of lately. Otherwise the records are asked
	// before anything is done.
	Fresh func() bool
}

// errGiven says that a node must not go on: it may have been given up.
var errGiven = errors.New("this node may have been given up by the others")

// Conductor takes the pickups of one route through the stages, in order. It
// works on the node that leads the route.
//
// Groups of pickups go from stage to stage: take, process, commit, publish, each
// in a goroutine of its own, so that one group is committed while the next is
// processed; a group never passes another. Their ends are recorded by another one.
type Conductor struct {
	e    *Engine
	node Node
	name string
	fs   files.FS // leaves no mark once the node is not sure any more

	life   context.Context // ends when nothing new is to be begun
	work   context.Context // ends when what is under way is to be left
	cancel context.CancelCauseFunc
	signal chan struct{} // there may be something to do
	done   chan struct{}

	// fetching is held while files are chosen and claimed, so that nobody changes by
	// which revision that is done in the middle of it.
	fetching sync.Mutex

	mu       sync.Mutex
	listener *listen.Listener
	stood    map[string]int64 // files that were put back while there was none, by path, with their pickups
	compiled *route.Compiled  // the revision for new pickups
	state    store.Route
	until    time.Time // files that were noticed up to then may be taken, whatever the timetable says
	asked    time.Time // when somebody last asked that they are
	began    time.Time // by the clock of timetables
	led      time.Time // by the machine's
	failures int       // in a row
	stalled  int       // pickups that are being tried again
	troubles int       // since held files were last compared with the records
	restored time.Time // when they were; zero: not yet
	looked   time.Time // when the records were last looked through

	busy    map[int64]bool      // pickups on their way
	left    map[int64]bool      // those that have left it since the records were asked for open ones, and whether they may go on
	taken   map[string]identity // files of open pickups that have a run and wait, by path
	lanes   *lanes
	shelf   []shelved           // fetched and not claimed, in order
	retryAt time.Time           // when to look through the records again; zero: when something happens
	look    bool                // the records have to be looked through
	puzzled map[string]int      // by path: how often a file's lane could not be told
	moved   [ended]time.Time    // when each stage last got on with something
	at      [ended]*item        // what each stage is working on
	tookAt  time.Time           // when files were last claimed
	gated   string              // why files are not taken for now
	beat    [ended]atomic.Int64 // when (nanoseconds) that last showed a sign of life

	collecting *collecting // files that wait for others

	ending ending

	senders map[string]*sender // by place
	sending map[int64]*parcels // what pickups have on its way to servers
	sends   sync.WaitGroup

	newest atomic.Int64 // the last run of which outputs came out that take the place of others

	stock   store.Block // sequence numbers in hand; only the process stage touches them
	stocked time.Time
}

// identity tells a file from others of its name.
type identity struct {
	inode    uint64
	size     int64
	modified int64 // microseconds
}

func identityOf(inode uint64, size int64, modified time.Time) identity {
	return identity{inode, size, modified.UnixMicro()}
}

// isTaken tells whether a file is that of an open pickup: a file system that lost its power may have it back in the inbox.
// The pickup takes it again.
func (c *Conductor) isTaken(s listen.Candidate) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	known, is := c.taken[s.Path]
	return is && known == identityOf(s.Info.Inode, s.Info.Size, s.Info.Modified)
}

// item is a pickup on its way through the stages.
type item struct {
	store.Pending
	compiled *route.Compiled
	resumed  bool   // it was begun before: it may have left something behind
	held     string // where its file lies; empty: not asked yet
	unmarked bool   // its marker has been removed
	together bool   // it is taken with others, or not at all
	alone    bool   // nobody but us can reach the file that was taken
	content  []byte
	verdict  *verdict
	out      *outputs
	commit   store.Commit
	balance  flow.Balance // of the file
	whole    bool         // it was rejected as one piece
	branches []store.BranchOf
	sum      flow.Balance // of all files of its run
	started  time.Time
	stage    stage
	members  []*item // the others of its run, where that is of several files
	part     store.Part
	ord      int          // which of the files of its run it is, from 1
	back     bool         // it is in the inbox again
	said     finding.List // about the run, besides what its files have
	handed   bool         // what it has for servers has been handed over
	parked   bool         // waits for its lane
	freed    bool         // need not wait any longer
	over     bool         // its end is recorded
}

type stage int

const (
	taking stage = iota
	processing
	committing
	publishing
	concluding
	ended // or given up for now
)

func (s stage) String() string {
	return [...]string{"taking", "processing", "committing", "publishing", "concluding", "ended"}[s]
}

// shelved is a candidate with the text that its order comes from.
type shelved struct {
	listen.Candidate
	keys
}

// keys are the texts made from a file before it is taken.
type keys struct {
	lane, by, key *string
	with          string // what the files have in common that it is collected with
}

// groupFiles and groupBytes bound what goes through the stages together.
const (
	groupFiles = 96
	groupBytes = 4 << 20
)

// Conduct begins to lead a route. Life ends when nothing new is to be begun;
// what is under way then goes on until work ends.
func (e *Engine) Conduct(life, work context.Context, node Node, r store.Route) *Conductor {
	c := &Conductor{e: e, node: node, name: r.Name, state: r, began: e.Clock(), led: time.Now(), signal: make(chan struct{}, 1), done: make(chan struct{}), look: true,
		busy: map[int64]bool{}, stood: map[string]int64{}, left: map[int64]bool{}, taken: map[string]identity{}, lanes: newLanes(), puzzled: map[string]int{}, senders: map[string]*sender{}, sending: map[int64]*parcels{}, ending: ending{ready: make(chan struct{}, 1)}}
	c.work, c.cancel = context.WithCancelCause(work)
	lifeEnds, endLife := context.WithCancel(life)
	context.AfterFunc(c.work, endLife)
	c.life = lifeEnds
	c.fs = files.Fenced{FS: e.FS, May: func() error {
		if !node.Sure() {
			return errGiven
		}
		return nil
	}}
	var stages sync.WaitGroup
	taken, made, committed := make(chan []*item), make(chan []*item), make(chan []*item)
	stages.Go(func() { defer close(taken); c.supervise(func() { c.feed(taken) }) })
	stages.Go(func() { defer close(made); c.supervise(func() { c.pass(taken, made, processing, c.process) }) })
	stages.Go(func() { defer close(committed); c.supervise(func() { c.pass(made, committed, committing, c.commit) }) })
	stages.Go(func() { c.supervise(func() { c.pass(committed, nil, publishing, c.publish) }) })
	over := make(chan struct{})
	var last sync.WaitGroup
	last.Go(func() { c.supervise(func() { c.conclusions(over) }) })
	go func() {
		stages.Wait()
		endLife()
		c.sends.Wait()
		close(over)
		last.Wait()
		c.cancel(nil)
		close(c.done)
	}()
	return c
}

// Defect is what stopped a conductor that was not asked to stop.
type Defect struct {
	What  any
	Stack string
}

func (d *Defect) Error() string { return fmt.Sprintf("a defect of this program: %v", d.What) }

// supervise ends the work on the route, and on nothing else, when a stage panics.
func (c *Conductor) supervise(stage func()) {
	defer func() {
		if p := recover(); p != nil {
			d := &Defect{p, string(debug.Stack())}
			c.e.Log.Error("a defect of this program holds a route", "route", c.name, "panic", p, "stack", d.Stack)
			c.cancel(d)
		}
	}()
	stage()
}

// Done is closed when the conductor has ended.
func (c *Conductor) Done() <-chan struct{} { return c.done }

// Err tells which defect ended the conductor, nil if none did.
func (c *Conductor) Err() error {
	var d *Defect
	if errors.As(context.Cause(c.work), &d) {
		return d
	}
	return nil
}

// Look lets the conductor look whether there is something to do, and whether
// files are held for pickups that somebody has ended.
func (c *Conductor) Look() {
	c.mu.Lock()
	c.look = true
	c.troubles++
	c.mu.Unlock()
	c.wake()
}

func (c *Conductor) wake() {
	select {
	case c.signal <- struct{}{}:
	default: // it has been told already
	}
}

// Set tells how the route stands: whether it is paused, or was asked to take. What is
// taken afterwards is taken by that.
func (c *Conductor) Set(r store.Route) {
	c.fetching.Lock()
	defer c.fetching.Unlock()
	c.mu.Lock()
	c.state = r
	c.mu.Unlock()
	c.wake()
}

// Listen takes files from a listener with a revision; a nil listener ends that. What
// is taken afterwards is taken by that.
func (c *Conductor) Listen(l *listen.Listener, compiled *route.Compiled) {
	if l != nil {
		c.e.FS.Confine(l.Folder)
		c.confine(compiled)
	}
	c.fetching.Lock()
	defer c.fetching.Unlock()
	c.mu.Lock()
	c.listener, c.compiled = l, compiled
	if l != nil {
		for path, pickup := range c.stood {
			l.Before(path, pickup)
		}
		clear(c.stood)
	}
	c.lanes.waiting, c.shelf = map[string][]shelved{}, nil
	clear(c.puzzled)
	c.collecting = newCollecting()
	c.look, c.restored = true, time.Time{}
	c.mu.Unlock()
	c.wake()
}

// confine lets nothing that is planted in a destination lead out of it.
func (c *Conductor) confine(compiled *route.Compiled) {
	for _, f := range c.destinations(compiled) {
		c.e.FS.Confine(f)
	}
}

// destinations are the folders of this machine that a route delivers to.
func (c *Conductor) destinations(compiled *route.Compiled) (out []string) {
	for _, d := range compiled.Destinations() {
		if d.Lookup != "" {
			continue
		}
		if folder, err := c.e.Resolve(d.Folder); err == nil {
			out = append(out, folder)
		}
	}
	if folder, err := c.e.Resolve(compiled.Rejected.Folder); err == nil {
		out = append(out, folder)
	}
	return slices.DeleteFunc(out, isDistant)
}

// maker makes the outputs of a run.
func (c *Conductor) maker(run int64) deliver.Maker {
	return deliver.Maker{FS: c.fs, Mark: c.e.Mark, Run: run, Node: c.node.ID}
}

// pass takes groups through a stage, which may keep pickups back.
func (c *Conductor) pass(from <-chan []*item, to chan<- []*item, at stage, do func([]*item) []*item) {
	for {
		var group []*item
		select {
		case group = <-from:
		case <-c.work.Done():
			return
		}
		if group == nil {
			return // nothing comes any more
		}
		if c.work.Err() == nil && c.still(group) {
			group = do(group)
		}
		c.moves(at, nil)
		if len(group) == 0 {
			continue
		}
		if to != nil {
			select {
			case to <- group:
			case <-c.work.Done():
				return
			}
			continue
		}
		for _, it := range group {
			c.leave(it)
		}
	}
}

// still tells whether pickups are this node's. It may have slept: then the records are
// asked, and what has been given to another node is not touched any more.
func (c *Conductor) still(group []*item) bool {
	if c.node.Fresh() {
		return true
	}
	var ids []int64
	for _, it := range group {
		ids = append(ids, it.Pickup)
	}
	mine, err := c.e.Store.Mine(c.work, c.node.ID, ids)
	if err != nil {
		c.trouble("asking whether pickups are still this node's", err)
	}
	for _, it := range group {
		if !mine[it.Pickup] {
			it.stage = ended
		}
	}
	return err == nil
}

// try does something for one pickup. A defect of this program holds the pickup
// that met it, and nothing else.
func (c *Conductor) try(it *item, at stage, do func(*item) error) {
	if it.stage != at {
		return
	}
	c.moves(at, it)
	err := func() (err error) {
		defer func() {
			if r := recover(); r != nil {
				c.e.Log.Error("a defect of this program", "pickup", it.Pickup, "panic", r, "stack", string(debug.Stack()))
				err = fmt.Errorf("a defect of this program: %v", r)
			}
		}()
		return do(it)
	}()
	if err != nil {
		c.fail(it, err)
	}
}

// moves notes what a stage turns to; nil if it has nothing to do.
func (c *Conductor) moves(at stage, it *item) {
	now := time.Now()
	c.mu.Lock()
	c.moved[at], c.at[at] = now, it
	c.mu.Unlock()
	c.beat[at].Store(now.UnixNano())
}

// feed brings groups to the first stage: what was begun before, then files.
func (c *Conductor) feed(to chan<- []*item) {
	for c.life.Err() == nil {
		group, wait := c.nextGroup()
		c.moves(taking, nil)
		if len(group) > 0 {
			c.mu.Lock()
			c.tookAt = time.Now()
			c.mu.Unlock()
		}
		if len(group) > 0 {
			select {
			case to <- group:
			case <-c.work.Done():
			}
			continue
		}
		var ready <-chan struct{}
		c.mu.Lock()
		if c.listener != nil {
			ready = c.listener.Ready()
		}
		c.mu.Unlock()
		if wait <= 0 || wait > lookEvery {
			wait = lookEvery
		}
		timer := time.NewTimer(wait)
		select {
		case <-c.life.Done():
		case <-c.signal:
		case <-ready:
		case <-timer.C:
		}
		timer.Stop()
	}
}

// lookEvery is how often the records are looked through although nobody has said that
// there is something to do: should anything have been lost from sight, it is found.
const lookEvery = 30 * time.Second

// nextGroup gives the pickups to go on with, or how long to wait if there are
// none; 0 is until something happens.
func (c *Conductor) nextGroup() (group []*item, wait time.Duration) {
	c.mu.Lock()
	if group = c.lanes.take(groupFiles); len(group) > 0 {
		c.mu.Unlock()
		return group, 0
	}
	due := c.look || !c.retryAt.IsZero() && !time.Now().Before(c.retryAt) || time.Since(c.looked) >= lookEvery
	c.look = false
	if due {
		c.retryAt = time.Time{}
	}
	c.mu.Unlock()
	if due {
		var err error
		if group, err = c.resume(); err != nil {
			c.mu.Lock()
			c.look = true // nothing new passes what was begun before
			c.mu.Unlock()
			return nil, c.trouble("looking for open pickups", err)
		}
		if len(group) > 0 {
			return group, 0
		}
	}
	group, wait = c.fetch()
	c.mu.Lock()
	defer c.mu.Unlock()
	if !c.retryAt.IsZero() {
		if until := max(time.Until(c.retryAt), time.Millisecond); wait == 0 || until < wait {
			wait = until
		}
	}
	return group, wait
}

// trouble notes that the database or the file system failed, and lets things
// rest for a moment, which it gives.
func (c *Conductor) trouble(doing string, err error) time.Duration {
	if c.life.Err() != nil {
		return 0
	}
	c.e.Log.Error(doing, "route", c.name, "error", err)
	c.mu.Lock()
	defer c.mu.Unlock()
	c.failures++
	c.troubles++
	rest := min(pause(c.failures), 5*time.Second)
	c.later(time.Now().Add(rest))
	return rest
}

// later lets the records be looked through at a time. The caller holds the lock.
func (c *Conductor) later(at time.Time) {
	if c.retryAt.IsZero() || at.Before(c.retryAt) {
		c.retryAt = at
	}
}
