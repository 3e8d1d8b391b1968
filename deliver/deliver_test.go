package deliver

import (
	"errors"
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"ydrion/files"
)

func output(t *testing.T, folder string, run int64, label, content string) *Output {
	t.Helper()
	o, err := Create(files.Real{}, folder, run, label)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := o.Write([]byte(content)); err != nil {
		t.Fatal(err)
	}
	return o
}

func TestPublish(t *testing.T) {
	folder := filepath.Join(t.TempDir(), "made", "when", "missing")
	o := output(t, folder, 7, "all", "hello")
	if entries, err := os.ReadDir(folder); err != nil || len(entries) != 1 || entries[0].Name() != files.Hidden {
		t.Errorf("before publishing one sees %v %v", entries, err)
	}
	sum, err := o.Finish(true)
	if err != nil || sum != "2cf24dba5fb0a30e26e83b2ac5b9e29e1b161e5c1fa7425e73043362938b9824" || o.Size != 5 {
		t.Errorf("%s, %d bytes, %v", sum, o.Size, err)
	}
	if got, err := Publish(files.Real{}, o.Temporary, folder, "a.hl7"); got != Published || err != nil {
		t.Errorf("%v %v", got, err)
	}
	// Again, as after a crash: its absence proves that it was published, whatever
	// the reader has done with it since.
	if err := os.Remove(filepath.Join(folder, "a.hl7")); err != nil {
		t.Fatal(err)
	}
	if got, err := Publish(files.Real{}, o.Temporary, folder, "a.hl7"); got != Already || err != nil {
		t.Errorf("%v %v", got, err)
	}
	// Nothing is replaced.
	if err := os.WriteFile(filepath.Join(folder, "b.hl7"), []byte("theirs"), 0o644); err != nil {
		t.Fatal(err)
	}
	p := output(t, folder, 8, "all", "ours")
	if _, err := p.Finish(false); err != nil {
		t.Fatal(err)
	}
	if got, err := Publish(files.Real{}, p.Temporary, folder, "b.hl7"); got != Taken || err != nil {
		t.Errorf("%v %v", got, err)
	}
	if c, _ := os.ReadFile(filepath.Join(folder, "b.hl7")); string(c) != "theirs" {
		t.Errorf("it was replaced by %q", c)
	}
	// A folder that has vanished proves nothing.
	if err := os.RemoveAll(folder); err != nil {
		t.Fatal(err)
	}
	if got, err := Publish(files.Real{}, p.Temporary, folder, "b.hl7"); err == nil {
		t.Errorf("published into a folder that is gone: %v", got)
	}
}

func TestSweep(t *testing.T) {
	folder := t.TempDir()
	for _, o := range []*Output{output(t, folder, 7, "all", "x"), output(t, folder, 7, "12", "x"), output(t, folder, 77, "all", "x")} {
		if _, err := o.Finish(false); err != nil {
			t.Fatal(err)
		}
	}
	if err := Sweep(files.Real{}, folder, 7); err != nil {
		t.Fatal(err)
	}
	left, err := os.ReadDir(filepath.Join(folder, files.Hidden))
	if err != nil || len(left) != 1 || left[0].Name() != "run-77-all" {
		t.Errorf("left %v %v", left, err)
	}
	if err := Sweep(files.Real{}, filepath.Join(folder, "none"), 7); err != nil {
		t.Errorf("a folder that is not there: %v", err)
	}
}

func TestFailures(t *testing.T) {
	folder := t.TempDir()
	for _, operation := range []string{"make folder", "create", "write", "sync"} {
		faulty := &files.Faulty{FS: files.Real{}, Fail: func(_ int64, op, _ string) error {
			if op == operation {
				return syscall.ENOSPC
			}
			return nil
		}}
		o, err := Create(faulty, folder, 9, operation)
		if err == nil {
			if _, err = o.Write([]byte("x")); err == nil {
				_, err = o.Finish(true)
			}
		}
		if !errors.Is(err, syscall.ENOSPC) {
			t.Errorf("%s failed, but %v", operation, err)
		}
	}
}

func TestCounted(t *testing.T) {
	for _, test := range []struct {
		name string
		n    int
		want string
	}{{"a.hl7", 1, "a.hl7"}, {"a.hl7", 2, "a-2.hl7"}, {"a.b.hl7", 3, "a.b-3.hl7"}, {"plain", 2, "plain-2"}} {
		if got := Counted(test.name, test.n); got != test.want {
			t.Errorf("%s, %d: %s", test.name, test.n, got)
		}
	}
}
