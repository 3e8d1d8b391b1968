package csv

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"testing"
	"testing/iotest"
	"ydrion/core/format"

	"ydrion/core/batch"
	"ydrion/core/shape"
	"ydrion/core/text"
)

// whole reads a file that is cut into pieces in different ways, and gives its rows
// and what is wrong with it.
func whole(t *testing.T, d Dialect, file string, fields ...string) ([]string, []string) {
	t.Helper()
	var first, firstWrong []string
	for i, in := range []*text.Decoded{{Charset: text.UTF8, Reader: strings.NewReader(file)}, {Charset: text.UTF8, Reader: iotest.OneByteReader(strings.NewReader(file))}} {
		var lines, wrong []string
		r, findings, err := format.Open(d, in, shape.Of(fields...))
		if err != nil {
			t.Fatal(err)
		}
		if r == nil {
			return nil, []string{findings[0].String()}
		}
		b := &batch.Batch{First: 1}
		for more := true; more; {
			b.Reset()
			var err error
			more, err = r.Cut(b)
			if err != nil {
				wrong, more = append(wrong, err.Error()), false
			}
			r.Split(b)
			for i := range b.Records() {
				var row []string
				for slot := range fields {
					v, _ := b.Value(i, slot)
					row = append(row, string(v))
				}
				lines = append(lines, strings.Join(row, "|"))
			}
			for _, n := range b.Notes {
				wrong = append(wrong, r.Describe(b, n).String())
			}
			b.First += int64(b.Records())
		}
		for _, f := range r.Finish(int64(len(lines))) {
			wrong = append(wrong, f.String())
		}
		if i == 0 {
			first, firstWrong = lines, wrong
		} else if !slices.Equal(lines, first) || !slices.Equal(wrong, firstWrong) {
			t.Errorf("%q: byte by byte %q %q, else %q %q", file, lines, wrong, first, firstWrong)
		}
	}
	return first, firstWrong
}

func TestFamily(t *testing.T) {
	total := regexp.MustCompile(`^Rows: ([0-9]+)`)
	for _, test := range []struct {
		name, file string
		d          Dialect
		rows       string
		wrong      string
	}{
		{"a line for spreadsheets", "sep=;\r\na;b\r\n1;2\r\n", Dialect{}, "1|2", ""},
		{"that agrees", "SEP=;\na;b\n1;2\n", Dialect{Delimiter: ';'}, "1|2", ""},
		{"that does not", "sep=,\na;b\n1;2\n", Dialect{Delimiter: ';'}, "", "1:5: error: the first line says that columns are separated by a comma, the route says a semicolon [csv.delimiter]"},
		{"no such line", "sep=;;\n1\n", Dialect{Delimiter: ';', NoHeading: true, Columns: []string{"a", "b", "c"}}, "sep=|;1|", "columns"},
		{"comments", "# of \"today\na,b\n# and, \"more\n1,\"2\n# no comment\"\n#\n3,4\n#\"", Dialect{Comment: '#'}, "1|2\n# no comment;3|4", ""},
		{"comments without a heading", "#x\n1,2\n", Dialect{Comment: '#', NoHeading: true, Columns: []string{"a", "b"}}, "1|2", ""},
		{"a comment character elsewhere", "a,b\n1,#2\n", Dialect{Comment: '#'}, "1|#2", ""},
		{"backslashes", `a,b` + "\n" + `1,"say \"hi\", \\ or ""x"""` + "\n" + `"\"",2` + "\n", Dialect{Escape: '\\'}, `1|say "hi", \ or "x";"|2`, ""},
		{"a backslash at the end", "a,b\n1,\"x\\", Dialect{Escape: '\\'}, "", "the quote opened here is never closed"},
		{"fixed widths", "a    b   \n1    é2  \r\n\n  22 3\n", Dialect{Widths: []int{5, 4}}, "1|é2;22|3", ""},
		{"without a heading", "12345\n", Dialect{Widths: []int{2, 3}, NoHeading: true, Columns: []string{"a", "b"}}, "12|345", ""},
		{"too short and too long", "a b \n1\n1 2 3\n", Dialect{Widths: []int{2, 2}}, "1|;1|2", "2:1 record 1: error: the row has 1 columns, the heading has 2 [csv.columns-missing]\n3:1 record 2: error: the row has 3 columns"},
		{"quotes are data", "a b \n\"1\"2\n", Dialect{Widths: []int{2, 2}}, "\"1|\"2", ""},
		{"a footer", "a,b\n1,2\n3,4\nRows: 2\n", Dialect{Footer: 1, Total: total}, "1|2;3|4", ""},
		{"two lines of it", "a,b\r\n1,2\r\nRows: 1\r\nend \"x", Dialect{Footer: 2, Total: total}, "1|2", ""},
		{"nothing but it", "a,b\nRows: 0", Dialect{Footer: 1, Total: total}, "", ""},
		{"another total", "a,b\n1,2\nRows: 2\n", Dialect{Footer: 1, Total: total}, "1|2", "3:1: error: the footer says 2 rows, but 1 came [csv.total]"},
		{"no total", "a,b\n1,2\n3,4\n", Dialect{Footer: 1, Total: total}, "1|2", "3:1: error: the last 1 lines hold no total"},
	} {
		if err := test.d.Validate(); err != nil {
			t.Errorf("%s: %v", test.name, err)
		}
		rows, wrong := whole(t, test.d, test.file, "a", "b")
		if got := strings.Join(rows, ";"); got != test.rows || !strings.Contains(strings.Join(wrong, "\n"), test.wrong) || test.wrong == "" && wrong != nil {
			t.Errorf("%s: %q %q, want %q %q", test.name, got, wrong, test.rows, test.wrong)
		}
	}
	// Many rows, so that the footer is held back more than once.
	var file strings.Builder
	file.WriteString("a,b\n")
	for i := range 60_000 {
		fmt.Fprintf(&file, "%d,x%d\n", i, i)
	}
	rows, wrong := whole(t, Dialect{Footer: 2, Total: total}, file.String()+"Rows: 60000\nend\n", "a", "b")
	if len(rows) != 60_000 || wrong != nil {
		t.Errorf("%d rows, %q", len(rows), wrong)
	}
	for _, d := range []Dialect{{Comment: ','}, {Escape: '"'}, {Comment: 0xe9}, {Total: total}, {Footer: 1, Total: regexp.MustCompile("x")}} {
		if d.Validate() == nil {
			t.Errorf("%+v is valid", d)
		}
	}
}

