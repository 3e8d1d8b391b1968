package archive

import (
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

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
				if err := a.Keep(path, hash); err != nil {
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
	if _, err := a.Open(hash); err == nil || a.Has(hash) {
		t.Error("the archive has what it was never given")
	}
	if err := a.Keep("/nowhere/file", hash); err == nil {
		t.Error("a file that is not there was kept")
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
			if err := a.Keep(file, hash); err != nil {
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
