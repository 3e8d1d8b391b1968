package run

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"ydrion/archive"
	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/flow"
	"ydrion/core/format"
	"ydrion/core/lang"
	"ydrion/core/place"
	"ydrion/listen"
	"ydrion/store"
	"ydrion/workspace"
)

// process runs the route over the originals of a group and writes the outputs.
func (c *Conductor) process(group []*item) (on []*item) {
	for _, it := range group {
		if it.stage == processing {
			if c.park(it, false) {
				continue
			}
			done, err := c.e.turn(c.work, &c.beat[processing])
			if err == nil {
				c.try(it, processing, c.processOne)
			}
			done()
		}
		on = append(on, it)
	}
	return on
}

// park keeps a pickup back whose turn in its lane has not come; out says that it is
// about to come out.
func (c *Conductor) park(it *item, out bool) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.lanes.park(it, out)
}

// processOne brings a pickup to where its outcome can be committed.
func (c *Conductor) processOne(it *item) error {
	for _, f := range it.all() {
		c.e.Tell(Event{Kind: "pickup", Route: c.name, Pickup: f.Pickup, Run: *it.Run, Name: f.Name, State: "taken"})
		if err := c.keep(f); err != nil {
			return err
		}
		if f.resumed {
			if err := c.compare(f); err != nil {
				return err
			}
		}
	}
	for _, f := range it.read() {
		if f.verdict != nil && f.verdict.what == workspace.Hold {
			return errPerson{errors.New(f.verdict.finding.Message), "duplicate"}
		}
	}
	wrong, err := c.bringTables(it)
	if err != nil {
		return err
	}
	out, err := c.prepared(it)
	if err != nil {
		return err
	}
	for {
		err := c.fill(it, out, wrong)
		if err == nil {
			it.out, it.stage = out, committing
			return nil
		}
		if err := errors.Join(err, out.discard()); err != nil && !out.spoolInstead(err) {
			return err
		}
	}
}

// prepared makes the outputs of a run ready to be written.
func (c *Conductor) prepared(it *item) (*outputs, error) {
	out := &outputs{Maker: c.maker(*it.Run), stale: it.resumed || it.Tries > 0, route: it.compiled, reads: it.read(), spool: c.e.Spool, beat: &c.beat[processing], puts: c.puts}
	out.keep = func(deliveries []store.Delivery, rejects []store.Reject, first bool) error {
		return c.e.Store.Keep(c.work, *it.Run, deliveries, rejects, first)
	}
	out.drop = func() error { return c.e.Store.Drop(c.work, *it.Run) }
	out.to = it.compiled.Destinations()
	out.divide()
	for _, d := range out.to {
		if d.Lookup != "" { // it is written in the spool, and read there
			out.folders = append(out.folders, lookupFolder)
			out.intoSpool(lookupFolder)
			continue
		}
		folder, err := c.e.Resolve(d.Folder)
		if err != nil {
			return nil, err
		}
		out.folders = append(out.folders, folder)
	}
	var err error
	if out.rejected, err = c.e.Resolve(it.compiled.Rejected.Folder); err != nil {
		return nil, err
	}
	for _, folder := range append([]string{out.rejected}, out.folders...) {
		if isDistant(folder) {
			out.intoSpool(folder)
		}
	}
	if it.resumed {
		for _, hidden := range out.hidden() {
			err := c.sweep(hidden, *it.Run)
			if errors.Is(err, errGiven) || store.Unavailable(err) != "" {
				return nil, err
			}
			if err != nil {
				// A destination that is out of order keeps nobody from the others.
				c.e.Log.Warn("what an earlier try has left cannot be removed now", "pickup", it.Pickup, "route", c.name, "error", err)
			}
		}
	}
	return out, nil
}

// keep gives the original its place in the archive.
func (c *Conductor) keep(it *item) error {
	if it.Origin == "left" && it.Event != listen.Gone && !c.e.Archive.Has(*it.SHA256) {
		// Another who gave the same content up may have removed it before the records knew that it is needed.
		sum, _, err := c.e.Archive.Copy(it.Path)
		if err == nil && sum != *it.SHA256 {
			err = errPerson{errors.New("its copy is gone, and the file has another content by now; withdraw it: what is there now is taken by itself"), "held"}
		}
		return err
	}
	if it.Origin != "inbox" || it.Event == listen.Gone || it.resumed && c.e.Archive.Has(*it.SHA256) && !c.there(c.held(it)) {
		return nil
	}
	held := c.held(it)
	if it.resumed {
		// Who can reach it is asked anew; what it is, is compared afterwards.
		if f, err := c.e.FS.Open(held); err == nil {
			it.alone = f.Alone()
			f.Close() //nolint: it was only asked
		}
	}
	return c.e.Archive.Keep(held, *it.SHA256, it.alone)
}

