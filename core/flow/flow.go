// Package flow is a route's inside as one stream: read, check, map, write.
//
// A file is cut into batches one after the other; the batches are split,
// checked and mapped on all cores; they are given out in the order of the file.
// What depends on the order (record numbers, sequences, unique values) happens
// while a batch has its turn, between checking and mapping.
package flow

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"hash/maphash"
	"io"
	"regexp"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/format"
	"ydrion/core/jsonschema"
	"ydrion/core/lang"
	"ydrion/core/order"
	"ydrion/core/place"
	"ydrion/core/schema"
	"ydrion/core/text"
)

// Plan is a compiled route. It does not change; any number of runs may share
// it.
type Plan struct {
	Source   format.Bound // with the fields of the schema
	Charset  text.Charset
	Packing  text.Packing           // of files
	Member   func(name string) bool // which of an archive's is read; nil: its only one
	Schema   *schema.Schema
	Order    *Order // nil: that of the file
	Branches []Branch
	Unread   bool // files go on as they are: only their outputs are named
	Checked  bool // files go on as they came, if nothing is wrong with their records: nothing is made of those
	Sequence bool // what is made of a record, or its name, uses the route's sequence
	// Document, if there is one, is the JSON Schema that records are checked against, whole.
	Document *jsonschema.Schema
	// Against is what messages are validated against: the first of them whose condition holds for the first
	// record of a message.
	Against []Against
}

// Against is what messages are validated against.
type Against struct {
	When        *lang.Test // nil: always
	Description int        // by its number in what the source was given, format.ByStandard or format.ByNone
	As          format.Strictness
	Whole       bool        // what differs rejects all records of its message
	Except      []Exception // what counts otherwise; the first that fits does
}

// Strictness says what a difference does.
func (a *Against) Strictness(d format.Difference) format.Strictness {
	for i := range a.Except {
		if a.Except[i].Fits(d) {
			return a.Except[i].As
		}
	}
	return a.As
}

// Exception is a difference from a standard that counts otherwise than the others.
type Exception struct {
	Rule, At string // the code of its finding, and a position and all within it; empty: any
	As       format.Strictness
}

// Fits tells whether a difference is meant. Positions are compared without their repetitions.
func (e *Exception) Fits(d format.Difference) bool {
	if e.Rule != "" && e.Rule != d.Code {
		return false
	}
	path, at := repetition.ReplaceAllString(d.Path, ""), repetition.ReplaceAllString(e.At, "")
	rest, within := strings.CutPrefix(path, at)
	return within && (at == "" || rest == "" || strings.IndexByte("-.(", rest[0]) >= 0)
}

var repetition = regexp.MustCompile(`\[[0-9]+\]`)

// Inputs are what a run depends on besides the file. With the same inputs the
// same file gives the same outputs.
type Inputs struct {
	lang.Facts
	// Sequence hands out the first of n numbers. It is called in the order of
	// the file; nil numbers from 1.
	Sequence func(n int) (int64, error)
	// Cores bounds how many batches are worked on at once; 0 takes all.
	Cores int
	// Size is the length of the file in bytes, if it is known: a small file is
	// not worth several cores.
	Size int64
	// Spill makes room for records that do not fit into so many bytes of memory (0: order.Memory) while they are
	// put into order; nil: all do.
	Spill  func() (order.Spill, error)
	Memory int
	// Progress, if set, is told after each batch how much has been done.
	Progress func(Progress)
}

// Progress is how far a run has got.
type Progress struct {
	Balance
	Stage    Stage
	File     int     // that is read, from 1
	About    int64   // how many records there will have been, about; 0: that is not known yet
	Branches []int64 // of how many records each branch has made something, where there are several
}

// Stage is what a run does with the records of a file.
type Stage string

const (
	Ordering Stage = "ordering" // reads them, to put them into another order
	Working  Stage = "working"  // checks, maps and writes them
)

