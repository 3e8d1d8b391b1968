package run

import (
	"fmt"
	"slices"

	"ydrion/core/batch"
	"ydrion/core/flow"
	"ydrion/core/format"
	"ydrion/deliver"
)

// parts are the outputs of a file whose records are told apart by a value, in the order in which they
// began. Few of them are open at once.
type parts struct {
	list  []*part
	known map[partOf]*part
	awake []*part // the one that was written last stands last
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
	destination    int
	name           string
	records, first int64
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
func (o *outputs) takeParts(b *batch.Batch) error {
	if o.parts.known == nil {
		o.parts.known = map[partOf]*part{}
	}
	n := len(o.folders)
	return o.opened.Parts(b, func(i int, around []format.Envelope, end []byte) error {
		for k, name := range b.Names[i*n : i*n+n] {
			if name == "" || len(b.Made(i)) == 0 {
				continue
			}
			of := partOf{k, b.Keys[i]}
			one := o.parts.known[of]
			if one == nil {
				one = &part{Part: o.opened.Part(b.Numbers[i]), destination: k, name: name, first: b.First + int64(i)}
				o.parts.known[of], o.parts.list = one, append(o.parts.list, one)
				var err error
				if one.out, err = o.create(o.folders[k], fmt.Sprintf("part-%d", len(o.parts.list))); err != nil {
					return err
				}
			}
			made, err := one.Add(b, i, around, end)
			if err != nil {
				return err
			}
			if err := o.parts.turn(one); err != nil {
				return err
			}
			if _, err := one.out.Write(made); err != nil {
				return err
			}
			one.records++
		}
		return nil
	})
}

// finishParts ends the outputs.
func (o *outputs) finishParts() error {
	for _, one := range o.parts.list {
		ends, err := one.Ends()
		if err != nil {
			return err
		}
		if len(ends) > 0 {
			if _, err := one.out.Write(ends); err != nil {
				return err
			}
		}
		out := one.out
		one.out = nil
		if err := o.add(out, "good", one.destination, one.name, one.records, one.first); err != nil {
			return err
		}
	}
	o.parts = parts{}
	return nil
}
