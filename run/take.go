package run

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"ydrion/archive"
	"ydrion/core/finding"
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

// smallFile is up to which size a file is read once: its content is kept from
// the moment it is hashed until it is processed.
const smallFile = 256 << 10

// facts are what a map and names can know about a file.
func facts(compiled *route.Compiled, name, folder, event string, now time.Time) lang.Facts {
	return lang.Facts{Route: compiled.Name, Now: value.FromTime(now.In(time.Local)), Name: name, Folder: folder, Event: event}
}

// keys makes what the order and the duplicates depend on.
func (c *Conductor) keys(compiled *route.Compiled, candidate listen.Candidate) (k keys, problem error) {
	if compiled.Order.Lane == "all" {
		all := "all"
		k.lane = &all
	}
	if compiled.Lane == nil && compiled.By == nil && compiled.Key == nil {
		return k, nil
	}
	made := []string{"", "", ""}
	f := facts(compiled, candidate.Name, candidate.Folder, candidate.Event, time.Now())
	if candidate.Event == listen.Gone {
		// There is nothing to look into: only its name counts.
		for i, n := range []*lang.Namer{compiled.Lane, compiled.By, compiled.Key} {
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
		// What is wrong with the first record is found when the file is processed;
		// here it has no key.
		if made, _, err = compiled.Plan.Peek(file, f, compiled.Lane, compiled.By, compiled.Key); err != nil {
			return k, fmt.Errorf("it cannot be looked into: %w", err)
		}
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
	return k, nil
}

// compareNatural compares texts so that numbers in them count as numbers: 9
// comes before 10.
func compareNatural(a, b string) int {
	for a != "" && b != "" {
		i, j := digits(a), digits(b)
		if i > 0 && j > 0 {
			x, y := strings.TrimLeft(a[:i], "0"), strings.TrimLeft(b[:j], "0")
			if len(x) != len(y) {
				return len(x) - len(y)
			}
			if x != y {
				return strings.Compare(x, y)
			}
			a, b = a[i:], b[j:]
			continue
		}
		if a[0] != b[0] {
			return int(a[0]) - int(b[0])
		}
		a, b = a[1:], b[1:]
	}
	return len(a) - len(b)
}

func digits(s string) int {
	n := 0
	for n < len(s) && s[n] >= '0' && s[n] <= '9' {
		n++
	}
	return n
}

// claim records files as being taken and takes them.
func (c *Conductor) claim(l *listen.Listener, compiled *route.Compiled, chosen []shelved) ([]*item, error) {
	claims := make([]store.Claim, len(chosen))
	origin := "inbox"
	if compiled.Originals == workspace.Left {
		origin = "left"
	}
	for i, s := range chosen {
		claims[i] = store.Claim{Path: s.Path, Folder: s.Folder, Name: s.Name, Size: s.Info.Size, Modified: s.Info.Modified, Device: s.Info.Device, Inode: s.Info.Inode, Noticed: s.Noticed, Lane: s.lane, Key: s.key, Event: s.Event, Origin: origin}
	}
	ids, err := c.e.Store.Claim(c.work, c.node, c.name, claims)
	if err != nil {
		return nil, err
	}
	revision := compiled.Hash
	var items []*item
	for i, s := range chosen {
		if ids[i] == 0 {
			l.Again(s.Path, "another pickup of it is open", 5*time.Second)
			continue
		}
		it := &item{compiled: compiled, started: time.Now()}
		it.Pending = store.Pending{Pickup: ids[i], Route: c.name, Path: s.Path, Folder: s.Folder, Name: s.Name, Size: s.Info.Size, Modified: s.Info.Modified, Device: s.Info.Device, Inode: s.Info.Inode,
			State: "claimed", Event: s.Event, Origin: origin, Lane: s.lane, Key: s.key, Noticed: s.Noticed, Revision: &revision}
		if s.SHA256 != "" {
			sum := s.SHA256
			it.SHA256 = &sum
		}
		items = append(items, it)
	}
	c.mu.Lock()
	for _, it := range items {
		c.busy[it.Pickup] = true
	}
	c.mu.Unlock()
	c.takeAll(items)
	return items, nil
}

// takeAll moves claimed files out of sight, finds out what they are, and begins
// their runs. It may be repeated after a crash at any point.
func (c *Conductor) takeAll(items []*item) {
	var took []*item
	var takes []store.Take
	for _, it := range items {
		c.try(it, taking, c.take)
		if it.stage == taking {
			now := stamp()
			it.Now = &now
			took = append(took, it)
			takes = append(takes, store.Take{Pickup: it.Pickup, SHA256: *it.SHA256, Size: it.Size, Revision: *it.Revision, Now: now})
		}
	}
	c.mu.Lock()
	l := c.listener
	c.mu.Unlock()
	if l != nil {
		for _, it := range items {
			if it.Origin != "left" {
				l.Forget(it.Path)
			}
		}
	}
	if len(took) == 0 {
		return
	}
	begun, err := c.e.Store.Taken(c.work, c.node, c.name, takes)
	firsts := map[string]*item{}
	keyed := map[string]*item{}
	for i, it := range took {
		if err != nil || begun[i].Run == 0 {
			if err == nil {
				err = errors.New("another node goes on with it")
			}
			it.stage = ended
			c.trouble("recording that a file was taken", err)
			continue
		}
		b := begun[i]
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
		it.State, it.stage = "taken", processing
		c.forgetGone(it)
		it.verdict = judge(it, it.compiled.Duplicates)
	}
}

// take brings one claimed file into our hands and hashes it.
func (c *Conductor) take(it *item) error {
	switch {
	case it.Event == listen.Gone:
		return c.takeGone(it)
	case it.Origin == "left":
		return c.takeLeft(it)
	}
	held := holding(&it.Pending)
	there := false
	if it.resumed {
		_, err := c.e.FS.Look(held)
		there = err == nil
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("taking %s: %w", it.Path, err)
		}
	}
	if !there {
		err := c.e.FS.Move(it.Path, held)
		if errors.Is(err, fs.ErrNotExist) {
			if _, err = files.HiddenFolder(c.e.FS, filepath.Dir(it.Path)); err != nil {
				return fmt.Errorf("preparing to take %s: %w", it.Path, err)
			}
			err = c.e.FS.Move(it.Path, held)
		}
		if errors.Is(err, fs.ErrNotExist) {
			return c.withdraw(it, "the file went away before it was taken")
		}
		if err != nil {
			return fmt.Errorf("taking %s: %w", it.Path, err)
		}
	}
	// Out of sight nobody can open it any more: if nobody has it open for writing
	// now, it will not change.
	switch reason, err := c.e.FS.Free(held); {
	case err != nil:
		return fmt.Errorf("taking %s: %w", it.Path, err)
	case reason != "":
		if err := c.putBack(held, filepath.Dir(it.Path), it.Name); err != nil {
			return err
		}
		c.mu.Lock()
		if c.listener != nil {
			c.listener.Again(it.Path, reason, 250*time.Millisecond)
		}
		c.mu.Unlock()
		return c.withdraw(it, "it was put back: "+reason)
	}
	c.unmark(it)
	sum, size, content, err := c.hash(held)
	if err != nil {
		return err
	}
	it.SHA256, it.Size, it.content = &sum, size, content
	return nil
}

// retake takes a file again whose taking a power failure has undone: it is the
// same file, back in the inbox.
func (c *Conductor) retake(it *item) error {
	held := holding(&it.Pending)
	if it.Origin != "inbox" || it.Again || c.there(held) {
		return nil
	}
	info, err := c.e.FS.Look(it.Path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("looking for %s: %w", it.Path, err)
	}
	if info.Inode != it.Inode || info.Device != it.Device || info.Size != it.Size || !info.Modified.Truncate(time.Microsecond).Equal(it.Modified.Truncate(time.Microsecond)) {
		return nil // another file of the same name
	}
	if _, err := files.HiddenFolder(c.e.FS, filepath.Dir(it.Path)); err != nil {
		return fmt.Errorf("taking %s again: %w", it.Path, err)
	}
	if err := c.e.FS.Move(it.Path, held); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("taking %s again: %w", it.Path, err)
	}
	c.e.Log.Warn("a file that had been taken was in the inbox again", "pickup", it.Pickup, "route", c.name, "file", it.Name)
	return nil
}

