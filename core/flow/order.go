package flow

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/format"
	"ydrion/core/order"
	"ydrion/core/place"
	"ydrion/core/schema"
	"ydrion/core/shape"
	"ydrion/core/text"
)

// Order is another order than that of the file in which records are worked on, and which of them are.
type Order struct {
	// OnePer lets one record go on of those that have the same in these fields: the first, or the last.
	OnePer []Key
	Last   bool
	// Rows checks a record by itself: one that is wrong is rejected, and keeps no other from going on.
	Rows *schema.Schema
	// By is the order: that of the keys, and of the file where they are equal. Empty: that of the file.
	By []Key
}

// Key is what records are ordered by.
type Key struct {
	Slot       int
	Field      *shape.Field
	Descending bool
	Exactly    bool // as it stands in the file, not by its type
}

// append adds a record's key.
func (k *Key) append(key []byte, b *batch.Batch, record int) []byte {
	from := len(key)
	written, there := b.Value(record, k.Slot)
	if k.Exactly {
		key = order.Exactly(key, written, there)
	} else {
		v, known := k.Field.Read(written)
		key = order.Append(key, v, known, written)
	}
	if k.Descending {
		order.Descending(key, from)
	}
	return key
}

// ordered gives the texts of records in another order, as a stream.
type ordered struct {
	sorted  *order.Sorter
	rest    []byte // of the text that was begun
	at      int64  // where the next text begins in the stream
	origins []stands
}

// stands tells where a text of the stream stands in the file.
type stands struct {
	at, off, line int64
	file          int
	recast        bool // it is written otherwise there
	column        int64
	own, size     int      // the part of the text that is written so there, 0 long if all is, or none
	ends          []uint32 // its line ends there
}

// append says it before a text.
func (s *stands) append(item []byte) []byte {
	kind := uint64(s.file) << 2
	if s.recast {
		kind |= 1
	}
	if s.size > 0 {
		kind |= 2
	}
	item = binary.AppendUvarint(binary.AppendUvarint(binary.AppendUvarint(item, kind), uint64(s.off)), uint64(s.line))
	if s.size == 0 {
		return item
	}
	for _, n := range []int{int(s.column), s.own, s.size, len(s.ends)} {
		item = binary.AppendUvarint(item, uint64(n))
	}
	before := uint32(0)
	for _, end := range s.ends {
		item, before = binary.AppendUvarint(item, uint64(end-before)), end
	}
	return item
}

// standsAt takes from an item where its text stands in which file.
func standsAt(item []byte) (s stands, text []byte) {
	next := func() int {
		n, k := binary.Uvarint(item)
		item = item[k:]
		return int(n)
	}
	kind := next()
	s = stands{file: kind >> 2, recast: kind&1 > 0, off: int64(next()), line: int64(next())}
	if kind&2 > 0 {
		s.column, s.own, s.size, s.ends = int64(next()), next(), next(), make([]uint32, next())
		before := 0
		for i := range s.ends {
			before += next()
			s.ends[i] = uint32(before)
		}
	}
	return s, item
}

// lineEnds are the offsets of a text's line ends: of the last character of each.
func lineEnds(text []byte) (ends []uint32) {
	for i := 0; ; i++ {
		at := bytes.IndexAny(text[i:], "\r\n")
		if at < 0 {
			return ends
		}
		if i += at; text[i] == '\r' && i+1 < len(text) && text[i+1] == '\n' {
			i++
		}
		ends = append(ends, uint32(i))
	}
}

// Read reads on in the texts.
func (o *ordered) Read(b []byte) (n int, err error) {
	for n < len(b) {
		if len(o.rest) == 0 {
			_, text, more, err := o.sorted.Next()
			if err != nil {
				return n, err
			}
			if !more {
				if n == 0 {
					return 0, io.EOF
				}
				return n, nil
			}
			from, rest := standsAt(text)
			from.at, o.rest = o.at, rest
			o.origins = append(o.origins, from)
			o.at += int64(len(o.rest))
		}
		k := copy(b[n:], o.rest)
		o.rest, n = o.rest[k:], n+k
	}
	return n, nil
}

// tell says in a batch of the stream where its texts stand in the file.
func (o *ordered) tell(b *batch.Batch) {
	n := 0
	for ; n < len(o.origins) && o.origins[n].at < b.Base+int64(b.N); n++ {
		s := &o.origins[n]
		origin := batch.Origin{Off: uint32(s.at - b.Base), File: s.file, Recast: s.recast, At: s.off, Line: s.line, Column: s.column, Ends: s.ends}
		if s.size > 0 {
			origin.Own.Off = origin.Off + uint32(s.own)
			origin.Own.End = origin.Own.Off + uint32(s.size)
		}
		b.Origins = append(b.Origins, origin)
	}
	o.origins = append(o.origins[:0], o.origins[n:]...)
}

