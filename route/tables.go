package route

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"

	"ydrion/core/finding"
	"ydrion/core/lookup"
	"ydrion/core/place"
	"ydrion/workspace"
)

// MostTable is how many bytes a table may have whose content comes with files.
const MostTable = 64 << 20

// arriving checks what the route says of lookups whose content comes with files: those that it looks codes up in, and
// those that it delivers.
func (c *compilation) arriving() {
	r := c.route
	for _, a := range r.Lookups {
		_, used := c.tables.read[a.Table]
		if c.known(a.Table, a.Place) && !used {
			c.out = append(c.out, finding.Warn("route.lookup", a.Place, "nothing in the route looks anything up in %s", a.Table))
		}
	}
	for i := range r.Branches {
		b := &r.Branches[i]
		for _, d := range b.To {
			if d.Lookup == "" {
				continue
			}
			said := r.Places[d.Place+".lookup"]
			c.known(d.Lookup, said)
			switch {
			case r.Unread():
				c.out = append(c.out, finding.New("route.lookup", said, "files of this route go on unread, and a lookup is made of records"))
			case !b.Whole():
				c.out = append(c.out, finding.New("route.lookup", said, "a lookup is one output of all records; leave `one file per` out"))
			case d.Mode != 0 || d.Owner != "" || d.Taken != workspace.Count:
				c.out = append(c.out, finding.New("route.lookup", said, "a lookup is no file: it has no owner, no permissions, and no name that could be taken"))
			}
		}
	}
}

// known tells whether the workspace has a table, and says so if not.
func (c *compilation) known(name string, said place.Place) bool {
	if c.tables.Table(name) != nil {
		return true
	}
	f := finding.New("route.lookup", said, "there is no lookups/%s.csv: its heading says which columns the table has, and its rows are what it holds until the first has come", name)
	if near := finding.Nearest(name, c.tables.Names()); near != "" {
		f = f.Suggest("was %s meant?", near)
	}
	c.out = append(c.out, f)
	return false
}

// CheckTable says why a text cannot be the content of one of the route's lookups, nil if it can; and how many rows it has.
func (c *Compiled) CheckTable(name, content string) (rows int64, why *finding.Finding) {
	file := "lookups/" + name + ".csv"
	published, _ := lookup.Parse(file, string(c.Files[file]))
	table, findings := lookup.Parse(name, content)
	for _, f := range findings {
		if f.Severity == finding.Error {
			at := f.Place
			f = finding.New("lookup.content", place.InFile(name), "what was made of the records cannot be the table %s: line %d: %s", name, at.Line, f.Message)
			return 0, &f
		}
	}
	switch {
	case table == nil:
		f := finding.New("lookup.content", place.InFile(name), "nothing was made that could be the table %s", name)
		return 0, &f
	case published != nil && !slices.Equal(published.Headings(), table.Headings()):
		f := finding.New("lookup.content", place.InFile(name), "the table %s has the columns %s, and what was made of the records has %s", name, strings.Join(published.Headings(), ", "), cmp.Or(strings.Join(table.Headings(), ", "), "none"))
		f = f.Suggest("let the map write those columns, in that order")
		return 0, &f
	}
	for _, d := range c.Destinations() {
		if d.Lookup != name {
			continue
		}
		for _, answer := range table.Answers(d.Keys) {
			if _, err := table.By(d.Keys, answer); err != nil {
				f := finding.New("lookup.content", place.InFile(name), "what was made of the records cannot be the table %s: %v", name, err)
				return 0, &f
			}
		}
	}
	return int64(table.Rows()), nil
}

// joined are the tables of which is told what no record has looked up.
func (c *compilation) joined() map[string]*lookup.Table {
	out := map[string]*lookup.Table{}
	for name, table := range c.tables.read {
		if table.Tracked() {
			out[name] = table
		}
	}
	return out
}

// Joins tells whether is told of rows of tables that no record has looked up. Such a route is compiled for each run.
func (c *Compiled) Joins() bool { return len(c.joined) > 0 }

// Begin forgets what has been looked up so far.
func (c *Compiled) Begin() {
	for _, table := range c.joined {
		table.Track()
	}
}

// mostUnmatched is how many rows are named that no record has looked up.
const mostUnmatched = 10

// Unmatched tells of rows of a table that no record has looked up; nil if there are none, or nobody wants to know.
func (c *Compiled) Unmatched(name, file string) *finding.Finding {
	table := c.joined[name]
	if table == nil {
		return nil
	}
	keys, lines := table.Unasked()
	if len(keys) == 0 {
		return nil
	}
	at := place.InFile(file)
	at.Line, at.Column = int64(lines[0]), 1
	var named []string
	for i := range min(len(keys), mostUnmatched) {
		named = append(named, fmt.Sprintf("%s (line %d)", finding.Shorten([]byte(keys[i])), lines[i]))
	}
	if more := len(keys) - len(named); more > 0 {
		named = append(named, fmt.Sprintf("and %d more", more))
	}
	f := finding.Warn("lookup.unmatched", at, "no record looked up %d of the %d rows of %s: %s", len(keys), table.Rows(), file, strings.Join(named, ", "))
	return &f
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
