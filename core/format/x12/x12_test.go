package x12

import "testing"

// TestDescriptions reads all that is described and walks through every group of every message.
func TestDescriptions(t *testing.T) {
	for _, wrong := range Releases.Check([]string{"ID", "AN", "N", "R", "DT", "TM"}) {
		t.Error(wrong)
	}
	for _, name := range []string{"850", "855", "856", "810", "997"} {
		if s := Releases.Book(Releases.Versions[0]).Structure(name); s == nil || len(s.Nodes) < 5 {
			t.Errorf("%s is not described", name)
		}
	}
	if Releases.Book("none") != nil {
		t.Error("a release that is not described has a book")
	}
}

func TestForm(t *testing.T) {
	for _, test := range []struct {
		kind, value string
		good        bool
	}{{"N", "-12", true}, {"N", "1.5", false}, {"R", "-1.50", true}, {"R", "1E-3", true}, {"R", ".", false}, {"R", "1,5", false}, {"DT", "20261125", true}, {"DT", "-2026112", false}, {"TM", "09:3", false}, {"AN", "any", true}} {
		if wrong := form(test.kind, test.value); wrong == "" != test.good {
			t.Errorf("%s %q: %q", test.kind, test.value, wrong)
		}
	}
}
