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
	holders map[string]map[int64]bool  // by lane: the pickups that hold it
	under   map[string]map[int64]*item // by lane: pickups that are not at their end
	waiting map[string][]shelved       // by lane: files that were fetched and not claimed
	freed   []*item                    // were parked and may go on, by number
}

func newLanes() *lanes {
	return &lanes{holders: map[string]map[int64]bool{}, under: map[string]map[int64]*item{}, waiting: map[string][]shelved{}}
}

// begin notes that a pickup is on its way. One that somebody let others pass stands in
// nobody's way.
func (l *lanes) begin(it *item) {
	if it.Lane == nil || it.Passed {
		return
	}
	lane := *it.Lane
	if l.under[lane] == nil {
		l.under[lane] = map[int64]*item{}
	}
	l.under[lane][it.Pickup] = it
}

// first is the number of the first pickup of a lane that is not at its end.
func (l *lanes) first(lane string) (first int64) {
	for n := range l.under[lane] {
		if first == 0 || n < first {
			first = n
		}
	}
	return first
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
	for n, other := range l.under[lane] {
		wait = wait || n < it.Pickup && (out || other.parked)
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
	if l.under[lane][it.Pickup] == it {
		delete(l.under[lane], it.Pickup)
	}
	if len(l.under[lane]) == 0 {
		delete(l.under, lane)
	}
	l.free(lane)
}

// free lets the parked pickups of a lane go on if the first of them is the first of
// all.
func (l *lanes) free(lane string) {
	under := l.under[lane]
	first := under[l.first(lane)]
	if first == nil || !first.parked || first.freed {
		return
	}
	if by := l.by(lane); by != 0 && by < first.Pickup {
		return
	}
	for _, it := range under {
		if it.parked && !it.freed {
			it.freed = true
			l.freed = append(l.freed, it)
		}
	}
	slices.SortFunc(l.freed, byNumber)
}

// take gives up to so many pickups that may go on.
func (l *lanes) take(most int) []*item {
	n := min(len(l.freed), most)
	out := slices.Clone(l.freed[:n])
	l.freed = slices.Delete(l.freed, 0, n)
	for _, it := range out {
		it.parked, it.freed = false, false
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
	for lane, under := range l.under {
		for n := range under {
			if !known(n) {
				delete(under, n)
			}
		}
		if len(under) == 0 {
			delete(l.under, lane)
		}
		l.free(lane)
	}
}

func byNumber(a, b *item) int { return int(a.Pickup - b.Pickup) }
