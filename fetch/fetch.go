// Package fetch brings files from servers into a folder of this machine, from where they go on like any other.
//
// A file is claimed (a row), renamed on its server so that nobody changes it any more, copied beside the inbox,
// recorded with its hash, renamed into the inbox, and removed from the server. Whatever ends in between is gone on
// with: as with files of this machine the absence of what was to be renamed says that it was. A file that stays on
// its server is known by what the server says of it, and by its content.
package fetch

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"maps"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"ydrion/files"
	"ydrion/listen"
	"ydrion/remote"
	"ydrion/store"
	"ydrion/workspace"
)

// Records is what fetching asks of the database.
type Records interface {
	Adopt(ctx context.Context, node int64, route, place string) (open, known []store.Fetch, err error)
	BeginFetches(ctx context.Context, node int64, list []store.Fetch) ([]int64, error)
	Fetched(ctx context.Context, node int64, list []store.Fetch) error
	EndFetches(ctx context.Context, node int64, list []store.Fetch) error
	OpenFetches(ctx context.Context, ids []int64) (map[int64]bool, error)
	Gone(ctx context.Context, gone, back []int64) error
}

// Fetcher brings the files of one route.
type Fetcher struct {
	Route    string
	Settings workspace.Listen
	Place    string
	Below    string // the folder there
	Inbox    string // the folder here
	Node     int64
	InOrder  bool        // a file waits for older ones of which is not sure yet that they are complete
	Sure     func() bool // that nobody can have taken over what the node leads
	Mark     string      // of the installation
	FS       files.FS
	Places   *remote.Places
	Records  Records
	Log      *slog.Logger
	// Marker names the file that says that another one (name, folder) is complete; nil if none does.
	Marker func(name, folder string) string

	mu      sync.Mutex
	known   map[string]store.Fetch // that stay on the server, by path
	sums    map[string]bool        // of what is known
	seen    map[string]*seen       // that wait there, by path
	busy    map[string]bool        // whose fetching has begun, by path
	problem string
	since   time.Time
	gate    listen.Gate // which files may be taken
	demand  map[string]bool
	signal  chan struct{}
	fails   int
	moment  time.Time // up to which files were allowed by the last look

	vouched map[string]time.Time // when files were put back whose markers had been removed: they need none

	looks int           // into folders, by the look at hand
	later []store.Fetch // that lie here, whole, and wait for a file of their name
}

// seen is a file that waits on the server.
type seen struct {
	remote.Info
	path    string
	since   time.Time // that it has looked like this
	noticed time.Time
	allowed bool // by a moment of the timetable, or because somebody asks
	reason  string
	failed  string    // why it could not be fetched
	rest    time.Time // until then it is left alone
	tries   uint      // how often it could not be fetched
	marker  string
}

// Settle is how long a file must look the same where the route does not say: nobody can tell whether somebody still
// writes to it.
const Settle = 10 * time.Second

// groupFiles and groupBytes bound what is fetched together.
const (
	groupFiles = 256
	groupBytes = 64 << 20
)

// mostName is how long a name may be, in bytes: it is lengthened while it is worked on.
const mostName = 200

// Start makes the fetcher ready to be asked, before it runs.
func (f *Fetcher) Start() {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.seen, f.busy, f.demand, f.vouched = map[string]*seen{}, map[string]bool{}, map[string]bool{}, map[string]time.Time{}
	if f.signal == nil {
		f.signal = make(chan struct{}, 1)
	}
}

// Gate says which files may be taken.
func (f *Fetcher) Gate(g listen.Gate) {
	f.mu.Lock()
	wake := g.Open && !f.gate.Open || g.Until.After(f.gate.Until) || f.gate.Closed && !g.Closed
	if f.gate.Until.After(g.Until) {
		g.Until = f.gate.Until
	}
	f.gate = g
	f.mu.Unlock()
	if wake {
		f.wake()
	}
}

func (f *Fetcher) wake() {
	select {
	case f.signal <- struct{}{}:
	default: // it has been told already
	}
}

// Problem is why nothing can be fetched, empty if it can.
func (f *Fetcher) Problem() (problem string, since time.Time) {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.problem, f.since
}

// Demand lets a file be fetched now, whatever it waits for.
func (f *Fetcher) Demand(name string) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, s := range f.seen {
		if store.Readable(s.Name) == name || s.Mail != nil && s.Mail.Subject == name || store.Readable(strings.TrimPrefix(s.path, f.Below+"/")) == name {
			f.demand[s.path] = true
			f.wake()
			return nil
		}
	}
	return listen.ErrNotWaiting
}