// compare makes sure that the original is still what was taken: a power failure
// may have cut a file whose sender had not synced it.
func (c *Conductor) compare(it *item) error {
	size, err := c.e.Archive.Check(*it.SHA256)
	if errors.Is(err, archive.ErrOther) {
		return errPerson{fmt.Errorf("the original is not what it was when it was taken: %d bytes instead of %d; withdraw it and ask for the file again", size, it.Size), "held"}
	}
	if err != nil {
		return fmt.Errorf("reading the original again: %w", err)
	}
	return nil
}

func (c *Conductor) there(path string) bool {
	_, err := c.e.FS.Look(path)
	return err == nil
}

// original opens the file as it arrived.
func (c *Conductor) original(it *item) (io.ReadCloser, error) {
	if it.content != nil {
		return flow.Unclosed(bytes.NewReader(it.content)), nil
	}
	return c.e.Archive.Open(*it.SHA256)
}

// outcome is what a run has come to with one of its files.
type outcome struct {
	*item
	result flow.Result
	whole  bool // it is rejected as one piece
}

// refuse rejects the file as one piece.
func (d *outcome) refuse(f finding.Finding) {
	f.Place.File = d.Name
	d.whole, d.result.Findings = true, append(d.result.Findings, f)
}

// facts are those of the run with what they say of the file.
func (d *outcome) facts(of lang.Facts) lang.Facts {
	of.Name, of.Folder, of.Event, of.Mail = d.Name, d.Folder, d.Event, d.Mail
	return of
}

// judge says whether the file has to be rejected as one piece.
func (d *outcome) judge() {
	r, tolerate := &d.result, d.compiled.Tolerate
	over := r.Over(tolerate)
	if over {
		r.Findings = append(r.Findings, tooMany(d.Name, r.Balance, tolerate))
	}
	d.whole = over || r.Unreadable || r.Disagrees || d.compiled.Plan.Checked && r.Broken
	if !d.whole && r.In == 0 && !d.compiled.Plan.Unread {
		r.Findings = append(r.Findings, finding.Warn("file.no-records", place.InFile(d.Name), "the file has a heading but no records"))
	}
}

// fill writes a run's outputs and says what is to be committed.
func (c *Conductor) fill(it *item, out *outputs, wrong *finding.Finding) error {
	var all []*outcome
	said := incomplete(it)
	for i, f := range it.all() {
		f.ord = i + 1
	}
	for _, f := range it.read() {
		d := &outcome{item: f}
		f.compiled = it.compiled
		switch {
		case wrong != nil:
			d.refuse(*wrong)
		case it.Refused:
			d.refuse(said[0])
		case f.verdict != nil && f.verdict.what == workspace.Reject:
			d.refuse(f.verdict.finding)
		}
		all = append(all, d)
	}
	numbers, err := c.make(it, all, out)
	if err != nil {
		return err
	}
	said = append(said, unmatched(it, all)...)
	if err := c.refuseAll(all, out); err != nil {
		return err
	}
	var unfinished *flow.Unfinished
	if err = out.finish(); errors.As(err, &unfinished) {
		// What the files have become together cannot be written to its end, or named: none of them is good.
		for _, d := range all {
			d.refuse(unfinished.Finding)
		}
		if err := c.refuseAll(all, out); err != nil {
			return err
		}
		err = out.finish()
	}
	if err != nil {
		return err
	}
	if err = out.clean(); err != nil {
		return err
	}
	if it.Refused {
		said = nil
	}
	said = append(append(said, it.said...), out.lost()...)
	c.conclusion(it, all, out, said, *numbers)
	return nil
}

