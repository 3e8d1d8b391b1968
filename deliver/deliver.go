// Package deliver brings outputs to their folders: written under a temporary
// name within the destination's own file system, synced, and renamed. Unless a
// route says otherwise nothing is replaced.
package deliver

import (
	"bufio"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"ydrion/files"
	"ydrion/workspace"
)

// Output is a file being written, hidden from everybody who reads the folder.
type Output struct {
	fs        files.FS
	file      files.File
	buffer    *bufio.Writer
	hash      hash.Hash
	twin      *Output // gets the same bytes, and knows their hash; nil: nobody does
	Folder    string
	Temporary string
	Size      int64
	// The folder that holds the temporary, as it was when that was finished.
	Holder files.Info
}

// Maker makes the outputs of one run. Their temporary names carry the installation,
// the run and the node that works on it: what another installation writes into the
// same folder is left alone, and what a node writes that was given up is never taken
// for what its successor writes.
type Maker struct {
	FS   files.FS
	Mark string // of the installation
	Run  int64
	Node int64
}

// ErrDestination says that a folder that outputs go to is out of order.
type ErrDestination struct {
	Folder string
	Err    error
}

func (e *ErrDestination) Error() string { return fmt.Sprintf("writing to %s: %v", e.Folder, e.Err) }
func (e *ErrDestination) Unwrap() error { return e.Err }

// prefix begins the temporary names of an installation.
func prefix(mark string) string { return "run-" + mark + "-" }

func (m Maker) prefix() string { return fmt.Sprintf("%s%d-%d-", prefix(m.Mark), m.Run, m.Node) }

var buffers = sync.Pool{New: func() any { return bufio.NewWriterSize(nil, 16<<10) }}

// Create begins an output that is to be published in a folder. The label tells it
// from the run's others.
func (m Maker) Create(folder, label string) (*Output, error) {
	hidden := filepath.Join(folder, files.Hidden)
	return m.create(folder, hidden, label, func() error { _, err := files.HiddenFolder(m.FS, folder); return err })
}

// Spool begins an output for a folder that is out of order: it is written somewhere
// else and brought there later, see Stage.
func (m Maker) Spool(spool, folder, label string) (*Output, error) {
	return m.create(folder, spool, label, func() error { return m.FS.MakeFolder(spool, 0o700) })
}

func (m Maker) create(folder, in, label string, makeIt func() error) (*Output, error) {
	temporary := filepath.Join(in, m.prefix()+label)
	f, err := m.FS.Create(temporary, 0o644)
	if errors.Is(err, fs.ErrNotExist) {
		if err = makeIt(); err == nil {
			f, err = m.FS.Create(temporary, 0o644)
		}
	}
	if errors.Is(err, fs.ErrExist) {
		// An earlier try of this node has left it.
		if err = m.FS.Remove(temporary); err == nil {
			f, err = m.FS.Create(temporary, 0o644)
		}
	}
	if err != nil {
		return nil, &ErrDestination{folder, err}
	}
	o := &Output{fs: m.FS, file: f, hash: sha256.New(), Folder: folder, Temporary: temporary, buffer: buffers.Get().(*bufio.Writer)}
	o.buffer.Reset(f)
	return o, nil
}

// Stage copies an output from the spool into the hidden folder of its destination and
// makes it durable there. It may be repeated.
func (m Maker) Stage(spooled, folder string) (temporary string, holder files.Info, err error) {
	hidden, err := files.HiddenFolder(m.FS, folder)
	if err != nil {
		return "", holder, err
	}
	temporary = filepath.Join(hidden, filepath.Base(spooled))
	if err := m.FS.Remove(temporary); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return "", holder, err
	}
	if err := files.Copy(m.FS, spooled, temporary, 0o644); err != nil {
		return "", holder, err
	}
	if err := m.FS.SyncFolder(hidden); err != nil {
		return "", holder, err
	}
	holder, err = m.FS.Look(hidden)
	return temporary, holder, err
}

// Rest closes the output until something is added to it: many can be written in turn.
func (o *Output) Rest() error {
	if o.file == nil {
		return nil
	}
	err := o.buffer.Flush()
	if closeErr := o.file.Close(); err == nil {
		err = closeErr
	}
	o.giveBack()
	if o.file = nil; err != nil {
		return &ErrDestination{o.Folder, err}
	}
	return nil
}

