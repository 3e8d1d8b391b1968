package segments_test

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"testing"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/format"
	"ydrion/core/format/edifact"
	"ydrion/core/format/x12"
	"ydrion/core/segments"
	"ydrion/core/shape"
	"ydrion/core/text"
)

// record is what a reader gave for one record.
type record struct {
	values []string // "-" if absent
	raw    string
	at     int64
	found  []string
}

// read reads a file in batches of a size and gives its records and what was wrong with it.
func read(t testing.TB, rules *segments.Rules, file, unit string, size int, paths ...string) ([]record, []string) {
	t.Helper()
	return validated(t, rules, false, file, unit, size, paths...)
}

// validated reads a file whose messages are checked against their descriptions.
func validated(t testing.TB, rules *segments.Rules, validating bool, file, unit string, size int, paths ...string) ([]record, []string) {
	t.Helper()
	set := text.UTF8
	if rules.Declares {
		set = text.Declared
	}
	in, err := text.Decode(strings.NewReader(file), set)
	if err != nil {
		t.Fatal(err)
	}
	r, findings, err := format.Open(segments.Interchanges{Rules: rules, Unit: unit}, in, shape.Of(paths...))
	if err != nil {
		t.Fatal(err)
	}
	var wrong []string
	for _, f := range findings {
		if f.Severity == finding.Warning {
			continue // a position that the standard does not know
		}
		wrong = append(wrong, said(f.Code, f.Place.Offset, f.Message))
	}
	if r == nil {
		return nil, wrong
	}
	segments.SetSize(r, size)
	var out []record
	b := &batch.Batch{First: 1}
	for more := true; more; {
		b.Reset()
		more, err = r.Cut(b)
		var broken *format.Broken
		if err != nil && !errors.As(err, &broken) {
			t.Fatal(err)
		}
		r.Split(b)
		remarks := map[int][]string{}
		if validating {
			r.(format.Validator).ValidateAll(b, func(int) int { return format.AsRead }, func(whole int, k format.Difference) {
				remarks[whole] = append(remarks[whole], fmt.Sprintf("%s +%d %s", k.Code, b.Base+int64(k.At), k.Path))
			})
		}
		for i := range b.Records() {
			rec := record{raw: string(r.Raw(b, i)), at: b.Base + int64(b.Bounds[i].Off)}
			if file[rec.at:rec.at+int64(len(b.Raw(i)))] != string(b.Raw(i)) {
				t.Fatalf("record %d is not where it says: %q", i, b.Raw(i))
			}
			for slot := range paths {
				v, ok := b.Value(i, slot)
				if !ok {
					v = []byte("-")
				}
				rec.values = append(rec.values, string(v))
			}
			for _, n := range b.Notes {
				if int(n.Record) == i && (warned || !n.Warn) {
					f := r.Describe(b, n)
					rec.found = append(rec.found, said(f.Code, f.Place.Offset, f.Place.Path))
				}
			}
			whole, _ := slices.BinarySearchFunc(b.Messages, b.Bounds[i].Off, func(s batch.Span, off uint32) int { return cmp.Compare(s.End, off+1) })
			rec.found = append(rec.found, remarks[whole]...)
			out = append(out, rec)
		}
		b.First += int64(b.Records())
		if broken != nil {
			f := broken.Finding
			rest := new(bytes.Buffer)
			if _, err := rest.ReadFrom(broken.Rest); err != nil || !strings.HasSuffix(file, rest.String()) {
				t.Fatalf("what is left is %q", rest)
			}
			return out, append(wrong, said(f.Code, f.Place.Offset, f.Message))
		}
	}
	for _, f := range r.Finish(0) {
		if warned || f.Severity == finding.Error {
			wrong = append(wrong, said(f.Code, f.Place.Offset, f.Message))
		}
	}
	return out, wrong
}

// warned lets read tell warnings, too: many tests have the same interchange several times.
var warned bool

func said(code string, at int64, what string) string { return fmt.Sprintf("%s +%d %s", code, at, what) }

