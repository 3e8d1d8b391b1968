package formats

import (
	"os"
	"strings"
	"testing"

	"ydrion/core/standard"
)

// guideline is a small guideline with everything that is enforced: what is exchanged is told by the tests.
const guideline = `.VER 1.6
.INI
holm,,005 010,X,005010,Orders to Holm Reagents
.SETS
850=^[ST,M][BEG*1,M][CUR][REF,,2]{:2[N1,M][N2]}^{PO1:>1[PO1,M]{:3[PID]}[.CTP]}[$CTT][SE,M]
.SEGS
ST=[143,M][329,M]
BEG=[353,M][92,M][324;3:10,M][328][373,M],!!!.!
CUR=[98,M][100]{2[374][373]}+P0304
REF=[128,M,2][127][C040]
N1=[98,M][93][66][67]+R0203P0304
N2=[93,M]
PO1=[350,M][.330][355]+C0103L010203
PID=[349,M]
CTP=[687]
CTT=[354,M]
SE=[96,M][329,M]
.COMS
C040=[128,M][127][.350]+E0203
.ELMS
143=ID,3,3
329=AN,4,9
353=ID,2,2
92=ID,2,2
324=AN,1,22
328=AN,1,30
373=DT,8,8
98=ID,2,3
100=ID,3,3
374=ID,3,3
128=ID,2,3
127=AN,1,50
93=AN,1,60
66=ID,1,2
67=AN,2,80
350=AN,1,20
330=R,1,15
355=ID,2,2
349=ID,1,1
687=ID,2,2
354=N0,1,6
96=N0,1,10
.CODES
353=00,.05,$01
98=BY,SE
.TEXT,SETS
850,0,Orders to Holm
.TEXT,ELMS
353,0,What for
353~00,0,New
`

// partner is an order that the guideline has nothing against.
const partner = "ISA*00*          *00*          *ZZ*SKERRYCOAST    *ZZ*HOLMREAGENTS   *261124*1645*^*00501*000000071*0*T*>~GS*PO*S*H*20261124*1645*71*X*005010~" +
	"ST*850*0001~BEG*00*SA*SC-1**20261124~CUR*BY*EUR~REF*DP*LAB~N1*BY*SKERRY~PO1*1**EA~PID*F~PO1*2**EA~CTT*2~SE*11*0001~GE*1*71~IEA*1*000000071~"

