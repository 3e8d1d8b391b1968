package run

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"sync"
	"time"

	"ydrion/deliver"
	"ydrion/remote"
	"ydrion/store"
	"ydrion/workspace"
)

// Outputs for servers lie in the spool when their run is committed. Bringing them there is the work of senders, one
// for each place that a route delivers to: a place that is slow or away holds nobody but itself. What is tried again
// is the single delivery. A pickup is at its end when all its deliveries are.

// sender brings outputs of one route to one place.
type sender struct {
	c     *Conductor
	place string

	mu       sync.Mutex
	tasks    []*task       // in their order
	signal   chan struct{} // there may be something to do
	failures int           // of the place, in a row
	rests    time.Time     // until then the place is left alone
}

// task is what one pickup has to bring to one place.
type task struct {
	*parcels
	it    *item
	list  []store.Delivery  // those that are open, in portions; nil: they have to be asked for
	read  bool              // the list holds all that are open
	next  time.Time         // when to go on with it
	busy  bool              // somebody is at it
	left  []store.RefusedAt // what could not be delivered, in this round
	fails int               // in folders of this machine, in a row

	late late // of this round
}

// late has, by name, the first output that has not arrived where others of its run take its place. Those behind it wait until it
// has: when it is tried again, it would take theirs.
type late struct {
	mu    sync.Mutex
	first map[string]int // its number in the run
}

func (l *late) add(name string, ord int) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if first, is := l.first[name]; is && first < ord {
		return
	}
	if l.first == nil {
		l.first = map[string]int{}
	}
	l.first[name] = ord
}

func (l *late) before(name string, ord int) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	first, is := l.first[name]
	return is && first < ord
}

func (l *late) clear() {
	l.mu.Lock()
	defer l.mu.Unlock()
	clear(l.first)
}

// parcels is what is known of a pickup's deliveries to servers. It is used with the conductor's lock.
type parcels struct {
	open  int       // places where something is open
	since time.Time // when its deliveries were begun
	err   error     // what needs a person
	again time.Time // the decision by which it was hurried last
	told  string    // why they have not arrived, as was said last
}

// distant tells whether a delivery goes to a server.
func distant(d *store.Delivery) bool {
	return isDistant(d.Folder)
}

// isDistant tells whether a resolved folder is on a server.
func isDistant(folder string) bool {
	_, _, is := workspace.Distant(folder)
	return is
}

// placeOf is the place on a server that a delivery goes to.
func placeOf(d *store.Delivery) string {
	place, _, _ := workspace.Distant(d.Folder)
	return place
}

// puts tells whether outputs are put under their names there (PUT, RFC 9110, 9.3.4): one takes the place of another of its name.
func (c *Conductor) puts(folder string) bool {
	place, _, is := workspace.Distant(folder)
	report, _ := c.e.Places.Report(place)
	return is && report.Place.Method == http.MethodPut
}

// here stands for the folders of this machine where there are places on servers, too: what cannot be published in them
// is tried again beside those.
const here = ""

// handOver gives what a pickup has to bring to servers to the senders. List is all of it, or nil if it has to be
// asked for. Failed says why outputs for folders of this machine could not be published; nil if they were.
func (c *Conductor) handOver(it *item, places []string, list []store.Delivery, failed error) {
	all := &parcels{open: len(places), since: time.Now()}
	var person errPerson
	switch {
	case errors.As(failed, &person):
		all.err = failed
	case failed != nil:
		all.open++
	}
	it.handed = true
	c.mu.Lock()
	c.sending[it.Pickup] = all
	c.mu.Unlock()
	if failed != nil && all.err == nil {
		c.senderOf(here).add(&task{parcels: all, it: it, next: time.Now().Add(pause(1))})
		c.delayed([]*item{it}, failed)
	}
	for _, place := range places {
		t := &task{parcels: all, it: it}
		if list != nil {
			t.list, t.read = []store.Delivery{}, true
			for _, d := range list {
				if placeOf(&d) == place {
					t.list = append(t.list, d)
				}
			}
		}
		c.senderOf(place).add(t)
	}
}

