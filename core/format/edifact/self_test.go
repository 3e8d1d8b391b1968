package edifact_test

import (
	"fmt"
	"strings"
	"testing"

	"ydrion/core/format/edifact"
	"ydrion/core/format/formattest"
	"ydrion/core/segments"
	"ydrion/core/shape"
)

func TestContract(t *testing.T) {
	const unb = "UNB+UNOC:3+SKERRY:14+HOLM:14+261125:0930+7'"
	order := "UNH+1+ORDERS:D:96A:UN'BGM+220+LAB?+1+9'DTM+137:20261125:102'NAD+BY+B1::92'LIN+1++HR-1:SA'QTY+21:3:PCE'FTX+AAI+++Gr\xfcn?'s'LIN+2++HR-2:SA'QTY+21:1.5'UNS+S'CNT+2:2'UNT+12+1'"
	second := strings.NewReplacer("UNH+1", "UNH+2", "UNT+12+1", "UNT+12+2").Replace(order)
	end := "UNZ+2+7'"
	fields := []string{"UNB-5", "BGM-2", "DTM(137)-1.2", "NAD(BY)-2.1", "LIN-3.1", "QTY-1.2", "LIN[2]-1", "FTX-4", "CNT-1.2"}
	lines := []shape.List{{Name: "LIN", Shape: shape.Shape{Fields: shape.Of("LIN-1", "LIN-3.1", "QTY(21)-1.2", "FTX-4"), Lists: []shape.List{{Name: "QTY", Shape: shape.Shape{Fields: shape.Of("QTY-1.2", "QTY-1.3")}}}}}}
	rows := "{[1,HR-1,3,Gr\u00fcn's{[3,PCE]}][2,HR-2,1.5,-{[1.5,-]}]}"
	despatch := strings.Replace(unb, "+7'", "+9'", 1) + "UNH+1+DESADV:D:96A:UN'BGM+351+D1+9'NAD+SU+S1::92'CPS+1'PAC+1++201'CPS+2+1'PAC+4++CT'LIN+1++X1:SA'QTY+12:3'LIN+2++X2:SA+1:1'QTY+12:5'LIN+3++X3:SA'CPS+3+1'LIN+4++X4:SA'CPS+4'PAC+9++BX'LIN+5++X5:SA'CNT+2:5'UNT+19+1'UNZ+1+9'"
	contents := []shape.List{{Name: "CPS", Shape: shape.Shape{Fields: shape.Of("CPS-1", "CPS-2", "PAC-1"), Lists: []shape.List{{Name: "LIN", Shape: shape.Shape{Fields: shape.Of("LIN-3.1", "QTY-1.2")}}}}}}
	formattest.Contract(t, edifact.Format,
		formattest.Case{Name: "consignments", File: despatch, Fields: []string{"BGM-2"}, Records: 1, Lists: contents, Rows: []string{"{[1,-,1{}][2,1,4{[X1,3][X2,5][X3,-]}][3,1,-{[X4,-]}][4,-,9{[X5,-]}]}"}},
		formattest.Case{Name: "lines of consignments", File: despatch, Source: segments.Interchanges{Rules: edifact.Rules, Unit: "LIN"}, Fields: []string{"LIN-1", "CPS-1", "PAC-1", "PAC-3", "QTY-1.2", "NAD(SU)-2", "LIN-4.2"}, Records: 5},
		formattest.Case{Name: "lists", File: unb + order + second + end, Fields: fields, Records: 2, Lists: lines, Rows: []string{rows, rows}},
		formattest.Case{Name: "lists undescribed", File: strings.ReplaceAll(unb+order+second+end, "D:96A", "D:XXX"), Fields: fields, Records: 2, Lists: lines, Rows: []string{rows, rows}},
		formattest.Case{Name: "lists of lines", File: unb + order + second + end, Source: segments.Interchanges{Rules: edifact.Rules, Unit: "LIN"}, Fields: fields, Records: 4, Lists: lines[0].Lists, Rows: []string{"{[3,PCE]}", "{[1.5,-]}", "{[3,PCE]}", "{[1.5,-]}"}},
		formattest.Case{Name: "messages", File: unb + order + second + end, Fields: fields, Records: 2},
		formattest.Case{Name: "lines of messages", File: unb + order + second + end, Source: segments.Interchanges{Rules: edifact.Rules, Unit: "LIN"}, Fields: fields, Records: 4},
		formattest.Case{Name: "with an advice", File: "UNA:+,? '\r\n" + strings.ReplaceAll(strings.ReplaceAll(unb+order+second+end, "'", "'\r\n"), "?'\r\n", "?'"), Fields: fields, Records: 2},
		formattest.Case{Name: "two advices", File: "UNA:+.? '" + unb + order + second + end + "UNA|^.! ~" + strings.NewReplacer(":", "|", "+", "^", "?+", "+", "?'", "'", "'", "~", "7'", "8~").Replace(unb+order+second+end), Fields: fields, Records: 4},
		formattest.Case{Name: "a wrong reference", File: unb + order + strings.Replace(second, "UNT+12+2", "UNT+12+3", 1) + end, Fields: fields, Records: 2},
	)
}

func TestUnitsTakeWhatTheyNeed(t *testing.T) {
	formattest.Linear(t, edifact.Format, segments.Interchanges{Rules: edifact.Rules, Unit: "LIN"}, func(units int) string {
		s := "UNB+UNOC:3+SKERRY:14+HOLM:14+261125:0930+7'UNH+1+ORDERS:D:96A:UN'BGM+220+LAB1+9'DTM+137:20261125:102'"
		for i := range units {
			s += fmt.Sprintf("LIN+%d.++HR-1:SA'", i+1)
		}
		return s + fmt.Sprintf("UNS+S'UNT+%d+1'UNZ+1+7'", units+5)
	}, "BGM+220+LAB1+9'DTM+137:20261125:102'")
}