// TestGuidelineIsEnforced: each construct of a guideline finds the message that is against it.
func TestGuidelineIsEnforced(t *testing.T) {
	catalog, of, findings := Description("holm.sef", []byte(guideline))
	if catalog == nil || of != "x12" || len(findings) > 0 {
		t.Fatal(findings)
	}
	for _, test := range []struct{ construct, old, new, want string }{
		{"nothing", "", "", ""},
		{"a segment that must come", "CTT*2~SE*11", "SE*10", "CTT is missing before SE"},
		{"a segment that is not used", "PID*F~", "PID*F~CTP*X~", "CTP has no place in 850"},
		{"a segment that comes too often", "REF*DP*LAB~", "REF*DP*A~REF*DP*B~REF*DP*C~", "REF comes more than 2 times"},
		{"a loop that must come", "N1*BY*SKERRY~", "", "LOOP_N1 is missing before PO1"},
		{"a loop that comes too often", "N1*BY*SKERRY~", "N1*BY*A~N1*SE*B~N1*SE*C~", "LOOP_N1 comes more than 2 times"},
		{"a loop within a loop", "PID*F~", "PID*F~PID*F~PID*F~PID*F~", "LOOP_PID comes more than 3 times"},
		{"a segment out of place", "CUR*BY*EUR~REF*DP*LAB~", "REF*DP*LAB~CUR*BY*EUR~", "CUR should stand before"},
		{"an element that must be there", "BEG*00*SA*SC-1*", "BEG*00*SA**", "Order number is required"},
		{"an element that is not used", "PO1*1**EA", "PO1*1*5*EA", "is not used"},
		{"an element that a mask does not use", "SC-1**2026", "SC-1*R*2026", "Release number is not used"},
		{"its own length", "SC-1*", "S*", "must have 3 at least"},
		{"its other length", "SC-1*", "SC-1234567890*", "at most 10 are allowed"},
		{"the element's length", "CUR*BY*EUR", "CUR*BY*EURO", "at most 3 are allowed"},
		{"a type", "CTT*2", "CTT*two", "is not a value of type N"},
		{"a day", "20261124~CUR", "20261131~CUR", "there is no such day"},
		{"a code", "CUR*BY", "CUR*ZZ", "not among the codes of table 98"},
		{"a code that is not used", "BEG*00", "BEG*05", "not among the codes of table 353 (What for)"},
		{"a repetition", "REF*DP*LAB", "REF*DP^DQ^DR*LAB", "may come 2 times, not 3"},
		{"more elements", "N1*BY*SKERRY", "N1*BY*SKERRY*1*22*5", "knows 4 fields of N1"},
		{"paired elements", "CUR*BY*EUR", "CUR*BY*EUR*EUR", "3 and 4 come together or not at all, and 4 is missing (P0304)"},
		{"repeated elements", "CUR*BY*EUR", "CUR*BY*EUR*EUR*20261124*EUR*20261124", ""},
		{"more than the repeated elements", "CUR*BY*EUR", "CUR*BY*EUR*EUR*20261124*EUR*20261124*EUR", "knows 6 fields of CUR"},
		{"one of several", "N1*BY*SKERRY", "N1*BY", "at least one of 2 and 3 must be there (R0203)"},
		{"if one then another", "PO1*1**EA", "PO1*1", "with 1 there must be 3, and 3 is missing (C0103)"},
		{"if one then one more", "PO1*1**EA", "PO1*1", "with 1 there must be 2 or 3 (L010203)"},
		{"a component that must be there", "REF*DP*LAB", "REF*DP*LAB*>X", "REF-3.1: Kind of reference of Description is required, and empty"},
		{"a component that is not used", "REF*DP*LAB", "REF*DP*LAB*DP>>Y", "is not used"},
		{"a condition between components", "REF*DP*LAB", "REF*DP*LAB*DP>X>Y", "only one of 2 and 3 may be there, and 2 and 3 are (E0203)"},
		{"another message", "ST*850", "ST*855", "the description that was given has nothing on 855 of 005010"},
	} {
		text := strings.Replace(partner, test.old, test.new, 1)
		look, err := Examine(t.Context(), strings.NewReader(text), Request{Records: 1, Byte: -1, Own: catalog})
		if err != nil {
			t.Fatal(err)
		}
		var said []string
		for _, f := range look.Findings {
			if strings.HasPrefix(f.Code, "standard.") {
				said = append(said, f.Place.Path+": "+f.Message)
			}
		}
		all := strings.Join(said, "\n")
		if !strings.Contains(all, test.want) || test.want == "" && all != "" {
			t.Errorf("%s: does not say %q:\n%s", test.construct, test.want, all)
		}
	}
	look, err := Examine(t.Context(), strings.NewReader(partner), Request{Records: 1, Byte: -1, Own: catalog})
	if err != nil {
		t.Fatal(err)
	}
	for _, n := range look.Shown[0].Parts {
		if n.Path == "BEG-1" && (n.Name != "What for" || n.Means != "New") {
			t.Errorf("the guideline's names are not shown: %+v", n)
		}
	}
}

