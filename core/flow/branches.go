package flow

import (
	"fmt"
	"slices"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/format"
	"ydrion/core/lang"
)

// Branch is one way of records through a route: which of them take it, what is made of them, and where that
// goes. A record may take several. If what must be made of it in one of them cannot be made, nothing is made
// of it in any.
type Branch struct {
	Name      string     // empty: the route's only one
	When      *lang.Test // nil: every record takes it
	Otherwise bool       // records take it that take no other
	Skip      string     // they are left out, for this reason
	Program   *lang.Program
	Explains  func() *lang.Program // the same, as one that says what it does; nil: there is none
	Target    format.Target
	Makes     string // the target's format
	Plain     bool   // values leave the format they came in
	After     []byte // follows every written record
	// Validating tells where what was made of a record of a batch differs from its description, so that it is rejected, and where that is
	// only told; "" if nowhere. It is nil where nobody wants to know.
	Validating func(from format.Reader, b *batch.Batch) func(record int, made []byte) (refused, told string)
	Outputs    []Output
	Separate   bool           // one output for each record
	By         *lang.Template // one output for each of its values
	Records    int            // one output for each so many records; 0: it does not say
	Bytes      int64          // one output for each so many bytes, a record at least; 0: it does not say
}

// Late tells whether outputs are named when they have been written.
func (p *Branch) Late() bool {
	return slices.ContainsFunc(p.Outputs, func(o Output) bool { return o.Late })
}

// Named tells whether outputs are named by each record.
func (p *Branch) Named() bool { return p.Separate || p.By != nil }

// Several tells whether records become outputs of so many each.
func (p *Branch) Several() bool { return p.Records > 0 || p.Bytes > 0 }

// Numbered tells whether each output has a number of the route's sequence: in what stands around its records,
// or in its name.
func (p *Branch) Numbered() bool {
	return p.Program != nil && p.Program.Numbered() || !p.Separate && slices.ContainsFunc(p.Outputs, func(o Output) bool { return o.Name != nil && o.Name.Sequence })
}

// Output is where what records become goes to: its name, and whether it goes
// there at all.
type Output struct {
	Name *lang.Template
	Said []Saying   // what goes with it
	When *lang.Test // nil: always
	// Otherwise takes what no other output takes.
	Otherwise bool
	// Late: it is named when it has been written, by its first record and by what is in it.
	Late bool
}

// Names adds the names of all outputs for a record (or, without a batch, for the whole file); that of an
// output is empty if nothing of it goes there. The problem says why there are none.
func (p *Branch) Names(e *lang.Env, b *batch.Batch, record int, names []string) (_ []string, problem string) {
	from, none := len(names), true
	for k := range p.Outputs {
		name := ""
		if o := &p.Outputs[k]; problem == "" && !o.Otherwise {
			name, problem = o.name(e, b, record)
		}
		none = none && name == ""
		names = append(names, name)
	}
	for k := range p.Outputs {
		if o := &p.Outputs[k]; o.Otherwise && none && problem == "" {
			names[from+k], problem = o.name(e, b, record)
		}
	}
	if problem == "" && !slices.ContainsFunc(names[from:], func(n string) bool { return n != "" }) {
		problem = NowhereTo
	}
	return names, problem
}

// name makes an output's name; it is empty if nothing goes there.
func (o *Output) name(e *lang.Env, b *batch.Batch, record int) (name, problem string) {
	if o.When != nil {
		if holds, problem := o.When.Holds(e, b, record); problem != "" || !holds {
			return "", problem
		}
	}
	if o.Late {
		return Unnamed, ""
	}
	return o.made(e, b, record)
}

// Unnamed is the name of outputs that are named when they have been written.
const Unnamed = "..."

// NowhereTo is why a record or file is rejected that no output is for.
const NowhereTo = "none of the route's destinations takes it: no condition (when) holds"

// branchRule is the rule of a batch note about the choice of branches.
const branchRule = -100

// noBranch is why a record is rejected that no branch is for.
const noBranch = "none of the route's branches takes it: no condition (when) holds; a branch with `when: otherwise` would take it"