// Balance accounts for the records of a run: In = Good + Rejected + Filtered + Merged.
type Balance struct {
	In       int64 `json:"in"`
	Good     int64 `json:"good"`
	Rejected int64 `json:"rejected"`
	Filtered int64 `json:"filtered"`
	Merged   int64 `json:"merged" doc:"rows that went into a record with others, which counts once"`
	Warnings int64 `json:"warnings" doc:"about the file, and about its records that are not left out"`
	Bytes    int64 `json:"bytes" doc:"bytes of decoded text read"`
}

// Sink takes the batches of a run in the order of the file. A batch belongs to
// the sink only during the call.
type Sink interface {
	// Open is called for each file that can be read, unless their records are worked on in another order: then
	// it is called once.
	Open(o *Opened) error
	Batch(b *batch.Batch) error
	// Broken is called at most once for a file, behind its batches: what is left of one that cannot
	// be followed any further.
	Broken(b *format.Broken) error
}

// Opened is a file that is being read, of those of a run. Of files whose records stand in another order, it is the
// first.
type Opened struct {
	Plan    *Plan
	File    int // which of them, from 0
	Reader  format.Reader
	Charset text.Charset
	Mark    []byte // byte order mark
	Member  string // of the archive that the file is

	// Assemblies put the outputs of each branch together.
	Assemblies []Assembly

	files    []File
	facts    lang.Facts // of the run
	sequence func(n int) (int64, error)
	around   surrounding
	laid     laid
}

// Result is what became of a file.
type Result struct {
	Balance
	Findings   finding.List // about the file as a whole
	Unreadable bool         // nothing was read; the file has to be rejected whole
	Disagrees  bool         // what the file says about itself as a whole is not so: it has to be rejected whole
	Broken     bool         // the rest of the file was rejected as one piece
}

// Findings makes the findings of one record of a batch. Notes must be sorted,
// as they are when a sink gets the batch.
func (o *Opened) Findings(b *batch.Batch, record int) finding.List {
	var out finding.List
	for _, n := range notesOf(b, record) {
		f := o.describe(b, n)
		switch {
		case n.Table == 0 || n.Row < 0:
		case !o.Plan.Schema.Rows:
			o.row(b, n, &f)
		case n.Source == batch.Map: // rows of CSV are placed by their lines
			n.Slot = -1
			o.row(b, n, &f)
		}
		if len(o.files) > 1 {
			f.Place.File = o.files[b.FileOf(record)].Name
		}
		out = append(out, f)
	}
	return out
}

func (o *Opened) describe(b *batch.Batch, n batch.Note) finding.Finding {
	switch n.Source {
	case batch.Syntax:
		return o.Reader.Describe(b, n)
	case batch.Check:
		return o.Plan.Schema.Describe(b, n, o.Reader)
	case batch.Standard:
		return difference(b, n)
	}
	if n.Rule == firstRule {
		return finding.Warn("deliver.first", b.Place(int(n.Record), b.Bounds[n.Record].Off), "%s", n.Text).
			Suggest("let each value have an output of its own (`one file per`), or leave out what differs")
	}
	if n.Rule == branchRule {
		at := b.Place(int(n.Record), b.Bounds[n.Record].Off)
		if n.Warn {
			return finding.Warn("route.skip", at, "%s", n.Text)
		}
		return finding.New("route.branch", at, "%s", n.Text)
	}
	return o.Plan.Branches[n.Branch].Program.Describe(b, n, o.Reader)
}

// Run reads a whole file. An error is one of the system or of the sink, or the
// context's; whatever is wrong with the file is in the result.
func (p *Plan) Run(ctx context.Context, in io.Reader, inputs Inputs, sink Sink) (Result, error) {
	file := File{Name: inputs.Name, Folder: inputs.Folder, Event: inputs.Event, Size: inputs.Size, Open: func() (io.ReadCloser, error) { return Unclosed(in), nil }}
	all, err := p.RunAll(ctx, []File{file}, inputs, sink)
	result := all.Files[0]
	if all.Unfinished != nil {
		result.Findings, result.Disagrees = append(result.Findings, *all.Unfinished), true
	}
	return result, err
}

