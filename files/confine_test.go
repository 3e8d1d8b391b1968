package files

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"
)

// TestConfine: below a confined folder no call reaches what a planted link points
// to, in whichever step of the name it stands.
func TestConfine(t *testing.T) {
	base := t.TempDir()
	inbox, other := filepath.Join(base, "inbox"), filepath.Join(base, "other")
	for _, f := range []string{inbox, other} {
		if err := os.Mkdir(f, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	secret := filepath.Join(other, "secret")
	if err := os.WriteFile(secret, []byte("theirs"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(inbox, "mine"), []byte("ours"), 0o600); err != nil {
		t.Fatal(err)
	}
	var r Real
	r.Confine(inbox)
	if err := os.Symlink(other, filepath.Join(inbox, "sub")); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink("../other", filepath.Join(inbox, "relative")); err != nil {
		t.Fatal(err)
	}
	mine := filepath.Join(inbox, "mine")
	for _, sub := range []string{"sub", "relative"} {
		through := filepath.Join(inbox, sub, "secret")
		to := filepath.Join(inbox, sub, "new")
		for name, call := range map[string]func() error{
			"open":        func() error { _, err := r.Open(through); return err },
			"look":        func() error { _, err := r.Look(through); return err },
			"create":      func() error { _, err := r.Create(to, 0o600); return err },
			"list":        func() error { _, err := r.List(filepath.Join(inbox, sub)); return err },
			"make folder": func() error { return r.MakeFolder(filepath.Join(inbox, sub, "folder"), 0o755) },
			"made of it":  func() error { return r.MakeFolder(filepath.Join(inbox, sub), 0o755) },
			"move from":   func() error { return r.Move(through, filepath.Join(inbox, "taken")) },
			"move to":     func() error { return r.Move(mine, to) },
			"replace":     func() error { return r.Replace(mine, filepath.Join(inbox, sub, "secret")) },
			"link from":   func() error { return r.Link(through, filepath.Join(inbox, "linked")) },
			"link to":     func() error { return r.Link(mine, to) },
			"remove":      func() error { return r.Remove(through) },
			"own":         func() error { return r.Own(through, 0o777, "") },
			"sync folder": func() error { return r.SyncFolder(filepath.Join(inbox, sub)) },
			"free":        func() error { _, _, err := r.Free(through); return err },
			"handle":      func() error { _, err := r.Handle(filepath.Join(inbox, sub)); return err },
		} {
			if err := call(); err == nil {
				t.Errorf("%s goes through the link %s", name, sub)
			} else if !errors.Is(err, ErrLink) && !errors.Is(err, syscall.ENOTDIR) && !errors.Is(err, syscall.EXDEV) {
				t.Errorf("%s through %s: %v", name, sub, err)
			}
		}
	}
	if c, err := os.ReadFile(secret); err != nil || string(c) != "theirs" {
		t.Errorf("%q %v", c, err)
	}
	if entries, err := os.ReadDir(other); err != nil || len(entries) != 1 {
		t.Errorf("%v %v", entries, err)
	}
	// What is really there is reached, however deep; the same without openat2.
	deep := filepath.Join(inbox, "a", "b", "c")
	if err := r.MakeFolder(deep, 0o700); err != nil {
		t.Fatal(err)
	}
	if err := r.Move(mine, filepath.Join(deep, "mine")); err != nil {
		t.Fatal(err)
	}
	if info, err := r.Look(filepath.Join(deep, "mine")); err != nil || info.Size != 4 || info.Links != 1 {
		t.Errorf("%+v %v", info, err)
	}
	top, err := below(inbox, "")
	if err != nil {
		t.Fatal(err)
	}
	if fd, err := stepwise(top, "a/b/c"); err != nil {
		t.Error(err)
	} else {
		syscall.Close(fd)
	}
	for _, out := range []string{"sub", "../other", "a/../../other"} {
		if _, err := stepwise(top, out); !errors.Is(err, ErrLink) && !errors.Is(err, syscall.ENOTDIR) && !errors.Is(err, syscall.EXDEV) && !errors.Is(err, syscall.ELOOP) {
			t.Errorf("stepwise follows %s: %v", out, err)
		}
		if _, err := below(inbox, out); !errors.Is(err, ErrLink) && !errors.Is(err, syscall.EXDEV) && !errors.Is(err, syscall.ENOTDIR) && !errors.Is(err, syscall.ELOOP) {
			t.Errorf("it leaves by %s: %v", out, err)
		}
	}
	syscall.Close(top)
	// The folder itself may be a link: whoever runs the service named it.
	named := filepath.Join(base, "named")
	if err := os.Symlink(inbox, named); err != nil {
		t.Fatal(err)
	}
	r.Confine(named)
	if _, err := r.Look(filepath.Join(named, "a", "b", "c", "mine")); err != nil {
		t.Error(err)
	}
}

// TestOpenWaitsForNothing: a pipe under a file's name does not keep anybody, and
// what is not an ordinary file is not opened.
func TestOpenWaitsForNothing(t *testing.T) {
	folder := t.TempDir()
	pipe := filepath.Join(folder, "pipe")
	if err := syscall.Mkfifo(pipe, 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink("/dev/zero", filepath.Join(folder, "link")); err != nil {
		t.Fatal(err)
	}
	done := make(chan error)
	go func() { _, err := (Real{}).Open(pipe); done <- err }()
	select {
	case err := <-done:
		if !errors.Is(err, ErrNotRegular) {
			t.Errorf("%v", err)
		}
	case <-time.After(10 * time.Second):
		t.Fatal("it waits for the pipe")
	}
	if _, err := (Real{}).Open(filepath.Join(folder, "link")); !errors.Is(err, ErrLink) {
		t.Errorf("%v", err)
	}
	if _, err := (Real{}).Open(folder); !errors.Is(err, ErrNotRegular) {
		t.Errorf("%v", err)
	}
}

// TestAlone: another name, a writer or a reader of a file is noticed.
func TestAlone(t *testing.T) {
	folder := t.TempDir()
	path := filepath.Join(folder, "file")
	if err := os.WriteFile(path, []byte("text"), 0o644); err != nil {
		t.Fatal(err)
	}
	is := func(want bool, when string) {
		t.Helper()
		f, err := (Real{}).Open(path)
		if err != nil {
			t.Fatal(err)
		}
		defer f.Close()
		if f.Alone() != want {
			t.Errorf("alone is not %v %s", want, when)
		}
		if c, err := io.ReadAll(f); err != nil || string(c) != "text" {
			t.Errorf("%q %v", c, err)
		}
	}
	is(true, "with nobody else")
	for _, flags := range []int{os.O_RDONLY, os.O_WRONLY, os.O_RDWR} {
		f, err := os.OpenFile(path, flags, 0)
		if err != nil {
			t.Fatal(err)
		}
		is(false, "while somebody has it open")
		if err := f.Close(); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Link(path, filepath.Join(folder, "other")); err != nil {
		t.Fatal(err)
	}
	is(false, "with another name")
	if err := os.Remove(filepath.Join(folder, "other")); err != nil && !errors.Is(err, fs.ErrNotExist) {
		t.Fatal(err)
	}
	is(true, "again")
}
