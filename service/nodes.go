package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"ydrion/listen"
	"ydrion/run"
	"ydrion/store"
	"ydrion/tell"
)

// What nodes tell each other.
const (
	hintRoute  = "route "  // a route was published, started, stopped, paused, asked
	hintPickup = "pickup " // there is something to do for a route's pickups
	hintEvents = "events " // number of the node, then events as JSON
	hintTake   = "take "   // a route and a file of its inbox that somebody wants taken now
)

// leads gives a route that this node leads, nil if it does not.
func (s *Service) leads(name string) *leading {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.leading[name]
}

// all gives the routes that this node leads.
func (s *Service) all() map[string]*leading {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := make(map[string]*leading, len(s.leading))
	for name, l := range s.leading {
		out[name] = l
	}
	return out
}

// live is the service's life as a node. If it loses the database it joins
// again, as another node.
func (s *Service) live(node *store.Node) {
	for {
		if node != nil {
			s.asNode(node)
		}
		if s.life.Err() != nil {
			return
		}
		s.Log.Error("the database cannot be reached, or not in time: nothing is taken until it answers")
		away, told, err := time.Now(), false, error(nil)
		for node = nil; node == nil && s.life.Err() == nil; {
			if node, err = s.store.Join(s.life, s.Name, s.Address, s.Lease); err == nil {
				break
			}
			if !told && time.Since(away) > awayFor {
				told = true
				s.tellAway(away, err)
			}
			select {
			case <-s.life.Done():
			case <-time.After(500 * time.Millisecond):
			}
		}
		if node == nil {
			return
		}
		s.Log.Info("the database answers again", "node", node.ID)
		if told {
			s.alert(store.Alert{Kind: databaseAway, About: s.Name, Message: fmt.Sprintf("the database was away from %s to %s; nothing was taken meanwhile, and nothing is lost", away.Format("15:04:05"), time.Now().Format("15:04:05 MST"))}, true)
		}
	}
}

const (
	// awayFor is how long the database may be away before people are told.
	awayFor = 20 * time.Second
	// databaseAway is the kind of the one alert that cannot be recorded first.
	databaseAway = "database away"
)

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

// leadEvery is how often a node looks whether others have died, and whether
// there is something to do that it was not told.
const leadEvery = time.Second

// asNode leads routes as one node, until the node's or the service's life ends.
func (s *Service) asNode(node *store.Node) {
	life, end := context.WithCancel(s.life)
	work, kill := context.WithCancel(s.work)
	defer kill()
	// A node that is not sure any more that it lives leaves everything as it is.
	defer context.AfterFunc(node.Life, func() { end(); kill() })()
	s.mu.Lock()
	s.node = node
	s.mu.Unlock()
	defer func() {
		end()
		all := s.all()
		for _, l := range all {
			l.end()
		}
		for name, l := range all {
			s.letGo(name, l)
		}
		node.Leave()
	}()
	hints := node.Hints()
	alone := map[string]time.Time{} // routes that nobody leads, and since when
	for life.Err() == nil {
		mine, err := s.store.Lead(work, node.ID, s.overdue(alone))
		switch {
		case errors.Is(err, store.ErrGone):
			return
		case err != nil && life.Err() == nil:
			s.Log.Error("sharing out the routes", "error", err)
		case err == nil:
			s.others.Store(int64(mine.Others))
			s.led.Store(time.Now().UnixNano())
			s.reconcile(life, work, node, mine)
			s.orphans(alone, mine.Orphans)
		}
		if !s.await(life, hints) {
			return
		}
	}
}

const (
	// aloneFor is how long a route may have no leader, or one that does not do what
	// people decided, before somebody is told, and rescueAfter how long before another
	// node takes it although it is not its share.
	aloneFor    = 20 * time.Second
	rescueAfter = 30 * time.Second
)

// overdue are the routes that nobody has led for too long.
func (s *Service) overdue(alone map[string]time.Time) (out []string) {
	for name, since := range alone {
		if time.Since(since) > rescueAfter {
			out = append(out, name)
		}
	}
	return out
}

// orphans follows the routes that nobody leads as they should be led.
func (s *Service) orphans(alone map[string]time.Time, now []string) {
	for name := range alone {
		if !slices.Contains(now, name) {
			delete(alone, name)
			s.over("no leader", name)
		}
	}
	late := []string{}
	for _, name := range now {
		if alone[name].IsZero() {
			alone[name] = time.Now()
		}
		if time.Since(alone[name]) > aloneFor {
			late = append(late, name)
			s.alert(store.Alert{Kind: "no leader", Route: name, About: name, Message: fmt.Sprintf("no node works on %s as people have decided, since %s", name, alone[name].Format("15:04:05 MST"))}, false)
		}
	}
	s.mu.Lock()
	s.lonely = late
	s.mu.Unlock()
}

