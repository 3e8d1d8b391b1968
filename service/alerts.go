package service

import (
	"context"
	"errors"
	"fmt"
	"time"

	"ydrion/run"
	"ydrion/store"
	"ydrion/tell"
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

func (s *Service) note(n noted) {
	select {
	case s.noted <- n:
	default:
		s.Log.Error("too many alerts at once; this one is only in the log", "kind", n.Kind, "about", n.About, "message", n.Message)
	}
}

// noteAlerts records alerts in their order, until the service stops and all are
// recorded.
func (s *Service) noteAlerts() {
	open := map[string]bool{} // kind and about of alerts that may be open
	for {
		var n noted
		select {
		case n = <-s.noted:
		case <-s.life.Done():
			select {
			case n = <-s.noted:
			case <-time.After(100 * time.Millisecond):
				return
			}
		}
		s.record(n, open)
	}
}

func (s *Service) record(n noted, open map[string]bool) {
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
		delete(open, key)
		return
	}
	if open[key] {
		return // it has been told, and is not over
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
	open[key] = !n.moment
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
func (s *Service) Alerts(ctx context.Context, f store.AlertFilter) ([]store.Alert, error) {
	return s.store.Alerts(ctx, f)
}

// See notes that alerts have been seen; without numbers, all.
func (s *Service) See(ctx context.Context, ids []int64, by string) (int64, error) {
	n, err := s.store.See(ctx, ids, by)
	if err == nil && n > 0 {
		s.tell(run.Event{Kind: "alert", State: "seen", Name: fmt.Sprint(n)})
	}
	return n, err
}