// Open reads what precedes the records of a file. The reader is nil if the file cannot be read as the
// route says; findings say why. An error is one of reading.
func (p *Plan) Open(in io.Reader) (format.Reader, *text.Decoded, finding.List, error) {
	decoded, packed, err := p.undo(in)
	if packed != nil {
		return nil, nil, finding.List{*packed}, nil
	}
	if err != nil {
		return nil, nil, nil, err
	}
	reader, findings, err := p.Source.Open(decoded)
	var damaged *text.Damaged
	if errors.As(err, &damaged) {
		reader, findings, err = nil, append(findings, damage(damaged)), nil
	}
	if decoded.Unsure != "" {
		f := finding.Warn("text.charset", place.Place{Line: 1, Column: 1}, "%s", decoded.Unsure)
		findings = append(finding.List{f}, findings...)
	}
	return reader, decoded, findings, err
}

// run is the state of one file on its way.
type run struct {
	plan   *Plan
	opened *Opened
	inputs Inputs
	sink   Sink
	all    *All
	result *Result // of the file that is read
	file   int
	reader format.Reader // of it
	lead   format.Reader // of the first that could be read, and
	leads  int           // which that is
	recast format.Alike  // it, if records of the file are put into its form
	lines  bool          // records that go on as they came need their line ends: there are several files
	texts  *ordered      // of the records, where they are put into another order

	expected int64 // records, where that is known
	size     int64 // bytes of all files, where that is known
	// Only touched by the batch whose turn it is.
	next     int64
	seen     *schema.Seen
	fail     error
	zones    lang.LostZones
	unlisted unlisted
	// By branch: the values that have come; and the number of the output of all, 0: none yet.
	values  []map[string]*batch.Value
	numbers []int64
	firsts  []map[int]*first // by the output: the ID of its value, 0 where all records go into one

	byFirst [][]saidByFirst // by branch
	made    []int           // and of how many records something has been made
	seed    maphash.Seed
}

// worker is what batches are worked on with, one after the other, and in the order of the file.
type worker struct {
	envs   []*lang.Env               // for each branch
	values []map[string]*batch.Value // that it has met in each
	key    []byte
	file   int // whose facts the environments have

	validate []func(record int, made []byte) (refused, told string) // by branch: those of the batch

	byRecord []bool     // by branch: each record names its outputs
	named    [][]string // by branch: what the record at hand calls the outputs of its value, if it is the first

	unchosen []unchosen // messages of the batch

	batch  *batch.Batch // that is checked, and
	record int          // in it
	met    []string     // members that are not listed
	meet   func(jsonschema.Unlisted)
}

func (r *run) worker() *worker {
	w := &worker{file: r.file, validate: make([]func(int, []byte) (string, string), len(r.plan.Branches))}
	w.meet = func(u jsonschema.Unlisted) { r.meet(w, u) }
	for i := range r.plan.Branches {
		w.envs = append(w.envs, &lang.Env{Facts: r.facts(r.file), Reader: r.opened.Reader, Plain: r.plan.Branches[i].Plain, Zones: &r.zones})
		w.values = append(w.values, map[string]*batch.Value{})
		p := &r.plan.Branches[i]
		w.byRecord, w.named = append(w.byRecord, p.Separate || p.By != nil && p.conditional()), append(w.named, nil)
	}
	return w
}

// turnTo lets a worker know the facts of the file that a record is of, where those of several stand in another order.
func (r *run) turnTo(b *batch.Batch, record int, w *worker) {
	if r.texts == nil || len(r.opened.files) == 1 {
		return
	}
	if k := b.FileOf(record); k != w.file {
		w.file = k
		for _, e := range w.envs {
			e.Facts = r.facts(k)
			e.Turn()
		}
	}
}

