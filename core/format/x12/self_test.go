package x12_test

import (
	"fmt"
	"strings"
	"testing"
	"ydrion/core/batch"
	"ydrion/core/format"
	"ydrion/core/text"

	"ydrion/core/format/formattest"
	"ydrion/core/format/x12"
	"ydrion/core/segments"
	"ydrion/core/shape"
)

func TestContract(t *testing.T) {
	const isa = "ISA*00*          *00*          *ZZ*SKERRY         *ZZ*LABSUPPLY      *261125*0930*^*00501*000000007*0*T*>~GS*PO*S*L*20261125*0930*7*X*005010~"
	order := "ST*850*0001~BEG*00*SA*LAB-1**20261125~N1*BY*Skerry Coast*92*B1~PO1*1*3*EA*9.10**VP*HR-1~PID*F****Grey, é~PO1*2*1*BX***VP*HR-2~CTT*2~SE*8*0001~"
	second := strings.ReplaceAll(order, "0001~", "0002~")
	end := "GE*2*7~IEA*1*000000007~"
	fields := []string{"ISA-6", "GS-6", "BEG-3", "N1(BY)-4", "PO1-2", "PO1[2]-7", "PID-5", "CTT-1", "PO1-5"}
	lines := []shape.List{{Name: "lines", Path: "PO1", Shape: shape.Shape{Fields: shape.Of("PO1-1", "PO1-2", "PID-5", "PO1-5"), Lists: []shape.List{{Name: "PID", Shape: shape.Shape{Fields: shape.Of("PID-1")}}}}}, {Name: "parties", Path: "N1", Shape: shape.Shape{Fields: shape.Of("N1-2")}}}
	rows := "{[1,3,Grey, é,-{[F]}][2,1,-,-{}]}{[Skerry Coast]}"
	formattest.Contract(t, x12.Format,
		formattest.Case{Name: "lists", File: isa + order + second + end, Fields: fields, Records: 2, Lists: lines, Rows: []string{rows, rows}},
		formattest.Case{Name: "lists undescribed", File: strings.ReplaceAll(isa+order+second+end, "005010~", "X09999~"), Fields: fields, Records: 2, Lists: lines, Rows: []string{rows, rows}},
		formattest.Case{Name: "lists of levels", File: strings.Replace(isa, "*PO*", "*SH*", 1) + "ST*856*0001~BSN*00*L1*20261125*0930~HL*1**S~TD5*B*2*TRUCK~HL*2*1*O~PRF*A-1~HL*3*2*I~LIN**VP*X1~SN1**1*EA~HL*4*2*I~LIN**VP*X2~HL*5*1*O~HL*6*5*I~LIN**VP*X3~HL*7*1*O~PRF*A-3~CTT*7~SE*18*0001~GE*1*7~IEA*1*000000007~", Records: 1,
			Lists: []shape.List{{Name: "orders", Path: "HL(3=O)", Shape: shape.Shape{Fields: shape.Of("HL-1", "PRF-1"), Lists: []shape.List{{Name: "items", Path: "HL(3=I)", Shape: shape.Shape{Fields: shape.Of("LIN-3", "SN1-2")}}}}}},
			Rows:  []string{"{[2,A-1{[X1,1][X2,-]}][5,-{[X3,-]}][7,A-3{}]}"}},
		formattest.Case{Name: "sets", File: isa + order + second + end, Fields: fields, Records: 2},
		formattest.Case{Name: "lines of sets", File: isa + order + second + end, Source: segments.Interchanges{Rules: x12.Rules, Unit: "PO1"}, Fields: fields, Records: 4},
		formattest.Case{Name: "in lines", File: strings.ReplaceAll(isa+order+second+end, "~", "~\r\n"), Fields: fields, Records: 2},
		formattest.Case{Name: "other separators behind", File: isa + order + second + end + strings.NewReplacer("*", "|", "~", "'").Replace(strings.ReplaceAll(isa+order+second+end, "000000007", "000000008")), Fields: fields, Records: 4},
		formattest.Case{Name: "a wrong count", File: isa + strings.Replace(order, "SE*8", "SE*9", 1) + second + end, Fields: fields, Records: 2},
	)
}

func TestUnitsTakeWhatTheyNeed(t *testing.T) {
	formattest.Linear(t, x12.Format, segments.Interchanges{Rules: x12.Rules, Unit: "PO1"}, func(units int) string {
		s := "ISA*00*          *00*          *ZZ*SKERRY         *ZZ*LABSUPPLY      *261125*0930*^*00501*000000007*0*T*>~GS*PO*S*L*20261125*0930*7*X*005010~ST*850*0001~BEG*00*SA*LAB-1**20261125~"
		for i := range units {
			s += fmt.Sprintf("PO1*%d.*3*EA*9.10**VP*HR-1~", i+1)
		}
		return s + fmt.Sprintf("CTT*%d~SE*%d*0001~GE*1*7~IEA*1*000000007~", units, units+4)
	}, "BEG*00*SA*LAB-1**20261125~")
}

// TestUnitsTakeNoStrangers: a unit stands under its levels of the hierarchy, and under no other.
func TestUnitsTakeNoStrangers(t *testing.T) {
	const file = "ISA*00*          *00*          *ZZ*SKERRY         *ZZ*LABSUPPLY      *261125*0930*^*00501*000000007*0*T*>~GS*SH*S*L*20261125*0930*7*X*005010~ST*856*0001~BSN*00*L1*20261125*0930~" +
		"HL*1**S~TD5*B*2*TRUCK~HL*2*1*O~PRF*A-1~HL*3*2*I~LIN**VP*X1~SN1**1*EA~HL*4*2*I~LIN**VP*X2~HL*5*1*O~PRF*A-2~HL*6*5*I~LIN**VP*X3~CTT*6~SE*16*0001~GE*1*7~IEA*1*000000007~"
	in, err := text.Decode(strings.NewReader(file), text.UTF8)
	if err != nil {
		t.Fatal(err)
	}
	r, findings, err := format.Open(segments.Interchanges{Rules: x12.Rules, Unit: "HL(3=I)"}, in, nil)
	if err != nil || r == nil {
		t.Fatal(findings, err)
	}
	b := &batch.Batch{First: 1}
	if _, err := r.Cut(b); err != nil {
		t.Fatal(err)
	}
	r.Split(b)
	for i, want := range []string{
		"ST*856*0001~BSN*00*L1*20261125*0930~HL*1**S~TD5*B*2*TRUCK~HL*2*1*O~PRF*A-1~HL*3*2*I~LIN**VP*X1~SN1**1*EA~CTT*6~SE*11*0001~",
		"ST*856*0001~BSN*00*L1*20261125*0930~HL*1**S~TD5*B*2*TRUCK~HL*2*1*O~PRF*A-1~HL*4*2*I~LIN**VP*X2~CTT*6~SE*10*0001~",
		"ST*856*0001~BSN*00*L1*20261125*0930~HL*1**S~TD5*B*2*TRUCK~HL*5*1*O~PRF*A-2~HL*6*5*I~LIN**VP*X3~CTT*6~SE*10*0001~",
	} {
		if got := string(r.Raw(b, i)); !strings.Contains(got, "005010~"+want+"GE*1*7~") {
			t.Errorf("unit %d:\n%s, not\n%s", i+1, got, want)
		}
	}
}
