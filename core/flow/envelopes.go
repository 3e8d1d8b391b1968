package flow

import (
	"bytes"
	"cmp"
	"slices"
	"strconv"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/format"
	"ydrion/core/lang"
	"ydrion/core/place"
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
	for same < len(e.open) && same < len(around) && e.open[same].At == around[same].At && e.open[same].File == around[same].File {
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

// Assembly puts the outputs of a branch together: its records, and what stands around them.
type Assembly struct {
	opened    *Opened
	branch    *Branch
	index     int
	begun     bool
	number    int64 // of the output of all
	records   int64 // of the target, in it
	envelopes enveloping

	env   *lang.Env // for what names ask of records of
	envOf int       // that file of the run
}

// Branch is the one whose outputs these are.
func (a *Assembly) Branch() *Branch { return a.branch }

// Number gives the next output of so many records its number of the route's sequence, 0 if it needs none.
// It is called in the order of the file, and nothing else has numbers of the sequence then.
func (a *Assembly) Number() (int64, error) {
	switch {
	case !a.branch.Numbered():
		return 0, nil
	case a.opened.sequence == nil:
		a.number++
		return a.number, nil
	}
	return a.opened.sequence(1)
}

// Size is how many bytes a record adds at most to an output that has begun.
func (a *Assembly) Size(b *batch.Batch, record int, stands []format.Envelope, end []byte) (int64, error) {
	made, err := b.Branches[a.index].Made(record), error(nil)
	if a.branch.Program.AsCame() {
		for _, e := range stands {
			made = slices.Concat(made, e.Opens, e.Closes, e.Number, make([]byte, digits))
		}
		made, err = text.Encode(slices.Concat(made, end), a.opened.Charset)
	} else {
		made, err = a.branch.Program.Encode(made)
	}
	return int64(len(made)), err
}

// digits are those of a count at most.
const digits = 20

// Name names an output that has been written, by its first record.
func (a *Assembly) Name(first *batch.Batch, destination int, number int64, part lang.PartOf) (string, error) {
	e := &lang.Env{Facts: a.opened.factsOf(first.File), Reader: a.opened.Reader, Part: part, Number: cmp.Or(number, a.number)}
	name, problem := a.branch.Outputs[destination].made(e, first, 0)
	if problem != "" {
		f := finding.New("deliver.name", place.InFile(a.opened.facts.Name), "the output that begins with record %d cannot be named: %s", first.First, problem)
		return "", &Unfinished{f}
	}
	return name, nil
}

// Totals adds a record to what the name of its output at a destination asks of all records in it.
func (a *Assembly) Totals(to lang.Totals, b *batch.Batch, record, destination int) (lang.Totals, error) {
	name := a.branch.Outputs[destination].Name
	if !name.Totals() {
		return to, nil
	}
	if file := b.FileOf(record); a.env == nil || a.envOf != file {
		a.env, a.envOf = &lang.Env{Facts: a.opened.factsOf(file), Reader: a.opened.Reader, Plain: a.branch.Plain}, file
	}
	to, problem := name.Add(to, a.env, b, record)
	if problem != "" {
		return to, &Unfinished{finding.New("deliver.name", b.Place(record, b.Bounds[record].Off), "the name of the output cannot be made: what it asks of its records cannot be told of record %d: %s", b.First+int64(record), problem)}
	}
	return to, nil
}

// enveloped tells whether messages go on as they came, in envelopes.
func (a *Assembly) enveloped() (format.Enveloped, bool) {
	r, is := a.opened.Reader.(format.Enveloped)
	return r, is && a.branch.Program.AsCame()
}

// envelopes tells what stands around each record of a batch, of whichever file of the run it is.
func envelopes(reader format.Enveloped, b *batch.Batch, say func(record int, around []format.Envelope, end []byte)) {
	reader.Envelopes(b, func(record int, around []format.Envelope, end []byte) {
		for i := range around {
			around[i].File = b.File
		}
		say(record, around, end)
	})
}

// All gives what the good records of a batch are in an output of all, in the character set of the output. The
// output's first records have what the output begins with.
func (a *Assembly) All(b *batch.Batch) ([]byte, error) {
	m := &b.Branches[a.index]
	if len(m.Out) == 0 {
		return nil, nil
	}
	o, first := a.opened, !a.begun
	if a.begun = true; first {
		if a.number = m.Number; a.branch.Several() { // they are looked at as one
			var err error
			if a.number, err = a.Number(); err != nil {
				return nil, err
			}
		}
	}
	a.records += m.Parts
	if framer, is := a.branch.Program.Framer(); is {
		if !first {
			return text.Encode(m.Out, o.Charset)
		}
		return o.marked(append(framer.Begins(o.Reader), m.Out...))
	}
	reader, is := a.enveloped()
	if !is {
		return a.made(m.Out, first)
	}
	var out []byte
	envelopes(reader, b, func(record int, around []format.Envelope, end []byte) {
		if b.In(a.index, record) {
			out = append(append(a.envelopes.next(out, around), m.Made(record)...), end...)
		}
	})
	return text.Encode(out, o.Charset)
}

// made gives what has been written of records in the character set of the output. The output's first has
// what it begins with.
func (a *Assembly) made(written []byte, first bool) ([]byte, error) {
	if first {
		begins, _, problem := a.branch.Program.Surround(a.opened.facts, a.number, 0)
		if problem != nil {
			return nil, &Unfinished{*problem}
		}
		written = append(begins, written[a.branch.Program.Skip():]...)
	}
	return a.branch.Program.Encode(written)
}

// Ends gives what an output of all good records ends with.
func (a *Assembly) Ends() ([]byte, error) {
	if a.branch.Separate {
		return nil, nil
	}
	return (&Part{Assembly: a, number: a.number, records: a.records, envelopes: a.envelopes}).Ends()
}

// Part is one of several outputs of a file: of the records of a value, or of so many.
type Part struct {
	*Assembly
	number    int64
	records   int64 // of the target
	begun     bool
	envelopes enveloping
}

// Part begins an output with a number of the route's sequence.
func (a *Assembly) Part(number int64) *Part { return &Part{Assembly: a, number: number} }

// Records gives each good record of a batch, with what stands around it.
func (a *Assembly) Records(b *batch.Batch, give func(record int, around []format.Envelope, end []byte) error) error {
	reader, is := a.enveloped()
	if !is {
		for i := range b.Outcomes {
			if b.In(a.index, i) {
				if err := give(i, nil, nil); err != nil {
					return err
				}
			}
		}
		return nil
	}
	var failed error
	envelopes(reader, b, func(record int, around []format.Envelope, end []byte) {
		if failed == nil && b.In(a.index, record) {
			failed = give(record, around, end)
		}
	})
	return failed
}

// Add gives what a record adds to the output, in the character set of that: before the first stands what the
// output begins with.
func (p *Part) Add(b *batch.Batch, record int, stands []format.Envelope, end []byte) ([]byte, error) {
	o, m := p.opened, &b.Branches[p.index]
	made := m.Made(record)
	if len(made) == 0 { // it becomes a row for each of a list, which is empty
		return nil, nil
	}
	first := !p.begun
	p.begun = true
	p.records += int64(m.Pieces[record])
	if framer, is := p.branch.Program.Framer(); is {
		if first {
			return o.marked(append(framer.Begins(o.Reader), made...))
		}
		return text.Encode(made, o.Charset)
	}
	if _, is := p.enveloped(); is {
		return text.Encode(append(append(p.envelopes.next(nil, stands), made...), end...), o.Charset)
	}
	if first {
		begins, _, problem := p.branch.Program.Surround(o.facts, p.number, 0)
		if problem != nil {
			return nil, &Unfinished{*problem}
		}
		made = append(begins, made[p.branch.Program.Skip():]...)
	}
	return p.branch.Program.Encode(made)
}

// Ends gives what the output ends with.
func (p *Part) Ends() ([]byte, error) {
	o := p.opened
	if framer, is := p.branch.Program.Framer(); is {
		return text.Encode(framer.Ends(o.Reader, p.records), o.Charset)
	}
	if _, is := p.enveloped(); is {
		return text.Encode(p.envelopes.close(nil, 0), o.Charset)
	}
	_, ends, problem := p.branch.Program.Surround(o.facts, p.number, p.records)
	if problem != nil {
		return nil, &Unfinished{*problem}
	}
	return p.branch.Program.Encode(ends)
}

// Closing is how many bytes the output ends with at most, from its first record on.
func (p *Part) Closing() (int64, error) {
	ended := *p
	ends, err := ended.Ends()
	if len(ends) == 0 {
		return 0, err
	}
	return int64(len(ends)) + digits*int64(1+len(p.envelopes.open)), err
}

// marked is text in the file's own character set, behind its byte order mark.
func (o *Opened) marked(b []byte) ([]byte, error) {
	encoded, err := text.Encode(b, o.Charset)
	return append(bytes.Clone(o.Mark), encoded...), err
}

// Each gives each good record of a batch as an output of its own.
func (a *Assembly) Each(b *batch.Batch, give func(record int, made []byte) error) error {
	o, m := a.opened, &b.Branches[a.index]
	framer, framed := a.branch.Program.Framer()
	_, enveloped := a.enveloped()
	return a.Records(b, func(record int, stands []format.Envelope, end []byte) (err error) {
		made := m.Made(record)
		switch {
		case framed:
			made, err = o.marked(append(framer.Begins(o.Reader), made...))
		case enveloped:
			e := enveloping{}
			made, err = text.Encode(e.close(append(append(e.next(nil, stands), made...), end...), 0), o.Charset)
		default:
			made, err = a.branch.Program.Encode(made)
		}
		if err != nil {
			return err
		}
		return give(record, made)
	})
}