// senderOf gives the sender for a place, and begins it if need be.
func (c *Conductor) senderOf(place string) *sender {
	c.mu.Lock()
	defer c.mu.Unlock()
	s := c.senders[place]
	if s == nil {
		s = &sender{c: c, place: place, signal: make(chan struct{}, 1)}
		c.senders[place] = s
		report, _ := c.e.Places.Report(place)
		for range max(1, report.Place.Connections) {
			c.sends.Go(func() { c.supervise(s.run) })
		}
	}
	return s
}

func (s *sender) add(t *task) {
	s.mu.Lock()
	s.tasks = append(s.tasks, t)
	s.mu.Unlock()
	s.wake()
}

func (s *sender) wake() {
	select {
	case s.signal <- struct{}{}:
	default: // it has been told already
	}
}

// run brings outputs to the place until the work on the route ends.
func (s *sender) run() {
	for s.c.life.Err() == nil && s.c.work.Err() == nil {
		tasks, wait := s.take()
		if len(tasks) > 0 {
			s.wake() // there may be more for another connection
			s.bring(tasks)
			continue
		}
		timer := time.NewTimer(wait)
		select {
		case <-s.c.life.Done():
		case <-s.signal:
		case <-timer.C:
		}
		timer.Stop()
	}
}

// take chooses pickups whose outputs are brought now, or tells how long to wait.
func (s *sender) take() (out []*task, wait time.Duration) {
	s.mu.Lock()
	defer s.mu.Unlock()
	now := time.Now()
	if left := s.rests.Sub(now); left > 0 {
		return nil, left
	}
	most := groupFiles
	if s.failures > 0 {
		most = 1 // whether it works again is tried with one
	}
	wait = lookEvery
	for _, t := range s.tasks {
		if t.busy {
			if s.failures > 0 {
				return nil, lookEvery // somebody tries
			}
			continue
		}
		if left := t.next.Sub(now); left > 0 {
			wait = min(wait, left)
			continue
		}
		t.busy = true
		if out = append(out, t); len(out) >= most {
			break
		}
	}
	return out, wait
}

// portionFiles and portionBytes bound what is written to a server before it is recorded.
const (
	portionFiles = 256
	portionBytes = 16 << 20
)

// letter is a parcel with the delivery and the task that it is of.
type letter struct {
	deliver.Parcel
	store.Delivery
	of      *task
	outcome deliver.Outcome
	err     error
	tried   bool   // to give it its name
	takes   bool   // it takes the place of what has its name
	receipt string // what the server has answered
}

// isLate notes that it has not arrived.
func (l *letter) isLate() {
	if l.takes {
		l.of.late.add(l.To(), l.Delivery.Ord)
	}
}

// waits tells whether it must not get there before one that is late.
func (l *letter) waits() bool { return l.takes && l.of.late.before(l.To(), l.Delivery.Ord) }

// bring delivers what some pickups have for the place.
func (s *sender) bring(tasks []*task) {
	if s.place == here {
		s.publish(tasks)
		return
	}
	var portion []*letter
	size := int64(0)
	var away error
	spoken := false // with the place
	flush := func() {
		if len(portion) > 0 && away == nil {
			away, spoken = s.deliver(portion), true
		}
		portion, size = nil, 0
	}
	for _, t := range tasks {
		t.left = nil
		t.late.clear()
		for after := 0; away == nil; {
			list, more, err := s.open(t, after)
			if err != nil {
				away = err
				break
			}
			for i := range list {
				after = list[i].Ord
				l := s.letter(t, list[i])
				if next := list[i].NextTry; next != nil && time.Until(*next) > 0 && time.Until(*next) < longestPause {
					t.left = append(t.left, store.RefusedAt{DeliveryOf: of(t, list[i].Ord), Reason: list[i].Reason, Next: *next})
					l.isLate()
					continue
				}
				if l.waits() {
					continue
				}
				portion = append(portion, l)
				if size += list[i].Size; len(portion) >= portionFiles || size >= portionBytes {
					if flush(); away != nil {
						break
					}
				}
			}
			if !more {
				break
			}
		}
	}
	flush()
	switch {
	case away != nil:
		s.isAway(tasks, away)
	case spoken:
		s.isThere()
	}
	s.settle(tasks, away)
}

