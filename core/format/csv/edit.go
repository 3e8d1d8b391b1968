package csv

import (
	"bytes"
	"fmt"
	"slices"
	"strconv"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/format"
	"ydrion/core/place"
	"ydrion/core/text"
)

// AsCame is a target whose rows are those of the source, byte for byte, but for the columns that a map changes
// or adds. The heading, and lines at the end that are no rows, go on with them.
type AsCame struct {
	dialect Dialect
	columns []string // of each edit
	added   []string // those that are assigned, in their order
}

var _ format.Target = (*AsCame)(nil)
var _ format.Editor = (*AsCame)(nil)
var _ format.Framer = (*AsCame)(nil)
var _ format.Onward = Dialect{}

// Into tells rows that go on as they came how they are written.
func (d Dialect) Into(target format.Target) format.Source {
	if t, is := target.(*AsCame); is {
		t.dialect = d
	}
	return d
}

// Escapes writes values as they are: they are quoted by how the file is written.
func (t *AsCame) Escapes() *text.Escapes { return text.NewEscapes(nil) }

// Null cannot be said: an empty field is an empty value.
func (t *AsCame) Null() (string, bool) { return "", false }

// Position is a column that the file has, or one that is added.
func (t *AsCame) Position(path string) (format.Position, error) {
	return format.Position{Key: path}, nil
}

// Part is nothing that a row has.
func (t *AsCame) Part(path string) (string, error) {
	return "", fmt.Errorf("a row has no parts that can be dropped; `clear %s` empties the column", path)
}

// Inside is nothing: rows go on one by one.
func (t *AsCame) Inside(string) (string, format.Target, error) {
	return "", nil, fmt.Errorf("rows go on as they came, one by one; base the map on a sample to write some for each of a list")
}

// Layout keeps what is changed.
func (t *AsCame) Layout(in format.Instructions) (format.Layout, finding.List) {
	editor := *t // each layout has its own
	t = &editor
	t.columns, t.added = nil, nil
	layout, out := format.Layout{Editor: t}, finding.List{}
	if t.dialect.Together != nil {
		out = append(out, finding.New("map.together", place.InFile(""), "rows go on as they came, one by one, and the route puts rows together"))
	}
	take := func(n format.Named, e format.Edit) {
		e.Named = n
		layout.Edits = append(layout.Edits, e)
		t.columns = append(t.columns, n.Path)
	}
	for _, a := range in.Assign {
		if slices.Contains(t.added, a.Path) {
			out = append(out, finding.New("map.twice", a.At, "%s is assigned twice", a.Path))
		}
		t.added = append(t.added, a.Path)
		take(a.Named, format.Edit{Expression: a.Expression, Condition: -1})
	}
	for _, n := range in.Keep {
		out = append(out, finding.New("map.nothing-there", n.At, "everything stays as it came; %s need not be kept", n.Path))
	}
	for _, n := range in.Clear {
		take(n, format.Edit{Expression: -1, Condition: -1})
	}
	return layout, out
}

// Show gives a written row: it is read as what came.
func (t *AsCame) Show([]byte) []format.Line { return nil }

// new are the columns that a file does not have.
func (t *AsCame) new(r *Reader) (out []string) {
	for _, name := range t.added {
		if !slices.Contains(r.names, name) {
			out = append(out, name)
		}
	}
	return out
}

// Begins is what stands before the rows of a file, with the columns that are added.
func (t *AsCame) Begins(from format.Reader) []byte {
	r := from.(*Reader)
	heading := bytes.TrimRight(r.heading, "\r\n")
	if r.dialect.NoHeading || len(heading) == 0 {
		return bytes.Clone(r.heading)
	}
	out, ends := bytes.Clone(heading), r.heading[len(heading):]
	for _, name := range t.new(r) {
		written, _ := t.written(r, []byte(name), len(r.names))
		out = append(append(out, r.delimiter), written...)
	}
	if len(ends) == 0 {
		ends = []byte{r.terminator}
	}
	return append(out, ends...)
}

// Ends are the lines behind the rows; a total among them is of what is written.
func (t *AsCame) Ends(from format.Reader, rows int64) []byte {
	r := from.(*Reader)
	total := r.dialect.Total
	if total == nil {
		return r.footer
	}
	at := total.FindSubmatchIndex(r.footer)
	if at == nil {
		return r.footer
	}
	out := strconv.AppendInt(bytes.Clone(r.footer[:at[2]]), rows, 10)
	return append(out, r.footer[at[3]:]...)
}

