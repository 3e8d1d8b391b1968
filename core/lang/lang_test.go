package lang

import (
	"fmt"
	"math"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"ydrion/core/batch"
	"ydrion/core/format/hl7"
	"ydrion/core/lookup"
	"ydrion/core/place"
	"ydrion/core/shape"
	"ydrion/core/text"
	"ydrion/core/value"
)

var fields = shape.Record{
	{Name: "animal_tag", Kind: value.Text},
	{Name: "weight_kg", Kind: value.Number, Checked: true, Required: true},
	{Name: "collected_at", Kind: value.Time, Pattern: text.MustPattern("dd/MM/yyyy HH:mm"), Checked: true},
	{Name: "sex", Kind: value.Text},
	{Name: "Tag no.", Kind: value.Text},
	{Name: "gain", Kind: value.Number, Decimal: ',', Checked: true},
	{Name: "released", Kind: value.Bool, Truths: []string{"yes"}, Checked: true},
}

// record has values in the order of fields; "-" is absent.
var record = []string{"T-1|2", "12.50", "25/11/2026 06:30", "Male", "X & Y", "1,5", "yes"}

func scope(t *testing.T) Scope {
	t.Helper()
	table, findings := lookup.Parse("lookups/sex_codes.csv", "sheet,hl7\nMale,M\nFemale,F\nOdd,a|b\n")
	if findings.HasErrors() {
		t.Fatal(findings)
	}
	bands, more := lookup.Parse("lookups/bands.csv", "kg from,kg to,band\n,9.99,pup\n10,99.99,young\n100,,adult\n")
	doses, still := lookup.Parse("lookups/doses.csv", "sex\tvalid from\tvalid to\tdose\nMale\t\t2025-12-31\told\nMale\t2026-01-01\t\tnew\n")
	if more.HasErrors() || still.HasErrors() {
		t.Fatal(more, still)
	}
	return Scope{Fields: fields, Lookups: Tables{"sex_codes": table, "bands": bands, "doses": doses}}
}

// batchOf makes a batch of one record.
func batchOf(values []string) *batch.Batch {
	b := &batch.Batch{First: 7, Seq: 41, Slots: len(values), Bounds: []batch.Span{{}}}
	for _, v := range values {
		if v == "-" {
			b.Spans = append(b.Spans, batch.Missing)
			continue
		}
		b.Spans = append(b.Spans, batch.Span{Off: uint32(len(b.Buf)), End: uint32(len(b.Buf) + len(v))})
		b.Buf = append(b.Buf, v...)
	}
	b.N = len(b.Buf)
	return b
}

const sample = "MSH|^~\\&|A\rPID|1||T\r"

// build compiles a map body on a small sample.
func build(t *testing.T, body string) (*Program, []string) {
	t.Helper()
	source := "map test\nsource csv schemas/a.json\ntarget hl7 based on samples/a.hl7\nkeep MSH, PID-1\nignore animal_tag, weight_kg, collected_at, sex, \"Tag no.\", gain, released\n" + body
	target, err := hl7.NewTarget("samples/a.hl7", []byte(sample))
	if err != nil {
		t.Fatal(err)
	}
	m, findings := Parse("test.map", source)
	var p *Program
	if !findings.HasErrors() {
		p, findings = Build(m, "test.map", source, target, scope(t))
	}
	var said []string
	for _, f := range findings {
		f.Place.Line -= 5
		said = append(said, f.String())
	}
	return p, said
}

// run gives what PID-3 becomes, or "rejected: reason".
func run(t *testing.T, body string, values []string) string {
	t.Helper()
	p, said := build(t, body)
	said = slices.DeleteFunc(said, func(s string) bool { return strings.Contains(s, "[map.absent]") }) // see TestAbsenceIsSaid
	if len(said) > 0 {
		t.Fatalf("%s: %v", body, said)
	}
	now, _ := text.ReadISO([]byte("2026-11-25T08:09:10Z"))
	e := &Env{Facts: Facts{Route: "orders", Now: now, Name: "sheet.v2.csv", Folder: "pool-1"}}
	b := batchOf(values)
	out, o := p.Run(e, b, 0, []byte("before"))
	if o.What != batch.Good {
		if string(out) != "before" {
			t.Errorf("%s: a record that became nothing has left %q", body, out)
		}
		return [...]string{"", "rejected", "skipped"}[o.What] + ": " + o.Reason
	}
	got := strings.TrimPrefix(string(out), "beforeMSH|^~\\&|A\rPID|1")
	return strings.TrimSuffix(strings.TrimPrefix(got, "||"), "\r")
}

