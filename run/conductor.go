package run

import (
	"context"
	"errors"
	"fmt"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"time"

	"ydrion/core/flow"
	"ydrion/listen"
	"ydrion/route"
	"ydrion/store"
	"ydrion/timetable"
	"ydrion/workspace"
)

// Conductor takes the pickups of one route through the stages, in order. It
// works on the node that leads the route.
//
// Groups of pickups go from stage to stage: take, process, commit, publish, each
// in a goroutine of its own, so that one group is committed while the next is
// processed; a group never passes another.
type Conductor struct {
	e    *Engine
	node int64
	name string

	life context.Context // ends when nothing new is to be begun
	work context.Context // ends when what is under way is to be left
	poke chan struct{}
	done chan struct{}

	mu       sync.Mutex
	listener *listen.Listener
	compiled *route.Compiled // the revision for new pickups
	state    store.Route
	until    time.Time // files that were noticed up to then may be taken, whatever the timetable says
	began    time.Time // by the clock of timetables
	led      time.Time // by the machine's
	failures int       // in a row
	stalled  int       // pickups that are being tried again
	troubles int       // since held files were last compared with the records
	restored bool

	busy    map[int64]bool   // pickups on their way
	blocked map[string]int64 // lanes, and the pickup that holds each
	parked  map[string][]*item
	waiting map[string][]shelved // fetched, but their lane is held
	shelf   []shelved            // fetched, in the order by content
	freed   []*item              // were parked and may go on
	retryAt time.Time
	look    bool // the records have to be looked through

	stock   store.Block // sequence numbers in hand; only the process stage touches them
	stocked time.Time
}

// item is a pickup on its way through the stages.
type item struct {
	store.Pending
	compiled *route.Compiled
	resumed  bool // it was begun before: it may have left something behind
	content  []byte
	verdict  *verdict
	out      *outputs
	commit   store.Commit
	balance  flow.Balance
	whole    bool
	started  time.Time
	stage    stage
}

type stage int

const (
	taking stage = iota
	processing
	committing
	publishing
	ended // or given up for now
)

// shelved is a candidate with the text that its order comes from.
type shelved struct {
	listen.Candidate
	keys
}

// keys are the texts made from a file before it is taken.
type keys struct {
	lane, by, key *string
}

// groupFiles and groupBytes bound what goes through the stages together.
const (
	groupFiles = 96
	groupBytes = 4 << 20
)

// Conduct begins to lead a route. Life ends when nothing new is to be begun;
// what is under way then goes on until work ends.
func (e *Engine) Conduct(life, work context.Context, node int64, r store.Route) *Conductor {
	c := &Conductor{e: e, node: node, name: r.Name, life: life, work: work, state: r, began: e.Clock(), led: time.Now(), poke: make(chan struct{}, 1), done: make(chan struct{}), look: true,
		busy: map[int64]bool{}, blocked: map[string]int64{}, parked: map[string][]*item{}, waiting: map[string][]shelved{}}
	var stages sync.WaitGroup
	taken, made, committed := make(chan []*item), make(chan []*item), make(chan []*item)
	stages.Go(func() { defer close(taken); c.feed(taken) })
	stages.Go(func() { defer close(made); c.pass(taken, made, c.process) })
	stages.Go(func() { defer close(committed); c.pass(made, committed, c.commit) })
	stages.Go(func() { c.pass(committed, nil, c.publish) })
	go func() { stages.Wait(); close(c.done) }()
	return c
}

// Done is closed when the conductor has ended.
func (c *Conductor) Done() <-chan struct{} { return c.done }

// Poke lets the conductor look whether there is something to do, and whether
// files are held for pickups that somebody has ended.
func (c *Conductor) Poke() {
	c.mu.Lock()
	c.look = true
	c.troubles++
	c.mu.Unlock()
	c.wake()
}

func (c *Conductor) wake() {
	select {
	case c.poke <- struct{}{}:
	default: // it has been told already
	}
}

// Set tells how the route stands: whether it is paused, or was asked to take.
func (c *Conductor) Set(r store.Route) {
	c.mu.Lock()
	c.state = r
	c.mu.Unlock()
	c.wake()
}

