package run

import (
	"bufio"
	"cmp"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"syscall"
	"time"

	"ydrion/core/lang"
	"ydrion/core/mail"
	"ydrion/files"
	"ydrion/listen"
	"ydrion/route"
	"ydrion/store"
	"ydrion/timetable"
	"ydrion/workspace"
)

// mostStalled is how many pickups of a route may wait to be tried again before
// new files are left in the inbox.
const mostStalled = 100

// gate tells up to when files may have been noticed to be taken now; ok is
// false if none may. Wait is when to ask again, 0 if something will happen. What lies on a server stays there until it
// may be taken, and is taken here as it comes.
func (c *Conductor) gate() (until time.Time, ok bool, reason string, wait time.Duration) {
	until, ok, reason, wait, timed := c.gateHere()
	c.mu.Lock()
	l := c.listener
	c.mu.Unlock()
	if l == nil || l.Ahead == nil {
		return until, ok, reason, wait
	}
	l.Ahead(listen.Gate{Open: ok && until.IsZero(), Closed: !timed && !ok, Until: until, Reason: reason})
	if timed {
		return time.Time{}, true, "", wait
	}
	return until, ok, reason, wait
}

// gateHere is the gate of files of this machine. Timed tells whether it is that of a time, or of somebody who asks.
func (c *Conductor) gateHere() (until time.Time, ok bool, reason string, wait time.Duration, timed bool) {
	c.mu.Lock()
	l, compiled, state, stalled, sending := c.listener, c.compiled, c.state, c.stalled, len(c.sending)
	if state.AskedAt != nil && state.AskedAt.After(c.until) && state.AskedAt.After(c.led.Add(-time.Minute)) {
		c.until, c.asked = *state.AskedAt, *state.AskedAt
	}
	asked := c.until
	c.mu.Unlock()
	now := c.e.Clock()
	switch {
	case l == nil:
		return until, false, "", 0, false
	case state.Paused(now):
		if left := state.PausedUntil.Sub(now); left < 1000*time.Hour {
			return until, false, "the route is paused until " + state.PausedUntil.Local().Format("2006-01-02 15:04 MST"), left, false
		}
		return until, false, "the route is paused", 0, false
	case stalled >= mostStalled:
		return until, false, fmt.Sprintf("%d pickups of the route cannot go on and are tried again; new files wait until some of them have ended", stalled), time.Second, false
	case sending >= mostSending:
		return until, false, fmt.Sprintf("the outputs of %d pickups wait for servers; new files wait until some of them have arrived", sending), time.Second, false
	case compiled.Notice == workspace.OnDemand:
		return asked, !asked.IsZero(), "it is taken when somebody asks for it (`ydrion take`)", 0, true
	case compiled.Timetable != nil:
		until, ok, reason, wait = c.timetable(compiled.Timetable, now, asked)
		return until, ok, reason, wait, true
	}
	return until, true, "", 0, false
}

const noDay = "its timetable names no day to come"