// make takes files through the route.
func (c *Conductor) make(it *item, all []*outcome, out *outputs) (*[]store.Block, error) {
	inputs, numbers := c.inputs(it)
	plan := it.compiled.Plan
	if !plan.Unread && !plan.Checked {
		if f := out.nameAll(&lang.Env{Facts: inputs.Facts}); f != nil {
			for _, d := range all {
				d.refuse(*f)
			}
		}
	}
	if it.SameAs != nil && len(all) > 1 && !plan.Unread {
		// The numbers that are there are those of the files that were good: which these are is found out first.
		if err := c.leaveOut(it, all, inputs); err != nil {
			return nil, err
		}
	}
	for again := !plan.Unread; again; {
		var err error
		if again, err = c.makeOnce(it, all, out, inputs); err != nil {
			return nil, err
		}
		if again {
			// What is good of the others is made without those that are rejected as one piece.
			if err := out.discard(); err != nil {
				return nil, err
			}
			inputs, numbers = c.inputs(it)
		}
	}
	for _, d := range all {
		var err error
		switch {
		case d.whole:
		case plan.Unread:
			err = c.passUnread(d, out, inputs)
		case plan.Checked:
			err = c.passOn(d, out, inputs)
		}
		if err != nil {
			return nil, err
		}
	}
	return numbers, nil
}

// makeOnce takes the records of those files through the route that are not rejected as one piece. It has to be done again
// if one of several turned out to be.
func (c *Conductor) makeOnce(it *item, all []*outcome, out *outputs, inputs flow.Inputs) (again bool, err error) {
	it.compiled.Begin()
	of, files := c.toRead(all)
	out.reads = nil
	for _, d := range of {
		out.reads = append(out.reads, d.item)
	}
	if len(files) == 0 {
		return false, nil
	}
	defer c.e.watch(&it.Pending, *it.Run, len(files))()
	made, err := it.compiled.Plan.RunAll(c.work, files, inputs, out)
	if err != nil {
		return false, err
	}
	it.branches = nil
	for k, n := range made.Branches {
		it.branches = append(it.branches, store.BranchOf{Name: it.compiled.Branches[k].Name, Records: n})
	}
	return judgeAll(of, &made), nil
}

// toRead are the files that are not rejected as one piece.
func (c *Conductor) toRead(all []*outcome) (of []*outcome, files []flow.File) {
	for _, d := range all {
		if !d.whole {
			of = append(of, d)
			files = append(files, flow.File{Name: d.Name, Folder: d.Folder, Event: d.Event, Mail: d.Mail, Size: d.Size, Open: func() (io.ReadCloser, error) { return c.original(d.item) }})
		}
	}
	return of, files
}

// judgeAll says which files have to be rejected as one piece, and whether what was made of others has to be made again
// without them.
func judgeAll(of []*outcome, made *flow.All) (again bool) {
	for i, d := range of {
		d.result = made.Files[i]
		if made.Unfinished != nil {
			d.refuse(*made.Unfinished)
			continue
		}
		d.judge()
		again = again || d.whole && !d.result.Unreadable && len(of) > 1
	}
	return again
}

// leaveOut finds out which files have to be rejected as one piece, without writing anything.
func (c *Conductor) leaveOut(it *item, all []*outcome, inputs flow.Inputs) error {
	next := int64(1)
	inputs.Sequence = func(n int) (int64, error) { next += int64(n); return next - int64(n), nil }
	for again := true; again; {
		of, files := c.toRead(all)
		if len(files) == 0 {
			return nil
		}
		made, err := it.compiled.Plan.RunAll(c.work, files, inputs, nowhere{})
		if err != nil {
			return err
		}
		again = judgeAll(of, &made)
	}
	return nil
}

// nowhere takes records and writes nothing.
type nowhere struct{}

func (nowhere) Open(*flow.Opened) error     { return nil }
func (nowhere) Batch(*batch.Batch) error    { return nil }
func (nowhere) Broken(*format.Broken) error { return nil }

// unmatched tells of rows of tables among the files that no record has looked up, if anything was made of records.
func unmatched(it *item, all []*outcome) (said finding.List) {
	if !slices.ContainsFunc(all, func(d *outcome) bool { return !d.whole }) {
		return nil
	}
	for _, f := range it.members {
		if f.part == store.Codes {
			if w := it.compiled.Unmatched(codesOf(it.compiled, f.Folder, f.Name), f.Name); w != nil {
				said = append(said, *w)
			}
		}
	}
	return said
}

