package remote

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"golang.org/x/net/webdav"

	"ydrion/workspace"
)

// still is a tree that nothing is asked of.
type still struct {
	Tree
	broken atomic.Bool
}

func (s *still) Parallel() int { return 3 }
func (s *still) Rest() error   { return nil }
func (s *still) Break()        { s.broken.Store(true) }

// TestSpread: each thing is done once, on all connections that nobody else has; a further connection that cannot be made holds nothing up; the first
// error ends it, and a defect comes to who asked.
func TestSpread(t *testing.T) {
	var made atomic.Int64
	var most atomic.Int64
	hang := make(chan struct{})
	kinds["still"] = func(ctx context.Context, p *workspace.Place) (Conn, error) {
		switch n := made.Add(1); {
		case n > 100: // it does not answer
			select {
			case <-ctx.Done():
				return nil, ctx.Err()
			case <-hang:
			}
		case n > most.Load():
			return nil, errors.New("lets nobody else in")
		}
		return &still{}, nil
	}
	defer delete(kinds, "still")
	places := func() *Places {
		return New(&workspace.Environment{Places: map[string]workspace.Place{"holm": {Name: "holm", Kind: "still", Connections: 4}}})
	}
	for _, at := range []struct{ made, most, busy, want int }{{0, 100, 0, 4}, {0, 100, 2, 2}, {0, 1, 0, 1}, {99, 100, 0, 1}} {
		p := places()
		made.Store(int64(at.made))
		most.Store(int64(at.most))
		for range at.busy {
			p.by["holm"].turns <- struct{}{}
		}
		var mu sync.Mutex
		times, used := make([]int, 500), map[Tree]bool{}
		begun := time.Now()
		err := p.Spread(t.Context(), "holm", 4, len(times), func(tree Tree, i int) error {
			time.Sleep(100 * time.Microsecond) // so that all come to their turn
			mu.Lock()
			defer mu.Unlock()
			times[i]++
			used[tree] = true
			return nil
		})
		if err != nil || len(used) != at.want {
			t.Errorf("%+v: %v, with %d connections", at, err, len(used))
		}
		if took := time.Since(begun); took > 5*time.Second {
			t.Errorf("%+v: took %s", at, took)
		}
		for i, n := range times {
			if n != 1 {
				t.Errorf("%+v: thing %d was done %d times", at, i, n)
			}
		}
		if lent := len(p.by["holm"].turns); lent != at.busy {
			t.Errorf("%+v: %d connections are lent afterwards", at, lent)
		}
	}
	most.Store(100)
	made.Store(0)
	p := places()
	wrong := errors.New("what is wrong")
	var done atomic.Int64
	if err := p.Spread(t.Context(), "holm", 4, 1_000_000, func(_ Tree, i int) error {
		if done.Add(1); i == 50 {
			return wrong
		}
		return nil
	}); !errors.Is(err, wrong) || done.Load() > 900_000 {
		t.Errorf("%v after %d things", err, done.Load())
	}
	func() {
		defer func() {
			if p := recover(); p == nil || !strings.Contains(fmt.Sprint(p), "the tide is out") {
				t.Errorf("the defect does not come out: %v", p)
			}
		}()
		p.Spread(t.Context(), "holm", 4, 100, func(_ Tree, i int) error { //nolint: it does not come back
			if i == 40 {
				panic("the tide is out")
			}
			return nil
		})
	}()
	if lent := len(p.by["holm"].turns); lent != 0 {
		t.Errorf("%d connections are lent after a defect", lent)
	}
	ended, end := context.WithCancel(t.Context())
	if err := p.Spread(ended, "holm", 4, 1000, func(_ Tree, i int) error {
		if i == 20 {
			end()
		}
		time.Sleep(time.Millisecond)
		return ended.Err()
	}); !errors.Is(err, context.Canceled) {
		t.Errorf("ended: %v", err)
	}
}

