package hl7

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"slices"

	"ydrion/core/batch"
	"ydrion/core/segments"
)

// Raw is a record as a piece that can stand for itself: a message, or a unit with what it stands
// under in its message and what belongs to it, and without its siblings and what belongs to those.
func (r *Reader) Raw(b *batch.Batch, record int) []byte {
	unit := b.Bounds[record]
	if r.Unit < 0 || bytes.HasPrefix(b.Buf[unit.Off:], []byte("MSH")) {
		return b.Raw(record)
	}
	i, _ := slices.BinarySearchFunc(b.Messages, unit.Off, func(s batch.Span, off uint32) int { return cmp.Compare(s.End, off+1) })
	whole := b.Messages[i]
	if of := b.Base + int64(whole.Off); r.kin == nil || r.kinOf != of || r.kinEnd != of+int64(whole.Len()) {
		r.kin, r.kinOf, r.kinEnd = r.kindred(b, i), of, of+int64(whole.Len())
	}
	this := r.kin.At(unit.Off)
	if this < 0 {
		return b.Raw(record)
	}
	var out []byte
	r.kin.Of(this, func(p batch.Span) { out = append(out, b.Buf[p.Off:p.End]...) })
	return out
}

// kindred walks through a message and finds which segments belong to its units.
func (r *Reader) kindred(b *batch.Batch, whole int) *segments.Kin {
	message := b.Messages[whole]
	end := int(message.End)
	if i := bytes.IndexByte(b.Buf[message.Off:end], blockEnd); r.blocks && i >= 0 {
		end = int(message.Off) + i
	}
	w := newWalk(r, b)
	var problem string
	if w.sep, problem = separators(b.Buf[message.Off:end]); problem != "" {
		return &segments.Kin{}
	}
	terminator := terminatorOf(b.Buf[message.Off:end])
	w.odd = true
	w.character(int(message.Off), end, terminator)
	line, _, _ := bytes.Cut(w.scan[message.Off:end], []byte{terminator})
	kind, rest := field(line[4:], line[3], 9-1) // the text begins with MSH-2
	version, _ := field(rest, line[3], 12-9)
	kin := w.Kindred(w.structureOf(kind, version))
	for p := int(message.Off); p < end; {
		if between(b.Buf[p]) {
			p++
			continue
		}
		next := end
		if i := bytes.IndexByte(b.Buf[p:end], terminator); i >= 0 {
			next = p + i
		}
		w.p, w.stop = p, next
		for next < end && (b.Buf[next] == '\r' || b.Buf[next] == '\n') {
			next++
		}
		if w.names(p, w.stop) {
			w.Keep(b.Buf[p:p+3], keyAt(b.Buf, p), p, next)
		} else {
			w.Stray(p, next)
		}
		p = next
	}
	return kin
}

// Divide tells which stretches of a message belong to one unit alone: its segment, and what stands
// in its group.
func (r *Reader) Divide(b *batch.Batch, whole int, say func(from, to, n int)) {
	if r.Unit < 0 {
		return
	}
	kin := r.kindred(b, whole)
	for n := range kin.Units() {
		kin.Stretches(n, func(p batch.Span) { say(int(p.Off), int(p.End), n) })
	}
}

// Locate gives where a field of a record starts in the text: its value, or the
// record if it is absent.
func (r *Reader) Locate(b *batch.Batch, record, slot int) (uint32, string) {
	s := b.Spans[record*b.Slots+slot]
	name := r.Fields[slot]
	switch {
	case s.Absent():
		return b.Bounds[record].Off, name
	case int(s.Off) >= b.N:
		return binary.LittleEndian.Uint32(b.Buf[s.Off-4:]), name
	}
	return s.Off, name
}
