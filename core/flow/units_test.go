package flow_test

import (
	"bytes"
	"context"
	standard "encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"ydrion/core/batch"
	"ydrion/core/flow"
	"ydrion/core/format"
	"ydrion/core/format/edifact"
	"ydrion/core/format/hl7"
	"ydrion/core/format/json"
	"ydrion/core/format/x12"
	"ydrion/core/segments"
	"ydrion/core/text"
)

// comingBack keeps what was made, and each rejected record.
type comingBack struct {
	opened   *flow.Opened
	made     bytes.Buffer
	rejected []string
}

func (c *comingBack) Open(o *flow.Opened) error { c.opened = o; return nil }
func (c *comingBack) Batch(b *batch.Batch) error {
	made, err := c.opened.Assemblies[0].All(b)
	c.made.Write(made)
	for i, w := range b.Outcomes {
		if w == batch.Rejected {
			raw, _ := c.opened.Rejected(b, i)
			c.rejected = append(c.rejected, string(raw))
		}
	}
	return err
}
func (c *comingBack) Broken(b *format.Broken) error { return fmt.Errorf("it is broken: %v", b.Finding) }

// copies is a plan that writes fields, named a, b and so on, into objects; those records are rejected whose last field holds an X, if there is
// such a rule.
func copies(tb testing.TB, from format.Source, name, paths string, rejects bool) *flow.Plan {
	var fields, members []string
	lines := ""
	for i, path := range strings.Fields(paths) {
		n := string(rune('a' + i))
		fields, members = append(fields, fmt.Sprintf(`{"name":"%s_","path":%q}`, n, path)), append(members, fmt.Sprintf(`"%s":""`, n))
		lines += fmt.Sprintf("%s = %s_\n", n, n)
	}
	to, err := json.NewTarget("s.json", []byte("{"+strings.Join(members, ",")+"}"))
	if err != nil {
		tb.Fatal(err)
	}
	rule := ""
	if rejects {
		rule = fmt.Sprintf("reject when %c_ | contains \"X\" because \"x\"\n", 'a'+len(fields)-1)
	}
	plan := planned(tb, `{"fields":[`+strings.Join(fields, ",")+`]}`, "map m\nsource "+name+" s\ntarget json based on s\n"+rule+lines, from, to)
	plan.Charset = text.UTF8
	return plan
}

