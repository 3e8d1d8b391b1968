package route

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"testing"

	"ydrion/core/flow"
	"ydrion/workspace"
)

// order is what the files of this test say, in whatever format.
type order struct {
	No, Count, Sum string
	Lines          []line
}

type line struct {
	Place, Article, Quantity, Unit, Due string
	Notes                               []string
}

const awkward = `x|y & 'q' + a:b; "c", d`

// orders are written down by hand: what each source says, and each target is to say.
var orders = []order{
	{"A-1", "2", "4.50", []line{{"1", awkward, "3", "PCE", "20261201", []string{"first", "s'cond"}}, {"2", "HR-2", "1.50", "CT", "20261202", nil}}},
	{"A-2", "0", "0", nil},
	{"A-3", "1", "7", []line{{"1", "HR-3", "7", "PCE", "20261203", []string{"only"}}}},
}

// saying says the orders, and how a map names what they say.
var saying = map[string]struct {
	read, schema, file                      string
	no, lines, article, quantity, unit, due string // of a row called row
	notes, note                             string // the list of a row's notes; empty: it has none
	kept                                    string // positions that say the same as they are written
}{
	"csv": {read: "together: [no]", schema: `{"fields":[{"name":"no","type":"string"},{"name":"article","type":"string"},{"name":"quantity","type":"number"},{"name":"unit","type":"string"},{"name":"due","type":"date"}]}`,
		file: "no,article,quantity,unit,due\nA-1,\"x|y & 'q' + a:b; \"\"c\"\", d\",3,EA,2026-12-01\nA-1,HR-2,1.50,BX,2026-12-02\nA-3,HR-3,7,EA,2026-12-03\n",
		no:   "no", lines: "rows", article: "article", quantity: "quantity", unit: "unit", due: `due`},
	"json": {schema: `{"$schema":"https://json-schema.org/draft/2020-12/schema","properties":{"no":{"type":"string"},"lines":{"type":"array","items":{"properties":{"what":{"properties":{"article":{"type":"string"}}},"quantity":{"type":"number"},"unit":{"type":"string"},"due":{"type":"string"},"notes":{"type":"array","items":{"type":"string"}}}}}}}`,
		file: `{"no":"A-1","lines":[{"what":{"article":"x|y & 'q' + a:b; \"c\", d"},"quantity":3,"unit":"EA","due":"2026-12-01","notes":["first","s\u0027cond"]},{"unit":"BX","what":{"article":"HR-2"},"quantity":1.50,"due":"2026-12-02","notes":[]}]}` + "\n" + `{"lines":[],"no":"A-2"}` + "\n" + `{"no":"A-3","lines":[{"quantity":7,"due":"2026-12-03","notes":["only"],"unit":"EA","what":{"article":"HR-3"}}]}` + "\n",
		no:   "no", lines: "lines", article: "row.what.article", quantity: "quantity", unit: "unit", due: `(due | date "yyyy-MM-dd")`, notes: "notes", note: "value"},
	"hl7": {file: "MSH|^~\\&|A|B|C|D|20261125||ORU^R01^ORU_R01|1|P|2.5.1\rPID|1||T-1\rOBR|1|A-1||P\rOBX|1|NM|x\\F\\y \\T\\ 'q' + a:b; \"c\", d||3|EA|||||F|||20261201\rNTE|1||first\rNTE|2||s'cond\rOBX|2|NM|HR-2||1.50|BX|||||F|||20261202\r" +
		"MSH|^~\\&|A|B|C|D|20261125||ORU^R01^ORU_R01|2|P|2.5.1\rPID|1||T-1\rOBR|1|A-2||P\rNTE|1||of the order\r" +
		"MSH|^~\\&|A|B|C|D|20261125||ORU^R01^ORU_R01|3|P|2.5.1\rPID|1||T-1\rOBR|1|A-3||P\rNTE|1||of the order\rOBX|1|NM|HR-3||7|EA|||||F|||20261203\rNTE|1||only\r",
		no: "OBR-2", lines: "OBX", article: "OBX-3", quantity: "(OBX-5 | number)", unit: "OBX-6", due: `(OBX-14 | date "yyyyMMdd")`, notes: "NTE", note: "NTE-3"},
	"x12": {file: "ISA*00*          *00*          *ZZ*SKERRY         *ZZ*LABSUPPLY      *261125*0930*^*00501*000000007*0*T*>~GS*PO*S*L*20261125*0930*7*X*005010~" +
		"ST*850*0001~BEG*00*SA*A-1**20261125~PO1*1*3*EA***VP*x|y & 'q' + a:b; \"c\", d~PID*F****first~PID*F****s'cond~DTM*002*20261201~PO1*2*1.50*BX***VP*HR-2~DTM*002*20261202~CTT*2~SE*10*0001~" +
		"ST*850*0002~BEG*00*SA*A-2**20261125~PID*F****of the order~CTT*0~SE*5*0002~ST*850*0003~BEG*00*SA*A-3**20261125~DTM*002*20270101~PO1*1*7*EA***VP*HR-3~PID*F****only~DTM*002*20261203~CTT*1~SE*8*0003~GE*3*7~IEA*1*000000007~",
		no: "BEG-3", lines: "PO1", article: "PO1-7", quantity: "(PO1-2 | number)", unit: "PO1-3", due: `(DTM(002)-2 | date "yyyyMMdd")`, notes: "PID", note: "PID-5"},
	"edifact": {file: "UNB+UNOC:3+S:14+H:14+261125:0930+7'UNH+1+ORDERS:D:96A:UN'BGM+220+A-1+9'LIN+1++x|y & ?'q?' ?+ a?:b; \"c\", d:SA'QTY+21:3:EA'DTM+2:20261201:102'FTX+AAI+++first'FTX+AAI+++s?'cond'LIN+2++HR-2:SA'QTY+21:1.50:BX'DTM+2:20261202:102'UNS+S'CNT+2:2'UNT+13+1'" +
		"UNH+2+ORDERS:D:96A:UN'BGM+220+A-2+9'FTX+AAI+++of the order'UNS+S'UNT+5+2'UNH+3+ORDERS:D:96A:UN'BGM+220+A-3+9'DTM+2:20270101:102'FTX+AAI+++of the order'LIN+1++HR-3:SA'QTY+21:7:EA'DTM+2:20261203:102'FTX+AAI+++only'UNS+S'UNT+10+3'UNZ+3+7'",
		no: "BGM-2", lines: "LIN", article: "LIN-3.1", quantity: "(QTY(21)-1.2 | number)", unit: "QTY(21)-1.3", due: `(DTM(2)-1.2 | date "yyyyMMdd")`, notes: "FTX", note: "FTX-4"},
}

