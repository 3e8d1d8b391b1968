package e2e

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"sort"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"

	"ydrion/files"
	"ydrion/testbed"
)

// reluctant refuses to create outputs while the number of a file in its content
// is among those refused.
type reluctant struct {
	files.Real
	refuse atomic.Pointer[regexp.Regexp]
}

func (r *reluctant) Link(from, to string) error {
	if p := r.refuse.Load(); p != nil && p.MatchString(filepath.Base(from)) {
		return syscall.EIO
	}
	return r.Real.Link(from, to)
}

func (r *reluctant) set(pattern string) {
	if pattern == "" {
		r.refuse.Store(nil)
		return
	}
	r.refuse.Store(regexp.MustCompile(pattern))
}

// outputs lists what has come out, in the order of publishing.
func outputs(b *testbed.Bed) string {
	b.T.Helper()
	names := b.List("laboratory/orders")
	sort.Slice(names, func(i, j int) bool { return changed(b, names[i]) < changed(b, names[j]) })
	return strings.ReplaceAll(strings.Join(names, " "), ".hl7", "")
}

// changed is when a file was renamed.
func changed(b *testbed.Bed, name string) int64 {
	info, err := os.Stat(b.Path("laboratory/orders", name))
	if err != nil {
		b.T.Fatal(err)
	}
	st := info.Sys().(*syscall.Stat_t)
	return st.Ctim.Nano()
}

// TestLaneHolds: a pickup that cannot go on holds those behind it in its lane,
// until it goes on or a person lets them pass; other lanes do not wait.
func TestLaneHolds(t *testing.T) {
	t.Parallel()
	fsys := &reluctant{}
	b := testbed.Start(t, testbed.On(fsys))
	b.Publish(orders(t, "read:\n", "order:\n  lane: \"{file.stem | before \\\"-\\\"}\"\n  failure: holds\n\nread:\n"))
	fsys.set("ansel-1|brun-1")
	b.Drop("stations/inbox", "ansel-1.csv", sheet(1))
	until(b, "ansel-1.csv=held")
	b.Drop("stations/inbox", "ansel-2.csv", sheet(2))
	b.Drop("stations/inbox", "brun-1.csv", sheet(3))
	b.Drop("stations/inbox", "calder-1.csv", sheet(4))
	b.Drop("stations/inbox", "ansel-3.csv", sheet(5))
	waits(b, "ansel-2.csv", "its lane ansel is held by pickup 1")
	waits(b, "ansel-3.csv", "its lane ansel is held by pickup 1")
	testbed.Until(t, "the other lane goes on", func() bool { return outputs(b) == "calder-1" })
	b.Drop("stations/inbox", "brun-2.csv", sheet(6))
	waits(b, "brun-2.csv", "its lane brun is held by pickup")
	if code, said := command(b, "lanes"); code != 0 || !strings.Contains(said, "ansel-1.csv") || !strings.Contains(said, "brun-1.csv") {
		t.Errorf("exit code %d: %s", code, said)
	}
	list, err := b.Client.Lanes(context.Background(), "")
	if err != nil || len(list) != 2 || list[0].Lane != "ansel" || list[0].Behind != 2 || list[1].Behind != 1 {
		t.Errorf("%+v %v", list, err)
	}
	testbed.Until(t, "people are told", func() bool {
		_, said := command(b, "alerts")
		return strings.Contains(said, "lane held") && strings.Contains(said, "lane ansel of specimen-orders is held by ansel-1.csv (pickup 1)")
	})
	// One lane goes on by itself, in its order.
	fsys.set("brun-1")
	testbed.Until(t, "the lane has gone on", func() bool { return outputs(b) == "calder-1 ansel-1 ansel-2 ansel-3" })
	// The other because a person says so.
	brun := 0
	for _, line := range strings.Split(states(b), " ") {
		if brun++; strings.HasPrefix(line, "brun-1") {
			break
		}
	}
	if code, said := command(b, "decide", fmt.Sprint(brun), "pass"); code != 0 {
		t.Errorf("exit code %d: %s", code, said)
	}
	testbed.Until(t, "those behind have passed", func() bool { return outputs(b) == "calder-1 ansel-1 ansel-2 ansel-3 brun-2" })
	if code, said := command(b, "lanes"); code != 0 || !strings.Contains(said, "no lane is held") {
		t.Errorf("exit code %d: %s", code, said)
	}
	fsys.set("")
	if code, said := command(b, "decide", fmt.Sprint(brun), "try"); code != 0 {
		t.Errorf("exit code %d: %s", code, said)
	}
	testbed.Until(t, "it has come out at last", func() bool { return strings.HasSuffix(outputs(b), "brun-2 brun-1") })
}

