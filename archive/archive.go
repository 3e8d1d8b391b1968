// Package archive keeps originals, byte for byte, by their content, so that
// they can be run again.
package archive

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path/filepath"
	"sync"

	"ydrion/files"
)

// Archive is a folder of originals named by their SHA-256.
type Archive struct {
	fs      files.FS
	folder  string
	copying sync.Mutex // two routes may bring the same content at once
}

// New is the archive in a folder, which is made when it is needed.
func New(fsys files.FS, folder string) *Archive { return &Archive{fs: fsys, folder: folder} }

// Path is where the original with a hash is.
func (a *Archive) Path(hash string) string { return filepath.Join(a.folder, hash[:2], hash) }

// Has tells whether an original is there.
func (a *Archive) Has(hash string) bool {
	_, err := a.fs.Look(a.Path(hash))
	return err == nil
}

// Open opens an original.
func (a *Archive) Open(hash string) (files.File, error) {
	f, err := a.fs.Open(a.Path(hash))
	if err != nil {
		return nil, fmt.Errorf("opening the original from the archive: %w", err)
	}
	return f, nil
}

// Keep gives a file a place in the archive; the file itself stays where it is
// until the caller needs it no more. The same content is kept once. It may be
// repeated after a crash at any point.
func (a *Archive) Keep(file, hash string) error {
	to := a.Path(hash)
	folder := filepath.Dir(to)
	if err := a.fs.MakeFolder(folder); err != nil {
		return fmt.Errorf("archiving: %w", err)
	}
	err := a.fs.Link(file, to)
	if errors.Is(err, files.ErrOtherDevice) {
		err = a.copyIn(file, to)
	}
	if err != nil && !errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("archiving: %w", err)
	}
	return a.fs.SyncFolder(folder)
}

// copyIn copies under a temporary name first, so that the archive never has a
// part of a file under a content's name.
func (a *Archive) copyIn(file, to string) error {
	a.copying.Lock()
	defer a.copying.Unlock()
	if _, err := a.fs.Look(to); err == nil {
		return nil // it was kept meanwhile
	}
	part := to + ".part"
	if err := a.fs.Remove(part); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err := files.Copy(a.fs, file, part); err != nil {
		return err
	}
	return a.fs.Move(part, to)
}

// Hash reads a file through and gives its SHA-256 in hexadecimal digits and
// its length.
func Hash(r io.Reader) (string, int64, error) {
	h := sha256.New()
	n, err := io.Copy(h, r)
	return hex.EncodeToString(h.Sum(nil)), n, err
}
