package route

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
)

// TestCutOff: a value that has no components, by the standard of its message's version, by the type that another field says or by the partner's own
// description, ends at a separator of such all the same. The file's findings say so, once for each position, with how many there are and where the first
// is. Where there are components, or the position says which is meant, nothing is said.
func TestCutOff(t *testing.T) {
	const x12 = "ISA*00*          *00*          *ZZ*A              *ZZ*B              *261125*0930*U*00401*000000001*0*P*:~GS*PO*A*B*20261125*0930*1*X*004010~"
	const own = "segment NTE 2.5.1 Notes\nO SI Set\nO ID Source\nO CE Comment\n"
	hl7 := func(version string) string {
		return "MSH|^~\\&|A||||2026||ORU^R01|%d|P|" + version + "\rPID|1||7\rOBR|1\r"
	}
	for name, test := range map[string]struct {
		read, position         string
		begin, message, around string // around the value, at %s
		says                   bool
	}{
		"a text":                      {"hl7", "NTE-3", "", hl7("2.5.1"), "NTE|1||%s\r", true},
		"its part":                    {"hl7", "NTE-3.1", "", hl7("2.5.1"), "NTE|1||%s\r", false},
		"a name":                      {"hl7", "PID-5", "", strings.Replace(hl7("2.5.1"), "PID|1||7", "PID|1||7||%s", 1), "", false},
		"a code of some versions":     {"hl7", "PID-8", "", strings.Replace(hl7("2.5.1"), "PID|1||7", "PID|1||7|||||%s", 1), "", true},
		"and of others":               {"hl7", "PID-8", "", strings.Replace(hl7("2.7"), "PID|1||7", "PID|1||7|||||%s", 1), "", false},
		"a component":                 {"hl7", "PID-3.1", "", strings.Replace(hl7("2.5.1"), "PID|1||7", "PID|1||%s", 1), "", true},
		"by one's own description":    {"hl7}\ncheck: {description: descriptions/own.txt, differences: warn", "NTE-3", "", hl7("2.5.1"), "NTE|1||%s\r", false},
		"text by its type":            {"hl7", "OBX-5", "", hl7("2.5.1"), "OBX|1|TX|N||%s\r", true},
		"a code by its type":          {"hl7", "OBX-5", "", hl7("2.5.1"), "OBX|1|CE|N||%s\r", false},
		"of an unknown type":          {"hl7", "OBX-5", "", hl7("2.5.1"), "OBX|1|ZZ|N||%s\r", false},
		"of an unknown version":       {"hl7", "NTE-3", "", hl7("9.9"), "NTE|1||%s\r", false},
		"of units":                    {"hl7, record: OBX", "OBX-5", "", hl7("2.5.1"), "OBX|1|TX|N||%s\r", true},
		"above units":                 {"hl7, record: OBX", "OBR/NTE-3", "", hl7("2.5.1"), "NTE|1||%s\rOBX|1|TX|N||x\r", true},
		"in rows":                     {"hl7", "OBX | join OBX-5", "", hl7("2.5.1"), "OBX|1|TX|N||%s\r", true},
		"in repetitions":              {"hl7", "NTE-3 | join NTE-3", "", hl7("2.5.1"), "NTE|1||%s\r", true},
		"of a second repetition":      {"hl7", "NTE-3[2]", "", hl7("2.5.1"), "NTE|1||x^y~%s\r", true},
		"before a second repetition":  {"hl7", "NTE-3[1]", "", hl7("2.5.1"), "NTE|1||plain~%s\r", false},
		"x12":                         {"x12", "MSG-1", x12, "ST*850*%04d~BEG*00*SA*1**20261125~N9*L1*x~", "MSG*%s~", true},
		"x12, its part":               {"x12", "MSG-1.1", x12, "ST*850*%04d~BEG*00*SA*1**20261125~N9*L1*x~", "MSG*%s~", false},
		"x12, a composite":            {"x12", "PO1-2", x12, "ST*850*%04d~BEG*00*SA*1**20261125~", "PO1*1*1*EA*%s~", false},
		"edifact":                     {"edifact", "BGM-2", "UNB+UNOC:3+A+B+261124:1630+7'", "UNH+%d+ORDERS:D:96A:UN'", "BGM+220+%s+9'", true},
		"edifact of another version":  {"edifact", "BGM-2", "UNB+UNOC:3+A+B+261124:1630+7'", "UNH+%d+ORDERS:D:01B:UN'", "BGM+220+%s+9'", false},
		"edifact, a composite":        {"edifact", "DTM-1", "UNB+UNOC:3+A+B+261124:1630+7'", "UNH+%d+ORDERS:D:96A:UN'BGM+220+1+9'", "DTM+%s'", false},
		"edifact that is not defined": {"edifact", "ZZZ-1", "UNB+UNOC:3+A+B+261124:1630+7'", "UNH+%d+ORDERS:D:96A:UN'BGM+220+1+9'", "ZZZ+%s'", false},
	} {
		kind := test.read[:strings.IndexAny(test.read+",", ",}")]
		c, _ := routed(t, name, map[string]string{
			"routes/r.yaml":        "route: r\nlisten: {folder: \"{in}\"}\nread: {format: " + test.read + "}\nmap: maps/m.map\ndeliver: {folder: \"{out}\", name: \"{file.stem}.csv\"}\nrejected: {folder: \"{bad}\"}\n",
			"maps/m.map":           "map m\nsource " + kind + "\ntarget csv based on samples/o.csv\n\nvalue = " + test.position + "\n",
			"samples/o.csv":        "value\n",
			"descriptions/own.txt": own,
		})
		component, sub := map[string]string{"hl7": "^", "x12": ":", "edifact": ":"}[kind], "&"
		if kind != "hl7" {
			sub = component
		}
		values := []string{"plain", "a" + component + "b", "a" + sub + "b", component + "b", "a" + component, "a" + component + component + sub, "a" + component + component + "c", ""}
		cut := []string{values[1], values[2], values[3], values[6]}
		if name == "a component" { // of which others may follow
			cut = values[2:3]
		}
		for seed := range uint64(4) {
			r := rand.New(rand.NewPCG(seed, 8))
			var in strings.Builder
			in.WriteString(test.begin)
			times, first := 0, -1
			for i := range []int{4, 900}[seed%2] {
				value := values[r.IntN(len(values))]
				message := strings.Replace(test.message+test.around, "%s", value, 1)
				if strings.Contains(message, "%") {
					message = fmt.Sprintf(message, i+1)
				}
				if slices.Contains(cut, value) {
					if times++; first < 0 {
						at := strings.Index(message, value)
						if value == values[3] {
							at = strings.Index(message, value+map[string]string{"hl7": "\r", "x12": "~", "edifact": "+"}[kind])
						}
						first = in.Len() + at + strings.IndexAny(value, component+sub)
					}
				}
				switch in.WriteString(message); kind {
				case "x12":
					fmt.Fprintf(&in, "SE*%d*%04d~", strings.Count(message, "~")+1, i+1)
				case "edifact":
					fmt.Fprintf(&in, "UNT+%d+%d'", strings.Count(message, "'")+1, i+1)
				}
			}
			switch n := []int{4, 900}[seed%2]; kind {
			case "x12":
				fmt.Fprintf(&in, "GE*%d*1~IEA*1*000000001~", n)
			case "edifact":
				fmt.Fprintf(&in, "UNZ+%d+7'", n)
			}
			var want []string
			if test.says && times > 0 {
				says := "a value has"
				if times > 1 {
					says = fmt.Sprintf("%d values have", times)
				}
				want = append(want, fmt.Sprint(first, " ", says))
			}
			for _, cores := range []int{1, 3} {
				all, _, _ := runAll(t, c, cores, in.String())
				var got []string
				for _, f := range all.Files[0].Findings {
					if f.Code == kind+".cut-off" {
						_, says, _ := strings.Cut(f.Message, "standard, and ")
						says, _, _ = strings.Cut(says, " separator")
						says = strings.TrimSuffix(says, " a")
						got = append(got, fmt.Sprint(f.Place.Offset, " ", says))
					}
				}
				if !slices.Equal(got, want) {
					t.Errorf("%s, seed %d, %d cores: %q\nnot %q", name, seed, cores, got, want)
				}
			}
		}
	}
}