func TestExpressions(t *testing.T) {
	with := func(slot int, v string) []string {
		out := append([]string{}, record...)
		out[slot] = v
		return out
	}
	tests := []struct {
		expression string
		values     []string
		want       string
	}{
		{`animal_tag`, record, `T-1\F\2`},
		{`"fixed ^ text"`, record, `fixed \S\ text`},
		{`"{animal_tag}: {weight_kg} kg {{x}}"`, record, `T-1\F\2: 12.50 kg {x}`},
		{`weight_kg`, record, `12.50`},
		{`field "Tag no."`, record, `X \T\ Y`},
		{`gain`, record, `1.5`},
		{`gain | round 0 "half-up"`, record, `2`},
		{`weight_kg * 2 + 1`, record, `26.00`},
		{`weight_kg - gain / 2`, record, `11.750000000000`},
		{`(weight_kg + 0.5) * 2 | round 1`, record, `26.0`},
		{`collected_at | format "yyyyMMddHHmm"`, record, `202611250630`},
		{`collected_at | format "d.M.yy"`, record, `25.11.26`},
		{`now | format "yyyyMMddHHmmss"`, record, `20261125080910`},
		{`sequence`, record, `41`},
		{`record`, record, `7`},
		{`"{route} {file.name} {file.stem} {file.extension} {file.folder}"`, record, `orders sheet.v2.csv sheet.v2 csv pool-1`},
		{`sex | lookup sex_codes`, record, `M`},
		{`sex | lookup sex_codes`, with(3, "Odd"), `a\F\b`},
		{`sex | lookup sex_codes`, with(3, "male"), `rejected: "male" is not listed in lookups/sex_codes.csv`},
		{`sex | lookup sex_codes if unlisted "U"`, with(3, "male"), `U`},
		{`sex | lookup sex_codes if empty "E" if absent "A" if unlisted "U"`, with(3, ""), `E`},
		{`sex | lookup sex_codes if empty "E" if absent "A" if unlisted "U"`, with(3, "-"), `A`},
		{`sex | lower | lookup sex_codes if unlisted "{sex}?"`, record, `Male?`},
		{`sex if empty null`, with(3, ""), `""`},
		{`sex if empty absent`, with(3, ""), ``},
		{`weight_kg`, with(1, "-"), ``},
		{`"{weight_kg | round 0}"`, with(1, "-"), ``},
		{`released`, record, `true`},
		{`animal_tag | date "yyyy"`, record, `error`},
		{`animal_tag | date "yyyy" | format "yy"`, record, `rejected: "T-1|2" is not a date in the form yyyy`},
		{`"{sex | upper}" | date "yy"`, record, `error`},
		{`sex | date "yyMMdd" | format "yyyy"`, with(3, "690228"), `1969`},
		{`sex | date "yyMMdd" | format "yyyy"`, with(3, "680228"), `2068`},
		{`sex | date "yyMMdd" 1930 | format "yyyy-MM-dd"`, with(3, "290228"), `2029-02-28`},
		{`sex | date "yyMMdd" 1930 | format "yyyy-MM-dd"`, with(3, "300228"), `1930-02-28`},
		{`sex | date "yyMMdd" 1930 | format "yyMMdd"`, with(3, "300228"), `300228`},
		{`sex | date "yyyyMMdd" 1930 | format "yyMMdd"`, record, `error`},
		{`sex | date "HL7" 1930 | format "yyMMdd"`, record, `error`},
		{`sex | date "yyMMdd" "1930" | format "yyMMdd"`, record, `error`},
		{`sex | date "yyMMdd" (weight_kg) | format "yyMMdd"`, record, `error`},
		{`animal_tag | number`, record, `rejected: "T-1|2" is not a number`},
		{`weight_kg / (weight_kg - 12.5)`, record, `rejected: "12.50" cannot be divided by zero`},
		{`sex | before "l" | upper | pad 5 "*"`, record, `***MA`},
		{"sex\n  | before \"l\"   # comment\n  | upper\n  if empty \"x\"", record, `MA`},
	}
	for _, test := range tests {
		if test.want == "error" {
			if _, said := build(t, "PID-3 = "+test.expression); said == nil {
				t.Errorf("%s was taken", test.expression)
			}
			continue
		}
		if got := run(t, "PID-3 = "+test.expression, test.values); got != test.want {
			t.Errorf("%s: %q, want %q", test.expression, got, test.want)
		}
	}
}

