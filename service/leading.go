package service

import (
	"context"
	"errors"
	"fmt"
	"runtime/debug"
	"sync"
	"time"

	"ydrion/core/lang"
	"ydrion/listen"
	"ydrion/route"
	"ydrion/run"
	"ydrion/store"
	"ydrion/workspace"
)

// leading is a route that this node leads. A goroutine of its own makes what is done
// for the route what people have decided, so that a route whose folder hangs keeps
// nobody else.
type leading struct {
	s    *Service
	node *store.Node
	name string
	life context.Context // ends when nothing new is to be begun
	work context.Context // ends when what is under way is to be left
	end  context.CancelFunc
	done chan struct{} // closed when the work on the route has ended

	wanted chan struct{} // there is another state to be brought about

	mu        sync.Mutex
	state     store.Route
	fresh     bool // state has not been brought about yet
	conductor *run.Conductor
	listener  *listen.Listener
	compiled  *route.Compiled
	stop      context.CancelFunc // of the listener
	stopped   chan struct{}
	failed    string
	defects   int    // how often a defect has ended the work on it
	still     bool   // it does not move, and people were told
	news      string // what was recorded last for other nodes
}

// lead begins to lead a route.
func (s *Service) lead(life, work context.Context, node *store.Node, r store.Route) *leading {
	l := &leading{s: s, node: node, name: r.Name, work: work, done: make(chan struct{}), wanted: make(chan struct{}, 1), state: r, fresh: true}
	l.life, l.end = context.WithCancel(life)
	s.tasks.Go(l.run)
	return l
}

// set says how the route is to stand.
func (l *leading) set(r store.Route) {
	l.mu.Lock()
	l.state, l.fresh = r, true
	l.mu.Unlock()
	select {
	case l.wanted <- struct{}{}:
	default: // it has been told already
	}
}

// look lets the conductor look whether there is something to do.
func (l *leading) look() {
	l.mu.Lock()
	c := l.conductor
	l.mu.Unlock()
	if c != nil {
		c.Look()
	}
}

// run works on the route until that is to end. A defect of this program ends the work
// on this route alone, which begins again after a while.
func (l *leading) run() {
	defer close(l.done)
	for l.life.Err() == nil {
		err := l.conduct()
		if err == nil {
			return
		}
		l.mu.Lock()
		l.defects++
		l.fresh = true
		wait := min(time.Second<<min(l.defects, 8), 5*time.Minute)
		l.mu.Unlock()
		l.fail(err)
		l.s.alert(store.Alert{Kind: "defect", Route: l.name, About: l.name, Message: fmt.Sprintf("%s is held by %v; its log has the details", l.name, err)}, false)
		select {
		case <-l.life.Done():
		case <-time.After(wait):
		}
	}
}

