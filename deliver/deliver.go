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

	"ydrion/files"
	"ydrion/workspace"
)

// Output is a file being written, hidden from everybody who reads the folder.
type Output struct {
	fs        files.FS
	file      files.File
	buffer    *bufio.Writer
	hash      hash.Hash
	Folder    string
	Temporary string
	Size      int64
}

// Maker makes the outputs of one run. Their temporary names carry the run and
// the node that works on it: what a node writes that was given up is never taken
// for what its successor writes.
type Maker struct {
	FS   files.FS
	Run  int64
	Node int64
}

// prefix begins the temporary names of a run.
func prefix(run int64) string { return fmt.Sprintf("run-%d-", run) }

var buffers = sync.Pool{New: func() any { return bufio.NewWriterSize(nil, 16<<10) }}

// Create begins an output. The label tells it from the run's others.
func (m Maker) Create(folder, label string) (*Output, error) {
	temporary := filepath.Join(folder, files.Hidden, fmt.Sprintf("%s%d-%s", prefix(m.Run), m.Node, label))
	f, err := m.FS.Create(temporary, 0o644)
	if errors.Is(err, fs.ErrNotExist) {
		if _, err = files.HiddenFolder(m.FS, folder); err == nil {
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
		return nil, fmt.Errorf("writing to %s: %w", folder, err)
	}
	o := &Output{fs: m.FS, file: f, hash: sha256.New(), Folder: folder, Temporary: temporary, buffer: buffers.Get().(*bufio.Writer)}
	o.buffer.Reset(f)
	return o, nil
}

// Write adds to the output.
func (o *Output) Write(b []byte) (int, error) {
	o.hash.Write(b)
	o.Size += int64(len(b))
	n, err := o.buffer.Write(b)
	if err != nil {
		return n, fmt.Errorf("writing to %s: %w", o.Folder, err)
	}
	return n, nil
}

// Finish ends the output and gives the SHA-256 of what was written. It is not
// durable yet.
func (o *Output) Finish() (string, error) {
	err := o.buffer.Flush()
	if closeErr := o.file.Close(); err == nil {
		err = closeErr
	}
	o.giveBack()
	if err != nil {
		return "", fmt.Errorf("writing to %s: %w", o.Folder, err)
	}
	return hex.EncodeToString(o.hash.Sum(nil)), nil
}

func (o *Output) giveBack() {
	o.buffer.Reset(io.Discard)
	buffers.Put(o.buffer)
}

// Discard gives an output up.
func (o *Output) Discard() error {
	o.giveBack()
	return errors.Join(o.file.Close(), o.fs.Remove(o.Temporary))
}

// Sweep removes what an interrupted run has left in a folder.
func Sweep(fsys files.FS, folder string, run int64, except ...string) error {
	hidden := filepath.Join(folder, files.Hidden)
	entries, err := fsys.List(hidden)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("sweeping %s: %w", folder, err)
	}
	for _, e := range entries {
		if strings.HasPrefix(e.Name, prefix(run)) && !slices.Contains(except, filepath.Join(hidden, e.Name)) {
			if err := fsys.Remove(filepath.Join(hidden, e.Name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return fmt.Errorf("sweeping %s: %w", folder, err)
			}
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
	Unknown                  // nobody can tell: the temporary is gone, and the folder that held it too
)

// Publish makes a finished output visible under its name, which may have folders
// in it. After the commit a temporary is never made again, so that its absence
// proves that it was published, whatever the reader has done with the file since.
func Publish(fsys files.FS, temporary, folder, name string, taken workspace.WhenTaken, run int64) (Outcome, error) {
	to := filepath.Join(folder, name)
	var err error
	switch taken {
	case workspace.ReplaceKeep:
		if err = keepFormer(fsys, temporary, to, run); err == nil {
			err = fsys.Replace(temporary, to)
		}
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
			if _, look := fsys.Look(filepath.Dir(temporary)); look == nil {
				return Already, nil
			} else if errors.Is(look, fs.ErrNotExist) {
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
			return publishThere(fsys, temporary, to, taken)
		}
	}
	return Taken, fmt.Errorf("publishing %s in %s: %w", name, folder, err)
}

// publishThere publishes into a folder that has just been made.
func publishThere(fsys files.FS, temporary, to string, taken workspace.WhenTaken) (Outcome, error) {
	var err error
	if taken == workspace.Replace || taken == workspace.ReplaceKeep {
		err = fsys.Replace(temporary, to)
	} else {
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

// keepFormer gives the file that is about to be replaced a second name with the
// run in it. The name itself is never free meanwhile.
func keepFormer(fsys files.FS, temporary, to string, run int64) error {
	if _, err := fsys.Look(temporary); err != nil {
		return err // it was published before: the file there is the new one
	}
	ext := filepath.Ext(to)
	former := fmt.Sprintf("%s.former-%d%s", strings.TrimSuffix(to, ext), run, ext)
	err := fsys.Link(to, former)
	if errors.Is(err, files.ErrOtherDevice) {
		err = files.Copy(fsys, to, former, 0o644)
	}
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrExist) {
		return nil // there is none, or it has been kept by an earlier try
	}
	return err
}

// Counted gives the n-th name to try: orders.hl7, orders-2.hl7, orders-3.hl7.
func Counted(name string, n int) string {
	if n < 2 {
		return name
	}
	ext := filepath.Ext(name)
	return fmt.Sprintf("%s-%d%s", strings.TrimSuffix(name, ext), n, ext)
}
