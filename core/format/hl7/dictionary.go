package hl7

import (
	"embed"
	"slices"
	"strconv"
	"strings"

	"ydrion/core/segments"
	"ydrion/core/standard"
)

//go:embed dictionary/*.txt
var files embed.FS

// Versions are those that there is a dictionary of.
var Versions = standard.NewCatalog(files, "dictionary", "2.1", "2.2", "2.3", "2.3.1", "2.4", "2.5", "2.5.1", "2.6", "2.7", "2.7.1")

// Dictionary is what the standard says in a version, as MSH-12 says it; nil if that is not
// known. Of is the version that is told of: for 2.8 there is none, and 2.7.1 is taken.
func DictionaryOf(version string) (book *standard.Dictionary, of string) {
	of, _, _ = strings.Cut(version, "^")
	if of == "2.8" {
		of = "2.7.1"
	}
	return Versions.Version(of), of
}

// nearest is the version by whose groups messages are read that name one which nobody knows: the last before it; 2.5.1 where they name none.
func nearest(version string) string {
	number := func(version string) (n [3]int, is bool) {
		parts := strings.Split(strings.TrimSpace(version), ".")
		is = len(parts) <= len(n)
		for i := 0; i < len(parts) && is; i++ {
			var err error
			n[i], err = strconv.Atoi(parts[i])
			is = err == nil
		}
		return n, is
	}
	wanted, is := number(version)
	if !is {
		return "2.5.1"
	}
	found := Versions.Versions[0]
	for _, known := range Versions.Versions {
		if n, _ := number(known); slices.Compare(n[:], wanted[:]) <= 0 {
			found = known
		}
	}
	return found
}

// described finds what is said of messages of a kind: in descriptions of one's own, or in the standard.
func described(own []*standard.Catalog, by int, version, code, event, said string) (*standard.Dictionary, *standard.Structure) {
	before, behind := segments.Chosen(own, by)
	for _, of := range before {
		if book := of.Version(version); book != nil {
			return book, structure(book, code, event, said)
		}
	}
	if by >= 0 { // it has nothing on that version
		return nil, nil
	}
	standards, _ := DictionaryOf(version)
	is := structure(standards, code, event, said)
	for i := 0; i < len(behind) && is == nil; i++ {
		book := behind[i].Version(version)
		if found := structure(book, code, event, said); found != nil {
			return book, found
		}
	}
	return standards, is
}

// structure finds the structure of a message: by MSH-9.3 if that is said, else by its
// type and event.
func structure(b *standard.Dictionary, code, event, said string) *standard.Structure {
	if b == nil {
		return nil
	}
	for _, name := range []string{said, code + "_" + event, code} {
		if s := b.Structure(name); s != nil {
			return s
		}
	}
	return nil
}

// Meaning is what the standard calls a position, in the version that a message
// says; empty where that is not known.
func Meaning(position, version string) string {
	b, _ := DictionaryOf(version)
	if b == nil {
		return ""
	}
	p, err := parsePath(position)
	if err != nil || b.Segment(p.Segment) == nil {
		return ""
	}
	s := b.Segment(p.Segment)
	if p.Field == 0 {
		return s.Title
	}
	if p.Field > len(s.Elements) {
		return ""
	}
	e := s.Elements[p.Field-1]
	if p.Component == 0 {
		return e.Title
	}
	if t := b.Type(e.Type); t != nil && p.Component <= len(t.Elements) {
		return e.Title + ": " + t.Elements[p.Component-1].Title
	}
	return e.Title
}
