package flow

import (
	"cmp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"ydrion/core/finding"
	"ydrion/core/jsonschema"
	"ydrion/core/place"
)

// unlisted are members that came and that the plan's JSON Schema does not list, where it lists others: nothing is taken of them. Several cores may tell
// of them; which comes first is known when the file has ended.
type unlisted struct {
	guard sync.Mutex
	names map[string]unlistedName
}

type unlistedName struct {
	first place.Place
	near  string
}

// mostUnlisted is how many names are told of. Where there are more, objects are keyed by something.
const mostUnlisted = 8

// meet notes a member of the record that a worker is at, when it meets the name for the first time.
func (r *run) meet(w *worker, u jsonschema.Unlisted) {
	if string(u.Name) == "$schema" { // says by which schema a document was written
		return
	}
	if len(w.met) > mostUnlisted || slices.ContainsFunc(w.met, func(name string) bool { return name == string(u.Name) }) {
		return
	}
	name := string(u.Name)
	w.met = append(w.met, name)
	at := w.batch.Unnumbered(w.record, w.batch.Bounds[w.record].Off+uint32(u.At))
	r.unlisted.guard.Lock()
	defer r.unlisted.guard.Unlock()
	if r.unlisted.names == nil {
		r.unlisted.names = map[string]unlistedName{}
	}
	if before, met := r.unlisted.names[name]; !met || at.Offset < before.first.Offset {
		r.unlisted.names[name] = unlistedName{at, u.Near()}
	}
}

// findings tells of those of a file, at the first, and forgets them.
func (u *unlisted) findings() finding.List {
	u.guard.Lock()
	defer u.guard.Unlock()
	if len(u.names) == 0 {
		return nil
	}
	var names []string
	for name := range u.names {
		names = append(names, name)
	}
	slices.SortFunc(names, func(x, y string) int { return cmp.Compare(u.names[x].first.Offset, u.names[y].first.Offset) })
	first := u.names[names[0]]
	said, near := "", ""
	for i, name := range names[:min(len(names), mostUnlisted)] {
		if i > 0 {
			said += ", "
		}
		said += strconv.Quote(finding.Shorten([]byte(name)))
		if of := u.names[name].near; of != "" && near == "" {
			near = "was " + of + " meant by " + name + "? "
		}
	}
	what, them := "a member that the schema does not list", "it"
	if len(names) > 1 {
		what, them = "members that the schema does not list", "them"
	}
	if len(names) > mostUnlisted {
		said += " and others"
	}
	u.names = nil
	f := finding.Warn("json.member-surplus", first.first, "%s came: %s; nothing is taken of %s", what, said, them)
	return finding.List{f.Suggest("%s", near+strings.ReplaceAll("list THEM in the schema, or let it say that others may come: \"additionalProperties\": true", "THEM", them))}
}