// divide finds the branches that each record takes, and the output there, where those are told apart by a value.
func (r *run) divide(b *batch.Batch, w *worker) {
	conditional := false
	for k := range r.plan.Branches {
		p := &r.plan.Branches[k]
		conditional = conditional || p.When != nil || p.Otherwise
		if p.Plain && b.Plain == nil {
			if onward, is := r.opened.Reader.(format.Leaving); is {
				b.Plain = onward.Plain(b.Buf)
			}
		}
	}
	if conditional || len(r.plan.Branches) > 1 {
		r.choose(b, w)
	}
	for k := range r.plan.Branches {
		if r.plan.Branches[k].By != nil {
			r.tellApart(b, k, w)
		}
	}
}

// tellApart finds the values by which the outputs of records in a branch are told apart.
func (r *run) tellApart(b *batch.Batch, k int, w *worker) {
	m, by := &b.Branches[k], r.plan.Branches[k].By
	for i := range b.Records() {
		var v *batch.Value
		if b.In(k, i) {
			r.turnTo(b, i, w)
			key, problem := by.Append(w.key[:0], w.envs[k], b, i)
			if problem != "" {
				r.refuse(b, i, k, lang.NameRule, problem)
			} else {
				w.key = key
				if v = w.values[k][string(key)]; v == nil {
					v = &batch.Value{Key: string(key)}
					w.values[k][v.Key] = v
				}
			}
		}
		m.Values = append(m.Values, v)
	}
}

// choose finds out which branches take each record.
func (r *run) choose(b *batch.Batch, w *worker) {
	n := b.Records()
	for k := range b.Branches {
		m := &b.Branches[k]
		m.Taken = slices.Grow(m.Taken[:0], n)[:n]
		clear(m.Taken)
	}
	for i := range n {
		if b.Outcomes[i] != batch.Good {
			continue
		}
		r.turnTo(b, i, w)
		none, otherwise := true, false
		for k := range r.plan.Branches {
			p := &r.plan.Branches[k]
			if p.Otherwise {
				otherwise = true
				continue
			}
			holds, problem := p.When == nil, ""
			if p.When != nil {
				holds, problem = p.When.Holds(w.envs[k], b, i)
			}
			if problem != "" {
				r.refuse(b, i, k, branchRule, fmt.Sprintf("whether branch %q takes the record cannot be told: %s", p.Name, problem))
				none = false
				break
			}
			b.Branches[k].Taken[i] = holds
			none = none && !holds
		}
		switch {
		case !none:
		case otherwise:
			for k := range r.plan.Branches {
				b.Branches[k].Taken[i] = r.plan.Branches[k].Otherwise
			}
		default:
			r.refuse(b, i, 0, branchRule, noBranch)
		}
	}
}

// refuse rejects a record, because of a branch.
func (r *run) refuse(b *batch.Batch, record, branch int, rule int32, why string) {
	b.Outcomes[record] = batch.Rejected
	b.Notes = append(b.Notes, batch.Note{Record: int32(record), Slot: -1, Rule: rule, Source: batch.Map, Branch: int32(branch), Text: why})
}

// mostOutputs is how many outputs the records of a file are told apart into by a value.
const mostOutputs = 250_000

// Unfinished is an output that cannot be written to its end: the file has to be rejected whole.
type Unfinished struct{ finding.Finding }

func (u *Unfinished) Error() string { return u.Message }

