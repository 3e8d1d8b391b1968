package segments_test

import (
	"strings"
	"testing"
	"unicode/utf8"
	"ydrion/core/format"

	"ydrion/core/batch"
	"ydrion/core/format/edifact"
	"ydrion/core/format/x12"
	"ydrion/core/lang"
	"ydrion/core/segments"
	"ydrion/core/shape"
	"ydrion/core/text"
	"ydrion/core/value"
)

// What the targets of the tests are laid out on.
const (
	blankOrder = "UNA:+.? '\nUNB+UNOC:3+A+B+261124:1630+1'\nUNH+1+ORDERS:D:96A:UN'\nBGM+220+1+9'\nFTX+DIN+++note'\nNAD+BY+X::92'\nNAD+SU+Y::92'\nUNT+6+1'\nUNZ+1+1'\n"
	blankISA   = "ISA*00*          *00*          *ZZ*SKERRYCOAST    *ZZ*HOLMREAGENTS   *261124*1645*^*00501*000000071*0*T*>~"
	blankX12   = blankISA + "GS*PO*S*H*20261124*1645*71*X*005010~ST*850*0001~BEG*00*SA*1**20261124~REF*DP*LAB~SE*4*0001~GE*1*71~IEA*1*000000071~"
)

// written runs a map over records of two fields, a and b, and gives an output.
func written(t *testing.T, rules *segments.Rules, sample, lines string, separate bool, records ...[2]string) (string, string) {
	t.Helper()
	target, err := segments.NewTarget(rules, "blank", []byte(sample))
	if err != nil {
		return "", err.Error()
	}
	target.EndAsSample()
	source := "map m\nsource csv s.json\ntarget " + rules.Name + " based on blank\n" + lines
	m, findings := lang.Parse("m.map", source)
	if findings.HasErrors() {
		return "", findings.Error()
	}
	fields := shape.Record{{Name: "a", Kind: value.Text}, {Name: "b", Kind: value.Number, Decimal: '.'}}
	program, findings := lang.Build(m, "m.map", source, target, lang.Scope{Fields: fields, Separate: separate})
	if findings.HasErrors() {
		return "", findings.Error()
	}
	e := &lang.Env{Facts: lang.Facts{Route: "r"}}
	before, _, problem := program.Surround(lang.Facts{Route: "r"}, 7, 0)
	if problem != nil {
		return "", problem.String()
	}
	out, good, wrong := before, int64(0), ""
	for i, r := range records {
		b := &batch.Batch{Slots: 2, First: int64(i + 1), Seq: int64(i + 1)}
		for _, v := range r {
			from := uint32(len(b.Buf))
			b.Buf = append(b.Buf, v...)
			b.Spans = append(b.Spans, batch.Span{Off: from, End: uint32(len(b.Buf))})
		}
		made, o := program.Run(e, b, 0, nil)
		if o.What != batch.Good {
			wrong += o.Reason + "\n"
			continue
		}
		good++
		out = append(out, made...)
	}
	_, behind, problem := program.Surround(lang.Facts{Route: "r"}, 7, good)
	if problem != nil {
		return "", problem.String()
	}
	encoded, err := program.Encode(append(out, behind...))
	if err != nil {
		t.Fatal(err)
	}
	return string(encoded), wrong
}

const orderMap = "keep UNB-1, UNB-2, UNB-3, UNB-4, UNH-2, BGM-1, BGM-3, FTX-1, NAD(BY)-1, NAD(BY)-2.3, NAD(SU)\nUNB-5 = sequence\nUNH-1 = record\nBGM-2 = a\nNAD(BY)-2.1 = route\nFTX-4 = b\ndrop FTX when b < 1\n"

