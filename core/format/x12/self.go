package x12

import (
	"bytes"
	"strings"

	"ydrion/core/format"
	"ydrion/core/segments"
)

// Format is X12.
var Format = func() *format.Format {
	f := Rules.Format()
	f.Recognise = recognise
	behind := f.Broken
	f.Broken = func(g *format.Guess, b []byte) bool { return broken(g, b) || behind(g, b) }
	f.Type = func(path, value []byte, of *format.Type) {
		if string(path) == "ST-1" {
			of.Name = append(of.Name, value...)
		}
	}
	f.Meaning = func(path, version string) string {
		return segments.Meaning(Releases.Version(version[:min(6, len(version))]), path)
	}
	return f
}()

// recognise knows the fixed lengths of the ISA segment (X12.5).
func recognise(g *format.Guess, b, _ []byte, _ format.Known) bool {
	if len(b) < 106 || string(b[:3]) != "ISA" {
		return false
	}
	element := b[3]
	for _, at := range separators[1:] {
		if b[at] != element {
			return false
		}
	}
	g.Version = string(b[84:89])
	g.Because(format.Certain, "it begins with an ISA segment of 106 characters; elements end with %q, segments with %q", element, b[105])
	name := func(from, to int) string { return strings.TrimSpace(string(b[from:to])) }
	g.Because(format.Certain, "interchange %s from %s to %s, for %s", name(90, 99), name(35, 50), name(54, 69), map[byte]string{'P': "production", 'T': "test", 'I': "information"}[b[102]])
	var group []byte
	for _, s := range bytes.Split(b[106:], b[105:106]) {
		parts := bytes.Split(bytes.TrimLeft(s, "\r\n"), []byte{element})
		switch {
		case string(parts[0]) == "GS" && len(parts) > 8:
			g.Version, group = string(parts[8]), bytes.TrimLeft(s, "\r\n")
		case string(parts[0]) == "ST" && len(parts) > 1 && g.Type == "":
			g.Type = string(parts[1])
			g.Because(format.Certain, "the first transaction set is a %s of %s", g.Type, g.Version)
			book, structure := Rules.Described([][]byte{group}, bytes.TrimLeft(s, "\r\n"), segments.Syntax{Element: b[3]})
			groups := nearest(g.Version[:min(6, len(g.Version))])
			if of := Releases.Version(groups); of == nil || of.Structure(g.Type) == nil {
				groups = ""
			}
			g.Described(book, structure, groups)
		}
	}
	return true
}

// broken recognises an interchange whose ISA segment is not as it must be.
func broken(g *format.Guess, b []byte) bool {
	if len(b) <= 4 || string(b[:3]) != "ISA" || alphanumeric(b[3]) {
		return false
	}
	sep := string(b[3:4])
	if !strings.Contains(string(b), "IEA"+sep) && !strings.Contains(string(b), "GS"+sep) && (len(b) >= 106 || strings.Count(string(b), sep) <= 3 || strings.ContainsAny(sep, ",;\t")) {
		return false
	}
	_, problem := begin(b)
	g.Because(format.Likely, "it begins with ISA, as an interchange of X12 does, but not as one must: %s", problem)
	return true
}
