package run

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"ydrion/core/finding"
	"ydrion/core/flow"
	"ydrion/core/place"
	"ydrion/deliver"
	"ydrion/route"
	"ydrion/store"
	"ydrion/timetable"
	"ydrion/workspace"
)

// bringTables gives a run the contents of lookups that come with files: those that routes have delivered, and those that
// are among its own files. What it finds wrong with the latter rejects all that would look codes up in them.
func (c *Conductor) bringTables(it *item) (wrong *finding.Finding, err error) {
	it.said = nil
	var names []string
	for _, a := range it.compiled.Lookups {
		if a.File == "" {
			names = append(names, a.Table)
		}
	}
	tables := map[string]string{}
	if len(names) > 0 {
		pinned, err := c.e.Store.Pin(c.work, *it.Run, names)
		if err != nil {
			return nil, err
		}
		for _, a := range it.compiled.Lookups {
			if a.File != "" {
				continue
			}
			v, has := pinned[a.Table]
			if has {
				tables[a.Table] = v.Content
			}
			if old := tooOld(&a, v, has, *it.Now); old != "" && it.SameAs == nil {
				if a.Holds {
					return nil, errors.New(old)
				}
				it.said = append(it.said, finding.Warn("lookup.old", place.InFile(it.Name), "%s", old))
			}
		}
	}
	for _, f := range it.members {
		if f.part != store.Codes {
			continue
		}
		name := codesOf(it.compiled, f.Folder, f.Name)
		content, err := c.table(f)
		if err != nil {
			return nil, err
		}
		if _, why := it.compiled.CheckTable(name, content); why != nil {
			why.Message = strings.Replace(why.Message, "what was made of the records", f.Name, 1)
			return why, nil
		}
		tables[name] = content
	}
	compiled, err := c.e.With(c.work, it.compiled, tables)
	var findings finding.List
	if errors.As(err, &findings) && slices.ContainsFunc(it.members, func(f *item) bool { return f.part == store.Codes }) {
		for _, f := range findings {
			if f.Severity == finding.Error {
				f = finding.New("lookup.content", place.InFile(it.Name), "codes cannot be looked up in the table that came with it: %s", f.Message)
				return &f, nil
			}
		}
	}
	if err == nil {
		it.compiled = compiled
	}
	return nil, err
}

// tooOld says that a lookup's content is too old; empty if it is not.
func tooOld(a *workspace.Arriving, v store.Version, has bool, now time.Time) string {
	switch {
	case a.NoOlder == workspace.Forever:
		return ""
	case !has:
		return fmt.Sprintf("no content of the table %s has come yet, and the route wants one that is no older than %s", a.Table, timetable.Short(a.NoOlder))
	case now.Sub(v.At) > a.NoOlder:
		return fmt.Sprintf("the table %s is of %s (version %d), and the route wants one that is no older than %s", a.Table, v.At.Local().Format("2006-01-02 15:04 MST"), v.Version, timetable.Short(a.NoOlder))
	}
	return ""
}

// codesOf is the table that a file of several is; empty if it is none.
func codesOf(compiled *route.Compiled, folder, name string) string {
	for _, a := range compiled.Lookups {
		if a.File != "" && workspace.MatchPath(a.File, folder, name) {
			return a.Table
		}
	}
	return ""
}

// table reads a file that is a table.
func (c *Conductor) table(f *item) (string, error) {
	if f.Size > route.MostTable {
		return "", nil // that it is none is said
	}
	in, err := c.original(f)
	if err != nil {
		return "", err
	}
	defer in.Close()
	content, err := io.ReadAll(in)
	if !utf8.Valid(content) {
		return "", err
	}
	return string(content), err
}

// addTable ends an output that becomes a lookup's content.
func (o *outputs) addTable(out *deliver.Output, sum string, output int, records int64) error {
	name := o.to[output].Lookup
	f, err := o.FS.Open(out.Temporary)
	if err != nil {
		return err
	}
	content, err := io.ReadAll(io.LimitReader(f, route.MostTable+1))
	if err := errors.Join(err, f.Close(), o.FS.Remove(out.Temporary)); err != nil {
		return err
	}
	if len(content) > route.MostTable {
		return &flow.Unfinished{Finding: finding.New("lookup.content", place.InFile(o.name), "the table %s would have more than %d MiB", name, route.MostTable>>20)}
	}
	rows, why := o.route.CheckTable(name, string(content))
	if why == nil && strings.ContainsRune(string(content), 0) {
		f := finding.New("lookup.content", place.InFile(o.name), "a value of the table %s has a NUL character", name)
		why = &f
	}
	if why == nil && slices.ContainsFunc(o.versions, func(v store.Version) bool { return v.Name == name }) {
		f := finding.New("lookup.content", place.InFile(o.name), "two destinations have made the table %s: one would take the place of the other, without its rows", name)
		f = f.Suggest("let one destination of the route make the table, of all records that go into it")
		why = &f
	}
	if why != nil {
		return &flow.Unfinished{Finding: *why}
	}
	o.ord++
	o.versions = append(o.versions, store.Version{Name: name, SHA256: sum, Rows: rows, Content: string(content)})
	o.deliveries = append(o.deliveries, store.Delivery{Run: o.Run, Ord: o.ord, Kind: "good", Output: output, Folder: lookupFolder, Name: name, Size: out.Size, SHA256: sum, Records: records, FirstRecord: 1, State: "published"})
	return nil
}

// lookupFolder is where outputs are said to be that became lookups' contents.
const lookupFolder = "lookup"
