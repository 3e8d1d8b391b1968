package flow_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"testing"

	"ydrion/core/flow"
	"ydrion/core/format"
	"ydrion/core/format/csv"
	"ydrion/core/format/edifact"
	"ydrion/core/format/hl7"
	target "ydrion/core/format/json"
	"ydrion/core/lang"
	"ydrion/core/schema"
	"ydrion/core/segments"
	"ydrion/core/text"
)

// orders is an interchange of so many messages with one to nine lines each, and what the route of the
// benchmarks makes of it: an object a message.
func orders(messages int) (in []byte, out string) {
	var b, want strings.Builder
	b.WriteString("UNA:+.? '\nUNB+UNOC:3+SKERRYCOAST+TIDEWRACK+250102:1530+IC1'\n")
	quote := func(s string) string { q, _ := json.Marshal(s); return string(q) }
	for i := range messages {
		lines := 1 + i*7%9
		fmt.Fprintf(&b, "UNH+%d+ORDERS:D:96A:UN'\nBGM+220+PO%07d+9'\nDTM+137:202511%02d:102'\nNAD+BY+ST%02d::92++SKERRY COAST SEAL RESCUE'\nNAD+SU+SUP%02d::92++TIDEWRACK STORES'\nCUX+2:EUR:9'\n", i+1, i+1, 1+i%28, i%17, i%9)
		fmt.Fprintf(&want, `{"ref":"%d","order":"PO%07d","date":"2025-11-%02d","buyer":"ST%02d","supplier":"SUP%02d","currency":"EUR","lines":[`, i+1, i+1, 1+i%28, i%17, i%9)
		for k := range lines {
			name := []string{"Heat lamp bulb", "Lid + box's clip", "Pup crate medium", "Scale sling?"}[(i+k)%4]
			fmt.Fprintf(&b, "LIN+%d++IT%04d:SA'\nIMD+F++:::%s'\nQTY+21:%d:PCE'\nPRI+AAA:%d.%02d'\n", k+1, (i*31+k)%3000, strings.NewReplacer("?", "??", "+", "?+", "'", "?'").Replace(name), 1+(i+k)%200, i%400, 1+k)
			if k > 0 {
				want.WriteByte(',')
			}
			fmt.Fprintf(&want, `{"no":%d,"item":"IT%04d","text":%s,"qty":%d,"unit":"PCE","price":%d.%02d}`, k+1, (i*31+k)%3000, quote(name), 1+(i+k)%200, i%400, 1+k)
		}
		fmt.Fprintf(&b, "UNS+S'\nCNT+2:%d'\nUNT+%d+%d'\n", lines, 9+4*lines, i+1)
		fmt.Fprintf(&want, `],"segments":%d,"errors":[]}`+"\n", 9+4*lines)
	}
	fmt.Fprintf(&b, "UNZ+%d+IC1'\n", messages)
	return []byte(b.String()), want.String()
}

// observations are so many messages of HL7 v2 with one to nine results each, and the rows that the route of
// the benchmarks makes of them.
func observations(messages int) (in []byte, out string) {
	var b, want strings.Builder
	want.WriteString(strings.Join(observationColumns, ",") + "\n")
	for i := range messages {
		fmt.Fprintf(&b, "MSH|^~\\&|ANALYZER|ST%02d|LAB|SCSR|20251125%02d%02d00||ORU^R01^ORU_R01|M%06d|P|2.5.1\rPID|1||T-%05d^^^SCSR||GS^grey||20240101|M\rOBR|1|P%d|F%06d^LAB|CBC^Complete count|||20251125%02d%02d\r", i%17, i%24, i%60, i, i%50000, i, i, i%24, i%60)
		for k := range 1 + i*5%9 {
			fmt.Fprintf(&b, "OBX|%d|NM|C%02d^White \\T\\ red^L||%d.%d|10*9/L^^UCUM|4.0-18.0|%s|||F\r", k+1, k, (i+k)%40, k, []string{"", "H", "L"}[(i+k)%3])
			fmt.Fprintf(&want, "M%06d,ST%02d,2025-11-25T%02d:%02d:00,T-%05d,GS,M,F%06d,CBC,%d,NM,C%02d,White & red,%d.%d,10*9/L,4.0-18.0,%s,F\n", i, i%17, i%24, i%60, i%50000, i, k+1, k, (i+k)%40, k, []string{"", "H", "L"}[(i+k)%3])
		}
	}
	return []byte(b.String()), want.String()
}

