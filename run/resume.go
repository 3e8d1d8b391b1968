package run

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"ydrion/deliver"
	"ydrion/files"
	"ydrion/listen"
	"ydrion/store"
)

// mostAtOnce is how many pickups that failed are tried in one go.
const mostAtOnce = 3

// longestPause is the longest time between two tries. A next try that is further away
// was written by a clock that has been set back since.
const longestPause = time.Minute + 5*time.Second

// due tells whether a held pickup is to be tried now, and otherwise when.
func due(next *time.Time, now time.Time) (is bool, at time.Time) {
	left := next.Sub(now)
	if left <= 0 || left > longestPause {
		return true, now
	}
	return false, time.Now().Add(left)
}

// resume finds the open pickups that can go on, and the lanes that are held.
func (c *Conductor) resume() ([]*item, error) {
	if err := c.restore(); err != nil {
		return nil, err
	}
	var out []*item
	holders, open, stalled, retried := map[string][]int64{}, map[int64]bool{}, 0, 0
	taken := map[string]identity{}
	var several []int64 // runs
	now := time.Now()
	for after := int64(0); ; {
		// What ends while the records answer is not what they say any more.
		c.mu.Lock()
		clear(c.left)
		c.mu.Unlock()
		page, err := c.e.Store.Unfinished(c.work, c.name, after, 500)
		if err != nil {
			return nil, err
		}
		if len(page) == 0 {
			break
		}
		for _, p := range page {
			after, open[p.Pickup] = p.Pickup, true
			held := p.State == "held" || p.State == "uncertain"
			if p.Run != nil && p.Origin == "inbox" {
				taken[p.Path] = identityOf(p.Inode, p.Size, p.Modified)
			}
			if p.Run != nil && p.Files > 1 {
				several = append(several, *p.Run)
			}
			if held && p.Lane != nil && !p.Passed {
				holders[*p.Lane] = append(holders[*p.Lane], p.Pickup)
			}
			if p.NextTry != nil && held {
				stalled++
			}
			c.mu.Lock()
			goesOn, left := c.left[p.Pickup]
			ready, at := false, time.Time{}
			if held && p.NextTry != nil {
				ready, at = due(p.NextTry, now)
			}
			switch {
			case c.sending[p.Pickup] != nil:
				if c.hurry(&p); held {
					c.later(time.Now().Add(time.Second)) // it may end while the records answer
				}
			case c.busy[p.Pickup] && held:
				c.later(time.Now().Add(300 * time.Millisecond))
			case left:
				c.look = c.look || goesOn
			case c.busy[p.Pickup], p.State == "uncertain", held && p.NextTry == nil:
			case held && !ready:
				c.later(at)
			case held && retried >= mostAtOnce:
				c.later(time.Now().Add(200 * time.Millisecond))
			case len(out) >= groupFiles:
				c.look = true
			default:
				if held {
					retried++
				}
				c.busy[p.Pickup] = true
				it := &item{Pending: p, resumed: true, started: now}
				c.lanes.begin(it)
				out = append(out, it)
			}
			c.mu.Unlock()
			if p.State == "uncertain" {
				c.mu.Lock()
				c.later(time.Now().Add(reconsiderEvery))
				c.mu.Unlock()
				c.reconsider(p)
			}
		}
	}
	members, err := c.membersOf(several)
	if err != nil {
		c.giveUp(out)
		return nil, err
	}
	for _, list := range members {
		for _, m := range list {
			taken[m.Path] = identityOf(m.Inode, m.Size, m.Modified)
		}
	}
	c.mu.Lock()
	c.stalled, c.taken = stalled, taken
	c.failures = 0
	c.looked = time.Now()
	c.block(holders)
	c.lanes.keep(func(n int64) bool { return open[n] || c.busy[n] })
	c.mu.Unlock()
	for _, it := range out {
		if it.Run != nil {
			c.bringTogether(it, members[*it.Run])
		}
		c.prepare(it)
	}
	return out, nil
}

// membersOf gives the files of runs of several, but for the first of each.
func (c *Conductor) membersOf(runs []int64) (map[int64][]store.Member, error) {
	if len(runs) == 0 {
		return nil, nil
	}
	return c.e.Store.Members(c.work, runs)
}

