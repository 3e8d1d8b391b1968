// Package service is what people ask of Ydrion: publish, start, stop, look, run
// again. The HTTP interface and the client's local commands are thin layers
// above it.
package service

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"
	"sort"
	"sync"
	"time"

	"ydrion/archive"
	"ydrion/core/finding"
	"ydrion/core/flow"
	"ydrion/core/format"
	"ydrion/core/lang"
	"ydrion/core/place"
	"ydrion/core/value"
	"ydrion/files"
	"ydrion/lead"
	"ydrion/listen"
	"ydrion/managed"
	"ydrion/receive"
	"ydrion/remote"
	"ydrion/route"
	"ydrion/run"
	"ydrion/store"
	"ydrion/wire"
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
	Name        string // of this service among others; empty: machine and process
	Address     string // of its HTTP interface
	// Lease is how long this node is believed to live while it does not answer; 0: the
	// usual 15 seconds.
	Lease time.Duration
	// Still is how long something may not move before people are told; 0: two minutes.
	Still time.Duration
	// Rest is how long a mail with alerts waits for the one before it; 0: a minute.
	Rest time.Duration
	// Clock is what time it is for deadlines and timetables; nil: the machine's.
	Clock func() time.Time
}

// Service is a running service: one node among those that share its database.
type Service struct {
	Config
	store   *store.Store
	engine  *run.Engine
	places  *remote.Places
	answers receive.Answers
	watcher *listen.Watcher
	hub     hub
	metrics *metrics
	cluster *managed.Cluster
	leader  *lead.Leader
	noted   *noting // alerts on their way to the records
	expects expecting
	samples samples
	asked   sync.Map // folders whose file system has been asked how much space it has

	recorded  map[*lead.Route]string // what other nodes were last shown of routes that are led here
	life      context.Context        // ends when nothing new is to be begun
	work      context.Context        // ends when what is under way is to be left
	tasks     sync.WaitGroup
	end, kill context.CancelFunc
}

// stillFor is how long something may usually not move before people are told.
const stillFor = 2 * time.Minute

// Open starts the database if need be, and the engine. Close ends both.
func Open(ctx context.Context, c Config) (*Service, error) {
	if c.FS == nil {
		c.FS = files.Real{}
	}
	if c.Clock == nil {
		c.Clock = time.Now
	}
	if c.Still == 0 {
		c.Still = stillFor
	}
	if c.Name == "" {
		host, err := os.Hostname()
		if err != nil {
			host = "unnamed"
		}
		c.Name = fmt.Sprintf("%s:%d", host, os.Getpid())
	}
	if err := os.MkdirAll(c.Data, 0o755); err != nil {
		return nil, fmt.Errorf("making the data folder: %w", err)
	}
	s := &Service{Config: c, noted: newNoting()}
	s.metrics = newMetrics(s)
	s.life, s.end = context.WithCancel(context.Background())
	s.work, s.kill = context.WithCancel(context.Background())
	url := c.DatabaseURL
	if url == "" {
		var err error
		if s.cluster, err = managed.Start(ctx, filepath.Join(c.Data, "postgres"), managed.Options{Throwaway: c.Throwaway, Died: func(err error) { c.Log.Error("the database has ended by itself and is started again", "error", err) },
			Made: func(folder string) {
				c.Log.Info("a private database is being made, as this is the first start; that takes a few seconds", "folder", folder)
			}}); err != nil {
			return nil, err
		}
		url = s.cluster.Local
	}
	var err error
	if s.store, err = store.Open(ctx, url); err != nil {
		return nil, errors.Join(err, s.stopCluster())
	}
	if s.watcher, err = listen.NewWatcher(); err != nil {
		c.Log.Warn("no kernel events here, looking instead", "error", err)
	}
	for _, private := range []string{"archive", "archive/spool", "archive/fetched"} {
		folder := filepath.Join(c.Data, private)
		if err := c.FS.MakeFolder(folder, 0o700); err != nil {
			c.Log.Warn("a folder of ours cannot be made", "folder", folder, "error", err)
		} else if _, err := files.Private(c.FS, folder); err != nil {
			c.Log.Warn("others can look into a folder of ours", "folder", folder, "error", err)
		}
	}
	s.places = remote.New(c.Environment)
	s.engine = run.New(run.Config{Store: s.store, Mark: s.store.Mark, Spool: filepath.Join(c.Data, "archive", "spool"), FS: c.FS, Archive: archive.New(c.FS, filepath.Join(c.Data, "archive")), Own: filepath.Join(c.Data, "archive", "fetched"), Log: c.Log, Resolve: s.resolve, Places: s.places, Tell: s.tell, Alert: s.alert, Over: s.over, Cores: c.Cores, Clock: c.Clock})
	s.leader = lead.New(lead.Config{Records: s.store, Join: s.join, Conduct: s.conduct, Compiled: s.engine.Compiled, Resolve: s.resolve, Places: s.places, Holding: filepath.Join(c.Data, "archive", "fetched"), Mark: s.store.Mark, Fetches: s.store, Answers: &s.answers, FS: s.FS, Watcher: s.watcher, Log: s.Log, Alert: s.alert, Over: s.over, Hint: s.hint, Looked: s.recordNews, Away: s.tellAway, Back: s.tellBack, Still: s.Still})
	node, err := s.join(ctx)
	if err != nil {
		s.store.Close()
		return nil, errors.Join(err, s.stopCluster())
	}
	first := &node
	s.task("leading routes", func() { node := first; first = nil; s.leader.Run(s.life, s.work, node) })
	s.task("giving memory back", s.giveBack)
	s.task("telling other nodes", s.share)
	s.task("noting alerts", s.noteAlerts)
	s.task("sending alerts", s.sendMessages)
	s.task("housekeeping", s.housekeeping)
	s.task("tending the tables", s.tend)
	s.task("watching over routes", func() { s.leader.Watch(s.life) })
	// Whoever has started a service can ask it: it shares the routes out by then.
	for deadline := time.Now().Add(firstLead); s.leader.Shared().IsZero() && time.Now().Before(deadline) && ctx.Err() == nil; {
		time.Sleep(time.Millisecond)
	}
	return s, nil
}

