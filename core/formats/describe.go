package formats

import (
	"ydrion/core/finding"
	"ydrion/core/standard"
)

// shelves are the descriptions that ship with the program.
var shelves = func() map[string]*standard.Catalog {
	all := map[string]*standard.Catalog{}
	for _, f := range All {
		if f.Catalog != nil {
			all[f.Name] = f.Catalog
		}
	}
	return all
}()

// Guideline reads a partner's guideline.
func Guideline(file string, b []byte) (*standard.Guideline, finding.List) {
	return standard.ReadSEF(file, b, shelves)
}

// Description reads a file that describes messages: a guideline, or one in our own text format. of is the
// format that it is about, empty if it does not say.
func Description(file string, b []byte) (catalog *standard.Catalog, of string, out finding.List) {
	return standard.Load(file, b, shelves, bases...)
}

// bases are descriptions of which others say only what differs.
var bases = func() (all []*standard.Catalog) {
	for _, f := range All {
		if f.Inherits {
			all = append(all, f.Catalog)
		}
	}
	return all
}()