// TestLaneKeepsAcrossARestart: what was held before holds afterwards.
func TestLaneKeepsAcrossARestart(t *testing.T) {
	t.Parallel()
	data, database, fsys := t.TempDir(), testbed.Database(t), &reluctant{}
	b := testbed.Start(t, testbed.On(fsys), testbed.In(data, database))
	b.Publish(orders(t, "read:\n", "order:\n  lane: all\n  failure: holds\n  by: name\n\nread:\n"))
	fsys.set("1-a")
	b.Drop("stations/inbox", "1-a.csv", sheet(1))
	until(b, "1-a.csv=held")
	b.Drop("stations/inbox", "3-c.csv", sheet(3))
	b.Drop("stations/inbox", "2-b.csv", sheet(2))
	waits(b, "3-c.csv", "its lane all is held by pickup 1")
	if err := b.End(); err != nil {
		t.Fatal(err)
	}
	b = testbed.Start(t, testbed.On(fsys), testbed.In(data, database))
	waits(b, "3-c.csv", "its lane all is held by pickup 1")
	waits(b, "2-b.csv", "its lane all is held by pickup 1")
	fsys.set("")
	testbed.Until(t, "all have come out in order", func() bool { return outputs(b) == "1-a 2-b 3-c" || outputs(b) == "1-a 3-c 2-b" })
}

// TestOrderByContent: files that wait are taken in the order that their content
// says.
func TestOrderByContent(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	b.Publish(orders(t, "read:\n", "order:\n  by: \"{animal_tag}\"\n  lane: all\n\nread:\n", "  names: \"*.csv\"\n", "  names: \"*.csv\"\n  notice: asked\n"))
	for _, n := range []int{12, 9, 100, 7} {
		b.Drop("stations/inbox", fmt.Sprintf("x%d.csv", n), sheet(n)) // animal_tag is T-12, T-9, …
		waits(b, fmt.Sprintf("x%d.csv", n), "when somebody asks")
	}
	if code, said := command(b, "take", "specimen-orders"); code != 0 {
		t.Errorf("exit code %d: %s", code, said)
	}
	until(b, "x7.csv=delivered x9.csv=delivered x12.csv=delivered x100.csv=delivered")
}

// TestOvertaking: running something older than what its lane has delivered
// since is refused unless one says that it may overtake.
func TestOvertaking(t *testing.T) {
	b := testbed.Start(t)
	b.Publish(orders(t, "read:\n", "order:\n  lane: \"{file.stem | before \\\"-\\\"}\"\n\nread:\n"))
	for i, name := range []string{"ansel-1.csv", "brun-1.csv", "ansel-2.csv"} {
		b.Drop("stations/inbox", name, sheet(i))
		b.Ended(name, 0)
	}
	code, said := command(b, "again", "--route", "specimen-orders", "--yes")
	if code != 1 || !strings.Contains(said, "pickup 1 (ansel-1.csv) is left out: pickup 3 of the same lane was delivered since") || !strings.Contains(said, "pickup 2 (brun-1.csv): run") || !strings.Contains(said, "pickup 3 (ansel-2.csv): run") {
		t.Errorf("exit code %d: %s", code, said)
	}
	testbed.Until(t, "they have ended", func() bool { return len(b.List("laboratory/orders")) == 5 })
	code, said = command(b, "again", "1", "--overtake", "--yes")
	if code != 0 || !strings.Contains(said, "has begun") {
		t.Errorf("exit code %d: %s", code, said)
	}
	testbed.Until(t, "it has ended", func() bool { return len(b.List("laboratory/orders")) == 6 })
}
