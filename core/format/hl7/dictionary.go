package hl7

import (
	"embed"
	"io/fs"
	"strings"
	"sync"
)

//go:embed dictionary/*.txt
var dictionaryFiles embed.FS

// dictionary is what a version of the standard calls its segments, fields and
// components.
type dictionary struct {
	titles   map[string]string
	segments map[string][]description
	types    map[string][]description
}

type description struct{ name, kind string }

// dictionaries are the versions that are known, by their names in MSH-12.
var dictionaries = sync.OnceValue(func() map[string]*dictionary {
	out := map[string]*dictionary{}
	files, _ := fs.Glob(dictionaryFiles, "dictionary/*.txt")
	for _, name := range files {
		content, _ := dictionaryFiles.ReadFile(name)
		out[strings.TrimSuffix(strings.TrimPrefix(name, "dictionary/"), ".txt")] = parseDictionary(string(content))
	}
	return out
})

func parseDictionary(content string) *dictionary {
	d := &dictionary{map[string]string{}, map[string][]description{}, map[string][]description{}}
	var into map[string][]description
	name := ""
	for line := range strings.Lines(content) {
		line = strings.TrimSpace(line)
		kind, rest, _ := strings.Cut(line, " ")
		switch {
		case line == "" || line[0] == '#':
		case kind == "segment" || kind == "type":
			var title string
			name, title, _ = strings.Cut(rest, " ")
			d.titles[name] = title
			if into = d.types; kind == "segment" {
				into = d.segments
			}
		default:
			for _, part := range strings.Split(line, "|") {
				name2, of, _ := strings.Cut(part, ":")
				into[name] = append(into[name], description{name2, of})
			}
		}
	}
	return d
}

// Known tells whether there is a dictionary for a version, as MSH-12 says it. No
// version is read by another's.
func Known(version string) bool { return dictionaries()[version] != nil }

// Meaning is what the standard calls a position, in the version that a message
// says; empty where that is not known.
func Meaning(position, version string) string {
	d := dictionaries()[version]
	if d == nil {
		return ""
	}
	p, err := parsePath(position)
	if err != nil {
		return ""
	}
	if p.field == 0 {
		return d.titles[p.segment]
	}
	fields := d.segments[p.segment]
	if p.field > len(fields) {
		return ""
	}
	f := fields[p.field-1]
	if p.component == 0 {
		return f.name
	}
	if parts := d.types[f.kind]; p.component <= len(parts) {
		return f.name + ": " + parts[p.component-1].name
	}
	return f.name
}
