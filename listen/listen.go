// Package listen notices files: by kernel events, by repeated looking, and with
// what was there before the start.
//
// A file becomes ready when its writer has closed it or it was renamed in, or
// when a repeated look at its size and time saw no change; and the quiet time
// has passed; and its marker is there and its last line is the last one, if the
// route wants that; and nobody has it open for writing or locked. Until then it
// waits, with a reason that can be asked for. Ready files stand in their order
// until they are fetched. Nothing that happens to one file stops the others.
package listen

import (
	"container/heap"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"math"
	"path/filepath"
	"regexp"
	"slices"
	"sort"
	"strings"
	"sync"
	"time"

	"ydrion/core/text"
	"ydrion/files"
	"ydrion/workspace"
)

// What happened to a file.
const (
	Arrived = "arrived"
	Changed = "changed"
	Gone    = "gone"
)

// Candidate is a file that is ready to be taken.
type Candidate struct {
	Path    string
	Folder  string // below the listened folder, empty if directly in it
	Name    string
	Info    files.Info
	Noticed time.Time
	Event   string
	Marker  string // path of its marker file, empty if it has none
	SHA256  string // of a file that is gone: its last content
	Demand  bool   // somebody wants it now, whatever it waits for
	Order   int64  // grows with the order in which files came
}

// Gate says which files may be taken.
type Gate struct {
	Open   bool      // all, as they come
	Closed bool      // none, but those that somebody wants now
	Until  time.Time // those that are there then, if neither
	Reason string    // why no others are
}

// Waiting is a file that has not been taken, and why.
type Waiting struct {
	Path   string    `json:"path"`
	Name   string    `json:"name"`
	Reason string    `json:"reason"`
	Since  time.Time `json:"since"`
}

// Known is a file that was picked up before and left where it is.
type Known struct {
	Info   files.Info
	SHA256 string
}

// same tells whether nothing has happened to a file since it was picked up. The
// database keeps microseconds.
func (k *Known) same(i files.Info) bool {
	return k.Info.Size == i.Size && k.Info.Modified.Truncate(time.Microsecond).Equal(i.Modified.Truncate(time.Microsecond)) && k.Info.Inode == i.Inode && k.Info.Device == i.Device
}

// Listener watches one folder for one route.
type Listener struct {
	Settings workspace.Listen
	ByName   bool   // ready files stand in the order of their names, otherwise of their arrival or (ByTime) of their times
	ByTime   bool   // of the last change
	InOrder  bool   // a ready file waits for those before it of which is not sure yet that they are complete
	Folder   string // resolved
	FS       files.FS
	Log      *slog.Logger
	Watch    *Watcher // kernel events, nil for none
	// Marker names the file that says that another one (name, folder) is
	// complete; nil if none does.
	Marker func(name, folder string) string
	// Ahead is told which files may be brought into the folder, where they come from elsewhere; nil where they do not.
	Ahead func(Gate)
	// Left are files that were picked up and left, by path; nil unless originals
	// are left.
	Left map[string]Known

	mu       sync.Mutex
	known    map[string]*seen
	waiters  map[string]*seen // those with a time to be considered again
	settlers map[string]*seen // those that were found by a look and only have to look the same once more
	sub      *subscription    // to kernel events, nil if there is none
	up       chan struct{}    // closed when it listens
	markers  *regexp.Regexp   // names of marker files
	ready    queue
	order    int64
	demands  int             // files in the queue that somebody wants now
	missing  map[string]bool // left files that a look did not see
	gate     string          // why ready files are not fetched
	wake     chan struct{}   // receives when a file has to be considered anew
	fetch    chan struct{}   // receives when a file has become ready
}

// seen is what is known of a file that was noticed.
type seen struct {
	info    files.Info
	noticed time.Time
	changed time.Time // our clock, when we last saw a difference
	recheck time.Time // when to consider it again; zero: when something happens
	tries   int       // how often it was considered in vain
	closed  bool      // closed after writing, or moved in
	given   bool      // stands in the queue, or was fetched
	fetched bool
	reason  string
	unable  time.Time // since when it cannot be looked at or opened; zero if it can
	order   int64
	marker  string
	readyAt time.Time
}