// wake opens an output that rests.
func (o *Output) wake() error {
	if o.file != nil {
		return nil
	}
	f, err := o.fs.Append(o.Temporary)
	if err != nil {
		return &ErrDestination{o.Folder, err}
	}
	o.file, o.buffer = f, buffers.Get().(*bufio.Writer)
	o.buffer.Reset(f)
	return nil
}

// Like says that an output to which nothing was written yet gets the same bytes as another: they are hashed once.
func (o *Output) Like(other *Output) { o.twin = other }

// Write adds to the output.
func (o *Output) Write(b []byte) (int, error) {
	if err := o.wake(); err != nil {
		return 0, err
	}
	if o.twin == nil {
		o.hash.Write(b)
	}
	o.Size += int64(len(b))
	n, err := o.buffer.Write(b)
	if err != nil {
		return n, &ErrDestination{o.Folder, err}
	}
	return n, nil
}

// Finish ends the output and gives the SHA-256 of what was written. It is not
// durable yet.
func (o *Output) Finish() (string, error) {
	err := o.Rest()
	if err == nil {
		o.Holder, err = o.fs.Look(filepath.Dir(o.Temporary))
	}
	if err != nil {
		var already *ErrDestination
		if errors.As(err, &already) {
			return "", err
		}
		return "", &ErrDestination{o.Folder, err}
	}
	of := o
	if o.twin != nil {
		if of = o.twin; of.Size != o.Size {
			return "", fmt.Errorf("two outputs that should be the same have %d and %d bytes", o.Size, of.Size)
		}
	}
	return hex.EncodeToString(of.hash.Sum(nil)), nil
}

func (o *Output) giveBack() {
	o.buffer.Reset(io.Discard)
	buffers.Put(o.buffer)
	o.buffer = nil
}

// Discard gives an output up.
func (o *Output) Discard() error {
	if o.file == nil {
		return o.fs.Remove(o.Temporary)
	}
	o.giveBack()
	return errors.Join(o.file.Close(), o.fs.Remove(o.Temporary))
}

// Leftover is a temporary that was found in a hidden folder.
type Leftover struct {
	Path      string
	Run, Node int64
	Modified  time.Time
}

// Leftovers lists the temporaries of an installation in a hidden folder. Which of
// them are not needed any more is asked afterwards: what is made meanwhile is then
// not among them.
func Leftovers(fsys files.FS, hidden, mark string) ([]Leftover, error) {
	entries, err := fsys.List(hidden)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("sweeping %s: %w", hidden, err)
	}
	var out []Leftover
	for _, e := range entries {
		rest, ours := strings.CutPrefix(e.Name, prefix(mark))
		var l Leftover
		if n, err := fmt.Sscanf(rest, "%d-%d-", &l.Run, &l.Node); !ours || n != 2 || err != nil {
			continue
		}
		l.Path, l.Modified = filepath.Join(hidden, e.Name), e.Modified
		out = append(out, l)
	}
	return out, nil
}

// Sweep removes what this node has written for its run in a hidden folder.
func (m Maker) Sweep(hidden string, except ...string) error {
	all, err := Leftovers(m.FS, hidden, m.Mark)
	if err != nil {
		return err
	}
	for _, l := range all {
		if l.Run != m.Run || l.Node != m.Node || slices.Contains(except, l.Path) {
			continue
		}
		if err := m.FS.Remove(l.Path); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("sweeping %s: %w", hidden, err)
		}
	}
	return nil
}

// Outcome of trying to publish.
type Outcome int

const (
	Published Outcome = iota // the file is visible under its name
	Already                  // it had been published before: the temporary is gone
	Taken                    // there is another file of that name
	Unknown                  // nobody can tell: the temporary is gone, and the folder that held it too, or it is another one
)

// Holder is the folder that held a temporary when it was finished, by device and
// inode; zero if that is not known.
type Holder struct{ Device, Inode uint64 }

// Is tells whether a folder is the one that held the temporary.
func (h Holder) Is(i files.Info) bool {
	return h == Holder{} || h.Device == i.Device && h.Inode == i.Inode
}

