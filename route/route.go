// Package route compiles a route of a workspace into a flow plan and knows what
// a revision is made of.
package route

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"html"
	"maps"
	"net/mail"
	"path"
	"slices"
	"sort"
	"strings"
	"unicode"

	"ydrion/core/finding"
	"ydrion/core/flow"
	"ydrion/core/format"
	"ydrion/core/formats"
	"ydrion/core/jsonschema"
	"ydrion/core/lang"
	"ydrion/core/lookup"
	"ydrion/core/place"
	"ydrion/core/schema"
	"ydrion/core/shape"
	"ydrion/core/standard"
	"ydrion/core/text"
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

var plainOrders = []string{"arrival", "name", "time"}

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
	plan := &flow.Plan{Source: bound, Charset: r.Charset, Gzip: r.Gzip, Schema: s, Document: document, Checked: r.OnlyChecked()}
	if r.Shape.Any() {
		plan.Order = c.order(s, reads)
	}
	for i, m := range made {
		scope := lang.Scope{Fields: s.Record, Lists: s.Lists, Lookups: c.tables, Separate: m.branch.PerRecord, Offered: document != nil || r.Schema == "" || m.AsCame || len(r.Branches) > 1, Example: c.example(), Elsewhere: c.elsewhere()}
		plan.Branches = append(plan.Branches, c.branch(m, targets[i], scope))
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

// gathers puts records together that stand anywhere in the file.
func (c *compilation) gathers(reads format.Source) format.Source {
	r := c.route
	of, can := reads.(format.Gathering)
	if together, is := reads.(format.Gathered); is && together.Rows() != "" {
		c.out = append(c.out, finding.New("route.shape", r.Places["shape"], "records are put together by read.together; leave that out, and gather them"))
		return reads
	}
	if !can {
		c.out = append(c.out, finding.New("route.shape", r.Places["shape"], "only rows of csv can be gathered, not records of %s", r.Format))
		return reads
	}
	var by []string
	for _, o := range r.Shape.Gather {
		if o.Descending {
			c.out = append(c.out, finding.New("route.shape", o.Place, "records are gathered by what they have the same; leave `descending` out"))
		}
		column := o.Field
		if slot, _ := c.slot(o); slot != nil {
			column = slot.At()
		}
		by = append(by, column)
	}
	return of.Gather(by, r.Shape.List)
}

// reorders tells whether the route's records can be put into another order, and says why not.
func (c *compilation) reorders(s *schema.Schema) bool {
	r := c.route
	bad := func(says string, args ...any) bool {
		c.out = append(c.out, finding.New("route.shape", r.Places["shape"], says, args...))
		return false
	}
	if of := formats.Named(r.Format); !of.Reorders {
		return bad("only rows of csv and values of json can be put into another order, not records of %s", r.Format)
	}
	if r.Format == "csv" {
		return true
	}
	// A value is read again by itself, with what stands around it.
	if slices.ContainsFunc(r.Branches, func(b workspace.Branch) bool { return b.Map == "" && b.Skip == "" }) {
		return bad("values of %s that are put into another order do not go on as they came; give the route a map", r.Format)
	}
	if c.document {
		return bad("%s is a JSON Schema, which is about the order and the number of values, too; check those that are put into another order against a Table Schema", r.Schema)
	}
	for _, f := range s.Record {
		if at := f.At(); strings.HasSuffix(at, "#") {
			return bad("the field %s is the place of a value in its list, or its name there: that is not told of values in another order", f.Name)
		}
	}
	return true
}

// order is the order in which records are worked on.
func (c *compilation) order(s *schema.Schema, reads format.Source) *flow.Order {
	r := c.route
	if !c.reorders(s) {
		return nil
	}
	if of, is := reads.(format.Gathered); is && of.Rows() != "" && r.Shape.Gather == nil {
		c.out = append(c.out, finding.New("route.shape", r.Places["shape"], "records that are put together by read.together cannot be put into another order; gather them instead"))
		return nil
	}
	keys := func(of []workspace.Ordered, exactly bool) (out []flow.Key) {
		for _, o := range of {
			field, slot := c.slot(o)
			if field == nil {
				f := finding.New("route.shape", o.Place, "there is no field %q", o.Field)
				if near := finding.Nearest(o.Field, s.Record.Names()); near != "" {
					f = f.Suggest("was %s meant?", near)
				}
				c.out = append(c.out, f)
				continue
			}
			out = append(out, flow.Key{Slot: slot, Field: field, Descending: o.Descending, Exactly: exactly})
		}
		return out
	}
	return &flow.Order{OnePer: keys(r.Shape.OnePer, true), Last: r.Shape.Last, Rows: s.Single(), By: append(keys(r.Shape.Gather, true), keys(r.Shape.Sort, false)...)}
}

// slot finds a field of records by its name.
func (c *compilation) slot(o workspace.Ordered) (*shape.Field, int) {
	for i := range c.fields {
		if c.fields[i].Name == o.Field {
			return &c.fields[i], i
		}
	}
	return nil, -1
}

// branchMap is a branch with the map of its records.
type branchMap struct {
	*lang.Map
	branch *workspace.Branch
	text   []byte
	at     func(pos int) place.Place
}

// maps reads the map of each branch. One without a map has records that go on as they came.
func (c *compilation) maps() (made []*branchMap, all bool) {
	r := c.route
	all = true
	for i := range r.Branches {
		b := &r.Branches[i]
		said := r.Places[b.Key+"map"]
		m := &branchMap{branch: b, at: func(int) place.Place { return said }}
		if b.Map == "" {
			m.Map = &lang.Map{SourceFormat: r.Format, SourceSchema: r.Schema, TargetFormat: r.Format, AsCame: true}
			if b.Whole() && r.OnlyChecked() && (b.After != "" || b.Guard || b.AsSample) {
				c.out = append(c.out, finding.New("route.unread", said, "files of this route go on as they came: it has no map, and makes nothing of records"))
			}
			made = append(made, m)
			continue
		}
		var has bool
		if m.text, has = c.file(b.Map, said); !has {
			all = false
			continue
		}
		m.at = func(pos int) place.Place { return place.At(b.Map, m.text, pos) }
		var findings finding.List
		m.Map, findings = lang.Parse(b.Map, string(m.text))
		c.out = append(c.out, findings...)
		made = append(made, m)
	}
	return made, all
}

// targets are what records become in each branch, nil where that is wrong, and how files are read for all of them.
func (c *compilation) targets(made []*branchMap) (format.Source, []format.Target) {
	reads := c.source()
	if c.route.Shape.Gather != nil {
		reads = c.gathers(reads)
	}
	var targets []format.Target
	for _, m := range made {
		nothing := c.route.OnlyChecked() || m.branch.Skip != "" // is made of records
		var target format.Target
		if nothing {
			target = formats.Named(c.route.Format).AsCame()
		} else {
			target = c.target(m)
		}
		targets = append(targets, target)
		if onward, can := reads.(format.Onward); can && target != nil && !nothing {
			reads = onward.Into(target)
		}
	}
	return reads, targets
}

// branch compiles what becomes of records in one branch.
func (c *compilation) branch(m *branchMap, target format.Target, scope lang.Scope) flow.Branch {
	r, b := c.route, m.branch
	out := flow.Branch{Name: b.Name, Skip: b.Skip, Target: target, Makes: m.TargetFormat, Plain: m.TargetFormat != r.Format, After: []byte(b.After), Separate: b.PerRecord, Records: b.Records, Bytes: b.Bytes}
	out.Otherwise = b.When == workspace.Otherwise
	if b.When != "" && !out.Otherwise {
		out.When = c.when(b.When, b.Key, scope)
	}
	if b.Skip != "" {
		return out
	}
	if !r.OnlyChecked() {
		program, findings := lang.Build(m.Map, cmp.Or(b.Map, r.File), string(m.text), target, scope)
		for _, f := range findings {
			if b.Map == "" {
				f.Place = r.Places[b.Key+"map"]
			}
			c.out = append(c.out, f)
		}
		if out.Program = program; b.After != "" && program != nil && program.Closes() {
			c.out = append(c.out, finding.New("route.after", c.where(b, "after each"), "nothing can follow each record of a list or an interchange: %s is one", m.TargetSample))
		}
	}
	if b.By != "" {
		out.By = c.by(b, scope)
	}
	for _, d := range b.To {
		out.Outputs = append(out.Outputs, c.output(b, d, scope))
	}
	return out
}

// against is what messages are held against.
func (c *compilation) against(scope lang.Scope) (out []flow.Against) {
	for _, a := range c.route.Check.Against {
		to := flow.Against{Description: c.numbered[a.Description], As: format.Refused, Whole: a.Messages}
		switch a.Description {
		case workspace.Standard:
			to.Description = format.ByStandard
		case workspace.Nothing:
			to.Description = format.ByNone
		}
		if a.Warn {
			to.As = format.Warned
		}
		for _, e := range a.Except {
			as := map[string]format.Strictness{"reject": format.Refused, "warn": format.Warned, "ignore": format.Unvalidated}[e.As]
			to.Except = append(to.Except, flow.Exception{Rule: e.Rule, At: e.At, As: as})
		}
		if a.When != "" && a.When != workspace.Otherwise {
			to.When = c.when(a.When, a.Key, scope)
		}
		out = append(out, to)
	}
	return out
}

// when compiles the condition of a branch, or of a check.
func (c *compilation) when(condition, key string, scope lang.Scope) (test *lang.Test) {
	said := c.route.Places[key+"when"]
	node, findings := lang.ParseCondition(c.route.File, condition)
	if !findings.HasErrors() {
		scope.Words = lang.FileWords
		test, findings = lang.CompileTest(node, scope, func(int) place.Place { return said })
	}
	c.out = append(c.out, at(said, findings)...)
	return test
}

// unread is the plan of files that go on as they are.
func (c *compilation) unread() *flow.Plan {
	r := c.route
	b := &r.Branches[0]
	if !b.Whole() || b.After != "" {
		c.out = append(c.out, finding.New("route.unread", r.Places["deliver.one file per"], "files of this route go on unread: they have no records"))
	}
	plan := &flow.Plan{Unread: true, Schema: schema.Of("", nil), Branches: []flow.Branch{{}}}
	for _, d := range b.To {
		plan.Branches[0].Outputs = append(plan.Branches[0].Outputs, c.output(b, d, lang.Scope{}))
	}
	for _, o := range plan.Branches[0].Outputs {
		plan.Sequence = plan.Sequence || o.Name != nil && o.Name.Sequence
	}
	return plan
}

// schema reads what records are checked against: a Table Schema, or for JSON a JSON Schema, whose
// properties are the fields that maps use.
func (c *compilation) schema(source []byte) (*schema.Schema, *jsonschema.Schema) {
	r := c.route
	if r.Schema == "" {
		return schema.Of("", nil), nil
	}
	if !jsonschema.Is(source) {
		s, findings := schema.Parse(r.Schema, source)
		c.out = append(c.out, findings...)
		if r.Formats {
			c.out = append(c.out, finding.New("route.formats", r.Places["check.formats"], "formats are checked where the schema is a JSON Schema; %s is a Table Schema, which checks its own", r.Schema))
		}
		return s, nil
	}
	if r.Format != "json" {
		c.out = append(c.out, finding.New("route.schema", r.Places["check.schema"], "%s is a JSON Schema, which records of %s cannot be checked against: write a Table Schema", r.Schema, r.Format))
		return nil, nil
	}
	document, findings := jsonschema.Load(r.Schema, source, r.Record, r.Formats, func(name string) ([]byte, bool) {
		content, is := c.from.Files[name]
		if is {
			c.files[name] = content
		}
		return content, is
	})
	c.out = append(c.out, findings...)
	if document == nil {
		return nil, nil
	}
	fields := schema.Of(r.Schema, document.Record)
	fields.Lists = document.Lists
	return fields, document
}

// positions makes fields of the positions that the maps and the texts of the route name as such.
func (c *compilation) positions(s *schema.Schema, made []*branchMap) {
	of := formats.Named(c.route.Format)
	if of.Position == nil {
		return
	}
	c.said = map[string]place.Place{}
	var at func(int) place.Place
	takes := &lang.Takes{Shape: s.Shape(), Add: s.Add,
		Position: func(name string) bool { return of.Position(name) == nil },
		List:     func(name string) bool { return of.List(name) == nil },
		Said: func(name string, pos int) {
			if _, known := c.said[name]; !known {
				c.said[name] = at(pos)
			}
		},
	}
	for _, m := range made {
		at = m.at
		takes.Of(m.Map)
	}
	field := func(node lang.Node, said place.Place) {
		at = func(int) place.Place { return said }
		takes.Mentioned(node)
	}
	texts := c.texts()
	for _, setting := range slices.Sorted(maps.Keys(texts)) {
		said, text := c.route.Places[setting], texts[setting]
		if node, findings := lang.ParseText(c.route.File, text, text, 0); !findings.HasErrors() {
			field(node, said)
		}
	}
	c.conditions(field)
	s.Take(takes.Shape.Lists)
}

// elsewhere are the fields that the route itself names: in texts and conditions.
func (c *compilation) elsewhere() map[string]bool {
	named := map[string]bool{}
	for _, text := range c.texts() {
		if node, findings := lang.ParseText(c.route.File, text, text, 0); !findings.HasErrors() {
			lang.Names(node, named)
		}
	}
	c.conditions(func(node lang.Node, _ place.Place) { lang.Names(node, named) })
	return named
}

// conditions are those of branches and destinations.
func (c *compilation) conditions(say func(node lang.Node, said place.Place)) {
	one := func(when, setting string) {
		if when == "" || when == workspace.Otherwise {
			return
		}
		if node, findings := lang.ParseCondition(c.route.File, when); !findings.HasErrors() {
			say(node, c.route.Places[setting])
		}
	}
	for _, a := range c.route.Check.Against {
		one(a.When, a.Key+"when")
	}
	for i := range c.route.Branches {
		b := &c.route.Branches[i]
		one(b.When, b.Key+"when")
		for _, d := range b.To {
			one(d.When, d.Place+".when")
		}
	}
}

// example is a position, if values have no other names.
func (c *compilation) example() string {
	if c.route.Schema != "" || c.route.Unread() {
		return ""
	}
	return formats.Named(c.route.Format).Example
}

// texts are those of the route that may hold expressions, by their settings.
func (c *compilation) texts() map[string]string {
	r := c.route
	all := map[string]string{"collect.by": r.Collect.By, "order.lane": r.Order.Lane, "order.by": r.Order.By, "duplicates.key": r.Duplicates.Key}
	for i := range r.Branches {
		b := &r.Branches[i]
		all[b.Key+"deliver.one file per"], all[b.Key+"deliver.name"] = b.By, b.FileName
		for _, d := range b.To {
			if d.Name != "" {
				all[d.Place+".name"] = d.Name
			}
		}
	}
	return all
}

// bind finds the fields of a schema in the records of the format, before any file comes.
func (c *compilation) bind(source format.Source, s *schema.Schema) format.Bound {
	bound, findings := source.Bind(s.Shape())
	for _, f := range findings {
		name := f.Place.Path
		f.Place = place.Place{File: c.route.Schema, Offset: -1, Path: name}
		if said, is := c.said[name]; is {
			f.Place = said
		} else if name == "" {
			f.Place = c.route.Places["read"]
		}
		c.out = append(c.out, f)
	}
	return bound
}

// source is how the route's files are read, with the descriptions that messages are checked against.
func (c *compilation) source() format.Source {
	of, can := c.route.Source.(format.Described)
	if !can {
		return c.route.Source
	}
	c.numbered = map[string]int{}
	var catalogs []*standard.Catalog
	for _, a := range c.route.Check.Against {
		_, known := c.numbered[a.Description]
		if known || a.Description == workspace.Standard || a.Description == workspace.Nothing {
			continue
		}
		if catalog := c.description(a.Description, c.route.Places[a.Key+"description"]); catalog != nil {
			c.numbered[a.Description] = len(catalogs)
			catalogs = append(catalogs, catalog)
		}
	}
	return of.By(catalogs...)
}

// description reads what messages are checked against.
func (c *compilation) description(name string, said place.Place) *standard.Catalog {
	text, ok := c.file(name, said)
	if !ok {
		return nil
	}
	catalog, about, findings := formats.Description(name, text)
	c.out = append(c.out, findings...)
	if catalog != nil && about != "" && about != c.route.Format {
		c.out = append(c.out, finding.New("route.description", said, "%s describes messages of %s, and the route reads %s", name, about, c.route.Format))
	}
	return catalog
}

func (c *compilation) target(m *branchMap) format.Target {
	of, at, b := formats.Named(m.TargetFormat), m.at, m.branch
	if of == nil {
		c.out = append(c.out, finding.New("route.format", at(m.At.Target), "records cannot be written as %q; known are %s", m.TargetFormat, strings.Join(formats.Names(), ", ")))
		return nil
	}
	if m.AsCame {
		return c.asCame(m, of)
	}
	sample, ok := c.file(m.TargetSample, at(m.At.Sample))
	if !ok {
		return nil
	}
	target, err := of.Target(m.TargetSample, sample)
	if err != nil {
		c.out = append(c.out, finding.New("route.sample", place.InFile(m.TargetSample), "the sample is nothing that a map can be based on: %v", err))
		return nil
	}
	if of, can := target.(interface{ Differences() finding.List }); can {
		c.out = append(c.out, of.Differences()...)
	}
	if b.Guard {
		guarded, can := target.(interface{ Guard() })
		if !can {
			c.out = append(c.out, finding.New("route.formulas", c.where(b, "formulas"), "formulas are guarded in csv only, not in %s", m.TargetFormat))
			return nil
		}
		guarded.Guard()
	}
	if b.AsSample {
		ends, can := target.(interface{ EndAsSample() })
		if !can {
			c.out = append(c.out, finding.New("route.segments-end", c.where(b, "segments end"), "only edifact, hl7 and x12 have segments that end in one way or another, not %s", m.TargetFormat))
			return nil
		}
		ends.EndAsSample()
	}
	return target
}

// asCame is the target of records that go on as they came.
func (c *compilation) asCame(m *branchMap, of *format.Format) format.Target {
	bad := func(says string, args ...any) format.Target {
		c.out = append(c.out, finding.New("route.as-it-came", m.at(m.At.Target), says, args...))
		return nil
	}
	r := c.route
	switch {
	case of.AsCame == nil:
		return bad("records of %s cannot go on as they came with changes; base the map on a sample", of.Title)
	case m.TargetFormat != r.Format:
		return bad("the route reads %s: as it came, it is that, and not %s", r.Format, m.TargetFormat)
	case r.Record != "" && r.Format != "json":
		return bad("whole messages go on as they came; the route makes records of a part of them (record: %s)", r.Record)
	case of.Declares && r.Charset != text.Declared:
		return bad("messages go on in the character set that each names; leave the encoding out")
	case m.branch.Guard || m.branch.AsSample:
		return bad("segments end as they came, and nothing is guarded in them")
	}
	return of.AsCame()
}

// tables are the lookup tables of a workspace. Those that are asked for are read, and only
// they belong to the revision.
type tables struct {
	c    *compilation
	read map[string]*lookup.Table
}

// Table gives a table by its name, nil if there is none.
func (t *tables) Table(name string) *lookup.Table {
	if known, was := t.read[name]; was {
		return known
	}
	file := "lookups/" + name + ".csv"
	content, is := t.c.from.Files[file]
	if !is {
		return nil
	}
	table, findings := lookup.Parse(file, string(content))
	t.c.out = append(t.c.out, findings...)
	if t.c.files[file] = content; table == nil {
		table = &lookup.Table{File: file} // that it is wrong has been said
	}
	if slices.ContainsFunc(t.c.route.Lookups, func(a workspace.Arriving) bool { return a.Table == name && a.Unmatched }) {
		table.Track()
	}
	t.read[name] = table
	return table
}

// Names are the tables that there are.
func (t *tables) Names() (out []string) {
	for name := range t.c.from.Files {
		if stem, is := strings.CutSuffix(path.Base(name), ".csv"); is && path.Dir(name) == "lookups" {
			out = append(out, stem)
		}
	}
	return out
}

// where is the place of what a branch says of its delivery.
func (c *compilation) where(b *workspace.Branch, setting string) place.Place {
	return c.route.Places[b.Key+"deliver."+setting]
}

// by compiles the value by which outputs are told apart.
func (c *compilation) by(b *workspace.Branch, scope lang.Scope) *lang.Template {
	r := c.route
	said := c.where(b, "one file per")
	node, findings := lang.ParseText(r.File, b.By, b.By, 0)
	var by *lang.Template
	if !findings.HasErrors() {
		scope.Words = lang.FileWords
		by, findings = lang.CompileName([]lang.Node{node}, scope, func(int) place.Place { return said })
	}
	c.out = append(c.out, at(said, findings)...)
	if by != nil && !by.PerRecord {
		c.out = append(c.out, finding.New("route.name-fixed", said, "%q is the same for all records of a file, and outputs are to be told apart by it", b.By).
			Suggest("put a field of the records into the braces, or say `one file per: pickup`"))
	}
	return by
}

// at gives findings a place.
func at(said place.Place, findings finding.List) finding.List {
	for i := range findings {
		findings[i].Place = said
	}
	return findings
}

// output compiles the name and the condition of a destination.
func (c *compilation) output(b *workspace.Branch, d workspace.Destination, scope lang.Scope) flow.Output {
	r := c.route
	setting, name := b.Key+"deliver.name", b.FileName
	if d.Name != "" {
		setting, name = d.Place+".name", d.Name
	}
	named := b.PerRecord || b.By != ""
	about := scope // the records that outputs are named by
	switch {
	case r.Unread():
		scope.Words = lang.UnreadWords
		about = scope
	case r.OnlyChecked():
		scope = lang.Scope{Words: lang.FileWords, Lookups: c.tables}
		about = scope
	case !named:
		scope = lang.Scope{Words: lang.FileWords, Lookups: c.tables}
		fallthrough
	case b.By != "":
		about.Words = lang.OutputWords
	}
	said := r.Places[setting]
	var nodes []lang.Node
	var findings finding.List
	for _, part := range parts(name) {
		node, wrong := lang.ParseText(r.File, part, part, 0)
		nodes, findings = append(nodes, node), append(findings, wrong...)
	}
	var namer *lang.Template
	if !findings.HasErrors() {
		namer, findings = lang.CompileName(nodes, about, func(int) place.Place { return said })
	}
	c.fixed(b, said, findings, "its name")
	what := "record"
	if b.By != "" {
		what = "value of " + b.By
	}
	if namer != nil && named && !namer.PerRecord {
		c.out = append(c.out, finding.New("route.name-fixed", said, "every %s goes into a file of its own, but all would be called %q", what, name).
			Suggest("put a field, {record} or {sequence} into the name"))
	}
	if namer != nil && !named && d.Taken == workspace.Count && !strings.Contains(name, "{") {
		c.out = append(c.out, finding.Warn("route.name-fixed", said, "every pickup would be called %q; later ones get a number added", name).
			Suggest("put {file.stem} or the time into the name"))
	}
	out := flow.Output{Name: namer}
	for _, s := range d.Says {
		out.Said = append(out.Said, c.saying(b, s, about))
	}
	if namer != nil {
		out.Late = namer.Part || namer.PerRecord && !named && !r.Unread()
		for _, s := range out.Said {
			out.Late = out.Late || s.Text != nil && (s.Text.Part || s.Text.PerRecord && !named && !r.Unread())
		}
		if !b.Whole() && !named && !namer.Number && !namer.PerRecord {
			c.out = append(c.out, finding.New("route.name-fixed", said, "a file may become several outputs, but all would be called %q", name).
				Suggest("put {part.number} into the name"))
		}
	}
	if out.Otherwise = d.When == workspace.Otherwise; d.When != "" && !out.Otherwise {
		said := r.Places[d.Place+".when"]
		node, findings := lang.ParseCondition(r.File, d.When)
		if !findings.HasErrors() {
			out.When, findings = lang.CompileTest(node, scope, func(int) place.Place { return said })
		}
		c.fixed(b, said, findings, "whether it goes there")
	}
	return out
}

// saying compiles what goes with an output where it is sent.
func (c *compilation) saying(b *workspace.Branch, s workspace.Say, scope lang.Scope) flow.Saying {
	said := c.route.Places[s.Key]
	out := flow.Saying{What: s.What}
	node, findings := lang.ParseText(c.route.File, s.Text, s.Text, 0)
	if !findings.HasErrors() {
		var escape func(string) string
		switch {
		case s.What == "html":
			escape = html.EscapeString
		case (s.What == "to" || s.What == "cc") && !alone(node):
			escape = oneAddress
		}
		out.Text, findings = lang.CompileText(node, scope, func(int) place.Place { return said }, escape)
	}
	c.fixed(b, said, findings, "what goes with it")
	if out.Text != nil && out.Text.Totals() {
		c.out = append(c.out, finding.New("deliver.said", said, "what is asked of all records (sum, count, ...) can stand in a name, not in what goes with an output").
			Suggest("let the map make it, and name it by its field; how many records there are is {part.records}"))
	}
	switch {
	case s.What == "to" || s.What == "cc":
		out.Check = func(text string) string {
			if strings.Trim(text, ", ") == "" && s.What == "cc" {
				return ""
			}
			if _, err := mail.ParseAddressList(text); err != nil {
				return fmt.Sprintf("%.200q is not a list of mail addresses", text)
			}
			return ""
		}
	case s.What == "subject" || strings.HasPrefix(s.What, "header "):
		ascii := s.What != "subject"
		out.Check = func(text string) string {
			if strings.ContainsFunc(text, func(r rune) bool { return unicode.IsControl(r) || ascii && r > unicode.MaxASCII }) {
				return fmt.Sprintf("%.200q holds a character that cannot stand in it", text)
			}
			return ""
		}
	}
	return out
}

// alone tells whether each value in a list of addresses stands for whole ones, not for a part of one.
func alone(n lang.Node) bool {
	text, is := n.(*lang.Text)
	if !is {
		return true
	}
	for i, p := range text.Parts {
		if p.Node == nil {
			continue
		}
		if i > 0 && !strings.HasSuffix(strings.TrimRight(text.Parts[i-1].Text, " "), ",") || i+1 < len(text.Parts) && !strings.HasPrefix(strings.TrimLeft(text.Parts[i+1].Text, " "), ",") {
			return false
		}
	}
	return true
}

// oneAddress lets no value that is a part of an address end it and begin another: what a sender writes would be mailed to whom he
// likes. The sign that takes the place of what would do so is one that no address has.
func oneAddress(value string) string {
	return strings.NewReplacer(",", "\x01", ";", "\x01", "<", "\x01", ">", "\x01", "\"", "\x01").Replace(value)
}

// fixed adds findings about a setting of the outputs.
func (c *compilation) fixed(b *workspace.Branch, said place.Place, findings finding.List, what string) {
	for _, f := range findings {
		f.Place = said
		if !b.PerRecord && b.By == "" && !c.route.Unread() && what != "its name" && (f.Code == "map.field-unknown" || f.Code == "map.name") {
			f.Suggestion = "all records of a pickup go into one file: " + what + " cannot differ from record to record; say `one file per: record` if it should"
		}
		c.out = append(c.out, f)
	}
}

// parts cuts the text of a name at the slashes that stand outside of braces: the
// folders of a name are those that the text itself says, never a value's.
func parts(name string) []string {
	var out []string
	from := 0
	for i := 0; i < len(name); i++ {
		switch name[i] {
		case '{':
			if end := lang.ExpressionEnd(name, i); end > 0 {
				i = end
			}
		case '/':
			out, from = append(out, name[from:i]), i+1
		}
	}
	return append(out, name[from:])
}
