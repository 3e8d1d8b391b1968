// Package archive keeps originals, byte for byte, by their content, so that
// they can be run again.
package archive

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path/filepath"
	"sync"
	"time"

	"ydrion/files"
)

// Archive is a folder of originals named by their SHA-256.
type Archive struct {
	fs     files.FS
	folder string

	checking sync.Mutex
	good     map[string]checked // by hash
}

// New is the archive in a folder, which is made when it is needed.
func New(fsys files.FS, folder string) *Archive {
	return &Archive{fs: fsys, folder: folder, good: map[string]checked{}}
}

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

// going ends the name of an original that is being removed.
const going = ".going"

// Remove removes an original unless it is needed after all. It is moved aside
// before that is asked, so that whoever needs it from then on makes it anew.
func (a *Archive) Remove(hash string, needed func() (bool, error)) (removed bool, err error) {
	at := a.Path(hash)
	if err := a.fs.Move(at, at+going); err != nil {
		switch {
		case errors.Is(err, fs.ErrNotExist):
			return false, nil
		case !errors.Is(err, fs.ErrExist):
			return false, fmt.Errorf("removing an original: %w", err)
		}
		// An earlier removal was interrupted; it has decided already.
	}
	keep, err := needed()
	if err != nil || keep {
		back := a.fs.Move(at+going, at)
		if errors.Is(back, fs.ErrExist) {
			back = a.fs.Remove(at + going)
		}
		return false, errors.Join(err, back)
	}
	if err := a.fs.Remove(at + going); err != nil {
		return false, fmt.Errorf("removing an original: %w", err)
	}
	return true, nil
}

// Copy copies a file that stays where it is into the archive and says what it
// is. A change meanwhile is an error.
func (a *Archive) Copy(path string) (sum string, size int64, err error) {
	f, err := a.fs.Open(path)
	if err != nil {
		return "", 0, fmt.Errorf("copying %s: %w", path, err)
	}
	defer f.Close()
	before, err := f.Info()
	if err != nil {
		return "", 0, fmt.Errorf("copying %s: %w", path, err)
	}
	if sum, size, err = a.Take(f); err != nil {
		return "", 0, err
	}
	if after, err := f.Info(); err != nil || !before.Same(after) || after.Size != size {
		return "", 0, errors.Join(fmt.Errorf("copying %s: %w", path, ErrChanging), err)
	}
	return sum, size, nil
}

// ErrChanging says that somebody changes a file while it is read.
var ErrChanging = errors.New("somebody keeps changing it")

// Take writes what is read into the archive and says what it is.
func (a *Archive) Take(in io.Reader) (sum string, size int64, err error) {
	return a.TakeFor(in, func(string, int64) error { return nil })
}

// TakeFor is Take for somebody who records then that it is needed. Until that is so, another who gives the same content up may
// remove it: it is given its place once more.
func (a *Archive) TakeFor(in io.Reader, then func(sum string, size int64) error) (sum string, size int64, err error) {
	part, err := a.coming()
	if err != nil {
		return "", 0, fmt.Errorf("archiving: %w", err)
	}
	out, err := a.fs.Create(part, 0o600)
	if err != nil {
		return "", 0, fmt.Errorf("archiving: %w", err)
	}
	sum, size, err = Hash(io.TeeReader(in, out))
	if err == nil {
		err = out.Sync()
	}
	if closing := out.Close(); err == nil {
		err = closing
	}
	if err == nil {
		err = a.Keep(part, sum, true)
	}
	if err == nil {
		if err = then(sum, size); err != nil {
			return "", 0, errors.Join(err, a.fs.Remove(part))
		}
		err = a.Keep(part, sum, true)
	}
	if removing := a.fs.Remove(part); err == nil {
		err = removing
	}
	if err != nil {
		return "", 0, fmt.Errorf("archiving: %w", err)
	}
	return sum, size, nil
}

