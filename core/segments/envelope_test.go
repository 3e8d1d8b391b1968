package segments_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/format"
	"ydrion/core/format/edifact"
	"ydrion/core/format/x12"
	"ydrion/core/segments"
	"ydrion/core/shape"
	"ydrion/core/text"
	"ydrion/core/value"
)

// TestEnvelopes: what is wrong with what stands around messages is said, whatever the size of
// batches: as an error of the message or of the file where messages may be lost or go astray, as
// a warning where only a value is odd.
func TestEnvelopes(t *testing.T) {
	set := func(number, kind string) string {
		return "ST*" + kind + "*" + number + "~BEG*00*SA*P" + number + "**20261125~SE*3*" + number + "~"
	}
	gs, end := "GS*PO*S*H*20261125*0930*3*X*005010~", "GE*1*3~IEA*1*000000007~"
	good := isa + gs + set("0001", "850") + end
	again := strings.NewReplacer("000000007", "000000008").Replace(good)
	unb, message := "UNB+UNOC:3+A+B+261125:0930+7'", func(n string) string { return "UNH+" + n + "+ORDERS:D:96A:UN'BGM+220'UNT+3+" + n + "'" }
	ung := func(n, kind string) string { return "UNG+" + kind + "+A+B+261125:0930+" + n + "+UN+D:96A'" }
	for name, test := range map[string]struct{ file, want string }{
		"two interchanges":       {good + again, ";"},
		"from another partner":   {good + strings.Replace(good, "SKERRY   ", "BRUNHOLM ", 1), ";"},
		"the same again":         {good + good, "; / warning x12.envelope ISA-13"},
		"in turn":                {good + again + good, ";; / warning x12.envelope ISA-13"},
		"set twice":              {isa + gs + set("0001", "850") + set("0002", "850") + set("0001", "850") + "GE*3*3~IEA*1*000000007~", ";;warning x12.number ST-2"},
		"set in another group":   {isa + gs + set("1", "850") + "GE*1*3~GS*PO*S*H*20261125*0930*4*X*005010~" + set("1", "850") + "GE*1*4~IEA*2*000000007~", ";"},
		"group twice":            {isa + gs + set("1", "850") + "GE*1*3~" + gs + set("1", "850") + "GE*1*3~IEA*2*000000007~", "; / warning x12.envelope GS-6"},
		"another kind":           {isa + gs + set("1", "810") + end, "warning x12.envelope "},
		"no group":               {isa + set("1", "850") + "IEA*1*000000007~", "error x12.envelope "},
		"no interchange behind":  {good + set("2", "850"), ";error x12.envelope "},
		"group in none":          {good + gs + set("1", "850") + "GE*1*3~", ";error x12.envelope  / error x12.envelope  / warning x12.envelope GS-6"},
		"dates of ISA":           {strings.Replace(good, "261125*0930*^", "261350*2530*^", 1), " / warning x12.envelope ISA-10 / warning x12.envelope ISA-9"},
		"flag of ISA":            {strings.Replace(good, "*0*T*", "*2*X*", 1), " / warning x12.envelope ISA-14 / warning x12.envelope ISA-15"},
		"no receiver":            {strings.Replace(good, "LABSUPPLY      ", "               ", 1), " / error x12.envelope ISA-8"},
		"GS":                     {strings.Replace(good, gs, "GS*PO**H*20261335*0930*3*X*5010~", 1), " / error x12.envelope GS-2 / warning x12.envelope GS-4 / warning x12.envelope GS-8"},
		"NUL":                    {strings.Replace(good, "*P0001*", "*P\x001*", 1), "error x12.control "},
		"a control character":    {strings.Replace(good, "*P0001*", "*P\x071*", 1), "warning x12.control "},
		"bytes are bytes":        {isa + gs + "ST*850*1~BEG*00*SA*P1**20261125~BIN*3*\x00\x01\x1a~SE*4*1~" + end, ""},
		"edifact, two":           {unb + message("1") + message("2") + "UNZ+2+7'" + strings.Replace(unb, "+7'", "+8'", 1) + message("1") + "UNZ+1+8'", ";;"},
		"edifact, again":         {strings.Repeat(unb+message("1")+"UNZ+1+7'", 2), "; / warning edifact.envelope UNB-5"},
		"edifact, message twice": {unb + message("1") + message("1") + "UNZ+2+7'", ";warning edifact.number UNH-1"},
		"edifact, no number":     {unb + message("a") + message("b") + message("a") + "UNZ+3+7'", ";;warning edifact.number UNH-1"},
		"groups":                 {unb + ung("1", "ORDERS") + message("1") + "UNE+1+1'" + ung("2", "ORDERS") + message("1") + "UNE+1+2'UNZ+2+7'", ";"},
		"loose behind groups":    {unb + ung("1", "ORDERS") + message("1") + "UNE+1+1'" + message("2") + "UNZ+1+7'", ";error edifact.envelope "},
		"loose before groups":    {unb + message("2") + ung("1", "ORDERS") + message("1") + "UNE+1+1'UNZ+1+7'", "; / error edifact.envelope "},
		"edifact, another kind":  {unb + ung("1", "INVOIC") + message("1") + "UNE+1+1'UNZ+1+7'", "warning edifact.envelope "},
		"edifact, no receiver":   {strings.Replace(unb, "+B+", "++", 1) + message("1") + "UNZ+1+7'", " / error edifact.envelope UNB-3"},
		"edifact, date":          {strings.Replace(unb, "261125:0930", "261325:2430", 1) + message("1") + "UNZ+1+7'", " / warning edifact.envelope UNB-4 / warning edifact.envelope UNB-4"},
		"edifact, version":       {strings.Replace(unb, "UNOC:3", "UNOC:7", 1) + message("1") + "UNZ+1+7'", " / warning edifact.envelope UNB-1"},
		"edifact, NUL":           {unb + strings.Replace(message("1"), "220", "2\x000", 1) + "UNZ+1+7'", "error edifact.control "},
	} {
		rules := x12.Rules
		if strings.HasPrefix(test.file, "UN") {
			rules = edifact.Rules
		}
		for _, size := range []int{20, 150, 5000} {
			if got := told(t, rules, test.file, size); got != test.want {
				t.Errorf("%s, size %d: %q, not %q", name, size, got, test.want)
			}
		}
	}
}