// TestLateSegments: a segment that comes later than it should belongs to the group that goes on, and ends nothing: what partners write in another order
// is not lost. Fields that are looked for are those of the paths; rows are joined by blanks.
func TestLateSegments(t *testing.T) {
	msh, oul := "MSH|^~\\&|A|B|C|D|20261130||ORU^R01^ORU_R01|1|P|2.5.1\r", "MSH|^~\\&|A|B|C|D|20261130||OUL^R22^OUL_R22|1|P|2.5.1\r"
	isa := "ISA*00*          *00*          *ZZ*SKERRY         *ZZ*LABSUPPLY      *261125*0930*^*00501*000000001*0*T*>~GS*SH*S*L*20261125*0930*1*X*005010~ST*856*0001~BSN*00*1*20261125*0930~HL*1**S~HL*2*1*O~PRF*P1~"
	for name, test := range map[string]struct {
		from            format.Source
		kind, paths, in string
		want            string
	}{
		"PD1 behind PV1":         {hl7.Source{Unit: "OBX"}, "hl7", "PID-5 PD1-4 OBR-4 OBX-5", msh + "PID|1||x||N\rPV1|1\rPD1||||D\rOBR|1|||C\rOBX|1|TX|c||v\r", "N,D,C,v"},
		"PV1 behind PV2":         {hl7.Source{Unit: "OBX"}, "hl7", "PID-5 PV1-2 PV2-3 OBR-4 OBX-5", msh + "PID|1||x||N\rPV2|||Z\rPV1||I\rOBR|1|||C\rOBX|1|TX|c||v\r", "N,I,Z,C,v"},
		"a visit among results":  {hl7.Source{Unit: "OBX"}, "hl7", "PID-5 PV1-2 PV2-3 OBR-4 OBX-5", msh + "PID|1||x||N\rOBR|1|||C\rOBX|1|TX|c||v\rTQ1|1\rPV1||I\rPV2|||Z\rOBX|1|TX|c||w\rPID|2||y\rOBR|1|||E\rOBX|1|TX|c||z\r", "N,,,C,v N,I,Z,C,w ,,,E,z"},
		"a note without a place": {hl7.Source{Unit: "OBX"}, "hl7", "PID/NTE-3 OBX-5 NTE-3", oul + "PID|1||x||N\rNTE|1||p\rOBX|1|TX|c||v\rNTE|1||n\rOBX|2|TX|c||w\r", "p,v,n p,w,"},
		"a segment of one's own": {hl7.Source{Unit: "ZPU"}, "hl7", "PID-5 PV1-2 ORC-2 OBR-4 OBX-5 NTE-3 ZPU-2", msh + "PID|1||x||N\rPV1||I\rORC|RE|o\rOBR|1|||C\rOBX|1|TX|c||v\rZPU|1|a\rOBR|2|||D\rOBX|1|TX|c||w\rNTE|1||m\rZPU|1|b\rNTE|1||n\rZPU|2|c\rPID|2||y||M\rOBR|1|||E\rZPU|1|d\r",
			"N,I,o,C,v,,a N,I,,D,w,n,b N,I,,D,w,,c M,,,E,,,d"},
		"of another message": {segments.Interchanges{Rules: x12.Rules, Unit: "PO1"}, "x12", "BEG-3 PID-5 PO1-1", strings.NewReplacer("GS*SH", "GS*PO", "ST*856", "ST*810").Replace(isa[:strings.Index(isa, "BSN")]) + "BEG*00*SA*O1**20261125~PO1*1~PID*F****p~PO1*2~PID*F****q~PO1*3~CTT*3~SE*9*0001~GE*1*1~IEA*1*000000001~", "O1,p,1 O1,q,2 O1,,3"},
		"nearer, and again not": {segments.Interchanges{Rules: x12.Rules, Unit: "PID"}, "x12", "CUR-2 PO1-1 PID-5", strings.NewReplacer("GS*SH", "GS*PO", "ST*856", "ST*850").Replace(isa[:strings.Index(isa, "BSN")]) + "BEG*00*SA*O1**20261125~CUR*BY*USD~PO1*1*1~PID*F****p~PO1*2*1~CUR*BY*EUR~PID*F****q~PID*F****r~PO1*3*1~PID*F****s~CTT*3~SE*13*0001~GE*1*1~IEA*1*000000001~",
			"USD,1,p EUR,2,q EUR,2,r USD,3,s"},
		"a second patient":         {hl7.Source{Unit: "OBX"}, "hl7", "PID-5 PV1-2 OBX-5", strings.ReplaceAll(oul, "OUL^R22^OUL_R22", "OUL^R21^OUL_R21") + "PID|1||x||N\rPV1||I\rOBR|1\rOBX|1|TX|c||v\rPID|2||y||M\rOBR|1\rOBX|1|TX|c||w\r", "N,I,v M,,w"},
		"late, and repeated":       {hl7.Source{Unit: "DG1"}, "hl7", "PID-5 PD1-4 PV1-2 AL1-3 AL1[2]-3 DG1-3", strings.ReplaceAll(msh, "ORU^R01^ORU_R01", "ADT^A01^ADT_A01") + "PID|1||x||N\rPV1||I\rDG1|1||a\rPD1||||D\rAL1|1||p\rAL1|2||q\rDG1|2||b\rPV1||O\rDG1|3||c\r", "N,,I,,,a N,D,I,p,q,b N,D,O,,,c"},
		"BGM among lines":          {segments.Interchanges{Rules: edifact.Rules, Unit: "LIN"}, "edifact", "LIN-3.1 QTY-1.2 PRI-1.2", "UNB+UNOC:3+A+B+261130:1200+1'UNH+1+ORDERS:D:96A:UN'DTM+137:20261130:102'NAD+BY+B::92'LIN+1++a:SA'QTY+21:5'BGM+220+O1+9'PRI+AAA:1'LIN+2++b:SA'PRI+AAA:2'UNS+S'UNT+11+1'UNZ+1+1'", "a,5,1 b,,2"},
		"REF before LIN":           {segments.Interchanges{Rules: x12.Rules, Unit: "HL(3=I)"}, "x12", "HL(3=O)/PRF-1 REF-2 LIN-3 SN1-2", isa + "HL*3*2*I~REF*ZZ*R~LIN**VN*L1~SN1**1*EA~HL*4*2*I~SN1**2*EA~LIN**VN*L2~SE*13*0001~GE*1*1~IEA*1*000000001~", "P1,R,L1,1 P1,,L2,2"},
		"QTY before PIA and IMD":   {segments.Interchanges{Rules: edifact.Rules, Unit: "LIN"}, "edifact", "BGM-2 LIN-3.1 PIA-2.1 IMD-3.4 QTY-1.2", "UNB+UNOC:3+A+B+261130:1200+1'UNH+1+ORDERS:D:96A:UN'BGM+220+O1+9'DTM+137:20261130:102'NAD+BY+B::92'LIN+1++a:SA'QTY+21:5'IMD+F++:::text'PIA+1+p'LIN+2++b:SA'QTY+21:6'UNS+S'UNT+12+1'UNZ+1+1'", "O1,a,p,text,5 O1,b,,,6"},
		"a line's list, its order": {segments.Interchanges{Rules: edifact.Rules}, "edifact", "BGM-2 LIN-3.1 IMD-3.4 LIN[2]-3.1", "UNB+UNOC:3+A+B+261130:1200+1'UNH+1+ORDERS:D:96A:UN'BGM+220+O1+9'DTM+137:20261130:102'LIN+1++a:SA'QTY+21:5'IMD+F++:::text'LIN+2++b:SA'UNS+S'UNT+9+1'UNZ+1+1'", "O1,a,text,b"},
	} {
		c := &comingBack{}
		if _, err := copies(t, test.from, test.kind, test.paths, false).Run(context.Background(), strings.NewReader(test.in), flow.Inputs{Cores: 1}, c); err != nil {
			t.Fatal(err)
		}
		var rows []string
		for line := range strings.SplitSeq(strings.TrimSpace(c.made.String()), "\n") {
			var of map[string]string
			if err := standard.Unmarshal([]byte(line), &of); err != nil {
				t.Fatal(name, err, c.rejected)
			}
			var row []string
			for i := range strings.Fields(test.paths) {
				row = append(row, of[string(rune('a'+i))])
			}
			rows = append(rows, strings.Join(row, ","))
		}
		if got := strings.Join(rows, " "); got != test.want {
			t.Errorf("%s: %s, not %s", name, got, test.want)
		}
	}
}

