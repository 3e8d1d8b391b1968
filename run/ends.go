package run

import (
	"cmp"
	"fmt"
	"time"

	"ydrion/store"
	"ydrion/workspace"
)

// ending are pickups whose outputs have all arrived, until that is recorded. In a stream of pickups it is recorded of several
// together: nobody waits for it but those that must stay in order with them.
type ending struct {
	ready chan struct{} // there are some
	items []*item       // under the conductor's lock
	begun time.Time     // when the first of them came
	hurry bool          // one of them is waited for
	last  time.Time     // when others were last recorded
}

// Pickups that end so soon after others wait for more, so long.
const (
	endsStream = 50 * time.Millisecond
	endsWait   = 10 * time.Millisecond
)

// ends lets it be recorded of pickups that all of their outputs have arrived.
func (c *Conductor) ends(items ...*item) {
	if len(items) == 0 {
		return
	}
	c.mu.Lock()
	e := &c.ending
	if len(e.items) == 0 {
		e.begun = time.Now()
	}
	e.items = append(e.items, items...)
	for _, it := range items {
		e.hurry = e.hurry || it.Lane != nil || it.Tries > 0
	}
	c.mu.Unlock()
	select {
	case e.ready <- struct{}{}:
	default:
	}
}

// due gives the pickups whose end is to be recorded now, or how long that has time; 0 and none: there are none. The caller holds the lock.
func (e *ending) due(now time.Time) (items []*item, wait time.Duration) {
	if len(e.items) == 0 {
		return nil, 0
	}
	if wait = e.begun.Add(endsWait).Sub(now); wait > 0 && !e.hurry && len(e.items) < groupFiles && e.begun.Sub(e.last) < endsStream {
		return nil, wait
	}
	n := min(len(e.items), groupFiles)
	items, e.items = e.items[:n:n], e.items[n:]
	e.last = now
	if len(e.items) == 0 {
		e.items, e.hurry = nil, false
	}
	return items, 0
}

// conclusions records the ends of pickups until nothing more comes.
func (c *Conductor) conclusions(over <-chan struct{}) {
	for {
		c.mu.Lock()
		items, wait := c.ending.due(time.Now())
		c.mu.Unlock()
		if len(items) > 0 {
			c.moves(concluding, items[0])
			if c.work.Err() == nil && c.still(items) {
				c.conclude(items)
			}
			c.moves(concluding, nil)
			for _, it := range items {
				c.leave(it)
			}
			continue
		}
		var timer <-chan time.Time
		if wait > 0 {
			timer = time.After(wait)
		}
		select {
		case <-c.ending.ready:
		case <-timer:
		case <-c.work.Done():
			return
		case <-over:
			c.mu.Lock()
			none := len(c.ending.items) == 0
			c.ending.hurry = true
			c.mu.Unlock()
			if none {
				return
			}
		}
	}
}

// conclude ends pickups whose outputs are all visible.
func (c *Conductor) conclude(done []*item) {
	if len(done) == 0 {
		return
	}
	runs := make([]store.RunOf, len(done))
	for i, it := range done {
		runs[i] = store.RunOf{Run: *it.Run, Pickup: it.Pickup, Several: len(it.members) > 0}
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
		it.over = true
		b, took := it.sum, time.Since(it.started)
		c.e.Log.Info("pickup ended", "pickup", it.Pickup, "route", c.name, "file", it.Name, "files", len(it.all()), "state", state, "records", b.In, "good", b.Good, "rejected", b.Rejected, "seconds", took.Seconds())
		for _, f := range it.all() {
			of := f.balance
			c.e.Tell(Event{Kind: "pickup", Route: c.name, Pickup: f.Pickup, Run: *it.Run, Name: f.Name, State: states[f.Pickup], Balance: &of, Duration: took.Seconds()})
		}
		c.concluded(it, states)
	}
}

// concluded is what follows the end of a pickup, and of those of its run: its lane goes on, alerts are
// over or due, and originals that its route does not keep are dropped.
func (c *Conductor) concluded(it *item, states map[int64]string) {
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
	for _, f := range it.all() {
		if states[f.Pickup] == "rejected" && f.whole {
			reason := cmp.Or(whyWhole(it.commit.Findings, f.Name), "it was rejected as a whole")
			c.e.Alert(store.Alert{Kind: "rejected", Route: c.name, Pickup: f.Pickup, About: fmt.Sprintf("pickup %d", f.Pickup), Message: fmt.Sprintf("%s (pickup %d) was rejected: %s", f.Name, f.Pickup, reason)}, true)
		}
		if it.compiled != nil && it.compiled.Originals == workspace.Removed {
			c.dropOriginal(f)
		}
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