// told sums up what is said of a file: record by record, and behind slashes of the whole.
func told(t *testing.T, rules *segments.Rules, file string, size int) string {
	t.Helper()
	records, wrong := readSeverely(t, rules, file, size)
	return strings.Join(records, ";") + strings.Join(append([]string{""}, wrong...), " / ")
}

// TestCommaIsADecimalMark: a number is read with the mark that its interchange names.
func TestCommaIsADecimalMark(t *testing.T) {
	file := func(advice, number string) string {
		return "UNA:+" + advice + "? 'UNB+UNOC:3+A+B+261125:0930+7'UNH+1+ORDERS:D:96A:UN'QTY+21:" + number + "'UNT+3+1'UNZ+1+7'"
	}
	for _, test := range []struct{ advice, number, want, text string }{
		{",", "5,25", "5.25", "5,25"}, {",", "5", "5", "5"}, {",", "5.25", "5.25", "5.25"}, {".", "5.25", "5.25", "5.25"}, {".", "5,25", "5,25", "5,25"}, {",", "-1,5", "-1.5", "-1,5"}, {",", "1,2,3", "1.2,3", "1,2,3"},
	} {
		if number, text := readNumber(t, file(test.advice, test.number)); number != test.want || text != test.text {
			t.Errorf("%+v: %q %q", test, number, text)
		}
	}
}

// TestNumbersThatCame: numbers are remembered exactly, in whatever order they come.
func TestNumbersThatCame(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 3))
	for range 300 {
		add, came := segments.Came(), map[int]bool{}
		most := 1 + r.IntN(60)
		for range 200 {
			n := r.IntN(most)
			if got := add(fmt.Sprint(n)); got != came[n] {
				t.Fatalf("%d: %v, %v", n, got, came)
			}
			came[n] = true
		}
	}
	add := segments.Came()
	for i, test := range []struct {
		number string
		came   bool
	}{{"A1", false}, {"A2", false}, {"A1", true}, {"0001", false}, {"1", true}, {"-1", false}, {"-1", true}} {
		if got := add(test.number); got != test.came {
			t.Errorf("%d: %s: %v", i, test.number, got)
		}
	}
}

