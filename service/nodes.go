package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"ydrion/core/lang"
	"ydrion/listen"
	"ydrion/route"
	"ydrion/run"
	"ydrion/store"
	"ydrion/workspace"
)

// What nodes tell each other.
const (
	hintRoute  = "route "  // a route was published, started, stopped, paused, asked
	hintPickup = "pickup " // there is something to do for a route's pickups
	hintEvents = "events " // number of the node, then events as JSON
	hintTake   = "take "   // a route and a file of its inbox that somebody wants taken now
)

// leading is a route that this node leads.
type leading struct {
	conductor *run.Conductor
	end       context.CancelFunc // nothing new is begun
	yielding  bool

	mu       sync.Mutex
	state    store.Route
	listener *listen.Listener
	compiled *route.Compiled
	stop     context.CancelFunc // of the listener
	stopped  chan struct{}
	failed   string
	news     string // what was recorded last for other nodes
}

func (l *leading) isListening() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.listener != nil || l.failed != ""
}

func (l *leading) isPaused() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.state.Paused(time.Now())
}

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
		var err error
		if node, err = s.store.Join(s.life, s.Name, s.Address); err != nil {
			select {
			case <-s.life.Done():
			case <-time.After(500 * time.Millisecond):
			}
			continue
		}
		s.Log.Info("the database answers again", "node", node.ID)
	}
}

// leadEvery is how often a node looks whether others have died, and whether
// there is something to do that it was not told.
const leadEvery = 2 * time.Second

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
			l.unlisten()
			l.end()
		}
		for name, l := range all {
			s.letGo(name, l)
		}
		node.Leave()
	}()
	hints := node.Hints()
	for life.Err() == nil {
		mine, err := s.store.Lead(work, node.ID)
		switch {
		case errors.Is(err, store.ErrGone):
			return
		case err != nil && life.Err() == nil:
			s.Log.Error("sharing out the routes", "error", err)
		case err == nil:
			s.others.Store(int64(mine.Others))
			s.reconcile(life, work, node.ID, mine)
		}
		if !s.await(life, hints) {
			return
		}
	}
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
		case <-s.kick:
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
					l.conductor.Poke()
				}
			default:
				return true
			}
		}
	}
}

// reconcile makes what this node does what it is to do.
func (s *Service) reconcile(life, work context.Context, node int64, mine store.Leading) {
	wanted := map[string]bool{}
	for _, r := range mine.Mine {
		wanted[r.Name] = true
		l := s.leads(r.Name)
		if l == nil {
			routeLife, end := context.WithCancel(life)
			l = &leading{conductor: s.engine.Conduct(routeLife, work, node, r), end: end}
			s.mu.Lock()
			s.leading[r.Name] = l
			s.mu.Unlock()
		}
		if !l.yielding {
			s.adjust(life, l, r)
		}
	}
	for name, l := range s.all() {
		if !wanted[name] && !l.yielding {
			l.yielding = true
			s.tasks.Go(func() { s.letGo(name, l) })
		}
	}
	// Others want their share: the last ones are given up, once they are at rest.
	for i := len(mine.Mine) - 1; i >= 0 && mine.Surplus > 0; i-- {
		name := mine.Mine[i].Name
		mine.Surplus--
		l := s.leads(name)
		if l.yielding {
			continue
		}
		l.yielding = true
		s.tasks.Go(func() {
			s.letGo(name, l)
			if err := s.store.Yield(work, node, name); err != nil && work.Err() == nil {
				s.Log.Error("giving up a route", "route", name, "error", err)
			}
			s.store.Hint(work, hintRoute+name)
		})
	}
}

// letGo ends the work on a route.
func (s *Service) letGo(name string, l *leading) {
	l.unlisten()
	l.end()
	<-l.conductor.Done()
	s.mu.Lock()
	if s.leading[name] == l {
		delete(s.leading, name)
	}
	s.mu.Unlock()
}

// adjust starts, stops or changes the listener of a route.
func (s *Service) adjust(life context.Context, l *leading, r store.Route) {
	l.mu.Lock()
	l.state = r
	listening, compiled := l.listener != nil, l.compiled
	l.mu.Unlock()
	l.conductor.Set(r)
	if listening && (!r.Running || compiled.Hash != r.Revision) {
		l.unlisten()
		listening = false
	}
	if r.Running && !listening {
		err := s.listen(life, l, r)
		l.fail(err)
		if err != nil && life.Err() == nil {
			s.Log.Error("a route cannot run", "route", r.Name, "error", err)
		}
	}
	if !r.Running {
		l.fail(nil)
	}
}

// listen begins to notice a route's files.
func (s *Service) listen(life context.Context, l *leading, r store.Route) error {
	compiled, err := s.engine.Compiled(life, r.Name, r.Revision)
	if err != nil {
		return err
	}
	folder, err := s.resolve(compiled.Listen.Folder)
	if err != nil {
		return err
	}
	// Whoever has started a route can drop a file at once. Where that cannot be
	// done now, the listener says so and tries again.
	if err := s.FS.MakeFolder(folder, 0o755); err != nil {
		s.Log.Warn("an inbox cannot be made", "route", r.Name, "folder", folder, "error", err)
	}
	listener := &listen.Listener{Settings: compiled.Listen, ByName: compiled.Order.By == "name", ByTime: compiled.Order.By == "time", Folder: folder, FS: s.FS, Log: s.Log, Watch: s.watcher}
	if compiled.Marker != nil {
		listener.Marker = func(name, folder string) string {
			made, problem := compiled.Marker.Text(&lang.Env{Facts: lang.Facts{Name: name, Folder: folder}}, nil, 0)
			if problem != "" {
				s.Log.Error("a marker cannot be named", "route", r.Name, "file", name, "problem", problem)
			}
			return made
		}
	}
	if compiled.Originals == workspace.Left {
		left, err := s.store.LeftFiles(life, r.Name)
		if err != nil {
			return err
		}
		listener.Left = map[string]listen.Known{}
		for _, f := range left {
			k := listen.Known{SHA256: f.SHA256}
			k.Info.Size, k.Info.Modified, k.Info.Device, k.Info.Inode = f.Size, f.Modified, f.Device, f.Inode
			listener.Left[f.Path] = k
		}
	}
	listener.Start()
	listening, stop := context.WithCancel(life)
	stopped := make(chan struct{})
	l.mu.Lock()
	l.listener, l.compiled, l.stop, l.stopped = listener, compiled, stop, stopped
	l.mu.Unlock()
	l.conductor.Listen(listener, compiled)
	s.tasks.Go(func() {
		defer close(stopped)
		for listening.Err() == nil {
			err := listener.Run(listening)
			l.fail(err)
			if err != nil {
				s.Log.Error("the listener cannot work; it will be tried again", "route", r.Name, "error", err)
				select {
				case <-listening.Done():
				case <-time.After(2 * time.Second):
				}
			}
		}
	})
	return nil
}

// unlisten ends noticing files. What has been taken goes on.
func (l *leading) unlisten() {
	l.mu.Lock()
	stop, stopped := l.stop, l.stopped
	l.listener, l.stop = nil, nil
	l.mu.Unlock()
	if stop == nil {
		return
	}
	l.conductor.Listen(nil, nil)
	stop()
	<-stopped
}

// fail remembers why a route cannot run, nil if it can.
func (l *leading) fail(err error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.failed = ""
	if err != nil {
		l.failed = err.Error()
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