// TestEDIFACTTarget: an interchange around all messages, with what is computed, what is released, and
// the separators that nothing follows left out.
func TestEDIFACTTarget(t *testing.T) {
	got, wrong := written(t, edifact.Rules, blankOrder, orderMap, false, [2]string{"A+B:C'?", "2.5"}, [2]string{"é", "0.5"}, [2]string{"日", "1"}, [2]string{"a\nb", "1"})
	want := "UNA:+.? '\nUNB+UNOC:3+A+B+261124:1630+7'\n" +
		"UNH+1+ORDERS:D:96A:UN'\nBGM+220+A?+B?:C?'??+9'\nFTX+DIN+++2.5'\nNAD+BY+r::92'\nNAD+SU+Y::92'\nUNT+6+1'\n" +
		"UNH+2+ORDERS:D:96A:UN'\nBGM+220+\xe9+9'\nNAD+BY+r::92'\nNAD+SU+Y::92'\nUNT+5+2'\n" +
		"UNZ+2+7'\n"
	if got != want || wrong != "'日' is not among the characters of UNOC\n'\\n' is not among the characters of UNOC\n" {
		t.Errorf("got\n%s\nwant\n%s\n%s", got, want, wrong)
	}
	got, wrong = written(t, edifact.Rules, blankOrder, strings.Replace(strings.Replace(orderMap, "UNB-3, ", "", 1), "BGM-2 = a", "UNB-3 = a\nclear BGM-2", 1), true, [2]string{"X", "1"}, [2]string{"Y", "0"})
	want = "UNA:+.? '\nUNB+UNOC:3+A+X+261124:1630+1'\nUNH+1+ORDERS:D:96A:UN'\nBGM+220++9'\nFTX+DIN+++1'\nNAD+BY+r::92'\nNAD+SU+Y::92'\nUNT+6+1'\nUNZ+1+1'\n" +
		"UNA:+.? '\nUNB+UNOC:3+A+Y+261124:1630+2'\nUNH+2+ORDERS:D:96A:UN'\nBGM+220++9'\nNAD+BY+r::92'\nNAD+SU+Y::92'\nUNT+5+2'\nUNZ+1+2'\n"
	if got != want || wrong != "" {
		t.Errorf("separate: got\n%s\nwant\n%s\n%s", got, want, wrong)
	}
	comma := strings.NewReplacer("UNA:+.? '", "UNA:+,? '", "UNOC", "UNOA").Replace(blankOrder)
	if got, wrong = written(t, edifact.Rules, comma, strings.Replace(orderMap, "= route", "= b", 1), false, [2]string{"ABC", "2.5"}, [2]string{"abc", "2"}); !strings.Contains(got, "FTX+DIN+++2,5'") || wrong != "'a' is not among the characters of UNOA\n" {
		t.Errorf("a decimal comma: %s %s", got, wrong)
	}
	if got, _ = written(t, edifact.Rules, blankOrder, orderMap+"clear NAD(SU)\n", false, [2]string{"x+", "1"}); !strings.Contains(got, "x?++9'") {
		t.Errorf("a released separator: %s", got)
	}
	trailing := strings.Replace(orderMap, "BGM-1, BGM-3", "BGM-1", 1) + "clear BGM-3\n"
	if got, _ = written(t, edifact.Rules, blankOrder, trailing, false, [2]string{"x+", "1"}, [2]string{"", "1"}, [2]string{"?", "1"}); !strings.Contains(got, "BGM+220+x?+'") || !strings.Contains(got, "BGM+220'") || !strings.Contains(got, "BGM+220+??'") {
		t.Errorf("the last value: %s", got)
	}
}

const reagentMap = "keep ISA, GS-1, GS-2, GS-3, GS-4, GS-5, GS-7, GS-8, ST-1, BEG-1, BEG-2, BEG-5, REF\nISA-13 = sequence\nGS-6 = sequence\nST-2 = record | pad 4 \"0\"\nBEG-3 = a\n"

