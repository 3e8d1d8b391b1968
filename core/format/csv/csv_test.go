package csv

import (
	"errors"
	"fmt"
	"io"
	"reflect"
	"regexp"
	"strings"
	"testing"
	"time"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/format"
	"ydrion/core/shape"
	"ydrion/core/text"
)

// trickle gives its text in small pieces, as a slow file system would.
type trickle struct {
	text string
	n    int
}

func (r *trickle) Read(b []byte) (int, error) {
	if r.text == "" {
		return 0, io.EOF
	}
	n := copy(b[:min(len(b), r.n)], r.text)
	r.text = r.text[n:]
	return n, nil
}

// rows reads everything: the values of the rows, and the codes of the findings
// with their places.
func rows(t *testing.T, d Dialect, in io.Reader, fields []string) (out [][]string, notes []string) {
	t.Helper()
	decoded, err := text.Decode(in, text.UTF8)
	if err != nil {
		t.Fatal(err)
	}
	r, findings, err := format.Open(d, decoded, shape.Of(fields...))
	if err != nil {
		t.Fatal(err)
	}
	tell := func(f finding.Finding) {
		notes = append(notes, fmt.Sprintf("%d:%d %s", f.Place.Line, f.Place.Column, f.Code))
	}
	for _, f := range findings {
		tell(f)
	}
	if r == nil {
		return nil, notes
	}
	first := int64(1)
	for b := (&batch.Batch{}); ; {
		b.Reset()
		more, err := r.Cut(b)
		r.Split(b)
		b.First = first
		first += int64(b.Records())
		for i := range b.Records() {
			var row []string
			for slot := range b.Slots {
				v, ok := b.Value(i, slot)
				if !ok {
					v = []byte("(absent)")
				}
				row = append(row, string(v))
			}
			out = append(out, row)
		}
		for _, n := range b.Notes {
			tell(r.Describe(b, n))
		}
		var broken *format.Broken
		if errors.As(err, &broken) {
			tell(broken.Finding)
			rest, err := io.ReadAll(broken.Rest)
			if err != nil {
				t.Fatal(err)
			}
			notes = append(notes, fmt.Sprintf("rest %q", rest))
			return out, notes
		}
		if err != nil {
			t.Fatal(err)
		}
		if !more {
			for _, f := range r.Finish(first - 1) {
				tell(f)
			}
			return out, notes
		}
	}
}

