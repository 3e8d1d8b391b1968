package workspace

import (
	"fmt"
	"io/fs"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"ydrion/core/finding"
)

// Branch is a way of records through a route: which take it, what is made of them, and where that goes.
type Branch struct {
	Name  string // empty: the route's only one
	Notes string
	When  string // a condition, or Otherwise; empty: all records take it
	Map   string // file; empty: they go on as they came
	Skip  string // records that take it are left out, for this reason
	Good
	Key string // what comes before the keys of its settings in Route.Places
}

// Good says where good records go.
type Good struct {
	FileName  string // with expressions in braces
	PerRecord bool   // one file for each record
	By        string // one for each value of an expression in braces; empty: it does not say
	Records   int    // one for each so many records; 0: it does not say
	Bytes     int64  // one for each so many bytes, and a record at least; 0: it does not say
	After     string // follows every record
	AsSample  bool   // segments end as in the map's sample
	Described string // a file: the description that messages which are made are validated against; empty: their standard
	Differs   string // what becomes of those that differ from it: reject, warn or ignore; empty: what is required and absent rejects
	Except    []Exception
	Guard     bool // values that spreadsheet programs take for formulas get an apostrophe
	To        []Destination
}

// Whole tells whether all good records go into one file.
func (g *Good) Whole() bool { return !g.PerRecord && g.By == "" && g.Records == 0 && g.Bytes == 0 }

// Otherwise is the condition of branches and destinations that take what no other takes.
const Otherwise = "otherwise"

// WhenTaken is what happens when a name is taken at the destination.
type WhenTaken string

const (
	Count       WhenTaken = "count"            // a number is added to the name
	Replace     WhenTaken = "replace"          // the new file takes the place of the former
	ReplaceKeep WhenTaken = "replace and keep" // and the former is kept beside it with a number
	HoldTaken   WhenTaken = "hold"             // the delivery waits for a person
)

// Replaces tells whether the new file takes the place of what has its name.
func (w WhenTaken) Replaces() bool { return w == Replace || w == ReplaceKeep }

// Destination is a folder and how files come into it.
type Destination struct {
	Folder string
	Lookup string // instead of a folder: the name of a lookup, whose newest content it becomes
	Keys   int    // so many of its first columns are looked up
	Name   string // overrides the output's name; empty: that one
	When   string // a condition; empty: always
	Taken  WhenTaken
	Mode   fs.FileMode // permissions, 0: as they come
	Owner  string      // user:group, empty: as it comes
	Place  string      // key of its place in Route.Places
	Says   []Say       // what goes with an output where it is sent
	Bare   bool        // a mail's text is all that is mailed: the output is not attached
}

// Say is a text that goes with outputs.
type Say struct {
	What string // of a mail to, cc, subject, text or html; or a header by its name, behind "header "
	Text string // with expressions in braces
	Key  string // of its place in Route.Places
}

// Destinations are those of all branches, in their order.
func (r *Route) Destinations() []Destination {
	if len(r.Branches) == 1 {
		return r.Branches[0].To
	}
	var all []Destination
	for i := range r.Branches {
		all = append(all, r.Branches[i].To...)
	}
	return all
}

// branches reads what becomes of records: one map and one delivery, or several branches. What was written
// before a route could have several (deliver.good, deliver.rejected, deliver.retry) is still read.
func (r *Route) branches(m *mapping) {
	rejected, retry := m, m
	switch deliver := m.sub("deliver"); {
	case m.has("branches"):
		r.several(m)
	case deliver.has("good") || deliver.has("rejected"):
		old := func(key, now string) {
			if deliver.has(key) {
				*m.out = append(*m.out, finding.Warn("workspace.old", deliver.at, "deliver.%s is written %s now", key, now))
			}
		}
		old("good", "deliver: folder and name stand in it directly")
		old("rejected", "rejected, beside deliver")
		old("retry", "retry, beside deliver")
		r.only(m, deliver.sub("good"))
		rejected, retry = deliver, deliver
		deliver.get("rejected")
		deliver.get("retry")
		deliver.done()
	default:
		r.only(m, deliver)
	}
	bad := rejected.sub("rejected")
	r.Rejected = r.destination(bad, "rejected", false)
	if len(r.Rejected.Says) > 0 {
		bad.bad(bad.at, "workspace.value", "what goes with outputs (mail, headers) is said of good ones, not of what is rejected")
	}
	bad.done()
	again := retry.sub("retry")
	r.Retry.For = again.span("for", defaultRetry)
	again.done()
}

