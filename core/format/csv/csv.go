// Package csv reads comma-separated values: RFC 4180 and what the field makes
// of it (other delimiters and quotes, no heading, LF, CR LF or CR, stray
// quotes, rows that are too short or too long).
//
// Terms:
//
//   - row: one record, up to a line end that is not within quotes;
//   - column: a field of a row, counted from 1;
//   - comment, footer: lines that are no rows, if the dialect says so;
//   - quoted: a field that begins with the quote character; in it a doubled
//     quote is a quote, and delimiters and line ends are data.
//
// A quote that does not stand at the beginning of a field is data, and a
// warning. Text between a closing quote and the next delimiter is an error of
// its row. Empty lines are no rows.
package csv

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"ydrion/core/batch"

	"ydrion/core/finding"
	"ydrion/core/place"
	"ydrion/core/shape"
)

// MaxRow is the longest row that is read. A longer one is taken for a quote
// that was never closed.
const MaxRow = 64 << 20

// Dialect says how a CSV file is written. The zero value is RFC 4180 with a
// heading, and line ends found out from the file.
type Dialect struct {
	Delimiter byte     // 0: comma
	Quote     byte     // 0: the double quote
	NoQuote   bool     // quotes are data
	NoHeading bool     // the first line is a row; Columns names the fields
	Columns   []string // names, when there is no heading
	Skip      int      // lines before the heading that are not data
	Comment   byte     // lines that begin with it are no rows; 0: there are none
	Escape    byte     // in quotes, what follows it is data, a quote too; 0: only doubling
	// Widths are those of the columns in characters, where no delimiter separates
	// them. Blanks around a value are not part of it.
	Widths []int
	Footer int // lines at the end that are no rows
	// Total finds in the footer, in its only group, how many rows there must be.
	Total *regexp.Regexp
	// Together are columns: rows that stand together and have the same in them are one record.
	Together []string
	// List is what the rows of such a record are called; empty: Rows. Gathers: they may stand anywhere in the file.
	List    string
	Gathers bool
}

// Validate tells what cannot work in a dialect.
func (d Dialect) Validate() error {
	delimiter, quote := d.delimiter(), d.quote()
	switch {
	case delimiter == '\n' || delimiter == '\r' || quote == '\n' || quote == '\r':
		return fmt.Errorf("a line end can be neither delimiter nor quote")
	case delimiter >= 0x80 || quote >= 0x80 || d.Comment >= 0x80 || d.Escape >= 0x80:
		return fmt.Errorf("delimiter, quote, comment and escape must be ASCII characters")
	case d.Comment != 0 && (d.Comment == delimiter || d.Comment == quote || d.Comment == d.Escape):
		return fmt.Errorf("comment and delimiter, quote or escape are the same character")
	case d.Escape != 0 && (d.Escape == delimiter || d.Escape == quote):
		return fmt.Errorf("escape and delimiter or quote are the same character: a doubled quote needs no setting")
	case d.Widths != nil && (slices.Min(d.Widths) < 1 || d.NoHeading && len(d.Widths) != len(d.Columns)):
		return fmt.Errorf("each column needs a width of at least one character: there are %d widths and %d columns", len(d.Widths), len(d.Columns))
	case d.Total != nil && (d.Footer == 0 || d.Total.NumSubexp() != 1):
		return fmt.Errorf("a total needs footer lines, and one group in its pattern that is the number")
	case !d.NoQuote && delimiter == quote:
		return fmt.Errorf("delimiter and quote are the same character")
	case d.NoHeading && len(d.Columns) == 0:
		return fmt.Errorf("a file without a heading needs the names of its columns")
	}
	return nil
}

func (d Dialect) delimiter() byte {
	if d.Delimiter == 0 {
		return ','
	}
	return d.Delimiter
}

func (d Dialect) quote() byte {
	if d.Quote == 0 {
		return '"'
	}
	return d.Quote
}

// bind matches the wanted fields to the columns of the heading.
func (r *Reader) bind(fields shape.Record) finding.List {
	var out finding.List
	at := func(column int) place.Place {
		p := place.Place{Line: r.Line, Column: 1, Path: fmt.Sprintf("column %d", column+1)}
		if !r.dialect.NoHeading {
			p.Line = r.headingLine
		}
		return p
	}
	byName, again := map[string]int{}, map[string]int{}
	for i, name := range r.names {
		if _, twice := byName[name]; !twice {
			byName[name] = i
		} else if again[name] == 0 {
			again[name] = i
		}
	}
	r.columns = make([]int32, len(r.names))
	for i := range r.columns {
		r.columns[i] = -1
	}
	r.slotColumn, r.fields, r.spoils = make([]int, len(fields)), fields, newSpoils(fields)
	wanted := map[string]bool{}
	for slot, field := range fields {
		name := field.At()
		wanted[name] = true
		column, ok := byName[name]
		if !ok {
			var free []string
			for _, n := range r.names {
				if !slices.ContainsFunc(fields, func(f shape.Field) bool { return f.At() == n }) {
					free = append(free, n)
				}
			}
			f := finding.New("csv.column-missing", place.Place{Line: r.headingLine, Column: 1, Path: name}, "column %q is missing from the heading", name)
			f.Expected = name
			if near := finding.Nearest(name, free); near != "" {
				f.Seen = near
				f = f.Suggest("was column %q renamed? The heading must say %q", near, name)
			}
			out = append(out, f)
			continue
		}
		if second := again[name]; second > 0 {
			out = append(out, finding.New("csv.column-twice", at(second), "columns %d and %d are both called %q: which one is meant?", column+1, second+1, name))
			continue
		}
		r.slotColumn[slot] = column
		if first := r.columns[column]; first >= 0 {
			r.twins = append(r.twins, batch.Twin{Slot: slot, As: int(first)})
			continue
		}
		r.columns[column] = int32(slot)
	}
	if len(fields) > 0 {
		out = append(out, r.surplus(wanted, at)...)
	}
	return out
}

// surplus tells of columns that nobody uses, in one finding however many they are.
func (r *Reader) surplus(wanted map[string]bool, at func(column int) place.Place) finding.List {
	var names []string
	first, n := 0, 0
	for i, name := range r.names {
		if wanted[name] {
			continue
		}
		if n++; n == 1 {
			first = i
		}
		if len(names) < shownSurplus {
			names = append(names, strconv.Quote(name))
		}
	}
	list := strings.Join(names, ", ")
	switch {
	case n == 0:
		return nil
	case n == 1:
		return finding.List{finding.Warn("csv.column-surplus", at(first), "column %s is not used by this route", list)}
	case n > len(names):
		list += fmt.Sprintf(" and %d more", n-len(names))
	}
	return finding.List{finding.Warn("csv.column-surplus", at(first), "%d columns are not used by this route: %s", n, list)}
}

// shownSurplus is how many columns that nobody uses are named.
const shownSurplus = 8
