package formats

import (
	"fmt"
	"strings"
	"testing"

	"ydrion/core/finding"
)

// usual are messages as they usually look, without head and tail, by type.
var usual = map[string]string{
	"ORDCHG": "BGM+230+SC-7001-C1+4'DTM+137:20261125:102'RFF+ON:SC-7001'NAD+BY+BRUNHOLM::92'NAD+SU+TW::92'LIN+1+3+TW-1004:SA'QTY+21:30:PCE'UNS+S'CNT+2:1'",
	"RECADV": "BGM+632+R1+9'DTM+50:20261130:102'RFF+ON:SC-7001'NAD+BY+BRUNHOLM::92'CPS+1'LIN+1++TW-1004:SA'QTY+48:39:PCE'QVR+-1:21'CNT+2:1'",
	"REMADV": "BGM+481+RA1+9'DTM+137:20261201:102'NAD+PE+TW::92'NAD+PR+SC::92'CUX+2:EUR:11'DOC+380+TW-I-1'MOA+9:860.00'MOA+12:850.00'DTM+137:20261130:102'AJT+72'MOA+165:10.00'UNS+S'MOA+12:850.00'",
	"PRICAT": "BGM+9+PC1+9'DTM+137:20261101:102'NAD+SU+TW::92'CUX+2:EUR:8'PGI+1+FEED'LIN+1++TW-1004:SA'PIA+1+HERR5:SA'IMD+F++:::Herring 5 kg'QTY+53:1:PCE'TAX+7+VAT+++:::14'PRI+AAA:21.50'UNS+S'CNT+2:1'",
	"SLSRPT": "BGM+73+S1+9'DTM+356:2026112320261129:718'NAD+SE+SC::92'CUX+2:EUR:4'LOC+162+QUAY::92'DTM+356:2026112320261129:718'LIN+1++4012345000016:EN'PRI+AAA:4.50'QTY+153:12'CNT+2:1'",
	"INVRPT": "BGM+35+I1+9'DTM+137:20261125:102'NAD+SU+TW::92'NAD+WH+QUAY::92'LIN+1++TW-1004:SA'QTY+145:40:PCE'LOC+18+A1'CNT+2:1'",
	"IFTMIN": "BGM+340+F1+9'DTM+137:202611251000:203'TSR+27'FTX+AAI+++Keep frozen'CNT+7:210:KGM'TOD+6++DAP'RFF+ON:SC-7001'TDT+20++30+31'LOC+5+QUAY'DTM+133:20261128:102'NAD+CN+BRUNHOLM::92'CTA+IC+:I Vail'COM+555:TE'NAD+CZ+TW::92'GID+1+40:PCE'TMP+2+-18:CEL'FTX+AAA+++Herring'MEA+WT+AAB+KGM:210'PCI+33E'GIN+BJ+340123450000000018'EQD+CN+SKRU1234567+22R1'",
	"IFTSTA": "BGM+23+T1+9'DTM+137:202611281200:203'NAD+CA+FERRY::92'CNI+1+F1'STS+1+21'RFF+CN:F1'DTM+7:202611281130:203'LOC+14+QUAY'NAD+CN+BRUNHOLM::92'GID+1+40:PCE'",
	"CODECO": "BGM+34+G1+9'TDT+1++3+31'NAD+CF+FERRY:160:20'EQD+CN+SKRU1234567+22R1:102:5++3+5'RFF+BN:B1'DTM+7:202611281130:203'LOC+165+SKBRU:139:6'MEA+AAE+G+KGM:2400'SEL+S1+CA'TDT+1++3'CNT+16:1'",
	"COARRI": "BGM+98+L1+9'TDT+20+12N+1++FERRY:172:20+++SKRR:103::SEAL'LOC+9+SKBRU:139:6'NAD+CF+FERRY:160:20'EQD+CN+SKRU1234567+22R1:102:5++2+5'RFF+BN:B1'DTM+203:202611281130:203'LOC+147+0010102::5'MEA+AAE+G+KGM:2400'CNT+16:1'",
	"COPARN": "BGM+126+A1+9'RFF+BN:B1'TDT+20+12N+1++FERRY:172:20'LOC+9+SKBRU:139:6'DTM+133:202611281800:203'NAD+CF+FERRY:160:20'EQD+CN++22R1:102:5++2+4'RFF+SQ:1'EQN+2'TMD+3'LOC+11+SKANS:139:6'CNT+16:2'",
	"BAPLIE": "BGM+659+P1+9'DTM+137:202611281200:203'TDT+20+12N+++FERRY:172:20+++SKRR:103::SEAL'LOC+5+SKBRU:139:6'LOC+61+SKANS:139:6'DTM+178:202611281200:203'LOC+147+0010102::5'GID+1'MEA+WT++KGM:2400'LOC+9+SKBRU'LOC+11+SKANS'RFF+BM:1'EQD+CN+SKRU1234567+22R1+++5'NAD+CA+FERRY:172:20'DGS+IMD+3+1993'",
	"PAXLST": "BGM+745'NAD+MS+++SKERRY FERRY'COM+555:TE'TDT+20+12N+++SF'LOC+125+SKB'DTM+189:2611281200:201'LOC+87+SKA'DTM+232:2611281400:201'NAD+FL+++VAIL:INES'ATT+2++F'DTM+329:800101:101'LOC+178+SKB'NAT+2+SKE'DOC+P+X123'LOC+91+SKE'CNT+42:1'",
	"APERAK": "BGM+305+E1+11'DTM+137:20261125:102'RFF+ACW:SC-7001'NAD+MS+TW::92'ERC+12::92'FTX+AAO+++Unknown article'RFF+LI:2'",
	"INVOIC": "BGM+380+TW-I-1+9'DTM+137:20261130:102'RFF+ON:SC-7001'NAD+BY+BRUNHOLM::92'NAD+SU+TW::92'CUX+2:EUR:4'LIN+1++TW-1004:SA'QTY+47:40:PCE'MOA+203:860.00'PRI+AAA:21.50'UNS+S'MOA+77:860.00'TAX+7+VAT+++:::0'MOA+124:0'",
	"DESADV": "BGM+351+TW-L1+9'DTM+11:20261130:102'RFF+ON:SC-7001'NAD+BY+BRUNHOLM::92'CPS+1'PAC+2++201'PCI+33E'GIN+BJ+340123450000000018'LIN+1++TW-1004:SA'QTY+12:40:PCE'CNT+2:1'",
	"ORDERS": "BGM+220+SC-7001+9'DTM+137:20261124:102'NAD+BY+BRUNHOLM::92'LIN+1++TW-1004:SA'QTY+21:40:PCE'PRI+AAA:21.50'UNS+S'CNT+2:1'",
	"ORDRSP": "BGM+231+TW-88120+4+AC'DTM+137:20261125:102'RFF+ON:SC-7001'NAD+BY+BRUNHOLM::92'LIN+1+5+TW-1004:SA'QTY+21:40:PCE'UNS+S'CNT+2:1'",
}

