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
// a table would be wider than so many characters. Of a value at most so many are shown; 0: all.
func listed(lines []format.Line, width, most int) []string {
	l := lister{names: map[string]bool{}, pointers: len(lines) > 0 && strings.HasPrefix(lines[0].Path, "/"), most: most}
	for _, line := range lines {
		if m := numbered.FindStringSubmatch(line.Path); m != nil && m[2] == "2" {
			l.names[m[1]] = true
		}
	}
	return l.below(lines, width)
}

// lister prints the values of one record.
type lister struct {
	names    map[string]bool // columns that have several rows, of which the first has no number
	pointers bool            // paths are JSON pointers (RFC 6901)
	most     int             // characters of a value; 0: all
	deep     int             // in so many lists
}

// deepest is in how many lists rows are printed as such; deeper ones have their paths.
const deepest = 12

// Values of rows: /lines/0/article, and article[2].
var (
	pointed  = regexp.MustCompile(`^(|.*?/)(\d+)(/.*|)$`)
	numbered = regexp.MustCompile(`^([^\[\]/]+)\[(\d+)\]$`)
)

// inRow takes the path of a value in a row apart: what stands before the number of the row, which names the list, that number, and what is left.
func (l *lister) inRow(path string) (list string, row int, column string, is bool) {
	if l.pointers {
		m := pointed.FindStringSubmatch(path)
		if m == nil {
			return "", 0, "", false
		}
		row, _ = strconv.Atoi(m[2])
		return m[1], row, strings.TrimPrefix(m[3], "/"), true
	}
	if m := numbered.FindStringSubmatch(path); m != nil {
		row, _ = strconv.Atoi(m[2])
		return "", row, m[1], l.names[m[1]]
	}
	return "", 1, path, l.names[path]
}

// row is one of a list, with the values in it by what is left of their paths.
type row struct {
	number int
	lines  []format.Line
}

// value prints one.
func (l *lister) value(line format.Line) string {
	text := said(line)
	if runes := []rune(text); l.most > 0 && len(runes) > l.most {
		text = string(runes[:l.most-1]) + "…"
	}
	return text
}

// below prints values by what is left of their paths.
func (l *lister) below(lines []format.Line, width int) (out []string) {
	for len(lines) > 0 {
		list, _, _, is := l.inRow(lines[0].Path)
		if !is || lines[0].Folded > 0 || l.deep == deepest {
			out, lines = append(out, l.value(lines[0])), lines[1:]
			continue
		}
		var rows []row
		n := 0
		for ; n < len(lines) && lines[n].Folded == 0; n++ {
			of, number, column, is := l.inRow(lines[n].Path)
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
		if table := l.tabled(list, rows, width); table != nil {
			out = append(out, table...)
			continue
		}
		if !l.pointers && len(rows[0].lines) <= width { // what the rows were gathered by is the same in all
			if same, others := shared(rows); len(same) > 0 {
				if table := l.tabled(list, others, width); table != nil {
					out = append(out, fmt.Sprintf("in each of %d rows", len(rows)))
					for _, line := range same {
						out = append(out, "  "+l.value(line))
					}
					out = append(out, table...)
					continue
				}
			}
		}
		for _, r := range rows {
			name := fmt.Sprintf("row %d", r.number)
			if l.pointers {
				name = fmt.Sprintf("%s%d", list, r.number)
			}
			if len(r.lines) == 1 && r.lines[0].Path == "" {
				out = append(out, l.value(format.Line{Path: name, Value: r.lines[0].Value}))
				continue
			}
			out = append(out, name)
			inner := lister{pointers: l.pointers, most: l.most, deep: l.deep + 1}
			for _, line := range inner.below(r.lines, width-2) {
				out = append(out, "  "+line)
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
func (l *lister) tabled(list string, rows []row, width int) (out []string) {
	inner := lister{pointers: l.pointers}
	var columns []string
	for _, r := range rows {
		if len(columns) > width || len(r.lines) > width { // each has a character, and there is no need to look
			return nil
		}
		for i, line := range r.lines {
			if _, _, _, is := inner.inRow(line.Path); is || slices.ContainsFunc(r.lines[:i], func(o format.Line) bool { return o.Path == line.Path }) {
				return nil
			}
			if !slices.Contains(columns, line.Path) {
				columns = append(columns, line.Path)
			}
		}
	}
	if len(rows) < 2 || len(columns) < 2 {
		return nil
	}
	table := make([][]string, len(rows)+1)
	table[0] = append([]string{strings.TrimSuffix(list, "/")}, columns...)
	for i, r := range rows {
		cells := append([]string{strconv.Itoa(r.number)}, make([]string, len(columns))...)
		for _, line := range r.lines {
			value := finding.Shorten([]byte(line.Value))
			if value == "" {
				value = `""`
			}
			cells[1+slices.Index(columns, line.Path)] = value
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
