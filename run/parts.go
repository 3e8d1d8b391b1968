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
	known   map[partOf]*part
	current []*part // of so many records or bytes, by destination; nil: nothing goes there
	begun   int64   // of those
	awake   []*part // the one that was written last stands last
}

// partOf is a destination and a value.
type partOf struct {
	destination int
	key         string
}

// part is one of them.
type part struct {
	*flow.Part
	out            *deliver.Output
	destination    int    // of the branch
	name           string // or flow.Unnamed
	which, number  int64  // of those that have so many records, from 1; of the route's sequence
	records, first int64
	bytes, ends    int64        // that have been written, and that follow at most
	record         *batch.Batch // the first, if it is named by it
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
	if to.parts.known == nil {
		to.parts.known = map[partOf]*part{}
	}
	n := len(o.opened.Plan.Branches[branch].Outputs)
	return o.opened.Assemblies[branch].Records(b, func(i int, around []format.Envelope, end []byte) error {
		for k, name := range m.Names[i*n : i*n+n] {
			if name == "" || len(m.Made(i)) == 0 {
				continue
			}
			of := partOf{k, m.Keys[i]}
			one := to.parts.known[of]
			if one == nil {
				one = &part{destination: k, name: name, number: m.Numbers[i]}
				to.parts.known[of] = one
				if err := o.begin(one, branch, b, i); err != nil {
					return err
				}
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
		return &flow.Unfinished{Finding: finding.New("deliver.outputs", place.InFile(o.name), "the records become more than %d outputs", mostParts)}
	}
	for k := range o.opened.Plan.Branches[branch].Outputs {
		name := o.fileNames[to.from+k]
		if name == "" {
			to.parts.current = append(to.parts.current, nil)
			continue
		}
		one := &part{destination: k, name: name, which: to.parts.begun, number: number}
		if err := o.begin(one, branch, b, record); err != nil {
			return err
		}
		to.parts.current = append(to.parts.current, one)
	}
	return nil
}

// begin begins an output with a record.
func (o *outputs) begin(one *part, branch int, b *batch.Batch, record int) (err error) {
	to := &o.branches[branch]
	one.Part, one.first = o.opened.Assemblies[branch].Part(one.number), b.First+int64(record)
	if o.opened.Plan.Branches[branch].Outputs[one.destination].Late {
		one.record = b.One(record)
	}
	to.parts.list = append(to.parts.list, one)
	one.out, err = o.create(o.folders[to.from+one.destination], fmt.Sprintf("part-%d-%d", branch, len(to.parts.list)))
	return err
}

// writePart writes a record.
func (o *outputs) writePart(one *part, branch int, b *batch.Batch, record int, around []format.Envelope, end []byte) error {
	made, err := one.Add(b, record, around, end)
	if err != nil {
		return err
	}
	if err := o.branches[branch].parts.turn(one); err != nil {
		return err
	}
	if _, err := one.out.Write(made); err != nil {
		return err
	}
	if one.records++; one.records == 1 && o.opened.Plan.Branches[branch].Bytes > 0 {
		if one.ends, err = one.Closing(); err != nil {
			return err
		}
	}
	one.bytes += int64(len(made))
	return nil
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
			if one.name, err = one.Name(one.record, one.destination, one.number, lang.PartOf{Number: one.which, Count: to.parts.begun, Records: one.records}); err != nil {
				return err
			}
		}
		if len(ends) > 0 {
			if _, err := one.out.Write(ends); err != nil {
				return err
			}
		}
		out := one.out
		one.out = nil
		if err := o.add(out, "good", to.from+one.destination, one.name, one.records, one.first); err != nil {
			return err
		}
	}
	to.parts = parts{}
	return nil
}