// Edit writes a row with changes.
func (t *AsCame) Edit(out []byte, from format.Reader, b *batch.Batch, record int, changes []format.Change) (_ []byte, problem string) {
	r, begin := from.(*Reader), len(out)
	bounds, last, k := b.Bounds[record], false, 0
	if len(t.columns) == 0 {
		return append(out, b.Raw(record)...), ""
	}
	for p := int(bounds.Off); !last; k++ {
		var raw batch.Span
		var next int
		raw, _, next, last = r.field(b.Buf, p, int(bounds.End), k, nil)
		value, changed := b.Buf[raw.Off:raw.End], false
		for i := range changes {
			if k < len(r.names) && t.columns[changes[i].Edit] == r.names[k] {
				if value, problem = t.change(r, &changes[i], k); problem != "" {
					return out[:begin], problem
				}
				changed = true
			}
		}
		switch out = append(out, b.Buf[p:raw.Off]...); {
		case changed && len(value) == 0 && last && k == 0 && r.quoting && len(t.new(r)) == 0: // an empty line is no row
			out = append(out, r.quote, r.quote)
		case changed && r.dialect.Widths != nil && !(last && k >= len(r.dialect.Widths)-1):
			out = append(append(out, value...), bytes.Repeat([]byte{' '}, max(0, r.dialect.Widths[k]-len([]rune(string(value)))))...)
		default:
			out = append(out, value...)
		}
		if p = int(raw.End); last {
			for _, name := range t.new(r) {
				out = append(out, r.delimiter)
				for i := range changes {
					if t.columns[changes[i].Edit] != name {
						continue
					}
					if value, problem = t.change(r, &changes[i], len(r.names)); problem != "" {
						return out[:begin], problem
					}
					out = append(out, value...)
				}
			}
			next = int(bounds.End)
		}
		out = append(out, b.Buf[p:next]...)
		p = next
	}
	return out, ""
}

// change is the value of a change as the file writes it.
func (t *AsCame) change(r *Reader, c *format.Change, column int) (_ []byte, problem string) {
	switch {
	case c.Null:
		return nil, "the value is null, which cannot be said here; answer it with `if null …`"
	case c.Absent:
		return nil, ""
	}
	written, problem := t.written(r, c.Value, column)
	if problem != "" {
		return nil, fmt.Sprintf("%s: %s", t.columns[c.Edit], problem)
	}
	return written, ""
}

// written is a value as the file writes it: in quotes where it must be.
func (t *AsCame) written(r *Reader, value []byte, column int) (_ []byte, problem string) {
	if _, err := text.Encode(value, r.charset); err != nil {
		return nil, fmt.Sprintf("%q has a character that %s does not have, in which the file is", finding.Shorten(value), r.charset)
	}
	special := bytes.IndexByte(value, '\n') >= 0 || bytes.IndexByte(value, '\r') >= 0
	if r.dialect.Widths != nil {
		switch n := len([]rune(string(value))); {
		case column >= len(r.dialect.Widths):
			return nil, "a column cannot be added where columns have fixed widths"
		case special || n > r.dialect.Widths[column]:
			return nil, fmt.Sprintf("%q has %d characters, and the column has %d", finding.Shorten(value), n, r.dialect.Widths[column])
		}
		return value, ""
	}
	special = special || bytes.IndexByte(value, r.delimiter) >= 0
	if !r.quoting {
		if special {
			return nil, fmt.Sprintf("%q has what separates columns or rows, and values of this file have no quotes", finding.Shorten(value))
		}
		return value, ""
	}
	comment := column == 0 && r.dialect.Comment != 0 && len(value) > 0 && value[0] == r.dialect.Comment
	if !special && !comment && bytes.IndexByte(value, r.quote) < 0 {
		return value, ""
	}
	out := []byte{r.quote}
	for _, c := range value {
		if c == r.quote || c == r.dialect.Escape && c != 0 {
			out = append(out, r.quote)
			if c != r.quote {
				out[len(out)-1] = c
			}
		}
		out = append(out, c)
	}
	return append(out, r.quote), ""
}