// settle is how long a file must look the same when there was no event that
// says that it is complete.
const settle = time.Second

// settleUnsure is how long that is where nobody can tell whether the file is still open
// for writing: its writer may rest for a while.
const settleUnsure = 10 * time.Second

// Start makes a listener ready to be asked, before it runs.
func (l *Listener) Start() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.known, l.waiters, l.settlers, l.ready, l.missing = map[string]*seen{}, map[string]*seen{}, map[string]*seen{}, nil, map[string]bool{}
	if l.Marker != nil {
		l.markers = Markers(l.Marker)
	}
	if l.wake == nil {
		l.wake, l.fetch, l.up = make(chan struct{}, 1), make(chan struct{}, 1), make(chan struct{})
	}
}

// Markers matches the names of files that say that others are complete.
func Markers(marker func(name, folder string) string) *regexp.Regexp {
	pattern := regexp.QuoteMeta(marker("\x01.\x02", ""))
	return regexp.MustCompile("^" + strings.NewReplacer("\x01\\.\x02", ".+", "\x01", ".+", "\x02", ".+").Replace(pattern) + "$")
}

// Up is closed when the listener notices files: what comes from then on is seen. After it
// has failed there is another one.
func (l *Listener) Up() <-chan struct{} {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.up
}

// isDown says that files are not noticed any more.
func (l *Listener) isDown() {
	l.mu.Lock()
	defer l.mu.Unlock()
	select {
	case <-l.up:
		l.up = make(chan struct{})
	default:
	}
}

// isUp says that files are noticed.
func (l *Listener) isUp() {
	l.mu.Lock()
	defer l.mu.Unlock()
	select {
	case <-l.up:
	default:
		close(l.up)
	}
}

// Run listens until the context ends.
func (l *Listener) Run(ctx context.Context) error {
	l.Start()
	defer l.isDown()
	if err := l.FS.MakeFolder(l.Folder, 0o755); err != nil {
		return err
	}
	var events <-chan struct{}
	l.sub = nil
	if l.Watch != nil && l.Settings.Notice != workspace.ByLooks {
		var err error
		if l.sub, err = l.Watch.subscribe(l.FS, l.Folder, l.Settings.Subfolders); err != nil {
			l.Log.Warn("no kernel events here, looking instead", "folder", l.Folder, "error", err)
		} else {
			defer l.sub.end()
			events = l.sub.wake
		}
	}
	l.look(ctx)
	l.isUp()
	rhythm := time.NewTicker(l.Settings.Rhythm)
	defer rhythm.Stop()
	for {
		var recheck <-chan time.Time
		if next := l.next(); !next.IsZero() {
			recheck = time.After(max(0, time.Until(next)))
		}
		select {
		case <-ctx.Done():
			return nil
		case <-events:
			if again := l.handle(ctx, l.sub); again {
				return fmt.Errorf("the folder %s was moved or removed", l.Folder)
			}
		case <-rhythm.C:
			if l.sub != nil && l.sub.moved(l.Folder) {
				// Something was mounted over it, or no more.
				if err := l.sub.add(l.Folder); err != nil {
					return err
				}
			}
			l.look(ctx)
		case <-recheck:
			l.retry(ctx)
		case <-l.wake: // whether and when is asked at the top
		}
	}
}

// handle takes account of what the kernel told. It is true if the listened
// folder is no longer the same.
func (l *Listener) handle(ctx context.Context, sub *subscription) bool {
	lost := false
	for _, e := range sub.take() {
		switch {
		case e.lost:
			lost = true
		case lost: // everything is looked through in any case
		case e.folder:
			if err := sub.add(e.path); err != nil && !files.Vanished(err) {
				l.Log.Warn("a folder is not watched, only looked into", "folder", e.path, "error", err)
			}
			found, _ := l.walk(ctx, e.path, nil)
			l.accountAll(ctx, found)
		case e.begun:
			l.begun(e.path)
		default:
			l.note(ctx, e.path, true)
		}
	}
	if lost {
		if err := sub.add(l.Folder); err != nil {
			return true
		}
		l.look(ctx)
	}
	return false
}

