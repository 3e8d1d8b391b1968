// Package service is what people ask of Ydrion: publish, start, stop, look, run
// again. The HTTP interface and the client's local commands are thin layers
// above it.
package service

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"sort"
	"sync"
	"time"

	"ydrion/archive"
	"ydrion/core/finding"
	"ydrion/core/flow"
	"ydrion/core/lang"
	"ydrion/core/place"
	"ydrion/core/value"
	"ydrion/files"
	"ydrion/listen"
	"ydrion/managed"
	"ydrion/route"
	"ydrion/run"
	"ydrion/store"
	"ydrion/workspace"
)

// Config is how a service is set up.
type Config struct {
	Data        string // its folder: archive, token, private database
	DatabaseURL string // an existing server; empty: a private cluster
	Environment *workspace.Environment
	Log         *slog.Logger
	FS          files.FS
	Throwaway   bool // a database that may lose data: for tests
	Cores       int
}

// Service is a running service.
type Service struct {
	Config
	store   *store.Store
	engine  *run.Engine
	hub     hub
	metrics *metrics
	cluster *managed.Cluster

	mu        sync.Mutex
	listening map[string]*listening
	life      context.Context // ends when nothing new is to be begun
	work      context.Context // ends when what is under way is to be left
	tasks     sync.WaitGroup
	end, kill context.CancelFunc
}

// listening is a running route.
type listening struct {
	listener *listen.Listener
	compiled *route.Compiled
	stop     context.CancelFunc
	done     chan struct{}
	failed   string
}

// Open starts the database if need be, and the engine. Close ends both.
func Open(ctx context.Context, c Config) (*Service, error) {
	if c.FS == nil {
		c.FS = files.Real{}
	}
	if err := os.MkdirAll(c.Data, 0o755); err != nil {
		return nil, fmt.Errorf("making the data folder: %w", err)
	}
	s := &Service{Config: c, listening: map[string]*listening{}}
	s.metrics = newMetrics(s)
	s.life, s.end = context.WithCancel(context.Background())
	s.work, s.kill = context.WithCancel(context.Background())
	url := c.DatabaseURL
	if url == "" {
		var err error
		if s.cluster, err = managed.Start(ctx, filepath.Join(c.Data, "postgres"), managed.Options{Throwaway: c.Throwaway, Died: func(err error) { c.Log.Error("the database has ended by itself and is started again", "error", err) }}); err != nil {
			return nil, err
		}
		url = s.cluster.URL
	}
	var err error
	if s.store, err = store.Open(ctx, url); err != nil {
		return nil, errors.Join(err, s.stopCluster())
	}
	s.engine = run.New(run.Config{Store: s.store, FS: c.FS, Archive: archive.New(c.FS, filepath.Join(c.Data, "archive")), Log: c.Log, Resolve: s.resolve, Tell: s.tell, Cores: c.Cores})
	s.tasks.Go(func() { s.engine.Recover(s.life, s.work) })
	routes, err := s.store.Routes(ctx)
	if err != nil {
		return nil, errors.Join(err, s.Close())
	}
	for _, r := range routes {
		if r.Running {
			if err := s.listen(ctx, r.Name, r.Revision); err != nil {
				c.Log.Error("a route cannot run", "route", r.Name, "error", err)
			}
		}
	}
	return s, nil
}

func (s *Service) resolve(folder string) (string, error) {
	return s.Environment.Resolve(folder, s.Data)
}

func (s *Service) stopCluster() error {
	if s.cluster == nil {
		return nil
	}
	return s.cluster.Stop()
}

// grace is how long a stopping service lets runs go on that are under way.
const grace = 10 * time.Second

// End lets nothing new begin: no file is taken any more, nobody watches. Close
// must follow.
func (s *Service) End() { s.end() }

// Close ends everything: no file is taken any more, what is under way is
// finished or, after a grace, safely left for the next start.
func (s *Service) Close() error {
	s.end()
	finished := make(chan struct{})
	go func() { s.tasks.Wait(); close(finished) }()
	select {
	case <-finished:
	case <-time.After(grace):
		s.Log.Warn("leaving what is under way for the next start")
		s.kill()
		<-finished
	}
	s.kill()
	s.store.Close()
	return s.stopCluster()
}

// Ready tells whether the service can work.
func (s *Service) Ready(ctx context.Context) error { return s.store.Ping(ctx) }

// Watch begins to watch events; the function ends it.
func (s *Service) Watch() (<-chan Numbered, func()) { return s.hub.watch() }

// Life ends when the service stops.
func (s *Service) Life() context.Context { return s.life }

