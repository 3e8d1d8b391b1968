package segments

import (
	"cmp"
	"slices"
	"strconv"
)

// numbers are the control numbers that have come. Those that follow each other, as they usually
// do, are kept as runs, so that it does not matter how many there are.
type numbers struct {
	runs   []run
	others map[string]bool // what is not a plain number
}

// run is numbers from one to another.
type run struct{ from, to int64 }

// mostRuns is how many runs and other numbers are kept; those that come later are not compared.
const mostRuns = 100_000

// add takes a number, and tells whether it has come before.
func (n *numbers) add(text string) (before bool) {
	v, err := strconv.ParseInt(text, 10, 64)
	if err != nil || v < 0 {
		if before = n.others[text]; !before && len(n.others) < mostRuns {
			if n.others == nil {
				n.others = map[string]bool{}
			}
			n.others[text] = true
		}
		return before
	}
	// The first run that ends right before the number or behind it. Runs never touch each other.
	i := len(n.runs) - 1
	if i < 0 || n.runs[i].from > v || n.runs[i].to < v-1 {
		i, _ = slices.BinarySearchFunc(n.runs, v-1, func(r run, v int64) int { return cmp.Compare(r.to, v) })
	}
	var r *run
	if i < len(n.runs) {
		r = &n.runs[i]
	}
	switch {
	case r != nil && r.from <= v && v <= r.to:
		return true
	case r != nil && r.to == v-1:
		r.to = v
		if i+1 < len(n.runs) && n.runs[i+1].from == v+1 {
			r.to = n.runs[i+1].to
			n.runs = slices.Delete(n.runs, i+1, i+2)
		}
	case r != nil && r.from == v+1:
		r.from = v
	case len(n.runs) < mostRuns:
		n.runs = slices.Insert(n.runs, i, run{v, v})
	}
	return false
}
