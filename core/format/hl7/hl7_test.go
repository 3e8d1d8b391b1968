package hl7

import (
	"strconv"
	"strings"
	"testing"

	"ydrion/core/format"
	"ydrion/core/place"
)

func TestEscapesAreReadBackAsWhatTheyWere(t *testing.T) {
	for _, s := range []string{"plain", "a|b^c&d~e\\f", `C:\tags\7`, "two\nlines", "\\F\\ is how | is said", "||", "4 °C", ""} {
		escaped := string(Usual.Escapes().Append(nil, []byte(s)))
		if strings.ContainsAny(escaped, "|^&~\r\n") {
			t.Errorf("%q is written as %q, which has structure in it", s, escaped)
		}
		if back := Usual.Unescape(escaped); back != s {
			t.Errorf("%q is written as %q and read back as %q", s, escaped, back)
		}
	}
	for s, want := range map[string]string{"two\r\nlines": `two\.br\lines`, "a\rb": `a\.br\b`} {
		if got := string(Usual.Escapes().Append(nil, []byte(s))); got != want {
			t.Errorf("%q is written as %q, want %q", s, got, want)
		}
	}
	for s, want := range map[string]string{`\X41C4\`: `\X41C4\`, `\X41C389\`: "AÉ", `\X00\`: `\X00\`, `\X1A\R\X1A\`: `\X1A\R\X1A\`, `\X00\T\X00\F\`: `\X00\T\X00\F\`, `C:\dir\F\`: `C:\dir|`, `\H\bold\N\`: `\H\bold\N\`, `open \F`: `open \F`, `\XZZ\`: `\XZZ\`} {
		if got := Usual.Unescape(s); got != want {
			t.Errorf("%q is read as %q, want %q", s, got, want)
		}
	}
}

func FuzzEscapes(f *testing.F) {
	f.Add("a|b\\c\r\nd")
	f.Fuzz(func(t *testing.T, s string) {
		escaped := string(Usual.Escapes().Append(nil, []byte(s)))
		want := strings.ReplaceAll(strings.ReplaceAll(s, "\r\n", "\n"), "\r", "\n")
		want = strings.NewReplacer("\x00", `\X00\`, "\x1a", `\X1A\`).Replace(want) // they stand for lost characters: their sequences are not undone
		if back := Usual.Unescape(escaped); back != want || strings.ContainsAny(escaped, "|^&~\r\n") {
			t.Errorf("%q → %q → %q", s, escaped, back)
		}
	})
}

const sample = "MSH|^~\\&|SEALNET|ST|LAB|SCSR|2026||ORU^R01|1|P|2.5.1\rPID|1||T-1^^^SCSR~T-2||GS^Grey\rOBX|1|NM|WT^Weight\rOBX|2|TX|NOTE\r"

func TestParse(t *testing.T) {
	m, err := Parse([]byte(strings.ReplaceAll(sample, "\r", "\r\n")))
	if err != nil {
		t.Fatal(err)
	}
	for path, want := range map[string]string{"MSH-1": "|", "MSH-2": `^~\&`, "MSH-3": "SEALNET", "MSH-9.2": "R01", "PID-3.4": "SCSR", "PID-3[2].1": "T-2", "PID-5.2": "Grey", "OBX[2]-3": "NOTE", "OBX-3.2": "Weight"} {
		if got, ok := m.Get(path); !ok || got != want {
			t.Errorf("%s is %q, want %q", path, got, want)
		}
	}
	for _, path := range []string{"PID-99", "OBX[3]-1", "ZZZ-1", "PID-3[3]", "PID"} {
		if got, ok := m.Get(path); ok {
			t.Errorf("%s is %q, it should not be there", path, got)
		}
	}
	for in, says := range map[string]string{"": "does not begin with MSH", "PID|1": "does not begin with MSH", "MSH|^~": "does not begin with MSH", "MSH|^~\\^|x": "are the same", "MSH|^~\\&|A\rpid|1": "not a segment name"} {
		if _, err := Parse([]byte(in)); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v does not say %q", in, err, says)
		}
	}
}

func TestPaths(t *testing.T) {
	for in, want := range map[string]string{"PID-5": "PID-5", "PID-5.1": "PID-5.1", "OBX[1]-5": "OBX-5", "OBX[2]-5": "OBX[2]-5", "PID-3[2].4.1": "PID-3[2].4.1", "ZS1-1": "ZS1-1"} {
		p, err := parsePath(in)
		if err != nil || p.String() != want {
			t.Errorf("%s: %s, %v", in, p, err)
		}
	}
	for _, in := range []string{"", "PID5", "pid-5", "PID-", "PID-0", "PID-5.", "PID-5.0", "PID-5.1.2.3", "PID[0]-1", "PID[x]-1", "PID-1 ", "PID-1000"} {
		if p, err := parsePath(in); err == nil || !strings.Contains(err.Error(), strconv.Quote(in)+" is not an HL7 position: ") {
			t.Errorf("%q was taken for %s, %v", in, p, err)
		}
	}
}

// lay lays assignments of the expressions A, B, … out on a sample and shows the
// pieces as text: expressions in braces, conditions in angles.
func lay(t *testing.T, sample string, in format.Instructions) (string, []string) {
	t.Helper()
	target, err := NewTarget("sample.hl7", []byte(sample))
	if err != nil {
		t.Fatal(err)
	}
	layout, findings := target.Layout(in)
	var b strings.Builder
	for _, p := range layout.Record {
		name := string(rune('A' + p.Expression))
		switch p.Kind {
		case format.Literal:
			b.Write(p.Bytes)
		case format.Value:
			b.WriteString("{" + name + "}")
		case format.If:
			b.WriteString("<if " + name + ">")
		case format.Unless:
			b.WriteString("<unless " + name + ">")
		case format.End:
			b.WriteString("<end>")
		case format.Trim:
			b.WriteString("<trim " + string(p.Bytes) + ">")
		}
	}
	var codes []string
	for _, f := range findings {
		codes = append(codes, f.Code+": "+f.Message)
	}
	return strings.ReplaceAll(b.String(), "\r", "⏎"), codes
}

func named(path string) format.Named { return format.Named{Path: path, At: place.InFile("test.map")} }

func set(path string, expression int) format.Assignment {
	return format.Assignment{Named: named(path), Expression: expression}
}

func TestLayout(t *testing.T) {
	short := "MSH|^~\\&|SEALNET||LAB\rPID|1||TAG^^^SCSR\rOBX|1|NM\r"
	keep := []format.Named{named("MSH"), named("PID-1"), named("OBX")}
	tests := []struct {
		name string
		in   format.Instructions
		want string
	}{
		{"constants stay, the last value is trimmed when empty", format.Instructions{Keep: keep, Assign: []format.Assignment{set("PID-3.1", 0), set("PID-8", 1)}, Clear: []format.Named{named("PID-3.4")}},
			`MSH|^~\&|SEALNET||LAB⏎PID|1||{A}|||||{B}<trim |>⏎OBX|1|NM⏎`},
		{"components around a kept one", format.Instructions{Keep: append(keep, named("PID-3.4")), Assign: []format.Assignment{set("PID-3.1", 0)}},
			`MSH|^~\&|SEALNET||LAB⏎PID|1||{A}^^^SCSR⏎OBX|1|NM⏎`},
		{"trailing components", format.Instructions{Keep: keep, Assign: []format.Assignment{set("PID-3.1", 0), set("PID-3.2", 1)}, Clear: []format.Named{named("PID-3.4")}},
			`MSH|^~\&|SEALNET||LAB⏎PID|1||{A}^{B}<trim ^&><trim |>⏎OBX|1|NM⏎`},
		{"repetitions and subcomponents", format.Instructions{Keep: keep, Assign: []format.Assignment{set("PID-3[2].1", 0), set("PID-4.2.2", 1)}, Clear: []format.Named{named("PID-3")}},
			`MSH|^~\&|SEALNET||LAB⏎PID|1||~{A}<trim ~^&>|^&{B}<trim &><trim ^&><trim |>⏎OBX|1|NM⏎`},
		{"a field as a whole replaces the sample's", format.Instructions{Keep: keep, Assign: []format.Assignment{set("PID-3", 0)}},
			`MSH|^~\&|SEALNET||LAB⏎PID|1||{A}<trim |>⏎OBX|1|NM⏎`},
		{"dropped and conditional segments", format.Instructions{Keep: keep[:1], Drop: []format.Conditional{{Named: named("PID"), Condition: -1}, {Named: named("OBX"), Condition: 0}}, Clear: []format.Named{named("OBX")}},
			`MSH|^~\&|SEALNET||LAB⏎<unless A>OBX⏎<end>`},
		{"an added segment stands after its like", format.Instructions{Keep: keep, Clear: []format.Named{named("PID-3")}, Add: []format.Added{{Named: named("OBX"), Condition: 0, Assign: []format.Assignment{set("OBX-1", 1)}}, {Named: named("NTE"), Condition: -1, Assign: []format.Assignment{set("NTE-3", 2)}}}},
			`MSH|^~\&|SEALNET||LAB⏎PID|1⏎OBX|1|NM⏎<if A>OBX|{B}<trim |>⏎<end>NTE|||{C}<trim |>⏎`},
	}
	for _, test := range tests {
		got, codes := lay(t, short, test.in)
		if got != test.want || codes != nil {
			t.Errorf("%s:\n got %s\nwant %s\n%v", test.name, got, test.want, codes)
		}
	}
}

func TestLayoutRefuses(t *testing.T) {
	short := "MSH|^~\\&|SEALNET\rPID|1||TAG\r"
	tests := []struct {
		name string
		in   format.Instructions
		says string
	}{
		{"a sample value that nobody declared", format.Instructions{Keep: []format.Named{named("MSH"), named("PID-1")}}, `map.sample-value: the sample's value "TAG" at PID-3 would go into every message`},
		{"a position twice", format.Instructions{Keep: []format.Named{named("MSH"), named("PID-1")}, Assign: []format.Assignment{set("PID-3", 0), set("PID-3", 1)}}, "map.twice: PID-3 is assigned twice"},
		{"a part of what is assigned", format.Instructions{Keep: []format.Named{named("MSH"), named("PID-1")}, Assign: []format.Assignment{set("PID-3", 0), set("PID-3.1", 1)}}, "map.twice: PID-3.1 lies within"},
		{"a segment that is not there", format.Instructions{Keep: []format.Named{named("MSH"), named("PID")}, Assign: []format.Assignment{set("OBX-1", 0)}}, "map.segment-unknown: the sample sample.hl7 has no segment OBX; it has MSH PID"},
		{"keeping nothing", format.Instructions{Keep: []format.Named{named("MSH"), named("PID"), named("PID-9")}}, "map.nothing-there"},
		{"adding MSH", format.Instructions{Keep: []format.Named{named("MSH"), named("PID")}, Add: []format.Added{{Named: named("MSH"), Condition: -1}}}, "map.segment"},
	}
	for _, test := range tests {
		_, codes := lay(t, short, test.in)
		if !strings.Contains(strings.Join(codes, "\n"), test.says) {
			t.Errorf("%s: %q does not say %q", test.name, codes, test.says)
		}
	}
}

func TestEndAsSample(t *testing.T) {
	for sample, want := range map[string]string{"MSH|^~\\&|A\rPID|1\r": "\r", "MSH|^~\\&|A\nPID|1\n": "\n", "MSH|^~\\&|A\r\nPID|1\r\n": "\r\n", "MSH|^~\\&|A": "\r"} {
		target, err := NewTarget("x", []byte(sample))
		if err != nil {
			t.Fatal(err)
		}
		if target.end != "\r" {
			t.Errorf("%q: the standard's end is %q", sample, target.end)
		}
		if target.EndAsSample(); target.end != want {
			t.Errorf("%q ends with %q, want %q", sample, target.end, want)
		}
	}
}