const (
	isa   = "ISA*00*          *00*          *ZZ*SKERRY         *ZZ*LABSUPPLY      *261125*0930*^*00501*000000007*0*T*>~"
	gs    = "GS*PO*SKERRY*LAB*20261125*0930*3*X*005010~"
	order = "ST*850*0001~BEG*00*SA*PO1**20261125~N1*BY*SKERRY^x*92*S1>a>b~N1*SU*LAB~PO1*1*10*EA*5~PID*F****gloves~PO1*2*3*BX*7.5~SE*8*0001~"
	tail  = "GE*1*3~IEA*1*000000007~"
	una   = "UNA:+.? '"
	unb   = "UNB+UNOC:3+SKERRY+TIDE+261125:0930+IC7'"
	edi   = "UNH+1+ORDERS:D:96A:UN'BGM+220+PO?'1??+9'DTM+137:20261125:102'NAD+BY+S1::92'NAD+SU+T9::92++TIDE'LIN+1++A1:SA'QTY+21:5:PCE'LIN+2++B2:SA'QTY+21:6'UNS+S'UNT+11+1'"
	unz   = "UNZ+1+IC7'"
)

func TestMessages(t *testing.T) {
	x := []string{"ISA-13", "GS-6", "ST-2", "BEG-3", "N1(BY)-2", "N1(BY)-2[2]", "N1(BY)-4.2", "N1[2]-2", "PO1[2]-4", "PO1(2)-3", "ZZ-1", "PER-1"}
	xw := []string{"000000007", "3", "0001", "PO1", "SKERRY", "x", "a", "LAB", "7.5", "BX", "-", "-"}
	e := []string{"UNB-5", "UNG-5", "UNH-1", "BGM-2", "DTM(137)-1.2", "NAD(SU)-2", "NAD(SU)-4", "LIN[2]-3.1", "QTY-1.3", "QTY[2]-1.3", "NAD-2.3"}
	ew := []string{"IC7", "-", "1", "PO'1?", "20261125", "T9", "TIDE", "B2", "PCE", "-", "92"}
	for _, test := range []struct {
		name        string
		rules       *segments.Rules
		file        string
		paths, want []string
		records     int
	}{
		{"x12", x12.Rules, isa + gs + strings.Repeat(order, 3) + "GE*3*3~IEA*1*000000007~", x, xw, 3},
		{"x12 in lines", x12.Rules, strings.ReplaceAll(isa+gs+order+tail, "~", "~\r\n"), x, xw, 1},
		{"x12 with newline as terminator", x12.Rules, strings.ReplaceAll(isa+gs+order+tail, "~", "\n"), x, xw, 1},
		{"x12 twice", x12.Rules, isa + gs + order + tail + "\n" + isa + gs + order + tail, x, xw, 2},
		{"x12 with TA1", x12.Rules, isa + "TA1*000000001*261125*0930*A*000~" + gs + order + tail, x, xw, 1},
		{"x12 with other separators behind", x12.Rules, isa + gs + order + tail + strings.NewReplacer("*", "|", "~", "'", ">", ":").Replace(isa+gs+order+tail) + isa + gs + order + tail, x, xw, 3},
		{"edifact", edifact.Rules, una + unb + edi + unz, e, ew, 1},
		{"edifact without UNA", edifact.Rules, unb + edi + unz, e, ew, 1},
		{"edifact in lines", edifact.Rules, strings.ReplaceAll(una+"\n"+unb+edi+unz, "'", "'\n")[1:], nil, nil, 0},
		{"edifact twice", edifact.Rules, una + "\r\n" + unb + edi + unz + "\r\n" + una + unb + edi + unz, e, ew, 2},
		{"edifact level B", edifact.Rules, strings.NewReplacer("?'", "'", "??", "?", "'", "\x1c", "+", "\x1d", ":", "\x1f").Replace(strings.Replace(unb, "UNOC", "UNOB", 1) + edi + unz), e, ew, 1},
		{"edifact, no release", edifact.Rules, "UNA:+. *'" + unb + strings.NewReplacer("?'1??", "'1?").Replace(strings.Replace(edi, "PO?'1??", "PO!1?", 1)) + unz, e, append([]string{"IC7", "-", "1", "PO!1?"}, ew[4:]...), 1},
	} {
		if test.records == 0 {
			continue
		}
		for _, size := range []int{20, 100, 5000} {
			got, wrong := read(t, test.rules, test.file, "", size, test.paths...)
			if len(wrong) > 0 || len(got) != test.records {
				t.Errorf("%s, size %d: %d records, %v", test.name, size, len(got), wrong)
				continue
			}
			for i, r := range got {
				if !slices.Equal(r.values, test.want) || r.found != nil {
					t.Errorf("%s, size %d, record %d: %q, %v\nwant %q", test.name, size, i, r.values, r.found, test.want)
				}
				// A record alone is an interchange that says the same.
				again, wrong := read(t, test.rules, r.raw, "", 5000, test.paths...)
				if len(wrong) > 0 || len(again) != 1 || !slices.Equal(again[0].values, r.values) {
					t.Errorf("%s: record %d alone is %q: %v, %v", test.name, i, r.raw, again, wrong)
				}
			}
		}
	}
}

