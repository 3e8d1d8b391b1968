package listen

import (
	"container/heap"
	"errors"
	"fmt"
	"io/fs"
	"math"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"ydrion/files"
)

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
		s = l.newSeen(path, now)
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
