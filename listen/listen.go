// Package listen notices files: by kernel events, by repeated looking, and with
// what was there before the start.
//
// A file becomes ready when its writer has closed it or it was renamed in, or
// when a repeated look at its size and time saw no change; and the quiet time
// has passed; and nobody has it open for writing or locked. Until then it
// waits, with a reason that can be asked for. Nothing that happens to one file
// stops the others.
package listen

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"path/filepath"
	"sort"
	"strings"
	"sync"
	"time"

	"ydrion/files"
	"ydrion/workspace"
)

// Candidate is a file that is ready to be taken.
type Candidate struct {
	Path    string
	Folder  string // below the listened folder, empty if directly in it
	Name    string
	Info    files.Info
	Noticed time.Time
}

// Waiting is a file that is not ready, and why.
type Waiting struct {
	Path   string    `json:"path"`
	Name   string    `json:"name"`
	Reason string    `json:"reason"`
	Since  time.Time `json:"since"`
}

// Listener watches one folder for one route.
type Listener struct {
	Settings workspace.Listen
	Folder   string // resolved
	FS       files.FS
	Log      *slog.Logger
	Ready    chan<- Candidate

	mu    sync.Mutex
	known map[string]*seen
	wake  chan struct{} // receives when a file has to be considered anew
}

// seen is what is known of a file that was noticed.
type seen struct {
	info    files.Info
	noticed time.Time
	changed time.Time // our clock, when we last saw a difference
	closed  bool      // closed after writing, or moved in
	given   bool      // handed out as a candidate
	reason  string
}

// settle is how long a file must look the same when there was no event that
// says that it is complete.
const settle = time.Second