// Keep gives a file a place in the archive; the file itself stays where it is
// until the caller needs it no more. The same content is kept once. It may be
// repeated after a crash at any point. Alone says that nobody else can reach the file:
// then it gets a second name there, otherwise it is copied.
func (a *Archive) Keep(file, hash string, alone bool) error {
	to := a.Path(hash)
	folder := filepath.Dir(to)
	err := files.ErrOtherDevice
	if alone {
		if err = a.fs.Link(file, to); errors.Is(err, fs.ErrNotExist) {
			if err = a.fs.MakeFolder(folder, 0o700); err == nil {
				err = a.fs.Link(file, to)
			}
		}
	}
	if errors.Is(err, files.ErrOtherDevice) {
		if err = a.fs.MakeFolder(folder, 0o700); err == nil {
			err = a.copyIn(file, to)
		}
	}
	if err != nil && !errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("archiving: %w", err)
	}
	return nil
}

// Sync makes the content of an original durable. Its place is when its folder
// and the archive's are synced too. The outputs of a run may only be committed
// when its original is safe.
func (a *Archive) Sync(hash string) error {
	f, err := a.fs.Open(a.Path(hash))
	if err != nil {
		return fmt.Errorf("archiving: %w", err)
	}
	if err := errors.Join(f.Sync(), f.Close()); err != nil {
		return fmt.Errorf("archiving: %w", err)
	}
	return nil
}

// ErrOther says that an original is not what it was when it came.
var ErrOther = errors.New("the original in the archive is not what it was when it came")

// Check reads an original through and compares it with its hash, unless that was done
// before and nothing has happened to the file since. It gives its size.
func (a *Archive) Check(hash string) (size int64, err error) {
	f, err := a.Open(hash)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	info, err := f.Info()
	if err != nil {
		return 0, err
	}
	now := checked{info.Inode, info.Size, info.Modified, info.Arrived}
	a.checking.Lock()
	before, known := a.good[hash]
	a.checking.Unlock()
	if known && before == now {
		return info.Size, nil
	}
	sum, size, err := Hash(f)
	if err != nil {
		return size, fmt.Errorf("reading the original: %w", err)
	}
	if sum != hash {
		return size, ErrOther
	}
	a.checking.Lock()
	defer a.checking.Unlock()
	if len(a.good) >= mostChecked {
		clear(a.good)
	}
	a.good[hash] = now
	return size, nil
}

// OpenChecked opens an original that is what it was when it came.
func (a *Archive) OpenChecked(hash string) (files.File, error) {
	if _, err := a.Check(hash); err != nil {
		return nil, err
	}
	return a.Open(hash)
}

// checked is what was known of a file when its content was compared. Arrived changes
// with anything that happens to it.
type checked struct {
	inode             uint64
	size              int64
	modified, arrived time.Time
}

const mostChecked = 10_000

// Folder is where the archive is.
func (a *Archive) Folder() string { return a.folder }

// copyIn copies under a name of its own first, so that the archive never has a part of a
// file under a content's name, whoever else brings the same.
func (a *Archive) copyIn(file, to string) error {
	if _, err := a.fs.Look(to); err == nil {
		return nil // it is kept already
	}
	part, err := a.coming()
	if err != nil {
		return err
	}
	if err := files.Copy(a.fs, file, part, 0o600); err != nil {
		return err
	}
	if err := a.fs.Move(part, to); err != nil {
		return errors.Join(err, a.fs.Remove(part)) // fs.ErrExist: it was kept meanwhile
	}
	return nil
}

// coming gives a name for something that is on its way into the archive.
func (a *Archive) coming() (string, error) {
	folder := filepath.Join(a.folder, "coming")
	return filepath.Join(folder, rand.Text()), a.fs.MakeFolder(folder, 0o700)
}

// Sweep removes what was on its way into the archive before a moment and has never come
// there: whoever brought it was cut off.
func (a *Archive) Sweep(before time.Time) error {
	folder := filepath.Join(a.folder, "coming")
	entries, err := a.fs.List(folder)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	for _, e := range entries {
		if e.Modified.Before(before) {
			err = errors.Join(err, a.fs.Remove(filepath.Join(folder, e.Name)))
		}
	}
	return err
}

// Hash reads a file through and gives its SHA-256 in hexadecimal digits and
// its length.
func Hash(r io.Reader) (string, int64, error) {
	h := sha256.New()
	n, err := io.Copy(h, r)
	return hex.EncodeToString(h.Sum(nil)), n, err
}

// Sum gives the hash of a content that is at hand.
func Sum(content []byte) string {
	h := sha256.Sum256(content)
	return hex.EncodeToString(h[:])
}