// publish tries again to publish outputs in folders of this machine.
func (s *sender) publish(tasks []*task) {
	c := s.c
	for _, t := range tasks {
		folders := map[string]bool{}
		_, err := c.publishHere(t.it, folders)
		var person errPerson
		over := true
		switch limit := t.it.compiled.Retry.For; {
		case err == nil:
		case errors.As(err, &person):
			s.needs(t, err)
		case limit != workspace.Forever && c.waited(t) >= limit:
			s.needs(t, errPerson{fmt.Errorf("it is not tried any more: %w", err), "stuck"})
		default:
			over = false
			t.fails++
			c.delayed([]*item{t.it}, err)
		}
		s.mu.Lock()
		t.busy, t.next = false, time.Now().Add(pause(t.fails))
		s.mu.Unlock()
		if over {
			s.drop(t)
		}
	}
}

// drop ends what a pickup has for the place.
func (s *sender) drop(t *task) {
	s.mu.Lock()
	s.tasks = slices.DeleteFunc(s.tasks, func(o *task) bool { return o == t })
	s.mu.Unlock()
	s.c.finished(t)
}

func of(t *task, ord int) store.DeliveryOf {
	return store.DeliveryOf{RunOf: store.RunOf{Run: *t.it.Run, Pickup: t.it.Pickup}, Ord: ord}
}

// open gives a portion of what a pickup has for the place.
func (s *sender) open(t *task, after int) (list []store.Delivery, more bool, err error) {
	if t.read {
		return t.list, false, nil
	}
	list, err = s.c.e.Store.OpenAt(s.c.work, *t.it.Run, s.place, after, portion)
	return list, len(list) == portion, err
}

// letter makes a parcel of a delivery.
func (s *sender) letter(t *task, d store.Delivery) *letter {
	c := s.c
	l := &letter{Delivery: d, of: t}
	_, below, _ := workspace.Distant(d.Folder)
	bare := false
	if to := t.it.compiled.Destinations(); d.Kind == "good" && d.Output < len(to) {
		bare = to[d.Output].Bare
	}
	l.Parcel = deliver.Parcel{FS: c.e.FS, Mark: c.e.Mark, Run: d.Run, Ord: d.Ord, Spooled: d.Temporary, Size: d.Size, SHA256: d.SHA256, Folder: below, Name: d.Name, Said: d.Said, Bare: bare, Taken: whenTaken(t.it, &d), Named: d.NamedAt != nil}
	l.takes = c.takes(t.it, &d)
	l.Uploading, l.Begun = d.InParts, func(upload string) error {
		return c.e.Store.Uploading(c.work, c.node.ID, of(t, d.Ord), upload)
	}
	l.Recount = func(name string) error {
		return c.e.Store.Rename(c.work, c.node.ID, store.RunOf{Run: d.Run, Pickup: t.it.Pickup}, d.Ord, name)
	}
	return l
}

// deliver brings some outputs to the place: all are written, that is recorded, all are named, and that is. It gives an
// error if nothing can be done there, or here, for now.
func (s *sender) deliver(all []*letter) error {
	report, _ := s.c.e.Places.Report(s.place)
	bring := s.put
	if report.Place.Messages() {
		bring = s.exchange
	}
	going := make([]leaving, len(all))
	for i, l := range all {
		going[i] = leaving{l.of.it, &l.Delivery}
	}
	later, over, err := s.c.inTurn(going)
	if err != nil {
		return err
	}
	defer over()
	if len(later) == 0 {
		return errors.Join(bring(all), s.record(all))
	}
	rest, err := s.yield(all, later)
	if err != nil {
		return err
	}
	return errors.Join(bring(rest), s.record(all))
}

// yield leaves out the outputs of which later ones are there, or may be.
func (s *sender) yield(all []*letter, later overtaken) (rest []*letter, _ error) {
	c := s.c
	var passed []store.OvertakenAt
	var gone []string
	for _, l := range all {
		by, err := c.overtaker(later, &l.Delivery)
		switch {
		case err != nil:
			l.err = err
			l.isLate()
			continue
		case by != nil && l.Parcel.Taken != workspace.ReplaceKeep:
			passed, gone = append(passed, overtakenBy(l.of.it, &l.Delivery, by)), append(gone, l.Spooled)
			continue
		case by != nil:
			if err := c.formerly(l.of.it, &l.Delivery, by); err != nil {
				return nil, err
			}
			l.Parcel.Name, l.Parcel.Taken, l.takes = l.Delivery.Name, workspace.Count, false
		}
		rest = append(rest, l)
	}
	return rest, c.yielded(passed, gone)
}

