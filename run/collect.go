package run

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"ydrion/core/finding"
	"ydrion/core/place"
	"ydrion/listen"
	"ydrion/route"
	"ydrion/store"
	"ydrion/workspace"
)

// collection is files in an inbox that have the same in common, and wait until all have come.
//
// They wait where they are, without a row of their own: nothing of them can be lost, and whoever leads the route finds
// them. When they are complete they are claimed together, and taken together: one run is of all of them, and what
// cannot be taken as a whole is put back.
type collection struct {
	key    string
	files  map[string]shelved // by path
	named  []int              // how many there are for each of the names that the route wants
	first  time.Time          // when the first of them was noticed
	demand bool               // somebody wants one of them taken
	began  time.Time          // since when they wait, by the records; zero: those have not been asked
	lateOf int64
	told   bool      // that something is missing
	again  time.Time // when to look at them although nothing has come; zero: never
}

// collecting are the files of a route that wait for others. It is only touched while files are fetched.
type collecting struct {
	all    map[string]*collection // by what the files have in common
	of     map[string]string      // by path: that
	look   map[string]bool        // those to be looked at: something has come, or their time has
	next   time.Time              // when to look for others whose time has come; zero: never
	none   bool                   // the last time, none were to be taken
	asked  time.Time              // what the last time was known of it
	since  time.Time              // when the listener began
	tidied time.Time
}

func newCollecting() *collecting {
	now := time.Now()
	return &collecting{all: map[string]*collection{}, of: map[string]string{}, look: map[string]bool{}, since: now, tidied: now}
}

// drop forgets a file.
func (w *collecting) drop(compiled *route.Compiled, path string) {
	key, is := w.of[path]
	if !is {
		return
	}
	k := w.all[key]
	k.count(compiled, k.files[path].Candidate, -1)
	delete(k.files, path)
	delete(w.of, path)
	if w.look[key] = true; len(k.files) == 0 {
		delete(w.all, key)
		delete(w.look, key)
	}
}

// due finds what has to be looked at for another reason than that something has come.
func (w *collecting) due(now, asked time.Time, none bool) {
	every := asked.After(w.asked) || w.none && !none
	w.asked, w.none = asked, none
	if !every && (w.next.IsZero() || now.Before(w.next)) {
		return
	}
	w.next = time.Time{}
	for key, k := range w.all {
		if every || !k.again.IsZero() && !now.Before(k.again) {
			w.look[key] = true
		} else if !w.look[key] {
			w.rest(k, k.again)
		}
	}
}

// rest says when a collection is to be looked at again though nothing comes; zero: never.
func (w *collecting) rest(k *collection, again time.Time) {
	delete(w.look, k.key)
	if k.again = again; !again.IsZero() && (w.next.IsZero() || again.Before(w.next)) {
		w.next = again
	}
}

// fetchTogether fetches files and takes those that are complete. What it costs grows with the files that have come, not
// with those that wait.
func (c *Conductor) fetchTogether(l *listen.Listener, compiled *route.Compiled, until time.Time, none bool) ([]*item, time.Duration) {
	w, now := c.collecting, time.Now()
	fresh := c.gather(l, compiled, until, none)
	c.mu.Lock()
	asked := c.asked
	c.mu.Unlock()
	w.due(now, asked, none)
	if err := c.sinceWhen(l, compiled); err != nil {
		return nil, c.trouble("noting that files wait for others", err)
	}
	var items []*item
	size := int64(0)
	for _, key := range slices.Sorted(maps.Keys(w.look)) {
		k := w.all[key]
		if len(items) == groupFiles || size > groupBytes {
			w.next = now // the rest comes right behind
			break
		}
		g, again := c.complete(compiled, k, now, none)
		if g == nil {
			w.rest(k, again)
			c.tellWaiting(l, compiled, k, fresh[key])
			continue
		}
		it, wait, err := c.claimTogether(l, compiled, k, g)
		if err != nil {
			c.takeAll(items)
			return items, c.trouble("claiming files", err)
		}
		if it == nil && wait > 0 {
			w.rest(k, now.Add(wait))
			continue
		}
		if it == nil {
			continue // some have gone: what is left is looked at next
		}
		items = append(items, it)
		for _, f := range it.all() {
			size += f.Size
		}
	}
	c.takeAll(items)
	switch {
	case len(w.look) > 0:
		return items, time.Millisecond
	case w.next.IsZero():
		return items, 0
	}
	return items, max(w.next.Sub(now), time.Millisecond)
}

