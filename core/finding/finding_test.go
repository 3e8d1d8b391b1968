package finding

import (
	"strings"
	"testing"
	"unicode/utf8"

	"ydrion/core/place"
)

func TestString(t *testing.T) {
	f := New("schema.type", place.Place{File: "a.csv", Line: 3, Column: 7}, "%s is not a number", "weight").Suggest("write %s", "7.5")
	if want := "a.csv:3:7: error: weight is not a number [schema.type]\n    write 7.5"; f.String() != want {
		t.Errorf("%q, want %q", f, want)
	}
	if w := Warn("x", place.Place{}, "odd"); w.String() != "warning: odd [x]" {
		t.Errorf("%q", w)
	}
}

func TestList(t *testing.T) {
	warning, one, two := Warn("w", place.Place{}, "w"), New("a", place.Place{}, "first"), New("b", place.Place{}, "second")
	for _, test := range []struct {
		list   List
		errors bool
		says   string
	}{{nil, false, "no errors"}, {List{warning}, false, "no errors"}, {List{warning, one}, true, "error: first [a]"}, {List{one, warning, two}, true, "error: first [a] (and 1 more)"}} {
		if test.list.HasErrors() != test.errors || test.list.Error() != test.says {
			t.Errorf("%v: %v %q", []Finding(test.list), test.list.HasErrors(), test.list.Error())
		}
	}
}

func TestShorten(t *testing.T) {
	for in, want := range map[string]string{"": "", "plain °": "plain °", "a\nb\tc": "a⏎b<09>c", "x\x00y\xB0z": "x<00>y<B0>z"} {
		if got := Shorten([]byte(in)); got != want {
			t.Errorf("%q is shown as %q, want %q", in, got, want)
		}
	}
	for _, unit := range []string{"x", "ä", "€", "😀"} {
		for n := 110; n < 130; n++ {
			long := strings.Repeat("a", n%7) + strings.Repeat(unit, n)
			got := Shorten([]byte(long))
			if !utf8.ValidString(got) || strings.Contains(got, "<") {
				t.Errorf("a long value of %s is cut within a character: %q", unit, got)
			}
			if len(long) > shown && !strings.Contains(got, "bytes)") {
				t.Errorf("a cut value does not tell its length: %q", got)
			}
		}
	}
}

func TestNearest(t *testing.T) {
	names := []string{"weight_kg", "animal_tag", "sex", "collected_at"}
	for in, want := range map[string]string{"wait_kg": "weight_kg", "Weight_KG": "weight_kg", "animaltag": "animal_tag", "sx": "sex", "entirely_else": "", "": ""} {
		if got := Nearest(in, names); got != want {
			t.Errorf("%q: %q, want %q", in, got, want)
		}
	}
}
