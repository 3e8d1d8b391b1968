package listen

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"ydrion/files"
	"ydrion/workspace"
)

// bench is a listener on a folder of its own and what it has given.
type bench struct {
	*Listener
	t     *testing.T
	mu    sync.Mutex
	given []string
	// closed lets only demanded files through.
	closed bool
}

func listen(t *testing.T, settings workspace.Listen, prepare func(folder string)) *bench {
	t.Helper()
	folder := filepath.Join(t.TempDir(), "inbox")
	if prepare != nil {
		if err := os.MkdirAll(folder, 0o755); err != nil {
			t.Fatal(err)
		}
		prepare(folder)
	}
	if settings.Names == "" && settings.Expression == nil {
		settings.Names = "*"
	}
	if settings.Rhythm == 0 {
		settings.Rhythm = time.Hour
	}
	watch, err := NewWatcher()
	if err != nil {
		t.Fatal(err)
	}
	b := &bench{Listener: &Listener{Settings: settings, Folder: folder, FS: files.Real{}, Log: slog.New(slog.DiscardHandler), Watch: watch}, t: t}
	if settings.Marker != "" {
		b.Marker = func(name, _ string) string { return strings.Replace(settings.Marker, "{file.name}", name, 1) }
	}
	if settings.Originals == workspace.Left {
		b.Left = map[string]Known{}
	}
	b.Start()
	ctx, cancel := context.WithCancel(context.Background())
	var done sync.WaitGroup
	done.Go(func() {
		for ctx.Err() == nil {
			if err := b.Run(ctx); err != nil {
				time.Sleep(10 * time.Millisecond) // the folder is gone: as the service does
			}
		}
	})
	done.Go(func() {
		for ctx.Err() == nil {
			select {
			case <-ctx.Done():
			case <-b.Ready():
			}
			b.mu.Lock()
			for list := b.Fetch(10, time.Time{}, b.closed); len(list) > 0; list = b.Fetch(10, time.Time{}, b.closed) {
				for _, c := range list {
					b.given = append(b.given, strings.TrimPrefix(c.Event+" ", "arrived ")+filepath.Join(c.Folder, c.Name))
					if b.Left != nil {
						b.Listener.Leave(c.Path, Known{Info: c.Info})
					}
				}
			}
			b.mu.Unlock()
		}
	})
	t.Cleanup(func() {
		cancel()
		done.Wait()
		if err := watch.Close(); err != nil {
			t.Error(err)
		}
	})
	b.until("it listens", func() bool { _, err := os.Stat(folder); return err == nil })
	return b
}

func (b *bench) until(what string, condition func() bool) {
	b.t.Helper()
	deadline := time.Now().Add(time.Minute)
	for !condition() {
		if time.Now().After(deadline) {
			b.t.Fatalf("waited in vain until %.200s; given %.500v, waiting %.500v", what, fmt.Sprint(b.names()), fmt.Sprint(b.waitingList()))
		}
		time.Sleep(2 * time.Millisecond)
	}
}

func (b *bench) names() []string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return append([]string{}, b.given...)
}

func (b *bench) gives(names ...string) {
	b.t.Helper()
	b.until(fmt.Sprintf("%v are given", names), func() bool { return strings.Join(b.names(), " ") == strings.Join(names, " ") })
}

func (b *bench) waits(name, reason string) {
	b.t.Helper()
	b.until(name+" waits: "+reason, func() bool {
		for _, w := range b.waitingList() {
			if w.Name == name && strings.Contains(w.Reason, reason) {
				return true
			}
		}
		return false
	})
}

func (b *bench) waitingList() []Waiting {
	list, _ := b.Waiting(1000)
	return list
}

func put(t *testing.T, path, content string) {
	t.Helper()
	if err := os.WriteFile(path, []byte(content), 0o644); err != nil {
		t.Fatal(err)
	}
}

func move(t *testing.T, path, content string) {
	t.Helper()
	part := filepath.Join(filepath.Dir(path), ".part-"+filepath.Base(path))
	put(t, part, content)
	if err := os.Rename(part, path); err != nil {
		t.Fatal(err)
	}
}