// Publication is what became of publishing one route.
type Publication struct {
	Route    string       `json:"route"`
	Revision string       `json:"revision"`
	Number   int          `json:"number" doc:"of the revision; 0 when only checked"`
	Changed  bool         `json:"changed" doc:"whether it differs from what was published before"`
	Findings finding.List `json:"findings"`
	OK       bool         `json:"ok"`
}

// Publish checks routes of a workspace and makes them current. With dry, it
// only says what would happen. Nothing is published if anything is wrong.
func (s *Service) Publish(ctx context.Context, content map[string][]byte, names []string, dry bool) ([]Publication, finding.List, error) {
	w := workspace.FromFiles(content)
	if len(names) == 0 {
		for n := range w.Routes {
			names = append(names, n)
		}
		sort.Strings(names)
	}
	general := append(finding.List{}, w.Findings...)
	if len(names) == 0 && !general.HasErrors() {
		general = append(general, finding.New("workspace.empty", place.InFile("routes"), "the workspace has no routes"))
	}
	var out []Publication
	var compiled []*route.Compiled
	for _, n := range names {
		c, findings := route.Compile(w, n)
		p := Publication{Route: n, Findings: append(finding.List{}, findings...), OK: c != nil}
		if c != nil {
			compiled = append(compiled, c)
			p.Revision = c.Hash
		}
		out = append(out, p)
	}
	circles, err := s.guard(ctx, compiled)
	if err != nil {
		return nil, nil, err
	}
	general = append(general, circles...)
	ok := !general.HasErrors()
	for _, p := range out {
		ok = ok && p.OK
	}
	if !ok || dry {
		return out, general, nil
	}
	for i, c := range compiled {
		if out[i].Number, out[i].Changed, err = s.store.Publish(ctx, c.Name, c.Hash, c.Files); err != nil {
			return nil, nil, err
		}
		if err := s.renew(ctx, c); err != nil {
			return nil, nil, err
		}
		s.Log.Info("published", "route", c.Name, "revision", c.Hash[:12], "number", out[i].Number, "changed", out[i].Changed)
		s.tell(run.Event{Kind: "route", Route: c.Name, State: "published"})
	}
	return out, general, nil
}

// guard checks the new routes together with all that are published already.
func (s *Service) guard(ctx context.Context, compiled []*route.Compiled) (finding.List, error) {
	var all []*workspace.Route
	fresh := map[string]bool{}
	for _, c := range compiled {
		all = append(all, c.Route)
		fresh[c.Name] = true
	}
	published, err := s.store.Routes(ctx)
	if err != nil {
		return nil, err
	}
	for _, r := range published {
		if fresh[r.Name] {
			continue
		}
		c, err := s.engine.Compiled(ctx, r.Name, r.Revision)
		if err != nil {
			return nil, err
		}
		all = append(all, c.Route)
	}
	return route.Guard(all, s.resolve), nil
}

// renew lets a running route go on with a new revision.
func (s *Service) renew(ctx context.Context, c *route.Compiled) error {
	s.mu.Lock()
	l := s.listening[c.Name]
	s.mu.Unlock()
	if l == nil || l.compiled.Hash == c.Hash {
		return nil
	}
	s.unlisten(c.Name)
	return s.listen(ctx, c.Name, c.Hash)
}

// Start starts a route.
func (s *Service) Start(ctx context.Context, name string) error {
	r, err := s.store.Route(ctx, name)
	if err != nil {
		return err
	}
	if err := s.store.SetRunning(ctx, name, true); err != nil {
		return err
	}
	if err := s.listen(ctx, name, r.Revision); err != nil {
		return err
	}
	s.tell(run.Event{Kind: "route", Route: name, State: "running"})
	return nil
}

// Stop stops a route. The pickup that is under way is finished.
func (s *Service) Stop(ctx context.Context, name string) error {
	if err := s.store.SetRunning(ctx, name, false); err != nil {
		return err
	}
	s.unlisten(name)
	s.tell(run.Event{Kind: "route", Route: name, State: "stopped"})
	return nil
}

func (s *Service) unlisten(name string) {
	s.mu.Lock()
	l := s.listening[name]
	delete(s.listening, name)
	s.mu.Unlock()
	if l != nil {
		l.stop()
		<-l.done
	}
}