// gather fetches files that are ready and puts them with those that they belong to. It gives the new ones.
func (c *Conductor) gather(l *listen.Listener, compiled *route.Compiled, until time.Time, none bool) map[string][]string {
	w, fresh := c.collecting, map[string][]string{}
	for _, candidate := range l.Fetch(workspace.MostCollected, until, none) {
		if c.isTaken(candidate) {
			l.Again(candidate.Path, "its pickup is open", 5*time.Second)
			continue
		}
		keys, problem := c.keys(compiled, candidate)
		if problem != nil {
			l.Again(candidate.Path, problem.Error(), 5*time.Second)
			continue
		}
		w.drop(compiled, candidate.Path) // it may have been written anew, and belong elsewhere
		k := w.all[keys.with]
		if k == nil {
			k = &collection{key: keys.with, files: map[string]shelved{}, named: make([]int, len(wanted(compiled))), first: candidate.Noticed}
			w.all[keys.with] = k
		}
		k.files[candidate.Path] = shelved{candidate, keys}
		k.count(compiled, candidate, 1)
		if k.demand = k.demand || candidate.Demand; candidate.Noticed.Before(k.first) {
			k.first = candidate.Noticed
		}
		w.of[candidate.Path], w.look[keys.with] = keys.with, true
		fresh[keys.with] = append(fresh[keys.with], candidate.Path)
		l.Rest(candidate.Path)
	}
	return fresh
}

// wanted are the names of which files are complete with one each.
func wanted(compiled *route.Compiled) []string {
	if m := compiled.Collect.Marker; m != "" {
		return []string{m}
	}
	return compiled.Collect.Names
}

// count notes that a file has come, or is gone.
func (k *collection) count(compiled *route.Compiled, candidate listen.Candidate, n int) {
	for i, pattern := range wanted(compiled) {
		if workspace.MatchPath(pattern, candidate.Folder, candidate.Name) {
			k.named[i] += n
		}
	}
}

// sinceWhen finds out since when files wait that are not complete, and forgets what does not wait any more.
func (c *Conductor) sinceWhen(l *listen.Listener, compiled *route.Compiled) error {
	w := c.collecting
	if !compiled.Collect.Counts() {
		return nil
	}
	var ask []string
	for key := range w.look {
		if k := w.all[key]; k.began.IsZero() && k.missing(compiled) != "" {
			ask = append(ask, key)
		}
	}
	if len(ask) > 0 {
		known, err := c.e.Store.Collections(c.work, c.node.ID, c.name, ask)
		if err != nil {
			return err
		}
		for key, since := range known {
			if k := w.all[key]; k != nil {
				k.began, k.lateOf = since.BeganAt, since.LateOf
			}
		}
	}
	// What is in the inbox has been noticed by the time that the listener has looked twice, and files were left alone.
	if settled := 2*compiled.Rhythm + 2*compiled.Quiet; time.Since(w.since) < lookEvery+settled || time.Since(w.tidied) < lookEvery {
		return nil
	}
	w.tidied = time.Now()
	for _, path := range l.Gone(slices.Collect(maps.Keys(w.of))) {
		w.drop(compiled, path)
	}
	return c.e.Store.Uncollect(c.work, c.node.ID, c.name, slices.Collect(maps.Keys(w.all)))
}

// missing says what files wait for; empty if they are complete.
func (k *collection) missing(compiled *route.Compiled) string {
	of := &compiled.Collect
	switch {
	case of.Count > 0 && len(k.files) < of.Count:
		return fmt.Sprintf("%d of %d files are there", len(k.files), of.Count)
	case of.Marker != "" && k.named[0] == 0:
		return fmt.Sprintf("there is no file %s yet", of.Marker)
	case of.Marker != "" && len(k.files) == k.named[0]:
		return fmt.Sprintf("there is %s, and no file that it belongs to", of.Marker)
	}
	var lacks []string
	for i, pattern := range of.Names {
		if k.named[i] == 0 {
			lacks = append(lacks, pattern)
		}
	}
	if lacks == nil {
		return ""
	}
	return "there is no file " + strings.Join(lacks, ", and none ") + " yet"
}

// group is files that go on together: those that are read, in their order, and then the others.
type group struct {
	files []shelved
	parts []store.Part
	store.Together
}

