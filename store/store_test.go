package store_test

import (
	"context"
	"errors"
	"maps"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

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
	return at(t, testbed.Database(t))
}

func at(t *testing.T, url string) *store.Store {
	t.Helper()
	s, err := store.Open(ctx, url)
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

// led is a store with a published route and a node that leads it.
func led(t *testing.T) (*store.Store, int64) {
	t.Helper()
	return ledAt(t, testbed.Database(t))
}

func ledAt(t *testing.T, url string) (*store.Store, int64) {
	t.Helper()
	s := at(t, url)
	if _, _, err := s.Publish(ctx, "orders", "r1", map[string][]byte{"a": nil}, store.Said{}); err != nil {
		t.Fatal(err)
	}
	node := must(s.Join(ctx, "test", "", 0))(t)
	t.Cleanup(node.Leave)
	if l := must(s.Lead(ctx, node.ID, nil))(t); len(l.Mine) != 1 || l.Others != 0 {
		t.Fatalf("%+v", l)
	}
	if err := s.Tidy(ctx); err != nil { // of a young database nothing is removed
		t.Fatal(err)
	}
	return s, node.ID
}

func claim(name string) store.Claim {
	return store.Claim{Path: "/in/" + name, Name: name, Size: 3, Modified: time.Now().Truncate(time.Microsecond), Device: 1<<63 + 5, Inode: 9, Noticed: time.Now(), Event: "arrived", Origin: "inbox"}
}

// claimed claims a file and takes it as far as its first run.
func claimed(t *testing.T, s *store.Store, node int64, name, content string) (pickup int64, begun store.Begun) {
	t.Helper()
	ids := must(s.Claim(ctx, node, "orders", []store.Claim{claim(name)}))(t)
	if ids[0] == 0 {
		t.Fatal("not claimed")
	}
	return ids[0], must(s.Taken(ctx, node, "orders", []store.Take{{Pickup: ids[0], SHA256: content, Size: 3, Revision: "r1", Now: time.Now()}}))(t)[0]
}

// ends commits and publishes a run.
func ends(t *testing.T, s *store.Store, node int64, c store.Commit) string {
	t.Helper()
	if err := s.Commit(ctx, node, []store.Commit{c}); err != nil {
		t.Fatal(err)
	}
	return must(s.Published(ctx, node, []store.RunOf{{Run: c.Run, Pickup: c.Pickup}}))(t)[c.Pickup]
}

func TestPublishing(t *testing.T) {
	s := open(t)
	files := map[string][]byte{"routes/a.yaml": []byte("a\x00b"), "maps/a.map": []byte("m")}
	for i, test := range []struct {
		hash    string
		number  int
		changed bool
	}{{"r1", 1, true}, {"r1", 1, false}, {"r2", 2, true}, {"r1", 1, true}} {
		number, changed, err := s.Publish(ctx, "orders", test.hash, files, store.Said{})
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
	if err := s.SetRunning(ctx, "nothing", true, store.Said{}); !errors.Is(err, store.ErrNotFound) {
		t.Error(err)
	}
	if err := s.SetRunning(ctx, "orders", true, store.Said{}); err != nil {
		t.Error(err)
	}
	if r := must(s.Route(ctx, "orders"))(t); !r.Running || r.Number != 1 || r.Revision != "r1" {
		t.Errorf("%+v", r)
	}
}

func TestClaims(t *testing.T) {
	s, node := led(t)
	c := claim("a.csv")
	first := must(s.Claim(ctx, node, "orders", []store.Claim{c, claim("b.csv")}))(t)
	if first[0] == 0 || first[1] == 0 || first[0] == first[1] {
		t.Fatal(first)
	}
	if ids := must(s.Claim(ctx, node, "orders", []store.Claim{claim("c.csv"), c}))(t); ids[0] == 0 || ids[1] != 0 {
		t.Errorf("the same file was claimed twice: %v", ids)
	}
	// A changed file is something else.
	other := c
	other.Size = 4
	if ids := must(s.Claim(ctx, node, "orders", []store.Claim{other}))(t); ids[0] == 0 {
		t.Error("a changed file was not claimed")
	}
	if err := s.Withdrawn(ctx, node, first[0], "it went away"); err != nil {
		t.Fatal(err)
	}
	if p := must(s.Pickup(ctx, first[0]))(t); p.State != "withdrawn" || p.Reason != "it went away" || p.EndedAt == nil {
		t.Errorf("%+v", p)
	}
	if ids := must(s.Claim(ctx, node, "orders", []store.Claim{c}))(t); ids[0] == 0 {
		t.Error("the same file after the claim has ended was not claimed")
	}
	// Nobody but the leader claims.
	// One that cannot be gone on with keeps its claim.
	stuck := claim("stuck.csv")
	held := must(s.Claim(ctx, node, "orders", []store.Claim{stuck}))(t)
	if err := s.Held(ctx, node, held[0], "held", "no space", time.Now()); err != nil {
		t.Fatal(err)
	}
	if ids := must(s.Claim(ctx, node, "orders", []store.Claim{stuck}))(t); ids[0] != 0 {
		t.Error("a file was claimed twice")
	}
	if err := s.Withdrawn(ctx, node, held[0], "gone"); err != nil {
		t.Fatal(err)
	}
	if ids := must(s.Claim(ctx, node+1, "orders", []store.Claim{claim("d.csv")}))(t); ids[0] != 0 {
		t.Error("a node claimed that does not lead the route")
	}
	if tally := must(s.Tallies(ctx, time.Now().Add(-time.Hour)))(t)["orders"]; tally.Pickups != 4 || tally.Open != 4 {
		t.Errorf("%+v", tally)
	}
}

// TestBegin: files that are known before they are taken are claimed and begun at once, as they would be one after the other.
func TestBegin(t *testing.T) {
	s, node := led(t)
	known := func(name, content, key string) store.Claim {
		c := claim(name)
		c.SHA256, c.Inode = content, uint64(len(name))+uint64(name[0])
		if key != "" {
			c.Key = &key
		}
		return c
	}
	now := time.Now().Truncate(time.Microsecond)
	before, _ := claimed(t, s, node, "before.csv", "cafe")
	open := known("open.csv", "f00d", "")
	must(s.Claim(ctx, node, "orders", []store.Claim{open}))(t)
	ids, begun, err := s.Begin(ctx, node, "orders", "r1", now, []store.Claim{known("a.csv", "beef", "O-1"), open, known("b.csv", "cafe", ""), known("c\xff.csv", "dead", "O-1")})
	if err != nil {
		t.Fatal(err)
	}
	if ids[0] == 0 || ids[1] != 0 || begun[1].Run != 0 || ids[2] <= ids[0] || ids[3] <= ids[2] || begun[2].Run <= begun[0].Run || begun[3].Run <= begun[2].Run {
		t.Fatalf("%v %+v", ids, begun)
	}
	if begun[0].Before != 0 || begun[2].Before != before || begun[2].BeforeName != "before.csv" {
		t.Errorf("%+v", begun)
	}
	list := must(s.Unfinished(ctx, "orders", ids[0]-1, 10))(t)
	if len(list) != 3 || list[0].State != "taken" || *list[0].Run != begun[0].Run || *list[0].SHA256 != "beef" || *list[0].RunState != "working" || *list[0].Revision != "r1" || !list[0].Now.Equal(now) || list[0].Files != 1 || *list[0].Key != "O-1" || list[2].Path != "/in/c\xff.csv" {
		t.Fatalf("%+v", list)
	}
	if state := ends(t, s, node, store.Commit{Run: begun[0].Run, Pickup: ids[0], Balance: flow.Balance{In: 1, Good: 1}}); state != "delivered" {
		t.Error(state)
	}
	_, later, err := s.Begin(ctx, node, "orders", "r1", now, []store.Claim{known("d.csv", "beef", "O-1")})
	if err != nil || later[0].Before != ids[0] || later[0].BeforeKey != ids[0] || later[0].BeforeKeyName != "a.csv" {
		t.Errorf("%+v %v", later, err)
	}
	// One that has gone away meanwhile is given up.
	if err := s.Withdrawn(ctx, node, ids[2], "it went away"); err != nil {
		t.Fatal(err)
	}
	if p := must(s.Pickup(ctx, ids[2]))(t); p.State != "withdrawn" {
		t.Errorf("%+v", p)
	}
	if ids, _, err := s.Begin(ctx, node+1, "orders", "r1", now, []store.Claim{known("e.csv", "1", "")}); err != nil || ids[0] != 0 {
		t.Error("a node took a file that does not lead the route", ids, err)
	}
	if tally := must(s.Tallies(ctx, time.Now().Add(-time.Hour)))(t)["orders"]; tally.Pickups != 5 || tally.Open != 4 {
		t.Errorf("%+v", tally)
	}
}

func TestFromClaimToEnd(t *testing.T) {
	s, node := led(t)
	pickup, begun := claimed(t, s, node, "a.csv", "cafe")
	if begun.Before != 0 {
		t.Errorf("the content came before, in %d", begun.Before)
	}
	next := time.Now().Add(time.Minute).Truncate(time.Microsecond)
	if err := s.Held(ctx, node, pickup, "held", "no space", next); err != nil {
		t.Fatal(err)
	}
	open := must(s.Unfinished(ctx, "orders", 0, 10))(t)
	if len(open) != 1 || open[0].State != "held" || *open[0].Run != begun.Run || *open[0].Revision != "r1" || *open[0].SHA256 != "cafe" || open[0].Tries != 1 || !open[0].NextTry.Equal(next) || open[0].Committed() {
		t.Fatalf("%+v", open)
	}
	commit := store.Commit{Run: begun.Run, Pickup: pickup, Balance: flow.Balance{In: 3, Good: 2, Rejected: 1, Bytes: 99}, Numbers: []store.Block{{First: 7, Count: 3}},
		Findings:   finding.List{finding.Warn("w", place.InFile("a.csv"), "hm")},
		Deliveries: []store.Delivery{{Run: begun.Run, Ord: 1, Kind: "good", Folder: "/out", Name: "a.hl7", Temporary: "/out/.t", Size: 5, SHA256: "beef", Records: 2, FirstRecord: 1}, {Run: begun.Run, Ord: 2, Kind: "rejected", Folder: "/bad", Name: "a.csv", Records: 1, FirstRecord: 3}},
		Rejects:    []store.Reject{{Record: 3, Line: 4, Raw: []byte("x\x00\xFF"), Findings: finding.List{finding.New("schema.type", place.Place{Line: 4}, "bad \"value\"")}}}}
	// A commit that comes after it was abandoned is refused.
	fates := must(s.Abandon(ctx, node, []int64{begun.Run}))(t)
	if f := fates[begun.Run]; f.Attempt != 1 || f.Committed || f.OutOfReach {
		t.Errorf("%+v", fates)
	}
	// Another node has no say, and learns that it is not its.
	if f := must(s.Abandon(ctx, node+1, []int64{begun.Run}))(t)[begun.Run]; f.Attempt != 1 || f.Committed || !f.OutOfReach {
		t.Errorf("%+v", f)
	}
	if err := s.Commit(ctx, node, []store.Commit{commit}); !errors.Is(err, store.ErrNotOurs) {
		t.Errorf("a commit that was abandoned got through: %v", err)
	}
	commit.Attempt = fates[begun.Run].Attempt
	// Of two, one that does not fit: neither is committed.
	if err := s.Commit(ctx, node, []store.Commit{commit, {Run: 999, Pickup: 999}}); !errors.Is(err, store.ErrNotOurs) {
		t.Errorf("a run that is not there was committed: %v", err)
	}
	if err := s.Commit(ctx, node+1, []store.Commit{commit}); !errors.Is(err, store.ErrNotOurs) {
		t.Errorf("another node's run was committed: %v", err)
	}
	unbalanced := commit
	unbalanced.Balance.In = 4
	if err := s.Commit(ctx, node, []store.Commit{unbalanced}); err == nil || !strings.Contains(err.Error(), "does not balance: 4 in = 2 good + 1 rejected + 0 filtered") {
		t.Errorf("a run that does not balance: %v", err)
	}
	if err := s.Commit(ctx, node, []store.Commit{commit}); err != nil {
		t.Fatal(err)
	}
	if f := must(s.Abandon(ctx, node, []int64{begun.Run}))(t)[begun.Run]; !f.Committed || f.OutOfReach {
		t.Errorf("what was committed was abandoned: %+v", f)
	}
	if f := must(s.Abandon(ctx, node+1, []int64{begun.Run}))(t)[begun.Run]; f.Committed || !f.OutOfReach {
		t.Errorf("another node takes the commit for its own: %+v", f)
	}
	if mine := must(s.Mine(ctx, node, []int64{pickup, 999}))(t); len(mine) != 1 || !mine[pickup] {
		t.Errorf("%v", mine)
	}
	if mine := must(s.Mine(ctx, node+1, []int64{pickup}))(t); len(mine) != 0 {
		t.Errorf("%v", mine)
	}
	if o := must(s.Owners(ctx, []int64{begun.Run, 999}))(t); len(o) != 1 || o[begun.Run].Node != node || o[begun.Run].Working || !o[begun.Run].Open {
		t.Errorf("%+v", o)
	}
	// Committing twice fails as a whole.
	if err := s.Commit(ctx, node, []store.Commit{commit}); !errors.Is(err, store.ErrNotOurs) {
		t.Errorf("a run was committed twice: %v", err)
	}
	if left := must(s.Open(ctx, begun.Run, 0, 10))(t); len(left) != 2 || left[0].Temporary != "/out/.t" {
		t.Errorf("%+v", left)
	}
	if err := s.Rename(ctx, node, store.RunOf{Run: begun.Run, Pickup: pickup}, 1, "a-2.hl7"); err != nil {
		t.Fatal(err)
	}
	if err := s.Rename(ctx, node+1, store.RunOf{Run: begun.Run, Pickup: pickup}, 1, "a-3.hl7"); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("another node renamed an output: %v", err)
	}
	if err := s.Part(ctx, begun.Run, []int{1}); err != nil {
		t.Fatal(err)
	}
	if left := must(s.Open(ctx, begun.Run, 0, 10))(t); len(left) != 1 || left[0].Ord != 2 {
		t.Errorf("%+v", left)
	}
	if states := must(s.Published(ctx, node, []store.RunOf{{Run: begun.Run, Pickup: pickup}}))(t); states[pickup] != "delivered" {
		t.Errorf("ended %v", states)
	}
	if states := must(s.Published(ctx, node, []store.RunOf{{Run: begun.Run, Pickup: pickup}}))(t); len(states) != 0 {
		t.Errorf("ended again: %v", states)
	}
	runs := must(s.Runs(ctx, pickup))(t)
	if len(runs) != 1 || runs[0].Good != 2 || runs[0].Bytes != 99 || len(runs[0].Findings) != 1 || len(runs[0].Deliveries) != 2 || runs[0].Deliveries[0].Name != "a-2.hl7" || runs[0].State != "published" {
		t.Errorf("%+v", runs)
	}
	rejects := must(s.Rejects(ctx, begun.Run, 0, 10))(t)
	if len(rejects) != 1 || string(rejects[0].Raw) != "x\x00\xFF" || rejects[0].Findings[0].Message != `bad "value"` {
		t.Errorf("%+v", rejects)
	}
	if blocks := must(s.Sequences(ctx, begun.Run))(t); len(blocks) != 1 || blocks[0] != (store.Block{First: 7, Count: 3}) {
		t.Errorf("%v", blocks)
	}
	// The same content again is said to have come before.
	if _, again := claimed(t, s, node, "b.csv", "cafe"); again.Before != pickup || again.BeforeName != "a.csv" {
		t.Errorf("%+v", again)
	}
	if tally := must(s.Tallies(ctx, time.Now().Add(-time.Hour)))(t)["orders"]; tally.Pickups != 2 || tally.In != 3 || tally.Good != 2 || tally.Rejected != 1 {
		t.Errorf("%+v", tally)
	}
}

func TestRejectedWhole(t *testing.T) {
	s, node := led(t)
	pickup, begun := claimed(t, s, node, "a.csv", "00")
	c := store.Commit{Run: begun.Run, Pickup: pickup, Whole: true, Findings: finding.List{finding.Warn("w", place.Place{}, "odd"), finding.New("file.empty", place.Place{}, "the file holds nothing")}}
	if state := ends(t, s, node, c); state != "rejected" {
		t.Errorf("ended %s", state)
	}
	if p := must(s.Pickup(ctx, pickup))(t); !p.Whole || p.Reason != "the file holds nothing" {
		t.Errorf("%+v", p)
	}
}

func TestAgain(t *testing.T) {
	s, node := led(t)
	pickup, begun := claimed(t, s, node, "a.csv", "11")
	if _, err := s.Again(ctx, store.Again{Pickup: pickup, Revision: "r1", Now: time.Now()}); !errors.Is(err, store.ErrBusy) || !strings.Contains(err.Error(), "it is taken") {
		t.Errorf("while it is at work: %v", err)
	}
	ends(t, s, node, store.Commit{Run: begun.Run, Pickup: pickup})
	second := must(s.Again(ctx, store.Again{Pickup: pickup, Revision: "r2", Now: time.Now(), SameAs: &begun.Run}))(t)
	o := must(s.Unfinished(ctx, "orders", pickup-1, 1))(t)[0]
	if o.State != "taken" || *o.Run != second || *o.Revision != "r2" || second == begun.Run || !o.Again || *o.SameAs != begun.Run {
		t.Errorf("%+v", o)
	}
	if _, err := s.Again(ctx, store.Again{Pickup: 999}); !errors.Is(err, store.ErrNotFound) {
		t.Error(err)
	}
}

// TestNumbers: no number twice, and only for the leader.
func TestNumbers(t *testing.T) {
	s, node := led(t)
	want := int64(1)
	for _, n := range []int{10, 1, 100} {
		if got := must(s.Numbers(ctx, node, "orders", n))(t); got != want {
			t.Errorf("%d numbers begin at %d, want %d", n, got, want)
		}
		want += int64(n)
	}
	if _, err := s.Numbers(ctx, node+1, "orders", 1); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("another node: %v", err)
	}
}

