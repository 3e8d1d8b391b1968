package service

import (
	"bytes"
	"context"
	"maps"
	"slices"

	"ydrion/route"
	"ydrion/store"
)

// FileChange is what publishing changes in one file of a route.
type FileChange struct {
	File  string       `json:"file"`
	What  string       `json:"what" enum:"added,removed,changed"`
	Lines []LineChange `json:"lines" doc:"in the order of the file; at most 500"`
	More  int          `json:"more" doc:"lines that are not shown"`
}

// LineChange is a line that goes or comes.
type LineChange struct {
	Line int    `json:"line" doc:"its number in the old file if it goes, in the new one if it comes"`
	Goes bool   `json:"goes"`
	Text string `json:"text"`
}

// mostLines is how many changed lines of a file are shown.
const mostLines = 500

// changes says what publishing a route would change, file by file and line by line. A route
// that is not published yet has no changes: all of it is new.
func (s *Service) changes(ctx context.Context, c *route.Compiled, current store.Route) ([]FileChange, error) {
	before, err := s.store.RevisionFiles(ctx, c.Name, current.Revision)
	if err != nil {
		return nil, err
	}
	out := []FileChange{}
	names := map[string]bool{}
	for n := range before {
		names[n] = true
	}
	for n := range c.Files {
		names[n] = true
	}
	for _, n := range slices.Sorted(maps.Keys(names)) {
		was, had := before[n]
		is, has := c.Files[n]
		if had && has && bytes.Equal(was, is) {
			continue
		}
		f := FileChange{File: n, What: "changed", Lines: lineChanges(lines(was), lines(is))}
		switch {
		case !had:
			f.What = "added"
		case !has:
			f.What = "removed"
		}
		if len(f.Lines) > mostLines {
			f.Lines, f.More = f.Lines[:mostLines], len(f.Lines)-mostLines
		}
		out = append(out, f)
	}
	return out, nil
}

func lines(text []byte) []string {
	var out []string
	for l := range bytes.Lines(text) {
		out = append(out, string(bytes.TrimRight(l, "\r\n")))
	}
	return out
}

// mostCompared bounds the table of a comparison: longer files are compared by what they have
// in common at their beginning and end.
const mostCompared = 4 << 20

// lineChanges gives a shortest list of lines that go and come between two texts.
func lineChanges(a, b []string) []LineChange {
	out := []LineChange{}
	from := 0
	for from < min(len(a), len(b)) && a[from] == b[from] {
		from++
	}
	endA, endB := len(a), len(b)
	for endA > from && endB > from && a[endA-1] == b[endB-1] {
		endA, endB = endA-1, endB-1
	}
	x, y := a[from:endA], b[from:endB]
	// common[i][j] is how many lines x from i on and y from j on have in common, in order.
	var common [][]int32
	if (len(x)+1)*(len(y)+1) <= mostCompared {
		common = make([][]int32, len(x)+1)
		for i := range common {
			common[i] = make([]int32, len(y)+1)
		}
		for i := len(x) - 1; i >= 0; i-- {
			for j := len(y) - 1; j >= 0; j-- {
				if x[i] == y[j] {
					common[i][j] = common[i+1][j+1] + 1
				} else {
					common[i][j] = max(common[i+1][j], common[i][j+1])
				}
			}
		}
	}
	for i, j := 0, 0; i < len(x) || j < len(y); {
		switch {
		case common != nil && i < len(x) && j < len(y) && x[i] == y[j]:
			i, j = i+1, j+1
		case i < len(x) && (j == len(y) || common == nil || common[i+1][j] >= common[i][j+1]):
			out = append(out, LineChange{from + i + 1, true, x[i]})
			i++
		default:
			out = append(out, LineChange{from + j + 1, false, y[j]})
			j++
		}
	}
	return out
}
