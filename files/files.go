// Package files is the port to the file system: the few operations that
// everything above works with, each of which can be counted and made to fail.
//
// Names are absolute paths. Symbolic links are never followed at the last
// step: a link is reported as what it is. Below a confined folder they are not
// followed at any step. Nothing waits for a pipe, and only ordinary files are
// opened.
package files

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"
)

// Info is what is known about a file without opening it.
type Info struct {
	Name     string // last element
	Size     int64
	Modified time.Time
	Arrived  time.Time // the latest change of anything about it; a rename is one
	Device   uint64
	Inode    uint64
	Links    uint64 // how many names it has
	Mode     fs.FileMode
}

// Regular tells whether it is an ordinary file.
func (i Info) Regular() bool { return i.Mode.IsRegular() }

// Same tells whether nothing has happened to a file between two looks.
func (i Info) Same(j Info) bool {
	return i.Size == j.Size && i.Modified.Equal(j.Modified) && i.Inode == j.Inode && i.Device == j.Device
}

// File is an open file.
type File interface {
	io.Reader
	io.Writer
	io.Closer
	Sync() error
	Info() (Info, error)
	// Alone tells whether nobody else has the file open and it has no other name,
	// so that nobody who cannot see it can change it.
	Alone() bool
}

// FS is the port.
type FS interface {
	// Confine lets names below a folder follow no links and never leave it.
	Confine(folder string)
	// Open opens an ordinary file for reading; ErrNotRegular or ErrLink if it is
	// something else.
	Open(name string) (File, error)
	// Create makes a new file; it is an error if there is one.
	Create(name string, mode fs.FileMode) (File, error)
	// Append opens a file that is there, for writing at its end.
	Append(name string) (File, error)
	Look(name string) (Info, error)
	List(folder string) ([]Info, error)
	// MakeFolder makes a folder, with that mode unless it is there, and what is
	// missing above it.
	MakeFolder(name string, mode fs.FileMode) error
	// Move renames without replacing: fs.ErrExist if the new name is taken,
	// ErrOtherDevice if it is on another file system.
	Move(from, to string) error
	// Replace renames and takes the place of a file that has the name.
	Replace(from, to string) error
	// Own sets permissions (unless 0) and the owner, given as user:group (unless
	// empty).
	Own(name string, mode fs.FileMode, owner string) error
	// Space tells how many bytes are free for us on the folder's file system, and
	// how many there are.
	Space(folder string) (free, total int64, err error)
	// Link gives a file a second name: fs.ErrExist if that is taken,
	// ErrOtherDevice if the file system cannot do it.
	Link(from, to string) error
	Remove(name string) error
	// SyncFolder makes the entries of a folder durable.
	SyncFolder(name string) error
	// SyncAll makes everything on the folder's file system durable.
	SyncAll(folder string) error
	// Handle opens a folder only to name it.
	Handle(folder string) (*os.File, error)
	// Free tells why a file should be left alone for now: somebody has it open
	// for writing or has locked it. It is empty if nobody has. Sure tells whether a
	// writer would have been noticed: the kernel tells of them only to a file's owner or
	// with CAP_LEASE, and some file systems never do.
	Free(name string) (reason string, sure bool, err error)
}

// ErrOtherDevice says that a rename would cross file systems.
var ErrOtherDevice = errors.New("the two places do not share a file system that could do this")

// Real is the file system of the machine.
type Real struct{}

var _ FS = Real{}

type realFile struct{ *os.File }

func (f realFile) Info() (Info, error) {
	var st unix.Stat_t
	if err := unix.Fstat(int(f.Fd()), &st); err != nil {
		return Info{}, wrong("look at", f.Name(), err)
	}
	return infoOf(filepath.Base(f.Name()), &st), nil
}

func (f realFile) Alone() bool { return alone(f.File) }

func unixTime(t unix.Timespec) time.Time { return time.Unix(t.Sec, t.Nsec) }

func (Real) Open(name string) (File, error) {
	f, err := open("open", name, unix.O_RDONLY, 0)
	if err != nil {
		return nil, err
	}
	opened := realFile{f}
	info, err := opened.Info()
	if err == nil && !info.Regular() {
		err = wrong("open", name, ErrNotRegular)
	}
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return opened, nil
}

func (Real) Create(name string, mode fs.FileMode) (File, error) {
	f, err := open("create", name, unix.O_WRONLY|unix.O_CREAT|unix.O_EXCL, uint32(mode))
	if err != nil {
		return nil, err
	}
	return realFile{f}, nil
}

func (Real) Append(name string) (File, error) {
	f, err := open("append to", name, unix.O_WRONLY|unix.O_APPEND, 0)
	if err != nil {
		return nil, err
	}
	return realFile{f}, nil
}