func TestFilters(t *testing.T) {
	s, node := led(t)
	for i, name := range []string{"ansel.csv", "brunholm_1.csv", "brunholm-2.csv", "100%.csv"} {
		pickup, begun := claimed(t, s, node, name, string(rune('a'+i)))
		if i == 2 {
			continue // still at work
		}
		ends(t, s, node, store.Commit{Run: begun.Run, Pickup: pickup, Balance: flow.Balance{In: int64(i + 1), Good: int64(i + 1)}})
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
	if by := must(s.Holders(ctx, []int64{1, 3, 77}))(t); len(by) != 2 || by[3].Path != "/in/brunholm-2.csv" || !by[3].Open || by[1].Open || by[1].SHA256 != "a" {
		t.Errorf("%v", by)
	}
}

// TestFollowing: numbers become visible in any order; who follows them misses none, gets none
// twice, and waits only for what is under way.
func TestFollowing(t *testing.T) {
	database := testbed.Database(t)
	s, err := store.Open(ctx, database)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	pool, err := pgxpool.New(ctx, database)
	if err != nil {
		t.Fatal(err)
	}
	defer pool.Close()
	const insert = `insert into pickups (route, path, folder, name, size, modified, device, inode, state, noticed_at, node, origin) values ('orders', $1, '', $1, 0, now(), 0, 0, 'withdrawn', now(), 0, 'handed') returning id`
	if _, _, err := s.Publish(ctx, "orders", "r1", map[string][]byte{"a": nil}, store.Said{}); err != nil {
		t.Fatal(err)
	}
	begin := func(name string) (pgx.Tx, int64) {
		tx, err := pool.Begin(ctx)
		if err != nil {
			t.Fatal(err)
		}
		var id int64
		if err := tx.QueryRow(ctx, insert, name).Scan(&id); err != nil {
			t.Fatal(err)
		}
		return tx, id
	}
	follow := func(after int64) (ids []int64) {
		for _, p := range must(s.Pickups(ctx, store.Filter{After: &after, Limit: 7}))(t) {
			ids = append(ids, p.ID)
		}
		return ids
	}
	holds := func(what string, want ...int64) {
		t.Helper()
		if got := follow(0); !slices.Equal(got, want) {
			t.Errorf("%s: %v, not %v", what, got, want)
		}
	}
	holds("nothing yet")
	first, one := begin("one")
	second, two := begin("two")
	third, three := begin("three")
	if err := second.Commit(ctx); err != nil {
		t.Fatal(err)
	}
	holds("the first is under way")
	if err := first.Commit(ctx); err != nil {
		t.Fatal(err)
	}
	holds("the third is", one, two)
	if err := third.Rollback(ctx); err != nil {
		t.Fatal(err)
	}
	fourth, four := begin("four")
	if err := fourth.Commit(ctx); err != nil {
		t.Fatal(err)
	}
	holds("the third never comes", one, two, four)
	if four <= three {
		t.Fatal(three, four)
	}

	// Many at once, some of which never come.
	var mu sync.Mutex
	come := map[int64]bool{one: true, two: true, four: true}
	var writers sync.WaitGroup
	for w := range 6 {
		writers.Go(func() {
			r := rand.New(rand.NewPCG(uint64(w), 1))
			for range 150 {
				tx, id := begin("many")
				if r.IntN(3) == 0 {
					time.Sleep(time.Duration(r.IntN(3000)) * time.Microsecond)
				}
				if r.IntN(5) == 0 {
					if tx.Rollback(ctx) != nil {
						t.Error("not rolled back")
					}
					continue
				}
				if err := tx.Commit(ctx); err != nil {
					t.Error(err)
				}
				mu.Lock()
				come[id] = true
				mu.Unlock()
			}
		})
	}
	done := make(chan struct{})
	go func() { writers.Wait(); close(done) }()
	seen := []int64{}
	for last, ended := int64(0), false; ; {
		select {
		case <-done:
			ended = true
		default:
		}
		ids := follow(last)
		if seen = append(seen, ids...); len(ids) > 0 {
			last = ids[len(ids)-1]
		} else if ended {
			break
		}
	}
	if want := slices.Sorted(maps.Keys(come)); !slices.Equal(seen, want) {
		t.Errorf("of %d that came %d were seen", len(want), len(seen))
	}
	if got := must(s.Alerts(ctx, store.AlertFilter{After: new(int64), Limit: 5}))(t); len(got) != 0 {
		t.Errorf("%v", got)
	}
	for i := range 3 {
		if _, _, err := s.Alert(ctx, store.Alert{Kind: "held", About: strconv.Itoa(i)}, nil, false); err != nil {
			t.Fatal(err)
		}
	}
	after := int64(1)
	if got := must(s.Alerts(ctx, store.AlertFilter{After: &after, Limit: 5}))(t); len(got) != 2 || got[0].ID != 2 || got[1].ID != 3 {
		t.Errorf("%v", got)
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
		s.Close()
	}
	for bad, says := range map[string]string{"postgres://nobody@127.0.0.1:1/x": "connecting to the database", "nonsense://": "address"} {
		if _, err := store.Open(ctx, bad); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", bad, err)
		}
	}
}

