// Package route compiles a route of a workspace into a flow plan and knows what
// a revision is made of.
package route

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"path"
	"slices"
	"sort"
	"strings"

	"ydrion/core/finding"
	"ydrion/core/flow"
	"ydrion/core/format"
	"ydrion/core/formats"
	"ydrion/core/lang"
	"ydrion/core/lookup"
	"ydrion/core/place"
	"ydrion/core/shape"
	"ydrion/workspace"
)

// Compiled is a route that has passed its check, ready to run.
type Compiled struct {
	*workspace.Route
	Plan  *flow.Plan
	Files map[string][]byte // everything the route depends on
	Hash  string            // of those files: the revision

	// Texts that are made from a file before it is taken, nil if not wanted.
	Lane *lang.Template // what must stay in order
	By   *lang.Template // the order by content
	Key  *lang.Template // the business key
	With *lang.Template // what files have in common that are collected
	// Marker is the name of the file that says that another is complete.
	Marker *lang.Template

	joined map[string]*lookup.Table // of which is told what no record has looked up
}

// compilation collects findings and the files that were used.
type compilation struct {
	from  *workspace.Workspace
	route *workspace.Route
	files map[string][]byte
	out   finding.List

	tables *tables
	fields shape.Record           // of the records
	said   map[string]place.Place // where the map or the route names a position that no schema has

	document bool           // records are checked against a JSON Schema
	numbered map[string]int // the descriptions of one's own that messages are checked against
}

// Compile checks a route and everything it depends on.
func Compile(w *workspace.Workspace, name string) (*Compiled, finding.List) {
	r, ok := w.Routes[name]
	if !ok {
		var names []string
		for n := range w.Routes {
			names = append(names, n)
		}
		f := finding.New("route.unknown", place.InFile("routes"), "there is no route %q", name)
		if near := finding.Nearest(name, names); near != "" {
			f = f.Suggest("was %q meant?", near)
		}
		return nil, finding.List{f}
	}
	c := &compilation{from: w, route: r, files: map[string][]byte{r.File: w.Files[r.File]}}
	c.tables = &tables{c: c, read: map[string]*lookup.Table{}}
	out := &Compiled{Route: r, Plan: c.plan(), Files: c.files, joined: c.joined()}
	c.arriving()
	if c.out.HasErrors() {
		return nil, c.out
	}
	scope := lang.Scope{Fields: out.Plan.Schema.Record, Lookups: c.tables, Example: c.example()}
	if l := r.Order.Lane; l != "none" && l != "all" {
		out.Lane = c.text("order.lane", l, scope)
	}
	if by := r.Order.By; !slices.Contains(plainOrders, by) {
		out.By = c.text("order.by", by, scope)
		if !strings.Contains(by, "{") {
			c.out = append(c.out, finding.New("route.order", r.Places["order.by"], "the order is by arrival, name, time, or a text with an expression in braces, not %q", by))
		}
	}
	if r.Duplicates.Key != "" {
		out.Key = c.text("duplicates.key", r.Duplicates.Key, scope)
	}
	if r.Collect.By != "" {
		with := scope
		if with.Words = maps.Clone(lang.FileWords); r.Unread() {
			with.Words = maps.Clone(lang.UnreadWords)
		}
		maps.DeleteFunc(with.Words, func(word string, _ bool) bool { return word == "sequence" || strings.HasPrefix(word, "collect.") })
		out.With = c.text("collect.by", r.Collect.By, with)
	}
	if r.Marker != "" {
		out.Marker = c.marker()
	}
	if c.out.HasErrors() {
		return nil, c.out
	}
	out.Hash = Hash(c.files)
	return out, c.out
}

// text compiles a text with expressions.
func (c *compilation) text(setting, text string, scope lang.Scope) *lang.Template {
	said := c.route.Places[setting]
	node, findings := lang.ParseText(c.route.File, text, text, 0)
	var namer *lang.Template
	if !findings.HasErrors() {
		namer, findings = lang.CompileName([]lang.Node{node}, scope, func(int) place.Place { return said })
	}
	for _, f := range findings {
		f.Place = said
		c.out = append(c.out, f)
	}
	if namer != nil && namer.Sequence {
		c.out = append(c.out, finding.New("route.order", said, "the sequence is not known before a file is taken"))
	}
	return namer
}

// marker compiles the name of the marker file.
func (c *compilation) marker() *lang.Template {
	words := map[string]bool{}
	for w := range lang.FileWords {
		words[w] = strings.HasPrefix(w, "file.")
	}
	namer := c.text("listen.marker", c.route.Marker, lang.Scope{Words: words, Lookups: c.tables})
	if !strings.Contains(c.route.Marker, "{file.") || c.route.Marker == "{file.name}" {
		c.out = append(c.out, finding.New("route.marker", c.route.Places["listen.marker"], "the marker's name must come from the file's, as in \"{file.name}.done\" or \"{file.stem}.ok\""))
	}
	return namer
}