// TestTextInPieces: a text that goes on in components of the same name, which the map does not take, is told of, once for each position.
func TestTextInPieces(t *testing.T) {
	const begin, message, end = "UNB+UNOC:3+A+B+261124:1630+7'", "UNH+1+ORDERS:D:%s:UN'BGM+220+1+9'%sUNT+4+1'", "UNZ+1+7'"
	const text, item, party = "FTX+AAI+++%s'", "IMD+F++:::%s'", "NAD+BY+1::9++%s'"
	for name, test := range map[string]struct {
		value, version, segment, has, says string
	}{
		"one piece":                          {"FTX-4", "96A", text, "a", ""},
		"two":                                {"FTX-4", "96A", text, "a:b", "FTX-4.1 goes on in FTX-4.2 in a value"},
		"the first, said":                    {"FTX-4.1", "96A", text, "a:b", "FTX-4.1 goes on in FTX-4.2 in a value"},
		"both are taken":                     {`"{FTX-4.1}{FTX-4.2}"`, "96A", text, "a:b", ""},
		"and there is a third":               {`"{FTX-4.1}{FTX-4.2}"`, "96A", text, "a:b:c", "FTX-4.2 goes on in FTX-4.3 in a value"},
		"the third alone":                    {"FTX-4", "96A", text, "a::c", "FTX-4.1 goes on in FTX-4.2 in a value"},
		"the third is taken":                 {`"{FTX-4.1}{FTX-4.3}"`, "96A", text, "a::c", ""},
		"nothing in the first":               {"FTX-4", "96A", text, ":b", "FTX-4.1 goes on in FTX-4.2 in a value"},
		"nothing in any":                     {"FTX-4", "96A", text, "a::::", ""},
		"a colon in the text":                {"FTX-4", "96A", text, "10?:30", ""},
		"and a second piece":                 {"FTX-4", "96A", text, "10?:30:b", "FTX-4.1 goes on in FTX-4.2 in a value"},
		"beyond what there is":               {"FTX-4.5", "96A", text, "a::::e:f", ""},
		"of the other directory":             {"FTX-4", "01B", text, "a:b", "FTX-4.1 goes on in FTX-4.2 in a value"},
		"of an item":                         {"IMD-3.4", "96A", item, "a:b", "IMD-3.4 goes on in IMD-3.5 in a value"},
		"then something else":                {"IMD-3.5", "96A", item, "a:b:c", ""},
		"by a qualifier":                     {"NAD(BY)-4", "96A", party, "a:b", "NAD(BY)-4.1 goes on in NAD(BY)-4.2 in a value"},
		"a number, and its kind":             {"NAD(BY)-2.1", "96A", party, "a", ""},
		"in rows":                            {"FTX | join FTX-4.1", "96A", text + "FTX+AAI+++a:b'", "a:b", "FTX-4.1 goes on in FTX-4.2 in 2 values"},
		"in rows, both":                      {`FTX | join "{FTX-4.1}{FTX-4.2}"`, "96A", text, "a:b", ""},
		"of a version that nobody describes": {"FTX-4", "10A", text, "a:b", ""},
	} {
		c, _ := routed(t, name, map[string]string{
			"routes/r.yaml": "route: r\nlisten: {folder: \"{in}\"}\nread: {format: edifact}\nmap: maps/m.map\ndeliver: {folder: \"{out}\", name: \"{file.stem}.csv\"}\nrejected: {folder: \"{bad}\"}\n",
			"maps/m.map":    "map m\nsource edifact\ntarget csv based on samples/o.csv\n\nvalue = " + test.value + "\n",
			"samples/o.csv": "value\n",
		})
		segments := strings.Replace(test.segment, "%s", test.has, 1)
		in := begin + strings.Replace(fmt.Sprintf(message, test.version, segments), "UNT+4", fmt.Sprintf("UNT+%d", 3+strings.Count(segments, "'")), 1) + end
		all, _, _ := runAll(t, c, 1, in)
		said := ""
		for _, f := range all.Files[0].Findings {
			said += f.Message + "\n"
		}
		if strings.Contains(said, "goes on") != (test.says != "") || !strings.Contains(said, test.says) {
			t.Errorf("%s: %q", name, said)
		}
	}
}