// TestNodes: routes are shared out, and what a node led that has gone away is
// taken over with its open pickups.
func TestNodes(t *testing.T) {
	s := open(t)
	for _, r := range []string{"a", "b", "c", "orders"} {
		if _, _, err := s.Publish(ctx, r, "r1", map[string][]byte{"a": nil}, store.Said{}); err != nil {
			t.Fatal(err)
		}
	}
	one := must(s.Join(ctx, "one", "http://127.0.0.1:1", 0))(t)
	if l := must(s.Lead(ctx, one.ID, nil))(t); len(l.Mine) != 4 || l.Surplus != 0 {
		t.Fatalf("%+v", l)
	}
	pickup, begun := claimed(t, s, one.ID, "x.csv", "77")
	two := must(s.Join(ctx, "two", "", 0))(t)
	t.Cleanup(two.Leave)
	if l := must(s.Lead(ctx, two.ID, nil))(t); len(l.Mine) != 0 || l.Others != 1 {
		t.Errorf("the second node leads %+v although nothing is free", l)
	}
	l := must(s.Lead(ctx, one.ID, nil))(t)
	if l.Surplus != 2 || l.Others != 1 {
		t.Errorf("%+v", l)
	}
	for _, name := range []string{"a", "b"} {
		if err := s.Yield(ctx, one.ID, name); err != nil {
			t.Fatal(err)
		}
	}
	if l := must(s.Lead(ctx, two.ID, nil))(t); len(l.Mine) != 2 || l.Mine[0].Name != "a" || l.Mine[1].Name != "b" {
		t.Errorf("%+v", l)
	}
	one.Leave()
	if l := must(s.Lead(ctx, two.ID, nil))(t); len(l.Mine) != 4 || l.Others != 0 {
		t.Errorf("%+v", l)
	}
	// What the old node still does is refused.
	if err := s.Commit(ctx, one.ID, []store.Commit{{Run: begun.Run, Pickup: pickup}}); !errors.Is(err, store.ErrNotOurs) {
		t.Errorf("a node that has gone away committed: %v", err)
	}
	if err := s.Held(ctx, one.ID, pickup, "held", "x", time.Time{}); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("a node that has gone away held a pickup: %v", err)
	}
	if _, err := s.Lead(ctx, one.ID, nil); !errors.Is(err, store.ErrGone) {
		t.Errorf("a node that has gone away leads: %v", err)
	}
	if state := ends(t, s, two.ID, store.Commit{Run: begun.Run, Pickup: pickup}); state != "delivered" {
		t.Errorf("ended %s", state)
	}
	list := must(s.Nodes(ctx))(t)
	if len(list) != 2 || list[0].ID != two.ID || list[0].Routes != 4 || list[0].EndedAt != nil || list[1].EndedAt == nil {
		t.Errorf("%+v", list)
	}
}

