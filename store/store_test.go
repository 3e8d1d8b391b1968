package store_test

import (
	"context"
	"errors"
	"os"
	"strings"
	"testing"
	"time"

	"ydrion/core/finding"
	"ydrion/core/flow"
	"ydrion/core/place"
	"ydrion/store"
	"ydrion/testbed"
)

func TestMain(m *testing.M) { os.Exit(testbed.Main(m)) }

var ctx = context.Background()

func open(t *testing.T) *store.Store {
	t.Helper()
	s, err := store.Open(ctx, testbed.Database(t))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	return s
}

func must[T any](v T, err error) func(t *testing.T) T {
	return func(t *testing.T) T {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
		return v
	}
}

// claimed claims a file and takes it as far as its first run.
func claimed(t *testing.T, s *store.Store, name, content string) (pickup int64, begun store.Begun) {
	t.Helper()
	id, mine, err := s.Claim(ctx, store.Claim{Route: "orders", Path: "/in/" + name, Name: name, Size: 3, Modified: time.Now(), Device: 1<<63 + 5, Inode: 9, Noticed: time.Now()})
	if err != nil || !mine {
		t.Fatal(mine, err)
	}
	return id, must(s.Taken(ctx, id, content, 3, store.NewRun{Route: "orders", Revision: "r1", Now: time.Now()}))(t)
}

func TestPublishing(t *testing.T) {
	s := open(t)
	files := map[string][]byte{"routes/a.yaml": []byte("a\x00b"), "maps/a.map": []byte("m")}
	for i, test := range []struct {
		hash    string
		number  int
		changed bool
	}{{"r1", 1, true}, {"r1", 1, false}, {"r2", 2, true}, {"r1", 1, true}} {
		number, changed, err := s.Publish(ctx, "orders", test.hash, files)
		if err != nil || number != test.number || changed != test.changed {
			t.Errorf("%d: revision %d, changed %v, %v", i, number, changed, err)
		}
	}
	got := must(s.RevisionFiles(ctx, "orders", "r2"))(t)
	if len(got) != 2 || string(got["routes/a.yaml"]) != "a\x00b" {
		t.Errorf("%q", got)
	}
	if _, err := s.RevisionFiles(ctx, "orders", "r9"); !errors.Is(err, store.ErrNotFound) {
		t.Error(err)
	}
	if err := s.SetRunning(ctx, "nothing", true); !errors.Is(err, store.ErrNotFound) {
		t.Error(err)
	}
	if err := s.SetRunning(ctx, "orders", true); err != nil {
		t.Error(err)
	}
	if r := must(s.Route(ctx, "orders"))(t); !r.Running || r.Number != 1 || r.Revision != "r1" {
		t.Errorf("%+v", r)
	}
}

func TestClaims(t *testing.T) {
	s := open(t)
	c := store.Claim{Route: "orders", Path: "/in/a.csv", Name: "a.csv", Size: 3, Modified: time.Now().Truncate(time.Microsecond), Device: 1, Inode: 2, Noticed: time.Now()}
	first, mine, err := s.Claim(ctx, c)
	if err != nil || !mine {
		t.Fatal(mine, err)
	}
	if _, mine, err := s.Claim(ctx, c); err != nil || mine {
		t.Errorf("the same file was claimed twice: %v %v", mine, err)
	}
	// Another route, or a changed file, is something else.
	other := c
	other.Size = 4
	if _, mine, err := s.Claim(ctx, other); err != nil || !mine {
		t.Errorf("a changed file: %v %v", mine, err)
	}
	if err := s.Withdrawn(ctx, first, "it went away"); err != nil {
		t.Fatal(err)
	}
	if p := must(s.Pickup(ctx, first))(t); p.State != "withdrawn" || p.Reason != "it went away" || p.EndedAt == nil {
		t.Errorf("%+v", p)
	}
	if _, mine, err := s.Claim(ctx, c); err != nil || !mine {
		t.Errorf("the same file after the claim has ended: %v %v", mine, err)
	}
}