// giveUp leaves pickups that were about to be gone on with for the next look.
func (c *Conductor) giveUp(items []*item) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, it := range items {
		delete(c.busy, it.Pickup)
		c.lanes.end(it)
	}
}

// bringTogether gives a pickup the others of its run.
func (c *Conductor) bringTogether(it *item, members []store.Member) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, m := range members {
		it.members = append(it.members, &item{Pending: m.Pending, part: m.Part, resumed: true, started: it.started})
		c.busy[m.Pickup] = true
	}
}

// reconsiderEvery is how often it is looked whether an uncertain pickup can be decided.
const reconsiderEvery = 5 * time.Second

// reconsider goes on with a pickup of which nobody could tell whether its outputs have
// arrived, when the folders that held them are there again: a share was not mounted.
func (c *Conductor) reconsider(p store.Pending) {
	if p.Run == nil || p.RunState == nil || *p.RunState != "committed" {
		return
	}
	list, err := c.e.Store.UncertainOf(c.work, *p.Run)
	if err != nil || len(list) == 0 {
		return // it is looked at again
	}
	for _, d := range list {
		if distant(&d) {
			return // nobody but a person can tell
		}
		c.e.FS.Confine(d.Folder)
		holder := deliver.Holder{Device: d.Device, Inode: d.Inode}
		info, err := c.e.FS.Look(filepath.Dir(d.Temporary))
		if err != nil || holder == (deliver.Holder{}) || !holder.Is(info) {
			return
		}
	}
	if err := c.e.Store.Certain(c.work, c.node.ID, store.RunOf{Run: *p.Run, Pickup: p.Pickup}); err != nil && !errors.Is(err, store.ErrNotFound) {
		c.e.Log.Error("going on with an uncertain pickup", "pickup", p.Pickup, "error", err)
		return
	}
	c.e.Log.Info("the folder that held the outputs of an uncertain pickup is back", "pickup", p.Pickup, "route", c.name)
	c.mu.Lock()
	c.later(time.Now())
	c.mu.Unlock()
}

// prepare finds where a resumed pickup stands, with the others of its run.
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
	for _, f := range it.all() {
		if f.Origin != "handed" && f.Path != "" {
			c.e.FS.Confine(inboxOf(&f.Pending))
		}
	}
	var err error
	if it.compiled, err = c.e.Compiled(c.work, c.name, *it.Revision); err != nil {
		c.fail(it, err)
		return
	}
	c.confine(it.compiled)
	for _, f := range it.members {
		f.compiled, f.stage = it.compiled, it.stage
	}
	if it.stage == taking {
		c.takeAll([]*item{it})
		return
	}
	for _, f := range it.all() {
		if it.stage != processing {
			return // one of them could not be taken again
		}
		c.try(it, processing, func(*item) error { return c.retake(f) })
		if !f.Again {
			c.forgetGone(f)
		}
		f.verdict = judge(f, f.compiled.Duplicates)
	}
}

// inboxOf is the folder that was listened to when a file came: without the folders
// below it that the file was in.
func inboxOf(p *store.Pending) string {
	inbox := filepath.Dir(p.Path)
	if p.Folder == "" {
		return inbox
	}
	for range strings.Count(p.Folder, "/") + 1 {
		inbox = filepath.Dir(inbox)
	}
	return inbox
}

// block sets which pickups hold lanes; lanes that are no longer held go on. The caller
// holds the lock.
func (c *Conductor) block(holders map[string][]int64) {
	if c.compiled != nil && !c.compiled.Order.Holds {
		clear(holders)
	}
	for lane, now := range c.lanes.holders {
		for by := range now {
			if !slices.Contains(holders[lane], by) && !c.busy[by] {
				c.release(lane, by)
			}
		}
	}
	for lane, list := range holders {
		for _, by := range list {
			c.lanes.hold(lane, by)
		}
	}
}