// TestX12Target: elements of the ISA segment have their widths; nothing is released.
func TestX12Target(t *testing.T) {
	got, wrong := written(t, x12.Rules, blankX12, reagentMap+"ISA-8 = route\n", false, [2]string{"PO-1", "1"}, [2]string{"A*B", "1"}, [2]string{"é?", "1"})
	want := "ISA*00*          *00*          *ZZ*SKERRYCOAST    *ZZ*r              *261124*1645*^*00501*000000007*0*T*>~GS*PO*S*H*20261124*1645*7*X*005010~" +
		"ST*850*0001~BEG*00*SA*PO-1**20261124~REF*DP*LAB~SE*4*0001~ST*850*0003~BEG*00*SA*é?**20261124~REF*DP*LAB~SE*4*0003~GE*2*7~IEA*1*000000007~"
	if got != want || wrong != "'*' is not among the characters of the sample's interchange, in which it would separate\n" {
		t.Errorf("got\n%s\nwant\n%s\n%s", got, want, wrong)
	}
	if _, wrong = written(t, x12.Rules, blankX12, strings.Replace(reagentMap, "ISA-13 = sequence", `ISA-13 = "1234567890"`, 1), false); !strings.Contains(wrong, "longer than the 9 characters of ISA-13") {
		t.Errorf("a long number: %s", wrong)
	}
	if _, wrong = written(t, x12.Rules, blankX12, reagentMap+"ISA-8 = \"{route} {now | format \"yyyyMMdd\"} and more\"\n", false); wrong == "" {
		t.Error("a long receiver went through")
	}
	if got, wrong = written(t, x12.Rules, blankX12, reagentMap+"when b > 5\n  ISA-8 = route\nend\n", true, [2]string{"A", "9"}, [2]string{"B", "1"}); !strings.Contains(got, "*ZZ*r              *261124") || !strings.Contains(got, "*ZZ*               *261124") || wrong != "" {
		t.Errorf("a receiver under a condition: %s %s", got, wrong)
	}
	if _, wrong = written(t, x12.Rules, blankX12, reagentMap+"ISA-8 = \"A*B\"\n", false); !strings.Contains(wrong, "'*' is not among the characters") {
		t.Errorf("a separator in a constant of the ISA segment: %s", wrong)
	}
	got, wrong = written(t, x12.Rules, blankX12, strings.Replace(reagentMap, "BEG-3 = a", "BEG-3 = b\nISA-6 = a", 1), true, [2]string{"ME", "1"}, [2]string{"SIXTEEN LETTERS!", "1"})
	if !strings.Contains(got, "*ZZ*ME             *ZZ*HOLM") || !strings.HasSuffix(got, "SE*4*0001~GE*1*1~IEA*1*000000001~") || !strings.Contains(wrong, `"SIXTEEN LETTERS!" is longer than the 15 characters`) {
		t.Errorf("separate: %s %s", got, wrong)
	}
}

// TestHierarchy: levels are numbered as they are written, each below the nearest one above it that is.
func TestHierarchy(t *testing.T) {
	const blank = blankISA + "GS*SH*S*H*20261124*1645*71*X*005010~ST*856*0001~BSN*00*1*20261124*1645~HL*1**S~HL*2*1*O~PRF*1~HL*3*2*P~MAN*GM*1~HL*4*3*I~SN1**1*EA~HL*5*1*O~CTT*5~SE*12*0001~GE*1*71~IEA*1*000000071~"
	const lines = "keep ISA, GS, ST, BSN, HL[1], HL[2], HL[3], HL[4], HL[5], PRF, MAN, SN1, CTT\ndrop HL[2] when b < 2\ndrop PRF when b < 2\ndrop HL[3] when b < 3\ndrop MAN when b < 3\nignore a\n"
	got, wrong := written(t, x12.Rules, blank, lines, true, [2]string{"", "3"}, [2]string{"", "2"}, [2]string{"", "1"})
	for i, want := range []string{"HL*1**S~HL*2*1*O~PRF*1~HL*3*2*P~MAN*GM*1~HL*4*3*I~SN1**1*EA~HL*5*1*O~CTT*5~SE*12*", "HL*1**S~HL*2*1*O~PRF*1~HL*3*2*I~SN1**1*EA~HL*4*1*O~CTT*5~SE*10*", "HL*1**S~HL*2*1*I~SN1**1*EA~HL*3*1*O~CTT*5~SE*8*"} {
		if !strings.Contains(got, want) || wrong != "" {
			t.Errorf("record %d: %s %s, want %s", i+1, got, wrong, want)
		}
	}
	if _, wrong = written(t, x12.Rules, blank, lines+"HL-1 = b\n", true); !strings.Contains(wrong, "HL-1 is computed") {
		t.Error(wrong)
	}
	if _, wrong = written(t, x12.Rules, blank, lines+"add HL\n  HL-3 = \"I\"\nend\n", true); !strings.Contains(wrong, "cannot be added") {
		t.Error(wrong)
	}
	if _, wrong = written(t, x12.Rules, strings.Replace(blank, "HL*5*1*O", "HL*5*9*O", 1), lines, true); !strings.Contains(wrong, "HL[5] stands below level 9, which does not come before it") {
		t.Error(wrong)
	}
}

