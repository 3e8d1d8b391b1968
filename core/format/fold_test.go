package format

import (
	"fmt"
	"testing"
)

func TestFold(t *testing.T) {
	var lines []Line
	add := func(path string, args ...any) {
		lines = append(lines, Line{Path: fmt.Sprintf(path, args...), Value: "v"})
	}
	add("BEG-3")
	for i := range 50 {
		add("PO1[%d]-1", i+1)
		add("PO1[%d]-2", i+1)
		add("PID[%d]-5", i+1)
	}
	add("CTT-1")
	if got := Fold(lines[:FewLines], 3, nil); len(got) != FewLines {
		t.Errorf("%d lines are left of few", len(got))
	}
	got := Fold(lines, 3, map[string]bool{"PO1[20]-2": true})
	text := ""
	for _, l := range got {
		text += fmt.Sprintf("%s %s %d\n", l.Path, l.Value, l.Folded)
	}
	want := "BEG-3 v 0\nPO1[1]-1 v 0\nPO1[1]-2 v 0\nPID[1]-5 v 0\nPO1[2]-1 v 0\nPO1[2]-2 v 0\nPID[2]-5 v 0\nPO1[3]-1 v 0\nPO1[3]-2 v 0\nPID[3]-5 v 0\n" +
		"PO1[4]-1  49\nPO1[20]-2 v 0\nPID[20]-5  91\nCTT-1 v 0\n"
	if text != want {
		t.Errorf("%s, not %s", text, want)
	}
	sum := 0
	for _, l := range got {
		sum += max(1, l.Folded)
	}
	if sum != len(lines) {
		t.Errorf("%d lines came out of %d", sum, len(lines))
	}
	for path, row := range map[string]int{"": 0, "/lines/4/unit": 5, "/a/0/b/11": 12, "/1001x/b": 0, "article[5]": 5, "PO1[5]-3": 5, "PID-3[2].1": 2, "a[b]": 0, "4/5": 0, "[": 0, "/": 0, "x[99999999999999999999999]": 0} {
		if got := rowOf(path); got != row {
			t.Errorf("%q: %d, not %d", path, got, row)
		}
	}
}
