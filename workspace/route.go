package workspace

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"
	"golang.org/x/text/unicode/norm"

	"ydrion/core/format"
	"ydrion/core/formats"
	"ydrion/core/place"
	"ydrion/core/text"
	"ydrion/timetable"
)

// Route is a route as its file says it.
type Route struct {
	File  string
	Name  string
	Notes string
	Listen
	Collect    Collect
	Order      Order
	Duplicates Duplicates
	Read
	Check
	Shape
	Lookups []Arriving
	// Branches are the ways that records go, in the order of the file: one without a name, if it names none.
	Branches []Branch
	Retry    Retry
	Keep     Keep
	Expect   []Expectation
	// Rejected is where rejected records and files go.
	Rejected Destination
	Places   map[string]place.Place // of the settings, by key
	// StageNotes say why a stage of the route is as it is, by its key.
	StageNotes map[string]string
}

// Listen says which files a route picks up, and when.
type Listen struct {
	Folder     string // may begin with {place}
	Names      string // wildcard, empty if Expression is set
	Expression *regexp.Regexp
	Also       []string // wildcards of others that files are collected with
	Ignore     []string // wildcards of names that are never looked at
	Subfolders bool
	Notice     Notice
	Rhythm     time.Duration // of repeated looking
	Quiet      time.Duration // how long a file must have been left alone
	Marker     string        // a text: the name of the file beside it that says that it is complete
	EndsWith   *regexp.Regexp
	Since      time.Time // files changed before are left where they are
	Originals  Originals
	Mails      Mails
	// AnswerCommitted says that whoever sends something is answered when what became of it is committed; otherwise when it is
	// stored.
	AnswerCommitted bool
	AnswerOutput    bool   // then with the first output that was made of it
	TakenTo         string // of a place on a server: the folder there into which files are moved that were taken; empty: they are removed
	Changes         bool   // a changed file is a pickup too (originals are left)
	Gone            bool   // a file that disappears is one too
	Timetable       *timetable.Table
}

// Mails says which mails of a mailbox are taken, and what of them.
type Mails struct {
	From    string // a wildcard for the sender's address; empty: whoever
	Subject string // a wildcard; empty: whatever
	Take    string // what the files are: attachments, text or whole
}

// Fits tells whether a mail, by its sender and subject, is one that is meant. Capitals and small letters are the same.
func (m *Mails) Fits(from, subject string) bool {
	fits := func(pattern, text string) bool {
		// A slash is a character like any other here.
		plain := func(s string) string { return strings.ToLower(strings.ReplaceAll(s, "/", "\u2215")) }
		return pattern == "" || MatchName(plain(pattern), plain(text))
	}
	return fits(m.From, from) && fits(m.Subject, subject)
}

// Notice is how files are noticed.
type Notice string

const (
	ByEvents Notice = "events" // kernel events besides repeated looking
	ByLooks  Notice = "looks"  // repeated looking alone, for shares
	OnDemand Notice = "asked"  // only when somebody asks
)

// Originals says what becomes of a file that was picked up.
type Originals string

const (
	Taken   Originals = "taken"   // out of the inbox, into the archive
	Left    Originals = "left"    // where it is; known by its content
	Removed Originals = "removed" // not kept once it is delivered
)

// usualIgnore are names of files that are not complete, or not meant for us.
var usualIgnore = []string{"*.tmp", "*.temp", "*.part", "*.partial", "*.swp", "~*", "*~"}

// Matches tells whether a file name (without its folder) is one of the route's.
func (l *Listen) Matches(name string) bool {
	if strings.HasPrefix(name, ".") {
		return false
	}
	if slices.ContainsFunc(l.Also, func(pattern string) bool { return MatchName(path.Base(pattern), name) }) {
		return true
	}
	if l.Expression != nil {
		if !l.Expression.MatchString(name) && !l.Expression.MatchString(norm.NFC.String(name)) {
			return false
		}
	} else if !MatchName(l.Names, name) {
		return false
	}
	for _, pattern := range l.Ignore {
		if MatchName(pattern, name) {
			return false
		}
	}
	return true
}

// Order says what must stay in order.
type Order struct {
	By    string // arrival, name, time, or a text with expressions over the content
	Lane  string // none, all, or a text with expressions: files with the same one stay in order
	Holds bool   // whether a pickup that cannot go on holds those behind it in its lane
}

