package route

import (
	"context"
	"encoding/json"
	"fmt"
	"math/big"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"

	"ydrion/core/batch"
	"ydrion/core/flow"
	"ydrion/core/format"
	"ydrion/workspace"
)

// output collects what a run writes and what was wrong.
type output struct {
	opened *flow.Opened
	text   strings.Builder
	wrong  []string
	good   int64
}

// whole is the output with what it ends with.
func (o *output) whole(t *testing.T) string {
	t.Helper()
	if o.good == 0 || o.opened.Plan.Branches[0].Separate {
		return o.text.String()
	}
	ends, err := o.opened.Assemblies[0].Ends()
	if err != nil {
		t.Fatal(err)
	}
	return o.text.String() + string(ends)
}

func (o *output) Open(opened *flow.Opened) error {
	o.opened = opened
	return nil
}

func (o *output) Batch(b *batch.Batch) error {
	if len(b.Branches[0].Out) > 0 {
		if o.opened.Plan.Branches[0].Separate {
			if err := o.opened.Assemblies[0].Each(b, func(_ int, made []byte) error { o.text.Write(made); return nil }); err != nil {
				return err
			}
		} else {
			made, err := o.opened.Assemblies[0].All(b)
			if err != nil {
				return err
			}
			o.text.Write(made)
		}
	}
	for i, w := range b.Outcomes {
		if w == batch.Good {
			o.good++
		}
		if err := explained(o.opened, b, i); err != nil {
			return err
		}
	}
	for i := range b.Records() {
		for _, f := range o.opened.Findings(b, i) {
			o.wrong = append(o.wrong, f.String())
		}
	}
	return nil
}

// explained checks what the maps make of a record against what they make of it where they say what they do, which is
// done in another way: each expression by itself.
func explained(o *flow.Opened, b *batch.Batch, record int) error {
	for k := range o.Plan.Branches {
		of := &o.Plan.Branches[k]
		if of.Program == nil || b.Outcomes[record] == batch.Good && !b.In(k, record) {
			continue
		}
		made, steps, _ := o.Explain(b, record, k)
		if want := b.Branches[k].Made(record); b.Outcomes[record] == batch.Good && strings.TrimRight(string(made), "\r\n") != strings.TrimRight(string(want), "\r\n") {
			return fmt.Errorf("record %d is %q, and %q where it is explained", record+1, want, made)
		}
		for _, s := range steps {
			if s.From > s.To || s.To > len(made) && b.Outcomes[record] == batch.Good || s.Says == "" && s.Line > 0 {
				return fmt.Errorf("a step of record %d is %+v", record+1, s)
			}
		}
	}
	return nil
}

func (o *output) Broken(b *format.Broken) error { o.wrong = append(o.wrong, b.Error()); return nil }

// through sends a text through a route of the benchmarks' workspace, one of whose
// files may be changed.
func through(t *testing.T, name, in, file, old, with string) (string, string) {
	t.Helper()
	w, err := workspace.Load(os.DirFS("../bench/workspace"))
	if err != nil {
		t.Fatal(err)
	}
	if file != "" {
		if !strings.Contains(string(w.Files[file]), old) {
			t.Fatalf("%s does not hold %q", file, old)
		}
		w.Files[file] = []byte(strings.Replace(string(w.Files[file]), old, with, 1))
		w = workspace.FromFiles(w.Files)
	}
	c, findings := Compile(w, name)
	if c == nil {
		var said []string
		for _, f := range append(w.Findings, findings...) {
			said = append(said, f.String())
		}
		return "", strings.Join(said, "\n")
	}
	o := &output{}
	result, err := c.Plan.Run(context.Background(), strings.NewReader(in), flow.Inputs{}, o)
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range result.Findings {
		o.wrong = append(o.wrong, f.String())
	}
	return o.text.String(), strings.Join(o.wrong, "\n")
}

const rowsHeading = "specimen_id,animal_tag,species_code,station,collected_at,sex,weight_kg,note,test_code,priority,lat,lon\n"

