// Package edifact reads UN/EDIFACT interchanges (ISO 9735, syntax versions 1 to 4): with or
// without service string advice, groups, messages, in the character repertoires from UNOA to
// UNOY, with the references and counts of all envelopes.
package edifact

import (
	"bytes"
	"embed"
	"fmt"
	"slices"
	"strings"

	"ydrion/core/segments"
	"ydrion/core/standard"
	"ydrion/core/text"
)

// Rules are those of EDIFACT.
var Rules = &segments.Rules{
	Name: "edifact", Title: "EDIFACT", Makes: "EDIFACT messages in interchanges", Example: "LIN-3.1", Nothing: "no message (UNH) stands in its interchanges",
	Nested: []segments.Nesting{{Segment: "CPS", Above: 2, Component: 1}, {Segment: "LIN", Above: 4, Component: 2}},
	Head:   "UNH", Tail: "UNT", HeadNumber: 1, HeadDigits: 1, Usual: usual,
	Levels:  []segments.Level{{Open: "UNB", Close: "UNZ", Number: 5}, {Open: "UNG", Close: "UNE", Number: 5}},
	Begin:   begin,
	Parties: [2]int{2, 3}, Opening: opening, Fits: fits, Dates: dates, Dated: []string{"DTM"},
	Names: name, Near: near,
	Catalog:  Directories,
	Nearest:  nearest,
	Form:     form,
	Declares: true, Declaration: [2]string{"UNB-1", "UNOW"},
}

// usual are the separators that stand where no advice says others (ISO 9735-1, 8), and those of
// level B in versions 1 to 3.
var (
	usual  = segments.Syntax{Component: ':', Element: '+', Decimal: '.', Release: '?', Repetition: '*', Terminator: '\''}
	levelB = segments.Syntax{Component: 0x1f, Element: 0x1d, Decimal: '.', Terminator: 0x1c}
)

// repertoires are the character sets that UNB-1.1 names (data element 0001). UNOX changes
// between sets by escape sequences; those are not followed.
var repertoires = map[string]text.Charset{
	"UNOA": "", "UNOB": "", "UNOC": text.Latin1, "UNOD": "iso-8859-2", "UNOE": "iso-8859-5", "UNOF": "iso-8859-7", "UNOG": "iso-8859-3", "UNOH": "iso-8859-4",
	"UNOI": "iso-8859-6", "UNOJ": "iso-8859-8", "UNOK": "iso-8859-9", "UNOL": "iso-8859-15", "UNOW": text.UTF8, "UNOX": "", "UNOY": text.UTF8,
}

// begin reads UNA, if it is there, and UNB.
func begin(b []byte) (s segments.Syntax, problem string) {
	s = usual
	rest := b
	if bytes.HasPrefix(b, []byte("UNA")) {
		if len(b) < 9 {
			return s, "the service string advice UNA is followed by six characters"
		}
		s = segments.Syntax{Component: b[3], Element: b[4], Decimal: b[5], Release: b[6], Repetition: b[7], Terminator: b[8], Size: 9}
		if s.Release == ' ' {
			s.Release = 0
		}
		rest = bytes.TrimLeft(b[9:], "\r\n ")
	} else if len(b) > 3 && b[3] == levelB.Element {
		s = levelB
	}
	if bytes.HasPrefix(rest, []byte("UIB")) {
		return s, "this is an interactive interchange (UIB, ISO 9735-3): those are not read"
	}
	if len(rest) < 9 || string(rest[:3]) != "UNB" || rest[3] != s.Element {
		return s, fmt.Sprintf("an interchange begins with UNB and %q", s.Element)
	}
	identifier := string(rest[4:8])
	set, known := repertoires[identifier]
	if !known {
		return s, fmt.Sprintf("UNB names the repertoire %q, which is none of UNOA to UNOL, UNOW, UNOX and UNOY", identifier)
	}
	s.Set, s.Narrow, s.Extends = set, identifier == "UNOA", identifier == "UNOX"
	if rest[8] != s.Component || len(rest) < 10 || rest[9] < '4' { // before version 4 nothing repeats
		s.Repetition = 0
	} else if s.Repetition == ' ' { // the advice says that nothing does
		s.Repetition = 0
	}
	all := []byte{s.Element, s.Component, s.Terminator}
	for _, c := range []byte{s.Release, s.Repetition} {
		if c != 0 {
			all = append(all, c)
		}
	}
	for i, c := range all {
		if c >= 0x80 || c >= '0' && c <= '9' || c >= 'A' && c <= 'Z' || c >= 'a' && c <= 'z' || c == ' ' {
			return s, fmt.Sprintf("%q cannot be a separator", c)
		}
		if slices.Contains(all[:i], c) {
			return s, fmt.Sprintf("%q separates two things", c)
		}
	}
	return s, ""
}

// form checks a text against an elementary type (ISO 9735-1, 10).
func form(kind, s string) string {
	if kind != "n" {
		return ""
	}
	digits, marks := 0, 0
	for i := range len(s) {
		switch c := s[i]; {
		case c-'0' <= 9:
			digits++
		case c == '.' || c == ',':
			marks++
		case c == '-' && i == 0:
		default:
			marks = 2
		}
	}
	if digits == 0 || marks > 1 {
		return "a number is digits, with a decimal mark and a minus where needed"
	}
	return ""
}

//go:embed descriptions/*.txt
var files embed.FS

// Directories are those that there are descriptions of. D.3 is what CONTRL says in UNH-2.
var Directories = standard.NewCatalog(files, "descriptions", "D.96A", "D.01B", "D.3")

// name says which directory and which type a message is of: UNH-2.
func name(_ [][]byte, head []byte, s segments.Syntax) (directory, kind string) {
	_, elements, _ := strings.Cut(string(head), string(s.Element))
	_, elements, is := strings.Cut(elements, string(s.Element))
	if !is {
		return "", ""
	}
	of, _, _ := strings.Cut(elements, string(s.Element))
	kind, of, _ = strings.Cut(of, string(s.Component))
	version, of, _ := strings.Cut(of, string(s.Component))
	release, _, _ := strings.Cut(of, string(s.Component))
	return version + "." + release, kind
}

// nearest is the directory next to one that is not described, of D.93A to D.99B and of those since D.00A.
func nearest(directory string) string {
	if len(directory) != 5 || directory[1] != '.' || directory[0] != 'D' && directory[0] != 'S' || strings.Trim(directory[2:4], "0123456789") != "" {
		return ""
	}
	if of := directory[2:]; of >= "90" || of < "01B" {
		return "D.96A"
	}
	return "D.01B"
}

// near is the directory next to one that is used between ports and is not described.
func near(directory, kind string) string {
	switch kind {
	case "BAPLIE", "CODECO", "COARRI", "COPARN":
		return map[string]string{"D.95B": "D.96A", "D.00B": "D.01B", "D.02B": "D.01B"}[directory]
	}
	return ""
}
