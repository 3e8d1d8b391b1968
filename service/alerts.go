package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"ydrion/run"
	"ydrion/store"
	"ydrion/tell"
	"ydrion/wire"
	"ydrion/workspace"
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

// shortestRest and longestRest are how long a mail to a channel waits for the one before it at least and at most: a thousand bad files
// are not a thousand mails.
const (
	shortestRest = time.Minute
	longestRest  = 15 * time.Minute
)

// mostTogether is how many alerts one mail has at most.
const mostTogether = 1000

// sendMessages brings alerts to their channels, until the service stops.
func (s *Service) sendMessages() {
	channels, rhythms := map[string]*workspace.Channel{}, map[string]*tell.Rhythm{}
	for i := range s.Environment.Tell {
		c := &s.Environment.Tell[i]
		channels[c.Name], rhythms[c.Name] = c, &tell.Rhythm{Shortest: cmp.Or(s.Rest, shortestRest), Longest: longestRest}
	}
	if len(channels) == 0 {
		return
	}
	for {
		due, err := s.store.DueMessages(s.life, "", 20)
		if err != nil && s.life.Err() == nil {
			s.Log.Error("looking for messages to send", "error", err)
		}
		of := map[string][]store.Message{}
		for _, m := range due {
			of[m.Channel] = append(of[m.Channel], m)
		}
		for name, messages := range of {
			if c := channels[name]; c != nil && tell.Mails(c) {
				s.mail(c, messages, rhythms[name])
				continue
			}
			for i := range messages {
				s.sendTogether(channels[name], messages[i:i+1])
			}
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

// mail brings messages to a channel together with all others that are due there, or puts them off where the last mail
// has not been long ago.
func (s *Service) mail(c *workspace.Channel, messages []store.Message, rhythm *tell.Rhythm) {
	if wait := rhythm.Wait(time.Now()); wait > 0 {
		numbers := all(messages, func(m store.Message) int64 { return m.ID })
		if err := s.store.Wait(context.WithoutCancel(s.life), c.Name, numbers, wait); err != nil {
			s.Log.Error("putting off alerts", "channel", c.Name, "error", err)
		}
		return
	}
	more, err := s.store.DueMessages(s.life, c.Name, mostTogether)
	if err != nil {
		s.Log.Error("looking for messages to send", "error", err)
	}
	messages = append(messages, more...)
	slices.SortFunc(messages, func(a, b store.Message) int { return cmp.Compare(a.ID, b.ID) })
	if s.sendTogether(c, messages) {
		rhythm.Sent(time.Now())
	}
}

// sendTogether brings messages to their channel, together, and records how that went. It is false if they are to be sent
// again.
func (s *Service) sendTogether(c *workspace.Channel, messages []store.Message) bool {
	failed, again := "its channel is not in the environment any more", false
	if c != nil {
		failed = ""
		notes := all(messages, func(m store.Message) tell.Note {
			return tell.Note{ID: m.ID, At: m.At, Kind: m.Kind, Route: m.Route, Pickup: m.Pickup, Message: m.Message, Environment: s.Environment.Name}
		})
		if err := tell.Send(s.life, c, notes...); err != nil {
			failed = err.Error()
			var partly *tell.Partly
			again = !errors.As(err, &partly) // who was told is not told again
			s.Log.Warn("an alert could not be sent", "channel", c.Name, "alert", messages[0].ID, "alerts", len(messages), "error", err, "try", messages[0].Tries)
		}
	}
	for _, m := range messages {
		next := time.Time{}
		if again && m.Tries < mostTries {
			next = time.Now().Add(min(5*time.Second<<min(m.Tries, 10), time.Hour))
		}
		if err := s.store.Sent(context.WithoutCancel(s.life), m, failed, next); err != nil {
			s.Log.Error("recording that an alert was sent", "alert", m.ID, "error", err)
		}
	}
	return failed == "" || !again
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
