package csv_test

import (
	"strings"
	"testing"

	"ydrion/core/format/csv"
	"ydrion/core/format/formattest"
)

func TestContract(t *testing.T) {
	rows := "tag,note,kg\nT-1,calm,17.5\nT-2,\"two\nlines, \"\"quoted\"\"\",\nT-3,é ☂,0\n"
	formattest.Contract(t, csv.Format,
		formattest.Case{Name: "rows", File: rows, Fields: []string{"kg", "tag", "note"}, Records: 3},
		formattest.Case{Name: "CR LF", File: strings.ReplaceAll(rows, "\n", "\r\n"), Fields: []string{"note"}, Records: 3},
		formattest.Case{Name: "rows that are wrong", File: rows + "too,many,columns,here\nT-4,stray\"quote,1\n\"open\"x,1,2\nshort\n", Fields: []string{"kg", "tag"}, Records: 7},
		formattest.Case{Name: "semicolons", File: strings.ReplaceAll(strings.ReplaceAll(rows, ",", ";"), "lines;", "lines,"), Source: csv.Dialect{Delimiter: ';'}, Fields: []string{"kg"}, Records: 3},
		formattest.Case{Name: "many", File: "a,b\n" + strings.Repeat("1,\"x\"\"y\"\n", 300), Fields: []string{"b", "a"}, Records: 300},
		formattest.Case{Name: "a column is missing", File: "a,b\n1,2\n", Fields: []string{"c"}, Wrong: true},
	)
}
