package route

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"ydrion/core/flow"
	"ydrion/workspace"
)

// TestInterchangesAsTheyCame: what a map does not name goes on byte for byte, in the envelopes that it
// stood in; what is left out is not counted in them, and each message on its own stands in its own.
func TestInterchangesAsTheyCame(t *testing.T) {
	const (
		una   = "UNA:+,? '\n"
		unb   = "UNB+UNOC:3+SKERRY+TIDEWRACK+261125:0930+7'\n"
		one   = "UNH+1+ORDERS:D:96A:UN'\nBGM+220+A-1+9'\nNAD+BY+X1::92'\nNAD+SU+X2::92++caf\xe9 ?+ co?''\nLIN+1++a:SA'\nQTY+21:1,5:EA'\nLIN+2++b:SA'\nQTY+21:2:EA'\nUNT+9+1'\n"
		two   = "UNH+2+ORDERS:D:96A:UN'\nBGM+220+A-2+9'\nUNT+3+2'\n"
		unz   = "UNZ+2+7'\n"
		isa   = "ISA*00*          *00*          *ZZ*SKERRY         *ZZ*LABSUPPLY      *261125*0930*^*00501*000000007*0*T*>~"
		gs1   = "GS*PO*S*L*20261125*0930*7*X*005010~"
		gs2   = "GS*IN*S*L*20261125*0930*8*X*005010~"
		po    = "ST*850*0001~BEG*00*SA*A-1**20261125~REF*DP*038~N1*BY**92*B1~PO1*1*5*EA~PO1*2*6*EA**~SE*7*0001~"
		po2   = "ST*850*0002~BEG*00*SA*A-2**20261125~SE*3*0002~"
		inv   = "ST*810*0003~BIG*20261125*I-1~SE*3*0003~"
		tails = "GE*1*8~IEA*2*000000007~"
	)
	edi, x12 := una+unb+one+two+unz, isa+gs1+po+po2+"GE*2*7~"+gs2+inv+tails
	for _, test := range []struct{ format, per, lines, in, want, wrong string }{
		{"edifact", "pickup", "BGM-2 = \"{BGM-2}+x\"", edi, una + unb + strings.Replace(one, "A-1", "A-1?+x", 1) + strings.Replace(two, "A-2", "A-2?+x", 1) + unz, ""},
		{"edifact", "pickup", "NAD(SU)-4 = \"é'\"\nskip when BGM-2 = \"A-2\" because \"x\"", edi, una + unb + strings.Replace(one, "caf\xe9 ?+ co?'", "\xe9?'", 1) + "UNZ+1+7'\n", ""},
		{"edifact", "pickup", "reject when BGM-2 = \"A-1\" because \"x\"", edi, una + unb + two + "UNZ+1+7'\n", "x"},
		{"edifact", "record", "clear FTX-1", edi, una + unb + one + "UNZ+1+7'\n" + una + unb + two + "UNZ+1+7'\n", ""},
		{"edifact", "pickup", "drop NAD(BY)\nUNH-1 = \"{UNH-1}9\"", edi, una + unb + strings.NewReplacer("NAD+BY+X1::92'\n", "", "UNH+1+", "UNH+19+", "UNT+9+1'", "UNT+8+19'").Replace(one) + strings.NewReplacer("UNH+2+", "UNH+29+", "UNT+3+2'", "UNT+3+29'").Replace(two) + unz, ""},
		{"edifact", "pickup", "repeat QTY for q in QTY where QTY-1.1 = \"21\"\nQTY-1.2 = (QTY-1.2 | number \",\") * 2\nend", edi, una + unb + strings.NewReplacer("1,5", "3,0", "21:2:EA", "21:4:EA").Replace(one) + two + unz, ""},
		{"edifact", "pickup", "LIN[2]-3.2 = absent\nLIN[2]-3[1].1 = \"c\"", una + unb + one + "UNZ+1+7'\n", una + unb + strings.Replace(one, "b:SA", "c", 1) + "UNZ+1+7'\n", ""},
		{"edifact", "pickup", "BGM-2 = \"日\"", edi, "", "is not among the characters of the set that the interchange names"},
		{"edifact", "pickup", "NAD(SU)-4 = \"x\"", edi, una + unb + strings.Replace(one, "caf\xe9 ?+ co?'", "x", 1) + "UNZ+1+7'\n", "the message has no NAD(SU) for the value"},
		{"edifact", "pickup", "UNB-5 = \"8\"", edi, "", "UNB stands around messages, and stays as it came"}, {"edifact", "pickup", "UNT-1 = \"8\"", edi, "", "UNT is computed"},
		{"edifact", "pickup", "drop UNH", edi, "", "cannot be dropped"}, {"edifact", "pickup", "BGM-2 = null", edi, "", "which cannot be said here"},
		{"x12", "pickup", "REF(DP)-2 = absent\nPO1[2]-4 = \"9.50\"", x12, isa + gs1 + strings.NewReplacer("REF*DP*038~", "REF*DP~", "PO1*2*6*EA**~", "PO1*2*6*EA*9.50*~").Replace(po) + "GE*1*7~IEA*1*000000007~", "PO1[2]"},
		{"x12", "pickup", "skip when ST-1 = \"850\" because \"x\"", x12, isa + gs2 + inv + "GE*1*8~IEA*1*000000007~", ""},
		{"x12", "record", "BEG-3 = \"{BEG-3}\"", x12 + x12, strings.Repeat(isa+gs1+po+"GE*1*7~IEA*1*000000007~"+isa+gs1+po2+"GE*1*7~IEA*1*000000007~"+isa+gs2+inv+"GE*1*8~IEA*1*000000007~", 2), ""},
		// Interchanges and groups that begin alike are two.
		{"x12", "pickup", "BEG-3 = \"{BEG-3}\"", x12 + x12, x12 + x12, ""},
		{"x12", "pickup", "skip when ST-2 = \"0001\" because \"x\"", isa + gs1 + po + po2 + "GE*2*7~" + gs1 + po2 + "GE*1*7~IEA*2*000000007~", isa + gs1 + po2 + "GE*1*7~" + gs1 + po2 + "GE*1*7~IEA*2*000000007~", "x"},
		{"edifact", "pickup", "UNH-4 = absent", edi + edi, edi + edi, ""},
		{"x12", "pickup", "drop PO1", x12, isa + gs1 + strings.NewReplacer("PO1*1*5*EA~", "", "PO1*2*6*EA**~", "", "SE*7", "SE*5").Replace(po) + po2 + "GE*2*7~" + gs2 + inv + tails, ""},
		{"x12", "pickup", "N1(BY)-2 = \"a*b\"\nskip when ST-2 != \"0001\" or ST-2 is absent because \"x\"", x12, "", "is not among the characters"},
		{"x12", "pickup", "ST-2 = \"{ST-2}7\"", x12, isa + gs1 + strings.ReplaceAll(po, "0001~", "00017~") + strings.ReplaceAll(po2, "0002~", "00027~") + "GE*2*7~" + gs2 + strings.ReplaceAll(inv, "0003~", "00037~") + tails, ""},
	} {
		name := map[string]string{"pickup": "{file.stem}.out", "record": "{sequence}.out"}[test.per]
		w := workspace.FromFiles(map[string][]byte{
			"routes/r.yaml": []byte("route: r\nlisten:\n  folder: \"{in}\"\n  names: \"*\"\nread:\n  format: " + test.format + "\nmap: maps/m.map\ndeliver:\n  name: \"" + name + "\"\n  one file per: " + test.per + "\n  folder: \"{out}\"\nrejected:\n  folder: \"{out}/rejected\"\n"),
			"maps/m.map":    []byte("map m\nsource " + test.format + "\ntarget " + test.format + " as it came\n" + test.lines + "\n"),
		})
		c, findings := Compile(w, "r")
		if c == nil {
			if !strings.Contains(findings.Error(), test.wrong) || test.wrong == "" {
				t.Errorf("%s: %v, not %s", test.lines, findings, test.wrong)
			}
			continue
		}
		for _, cores := range []int{1, 3} {
			o := &output{}
			if _, err := c.Plan.Run(context.Background(), strings.NewReader(test.in), flow.Inputs{Cores: cores}, o); err != nil {
				t.Fatal(err)
			}
			wrong := strings.Join(o.wrong, "\n")
			if got := o.whole(t); got != test.want || !strings.Contains(wrong, test.wrong) {
				t.Errorf("%s, per %s\n%q, not\n%q\n%s", test.lines, test.per, got, test.want, wrong)
			}
		}
	}
}

