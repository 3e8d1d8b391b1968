package lead

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"path/filepath"
	"runtime/debug"
	"sync"
	"time"

	"ydrion/core/lang"
	"ydrion/core/text"
	"ydrion/fetch"
	"ydrion/files"
	"ydrion/listen"
	"ydrion/receive"
	"ydrion/remote"
	"ydrion/route"
	"ydrion/run"
	"ydrion/store"
	"ydrion/workspace"
)

// Route is a route that this node leads. A goroutine of its own makes what is done for
// the route what people have decided.
type Route struct {
	l    *Leader
	node *Node
	name string
	life context.Context // ends when nothing new is to be begun
	work context.Context // ends when what is under way is to be left
	end  context.CancelFunc
	done chan struct{} // closed when the work on the route has ended

	wanted chan struct{} // there is another state to be brought about

	mu        sync.Mutex
	state     store.Route
	fresh     bool // state has not been brought about yet
	conductor Conductor
	listener  *listen.Listener
	fetching  *fetch.Fetcher // brings what the listener notices, where that comes from a server
	compiled  *route.Compiled
	stop      context.CancelFunc // of the listener
	stopped   chan struct{}
	failed    string
	defects   int  // how often a defect has ended the work on it
	still     bool // it does not move, and people were told

	toldOfInbox bool // of files that cannot be looked at; of the watch alone
	toldOfPlace bool // that nothing can be fetched; the same
}

// lead begins to lead a route.
func (l *Leader) lead(life, work context.Context, node *Node, r store.Route) *Route {
	out := &Route{l: l, node: node, name: r.Name, work: work, done: make(chan struct{}), wanted: make(chan struct{}, 1), state: r, fresh: true}
	out.life, out.end = context.WithCancel(life)
	l.tasks.Go(out.run)
	return out
}

// Listener is what notices the route's files; nil while the route does not run.
func (r *Route) Listener() *listen.Listener {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.listener
}

// Compiled is the revision that the route ran by last; nil if it has not run here.
func (r *Route) Compiled() *route.Compiled {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.compiled
}

// PublishedAt is when the route's revision was published.
func (r *Route) PublishedAt() time.Time {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.state.PublishedAt
}

// Problem is why the route cannot run, empty if it can.
func (r *Route) Problem() string {
	r.mu.Lock()
	failed, fetching := r.failed, r.fetching
	r.mu.Unlock()
	if failed == "" && fetching != nil {
		failed, _ = fetching.Problem()
	}
	return failed
}

// Waiting lists files that have not been taken and why, at most so many, and how many there are: those that are here, and
// those on a server.
func (r *Route) Waiting(most int) (list []listen.Waiting, all int) {
	r.mu.Lock()
	listener, fetching := r.listener, r.fetching
	r.mu.Unlock()
	if listener == nil {
		return nil, 0
	}
	list, all = listener.Waiting(most)
	if fetching != nil {
		there, n := fetching.Waiting(most - len(list))
		list, all = append(list, there...), all+n
	}
	return list, all
}

// Demand lets a file be taken now, whatever it waits for: one that is here, or on a server.
func (r *Route) Demand(name string) error {
	r.mu.Lock()
	listener, fetching := r.listener, r.fetching
	r.mu.Unlock()
	if listener == nil {
		return errors.New("the route is not running")
	}
	err := listener.Demand(name)
	if errors.Is(err, listen.ErrNotWaiting) && fetching != nil {
		err = fetching.Demand(name)
	}
	return err
}

// set says how the route is to stand.
func (r *Route) set(state store.Route) {
	r.mu.Lock()
	r.state, r.fresh = state, true
	r.mu.Unlock()
	select {
	case r.wanted <- struct{}{}:
	default: // it has been told already
	}
}

// Look lets the conductor look whether there is something to do.
func (r *Route) Look() {
	r.mu.Lock()
	c := r.conductor
	r.mu.Unlock()
	if c != nil {
		c.Look()
	}
}

// Behind counts the files that wait in the inbox because their lanes are held, by lane.
func (r *Route) Behind() map[string]int {
	r.mu.Lock()
	c := r.conductor
	r.mu.Unlock()
	if c == nil {
		return nil
	}
	return c.Behind()
}