// claims are two billing providers with their subscribers and a dependent, each with claims.
const claims = "ST*837*0001*005010X222A1~BHT*0019*00*1*20261125*0900*CH~NM1*41*2*SUBMITTER*****46*9~PER*IC*X*TE*1~NM1*40*2*RECEIVER*****46*8~" +
	"HL*1**20*1~NM1*85*2*ONE*****XX*111~N3*QUAY 1~N4*BRUNHOLM**1~HL*2*1*22*0~SBR*P*18~NM1*IL*1*SEAL*GREY****MI*5~NM1*PR*2*PAYER*****PI*7~" +
	"CLM*C1*10***11>B>1~HI*ABK>J10~NM1*82*1*VAIL~LX*1~SV1*HC>A1*10*UN*1~CLM*C2*20***11>B>1~HI*ABK>J11~LX*1~SV1*HC>B1*20*UN*1~" +
	"HL*3*1*22*1~SBR*S**G~NM1*IL*1*OTTER~NM1*PR*2*PAYER~HL*4*3*23*0~PAT*19~NM1*QC*1*PUP~N3*QUAY~N4*X~DMG*D8*20260101*F~CLM*C3*5~LX*1~SV1*HC>D1*5*UN*1~" +
	"HL*5**20*1~NM1*85*2*TWO*****XX*222~N3*X~N4*Y~HL*6*5*22*0~SBR*P*18~NM1*IL*1*WHALE~NM1*PR*2*PAYER~CLM*C4*7~LX*1~SV1*HC>E1*7*UN*1~SE*47*0001~"

// TestUnits: a segment can be the record, with what stands around it and what belongs to it.
func TestUnits(t *testing.T) {
	for _, test := range []struct {
		rules      *segments.Rules
		file, unit string
		paths      []string
		want       []string
	}{
		{x12.Rules, isa + gs + order + strings.Replace(order, "PO1**", "PO2**", 1) + "GE*2*3~IEA*1*000000007~", "PO1", []string{"GS-6", "BEG-3", "N1(SU)-2", "PO1-1", "PID-5"}, []string{"3 PO1 LAB 1 gloves", "3 PO1 LAB 2 -", "3 PO2 LAB 1 gloves", "3 PO2 LAB 2 -"}},
		{edifact.Rules, unb + edi + unz, "LIN", []string{"UNB-5", "BGM-2", "NAD(BY)-2.1", "NAD[2]-4", "LIN-1", "QTY(21)-1.2", "QTY-1.3"}, []string{"IC7 PO'1? S1 TIDE 1 5 PCE", "IC7 PO'1? S1 TIDE 2 6 -"}},
		{x12.Rules, isa + gs + "ST*856*1~HL*1**S~TD1*a~HL*2*1*O~PRF*P1~HL*3*2*I~LIN**x~HL*4*2*I~LIN**y~SE*10*1~" + tail, "HL(3=I)", []string{"TD1-1", "PRF-1", "HL(3=I)-1", "LIN-2"}, []string{"a P1 3 x", "a P1 4 y"}},
		{x12.Rules, isa + strings.Replace(gs, "X*005010", "X*005010X222A1", 1) + claims + tail, "CLM", []string{"NM1(41)-3", "NM1(85)-9", "SBR-1", "NM1(IL)-3", "NM1(QC)-3", "CLM-1", "HI-1.2", "SV1-1.2", "NM1(82)-3"},
			[]string{"SUBMITTER 111 P SEAL - C1 J10 A1 VAIL", "SUBMITTER 111 P SEAL - C2 J11 B1 -", "SUBMITTER 111 S OTTER PUP C3 - D1 -", "SUBMITTER 222 P WHALE - C4 - E1 -"}},
	} {
		for _, size := range []int{30, 5000} {
			got, wrong := read(t, test.rules, test.file, test.unit, size, test.paths...)
			var lines []string
			for _, r := range got {
				lines = append(lines, strings.Join(r.values, " ")+strings.Join(r.found, " "))
			}
			if !slices.Equal(lines, test.want) || len(wrong) > 0 {
				t.Errorf("%s:\n%s\n%v\nwant\n%s", test.unit, strings.Join(lines, "\n"), wrong, strings.Join(test.want, "\n"))
			}
			for i, r := range got { // alone, with counts of its own
				again, wrong := read(t, test.rules, r.raw, test.unit, 5000, test.paths...)
				if len(wrong) > 0 || len(again) != 1 || strings.Join(again[0].values, " ") != lines[i] || again[0].found != nil {
					t.Errorf("unit %d alone is %q: %v, %v", i, r.raw, again, wrong)
				}
			}
		}
	}
}