// only reads the map and the delivery of a route that has one branch.
func (r *Route) only(m, deliver *mapping) {
	b := Branch{Map: m.text("map"), Good: r.good(deliver, "")}
	r.Places["map"] = m.where("map")
	switch {
	case r.Unread() && (m.has("map") || m.has("check")):
		m.bad(m.at, "workspace.value", "files of this route go on unread (read.format: file): they have neither a map nor checks")
	case r.Unread() && r.Shape.Any():
		m.bad(r.Places["shape"], "workspace.value", "files of this route go on unread (read.format: file): they have no records that could be put into order")
	case !r.Unread() && b.Map == "" && b.Whole() && r.Check.Schema == "" && len(r.Check.Against) == 0:
		m.bad(m.where("map"), "workspace.missing", "map is missing, or what files are checked against (check.schema, check.description) if they are to go on as they came")
	}
	r.Branches = []Branch{b}
	if r.OnlyChecked() && r.Tolerate < 0 {
		r.Tolerate = 0
	}
}

// goodBranch tells whether a branch may be called so. (An expression that counts letters of all scripts takes longer to make than all others together.)
func goodBranch(name string) bool {
	for i, r := range name {
		if !unicode.IsLetter(r) && !unicode.IsNumber(r) && (i == 0 || !strings.ContainsRune(" _-", r)) {
			return false
		}
	}
	return name != "" && utf8.RuneCountInString(name) <= 60
}

// several reads the branches of a route that names them.
func (r *Route) several(m *mapping) {
	for _, key := range []string{"map", "deliver"} {
		if m.has(key) {
			m.bad(m.where(key), "workspace.value", "the route has branches: each says its own %s", key)
		}
		m.get(key)
	}
	if r.Unread() {
		m.bad(m.where("branches"), "workspace.value", "files of this route go on unread (read.format: file): conditions stand at its destinations (deliver.to)")
	}
	named := map[string]bool{}
	for i, of := range m.each("branches") {
		key := fmt.Sprintf("branches[%d].", i+1)
		b := Branch{Name: of.required("name"), Notes: of.text("notes"), When: of.text("when"), Map: of.text("map"), Skip: of.text("skip"), Key: key}
		for _, setting := range []string{"name", "when", "map"} {
			r.Places[key+setting] = of.where(setting)
		}
		switch {
		case b.Name == "":
		case !goodBranch(b.Name):
			of.bad(of.where("name"), "workspace.name", "a branch's name is made of letters, digits, spaces and hyphens, at most 60")
		case named[b.Name]:
			of.bad(of.where("name"), "workspace.name", "two branches are called %q", b.Name)
		}
		named[b.Name] = true
		if b.Skip == "" {
			deliver := of.sub("deliver")
			b.Good = r.good(deliver, key)
		} else if of.has("deliver") || of.has("map") {
			of.bad(of.where("skip"), "workspace.value", "what takes this branch is left out (skip): nothing is made of it, and nothing delivered")
			of.get("deliver")
		}
		of.done()
		r.Branches = append(r.Branches, b)
	}
	if len(r.Branches) == 0 {
		m.bad(m.where("branches"), "workspace.missing", "branches has none: each has a name and says where it delivers")
		r.Branches = []Branch{{}}
	}
}

var outputsOf = regexp.MustCompile(`^([1-9][0-9]*) records?$`)

// good reads what outputs are made of good records, and where they go.
func (r *Route) good(m *mapping, key string) Good {
	g := Good{FileName: m.text("name"), After: m.text("after each")}
	key += "deliver"
	switch by := m.text("one file per"); {
	case by == "" || by == "pickup":
	case by == "record":
		g.PerRecord = true
	case strings.Contains(by, "{"):
		g.By = by
	case outputsOf.MatchString(by):
		var err error
		if g.Records, err = strconv.Atoi(outputsOf.FindStringSubmatch(by)[1]); err != nil {
			m.bad(m.where("one file per"), "workspace.value", "%s are more than any file has", by)
		}
	default:
		var ok bool
		if g.Bytes, ok = size(by); !ok || g.Bytes == 0 {
			m.bad(m.where("one file per"), "workspace.value", "%s.one file per is %q; it can be pickup, record, so many records (\"1000 records\"), so many bytes (200k, 3M), or for each value of something a text with that in braces, such as \"{station}\"", m.path, by)
		}
	}
	g.Guard = m.oneOf("formulas", "kept", "kept", "guarded") == "guarded"
	g.AsSample = m.oneOf("segments end", "as standard", "as standard", "as sample") == "as sample"
	usual := "" // what is required must be there
	switch g.Described = m.text("description"); g.Described {
	case "":
	case Standard:
		g.Described, usual = "", "reject"
	case Nothing:
		m.bad(m.where("description"), "workspace.value", "what is made is validated against nothing where no description is named; leave it out")
	default:
		usual = "reject"
	}
	g.Differs, g.Except = m.oneOf("differences", usual, "reject", "warn", "ignore"), m.exceptions()
	for _, setting := range []string{"one file per", "segments end", "description", "differences", "except", "formulas", "name", "after each"} {
		r.Places[key+"."+setting] = m.where(setting)
	}
	if m.has("to") {
		for i, to := range m.each("to") {
			g.To = append(g.To, r.destination(to, fmt.Sprintf("%s.to[%d]", key, i+1), true))
			to.done()
		}
		if m.has("folder") || m.has("place") {
			m.bad(m.whereFolder(), "workspace.value", "either one folder or a list of destinations (to) is given")
		}
		m.get("folder")
		m.get("place")
	}
	if len(g.To) == 0 {
		g.To = []Destination{r.destination(m, key, false)}
	}
	if g.FileName == "" && slices.ContainsFunc(g.To, func(d Destination) bool { return d.Lookup == "" }) {
		m.required("name")
	} else if g.FileName == "" {
		g.FileName = "{file.name}" // a lookup has its own name
	}
	m.done()
	return g
}