// reordering is the first pass over files whose records are worked on in another order.
type reordering struct {
	plan   *Order
	reader format.Reordering
	inputs Inputs
	number uint64 // of the next record, from 1

	ones *order.Sorter // by what only one may have
	all  *order.Sorter // in the order in which they go on
	key  []byte
	item []byte
	text []byte // of the record at hand

	left  []int64     // by file: how many do not go on
	first place.Place // of those that are left out, and
	of    int         // its file

	read int64 // bytes
	ends []end // of the files
}

// end is how a file ended that was read for the order of its records.
type end struct {
	cut  error        // that ended it before its end
	said finding.List // what it says about itself as a whole
	in   io.Closer    // what is left of it is still to be read
}

// inOtherOrder reads the records of all files, and works on them in another order.
func (r *run) inOtherOrder(ctx context.Context) error {
	n := len(r.opened.files)
	o := &reordering{plan: r.plan.Order, inputs: r.inputs, all: order.New(r.inputs.Memory, r.inputs.Spill), left: make([]int64, n), ends: make([]end, n)}
	if o.plan.OnePer != nil {
		o.ones = order.New(r.inputs.Memory, r.inputs.Spill)
	}
	defer o.close() //nolint: it was only read
	for k := range n {
		if err := o.take(ctx, r, k); err != nil {
			return err
		}
	}
	for k := range n {
		if result := &r.all.Files[k]; result.Disagrees || n > 1 && o.ends[k].said.HasErrors() {
			for k := range n { // nothing can be good before those are left out
				result := &r.all.Files[k]
				result.Findings, result.Disagrees = append(result.Findings, o.ends[k].said...), result.Disagrees || o.ends[k].said.HasErrors()
			}
			return nil
		}
	}
	if r.lead == nil {
		return nil
	}
	if o.ones != nil {
		if err := o.choose(); err != nil {
			return err
		}
	}
	if err := o.all.Sorted(); err != nil {
		return err
	}
	r.texts = &ordered{sorted: o.all}
	r.reader = r.lead.(format.Reordering).Reordered(r.texts)
	r.file, r.result = r.leads, &r.all.Files[r.leads]
	r.opened.Reader, r.opened.File = r.reader, r.leads
	for k, left := range o.left {
		result := &r.all.Files[k]
		result.In, result.Filtered = left, left
	}
	if f := o.findings(r.opened.files); f != nil {
		result := &r.all.Files[o.of]
		result.Findings = append(result.Findings, *f)
	}
	r.expected = int64(o.number)
	if err := r.sink.Open(r.opened); err != nil {
		return err
	}
	size := int64(0)
	for _, f := range r.opened.files {
		size += f.Size
	}
	if err := r.batches(ctx, size); err != nil {
		return err
	}
	for k := range o.ends {
		if r.all.Files[k].Unreadable {
			continue
		}
		r.opened.File = k
		if err := r.ended(k, o.ends[k].cut, o.ends[k].said); err != nil {
			return err
		}
	}
	return nil
}

// take reads one of the files to its end.
func (o *reordering) take(ctx context.Context, r *run, k int) error {
	in, err := r.opened.files[k].Open()
	if err != nil {
		return err
	}
	o.ends[k].in = in
	entered, err := r.enter(k, in)
	if err == nil && entered {
		var can bool
		if o.reader, can = r.reader.(format.Reordering); !can {
			return errors.New("records of this format cannot be put into another order")
		}
		err = o.records(ctx, r, k)
		var damaged *text.Damaged
		if errors.As(err, &damaged) || errors.Is(err, text.ErrBomb) {
			err = r.ended(k, err, nil)
		}
	}
	if o.ends[k].cut == nil {
		o.ends[k].in = nil
		err = errors.Join(err, in.Close())
	}
	return err
}

// records takes the records of a file.
func (o *reordering) records(ctx context.Context, r *run, k int) error {
	b := batches.Get().(*batch.Batch)
	defer put(b)
	b.Turn, b.Next = nil, nil
	var records int64
	for {
		b.Reset()
		more, err := r.cut(b)
		if b.First = records + 1; err == nil || isBroken(err) {
			if taken := o.batch(r, b); taken != nil {
				return taken
			}
		}
		records, o.read = records+int64(b.Records()), o.read+int64(b.N)
		if r.inputs.Progress != nil {
			r.inputs.Progress(Progress{Balance: Balance{In: int64(o.number), Bytes: o.read}, Stage: Ordering, File: k + 1})
		}
		switch {
		case isBroken(err):
			o.ends[k].cut = err
			return nil
		case err != nil:
			return err
		case !more:
			o.ends[k].said = o.reader.Finish(records)
			return nil
		}
		if err := ctx.Err(); err != nil {
			return err
		}
	}
}

