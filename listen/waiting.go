package listen

import (
	"path/filepath"
	"slices"
	"strings"
	"time"

	"ydrion/core/text"
)

// Waiting is a file that has not been taken, and why.
type Waiting struct {
	Path   string    `json:"path"`
	Name   string    `json:"name"`
	Reason string    `json:"reason"`
	Since  time.Time `json:"since"`
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
