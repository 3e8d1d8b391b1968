package run

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"time"

	"ydrion/archive"
	"ydrion/core/finding"
	"ydrion/core/flow"
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
	c.e.Tell(Event{Kind: "pickup", Route: c.name, Pickup: it.Pickup, Run: *it.Run, Name: it.Name, State: "taken"})
	if err := c.keep(it); err != nil {
		return err
	}
	if it.resumed {
		if err := c.compare(it); err != nil {
			return err
		}
	}
	if it.verdict != nil && it.verdict.what == workspace.Hold {
		return errPerson{errors.New(it.verdict.finding.Message), "duplicate"}
	}
	out, err := c.prepared(it)
	if err != nil {
		return err
	}
	for {
		err := c.fill(it, out)
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
	out := &outputs{Maker: c.maker(*it.Run), route: it.compiled, name: it.Name, spool: c.e.Spool, beat: &c.beat[processing]}
	out.keep = func(deliveries []store.Delivery, rejects []store.Reject, first bool) error {
		return c.e.Store.Keep(c.work, *it.Run, deliveries, rejects, first)
	}
	out.drop = func() error { return c.e.Store.Drop(c.work, *it.Run) }
	out.to = it.compiled.Destinations()
	out.divide()
	for _, d := range out.to {
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
		return io.NopCloser(bytes.NewReader(it.content)), nil
	}
	return c.e.Archive.Open(*it.SHA256)
}

// fill writes a run's outputs and says what is to be committed.
func (c *Conductor) fill(it *item, out *outputs) error {
	original, err := c.original(it)
	if err != nil {
		return err
	}
	defer original.Close()
	read := bufio.NewReaderSize(original, int(min(max(it.Size, 512), MostHead))) // the beginning of a file that goes on unread is looked at
	inputs, numbers := c.inputs(it)
	result := flow.Result{Unreadable: true}
	switch {
	case it.verdict != nil && it.verdict.what == workspace.Reject:
		result.Findings = finding.List{it.verdict.finding}
	default:
		env := &lang.Env{Facts: inputs.Facts}
		if it.compiled.Plan.Unread {
			if err := unread(env, read, it.Size, it.compiled.Plan, inputs); err != nil {
				return err
			}
		}
		if f := out.nameAll(env); f != nil {
			result.Findings = finding.List{*f}
		}
	}
	switch {
	case len(result.Findings) > 0:
	case it.compiled.Plan.Unread:
		if result, err = out.pass(read); err != nil {
			return err
		}
	default:
		defer c.e.watch(&it.Pending, *it.Run)()
		if result, err = it.compiled.Plan.Run(c.work, original, inputs, out); err != nil {
			return err
		}
	}
	for i := range result.Findings {
		result.Findings[i].Place.File = it.Name
	}
	if it.verdict != nil && it.verdict.what == workspace.Warn {
		result.Findings = append(result.Findings, it.verdict.finding)
	}
	commit := store.Commit{Run: *it.Run, Pickup: it.Pickup, Balance: result.Balance}
	over := it.compiled.Tolerate >= 0 && result.In > 0 && float64(result.Rejected) > it.compiled.Tolerate*float64(result.In)
	switch {
	case over, result.Disagrees, it.compiled.Plan.Checked && result.Broken:
		if over {
			result.Findings = append(result.Findings, tooMany(it.Name, result.Balance, it.compiled.Tolerate))
		}
		commit.Balance.Rejected, commit.Balance.Good = result.In-result.Filtered, 0
		fallthrough
	case result.Unreadable:
		commit.Whole = true
		whole, err := c.original(it)
		if err != nil {
			return err
		}
		defer whole.Close()
		if err := out.whole(whole, result.Findings); err != nil {
			return err
		}
	case result.In == 0 && !it.compiled.Plan.Unread:
		result.Findings = append(result.Findings, finding.Warn("file.no-records", place.InFile(it.Name), "the file has a heading but no records"))
	}
	if it.compiled.Plan.Checked && !commit.Whole {
		if err := c.passOn(it, out, result.In); err != nil {
			return err
		}
	}
	if err := c.finish(it, out, &commit, &result); err != nil {
		return err
	}
	commit.Findings, commit.Deliveries, commit.Rejects, commit.Kept, commit.Numbers = result.Findings, out.deliveries, out.rejects, out.kept, *numbers
	it.commit, it.balance, it.whole = commit, commit.Balance, commit.Whole
	return nil
}

// finish ends the outputs. If one cannot be ended or named, the file is rejected whole.
func (c *Conductor) finish(it *item, out *outputs, commit *store.Commit, result *flow.Result) error {
	err := out.finish()
	var unfinished *flow.Unfinished
	if !errors.As(err, &unfinished) {
		return err
	}
	result.Findings = append(result.Findings, unfinished.Finding)
	commit.Whole, commit.Balance.Rejected, commit.Balance.Good = true, result.In-result.Filtered, 0
	whole, err := c.original(it)
	if err != nil {
		return err
	}
	defer whole.Close()
	if err := out.whole(whole, result.Findings); err != nil {
		return err
	}
	return out.finish()
}

// passOn gives a file whose records have been checked to its destinations as it came.
func (c *Conductor) passOn(it *item, out *outputs, records int64) error {
	original, err := c.original(it)
	if err != nil {
		return err
	}
	defer original.Close()
	return out.copy(original, records)
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
		if it.Size <= smallFile {
			return
		}
		c.e.mu.Lock()
		now := c.e.current[*it.Run]
		now.Balance, now.Stage, now.About, now.Branches = p.Balance, p.Stage, p.About, []BranchProgress{}
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
	return flow.Inputs{Facts: facts(it.compiled, it.Name, it.Folder, it.Event, *it.Now), Cores: c.e.Cores, Size: it.Size, Sequence: sequence, Progress: progress, Spill: c.e.Spill}, used
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