// TestOwnRelease: a release that only a guideline describes is described.
func TestOwnRelease(t *testing.T) {
	catalog, _, findings := Description("holm.sef", []byte(strings.Replace(guideline, "005 010,X", "006 010,X", 1)))
	if catalog == nil {
		t.Fatal(findings)
	}
	for _, own := range []*standard.Catalog{nil, catalog} {
		look, err := Examine(t.Context(), strings.NewReader(strings.NewReplacer("00501", "00601").Replace(partner)), Request{Records: 1, Byte: -1, Own: own})
		if err != nil {
			t.Fatal(err)
		}
		if said := strings.Join(look.Reasons, "\n"); strings.Contains(said, "is not described here") != (own == nil) || (look.Shown[0].Parts[0].Name == "") != (own == nil) || look.Warnings > 0 {
			t.Errorf("%v: %s %+v %s", own != nil, said, look.Shown[0].Parts[0], all(look.Findings))
		}
	}
}

// TestGuidelineOfEDIFACT: conditions as the directories write them, groups with numbers.
func TestGuidelineOfEDIFACT(t *testing.T) {
	const text = ".INI\ntide,,D  96A,UN,96A,Orders\n.SETS\nORDERS=[UNH,M][BGM,M][DTM,M,35]{1:10[RFF,M][DTM,,5]}[UNT,M]\n.SEGS\nUNH=[0062,M][S009,M]\nBGM=[C002][1004][1225]+D1(010,020)D5(030,020)\nDTM=[C507,M]\nRFF=[C506,M]\nUNT=[0074,M][0062,M]\n" +
		".COMS\nS009=[0065,M][0052,M][0054,M][0051,M]\nC002=[1001]\nC507=[2005,M][2380][2379]+D2(020,030)\nC506=[1153,M][1154]\n.ELMS\n0062=AN,1,14\n0065=AN,1,6\n0052=AN,1,3\n0054=AN,1,3\n0051=AN,1,2\n1001=AN,1,3\n1004=AN,1,35\n1225=AN,1,3\n2005=AN,1,3\n2380=AN,1,35\n2379=AN,1,3\n1153=AN,1,3\n1154=AN,1,35\n0074=N,1,6\n"
	catalog, of, findings := Description("tide.SEF", []byte(text))
	if catalog == nil || of != "edifact" || len(findings) > 0 {
		t.Fatal(findings)
	}
	for old, want := range map[string]string{
		"BGM++PO1'":                            "",
		"BGM'":                                 "one of 1 and 2 must be there, and no other: 0 are (D1(010,020))",
		"BGM+220+PO1'":                         "one of 1 and 2 must be there, and no other: 2 are",
		"BGM+220++9'":                          "with 3 there must be 2, and 2 is missing (D5(030,020))",
		"BGM++PO1'DTM+2'":                      "",
		"BGM++PO1'DTM+2:20261124'":             "2 and 3 come together or not at all, and 3 is missing (D2(020,030))",
		"BGM++PO1'DTM+2'RFF+ON:1'DTM+2'FTX+1'": "FTX has no place in ORDERS",
	} {
		message := old
		if !strings.Contains(message, "DTM") {
			message += "DTM+2'"
		}
		in := "UNB+UNOC:3+A+B+261124:1630+1'UNH+1+ORDERS:D:96A:UN'" + message + "UNT+" + string(rune('0'+strings.Count(message, "'")+2)) + "+1'UNZ+1+1'"
		look, err := Examine(t.Context(), strings.NewReader(in), Request{Records: 1, Byte: -1, Own: catalog})
		if err != nil {
			t.Fatal(err)
		}
		all := ""
		for _, f := range look.Findings {
			all += f.Message + "\n"
		}
		if !strings.Contains(all, want) || want == "" && all != "" {
			t.Errorf("%s: %s does not say %q", old, all, want)
		}
	}
}

