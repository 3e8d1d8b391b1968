package route

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"ydrion/core/flow"
	"ydrion/workspace"
)

// making is a workspace with a route that makes messages of CSV by a map: its lines behind the heading, the sample that it is based on, the
// fields of the source. Deliver and read are more lines of those blocks, files more files.
func making(target, sample, lines, fields, read, deliver string, files map[string]string) *workspace.Workspace {
	all := map[string][]byte{
		"routes/r.yaml": []byte("route: r\nlisten:\n  folder: \"{in}\"\n  names: \"*\"\nread:\n  format: csv\n" + read + "check:\n  schema: schemas/s.json\nmap: maps/m.map\ndeliver:\n  folder: \"{out}\"\n  name: \"{file.name}-{record}\"\n" + deliver + "rejected:\n  folder: \"{out}/rejected\"\n"),
		"maps/m.map":    []byte("map m\nsource csv schemas/s.json\ntarget " + target + " based on samples/s\n\n" + lines), "samples/s": []byte(sample),
		"schemas/s.json":         []byte(`{"fields":[` + fields + `]}`),
		"environments/test.yaml": []byte("environment: test\nplaces:\n  in: in\n  out: out\n"),
	}
	for name, content := range files {
		all[name] = []byte(content)
	}
	return workspace.FromFiles(all)
}

// TestDrafts: what a map makes is validated against its description before anything runs: what it says itself, what it leaves out, and what is
// wrong with the sample and stays so; not what only a record can tell.
func TestDrafts(t *testing.T) {
	const (
		purchase = "ISA*00*          *00*          *ZZ*SKERRY         *ZZ*LABSUPPLY      *261125*0930*^*00501*000000007*0*T*>~GS*PO*SKERRY*LAB*20261125*0930*7*X*005010~ST*850*0001~BEG*00*SA*A**20261125~PO1*1*3*EA***VP*a~CTT*1~SE*5*0001~GE*1*7~IEA*1*000000007~"
		kept     = "keep ISA, GS, ST-1, BEG-1, BEG-5, PO1-1, PO1-2, PO1-6, CTT\nST-2 = \"0001\"\n"
		result   = "MSH|^~\\&|A|B|C|D|20261125||ORU^R01^ORU_R01|1|P|2.5.1\rPID|1||T||Pup\rOBR|1|A||\rOBX|1|NM|W||3||||||Q\r"
		orders   = "UNB+UNOC:3+SKERRY:14+HOLM:14+261125:0930+7'UNH+1+ORDERS:D:96A:UN'BGM+220+A+9'DTM+137:20261125:102'NAD+BY+1::9'LIN+1++a:SA'QTY+21:3:PCE'UNS+S'UNT+8+1'UNZ+1+7'"
		sent     = "keep UNB, UNH, BGM-1, BGM-3, DTM-1.1, DTM-1.3, NAD-1, NAD-2.3, LIN-1, LIN-3.2, QTY-1.1, QTY-1.3, UNS\nBGM-2 = a\nDTM-1.2 = c | format \"yyyyMMdd\"\nNAD-2.1 = a\n"
	)
	for name, test := range map[string]struct {
		target, sample, lines string
		want                  []string
	}{
		"all is right":         {"x12", purchase, kept + "keep BEG-2\nBEG-3 = a\nPO1-3 = \"EA\"\nPO1-7 = a", nil},
		"constants":            {"x12", purchase, kept + "keep BEG-2\nBEG-3 = \"0123456789012345678901234\"\nPO1-3 = \"EACHES\"\nPO1-7 = a", []string{"maps/m.map:8:1: warning: BEG-3 of what is made: Order number has 25 characters, and at most 22 are allowed", "maps/m.map:9:1: warning: PO1-3 of what is made: Unit has 6 characters"}},
		"nothing fills it":     {"x12", purchase, kept + "clear BEG-2\nBEG-3 = a\nPO1-3 = \"EA\"\nPO1-7 = a", []string{"maps/m.map:7:7: warning: BEG-2 of what is made: Order type is required, and empty"}},
		"only a record tells":  {"x12", purchase, kept + "keep BEG-2\nBEG-3 = a\nPO1-3 = a\nPO1-7 = \"x{a}\"", nil},
		"in a block":           {"x12", purchase, kept + "keep BEG-2\nBEG-3 = a\nPO1-7 = a\nwhen a = \"x\"\n  PO1-3 = \"EA\"\nend", nil},
		"of the sample":        {"hl7", result, "keep MSH, PID-1, PID-5, OBR-1, OBX-1, OBX-2, OBX-11\nPID-3 = a\nOBR-2 = a\nOBX-3 = a\nOBX-5 = b", []string{"samples/s:3:10 OBR-4: warning: Universal Service Identifier is required, and empty", "samples/s:4:20 OBX-11: warning: Observation Result Status: \"Q\" is not among the codes"}},
		"the map mends it":     {"hl7", result, "keep MSH, PID-1, PID-5, OBR-1, OBX-1, OBX-2\nPID-3 = a\nOBR-2 = a\nOBR-4 = a\nOBX-3 = a\nOBX-5 = b\nOBX-11 = \"F\"", nil},
		"of another type":      {"hl7", result, "keep MSH, PID-1, PID-5, OBR-1, OBX-1, OBX-2\nPID-3 = a\nOBR-2 = a\nOBR-4 = a\nOBX-3 = a\nOBX-5 = \"high\"\nOBX-11 = \"F\"", []string{"maps/m.map:10:1: warning: OBX-5 of what is made: Observation Value is not a value of type NM"}},
		"of its lines":         {"edifact", orders, sent + "LIN-3.1 = a\nQTY-1.2 = b", nil},
		"a constant of a line": {"edifact", orders, sent + "LIN-3.1 = a\nQTY-1.2 = \"many\"", []string{"maps/m.map:10:1: warning: QTY-1.2 of what is made: Quantity"}},
	} {
		t.Run(name, func(t *testing.T) {
			c, findings := Compile(making(test.target, test.sample, test.lines+"\nignore a, b, c\n", `{"name":"a"},{"name":"b","type":"number"},{"name":"c","type":"date"}`, "", "", nil), "r")
			if c == nil || len(findings) != len(test.want) {
				t.Fatalf("%v\nnot %q", findings, test.want)
			}
			for i, f := range findings {
				if !strings.Contains(f.String(), test.want[i]) {
					t.Errorf("%s\nnot\n%s", f, test.want[i])
				}
			}
		})
	}
}