// batches keeps batches between runs: a small file should not pay for the
// memory of a large one.
var batches = sync.Pool{New: func() any { return &batch.Batch{Done: make(chan struct{}, 1)} }}

// put keeps a batch for another run, without what a large record has made of it.
func put(b *batch.Batch) {
	b.Reset()
	batches.Put(b)
}

// underWay is how many bytes of text are worked on at once, unless one batch alone has more: few
// large records must not take the memory of many.
const underWay = 32 << 20

// alone does everything in order on one core.
func (r *run) alone(ctx context.Context) error {
	b, w := batches.Get().(*batch.Batch), r.worker()
	defer put(b)
	b.Turn, b.Next = nil, nil
	for {
		b.Reset()
		more, cut := r.cut(b)
		if err := r.work(b, w); err != nil {
			return err
		}
		if err := r.emit(b); err != nil {
			return err
		}
		if cut != nil || !more {
			return cut
		}
		if err := ctx.Err(); err != nil {
			return err
		}
	}
}

// together cuts in one goroutine, works in several, and gives out in order.
func (r *run) together(ctx context.Context, cores int) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	ring := 2*cores + 1
	free, todo, order := make(chan *batch.Batch, ring), make(chan *batch.Batch, ring), make(chan *batch.Batch, ring)
	for range ring {
		free <- batches.Get().(*batch.Batch)
	}
	defer func() {
		for len(free) > 0 {
			put(<-free)
		}
	}()
	var workers sync.WaitGroup
	var failing sync.Once
	var workErr error
	for range cores {
		workers.Go(func() {
			w := r.worker()
			for b := range todo {
				if err := r.work(b, w); err != nil {
					failing.Do(func() { workErr = err })
					cancel()
				}
				b.Done <- struct{}{}
			}
		})
	}
	var cutErr error
	var busy atomic.Int64 // bytes of the batches that are under way
	workers.Go(func() {
		defer close(order)
		defer close(todo)
		turn := make(chan struct{})
		close(turn)
		for {
			var idle []*batch.Batch
			for len(idle) == 0 || busy.Load() > underWay && len(idle) < ring {
				select {
				case b := <-free:
					idle = append(idle, b)
				case <-ctx.Done():
					for _, b := range idle {
						free <- b
					}
					return
				}
			}
			b := idle[0]
			for _, other := range idle[1:] {
				free <- other
			}
			b.Reset()
			more, err := r.cut(b)
			busy.Add(int64(b.N))
			b.Turn, b.Next = turn, make(chan struct{})
			turn = b.Next
			todo <- b
			order <- b
			if err != nil || !more {
				cutErr = err
				return
			}
		}
	})
	var emitErr error
	for b := range order {
		<-b.Done
		if emitErr == nil && ctx.Err() == nil {
			if emitErr = r.emit(b); emitErr != nil {
				cancel()
			}
		}
		busy.Add(-int64(b.N))
		if b.N > underWay {
			b.Reset() // the next one may be larger still
		}
		free <- b
	}
	workers.Wait()
	switch {
	case emitErr != nil:
		return emitErr
	case workErr != nil:
		return workErr
	case cutErr != nil:
		return cutErr
	}
	return context.Cause(ctx)
}

// defect turns a panic into an error: a defect of this program must not end the
// service, and must not be met again by everything that comes after.
func defect(err *error, doing string) {
	if p := recover(); p != nil {
		*err = fmt.Errorf("a defect of this program, met while %s: %v\n%s", doing, p, debug.Stack())
	}
}

func (r *run) cut(b *batch.Batch) (more bool, err error) {
	defer defect(&err, "cutting records")
	if more, err = r.reader.Cut(b); r.texts != nil {
		r.texts.tell(b)
	}
	b.File = r.file
	return more, err
}

