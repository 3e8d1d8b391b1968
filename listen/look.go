package listen

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"sort"
	"strings"
	"time"

	"ydrion/core/text"
	"ydrion/files"
)

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
			s = l.newSeen(path, time.Now())
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
		s := l.newSeen(path, now)
		s.reason = "it is being written"
		l.known[path] = s
		l.considerAt(path, s, now.Add(settle))
	}
}

// newSeen begins to know a file. The caller holds the lock.
func (l *Listener) newSeen(path string, now time.Time) *seen {
	l.order++
	s := &seen{noticed: now, changed: now, order: l.order}
	if stood, is := l.back[path]; is {
		s.order = stood
		delete(l.back, path)
	}
	return s
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
		s = l.newSeen(path, now)
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
	given, closed, changed, noticed, put := s.given, s.closed, s.changed, s.noticed, s.order < 0
	l.mu.Unlock()
	if given {
		return
	}
	reason, state, again := l.reason(path, closed, changed, info, lookErr)
	marker, settling := "", reason == unsettled && !closed && changed.Equal(noticed)
	if reason == "" {
		marker, reason = l.complete(path, info, put)
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