// Waiting lists files that wait on the server and why, at most so many, and how many there are.
func (f *Fetcher) Waiting(most int) (list []listen.Waiting, all int) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, s := range f.seen {
		if f.busy[s.path] {
			continue
		}
		if all++; most > 0 {
			name := s.Name
			if s.Mail != nil {
				name = cmp.Or(s.Mail.Subject, name)
			}
			list = append(list, listen.Waiting{Path: "{" + f.Place + "}" + store.Readable(s.path), Name: store.Readable(name), Reason: cmp.Or(s.reason, f.gate.Reason, "it is about to be fetched"), Since: s.noticed})
		}
	}
	slices.SortFunc(list, func(a, b listen.Waiting) int { return cmp.Or(a.Since.Compare(b.Since), listen.Natural(a.Path, b.Path)) })
	return list[:min(most, len(list))], all
}

// Run fetches until the context ends.
func (f *Fetcher) Run(ctx context.Context) {
	f.Start()
	adopted := false
	for ctx.Err() == nil {
		var wait time.Duration
		err := func() error {
			if !adopted {
				if err := f.adopt(ctx); err != nil {
					return err
				}
				adopted = true
			}
			var err error
			wait, err = f.once(ctx)
			return err
		}()
		f.note(ctx, err)
		if err != nil {
			adopted = false // what was begun is gone on with
			f.mu.Lock()
			if wait = min(time.Second<<min(max(f.fails, 1)-1, 6), time.Minute); errors.Is(err, errNoFolder) {
				wait = min(wait, f.Settings.Rhythm) // it may be made at any time
			}
			f.mu.Unlock()
		}
		timer := time.NewTimer(max(wait, 10*time.Millisecond))
		select {
		case <-ctx.Done():
		case <-f.signal:
		case <-timer.C:
		}
		timer.Stop()
	}
}

// note remembers how fetching goes.
func (f *Fetcher) note(ctx context.Context, err error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	switch {
	case ctx.Err() != nil:
	case err == nil:
		f.problem, f.fails = "", 0
	default:
		if f.fails++; f.problem == "" {
			f.since = time.Now()
		}
		f.problem = err.Error()
		f.Log.Warn("files cannot be fetched; it will be tried again", "route", f.Route, "place", f.Place, "error", err)
	}
}

// takenTo is the folder on the server that files are moved into which were taken; empty: there is none.
func (f *Fetcher) takenTo() string {
	to := f.Settings.TakenTo
	if to == "" || path.IsAbs(to) {
		return to
	}
	return path.Join("/", f.Below, to)
}

// hidden is where files lie here until they are whole.
func (f *Fetcher) hidden() string { return filepath.Join(f.Inbox, files.Hidden) }

// temporary is where a file lies here until it is whole. It carries the number of the node that copies it: what a node still does
// that was given up never meets what its successor does.
func (f *Fetcher) temporary(x *store.Fetch) string {
	return filepath.Join(f.hidden(), fmt.Sprintf("%s%d-%d", f.prefix(), x.ID, x.By))
}

func (f *Fetcher) prefix() string { return "fetch-" + f.Mark + "-" }

// taken is where a file lies on the server while it is fetched.
func (f *Fetcher) taken(x *store.Fetch) string {
	return path.Join(path.Dir(x.Path), fmt.Sprintf("%s%s-%d-%s", takenPrefix, f.Mark, x.ID, path.Base(x.Path)))
}

const takenPrefix = files.Hidden + "-taken-"

// to is where a file is put here.
func (f *Fetcher) to(x *store.Fetch) string {
	below, is := strings.CutPrefix(x.Path, strings.TrimSuffix(f.Below, "/")+"/")
	if !is || x.Place != f.Place || !f.Settings.Subfolders {
		below = path.Base(x.Path) // the route fetched from somewhere else when it was begun
	}
	return filepath.Join(f.Inbox, below)
}