// all are findings as text.
func all(findings finding.List) string {
	var b strings.Builder
	for _, f := range findings {
		b.WriteString("\n" + f.String())
	}
	return b.String()
}

// TestUsualMessages: descriptions have nothing against messages as they usually look, show their
// groups and names, and notice a segment that has no place.
func TestUsualMessages(t *testing.T) {
	for kind, body := range usual {
		for _, directory := range []string{"D:96A", "D:01B"} {
			for _, more := range []string{"", "UIC+1'"} {
				text := body + more
				in := fmt.Sprintf("UNB+UNOC:3+A+B+261124:1630+1'UNH+1+%s:%s:UN'%sUNT+%d+1'UNZ+1+1'", kind, directory, text, strings.Count(text, "'")+2)
				look, err := Examine(t.Context(), strings.NewReader(in), Request{Records: 1, Byte: -1})
				if err != nil {
					t.Fatal(err)
				}
				if (look.Warnings+look.Errors == 0) != (more == "") {
					t.Errorf("%s %s: %d warnings: %v", kind, directory, look.Warnings, all(look.Findings))
				}
				for _, p := range look.Shown[0].Parts {
					if p.Name == "" && p.Kind == "segment" && !strings.HasPrefix(p.Path, "UIC") {
						t.Errorf("%s %s: %s has no name", kind, directory, p.Path)
					}
				}
			}
		}
	}
}

