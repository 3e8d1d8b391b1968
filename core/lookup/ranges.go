package lookup

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"ydrion/core/finding"
	"ydrion/core/place"
	"ydrion/core/text"
	"ydrion/core/value"
)

// within is a row's ranges, and its answer.
type within struct {
	bounds [][2]value.Value
	answer string
	line   int
	reach  value.Value // where the first range ends, or one before it that ends later; none: it does not
}

// ranges finds out which columns are keys: those of codes, and pairs that are ranges.
func (t *Table) ranges(wrong func(line int, f finding.Finding)) {
	n := 0
	for i := 0; i < len(t.headings); i++ {
		c := column{at: i, kind: value.Text}
		if name, is := ending(t.headings[i], " from"); is && i+1 < len(t.headings) {
			if same, is := ending(t.headings[i+1], " to"); is && strings.EqualFold(name, same) {
				c.nth = n
				c.kind = t.bound(i, wrong)
				n++
				i++
			}
		}
		t.columns = append(t.columns, c)
	}
}

// ending cuts a word off a heading; it is false if nothing is left.
func ending(heading, word string) (string, bool) {
	heading = strings.TrimSpace(heading)
	i := len(heading) - len(word)
	if i <= 0 || !strings.EqualFold(heading[i:], word) {
		return "", false
	}
	return strings.TrimSpace(heading[:i]), true
}

// bound reads the bounds in two columns. They are numbers, or days and times (ISO 8601); one that is empty
// bounds nothing.
func (t *Table) bound(column int, wrong func(line int, f finding.Finding)) value.Kind {
	if t.bounds == nil {
		t.bounds = make([][][2]value.Value, len(t.rows))
	}
	kind := value.Absent
	for i, row := range t.rows {
		var pair [2]value.Value
		for k, cell := range row[column : column+2] {
			cell = strings.TrimSpace(cell)
			if cell == "" {
				continue
			}
			read, ok := read(cell)
			if ok && kind == value.Absent {
				kind = read.Kind
			}
			if !ok || read.Kind != kind {
				wrong(t.lines[i], finding.New("lookup.range", place.Place{}, "%q under %q is not a bound of a range: bounds are all numbers (12.5), or all days or times (2026-11-25)", cell, t.headings[column+k]))
				continue
			}
			pair[k] = read
		}
		if pair[0].Has() && pair[1].Has() && compare(pair[0], pair[1]) > 0 {
			wrong(t.lines[i], finding.New("lookup.range", place.Place{}, "the range under %q ends before it begins: %s to %s", t.headings[column], row[column], row[column+1]))
		}
		t.bounds[i] = append(t.bounds[i], pair)
	}
	if kind == value.Absent {
		kind = value.Number
	}
	return kind
}

// read reads a bound: a number, or a day or time.
func read(cell string) (value.Value, bool) {
	if n, err := value.ParseDecimal([]byte(cell)); err == nil {
		return value.OfNumber(n), true
	}
	if m, is := text.ReadISO([]byte(cell)); is && m.From == value.Year && m.Precision >= value.Day {
		return value.OfTime(m), true
	}
	return value.Value{}, false
}

// compare orders two values of a kind. Times are compared as they are written, as exactly as the second one, a
// bound, is: 2026-11-30T15:00 is not behind 2026-11-30.
func compare(v, bound value.Value) int {
	if v.Kind == value.Number {
		return v.Number.Cmp(bound.Number)
	}
	a, b := v.Time, bound.Time
	order := cmp.Or(cmp.Compare(a.Year, b.Year), cmp.Compare(a.Month, b.Month), cmp.Compare(a.Day, b.Day))
	if b.Precision >= value.Hour {
		order = cmp.Or(order, cmp.Compare(a.Hour, b.Hour), cmp.Compare(a.Minute, b.Minute))
	}
	if b.Precision >= value.Second {
		order = cmp.Or(order, cmp.Compare(a.Second, b.Second), cmp.Compare(a.Nano, b.Nano))
	}
	return order
}

// Kinds are what is looked up in each of the columns, where a range is one: texts, numbers or times.
func (t *Table) Kinds() []value.Kind {
	out := make([]value.Kind, len(t.columns))
	for i, c := range t.columns {
		out[i] = c.kind
	}
	return out
}