// adopt finds out what was begun before, and goes on with it.
func (f *Fetcher) adopt(ctx context.Context) error {
	if err := f.FS.MakeFolder(f.hidden(), 0o700); err != nil {
		return err
	}
	open, known, err := f.Records.Adopt(ctx, f.Node, f.Route, f.Place)
	if err != nil {
		return err
	}
	f.mu.Lock()
	f.known, f.sums, f.busy, f.later = map[string]store.Fetch{}, map[string]bool{}, map[string]bool{}, nil
	for _, x := range known {
		if strings.HasPrefix(x.SHA256, unmeant) && x.SHA256 != f.wanted() {
			continue // something else is asked for now
		}
		f.known[x.Path], f.sums[x.SHA256] = x, true
	}
	needed := map[string]bool{}
	for i := range open {
		f.busy[open[i].Path] = true
		if open[i].State == "claimed" {
			open[i].By = f.Node // what it had of it when the connection broke off, it goes on with
		}
		needed[filepath.Base(f.temporary(&open[i]))] = true
	}
	f.mu.Unlock()
	if entries, err := f.FS.List(f.hidden()); err == nil {
		for i := range open {
			if open[i].State != "claimed" {
				continue
			}
			if err := f.inherit(&open[i], entries); err != nil {
				f.Log.Warn("what was copied of a file cannot be gone on with; it is copied from its beginning", "route", f.Route, "file", open[i].Path, "error", err)
			}
		}
		for _, e := range entries {
			whole, _, _ := strings.Cut(e.Name, "+")
			if strings.HasPrefix(e.Name, f.prefix()) && !needed[whole] {
				f.FS.Remove(filepath.Join(f.hidden(), e.Name)) //nolint: it is looked for again
			}
		}
	}
	slices.SortFunc(open, func(a, b store.Fetch) int { return cmp.Or(strings.Compare(a.Place, b.Place), cmp.Compare(a.ID, b.ID)) })
	for len(open) > 0 {
		n := 1
		for n < min(len(open), groupFiles) && open[n].Place == open[0].Place {
			n++
		}
		if err := f.goOn(ctx, open[:n], true); err != nil {
			return err
		}
		open = open[n:]
	}
	return nil
}

// once looks what is there and fetches what is ready. It tells when to look again.
func (f *Fetcher) once(ctx context.Context) (time.Duration, error) {
	if later := f.later; len(later) > 0 {
		f.later = nil
		if err := f.goOn(ctx, later, true); err != nil {
			return 0, err
		}
		if len(f.later) > 0 {
			return blockedFor, nil // nothing passes them
		}
	}
	f.mu.Lock()
	looked, gate := time.Now(), f.gate
	f.mu.Unlock()
	var there []found
	err := f.Places.With(ctx, f.Place, func(t remote.Tree) error {
		var ours []found
		var err error
		there, ours, err = f.walk(t, f.Below, 0)
		if errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("%w %s at %s", errNoFolder, cmp.Or(f.Below, "/"), f.Place)
		}
		if err != nil {
			return err
		}
		return f.putBack(ctx, t, ours)
	})
	if err != nil {
		return 0, err
	}
	if err := f.missed(ctx, there); err != nil {
		return 0, err
	}
	ready, wait := f.account(there, looked, gate)
	for len(ready) > 0 && len(f.later) == 0 && ctx.Err() == nil {
		n, size := 0, int64(0)
		for n < len(ready) && n < groupFiles && (n == 0 || size+ready[n].Size <= groupBytes) {
			size += ready[n].Size
			n++
		}
		if err := f.fetch(ctx, ready[:n]); err != nil {
			return 0, err
		}
		ready = ready[n:]
	}
	if len(f.later) > 0 {
		wait = blockedFor
	}
	return wait, nil
}

// missed remembers which of what is known is not there any more: when that has been so for long, it is forgotten.
func (f *Fetcher) missed(ctx context.Context, there []found) error {
	if len(f.known) == 0 || slices.ContainsFunc(there, func(x found) bool { return x.problem != "" }) { // not all has been looked at
		return nil
	}
	is := make(map[string]bool, len(there))
	for _, x := range there {
		is[x.path] = true
	}
	now := time.Now()
	var gone, back []int64
	f.mu.Lock()
	for p, k := range f.known {
		switch {
		case !is[p] && k.GoneAt != nil && now.Sub(*k.GoneAt) > store.ForgottenAfter*24*time.Hour:
			delete(f.known, p)
			continue
		case !is[p] && k.GoneAt == nil:
			gone, k.GoneAt = append(gone, k.ID), &now
		case is[p] && k.GoneAt != nil:
			back, k.GoneAt = append(back, k.ID), nil
		default:
			continue
		}
		f.known[p] = k
	}
	f.mu.Unlock()
	if len(gone)+len(back) == 0 {
		return nil
	}
	return f.Records.Gone(ctx, gone, back)
}

