package flow_test

import (
	"bytes"
	"context"
	"io"
	"os"
	"strings"
	"testing"

	"ydrion/core/batch"
	"ydrion/core/flow"
	"ydrion/core/format"
	"ydrion/core/format/csv"
	"ydrion/core/format/hl7"
	"ydrion/core/lang"
	"ydrion/core/lookup"
	"ydrion/core/schema"
	"ydrion/core/text"
)

func read(t testing.TB, name string) string {
	t.Helper()
	b, err := os.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	return string(b)
}

func plan(t testing.TB) *flow.Plan {
	t.Helper()
	s, findings := schema.Parse("specimens.json", []byte(read(t, "../../bench/workspace/schemas/specimens.json")))
	if findings.HasErrors() {
		t.Fatal(findings)
	}
	table, findings := lookup.Parse("sex_codes.csv", read(t, "../../bench/workspace/lookups/sex_codes.csv"))
	if findings.HasErrors() {
		t.Fatal(findings)
	}
	target, err := hl7.NewTarget("result.hl7", []byte(read(t, "../../bench/workspace/samples/result.hl7")))
	if err != nil {
		t.Fatal(err)
	}
	source := read(t, "../../bench/workspace/maps/specimens-to-results.map")
	m, findings := lang.Parse("results.map", source)
	if findings.HasErrors() {
		t.Fatal(findings)
	}
	program, findings := lang.Build(m, "results.map", source, target, lang.Scope{Fields: s.Record, Lookups: map[string]*lookup.Table{"sex_codes": table}})
	if len(findings) > 0 {
		t.Fatal(findings)
	}
	return &flow.Plan{Source: csv.Dialect{}, Charset: text.UTF8, Schema: s, Program: program, Target: target, After: []byte("\n")}
}

// collector keeps what a run gives out.
type collector struct {
	opened   *flow.Opened
	out      bytes.Buffer
	rejected []string
	findings []string
	rest     string
}

func (c *collector) Open(o *flow.Opened) error { c.opened = o; return nil }

func (c *collector) Batch(b *batch.Batch) error {
	c.out.Write(b.Out)
	for i, w := range b.What {
		if w == batch.Rejected {
			c.rejected = append(c.rejected, string(b.Raw(i)))
			c.findings = append(c.findings, c.opened.Findings(b, i)[0].String())
		}
	}
	return nil
}

func (c *collector) Broken(b *format.Broken) error {
	rest, err := io.ReadAll(b.Rest)
	c.rest = string(rest)
	return err
}

const header = "specimen_id,animal_tag,species_code,station,collected_at,sex,weight_kg,note,test_code,priority,lat,lon\n"

