package formats

import (
	"bytes"
	"context"
	"strings"
	"testing"
)

func convert(t *testing.T, in, to string) (string, *Converted) {
	t.Helper()
	var out bytes.Buffer
	c, err := Convert(context.Background(), strings.NewReader(in), "sample", to, &out)
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
	rows := "a,\"b, c\"\n1,\n\"x \"\"y\"\"\n\",é\n"
	object, c = convert(t, rows, "json")
	if want := `{"a":"1","b, c":""}` + "\n" + `{"a":"x \"y\"\n","b, c":"é"}` + "\n"; object != want || c.Written != 2 {
		t.Errorf("%s\nwant\n%s", object, want)
	}
	if back, _ := convert(t, object, "csv"); back != rows {
		t.Errorf("%q\nwant\n%q", back, rows)
	}
	for _, test := range []struct{ in, to, out, wrong string }{
		{`[{"a":1.50,"b":null},{"b":true},{"c":1},{"a":[1]},5,{"a":"x"}]`, "csv", "a,b\n1.50,\n,true\nx,\n", `"c" is not among|"a" holds more|it is no object`},
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