func (Real) Look(name string) (Info, error) {
	s, err := at("look at", name)
	if err != nil {
		return Info{}, err
	}
	defer s.close()
	return lookAt(s, name)
}

func lookAt(s spot, name string) (Info, error) {
	var st unix.Stat_t
	if err := unix.Fstatat(s.folder, s.name, &st, unix.AT_SYMLINK_NOFOLLOW); err != nil {
		return Info{}, wrong("look at", name, err)
	}
	return infoOf(filepath.Base(name), &st), nil
}

func (Real) List(folder string) ([]Info, error) {
	f, err := openFolder(folder)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	names, err := f.Readdirnames(-1)
	if err != nil {
		return nil, err
	}
	slices.Sort(names)
	out := make([]Info, 0, len(names))
	for _, name := range names {
		i, err := lookAt(spot{int(f.Fd()), name}, filepath.Join(folder, name))
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, err
		}
		out = append(out, i)
	}
	return out, nil
}

func (Real) MakeFolder(name string, mode fs.FileMode) error {
	if root, rest, ok := confinedBy(name); ok {
		return makeBelow(name, root, rest, mode)
	}
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		return err
	}
	err := os.Mkdir(name, mode)
	if st, look := os.Stat(name); errors.Is(err, fs.ErrExist) && look == nil && st.IsDir() {
		return nil
	}
	return err
}

// ends finds the folders that two names are in.
func ends(op, from, to string) (f, t spot, err error) {
	if f, err = at(op, from); err != nil {
		return f, t, err
	}
	if t, err = at(op, to); err != nil {
		f.close()
	}
	return f, t, err
}

func (Real) Move(from, to string) error {
	f, t, err := ends("move", from, to)
	if err != nil {
		return err
	}
	defer f.close()
	defer t.close()
	err = unix.Renameat2(f.folder, f.name, t.folder, t.name, unix.RENAME_NOREPLACE)
	switch {
	case err == nil:
		return nil
	case errors.Is(err, unix.EXDEV):
		return ErrOtherDevice
	case errors.Is(err, unix.EINVAL) || errors.Is(err, unix.ENOSYS):
		// The file system cannot rename without replacing: a hard link fails
		// if the name is taken, which comes to the same.
		if err = unix.Linkat(f.folder, f.name, t.folder, t.name, 0); err == nil {
			err = unix.Unlinkat(f.folder, f.name, 0)
		}
		if err == nil {
			return nil
		}
	}
	return &os.LinkError{Op: "move", Old: from, New: to, Err: err}
}

func (Real) Replace(from, to string) error {
	f, t, err := ends("replace", from, to)
	if err != nil {
		return err
	}
	defer f.close()
	defer t.close()
	err = unix.Renameat(f.folder, f.name, t.folder, t.name)
	if errors.Is(err, unix.EXDEV) {
		return ErrOtherDevice
	}
	if err != nil {
		return &os.LinkError{Op: "replace", Old: from, New: to, Err: err}
	}
	return nil
}

func (Real) Own(name string, mode fs.FileMode, owner string) error {
	f, err := open("own", name, unix.O_RDONLY, 0)
	if err != nil {
		return err
	}
	defer f.Close()
	if owner != "" {
		uid, gid, err := lookupOwner(owner)
		if err != nil {
			return err
		}
		if err := f.Chown(uid, gid); err != nil {
			return err
		}
	}
	if mode != 0 {
		return f.Chmod(mode) // last: a change of the owner clears bits
	}
	return nil
}

// lookupOwner finds the numbers of user:group, -1 for a part that is not given.
func lookupOwner(owner string) (uid, gid int, err error) {
	name, group, _ := strings.Cut(owner, ":")
	uid, gid = -1, -1
	if name != "" {
		u, err := user.Lookup(name)
		if err != nil {
			if u, err = user.LookupId(name); err != nil {
				return 0, 0, fmt.Errorf("there is no user %q on this machine", name)
			}
		}
		if uid, err = strconv.Atoi(u.Uid); err != nil {
			return 0, 0, err
		}
	}
	if group != "" {
		g, err := user.LookupGroup(group)
		if err != nil {
			if g, err = user.LookupGroupId(group); err != nil {
				return 0, 0, fmt.Errorf("there is no group %q on this machine", group)
			}
		}
		if gid, err = strconv.Atoi(g.Gid); err != nil {
			return 0, 0, err
		}
	}
	return uid, gid, nil
}

func (Real) Space(folder string) (free, total int64, err error) {
	var st unix.Statfs_t
	if err := unix.Statfs(folder, &st); err != nil {
		return 0, 0, fmt.Errorf("asking how much space there is at %s: %w", folder, err)
	}
	return int64(st.Bavail) * st.Bsize, int64(st.Blocks) * st.Bsize, nil
}