// conclusion says what is to be committed.
func (c *Conductor) conclusion(it *item, all []*outcome, out *outputs, said finding.List, numbers []store.Block) {
	commit := store.Commit{Run: *it.Run, Pickup: it.Pickup, Balance: flow.Balance{Warnings: said.Warnings()}, Whole: true, Deliveries: out.deliveries, Rejects: out.rejects, Kept: out.kept, Numbers: numbers, Findings: said, Versions: out.versions}
	for _, d := range all {
		r := &d.result
		for i := range r.Findings {
			r.Findings[i].Place.File = d.Name
		}
		if d.verdict != nil && d.verdict.what == workspace.Warn {
			r.Findings = append(r.Findings, d.verdict.finding)
			r.Warnings++
		}
		if d.whole {
			r.Rejected, r.Good, r.Merged = r.In-r.Filtered, 0, 0
		}
		commit.Balance.Add(r.Balance)
		commit.Findings, commit.Whole = append(commit.Findings, r.Findings...), commit.Whole && d.whole
		d.item.balance, d.item.whole = r.Balance, d.whole
	}
	if !commit.Whole {
		commit.Branches = it.branches
	}
	if it.sum = commit.Balance; len(it.members) > 0 {
		for _, d := range all {
			commit.Files = append(commit.Files, store.FileCommit{Pickup: d.Pickup, Balance: d.result.Balance, Whole: d.whole, Reason: whyWhole(d.result.Findings, d.Name)})
		}
		for _, f := range it.members {
			if why := asideBecause(f, all); why != "" {
				commit.Files = append(commit.Files, store.FileCommit{Pickup: f.Pickup, Reason: why})
			}
		}
	}
	it.commit = commit
}

// asideBecause says why a file is set aside; empty if it is not.
func asideBecause(f *item, read []*outcome) string {
	switch f.part {
	case store.Codes:
		return fmt.Sprintf("the others look codes up in it, as the table %s (pickup %d)", codesOf(f.compiled, f.Folder, f.Name), read[0].Pickup)
	case store.Marker:
		return fmt.Sprintf("its coming completed the files that it belongs to; it is not read (pickup %d)", read[0].Pickup)
	case store.Older:
		return fmt.Sprintf("a newer file was taken instead: %s, in pickup %d", read[len(read)-1].Name, read[len(read)-1].Pickup)
	}
	return ""
}

// refuseAll rejects those files that are rejected as one piece.
func (c *Conductor) refuseAll(all []*outcome, out *outputs) error {
	before, none := int64(0), true
	for _, d := range all {
		before, none = before+d.result.Records(), none && d.whole
	}
	var err error
	switch {
	case none && len(all) == 1:
		err = out.giveUp() // what has been said of its records stays
	case none:
		err = out.discard()
	}
	for _, d := range all {
		if err != nil || !d.whole {
			continue
		}
		if err = out.turnTo(d.item); err != nil {
			break
		}
		if len(all) > 1 && d.result.Rejected > 0 {
			// What was written of it with the others has been given up: it is read once more, for what is
			// wrong with its records.
			err = c.explain(d, out, before)
			before += d.result.In
		}
		if err == nil {
			err = c.refuse(d, out)
		}
	}
	return err
}

// refuse rejects a file as one piece.
func (c *Conductor) refuse(d *outcome, out *outputs) error {
	original, err := c.original(d.item)
	if err != nil {
		return err
	}
	defer original.Close()
	return out.refuse(original, d.result.Findings)
}

// explain tells what is wrong with the records of a file that is rejected as one piece.
func (c *Conductor) explain(d *outcome, out *outputs, before int64) error {
	original, err := c.original(d.item)
	if err != nil {
		return err
	}
	defer original.Close()
	inputs := flow.Inputs{Facts: facts(d.compiled, d.Name, d.Folder, d.Event, d.Mail, *d.Now), Cores: c.e.Cores, Size: d.Size, Spill: c.e.Spill, Progress: func(flow.Progress) { c.beat[processing].Store(time.Now().UnixNano()) }}
	_, err = d.compiled.Plan.Run(c.work, original, inputs, &explainer{outputs: out, of: d.item, before: before})
	return err
}

// passOn gives a file whose records have been checked to its destinations as it came.
func (c *Conductor) passOn(d *outcome, out *outputs, inputs flow.Inputs) error {
	original, err := c.original(d.item)
	if err != nil {
		return err
	}
	defer original.Close()
	if err := out.turnTo(d.item); err != nil {
		return err
	}
	if f := out.nameAll(&lang.Env{Facts: d.facts(inputs.Facts)}); f != nil {
		d.refuse(*f)
		return nil
	}
	return out.copy(original, d.result.Records())
}