// TestOneName: of two connections that give two files one name at the same time, one is told that it is taken, whatever the server does.
func TestOneName(t *testing.T) {
	each(t, func(t *testing.T, p *Places, s server) {
		with(t, p, func(tree Tree) error { return MakeFolders(tree, "/in") })
		for round := range 25 {
			to := fmt.Sprintf("/in/%d.csv", round)
			errs := make([]error, 2)
			var ready, all sync.WaitGroup
			ready.Add(2)
			for k := range errs {
				all.Go(func() {
					errs[k] = p.With(t.Context(), "holm", func(tree Tree) error {
						err := tree.Write(fmt.Sprintf("%s-%d", to, k), 0, strings.NewReader(fmt.Sprint("file ", k)))
						ready.Done()
						if ready.Wait(); err != nil {
							return err
						}
						return tree.Move(fmt.Sprintf("%s-%d", to, k), to)
					})
				})
			}
			all.Wait()
			won := 0
			if errs[0] != nil {
				won = 1
			}
			lost := 1 - won
			if errs[won] != nil || !errors.Is(errs[lost], fs.ErrExist) && !strings.Contains(fmt.Sprint(errs[lost]), "423 Locked") {
				t.Fatalf("round %d: %v, %v", round, errs[0], errs[1])
			}
			has, err := os.ReadFile(filepath.Join(s.folder, to))
			if err != nil || string(has) != fmt.Sprint("file ", won) {
				t.Errorf("round %d: %d has the name, and in it is %q %v", round, won, has, err)
			}
			if left, err := os.ReadFile(filepath.Join(s.folder, fmt.Sprintf("%s-%d", to, lost))); err != nil || string(left) != fmt.Sprint("file ", lost) {
				t.Errorf("round %d: what was told that the name is taken has %q %v", round, left, err)
			}
		}
	})
}

// TestEnded: who works on a connection that is ended under him is told that the place is away, not that anything is wrong with his file.
func TestEnded(t *testing.T) {
	each(t, func(t *testing.T, p *Places, _ server) {
		with(t, p, func(tree Tree) error { return MakeFolders(tree, "/in") })
		wrong := errors.New("what is wrong")
		var ended atomic.Int64
		var begun sync.WaitGroup
		begun.Add(2)
		err := p.Spread(t.Context(), "holm", 2, 2, func(tree Tree, i int) error {
			begun.Done()
			begun.Wait()
			if i == 0 {
				time.Sleep(5 * time.Millisecond)
				return wrong
			}
			for n := range 500 { // one connection may do both: then nothing is ended
				at := fmt.Sprintf("/in/%d", n)
				err := tree.Write(at, 0, strings.NewReader("one"))
				if err == nil {
					err = tree.Move(at, at+".csv")
				}
				if err == nil {
					_, err = tree.Look(at + ".csv")
				}
				if err != nil {
					if ended.Add(1); !IsAway(err) {
						t.Errorf("ended: %v", err)
					}
					return err
				}
			}
			return nil
		})
		if !errors.Is(err, wrong) || ended.Load() > 1 {
			t.Errorf("%v, %d ended", err, ended.Load())
		}
	})
}

// odd is a WebDAV server with ways of its own.
func odd(t *testing.T, folder string, before func(w http.ResponseWriter, r *http.Request) (over bool)) *Places {
	t.Helper()
	dav := &webdav.Handler{FileSystem: webdav.Dir(folder), LockSystem: webdav.NewMemLS()}
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !before(w, r) {
			dav.ServeHTTP(w, r)
		}
	}))
	t.Cleanup(s.Close)
	at, err := url.Parse(s.URL)
	if err != nil {
		t.Fatal(err)
	}
	p := New(&workspace.Environment{Places: map[string]workspace.Place{"holm": {Name: "holm", Kind: "webdav", Address: at, Connections: 2, Patience: 5 * time.Second}}})
	t.Cleanup(p.Close)
	return p
}