// Hash is the identity of a set of files: SHA-256 over names and contents in
// the order of the names.
func Hash(files map[string][]byte) string {
	names := make([]string, 0, len(files))
	for n := range files {
		names = append(names, n)
	}
	sort.Strings(names)
	h := sha256.New()
	for _, n := range names {
		fmt.Fprintf(h, "%d %s %d\n", len(n), n, len(files[n]))
		h.Write(files[n])
	}
	return hex.EncodeToString(h.Sum(nil))
}

// file gives a file that the route depends on; said is where it is named.
func (c *compilation) file(name string, said place.Place) ([]byte, bool) {
	b, ok := c.from.Files[name]
	if !ok {
		var names []string
		for n := range c.from.Files {
			if path.Dir(n) == path.Dir(name) {
				names = append(names, n)
			}
		}
		f := finding.New("route.file-missing", said, "there is no file %s", name)
		if near := finding.Nearest(name, names); near != "" {
			f = f.Suggest("was %s meant?", near)
		}
		c.out = append(c.out, f)
		return nil, false
	}
	c.files[name] = b
	return b, true
}

func (c *compilation) plan() *flow.Plan {
	r := c.route
	if r.Unread() {
		return c.unread()
	}
	var source []byte
	hasSchema := true
	if r.Schema != "" {
		source, hasSchema = c.file(r.Schema, r.Places["check.schema"])
	}
	made, hasMaps := c.maps()
	if !hasSchema || !hasMaps {
		return nil
	}
	s, document := c.schema(source)
	c.document = document != nil
	if c.out.HasErrors() {
		return nil
	}
	if formats.Named(r.Format).Exponents {
		s.AllowExponents()
	}
	c.positions(s, made)
	for _, m := range made {
		if m.SourceSchema != r.Schema {
			c.out = append(c.out, finding.New("route.schema", m.at(m.At.Schema), "the map reads records of %s, the route checks them against %s", cmp.Or(m.SourceSchema, "no schema"), cmp.Or(r.Schema, "no schema")))
		}
		if m.SourceFormat != r.Format {
			c.out = append(c.out, finding.New("route.format", m.at(m.At.Source), "the map reads %s, the route reads %s", m.SourceFormat, r.Format))
		}
	}
	c.fields = s.Record
	reads, targets := c.targets(made)
	schemaLists := s.Lists
	if of, is := reads.(format.Gathered); is && of.Rows() != "" {
		s.Rows, s.Lists = true, []shape.List{{Name: of.Rows(), Shape: shape.Shape{Fields: s.Record}}}
		if len(schemaLists) > 0 {
			c.out = append(c.out, finding.New("route.schema", r.Places["check.schema"], "%s has the list %s, and a record here is made of rows, which are its list", r.Schema, schemaLists[0].Name))
		}
	}
	bound := c.bind(reads, s)
	if slices.Contains(targets, nil) {
		return nil
	}
	plan := &flow.Plan{Source: bound, Charset: r.Charset, Packing: r.Packing, Member: r.InArchive(), Schema: s, Document: document, Checked: r.OnlyChecked()}
	if r.Shape.Any() {
		plan.Order = c.order(s, reads)
	}
	for i, m := range made {
		scope := lang.Scope{Fields: s.Record, Lists: s.Lists, Lookups: c.tables, Separate: m.branch.PerRecord, Offered: document != nil || r.Schema == "" || m.AsCame || len(r.Branches) > 1, Example: c.example(), Elsewhere: c.elsewhere()}
		plan.Branches = append(plan.Branches, c.branch(m, targets[i], scope))
	}
	if s.Rows {
		c.taken(plan)
	}
	plan.Against = c.against(lang.Scope{Fields: s.Record, Lists: s.Lists, Lookups: c.tables, Example: c.example()})
	if r.Sample != "" && !c.out.HasErrors() {
		c.sample(plan, made)
	}
	plan.Sequence = c.sequence(plan)
	return plan
}

// sequence tells whether records have numbers of the route's sequence.
func (c *compilation) sequence(plan *flow.Plan) bool {
	records, parts := false, -1
	for i := range plan.Branches {
		p := &plan.Branches[i]
		records = records || p.Program != nil && p.Program.Sequence
		for _, o := range p.Outputs {
			records = records || p.Separate && o.Name != nil && o.Name.Sequence
		}
		if p.Several() && p.Numbered() {
			parts = i
		}
	}
	alone := len(plan.Branches) == 1 || !slices.ContainsFunc(plan.Branches, func(p flow.Branch) bool { return p.Numbered() && !p.Several() })
	if parts >= 0 && (records || !alone) {
		b := &c.route.Branches[parts]
		c.out = append(c.out, finding.New("route.sequence", c.where(b, "one file per"), "outputs of so many records take the next number of the route's sequence when they begin, and so nothing else of the route can use the sequence").
			Suggest("use record for numbers of records, or part.number in the name"))
	}
	return records
}