// OnDuplicate is what becomes of a file that came before.
type OnDuplicate string

const (
	Pass   OnDuplicate = "pass"
	Warn   OnDuplicate = "warn"
	Hold   OnDuplicate = "hold"
	Reject OnDuplicate = "reject"
)

// Duplicates says what happens when a file comes a second time.
type Duplicates struct {
	Content OnDuplicate // the same bytes
	Key     string      // a text with expressions over the first record
	SameKey OnDuplicate
}

// Read says how files are read.
type Read struct {
	Format  string
	Charset text.Charset
	Packing text.Packing // how they are compressed
	Member  string       // which of an archive's members is read, a wildcard; empty: its only one
	Record  string       // what is a record: a segment, for json a pointer; "": each message or value
	Source  format.Source
	Sample  string // a file such as those that come; empty: there is none
}

// Check says what records must look like and how many may be wrong.
type Check struct {
	Schema   string
	Formats  bool      // of a JSON Schema: "format" is a rule, not only a remark
	Tolerate float64   // share of rejected records above which a file is rejected whole; -1: any
	Against  []Against // what messages are checked against: the first whose condition holds
}

// Against is what messages are checked against.
type Against struct {
	When        string // a condition on the first record of a message; Otherwise, or empty: all
	Description string // a file, Standard or Nothing
	Warn        bool   // differences from it are warnings
	Messages    bool   // a difference rejects all records of its message
	Except      []Exception
	Key         string // what the keys of its places in Route.Places begin with
}

// Exception is a difference from the description that counts otherwise than the others.
type Exception struct {
	Rule, At string // the code of its finding, and a position; empty: any
	As       string // reject, warn or ignore
	Place    place.Place
}

// Standard is the description that ships with the program. Nothing is none: what is so chosen is not checked.
const (
	Standard = "standard"
	Nothing  = "none"
)

// Retry says how long a delivery that fails is tried again by itself.
type Retry struct {
	For time.Duration // then it waits for a person
}

// defaultRetry is how long what fails is tried again if a route does not say.
const defaultRetry = 7 * 24 * time.Hour

// Forever says that something is kept without end.
const Forever = time.Duration(-1)

// Keep says how long things are kept after a pickup has ended.
type Keep struct {
	Originals, Rejects, Records time.Duration
}

// Expectation is what should have come by a time.
type Expectation struct {
	Name     string
	Names    string // wildcard
	By       timetable.Table
	From     timetable.Clock // files count from then on; the same day if before By, else the day before
	Least    int
	Most     int // 0: any number
	Smallest int64
	Place    place.Place
}