// TestGuidelinesRefused: what cannot be read is said with its line, and what is not taken too.
func TestGuidelinesRefused(t *testing.T) {
	for _, test := range []struct{ name, old, new, want string }{
		{"no standard", "holm,,005 010,X,005010,Orders to Holm Reagents\n", "", "does not begin with a section .INI"},
		{"another agency", ",X,", ",T,", `version "005 010" of agency "T"`},
		{"no messages", ".SETS\n", ".OBJVARS\n", "it has no messages"},
		{"an entry without a name", "CTP=[687]", "[687]", "is not an entry"},
		{"a segment that is not there", "CTP=[687]\n", "", "there is no segment CTP in .SEGS"},
		{"an element that is not there", "687=ID,2,2\n", "", "there is no element 687"},
		{"a segment twice", "CTP=[687]", "CTP=[687]\nCTP=[687]", "segment CTP is described twice"},
		{"a bracket that is not closed", "N2=[93,M]", "N2=[93,M", "a bracket is not closed"},
		{"a loop that is not closed", "{:3[PID]}", "{:3[PID]", "a loop is not closed"},
		{"a loop closed twice", "{:3[PID]}", "{:3[PID]}}}", "was not opened"},
		{"an empty loop", "{:3[PID]}", "{:3}", "a loop must have segments"},
		{"a type", "687=ID,2,2", "687=XX,2,2", "no type XX in X12"},
		{"a length", "687=ID,2,2", "687=ID,3,2", "shortest and longest"},
		{"a repetition", "[REF,,2]", "[REF,,many]", "does not say how often"},
		{"a requirement", "[REF,,2]", "[REF,Q,2]", "says no requirement"},
		{"a condition", "+P0304\nREF", "+Q0304\nREF", "is not a condition"},
		{"a condition on what is not there", "+P0304\nREF", "+P0309\nREF", "names element 9, and there are 6"},
		{"a mask that is not there", "[BEG*1,M]", "[BEG*2,M]", "segment BEG has no mask 2"},
		{"a mask of other signs", ",!!!.!", ",!!?", "is not a mask"},
		{"something unknown in a segment", "N2=[93,M]", "N2=[93,M]?", "nothing is known of"},
		{"something unknown in a message", "[CUR]", "[CUR]?", "nothing is known of"},
		{"text before the sections", ".VER 1.6", "hello", "stands before the first section"},
		{"too many elements", "{2[374][373]}", "{900[374][373]}", "how often elements come"},
	} {
		_, findings := Guideline("holm.sef", []byte(strings.Replace(guideline, test.old, test.new, 1)))
		if !findings.HasErrors() || !strings.Contains(findings.Error(), test.want) {
			t.Errorf("%s: %v does not say %q", test.name, findings, test.want)
		}
		for _, f := range findings {
			if f.Place.Line == 0 || f.Place.File == "" {
				t.Errorf("%s: %v has no place", test.name, f)
			}
		}
	}
	if g, findings := Guideline("holm.sef", []byte(strings.Replace(guideline, "Orders to Holm\n", "Commandes \xe0 Holm\n", 1))); g == nil || !strings.Contains(g.Text, "Commandes à Holm") || !strings.Contains(all(findings), "read as iso-8859-1") {
		t.Errorf("%v %v", g, findings)
	}
	more := strings.NewReplacer(".SEGS\n", ".PRIVATE other\nwhatever\n.PUBLIC\n.OBJVARS\nx=1\n.SEGS\n", "[CUR]", "[-CUR,C]", "[REF,,2]", "[&REF,D,2]", "373=DT,8,8", "373=N2,8,8", ".TEXT,ELMS\n", ".TEXT,ELMS\n353~00~1,3,a note\n").Replace(guideline)
	g, findings := Guideline("holm.sef", []byte(more))
	said := ""
	for _, f := range findings {
		said += f.String() + "\n"
	}
	for _, want := range []string{"private part of other", "section .OBJVARS", "- (not recommended)", "& (dependent)", "requirement D", "conditional segments", "notes in .TEXT,ELMS"} {
		if g == nil || !strings.Contains(said, "not taken: "+want) {
			t.Errorf("%s does not say that %s is not taken", said, want)
		}
	}
}