func TestRowsToObjects(t *testing.T) {
	const object = `{"specimen_id":"S1","animal_tag":"T\\1","species_code":"GS","station":"","collected_at":"2024-05-27T13:35:00","sex":null,"weight_kg":8.40,"note":"a \"b\"\tc","test_code":"é","priority":"R","lat":60.1,"lon":-2}` + "\n"
	for _, test := range []struct{ row, file, old, with, out, wrong string }{
		{row: `S1,T\1,GS,,27/05/2024 13:35,,8.40,"a ""b""` + "\tc\",é,R,060.1,-02\n", out: object},
		{row: "S1,x,x,x,27/05/2024 13:35,F,7.5kg,n,x,x,0.10,-0.0\n", out: `"sex":"F","weight_kg":null,"note":"n","test_code":"x","priority":"x","lat":0.10,"lon":-0.0}`},
		{row: "S1,x,x,x,27/05/2024 13:35,F,1,n,x,x,,1\n", wrong: "the value is empty, which cannot be said here; answer it with `if empty …`"},
		{row: "S1,x,x,x,27/05/2024 13:35,F,,n,x,x,1,1\n", file: "maps/rows-to-objects.map", old: " if empty null if unreadable", with: " if unreadable", wrong: "the value is empty"},
		{row: "S1,x,x,x,27/05/2024 13:35,F,x,n,x,x,1,1\n", file: "maps/rows-to-objects.map", old: " if unreadable null", with: "", wrong: `"x" is not a number`},
		{row: "S1,x,x,x,27/05/2024 13:35,F,1,n,x,x,1,1\n", file: "maps/rows-to-objects.map", old: "station      = station", with: "clear station\nignore station", out: `"species_code":"x","collected_at"`},
		{row: "S1,x,x,x,27/05/2024 13:35,F,1,n,x,x,1,1\n", file: "maps/rows-to-objects.map", old: "station      = station", with: "keep station\nignore station", out: `"station":"","collected_at"`},
		{file: "routes/rows.yaml", old: "one file per: pickup", with: "one file per: pickup\n  segments end: as sample", wrong: "only edifact, hl7 and x12 have segments"},
		{file: "routes/rows.yaml", old: "one file per: pickup", with: "one file per: pickup\n  formulas: guarded", wrong: "guarded in csv only, not in json"},
		{file: "maps/rows-to-objects.map", old: "station      = station", with: "ignore station", wrong: "the sample's value at station would go into every record"},
		{file: "maps/rows-to-objects.map", old: "station      =", with: "statoin =", wrong: `was "station" meant?`},
		{file: "samples/row.json", old: `"lat": 0,`, with: `"lat": 0, "lat": 0,`, wrong: `the member "lat" stands there twice`},
		{file: "maps/rows-to-objects.map", old: "if unreadable null", with: "if unlisted null", wrong: "answers a lookup"},
		{file: "maps/rows-to-objects.map", old: "sex if empty null", with: "sex if unreadable null", wrong: "answers number or date"},
		{row: "S1,x,x,x,27/05/2024 13:35,,1,n,x,x,1,1\n", file: "maps/rows-to-objects.map", old: "sex          = sex if empty null", with: "sex = sex if empty absent", out: `"collected_at":"2024-05-27T13:35:00","weight_kg":1,`},
	} {
		out, wrong := through(t, "rows", rowsHeading+test.row, test.file, test.old, test.with)
		if !strings.Contains(out, test.out) || !strings.Contains(wrong, test.wrong) || test.wrong == "" && (wrong != "" || out == "") {
			t.Errorf("%q %s: %q → %q\nwant %q\n%s\nwant %s", test.row, test.file, test.with, out, test.out, wrong, test.wrong)
		}
	}
}

func TestNestedObjects(t *testing.T) {
	w, err := workspace.Load(os.DirFS("../bench/workspace"))
	if err != nil {
		t.Fatal(err)
	}
	w.Files["samples/row.json"] = []byte(`{"id": "", "where": {"station": "", "at": {"lat": 0, "lon": 0}}, "version": 3, "a.b": true}`)
	w.Files["maps/rows-to-objects.map"] = []byte("map rows_to_objects\nsource csv schemas/rows.json\ntarget json based on samples/row.json\n\nkeep version, /a.b\nid = specimen_id\nwhere.station = station if empty absent\nwhere.at.lat = lat if empty absent\n/where/at/lon = lon if empty absent\n")
	c, findings := Compile(workspace.FromFiles(w.Files), "rows")
	if c == nil {
		t.Fatal(findings.Error())
	}
	o := &output{}
	if _, err := c.Plan.Run(context.Background(), strings.NewReader(rowsHeading+"S1,,,K,27/05/2024 13:35,,,,,,1,2\nS2,,,,27/05/2024 13:35,,,,,,,\n"), flow.Inputs{}, o); err != nil {
		t.Fatal(err)
	}
	want := `{"id":"S1","where":{"station":"K","at":{"lat":1,"lon":2}},"version":3,"a.b":true}` + "\n" + `{"id":"S2","where":{"at":{}},"version":3,"a.b":true}` + "\n"
	if o.text.String() != want {
		t.Errorf("got\n%s%v\nwant\n%s", o.text.String(), o.wrong, want)
	}
}

