package formats

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"strings"
	"testing"
	"ydrion/core/format"
)

func convert(t *testing.T, in, to string) (string, *Converted) {
	t.Helper()
	var out bytes.Buffer
	c, err := Convert(context.Background(), strings.NewReader(in), "sample", to, format.Style{}, &out)
	if err != nil {
		return err.Error(), &Converted{}
	}
	return out.String(), c
}

func TestConvert(t *testing.T) {
	batch := "FHS|^~\\&|A\rBHS|^~\\&|A\r" + message + strings.Replace(message, "|2.5.1", "|2.5.1||||||8859/1", 1) + "NTE|1||caf\xe9 \\.br\\ \\X41\\|\"\"||\rBTS|2\rBHS|^~\\&|B\r" + message + "BTS|1\rFTS|2\r"
	object, c := convert(t, batch, "json")
	if c.Written != 3 || c.Errors != 0 || strings.Count(object, "\n") != 6 || !strings.Contains(object, `["NTE","1",null,{"raw":"café \\.br\\ \\X41\\"},"\"\"",null,null]`) {
		t.Errorf("%+v\n%s", c, object)
	}
	if back, c := convert(t, object, "hl7"); back != batch || c.Written != 6 {
		t.Errorf("%+v\n%q\nwant\n%q", c, back, batch)
	}
	// Messages with separators of their own, in a batch with others.
	own := strings.NewReplacer("|", "#", "^", "*").Replace(message)
	for _, in := range []string{own, own + message + own, "FHS|^~\\&|A\rBHS|^~\\&|A\r" + own + message + "BTS|2\rFTS|1\r"} {
		object, c := convert(t, in, "json")
		if back, _ := convert(t, object, "hl7"); back != in || c.Errors > 0 {
			t.Errorf("%q\nwant\n%q\n%v", back, in, c.Findings)
		}
	}
	rows := "a,\"b, c\"\n1,\n\"x \"\"y\"\"\n\",é\n"
	object, c = convert(t, rows, "json")
	if want := `{"a":"1","b, c":""}` + "\n" + `{"a":"x \"y\"\n","b, c":"é"}` + "\n"; object != want || c.Written != 2 {
		t.Errorf("%s\nwant\n%s", object, want)
	}
	if back, _ := convert(t, object, "csv"); back != rows {
		t.Errorf("%q\nwant\n%q", back, rows)
	}
	if object, c := convert(t, "\xff\xfe"+utf16(t, message+"NTE|1||café\r"), "json"); c.Written != 1 || c.Errors > 0 || !strings.Contains(object, `"café"`) {
		t.Errorf("from UTF-16: %+v\n%s", c, object)
	}
	for _, test := range []struct{ in, to, out, wrong string }{
		{`[{"a":1.50,"b":null},{"b":true},{"c":1},{"a":[1]},5,{"a":"x"}]`, "csv", "a,b\n1.50,\n,true\nx,\n", `"c" is not among|"a" holds more|it is not an object`},
		{"a,b\n1\n2,3\n", "json", `{"a":"2","b":"3"}` + "\n", "has 1 columns"},
		{message + "NTE|1||\xe9\r", "json", "", "is not ASCII"},
		{strings.Replace(message, "|2.5.1", "|2.5.1||||||8859/1", 1) + "NTE|1||x\r", "json", `"NTE","1",null,"x"`, ""},
		{`{"segments":[["MSH","|","^~\\&",null,null,null,null,null,null,null,null,null,null,null,null,null,null,null,"8859/1"],["NTE","€"]]}`, "hl7", "", "cannot be written in iso-8859-1"},
		{`{"segments":[["NTE"`, "hl7", "", "never closed"},
		{`{"a":1}`, "hl7", "", "unknown field"},
		{message, "csv", "hl7 cannot be written as csv without a map", ""},
		{"", "json", "a file of no known format", ""},
	} {
		out, c := convert(t, test.in, test.to)
		var said []string
		for _, f := range c.Findings {
			said = append(said, f.String())
		}
		all := strings.Join(said, "\n")
		for _, w := range strings.Split(test.wrong, "|") {
			if !strings.Contains(all, w) {
				t.Errorf("%.40q to %s: %q does not say %q", test.in, test.to, all, w)
			}
		}
		if !strings.Contains(out, test.out) || test.wrong == "" && all != "" {
			t.Errorf("%.40q to %s: %q, want %q; %s", test.in, test.to, out, test.out, all)
		}
	}
}