// writing has samples and maps, with NO, LINES, ARTICLE, QUANTITY, UNIT, DUE for what a source calls that, and
// lines between [ and ] for sources whose lines have notes.
var writing = map[string]struct {
	sample, lines string
	read          func(t *testing.T, text string) []order
}{
	"csv": {"no,count,sum,place,article,quantity,unit,due,notes\n", `
no = NO
count = LINES | count
sum = LINES | sum QUANTITY
repeat for row in LINES
  place = row.position
  article = ARTICLE
  quantity = QUANTITY
  unit = UNIT | lookup units
  due = DUE | format "yyyyMMdd"
[
  notes = NOTES | join NOTE "|"
]
[clear notes]
end
`, readCSV},
	"json": {`{"no":"","count":0,"sum":0,"lines":[{"place":1,"article":"","quantity":1,"unit":"","due":"","notes":["x"]}]}`, `
no = NO
count = LINES | count
sum = LINES | sum QUANTITY
repeat lines for row in LINES
  place = row.position
  article = ARTICLE
  quantity = QUANTITY
  unit = UNIT | lookup units
  due = DUE | format "yyyyMMdd"
[
  repeat notes for note in NOTES
    value = NOTE
  end
]
[clear notes]
end
`, readJSON},
	"hl7": {"MSH|^~\\&|A|B|C|D|20261125||ORU^R01^ORU_R01|1|P|2.5.1\rPID|1||T-1\rOBR|1|A-1||P|||||||||2|1\rOBX|1|NM|a||3|EA|||||F|||20261201\rNTE|1||n\r", `
keep MSH, PID, OBR-1, OBR-4
OBR-2 = NO
OBR-13 = LINES | count
OBR-14 = LINES | sum QUANTITY
repeat OBX for row in LINES
  OBX-1 = row.position
  keep OBX-2, OBX-11
  OBX-3 = ARTICLE
  OBX-5 = QUANTITY
  OBX-6 = UNIT | lookup units
  OBX-14 = DUE | format "yyyyMMdd"
[
  repeat NTE for note in NOTES
    NTE-1 = note.position
    NTE-3 = NOTE
  end
]
[drop NTE]
end
`, readHL7},
	"x12": {"ISA*00*          *00*          *ZZ*SKERRY         *ZZ*LABSUPPLY      *261125*0930*^*00501*000000007*0*T*>~GS*PO*S*L*20261125*0930*7*X*005010~ST*850*0001~BEG*00*SA*A**20261125~PO1*1*3*EA***VP*a~PID*F****n~DTM*002*20261201~CTT*2*3~SE*7*0001~GE*1*7~IEA*1*000000007~", `
keep ISA, GS, ST-1, BEG-1, BEG-2, BEG-5
ST-2 = record
BEG-3 = NO
CTT-1 = LINES | count
CTT-2 = LINES | sum QUANTITY
repeat PO1 for row in LINES
  PO1-1 = row.position
  PO1-2 = QUANTITY
  PO1-3 = UNIT | lookup units
  keep PO1-6, DTM-1
  PO1-7 = ARTICLE
[
  repeat PID for note in NOTES
    keep PID-1
    PID-5 = NOTE
  end
]
[drop PID]
  DTM-2 = DUE | format "yyyyMMdd"
end
`, readX12},
	"edifact": {"UNB+UNOC:3+S:14+H:14+261125:0930+7'UNH+1+ORDERS:D:96A:UN'BGM+220+A+9'LIN+1++a:SA'QTY+21:3:EA'DTM+2:20261201:102'FTX+AAI+++n'UNS+S'MOA+86:3'CNT+2:2'UNT+10+1'UNZ+1+7'", `
keep UNB, UNH-2, BGM-1, BGM-3
UNH-1 = record
BGM-2 = NO
repeat LIN for row in LINES
  LIN-1 = row.position
  LIN-3.1 = ARTICLE
  keep LIN-3.2, QTY-1.1, DTM-1.1, DTM-1.3
  QTY-1.2 = QUANTITY
  QTY-1.3 = UNIT | lookup units
  DTM-1.2 = DUE | format "yyyyMMdd"
[
  repeat FTX for note in NOTES
    keep FTX-1
    FTX-4 = NOTE
  end
]
[drop FTX]
end
keep UNS, MOA-1.1, CNT-1.1
MOA-1.2 = LINES | sum QUANTITY
CNT-1.2 = LINES | count
`, readEDIFACT},
}

