package route

import (
	"maps"
	"slices"
	"strings"

	"ydrion/core/finding"
	"ydrion/core/flow"
	"ydrion/core/format"
	"ydrion/core/formats"
	"ydrion/core/jsonschema"
	"ydrion/core/lang"
	"ydrion/core/place"
	"ydrion/core/schema"
	"ydrion/core/shape"
	"ydrion/core/standard"
	"ydrion/core/value"
	"ydrion/workspace"
)

var plainOrders = []string{"arrival", "name", "time"}

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
	var by []flow.Key
	for _, k := range keys(r.Shape.Gather, true) {
		if k.Field.Kind != value.Text { // what is gathered comes in the order of its type
			typed := k
			typed.Exactly = false
			by = append(by, typed)
		}
		by = append(by, k)
	}
	by = append(by, keys(r.Shape.Sort, false)...)
	return &flow.Order{OnePer: keys(r.Shape.OnePer, true), Last: r.Shape.Last, Rows: s.Single(), By: by}
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

// taken tells the schema of records that are made of rows which fields are used as those of the record, and not asked
// of its rows: by a map, or by the route itself.
func (c *compilation) taken(plan *flow.Plan) {
	named := map[string]bool{}
	for _, text := range c.texts() {
		if node, findings := lang.ParseText(c.route.File, text, text, 0); !findings.HasErrors() {
			lang.OfRecord(node, named)
		}
	}
	c.conditions(func(node lang.Node, _ place.Place) { lang.OfRecord(node, named) })
	for i := range plan.Branches {
		if p := plan.Branches[i].Program; p != nil {
			maps.Copy(named, p.Taken)
		}
	}
	for k, f := range plan.Schema.Record {
		if named[f.Name] {
			plan.Schema.Taken = append(plan.Schema.Taken, k)
		}
	}
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
		if catalog := c.description(a.Description, c.route.Format, c.route.Places[a.Key+"description"]); catalog != nil {
			c.numbered[a.Description] = len(catalogs)
			catalogs = append(catalogs, catalog)
		}
	}
	return of.By(catalogs...)
}

// description reads what messages of a format are validated against.
func (c *compilation) description(name, format string, said place.Place) *standard.Catalog {
	text, ok := c.file(name, said)
	if !ok {
		return nil
	}
	catalog, about, findings := formats.Description(name, text)
	for _, f := range findings {
		if f.Code != "sef.notes" { // `ydrion guideline` tells of them
			c.out = append(c.out, f)
		}
	}
	if catalog != nil && about != "" && about != format {
		c.out = append(c.out, finding.New("route.description", said, "%s describes messages of %s, and these are of %s", name, about, format))
	}
	return catalog
}
