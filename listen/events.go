package listen

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"golang.org/x/sys/unix"

	"ydrion/files"
)

// event is something that happened in a watched folder.
type event struct {
	path   string
	folder bool // a subfolder has appeared: look through it
	begun  bool // a file was created; it is not complete yet
	lost   bool // the kernel dropped events: look through everything
}

// Watcher reads kernel events (inotify) for any number of listeners. There is
// one for a service: the kernel allows few of them, but many folders in each.
type Watcher struct {
	file *os.File
	fd   int

	mu      sync.Mutex
	folders map[int]*watched
	ids     map[string]int
}

// watched is a folder and who wants its events.
type watched struct {
	path string
	subs map[*subscription]bool
}

// subscription takes the events of one listener. Events are kept until the
// listener comes for them, up to a number beyond which it has to look itself.
type subscription struct {
	watcher    *Watcher
	fs         files.FS
	subfolders bool
	mu         sync.Mutex
	queue      []event
	wake       chan struct{}
}

// maxQueue is how many events wait for a listener.
const maxQueue = 1 << 16

// mask is what a file tells when it is begun and when it is complete, and what
// keeps the set of folders right.
const mask = unix.IN_CLOSE_WRITE | unix.IN_MOVED_TO | unix.IN_CREATE | unix.IN_DELETE_SELF | unix.IN_MOVE_SELF | unix.IN_ONLYDIR | unix.IN_EXCL_UNLINK

// NewWatcher asks the kernel for events.
func NewWatcher() (*Watcher, error) {
	fd, err := unix.InotifyInit1(unix.IN_CLOEXEC | unix.IN_NONBLOCK)
	if err != nil {
		return nil, fmt.Errorf("asking for kernel events: %w", err)
	}
	w := &Watcher{file: os.NewFile(uintptr(fd), "inotify"), fd: fd, folders: map[int]*watched{}, ids: map[string]int{}}
	go w.read()
	return w, nil
}

// Close ends all events.
func (w *Watcher) Close() error { return w.file.Close() }

// subscribe begins to collect the events of a folder and, if wanted, of all
// below it.
func (w *Watcher) subscribe(fsys files.FS, folder string, subfolders bool) (*subscription, error) {
	s := &subscription{watcher: w, fs: fsys, subfolders: subfolders, wake: make(chan struct{}, 1)}
	if err := s.add(folder); err != nil {
		s.end()
		return nil, err
	}
	return s, nil
}

// add watches one more folder and what is below it. The folder that is watched is the
// very one that the file system gives: no link is followed to another.
func (s *subscription) add(folder string) error {
	handle, err := s.fs.Handle(folder)
	if err != nil {
		return fmt.Errorf("watching %s: %w", folder, err)
	}
	defer handle.Close()
	w := s.watcher
	w.mu.Lock()
	id, err := unix.InotifyAddWatch(w.fd, fmt.Sprintf("/proc/self/fd/%d", handle.Fd()), mask)
	if err != nil {
		w.mu.Unlock()
		if errors.Is(err, unix.ENOSPC) {
			return fmt.Errorf("watching %s: the kernel allows no more watched folders (fs.inotify.max_user_watches)", folder)
		}
		return fmt.Errorf("watching %s: %w", folder, err)
	}
	f := w.folders[id]
	if f == nil {
		f = &watched{subs: map[*subscription]bool{}}
		w.folders[id] = f
	}
	f.path = folder
	w.ids[folder] = id
	f.subs[s] = true
	w.mu.Unlock()
	if !s.subfolders {
		return nil
	}
	entries, err := s.fs.List(folder)
	if err != nil {
		return fmt.Errorf("watching %s: %w", folder, err)
	}
	for _, e := range entries {
		if !e.Mode.IsDir() || strings.HasPrefix(e.Name, ".") {
			continue
		}
		if err := s.add(filepath.Join(folder, e.Name)); err != nil && !files.Vanished(err) {
			return err
		}
	}
	return nil
}