// Folders are the folders that are listened to: the one named and, if wanted,
// all below it.
func (l *Listener) Folders() []string {
	out := []string{l.Folder}
	for i := 0; l.Settings.Subfolders && i < len(out); i++ {
		entries, err := l.FS.List(out[i])
		if err != nil {
			continue // it is reported when it is looked through
		}
		for _, e := range entries {
			if e.Mode.IsDir() && !strings.HasPrefix(e.Name, ".") {
				out = append(out, filepath.Join(out[i], e.Name))
			}
		}
	}
	return out
}

// look goes through the whole folder, in the order in which files came as far as that
// can be told.
func (l *Listener) look(ctx context.Context) {
	found, whole := l.walk(ctx, l.Folder, nil)
	l.accountAll(ctx, found)
	there := make(map[string]bool, len(found))
	for _, f := range found {
		there[f.path] = true
	}
	l.unmarked()
	l.mu.Lock()
	defer l.mu.Unlock()
	for path, s := range l.known {
		if !there[path] && !s.fetched {
			l.drop(path)
		}
	}
	if whole && l.Settings.Gone {
		l.miss(there)
	}
}

// accountAll takes account of files that a look has met, in the order in which they came.
func (l *Listener) accountAll(ctx context.Context, found []found) {
	sort.SliceStable(found, func(i, j int) bool {
		if c := found[i].info.Arrived.Compare(found[j].info.Arrived); c != 0 {
			return c < 0
		}
		return Natural(found[i].path, found[j].path) < 0
	})
	for _, f := range found {
		l.account(ctx, f.path, f.info, nil, false)
	}
}

// found is a file that a look has met.
type found struct {
	path string
	info files.Info
}

// unmarked finds ready files whose marker was taken away again: they wait for it.
func (l *Listener) unmarked() {
	if l.Marker == nil {
		return
	}
	l.mu.Lock()
	markers := map[string]string{}
	for path, s := range l.known {
		if s.given && !s.fetched && s.marker != "" {
			markers[path] = s.marker
		}
	}
	l.mu.Unlock()
	for path, marker := range markers {
		if _, err := l.FS.Look(marker); errors.Is(err, fs.ErrNotExist) {
			l.mu.Lock()
			l.unready(path, noMarker(marker))
			l.mu.Unlock()
		}
	}
}

func noMarker(marker string) string {
	return fmt.Sprintf("its marker %s is not there", text.Readable(filepath.Base(marker)))
}

// unready lets a file that was ready wait again. The caller holds the lock.
func (l *Listener) unready(path, reason string) {
	if s := l.known[path]; s != nil {
		s.given, s.fetched, s.reason = false, false, reason
	}
}

// miss finds the left files that are gone: two looks in a row have not seen
// them, while the folder could be looked into.
func (l *Listener) miss(there map[string]bool) {
	for path, k := range l.Left {
		switch s := l.known[path]; {
		case there[path]:
			delete(l.missing, path)
		case !l.missing[path]:
			l.missing[path] = true
		case s == nil:
			s = l.newSeen(time.Now())
			s.info, s.given = k.Info, true
			l.known[path] = s
			l.offer(Candidate{Order: s.order, Path: path, Folder: l.below(path), Name: filepath.Base(path), Info: k.Info, Noticed: s.noticed, Event: Gone, SHA256: k.SHA256})
		}
	}
}

// walk looks through a folder and tells whether all of it could be seen.
func (l *Listener) walk(ctx context.Context, folder string, all []found) ([]found, bool) {
	entries, err := l.FS.List(folder)
	if err != nil {
		if !files.Vanished(err) || folder == l.Folder {
			l.Log.Warn("a folder cannot be looked into", "folder", folder, "error", err)
		}
		return all, false
	}
	whole := true
	for _, e := range entries {
		path := filepath.Join(folder, e.Name)
		switch {
		case ctx.Err() != nil:
			return all, false
		case strings.HasPrefix(e.Name, "."):
		case e.Mode.IsDir():
			if l.Settings.Subfolders {
				var seen bool
				all, seen = l.walk(ctx, path, all)
				whole = whole && seen
			}
		default:
			all = append(all, found{path, e})
		}
	}
	return all, whole
}

