package workspace

import (
	"strings"
	"time"

	"ydrion/core/place"
)

// Arriving is a lookup whose content comes with files: what the workspace has under its name says which columns it has,
// and is what it holds until the first has come.
type Arriving struct {
	Table string // its name
	File  string // wildcard: one of the files that are collected; empty: a route delivers it
	// NoOlder is how old its newest content may be, -1: any age; Holds tells that what needs it waits then.
	NoOlder time.Duration
	Holds   bool
	// Unmatched tells that rows which no record has looked up are told of.
	Unmatched bool
	Place     place.Place
}

// lookups reads which lookups come with files.
func (r *Route) lookups(m *mapping) {
	seen := map[string]bool{}
	for _, l := range m.each("lookups") {
		a := Arriving{Table: l.required("table"), File: l.text("file"), NoOlder: l.span("no older than", Forever), Place: l.where("table")}
		a.Holds = l.oneOf("else", "hold", "hold", "go on") == "hold"
		a.Unmatched = l.oneOf("unmatched", "ignore", "ignore", "warn") == "warn"
		switch {
		case strings.Contains(a.Table, "/") || strings.Contains(a.Table, "."):
			l.bad(a.Place, "workspace.value", "a table is called by its name alone: animals, for lookups/animals.csv")
		case seen[a.Table]:
			l.bad(a.Place, "workspace.value", "%s is named twice", a.Table)
		case a.File != "" && !r.Collect.Any():
			l.bad(l.where("file"), "workspace.value", "a table is a file of those that are collected, and this route collects none (`collect`)")
		case a.File != "" && (l.has("no older than") || l.has("else")):
			l.bad(l.where("no older than"), "workspace.value", "a table that comes with the files is as old as they are")
		case a.File == "" && l.has("unmatched"):
			l.bad(l.where("unmatched"), "workspace.value", "only a table that comes with the files (`file`) is joined with their records; of another, many rows are not looked up in a run")
		case a.File == "" && l.has("else") && a.NoOlder == Forever:
			l.bad(l.where("else"), "workspace.value", "`else` is for a table that is too old; say how old it may be: `no older than: 2d`")
		}
		if problem := wildcard(a.File); problem != "" {
			l.bad(l.where("file"), "workspace.value", "%q %s", a.File, problem)
		}
		if seen[a.Table] = true; a.File != "" {
			r.Also = append(r.Also, a.File)
		}
		l.done()
		r.Lookups = append(r.Lookups, a)
	}
}