// TestJSONToRows: the records are anywhere in a document, and so are their fields.
func TestJSONToRows(t *testing.T) {
	w, err := workspace.Load(os.DirFS("../bench/workspace"))
	if err != nil {
		t.Fatal(err)
	}
	w.Files["routes/observations.yaml"] = []byte(strings.Replace(string(w.Files["routes/observations.yaml"]), "format: hl7\n  record: OBX", "format: json\n  record: /specimens/*/tests/*", 1))
	w.Files["maps/observations-to-rows.map"] = []byte("map observations_to_rows\nsource json schemas/observations.json\ntarget csv based on samples/observation.csv\n\nspecimen = id\nstation = station if null \"\"\nvalue = value | round 1\n")
	w.Files["samples/observation.csv"] = []byte("station;specimen;value\r\n")
	w.Files["schemas/observations.json"] = []byte(`{"fields": [{"name": "id", "path": "2/specimen_id"}, {"name": "station", "path": "4/station/code"}, {"name": "value", "path": "/v", "type": "number"}]}`)
	c, findings := Compile(workspace.FromFiles(w.Files), "observations")
	if c == nil {
		t.Fatal(findings.Error())
	}
	o := &output{}
	in := `{"station": {"code": null}, "specimens": [{"tests": [{"v": 1.25}, {"v": "high"}, {"v": 2}, {"v": 1.5E+3}], "specimen_id": "S;1"}]}`
	if _, err := c.Plan.Run(context.Background(), strings.NewReader(in), flow.Inputs{}, o); err != nil {
		t.Fatal(err)
	}
	want := "station;specimen;value\r\n;\"S;1\";1.2\r\n;\"S;1\";2.0\r\n;\"S;1\";1500.0\r\n"
	if o.text.String() != want || len(o.wrong) != 1 || !strings.Contains(o.wrong[0], `1:74 record 2 value: error`) {
		t.Errorf("got\n%q\n%v\nwant\n%q", o.text.String(), o.wrong, want)
	}
}

// TestNumbersAsWritten: whichever way a number is written, JSON gets one that its own reader
// reads as the same number, CSV gets it as it was, and formats whose standards know neither
// plus nor exponent nor a bare point get it in plain decimal notation (HL7 v2 2A, NM; X12.6,
// R; ISO 9735-1, 10).
func TestNumbersAsWritten(t *testing.T) {
	w, err := workspace.Load(os.DirFS("../bench/workspace"))
	if err != nil {
		t.Fatal(err)
	}
	w.Files["samples/row.json"] = []byte(`{"lat": 0}`)
	w.Files["samples/row.csv"] = []byte("lat\n")
	w.Files["samples/row.hl7"] = []byte("MSH|^~\\&|A|B|C|D|20260101||ORU^R01|1|P|2.5.1\rOBX|1|NM|X||0\r")
	w.Files["samples/row.x12"] = []byte("ISA*00*          *00*          *ZZ*A              *ZZ*B              *260101*1200*U*00401*000000001*0*P*>~GS*PO*A*B*20260101*1200*1*X*004010~ST*850*0001~PO1*1*0~SE*3*0001~GE*1*1~IEA*1*000000001~")
	w.Files["samples/row.edifact"] = []byte("UNA:+,? 'UNB+UNOA:2+A+B+260101:1200+1'UNH+1+ORDERS:D:96A:UN'QTY+21:0'UNT+3+1'UNZ+1+1'")
	plain := map[string]string{"+7.5": "7.5", ".5": "0.5", "-.5": "-0.5", "5.": "5", "1.5E-3": "0.0015", "+01.50": "01.50", ".5e2": "50", "5.e1": "50", "007": "007", "1e3": "1000", "-2.25": "-2.25"}
	comma := map[string]string{}
	for written, want := range plain {
		comma[written] = strings.Replace(want, ".", ",", 1)
	}
	position := map[string]string{"json": "lat", "csv": "lat", "hl7": "OBX-5", "x12": "PO1-2", "edifact": "QTY-1.2"}
	around := map[string]string{"hl7": "OBX|1|NM|X||@\r", "x12": "PO1*1*@~", "edifact": "QTY+21:@'"}
	kept := map[string]string{"hl7": "keep MSH, OBX-1, OBX-2, OBX-3\n", "x12": "keep ISA, GS, ST, PO1-1\n", "edifact": "keep UNB, UNH, QTY-1.1\n"}
	for target, ways := range map[string]map[string]string{
		"json": {"+7.5": "7.5", ".5": "0.5", "-.5": "-0.5", "5.": "5", "1.5E-3": "1.5E-3", "+01.50": "1.50", ".5e2": "0.5e2", "5.e1": "5e1", "-0": "-0", "007": "7", "1e3": "1e3"},
		"csv":  {"+7.5": "+7.5", ".5": ".5", "1.5E-3": "1.5E-3", "007": "007", "1.50": "1.50"},
		"hl7":  plain, "x12": plain, "edifact": comma,
	} {
		for _, expression := range []string{"lat", "lat | round 4"} {
			w.Files["maps/rows-to-objects.map"] = []byte("map rows_to_objects\nsource csv schemas/rows.json\ntarget " + target + " based on samples/row." + target + "\n\n" + kept[target] + position[target] + " = " + expression + "\n")
			w.Files["schemas/rows.json"] = []byte(`{"fields": [{"name": "lat", "type": "number"}]}`)
			c, findings := Compile(workspace.FromFiles(w.Files), "rows")
			if c == nil {
				t.Fatal(findings.Error())
			}
			for written, want := range ways {
				o := &perRecord{}
				if _, err := c.Plan.Run(context.Background(), strings.NewReader("lat\n"+written+"\n"), flow.Inputs{}, o); err != nil {
					t.Fatal(err)
				}
				got := strings.TrimSpace(strings.Join(o.made, ""))
				if expression == "lat" && target == "json" {
					want = `{"lat":` + want + "}"
				}
				if at, value, segments := strings.Cut(around[target], "@"); segments && expression == "lat" {
					_, got, _ = strings.Cut(got, at)
					got, _, _ = strings.Cut(got, value)
				}
				if expression == "lat" && got != want || len(o.wrong) > 0 {
					t.Errorf("%s to %s: %q, not %q %v", written, target, got, want, o.wrong)
				}
				if target != "json" {
					continue
				}
				var read struct{ Lat json.Number }
				if err := json.Unmarshal([]byte(got), &read); err != nil {
					t.Fatalf("%s: %q: %v", written, got, err)
				}
				is, _ := new(big.Rat).SetString(read.Lat.String())
				should, ok := new(big.Rat).SetString(strings.TrimSuffix(written, "."))
				if !ok {
					should, _ = new(big.Rat).SetString(strings.Replace(written, ".e", "e", 1))
				}
				if is.Cmp(should) != 0 {
					t.Errorf("%s became %s", written, read.Lat)
				}
			}
		}
	}
}