// put writes some outputs to a place with files, records that, and names them.
func (s *sender) put(all []*letter) error {
	c := s.c
	report, _ := c.e.Places.Report(s.place)
	var fresh []*letter
	for _, l := range all {
		if !l.Named {
			fresh = append(fresh, l)
		}
	}
	if !report.Place.Objects() {
		err := c.e.Places.Spread(c.work, s.place, report.Place.Connections, len(fresh), func(t remote.Tree, i int) error {
			if !c.node.Sure() {
				return errGiven
			}
			l := fresh[i]
			if l.err = l.Upload(t); remote.IsAway(l.err) {
				return l.err
			}
			return nil
		})
		if err != nil {
			return err
		}
		for _, l := range fresh {
			if l.err != nil {
				l.isLate()
			}
		}
		fresh = slices.DeleteFunc(fresh, func(l *letter) bool { return l.err != nil || l.waits() })
	}
	if len(fresh) > 0 {
		naming := make([]store.DeliveryOf, len(fresh))
		for i, l := range fresh {
			naming[i] = of(l.of, l.Delivery.Ord)
		}
		if err := c.e.Store.Naming(c.work, c.node.ID, naming); err != nil {
			return err
		}
	}
	// Files get their names one after the other. Objects are sent with theirs, those of one name in their order.
	rows := [][]*letter{all}
	if report.Place.Objects() {
		rows = nil
		of := map[string]int{}
		for _, l := range all {
			row, is := of[l.To()]
			if !is {
				row, of[l.To()] = len(rows), len(rows)
				rows = append(rows, nil)
			}
			rows[row] = append(rows[row], l)
		}
	}
	return c.e.Places.Spread(c.work, s.place, report.Place.Connections, len(rows), func(t remote.Tree, i int) error {
		for _, l := range rows[i] {
			if l.err != nil || l.waits() {
				continue
			}
			if !c.node.Sure() {
				return errGiven
			}
			if l.outcome, l.err = l.Publish(t); remote.IsAway(l.err) {
				return l.err
			}
			if l.tried = true; l.err != nil || l.outcome == deliver.Unknown {
				l.isLate()
			}
		}
		return nil
	})
}

// exchange sends some outputs one by one. That one is about to be sent is recorded before: if its answer is lost, it may have
// been taken.
func (s *sender) exchange(all []*letter) error {
	c := s.c
	return c.e.Places.Exchange(c.work, s.place, func(x remote.Exchange) error {
		for _, l := range all {
			if l.waits() {
				continue
			}
			if !c.node.Sure() {
				return errGiven
			}
			d := of(l.of, l.Delivery.Ord)
			if err := c.e.Store.Naming(c.work, c.node.ID, []store.DeliveryOf{d}); err != nil {
				return err
			}
			l.receipt, l.outcome, l.err = l.Send(x)
			l.tried = true
			var away *remote.Away
			is := errors.As(l.err, &away)
			if l.err != nil && !(is && away.Sent) {
				// The receiver does not have it: it is sent again.
				if err := c.e.Store.Unnamed(context.WithoutCancel(c.work), c.node.ID, d); err != nil {
					return errors.Join(l.err, err)
				}
			}
			if is {
				return l.err
			}
			if l.err != nil || l.outcome == deliver.Unknown {
				l.isLate()
			}
		}
		return nil
	})
}

