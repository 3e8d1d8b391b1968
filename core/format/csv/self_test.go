package csv_test

import (
	"fmt"
	"strings"
	"testing"

	"ydrion/core/format/csv"
	"ydrion/core/format/formattest"
	"ydrion/core/shape"
)

func TestContract(t *testing.T) {
	rows := "tag,note,kg\nT-1,calm,17.5\nT-2,\"two\nlines, \"\"quoted\"\"\",\nT-3,é ☂,0\n"
	lines := "no,tag,n\nA,x,1\nA,\"y, \"\"z\"\"\",2\r\n\nB,z,\nA,x,4\n\"A\",x\nC,,6\n,a,7\n,b,8\n"
	together := csv.Dialect{Together: []string{"no"}}
	list := []shape.List{{Name: csv.Rows, Shape: shape.Shape{Fields: shape.Of("no", "n", "tag")}}}
	many, all := "no,tag,n\n", []string{}
	for i := range 300 {
		row := ""
		for k := range i % 7 {
			many += fmt.Sprintf("N%d,\"t\n%d\",%d\n", i, k, i)
			row += fmt.Sprintf("[N%d,%d,t\n%d]", i, i, k)
		}
		if row != "" {
			all = append(all, "{"+row+"}")
		}
	}
	formattest.Contract(t, csv.Format,
		formattest.Case{Name: "rows together", File: lines, Source: together, Fields: []string{"no", "n", "tag"}, Records: 5, Lists: list, Rows: []string{"{[A,1,x][A,2,y, \"z\"]}", "{[B,,z]}", "{[A,4,x][A,-,x]}", "{[C,6,]}", "{[,7,a][,8,b]}"}},
		formattest.Case{Name: "many rows together", File: many, Source: together, Fields: []string{"no", "n", "tag"}, Records: len(all), Lists: list, Rows: all},
		formattest.Case{Name: "rows together, broken", File: "no,tag,n\nA,x,1\nB,y,2\nB,z,3\nB,\"open,4\nC,x,5\n", Source: together, Fields: []string{"no", "n"}, Records: 1, Wrong: true},
		formattest.Case{Name: "by two", File: "a,b,c\n1,1,x\n1,2,y\n1,2,z\n2,2,\n", Source: csv.Dialect{Together: []string{"b", "a"}}, Fields: []string{"a", "c", "b"}, Records: 3},
		formattest.Case{Name: "rows", File: rows, Fields: []string{"kg", "tag", "note"}, Records: 3},
		formattest.Case{Name: "CR LF", File: strings.ReplaceAll(rows, "\n", "\r\n"), Fields: []string{"note"}, Records: 3},
		formattest.Case{Name: "rows that are wrong", File: rows + "too,many,columns,here\nT-4,stray\"quote,1\n\"open\"x,1,2\nshort\n", Fields: []string{"kg", "tag"}, Records: 7},
		formattest.Case{Name: "semicolons", File: strings.ReplaceAll(strings.ReplaceAll(rows, ",", ";"), "lines;", "lines,"), Source: csv.Dialect{Delimiter: ';'}, Fields: []string{"kg"}, Records: 3},
		formattest.Case{Name: "many", File: "a,b\n" + strings.Repeat("1,\"x\"\"y\"\n", 300), Fields: []string{"b", "a"}, Records: 300},
		formattest.Case{Name: "a column is missing", File: "a,b\n1,2\n", Fields: []string{"c"}, Wrong: true},
	)
}
