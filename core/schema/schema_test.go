package schema

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"ydrion/core/format"

	"ydrion/core/batch"
	"ydrion/core/format/csv"
	"ydrion/core/text"
)

// check checks the values of one field, which stands in the second column, and
// gives the findings of each as "code: message".
func check(t *testing.T, field string, values ...string) []string {
	t.Helper()
	s, findings := Parse("test.json", []byte(`{"missingValues": ["", "n/a"], "fields": [{"name": "id"}, `+field+`]}`))
	if len(findings) > 0 {
		t.Fatal(findings)
	}
	in := "id,v\n"
	for i, v := range values {
		in += fmt.Sprintf("%d,\"%s\"\n", i, strings.ReplaceAll(v, `"`, `""`))
	}
	return checkRows(t, s, in, len(values))
}

// checkRows checks the rows of a file, and says of each what is wrong with it.
func checkRows(t *testing.T, s *Schema, in string, rows int) []string {
	t.Helper()
	decoded, err := text.Decode(strings.NewReader(in), text.UTF8)
	if err != nil {
		t.Fatal(err)
	}
	r, findings, err := format.Open(csv.Dialect{}, decoded, s.Record)
	if err != nil || findings.HasErrors() {
		t.Fatal(err, findings)
	}
	b := &batch.Batch{First: 1}
	if _, err := r.Cut(b); err != nil {
		t.Fatal(err)
	}
	r.Split(b)
	seen := s.NewSeen()
	out := make([]string, rows)
	for i := range rows {
		good := s.Check(b, i, false)
		if seen != nil {
			good = s.CheckUnique(b, i, seen) && good
		}
		if good {
			out[i] = "good"
		}
	}
	for _, n := range b.Notes {
		f := s.Describe(b, n, r)
		at := map[string]string{"v": "test.json#/fields/1/", "id": "test.json#/fields/0/"}[f.Place.Path]
		if f.Code == "schema.unique" && len(s.Key()) > 0 {
			at = "test.json#/primaryKey"
		}
		if f.Place.Line != int64(n.Record)+2 || at == "" || !strings.HasPrefix(f.Rule, at) {
			t.Errorf("place %v, rule %s", f.Place, f.Rule)
		}
		out[n.Record] += strings.TrimPrefix(f.Code, "schema.") + ": " + f.Message + " " + f.Suggestion + "; "
	}
	return out
}

