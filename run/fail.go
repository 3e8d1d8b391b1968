package run

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"ydrion/store"
	"ydrion/workspace"
)

// errPerson marks what only a person can decide.
type errPerson struct {
	error
	kind string // of alert
}

// fail records why a pickup cannot go on. It is tried again later, up to the
// route's limit, or waits for a person.
func (c *Conductor) fail(it *item, err error) {
	at := it.stage
	it.stage = ended
	if c.work.Err() != nil || it.Pickup == 0 || !c.node.Sure() || errors.Is(err, errGiven) {
		return // stopped, or given up: the next leader goes on with it
	}
	var person errPerson
	forPerson := errors.As(err, &person)
	tries := it.Tries + 1
	var next time.Time
	limit := 7 * 24 * time.Hour
	if it.compiled != nil {
		limit = it.compiled.Retry.For
	}
	if !forPerson && (limit == workspace.Forever || tried(tries) < limit) {
		next = time.Now().Add(pause(tries))
	}
	reason, _, _ := strings.Cut(err.Error(), "\n")
	state := "held"
	if person.kind == "uncertain" {
		state = "uncertain"
	}
	c.mu.Lock()
	for _, f := range it.all() {
		if f.Run != nil && f.Origin == "inbox" {
			c.taken[f.Path] = identityOf(f.Inode, f.Size, f.Modified)
		}
	}
	holds := it.Lane != nil && it.compiled != nil && it.compiled.Order.Holds && !it.Passed
	if holds && c.lanes.hold(*it.Lane, it.Pickup) {
		c.e.Alert(store.Alert{Kind: "lane held", Route: c.name, Pickup: it.Pickup, About: c.name + " " + *it.Lane, Message: fmt.Sprintf("lane %s of %s is held by %s (pickup %d): %s", *it.Lane, c.name, it.Name, it.Pickup, reason)}, false)
	}
	c.mu.Unlock()
	again := c.e.Store.Held(c.work, c.node.ID, it.Pickup, state, reason, next)
	c.mu.Lock()
	if again == nil {
		// From here on the records say that it is held; until then what comes behind it
		// in its lane waits for it.
		c.lanes.end(it)
	}
	if !next.IsZero() {
		c.stalled++
		c.later(next)
	}
	c.troubles++
	c.mu.Unlock()
	if again != nil {
		c.trouble("recording why a pickup is held", errors.Join(err, again))
	}
	c.tellHeld(it, at, state, reason, person, next)
}

// tellHeld tells those who watch, and those who should know.
func (c *Conductor) tellHeld(it *item, at stage, state, reason string, person errPerson, next time.Time) {
	event := Event{Kind: "pickup", Route: c.name, Pickup: it.Pickup, Name: it.Name, State: state, Reason: reason}
	if it.Run != nil {
		event.Run = *it.Run
	}
	c.e.Tell(event)
	if next.IsZero() {
		c.e.Log.Error("a pickup waits for a person", "pickup", it.Pickup, "route", c.name, "file", it.Name, "reason", reason)
	} else {
		c.e.Log.Warn("a pickup cannot go on; it will be tried again", "pickup", it.Pickup, "route", c.name, "file", it.Name, "reason", reason, "again_in", time.Until(next).Round(time.Second))
	}
	kind := "held"
	if at >= committing {
		kind = "stuck"
	}
	itself := fmt.Sprintf("pickup %d", it.Pickup)
	switch {
	case person.kind != "":
		c.e.Alert(store.Alert{Kind: person.kind, Route: c.name, Pickup: it.Pickup, About: itself, Message: fmt.Sprintf("%s (pickup %d) waits for a person: %s", it.Name, it.Pickup, reason)}, false)
	case next.IsZero():
		// That it is tried again was told before, for the route. That this is over is
		// something else to know.
		c.e.Alert(store.Alert{Kind: kind, Route: c.name, Pickup: it.Pickup, About: itself, Message: fmt.Sprintf("%s (pickup %d) is not tried any more and waits for a person: %s", it.Name, it.Pickup, reason)}, false)
	case at >= committing || it.Tries > 0:
		// One alert for a route: a hundred files that meet the same trouble are
		// one thing to know.
		c.e.Alert(store.Alert{Kind: kind, Route: c.name, Pickup: it.Pickup, About: c.name, Message: fmt.Sprintf("%s (pickup %d) cannot go on: %s", it.Name, it.Pickup, reason)}, false)
	}
}
