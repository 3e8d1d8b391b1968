package route

import (
	"context"
	"os"
	"slices"
	"strings"
	"testing"
	"ydrion/core/flow"

	"ydrion/workspace"
)

// compiled compiles a route whose map names positions, with a sample of what comes.
func compiled(t *testing.T, read, schema, lines, target, sample string) (*Compiled, []string) {
	t.Helper()
	w, err := workspace.Load(os.DirFS("../bench/workspace"))
	if err != nil {
		t.Fatal(err)
	}
	_, format, _ := strings.Cut(read, "format: ")
	format, _, _ = strings.Cut(format, ",")
	checks := ""
	if schema != "" {
		w.Files["schemas/s.json"] = []byte(schema)
		schema, checks = " schemas/s.json", "check: {schema: schemas/s.json}\n"
	}
	if sample != "" {
		w.Files["samples/in"] = []byte(sample)
		read += ", sample: samples/in"
	}
	w.Files["samples/out.csv"] = []byte(target + "\n")
	w.Files["maps/m.map"] = []byte("map m\nsource " + format + schema + "\ntarget csv based on samples/out.csv\n\n" + lines + "\n")
	w.Files["routes/r.yaml"] = []byte("route: r\nlisten: {folder: \"{in}/x\"}\nread: {" + read + "}\n" + checks + "map: maps/m.map\ndeliver: {folder: \"{out}/x\", name: \"{file.stem}.csv\"}\nrejected: {folder: \"{out}/y\"}\n")
	c, findings := Compile(workspace.FromFiles(w.Files), "r")
	var said []string
	for _, f := range findings {
		said = append(said, strings.ReplaceAll(f.String(), "\n", ""))
	}
	return c, said
}

// TestAgainstASample: a check tells which fields no record of a sample has, where only the first of
// several is taken, and what would be rejected; and is silent about a sample that fits.
func TestAgainstASample(t *testing.T) {
	const (
		lab   = "MSH|^~\\&|LAB||||2026||ORU^R01|M1|P|2.5.1\rPID|1||7^^^A^PI~8^^^B^MR||Doe\rOBR|1||S1\rOBX|1|NM|HGB^Hb||71\rOBX|2|NM|WBC^Leu||4.5\rNTE|1||one\rNTE|2||two\r"
		order = "UNB+UNOC:3+S+H+261125:0930+7'UNH+1+ORDERS:D:96A:UN'BGM+220+A1+9'DTM+137:20261125:102'DTM+2:20261201:102'NAD+BY+B1::92'LIN+1++X1:SA'QTY+21:3'LIN+2++X2:SA'QTY+21:5'UNS+S'UNT+11+1'UNZ+1+7'"
		sheet = "tag;kg\nT-1;17,5\nT-2;x\n"
		beach = `{"by":"Ann","seals":[{"tag":"T-1","kg":17.5,"notes":["a","b"]},{"tag":"T-2"}]}`
	)
	for name, test := range map[string]struct {
		read, schema, lines, target, sample string
		want                                []string
	}{
		"messages that fit":    {"format: hl7", "", "a = PID-3[5=MR].1\nb = OBX[1]-5\nc = OBX(3=WBC)-5\nd = PID-3[1].1", "a,b,c,d", lab, nil},
		"the first of several": {"format: hl7", "", "a = PID-3.1\nb = OBX-5", "a,b", lab, []string{"maps/m.map:5:5: warning: PID-3 stands more than once in a record of samples/in, and PID-3.1 is the first only", "maps/m.map:6:5: warning: OBX stands more than once"}},
		"units that fit":       {"format: hl7, record: OBX", "", "a = OBR-3\nb = OBX-5 | number\nc = NTE[1]-3", "a,b,c", lab, nil},
		"of a unit":            {"format: hl7, record: OBX", "", "c = NTE-3", "c", lab, []string{"NTE stands more than once"}},
		"absent":               {"format: hl7", "", "a = PID-8\nb = OXB-5", "a,b", lab, []string{"maps/m.map:6:5: warning: no message that follows the standard has OXB-5: there is no segment OXB", "maps/m.map:5:5: warning: no record of samples/in has PID-8", "maps/m.map:6:5: warning: no record of samples/in has OXB-5"}},
		"rejected":             {"format: hl7, record: OBX", "", "a = OBX-3.2 | number", "a", lab, []string{"routes/r.yaml:3:42: warning: this route rejects records of samples/in: 2 of 2, the first because in record 1 OBX-3.2: OBX-3.2: \"Hb\""}},
		"no such fields":       {"format: hl7", "", "a = animal_tag", "a", "", []string{`maps/m.map:5:5: error: there is no field "animal_tag" [map.field-unknown]    without a schema values are named by their positions, such as PID-5.1`}},
		"told the time":        {"format: edifact, record: LIN", "", "a = now | format \"yyyyMMddHHmm\"\nb = file.stem", "a,b", order, nil},
		"an order":             {"format: edifact, record: LIN", "", "a = LIN-3.1\nb = QTY(21)-1.2\nc = DTM(137)-1.2\nd = UNB-5", "a,b,c,d", order, nil},
		"dates of an order":    {"format: edifact", "", "a = DTM-1.2", "a", order, []string{"DTM stands more than once"}},
		"beyond what is known": {"format: x12", "", "a = TD5-16", "a", "", []string{"maps/m.map:5:5: warning: no description here has TD5-16: TD5 has 15 fields"}},
		"beyond the standard":  {"format: edifact", "", "a = DTM(2)-1.7", "a", "", []string{"maps/m.map:5:5: warning: no message that follows the standard has DTM(2)-1.7: DTM-1 (Date/time/period, type C507) has no component 7"}},
		"columns":              {"format: csv, delimiter: \";\"", `{"fields":[{"name":"tag"},{"name":"kg","type":"number","decimalChar":","}]}`, "a = tag\nb = kg", "a,b", sheet, []string{"this route rejects records of samples/in: 1 of 2, the first because in record 2 kg: kg"}},
		"another delimiter":    {"format: csv", `{"fields":[{"name":"tag"}]}`, "a = tag", "a", sheet, []string{"samples/in cannot be read as this route reads"}},
		"members":              {"format: json, record: \"/seals/*\"", `{"fields":[{"name":"tag"},{"name":"by","path":"2/by"},{"name":"kilos","type":"number"}]}`, "a = tag\nb = by\nc = kilos if absent 0", "a,b,c", beach, []string{"schemas/s.json kilos: warning: no record of samples/in has kilos"}},
		"no records":           {"format: json, record: \"/seals/*\"", `{"fields":[{"name":"tag"}]}`, "a = tag", "a", `{"seals":[]}`, []string{"routes/r.yaml:3:50: warning: samples/in has no records"}},
		"of a JSON Schema":     {"format: json, record: \"/seals/*\"", `{"$schema":"https://json-schema.org/draft/2020-12/schema","type":"object","properties":{"seals":{"type":"array","items":{"type":"object","properties":{"tag":{"type":"string"},"kilos":{"type":"number"},"never":{"type":"string"}}}}}}`, "a = tag\nb = kilos if absent 0", "a,b", beach, []string{"schemas/s.json kilos: warning: no record of samples/in has /kilos"}},
		"there is no sample":   {"format: hl7, sample: samples/nowhere", "", "a = PID-5.1", "a", "", []string{"routes/r.yaml:3:29: error: there is no file samples/nowhere"}},
		"a schema beside":      {"format: x12, record: PO1", `{"fields":[{"name":"n","path":"PO1-1"}]}`, "a = n\nb = BEG-3\nc = N1(BY)-2", "a,b,c", "", nil},
	} {
		c, said := compiled(t, test.read, test.schema, test.lines, test.target, test.sample)
		if len(said) != len(test.want) || (c == nil) != slices.ContainsFunc(said, func(s string) bool { return strings.Contains(s, ": error: ") }) {
			t.Errorf("%s: %q, not %q", name, said, test.want)
			continue
		}
		for i, want := range test.want {
			if !strings.Contains(said[i], want) {
				t.Errorf("%s: %s\nnot %s", name, said[i], want)
			}
		}
	}
}