// firstLead is how long a starting service waits until it has shared the routes out. It
// starts all the same if that takes longer.
const firstLead = 5 * time.Second

// task does something until the service stops. A defect of this program ends only what
// it was doing at the moment: it begins again.
func (s *Service) task(doing string, f func()) {
	once := func() (again bool) {
		defer func() {
			if p := recover(); p != nil {
				s.Log.Error("a defect of this program", "doing", doing, "panic", p, "stack", string(debug.Stack()))
				s.alert(store.Alert{Kind: "defect", About: doing, Message: fmt.Sprintf("a defect of this program was met while %s: %v; its log has the details", doing, p)}, true)
				again = true
			}
		}()
		f()
		return false
	}
	s.tasks.Go(func() {
		for once() && s.life.Err() == nil {
			select {
			case <-s.life.Done():
			case <-time.After(time.Second):
			}
		}
	})
}

// conduct begins to work on a route's pickups.
func (s *Service) conduct(life, work context.Context, node run.Node, r store.Route) lead.Conductor {
	return s.engine.Conduct(life, work, node, r)
}

func (s *Service) resolve(folder string) (string, error) {
	return s.Environment.Resolve(folder, s.Data)
}

// whereabouts is resolve for comparing folders with each other.
func (s *Service) whereabouts(folder string) (string, error) {
	return s.Environment.Whereabouts(folder, s.Data)
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
	s.samples.mu.Lock()
	s.samples.sweep(s.Clock().Add(2*sampleUnused), 0)
	s.samples.mu.Unlock()
	s.store.Close()
	s.places.Close()
	var err error
	if s.watcher != nil {
		err = s.watcher.Close()
	}
	return errors.Join(err, s.stopCluster())
}

// Ready tells whether the service can work: the database answers, this node shares the
// routes out, and each running route has a leader.
func (s *Service) Ready(ctx context.Context) error {
	if err := s.store.Ping(ctx); err != nil {
		return err
	}
	return s.leader.Ready()
}

// Watch begins to watch events; the function ends it.
func (s *Service) Watch(behind string) *Watching { return s.hub.watchFrom(behind) }

// Life ends when the service stops.
func (s *Service) Life() context.Context { return s.life }

// Publication is what became of publishing one route.
type Publication struct {
	Route    string       `json:"route"`
	Revision string       `json:"revision"`
	Number   int          `json:"number" doc:"of the revision; 0 when only checked"`
	InEffect bool         `json:"in_effect" doc:"whether the node that leads the route works by it: then a file that comes now is taken by this revision"`
	Changed  bool         `json:"changed" doc:"whether it differs from what was published before"`
	Changes  []FileChange `json:"changes" doc:"what differs, file by file; none for a route that is new"`
	Findings finding.List `json:"findings"`
	OK       bool         `json:"ok"`
}

