package cli

import (
	"errors"
	"strconv"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"ydrion/core/format"
	"ydrion/wire"
)

func TestWhen(t *testing.T) {
	now := time.Now()
	for in, want := range map[string]time.Time{
		"24h":                  now.Add(-24 * time.Hour),
		"90m":                  now.Add(-90 * time.Minute),
		"2026-11-25":           time.Date(2026, 11, 25, 0, 0, 0, 0, time.Local),
		"2026-11-25 06:30":     time.Date(2026, 11, 25, 6, 30, 0, 0, time.Local),
		"2026-11-25T06:30:00Z": time.Date(2026, 11, 25, 6, 30, 0, 0, time.UTC),
	} {
		if got, err := when(in); err != nil || got.Sub(want).Abs() > time.Minute {
			t.Errorf("%s: %v %v", in, got, err)
		}
	}
	for _, in := range []string{"", "yesterday", "25.11.2026"} {
		if got, err := when(in); err == nil || !strings.Contains(err.Error(), "is neither a time") {
			t.Errorf("%q is %v, %v", in, got, err)
		}
	}
}

func TestTable(t *testing.T) {
	var out strings.Builder
	a := &app{out: &out}
	if err := a.table("NAME,COUNT,STATE", [][]string{{"ansel", "7", "ok"}, {"ä", "1200", ""}}); err != nil {
		t.Fatal(err)
	}
	want := "NAME   COUNT  STATE\nansel      7  ok\nä       1200\n"
	if out.String() != want {
		t.Errorf("got\n%swant\n%s", out.String(), want)
	}
}

// TestNarrowTable: nothing is longer than the terminal is wide, nothing is left out, and what
// belongs to one row stands together.
func TestNarrowTable(t *testing.T) {
	rows := [][]string{
		{"13", "2026-11-28 16:44:15", "dunmarra-orders", "2026-11-28-164415-2-noon.csv", "held", "0", "DU-9588425500 came before, as 2026-11-28-164415-1-morning.csv in pickup 12"},
		{"12", "2026-11-28 16:44:13", "feed", "a.csv", "delivered", "4", ""},
		{"11", "2026-11-28 16:44:12", "feed", strings.Repeat("ø", 100) + ".csv", "delivered", "12", ""},
	}
	const head = "PICKUP,TIME,ROUTE,FILE,STATE,IN,REASON"
	for _, columns := range []int{400, 120, 80, 60, 40, 20} {
		t.Setenv("COLUMNS", strconv.Itoa(columns))
		var out strings.Builder
		if err := (&app{out: &out}).table(head, rows); err != nil {
			t.Fatal(err)
		}
		lines := strings.Split(strings.TrimSuffix(out.String(), "\n"), "\n")
		if columns == 400 && len(lines) != 4 {
			t.Errorf("%d columns:\n%s", columns, out.String())
		}
		for _, line := range lines {
			if n := utf8.RuneCountInString(line); n > columns {
				t.Errorf("%d columns, one line has %d: %q", columns, n, line)
			}
		}
		squeeze := strings.NewReplacer(" ", "", "\n", "")
		all := strings.ReplaceAll(head, ",", "")
		for _, r := range rows {
			all += strings.Join(r, "")
		}
		if got := squeeze.Replace(out.String()); got != squeeze.Replace(all) {
			t.Errorf("%d columns: %s\nnot %s", columns, got, squeeze.Replace(all))
		}
	}
	// A name with line ends stays in its line.
	var odd strings.Builder
	if err := (&app{out: &odd}).table("PICKUP,FILE", [][]string{{"7", "a\nb\t.csv"}}); err != nil || odd.String() != "PICKUP  FILE\n     7  a\\nb\\t.csv\n" {
		t.Errorf("%q %v", odd.String(), err)
	}
	// 80 columns, as it is read.
	t.Setenv("COLUMNS", "80")
	var out strings.Builder
	if err := (&app{out: &out}).table(head, rows[:2]); err != nil {
		t.Fatal(err)
	}
	want := `PICKUP  TIME                 ROUTE            FILE
    STATE      IN
    REASON
    13  2026-11-28 16:44:15  dunmarra-orders  2026-11-28-164415-2-noon.csv
    held        0
    DU-9588425500 came before, as 2026-11-28-164415-1-morning.csv in pickup 12
    12  2026-11-28 16:44:13  feed             a.csv
    delivered   4
`
	if out.String() != want {
		t.Errorf("got\n%s", out.String())
	}
}

