package run

import (
	"math/rand/v2"
	"testing"
	"time"

	"ydrion/store"
)

func laned(lane string, numbers ...int64) (out []*item) {
	for _, n := range numbers {
		out = append(out, &item{Pending: store.Pending{Pickup: n, Lane: &lane}})
	}
	return out
}

// TestLanesKeepOrder plays conductors with dice: pickups of two lanes go through three
// stages in groups, some cannot go on for a while, lanes are held and released at any
// moment. Whatever happens, each lane comes out in the order of its numbers, and
// nothing stays behind.
func TestLanesKeepOrder(t *testing.T) {
	for seed := range uint64(500) {
		r := rand.New(rand.NewPCG(seed, 1))
		l := newLanes()
		if few := r.IntN(8); few > 0 {
			l.window = few
		}
		var source []*item
		names := []string{"a", "b"}
		for n := int64(1); n <= 60; n++ {
			source = append(source, laned(names[r.IntN(2)], n)...)
		}
		total := len(source)
		stages := make([][]*item, 4) // what stands before each stage, first come first
		var failed []*item           // cannot go on; they hold their lanes
		var out []*item
		for step := 0; len(out) < total; step++ {
			if step > 100_000 {
				t.Fatalf("seed %d: %d of %d came out; %d lanes are not empty", seed, len(out), total, len(l.under))
			}
			switch what := r.IntN(8); {
			case what == 0 && len(failed) > 0: // one can go on again
				k := r.IntN(len(failed))
				it := failed[k]
				failed = append(failed[:k], failed[k+1:]...)
				it = &item{Pending: it.Pending}
				l.begin(it)
				stages[0] = append(stages[0], it)
				if r.IntN(2) == 0 {
					l.release(*it.Lane, it.Pickup)
				}
			case what == 1 && len(l.freed) > 0:
				stages[0] = append(stages[0], l.take(1+r.IntN(5))...)
			case what == 2 && len(source) > 0:
				it := source[0]
				if by := l.by(*it.Lane); by != 0 {
					continue // it waits in the inbox
				}
				source = source[1:]
				l.begin(it)
				stages[0] = append(stages[0], it)
			default:
				at := r.IntN(4)
				if len(stages[at]) == 0 {
					continue
				}
				it := stages[at][0]
				stages[at] = stages[at][1:]
				if (at == 1 || at == 3) && l.park(it, at == 3) {
					continue
				}
				if r.IntN(12) == 0 {
					l.hold(*it.Lane, it.Pickup)
					l.end(it)
					failed = append(failed, it)
					continue
				}
				if at < 3 {
					stages[at+1] = append(stages[at+1], it)
					continue
				}
				out = append(out, it)
				l.release(*it.Lane, it.Pickup)
				l.end(it)
			}
		}
		last := map[string]int64{}
		for _, it := range out {
			if it.Pickup < last[*it.Lane] {
				t.Fatalf("seed %d: %d came out after %d in lane %s", seed, it.Pickup, last[*it.Lane], *it.Lane)
			}
			last[*it.Lane] = it.Pickup
		}
	}
}

// TestLanePassed: a pickup that somebody let others pass stands in nobody's way.
func TestLanePassed(t *testing.T) {
	l := newLanes()
	two := laned("a", 1, 2)
	two[0].Passed = true
	l.begin(two[0])
	l.begin(two[1])
	if l.park(two[1], true) {
		t.Error("it waits for one that may be passed")
	}
	if l.park(two[0], true) {
		t.Error("the one that was passed waits")
	}
}

// TestLongLane: what a lane costs grows with its pickups, also if all of them wait.
func TestLongLane(t *testing.T) {
	const n = 50_000
	began := time.Now()
	l := newLanes()
	numbers := make([]int64, n)
	for i := range numbers {
		numbers[i] = int64(i + 1)
	}
	all := laned("a", numbers...)
	for _, it := range all {
		l.begin(it)
	}
	l.hold("a", 1)
	for _, it := range all[1:] {
		if !l.park(it, false) {
			t.Fatalf("%d does not wait for the one that holds its lane", it.Pickup)
		}
	}
	l.release("a", 1)
	l.end(all[0])
	next := int64(2)
	for next <= n {
		group := l.take(96)
		if len(group) == 0 {
			t.Fatalf("%d does not go on", next)
		}
		for _, it := range group {
			if it.Pickup != next || l.park(it, false) || l.park(it, true) {
				t.Fatalf("%d comes instead of %d", it.Pickup, next)
			}
			l.end(it)
			next++
		}
	}
	if took := time.Since(began); took > 5*time.Second {
		t.Errorf("%d pickups of one lane took %s", n, took)
	}
}