func TestConditions(t *testing.T) {
	absent := []string{"-", "-", "-", "-", "-", "-", "-"}
	empty := []string{"", "", "", "", "", "", ""}
	tests := []struct {
		condition                string
		full, whenAbsent, empty_ bool
	}{
		{`weight_kg > 12`, true, false, false},
		{`weight_kg = 12.5`, true, false, false},
		{`not weight_kg > 12`, false, true, true},
		{`weight_kg <= 12.5 and sex = "Male"`, true, false, false},
		{`sex = "Female" or released`, true, false, false},
		{`sex is empty`, false, false, true},
		{`sex is absent`, false, true, false},
		{`sex is not absent`, true, false, true},
		{`sex != "Female"`, true, false, false},
		{`sex | matches "M.*"`, true, false, false},
		{`collected_at < now`, false, false, false},
		{`(animal_tag | length) = 5 and (sex is not empty)`, true, false, false},
	}
	for _, test := range tests {
		body := "PID-3 = \"no\"\nreject when " + test.condition + ` because "yes {sex}"`
		if strings.Contains(test.condition, "now") {
			if got := run(t, body, record); !strings.Contains(got, "time zone") {
				t.Errorf("%s: %q", test.condition, got)
			}
			continue
		}
		for _, c := range []struct {
			values []string
			want   bool
		}{{record, test.full}, {absent, test.whenAbsent}, {empty, test.empty_}} {
			if got := strings.HasPrefix(run(t, body, c.values), "rejected: yes"); got != c.want {
				t.Errorf("%s of %q: %v", test.condition, c.values, got)
			}
		}
	}
}

func TestBlocks(t *testing.T) {
	body := `PID-3 = animal_tag
when sex = "Male"
  PID-5 = "m"
  when weight_kg > 100
    PID-6 = "big"
  end
  skip when animal_tag = "TEST" because "a test"
end
drop PID when sex = "none"
add OBX when weight_kg is not absent
  OBX-5 = weight_kg
end`
	for _, test := range []struct {
		tag, weight, sex, want string
	}{
		{"A", "12", "Male", "A||m\rOBX|||||12"},
		{"A", "120", "Male", "A||m|big\rOBX|||||120"},
		{"A", "120", "Female", "A\rOBX|||||120"},
		{"A", "-", "Female", "A"},
		{"TEST", "1", "Male", "skipped: a test"},
		{"TEST", "1", "Female", "TEST\rOBX|||||1"},
	} {
		values := append([]string{}, record...)
		values[0], values[1], values[3] = test.tag, test.weight, test.sex
		if got := run(t, body, values); got != test.want {
			t.Errorf("%v: %q", test, got)
		}
	}
}

