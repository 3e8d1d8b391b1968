package run

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path/filepath"
	"sync"
	"time"

	"ydrion/archive"
	"ydrion/core/finding"
	"ydrion/core/flow"
	"ydrion/core/lang"
	"ydrion/core/place"
	"ydrion/deliver"
	"ydrion/listen"
	"ydrion/store"
	"ydrion/workspace"
)

// process runs the route over the originals of a group and writes the outputs.
func (c *Conductor) process(group []*item) (on []*item) {
	for _, it := range group {
		if it.stage == processing {
			if c.park(it, false) {
				continue
			}
			done, err := c.e.turn(c.work, &c.beat[processing])
			if err == nil {
				c.try(it, processing, c.processOne)
			}
			done()
		}
		on = append(on, it)
	}
	return on
}

// park keeps a pickup back whose turn in its lane has not come; out says that it is
// about to come out.
func (c *Conductor) park(it *item, out bool) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.lanes.park(it, out)
}

// processOne brings a pickup to where its outcome can be committed.
func (c *Conductor) processOne(it *item) error {
	c.e.Tell(Event{Kind: "pickup", Route: c.name, Pickup: it.Pickup, Run: *it.Run, Name: it.Name, State: "taken"})
	if err := c.keep(it); err != nil {
		return err
	}
	if it.resumed {
		if err := c.compare(it); err != nil {
			return err
		}
	}
	if it.verdict != nil && it.verdict.what == workspace.Hold {
		return errPerson{errors.New(it.verdict.finding.Message), "duplicate"}
	}
	out, err := c.prepared(it)
	if err != nil {
		return err
	}
	for {
		err := c.fill(it, out)
		if err == nil {
			it.out, it.stage = out, committing
			return nil
		}
		if err := errors.Join(err, out.discard()); err != nil && !out.spoolInstead(err) {
			return err
		}
	}
}

// prepared makes the outputs of a run ready to be written.
func (c *Conductor) prepared(it *item) (*outputs, error) {
	out := &outputs{Maker: c.maker(*it.Run), route: it.compiled, name: it.Name, spool: c.e.Spool, beat: &c.beat[processing]}
	out.keep = func(deliveries []store.Delivery, rejects []store.Reject, first bool) error {
		return c.e.Store.Keep(c.work, *it.Run, deliveries, rejects, first)
	}
	out.drop = func() error { return c.e.Store.Drop(c.work, *it.Run) }
	for _, d := range it.compiled.Good.To {
		folder, err := c.e.Resolve(d.Folder)
		if err != nil {
			return nil, err
		}
		out.folders = append(out.folders, folder)
	}
	var err error
	if out.rejected, err = c.e.Resolve(it.compiled.Rejected.Folder); err != nil {
		return nil, err
	}
	if it.resumed {
		for _, hidden := range out.hidden() {
			err := c.sweep(hidden, *it.Run)
			if errors.Is(err, errGiven) || store.Unavailable(err) != "" {
				return nil, err
			}
			if err != nil {
				// A destination that is out of order keeps nobody from the others.
				c.e.Log.Warn("what an earlier try has left cannot be removed now", "pickup", it.Pickup, "route", c.name, "error", err)
			}
		}
	}
	return out, nil
}

// keep gives the original its place in the archive.
func (c *Conductor) keep(it *item) error {
	if it.Origin != "inbox" || it.Event == listen.Gone || it.resumed && c.e.Archive.Has(*it.SHA256) && !c.there(c.held(it)) {
		return nil
	}
	held := c.held(it)
	if it.resumed {
		// Who can reach it is asked anew; what it is, is compared afterwards.
		if f, err := c.e.FS.Open(held); err == nil {
			it.alone = f.Alone()
			f.Close() //nolint: it was only asked
		}
	}
	return c.e.Archive.Keep(held, *it.SHA256, it.alone)
}

// compare makes sure that the original is still what was taken: a power failure
// may have cut a file whose sender had not synced it.
func (c *Conductor) compare(it *item) error {
	size, err := c.e.Archive.Check(*it.SHA256)
	if errors.Is(err, archive.ErrOther) {
		return errPerson{fmt.Errorf("the original is not what it was when it was taken: %d bytes instead of %d; withdraw it and ask for the file again", size, it.Size), "held"}
	}
	if err != nil {
		return fmt.Errorf("reading the original again: %w", err)
	}
	return nil
}