// TestFaults: what is wrong is told with the byte at which it stands, counted by hand.
func TestFaults(t *testing.T) {
	x := func(body, tail string) string { return isa + gs + body + tail } // 106 + 42 bytes before the body
	short := "ST*850*0001~BEG*00~SE*3*0001~"
	e := func(body, tail string) string { return unb + body + tail } // 39 bytes before it
	message := "UNH+1+ORDERS:D:96A:UN'BGM+220'UNT+3+1'"
	for _, test := range []struct {
		rules *segments.Rules
		file  string
		want  string
	}{
		{x12.Rules, x(short, tail), ""},
		{x12.Rules, "", "file.empty +0 the file holds no interchange: 0 bytes"},
		{x12.Rules, "\r\n ", "file.empty +0 the file holds no interchange: 3 bytes"},
		{x12.Rules, "ISA*00*", "x12.interchange +0 an interchange begins with an ISA segment of 106 characters, which is not here"},
		{x12.Rules, strings.Replace(isa, "SKERRY ", "SKERRY", 1) + gs, "x12.interchange +0 the element separator '*' should stand at character 51 of the ISA segment, before element 7: its elements have fixed lengths"},
		{x12.Rules, strings.Replace(isa, ">~", "*~", 1), "x12.interchange +0 '*' separates two things"},
		{x12.Rules, x(strings.Replace(short, "SE*3", "SE*4", 1), tail), "x12.count +167 SE-1"},
		{x12.Rules, x(strings.Replace(short, "*0001~SE", "*0001~SE", 1)+strings.Replace(short, "SE*3*0001", "SE*3*0002", 1), "GE*2*3~IEA*1*000000007~"), "x12.number +196 SE-2"},
		{x12.Rules, x(strings.Replace(short, "SE*3*0001~", "", 1), tail), "x12.unfinished +160 "},
		{x12.Rules, x(strings.Replace(short, "SE*3", "SE*4*0~SE*4", 1), tail), "x12.unfinished +167 "},
		{x12.Rules, x("ST>850*1~BEG*00~SE*3*1~", tail), "x12.envelope +148 "},
		{x12.Rules, x("ST*850*1~BEG>00~SE*3*1~", tail), "x12.segment +157 "},
		{x12.Rules, x("ST*850*1~beg*1~SE*3*1~", tail), "x12.segment +157 "},
		{x12.Rules, x(short, "GE*2*3~IEA*1*000000007~"), "x12.count +177 GE says 2 messages, but 1 came"},
		{x12.Rules, x(short, "GE*1*4~IEA*1*000000007~"), "x12.number +177 GE says number 4, but GS said 3"},
		{x12.Rules, x(short, "GE*1*3~IEA*2*000000007~"), "x12.count +184 IEA says 2 groups, but 1 came"},
		{x12.Rules, x(short, "GE*1*3~"), "x12.unfinished +184 the file ends without IEA: it may not be whole"},
		{x12.Rules, x(short, ""), "x12.unfinished +177 the file ends without GE: it may not be whole"},
		{x12.Rules, x(short, tail) + "what is this?", "x12.envelope +200 this is not a segment that may stand between messages"},
		{x12.Rules, x(short, "GE*1*3~") + isa, "x12.unfinished +184 ISA was opened before and not closed by IEA"},
		{edifact.Rules, e(message, unz), ""},
		{edifact.Rules, "UNB", "edifact.interchange +0 an interchange begins with UNB and '+'"},
		{edifact.Rules, "UIB+UNOA:4", "edifact.interchange +0 this is an interactive interchange (UIB, ISO 9735-3): those are not read"},
		{edifact.Rules, strings.Replace(unb, "UNOC", "UNOQ", 1), "edifact.interchange +0 UNB names the repertoire \"UNOQ\", which is none of UNOA to UNOL, UNOW, UNOX and UNOY"},
		{edifact.Rules, e(strings.Replace(message, "UNT+3", "UNT+2", 1), unz), "edifact.count +69 UNT-1"},
		{edifact.Rules, e(strings.Replace(message, "UNT+3+1", "UNT+3+2", 1), unz), "edifact.number +69 UNT-2"},
		{edifact.Rules, e(message+message, unz), "edifact.count +115 UNZ says 1 messages, but 2 came"},
		{edifact.Rules, e(message, "UNZ+1+IC8'"), "edifact.number +77 UNZ says number IC8, but UNB said IC7"},
		{edifact.Rules, e("UNG+ORDERS+a+b+261125:0930+5+UN+D:96A'"+message+"UNE+1+5'", unz), ""},
		{edifact.Rules, e("UNG+ORDERS+a+b+261125:0930+5+UN+D:96A'"+message+"UNE+2+5'", unz), "edifact.count +115 UNE says 2 messages, but 1 came"},
		{edifact.Rules, e(strings.Replace(message, "220", "\xe9", 1), unz), ""}, // UNOC is ISO 8859-1
		{edifact.Rules, strings.Replace(unb, "UNOC", "UNOA", 1) + strings.Replace(message, "220", "\xe9", 1) + unz, "edifact.charset +65 "},
		{edifact.Rules, strings.Replace(unb, "UNOC", "UNOW", 1) + strings.Replace(message, "220", "\xe9", 1) + unz, "text.encoding +65 "},
	} {
		for _, size := range []int{10, 5000} {
			got, wrong := read(t, test.rules, test.file, "", size, "BGM-1")
			var found []string
			for _, r := range got {
				found = append(found, r.found...)
			}
			if all := strings.Join(append(found, wrong...), "|"); !strings.HasPrefix(all, test.want) || test.want == "" && all != "" {
				t.Errorf("%.250q, size %d:\n%s\nwant\n%s", test.file, size, all, test.want)
			}
		}
	}
}

