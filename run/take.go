package run

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path/filepath"
	"sync/atomic"
	"time"

	"ydrion/archive"
	"ydrion/core/finding"
	"ydrion/core/lang"
	"ydrion/core/mail"
	"ydrion/core/place"
	"ydrion/core/value"
	"ydrion/files"
	"ydrion/listen"
	"ydrion/route"
	"ydrion/store"
	"ydrion/workspace"
)

// smallFile is up to which size a file is read once: its content is kept from
// the moment it is hashed until it is processed.
const smallFile = 256 << 10

// facts are what a map and names can know about a file.
func facts(compiled *route.Compiled, name, folder, event string, in *mail.Head, now time.Time) lang.Facts {
	return lang.Facts{Route: compiled.Name, Now: value.FromTime(now.In(time.Local)), Name: name, Folder: folder, Event: event, Mail: in}
}

// takeAll moves claimed files out of sight, finds out what they are, and begins
// their runs. It may be repeated after a crash at any point.
func (c *Conductor) takeAll(items []*item) {
	var took []*item
	var takes []store.Take
	for _, it := range items {
		all := it.all()
		if !c.takeFiles(all) {
			continue
		}
		now := stamp()
		for _, f := range all {
			f.Now = &now
			took = append(took, f)
			takes = append(takes, store.Take{Pickup: f.Pickup, SHA256: *f.SHA256, Size: f.Size, Revision: *f.Revision, Now: now, With: it.Pickup, Files: len(all), Part: f.part, Together: it.Together})
		}
	}
	c.mu.Lock()
	l := c.listener
	c.mu.Unlock()
	for _, it := range items {
		for _, f := range it.all() {
			if l != nil && f.Origin != "left" && !f.back {
				l.Forget(f.Path, f.Inode)
			}
			if l != nil && f.resumed {
				c.unshelve(f)
			}
		}
	}
	if len(took) == 0 {
		return
	}
	begun, err := c.e.Store.Taken(c.work, c.node.ID, c.name, takes)
	for i, it := range took {
		if err != nil || begun[i].Run == 0 {
			if err == nil {
				err = errors.New("another node goes on with it")
			}
			it.stage = ended
			c.trouble("recording that a file was taken", err)
		}
	}
	if err == nil {
		meet(took, begun)
	}
	for _, it := range took {
		if it.stage == taking {
			c.took(it)
		}
	}
}

// took brings a file whose run has begun to the next stage.
func (c *Conductor) took(it *item) {
	it.State, it.stage = "taken", processing
	c.forgetGone(it)
	it.verdict = judge(it, it.compiled.Duplicates)
}

// meet gives files their runs, and what came before them.
func meet(took []*item, begun []store.Begun) {
	firsts := map[string]*item{}
	keyed := map[string]*item{}
	for i, it := range took {
		b := begun[i]
		if b.Run == 0 {
			continue
		}
		it.Run, it.Before, it.BeforeName, it.BeforeKey, it.BeforeKeyName = &b.Run, b.Before, b.BeforeName, b.BeforeKey, b.BeforeKeyName
		// Those taken together do not see each other in the records yet.
		if first := firsts[*it.SHA256]; first != nil && it.Before == 0 {
			it.Before, it.BeforeName = first.Pickup, first.Name
		} else if first == nil {
			firsts[*it.SHA256] = it
		}
		if it.Key != nil {
			if first := keyed[*it.Key]; first != nil && it.BeforeKey == 0 {
				it.BeforeKey, it.BeforeKeyName = first.Pickup, first.Name
			} else if first == nil {
				keyed[*it.Key] = it
			}
		}
	}
}

// known reads files that are small and that nobody else can reach, since what was fetched or received lies where only we put things, and
// notes in their claims what they are. It is nil if not all are such: they are looked into when they have been taken.
func (c *Conductor) known(l *listen.Listener, chosen []shelved, claims []store.Claim) (contents [][]byte) {
	if below, err := filepath.Rel(c.e.Own, l.Folder); c.e.Own == "" || err != nil || !filepath.IsLocal(below) {
		return nil
	}
	sums := make([]string, len(chosen))
	for i, s := range chosen {
		if s.Event == listen.Gone || claims[i].Origin != "inbox" || s.Info.Size > smallFile {
			return nil
		}
		alone := false
		sum, size, content, err := c.hash(s.Path, &alone)
		if err != nil || !alone || size != s.Info.Size {
			return nil
		}
		sums[i], contents = sum, append(contents, content)
	}
	for i := range claims {
		claims[i].SHA256 = sums[i]
	}
	return contents
}

