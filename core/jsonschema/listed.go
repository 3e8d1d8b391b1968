package jsonschema

import "ydrion/core/finding"

// Unlisted is a member of an object that the schema does not list where it lists others, and of which it does not say that there may be more.
type Unlisted struct {
	At    int    // byte of its name in the record
	Name  []byte // until the next one
	among *rules
}

// Near is a member that is listed, and nearly called so; "" if none is.
func (u *Unlisted) Near() string {
	var names []string
	for i := range u.among.members.list {
		names = append(names, u.among.members.list[i].name)
	}
	return finding.Nearest(string(u.Name), names)
}

// findListed finds the rules that list all members of an object: where others are put together with them, or hold under a condition, those may list more.
func (d *ruled) findListed() {
	alone := map[*rules]bool{}
	var visit func(r *rules, is bool)
	each := func(of []*rules, is bool) {
		for _, r := range of {
			visit(r, is)
		}
	}
	visit = func(r *rules, is bool) {
		if r == nil {
			return
		}
		if was, met := alone[r]; met && (!was || is) {
			return
		}
		alone[r] = is
		together := len(r.all)+len(r.any)+len(r.one)+len(r.left)+len(r.depends) > 0 || r.when != nil
		reference := len(r.all) == 1 && len(r.any)+len(r.one)+len(r.left)+len(r.depends)+len(r.members.list)+len(r.patterns) == 0 && r.when == nil
		each(r.all, is && reference)
		each(r.any, false)
		each(r.one, false)
		each(r.left, false)
		each([]*rules{r.when, r.then, r.els, r.not, r.contains}, false)
		for i := range r.depends {
			visit(r.depends[i].of, false)
		}
		for i := range r.patterns {
			visit(r.patterns[i].of, false)
		}
		inner := is && !together && len(r.patterns) == 0
		for i := range r.members.list {
			visit(r.members.list[i].of, inner)
		}
		visit(r.others, inner)
		each(r.first, inner && r.contains == nil)
		visit(r.rest, inner && r.contains == nil)
	}
	each(d.top, len(d.top) == 1)
	for r, is := range alone {
		together := len(r.all)+len(r.any)+len(r.one)+len(r.left)+len(r.depends) > 0 || r.when != nil
		r.listed = is && !together && !r.more && len(r.patterns) == 0 && len(r.members.list) > 0
	}
}