// TestBinary: what looks like segments in binary data is data.
func TestBinary(t *testing.T) {
	data := "~ST*850*9~SE*2*9~GE*1*1~\x00\n*"
	file := isa + gs + fmt.Sprintf("ST*275*1~BIN*%d*%s~REF*A*1~SE*4*1~", len(data), data) + "ST*275*2~SE*2*2~" + "GE*2*3~IEA*1*000000007~"
	for _, size := range []int{10, 160, 5000} {
		got, wrong := read(t, x12.Rules, file, "", size, "ST-2", "REF-2", "BIN-1")
		if len(got) != 2 || len(wrong) > 0 || got[0].found != nil || !slices.Equal(got[0].values, []string{"1", "1", fmt.Sprint(len(data))}) {
			t.Errorf("size %d: %v, %v", size, got, wrong)
		}
	}
}

// TestRepertoires: UNB says which characters there are.
func TestRepertoires(t *testing.T) {
	for set, value := range map[string]string{"UNOC": "\xe9?+", "UNOE": "\xd4", "UNOL": "\xa4", "UNOY": "é☂"} {
		want := map[string]string{"UNOC": "é+", "UNOE": "д", "UNOL": "€", "UNOY": "é☂"}[set]
		got, wrong := read(t, edifact.Rules, strings.Replace(unb, "UNOC", set, 1)+"UNH+1+ORDERS:D:96A:UN'BGM+"+value+":x'UNT+3+1'"+unz, "", 500, "BGM-1", "BGM-1.2")
		if len(got) != 1 || got[0].values[0] != want || got[0].values[1] != "x" || got[0].found != nil || len(wrong) > 0 {
			t.Errorf("%s: %v, %v", set, got, wrong)
		}
	}
}

// TestChosenByTheWholeValue: a segment is chosen by its qualifier, and not by one that only begins so.
func TestChosenByTheWholeValue(t *testing.T) {
	for _, longer := range []string{"BYX", "BY\xe9", "BY?:X", "BY?+", "BY "} {
		got, wrong := read(t, edifact.Rules, unb+"UNH+1+ORDERS:D:96A:UN'NAD+"+longer+"+OTHER'NAD+BY+S1'NAD+SU:x+T1'UNT+5+1'"+unz, "", 500, "NAD(BY)-2", "NAD(SU)-2")
		if len(got) != 1 || got[0].values[0] != "S1" || got[0].values[1] != "T1" || len(wrong) > 0 {
			t.Errorf("%q: %v, %v", longer, got, wrong)
		}
	}
}