// TestHints: what one node tells reaches the others.
func TestHints(t *testing.T) {
	s := open(t)
	n := must(s.Join(ctx, "one", "", 0))(t)
	s.Hint(ctx, "route orders")
	select {
	case h := <-n.Hints():
		if h != "route orders" {
			t.Errorf("heard %q", h)
		}
	case <-time.After(time.Minute):
		t.Error("nothing was heard")
	}
	n.Leave()
	if _, ok := <-n.Hints(); ok || n.Life.Err() == nil {
		t.Error("the node has left but hears more")
	}
}

// TestDecisions: what a person says must fit what the pickup is.
func TestDecisions(t *testing.T) {
	s, node := led(t)
	pickup, begun := claimed(t, s, node, "a.csv", "31")
	if err := s.Decide(ctx, pickup, store.TryNow, store.Said{}); !errors.Is(err, store.ErrNotSo) || !strings.Contains(err.Error(), "it is taken") {
		t.Errorf("%v", err)
	}
	if err := s.Decide(ctx, 999, store.TryNow, store.Said{}); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("%v", err)
	}
	if err := s.Held(ctx, node, pickup, "held", "came before", time.Time{}); err != nil {
		t.Fatal(err)
	}
	for _, d := range []store.Person{store.LetPass, store.Admit} {
		if err := s.Decide(ctx, pickup, d, store.Said{}); err != nil {
			t.Errorf("%s: %v", d, err)
		}
	}
	if p := must(s.Unfinished(ctx, "orders", pickup-1, 1))(t)[0]; !p.Passed || !p.Admitted || p.NextTry == nil {
		t.Errorf("%+v", p)
	}
	if err := s.Commit(ctx, node, []store.Commit{{Run: begun.Run, Pickup: pickup, Deliveries: []store.Delivery{{Run: begun.Run, Ord: 1, Kind: "good"}, {Run: begun.Run, Ord: 2, Kind: "good"}}}}); err != nil {
		t.Fatal(err)
	}
	if err := s.Uncertain(ctx, begun.Run, []int{1}, "the share has gone"); err != nil {
		t.Fatal(err)
	}
	if err := s.Held(ctx, node, pickup, "uncertain", "the share has gone", time.Time{}); err != nil {
		t.Fatal(err)
	}
	if err := s.Decide(ctx, pickup, store.Withdraw, store.Said{}); !errors.Is(err, store.ErrNotSo) {
		t.Errorf("what is committed was withdrawn: %v", err)
	}
	if err := s.Decide(ctx, pickup, store.Arrived, store.Said{}); err != nil {
		t.Fatal(err)
	}
	if left := must(s.Open(ctx, begun.Run, 0, 9))(t); len(left) != 1 || left[0].Ord != 2 {
		t.Errorf("%+v", left)
	}
	if err := s.Decide(ctx, pickup, store.Abandon, store.Said{}); err != nil {
		t.Fatal(err)
	}
	runs := must(s.Runs(ctx, pickup))(t)
	if d := runs[0].Deliveries; d[0].State != "published" || d[1].State != "abandoned" {
		t.Errorf("%+v", d)
	}
	if state := must(s.Published(ctx, node, []store.RunOf{{Run: begun.Run, Pickup: pickup}}))(t)[pickup]; state != "delivered" {
		t.Errorf("ended %s", state)
	}
}