// work does all that can be done to a batch.
func (r *run) work(b *batch.Batch, w *worker) error {
	err := r.prepare(b, w)
	// The turn is taken in any case: others wait for theirs.
	if err := r.turn(b, err); err != nil {
		return err
	}
	return r.finish(b, w)
}

// prepare is what comes before a batch's turn: splitting and checking.
func (r *run) prepare(b *batch.Batch, w *worker) (err error) {
	defer defect(&err, "splitting and checking records")
	r.opened.Reader.Split(b)
	n := b.Records()
	if validator, can := r.opened.Reader.(format.Validator); can && len(r.plan.Against) > 0 {
		r.validate(b, validator, w)
	}
	b.Outcomes = slices.Grow(b.Outcomes, n)[:n]
	clear(b.Outcomes)
	for _, note := range b.Notes {
		if !note.Warn {
			b.Outcomes[note.Record] = batch.Rejected
		}
	}
	for _, u := range w.unchosen {
		u.refuse(b)
	}
	w.unchosen = w.unchosen[:0]
	// The fields of a record whose syntax is wrong are not what they seem.
	for i := range n {
		if b.Outcomes[i] == batch.Good && (!r.plan.Schema.Check(b, i, i > 0 && b.Outcomes[i-1] == batch.Good) || !r.fits(b, i, w)) {
			b.Outcomes[i] = batch.Rejected
		}
	}
	b.Divide(len(r.plan.Branches))
	r.divide(b, w)
	return nil
}

// fits checks a record against the plan's JSON Schema.
func (r *run) fits(b *batch.Batch, record int, w *worker) bool {
	if r.plan.Document == nil {
		return true
	}
	told, bounds := 0, b.Bounds[record]
	w.batch, w.record = b, record
	r.plan.Document.Check(b.Buf[bounds.Off:bounds.End], func(v jsonschema.Violation) {
		if told++; told <= mostRemarks {
			b.Notes = append(b.Notes, batch.Note{Record: int32(record), Slot: -1, Source: batch.Standard, At: bounds.Off + uint32(v.At), Text: v.Text, Detail: &batch.Detail{Code: v.Code, Path: v.Path, Seen: v.Seen}})
		}
	}, w.meet)
	return told == 0
}

// mostRemarks is how many differences of one record are told.
const mostRemarks = 20

// validate checks the messages of a batch against their standard. What is wrong within a record, or with
// what belongs to it alone, is wrong with that record; what is wrong with anything else in a message,
// or lacks, is wrong with all its records, as is everything if the route says so. A warning stands at the
// first.
func (r *run) validate(b *batch.Batch, validator format.Validator, w *worker) {
	divider, divides := r.opened.Reader.(format.Divider)
	var own []stretch // of the message of
	of, first, last := -1, 0, 0
	told, refused := map[int]int{}, map[int]bool{}
	by := &Against{}
	validator.ValidateAll(b, func(whole int) (description int) {
		by = r.against(b, whole, w)
		return by.Description
	}, func(whole int, d format.Difference) {
		as := by.Strictness(d)
		if as == format.Unvalidated {
			return
		}
		if whole != of {
			of, own = whole, own[:0]
			clear(told)
			clear(refused)
			first, last = recordsOf(b, whole)
			if divides && !by.Whole {
				divider.Divide(b, whole, func(from, to, n int) { own = append(own, stretch{from, to, first + n}) })
			}
		}
		from, to := first, last
		if d.Code != lacking {
			if i, within := slices.BinarySearchFunc(own, d.At, stretch.compare); within && own[i].record < last {
				from, to = own[i].record, own[i].record+1
			}
		}
		if as == format.Warned {
			to = min(to, from+1)
		}
		detail := &batch.Detail{Code: d.Code, Path: d.Path, Seen: finding.Shorten([]byte(d.Seen))}
		for i := from; i < to; i++ {
			if told[i]++; told[i] <= mostRemarks || as == format.Refused && !refused[i] {
				b.Notes = append(b.Notes, batch.Note{Record: int32(i), Slot: -1, Source: batch.Standard, At: uint32(d.At), Text: d.Text, Detail: detail, Warn: as == format.Warned})
				refused[i] = refused[i] || as == format.Refused
			}
		}
	})
}

