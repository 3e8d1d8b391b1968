package flow

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"slices"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/format"
)

// laid is a record as it is shown, to find what stands at a byte of it.
type laid struct {
	base   int64 // of the batch
	record int
	shift  int // its first byte in what is shown
	leaves []format.Node
}

// row places a finding about a row of a list: at its value, under the path with which that is shown.
func (o *Opened) row(b *batch.Batch, n batch.Note, f *finding.Finding) {
	t, record := &b.Tables[n.Table-1], int(n.Record)
	at := t.At[n.Row]
	if n.Slot >= 0 {
		s := t.Spans[int(n.Row)*t.Slots+int(n.Slot)]
		if s.Absent() {
			return
		}
		of := s.Off
		if int(of) >= b.N { // it was rewritten, and says where it stood
			of = binary.LittleEndian.Uint32(b.Buf[of-4:])
		}
		if of >= at && int(of) < b.N {
			at = of
		}
	}
	path := f.Place.Path
	f.Place = b.Place(record, at)
	if f.Place.Path = path; n.Slot < 0 {
		return
	}
	if l := &o.laid; l.leaves == nil || l.base != b.Base || l.record != record {
		raw := o.Reader.Raw(b, record)
		*l = laid{base: b.Base, record: record, shift: bytes.Index(raw, b.Raw(record)), leaves: []format.Node{}}
		if l.shift >= 0 {
			for _, node := range o.Reader.Outline(raw) {
				if node.Kind == format.Leaf && node.Path != "" {
					l.leaves = append(l.leaves, node)
				}
			}
			slices.SortStableFunc(l.leaves, func(a, b format.Node) int { return cmp.Compare(a.From, b.From) })
		}
	}
	here := int(at) - int(b.Bounds[record].Off) + o.laid.shift
	i, found := slices.BinarySearchFunc(o.laid.leaves, here, func(n format.Node, at int) int { return cmp.Compare(n.From, at) })
	if !found {
		i--
	}
	if i >= 0 && i < len(o.laid.leaves) && here < max(o.laid.leaves[i].To, o.laid.leaves[i].From+1) {
		f.Place.Path = o.laid.leaves[i].Path
	}
}
