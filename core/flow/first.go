package flow

import (
	"fmt"
	"hash/maphash"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/lang"
)

// An output of several records is named by the first in it, and so is what goes with it. A record that would name it otherwise
// may be in the hands of somebody for whom it is not.

// byFirst lists what an output of several records says of the first of them: its name and what goes with it, where
// those come from what is in the record. With several files nothing does that comes from a file; and it is not known here which record
// is the first where outputs end by their size.
func (p *Branch) byFirst(files int) (texts []saidByFirst) {
	if p.Separate || p.Bytes > 0 || p.By != nil && p.conditional() {
		return nil
	}
	take := func(what string, t *lang.Template) {
		if t != nil && t.Fields && (!t.OfFile() || files == 1) {
			texts = append(texts, saidByFirst{what, t})
		}
	}
	for i := range p.Outputs {
		take("", p.Outputs[i].Name)
		for _, s := range p.Outputs[i].Said {
			take(s.What, s.Text)
		}
	}
	return texts
}

type saidByFirst struct {
	what string // empty: the name
	text *lang.Template
}

// first is what the first record of an output says of it.
type first struct {
	said   []uint64 // hashes
	record int64
	told   bool // that another says something else
}

// sayByFirst notes what a record, from which something was made, would say of its output.
func (r *run) sayByFirst(b *batch.Batch, record, branch int, w *worker) {
	m, e := &b.Branches[branch], w.envs[branch]
	e.Number = 1 // the sequence is that of the output
	for _, t := range r.byFirst[branch] {
		said, problem := t.text.Append(w.key[:0], e, b, record)
		if hash := uint64(0); problem == "" {
			w.key, hash = said, max(1, maphash.Bytes(r.seed, said))
			m.Said = append(m.Said, hash)
		} else {
			m.Said = append(m.Said, 0)
		}
	}
	e.Number = 0
}

// compareByFirst warns of the first record of each output that would say something else of it than the first in it. It is called in the
// order of the file.
func (r *run) compareByFirst(b *batch.Batch, branch int) {
	m, n := &b.Branches[branch], len(r.byFirst[branch])
	for i := range b.Records() {
		if b.Outcomes[i] != batch.Good || !b.In(branch, i) || !r.plan.Checked && len(m.Made(i)) == 0 {
			continue
		}
		output, p := 0, &r.plan.Branches[branch]
		switch {
		case p.By != nil && m.Values[i] == nil:
			continue
		case p.By != nil:
			output = m.Values[i].ID
		case p.Records > 0:
			output = r.made[branch] / p.Records
			r.made[branch]++
		}
		said := m.Said[i*n : (i+1)*n]
		f := r.firsts[branch][output]
		if f == nil {
			r.firsts[branch][output] = &first{said: append([]uint64(nil), said...), record: b.First + int64(i)}
			continue
		}
		for k := range said {
			if !f.told && said[k] != f.said[k] && said[k] != 0 && f.said[k] != 0 {
				f.told = true
				b.Notes = append(b.Notes, batch.Note{Record: int32(i), Slot: -1, Rule: firstRule, Source: batch.Map, Branch: int32(branch), Text: r.otherwise(b, i, branch, k, f.record), Warn: true})
			}
		}
	}
}

// otherwise says what a record would say of its output.
func (r *run) otherwise(b *batch.Batch, record, branch, k int, first int64) string {
	t, by := r.byFirst[branch][k], "the first record in it"
	if len(r.opened.files) == 1 {
		by = fmt.Sprintf("the first record in it, record %d", first)
	}
	said, would := "", "another"
	e := &lang.Env{Facts: r.facts(b.FileOf(record)), Reader: r.opened.Reader, Plain: r.plan.Branches[branch].Plain}
	if t.what == "" {
		said, _ = t.text.Text(e, b, record)
	} else {
		said, _ = t.text.Say(e, b, record)
	}
	if !t.text.Sequence && !t.text.Part { // else that is not known yet
		would = fmt.Sprintf("%q", finding.Shorten([]byte(said)))
	}
	if t.what == "" {
		return fmt.Sprintf("the output that the record goes into is named by %s; by this one its name would be %s", by, would)
	}
	return fmt.Sprintf("the %s of the output that the record goes into is that of %s; for this one it would be %s", t.what, by, would)
}

// firstRule is the rule of a batch note about a record that would say something else of its output than the first in it.
const firstRule = -101