// headerForm is what a header is called (RFC 9110, 5.6.2).
var headerForm = regexp.MustCompile("^[A-Za-z0-9!#$%&'*+.^_`|~-]+$")

// ownHeaders are those that are made of other things.
var ownHeaders = []string{"authorization", "host", "content-length", "transfer-encoding", "connection", "idempotency-key", "content-disposition"}

// says reads what goes with outputs where they are sent.
func (r *Route) says(m *mapping, key string, d *Destination) {
	add := func(of *mapping, what, setting, text string) {
		at := key + "." + what
		r.Places[at] = of.where(setting)
		d.Says = append(d.Says, Say{what, text, at})
	}
	if m.has("mail") {
		of := m.sub("mail")
		for _, what := range []string{"to", "cc", "subject", "text", "html"} {
			if list := of.listOrText(what); len(list) > 0 {
				add(of, what, what, strings.Join(list, ", "))
			}
		}
		if d.Bare = !of.flag("attach", true); d.Bare && !of.has("text") && !of.has("html") {
			of.bad(of.where("attach"), "workspace.value", "nothing would be mailed: the output is not attached, and there is no text (text or html)")
		}
		of.done()
	}
	if m.has("headers") {
		of := m.sub("headers")
		for _, name := range slices.Sorted(maps.Keys(of.values)) {
			text := of.text(name)
			switch {
			case !headerForm.MatchString(name):
				of.bad(of.where(name), "workspace.name", "%q is not the name of a header: it is made of letters, digits and hyphens", name)
			case slices.Contains(ownHeaders, strings.ToLower(name)):
				of.bad(of.where(name), "workspace.value", "the header %s is not said here: it is made of what is known of the place and the output", name)
			default:
				add(of, "header "+strings.ToLower(name), name, text)
			}
		}
		of.done()
	}
}

var ownerForm = regexp.MustCompile(`^[A-Za-z0-9_.-]*(:[A-Za-z0-9_.-]+)?$`)

func (r *Route) destination(m *mapping, key string, listed bool) Destination {
	d := Destination{Lookup: m.text("lookup"), Place: key}
	switch {
	case d.Lookup == "":
		d.Folder = m.folder()
		if m.has("keys") {
			m.bad(m.where("keys"), "workspace.value", "keys are columns of a lookup, and this is none")
		}
	case m.has("folder"), m.has("place"):
		m.bad(m.where("lookup"), "workspace.value", "it goes into a folder, or becomes a lookup's content; there can be several destinations (to)")
	}
	if d.Keys = max(1, m.number("keys")); d.Lookup != "" {
		r.Places[key+".keys"] = m.where("keys")
	}
	r.Places[key+".folder"], r.Places[key+".lookup"] = m.whereFolder(), m.where("lookup")
	if listed {
		d.Name, d.When = m.text("name"), m.text("when")
		r.Places[key+".name"], r.Places[key+".when"] = m.where("name"), m.where("when")
	}
	d.Taken = WhenTaken(m.oneOf("name taken", string(Count), string(Count), string(Replace), string(ReplaceKeep), string(HoldTaken)))
	if s := m.text("permissions"); s != "" {
		n, err := strconv.ParseUint(s, 8, 32)
		if err != nil || n == 0 || n > 0o777 || len(s) < 3 {
			m.bad(m.where("permissions"), "workspace.value", "permissions are given in octal digits such as \"0640\"")
		}
		d.Mode = fs.FileMode(n)
	}
	r.says(m, key, &d)
	if d.Owner = m.text("owner"); !ownerForm.MatchString(d.Owner) {
		m.bad(m.where("owner"), "workspace.value", "the owner is given as user, user:group or :group")
	}
	return d
}
