package archive

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"ydrion/files"
)

// elsewhere is a file system on which nothing can be linked.
type elsewhere struct{ files.Real }

func (elsewhere) Link(string, string) error { return files.ErrOtherDevice }

func TestKeep(t *testing.T) {
	for name, fsys := range map[string]files.FS{"linked": files.Real{}, "copied": elsewhere{}} {
		d := t.TempDir()
		a := New(fsys, filepath.Join(d, "archive"))
		for _, file := range []string{"one", "two"} { // the same content twice
			path := filepath.Join(d, file)
			if err := os.WriteFile(path, []byte("content"), 0o644); err != nil {
				t.Fatal(err)
			}
			hash, n, err := Hash(strings.NewReader("content"))
			if err != nil || n != 7 || len(hash) != 64 {
				t.Fatal(hash, n, err)
			}
			for range 2 { // repeated after a crash
				if err := a.Keep(path, hash, true); err != nil {
					t.Fatalf("%s: %v", name, err)
				}
			}
			if err := os.Remove(path); err != nil {
				t.Fatal(err)
			}
			f, err := a.Open(hash)
			if err != nil || !a.Has(hash) {
				t.Fatal(err)
			}
			if c, err := io.ReadAll(f); err != nil || string(c) != "content" {
				t.Errorf("%s: the archive has %q %v", name, c, err)
			}
			if err := f.Close(); err != nil {
				t.Error(err)
			}
		}
		var kept []string
		err := filepath.Walk(filepath.Join(d, "archive"), func(p string, i os.FileInfo, err error) error {
			if err == nil && !i.IsDir() {
				kept = append(kept, p)
			}
			return err
		})
		if err != nil || len(kept) != 1 {
			t.Errorf("%s: kept %v (%v)", name, kept, err)
		}
	}
	a := New(files.Real{}, t.TempDir())
	hash, _, _ := Hash(strings.NewReader("never"))
	if _, err := a.Open(hash); !errors.Is(err, fs.ErrNotExist) || a.Has(hash) {
		t.Errorf("the archive has what it was never given: %v", err)
	}
	if err := a.Keep("/nowhere/file", hash, true); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("a file that is not there was kept: %v", err)
	}
}

// TestKeepTheSameAtOnce: several routes bring the same content from another
// file system at the same time; the archive has it once, and whole.
func TestKeepTheSameAtOnce(t *testing.T) {
	d := t.TempDir()
	a := New(elsewhere{}, filepath.Join(d, "archive"))
	content := strings.Repeat("many bytes ", 200_000)
	hash, _, err := Hash(strings.NewReader(content))
	if err != nil {
		t.Fatal(err)
	}
	var routes sync.WaitGroup
	for i := range 8 {
		file := filepath.Join(d, string(rune('a'+i)))
		if err := os.WriteFile(file, []byte(content), 0o644); err != nil {
			t.Fatal(err)
		}
		routes.Go(func() {
			if err := a.Keep(file, hash, true); err != nil {
				t.Error(err)
			}
			c, err := os.ReadFile(a.Path(hash))
			if err != nil || string(c) != content {
				t.Errorf("the archive has %d of %d bytes, %v", len(c), len(content), err)
			}
		})
	}
	routes.Wait()
	if kept, err := os.ReadDir(filepath.Dir(a.Path(hash))); err != nil || len(kept) != 1 {
		t.Errorf("kept %v, %v", kept, err)
	}
}

// TestRemove: what is needed after all stays, also when it became needed in the
// last moment; a removal that was interrupted is finished by the next.
func TestRemove(t *testing.T) {
	d := t.TempDir()
	a := New(files.Real{}, filepath.Join(d, "archive"))
	sum, size, err := a.Take(strings.NewReader("content"))
	if err != nil || size != 7 || !a.Has(sum) {
		t.Fatal(sum, size, err)
	}
	asked := func(needed bool) func() (bool, error) { return func() (bool, error) { return needed, nil } }
	if removed, err := a.Remove(sum, asked(true)); removed || err != nil || !a.Has(sum) {
		t.Errorf("needed, but removed %v %v", removed, err)
	}
	// Somebody brings the same content while it is being removed.
	again := func() (bool, error) {
		if a.Has(sum) {
			t.Error("it is still there while one decides about it")
		}
		_, _, err := a.Take(strings.NewReader("content"))
		return true, err
	}
	if removed, err := a.Remove(sum, again); removed || err != nil || !a.Has(sum) {
		t.Errorf("brought again, but removed %v %v", removed, err)
	}
	if err := os.Link(a.Path(sum), a.Path(sum)+going); err != nil { // an interrupted removal
		t.Fatal(err)
	}
	if removed, err := a.Remove(sum, asked(false)); !removed || err != nil {
		t.Errorf("removed %v %v", removed, err)
	}
	if removed, err := a.Remove(sum, asked(false)); err != nil {
		t.Errorf("removed again %v %v", removed, err)
	}
	if a.Has(sum) {
		t.Error("it is still there")
	}
	if removed, err := a.Remove(sum, asked(false)); removed || err != nil {
		t.Errorf("what is not there was removed: %v %v", removed, err)
	}
}