func TestReading(t *testing.T) {
	tests := []struct {
		name    string
		dialect Dialect
		in      string
		want    [][]string
		notes   []string
	}{
		{"RFC 4180", Dialect{}, "a,b\r\n1,2\r\n3,4\r\n", [][]string{{"1", "2"}, {"3", "4"}}, nil},
		{"no end of the last line", Dialect{}, "a,b\n1,2\n3,4", [][]string{{"1", "2"}, {"3", "4"}}, nil},
		{"quotes", Dialect{}, "a,b\n\"x, y\",\"say \"\"hi\"\"\"\n\"two\r\nlines\",\"\"\n", [][]string{{"x, y", `say "hi"`}, {"two\r\nlines", ""}}, nil},
		{"columns in another order", Dialect{}, "b,x,a\n1,2,3\n", [][]string{{"3", "1"}}, []string{"1:1 csv.column-surplus"}},
		{"semicolons and another quote", Dialect{Delimiter: ';', Quote: '\''}, "a;b\n'x;y';it''s\n", [][]string{{"x;y", "it''s"}}, []string{"2:9 csv.quote-stray", "2:9 csv.quote-stray"}[:1]},
		{"tabs, quotes are data", Dialect{Delimiter: '\t', NoQuote: true}, "a\tb\n\"x\t5\"\n", [][]string{{`"x`, `5"`}}, nil},
		{"no heading", Dialect{NoHeading: true, Columns: []string{"a", "b"}}, "1,2\n3,4\n", [][]string{{"1", "2"}, {"3", "4"}}, nil},
		{"lines before the heading", Dialect{Skip: 2}, "Sheet of today\n,,\na,b\n1,2\n", [][]string{{"1", "2"}}, nil},
		{"empty lines", Dialect{}, "\n\na,b\n\n1,2\n\r\n\n3,4\n\n", [][]string{{"1", "2"}, {"3", "4"}}, nil},
		{"CR only", Dialect{}, "a,b\r1,2\r\"3\r3\",4", [][]string{{"1", "2"}, {"3\r3", "4"}}, nil},
		{"a quote within a value", Dialect{}, "a,b\n5\" net,2\n3,4\n", [][]string{{`5" net`, "2"}, {"3", "4"}}, []string{"2:2 csv.quote-stray"}},
		{"text after a quote", Dialect{}, "a,b\n\"x\" y,2\n\"p\"\"q\"z,4\n", [][]string{{"x y", "2"}, {`p"qz`, "4"}}, []string{"2:4 csv.quote-text", "3:7 csv.quote-text"}},
		{"short and long rows", Dialect{}, "a,b\n1\n1,2,3\n1,2\n", [][]string{{"1", "(absent)"}, {"1", "2"}, {"1", "2"}}, []string{"2:1 csv.columns-missing", "3:1 csv.columns-surplus"}},
		{"a footer", Dialect{Footer: 1}, "a,b,c\n1,2,\nTotal,,\n", [][]string{{"1", "2"}}, []string{"1:1 csv.column-surplus"}},
		{"a row where the footer should be", Dialect{Footer: 1}, "a,b\n1,2\n3,4\n", [][]string{{"1", "2"}}, []string{"3:1 csv.left-out"}},
		{"rows where the footer should be, with blanks where others have some", Dialect{Footer: 2}, "a,b\n1,\n3,4\r\n5,\n\n", [][]string{{"1", ""}}, []string{"3:1 csv.left-out", "4:1 csv.left-out"}},
		{"the only row where the footer should be", Dialect{Footer: 1}, "a,b\n3,4\n", nil, []string{"2:1 csv.left-out"}},
		{"a row of several lines before one where the footer should be", Dialect{Footer: 1}, "a,b\n1,\"x\ny\"\n3,4\n", [][]string{{"1", "x\ny"}}, []string{"4:1 csv.left-out"}},
		{"a footer without rows", Dialect{Footer: 1}, "a,b\nEnd,\n", nil, nil},
		{"a footer that counts", Dialect{Footer: 1, Total: regexp.MustCompile("^n,([0-9]+)")}, "a,b\n1,2\nn,1\n", [][]string{{"1", "2"}}, nil},
		{"a row that is skipped", Dialect{NoHeading: true, Columns: []string{"a", "b"}, Skip: 1}, "1,2\n3,4\n", [][]string{{"3", "4"}}, []string{"1:1 csv.left-out"}},
		{"a title that is skipped", Dialect{NoHeading: true, Columns: []string{"a", "b"}, Skip: 1}, "Sheet of today,\n3,4\n", [][]string{{"3", "4"}}, nil},
		{"the heading once more", Dialect{}, "a,b\r\n1,2\r\na,b\r\n3,4\r\n\uFEFFa,b\n\"a\",b\na,b,\na,b", [][]string{{"1", "2"}, {"a", "b"}, {"3", "4"}, {"\uFEFFa", "b"}, {"a", "b"}, {"a", "b"}, {"a", "b"}}, []string{"3:1 csv.heading-again", "5:1 csv.heading-again", "7:1 csv.columns-surplus", "8:1 csv.heading-again"}},
		{"rows like column names without a heading", Dialect{NoHeading: true, Columns: []string{"a", "b"}}, "a,b\na,b\n", [][]string{{"a", "b"}, {"a", "b"}}, nil},
		{"the heading of widths once more", Dialect{Widths: []int{2, 2}}, "a b \n1 2 \na b \n", [][]string{{"1", "2"}, {"a", "b"}}, []string{"3:1 csv.heading-again"}},
		{"NUL", Dialect{}, "a,b\n1,2\nx\x00y,2\n", [][]string{{"1", "2"}, {"x\x00y", "2"}}, []string{"3:2 csv.nul"}},
		{"not UTF-8", Dialect{}, "a,b\nä,2\n\xE4,2\n", [][]string{{"ä", "2"}, {"\xE4", "2"}}, []string{"3:1 text.encoding"}},
		{"columns are counted in characters", Dialect{}, "a,b\nääää,\"x\"y\n", [][]string{{"ääää", "xy"}}, []string{"2:9 csv.quote-text"}},
		{"a quote that is never closed", Dialect{}, "a,b\n1,2\n3,\"x\n5,6\n", [][]string{{"1", "2"}}, []string{"3:3 csv.quote-unclosed", `rest "3,\"x\n5,6\n"`}},
		{"a quote that is never closed in the heading", Dialect{}, "a,\"b\n1,2\n", nil, []string{"1:3 csv.quote-unclosed"}},
		{"heading only", Dialect{}, "a,b", nil, nil},
		{"nothing", Dialect{}, "", nil, []string{"1:1 file.empty"}},
		{"one column", Dialect{Columns: []string{"a", "b"}, NoHeading: true}, "\n", nil, nil},
	}
	for _, test := range tests {
		for _, piece := range []int{1, 3, 1 << 20} {
			got, notes := rows(t, test.dialect, &trickle{test.in, piece}, []string{"a", "b"})
			if !reflect.DeepEqual(got, test.want) || !reflect.DeepEqual(notes, test.notes) {
				t.Errorf("%s, in pieces of %d: got %q %q, want %q %q", test.name, piece, got, notes, test.want, test.notes)
			}
		}
	}
}

