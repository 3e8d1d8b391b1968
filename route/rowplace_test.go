package route

import (
	"context"
	"strings"
	"testing"

	"ydrion/core/batch"
	"ydrion/core/flow"
	"ydrion/workspace"
)

// placed keeps where the findings of a run are.
type placed struct {
	output
	at []string
}

func (p *placed) Batch(b *batch.Batch) error {
	for i := range b.Records() {
		for _, f := range p.opened.Findings(b, i) {
			p.at = append(p.at, f.Place.Path+" "+f.Seen+"@"+string(b.Buf[f.Place.Offset-b.Base:][:1]))
		}
	}
	return nil
}

// TestRowsOfFindings: what is wrong with a row of a list is told at its value, under the path with which
// the record is shown.
func TestRowsOfFindings(t *testing.T) {
	const unb = "UNB+UNOC:3+S+L+261125:0930+7'"
	for name, test := range map[string]struct{ read, schema, list, in, want string }{
		"edifact": {"format: edifact", "", "repeat lines for line in LIN\nn = QTY-1.2 | number\nend", unb + "UNH+1+ORDERS:D:96A:UN'BGM+220+A+9'LIN+1'QTY+21:1'LIN+2'QTY+21:?+Z'UNT+7+1'UNZ+1+7'", "QTY[2]-1.2 @?"},
		"x12":     {"format: x12", "", "repeat lines for line in PO1\nn = PO1-2 | number\nend", "ISA*00*          *00*          *ZZ*SKERRY         *ZZ*LABSUPPLY      *261125*0930*^*00501*000000007*0*T*>~GS*PO*S*L*20261125*0930*7*X*005010~ST*850*1~BEG*00*SA*A**20261125~PO1*1*1*EA~PO1*2*Z*EA~CTT*2~SE*6*1~GE*1*7~IEA*1*000000007~", "PO1[2]-2 @Z"},
		"hl7":     {"format: hl7", "", "repeat lines for line in OBX\nn = OBX-5 | number\nend", "MSH|^~\\&|A||||2026||ORU^R01|1|P|2.5\rPID|1\rOBR|1\rOBX|1|NM|a||1\rOBX|2|NM|a||Z\r", "OBX[2]-5 @Z"},
		"hl7 repetitions": {"format: hl7", "", "repeat lines for line in PID-3\nn = PID-3.1 | number\nend",
			"MSH|^~\\&|A||||2026||ORU^R01|1|P|2.5\rPID|1||1~2~Z\rOBR|1\r", "PID-3[3] @Z"},
		"hl7 units":       {"format: hl7, record: OBR", "", "repeat lines for line in OBX\nn = OBX-5 | number\nend", "MSH|^~\\&|A||||2026||ORU^R01|1|P|2.5\rPID|1\rOBR|1\rOBX|1|NM|a||1\rOBR|2\rOBX|1|NM|a||2\rOBX|2|NM|a||Z\r", "OBX[2]-5 @Z"},
		"json":            {"format: json", `{"fields": [{"name": "no"}], "lists": [{"name": "rows", "path": "/in/rows", "fields": [{"name": "q"}]}]}`, "ignore no\nrepeat lines for line in rows\nn = q | number\nend", `{"in": {"rows": [{"q": "1"}, {"x": 1, "q": "Z"}]}}`, "/in/rows/1/q @Z"},
		"json, checked":   {"format: json", `{"fields": [{"name": "no"}], "lists": [{"name": "rows", "path": "/in/rows", "fields": [{"name": "q", "type": "number"}]}]}`, "ignore no\nrepeat lines for line in rows\nn = q\nend", `{"in": {"rows": [{"q": 1}, {"x": 1, "q": "\u005a"}]}}`, `/in/rows/1/q Z@\`},
		"csv":             {"format: csv, together: [nr]", `{"fields": [{"name": "nr"}, {"name": "q"}]}`, "ignore nr\nrepeat lines for line in rows\nn = q | number\nend", "nr,q\n1,2\n1,Z\n", " @1"},
		"said by a rule":  {"format: json", `{"fields": [{"name": "no"}], "lists": [{"name": "rows", "fields": [{"name": "q"}]}]}`, "ignore no\nrepeat lines for line in rows\nreject when q = \"Z\" because \"no {q}\"\nn = 1\nend", `{"rows": [{"q": "1"}, {"q": "Z"}]}`, "/rows/1/q @Z"},
		"of the record":   {"format: json", `{"fields": [{"name": "no"}], "lists": [{"name": "rows", "fields": [{"name": "q"}]}]}`, "repeat lines for line in rows\nn = no | number\nend", `{"no": "Z", "rows": [{"q": "1"}, {"q": "Z"}]}`, "no Z@Z"},
		"nothing is said": {"format: json", `{"fields": [{"name": "no"}], "lists": [{"name": "rows", "fields": [{"name": "q"}]}]}`, "ignore no\nrepeat lines for line in rows\nn = q | number if unreadable absent\nend", `{"rows": [{"q": "1"}, {"q": "Z"}]}`, ""},
	} {
		format, _, _ := strings.Cut(strings.TrimPrefix(test.read, "format: "), ",")
		check, from := "", format
		if test.schema != "" {
			check, from = "check: {schema: schemas/s.json}\n", format+" schemas/s.json"
		}
		c, findings := Compile(workspace.FromFiles(map[string][]byte{
			"routes/r.yaml":  []byte("route: r\nlisten: {folder: \"{in}\"}\nread: {" + test.read + "}\n" + check + "map: maps/m.map\ndeliver: {folder: \"{out}\", name: \"{file.stem}.json\"}\nrejected: {folder: \"{out}/rejected\"}\n"),
			"maps/m.map":     []byte("map m\nsource " + from + "\ntarget json based on samples/s\n" + test.list + "\n"),
			"samples/s":      []byte(`{"lines": [{"n": 1}]}`),
			"schemas/s.json": []byte(test.schema),
		}), "r")
		if c == nil || findings.HasErrors() {
			t.Errorf("%s: %v", name, findings)
			continue
		}
		p := &placed{}
		if _, err := c.Plan.Run(context.Background(), strings.NewReader(test.in), flow.Inputs{}, p); err != nil {
			t.Fatal(err)
		}
		if got := strings.Join(p.at, "; "); got != test.want {
			t.Errorf("%s: %q, not %q", name, got, test.want)
		}
	}
}