// TestNoFolderUnasked: no folder is made unless somebody asks for it. A server may not let us make any, say of one that is missing only that it is
// forbidden to write there, or say of a name that it is in conflict for as long as it is asked.
func TestNoFolderUnasked(t *testing.T) {
	folder := t.TempDir()
	if err := os.Mkdir(filepath.Join(folder, "in"), 0o755); err != nil {
		t.Fatal(err)
	}
	var moves, made atomic.Int64
	p := odd(t, folder, func(w http.ResponseWriter, r *http.Request) bool {
		switch {
		case r.Method == "MKCOL":
			made.Add(1)
			w.WriteHeader(http.StatusForbidden)
		case r.Method == "PUT" && strings.HasPrefix(r.URL.Path, "/away/"):
			w.WriteHeader(http.StatusForbidden)
		case r.Method == "MOVE" && strings.HasSuffix(r.URL.Path, "stuck"):
			moves.Add(1)
			w.WriteHeader(http.StatusConflict)
		default:
			return false
		}
		return true
	})
	with(t, p, func(tree Tree) error {
		if err := tree.Write("/in/stuck", 0, strings.NewReader("one")); err != nil {
			t.Errorf("where it may write: %v", err)
		}
		if b, err := os.ReadFile(filepath.Join(folder, "in/stuck")); err != nil || string(b) != "one" {
			t.Errorf("%q %v", b, err)
		}
		if err := tree.Write("/away/b", 0, strings.NewReader("one")); !errors.Is(err, fs.ErrNotExist) {
			t.Errorf("into no folder: %v", err)
		}
		if err := tree.Move("/in/stuck", "/in/c"); !errors.Is(err, fs.ErrNotExist) || moves.Load() != 1 {
			t.Errorf("in conflict: %v, asked %d times", err, moves.Load())
		}
		if n := made.Load(); n != 0 {
			t.Errorf("%d folders were to be made", n)
		}
		if err := tree.MakeFolder("/new"); !errors.Is(err, fs.ErrPermission) || made.Load() != 1 {
			t.Errorf("making one: %v", err)
		}
		return nil
	})
}

// TestStill: a file is as it was when it was opened only if its server says so.
func TestStill(t *testing.T) {
	folder := t.TempDir()
	at := filepath.Join(folder, "a.csv")
	var mute, refuses atomic.Bool
	p := odd(t, folder, func(w http.ResponseWriter, r *http.Request) bool {
		if refuses.Load() && r.Method == http.MethodHead {
			w.WriteHeader(http.StatusMethodNotAllowed)
			return true
		}
		if mute.Load() && (r.Method == http.MethodHead || r.Method == http.MethodGet) {
			b, err := os.ReadFile(path.Join(folder, r.URL.Path))
			if err != nil {
				t.Error(err)
			}
			w.Header().Set("Content-Length", fmt.Sprint(len(b)))
			if r.Method == http.MethodGet {
				w.Write(b) //nolint: the reader sees it
			}
			return true
		}
		return false
	})
	write := func(content string, age time.Duration) {
		t.Helper()
		if err := errors.Join(os.WriteFile(at, []byte(content), 0o644), os.Chtimes(at, time.Time{}, time.Now().Add(-age))); err != nil {
			t.Fatal(err)
		}
	}
	with(t, p, func(tree Tree) error {
		for name, of := range map[string]struct {
			change func()
			still  bool
		}{
			"nothing happens":                 {func() {}, true},
			"it grows":                        {func() { write("id,text\n1,a\n", time.Hour) }, false},
			"it shrinks":                      {func() { write("id", time.Hour) }, false},
			"it is written anew with as much": {func() { write("id,test\n", time.Minute) }, false},
			"it goes away":                    {func() { os.Remove(at) }, false},
			"the server refuses to say":       {func() { refuses.Store(true) }, false},
		} {
			write("id,text\n", time.Hour)
			refuses.Store(false)
			r, err := tree.Open("/a.csv", 0)
			if err != nil {
				return err
			}
			if b, err := io.ReadAll(r); err != nil || string(b) != "id,text\n" {
				t.Errorf("%s: %q %v", name, b, err)
			}
			of.change()
			if s, is := r.(Steady); !is || s.Still() != of.still {
				t.Errorf("%s: %v", name, is)
			}
			r.Close()
		}
		refuses.Store(false)
		mute.Store(true)
		write("id,text\n", time.Hour)
		r, err := tree.Open("/a.csv", 0)
		if err != nil {
			return err
		}
		defer r.Close()
		if b, err := io.ReadAll(r); err != nil || string(b) != "id,text\n" || r.(Steady).Still() {
			t.Errorf("a server that says nothing of time and tag: %q %v", b, err)
		}
		return nil
	})
}