// number gives outputs their numbers in the order in which they begin: that of all records of a branch, and
// those of values that have not come before.
func (r *run) number(b *batch.Batch) error {
	for k := range r.plan.Branches {
		p := &r.plan.Branches[k]
		var err error
		switch {
		case p.By != nil:
			err = r.numberValues(b, k)
		case p.Separate || p.Several() || p.Program == nil:
		default:
			err = r.numberAll(b, k)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// numberAll gives the output of all records of a branch its number, when the first has come.
func (r *run) numberAll(b *batch.Batch, k int) (err error) {
	p, number := &r.plan.Branches[k], &r.numbers[k]
	if *number == 0 && slices.ContainsFunc(b.Outcomes, func(w batch.Outcome) bool { return w == batch.Good }) {
		any := false
		for i := 0; i < b.Records() && !any; i++ {
			any = b.In(k, i)
		}
		if !any {
			return nil
		}
		*number = 1
		if r.inputs.Sequence != nil && p.Numbered() {
			if *number, err = r.inputs.Sequence(1); err != nil {
				return err
			}
			if _, _, problem := p.Program.Surround(r.inputs.Facts, *number, 0); problem != nil {
				return &Unfinished{*problem}
			}
		}
	}
	b.Branches[k].Number = *number
	return nil
}

// numberValues gives each value that has not come before a number of its own, if outputs have one.
func (r *run) numberValues(b *batch.Batch, k int) error {
	p, m := &r.plan.Branches[k], &b.Branches[k]
	if r.values[k] == nil {
		r.values[k] = map[string]*batch.Value{}
	}
	values := r.values[k]
	var fresh []*batch.Value
	for i, v := range m.Values {
		if v == nil || v.ID > 0 || !b.In(k, i) {
			continue
		}
		known := values[v.Key] // to another worker
		switch {
		case known == nil && len(values) >= mostOutputs:
			r.refuse(b, i, k, lang.NameRule, fmt.Sprintf("there are more than %d different values by which outputs are told apart", mostOutputs))
			continue
		case known == nil:
			known = &batch.Value{ID: len(values) + 1}
			values[v.Key] = known
			fresh = append(fresh, known)
		}
		v.ID = known.ID
	}
	if !p.Numbered() {
		return nil
	}
	if len(fresh) > 0 {
		first := fresh[0].ID
		next := int64(first)
		if r.inputs.Sequence != nil {
			var err error
			if next, err = r.inputs.Sequence(len(fresh)); err != nil {
				return err
			}
		}
		for _, v := range fresh {
			v.Number = next + int64(v.ID-first)
		}
	}
	for _, v := range m.Values { // also those that came to another worker first: their output may begin here
		if v != nil && v.ID > 0 && v.Number == 0 {
			v.Number = values[v.Key].Number
		}
	}
	return nil
}

// finish is what comes after a batch's turn: mapping and writing.
func (r *run) finish(b *batch.Batch, w *worker) (err error) {
	defer defect(&err, "mapping records")
	for k := range b.Branches {
		if m := &b.Branches[k]; cap(m.Out) == 0 && r.plan.Branches[k].Program != nil {
			m.Out = make([]byte, 0, 5*batch.Size/len(b.Branches))
		}
		if p := &r.plan.Branches[k]; p.Validating != nil {
			w.validate[k] = p.Validating(r.opened.Reader, b)
		}
		if p := r.plan.Branches[k].Program; p != nil {
			p.Begin(w.envs[k], b)
		}
	}
	for i := range b.Records() {
		if b.Outcomes[i] == batch.Good && !r.plan.Checked {
			r.write(b, i, w)
		}
		for k := range b.Branches {
			p, m := &r.plan.Branches[k], &b.Branches[k]
			m.Ends = append(m.Ends, uint32(len(m.Out)))
			if n := len(p.Outputs) * (i + 1); w.byRecord[k] && len(m.Names) < n {
				m.Names = append(m.Names, make([]string, n-len(m.Names))...)
			}
			if len(m.Pieces) <= i {
				m.Pieces = append(m.Pieces, 0)
			}
			m.Parts += int64(m.Pieces[i])
			if n := len(r.byFirst[k]); n > 0 {
				if b.Outcomes[i] == batch.Good && b.In(k, i) {
					r.sayByFirst(b, i, k, w)
				}
				m.Said = append(m.Said, make([]uint64, n*(i+1)-len(m.Said))...)
			}
		}
	}
	return nil
}

// write makes of one good record what each branch makes of it, or nothing if that is not possible in one.
func (r *run) write(b *batch.Batch, i int, w *worker) {
	r.turnTo(b, i, w)
	made := 0
	var left *batch.Note // why it is left out
	for k := range r.plan.Branches {
		if !b.In(k, i) {
			continue
		}
		p, m := &r.plan.Branches[k], &b.Branches[k]
		begin := len(m.Out)
		var o *lang.Outcome
		out := m.Out
		if p.Skip == "" {
			out, o = p.Program.Run(w.envs[k], b, i, m.Out)
		} else {
			o = &lang.Outcome{What: batch.Filtered, Line: branchRule, Reason: p.Skip}
		}
		if p.Program != nil && o.What == batch.Good {
			p.Program.Empties(w.envs[k], func(line int32, problem string) {
				b.Notes = append(b.Notes, batch.Note{Record: int32(i), Slot: -1, Rule: line, Source: batch.Map, Branch: int32(k), Text: problem, Warn: true})
			})
		}
		if p.Validating != nil && o.What == batch.Good && len(out) > begin {
			refused, told := w.validate[k](i, out[begin:])
			if told != "" {
				b.Notes = append(b.Notes, batch.Note{Record: int32(i), Slot: -1, Rule: lang.DescriptionRule, Source: batch.Map, Branch: int32(k), Text: told, Warn: true})
			}
			if refused != "" {
				out, o = out[:begin], &lang.Outcome{What: batch.Rejected, Line: lang.DescriptionRule, Reason: refused}
			}
		}
		if p.Named() && o.What == batch.Good {
			if problem := r.name(b, i, k, w); problem != "" {
				if p.Name != "" {
					problem = fmt.Sprintf("branch %q: %s", p.Name, problem)
				}
				out, o = out[:begin], &lang.Outcome{What: batch.Rejected, Line: lang.NameRule, Reason: problem}
			}
		}
		m.Out = out
		if o.What != batch.Good {
			note := batch.Note{Record: int32(i), Slot: int32(o.Slot) - 1, Rule: o.Line, Source: batch.Map, Branch: int32(k), Text: o.Reason, Warn: o.What == batch.Filtered, Table: int32(o.Table), Row: int32(o.Row)}
			if o.What == batch.Filtered {
				if len(m.Taken) > 0 {
					m.Taken[i] = false
				}
				if left == nil {
					left = &note
				}
				continue
			}
			b.Outcomes[i] = batch.Rejected
			b.Notes = append(b.Notes, note)
			r.takeBack(b, i)
			return
		}
		if r.lines {
			m.Out = r.lineEnd(m.Out, begin, k)
		}
		made++
		m.Pieces = append(m.Pieces, uint32(o.Parts))
		m.Out = append(m.Out, p.After...)
	}
	r.named(b, i, w)
	if made == 0 {
		b.Outcomes[i] = batch.Filtered
		b.Notes = append(b.Notes, *left)
	}
}

// lineEnd ends a record that goes on as it came and may be the last of its file: those of another may follow it.
func (r *run) lineEnd(out []byte, begin, k int) []byte {
	if program := r.plan.Branches[k].Program; program == nil || !program.AsCame() || len(out) == begin {
		return out
	}
	return append(out[:begin], r.opened.Reader.(format.Ending).Ended(out[begin:])...)
}

// name names a record's outputs. Records with one value go into one, which the first of them names: those
// behind it do not, unless destinations have conditions.
func (r *run) name(b *batch.Batch, i, k int, w *worker) (problem string) {
	p, m, e := &r.plan.Branches[k], &b.Branches[k], w.envs[k]
	if p.By == nil {
		m.Names, problem = p.Names(e, b, i, m.Names)
		return problem
	}
	v := m.Values[i]
	if v.Names != nil {
		return ""
	}
	e.Number = v.Number
	if w.byRecord[k] {
		m.Names, problem = p.Names(e, b, i, m.Names)
	} else {
		w.named[k], problem = p.Names(e, b, i, w.named[k][:0])
	}
	e.Number = 0
	return problem
}

// named keeps the names that a record has given to the outputs of its values: something has been made of it.
func (r *run) named(b *batch.Batch, i int, w *worker) {
	for k := range b.Branches {
		m := &b.Branches[k]
		if r.plan.Branches[k].By == nil || w.byRecord[k] || m.Values[i] == nil || m.Values[i].Names != nil || !b.In(k, i) || len(m.Pieces) <= i || len(m.Out) == m.From(i) {
			continue
		}
		m.Values[i].Names = slices.Clone(w.named[k])
	}
}

// conditional tells whether not all outputs of a branch go to all its destinations.
func (p *Branch) conditional() bool {
	return slices.ContainsFunc(p.Outputs, func(o Output) bool { return o.When != nil || o.Otherwise })
}

// takeBack takes away what has been made of a record, the last one that was written.
func (r *run) takeBack(b *batch.Batch, i int) {
	for k := range b.Branches {
		m := &b.Branches[k]
		m.Out, m.Names, m.Pieces = m.Out[:m.From(i)], m.Names[:min(len(m.Names), i*len(r.plan.Branches[k].Outputs))], m.Pieces[:min(len(m.Pieces), i)]
	}
}
