package formats

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"ydrion/core/batch"
	"ydrion/core/format"
	"ydrion/core/format/edifact"
	"ydrion/core/format/hl7"
	"ydrion/core/format/x12"
	"ydrion/core/segments"
	"ydrion/core/shape"
	"ydrion/core/text"
)

// TestWaysAreFoundOnce: what a segment does at its place in a message is found once and done again from then on. That gives what finding it
// anew at each segment gives, in messages whose segments come in the order of their standard, in any, and in levels. The slow reader is one for
// whom so many segments are told apart by a value that nothing is kept.
func TestWaysAreFoundOnce(t *testing.T) {
	for name, of := range map[string]struct {
		source func(unit string) format.Source
		units  []string
		parts  []string // that values may be wanted of
		lists  []string
		apart  string // segments that are told apart, and never are any of those
		begins string
		line   func(i int, segment, value string) string
		order  []string // of segments, with the values by which some are told apart
		ends   string
		many   string // in one file
	}{
		"hl7": {
			source: func(unit string) format.Source { return hl7.Source{Unit: unit} },
			units:  []string{"", "OBX", "OBR", "NTE", "OBX(3=b)", "PID"},
			parts:  []string{"PID-3", "PID-5", "PV1-2", "ORC-2", "OBR-3", "OBR-2", "NTE-3", "OBX-3", "OBX-5", "OBX[2]-5", "OBX(3=b)-5", "SPM-2", "SPM-3", "NTE[3]-3", "TQ1-2", "ZPU-2"},
			lists:  []string{"OBX", "NTE", "OBR", "PID", "OBX(3=a)", "SPM"},
			apart:  "OBX(3=v%d)-4", begins: "MSH|^~\\&|A|B|C|D|20261128||%s|1|P|2.5.1\r", many: "ORU^R01^ORU_R01 OUL^R22^OUL_R22 ZZZ^Z01 ORU^R01^ORU_R01",
			line: func(i int, segment, value string) string {
				return fmt.Sprintf("%s|%d|k%[2]d|%s|x|y%[2]d\r", segment, i, value)
			},
			order: strings.Fields("PID NTE PV1 ORC OBR NTE OBX:a NTE OBX:b NTE NTE OBX:c SPM OBX:a OBR TQ1 OBX:b ZPU OBX:d ORC OBR PID PV1 SPM OBX:b"),
		},
		"edifact": {
			source: func(unit string) format.Source {
				return segments.Interchanges{Rules: edifact.Rules, Unit: unit}
			},
			units: []string{"", "LIN", "QTY", "QTY(21)", "CPS", "NAD(BY)"},
			parts: []string{"BGM-2", "DTM(137)-1.2", "DTM-1.2", "NAD(BY)-2", "NAD(SU)-2", "NAD-2", "LIN-1", "LIN-3", "QTY(21)-1.2", "QTY-1.2", "QTY[2]-1.2", "PRI(AAA)-1.2", "IMD-3", "CPS-1", "CPS-2", "PAC-1", "RFF-1.2", "ALI-1"},
			lists: []string{"LIN", "QTY", "NAD", "CPS", "DTM", "PRI", "LIN", "QTY(21)"},
			apart: "QTY(v%d)-1.1", begins: "UNH+1+%s:D:96A:UN'", many: "ORDERS DESADV INVOIC ZZZZZZ ORDERS",
			line: func(i int, segment, value string) string {
				switch {
				case segment == "LIN" && i%11 == 0:
					return fmt.Sprintf("LIN+++X%d:SA'", i)
				case segment == "LIN" && value == "sub":
					return fmt.Sprintf("LIN+%d++X%[1]d:SA+1:%d'", i, i-2)
				case segment == "CPS" && i%3 > 0:
					return fmt.Sprintf("CPS+%d+%d'", i, i-3)
				case segment == "LIN" || segment == "CPS":
					return fmt.Sprintf("%s+%d++X%[2]d'", segment, i)
				}
				return fmt.Sprintf("%s+%s:k%d+y%[3]d+z'", segment, value, i)
			},
			order: strings.Fields("BGM:220 DTM:137 NAD:BY RFF:ZZ NAD:SU DTM:2 CPS PAC LIN QTY:21 PRI:AAA IMD LIN QTY:12 QTY:21 DTM:2 LIN:sub QTY:21 ALI RFF:ZZ LIN QTY:1 CPS LIN QTY:21 UNS ZZZ CNT:2"),
			ends:  "UNT+1+1'",
		},
		"x12": {
			source: func(unit string) format.Source { return segments.Interchanges{Rules: x12.Rules, Unit: unit} },
			units:  []string{"", "PO1", "HL", "HL(3=I)", "HL(3=O)", "N1", "REF(ZZ)", "LIN"},
			parts:  []string{"BEG-3", "BSN-2", "REF-2", "REF(ZZ)-2", "DTM-2", "N1(BY)-2", "N1(ST)-2", "N3-1", "PO1-2", "PO1[2]-2", "PID-5", "HL-1", "HL-3", "LIN-3", "SN1-2", "MAN-2", "CTT-1"},
			lists:  []string{"PO1", "N1", "HL", "HL(3=I)", "REF", "PID", "DTM", "N1(ST)", "REF(ZZ)"},
			apart:  "REF(v%d)-2", begins: "ST*%s*0001~", many: "850 856 810 999 856",
			line: func(i int, segment, value string) string {
				if segment == "HL" {
					return fmt.Sprintf("HL*%d*%s*%s~", i, []string{"", fmt.Sprint(i - 2), fmt.Sprint(i - 5)}[i%3], value)
				}
				return fmt.Sprintf("%s*%s*k%d*y%[3]d*z*w~", segment, value, i)
			},
			order: strings.Fields("BEG:00 BSN:00 REF:ZZ DTM:2 N1:BY N3 N1:ST N3 REF:A HL:S REF:ZZ HL:O HL:I LIN SN1:1 HL:I REF:ZZ LIN MAN:GM PO1:1 PID:F REF:ZZ N1:ST N3 PO1:2 DTM:2 SAC:A PO1 REF:A HL:O HL:I SN1 CTT:2"),
			ends:  "SE*1*0001~",
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			for seed := range uint64(1500) {
				r := rand.New(rand.NewPCG(seed, 7))
				some := func(of []string, most int) (out []string) {
					for range r.IntN(most + 1) {
						if one := of[r.IntN(len(of))]; !slices.Contains(out, one) {
							out = append(out, one)
						}
					}
					return out
				}
				in := ""
				if name == "x12" {
					in = "ISA*00*          *00*          *ZZ*SKERRY         *ZZ*LABSUPPLY      *261125*0930*^*00501*000000007*0*T*>~GS*PO*S*L*20261125*0930*7*X*005010~"
				} else if name == "edifact" {
					in = "UNB+UNOC:3+S+H+261125:0930+7'"
				}
				kinds := strings.Fields(of.many)
				for range 1 + r.IntN(5) {
					in += fmt.Sprintf(of.begins, kinds[r.IntN(len(kinds))])
					at, orderly := 0, r.IntN(3)
					for i := range r.IntN(30) {
						if at = (at + 1) % len(of.order); orderly == 0 || r.IntN(3) == 0 {
							at = r.IntN(len(of.order))
						}
						segment, value, _ := strings.Cut(of.order[at], ":")
						in += of.line(i+1, segment, value)
					}
					in += of.ends
				}
				unit := of.units[r.IntN(len(of.units))]
				wants := shape.Shape{Fields: shape.Of(some(of.parts, 6)...)}
				for _, at := range some(of.lists, 2) {
					l := shape.List{Name: "l" + at, Path: at, Shape: shape.Shape{Fields: shape.Of(some(of.parts, 3)...)}}
					for _, in := range some(of.lists, 1) {
						l.Lists = append(l.Lists, shape.List{Name: "i" + in, Path: in, Shape: shape.Shape{Fields: shape.Of(some(of.parts, 3)...)}})
					}
					wants.Lists = append(wants.Lists, l)
				}
				fields := len(wants.Fields)
				got, is := spansOf(t, of.source(unit), wants, fields, in)
				if !is {
					continue // a list that cannot be
				}
				for k := range 70 {
					wants.Fields = append(wants.Fields, shape.Field{Name: fmt.Sprint("v", k), Path: fmt.Sprintf(of.apart, k)})
				}
				if want, _ := spansOf(t, of.source(unit), wants, fields, in); got != want {
					t.Fatalf("seed %d, unit %q, %v, %v\n%s\n%s\nnot\n%s", seed, unit, wants.Fields[:fields].Names(), wants.Lists, strings.NewReplacer("\r", "\n", "'", "'\n", "~", "~\n").Replace(in), got, want)
				}
			}
		})
	}
}

// spansOf reads a file, twice, and gives all that is found, of so many fields of the records; false: the lists are refused.
func spansOf(t *testing.T, from format.Source, of shape.Shape, fields int, in string) (string, bool) {
	bound, findings := from.Bind(of)
	if bound == nil || findings.HasErrors() {
		return "", false
	}
	var b strings.Builder
	for range 2 {
		decoded, err := text.Decode(strings.NewReader(in), text.UTF8)
		if err != nil {
			t.Fatal(err)
		}
		reader, _, err := bound.Open(decoded)
		if err != nil {
			t.Fatal(err)
		}
		got := &batch.Batch{First: 1}
		for more := true; more; {
			got.Reset()
			if more, err = reader.Cut(got); err != nil {
				t.Fatal(err, in)
			}
			reader.Split(got)
			for i, bounds := range got.Bounds {
				fmt.Fprintln(&b, "record", bounds, got.Spans[i*got.Slots:][:fields])
			}
			for _, table := range got.Tables {
				fmt.Fprintln(&b, "list", table.At, table.Ends, table.Spans)
			}
			for _, n := range got.Notes {
				fmt.Fprintln(&b, "note", n.Record, n.Rule, n.At, n.Warn)
			}
		}
	}
	return b.String(), true
}
