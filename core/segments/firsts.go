package segments

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"sync"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/place"
	"ydrion/core/standard"
)

// Firsts counts what is left of several where a position takes one, and nobody has said that it should: it goes nowhere. Of each a file's findings have
// one. It may be told by several batches at once.
type Firsts struct {
	guard sync.Mutex
	left  [4]map[int]*alone // by the number of the part, or of the position
}

// Left says what is left.
type Left int

const (
	Segments    Left = iota // of a part, of which the first is taken
	Repetitions             // of a field, of which a position takes the first
	Components              // of a value that has none, behind the first
	Pieces                  // of a text that goes on in the next component
)

type alone struct {
	times int
	first place.Place
}

// Left notes that something is left, at an offset of a batch, in a record or a row of it: of a part or a position, by its number.
func (a *Firsts) Left(what Left, number int, b *batch.Batch, record, at int) {
	a.guard.Lock()
	defer a.guard.Unlock()
	a.left[what] = noted(a.left[what], number, b, record, at)
}

func noted(of map[int]*alone, number int, b *batch.Batch, record, at int) map[int]*alone {
	if of == nil {
		of = map[int]*alone{}
	}
	one := of[number]
	if one == nil {
		one = &alone{}
		of[number] = one
	}
	if one.times++; one.times == 1 || b.Base+int64(at) < one.first.Offset { // batches are looked at in any order
		one.first = b.Unnumbered(record, uint32(at))
	}
	return of
}

// Findings says of which parts segments were left, and of which values parts, each under a code.
func (a *Firsts) Findings(w *Wanted, code, cut string) (out finding.List) {
	for i := range w.Parts {
		k := &w.Parts[i]
		if one := a.left[Segments][i]; one != nil {
			part, named, verb := k.names(w)
			f := finding.Warn(code, one.first, "%s stands more than once in %s, and %s %s of the first only", part, w.times(k, one.times), strings.Join(named, ", "), verb)
			out = append(out, f.Suggest("say %s if the first is meant, choose one by a value, repeat over them, or make each a record", strings.Replace(named[0], part, part+"[1]", 1)))
		}
		for _, n := range k.Wants {
			if n.Rows < 0 {
				out = a.cutOff(&n, w, cut, out)
			}
			for i := range n.Wants {
				out = a.cutOff(&n.Wants[i], w, cut, out)
			}
			if one := a.left[Repetitions][n.Nth]; one != nil && n.Rows < 0 {
				p := w.Positions[n.Nth]
				field, path := fmt.Sprintf("%s-%d", p.Part(), p.Field), p.String()
				f := finding.Warn(code, one.first, "%s has more than one repetition in %s, and %s is of the first only", field, counted(one.times, "segment"), path)
				other := field + "[2]"
				if w.subs {
					other = "choose one by a component, " + field + "[5=MR]"
				}
				out = append(out, f.Suggest("say %s if the first is meant, or %s, or repeat over them", strings.Replace(path, field, field+"[1]", 1), other))
			}
		}
	}
	slices.SortStableFunc(out, func(x, y finding.Finding) int { return cmp.Compare(x.Place.Offset, y.Place.Offset) })
	return out
}

// cutOff adds what there is to say of a value of which parts were left.
func (a *Firsts) cutOff(n *Want, w *Wanted, code string, to finding.List) finding.List {
	p := w.Positions[n.Nth]
	path := p.String()
	if one := a.left[Pieces][n.Nth]; one != nil {
		p.Component = n.Component + 1
		next := p.String()
		p.Component = n.Component
		f := finding.Warn(code, one.first, "%s goes on in %s in %s, and nothing takes that", p.String(), next, counted(one.times, "value"))
		to = append(to, f.Suggest("take all pieces of the text: \"{%s}{%s}\"", p.String(), next))
	}
	one := a.left[Components][n.Nth]
	if one == nil {
		return to
	}
	has := "a value has a separator of components"
	if one.times > 1 {
		has = fmt.Sprintf("%d values have separators of components", one.times)
	}
	f := finding.Warn(code, one.first, "%s has no components by the standard, and %s: what stands behind goes nowhere", path, has)
	return append(to, f.Suggest("the sender must escape them, or write with other separators; or take the parts: %s.1, %s.2", path, path))
}