var goodName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]*$`)

// GoodName tells whether a route can be called so.
func GoodName(name string) bool { return goodName.MatchString(name) }

func (w *Workspace) route(file string) {
	before := len(w.Findings)
	m := parseYAML(file, w.Files[file], &w.Findings)
	if m == nil {
		return
	}
	r := &Route{File: file, Places: map[string]place.Place{}}
	r.Name, r.Notes = m.required("route"), m.text("notes")
	if r.Name != "" && !goodName.MatchString(r.Name) {
		m.bad(m.where("route"), "workspace.name", "a route's name is made of small letters, digits and hyphens")
	}
	r.StageNotes = map[string]string{}
	said := len(*m.out)
	for _, stage := range []string{"listen", "collect", "order", "duplicates", "read", "check", "deliver", "rejected", "retry", "keep"} {
		if m.has(stage) && !m.listed(stage) {
			if notes := strings.TrimSpace(m.sub(stage).text("notes")); notes != "" {
				r.StageNotes[stage] = notes
			}
		}
	}
	*m.out = (*m.out)[:said] // what is wrong with them is said where they are read
	r.listen(m.sub("listen"))
	r.order(m.sub("order"))
	r.duplicates(m.sub("duplicates"))
	if m.has("collect") {
		r.collect(m.sub("collect"))
	}
	r.lookups(m)
	r.read(m.sub("read"))
	if r.Unread() && !m.has("check") {
		r.Check.Tolerate = -1
	} else {
		r.checks(m)
	}
	r.shape(m)
	r.branches(m)
	r.keep(m.sub("keep"))
	for _, e := range m.each("expect") {
		r.expect(e)
	}
	m.done()
	if w.Findings[before:].HasErrors() {
		return
	}
	if other, twice := w.Routes[r.Name]; twice {
		m.bad(m.where("route"), "workspace.name", "%s is called %q too", other.File, r.Name)
		return
	}
	w.Routes[r.Name] = r
}

// checks reads what records are checked against: one mapping, or a list of them with conditions.
func (r *Route) checks(m *mapping) {
	r.Check.Tolerate = -1
	if !m.listed("check") {
		check := m.sub("check")
		r.records(check)
		r.against(check, "check.")
		check.done()
		return
	}
	var ofRecords *mapping // says what all records are checked against
	var notes []string
	for i, of := range m.each("check") {
		notes = append(notes, of.text("notes"))
		if slices.ContainsFunc([]string{"schema", "formats", "tolerate"}, of.has) {
			switch {
			case of.has("when"):
				of.bad(of.where("when"), "workspace.value", "a condition chooses a description for messages; schema, formats and tolerate hold for all records: say them in an item without `when`")
			case ofRecords != nil:
				of.bad(of.at, "workspace.value", "schema, formats and tolerate are said in one item: records have one schema, and files one limit")
			}
			ofRecords = of
			r.records(of)
		}
		if of.has("description") || of.has("when") {
			if of.has("when") {
				of.required("description")
			}
			if n := len(r.Check.Against); n > 0 && (r.Check.Against[n-1].When == "" || r.Check.Against[n-1].When == Otherwise) {
				of.bad(of.at, "workspace.value", "the description before is for all messages, and this one would never be used; put what has no condition last")
			}
			r.against(of, fmt.Sprintf("check[%d].", i+1))
		}
		of.done()
	}
	if r.needsSchema() && ofRecords == nil {
		m.bad(m.where("check"), "workspace.missing", "check.schema is missing")
	}
	r.StageNotes["check"] = strings.TrimSpace(strings.Join(notes, " "))
}

// needsSchema tells whether records of the route's format have no names for their values but those of a schema.
func (r *Route) needsSchema() bool {
	of := formats.Named(r.Format)
	return of == nil || of.Position == nil
}

// records reads what each record is checked against, and how many may be wrong.
func (r *Route) records(check *mapping) {
	r.Check.Schema, r.Check.Tolerate = check.text("schema"), check.percent("tolerate")
	if r.Check.Schema == "" && r.needsSchema() {
		check.required("schema")
	}
	r.Places["check.schema"] = check.where("schema")
	r.Check.Formats = check.oneOf("formats", "remarks", "remarks", "checked") == "checked"
	r.Places["check.formats"] = check.where("formats")
}

// against reads what messages are checked against.
func (r *Route) against(check *mapping, key string) {
	a := Against{When: check.text("when"), Description: check.text("description"), Key: key}
	switch check.oneOf("differences", "reject", "reject", "reject messages", "warn") {
	case "warn":
		a.Warn = true
	case "reject messages":
		a.Messages = true
	}
	r.Places[key+"description"], r.Places[key+"when"] = check.where("description"), check.where("when")
	switch can := formats.Named(r.Format); {
	case a.Description == "" || can == nil || can.Standard:
	default:
		check.bad(check.where("description"), "workspace.value", "only messages of hl7, x12 and edifact are checked against a description, not %s", r.Format)
	}
	a.Except = check.exceptions()
	if (a.Description == "" || a.Description == Nothing) && (check.has("differences") || check.has("except")) {
		check.bad(check.where("differences"), "workspace.value", "nothing can differ where check.description names nothing")
	}
	switch {
	case a.Description == "":
	case a.When == "" && a.Description == Nothing && len(r.Check.Against) == 0:
		check.bad(check.where("description"), "workspace.value", "messages are checked against nothing where no description is named; leave it out")
	default:
		r.Check.Against = append(r.Check.Against, a)
	}
}

// exceptions reads which differences from a description count otherwise than the others.
func (m *mapping) exceptions() (all []Exception) {
	for _, e := range m.each("except") {
		x := Exception{Rule: e.text("rule"), At: e.text("at"), As: e.oneOf("differences", "", "reject", "warn", "ignore"), Place: e.where("differences")}
		switch {
		case x.As == "":
			e.bad(e.where("differences"), "workspace.missing", "an exception says how it counts: differences is reject, warn or ignore")
		case x.Rule == "" && x.At == "":
			e.bad(x.Place, "workspace.value", "an exception names a rule, a position (at), or both")
		case x.Rule != "" && !strings.HasPrefix(x.Rule, "standard."):
			e.bad(e.where("rule"), "workspace.value", "%q is not a rule of descriptions: those are the codes of findings such as standard.length", x.Rule)
		}
		e.done()
		all = append(all, x)
	}
	return all
}

func (r *Route) listen(m *mapping) {
	r.Listen = Listen{Folder: m.folder(), TakenTo: m.text("taken to"), Names: m.text("names"), Subfolders: m.flag("subfolders", false), Rhythm: m.duration("rhythm", 30*time.Second), Quiet: m.duration("quiet", 0), Since: m.time("since"), Marker: m.text("marker")}
	r.Notice = Notice(m.oneOf("notice", string(ByEvents), string(ByEvents), string(ByLooks), string(OnDemand)))
	r.Originals = Originals(m.oneOf("originals", string(Taken), string(Taken), string(Left), string(Removed)))
	r.Changes, r.Gone = m.flag("changed files", true), m.flag("files that disappear", false)
	if r.Gone && r.Originals != Left {
		m.bad(m.where("files that disappear"), "workspace.value", "only files that are left where they are can be missed; say `originals: left`")
	}
	if r.Rhythm < 100*time.Millisecond {
		m.bad(m.where("rhythm"), "workspace.value", "listen.rhythm must be 100ms or more")
	}
	r.Places["listen"], r.Places["listen.folder"], r.Places["listen.marker"] = m.at, m.whereFolder(), m.where("marker")
	r.Places["listen.taken to"], r.Places["listen.answer"] = m.where("taken to"), m.where("answer")
	answer := m.oneOf("answer", "stored", "stored", "committed", "output")
	r.AnswerCommitted, r.AnswerOutput = answer != "stored", answer == "output"
	if r.TakenTo != "" && r.Originals == Left {
		m.bad(m.where("taken to"), "workspace.value", "files are left where they are (originals: left), and so not moved")
	}
	if r.Mails.Take = "attachments"; m.has("mails") {
		r.Places["listen.mails"] = m.where("mails")
		of := m.sub("mails")
		r.Mails = Mails{From: of.text("from"), Subject: of.text("subject"), Take: of.oneOf("take", "attachments", "attachments", "text", "whole")}
		for key, pattern := range map[string]string{"from": r.Mails.From, "subject": r.Mails.Subject} {
			if problem := wildcard(pattern); problem != "" {
				of.bad(of.where(key), "workspace.value", "%q %s", pattern, problem)
			}
		}
		of.done()
	}
	r.names(m)
	r.Ignore = usualIgnore
	if m.has("ignore") {
		r.Ignore = m.list("ignore")
	}
	for _, p := range r.Ignore {
		if problem := wildcard(p); problem != "" {
			m.bad(m.where("ignore"), "workspace.value", "%q %s", p, problem)
		}
	}
	if last := m.text("last line"); last != "" {
		var err error
		if r.EndsWith, err = regexp.Compile(last); err != nil {
			m.bad(m.where("last line"), "workspace.value", "the expression is not a regular expression: %v", err)
		}
	}
	if m.has("timetable") {
		r.Timetable = m.sub("timetable").timetable()
	}
	m.done()
}

// folder reads where files are, which must be said: a folder of this machine or below a place of the environment
// ("{holm}/outgoing"), or, in other words, a place and what is below it (place: holm/outgoing).
func (m *mapping) folder() string {
	if m.has("place") {
		at := m.required("place")
		if m.has("folder") {
			m.bad(m.where("folder"), "workspace.value", "either a folder or a place is given")
			m.get("folder")
		}
		if strings.ContainsAny(at, "{}:") || strings.HasPrefix(at, "/") {
			m.bad(m.where("place"), "workspace.value", "a place is named as in the environment, maybe with a folder below it: holm/outgoing")
		}
		name, below, deeper := strings.Cut(at, "/")
		if deeper {
			below = "/" + below
		}
		return "{" + name + "}" + below
	}
	folder := m.text("folder")
	if m.known = append(m.known, "place"); folder == "" {
		m.bad(m.where("folder"), "workspace.missing", "%s is missing: write `folder: \"{PLACE}/NAME\"` with a place of the environment, or `place: PLACE/NAME`", m.join("folder"))
	}
	if scheme, _, remote := strings.Cut(folder, "://"); remote {
		m.bad(m.where("folder"), "workspace.value", "%q is not a folder of this machine; name the server as a place of the environment (address: %s://...), and write `place: NAME/FOLDER` here", folder, scheme)
	}
	return folder
}

