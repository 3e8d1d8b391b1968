package lookup

import (
	"strings"
	"testing"
)

func TestTable(t *testing.T) {
	table, findings := Parse("t.csv", "\uFEFFsheet,hl7,remark\r\nMale,M,x\n\"a, b\",\"x|y\"\nMale,M\n,E\n")
	if findings.HasErrors() {
		t.Fatal(findings)
	}
	if table.From != "sheet" || table.To != "hl7" {
		t.Errorf("headings %q and %q", table.From, table.To)
	}
	for key, want := range map[string]string{"Male": "M", "a, b": "x|y", "": "E"} {
		if got, ok := table.Get([]byte(key)); !ok || got != want {
			t.Errorf("%q: %q %v", key, got, ok)
		}
	}
	for _, key := range []string{"male", "Male ", "sheet"} {
		if got, ok := table.Get([]byte(key)); ok {
			t.Errorf("%q is listed as %q", key, got)
		}
	}
	if strings.Join(table.Keys(), ";") != "Male;a, b;" {
		t.Errorf("keys %q", table.Keys())
	}
}

func TestTablesThatAreWrong(t *testing.T) {
	for source, says := range map[string]string{
		"":                     "no heading",
		"a,b\nx\n":             "t.csv:2:1: error: a row of a table has two columns, this one has 1",
		"a,b\nx,1\ny,2\nx,3\n": `t.csv:4:1: error: "x" stands twice, with "1" and with "3"`,
		"a,b\n\"x,1\n":         "t.csv:",
		"a,b\nx,1\n\"y\"z,2\n": "cannot be read",
	} {
		if table, findings := Parse("t.csv", source); table != nil || !strings.Contains(findings.Error(), says) {
			t.Errorf("%q: %v does not say %q", source, findings, says)
		}
	}
}

func TestSeveralColumns(t *testing.T) {
	table, findings := Parse("t.csv", "article\tstation\tprice\tunit\nHR-1\tST1\t9.10\tEA\nHR-1\tST2\t9.50\tEA\nHR-2\t\t2\tBX\nHR-1\tST1\t9.10\tBX\n")
	if findings.HasErrors() {
		t.Fatal(findings)
	}
	x, err := table.By(2, "price")
	if err != nil {
		t.Fatal(err)
	}
	for keys, want := range map[string]string{"HR-1\x00ST2": "9.50", "HR-2\x00": "2"} {
		if got, ok := x.Get([]byte(keys)); !ok || got != want {
			t.Errorf("%q: %q %v", keys, got, ok)
		}
	}
	if _, ok := x.Get([]byte("HR-1")); ok {
		t.Error("one key is enough")
	}
	for _, test := range []struct {
		keys         int
		answer, says string
	}{
		{1, "price", `"HR-1" twice, with "9.10" in line 2 and with "9.50" in line 3`}, {2, "unit", `"HR-1, ST1" twice, with "EA" in line 2 and with "BX" in line 5`},
		{1, "weight", `no column "weight"; it has article, station, price, unit`}, {4, "", "has 4 columns"}, {2, "station", "the answer is another one"},
	} {
		if _, err := table.By(test.keys, test.answer); err == nil || !strings.Contains(err.Error(), test.says) {
			t.Errorf("%d %s: %v does not say %s", test.keys, test.answer, err, test.says)
		}
	}
}
