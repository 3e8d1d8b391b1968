package lookup

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"ydrion/core/value"
)

func TestTable(t *testing.T) {
	table, findings := Parse("t.csv", "\uFEFFsheet,hl7,remark\r\nMale,M,x\n\"a, b\",\"x|y\"\nMale,M\n,E\n")
	if findings.HasErrors() {
		t.Fatal(findings)
	}
	if table.From != "sheet" || table.To != "hl7" {
		t.Errorf("headings %q and %q", table.From, table.To)
	}
	for key, want := range map[string]string{"Male": "M", "a, b": "x|y", "": "E"} {
		if got, ok := table.Get([]byte(key)); !ok || got != want {
			t.Errorf("%q: %q %v", key, got, ok)
		}
	}
	for _, key := range []string{"male", "Male ", "sheet"} {
		if got, ok := table.Get([]byte(key)); ok {
			t.Errorf("%q is listed as %q", key, got)
		}
	}
	if strings.Join(table.Keys(), ";") != "Male;a, b;" {
		t.Errorf("keys %q", table.Keys())
	}
}

func TestTablesThatAreWrong(t *testing.T) {
	for source, says := range map[string]string{
		"":                     "no heading",
		"a,b\nx\n":             "t.csv:2:1: error: a row of a table has two columns, this one has 1",
		"a,b\nx,1\ny,2\nx,3\n": `t.csv:4:1: error: "x" stands twice, with "1" and with "3"`,
		"a,b\n\"x,1\n":         "t.csv:",
		"a,b\nx,1\n\"y\"z,2\n": "cannot be read",
	} {
		if table, findings := Parse("t.csv", source); table != nil || !strings.Contains(findings.Error(), says) {
			t.Errorf("%q: %v does not say %q", source, findings, says)
		}
	}
}

func TestSeveralColumns(t *testing.T) {
	table, findings := Parse("t.csv", "article\tstation\tprice\tunit\nHR-1\tST1\t9.10\tEA\nHR-1\tST2\t9.50\tEA\nHR-2\t\t2\tBX\nHR-1\tST1\t9.10\tBX\n")
	if findings.HasErrors() {
		t.Fatal(findings)
	}
	x, err := table.By(2, "price")
	if err != nil {
		t.Fatal(err)
	}
	for keys, want := range map[string]string{"HR-1\x00ST2": "9.50", "HR-2\x00": "2"} {
		if got, ok := x.Get([]byte(keys)); !ok || got != want {
			t.Errorf("%q: %q %v", keys, got, ok)
		}
	}
	if _, ok := x.Get([]byte("HR-1")); ok {
		t.Error("one key is enough")
	}
	for _, test := range []struct {
		keys         int
		answer, says string
	}{
		{1, "price", `"HR-1" twice, with "9.10" in line 2 and with "9.50" in line 3`}, {2, "unit", `"HR-1, ST1" twice, with "EA" in line 2 and with "BX" in line 5`},
		{1, "weight", `no column "weight"; it has article, station, price, unit`}, {4, "", "has 4 columns"}, {2, "station", "the answer is another one"},
	} {
		if _, err := table.By(test.keys, test.answer); err == nil || !strings.Contains(err.Error(), test.says) {
			t.Errorf("%d %s: %v does not say %s", test.keys, test.answer, err, test.says)
		}
	}
}

// TestBackwards: with the first column as the answer, the second is looked up; what would answer twice is refused.
func TestBackwards(t *testing.T) {
	table, _ := Parse("t.csv", "sheet,hl7,note\nMale,M,a\nFemale,F,b\nMale,M,c\n")
	x, err := table.By(1, "sheet")
	if err != nil {
		t.Fatal(err)
	}
	for key, want := range map[string]string{"M": "Male", "F": "Female", "Male": ""} {
		if got, ok := x.Get([]byte(key)); got != want || ok != (want != "") {
			t.Errorf("%q: %q %v", key, got, ok)
		}
	}
	table, _ = Parse("t.csv", "sheet,hl7\nMale,M\nman,M\n")
	if _, err := table.By(1, "sheet"); err == nil || !strings.Contains(err.Error(), `"M" twice in the column "hl7", with "Male" in line 2 and with "man" in line 3`) {
		t.Error(err)
	}
}