func TestChecks(t *testing.T) {
	tests := []struct {
		field string
		cases map[string]string // value → what is said, "good" for nothing
	}{
		{`{"name": "v", "constraints": {"required": true}}`, map[string]string{"x": "good", " x ": "good", " ": "goodblank: v is required, and there are only blanks", "\t ": "goodblank", "": "required: v is missing", "n/a": "required"}},
		{`{"name": "v", "type": "number"}`, map[string]string{"1": "good", "-1.50": "good", "": "good", "n/a": "good", "1,5": "write it with a point: 1.5", "1.23457E+12": "spreadsheet", " 1": "take the spaces away", "1e3": "good", "1.5E-3": "good", "+7.5": "good", ".5": "good", "-.5": "good", "5.": "good", ".": "type", "+": "type", "1e": "type", "e3": "type", "+-1": "type", "--1": "type", "1e3.5": "type", "NaN": "type", "INF": "type", "abc": `not a number with a point as decimal mark: "abc"`}},
		{`{"name": "v", "type": "number", "decimalChar": ",", "groupChar": "."}`, map[string]string{"1.234,5": "good", "1,5": "good", "1234": "good", "12.34,5": "type", "1.5": "type", "1,2,3": "type", "1.2345": "type", "--1": "type"}},
		{`{"name": "v", "type": "integer"}`, map[string]string{"-12": "good", "+12": "good", "+-12": "a whole number", "1.0": "a whole number", "1e3": "a whole number"}},
		{`{"name": "v", "type": "boolean"}`, map[string]string{"true": "good", "0": "good", "yes": "type"}},
		{`{"name": "v", "type": "boolean", "trueValues": ["J"], "falseValues": ["N"]}`, map[string]string{"J": "good", "true": "type"}},
		{`{"name": "v", "type": "date"}`, map[string]string{"2026-02-28": "good", "2026-02-29": "type", "28.02.2026": "yyyy-MM-dd", "45987": "day number"}},
		{`{"name": "v", "type": "datetime", "format": "%d/%m/%Y %H:%M", "constraints": {"minimum": "2020-01-01"}}`, map[string]string{"25/11/2026 06:30": "good", "25/11/2019 06:30": "minimum", "11/25/2026 06:30": "type", "5/1/2026 6:30": "good", "5/11/2026 06:3": "good", "/11/2026 06:30": "type", "005/11/2026 06:30": "type", "5/11/26 06:30": "type", "32/1/2026 6:30": "type"}},
		{`{"name": "v", "type": "date", "format": "%d.%m.%Y"}`, map[string]string{"3.1.2026": "good", "03.01.2026": "good", "31.2.2026": "type", "3.1.2026 ": "type"}},
		{`{"name": "v", "type": "date", "format": "%Y%m%d"}`, map[string]string{"20260103": "good", "2026113": "type", "202613": "type"}},
		{`{"name": "v", "type": "number", "constraints": {"minimum": 2, "maximum": 450.5}}`, map[string]string{"2": "good", "450.50": "good", "1.99": "the least allowed is 2", "450.51": "the most allowed is 450.5", "99999999999999999999": "maximum"}},
		{`{"name": "v", "constraints": {"minLength": 2, "maxLength": 3}}`, map[string]string{"äö": "good", "äöü": "good", "ä": "minLength: v has 1 characters", "äöüß": "maxLength: v has 4 characters"}},
		{`{"name": "v", "constraints": {"pattern": "[A-Z]{2}-[0-9]+"}}`, map[string]string{"AP-12": "good", "xAP-12": "pattern", "AP-12\n": "pattern"}},
		{`{"name": "v", "constraints": {"enum": ["routine", "urgent"]}}`, map[string]string{"urgent": "good", "rutine": `was "routine" meant?`, "Urgent": "enum"}},
		{`{"name": "v", "format": "email"}`, map[string]string{"a@b.example": "good", "a b@c": "format"}},
		{`{"name": "v", "format": "uuid"}`, map[string]string{"0193f0e4-1111-7222-8333-444455556666": "good", "0193": "format"}},
		{`{"name": "v", "type": "number", "constraints": {"minimum": 5, "enum": [3, 7]}}`, map[string]string{"4": "minimum: v is 4, the least allowed is 5 ; enum:"}},
	}
	for _, test := range tests {
		for value, want := range test.cases {
			if got := check(t, test.field, value)[0]; !strings.Contains(got, want) || (want == "good") != (got == "good") {
				t.Errorf("%s of %q: %q does not say %q", test.field, value, got, want)
			}
		}
	}
}

// TestKeyOfSeveral: the values of a key of several fields may be there before, but not together; they are told apart, wherever one ends and
// the next begins.
func TestKeyOfSeveral(t *testing.T) {
	rows := []string{"a,1", "a,2", "b,1", "a,1", "a1,", "ab,c", "a,bc", "b,1", "aa,1", "n/a,1"}
	s, findings := Parse("test.json", []byte(`{"missingValues": ["", "n/a"], "fields": [{"name": "id"}, {"name": "v"}], "primaryKey": ["id", "v"]}`))
	if len(findings) > 0 {
		t.Fatal(findings)
	}
	if got := s.Key(); len(s.Unique) > 0 || len(got) != 2 || got[1] != "v" {
		t.Errorf("%v %v", got, s.Unique)
	}
	got := checkRows(t, s, "id,v\n"+strings.Join(rows, "\n")+"\n", len(rows))
	for i, want := range []string{"good", "good", "good", `id "a", v "1" were together in record 1 already`, "v is missing", "good", "good", `id "b", v "1" were together in record 3 already`, "good", "id is missing"} {
		if !strings.Contains(got[i], want) {
			t.Errorf("%s: %q does not say %q", rows[i], got[i], want)
		}
	}
}

func TestUnique(t *testing.T) {
	got := check(t, `{"name": "v", "constraints": {"unique": true}}`, "a", "b", "a", "", "", "b", "n/a", "n/a")
	for i, want := range []string{"good", "good", "in record 1 already", "good", "good", "in record 2 already", "good", "good"} {
		if !strings.Contains(got[i], want) {
			t.Errorf("record %d: %q does not say %q", i+1, got[i], want)
		}
	}
}