// TestChangingRepertoire: changes between sets are told where they are, and nothing is guessed.
func TestChangingRepertoire(t *testing.T) {
	for body, want := range map[string]string{"plain": "", "\x1b$B%8\x1b(B": "changes to another character set here", "\x0e": "changes to another"} {
		got, wrong := read(t, edifact.Rules, strings.Replace(unb, "UNOC", "UNOX", 1)+"UNH+1+ORDERS:D:96A:UN'BGM+"+body+"'UNT+3+1'"+unz, "", 500, "BGM-1")
		said := fmt.Sprint(wrong)
		if len(got) == 1 {
			said += fmt.Sprint(got[0].found)
		}
		if !strings.Contains(said, want) && !strings.Contains(said, "edifact.charset") || want == "" && strings.Contains(said, "charset") {
			t.Errorf("%q: %s", body, said)
		}
	}
}

func TestPositions(t *testing.T) {
	for _, s := range []string{"NAD-3.1", "N1(BY)-2", "HL(3=22)[2]-1", "LIN[4]-3[2].1", "UNH"} {
		if p, err := segments.ParsePosition(s); err != nil || p.String() != s {
			t.Errorf("%s is %s, %v", s, p, err)
		}
	}
	for _, s := range []string{"", "N", "nad-1", "NAD-", "NAD-0", "NAD()-1", "NAD(BY-1", "HL(x=2)-1", "NAD[0]-1", "NAD-1.2.3", "NAD-1x", "NADX-1"} {
		if p, err := segments.ParsePosition(s); err == nil || !strings.Contains(err.Error(), strconv.Quote(s)+" is not a position: ") {
			t.Errorf("%q is %s, %v", s, p, err)
		}
	}
	if _, wrong := read(t, x12.Rules, isa, "po1", 10, "BEG", "BEG-x"); len(wrong) != 3 {
		t.Errorf("%v", wrong)
	}
}

// outline shows a message with its envelopes.
func outline(t *testing.T, rules *segments.Rules, file string) string {
	t.Helper()
	set := text.UTF8
	if rules.Declares {
		set = text.Declared
	}
	in, err := text.Decode(strings.NewReader(file), set)
	if err != nil {
		t.Fatal(err)
	}
	r, _, err := format.Open(segments.Interchanges{Rules: rules}, in, nil)
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	for _, n := range r.Outline([]byte(file)) {
		line := strings.Repeat(" ", n.Depth) + n.Path + n.Value
		if n.Kind == format.Group {
			line = strings.Repeat(" ", n.Depth) + n.Name
		}
		if n.Means != "" {
			line += " (" + n.Means + ")"
		}
		if n.Kind != format.Leaf || !strings.HasPrefix(line, "ISA") {
			out = append(out, line+" "+file[n.From:min(n.To, n.From+9)])
		}
	}
	r.(format.Validator).Validate([]byte(file), func(k format.Difference) { out = append(out, fmt.Sprintf("%d %s %s", k.At, k.Path, k.Text)) })
	return strings.Join(out, "\n")
}