// TestFractions: a number that may have decimals, where none can stand, is told of before anything runs, whatever it is made of; one that is whole, and
// one where decimals may stand, are not.
func TestFractions(t *testing.T) {
	const (
		invoice = "ISA*00*          *00*          *ZZ*HOLM           *ZZ*SKERRY         *261127*0930*U*00401*000000007*0*T*>~GS*IN*HOLM*SKERRY*20261127*0930*7*X*004010~ST*810*0001~BIG*20261127*A~IT1*1*48*EA*1.15~TDS*5520~CTT*1~SE*6*0001~GE*1*7~IEA*1*000000007~"
		kept    = "keep ISA, GS, ST, BIG, IT1-1, IT1-3, CTT\nIT1-2 = b\nIT1-4 = b\nTDS-1 = "
		result  = "MSH|^~\\&|A|B|C|D|20261125||ORU^R01^ORU_R01|1|P|2.5.1\rPID|1||T||Pup\rOBR|1|A||C\rOBX|1|NM|W||3||||||F\r"
		toORU   = "keep MSH, PID, OBR, OBX-2, OBX-3, OBX-11\nOBX-5 = b\nOBX-1 = "
	)
	warned := func(target, sample, lines, value string) string {
		c, findings := Compile(making(target, sample, lines+value+"\nignore a, b, n\n", `{"name":"a"},{"name":"b","type":"number"},{"name":"n","type":"integer"}`, "", "", nil), "r")
		if c == nil || len(findings) > 1 {
			t.Fatal(value, findings)
		}
		if len(findings) == 0 {
			return ""
		}
		return findings[0].String()
	}
	for value, may := range map[string]bool{
		"b": true, "n": false, "b * 100": true, "b * 100 | round 0": false, "b | round 1": true, "n * 2 + 1": false, "n * 0.5": true, "n / 2": true, "n | abs": false, "b | abs": true,
		"a | number": true, "a | number | round 0": false, "sequence": false, "record": false, "a | length": false, "(a | number) | max n | round 0": false, "n | max b": true, "n | min 3": false,
		"b if empty 0": true, "n if empty 0": false, "n if empty 0.5": true, "n when a = \"x\", b when a = \"y\", otherwise 3": true, "n when a = \"x\", otherwise 3": false, "a": false,
	} {
		for _, said := range []string{warned("x12", invoice, kept, value), warned("hl7", result, toORU, value)} {
			if said != "" != may || may && !strings.Contains(said, "of what is made: ") {
				t.Errorf("%s: %s", value, said)
			}
		}
	}
	if said := warned("x12", invoice, kept, "b"); !strings.Contains(said, "is not a value of type N2: it is digits, of which the last 2 stand behind the decimal point") {
		t.Error(said)
	}
	if said := warned("x12", invoice, "let twice = n * 2\nlet half = n / 2\n"+kept, "twice + half"); said == "" {
		t.Error("of named values")
	}
}