func TestEvents(t *testing.T) {
	b := listen(t, workspace.Listen{Names: "*.csv"}, nil)
	move(t, filepath.Join(b.Folder, "a.csv"), "x")
	b.gives("a.csv")
	put(t, filepath.Join(b.Folder, "b.csv"), "x")
	b.gives("a.csv", "b.csv")
	put(t, filepath.Join(b.Folder, "c.txt"), "x")
	put(t, filepath.Join(b.Folder, ".d.csv"), "x")
	// A file that was given and not taken is not given again by itself, but is
	// when somebody says so, or when it changes.
	b.Again(filepath.Join(b.Folder, "b.csv"), "no space", 0)
	b.gives("a.csv", "b.csv", "b.csv")
	put(t, filepath.Join(b.Folder, "a.csv"), "xy")
	b.gives("a.csv", "b.csv", "b.csv", "a.csv")
}

func TestWhatWasThereBefore(t *testing.T) {
	b := listen(t, workspace.Listen{}, func(folder string) {
		for i, name := range []string{"third", "first", "second"} {
			put(t, filepath.Join(folder, name), "x")
			age := time.Now().Add(-time.Hour * time.Duration([]int{1, 3, 2}[i]))
			if err := os.Chtimes(filepath.Join(folder, name), age, age); err != nil {
				t.Fatal(err)
			}
		}
	})
	b.until("three are given", func() bool { return len(b.names()) == 3 })
}

func TestSlowWriter(t *testing.T) {
	b := listen(t, workspace.Listen{Rhythm: 100 * time.Millisecond}, nil)
	f, err := os.Create(filepath.Join(b.Folder, "slow"))
	if err != nil {
		t.Fatal(err)
	}
	b.waits("slow", "open for writing")
	for range 3 {
		if _, err := f.WriteString("more"); err != nil {
			t.Fatal(err)
		}
		time.Sleep(150 * time.Millisecond)
	}
	if got := b.names(); len(got) != 0 {
		t.Errorf("given while it was written: %v", got)
	}
	if err := f.Close(); err != nil {
		t.Fatal(err)
	}
	b.gives("slow")
}

func TestQuietTime(t *testing.T) {
	const quiet = 400 * time.Millisecond
	b := listen(t, workspace.Listen{Quiet: quiet}, nil)
	began := time.Now()
	move(t, filepath.Join(b.Folder, "a"), "x")
	b.gives("a")
	if took := time.Since(began); took < quiet {
		t.Errorf("given after %v", took)
	}
}

func TestLooks(t *testing.T) {
	b := listen(t, workspace.Listen{Notice: workspace.ByLooks, Rhythm: 100 * time.Millisecond, Expression: regexp.MustCompile(`^s-\d+$`)}, nil)
	put(t, filepath.Join(b.Folder, "s-1"), "x")
	b.waits("s-1", "still changes")
	put(t, filepath.Join(b.Folder, "s-x"), "x")
	b.gives("s-1")
}

func TestComeAndGo(t *testing.T) {
	b := listen(t, workspace.Listen{Rhythm: 100 * time.Millisecond, Quiet: time.Hour}, nil)
	path := filepath.Join(b.Folder, "a")
	move(t, path, "x")
	b.waits("a", "still changes")
	if err := os.Remove(path); err != nil {
		t.Fatal(err)
	}
	b.until("it is forgotten", func() bool { return len(b.waitingList()) == 0 })
}

func TestBeginning(t *testing.T) {
	b := listen(t, workspace.Listen{Since: time.Now().Add(-time.Minute)}, func(folder string) {
		put(t, filepath.Join(folder, "old"), "x")
		long := time.Now().Add(-time.Hour)
		if err := os.Chtimes(filepath.Join(folder, "old"), long, long); err != nil {
			t.Fatal(err)
		}
	})
	move(t, filepath.Join(b.Folder, "new"), "x")
	b.gives("new")
	b.waits("old", "older than the route's beginning")
}