// TestNullNumbers: null is answered with nothing, a number, or left out; where a number must
// stand, nothing is refused; in a row it is empty, and a row of nothing is no empty line.
func TestNullNumbers(t *testing.T) {
	w, err := workspace.Load(os.DirFS("../bench/workspace"))
	if err != nil {
		t.Fatal(err)
	}
	w.Files["routes/observations.yaml"] = []byte(strings.Replace(string(w.Files["routes/observations.yaml"]), "format: hl7\n  record: OBX", "format: json", 1))
	w.Files["schemas/observations.json"] = []byte(`{"fields": [{"name": "v", "type": "number"}]}`)
	w.Files["samples/observation.csv"], w.Files["samples/v.json"] = []byte("v\r\n"), []byte(`{"v": 0}`)
	for _, test := range []struct{ target, expression, out, wrong string }{
		{"csv", `v`, "\"\"\r\n1.5\r\n", ""}, {"csv", `v if null ""`, "\"\"\r\n1.5\r\n", ""}, {"csv", `v | round 1 if null ""`, "\"\"\r\n1.5\r\n", ""},
		{"csv", `v if null 0`, "0\r\n1.5\r\n", ""}, {"csv", `v if null "n/a"`, "", "the answer is a text, what it stands for is a number"},
		{"json", `v if null ""`, `{"v":1.5}` + "\n", "the value is empty"}, {"json", `v`, `{"v":null}` + "\n" + `{"v":1.5}` + "\n", ""},
	} {
		sample := map[string]string{"csv": "samples/observation.csv", "json": "samples/v.json"}[test.target]
		w.Files["maps/observations-to-rows.map"] = []byte("map observations_to_rows\nsource json schemas/observations.json\ntarget " + test.target + " based on " + sample + "\n\nv = " + test.expression + "\n")
		c, findings := Compile(workspace.FromFiles(w.Files), "observations")
		if c == nil {
			if test.out != "" || !strings.Contains(findings.Error(), test.wrong) {
				t.Errorf("%+v: %v", test, findings)
			}
			continue
		}
		o := &perRecord{}
		if _, err := c.Plan.Run(context.Background(), strings.NewReader("{\"v\":null}\n{\"v\":1.5}\n"), flow.Inputs{}, o); err != nil {
			t.Fatal(err)
		}
		if got := strings.Join(o.made, ""); got != test.out || !strings.Contains(strings.Join(o.wrong, "\n"), test.wrong) || test.wrong == "" && len(o.wrong) > 0 {
			t.Errorf("%+v: %q %q", test, got, o.wrong)
		}
	}
}

// TestListsAsTarget: with a list as the sample, an output is a list.
func TestListsAsTarget(t *testing.T) {
	w, err := workspace.Load(os.DirFS("../bench/workspace"))
	if err != nil {
		t.Fatal(err)
	}
	w.Files["samples/row.json"] = []byte(` [{"id": ""}] `)
	w.Files["maps/rows-to-objects.map"] = []byte("map rows_to_objects\nsource csv schemas/rows.json\ntarget json based on samples/row.json\n\nid = specimen_id\n")
	c, findings := Compile(workspace.FromFiles(w.Files), "rows")
	if c == nil {
		t.Fatal(findings.Error())
	}
	for rows, want := range map[string]string{"": "", "S1": "[\n{\"id\":\"S1\"}\n]\n", "S1 S2 S3": "[\n{\"id\":\"S1\"},\n{\"id\":\"S2\"},\n{\"id\":\"S3\"}\n]\n"} {
		in := rowsHeading
		for _, id := range strings.Fields(rows) {
			in += id + ",,,,27/05/2024 13:35,,,,,,1,2\n"
		}
		o := &output{}
		if _, err := c.Plan.Run(context.Background(), strings.NewReader(in), flow.Inputs{}, o); err != nil {
			t.Fatal(err)
		}
		if got := o.whole(t); got != want || len(o.wrong) > 0 {
			t.Errorf("%q: %q, want %q, %v", rows, got, want, o.wrong)
		}
	}
	for sample, want := range map[string]string{`[]`: "an object was expected", `[1]`: "an object was expected", `[{"id": ""}, {"id": ""}]`: "has one element", `[`: "EOF", `[{"id": [1]}]`: "say `repeat id for", `[{"id": [1, 2]}]`: "has one element"} {
		w.Files["samples/row.json"] = []byte(sample)
		if _, findings := Compile(workspace.FromFiles(w.Files), "rows"); !strings.Contains(findings.Error(), want) {
			t.Errorf("%s: %v, want %s", sample, findings, want)
		}
	}
}

