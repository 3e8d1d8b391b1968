package edifact

import (
	"slices"
	"strings"
	"testing"

	"ydrion/core/standard"
)

// TestDescriptions reads all that is described, walks through every group of every message, and
// looks up all that its segments name.
func TestDescriptions(t *testing.T) {
	if got, err := standard.Versions(descriptions()); err != nil || !slices.Equal(got, slices.Sorted(slices.Values(Directories))) {
		t.Fatal(got, err)
	}
	for _, v := range Directories {
		b := Book(v)
		if err := b.Check(); err != nil {
			t.Fatal(v, err)
		}
		for _, name := range b.Names("structure") {
			s := b.Structure(name)
			for _, unreached := range s.Walk() {
				t.Errorf("%s %s", v, unreached)
			}
			if len(s.Nodes) < 5 {
				t.Errorf("%s %s has %d nodes", v, name, len(s.Nodes))
			}
		}
		for _, name := range b.Names("segment") {
			for _, e := range b.Segment(name).Elements {
				described(t, b, v+" "+name, e)
			}
		}
		for _, name := range b.Names("type") {
			for _, e := range b.Type(name).Elements {
				described(t, b, v+" "+name, e)
			}
		}
	}
	for _, name := range strings.Fields("ORDERS ORDRSP DESADV INVOIC APERAK") {
		if b := Book(Directories[0]); b.Structure(name) == nil {
			t.Errorf("%s does not describe %s", Directories[0], name)
		}
	}
	if Book("none") != nil {
		t.Error("a release that is not described has a book")
	}
}

// described holds an element's type and table against what there is.
func described(t *testing.T, b *standard.Book, where string, e standard.Element) {
	t.Helper()
	if e.Title == "" || b.Type(e.Type) == nil && !slices.Contains(strings.Fields("an a n ID AN N R DT TM"), e.Type) {
		t.Errorf("%s: %+v", where, e)
	}
	if e.Table != "" && b.Table(e.Table) == nil {
		t.Errorf("%s: there is no table %s", where, e.Table)
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
