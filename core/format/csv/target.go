package csv

import (
	"bytes"
	"fmt"
	"strings"

	"ydrion/core/finding"
	"ydrion/core/format"
	"ydrion/core/place"
	"ydrion/core/text"
)

// Target writes rows under the heading of a sample: RFC 4180, with the sample's
// delimiter and line ends. A value is quoted where it must be.
type Target struct {
	file      string
	columns   []string
	delimiter byte
	end       string
	escapes   *text.Escapes
}

// NewTarget takes the columns from a sample's heading. Rows below it are only for
// people.
func NewTarget(file string, sample []byte) (*Target, error) {
	heading, _, _ := strings.Cut(strings.TrimPrefix(string(sample), "\uFEFF"), "\n")
	t := &Target{file: file, delimiter: ',', end: "\n"}
	if h, ok := strings.CutSuffix(heading, "\r"); ok {
		heading, t.end = h, "\r\n"
	}
	for _, c := range []byte{',', ';', '\t', '|'} {
		if strings.Count(heading, string(c)) > strings.Count(heading, string(t.delimiter)) {
			t.delimiter = c
		}
	}
	r := newReader(Dialect{Delimiter: t.delimiter}, &text.Decoded{Charset: text.UTF8})
	seen := map[string]bool{}
	for _, name := range r.Values([]byte(heading)) {
		if name == "" || seen[name] {
			return nil, fmt.Errorf("%s: the heading must name each column once; it says %q", file, heading)
		}
		seen[name] = true
		t.columns = append(t.columns, name)
	}
	t.escapes = text.NewEscapes(map[byte]string{'"': `""`, t.delimiter: string(t.delimiter), '\n': "\n", '\r': "\r"}).Quoted('"', false)
	return t, nil
}

// Guard makes the target keep values from being taken for formulas.
func (t *Target) Guard() { t.escapes = t.escapes.Guarded() }

var _ format.Target = (*Target)(nil)

// Escapes is the table for values in quotes.
func (t *Target) Escapes() *text.Escapes { return t.escapes }

// Null cannot be said: an empty field is an empty value.
func (t *Target) Null() (string, bool) { return "", false }

// Blanks: an empty field where a number or a truth value is expected is none.
func (t *Target) Blanks() {}

// heading is what an output begins with.
func (t *Target) heading() (b []byte) {
	for i, c := range t.columns {
		if i > 0 {
			b = append(b, t.delimiter)
		}
		b = t.escapes.Append(b, []byte(c))
	}
	return append(b, t.end...)
}

// Position is a column of the sample.
func (t *Target) Position(path string) (format.Position, error) {
	for _, c := range t.columns {
		if c == path {
			return format.Position{Key: path}, nil
		}
	}
	err := fmt.Errorf("the sample %s has no column %q", t.file, path)
	if near := finding.Nearest(path, t.columns); near != "" {
		err = fmt.Errorf("%w; was %q meant?", err, near)
	}
	return format.Position{}, err
}

// Part is nothing that a row has.
func (t *Target) Part(string) (string, error) {
	return "", fmt.Errorf("a row has no parts that can be dropped or added")
}

// Inside is the row.
func (t *Target) Inside(path string) (string, format.Target, error) {
	if path != "" {
		return "", nil, fmt.Errorf("a row has no parts that can be repeated; for a row each, say `repeat for … in …` without %s", path)
	}
	return "", t, nil
}

// Layout writes the columns in the sample's order. Each must be assigned or said to
// be empty with clear.
func (t *Target) Layout(in format.Instructions) (format.Layout, finding.List) {
	var out finding.List
	pieces := in.Rows(func(in format.Instructions) []format.Piece {
		pieces, findings := t.row(in)
		out = append(out, findings...)
		return pieces
	})
	heading := []format.Piece{{Kind: format.Literal, Bytes: t.heading()}}
	if in.Separate {
		return format.Layout{Record: append(heading, pieces...)}, out
	}
	return format.Layout{Begins: heading, Record: pieces}, out
}

// row is one with its columns.
func (t *Target) row(in format.Instructions) (pieces []format.Piece, out finding.List) {
	expressions, cleared := map[string]int{}, map[string]bool{}
	for _, a := range in.Assign {
		if _, twice := expressions[a.Path]; twice {
			out = append(out, finding.New("map.twice", a.At, "%s is assigned twice", a.Path))
		}
		expressions[a.Path] = a.Expression
	}
	for _, c := range in.Clear {
		if _, err := t.Position(c.Path); err != nil {
			out = append(out, finding.New("map.position", c.At, "%v", err))
		}
		cleared[c.Path] = true
	}
	for _, k := range in.Keep {
		out = append(out, finding.New("map.nothing-there", k.At, "a heading has no values to keep; assign %s", k.Path))
	}
	for i, c := range t.columns {
		if i > 0 {
			pieces = append(pieces, format.Piece{Kind: format.Literal, Bytes: []byte{t.delimiter}})
		}
		e, assigned := expressions[c]
		switch {
		case assigned:
			pieces = append(pieces, format.Piece{Kind: format.Value, Expression: e})
		case !cleared[c]:
			out = append(out, finding.New("map.column-empty", place.InFile(""), "nothing fills the column %q", c).Suggest("assign it, or say `clear %s` if it is to be empty", format.Word(c)))
		}
	}
	if len(t.columns) == 1 { // an empty line is no row
		pieces = append(pieces, format.Piece{Kind: format.Filled, Bytes: []byte(`""`)})
	}
	return append(pieces, format.Piece{Kind: format.Literal, Bytes: []byte(t.end)}), out
}

// Show gives a written row with its columns' names.
func (t *Target) Show(record []byte) []format.Line {
	r := newReader(Dialect{Delimiter: t.delimiter}, &text.Decoded{Charset: text.UTF8})
	r.names = t.columns
	return format.Lines(r.Outline(bytes.TrimPrefix(record, t.heading())))
}
