package lang

import (
	"strings"
	"testing"

	"ydrion/core/batch"
	"ydrion/core/format/hl7"
	"ydrion/core/shape"
	"ydrion/core/value"
)

// FuzzWrittenIsReadBack writes whatever a file may hold into all kinds of
// positions, and reads the message back: every position must hold what was put
// there, and nothing else may have come into being.
func FuzzWrittenIsReadBack(f *testing.F) {
	f.Add("plain", "with | bar", "a^b&c~d\\e", "two\r\nlines")
	f.Add("", "", "", "x")
	f.Add("x", "", "", "")
	f.Add("\\F\\", "\\", "|||", "^~\\&")
	positions := []string{"PID-3.1", "PID-3.4", "PID-5[2].1", "OBX[2]-5", "PID-11.1.2", "NTE-3", "MSH-10"}
	source := "map m\nsource csv s\ntarget hl7 based on t\nkeep MSH-3, PID-1, OBX[1]\nclear MSH-9, OBX[2]-9\n"
	record := shape.Record{}
	for i, p := range positions {
		name := string(rune('a' + i%4))
		if i < 4 {
			record = append(record, shape.Field{Name: name, Kind: value.Text})
		}
		source += p + " = " + name + "\n"
	}
	target, err := hl7.NewTarget("t", []byte("MSH|^~\\&|A||||||ACK\rPID|1\rOBX|1\rOBX|2||||||||x\rNTE|\r"))
	if err != nil {
		f.Fatal(err)
	}
	m, findings := Parse("m", source)
	if findings.HasErrors() {
		f.Fatal(findings)
	}
	// The sample's OBX[2]-1 is not declared: that must be said.
	if _, findings = Build(m, "m", source, target, Scope{Fields: record}); !strings.Contains(findings.Error(), `the sample's value "2" at OBX[2]-1`) {
		f.Fatal(findings)
	}
	source = strings.Replace(source, "keep MSH-3", "keep OBX[2]-1, MSH-3", 1)
	if m, findings = Parse("m", source); findings.HasErrors() {
		f.Fatal(findings)
	}
	program, findings := Build(m, "m", source, target, Scope{Fields: record})
	if len(findings) > 0 {
		f.Fatal(findings)
	}
	f.Fuzz(func(t *testing.T, a, b, c, d string) {
		values := []string{a, b, c, d}
		for _, v := range values {
			if v == "-" || strings.ContainsAny(v, "\x00\x1a") || v == `""` { // absent, in batchOf; what HL7 cannot say
				return
			}
		}
		out, o := program.Run(&Env{}, batchOf(values), 0, nil)
		if o.What != batch.Good {
			t.Fatalf("%q became nothing: %s", values, o.Reason)
		}
		message, err := hl7.Parse(out)
		if err != nil {
			t.Fatalf("%q became %q: %v", values, out, err)
		}
		want := map[string]string{"MSH-3": "A", "PID-1": "1", "OBX-1": "1", "OBX[2]-1": "2"}
		for i, p := range positions {
			want[p] = strings.ReplaceAll(strings.ReplaceAll(values[i%4], "\r\n", "\n"), "\r", "\n")
		}
		for p, w := range want {
			if got, _ := message.Get(p); got != w {
				t.Errorf("%s holds %q, want %q, in %q", p, got, w, out)
			}
		}
		if len(message.Segments) != 5 {
			t.Errorf("%d segments in %q", len(message.Segments), out)
		}
		for _, line := range hl7.Show(out) {
			if _, ok := want[line.Path]; !ok && line.Path != "PID-3" && line.Path != "PID-5[2]" {
				t.Errorf("%s holds %q, which nobody put there, in %q", line.Path, line.Value, out)
			}
		}
		for _, end := range []string{"|\r", "^\r", "&\r", "^|", "&|", "~|"} {
			if i := strings.Index(string(out), end); i > 8 {
				t.Errorf("separators that nobody needs before %q in %q", end, out)
			}
		}
	})
}
