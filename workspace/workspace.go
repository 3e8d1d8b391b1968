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
	"net/url"
	"path"
	"slices"
	"sort"
	"strings"

	"ydrion/core/finding"
	"ydrion/core/place"
)

// Environment is what differs between test and production.
type Environment struct {
	File       string
	Name       string
	Production bool
	Places     map[string]Place
	Tell       []Channel
}

// Channel is where people are told what needs them.
type Channel struct {
	Name    string
	Kinds   []string // of alerts; empty: all
	Routes  []string // wildcards; empty: all
	Webhook string   // an address that is posted to
	Secret  string   // the variable with the key that signs what is posted
	Server  string   // host:port of a mail server (SMTP) that asks for no name
	Through *Place   // or a place that mails; nil: there is neither
	From    string
	To      []string
}

// Workspace is a loaded workspace.
type Workspace struct {
	Files        map[string][]byte
	Routes       map[string]*Route
	Environments map[string]*Environment
	Findings     finding.List
}

var folders = []string{"routes", "maps", "schemas", "lookups", "samples", "descriptions", "environments"}

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

func (w *Workspace) environment(file string) {
	before := len(w.Findings)
	m := parseYAML(file, w.Files[file], &w.Findings)
	if m == nil {
		return
	}
	e := &Environment{File: file, Name: m.required("environment"), Production: m.flag("production", false), Places: map[string]Place{}}
	e.places(m.sub("places"))
	for _, c := range m.each("tell") {
		e.channel(c)
	}
	m.done()
	if !w.Findings[before:].HasErrors() {
		w.Environments[e.Name] = e
	}
}

// AlertKinds are the kinds of things that people are told.
var AlertKinds = []string{"rejected", "held", "stuck", "uncertain", "duplicate", "missing", "late", "surplus", "small", "disk low", "lane held", "incomplete", "standstill", "no leader", "defect", "database away"}

// through reads by which place a channel mails.
func (e *Environment) through(m *mapping, c *Channel) {
	if m.has("server") {
		m.bad(m.where("server"), "workspace.value", "a channel mails either through a place or by a server that asks for no name")
		m.get("server")
	}
	name := m.text("place")
	p, is := e.Places[name]
	switch {
	case !is:
		m.bad(m.where("place"), "workspace.value", "there is no place %q in this environment", name)
		return
	case p.Kind != "smtp":
		m.bad(m.where("place"), "workspace.value", "%s does not mail; a place of the kind smtp does", name)
		return
	}
	c.Through = &p
	if c.From == "" {
		c.From = p.From
	}
	if len(c.To) == 0 {
		c.To = p.To
	}
}

func (e *Environment) channel(m *mapping) {
	c := Channel{Name: m.required("name"), Kinds: m.list("kinds"), Routes: m.list("routes")}
	if m.has("webhook") {
		w := m.sub("webhook")
		c.Webhook, c.Secret = w.required("address"), w.text("key from")
		if u, err := url.Parse(c.Webhook); c.Webhook != "" && (err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https") {
			m.bad(w.where("address"), "workspace.value", "%q is not an http or https address", c.Webhook)
		}
		w.done()
	}
	if m.has("mail") {
		w := m.sub("mail")
		c.From, c.To = w.text("from"), w.listOrText("to")
		if w.has("place") {
			e.through(w, &c)
		} else {
			c.Server = w.required("server")
			w.required("from")
		}
		if len(c.To) == 0 {
			m.bad(w.at, "workspace.missing", "mail.to is missing")
		}
		w.done()
	}
	if m.has("webhook") == m.has("mail") {
		m.bad(m.at, "workspace.value", "a channel has either a webhook or mail")
	}
	for _, k := range c.Kinds {
		if !slices.Contains(AlertKinds, k) {
			f := finding.New("workspace.value", m.where("kinds"), "there are no alerts of the kind %q", k)
			*m.out = append(*m.out, f.Suggest("the kinds are %s", strings.Join(AlertKinds, ", ")))
		}
	}
	m.done()
	e.Tell = append(e.Tell, c)
}