// TestOrderLines: lines of orders become objects, from EDIFACT and from X12.
func TestOrderLines(t *testing.T) {
	w, err := workspace.Load(os.DirFS("../bench/workspace"))
	if err != nil {
		t.Fatal(err)
	}
	const (
		edi = "UNB+UNOC:3+S+T+261125:0930+IC7'UNH+1+ORDERS:D:96A:UN'BGM+220+PO1+9'DTM+137:20261125:102'DTM+2:20261201:102'NAD+BY+ST1::92'NAD+SU+TW::92'CUX+2:EUR:9'LIN+1++A1:SA'IMD+F++:::caf\xe9?+'QTY+21:5:PCE'PRI+AAA:1.50'LIN+2++B2:SA'QTY+21:six:PCE'LIN+3++C3:SA'QTY+12:1'UNS+S'UNT+17+1'UNH+2+ORDERS:D:96A:UN'BGM+220+PO2+9'LIN+1'UNT+5+2'UNZ+2+IC7'"
		x12 = "ISA*00*          *00*          *ZZ*SKERRY         *ZZ*HOLM           *261125*0930*^*00501*000000007*0*T*>~GS*PO*S*H*20261125*0930*3*X*005010~ST*850*0001~BEG*00*SA*PO1**20261125~CUR*BY*EUR~N1*BY*SKERRY*92*ST1~N1*SE*HOLM*92*TW~PO1*1*5*PCE*1.50**VP*A1~PID*F****caf\u00e9+~PO1*2*six*PCE***VP*B2~PO1*3*****VP*C3~SE*10*0001~ST*850*0002~BEG*00*SA*PO2~PO1*1~SE*5*0002~GE*2*3~IEA*1*000000007~"
	)
	paths := strings.NewReplacer("UNH-1", "ST-2", "BGM-2", "BEG-3", "DTM(137)-1.2", "BEG-5", "NAD(BY)-2.1", "N1(BY)-4", "NAD(SU)-2.1", "N1(SE)-4", "CUX-1.2", "CUR-2", "LIN-1", "PO1-1", "LIN-3.1", "PO1-7", "IMD-3.4", "PID-5", "QTY(21)-1.2", "PO1-2", "QTY(21)-1.3", "PO1-3", "PRI(AAA)-1.2", "PO1-4")
	for _, test := range []struct{ format, in string }{{"edifact", edi}, {"x12", x12}} {
		if test.format == "x12" {
			w.Files["routes/order-lines.yaml"] = []byte(strings.NewReplacer("edifact", "x12", "LIN", "PO1").Replace(string(w.Files["routes/order-lines.yaml"])))
			w.Files["maps/order-lines-to-objects.map"] = []byte(strings.Replace(string(w.Files["maps/order-lines-to-objects.map"]), "edifact", "x12", 1))
			w.Files["schemas/order-lines.json"] = []byte(paths.Replace(string(w.Files["schemas/order-lines.json"])))
		}
		c, findings := Compile(workspace.FromFiles(w.Files), "order-lines")
		if c == nil {
			t.Fatal(findings.Error())
		}
		o := &output{}
		if _, err := c.Plan.Run(context.Background(), strings.NewReader(test.in), flow.Inputs{}, o); err != nil {
			t.Fatal(err)
		}
		ref := map[string]string{"edifact": "1", "x12": "0001"}[test.format]
		want := `{"ref":"` + ref + `","order":"PO1","date":"2026-11-25","buyer":"ST1","supplier":"TW","currency":"EUR","no":1,"item":"A1","text":"café+","qty":5,"unit":"PCE","price":1.50}` + "\n" +
			`{"ref":"` + ref + `","order":"PO1","date":"2026-11-25","buyer":"ST1","supplier":"TW","currency":"EUR","no":3,"item":"C3"}` + "\n"
		if o.text.String() != want {
			t.Errorf("%s:\n%s\nwant\n%s", test.format, o.text.String(), want)
		}
		all := strings.Join(o.wrong, "\n")
		for _, wrong := range []string{`record 2 qty: error: qty is not a number`, test.format + ".count"} {
			if !strings.Contains(all, wrong) {
				t.Errorf("%s: %s\ndoes not say %s", test.format, all, wrong)
			}
		}
		if len(o.wrong) != 2 {
			t.Errorf("%s: %s", test.format, all)
		}
	}
}