func TestMapsThatAreWrong(t *testing.T) {
	tests := []struct{ body, says string }{
		{`PID-3 = anmal_tag`, `test.map:1:9: error: there is no field "anmal_tag" [map.field-unknown]` + "\n    was animal_tag meant?"},
		{`PID-3 = weight_kg | upper`, `1:21: error: upper works on a text, weight_kg is a number`},
		{`PID-3 = collected_at`, `1:9: error: collected_at is a time; say how PID-3 is to be written`},
		{`PID-3 = "{collected_at}"`, `say how it is written`},
		{`PID-3 = collected_at | date "yyyy"`, `the schema has read the date already`},
		{`PID-3 = animal_tag | date "YYYY" | format "yyyy"`, `Y is the year of a week; years are yyyy`},
		{`PID-3 = animal_tag + 1`, `+ needs a number, animal_tag is a text`},
		{`reject when sex = 1 because "x"`, `sex is a text and 1 a number; they cannot be compared`},
		{`reject when sex < "M" because "x"`, `texts have no order`},
		{`reject when sex because "x"`, `reject needs a boolean, sex is a text`},
		{`PID-3 = sex | lookup sex_code`, `was sex_codes meant?`},
		{`PID-3 = sex | lookup "sex_codes"`, `the name of a lookup table was expected`},
		{`PID-3 = sex | uppper`, `was upper meant?`},
		{`PID-3 = upper`, `upper is a function: VALUE | upper`},
		{`PID-3 = sex | pad`, `it is used as VALUE | pad width [with]`},
		{`PID-3 = sex | pad 0`, `a width from 1 to 1000`},
		{`PID-3 = sex | part weight_kg`, `must be written out, not computed`},
		{`PID-3 = weight_kg | round 1 "sideways"`, `the mode of round is`},
		{`PID-3 = sex | capture "x"`, `has no group`},
		{`PID-3 = sex if unlisted "x"`, "`if unlisted` answers a lookup"},
		{`PID-3 = sex if missing "x"`, `absent, empty, null, unlisted or unreadable was expected`},
		{`PID-3 = "open`, `1:9: error: the text is not closed on its line`},
		{`PID-3 = "a {sex"`, "unclosed {"},
		{`PID-3 = "a } b"`, `} closes nothing`},
		{`PID-3 = "a {sx} b"`, `1:13: error: there is no field "sx"`},
		{`PID-3 = "a\q"`, `can follow a backslash`},
		{`PID-3 = `, `a value was expected, this is the end`},
		{`PID-3 animal_tag`, `= was expected after PID-3, this is animal_tag`},
		{`PID-3 = sex sex`, `sex cannot follow here; a new line was expected`},
		{`PID-3 = sex ; sex`, `the character ; has no meaning here`},
		{`PID = sex`, `"PID" is a whole segment; name one of its fields`},
		{`PID-3.x = sex`, `"PID-3.x" is not an HL7 position`},
		{`MSH-1 = sex`, `follows the sample`},
		{"PID-3 = sex\nPID-3 = sex", `test.map:2:1: error: PID-3 is assigned twice`},
		{"when released\nPID-3 = sex", `the block that begins here has no`},
		{"PID-3 = sex\nend", `there is no block to end here`},
		{"when released\nkeep PID-3\nend\nPID-3 = sex", `keep holds always; it cannot stand in a block`},
		{`drop PID-3`, `"PID-3" is a field; name a segment`},
		{`reject when released`, "say why: `because"},
		{"source csv a\nPID-3 = sex", "there is a second `source` line"},
		{"PID-3 = sex\nignore sx", `was sex meant?`},
		{"PID-3 = [", `the character [ has no meaning here`},
		{"PID-3 = sex[1", `[ is not closed`},
		{"drop NTE when sequence > 5", `sequence cannot stand in a condition: it is another number when the file is fed again [map.sequence]` + "\n    `record` is the record's number in its file"},
		{"let number = sequence + 1\nreject when released and number > 5 because \"x\"", `test.map:2:26: error: number cannot stand in a condition`},
		{"PID-3 = (\"{sequence}\" | lookup sex_codes if unlisted \"x\")", `sequence cannot stand in what is looked up`},
		{"PID-3 = \"x\" when sequence = 1, otherwise absent", `sequence cannot stand in a condition`},
	}
	for _, test := range tests {
		p, said := build(t, test.body)
		if p != nil || !strings.Contains(strings.Join(said, "\n"), test.says) {
			t.Errorf("%s:\n%s\ndoes not say %q", test.body, strings.Join(said, "\n"), test.says)
		}
	}
	if _, said := build(t, "PID-3 = "+strings.Repeat("(", 50_000)); !strings.Contains(strings.Join(said, ""), "nested more than") {
		t.Errorf("deep nesting: %.200v", said)
	}
	// Several errors are found at once, and a map without its heading.
	if _, said := build(t, "PID-3 = sx\nPID-5 = = 1\nPID-6 = (sex\nPID-8 = sex | lookup"); len(said) < 2 {
		t.Errorf("only %v", said)
	}
	if _, findings := Parse("x.map", "PID-3 = sex\n"); !strings.Contains(findings.Error(), "`map NAME` is missing") {
		t.Error(findings)
	}
	m, findings := Parse("x.map", "map a\nsource csv s\ntarget hl7 based on t\nkeep MSH, PID-1\n")
	target, err := hl7.NewTarget("t", []byte("MSH|^~\\&|A\rPID|1\r"))
	if err != nil || findings.HasErrors() {
		t.Fatal(err, findings)
	}
	if _, findings = Build(m, "x.map", "", target, Scope{Fields: fields[:1]}); len(findings) != 1 || findings[0].Code != "map.field-unused" {
		t.Error(findings)
	}
}

