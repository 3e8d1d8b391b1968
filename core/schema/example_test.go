package schema_test

import (
	"fmt"
	"strings"
	"ydrion/core/format"

	"ydrion/core/batch"
	"ydrion/core/format/csv"
	"ydrion/core/schema"
	"ydrion/core/text"
)

// A schema checks the records of a batch that was split into its fields.
func ExampleSchema_Check() {
	s, findings := schema.Parse("schemas/weights.json", []byte(`{"fields": [
		{"name": "tag", "constraints": {"required": true}},
		{"name": "weight_kg", "type": "number", "constraints": {"maximum": 450}}]}`))
	if findings.HasErrors() {
		fmt.Println(findings)
		return
	}
	in, err := text.Decode(strings.NewReader("tag,weight_kg\nT-1,38.5\n,1250\nT-3,\"7,5\"\n"), text.UTF8)
	if err != nil {
		fmt.Println(err)
		return
	}
	reader, findings, err := format.Open(csv.Dialect{}, in, s.Record)
	if err != nil || findings.HasErrors() {
		fmt.Println(err, findings)
		return
	}
	b := &batch.Batch{First: 1}
	if _, err := reader.Cut(b); err != nil {
		fmt.Println(err)
		return
	}
	reader.Split(b)
	for i := range b.Records() {
		fmt.Println("record", b.First+int64(i), "is good:", s.Check(b, i, false))
	}
	for _, note := range b.Notes {
		fmt.Println(s.Describe(b, note, reader))
	}
	// Output:
	// record 1 is good: true
	// record 2 is good: false
	// record 3 is good: false
	// 3:1 record 2 tag: error: tag is missing [schema.required]
	// 3:2 record 2 weight_kg: error: weight_kg is 1250, the most allowed is 450 [schema.maximum]
	// 4:5 record 3 weight_kg: error: weight_kg is not a number with a point as decimal mark: "7,5" [schema.type]
	//     write it with a point: 7.5
}
