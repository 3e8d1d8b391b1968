package x12

import (
	"testing"

	"ydrion/core/segments"
)

// TestDates checks dates against the form that stands beside them (data element 1250).
func TestDates(t *testing.T) {
	for _, test := range []struct {
		name, form, date string
		right            bool
	}{
		{"DTP", "D8", "20261124", true}, {"DTP", "D8", "20261324", false}, {"DTP", "D8", "20260230", false}, {"DTP", "D8", "261124", false}, {"DTP", "RD8", "20261124-20261130", true}, {"DTP", "RD8", "20261124", false},
		{"DTP", "RD8", "20261130-20261124", false}, {"DTP", "DT", "202611241630", true}, {"DTP", "TM", "1630", true}, {"DTP", "TS", "163059", true}, {"DTP", "RTS", "20261124163059", true}, {"DTP", "RTS", "163059", false}, {"DTP", "RTM", "0900-1630", true}, {"DTP", "RD8", "2026112420261130", false}, {"DTP", "TM", "2561", false}, {"DTP", "ZZ", "whenever", true}, {"DTP", "D8", "", true},
		{"DMG", "D8", "19800101", true}, {"DMG", "D8", "19801301", false}, {"DTM", "D8", "x", true},
	} {
		one := func(s string) segments.Field { return segments.Field{{From: 0, To: 1, Text: s}} }
		s := &segments.Segment{Name: test.name, Fields: []segments.Field{one("472"), one(test.form), one(test.date)}}
		at := 3
		if test.name == "DMG" {
			s.Fields, at = s.Fields[1:], 2
		}
		said := ""
		dates(s, func(field, _ int, _ *segments.Value, wrong string) {
			if said = wrong; field != at {
				t.Errorf("%+v: %d", test, field)
			}
		})
		if (said == "") != test.right {
			t.Errorf("%+v: %q", test, said)
		}
	}
}