// record records what has become of some deliveries.
func (s *sender) record(all []*letter) error {
	c := s.c
	ctx := context.WithoutCancel(c.work)
	var arrived []store.ArrivedAt
	var refused []store.RefusedAt
	var spooled []string
	now := time.Now()
	for _, l := range all {
		d := of(l.of, l.Delivery.Ord)
		switch {
		case remote.IsAway(l.err), l.err == nil && !l.tried:
		case l.err == nil && (l.outcome == deliver.Published || l.outcome == deliver.Already):
			receipt := cmp.Or(l.receipt, fmt.Sprintf("%s, %d bytes", l.To(), l.Parcel.Size))
			if l.outcome == deliver.Already {
				receipt += ", by an earlier try"
			}
			arrived, spooled = append(arrived, store.ArrivedAt{DeliveryOf: d, Receipt: receipt}), append(spooled, l.Spooled)
		case l.err != nil:
			r := store.RefusedAt{DeliveryOf: d, Reason: l.err.Error()}
			var no *remote.Refused
			if limit := l.of.it.compiled.Retry.For; errors.As(l.err, &no) && no.Final {
				// It would not take it the next time either: a person is asked.
			} else if limit == workspace.Forever || c.waited(l.of) < limit {
				r.Next = now.Add(pause(l.Tries + 1))
			}
			refused = append(refused, r)
			l.of.left = append(l.of.left, r)
		case l.outcome == deliver.Unknown:
			why := "neither it nor what was written for it is there, and the server does not make files durable"
			if report, _ := c.e.Places.Report(s.place); report.Place.Messages() {
				why = "it was sent, and the answer was lost"
			}
			reason := fmt.Sprintf("nobody can tell whether %s has arrived at %s: %s; say whether it has arrived (`ydrion decide`)", l.Parcel.Name, s.place, why)
			if err := c.e.Store.Uncertain(ctx, d.Run, []int{d.Ord}, reason); err != nil {
				return err
			}
			s.needs(l.of, errPerson{errors.New(reason), "uncertain"})
		default:
			r := store.RefusedAt{DeliveryOf: d, Reason: fmt.Sprintf("there is a file %s in %s already, and the route does not replace it", l.Parcel.Name, l.Delivery.Folder)}
			refused = append(refused, r)
			l.of.left = append(l.of.left, r)
		}
	}
	if len(arrived) > 0 {
		if err := c.e.Store.Arrived(ctx, arrived); err != nil {
			return err
		}
	}
	for _, f := range spooled {
		c.fs.Remove(f) //nolint: it is swept later
	}
	if len(refused) > 0 {
		return c.e.Store.NotArrived(ctx, refused)
	}
	return nil
}

// waited is how long a pickup's deliveries have been tried.
func (c *Conductor) waited(t *task) time.Duration {
	c.mu.Lock()
	defer c.mu.Unlock()
	return time.Since(t.since)
}

// needs notes that a pickup needs a person.
func (s *sender) needs(t *task, err error) {
	s.c.mu.Lock()
	defer s.c.mu.Unlock()
	var before errPerson
	if t.err == nil || !errors.As(t.err, &before) || before.kind != "uncertain" {
		t.err = err
	}
}

// isThere notes that the place works.
func (s *sender) isThere() {
	s.mu.Lock()
	was := s.failures
	s.failures, s.rests = 0, time.Time{}
	s.mu.Unlock()
	if was > 0 {
		s.c.e.Over("stuck", s.about())
		s.wake()
	}
}

// about is what alerts about the place are about.
func (s *sender) about() string { return s.c.name + " to " + s.place }

// isAway lets the place rest.
func (s *sender) isAway(tasks []*task, err error) {
	c := s.c
	if c.work.Err() != nil || errors.Is(err, errGiven) {
		return
	}
	s.mu.Lock()
	s.failures++
	n := s.failures
	s.rests = time.Now().Add(pause(n))
	waiting := len(s.tasks)
	s.mu.Unlock()
	c.e.Log.Warn("a place cannot be delivered to; it will be tried again", "route", c.name, "place", s.place, "pickups", waiting, "error", err, "again_in", pause(n))
	if n >= 2 {
		c.e.Alert(store.Alert{Kind: "stuck", Route: c.name, About: s.about(), Message: fmt.Sprintf("%s cannot deliver to %s, and %d pickups wait for it: %v", c.name, s.place, waiting, err)}, false)
	}
	s.tell(err)
}

// tell says of all pickups that wait for the place why they do.
func (s *sender) tell(err error) {
	s.mu.Lock()
	waiting := make([]*item, len(s.tasks))
	for i, t := range s.tasks {
		waiting[i] = t.it
	}
	s.mu.Unlock()
	s.c.delayed(waiting, err)
}

