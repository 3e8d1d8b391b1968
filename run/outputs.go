package run

import (
	"encoding/json"
	"errors"
	"fmt"
	"hash/maphash"
	"io"
	"io/fs"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/flow"
	"ydrion/core/format"
	"ydrion/core/lang"
	"ydrion/core/place"
	"ydrion/deliver"
	"ydrion/files"
	"ydrion/route"
	"ydrion/store"
	"ydrion/workspace"
)

// How many rejected records of a run are kept in the database, and how much of
// them; the rejected file has them all. They go there in portions, so that
// memory does not grow with a bad file.
const (
	maxRejects     = 100_000
	maxRejectBytes = 64 << 20
	maxRejectRaw   = 64 << 10
	portion        = 500
)

// outputs writes what a run brings forth into hidden temporaries.
type outputs struct {
	deliver.Maker
	route     *route.Compiled
	to        []workspace.Destination // of all branches
	name      string                  // of the file that is read, and
	file      int                     // which of the run's it is, from 1
	reads     []*item                 // the files that are read, in their order
	folders   []string                // of the destinations of all branches
	rejected  string                  // folder
	fileNames []string                // of the good outputs that are not named by each record; empty: nothing goes there

	spool   string          // where outputs lie whose destinations are out of order
	spooled map[string]bool // those, by folder
	beat    *atomic.Int64   // is told that there are signs of life

	opened     *flow.Opened
	undone     bool   // the file was compressed, and what is written of it is not
	member     string // of an archive, that was read
	ord        int
	deliveries []store.Delivery // not stored yet
	versions   []store.Version  // of lookups
	branches   []branch
	bad        *deliver.Output // rejected records in the source's form
	source     *flow.Rejects   // writes into bad
	badCount   int64
	badFirst   int64
	list       *deliver.Output // findings as JSON
	report     *deliver.Output // findings for people
	listed     int64
	rejects    []store.Reject // not stored yet
	stored     int
	bytes      int
	kept       int // deliveries that have been stored
	begun      bool
	puts       func(folder string) bool // whether what is sent there takes the place of what has its name
	named      map[uint64]bool          // hashes of the names of what replaces others
	replaced   int                      // outputs that others of the run replace, and
	replacing  string                   // the name of the last of these
	stale      bool                     // something may have been stored by an earlier try
	// keep stores a portion of what there is before the run is committed; first
	// says that it is the run's first.
	keep func(deliveries []store.Delivery, rejects []store.Reject, first bool) error
	// drop removes the deliveries that were stored.
	drop func() error
}

var _ flow.Sink = (*outputs)(nil)

func (o *outputs) Open(opened *flow.Opened) error {
	o.opened = opened
	err := o.turnTo(o.reads[opened.File])
	o.undone, o.member = opened.Plan.Packed(), opened.Member
	return err
}

// turnTo ends what is rejected of the file before, and turns to another.
func (o *outputs) turnTo(f *item) error {
	if o.file == f.ord {
		return nil
	}
	err := o.finishRejects()
	o.name, o.file, o.undone = f.Name, f.ord, false
	o.badCount, o.badFirst, o.listed = 0, 0, 0
	return err
}

// label tells an output of a file from those of the run's others.
func (o *outputs) label(what string) string {
	if o.file <= 1 {
		return what
	}
	return fmt.Sprintf("%s-of-%d", what, o.file)
}

// branch is what is written of a branch.
type branch struct {
	from   int               // its first destination among all
	all    []*deliver.Output // of all records, by destination
	count  int64             // of the records in them
	first  *batch.Batch      // the first of them, if they are named by it
	totals []lang.Totals     // what their names ask of all records
	parts  parts
}

// divide makes ready for the branches of the route.
func (o *outputs) divide() {
	from := 0
	for i := range o.route.Plan.Branches {
		o.branches = append(o.branches, branch{from: from})
		from += len(o.route.Plan.Branches[i].Outputs)
	}
}

