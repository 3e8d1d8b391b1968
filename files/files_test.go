package files

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
)

func write(t *testing.T, path, content string) {
	t.Helper()
	if err := os.WriteFile(path, []byte(content), 0o644); err != nil {
		t.Fatal(err)
	}
}

func TestMoveReplacesNothing(t *testing.T) {
	d := t.TempDir()
	a, b := filepath.Join(d, "a"), filepath.Join(d, "b")
	write(t, a, "new")
	write(t, b, "old")
	if err := (Real{}).Move(a, b); !errors.Is(err, fs.ErrExist) {
		t.Errorf("moving onto a file: %v", err)
	}
	if c, _ := os.ReadFile(b); string(c) != "old" {
		t.Errorf("the file was replaced by %q", c)
	}
	if err := (Real{}).Move(a, filepath.Join(d, "c")); err != nil {
		t.Error(err)
	}
	if err := (Real{}).Move(a, filepath.Join(d, "c2")); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("moving what is gone: %v", err)
	}
	if err := (Real{}).Move(b, "/dev/shm/ydrion-test-other-device"); !errors.Is(err, ErrOtherDevice) {
		os.Remove("/dev/shm/ydrion-test-other-device")
		if st, e := os.Stat("/dev/shm"); e == nil && err == nil {
			t.Logf("%v and %s share a device; nothing to see", st.Name(), d)
		} else {
			t.Errorf("moving to another device: %v", err)
		}
	}
}

func TestCreateAndOpenFollowNothing(t *testing.T) {
	d := t.TempDir()
	target, link := filepath.Join(d, "target"), filepath.Join(d, "link")
	write(t, target, "x")
	if err := os.Symlink(target, link); err != nil {
		t.Fatal(err)
	}
	if _, err := (Real{}).Open(link); !errors.Is(err, ErrLink) {
		t.Errorf("a link was opened: %v", err)
	}
	if _, err := (Real{}).Create(target, 0o644); !errors.Is(err, fs.ErrExist) {
		t.Errorf("creating onto a file: %v", err)
	}
	if i, err := (Real{}).Look(link); err != nil || i.Regular() || i.Mode&fs.ModeSymlink == 0 {
		t.Errorf("%+v %v", i, err)
	}
}

func TestFree(t *testing.T) {
	d := t.TempDir()
	path := filepath.Join(d, "a")
	write(t, path, "x")
	free := func() string {
		t.Helper()
		reason, sure, err := Real{}.Free(path)
		if err != nil {
			t.Fatal(err)
		}
		if !sure {
			t.Error("our own file, and it is not known whether somebody writes")
		}
		return reason
	}
	if r := free(); r != "" {
		t.Errorf("nobody has it, but %q", r)
	}
	f, err := os.OpenFile(path, os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	if r := free(); !strings.Contains(r, "open for writing") {
		t.Errorf("open for writing, but %q", r)
	}
	if err := f.Close(); err != nil {
		t.Fatal(err)
	}
	if r := free(); r != "" {
		t.Errorf("closed again, but %q", r)
	}
	if f, err = os.Open(path); err != nil {
		t.Fatal(err)
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX); err != nil {
		t.Fatal(err)
	}
	if r := free(); !strings.Contains(r, "locked the file") {
		t.Errorf("locked, but %q", r)
	}
	if err := f.Close(); err != nil {
		t.Fatal(err)
	}
	if _, _, err := (Real{}).Free(filepath.Join(d, "none")); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("a file that is not there: %v", err)
	}
}

func TestCopyLeavesNothingHalf(t *testing.T) {
	d := t.TempDir()
	from, to := filepath.Join(d, "from"), filepath.Join(d, "to")
	write(t, from, strings.Repeat("x", 100_000))
	faulty := &Faulty{FS: Real{}, Fail: func(_ int64, operation, _ string) error {
		if operation == "sync" {
			return syscall.ENOSPC
		}
		return nil
	}}
	if err := Copy(faulty, from, to, 0o644); !errors.Is(err, syscall.ENOSPC) {
		t.Errorf("%v", err)
	}
	if _, err := os.Stat(to); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("a half copy was left: %v", err)
	}
	if err := Copy(Real{}, from, to, 0o644); err != nil {
		t.Fatal(err)
	}
	if c, _ := os.ReadFile(to); len(c) != 100_000 {
		t.Errorf("%d bytes were copied", len(c))
	}
	if faulty.Calls.Load() == 0 {
		t.Error("calls are not counted")
	}
}
