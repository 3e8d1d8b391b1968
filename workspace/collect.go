package workspace

import (
	"path"
	"slices"
	"strconv"
	"time"
)

// Collect says which files are worked on together, in one run.
type Collect struct {
	By     string   // a text with expressions: files with the same one belong together; empty: all do
	Count  int      // so many are complete; 0: it does not say
	Names  []string // wildcards: they are complete with one of each
	Marker string   // wildcard: they are complete with a file so called, which is not read
	Newest bool     // only the newest goes on; the others are set aside
	Within time.Duration
	Else   WhenIncomplete
}

// WhenIncomplete is what becomes of files that have not become complete in time.
type WhenIncomplete string

const (
	HoldIncomplete   WhenIncomplete = "hold"   // they wait on, and an alert says so
	RejectIncomplete WhenIncomplete = "reject" // each is rejected as a whole
	GoOn             WhenIncomplete = "go on"  // they are worked on without what is missing
)

// Any tells whether files are collected.
func (c *Collect) Any() bool { return c.Else != "" }

// Counts tells whether files wait until others have come; otherwise those go on together that are there when files
// are taken.
func (c *Collect) Counts() bool { return c.Count > 0 || c.Names != nil || c.Marker != "" }

// MatchPath tells whether a file, in a folder below the listened one, is meant by a wildcard. One with a slash is about
// both.
func MatchPath(pattern, folder, name string) bool {
	if path.Base(pattern) != pattern {
		name = path.Join(folder, name)
	}
	return MatchName(pattern, name)
}

// collect reads which files go on together.
func (r *Route) collect(m *mapping) {
	r.Places["collect"], r.Places["collect.by"], r.Places["collect.complete"] = m.at, m.where("by"), m.where("complete")
	c := &r.Collect
	*c = Collect{By: m.text("by"), Marker: m.text("marker"), Within: m.span("within", 24*time.Hour)}
	c.Newest = m.oneOf("only", "all", "all", "newest") == "newest"
	c.Else = WhenIncomplete(m.oneOf("else", string(HoldIncomplete), string(HoldIncomplete), string(RejectIncomplete), string(GoOn)))
	of := m.listOrText("complete")
	if n, err := strconv.Atoi(slices.Concat(of, []string{""})[0]); len(of) == 1 && err == nil {
		if c.Count = n; n < 2 || n > MostCollected {
			m.bad(m.where("complete"), "workspace.value", "complete is how many files belong together, from 2 to %d, or a list of wildcards for their names", MostCollected)
		}
	} else {
		c.Names = of
	}
	if r.Also = c.Names; c.Marker != "" {
		r.Also = []string{c.Marker}
	}
	for _, p := range r.Also {
		if path.Base(p) != p && !r.Subfolders {
			m.bad(m.where("complete"), "workspace.value", "%q names a folder; say `listen: subfolders: true` for the folders below", p)
		}
		if problem := wildcard(p); problem != "" {
			m.bad(m.at, "workspace.value", "%q %s", p, problem)
		}
	}
	moments := r.Timetable != nil && !r.Timetable.Always() || r.Notice == OnDemand
	switch {
	case c.Count > 0 && c.Marker != "" || c.Names != nil && c.Marker != "":
		m.bad(m.where("marker"), "workspace.value", "files are complete by their number or names (complete), or by a marker, not both")
	case !c.Counts() && !moments:
		m.bad(m.at, "workspace.missing", "it is not said when files are complete: by their number or names (collect.complete), by a marker (collect.marker), at the times of a timetable with at or every (listen.timetable), or when somebody asks (listen.notice: asked)")
	case !c.Counts() && (m.has("within") || m.has("else")):
		m.bad(m.where("within"), "workspace.value", "within and else are for files that wait for others; here all go on that are there")
	case c.Within == Forever && m.has("else"):
		m.bad(m.where("within"), "workspace.value", "`within: forever` never comes to `else`")
	}
	if r.Originals == Left {
		m.bad(m.at, "workspace.value", "files that are collected are taken out of the inbox; say `originals: taken` or `removed`")
	}
	if r.Order.Lane != "none" && r.Order.Lane != "all" {
		m.bad(r.Places["order.lane"], "workspace.value", "files that are collected go on together: order.lane is none or all")
	}
	m.done()
}

// MostCollected is how many files go on together at most.
const MostCollected = 10_000