// TestEachToEach: orders with lists, nested ones, an empty one, awkward characters, a date, a lookup, counts
// and sums become orders of each format, from each.
func TestEachToEach(t *testing.T) {
	for from, s := range saying {
		for to, target := range writing {
			t.Run(from+" to "+to, func(t *testing.T) {
				lines, in := strings.ReplaceAll(target.lines, "\n[\n", "\n[notes\n"), from+" "+"schemas/in.json"
				if s.schema == "" {
					in = from
				}
				with, without, _ := strings.Cut(lines, "\n]\n[")
				without, rest, _ := strings.Cut(without, "]\n")
				head, noted, _ := strings.Cut(with, "\n[notes\n")
				if s.notes == "" {
					noted = without
				}
				said := strings.NewReplacer("NOTES", s.notes, "NOTE\n", s.note+"\n", "NOTE ", s.note+" ", "NO\n", s.no+"\n", "LINES", s.lines, "ARTICLE", s.article, "QUANTITY", s.quantity, "UNIT", s.unit, "DUE", s.due).Replace(head + "\n" + noted + "\n" + rest)
				read := ""
				if s.read != "" {
					read = "  " + s.read + "\n"
				}
				check := ""
				if s.schema != "" {
					check = "check:\n  schema: schemas/in.json\n"
				}
				w := workspace.FromFiles(map[string][]byte{
					"routes/r.yaml":          []byte("route: r\nlisten:\n  folder: \"{in}\"\n  names: \"*\"\nread:\n  format: " + from + "\n" + read + check + "map: maps/m.map\ndeliver:\n  name: \"{file.stem}.out\"\n  to:\n    - folder: \"{out}\"\nrejected:\n  folder: \"{out}/rejected\"\n"),
					"maps/m.map":             []byte("map m\nsource " + in + "\ntarget " + to + " based on samples/s\n" + said),
					"samples/s":              []byte(target.sample),
					"schemas/in.json":        []byte(s.schema),
					"lookups/units.csv":      []byte("from,to\nEA,PCE\nBX,CT\n"),
					"environments/test.yaml": []byte("environment: test\nplaces:\n  in: in\n  out: out\n"),
				})
				c, findings := Compile(w, "r")
				if c == nil {
					t.Fatalf("%v\n%s", findings, said)
				}
				o := &output{}
				if _, err := c.Plan.Run(context.Background(), strings.NewReader(s.file), flow.Inputs{}, o); err != nil || len(o.wrong) > 0 {
					t.Fatal(err, o.wrong)
				}
				var want []order
				for _, k := range orders {
					if (from == "csv" || to == "csv") && k.Lines == nil {
						continue // an order without lines has no rows
					}
					if k.Lines = slices.Clone(k.Lines); s.notes == "" {
						for i := range k.Lines {
							k.Lines[i].Notes = nil
						}
					}
					want = append(want, k)
				}
				text := o.whole(t)
				if got := target.read(t, text); !reflect.DeepEqual(got, want) {
					t.Errorf("%s\nis %q, not\n%q", text, got, want)
				}
			})
		}
	}
}