// usualSets are transaction sets as they usually look, without ST and SE, by release and set. Of those of
// health care the guide stands in GS-8.
var usualSets = map[string]string{
	"850":        "BEG*00*SA*SC-1**20261124~REF*DP*LAB~N1*BY*SKERRY*92*LAB~PO1*1*48*EA*1.15**VP*HR-020~PID*F****Saline~CTT*1~",
	"855":        "BAK*00*AC*SC-1*20261124~PO1*1*48*EA*1.15**VP*HR-020~ACK*IA*48*EA*068*20261127~CTT*1~",
	"856":        "BSN*00*L1*20261127*0915~HL*1**S~TD5**2*QUAY~HL*2*1*O~PRF*SC-1~HL*3*2*I~LIN**VP*HR-020~SN1**48*EA~MEA*PD*WT*12*KG>1>1~CTT*3~",
	"810":        "BIG*20261127*I1*20261124*SC-1~N1*RE*HOLM~IT1*1*48*EA*1.15**VP*HR-020~TDS*5520~CTT*1~",
	"820":        "BPR*C*850*C*ACH*CTX*01*999999999*DA*1*1234567890**01*999999998*DA*2*20261201~TRN*1*T1~REF*EV*1~DTM*097*20261201~N1*PR*SKERRY~N1*PE*HOLM~ENT*1~RMR*IV*I1**850*860*10~REF*PO*SC-1~DTM*003*20261127~",
	"830":        "BFR*00**R1*DL*A*20261125*20270225*20261125~N1*ST*SKERRY*92*LAB~LIN**VP*HR-020~UIT*EA~SDP*Y*Y~FST*48*C*W*20261201~FST*24*D*W*20261208~SHP*01*48*011*20261127~REF*SI*L1~CTT*1~",
	"860":        "BCH*04*SA*SC-1***20261124~POC*1*QD*24*24*EA*1.15**VP*HR-020~CTT*1~",
	"861":        "BRA*R1*20261128*00*1~REF*PO*SC-1~DTM*050*20261128~N1*ST*SKERRY*92*LAB~RCD*1*48*EA~LIN**VP*HR-020~CTT*1~",
	"940":        "W05*N*SC-1*P1~N1*ST*SKERRY*92*LAB~N3*Quay 1~N4*Brunholm~N9*CO*1~G62*10*20261128~W66*PP*M~LX*1~W01*48*EA**VN*HR-020~G69*Saline~W76*48~",
	"945":        "W06*N*SC-1*20261128*S1~N1*ST*SKERRY*92*LAB~N9*BM*1~G62*11*20261128~W27*M*QUAY~LX*1~MAN*GM*00340123450000000025~W12*SH*48*48**EA**VN*HR-020~G69*Saline~W03*48~",
	"204":        "B2**QUAY**S1**PP~B2A*00~L11*1*BM~G62*64*20261126*1*1200~N1*BT*SKERRY~S5*1*CL~G62*37*20261128*I*0800~N1*SF*HOLM~N3*Mill 2~N4*Holm~L5*1*Saline~AT8*G*K*48*2~S5*2*CU~N1*ST*SKERRY~OID*1*SC-1**EA*48*K*48~L3*48*G~",
	"214":        "B10*C1*S1*QUAY~L11*1*BM~N1*ST*SKERRY~N4*Brunholm~LX*1~AT7*X1*NS***20261128*1130*LT~MS1*Brunholm~MS2*QUAY*1~L11*1*PO~AT8*G*K*48*2~",
	"990":        "B1*QUAY*S1*20261126*A~N9*CN*C1~",
	"997":        "AK1*PO*71~AK2*850*0001~AK5*A~AK9*A*1*1*1~",
	"835 X221A1": "BPR*I*100*C*CHK************20261201~TRN*1*T1*1234567890~N1*PR*INSURER~N3*Road 1~N4*Town*SK*12345~N1*PE*CLINIC*XX*1234567893~LX*1~CLP*C1*1*120*100*20*12*P1~CAS*PR*1*20~NM1*QC*1*VAIL*INES~SVC*HC>99213*120*100~DTM*472*20261120~CAS*PR*1*20~",
	"837 X222A1": "BHT*0019*00*1*20261125*1200*CH~NM1*41*2*CLINIC*****46*01~PER*IC*VAIL*TE*555~NM1*40*2*INSURER*****46*02~HL*1**20*1~NM1*85*2*CLINIC*****XX*1234567893~N3*Road 1~N4*Town*SK*12345~REF*EI*1~HL*2*1*22*0~SBR*P*18*G1******CI~NM1*IL*1*VAIL*INES****MI*01~NM1*PR*2*INSURER*****PI*02~CLM*C1*120***11>B>1*Y*A*Y*Y~HI*ABK>R51~SBR*S*18*******CI~AMT*D*20~DMG*D8*19800101*F~OI***Y***Y~NM1*IL*1*VAIL*INES****MI*02~LX*1~SV1*HC>99213>>>>>Extra>99215*120*UN*1***1~DTP*472*D8*20261120~",
	"270 X279A1": "BHT*0022*13*1*20261125*1200~HL*1**20*1~NM1*PR*2*INSURER*****PI*02~HL*2*1*21*1~NM1*1P*2*CLINIC*****XX*1234567893~HL*3*2*22*0~TRN*1*T1*9CLINIC000~NM1*IL*1*VAIL*INES****MI*01~DMG*D8*19800101~EQ*30~",
	"277 X214":   "BHT*0085*08*277X2140001*20261125*1405*TH~HL*1**20*1~NM1*PR*2*INSURER*****PI*02~TRN*1*R1~DTP*050*D8*20261125~DTP*009*D8*20261125~HL*2*1*21*1~NM1*41*2*CLINIC*****46*01~TRN*2*B1~STC*A1>19>PR*20261125*WQ*365.5~QTY*90*1~AMT*YU*200~HL*3*2*19*1~NM1*85*2*CLINIC*****XX*1234567893~HL*4*3*PT~NM1*QC*1*VAIL*INES****MI*01~TRN*2*C1~STC*A1>20>PR*20261125*WQ*100~REF*1K*I1~DTP*472*D8*20261120~SVC*HC>99212*100~STC*A1>20*20261125*WQ~",
	"276 X212":   "BHT*0010*13*1*20261125*1200~HL*1**20*1~NM1*PR*2*INSURER*****PI*02~HL*2*1*21*1~NM1*41*2*CLINIC*****46*01~HL*3*2*19*1~NM1*1P*2*CLINIC*****XX*1234567893~HL*4*3*22*0~DMG*D8*19800101*F~NM1*IL*1*VAIL*INES****MI*01~TRN*1*T1~AMT*T3*120~DTP*472*D8*20261120~SVC*HC>99213*120*****1~",
	"278 X217":   "BHT*0007*13*1*20261125*1200~HL*1**20*1~NM1*X3*2*INSURER*****PI*02~HL*2*1*21*1~NM1*1P*2*CLINIC*****XX*1234567893~HL*3*2*22*1~NM1*IL*1*VAIL*INES****MI*01~HL*4*3*EV*1~TRN*1*T1*9CLINIC000~UM*HS*I*1~HI*ABK>R51~HL*5*4*SS*0~SV1*HC>99213*120*UN*1~",
	"834 X220A1": "BGN*00*1*20261125*1200~N1*P5*SKERRY*FI*01~N1*IN*INSURER*FI*02~INS*Y*18*030*XN*A***FT~REF*0F*1~DTP*356*D8*20260101~NM1*IL*1*VAIL*INES~HD*030**HLT~DTP*348*D8*20260101~",
}