// TestWhatBecomesOfASample: what a route makes of its own sample is validated against its description, too, with the record that shows it first.
func TestWhatBecomesOfASample(t *testing.T) {
	const purchase = "ISA*00*          *00*          *ZZ*SKERRY         *ZZ*LABSUPPLY      *261125*0930*^*00501*000000007*0*T*>~GS*PO*SKERRY*LAB*20261125*0930*7*X*005010~ST*850*0001~BEG*00*SA*A**20261125~PO1*1*3*EA***VP*a~CTT*1~SE*5*0001~GE*1*7~IEA*1*000000007~"
	_, findings := Compile(making("x12", purchase, "keep ISA, GS, ST-1, BEG-1, BEG-2, BEG-5, CTT\nST-2 = record | pad 4 \"0\"\nBEG-3 = order\nrepeat PO1 for row in rows\n  keep PO1-6\n  PO1-1 = row.position\n  PO1-2 = 1\n  PO1-3 = unit\n  PO1-7 = \"x\"\nend\n",
		`{"name":"order"},{"name":"unit"}`, "  together: [order]\n  sample: samples/in.csv\n", "", map[string]string{"samples/in.csv": "order,unit\nA-1,EA\nA-1,BOXES\nA-1,CRATES\nA-1,PIECES\n"}), "r")
	if len(findings) != 1 || !strings.HasPrefix(findings[0].String(), "maps/m.map:12:3: warning: PO1[2]-3 of what is made of record 1 of samples/in.csv: Unit has 5 characters") {
		t.Errorf("of many lines: %v", findings)
	}

	c, findings := Compile(making("x12", purchase, "keep ISA, GS, ST-1, BEG-1, BEG-2, BEG-5, PO1-1, PO1-6, CTT\nST-2 = record | pad 4 \"0\"\nBEG-3 = order\nPO1-2 = n\nPO1-3 = unit\nPO1-7 = article\n",
		`{"name":"order"},{"name":"n","type":"number"},{"name":"unit"},{"name":"article"}`, "  sample: samples/in.csv\n", "", map[string]string{"samples/in.csv": "order,n,unit,article\nA-1,3,EA,HR-1\n,2,EA,HR-2\nA-3,2,BOXES,HR-3\nA-4,,CRATES,HR-4\n"}), "r")
	want := []string{"maps/m.map:7:1: warning: BEG-3 of what is made of record 2 of samples/in.csv: Order number is required, and empty", "maps/m.map:9:1: warning: PO1-3 of what is made of record 3 of samples/in.csv: Unit has 5 characters"}
	if c == nil || len(findings) < len(want) {
		t.Fatal(findings)
	}
	for i, f := range findings[:len(want)] {
		if !strings.Contains(f.String(), want[i]) {
			t.Errorf("%s\nnot\n%s", f, want[i])
		}
	}
}

