package run

import (
	"bytes"
	"context"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"ydrion/files"
	"ydrion/listen"
)

// messages counts those of an output.
func (s *stand) messages(name string) int {
	content, err := os.ReadFile(filepath.Join(s.data, "laboratory", "orders", name))
	if err != nil {
		s.t.Fatal(err)
	}
	return bytes.Count(content, []byte("MSH|"))
}

// TestCollectedInMemory: whatever the records and the files refuse for a while, files that belong together come out
// together, each once, in one output with all of their records.
func TestCollectedInMemory(t *testing.T) {
	for seed := range uint64(25) {
		synctest.Test(t, func(t *testing.T) {
			s := newStand(t, "collect:\n  by: '{file.stem | before \"-\"}'\n  complete: 3\n\n")
			r := rand.New(rand.NewPCG(seed, 8))
			calling := rand.New(rand.NewPCG(seed, 9)) // of another goroutine
			set := s.breaks(func() bool { return calling.IntN(3) > 0 })
			calls := []string{"files", "files", "claim", "taken", "held", "commit", "abandon", "published", "unfinished", "holders", "members", "owners", "collections", "withdrawn"}
			const groups = 8
			var all []string
			for n := range groups {
				for k := range 3 {
					all = append(all, fmt.Sprintf("g%d-%d.csv", n, k))
				}
			}
			r.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
			for _, name := range all {
				s.dropRow(name, 1+int(name[3]-'0'))
				if r.IntN(2) == 0 {
					set(calls[r.IntN(len(calls))], r.IntN(3) > 0)
				}
				time.Sleep(time.Duration(r.IntN(3000)) * time.Millisecond)
			}
			for _, c := range calls {
				set(c, false)
			}
			s.within("all have come out", time.Hour, func() bool { return len(s.orders()) == groups })
			s.within("all have ended", time.Hour, func() bool {
				return !slices.ContainsFunc(s.records.states(), func(p string) bool { return !strings.HasSuffix(p, "=delivered") && !strings.HasSuffix(p, "=withdrawn") })
			})
			came := map[string]int{}
			for _, p := range s.records.states() {
				if name, state, _ := strings.Cut(p, "="); state == "delivered" {
					came[name]++
				}
			}
			for _, name := range all {
				if came[name] != 1 {
					t.Errorf("seed %d: %s has %d pickups that were delivered", seed, name, came[name])
				}
			}
			for _, name := range s.orders() {
				if n := s.messages(name); n != 3 {
					t.Fatalf("seed %d: %s has %d messages: %v", seed, name, n, s.records.balances())
				}
			}
			if left, err := os.ReadDir(filepath.Join(s.data, "stations", "inbox")); err != nil || slices.ContainsFunc(left, func(e os.DirEntry) bool { return !e.IsDir() }) {
				t.Errorf("seed %d: the inbox has %v, %v", seed, left, err)
			}
		})
	}
}

// TestIncomplete: files that are not complete in time are held, rejected or worked on as the route says; one that comes
// after the others went on without it does not wait again.
func TestIncomplete(t *testing.T) {
	settings := func(otherwise string) string {
		return "collect:\n  by: '{file.stem | before \"-\"}'\n  complete: [\"*-data.csv\", \"*-sum.csv\"]\n  within: 2h\n  else: " + otherwise + "\n\n"
	}
	synctest.Test(t, func(t *testing.T) {
		s := newStand(t, settings("go on"))
		s.drop("a-data.csv")
		time.Sleep(time.Hour)
		s.drop("b-data.csv")
		s.dropRow("b-sum.csv", 2)
		s.within("the complete ones come out", time.Minute, func() bool { return slices.Equal(s.orders(), []string{"b-data.hl7"}) })
		if took := s.within("the others go on", 3*time.Hour, func() bool { return len(s.orders()) == 2 }); took < 58*time.Minute || took > 61*time.Minute {
			t.Errorf("they went on after %s", took)
		}
		f := s.records.ran(1003).Findings
		if len(f) != 1 || f[0].Code != "collect.incomplete" || !strings.Contains(f[0].Message, "there is no file *-sum.csv yet") {
			t.Errorf("%v", f)
		}
	})
	synctest.Test(t, func(t *testing.T) {
		s := newStand(t, settings("hold"))
		s.drop("a-data.csv")
		time.Sleep(24 * time.Hour)
		if got := s.orders(); len(got) > 0 || s.told("incomplete: specimen-orders with a: 1 file waits for others since ") != 1 {
			t.Errorf("%v %v", got, s.alerts)
		}
		s.dropRow("a-sum.csv", 2)
		s.within("they come out", time.Minute, func() bool { return len(s.orders()) == 1 && s.messages("a-data.hl7") == 2 })
	})
	synctest.Test(t, func(t *testing.T) {
		s := newStand(t, settings("reject"))
		s.drop("a-data.csv")
		s.within("it is rejected", 3*time.Hour, func() bool {
			return len(s.records.states()) == 1 && s.records.states()[0] == "a-data.csv=delivered"
		})
		c := s.records.ran(1001)
		if !c.Whole || c.Findings[0].Message != "others that belong to it have not come in time: there is no file *-sum.csv yet" || c.Deliveries[0].Kind != "rejected" {
			t.Errorf("%+v", c)
		}
	})
}

