// Package lookup has code tables: from one set of codes to another. A table is
// a CSV file with a heading; the first column is looked up, the second is the
// answer. That is the form in which spreadsheets give tables away; where no comma stands in the
// heading, a tab or a semicolon may separate the columns.
package lookup

import (
	"encoding/csv"
	"errors"
	"io"
	"strings"

	"ydrion/core/finding"
	"ydrion/core/place"
)

// Table is a code table.
type Table struct {
	File    string
	From    string // heading of the first column
	To      string // heading of the second column
	answers map[string]string
	keys    []string
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
			t.From, t.To = row[0], row[1]
			continue
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
	if out.HasErrors() {
		return nil, out
	}
	return t, out
}

// Get looks a code up.
func (t *Table) Get(key []byte) (string, bool) {
	answer, ok := t.answers[string(key)]
	return answer, ok
}

// Keys are the codes that the table knows, in its order.
func (t *Table) Keys() []string { return t.keys }