// TestManyInterchangesAsTheyCame: a file of many batches with interchanges, of which only some messages go on,
// is written with counts that are right, whatever stands between two batches.
func TestManyInterchangesAsTheyCame(t *testing.T) {
	var in, want strings.Builder
	for i := range 60 {
		i := i / 2 // one after the other begin alike
		head := fmt.Sprintf("UNB+UNOC:3+S+T%d+261125:0930+%d'", i, i)
		in.WriteString(head)
		n, good := 1+i*7%200, 0
		var kept strings.Builder
		for k := range n {
			message := func(state string) string {
				return fmt.Sprintf("UNH+%d+ORDERS:D:96A:UN'BGM+220+%d+%s'FTX+AAI+++%s'UNT+4+%d'", k+1, k, state, strings.Repeat("long text ", 30), k+1)
			}
			in.WriteString(message([]string{"9", "1", "5"}[k%3]))
			if k%3 == 1 {
				kept.WriteString(message("4"))
				good++
			}
		}
		fmt.Fprintf(&in, "UNZ+%d+%d'", n, i)
		if good > 0 {
			fmt.Fprintf(&want, "%s%sUNZ+%d+%d'", head, kept.String(), good, i)
		}
	}
	w := workspace.FromFiles(map[string][]byte{
		"routes/r.yaml": []byte("route: r\nlisten:\n  folder: \"{in}\"\n  names: \"*\"\nread:\n  format: edifact\nmap: maps/m.map\ndeliver:\n  name: \"{file.stem}.out\"\n  folder: \"{out}\"\nrejected:\n  folder: \"{out}/rejected\"\n"),
		"maps/m.map":    []byte("map m\nsource edifact\ntarget edifact as it came\nskip when BGM-3 = \"9\" because \"x\"\nreject when BGM-3 = \"5\" because \"y\"\nBGM-3 = \"4\"\n"),
	})
	c, findings := Compile(w, "r")
	if c == nil {
		t.Fatal(findings)
	}
	for _, cores := range []int{1, 4} {
		o := &output{}
		if _, err := c.Plan.Run(context.Background(), strings.NewReader(in.String()), flow.Inputs{Cores: cores}, o); err != nil {
			t.Fatal(err)
		}
		if got := o.whole(t); got != want.String() {
			for i := range min(len(got), want.Len()) {
				if got[i] != want.String()[i] {
					t.Fatalf("at %d of %d: %q, not %q", i, len(got), got[max(0, i-60):min(len(got), i+60)], want.String()[max(0, i-60):min(want.Len(), i+60)])
				}
			}
			t.Fatalf("%d bytes, not %d", len(got), want.Len())
		}
	}
}

