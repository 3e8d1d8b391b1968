package files

import "sync"

// Turns lets those who do something with one name do it one after the other; with other names nobody waits. It is for this service alone:
// others who do the same are not seen.
type Turns struct {
	mu    sync.Mutex
	taken map[string]chan struct{}
}

// Take waits until nobody else has a name. Over is called when it has been done.
func (t *Turns) Take(name string) (over func()) {
	t.mu.Lock()
	for t.taken[name] != nil {
		until := t.taken[name]
		t.mu.Unlock()
		<-until
		t.mu.Lock()
	}
	if t.taken == nil {
		t.taken = map[string]chan struct{}{}
	}
	until := make(chan struct{})
	t.taken[name] = until
	t.mu.Unlock()
	return func() {
		t.mu.Lock()
		delete(t.taken, name)
		t.mu.Unlock()
		close(until)
	}
}
