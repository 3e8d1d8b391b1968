package listen

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"golang.org/x/sys/unix"
)

// event is something that happened in a watched folder.
type event struct {
	path     string
	folder   bool // a subfolder has appeared: look through it
	overflow bool // the kernel dropped events: look through everything
}

// watcher reads kernel events (inotify) of a folder and, if wanted, of all
// below it.
type watcher struct {
	file       *os.File
	fd         int
	events     chan event
	subfolders bool
	done       chan struct{}
	mu         sync.Mutex
	folders    map[int]string
}

// mask is what a file tells when it is complete, and what keeps the set of
// folders right.
const mask = unix.IN_CLOSE_WRITE | unix.IN_MOVED_TO | unix.IN_CREATE | unix.IN_DELETE_SELF | unix.IN_MOVE_SELF | unix.IN_ONLYDIR | unix.IN_EXCL_UNLINK

func newWatcher(folder string, subfolders bool) (*watcher, error) {
	fd, err := unix.InotifyInit1(unix.IN_CLOEXEC | unix.IN_NONBLOCK)
	if err != nil {
		return nil, fmt.Errorf("asking for kernel events: %w", err)
	}
	w := &watcher{file: os.NewFile(uintptr(fd), "inotify"), fd: fd, events: make(chan event, 1024), subfolders: subfolders, done: make(chan struct{}), folders: map[int]string{}}
	if err := w.watch(folder); err != nil {
		return nil, errors.Join(err, w.file.Close())
	}
	go w.read()
	return w, nil
}

func (w *watcher) watch(folder string) error {
	id, err := unix.InotifyAddWatch(w.fd, folder, mask)
	if err != nil {
		return fmt.Errorf("watching %s: %w", folder, err)
	}
	w.mu.Lock()
	w.folders[id] = folder
	w.mu.Unlock()
	if !w.subfolders {
		return nil
	}
	entries, err := os.ReadDir(folder)
	if err != nil {
		return fmt.Errorf("watching %s: %w", folder, err)
	}
	for _, e := range entries {
		if !e.IsDir() || strings.HasPrefix(e.Name(), ".") {
			continue
		}
		if err := w.watch(filepath.Join(folder, e.Name())); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

func (w *watcher) close() {
	close(w.done)
	w.file.Close() //nolint: nothing was written to it
}

func (w *watcher) send(e event) {
	select {
	case w.events <- e:
	case <-w.done:
	}
}

func (w *watcher) read() {
	defer close(w.events)
	buf := make([]byte, 64<<10)
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

func (w *watcher) handle(id int, what uint32, name string) {
	if what&unix.IN_Q_OVERFLOW != 0 {
		w.send(event{overflow: true})
		return
	}
	w.mu.Lock()
	folder, ok := w.folders[id]
	if what&unix.IN_IGNORED != 0 {
		delete(w.folders, id)
	}
	w.mu.Unlock()
	if !ok || name == "" || strings.HasPrefix(name, ".") {
		return
	}
	path := filepath.Join(folder, name)
	switch {
	case what&unix.IN_ISDIR != 0:
		if w.subfolders && what&(unix.IN_CREATE|unix.IN_MOVED_TO) != 0 {
			// A folder that is gone again has nothing to be looked at.
			if w.watch(path) == nil {
				w.send(event{path: path, folder: true})
			}
		}
	case what&(unix.IN_CLOSE_WRITE|unix.IN_MOVED_TO) != 0:
		w.send(event{path: path})
	}
}
