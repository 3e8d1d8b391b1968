package flow

import (
	"bytes"
	"fmt"
	"strconv"

	"ydrion/core/batch"
	"ydrion/core/format"
	"ydrion/core/text"
)

// enveloping puts envelopes around messages that go on as they came: those that they stood in, with what
// is in them counted anew.
type enveloping struct {
	open   []format.Envelope
	counts []int64 // of what stands directly in each
}

// next writes what closes and opens before a message.
func (e *enveloping) next(out []byte, around []format.Envelope) []byte {
	same := 0
	for same < len(e.open) && same < len(around) && e.open[same].At == around[same].At {
		same++
	}
	out = e.close(out, same)
	for _, a := range around[same:] {
		if n := len(e.counts); n > 0 {
			e.counts[n-1]++
		}
		out = append(out, a.Opens...)
		e.open, e.counts = append(e.open, a), append(e.counts, 0)
	}
	if n := len(e.counts); n > 0 && !(e.open[n-1].Together && e.counts[n-1] > 0) {
		e.counts[n-1]++
	}
	return out
}

// close writes what closes all envelopes but the first so many.
func (e *enveloping) close(out []byte, but int) []byte {
	for i := len(e.open) - 1; i >= but; i-- {
		out = append(strconv.AppendInt(append(out, e.open[i].Closes...), e.counts[i], 10), e.open[i].Number...)
	}
	e.open, e.counts = e.open[:but], e.counts[:but]
	return out
}

// enveloped tells whether messages go on as they came, in envelopes.
func (o *Opened) enveloped() (format.Enveloped, bool) {
	r, is := o.Reader.(format.Enveloped)
	return r, is && o.Plan.Program.AsCame()
}

// All gives what the good records of a batch are in an output of all, in the character set of the output. The
// output's first batch has what the output begins with.
func (o *Opened) All(b *batch.Batch, first bool) ([]byte, error) {
	if framer, is := o.Plan.Program.Framer(); is {
		if !first {
			return text.Encode(b.Out, o.Charset)
		}
		return o.marked(append(framer.Begins(o.Reader), b.Out...))
	}
	reader, is := o.enveloped()
	if !is {
		return o.made(b.Out, first)
	}
	if first {
		o.envelopes = enveloping{}
	}
	var out []byte
	reader.Envelopes(b, func(record int, around []format.Envelope, end []byte) {
		if b.Outcomes[record] == batch.Good {
			out = append(append(o.envelopes.next(out, around), b.Made(record)...), end...)
		}
	})
	return text.Encode(out, o.Charset)
}

// Part is one of the outputs of a file whose records are told apart by a value.
type Part struct {
	opened    *Opened
	number    int64
	records   int64 // of the target
	begun     bool
	envelopes enveloping
}

// Part begins an output with a number of the route's sequence.
func (o *Opened) Part(number int64) *Part { return &Part{opened: o, number: number} }

// Parts gives each good record of a batch, with what stands around it.
func (o *Opened) Parts(b *batch.Batch, give func(record int, around []format.Envelope, end []byte) error) error {
	reader, is := o.enveloped()
	if !is {
		for i, w := range b.Outcomes {
			if w == batch.Good {
				if err := give(i, nil, nil); err != nil {
					return err
				}
			}
		}
		return nil
	}
	var failed error
	reader.Envelopes(b, func(record int, around []format.Envelope, end []byte) {
		if failed == nil && b.Outcomes[record] == batch.Good {
			failed = give(record, around, end)
		}
	})
	return failed
}

// Add gives what a record adds to the output, in the character set of that: before the first stands what the
// output begins with.
func (p *Part) Add(b *batch.Batch, record int, around []format.Envelope, end []byte) ([]byte, error) {
	o, made := p.opened, b.Made(record)
	if len(made) == 0 { // it becomes a row for each of a list, which is empty
		return nil, nil
	}
	first := !p.begun
	p.begun = true
	p.records += int64(b.Pieces[record])
	if framer, is := o.Plan.Program.Framer(); is {
		if first {
			return o.marked(append(framer.Begins(o.Reader), made...))
		}
		return text.Encode(made, o.Charset)
	}
	if _, is := o.enveloped(); is {
		return text.Encode(append(append(p.envelopes.next(nil, around), made...), end...), o.Charset)
	}
	if first {
		begins, _, problem := o.Plan.Program.Surround(o.facts, p.number, 0)
		if problem != nil {
			return nil, fmt.Errorf("%s", problem)
		}
		made = append(begins, made[o.Plan.Program.Skip():]...)
	}
	return o.Plan.Program.Encode(made)
}

// Ends gives what the output ends with.
func (p *Part) Ends() ([]byte, error) {
	o := p.opened
	if framer, is := o.Plan.Program.Framer(); is {
		return text.Encode(framer.Ends(o.Reader, p.records), o.Charset)
	}
	if _, is := o.enveloped(); is {
		return text.Encode(p.envelopes.close(nil, 0), o.Charset)
	}
	_, ends, problem := o.Plan.Program.Surround(o.facts, p.number, p.records)
	if problem != nil {
		return nil, fmt.Errorf("%s", problem)
	}
	return o.Plan.Program.Encode(ends)
}

// marked is text in the file's own character set, behind its byte order mark.
func (o *Opened) marked(b []byte) ([]byte, error) {
	encoded, err := text.Encode(b, o.Charset)
	return append(bytes.Clone(o.Mark), encoded...), err
}

// Each gives each good record of a batch as an output of its own.
func (o *Opened) Each(b *batch.Batch, give func(record int, made []byte) error) error {
	reader, is := o.enveloped()
	if !is {
		framer, framed := o.Plan.Program.Framer()
		for i, w := range b.Outcomes {
			if w != batch.Good {
				continue
			}
			made, err := []byte(nil), error(nil)
			if framed {
				made, err = o.marked(append(framer.Begins(o.Reader), b.Made(i)...))
			} else {
				made, err = o.made(b.Made(i), false)
			}
			if err != nil {
				return err
			}
			if err := give(i, made); err != nil {
				return err
			}
		}
		return nil
	}
	var failed error
	reader.Envelopes(b, func(record int, around []format.Envelope, end []byte) {
		if failed != nil || b.Outcomes[record] != batch.Good {
			return
		}
		e := enveloping{}
		out := e.close(append(append(e.next(nil, around), b.Made(record)...), end...), 0)
		if out, failed = text.Encode(out, o.Charset); failed == nil {
			failed = give(record, out)
		}
	})
	return failed
}