// TestOutline: groups by their names, levels of a hierarchy within those above them, and what
// differs from the description.
func TestOutline(t *testing.T) {
	got := outline(t, x12.Rules, isa+strings.Replace(gs, "PO*", "SH*", 1)+"ST*856*1~BSN*00*L1*20261127*0915~HL*1**S~TD1*CTN*2~HL*2*1*O~PRF*P1~HL*3*7*I~LIN**VP*x~CTT*3~SE*9*1~")
	for _, want := range []string{"\nLOOP_HL HL*1**S~T\n HL HL*1**S\n", "\n LOOP_HL HL*2*1*O~\n  HL[2] HL*2*1*O\n", "\n  PRF PRF*P1\n   PRF-1P1 P1\n", "\nCTT CTT*3\n", " BSN-100 (original) 00\n", " HL-3S (shipment) S\n", "\n215 HL[3] the level above is said to be 7, and no level before has that number"} {
		if !strings.Contains(got, want) {
			t.Errorf("%s\ndoes not hold %q", got, want)
		}
	}
	got = outline(t, x12.Rules, isa+strings.Replace(gs, "X*005010", "X*005010X222A1", 1)+claims+tail)
	for _, want := range []string{"\n2000A HL*1**20*", "\n 2010AA NM1*85*2*", "\n 2000B HL*2*1*22", "\n  2010BA NM1*IL*1*", "\n  2300 CLM*C1*10", "\n   2310 NM1*82*1*", "\n   2400 LX*1~SV1*", "\n  2000C HL*4*3*23", "\n   2010CA NM1*QC*1*", "\n   2300 CLM*C3*5~", "     SV1-1 HC>A1\n", "\n2000A HL*5**20*"} {
		if !strings.Contains(got, want) {
			t.Errorf("%s\ndoes not hold %q", got, want)
		}
	}
	got = outline(t, x12.Rules, isa+strings.NewReplacer("PO*", "FA*", "X*005010", "X*005010X231A1").Replace(gs)+"ST*999*0001*005010X231A1~AK1*HC*17*005010X222A1~AK2*837*0001*005010X222A1~IK3*NM1*12*2010*8~CTX*SITUATIONAL TRIGGER*CLM*43**5>3>2*1325>67~IK4*9*67*1*ABC~IK5*R*5*I5*4*3*2~AK9*R*1*1*0~SE*9*0001~"+tail)
	if last := strings.TrimSpace(got[strings.LastIndex(got, "\n")+1:]); !strings.HasPrefix(last, "IEA-2") || !strings.Contains(got, "CTX-6.267 67") {
		t.Errorf("an acknowledgement as it should be differs from its description:\n%s", got)
	}
	got = outline(t, edifact.Rules, una+unb+edi+unz)
	for _, want := range []string{"\nSG2 NAD+BY+S1\n NAD NAD+BY+S1\n  NAD-1BY (Buyer) BY\n  NAD-2 S1::92\n   NAD-2.1S1 S1\n", "\nSG25 LIN+1++A1\n LIN LIN+1++A1\n", "\n BGM-2PO'1? PO?'1??\n", "\nUNZ UNZ+1+IC7\n"} {
		if !strings.Contains(got, want) {
			t.Errorf("%s\ndoes not hold %q", got, want)
		}
	}
	got = outline(t, edifact.Rules, unb+"UNH+1+ORDERS:D:96A:UN'BGM+220'NAD+BY'QTY+21:x:PCE'UNS+S'UNT+6+1'"+unz)
	for _, want := range []string{"69 NAD DTM is missing before NAD: ORDERS requires it", "76 QTY SCC is missing before QTY", "83 QTY-1.2 Quantity is not a value of type n"} {
		if !strings.Contains(got, want) {
			t.Errorf("%s\ndoes not hold %q", got, want)
		}
	}
	if got := outline(t, edifact.Rules, strings.Replace(unb, "UNOC", "UNOA", 1)+"UNH+1+ORDERS:D:99B:UN'FTX+AAI+++GLOVES:Gloves'UNT+3+1'"+unz); !strings.HasSuffix(got, "\n78 FTX-4.2 'l' is not among the characters of UNOA, which the interchange says it is in") {
		t.Error(got)
	}
	if got := outline(t, edifact.Rules, unb+"UNH+1+ORDERS:D:99B:UN'QTY+21:x'UNT+3+1'"+unz); strings.Contains(got, "Quantity") || strings.Contains(got, "missing") {
		t.Errorf("99B is read by another's description:\n%s", got)
	}
}

// against checks reading in small batches against reading in large ones, and what is read alone
// against what is read among others.
func against(t *testing.T, rules *segments.Rules, file, unit string, size int, paths ...string) {
	for _, validating := range []bool{false, true} {
		alike(t, rules, validating, file, unit, size, paths...)
	}
}

func alike(t *testing.T, rules *segments.Rules, validating bool, file, unit string, size int, paths ...string) {
	got, wrong := validated(t, rules, validating, file, unit, size, paths...)
	whole, wrong2 := validated(t, rules, validating, file, unit, 1<<20, paths...)
	if len(got) != len(whole) || !slices.Equal(wrong, wrong2) {
		t.Fatalf("%q: %d records and %q in batches of %d, %d and %q in large ones", file, len(got), wrong, size, len(whole), wrong2)
	}
	for i, r := range got {
		if !slices.Equal(r.values, whole[i].values) || r.at != whole[i].at || !slices.Equal(r.found, whole[i].found) || r.raw != whole[i].raw {
			t.Fatalf("%q: record %d is %v in batches of %d, %v in large ones", file, i, r, size, whole[i])
		}
	}
}

