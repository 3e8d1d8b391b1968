package store_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"ydrion/core/flow"
	"ydrion/store"
)

// TestLater: of an output that replaces what has its name, the one of a later run is found that is there, or else the last one that is on
// its way; not one of an earlier run, of another name or folder or route, or one that replaces nothing or is not committed.
func TestLater(t *testing.T) {
	s, node := led(t)
	if _, _, err := s.Publish(ctx, "others", "r1", map[string][]byte{"a": nil}, store.Said{}); err != nil {
		t.Fatal(err)
	}
	var runs []store.RunOf
	commit := func(n int, folder, name string, replaces bool) {
		t.Helper()
		r := runs[n]
		d := []store.Delivery{{Run: r.Run, Ord: 1, Kind: "good", Folder: folder, Name: name, Temporary: fmt.Sprint(n), Records: 1, FirstRecord: 1, Replaces: replaces}}
		if err := s.Commit(ctx, node, []store.Commit{{Run: r.Run, Pickup: r.Pickup, Balance: flow.Balance{In: 1, Good: 1}, Deliveries: d}}); err != nil {
			t.Fatal(err)
		}
	}
	for n := range 7 {
		pickup, begun := claimed(t, s, node, fmt.Sprintf("%d.csv", n), fmt.Sprint(n))
		runs = append(runs, store.RunOf{Run: begun.Run, Pickup: pickup})
	}
	later := func(n int) string {
		t.Helper()
		var out []string
		for _, l := range must(s.Later(ctx, "orders", []store.DeliveryOf{{RunOf: runs[n], Ord: 1}}))(t) {
			out = append(out, fmt.Sprintf("%s %s %s", l.File, l.State, l.Temporary))
		}
		return strings.Join(out, ", ")
	}
	commit(1, "/out", "a", true)
	commit(2, "/out", "a", false) // replaces nothing
	commit(3, "/out/a", "a", true)
	if got := later(1); got != "" {
		t.Errorf("%s", got)
	}
	if err := s.Keep(ctx, runs[6].Run, []store.Delivery{{Run: runs[6].Run, Ord: 1, Kind: "good", Folder: "/out", Name: "a", Replaces: true}}, nil, true); err != nil {
		t.Fatal(err)
	}
	if got := later(1); got != "" {
		t.Errorf("one that is not committed: %s", got)
	}
	commit(4, "/out", "a", true)
	commit(5, "/out", "a", true)
	if got := later(1); got != "5.csv open 5" {
		t.Errorf("%s", got)
	}
	if got := must(s.Published(ctx, node, []store.RunOf{runs[4]}))(t); got[runs[4].Pickup] != "delivered" {
		t.Fatal(got)
	}
	if got := later(1); got != "4.csv published 4" {
		t.Errorf("%s", got)
	}
	if got := later(4); got != "5.csv open 5" {
		t.Errorf("%s", got)
	}
	if got := must(s.Later(ctx, "others", []store.DeliveryOf{{RunOf: runs[1], Ord: 1}}))(t); len(got) != 0 {
		t.Errorf("another route's: %v", got)
	}
	if err := s.Overtaken(ctx, []store.OvertakenAt{{DeliveryOf: store.DeliveryOf{RunOf: runs[1], Ord: 1}, Reason: "4 is there"}}); err != nil {
		t.Fatal(err)
	}
	if open := must(s.Open(ctx, runs[1].Run, 0, 10))(t); len(open) != 0 {
		t.Errorf("%+v", open)
	}
	must(s.Published(ctx, node, []store.RunOf{runs[1]}))(t)
	if d := must(s.Runs(ctx, runs[1].Pickup))(t)[0].Deliveries; d[0].State != "overtaken" || d[0].Reason != "4 is there" || d[0].PublishedAt != nil {
		t.Errorf("%+v", d)
	}
}

// TestLaterTable: the content of a lookup that a run brings late does not take the place of a later run's.
func TestLaterTable(t *testing.T) {
	s, node := led(t)
	var runs []store.RunOf
	for n := range 3 {
		pickup, begun := claimed(t, s, node, fmt.Sprintf("%d.csv", n), fmt.Sprint(n))
		runs = append(runs, store.RunOf{Run: begun.Run, Pickup: pickup})
	}
	for _, n := range []int{0, 2, 1} {
		r := runs[n]
		if state := ends(t, s, node, store.Commit{Run: r.Run, Pickup: r.Pickup, Balance: flow.Balance{In: 1, Good: 1}, Versions: []store.Version{{Name: "animals", SHA256: "x", Rows: 1, Content: fmt.Sprint(n)}},
			Deliveries: []store.Delivery{{Run: r.Run, Ord: 1, Kind: "good", Folder: "lookup", Name: "animals", Records: 1, FirstRecord: 1, State: "published"}}}); state != "delivered" {
			t.Errorf("%d: %s", n, state)
		}
	}
	var of []string
	for _, v := range must(s.Versions(ctx, "animals"))(t) {
		of = append(of, fmt.Sprintf("%d of pickup %d", v.Version, v.Pickup-runs[0].Pickup))
	}
	if want := []string{"2 of pickup 2", "1 of pickup 0"}; !slices.Equal(of, want) {
		t.Errorf("%v", of)
	}
	for n, want := range []string{"published ", "overtaken that of pickup " + fmt.Sprint(runs[2].Pickup) + " (2.csv), which came later, is there", "published "} {
		if d := must(s.Runs(ctx, runs[n].Pickup))(t)[0].Deliveries; d[0].State+" "+d[0].Reason != want {
			t.Errorf("%d: %+v", n, d)
		}
	}
}