// shipments is an advice of shipments, with orders, packages and items.
func shipments(r *rand.Rand, word func() string) string {
	hl, n := 0, 3
	s := "ISA*00*          *00*          *ZZ*SKERRY         *ZZ*LABSUPPLY      *261125*0930*^*00501*000000001*0*T*>~GS*SH*S*L*20261125*0930*1*X*005010~ST*856*0001~BSN*00*1*20261125*0930~"
	level := func(above int, code string, segments ...string) int {
		hl++
		n++
		s += strings.Replace(fmt.Sprintf("HL*%d*%d*%s~", hl, above, code), "*0*", "**", 1)
		for _, i := range r.Perm(len(segments)) {
			if r.IntN(3) > 0 {
				n++
				s += segments[i] + word() + "~"
			}
		}
		return hl
	}
	for range 1 + r.IntN(2) {
		shipment := level(0, "S", "REF*ZZ*", "TD5**2*X**")
		for range 1 + r.IntN(3) {
			order := level(shipment, "O", "PRF*")
			for range r.IntN(3) {
				above := order
				if r.IntN(2) == 0 {
					above = level(order, "P", "MAN*GM*", "REF*ZZ*")
				}
				for range 1 + r.IntN(3) {
					level(above, "I", "REF*ZZ*", "LIN**VN*", "SN1**")
				}
			}
		}
	}
	return s + fmt.Sprintf("SE*%d*0001~GE*1*1~IEA*1*000000001~", n)
}