func (c *Conductor) there(path string) bool {
	_, err := c.e.FS.Look(path)
	return err == nil
}

// original opens the file as it arrived.
func (c *Conductor) original(it *item) (io.ReadCloser, error) {
	if it.content != nil {
		return io.NopCloser(bytes.NewReader(it.content)), nil
	}
	return c.e.Archive.Open(*it.SHA256)
}

// fill writes a run's outputs and says what is to be committed.
func (c *Conductor) fill(it *item, out *outputs) error {
	original, err := c.original(it)
	if err != nil {
		return err
	}
	defer original.Close()
	inputs, numbers := c.inputs(it)
	result := flow.Result{Unreadable: true}
	switch {
	case it.verdict != nil && it.verdict.what == workspace.Reject:
		result.Findings = finding.List{it.verdict.finding}
	case !it.compiled.Plan.Separate:
		if f := out.nameAll(&lang.Env{Facts: inputs.Facts}); f != nil {
			result.Findings = finding.List{*f}
		}
	}
	if len(result.Findings) == 0 {
		defer c.e.watch(&it.Pending, *it.Run)()
		if result, err = it.compiled.Plan.Run(c.work, original, inputs, out); err != nil {
			return err
		}
	}
	for i := range result.Findings {
		result.Findings[i].Place.File = it.Name
	}
	if it.verdict != nil && it.verdict.what == workspace.Warn {
		result.Findings = append(result.Findings, it.verdict.finding)
	}
	commit := store.Commit{Run: *it.Run, Pickup: it.Pickup, Balance: result.Balance}
	over := it.compiled.Tolerate >= 0 && result.In > 0 && float64(result.Rejected) > it.compiled.Tolerate*float64(result.In)
	switch {
	case over, result.Disagrees:
		if over {
			result.Findings = append(result.Findings, tooMany(it.Name, result.Balance, it.compiled.Tolerate))
		}
		commit.Balance.Rejected, commit.Balance.Good = result.In-result.Filtered, 0
		fallthrough
	case result.Unreadable:
		commit.Whole = true
		whole, err := c.original(it)
		if err != nil {
			return err
		}
		defer whole.Close()
		if err := out.whole(whole, result.Findings); err != nil {
			return err
		}
	case result.In == 0:
		result.Findings = append(result.Findings, finding.Warn("file.no-records", place.InFile(it.Name), "the file has a heading but no records"))
	}
	if err := out.finish(); err != nil {
		return err
	}
	commit.Findings, commit.Deliveries, commit.Rejects, commit.Kept, commit.Numbers = result.Findings, out.deliveries, out.rejects, out.kept, *numbers
	it.commit, it.balance, it.whole = commit, commit.Balance, commit.Whole
	return nil
}

// nameAll names the outputs of a run whose records go into one file for each
// destination.
func (o *outputs) nameAll(env *lang.Env) *finding.Finding {
	o.fileNames = make([]string, len(o.folders))
	none := true
	for i := range o.route.Plan.Outputs {
		name, problem := o.route.Plan.Outputs[i].For(env, nil, 0)
		if problem != "" {
			f := finding.New("deliver.name", place.InFile(o.name), "the output cannot be named: %s", problem)
			return &f
		}
		o.fileNames[i], none = name, none && name == ""
	}
	if none {
		f := finding.New("deliver.nowhere", place.InFile(o.name), flow.NowhereTo)
		return &f
	}
	return nil
}

