package route

import (
	"context"
	"regexp"
	"strings"
	"testing"

	"ydrion/core/flow"
	"ydrion/workspace"
)

// TestEverywhere: what a map can say, it can say from each format and for each: every feature is run from all five into all five.
// The record says xy and 5, and its rows pp 3, qq 1 and pp 2. In what follows A, N, LIST, V and K are what a source calls these,
// P1 and P2 two positions of the target, and `repeat B` a block in which L is one.
func TestEverywhere(t *testing.T) {
	sources := map[string]struct{ read, schema, in, words, absent string }{
		"json": {"json", `{"fields":[{"name":"a"},{"name":"n","type":"number"},{"name":"e"}],"lists":[{"name":"list","fields":[{"name":"v"},{"name":"k","type":"number"}]}]}`,
			`{"a":"xy","n":5,"list":[{"v":"pp","k":3},{"v":"qq","k":1},{"v":"pp","k":2}]}` + "\n", "a n list v k", "e"},
		"csv": {"csv\n  together: [a]", `{"fields":[{"name":"a"},{"name":"n","type":"number"},{"name":"v"},{"name":"k","type":"number"}]}`,
			"a,n,v,k\nxy,5,pp,3\nxy,5,qq,1\nxy,5,pp,2\n", "a n rows v k", "(a when n > 100, otherwise absent)"},
		"hl7": {"hl7", "", "MSH|^~\\&|A|B|C|D|20261128||ORU^R01^ORU_R01|1|P|2.5.1\rPID|1||xy|5\rOBR|1|A-1||P\rOBX|1|NM|3||pp\rOBX|2|NM|1||qq\rOBX|3|NM|2||pp\r",
			"PID-3.1 (PID-4|number) OBX OBX-5 (OBX-3|number)", "PID-5.1"},
		"x12": {"x12", "", "ISA*00*          *00*          *ZZ*SKERRY         *ZZ*LABSUPPLY      *261125*0930*^*00501*000000007*0*T*>~GS*PO*S*L*20261125*0930*7*X*005010~ST*850*0001~BEG*00*SA*xy*5*20261125~PO1*3*1*EA***VP*pp~PO1*1*1*EA***VP*qq~PO1*2*1*EA***VP*pp~CTT*3~SE*7*0001~GE*1*7~IEA*1*000000007~",
			"BEG-3 (BEG-4|number) PO1 PO1-7 (PO1-1|number)", "BEG-6"},
		"edifact": {"edifact", "", "UNB+UNOC:3+S:14+H:14+261125:0930+7'UNH+1+ORDERS:D:96A:UN'BGM+220+xy+9'RFF+ON:5'LIN+3++pp:SA'LIN+1++qq:SA'LIN+2++pp:SA'UNS+S'UNT+8+1'UNZ+1+7'",
			"BGM-2 (RFF-1.2|number) LIN LIN-3.1 (LIN-1|number)", "BGM-4"},
	}
	targets := map[string]struct{ sample, words, keeps, rows, none string }{ // keeps: always; rows: where rows are written; none: where they are not
		"csv":  {"p1,p2\n", "p1 p2 - p2", "", "p1 = \"o\"", ""},
		"json": {`{"p1":"","p2":"","l":[{"v":""}]}`, "p1 p2 l v", "", "p1 = \"o\"\np2 = \"o\"", "clear l"},
		"hl7": {"MSH|^~\\&|A|B|C|D|20261125||ORU^R01^ORU_R01|1|P|2.5.1\rPID|1||T|T\rOBR|1|A||P\rOBX|1|NM|||3\r", "PID-3 PID-4 OBX OBX-5", "keep MSH, PID-1, OBR",
			"keep OBX-1, OBX-2\nPID-3 = \"o\"\nPID-4 = \"o\"", "drop OBX"},
		"x12": {"ISA*00*          *00*          *ZZ*SKERRY         *ZZ*LABSUPPLY      *261125*0930*^*00501*000000007*0*T*>~GS*PO*S*L*20261125*0930*7*X*005010~ST*850*0001~BEG*00*SA*A*b*20261125~PO1*1*3*EA***VP*a~CTT*2~SE*7*0001~GE*1*7~IEA*1*000000007~", "BEG-3 BEG-4 PO1 PO1-7",
			"keep ISA, GS, ST-1, BEG-1, BEG-2, BEG-5, CTT\nST-2 = \"0001\"", "keep PO1-1, PO1-2, PO1-3, PO1-6\nBEG-3 = \"o\"\nBEG-4 = \"o\"", "drop PO1"},
		"edifact": {"UNB+UNOC:3+S:14+H:14+261125:0930+7'UNH+1+ORDERS:D:96A:UN'BGM+220+A+9'RFF+ON:1'LIN+1++a:SA'UNS+S'UNT+6+1'UNZ+1+7'", "BGM-2 RFF-1.2 LIN LIN-3.1",
			"keep UNB, UNH, BGM-1, BGM-3, RFF-1.1, UNS", "keep LIN-1, LIN-3.2\nBGM-2 = \"o\"\nRFF-1.2 = \"o\"", "drop LIN"},
	}
	word := regexp.MustCompile(`\b(ABSENT|LIST|RECORD|P1|P2|A|N|V|K|B|L)\b`)
	for name, test := range map[string]struct{ lines, has, not string }{
		"named":                {"let q = A | upper\nP1 = q\nP2 = \"{q}-{q | lower}\"", "XY-xy", ""},
		"a named number":       {"let t = N * 2\nP1 = t | text\nP2 = \"{t}z\"", "10z", ""},
		"a named case":         {"let q = \"b{N}\" when N > 3, otherwise A\nP1 = q\nP2 = A", "b5", ""},
		"a named condition":    {"let big = N > 3\nP1 = \"yes\" when big, otherwise \"no\"\nP2 = A", "yes", "no"},
		"named in a block":     {"P2 = A\nwhen N > 3\n  let z = A | upper\n  P1 = z\nend", "XY", ""},
		"a named sum":          {"let s = LIST | sum K\nP1 = \"s{s}\"\nP2 = s | text", "s6", ""},
		"cases":                {"P1 = \"big\" when N > 30, otherwise A\nP2 = \"u\"", "xy", "big"},
		"blocks that exclude":  {"P2 = A\nwhen N > 3\n  P1 = \"hi\"\nend\nwhen N <= 3\n  P1 = \"lo\"\nend", "hi", "lo"},
		"joined":               {"P1 = LIST | join V \"-\"\nP2 = A", "pp-qq-pp", ""},
		"the one that fits":    {"P1 = (LIST where K = 1) | first V\nP2 = A", "qq", "pp"},
		"sorted":               {"P1 = (LIST sorted by K) | join V \"-\"\nP2 = A", "qq-pp-pp", ""},
		"the largest two":      {"P1 = (LIST sorted by K down up to 2) | join (K | text) \"-\"\nP2 = A", "3-2", ""},
		"distinct":             {"P1 = \"c{(LIST once by V) | count}\"\nP2 = A", "c2", ""},
		"texts in texts":       {"P1 = \"a{(\"b{A}\" when N > 3, otherwise \"c\")}\"\nP2 = A", "abxy", ""},
		"answers":              {"P1 = ABSENT if absent \"none\" if empty \"none\"\nP2 = A", "none", ""},
		"skipped":              {"P1 = A\nP2 = A\nskip when N = 5 because \"no\"", "", "xy"},
		"rows":                 {"let o = A | upper\nrepeat B for row in LIST\n  L = \"{o}{V}\"\nend", "XYqq", ""},
		"named in rows":        {"repeat B for row in LIST\n  let w = V | upper\n  L = w\nend", "QQ", "qq"},
		"some rows":            {"repeat B for row in LIST where K > 1\n  L = V\nend", "pp", "qq"},
		"sorted rows":          {"repeat B for row in LIST sorted by K\n  L = \"{row.position}{V}\"\nend", "1qq", "2qq"},
		"distinct rows":        {"repeat B for row in LIST once by V\n  L = \"{row.position}{V}{row.last | text}\"\nend", "2qqtrue", "3pp"},
		"cases of rows":        {"repeat B for row in LIST\n  L = \"H\" when K > 2, \"M\" when K > 1, otherwise V\nend", "qq", "pp"},
		"excluding blocks":     {"repeat B for row in LIST\n  when K > 2\n    L = \"H{V}\"\n  end\n  when K < 2\n    L = \"S{V}\"\n  end\n  when K = 2\n    L = \"M{V}\"\n  end\nend", "Sqq", ""},
		"rejected by a row":    {"repeat B for row in LIST\n  L = V\n  reject when K > 2 because \"no {V}\"\nend", "", "qq"},
		"the record in a row":  {"repeat B for row in LIST\n  L = \"{RECORD}{row.first | text}\"\nend", "xytrue", ""},
		"a list within a text": {"repeat B for row in LIST\n  L = \"{V}{record.LIST | count}\"\nend", "qq3", ""},
	} {
		for from, s := range sources {
			for to, target := range targets {
				of, at := strings.Fields(s.words), strings.Fields(target.words)
				said := word.ReplaceAllStringFunc(test.lines, func(w string) string {
					return map[string]string{"A": of[0], "N": of[1], "LIST": of[2], "V": of[3], "K": of[4], "ABSENT": s.absent, "RECORD": "record." + of[0], "P1": at[0], "P2": at[1], "B": strings.Trim(at[2], "-"), "L": at[3]}[w]
				})
				more := target.none
				if strings.Contains(test.lines, "repeat ") {
					more = target.rows
				}
				source, check := from, ""
				if s.schema != "" {
					source, check = from+" schemas/in.json", "check:\n  schema: schemas/in.json\n"
				}
				c, findings := Compile(workspace.FromFiles(map[string][]byte{
					"routes/r.yaml":          []byte("route: r\nlisten:\n  folder: \"{in}\"\n  names: \"*\"\nread:\n  format: " + s.read + "\n" + check + "map: maps/m.map\ndeliver:\n  folder: \"{out}\"\n  name: \"{file.stem}.out\"\nrejected:\n  folder: \"{out}/rejected\"\n"),
					"maps/m.map":             []byte("map m\nsource " + source + "\ntarget " + to + " based on samples/s\n\n" + target.keeps + "\n" + more + "\n" + said + "\n"),
					"samples/s":              []byte(target.sample),
					"schemas/in.json":        []byte(s.schema),
					"environments/test.yaml": []byte("environment: test\nplaces:\n  in: in\n  out: out\n"),
				}), "r")
				if c == nil {
					t.Errorf("%s, %s to %s: %v\n%s", name, from, to, findings, said)
					continue
				}
				o := &output{}
				if _, err := c.Plan.Run(context.Background(), strings.NewReader(s.in), flow.Inputs{}, o); err != nil {
					t.Fatal(err)
				}
				if text := o.whole(t); test.has != "" && (len(o.wrong) > 0 || !strings.Contains(text, test.has)) || test.not != "" && strings.Contains(text, test.not) {
					t.Errorf("%s, %s to %s: %v\n%s\nmakes %q", name, from, to, o.wrong, said, text)
				}
			}
		}
	}
}