// TestCollectedChanges: a file that is written anew, or taken away, while it waits for others is not counted for what it
// was.
func TestCollectedChanges(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := newStand(t, "collect:\n  complete: 3\n\n")
		inbox := filepath.Join(s.data, "stations", "inbox")
		s.drop("a.csv")
		s.drop("b.csv")
		time.Sleep(time.Minute)
		s.drop("a.csv") // anew
		if err := os.Remove(filepath.Join(inbox, "b.csv")); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Minute)
		s.dropRow("c.csv", 2)
		time.Sleep(time.Minute)
		if got := s.orders(); len(got) > 0 {
			t.Fatalf("%v came out, and b.csv is gone", got)
		}
		s.dropRow("d.csv", 3)
		s.within("the three come out", time.Minute, func() bool { return len(s.orders()) == 1 && s.messages(s.orders()[0]) == 3 })
		if states := s.records.states(); !slices.Equal(states, []string{"a.csv=delivered", "c.csv=delivered", "d.csv=delivered"}) {
			t.Errorf("%v", states)
		}
	})
}

// TestCollectedByTimetable: a timetable says when complete files are taken, and makes none complete.
func TestCollectedByTimetable(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := newStand(t, "  timetable: {every: 1h, zone: UTC}\n\ncollect:\n  complete: 2\n  within: 30d\n\n")
		s.drop("a.csv")
		time.Sleep(3 * time.Hour)
		if got := s.orders(); len(got) > 0 {
			t.Fatalf("%v came out", got)
		}
		s.dropRow("b.csv", 2)
		s.within("both come out", 61*time.Minute, func() bool { return len(s.orders()) == 1 && s.messages("a.hl7") == 2 })
	})
}

// TestWaitingVanishes: what is taken out of the inbox while it waits is forgotten, with since when it waited; and
// somebody can have a file taken that waits.
func TestWaitingVanishes(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := newStand(t, "collect:\n  by: '{file.stem | before \"-\"}'\n  complete: 2\n  within: 2h\n  else: reject\n\n")
		inbox := filepath.Join(s.data, "stations", "inbox")
		s.drop("a-1.csv")
		time.Sleep(time.Hour)
		if err := os.Remove(filepath.Join(inbox, "a-1.csv")); err != nil {
			t.Fatal(err)
		}
		time.Sleep(10 * time.Hour)
		if list, n := s.listener.Waiting(10); n > 0 || len(s.records.states()) > 0 || s.records.waits() > 0 {
			t.Fatalf("%v %v, %d wait for others", list, s.records.states(), s.records.waits())
		}
		s.drop("a-2.csv")
		time.Sleep(90 * time.Minute)
		if states := s.records.states(); len(states) > 0 {
			t.Fatalf("%v: it has waited for 90 minutes", states)
		}
		if err := s.listener.Demand("a-2.csv"); err != nil {
			t.Fatal(err)
		}
		s.within("it is taken", time.Minute, func() bool { return len(s.orders()) == 1 })
		if f := s.records.ran(1001).Findings; len(f) != 1 || f[0].Message != "it went on without others that belong to it: 1 of 2 files are there" {
			t.Errorf("%v", f)
		}
	})
}

// TestLeftOver: of more files than belong together the rest waits for others, and from then on.
func TestLeftOver(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := newStand(t, "collect:\n  complete: 2\n  within: 2h\n  else: go on\n\n")
		for n := range 5 {
			s.dropRow(fmt.Sprintf("%d.csv", n), n)
		}
		s.within("two pairs come out", time.Minute, func() bool { return len(s.orders()) == 2 })
		if took := s.within("the fifth goes on alone", 3*time.Hour, func() bool { return len(s.orders()) == 3 }); took < 119*time.Minute || took > 121*time.Minute {
			t.Errorf("after %s", took)
		}
	})
}

// TestPutBackBeforeItListens: files that are put back before the route listens stand where they stood, as those do that are put back
// while it does.
func TestPutBackBeforeItListens(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := newStand(t, "")
		inbox, compiled := s.listener.Folder, s.compiled
		s.Listen(nil, nil)
		for i, name := range []string{"a.csv", "b.csv", "c.csv"} {
			s.dropRow(name, 1+i)
			time.Sleep(time.Second)
		}
		s.stands(filepath.Join(inbox, "c.csv"), 7)
		s.stands(filepath.Join(inbox, "b.csv"), 8)
		life, end := context.WithCancel(t.Context())
		l := &listen.Listener{Settings: compiled.Listen, InOrder: true, Folder: inbox, FS: files.Real{}, Log: slog.New(slog.DiscardHandler)}
		l.Start()
		s.Listen(l, compiled)
		var listening sync.WaitGroup
		listening.Go(func() { l.Run(life) }) //nolint: the folder is there
		s.within("all come out", time.Minute, func() bool { return len(s.orders()) == 3 })
		var order []string
		s.records.mu.Lock()
		for _, k := range s.records.pickups {
			order = append(order, k.Name)
		}
		s.records.mu.Unlock()
		if !slices.Equal(order, []string{"c.csv", "b.csv", "a.csv"}) {
			t.Errorf("they are taken as %v", order)
		}
		end()
		listening.Wait()
	})
}