// begun takes account of a file that has just been created: it waits for its
// writer, and people can see it.
func (l *Listener) begun(path string) {
	if !l.Settings.Matches(filepath.Base(path)) || l.isMarker(filepath.Base(path)) {
		return
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.known[path] == nil {
		now := time.Now()
		s := l.newSeen(now)
		s.reason = "it is being written"
		l.known[path] = s
		l.considerAt(path, s, now.Add(settle))
	}
}

// newSeen begins to know a file. The caller holds the lock.
func (l *Listener) newSeen(now time.Time) *seen {
	l.order++
	return &seen{noticed: now, changed: now, order: l.order}
}

// considerAt sets when a file is considered again; zero: when something happens.
// The caller holds the lock.
func (l *Listener) considerAt(path string, s *seen, at time.Time) {
	if s.recheck = at; at.IsZero() {
		delete(l.waiters, path)
	} else {
		l.waiters[path] = s
	}
}

// drop forgets a file. The caller holds the lock.
func (l *Listener) drop(path string) {
	delete(l.known, path)
	delete(l.waiters, path)
	l.settled(path)
}

// settled says that nobody has to wait any more to know whether a file is complete. The
// caller holds the lock.
func (l *Listener) settled(path string) {
	if _, is := l.settlers[path]; is {
		delete(l.settlers, path)
		l.tell()
	}
}

// note takes account of a file; closed says that an event told that it is
// complete.
func (l *Listener) note(ctx context.Context, path string, closed bool) {
	info, err := l.FS.Look(path)
	l.account(ctx, path, info, err, closed)
}

func (l *Listener) account(ctx context.Context, path string, info files.Info, err error, closed bool) {
	name := filepath.Base(path)
	if l.isMarker(name) {
		l.marked(ctx, path)
		return
	}
	if !l.Settings.Matches(name) {
		return
	}
	now := time.Now()
	l.mu.Lock()
	s := l.known[path]
	if errors.Is(err, fs.ErrNotExist) {
		if s != nil && !s.fetched {
			l.drop(path)
		}
		l.mu.Unlock()
		return
	}
	if s != nil && s.fetched && (!closed || s.info.Same(info)) {
		l.mu.Unlock() // it is being taken; the event was late
		return
	}
	left, isLeft := l.Left[path]
	if isLeft && err == nil && (left.same(info) || !l.Settings.Changes) {
		l.drop(path)
		l.mu.Unlock()
		return
	}
	if s == nil || s.fetched {
		l.drop(path)
		s = l.newSeen(now)
		s.info = info
		l.known[path] = s
	} else if !s.info.Same(info) {
		s.info, s.changed, s.closed, s.given = info, now, false, false
	}
	s.closed = s.closed || closed
	if closed {
		s.given = false
	}
	l.mu.Unlock()
	event := Arrived
	if isLeft {
		event = Changed
	}
	l.consider(path, s, info, err, event)
}

// consider decides whether a file is ready.
func (l *Listener) consider(path string, s *seen, info files.Info, lookErr error, event string) {
	l.mu.Lock()
	given, closed, changed, noticed := s.given, s.closed, s.changed, s.noticed
	l.mu.Unlock()
	if given {
		return
	}
	reason, state, again := l.reason(path, closed, changed, info, lookErr)
	marker, settling := "", reason == unsettled && !closed && changed.Equal(noticed)
	if reason == "" {
		marker, reason = l.complete(path, info)
		again = patience(s.tries)
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.known[path] != s {
		return // it was taken meanwhile, or is known anew
	}
	s.reason, s.marker = reason, marker
	if settling {
		l.settlers[path] = s
	} else {
		defer l.settled(path)
	}
	l.considerAt(path, s, time.Time{})
	if state == busy {
		s.closed, s.changed = false, time.Now()
	}
	if state != unable {
		s.unable = time.Time{}
	} else if s.unable.IsZero() {
		s.unable = time.Now()
	}
	if reason != "" {
		s.tries++
		if again > 0 {
			l.considerAt(path, s, time.Now().Add(again))
		}
		return
	}
	s.given, s.readyAt = true, time.Now()
	l.offer(Candidate{Path: path, Folder: l.below(path), Name: filepath.Base(path), Info: info, Noticed: noticed, Event: event, Marker: marker, Order: s.order})
}

// patience is how long a file waits until it is considered again: a long waiter
// not so often.
func patience(tries int) time.Duration {
	return min(100*time.Millisecond<<min(tries, 6), 5*time.Second)
}

func (l *Listener) below(path string) string {
	folder, err := filepath.Rel(l.Folder, filepath.Dir(path))
	if err != nil || folder == "." {
		return ""
	}
	return folder
}

// before is the reason of files that are older than the listener's beginning.
const before = "older than the route's beginning (listen.since)"

// unsettled is the reason of files that have to look the same once more.
const unsettled = "waiting to see whether it still changes"

// longestName leaves room for what a held file's name is preceded by.
const longestName = 220

// state is what a file that is not ready waits for.
type state int

const (
	waits  state = iota
	busy         // for somebody who writes
	unable       // for a person who does something about it
)

// reason says why a file is not ready, empty if it is; what it waits for; and when to ask
// again (0: when something happens).
func (l *Listener) reason(path string, closed bool, changed time.Time, info files.Info, err error) (reason string, state state, again time.Duration) {
	switch {
	case err != nil:
		return "it cannot be looked at: " + err.Error(), unable, time.Second
	case info.Mode&fs.ModeSymlink != 0:
		return "it is a symbolic link; links are not followed out of the folder", unable, 0
	case !info.Regular():
		return "it is not an ordinary file", unable, 0
	case len(info.Name) > longestName:
		return fmt.Sprintf("its name is longer than %d bytes", longestName), unable, 0
	case !l.Settings.Since.IsZero() && info.Modified.Before(l.Settings.Since):
		return before, waits, 0
	}
	free, sure, err := l.FS.Free(path)
	switch {
	case errors.Is(err, fs.ErrPermission):
		return "permission to read it is missing", unable, time.Second
	case err != nil:
		return "it cannot be opened: " + err.Error(), unable, time.Second
	case free != "":
		return free, busy, 250 * time.Millisecond
	}
	quiet := l.Settings.Quiet
	switch {
	case closed:
	case sure || quiet > 0:
		quiet = max(quiet, settle)
	default:
		quiet = settleUnsure
	}
	if left := quiet - time.Since(changed); left > 0 {
		return unsettled, waits, left
	}
	return "", waits, 0
}

// complete asks for the marker and the last line, if the route wants them.
func (l *Listener) complete(path string, info files.Info) (marker, reason string) {
	if l.Marker != nil {
		marker = filepath.Join(filepath.Dir(path), l.Marker(filepath.Base(path), l.below(path)))
		if _, err := l.FS.Look(marker); err != nil {
			return "", noMarker(marker)
		}
	}
	if l.Settings.EndsWith != nil {
		last, err := l.lastLine(path, info.Size)
		if err != nil {
			return "", "it cannot be read: " + err.Error()
		}
		if !l.Settings.EndsWith.MatchString(last) {
			return "", fmt.Sprintf("its last line does not match %s: it may not be complete", l.Settings.EndsWith)
		}
	}
	return marker, ""
}

// LastSize is how much of a file's end is searched for its last line.
const LastSize = 64 << 10

// lastLine reads the last line of a file.
func (l *Listener) lastLine(path string, size int64) (string, error) {
	f, err := l.FS.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	if seeker, ok := f.(io.Seeker); ok && size > LastSize {
		if _, err := seeker.Seek(size-LastSize, io.SeekStart); err != nil {
			return "", err
		}
	}
	b, err := io.ReadAll(io.LimitReader(f, 2*LastSize))
	if err != nil {
		return "", err
	}
	return LastLine(b), nil
}

// LastLine is the last line of a text that is not blank. Segments of an interchange without line ends are lines too.
func LastLine(b []byte) string {
	end := strings.TrimRight(string(b), " \t\r\n\x00\x1a")
	return end[strings.LastIndexAny(strings.TrimRight(end, "~'"), "\r\n~'")+1:]
}

// isMarker tells whether a name is that of a marker file.
func (l *Listener) isMarker(name string) bool { return l.markers != nil && l.markers.MatchString(name) }

// marked considers the files of a folder for which a marker may have come.
func (l *Listener) marked(ctx context.Context, marker string) {
	l.mu.Lock()
	var paths []string
	for path, s := range l.known {
		if !s.given && filepath.Dir(path) == filepath.Dir(marker) && filepath.Join(filepath.Dir(path), l.Marker(filepath.Base(path), l.below(path))) == marker {
			paths = append(paths, path)
		}
	}
	l.mu.Unlock()
	for _, path := range paths {
		l.note(ctx, path, false)
	}
}

// next says when a waiting file wants to be considered again; zero if none does.
func (l *Listener) next() time.Time {
	l.mu.Lock()
	defer l.mu.Unlock()
	var next time.Time
	for _, s := range l.waiters {
		if next.IsZero() || s.recheck.Before(next) {
			next = s.recheck
		}
	}
	return next
}

func (l *Listener) retry(ctx context.Context) {
	now := time.Now().Add(5 * time.Millisecond)
	l.mu.Lock()
	var paths []string
	for path, s := range l.waiters {
		if !s.recheck.After(now) {
			paths = append(paths, path)
			delete(l.waiters, path) // if it still has to wait, it is told when it is considered
		}
	}
	l.mu.Unlock()
	sort.Strings(paths)
	for _, path := range paths {
		l.note(ctx, path, false)
	}
}

// standing is a ready file in the queue.
type standing struct {
	Candidate
	key string
	at  time.Time
}

// before tells which of two ready files is fetched first.
func (a *standing) before(b *standing) bool {
	if a.Demand != b.Demand {
		return a.Demand
	}
	if c := a.at.Compare(b.at); c != 0 {
		return c < 0
	}
	if c := Natural(a.key, b.key); c != 0 {
		return c < 0
	}
	return a.Order < b.Order
}

// stand gives a file its place among others.
func (l *Listener) stand(c Candidate) standing {
	s := standing{Candidate: c}
	switch {
	case l.ByName:
		s.key = c.Name
	case l.ByTime:
		s.at, s.key = c.Info.Modified, c.Name
	}
	return s
}

// queue is a heap of ready files.
type queue []standing

func (q queue) Len() int           { return len(q) }
func (q queue) Less(i, j int) bool { return q[i].before(&q[j]) }
func (q queue) Swap(i, j int)      { q[i], q[j] = q[j], q[i] }
func (q *queue) Push(x any)        { *q = append(*q, x.(standing)) }
func (q *queue) Pop() any {
	last := len(*q) - 1
	x := (*q)[last]
	(*q)[last] = standing{}
	*q = (*q)[:last]
	return x
}

// offer puts a ready file into the queue. The caller holds the lock.
func (l *Listener) offer(c Candidate) {
	if c.Demand {
		l.demands++
	}
	heap.Push(&l.ready, l.stand(c))
	l.tell()
}

func (l *Listener) tell() {
	select {
	case l.fetch <- struct{}{}:
	default: // it has been told already
	}
}

// Ready receives when files have become ready since it last received.
func (l *Listener) Ready() <-chan struct{} { return l.fetch }

// ErrNotWaiting says that a file is not among those that a listener watches.
var ErrNotWaiting = errors.New("there is no such file in the route's inbox")

// Demand lets a file be fetched next, whatever it waits for: its time, its
// marker, its last line, the route's beginning. A file that somebody is writing
// stays where it is.
func (l *Listener) Demand(name string) error {
	path := filepath.Join(l.Folder, name)
	if !filepath.IsLocal(name) || strings.Contains("/"+name, "/.") || !l.Settings.Subfolders && strings.Contains(name, "/") {
		return ErrNotWaiting
	}
	info, err := l.FS.Look(path)
	if errors.Is(err, fs.ErrNotExist) {
		return ErrNotWaiting
	}
	if err != nil {
		return err
	}
	if !info.Regular() {
		return fmt.Errorf("%s is not an ordinary file", name)
	}
	if reason, _, err := l.FS.Free(path); err != nil || reason != "" {
		return errors.Join(err, errors.New(reason))
	}
	now := time.Now()
	l.mu.Lock()
	defer l.mu.Unlock()
	s := l.known[path]
	if s != nil && s.fetched {
		return errors.New("it is being taken already")
	}
	if s == nil {
		s = l.newSeen(now)
		l.known[path] = s
	}
	l.considerAt(path, s, time.Time{})
	l.settled(path)
	s.info, s.given, s.reason, s.marker, s.readyAt = info, true, "", "", now
	l.offer(Candidate{Order: s.order, Path: path, Folder: l.below(path), Name: filepath.Base(path), Info: info, Noticed: s.noticed, Event: Arrived, Demand: true})
	return nil
}

// Fetch gives up to so many ready files in their order: those that were noticed
// until a moment or, with the zero time, all. With none, only those that
// somebody demands. Files that are gone or changed since they became ready are
// left out.
func (l *Listener) Fetch(most int, until time.Time, none bool) []Candidate {
	out := l.pop(most, until, none)
	if l.Marker == nil {
		return out
	}
	return slices.DeleteFunc(out, func(c Candidate) bool {
		if c.Marker == "" {
			return false
		}
		_, err := l.FS.Look(c.Marker)
		if !errors.Is(err, fs.ErrNotExist) {
			return false
		}
		l.mu.Lock()
		defer l.mu.Unlock()
		l.unready(c.Path, noMarker(c.Marker))
		return true
	})
}

func (l *Listener) pop(most int, until time.Time, none bool) []Candidate {
	l.mu.Lock()
	defer l.mu.Unlock()
	if none && l.demands == 0 {
		return nil
	}
	l.demands = 0
	// What may come before others is waited for.
	var first *standing
	for path, s := range l.settlers {
		if !l.InOrder {
			break
		}
		if at := l.stand(Candidate{Path: path, Name: filepath.Base(path), Info: s.info, Order: s.order}); first == nil || at.before(first) {
			first = &at
		}
	}
	var out []Candidate
	var late []standing
	for len(out) < most && len(l.ready) > 0 {
		c := heap.Pop(&l.ready).(standing)
		s := l.known[c.Path]
		if s == nil || !s.given || s.fetched || !s.info.Same(c.Info) {
			continue
		}
		if !c.Demand && (none || !until.IsZero() && c.Noticed.After(until) || first != nil && first.before(&c)) {
			late = append(late, c)
			if !none && until.IsZero() {
				break // whatever follows waits too
			}
			continue
		}
		s.fetched = true
		out = append(out, c.Candidate)
	}
	for _, c := range late {
		heap.Push(&l.ready, c)
	}
	return out
}

// Return puts fetched files back to where they stood, with a reason why they were not
// taken.
func (l *Listener) Return(list []Candidate, reason string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, c := range list {
		if s := l.known[c.Path]; s != nil && s.fetched {
			s.fetched, s.reason = false, reason
			if c.Demand {
				l.demands++
			}
			heap.Push(&l.ready, l.stand(c))
		}
	}
}

// Rest lets fetched files lie that wait for others: they are not fetched again unless they change, somebody demands
// them, or Again says so.
func (l *Listener) Rest(paths ...string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, path := range paths {
		if s := l.known[path]; s != nil {
			s.fetched = false
		}
	}
}

// Gone gives those of some files that are not there any more.
func (l *Listener) Gone(paths []string) []string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return slices.DeleteFunc(paths, func(path string) bool { return l.known[path] != nil })
}

// Before is told of a file that came before everything else that is there, in the order
// of a rank, and that was put back into the folder.
func (l *Listener) Before(path string, rank int64) {
	l.mu.Lock()
	defer l.mu.Unlock()
	now := time.Now()
	s := l.known[path]
	if s == nil || s.fetched {
		s = &seen{noticed: now, changed: now}
		l.known[path] = s
	} else if s.given {
		// It was noticed again before this was told: it stands in another place now.
		s.given = false
		s.changed = s.noticed
	}
	s.order = math.MinInt64/2 + rank
	s.reason = unsettled
	l.settlers[path] = s
	l.considerAt(path, s, now)
	select {
	case l.wake <- struct{}{}:
	default: // it has been told already
	}
}

// Gate says why ready files are not fetched for now; empty if they are.
func (l *Listener) Gate(reason string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.gate = reason
}

// Again lets a fetched file be found anew after a while, because it could not
// be taken.
func (l *Listener) Again(path, reason string, after time.Duration) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if s := l.known[path]; s != nil {
		s.given, s.fetched, s.reason, s.changed = false, false, reason, time.Now()
		l.considerAt(path, s, time.Now().Add(after))
		select {
		case l.wake <- struct{}{}:
		default: // it has been told already
		}
	}
}