// withdraw ends the claim on a file that will not be taken now.
func (c *Conductor) withdraw(it *item, reason string) error {
	it.stage = ended
	c.e.Tell(Event{Kind: "pickup", Route: c.name, Pickup: it.Pickup, Name: it.Name, State: "withdrawn", Reason: reason})
	return c.e.Store.Withdrawn(c.work, c.node, it.Pickup, reason)
}

// unmark removes the marker of a file that was taken. When that is repeated
// after a crash, the marker may be that of a newer file of the same name.
func (c *Conductor) unmark(it *item) {
	if it.compiled.Marker == nil {
		return
	}
	name, problem := it.compiled.Marker.Name(&lang.Env{Facts: facts(it.compiled, it.Name, it.Folder, it.Event, time.Now())}, nil, 0)
	if problem != "" {
		return
	}
	if _, err := c.e.FS.Look(it.Path); it.resumed && err == nil {
		return
	}
	if err := c.e.FS.Remove(filepath.Join(filepath.Dir(it.Path), name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
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
			l.Forget(it.Path)
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

// hash reads the held file; a change while it is read starts that over. The
// content of a small file is given too.
func (c *Conductor) hash(path string) (sum string, size int64, content []byte, err error) {
	for range 5 {
		f, err := c.e.FS.Open(path)
		if err != nil {
			return "", 0, nil, fmt.Errorf("reading %s: %w", path, err)
		}
		before, err := f.Info()
		if err == nil && before.Size <= smallFile {
			content = make([]byte, 0, before.Size+1)
			buf := bytes.NewBuffer(content)
			sum, size, err = archive.Hash(io.TeeReader(f, buf))
			content = buf.Bytes()
		} else if err == nil {
			content = nil
			sum, size, err = archive.Hash(f)
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

// holding is where a file lies until its run is committed: beside the inbox's
// files, hidden, under the pickup's number and the file's own name.
func holding(p *store.Pending) string {
	return filepath.Join(filepath.Dir(p.Path), files.Hidden, fmt.Sprintf("%s%d-%s", heldPrefix, p.Pickup, p.Name))
}

const heldPrefix = "pickup-"

// restore puts files back into the inbox that are held for pickups that the
// database does not know: it has lost its latest records or is another one.
func (c *Conductor) restore() error {
	c.mu.Lock()
	l, troubles := c.listener, c.troubles
	if c.failures > 0 {
		troubles++
	}
	c.troubles = 0
	first := !c.restored
	c.mu.Unlock()
	if l == nil || !first && troubles == 0 {
		return nil
	}
	for _, folder := range l.Folders() {
		if err := c.restoreInto(c.work, folder); err != nil {
			c.mu.Lock()
			c.troubles = troubles
			c.mu.Unlock()
			return err
		}
	}
	c.mu.Lock()
	c.restored = true
	c.mu.Unlock()
	return nil
}

func (c *Conductor) restoreInto(ctx context.Context, inbox string) error {
	entries, err := c.e.FS.List(filepath.Join(inbox, files.Hidden))
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
	if len(ids) == 0 {
		return nil
	}
	known, err := c.e.Store.Holders(ctx, ids)
	if err != nil {
		return err
	}
	for id, entry := range held {
		name := strings.TrimPrefix(entry, fmt.Sprintf("%s%d-", heldPrefix, id))
		if err := c.restoreOne(known[id], filepath.Join(inbox, files.Hidden, entry), inbox, name); err != nil {
			return err
		}
	}
	return nil
}

// restoreOne decides about one held file. That of a pickup that has ended was
// given up before a power failure brought it back.
func (c *Conductor) restoreOne(by store.Holder, held, inbox, name string) error {
	if by.Path == filepath.Join(inbox, name) {
		if by.Open {
			return nil
		}
		sum, _, _, err := c.hash(held)
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil {
			return err
		}
		if sum == by.SHA256 {
			// Somebody may have withdrawn it before it had its place in the archive.
			err := c.e.Archive.Keep(held, sum)
			if err == nil {
				err = c.e.Archive.Sync(sum)
			}
			for _, folder := range []string{filepath.Dir(c.e.Archive.Path(sum)), c.e.Archive.Folder()} {
				if err == nil {
					err = c.e.FS.SyncFolder(folder)
				}
			}
			if err != nil {
				return err
			}
			c.e.Log.Info("a held file whose pickup has ended is given up", "file", name, "inbox", inbox)
			if err := c.e.FS.Remove(held); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return fmt.Errorf("giving up a held file: %w", err)
			}
			return nil
		}
	}
	if err := c.putBack(held, inbox, name); err != nil {
		return err
	}
	c.e.Log.Warn("a held file that no record knows was put back", "file", name, "inbox", inbox)
	return nil
}

// putBack moves a held file into its inbox again, under its name or, if there is
// another of that name by now, with a number. It is good if the file is gone.
func (c *Conductor) putBack(held, inbox, name string) error {
	err := fs.ErrExist
	for n := 1; errors.Is(err, fs.ErrExist); n++ {
		err = c.e.FS.Move(held, filepath.Join(inbox, deliver.Counted(name, n)))
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("putting %s back into %s: %w", name, inbox, err)
	}
	return nil
}
