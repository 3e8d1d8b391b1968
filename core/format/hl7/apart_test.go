package hl7

import (
	"fmt"
	"slices"
	"strings"
	"testing"
)

// TestNothingIsSwallowed: what is not a message is not taken for a part of the one before it, what
// is one is not lost, and what has no place in a file of messages is said, whatever the size of
// batches.
func TestNothingIsSwallowed(t *testing.T) {
	m := func(n int) string {
		return fmt.Sprintf("MSH|^~\\&|LAB||||2026||ORU^R01|M%d|P|2.5.1\rPID|1||A%d\rOBR|1\rOBX|1|ST|X||v%d||||||F\r", n, n, n)
	}
	vt, fs := "\x0b", "\x1c"
	strange := strings.ReplaceAll(m(1), "|", "#")
	for name, test := range map[string]struct{ file, want string }{
		"blank before MSH":         {m(1) + " " + m(2) + "\t \t" + m(3), "M1 v1; M2 v2; M3 v3"},
		"blank lines":              {m(1) + "\r \r\n" + m(2), "M1 v1; M2 v2"},
		"MSH within a value":       {strings.Replace(m(1), "v1", "see MSH|1", 1) + m(2), "M1 see MSH; M2 v2"},
		"text behind":              {m(1) + "some text\r" + m(2), "M1 v1 hl7.segment; M2 v2"},
		"blocks":                   {vt + m(1) + fs + "\r" + vt + m(2) + fs + "\r", "M1 v1; M2 v2"},
		"blocks without last CR":   {vt + strings.TrimSuffix(m(1), "\r") + fs + vt + strings.TrimSuffix(m(2), "\r") + fs, "M1 v1; M2 v2"},
		"a block without MSH":      {vt + m(1) + fs + "\r" + vt + "PID|1||LOST\r" + fs + "\r" + vt + m(2) + fs + "\r", "M1 v1; - - hl7.separators; M2 v2"},
		"behind a block":           {vt + m(1) + fs + "\rPID|1||LOST\r" + vt + m(2) + fs + "\r", "M1 v1 hl7.block; M2 v2"},
		"a message in no block":    {vt + m(1) + fs + "\r" + m(3) + vt + m(2) + fs + "\r", "M1 v1; M3 v3 hl7.block; M2 v2"},
		"a block within a block":   {vt + m(1) + vt + m(2) + fs + "\r", "M1 v1 hl7.block; M2 v2"},
		"an empty block":           {vt + m(1) + fs + "\r" + vt + fs + "\r" + vt + m(2) + fs + "\r", "M1 v1; M2 v2"},
		"a block that never ends":  {vt + m(1) + fs + "\r" + vt + m(2), "M1 v1; M2 v2 hl7.block"},
		"NUL":                      {strings.Replace(m(1), "v1", "v\x001", 1) + m(2), "M1 v\x001 hl7.control!; M2 v2"},
		"a lost character":         {m(1) + strings.Replace(m(2), "v2", "caf\x1a", 1), "M1 v1; M2 caf\x1a hl7.control!"},
		"a control character":      {strings.Replace(m(1), "v1", "v\x071", 1) + m(2), "M1 v\x071 hl7.control; M2 v2"},
		"DEL":                      {strings.Replace(m(1), "v1", "v\x7f1", 1), "M1 v\x7f1 hl7.control"},
		"a tab":                    {strings.Replace(m(1), "v1", "v\t1", 1), "M1 v\t1"},
		"FS in no block":           {strings.Replace(m(1), "v1", "v\x1c1", 1), "M1 v\x1c1 hl7.control"},
		"a segment behind LF":      {strings.Replace(m(1), "\rOBR", "\nOBR", 1) + m(2), "M1 v1 hl7.line-end!; M2 v2"},
		"a segment, a blank, LF":   {strings.Replace(m(1), "\rOBR", "\n \tOBR", 1) + m(2), "M1 v1 hl7.line-end!; M2 v2"},
		"a segment behind CR":      {strings.NewReplacer("\rOBR", "\rOBR", "\r", "\n").Replace(m(1)) + m(2), "M1 v1 hl7.line-end!; M2 v2"},
		"LF in a value":            {strings.Replace(m(1), "v1", "v\n1", 1) + m(2), "M1 v\n1 hl7.line-end; M2 v2"},
		"CR in a value":            {strings.Replace(strings.ReplaceAll(m(1), "\r", "\n"), "v1", "v\r1", 1), "M1 v\r1 hl7.line-end"},
		"CRLF among CR":            {strings.Replace(m(1), "\rOBX", "\r\nOBX", 1) + m(2), "M1 v1; M2 v2"},
		"CRLF among LF":            {strings.Replace(strings.ReplaceAll(m(1), "\r", "\n"), "||||||F\n", "\r\n", 1) + m(2), "M1 v1; M2 v2"},
		"LFCR among CR":            {strings.Replace(m(1), "||||||F\r", "\n\r", 1) + m(2), "M1 v1; M2 v2"},
		"batch":                    {"FHS|^~\\&|A\rBHS|^~\\&|A\r" + m(1) + m(2) + "BTS|2\rFTS|1\r", "M1 v1; M2 v2"},
		"other separators":         {"FHS|^~\\&|A\rBHS|^~\\&|A\r" + strange + m(2) + "BTS|2\rFTS|1\r", "M1 v1; M2 v2"},
		"other separators, wrong":  {"BHS|^~\\&|A\r" + strange + "BTS|2\r", "M1 v1 / hl7.count"},
		"batch of no messages":     {"BHS|^~\\&|A\rBTS|0\rBHS|^~\\&|A\r" + m(1) + "BTS|1\r", "M1 v1"},
		"several files":            {"FHS|^~\\&|A\rBHS|^~\\&|A\r" + m(1) + "BTS|1\rFTS|1\rFHS|^~\\&|A\rBHS|^~\\&|A\r" + m(2) + "BTS|1\rFTS|1\r", "M1 v1; M2 v2"},
		"FHS without BHS":          {"FHS|^~\\&|A\r" + m(1) + m(2) + "FTS|1\r", "M1 v1; M2 v2"},
		"FHS without BHS, wrong":   {"FHS|^~\\&|A\r" + m(1) + m(2) + "FTS|2\r", "M1 v1; M2 v2 / hl7.count"},
		"BTS without BHS":          {"FHS|^~\\&|A\r" + m(1) + "BTS|1\rFTS|1\r", "M1 v1 / hl7.batch"},
		"FTS without FHS":          {"BHS|^~\\&|A\r" + m(1) + "BTS|1\rFTS|1\r", "M1 v1 / hl7.batch"},
		"BHS within a batch":       {"BHS|^~\\&|A\r" + m(1) + "BHS|^~\\&|A\r" + m(2) + "BTS|1\r", "M1 v1; M2 v2 / hl7.batch"},
		"FHS within a file":        {"FHS|^~\\&|A\r" + m(1) + "FHS|^~\\&|A\r" + m(2) + "FTS|1\r", "M1 v1; M2 v2 / hl7.batch"},
		"trailer without a head":   {m(1) + m(2) + "BTS|2\r", "M1 v1; M2 v2 hl7.batch"},
		"segments between batches": {"BHS|^~\\&|A\r" + m(1) + "BTS|1\rPID|1||LOST\rOBX|1\rBHS|^~\\&|A\r" + m(2) + "BTS|1\r", "M1 v1; - - hl7.separators; M2 v2"},
		"segments behind all":      {"BHS|^~\\&|A\r" + m(1) + "BTS|1\rPID|1||LOST\r", "M1 v1; - - hl7.separators"},
		"a batch that never ends":  {"BHS|^~\\&|A\r" + m(1), "M1 v1 / hl7.unfinished"},
	} {
		for _, unit := range []string{"", "OBX"} {
			for size := range 4 {
				records, whole := read(t, test.file, unit, 64<<(size*2), "MSH-10", "OBX-5")
				var got []string
				for _, r := range records {
					one := strings.Join(r.values, " ")
					for _, f := range r.found {
						parts := strings.Fields(f)
						one += " " + parts[1]
						if (parts[1] == "hl7.control" || parts[1] == "hl7.line-end") && parts[0] == "error" {
							one += "!"
						}
					}
					got = append(got, one)
				}
				all := strings.Join(got, "; ")
				for _, f := range whole {
					all += " / " + strings.TrimSuffix(strings.Fields(f)[0], ":")
				}
				if all != test.want {
					t.Errorf("%s, unit %q, size %d:\n%q, not\n%q", name, unit, size, all, test.want)
				}
			}
		}
	}
}

