package route

import (
	"context"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"ydrion/core/flow"
)

// TestFirstOnly: where a position takes the first of several segments, and nobody has said that the first is meant, the file's findings say so once
// for each kind of segment: how many records it is about, and where the second stands that came first. Checked against what was put together.
func TestFirstOnly(t *testing.T) {
	for name, test := range map[string]struct {
		format, read, lines     string
		begin, message, segment string // message and segment with a number; the segment is the one that repeats
		end                     string
		says                    string // %s: in how many records
		rows                    bool   // each message has one row with the segments in it
	}{
		"hl7":                         {"hl7", "", "id = PID-3\nvalue = NTE-3\n", "", "MSH|^~\\&|A||||2026||ORU^R01|%d|P|2.5\rPID|1||7\rOBR|1\rOBX|1|NM|K||4\r", "NTE|%d||x\r", "", "NTE stands more than once in %s, and NTE-3 is of the first only", false},
		"hl7 of units":                {"hl7", ", record: OBX", "id = OBX-3\nvalue = NTE-3\n", "", "MSH|^~\\&|A||||2026||ORU^R01|%d|P|2.5\rPID|1||7\rOBR|1\rNTE|1||above\rNTE|2||above\rOBX|1|NM|K||4\r", "NTE|%d||x\r", "", "NTE stands more than once in %s, and NTE-3 is of the first only", false},
		"hl7 repetitions":             {"hl7", "", "id = PID-5.1\nvalue = OBX-5\n", "", "MSH|^~\\&|A||||2026||ORU^R01|%d|P|2.5\rPID|1||7||Seal^A\rOBR|1\rOBX|1|NM|K||0", "~%d", "~\r", "OBX-5 has more than one repetition in %s, and OBX-5 is of the first only", false},
		"hl7 repetitions above units": {"hl7", ", record: OBX", "id = PID-3.1\nvalue = OBX-5\n", "", "MSH|^~\\&|A||||2026||ORU^R01|%d|P|2.5\rPID|1||0", "~%d", "\rOBR|1\rOBX|1|NM|K||4\rOBX|2|NM|K||5\r", "PID-3 has more than one repetition in %s, and PID-3.1 is of the first only", false},
		"hl7 repetitions, said":       {"hl7", "", "id = PID-5.1\nvalue = OBX-5[1]\n", "", "MSH|^~\\&|A||||2026||ORU^R01|%d|P|2.5\rPID|1||7||Seal^A\rOBR|1\rOBX|1|NM|K||0", "~%d", "~\r", "", false},
		"hl7, said":                   {"hl7", "", "id = PID-3\nvalue = NTE[1]-3\n", "", "MSH|^~\\&|A||||2026||ORU^R01|%d|P|2.5\rPID|1||7\rOBR|1\rOBX|1|NM|K||4\r", "NTE|%d||x\r", "", "", false},
		"hl7, a list":                 {"hl7", "", "id = PID-3\nvalue = NTE | join NTE-3\n", "", "MSH|^~\\&|A||||2026||ORU^R01|%d|P|2.5\rPID|1||7\rOBR|1\rOBX|1|NM|K||4\r", "NTE|%d||x\r", "", "", false},
		"hl7 in rows":                 {"hl7", "", "id = PID-3\nvalue = OBX | join NTE-3\n", "", "MSH|^~\\&|A||||2026||ORU^R01|%d|P|2.5\rPID|1||7\rOBR|1\rOBX|1|NM|K||4\r", "NTE|%d||x\r", "", "NTE stands more than once in %s, and NTE-3 is of the first only", true},
		"x12": {"x12", "", "id = BEG-3\nvalue = REF(DP)-2\n", "ISA*00*          *00*          *ZZ*A              *ZZ*B              *261125*0930*U*00401*000000001*0*P*>~GS*PO*A*B*20261125*0930*1*X*004010~",
			"ST*850*%04d~BEG*00*SA*1**20261125~REF*IA*1~REF*IA*2~", "REF*DP*%d~", "", "REF(DP) stands more than once in %s, and REF(DP)-2 is of the first only", false},
		"x12 repetitions": {"x12", "", "id = BEG-3\nvalue = MSG-1\n", "ISA*00*          *00*          *ZZ*A              *ZZ*B              *261125*0930*^*00501*000000001*0*P*>~GS*PO*A*B*20261125*0930*1*X*005010~",
			"ST*850*%04d~BEG*00*SA*1**20261125~MSG*0", "^%d", "^~", "MSG-1 has more than one repetition in %s, and MSG-1 is of the first only", false},
		"x12 repetitions, said": {"x12", "", "id = BEG-3\nvalue = MSG-1[1]\n", "ISA*00*          *00*          *ZZ*A              *ZZ*B              *261125*0930*^*00501*000000001*0*P*>~GS*PO*A*B*20261125*0930*1*X*005010~",
			"ST*850*%04d~BEG*00*SA*1**20261125~MSG*0", "^%d", "~", "", false},
		"edifact repetitions": {"edifact", "", "id = BGM-2\nvalue = FTX-1\n", "UNB+UNOC:4+A+B+20261124:1630+7'", "UNH+%d+ORDERS:D:96A:UN'BGM+220+A+9'FTX+0", "*%d", "*'", "FTX-1 has more than one repetition in %s, and FTX-1 is of the first only", false},
		"edifact":             {"edifact", "", "id = BGM-2\nvalue = RFF-1.2\n", "UNB+UNOC:3+A+B+261124:1630+7'", "UNH+%d+ORDERS:D:96A:UN'BGM+220+A+9'", "RFF+ON:%d'", "", "RFF stands more than once in %s, and RFF-1.2 is of the first only", false},
	} {
		c, _ := routed(t, name, map[string]string{
			"routes/r.yaml": "route: r\nlisten: {folder: \"{in}\"}\nread: {format: " + test.format + test.read + "}\nmap: maps/m.map\ndeliver: {folder: \"{out}\", name: \"{file.stem}.csv\"}\nrejected: {folder: \"{bad}\"}\n",
			"maps/m.map":    "map m\nsource " + test.format + "\ntarget csv based on samples/o.csv\n\n" + test.lines,
			"samples/o.csv": "id,value\n",
		})
		for seed := range uint64(6) {
			r := rand.New(rand.NewPCG(seed, 5))
			in, several, first := test.begin, 0, int64(-1)
			for i := range []int{1, 5, 700}[seed%3] {
				in += fmt.Sprintf(test.message, i+1)
				n := r.IntN(4)
				if seed%2 == 0 && i < 300 { // the first that has several comes late
					n = min(n, 1)
				}
				field := test.segment[1] == '%' // whose first repetition is there already
				for k := range n {
					if k == 1 && !field || k == 0 && field {
						if several++; first < 0 {
							first = int64(len(in))
						}
						if field && several == 1 {
							first -= int64(len("0"))
						}
					}
					in += fmt.Sprintf(test.segment, k+1)
				}
				in += test.end
				if field { // they are of one segment
					n = 1
				}
				switch test.format {
				case "x12":
					in += fmt.Sprintf("SE*%d*%04d~", strings.Count(test.message, "~")+1+n, i+1)
				case "edifact":
					in += fmt.Sprintf("UNT+%d+%d'", 3+n, i+1)
				}
			}
			switch messages := []int{1, 5, 700}[seed%3]; test.format {
			case "x12":
				in += fmt.Sprintf("GE*%d*1~IEA*1*000000001~", messages)
			case "edifact":
				in += fmt.Sprintf("UNZ+%d+7'", messages)
			}
			of, many := "a record", "%d records"
			switch {
			case test.rows:
				of, many = "a row of OBX", "%d rows of OBX"
			case test.segment[1] == '%':
				of, many = "a segment", "%d segments"
			}
			if several > 1 {
				of = fmt.Sprintf(many, several)
			}
			want := ""
			if several > 0 && test.says != "" {
				want = fmt.Sprintf("%d "+test.says, first, of)
			}
			for _, cores := range []int{1, 3} {
				o := &output{}
				result, err := c.Plan.Run(context.Background(), strings.NewReader(in), flow.Inputs{Cores: cores}, o)
				if err != nil || result.Rejected > 0 || result.Good == 0 {
					t.Fatal(name, result, err, o.wrong)
				}
				got := ""
				for _, f := range result.Findings {
					got += fmt.Sprintf("%d %s", f.Place.Offset, f.Message)
					if f.Place.Record != 0 { // records have no numbers yet where that is found
						t.Errorf("%s, seed %d: record %d", name, seed, f.Place.Record)
					}
				}
				if got != want {
					t.Errorf("%s, seed %d, %d cores:\n%s\nnot\n%s", name, seed, cores, got, want)
				}
			}
		}
	}
}