// whereFolder is where a folder, or a place, is named.
func (m *mapping) whereFolder() place.Place {
	if m.has("place") {
		return m.where("place")
	}
	return m.where("folder")
}

func (r *Route) names(m *mapping) {
	expression := m.text("expression")
	switch {
	case r.Names != "" && expression != "":
		m.bad(m.where("expression"), "workspace.value", "names and expression cannot both be given")
	case expression != "":
		var err error
		if r.Expression, err = regexp.Compile(expression); err != nil {
			m.bad(m.where("expression"), "workspace.value", "the expression is not a regular expression: %v", err)
		}
	case r.Names == "":
		r.Names = "*"
	case strings.Contains(r.Names, "/"):
		m.bad(m.where("names"), "workspace.value", "names are matched without their folder; say `subfolders: true` for the folders below")
	default:
		if problem := wildcard(r.Names); problem != "" {
			m.bad(m.where("names"), "workspace.value", "%q %s", r.Names, problem)
		}
	}
}

// mostAlternatives is how many combinations the alternatives of a wildcard pattern may
// have: matching may have to try them all.
const mostAlternatives = 1000

// wildcard says what is wrong with a pattern, nothing if it is good.
func wildcard(pattern string) string {
	if !doublestar.ValidatePattern(pattern) {
		return "is not a wildcard pattern"
	}
	combinations, within := 1, 0
	for _, c := range pattern {
		switch c {
		case '{':
			within++
		case ',':
			within++
		case '}':
			if combinations *= max(1, within); combinations > mostAlternatives {
				return fmt.Sprintf("has more than %d combinations of alternatives; use a regular expression (`expression`)", mostAlternatives)
			}
			within = 0
		}
	}
	return ""
}