// Listen takes files from a listener with a revision; a nil listener ends that.
func (c *Conductor) Listen(l *listen.Listener, compiled *route.Compiled) {
	c.mu.Lock()
	c.listener, c.compiled = l, compiled
	c.waiting, c.shelf = map[string][]shelved{}, nil
	c.look, c.restored = true, false
	c.mu.Unlock()
	c.wake()
}

// pass takes groups through a stage, which may keep pickups back.
func (c *Conductor) pass(from <-chan []*item, to chan<- []*item, do func([]*item) []*item) {
	for group := range from {
		if c.work.Err() == nil {
			group = do(group)
		}
		if to != nil {
			to <- group
			continue
		}
		c.mu.Lock()
		for _, it := range group {
			delete(c.busy, it.Pickup) // it may be found in the records again
		}
		c.mu.Unlock()
	}
}

// try does something for one pickup. A defect of this program holds the pickup
// that met it, and nothing else.
func (c *Conductor) try(it *item, at stage, do func(*item) error) {
	if it.stage != at {
		return
	}
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

// feed brings groups to the first stage: what was begun before, then files.
func (c *Conductor) feed(to chan<- []*item) {
	for c.life.Err() == nil {
		group, wait := c.nextGroup()
		if len(group) > 0 {
			to <- group
			continue
		}
		var ready <-chan struct{}
		c.mu.Lock()
		if c.listener != nil {
			ready = c.listener.Ready()
		}
		c.mu.Unlock()
		var timer <-chan time.Time
		if wait > 0 {
			timer = time.After(wait)
		}
		select {
		case <-c.life.Done():
		case <-c.poke:
		case <-ready:
		case <-timer:
		}
	}
}

// nextGroup gives the pickups to go on with, or how long to wait if there are
// none; 0 is until something happens.
func (c *Conductor) nextGroup() (group []*item, wait time.Duration) {
	c.mu.Lock()
	if group = c.freed; len(group) > 0 {
		n := min(len(group), groupFiles)
		group, c.freed = group[:n:n], group[n:]
		c.mu.Unlock()
		return group, 0
	}
	due := c.look || !c.retryAt.IsZero() && !time.Now().Before(c.retryAt)
	c.look = false
	if due {
		c.retryAt = time.Time{}
	}
	c.mu.Unlock()
	if due {
		var err error
		if group, err = c.resume(); err != nil {
			c.trouble("looking for open pickups", err)
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
// rest for a moment.
func (c *Conductor) trouble(doing string, err error) {
	if c.life.Err() != nil {
		return
	}
	c.e.Log.Error(doing, "route", c.name, "error", err)
	c.mu.Lock()
	c.failures++
	c.troubles++
	c.later(time.Now().Add(min(pause(c.failures), 5*time.Second)))
	c.mu.Unlock()
}

// later lets the records be looked through at a time. The caller holds the lock.
func (c *Conductor) later(at time.Time) {
	if c.retryAt.IsZero() || at.Before(c.retryAt) {
		c.retryAt = at
	}
}

// mostAtOnce is how many pickups that failed are tried in one go.
const mostAtOnce = 3

// resume finds the open pickups that can go on, and the lanes that are held.
func (c *Conductor) resume() ([]*item, error) {
	if err := c.restore(); err != nil {
		return nil, err
	}
	var out []*item
	blocked, stalled, retried := map[string]int64{}, 0, 0
	now := time.Now()
	for after := int64(0); ; {
		page, err := c.e.Store.Unfinished(c.work, c.name, after, 500)
		if err != nil {
			return nil, err
		}
		if len(page) == 0 {
			break
		}
		for _, p := range page {
			after = p.Pickup
			held := p.State == "held" || p.State == "uncertain"
			if held && p.Lane != nil && !p.Passed && blocked[*p.Lane] == 0 {
				blocked[*p.Lane] = p.Pickup
			}
			if p.NextTry != nil && held {
				stalled++
			}
			c.mu.Lock()
			busy := c.busy[p.Pickup]
			switch {
			case busy && held:
				c.later(now.Add(300 * time.Millisecond))
			case busy, held && p.NextTry == nil, p.State == "uncertain":
			case held && p.NextTry.After(now):
				c.later(*p.NextTry)
			case held && retried >= mostAtOnce:
				c.later(now.Add(200 * time.Millisecond))
			case len(out) >= groupFiles:
				c.look = true
			default:
				if held {
					retried++
				}
				c.busy[p.Pickup] = true
				out = append(out, &item{Pending: p, resumed: true, started: now})
			}
			c.mu.Unlock()
		}
	}
	c.mu.Lock()
	c.stalled = stalled
	c.failures = 0
	c.block(blocked)
	c.mu.Unlock()
	for _, it := range out {
		c.prepare(it)
	}
	return out, nil
}

// prepare finds where a resumed pickup stands.
func (c *Conductor) prepare(it *item) {
	switch {
	case it.Run == nil:
		it.stage = taking
	case it.Committed():
		it.stage = publishing
	default:
		it.stage = processing
	}
	if it.Revision == nil {
		c.mu.Lock()
		r := c.state.Revision
		c.mu.Unlock()
		it.Revision = &r
	}
	var err error
	if it.compiled, err = c.e.Compiled(c.work, c.name, *it.Revision); err != nil {
		c.fail(it, err)
		return
	}
	if it.stage == taking {
		c.takeAll([]*item{it})
	} else if it.stage == processing {
		c.try(it, processing, c.retake)
		if !it.Again {
			c.forgetGone(it)
		}
		it.verdict = judge(it, it.compiled.Duplicates)
	}
}

// errPerson marks what only a person can decide.
type errPerson struct {
	error
	kind string // of alert
}

// fail records why a pickup cannot go on. It is tried again later, up to the
// route's limit, or waits for a person.
func (c *Conductor) fail(it *item, err error) {
	at := it.stage
	it.stage = ended
	if c.work.Err() != nil || it.Pickup == 0 {
		return // stopped: the next leader goes on with it
	}
	var person errPerson
	forPerson := errors.As(err, &person)
	tries := it.Tries + 1
	var next time.Time
	limit := 7 * 24 * time.Hour
	if it.compiled != nil {
		limit = it.compiled.Retry.For
	}
	if !forPerson && (limit == workspace.Forever || tried(tries) < limit) {
		next = time.Now().Add(pause(tries))
	}
	reason, _, _ := strings.Cut(err.Error(), "\n")
	state := "held"
	if person.kind == "uncertain" {
		state = "uncertain"
	}
	if again := c.e.Store.Held(c.work, c.node, it.Pickup, state, reason, next); again != nil {
		c.trouble("recording why a pickup is held", errors.Join(err, again))
	}
	c.mu.Lock()
	if !next.IsZero() {
		c.stalled++
		c.later(next)
	}
	c.troubles++
	if it.Lane != nil && it.compiled != nil && it.compiled.Order.Holds && !it.Passed && c.blocked[*it.Lane] == 0 {
		c.blocked[*it.Lane] = it.Pickup
		c.laneAlert(*it.Lane, it, reason)
	}
	c.mu.Unlock()
	c.tellHeld(it, at, state, reason, person, next)
}

// tellHeld tells those who watch, and those who should know.
func (c *Conductor) tellHeld(it *item, at stage, state, reason string, person errPerson, next time.Time) {
	event := Event{Kind: "pickup", Route: c.name, Pickup: it.Pickup, Name: it.Name, State: state, Reason: reason}
	if it.Run != nil {
		event.Run = *it.Run
	}
	c.e.Tell(event)
	if next.IsZero() {
		c.e.Log.Error("a pickup waits for a person", "pickup", it.Pickup, "route", c.name, "file", it.Name, "reason", reason)
	} else {
		c.e.Log.Warn("a pickup cannot go on; it will be tried again", "pickup", it.Pickup, "route", c.name, "file", it.Name, "reason", reason, "again_in", time.Until(next).Round(time.Second))
	}
	switch {
	case person.kind != "":
		c.e.Alert(store.Alert{Kind: person.kind, Route: c.name, Pickup: it.Pickup, About: fmt.Sprintf("pickup %d", it.Pickup), Message: fmt.Sprintf("%s (pickup %d) waits for a person: %s", it.Name, it.Pickup, reason)}, false)
	case at == publishing || at == committing || next.IsZero() || it.Tries > 0:
		kind := "held"
		if at >= committing {
			kind = "stuck"
		}
		// One alert for a route: a hundred files that meet the same trouble are
		// one thing to know.
		c.e.Alert(store.Alert{Kind: kind, Route: c.name, Pickup: it.Pickup, About: c.name, Message: fmt.Sprintf("%s (pickup %d) cannot go on: %s", it.Name, it.Pickup, reason)}, false)
	}
}

// laneAlert tells that a lane is held. The caller holds the lock.
func (c *Conductor) laneAlert(lane string, it *item, reason string) {
	c.e.Alert(store.Alert{Kind: "lane held", Route: c.name, Pickup: it.Pickup, About: c.name + " " + lane, Message: fmt.Sprintf("lane %s of %s is held by %s (pickup %d): %s", lane, c.name, it.Name, it.Pickup, reason)}, false)
}

// block sets which lanes are held; those that no longer are go on. The caller
// holds the lock.
func (c *Conductor) block(blocked map[string]int64) {
	if c.compiled != nil && !c.compiled.Order.Holds {
		blocked = map[string]int64{}
	}
	for lane := range c.blocked {
		if blocked[lane] == 0 {
			c.unblock(lane)
		}
	}
	for lane, by := range blocked {
		c.blocked[lane] = by
	}
}

// unblock lets a lane go on. The caller holds the lock.
func (c *Conductor) unblock(lane string) {
	delete(c.blocked, lane)
	c.freed = append(c.freed, c.parked[lane]...)
	delete(c.parked, lane)
	c.listener.Parked(listen.Turn, paths(c.waiting[lane])...)
	c.shelf = append(c.waiting[lane], c.shelf...)
	delete(c.waiting, lane)
	go c.e.Over("lane held", c.name+" "+lane)
	c.wake()
}

// park keeps a pickup from going on while its lane is held by another.
func (c *Conductor) park(it *item) bool {
	if it.Lane == nil {
		return false
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	by := c.blocked[*it.Lane]
	if by == 0 || by == it.Pickup || it.Pickup < by {
		return false
	}
	c.parked[*it.Lane] = append(c.parked[*it.Lane], it)
	return true
}

// mostStalled is how many pickups of a route may wait to be tried again before
// new files are left in the inbox.
const mostStalled = 100

// gate tells up to when files may have been noticed to be taken now; ok is
// false if none may. Wait is when to ask again, 0 if something will happen.
func (c *Conductor) gate() (until time.Time, ok bool, reason string, wait time.Duration) {
	c.mu.Lock()
	l, compiled, state, stalled := c.listener, c.compiled, c.state, c.stalled
	if state.AskedAt != nil && state.AskedAt.After(c.until) && state.AskedAt.After(c.led.Add(-time.Minute)) {
		c.until = *state.AskedAt
	}
	asked := c.until
	c.mu.Unlock()
	now := c.e.Clock()
	switch {
	case l == nil:
		return until, false, "", 0
	case state.Paused(now):
		if left := state.PausedUntil.Sub(now); left < 1000*time.Hour {
			return until, false, "the route is paused until " + state.PausedUntil.Local().Format("2006-01-02 15:04"), left
		}
		return until, false, "the route is paused", 0
	case stalled >= mostStalled:
		return until, false, fmt.Sprintf("%d pickups of the route cannot go on and are tried again; new files wait until some of them have ended", stalled), time.Second
	case compiled.Notice == workspace.OnDemand:
		return asked, !asked.IsZero(), "it is taken when somebody asks for it (`ydrion take`)", 0
	case compiled.Timetable != nil:
		return c.timetable(compiled.Timetable, now, asked)
	}
	return until, true, "", 0
}

// timetable is the gate of a route that takes files at certain times.
func (c *Conductor) timetable(t *timetable.Table, now, asked time.Time) (time.Time, bool, string, time.Duration) {
	c.mu.Lock()
	last := c.began
	if c.state.DueAt != nil {
		last = *c.state.DueAt
	}
	c.mu.Unlock()
	if t.Always() {
		if t.Open(now) {
			return time.Time{}, true, "", time.Minute
		}
		next := t.Next(now)
		return asked, !asked.IsZero(), "it is taken from " + next.In(t.Zone).Format("Monday 15:04") + " on (timetable)", min(next.Sub(now), time.Minute)
	}
	if t.Next(last).IsZero() {
		return asked, !asked.IsZero(), "its timetable names no day", 0
	}
	if moment := t.Next(last); !moment.After(now) {
		// However many moments were missed while nobody was there, they are made up
		// for once.
		for next := t.Next(moment); !next.IsZero() && !next.After(now); next = t.Next(next) {
			moment = next
		}
		if first, err := c.e.Store.Due(c.work, c.node, c.name, moment); err != nil {
			c.trouble("keeping a moment of the timetable", err)
		} else {
			c.mu.Lock()
			if c.state.DueAt = &moment; first {
				c.until = time.Now() // what has been noticed by now
				c.e.Log.Info("a moment of the timetable has come", "route", c.name, "moment", moment.In(t.Zone).Format(time.RFC3339))
			}
			asked = c.until
			c.mu.Unlock()
		}
		last = moment
	}
	next := t.Next(last)
	return asked, !asked.IsZero(), "it is taken at " + next.In(t.Zone).Format("15:04 on Monday, 2 January") + " (timetable)", min(max(next.Sub(now), time.Millisecond), time.Minute)
}

// fetch claims and takes files that are ready.
func (c *Conductor) fetch() ([]*item, time.Duration) {
	until, ok, reason, wait := c.gate()
	c.mu.Lock()
	l, compiled := c.listener, c.compiled
	c.mu.Unlock()
	if l == nil {
		return nil, wait
	}
	l.Gate(reason)
	chosen := c.choose(l, compiled, until, !ok)
	if len(chosen) == 0 {
		return nil, wait
	}
	items, err := c.claim(l, compiled, chosen)
	if err != nil {
		c.trouble("claiming files", err)
		for _, s := range chosen {
			l.Again(s.Path, "it cannot be taken: "+err.Error(), time.Second)
		}
		return nil, time.Second
	}
	return items, wait
}

// choose fetches what is ready and not held up by its lane, in its order.
func (c *Conductor) choose(l *listen.Listener, compiled *route.Compiled, until time.Time, none bool) []shelved {
	most := groupFiles
	if compiled.By != nil {
		most = 100_000 // the order is only known when all are
	}
	c.mu.Lock()
	shelf := c.shelf
	c.mu.Unlock()
	if compiled.By != nil || len(shelf) == 0 {
		known := len(shelf)
		for _, candidate := range l.Fetch(most, until, none) {
			k, problem := c.keys(compiled, candidate)
			if problem != nil {
				l.Again(candidate.Path, problem.Error(), time.Second)
				continue
			}
			shelf = append(shelf, shelved{candidate, k})
		}
		l.Parked(listen.Turn, paths(shelf[known:])...)
		if compiled.By != nil && len(shelf) > known {
			slices.SortStableFunc(shelf, func(a, b shelved) int { return compareNatural(*a.by, *b.by) })
		}
	}
	var out []shelved
	size := int64(0)
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.listener != l {
		return nil
	}
	if none && !slices.ContainsFunc(shelf, func(s shelved) bool { return s.Demand }) {
		c.shelf = shelf
		return nil
	}
	i := 0
	for ; i < len(shelf) && len(out) < groupFiles; i++ {
		s := shelf[i]
		if s.lane != nil {
			if by := c.blocked[*s.lane]; by != 0 {
				c.waiting[*s.lane] = append(c.waiting[*s.lane], s)
				l.Parked(fmt.Sprintf("its lane %s is held by pickup %d", *s.lane, by), s.Path)
				continue
			}
		}
		if size += s.Info.Size; size > groupBytes && len(out) > 0 {
			break
		}
		out = append(out, s)
	}
	c.shelf = shelf[i:]
	l.Parked("", paths(out)...)
	return out
}

func paths(list []shelved) []string {
	out := make([]string, len(list))
	for i, s := range list {
		out[i] = s.Path
	}
	return out
}
