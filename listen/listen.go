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
	"context"
	"fmt"
	"log/slog"
	"regexp"
	"sync"
	"time"

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
	back     map[string]int64 // where files stand of which it was told before it began anew, by path
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

// Start makes a listener ready to be asked, before it runs.
func (l *Listener) Start() {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.back == nil {
		l.back = map[string]int64{}
	}
	for path, s := range l.known {
		if s.order < 0 && !s.fetched { // it has been told of before it looked
			l.back[path] = s.order
		}
	}
	l.known, l.waiters, l.settlers, l.ready, l.missing = map[string]*seen{}, map[string]*seen{}, map[string]*seen{}, nil, map[string]bool{}
	if l.Marker != nil {
		l.markers = Markers(l.Marker)
	}
	if l.wake == nil {
		l.wake, l.fetch, l.up = make(chan struct{}, 1), make(chan struct{}, 1), make(chan struct{})
	}
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
	l.mu.Lock()
	l.back = nil // what was there has its place
	l.mu.Unlock()
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
