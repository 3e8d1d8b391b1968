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
)

// Firsts counts how often there was more than one segment of a part, or repetition of a field, where a position without a number or a list takes the
// first: the others go nowhere, and nobody said that they should. Of each a file's findings have one. It may be told by several batches at once.
type Firsts struct {
	guard            sync.Mutex
	parts, positions map[int]*alone // by their numbers
}

type alone struct {
	times int
	first place.Place
}

// Another notes that a second segment of a part, of which the first is taken, stands at an offset of a batch, in a record or a row of it.
func (a *Firsts) Another(part int, b *batch.Batch, record, at int) {
	a.guard.Lock()
	defer a.guard.Unlock()
	a.parts = noted(a.parts, part, b, record, at)
}

// Repeated notes that a field has more than one repetition, of which a position, by its number, takes the first.
func (a *Firsts) Repeated(position int, b *batch.Batch, record, at int) {
	a.guard.Lock()
	defer a.guard.Unlock()
	a.positions = noted(a.positions, position, b, record, at)
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

// Findings says of which parts segments were left, under a code.
func (a *Firsts) Findings(w *Wanted, code string) (out finding.List) {
	for i := range w.Parts {
		k := &w.Parts[i]
		if one := a.parts[i]; one != nil {
			part, named, verb := k.names(w)
			f := finding.Warn(code, one.first, "%s stands more than once in %s, and %s %s of the first only", part, w.times(k, one.times), strings.Join(named, ", "), verb)
			out = append(out, f.Suggest("say %s if the first is meant, choose one by a value, repeat over them, or make each a record", strings.Replace(named[0], part, part+"[1]", 1)))
		}
		for _, n := range k.Wants {
			if one := a.positions[n.Nth]; one != nil && n.Rows < 0 {
				p := w.Positions[n.Nth]
				field, path := fmt.Sprintf("%s-%d", p.Part(), p.Field), p.String()
				f := finding.Warn(code, one.first, "%s has more than one repetition in %s, and %s is of the first only", field, counted(one.times, "segment"), path)
				out = append(out, f.Suggest("say %s if the first is meant, choose one by a component (%s[5=MR]), or repeat over them", strings.Replace(path, field, field+"[1]", 1), field))
			}
		}
	}
	slices.SortStableFunc(out, func(x, y finding.Finding) int { return cmp.Compare(x.Place.Offset, y.Place.Offset) })
	return out
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
