package hl7_test

import (
	"fmt"
	"strings"
	"testing"

	"ydrion/core/format/formattest"
	"ydrion/core/format/hl7"
	"ydrion/core/shape"
)

func TestContract(t *testing.T) {
	m := "MSH|^~\\&|LAB|ST18|SKERRY|SCSR|20250815211500||ORU^R01^ORU_R01|M1|P|2.5.1||||||UNICODE UTF-8\rPID|1||T-VV^^^SCSR~X-9^^^OLD||GS&grey^T\\T\\E||\"\"|U\r" +
		"OBR|1||S1\rNTE|1||of the order\rOBX|1|NM|WBC^Leu||4.5|10*9/L\rNTE|1||caf\xc3\xa9 \\.br\\ two\rOBX|2|NM|HGB||\rOBR|2||S2\rOBX|1|NM|CRP||3\r"
	fields := []string{"MSH-10", "PID-3[2].1", "PID-5.1.2", "PID-7", "OBX-5", "OBX(3=HGB)-1", "NTE-3", "OBR-3", "ZZZ-1"}
	observations := shape.List{Name: "OBX", Shape: shape.Shape{Fields: shape.Of("OBX-3", "OBX-5", "NTE-3"), Lists: []shape.List{{Name: "notes", Path: "NTE", Shape: shape.Shape{Fields: shape.Of("NTE-1")}}}}}
	orders := []shape.List{{Name: "PID-3", Shape: shape.Shape{Fields: shape.Of("PID-3.1", "PID-3.4")}}, {Name: "OBR", Shape: shape.Shape{Fields: shape.Of("OBR-3", "OBR/NTE-3", "OBX[2]-3", "ORC-1"), Lists: []shape.List{observations}}}}
	first := "{[T-VV,SCSR][X-9,OLD]}{[S1,of the order,HGB,-{[WBC,4.5,caf\xc3\xa9 \n two{[1]}][HGB,-,-{}]}][S2,-,-,-{[CRP,3,-{}]}]}"
	noted := strings.Replace(m, "OBX|1|NM|CRP||3\r", "OBX|1|NM|CRP||3\rNTE|1||of CRP\rSPM|1\r", 1)
	notes := []shape.List{{Name: "OBR", Shape: shape.Shape{Fields: shape.Of("OBR-3", "NTE-3"), Lists: []shape.List{{Name: "NTE", Shape: shape.Shape{Fields: shape.Of("NTE-3")}}, {Name: "OBX", Shape: shape.Shape{Fields: shape.Of("NTE-3")}}}}}}
	own := "{[S1,of the order{[of the order]}{[caf\xc3\xa9 \n two][-]}][S2,-{}{[of CRP]}]}"
	formattest.Contract(t, hl7.Format,
		formattest.Case{Name: "notes", File: noted + noted, Fields: fields, Records: 2, Lists: notes, Rows: []string{own, own}},
		formattest.Case{Name: "notes undescribed", File: strings.ReplaceAll(noted, "ORU^R01^ORU_R01", "ZZZ^Z01"), Fields: fields, Records: 1, Lists: notes, Rows: []string{own}},
		formattest.Case{Name: "lists", File: m + strings.Replace(m, "|M1|", "|M2|", 1), Fields: fields, Records: 2, Lists: orders, Rows: []string{first, first}},
		formattest.Case{Name: "lists undescribed", File: strings.ReplaceAll(m+m, "ORU^R01^ORU_R01", "ZZZ^Z01"), Fields: fields, Records: 2, Lists: orders, Rows: []string{first, first}},
		formattest.Case{Name: "lists of orders", File: m + m, Source: hl7.Source{Unit: "OBR"}, Fields: fields, Records: 4, Lists: []shape.List{observations}, Rows: []string{"{[WBC,4.5,caf\xc3\xa9 \n two{[1]}][HGB,-,-{}]}", "{[CRP,3,-{}]}", "{[WBC,4.5,caf\xc3\xa9 \n two{[1]}][HGB,-,-{}]}", "{[CRP,3,-{}]}"}},
		formattest.Case{Name: "no lists", File: m + "MSH|^~\\&|LAB|ST18|SKERRY|SCSR|20250815211500||ORU^R01^ORU_R01|M1|P|2.5.1\rPID|1\r" + m, Fields: fields, Records: 3, Lists: orders, Rows: []string{first, "{}{}", first}},
		formattest.Case{Name: "messages", File: m + m + strings.Replace(m, "|M1|", "|M2|", 1), Fields: fields, Records: 3},
		formattest.Case{Name: "observations", File: m + m, Source: hl7.Source{Unit: "OBX"}, Fields: fields, Records: 6},
		formattest.Case{Name: "blocks", File: "\x0b" + m + "\x1c\r\x0b" + m + "\x1c\r", Fields: fields, Records: 2},
		formattest.Case{Name: "other separators", File: strings.NewReplacer("|", "#", "^", "*").Replace(m) + m, Fields: fields, Records: 2},
		formattest.Case{Name: "a batch", File: "FHS|^~\\&|A\rBHS|^~\\&|A\r" + m + m + "BTS|2\rFTS|1\r", Fields: fields, Records: 2},
		formattest.Case{Name: "a wrong count", File: "BHS|^~\\&|A\r" + m + m + "BTS|3\r", Fields: fields, Records: 2, Wrong: true},
		formattest.Case{Name: "messages that are wrong", File: m + strings.Replace(m, "caf", "caf\xe9", 1) + "some text\r" + m, Fields: fields, Records: 3},
		formattest.Case{Name: "no message", File: "PID|1\r", Wrong: true},
	)
}

func TestUnitsTakeWhatTheyNeed(t *testing.T) {
	for _, version := range []string{"2.5.1", "9.9"} {
		formattest.Linear(t, hl7.Format, hl7.Source{Unit: "OBX"}, func(units int) string {
			s := "MSH|^~\\&|LAB|ST18|SKERRY|SCSR|20250815211500||ORU^R01|M1|P|" + version + "\rPID|1||T-7\rOBR|1||S1\r"
			for i := range units {
				s += fmt.Sprintf("OBX|%d|NM|WBC||4.5\r", i+1)
			}
			return s
		}, "PID|1||T-7\rOBR|1||S1\r")
	}
}