var observationColumns = strings.Split("message_id,station,observed_at,animal_tag,species,sex,specimen_id,panel,set_id,type,code,name,value,unit,range,flag,status", ",")

// benched is the plan of a route of the benchmarks.
func benched(tb testing.TB, schemaName, mapName string, from format.Source, to format.Target) *flow.Plan {
	tb.Helper()
	return planned(tb, read(tb, "../../bench/workspace/schemas/"+schemaName), read(tb, "../../bench/workspace/maps/"+mapName), from, to)
}

// planned is a plan by the texts of a schema and a map.
func planned(tb testing.TB, schemaText, mapText string, from format.Source, to format.Target) *flow.Plan {
	tb.Helper()
	s, findings := schema.Parse("s.json", []byte(schemaText))
	if findings.HasErrors() {
		tb.Fatal(findings)
	}
	m, findings := lang.Parse("m.map", mapText)
	program, more := lang.Build(m, "m.map", mapText, to, lang.Scope{Fields: s.Record, Lists: s.Shape().Lists})
	if findings.HasErrors() || more.HasErrors() {
		tb.Fatal(findings, more)
	}
	bound, findings := from.Bind(s.Shape())
	if bound == nil {
		tb.Fatal(findings)
	}
	return &flow.Plan{Source: bound, Charset: text.UTF8, Schema: s, Branches: []flow.Branch{{Program: program, Target: to}}}
}

// ordersPlan makes an object of each order, with its lines.
func ordersPlan(tb testing.TB) *flow.Plan {
	tb.Helper()
	to, err := target.NewTarget("order.json", []byte(read(tb, "../../bench/workspace/samples/order.json")))
	if err != nil {
		tb.Fatal(err)
	}
	return benched(tb, "orders.json", "orders-to-objects.map", segments.Interchanges{Rules: edifact.Rules}, to)
}

// observationsPlan makes a row of each observation, with what stands around it.
func observationsPlan(tb testing.TB) *flow.Plan {
	tb.Helper()
	to, err := csv.NewTarget("observation.csv", []byte(read(tb, "../../bench/workspace/samples/observation.csv")))
	if err != nil {
		tb.Fatal(err)
	}
	return benched(tb, "observations.json", "observations-to-rows.map", hl7.Source{Unit: "OBX"}, to)
}

// TestMessages: what orders and observations become is what was written beside them.
func TestMessages(t *testing.T) {
	for name, make := range map[string]struct {
		of   func(int) ([]byte, string)
		plan func(testing.TB) *flow.Plan
	}{"orders": {orders, ordersPlan}, "observations": {observations, observationsPlan}} {
		in, want := make.of(3000)
		var got bytes.Buffer
		r, err := make.plan(t).Run(context.Background(), bytes.NewReader(in), flow.Inputs{Cores: 2}, &written{to: &got})
		if err != nil || r.Rejected > 0 || got.String() != want {
			i := 0
			for i < min(got.Len(), len(want)) && got.String()[i] == want[i] {
				i++
			}
			t.Errorf("%s: %+v %v\nat %d\n%.300s\nnot\n%.300s", name, r.Balance, err, i, got.String()[max(0, i-50):], want[max(0, i-50):])
		}
	}
}

// BenchmarkMessages runs the routes of the benchmarks for orders (a list in each) and observations.
func BenchmarkMessages(b *testing.B) {
	run := func(p *flow.Plan, in []byte) func(*testing.B) {
		return func(b *testing.B) {
			b.SetBytes(int64(len(in)))
			b.ReportAllocs()
			for b.Loop() {
				if _, err := p.Run(context.Background(), bytes.NewReader(in), flow.Inputs{Cores: 1}, &written{to: io.Discard}); err != nil {
					b.Fatal(err)
				}
			}
		}
	}
	in, _ := orders(30_000)
	b.Run("orders", run(ordersPlan(b), in))
	in, _ = observations(30_000)
	b.Run("observations", run(observationsPlan(b), in))
}
