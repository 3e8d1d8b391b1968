package flow

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"hash/maphash"
	"io"
	"runtime"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/format"
	"ydrion/core/jsonschema"
	"ydrion/core/lang"
	"ydrion/core/mail"
	"ydrion/core/place"
	"ydrion/core/text"
)

// File is one that a run reads.
type File struct {
	Name, Folder, Event string     // as its facts say
	Mail                *mail.Head // that it was attached to; nil: to none
	Size                int64      // in bytes, if it is known
	Open                func() (io.ReadCloser, error)
}

// All is what became of the files of a run.
type All struct {
	Files []Result // in their order
	// Branches tells of how many records each branch has made something; empty where there is one.
	Branches []int64
	// Unfinished says why an output cannot be written to its end: none of the files can be good.
	Unfinished *finding.Finding
}

// Sum is what became of the records of all files.
func (a *All) Sum() (sum Balance) {
	for i := range a.Files {
		sum.Add(a.Files[i].Balance)
	}
	return sum
}

// String is how people read it. What is merged is told of where records are, and warnings where there are any.
func (b Balance) String() string {
	s := fmt.Sprintf("%d in = %d good + %d rejected + %d filtered", b.In, b.Good, b.Rejected, b.Filtered)
	if b.Merged > 0 {
		s += fmt.Sprintf(" + %d merged", b.Merged)
	}
	if b.Warnings > 0 {
		s += fmt.Sprintf(", %d warning", b.Warnings)
	}
	if b.Warnings > 1 {
		s += "s"
	}
	return s
}

// Records is how many records there were, of which each may be of several rows.
func (b Balance) Records() int64 { return b.In - b.Merged }

// Over tells whether more of the records were rejected than a share of them; below 0 it is any share.
func (b Balance) Over(tolerate float64) bool {
	return tolerate >= 0 && b.In > 0 && float64(b.Rejected) > tolerate*float64(b.Records())
}

// Add adds another balance.
func (b *Balance) Add(other Balance) {
	b.In, b.Good, b.Rejected, b.Filtered, b.Merged = b.In+other.In, b.Good+other.Good, b.Rejected+other.Rejected, b.Filtered+other.Filtered, b.Merged+other.Merged
	b.Warnings, b.Bytes = b.Warnings+other.Warnings, b.Bytes+other.Bytes
}

// RunAll reads files one after the other, each by itself: what is wrong with one keeps nothing of another from being
// good, and is in its own result. An error is one of the system or of the sink, or the context's.
func (p *Plan) RunAll(ctx context.Context, files []File, inputs Inputs, sink Sink) (All, error) {
	all := All{Files: make([]Result, len(files))}
	if n := len(p.Branches); n > 1 {
		all.Branches = make([]int64, n)
	}
	opened := &Opened{Plan: p, files: files, facts: inputs.Facts, sequence: inputs.Sequence}
	for i := range p.Branches {
		opened.Assemblies = append(opened.Assemblies, Assembly{opened: opened, branch: &p.Branches[i], index: i})
	}
	r := &run{plan: p, opened: opened, inputs: inputs, sink: sink, all: &all, next: 1, seen: p.Schema.NewSeen(), values: make([]map[string]*batch.Value, len(p.Branches)), numbers: make([]int64, len(p.Branches)), seed: maphash.MakeSeed()}
	for _, f := range files {
		if r.size += f.Size; f.Size == 0 {
			r.size = 0
			break
		}
	}
	for i := range p.Branches {
		r.byFirst, r.firsts = append(r.byFirst, p.Branches[i].byFirst(len(files))), append(r.firsts, map[int]*first{})
		r.made = append(r.made, 0)
		if program := p.Branches[i].Program; program != nil {
			if _, _, problem := program.Surround(inputs.Facts, 1, 0); problem != nil {
				all.Unfinished = problem
				return all, nil
			}
		}
	}
	read := r.inFileOrder
	if p.Order != nil {
		read = r.inOtherOrder
	}
	err := read(ctx)
	for i := range all.Files {
		all.Files[i].Warnings += all.Files[i].Findings.Warnings()
	}
	var unfinished *Unfinished
	if errors.As(err, &unfinished) {
		all.Unfinished, err = &unfinished.Finding, nil
	}
	return all, err
}

// inFileOrder works on the records of each file as they come.
func (r *run) inFileOrder(ctx context.Context) error {
	for k := range r.opened.files {
		if err := r.readFile(ctx, k); err != nil {
			return err
		}
	}
	return nil
}

// readFile reads one of the files, from its beginning to its end.
func (r *run) readFile(ctx context.Context, k int) (err error) {
	in, err := r.opened.files[k].Open()
	if err != nil {
		return err
	}
	defer in.Close()
	if entered, err := r.enter(k, in); err != nil || !entered {
		return err
	}
	if err := r.sink.Open(r.opened); err != nil {
		return err
	}
	r.holdAround()
	result := &r.all.Files[k]
	var said finding.List
	if err = r.batches(ctx, r.opened.files[k].Size); err == nil {
		said = r.reader.Finish(result.In)
	}
	return r.ended(k, err, said)
}