// begin takes files whose contents are known: what would be recorded when they are claimed, and then when they have been taken, is
// recorded at once. A crash before they are out of sight leaves pickups that are taken again (see retake).
func (c *Conductor) begin(l *listen.Listener, compiled *route.Compiled, chosen []shelved, claims []store.Claim, contents [][]byte) (items []*item, put bool, err error) {
	now := stamp()
	ids, begun, err := c.e.Store.Begin(c.work, c.node.ID, c.name, compiled.Hash, now, claims)
	if err != nil {
		return nil, false, err
	}
	runs := begun[:0]
	for i, s := range chosen {
		if ids[i] == 0 {
			put = true
			l.Again(s.Path, "another pickup of it is open", 5*time.Second)
			continue
		}
		it := c.claimed(compiled, s, &claims[i], ids[i])
		it.SHA256, it.content, it.alone, it.Now = &claims[i].SHA256, contents[i], true, &now
		items, runs = append(items, it), append(runs, begun[i])
	}
	c.enter(items)
	meet(items, runs)
	for _, it := range items {
		if c.try(it, taking, c.away); it.stage == taking {
			c.took(it)
		}
		if !it.back {
			l.Forget(it.Path, it.Inode)
		}
	}
	return items, put, nil
}

// takeFiles takes files that go on together: all, or none.
func (c *Conductor) takeFiles(all []*item) bool {
	took := true
	for _, f := range all {
		f.together = len(all) > 1
		if f.resumed && f.Claimed {
			c.try(f, taking, c.undo)
		} else {
			c.try(f, taking, c.take)
		}
		took = took && f.stage == taking
	}
	if len(all) == 1 {
		return took
	}
	if took {
		for _, f := range all {
			if f.Event != listen.Gone && f.Origin != "left" {
				c.unmark(f)
			}
		}
		return true
	}
	for _, f := range all {
		c.try(f, taking, c.undo)
	}
	all[0].stage = ended
	return false
}

// take brings one claimed file into our hands and finds out what it is.
func (c *Conductor) take(it *item) error {
	switch {
	case it.Event == listen.Gone:
		return c.takeGone(it)
	case it.Origin == "left":
		return c.takeLeft(it)
	}
	if err := c.away(it); err != nil || it.stage != taking {
		return err
	}
	if !it.together { // else it may have to be put back
		c.unmark(it) // at once: who sees that his file is gone may send another with its marker
	}
	return c.identify(it, it.held)
}

// away moves a claimed file out of sight, if it is what was claimed. Otherwise its claim ends.
func (c *Conductor) away(it *item) error {
	there := false
	if it.resumed {
		_, err := c.e.FS.Look(c.held(it))
		there = err == nil
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("taking %s: %w", it.Name, err)
		}
	}
	if !there {
		switch err := c.hold(it); {
		case errors.Is(err, fs.ErrNotExist):
			return c.withdraw(it, "the file went away before it was taken")
		case files.Vanished(err):
			return c.withdraw(it, "a folder on the way to it is another thing now; links are not followed")
		case err != nil:
			return fmt.Errorf("taking %s: %w", it.Name, err)
		}
	}
	held := it.held
	// It may be another file of that name by now: only what was claimed is taken.
	info, err := c.e.FS.Look(held)
	if err != nil {
		return fmt.Errorf("taking %s: %w", it.Name, err)
	}
	if reason := c.other(it, info); reason != "" {
		return c.giveBack(it, reason)
	}
	// Out of sight nobody can open it any more: if nobody has it open for writing
	// now, it will not change.
	switch reason, _, err := c.e.FS.Free(held); {
	case err != nil:
		return fmt.Errorf("taking %s: %w", it.Name, err)
	case reason != "":
		return c.giveBack(it, reason)
	}
	return nil
}

// other says why what lies in the file's place is not what was claimed; empty if it is.
// After a restart of the machine the same file system may have another number.
func (c *Conductor) other(it *item, info files.Info) string {
	switch {
	case info.Mode&fs.ModeSymlink != 0:
		return "it is a symbolic link now; links are not followed"
	case !info.Regular():
		return "it is not an ordinary file any more"
	case info.Inode != it.Inode || info.Size != it.Size || !sameMoment(info.Modified, it.Modified) || !it.resumed && info.Device != it.Device:
		return "it has changed since it was noticed"
	}
	return ""
}

