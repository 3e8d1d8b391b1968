// Package lookup has code tables: from one set of codes to another. A table is
// a CSV file with a heading; the first column is looked up, the second is the
// answer, unless a map names another column or looks several up. Two columns "kg from" and "kg to" are one key: a
// range of numbers, or of dates, in which the value is looked for. That is the form in which spreadsheets give tables away; where no comma stands in the
// heading, a tab or a semicolon may separate the columns.
package lookup

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"ydrion/core/finding"
	"ydrion/core/place"
	"ydrion/core/value"
)

// Table is a code table.
type Table struct {
	File    string
	From    string // heading of the first column
	To      string // heading of the second column
	answers map[string]string
	keys    []string

	headings []string
	rows     [][]string
	lines    []int // where the rows stand
	columns  []column
	bounds   [][][2]value.Value // of each row's ranges, in the order of the columns; of no kind: none
	asked    *asked             // nil: that is not wanted
}

// column is one that can be looked up, or two that are a range.
type column struct {
	at   int // the first
	kind value.Kind
	nth  int // of the ranges
}

// Parse reads a table. A key that stands twice with different answers is an
// error.
func Parse(file string, source string) (*Table, finding.List) {
	var out finding.List
	source = strings.TrimPrefix(source, "\uFEFF")
	r := csv.NewReader(strings.NewReader(source))
	if heading, _, _ := strings.Cut(source, "\n"); !strings.Contains(heading, ",") {
		for _, c := range "\t;" { // as spreadsheets of some countries write
			if strings.ContainsRune(heading, c) {
				r.Comma = c
				break
			}
		}
	}
	r.FieldsPerRecord = -1
	wrong := func(line int, f finding.Finding) {
		f.Place = place.InFile(file)
		f.Place.Line, f.Place.Column = int64(line), 1
		out = append(out, f)
	}
	t := &Table{File: file, answers: map[string]string{}}
	for n := 0; ; n++ {
		row, err := r.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		at := place.InFile(file)
		if err != nil {
			var parse *csv.ParseError
			if errors.As(err, &parse) {
				at.Line, at.Column = int64(parse.Line), int64(parse.Column)
			}
			return nil, append(out, finding.New("lookup.table", at, "the table cannot be read: %v", err))
		}
		line, column := r.FieldPos(0)
		at.Line, at.Column = int64(line), int64(column)
		if len(row) < 2 {
			out = append(out, finding.New("lookup.columns", at, "a row of a table has two columns, this one has %d", len(row)))
			continue
		}
		if n == 0 {
			t.From, t.To, t.headings = row[0], row[1], row
			continue
		}
		for len(row) < len(t.headings) {
			row = append(row, "")
		}
		if t.rows, t.lines = append(t.rows, row), append(t.lines, line); len(t.headings) > 2 {
			continue // which columns are looked up say maps
		}
		if before, twice := t.answers[row[0]]; twice {
			if before != row[1] {
				out = append(out, finding.New("lookup.twice", at, "%q stands twice, with %q and with %q", row[0], before, row[1]))
			}
			continue
		}
		t.answers[row[0]] = row[1]
		t.keys = append(t.keys, row[0])
	}
	if t.From == "" && t.To == "" {
		out = append(out, finding.New("lookup.empty", place.InFile(file), "the table has no heading"))
	}
	if len(t.headings) > 2 {
		for _, row := range t.rows {
			if _, twice := t.answers[row[0]]; !twice {
				t.answers[row[0]] = row[1]
				t.keys = append(t.keys, row[0])
			}
		}
	}
	t.blanks(wrong)
	t.ranges(wrong)
	if out.HasErrors() {
		return nil, out
	}
	return t, out
}

// blanks warns of cells that begin or end with blanks, which nobody sees in a spreadsheet: the code of a record has none, and is not listed then.
func (t *Table) blanks(wrong func(line int, f finding.Finding)) {
	first, cell, cells := 0, "", 0
	for i, row := range t.rows {
		for _, c := range row {
			if strings.TrimSpace(c) == c {
				continue
			}
			if cells++; cells == 1 {
				first, cell = t.lines[i], c
			}
		}
	}
	if cells > 0 {
		what := "a cell begins or ends with a blank, which counts: %q"
		if cells > 1 {
			what = fmt.Sprintf("%d cells begin or end with a blank, which counts; the first is %%q", cells)
		}
		wrong(first, finding.Warn("lookup.blank", place.Place{}, what, cell).Suggest("take it away, if it does not belong to the code or to its answer"))
	}
}