// mayBeMeant tells whether the route is about what a server has. Of a line of a list that is not understood any end may be a name.
func (f *Fetcher) mayBeMeant(i remote.Info) bool {
	if f.Settings.Matches(i.Name) {
		return true
	}
	if i.Odd != "" {
		if i.Folder {
			return true
		}
		for words := strings.Fields(path.Base(i.Name)); len(words) > 0; words = words[1:] {
			if f.Settings.Matches(strings.Join(words, " ")) {
				return true
			}
		}
	}
	return false
}

// blockedFor is how long is waited until it is looked again whether a name is free.
const blockedFor = 250 * time.Millisecond

// folderOf is the folder that a file is in, below the one that is looked into.
func (f *Fetcher) folderOf(at string) string {
	return strings.Trim(strings.TrimPrefix(path.Dir(at), f.Below), "/")
}

var errNoFolder = errors.New("there is no folder")

// found is a file on the server.
type found struct {
	remote.Info
	path    string
	problem string // of a folder that cannot be looked into
}

// deepest is how many folders are looked into below each other, and mostFolders how many at all: folders may lead into themselves.
const (
	deepest     = 30
	mostFolders = 10_000
)

// walk looks through a folder of the server. Ours are files that were renamed to be fetched.
func (f *Fetcher) walk(t remote.Tree, folder string, depth int) (there, ours []found, err error) {
	if depth == 0 {
		f.looks = 0
	}
	f.looks++
	all, err := t.List(cmp.Or(folder, "/"))
	if err != nil {
		return nil, nil, err
	}
	for _, i := range all {
		at := path.Join(folder, i.Name)
		switch {
		case i.Odd != "" && i.Folder && !f.Settings.Subfolders:
		case i.Odd != "":
			there = append(there, found{Info: i, path: at})
		case i.Name == "" || i.Name == "." || i.Name == ".." || strings.ContainsAny(i.Name, "/\x00"):
		case strings.HasPrefix(i.Name, takenPrefix+f.Mark+"-"):
			ours = append(ours, found{Info: i, path: at})
		case strings.HasPrefix(i.Name, "."):
		case i.Folder:
			switch {
			case !f.Settings.Subfolders || at == f.takenTo(): // what was taken is not taken again
			case depth == deepest:
				there = append(there, found{i, at, fmt.Sprintf("it is not looked into: more than %d folders stand in each other", deepest)})
			case f.looks == mostFolders:
				there = append(there, found{i, at, fmt.Sprintf("it is not looked into: there are more than %d folders", mostFolders)})
			default:
				below, theirs, err := f.walk(t, at, depth+1)
				if remote.IsAway(err) {
					return nil, nil, err
				}
				if err != nil && !errors.Is(err, fs.ErrNotExist) { // whoever has closed his folder closes no other
					there = append(there, found{i, at, fmt.Sprintf("it cannot be looked into: %v", err)})
				}
				there, ours = append(there, below...), append(ours, theirs...)
			}
		default:
			there = append(there, found{Info: i, path: at})
		}
	}
	return there, ours, nil
}

// putBack gives files their names again that were renamed to be fetched, by a claim that nobody knows any more: the
// database has lost its latest records.
func (f *Fetcher) putBack(ctx context.Context, t remote.Tree, ours []found) error {
	var ids []int64
	of := map[int64]found{}
	for _, o := range ours {
		var id int64
		if n, err := fmt.Sscanf(strings.TrimPrefix(o.Name, takenPrefix+f.Mark+"-"), "%d-", &id); n == 1 && err == nil {
			ids = append(ids, id)
			of[id] = o
		}
	}
	if len(ids) == 0 {
		return nil
	}
	open, err := f.Records.OpenFetches(ctx, ids)
	if err != nil {
		return err
	}
	for id, o := range of {
		if open[id] || !f.Sure() {
			continue
		}
		name := strings.TrimPrefix(o.Name, fmt.Sprintf("%s%s-%d-", takenPrefix, f.Mark, id))
		err := t.Move(o.path, path.Join(path.Dir(o.path), name))
		if remote.IsAway(err) {
			return err
		}
		if errors.Is(err, fs.ErrNotExist) {
			continue // the list was not of now
		}
		f.Log.Warn("a file that was taken on a server, and that nobody knows of, was put back", "route", f.Route, "place", f.Place, "file", name, "error", err)
	}
	return nil
}

// compare is the order in which files are fetched.
func (f *Fetcher) compare(a, b *seen) int {
	if f.Settings.Notice == workspace.OnDemand { // the order is the route's own
		return listen.Natural(a.path, b.path)
	}
	return cmp.Or(a.Modified.Compare(b.Modified), listen.Natural(a.path, b.path))
}