// TestPurge: nothing goes that is open, young, needed by another pickup or
// under a legal hold.
func TestPurge(t *testing.T) {
	s, node := led(t)
	var ids []int64
	for i, content := range []string{"same", "same", "one", "two", "open"} {
		pickup, begun := claimed(t, s, node, string(rune('a'+i)), content)
		ids = append(ids, pickup)
		if content == "open" {
			break
		}
		ends(t, s, node, store.Commit{Run: begun.Run, Pickup: pickup, Balance: flow.Balance{In: 1, Rejected: 1}, Rejects: []store.Reject{{Record: 1, Raw: []byte("x")}}})
	}
	hold := must(s.PlaceLegalHold(ctx, store.LegalHold{Pickup: ids[3], Because: "inquiry"}))(t)
	later := time.Now().Add(time.Second)
	e := store.Expiry{Route: "orders", Originals: later, Rejects: later, Records: later}
	if p := must(s.WouldPurge(ctx, e))(t); p.Originals != 3 || p.Rejects != 3 || p.Pickups != 3 || p.Held != 1 {
		t.Errorf("%+v", p)
	}
	if gone, _, err := s.ExpiredOriginals(ctx, store.Expiry{Route: "orders", Originals: time.Now().Add(-time.Hour)}); err != nil || len(gone) != 0 {
		t.Errorf("young originals: %v %v", gone, err)
	}
	gone, more, err := s.ExpiredOriginals(ctx, e)
	if err != nil || more || len(gone) != 2 {
		t.Errorf("%v %v %v", gone, more, err)
	}
	for sum, want := range map[string]bool{"same": false, "one": false, "two": true, "open": true} {
		if got := must(s.Needed(ctx, sum))(t); got != want {
			t.Errorf("%s is needed: %v", sum, got)
		}
	}
	if _, err := s.Again(ctx, store.Again{Pickup: ids[0]}); !errors.Is(err, store.ErrPurged) {
		t.Errorf("a purged original: %v", err)
	}
	if n := must(s.ExpiredRejects(ctx, e))(t); n != 3 {
		t.Errorf("%d rejects", n)
	}
	if n := must(s.ExpiredPickups(ctx, e))(t); n != 3 {
		t.Errorf("%d pickups", n)
	}
	if err := s.LiftLegalHold(ctx, hold); err != nil {
		t.Fatal(err)
	}
	if gone, _, err := s.ExpiredOriginals(ctx, e); err != nil || len(gone) != 1 || gone[0].SHA256 != "two" {
		t.Errorf("after the hold: %v %v", gone, err)
	}
	if left := must(s.Pickups(ctx, store.Filter{Limit: 9}))(t); len(left) != 2 {
		t.Errorf("left %+v", left)
	}
}

