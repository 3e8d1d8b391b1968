package remote

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/tls"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"runtime"
	"runtime/metrics"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"ydrion/standin"
	"ydrion/workspace"
)

// server is a stand-in as a place, with the folder that it serves.
type server struct {
	*standin.Manners
	place  workspace.Place
	folder string
}

// openSSH is the program that speaks SFTP for OpenSSH.
const openSSH = "/usr/lib/openssh/sftp-server"

// servers are the stand-ins of all kinds, and OpenSSH's.
func servers(t *testing.T) map[string]server {
	t.Helper()
	out := map[string]server{}
	folder := t.TempDir()
	s, err := standin.NewSFTP("127.0.0.1:0", folder, "seed", standin.Login{User: "maren", Password: "salt and ice"})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	word := filepath.Join(t.TempDir(), "word")
	if err := os.WriteFile(word, []byte("salt and ice\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	out["sftp"] = server{s.Manners, workspace.Place{Name: "holm", Kind: "sftp", Address: &url.URL{Scheme: "sftp", Host: s.Address()}, User: "maren", Password: workspace.Secret{File: word}, HostKeys: []string{s.HostKey}, Connections: 2, Patience: 5 * time.Second}, folder}
	login := standin.Login{User: "maren", Password: "salt and ice"}
	if _, err := os.Stat(openSSH); err == nil {
		folder := t.TempDir()
		s, err := standin.NewSFTP("127.0.0.1:0", folder, "seed", login)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(s.Close)
		s.Program = openSSH
		p := out["sftp"].place
		p.Address = &url.URL{Scheme: "sftp", Host: s.Address(), Path: folder}
		out["openssh"] = server{nil, p, folder}
	}
	certificate, pem, err := standin.NewCertificate()
	if err != nil {
		t.Fatal(err)
	}
	authorities := filepath.Join(t.TempDir(), "pem")
	if err := os.WriteFile(authorities, pem, 0o600); err != nil {
		t.Fatal(err)
	}
	place := func(kind, scheme, address string) workspace.Place {
		return workspace.Place{Name: "holm", Kind: kind, Address: &url.URL{Scheme: scheme, Host: address}, User: "maren", Password: workspace.Secret{File: word}, Authorities: authorities, Connections: 2, Patience: 5 * time.Second, Zone: time.UTC}
	}
	folder = t.TempDir()
	d, err := standin.NewWebDAV("127.0.0.1:0", folder, certificate, login)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(d.Close)
	out["webdav"] = server{d.Manners, place("webdav", "https", d.Address()), folder}
	for kind, tls := range map[string]string{"ftp": "none", "ftps": "explicit"} {
		folder := t.TempDir()
		f, err := standin.NewFTP("127.0.0.1:0", folder, certificate, login)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(f.Close)
		p := place("ftp", "ftp", f.Address())
		p.TLS = tls
		out[kind] = server{f.Manners, p, folder}
	}
	return out
}

// each runs a test with a place of every kind.
func each(t *testing.T, do func(t *testing.T, p *Places, s server)) {
	for kind, s := range servers(t) {
		if s.Manners == nil && strings.Contains(t.Name(), "Silent") || s.Manners == nil && strings.Contains(t.Name(), "Faults") {
			continue // it has its own
		}
		t.Run(kind, func(t *testing.T) {
			p := New(&workspace.Environment{Places: map[string]workspace.Place{"holm": s.place}})
			defer p.Close()
			do(t, p, s)
		})
	}
}

// sized says how much there is to read.
type sized struct {
	io.Reader
	size int64
}

func (s *sized) Size() int64 { return s.size }

// with uses a connection.
func with(t *testing.T, p *Places, do func(Tree) error) {
	t.Helper()
	if err := p.With(t.Context(), "holm", do); err != nil {
		t.Fatal(err)
	}
}

// TestTree checks what each kind of place must do against the folder that the server serves.
func TestTree(t *testing.T) {
	each(t, func(t *testing.T, p *Places, s server) { treeTest(t, p, s.folder) })
}

// treeTest uses a tree, and looks into its folder.
func treeTest(t *testing.T, p *Places, folder string) {
	t.Helper()
	there := func(name string) string {
		b, err := os.ReadFile(filepath.Join(folder, name))
		if err != nil {
			return err.Error()
		}
		return string(b)
	}
	with(t, p, func(tree Tree) error {
		if err := MakeFolders(tree, "/in/2026/april"); err != nil {
			return err
		}
		if err := MakeFolders(tree, "/in/2026/april"); err != nil {
			return fmt.Errorf("a folder that is there: %w", err)
		}
		for _, name := range []string{"a.csv", "Ansel Point, Blatt 3.csv", "Möwe & Robbe #7 100%.csv", "it's \"quoted\".csv", "a+b=c;d.csv", "トド.csv"} {
			at := "/in/" + name
			if err := tree.Write(at, 0, strings.NewReader("first and long")); err != nil {
				return err
			}
			if err := tree.Write(at, 0, strings.NewReader("one two")); err != nil {
				return err
			}
			if tree.Resumes() {
				if err := tree.Write(at, 4, strings.NewReader("three")); err != nil {
					return err
				}
			} else if err := tree.Write(at, 0, &sized{strings.NewReader("one three"), 9}); err != nil {
				return err
			}
			if got := there(at); got != "one three" {
				t.Errorf("%s: the server has %q", name, got)
			}
			i, err := tree.Look(at)
			if err != nil || i.Size != 9 || i.Name != name || i.Folder || i.Other || time.Since(i.Modified).Abs() > time.Minute {
				t.Errorf("%s: %+v %v", name, i, err)
			}
			r, err := tree.Open(at, 4)
			if err != nil {
				return err
			}
			b, err := io.ReadAll(r)
			if err := errors.Join(err, r.Close()); err != nil || string(b) != "three" {
				t.Errorf("%s: read %q, %v", name, b, err)
			}
			all, err := tree.List("/in")
			if err != nil || !slices.ContainsFunc(all, func(l Info) bool { return l.Same(i) && l.Name == i.Name }) {
				t.Errorf("%s: not in %+v (%+v), %v", name, all, i, err)
			}
		}
		// Nothing is replaced, unless that is meant.
		if err := tree.Write("/in/other", 0, strings.NewReader("other")); err != nil {
			return err
		}
		if err := tree.Move("/in/other", "/in/a.csv"); !errors.Is(err, fs.ErrExist) || there("/in/a.csv") != "one three" || there("/in/other") != "other" {
			t.Errorf("moved over another: %v, %s", err, there("/in/a.csv"))
		}
		if err := tree.Replace("/in/other", "/in/a.csv"); err != nil || there("/in/a.csv") != "other" {
			t.Errorf("not replaced: %v, %s", err, there("/in/a.csv"))
		}
		if err := tree.Move("/in/a.csv", "/in/2026/april/b.csv"); err != nil || there("/in/2026/april/b.csv") != "other" {
			t.Errorf("not moved: %v", err)
		}
		if err := tree.Remove("/in/2026/april/b.csv"); err != nil || !strings.Contains(there("/in/2026/april/b.csv"), "no such file") {
			t.Errorf("not removed: %v", err)
		}
		if all, err := tree.List("/in/2026"); err != nil || len(all) != 1 || !all[0].Folder || all[0].Name != "april" {
			t.Errorf("%+v %v", all, err)
		}
		if all, err := tree.List("/in/2026/april"); err != nil || len(all) != 0 {
			t.Errorf("an empty folder has %+v, %v", all, err)
		}
		// What is not there.
		_, list := tree.List("/none")
		_, look := tree.Look("/none/x")
		_, open := tree.Open("/none", 0)
		for doing, err := range map[string]error{"list": list, "look": look, "open": open, "remove": tree.Remove("/none"), "move": tree.Move("/none", "/in/c"), "write": tree.Write("/none/x", 0, strings.NewReader("x"))} {
			if doing == "write" && err == nil && !tree.Resumes() {
				continue // it makes folders itself
			}
			if !errors.Is(err, fs.ErrNotExist) {
				t.Errorf("%s of nothing: %v", doing, err)
			}
		}
		// A large one, which is gone on with in the middle.
		large := bytes.Repeat([]byte("0123456789abcde\n"), 700_000)
		if err := tree.Write("/large", 0, bytes.NewReader(large[:5_000_000])); err != nil {
			return err
		}
		if !tree.Resumes() {
			if err := tree.Write("/large", 0, &sized{bytes.NewReader(large), int64(len(large))}); err != nil {
				return err
			}
		} else if err := tree.Write("/large", 3_000_000, bytes.NewReader(large[3_000_000:])); err != nil {
			return err
		}
		if there("/large") != string(large) {
			t.Error("a large file has become another")
		}
		r, err := tree.Open("/large", 16)
		if err != nil {
			return err
		}
		var got bytes.Buffer
		_, err = io.Copy(&got, r)
		if err := errors.Join(err, r.Close()); err != nil || !bytes.Equal(got.Bytes(), large[16:]) {
			t.Errorf("%d bytes read of a large file, %v", got.Len(), err)
		}
		return nil
	})
}

// TestNotLetIn: why a place cannot be worked with is said in words, and nothing secret with it.
func TestNotLetIn(t *testing.T) {
	s := servers(t)["sftp"]
	wrong := filepath.Join(t.TempDir(), "wrong")
	if err := os.WriteFile(wrong, []byte("pepper"), 0o600); err != nil {
		t.Fatal(err)
	}
	for says, change := range map[string]func(p *workspace.Place){
		"does not let maren in: the server refuses the key or the password": func(p *workspace.Place) { p.Password.File = wrong },
		"cannot be reached: the variable NOWHERE_SET, which":                func(p *workspace.Place) { p.Password = workspace.Secret{Variable: "NOWHERE_SET"} },
		"cannot be reached: what is secret cannot be read":                  func(p *workspace.Place) { p.Password.File = "/none" },
		"shows the key SHA256:":                                             func(p *workspace.Place) { p.HostKeys = []string{"SHA256:other"} },
		"does not answer at 127.0.0.1:1: connection refused":                func(p *workspace.Place) { p.Address = &url.URL{Scheme: "sftp", Host: "127.0.0.1:1"} },
	} {
		place := s.place
		change(&place)
		p := New(&workspace.Environment{Places: map[string]workspace.Place{"holm": place}})
		err := p.With(t.Context(), "holm", func(Tree) error { t.Error("it was let in"); return nil })
		if !IsAway(err) || !strings.Contains(err.Error(), says) || strings.Contains(err.Error(), "pepper") {
			t.Errorf("want %q, got %v", says, err)
		}
		if r, _ := p.Report("holm"); r.Problem != err.Error() || !r.Reached.IsZero() {
			t.Errorf("reported %+v", r)
		}
	}
}

// TestSilent: a server that does not answer is given up after a while, and whoever does not want to wait need not.
func TestSilent(t *testing.T) {
	each(t, func(t *testing.T, _ *Places, s server) {
		s.place.Patience = 300 * time.Millisecond
		p := New(&workspace.Environment{Places: map[string]workspace.Place{"holm": s.place}})
		defer p.Close()
		s.Misbehave(standin.Fault{On: standin.Look, Do: standin.Late, From: 1, For: 2 * time.Second})
		look := func(tree Tree) error { _, err := tree.Look("/x"); return err }
		begun := time.Now()
		if err := p.With(t.Context(), "holm", look); !IsAway(err) || time.Since(begun) > 1500*time.Millisecond {
			t.Errorf("%v after %s", err, time.Since(begun))
		}
		s.place.Patience = time.Minute
		p = New(&workspace.Environment{Places: map[string]workspace.Place{"holm": s.place}})
		ctx, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
		defer cancel()
		if err := p.With(ctx, "holm", look); !errors.Is(err, context.DeadlineExceeded) {
			t.Errorf("not given up: %v", err)
		}
		s.Misbehave()
		with(t, p, func(tree Tree) error { _, err := tree.List("/"); return err })
	})
}

// TestFaults: what a server refuses is told apart from a connection that is lost.
func TestFaults(t *testing.T) {
	each(t, func(t *testing.T, p *Places, s server) {
		for do, away := range map[string]bool{standin.Refuse: false, standin.Full: false, standin.Cut: true, standin.CutAfter: true} {
			for on, what := range map[string]func(Tree) error{
				standin.Write:  func(t Tree) error { return t.Write("/w-"+do, 0, strings.NewReader("x")) },
				standin.Rename: func(t Tree) error { return t.Move("/m-"+do, "/n-"+do) },
				standin.Remove: func(t Tree) error { return t.Remove("/r-" + do) },
				standin.List:   func(t Tree) error { _, err := t.List("/"); return err },
			} {
				with(t, p, func(t Tree) error {
					return errors.Join(t.Write("/m-"+do, 0, strings.NewReader("x")), t.Write("/r-"+do, 0, strings.NewReader("x")))
				})
				s.Misbehave(standin.Fault{On: on, Do: do, From: 1, Times: 1})
				err := p.With(t.Context(), "holm", what)
				if err == nil || IsAway(err) != away {
					t.Errorf("%s %s: %v", do, on, err)
				}
				if do == standin.Refuse && !errors.Is(err, fs.ErrPermission) {
					t.Errorf("refused %s: %v", on, err)
				}
				s.Misbehave()
			}
		}
	})
}

// TestBounded: a place has no more connections at once than it may.
func TestBounded(t *testing.T) {
	each(t, func(t *testing.T, p *Places, s server) {
		var mu sync.Mutex
		now, most := 0, 0
		var all sync.WaitGroup
		for range 20 {
			all.Go(func() {
				if err := p.With(t.Context(), "holm", func(tree Tree) error {
					mu.Lock()
					now++
					most = max(most, now)
					mu.Unlock()
					_, err := tree.List("/")
					mu.Lock()
					now--
					mu.Unlock()
					return err
				}); err != nil {
					t.Error(err)
				}
			})
		}
		all.Wait()
		if most > 2 {
			t.Errorf("%d connections at once", most)
		}
	})
}

// TestObjects checks what an object store must do against its own memory.
func TestObjects(t *testing.T) {
	certificate, pem, err := standin.NewCertificate()
	if err != nil {
		t.Fatal(err)
	}
	folder := t.TempDir()
	for name, content := range map[string][]byte{"pem": pem, "word": []byte("salt")} {
		if err := os.WriteFile(filepath.Join(folder, name), content, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	store, err := standin.NewS3("127.0.0.1:0", certificate, standin.Login{User: "maren"}, "archive")
	if err != nil {
		t.Fatal(err)
	}
	defer store.Close()
	place := workspace.Place{Name: "holm", Kind: "s3", Address: &url.URL{Scheme: "https", Host: store.Address(), Path: "/archive/seals"}, User: "maren", Password: workspace.Secret{File: filepath.Join(folder, "word")}, Authorities: filepath.Join(folder, "pem"), Connections: 2, Patience: 5 * time.Second}
	p := New(&workspace.Environment{Places: map[string]workspace.Place{"holm": place}})
	defer p.Close()
	there := func(key string) string {
		o, err := store.Backend.GetObject("archive", key, nil)
		if err != nil {
			return err.Error()
		}
		b, err := io.ReadAll(o.Contents)
		if err := errors.Join(err, o.Contents.Close()); err != nil {
			return err.Error()
		}
		return string(b)
	}
	// Keys that are no paths are said.
	odd := []string{"seals/odd/", "seals/odd/ok.csv", "seals/odd//b.csv", "seals/odd/./c.csv", "seals/odd/../d.csv", "seals/odd/..", "seals/odd/e/", "seals/odd/f/g.csv"}
	for _, key := range odd {
		if _, err := store.Backend.PutObject("archive", key, nil, strings.NewReader("x"), 1, nil); err != nil {
			t.Fatal(err)
		}
	}
	with(t, p, func(tree Tree) error {
		all, err := tree.List("/odd")
		var got []string
		for _, i := range all {
			got = append(got, fmt.Sprint(i.Name, " ", i.Folder, " ", i.Odd != ""))
		}
		slices.Sort(got)
		if want := []string{"e true false", "f true false", "ok.csv false false", "seals/odd/.. false true", "seals/odd/../ true true", "seals/odd/./ true true", "seals/odd// true true"}; !slices.Equal(got, want) {
			t.Errorf("%q", got)
		}
		return err
	})
	if _, err := store.Backend.DeleteMulti("archive", odd...); err != nil {
		t.Fatal(err)
	}
	with(t, p, func(tree Tree) error {
		o := tree.(Objects)
		for _, name := range []string{"a.csv", "Ansel Point, Blatt 3.csv", "Möwe & Robbe #7 100%.csv", "a+b=c;d.csv"} {
			if err := o.Put("/in/"+name, strings.NewReader("one two"), 7, "mark-1", false); err != nil {
				return err
			}
			if got := there("seals/in/" + name); got != "one two" {
				t.Errorf("%s: %q", name, got)
			}
			if mark, err := o.Marked("/in/" + name); mark != "mark-1" || err != nil {
				t.Errorf("%s is marked %q, %v", name, mark, err)
			}
			if err := o.Put("/in/"+name, strings.NewReader("three"), 5, "mark-2", false); !errors.Is(err, fs.ErrExist) || there("seals/in/"+name) != "one two" {
				t.Errorf("%s was replaced: %v", name, err)
			}
			i, err := o.Look("/in/" + name)
			all, list := o.List("/in")
			if err != nil || list != nil || i.Size != 7 || i.Tag == "" || !slices.ContainsFunc(all, func(l Info) bool { return l.Same(i) && l.Name == name }) {
				t.Errorf("%s: %+v %v, in %+v %v", name, i, err, all, list)
			}
			r, err := o.Open("/in/"+name, 4)
			if err != nil {
				return err
			}
			b, err := io.ReadAll(r)
			if err := errors.Join(err, r.Close()); err != nil || string(b) != "two" {
				t.Errorf("%s: read %q, %v", name, b, err)
			}
		}
		if err := o.Put("/in/a.csv", strings.NewReader("three"), 5, "mark-2", true); err != nil || there("seals/in/a.csv") != "three" {
			t.Errorf("not replaced: %v", err)
		}
		if all, err := o.List("/"); err != nil || len(all) != 1 || !all[0].Folder || all[0].Name != "in" {
			t.Errorf("%+v %v", all, err)
		}
		if err := o.Remove("/in/a.csv"); err != nil || there("seals/in/a.csv") == "three" {
			t.Errorf("not removed: %v", err)
		}
		_, look := o.Look("/none")
		_, open := o.Open("/none", 0)
		_, marked := o.Marked("/none")
		for doing, err := range map[string]error{"look": look, "open": open, "remove": o.Remove("/none"), "marked": marked} {
			if !errors.Is(err, fs.ErrNotExist) {
				t.Errorf("%s of nothing: %v", doing, err)
			}
		}
		large := bytes.Repeat([]byte("0123456789abcde\n"), 3<<20)
		if err := o.Put("/large", bytes.NewReader(large), int64(len(large)), "mark-3", false); err != nil {
			return err
		}
		if there("seals/large") != string(large) {
			t.Error("a large object has become another")
		}
		if mark, err := o.Marked("/large"); mark != "mark-3" || err != nil {
			t.Errorf("the large one is marked %q, %v", mark, err)
		}
		return nil
	})
	// A store that does not know conditions: nothing is replaced there, either.
	store.Careless.Store(true)
	other := New(&workspace.Environment{Places: map[string]workspace.Place{"holm": place}})
	defer other.Close()
	with(t, other, func(tree Tree) error {
		o := tree.(Objects)
		if err := o.Put("/in/b.csv", strings.NewReader("one"), 3, "mark-4", false); err != nil {
			return err
		}
		if err := o.Put("/in/b.csv", strings.NewReader("three"), 5, "mark-5", false); !errors.Is(err, fs.ErrExist) || there("seals/in/b.csv") != "one" {
			t.Errorf("it was replaced: %v", err)
		}
		large := make([]byte, 40<<20)
		if err := o.Put("/in/b.csv", bytes.NewReader(large), int64(len(large)), "mark-6", false); !errors.Is(err, fs.ErrExist) || there("seals/in/b.csv") != "one" {
			t.Errorf("it was replaced by a large one: %v", err)
		}
		all, err := o.List("/in")
		if slices.ContainsFunc(all, func(i Info) bool { return strings.HasPrefix(i.Name, ".") }) {
			t.Errorf("a probe was left behind: %v", all)
		}
		return err
	})
	store.Careless.Store(false)
	for do, away := range map[string]bool{standin.Refuse: false, standin.Full: false, standin.Cut: true} {
		store.Misbehave(standin.Fault{On: standin.Write, Do: do, From: 1})
		err := p.With(t.Context(), "holm", func(tree Tree) error {
			return tree.(Objects).Put("/f-"+do, strings.NewReader("x"), 1, "", false)
		})
		if err == nil || IsAway(err) != away {
			t.Errorf("%s: %v", do, err)
		}
		store.Misbehave()
	}
}

// zeros is content without an end.
type zeros struct{}

func (zeros) Read(b []byte) (int, error) {
	clear(b)
	return len(b), nil
}

// inUse is how many bytes of memory are in use, by what a collection finds: what lies about since is not in it, however long ago that was.
func inUse() uint64 {
	runtime.GC()
	live := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
	metrics.Read(live)
	return live[0].Value.Uint64()
}

// TestMemory: what a large file needs of memory does not grow with it, on its way there and back.
func TestMemory(t *testing.T) {
	const size, most = 160 << 20, 80 << 20
	each(t, func(t *testing.T, p *Places, s server) {
		if s.place.Kind == "s3" {
			t.Skip("the stand-in keeps objects in memory")
		}
		before := inUse()
		stop, peak := make(chan struct{}), make(chan uint64)
		go func() {
			var peaked uint64
			for {
				select {
				case <-stop:
					peak <- peaked
					return
				case <-time.After(20 * time.Millisecond):
					peaked = max(peaked, inUse())
				}
			}
		}()
		with(t, p, func(tree Tree) error {
			if err := tree.Write("/large", 0, &sized{io.LimitReader(zeros{}, size), size}); err != nil {
				return err
			}
			r, err := tree.Open("/large", 0)
			if err != nil {
				return err
			}
			n, err := io.Copy(io.Discard, r)
			if n != size {
				t.Errorf("%d bytes came", n)
			}
			return errors.Join(err, r.Close(), tree.Remove("/large"))
		})
		close(stop)
		if used := <-peak; used > before+most {
			t.Errorf("%d MiB were needed, %d before", used>>20, before>>20)
		}
	})
}

// TestOldServers: a server with nothing but weak algorithms is spoken to where the place says so; elsewhere it is said what would.
func TestOldServers(t *testing.T) {
	_, private, err := ed25519.GenerateKey(nil)
	if err != nil {
		t.Fatal(err)
	}
	key, err := ssh.NewSignerFromKey(private)
	if err != nil {
		t.Fatal(err)
	}
	for name, has := range map[string]ssh.Config{
		"key exchange": {KeyExchanges: []string{ssh.InsecureKeyExchangeDHGEXSHA1, ssh.InsecureKeyExchangeDH1SHA1}},
		"cipher":       {Ciphers: []string{ssh.InsecureCipherTripleDESCBC, ssh.InsecureCipherAES128CBC}},
		"sound":        {KeyExchanges: []string{ssh.KeyExchangeDHGEXSHA256}},
	} {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		defer l.Close()
		go func() {
			for {
				c, err := l.Accept()
				if err != nil {
					return
				}
				config := &ssh.ServerConfig{Config: has, NoClientAuth: true}
				config.AddHostKey(key)
				if _, channels, requests, err := ssh.NewServerConn(c, config); err == nil {
					go ssh.DiscardRequests(requests)
					go func() {
						for n := range channels {
							n.Reject(ssh.Prohibited, "no files here") //nolint: it is how far this goes
						}
					}()
				}
			}
		}()
		for _, old := range []bool{false, true} {
			p := New(&workspace.Environment{Places: map[string]workspace.Place{"holm": {Name: "holm", Kind: "sftp", Address: &url.URL{Scheme: "sftp", Host: l.Addr().String()}, User: "maren", HostKeys: []string{ssh.FingerprintSHA256(key.PublicKey())}, Old: old, Connections: 1, Patience: 20 * time.Second}}})
			err := p.With(t.Context(), "holm", func(Tree) error { return nil })
			want := "speaks SSH, but not SFTP"
			if !old && name != "sound" {
				want = "say `old algorithms: allowed`"
			}
			if !IsAway(err) || !strings.Contains(err.Error(), want) {
				t.Errorf("%s, old algorithms %v: %v", name, old, err)
			}
			p.Close()
		}
	}
}

// TestOldTLS: so is one that is encrypted in an old way.
func TestOldTLS(t *testing.T) {
	for name, has := range map[string]*tls.Config{
		"1.0":          {MinVersion: tls.VersionTLS10, MaxVersion: tls.VersionTLS10},
		"1.1":          {MinVersion: tls.VersionTLS10, MaxVersion: tls.VersionTLS11},
		"old exchange": {MaxVersion: tls.VersionTLS12, CipherSuites: []uint16{tls.TLS_RSA_WITH_AES_128_CBC_SHA}},
		"sound":        {MinVersion: tls.VersionTLS13},
	} {
		s := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusCreated) }))
		s.TLS, s.Config.ErrorLog = has, log.New(io.Discard, "", 0)
		s.StartTLS()
		defer s.Close()
		at, err := url.Parse(s.URL)
		if err != nil {
			t.Fatal(err)
		}
		authorities := filepath.Join(t.TempDir(), "pem")
		if err := os.WriteFile(authorities, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: s.Certificate().Raw}), 0o600); err != nil {
			t.Fatal(err)
		}
		for _, old := range []bool{false, true} {
			p := New(&workspace.Environment{Places: map[string]workspace.Place{"desk": {Name: "desk", Kind: "http", Address: at, Authorities: authorities, Old: old, Connections: 1, Patience: 20 * time.Second}}})
			err := p.Exchange(t.Context(), "desk", func(x Exchange) error { _, err := x.Send(sending("order.hl7")); return err })
			if refused := !old && name != "sound"; refused != IsAway(err) || refused && !strings.Contains(err.Error(), "say `old algorithms: allowed`") || !refused && err != nil {
				t.Errorf("%s, old algorithms %v: %v", name, old, err)
			}
			p.Close()
		}
	}
}
