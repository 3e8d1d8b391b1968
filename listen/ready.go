package listen

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path/filepath"
	"regexp"
	"strings"
	"time"

	"ydrion/files"
)

// Markers matches the names of files that say that others are complete.
func Markers(marker func(name, folder string) string) *regexp.Regexp {
	pattern := regexp.QuoteMeta(marker("\x01.\x02", ""))
	return regexp.MustCompile("^" + strings.NewReplacer("\x01\\.\x02", ".+", "\x01", ".+", "\x02", ".+").Replace(pattern) + "$")
}

// unready lets a file that was ready wait again. The caller holds the lock.
func (l *Listener) unready(path, reason string) {
	if s := l.known[path]; s != nil {
		s.given, s.fetched, s.reason = false, false, reason
	}
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

// complete asks for the marker and the last line, if the route wants them. The marker of a file that was put back has been there.
func (l *Listener) complete(path string, info files.Info, put bool) (marker, reason string) {
	if l.Marker != nil && !put {
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