// TestSameForAnyCores: what comes of a file with faults of all kinds does not depend on how many
// cores work at it.
func TestSameForAnyCores(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	var messages, list strings.Builder
	list.WriteString("[")
	for i := range 4000 {
		fmt.Fprintf(&messages, "MSH|^~\\&|LABSYS|ST%d|SKERRY|SCSR|2025||ORU^R01|M%d|P|2.5.1\rPID|1||T-%d^^^SCSR||GS|||%s\r", i%9, i, i, []string{"U", "", "F^x"}[r.IntN(3)])
		for range r.IntN(3) {
			fmt.Fprintf(&messages, "OBR|1||S%d^SCSR|CBC^Blood panel|||%s\r", i, []string{"202508151915", "2025", "", "x"}[r.IntN(4)])
			for range r.IntN(4) {
				fmt.Fprintf(&messages, "OBX|1|NM|ALT^ALT||%s\r", []string{"1.5", "a\\T\\b, \"c\"", "\"\"", "\xff", "broken\nline"}[r.IntN(5)])
			}
		}
		if i > 0 {
			list.WriteString(",\n")
		}
		fmt.Fprintf(&list, `{"specimen_id":"S%d","station":%s,"collected_at":"27/05/2024 13:35","lat":%s,"lon":1}`, i, []string{`"K"`, "null", `"a\u00e9\n"`, `"x","x":1,"x":2`}[r.IntN(4)], []string{"1", "1e2", `"high"`, "[1]"}[r.IntN(4)])
	}
	list.WriteString("]")
	w, err := workspace.Load(os.DirFS("../bench/workspace"))
	if err != nil {
		t.Fatal(err)
	}
	w.Files["routes/rows.yaml"] = []byte(strings.Replace(string(w.Files["routes/rows.yaml"]), "format: csv", "format: json", 1))
	w.Files["maps/rows-to-objects.map"] = []byte(strings.Replace(string(w.Files["maps/rows-to-objects.map"]), "source csv", "source json", 1))
	var orders strings.Builder
	orders.WriteString("UNB+UNOC:3+S+T+261125:0930+IC7'")
	for i := range 4000 {
		fmt.Fprintf(&orders, "UNH+%d+ORDERS:D:96A:UN'BGM+220+PO?'%d+9'DTM+137:%s:102'NAD+BY+ST%d::92'", i, i, []string{"20261125", "2026", ""}[r.IntN(3)], i%7)
		n := 5
		for line := range r.IntN(4) {
			fmt.Fprintf(&orders, "LIN+%d++A%d:SA'QTY+21:%s:PCE'", line+1, line, []string{"5", "x", "?+7", ""}[r.IntN(4)])
			n += 2
		}
		fmt.Fprintf(&orders, "UNT+%d+%d'", n+r.IntN(9)/8, i)
	}
	orders.WriteString("UNZ+4000+IC7'")
	for name, in := range map[string]string{"observations": messages.String(), "rows": list.String(), "order-lines": orders.String()} {
		c, findings := Compile(workspace.FromFiles(w.Files), name)
		if c == nil {
			t.Fatal(findings.Error())
		}
		var first *output
		for _, cores := range []int{1, 2, 3, 7} {
			o := &output{}
			if _, err := c.Plan.Run(context.Background(), strings.NewReader(in), flow.Inputs{Cores: cores}, o); err != nil {
				t.Fatal(err)
			}
			if first == nil {
				if first = o; o.text.Len() < 1000 || len(o.wrong) < 100 {
					t.Fatalf("%s: %d bytes and %d findings", name, o.text.Len(), len(o.wrong))
				}
			}
			if o.text.String() != first.text.String() || !slices.Equal(o.wrong, first.wrong) {
				t.Errorf("%s: %d cores make %d bytes and %d findings, one %d and %d", name, cores, o.text.Len(), len(o.wrong), first.text.Len(), len(first.wrong))
			}
		}
	}
}