// TestShippedGuideline: the demo's guideline fits the demo's orders.
func TestShippedGuideline(t *testing.T) {
	const folder = "../../demo/workspace/"
	b, err := os.ReadFile(folder + "descriptions/holm-orders.sef")
	if err != nil {
		t.Fatal(err)
	}
	catalog, _, findings := Description("holm-orders.sef", b)
	if catalog == nil {
		t.Fatal(findings)
	}
	in, err := os.Open(folder + "samples/reagent-orders.x12")
	if err != nil {
		t.Fatal(err)
	}
	defer in.Close()
	look, err := Examine(t.Context(), in, Request{Records: 1, Byte: -1, Own: catalog})
	if err != nil || look.Warnings+look.Errors > 0 {
		t.Errorf("%v %v", err, look.Findings)
	}
}

// TestDescriptionsRefused: a description of one's own that does not hold together is none.
func TestDescriptionsRefused(t *testing.T) {
	const good = "structure 850 005010 Order\nST N1@1 SE\n\nsegment ST 005010 Begins\nR ID(3..3) Set\n\nsegment SE 005010 Ends\nR N(1..6) Count\n\nsegment N1@1 005010 Party\nR ID(2..3)#98 Which\nO AN(1..60) Name\nnotes P0102\n\ntable 98 Parties\nBY = Buyer\n"
	if catalog, _, findings := Description("a.txt", []byte(good)); catalog == nil {
		t.Fatal(findings)
	}
	for old, test := range map[string][2]string{
		"ST N1@1 SE":      {"ST N1@2 SE", "there is no segment N1@2"},
		"structure 850":   {"struct 850", "begins no segment, type, table or structure"},
		"ID(2..3)#98":     {"ID(2..3)#99", "there is no table 99"},
		"AN(1..60)":       {"XY(1..60)", "there is no type XY"},
		"notes P0102":     {"notes Z0102", "is not a condition"},
		"ST N1@1 SE\n\n":  {"ST (SE\n\n", "name is missing"},
		"BY = Buyer":      {"BY Buyer", "is not a code with its meaning"},
		"R ID(3..3) Set":  {" ID(3..3) Set", "begins with a blank"},
		"N1@1 SE\n\nsegm": {"N1@1{1,x} SE\n\nsegm", "does not say how often"},
		good:              {"", "it describes no structure"},
	} {
		if catalog, _, findings := Description("a.txt", []byte(strings.Replace(good, old, test[0], 1))); catalog != nil || !strings.Contains(findings.Error(), test[1]) {
			t.Errorf("%q: %v does not say %q", test[0], findings, test[1])
		}
	}
}

// FuzzGuideline: whatever a guideline says, it is read within bounds, and messages are checked against
// what it describes.
func FuzzGuideline(f *testing.F) {
	f.Add([]byte(guideline), []byte(partner))
	f.Add([]byte(strings.ReplaceAll(guideline, "005 010,X", "D 96A,UN")), []byte("UNB+UNOC:3+A+B+261124:1630+1'UNH+1+850:D:96A:UN'UNT+2+1'UNZ+1+1'"))
	f.Fuzz(func(t *testing.T, text, message []byte) {
		catalog, _, findings := Description("a.sef", text)
		if catalog == nil {
			if !findings.HasErrors() {
				t.Fatal("nothing was taken, and nobody says why")
			}
			return
		}
		if _, err := Examine(t.Context(), strings.NewReader(string(message)), Request{Records: 1, Byte: -1, Own: catalog}); err != nil {
			t.Skip()
		}
		own, _, findings := Description("a.txt", text)
		if own == nil && !findings.HasErrors() {
			t.Fatal("nothing was taken, and nobody says why")
		}
	})
}

// TestHostileMessages: a message of nothing but separators is told as such, in bounded memory.
func TestHostileMessages(t *testing.T) {
	for format, file := range map[string]string{
		"edifact": "UNB+UNOC:3+A+B+261124:1630+1'UNH+1+ORDERS:D:96A:UN'BGM" + strings.Repeat("+", 3_000_000) + "'UNT+3+1'UNZ+1+1'",
		"hl7":     "MSH|^~\\&|A|B|C|D|20261125||ORU^R01^ORU_R01|M1|P|2.5.1\rPID|1|" + strings.Repeat("^", 3_000_000) + "\r",
	} {
		look, err := Examine(t.Context(), strings.NewReader(file), Request{Records: 1, Byte: -1})
		if err != nil {
			t.Fatal(err)
		}
		if look.Format != format || !strings.Contains(all(look.Findings), "more than 2000000 values, and is not checked against its description") {
			t.Errorf("%s: %.2000s", format, all(look.Findings))
		}
	}
}

