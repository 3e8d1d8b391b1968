package standard

import (
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"sync"
)

// Shelf has the books of a standard, each of which is read when it is first asked for.
type Shelf struct {
	Versions []string
	files    fs.FS
	books    sync.Map // of version: func() *Book
}

// NewShelf puts up the versions that the files in a folder tell of.
func NewShelf(files fs.FS, folder string, versions ...string) *Shelf {
	in, err := fs.Sub(files, folder)
	if err != nil {
		panic(err) // the folder's name is none
	}
	return &Shelf{Versions: versions, files: in}
}

// Own reads a description of one's own, in the format of the files. Its tables have all codes that
// there may be. An error is the first mistake in it.
func Own(text string) (*Shelf, error) {
	text = strings.ReplaceAll(text, "\r\n", "\n")
	var all []block
	s := &Shelf{}
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
		book.Closed = true
		if err := book.Check(); err != nil {
			return nil, fmt.Errorf("%s %w", v, err)
		}
		for _, name := range book.Names("structure") {
			described++
			for i := range book.Structure(name).Nodes {
				if as := book.Structure(name).Nodes[i].As; as != "" && book.Segment(as) == nil {
					return nil, fmt.Errorf("%s structure %s: there is no segment %s", v, name, as)
				}
			}
		}
		s.books.Store(v, func() *Book { return book })
	}
	if described == 0 {
		return nil, fmt.Errorf("it describes no structure of a message")
	}
	return s, nil
}

// Book is that of a version; nil if there is none.
func (s *Shelf) Book(version string) *Book {
	if !slices.Contains(s.Versions, version) {
		return nil
	}
	b, ok := s.books.Load(version)
	if !ok {
		b, _ = s.books.LoadOrStore(version, sync.OnceValue(func() *Book {
			b, err := Read(s.files, version)
			if err != nil {
				panic(err) // a test reads them all
			}
			return b
		}))
	}
	return b.(func() *Book)()
}

// Check reads all books and says what does not hold together: mistakes in the files, groups that
// cannot be reached, elements whose type is neither described nor one of the elementary
// ones (nil: any may be), tables that are not there. It is for tests.
func (s *Shelf) Check(elementary []string) (wrong []string) {
	if told, err := Versions(s.files); err != nil || !slices.Equal(told, slices.Sorted(slices.Values(s.Versions))) {
		wrong = append(wrong, fmt.Sprintf("the files tell of %v: %v", told, err))
	}
	for _, v := range s.Versions {
		b := s.Book(v)
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
