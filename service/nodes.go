package service

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"ydrion/lead"
	"ydrion/listen"
	"ydrion/run"
	"ydrion/store"
	"ydrion/tell"
	"ydrion/wire"
)

// What nodes tell each other besides what leading needs.
const (
	hintEvents = "events " // number of the node, then events as JSON
	hintTake   = "take "   // a route and a file of its inbox that somebody wants taken now
)

// hint takes what another node says. It is false if that is not known.
func (s *Service) hint(hint string) bool {
	if events, isEvents := strings.CutPrefix(hint, hintEvents); isEvents {
		s.heard(events)
		return true
	}
	wanted, isTake := strings.CutPrefix(hint, hintTake)
	if isTake {
		name, file, _ := strings.Cut(wanted, " ")
		if err := s.takeHere(name, file); err != nil {
			s.Log.Warn("a file that somebody wants cannot be taken", "route", name, "file", file, "error", err)
		}
	}
	return isTake
}

// join makes the service a node.
func (s *Service) join(ctx context.Context) (lead.Node, error) {
	n, err := s.store.Join(ctx, s.Name, s.Address, s.Lease)
	if err != nil {
		return lead.Node{}, err
	}
	return lead.Node{Node: run.Node{ID: n.ID, Sure: n.Sure, Fresh: n.Fresh}, Life: n.Life, Hints: n.Hints(), Leave: n.Leave}, nil
}

// databaseAway is the kind of the one alert that cannot be recorded first.
const databaseAway = "database away"

// tellAway tells people that the database is away, past the records, which are there.
func (s *Service) tellAway(since time.Time, reason error) {
	why := store.Unavailable(reason)
	if why == "" {
		why = reason.Error()
	}
	message := fmt.Sprintf("%s, since %s: nothing is taken until it answers", why, since.Format("15:04:05 MST"))
	s.Log.Warn("alert", "kind", databaseAway, "message", message)
	for i := range s.Environment.Tell {
		c := &s.Environment.Tell[i]
		if !tell.Wants(c, databaseAway, "") {
			continue
		}
		s.tasks.Go(func() {
			if err := tell.Send(s.life, c, tell.Note{At: time.Now(), Kind: databaseAway, Message: message, Environment: s.Environment.Name}); err != nil {
				s.Log.Warn("an alert could not be sent", "channel", c.Name, "kind", databaseAway, "error", err)
			}
		})
	}
}

// tellBack tells people that the database answers again.
func (s *Service) tellBack(since time.Time) {
	s.alert(store.Alert{Kind: databaseAway, About: s.Name, Message: fmt.Sprintf("the database was away from %s to %s; nothing was taken meanwhile, and nothing is lost", since.Format("15:04:05"), time.Now().Format("15:04:05 MST"))}, true)
}

// news is what the leader of a route sees at the moment.
type news struct {
	Waiting []listen.Waiting `json:"waiting"`
	Count   int              `json:"count"`
	Current []run.Progress   `json:"current"`
	Behind  map[string]int   `json:"behind,omitempty"` // files that wait because their lanes are held, by lane
	Problem string           `json:"problem"`
}

// shownWaiting is how many waiting files are shown.
const shownWaiting = 200

// newsOf gives what is seen of a route at the moment, whichever node leads it.
func (s *Service) newsOf(ctx context.Context, name string) (n news) {
	n.Waiting, n.Current = []listen.Waiting{}, []run.Progress{}
	l := s.leader.Route(name)
	if l == nil {
		content, err := s.store.News(ctx, name)
		if err == nil && content != nil {
			err = json.Unmarshal(content, &n)
		}
		if err != nil {
			s.Log.Error("asking what the leader of a route sees", "route", name, "error", err)
		}
		return n
	}
	n.Problem = l.Problem()
	if l.Listener() != nil {
		n.Waiting, n.Count = l.Waiting(shownWaiting)
		n.Behind = l.Behind()
	}
	for _, p := range s.engine.Current() {
		if p.Route == name {
			n.Current = append(n.Current, p)
		}
	}
	return n
}

// recordNews lets other nodes see what this one sees.
func (s *Service) recordNews(ctx context.Context) {
	if s.leader.Others() == 0 {
		return
	}
	now := map[*lead.Route]string{}
	for name, l := range s.leader.All() {
		content, err := json.Marshal(s.newsOf(ctx, name))
		if err != nil {
			continue
		}
		if s.recorded[l] == string(content) || s.store.SetNews(ctx, name, content) == nil {
			now[l] = string(content)
		}
	}
	s.recorded = now
}

// share passes what happens here on to the other nodes.
func (s *Service) share() {
	events, stop := s.hub.watch()
	defer stop()
	for {
		select {
		case <-s.life.Done():
			return
		case <-time.After(250 * time.Millisecond):
			if len(events) > 0 {
				s.tellOthers(events)
			}
		}
	}
}

// tellOthers passes events on to the other nodes, a few times a second.
func (s *Service) tellOthers(events <-chan Numbered) {
	node := s.leader.Node()
	if node == 0 || s.leader.Others() == 0 {
		for len(events) > 0 {
			<-events
		}
		return
	}
	var list []run.Event
	size := 0
	for len(events) > 0 && size < 6000 {
		e := <-events
		if e.From != 0 || e.Kind == "progress" {
			continue
		}
		b, err := json.Marshal(e.Event)
		if err != nil {
			continue
		}
		size += len(b)
		list = append(list, e.Event)
	}
	if len(list) == 0 {
		return
	}
	b, err := json.Marshal(list)
	if err == nil && len(b) < 7800 {
		s.store.Hint(s.life, fmt.Sprintf("%s%d %s", hintEvents, node, b))
	}
}

// heard takes events of other nodes.
func (s *Service) heard(text string) {
	number, list, _ := strings.Cut(text, " ")
	from, err := strconv.ParseInt(number, 10, 64)
	if err != nil || from == s.leader.Node() {
		return
	}
	var events []run.Event
	if json.Unmarshal([]byte(list), &events) != nil {
		return
	}
	for _, e := range events {
		s.hub.tell(e, from)
	}
}

// Nodes lists the nodes that share the database.
func (s *Service) Nodes(ctx context.Context) ([]NodeView, error) {
	list, err := s.store.Nodes(ctx)
	self := s.leader.Node()
	out := make([]NodeView, len(list))
	for i, n := range list {
		out[i] = NodeView{NodeView: nodeOf(n), Self: n.ID == self}
	}
	slices.SortStableFunc(out, func(a, b NodeView) int { return int(a.ID - b.ID) })
	return out, err
}

// NodeView is a node as people see it.
type NodeView struct {
	wire.NodeView
	Self bool `json:"self" doc:"the node that answers"`
}