// Publish checks routes of a workspace and makes them current. With dry, it
// only says what would happen. Nothing is published if anything is wrong.
func (s *Service) Publish(ctx context.Context, content map[string][]byte, names []string, dry bool, said store.Said) ([]Publication, finding.List, error) {
	w := workspace.FromFiles(content)
	all := len(names) == 0
	if all {
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
		p := Publication{Route: n, Changes: []FileChange{}, Findings: append(finding.List{}, findings...), OK: c != nil}
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
	published, err := s.store.Routes(ctx)
	if err != nil {
		return nil, nil, err
	}
	for _, r := range published {
		i := slices.IndexFunc(compiled, func(c *route.Compiled) bool { return c.Name == r.Name })
		switch {
		case i >= 0:
			k := slices.IndexFunc(out, func(p Publication) bool { return p.Route == r.Name })
			out[k].Number = r.Number
			if out[k].Changed = compiled[i].Hash != r.Revision; out[k].Changed {
				if out[k].Changes, err = s.changes(ctx, compiled[i], r); err != nil {
					return nil, nil, err
				}
			}
		case all && r.Running && w.Routes[r.Name] == nil && !slices.Contains(names, r.Name):
			general = append(general, finding.Warn("route.elsewhere", place.InFile("routes"), "%s is published and runs, and this workspace does not have it", r.Name).
				Suggest("ydrion stop %s; then, if it is called otherwise now, ydrion rename %s NAME, before you publish it under that; or else ydrion remove %s", r.Name, r.Name, r.Name))
		}
	}
	for i := range out {
		if !slices.ContainsFunc(published, func(r store.Route) bool { return r.Name == out[i].Route }) {
			out[i].Changed = out[i].OK // it is new
		}
	}
	ok := !general.HasErrors()
	for _, p := range out {
		ok = ok && p.OK
	}
	if !ok || dry {
		return out, general, nil
	}
	for i, c := range compiled { // all have compiled
		if out[i].Number, out[i].Changed, err = s.store.Publish(ctx, c.Name, c.Hash, c.Files, said); err != nil {
			return nil, nil, err
		}
		s.changed(ctx, c.Name, "published")
		s.Log.Info("published", "route", c.Name, "revision", c.Hash[:12], "number", out[i].Number, "changed", out[i].Changed)
	}
	late := s.inEffect(ctx, names)
	for i := range out {
		out[i].InEffect = !slices.Contains(late, out[i].Route)
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
		if err != nil { // it does not run, and its page says so: others can be published
			s.Log.Warn("a published route cannot be compared with those that are to be published", "route", r.Name, "error", err)
			continue
		}
		all = append(all, c.Route)
	}
	return append(route.Guard(all, s.whereabouts), route.Fits(all, s.Environment)...), nil
}

// changed tells this node and all others that a route has changed.
func (s *Service) changed(ctx context.Context, name, how string) {
	s.leader.Changed(ctx, name)
	s.tell(run.Event{Kind: "route", Route: name, State: how})
}

// Start starts a route, on whichever node leads it. It returns when that is so or, if
// it takes too long, without; the route's view says which.
func (s *Service) Start(ctx context.Context, name string, said store.Said) error {
	if err := s.store.SetRunning(ctx, name, true, said); err != nil {
		return err
	}
	s.changed(ctx, name, "running")
	s.inEffect(ctx, []string{name})
	return nil
}

// Stop stops a route. What is under way goes on. It returns as Start does.
func (s *Service) Stop(ctx context.Context, name string, said store.Said) error {
	if err := s.store.SetRunning(ctx, name, false, said); err != nil {
		return err
	}
	s.changed(ctx, name, "stopped")
	s.inEffect(ctx, []string{name})
	return nil
}

// Remove takes a stopped route off the list; with dry it only says what that means.
func (s *Service) Remove(ctx context.Context, name string, dry bool, said store.Said) (wire.Removal, error) {
	route, err := s.store.Route(ctx, name)
	if err != nil {
		return wire.Removal{}, err
	}
	// What lies here and is not a pickup yet would be out of everybody's sight.
	holding := filepath.Join(s.Data, "archive", "fetched", route.Holding)
	waiting := 0
	if route.Holding != "" {
		waiting = files.Visible(s.FS, holding)
	}
	r, err := s.store.Remove(ctx, name, dry || waiting > 0, said)
	if err == nil && r.Removed {
		s.changed(ctx, name, "removed")
	}
	if err == nil && !dry && waiting > 0 {
		err = fmt.Errorf("%w: files that were fetched or received for %s wait to be taken: %d in %s; start it so that it takes them, or hand them over (ydrion hand) and remove them there", store.ErrNotSo, name, waiting, holding)
	}
	return wire.Removal{Route: r.Route, Running: r.Running, Open: r.Open, Pickups: r.Pickups, Waiting: waiting, Removed: r.Removed}, err
}

// Rename gives a stopped route another name, with all that is known of it. It is then published under that name.
func (s *Service) Rename(ctx context.Context, name, to string, dry bool, said store.Said) (wire.Renaming, error) {
	if !workspace.GoodName(to) {
		return wire.Renaming{}, fmt.Errorf("%w: a route's name is made of small letters, digits and hyphens, not %q", store.ErrNotSo, to)
	}
	r, err := s.store.RenameRoute(ctx, name, to, dry, said)
	if err == nil && r.Renamed {
		s.changed(ctx, name, "removed")
		s.changed(ctx, to, "renamed")
	}
	return wire.Renaming(r), err
}

// Pause lets a running route notice files but take none, until a time or (zero)
// until it is started.
func (s *Service) Pause(ctx context.Context, name string, until time.Time, said store.Said) error {
	if !until.IsZero() && !until.After(time.Now()) {
		return fmt.Errorf("%w: a pause must end later than now, not at %s", store.ErrNotSo, until.Format("2006-01-02 15:04 MST"))
	}
	r, err := s.store.Route(ctx, name)
	if err != nil {
		return err
	}
	if !r.Running {
		return fmt.Errorf("%w: the route is stopped", store.ErrNotSo)
	}
	if err := s.store.Pause(ctx, name, until, said); err != nil {
		return err
	}
	s.changed(ctx, name, "paused")
	s.inEffect(ctx, []string{name})
	return nil
}

// Ask lets a route take the files that are there now, whatever its timetable
// says.
func (s *Service) Ask(ctx context.Context, name string) error {
	r, err := s.store.Route(ctx, name)
	if err != nil {
		return err
	}
	if !r.Running || r.Paused(time.Now()) {
		return fmt.Errorf("%w: the route is not running", store.ErrNotSo)
	}
	if err := s.store.Ask(ctx, name); err != nil {
		return err
	}
	s.changed(ctx, name, "asked")
	return nil
}

// effectWithin is how long an answer waits for a decision to come into effect.
const effectWithin = 15 * time.Second

// inEffect waits until the leaders of routes work by their latest versions, and gives
// those that do not after a while.
func (s *Service) inEffect(ctx context.Context, names []string) []string {
	if len(names) == 0 {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, effectWithin)
	defer cancel()
	late := names
	for wait := 2 * time.Millisecond; ; wait = min(2*wait, 50*time.Millisecond) {
		now, err := s.store.NotApplied(ctx, late)
		if err == nil {
			late = now
		}
		if len(late) == 0 {
			return nil
		}
		select {
		case <-ctx.Done():
			return late
		case <-time.After(wait):
		}
	}
}

// Records shows records of a run before and after, by running the revision over
// the original again with the inputs that were recorded.
func (s *Service) Records(ctx context.Context, runID int64, request TrialRequest) (*Trial, error) {
	return s.records(ctx, runID, 0, request)
}

// records shows records of a run or, with a pickup, of that file of it alone.
func (s *Service) records(ctx context.Context, runID, only int64, request TrialRequest) (*Trial, error) {
	r, err := s.store.Run(ctx, runID)
	if err != nil {
		return nil, err
	}
	c, err := s.engine.Compiled(ctx, r.Route, r.Revision)
	if err != nil {
		return nil, err
	}
	tables, err := s.tables(ctx, c, r)
	if err != nil {
		return nil, err
	}
	if c, err = s.engine.With(ctx, c, tables); err != nil {
		return nil, err
	}
	read, err := s.read(r, only)
	if err != nil {
		return nil, err
	}
	blocks, err := s.store.Sequences(ctx, runID)
	if err != nil {
		return nil, err
	}
	next := 0
	inputs := flow.Inputs{Facts: lang.Facts{Route: r.Route, Now: value.FromTime(r.Now.In(time.Local)), Name: read[0].Name, Folder: read[0].Folder, Event: read[0].Event, Mail: read[0].Mail, Key: r.Key}, Cores: 1, Spill: s.engine.Spill,
		Sequence: func(int) (int64, error) {
			if next == len(blocks) {
				return 0, fmt.Errorf("run %d has no record of its sequence numbers", runID)
			}
			next++
			return blocks[next-1].First, nil
		}}
	if r.State == "working" || only > 0 || len(blocks) == 0 {
		inputs.Sequence = nil // its numbers are not known yet, or there are none: those of the run are of the files that it went on with
	}
	if c.Collect.Any() {
		inputs.Files = len(read)
	}
	request.run = true
	trial, err := Try(ctx, c, read, inputs, request)
	switch {
	case err != nil || c.Unread():
	case c.OnlyChecked():
		asItCame(&r, trial)
	default:
		err = s.arrived(ctx, runID, c, trial)
	}
	return trial, err
}

// asItCame names the outputs that are the file itself, with all its records.
func asItCame(r *store.Run, trial *Trial) {
	if len(r.Of) > 1 || r.Whole || r.CommittedAt == nil {
		return
	}
	became := Became{Lines: []format.Line{}}
	for _, d := range r.Deliveries {
		if d.Kind == "good" {
			became.Files = append(became.Files, delivered(d.Output, &d))
		}
	}
	for i := range trial.Records {
		trial.Records[i].Became = []Became{became}
	}
}

// read are the files whose records a run worked on: not those that were rejected as one piece, unless all were. With a
// pickup it is that file alone.
func (s *Service) read(r store.Run, only int64) (out []flow.File, err error) {
	for _, f := range r.Of {
		if only != 0 && f.Pickup != only || only == 0 && (f.Part != store.ToRead || f.Whole && !r.Whole) {
			continue
		}
		if !f.Archived {
			return nil, store.ErrPurged
		}
		out = append(out, flow.File{Name: f.Name, Folder: f.Folder, Event: f.Event, Mail: f.Mail, Size: f.Size, Open: func() (io.ReadCloser, error) { return s.original(f.SHA256) }})
	}
	if out == nil {
		return nil, store.ErrNotFound
	}
	return out, nil
}

// arrived names the outputs that records went into, as they were delivered.
func (s *Service) arrived(ctx context.Context, run int64, c *route.Compiled, trial *Trial) error {
	if len(trial.Records) == 0 {
		return nil
	}
	outputs, err := s.store.Outputs(ctx, run, trial.Records[0].Record, trial.Records[len(trial.Records)-1].Record)
	if err != nil {
		return err
	}
	var begin []int64 // the records that the outputs of values begin with
	for i := range trial.Records {
		for _, became := range trial.Records[i].Became {
			for _, f := range became.Files {
				if f.first > 0 {
					begin = append(begin, f.first)
				}
			}
		}
	}
	values, err := s.store.OutputsOf(ctx, run, begin)
	if err != nil {
		return err
	}
	first := map[string]int{} // the first destination of each branch
	n := 0
	for i := range c.Plan.Branches {
		first[c.Plan.Branches[i].Name] = n
		n += len(c.Plan.Branches[i].Outputs)
	}
	for i := range trial.Records {
		r := &trial.Records[i]
		for k := range r.Became {
			became := &r.Became[k]
			of := slices.IndexFunc(c.Plan.Branches, func(p flow.Branch) bool { return p.Name == became.Branch })
			p := &c.Plan.Branches[of]
			switch {
			case p.By != nil:
				became.Files = arrivedIn(became.Files, first[became.Branch], values)
				continue
			case len(outputs) == 0: // nothing has been delivered, or it is not known any more
				continue
			}
			became.Files = nil
			for d := range p.Outputs {
				var in *store.Delivery
				for o := range outputs {
					if out := &outputs[o]; out.Output == first[became.Branch]+d && (out.FirstRecord == r.Record || out.FirstRecord < r.Record && !p.Separate) {
						in = out
					}
				}
				if in != nil {
					became.Files = append(became.Files, delivered(d, in))
				}
			}
		}
	}
	return nil
}

// arrivedIn are outputs of values as they were delivered: each is known by the record that it begins with.
func arrivedIn(named []FileTo, first int, outputs []store.Delivery) (out []FileTo) {
	for _, f := range named {
		at := slices.IndexFunc(outputs, func(d store.Delivery) bool { return d.FirstRecord == f.first && d.Output == first+f.Destination })
		switch {
		case at >= 0:
			f = delivered(f.Destination, &outputs[at])
		case f.Name == flow.Unnamed:
			continue
		}
		out = append(out, f)
	}
	return out
}

func delivered(destination int, d *store.Delivery) FileTo {
	return FileTo{Destination: destination, Name: d.Name, Folder: d.Folder, Said: saidOf(d.Said)}
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
	if !p.Archived {
		return p, nil, store.ErrPurged
	}
	f, err := s.original(p.SHA256)
	return p, f, err
}

// original opens a file of the archive.
func (s *Service) original(sha256 string) (files.File, error) {
	f, err := s.engine.Archive.OpenChecked(sha256)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%w: its original is not in the archive", store.ErrNotSo)
	}
	return f, err
}