// TestFunctionsAsDocumented runs the example of every function.
func TestFunctionsAsDocumented(t *testing.T) {
	for _, f := range Functions() {
		if f.Doc == "" {
			t.Errorf("%s is not documented", f.Name)
		}
		if f.Example == "" {
			if f.Name != "lookup" {
				t.Errorf("%s has no example", f.Name)
			}
			continue
		}
		example := Scope{Fields: shape.Record{{Name: "value", Kind: value.Text}}}
		given := batchOf([]string{f.Field})
		if f.Rows {
			example = Scope{Fields: nil, Lists: []shape.List{{Name: "lines", Shape: shape.Shape{Fields: example.Fields}}}}
			given = batchOf(nil)
			given.Lay([]int{1}, []int{-1})
			for word := range strings.FieldsSeq(f.Field) {
				off := len(given.Buf)
				given.Buf = append(given.Buf, word...)
				given.Row(0, uint32(off))[0] = batch.Span{Off: uint32(off), End: uint32(len(given.Buf))}
			}
			given.Filled()
		}
		node, findings := ParseCondition("example", f.Example)
		if findings.HasErrors() {
			t.Errorf("%s: %v", f.Name, findings)
			continue
		}
		c := &compiler{checker: newChecker(example, func(int) place.Place { return place.Place{} })}
		c.check(node)
		eval := c.compile(node)
		if c.out.HasErrors() {
			t.Errorf("%s: %v", f.Name, c.out)
			continue
		}
		e := &Env{}
		e.start(given, 0)
		if got := string(eval(e).Append(nil)); got != f.Gives || e.failed {
			t.Errorf("%s of %q gives %q, documented is %q (%s)", f.Example, f.Field, got, f.Gives, e.reason)
		}
	}
}

// TestTextsInTexts: whatever stands between braces may hold texts, with braces and quotes of
// their own.
func TestTextsInTexts(t *testing.T) {
	for expression, want := range map[string]string{
		`"S-{sex | lookup sex_codes if unlisted "?"}"`:   "S-M",
		`"<{animal_tag if empty "none {sex | upper}"}>"`: "<none MALE>",
		`"{{{sex}}}"`:                        "{Male}",
		`"a{"b{"c{"d"}"}"}"`:                 "abcd",
		`"{animal_tag if empty "\"{{x}}/"}"`: `"{x}/`,
	} {
		if got := run(t, "PID-3 = "+expression, []string{"", "8.4", "25/11/2026 06:30", "Male", "", "1,5", "yes"}); got != want {
			t.Errorf("%s gives %q, not %q", expression, got, want)
		}
	}
	for text, says := range map[string]string{`"a {sex"`: "unclosed {", `"a } b"`: "closes nothing", `"a {sex | pad 3 "x}"`: "unclosed {", `"{"{"{"{"`: "unclosed {", `"` + strings.Repeat(`{"`, 50_000) + `"`: "unclosed {"} {
		if _, said := build(t, "PID-3 = "+text); said == nil || !strings.Contains(strings.Join(said, " "), says) {
			t.Errorf("%s: %v, not %q", text, said, says)
		}
	}
}

