// Package deliver brings outputs to their folders: written under a temporary
// name within the destination's own file system, synced, and renamed without
// replacing anything.
package deliver

import (
	"bufio"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io/fs"
	"path/filepath"
	"strings"

	"ydrion/files"
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

// prefix begins the temporary names of a run.
func prefix(run int64) string { return fmt.Sprintf("run-%d-", run) }

// Create begins an output of a run. The label tells it from the run's others.
func Create(fsys files.FS, folder string, run int64, label string) (*Output, error) {
	hidden, err := files.HiddenFolder(fsys, folder)
	if err != nil {
		return nil, fmt.Errorf("preparing %s: %w", folder, err)
	}
	temporary := filepath.Join(hidden, prefix(run)+label)
	f, err := fsys.Create(temporary)
	if err != nil {
		return nil, fmt.Errorf("writing to %s: %w", folder, err)
	}
	o := &Output{fs: fsys, file: f, hash: sha256.New(), Folder: folder, Temporary: temporary}
	o.buffer = bufio.NewWriterSize(f, 64<<10)
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

// Finish ends the output and, if wanted, makes it durable. It gives the SHA-256
// of what was written.
func (o *Output) Finish(sync bool) (string, error) {
	err := o.buffer.Flush()
	if err == nil && sync {
		err = o.file.Sync()
	}
	if closeErr := o.file.Close(); err == nil {
		err = closeErr
	}
	if err != nil {
		return "", fmt.Errorf("writing to %s: %w", o.Folder, err)
	}
	return hex.EncodeToString(o.hash.Sum(nil)), nil
}

// Discard gives an output up.
func (o *Output) Discard() error {
	return errors.Join(o.file.Close(), o.fs.Remove(o.Temporary))
}

// Sweep removes what an interrupted run has left in a folder.
func Sweep(fsys files.FS, folder string, run int64) error {
	hidden := filepath.Join(folder, files.Hidden)
	entries, err := fsys.List(hidden)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("sweeping %s: %w", folder, err)
	}
	for _, e := range entries {
		if strings.HasPrefix(e.Name, prefix(run)) {
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
)

// Publish makes a finished output visible. After the commit a temporary is
// never made again, so that its absence proves that it was published, whatever
// the reader has done with the file since.
func Publish(fsys files.FS, temporary, folder, name string) (Outcome, error) {
	err := fsys.Move(temporary, filepath.Join(folder, name))
	switch {
	case err == nil:
		return Published, nil
	case errors.Is(err, fs.ErrExist):
		return Taken, nil
	case errors.Is(err, fs.ErrNotExist):
		if _, look := fsys.Look(temporary); errors.Is(look, fs.ErrNotExist) {
			if _, look := fsys.Look(filepath.Dir(temporary)); look == nil {
				return Already, nil
			}
		}
	}
	return Taken, fmt.Errorf("publishing %s in %s: %w", name, folder, err)
}

// Counted gives the n-th name to try: orders.hl7, orders-2.hl7, orders-3.hl7.
func Counted(name string, n int) string {
	if n < 2 {
		return name
	}
	ext := filepath.Ext(name)
	return fmt.Sprintf("%s-%d%s", strings.TrimSuffix(name, ext), n, ext)
}