func TestAnyBatchSize(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 5))
	pieces := []string{order, order, gs, tail, isa, "TA1*1~", "ST*9*1~", "SE*2*1~", "~", "\n", "BIN*5*~ST*~~", "BIN*99*", "PO1*1~", "GE*1*3~", "x"}
	parts := []string{edi, edi, unb, unz, una, "UNG+1+2+3+4+5'", "UNE+1+5'", "UNH+1'", "UNT+2+1'", "'", "?", "??", "\n", "LIN+1'", "\xe9", "x"}
	for range 200 {
		x, e := isa+gs, una+unb
		for range r.IntN(12) {
			x += pieces[r.IntN(len(pieces))]
			e += parts[r.IntN(len(parts))]
		}
		size := 1 + r.IntN(300)
		against(t, x12.Rules, x, "", size, "ISA-13", "GS-6", "BEG-3", "N1(BY)-4.2")
		against(t, x12.Rules, x, "PO1", size, "GS-6", "BEG-3", "PO1-1", "PID-5")
		against(t, edifact.Rules, e, "", size, "UNB-5", "UNG-5", "BGM-2", "NAD(SU)-4")
		against(t, edifact.Rules, e, "LIN", size, "UNB-5", "BGM-2", "LIN-1", "QTY-1.3")
	}
}

func FuzzX12(f *testing.F) {
	f.Add(isa+gs+order+tail, 50)
	f.Add(isa+strings.Replace(gs, "X*005010", "X*005010X222A1", 1)+claims+tail, 300)
	f.Add(strings.ReplaceAll(isa+gs+"ST*275*1~BIN*5*~ST*~~SE*3*1~"+tail, "~", "~\n"), 9)
	f.Fuzz(func(t *testing.T, file string, size int) {
		against(t, x12.Rules, file, "", 1+size&0xfff, "ISA-13", "GS-6", "BEG-3", "N1(BY)-4.2", "PO1[2]-3[2]")
		against(t, x12.Rules, file, "PO1", 1+size&0xfff, "GS-6", "BEG-3", "PO1-1", "PID-5")
		against(t, x12.Rules, file, "CLM", 1+size&0xfff, "NM1(85)-9", "NM1(IL)-3", "NM1(QC)-3", "CLM-1", "SV1-1.2")
	})
}

func FuzzEDIFACT(f *testing.F) {
	f.Add(una+unb+edi+unz, 50)
	f.Add(strings.Replace(unb, "UNOC:3", "UNOY:4", 1)+edi+unz, 9)
	f.Fuzz(func(t *testing.T, file string, size int) {
		against(t, edifact.Rules, file, "", 1+size&0xfff, "UNB-5", "UNG-5", "BGM-2", "NAD(SU)-4", "LIN[2]-3[2].1")
		against(t, edifact.Rules, file, "LIN", 1+size&0xfff, "UNB-5", "BGM-2", "LIN-1", "QTY-1.3")
	})
}

func BenchmarkReader(b *testing.B) {
	const n = 10_000
	for _, bench := range []struct {
		name, unit string
		rules      *segments.Rules
		one        string
		paths      []string
	}{{"x12 bounds", "", x12.Rules, order, nil}, {"x12 three elements", "", x12.Rules, order, []string{"ST-2", "BEG-3", "PO1[2]-4"}},
		{"edifact bounds", "", edifact.Rules, edi, nil}, {"edifact three elements", "", edifact.Rules, edi, []string{"UNH-1", "DTM(137)-1.2", "LIN[2]-3.1"}}, {"edifact units", "LIN", edifact.Rules, edi, []string{"BGM-2", "LIN-3.1", "QTY-1.2"}}} {
		b.Run(bench.name, func(b *testing.B) {
			file := isa + gs + strings.Repeat(bench.one, n)
			if bench.rules.Declares {
				file = unb + strings.Repeat(bench.one, n)
			}
			b.SetBytes(int64(len(file)))
			b.ReportAllocs()
			bt := &batch.Batch{}
			for b.Loop() {
				in, _ := text.Decode(strings.NewReader(file), text.UTF8)
				r, _, _ := format.Open(segments.Interchanges{Rules: bench.rules, Unit: bench.unit}, in, shape.Of(bench.paths...))
				for more := true; more; {
					bt.Reset()
					more, _ = r.Cut(bt)
					if bench.paths != nil {
						r.Split(bt)
					}
				}
			}
			b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/n, "ns/message")
		})
	}
}
