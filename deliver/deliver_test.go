package deliver

import (
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"ydrion/files"
	"ydrion/remote"
	"ydrion/standin"
	"ydrion/workspace"
)

func output(t *testing.T, folder string, run int64, label, content string) *Output {
	t.Helper()
	o, err := Maker{files.Real{}, "test", run, 3}.Create(folder, label)
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
	sum, err := o.Finish()
	if err != nil || sum != "2cf24dba5fb0a30e26e83b2ac5b9e29e1b161e5c1fa7425e73043362938b9824" || o.Size != 5 {
		t.Errorf("%s, %d bytes, %v", sum, o.Size, err)
	}
	if got, err := Publish(files.Real{}, o.Temporary, folder, "a.hl7", workspace.Count, 7, Holder{}); got != Published || err != nil {
		t.Errorf("%v %v", got, err)
	}
	// Again, as after a crash: its absence proves that it was published, whatever
	// the reader has done with it since.
	if err := os.Remove(filepath.Join(folder, "a.hl7")); err != nil {
		t.Fatal(err)
	}
	if got, err := Publish(files.Real{}, o.Temporary, folder, "a.hl7", workspace.Count, 7, Holder{}); got != Already || err != nil {
		t.Errorf("%v %v", got, err)
	}
	// Nothing is replaced.
	if err := os.WriteFile(filepath.Join(folder, "b.hl7"), []byte("theirs"), 0o644); err != nil {
		t.Fatal(err)
	}
	p := output(t, folder, 8, "all", "ours")
	if _, err := p.Finish(); err != nil {
		t.Fatal(err)
	}
	if got, err := Publish(files.Real{}, p.Temporary, folder, "b.hl7", workspace.Count, 7, Holder{}); got != Taken || err != nil {
		t.Errorf("%v %v", got, err)
	}
	if c, _ := os.ReadFile(filepath.Join(folder, "b.hl7")); string(c) != "theirs" {
		t.Errorf("it was replaced by %q", c)
	}
	// A folder that has vanished proves nothing.
	if err := os.RemoveAll(folder); err != nil {
		t.Fatal(err)
	}
	if got, err := Publish(files.Real{}, p.Temporary, folder, "b.hl7", workspace.Count, 7, Holder{}); got != Unknown || err != nil {
		t.Errorf("published into a folder that is gone: %v %v", got, err)
	}
}

