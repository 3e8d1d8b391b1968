package cli

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"ydrion/core/finding"
	"ydrion/core/format"
)

// listed prints the values of a record one below the other, and the rows of a list as a table, or row by row where
// a table would be wider than so many characters.
func listed(lines []format.Line, width int) []string {
	names := map[string]bool{} // of columns that have several rows, of which the first has no number
	for _, l := range lines {
		if m := numbered.FindStringSubmatch(l.Path); m != nil && m[2] == "2" {
			names[m[1]] = true
		}
	}
	return below(lines, names, len(lines) > 0 && strings.HasPrefix(lines[0].Path, "/"), width)
}

// Values of rows: /lines/0/article, and article[2].
var (
	pointed  = regexp.MustCompile(`^(.*?/|)(\d+)(/.*|)$`)
	numbered = regexp.MustCompile(`^([^\[\]/]+)\[(\d+)\]$`)
)

// inRow takes the path of a value in a row apart: the list, the number of the row, and what is left.
func inRow(path string, names map[string]bool, pointers bool) (list string, row int, column string, is bool) {
	if pointers {
		m := pointed.FindStringSubmatch(path)
		if m == nil {
			return "", 0, "", false
		}
		row, _ = strconv.Atoi(m[2])
		return strings.TrimSuffix(m[1], "/"), row, strings.TrimPrefix(m[3], "/"), true
	}
	if m := numbered.FindStringSubmatch(path); m != nil {
		row, _ = strconv.Atoi(m[2])
		return "", row, m[1], names[m[1]]
	}
	return "", 1, path, names[path]
}

// row is one of a list, with the values in it by what is left of their paths.
type row struct {
	number int
	lines  []format.Line
}

// below prints values by what is left of their paths.
func below(lines []format.Line, names map[string]bool, pointers bool, width int) (out []string) {
	for len(lines) > 0 {
		list, _, _, is := inRow(lines[0].Path, names, pointers)
		if !is || lines[0].Folded > 0 {
			out, lines = append(out, said(lines[0])), lines[1:]
			continue
		}
		var rows []row
		n := 0
		for ; n < len(lines) && lines[n].Folded == 0; n++ {
			of, number, column, is := inRow(lines[n].Path, names, pointers)
			if !is || of != list {
				break
			}
			if len(rows) == 0 || rows[len(rows)-1].number != number {
				rows = append(rows, row{number: number})
			}
			in := &rows[len(rows)-1]
			in.lines = append(in.lines, format.Line{Path: column, Value: lines[n].Value})
		}
		lines = lines[n:]
		if table := tabled(list, rows, pointers, width); table != nil {
			out = append(out, table...)
			continue
		}
		if !pointers { // what the rows were gathered by is the same in all
			if same, others := shared(rows); len(same) > 0 {
				if table := tabled(list, others, pointers, width); table != nil {
					out = append(out, fmt.Sprintf("in each of %d rows", len(rows)))
					for _, l := range same {
						out = append(out, "  "+said(l))
					}
					out = append(out, table...)
					continue
				}
			}
		}
		for _, r := range rows {
			name := fmt.Sprintf("row %d", r.number)
			if pointers {
				name = fmt.Sprintf("%s/%d", list, r.number)
			}
			if len(r.lines) == 1 && r.lines[0].Path == "" {
				out = append(out, said(format.Line{Path: name, Value: r.lines[0].Value}))
				continue
			}
			out = append(out, name)
			for _, l := range below(r.lines, nil, pointers, width-2) {
				out = append(out, "  "+l)
			}
		}
	}
	return out
}

// shared takes the values out of rows that are the same in each.
func shared(rows []row) (same []format.Line, others []row) {
	for _, l := range rows[0].lines {
		if !slices.ContainsFunc(rows, func(r row) bool { return !slices.Contains(r.lines, l) }) {
			same = append(same, l)
		}
	}
	for _, r := range rows {
		others = append(others, row{r.number, slices.DeleteFunc(slices.Clone(r.lines), func(l format.Line) bool { return slices.Contains(same, l) })})
	}
	return same, others
}

// tabled prints rows as a table; nil: there is one row or column, a row has lists in it, or the table is too wide.
func tabled(list string, rows []row, pointers bool, width int) (out []string) {
	var columns []string
	for _, r := range rows {
		for i, l := range r.lines {
			if _, _, _, is := inRow(l.Path, nil, pointers); is || slices.ContainsFunc(r.lines[:i], func(o format.Line) bool { return o.Path == l.Path }) {
				return nil
			}
			if !slices.Contains(columns, l.Path) {
				columns = append(columns, l.Path)
			}
		}
	}
	if len(rows) < 2 || len(columns) < 2 {
		return nil
	}
	table := make([][]string, len(rows)+1)
	table[0] = append([]string{list}, columns...)
	for i, r := range rows {
		cells := append([]string{strconv.Itoa(r.number)}, make([]string, len(columns))...)
		for _, l := range r.lines {
			value := finding.Shorten([]byte(l.Value))
			if value == "" {
				value = `""`
			}
			cells[1+slices.Index(columns, l.Path)] = value
		}
		table[i+1] = cells
	}
	widths := make([]int, len(columns)+1)
	for _, cells := range table {
		for i, cell := range cells {
			widths[i] = max(widths[i], utf8.RuneCountInString(cell))
		}
	}
	for _, cells := range table {
		line := strings.Repeat(" ", widths[0]-utf8.RuneCountInString(cells[0])) + cells[0]
		for i, cell := range cells[1:] {
			line += "  " + cell + strings.Repeat(" ", widths[i+1]-utf8.RuneCountInString(cell))
		}
		if utf8.RuneCountInString(line) > width {
			return nil
		}
		out = append(out, strings.TrimRight(line, " "))
	}
	return out
}