// Run listens until the context ends.
func (l *Listener) Run(ctx context.Context) error {
	l.mu.Lock()
	l.known, l.wake = map[string]*seen{}, make(chan struct{}, 1)
	l.mu.Unlock()
	if err := l.FS.MakeFolder(l.Folder); err != nil {
		return err
	}
	var events <-chan event
	if l.Settings.Events {
		w, err := newWatcher(l.Folder, l.Settings.Subfolders)
		if err != nil {
			l.Log.Warn("no kernel events here, looking instead", "folder", l.Folder, "error", err)
		} else {
			defer w.close()
			events = w.events
		}
	}
	l.look(ctx)
	rhythm := time.NewTicker(l.Settings.Rhythm)
	defer rhythm.Stop()
	for {
		var recheck <-chan time.Time
		if next := l.next(); next > 0 {
			recheck = time.After(next)
		}
		select {
		case <-ctx.Done():
			return nil
		case e, ok := <-events:
			if !ok {
				events = nil
				continue
			}
			if e.overflow || e.folder {
				l.look(ctx)
				continue
			}
			l.note(ctx, e.path, true)
		case <-rhythm.C:
			l.look(ctx)
		case <-recheck:
			l.retry(ctx)
		case <-l.wake: // whether and when is asked at the top
		}
	}
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

// look goes through the whole folder.
func (l *Listener) look(ctx context.Context) {
	there := map[string]bool{}
	l.walk(ctx, l.Folder, there)
	l.mu.Lock()
	defer l.mu.Unlock()
	for path := range l.known {
		if !there[path] {
			delete(l.known, path)
		}
	}
}

func (l *Listener) walk(ctx context.Context, folder string, there map[string]bool) {
	entries, err := l.FS.List(folder)
	if err != nil {
		l.Log.Warn("a folder cannot be looked into", "folder", folder, "error", err)
		return
	}
	// Oldest first: what came first is taken first.
	sort.SliceStable(entries, func(i, j int) bool { return entries[i].Modified.Before(entries[j].Modified) })
	for _, e := range entries {
		path := filepath.Join(folder, e.Name)
		switch {
		case ctx.Err() != nil:
			return
		case strings.HasPrefix(e.Name, "."):
		case e.Mode.IsDir():
			if l.Settings.Subfolders {
				l.walk(ctx, path, there)
			}
		default:
			there[path] = true
			l.note(ctx, path, false)
		}
	}
}

// note takes account of a file; closed says that an event told that it is
// complete.
func (l *Listener) note(ctx context.Context, path string, closed bool) {
	name := filepath.Base(path)
	if !l.Settings.Matches(name) {
		return
	}
	info, err := l.FS.Look(path)
	now := time.Now()
	l.mu.Lock()
	s := l.known[path]
	if errors.Is(err, fs.ErrNotExist) {
		delete(l.known, path)
		l.mu.Unlock()
		return
	}
	if s == nil {
		s = &seen{noticed: now, changed: now, info: info}
		l.known[path] = s
	} else if !s.info.Same(info) {
		s.info, s.changed, s.closed, s.given = info, now, false, false
	}
	s.closed = s.closed || closed
	if closed {
		s.given = false
	}
	l.mu.Unlock()
	l.consider(ctx, path, s, info, err)
}

// consider decides whether a file is ready.
func (l *Listener) consider(ctx context.Context, path string, s *seen, info files.Info, lookErr error) {
	l.mu.Lock()
	given, closed, changed, noticed := s.given, s.closed, s.changed, s.noticed
	l.mu.Unlock()
	if given {
		return
	}
	reason, busy := l.reason(path, closed, changed, info, lookErr)
	l.mu.Lock()
	s.reason = reason
	s.given = reason == ""
	if busy {
		s.closed, s.changed = false, time.Now()
	}
	l.mu.Unlock()
	if reason != "" {
		return
	}
	folder, err := filepath.Rel(l.Folder, filepath.Dir(path))
	if err != nil || folder == "." {
		folder = ""
	}
	select {
	case l.Ready <- Candidate{Path: path, Folder: folder, Name: filepath.Base(path), Info: info, Noticed: noticed}:
	case <-ctx.Done():
	}
}

// before is the reason of files that are older than the listener's beginning.
const before = "older than the route's beginning (listen.since)"

// longestName leaves room for what a held file's name is preceded by.
const longestName = 220

// reason says why a file is not ready, empty if it is, and whether somebody is
// busy with it.
func (l *Listener) reason(path string, closed bool, changed time.Time, info files.Info, err error) (reason string, busy bool) {
	switch {
	case err != nil:
		return "it cannot be looked at: " + err.Error(), false
	case info.Mode&fs.ModeSymlink != 0:
		return "it is a symbolic link; links are not followed out of the folder", false
	case !info.Regular():
		return "it is not an ordinary file", false
	case len(info.Name) > longestName:
		return fmt.Sprintf("its name is longer than %d bytes", longestName), false
	case !l.Settings.Since.IsZero() && info.Modified.Before(l.Settings.Since):
		return before, false
	}
	quiet := l.Settings.Quiet
	free, err := l.FS.Free(path)
	switch {
	case errors.Is(err, fs.ErrPermission):
		return "permission to read it is missing", false
	case err != nil:
		return "it cannot be opened: " + err.Error(), false
	case free != "":
		return free, true
	}
	if !closed {
		quiet = max(quiet, settle)
	}
	if time.Since(changed) < quiet {
		return "waiting to see whether it still changes", false
	}
	return "", false
}

// recheck is how often a waiting file is tried again.
const recheck = 250 * time.Millisecond

// next says when waiting files want to be tried again; 0 if none wait.
func (l *Listener) next() time.Duration {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, s := range l.known {
		if s.reason != "" && s.reason != before {
			return recheck
		}
	}
	return 0
}

func (l *Listener) retry(ctx context.Context) {
	l.mu.Lock()
	var paths []string
	for path, s := range l.known {
		if s.reason != "" && s.reason != before {
			paths = append(paths, path)
		}
	}
	l.mu.Unlock()
	sort.Strings(paths)
	for _, path := range paths {
		l.note(ctx, path, false)
	}
}

// Again lets a candidate be found anew, after it could not be taken.
func (l *Listener) Again(path, reason string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if s := l.known[path]; s != nil {
		s.given, s.reason, s.changed = false, reason, time.Now()
		select {
		case l.wake <- struct{}{}:
		default: // it has been told already
		}
	}
}

// Forget is told when a file has been taken.
func (l *Listener) Forget(path string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	delete(l.known, path)
}

// Waiting lists the files that are not ready, with the reason.
func (l *Listener) Waiting() []Waiting {
	l.mu.Lock()
	defer l.mu.Unlock()
	out := []Waiting{}
	for path, s := range l.known {
		if s.reason != "" {
			out = append(out, Waiting{path, filepath.Base(path), s.reason, s.noticed})
		}
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Path < out[j].Path })
	return out
}
