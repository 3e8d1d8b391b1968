package service

import (
	"fmt"
	"time"

	"ydrion/store"
)

const (
	// watchEvery is how often routes are looked at for things that do not move, and
	// stillFor how long something may not move before a person is told.
	watchEvery = 5 * time.Second
	stillFor   = 2 * time.Minute
)

// watchOver tells people of what does not move although nothing holds it: a stage that
// hangs in a file system, a file that is ready and not taken. Whatever the reason, it
// must not be silent.
func (s *Service) watchOver() {
	for {
		select {
		case <-s.life.Done():
			return
		case <-time.After(watchEvery):
		}
		for name, l := range s.all() {
			l.watch(name)
		}
	}
}

// watch looks whether the route's work moves on.
func (l *leading) watch(name string) {
	l.mu.Lock()
	c, told := l.conductor, l.still
	l.mu.Unlock()
	if c == nil {
		return
	}
	stuck := c.Stuck(l.s.stillFor())
	if stuck != nil {
		l.s.alert(store.Alert{Kind: standstill, Route: name, Pickup: stuck.Pickup, About: name, Message: fmt.Sprintf("%s stands still: %s", name, stuck.What)}, false)
	} else if told {
		l.s.over(standstill, name)
	}
	l.mu.Lock()
	l.still = stuck != nil
	l.mu.Unlock()
}

// standstill is the kind of alert about something that does not move.
const standstill = "standstill"

func (s *Service) stillFor() time.Duration {
	if s.Still > 0 {
		return s.Still
	}
	return stillFor
}
