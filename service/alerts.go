package service

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"sync"
	"time"

	"ydrion/run"
	"ydrion/store"
	"ydrion/tell"
	"ydrion/wire"
)

// noted is an alert on its way to the records, or the end of one.
type noted struct {
	store.Alert
	moment bool // over as soon as it has been told
	over   bool // its reason has gone away
}

// alert notes something that a person should know. It does not wait.
func (s *Service) alert(a store.Alert, moment bool) { s.note(noted{Alert: a, moment: moment}) }

// over notes that the reason of an alert has gone away.
func (s *Service) over(kind, about string) {
	s.note(noted{Alert: store.Alert{Kind: kind, About: about}, over: true})
}

func (s *Service) note(n noted) { s.noted.add(n) }

// noting are alerts on their way to the records. What is said again while it is on its
// way is said once, so that a thousand pickups that end at once fill nothing.
type noting struct {
	mu   sync.Mutex
	list []noted
	last map[string]noted // by kind and about: what was said of it last
	some chan struct{}
}

func newNoting() *noting { return &noting{last: map[string]noted{}, some: make(chan struct{}, 1)} }

func (q *noting) add(n noted) {
	q.mu.Lock()
	defer q.mu.Unlock()
	key := n.Kind + " " + n.About
	if last, waits := q.last[key]; waits && last.over == n.over && !n.moment {
		return
	}
	q.last[key] = n
	q.list = append(q.list, n)
	select {
	case q.some <- struct{}{}:
	default: // it has been told already
	}
}

func (q *noting) take() []noted {
	q.mu.Lock()
	defer q.mu.Unlock()
	out := q.list
	q.list = nil
	clear(q.last)
	return out
}

// noteAlerts records alerts in their order, until the service stops and all are
// recorded.
func (s *Service) noteAlerts() {
	known := told{}
	for {
		for _, n := range s.noted.take() {
			s.record(n, known)
		}
		select {
		case <-s.noted.some:
		case <-s.life.Done():
			select {
			case <-s.noted.some:
			case <-time.After(100 * time.Millisecond):
				return
			}
		}
	}
}

// told are alerts, by kind and about, that the records were told of lately, and when: they need not be again. For longer nobody can
// say: another node may have ended one.
type told map[string]time.Time

const lately = time.Minute

func (t told) is(key string, now time.Time) bool {
	at, is := t[key]
	return is && now.Sub(at) < lately
}

func (t told) add(key string, now time.Time) {
	if t[key] = now; len(t)%1000 == 0 {
		maps.DeleteFunc(t, func(_ string, at time.Time) bool { return now.Sub(at) >= lately })
	}
}

func (s *Service) record(n noted, known told) {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(s.life), 10*time.Second)
	defer cancel()
	key := n.Kind + " " + n.About
	if n.over {
		was, err := s.store.Over(ctx, n.Kind, n.About)
		switch {
		case err != nil:
			s.Log.Error("recording that an alert is over", "kind", n.Kind, "about", n.About, "error", err)
		case was:
			s.Log.Info("an alert is over", "kind", n.Kind, "about", n.About)
			s.tell(run.Event{Kind: "alert", Route: n.Route, State: "over", Name: n.Kind, Reason: n.About})
		}
		delete(known, key)
		return
	}
	if known.is(key, time.Now()) {
		return
	}
	var channels []string
	for i := range s.Environment.Tell {
		if c := &s.Environment.Tell[i]; tell.Wants(c, n.Kind, n.Route) {
			channels = append(channels, c.Name)
		}
	}
	_, fresh, err := s.store.Alert(ctx, n.Alert, channels, n.moment)
	if err != nil {
		s.Log.Error("an alert could not be recorded", "kind", n.Kind, "about", n.About, "message", n.Message, "error", err)
		return
	}
	if !n.moment {
		known.add(key, time.Now())
	}
	if !fresh {
		return
	}
	s.Log.Warn("alert", "kind", n.Kind, "route", n.Route, "pickup", n.Pickup, "message", n.Message)
	s.metrics.alerts.WithLabelValues(n.Kind, n.Route).Inc()
	s.tell(run.Event{Kind: "alert", Route: n.Route, Pickup: n.Pickup, State: "new", Name: n.Kind, Reason: n.Message})
}

// mostTries is how often a message is sent that nobody takes: about a day.
const mostTries = 40

// sendMessages brings alerts to their channels, until the service stops.
func (s *Service) sendMessages() {
	if len(s.Environment.Tell) == 0 {
		return
	}
	for {
		due, err := s.store.DueMessages(s.life, 20)
		if err != nil && s.life.Err() == nil {
			s.Log.Error("looking for messages to send", "error", err)
		}
		for _, m := range due {
			s.sendMessage(m)
		}
		if len(due) > 0 && s.life.Err() == nil {
			continue
		}
		select {
		case <-s.life.Done():
			return
		case <-time.After(time.Second):
		}
	}
}

func (s *Service) sendMessage(m store.Message) {
	failed, next := "its channel is not in the environment any more", time.Time{}
	for i := range s.Environment.Tell {
		c := &s.Environment.Tell[i]
		if c.Name != m.Channel {
			continue
		}
		failed = ""
		if err := tell.Send(s.life, c, tell.Note{ID: m.ID, At: m.At, Kind: m.Kind, Route: m.Route, Pickup: m.Pickup, Message: m.Message, Environment: s.Environment.Name}); err != nil {
			failed = err.Error()
			var partly *tell.Partly
			if m.Tries < mostTries && !errors.As(err, &partly) { // who was told is not told again
				next = time.Now().Add(min(5*time.Second<<min(m.Tries, 10), time.Hour))
			}
			s.Log.Warn("an alert could not be sent", "channel", c.Name, "alert", m.ID, "error", err, "try", m.Tries)
		}
	}
	if err := s.store.Sent(context.WithoutCancel(s.life), m, failed, next); err != nil {
		s.Log.Error("recording that an alert was sent", "alert", m.ID, "error", err)
	}
}

// Alerts lists what people should know, newest first.
func (s *Service) Alerts(ctx context.Context, f store.AlertFilter) ([]wire.Alert, error) {
	rows, err := s.store.Alerts(ctx, f)
	return all(rows, alertOf), err
}

// See notes that alerts have been seen; without numbers, all.
func (s *Service) See(ctx context.Context, ids []int64, by string) (int64, error) {
	n, err := s.store.See(ctx, ids, by)
	if err == nil && n > 0 {
		s.tell(run.Event{Kind: "alert", State: "seen", Name: fmt.Sprint(n)})
	}
	return n, err
}