// Parked says why a fetched file is not taken yet.
func (l *Listener) Parked(reason string, paths ...string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, path := range paths {
		if s := l.known[path]; s != nil {
			s.reason = reason
		}
	}
}

// Forget is told when a file with that inode has been taken. It may have been noticed
// anew since it was fetched; another file of its name has not been taken.
func (l *Listener) Forget(path string, inode uint64) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if s := l.known[path]; s != nil && (s.fetched || s.info.Inode == inode) {
		l.drop(path)
	}
}

// Leave is told when a file has been picked up that stays where it is, and tells
// whether it was known with the same content before.
func (l *Listener) Leave(path string, k Known) (same bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	before, known := l.Left[path]
	l.Left[path] = k
	l.drop(path)
	return known && before.SHA256 == k.SHA256
}

// Unleave is told when a left file is known to be gone.
func (l *Listener) Unleave(path string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	delete(l.Left, path)
	delete(l.missing, path)
	l.drop(path)
}

// Complete lists the files that have come and are complete, but have not been
// taken: they wait for their turn, their time or their lane.
func (l *Listener) Complete() []Waiting {
	l.mu.Lock()
	defer l.mu.Unlock()
	var out []Waiting
	for path, s := range l.known {
		if s.given && (!s.fetched || s.reason != "") {
			out = append(out, waiting(path, s.reason, s))
		}
	}
	return out
}