// written are the good outputs that are not ended.
func (o *outputs) written() (out []*deliver.Output) {
	for i := range o.branches {
		out = append(append(out, o.branches[i].all...), o.branches[i].parts.outputs()...)
	}
	return out
}

// create begins an output for a folder: in its hidden folder or, if the folder is out
// of order, in the spool.
func (o *outputs) create(folder, label string) (*deliver.Output, error) {
	o.beat.Store(time.Now().UnixNano())
	if o.spooled[folder] {
		return o.Spool(o.spool, folder, label)
	}
	return o.Create(folder, label)
}

// spoolInstead tells whether a failure was that of a destination, which is then written
// into the spool from now on: others get theirs, and it gets its own when it is back.
func (o *outputs) spoolInstead(err error) bool {
	var d *deliver.ErrDestination
	if o.spool == "" || !errors.As(err, &d) || o.spooled[d.Folder] || errors.Is(err, errGiven) {
		return false
	}
	o.intoSpool(d.Folder)
	return true
}

// intoSpool lets outputs for a folder be written into the spool.
func (o *outputs) intoSpool(folder string) {
	if o.spooled == nil {
		o.spooled = map[string]bool{}
	}
	o.spooled[folder] = true
}

// hidden are the folders in which temporaries of the run can be.
func (o *outputs) hidden() (out []string) {
	for _, folder := range append([]string{o.rejected}, o.folders...) {
		if folder == lookupFolder || isDistant(folder) {
			continue
		}
		out = append(out, filepath.Join(folder, files.Hidden))
	}
	return append(out, o.spool)
}

// add ends an output and notes its delivery.
func (o *outputs) add(out *deliver.Output, kind string, output int, name string, records, first int64) error {
	sum, err := out.Finish()
	if err != nil {
		return err
	}
	if kind == "good" && o.to[output].Lookup != "" {
		return o.addTable(out, sum, output, records)
	}
	d := o.route.Rejected
	if kind == "good" {
		d = o.to[output]
	}
	if (d.Mode != 0 || d.Owner != "") && !o.spooled[out.Folder] {
		if err := o.FS.Own(out.Temporary, d.Mode, d.Owner); err != nil {
			return &deliver.ErrDestination{Folder: out.Folder, Err: fmt.Errorf("setting permissions and owner: %w", err)}
		}
	}
	o.ord++
	name, said := flow.Cut(name)
	puts := o.puts(out.Folder)
	if d.Taken == workspace.Replace || puts {
		o.replaces(filepath.Join(out.Folder, name))
	}
	o.deliveries = append(o.deliveries, store.Delivery{Replaces: d.Taken.Replaces() || puts, Run: o.Run, Ord: o.ord, Kind: kind, Output: output, Folder: out.Folder, Name: name, Said: said, Temporary: out.Temporary, Size: out.Size, SHA256: sum, Records: records, FirstRecord: first, Device: out.Holder.Device, Inode: out.Holder.Inode})
	if len(o.deliveries) < portion {
		return nil
	}
	if err := o.store(o.deliveries, nil); err != nil {
		return err
	}
	o.kept += len(o.deliveries)
	o.deliveries = o.deliveries[:0]
	return nil
}

// store keeps a portion.
func (o *outputs) store(deliveries []store.Delivery, rejects []store.Reject) error {
	first := !o.begun
	o.begun, o.stale = true, false
	return o.keep(deliveries, rejects, first)
}

// clean removes what earlier tries of the run have stored, where this one has stored nothing.
func (o *outputs) clean() error {
	if !o.stale {
		return nil
	}
	o.stale = false
	return o.keep(nil, nil, true)
}

// Batch takes the records of a batch in their order.
func (o *outputs) Batch(b *batch.Batch) error {
	if err := o.takeGood(b); err != nil {
		return err
	}
	for _, n := range b.Notes {
		if b.Outcomes[n.Record] == batch.Rejected {
			return o.takeRejected(b)
		}
	}
	return nil
}