// TestPrintedExpressionsAreTheSame prints parsed expressions and parses them
// again.
func TestPrintedExpressionsAreTheSame(t *testing.T) {
	for _, s := range []string{`a`, `field "Tag no."`, `"x {a | trim} {{y}} \"z\""`, `a | pad 5 "0" | upper`, `(a + 1) * 2 | round 1 "half-up"`, `a = "x" and not (b is not empty) or c`,
		`a | lookup t if unlisted "U" if empty null`, `-1.50`, `a if absent (b | trim)`, `first(a, "x")`, `"S-{x | format "yyyyMMdd"}"`, `"{a if empty "-{b | pad 3 "0"}}}"}"`, `"{{ {a | pad 2 "\""}"`} {
		n, findings := ParseCondition("", s)
		if findings.HasErrors() {
			t.Fatalf("%s: %v", s, findings)
		}
		again, findings := ParseCondition("", n.String())
		if findings.HasErrors() || again.String() != n.String() {
			t.Errorf("%s is printed as %s, which is read as %v (%v)", s, n, again, findings)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add("map a\nsource csv s\ntarget hl7 based on t\nwhen a = 1\n PID-3 = \"{b | trim}\"\nend\n")
	f.Add("PID-3 = (((\n\"{{{\nadd OBX\n")
	f.Fuzz(func(t *testing.T, s string) {
		m, findings := Parse("f", s) // must neither hang nor panic
		if m == nil && !findings.HasErrors() {
			t.Error("no map and no error")
		}
	})
}

// TestFastActionsAgree checks the actions that are recognised against the plain
// evaluation of the same expression.
func TestFastActionsAgree(t *testing.T) {
	fast := map[string]actionKind{
		`weight_kg`: copyClean, `animal_tag`: copyText, `animal_tag if empty null`: answered, `animal_tag if absent "a|b" if empty "?"`: answered, `sex | lookup sex_codes if empty "U" if unlisted "?"`: translate,
		`collected_at | format "yyyyMMddHHmm"`: rearrange, `animal_tag | date "yyyy-MM-dd" | format "dd.MM.yyyy"`: rearrange,
	}
	values := [][]string{record, {"2026-11-25", "0", "01/01/1999 00:00", "", "", "", ""}, {"\"\"", "1", "-", "-", "-", "-", "-"}, {"-", "1", "-", "-", "-", "-", "-"}, {"2026-02-30", "-", "-", "-", "-", "-", "-"}, {"", "", "", "Nobody", "", "", ""}}
	for expression, kind := range fast {
		p, said := build(t, "PID-3 = "+expression)
		if said != nil {
			t.Fatal(said)
		}
		found := false
		for _, a := range p.actions {
			found = found || a.kind == kind
		}
		if !found {
			t.Errorf("%s is not written the fast way", expression)
		}
		for _, v := range values {
			direct := run(t, "PID-3 = "+expression, v)
			// A condition that always holds keeps the expression from being recognised.
			plain := run(t, fmt.Sprintf("when record = 7\nPID-3 = %s\nend", expression), v)
			if !reflect.DeepEqual(direct, plain) {
				t.Errorf("%s of %q: fast %q, plain %q", expression, v, direct, plain)
			}
		}
	}
}

// TestSharedSpans: records that share what stands before them in a message are written as if they did
// not, whichever of them fail.
func TestSharedSpans(t *testing.T) {
	for _, body := range []string{
		"PID-2 = animal_tag\nPID-3 = sex | lookup sex_codes if unlisted \"?\"\nPID-4 = weight_kg\nPID-5 = collected_at | format \"yyyyMMdd\"\nPID-7 = \"Tag no.\"\nPID-8 = gain | round 1\n",
		"PID-2 = animal_tag\nPID-3 = sex\nPID-4 = weight_kg\nPID-5 = \"Tag no.\"\nPID-6 = sex\nPID-7 = animal_tag\n",
	} {
		sharedSpans(t, body)
	}
}

func sharedSpans(t *testing.T, body string) {
	p, said := build(t, body)
	plain, more := build(t, "when record > 0\n"+body+"end\n") // a condition that always holds keeps expressions from being recognised
	if said != nil || more != nil {
		t.Fatal(said, more)
	}
	if len(p.leading) < 4 {
		t.Fatalf("only %d actions lead", len(p.leading))
	}
	r := rand.New(rand.NewPCG(4, 4))
	variants := [][]string{record, {"2026-11-25", "0", "01/01/1999 00:00", "", "", "", ""}, {"a|b", "1.5", "31/12/2026 23:59", "Male", "x", "2.25", "true"}, {`""`, "2", "01/01/2027 00:00", `""`, `""`, "1", "false"}}
	shared := &Env{} // what says null as a text fails, within what is shared or not
	for round := range 200 {
		r.Shuffle(len(variants), func(i, k int) { variants[i], variants[k] = variants[k], variants[i] })
		b := batchOf(variants[0])
		b.Spans, b.Bounds = nil, nil
		var written [][]batch.Span
		for _, v := range variants {
			one := batchOf(v)
			spans := make([]batch.Span, len(v))
			for i, s := range one.Spans {
				spans[i] = s
				if !s.Absent() {
					from := uint32(len(b.Buf))
					b.Buf = append(b.Buf, one.Buf[s.Off:s.End]...)
					spans[i] = batch.Span{Off: from, End: uint32(len(b.Buf))}
				}
			}
			written = append(written, spans)
		}
		b.N = len(b.Buf)
		row := slices.Clone(written[r.IntN(len(written))])
		for range 60 { // most of a row is that of the row before
			for i := range row {
				if r.IntN(1+round%7) == 0 {
					row[i] = written[r.IntN(len(written))][i]
				}
				if r.IntN(40) == 0 {
					row[i] = batch.Missing
				}
			}
			b.Spans = append(b.Spans, row...)
			b.Bounds = append(b.Bounds, batch.Span{})
		}
		p.Begin(shared, b)
		out := []byte("before")
		for i := range b.Bounds {
			from := len(out)
			var o, alone *Outcome
			var own []byte
			out, o = p.Run(shared, b, i, out)
			own, alone = plain.Run(&Env{}, b, i, nil)
			if o.What != alone.What || o.Reason != alone.Reason || string(out[from:]) != string(own) {
				t.Fatalf("record %d: %q %v, alone %q %v", i, out[from:], o, own, alone)
			}
			if r.IntN(9) == 0 { // somebody takes back what was written
				out = out[:from]
			}
		}
	}
}

// TestLongMaps: the cost of a map grows with its length, good or wrong.
func TestLongMaps(t *testing.T) {
	for _, line := range []string{"skip when sex = \"x\" because \"x\"\n", "skip when sex = \"x\"\n", "PID-3 = = 1\n"} {
		began := time.Now()
		build(t, "PID-3 = sex\n"+strings.Repeat(line, 600_000/len(line)))
		if took := time.Since(began); took > 5*time.Second {
			t.Errorf("%d times %q took %s", 600_000/len(line), line, took)
		}
	}
	if _, said := build(t, "PID-3 = "+strings.Repeat("1 + ", 100_000)+"1\n"); len(said) != 1 || !strings.Contains(said[0], "longer than 5000 words") {
		t.Errorf("%.200v", said)
	}
}

// TestHowMuchIsMade: small records are not held to what is made of one large message.
func TestHowMuchIsMade(t *testing.T) {
	for n, want := range map[int]int{0: math.MaxUint32, 2 * batch.Size: math.MaxUint32, 2*batch.Size + 1: MostMade, 60 << 20: MostMade} {
		if got := (&Program{}).most(&batch.Batch{N: n}); got != want {
			t.Errorf("of %d bytes %d are made, not %d", n, got, want)
		}
	}
}
