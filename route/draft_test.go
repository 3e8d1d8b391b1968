package route

import (
	"context"
	"strings"
	"testing"

	"ydrion/core/flow"
	"ydrion/workspace"
)

// TestDrafts: what a map makes is held against its description before anything runs: what it says itself, what it leaves out, and what is
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
			w := workspace.FromFiles(map[string][]byte{
				"routes/r.yaml":          []byte("route: r\nlisten:\n  folder: \"{in}\"\n  names: \"*\"\nread:\n  format: csv\ncheck:\n  schema: schemas/s.json\nmap: maps/m.map\ndeliver:\n  folder: \"{out}\"\n  name: \"{file.name}\"\nrejected:\n  folder: \"{out}/rejected\"\n"),
				"maps/m.map":             []byte("map m\nsource csv schemas/s.json\ntarget " + test.target + " based on samples/s\n\n" + test.lines + "\nignore a, b, c\n"),
				"samples/s":              []byte(test.sample),
				"schemas/s.json":         []byte(`{"fields":[{"name":"a"},{"name":"b","type":"number"},{"name":"c","type":"date"}]}`),
				"environments/test.yaml": []byte("environment: test\nplaces:\n  in: in\n  out: out\n"),
			})
			c, findings := Compile(w, "r")
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

// TestWhatBecomesOfASample: what a route makes of its own sample is held against its description, too, with the record that shows it first.
func TestWhatBecomesOfASample(t *testing.T) {
	_, findings := Compile(workspace.FromFiles(map[string][]byte{
		"routes/r.yaml":          []byte("route: r\nlisten:\n  folder: \"{in}\"\n  names: \"*\"\nread:\n  format: csv\n  together: [order]\n  sample: samples/in.csv\ncheck:\n  schema: schemas/s.json\nmap: maps/m.map\ndeliver:\n  folder: \"{out}\"\n  name: \"{file.name}\"\nrejected:\n  folder: \"{out}/rejected\"\n"),
		"maps/m.map":             []byte("map m\nsource csv schemas/s.json\ntarget x12 based on samples/s\n\nkeep ISA, GS, ST-1, BEG-1, BEG-2, BEG-5, CTT\nST-2 = record | pad 4 \"0\"\nBEG-3 = order\nrepeat PO1 for row in rows\n  keep PO1-6\n  PO1-1 = row.position\n  PO1-2 = 1\n  PO1-3 = unit\n  PO1-7 = \"x\"\nend\n"),
		"samples/s":              []byte("ISA*00*          *00*          *ZZ*SKERRY         *ZZ*LABSUPPLY      *261125*0930*^*00501*000000007*0*T*>~GS*PO*SKERRY*LAB*20261125*0930*7*X*005010~ST*850*0001~BEG*00*SA*A**20261125~PO1*1*3*EA***VP*a~CTT*1~SE*5*0001~GE*1*7~IEA*1*000000007~"),
		"samples/in.csv":         []byte("order,unit\nA-1,EA\nA-1,BOXES\nA-1,CRATES\nA-1,PIECES\n"),
		"schemas/s.json":         []byte(`{"fields":[{"name":"order"},{"name":"unit"}]}`),
		"environments/test.yaml": []byte("environment: test\nplaces:\n  in: in\n  out: out\n"),
	}), "r")
	if len(findings) != 1 || !strings.HasPrefix(findings[0].String(), "maps/m.map:12:3: warning: PO1[2]-3 of what is made of record 1 of samples/in.csv: Unit has 5 characters") {
		t.Errorf("of many lines: %v", findings)
	}

	const purchase = "ISA*00*          *00*          *ZZ*SKERRY         *ZZ*LABSUPPLY      *261125*0930*^*00501*000000007*0*T*>~GS*PO*SKERRY*LAB*20261125*0930*7*X*005010~ST*850*0001~BEG*00*SA*A**20261125~PO1*1*3*EA***VP*a~CTT*1~SE*5*0001~GE*1*7~IEA*1*000000007~"
	c, findings := Compile(workspace.FromFiles(map[string][]byte{
		"routes/r.yaml":          []byte("route: r\nlisten:\n  folder: \"{in}\"\n  names: \"*\"\nread:\n  format: csv\n  sample: samples/in.csv\ncheck:\n  schema: schemas/s.json\nmap: maps/m.map\ndeliver:\n  folder: \"{out}\"\n  name: \"{file.name}\"\nrejected:\n  folder: \"{out}/rejected\"\n"),
		"maps/m.map":             []byte("map m\nsource csv schemas/s.json\ntarget x12 based on samples/s\n\nkeep ISA, GS, ST-1, BEG-1, BEG-2, BEG-5, PO1-1, PO1-6, CTT\nST-2 = record | pad 4 \"0\"\nBEG-3 = order\nPO1-2 = n\nPO1-3 = unit\nPO1-7 = article\n"),
		"samples/s":              []byte(purchase),
		"samples/in.csv":         []byte("order,n,unit,article\nA-1,3,EA,HR-1\n,2,EA,HR-2\nA-3,2,BOXES,HR-3\nA-4,,CRATES,HR-4\n"),
		"schemas/s.json":         []byte(`{"fields":[{"name":"order"},{"name":"n","type":"number"},{"name":"unit"},{"name":"article"}]}`),
		"environments/test.yaml": []byte("environment: test\nplaces:\n  in: in\n  out: out\n"),
	}), "r")
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

// TestMadeAgainstTheStandard: what is made of each record is held against its standard where the route wants that.
func TestMadeAgainstTheStandard(t *testing.T) {
	const (
		purchase = "ISA*00*          *00*          *ZZ*SKERRY         *ZZ*LABSUPPLY      *261125*0930*^*00501*000000007*0*T*>~GS*PO*SKERRY*LAB*20261125*0930*7*X*005010~ST*850*0001~BEG*00*SA*A**20261125~PO1*1*3*EA***VP*a~CTT*1~SE*5*0001~GE*1*7~IEA*1*000000007~"
		result   = "MSH|^~\\&|A|B|C|D|20261125||ORU^R01^ORU_R01|1|P|2.5.1\rPID|1||T||Pup\rOBR|1|A||C\rOBX|1|NM|W||3||||||F\r"
		to850    = "keep ISA, GS, ST-1, BEG-1, BEG-2, BEG-5, PO1-1, PO1-6, CTT\nST-2 = record | pad 4 \"0\"\nBEG-3 = order\nPO1-2 = n\nPO1-3 = unit\nPO1-7 = article\n"
		toORU    = "keep MSH, PID-1, PID-5, OBR-1, OBX-1, OBX-2, OBX-11\nPID-3 = article\nOBR-2 = \"x\"\nOBR-4 = order\nOBX-3 = unit\nOBX-5 = article\nignore n\n"
		rows     = "order,n,unit,article\nA-1,3,EA,1\n,2,EA,2\nA-3,2,BOXES,3\nA-4,1,EA,many\n"
	)
	for name, test := range map[string]struct {
		target, sample, lines, differences, per string
		good                                    int64
		wrong                                   []string
	}{
		"reject":           {"x12", purchase, to850, "reject", "pickup", 2, []string{"BEG-3: Order number is required, and empty", "PO1-3: Unit has 5 characters, and at most 2 are allowed"}},
		"each alone":       {"x12", purchase, to850, "reject", "record", 2, []string{"BEG-3: Order number is required", "PO1-3: Unit has 5"}},
		"warn":             {"x12", purchase, to850, "warn", "pickup", 4, []string{"warning: what is made of it is not of its standard: BEG-3", "PO1-3"}},
		"ignore":           {"x12", purchase, to850, "ignore", "pickup", 4, nil},
		"HL7":              {"hl7", result, toORU, "reject", "record", 2, []string{"OBR-4: Universal Service Identifier is required", "OBX-5: Observation Value is not a value of type NM"}},
		"of no standard":   {"csv", "a\n", "a = article\nignore order, n, unit\n", "reject", "pickup", 0, []string{"only messages of edifact, hl7 and x12"}},
		"not described":    {"x12", strings.ReplaceAll(purchase, "ST*850", "ST*999850"), to850, "reject", "pickup", 0, []string{"nothing describes the message of samples/s"}},
		"HL7 of one's own": {"hl7", strings.ReplaceAll(result, "ORU^R01^ORU_R01", "ZRU^Z01"), toORU, "reject", "record", 0, []string{"nothing describes the message of samples/s"}},
	} {
		t.Run(name, func(t *testing.T) {
			c, findings := Compile(workspace.FromFiles(map[string][]byte{
				"routes/r.yaml":          []byte("route: r\nlisten:\n  folder: \"{in}\"\n  names: \"*\"\nread:\n  format: csv\ncheck:\n  schema: schemas/s.json\nmap: maps/m.map\ndeliver:\n  folder: \"{out}\"\n  name: \"{file.name}-{record}\"\n  one file per: " + test.per + "\n  differences: " + test.differences + "\nrejected:\n  folder: \"{out}/rejected\"\n"),
				"maps/m.map":             []byte("map m\nsource csv schemas/s.json\ntarget " + test.target + " based on samples/s\n\n" + test.lines),
				"samples/s":              []byte(test.sample),
				"schemas/s.json":         []byte(`{"fields":[{"name":"order"},{"name":"n"},{"name":"unit"},{"name":"article"}]}`),
				"environments/test.yaml": []byte("environment: test\nplaces:\n  in: in\n  out: out\n"),
			}), "r")
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
