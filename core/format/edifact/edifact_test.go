package edifact

import "testing"

// TestDescriptions reads all that is described and walks through every group of every message.
func TestDescriptions(t *testing.T) {
	for _, wrong := range Directories.Check([]string{"an", "a", "n"}) {
		t.Error(wrong)
	}
	for _, name := range []string{"ORDERS", "ORDRSP", "DESADV", "INVOIC", "APERAK"} {
		if s := Directories.Book(Directories.Versions[0]).Structure(name); s == nil || len(s.Nodes) < 5 {
			t.Errorf("%s is not described", name)
		}
	}
	if b := Directories.Book("D.3"); b.Structure("CONTRL") == nil || b.Structure("ORDERS") != nil {
		t.Error("CONTRL is described by another directory")
	}
	if Directories.Book("none") != nil {
		t.Error("a release that is not described has a book")
	}
}

func TestForm(t *testing.T) {
	for _, test := range []struct {
		kind, value string
		good        bool
	}{{"n", "-12", true}, {"n", "1.5", true}, {"n", "1,5", true}, {"n", "1.5.2", false}, {"n", "", false}, {"n", "12a", false}, {"n", "-", false}, {"an", "any", true}} {
		if wrong := form(test.kind, test.value); wrong == "" != test.good {
			t.Errorf("%s %q: %q", test.kind, test.value, wrong)
		}
	}
}
