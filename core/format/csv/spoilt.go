package csv

import (
	"bytes"
	"cmp"
	"slices"
	"strings"
	"sync"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/marks"
	"ydrion/core/place"
	"ydrion/core/shape"
	"ydrion/core/text"
	"ydrion/core/value"
)

// A number or a date that a spreadsheet program has changed has not the form that the schema asks for. A text has any form: nothing
// holds an article's code that has become 1.23457E+12, or a day. It goes on, and the file's findings say in which columns there are such, how
// many, and where the first stands.

// spoils are the values of a file that spreadsheet programs have changed.
type spoils struct {
	texts   []int    // their slots
	missing []string // texts that stand for no value
	guard   sync.Mutex
	of      map[spoil]*spoilt
}

type spoil struct {
	slot int
	what string
}

// spoilt is how many there are of a kind in a column, and the first.
type spoilt struct {
	count int
	at    place.Place
	value string
}

// newSpoils watches the columns of texts.
func newSpoils(fields shape.Record) *spoils {
	s := &spoils{}
	for slot, f := range fields {
		if f.Kind == value.Text && f.Checked {
			s.texts, s.missing = append(s.texts, slot), f.Missing // the same for all fields
		}
	}
	if s.texts == nil {
		return nil
	}
	return s
}

// told is what is said of values of a kind.
var told = map[string]string{
	text.Exponent: "been turned into exponent form, and digits may be lost",
	text.MonthDay: "been turned into a day of a month",
	text.Formula:  "become a formula that says a text",
	text.Failed:   "become what stands where a formula came to nothing",
}

// watch looks for spoilt values among those of a batch. It may be called for several at once.
func (s *spoils) watch(b *batch.Batch) {
	if !hinted(b.Buf[:b.N], &b.Marks) {
		return
	}
	for record := range b.Bounds {
		for _, slot := range s.texts {
			if v, there := b.Value(record, slot); there {
				s.see(b, record, slot, v)
			}
		}
	}
}

// hints are characters that stand in what spreadsheet programs make of values: 1.2E+12, ="00123", #N/A, 1-Mar.
var hints = marks.Of('+', '=', '#', '-')

// hinted tells whether there may be such values in a text.
func hinted(buf []byte, in *marks.Bits) bool {
	in.Mark(buf, 0, len(buf), hints)
	for p := in.Next(0); p < len(buf); p = in.Next(p + 1) {
		before, behind := byte(0), byte(0)
		if p > 0 {
			before = buf[p-1]
		}
		if p+1 < len(buf) {
			behind = buf[p+1]
		}
		switch buf[p] {
		case '-':
			if before-'0' <= 9 && behind-'A' < 26 || before-'a' < 26 && behind-'0' <= 9 {
				return true
			}
		case '+':
			if before == 'E' {
				return true
			}
		case '=':
			if behind == '"' {
				return true
			}
		case '#':
			if behind == 'N' || behind == 'R' || behind == 'V' || behind == 'D' {
				return true
			}
		}
	}
	return false
}

// see looks at a value.
func (s *spoils) see(b *batch.Batch, record, slot int, v []byte) {
	what := text.Spoilt(v)
	if told[what] == "" || what == text.Exponent && bytes.IndexByte(v, '+') < 0 || slices.Contains(s.missing, string(v)) { // without a plus sign nothing hints at it
		return
	}
	at := b.Unnumbered(record, b.Bounds[record].Off)
	s.guard.Lock()
	defer s.guard.Unlock()
	if s.of == nil {
		s.of = map[spoil]*spoilt{}
	}
	of := s.of[spoil{slot, what}]
	if of == nil {
		of = &spoilt{at: at, value: finding.Shorten(v)}
		s.of[spoil{slot, what}] = of
	} else if at.Offset < of.at.Offset { // batches are looked at in any order
		of.at, of.value = at, finding.Shorten(v)
	}
	of.count++
}

// findings says what there was.
func (s *spoils) findings(fields shape.Record) (out finding.List) {
	for of, there := range s.of {
		f := finding.Warn("csv.spreadsheet", there.at, "a value of %s has %s: %q", fields[of.slot].Name, told[of.what], there.value)
		if there.count > 1 {
			f = finding.Warn("csv.spreadsheet", there.at, "%d values of %s have %s; the first is %q", there.count, fields[of.slot].Name, told[of.what], there.value)
		}
		f.Seen = there.value
		f.Place.Path = fields[of.slot].At()
		out = append(out, f.Suggest("this is what spreadsheet programs write; format the column as text before the file is saved"))
	}
	slices.SortFunc(out, func(x, y finding.Finding) int {
		return cmp.Or(cmp.Compare(x.Place.Offset, y.Place.Offset), strings.Compare(x.Place.Path, y.Place.Path), strings.Compare(x.Message, y.Message))
	})
	return out
}