// TestChangedInterchangesAreValidated: messages of interchanges that go on as they came are validated when a map has changed them, each by what
// it stands in: X12 by its group, EDIFACT by its separators.
func TestChangedInterchangesAreValidated(t *testing.T) {
	const (
		isa  = "ISA*00*          *00*          *ZZ*SKERRY         *ZZ*LABSUPPLY      *261125*0930*^*00501*000000007*0*P*>~"
		gs   = "GS*PO*S*L*20261125*0930*7*X*005010~"
		old  = "GS*PO*S*L*20261125*0930*8*X*004010~"
		po   = "ST*850*0001~BEG*00*SA*A-1**20261125~PO1*1*5*EA~SE*4*0001~"
		two  = "ST*850*0002~BEG*00*SA*A-2**20261125~PO1*1*5*EA~SE*4*0002~"
		odd  = "ST*850*0003~BEG*00*SA*A-3**20261125~PO1*1*5*EA~XYZ*1~SE*5*0003~"
		none = "ST*999850*0003~BEG*00*SA*A-3~SE*3*0003~"
		unb  = "UNB+UNOC:3+SKERRY+TIDEWRACK+261125:0930+7'"
		own  = "UNA;*,? ~\n"
		unh  = "UNH+1+ORDERS:D:96A:UN'BGM+220+A-1+9'DTM+137:20261125:102'NAD+BY+B1::92'LIN+1++a:SA'QTY+21:5'UNS+S'UNT+8+1'UNZ+1+7'"
	)
	x12 := isa + gs + po + two + "GE*2*7~IEA*1*000000007~"
	edi := strings.NewReplacer("+", "*", ":", ";", "'", "~").Replace(unb + unh)
	for name, test := range map[string]struct {
		format, lines, read, deliver, in string
		good                             int64
		says                             []string
	}{
		"right":                    {"x12", "BEG-3 = \"{BEG-3}x\"", "", "  differences: reject\n", x12, 2, nil},
		"changed to what is not":   {"x12", "PO1-3 = \"PIECES\"\nskip when BEG-3 = \"A-1\" because \"x\"", "", "  differences: reject\n", x12, 0, []string{"what is made of it differs from its standard: PO1-3: Unit has 6 characters, and at most 2 are allowed"}},
		"in one of them":           {"x12", "PO1-3 = BEG-3 | replace \"A-1\" \"EA\"", "", "  differences: reject\n", x12, 1, []string{"PO1-3: Unit has 3 characters"}},
		"taken away":               {"x12", "BEG-3 = absent", "", "  differences: reject\n", x12, 0, []string{"BEG-3: Order number is required, and empty"}},
		"told":                     {"x12", "BEG-3 = absent", "", "  differences: warn\n", x12, 2, []string{"warning: what is made of it differs from its standard: BEG-3"}},
		"nobody asks":              {"x12", "BEG-3 = absent", "", "", x12, 2, nil},
		"but":                      {"x12", "BEG-3 = absent", "", "  differences: reject\n  except:\n    - at: BEG-3\n      differences: ignore\n", x12, 2, nil},
		"came so":                  {"x12", "BEG-3 = \"x\"", "", "  differences: reject\n", isa + gs + odd + po + "GE*2*7~IEA*1*000000007~", 1, []string{"XYZ: XYZ has no place"}},
		"nothing describes it":     {"x12", "BEG-3 = \"x\"", "", "  differences: reject\n", isa + gs + po + none + "GE*2*7~IEA*1*000000007~", 1, []string{`the message is 999850 of 005010, which nothing describes here`}},
		"each by its group":        {"x12", "BEG-3 = \"x\"", "", "  description: descriptions/d.txt\n", isa + old + po + "GE*1*8~" + gs + po + two + "GE*2*7~" + old + two + "GE*1*8~IEA*3*000000007~", 2, []string{"differs from descriptions/d.txt: ST: the message is 850 of 004010"}},
		"with separators":          {"edifact", "BGM-2 = \"A;2*\"", "", "  differences: reject\n", own + edi, 1, nil},
		"with separators, wrong":   {"edifact", "QTY-1.2 = \"A;2*\"", "", "  differences: reject\n", own + edi, 0, []string{"QTY-1.2"}},
		"in their character set":   {"edifact", "BGM-2 = \"" + strings.Repeat("é", 35) + "\"", "", "  differences: reject\n", unb + unh, 1, nil},
		"of the sample":            {"x12", "PO1-3 = \"PIECES\"\nBEG-1 = \"00\"", "  sample: samples/s\n", "", x12, 2, []string{"maps/m.map:4:1: warning: PO1-3 of what is made of record 1 of samples/s: Unit has 6"}},
		"the sample has it so":     {"x12", "BEG-1 = \"00\"", "  sample: samples/odd\n", "", x12, 2, nil},
		"one's own":                {"x12", "BEG-3 = \"55555\"", "", "  description: descriptions/d.txt\n", x12, 0, []string{"differs from descriptions/d.txt: BEG-3: Number has 5 characters"}},
		"as came, with no changes": {"x12", "", "", "  differences: reject\n", isa + gs + odd + po + "GE*2*7~IEA*1*000000007~", 1, []string{"XYZ: XYZ has no place"}},
	} {
		asChanged(t, name, test.format, test.read, test.lines, test.deliver, test.in, map[string]string{"samples/s": x12, "samples/odd": isa + gs + odd + "GE*1*7~IEA*1*000000007~",
			"descriptions/d.txt": "structure 850 005010 Order\nST BEG PO1+ SE\n\nsegment BEG 005010 Begin\nR ID(2) Purpose\nR ID(2) Type\nR AN(1..4) Number\nO AN(9) Release\nR DT(8) Date\n"}, test.good, test.says)
	}
}