// waiting shows a file that has not been taken.
func waiting(path, reason string, s *seen) Waiting {
	return Waiting{text.Readable(path), text.Readable(filepath.Base(path)), reason, s.noticed}
}

// Oldest gives the file that has been ready for longest and waits for nothing but its
// turn.
func (l *Listener) Oldest() (path string, since time.Time, ok bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for at, s := range l.known {
		if s.given && (s.reason == "" || s.reason == Turn) && (!ok || s.readyAt.Before(since)) {
			path, since, ok = at, s.readyAt, true
		}
	}
	return path, since, ok
}

// Unable gives the file that could not be looked at or opened for longest, why, and how
// many there are, counting those of which that is so since before a time.
func (l *Listener) Unable(before time.Time) (path, reason string, since time.Time, n int) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for at, s := range l.known {
		if s.unable.IsZero() || s.unable.After(before) {
			continue
		}
		if n++; n == 1 || s.unable.Before(since) {
			path, reason, since = at, s.reason, s.unable
		}
	}
	return path, reason, since, n
}

// Turn is the reason of ready files that wait for nothing but their turn.
const Turn = "it is ready and waits for its turn"

// Waiting lists up to so many files that have not been taken, with the reason,
// and says how many there are.
func (l *Listener) Waiting(most int) (list []Waiting, all int) {
	l.mu.Lock()
	defer l.mu.Unlock()
	list = []Waiting{}
	for path, s := range l.known {
		reason := s.reason
		switch {
		case s.fetched && reason == "":
			continue // it is being taken
		case s.given && !s.fetched && l.gate != "":
			reason = l.gate
		case s.given && !s.fetched && reason == "":
			reason = Turn
		}
		list = append(list, waiting(path, reason, s))
	}
	all = len(list)
	slices.SortFunc(list, func(a, b Waiting) int {
		if c := a.Since.Compare(b.Since); c != 0 {
			return c
		}
		return strings.Compare(a.Path, b.Path)
	})
	return slices.Clip(list[:min(most, all)]), all
}