// Answers are the headings of the columns behind so many keys that are no ranges.
func (t *Table) Answers(keys int) (out []string) {
	for _, c := range t.columns[min(keys, len(t.columns)):] {
		if c.kind == value.Text {
			out = append(out, t.headings[c.at])
		}
	}
	return out
}

// Name is what a key is called: its heading, or that of its range.
func (t *Table) Name(key int) string {
	c := t.columns[key]
	if name, is := ending(t.headings[c.at], " from"); is && c.kind != value.Text {
		return name
	}
	return t.headings[c.at]
}

// mostCompared bounds the comparisons that it takes to find ranges that overlap.
const mostCompared = 20_000_000

// index makes an index of keys among which are ranges. No value may be in the ranges of two rows with the same
// codes that have other answers.
func (t *Table) index(x *Index, answer int) error {
	x.within = map[string][]within{}
	for i, row := range t.rows {
		w := within{answer: row[answer], line: t.lines[i]}
		var codes []string
		for _, c := range t.columns[:len(x.kinds)] {
			if c.kind == value.Text {
				codes = append(codes, row[c.at])
			} else {
				w.bounds = append(w.bounds, t.bounds[i][c.nth])
			}
		}
		key := strings.Join(codes, "\x00")
		x.within[key] = append(x.within[key], w)
	}
	compared := 0
	for _, rows := range x.within {
		slices.SortStableFunc(rows, func(a, b within) int { return begins(a.bounds[0], b.bounds[0]) })
		for i := range rows {
			rows[i].reach = rows[i].bounds[0][1]
			if i > 0 && rows[i].reach.Has() && (!rows[i-1].reach.Has() || compare(rows[i-1].reach, rows[i].reach) > 0) {
				rows[i].reach = rows[i-1].reach
			}
			for k := i + 1; k < len(rows) && overlap(rows[i].bounds[0], rows[k].bounds[0]); k++ {
				if compared++; compared > mostCompared {
					return fmt.Errorf("%s has too many ranges that overlap in %s: put the columns with the narrower ones first", t.File, t.Name(slices.IndexFunc(x.kinds, func(k value.Kind) bool { return k != value.Text })))
				}
				both := true
				for n := range rows[i].bounds {
					both = both && overlap(rows[i].bounds[n], rows[k].bounds[n])
				}
				if a, b := rows[i], rows[k]; both && a.answer != b.answer {
					if a.line > b.line {
						a, b = b, a
					}
					return fmt.Errorf("%s has ranges that overlap: what is in both line %d and line %d has two answers, %q and %q", t.File, a.line, b.line, a.answer, b.answer)
				}
			}
		}
	}
	return nil
}

// begins orders ranges by where they begin; one without a beginning comes first.
func begins(a, b [2]value.Value) int {
	switch {
	case !a[0].Has() && !b[0].Has():
		return 0
	case !a[0].Has():
		return -1
	case !b[0].Has():
		return 1
	}
	return compare(a[0], b[0])
}

func overlap(a, b [2]value.Value) bool {
	before := func(a, b [2]value.Value) bool {
		return a[1].Has() && b[0].Has() && (compare(b[0], a[1]) > 0)
	}
	return !before(a, b) && !before(b, a)
}

// Kinds are what is looked up for each key.
func (x *Index) Kinds() []value.Kind { return x.kinds }

// Ranged tells whether there are ranges among the keys.
func (x *Index) Ranged() bool { return x.within != nil }

// Within looks keys up among which are ranges: the codes with a NUL between each two, and a value for each
// range. Each of them is there.
func (x *Index) Within(codes []byte, values []value.Value) (string, bool) {
	rows := x.within[string(codes)]
	// Behind the last row whose first range has begun there is nothing.
	n, _ := slices.BinarySearchFunc(rows, values[0], func(w within, v value.Value) int {
		if !w.bounds[0][0].Has() || compare(v, w.bounds[0][0]) >= 0 {
			return -1
		}
		return 1
	})
	for i := n - 1; i >= 0 && (!rows[i].reach.Has() || compare(values[0], rows[i].reach) <= 0); i-- {
		in := true
		for k, b := range rows[i].bounds {
			in = in && (!b[0].Has() || compare(values[k], b[0]) >= 0) && (!b[1].Has() || compare(values[k], b[1]) <= 0)
		}
		if in {
			if x.asked != nil {
				x.asked.line(rows[i].line)
			}
			return rows[i].answer, true
		}
	}
	return "", false
}