// TestOwnDescriptionOfHL7: a description of one's own says what differs from the standard, and what it does
// not say is as there.
func TestOwnDescriptionOfHL7(t *testing.T) {
	const own = "structure ORU_R01 2.5.1 Results of seals\nMSH PID ZSL? OBR OBX+\n\nsegment ZSL 2.5.1 Seal\nR ID(2)#SPECIES Species\nO NM Weight\n\nsegment OBR 2.5.1 Order\nX ST Set ID\nO EI Placer\nR EI(20) Filler\nO CE Service\n\ntable SPECIES Species of seals\nGS = Grey seal\nRS = Ringed seal\n\ntable 0001 Sex\nM = Male\nF = Female\n"
	catalog, of, findings := Description("lab.txt", []byte(own))
	if catalog == nil || of != "" || len(findings) > 0 {
		t.Fatal(findings)
	}
	message := func(pid8, zsl, obr string) string {
		return "MSH|^~\\&|A|B|C|D|20261128||ORU^R01^ORU_R01|1|P|2.5.1\rPID|||7^^^A||Mara||20200101|" + pid8 + "\r" + zsl + obr + "OBX|1|NM|K^K^L||2||||||F\r"
	}
	for _, test := range []struct{ in, want string }{
		{message("F", "ZSL|GS|17.5\r", "OBR||1|2|x^x^x\r"), ""},
		{message("U", "ZSL|GS|17.5\r", "OBR||1|2|x^x^x\r"), "standard.code PID-8"},
		{message("F", "ZSL|XX|heavy\r", "OBR||1|2|x^x^x\r"), "standard.code ZSL-1; standard.form ZSL-2"},
		{message("F", "", "OBR|1|1||x^x^x|y\r"), "standard.not-used OBR-1; standard.required OBR-3; standard.more-fields OBR-5"},
		{message("F", "", "OBR||1|2|x^x^x\rNTE|1||note\r"), "standard.place NTE"},
		{strings.Replace(message("F", "", "OBR||1|2|x^x^x\r"), "20200101", "2020-01", 1), "standard.form PID-7"},
		{strings.Replace(message("U", "", "OBR|1|1|2|x^x^x|y\r"), "2.5.1", "2.4", 1), ""},
	} {
		look, err := Examine(t.Context(), strings.NewReader(test.in), Request{Records: 1, Byte: -1, Own: catalog})
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, f := range look.Findings {
			got = append(got, f.Code+" "+f.Place.Path)
		}
		if strings.Join(got, "; ") != test.want {
			t.Errorf("%q: %q, not %q", test.in, got, test.want)
		}
	}
	for text, want := range map[string]string{
		"segment ZSL 2.5.1 Seal\nR QQQ(2) Species\n":        "there is no type QQQ",
		"segment ZSL 2.5.1 Seal\nR ID(2)#NONE Species\n":    "there is no table NONE",
		"structure ORU_R01 2.5.1 Results\nMSH PID@1 OBX+\n": "there is no segment PID@1",
		"table SPECIES Species of seals\nGS = Grey seal\n":  "it describes no structure",
		"segment ZSL 9.9 Seal\nR ID(2) Species\n":           "it describes no structure",
		"structure ORU_R01 2.5.1 Results\nMSH (PID OBX+\n":  "ORU_R01",
	} {
		if _, _, findings := Description("lab.txt", []byte(text)); !strings.Contains(findings.Error(), want) {
			t.Errorf("%q: %v, not %s", text, findings, want)
		}
	}
}