func TestRecordBecomesMessage(t *testing.T) {
	in := header +
		"SC1,T-1,GS,ST01,25/11/2026 06:30,Male,12.50,\"bite | left & ^ ~ \\\nsecond \"\"line\"\"\",WBC,R,57.1,-2.5\n" +
		"SC2,T-2,HS,ST02,25/11/2026 07:05,,abc,,WBC,R,57.1,-2.5\n" +
		"SC3,T-3,HS,ST02,31/02/2026 07:05,Female,9,,WBC,R,57.1,-2.5\n" +
		"SC4,T-4,HS,ST02,25/11/2026 07:05,Female,9,,WBC,R,57.1,-2.5\n"
	want := "MSH|^~\\&|SKERRY|ST01|LAB|SCSR|202611250630||ORU^R01^ORU_R01|SC1|P|2.5.1||||||UNICODE UTF-8\r" +
		"PID|1||T-1^^^SCSR||GS|||M\rOBR|1||SC1|WBC|R||202611250630\r" +
		"OBX|1|NM|WEIGHT||12.50|kg|||||F\rOBX|2|NM|LAT||57.1|deg|||||F\rOBX|3|NM|LON||-2.5|deg|||||F\r" +
		"OBX|4|TX|NOTE||bite \\F\\ left \\T\\ \\S\\ \\R\\ \\E\\\\.br\\second \"line\"||||||F\r\n" +
		"MSH|^~\\&|SKERRY|ST02|LAB|SCSR|202611250705||ORU^R01^ORU_R01|SC4|P|2.5.1||||||UNICODE UTF-8\r" +
		"PID|1||T-4^^^SCSR||HS|||F\rOBR|1||SC4|WBC|R||202611250705\r" +
		"OBX|1|NM|WEIGHT||9|kg|||||F\rOBX|2|NM|LAT||57.1|deg|||||F\rOBX|3|NM|LON||-2.5|deg|||||F\r\n"
	for _, cores := range []int{1, 2, 5} {
		c := &collector{}
		result, err := plan(t).Run(context.Background(), strings.NewReader(in), flow.Inputs{Cores: cores}, c)
		if err != nil {
			t.Fatal(err)
		}
		if got := c.out.String(); got != want {
			t.Errorf("%d cores: got\n%q\nwant\n%q", cores, got, want)
		}
		if result.In != 4 || result.Good != 2 || result.Rejected != 2 {
			t.Errorf("balance %+v", result.Balance)
		}
		wantFindings := []string{
			`4:35 record 2 weight_kg: error: weight_kg is not a number with a point as decimal mark: "abc" [schema.type]`,
			`5:17 record 3 collected_at: error: collected_at is not a date in the form dd/MM/yyyy HH:mm: "31/02/2026 07:05" [schema.type]`,
		}
		for i, w := range wantFindings {
			if i >= len(c.findings) || c.findings[i] != w {
				t.Errorf("finding %d: got %q, want %q", i, c.findings, w)
			}
		}
		first, err := hl7.Parse(bytes.SplitAfter(c.out.Bytes(), []byte("\n"))[0])
		if err != nil {
			t.Fatal(err)
		}
		if note, _ := first.Get("OBX[4]-5"); note != "bite | left & ^ ~ \\\nsecond \"line\"" {
			t.Errorf("the note is read back as %q", note)
		}
	}
}

// rows makes a file of n made-up rows, some with quotes, some bad.
func rows(n int) string {
	var b strings.Builder
	b.WriteString(header)
	notes := []string{"", "calm in transit", `"bite, left"`, `"said ""lively"" by crew"`, `"line one` + "\n" + `line two"`, "temp^38.1"}
	for i := range n {
		weight := "12.5"
		if i%33 == 7 {
			weight = "n/a"
		}
		b.WriteString("SC" + strings.Repeat("0", i%5) + "81,T-8K2,GS,ST0" + string(rune('1'+i%8)) + ",25/11/2026 06:3" + string(rune('0'+i%10)) + ",Male," + weight + "," + notes[i%len(notes)] + ",WBC,R,57.12,-2.5\n")
	}
	return b.String()
}

func TestSameForAnyCores(t *testing.T) {
	in := rows(20000)
	var first string
	for _, cores := range []int{1, 2, 3, 8} {
		c := &collector{}
		if _, err := plan(t).Run(context.Background(), strings.NewReader(in), flow.Inputs{Cores: cores}, c); err != nil {
			t.Fatal(err)
		}
		all := c.out.String() + strings.Join(c.findings, "\n") + strings.Join(c.rejected, "")
		if first == "" {
			first = all
		}
		if all != first {
			t.Errorf("%d cores give another result than one", cores)
		}
	}
}

func BenchmarkCSVToHL7(b *testing.B) {
	in := rows(50000)
	p := plan(b)
	b.SetBytes(int64(len(in)))
	b.ReportAllocs()
	for b.Loop() {
		if _, err := p.Run(context.Background(), strings.NewReader(in), flow.Inputs{Cores: 1}, discard{}); err != nil {
			b.Fatal(err)
		}
	}
}

type discard struct{}

func (discard) Open(*flow.Opened) error     { return nil }
func (discard) Batch(*batch.Batch) error    { return nil }
func (discard) Broken(*format.Broken) error { return nil }
