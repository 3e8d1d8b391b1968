// Package workspace reads a workspace: a folder of plain files, made for git.
//
//	routes/NAME.yaml        one route each
//	maps/NAME.map           how records become others (core/lang)
//	schemas/NAME.json       what records look like (Table Schema)
//	lookups/NAME.csv        code tables
//	samples/                sample files: sources to try, targets that maps are based on
//	environments/NAME.yaml  what differs between test and production
//
// Everything wrong in it is a finding with file, line and column.
package workspace

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"sort"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"ydrion/core/finding"
	"ydrion/core/format/csv"
	"ydrion/core/place"
	"ydrion/core/text"
)

// Route is a route as its file says it.
type Route struct {
	File  string
	Name  string
	Notes string
	Listen
	Read
	Check
	Map  string // file
	Good Good
	// Rejected is the folder for rejected records and files.
	Rejected string
	Places   map[string]place.Place // of the settings, by key
}

// Listen says which files a route picks up.
type Listen struct {
	Folder     string // may begin with {place}
	Names      string // wildcard, empty if Expression is set
	Expression *regexp.Regexp
	Subfolders bool
	Events     bool          // kernel events besides repeated looking
	Rhythm     time.Duration // of repeated looking
	Quiet      time.Duration // how long a file must have been left alone
	Since      time.Time     // files changed before are left where they are
}

// Matches tells whether a file name (without its folder) is one of the route's.
func (l *Listen) Matches(name string) bool {
	if strings.HasPrefix(name, ".") {
		return false
	}
	if l.Expression != nil {
		return l.Expression.MatchString(name)
	}
	ok, err := doublestar.Match(l.Names, name)
	return ok && err == nil
}

// Read says how files are read.
type Read struct {
	Format  string
	Charset text.Charset
	Dialect csv.Dialect
}

// Check says what records must look like and how many may be wrong.
type Check struct {
	Schema   string
	Tolerate float64 // share of rejected records above which a file is rejected whole; -1: any
}

// Good says where good records go.
type Good struct {
	Folder    string
	Name      string // with expressions in braces
	PerRecord bool   // one file for each record
	After     string // follows every record
}

// Environment is what differs between test and production.
type Environment struct {
	File       string
	Name       string
	Production bool
	Places     map[string]string
}

// Workspace is a loaded workspace.
type Workspace struct {
	Files        map[string][]byte
	Routes       map[string]*Route
	Environments map[string]*Environment
	Findings     finding.List
}

var folders = []string{"routes", "maps", "schemas", "lookups", "samples", "environments"}

// maxFile is how large a file of a workspace may be.
const maxFile = 16 << 20

// Load reads a workspace. The error is one of the file system; what is wrong
// with the contents is in the workspace's findings.
func Load(root fs.FS) (*Workspace, error) {
	files := map[string][]byte{}
	for _, folder := range folders {
		err := fs.WalkDir(root, folder, func(name string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() {
				if errors.Is(err, fs.ErrNotExist) && name == folder {
					return fs.SkipDir
				}
				return err
			}
			if strings.HasPrefix(path.Base(name), ".") || !d.Type().IsRegular() {
				return nil
			}
			info, err := d.Info()
			if err != nil {
				return err
			}
			if info.Size() > maxFile {
				return fmt.Errorf("%s is larger than %d MiB; keep large samples outside the workspace", name, maxFile>>20)
			}
			files[name], err = fs.ReadFile(root, name)
			return err
		})
		if err != nil {
			return nil, fmt.Errorf("loading the workspace: %w", err)
		}
	}
	return FromFiles(files), nil
}

// FromFiles reads a workspace from the contents of its files, by their paths
// with slashes.
func FromFiles(files map[string][]byte) *Workspace {
	w := &Workspace{Files: files, Routes: map[string]*Route{}, Environments: map[string]*Environment{}}
	names := make([]string, 0, len(files))
	for name := range files {
		names = append(names, name)
	}
	sort.Strings(names)
	for _, name := range names {
		switch {
		case path.Dir(name) == "routes" && isYAML(name):
			w.route(name)
		case path.Dir(name) == "environments" && isYAML(name):
			w.environment(name)
		case path.Dir(name) == "routes" || path.Dir(name) == "environments":
			w.Findings = append(w.Findings, finding.Warn("workspace.file", place.InFile(name), "this file is not read: its name does not end in .yaml"))
		}
	}
	return w
}

func isYAML(name string) bool { return path.Ext(name) == ".yaml" || path.Ext(name) == ".yml" }