// inputs is what a run depends on besides the file. The numbers that it is
// handed are collected, to be recorded with its commit.
func (c *Conductor) inputs(it *item) (flow.Inputs, *[]store.Block) {
	used := &[]store.Block{}
	var again []store.Block // of the run that this one repeats
	var told time.Time
	sequence := func(n int) (int64, error) {
		block := store.Block{Count: int64(n)}
		var err error
		if it.SameAs != nil {
			if again == nil {
				if again, err = c.e.Store.Sequences(c.work, *it.SameAs); err != nil {
					return 0, err
				}
			}
			if len(*used) >= len(again) || again[len(*used)].Count < block.Count {
				return 0, fmt.Errorf("run %d has no record of its sequence numbers", *it.SameAs)
			}
			block.First = again[len(*used)].First
		} else if block.First, err = c.numbers(n); err != nil {
			return 0, err
		}
		*used = append(*used, block)
		return block.First, nil
	}
	progress := func(b flow.Balance) {
		c.beat[processing].Store(time.Now().UnixNano())
		if it.Size <= smallFile {
			return
		}
		c.e.mu.Lock()
		now := c.e.current[*it.Run]
		now.Balance = b
		c.e.current[*it.Run] = now
		c.e.mu.Unlock()
		if time.Since(told) > 200*time.Millisecond {
			if !told.IsZero() {
				c.e.Tell(Event{Kind: "progress", Route: it.Route, Pickup: it.Pickup, Run: *it.Run, Name: it.Name, State: "taken", Balance: &b})
			}
			told = time.Now()
		}
	}
	return flow.Inputs{Facts: facts(it.compiled, it.Name, it.Folder, it.Event, *it.Now), Cores: c.e.Cores, Size: it.Size, Sequence: sequence, Progress: progress}, used
}