func TestHeadings(t *testing.T) {
	tests := []struct{ heading, code, says string }{
		{"a", "csv.column-missing", `column "b" is missing`},
		{"a,bb", "csv.column-missing", `was column "bb" renamed?`},
		{"a,b,a", "csv.column-twice", `columns 1 and 3 are both called "a"`},
		{"a;b", "csv.delimiter", "seems to be a semicolon"},
		{"a\tb", "csv.delimiter", "seems to be a tab"},
		{"a,b\x00", "csv.nul", "NUL byte"},
		{"a,b\xE4", "text.encoding", "byte E4"},
	}
	for _, test := range tests {
		decoded, err := text.Decode(strings.NewReader(test.heading+"\n1,2\n"), text.UTF8)
		if err != nil {
			t.Fatal(err)
		}
		r, findings, err := format.Open(Dialect{}, decoded, shape.Of("a", "b"))
		if r != nil || err != nil || !findings.HasErrors() || findings[0].Code != test.code || !strings.Contains(findings.Error()+findings[0].Suggestion, test.says) {
			t.Errorf("%q: %v %v", test.heading, findings, err)
		}
	}
}

func TestLongRowsGrowTheBatch(t *testing.T) {
	long := strings.Repeat("x", 3*batch.Size)
	in := "a,b\n1,2\n\"" + long + "\",\"" + strings.Repeat(`""`, batch.Size) + "\"\n3,4\n"
	got, notes := rows(t, Dialect{}, strings.NewReader(in), []string{"a", "b"})
	if len(got) != 3 || got[1][0] != long || len(got[1][1]) != batch.Size || got[2][1] != "4" || notes != nil {
		t.Errorf("%d rows, %v", len(got), notes)
	}
}