// run works on the route until that is to end. A defect of this program ends the work
// on this route alone, which begins again after a while.
func (r *Route) run() {
	defer close(r.done)
	for r.life.Err() == nil {
		err := r.conduct()
		if err == nil {
			return
		}
		r.mu.Lock()
		r.defects++
		r.fresh = true
		wait := min(time.Second<<min(r.defects, 8), 5*time.Minute)
		r.mu.Unlock()
		r.fail(err)
		r.l.Alert(store.Alert{Kind: "defect", Route: r.name, About: r.name, Message: fmt.Sprintf("%s is held by %v; its log has the details", r.name, err)}, false)
		select {
		case <-r.life.Done():
		case <-time.After(wait):
		}
	}
}

// conduct works on the route with one conductor. It is nil if the work was ended, and
// otherwise says what ended it.
func (r *Route) conduct() (err error) {
	defer func() {
		if p := recover(); p != nil {
			d := &run.Defect{What: p, Stack: string(debug.Stack())}
			r.l.Log.Error("a defect of this program holds a route", "route", r.name, "panic", p, "stack", d.Stack)
			err = d
		}
	}()
	r.mu.Lock()
	state := r.state
	r.mu.Unlock()
	life, end := context.WithCancel(r.life)
	defer end()
	c := r.l.Conduct(life, r.work, r.node.Node, state)
	r.mu.Lock()
	r.conductor = c
	r.mu.Unlock()
	defer func() {
		r.unlisten()
		end()
		<-c.Done()
	}()
	r.bringAbout(life)
	tidy := time.NewTimer(tidyAfter)
	defer tidy.Stop()
	again := time.NewTimer(time.Hour)
	defer again.Stop()
	for {
		select {
		case <-life.Done():
			return nil
		case <-c.Done():
			if err := c.Err(); err != nil {
				return err
			}
			return nil
		case <-r.wanted:
		case <-again.C:
			r.mu.Lock()
			r.fresh = true
			r.mu.Unlock()
		case <-tidy.C:
			r.l.tasks.Go(func() {
				if err := c.Tidy(); err != nil && life.Err() == nil {
					r.l.Log.Warn("what runs have left cannot be removed now", "route", r.name, "error", err)
				}
			})
			tidy.Reset(tidyEvery)
		}
		r.bringAbout(life)
		if r.Problem() != "" {
			again.Reset(2 * time.Second)
		}
	}
}

// Temporaries that nobody needs are looked for some time after a route was taken up,
// and then from time to time.
const (
	tidyAfter = 10 * time.Second
	tidyEvery = 10 * time.Minute
)

// bringAbout starts, stops or changes the listener as people have decided, and records
// when that is so.
func (r *Route) bringAbout(life context.Context) {
	for life.Err() == nil {
		r.mu.Lock()
		state, fresh, c := r.state, r.fresh, r.conductor
		listening, compiled := r.listener != nil, r.compiled
		r.fresh = false
		r.mu.Unlock()
		if !fresh {
			return
		}
		c.Set(state)
		if listening && (!state.Running || compiled.Hash != state.Revision) {
			r.unlisten()
			listening = false
		}
		if state.Running && listening {
			r.clear()
		}
		if state.Running && !listening {
			err := r.listen(life, state)
			r.fail(err)
			if err != nil && life.Err() == nil {
				r.l.Log.Error("a route cannot run", "route", state.Name, "error", err)
			}
		}
		if !state.Running {
			r.fail(nil)
			r.l.Over("defect", r.name)
		}
		if !state.Applied && life.Err() == nil {
			if err := r.l.Records.Applied(life, r.node.ID, state.Name, state.Version); err != nil && life.Err() == nil {
				r.l.Log.Error("recording that a route does as people have decided", "route", state.Name, "error", err)
			}
		}
	}
}

// upWithin is how long starting waits for a listener to notice files. One that cannot
// within that time goes on trying.
const upWithin = 10 * time.Second