// giveBack puts a file back that is not to be taken now, and ends its claim. It is
// noticed again when it is complete.
func (c *Conductor) giveBack(it *item, reason string) error {
	to, err := c.putBack(c.held(it), filepath.Dir(it.Path), inboxOf(&it.Pending), filepath.Base(it.Path))
	if err != nil {
		return err
	}
	if to == it.Path {
		c.again(it, reason)
	}
	return c.withdraw(it, "it was put back: "+reason)
}

// again lets a file be found anew that is in the inbox.
func (c *Conductor) again(it *item, reason string) {
	it.back = true
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.listener != nil {
		c.listener.Again(it.Path, reason, 250*time.Millisecond)
	}
}

// identify finds out what a held file is by its content. A file that somebody else can
// still reach, by another name or because he has it open, is copied into the archive:
// what is known of it is then known of the copy.
func (c *Conductor) identify(it *item, held string) error {
	sum, size, content, err := c.hash(held, &it.alone)
	if err != nil {
		return err
	}
	if !it.alone {
		content = nil
		if sum, size, err = c.e.Archive.Copy(held); err != nil {
			return err
		}
	}
	it.SHA256, it.Size, it.content = &sum, size, content
	return nil
}

// retake takes a file again whose taking a power failure has undone: it is the
// same file, back in the inbox.
func (c *Conductor) retake(it *item) error {
	if it.Origin != "inbox" || it.Again || c.there(c.held(it)) {
		return nil
	}
	info, err := c.e.FS.Look(it.Path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("looking for %s: %w", it.Name, err)
	}
	if c.other(it, info) != "" {
		return nil // another file of the same name
	}
	if err := c.hold(it); errors.Is(err, fs.ErrNotExist) {
		return nil
	} else if err != nil {
		return fmt.Errorf("taking %s again: %w", it.Name, err)
	}
	if info, err = c.e.FS.Look(it.held); err != nil || c.other(it, info) != "" {
		_, back := c.putBack(it.held, filepath.Dir(it.Path), inboxOf(&it.Pending), filepath.Base(it.Path))
		return errors.Join(err, back)
	}
	c.e.Log.Warn("a file that had been taken was in the inbox again", "pickup", it.Pickup, "route", c.name, "file", it.Name)
	return nil
}

// withdraw ends the claim on a file that will not be taken now.
func (c *Conductor) withdraw(it *item, reason string) error {
	if err := c.e.Store.Withdrawn(c.work, c.node.ID, it.Pickup, reason); err != nil {
		return err
	}
	it.stage = ended
	c.mu.Lock()
	c.lanes.end(it)
	if it.Lane != nil {
		c.release(*it.Lane, it.Pickup)
	}
	c.mu.Unlock()
	c.e.Tell(Event{Kind: "pickup", Route: c.name, Pickup: it.Pickup, Name: it.Name, State: "withdrawn", Reason: reason})
	return nil
}

// unmark removes the marker of a file that was taken. When that comes late, after
// a crash, the marker may be that of a newer file of the same name: then it is not older than that.
func (c *Conductor) unmark(it *item) {
	if it.compiled.Marker == nil || it.unmarked {
		return
	}
	it.unmarked = true
	name, problem := it.compiled.Marker.Name(&lang.Env{Facts: facts(it.compiled, it.Name, it.Folder, it.Event, it.Mail, time.Now())}, nil, 0)
	if problem != "" {
		return
	}
	marker := filepath.Join(filepath.Dir(it.Path), name)
	if it.resumed {
		newer, err := c.e.FS.Look(it.Path)
		if mark, also := c.e.FS.Look(marker); err == nil && also == nil && !mark.Modified.Before(newer.Modified) {
			return
		}
	}
	if err := c.fs.Remove(marker); err != nil && !errors.Is(err, fs.ErrNotExist) {
		c.e.Log.Warn("a marker cannot be removed", "route", c.name, "marker", name, "error", err)
	}
}

// takeLeft copies a file that stays where it is.
func (c *Conductor) takeLeft(it *item) error {
	sum, size, err := c.e.Archive.Copy(it.Path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		c.mu.Lock()
		l := c.listener
		c.mu.Unlock()
		if l != nil {
			l.Forget(it.Path, it.Inode)
		}
		return c.withdraw(it, "the file went away before it was taken")
	case err != nil:
		return err
	}
	info, err := c.e.FS.Look(it.Path)
	if err != nil {
		return fmt.Errorf("taking %s: %w", it.Path, err)
	}
	c.mu.Lock()
	l := c.listener
	c.mu.Unlock()
	same := false
	if l != nil {
		same = l.Leave(it.Path, listen.Known{Info: info, SHA256: sum})
	}
	// It is known before its run begins: a crash in between finds its claim.
	if err := c.e.Store.Leave(c.work, c.name, []store.LeftFile{{Path: it.Path, Folder: it.Folder, Size: info.Size, Modified: info.Modified, Device: info.Device, Inode: info.Inode, SHA256: sum}}); err != nil {
		return err
	}
	if same && !it.resumed {
		return c.withdraw(it, "its content is the same as before")
	}
	it.SHA256, it.Size = &sum, size
	return nil
}