func TestObservationsToRows(t *testing.T) {
	const (
		heading = "message_id,station,observed_at,animal_tag,species,sex,specimen_id,panel,set_id,type,code,name,value,unit,range,flag,status\n"
		before  = "MSH|^~\\&|LABSYS|ST18|SKERRY|SCSR|2025||ORU^R01|M1|P|2.5.1\rPID|1||T-1^^^SCSR||GS|||U\rOBR|1||S1^SCSR|CBC^Blood panel|||202508151915\r"
	)
	row := func(rest string) string { return "M1,ST18,2025-08-15T19:15:00,T-1,GS,U,S1,CBC," + rest + "\n" }
	for _, test := range []struct{ in, file, old, with, out, wrong string }{
		{in: before + "OBX|1|NM|ALT^ALT^L||165.66|U/L|20-90||||F\rOBX|2|TX|N||two\\.br\\lines, \\T\\ \"more\"\r",
			out: row("1,NM,ALT,ALT,165.66,U/L,20-90,,F") + row(`2,TX,N,,"two`+"\n"+`lines, & ""more""",,,,`)},
		{in: before + "OBX|1|NM|=1+1||-5|+x|@a,b\r", file: "routes/observations.yaml", old: "one file per: pickup", with: "one file per: pickup\n  formulas: guarded", out: row(`1,NM,'=1+1,,-5,'+x,"'@a,b",,`)},
		{in: before, file: "routes/observations.yaml", old: "one file per: pickup", with: "one file per: pickup\n  formulas: perhaps", wrong: "kept"},
		{in: before + "OBX|1|NM|ALT||\"\"\rOBX|2|NM|ALT||1\r", out: row("2,NM,ALT,,1,,,,"), wrong: "the value is null, which cannot be said here"},
		{in: before + "OBX|1|NM|ALT||\"\"\r", file: "maps/observations-to-rows.map", old: "value       = value", with: "value = value if null \"-\"", out: row("1,NM,ALT,,-,,,,")},
		{in: strings.Replace(before, "202508151915", "20250815", 1) + "OBX|1|NM\r", wrong: "record 1 observed_at: error"},
		{in: "BHS|^~\\&\r" + before + "OBX|1|NM\rBTS|2\r", wrong: "BTS says 2 messages, but 1 came", out: row("1,NM,,,,,,,")},
		{file: "schemas/observations.json", old: `"OBX-5"`, with: `"OBX5"`, in: before, wrong: "a hyphen and the field's number follow"},
		{file: "routes/observations.yaml", old: "record: OBX", with: "record: obx", wrong: "name of the segment that is a record"},
		{file: "maps/observations-to-rows.map", old: "flag        = flag", with: "ignore flag", wrong: `nothing fills the column "flag"`},
		{file: "maps/observations-to-rows.map", old: "flag        =", with: "flaag =", wrong: `was "flag" meant?`},
		{file: "maps/observations-to-rows.map", old: "source hl7", with: "source csv", wrong: "the map reads csv, the route reads hl7"},
		{file: "samples/observation.csv", old: "station,", with: "status,", wrong: "must name each column once"},
	} {
		out, wrong := through(t, "observations", test.in, test.file, test.old, test.with)
		if test.out != "" && out != heading+test.out || !strings.Contains(wrong, test.wrong) || test.wrong == "" && wrong != "" {
			t.Errorf("%q %s: %q →\n%q\nwant\n%q\n%s\nwant %s", test.in, test.file, test.with, out, heading+test.out, wrong, test.wrong)
		}
	}
}

