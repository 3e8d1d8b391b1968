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
