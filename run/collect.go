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
	began  time.Time          // zero: it has not been asked for
	lateOf int64
	told   bool // that something is missing
}

// fetchTogether fetches files and takes those that are complete.
func (c *Conductor) fetchTogether(l *listen.Listener, compiled *route.Compiled, until time.Time, none bool) ([]*item, time.Duration) {
	fresh := c.gather(l, compiled, until, none)
	now := c.e.Clock()
	if err := c.since(compiled, fresh); err != nil {
		return nil, c.trouble("noting that files wait for others", err)
	}
	var items []*item
	wait, size := time.Duration(0), int64(0)
	for _, key := range slices.Sorted(maps.Keys(c.collecting)) {
		for k := c.collecting[key]; k != nil && len(k.files) > 0 && len(items) < groupFiles && size < groupBytes; {
			g, left := c.complete(compiled, k, now, none)
			if g == nil {
				if left > 0 && (wait == 0 || left < wait) {
					wait = left
				}
				c.tellWaiting(l, compiled, k, fresh[key])
				break
			}
			it, again, err := c.claimTogether(l, compiled, k, g)
			if err != nil {
				c.takeAll(items)
				return items, c.trouble("claiming files", err)
			}
			if again > 0 && (wait == 0 || again < wait) {
				wait = again
			}
			if it == nil {
				break
			}
			items = append(items, it)
			for _, f := range it.all() {
				size += f.Size
			}
		}
		if k := c.collecting[key]; k != nil && len(k.files) == 0 {
			delete(c.collecting, key)
		}
	}
	c.takeAll(items)
	return items, wait
}