// account takes account of what is on the server. It gives what is ready, in its order, and when to look again.
func (f *Fetcher) account(there []found, looked time.Time, gate listen.Gate) (ready []*seen, wait time.Duration) {
	names := map[string]bool{}
	for _, x := range there {
		names[x.path] = true
	}
	var markers *regexp.Regexp
	if f.Marker != nil {
		markers = listen.Markers(f.Marker)
	}
	report, _ := f.Places.Report(f.Place)
	got := report.Place.Kind == "http"
	var watched []*seen // of which is not sure yet that they are complete
	quiet := cmp.Or(f.Settings.Quiet, Settle)
	wait = f.Settings.Rhythm
	f.mu.Lock()
	defer f.mu.Unlock()
	for p := range f.seen {
		if !names[p] {
			delete(f.seen, p)
			delete(f.demand, p)
		}
	}
	maps.DeleteFunc(f.vouched, func(p string, put time.Time) bool { return !names[p] && !f.busy[p] && looked.After(put) })
	for _, x := range there {
		switch k, known := f.known[x.path]; {
		case x.Mail != nil && x.Odd == "" && !f.Settings.Mails.Fits(x.Mail.From, x.Mail.Subject), x.Mail == nil && !got && x.problem == "" && !f.mayBeMeant(x.Info), f.busy[x.path], markers != nil && markers.MatchString(x.Name):
			continue
		case x.problem == "" && !f.Settings.Since.IsZero() && !x.Modified.IsZero() && x.Modified.Before(f.Settings.Since):
			continue
		case known && x.Mail != nil && !strings.HasPrefix(k.SHA256, unmeant), known && x.Mail == nil && f.Settings.Originals == workspace.Left && (!f.Settings.Changes || k.Is(x.Size, x.Modified, x.Tag)):
			delete(f.seen, x.path)
			continue
		case known && x.Mail != nil && !f.demand[x.path]: // nothing of it was meant
			x.Info = remote.Info{Name: x.Name, Mail: x.Mail, Tag: unmeant}
		}
		s := f.seen[x.path]
		if s == nil || !s.Same(x.Info) {
			fresh := &seen{Info: x.Info, path: x.path, since: looked, noticed: looked}
			if s != nil {
				fresh.noticed, fresh.allowed, fresh.tries = s.noticed, s.allowed, s.tries
			}
			s, f.seen[x.path] = fresh, fresh
		}
		s.allowed = s.allowed || !gate.Until.IsZero() && looked.Sub(gate.Until) >= 0 && f.moment != gate.Until
		demand := f.demand[x.path]
		left := quiet - looked.Sub(s.since)
		s.reason, s.marker = "", ""
		if f.Marker != nil {
			if s.marker = path.Join(path.Dir(x.path), f.Marker(x.Name, f.folderOf(x.path))); names[s.marker] {
				left = 0
			} else if !demand && f.vouched[x.path].IsZero() {
				s.reason = fmt.Sprintf("its marker %s is not there", path.Base(s.marker))
			}
		}
		if x.Mail != nil || got {
			left = 0 // what is there is whole
		}
		switch rests := time.Until(s.rest); {
		case got && !f.Settings.Matches(x.Name):
			s.reason = "it is called as its address, or as its server says, and that is not meant (listen.names)"
		case x.problem != "":
			s.reason = x.problem
		case x.Odd != "":
			s.reason = x.Odd
		case x.Other:
			s.reason = "it is neither a file nor a folder (a link?), and is not taken"
		case x.Tag == unmeant:
			s.reason = f.known[x.path].Reason
		case len(x.Name) > mostName:
			s.reason = fmt.Sprintf("its name has %d bytes; names have %d at most", len(x.Name), mostName)
		case s.reason != "":
		case rests > 0 && !demand:
			s.reason = s.failed
			wait = min(wait, rests)
		case (gate.Closed || !gate.Open && !s.allowed) && !demand:
			s.reason = gate.Reason
		case left > 0 && !demand:
			s.reason = fmt.Sprintf("it is watched until it has looked the same for %s", quiet)
			wait = min(wait, left)
			if s.since.Equal(s.noticed) { // whoever goes on changing a file holds nobody but himself
				watched = append(watched, s)
			}
		default:
			ready = append(ready, s)
		}
	}
	f.moment = gate.Until
	slices.SortStableFunc(ready, f.compare)
	if f.InOrder && len(watched) > 0 {
		first := slices.MinFunc(watched, f.compare)
		ready = slices.DeleteFunc(ready, func(s *seen) bool { return !f.demand[s.path] && f.compare(s, first) > 0 })
	}
	return ready, wait
}
