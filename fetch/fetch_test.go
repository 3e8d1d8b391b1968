package fetch

import (
	"context"
	"fmt"
	"io/fs"
	"log/slog"
	"slices"
	"strings"
	"testing"
	"time"

	"ydrion/files"
	"ydrion/listen"
	"ydrion/remote"
	"ydrion/store"
	"ydrion/workspace"
)

// TestWhatCannotBeTaken: what is no file, and what a list says of it is not understood, is said to wait, where it may be meant.
func TestWhatCannotBeTaken(t *testing.T) {
	for names, want := range map[string]int{"*.csv": 2, "*": 4, "d e.*": 1, "*.hl7": 0} {
		f := &Fetcher{Route: "orders", Place: "holm", Below: "/out", Places: remote.New(&workspace.Environment{}), Settings: workspace.Listen{Names: names, Rhythm: time.Second}}
		f.Start()
		var there []found
		for _, i := range []remote.Info{
			{Name: "latest.csv", Other: true},
			{Name: "-rw-r--r-- 1 x x 3 Mär 29 10:00 d e.csv", Odd: "it cannot be understood"},
			{Name: "drwxr-xr-x 2 x x 3 Mär 29 10:00 done", Odd: "it cannot be understood"},
			{Name: "Folder of seals", Odd: "it cannot be understood"},
		} {
			there = append(there, found{Info: i, path: "/out/" + i.Name})
		}
		if ready, _ := f.account(there, time.Now(), listen.Gate{Open: true}); len(ready) > 0 {
			t.Errorf("%s: %d are taken", names, len(ready))
		}
		list, all := f.Waiting(10)
		if len(list) != want || all != want {
			t.Errorf("%s: %d wait: %+v", names, all, list)
		}
		for _, w := range list {
			if (w.Name == "latest.csv") != strings.Contains(w.Reason, "is neither a file nor a folder") || (w.Name != "latest.csv") != strings.Contains(w.Reason, "cannot be understood") {
				t.Errorf("%+v", w)
			}
			if err := f.Demand(w.Name); err != nil {
				t.Error(err)
			}
		}
		if ready, _ := f.account(there, time.Now(), listen.Gate{Open: true}); len(ready) > 0 {
			t.Errorf("%s: %d are taken when somebody asks", names, len(ready))
		}
	}
}

// folders is a server with folders that go on without end, and one that is closed.
type folders struct{ remote.Tree }

func (folders) List(folder string) ([]remote.Info, error) {
	if strings.HasSuffix(folder, "closed") {
		return nil, fmt.Errorf("looking into %s at holm: %w", folder, fs.ErrPermission)
	}
	return []remote.Info{{Name: "a.csv", Size: 1}, {Name: "closed", Folder: true, Modified: time.Unix(1, 0)}, {Name: "north", Folder: true}}, nil
}

// TestFoldersThatAreClosed: a folder that cannot be looked into is said to wait, and the others are looked into.
func TestFoldersThatAreClosed(t *testing.T) {
	f := &Fetcher{Route: "orders", Place: "holm", Below: "/out", Places: remote.New(&workspace.Environment{}), Settings: workspace.Listen{Names: "*.csv", Rhythm: time.Second, Quiet: time.Nanosecond, Subfolders: true, Since: time.Unix(1_000_000_000, 0)}}
	f.Start()
	there, _, err := f.walk(folders{}, f.Below, 0)
	if err != nil {
		t.Fatal(err)
	}
	f.account(there, time.Now(), listen.Gate{Open: true})
	ready, _ := f.account(there, time.Now().Add(time.Second), listen.Gate{Open: true})
	if len(ready) != deepest+1 {
		t.Errorf("%d are ready", len(ready))
	}
	list, _ := f.Waiting(100)
	said := func(what string) int {
		n := 0
		for _, w := range list {
			if strings.Contains(w.Reason, what) {
				n++
			}
		}
		return n
	}
	if said("it cannot be looked into: looking into /out/") != deepest || said("it is not looked into: more than 30 folders") != 2 {
		t.Errorf("%+v", list)
	}
	if !slices.ContainsFunc(list, func(w listen.Waiting) bool {
		return w.Path == "{holm}/out/north/closed" && strings.HasSuffix(w.Reason, "permission denied")
	}) {
		t.Errorf("%+v", list)
	}
}

// loops is a server whose folders lead into themselves.
type loops struct{ remote.Tree }

func (loops) List(string) ([]remote.Info, error) {
	return []remote.Info{{Name: "a.csv", Size: 1}, {Name: "x", Folder: true}, {Name: "y", Folder: true}}, nil
}

// TestFoldersInThemselves: a look at folders that lead into themselves ends.
func TestFoldersInThemselves(t *testing.T) {
	f := &Fetcher{Below: "/out", Settings: workspace.Listen{Subfolders: true}}
	for range 2 {
		there, _, err := f.walk(loops{}, f.Below, 0)
		files := 0
		for _, x := range there {
			if !x.Folder {
				files++
			}
		}
		if err != nil || files != mostFolders || files == len(there) {
			t.Errorf("%d files of %d, %v", files, len(there), err)
		}
	}
}

// ending are records that do not answer, since the service ends.
type ending struct {
	Records
	end context.CancelFunc
}

func (e *ending) Adopt(ctx context.Context, _ int64, _, _ string) (open, known []store.Fetch, err error) {
	e.end()
	return nil, nil, ctx.Err()
}

// TestEndsWhileItFails: what fails because the service ends is no defect.
func TestEndsWhileItFails(t *testing.T) {
	ctx, end := context.WithCancel(t.Context())
	f := &Fetcher{FS: files.Real{}, Inbox: t.TempDir(), Records: &ending{end: end}, Log: slog.New(slog.DiscardHandler)}
	f.Run(ctx)
	if f.fails != 0 || f.problem != "" {
		t.Errorf("%d failures: %s", f.fails, f.problem)
	}
}