// listen begins to notice a route's files.
func (r *Route) listen(life context.Context, state store.Route) error {
	compiled, err := r.l.Compiled(life, state.Name, state.Revision)
	if err != nil {
		return err
	}
	folder, err := r.l.Resolve(compiled.Listen.Folder)
	if err != nil {
		return err
	}
	listener := &listen.Listener{Settings: compiled.Listen, ByName: compiled.Order.By == "name", ByTime: compiled.Order.By == "time", InOrder: compiled.Order.Lane != "none", Folder: folder, FS: r.l.FS, Log: r.l.Log, Watch: r.l.Watcher}
	if compiled.Marker != nil {
		listener.Marker = func(name, folder string) string {
			made, problem := compiled.Marker.Text(&lang.Env{Facts: lang.Facts{Name: name, Folder: folder}}, nil, 0)
			if problem != "" {
				r.l.Log.Error("a marker cannot be named", "route", state.Name, "file", name, "problem", problem)
			}
			return made
		}
	}
	if compiled.Originals == workspace.Left {
		left, err := r.l.Records.LeftFiles(life, state.Name)
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
	place, _, _ := workspace.Distant(folder)
	receiver, err := r.receiver(place, compiled, state)
	if err != nil {
		return err
	}
	fetcher := r.fetcher(listener, state)
	if place == "" {
		r.leftBehind(life, state)
	}
	listener.Start()
	listening, stop := context.WithCancel(life)
	stopped := make(chan struct{})
	r.mu.Lock()
	r.listener, r.fetching, r.compiled, r.stop, r.stopped = listener, fetcher, compiled, stop, stopped
	c := r.conductor
	r.mu.Unlock()
	c.Listen(listener, compiled)
	if fetcher != nil {
		r.l.tasks.Go(func() { r.fetch(listening, fetcher) })
	}
	failed := make(chan error, 1)
	r.l.tasks.Go(func() {
		defer close(stopped)
		for listening.Err() == nil {
			err := r.listenOnce(listening, listener)
			if err == nil {
				continue
			}
			select {
			case failed <- err:
			default: // the first one is waited for
			}
			r.failListening(listener, err)
			r.l.Log.Error("the listener cannot work; it will be tried again", "route", state.Name, "error", err)
			select {
			case <-listening.Done():
			case <-time.After(2 * time.Second):
			}
		}
	})
	select {
	case <-listener.Up():
		r.l.Over("defect", r.name)
		if receiver != nil {
			r.l.tasks.Go(func() { r.receive(listening, receiver) })
		}
	case err = <-failed:
		return err
	case <-listening.Done():
	case <-time.After(upWithin):
		return fmt.Errorf("%s does not answer", folder)
	}
	return nil
}

// leftBehind tells of files that were fetched for a route, or are being taken on servers, before it came to listen on this
// machine: nobody goes on with them.
func (r *Route) leftBehind(ctx context.Context, state store.Route) {
	if r.l.Fetches == nil {
		return // nothing is ever fetched
	}
	about := state.Name + " left behind"
	inbox := filepath.Join(r.l.Holding, state.Holding)
	waiting := files.Visible(r.l.FS, inbox)
	open, _, err := r.l.Fetches.Adopt(ctx, r.node.ID, state.Name, "")
	if err != nil {
		r.l.Log.Warn("whether files were being fetched cannot be told", "route", state.Name, "error", err)
		return
	}
	if waiting == 0 && len(open) == 0 {
		r.l.Over("held", about)
		return
	}
	says := fmt.Sprintf("%s does not fetch files from servers any more", state.Name)
	if waiting > 0 {
		says += fmt.Sprintf(", and %d that were fetched before wait in %s: hand them over (ydrion hand)", waiting, inbox)
	}
	if len(open) > 0 {
		says += fmt.Sprintf("; %d are renamed on %s to be taken (%s is one): let it fetch from there once more", len(open), open[0].Place, open[0].Path)
	}
	r.l.Log.Warn(says, "route", state.Name)
	r.l.Alert(store.Alert{Kind: "held", Route: state.Name, About: about, Message: says}, false)
}

// fetcher is what brings the files of a route whose folder is on a server; nil if it is on this machine. What it brings is
// listened for.
func (r *Route) fetcher(l *listen.Listener, state store.Route) *fetch.Fetcher {
	place, below, is := workspace.Distant(l.Folder)
	if !is {
		return nil
	}
	inbox := filepath.Join(r.l.Holding, state.Holding)
	if report, _ := r.l.Places.Report(place); report.Place.Receives {
		if err := (&receive.Box{FS: r.l.FS, Folder: inbox}).Sweep(); err != nil {
			r.l.Log.Warn("what came in part cannot be removed now", "route", r.name, "error", err)
		}
		r.hear(l, inbox)
		return nil
	}
	f := &fetch.Fetcher{Route: r.name, InOrder: l.InOrder, Settings: l.Settings, Place: place, Below: below, Inbox: inbox, Node: r.node.ID, Sure: r.node.Sure, Mark: r.l.Mark,
		FS: files.Fenced{FS: r.l.FS, May: func() error {
			if !r.node.Sure() {
				return fetch.ErrGiven
			}
			return nil
		}}, Places: r.l.Places, Records: r.l.Fetches, Log: r.l.Log, Marker: l.Marker}
	f.Start()
	// Whether a file is complete, and whether it stays, is between the fetcher and the server.
	r.hear(l, inbox)
	l.Marker, l.Ahead = nil, f.Gate
	return f
}

// hear lets a listener listen in the folder in which what comes over a network waits, where it is complete.
func (r *Route) hear(l *listen.Listener, inbox string) {
	s := &l.Settings
	s.Notice, s.Quiet, s.EndsWith, s.Since, s.Originals, s.Gone, s.Rhythm = workspace.ByEvents, 0, nil, time.Time{}, workspace.Taken, false, fetchedRhythm
	l.Folder, l.Left = inbox, nil
}

// receiver takes the messages that are sent to a place (empty: the route listens on this machine); nil if none are.
func (r *Route) receiver(place string, compiled *route.Compiled, state store.Route) (*receive.MLLP, error) {
	if place == "" {
		return nil, nil
	}
	report, _ := r.l.Places.Report(place)
	p := report.Place
	if !p.Receives || p.Kind != "mllp" {
		return nil, nil
	}
	m := &receive.MLLP{Route: r.name, Address: p.ListenOn, Box: &receive.Box{FS: r.l.FS, Folder: filepath.Join(r.l.Holding, state.Holding), Mark: fmt.Sprintf("%s-%d", r.l.Mark, r.node.ID), Later: compiled.AnswerCommitted}, Answers: r.l.Answers,
		Committed: compiled.AnswerCommitted, Patience: p.Patience, Largest: p.Largest, Most: p.Connections, Log: r.l.Log}
	if p.Certificate != "" {
		certificate, err := tls.LoadX509KeyPair(p.Certificate, p.KeyFile)
		if err != nil {
			return nil, fmt.Errorf("the certificate of %s cannot be read: %w", place, err)
		}
		m.Certificate = &certificate
		if p.Authorities != "" {
			if m.Clients, err = remote.Authorities(p.Authorities); err != nil {
				return nil, fmt.Errorf("who vouches for those that send to %s: %w", place, err)
			}
		}
	}
	return m, nil
}

// receive takes messages until that is to end.
func (r *Route) receive(ctx context.Context, m *receive.MLLP) {
	for ctx.Err() == nil {
		err := func() (err error) {
			defer func() {
				if p := recover(); p != nil {
					err = fmt.Errorf("a defect of this program: %v", p)
					r.l.Log.Error("a defect of this program holds what receives messages", "route", r.name, "panic", p, "stack", string(debug.Stack()))
				}
			}()
			return m.Run(ctx)
		}()
		if err == nil || ctx.Err() != nil {
			return
		}
		r.fail(err)
		r.l.Log.Error("messages cannot be received; it will be tried again", "route", r.name, "error", err)
		select {
		case <-ctx.Done():
		case <-time.After(2 * time.Second):
		}
	}
}

// fetchedRhythm is how often the folder is looked through in which fetched files wait: what comes there is told by events.
const fetchedRhythm = 30 * time.Second

// fetch brings files until that is to end. A defect ends the fetching for this route alone.
func (r *Route) fetch(ctx context.Context, f *fetch.Fetcher) {
	for ctx.Err() == nil {
		func() {
			defer func() {
				if p := recover(); p != nil {
					r.l.Log.Error("a defect of this program holds what fetches files", "route", r.name, "panic", p, "stack", string(debug.Stack()))
					r.l.Alert(store.Alert{Kind: "defect", Route: r.name, About: r.name, Message: fmt.Sprintf("%s fetches nothing because of a defect of this program: %v; its log has the details", r.name, p)}, false)
				}
			}()
			f.Run(ctx)
		}()
		select {
		case <-ctx.Done():
		case <-time.After(10 * time.Second):
		}
	}
}

// listenOnce listens until that fails or is to end. A defect ends the listening of this
// route alone.
func (r *Route) listenOnce(ctx context.Context, listener *listen.Listener) (err error) {
	defer func() {
		if p := recover(); p != nil {
			r.l.Log.Error("a defect of this program holds a listener", "route", r.name, "panic", p, "stack", string(debug.Stack()))
			err = fmt.Errorf("a defect of this program: %v", p)
		}
	}()
	listening, end := context.WithCancel(ctx)
	defer end()
	go func() {
		select {
		case <-listener.Up():
			r.failListening(listener, nil)
		case <-listening.Done():
		}
	}()
	return listener.Run(ctx)
}

// clear forgets why the route could not run if its listener works now.
func (r *Route) clear() {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.listener == nil {
		return
	}
	select {
	case <-r.listener.Up():
		r.failing(nil)
	default: // what ended it has been said
	}
}

// unlisten ends noticing files. What has been taken goes on. A listener that hangs in a
// file system is not waited for: what it still notices nobody asks for.
func (r *Route) unlisten() {
	r.mu.Lock()
	stop, stopped, c := r.stop, r.stopped, r.conductor
	r.listener, r.fetching, r.stop = nil, nil, nil
	r.mu.Unlock()
	if stop == nil {
		return
	}
	stop()
	c.Listen(nil, nil)
	select {
	case <-stopped:
	case <-time.After(time.Second):
	}
}

// fail remembers why a route cannot run, nil if it can.
func (r *Route) fail(err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.failing(err)
}

// failListening remembers why a listener cannot work, nil if it can, unless it is not
// listened to any more.
func (r *Route) failListening(l *listen.Listener, err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.listener == l {
		r.failing(err)
	}
}

// failing is fail for whoever holds the lock.
func (r *Route) failing(err error) {
	r.failed = ""
	if err != nil && !errors.Is(err, context.Canceled) {
		r.failed = err.Error()
	}
}

// watch tells people if the route's work does not move although nothing holds it, and of
// files that it cannot look at.
func (r *Route) watch() {
	r.mu.Lock()
	c, l, f, told := r.conductor, r.listener, r.fetching, r.still
	r.mu.Unlock()
	if l != nil {
		r.watchInbox(l)
	}
	r.watchPlace(f)
	if c == nil {
		return
	}
	stuck := c.Stuck(r.l.Still)
	if stuck != nil {
		r.l.Alert(store.Alert{Kind: standstill, Route: r.name, Pickup: stuck.Pickup, About: r.name, Message: fmt.Sprintf("%s stands still: %s", r.name, stuck.What)}, false)
	} else if told {
		r.l.Over(standstill, r.name)
	}
	r.mu.Lock()
	r.still = stuck != nil
	r.mu.Unlock()
}

// watchPlace tells people that nothing can be fetched from a server.
func (r *Route) watchPlace(f *fetch.Fetcher) {
	if f == nil {
		return
	}
	about := r.name + " from " + f.Place
	if problem, since := f.Problem(); problem != "" && time.Since(since) > min(r.l.Still, placeAwayFor) {
		r.l.Alert(store.Alert{Kind: "held", Route: r.name, About: about, Message: fmt.Sprintf("%s cannot fetch files from %s since %s: %s", r.name, f.Place, since.Format("15:04 MST"), problem)}, false)
		r.toldOfPlace = true
	} else if problem == "" && r.toldOfPlace {
		r.l.Over("held", about)
		r.toldOfPlace = false
	}
}

// placeAwayFor is how long a server may be away before people are told.
const placeAwayFor = 20 * time.Second

// watchInbox tells people of files that stay in the inbox because they cannot be looked at
// or opened.
func (r *Route) watchInbox(l *listen.Listener) {
	path, reason, since, n := l.Unable(time.Now().Add(-r.l.Still))
	about := r.name + " inbox"
	if n > 0 {
		more := ""
		if n > 1 {
			more = fmt.Sprintf(" (and %d more)", n-1)
		}
		r.l.Alert(store.Alert{Kind: "held", Route: r.name, About: about, Message: fmt.Sprintf("%s of %s stays in the inbox since %s: %s%s", text.Readable(filepath.Base(path)), r.name, since.Format("15:04 MST"), reason, more)}, false)
	} else if r.toldOfInbox {
		r.l.Over("held", about)
	}
	r.toldOfInbox = n > 0
}

// standstill is the kind of alert about something that does not move.
const standstill = "standstill"
