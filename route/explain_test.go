package route

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"ydrion/core/batch"
	"ydrion/core/flow"
	"ydrion/workspace"
)

// told keeps what the map did for each record, as one line for each step.
type told struct {
	output
	steps []string
}

func (s *told) Batch(b *batch.Batch) error {
	for i := range b.Outcomes {
		made, steps, more := s.opened.Explain(b, i, 0)
		if more > 0 {
			s.steps = append(s.steps, fmt.Sprintf("and %d more", more))
		}
		for _, step := range steps {
			line := fmt.Sprintf("%d %s:", step.Line, strings.Join(append([]string{step.Target}, step.Rows...), " "))
			for _, p := range step.Parts {
				line += fmt.Sprintf(" [%s %s %s", p.Says, p.Kind, p.Value)
				if p.At != nil {
					line += fmt.Sprintf(" at %d:%d", p.At.Line, p.At.Column)
				}
				line += "]"
			}
			line += fmt.Sprintf(" %s %s", step.Kind, step.Value)
			if step.To > step.From {
				line += fmt.Sprintf(" = %q", made[step.From:step.To])
			}
			s.steps = append(s.steps, line)
		}
	}
	return s.output.Batch(b)
}

// TestExplain: for each line of a map the fields that went into it, where they stand, what became of them, and the bytes that
// came of it, by hand.
func TestExplain(t *testing.T) {
	const lab = "MSH|^~\\&|A|B|C|D|20261128||ORU^R01^ORU_R01|1|P|2.5.1\rPID|1||T-1\rOBR|1|A-1||P\rOBX|1|NM|WBC||5.50\rNTE|1||first\rOBX|2|NM|HGB||n/a\r"
	for name, test := range map[string]struct {
		read, in, target, sample, lines string
		want                            []string
	}{
		"rows of a message": {"format: hl7", lab, "json", `{"who":"","n":1,"low":true,"all":[{"what":"","value":1,"notes":""}]}`,
			"let name = PID-3.1 | upper\nwho = \"{name}!\"\nn = OBX | count\nwhen OBR-5 = \"R\"\n  low = false\nend\nrepeat all for row in OBX\n  what = OBX-3.1\n  value = OBX-5 | number if unreadable 0\n  notes = \"none\" when NTE-3 is absent, otherwise NTE-3\nend\n", []string{
				`6 who: [PID-3.1 text T-1 at 2:8] [| upper text T-1] [name text T-1] text T-1! = "\"T-1!\""`,
				`7 n: number 2 = "2"`,
				`9 low: [OBR-5 absent ] [OBR-5 = "R" boolean false] absent `,
				`12 what OBX 1: [OBX-3.1 text WBC at 4:10] text WBC = "\"WBC\""`,
				`13 value OBX 1: [OBX-5 text 5.50 at 4:15] number 5.50 = "5.50"`,
				`14 notes OBX 1: [NTE-3 text first at 5:8] [NTE-3 is absent boolean false] [NTE-3 text first at 5:8] text first = "\"first\""`,
				`12 what OBX 2: [OBX-3.1 text HGB at 6:10] text HGB = "\"HGB\""`,
				`13 value OBX 2: [OBX-5 text n/a at 6:15] number 0 = "0"`,
				`14 notes OBX 2: [NTE-3 absent ] [NTE-3 is absent boolean true] text none = "\"none\""`}},
		"a rejected one": {"format: csv\ncheck:\n  schema: schemas/s.json", "a,b\nx,1\n", "csv", "a,b\n", "a = a | number\nb = b\nreject when b = \"2\" because \"no\"\n",
			[]string{`7 reject: [b text 1 at 2:3] boolean false`, `5 a: [a text x at 2:1] failed "x" is not a number`}},
		"no rows": {"format: hl7", strings.Split(lab, "OBX")[0], "json", `{"n":1,"all":[{"what":""}]}`, "n = OBX | count\nrepeat all for row in OBX\n  reject when OBX-5 = \"n/a\" because \"no\"\n  what = OBX-3.1\nend\n",
			[]string{`7 reject OBX 0: boolean false`, `5 n: number 0 = "0"`}},
		"blocks that exclude each other": {"format: csv\ncheck:\n  schema: schemas/s.json", "a,b\nx,1\n7,2\nz,3\nx,2\n", "csv", "a,b\n", "when b = \"1\"\n  a = a\nend\nwhen b = \"2\"\n  a = a | number\nend\nb = b\n", []string{
			`6 a: [b text 1 at 2:3] [b = "1" boolean true] [a text x at 2:1] text x = "x"`, `11 b: [b text 1 at 2:3] text 1 = "1"`,
			`9 a: [b text 2 at 3:3] [b = "1" boolean false] [b text 2 at 3:3] [b = "2" boolean true] [a text 7 at 3:1] [| number number 7] number 7 = "7"`, `11 b: [b text 2 at 3:3] text 2 = "2"`,
			`6 a: [b text 3 at 4:3] [b = "1" boolean false] [b text 3 at 4:3] [b = "2" boolean false] absent `, `11 b: [b text 3 at 4:3] text 3 = "3"`,
			`9 a: [b text 2 at 5:3] [b = "1" boolean false] [b text 2 at 5:3] [b = "2" boolean true] [a text x at 5:1] failed "x" is not a number`}},
		"as it came": {"format: hl7", lab, "hl7", "", "PID-3.1 = \"T-{OBR-2}\"\nrepeat OBX for obx in OBX where obx.OBX-5 = \"n/a\"\n  OBX-5 = absent\nend\n",
			[]string{`5 PID-3.1: [OBR-2 text A-1 at 3:7] text T-A-1`, `7 OBX-5 OBX 1: absent `}},
	} {
		target := test.target + " based on samples/s"
		if test.sample == "" {
			target = test.target + " as it came"
		}
		source := strings.Fields(test.read)[1]
		if source == "csv" {
			source += " schemas/s.json"
		}
		w := workspace.FromFiles(map[string][]byte{
			"routes/r.yaml":          []byte("route: r\nlisten:\n  folder: \"{in}\"\n  names: \"*\"\nread:\n  " + test.read + "\nmap: maps/m.map\ndeliver:\n  folder: \"{out}\"\n  name: \"{file.name}\"\nrejected:\n  folder: \"{out}/rejected\"\n"),
			"maps/m.map":             []byte("map m\nsource " + source + "\ntarget " + target + "\n\n" + test.lines),
			"schemas/s.json":         []byte(`{"fields":[{"name":"a"},{"name":"b"}]}`),
			"samples/s":              []byte(test.sample),
			"environments/test.yaml": []byte("environment: test\nplaces:\n  in: in\n  out: out\n"),
		})
		c, findings := Compile(w, "r")
		if c == nil {
			t.Fatalf("%s: %v", name, findings)
		}
		o := &told{}
		if _, err := c.Plan.Run(context.Background(), strings.NewReader(test.in), flow.Inputs{}, o); err != nil {
			t.Fatal(name, err)
		}
		if got := strings.Join(o.steps, "\n"); got != strings.Join(test.want, "\n") {
			t.Errorf("%s:\n%s\nnot\n%s", name, got, strings.Join(test.want, "\n"))
		}
	}
}