// InArchive tells which member of an archive the route reads: by its name, or, if the wildcard has a slash, with its
// folders; nil: the only one.
func (r *Route) InArchive() func(name string) bool {
	if r.Member == "" {
		return nil
	}
	return func(name string) bool {
		if !strings.Contains(r.Member, "/") {
			name = path.Base(name)
		}
		fits, _ := doublestar.Match(r.Member, name)
		return fits
	}
}

// timetable reads days, not on, at, every, from, to and zone.
func (m *mapping) timetable() *timetable.Table {
	t := &timetable.Table{Days: timetable.EveryDay, To: 24 * 60, Zone: m.zone("zone")}
	m.days(t)
	for _, at := range m.listOrText("at") {
		c, err := timetable.ParseClock(at)
		if err != nil {
			m.bad(m.where("at"), "workspace.value", "%v", err)
		}
		t.At = append(t.At, c)
	}
	t.Every = m.duration("every", 0)
	t.From, t.To = m.clock("from", 0), m.clock("to", 24*60)
	switch {
	case len(t.At) > 0 && (t.Every > 0 || m.has("from") || m.has("to")):
		m.bad(m.where("at"), "workspace.value", "a timetable has either certain times (at) or a window (from, to) with or without a rhythm (every)")
	case t.Every > 0 && t.Every < time.Minute:
		m.bad(m.where("every"), "workspace.value", "a timetable's rhythm is a minute or more; without one, files are taken as they come")
	case t.From == t.To || t.From == 24*60:
		m.bad(m.where("to"), "workspace.value", "the window ends when it begins; without from and to it is open all day")
	}
	m.done()
	return t
}