// TestCopy copies a file that stays where it is.
func TestCopy(t *testing.T) {
	d := t.TempDir()
	a := New(files.Real{}, filepath.Join(d, "archive"))
	path := filepath.Join(d, "left.csv")
	if err := os.WriteFile(path, []byte("a;b\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	sum, size, err := a.Copy(path)
	if err != nil || size != 4 {
		t.Fatal(sum, size, err)
	}
	// A change of the file does not reach the archive.
	if err := os.WriteFile(path, []byte("c;d\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	f, err := a.Open(sum)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if c, err := io.ReadAll(f); err != nil || string(c) != "a;b\n" {
		t.Errorf("the archive has %q %v", c, err)
	}
	if err := a.Sync(sum); err != nil {
		t.Error(err)
	}
	if _, _, err := a.Copy(filepath.Join(d, "none")); !os.IsNotExist(errors.Unwrap(err)) {
		t.Errorf("a file that is not there: %v", err)
	}
	if coming, err := os.ReadDir(filepath.Join(d, "archive", "coming")); err != nil || len(coming) != 0 {
		t.Errorf("left behind: %v %v", coming, err)
	}
}

// TestCheck: an original that somebody has changed is not taken for what it was, also
// when it was compared before.
func TestCheck(t *testing.T) {
	d := t.TempDir()
	a := New(files.Real{}, filepath.Join(d, "archive"))
	sum, size, err := a.Take(strings.NewReader("as it came"))
	if err != nil {
		t.Fatal(err)
	}
	for range 2 {
		if n, err := a.Check(sum); err != nil || n != size {
			t.Errorf("%d %v", n, err)
		}
	}
	time.Sleep(10 * time.Millisecond) // the kernel's clock is coarse
	if err := os.WriteFile(a.Path(sum), []byte("as it isn't"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := a.Check(sum); !errors.Is(err, ErrOther) {
		t.Errorf("%v", err)
	}
	if _, err := a.OpenChecked(sum); !errors.Is(err, ErrOther) {
		t.Errorf("%v", err)
	}
}

// TestSweep removes what never came into the archive, when it is old.
func TestSweep(t *testing.T) {
	d := t.TempDir()
	a := New(files.Real{}, filepath.Join(d, "archive"))
	if err := a.Sweep(time.Now()); err != nil {
		t.Errorf("where nothing is: %v", err)
	}
	sum, _, err := a.Take(strings.NewReader("kept"))
	if err != nil {
		t.Fatal(err)
	}
	for name, age := range map[string]time.Duration{"old": 48 * time.Hour, "young": time.Hour} {
		path := filepath.Join(d, "archive", "coming", name)
		if err := os.WriteFile(path, nil, 0o600); err != nil {
			t.Fatal(err)
		}
		when := time.Now().Add(-age)
		if err := os.Chtimes(path, when, when); err != nil {
			t.Fatal(err)
		}
	}
	if err := a.Sweep(time.Now().Add(-24 * time.Hour)); err != nil {
		t.Fatal(err)
	}
	left, err := os.ReadDir(filepath.Join(d, "archive", "coming"))
	if err != nil || len(left) != 1 || left[0].Name() != "young" || !a.Has(sum) {
		t.Errorf("%v %v", left, err)
	}
}

// TestTakenWhileGivenUp: content that somebody gives up in the moment in which another takes the same is there afterwards.
func TestTakenWhileGivenUp(t *testing.T) {
	a := New(files.Real{}, t.TempDir())
	if _, _, err := a.Take(strings.NewReader("the same")); err != nil {
		t.Fatal(err)
	}
	sum, _, err := a.TakeFor(strings.NewReader("the same"), func(sum string, _ int64) error {
		removed, err := a.Remove(sum, func() (bool, error) { return false, nil })
		if !removed {
			t.Error("it was not removed")
		}
		return err
	})
	if err != nil || !a.Has(sum) {
		t.Errorf("it is not there: %v", err)
	}
}