func readCSV(t *testing.T, text string) (out []order) {
	rows, err := csv.NewReader(strings.NewReader(text)).ReadAll()
	if err != nil {
		t.Fatal(err)
	}
	for _, r := range rows[1:] {
		if len(out) == 0 || out[len(out)-1].No != r[0] {
			out = append(out, order{No: r[0], Count: r[1], Sum: r[2]})
		}
		l := line{Place: r[3], Article: r[4], Quantity: r[5], Unit: r[6], Due: r[7]}
		if r[8] != "" {
			l.Notes = strings.Split(r[8], "|")
		}
		out[len(out)-1].Lines = append(out[len(out)-1].Lines, l)
	}
	return out
}

func readJSON(t *testing.T, text string) (out []order) {
	d := json.NewDecoder(strings.NewReader(text))
	d.UseNumber()
	for d.More() {
		var o struct {
			No         string
			Count, Sum json.Number
			Lines      []struct {
				Place, Quantity    json.Number
				Article, Unit, Due string
				Notes              []string
			}
		}
		if err := d.Decode(&o); err != nil {
			t.Fatal(err)
		}
		k := order{No: o.No, Count: o.Count.String(), Sum: o.Sum.String()}
		for _, l := range o.Lines {
			if len(l.Notes) == 0 {
				l.Notes = nil
			}
			k.Lines = append(k.Lines, line{l.Place.String(), l.Article, l.Quantity.String(), l.Unit, l.Due, l.Notes})
		}
		out = append(out, k)
	}
	return out
}

// apart splits a text at a character that no other one releases.
func apart(text string, at, release byte) (out []string) {
	from := 0
	for i := 0; i < len(text); i++ {
		switch {
		case release != 0 && text[i] == release:
			i++
		case text[i] == at:
			out = append(out, text[from:i])
			from = i + 1
		}
	}
	return append(out, text[from:])
}

// part is an element or field of a segment, or nothing.
func part(of []string, n int) string {
	if n < len(of) {
		return of[n]
	}
	return ""
}

