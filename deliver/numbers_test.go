package deliver

import (
	"errors"
	"fmt"
	"strings"
	"testing"
)

// TestNumber: however many files have a name, one more is found a free one by few looks.
func TestNumber(t *testing.T) {
	for _, taken := range []int{0, 1, 2, 3, 7, 8, 9, 1000, 100_000} {
		looks, tries := 0, 0
		names := map[string]bool{}
		for n := 1; n <= taken; n++ {
			names[Counted("results.csv", n)] = true
		}
		got := ""
		err := Number("results.csv", func(as string) (bool, error) { looks++; return names[as], nil }, func(as string) (bool, error) {
			tries++
			got = as
			return names[as], nil
		})
		if want := Counted("results.csv", taken+1); err != nil || got != want || tries > 2 || looks > 36 {
			t.Errorf("%d taken: %q, not %q, after %d looks and %d tries: %v", taken, got, want, looks, tries, err)
		}
	}
}

// TestNumberBetween: where names are free between others, the one that is given is free, whichever it is.
func TestNumberBetween(t *testing.T) {
	for gap := 2; gap < 300; gap++ {
		names := map[string]bool{}
		for n := 1; n < 300; n++ {
			if n%gap != 0 {
				names[Counted("a", n)] = true
			}
		}
		there := func(as string) (bool, error) { return names[as], nil }
		got := ""
		if err := Number("a", there, func(as string) (bool, error) { got = as; return names[as], nil }); err != nil || names[got] {
			t.Errorf("%q is taken: %v", got, err)
		}
		if free, err := Free("a", there); err != nil || names[free] {
			t.Errorf("%q is taken: %v", free, err)
		}
	}
}

// TestNumberMeanwhile: names that others take between the look and the use are passed, as are names that look free and are not.
func TestNumberMeanwhile(t *testing.T) {
	tried := map[string]bool{}
	err := Number("a", func(string) (bool, error) { return false, nil }, func(as string) (bool, error) {
		if tried[as] {
			t.Errorf("%s is tried twice", as)
		}
		tried[as] = true
		return len(tried) < 20, nil
	})
	if err != nil || !tried["a-20"] {
		t.Error(err, tried)
	}
	n := 0
	if err := Number("a", func(string) (bool, error) { return false, nil }, func(string) (bool, error) { n++; return true, nil }); err == nil || err.Error() != "a is there already, with its numbers up to 1000" || n != mostTried {
		t.Errorf("it ends with %v after %d", err, n)
	}
	if err := Number("a", func(string) (bool, error) { return true, nil }, func(string) (bool, error) { return true, nil }); err == nil || !strings.HasPrefix(err.Error(), "a is there already, with its numbers up to 1") {
		t.Errorf("a place that has everything: %v", err)
	}
	away := errors.New("away")
	if err := Number("a", func(string) (bool, error) { return false, away }, func(string) (bool, error) { return true, nil }); !errors.Is(err, away) {
		t.Error(err)
	}
	if _, err := Free("a", func(string) (bool, error) { return false, fmt.Errorf("look: %w", away) }); !errors.Is(err, away) {
		t.Error(err)
	}
}

// TestCounted: numbers stand before the ending; a name stays as long as a file system takes, and its characters stay whole.
func TestCounted(t *testing.T) {
	long := strings.Repeat("ö", 125)
	for _, test := range []struct {
		name string
		n    int
		want string
	}{{"a.hl7", 1, "a.hl7"}, {"a.hl7", 2, "a-2.hl7"}, {"a.b.hl7", 3, "a.b-3.hl7"}, {"plain", 2, "plain-2"},
		{long + ".hl7", 2, strings.Repeat("ö", 124) + "-2.hl7"}, {"north/" + long + "a.hl7", 1000, "north/" + strings.Repeat("ö", 123) + "-1000.hl7"}, {"a." + long, 12, "a-12." + long},
		{"." + long + "xxxxx", 2, "-2." + long + "xxxxx"}} {
		if got := Counted(test.name, test.n); got != test.want {
			t.Errorf("%s, %d: %s", test.name, test.n, got)
		}
	}
}
