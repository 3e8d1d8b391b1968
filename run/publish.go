package run

import (
	"cmp"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"time"

	"ydrion/core/finding"
	"ydrion/core/flow"
	"ydrion/deliver"
	"ydrion/files"
	"ydrion/listen"
	"ydrion/store"
	"ydrion/workspace"
)

// publish makes the outputs of committed runs visible. It gives those that are not at their end by that.
func (c *Conductor) publish(group []*item) (on []*item) {
	for len(group) > 0 {
		var wave []*item
		wave, group = firsts(group)
		on = append(on, c.publishWave(wave)...)
	}
	return on
}

// firsts gives those of a group that are the first of their lanes there, or have none, and the others.
func firsts(group []*item) (first, others []*item) {
	seen := map[string]bool{}
	for _, it := range group {
		if it.Lane != nil && !it.Passed {
			if seen[*it.Lane] {
				others = append(others, it)
				continue
			}
			seen[*it.Lane] = true
		}
		first = append(first, it)
	}
	return first, others
}

// publishWave is publish for pickups none of which waits for another of them. When they are out, durably, those behind them may come
// out, though it is not recorded yet that these have ended: should that be lost, publishing again finds them out.
func (c *Conductor) publishWave(wave []*item) (on []*item) {
	var done []*item
	folders := map[string]bool{}
	for _, it := range wave {
		if it.stage == publishing && c.park(it, true) {
			continue
		}
		it.handed = false
		c.try(it, publishing, func(it *item) error { return c.publishOne(it, folders) })
		if it.handed {
			continue // it is at its end when what it has for servers has arrived
		}
		if it.stage == publishing {
			done = append(done, it)
		} else {
			on = append(on, it)
		}
	}
	for f := range folders {
		if err := c.e.FS.SyncFolder(f); err != nil {
			for _, it := range done {
				c.try(it, publishing, func(*item) error { return err })
			}
			return append(on, done...)
		}
	}
	c.mu.Lock()
	for _, it := range done {
		c.lanes.end(it)
	}
	if len(c.lanes.freed) > 0 {
		c.wake()
	}
	c.mu.Unlock()
	c.ends(done...)
	return on
}

// publishOne makes the outputs of one run visible.
func (c *Conductor) publishOne(it *item, folders map[string]bool) error {
	// The archive has the original and the database knows it: what is held is
	// needed no more.
	for _, f := range it.all() {
		if f.Origin != "inbox" || f.Event == listen.Gone {
			continue
		}
		if err := c.letGo(f); err != nil {
			return err
		}
	}
	if it.resumed && it.out == nil {
		done, err := c.e.Store.Run(c.work, *it.Run)
		if err != nil {
			return err
		}
		it.sum, it.commit.Findings = flow.Balance{In: done.In, Good: done.Good, Rejected: done.Rejected, Filtered: done.Filtered, Merged: done.Merged, Warnings: done.Warnings}, done.Findings
		of, err := c.e.Store.FilesOf(c.work, *it.Run)
		if err != nil {
			return err
		}
		for i, f := range it.all() {
			f.balance, f.whole = flow.Balance{In: of[i].In, Good: of[i].Good, Rejected: of[i].Rejected, Filtered: of[i].Filtered, Merged: of[i].Merged, Warnings: of[i].Warnings}, of[i].Whole
		}
	}
	places, err := c.publishHere(it, folders)
	if len(places) == 0 || !c.node.Sure() || errors.Is(err, errGiven) {
		return err
	}
	var list []store.Delivery
	if !it.resumed && it.commit.Kept == 0 {
		list = it.commit.Deliveries
	}
	c.handOver(it, places, list, err)
	return nil
}

// publishHere makes the outputs of one run visible in folders of this machine, and gives the places on servers that it
// has others for.
func (c *Conductor) publishHere(it *item, folders map[string]bool) (places []string, failed error) {
	if !it.resumed && it.commit.Kept == 0 && !it.handed {
		places = placesOf(nil, it.commit.Deliveries)
		return places, c.publishList(it, it.commit.Deliveries, folders, len(places) > 0, map[string]bool{})
	}
	out := map[string]bool{}
	for after := 0; ; {
		page, err := c.e.Store.Open(c.work, *it.Run, after, portion)
		if err != nil {
			return nil, err
		}
		if len(page) == 0 {
			return places, failed
		}
		after = page[len(page)-1].Ord
		places = placesOf(places, page)
		if err := c.publishList(it, page, folders, len(places) > 0, out); err != nil {
			var person errPerson
			if failed == nil || errors.As(err, &person) {
				failed = err
			}
		}
	}
}

