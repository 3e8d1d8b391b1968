package json_test

import (
	"fmt"
	"strings"
	"testing"

	"ydrion/core/format/formattest"
	"ydrion/core/format/json"
	"ydrion/core/shape"
)

func TestContract(t *testing.T) {
	object := `{"id": 7, "animal": {"tag": "T-1", "name": "Mar\u00e9 \"x\"\n"}, "tests": [{"code": "WBC", "value": 4.50}, {"code": "HGB", "value": null}, {"value": 1e3}], "note": ""}`
	lines := ""
	for i := range 50 {
		lines += strings.ReplaceAll(strings.Replace(object, "7", fmt.Sprint(i), 1), ", ", ",") + "\n"
	}
	whole := []string{"id", "/animal/tag", "/animal/name", "/tests/1/value", "note", "nothing"}
	test := []string{"code", "value", "2/id", "2/animal/tag", "2/note"}
	order := `{"no": 7, "lines": [{"article": "A\u0301", "parts": [{"q": 1}, {"q": null}], "tags": ["x", 4.50]}, {"article": null, "parts": []}, {}], "by": {"B1": {"n": 1}, "b/2": {"n": [2]}}}`
	lists := []shape.List{{Name: "lines", Shape: shape.Shape{Fields: shape.Of("article", "0#", "/parts/1/q", "article"), Lists: []shape.List{{Name: "parts", Shape: shape.Shape{Fields: shape.Of("q")}}, {Name: "tags", Shape: shape.Shape{Fields: shape.Of("0")}}}}}, {Name: "parties", Path: "/by", Shape: shape.Shape{Fields: shape.Of("0#", "n")}}}
	rows := "{[A\u0301,0,null,A\u0301{[1][null]}{[x][4.50]}][null,1,-,null{}{}][-,2,-,-{}{}]}{[B1,1][b/2,[2]]}"
	formattest.Contract(t, json.Format,
		formattest.Case{Name: "lists", File: strings.ReplaceAll(order, ", ", " ,\n") + order + "{}", Fields: []string{"no"}, Records: 3, Lists: lists, Rows: []string{rows, rows, "{}{}"}},
		formattest.Case{Name: "lists in lists", File: `{"at": "x", "all": [` + order + `, {"lines": []}, ` + order + `]}`, Source: json.Source{Records: "/all/*"}, Fields: []string{"no", "2/at"}, Records: 3, Lists: lists, Rows: []string{rows, "{}{}", rows}},
		formattest.Case{Name: "lists in broken lines", File: order + "\n" + order[:60] + "\n" + `{"lines": {"a": 1}}` + "\n" + order + "\n", Fields: []string{"no"}, Records: 4, Lists: lists, Rows: []string{rows, "{[A\u0301,0,-,A\u0301{[1]}{}]}{}", "{[-,a,-,-{}{}]}{}", rows}},
		formattest.Case{Name: "an object", File: object, Fields: whole, Records: 1},
		formattest.Case{Name: "lines", File: lines, Fields: whole, Records: 50},
		formattest.Case{Name: "a list", File: "[" + object + " ,\n" + object + "]", Fields: whole, Records: 2},
		formattest.Case{Name: "a sequence", File: "\x1e" + object + "\n\x1e{\"id\": oops}\n\x1e" + object + "\n", Fields: whole, Records: 3},
		formattest.Case{Name: "elements", File: object, Source: json.Source{Records: "/tests/*"}, Fields: test, Records: 3},
		formattest.Case{Name: "elements in lines", File: lines, Source: json.Source{Records: "/tests/*"}, Fields: test, Records: 150},
		formattest.Case{Name: "elements of elements", File: `{"by": "me", "all": [` + object + "," + object + `]}`, Source: json.Source{Records: "/all/*/tests/*"}, Fields: append(test, "4/by"), Records: 6},
		formattest.Case{Name: "keys", File: `{"at": {"WBC": {"value": 1}, "a/b ~": {"value": 2}}, "id": 3}`, Source: json.Source{Records: "/at/*"}, Fields: []string{"value", "0#", "2/id"}, Records: 2},
		formattest.Case{Name: "broken", File: "[" + object + "," + object[:40], Fields: whole, Records: 1, Wrong: true},
	)
}

func TestUnitsTakeWhatTheyNeed(t *testing.T) {
	formattest.Linear(t, json.Format, json.Source{Records: "/samples/*/tests/*"}, func(units int) string {
		s := `{"by": "me", "samples": [{"id": 0, "tests": []}, {"id": 7, "tests": [`
		for i := range units {
			s += fmt.Sprintf(`{"n": %d.5},`, i)
		}
		return s[:len(s)-1] + `]}, {"id": 8, "tests": []}]}`
	}, `{"by": "me", "samples": [{"id": 7, "tests": [`)
}