// await waits until there may be something to do. It is false when the hints
// have ended: the node is not alive any more.
func (s *Service) await(life context.Context, hints <-chan string) bool {
	timer := time.NewTimer(leadEvery)
	defer timer.Stop()
	for {
		select {
		case <-life.Done():
			return true
		case <-timer.C:
			s.recordNews(life)
			return true
		case <-s.signal:
			return true
		case hint, ok := <-hints:
			if !ok {
				return false
			}
			name, isPickup := strings.CutPrefix(hint, hintPickup)
			events, isEvents := strings.CutPrefix(hint, hintEvents)
			file, isTake := strings.CutPrefix(hint, hintTake)
			switch {
			case isTake:
				name, file, _ := strings.Cut(file, " ")
				if err := s.takeHere(name, file); err != nil {
					s.Log.Warn("a file that somebody wants cannot be taken", "route", name, "file", file, "error", err)
				}
			case isEvents:
				s.heard(events)
			case isPickup:
				if l := s.leads(name); l != nil {
					l.look()
				}
			default:
				return true
			}
		}
	}
}

// reconcile makes what this node does what it is to do. It waits for nothing.
func (s *Service) reconcile(life, work context.Context, node *store.Node, mine store.Leading) {
	wanted := map[string]bool{}
	for _, r := range mine.Mine {
		wanted[r.Name] = true
		if l := s.leads(r.Name); l != nil {
			l.set(r)
			continue
		}
		l := s.lead(life, work, node, r)
		s.mu.Lock()
		s.leading[r.Name] = l
		s.mu.Unlock()
	}
	for name, l := range s.all() {
		if !wanted[name] && l.life.Err() == nil {
			l.end()
			s.tasks.Go(func() { s.letGo(name, l) })
		}
	}
	// Others want their share: the last ones are given up, once they are at rest.
	for i := len(mine.Mine) - 1; i >= 0 && mine.Surplus > 0; i-- {
		name := mine.Mine[i].Name
		mine.Surplus--
		l := s.leads(name)
		if l.life.Err() != nil {
			continue
		}
		l.end()
		s.tasks.Go(func() {
			s.letGo(name, l)
			if err := s.store.Yield(work, node.ID, name); err != nil && work.Err() == nil {
				s.Log.Error("giving up a route", "route", name, "error", err)
			}
			s.store.Hint(work, hintRoute+name)
		})
	}
}

// news is what the leader of a route sees at the moment.
type news struct {
	Waiting []listen.Waiting `json:"waiting"`
	Count   int              `json:"count"`
	Current []run.Progress   `json:"current"`
	Problem string           `json:"problem"`
}

// shownWaiting is how many waiting files are shown.
const shownWaiting = 200

// newsOf gives what is seen of a route at the moment, whichever node leads it.
func (s *Service) newsOf(ctx context.Context, name string) (n news) {
	n.Waiting, n.Current = []listen.Waiting{}, []run.Progress{}
	l := s.leads(name)
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
	l.mu.Lock()
	listener := l.listener
	n.Problem = l.failed
	l.mu.Unlock()
	if listener != nil {
		n.Waiting, n.Count = listener.Waiting(shownWaiting)
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
	if s.others.Load() == 0 {
		return
	}
	for name, l := range s.all() {
		content, err := json.Marshal(s.newsOf(ctx, name))
		if err != nil || string(content) == l.news {
			continue
		}
		if err := s.store.SetNews(ctx, name, content); err == nil {
			l.news = string(content)
		}
	}
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
	s.mu.Lock()
	node := s.node
	s.mu.Unlock()
	if node == nil || s.others.Load() == 0 {
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
		s.store.Hint(s.life, fmt.Sprintf("%s%d %s", hintEvents, node.ID, b))
	}
}

// is tells whether this service is that node.
func (s *Service) is(node int64) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.node != nil && s.node.ID == node
}

// heard takes events of other nodes.
func (s *Service) heard(text string) {
	number, list, _ := strings.Cut(text, " ")
	from, err := strconv.ParseInt(number, 10, 64)
	if err != nil || s.is(from) {
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
	s.mu.Lock()
	defer s.mu.Unlock()
	out := make([]NodeView, len(list))
	for i, n := range list {
		out[i] = NodeView{NodeView: n, Self: s.node != nil && n.ID == s.node.ID}
	}
	slices.SortStableFunc(out, func(a, b NodeView) int { return int(a.ID - b.ID) })
	return out, err
}

// NodeView is a node as people see it.
type NodeView struct {
	store.NodeView
	Self bool `json:"self" doc:"the node that answers"`
}