// TestConvertInterchanges: X12 and EDIFACT become JSON and the same bytes again.
func TestConvertInterchanges(t *testing.T) {
	const (
		isa   = "ISA*00*          *00*          *ZZ*SKERRY         *ZZ*LABSUPPLY      *261125*0930*^*00501*000000007*0*T*>~"
		order = "GS*PO*SKERRY*LAB*20261125*0930*3*X*005010~ST*850*0001~BEG*00*SA*PO\"1**20261125~N1*BY*SKERRY^x*92*S1>a>b>~BIN*5*~*>^~~SE*5*0001~ST*850*0002~BEG*00~SE*3*0002~GE*2*3~"
		edi   = "UNB+UNOC:3+SKERRY+TIDE+261125:0930+IC7'UNH+1+ORDERS:D:96A:UN'BGM+220+PO?'1??+9++'FTX+AAI+++caf\xe9?+?:?x:'LIN+1++:EN'UNT+5+1'UNZ+1+IC7'"
	)
	lines := func(s, terminator, end string) string { return strings.ReplaceAll(s, terminator, terminator+end) }
	for _, test := range []struct{ in, to string }{
		{isa + order + "IEA*1*000000007~", "x12"},
		{lines(isa+strings.Replace(order, "BIN*5*~*>^~~SE*5", "SE*4", 1)+"IEA*1*000000007~", "~", "\r\n"), "x12"},
		{isa + "TA1*000000001*261125*0930*A*000~" + order + "IEA*1*000000007~" + isa + order + "IEA*1*000000007~", "x12"},
		{edi, "edifact"},
		{"UNA:+.? '" + edi, "edifact"},
		{"UNA:+.? '" + edi + "UNA:+.? '" + edi, "edifact"}, {"UNA:+.? '" + edi + "\nUNA:+,? '" + edi + "\n", "edifact"}, {edi + "UNA:+.? '" + edi, "edifact"},
		{"UNA:+,? '\n" + lines(strings.Replace(edi, "?'1", "1", 1), "'", "\n"), "edifact"},
		{strings.Replace(strings.Replace(edi, "UNOC:3", "UNOY:4", 1), "caf\xe9?+", "é☂*?*x", 1), "edifact"},
	} {
		object, c := convert(t, test.in, "json")
		if c.Errors > 0 || c.Written != c.Records {
			t.Errorf("%q: %+v", test.in, c)
		}
		if back, c := convert(t, object, test.to); back != test.in || c.Errors > 0 {
			t.Errorf("%v\n%s\n%q\nwant\n%q", c.Findings, object, back, test.in)
		}
	}
	// Counts and numbers that are not said are computed.
	object := `{"separators":{"element":"*","component":">","terminator":"~"},"segments":[["ISA","00","          ","00","          ","ZZ","SKERRY         ","ZZ","LABSUPPLY      ","261125","0930","U","00401","000000007","0","T",">"],["GS","PO","S","L","20261125","0930","3","X","004010"]]}
{"segments":[["ST","850","0001"],["BEG","00"],["SE"]]}
{"segments":[["ST","850","0002"],["BEG","00"],["N1","BY"],["SE",null,null]]}
{"segments":[["GE"],["IEA"]]}`
	want := strings.NewReplacer("^*00501", "U*00401").Replace(isa) + "GS*PO*S*L*20261125*0930*3*X*004010~ST*850*0001~BEG*00~SE*3*0001~ST*850*0002~BEG*00~N1*BY~SE*4*0002~GE*2*3~IEA*1*000000007~"
	if got, c := convert(t, object, "x12"); got != want || c.Errors > 0 {
		t.Errorf("%v\n%q\nwant\n%q", c.Findings, got, want)
	}
	for in, wrong := range map[string]string{
		`{"segments":[["ST","850"]]}`:                                                                              "does not say which separators",
		`{"separators":{"element":"*"},"segments":[]}`:                                                             "must be given",
		`{"separators":{"element":"**","component":":","terminator":"~"},"segments":[]}`:                           "not a single separator",
		`{"separators":{"element":"*","component":":","terminator":"~"},"segments":[["N1","a*b"]]}`:                "nothing releases it",
		`{"separators":{"element":"*","component":":","terminator":"~"},"segments":[["N1",{"repeat":["a","b"]}]]}`: "nothing repeats",
		`{"separators":{"element":"*","component":":","terminator":"~"},"segments":[["n1","a"]]}`:                  "not a segment's name",
		`{"separators":{"element":"*","component":":","terminator":"~"},"segments":[[]]}`:                          "has no name",
		`{"other":1}`: "unknown field",
	} {
		if _, c := convert(t, in, "x12"); len(c.Findings) != 1 || !strings.Contains(c.Findings[0].String(), wrong) {
			t.Errorf("%s: %v, want %s", in, c.Findings, wrong)
		}
	}
	if _, c := convert(t, `{"separators":{"element":"+","component":":","release":"?","terminator":"'"},"segments":[["UNB",["UNOC","3"],"a","b",["1","2"],"x"],["FTX","☂"]]}`, "edifact"); len(c.Findings) != 1 || !strings.Contains(c.Findings[0].String(), "iso-8859-1") {
		t.Errorf("%v", c.Findings)
	}
}

