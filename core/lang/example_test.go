package lang_test

import (
	"fmt"
	"strings"

	"ydrion/core/batch"
	"ydrion/core/format/hl7"
	"ydrion/core/lang"
	"ydrion/core/lookup"
	"ydrion/core/shape"
	"ydrion/core/value"
)

// A map is parsed, built on a sample of its target, and run over records.
func ExampleBuild() {
	source := `map tag_to_message
source csv schemas/tags.json
target hl7 based on samples/blank.hl7

keep MSH-9, PID-1
PID-3 = animal_tag | upper
PID-8 = sex | lookup sex_codes if empty "U"
`
	target, err := hl7.NewTarget("samples/blank.hl7", []byte("MSH|^~\\&|||||||ADT^A04\rPID|1||TAG\r"))
	if err != nil {
		fmt.Println(err)
		return
	}
	codes, _ := lookup.Parse("lookups/sex_codes.csv", "sheet,hl7\nMale,M\n")
	scope := lang.Scope{Fields: shape.Record{{Name: "animal_tag", Kind: value.Text}, {Name: "sex", Kind: value.Text}}, Lookups: lang.Tables{"sex_codes": codes}}

	m, findings := lang.Parse("maps/tags.map", source)
	if findings.HasErrors() {
		fmt.Println(findings)
		return
	}
	program, findings := lang.Build(m, "maps/tags.map", source, target, scope)
	if findings.HasErrors() {
		fmt.Println(findings)
		return
	}
	// A batch of one record with two slots: "t-1|2" and "Male".
	b := &batch.Batch{Buf: []byte("t-1|2Male"), N: 9, First: 1, Slots: 2, Bounds: []batch.Span{{Off: 0, End: 9}}, Spans: []batch.Span{{Off: 0, End: 5}, {Off: 5, End: 9}}}
	out, outcome := program.Run(&lang.Env{}, b, 0, nil)
	fmt.Println(outcome.What == batch.Good)
	fmt.Print(strings.ReplaceAll(string(out), "\r", "\n"))
	// Output:
	// true
	// MSH|^~\&|||||||ADT^A04
	// PID|1||T-1\F\2|||||M
}

// What is wrong is said with its place and, if possible, what to do.
func ExampleParse() {
	_, findings := lang.Parse("maps/tags.map", "map tags\nsource csv schemas/tags.json\nPID-3 = animal_tag |\nPID-8 = \"open\n")
	for _, f := range findings {
		fmt.Println(f)
	}
	// Output:
	// maps/tags.map:3:21: error: the name of a function was expected after |, this is the end of the line [map.syntax]
	// maps/tags.map:4:9: error: the text is not closed on its line [map.syntax]
}
