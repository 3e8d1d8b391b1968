// Package formats has all formats: it recognises what a file is, and looks at
// files that no route has been made for yet.
package formats

import (
	"ydrion/core/format"
	"ydrion/core/format/csv"
	"ydrion/core/format/edifact"
	"ydrion/core/format/hl7"
	"ydrion/core/format/json"
	"ydrion/core/format/x12"
)

// All are the formats that there are. A file is recognised from the last to the first, which takes any
// text.
var All = []*format.Format{csv.Format, json.Format, hl7.Format, x12.Format, edifact.Format}

// Named finds a format by its name, nil if there is none.
func Named(name string) *format.Format {
	for _, f := range All {
		if f.Name == name {
			return f
		}
	}
	return nil
}

// Names are the names of all formats.
func Names() (names []string) {
	for _, f := range All {
		names = append(names, f.Name)
	}
	return names
}

// Title is what a format is called; empty if there is none of that name.
func Title(name string) string {
	if f := Named(name); f != nil {
		return f.Title
	}
	return ""
}