func TestSideBySide(t *testing.T) {
	var out strings.Builder
	sideBySide(&out, []string{"a = 1", strings.Repeat("ü", 90)}, []string{"X", "Y", "Z"})
	lines := strings.Split(out.String(), "\n")
	if len(lines) != 4 || !strings.HasSuffix(lines[0], "   X") || !strings.Contains(lines[1], "…   Y") || strings.TrimSpace(lines[2]) != "Z" {
		t.Errorf("%q", lines)
	}
	at := func(s, what string) int { return len([]rune(s[:strings.Index(s, what)])) }
	if at(lines[0], "X") != at(lines[1], "Y") || at(lines[1], "Y") != at(lines[2], "Z") {
		t.Errorf("the right side is not aligned: %q", lines)
	}
}

func TestDeliveriesAreSummedUp(t *testing.T) {
	var out strings.Builder
	a := &app{out: &out}
	r := wire.Run{Outputs: 1003}
	for i := range 200 {
		r.Deliveries = append(r.Deliveries, wire.Delivery{Ord: i + 1, Kind: "good", Folder: "/out", Name: "x"})
	}
	for i, kind := range []string{"rejected", "findings", "report"} {
		r.Deliveries = append(r.Deliveries, wire.Delivery{Ord: 1001 + i, Kind: kind, Folder: "/bad", Name: kind})
	}
	a.deliveries(r)
	if s := out.String(); strings.Count(s, "/out/x") != shownGood || !strings.Contains(s, "good     … and 995 more\n      rejected /bad/rejected") || !strings.Contains(s, "report") {
		t.Errorf("%s", s)
	}
	out.Reset()
	a.deliveries(wire.Run{Outputs: 200, Deliveries: r.Deliveries[:200]})
	if s := out.String(); !strings.HasSuffix(s, "good     … and 195 more\n") {
		t.Errorf("%s", s)
	}
}

func TestExitCodes(t *testing.T) {
	for args, want := range map[string]int{
		"":                                  exitGood,
		"help":                              exitGood,
		"try --help":                        exitGood,
		"--version":                         exitGood,
		"--version-of-nothing":              exitUse,
		"try":                               exitUse,
		"try a":                             exitUse,
		"again":                             exitUse,
		"pickup -1":                         exitUse,
		"serve --log-level x":               exitUse,
		"serve --log-format x":              exitUse,
		"serve --environment /nowhere.yaml": exitUse,
		"check /nowhere":                    exitUse,
		"check -w /nowhere":                 exitUse,
		"check -w ../demo/workspace":        exitGood,
		"check ../demo/workspace -w .":      exitUse,
		"convert ../demo/workspace/samples/lab-results.hl7 --to json":        exitGood,
		"convert ../demo/workspace/samples/lab-results-broken.hl7 --to json": exitFindings,
		"convert ../demo/workspace/samples/lab-results.hl7 --to papyrus":     exitUse,
		"convert ../demo/workspace/samples/lab-results.hl7 --to json --json": exitUse,
		"look":                            exitUse,
		"look /nowhere":                   exitUse,
		"look cli_test.go --at a-b-c%20d": exitFindings,
		"look ../demo/workspace/samples/lab-results.hl7":           exitGood,
		"look ../demo/workspace/samples/lab-results-broken.hl7":    exitFindings,
		"look ../demo/workspace/samples/specimens.json --json":     exitGood,
		"look ../demo/workspace/samples/specimens-broken.json":     exitFindings,
		"look ../demo/workspace/samples/weights-broken.csv --at 2": exitFindings,
		"routes --service xyz":                                     exitUse,
	} {
		var out, errOut strings.Builder
		if got := Main(strings.Fields(args), &out, &errOut); got != want {
			t.Errorf("ydrion %s: exit code %d, want %d: %s", args, got, want, errOut.String())
		}
		if want == exitUse && !strings.HasPrefix(errOut.String(), "ydrion: ") {
			t.Errorf("ydrion %s says %q", args, errOut.String())
		}
	}
	if errors.Is(errFindings, errUse{}) {
		t.Error("findings are no wrong use")
	}
}

// TestEveryCommandHasHelp: a sentence and, where there is something to type, an
// example.
func TestEveryCommandHasHelp(t *testing.T) {
	a := &app{}
	for _, c := range a.root().Commands() {
		if c.Name() == "help" || c.Name() == "completion" {
			continue
		}
		if c.Short == "" || c.Example == "" || c.GroupID == "" {
			t.Errorf("%s has no summary, no example or no group", c.Name())
		}
	}
}