// release lets a lane go on, unless another pickup holds it too. The caller holds the
// lock.
func (c *Conductor) release(lane string, by int64) {
	waiting, free := c.lanes.release(lane, by)
	if len(waiting) > 0 {
		if c.listener != nil {
			c.listener.Parked(listen.Turn, paths(waiting)...)
		}
		c.shelf = slices.Concat(waiting, c.shelf)
		c.sortShelf()
	}
	if free {
		c.e.Over("lane held", c.name+" "+lane)
		c.wake()
	}
}

// heldPrefix begins the names of held files.
const heldPrefix = "pickup-"

// heldName is how a held file is called: by the installation's mark, the pickup's number
// and the file's own name.
func (c *Conductor) heldName(p *store.Pending) string {
	return fmt.Sprintf("%s%s-%d-%s", heldPrefix, c.e.Mark, p.Pickup, filepath.Base(p.Path))
}

// holding is where a file lies until its run is committed: hidden in the listened
// folder, below it as deep as it was. So it stays ours although a sender moves or
// removes the folder that it was in.
func (c *Conductor) holding(p *store.Pending) string {
	inbox := inboxOf(p)
	below, err := filepath.Rel(inbox, filepath.Dir(p.Path))
	if err != nil {
		below = "."
	}
	return filepath.Join(inbox, files.Hidden, below, c.heldName(p))
}

// nearby is where a file lies instead whose folder is on another file system than the
// listened one.
func (c *Conductor) nearby(p *store.Pending) string {
	return filepath.Join(filepath.Dir(p.Path), files.Hidden, c.heldName(p))
}

// held is where a pickup's file lies, or would lie.
func (c *Conductor) held(it *item) string {
	if it.held == "" {
		it.held = c.holding(&it.Pending)
		if near := c.nearby(&it.Pending); near != it.held && !c.there(it.held) && c.there(near) {
			it.held = near
		}
	}
	return it.held
}

// hold moves a file out of sight.
func (c *Conductor) hold(it *item) error {
	it.held = c.holding(&it.Pending)
	err := c.moveInto(it.Path, it.held)
	if errors.Is(err, files.ErrOtherDevice) {
		it.held = c.nearby(&it.Pending)
		err = c.moveInto(it.Path, it.held)
	}
	return err
}

// moveInto moves a file into a hidden folder, which it makes if need be.
func (c *Conductor) moveInto(from, to string) error {
	err := c.fs.Move(from, to)
	if !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if _, err := c.e.FS.Look(from); err != nil {
		return err
	}
	if err := c.fs.MakeFolder(filepath.Dir(to), 0o700); err != nil {
		return fmt.Errorf("making a place for it: %w", err)
	}
	return c.fs.Move(from, to)
}

// letGo removes a held file, and the hidden folders it was in below that of the listened
// folder if nothing else is in them.
func (c *Conductor) letGo(it *item) error {
	held := c.held(it)
	if err := c.fs.Remove(held); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("giving up the held file: %w", err)
	}
	c.tidyAbove(held, inboxOf(&it.Pending))
	return nil
}

// tidyAbove removes empty hidden folders around a held file that is gone, but for the
// one of the listened folder.
func (c *Conductor) tidyAbove(held, inbox string) {
	for folder := filepath.Dir(held); folder != filepath.Join(inbox, files.Hidden) && strings.Contains(folder, "/"+files.Hidden); folder = filepath.Dir(folder) {
		if c.fs.Remove(folder) != nil {
			return // others are held there
		}
	}
}

// restoreEvery is how often held files are compared with the records although nothing
// is known to be wrong.
const restoreEvery = 20 * time.Second

// restore puts files back into the inbox that are held and not for an open pickup of
// this route: the database has lost its latest records, or a node that had been given
// up took them. They stand before everything that is still in the inbox.
func (c *Conductor) restore() error {
	c.mu.Lock()
	l, troubles := c.listener, c.troubles
	if c.failures > 0 {
		troubles++
	}
	c.troubles = 0
	due := c.restored.IsZero() || troubles > 0 || time.Since(c.restored) >= restoreEvery
	c.mu.Unlock()
	if l == nil || !due {
		return nil
	}
	if err := c.restoreAll(l); err != nil {
		c.mu.Lock()
		c.troubles += troubles
		c.mu.Unlock()
		return err
	}
	c.mu.Lock()
	c.restored = time.Now()
	c.mu.Unlock()
	return nil
}

