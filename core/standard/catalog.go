package standard

import (
	"cmp"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"
	"sync"

	"ydrion/core/finding"
	"ydrion/core/place"
)

// Catalog has the dictionaries of a standard, each of which is read when it is first asked for.
type Catalog struct {
	Versions []string
	files    fs.FS
	books    sync.Map // of version: func() *Book
}

// NewCatalog puts up the versions that the files in a folder tell of.
func NewCatalog(files fs.FS, folder string, versions ...string) *Catalog {
	in, err := fs.Sub(files, folder)
	if err != nil {
		panic(err) // the folder's name is none
	}
	return &Catalog{Versions: versions, files: in}
}

// Own reads a description of one's own, in the format of the files. Its tables have all codes that
// there may be. Where one of the bases has its version, it says only what differs from that; else it says
// everything. An error is the first mistake in it.
func Own(text string, bases ...*Catalog) (*Catalog, error) {
	text = strings.ReplaceAll(text, "\r\n", "\n")
	var all []block
	s := &Catalog{}
	err := blocksOf(text, func(b *block) error {
		all = append(all, *b)
		for v := range strings.SplitSeq(b.versions, ",") {
			if v != "" && !slices.Contains(s.Versions, v) {
				s.Versions = append(s.Versions, v)
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	slices.Sort(s.Versions)
	described := 0
	for _, v := range s.Versions {
		book := bookOf(v, all)
		own := slices.SortedFunc(maps.Values(book.entries), func(x, y *entry) int { return cmp.Or(cmp.Compare(x.kind, y.kind), cmp.Compare(x.name, y.name)) })
		book.Closed = true
		for _, base := range bases {
			if under := base.Version(v); under != nil {
				book.Closed = false
				book.add(under)
			}
		}
		for _, e := range own {
			if e.once.Do(e.read); e.err != nil {
				return nil, fmt.Errorf("%s %s %s: %w", v, e.kind, e.name, e.err)
			}
		}
		for _, e := range own {
			switch e.kind {
			case "table":
				e.table.Own = true
			case "structure":
				described++
				if err := book.holds(e.structure); err != nil {
					return nil, fmt.Errorf("%s structure %s: %w", v, e.name, err)
				}
			case "segment", "type":
				for _, element := range e.composite.Elements {
					if book.Type(element.Type) == nil && !elementary[element.Type] {
						return nil, fmt.Errorf("%s %s %s: there is no type %s", v, e.kind, e.name, element.Type)
					}
					if element.Table != "" && book.Table(element.Table) == nil {
						return nil, fmt.Errorf("%s %s %s: there is no table %s", v, e.kind, e.name, element.Table)
					}
				}
			}
			if !book.Closed && e.kind != "table" {
				described++
			}
		}
		s.books.Store(v, func() *Dictionary { return book })
	}
	if described == 0 {
		return nil, fmt.Errorf("it describes no structure of a message")
	}
	return s, nil
}

// add takes what another dictionary has and this one has not.
func (b *Dictionary) add(under *Dictionary) {
	for key, e := range under.entries {
		if b.entries[key] == nil {
			b.entries[key] = &entry{block: e.block, book: b}
		}
	}
}

// Load reads a description of one's own: in our text format, or a guideline whose file's name ends in
// .sef (known as in ReadSEF). of is the format that it says it is about, empty if it does not say.
func Load(file string, b []byte, known map[string]*Catalog, bases ...*Catalog) (catalog *Catalog, of string, out finding.List) {
	text := string(b)
	if strings.EqualFold(path.Ext(file), ".sef") {
		var g *Guideline
		if g, out = ReadSEF(file, b, known); g == nil {
			return nil, "", out
		}
		text, of = g.Text, g.Standard
	}
	catalog, err := Own(text, bases...)
	if err != nil {
		return nil, of, append(out, finding.New("description.syntax", place.InFile(file), "%v", err))
	}
	return catalog, of, out
}

// elementary are the types of X12.6 and ISO 9735 that consist of nothing.
var elementary = map[string]bool{"ID": true, "AN": true, "N": true, "N0": true, "N1": true, "N2": true, "N3": true, "N4": true, "N5": true, "N6": true, "N7": true, "N8": true, "N9": true, "R": true, "DT": true, "TM": true, "B": true, "an": true, "a": true, "n": true}

// holds tells why a structure is none that messages can be checked against.
func (b *Dictionary) holds(s *Structure) error {
	if len(s.Nodes) > 5_000 || len(s.Nodes)*len(s.known) > 300_000 {
		return fmt.Errorf("it is too large: %d places for %d kinds of segments", len(s.Nodes), len(s.known))
	}
	for i := range s.Nodes {
		n := &s.Nodes[i]
		if n.As != "" && b.Segment(n.As) == nil {
			return fmt.Errorf("there is no segment %s", n.As)
		}
		if i > 0 && n.Segments == nil && n.End == i+1 {
			return fmt.Errorf("the group %s is empty", n.Name)
		}
	}
	return nil
}

// Dictionary is that of a version; nil if there is none.
func (s *Catalog) Version(version string) *Dictionary {
	if !slices.Contains(s.Versions, version) {
		return nil
	}
	b, ok := s.books.Load(version)
	if !ok {
		b, _ = s.books.LoadOrStore(version, sync.OnceValue(func() *Dictionary {
			b, err := Read(s.files, version)
			if err != nil {
				panic(err) // a test reads them all
			}
			return b
		}))
	}
	return b.(func() *Dictionary)()
}

// Check reads all dictionaries and says what does not hold together: mistakes in the files, groups that
// cannot be reached, elements whose type is neither described nor one of the elementary
// ones (nil: any may be), tables that are not there. It is for tests.
func (s *Catalog) Check(elementary []string) (wrong []string) {
	if told, err := Versions(s.files); err != nil || !slices.Equal(told, slices.Sorted(slices.Values(s.Versions))) {
		wrong = append(wrong, fmt.Sprintf("the files tell of %v: %v", told, err))
	}
	for _, v := range s.Versions {
		b := s.Version(v)
		if err := b.Check(); err != nil {
			wrong = append(wrong, v+" "+err.Error())
			continue
		}
		for _, name := range b.Names("structure") {
			for _, unreached := range b.Structure(name).Walk() {
				wrong = append(wrong, v+" "+unreached)
			}
		}
		for _, kind := range []string{"segment", "type"} {
			for _, name := range b.Names(kind) {
				for _, e := range b.get(kind, name).composite.Elements {
					switch {
					case e.Title == "" || e.Type == "":
						wrong = append(wrong, fmt.Sprintf("%s %s: an element has no name or type", v, name))
					case elementary == nil:
					case b.Type(e.Type) == nil && !slices.Contains(elementary, e.Type):
						wrong = append(wrong, fmt.Sprintf("%s %s: there is no type %s", v, name, e.Type))
					case e.Table != "" && b.Table(e.Table) == nil:
						wrong = append(wrong, fmt.Sprintf("%s %s: there is no table %s", v, name, e.Table))
					}
				}
			}
		}
	}
	return wrong
}