// TestSweep: a node removes what it wrote itself for a run, and finds what others of
// its installation have left; what another installation wrote is none of its business.
func TestSweep(t *testing.T) {
	folder := t.TempDir()
	hidden := filepath.Join(folder, files.Hidden)
	for _, o := range []*Output{output(t, folder, 7, "all", "x"), output(t, folder, 7, "12", "x"), output(t, folder, 77, "all", "x")} {
		if _, err := o.Finish(); err != nil {
			t.Fatal(err)
		}
	}
	for _, name := range []string{"run-other-7-3-all", "run-test-7-4-all"} {
		if err := os.WriteFile(filepath.Join(hidden, name), nil, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	m := Maker{files.Real{}, "test", 7, 3}
	if err := m.Sweep(hidden); err != nil {
		t.Fatal(err)
	}
	left, err := os.ReadDir(hidden)
	if err != nil || len(left) != 3 || left[0].Name() != "run-other-7-3-all" || left[1].Name() != "run-test-7-4-all" || left[2].Name() != "run-test-77-3-all" {
		t.Errorf("left %v %v", left, err)
	}
	found, err := Leftovers(files.Real{}, hidden, "test")
	if err != nil || len(found) != 2 || found[0].Run != 7 || found[0].Node != 4 || found[1].Run != 77 || found[1].Node != 3 {
		t.Errorf("found %v %v", found, err)
	}
	if err := m.Sweep(filepath.Join(folder, "none")); err != nil {
		t.Errorf("a folder that is not there: %v", err)
	}
}

// TestAnotherFolder: the absence of a temporary proves nothing in a folder that is not
// the one that held it, such as the bare mount point of a share that is not mounted.
func TestAnotherFolder(t *testing.T) {
	folder := t.TempDir()
	o := output(t, folder, 7, "all", "one")
	if _, err := o.Finish(); err != nil {
		t.Fatal(err)
	}
	holder := Holder{o.Holder.Device, o.Holder.Inode}
	hidden := filepath.Join(folder, files.Hidden)
	if err := os.Rename(hidden, hidden+"-away"); err != nil {
		t.Fatal(err)
	}
	publish := func() Outcome {
		t.Helper()
		got, err := Publish(files.Real{}, o.Temporary, folder, "a.hl7", workspace.Count, 7, holder)
		if err != nil {
			t.Fatal(err)
		}
		return got
	}
	if got := publish(); got != Unknown {
		t.Errorf("without a hidden folder: %v", got)
	}
	if err := os.Mkdir(hidden, 0o700); err != nil {
		t.Fatal(err)
	}
	if got := publish(); got != Unknown {
		t.Errorf("with another hidden folder: %v", got)
	}
	if err := os.Remove(hidden); err != nil {
		t.Fatal(err)
	}
	if err := os.Rename(hidden+"-away", hidden); err != nil {
		t.Fatal(err)
	}
	if got := publish(); got != Published {
		t.Errorf("with the right one: %v", got)
	}
	if got := publish(); got != Already {
		t.Errorf("once more: %v", got)
	}
}

// TestStage: what was spooled comes to its destination as it is, however often.
func TestStage(t *testing.T) {
	base := t.TempDir()
	spool, folder := filepath.Join(base, "spool"), filepath.Join(base, "there")
	m := Maker{files.Real{}, "test", 7, 3}
	o, err := m.Spool(spool, folder, "all-0")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := o.Write([]byte("text")); err != nil {
		t.Fatal(err)
	}
	if _, err := o.Finish(); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(folder); err == nil {
		t.Error("its destination was touched")
	}
	for range 2 {
		temporary, holder, err := m.Stage(o.Temporary, folder)
		if err != nil {
			t.Fatal(err)
		}
		if c, err := os.ReadFile(temporary); err != nil || string(c) != "text" || filepath.Dir(temporary) != filepath.Join(folder, files.Hidden) || holder.Inode == 0 {
			t.Errorf("%q %v in %s", c, err, temporary)
		}
	}
}

func TestFailures(t *testing.T) {
	folder := t.TempDir()
	for _, operation := range []string{"make folder", "create", "write"} {
		faulty := &files.Faulty{FS: files.Real{}, Fail: func(_ int64, op, _ string) error {
			if op == operation {
				return syscall.ENOSPC
			}
			return nil
		}}
		o, err := Maker{faulty, "test", 9, 3}.Create(filepath.Join(folder, operation), operation)
		if err == nil {
			if _, err = o.Write([]byte("x")); err == nil {
				_, err = o.Finish()
			}
		}
		if !errors.Is(err, syscall.ENOSPC) {
			t.Errorf("%s failed, but %v", operation, err)
		}
	}
}

// there is what lies in a folder for all to see.
func there(t *testing.T, folder string) string {
	t.Helper()
	entries, err := os.ReadDir(folder)
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	for _, e := range entries {
		if e.Name() == files.Hidden {
			continue
		}
		c, err := os.ReadFile(filepath.Join(folder, e.Name()))
		if err != nil {
			t.Fatal(err)
		}
		out = append(out, e.Name()+"="+string(c))
	}
	return strings.Join(out, " ")
}

// TestAllFormerAreKept: whoever replaces and keeps loses nothing: not what the same run has made before, not what came after a crash in the middle,
// and nothing when many do it at once.
func TestAllFormerAreKept(t *testing.T) {
	folder := t.TempDir()
	publish := func(run int64, name, content string) {
		t.Helper()
		o := output(t, folder, run, name, content)
		if _, err := o.Finish(); err != nil {
			t.Error(err)
		}
		if got, err := Publish(files.Real{}, o.Temporary, folder, "a.hl7", workspace.ReplaceKeep, run, Holder{}); got != Published || err != nil {
			t.Errorf("run %d, %s: %v %v", run, name, got, err)
		}
	}
	check := func(want string) {
		t.Helper()
		if s := there(t, folder); s != want {
			t.Errorf("there are %s, want %s", s, want)
		}
	}
	publish(7, "1", "one")
	publish(7, "2", "two")
	publish(7, "3", "three")
	publish(7, "4", "four")
	check("a.former-7-2.hl7=two a.former-7-3.hl7=three a.former-7.hl7=one a.hl7=four")
	// It was kept, and not replaced yet; doing it again keeps it once.
	if err := os.Link(filepath.Join(folder, "a.hl7"), filepath.Join(folder, "a.former-8.hl7")); err != nil {
		t.Fatal(err)
	}
	publish(8, "1", "five")
	check("a.former-7-2.hl7=two a.former-7-3.hl7=three a.former-7.hl7=one a.former-8.hl7=four a.hl7=five")
	// So it was, and another run came in between.
	if err := os.Link(filepath.Join(folder, "a.hl7"), filepath.Join(folder, "a.former-9.hl7")); err != nil {
		t.Fatal(err)
	}
	publish(10, "1", "six")
	publish(9, "1", "seven")
	check("a.former-10.hl7=five a.former-7-2.hl7=two a.former-7-3.hl7=three a.former-7.hl7=one a.former-8.hl7=four a.former-9-2.hl7=six a.former-9.hl7=five a.hl7=seven")
	var all sync.WaitGroup
	for k := range 50 {
		all.Go(func() { publish(int64(100+k%7), fmt.Sprint("k", k), fmt.Sprintf("content %d.", k)) })
	}
	all.Wait()
	left := there(t, folder)
	for k := range 50 {
		if !strings.Contains(left, fmt.Sprintf("content %d.", k)) {
			t.Errorf("content %d is lost", k)
		}
	}
}

// TestMadeTwice: a server that was ended between giving a parcel its second name and taking the first away has it under both. It is there: nothing is
// kept of it, and it is not named once more.
func TestMadeTwice(t *testing.T) {
	folder := t.TempDir()
	s, err := standin.NewSFTP("127.0.0.1:0", folder, "seed", standin.Login{User: "maren", Password: "salt and ice"})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	t.Setenv("DELIVER_WORD", "salt and ice")
	places := remote.New(&workspace.Environment{Places: map[string]workspace.Place{"holm": {Name: "holm", Kind: "sftp", Address: &url.URL{Scheme: "sftp", Host: s.Address()}, User: "maren", Password: workspace.Secret{Variable: "DELIVER_WORD"}, HostKeys: []string{s.HostKey}, Connections: 1, Patience: 5 * time.Second}}})
	defer places.Close()
	p := &Parcel{FS: files.Real{}, Mark: "m", Run: 7, Ord: 1, Spooled: filepath.Join(t.TempDir(), "spooled"), Size: 4, SHA256: fmt.Sprintf("%x", sha256.Sum256([]byte("ours"))), Folder: "/", Name: "a.hl7", Taken: workspace.ReplaceKeep, Named: true}
	at := func(name string) string { return filepath.Join(folder, name) }
	if err := errors.Join(os.WriteFile(p.Spooled, []byte("ours"), 0o644), os.WriteFile(at("a.former-7.hl7"), []byte("theirs"), 0o644), os.WriteFile(at("a.hl7"), []byte("ours"), 0o644), os.Link(at("a.hl7"), at(p.temporary()))); err != nil {
		t.Fatal(err)
	}
	if err := places.With(t.Context(), "holm", func(tree remote.Tree) error {
		got, err := p.Publish(tree)
		if got != Already {
			t.Errorf("%v", got)
		}
		return err
	}); err != nil {
		t.Error(err)
	}
	if s := there(t, folder); s != "a.former-7.hl7=theirs a.hl7=ours" {
		t.Errorf("there are %s", s)
	}
}

// TestWhenTheNameIsTaken: replacing is atomic, and keeps the former file if
// asked; doing it again after a crash changes nothing.
func TestWhenTheNameIsTaken(t *testing.T) {
	for _, test := range []struct {
		taken workspace.WhenTaken
		want  string // the folder afterwards
	}{
		{workspace.Count, "a.hl7=theirs"},
		{workspace.HoldTaken, "a.hl7=theirs"},
		{workspace.Replace, "a.hl7=ours"},
		{workspace.ReplaceKeep, "a.former-7.hl7=theirs a.hl7=ours"},
	} {
		folder := t.TempDir()
		if err := os.WriteFile(filepath.Join(folder, "a.hl7"), []byte("theirs"), 0o644); err != nil {
			t.Fatal(err)
		}
		o := output(t, folder, 7, "all", "ours")
		if _, err := o.Finish(); err != nil {
			t.Fatal(err)
		}
		first := Published
		if strings.Contains(test.want, "a.hl7=theirs") {
			first = Taken
		}
		for i, want := range []Outcome{first, Already} {
			if first == Taken {
				want = Taken
			}
			if got, err := Publish(files.Real{}, o.Temporary, folder, "a.hl7", test.taken, 7, Holder{}); got != want || err != nil {
				t.Errorf("%s, try %d: %v %v", test.taken, i, got, err)
			}
		}
		if got := there(t, folder); got != test.want {
			t.Errorf("%s: %s, want %s", test.taken, got, test.want)
		}
	}
}

// TestFoldersInNames: folders that a name asks for are made.
func TestFoldersInNames(t *testing.T) {
	for _, taken := range []workspace.WhenTaken{workspace.Count, workspace.Replace, workspace.ReplaceKeep} {
		folder := t.TempDir()
		o := output(t, folder, 7, "all", "x")
		if _, err := o.Finish(); err != nil {
			t.Fatal(err)
		}
		if got, err := Publish(files.Real{}, o.Temporary, folder, "2026/ansel/a.hl7", taken, 7, Holder{}); got != Published || err != nil {
			t.Errorf("%s: %v %v", taken, got, err)
		}
		if _, err := os.Stat(filepath.Join(folder, "2026", "ansel", "a.hl7")); err != nil {
			t.Error(err)
		}
	}
}

// TestTwins: outputs that get the same bytes have one hash, which is theirs.
func TestTwins(t *testing.T) {
	folder := t.TempDir()
	m := &Maker{FS: files.Real{}, Mark: "m", Run: 1, Node: 1}
	var all []*Output
	for i := range 3 {
		o, err := m.Create(filepath.Join(folder, fmt.Sprint(i)), "x")
		if err != nil {
			t.Fatal(err)
		}
		if i > 0 {
			o.Like(all[0])
		}
		all = append(all, o)
	}
	for _, o := range all {
		if _, err := io.WriteString(o, "seals"); err != nil {
			t.Fatal(err)
		}
	}
	for _, o := range all[:2] {
		if sum, err := o.Finish(); err != nil || sum != fmt.Sprintf("%x", sha256.Sum256([]byte("seals"))) {
			t.Errorf("%s %v", sum, err)
		}
	}
	if _, err := io.WriteString(all[2], "x"); err != nil {
		t.Fatal(err)
	}
	if sum, err := all[2].Finish(); err == nil {
		t.Errorf("what is not the same has the hash %s", sum)
	}
}