func TestSchemasThatAreWrong(t *testing.T) {
	tests := []struct{ source, place, says string }{
		{`{`, "test.json:1:", "not valid JSON"},
		{`{"fields": []}`, "test.json:1:12", "at least one field"},
		{`{"fields": [{"name": "a"}], "primaryKey": ["a", 2]}`, "test.json:1:", "primaryKey is the name of a field, or a list of names"},
		{`{"fields": [{"name": "a"}], "primaryKey": {"a": 1}}`, "test.json:1:", "primaryKey is the name of a field, or a list of names"},
		{"{\"fields\": [\n  {\"name\": \"a\", \"typ\": \"number\"}]}", "test.json:2:17", `was "type" meant?`},
		{"{\"fields\": [\n  {\"name\": \"a\", \"missingValues\": [\"-\"]}]}", "test.json:2:17", "it holds for all fields, and stands beside `fields`"},
		{"{\"fields\": [\n  {\"name\": \"a\", \"required\": true}]}", "test.json:2:17", "it stands in the `constraints` of a field"},
		{"{\"fields\": [{\"name\": \"a\"},\n {\"name\": \"b\", \"type\": \"decimal\"}]}", "test.json:2:24", `"decimal" is not checked here`},
		{"{\"fields\": [{\"name\": \"a\"},\n {\"name\": \"a\"}]}", "test.json:2:11", `two fields are called "a"`},
		{`{"fields": [{"name": "a", "type": "date", "format": "%d.%Q"}]}`, "test.json:1:53", "must be followed by"},
		{`{"fields": [{"name": "a", "type": "date", "format": "any"}]}`, "test.json:1:53", "would guess"},
		{`{"fields": [{"name": "a", "constraints": {"pattern": "("}}]}`, "test.json:1:54", "not a regular expression"},
		{`{"fields": [{"name": "a", "type": "number", "constraints": {"enum": [1, "x"]}}]}`, "test.json:1:73", `"x" is not of type number`},
		{`{"fields": [{"name": "a", "constraints": {"minimum": 1}}]}`, "test.json:1:54", "needs a number or a date"},
		{`{"fields": [{"name": "a"}], "primaryKey": "b"}`, "test.json:1:43", `"b", which is not a field`},
		{`{"fields": "a"}`, "test.json:1:", "cannot be string"},
	}
	for _, test := range tests {
		s, findings := Parse("test.json", []byte(test.source))
		if s != nil || !strings.Contains(findings.Error(), test.says) && !strings.Contains(fmt.Sprint(findings), test.says) || !strings.HasPrefix(findings[0].Place.String(), test.place) {
			t.Errorf("%s: %v (at %s) does not say %q at %s", test.source, findings, findings[0].Place, test.says, test.place)
		}
	}
}

// TestSharedValues: what a record shares with the one before, which was right, is right in it too.
func TestSharedValues(t *testing.T) {
	s, findings := Parse("test.json", []byte(`{"missingValues": ["", "n/a"], "fields": [{"name": "kg", "type": "number", "constraints": {"maximum": 100}}, {"name": "when", "type": "date", "constraints": {"required": true}}, {"name": "sex", "constraints": {"enum": ["M", "F"]}}]}`))
	if len(findings) > 0 {
		t.Fatal(findings)
	}
	r := rand.New(rand.NewPCG(8, 8))
	values := [3][]string{{"17.5", "heavy", "101", "", "n/a"}, {"2026-11-25", "2026-02-30", "", "n/a"}, {"M", "x", "", "F"}}
	for range 300 {
		buf := []byte{}
		var spans [3][]batch.Span
		for column, list := range values {
			for _, v := range list {
				spans[column] = append(spans[column], batch.Span{Off: uint32(len(buf)), End: uint32(len(buf) + len(v))})
				buf = append(buf, v...)
			}
			spans[column] = append(spans[column], batch.Missing)
		}
		fresh := func() *batch.Batch { return &batch.Batch{First: 1, Buf: buf, N: len(buf), Slots: 3} }
		like, alone := fresh(), fresh()
		row := [3]batch.Span{spans[0][0], spans[1][0], spans[2][0]}
		for range 40 {
			if column := r.IntN(5); column < 3 { // the others stay what they are
				row[column] = spans[column][r.IntN(len(spans[column]))]
			}
			for _, b := range []*batch.Batch{like, alone} {
				b.Spans = append(b.Spans, row[:]...)
				b.Bounds = append(b.Bounds, batch.Span{})
			}
		}
		before := false
		for i := range like.Bounds {
			shared := s.Check(like, i, before)
			if single := s.Check(alone, i, false); shared != single {
				t.Fatalf("record %d is found %t behind the one before, %t alone", i, shared, single)
			}
			before = shared
		}
		if !slices.Equal(like.Spans, alone.Spans) || len(like.Notes) != len(alone.Notes) {
			t.Fatalf("%d notes behind one another, %d alone", len(like.Notes), len(alone.Notes))
		}
	}
}