// against chooses what a message is validated against. One for which nothing can be chosen is rejected.
func (r *run) against(b *batch.Batch, whole int, w *worker) *Against {
	first, last := -1, -1
	for k := range r.plan.Against {
		a := &r.plan.Against[k]
		if a.When == nil {
			return a
		}
		if first < 0 {
			if first, last = recordsOf(b, whole); first == last {
				return unheld // it has no records that could be wrong
			}
			r.turnTo(b, first, w)
		}
		switch holds, problem := a.When.Holds(w.envs[0], b, first); {
		case problem != "":
			w.unchosen = append(w.unchosen, unchosen{first, last, "what the message is to be checked against cannot be told: " + problem})
			return unheld
		case holds:
			return a
		}
	}
	w.unchosen = append(w.unchosen, unchosen{first, last, "none of the conditions under `check` holds for the message: it is not known what it has to be checked against"})
	return unheld
}

var unheld = &Against{Description: format.ByNone}

// unchosen are the records of a message for which no description can be chosen.
type unchosen struct {
	first, last int
	why         string
}

// refuse rejects those with which nothing else is wrong.
func (u unchosen) refuse(b *batch.Batch) {
	for i := u.first; i < u.last; i++ {
		if b.Outcomes[i] == batch.Good {
			b.Outcomes[i] = batch.Rejected
			b.Notes = append(b.Notes, batch.Note{Record: int32(i), Slot: -1, Source: batch.Standard, At: b.Bounds[i].Off, Text: u.why, Detail: &batch.Detail{Code: unchosenCode}})
		}
	}
}

// unchosenCode is the code of a message for which no description can be chosen.
const unchosenCode = "standard.unchosen"

// recordsOf are the records of a message.
func recordsOf(b *batch.Batch, whole int) (first, last int) {
	m := b.Messages[whole]
	first, _ = slices.BinarySearchFunc(b.Bounds, m.Off, func(s batch.Span, off uint32) int { return cmp.Compare(s.Off, off) })
	for last = first; last < len(b.Bounds) && b.Bounds[last].Off < m.End; last++ {
	}
	return first, last
}

// lacking is the code of what is not there: it stands where something else does.
const lacking = "standard.missing"

// stretch is text of a message that belongs to one record alone.
type stretch struct{ from, to, record int }

func (s stretch) compare(at int) int {
	if s.to < at {
		return -1
	} else if s.from > at {
		return 1
	}
	return 0
}

// difference makes the finding of a difference from a standard.
func difference(b *batch.Batch, n batch.Note) finding.Finding {
	f := finding.New(n.Detail.Code, b.Place(int(n.Record), n.At), "%s", n.Text)
	f.Place.Path, f.Seen = n.Detail.Path, n.Detail.Seen
	switch n.Detail.Code {
	case format.Undescribed:
		f = f.Suggest("give the route a description of it, or do not check messages against one")
	case unchosenCode:
		f = f.Suggest("say in the route what it is checked against, last with `when: otherwise`, or that it is not: `description: none`")
	}
	if n.Warn {
		f.Severity = finding.Warning
	}
	return f
}

