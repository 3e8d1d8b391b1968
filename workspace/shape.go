package workspace

import (
	"strings"

	"ydrion/core/place"
)

// Shape says in which order records are worked on, which of them are, and which are put together.
type Shape struct {
	OnePer []Ordered // only one goes on of those that have the same in these fields
	Last   bool      // the last one; else the first
	Sort   []Ordered // by what records are sorted, and the rows of those that are put together
	Gather []Ordered // records with the same in these fields are one
	List   string    // of the records that such a one is made of
}

// Ordered is a field by which records are put into order.
type Ordered struct {
	Field      string
	Descending bool
	Place      place.Place
}

// Any tells whether records are worked on in another order than that of the file, or not all.
func (s *Shape) Any() bool { return s.OnePer != nil || s.Sort != nil || s.Gather != nil }

// shape reads the steps between checking and mapping.
func (r *Route) shape(m *mapping) {
	s := &r.Shape
	r.Places["shape"] = m.where("shape")
	for _, step := range m.each("shape") {
		switch {
		case step.has("one per"):
			if s.Any() {
				step.bad(step.where("one per"), "workspace.value", "`one per` stands once, before records are sorted and gathered")
			}
			s.OnePer = step.ordered("one per")
			s.Last = step.oneOf("keep", "first", "first", "last") == "last"
		case step.has("gather"):
			if s.Gather != nil || s.Sort != nil {
				step.bad(step.where("gather"), "workspace.value", "records are gathered once; the rows of each are sorted by `sort` beside `gather`")
			}
			if s.List = step.text("gather"); !goodList(s.List) {
				step.bad(step.where("gather"), "workspace.value", "gather names the list of the records that are put together: a word of letters, digits and _, such as rows")
			}
			if s.Gather, s.Sort = step.ordered("by"), step.ordered("sort"); s.Gather == nil {
				step.bad(step.where("by"), "workspace.missing", "%s is missing: the fields that records have the same in which are put together", step.join("by"))
			}
		case step.has("sort"):
			if s.Gather != nil || s.Sort != nil {
				step.bad(step.where("sort"), "workspace.value", "records are sorted once; those that are gathered come in the order of what they are gathered by")
			}
			s.Sort = step.ordered("sort")
		default:
			step.bad(step.at, "workspace.missing", "a step of the shape is `one per`, `sort` or `gather`")
		}
		step.done()
	}
}

// goodList tells whether a list can be called so in maps.
func goodList(name string) bool {
	return name != "" && strings.Trim(strings.ToLower(name), "abcdefghijklmnopqrstuvwxyz0123456789_") == "" && (name[0] < '0' || name[0] > '9')
}

// ordered reads fields by which records are put into order: "kg descending".
func (m *mapping) ordered(key string) (out []Ordered) {
	for _, s := range m.listOrText(key) {
		o := Ordered{Field: s, Place: m.where(key)}
		if field, is := strings.CutSuffix(s, " descending"); is {
			o.Field, o.Descending = strings.TrimSpace(field), true
		}
		out = append(out, o)
	}
	if out == nil && m.has(key) {
		m.bad(m.where(key), "workspace.value", "%s names no field", m.join(key))
	}
	return out
}
