package formats

import (
	"context"
	"strings"
	"testing"
)

// TestGroupsAreNamed: of a message whose version is not described it is said by whose groups it is read, if by any.
func TestGroupsAreNamed(t *testing.T) {
	const says = "what belongs to what is read by the groups of "
	x12 := func(release, set string) string {
		return "ISA*00*          *00*          *ZZ*A              *ZZ*B              *261125*1200*U*00401*000000001*0*P*>~GS*PO*A*B*20261125*1200*1*X*" + release + "~ST*" + set + "*0001~SE*2*0001~GE*1*1~IEA*1*000000001~"
	}
	edifact := func(kind string) string {
		return "UNB+UNOC:3+A+B+261125:1200+1'UNH+1+" + kind + ":D:98A:UN'BGM+220+1+9'UNT+3+1'UNZ+1+1'"
	}
	for in, want := range map[string]string{
		"MSH|^~\\&|A|B|C|D|20261125||ORU^R01^ORU_R01|1|P|2.8.2\rPID|1\r": "2.7.1",
		"MSH|^~\\&|A|B|C|D|20261125||ORU^R01|1|P|2.3.9\rPID|1\r":         "2.3.1",
		"MSH|^~\\&|A|B|C|D|20261125||ZZZ^Z99|1|P|2.8.2\rPID|1\r":         "",
		"MSH|^~\\&|A|B|C|D|20261125||ORU^R01^ORU_R01|1|P|2.5.1\rPID|1\r": "",
		x12("004030", "850"): "004010", x12("005030VICS", "850"): "005010", x12("004030", "999x"): "", x12("004010", "850"): "",
		edifact("ORDERS"): "D.96A", edifact("QUXXXX"): "",
	} {
		look, err := Examine(context.Background(), strings.NewReader(in), Request{Name: "a"})
		if err != nil {
			t.Fatal(err)
		}
		said := strings.Join(look.Reasons, "\n")
		if _, of, is := strings.Cut(said, says); is != (want != "") || is && !strings.HasPrefix(of, want) {
			t.Errorf("%s: %s", in[:60], said)
		}
	}
}