// delayed says of pickups why their outputs have not arrived. Those behind them in their lanes are held, or pass.
func (c *Conductor) delayed(items []*item, err error) {
	var fresh []*item
	var ids []int64
	c.mu.Lock()
	for _, it := range items {
		all := c.sending[it.Pickup]
		if all == nil || all.told == err.Error() {
			continue
		}
		first := all.told == ""
		all.told = err.Error()
		fresh, ids = append(fresh, it), append(ids, it.Pickup)
		if !first || it.Lane == nil || it.Passed {
			continue
		}
		if it.compiled.Order.Holds && c.lanes.hold(*it.Lane, it.Pickup) {
			c.e.Alert(store.Alert{Kind: "lane held", Route: c.name, Pickup: it.Pickup, About: c.name + " " + *it.Lane, Message: fmt.Sprintf("lane %s of %s is held by %s (pickup %d): %v", *it.Lane, c.name, it.Name, it.Pickup, err)}, false)
		}
		c.lanes.end(it)
	}
	if len(c.lanes.freed) > 0 {
		c.wake()
	}
	c.mu.Unlock()
	if len(ids) == 0 {
		return
	}
	if err := c.e.Store.Delayed(c.work, c.node.ID, ids, err.Error()); err != nil && c.work.Err() == nil {
		c.e.Log.Warn("recording why outputs have not arrived", "route", c.name, "error", err)
	}
	for _, it := range fresh {
		c.e.Tell(Event{Kind: "pickup", Route: c.name, Pickup: it.Pickup, Run: *it.Run, Name: it.Name, State: "committed", Reason: err.Error()})
	}
}

// settle decides what comes next for pickups whose turn at the place is over.
func (s *sender) settle(tasks []*task, away error) {
	c := s.c
	for _, t := range tasks {
		over := false
		switch limit := t.it.compiled.Retry.For; {
		case away != nil && limit != workspace.Forever && c.waited(t) >= limit && c.work.Err() == nil:
			s.needs(t, errPerson{fmt.Errorf("it is not tried any more: %w", away), "stuck"})
			over = true
		case away != nil:
		case len(t.left) == 0:
			over = true
		default:
			over = s.later(t)
		}
		s.mu.Lock()
		t.busy, t.list, t.read = false, nil, false // it is asked for again
		s.mu.Unlock()
		if over {
			s.drop(t)
		}
	}
}

// later lets what could not be delivered be tried again, unless all of it waits for a person.
func (s *sender) later(t *task) (over bool) {
	var next time.Time
	person := ""
	for _, r := range t.left {
		switch {
		case r.Next.IsZero():
			person = r.Reason
		case next.IsZero() || r.Next.Before(next):
			next = r.Next
		}
	}
	if next.IsZero() {
		s.needs(t, errPerson{errors.New(person), "stuck"})
		return true
	}
	s.mu.Lock()
	t.next = next
	s.mu.Unlock()
	s.c.e.Log.Warn("an output cannot be delivered; it will be tried again", "route", s.c.name, "pickup", t.it.Pickup, "place", s.place, "reason", t.left[0].Reason)
	s.tell(errors.New(t.left[0].Reason))
	return false
}

// finished notes that a pickup has nothing more for a place. With the last place it is at its end, or waits for a
// person.
func (c *Conductor) finished(t *task) {
	c.mu.Lock()
	t.open--
	last, err := t.open == 0, t.err
	if last {
		delete(c.sending, t.it.Pickup)
	}
	if len(c.sending) < mostSending {
		c.wake()
	}
	c.mu.Unlock()
	if !last {
		return
	}
	it := t.it
	it.stage = publishing
	if err != nil {
		c.fail(it, err)
		c.leave(it)
		return
	}
	c.ends(it)
}

// leave lets a pickup be found in the records again, if it has not ended.
func (c *Conductor) leave(it *item) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, f := range it.all() {
		delete(c.busy, f.Pickup)
		c.left[f.Pickup] = !it.over
	}
}

// mostSending is how many pickups may wait for servers before new files are left in the inbox.
const mostSending = 1000

// hurry lets the deliveries of a pickup be tried at once, as somebody has decided. The caller holds the lock.
func (c *Conductor) hurry(p *store.Pending) {
	all := c.sending[p.Pickup]
	if all == nil || p.NextTry == nil || all.again.Equal(*p.NextTry) {
		return
	}
	all.again, all.since, all.err = *p.NextTry, time.Now(), nil
	for _, s := range c.senders {
		c.sends.Go(func() { s.hurry(all) })
	}
}

func (s *sender) hurry(all *parcels) {
	s.mu.Lock()
	for _, t := range s.tasks {
		if t.parcels == all {
			t.next, s.rests = time.Time{}, time.Time{}
		}
	}
	s.mu.Unlock()
	s.wake()
}