// days reads days and not on.
func (m *mapping) days(t *timetable.Table) {
	var err error
	if days := m.listOrText("days"); len(days) > 0 {
		if t.Days, err = timetable.ParseDays(strings.Join(days, ",")); err != nil {
			m.bad(m.where("days"), "workspace.value", "%v", err)
		}
	}
	for _, s := range m.listOrText("not on") {
		d, err := timetable.ParseDate(s)
		if err != nil {
			m.bad(m.where("not on"), "workspace.value", "%v", err)
		}
		t.Not = append(t.Not, d)
	}
}

func (m *mapping) clock(key string, usual timetable.Clock) timetable.Clock {
	s := m.text(key)
	if s == "" {
		return usual
	}
	c, err := timetable.ParseClock(s)
	if err != nil {
		m.bad(m.where(key), "workspace.value", "%v", err)
	}
	return c
}

func (m *mapping) zone(key string) *time.Location {
	s := m.text(key)
	if s == "" {
		return time.Local
	}
	z, err := time.LoadLocation(s)
	if err != nil {
		m.bad(m.where(key), "workspace.value", "%q is not a time zone such as Europe/Dublin", s)
		return time.Local
	}
	return z
}

func (r *Route) order(m *mapping) {
	r.Order = Order{By: m.text("by"), Lane: m.text("lane")}
	if r.Order.By == "" {
		r.Order.By = "arrival"
	}
	if r.Order.Lane == "" {
		r.Order.Lane = "none"
	}
	r.Order.Holds = m.oneOf("failure", "passes", "passes", "holds") == "holds"
	if r.Order.Holds && r.Order.Lane == "none" {
		m.bad(m.where("failure"), "workspace.value", "a failure can only hold those behind it in its lane; say `lane: all`, or what the files of one lane have in common")
	}
	r.Places["order.lane"], r.Places["order.by"] = m.where("lane"), m.where("by")
	m.done()
}

func (r *Route) duplicates(m *mapping) {
	what := []string{string(Warn), string(Pass), string(Hold), string(Reject)}
	r.Duplicates = Duplicates{Content: OnDuplicate(m.oneOf("content", string(Warn), what...)), Key: m.text("key"), SameKey: OnDuplicate(m.oneOf("same key", string(Hold), what...))}
	r.Places["duplicates.key"] = m.where("key")
	m.done()
}

func (r *Route) read(m *mapping) {
	r.Format = m.oneOf("format", "csv", append(formats.Names(), Unread)...)
	if r.Places["read"] = m.at; r.Unread() {
		m.done()
		return
	}
	of := formats.Named(r.Format)
	if of == nil {
		of = formats.Named("csv")
	}
	set := m.text("encoding")
	switch {
	case set != "":
		var err error
		if r.Charset, err = text.ParseCharset(set); err != nil {
			m.bad(m.where("encoding"), "workspace.value", "%v", err)
		}
	case of.Declares:
		r.Charset = text.Declared
	default:
		r.Charset = text.UTF8
	}
	r.Packing = text.Packing(m.oneOf("compression", string(text.Unpacked), string(text.Unpacked), string(text.Gzip), string(text.Zip)))
	r.Member = m.text("member")
	if problem := wildcard(r.Member); problem != "" {
		m.bad(m.where("member"), "workspace.value", "%q %s", r.Member, problem)
	} else if r.Member != "" && r.Packing != text.Zip {
		m.bad(m.where("member"), "workspace.value", "only archives have members: say `compression: zip`")
	}
	r.Places["read"] = m.at
	r.Source = of.Settings(options{m, &r.Record})
	r.Sample, r.Places["read.sample"] = m.text("sample"), m.where("sample")
	m.done()
}

// Unread is what a route says of files that go on as they are, whatever they are.
const Unread = "file"

// Unread tells whether the route's files go on as they are.
func (r *Route) Unread() bool { return r.Format == Unread }

// OnlyChecked tells whether the route's files go on as they came, if nothing is wrong with their records.
func (r *Route) OnlyChecked() bool {
	b := &r.Branches[0]
	return !r.Unread() && b.Name == "" && b.Map == "" && b.Whole() && !r.Shape.Any()
}

// options are what a route says of its files, as formats ask for it.
type options struct {
	*mapping
	record *string
}

func (o options) Text(key string) string {
	s := o.text(key)
	if key == "record" {
		*o.record = s
	}
	return s
}