var goodName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]*$`)

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
	r.listen(m.sub("listen"))
	r.read(m.sub("read"))
	check := m.sub("check")
	r.Check = Check{Schema: check.required("schema"), Tolerate: check.percent("tolerate")}
	r.Places["check.schema"] = check.where("schema")
	check.done()
	r.Map = m.required("map")
	r.Places["map"] = m.where("map")
	r.deliver(m.sub("deliver"))
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

func (r *Route) listen(m *mapping) {
	r.Listen = Listen{Folder: m.required("folder"), Names: m.text("names"), Subfolders: m.flag("subfolders", false), Rhythm: m.duration("rhythm", 30*time.Second), Quiet: m.duration("quiet", 0), Since: m.time("since")}
	r.Events = m.oneOf("notice", "events", "events", "looks") == "events"
	if r.Rhythm < 100*time.Millisecond {
		m.bad(m.where("rhythm"), "workspace.value", "listen.rhythm must be 100ms or more")
	}
	r.Places["listen"], r.Places["listen.folder"] = m.at, m.where("folder")
	expression := m.text("expression")
	switch {
	case r.Names != "" && expression != "":
		m.bad(m.where("expression"), "workspace.value", "names and expression cannot both be given")
	case expression != "":
		var err error
		if r.Expression, err = regexp.Compile(expression); err != nil {
			m.bad(m.where("expression"), "workspace.value", "the expression is no regular expression: %v", err)
		}
	case r.Names == "":
		r.Names = "*"
	case strings.Contains(r.Names, "/"):
		m.bad(m.where("names"), "workspace.value", "names are matched without their folder; say `subfolders: true` for the folders below")
	case !doublestar.ValidatePattern(r.Names):
		m.bad(m.where("names"), "workspace.value", "%q is no wildcard pattern", r.Names)
	}
	m.done()
}

func (r *Route) read(m *mapping) {
	r.Format = m.oneOf("format", "csv", "csv")
	set := m.text("encoding")
	if set == "" {
		set = "utf-8"
	}
	var err error
	if r.Charset, err = text.ParseCharset(set); err != nil {
		m.bad(m.where("encoding"), "workspace.value", "%v", err)
	}
	character := func(key string) byte {
		s := m.text(key)
		switch {
		case s == "":
			return 0
		case s == "tab":
			return '\t'
		case len(s) == 1:
			return s[0]
		}
		m.bad(m.where(key), "workspace.value", "read.%s must be one character, or tab", key)
		return 0
	}
	d := &r.Dialect
	d.Delimiter = character("delimiter")
	if m.text("quote") == "none" {
		d.NoQuote = true
	} else {
		d.Quote = character("quote")
	}
	d.NoHeading, d.Columns, d.Skip = !m.flag("heading", true), m.list("columns"), m.number("skip")
	if err := d.Validate(); err != nil {
		m.bad(m.at, "workspace.value", "%v", err)
	}
	r.Places["read"] = m.at
	m.done()
}

func (r *Route) deliver(m *mapping) {
	good := m.sub("good")
	r.Good = Good{Folder: good.required("folder"), Name: good.required("name"), After: good.text("after each")}
	r.Good.PerRecord = good.oneOf("one file per", "pickup", "record", "pickup") == "record"
	r.Places["deliver.good.folder"], r.Places["deliver.good.name"] = good.where("folder"), good.where("name")
	good.done()
	rejected := m.sub("rejected")
	r.Rejected = rejected.required("folder")
	r.Places["deliver.rejected.folder"] = rejected.where("folder")
	rejected.done()
	m.done()
}

func (w *Workspace) environment(file string) {
	before := len(w.Findings)
	m := parseYAML(file, w.Files[file], &w.Findings)
	if m == nil {
		return
	}
	e := &Environment{File: file, Name: m.required("environment"), Production: m.flag("production", false), Places: map[string]string{}}
	places := m.sub("places")
	for name := range places.values {
		e.Places[name] = places.required(name)
	}
	m.done()
	if !w.Findings[before:].HasErrors() {
		w.Environments[e.Name] = e
	}
}

// Resolve replaces {place} at the beginning of a folder by the environment's
// folder. A relative result is below base.
func (e *Environment) Resolve(folder, base string) (string, error) {
	if strings.HasPrefix(folder, "{") {
		name, rest, ok := strings.Cut(folder[1:], "}")
		if !ok {
			return "", fmt.Errorf("{ is not closed in %q", folder)
		}
		where, ok := e.Places[name]
		if !ok {
			var names []string
			for n := range e.Places {
				names = append(names, n)
			}
			sort.Strings(names)
			return "", fmt.Errorf("environment %s has no place %q; it has %s", e.Name, name, strings.Join(names, ", "))
		}
		folder = where + rest
	}
	if !path.IsAbs(folder) {
		folder = path.Join(base, folder)
	}
	return path.Clean(folder), nil
}