// timetable is the gate of a route that takes files at certain times.
func (c *Conductor) timetable(t *timetable.Table, now, asked time.Time) (time.Time, bool, string, time.Duration) {
	c.mu.Lock()
	// Moments count from when the route was started, or came to this revision: those that
	// nobody was there for since then are made up for.
	last := c.state.Since
	if last.After(now) || last.IsZero() {
		last = c.began
	}
	if last.After(now) { // the clock has been set back
		c.began, last = now, now
	}
	if c.state.DueAt != nil && c.state.DueAt.After(last) {
		last = *c.state.DueAt
	}
	c.mu.Unlock()
	if t.Always() {
		if t.Open(now) {
			return time.Time{}, true, "", time.Minute
		}
		next := t.Next(now)
		if next.IsZero() {
			return asked, !asked.IsZero(), noDay, time.Minute
		}
		return asked, !asked.IsZero(), "it is taken from " + next.In(t.Zone).Format("Monday, 2 January, 15:04 MST") + " on (timetable)", min(next.Sub(now), time.Minute)
	}
	if t.Next(last).IsZero() {
		return asked, !asked.IsZero(), noDay, time.Minute
	}
	if moment := t.Next(last); !moment.After(now) {
		// However many moments were missed while nobody was there, they are made up
		// for once.
		if latest := t.Latest(now); latest.After(moment) {
			moment = latest
		}
		if first, err := c.e.Store.Due(c.work, c.node.ID, c.name, moment); err != nil {
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
	if next.IsZero() {
		return asked, !asked.IsZero(), noDay, time.Minute
	}
	return asked, !asked.IsZero(), "it is taken at " + next.In(t.Zone).Format("15:04 MST on Monday, 2 January") + " (timetable)", min(max(next.Sub(now), time.Millisecond), time.Minute)
}

// fetch claims and takes files that are ready.
func (c *Conductor) fetch() ([]*item, time.Duration) {
	c.fetching.Lock()
	defer c.fetching.Unlock()
	until, ok, reason, wait := c.gate()
	c.mu.Lock()
	l, compiled := c.listener, c.compiled
	c.mu.Unlock()
	if l == nil {
		return nil, wait
	}
	l.Gate(reason)
	c.mu.Lock()
	c.gated = reason
	c.mu.Unlock()
	if compiled.Collect.Any() {
		items, again := c.fetchTogether(l, compiled, until, !ok)
		if again > 0 && (wait == 0 || again < wait) {
			wait = again
		}
		return items, wait
	}
	puzzled := c.shelve(l, compiled, until, !ok)
	chosen := c.choose(l, !ok)
	if len(chosen) == 0 {
		if puzzled && (wait == 0 || wait > puzzledFor) {
			wait = puzzledFor
		}
		return nil, wait
	}
	items, put, err := c.claim(l, compiled, chosen)
	if err != nil {
		// They stay where they were, before all others: a failure does not change the
		// order.
		c.mu.Lock()
		c.shelf = append(chosen, c.shelf...)
		c.mu.Unlock()
		l.Parked("it cannot be taken now: "+err.Error(), paths(chosen)...)
		return nil, c.trouble("claiming files", err)
	}
	if len(items) == 0 && put {
		wait = time.Millisecond // the next ones may do better
	}
	return items, wait
}

const (
	// puzzledFor is how long a route that keeps an order waits before it looks again at
	// a file of which it cannot tell where it belongs, and mostPuzzled how often.
	puzzledFor  = 500 * time.Millisecond
	mostPuzzled = 10
)

// errChanged says that a file is not what was noticed.
var errChanged = errors.New("it has changed since it was noticed")

// ofSender tells whether a problem with a file is of its sender's making: he holds nobody
// else by it.
func ofSender(problem error) bool {
	for _, of := range []error{errChanged, files.ErrLink, files.ErrNotRegular, fs.ErrNotExist, fs.ErrPermission, syscall.ENOTDIR} {
		if errors.Is(problem, of) {
			return true
		}
	}
	return false
}

// shelve fetches files that are ready and puts them into their order. It is true if
// one could not be looked into: nothing behind it is fetched for now.
func (c *Conductor) shelve(l *listen.Listener, compiled *route.Compiled, until time.Time, none bool) (puzzled bool) {
	most := groupFiles
	if compiled.By != nil {
		most = 100_000 // the order is only known when all are
	}
	c.mu.Lock()
	full := compiled.By == nil && len(c.shelf) > 0
	c.mu.Unlock()
	if full {
		return false
	}
	var fresh []shelved
	fetched := l.Fetch(most, until, none)
	for i, candidate := range fetched {
		if c.isTaken(candidate) {
			l.Again(candidate.Path, "its pickup is open", 5*time.Second)
			continue
		}
		k, problem := c.keys(compiled, candidate)
		if problem == nil {
			delete(c.puzzled, candidate.Path)
			fresh = append(fresh, shelved{candidate, k})
			continue
		}
		if c.puzzled[candidate.Path]++; compiled.Order.Lane == "none" || c.puzzled[candidate.Path] > mostPuzzled || ofSender(problem) {
			l.Again(candidate.Path, problem.Error(), 5*time.Second)
			continue
		}
		// It may belong before those that follow: they wait with it for a moment.
		l.Return(fetched[i:], problem.Error())
		puzzled = true
		break
	}
	if len(fresh) == 0 {
		return puzzled
	}
	l.Parked(listen.Turn, paths(fresh)...)
	c.mu.Lock()
	defer c.mu.Unlock()
	c.shelf = append(c.shelf, fresh...)
	c.sortShelf()
	return puzzled
}

// sortShelf puts what was fetched into its order. The caller holds the lock.
func (c *Conductor) sortShelf() {
	slices.SortStableFunc(c.shelf, inOrder)
}

// inOrder compares files in the order of their route.
func inOrder(a, b shelved) int {
	if a.by != nil && b.by != nil {
		return listen.Natural(*a.by, *b.by)
	}
	return cmp.Compare(a.Order, b.Order)
}

// choose takes from the shelf what is not held up by its lane.
func (c *Conductor) choose(l *listen.Listener, none bool) (out []shelved) {
	size := int64(0)
	c.mu.Lock()
	defer c.mu.Unlock()
	if none && !slices.ContainsFunc(c.shelf, func(s shelved) bool { return s.Demand }) {
		return nil
	}
	i := 0
	for ; i < len(c.shelf) && len(out) < groupFiles; i++ {
		s := c.shelf[i]
		if s.lane != nil {
			if by := c.lanes.by(*s.lane); by != 0 {
				c.lanes.waiting[*s.lane] = append(c.lanes.waiting[*s.lane], s)
				l.Parked(fmt.Sprintf("its lane %s is held by pickup %d", *s.lane, by), s.Path)
				continue
			}
		}
		if size += s.Info.Size; size > groupBytes && len(out) > 0 {
			break
		}
		out = append(out, s)
	}
	c.shelf = slices.Clone(c.shelf[i:])
	l.Parked("", paths(out)...)
	return out
}

// Behind counts the files that wait in the inbox because their lanes are held, by lane.
func (c *Conductor) Behind() map[string]int {
	c.mu.Lock()
	defer c.mu.Unlock()
	out := map[string]int{}
	for lane, waiting := range c.lanes.waiting {
		if len(waiting) > 0 {
			out[lane] = len(waiting)
		}
	}
	return out
}

// unshelve forgets a file that was fetched anew while its taking could not be gone on
// with.
func (c *Conductor) unshelve(it *item) {
	same := func(s shelved) bool { return s.Path == it.Path && s.Info.Inode == it.Inode }
	c.mu.Lock()
	defer c.mu.Unlock()
	c.shelf = slices.DeleteFunc(c.shelf, same)
	if it.Lane != nil {
		c.lanes.waiting[*it.Lane] = slices.DeleteFunc(c.lanes.waiting[*it.Lane], same)
	}
}

func paths(list []shelved) []string {
	out := make([]string, len(list))
	for i, s := range list {
		out[i] = s.Path
	}
	return out
}

// keys makes what the order and the duplicates depend on.
func (c *Conductor) keys(compiled *route.Compiled, candidate listen.Candidate) (k keys, problem error) {
	if compiled.Order.Lane == "all" {
		all := "all"
		k.lane = &all
	}
	if compiled.Lane == nil && compiled.By == nil && compiled.Key == nil && compiled.With == nil {
		return k, nil
	}
	wanted := []*lang.Template{compiled.Lane, compiled.By, compiled.Key, compiled.With}
	made := make([]string, len(wanted))
	in, err := c.mailOf(compiled, candidate.Path)
	if err != nil {
		return k, err
	}
	f := facts(compiled, store.Readable(candidate.Name), store.Readable(candidate.Folder), candidate.Event, in, time.Now())
	if candidate.Event == listen.Gone {
		// There is nothing to look into: only its name counts.
		for i, n := range wanted {
			if n != nil && !n.PerRecord {
				made[i], _ = n.Text(&lang.Env{Facts: f}, nil, 0)
			}
		}
	} else {
		file, err := c.e.FS.Open(candidate.Path)
		if err != nil {
			return k, fmt.Errorf("it cannot be opened: %w", err)
		}
		defer file.Close()
		if info, err := file.Info(); err != nil || !info.Same(candidate.Info) {
			return k, errors.Join(errChanged, err)
		}
		var in io.Reader = file
		if compiled.Plan.Unread && compiled.With != nil { // what they have in common may be in their text
			head := bufio.NewReaderSize(file, int(min(max(candidate.Info.Size, 512), MostHead)))
			if err := look(&f, head, candidate.Info.Size); err != nil {
				return k, err
			}
			in = head
		}
		// What is wrong with the first record is found when the file is processed;
		// here it has no key.
		if made, _, err = compiled.Plan.Peek(in, f, wanted...); err != nil {
			return k, fmt.Errorf("it cannot be looked into: %w", err)
		}
	}
	for i := range made {
		made[i] = store.Readable(made[i]) // as the records have it
	}
	if compiled.Lane != nil {
		k.lane = &made[0]
	}
	if compiled.By != nil {
		k.by = &made[1]
	}
	if compiled.Key != nil && made[2] != "" {
		k.key = &made[2]
	}
	k.with = made[3]
	return k, nil
}

// claim records files as being taken and takes them. Put tells that some could not be
// claimed and were put off.
func (c *Conductor) claim(l *listen.Listener, compiled *route.Compiled, chosen []shelved) (items []*item, put bool, err error) {
	claims, err := c.claims(compiled, chosen, false)
	if err != nil {
		return nil, false, err
	}
	if contents := c.known(l, chosen, claims); contents != nil {
		items, put, err = c.begin(l, compiled, chosen, claims, contents)
		if err == nil || !store.Refused(err) {
			return items, put, err
		}
		for i := range claims { // one of them may be the reason: each is claimed by itself
			claims[i].SHA256 = ""
		}
	}
	ids, problems, err := c.claimAll(claims)
	if err != nil {
		return nil, false, err
	}
	for i, s := range chosen {
		switch {
		case problems[i] != nil:
			put = true
			c.cannot(l, s, problems[i])
			continue
		case ids[i] == 0:
			put = true
			l.Again(s.Path, "another pickup of it is open", 5*time.Second)
			continue
		}
		items = append(items, c.claimed(compiled, s, &claims[i], ids[i]))
	}
	c.enter(items)
	c.takeAll(items)
	return items, put, nil
}

// enter notes that pickups are on their way.
func (c *Conductor) enter(items []*item) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, it := range items {
		c.busy[it.Pickup] = true
		c.lanes.begin(it)
	}
}

// claims are those of files that are about to be taken.
func (c *Conductor) claims(compiled *route.Compiled, chosen []shelved, together bool) ([]store.Claim, error) {
	claims := make([]store.Claim, len(chosen))
	from := c.comesFrom(compiled)
	for i, s := range chosen {
		cameFrom := ""
		if from != "" {
			cameFrom = path.Join(from, s.Folder, s.Name)
		}
		in, err := c.mailOf(compiled, s.Path)
		if err != nil {
			return nil, err
		}
		claims[i] = store.Claim{CameFrom: cameFrom, Mail: in, Path: s.Path, Folder: s.Folder, Name: s.Name, Size: s.Info.Size, Modified: s.Info.Modified, Device: s.Info.Device, Inode: s.Info.Inode, Noticed: s.Noticed, Lane: s.lane, Key: s.key, Event: s.Event, Origin: c.origin(compiled), Together: together}
	}
	return claims, nil
}

// mailOf is the mail that a file which waits was attached to; nil if it was attached to none.
func (c *Conductor) mailOf(compiled *route.Compiled, file string) (*mail.Head, error) {
	place, _, is := workspace.Distant(c.comesFrom(compiled))
	if report, _ := c.e.Places.Report(place); !is || report.Place.Kind != "imap" {
		return nil, nil
	}
	return listen.NotedMail(c.e.FS, file)
}

// comesFrom is the folder on a server from which the files of a route are fetched; empty if they lie on this machine.
func (c *Conductor) comesFrom(compiled *route.Compiled) string {
	if folder, err := c.e.Resolve(compiled.Listen.Folder); err == nil && isDistant(folder) {
		return folder
	}
	return ""
}

// origin is where the files of a route are taken from.
func (c *Conductor) origin(compiled *route.Compiled) string {
	if compiled.Originals == workspace.Left && c.comesFrom(compiled) == "" {
		return "left"
	}
	return "inbox"
}

// claimed is a file that has been claimed.
func (c *Conductor) claimed(compiled *route.Compiled, s shelved, of *store.Claim, id int64) *item {
	it, revision := &item{compiled: compiled, started: time.Now()}, compiled.Hash
	it.Pending = store.Pending{Pickup: id, Route: c.name, Path: s.Path, Folder: store.Readable(s.Folder), Name: store.Readable(s.Name), Size: s.Info.Size, Modified: s.Info.Modified, Device: s.Info.Device, Inode: s.Info.Inode,
		State: "claimed", Mail: of.Mail, Event: s.Event, Origin: c.origin(compiled), Lane: s.lane, Key: s.key, Noticed: s.Noticed, Revision: &revision}
	if s.SHA256 != "" {
		sum := s.SHA256
		it.SHA256 = &sum
	}
	return it
}

// cannot says that a file cannot be claimed: the database refuses it.
func (c *Conductor) cannot(l *listen.Listener, s shelved, problem error) {
	reason := "it cannot be taken: " + problem.Error()
	l.Again(s.Path, reason, time.Minute)
	c.e.Alert(store.Alert{Kind: "held", Route: c.name, About: c.name + " " + store.Readable(s.Path), Message: fmt.Sprintf("%s of %s stays in the inbox: %s", store.Readable(s.Name), c.name, reason)}, false)
}

// claimAll claims files together and, where the database refuses the whole for one of
// them, each by itself.
func (c *Conductor) claimAll(claims []store.Claim) (ids []int64, problems []error, err error) {
	problems = make([]error, len(claims))
	ids, err = c.e.Store.Claim(c.work, c.node.ID, c.name, claims)
	if err == nil || !store.Refused(err) {
		return ids, problems, err
	}
	ids = make([]int64, len(claims))
	for i := range claims {
		one, err := c.e.Store.Claim(c.work, c.node.ID, c.name, claims[i:i+1])
		switch {
		case err == nil:
			ids[i] = one[0]
		case store.Refused(err):
			problems[i] = err
		default:
			return nil, nil, errors.Join(err, c.unclaim(ids[:i]))
		}
	}
	return ids, problems, nil
}

// unclaim gives claims up whose group could not be claimed as a whole.
func (c *Conductor) unclaim(ids []int64) (err error) {
	for _, id := range ids {
		if id != 0 {
			err = errors.Join(err, c.e.Store.Withdrawn(c.work, c.node.ID, id, "it was claimed together with others that could not be"))
		}
	}
	return err
}