func (o *outputs) takeGood(b *batch.Batch) (err error) {
	for k := range o.branches {
		switch p := &o.opened.Plan.Branches[k]; {
		case p.Program == nil:
		case p.Separate:
			err = o.takeEach(b, k)
		case p.By != nil:
			err = o.takeParts(b, k)
		case p.Several():
			err = o.takeSeveral(b, k)
		default:
			err = o.takeAll(b, k)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// takeAll writes records into one file for each destination of a branch.
func (o *outputs) takeAll(b *batch.Batch, k int) (err error) {
	to, p := &o.branches[k], &o.opened.Plan.Branches[k]
	for i := range b.Outcomes {
		if b.In(k, i) {
			if to.count++; to.count == 1 && p.Late() {
				to.first, to.totals = b.One(i), make([]lang.Totals, len(p.Outputs))
			}
			for d := range to.totals {
				if p.Outputs[d].Late {
					if to.totals[d], err = o.opened.Assemblies[k].Totals(to.totals[d], b, i, d); err != nil {
						return err
					}
				}
			}
		}
	}
	made, err := o.opened.Assemblies[k].All(b)
	if err != nil || len(made) == 0 {
		return err
	}
	if to.all == nil {
		to.all = make([]*deliver.Output, len(p.Outputs))
		for i := range to.all {
			if o.fileNames[to.from+i] == "" {
				continue
			}
			if to.all[i], err = o.create(o.folders[to.from+i], fmt.Sprintf("all-%d", to.from+i)); err != nil {
				return err
			}
		}
	}
	for _, out := range to.all {
		if out == nil {
			continue
		}
		if _, err := out.Write(made); err != nil {
			return err
		}
	}
	return nil
}

// takeEach writes each record into files of its own.
func (o *outputs) takeEach(b *batch.Batch, branch int) error {
	from, n := o.branches[branch].from, len(o.opened.Plan.Branches[branch].Outputs)
	return o.opened.Assemblies[branch].Each(b, func(i int, made []byte) error {
		if len(made) == 0 { // it becomes a row for each of a list, which is empty
			return nil
		}
		for k, name := range b.Branches[branch].Called(i, n) {
			if name == "" {
				continue
			}
			out, err := o.create(o.folders[from+k], strconv.Itoa(o.ord+1))
			if err != nil {
				return err
			}
			if _, err := out.Write(made); err != nil {
				return errors.Join(err, out.Discard())
			}
			if err := o.add(out, "good", from+k, name, 1, b.First+int64(i)); err != nil {
				return err
			}
		}
		return nil
	})
}

func (o *outputs) takeRejected(b *batch.Batch) error {
	for i, w := range b.Outcomes {
		if w != batch.Rejected {
			continue
		}
		raw, findings := o.opened.Rejected(b, i)
		of := o.reads[b.FileOf(i)]
		for k := range findings {
			findings[k].Place.File = of.Name
		}
		if err := o.reject(of.ord, b.First+int64(i), b.Place(i, b.Bounds[i].Off).Line, raw, findings); err != nil {
			return err
		}
	}
	return nil
}

// reject writes one rejected record and its findings.
func (o *outputs) reject(file int, record, line int64, raw []byte, findings finding.List) error {
	if o.bad == nil {
		if err := o.openBad(); err != nil {
			return err
		}
		o.badFirst = record
	}
	o.badCount++
	if err := o.source.Record(raw); err != nil {
		return err
	}
	if err := o.explain(findings, raw); err != nil {
		return err
	}
	return o.remember(store.Reject{File: file, Record: record, Line: line, Raw: append([]byte{}, raw[:min(len(raw), maxRejectRaw)]...), Findings: findings})
}

// remember keeps a rejected record for the database.
func (o *outputs) remember(r store.Reject) error {
	if o.stored+len(o.rejects) >= maxRejects || o.bytes >= maxRejectBytes {
		return nil
	}
	o.bytes += len(r.Raw)
	o.rejects = append(o.rejects, r)
	if len(o.rejects) < portion {
		return nil
	}
	if err := o.store(nil, o.rejects); err != nil {
		return err
	}
	o.stored += len(o.rejects)
	o.rejects = o.rejects[:0]
	return nil
}

// openBad begins the file of rejected records as the source begins: with its
// byte order mark and its heading.
func (o *outputs) openBad() (err error) {
	if o.bad, err = o.create(o.rejected, o.label("rejected")); err != nil {
		return err
	}
	o.source, err = o.opened.Rejects(o.bad)
	return err
}

// explain writes findings beside the rejected records.
func (o *outputs) explain(findings finding.List, raw []byte) (err error) {
	if o.list == nil {
		if o.list, err = o.create(o.rejected, o.label("findings")); err != nil {
			return err
		}
		head := fmt.Sprintf("{\"file\":%s,\"route\":%s,\"run\":%d,\"findings\":[", quoted(o.name), quoted(o.route.Name), o.Run)
		if _, err = o.list.Write([]byte(head)); err != nil {
			return err
		}
		if o.report, err = o.create(o.rejected, o.label("report")); err != nil {
			return err
		}
		if _, err = fmt.Fprintf(o.report, "%s: what was rejected, and why (route %s, run %d)\n", o.name, o.route.Name, o.Run); err != nil {
			return err
		}
	}
	for _, f := range findings {
		b, err := json.Marshal(f)
		if err != nil {
			return err
		}
		comma := ",\n"
		if o.listed == 0 {
			comma = "\n"
		}
		o.listed++
		if _, err := fmt.Fprintf(o.list, "%s%s", comma, b); err != nil {
			return err
		}
	}
	return o.tell(findings, raw)
}

func quoted(s string) string {
	b, err := json.Marshal(s)
	if err != nil {
		return `""`
	}
	return string(b)
}

// tell writes findings the way a partner reads them.
func (o *outputs) tell(findings finding.List, raw []byte) error {
	var b strings.Builder
	for i, f := range findings {
		p := f.Place
		if i == 0 {
			b.WriteByte('\n')
		}
		if p.File != "" && p.File != o.name {
			b.WriteString(p.File + ": ")
		}
		if p.Line > 0 {
			fmt.Fprintf(&b, "line %d, column %d", p.Line, p.Column)
			if p.Record > 0 {
				fmt.Fprintf(&b, " (record %d)", p.Record)
			}
			b.WriteString(": ")
		}
		b.WriteString(f.Message)
		b.WriteByte('\n')
		if f.Suggestion != "" {
			fmt.Fprintf(&b, "    %s\n", f.Suggestion)
		}
	}
	if raw != nil {
		fmt.Fprintf(&b, "    | %s\n", finding.Shorten([]byte(strings.TrimRight(string(raw[:min(len(raw), 4096)]), "\r\n"))))
	}
	_, err := o.report.Write([]byte(b.String()))
	return err
}

// Broken rejects what is left of a file as one piece.
func (o *outputs) Broken(b *format.Broken) error {
	f, of := b.Finding, o.reads[o.opened.File]
	f.Place.File = of.Name
	if o.bad == nil {
		if err := o.openBad(); err != nil {
			return err
		}
	}
	o.badCount++
	kept := make([]byte, 0, maxRejectRaw)
	if err := o.source.Rest(b.Rest, func(piece []byte) { kept = append(kept, piece[:min(len(piece), cap(kept)-len(kept))]...) }); err != nil {
		return err
	}
	if err := o.remember(store.Reject{File: of.ord, Record: f.Place.Record, Line: f.Place.Line, Raw: kept, Findings: finding.List{f}}); err != nil {
		return err
	}
	return o.explain(finding.List{f}, kept)
}

// finishAll ends the outputs of all records of a branch.
func (o *outputs) finishAll(k int) error {
	to := &o.branches[k]
	for i, out := range to.all {
		if out == nil {
			continue
		}
		a := &o.opened.Assemblies[k]
		ends, err := a.Ends()
		if err != nil {
			return err
		}
		name := o.fileNames[to.from+i]
		if name == flow.Unnamed {
			if name, err = a.Name(to.first, i, 0, lang.PartOf{Number: 1, Count: 1, Records: to.count, Totals: to.totals[i]}); err != nil {
				return err
			}
		}
		if _, err := out.Write(ends); err != nil {
			return err
		}
		to.all[i] = nil
		if err := o.add(out, "good", to.from+i, name, to.count, 1); err != nil {
			return err
		}
	}
	to.all = nil
	return nil
}

// finish ends all outputs.
func (o *outputs) finish() error {
	for k := range o.branches {
		if err := o.finishAll(k); err != nil {
			return err
		}
		if err := o.finishParts(k); err != nil {
			return err
		}
	}
	return o.finishRejects()
}

// finishRejects ends what is rejected of a file.
func (o *outputs) finishRejects() error {
	if bad := o.bad; bad != nil {
		o.bad = nil
		if err := o.add(bad, "rejected", 0, o.rejectName(""), o.badCount, o.badFirst); err != nil {
			return err
		}
	}
	if list, report := o.list, o.report; list != nil {
		if _, err := list.Write([]byte("\n]}\n")); err != nil {
			return err
		}
		o.list = nil
		if err := o.add(list, "findings", 0, o.rejectName(".findings.json"), 0, 0); err != nil {
			return err
		}
		o.report = nil
		return o.add(report, "report", 0, o.rejectName(".findings.txt"), 0, 0)
	}
	return nil
}

// usualEnding is that of a name which a sender may have chosen as he likes.
var usualEnding = regexp.MustCompile(`\.[A-Za-z0-9]{1,10}$`)

// rejectName names what is rejected after the source and the run, so that the
// parts stay together and nothing is in the way of anything.
func (o *outputs) rejectName(ending string) string {
	name := o.name
	if ending == "" && o.undone { // records of a compressed file stand in plain text
		if name = strings.TrimSuffix(name, ".gz"); o.member != "" {
			name = strings.TrimSuffix(name, filepath.Ext(name)) + usualEnding.FindString(o.member)
		}
	}
	ext := filepath.Ext(name)
	stem := strings.TrimSuffix(name, ext)
	if stem == "" {
		stem, ext = name, ""
	}
	if len(stem) > 180 {
		stem = strings.ToValidUTF8(stem[:180], "") // a letter may have been cut
	}
	if ending == "" {
		ending = ext
	}
	return fmt.Sprintf("%s.rejected-%d%s", strings.TrimPrefix(stem, "."), o.Run, ending)
}

// giveUp gives up the good and rejected records that have been written. What has been said of single records stays.
func (o *outputs) giveUp() error {
	for _, out := range append(o.written(), o.bad) {
		if out == nil {
			continue
		}
		if err := out.Discard(); err != nil {
			return err
		}
	}
	o.branches, o.bad = nil, nil
	var except []string
	for _, out := range []*deliver.Output{o.list, o.report} {
		if out != nil {
			except = append(except, out.Temporary)
		}
	}
	if o.ord > 0 {
		if err := o.sweep(except...); err != nil {
			return err
		}
	}
	if o.kept > 0 {
		if err := o.drop(); err != nil {
			return err
		}
	}
	o.deliveries, o.kept, o.versions = o.deliveries[:0], 0, nil
	o.named, o.replaced = nil, 0
	return nil
}

// refuse rejects a file as one piece.
func (o *outputs) refuse(original io.Reader, findings finding.List) error {
	out, err := o.create(o.rejected, o.label("whole"))
	if err != nil {
		return err
	}
	o.bad, o.undone = out, false
	if _, err := io.Copy(out, original); err != nil {
		return err
	}
	return o.explain(findings, nil)
}

// explainer tells of the records of a file that is rejected as one piece why they were rejected.
type explainer struct {
	*outputs
	opened *flow.Opened
	of     *item
	before int64 // records of the files before it
}

var _ flow.Sink = (*explainer)(nil)

func (e *explainer) Open(opened *flow.Opened) error { e.opened = opened; return nil }

func (e *explainer) Batch(b *batch.Batch) error {
	for i, w := range b.Outcomes {
		if w != batch.Rejected {
			continue
		}
		raw, findings := e.opened.Rejected(b, i)
		if err := e.tell(e.before+b.First+int64(i), b.Place(i, b.Bounds[i].Off).Line, raw, findings); err != nil {
			return err
		}
	}
	return nil
}

func (e *explainer) tell(record, line int64, raw []byte, findings finding.List) error {
	for k := range findings {
		findings[k].Place.File, findings[k].Place.Record = e.of.Name, record
	}
	if err := e.explain(findings, raw); err != nil {
		return err
	}
	return e.remember(store.Reject{File: e.of.ord, Record: record, Line: line, Raw: append([]byte{}, raw[:min(len(raw), maxRejectRaw)]...), Findings: findings})
}

func (e *explainer) Broken(b *format.Broken) error {
	kept, err := io.ReadAll(io.LimitReader(b.Rest, maxRejectRaw))
	if err != nil {
		return err
	}
	return e.tell(e.before+b.Finding.Place.Record, b.Finding.Place.Line, kept, finding.List{b.Finding})
}

// discard gives all outputs up.
func (o *outputs) discard() error {
	var first error
	keep := func(err error) {
		if err != nil && first == nil && !errors.Is(err, fs.ErrNotExist) {
			first = err
		}
	}
	for _, out := range append(o.written(), o.bad, o.list, o.report) {
		if out != nil {
			keep(out.Discard())
		}
	}
	for _, d := range o.deliveries {
		if d.Temporary != "" {
			keep(o.FS.Remove(d.Temporary))
		}
	}
	if o.kept > 0 {
		keep(o.sweep())
	}
	*o = outputs{Maker: o.Maker, stale: o.stale || o.begun, route: o.route, reads: o.reads, to: o.to, folders: o.folders, rejected: o.rejected, puts: o.puts, fileNames: o.fileNames, opened: o.opened, keep: o.keep, drop: o.drop, spool: o.spool, spooled: o.spooled, beat: o.beat}
	o.divide()
	return first
}

// sweep removes what this node has written for the run in the hidden folders.
func (o *outputs) sweep(except ...string) error {
	for _, hidden := range o.hidden() {
		if hidden == "" {
			continue
		}
		if err := o.Sweep(hidden, except...); err != nil {
			return err
		}
	}
	return nil
}

// naming hashes the names of outputs.
var naming = maphash.MakeSeed()

// replaces notes an output that takes the place of what has its name: that may be another one of the run.
func (o *outputs) replaces(at string) {
	if o.named == nil {
		o.named = map[uint64]bool{}
	}
	h := maphash.String(naming, at)
	if o.named[h] {
		o.replaced, o.replacing = o.replaced+1, filepath.Base(at)
	}
	o.named[h] = true
}

// lost tells of outputs of the run that others of it replace.
func (o *outputs) lost() finding.List {
	if o.replaced == 0 {
		return nil
	}
	w := finding.Warn("deliver.replaced", place.InFile(o.name), "an output of this run was replaced by another one of it that has the same name, %s: what was in it is not there", o.replacing)
	if o.replaced > 1 {
		w = finding.Warn("deliver.replaced", place.InFile(o.name), "%d outputs of this run were replaced by others of it that have the same name, such as %s: what was in them is not there", o.replaced, o.replacing)
	}
	return finding.List{w.Suggest("put a field, {record} or {sequence} into the name, or say `name taken: count`")}
}

// tooMany is the finding of a file that has more rejected records than its
// route tolerates.
func tooMany(name string, b flow.Balance, tolerate float64) finding.Finding {
	return finding.New("route.tolerate", place.InFile(name), "%d of %d records were rejected; the route tolerates %g%%, so the whole file was rejected and nothing of it was delivered", b.Rejected, b.Records(), tolerate*100)
}