func TestSubfolders(t *testing.T) {
	b := listen(t, workspace.Listen{Subfolders: true}, func(folder string) {
		if err := os.MkdirAll(filepath.Join(folder, "a", "b"), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.MkdirAll(filepath.Join(folder, files.Hidden), 0o755); err != nil {
			t.Fatal(err)
		}
		put(t, filepath.Join(folder, files.Hidden, "pickup-1-x"), "x")
	})
	move(t, filepath.Join(b.Folder, "a", "b", "one"), "x")
	b.gives("a/b/one")
	if err := os.MkdirAll(filepath.Join(b.Folder, "new", "deep"), 0o755); err != nil {
		t.Fatal(err)
	}
	put(t, filepath.Join(b.Folder, "new", "deep", "two"), "x")
	b.gives("a/b/one", "new/deep/two")
	if got := b.Folders(); len(got) != 5 {
		t.Errorf("folders %v", got)
	}
}

func TestWhatIsNoFile(t *testing.T) {
	b := listen(t, workspace.Listen{Rhythm: 100 * time.Millisecond}, nil)
	if err := os.Symlink("/etc/passwd", filepath.Join(b.Folder, "link")); err != nil {
		t.Fatal(err)
	}
	if err := syscall.Mkfifo(filepath.Join(b.Folder, "pipe"), 0o644); err != nil {
		t.Fatal(err)
	}
	put(t, filepath.Join(b.Folder, strings.Repeat("n", 230)), "x")
	b.waits(strings.Repeat("n", 230), "longer than 220 bytes")
	b.waits("link", "symbolic link")
	b.waits("pipe", "no")
	b.waits("pipe", "not an ordinary file")
	if got := b.names(); len(got) != 0 {
		t.Errorf("given: %v", got)
	}
}

// TestOverflow loses events on purpose: a look finds what they were about.
func TestOverflow(t *testing.T) {
	b := listen(t, workspace.Listen{Names: "*.csv"}, nil)
	b.Watch.handle(-1, syscall.IN_Q_OVERFLOW, "")
	for i := range 2000 {
		move(t, filepath.Join(b.Folder, fmt.Sprintf("%04d.csv", i)), "x")
	}
	b.until("all are given", func() bool { return len(b.names()) == 2000 })
	seen := map[string]int{}
	for _, n := range b.names() {
		seen[n]++
		if seen[n] > 1 {
			t.Fatalf("%s was given twice", n)
		}
	}
}

func TestFolderGoesAway(t *testing.T) {
	b := listen(t, workspace.Listen{Rhythm: 100 * time.Millisecond}, nil)
	move(t, filepath.Join(b.Folder, "a"), "x")
	b.gives("a")
	if err := os.RemoveAll(b.Folder); err != nil {
		t.Fatal(err)
	}
	b.until("the file is forgotten", func() bool {
		return len(b.waitingList()) == 0
	})
	// It comes back: the looks find it.
	if err := os.MkdirAll(b.Folder, 0o755); err != nil {
		t.Fatal(err)
	}
	move(t, filepath.Join(b.Folder, "b"), "x")
	b.gives("a", "b")
}

func TestMarker(t *testing.T) {
	b := listen(t, workspace.Listen{Marker: "{file.name}.done", Rhythm: 100 * time.Millisecond}, nil)
	move(t, filepath.Join(b.Folder, "a.csv"), "x")
	b.waits("a.csv", "its marker a.csv.done is not there")
	put(t, filepath.Join(b.Folder, "a.csv.done"), "")
	b.gives("a.csv")
	// The marker may come first, and is not a file of the route's itself.
	put(t, filepath.Join(b.Folder, "b.csv.done"), "")
	move(t, filepath.Join(b.Folder, "b.csv"), "x")
	b.gives("a.csv", "b.csv")
	// That of a file which was put back has been there.
	move(t, filepath.Join(b.Folder, "c.csv"), "x")
	b.waits("c.csv", "its marker c.csv.done is not there")
	b.Before(filepath.Join(b.Folder, "c.csv"), 1)
	b.gives("a.csv", "b.csv", "c.csv")
}

func TestLastLine(t *testing.T) {
	b := listen(t, workspace.Listen{EndsWith: regexp.MustCompile("^(TOTAL;|IEA\\*|UNZ\\+)")}, nil)
	move(t, filepath.Join(b.Folder, "a"), "x;1\nTOTAL")
	b.waits("a", "its last line does not match")
	move(t, filepath.Join(b.Folder, "b"), "x;1\r\nTOTAL;1\r\n\r\n")
	b.gives("b")
	move(t, filepath.Join(b.Folder, "c"), "ISA*00~GS*~GE*1*1~IEA*1*000000001~")
	b.gives("b", "c")
	move(t, filepath.Join(b.Folder, "d"), "UNA:+.? 'UNB+'UNZ+1+7'\n")
	b.gives("b", "c", "d")
	put(t, filepath.Join(b.Folder, "a"), strings.Repeat("x;1\n", 1<<17)+"TOTAL;131072\n")
	b.gives("b", "c", "d", "a")
}

func TestIgnoredNames(t *testing.T) {
	b := listen(t, workspace.Listen{Ignore: []string{"*.tmp", "~*"}}, nil)
	move(t, filepath.Join(b.Folder, "a.csv.tmp"), "x")
	move(t, filepath.Join(b.Folder, "~lock"), "x")
	move(t, filepath.Join(b.Folder, "a.csv"), "x")
	b.gives("a.csv")
	if w := b.waitingList(); len(w) > 2 { // the given one is being taken
		t.Errorf("waiting: %v", w)
	}
}

// TestOrders fetches what has become ready while nobody came for it.
func TestOrders(t *testing.T) {
	for _, test := range []struct {
		byName, byTime bool
		want           string
	}{{false, false, "b c a"}, {true, false, "a b c"}, {false, true, "c a b"}} {
		folder := t.TempDir()
		l := &Listener{Settings: workspace.Listen{Names: "*", Rhythm: time.Hour}, ByName: test.byName, ByTime: test.byTime, Folder: folder, FS: files.Real{}, Log: slog.New(slog.DiscardHandler)}
		l.Start()
		for i, name := range []string{"b", "c", "a"} {
			path := filepath.Join(folder, name)
			put(t, path, "x")
			when := time.Now().Add(-time.Minute * time.Duration([]int{1, 3, 2}[i]))
			if err := os.Chtimes(path, when, when); err != nil {
				t.Fatal(err)
			}
			l.note(context.Background(), path, true)
		}
		var got []string
		for _, c := range append(l.Fetch(2, time.Time{}, false), l.Fetch(2, time.Time{}, false)...) {
			got = append(got, c.Name)
		}
		if strings.Join(got, " ") != test.want {
			t.Errorf("by name %v, by time %v: %v", test.byName, test.byTime, got)
		}
		// Who has fetched them may keep some waiting.
		l.Parked(Turn, filepath.Join(folder, "a"), filepath.Join(folder, "b"))
		if list, all := l.Waiting(10); all != 2 || list[0].Reason != Turn {
			t.Errorf("waiting are %v", list)
		}
		l.Parked("", filepath.Join(folder, "a"))
		l.Forget(filepath.Join(folder, "b"), 0)
		if list, all := l.Waiting(10); all != 0 {
			t.Errorf("waiting are %v", list)
		}
	}
}

// TestLeft: files that are left where they are come once, again when they
// change, and when they are gone.
func TestLeft(t *testing.T) {
	b := listen(t, workspace.Listen{Originals: workspace.Left, Changes: true, Gone: true, Rhythm: 100 * time.Millisecond}, nil)
	path := filepath.Join(b.Folder, "a")
	move(t, path, "x")
	b.gives("a")
	time.Sleep(300 * time.Millisecond) // several looks see it unchanged
	b.gives("a")
	move(t, path, "xy")
	b.gives("a", "changed a")
	if err := os.Remove(path); err != nil {
		t.Fatal(err)
	}
	b.gives("a", "changed a", "gone a")
}

func TestDemand(t *testing.T) {
	b := listen(t, workspace.Listen{Names: "*.csv", Marker: "{file.name}.done"}, nil)
	b.closed = true
	move(t, filepath.Join(b.Folder, "a.csv"), "x")
	b.waits("a.csv", "marker")
	for name, says := range map[string]string{"none.csv": "no such file", "../a.csv": "no such file", ".hidden": "no such file", "sub/a.csv": "no such file"} {
		if err := b.Demand(name); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if err := b.Demand("a.csv"); err != nil {
		t.Fatal(err)
	}
	b.gives("a.csv")
}

// TestThousandsOfSubfolders: each is watched, and those that come later too.
func TestThousandsOfSubfolders(t *testing.T) {
	const folders = 3000
	b := listen(t, workspace.Listen{Subfolders: true}, func(folder string) {
		for i := range folders {
			if err := os.MkdirAll(filepath.Join(folder, fmt.Sprintf("%d/%d", i%50, i)), 0o755); err != nil {
				t.Fatal(err)
			}
		}
	})
	for i := 0; i < folders; i += 30 {
		move(t, filepath.Join(b.Folder, fmt.Sprintf("%d/%d/f", i%50, i)), "x")
	}
	b.until("all are given", func() bool { return len(b.names()) == folders/30 })
	if err := os.MkdirAll(filepath.Join(b.Folder, "late/deep"), 0o755); err != nil {
		t.Fatal(err)
	}
	move(t, filepath.Join(b.Folder, "late/deep/f"), "x")
	b.until("the late one is given", func() bool { return len(b.names()) == folders/30+1 })
}

// TestOrderOfWhatWasThere: files that are found by a look have to look the same once
// more; one that comes meanwhile and is complete at once waits for them where an order
// is kept. They come in the order of their arrival, whatever their times of change say.
func TestOrderOfWhatWasThere(t *testing.T) {
	folder := t.TempDir()
	for i, name := range []string{"f3", "f1", "f2"} {
		path := filepath.Join(folder, name)
		move(t, path, "x")
		age := time.Now().Add(-time.Hour * time.Duration(i+1)) // the one that came last is the oldest
		if err := os.Chtimes(path, age, age); err != nil {
			t.Fatal(err)
		}
		time.Sleep(10 * time.Millisecond) // the kernel's clock for arrivals is coarse
	}
	for _, inOrder := range []bool{true, false} {
		l := &Listener{Settings: workspace.Listen{Names: "*", Rhythm: time.Hour}, InOrder: inOrder, Folder: folder, FS: files.Real{}, Log: slog.New(slog.DiscardHandler)}
		l.Start()
		l.look(context.Background())
		late := filepath.Join(folder, "f4")
		put(t, late, "x")
		l.note(context.Background(), late, true) // an event: it is complete
		got := func() (names string) {
			for _, c := range l.Fetch(10, time.Time{}, false) {
				names += c.Name + " "
			}
			return names
		}
		first := got()
		if inOrder && first != "" || !inOrder && first != "f4 " {
			t.Errorf("in order %v: %q came before it was known whether the others are complete", inOrder, first)
		}
		time.Sleep(settle + 10*time.Millisecond)
		l.retry(context.Background())
		if all := first + got(); inOrder && all != "f3 f1 f2 f4 " || !inOrder && all != "f4 f3 f1 f2 " {
			t.Errorf("in order %v: %s", inOrder, all)
		}
		// One that keeps changing holds nobody.
		put(t, filepath.Join(folder, "f0"), "x")
		l.look(context.Background())
		next := filepath.Join(folder, "f5")
		put(t, next, "x")
		l.note(context.Background(), next, true)
		put(t, filepath.Join(folder, "f0"), "xxx")
		l.look(context.Background())
		if names := got(); names != "f5 " {
			t.Errorf("in order %v: %q", inOrder, names)
		}
		for _, name := range []string{"f0", "f4", "f5"} {
			if err := os.Remove(filepath.Join(folder, name)); err != nil {
				t.Fatal(err)
			}
		}
	}
}

// TestByNameNumbersCount: p2 comes before p10.
func TestByNameNumbersCount(t *testing.T) {
	folder := t.TempDir()
	l := &Listener{Settings: workspace.Listen{Names: "*", Rhythm: time.Hour}, ByName: true, Folder: folder, FS: files.Real{}, Log: slog.New(slog.DiscardHandler)}
	l.Start()
	for _, name := range []string{"p10", "p2", "p1"} {
		put(t, filepath.Join(folder, name), "x")
		l.note(context.Background(), filepath.Join(folder, name), true)
	}
	var got []string
	for _, c := range l.Fetch(10, time.Time{}, false) {
		got = append(got, c.Name)
	}
	if strings.Join(got, " ") != "p1 p2 p10" {
		t.Errorf("%v", got)
	}
}

// TestMarkerTakenAway: a file whose marker is gone again waits for it, also when it was
// ready already.
func TestMarkerTakenAway(t *testing.T) {
	b := listen(t, workspace.Listen{Names: "*.csv", Marker: "{file.name}.done", Rhythm: 50 * time.Millisecond}, nil)
	b.mu.Lock() // nobody fetches for now
	move(t, filepath.Join(b.Folder, "a.csv"), "x")
	move(t, filepath.Join(b.Folder, "a.csv.done"), "")
	b.waits("a.csv", Turn)
	if err := os.Remove(filepath.Join(b.Folder, "a.csv.done")); err != nil {
		t.Fatal(err)
	}
	b.waits("a.csv", "its marker a.csv.done is not there")
	b.mu.Unlock()
	move(t, filepath.Join(b.Folder, "a.csv.done"), "")
	b.gives("a.csv")
}

// TestNamesOfBothForms: a letter with a mark is one character for some and two for
// others (Unicode normalization forms C and D); names match all the same.
func TestNamesOfBothForms(t *testing.T) {
	b := listen(t, workspace.Listen{Names: "möwe-*.csv"}, nil)
	move(t, filepath.Join(b.Folder, "mo\u0308we-1.csv"), "x")
	b.gives("mo\u0308we-1.csv")
	move(t, filepath.Join(b.Folder, "m\u00f6we-2.csv"), "x")
	b.gives("mo\u0308we-1.csv", "m\u00f6we-2.csv")
}

// TestMountedOver: when something is mounted over the folder, and no more, files are
// noticed in what is there.
func TestMountedOver(t *testing.T) {
	b := listen(t, workspace.Listen{Rhythm: 100 * time.Millisecond}, nil)
	move(t, filepath.Join(b.Folder, "a"), "x")
	b.gives("a")
	if err := syscall.Mount("none", b.Folder, "tmpfs", 0, "size=1m"); err != nil {
		t.Skipf("nothing can be mounted here: %v", err)
	}
	mounted := true
	t.Cleanup(func() {
		if mounted {
			syscall.Unmount(b.Folder, syscall.MNT_DETACH)
		}
	})
	b.until("the new folder is watched", func() bool { return !b.sub.moved(b.Folder) })
	move(t, filepath.Join(b.Folder, "b"), "x")
	noticed := time.Now()
	b.gives("a", "b")
	if took := time.Since(noticed); took > settle {
		t.Errorf("it took %s: it was found by a look, not by an event", took)
	}
	if err := syscall.Unmount(b.Folder, syscall.MNT_DETACH); err != nil {
		t.Fatal(err)
	}
	mounted = false
	move(t, filepath.Join(b.Folder, "c"), "x")
	b.gives("a", "b", "c")
}

// leaving takes a file away, as a conductor does, in the moment in which the listener considers it.
type leaving struct {
	files.Real
	l     *Listener
	looks atomic.Int64
}

func (f *leaving) Look(name string) (files.Info, error) {
	f.looks.Add(1)
	return f.Real.Look(name)
}

func (f *leaving) Free(name string) (string, bool, error) {
	info, err := f.Real.Look(name)
	if err != nil {
		return "", false, err
	}
	f.l.Forget(name, info.Inode)
	return "somebody writes to it", true, os.Remove(name)
}

// TestTakenWhileConsidered: a file that is taken while it is considered is not considered for ever.
func TestTakenWhileConsidered(t *testing.T) {
	folder := t.TempDir()
	if err := os.WriteFile(filepath.Join(folder, "a.csv"), []byte("x"), 0o644); err != nil {
		t.Fatal(err)
	}
	fsys := &leaving{}
	l := &Listener{Settings: workspace.Listen{Names: "*", Notice: workspace.ByLooks, Rhythm: time.Hour}, Folder: folder, FS: fsys, Log: slog.New(slog.DiscardHandler)}
	fsys.l = l
	ctx, end := context.WithCancel(context.Background())
	l.Start()
	done := make(chan error, 1)
	go func() { done <- l.Run(ctx) }()
	<-l.Up()
	time.Sleep(500 * time.Millisecond)
	end()
	if err := <-done; err != nil {
		t.Fatal(err)
	}
	if n := fsys.looks.Load(); n > 10 {
		t.Errorf("looked at %d times", n)
	}
}