// complete gives the files of a collection that go on together now, nil if none do: then again is when to ask, though
// nothing comes; zero: never.
func (c *Conductor) complete(compiled *route.Compiled, k *collection, now time.Time, none bool) (g *group, again time.Time) {
	of, asked := &compiled.Collect, k.demand || !k.first.After(c.collecting.asked)
	if none && !asked {
		return nil, again
	}
	g = &group{}
	g.CollectKey = k.key
	if of.Counts() {
		g.Missing = k.missing(compiled)
	}
	if g.Missing != "" {
		g.LateOf = k.lateOf
	}
	if g.Missing != "" && !asked {
		// Those that it was waited for with did not wait: it waits for nobody any more.
		late, ends := k.lateOf > 0, k.began.Add(of.Within)
		switch {
		case k.began.IsZero(), of.Within == workspace.Forever && !late:
			return nil, again
		case !late && now.Before(ends):
			return nil, ends
		case of.Else == workspace.HoldIncomplete:
			c.tellIncomplete(k, g)
			return nil, again
		}
		g.Refused = of.Else == workspace.RejectIncomplete
	}
	g.files = slices.SortedFunc(maps.Values(k.files), func(a, b shelved) int {
		switch compiled.Order.By {
		case "name":
			return cmp.Or(listen.Natural(a.Name, b.Name), inOrder(a, b))
		case "time":
			return cmp.Or(a.Info.Modified.Compare(b.Info.Modified), inOrder(a, b))
		}
		return inOrder(a, b)
	})
	most := workspace.MostCollected
	if of.Count > 0 {
		most = of.Count
	}
	g.files = g.files[:min(len(g.files), most)]
	tellParts(compiled, g)
	return g, again
}

// tellParts says what each file is to the others, and puts those first that are read.
func tellParts(compiled *route.Compiled, g *group) {
	of := &compiled.Collect
	var read, others []shelved
	var parts []store.Part
	for _, s := range g.files {
		if codesOf(compiled, s.Folder, s.Name) != "" {
			others, parts = append(others, s), append(parts, store.Codes)
		} else if of.Marker != "" && workspace.MatchPath(of.Marker, s.Folder, s.Name) {
			others, parts = append(others, s), append(parts, store.Marker)
		} else {
			read = append(read, s)
		}
	}
	if of.Newest && len(read) > 1 {
		for _, s := range read[:len(read)-1] {
			others, parts = append(others, s), append(parts, store.Older)
		}
		read = read[len(read)-1:]
	}
	if len(read) == 0 { // those that they belong to have not come
		read, others, parts = others, nil, nil
	}
	g.parts = slices.Concat(slices.Repeat([]store.Part{store.ToRead}, len(read)), parts)
	g.files = append(read, others...)
}

// about is what an alert about a collection is about.
func (c *Conductor) about(key string) string { return strings.TrimSpace(c.name + " " + key) }

// tellIncomplete lets people know that files wait for others that have not come in time.
func (c *Conductor) tellIncomplete(k *collection, g *group) {
	if k.told {
		return
	}
	k.told = true
	why := g.Missing
	if k.lateOf > 0 {
		why = fmt.Sprintf("the others did not wait any longer: they are in pickup %d", k.lateOf)
	}
	c.e.Alert(store.Alert{Kind: "incomplete", Route: c.name, About: c.about(k.key), Message: fmt.Sprintf("%s: %s for others since %s: %s; `ydrion take %s` takes what is there", c.common(k.key), waits(len(k.files)), k.began.Local().Format("2006-01-02 15:04 MST"), why, c.name)}, false)
}

// common is how people read what files have in common.
func (c *Conductor) common(key string) string {
	if key == "" {
		return c.name
	}
	return c.name + " with " + key
}

func waits(files int) string {
	if files == 1 {
		return "1 file waits"
	}
	return fmt.Sprintf("%d files wait", files)
}

// mostParked is how many files of a collection are told anew what they wait for, each time one comes.
const mostParked = 100

// tellWaiting says of files why they are not taken.
func (c *Conductor) tellWaiting(l *listen.Listener, compiled *route.Compiled, k *collection, fresh []string) {
	if len(fresh) == 0 && !k.told {
		return
	}
	list := fresh
	if len(k.files) <= mostParked {
		list = slices.Collect(maps.Keys(k.files))
	}
	reason := "it waits for its time"
	if why := k.missing(compiled); compiled.Collect.Counts() && why != "" {
		reason = "it waits for others"
		if k.key != "" {
			reason += " with " + k.key
		}
		if w := compiled.Collect.Within; !k.began.IsZero() && w != workspace.Forever {
			reason += " until " + k.began.Add(w).Local().Format("2006-01-02 15:04 MST")
		}
		reason += ": " + why
	}
	l.Parked(reason, list...)
}

