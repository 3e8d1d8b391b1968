package segments

import (
	"fmt"
	"slices"

	"ydrion/core/finding"
	"ydrion/core/standard"
)

// Unknown says that no version of a standard knows a position, and what comes near; "" if one does,
// or if nothing is known of it. The newest version is asked first. Whole tells that the dictionaries have all
// segments of the standard.
func Unknown(p Position, catalog *standard.Catalog, whole bool) (problem, suggestion string) {
	most := -1 // elements of the segment
	for _, version := range slices.Backward(catalog.Versions) {
		known := catalog.Version(version).Segment(p.Segment)
		if known == nil {
			continue
		}
		if most = max(most, len(known.Elements)); p.Field == 0 || p.Field > len(known.Elements) {
			continue
		}
		e := &known.Elements[p.Field-1]
		wrong := lacks(p, e)
		if wrong == "" {
			return "", ""
		}
		if problem == "" {
			problem = wrong
		}
	}
	switch {
	case most < 0:
		var names []string
		for _, version := range catalog.Versions {
			names = append(names, catalog.Version(version).Names("segment")...)
		}
		if near := finding.Nearest(p.Segment, names); near != "" {
			suggestion = fmt.Sprintf("was %s meant?", near)
		} else if !whole { // the standard has more than is known of it
			return "", ""
		}
		if !whole {
			return fmt.Sprintf("no description here has a segment %s", p.Segment), suggestion
		}
		return fmt.Sprintf("there is no segment %s", p.Segment), suggestion
	case p.Field > most:
		return fmt.Sprintf("%s has %d fields", p.Segment, most), ""
	}
	return problem, ""
}

// lacks says which component or subcomponent of a position an element does not have, "" if it has it.
func lacks(p Position, e *standard.Element) string {
	at := Path(p.Segment, 1, p.Field, 1, 0, 0)
	if n := e.Parts(); n > 0 && p.Component > n {
		return fmt.Sprintf("%s (%s, type %s) has no component %d", at, e.Title, e.Type, p.Component)
	}
	if of := e.Of(); p.Sub > 1 && p.Component > 0 && of != nil {
		if c := &of.Elements[p.Component-1]; c.Parts() > 0 && p.Sub > c.Parts() {
			return fmt.Sprintf("%s.%d (%s, type %s) has no subcomponent %d", at, p.Component, c.Title, c.Type, p.Sub)
		}
	}
	return ""
}

// Belongs tells whether a segment can stand in what belongs to another one: behind it in its group, in the
// structure of some message. It is true, too, if no structure has the other one.
func Belongs(segment, to string, catalog *standard.Catalog) bool {
	known := false
	for _, version := range slices.Backward(catalog.Versions) {
		book := catalog.Version(version)
		for _, name := range book.Names("structure") {
			s := book.Structure(name)
			if !s.Knows(to) {
				continue
			}
			known = true
			if !s.Knows(segment) {
				continue
			}
			for i := range s.Nodes {
				if !slices.Contains(s.Nodes[i].Segments, to) {
					continue
				}
				for k := i; k < s.Nodes[s.Scope(i)].End; k++ {
					if slices.Contains(s.Nodes[k].Segments, segment) {
						return true
					}
				}
			}
		}
	}
	return !known
}