// TestTargetsRefuse: what cannot be laid out is said where the map or the sample says it.
func TestTargetsRefuse(t *testing.T) {
	for _, test := range []struct{ name, sample, lines, want string }{
		{"a field around all messages", blankOrder, strings.Replace(orderMap, "UNB-5 = sequence", "UNB-5 = a", 1), "UNB-5 stands around all messages of a file, and a may differ"},
		{"a record's number around all", blankOrder, strings.Replace(orderMap, "UNB-5 = sequence", `UNB-5 = "N{record}"`, 1), "record may differ"},
		{"no number", blankOrder, strings.Replace(orderMap, "UNH-1 = record", "clear UNH-1", 1), "nothing numbers UNH: UNH-1 is neither"},
		{"a number in the wrong component", blankOrder, strings.Replace(orderMap, "UNB-5 = sequence", "clear UNB-5\nUNB-5.2 = sequence", 1), "nothing numbers UNB: UNB-5 is neither"},
		{"a count", blankOrder, orderMap + "UNT-1 = b\n", "UNT-1 is computed"},
		{"a separator", blankX12, reagentMap + "ISA-16 = a\n", "ISA-16 is computed, or follows"},
		{"a frame dropped", blankOrder, orderMap + "drop UNB\n", "it can be neither dropped nor added"},
		{"a frame added", blankOrder, orderMap + "add UNH\n  UNH-1 = a\nend\n", "it can be neither dropped nor added"},
		{"a segment without its like", blankOrder, orderMap + "add LIN\n  LIN-1 = a\nend\n", "has no LIN that this one could follow"},
		{"nobody of that kind", blankOrder, orderMap + "NAD(DP)-2 = a\n", "the sample blank has no segment NAD(DP)"},
		{"a repetition", blankOrder, orderMap + "BGM-2[2] = a\n", "nothing repeats in the sample's interchange"},
		{"a character in a constant", blankOrder, strings.Replace(orderMap, "BGM-2 = a", `BGM-2 = "日"`, 1), "'日' is not among the characters of UNOC"},
		{"a whole segment", blankOrder, orderMap + "NAD(BY) = a\n", "is a whole segment"},
		{"a sample value", blankOrder, strings.Replace(orderMap, ", NAD(SU)", "", 1), `"SU" at NAD[2]-1 would go into every message`},
		{"null", blankOrder, strings.Replace(orderMap, "FTX-4 = b", "FTX-4 = b if empty null", 1), ""},
		{"two messages", strings.Replace(blankOrder, "UNZ", "UNH+2+ORDERS:D:96A:UN'UNT+2+2'UNZ", 1), orderMap, "it has a second message"},
		{"no message", "UNB+UNOC:3+A+B+261124:1630+1'UNZ+0+1'", orderMap, "closes what was not opened"},
		{"not closed", strings.Replace(blankOrder, "UNZ+1+1'", "", 1), orderMap, "an interchange with one message was expected"},
		{"something else", "MSH|", orderMap, "begins with UNB"},
		{"a message alone", "UNH+1+ORDERS:D:96A:UN'UNT+2+1'", orderMap, "begins with UNB"},
		{"UTF-8 that says it is something else", strings.Replace(blankOrder, "note", "nöte", 1), orderMap, "it is UTF-8, and says that it is iso-8859-1"},
		{"bytes that are not text", strings.Replace(strings.Replace(blankOrder, "note", "\xff\xfe", 1), "UNOC:3", "UNOY:4", 1), orderMap, "is not a text"},
	} {
		rules := edifact.Rules
		if strings.HasPrefix(test.sample, "ISA") {
			rules = x12.Rules
		}
		if _, wrong := written(t, rules, test.sample, test.lines, false, [2]string{"x", "1"}); !strings.Contains(wrong, test.want) || test.want == "" && wrong != "" {
			t.Errorf("%s: %q does not say %q", test.name, wrong, test.want)
		}
	}
}

