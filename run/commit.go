package run

import (
	"context"
	"errors"
	"path/filepath"
	"sync"
	"time"

	"ydrion/core/finding"
	"ydrion/deliver"
	"ydrion/files"
	"ydrion/listen"
	"ydrion/store"
)

// commit makes the outputs of a group durable and commits their runs.
func (c *Conductor) commit(group []*item) []*item {
	var ready []*item
	for _, it := range group {
		if it.stage == committing {
			ready = append(ready, it)
		}
	}
	if len(ready) == 0 {
		return group
	}
	err := c.commitAll(ready)
	if err == nil {
		return group
	}
	if len(ready) == 1 {
		c.uncommitted(ready[0], err)
		return group
	}
	// One of them may be the reason: each on its own.
	for _, it := range ready {
		if it.stage != committing {
			continue
		}
		if err := c.commitAll([]*item{it}); err != nil {
			c.uncommitted(it, err)
		}
	}
	return group
}

// uncommitted gives up what a run has written whose commit failed.
func (c *Conductor) uncommitted(it *item, err error) {
	c.try(it, committing, func(it *item) error { return errors.Join(err, it.out.discard()) })
}

func (c *Conductor) commitAll(items []*item) error {
	if err := c.sync(items); err != nil {
		return err
	}
	commits, runs := make([]store.Commit, len(items)), make([]int64, len(items))
	for i, it := range items {
		commits[i], runs[i] = it.commit, *it.Run
		commits[i].Attempt = it.Attempt
	}
	var fates map[int64]store.Abandoned
	err := c.e.Store.Commit(c.work, c.node.ID, commits)
	if err != nil {
		// Nobody knows whether the transaction got through, or still will: see to
		// it that it will not, or did.
		var ask error
		if fates, ask = c.abandon(runs); ask != nil {
			// Nobody answers. The outputs stay as they are: whoever goes on finds out
			// what was committed, and sweeps what was not.
			for _, it := range items {
				it.stage = ended
			}
			c.trouble("committing", errors.Join(err, ask))
			return nil
		}
	}
	var again error
	for _, it := range items {
		fate, asked := fates[*it.Run]
		switch {
		case !asked && err == nil, fate.Committed:
			it.State, it.stage = "committed", publishing
			for _, f := range it.all() {
				f.content = nil
				if it.compiled.AnswerCommitted {
					c.e.Tell(Event{Kind: Answer, Route: c.name, Pickup: f.Pickup, Run: *it.Run, Name: f.Name, State: committedState(f), Reason: whyRejected(it, f), Output: c.firstOutput(it)})
				}
			}
		case fate.OutOfReach || !asked:
			// Another node goes on with it: what it committed is its own, and nothing of
			// what was written here is published by us. It sweeps what it does not need.
			it.stage = ended
			c.trouble("committing", errGiven)
		default:
			it.Attempt, again = fate.Attempt, err
		}
	}
	return again
}

// firstOutput opens the first good output of a run, before it goes anywhere, if its route answers with that; nil if there is none.
func (c *Conductor) firstOutput(it *item) *deliver.Made {
	if !it.compiled.AnswerOutput || it.commit.Kept > 0 { // of very many outputs the first are not at hand
		return nil
	}
	for _, d := range it.commit.Deliveries {
		if d.Kind != "good" || d.Temporary == "" {
			continue
		}
		f, err := c.e.FS.Open(d.Temporary)
		if err != nil {
			c.e.Log.Warn("what was sent cannot be answered with its output", "route", c.name, "pickup", it.Pickup, "error", err)
			return nil
		}
		return &deliver.Made{Name: filepath.Base(d.Name), Size: d.Size, Content: f}
	}
	return nil
}

// committedState is what a file will have come to when its outputs have been published.
func committedState(it *item) string {
	if it.whole || it.balance.Good == 0 && it.balance.Rejected > 0 {
		return "rejected"
	}
	return "committed"
}

// whyRejected is why a file, or the first of its records that are, was rejected; empty if none is.
func whyRejected(it, f *item) string {
	if why := whyWhole(it.commit.Findings, f.Name); why != "" {
		return why
	}
	for _, r := range it.commit.Rejects {
		for _, found := range r.Findings {
			if max(r.File, 1) == f.ord && found.Severity == finding.Error {
				return found.Message
			}
		}
	}
	return ""
}