// TestRanges: what is looked up may lie in a range of numbers or of days, beside codes; each answer is what a
// look at every row gives, and rows of which two would answer are refused.
func TestRanges(t *testing.T) {
	table, findings := Parse("prices.csv", "article;valid from;valid to;kg from;Kg To;price\nHR-1;;2025-12-31;;;9.10\nHR-1;2026-01-01;2026-06-30;;10;9.50\nHR-1;2026-01-01;2026-06-30;10.01;;8.00\nHR-1;2026-07-01T12:00;;;;9.90\nHR-2;2026-01-01;;;;2\n")
	if findings.HasErrors() {
		t.Fatal(findings)
	}
	x, err := table.By(3, "price")
	if err != nil {
		t.Fatal(err)
	}
	if k := table.Kinds(); len(k) != 4 || k[0] != value.Text || k[1] != value.Time || k[2] != value.Number || table.Name(1) != "valid" || table.Name(2) != "kg" || !x.Ranged() {
		t.Errorf("%v", k)
	}
	for keys, want := range map[string]string{
		"HR-1 1999-05-05 3": "9.10", "HR-1 2025-12-31T23:59 3": "9.10", "HR-1 2026-01-01 10": "9.50", "HR-1 2026-06-30 10.00": "9.50", "HR-1 2026-06-30 10.01": "8.00", "HR-1 2026-06-30 10.005": "none",
		"HR-1 2026-07-01T11:59 1": "none", "HR-1 2026-07-01T12:00 1": "9.90", "HR-1 2030-01-01 1": "9.90", "HR-2 2025-12-31 1": "none", "HR-2 2026-01-01 1": "2", "HR-3 2026-01-01 1": "none",
	} {
		word := strings.Fields(keys)
		day, _ := read(word[1])
		kg, _ := read(word[2])
		if got, ok := x.Within([]byte(word[0]), []value.Value{day, kg}); ok && got != want || !ok && want != "none" {
			t.Errorf("%s: %q %v, not %s", keys, got, ok, want)
		}
	}
	for source, says := range map[string]string{
		"kg from,kg to,band\n1,5,a\n5,9,b\n":                            `overlap: what is in both line 2 and line 3 has two answers, "a" and "b"`,
		"kg from,kg to,band\n,5,a\n,9,b\n":                              "overlap",
		"kg from,kg to,band\n1,9,a\n2,3,b\n":                            "overlap",
		"kg from,kg to,band\n1,5,a\n6,x,b\n":                            `3:1: error: "x" under "kg to" is not a bound`,
		"kg from,kg to,band\n1,5,a\n6,2026-01-01,b\n":                   `"2026-01-01" under "kg to" is not a bound`,
		"kg from,kg to,band\n5,1,a\n":                                   `2:1: error: the range under "kg from" ends before it begins: 5 to 1`,
		"day from,day to,x\n2026-02-30,,a\n":                            `"2026-02-30" under "day from"`,
		"code,kg from,kg to,band\nA,1,5,a\nA,4,9,b\n":                   `answer is looked for, from "kg from" on: name the column`,
		"kg from,kg to,day from,day to,b\n1,5,,,a\n4,9,2026-01-01,,b\n": "overlap",
	} {
		table, findings := Parse("t.csv", source)
		said := findings.Error()
		if table != nil {
			keys := max(1, strings.Count(source[:strings.IndexByte(source, '\n')], " from"))
			if _, err := table.By(keys, ""); err != nil {
				said = err.Error()
			}
		}
		if !strings.Contains(said, says) {
			t.Errorf("%q: %q does not say %q", source, said, says)
		}
	}
	// Ranges that adjoin, rows that say the same, and headings that are only called so are no trouble.
	for _, source := range []string{"kg from,kg to,band\n1,5,a\n5.1,9,b\n", "kg from,kg to,band\n1,5,a\n4,9,a\n", "from,to\na,b\nc,d\n", "kg from,kg to,band\n"} {
		table, findings := Parse("t.csv", source)
		if table == nil {
			t.Errorf("%q: %v", source, findings)
		} else if _, err := table.By(1, ""); err != nil {
			t.Errorf("%q: %v", source, err)
		}
	}
}

