package service

import (
	"math/rand/v2"
	"slices"
	"testing"
)

// TestLineChanges: what goes and comes, put together with the old text, is the new one.
func TestLineChanges(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	text := func() []string {
		out := make([]string, r.IntN(12))
		for i := range out {
			out[i] = string(rune('a' + r.IntN(4)))
		}
		return out
	}
	for range 2000 {
		a, b := text(), text()
		if r.IntN(4) == 0 {
			b = slices.Clone(a)
		}
		goes, comes := map[int]string{}, map[int]string{}
		for _, c := range lineChanges(a, b) {
			if c.Goes {
				goes[c.Line] = c.Text
			} else {
				comes[c.Line] = c.Text
			}
		}
		var kept, got []string
		for i, l := range a {
			if was, gone := goes[i+1]; !gone {
				kept = append(kept, l)
			} else if was != l {
				t.Fatalf("%q to %q: line %d is %q, not %q", a, b, i+1, l, was)
			}
		}
		for total := len(kept) + len(comes); len(got) < total; {
			if l, is := comes[len(got)+1]; is {
				got = append(got, l)
				continue
			}
			if len(kept) == 0 {
				break
			}
			got, kept = append(got, kept[0]), kept[1:]
		}
		got = append(got, kept...)
		if !slices.Equal(got, b) {
			t.Fatalf("%q to %q: -%v +%v gives %q", a, b, goes, comes, got)
		}
		if slices.Equal(a, b) && len(goes)+len(comes) > 0 {
			t.Fatalf("%q did not change", a)
		}
	}
	if got := lineChanges([]string{"a", "b", "c"}, []string{"a", "x", "c"}); len(got) != 2 || got[0].Text != "b" || got[1].Text != "x" {
		t.Errorf("%+v", got)
	}
}