func TestFromClaimToEnd(t *testing.T) {
	s := open(t)
	if _, _, err := s.Publish(ctx, "orders", "r1", map[string][]byte{"a": nil}); err != nil {
		t.Fatal(err)
	}
	pickup, begun := claimed(t, s, "a.csv", "cafe")
	if begun.Before != 0 {
		t.Errorf("the content came before, in %d", begun.Before)
	}
	if err := s.Held(ctx, pickup, "no space"); err != nil {
		t.Fatal(err)
	}
	open := must(s.Unfinished(ctx))(t)
	if len(open) != 1 || open[0].State != "held" || *open[0].Run != begun.Run || *open[0].Revision != "r1" || *open[0].SHA256 != "cafe" {
		t.Fatalf("%+v", open)
	}
	commit := store.Commit{Run: begun.Run, Pickup: pickup, Balance: flow.Balance{In: 3, Good: 2, Rejected: 1, Bytes: 99},
		Findings:   finding.List{finding.Warn("w", place.InFile("a.csv"), "hm")},
		Deliveries: []store.Delivery{{Run: begun.Run, Ord: 1, Kind: "good", Folder: "/out", Name: "a.hl7", Temporary: "/out/.t", Size: 5, SHA256: "beef", Records: 2, FirstRecord: 1}, {Run: begun.Run, Ord: 2, Kind: "rejected", Folder: "/bad", Name: "a.csv", Records: 1, FirstRecord: 3}},
		Rejects:    []store.Reject{{Record: 3, Line: 4, Raw: []byte("x\x00\xFF"), Findings: finding.List{finding.New("schema.type", place.Place{Line: 4}, "bad \"value\"")}}}}
	if done := must(s.Committed(ctx, begun.Run))(t); done {
		t.Error("committed before the commit")
	}
	if err := s.Commit(ctx, commit); err != nil {
		t.Fatal(err)
	}
	if done := must(s.Committed(ctx, begun.Run))(t); !done {
		t.Error("not committed after the commit")
	}
	// Committing twice fails as a whole, and Committed tells why that is good.
	if err := s.Commit(ctx, commit); err == nil {
		t.Error("a run was committed twice")
	}
	if left := must(s.Unpublished(ctx, begun.Run))(t); len(left) != 2 || left[0].Temporary != "/out/.t" {
		t.Errorf("%+v", left)
	}
	if err := s.Rename(ctx, begun.Run, 1, "a-2.hl7"); err != nil {
		t.Fatal(err)
	}
	if state := must(s.Published(ctx, begun.Run, pickup))(t); state != "delivered" {
		t.Errorf("ended %s", state)
	}
	if left := must(s.Unpublished(ctx, begun.Run))(t); len(left) != 0 {
		t.Errorf("%+v", left)
	}
	runs := must(s.Runs(ctx, pickup))(t)
	if len(runs) != 1 || runs[0].Good != 2 || runs[0].Bytes != 99 || len(runs[0].Findings) != 1 || len(runs[0].Deliveries) != 2 || runs[0].Deliveries[0].Name != "a-2.hl7" || runs[0].State != "published" {
		t.Errorf("%+v", runs)
	}
	rejects := must(s.Rejects(ctx, begun.Run, 0, 10))(t)
	if len(rejects) != 1 || string(rejects[0].Raw) != "x\x00\xFF" || rejects[0].Findings[0].Message != `bad "value"` {
		t.Errorf("%+v", rejects)
	}
	// The same content again is said to have come before.
	if _, again := claimed(t, s, "b.csv", "cafe"); again.Before != pickup || again.BeforeName != "a.csv" {
		t.Errorf("%+v", again)
	}
}

func TestRejectedWhole(t *testing.T) {
	s := open(t)
	pickup, begun := claimed(t, s, "a.csv", "00")
	if err := s.Commit(ctx, store.Commit{Run: begun.Run, Pickup: pickup, Whole: true, Findings: finding.List{finding.Warn("w", place.Place{}, "odd"), finding.New("file.empty", place.Place{}, "the file holds nothing")}}); err != nil {
		t.Fatal(err)
	}
	if state := must(s.Published(ctx, begun.Run, pickup))(t); state != "rejected" {
		t.Errorf("ended %s", state)
	}
	if p := must(s.Pickup(ctx, pickup))(t); !p.Whole || p.Reason != "the file holds nothing" {
		t.Errorf("%+v", p)
	}
}

func TestAgain(t *testing.T) {
	s := open(t)
	pickup, begun := claimed(t, s, "a.csv", "11")
	if _, err := s.Again(ctx, pickup, store.NewRun{Route: "orders", Revision: "r1", Now: time.Now()}); !errors.Is(err, store.ErrBusy) || !strings.Contains(err.Error(), "it is taken") {
		t.Errorf("while it is at work: %v", err)
	}
	if err := s.Commit(ctx, store.Commit{Run: begun.Run, Pickup: pickup}); err != nil {
		t.Fatal(err)
	}
	must(s.Published(ctx, begun.Run, pickup))(t)
	second := must(s.Again(ctx, pickup, store.NewRun{Route: "orders", Revision: "r2", Again: true, Now: time.Now()}))(t)
	o := must(s.OpenPickup(ctx, pickup))(t)
	if o.State != "taken" || *o.Run != second || *o.Revision != "r2" || second == begun.Run {
		t.Errorf("%+v", o)
	}
	if _, err := s.Again(ctx, 999, store.NewRun{}); !errors.Is(err, store.ErrNotFound) {
		t.Error(err)
	}
}