// claimTogether claims files that go on together: all of them, or none. Wait is when to try again.
func (c *Conductor) claimTogether(l *listen.Listener, compiled *route.Compiled, k *collection, g *group) (_ *item, wait time.Duration, err error) {
	changed := false
	for _, s := range g.files {
		info, err := c.e.FS.Look(s.Path)
		if err == nil && info.Same(s.Info) {
			continue
		}
		c.collecting.drop(compiled, s.Path)
		l.Again(s.Path, errChanged.Error(), 250*time.Millisecond)
		changed = true
	}
	if changed {
		return nil, 0, nil // they may not be complete any more
	}
	claims, err := c.claims(compiled, g.files, true)
	if err != nil {
		return nil, 0, err
	}
	ids, problems, err := c.claimAll(claims)
	if err != nil {
		return nil, 0, err
	}
	for i, s := range g.files {
		switch {
		case problems[i] != nil:
			c.collecting.drop(compiled, s.Path)
			c.cannot(l, s, problems[i])
		case ids[i] == 0:
			l.Parked("another pickup of it is open", s.Path)
		default:
			continue
		}
		wait = 5 * time.Second
	}
	if wait > 0 {
		return nil, wait, c.unclaim(ids)
	}
	var it *item
	for i, s := range g.files {
		one := c.claimed(compiled, s, &claims[i], ids[i])
		one.part = g.parts[i]
		one.Claimed, one.Files, one.Together = true, len(g.files), g.Together
		if i == 0 {
			it = one
		} else {
			one.Lane = nil // it goes where the first goes
			it.members = append(it.members, one)
		}
		c.collecting.drop(compiled, s.Path)
	}
	// Those that are left, if any, begin to wait now.
	k.began, k.lateOf, k.demand, k.first = time.Time{}, 0, false, time.Time{}
	for _, s := range k.files {
		if k.first.IsZero() || s.Noticed.Before(k.first) {
			k.first = s.Noticed
		}
	}
	if k.told = false; compiled.Collect.Else == workspace.HoldIncomplete {
		c.e.Over("incomplete", c.about(k.key))
	}
	c.mu.Lock()
	for _, f := range it.all() {
		c.busy[f.Pickup] = true
	}
	c.lanes.begin(it)
	c.mu.Unlock()
	return it, 0, nil
}

// all are the files of a run: a pickup, and those that go on together with it.
func (it *item) all() []*item { return append([]*item{it}, it.members...) }

// read are those that are read.
func (it *item) read() (out []*item) {
	for _, f := range it.all() {
		if f.part == "" || f.part == store.ToRead {
			out = append(out, f)
		}
	}
	return out
}

// undo gives up a claim whose run has not begun: those that were claimed with it are not gone on with either, and
// are collected again.
func (c *Conductor) undo(it *item) error {
	const why = "the files that it goes on together with could not be taken"
	undo := c.withdraw
	if it.Origin == "inbox" && c.there(c.held(it)) {
		undo = c.giveBack
	}
	if err := undo(it, why); err != nil {
		return err
	}
	it.back = true
	c.stands(it.Path, it.Pickup)
	return nil
}

// stands lets a file that was put back stand where it stood: before what has come since. A listener that is to come
// is told when it is there.
func (c *Conductor) stands(path string, pickup int64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.listener == nil {
		c.stood[path] = pickup
		return
	}
	c.listener.Before(path, pickup)
}

// incomplete is what is to be said of files that go on without others, or are rejected for that.
func incomplete(it *item) (out finding.List) {
	late := fmt.Sprintf("it came after others that belong to it, which did not wait any longer: they are in pickup %d", it.LateOf)
	switch at := place.InFile(it.Name); {
	case it.Missing == "":
		return nil
	case it.Refused && it.LateOf > 0:
		out = finding.List{finding.New("collect.late", at, "%s", late)}
	case it.Refused:
		out = finding.List{finding.New("collect.incomplete", at, "others that belong to it have not come in time: %s", it.Missing)}
	case it.LateOf > 0:
		return finding.List{finding.Warn("collect.late", at, "%s", late)}
	default:
		return finding.List{finding.Warn("collect.incomplete", at, "it went on without others that belong to it: %s", it.Missing)}
	}
	out[0] = out[0].Suggest("hand all of them in again together")
	return out
}