func TestEventLine(t *testing.T) {
	for data, want := range map[string]string{
		`{"kind":"pickup","route":"orders","pickup":3,"name":"a.csv","state":"delivered","balance":{"in":2,"good":1,"rejected":1}}`: "pickup   orders pickup 3 a.csv delivered: 2 in = 1 good + 1 rejected + 0 filtered",
		`{"kind":"route","route":"orders","state":"stopped"}`:                                                                       "route    orders stopped",
		`{"kind":"pickup","route":"o","pickup":1,"name":"n","state":"held","reason":"no space"}`:                                    "pickup   o pickup 1 n held: no space",
		`nonsense`: "nonsense",
	} {
		if got := eventLine(data); got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
}

// TestListed: the rows of a list are a table, or stand one below the other where that is too wide, in lists too; what is
// no list is not made one.
func TestListed(t *testing.T) {
	lines := func(text string) (out []format.Line) {
		for l := range strings.Lines(text) {
			path, value, _ := strings.Cut(strings.TrimRight(l, "\n"), "=")
			out = append(out, format.Line{Path: path, Value: value})
		}
		return out
	}
	for _, test := range []struct {
		lines []format.Line
		width int
		want  string
	}{
		{lines("/order=7\n/lines/0/no=1\n/lines/0/item=a\n/lines/1/no=2\n/lines/1/item=\n/lines/1/text=two words\n/sum=3"), 50,
			"/order = 7\n/lines  no  item  text\n     0  1   a\n     1  2   \"\"    two words\n/sum = 3"},
		{lines("/lines/0/no=1\n/lines/0/item=a\n/lines/1/no=2\n/lines/1/item=b"), 15, "/lines/0\n  no = 1\n  item = a\n/lines/1\n  no = 2\n  item = b"},
		{lines("/l/0/no=1\n/l/0/lots/0/lot=A\n/l/0/lots/0/n=5\n/l/0/lots/1/lot=B\n/l/0/lots/1/n=6\n/l/1/no=2\n/l/1/tags/0=x\n/l/1/tags/1=y\n/l/1/at/lat=3"), 50,
			"/l/0\n  no = 1\n  lots  lot  n\n     0  A    5\n     1  B    6\n/l/1\n  no = 2\n  tags/0 = x\n  tags/1 = y\n  at/lat = 3"},
		{lines("a=1\nb=\na[2]=2\nb[2]=ü\nc=9"), 50, "   a  b\n1  1  \"\"\n2  2  ü\nc = 9"},
		{lines("a=1\na[2]=2"), 50, "row 1\n  a = 1\nrow 2\n  a = 2"},
		{lines("order=7\nitem=a\nn=1\norder[2]=7\nitem[2]=some words\nn[2]=2\norder[3]=7\nitem[3]=b\nn[3]=1"), 16, "in each of 3 rows\n  order = 7\n   item        n\n1  a           1\n2  some words  2\n3  b           1"},
		{lines("LIN[2]-1=2\nLIN[2]-3.1=x\nLIN[3]-1=3\nQTY[3]-1=4"), 50, "LIN[2]-1 = 2\nLIN[2]-3.1 = x\nLIN[3]-1 = 3\nQTY[3]-1 = 4"},
		{[]format.Line{{Path: "/l/0/a", Value: "1"}, {Path: "/l/0/b", Value: "2"}, {Path: "/l/1/a", Value: "3"}, {Path: "/l/1/b", Value: "4"}, {Path: "/l/2/a", Folded: 12}, {Path: "/l/9/a", Value: "bad"}, {Path: "/end", Value: "x"}}, 50,
			"/l  a  b\n 0  1  2\n 1  3  4\n/l/2/a … 12 values (--rows)\n/l/9\n  a = bad\n/end = x"},
		{lines("/0/a=1\n/0/b=2\n/1/a=3\n/1/b=4"), 50, "   a  b\n0  1  2\n1  3  4"},
		{lines("/m/0/0/a=1\n/m/0/0/b=2\n/m/0/1/a=3\n/m/0/1/b=4\n/m/1/0/a=5"), 50, "/m/0\n     a  b\n  0  1  2\n  1  3  4\n/m/1\n  0\n    a = 5"},
		{lines("/l/0/a=1\n/l/0/a=2\n/l/1/b=3"), 50, "/l/0\n  a = 1\n  a = 2\n/l/1\n  b = 3"},
		{lines("a=" + strings.Repeat("ü", 60) + "\nb=x = y\nb[2]=1\na[2]=" + strings.Repeat("ü", 60)), 50, "row 1\n  a = " + strings.Repeat("ü", 35) + "…\n  b = x = y\nrow 2\n  b = 1\n  a = " + strings.Repeat("ü", 35) + "…"},
		{lines("a=x = y\nb=a long text that stands in a table\na[2]=1\nb[2]=2"), 50, "   a      b\n1  x = y  a long text that stands in a table\n2  1      2"},
		{lines(strings.Repeat("/0", 14) + "/a=1"), 50, func() (want string) {
			for n := range deepest {
				want += strings.Repeat("  ", n) + "/0\n"[min(n, 1):]
			}
			return want + strings.Repeat("  ", deepest) + "0/0/a = 1"
		}()},
		{nil, 50, ""},
	} {
		if got := strings.Join(listed(test.lines, test.width, 40), "\n"); got != test.want {
			t.Errorf("%v\ngot\n%s\nwant\n%s", test.lines, got, test.want)
		}
	}
}