// TestCanonical: interchanges are written with the usual separators, with what is computed, and a
// message that they cannot say is left out and not counted.
func TestCanonical(t *testing.T) {
	const odd = `{"separators":{"element":"|","component":":","repetition":"!","terminator":"\n"},"segments":[["ISA","00","          ","00","          ","ZZ","SKERRYCOAST    ","ZZ","HOLMREAGENTS   ","261124","1645","!","00501",null,"0","T",":"],["GS","SH","S","H","20261124","1645",null,"X","005010"]]}
{"segments":[["ST","856",null],["BSN","00","L1",null,null],["HL",null,null,"S"],["HL",null,"1","O"],["LIN","","VP",["a-b",null],{"repeat":["x","y"]}],["SE",null,null]]}
{"segments":[["ST","856",null],["BSN","00","L*2"],["HL",null,null,"S"],["SE",null,null]]}
{"segments":[["ST","856",null],["HL",null,null,"S"],["SE",null,null]]}
{"segments":[["GE",null,null],["IEA",null,null]]}
`
	const header = "ISA*00*          *00*          *ZZ*SKERRYCOAST    *ZZ*HOLMREAGENTS   *261124*1645*^*00501*000000072*0*T*>~GS*SH*S*H*20261124*1645*72*X*005010~"
	const edi = "UNA|^.! ~\r\nUNB^UNOC|3^A^B^261124|1630^7~\r\nUNH^1^ORDERS|D|96A|UN~\r\nBGM^220^a!^b+c?d'^^~\r\nDTM^137||~\r\nUNT^4^1~\r\nUNZ^1^7~\r\n"
	for _, test := range []struct {
		name, in, to string
		style        format.Style
		want, wrong  string
	}{
		{"canonical", odd, "x12", format.Style{Canonical: true, Number: 72}, header + "ST*856*0001~BSN*00*L1~HL*1**S~HL*2*1*O~LIN**VP*a-b*x^y~SE*6*0001~ST*856*0002~HL*1**S~SE*3*0002~GE*2*72~IEA*1*000000072~", "nothing releases it"},
		{"faithful", odd, "x12", format.Style{Number: 1_000_000_000}, "", "has more than 9 digits"},
		{"no number", odd, "x12", format.Style{}, "", "none was handed in"},
		{"from EDIFACT", edi, "edifact", format.Style{Canonical: true}, "UNB+UNOC:3+A+B+261124:1630+7'UNH+1+ORDERS:D:96A:UN'BGM+220+a^b?+c??d?''DTM+137'UNT+4+1'UNZ+1+7'", ""},
		{"with a decimal comma", strings.Replace(edi, "^.!", "^,!", 1), "edifact", format.Style{Canonical: true}, "UNA:+,? 'UNB+UNOC:3+A+B+261124:1630+7'UNH+1+ORDERS:D:96A:UN'BGM+220+a^b?+c??d?''DTM+137'UNT+4+1'UNZ+1+7'", ""},
	} {
		var out strings.Builder
		result, err := Convert(t.Context(), strings.NewReader(test.in), "in", test.to, test.style, &out)
		if err != nil {
			t.Fatal(err)
		}
		if out.String() != test.want || !strings.Contains(result.Findings.Error(), test.wrong) {
			t.Errorf("%s:\n%q, want\n%q\n%v", test.name, out.String(), test.want, result.Findings)
		}
		if test.want == "" || !strings.HasPrefix(test.in, "{") {
			continue
		}
		var again strings.Builder
		if _, err := Convert(t.Context(), strings.NewReader(out.String()), "out", test.to, format.Style{Canonical: true}, &again); err != nil || again.String() != out.String() {
			t.Errorf("%s: what is canonical changes: %q, %v", test.name, again.String(), err)
		}
	}
	if _, err := Convert(t.Context(), strings.NewReader(edi), "in", "edifact", format.Style{}, io.Discard); err == nil || !strings.Contains(err.Error(), "only its canonical style") {
		t.Errorf("a file as itself: %v", err)
	}
}