// listen begins to take a route's files.
func (s *Service) listen(ctx context.Context, name, revision string) error {
	compiled, err := s.engine.Compiled(ctx, name, revision)
	if err != nil {
		return err
	}
	folder, err := s.resolve(compiled.Listen.Folder)
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.listening[name] != nil {
		return nil
	}
	life, stop := context.WithCancel(s.life)
	ready := make(chan listen.Candidate)
	l := &listening{listener: &listen.Listener{Settings: compiled.Listen, Folder: folder, FS: s.FS, Log: s.Log, Ready: ready}, compiled: compiled, stop: stop, done: make(chan struct{})}
	s.listening[name] = l
	s.tasks.Go(func() {
		defer close(ready)
		for life.Err() == nil {
			err := s.restore(l.listener)
			s.fail(name, l, err)
			if err == nil {
				err = l.listener.Run(life)
			}
			if err != nil {
				s.fail(name, l, err)
				select {
				case <-life.Done():
				case <-time.After(5 * time.Second):
				}
			}
		}
	})
	s.tasks.Go(func() { s.restoreAfterTrouble(life, l.listener) })
	s.tasks.Go(func() {
		defer close(l.done)
		for c := range ready {
			if life.Err() != nil {
				continue
			}
			if err := s.engine.Take(s.work, name, revision, c); err != nil {
				s.Log.Error("a file cannot be taken", "route", name, "file", c.Path, "error", err)
				l.listener.Again(c.Path, "it cannot be taken: "+err.Error())
				// What keeps one file from being claimed (the database is away)
				// keeps the others too.
				select {
				case <-life.Done():
				case <-time.After(time.Second):
				}
				continue
			}
			l.listener.Forget(c.Path)
		}
	})
	return nil
}

// restore puts back what an earlier service holds without a record.
func (s *Service) restore(l *listen.Listener) error {
	for _, folder := range l.Folders() {
		if err := s.engine.Restore(s.work, folder); err != nil {
			return err
		}
	}
	return nil
}

// restoreAfterTrouble does so again when something has gone wrong since: a
// database that died may have forgotten its latest claims.
func (s *Service) restoreAfterTrouble(life context.Context, l *listen.Listener) {
	for seen := s.engine.Troubles(); ; {
		select {
		case <-life.Done():
			return
		case <-time.After(2 * time.Second):
		}
		if now := s.engine.Troubles(); now != seen && s.restore(l) == nil {
			seen = now
		}
	}
}

// fail remembers why a listener cannot work, nil if it can.
func (s *Service) fail(name string, l *listening, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	l.failed = ""
	if err != nil {
		s.Log.Error("the listener cannot work; it will be tried again", "route", name, "error", err)
		l.failed = err.Error()
	}
}

// Again runs an ended pickup again with the current revision, or with that of
// its latest run.
func (s *Service) Again(ctx context.Context, pickup int64, then bool) (int64, error) {
	p, err := s.store.Pickup(ctx, pickup)
	if err != nil {
		return 0, err
	}
	r, err := s.store.Route(ctx, p.Route)
	if err != nil {
		return 0, err
	}
	revision := r.Revision
	if then && p.Run != 0 {
		last, err := s.store.Run(ctx, p.Run)
		if err != nil {
			return 0, err
		}
		revision = last.Revision
	}
	return s.engine.Again(ctx, pickup, p.Route, revision)
}

// Records shows records of a run before and after, by running the revision over
// the original again with the inputs that were recorded.
func (s *Service) Records(ctx context.Context, runID int64, request TrialRequest) (*Trial, error) {
	r, err := s.store.Run(ctx, runID)
	if err != nil {
		return nil, err
	}
	p, err := s.store.Pickup(ctx, r.Pickup)
	if err != nil {
		return nil, err
	}
	c, err := s.engine.Compiled(ctx, r.Route, r.Revision)
	if err != nil {
		return nil, err
	}
	original, err := s.engine.Archive.Open(p.SHA256)
	if err != nil {
		return nil, err
	}
	defer original.Close()
	blocks, err := s.store.Sequences(ctx, runID)
	if err != nil {
		return nil, err
	}
	next := 0
	inputs := flow.Inputs{Facts: lang.Facts{Route: r.Route, Now: value.FromTime(r.Now.In(time.Local)), Name: p.Name, Folder: p.Folder}, Cores: 1,
		Sequence: func(int) (int64, error) {
			if next == len(blocks) {
				return 0, fmt.Errorf("run %d has no record of its sequence numbers", runID)
			}
			next++
			return blocks[next-1], nil
		}}
	return Try(ctx, c, original, inputs, request)
}

// Original opens the file as it arrived.
func (s *Service) Original(ctx context.Context, pickup int64) (store.Pickup, files.File, error) {
	p, err := s.store.Pickup(ctx, pickup)
	if err != nil {
		return p, nil, err
	}
	if p.SHA256 == "" {
		return p, nil, store.ErrNotFound
	}
	f, err := s.engine.Archive.Open(p.SHA256)
	return p, f, err
}
