package json_test

import (
	"fmt"
	"strings"
	"testing"

	"ydrion/core/format/formattest"
	"ydrion/core/format/json"
)

func TestContract(t *testing.T) {
	object := `{"id": 7, "animal": {"tag": "T-1", "name": "Mar\u00e9 \"x\"\n"}, "tests": [{"code": "WBC", "value": 4.50}, {"code": "HGB", "value": null}, {"value": 1e3}], "note": ""}`
	lines := ""
	for i := range 50 {
		lines += strings.ReplaceAll(strings.Replace(object, "7", fmt.Sprint(i), 1), ", ", ",") + "\n"
	}
	whole := []string{"id", "/animal/tag", "/animal/name", "/tests/1/value", "note", "nothing"}
	test := []string{"code", "value", "2/id", "2/animal/tag", "2/note"}
	formattest.Contract(t, json.Format,
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