// Elementary remembers of which values a dictionary says that they have no components.
type Elementary struct {
	book  *standard.Dictionary
	known []answer // by the number of the position
}

type answer int8

const (
	unasked answer = iota
	yes
	no
)

// Is tells whether a value has none.
func (e *Elementary) Is(n *Want, w *Wanted, book *standard.Dictionary) bool {
	if book == nil {
		return false
	}
	if e.book != book || len(e.known) != len(w.Positions) {
		e.book, e.known = book, make([]answer, len(w.Positions))
	}
	if e.known[n.Nth] == unasked {
		e.known[n.Nth] = no
		if p := w.Positions[n.Nth]; elementary(&p, book.Segment(p.Segment)) {
			e.known[n.Nth] = yes
		}
	}
	return e.known[n.Nth] == yes
}

func elementary(p *Position, segment *standard.Composite) bool {
	if segment == nil || p.Field > len(segment.Elements) {
		return false
	}
	e := &segment.Elements[p.Field-1]
	if p.Component == 0 {
		return e.Parts() == 1
	}
	of := e.Of()
	return of != nil && p.Component <= len(of.Elements) && of.Elements[p.Component-1].Parts() == 1
}

// watched says what may stand behind a component that is taken: in how many others its text may go on, which have the same name and are not taken.
type watched uint8

const (
	unwatched watched = 0
	whole     watched = 255 // there are no components
)

// watched finds which values are, of messages that a dictionary describes.
func (w *Wanted) watched(book *standard.Dictionary, of []watched) []watched {
	clear(of)
	if book == nil {
		return of
	}
	each := func(segment *standard.Composite, wants []Want) {
		for i := range wants {
			n := &wants[i]
			if n.Rows >= 0 || segment == nil || n.Field > len(segment.Elements) {
				continue
			}
			e := &segment.Elements[n.Field-1]
			parts := e.Of()
			if n.Open == ToComponents && e.Parts() == 1 {
				of[n.Nth] = whole
				continue
			}
			for c := n.Component; parts != nil && c < len(parts.Elements) && alike(&parts.Elements[n.Component-1], &parts.Elements[c]) && !slices.ContainsFunc(wants, func(o Want) bool {
				return o.Field == n.Field && o.Occurrence == n.Occurrence && o.Repetition == n.Repetition && o.Component == c+1
			}); c++ {
				of[n.Nth]++
			}
		}
	}
	for i := range w.Parts {
		segment := book.Segment(w.Parts[i].Name)
		each(segment, w.Parts[i].Wants)
		for k := range w.Parts[i].Wants {
			each(segment, w.Parts[i].Wants[k].Wants)
		}
	}
	return of
}

// alike tells whether two components are called alike: they are pieces of one text.
func alike(x, y *standard.Element) bool {
	return x.Title == y.Title && x.Type == y.Type && x.Title != ""
}

// times says in how many records or rows there was more than one of a part.
func (w *Wanted) times(k *Part, n int) string {
	if k.table < 0 {
		return counted(n, "record")
	}
	return counted(n, "row") + " of " + w.Parts[w.lists[k.table].part].Name
}

func counted(n int, what string) string {
	if n == 1 {
		return "a " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// mostNamed is how many positions of a part are named in a finding.
const mostNamed = 4

// names are a part as it is written, and some of the positions that are taken of it.
func (k *Part) names(w *Wanted) (part string, positions []string, verb string) {
	for i := range k.Wants {
		if n := &k.Wants[i]; n.Rows < 0 && len(positions) < mostNamed {
			part, positions = w.Positions[n.Nth].Part(), append(positions, w.Positions[n.Nth].String())
		}
	}
	if verb = "is"; len(positions) > 1 {
		verb = "are"
	}
	return part, positions, verb
}