// TestMadeAgainstTheStandard: what is made of each record is validated against its standard where the route wants that.
func TestMadeAgainstTheStandard(t *testing.T) {
	const (
		purchase = "ISA*00*          *00*          *ZZ*SKERRY         *ZZ*LABSUPPLY      *261125*0930*^*00501*000000007*0*T*>~GS*PO*SKERRY*LAB*20261125*0930*7*X*005010~ST*850*0001~BEG*00*SA*A**20261125~PO1*1*3*EA***VP*a~CTT*1~SE*5*0001~GE*1*7~IEA*1*000000007~"
		result   = "MSH|^~\\&|A|B|C|D|20261125||ORU^R01^ORU_R01|1|P|2.5.1\rPID|1||T||Pup\rOBR|1|A||C\rOBX|1|NM|W||3||||||F\r"
		to850    = "keep ISA, GS, ST-1, BEG-1, BEG-2, BEG-5, PO1-1, PO1-6, CTT\nST-2 = record | pad 4 \"0\"\nBEG-3 = order\nPO1-2 = n\nPO1-3 = unit\nPO1-7 = article\n"
		toORU    = "keep MSH, PID-1, PID-5, OBR-1, OBX-1, OBX-2, OBX-11\nPID-3 = article\nOBR-2 = \"x\"\nOBR-4 = order\nOBX-3 = unit\nOBX-5 = article\nignore n\n"
		each     = "  one file per: record\n"
		own      = "  description: descriptions/d.txt\n"
		partner  = "structure 850 005010 Orders to Holm\nST BEG PO1+ CTT SE\n\nsegment BEG 005010 Order\nR ID(2) Purpose\nR ID(2) Type\nR AN(1..5) Their number\nO AN(1..5) More\nR DT(8) Day\n\nsegment PO1 005010 Line\nR AN(1..3) Number\nR R(1..4)#Q Many\nR ID(2) Of what\nO R(1..9) Price\nO ID(2) Basis\nR ID(2) Kind\nR AN(1..9) Article\n\ntable Q How many\n3 = three\n2 = two\n"
		rows     = "order,n,unit,article\nA-1,3,EA,1\n,2,EA,2\nA-3,2,BOXES,3\nA-4,1,EA,many\n"
	)
	for name, test := range map[string]struct {
		target, sample, lines, deliver string
		description                    string // of one's own
		good                           int64
		wrong                          []string
	}{
		"reject":           {"x12", purchase, to850, "  differences: reject\n", "", 2, []string{"BEG-3: Order number is required, and empty", "PO1-3: Unit has 5 characters, and at most 2 are allowed"}},
		"each alone":       {"x12", purchase, to850, each + "  differences: reject\n", "", 2, []string{"BEG-3: Order number is required", "PO1-3: Unit has 5"}},
		"warn":             {"x12", purchase, to850, "  differences: warn\n", "", 4, []string{"warning: what is made of it differs from its standard: BEG-3", "PO1-3"}},
		"ignore":           {"x12", purchase, to850, "  differences: ignore\n", "", 4, nil},
		"HL7":              {"hl7", result, toORU, each + "  differences: reject\n", "", 2, []string{"OBR-4: Universal Service Identifier is required", "OBX-5: Observation Value is not a value of type NM"}},
		"of no standard":   {"csv", "a\n", "a = article\nignore order, n, unit\n", "  differences: reject\n", "", 0, []string{"routes/r.yaml:13:16: error: only messages of edifact, hl7 and x12"}},
		"not described":    {"x12", strings.ReplaceAll(purchase, "ST*850", "ST*999850"), to850, "  differences: reject\n", "", 0, []string{"nothing describes the message of samples/s"}},
		"HL7 of one's own": {"hl7", strings.ReplaceAll(result, "ORU^R01^ORU_R01", "ZRU^Z01"), toORU, each + "  differences: reject\n", "", 0, []string{"nothing describes the message of samples/s"}},

		"but":                    {"x12", purchase, to850, "  differences: reject\n  except:\n    - at: PO1-3\n      differences: ignore\n", "", 3, []string{"BEG-3: Order number is required, and empty"}},
		"but it is told":         {"x12", purchase, to850, "  differences: reject\n  except:\n    - rule: standard.length\n      at: PO1\n      differences: warn\n    - at: PO1\n      differences: ignore\n", "", 3, []string{"error: what is made of it differs from its standard: BEG-3", "warning: what is made of it differs from its standard: PO1-3"}},
		"that alone":             {"x12", purchase, to850, "  except:\n    - at: PO1-3\n      differences: reject\n", "", 3, []string{"error: what is made of it differs from its standard: PO1-3: Unit has 5"}},
		"a partner's":            {"x12", purchase, to850, own, partner, 1, []string{"differs from descriptions/d.txt: BEG-3: Their number is required, and empty", "differs from descriptions/d.txt: PO1-3: Of what has 5 characters", `PO1-2: Many: "1" is not among the codes of table Q (How many)`}},
		"of a partner, ignored":  {"x12", purchase, to850, own + "  differences: ignore\n", partner, 4, nil},
		"a partner's has it not": {"x12", purchase, to850, own, strings.ReplaceAll(partner, "850", "855"), 0, []string{"descriptions/d.txt has nothing on the message of samples/s"}},
		"of another version":     {"x12", purchase, to850, own, strings.ReplaceAll(partner, "005010", "004010"), 0, []string{"descriptions/d.txt has nothing on the message of samples/s"}},
		"a partner's of CSV":     {"csv", "a\n", "a = article\nignore order, n, unit\n", own, partner, 0, []string{"routes/r.yaml:13:16: error: only messages of edifact, hl7 and x12"}},
		"the laboratory's":       {"hl7", strings.ReplaceAll(result, "||||||F", ""), strings.ReplaceAll(toORU, ", OBX-11", ""), each + own, "structure ORU_R01 2.5.1 Results\nMSH PID OBR OBX+\n\nsegment OBX 2.5.1 Observation\nO SI(4) Set\nR ID(2..3)#0125 Type\nR CWE(250) What\nO ST(20) Sub\nR NM(3) Value\n", 2, []string{"OBR-4: Universal", "OBX-5: Value is not a value of type NM"}},
	} {
		t.Run(name, func(t *testing.T) {
			c, findings := Compile(making(test.target, test.sample, test.lines, `{"name":"order"},{"name":"n"},{"name":"unit"},{"name":"article"}`, "", test.deliver, map[string]string{"descriptions/d.txt": test.description}), "r")
			said := findings.Error()
			if c != nil {
				o := &output{}
				if _, err := c.Plan.Run(context.Background(), strings.NewReader(rows), flow.Inputs{}, o); err != nil {
					t.Fatal(err)
				}
				if said = strings.Join(o.wrong, "\n"); o.good != test.good {
					t.Errorf("%d are good\n%s", o.good, said)
				}
			}
			if (c == nil) != (test.good == 0) || said != "" && test.wrong == nil {
				t.Errorf("%v %s", findings, said)
			}
			for _, want := range test.wrong {
				if !strings.Contains(said, want) {
					t.Errorf("%s does not say %s", said, want)
				}
			}
		})
	}
}

