package run

import (
	"slices"
)

// lanes keep what belongs together in order. A lane is held by a pickup that cannot go
// on; those behind it wait: files in their inbox, pickups wherever they are on their
// way. What is parked goes through the stages again from the first one, so others of
// its lane may by then be ahead of it on their way: they are parked in turn until
// everything before them is out.
//
// The order within a lane is that of the pickups' numbers. All methods are called with
// the conductor's lock.
type lanes struct {
	holders map[string]map[int64]bool // by lane: the pickups that hold it
	under   map[string]*queue         // by lane: pickups that are not at their end
	waiting map[string][]shelved      // by lane: files that were fetched and not claimed
	freed   []*item                   // were parked and may go on, by number
	// window is how many parked pickups of a lane are let go on together: more of them would only be parked again, as what
	// is before them is not out.
	window int
}

func newLanes() *lanes {
	return &lanes{holders: map[string]map[int64]bool{}, under: map[string]*queue{}, waiting: map[string][]shelved{}, window: 4 * groupFiles}
}

// queue are the pickups of a lane that are not at their end: there may be as many as files.
type queue struct {
	items  map[int64]*item
	all    numbers
	parked numbers
	stays  numbers // of the parked ones: those that may not go on yet
}

// put notes an item, maybe in place of another one of the same pickup.
func (q *queue) put(it *item) {
	q.items[it.Pickup] = it
	q.all.set(it.Pickup, true)
	q.parked.set(it.Pickup, it.parked)
	q.stays.set(it.Pickup, it.parked && !it.freed)
}

func (q *queue) remove(pickup int64) {
	delete(q.items, pickup)
	q.all.set(pickup, false)
	q.parked.set(pickup, false)
	q.stays.set(pickup, false)
}

// numbers are a set, in their order. They come and go nearly in that.
type numbers []int64

// set says whether a number is in it.
func (s *numbers) set(n int64, in bool) {
	switch i, is := slices.BinarySearch(*s, n); {
	case is == in:
	case in:
		*s = slices.Insert(*s, i, n)
	case i == 0:
		*s = (*s)[1:]
	default:
		*s = slices.Delete(*s, i, i+1)
	}
}

// first is the least; 0: there is none.
func (s numbers) first() int64 {
	if len(s) == 0 {
		return 0
	}
	return s[0]
}

// before tells whether there is one before n.
func (s numbers) before(n int64) bool { return len(s) > 0 && s[0] < n }

// begin notes that a pickup is on its way. One that somebody let others pass stands in
// nobody's way.
func (l *lanes) begin(it *item) {
	if it.Lane == nil || it.Passed {
		return
	}
	if l.under[*it.Lane] == nil {
		l.under[*it.Lane] = &queue{items: map[int64]*item{}}
	}
	l.under[*it.Lane].put(it)
}

// park keeps a pickup from going on if its lane is held by an earlier one or if an
// earlier one was parked and comes behind it. Out says that it is about to come out:
// then everything before it must be out.
func (l *lanes) park(it *item, out bool) bool {
	if it.Lane == nil || it.Passed {
		return false
	}
	lane := *it.Lane
	by := l.by(lane)
	wait := by != 0 && by < it.Pickup
	if q := l.under[lane]; q != nil {
		wait = wait || q.parked.before(it.Pickup) || out && q.all.before(it.Pickup)
	}
	if wait {
		it.parked = true
		l.begin(it)
	}
	return wait
}

// end notes that a pickup is at its end, or stands in nobody's way any more.
func (l *lanes) end(it *item) {
	if it.Lane == nil || it.Passed {
		return
	}
	lane := *it.Lane
	if q := l.under[lane]; q != nil && q.items[it.Pickup] == it {
		q.remove(it.Pickup)
		if len(q.items) == 0 {
			delete(l.under, lane)
		}
	}
	l.free(lane)
}

// free lets the first parked pickups of a lane go on if the first of them is the first of
// all.
func (l *lanes) free(lane string) {
	q := l.under[lane]
	if q == nil || len(q.stays) == 0 {
		return
	}
	first := q.items[q.all.first()]
	if !first.parked || first.freed {
		return
	}
	if by := l.by(lane); by != 0 && by < first.Pickup {
		return
	}
	n := min(len(q.stays), max(1, l.window-(len(q.all)-len(q.stays)))) // besides those that may go on already
	for _, pickup := range q.stays[:n] {
		it := q.items[pickup]
		it.freed = true
		l.freed = append(l.freed, it)
	}
	q.stays = q.stays[n:]
	slices.SortFunc(l.freed, byNumber)
}

// take gives up to so many pickups that may go on.
func (l *lanes) take(most int) []*item {
	n := min(len(l.freed), most)
	out := slices.Clone(l.freed[:n])
	l.freed = slices.Delete(l.freed, 0, n)
	for _, it := range out {
		it.parked, it.freed = false, false
		if q := l.under[*it.Lane]; q != nil && q.items[it.Pickup] == it {
			q.parked.set(it.Pickup, false)
		}
	}
	return out
}

// by is the first pickup that holds a lane, 0 if none does.
func (l *lanes) by(lane string) (first int64) {
	for n := range l.holders[lane] {
		if first == 0 || n < first {
			first = n
		}
	}
	return first
}

// hold lets a pickup hold its lane, and tells whether nobody did before.
func (l *lanes) hold(lane string, by int64) (first bool) {
	if first = len(l.holders[lane]) == 0; first {
		l.holders[lane] = map[int64]bool{}
	}
	l.holders[lane][by] = true
	return first
}

// release says that a pickup does not hold its lane any more. If nobody does now, it
// gives the files that wait for the lane.
func (l *lanes) release(lane string, by int64) (waiting []shelved, free bool) {
	if !l.holders[lane][by] {
		return nil, false
	}
	delete(l.holders[lane], by)
	if free = len(l.holders[lane]) == 0; free {
		delete(l.holders, lane)
		waiting = l.waiting[lane]
		delete(l.waiting, lane)
	}
	l.free(lane)
	return waiting, free
}

// keep forgets pickups that are neither open nor on their way.
func (l *lanes) keep(known func(pickup int64) bool) {
	for lane, q := range l.under {
		for n := range q.items {
			if !known(n) {
				q.remove(n)
			}
		}
		if len(q.items) == 0 {
			delete(l.under, lane)
		}
		l.free(lane)
	}
}

func byNumber(a, b *item) int { return int(a.Pickup - b.Pickup) }