func readHL7(t *testing.T, text string) (out []order) {
	plain := strings.NewReplacer(`\F\`, "|", `\T\`, "&", `\E\`, `\`, `\S\`, "^", `\R\`, "~")
	for s := range strings.SplitSeq(strings.TrimSuffix(text, "\r"), "\r") {
		f := strings.Split(s, "|")
		for i := range f {
			f[i] = plain.Replace(f[i])
		}
		switch f[0] {
		case "OBR":
			out = append(out, order{No: f[2], Count: part(f, 13), Sum: part(f, 14)})
		case "OBX":
			k := &out[len(out)-1]
			k.Lines = append(k.Lines, line{f[1], f[3], f[5], f[6], f[14], nil})
		case "NTE":
			l := &out[len(out)-1].Lines[len(out[len(out)-1].Lines)-1]
			if l.Notes = append(l.Notes, f[3]); f[1] != fmt.Sprint(len(l.Notes)) {
				t.Errorf("%s is note %d", s, len(l.Notes))
			}
		}
	}
	return out
}

func readX12(t *testing.T, text string) (out []order) {
	count := 0
	for s := range strings.SplitSeq(strings.TrimSuffix(text, "~"), "~") {
		e := strings.Split(s, "*")
		count++
		switch e[0] {
		case "ST":
			count = 1
		case "BEG":
			out = append(out, order{No: e[3]})
		case "CTT":
			out[len(out)-1].Count, out[len(out)-1].Sum = e[1], e[2]
		case "PO1":
			out[len(out)-1].Lines = append(out[len(out)-1].Lines, line{e[1], e[7], e[2], e[3], "", nil})
		case "PID", "DTM":
			l := &out[len(out)-1].Lines[len(out[len(out)-1].Lines)-1]
			if e[0] == "DTM" {
				l.Due = e[2]
			} else {
				l.Notes = append(l.Notes, e[5])
			}
		case "SE":
			if e[1] != fmt.Sprint(count) || e[2] != fmt.Sprint(len(out)) {
				t.Errorf("%s ends %d segments of message %d", s, count, len(out))
			}
		case "GE":
			if e[1] != fmt.Sprint(len(out)) {
				t.Errorf("%s ends %d messages", s, len(out))
			}
		}
	}
	return out
}

func readEDIFACT(t *testing.T, text string) (out []order) {
	count := 0
	for _, s := range apart(strings.TrimSuffix(text, "'"), '\'', '?') {
		e := apart(s, '+', '?')
		value := func(element, component int) string {
			return strings.NewReplacer("??", "?", "?'", "'", "?+", "+", "?:", ":").Replace(part(apart(part(e, element), ':', '?'), component-1))
		}
		count++
		switch e[0] {
		case "UNH":
			count = 1
		case "BGM":
			out = append(out, order{No: value(2, 1)})
		case "MOA":
			out[len(out)-1].Sum = value(1, 2)
		case "CNT":
			out[len(out)-1].Count = value(1, 2)
		case "LIN":
			out[len(out)-1].Lines = append(out[len(out)-1].Lines, line{Place: value(1, 1), Article: value(3, 1)})
		case "QTY", "DTM", "FTX":
			l := &out[len(out)-1].Lines[len(out[len(out)-1].Lines)-1]
			switch e[0] {
			case "QTY":
				l.Quantity, l.Unit = value(1, 2), value(1, 3)
			case "DTM":
				l.Due = value(1, 2)
			default:
				l.Notes = append(l.Notes, value(4, 1))
			}
		case "UNT":
			if value(1, 1) != fmt.Sprint(count) || value(2, 1) != fmt.Sprint(len(out)) {
				t.Errorf("%s ends %d segments of message %d", s, count, len(out))
			}
		case "UNZ":
			if value(1, 1) != fmt.Sprint(len(out)) {
				t.Errorf("%s ends %d messages", s, len(out))
			}
		}
	}
	return out
}

// TestLevelsFromLists: lists in lists become levels of a hierarchy, numbered, each below its own.
func TestLevelsFromLists(t *testing.T) {
	const envelope = "ISA*00*          *00*          *ZZ*SKERRY         *ZZ*LABSUPPLY      *261125*0930*^*00501*000000007*0*T*>~GS*SH*S*L*20261125*0930*7*X*005010~"
	w := workspace.FromFiles(map[string][]byte{
		"routes/r.yaml":          []byte("route: r\nlisten:\n  folder: \"{in}\"\n  names: \"*\"\nread:\n  format: json\ncheck:\n  schema: schemas/s.json\nmap: maps/m.map\ndeliver:\n  name: \"{file.stem}.out\"\n  to:\n    - folder: \"{out}\"\nrejected:\n  folder: \"{out}/rejected\"\n"),
		"maps/m.map":             []byte("map m\nsource json schemas/s.json\ntarget x12 based on samples/s\nkeep ISA, GS, ST, BSN-1, BSN-3, BSN-4, HL(3=S), TD5\nBSN-2 = no\nrepeat HL(3=O) for order in orders\n  keep HL(3=O)\n  PRF-1 = order.order\n  repeat HL(3=P) for pack in packs\n    keep HL(3=P), MAN-1\n    MAN-2 = sscc\n    repeat HL(3=I) for item in items\n      keep HL(3=I), LIN-2, SN1-3\n      LIN-3 = article\n      SN1-2 = q\n    end\n  end\nend\nCTT-1 = 1 + (orders | count) + (orders | sum (packs | count)) + (orders | sum (packs | sum (items | count)))\n"),
		"samples/s":              []byte(envelope + "ST*856*0001~BSN*00*L1*20261125*0930~HL*1**S~TD5*B*2*TRUCK~HL*2*1*O~PRF*A-1~HL*3*2*P~MAN*GM*0001~HL*4*3*I~LIN**VP*X1~SN1**1*EA~CTT*4~SE*13*0001~GE*1*7~IEA*1*000000007~"),
		"schemas/s.json":         []byte(`{"properties":{"no":{"type":"string"},"orders":{"type":"array","items":{"properties":{"order":{"type":"string"},"packs":{"type":"array","items":{"properties":{"sscc":{"type":"string"},"items":{"type":"array","items":{"properties":{"article":{"type":"string"},"q":{"type":"number"}}}}}}}}}}}}`),
		"environments/test.yaml": []byte("environment: test\nplaces:\n  in: in\n  out: out\n"),
	})
	c, findings := Compile(w, "r")
	if c == nil {
		t.Fatal(findings)
	}
	o := &output{}
	in := `{"no":"D-1","orders":[{"order":"A-1","packs":[{"sscc":"P1","items":[{"article":"X1","q":1},{"article":"X2","q":2}]},{"sscc":"P2","items":[]}]},{"order":"A-2","packs":[]},{"order":"A-3","packs":[{"sscc":"P3","items":[{"article":"X3","q":3}]}]}]}`
	if _, err := c.Plan.Run(context.Background(), strings.NewReader(in), flow.Inputs{}, o); err != nil || len(o.wrong) > 0 {
		t.Fatal(err, o.wrong)
	}
	want := envelope + "ST*856*0001~BSN*00*D-1*20261125*0930~HL*1**S~TD5*B*2*TRUCK~" +
		"HL*2*1*O~PRF*A-1~HL*3*2*P~MAN*GM*P1~HL*4*3*I~LIN**VP*X1~SN1**1*EA~HL*5*3*I~LIN**VP*X2~SN1**2*EA~HL*6*2*P~MAN*GM*P2~" +
		"HL*7*1*O~PRF*A-2~HL*8*1*O~PRF*A-3~HL*9*8*P~MAN*GM*P3~HL*10*9*I~LIN**VP*X3~SN1**3*EA~CTT*10~SE*27*0001~GE*1*7~IEA*1*000000007~"
	if got := o.whole(t); got != want {
		t.Errorf("%s\nnot\n%s", got, want)
	}
}

// TestWhatBlocksRefuse: what cannot be repeated, or is said in the wrong place, is told where it is said.
func TestWhatBlocksRefuse(t *testing.T) {
	const csvSchema = `{"fields":[{"name":"no"}],"lists":[{"name":"lines","fields":[{"name":"a"}],"lists":[{"name":"lots","fields":[{"name":"lot"}]}]}]}`
	for _, test := range []struct{ target, sample, lines, want string }{
		{"hl7", "MSH|^~\\&|A|B|C|D|20261125||ORU^R01|1|P|2.5\rPID|1\rOBX|1\rNTE|1\rOBX|2\r", "keep MSH, PID\nrepeat MSH for l in lines\nend", "MSH begins the message"},
		{"hl7", "MSH|^~\\&|A|B|C|D|20261125||ORU^R01|1|P|2.5\rPID|1\rOBX|1\rNTE|1\r", "keep MSH, PID\nOBX-1 = no\nrepeat OBX for l in lines\n  OBX-3 = a\n  NTE-1 = a\nend", "OBX is repeated with OBX, and this is said outside of that block"},
		{"hl7", "MSH|^~\\&|A|B|C|D|20261125||ORU^R01|1|P|2.5\rPID|1\rOBX|1\rNTE|1\r", "keep MSH, PID\nrepeat NTE for l in lines\n  OBX-1 = a\n  NTE-1 = a\nend", "OBX stands before NTE in the sample"},
		{"hl7", "MSH|^~\\&|A|B|C|D|20261125||ORU^R01|1|P|2.5\rPID|1\rOBX|1\rNTE|1\r", "keep MSH, PID\nrepeat OBX for l in lines\n  OBX-1 = a\n  NTE-1 = a\nend\nrepeat NTE for l in lines\n  NTE-2 = a\nend", "NTE is repeated in another block, too"},
		{"hl7", "MSH|^~\\&|A|B|C|D|20261125||ORU^R01|1|P|2.5\rPID|1\r", "keep MSH, PID\nrepeat OBX for l in lines\n  OBX-1 = a\nend", "the sample samples/s has no segment OBX"},
		{"hl7", "MSH|^~\\&|A|B|C|D|20261125||ORU^R01|1|P|2.5\rPID|1\rOBX|1\r", "keep MSH, PID\nrepeat OBX for l in lines\n  OBX-1 = a\n  skip when a = \"x\" because \"y\"\nend", "say which rows are wanted: `repeat … for l in lines where CONDITION`"},
		{"hl7", "MSH|^~\\&|A|B|C|D|20261125||ORU^R01|1|P|2.5\rPID|1\rOBX|1|x\r", "keep MSH, PID\nrepeat OBX for l in lines\n  OBX-1 = a\nend", "would go into every message"},
		{"hl7", "MSH|^~\\&|A|B|C|D|20261125||ORU^R01|1|P|2.5\rPID|1\rOBX|1\r", "keep MSH, PID\nrepeat OBX for l in lots\n  OBX-1 = \"x\"\nend", "there is no list \"lots\""},
		{"hl7", "MSH|^~\\&|A|B|C|D|20261125||ORU^R01|1|P|2.5\rPID|1\rOBX|1\r", "keep MSH, PID\nrepeat OBX for l in lines\n  repeat OBX for l in lots\n    OBX-1 = l.lot\n  end\nend", "l is the name of the row around this one already"},
		{"hl7", "MSH|^~\\&|A|B|C|D|20261125||ORU^R01|1|P|2.5\rPID|1\rOBX|1\r", "keep MSH, PID\nOBX-1 = l.a", "there is no field \"l.a\""},
		{"hl7", "MSH|^~\\&|A|B|C|D|20261125||ORU^R01|1|P|2.5\rPID|1\rOBX|1\r", "keep MSH, PID\nrepeat OBX for now in lines\n  OBX-1 = a\nend", "a name for each row was expected"},
		{"csv", "a\n", "repeat a for l in lines\n  a = l.a\nend", "a row has no parts that can be repeated"},
		{"csv", "a,b\n", "repeat for l in lines\n  a = l.a\nend", "nothing fills the column \"b\""},
		{"csv", "a\n", "a = no\nrepeat for l in lines\n  a = l.a\nend", "a is assigned twice"},
		{"json", `{"a":""}`, "repeat a for l in lines\n  b = l.a\nend", "a is not a list with an element"},
		{"json", `{"a":[]}`, "repeat a for l in lines\n  b = l.a\nend", "a is not a list with an element"},
		{"json", `{"a":[{"b":""}]}`, "a = no", "a is a list; say `repeat a for"},
		{"json", `{"a":[{"b":""}]}`, "clear b", "has no member b"},
		{"json", `{"a":[{"b":{"c":""}}]}`, "repeat a for l in lines\n  a.b.c = l.a\nend", "in a block for a its members are said without it: write b.c"},
		{"json", `{"a":[{"b":"","c":""}]}`, "repeat a for l in lines\n  b = l.a\nend", "the sample's value at a.c would go into every record"},
		{"json", `{"a":[{"b":""}]}`, "repeat a for l in lines\n  b = l.a\nend\nrepeat a for l in lines\n  b = l.a\nend", "a is repeated twice"},
		{"json", `{"a":["x"]}`, "repeat a for l in lines\nend", "nothing is said of the elements of a"},
	} {
		w := workspace.FromFiles(map[string][]byte{
			"routes/r.yaml":          []byte("route: r\nlisten:\n  folder: \"{in}\"\n  names: \"*\"\nread:\n  format: json\ncheck:\n  schema: schemas/s.json\nmap: maps/m.map\ndeliver:\n  name: \"{file.stem}.out\"\n  to:\n    - folder: \"{out}\"\nrejected:\n  folder: \"{out}/rejected\"\n"),
			"maps/m.map":             []byte("map m\nsource json schemas/s.json\ntarget " + test.target + " based on samples/s\n" + test.lines + "\n"),
			"samples/s":              []byte(test.sample),
			"schemas/s.json":         []byte(csvSchema),
			"environments/test.yaml": []byte("environment: test\nplaces:\n  in: in\n  out: out\n"),
		})
		_, findings := Compile(w, "r")
		said := ""
		for _, f := range findings {
			said += f.String() + "\n"
		}
		if !strings.Contains(said, test.want) {
			t.Errorf("%s\nsays %s, not %s", test.lines, said, test.want)
		}
	}
}