// TestRandomRanges checks the index against a look at every row, and its cost against the size.
func TestRandomRanges(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	var b strings.Builder
	b.WriteString("code,kg from,kg to,band\n")
	type row struct {
		code     string
		from, to int
		band     string
	}
	var rows []row
	for code := range 5 {
		at := 0
		for range 8_000 {
			from := at + r.IntN(3)
			to := from + r.IntN(20)
			at = to + 1
			rows = append(rows, row{fmt.Sprint("C", code), from, to, fmt.Sprint("b", len(rows))})
		}
	}
	r.Shuffle(len(rows), func(i, k int) { rows[i], rows[k] = rows[k], rows[i] })
	for _, w := range rows {
		fmt.Fprintf(&b, "%s,%d,%d,%s\n", w.code, w.from, w.to, w.band)
	}
	began := time.Now()
	table, findings := Parse("t.csv", b.String())
	if table == nil {
		t.Fatal(findings)
	}
	x, err := table.By(2, "")
	if err != nil {
		t.Fatal(err)
	}
	if took := time.Since(began); took > 10*time.Second {
		t.Errorf("40,000 ranges took %v", took)
	}
	for range 60 {
		code, kg := fmt.Sprint("C", r.IntN(6)), r.IntN(100_000)
		want := ""
		for _, w := range rows {
			if w.code == code && w.from <= kg && kg <= w.to {
				want = w.band
			}
		}
		v, _ := read(fmt.Sprint(kg))
		if got, ok := x.Within([]byte(code), []value.Value{v}); got != want || ok != (want != "") {
			t.Errorf("%s %d: %q, not %q", code, kg, got, want)
		}
	}
}

// TestUnasked: a table knows which of its rows were looked up: by one key, by several, in ranges, and rows that say the same.
func TestUnasked(t *testing.T) {
	table, findings := Parse("t.csv", "tag,pool,kg from,kg to,dose\nA,1,0,10,x\nA,1,11,20,y\nB,1,,,z\nC,2,,,z\nC,2,,,z\n")
	if table == nil {
		t.Fatal(findings)
	}
	if keys, _ := table.Unasked(); keys != nil || table.Tracked() {
		t.Errorf("%v", keys)
	}
	table.Track()
	all := func() string { keys, lines := table.Unasked(); return fmt.Sprint(keys, lines) }
	if got := all(); got != "[A A B C C] [2 3 4 5 6]" {
		t.Error(got)
	}
	ranged, err := table.By(3, "dose")
	if err != nil {
		t.Fatal(err)
	}
	ranged.Within([]byte("A\x001"), []value.Value{value.OfNumber(value.Int(12))})
	ranged.Within([]byte("A\x001"), []value.Value{value.OfNumber(value.Int(30))})
	if got := all(); got != "[A B C C] [2 4 5 6]" {
		t.Error(got)
	}
	pools, err := table.By(2, "dose")
	if err == nil {
		t.Error("A,1 has two answers")
	}
	two, _ := Parse("t.csv", "tag,pool,name\nA,1,x\nA,2,y\nB,1,z\nB,1,z\n")
	two.Track()
	if pools, err = two.By(2, "name"); err != nil {
		t.Fatal(err)
	}
	pools.Get([]byte("A\x002"))
	pools.Get([]byte("B\x001"))
	pools.Get([]byte("C\x001"))
	if keys, lines := two.Unasked(); fmt.Sprint(keys, lines) != "[A] [2]" {
		t.Error(keys, lines)
	}
	two.Get([]byte("A"))
	if keys, _ := two.Unasked(); keys != nil {
		t.Error(keys)
	}
	if two.Track(); len(two.Keys()) != 2 {
		t.Error(two.Keys())
	}
	if keys, _ := two.Unasked(); len(keys) != 4 {
		t.Error(keys)
	}
}

// TestBlanks: cells that begin or end with blanks count as they stand, and are told of.
func TestBlanks(t *testing.T) {
	for source, want := range map[string]string{
		"code,answer\n1,one\n":                              "",
		"code,answer\n1,\n2,two words\n":                    "",
		"code,answer\n1,one\n 2,two\n":                      `t.csv:3:1: warning: a cell begins or ends with a blank, which counts: " 2" [lookup.blank]`,
		"code,answer,more\n1,one,x\n2,two,\u00a0y\n3 ,z,\n": `t.csv:3:1: warning: 2 cells begin or end with a blank, which counts; the first is "\u00a0y" [lookup.blank]`,
	} {
		table, findings := Parse("t.csv", source)
		got := ""
		for _, f := range findings {
			got, _, _ = strings.Cut(f.String(), "\n")
		}
		if table == nil || got != want {
			t.Errorf("%q: %q, not %q", source, got, want)
		}
	}
}