// nameAll names the outputs of a run whose records go into one file for each
// destination.
func (o *outputs) nameAll(env *lang.Env) *finding.Finding {
	o.fileNames = nil
	for i := range o.route.Plan.Branches {
		p, problem := &o.route.Plan.Branches[i], ""
		if p.Named() {
			o.fileNames = append(o.fileNames, make([]string, len(p.Outputs))...)
			continue
		}
		switch o.fileNames, problem = p.Names(env, nil, 0, o.fileNames); {
		case problem == "" || p.Skip != "":
		case problem == flow.NowhereTo:
			f := finding.New("deliver.nowhere", place.InFile(o.name), flow.NowhereTo)
			return &f
		default:
			f := finding.New("deliver.name", place.InFile(o.name), "the output cannot be named: %s", problem)
			return &f
		}
	}
	return nil
}

// inputs is what a run depends on besides the file. The numbers that it is
// handed are collected, to be recorded with its commit.
func (c *Conductor) inputs(it *item) (flow.Inputs, *[]store.Block) {
	used := &[]store.Block{}
	var again []store.Block // of the run that this one repeats
	var told time.Time
	sequence := func(n int) (int64, error) {
		block := store.Block{Count: int64(n)}
		var err error
		if it.SameAs != nil {
			if again == nil {
				if again, err = c.e.Store.Sequences(c.work, *it.SameAs); err != nil {
					return 0, err
				}
			}
			if len(*used) >= len(again) || again[len(*used)].Count < block.Count {
				return 0, fmt.Errorf("run %d has no record of its sequence numbers", *it.SameAs)
			}
			block.First = again[len(*used)].First
		} else if block.First, err = c.numbers(n); err != nil {
			return 0, err
		}
		*used = append(*used, block)
		return block.First, nil
	}
	progress := func(p flow.Progress) {
		c.beat[processing].Store(time.Now().UnixNano())
		if it.Size <= smallFile && len(it.members) == 0 {
			return
		}
		c.e.mu.Lock()
		now := c.e.current[*it.Run]
		now.Balance, now.Stage, now.About, now.File, now.Branches = p.Balance, p.Stage, p.About, p.File, []BranchProgress{}
		for k, n := range p.Branches {
			now.Branches = append(now.Branches, BranchProgress{it.compiled.Branches[k].Name, n})
		}
		c.e.current[*it.Run] = now
		c.e.mu.Unlock()
		if time.Since(told) > 200*time.Millisecond {
			if !told.IsZero() {
				c.e.Tell(Event{Kind: "progress", Route: it.Route, Pickup: it.Pickup, Run: *it.Run, Name: it.Name, State: "taken", Balance: &p.Balance, Stage: p.Stage, About: p.About})
			}
			told = time.Now()
		}
	}
	known := facts(it.compiled, it.Name, it.Folder, it.Event, it.Mail, *it.Now)
	if it.compiled.Collect.Any() {
		known.Key, known.Files = it.CollectKey, len(it.read())
	}
	return flow.Inputs{Facts: known, Cores: c.e.Cores, Size: it.Size, Sequence: sequence, Progress: progress, Spill: c.e.Spill}, used
}

// numbers hands out sequence numbers. Only the process stage asks. When many
// small files follow each other, more are fetched at once than one needs.
func (c *Conductor) numbers(n int) (int64, error) {
	if missing := int64(n) - c.stock.Count; missing > 0 {
		ask := missing
		if time.Since(c.stocked) < 100*time.Millisecond {
			ask = max(missing, 100)
		}
		first, err := c.e.Store.Numbers(c.work, c.node.ID, c.name, int(ask))
		if err != nil {
			return 0, err
		}
		switch {
		case first == c.stock.First+c.stock.Count: // they follow those in hand
			c.stock.Count += ask
		case ask >= int64(n):
			c.stock = store.Block{First: first, Count: ask}
		default: // somebody else had some in between: what is in hand is given up
			c.stock = store.Block{}
			return c.numbers(n)
		}
		c.stocked = time.Now()
	}
	first := c.stock.First
	c.stock.First += int64(n)
	c.stock.Count -= int64(n)
	return first, nil
}
