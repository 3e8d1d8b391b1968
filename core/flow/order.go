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
type stands struct{ at, off, line int64 }

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
			off, k := binary.Uvarint(text)
			line, l := binary.Uvarint(text[k:])
			o.rest = text[k+l:]
			o.origins = append(o.origins, stands{o.at, int64(off), int64(line)})
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
		b.Origins = append(b.Origins, batch.Origin{Off: uint32(s.at - b.Base), At: s.off, Line: s.line})
	}
	o.origins = append(o.origins[:0], o.origins[n:]...)
}

// reordering is the first pass over a file whose records are worked on in another order.
type reordering struct {
	plan   *Order
	reader format.Reordering
	inputs Inputs
	number uint64 // of the next record, from 1

	ones *order.Sorter // by what only one may have
	all  *order.Sorter // in the order in which they go on
	key  []byte
	item []byte

	left  int64        // that do not go on
	first place.Place  // of those that are left out
	ended finding.List // what the file says about itself as a whole
	cut   error        // what ended it before its end
}

// reorder reads the file to its end and gives a reader of its records in the other order.
func (r *run) reorder(ctx context.Context) (*reordering, error) {
	reader, can := r.opened.Reader.(format.Reordering)
	if !can {
		return nil, fmt.Errorf("records of this format cannot be put into another order")
	}
	o := &reordering{plan: r.plan.Order, reader: reader, inputs: r.inputs, all: order.New(r.inputs.Memory, r.inputs.Spill)}
	if o.plan.OnePer != nil {
		o.ones = order.New(r.inputs.Memory, r.inputs.Spill)
	}
	err := o.read(ctx, r)
	if err == nil && o.ones != nil {
		err = o.choose()
	}
	if err == nil {
		err = o.all.Sorted()
	}
	if err != nil {
		return nil, errors.Join(err, o.close())
	}
	return o, nil
}

// read takes the records of the file.
func (o *reordering) read(ctx context.Context, r *run) error {
	b := batches.Get().(*batch.Batch)
	defer put(b)
	b.Turn, b.Next = nil, nil
	var read, records int64
	for {
		b.Reset()
		more, err := r.cut(b)
		if b.First = records + 1; err == nil || isBroken(err) {
			if taken := o.take(b); taken != nil {
				return taken
			}
		}
		records, read = records+int64(b.Records()), read+int64(b.N)
		if r.inputs.Progress != nil {
			r.inputs.Progress(Progress{Balance: Balance{In: records, Bytes: read}, Stage: Ordering})
		}
		switch {
		case isBroken(err):
			o.cut, o.ended = err, o.reader.Finish(records+1)
			return nil
		case err != nil:
			return err
		case !more:
			o.ended = o.reader.Finish(records)
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

// take takes the records of a batch.
func (o *reordering) take(b *batch.Batch) (err error) {
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
		o.item = binary.AppendUvarint(binary.AppendUvarint(o.item[:0], uint64(at.Offset)), uint64(at.Line))
		o.item = o.reader.Ended(append(o.item, b.Raw(i)...))
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
	off, l := binary.Uvarint(item[k+int(n):])
	at, _ := binary.Uvarint(item[k+int(n)+l:])
	if o.left++; o.left == 1 || int64(off) < o.first.Offset {
		o.first = place.Place{Offset: int64(off), Line: int64(at), Column: 1}
	}
}

// findings are what is to be said of the records that were left out.
func (o *reordering) findings() finding.List {
	if o.left == 0 {
		return nil
	}
	which := map[bool]string{false: "first", true: "last"}[o.plan.Last]
	names := ""
	for i, k := range o.plan.OnePer {
		if i > 0 {
			names += ", "
		}
		names += k.Field.Name
	}
	return finding.List{finding.Warn("shape.one-per", o.first, "%s left out: others have the same %s, and only the %s of them goes on; this is where the first of those stands that were left out", counted(o.left), names, which)}
}

func (o *reordering) close() error {
	err := o.all.Close()
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