// TestConvertLongValues: values longer than what is shown of one are converted whole.
func TestConvertLongValues(t *testing.T) {
	long := strings.Repeat("é, ", 100_000)
	object, c := convert(t, "a,b\n\""+long+"\",1\nx,\""+long+"\"\n", "json")
	d := json.NewDecoder(strings.NewReader(object))
	for i, want := range []map[string]string{{"a": long, "b": "1"}, {"a": "x", "b": long}} {
		var got map[string]string
		if err := d.Decode(&got); err != nil || !maps.Equal(got, want) {
			t.Errorf("row %d: %d and %d bytes: %v", i, len(got["a"]), len(got["b"]), err)
		}
	}
	if c.Written != 2 || c.Errors > 0 {
		t.Errorf("%+v", c)
	}
	// More columns than are shown, in a heading that is longer than what is looked at first.
	var names, values []string
	for i := range 30_000 {
		names, values = append(names, fmt.Sprintf("c%d", i)), append(values, fmt.Sprintf("v%d", i))
	}
	object, _ = convert(t, strings.Join(names, ",")+"\n"+strings.Join(values, ",")+"\n", "json")
	var wide map[string]string
	if err := json.Unmarshal([]byte(object), &wide); err != nil || len(wide) != 30_000 || wide["c29999"] != "v29999" {
		t.Errorf("%d columns came of 30000: %v", len(wide), err)
	}
	for to, in := range map[string]string{"hl7": strings.Replace(message, "|2.5.1", "|2.5.1||||||UNICODE UTF-8", 1) + "NTE|1||" + long + "\r", "edifact": "UNB+UNOW:4+A+B+261125:0930+7'UNH+1+ORDERS:D:96A:UN'FTX+AAI+++" + long + "x'UNT+3+1'UNZ+1+7'"} {
		object, _ := convert(t, in, "json")
		if back, _ := convert(t, object, to); back != in || strings.Count(object, "é") != 100_000 {
			t.Errorf("%s: %d bytes came back of %d", to, len(back), len(in))
		}
	}
}