// heldFile is a file in a hidden folder of an inbox.
type heldFile struct {
	files.Info
	path   string
	pickup int64
	folder string // that it was in
	name   string // of the file there
}

// restoreAll looks through the hidden folders of a listened folder.
func (c *Conductor) restoreAll(l *listen.Listener) error {
	c.closeHidden(filepath.Join(l.Folder, files.Hidden))
	held, err := c.heldIn(nil, filepath.Join(l.Folder, files.Hidden), l.Folder)
	for _, folder := range l.Folders()[1:] {
		if err == nil {
			held, err = c.heldIn(held, filepath.Join(folder, files.Hidden), folder)
		}
	}
	if err != nil || len(held) == 0 {
		return err
	}
	ids := make([]int64, len(held))
	for i, h := range held {
		ids[i] = h.pickup
	}
	// What is in the folders was listed before the records are asked: what is taken
	// meanwhile is not among it.
	known, err := c.e.Store.Holders(c.work, ids)
	if err != nil {
		return err
	}
	slices.SortFunc(held, func(a, b heldFile) int { return cmp.Compare(a.pickup, b.pickup) })
	for _, h := range held {
		if err := c.restoreOne(known[h.pickup], h, l.Folder); err != nil {
			return err
		}
	}
	return nil
}

// heldIn lists held files in a hidden folder and below it. Folder is where they were.
func (c *Conductor) heldIn(held []heldFile, hidden, folder string) ([]heldFile, error) {
	entries, err := c.e.FS.List(hidden)
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, files.ErrLink) {
		return held, nil
	}
	if err != nil {
		return held, fmt.Errorf("looking for held files: %w", err)
	}
	for _, entry := range entries {
		path := filepath.Join(hidden, entry.Name)
		if entry.Mode.IsDir() {
			if held, err = c.heldIn(held, path, filepath.Join(folder, entry.Name)); err != nil {
				return held, err
			}
			continue
		}
		rest, ours := strings.CutPrefix(entry.Name, heldPrefix+c.e.Mark+"-")
		number, name, ok := strings.Cut(rest, "-")
		id, err := strconv.ParseInt(number, 10, 64)
		if ours && ok && err == nil && !c.isBusy(id) {
			held = append(held, heldFile{entry, path, id, folder, name})
		}
	}
	return held, nil
}

func (c *Conductor) isBusy(pickup int64) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.busy[pickup]
}

// restoreOne decides about one held file. That of a pickup that has ended was given up
// before a power failure brought it back: but only if it is that very file, and not
// one of the same name that came later.
func (c *Conductor) restoreOne(by store.Holder, h heldFile, inbox string) error {
	its := by.Inode == h.Inode && by.Size == h.Size && sameMoment(by.Modified, h.Modified) && filepath.Base(by.Path) == h.name
	if by.Open && (its || by.Route != c.name) {
		return nil // it is needed
	}
	if its && by.SHA256 != "" && by.Route == c.name {
		sum, _, _, err := c.hash(h.path, nil)
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil {
			return err
		}
		if sum == by.SHA256 {
			// Somebody may have withdrawn it before it had its place in the archive.
			if err := c.archived(h.path, sum); err != nil {
				return err
			}
			c.e.Log.Info("a held file whose pickup has ended is given up: it is in the archive", "pickup", h.pickup, "file", store.Readable(h.name), "inbox", inbox)
			if err := c.fs.Remove(h.path); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return fmt.Errorf("giving up a held file: %w", err)
			}
			c.tidyAbove(h.path, inbox)
			return nil
		}
	}
	to, err := c.putBack(h.path, h.folder, inbox, h.name)
	if err != nil || to == "" {
		return err
	}
	c.stands(to, h.pickup)
	c.e.Log.Warn("a held file without an open pickup was put back", "pickup", h.pickup, "file", store.Readable(to))
	return nil
}

// sameMoment compares times as the database keeps them: to the microsecond.
func sameMoment(a, b time.Time) bool {
	return a.Truncate(time.Microsecond).Equal(b.Truncate(time.Microsecond))
}