// placesOf adds the places on servers that deliveries go to.
func placesOf(places []string, list []store.Delivery) []string {
	for _, d := range list {
		if place := placeOf(&d); place != "" && !slices.Contains(places, place) {
			places = append(places, place)
		}
	}
	return places
}

// publishList makes some outputs visible in folders of this machine. A destination that is out of order
// does not keep the others from getting theirs. Part says that they are not all that the run has. Out are the folders that
// are out of order, for those of the run before these, too: what replaces others comes behind them.
func (c *Conductor) publishList(it *item, list []store.Delivery, folders map[string]bool, part bool, out map[string]bool) error {
	var first error
	var there, unknown []int
	var going []leaving
	for i := range list {
		if d := &list[i]; d.Temporary != "" && !distant(d) {
			going = append(going, leaving{it, d})
		}
	}
	later, over, err := c.inTurn(going)
	if err != nil {
		return err
	}
	defer over()
	var passed []store.OvertakenAt
	var gone []string // what was written of them
	for _, o := range going {
		d := o.Delivery
		if out[d.Folder] {
			continue
		}
		c.beat[publishing].Store(time.Now().UnixNano())
		taken := whenTaken(it, d)
		by, err := c.overtaker(later, d)
		switch {
		case err != nil:
			first = cmp.Or(first, err)
			continue
		case by != nil && taken != workspace.ReplaceKeep:
			passed, gone = append(passed, overtakenBy(it, d, by)), append(gone, d.Temporary)
			continue
		case by != nil:
			if err := c.formerly(it, d, by); err != nil {
				return err
			}
			taken = workspace.Count
		}
		outcome, err := c.publishNamed(it, *d, taken)
		switch {
		case err != nil:
			out[d.Folder] = true
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
	if err := c.yielded(passed, gone); err != nil {
		return err
	}
	if (first != nil || part || it.commit.Kept > 0) && len(there) > 0 {
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
func (c *Conductor) publishNamed(it *item, d store.Delivery, taken workspace.WhenTaken) (deliver.Outcome, error) {
	if filepath.Dir(d.Temporary) == c.e.Spool {
		if err := c.stageThere(it, &d); err != nil {
			return deliver.Taken, err
		}
	}
	outcome := deliver.Taken
	err := deliver.Number(d.Name, files.There(c.fs, d.Folder), func(as string) (_ bool, err error) {
		if as != d.Name {
			if err := c.e.Store.Rename(c.work, c.node.ID, store.RunOf{Run: d.Run, Pickup: it.Pickup}, d.Ord, as); err != nil {
				return false, err
			}
		}
		outcome, err = deliver.Publish(c.fs, d.Temporary, d.Folder, as, taken, d.Run, deliver.Holder{Device: d.Device, Inode: d.Inode})
		if err == nil && outcome == deliver.Taken && taken == workspace.HoldTaken {
			err = errPerson{fmt.Errorf("there is a file %s in %s already, and the route does not replace it", d.Name, d.Folder), "stuck"}
		}
		return outcome == deliver.Taken, err
	})
	return outcome, err
}

// stageThere brings an output beside its destination that was out of order when it was
// written.
func (c *Conductor) stageThere(it *item, d *store.Delivery) error {
	spooled := d.Temporary
	temporary, holder, err := c.maker(d.Run).Stage(spooled, d.Folder)
	if err == nil && it.compiled != nil {
		to := it.compiled.Rejected
		if all := it.compiled.Destinations(); d.Kind == "good" && d.Output < len(all) {
			to = all[d.Output]
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

// whyWhole is why a file was rejected as a whole, in a sentence.
func whyWhole(findings finding.List, file string) string {
	for _, f := range findings {
		if f.Severity == finding.Error && f.Place.File == file {
			return f.Message
		}
	}
	return ""
}