// FuzzRows checks the fast splitter against the careful one, and the pieces of a
// file against the whole.
func FuzzRows(f *testing.F) {
	for _, s := range []string{"1,2\n3,4", "\"a\"\"b\",c\n", "\"a\nb\",c\r\n", "a\"b,c", "\"a\"b,c\n,\n\n", "\r\n\r", "\"", "a,\"b"} {
		f.Add(s, byte(','), 3)
	}
	f.Fuzz(func(t *testing.T, in string, delimiter byte, piece int) {
		d := Dialect{Delimiter: delimiter, NoHeading: true, Columns: []string{"a", "b", "c"}}
		if d.Validate() != nil || piece < 1 || len(in) > 4096 || strings.HasPrefix(in, "\xEF\xBB\xBF") || strings.HasPrefix(in, "\xFF\xFE") || strings.HasPrefix(in, "\xFE\xFF") {
			return
		}
		whole, notes := rows(t, d, strings.NewReader(in), []string{"a", "b", "c"})
		pieces, other := rows(t, d, &trickle{in, piece}, []string{"a", "b", "c"})
		if !reflect.DeepEqual(whole, pieces) || !reflect.DeepEqual(notes, other) {
			t.Errorf("in pieces of %d: %q %q, as a whole %q %q", piece, pieces, other, whole, notes)
		}
		decoded, err := text.Decode(strings.NewReader(in), text.UTF8)
		if err != nil {
			t.Fatal(err)
		}
		r := newReader(d, decoded)
		if _, err := r.open(shape.Of("a", "b", "c")); err != nil {
			t.Fatal(err)
		}
		b := &batch.Batch{}
		if _, err := r.Cut(b); err != nil {
			return
		}
		r.Split(b)
		for i := range b.Records() {
			values := r.Values(b.Raw(i))
			for slot := range min(len(values), 3) {
				if v, ok := b.Value(i, slot); !ok || string(v) != values[slot] {
					t.Errorf("row %q, column %d: fast %q, careful %q", b.Raw(i), slot, v, values[slot])
				}
			}
		}
	})
}

func BenchmarkSplit(b *testing.B) {
	var s strings.Builder
	for i := range 3000 {
		fmt.Fprintf(&s, "SC%08d,T-9K2M4P,GS,ST%02d,25/11/2026 06:30,Male,12.5,calm in transit,WBC,R,57.12345,-2.54321\n", i, i%24)
	}
	names := strings.Split("abcdefghijkl", "")
	decoded, err := text.Decode(strings.NewReader(s.String()), text.UTF8)
	if err != nil {
		b.Fatal(err)
	}
	r := newReader(Dialect{NoHeading: true, Columns: names}, decoded)
	if _, err := r.open(shape.Of(names...)); err != nil {
		b.Fatal(err)
	}
	block := &batch.Batch{}
	if _, err := r.Cut(block); err != nil {
		b.Fatal(err)
	}
	b.SetBytes(int64(block.N))
	b.ReportAllocs()
	for b.Loop() {
		block.Spans, block.Bounds, block.Notes = block.Spans[:0], block.Bounds[:0], block.Notes[:0]
		r.Split(block)
	}
}

// TestLineEnds: whichever line end a file has, and whatever stands in its quotes and at its
// end, each row comes out once with its values; a line end of another kind outside of
// quotes is a finding, never a value or a lost row.
func TestLineEnds(t *testing.T) {
	values := []string{"1", "two", "x\ny", "x\ry", "x\r\ny", "", "\r", "\n", `a"b`}
	quoted := func(v string) string {
		if strings.ContainsAny(v, "\r\n\"") {
			return `"` + strings.ReplaceAll(v, `"`, `""`) + `"`
		}
		return v
	}
	for _, end := range []string{"\n", "\r\n", "\r"} {
		for _, heading := range []string{"a,b", "\"a\",b", "\"a\nc\",b", "\"a\rc\",b"} {
			for _, tail := range []string{"", end, end + end, "\n", "\r\n"} {
				for _, step := range []int{1, 3, 100_000} {
					in, want := heading, [][]string(nil)
					for i, v := range values {
						row := []string{v, values[(i+3)%len(values)]}
						in += end + quoted(row[0]) + "," + quoted(row[1])
						want = append(want, row)
					}
					fields := []string{strings.Trim(strings.Split(heading, ",")[0], `"`), "b"}
					got, notes := rows(t, Dialect{}, &trickle{in + tail, step}, fields)
					if !reflect.DeepEqual(got, want) || len(notes) > 0 {
						t.Fatalf("%q: got %q %v, want %q", in+tail, got, notes, want)
					}
				}
			}
		}
	}
	for in, want := range map[string]string{
		"a\r1\n2\n3\r":      "2:2 csv.line-end",
		"a\n1\r2\r3\n":      "2:2 csv.line-end",
		"a,b\n1,x\ry\n2,z":  "2:4 csv.line-end",
		"a,b\r1,x\ny\r2,z":  "2:4 csv.line-end",
		"a\r\n1\r\n\r2\r\n": "3:1 csv.line-end",
	} {
		fields := strings.Split(in[:strings.IndexAny(in, "\r\n")], ",")
		if got, notes := rows(t, Dialect{}, strings.NewReader(in), fields); len(notes) != 1 || notes[0] != want {
			t.Errorf("%q: %v (%q), want %s", in, notes, got, want)
		}
	}
}