// numbers hands out sequence numbers. Only the process stage asks. When many
// small files follow each other, more are fetched at once than one needs.
func (c *Conductor) numbers(n int) (int64, error) {
	if missing := int64(n) - c.stock.Count; missing > 0 {
		ask := missing
		if time.Since(c.stocked) < 100*time.Millisecond {
			ask = max(missing, 100)
		}
		first, err := c.e.Store.Numbers(c.work, c.node.ID, c.name, int(ask))
		if err != nil {
			return 0, err
		}
		switch {
		case first == c.stock.First+c.stock.Count: // they follow those in hand
			c.stock.Count += ask
		case ask >= int64(n):
			c.stock = store.Block{First: first, Count: ask}
		default: // somebody else had some in between: what is in hand is given up
			c.stock = store.Block{}
			return c.numbers(n)
		}
		c.stocked = time.Now()
	}
	first := c.stock.First
	c.stock.First += int64(n)
	c.stock.Count -= int64(n)
	return first, nil
}

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
			it.content = nil
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
			temporaries = append(temporaries, d.Temporary)
			folders[filepath.Dir(d.Temporary)] = true
			if !it.out.spooled[d.Folder] {
				folders[d.Folder] = true
			}
		}
		if many = many || it.commit.Kept > 0; it.commit.Kept > 0 {
			for _, f := range append(it.out.folders, it.out.rejected) {
				if !it.out.spooled[f] {
					folders[f] = true
				}
			}
			if len(it.out.spooled) > 0 {
				folders[c.e.Spool] = true
			}
		}
		if it.Origin == "inbox" && it.Event != listen.Gone {
			originals = append(originals, *it.SHA256)
			// That the file was taken must not be undone by a power failure once its
			// run is committed: it would be taken again.
			if it.Path != "" {
				inbox := inboxOf(&it.Pending)
				folders[filepath.Dir(it.Path)] = true
				for folder := filepath.Dir(c.held(it)); len(folder) > len(inbox); folder = filepath.Dir(folder) {
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
	syncing.Wait()
	for f := range folders {
		// A hidden folder below an inbox is removed when nothing is held in it.
		if err := c.e.FS.SyncFolder(f); err != nil && !errors.Is(err, fs.ErrNotExist) {
			failed = errors.Join(failed, err)
		}
	}
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
		if errors.Is(err, fs.ErrNotExist) {
			continue // nothing was written there
		}
		if err != nil {
			return err
		}
		if devices[info.Device] {
			continue
		}
		devices[info.Device] = true
		if err := c.e.FS.SyncAll(f); err != nil {
			return err
		}
	}
	return nil
}

// publish makes the outputs of committed runs visible and ends their pickups.
func (c *Conductor) publish(group []*item) (on []*item) {
	var done []*item
	folders := map[string]bool{}
	for _, it := range group {
		if it.stage == publishing && c.park(it, true) {
			continue
		}
		on = append(on, it)
		c.try(it, publishing, func(it *item) error { return c.publishOne(it, folders) })
		if it.stage == publishing {
			done = append(done, it)
		}
	}
	for f := range folders {
		if err := c.e.FS.SyncFolder(f); err != nil {
			for _, it := range done {
				c.try(it, publishing, func(*item) error { return err })
			}
			return on
		}
	}
	c.conclude(done)
	return on
}

// publishOne makes the outputs of one run visible.
func (c *Conductor) publishOne(it *item, folders map[string]bool) error {
	// The archive has the original and the database knows it: what is held is
	// needed no more.
	if it.Origin == "inbox" && it.Event != listen.Gone {
		if err := c.letGo(it); err != nil {
			return err
		}
	}
	if !it.resumed && it.commit.Kept == 0 {
		return c.publishList(it, it.commit.Deliveries, folders)
	}
	if it.resumed && it.out == nil {
		done, err := c.e.Store.Run(c.work, *it.Run)
		if err != nil {
			return err
		}
		it.balance, it.whole = flow.Balance{In: done.In, Good: done.Good, Rejected: done.Rejected, Filtered: done.Filtered}, done.Whole
	}
	var failed error
	for after := 0; ; {
		page, err := c.e.Store.Open(c.work, *it.Run, after, portion)
		if err != nil {
			return err
		}
		if len(page) == 0 {
			return failed
		}
		after = page[len(page)-1].Ord
		if err := c.publishList(it, page, folders); err != nil {
			var person errPerson
			if failed == nil || errors.As(err, &person) {
				failed = err
			}
		}
	}
}

// publishList makes some outputs visible. A destination that is out of order
// does not keep the others from getting theirs.
func (c *Conductor) publishList(it *item, list []store.Delivery, folders map[string]bool) error {
	failed := map[string]error{}
	var first error
	var there, unknown []int
	for _, d := range list {
		if failed[d.Folder] != nil {
			continue
		}
		c.beat[publishing].Store(time.Now().UnixNano())
		outcome, err := c.publishNamed(it, d)
		switch {
		case err != nil:
			failed[d.Folder] = err
			if first == nil {
				first = err
			}
		case outcome == deliver.Unknown:
			unknown = append(unknown, d.Ord)
			first = errPerson{fmt.Errorf("nobody can tell whether %s has arrived in %s: the folder that held it before it was published is gone; say whether it has arrived (`ydrion decide`)", d.Name, d.Folder), "uncertain"}
		default:
			there = append(there, d.Ord)
			for f := filepath.Dir(filepath.Join(d.Folder, d.Name)); ; f = filepath.Dir(f) {
				if folders[f] = true; len(f) <= len(d.Folder) {
					break
				}
			}
		}
	}
	if len(unknown) > 0 {
		if err := c.e.Store.Uncertain(c.work, *it.Run, unknown, first.Error()); err != nil {
			return err
		}
	}
	if (first != nil || it.commit.Kept > 0) && len(there) > 0 {
		for f := range folders {
			if err := c.e.FS.SyncFolder(f); err != nil {
				return err
			}
		}
		if err := c.e.Store.Part(c.work, *it.Run, there); err != nil {
			return err
		}
	}
	return first
}

// publishNamed finds a name for one output and makes it visible.
func (c *Conductor) publishNamed(it *item, d store.Delivery) (deliver.Outcome, error) {
	if filepath.Dir(d.Temporary) == c.e.Spool {
		if err := c.stageThere(it, &d); err != nil {
			return deliver.Taken, err
		}
	}
	taken := workspace.Count
	if d.Kind == "good" && d.Output < len(it.compiled.Good.To) {
		taken = it.compiled.Good.To[d.Output].Taken
	}
	for n := 1; ; n++ {
		name := deliver.Counted(d.Name, n)
		if n > 1 {
			if err := c.e.Store.Rename(c.work, c.node.ID, store.RunOf{Run: d.Run, Pickup: it.Pickup}, d.Ord, name); err != nil {
				return deliver.Taken, err
			}
		}
		outcome, err := deliver.Publish(c.fs, d.Temporary, d.Folder, name, taken, d.Run, deliver.Holder{Device: d.Device, Inode: d.Inode})
		if err != nil || outcome != deliver.Taken {
			return outcome, err
		}
		if taken == workspace.HoldTaken {
			return outcome, errPerson{fmt.Errorf("there is a file %s in %s already, and the route does not replace it", d.Name, d.Folder), "stuck"}
		}
	}
}

// stageThere brings an output beside its destination that was out of order when it was
// written.
func (c *Conductor) stageThere(it *item, d *store.Delivery) error {
	spooled := d.Temporary
	temporary, holder, err := c.maker(d.Run).Stage(spooled, d.Folder)
	if err == nil && it.compiled != nil {
		to := it.compiled.Rejected
		if d.Kind == "good" && d.Output < len(it.compiled.Good.To) {
			to = it.compiled.Good.To[d.Output]
		}
		if to.Mode != 0 || to.Owner != "" {
			err = c.fs.Own(temporary, to.Mode, to.Owner)
		}
	}
	if err != nil {
		return fmt.Errorf("bringing %s to %s: %w", d.Name, d.Folder, err)
	}
	if err := c.e.Store.Staged(c.work, c.node.ID, store.RunOf{Run: d.Run, Pickup: it.Pickup}, d.Ord, temporary, holder.Device, holder.Inode); err != nil {
		return err
	}
	d.Temporary, d.Device, d.Inode = temporary, holder.Device, holder.Inode
	c.fs.Remove(spooled) //nolint: it is swept later
	return nil
}

// conclude ends pickups whose outputs are all visible.
func (c *Conductor) conclude(done []*item) {
	if len(done) == 0 {
		return
	}
	runs := make([]store.RunOf, len(done))
	for i, it := range done {
		runs[i] = store.RunOf{Run: *it.Run, Pickup: it.Pickup}
	}
	states, err := c.e.Store.Published(c.work, c.node.ID, runs)
	if err != nil {
		c.trouble("recording that runs were published", err)
		return
	}
	for _, it := range done {
		it.stage = ended
		state, ok := states[it.Pickup]
		if !ok {
			c.mu.Lock()
			c.lanes.end(it)
			c.mu.Unlock()
			continue // another node goes on with it
		}
		b, took := it.balance, time.Since(it.started)
		c.e.Log.Info("pickup ended", "pickup", it.Pickup, "route", c.name, "file", it.Name, "state", state, "records", b.In, "good", b.Good, "rejected", b.Rejected, "seconds", took.Seconds())
		c.e.Tell(Event{Kind: "pickup", Route: c.name, Pickup: it.Pickup, Run: *it.Run, Name: it.Name, State: state, Balance: &b, Duration: took.Seconds()})
		c.concluded(it, state)
	}
}

// concluded is what follows the end of a pickup: its lane goes on, alerts are
// over or due, and an original that its route does not keep is dropped.
func (c *Conductor) concluded(it *item, state string) {
	c.mu.Lock()
	if it.Lane != nil {
		c.release(*it.Lane, it.Pickup)
	}
	c.lanes.end(it)
	if len(c.lanes.freed) > 0 {
		c.wake()
	}
	stalled := c.stalled
	if it.Tries > 0 {
		c.stalled = max(0, c.stalled-1)
		if c.stalled > 0 {
			c.later(time.Now()) // what failed for the same reason may go on too
		}
	}
	c.mu.Unlock()
	if it.Tries > 0 || stalled > 0 {
		c.e.Over("held", c.name)
		c.e.Over("stuck", c.name)
	}
	if it.Tries > 0 {
		for _, kind := range []string{"duplicate", "uncertain", "stuck", "held"} {
			c.e.Over(kind, fmt.Sprintf("pickup %d", it.Pickup))
		}
	}
	if state == "rejected" && it.whole {
		reason := "it was rejected as a whole"
		for _, f := range it.commit.Findings {
			if f.Severity == finding.Error {
				reason = f.Message
				break
			}
		}
		c.e.Alert(store.Alert{Kind: "rejected", Route: c.name, Pickup: it.Pickup, About: fmt.Sprintf("pickup %d", it.Pickup), Message: fmt.Sprintf("%s (pickup %d) was rejected: %s", it.Name, it.Pickup, reason)}, true)
	}
	if it.compiled != nil && it.compiled.Originals == workspace.Removed {
		c.dropOriginal(it)
	}
}

func (c *Conductor) dropOriginal(it *item) {
	gone, err := c.e.Store.Dropped(c.work, it.Pickup)
	if err == nil && gone {
		_, err = c.e.Archive.Remove(*it.SHA256, func() (bool, error) { return c.e.Store.Needed(c.work, *it.SHA256) })
	}
	if err != nil {
		c.e.Log.Error("an original that is not to be kept is still there", "pickup", it.Pickup, "error", err)
	}
}