// enter opens a file, and tells whether its records can be read.
func (r *run) enter(k int, in io.Reader) (bool, error) {
	result, o := &r.all.Files[k], r.opened
	reader, decoded, findings, err := r.plan.Open(in)
	result.Findings, result.Unreadable = findings, true
	if err != nil || reader == nil {
		return false, err
	}
	r.recast = nil
	if r.lead != nil {
		if differs := r.differs(reader, decoded); differs != nil {
			differs.Place.File = o.files[k].Name
			result.Findings = append(result.Findings, *differs)
			if differs.Severity == finding.Error {
				return false, nil
			}
		}
	} else {
		r.lead, r.leads = reader, k
	}
	result.Unreadable = false
	if o.Reader == nil || r.plan.Order == nil {
		o.Reader, o.Charset, o.Mark = reader, decoded.Charset, decoded.Mark
	}
	o.around, o.laid, o.File, o.Member = surrounding{}, laid{}, k, decoded.Member
	r.reader, r.file, r.result = reader, k, result
	_, can := reader.(format.Ending)
	r.lines = can && len(o.files) > 1
	return true, nil
}

// differs tells in what a file is another than the first, if that matters.
func (r *run) differs(reader format.Reader, decoded *text.Decoded) *finding.Finding {
	lead := r.opened.files[r.leads].Name
	strict, charset := r.plan.Order != nil, r.plan.Order != nil
	for i := range r.plan.Branches {
		if program := r.plan.Branches[i].Program; program != nil && program.AsCame() {
			charset = true
			_, framed := program.Framer()
			strict = strict || framed
		}
	}
	const sortedOrAsCame = "the records of both go on together, sorted or as they came"
	if charset && decoded.Charset != r.opened.Charset {
		f := finding.New("collect.differs", place.Place{Line: 1, Column: 1}, "the file is %s, and %s, the first, is %s; %s", decoded.Charset, lead, r.opened.Charset, sortedOrAsCame)
		f = f.Suggest("have both written in the same character set, or give the route a map")
		return &f
	}
	alike, can := r.lead.(format.Alike)
	if !can {
		return nil
	}
	switch fields, form, order := alike.Differs(reader); {
	case order && r.plan.Order != nil: // they are put into that of the first
		r.recast = alike
	case strict && (fields != "" || form != ""):
		f := finding.New("collect.differs", place.Place{Line: 1, Column: 1}, "%s; that of %s, the first file, is another, and %s", cmp.Or(fields, form), lead, sortedOrAsCame)
		f = f.Suggest("have both written in the same way, or give the route a map and no shape")
		return &f
	case fields != "":
		f := finding.Warn("collect.differs", place.Place{Line: 1, Column: 1}, "%s; that of %s, the first file, is another", fields, lead)
		return &f
	}
	return nil
}

// batches takes the records of the reader through checks and maps.
func (r *run) batches(ctx context.Context, size int64) error {
	cores := r.inputs.Cores
	if cores <= 0 {
		cores = runtime.GOMAXPROCS(0)
	}
	if size > 0 && size <= 2*batch.Size {
		cores = 1
	}
	if cores == 1 {
		return r.alone(ctx)
	}
	return r.together(ctx, cores)
}

// holdAround has what stands around records checked against the plan's JSON Schema.
func (r *run) holdAround() {
	around, can := r.reader.(format.Around)
	if !can || r.plan.Document == nil {
		return
	}
	around.HoldAround(func(level int, value []byte, elements int, say func(format.Difference)) {
		r.plan.Document.Around(level, value, elements, func(v jsonschema.Violation) {
			say(format.Difference{Code: v.Code, Text: v.Text, Seen: v.Seen, Path: v.Path, At: v.At})
		})
	})
}

// ended says what became of a file whose records have been worked on, what ended that, and what the file says
// of itself.
func (r *run) ended(k int, err error, said finding.List) error {
	result := &r.all.Files[k]
	var broken *format.Broken
	if errors.As(err, &broken) {
		result.Broken = true
		result.In++ // what is left counts as one record
		result.Rejected++
		broken.Finding.Place.Record = r.next
		if r.plan.Order == nil {
			r.next++
		} else {
			broken.Finding.Place.Record = r.all.Sum().In
		}
		result.Findings = append(result.Findings, broken.Finding)
		err = r.sink.Broken(broken)
	}
	var damaged *text.Damaged
	if errors.As(err, &damaged) || errors.Is(err, text.ErrBomb) {
		result.Findings, result.Disagrees = append(result.Findings, damage(err)), true
		return nil
	}
	result.Findings = append(append(result.Findings, r.zones.Findings(k)...), r.unlisted.findings()...)
	if err == nil {
		result.Findings = append(result.Findings, said...)
		result.Disagrees = result.Disagrees || said.HasErrors()
	}
	return err
}

// facts are those of a file.
func (r *run) facts(k int) lang.Facts {
	return r.opened.factsOf(k)
}

func (o *Opened) factsOf(k int) lang.Facts {
	facts, f := o.facts, &o.files[k]
	facts.Name, facts.Folder, facts.Event, facts.Mail = f.Name, f.Folder, f.Event, f.Mail
	return facts
}
