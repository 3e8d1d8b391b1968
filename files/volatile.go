package files

import (
	"errors"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sort"
	"strconv"
	"sync"
)

// Volatile is a real file system that can lose its power: what was not made
// durable before may then be gone. It remembers, for everything that goes through
// it, which contents and which entries of folders have been synced, and at a
// crash undoes an arbitrary part of the rest: a file's content is cut to what was
// synced, entries that were made are removed, entries that were removed or
// renamed come back. It is for tests, below one folder.
type Volatile struct {
	Real
	Root string

	mu      sync.Mutex
	off     bool
	saved   string            // folder that keeps what may have to come back
	synced  map[uint64]int64  // bytes of a file that are durable, by inode
	entries map[string]change // what has happened to a folder's entries since it was synced
	number  int
}

// change is what a path was before, at the last sync of its folder.
type change struct {
	was     string // where its former self is kept; empty: there was none
	movedTo string // it was renamed to this: both ends are kept or lost together
	moved   bool   // it came by a rename, which the other end tells of
}

// NewVolatile watches over a folder; what it may have to bring back is kept in
// another one on the same file system.
func NewVolatile(root, saved string) *Volatile {
	return &Volatile{Root: root, saved: saved, synced: map[uint64]int64{}, entries: map[string]change{}}
}

// ErrOff is what everything says after the power has gone.
var ErrOff = errors.New("the power is off")

func (v *Volatile) on() error {
	if v.off {
		return ErrOff
	}
	return nil
}

// remember keeps what a path is before it changes. The caller holds the lock.
func (v *Volatile) remember(path string) {
	if _, known := v.entries[path]; known {
		return
	}
	c := change{}
	if info, err := v.Real.Look(path); err == nil && info.Regular() {
		v.number++
		c.was = filepath.Join(v.saved, strconv.Itoa(v.number))
		if err := os.Link(path, c.was); err != nil {
			c.was = ""
		}
	}
	v.entries[path] = c
}

func (v *Volatile) Create(name string, mode fs.FileMode) (File, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if err := v.on(); err != nil {
		return nil, err
	}
	v.remember(name)
	f, err := v.Real.Create(name, mode)
	if err != nil {
		return nil, err
	}
	return &volatileFile{f, v}, nil
}

func (v *Volatile) Append(name string) (File, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if err := v.on(); err != nil {
		return nil, err
	}
	f, err := v.Real.Append(name)
	if err != nil {
		return nil, err
	}
	return &volatileFile{f, v}, nil
}

func (v *Volatile) Open(name string) (File, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if err := v.on(); err != nil {
		return nil, err
	}
	f, err := v.Real.Open(name)
	if err != nil {
		return nil, err
	}
	return &volatileFile{f, v}, nil
}

type volatileFile struct {
	File
	v *Volatile
}

func (f *volatileFile) Write(b []byte) (int, error) {
	f.v.mu.Lock()
	defer f.v.mu.Unlock()
	if err := f.v.on(); err != nil {
		return 0, err
	}
	if info, err := f.File.Info(); err == nil {
		if _, known := f.v.synced[info.Inode]; !known {
			f.v.synced[info.Inode] = 0
		}
	}
	return f.File.Write(b)
}

func (f *volatileFile) Sync() error {
	f.v.mu.Lock()
	defer f.v.mu.Unlock()
	if err := f.v.on(); err != nil {
		return err
	}
	info, err := f.File.Info()
	if err == nil {
		f.v.synced[info.Inode] = info.Size
	}
	return err
}

func (v *Volatile) Move(from, to string) error {
	v.mu.Lock()
	defer v.mu.Unlock()
	if err := v.on(); err != nil {
		return err
	}
	v.remember(from)
	v.remember(to)
	return v.moved(from, to, v.Real.Move(from, to))
}

func (v *Volatile) Replace(from, to string) error {
	v.mu.Lock()
	defer v.mu.Unlock()
	if err := v.on(); err != nil {
		return err
	}
	v.remember(from)
	v.remember(to)
	return v.moved(from, to, v.Real.Replace(from, to))
}

// moved ties the two ends of a rename together.
func (v *Volatile) moved(from, to string, err error) error {
	if err == nil {
		f, t := v.entries[from], v.entries[to]
		f.movedTo, t.moved = to, true
		v.entries[from], v.entries[to] = f, t
	}
	return err
}

func (v *Volatile) Link(from, to string) error {
	v.mu.Lock()
	defer v.mu.Unlock()
	if err := v.on(); err != nil {
		return err
	}
	v.remember(to)
	return v.Real.Link(from, to)
}

func (v *Volatile) Remove(name string) error {
	v.mu.Lock()
	defer v.mu.Unlock()
	if err := v.on(); err != nil {
		return err
	}
	v.remember(name)
	return v.Real.Remove(name)
}

func (v *Volatile) SyncFolder(name string) error {
	v.mu.Lock()
	defer v.mu.Unlock()
	if err := v.on(); err != nil {
		return err
	}
	for path, c := range v.entries {
		if filepath.Dir(path) == name || c.movedTo != "" && filepath.Dir(c.movedTo) == name {
			delete(v.entries, path)
			delete(v.entries, c.movedTo)
		}
	}
	return nil
}

func (v *Volatile) SyncAll(folder string) error {
	v.mu.Lock()
	defer v.mu.Unlock()
	if err := v.on(); err != nil {
		return err
	}
	clear(v.entries)
	clear(v.synced)
	return nil
}

func (v *Volatile) Look(name string) (Info, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if err := v.on(); err != nil {
		return Info{}, err
	}
	return v.Real.Look(name)
}

func (v *Volatile) List(folder string) ([]Info, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if err := v.on(); err != nil {
		return nil, err
	}
	return v.Real.List(folder)
}

// Cut takes the power away: from now on every call fails.
func (v *Volatile) Cut() {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.off = true
}

// Lose undoes an arbitrary part of what was not durable when the power went, as
// the chances say, and tells what it did.
func (v *Volatile) Lose(r *rand.Rand) (lost []string, err error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	paths := make([]string, 0, len(v.entries))
	for path := range v.entries {
		paths = append(paths, path)
	}
	sort.Strings(paths)
	// Contents first: a file that keeps its entry may have lost its end.
	err = filepath.WalkDir(v.Root, func(path string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		info, err := v.Real.Look(path)
		if err != nil {
			return err
		}
		if durable, known := v.synced[info.Inode]; known && durable < info.Size && r.IntN(2) == 0 {
			lost = append(lost, "the end of "+filepath.Base(path))
			return os.Truncate(path, durable)
		}
		return nil
	})
	if err != nil {
		return lost, err
	}
	for _, path := range paths {
		c := v.entries[path]
		if r.IntN(2) == 0 || c.moved {
			continue
		}
		_, look := v.Real.Look(path)
		switch {
		case c.movedTo != "":
			if _, there := v.Real.Look(c.movedTo); there == nil && look != nil {
				lost = append(lost, "the rename of "+filepath.Base(path))
				err = os.Rename(c.movedTo, path)
			}
		case c.was == "" && look == nil:
			lost = append(lost, "the new entry "+filepath.Base(path))
			err = os.Remove(path)
		case c.was != "" && look != nil:
			lost = append(lost, "the removal of "+filepath.Base(path))
			err = os.Link(c.was, path)
		}
		if err != nil && !os.IsExist(err) && !os.IsNotExist(err) {
			return lost, err
		}
	}
	return lost, nil
}