// moved tells whether a folder is not the one any more that is watched under its name:
// something was mounted over it, or it was replaced where no event told.
func (s *subscription) moved(folder string) bool {
	handle, err := s.fs.Handle(folder)
	if err != nil {
		return true
	}
	defer handle.Close()
	w := s.watcher
	w.mu.Lock()
	defer w.mu.Unlock()
	// Watching a folder again gives the same number.
	id, err := unix.InotifyAddWatch(w.fd, fmt.Sprintf("/proc/self/fd/%d", handle.Fd()), mask)
	if err != nil {
		return true
	}
	f := w.folders[id]
	if f == nil || !f.subs[s] {
		if f == nil {
			unix.InotifyRmWatch(w.fd, uint32(id)) //nolint: it is asked for again at once
		}
		return true
	}
	return false
}

// end gives a subscription up; folders that nobody else watches are let go.
func (s *subscription) end() {
	w := s.watcher
	w.mu.Lock()
	defer w.mu.Unlock()
	for id, f := range w.folders {
		if !f.subs[s] {
			continue
		}
		delete(f.subs, s)
		if len(f.subs) == 0 {
			unix.InotifyRmWatch(w.fd, uint32(id)) //nolint: the folder may be gone already
			delete(w.folders, id)
			delete(w.ids, f.path)
		}
	}
}

// take gives the events that have come since.
func (s *subscription) take() []event {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := s.queue
	s.queue = nil
	return out
}

func (s *subscription) send(e event) {
	s.mu.Lock()
	switch {
	case e.lost || len(s.queue) >= maxQueue:
		s.queue = append(s.queue[:0], event{lost: true})
	case len(s.queue) == 1 && s.queue[0].lost:
		// everything is looked through in any case
	default:
		s.queue = append(s.queue, e)
	}
	s.mu.Unlock()
	select {
	case s.wake <- struct{}{}:
	default: // it has been told already
	}
}

func (w *Watcher) read() {
	buf := make([]byte, 256<<10)
	for {
		n, err := w.file.Read(buf)
		if err != nil {
			return
		}
		for b := buf[:n]; len(b) >= unix.SizeofInotifyEvent; {
			id := int(int32(binary.NativeEndian.Uint32(b)))
			what := binary.NativeEndian.Uint32(b[4:])
			size := int(binary.NativeEndian.Uint32(b[12:]))
			name := string(bytes.TrimRight(b[unix.SizeofInotifyEvent:unix.SizeofInotifyEvent+size], "\x00"))
			b = b[unix.SizeofInotifyEvent+size:]
			w.handle(id, what, name)
		}
	}
}

func (w *Watcher) handle(id int, what uint32, name string) {
	w.mu.Lock()
	var subs []*subscription
	if what&unix.IN_Q_OVERFLOW != 0 {
		all := map[*subscription]bool{}
		for _, f := range w.folders {
			for s := range f.subs {
				all[s] = true
			}
		}
		w.mu.Unlock()
		for s := range all {
			s.send(event{lost: true})
		}
		return
	}
	f := w.folders[id]
	if f == nil {
		w.mu.Unlock()
		return
	}
	for s := range f.subs {
		subs = append(subs, s)
	}
	folder := f.path
	if what&unix.IN_IGNORED != 0 {
		delete(w.folders, id)
		delete(w.ids, folder)
	}
	w.mu.Unlock()
	gone := what&(unix.IN_IGNORED|unix.IN_MOVE_SELF|unix.IN_DELETE_SELF) != 0
	if !gone && (name == "" || strings.HasPrefix(name, ".")) {
		return
	}
	path := filepath.Join(folder, name)
	for _, s := range subs {
		switch {
		case gone:
			s.send(event{lost: true}) // the folder may be another one by now
		case what&unix.IN_ISDIR != 0:
			// A folder that is gone again has nothing to be looked at.
			if s.subfolders && what&(unix.IN_CREATE|unix.IN_MOVED_TO) != 0 {
				s.send(event{path: path, folder: true})
			}
		case what&(unix.IN_CLOSE_WRITE|unix.IN_MOVED_TO) != 0:
			s.send(event{path: path})
		case what&unix.IN_CREATE != 0:
			s.send(event{path: path, begun: true})
		}
	}
}
