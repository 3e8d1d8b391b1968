// Package x12 reads ASC X12 interchanges (X12.5, X12.6): several in a file, functional groups,
// transaction sets, with the control numbers and counts of all envelopes.
package x12

import (
	"bytes"
	"embed"
	"fmt"
	"maps"
	"slices"
	"strings"

	"ydrion/core/segments"
	"ydrion/core/standard"
	"ydrion/core/value"
)

// Rules are those of X12.
var Rules = &segments.Rules{
	Name: "x12", Title: "X12", Makes: "X12 transaction sets in interchanges", Example: "PO1-2", Nothing: "no transaction set (ST) stands in its interchanges",
	Head: "ST", Tail: "SE", HeadNumber: 2, HeadDigits: 4,
	Usual:      segments.Syntax{Element: '*', Component: '>', Repetition: '^', Terminator: '~'},
	Levels:     []segments.Level{{Open: "ISA", Close: "IEA", Number: 13}, {Open: "GS", Close: "GE", Number: 6}},
	Alone:      []string{"TA1"},
	Binary:     map[string]int{"BIN": 1, "BDS": 2},
	Widths:     map[string][]int{"ISA": {2, 10, 2, 10, 2, 15, 2, 15, 6, 4, 1, 5, 9, 1, 1, 1}},
	Separating: map[string][]int{"ISA": {11, 16}},
	Begin:      begin,
	Parties:    [2]int{5, 8}, Grouped: true, Partly: true, Opening: opening, Fits: fits, Dates: dates, Dated: slices.Collect(maps.Keys(dated)),
	Names:   name,
	Catalog: Releases, Nearest: nearest,
	Form: form,
	// HL segments are levels, up to the totals.
	Hierarchy: "HL", Nested: []segments.Nesting{{Segment: "HL", Above: 2, Component: 1}}, Last: "CTT", Note: "NTE",
}

// separators are where the element separator stands in the ISA segment, whose elements have
// fixed lengths (X12.5).
var separators = []int{3, 6, 17, 20, 31, 34, 50, 53, 69, 76, 81, 83, 89, 99, 101, 103}

// begin reads the ISA segment: 106 characters of which three say what separates.
func begin(b []byte) (s segments.Syntax, problem string) {
	if len(b) < 106 || string(b[:3]) != "ISA" {
		return s, "an interchange begins with an ISA segment of 106 characters, which is not here"
	}
	s = segments.Syntax{Element: b[3], Component: b[104], Terminator: b[105], Decimal: '.'}
	for i, at := range separators {
		if b[at] != s.Element {
			return s, fmt.Sprintf("the element separator %q should stand at character %d of the ISA segment, before element %d: its elements have fixed lengths", s.Element, at+1, i+1)
		}
	}
	// The repetition separator stands where versions before 00402 name a standard: U.
	if r := b[82]; string(b[84:89]) >= "00402" && !alphanumeric(r) && r != ' ' {
		s.Repetition = r
	}
	all := []byte{s.Element, s.Component, s.Terminator}
	if s.Repetition != 0 {
		all = append(all, s.Repetition)
	}
	for i, c := range all {
		if alphanumeric(c) || c >= 0x80 || c == ' ' {
			return s, fmt.Sprintf("%q cannot be a separator", c)
		}
		if slices.Contains(all[:i], c) {
			return s, fmt.Sprintf("%q separates two things", c)
		}
	}
	return s, ""
}

func alphanumeric(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'A' && c <= 'Z' || c >= 'a' && c <= 'z'
}

// form checks a text against an elementary type (X12.6, 3.5).
func form(kind, s string) string {
	implied := byte(0) // decimals
	if len(kind) == 2 && kind[0] == 'N' {
		implied, kind = kind[1], "N"
	}
	switch kind {
	case "N", "DT", "TM":
		digits := s
		if kind == "N" {
			digits = strings.TrimPrefix(s, "-")
		}
		switch right := digits != "" && value.OnlyDigits(digits); {
		case right:
		case implied > '0':
			return fmt.Sprintf("it is digits, of which the last %c stand behind the decimal point, unwritten", implied)
		default:
			return "it is digits"
		}
		switch {
		case kind == "DT" && !isDate(s):
			return "there is no such day"
		case kind == "TM" && len(s) >= 2 && (s[:2] > "23" || len(s) >= 4 && s[2:4] > "59" || len(s) >= 6 && s[4:6] > "59"):
			return "there is no such time"
		}
	case "R":
		digits, exponent, scaled := strings.Cut(strings.TrimPrefix(s, "-"), "E")
		whole, part, _ := strings.Cut(digits, ".")
		if whole+part == "" || !value.OnlyDigits(whole) || !value.OnlyDigits(part) || scaled && !value.OnlyDigits(strings.TrimPrefix(exponent, "-")) {
			return "a number is digits, with a point and a minus where needed"
		}
	}
	return ""
}

// isDate tells whether digits, yyMMdd or yyyyMMdd, are a day. Other lengths are not judged here.
func isDate(s string) bool {
	switch len(s) {
	case 6:
		return value.IsDate("20" + s)
	case 8:
		return value.IsDate(s)
	}
	return true
}

//go:embed descriptions/*.txt
var files embed.FS

// Releases are those that there are descriptions of.
var Releases = standard.NewCatalog(files, "descriptions", "004010", "005010")

// nearest is the release next to one that is not described.
func nearest(release string) string {
	if len(release) != 6 || strings.Trim(release, "0123456789") != "" {
		return ""
	}
	found := Releases.Versions[0]
	for _, known := range Releases.Versions {
		if known <= release {
			found = known
		}
	}
	return found
}

// name says which release and which set a transaction set is of: GS-8 and ST-1.
func name(around [][]byte, head []byte, s segments.Syntax) (release, set string) {
	for _, segment := range around {
		if name, _ := element(segment, 0, s.Element); string(name) == "GS" {
			if of, is := element(segment, 8, s.Element); is {
				release = string(of)
			}
		}
	}
	of, _ := element(head, 1, s.Element)
	set = string(of)
	if guides := guides[set]; guides != nil { // which it is stands in ST-3, or in GS-8 before 005010
		implementation := release
		if of, is := element(head, 3, s.Element); is {
			implementation = string(of)
		}
		for guide, kind := range guides {
			if strings.Contains(implementation, guide) {
				set += kind
			}
		}
	}
	return release[:min(6, len(release))], set
}

// element is the nth of a segment, if it has so many; its name is that before the first.
func element(segment []byte, n int, by byte) (_ []byte, is bool) {
	for ; n > 0; n-- {
		if _, segment, is = bytes.Cut(segment, []byte{by}); !is {
			return nil, false
		}
	}
	segment, _, _ = bytes.Cut(segment, []byte{by})
	return segment, true
}

// guides are kinds of one set by the numbers of their implementation guides: claims, and the answers to
// claims that are a kind of status of their own.
var guides = map[string]map[string]string{
	"837": {"X222": "P", "X098": "P", "X223": "I", "X096": "I", "X224": "D", "X097": "D"},
	"277": {"X214": "A"},
}