// TestSampleIsValidated: what a sample lacks, all messages will lack.
func TestSampleIsValidated(t *testing.T) {
	target, err := segments.NewTarget(edifact.Rules, "blank", []byte(blankOrder))
	if err != nil {
		t.Fatal(err)
	}
	said := ""
	target.Validate(target.Sample(), func(d format.Difference) { said += d.Path + ": " + d.Text + "\n" })
	if !strings.Contains(said, "FTX: DTM is missing before FTX: ORDERS requires it") || !strings.Contains(said, "UNS is missing before UNT") {
		t.Error(said)
	}
}

// TestTargetAgainRead: what is written reads as the values that were given, whatever they are.
func TestTargetAgainRead(t *testing.T) {
	target, err := segments.NewTarget(edifact.Rules, "blank", []byte(blankOrder))
	if err != nil {
		t.Fatal(err)
	}
	for _, v := range []string{"plain", "+", "?", "??", "'", "?'", ":+'?", "a:b+c?d'e", "ends in ?", "é ü", "*", "  blanks  "} {
		made, wrong := written(t, edifact.Rules, blankOrder, strings.Replace(orderMap, "BGM-1, BGM-3", "BGM-1", 1)+"clear BGM-3\n", false, [2]string{v, "1"})
		if wrong != "" {
			t.Errorf("%q: %s", v, wrong)
			continue
		}
		from, to := strings.Index(made, "UNH"), strings.Index(made, "UNZ")
		decoded := strings.NewReplacer("\xe9", "é", "\xfc", "ü").Replace(made[from:to])
		found := ""
		for _, l := range target.Show([]byte(decoded)) {
			if l.Path == "BGM-2" {
				found = l.Value
			}
		}
		if found != v {
			t.Errorf("%q reads as %q: %s", v, found, made)
		}
	}
}

// FuzzTarget: whatever is written is read as what was given, or refused; nothing else comes into being.
func FuzzTarget(f *testing.F) {
	for _, v := range []string{"plain", "+:?'", "*>~^", "a\nb", "é☂", " ", ""} {
		f.Add(v, "1")
	}
	f.Fuzz(func(t *testing.T, a, b string) {
		if !utf8.ValidString(a) || strings.Contains(a, "\ufffd") || !value.IsNumber([]byte(b)) { // a schema holds b to be one
			return
		}
		for _, test := range []struct {
			rules                   *segments.Rules
			sample, lines, a, b, no string
		}{
			{edifact.Rules, blankOrder, strings.Replace(orderMap, "NAD(BY)-2.1 = route", "NAD(BY)-2.1 = a", 1) + "NAD(BY)-4 = b\n", "NAD[1]-2.1", "NAD[1]-4", "NAD[1]-5"},
			{x12.Rules, blankX12, reagentMap + "REF-3 = b\n", "BEG-3", "REF-3", "REF-4"},
		} {
			made, wrong := written(t, test.rules, test.sample, test.lines, false, [2]string{a, b})
			if wrong != "" {
				continue
			}
			in, err := text.Decode(strings.NewReader(made), map[bool]text.Charset{true: text.Declared, false: text.UTF8}[test.rules.Declares])
			if err != nil {
				t.Fatal(err)
			}
			r, findings, err := format.Open(segments.Interchanges{Rules: test.rules}, in, shape.Of(test.a, test.b, test.no))
			if err != nil || r == nil {
				t.Fatalf("%q %q became %q: %v %v", a, b, made, findings, err)
			}
			read := &batch.Batch{First: 1}
			if more, err := r.Cut(read); more || err != nil {
				t.Fatalf("%q %q became %q: %v", a, b, made, err)
			}
			r.Split(read)
			x, _ := read.Value(0, 0)
			y, _ := read.Value(0, 1)
			z, _ := read.Value(0, 2)
			if read.Records() != 1 || len(read.Notes)+len(r.Finish(1)) > 0 || string(x) != a || string(y) != b || len(z) > 0 {
				t.Fatalf("%q %q became %q, which is read as %q %q %q, %v", a, b, made, x, y, z, r.Finish(1))
			}
		}
	})
}
