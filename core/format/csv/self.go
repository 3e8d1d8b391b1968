package csv

import (
	"bytes"
	"cmp"
	"fmt"
	"hash/maphash"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/format"
	"ydrion/core/place"
	"ydrion/core/shape"
	"ydrion/core/text"
)

// Format is CSV and its family.
var Format = &format.Format{
	Name: "csv", Title: "CSV", Makes: "CSV rows", Record: "row", Nothing: "no line follows the heading", Spreadsheets: true, Reorders: true,
	Recognise: recognise,
	Settings:  settings,
	Usual:     Dialect{},
	Objects:   func() format.Objects { return format.Records(object) },
	Written:   func(format.Style) func(to, object []byte) ([]byte, error) { return (&table{}).row },
	Target:    func(file string, sample []byte) (format.Target, error) { return NewTarget(file, sample) },
	AsCame:    func() format.Target { return &AsCame{} },
}

// recognise counts columns with each delimiter. What is no other format is taken for a table.
func recognise(g *format.Guess, _, b []byte, known format.Known) bool {
	if i := bytes.IndexByte(b, 0); i >= 0 {
		control := 0
		for _, c := range b {
			if c < ' ' && c != '\t' && c != '\r' && c != '\n' {
				control++
			}
		}
		if control > max(8, len(b)/20) && known.Format == "" {
			g.Format = ""
			g.Because(format.Guessed, "it is not a text: of %d bytes %d are control characters", len(b), control)
			return true
		}
		g.Because(format.Guessed, "it has NUL bytes, the first at %d, which no text has: it may be damaged", i)
		b = bytes.ReplaceAll(b, []byte{0}, []byte{' '})
	}
	d, rows := Guess(b, known.Delimiter, known.Heading)
	if len(rows) == 0 {
		g.Format = ""
		g.Because(format.Guessed, "no format that is known begins like this")
		return true
	}
	g.Source = d
	columns := len(rows[0])
	if columns == 1 {
		g.Because(format.Guessed, "nothing separates columns: it may be a list of one column, or no table at all")
	} else {
		more := ""
		if isPart(b) {
			more = "more than "
		}
		g.Because(format.Likely, "its first %s %s%d columns, separated by %s", lines(len(rows)), more, columns, CharName(d.Delimiter))
		if d.Delimiter != ',' {
			g.Settings = append(g.Settings, fmt.Sprintf("delimiter: %s", map[byte]string{';': `";"`, '\t': "tab", '|': `"|"`}[d.Delimiter]))
		}
	}
	if d.Comment != 0 {
		g.Because(format.Likely, "lines before the table begin with %c: comments", d.Comment)
		g.Settings = append(g.Settings, fmt.Sprintf("comment: %q", string(d.Comment)))
	}
	if d.Skip > 0 {
		g.Because(format.Guessed, "a title seems to stand before the heading: %d of the lines", d.Skip)
		g.Settings = append(g.Settings, fmt.Sprintf("skip: %d", d.Skip))
	}
	if known.Heading != nil {
		g.Because(format.Certain, "you say whether there is a heading")
	}
	if d.NoHeading {
		if known.Heading == nil {
			g.Because(format.Guessed, "the first line looks like the others, or holds numbers: it is not a heading")
		}
		g.Settings = append(g.Settings, "heading: false", "columns: ["+strings.Join(d.Columns, ", ")+"]")
	} else if known.Heading == nil {
		c, because := format.Likely, "the first line names the columns"
		if len(rows) == 1 {
			c, because = format.Guessed, "the first line seems to name the columns, and no other one is there to compare it with"
		}
		g.Because(c, "%s", because)
	}
	return true
}

func lines(n int) string {
	if n == 1 {
		return "line has"
	}
	return fmt.Sprintf("%d lines have", n)
}

// settings reads a dialect.
func settings(o format.Options) format.Source {
	character := func(key string) byte {
		s := o.Text(key)
		switch {
		case s == "":
			return 0
		case s == "tab":
			return '\t'
		case len(s) == 1:
			return s[0]
		}
		o.Bad(key, "read.%s must be one character, or tab", key)
		return 0
	}
	d := Dialect{Delimiter: character("delimiter")}
	if o.Text("quote") == "none" {
		d.NoQuote = true
	} else {
		d.Quote = character("quote")
	}
	d.NoHeading, d.Columns, d.Skip = !o.Flag("heading", true), o.List("columns"), o.Number("skip")
	d.Comment, d.Escape, d.Footer = character("comment"), character("escape"), o.Number("footer")
	d.Together = o.List("together")
	for _, w := range o.List("widths") {
		n, err := strconv.Atoi(w)
		if err != nil {
			o.Bad("widths", "read.widths are numbers of characters, not %q", w)
		}
		d.Widths = append(d.Widths, n)
	}
	if total := o.Text("total"); total != "" {
		var err error
		if d.Total, err = regexp.Compile(total); err != nil {
			o.Bad("total", "read.total is not a regular expression: %v", err)
		}
	}
	if err := d.Validate(); err != nil {
		o.Bad("", "%v", err)
	}
	return d
}

// Says tells people what is read.
func (d Dialect) Says(set string) string {
	heading := "the first line names the columns"
	if d.NoHeading {
		heading = fmt.Sprintf("without a heading, %d columns named by the route", len(d.Columns))
	}
	delimiter := map[byte]string{0: "commas", ',': "commas", ';': "semicolons", '\t': "tabs", '|': "bars"}[d.Delimiter]
	if delimiter == "" {
		delimiter = fmt.Sprintf("%q", d.Delimiter)
	}
	together := ""
	if d.Together != nil && !d.Gathers {
		together = "; rows that stand together and agree in " + strings.Join(d.Together, ", ") + " are one record"
	}
	return fmt.Sprintf("CSV in %s, separated by %s; %s%s", set, delimiter, heading, together)
}

