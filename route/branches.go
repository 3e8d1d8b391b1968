package route

import (
	"cmp"
	"fmt"
	"html"
	"net/mail"
	"strings"
	"sync"
	"unicode"

	"ydrion/core/finding"
	"ydrion/core/flow"
	"ydrion/core/format"
	"ydrion/core/formats"
	"ydrion/core/lang"
	"ydrion/core/place"
	"ydrion/core/text"
	"ydrion/workspace"
)

// branchMap is a branch with the map of its records.
type branchMap struct {
	*lang.Map
	branch *workspace.Branch
	text   []byte
	at     func(pos int) place.Place

	differs    flow.Against    // what of its messages differs from their description, and how that counts
	told       map[string]bool // what has been said of them
	validating validating      // nil: nothing describes them
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
	if r.OnlyChecked() && validatedBy(b) != "" {
		c.out = append(c.out, finding.New("route.differences", c.where(b, validatedBy(b)), "files that go on as they came are validated against a description where they are read: say it under `check`"))
	}
	if !r.OnlyChecked() {
		m.differs = flow.Against{As: strictness[b.Differs], Except: exceptions(b.Except)}
		of := c.describing(m, target)
		if of != nil {
			scope.Required = m.required(of)
		}
		program, findings := lang.Build(m.Map, cmp.Or(b.Map, r.File), string(m.text), target, scope)
		for _, f := range findings {
			if b.Map == "" {
				f.Place = r.Places[b.Key+"map"]
			}
			c.out = append(c.out, f)
		}
		out.Explains = sync.OnceValue(func() *lang.Program {
			explaining, _ := lang.Explaining(m.Map, cmp.Or(b.Map, r.File), string(m.text), target, scope)
			return explaining
		})
		if program != nil && of != nil {
			c.draft(m, of, program)
		}
		if program != nil && m.validating != nil {
			out.Validating = c.validation(m)
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

// against is what messages are validated against.
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
		to.Except = exceptions(a.Except)
		if a.When != "" && a.When != workspace.Otherwise {
			to.When = c.when(a.When, a.Key, scope)
		}
		out = append(out, to)
	}
	return out
}

// strictness is what differences do, as routes say it.
var strictness = map[string]format.Strictness{"reject": format.Refused, "warn": format.Warned, "ignore": format.Unvalidated}

func exceptions(except []workspace.Exception) (out []flow.Exception) {
	for _, e := range except {
		out = append(out, flow.Exception{Rule: e.Rule, At: e.At, As: strictness[e.As]})
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
	if namer != nil && r.Listen.Subfolders && d.Taken.Replaces() && d.Lookup == "" && namer.OfFile() && !namer.PerRecord && !namer.Uses("file.folder", "now", "mail.id") {
		c.out = append(c.out, finding.Warn("route.name-fixed", said, "files of one name in several subfolders would have one output, %q, and each would replace that of the others", name).
			Suggest("put {file.folder} into the name"))
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
	if (s.What == "to" || s.What == "cc") && out.Text != nil && out.Text.Fields && !b.PerRecord && b.By == "" {
		c.out = append(c.out, finding.Warn("deliver.first", said, "all records that go into one output are mailed to whom the first of them names: %s", s.Text).
			Suggest("let the records of each have an output of their own: one file per: %q", s.Text))
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