// gather fetches files that are ready and puts them with those that they belong to. It gives the new ones.
func (c *Conductor) gather(l *listen.Listener, compiled *route.Compiled, until time.Time, none bool) map[string][]string {
	if c.collecting == nil {
		c.collecting = map[string]*collection{}
	}
	fresh := map[string][]string{}
	for _, candidate := range l.Fetch(workspace.MostCollected, until, none) {
		if c.isTaken(&shelved{Candidate: candidate}) {
			l.Again(candidate.Path, "its pickup is open", 5*time.Second)
			continue
		}
		keys, problem := c.keys(compiled, candidate)
		if problem != nil {
			l.Again(candidate.Path, problem.Error(), 5*time.Second)
			continue
		}
		for _, k := range c.collecting {
			k.drop(compiled, candidate.Path) // it may have belonged elsewhere before it was written anew
		}
		k := c.collecting[keys.with]
		if k == nil {
			k = &collection{key: keys.with, files: map[string]shelved{}, named: make([]int, len(wanted(compiled)))}
			c.collecting[keys.with] = k
		}
		k.files[candidate.Path] = shelved{candidate, keys}
		k.count(compiled, candidate, 1)
		fresh[keys.with] = append(fresh[keys.with], candidate.Path)
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

// drop forgets a file.
func (k *collection) drop(compiled *route.Compiled, path string) {
	if s, is := k.files[path]; is {
		delete(k.files, path)
		k.count(compiled, s.Candidate, -1)
	}
}

// since finds out since when files wait that are not complete, and forgets what does not wait any more.
func (c *Conductor) since(compiled *route.Compiled, fresh map[string][]string) error {
	if !compiled.Collect.Counts() {
		return nil
	}
	var ask []string
	for key := range fresh {
		if k := c.collecting[key]; k.began.IsZero() && c.missing(compiled, k) != "" {
			ask = append(ask, key)
		}
	}
	if len(ask) > 0 {
		known, err := c.e.Store.Collections(c.work, c.node.ID, c.name, ask)
		if err != nil {
			return err
		}
		for key, since := range known {
			if k := c.collecting[key]; k != nil {
				k.began, k.lateOf = since.BeganAt, since.LateOf
			}
		}
	}
	if time.Since(c.tidied) < lookEvery {
		return nil
	}
	// What came a while ago has been noticed by now, if it is still there.
	if err := c.e.Store.Uncollect(c.work, c.node.ID, c.name, slices.Collect(maps.Keys(c.collecting)), c.listening); err != nil {
		return err
	}
	c.tidied = time.Now()
	return nil
}

// missing says what files wait for; empty if they are complete.
func (c *Conductor) missing(compiled *route.Compiled, k *collection) string {
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

// complete gives the files of a collection that go on together now, nil if none do. Left is when to ask again; 0 is
// when something happens.
func (c *Conductor) complete(compiled *route.Compiled, k *collection, now time.Time, none bool) (*group, time.Duration) {
	of := &compiled.Collect
	g := &group{}
	g.CollectKey = k.key
	g.LateOf = k.lateOf
	asked := false
	c.mu.Lock()
	until := c.asked
	c.mu.Unlock()
	for _, s := range k.files {
		asked = asked || s.Demand || !until.IsZero() && !s.Noticed.After(until)
		g.files = append(g.files, s)
	}
	if none && !asked {
		return nil, 0
	}
	slices.SortStableFunc(g.files, func(a, b shelved) int {
		switch compiled.Order.By {
		case "name":
			if c := listen.Natural(a.Name, b.Name); c != 0 {
				return c
			}
		case "time":
			if c := a.Info.Modified.Compare(b.Info.Modified); c != 0 {
				return c
			}
		}
		return inOrder(a, b)
	})
	if of.Counts() {
		if g.Missing = c.missing(compiled, k); g.Missing == "" {
			g.LateOf = 0
		} else if !asked {
			// Those that it was waited for with are gone: it waits for nobody any more.
			left := of.Within - now.Sub(k.began)
			if of.Within == workspace.Forever && k.lateOf == 0 || k.began.IsZero() {
				return nil, 0
			}
			if left > 0 && k.lateOf == 0 {
				return nil, left
			}
			if g.Refused = of.Else == workspace.RejectIncomplete; of.Else == workspace.HoldIncomplete {
				c.tellIncomplete(k, g)
				return nil, 0
			}
		}
	}
	if len(g.files) > workspace.MostCollected {
		g.files = g.files[:workspace.MostCollected]
	}
	if of.Count > 0 && len(g.files) > of.Count {
		g.files = g.files[:of.Count]
	}
	c.tellParts(compiled, g)
	return g, 0
}

// tellParts says what each file is to the others, and puts those first that are read.
func (c *Conductor) tellParts(compiled *route.Compiled, g *group) {
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
func (c *Conductor) about(key string) string { return cmp.Or(c.name+" "+key, c.name) }

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
	c.e.Alert(store.Alert{Kind: "incomplete", Route: c.name, About: c.about(k.key), Message: fmt.Sprintf("%s of %s wait for others since %s: %s; `ydrion take %s` takes what is there", counted(len(k.files)), c.common(k.key), k.began.Local().Format("2006-01-02 15:04 MST"), why, c.name)}, false)
}

// common is how people read what files have in common.
func (c *Conductor) common(key string) string {
	if key == "" {
		return c.name
	}
	return c.name + " with " + key
}

func counted(files int) string {
	if files == 1 {
		return "1 file"
	}
	return fmt.Sprintf("%d files", files)
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
	if why := c.missing(compiled, k); compiled.Collect.Counts() && why != "" {
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
	for _, s := range g.files {
		info, err := c.e.FS.Look(s.Path)
		if err == nil && info.Same(s.Info) {
			continue
		}
		k.drop(compiled, s.Path)
		l.Again(s.Path, errChanged.Error(), 250*time.Millisecond)
		wait = time.Millisecond
	}
	if wait > 0 {
		return nil, wait, nil // they may not be complete any more
	}
	ids, problems, err := c.claimAll(c.claims(compiled, g.files, true))
	if err != nil {
		return nil, 0, err
	}
	for i, s := range g.files {
		switch {
		case problems[i] != nil:
			k.drop(compiled, s.Path)
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
		one := c.claimed(compiled, s, ids[i])
		one.part = g.parts[i]
		one.Claimed, one.Files, one.Together = true, len(g.files), g.Together
		if i == 0 {
			it = one
		} else {
			one.Lane = nil // it goes where the first goes
			it.members = append(it.members, one)
		}
		k.drop(compiled, s.Path)
	}
	k.began, k.lateOf = time.Time{}, 0
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
	// It stands where it stood: before what has come since.
	it.back = true
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.listener != nil {
		c.listener.Before(it.Path, it.Pickup)
	}
	return nil
}

// incomplete is what is to be said of files that go on without others.
func incomplete(it *item) (out finding.List) {
	if it.Missing == "" {
		return nil
	}
	code, sentence := "collect.incomplete", fmt.Sprintf("it went on without others that belong to it: %s", it.Missing)
	if it.LateOf > 0 {
		code, sentence = "collect.late", fmt.Sprintf("it came after others that belong to it, which did not wait any longer: they are in pickup %d", it.LateOf)
	}
	f := finding.Warn(code, place.InFile(it.Name), "%s", sentence)
	if it.Refused {
		f.Severity = finding.Error
		f.Message = strings.Replace(f.Message, "it went on without others that belong to it", "others that belong to it have not come in time", 1)
		f = f.Suggest("hand all of them in again together")
	}
	return finding.List{f}
}