// readSeverely gives what is said of each record of a file, and of the file as a whole, with its
// severity.
func readSeverely(t *testing.T, rules *segments.Rules, file string, size int) (records, whole []string) {
	t.Helper()
	r := openFile(t, rules, file, nil)
	segments.SetSize(r, size)
	say := func(f finding.Finding) string { return fmt.Sprintf("%s %s %s", f.Severity, f.Code, f.Place.Path) }
	b := &batch.Batch{First: 1}
	for more := true; more; {
		b.Reset()
		var err error
		if more, err = r.Cut(b); err != nil {
			t.Fatal(err)
		}
		r.Split(b)
		said := make([][]string, b.Records())
		for _, n := range b.Notes {
			said[n.Record] = append(said[n.Record], say(r.Describe(b, n)))
		}
		for _, s := range said {
			records = append(records, strings.Join(s, " + "))
		}
		b.First += int64(b.Records())
	}
	for _, f := range r.Finish(0) {
		whole = append(whole, say(f))
	}
	slices.Sort(whole)
	return records, whole
}

func openFile(t *testing.T, rules *segments.Rules, file string, fields shape.Record) format.Reader {
	t.Helper()
	set := text.UTF8
	if rules.Declares {
		set = text.Declared
	}
	in, err := text.Decode(strings.NewReader(file), set)
	if err != nil {
		t.Fatal(err)
	}
	r, findings, err := format.Open(segments.Interchanges{Rules: rules}, in, fields)
	if r == nil || err != nil {
		t.Fatal(findings, err)
	}
	return r
}

// readNumber reads QTY-1.2 as a number and as a text.
func readNumber(t *testing.T, file string) (number, plain string) {
	t.Helper()
	r := openFile(t, edifact.Rules, file, shape.Record{{Name: "n", Path: "QTY-1.2", Kind: value.Number}, {Name: "t", Path: "QTY-1.2", Kind: value.Text}})
	b := &batch.Batch{First: 1}
	b.Reset()
	if _, err := r.Cut(b); err != nil {
		t.Fatal(err)
	}
	r.Split(b)
	n, _ := b.Value(0, 0)
	p, _ := b.Value(0, 1)
	if at, _ := r.Locate(b, 0, 0); string(b.Buf[at:int(at)+len(p)]) != string(p) {
		t.Errorf("the number is said to stand at %d", at)
	}
	return string(n), string(p)
}

// TestManyUnitsOfAWrongMessage: what is wrong with a message is told of each of its units, and costs no
// more for each the more there are.
func TestManyUnitsOfAWrongMessage(t *testing.T) {
	const n = 30_000
	file := "UNB+UNOC:3+A+B+261125:0930+7'UNH+1+ORDERS:D:96A:UN'BGM+220+P1+9'" + strings.Repeat("LIN+1++A:SA'QTY+21:5'", n) + "UNS+S'UNT+9+2'UNZ+1+7'"
	in, err := text.Decode(strings.NewReader(file), text.UTF8)
	if err != nil {
		t.Fatal(err)
	}
	r, _, err := format.Open(segments.Interchanges{Rules: edifact.Rules, Unit: "LIN"}, in, nil)
	if err != nil {
		t.Fatal(err)
	}
	b := &batch.Batch{First: 1}
	b.Reset()
	if _, err := r.Cut(b); err != nil {
		t.Fatal(err)
	}
	r.Split(b)
	began, counts, numbers := time.Now(), 0, 0
	at := int64(strings.Index(file, "UNT+"))
	for _, note := range b.Notes {
		f := r.Describe(b, note)
		if f.Severity == finding.Error && (f.Place.Line != 1 || f.Place.Column != at+1) {
			t.Fatalf("%s at %+v", f.Code, f.Place)
		}
		switch {
		case strings.Contains(f.Message, fmt.Sprintf("UNT says 9 segments, but the message has %d", 2*n+4)):
			counts++
		case strings.Contains(f.Message, "UNT says number 2, but UNH said 1"):
			numbers++
		}
	}
	if took := time.Since(began); counts != n || numbers != n || b.Records() != n || took > 5*time.Second {
		t.Errorf("%d records, %d counts, %d numbers in %s", b.Records(), counts, numbers, took)
	}
}