// TestBytesOfSequences: what a hexadecimal sequence names is a byte of the message's character
// set (HL7 v2 chapter 2, 2.7.6), whether other bytes of the message are beyond ASCII or not.
func TestBytesOfSequences(t *testing.T) {
	for _, test := range []struct{ charset, written, want string }{
		{"8859/1", `\XB5\g`, "µg"}, {"8859/1", "caf\xe9 " + `\XB5\g`, "café µg"}, {"8859/15", `\XA4\`, "€"},
		{"UNICODE UTF-8", `\XC2B5\g`, "µg"}, {"UNICODE UTF-8", `\XB5\g`, `\XB5\g`}, {"", `\XB5\g`, `\XB5\g`}, {"", `\X41\`, "A"},
		{"8859/1", `a\X0D0A\b`, "a\r\nb"}, {"8859/1", `\X00\`, `\X00\`}, {"8859/1", `\X1A\`, `\X1A\`},
	} {
		file := "MSH|^~\\&|LAB||||2026||ORU^R01|M|P|2.5.1||||||" + test.charset + "\rOBX|1|ST|X||" + test.written + "||||||F\r"
		records, wrong := read(t, file, "", 1<<10, "OBX-5")
		if len(records) != 1 || len(wrong) > 0 || records[0].values[0] != test.want {
			t.Errorf("%+v: %+v %v", test, records, wrong)
		}
	}
}

// TestUnitAlone: a unit takes with it what it stands under and what belongs to it, and nothing of
// its siblings; read by itself it is the same record.
func TestUnitAlone(t *testing.T) {
	msh := func(kind, version string) string { return "MSH|^~\\&|LAB||||2026||" + kind + "|M|P|" + version + "\r" }
	lines := strings.NewReplacer("\n", "\r", "\t", "")
	body := lines.Replace(`PID|1||A
	NTE|1||of the patient
	PV1|1|I
	ORC|RE|O1
	OBR|1|O1||CBC
	NTE|1||of the order
	OBX|1|NM|WBC||7
	NTE|1||of WBC
	NTE|2||more of WBC
	OBX|2|NM|HGB||14
	OBX|3|NM|PLT||250
	NTE|1||of PLT
	ZPR|1|of PLT, too
	ORC|RE|O2
	OBR|2|O2||LYTES
	OBX|1|NM|NA||140
	PID|2||B
	OBR|3|O3||CBC
	OBX|1|NM|WBC||9
	NTE|1||of B
	`)
	paths := []string{"PID-3", "PID-1", "OBR-2", "OBX-3", "OBX-5", "NTE-3", "NTE[2]-3", "PV1-2", "ORC-2"}
	for kind, want := range map[string][]string{
		msh("ORU^R01^ORU_R01", "2.5.1"): {
			"PID|1||A NTE|1||of the patient PV1|1|I ORC|RE|O1 OBR|1|O1||CBC NTE|1||of the order OBX|1|NM|WBC||7 NTE|1||of WBC NTE|2||more of WBC",
			"PID|1||A NTE|1||of the patient PV1|1|I ORC|RE|O1 OBR|1|O1||CBC NTE|1||of the order OBX|2|NM|HGB||14",
			"PID|1||A NTE|1||of the patient PV1|1|I ORC|RE|O1 OBR|1|O1||CBC NTE|1||of the order OBX|3|NM|PLT||250 NTE|1||of PLT ZPR|1|of PLT, too",
			"PID|1||A NTE|1||of the patient PV1|1|I ORC|RE|O2 OBR|2|O2||LYTES OBX|1|NM|NA||140",
			"PID|2||B OBR|3|O3||CBC OBX|1|NM|WBC||9 NTE|1||of B",
		},
		msh("ZZZ^Z01", "2.5.1"): {
			"PID|1||A NTE|1||of the patient PV1|1|I ORC|RE|O1 OBR|1|O1||CBC NTE|1||of the order OBX|1|NM|WBC||7 NTE|1||of WBC NTE|2||more of WBC",
			"PID|1||A NTE|1||of the patient PV1|1|I ORC|RE|O1 OBR|1|O1||CBC NTE|1||of the order OBX|2|NM|HGB||14",
			"PID|1||A NTE|1||of the patient PV1|1|I ORC|RE|O1 OBR|1|O1||CBC NTE|1||of the order OBX|3|NM|PLT||250 NTE|1||of PLT",
		},
	} {
		for _, ends := range []string{"\r", "\r\n", "\n"} {
			records, _ := read(t, strings.ReplaceAll(kind+body, "\r", ends), "OBX", 1<<12, paths...)
			if len(records) != 5 {
				t.Fatalf("%d records", len(records))
			}
			for i, r := range records {
				got := strings.TrimSpace(strings.ReplaceAll(strings.TrimPrefix(strings.ReplaceAll(r.raw, ends, "\r"), kind), "\r", " "))
				if i < len(want) && got != want[i] {
					t.Errorf("%s%q, unit %d:\n%s\nnot\n%s", kind, ends, i+1, got, want[i])
				}
				again, wrong := read(t, r.raw, "OBX", 1<<12, paths...)
				if len(again) != 1 || len(wrong) > 0 || !slices.Equal(again[0].values, r.values) {
					t.Errorf("%s%q, unit %d alone is %+v, not %q %v", kind, ends, i+1, again, r.values, wrong)
				}
			}
		}
	}
}

// TestContextOfObservations: an observation has the order that stands above it, and a specimen's own
// has none, in versions that are described and in those that are not.
func TestContextOfObservations(t *testing.T) {
	lines := strings.NewReplacer("\n", "\r", "\t", "")
	for kind, test := range map[string]struct{ body, want string }{
		"OUL^R22^OUL_R22": {`PID|1||A
	SPM|1|S1
	OBX|1|ST|OF S1||x1
	SAC|C1
	OBR|1|O1||T1
	ORC|RE|C1
	OBX|1|ST|R1||1
	NTE|1||of R1
	OBR|2|O2||T2
	OBX|1|ST|R2||2
	SPM|2|S2
	OBX|1|ST|OF S2||x2
	OBX|2|ST|OF S2, too||x3
	OBR|3|O3||T3
	ORC|RE|C3
	OBX|1|ST|R3||3
	`, "S1 - - OF S1 -, S1 O1 C1 R1 of R1, S1 O2 - R2 -, S2 - - OF S2 -, S2 - - OF S2, too -, S2 O3 C3 R3 -"},
		"OML^O33^OML_O33": {`PID|1||A
	SPM|1|S1
	OBX|1|ST|OF S1||x1
	ORC|NW|C1
	OBR|1|O1||T1
	OBX|1|ST|R1||1
	NTE|1||of R1
	ORC|NW|C2
	OBR|2|O2||T2
	OBX|1|ST|R2||2
	SPM|2|S2
	ORC|NW|C3
	OBR|3|O3||T3
	OBX|1|ST|R3||3
	`, "S1 - - OF S1 -, S1 O1 C1 R1 of R1, S1 O2 C2 R2 -, S2 O3 C3 R3 -"},
		"ORU^R01^ORU_R01": {`PID|1||A
	ORC|RE|C1
	OBR|1|O1||T1
	OBX|1|ST|R1||1
	NTE|1||of R1
	OBR|2|O2||T2
	NTE|1||of the order
	OBX|1|ST|R2||2
	`, "- O1 C1 R1 of R1, - O2 - R2 -"},
	} {
		for _, version := range []string{"2.5.1", "2.8", "2.9"} {
			records, _ := read(t, "MSH|^~\\&|LAB||||2026||"+kind+"|M|P|"+version+"\r"+lines.Replace(test.body), "OBX", 1<<12, "SPM-2", "OBR-2", "ORC-2", "OBX-3", "NTE-3")
			var got []string
			for _, r := range records {
				got = append(got, strings.Join(r.values, " "))
			}
			if all := strings.Join(got, ", "); all != test.want {
				t.Errorf("%s %s:\n%s, not\n%s", version, kind, all, test.want)
			}
		}
	}
}

// TestChosenByValue: a segment is found by the code that one of its fields has, a repetition by one
// of its components, wherever they stand; what no segment has is missing, and counting counts what is chosen.
func TestChosenByValue(t *testing.T) {
	lab := "MSH|^~\\&|LAB||||2026||ORU^R01|M1|P|2.5.1\rPID|1||7^^^A^PI~8^^^B&1.2&ISO^MR~9^^^C^\"\"||Doe\r" +
		"OBR|1\rOBX|1|NM|HGB^Hb||71|g/L\rOBX|2|NM|WBC^Leu~OTHER||4.5\rNTE|1||of WBC\rOBX|3|NM|WBC||4.6\r" +
		"OBR|2\rOBX|1|NM|CRP||3\rOBX|2|NM|WBC&X^Leu||0.5\r"
	old := strings.Replace(lab, "|2.5.1", "|9.9", 1) // a version that nobody describes
	strange := strings.NewReplacer("|", "#", "^", "|", "~", "!", "&", "%").Replace(lab)
	values := []string{"OBX(3=WBC)-5", "OBX(3=WBC)[2]-5", "OBX(3=HGB)-3.2", "OBX(3=LEU)-5", "OBX-5", "PID-3[5=MR].1", "PID-3[5=PI]", "PID-3[5=MR].4.2", "PID-3[1=9].4", "PID-3[5=SS].1", "OBX(2=NM)[3]-5", "PID-3[4=A].5"}
	for name, test := range map[string]struct {
		file, unit string
		want       []string
	}{
		"message":     {lab, "", []string{"4.5 4.6 Hb - 71 8 7 1.2 C - 4.6 PI"}},
		"undescribed": {old, "", []string{"4.5 4.6 Hb - 71 8 7 1.2 C - 4.6 PI"}},
		"separators":  {strange, "", []string{"4.5 4.6 Hb - 71 8 7 1.2 C - 4.6 PI"}},
		"orders":      {lab, "OBR", []string{"4.5 4.6 Hb - 71 8 7 1.2 C - 4.6 PI", "0.5 - - - 3 8 7 1.2 C - - PI"}},
		"observations": {lab, "OBX", []string{"- - Hb - 71 8 7 1.2 C - - PI", "4.5 - - - 4.5 8 7 1.2 C - - PI", "4.6 - - - 4.6 8 7 1.2 C - - PI",
			"- - - - 3 8 7 1.2 C - - PI", "0.5 - - - 0.5 8 7 1.2 C - - PI"}},
	} {
		for size := range 4 {
			records, _ := read(t, test.file, test.unit, 64<<(size*2), values...)
			var got []string
			for _, r := range records {
				got = append(got, strings.Join(r.values, " "))
			}
			if !slices.Equal(got, test.want) {
				t.Errorf("%s, size %d:\n%q, not\n%q", name, size, got, test.want)
			}
		}
	}
	for _, path := range values {
		if p, err := parsePath(path); err != nil || p.String() != path {
			t.Errorf("%s: %s, %v", path, p, err)
		}
	}
	for _, path := range []string{"OBX(3=)-5", "OBX(0=X)-5", "OBX(X)-5", "OBX(3=WBC", "PID-3[5=].1", "PID-3[0=MR].1", "PID-3[=MR].1", "PID-3[5=MR", "PID-3[5=MR][2].1"} {
		if p, err := parsePath(path); err == nil {
			t.Errorf("%s is taken for %s", path, p)
		}
	}
}

// TestLoops: a note is that of its order or of its observation, as it is asked for; what belongs to an
// order is found by it.
func TestLoops(t *testing.T) {
	lab := "MSH|^~\\&|LAB||||2026||ORU^R01|M1|P|2.5.1\rPID|1||7\rNTE|1||of the patient\rOBR|1||S1\rNTE|1||of the order\rOBX|1|NM|HGB||71\rNTE|1||of HGB\rOBX|2|NM|WBC||4.5\rNTE|1||of WBC\rNTE|2||by hand\r" +
		"OBR|2||S2\rOBX|1|NM|CRP||3\r"
	paths := []string{"OBR/NTE-3", "OBX(3=WBC)/NTE-3", "OBX(3=WBC)/NTE[2]-3", "PID/NTE-3", "OBX/NTE-3", "OBR/OBX(3=CRP)-5"}
	for name, test := range map[string]struct {
		file, unit string
		want       []string
	}{
		"message":                   {lab, "", []string{"of the order/of WBC/by hand/of the patient/of HGB/-"}},
		"undescribed":               {strings.Replace(lab, "|2.5.1", "|9.9", 1), "", []string{"of the order/of WBC/by hand/of the patient/of HGB/-"}},
		"observations":              {lab, "OBX", []string{"of the order/-/-/of the patient/of HGB/-", "of the order/of WBC/by hand/of the patient/of WBC/-", "-/-/-/of the patient/-/3"}},
		"orders":                    {lab, "OBR", []string{"of the order/of WBC/by hand/of the patient/of HGB/-", "-/-/-/of the patient/-/3"}},
		"observations, undescribed": {strings.Replace(lab, "|2.5.1", "|9.9", 1), "OBX", []string{"of the order/-/-/of the patient/of HGB/-", "of the order/of WBC/by hand/of the patient/of WBC/-", "-/-/-/of the patient/-/3"}},
	} {
		for size := range 3 {
			records, _ := read(t, test.file, test.unit, 64<<(size*3), paths...)
			var got []string
			for _, r := range records {
				got = append(got, strings.Join(r.values, "/"))
			}
			if !slices.Equal(got, test.want) {
				t.Errorf("%s, size %d:\n%q, not\n%q", name, size, got, test.want)
			}
		}
	}
}

// TestMoreThanAreTaken: what a map takes by number is told if there is more of it, once a record, at the
// first that goes nowhere; what is taken as the first of several, or by a value, is not.
func TestMoreThanAreTaken(t *testing.T) {
	lab := "MSH|^~\\&|LAB||||2026||ORU^R01|M1|P|2.5.1\rPID|1||7\rOBR|1||S1\rOBX|1|NM|A||1\rOBX|2|NM|B||2\rOBX|3|NM|C||3\rNTE|1||x\rNTE|2||y\rOBX|4|NM|A||4\r"
	for name, test := range map[string]struct {
		unit string
		path []string
		want string
	}{
		"all are taken":    {"", []string{"OBX[1]-5", "OBX[2]-5", "OBX[3]-5", "OBX[4]-5"}, ""},
		"two are taken":    {"", []string{"OBX[2]-5", "OBX[1]-3"}, "warning hl7.beyond at 6:1 +88 OBX[2]-5"},
		"the first is":     {"", []string{"OBX-5", "OBX(3=A)-5"}, ""},
		"one of a kind is": {"", []string{"OBX(3=A)-5", "OBX(3=A)[2]-5"}, ""},
		"notes of a unit":  {"OBX", []string{"NTE-3", "NTE[1]-3"}, ""},
	} {
		records, _ := read(t, lab, test.unit, 1000, test.path...)
		var got []string
		for _, r := range records {
			got = append(got, r.found...)
		}
		if strings.Join(got, "; ") != test.want {
			t.Errorf("%s: %q, not %q", name, got, test.want)
		}
	}
	more := strings.Replace(lab, "NTE|2||y\r", "NTE|2||y\rNTE|3||z\r", 1)
	records, _ := read(t, more, "OBX", 1000, "NTE[2]-3")
	if len(records) != 4 || len(records[2].found) != 1 || !strings.Contains(records[2].found[0], "hl7.beyond") || len(records[0].found)+len(records[1].found)+len(records[3].found) > 0 {
		t.Errorf("%+v", records)
	}
}
