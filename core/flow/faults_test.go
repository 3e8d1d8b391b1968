package flow_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"regexp"
	"slices"
	"strings"
	"testing"

	"ydrion/core/flow"
	"ydrion/core/format"
	"ydrion/core/format/edifact"
	"ydrion/core/format/hl7"
	"ydrion/core/format/x12"
	"ydrion/core/segments"
	"ydrion/core/text"
)

// TestWhatIsWrongWithSomeUnits: a character that is lost or none of the set, and a line that is no segment, reject the records that have the segment
// or stand under it, each of them, and no others. None of them is good when it comes back.
func TestWhatIsWrongWithSomeUnits(t *testing.T) {
	const isa = "ISA*00*          *00*          *ZZ*SKERRY         *ZZ*LABSUPPLY      *261125*0930*^*00501*000000001*0*T*>~GS*PO*S*L*20261125*0930*1*X*005010~"
	unit := regexp.MustCompile(`U[0-9]+U`)
	for name, of := range map[string]struct {
		from        format.Source
		kind, paths string
		charset     text.Charset
		begins      []string // with where the set is said
		sets        [][2]string
		levels      [2][]string // what one level of groups begins with, each with room for a value, and what stands under that
		unit        []string
		closes      func(segments int) string
		end         string
	}{
		"hl7": {hl7.Source{Unit: "OBX"}, "hl7", "MSH-3 PID-5 PV1-2 OBR-4 NTE-3 OBX-5", text.Declared,
			[]string{"MSH|^~\\&|A%[2]s|B|C|D|20261128||ORU^R01^ORU_R01|1|P|2.5.1||||||%[1]s\r"}, [][2]string{{"UNICODE UTF-8", "\xff"}, {"8859/7", "\xae"}, {"", "\xe9"}},
			[2][]string{{"PID|1||9||P%s\r", "PV1||I%s\r"}, {"OBR|1|||C%s\r"}}, []string{"OBX|1|TX|W||%s|g\r", "NTE|1||n%s\r"}, func(int) string { return "" }, ""},
		"edifact": {segments.Interchanges{Rules: edifact.Rules, Unit: "QTY"}, "edifact", "UNB-2.1 BGM-2 NAD-2.1 LIN-3.1 IMD-3.4 QTY-1.2", text.Declared,
			[]string{"UNB+%[1]s:3+A%[2]s+B+261130:1200+1'", "UNH+1+ORDERS:D:96A:UN'", "BGM+220+O%[2]s+9'", "NAD+BY+N%[2]s::92'"}, [][2]string{{"UNOW", "\xff"}, {"UNOF", "\xae"}},
			[2][]string{{"LIN+1++L%s:SA'", "IMD+F++:::i%s'"}, {}}, []string{"QTY+21:%s'"}, func(n int) string { return fmt.Sprintf("UNS+S'UNT+%d+1'", n+2) }, "UNZ+1+1'"},
		"x12": {segments.Interchanges{Rules: x12.Rules, Unit: "N3"}, "x12", "BEG-3 PO1-7 PID-5 N1-2 N3-1", text.UTF8,
			[]string{isa, "ST*850*0001~", "BEG*00*SA*O%[2]s**20261125~"}, [][2]string{{"", "\xff"}},
			[2][]string{{"PO1*1*3*EA***VP*p%s~", "PID*F****d%s~"}, {"N1*ST*s%s~"}}, []string{"N3*%s~"}, func(n int) string { return fmt.Sprintf("SE*%d*0001~", n+1) }, "GE*1*1~IEA*1*000000001~"},
	} {
		faulty, wrong := 0, 0
		for seed := range uint64(400) {
			r := rand.New(rand.NewPCG(seed, 5))
			set := of.sets[r.IntN(len(of.sets))]
			segments, n, in := 0, 0, ""
			var good, bad []string
			around := [3]bool{} // whether something is wrong in the header, the group and what is in it
			put := func(in0, value string, mayFail bool) (failed bool) {
				value0 := value
				switch r.IntN(40) {
				case 0:
					value0, failed = value+"\x00", true
				case 1:
					value0, failed = value+set[1], true
				case 2:
					value0, failed = value+in0[len(in0)-1:]+"no segment", true
				}
				if failed = failed && mayFail; !failed {
					value0 = value
				}
				segments += 1 + strings.Count(value0, "no segment")
				in += strings.NewReplacer("%[1]s", set[0], "%[2]s", value0, "%s", value0).Replace(in0)
				return failed
			}
			for i, s := range of.begins {
				if around[0] = put(s, "", strings.Contains(s, "%[2]s")) || around[0]; i == 0 && name != "hl7" {
					segments = 0
				}
			}
			if name == "edifact" && strings.Contains(in[:strings.Index(in, "UNH")], "no segment") {
				continue // that is no interchange
			}
			for range 1 + r.IntN(3) {
				around[1] = false
				for _, s := range of.levels[0] {
					around[1] = put(s, "", true) || around[1]
				}
				for range 1 + r.IntN(2) {
					around[2] = false
					for _, s := range of.levels[1] {
						around[2] = put(s, "", true) || around[2]
					}
					for range r.IntN(4) {
						n++
						id, failed := fmt.Sprintf("U%dU", n), false
						for i, s := range of.unit {
							if i == 0 {
								failed = put(s, id, true)
							} else if r.IntN(2) == 0 {
								failed = put(s, "", true) || failed
							}
						}
						if failed = failed || around[0] || around[1] || around[2]; failed {
							bad = append(bad, id)
						} else {
							good = append(good, id)
						}
					}
				}
			}
			in += of.closes(segments) + of.end
			if n == 0 {
				continue
			}
			run := func(in string) (*comingBack, []string) {
				c, plan := &comingBack{}, copies(t, of.from, of.kind, of.paths, false)
				plan.Charset = of.charset
				if _, err := plan.Run(context.Background(), strings.NewReader(in), flow.Inputs{Cores: 1}, c); err != nil {
					t.Fatal(err)
				}
				return c, unit.FindAllString(c.made.String(), -1)
			}
			c, made := run(in)
			var rejected []string
			for _, reject := range c.rejected {
				rejected = append(rejected, unit.FindAllString(reject, -1)...)
			}
			if !slices.Equal(made, good) || !slices.Equal(rejected, bad) {
				t.Fatalf("%s, seed %d: good %q, not %q; rejected %q, not %q, of\n%q", name, seed, made, good, rejected, bad, in)
			}
			for _, reject := range c.rejected {
				if c, made := run(reject); len(made) > 0 || len(c.rejected) != 1 {
					t.Fatalf("%s, seed %d: %q becomes %q when it comes back", name, seed, reject, made)
				}
			}
			faulty, wrong = faulty+len(bad), wrong+len(good)
		}
		if faulty < 200 || wrong < 200 {
			t.Errorf("%s: only %d records were rejected, and %d good", name, faulty, wrong)
		}
	}
}