// takeGone takes the last content of a file that has disappeared.
func (c *Conductor) takeGone(it *item) error {
	if it.SHA256 == nil {
		left, err := c.e.Store.LeftFile(c.work, c.name, it.Path)
		if errors.Is(err, store.ErrNotFound) {
			return c.withdraw(it, "nothing is known of it any more")
		}
		if err != nil {
			return err
		}
		it.SHA256, it.Size = &left.SHA256, left.Size
	}
	return nil
}

// forgetGone drops what is known of a file that is gone, once its pickup has
// begun. It may be repeated after a crash.
func (c *Conductor) forgetGone(it *item) {
	if it.Event != listen.Gone || it.SHA256 == nil {
		return
	}
	c.mu.Lock()
	l := c.listener
	c.mu.Unlock()
	if l != nil {
		l.Unleave(it.Path)
	}
	if err := c.e.Store.Forget(c.work, c.name, it.Path, *it.SHA256); err != nil {
		c.trouble("forgetting a file that is gone", err)
	}
}

// hash reads a held file; a change while it is read starts that over. The content of a
// small file is given too. Alone, unless nil, is told whether nobody else can reach it.
func (c *Conductor) hash(path string, alone *bool) (sum string, size int64, content []byte, err error) {
	for range 5 {
		f, err := c.e.FS.Open(path)
		if err != nil {
			return "", 0, nil, fmt.Errorf("reading %s: %w", path, err)
		}
		before, err := f.Info()
		if alone != nil {
			*alone = f.Alone()
		}
		from := &lively{f, &c.beat[taking]}
		if err == nil && before.Size <= smallFile {
			content = make([]byte, before.Size+1) // one more, to see that it has not grown
			var n int
			if n, err = io.ReadFull(from, content); err == io.EOF || err == io.ErrUnexpectedEOF {
				err = nil
			}
			content, size = content[:n], int64(n)
			sum = archive.Sum(content)
		} else if err == nil {
			content = nil
			sum, size, err = archive.Hash(from)
		}
		after, lookErr := f.Info()
		if err := errors.Join(err, lookErr, f.Close()); err != nil {
			return "", 0, nil, fmt.Errorf("reading %s: %w", path, err)
		}
		if before.Same(after) && size == after.Size {
			return sum, size, content, nil
		}
	}
	return "", 0, nil, fmt.Errorf("reading %s: %w", path, archive.ErrChanging)
}

// lively shows a sign of life with each portion that is read.
type lively struct {
	io.Reader
	beat *atomic.Int64
}

func (l *lively) Read(b []byte) (int, error) {
	n, err := l.Reader.Read(b)
	l.beat.Store(time.Now().UnixNano())
	return n, err
}

// verdict is what is to be done about a file that came before.
type verdict struct {
	finding finding.Finding
	what    workspace.OnDuplicate
}

// judge says what is to be done about a file that came before; nil if nothing.
func judge(it *item, d workspace.Duplicates) *verdict {
	if it.Again || it.Admitted || it.Event == listen.Gone {
		return nil
	}
	var out *verdict
	weigh := func(what workspace.OnDuplicate, code, message string, args ...any) {
		f := finding.Warn(code, place.InFile(it.Name), message, args...)
		if what == workspace.Reject {
			f.Severity = finding.Error
		}
		if what != workspace.Pass && (out == nil || severity(what) > severity(out.what)) {
			out = &verdict{f, what}
		}
	}
	if it.Before > 0 {
		weigh(d.Content, "file.again", "the same content came before, as %s in pickup %d", it.BeforeName, it.Before)
	}
	if it.BeforeKey > 0 {
		weigh(d.SameKey, "file.key-again", "%s came before, as %s in pickup %d", *it.Key, it.BeforeKeyName, it.BeforeKey)
	}
	return out
}

func severity(what workspace.OnDuplicate) int {
	return map[workspace.OnDuplicate]int{workspace.Warn: 1, workspace.Hold: 2, workspace.Reject: 3}[what]
}
