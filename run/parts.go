package run

import (
	"fmt"
	"slices"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/flow"
	"ydrion/core/format"
	"ydrion/core/lang"
	"ydrion/core/place"
	"ydrion/deliver"
)

// parts are the outputs of a branch whose records are told apart by a value, or go into outputs of so many, in
// the order in which they began. Few of them are open at once.
type parts struct {
	list    []*part
	known   []*part // by value and destination; nil: nothing has gone there
	current []*part // of so many records or bytes, by destination; nil: nothing goes there
	begun   int64   // of those
	awake   []*part // the one that was written last stands last
	held    int     // bytes that have not been written
}

// part is one of them.
type part struct {
	*flow.Part
	out            *deliver.Output // nil: nothing has been written yet
	label          string
	held           []byte // has not been written
	destination    int    // of the branch
	name           string // or flow.Unnamed
	which, number  int64  // of those that have so many records, from 1; of the route's sequence
	records, first int64
	bytes, ends    int64        // that have been written, and that follow at most
	record         *batch.Batch // the first, if it is named by it
	totals         lang.Totals  // what its name asks of all its records
}

// mostAwake is how many are open at once.
const mostAwake = 64

func (p *parts) outputs() []*deliver.Output {
	out := make([]*deliver.Output, 0, len(p.list))
	for _, one := range p.list {
		if one.out != nil {
			out = append(out, one.out)
		}
	}
	return out
}

// turn lets a part be written, and another one rest.
func (p *parts) turn(one *part) error {
	if i := slices.Index(p.awake, one); i >= 0 {
		copy(p.awake[i:], p.awake[i+1:])
		p.awake[len(p.awake)-1] = one
		return nil
	}
	p.awake = append(p.awake, one)
	if len(p.awake) <= mostAwake {
		return nil
	}
	rests := p.awake[0]
	p.awake = p.awake[1:]
	return rests.out.Rest()
}

// takeParts writes records into the outputs of their values.
func (o *outputs) takeParts(b *batch.Batch, branch int) error {
	to, m := &o.branches[branch], &b.Branches[branch]
	n := len(o.opened.Plan.Branches[branch].Outputs)
	return o.opened.Assemblies[branch].Records(b, func(i int, around []format.Envelope, end []byte) error {
		if len(m.Made(i)) == 0 {
			return nil
		}
		for k, name := range m.Called(i, n) {
			if name == "" {
				continue
			}
			of := m.Values[i].ID*n + k
			for len(to.parts.known) <= of {
				to.parts.known = append(to.parts.known, nil)
			}
			one := to.parts.known[of]
			if one == nil {
				one = &part{destination: k, name: name, number: m.Values[i].Number}
				to.parts.known[of] = one
				o.begin(one, branch, b, i)
			}
			if err := o.writePart(one, branch, b, i, around, end); err != nil {
				return err
			}
		}
		return nil
	})
}

// mostParts is how many outputs of so many records a file may become.
const mostParts = 250_000

// takeSeveral writes records into outputs of so many records, or bytes, each.
func (o *outputs) takeSeveral(b *batch.Batch, branch int) error {
	to, p, a := &o.branches[branch], &o.opened.Plan.Branches[branch], &o.opened.Assemblies[branch]
	return a.Records(b, func(i int, around []format.Envelope, end []byte) error {
		if len(b.Branches[branch].Made(i)) == 0 {
			return nil
		}
		full := to.parts.current == nil
		for _, one := range to.parts.current {
			if one == nil {
				continue
			}
			full = full || p.Records > 0 && one.records >= int64(p.Records)
			if p.Bytes > 0 && !full {
				adds, err := a.Size(b, i, around, end)
				if err != nil {
					return err
				}
				full = one.bytes+one.ends+adds > p.Bytes
			}
		}
		if full {
			if err := o.beginSeveral(b, branch, i); err != nil {
				return err
			}
		}
		for _, one := range to.parts.current {
			if one == nil {
				continue
			}
			if err := o.writePart(one, branch, b, i, around, end); err != nil {
				return err
			}
		}
		return nil
	})
}

