package store_test

import (
	"context"
	"errors"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"ydrion/store"
	"ydrion/testbed"
)

// TestDistant: a run is at its end when all that it has for servers has arrived, and not before; who is not its node any more
// records nothing of it.
func TestDistant(t *testing.T) {
	s, node := led(t)
	ctx := context.Background()
	pickup, begun := claimed(t, s, node, "a.csv", "one")
	run := store.RunOf{Run: begun.Run, Pickup: pickup}
	delivery := func(ord int, folder string) store.Delivery {
		return store.Delivery{Run: begun.Run, Ord: ord, Kind: "good", Folder: folder, Name: "a", Temporary: "t"}
	}
	if err := s.Commit(ctx, node, []store.Commit{{Run: begun.Run, Pickup: pickup, Deliveries: []store.Delivery{delivery(1, "/here"), delivery(2, "{holm}/in"), delivery(3, "{holm}"), delivery(4, "{holmgard}/in")}}}); err != nil {
		t.Fatal(err)
	}
	at := func(place string) (ords []int) {
		t.Helper()
		for _, d := range must(s.OpenAt(ctx, begun.Run, place, 0, 10))(t) {
			ords = append(ords, d.Ord)
		}
		return ords
	}
	if got := at("holm"); len(got) != 2 || got[0] != 2 || got[1] != 3 {
		t.Errorf("at holm: %v", got)
	}
	two, three, four := store.DeliveryOf{RunOf: run, Ord: 2}, store.DeliveryOf{RunOf: run, Ord: 3}, store.DeliveryOf{RunOf: run, Ord: 4}
	if err := s.Naming(ctx, node+1, []store.DeliveryOf{two}); !errors.Is(err, store.ErrNotOurs) {
		t.Errorf("another node names it: %v", err)
	}
	if err := s.Naming(ctx, node, []store.DeliveryOf{two, three}); err != nil {
		t.Fatal(err)
	}
	if err := s.Unnamed(ctx, node, three); err != nil {
		t.Fatal(err)
	}
	next := time.Now().Add(time.Minute)
	if err := s.NotArrived(ctx, []store.RefusedAt{{DeliveryOf: three, Reason: "full", Next: next}}); err != nil {
		t.Fatal(err)
	}
	if err := s.Uploading(ctx, node+1, three, "up-0"); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("another node sends it in parts: %v", err)
	}
	if err := s.Uploading(ctx, node, three, "up-1"); err != nil {
		t.Fatal(err)
	}
	list := must(s.OpenAt(ctx, begun.Run, "holm", 0, 10))(t)
	if list[0].InParts != "" || list[1].InParts != "up-1" {
		t.Errorf("in parts: %q and %q", list[0].InParts, list[1].InParts)
	}
	if list[0].NamedAt == nil || list[1].NamedAt != nil || list[1].Tries != 1 || list[1].Reason != "full" || list[1].NextTry == nil {
		t.Errorf("%+v", list)
	}
	if c := must(s.PlaceCounts(ctx))(t)["holm"]; c.Waiting != 2 || c.Tried != 1 {
		t.Errorf("%+v", c)
	}
	// With any of them on its way it is not at its end.
	for _, d := range []store.DeliveryOf{two, three, four} {
		if states := must(s.Published(ctx, node, []store.RunOf{run}))(t); len(states) != 0 {
			t.Fatalf("it has ended before %d arrived: %v", d.Ord, states)
		}
		if err := s.Arrived(ctx, []store.ArrivedAt{{DeliveryOf: d, Receipt: "there"}}); err != nil {
			t.Fatal(err)
		}
	}
	if states := must(s.Published(ctx, node, []store.RunOf{run}))(t); states[pickup] != "delivered" {
		t.Errorf("%v", states)
	}
}

