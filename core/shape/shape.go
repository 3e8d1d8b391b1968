// Package shape says what a record looks like to those who check and map it:
// its fields, their types, and the slot in which each arrives.
package shape

import (
	"ydrion/core/text"
	"ydrion/core/value"
)

// Field is one field of a record.
type Field struct {
	Name    string
	Path    string        // where it stands in the source's record; "": under its name
	Kind    value.Kind    // Text, Number, Bool or Time
	Pattern *text.Pattern // how a Time is written; nil: RFC 3339 forms
	Decimal byte          // decimal mark of a Number; 0: a point
	Whole   bool          // a Number that has no decimals
	Group   byte          // grouping mark of a Number; 0: none
	Truths  []string      // how true is written
	Missing []string      // texts that stand for no value
	// Checked says that a value that is there has been proved to have its
	// kind's form before anybody maps it.
	Checked bool
	// Required says that a record without it is rejected before anybody maps it.
	Required bool
}

// At is where the field stands in the source's record, in the format's terms.
func (f Field) At() string {
	if f.Path != "" {
		return f.Path
	}
	return f.Name
}

// Plain tells whether a checked value can be copied as it is written: a number
// with a point and no grouping.
func (f Field) Plain() bool {
	return f.Checked && f.Kind == value.Number && f.Group == 0 && (f.Decimal == 0 || f.Decimal == '.')
}

// Record is the fields of a record, each in the slot of its index.
type Record []Field

// Shape is what is read of a record: its fields and its lists.
type Shape struct {
	Fields Record
	Lists  []List
}

// List is something of which a record has any number, none included, such as the lines of an
// order. Each is a row with fields and maybe lists of its own.
type List struct {
	Name string
	Path string // where it stands in the source's record, or in a row of the list that it is in; "": under its name
	Shape
}

// At is where the list stands, in the format's terms.
func (l *List) At() string {
	if l.Path != "" {
		return l.Path
	}
	return l.Name
}

// Table is a list with its place among all lists of a shape.
type Table struct {
	*List
	Above int // the number of the list that it is in, -1: it is the record's
}

// Tables are all lists of a shape, each before those that are in it. A list's place among them is
// its number.
func (s *Shape) Tables() []Table { return s.tables(nil, -1) }

func (s *Shape) tables(out []Table, above int) []Table {
	for i := range s.Lists {
		out = append(out, Table{&s.Lists[i], above})
		out = s.Lists[i].tables(out, len(out)-1)
	}
	return out
}

// Of makes a record of fields of text.
func Of(names ...string) Record {
	r := make(Record, len(names))
	for i, n := range names {
		r[i].Name = n
	}
	return r
}

// Slot finds a field's slot, -1 if there is none.
func (r Record) Slot(name string) int {
	for i, f := range r {
		if f.Name == name {
			return i
		}
	}
	return -1
}

// Names are the fields' names in the order of the slots.
func (r Record) Names() []string {
	names := make([]string, len(r))
	for i, f := range r {
		names[i] = f.Name
	}
	return names
}

// Read turns a field's text into a value of its kind. It is false if the text
// does not have the form.
func (f *Field) Read(b []byte) (value.Value, bool) {
	if len(b) == 0 {
		return value.Value{Kind: value.Empty}, true
	}
	switch f.Kind {
	case value.Number:
		written := b
		if !f.Plain() && (f.Decimal != 0 || f.Group != 0) && !(f.Decimal == '.' && value.IsNumber(b)) {
			var ok bool
			if written, ok = Canonical(b, f.Decimal, f.Group); !ok {
				return value.Value{}, false
			}
		}
		written, ok := value.Written(written)
		if !ok {
			return value.Value{}, false
		}
		d, err := value.ParseDecimal(written)
		if err != nil {
			d, err = value.ParseExponent(written)
		}
		return value.OfWritten(d, written), err == nil
	case value.Time:
		if f.Pattern == nil {
			m, ok := text.ReadISO(b)
			return value.OfTime(m), ok
		}
		m, ok := f.Pattern.Read(b)
		return value.OfTime(m), ok
	case value.Bool:
		for _, t := range f.Truths {
			if t == string(b) {
				return value.OfBool(true), true
			}
		}
		return value.OfBool(false), true
	}
	return value.OfText(b), true
}

// Canonical writes a number with other marks with a point and no grouping.
// Groups must have three digits.
func Canonical(b []byte, decimal, group byte) ([]byte, bool) {
	if decimal == 0 {
		decimal = '.'
	}
	out := make([]byte, 0, len(b))
	run, grouped, fraction := 0, false, false
	for i, c := range b {
		switch {
		case c == decimal && !fraction:
			if grouped && run != 3 {
				return nil, false
			}
			fraction = true
			out = append(out, '.')
		case group != 0 && c == group && !fraction:
			if run == 0 || run > 3 || grouped && run != 3 {
				return nil, false
			}
			grouped, run = true, 0
		case c-'0' <= 9:
			run++
			out = append(out, c)
		case (c == '-' || c == '+') && i == 0:
			out = append(out, c)
		default:
			return nil, false
		}
	}
	if len(out) == 0 || out[len(out)-1] == '.' {
		return nil, false
	}
	out, ok := value.Written(out)
	return out, ok && (fraction || !grouped || run == 3)
}
