package files

import (
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestVolatile: what was synced stays, of the rest any part may be lost, the two
// ends of a rename together.
func TestVolatile(t *testing.T) {
	outcomes := map[string]int{}
	for seed := range uint64(60) {
		root, saved := t.TempDir(), t.TempDir()
		v := NewVolatile(root, saved)
		at := func(name string) string { return filepath.Join(root, name) }
		write := func(name, content string, sync bool) {
			t.Helper()
			f, err := v.Create(at(name), 0o644)
			if err == nil {
				_, err = f.Write([]byte(content))
			}
			if err == nil && sync {
				err = f.Sync()
			}
			if err := errors.Join(err, f.Close()); err != nil {
				t.Fatal(err)
			}
		}
		must := func(err error) {
			t.Helper()
			if err != nil {
				t.Fatal(err)
			}
		}
		write("safe", "safe", true)
		write("moved", "moved", true)
		must(v.SyncFolder(root))
		write("loose", "loose", false)
		must(v.Move(at("moved"), at("elsewhere")))
		v.Cut()
		if _, err := v.Open(at("safe")); !errors.Is(err, ErrOff) {
			t.Fatalf("without power: %v", err)
		}
		if _, err := v.Lose(rand.New(rand.NewPCG(seed, 1))); err != nil {
			t.Fatal(err)
		}
		read := func(name string) string {
			c, err := os.ReadFile(at(name))
			if err != nil {
				return "-"
			}
			return string(c)
		}
		if read("safe") != "safe" {
			t.Fatalf("what was synced is %q", read("safe"))
		}
		if (read("moved") == "-") == (read("elsewhere") == "-") {
			t.Fatalf("the ends of a rename: %q and %q", read("moved"), read("elsewhere"))
		}
		outcomes[fmt.Sprintf("moved %v, loose %q", read("moved") == "-", read("loose"))]++
	}
	for _, want := range []string{`moved true, loose "loose"`, `moved false, loose "-"`, `loose ""`} {
		found := false
		for got := range outcomes {
			found = found || strings.Contains(got, want)
		}
		if !found {
			t.Errorf("it never happened that %s: %v", want, outcomes)
		}
	}
}

func TestOwn(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a")
	if err := os.WriteFile(path, nil, 0o644); err != nil {
		t.Fatal(err)
	}
	if err := (Real{}).Own(path, 0o600, ""); err != nil {
		t.Fatal(err)
	}
	if info, err := os.Stat(path); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v %v", info.Mode(), err)
	}
	for owner, says := range map[string]string{"nobody-of-that-name": "there is no user", ":no-such-group": "there is no group"} {
		if err := (Real{}).Own(path, 0, owner); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", owner, err)
		}
	}
	if os.Geteuid() != 0 {
		return
	}
	if err := (Real{}).Own(path, 0, "65534:65534"); err != nil {
		t.Error(err)
	}
	if info, err := (Real{}).Look(path); err != nil || !info.Regular() {
		t.Errorf("%v %v", info, err)
	}
}

func TestSpace(t *testing.T) {
	free, total, err := Real{}.Space(t.TempDir())
	if err != nil || free <= 0 || total < free {
		t.Errorf("%d of %d, %v", free, total, err)
	}
	if _, _, err := (Real{}).Space("/nowhere/at/all"); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("a folder that is not there has space: %v", err)
	}
}
