package service

import (
	"sync"

	"ydrion/run"
)

// hub passes events on to whoever watches. A watcher that is too slow misses
// events and is told so by a gap in their numbers; nobody waits for it.
type hub struct {
	mu       sync.Mutex
	last     uint64
	watchers map[chan Numbered]bool
}

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
	for w := range h.watchers {
		select {
		case w <- Numbered{h.last, from, e}:
		default: // too slow
		}
	}
}

// watch begins to watch; the function ends it.
func (h *hub) watch() (<-chan Numbered, func()) {
	w := make(chan Numbered, 256)
	h.mu.Lock()
	defer h.mu.Unlock()
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