// undescribed is a message of segments in any order, with some before the units and some behind each.
func undescribed(r *rand.Rand, word func() string, head, unit, terminator, tail string, before, behind []string) string {
	n, s := 1, head
	some := func(of []string, most int) {
		for range r.IntN(most) {
			n++
			s += of[r.IntN(len(of))] + word() + terminator
		}
	}
	some(before, 7)
	for range 1 + r.IntN(4) {
		n++
		s += unit + word() + terminator
		some(behind, 5)
	}
	if tail != "" {
		s += fmt.Sprintf(tail, n+1)
	}
	return s
}

// TestRejectsComeBack: a rejected record, handed in again by itself, becomes what it would have become in its message: it has all that stood around it, and
// nothing of its neighbours. What belongs to one stands in any order.
func TestRejectsComeBack(t *testing.T) {
	words := func(r *rand.Rand) func() string {
		n := 0
		return func() string { n++; return fmt.Sprintf("w%d%s", n, []string{"", "X", "", ""}[r.IntN(4)]) }
	}
	for name, of := range map[string]struct {
		from  format.Source
		paths string // the last is the record's own
		make  func(r *rand.Rand) string
	}{
		"hl7": {hl7.Source{Unit: "OBX"}, "MSH-10 PID-5 PID/NTE-3 PV1-2 OBR-4 OBR/NTE-3 NTE-3 OBX-5", func(r *rand.Rand) string {
			word, s := words(r), ""
			some := func(segments ...string) {
				for _, i := range r.Perm(len(segments)) {
					if r.IntN(2) == 0 {
						s += segments[i] + word() + "\r"
					}
				}
			}
			for m := range 1 + r.IntN(3) {
				s += fmt.Sprintf("MSH|^~\\&|A|B|C|D|20261130||%s|%d|P|2.5.1\r", []string{"ORU^R01^ORU_R01", "OUL^R22^OUL_R22", "ZZZ^Z01"}[r.IntN(3)], m)
				for range 1 + r.IntN(2) {
					s += "PID|1||x||" + word() + "\r"
					some("NTE|1||", "PV1||", "PD1||||")
					for range 1 + r.IntN(2) {
						some("SPM|1|", "ORC|RE|")
						s += "OBR|1|||" + word() + "\r"
						some("NTE|1||", "TQ1|1|")
						for range r.IntN(4) {
							s += "OBX|1|TX|c||" + word() + "\r"
							some("NTE|1||", "NTE|1||")
						}
					}
				}
			}
			return s
		}},
		"hl7 of no described message": {hl7.Source{Unit: "OBR"}, "MSH-10 PID-5 PV1-2 ORC-2 NTE-3 OBX-5 SPM-2 OBR-4", func(r *rand.Rand) string {
			return undescribed(r, words(r), "MSH|^~\\&|A|B|C|D|20261130||ZZZ^Z01|1|P|2.5.1\r", "OBR|1|||", "\r", "", strings.Fields("PID|1||x|| PV1|| PV1|| NK1|1|"), strings.Fields("PID|1||x|| PV1|| ORC|RE| NTE|1|| OBX|1|TX|c|| SPM|1| ZPU|1|"))
		}},
		"x12 of no described release": {segments.Interchanges{Rules: x12.Rules, Unit: "PO1"}, "BEG-3 REF-2 N1(BY)-2 N1(ST)-2 N3-1 DTM-2 PID-5 PO1-2", func(r *rand.Rand) string {
			const head = "ISA*00*          *00*          *ZZ*SKERRY         *ZZ*LABSUPPLY      *261125*0930*^*00501*000000001*0*T*>~GS*PO*S*L*20261125*0930*1*X*X09999~ST*850*0001~"
			return undescribed(r, words(r), head, "PO1*1*", "~", "SE*%d*0001~GE*1*1~IEA*1*000000001~", strings.Fields("BEG*00*SA* REF*ZZ* REF*A* N1*BY* N1*ST* N3* DTM*002*"), strings.Fields("PID*F**** REF*ZZ* N1*ST* N1*BY* N3* DTM*002* TD5*A*B*"))
		}},
		"x12 in orders": {segments.Interchanges{Rules: x12.Rules, Unit: "HL(3=O)"}, "ST-2 HL(3=S)/REF-2 LIN-3 SN1-2 MAN-2 PRF-1", func(r *rand.Rand) string {
			return shipments(r, words(r))
		}},
		"x12 in orders of no described release": {segments.Interchanges{Rules: x12.Rules, Unit: "HL(3=O)"}, "ST-2 HL(3=S)/REF-2 LIN-3 SN1-2 MAN-2 PRF-1", func(r *rand.Rand) string {
			return strings.Replace(shipments(r, words(r)), "005010~", "X09999~", 1)
		}},
		"x12 items of no described release": {segments.Interchanges{Rules: x12.Rules, Unit: "HL(3=I)"}, "ST-2 HL(3=S)/REF-2 HL(3=O)/PRF-1 HL(3=P)/MAN-2 REF-2 LIN-3 SN1-2", func(r *rand.Rand) string {
			return strings.Replace(shipments(r, words(r)), "005010~", "X09999~", 1)
		}},
		"edifact with sums behind": {segments.Interchanges{Rules: edifact.Rules, Unit: "TAX"}, "BGM-2 ALC-2 MOA-1.2 TAX-2", func(r *rand.Rand) string {
			word, n, s := words(r), 2, "UNB+UNOC:3+A+B+261130:1200+1'UNH+1+ORDERS:D:96A:UN'"
			put := func(segment string) {
				n++
				s += segment + word() + "'"
			}
			put("BGM+220+")
			for range 1 + r.IntN(3) {
				put("ALC+A+")
				for range 1 + r.IntN(2) {
					put("TAX+7+")
					if r.IntN(2) == 0 {
						put("MOA+124:")
					}
				}
			}
			for range r.IntN(3) {
				put("MOA+86:")
			}
			return s + fmt.Sprintf("UNT+%d+1'UNZ+1+1'", n)
		}},
		"edifact in packages": {segments.Interchanges{Rules: edifact.Rules, Unit: "CPS"}, "BGM-2 NAD(SU)-2 LIN-3 QTY-1.2 PAC-3", func(r *rand.Rand) string {
			word, n, s := words(r), 3, "UNB+UNOC:3+A+B+261130:1200+1'UNH+1+DESADV:D:96A:UN'"
			put := func(segment string) {
				n++
				s += segment + word() + "'"
			}
			put("BGM+351+")
			put("NAD+SU+")
			for i := range 1 + r.IntN(5) {
				n++
				s += fmt.Sprintf("CPS+%d+%d'", i+1, r.IntN(i+1))
				if r.IntN(3) > 0 {
					put("PAC+1++")
				}
				for k := range r.IntN(3) {
					put(fmt.Sprintf("LIN+%d++", k+1))
					for range r.IntN(3) {
						put("QTY+12:")
					}
				}
			}
			return s + fmt.Sprintf("UNT+%d+1'UNZ+1+1'", n-1)
		}},
		"edifact of no described version": {segments.Interchanges{Rules: edifact.Rules, Unit: "LIN"}, "BGM-2 NAD(BY)-2 NAD(SU)-2 DTM-1.2 RFF-1.2 QTY-1.2 LIN-3", func(r *rand.Rand) string {
			return undescribed(r, words(r), "UNB+UNOC:3+A+B+261130:1200+1'UNH+1+ORDERS:D:XXX:UN'", "LIN+1++", "'", "UNT+%d+1'UNZ+1+1'", strings.Fields("BGM+220+ NAD+BY+ NAD+SU+ DTM+137: RFF+ON: FTX+A+"), strings.Fields("QTY+21: NAD+BY+ DTM+2: RFF+ON: FTX+A+ CPS+1+ CPS+2+1+"))
		}},
		"hl7 and a segment of one's own": {hl7.Source{Unit: "ZPU"}, "MSH-10 PID-5 PV1-2 ORC-2 OBR-4 OBX-5 NTE-3 ZPU-2", func(r *rand.Rand) string {
			word, s := words(r), ""
			put := func(segment string, often int) {
				if r.IntN(4) < often {
					s += segment + word() + "\r"
				}
			}
			for m := range 1 + r.IntN(3) {
				s += fmt.Sprintf("MSH|^~\\&|A|B|C|D|20261130||%s|%d|P|2.5.1\r", []string{"ORU^R01^ORU_R01", "OUL^R22^OUL_R22", "ZZZ^Z01"}[r.IntN(3)], m)
				for range 1 + r.IntN(2) {
					put("PID|1||x||", 4)
					put("PV1||", 2)
					for range 1 + r.IntN(2) {
						put("ORC|RE|", 2)
						put("OBR|1|||", 4)
						for range r.IntN(3) {
							put("OBX|1|TX|c||", 4)
							put("NTE|1||", 2)
							for range r.IntN(3) {
								put("ZPU|1|", 4)
								put("NTE|1||", 2)
							}
						}
					}
				}
			}
			return s
		}},
		"x12": {segments.Interchanges{Rules: x12.Rules, Unit: "HL(3=I)"}, "ST-2 HL(3=S)/REF-2 HL(3=O)/PRF-1 HL(3=P)/MAN-2 REF-2 LIN-3 SN1-2", func(r *rand.Rand) string {
			return shipments(r, words(r))
		}},
	} {
		kind, _, _ := strings.Cut(name, " ")
		all, some := copies(t, of.from, kind, of.paths, false), copies(t, of.from, kind, of.paths, true)
		run := func(p *flow.Plan, in string) (made, rejected []string) {
			c := &comingBack{}
			if _, err := p.Run(context.Background(), strings.NewReader(in), flow.Inputs{Cores: 1}, c); err != nil {
				t.Fatal(err)
			}
			return strings.Fields(c.made.String()), c.rejected
		}
		back := 0
		for seed := range uint64(1500) {
			in := of.make(rand.New(rand.NewPCG(seed, 9)))
			want, bad := run(all, in)
			if len(bad) > 0 { // a message without a record
				continue
			}
			got, rejected := run(some, in)
			for _, raw := range rejected {
				made, bad := run(all, raw)
				if got = append(got, made...); len(bad) > 0 {
					t.Errorf("%s, seed %d: %q is rejected when it comes back", name, seed, raw)
				}
			}
			back += len(rejected)
			slices.Sort(got)
			if slices.Sort(want); !slices.Equal(got, want) {
				t.Errorf("%s, seed %d: %q, not %q, of\n%q\n%q", name, seed, got, want, in, rejected)
			}
		}
		if back < 500 {
			t.Errorf("%s: only %d records were rejected", name, back)
		}
	}
}