// abandon finds out what became of a commit, once the database answers again.
func (c *Conductor) abandon(runs []int64) (fates map[int64]store.Abandoned, err error) {
	for wait := 50 * time.Millisecond; ; wait *= 2 {
		if fates, err = c.e.Store.Abandon(context.WithoutCancel(c.work), c.node.ID, runs); err == nil || wait > time.Second || c.work.Err() != nil {
			return fates, err
		}
		time.Sleep(wait)
	}
}

// fewFiles is up to how many files are synced one by one; more are synced with
// everything else on their file system, which is faster unless others are writing
// a lot to it.
const fewFiles = 4

// Syncing a whole file system that took longer than patientSync has met the
// writes of others: for a while files are synced one by one, several at once.
const (
	patientSync = 300 * time.Millisecond
	avoidSync   = 20 * time.Second
	syncsAtOnce = 32
)

// avoided tells whether whole file systems are not to be synced for now.
func (e *Engine) avoided() bool { return time.Now().UnixNano() < e.avoid.Load() }

// sync makes originals and outputs durable, with the folders that they are in.
func (c *Conductor) sync(items []*item) error {
	var temporaries, originals []string
	folders := map[string]bool{}
	many := false
	for _, it := range items {
		for _, d := range it.commit.Deliveries {
			if d.Temporary == "" {
				continue
			}
			temporaries = append(temporaries, d.Temporary)
			folders[filepath.Dir(d.Temporary)] = true
			if !it.out.spooled[d.Folder] {
				folders[d.Folder] = true
			}
		}
		if many = many || it.commit.Kept > 0; it.commit.Kept > 0 {
			for _, f := range append(it.out.folders, it.out.rejected) {
				if !it.out.spooled[f] && f != lookupFolder {
					folders[f] = true
				}
			}
			if len(it.out.spooled) > 0 {
				folders[c.e.Spool] = true
			}
		}
		for _, f := range it.all() {
			if f.Origin != "inbox" || f.Event == listen.Gone {
				continue
			}
			originals = append(originals, *f.SHA256)
			// That the file was taken must not be undone by a power failure once its
			// run is committed: it would be taken again.
			if f.Path != "" {
				inbox := inboxOf(&f.Pending)
				folders[filepath.Dir(f.Path)] = true
				for folder := filepath.Dir(c.held(f)); len(folder) > len(inbox); folder = filepath.Dir(folder) {
					folders[folder] = true
				}
				folders[inbox] = true
			}
		}
	}
	if many || len(temporaries)+len(originals) > fewFiles && !c.e.avoided() {
		begun := time.Now()
		err := c.syncAll(folders)
		if time.Since(begun) > patientSync {
			c.e.avoid.Store(time.Now().Add(avoidSync).UnixNano())
		}
		return err
	}
	var failing sync.Mutex
	var failed error
	var syncing sync.WaitGroup
	turns := make(chan struct{}, syncsAtOnce)
	do := func(f func() error) {
		turns <- struct{}{}
		syncing.Go(func() {
			defer func() { <-turns }()
			if err := f(); err != nil {
				failing.Lock()
				failed = errors.Join(failed, err)
				failing.Unlock()
			}
		})
	}
	for _, t := range temporaries {
		do(func() error { return c.syncFile(t) })
	}
	for _, sum := range originals {
		do(func() error { return c.e.Archive.Sync(sum) })
		folders[filepath.Dir(c.e.Archive.Path(sum))], folders[c.e.Archive.Folder()] = true, true
	}
	// Folders and what is in them at once: what is asked of a disk together it writes together.
	for f := range folders {
		do(func() error {
			// A hidden folder below an inbox is removed when nothing is held in it, and what
			// a sender makes of his own folders holds nothing up.
			if err := c.e.FS.SyncFolder(f); err != nil && !files.Vanished(err) {
				return err
			}
			return nil
		})
	}
	syncing.Wait()
	return failed
}

func (c *Conductor) syncFile(name string) error {
	f, err := c.e.FS.Open(name)
	if err != nil {
		return err
	}
	return errors.Join(f.Sync(), f.Close())
}

// syncAll makes everything durable on the file systems of some folders and of
// the archive.
func (c *Conductor) syncAll(folders map[string]bool) error {
	devices := map[uint64]bool{}
	folders[c.e.Archive.Folder()] = true
	for f := range folders {
		info, err := c.e.FS.Look(f)
		if files.Vanished(err) {
			continue // nothing was written there
		}
		if err != nil {
			return err
		}
		if devices[info.Device] {
			continue
		}
		devices[info.Device] = true
		if err := c.e.FS.SyncAll(f); files.Vanished(err) {
			delete(devices, info.Device)
		} else if err != nil {
			return err
		}
	}
	return nil
}
