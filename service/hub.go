package service

import (
	"strconv"
	"strings"
	"sync"
	"time"

	"ydrion/run"
)

// hub passes events on to whoever watches. A watcher that is too slow misses
// events and is told so by a gap in their numbers; nobody waits for it. The
// last events are kept, for watchers whose connection was cut.
type hub struct {
	mu       sync.Mutex
	life     string // tells the numbers of this service's life from those of others
	last     uint64
	kept     []Numbered // the last ones: event n stands at n modulo keptEvents
	watchers map[chan Numbered]bool
}

// keptEvents is how many events are kept.
const keptEvents = 1024

// Numbered is an event with its number in this service's life.
type Numbered struct {
	ID   uint64
	From int64 // the node that told, 0 for this one
	run.Event
}

func (h *hub) tell(e run.Event, from int64) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.last++
	told := Numbered{h.last, from, e}
	if len(h.kept) < keptEvents {
		h.kept = append(h.kept, told)
	} else {
		h.kept[(h.last-1)%keptEvents] = told
	}
	for w := range h.watchers {
		select {
		case w <- told:
		default: // too slow
		}
	}
}

// watch begins to watch; the function ends it.
func (h *hub) watch() (<-chan Numbered, func()) {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.join()
}

func (h *hub) join() (<-chan Numbered, func()) {
	w := make(chan Numbered, 256)
	if h.watchers == nil {
		h.watchers = map[chan Numbered]bool{}
	}
	h.watchers[w] = true
	return w, func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		delete(h.watchers, w)
	}
}

// Watching is somebody who watches from a point on.
type Watching struct {
	Behind []Numbered // what came since the event that was named
	// Missed tells that there was more: the event that was named is of another life of the
	// service, or too long ago.
	Missed bool
	Events <-chan Numbered
	Stop   func()
	life   string
}

// Mark names an event, for going on behind it.
func (w *Watching) Mark(id uint64) string { return w.life + "-" + strconv.FormatUint(id, 10) }

// watchFrom begins to watch behind the event of a mark; empty: from now on.
func (h *hub) watchFrom(mark string) *Watching {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.life == "" {
		h.life = strconv.FormatInt(time.Now().UnixNano(), 36)
	}
	w := &Watching{life: h.life}
	w.Events, w.Stop = h.join()
	if mark == "" {
		return w
	}
	life, number, _ := strings.Cut(mark, "-")
	id, err := strconv.ParseUint(number, 10, 64)
	if err != nil || life != h.life || id > h.last || h.last-id > uint64(len(h.kept)) {
		w.Missed = true
		return w
	}
	for n := id + 1; n <= h.last; n++ {
		w.Behind = append(w.Behind, h.kept[(n-1)%keptEvents])
	}
	return w
}