// beginSeveral begins the next output of so many records at each destination.
func (o *outputs) beginSeveral(b *batch.Batch, branch, record int) error {
	to := &o.branches[branch]
	number, err := o.opened.Assemblies[branch].Number()
	if err != nil {
		return err
	}
	to.parts.current = nil
	if to.parts.begun++; to.parts.begun > mostParts {
		return &flow.Unfinished{Finding: finding.New("deliver.outputs", place.InFile(o.name), "the records become more than %d outputs", mostParts).Suggest("let more records go into one: `one file per`")}
	}
	for k := range o.opened.Plan.Branches[branch].Outputs {
		name := o.fileNames[to.from+k]
		if name == "" {
			to.parts.current = append(to.parts.current, nil)
			continue
		}
		one := &part{destination: k, name: name, which: to.parts.begun, number: number}
		o.begin(one, branch, b, record)
		to.parts.current = append(to.parts.current, one)
	}
	return nil
}

// begin begins an output with a record.
func (o *outputs) begin(one *part, branch int, b *batch.Batch, record int) {
	to := &o.branches[branch]
	one.Part, one.first = o.opened.Assemblies[branch].Part(one.number), b.First+int64(record)
	if o.opened.Plan.Branches[branch].Outputs[one.destination].Late {
		one.record = b.One(record)
	}
	to.parts.list = append(to.parts.list, one)
	one.label = fmt.Sprintf("part-%d-%d", branch, len(to.parts.list))
}

// What is written to many outputs in turn is kept in memory, up to so many bytes of each and of all: opening a file for
// each record would cost more than anything else.
const mostHeld, mostHeldOfAll = 32 << 10, 32 << 20

// writePart writes a record.
func (o *outputs) writePart(one *part, branch int, b *batch.Batch, record int, around []format.Envelope, end []byte) error {
	made, err := one.Add(b, record, around, end)
	if err != nil {
		return err
	}
	if one.name == flow.Unnamed {
		if one.totals, err = one.Totals(one.totals, b, record, one.destination); err != nil {
			return err
		}
	}
	if one.records++; one.records == 1 && o.opened.Plan.Branches[branch].Bytes > 0 {
		if one.ends, err = one.Closing(); err != nil {
			return err
		}
	}
	one.bytes += int64(len(made))
	to := &o.branches[branch]
	one.held, to.parts.held = append(one.held, made...), to.parts.held+len(made)
	switch {
	case len(one.held) >= mostHeld:
		return o.write(one, to)
	case to.parts.held > mostHeldOfAll:
		for _, one := range to.parts.list {
			if len(one.held) == 0 {
				continue
			}
			if err := o.write(one, to); err != nil {
				return err
			}
			one.held = nil
		}
	}
	return nil
}

// write writes what is held of an output that goes on.
func (o *outputs) write(one *part, to *branch) error {
	if err := o.flush(one, to); err != nil {
		return err
	}
	return to.parts.turn(one)
}

// flush writes what is held of an output.
func (o *outputs) flush(one *part, to *branch) (err error) {
	if one.out == nil {
		if one.out, err = o.create(o.folders[to.from+one.destination], one.label); err != nil {
			return err
		}
	}
	to.parts.held -= len(one.held)
	_, err = one.out.Write(one.held)
	one.held = one.held[:0]
	return err
}

// finishParts ends the outputs of a branch.
func (o *outputs) finishParts(branch int) error {
	to := &o.branches[branch]
	for _, one := range to.parts.list {
		ends, err := one.Ends()
		if err != nil {
			return err
		}
		if one.name == flow.Unnamed {
			if one.name, err = one.Name(one.record, one.destination, one.number, lang.PartOf{Number: one.which, Count: to.parts.begun, Records: one.records, Totals: one.totals}); err != nil {
				return err
			}
		}
		one.held = append(one.held, ends...)
		if err := o.flush(one, to); err != nil {
			return err
		}
		out := one.out
		one.out, one.held = nil, nil
		if err := o.add(out, "good", to.from+one.destination, one.name, one.records, one.first); err != nil {
			return err
		}
	}
	to.parts = parts{}
	return nil
}
