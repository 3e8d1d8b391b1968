package files

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"golang.org/x/sys/unix"
)

// Whoever may write into an inbox, or reads from a destination, may also put links
// there. Names below a confined folder are therefore resolved by the kernel so that no
// link is followed and nothing outside is reached (openat2), whatever is swapped in
// the very moment. The folder itself was named by whoever runs the service: it may be
// a link, and what it stands for is looked up anew each time.

// confined are the folders of this process that are not to be left, by path.
var confined atomic.Pointer[map[string]bool]

var confining sync.Mutex

// ErrLink says that there is a symbolic link in the way.
var ErrLink = errors.New("there is a symbolic link in the way; links are not followed here")

// ErrNotRegular says that something is not an ordinary file.
var ErrNotRegular = errors.New("it is not an ordinary file")

// Vanished tells whether an error only says that something is not there any more, or that
// it, or a folder on the way to it, is another thing by now.
func Vanished(err error) bool {
	return errors.Is(err, fs.ErrNotExist) || errors.Is(err, ErrLink) || errors.Is(err, unix.ENOTDIR)
}

// There tells of names in a folder whether there is something.
func There(fsys FS, folder string) func(name string) (bool, error) {
	return func(name string) (bool, error) {
		_, err := fsys.Look(filepath.Join(folder, name))
		if errors.Is(err, fs.ErrNotExist) {
			return false, nil
		}
		return err == nil, err
	}
}

// Confine lets names below a folder reach nothing but what is really there, from now
// on and for all of this process.
func (Real) Confine(folder string) {
	folder = filepath.Clean(folder)
	if known := confined.Load(); known != nil && (*known)[folder] {
		return
	}
	confining.Lock()
	defer confining.Unlock()
	all := map[string]bool{folder: true}
	if known := confined.Load(); known != nil {
		for f := range *known {
			all[f] = true
		}
	}
	confined.Store(&all)
}

// confinedBy gives the innermost confined folder above a name, and the rest of the
// name below it.
func confinedBy(name string) (root, rest string, ok bool) {
	known := confined.Load()
	if known == nil {
		return "", "", false
	}
	for at := filepath.Dir(name); ; at = filepath.Dir(at) {
		if (*known)[at] {
			return at, strings.TrimPrefix(name[len(at):], "/"), true
		}
		if at == "/" || at == "." {
			return "", "", false
		}
	}
}

// spot is a folder to work in and a name in it.
type spot struct {
	folder int // file descriptor, or AT_FDCWD
	name   string
}

func (s spot) close() {
	if s.folder != unix.AT_FDCWD {
		unix.Close(s.folder) //nolint: it was only held to name what is in it
	}
}

// at finds the folder that a name is in.
func at(op, name string) (spot, error) {
	root, rest, ok := confinedBy(name)
	if !ok {
		return spot{unix.AT_FDCWD, name}, nil
	}
	above, err := below(root, filepath.Dir(rest))
	if err != nil {
		return spot{}, wrong(op, name, err)
	}
	return spot{above, filepath.Base(rest)}, nil
}