// groupOf is GS-1 of the groups that they stand in (X12 data element 479).
var groupOf = map[string]string{"850": "PO", "855": "PR", "856": "SH", "810": "IN", "820": "RA", "830": "PS", "860": "PC", "861": "RC", "940": "OW", "945": "SW", "204": "SM", "214": "QM", "990": "GF", "997": "FA", "835": "HP", "837": "HC", "270": "HS", "276": "HR", "277": "HN", "278": "HI", "834": "BE"}

// TestNearDirectories: messages of directories that are used between ports are checked against the next one.
func TestNearDirectories(t *testing.T) {
	for directory, of := range map[string]string{"D:95B": "D.96A", "D:00B": "D.01B", "D:02B": "D.01B"} {
		for _, kind := range []string{"CODECO", "COARRI", "COPARN", "BAPLIE", "ORDERS"} {
			body := usual[kind]
			for _, more := range []string{"", "UIC+1'"} {
				in := fmt.Sprintf("UNB+UNOC:3+A+B+261124:1630+1'UNH+1+%s:%s:UN'%sUNT+%d+1'UNZ+1+1'", kind, directory, body+more, strings.Count(body+more, "'")+2)
				look, err := Examine(t.Context(), strings.NewReader(in), Request{Records: 1, Byte: -1})
				if err != nil {
					t.Fatal(err)
				}
				told, said := look.Warnings+look.Errors > 0, strings.Join(look.Reasons, "\n")
				if told != (more != "" && kind != "ORDERS") || strings.Contains(said, "checked against that of "+of) != (kind != "ORDERS") {
					t.Errorf("%s %s %q: %s%s", kind, directory, more, said, all(look.Findings))
				}
			}
		}
	}
}

// TestUsualSets: the same for X12, in both releases.
func TestUsualSets(t *testing.T) {
	for kind, body := range usualSets {
		for _, release := range []string{"004010", "005010"} {
			set, guide, _ := strings.Cut(kind, " ")
			if release == "004010" && set == "837" {
				guide = "X098A1"
			}
			if release == "004010" && guide == "X214" {
				continue // there is none
			}
			head, end := "ST*"+set+"*0001", 2
			if release == "005010" && guide != "" {
				head += "*005010" + guide
			}
			for _, more := range []string{"", "ZZZ*1~"} {
				if release == "004010" {
					body = strings.Replace(body, ">Extra>99215", ">Extra", 1) // of seven components then
				}
				in := strings.Replace(partner[:106], "00501", release[:5], 1) + "GS*" + groupOf[set] + "*S*H*20261124*1645*71*X*" + release + guide + "~" + head + "~" + body + more + fmt.Sprintf("SE*%d*0001~GE*1*71~IEA*1*000000071~", strings.Count(body+more, "~")+end)
				look, err := Examine(t.Context(), strings.NewReader(in), Request{Records: 1, Byte: -1})
				if err != nil {
					t.Fatal(err)
				}
				if (look.Warnings+look.Errors == 0) != (more == "") {
					t.Errorf("%s %s: %d warnings: %v", kind, release, look.Warnings, all(look.Findings))
				}
			}
		}
	}
}