// turn is what has to happen in the order of the file. It is told how the
// batch's preparation went.
func (r *run) turn(b *batch.Batch, prepared error) (err error) {
	if b.Turn != nil {
		<-b.Turn
		defer close(b.Next)
	}
	defer defect(&err, "numbering records")
	if r.fail == nil {
		r.fail = prepared
	}
	if r.fail != nil {
		return r.fail
	}
	n := b.Records()
	b.First = r.next
	b.Seq = r.next
	r.next += int64(n)
	if r.seen != nil {
		for i := range n {
			if b.Outcomes[i] == batch.Good && !r.plan.Schema.CheckUnique(b, i, r.seen) {
				b.Outcomes[i] = batch.Rejected
			}
		}
	}
	if r.fail = r.number(b); r.fail != nil {
		return r.fail
	}
	if r.inputs.Sequence != nil && n > 0 && r.plan.Sequence {
		b.Seq, r.fail = r.inputs.Sequence(n)
	}
	return r.fail
}

// progress tells how far the run has got.
func (r *run) progress() {
	now := Progress{Balance: r.all.Sum(), Stage: Working, About: r.expected, File: r.file + 1}
	if r.texts == nil && r.size > 0 && !r.plan.Packed() && now.Bytes > 0 && r.opened.Charset != text.UTF16LE && r.opened.Charset != text.UTF16BE {
		now.About = max(now.In, int64(float64(now.In)*float64(r.size)/float64(now.Bytes)))
	}
	now.Branches = slices.Clone(r.all.Branches)
	r.inputs.Progress(now)
}

// merged counts the rows that went into a record behind its first one, each in its own file.
func (r *run) merged(b *batch.Batch) {
	rows := &b.Tables[0]
	next := uint32(0)
	for _, end := range rows.Ends[:b.Records()] {
		for row := next + 1; row < end; row++ {
			balance := &r.result.Balance
			if r.texts != nil {
				balance = &r.all.Files[b.FileAt(rows.At[row])].Balance
			}
			balance.In++
			balance.Merged++
		}
		next = end
	}
}

// warns tells whether a note is a warning, and not why a record is left out.
func warns(b *batch.Batch, n batch.Note) bool {
	return n.Warn && (n.Source != batch.Map || b.Outcomes[n.Record] != batch.Filtered)
}

// Warned tells whether there is a warning about a record of a batch. Notes must be sorted, as for Findings.
func Warned(b *batch.Batch, record int) bool {
	for _, n := range notesOf(b, record) {
		if warns(b, n) {
			return true
		}
	}
	return false
}

// notesOf are those about a record.
func notesOf(b *batch.Batch, record int) []batch.Note {
	by := func(n batch.Note, r int32) int { return cmp.Compare(n.Record, r) }
	from, _ := slices.BinarySearchFunc(b.Notes, int32(record), by)
	to, _ := slices.BinarySearchFunc(b.Notes, int32(record)+1, by)
	return b.Notes[from:to]
}

// emit counts a batch and gives it out.
func (r *run) emit(b *batch.Batch) error {
	for k := range r.byFirst {
		if len(r.byFirst[k]) > 0 {
			r.compareByFirst(b, k)
		}
	}
	if len(b.Notes) > 1 {
		slices.SortStableFunc(b.Notes, func(x, y batch.Note) int { return cmp.Compare(x.Record, y.Record) })
	}
	balance := &r.result.Balance
	balance.Bytes += int64(b.N)
	for i, w := range b.Outcomes {
		if r.texts != nil {
			balance = &r.all.Files[b.FileOf(i)].Balance
		}
		balance.In++
		switch w {
		case batch.Good:
			balance.Good++
		case batch.Rejected:
			balance.Rejected++
		case batch.Filtered:
			balance.Filtered++
		}
	}
	if r.plan.Schema.Rows && b.Records() > 0 {
		r.merged(b)
	}
	for k := range r.all.Branches {
		for i := range b.Records() {
			if b.In(k, i) {
				r.all.Branches[k]++
			}
		}
	}
	for _, n := range b.Notes {
		if warns(b, n) {
			r.all.Files[b.FileOf(int(n.Record))].Warnings++
		}
	}
	if err := r.sink.Batch(b); err != nil {
		return err
	}
	if r.inputs.Progress != nil {
		r.progress()
	}
	return nil
}