// TestAgainstDescriptions: a route may check messages against a description: what differs rejects all
// units of a message, or is a warning at its first one.
func TestAgainstDescriptions(t *testing.T) {
	const head, order, other = "UNB+UNOC:3+S+T+261125:0930+IC7'", "UNH+1+ORDERS:D:96A:UN'BGM+220+PO1+9'DTM+137:20261125:102'NAD+BY+ST1::92'NAD+SU+TW::92'LIN+1++A1:SA'QTY+21:5:PCE'LIN+2++B2:SA'QTY+21:6:PCE'UNS+S'UNT+11+1'",
		"UNH+2+ORDERS:D:96A:UN'BGM+220+PO2+9'DTM+137:20261125:102'NAD+BY+ST1::92'XYZ+1'LIN+1++A1:SA'QTY+21:5:PCE'LIN+2++B2:SA'UNS+S'UNT+10+2'"
	const in = head + order + other + "UNZ+2+IC7'"
	against := func(lines string) (string, string) {
		return through(t, "order-lines", in, "routes/order-lines.yaml", "check:\n", "check:\n"+lines)
	}
	for _, test := range []struct {
		lines string
		good  int
		wrong []string
	}{
		{"", 4, nil},
		{"  description: standard\n", 2, []string{"record 3 XYZ: error: XYZ has no place in ORDERS [standard.place]", "record 4 XYZ: error: XYZ has no place"}},
		{"  description: standard\n  differences: warn\n", 4, []string{"record 3 XYZ: warning: XYZ has no place in ORDERS"}},
		{"  description: descriptions/none.txt\n", 0, []string{"there is no file descriptions/none.txt"}},
		{"  description: standard\n  except:\n    - rule: standard.place\n      differences: warn\n", 4, []string{"record 3 XYZ: warning: XYZ has no place in ORDERS"}},
		{"  description: standard\n  except:\n    - at: XYZ\n      differences: ignore\n", 4, nil},
		{"  description: standard\n  except:\n    - at: XY\n      differences: ignore\n    - rule: standard.length\n      differences: ignore\n", 2, []string{"record 3 XYZ: error: XYZ has no place in ORDERS", "record 4 XYZ: error: XYZ has no place"}},
		{"  description: standard\n  differences: warn\n  except:\n    - rule: standard.place\n      at: XYZ\n      differences: reject\n", 2, []string{"record 3 XYZ: error: XYZ has no place in ORDERS", "record 4 XYZ: error: XYZ has no place"}},
		{"  description: standard\n  except:\n    - at: XYZ\n", 0, []string{"an exception says how it counts", "there is no route"}},
		{"  description: standard\n  except:\n    - differences: warn\n", 0, []string{"an exception names a rule, a position (at), or both", "there is no route"}},
		{"  description: standard\n  except:\n    - rule: schema.type\n      differences: warn\n", 0, []string{"is not a rule of descriptions", "there is no route"}},
		{"  differences: warn\n", 0, []string{"nothing can differ where check.description names nothing", "there is no route"}},
	} {
		made, wrong := against(test.lines)
		if strings.Count(made, "\n") != test.good || len(test.wrong) == 0 && wrong != "" || len(test.wrong) > 0 && strings.Count(wrong, "\n")+1 != len(test.wrong) {
			t.Errorf("%q: %s%s", test.lines, made, wrong)
		}
		for _, want := range test.wrong {
			if !strings.Contains(wrong, want) {
				t.Errorf("%q: %s does not say %s", test.lines, wrong, want)
			}
		}
	}
	// HL7 messages are checked against their version.
	const hl7 = "MSH|^~\\&|A|B|C|D|20261125||ORU^R01^ORU_R01|M1|P|2.5.1\rPID|1||T-1||GS\rOBR|1||S|CBC\rOBX|1|NM|K^K||high||||||F\rOBX|2|NM|K^K||5||||||F\r" +
		"MSH|^~\\&|A|B|C|D|20261125||ORU^R01^ORU_R01|M2|P|2.5.1\rPID|1||T-1||GS\rOBR|1||S|CBC\rOBX|1|NM|K^K||4||||||F\rOBX|2|NM|K^K||5||||||F\r" +
		"MSH|^~\\&|A|B|C|D|20261125||QQQ^Q99|M3|P|2.5.1\rPID|1||T-1||GS\rOBX|1|NM|K^K||4||||||F\r"
	for lines, want := range map[string]string{
		"  description: standard\n": "OBX-5: error: Observation Value is not a value of type NM", "  description: standard\n  differences: warn\n": `MSH-9: warning: the standard has no structure for a message "QQQ"`,
		"  description: standard\n  differences: reject messages\n": "record 2 OBX-5: error: Observation Value is not a value of type NM",
		"  description: descriptions/x.txt\n":                       "there is no file descriptions/x.txt"} {
		made, wrong := through(t, "observations", hl7, "routes/observations.yaml", "check:\n", "check:\n"+lines)
		rows := map[bool]int{true: 6, false: 4}[strings.Contains(lines, "warn")]
		if strings.Contains(lines, "messages") {
			rows = 3
		}
		if !strings.Contains(wrong, want) || strings.Contains(lines, "standard") && strings.Count(made, "\n") != rows {
			t.Errorf("%q: %s%s", lines, made, wrong)
		}
	}
	if _, wrong := through(t, "order-lines", in, "routes/order-lines.yaml", "check:\n", "check:\n  description: samples/row.json\n"); !strings.Contains(wrong, "begins no segment, type, table or structure") && !strings.Contains(wrong, "it describes no structure") {
		t.Error(wrong)
	}
	// A partner's own description: what it does not describe is rejected as such.
	w, err := workspace.Load(os.DirFS("../bench/workspace"))
	if err != nil {
		t.Fatal(err)
	}
	w.Files["routes/order-lines.yaml"] = []byte(strings.Replace(string(w.Files["routes/order-lines.yaml"]), "check:\n", "check:\n  description: descriptions/tide.txt\n", 1))
	own := "structure ORDERS D.96A Order\nUNH BGM DTM NAD* SG1*(LIN QTY) UNS UNT\n\n"
	for name, lines := range map[string]string{"UNH": "an(14) Number", "BGM": "an(3) Kind", "DTM": "an(3) Time", "NAD": "an(3) Party", "LIN": "n(6) Line", "QTY": "an(3) Quantity", "UNS": "an(1) Section", "UNT": "n(6) Count"} {
		own += "segment " + name + " D.96A " + name + "\nR " + lines + "\n"
		for range 3 {
			own += "O an(99) More\n"
		}
		own += "\n"
	}
	partner, err := os.ReadFile("../demo/workspace/descriptions/holm-orders.sef")
	if err != nil {
		t.Fatal(err)
	}
	w.Files["descriptions/holm.sef"] = partner
	w.Files["routes/order-lines.yaml"] = []byte(strings.Replace(string(w.Files["routes/order-lines.yaml"]), "tide.txt", "holm.sef", 1))
	if _, findings := Compile(workspace.FromFiles(w.Files), "order-lines"); !strings.Contains(findings.Error(), "describes messages of x12, and these are of edifact") {
		t.Error(findings)
	}
	w.Files["routes/order-lines.yaml"] = []byte(strings.Replace(string(w.Files["routes/order-lines.yaml"]), "holm.sef", "tide.txt", 1))
	for file, want := range map[string]string{own: "QTY is missing before UNS", strings.ReplaceAll(own, "D.96A", "D.01B"): "ORDERS of D.96A, which nothing describes here", "structure": "it describes no structure"} {
		w.Files["descriptions/tide.txt"] = []byte(file)
		c, findings := Compile(workspace.FromFiles(w.Files), "order-lines")
		o := &output{}
		if c != nil {
			if _, err := c.Plan.Run(context.Background(), strings.NewReader(strings.Replace(in, "XYZ+1'", "NAD+SU+1'", 1)), flow.Inputs{}, o); err != nil {
				t.Fatal(err)
			}
		}
		if all := strings.Join(o.wrong, "\n"); !strings.Contains(all+findings.Error(), want) {
			t.Errorf("%s: %s %v", want, all, findings)
		}
	}
}
