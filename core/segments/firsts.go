package segments

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/place"
)

// Firsts counts how often there was more than one segment of a part, where a position without a number or a list takes the first: the others go
// nowhere, and nobody said that they should. Of each part a file's findings have one.
type Firsts struct {
	parts     []alone // nil: there is no such part
	positions []alone // of which the first repetition is taken
}

type alone struct {
	times atomic.Int64
	sync.Mutex
	first place.Place
}

// Watch begins to count for a file.
func (w *Wanted) Watch() *Firsts {
	a := &Firsts{positions: make([]alone, len(w.Positions))}
	for i := range w.Parts {
		if w.Parts[i].alone {
			a.parts = make([]alone, len(w.Parts))
		}
	}
	return a
}

// Another notes that a second segment of a part, of which the first is taken, stands at an offset of a batch, in a record or a row of it. It may be called
// for several batches at once.
func (a *Firsts) Another(part int, b *batch.Batch, record, at int) {
	if a != nil { // else nobody asks
		a.parts[part].note(b, record, at)
	}
}

// Repeated notes that a field has more than one repetition, of which a position, by its number, takes the first.
func (a *Firsts) Repeated(position int, b *batch.Batch, record, at int) {
	if a != nil {
		a.positions[position].note(b, record, at)
	}
}

func (one *alone) note(b *batch.Batch, record, at int) {
	one.times.Add(1)
	one.Lock()
	defer one.Unlock()
	if offset := b.Base + int64(at); one.first.Line == 0 || offset < one.first.Offset {
		one.first = b.Place(record, uint32(at))
	}
}

// Findings says of which parts segments were left, under a code.
func (a *Firsts) Findings(w *Wanted, code string) (out finding.List) {
	if a == nil {
		return nil
	}
	for i := range a.parts {
		if k := &w.Parts[i]; a.parts[i].times.Load() > 0 {
			part, named, verb := k.names(w)
			f := finding.Warn(code, a.parts[i].first, "%s stands more than once in %s, and %s %s of the first only", part, w.times(k, &a.parts[i]), strings.Join(named, ", "), verb)
			out = append(out, f.Suggest("say %s if the first is meant, choose one by a value, repeat over them, or make each a record", strings.Replace(named[0], part, part+"[1]", 1)))
		}
	}
	for i := range w.Parts {
		for _, n := range w.Parts[i].Wants {
			if n.Rows >= 0 || a.positions[n.Nth].times.Load() == 0 {
				continue
			}
			p := w.Positions[n.Nth]
			field, path := fmt.Sprintf("%s-%d", p.Part(), p.Field), p.String()
			f := finding.Warn(code, a.positions[n.Nth].first, "%s has more than one repetition in %s, and %s is of the first only", field, w.times(&w.Parts[i], &a.positions[n.Nth]), path)
			out = append(out, f.Suggest("say %s if the first is meant, choose one by a component (%s[5=MR]), or repeat over them", strings.Replace(path, field, field+"[1]", 1), field))
		}
	}
	slices.SortStableFunc(out, func(x, y finding.Finding) int { return int(x.Place.Offset - y.Place.Offset) })
	return out
}

// times says in how many records or rows something was noted of a part.
func (w *Wanted) times(k *Part, one *alone) string {
	n := one.times.Load()
	switch {
	case k.table >= 0 && n > 1:
		return fmt.Sprintf("%d rows of %s", n, w.Parts[w.lists[k.table].part].Name)
	case k.table >= 0:
		return "a row of " + w.Parts[w.lists[k.table].part].Name
	case n > 1:
		return fmt.Sprintf("%d records", n)
	}
	return "a record"
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