func (Real) Link(from, to string) error {
	f, t, err := ends("link", from, to)
	if err != nil {
		return err
	}
	defer f.close()
	defer t.close()
	err = unix.Linkat(f.folder, f.name, t.folder, t.name, 0)
	for _, cannot := range []error{unix.EXDEV, unix.EPERM, unix.ENOTSUP, unix.EMLINK} {
		if errors.Is(err, cannot) {
			return ErrOtherDevice
		}
	}
	if err != nil {
		return &os.LinkError{Op: "link", Old: from, New: to, Err: err}
	}
	return nil
}

func (Real) Remove(name string) error {
	s, err := at("remove", name)
	if err != nil {
		return err
	}
	defer s.close()
	err = unix.Unlinkat(s.folder, s.name, 0)
	if errors.Is(err, unix.EISDIR) || errors.Is(err, unix.EPERM) {
		if folder := unix.Unlinkat(s.folder, s.name, unix.AT_REMOVEDIR); !errors.Is(folder, unix.ENOTDIR) {
			err = folder
		}
	}
	if err != nil {
		return wrong("remove", name, err)
	}
	return nil
}

// openFolder opens a folder to read or sync it.
func openFolder(name string) (*os.File, error) {
	if _, _, below := confinedBy(name); below {
		return open("open", name, unix.O_RDONLY|unix.O_DIRECTORY, 0)
	}
	return os.Open(name)
}

func (Real) SyncFolder(name string) error {
	f, err := openFolder(name)
	if err != nil {
		return err
	}
	defer f.Close() //nolint: a folder that was only read
	if err := f.Sync(); err != nil {
		return fmt.Errorf("syncing the folder %s: %w", name, err)
	}
	return nil
}

func (Real) SyncAll(name string) error {
	f, err := openFolder(name)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := unix.Syncfs(int(f.Fd())); err != nil {
		return fmt.Errorf("syncing the file system of %s: %w", name, err)
	}
	return nil
}

func (Real) Free(name string) (reason string, sure bool, err error) {
	f, err := open("open", name, unix.O_RDONLY, 0)
	if err != nil {
		return "", false, err
	}
	defer f.Close()
	fd := int(f.Fd())
	// A read lease is only granted while nobody has the file open for writing.
	// File systems and owners for which there are no leases say so with another
	// error than EAGAIN.
	if _, err := unix.FcntlInt(uintptr(fd), unix.F_SETLEASE, unix.F_RDLCK); errors.Is(err, unix.EAGAIN) {
		return "somebody still has the file open for writing", true, nil
	} else if err == nil {
		sure = true
		if _, err := unix.FcntlInt(uintptr(fd), unix.F_SETLEASE, unix.F_UNLCK); err != nil {
			return "", true, fmt.Errorf("giving the lease on %s back: %w", name, err)
		}
	}
	if err := unix.Flock(fd, unix.LOCK_SH|unix.LOCK_NB); errors.Is(err, unix.EWOULDBLOCK) {
		return "somebody has locked the file", true, nil
	}
	lock := unix.Flock_t{Type: unix.F_RDLCK}
	if err := unix.FcntlFlock(uintptr(fd), unix.F_OFD_GETLK, &lock); err == nil && lock.Type != unix.F_UNLCK {
		return "somebody has locked a part of the file", true, nil
	}
	return "", sure, nil
}

// Copy copies a file to a new one with a mode and makes it durable. What there is of
// the new file is removed if that fails.
func Copy(fsys FS, from, to string, mode fs.FileMode) (err error) {
	in, err := fsys.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := fsys.Create(to, mode)
	if err != nil {
		return err
	}
	defer func() {
		if closeErr := out.Close(); err == nil {
			err = closeErr
		}
		if err != nil {
			err = errors.Join(err, fsys.Remove(to))
		}
	}()
	if _, err = io.Copy(out, in); err != nil {
		return err
	}
	return out.Sync()
}

// Hidden is the folder within inboxes and destinations that holds what is not
// to be seen yet.
const Hidden = ".ydrion"

// Private lets nobody else look into a folder that is there. It tells whether anybody
// could.
func Private(fsys FS, folder string) (open bool, err error) {
	info, err := fsys.Look(folder)
	if errors.Is(err, fs.ErrNotExist) || err == nil && (!info.Mode.IsDir() || info.Mode.Perm()&0o077 == 0) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	return true, fsys.Own(folder, 0o700, "")
}

// HiddenFolder makes the hidden folder within another, which only we can look into,
// and gives its path.
func HiddenFolder(fsys FS, folder string) (string, error) {
	hidden := filepath.Join(folder, Hidden)
	return hidden, fsys.MakeFolder(hidden, 0o700)
}