// below opens a folder below a confined one, to name what is in it.
func below(root, rest string) (int, error) {
	top, err := ignoring(func() (int, error) {
		return unix.Open(root, unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	})
	if err != nil || rest == "." || rest == "" {
		return top, err
	}
	defer unix.Close(top) //nolint: see above
	how := unix.OpenHow{Flags: unix.O_PATH | unix.O_DIRECTORY | unix.O_CLOEXEC, Resolve: unix.RESOLVE_BENEATH | unix.RESOLVE_NO_SYMLINKS | unix.RESOLVE_NO_MAGICLINKS}
	fd, err := -1, error(unix.EAGAIN)
	for tries := 0; err == unix.EAGAIN && tries < 100; tries++ { // somebody renames folders in this very moment
		fd, err = ignoring(func() (int, error) { return unix.Openat2(top, rest, &how) })
	}
	if errors.Is(err, unix.ENOSYS) || errors.Is(err, unix.EPERM) {
		return stepwise(top, rest) // a kernel or a sandbox without openat2
	}
	return fd, err
}

// stepwise opens a folder below another one step after the other, following no link.
func stepwise(top int, rest string) (int, error) {
	fd := top
	for _, step := range strings.Split(rest, "/") {
		if step == ".." {
			return -1, unix.EXDEV
		}
		next, err := ignoring(func() (int, error) {
			return unix.Openat(fd, step, unix.O_PATH|unix.O_DIRECTORY|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
		})
		if fd != top {
			unix.Close(fd) //nolint: see above
		}
		if err != nil {
			return -1, err
		}
		fd = next
	}
	return fd, nil
}

// ignoring repeats a call that a signal has interrupted.
func ignoring(call func() (int, error)) (int, error) {
	for {
		fd, err := call()
		if err != unix.EINTR {
			return fd, err
		}
	}
}

// wrong makes an error that says what was done to what.
func wrong(op, name string, err error) error {
	switch err {
	case unix.ELOOP:
		err = ErrLink
	case unix.EAGAIN:
		err = errors.New("another program holds a lease on it")
	}
	return &fs.PathError{Op: op, Path: name, Err: err}
}

// open opens a file or folder without waiting for anything and without following a
// link in its last step.
func open(op, name string, flags int, mode uint32) (*os.File, error) {
	s, err := at(op, name)
	if err != nil {
		return nil, err
	}
	defer s.close()
	fd, err := ignoring(func() (int, error) {
		return unix.Openat(s.folder, s.name, flags|unix.O_NOFOLLOW|unix.O_NONBLOCK|unix.O_CLOEXEC, mode)
	})
	if err != nil {
		return nil, wrong(op, name, err)
	}
	return os.NewFile(uintptr(fd), name), nil
}

// Handle opens a folder only to name it: for asking for its events.
func (Real) Handle(folder string) (*os.File, error) {
	s, err := at("open", folder)
	if err != nil {
		return nil, err
	}
	defer s.close()
	flags := unix.O_PATH | unix.O_DIRECTORY | unix.O_CLOEXEC
	if s.folder != unix.AT_FDCWD {
		flags |= unix.O_NOFOLLOW
	}
	fd, err := ignoring(func() (int, error) { return unix.Openat(s.folder, s.name, flags, 0) })
	if err != nil {
		return nil, wrong("open", folder, err)
	}
	return os.NewFile(uintptr(fd), folder), nil
}

// makeBelow makes a folder below a confined one, and what is missing above it.
func makeBelow(name, root, rest string, mode fs.FileMode) error {
	if err := os.MkdirAll(root, 0o755); err != nil {
		return err
	}
	steps := strings.Split(rest, "/")
	for i, step := range steps {
		above, err := below(root, strings.Join(steps[:i], "/"))
		if err != nil {
			return wrong("make folder", name, err)
		}
		with := fs.FileMode(0o755)
		if i == len(steps)-1 || slices.Contains(steps[:i+1], Hidden) {
			with = mode // nobody looks into what is hidden, however deep
		}
		err = unix.Mkdirat(above, step, uint32(with))
		var st unix.Stat_t
		if errors.Is(err, unix.EEXIST) {
			if err = unix.Fstatat(above, step, &st, unix.AT_SYMLINK_NOFOLLOW); err == nil && st.Mode&unix.S_IFMT != unix.S_IFDIR {
				err = unix.ENOTDIR
				if st.Mode&unix.S_IFMT == unix.S_IFLNK {
					err = unix.ELOOP
				}
			}
		}
		unix.Close(above) //nolint: see above
		if err != nil {
			return wrong("make folder", name, err)
		}
	}
	return nil
}

// infoOf makes an Info of what the kernel says.
func infoOf(name string, st *unix.Stat_t) Info {
	i := Info{Name: name, Size: st.Size, Modified: unixTime(st.Mtim), Arrived: unixTime(st.Ctim), Device: uint64(st.Dev), Inode: st.Ino, Links: uint64(st.Nlink), Mode: fs.FileMode(st.Mode & 0o777)}
	switch st.Mode & unix.S_IFMT {
	case unix.S_IFDIR:
		i.Mode |= fs.ModeDir
	case unix.S_IFLNK:
		i.Mode |= fs.ModeSymlink
	case unix.S_IFIFO:
		i.Mode |= fs.ModeNamedPipe
	case unix.S_IFSOCK:
		i.Mode |= fs.ModeSocket
	case unix.S_IFCHR, unix.S_IFBLK:
		i.Mode |= fs.ModeDevice
	}
	return i
}

// alone tells whether nobody else has an open file open, and it has no other name. A
// write lease is only granted then; where there are no leases nobody can tell, and it
// is taken for not alone.
func alone(f *os.File) bool {
	var st unix.Stat_t
	if err := unix.Fstat(int(f.Fd()), &st); err != nil || st.Nlink != 1 {
		return false
	}
	if _, err := unix.FcntlInt(f.Fd(), unix.F_SETLEASE, unix.F_WRLCK); err != nil {
		return false
	}
	_, err := unix.FcntlInt(f.Fd(), unix.F_SETLEASE, unix.F_UNLCK)
	return err == nil
}
