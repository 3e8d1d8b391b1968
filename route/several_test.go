package route

import (
	"context"
	"strings"
	"testing"

	"ydrion/core/flow"
	"ydrion/workspace"
)

// TestSeveralMessages: a record becomes a message for each row of a list, with lists of the row in it;
// what stands around them counts messages, not records, in one output for all and in one for each record.
func TestSeveralMessages(t *testing.T) {
	const (
		in   = `[{"no":"A","orders":[{"order":"1","items":["x","y"]},{"order":"2","items":[]}]},{"no":"B","orders":[]},{"no":"C","orders":[{"order":"bad","items":["v"]}]},{"no":"D","orders":[{"order":"3","items":["z"]}]}]`
		isa  = "ISA*00*          *00*          *ZZ*SKERRY         *ZZ*LABSUPPLY      *261125*0930*^*00501*000000007*0*T*>~GS*SH*S*L*20261125*0930*7*X*005010~"
		unb  = "UNB+UNOC:3+SKERRY+LAB+261125:0930+7'"
		fhs  = "FHS|^~\\&|S\rBHS|^~\\&|S\r"
		more = "reject when order = \"bad\" because \"no\"\n"
	)
	for name, test := range map[string]struct {
		target, sample, lines string
		all                   string
		each                  []string
	}{
		"x12": {"x12", isa + "ST*856*0001~BSN*00*L1*20261125*0930~HL*1**S~HL*2*1*O~PRF*A~SE*6*0001~GE*1*7~IEA*1*000000007~",
			"keep ISA, GS, BSN-1, BSN-3, BSN-4, ST-1\nrepeat for order in orders\n" + more + "ST-2 = \"{record}{order.position}\"\nBSN-2 = \"{no}-{order.order}\"\nkeep HL(3=S)\nrepeat HL(3=O) for item in items\nkeep HL(3=O)\nPRF-1 = item.value\nend\nend\n",
			isa + "ST*856*11~BSN*00*A-1*20261125*0930~HL*1**S~HL*2*1*O~PRF*x~HL*3*1*O~PRF*y~SE*8*11~ST*856*12~BSN*00*A-2*20261125*0930~HL*1**S~SE*4*12~ST*856*41~BSN*00*D-3*20261125*0930~HL*1**S~HL*2*1*O~PRF*z~SE*6*41~GE*3*7~IEA*1*000000007~",
			[]string{isa + "ST*856*11~BSN*00*A-1*20261125*0930~HL*1**S~HL*2*1*O~PRF*x~HL*3*1*O~PRF*y~SE*8*11~ST*856*12~BSN*00*A-2*20261125*0930~HL*1**S~SE*4*12~GE*2*7~IEA*1*000000007~",
				isa + "ST*856*41~BSN*00*D-3*20261125*0930~HL*1**S~HL*2*1*O~PRF*z~SE*6*41~GE*1*7~IEA*1*000000007~"}},
		"edifact": {"edifact", unb + "UNH+1+ORDERS:D:96A:UN'BGM+220+A+9'LIN+1++X:SA'UNS+S'CNT+2:1'UNT+6+1'UNZ+1+7'",
			"keep UNB, UNH-2, BGM-1, BGM-3, LIN-3.2, UNS, CNT-1.1\nrepeat for order in orders\n" + more + "UNH-1 = \"{record}{order.position}\"\nBGM-2 = order.order\nCNT-1.2 = order.items | count\nrepeat LIN for item in items\nLIN-1 = item.position\nLIN-3.1 = item.value\nend\nend\n",
			unb + "UNH+11+ORDERS:D:96A:UN'BGM+220+1+9'LIN+1++x:SA'LIN+2++y:SA'UNS+S'CNT+2:2'UNT+7+11'UNH+12+ORDERS:D:96A:UN'BGM+220+2+9'UNS+S'CNT+2:0'UNT+5+12'UNH+41+ORDERS:D:96A:UN'BGM+220+3+9'LIN+1++z:SA'UNS+S'CNT+2:1'UNT+6+41'UNZ+3+7'",
			[]string{unb + "UNH+11+ORDERS:D:96A:UN'BGM+220+1+9'LIN+1++x:SA'LIN+2++y:SA'UNS+S'CNT+2:2'UNT+7+11'UNH+12+ORDERS:D:96A:UN'BGM+220+2+9'UNS+S'CNT+2:0'UNT+5+12'UNZ+2+7'",
				unb + "UNH+41+ORDERS:D:96A:UN'BGM+220+3+9'LIN+1++z:SA'UNS+S'CNT+2:1'UNT+6+41'UNZ+1+7'"}},
		"hl7": {"hl7", fhs + "MSH|^~\\&|S||||2026||ORM^O01|1|P|2.5\rOBR|1\rBTS|1\rFTS|1\r",
			"keep FHS, BHS, MSH-3, MSH-7, MSH-9, MSH-11, MSH-12\nrepeat for order in orders\n" + more + "MSH-10 = \"{no}{order.order}\"\nrepeat OBR for item in items\nOBR-1 = item.position\nOBR-4 = item.value\nend\nend\n",
			fhs + "MSH|^~\\&|S||||2026||ORM^O01|A1|P|2.5\rOBR|1|||x\rOBR|2|||y\rMSH|^~\\&|S||||2026||ORM^O01|A2|P|2.5\rMSH|^~\\&|S||||2026||ORM^O01|D3|P|2.5\rOBR|1|||z\rBTS|3\rFTS|1\r",
			[]string{fhs + "MSH|^~\\&|S||||2026||ORM^O01|A1|P|2.5\rOBR|1|||x\rOBR|2|||y\rMSH|^~\\&|S||||2026||ORM^O01|A2|P|2.5\rBTS|2\rFTS|1\r", fhs + "MSH|^~\\&|S||||2026||ORM^O01|D3|P|2.5\rOBR|1|||z\rBTS|1\rFTS|1\r"}},
	} {
		for _, per := range []string{"pickup", "record"} {
			c, findings := Compile(several(test.target, test.sample, test.lines, per), "r")
			if c == nil || findings.HasErrors() {
				t.Fatalf("%s: %v", name, findings)
			}
			for _, cores := range []int{1, 3} {
				o := &output{}
				result, err := c.Plan.Run(context.Background(), strings.NewReader(in), flow.Inputs{Cores: cores}, o)
				if err != nil || result.Good != 3 || result.Rejected != 1 {
					t.Fatalf("%s: %+v %v %v", name, result, err, o.wrong)
				}
				want := test.all
				if per == "record" {
					want = strings.Join(test.each, "")
				}
				if got := o.whole(t); got != want {
					t.Errorf("%s, per %s:\n%s\nnot\n%s", name, per, got, want)
				}
			}
		}
	}
	for _, test := range []struct{ target, sample, lines, want string }{
		{"x12", isa + "ST*856*0001~BSN*00*L1*20261125*0930~SE*3*0001~GE*1*7~IEA*1*000000007~", "keep ISA, GS-1, GS-3, GS-4, GS-5, GS-6, GS-7, GS-8, ST, BSN\nrepeat for order in orders\nGS-2 = order.order\nend\n", "GS-2 stands around all that is written for the rows of /orders"},
		{"hl7", fhs + "MSH|^~\\&|S||||2026||ORM^O01|1|P|2.5\rBTS|1\rFTS|1\r", "keep FHS, MSH\nrepeat for order in orders\nBHS-3 = order.order\nend\n", "BHS-3 stands around all"},
	} {
		if _, findings := Compile(several(test.target, test.sample, test.lines, "record"), "r"); !strings.Contains(findings.Error(), test.want) {
			t.Errorf("%v does not say %s", findings, test.want)
		}
	}
}

func several(target, sample, lines, per string) *workspace.Workspace {
	name := "{file.stem}.out"
	if per == "record" {
		name = "{file.stem}{record}.out"
	}
	return workspace.FromFiles(map[string][]byte{
		"routes/r.yaml":  []byte("route: r\nlisten:\n  folder: \"{in}\"\n  names: \"*\"\nread:\n  format: json\ncheck:\n  schema: schemas/s.json\nmap: maps/m.map\ndeliver:\n  name: \"" + name + "\"\n  folder: \"{out}\"\n  one file per: " + per + "\nrejected:\n  folder: \"{out}/rejected\"\n"),
		"maps/m.map":     []byte("map m\nsource json schemas/s.json\ntarget " + target + " based on samples/s\n" + lines),
		"samples/s":      []byte(sample),
		"schemas/s.json": []byte(`{"properties":{"no":{"type":"string"},"orders":{"type":"array","items":{"properties":{"order":{"type":"string"},"items":{"type":"array","items":{"type":"string"}}}}}}}`),
	})
}