func TestGuess(t *testing.T) {
	d, rows := Guess([]byte("sep=|\na|b,c\n1|2\n"), 0, nil)
	if d.Delimiter != '|' || len(rows) != 2 {
		t.Errorf("%+v %q", d, rows)
	}
	d, rows = Guess([]byte("# made today\na,b\n# x\n1,2\n"), 0, nil)
	if d.Comment != '#' || len(rows) != 2 {
		t.Errorf("%+v %q", d, rows)
	}
	// Commas in numbers separate nothing, however many columns they would make.
	for _, at := range []struct {
		in      string
		by      byte
		columns int
		heading bool
	}{
		{"species;lon\n122,98;3.866,25\n57,2;5.575,15\n", ';', 2, true},
		{"sex\tlon\tnote\n7.330,87\t182,18\t54,82\n2.354,08\t112,57\t119,", '\t', 3, true},
		{"132,82|2026-04-28\r\n151,93|2026-11-08\r\n", '|', 2, false},
		{"\"4.796,73\"|\"151,37\"|\"148,7\"\r\n\"7.017,38\"|\"49,45\"|\"85,82\"\r\n", '|', 3, false},
		{"\"Ansel \"\"Point\"\", north\";5,1\n\"Brun, south\";6,2\n", ';', 2, false},
		{"1,2,3\n4,5,6\n", ',', 3, false}, {"a,b\n1,2\n", ',', 2, true},
		{"a,b\n1|2,5\n3|4,5\n", ',', 2, true}, // the heading is separated by none else
		{"tag;1st dose;2nd dose\nT-1;12,5;13\nT-2;;14,5\n", ';', 3, true}, {"tag,1st\nT-1,yes\nT-2,no\n", ',', 2, false},
		{"tag;kg;\nT-1;12,5;\nT-2;14;\n", ';', 3, true}, {"tag,note,note,day\nT-1,a,b,2026-01-02\n", ',', 4, true}, {"a,a\nb,c\n", ',', 2, false},
		{"5mg,unknown\n10mg,12\n", ',', 2, false}, {"26/05/2021|unknown|Y\n27/10/2020|12,43|N\n", '|', 3, false}, {"tag,2024\nT-1,5\n", ',', 2, false},
		{"km²,day\nY,2020-04-15 09:32\nN,2020-07-16 00:24\n", ',', 2, true},
	} {
		d, rows := Guess([]byte(at.in), 0, nil)
		if d.Delimiter != at.by || len(rows) == 0 || len(rows[0]) != at.columns || d.NoHeading == at.heading || d.Skip != 0 {
			t.Errorf("%q: %q %+v %q", at.in, d.Delimiter, d, rows)
		}
	}
}

// FuzzFamily checks the pieces of a file against the whole, in every dialect.
func FuzzFamily(f *testing.F) {
	for kind, in := range []string{"a,b\n", "#x\na,b\n#\"\n1,\"2\n#\"\n", "sep=;\na;\"b\\\"\"\n", "a,b\n1,2\nRows: 1", "a b\n1 2 3\n"} {
		f.Add(in, byte(1<<kind), 3)
	}
	f.Fuzz(func(t *testing.T, in string, kind byte, piece int) {
		d := Dialect{}
		if kind&1 != 0 {
			d.NoHeading, d.Columns = true, []string{"a", "b", "c"}
		}
		if kind&2 != 0 {
			d.Comment = '#'
		}
		if kind&4 != 0 {
			d.Escape = '\\'
		}
		if kind&8 != 0 {
			d.Footer, d.Total = 1+int(kind>>6), regexp.MustCompile("s: ([0-9]+)")
		}
		if kind&16 != 0 {
			d.Widths = []int{2, 1, 3}
		}
		if kind&32 != 0 {
			d.Skip = 1
		}
		if piece < 1 || len(in) > 4096 || d.Validate() != nil || strings.HasPrefix(in, "\xEF\xBB\xBF") || strings.HasPrefix(in, "\xFF\xFE") || strings.HasPrefix(in, "\xFE\xFF") {
			return
		}
		all, notes := rows(t, d, strings.NewReader(in), nil)
		pieces, other := rows(t, d, &trickle{in, piece}, nil)
		if !slices.EqualFunc(all, pieces, slices.Equal[[]string]) || !slices.Equal(notes, other) {
			t.Errorf("in pieces of %d: %q %q, as a whole %q %q", piece, pieces, other, all, notes)
		}
	})
}