func (o options) List(key string) []string         { return o.list(key) }
func (o options) Number(key string) int            { return o.number(key) }
func (o options) Flag(key string, usual bool) bool { return o.flag(key, usual) }
func (o options) Bad(key, says string, args ...any) {
	at := o.at
	if key != "" {
		at = o.where(key)
	}
	o.bad(at, "workspace.value", says, args...)
}

func (r *Route) keep(m *mapping) {
	r.Keep = Keep{Originals: m.span("originals", Forever), Rejects: m.span("rejects", Forever), Records: m.span("records", Forever)}
	if k := r.Keep; k.Records != Forever && (k.Originals == Forever || k.Originals > k.Records) {
		m.bad(m.where("records"), "workspace.value", "what is recorded about a pickup must be kept at least as long as its original; say `originals:` too")
	}
	m.done()
}

var counts = regexp.MustCompile(`^(\d+)(?:\.\.(\d*))?$`)

func (r *Route) expect(m *mapping) {
	e := Expectation{Name: m.text("name"), Names: m.text("files"), Least: 1, Smallest: m.bytes("smallest"), Place: m.at}
	if e.Names == "" {
		e.Names = "*"
	}
	if e.Name == "" {
		e.Name = e.Names
	}
	if problem := wildcard(e.Names); problem != "" {
		m.bad(m.where("files"), "workspace.value", "%q %s", e.Names, problem)
	}
	e.By = timetable.Table{Days: timetable.EveryDay, To: 24 * 60, Zone: m.zone("zone"), At: []timetable.Clock{m.clock("by", 24*60)}}
	m.required("by")
	m.days(&e.By)
	e.From = m.clock("from", 0)
	if s := m.text("count"); s != "" {
		part := counts.FindStringSubmatch(s)
		if part == nil {
			m.bad(m.where("count"), "workspace.value", "count is a number such as 4, or a range such as 1..4 or 2..")
		} else {
			e.Least, _ = strconv.Atoi(part[1])
			if !strings.Contains(s, "..") {
				e.Most = e.Least
			}
			if part[2] != "" {
				e.Most, _ = strconv.Atoi(part[2])
			}
			if e.Most > 0 && e.Most < e.Least {
				m.bad(m.where("count"), "workspace.value", "the range %s is upside down", s)
			}
		}
	}
	if slices.ContainsFunc(r.Expect, func(o Expectation) bool { return o.Name == e.Name }) {
		m.bad(m.at, "workspace.name", "two expectations are called %q; give them names", e.Name)
	}
	m.done()
	r.Expect = append(r.Expect, e)
}

// Window is the time in which files count for a deadline.
func (e *Expectation) Window(due time.Time) (from, to time.Time) {
	y, m, d := due.In(e.By.Zone).Date()
	from = timetable.Moment(y, m, d, e.From, e.By.Zone)
	if !from.Before(due) {
		from = timetable.Moment(y, m, d-1, e.From, e.By.Zone)
	}
	return from, due
}

// String says an expectation in words.
func (e *Expectation) String() string {
	count := fmt.Sprintf("%d or more", e.Least)
	switch {
	case e.Most == e.Least:
		count = strconv.Itoa(e.Least)
	case e.Most > 0:
		count = fmt.Sprintf("%d to %d", e.Least, e.Most)
	}
	files := "files"
	if e.Most == 1 {
		files = "file"
	}
	s := fmt.Sprintf("%s %s named %s by %s, %s%s (%s)", count, files, e.Names, e.By.At[0], e.By.Days, e.By.Without(), timetable.ZoneName(e.By.Zone))
	if e.Smallest > 0 {
		s += fmt.Sprintf(", each of at least %d bytes", e.Smallest)
	}
	return s
}

// MatchName tells whether a name matches a wildcard.
func MatchName(pattern, name string) bool {
	if ok, err := doublestar.Match(pattern, name); ok && err == nil {
		return true
	}
	// A letter with a mark can be one character or two (Unicode normalization forms C
	// and D): some file systems write the one what was typed as the other.
	c, d := norm.NFC.String(pattern), norm.NFC.String(name)
	if c == pattern && d == name {
		return false
	}
	ok, err := doublestar.Match(c, d)
	return ok && err == nil
}