// Publish makes a finished output visible under its name, which may have folders
// in it. After the commit a temporary is never made again, so that its absence
// proves that it was published, whatever the reader has done with the file since:
// but only its absence from the very folder that held it. Where a share is not
// mounted, or another one is, nobody can tell.
func Publish(fsys files.FS, temporary, folder, name string, taken workspace.WhenTaken, run int64, holder Holder) (Outcome, error) {
	to := filepath.Join(folder, name)
	var err error
	switch taken {
	case workspace.ReplaceKeep:
		err = replaceKept(fsys, temporary, to, run)
	case workspace.Replace:
		err = fsys.Replace(temporary, to)
	default:
		err = fsys.Move(temporary, to)
	}
	switch {
	case err == nil:
		return Published, nil
	case errors.Is(err, fs.ErrExist):
		return Taken, nil
	case errors.Is(err, fs.ErrNotExist):
		if _, look := fsys.Look(temporary); errors.Is(look, fs.ErrNotExist) {
			switch there, look := fsys.Look(filepath.Dir(temporary)); {
			case look == nil && holder.Is(there):
				return Already, nil
			case look == nil, errors.Is(look, fs.ErrNotExist):
				return Unknown, nil
			}
			break
		}
		// The temporary is there, so a folder of the name is not.
		if made := fsys.MakeFolder(filepath.Dir(to), 0o755); made != nil {
			err = made
			break
		}
		if _, look := fsys.Look(filepath.Dir(to)); look == nil && strings.Contains(name, "/") {
			return publishThere(fsys, temporary, to, taken, run)
		}
	}
	return Taken, fmt.Errorf("publishing %s in %s: %w", name, folder, err)
}

// publishThere publishes into a folder that has just been made.
func publishThere(fsys files.FS, temporary, to string, taken workspace.WhenTaken, run int64) (Outcome, error) {
	var err error
	switch taken {
	case workspace.ReplaceKeep:
		err = replaceKept(fsys, temporary, to, run)
	case workspace.Replace:
		err = fsys.Replace(temporary, to)
	default:
		err = fsys.Move(temporary, to)
	}
	switch {
	case err == nil:
		return Published, nil
	case errors.Is(err, fs.ErrExist):
		return Taken, nil
	}
	return Taken, fmt.Errorf("publishing %s: %w", to, err)
}

// replacing are the names whose files are kept and replaced: in between nobody else of this service replaces them.
var replacing files.Turns

// replaceKept replaces a file that keeps another name.
func replaceKept(fsys files.FS, temporary, to string, run int64) error {
	defer replacing.Take(to)()
	if err := keepFormer(fsys, temporary, to, run); err != nil {
		return err
	}
	return fsys.Replace(temporary, to)
}

// Formerly is the name under which a file is kept that a run replaces.
func Formerly(to string, run int64) string {
	ext := filepath.Ext(to)
	return fmt.Sprintf("%s.former-%d%s", strings.TrimSuffix(to, ext), run, ext)
}

// keepFormer gives the file that is about to be replaced a second name with the
// run in it, and with a number if the run has replaced others of that name. The name itself is never free meanwhile.
func keepFormer(fsys files.FS, temporary, to string, run int64) error {
	if _, err := fsys.Look(temporary); err != nil {
		return err // it was published before: the file there is the new one
	}
	is, err := fsys.Look(to)
	if err != nil {
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		return err
	}
	there := func(as string) (bool, error) {
		_, err := fsys.Look(as)
		if errors.Is(err, fs.ErrNotExist) {
			return false, nil
		}
		return err == nil, err
	}
	for former := Formerly(to, run); ; {
		n, err := free(former, 0, there)
		if err != nil {
			return err
		}
		if n > 1 {
			if last, err := fsys.Look(Counted(former, n-1)); err == nil && last.Device == is.Device && last.Inode == is.Inode {
				return nil // it has been kept by an earlier try
			}
		}
		as := Counted(former, n)
		if err = fsys.Link(to, as); errors.Is(err, files.ErrOtherDevice) {
			err = files.Copy(fsys, to, as, 0o644)
		}
		switch {
		case errors.Is(err, fs.ErrNotExist):
			return nil // somebody has taken it away
		case !errors.Is(err, fs.ErrExist):
			return err
		}
	}
}

// Made is an output that can be read, wherever it goes.
type Made struct {
	Name    string
	Size    int64 // bytes
	Content io.ReadCloser
}
