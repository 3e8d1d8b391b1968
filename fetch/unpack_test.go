package fetch

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"ydrion/files"
)

// counting counts how often is looked at something.
type counting struct {
	files.FS
	looks int
}

func (c *counting) Look(name string) (files.Info, error) {
	c.looks++
	return c.FS.Look(name)
}

// TestFree: files of the same name get numbers, one after the other, and the cost of finding them does not grow with the square of how many
// wait.
func TestFree(t *testing.T) {
	inbox, fs := t.TempDir(), &counting{FS: files.Real{}}
	f := &Fetcher{Inbox: inbox, FS: fs}
	take := func(want string) {
		t.Helper()
		at, err := f.free("sheet.csv")
		if err != nil || at != filepath.Join(inbox, want) {
			t.Fatalf("%s %v, not %s", at, err, want)
		}
		if err := os.WriteFile(at, nil, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	take("sheet.csv")
	const n = 2000
	for k := 2; k <= n; k++ {
		take(fmt.Sprintf("sheet-%d.csv", k))
	}
	if fs.looks > n*30 {
		t.Errorf("%d files were looked at for %d names", fs.looks, n)
	}
	if err := os.Remove(filepath.Join(inbox, "sheet.csv")); err != nil { // it has been taken
		t.Fatal(err)
	}
	take("sheet.csv")
	if _, err := (&Fetcher{Inbox: filepath.Join(inbox, "sheet.csv"), FS: fs}).free("x"); err == nil {
		t.Error("a folder that is none has room")
	}
}
