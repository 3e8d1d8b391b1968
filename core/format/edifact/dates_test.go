package edifact

import (
	"testing"

	"ydrion/core/segments"
)

// TestDates checks dates against the form that stands behind them (data element 2379).
func TestDates(t *testing.T) {
	for _, test := range []struct {
		date, form string
		right      bool
	}{
		{"20261124", "102", true}, {"20261324", "102", false}, {"20260230", "102", false}, {"20240229", "102", true}, {"261124", "102", false}, {"261124", "101", true}, {"241126", "2", true},
		{"202611241630", "203", true}, {"202611242460", "203", false}, {"20261124", "203", false}, {"202611241630MEZ", "303", true}, {"20261124163059", "204", true},
		{"202611", "610", true}, {"2026", "602", true}, {"1630", "401", true}, {"2026112420261130", "718", true}, {"20261124-20261130", "718", true}, {"2026113020261124", "718", false}, {"20261124", "718", false},
		{"W48", "616", true}, {"x", "", true}, {"", "102", true},
	} {
		said := ""
		part := func(s string) segments.Value { return segments.Value{From: 0, To: 1, Text: s} }
		s := &segments.Segment{Name: "DTM", Fields: []segments.Field{{{Parts: []segments.Value{part("137"), part(test.date), part(test.form)}}}}}
		dates(s, func(field, component int, _ *segments.Value, wrong string) {
			if said = wrong; field != 1 || component != 2 {
				t.Errorf("%+v: %d.%d", test, field, component)
			}
		})
		if (said == "") != test.right {
			t.Errorf("%+v: %q", test, said)
		}
	}
}