// TestHeadingsAsTheyCome: what a heading has that no field needs is no reason to reject a file.
func TestHeadingsAsTheyCome(t *testing.T) {
	long := "a"
	for n := range 20_000 {
		long += fmt.Sprintf(",column_%06d", n)
	}
	for _, test := range []struct {
		name, in string
		dialect  Dialect
		want     [][]string
		notes    []string
	}{
		{"twice and empty, where nobody uses them", "a,,x,x,\n1,2,3,4,5\n", Dialect{}, [][]string{{"1"}}, []string{"1:1 csv.column-surplus"}},
		{"twice, and used", "a,b,a\n1,2,3\n", Dialect{}, nil, []string{"1:1 csv.column-twice", "1:1 csv.column-surplus"}},
		{"beyond 64 KiB", long + "\n1" + strings.Repeat(",x", 20_000) + "\n", Dialect{}, [][]string{{"1"}}, []string{"1:1 csv.column-surplus"}},
		{"lines before the first row, without a heading", "Report\nof today\n1\n2\n", Dialect{NoHeading: true, Columns: []string{"a"}, Skip: 2}, [][]string{{"1"}, {"2"}}, nil},
		{"fewer lines than are skipped", "Report\n", Dialect{NoHeading: true, Columns: []string{"a"}, Skip: 2}, nil, []string{"1:1 csv.heading-missing"}},
	} {
		got, notes := rows(t, test.dialect, &trickle{test.in, 4096}, []string{"a"})
		if !reflect.DeepEqual(got, test.want) || !reflect.DeepEqual(notes, test.notes) {
			t.Errorf("%s: %q %v, want %q %v", test.name, got, notes, test.want, test.notes)
		}
	}
}

// TestLongRecords: a record of very many rows costs what its size says, and so does a long row in it.
func TestLongRecords(t *testing.T) {
	const n = 400_000
	together := Dialect{Together: []string{"no"}}
	for name, c := range map[string]struct {
		file    string
		records int
	}{
		"one record":    {"no,tag\n" + strings.Repeat("A,x\n", n), 1},
		"quoted":        {"no,tag\n" + strings.Repeat("\"A\",\"x,\ny\"\n", n), 1},
		"two of a kind": {"no,tag\n" + strings.Repeat("A,x\nA,y\nB,x\nB,y\n", n/4), n / 2},
		"a long row":    {"no,tag" + strings.Repeat(",more", n) + "\n" + strings.Repeat("A,x"+strings.Repeat(",\"1\"", n)+"\n", 2), 1},
	} {
		began := time.Now()
		out, _ := rows(t, together, strings.NewReader(c.file), []string{"no", "tag"})
		if took := time.Since(began); took > 5*time.Second || len(out) != c.records {
			t.Errorf("%s: %d records in %s", name, len(out), took)
		}
	}
}