// isBroken tells whether the syntax of a file could not be followed any further.
func isBroken(err error) bool {
	var broken *format.Broken
	return errors.As(err, &broken)
}

// batch takes the records of a batch.
func (o *reordering) batch(r *run, b *batch.Batch) (err error) {
	defer defect(&err, "putting records into order")
	o.reader.Split(b)
	wrong := map[int32]bool{}
	if o.ones != nil {
		for _, n := range b.Notes {
			wrong[n.Record] = wrong[n.Record] || !n.Warn
		}
	}
	for i := range b.Records() {
		o.number++
		at := b.Place(i, b.Bounds[i].Off)
		s := stands{file: b.File, off: at.Offset, line: at.Line, column: at.Column}
		if o.text, s.own = o.reader.Alone(o.text[:0], b, i); r.recast != nil {
			o.text, s.recast = r.lead.(format.Ending).Ended(append(o.text[:0], r.recast.Recast(o.reader, b, i)...)), true
		} else if s.own >= 0 {
			own := b.Raw(i)
			s.size, s.ends = len(own), lineEnds(own)
		}
		o.item = append(s.append(o.item[:0]), o.text...)
		o.key = o.key[:0]
		if o.ones == nil || wrong[int32(i)] || !o.plan.Rows.Check(b, i, false) {
			if err := o.all.Add(o.sorting(b, i), o.item); err != nil {
				return err
			}
			continue
		}
		for k := range o.plan.OnePer {
			o.key = o.plan.OnePer[k].append(o.key, b, i)
		}
		one := len(o.key)
		o.key = o.sorting(b, i)
		// What decides is the number; the key of the order goes with the text.
		item := binary.AppendUvarint(nil, uint64(len(o.key)-one))
		item = append(append(item, o.key[one:]...), o.item...)
		if err := o.ones.Add(binary.BigEndian.AppendUint64(o.key[:one:one], o.number), item); err != nil {
			return err
		}
	}
	return nil
}

// sorting adds the key of the order to the key.
func (o *reordering) sorting(b *batch.Batch, record int) []byte {
	key := o.key
	for k := range o.plan.By {
		key = o.plan.By[k].append(key, b, record)
	}
	o.key = binary.BigEndian.AppendUint64(key, o.number)
	return o.key
}

// choose lets one record go on of each that have the same.
func (o *reordering) choose() error {
	if err := o.ones.Sorted(); err != nil {
		return err
	}
	var before, held []byte // what the records before have the same, and the last of them
	give := func(item []byte) error {
		n, k := binary.Uvarint(item)
		return o.all.Add(item[k:k+int(n)], item[k+int(n):])
	}
	for {
		key, item, more, err := o.ones.Next()
		if err != nil {
			return err
		}
		if more && before != nil && bytes.Equal(key[:len(key)-8], before) {
			if o.plan.Last {
				o.leave(held)
				held = append(held[:0], item...)
			} else {
				o.leave(item)
			}
			continue
		}
		if o.plan.Last && before != nil {
			if err := give(held); err != nil {
				return err
			}
		}
		if !more {
			return o.ones.Close()
		}
		before = append(before[:0], key[:len(key)-8]...)
		if o.plan.Last {
			held = append(held[:0], item...)
		} else if err := give(item); err != nil {
			return err
		}
	}
}

// leave notes that a record is left out.
func (o *reordering) leave(item []byte) {
	n, k := binary.Uvarint(item)
	s, _ := standsAt(item[k+int(n):])
	if o.left[s.file]++; o.first.Line == 0 || s.file < o.of || s.file == o.of && s.off < o.first.Offset {
		o.first, o.of = place.Place{Offset: s.off, Line: s.line, Column: 1}, s.file
	}
}

// findings is what is to be said of the records that were left out; nil if none were.
func (o *reordering) findings(files []File) *finding.Finding {
	left := int64(0)
	for _, n := range o.left {
		left += n
	}
	if left == 0 {
		return nil
	}
	if len(files) > 1 {
		o.first.File = files[o.of].Name
	}
	which := map[bool]string{false: "first", true: "last"}[o.plan.Last]
	names := ""
	for i, k := range o.plan.OnePer {
		if i > 0 {
			names += ", "
		}
		names += k.Field.Name
	}
	f := finding.Warn("shape.one-per", o.first, "%s left out: others have the same %s, and only the %s of them goes on; this is where the first of those stands that were left out", counted(left), names, which)
	return &f
}

func (o *reordering) close() error {
	err := o.all.Close()
	for _, e := range o.ends {
		if e.in != nil {
			err = errors.Join(err, e.in.Close())
		}
	}
	if o.ones != nil {
		err = errors.Join(err, o.ones.Close())
	}
	return err
}

// counted says how many records were.
func counted(n int64) string {
	if n == 1 {
		return "1 record was"
	}
	return fmt.Sprintf("%d records were", n)
}