// Index looks several columns up at once.
type Index struct {
	answers map[string]string
	within  map[string][]within // by the codes, where there are ranges
	kinds   []value.Kind        // of the keys
	asked   *asked
	first   int // of the columns that are looked up
}

// First is the first column that is looked up: 0, or 1 if it is the answer.
func (x *Index) First() int { return x.first }

// By makes an index: of the first so many columns, with the answers of the column with a heading, or of the
// one behind them; or of the second, if the first is the answer. An error says that there is no such column, or that two rows have other answers for the
// same keys.
func (t *Table) By(keys int, answer string) (*Index, error) {
	if keys >= len(t.columns) {
		return nil, fmt.Errorf("%s has %d columns: the first %d are looked up, and the answer is another one", t.File, len(t.columns), keys)
	}
	column := t.columns[keys].at
	if answer != "" {
		if column = slices.Index(t.headings, answer); column < 0 {
			return nil, fmt.Errorf("%s has no column %q; it has %s", t.File, answer, strings.Join(t.headings, ", "))
		}
	} else if t.columns[keys].kind != value.Text {
		return nil, fmt.Errorf("%s has a range where the answer is looked for, from %q on: name the column of the answer", t.File, t.headings[column])
	}
	if column < t.columns[keys].at && keys == 1 && t.columns[0].kind == value.Text && t.columns[1].kind == value.Text {
		return t.backwards()
	}
	if column < t.columns[keys].at {
		return nil, fmt.Errorf("%s has %d columns: the first %d are looked up, and the answer is another one", t.File, len(t.columns), keys)
	}
	x := &Index{answers: map[string]string{}, kinds: t.Kinds()[:keys], asked: t.asked}
	if slices.ContainsFunc(x.kinds, func(k value.Kind) bool { return k != value.Text }) {
		return x, t.index(x, column)
	}
	lines := map[string]int{}
	for i, row := range t.rows {
		key := strings.Join(row[:keys], "\x00")
		if before, twice := x.answers[key]; twice && before != row[column] {
			return nil, fmt.Errorf("%s has %q twice, with %q in line %d and with %q in line %d", t.File, strings.Join(row[:keys], ", "), before, lines[key], row[column], t.lines[i])
		}
		x.answers[key], lines[key] = row[column], t.lines[i]
	}
	return x, nil
}

// backwards prepares looking the second column up, for the first.
func (t *Table) backwards() (*Index, error) {
	x := &Index{answers: map[string]string{}, kinds: t.Kinds()[1:2], first: 1}
	lines, of := map[string]int{}, t.columns[1].at
	for i, row := range t.rows {
		key := row[of]
		if before, twice := x.answers[key]; twice && before != row[0] {
			return nil, fmt.Errorf("%s has %q twice in the column %q, with %q in line %d and with %q in line %d: which is meant?", t.File, key, t.headings[of], before, lines[key], row[0], t.lines[i])
		}
		x.answers[key], lines[key] = row[0], t.lines[i]
	}
	return x, nil
}

// Get looks keys up, with a NUL between each two.
func (x *Index) Get(keys []byte) (string, bool) {
	answer, ok := x.answers[string(keys)]
	if ok && x.asked != nil {
		x.asked.key(len(x.kinds), string(keys))
	}
	return answer, ok
}

// Get looks a code up.
func (t *Table) Get(key []byte) (string, bool) {
	answer, ok := t.answers[string(key)]
	if ok && t.asked != nil {
		t.asked.key(1, string(key))
	}
	return answer, ok
}

// Headings are those of its columns.
func (t *Table) Headings() []string { return t.headings }

// Rows is how many it has.
func (t *Table) Rows() int { return len(t.rows) }

// Keys are the codes that the table knows, in its order.
func (t *Table) Keys() []string { return t.keys }