// TestAlerts: what is open is told once; what is over can be told again.
func TestAlerts(t *testing.T) {
	s := open(t)
	a := store.Alert{Kind: "stuck", Route: "orders", About: "orders", Message: "no space"}
	for i, want := range []bool{true, false} {
		if _, fresh, err := s.Alert(ctx, a, []string{"desk"}, false); err != nil || fresh != want {
			t.Errorf("%d: fresh %v, %v", i, fresh, err)
		}
	}
	due := must(s.DueMessages(ctx, "", 10))(t)
	if len(due) != 1 || due[0].Channel != "desk" || due[0].Message != "no space" || due[0].Tries != 1 {
		t.Fatalf("%+v", due)
	}
	if again := must(s.DueMessages(ctx, "", 10))(t); len(again) != 0 {
		t.Errorf("another node would send it too: %+v", again)
	}
	if err := s.Wait(ctx, "desk", []int64{due[0].ID}, -time.Second); err != nil {
		t.Fatal(err)
	}
	if other := must(s.DueMessages(ctx, "another", 10))(t); len(other) != 0 {
		t.Errorf("of another channel: %+v", other)
	}
	if after := must(s.DueMessages(ctx, "desk", 10))(t); len(after) != 1 || after[0].Tries != 1 {
		t.Errorf("what has waited was tried: %+v", after)
	}
	if err := s.Sent(ctx, due[0], "refused", time.Now().Add(-time.Second)); err != nil {
		t.Fatal(err)
	}
	if due = must(s.DueMessages(ctx, "", 10))(t); len(due) != 1 || due[0].Tries != 2 {
		t.Fatalf("%+v", due)
	}
	if err := s.Wait(ctx, "desk", []int64{due[0].ID}, time.Hour); err != nil {
		t.Fatal(err)
	}
	if waits := must(s.DueMessages(ctx, "", 10))(t); len(waits) != 0 {
		t.Errorf("%+v does not wait", waits)
	}
	if err := s.Sent(ctx, due[0], "", time.Time{}); err != nil {
		t.Fatal(err)
	}
	if open := must(s.Alerts(ctx, store.AlertFilter{Open: true, Limit: 10}))(t); len(open) != 1 {
		t.Errorf("%d unseen", len(open))
	}
	if !must(s.Over(ctx, "stuck", "orders"))(t) || must(s.Over(ctx, "stuck", "orders"))(t) {
		t.Error("it is not over once")
	}
	if _, fresh, err := s.Alert(ctx, a, nil, true); err != nil || !fresh {
		t.Errorf("after it was over: %v %v", fresh, err)
	}
	if n := must(s.See(ctx, nil, "Maren"))(t); n != 2 {
		t.Errorf("%d seen", n)
	}
	if open := must(s.Alerts(ctx, store.AlertFilter{Open: true, Limit: 10}))(t); len(open) != 0 {
		t.Errorf("%+v", open)
	}
	if all := must(s.Alerts(ctx, store.AlertFilter{Limit: 10}))(t); len(all) != 2 || all[0].SeenBy != "Maren" {
		t.Errorf("%+v", all)
	}
}

// TestDue: a moment of a timetable is kept once, by the leader.
func TestDue(t *testing.T) {
	s, node := led(t)
	moment := time.Date(2026, 11, 25, 6, 30, 0, 0, time.UTC)
	for i, test := range []struct {
		node int64
		due  time.Time
		want bool
	}{{node + 1, moment, false}, {node, moment, true}, {node, moment, false}, {node, moment.Add(-time.Hour), false}, {node, moment.Add(time.Hour), true}} {
		if got := must(s.Due(ctx, test.node, "orders", test.due))(t); got != test.want {
			t.Errorf("%d: %v", i, got)
		}
	}
}