// conduct works on the route with one conductor. It is nil if the work was ended, and
// otherwise says what ended it.
func (l *leading) conduct() (err error) {
	defer func() {
		if p := recover(); p != nil {
			d := &run.Defect{What: p, Stack: string(debug.Stack())}
			l.s.Log.Error("a defect of this program holds a route", "route", l.name, "panic", p, "stack", d.Stack)
			err = d
		}
	}()
	l.mu.Lock()
	r := l.state
	l.mu.Unlock()
	life, end := context.WithCancel(l.life)
	defer end()
	c := l.s.engine.Conduct(life, l.work, run.Node{ID: l.node.ID, Sure: l.node.Sure, Fresh: l.node.Fresh}, r)
	l.mu.Lock()
	l.conductor = c
	l.mu.Unlock()
	defer func() {
		l.unlisten()
		end()
		<-c.Done()
	}()
	l.bringAbout(life)
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
		case <-l.wanted:
		case <-again.C:
			l.mu.Lock()
			l.fresh = true
			l.mu.Unlock()
		case <-tidy.C:
			l.s.tasks.Go(func() {
				if err := c.Tidy(); err != nil && life.Err() == nil {
					l.s.Log.Warn("what runs have left cannot be removed now", "route", l.name, "error", err)
				}
			})
			tidy.Reset(tidyEvery)
		}
		l.bringAbout(life)
		if l.problem() != "" {
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
func (l *leading) bringAbout(life context.Context) {
	for life.Err() == nil {
		l.mu.Lock()
		r, fresh, c := l.state, l.fresh, l.conductor
		listening, compiled := l.listener != nil, l.compiled
		l.fresh = false
		l.mu.Unlock()
		if !fresh {
			return
		}
		c.Set(r)
		if listening && (!r.Running || compiled.Hash != r.Revision) {
			l.unlisten()
			listening = false
		}
		if r.Running && !listening {
			err := l.listen(life, r)
			l.fail(err)
			if err != nil && life.Err() == nil {
				l.s.Log.Error("a route cannot run", "route", r.Name, "error", err)
			}
		}
		if !r.Running {
			l.fail(nil)
			l.s.over("defect", l.name)
		}
		if !r.Applied && life.Err() == nil {
			if err := l.s.store.Applied(life, l.node.ID, r.Name, r.Version); err != nil && life.Err() == nil {
				l.s.Log.Error("recording that a route does as people have decided", "route", r.Name, "error", err)
			}
		}
	}
}

// upWithin is how long starting waits for a listener to notice files. One that cannot
// within that time goes on trying.
const upWithin = 10 * time.Second

// listen begins to notice a route's files.
func (l *leading) listen(life context.Context, r store.Route) error {
	s := l.s
	compiled, err := s.engine.Compiled(life, r.Name, r.Revision)
	if err != nil {
		return err
	}
	folder, err := s.resolve(compiled.Listen.Folder)
	if err != nil {
		return err
	}
	listener := &listen.Listener{Settings: compiled.Listen, ByName: compiled.Order.By == "name", ByTime: compiled.Order.By == "time", InOrder: compiled.Order.Lane != "none", Folder: folder, FS: s.FS, Log: s.Log, Watch: s.watcher}
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
	c := l.conductor
	l.mu.Unlock()
	c.Listen(listener, compiled)
	failed := make(chan error, 1)
	s.tasks.Go(func() {
		defer close(stopped)
		for listening.Err() == nil {
			err := l.listenOnce(listening, listener)
			if err == nil {
				continue
			}
			select {
			case failed <- err:
			default: // the first one is waited for
			}
			l.fail(err)
			s.Log.Error("the listener cannot work; it will be tried again", "route", r.Name, "error", err)
			select {
			case <-listening.Done():
			case <-time.After(2 * time.Second):
			}
		}
	})
	select {
	case <-listener.Up():
		s.over("defect", l.name)
	case err = <-failed:
		return err
	case <-listening.Done():
	case <-time.After(upWithin):
		return fmt.Errorf("%s does not answer", folder)
	}
	return nil
}

// listenOnce listens until that fails or is to end. A defect ends the listening of this
// route alone.
func (l *leading) listenOnce(ctx context.Context, listener *listen.Listener) (err error) {
	defer func() {
		if p := recover(); p != nil {
			l.s.Log.Error("a defect of this program holds a listener", "route", l.name, "panic", p, "stack", string(debug.Stack()))
			err = fmt.Errorf("a defect of this program: %v", p)
		}
	}()
	listening, end := context.WithCancel(ctx)
	defer end()
	go func() {
		select {
		case <-listener.Up():
			l.fail(nil)
		case <-listening.Done():
		}
	}()
	return listener.Run(ctx)
}

// unlisten ends noticing files. What has been taken goes on. A listener that hangs in a
// file system is not waited for: what it still notices nobody asks for.
func (l *leading) unlisten() {
	l.mu.Lock()
	stop, stopped, c := l.stop, l.stopped, l.conductor
	l.listener, l.stop = nil, nil
	l.mu.Unlock()
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
func (l *leading) fail(err error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.failed = ""
	if err != nil && !errors.Is(err, context.Canceled) {
		l.failed = err.Error()
	}
}

// problem is why the route cannot run, empty if it can.
func (l *leading) problem() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.failed
}

// letGo ends the work on a route.
func (s *Service) letGo(name string, l *leading) {
	l.end()
	<-l.done
	s.mu.Lock()
	if s.leading[name] == l {
		delete(s.leading, name)
	}
	s.mu.Unlock()
}