// TestSequences: no number twice, a run that starts over gets its own again.
func TestSequences(t *testing.T) {
	s := open(t)
	if _, _, err := s.Publish(ctx, "orders", "r1", map[string][]byte{"a": nil}); err != nil {
		t.Fatal(err)
	}
	_, one := claimed(t, s, "a.csv", "21")
	_, two := claimed(t, s, "b.csv", "22")
	for _, test := range []struct {
		run    int64
		ord, n int
		want   int64
	}{{one.Run, 1, 10, 1}, {two.Run, 1, 5, 11}, {one.Run, 2, 3, 16}, {one.Run, 1, 10, 1}, {one.Run, 2, 3, 16}, {two.Run, 2, 1, 19}, {one.Run, 2, 7, 20}} {
		if got := must(s.Sequence(ctx, "orders", test.run, test.ord, test.n))(t); got != test.want {
			t.Errorf("run %d, block %d: begins at %d, want %d", test.run, test.ord, got, test.want)
		}
	}
	if got := must(s.Sequences(ctx, one.Run))(t); len(got) != 2 || got[0] != 1 || got[1] != 20 {
		t.Errorf("%v", got)
	}
}

func TestFilters(t *testing.T) {
	s := open(t)
	for i, name := range []string{"ansel.csv", "brunholm_1.csv", "brunholm-2.csv", "100%.csv"} {
		pickup, begun := claimed(t, s, name, string(rune('a'+i)))
		if i == 2 {
			continue // still at work
		}
		if err := s.Commit(ctx, store.Commit{Run: begun.Run, Pickup: pickup, Balance: flow.Balance{In: int64(i + 1), Good: int64(i + 1)}}); err != nil {
			t.Fatal(err)
		}
		must(s.Published(ctx, begun.Run, pickup))(t)
	}
	tests := []struct {
		what   string
		filter store.Filter
		want   string
	}{
		{"everything", store.Filter{}, "4 3 2 1"},
		{"part of a name", store.Filter{Name: "BRUN"}, "3 2"},
		{"a pattern", store.Filter{Name: "brun*2*"}, "3"},
		{"characters that SQL would take for patterns", store.Filter{Name: "m_1"}, "2"},
		{"and percent", store.Filter{Name: "0%"}, "4"},
		{"a state", store.Filter{States: []string{"taken", "held"}}, "3"},
		{"another route", store.Filter{Route: "results"}, ""},
		{"a time", store.Filter{Since: time.Now().Add(time.Hour)}, ""},
		{"before a time", store.Filter{Until: time.Now().Add(time.Hour)}, "4 3 2 1"},
		{"the next page", store.Filter{Before: 3, Limit: 1}, "2"},
		{"quotes", store.Filter{Name: "'; drop table pickups; --"}, ""},
	}
	for _, test := range tests {
		if test.filter.Limit == 0 {
			test.filter.Limit = 10
		}
		var got []string
		for _, p := range must(s.Pickups(ctx, test.filter))(t) {
			got = append(got, string(rune('0'+p.ID)))
		}
		if strings.Join(got, " ") != test.want {
			t.Errorf("%s: %v, want %s", test.what, got, test.want)
		}
	}
	tally := must(s.Tallies(ctx, time.Now().Add(-time.Hour)))(t)["orders"]
	if tally.Pickups != 4 || tally.Open != 1 || tally.In != 1+2+4 || tally.Good != 7 || tally.Last == nil {
		t.Errorf("%+v", tally)
	}
	if paths := must(s.OpenPaths(ctx, []int64{1, 3, 77}))(t); len(paths) != 1 || paths[3] != "/in/brunholm-2.csv" {
		t.Errorf("%v", paths)
	}
}

func TestOpenAgainAndElsewhere(t *testing.T) {
	url := testbed.Database(t)
	for range 2 { // the tables are made once
		s, err := store.Open(ctx, url)
		if err != nil {
			t.Fatal(err)
		}
		if err := s.Ping(ctx); err != nil {
			t.Error(err)
		}
		short, cancel := context.WithTimeout(ctx, 300*time.Millisecond)
		if _, err := store.Open(short, url); err == nil {
			t.Error("two services work with one database")
		}
		cancel()
		s.Close()
	}
	for bad, says := range map[string]string{"postgres://nobody@127.0.0.1:1/x": "connecting to the database", "nonsense://": "address"} {
		if _, err := store.Open(ctx, bad); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", bad, err)
		}
	}
}