// TestOwnDescription: a route of HL7 checks messages against a description of one's own, which is a part of
// its revision.
func TestOwnDescription(t *testing.T) {
	w, err := workspace.Load(os.DirFS("../bench/workspace"))
	if err != nil {
		t.Fatal(err)
	}
	w.Files["samples/out.csv"] = []byte("a\n")
	w.Files["maps/m.map"] = []byte("map m\nsource hl7\ntarget csv based on samples/out.csv\n\na = OBX-5\n")
	w.Files["descriptions/lab.txt"] = []byte("segment OBX 2.5.1 Observation\nR SI Number\nR ID(2) Type\nR CE Test\nX ST Sub\nR VARIES Value\n")
	w.Files["routes/r.yaml"] = []byte("route: r\nlisten: {folder: \"{in}/x\"}\nread: {format: hl7, record: OBX}\ncheck: {description: descriptions/lab.txt}\nmap: maps/m.map\ndeliver: {folder: \"{out}/x\", name: \"{file.stem}.csv\"}\nrejected: {folder: \"{out}/y\"}\n")
	c, findings := Compile(workspace.FromFiles(w.Files), "r")
	if c == nil || c.Files["descriptions/lab.txt"] == nil {
		t.Fatal(findings)
	}
	const in = "MSH|^~\\&|A|B|C|D|20261128||ORU^R01^ORU_R01|1|P|2.5.1\rPID|||7^^^A||Mara\rOBR|1|1|2|x^x^x\rOBX|1|NM|K^K^L||2\rOBX|2|NM|K^K^L|a|3\rOBX|3|NM|K^K^L||4|g\r"
	o := &output{}
	if _, err := c.Plan.Run(context.Background(), strings.NewReader(in), flow.Inputs{}, o); err != nil {
		t.Fatal(err)
	}
	wrong := strings.Join(o.wrong, "\n")
	if out := o.whole(t); out != "a\n2\n" || !strings.Contains(wrong, "OBX[2]-4") || !strings.Contains(wrong, "the description knows 5 fields of OBX") && !strings.Contains(wrong, "knows 5 fields of OBX") {
		t.Errorf("%q %s", out, wrong)
	}
	// A message of another version is not checked against something else.
	o = &output{}
	if _, err := c.Plan.Run(context.Background(), strings.NewReader(strings.Replace(in, "2.5.1", "2.4", 1)), flow.Inputs{}, o); err != nil || len(o.wrong) != 3 || !strings.Contains(o.wrong[0], "the description has nothing on messages \"ORU\" of version 2.4") {
		t.Error(o.wrong, err)
	}
}