var _ format.Source = Dialect{}

// Bind checks the fields against the columns, where a route names them. Else they are those of the
// heading of each file.
func (d Dialect) Bind(of shape.Shape) (format.Bound, finding.List) {
	keys, out := d.gathers(of)
	for _, l := range of.Lists {
		if d.Together != nil && l.Name == d.Rows() {
			continue
		}
		out = append(out, finding.New("csv.list", place.Place{Line: 1, Column: 1, Path: l.Name}, "the list %s cannot be found: a row of CSV has no lists", l.Name))
	}
	for _, f := range of.Fields {
		if !d.NoHeading || slices.Contains(d.Columns, f.At()) {
			continue
		}
		wrong := finding.New("csv.column-missing", place.Place{Line: 1, Column: 1, Path: f.Name}, "there is no column %q among those that the route names", f.At())
		if near := finding.Nearest(f.At(), d.Columns); near != "" {
			wrong = wrong.Suggest("was %s meant?", near)
		}
		out = append(out, wrong)
	}
	if out.HasErrors() {
		return nil, out
	}
	return bound{d, of.Fields, keys}, out
}

// bound is a dialect and the columns that are wanted.
type bound struct {
	Dialect
	fields shape.Record
	keys   []int
}

// Rows is the list whose rows have all fields of the record; empty if there is none.
func (d Dialect) Rows() string {
	if d.Together == nil {
		return ""
	}
	return cmp.Or(d.List, Rows)
}

// Gather makes one record of all rows that have the same in some columns.
func (d Dialect) Gather(by []string, list string) format.Source {
	d.Together, d.List, d.Gathers = by, list, true
	return d
}

// Alone is a row, with a line end.
func (r *Reader) Alone(to []byte, b *batch.Batch, record int) (text []byte, own int) {
	return r.Ended(append(to, b.Raw(record)...)), -1
}

// Reordered reads rows of the file in another order.
func (r *Reader) Reordered(in io.Reader) format.Reader {
	d := r.dialect
	d.Footer = 0 // it has been held back
	of := &Reader{dialect: d, Stream: format.Stream{In: in, Line: 1, Size: r.Size}, charset: r.charset, delimiter: r.delimiter, quote: r.quote, quoting: r.quoting, terminator: r.terminator,
		names: r.names, columns: r.columns, slotColumn: r.slotColumn, twins: r.twins, heading: r.heading, again: r.again, footer: r.footer, footerAt: r.footerAt, headingLine: r.headingLine}
	of.keys = r.gathers
	return of
}

// Differs tells in which columns another file is unlike this one, whatever their order, and in what form.
func (r *Reader) Differs(other format.Reader) (columns, form string, order bool) {
	o := other.(*Reader)
	var said []string
	if lacks := without(r.names, o.names); len(lacks) > 0 {
		said = append(said, "has no "+strings.Join(lacks, ", "))
	}
	if more := without(o.names, r.names); len(more) > 0 {
		said = append(said, "has "+strings.Join(more, ", ")+" besides")
	}
	switch {
	case len(said) > 0:
		return "the heading " + strings.Join(said, " and "), "", false
	case r.delimiter != o.delimiter:
		return "", fmt.Sprintf("the file's delimiter is %q", o.delimiter), false
	case r.quoting != o.quoting || r.quote != o.quote:
		return "", "the file's values are quoted in another way", false
	case slices.Equal(r.names, o.names):
		return "", "", false
	}
	return "", "the heading has its columns in another order", r.dialect.Widths == nil && len(r.names) == len(o.names)
}

// Recast is a row of another file with its columns in the order of this one. One that has more or fewer columns than
// its heading stays as it is: it has here, too.
func (r *Reader) Recast(other format.Reader, b *batch.Batch, record int) []byte {
	o, bounds := other.(*Reader), b.Bounds[record]
	var fields [][]byte
	last := false
	for p := int(bounds.Off); !last; {
		var raw batch.Span
		raw, _, p, last = o.field(b.Buf, p, int(bounds.End), len(fields), nil)
		fields = append(fields, b.Buf[raw.Off:raw.End])
	}
	if len(fields) != len(o.names) {
		return b.Raw(record)
	}
	var row []byte
	for i, name := range r.names {
		if i > 0 {
			row = append(row, r.delimiter)
		}
		row = append(row, fields[slices.Index(o.names, name)]...)
	}
	return row
}

// without are names but for others.
func without(names, others []string) (out []string) {
	for _, n := range names {
		if !slices.Contains(others, n) {
			out = append(out, strconv.Quote(n))
		}
	}
	return out
}

// Ended ends a row as the others of the file end.
func (r *Reader) Ended(row []byte) []byte {
	if n := len(row); n > 0 && row[n-1] != '\n' && row[n-1] != '\r' {
		if r.terminator == '\n' && bytes.HasSuffix(r.heading, []byte("\r\n")) {
			row = append(row, '\r')
		}
		return append(row, r.terminator)
	}
	return row
}

// together lets rows that stand together and agree in these slots be one record.
func (r *Reader) together(keys []int) {
	if r.keys = keys; keys != nil {
		r.seed, r.came = maphash.MakeSeed(), map[uint64]struct{}{}
	}
}

// Open reads the heading and matches fields to columns.
func (s bound) Open(in *text.Decoded) (format.Reader, finding.List, error) {
	r := newReader(s.Dialect, in)
	if s.Gathers {
		r.gathers = s.keys
	} else {
		r.together(s.keys)
	}
	findings, err := r.open(s.fields)
	if err != nil || findings.HasErrors() {
		return nil, findings, err
	}
	return r, findings, nil
}