// archived gives a file its place in the archive and makes it durable there.
func (c *Conductor) archived(file, sum string) error {
	err := c.e.Archive.Keep(file, sum, false)
	if err == nil {
		err = c.e.Archive.Sync(sum)
	}
	for _, folder := range []string{filepath.Dir(c.e.Archive.Path(sum)), c.e.Archive.Folder()} {
		if err == nil {
			err = c.e.FS.SyncFolder(folder)
		}
	}
	return err
}

// putBack moves a held file to where it was, under its name or, if there is another of
// that name by now, with a number. Where its folder cannot be reached any more it comes
// into the listened folder. It gives where it is; nowhere if the file is gone.
func (c *Conductor) putBack(held, folder, inbox, name string) (to string, err error) {
	to, err = c.putInto(held, folder, name)
	if errors.Is(err, fs.ErrNotExist) {
		if _, look := c.e.FS.Look(held); errors.Is(look, fs.ErrNotExist) {
			return "", nil
		}
		if err = c.fs.MakeFolder(folder, 0o755); err == nil {
			to, err = c.putInto(held, folder, name)
		}
	}
	if err != nil && folder != inbox && !errors.Is(err, errGiven) {
		to, err = c.putInto(held, inbox, name)
	}
	if err != nil {
		return "", fmt.Errorf("putting %s back into %s: %w", store.Readable(name), folder, err)
	}
	c.tidyAbove(held, inbox)
	return to, nil
}

func (c *Conductor) putInto(held, folder, name string) (to string, err error) {
	err = deliver.Number(name, files.There(c.fs, folder), func(as string) (bool, error) {
		to = filepath.Join(folder, as)
		err := c.fs.Move(held, to)
		if errors.Is(err, fs.ErrExist) {
			return true, nil
		}
		return false, err
	})
	return to, err
}

// closeHidden lets nobody else look into a hidden folder that is there.
func (c *Conductor) closeHidden(hidden string) {
	if _, err := files.Private(c.e.FS, hidden); err != nil {
		c.e.Log.Warn("others can look into a hidden folder", "folder", hidden, "error", err)
	}
}

// Tidy removes temporaries that runs have left in hidden folders and that nobody goes
// on with: of runs that are over, that nobody has known for a week, or that another node works on now.
func (c *Conductor) Tidy() error {
	c.mu.Lock()
	compiled := c.compiled
	c.mu.Unlock()
	if compiled == nil {
		return nil
	}
	for _, folder := range c.destinations(compiled) {
		c.closeHidden(filepath.Join(folder, files.Hidden))
		if err := c.sweep(filepath.Join(folder, files.Hidden), 0); err != nil {
			return err
		}
	}
	return c.sweep(c.e.Spool, 0)
}

// unknownFor is how long temporaries of runs that nobody knows are left: after a backup was
// restored they may be all that is left of what came after it.
const unknownFor = 7 * 24 * time.Hour

// sweep removes what is not needed any more from a hidden folder: of one run or, with
// 0, of all. What is there is listed before the records are asked, so that what others
// make meanwhile is not met.
func (c *Conductor) sweep(hidden string, run int64) error {
	found, err := deliver.Leftovers(c.e.FS, hidden, c.e.Mark)
	if err != nil {
		return err
	}
	var runs []int64
	for _, l := range found {
		if run == 0 || l.Run == run {
			runs = append(runs, l.Run)
		}
	}
	if len(runs) == 0 {
		return nil
	}
	slices.Sort(runs)
	owners, err := c.e.Store.Owners(c.work, slices.Compact(runs))
	if err != nil {
		return err
	}
	for _, l := range found {
		owner, known := owners[l.Run]
		switch {
		case run != 0 && l.Run != run:
			continue
		case known && owner.Open && !owner.Working, known && owner.Working && owner.Node == l.Node && run == 0:
			continue // it will be published, or is being written
		case !known && run == 0 && time.Since(l.Modified) < unknownFor:
			continue
		case run != 0 && owner.Node != c.node.ID:
			return errGiven
		}
		if err := c.fs.Remove(l.Path); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("sweeping %s: %w", hidden, err)
		}
		c.e.Log.Info("a temporary that nobody needs any more was removed", "route", c.name, "run", l.Run, "file", l.Path)
	}
	return nil
}
