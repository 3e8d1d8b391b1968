package flow

import (
	"slices"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/lang"
	"ydrion/core/value"
)

// Explain says what the map of a branch did for a record of a batch: line by line, with the fields that went into each and
// where they stand in the file. It is nil if the branch has no map, or the record did not come to it.
func (o *Opened) Explain(b *batch.Batch, record, branch int) (made []byte, steps []lang.Step, more int) {
	of := &o.Plan.Branches[branch]
	if of.Explains == nil || of.Program == nil || b.Outcomes[record] == batch.Rejected && !mapped(b, record) {
		return nil, nil, 0
	}
	program := of.Explains()
	if program == nil {
		return nil, nil, 0
	}
	made, _, steps, more = program.Explain(&lang.Env{Facts: o.factsOf(b.FileOf(record)), Reader: o.Reader, Plain: of.Plain}, b, record)
	for i := range steps {
		for k := range steps[i].Parts {
			o.locate(b, record, &steps[i].Parts[k])
		}
	}
	return made, steps, more
}

// mapped tells whether a record that was rejected was so by a map.
func mapped(b *batch.Batch, record int) bool {
	return slices.ContainsFunc(b.Notes, func(n batch.Note) bool { return int(n.Record) == record && n.Source == batch.Map })
}

// locate finds where a field stands in the file.
func (o *Opened) locate(b *batch.Batch, record int, w *lang.StepValue) {
	if w.Slot < 0 || w.Kind == value.Absent.String() {
		return
	}
	var at finding.Finding
	if w.Kind == value.Time.String() { // as it stands there, and not as it is understood
		spans := b.Spans[record*b.Slots:]
		if w.Table > 0 {
			spans = b.Tables[w.Table-1].Spans[w.Row*b.Tables[w.Table-1].Slots:]
		}
		if s := spans[w.Slot]; !s.Absent() {
			w.Value = finding.Shorten(b.Buf[s.Off:s.End])
		}
	}
	if w.Table == 0 {
		offset, name := o.Reader.Locate(b, record, w.Slot)
		at.Place = b.Place(record, offset)
		at.Place.Path = name
	} else {
		at.Place.Path = w.Says
		o.row(b, batch.Note{Record: int32(record), Table: int32(w.Table), Row: int32(w.Row), Slot: int32(w.Slot)}, &at)
	}
	if len(o.files) > 1 {
		at.Place.File = o.files[b.FileOf(record)].Name
	}
	if at.Place.Line > 0 {
		w.At = &at.Place
	}
}