// TestRequiredAndAbsent: a value that is absent where the description requires one rejects its record, where the route does not say what
// becomes of differences; an answer, and what is in a block that does not hold, are something else. An empty one is told, unless the map says it.
func TestRequiredAndAbsent(t *testing.T) {
	const (
		purchase = "ISA*00*          *00*          *ZZ*SKERRY         *ZZ*LABSUPPLY      *261125*0930*^*00501*000000007*0*T*>~GS*PO*SKERRY*LAB*20261125*0930*7*X*005010~ST*850*0001~BEG*00*SA*A**20261125~PO1*1*3*EA***VP*a~CTT*1~SE*5*0001~GE*1*7~IEA*1*000000007~"
		result   = "MSH|^~\\&|A|B|C|D|20261125||ORU^R01^ORU_R01|1|P|2.5.1\rPID|1||T||Pup\rOBR|1|A||C\rOBX|1|NM|W||3||||||F\r"
		to850    = "keep ISA, GS, ST-1, BEG-1, BEG-2, BEG-5, PO1-1, PO1-3, PO1-6, CTT\nST-2 = record | pad 4 \"0\"\nPO1-2 = n\nPO1-7 = a\n"
		toORU    = "keep MSH, PID-1, PID-5, OBR-1, OBR-2, OBX-1, OBX-2, OBX-11\nOBX-3 = b\nOBX-5 = n\n"
		orders   = "UNB+UNOC:3+SKERRY:14+HOLM:14+261125:0930+7'UNH+1+ORDERS:D:96A:UN'BGM+220+A+9'NAD+BY+1'UNS+S'UNT+5+1'UNZ+1+7'"
		fields   = `{"name":"a"},{"name":"b"},{"name":"n","type":"number","constraints":{"required":true}}],"missingValues":["-"`
		rows     = "a,b,n\nx,y,1\n-,y,2\nx,-,3\n,y,4\n" // a is absent, b is absent, a is empty
	)
	for name, test := range map[string]struct {
		target, sample, lines, deliver, description string
		wrong, says                                 string // its records, and why
		empty                                       string // those of which it is told that it is empty, and that go out
	}{
		"X12":                                    {"x12", purchase, to850 + "BEG-3 = b\n", "", "", "3", "BEG-3 must have a value, and there is none; answer it with `if absent …`", ""},
		"HL7, a component":                       {"hl7", result, toORU + "PID-3.1 = a\nOBR-4.1 = b\n", "", "", "2 3", "PID-3.1 must have a value", "4"},
		"one of two components":                  {"hl7", result, toORU + "PID-3.1 = a\nPID-3.4 = \"SCSR\"\nOBR-4 = b\n", "", "", "3", "OBR-4 must have a value", ""},
		"of what is computed":                    {"x12", purchase, to850 + "BEG-3 = b | upper | before \"(\"\n", "", "", "3", "BEG-3 must have a value", ""},
		"what is not found in one that is there": {"x12", purchase, to850 + "BEG-3 = n | text | capture \"^([12])$\"\n", "", "", "3 4", "BEG-3 must have a value", ""},
		"by condition":                           {"x12", purchase, to850 + "BEG-3 = a when n > 2, otherwise b\n", "", "", "", "", "4"},
		"by condition, absent":                   {"x12", purchase, to850 + "BEG-3 = b when n > 2, otherwise a\n", "", "", "2 3", "BEG-3 must have a value", ""},
		"with an answer":                         {"x12", purchase, to850 + "BEG-3 = b if absent \"NONE\"\n", "", "", "", "", ""},
		"with an empty answer":                   {"x12", purchase, to850 + "BEG-3 = b if absent \"\"\n", "", "", "", "", ""},
		"with an absent answer":                  {"x12", purchase, to850 + "BEG-3 = b if absent absent\n", "", "", "3", "BEG-3 must have a value", ""},
		"within a text":                          {"x12", purchase, to850 + "BEG-3 = \"{b}\"\n", "", "", "", "", "3"},
		"in a block":                             {"x12", purchase, to850 + "when n > 0\n  BEG-3 = b\nend\n", "", "", "", "", ""},
		"a table's answer":                       {"x12", purchase, to850 + "BEG-3 = b | lookup t if unlisted \"?\"\n", "", "", "3", "BEG-3 must have a value", ""},
		"in a list":                              {"x12", purchase, strings.NewReplacer("PO1-3, ", "", "PO1-2 = n\n", "").Replace(to850) + "BEG-3 = \"x\"\nPO1-3 = b\nPO1-2 = n\n", "", "", "", "", ""},
		"EDIFACT":                                {"edifact", orders, "keep UNB, UNH, BGM, NAD-2.1, UNS\nNAD-1 = b\n", "", "", "3", "NAD-1 must have a value", ""},
		"not required":                           {"x12", purchase, to850 + "BEG-3 = \"x\"\nPO1-4 = b\n", "", "", "", "", ""},
		"ignored":                                {"x12", purchase, to850 + "BEG-3 = b\n", "  differences: ignore\n", "", "", "", ""},
		"excepted":                               {"x12", purchase, to850 + "BEG-3 = b\n", "  except:\n    - rule: standard.required\n      differences: ignore\n", "", "", "", ""},
		"excepted elsewhere":                     {"x12", purchase, to850 + "BEG-3 = b\n", "  except:\n    - at: PO1\n      differences: ignore\n", "", "3", "BEG-3 must have a value", ""},
		"empty":                                  {"x12", purchase, to850 + "BEG-3 = a\n", "", "", "2", "record 4 a: warning: a: BEG-3 must have", "4"},
		"empty, of what is computed":             {"x12", purchase, to850 + "BEG-3 = a | upper | before \"(\"\n", "", "", "2", "", "4"},
		"empty, from a table":                    {"x12", purchase, to850 + "BEG-3 = b | lookup u\n", "", "", "3", "", "1 2 4"},
		"empty, and answered":                    {"x12", purchase, to850 + "BEG-3 = a if absent \"A\" if empty \"E\"\n", "", "", "", "", ""},
		"empty, and answered so":                 {"x12", purchase, to850 + "BEG-3 = a if absent \"A\" if empty \"\"\n", "", "", "", "", ""},
		"empty, and said so by a name":           {"x12", purchase, to850 + "let e = a if absent empty\nBEG-3 = e\n", "", "", "", "", ""},
		"empty, in HL7":                          {"hl7", result, toORU + "PID-3.1 = a\nOBR-4.1 = \"B\"\n", "", "", "2 3", "", "4"},
		"empty, ignored":                         {"x12", purchase, to850 + "BEG-3 = a\n", "  differences: ignore\n", "", "", "", ""},
		"empty, validated":                       {"x12", purchase, to850 + "BEG-3 = a\n", "  differences: reject\n", "", "2 4", "BEG-3: Order number is required, and empty", ""},
		"empty, where nothing is required":       {"x12", purchase, to850 + "BEG-3 = \"x\"\nPO1-4 = a\n", "", "", "", "", ""},
		"of no description":                      {"x12", strings.ReplaceAll(purchase, "ST*850", "ST*999850"), to850 + "BEG-3 = b\n", "", "", "", "", ""},
		"no more than a partner's":               {"x12", purchase, to850 + "BEG-3 = b\n", "  description: descriptions/d.txt\n", "structure 850 005010 Orders\nST BEG PO1+ CTT SE\n\nsegment BEG 005010 Order\nO ID(2) Purpose\nO ID(2) Type\nO AN(1..5) Number\nO AN(1..5) More\nO DT(8) Day\n", "", "", ""},
	} {
		t.Run(name, func(t *testing.T) {
			w := making(test.target, test.sample, test.lines+"ignore a, b, n\n", fields, "", "  one file per: record\n"+test.deliver, map[string]string{"descriptions/d.txt": test.description, "lookups/t.csv": "key,value\ny,Y\n", "lookups/u.csv": "key,value\ny,\n"})
			c, findings := Compile(w, "r")
			if c == nil {
				t.Fatal(findings)
			}
			o := &output{}
			if _, err := c.Plan.Run(context.Background(), strings.NewReader(rows), flow.Inputs{}, o); err != nil {
				t.Fatal(err)
			}
			said := strings.Join(o.wrong, "\n")
			var wrong, empty []string
			for i := 1; i <= 4; i++ {
				for _, line := range strings.Split(said, "\n") {
					switch is := strings.Contains(line, fmt.Sprintf("record %d", i)); {
					case is && strings.Contains(line, "error: "):
						wrong = append(wrong, fmt.Sprint(i))
					case is && strings.Contains(line, "must have a value, and is empty; answer it with `if empty …`"):
						empty = append(empty, fmt.Sprint(i))
					}
				}
			}
			if strings.Join(wrong, " ") != test.wrong || strings.Join(empty, " ") != test.empty || !strings.Contains(said, test.says) {
				t.Errorf("%s\n%v", said, findings)
			}
		})
	}
}