// TestWhatIsNoSegment: a line that is no segment, such as the rest of a value with a line break in it, goes with the record that is rejected for
// it, so that nothing is lost when that comes back: it is rejected again, until somebody has mended it.
func TestWhatIsNoSegment(t *testing.T) {
	msh, own := "MSH|^~\\&|A|B|C|D|20261130||ORU^R01^ORU_R01|1|P|2.5.1\r", "MSH|^~\\&|A|B|C|D|20261130||ZZZ^Z01|1|P|2.5.1\r"
	isa := "ISA*00*          *00*          *ZZ*SKERRY         *ZZ*LABSUPPLY      *261125*0930*^*00501*000000001*0*T*>~GS*PO*S*L*20261125*0930*1*X*005010~"
	const unb = "UNB+UNOC:3+A+B+261130:1200+1'UNH+1+ORDERS:D:96A:UN'BGM+220+O1+9'"
	lines, messages := hl7.Source{Unit: "OBX"}, segments.Interchanges{Rules: edifact.Rules, Unit: "LIN"}
	for name, test := range map[string]struct {
		from                format.Source
		kind, paths, in     string
		made, rejected      string // values of the last path; texts
		mend, mended, whole string // the second becomes the third, and the record's value
	}{
		"a value with a line break": {lines, "hl7", "PID-5 OBX-5", msh + "PID|1||x||N\rOBR|1|||C\rOBX|1|TX|c||v\rOBX|2|TX|c||one\rtwo three|||F\rNTE|1||n\rOBX|3|TX|c||w\r", "v w",
			msh + "PID|1||x||N\rOBR|1|||C\rOBX|2|TX|c||one\rtwo three|||F\rNTE|1||n\r", "one\rtwo three", "one\\.br\\two three", "one\\ntwo three"},
		"of no described message": {lines, "hl7", "PID-5 OBX-5", own + "PID|1||x||N\rOBR|1|||C\rOBX|1|TX|c||v\rOBX|2|TX|c||one\rtwo\rOBX|3|TX|c||w\r", "v w",
			own + "PID|1||x||N\rOBR|1|||C\rOBX|2|TX|c||one\rtwo\r", "one\rtwo", "one two", "one two"},
		"what begins like a unit": {lines, "hl7", "PID-5 OBX-5", msh + "PID|1||x||N\rOBR|1|||C\rOBX|1|TX|c||v\rOBX\"|2|TX|c||one\rOBX|3|TX|c||w\r", "w",
			msh + "PID|1||x||N\rOBR|1|||C\rOBX|1|TX|c||v\rOBX\"|2|TX|c||one\r", "v\rOBX\"|2|TX|c||one", "v", "v"},
		"before the first": {lines, "hl7", "PID-5 OBX-5", msh + "PID|1||x||N\rof Pup\rOBR|1|||C\rOBX|1|TX|c||v\rPID|2||y||M\rOBR|1|||C\rOBX|2|TX|c||w\r", "w",
			msh + "PID|1||x||N\rof Pup\rOBR|1|||C\rOBX|1|TX|c||v\r", "N\rof Pup", "N of Pup", "v"},
		"blanks before a segment": {lines, "hl7", "PID-5 OBX-5", msh + "PID|1||x||N\rOBR|1|||C\r OBX|1|TX|c||v\r\t OBX|2|TX|c||a\rb\r OBX|3|TX|c||w\r", "v w",
			msh + "PID|1||x||N\rOBR|1|||C\rOBX|2|TX|c||a\rb\r", "a\rb", "a b", "a b"},
		"x12": {segments.Interchanges{Rules: x12.Rules, Unit: "PO1"}, "x12", "BEG-3 PO1-7", isa + "ST*850*0001~BEG*00*SA*O1**20261125~PO1*1*3*EA***VP*a~PID*F****text~of two~PO1*2*3*EA***VP*b~SE*7*0001~GE*1*1~IEA*1*000000001~", "b",
			isa + "ST*850*0001~BEG*00*SA*O1**20261125~PO1*1*3*EA***VP*a~PID*F****text~of two~SE*6*0001~GE*1*1~IEA*1*000000001~", "text~of two~SE*6", "text of two~SE*5", "a"},
		"edifact": {messages, "edifact", "BGM-2 LIN-3.1", unb + "LIN+1++a:SA'QTY+21:5'LIN\"+2++c:SA'QTY+21:6'LIN+3++b:SA'UNS+S'UNT+9+1'UNZ+1+1'", "b",
			unb + "LIN+1++a:SA'QTY+21:5'LIN\"+2++c:SA'QTY+21:6'UNS+S'UNT+8+1'UNZ+1+1'", "LIN\"+2++c:SA'QTY+21:6'UNS+S'UNT+8", "UNS+S'UNT+6", "a"},
	} {
		run := func(in string) (made, rejected []string) {
			c := &comingBack{}
			if _, err := copies(t, test.from, test.kind, test.paths, false).Run(context.Background(), strings.NewReader(in), flow.Inputs{Cores: 1}, c); err != nil {
				t.Fatal(err)
			}
			for line := range strings.SplitSeq(strings.TrimSpace(c.made.String()), "\n") {
				if _, value, is := strings.Cut(line, `"b":"`); is {
					made = append(made, strings.TrimSuffix(value, `"}`))
				}
			}
			return made, c.rejected
		}
		made, rejected := run(test.in)
		if got := strings.Join(made, " "); got != test.made || len(rejected) != 1 || strings.NewReplacer("\n", "", "~\n", "~").Replace(rejected[0]) != test.rejected {
			t.Errorf("%s: %s, rejected %q, want %q", name, got, rejected, test.rejected)
			continue
		}
		if made, again := run(rejected[0]); len(made) > 0 || len(again) != 1 {
			t.Errorf("%s: when it comes back it becomes %q, and %q is rejected", name, made, again)
		}
		mended := strings.Replace(strings.ReplaceAll(rejected[0], "\n", ""), test.mend, test.mended, 1)
		if made, again := run(mended); len(made) != 1 || made[0] != test.whole || len(again) > 0 {
			t.Errorf("%s: mended it becomes %q, and %q is rejected: %q", name, made, again, mended)
		}
	}
}
