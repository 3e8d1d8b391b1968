package segments_test

import (
	"slices"
	"strings"
	"testing"

	"ydrion/core/format/edifact"
	"ydrion/core/format/x12"
	"ydrion/core/segments"
)

// TestLoops: a value is found by the loop that it stands in, wherever that stands among its like, with
// and without a description; the record's own before that of what it stands under, which is asked for by name.
func TestLoops(t *testing.T) {
	const isa = "ISA*00*          *00*          *ZZ*SKERRY         *ZZ*LABSUPPLY      *261125*0930*^*00501*000000007*0*T*>~GS*PO*S*L*20261125*0930*7*X*005010~"
	order := isa + "ST*850*0001~BEG*00*SA*LAB-1**20261125~DTM*002*20261201~N1*ST*Store~N3*Pier 2~N4*Ansel~N1*BY*Buyer~N3*Head 1*Floor 2~N4*Holm~PER*BD*Ann~" +
		"PO1*1*3*EA*9.10**VP*HR-1~PID*F****Grey~DTM*002*20261203~N1*ST*Other~N3*Quay 9~PO1*2*1*BX***VP*HR-2~CTT*2~SE*18*0001~GE*1*7~IEA*1*000000007~"
	plain := strings.ReplaceAll(order, "005010~", "X09999~")
	const message = "UNB+UNOC:3+S+H+261125:0930+7'UNH+1+ORDERS:D:96A:UN'BGM+220+A1+9'DTM+137:20261125:102'NAD+SU+S1::92'CTA+OC+:Sue'COM+12:TE'NAD+BY+B1::92'RFF+VA:X1'CTA+OC+:Bob'COM+34:TE'COM+b@x:EM'" +
		"LIN+1++X1:SA'QTY+21:3'DTM+2:20261201:102'LIN+2++X2:SA'QTY+21:5'UNS+S'UNT+17+1'UNZ+1+7'"
	shipment := strings.Replace(isa, "*PO*", "*SH*", 1) + "ST*856*0001~BSN*00*L1*20261125*0930~HL*1**S~TD5*B*2*TRUCK~N1*ST*Store~N3*Pier 2~HL*2*1*O~PRF*A-1~HL*3*2*I~LIN**VP*X1~SN1**1*EA~HL*4*2*I~LIN**VP*X2~HL*5*1*O~HL*6*5*I~LIN**VP*X3~HL*7*1*O~PRF*A-3~HL*8*7*I~LIN**VP*X4~CTT*8~SE*21*0001~GE*1*7~IEA*1*000000007~"
	const despatch = "UNB+UNOC:3+S+H+261125:0930+7'UNH+1+DESADV:D:96A:UN'BGM+351+D1+9'NAD+SU+S1::92'CPS+1'PAC+1++201'CPS+2+1'PAC+4++CT'LIN+1++X1:SA'QTY+12:3'LIN+2++X2:SA+1:1'QTY+12:5'LIN+3++X3:SA'CPS+3+1'LIN+4++X4:SA'CPS+4'PAC+9++BX'LIN+5++X5:SA'CNT+2:5'UNT+19+1'UNZ+1+7'"
	parts := strings.NewReplacer("CPS+1'PAC+1++201'CPS+2+1'PAC+4++CT'", "", "CPS+3+1'", "", "CPS+4'PAC+9++BX'", "", "DESADV", "ORDERS", "351", "220", "QTY+12", "QTY+21", "CNT+2:5", "UNS+S'CNT+2:5", "UNT+19", "UNT+13").Replace(despatch)
	for name, test := range map[string]struct {
		rules      *segments.Rules
		file, unit string
		paths      string
		want       []string
	}{
		"an order":                  {x12.Rules, order, "", "N1(BY)/N3-1 N1(BY)/N3-2 N1(BY)/N4-1 N1(ST)/N3-1 N1(BY)/PER-2 N1(SU)/N3-1 N3-1 N1(BY)/N3[2]-1 N1(BY)/N1-2", []string{"Head 1 Floor 2 Holm Pier 2 Ann - Pier 2 - Buyer"}},
		"its lines":                 {x12.Rules, order, "PO1", "PO1-1 N1(BY)/N3-1 N1(ST)/N3-1 DTM(002)-2 BEG/DTM(002)-2 PO1/PID-5", []string{"1 Head 1 Quay 9 20261203 20261201 Grey", "2 Head 1 Pier 2 20261201 20261201 -"}},
		"an order undescribed":      {x12.Rules, plain, "", "N1(BY)/N3-1 N1(BY)/N4-1 N1(ST)/N3-1 N1(SU)/N3-1", []string{"Head 1 Holm Pier 2 -"}},
		"a shipment":                {x12.Rules, shipment, "HL(3=I)", "HL-1 HL(3=O)/PRF-1 HL(3=S)/N1(ST)/N3-1 HL(3=S)/TD5-3 HL(3=I)/LIN-3", []string{"3 A-1 Pier 2 TRUCK X1", "4 A-1 Pier 2 TRUCK X2", "6 - Pier 2 TRUCK X3", "8 A-3 Pier 2 TRUCK X4"}},
		"its orders":                {x12.Rules, shipment, "HL(3=O)", "HL-1 PRF-1 HL(3=S)/N1(ST)/N3-1 LIN-3 HL(3=I)/LIN-3 CTT-1", []string{"2 A-1 Pier 2 X1 X1 -", "5 - Pier 2 X3 X3 -", "7 A-3 Pier 2 X4 X4 -"}},
		"their references":          {x12.Rules, strings.NewReplacer("HL*2*1*O~", "REF*ZZ*S~HL*2*1*O~", "LIN**VP*X1~", "LIN**VP*X1~REF*ZZ*I~", "SE*21", "SE*23").Replace(shipment), "HL(3=O)", "HL-1 REF-2 LIN-3", []string{"2 S X1", "5 S X3", "7 S X4"}},
		"theirs undescribed":        {x12.Rules, strings.NewReplacer("HL*2*1*O~", "REF*ZZ*S~HL*2*1*O~", "LIN**VP*X1~", "LIN**VP*X1~REF*ZZ*I~", "SE*21", "SE*23", "005010~", "X09999~").Replace(shipment), "HL(3=O)", "HL-1 REF-2 LIN-3", []string{"2 S X1", "5 S X3", "7 S X4"}},
		"undescribed":               {x12.Rules, strings.Replace(shipment, "005010~", "X09999~", 1), "HL(3=I)", "HL-1 HL(3=O)/PRF-1 HL(3=S)/N1(ST)/N3-1 HL(3=S)/TD5-3 HL(3=I)/LIN-3", []string{"3 A-1 Pier 2 TRUCK X1", "4 A-1 Pier 2 TRUCK X2", "6 - Pier 2 TRUCK X3", "8 A-3 Pier 2 TRUCK X4"}},
		"a message":                 {edifact.Rules, message, "", "NAD(BY)/CTA-2.2 NAD(BY)/CTA/COM-1.1 NAD(BY)/CTA/COM[2]-1.1 NAD(SU)/CTA/COM-1.1 NAD(SU)/RFF-1.2 NAD(BY)/RFF-1.2 NAD(BY)/COM-1.1 BGM/DTM-1.1", []string{"Bob 34 b@x 12 - X1 - 137"}},
		"consignments":              {edifact.Rules, despatch, "LIN", "LIN-1 CPS-1 PAC-1 PAC-3 QTY-1.2 NAD(SU)-2 CNT-1.2", []string{"1 2 4 CT 3 S1 -", "2 2 4 CT 5 S1 -", "3 2 4 CT - S1 -", "4 3 1 201 - S1 -", "5 4 9 BX - S1 -"}},
		"packages":                  {edifact.Rules, despatch, "CPS", "CPS-1 PAC-1 PAC-3 LIN-1 QTY-1.2 NAD(SU)-2 CNT-1.2", []string{"1 1 201 - - S1 -", "2 4 CT 1 3 S1 -", "3 - - 4 - S1 -", "4 9 BX 5 - S1 -"}},
		"lines under lines":         {edifact.Rules, parts, "QTY", "QTY-1.2 LIN-1 LIN-3", []string{"3 1 X1", "5 2 X2"}},
		"lines of a message":        {edifact.Rules, message, "LIN", "LIN-1 NAD(BY)/CTA-2.2 DTM-1.1 BGM/DTM-1.1 QTY-1.2", []string{"1 Bob 2 137 3", "2 Bob 137 137 5"}},
		"its lines, 004030":         {x12.Rules, strings.ReplaceAll(order, "005010~", "004030~"), "PO1", "PO1-1 N1(BY)/N3-1 N1(ST)/N3-1 DTM(002)-2 BEG/DTM(002)-2 PO1/PID-5", []string{"1 Head 1 Quay 9 20261203 20261201 Grey", "2 Head 1 Pier 2 20261201 20261201 -"}},
		"lines of a message, D.99B": {edifact.Rules, strings.Replace(message, "96A", "99B", 1), "LIN", "LIN-1 NAD(BY)/CTA-2.2 DTM-1.1 BGM/DTM-1.1 QTY-1.2", []string{"1 Bob 2 137 3", "2 Bob 137 137 5"}},
	} {
		for _, size := range []int{20, 500, 50_000} {
			records, wrong := read(t, test.rules, test.file, test.unit, size, strings.Fields(test.paths)...)
			var got []string
			for _, r := range records {
				got = append(got, strings.Join(r.values, " "))
			}
			if !slices.Equal(got, test.want) || len(wrong) > 0 {
				t.Errorf("%s, size %d:\n%q, not\n%q %v", name, size, got, test.want, wrong)
			}
		}
	}
	for _, path := range []string{"N1(BY)/N3-1", "NAD(BY)/CTA/COM[2]-1.1", "N1(A/B)/N3-1", "HL(3=O)/PRF-1"} {
		if p, err := segments.ParsePosition(path); err != nil || p.String() != path {
			t.Errorf("%s: %s, %v", path, p, err)
		}
	}
	for _, path := range []string{"N1-2/N3-1", "N1[2]/N3-1", "/N3-1", "N1/", "n1/N3-1", "N1(BY/N3-1"} {
		if p, err := segments.ParsePosition(path); err == nil {
			t.Errorf("%s is taken for %s", path, p)
		}
	}
}

// TestMoreThanAreTaken: what a map takes by number is told if there is more of it.
func TestMoreThanAreTaken(t *testing.T) {
	const message = "UNB+UNOC:3+S+H+261125:0930+7'UNH+1+ORDERS:D:96A:UN'BGM+220+A1+9'DTM+137:20261125:102'LIN+1++X1:SA'QTY+21:3'LIN+2++X2:SA'QTY+21:5'LIN+3++X3:SA'QTY+21:6'UNS+S'UNT+11+1'UNZ+1+7'"
	warned = true
	defer func() { warned = false }()
	for paths, want := range map[string]string{"LIN[1]-1 LIN[2]-1": "edifact.beyond +129", "LIN[3]-1": "", "LIN-1": "", "QTY(21)[2]-1.2": "edifact.beyond +142"} {
		records, _ := read(t, edifact.Rules, message, "", 1000, strings.Fields(paths)...)
		if len(records) != 1 || !strings.HasPrefix(strings.Join(records[0].found, ";"), want) || want == "" && len(records[0].found) > 0 {
			t.Errorf("%s: %+v", paths, records)
		}
	}
}