// TestFetches: a file of a server is claimed once, goes on with its route's leader, and is known afterwards if it stays.
func TestFetches(t *testing.T) {
	s, node := led(t)
	ctx := context.Background()
	when := time.Now().UTC().Truncate(time.Second)
	one := store.Fetch{Route: "orders", Place: "holm", Path: "/out/a.csv", Size: 7, Modified: &when, Stays: true}
	ids := must(s.BeginFetches(ctx, node, []store.Fetch{one}))(t)
	if again := must(s.BeginFetches(ctx, node, []store.Fetch{one}))(t); ids[0] == 0 || again[0] != 0 {
		t.Fatalf("claimed %v and %v", ids, again)
	}
	if other := must(s.BeginFetches(ctx, node+1, []store.Fetch{{Route: "orders", Place: "holm", Path: "/out/b.csv"}}))(t); other[0] != 0 {
		t.Error("a node claims that does not lead the route")
	}
	open, known, err := s.Adopt(ctx, node, "orders", "holm")
	if err != nil || len(open) != 1 || len(known) != 0 || !open[0].Is(7, when, "") || open[0].Is(7, when.Add(time.Second), "") || open[0].Is(8, when, "") || open[0].Is(7, when, "x") {
		t.Fatalf("%+v %+v %v", open, known, err)
	}
	one.ID, one.SHA256, one.State = ids[0], "abc", "known"
	if err := s.Fetched(ctx, node+1, []store.Fetch{one}); !errors.Is(err, store.ErrNotOurs) {
		t.Errorf("another node has fetched it: %v", err)
	}
	for range 2 { // it may be repeated
		if err := s.Fetched(ctx, node, []store.Fetch{one}); err != nil {
			t.Fatal(err)
		}
	}
	if err := s.EndFetches(ctx, node, []store.Fetch{one}); err != nil {
		t.Fatal(err)
	}
	// Changed, it comes again, and takes the place of what was known.
	one.Size = 8
	two := must(s.BeginFetches(ctx, node, []store.Fetch{one}))(t)[0]
	if is := must(s.OpenFetches(ctx, []int64{ids[0], two}))(t); is[ids[0]] || !is[two] {
		t.Errorf("open: %v", is)
	}
	one.ID = two
	if err := s.EndFetches(ctx, node, []store.Fetch{one}); err != nil {
		t.Fatal(err)
	}
	if open, known, err := s.Adopt(ctx, node, "orders", "holm"); err != nil || len(open) != 0 || len(known) != 1 || known[0].ID != two || known[0].Size != 8 {
		t.Errorf("%+v %+v %v", open, known, err)
	}
}

// TestForgotten: what is known of a server is forgotten when it has been gone from there for long; not before, and not when it came back.
func TestForgotten(t *testing.T) {
	url := testbed.Database(t)
	s, node := ledAt(t, url)
	conn, err := pgx.Connect(ctx, url)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(ctx) //nolint: the database goes
	one := store.Fetch{Route: "orders", Place: "holm", Path: "/out/a.csv", Size: 7, Stays: true, State: "known"}
	for _, x := range []struct {
		days  int
		back  bool
		known int
	}{{store.ForgottenAfter - 1, false, 1}, {store.ForgottenAfter + 1, true, 1}, {store.ForgottenAfter + 1, false, 0}} {
		one.ID = must(s.BeginFetches(ctx, node, []store.Fetch{one}))(t)[0]
		if err := s.EndFetches(ctx, node, []store.Fetch{one}); err != nil {
			t.Fatal(err)
		}
		if err := s.Gone(ctx, []int64{one.ID}, nil); err != nil {
			t.Fatal(err)
		}
		if _, err := conn.Exec(ctx, `update fetches set gone_at = gone_at - make_interval(days => $1)`, x.days); err != nil {
			t.Fatal(err)
		}
		if x.back {
			if err := s.Gone(ctx, nil, []int64{one.ID}); err != nil {
				t.Fatal(err)
			}
		}
		if err := s.Tidy(ctx); err != nil {
			t.Fatal(err)
		}
		if _, known, err := s.Adopt(ctx, node, "orders", "holm"); err != nil || len(known) != x.known {
			t.Errorf("%+v: %+v %v", x, known, err)
		}
	}
}
