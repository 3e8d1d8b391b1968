package lang

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"ydrion/core/batch"
	"ydrion/core/format"
	csvformat "ydrion/core/format/csv"
	"ydrion/core/format/hl7"
	jsonformat "ydrion/core/format/json"
	"ydrion/core/lookup"
	"ydrion/core/shape"
	"ydrion/core/text"
	"ydrion/core/value"
)

// TestColumnsAgree checks what is written in stretches against what is written action by action.
func TestColumnsAgree(t *testing.T) {
	table, _ := lookup.Parse("lookups/sexes.csv", "sheet,hl7\nMale,M\nFemale,F|x\n")
	field := func(name string) shape.Field { return shape.Field{Name: name, Kind: value.Text} }
	scope := Scope{Lookups: Tables{"sexes": table}, Fields: shape.Record{field("x"), {Name: "n", Kind: value.Number, Checked: true}, {Name: "t", Kind: value.Time, Checked: true, Pattern: text.MustPattern("yyyy-MM-dd")}},
		Lists: []shape.List{{Name: "lines", Shape: shape.Shape{Fields: shape.Record{field("p"), field("q")}, Lists: []shape.List{{Name: "lots", Shape: shape.Shape{Fields: shape.Record{field("lot")}}}}}}}}
	targets := map[string]format.Target{}
	var err error
	if targets["json"], err = jsonformat.NewTarget("s.json", []byte(`{"a":"","b":"","c":"","list":[{"p":"","q":"","sub":[{"lot":"","p":""}]}],"d":""}`)); err != nil {
		t.Fatal(err)
	}
	if targets["csv"], err = csvformat.NewTarget("s.csv", []byte("a,b,c,d\n")); err != nil {
		t.Fatal(err)
	}
	if targets["hl7"], err = hl7.NewTarget("s.hl7", []byte("MSH|^~\\&|A\rPID|1||||||||||\rPV1|1|||||||||\r")); err != nil {
		t.Fatal(err)
	}
	paths := map[string][]string{"json": {"a", "b", "c", "d"}, "csv": {"a", "b", "c", "d"}, "hl7": {"PID-3", "PID-5.2", "PV1-4", "PV1-7"}}
	own := []string{"x", "x if empty \"E\"", "x if absent \"A\" if empty \"E,\"", "x | lookup sexes if unlisted \"?\"", "x | lookup sexes if empty \"U\" if unlisted \"|\"", "x | number if unreadable 0",
		"x | number if empty 7 if unreadable 1", "x | number", "t | format \"yyyyMMdd\"", "t | format \"dd.MM.yy\" if absent \"never\"", "n", "n if absent 3", "\"{x}-{n}\"", "x | trim"}
	nulls := []string{"x if empty null", "x if absent null if empty null", "x | number if empty null if unreadable null", "n if absent null"}
	rows := []string{"p", "q", "x", "n", "p | number if unreadable -1", "p if empty \"E\"", "lines.q", "t | format \"MM/yyyy\"", "position"}
	r := rand.New(rand.NewPCG(7, 7))
	pick := func(from []string) string { return from[r.IntN(len(from))] }
	word := func() string {
		if r.IntN(4) == 0 {
			long := strings.Repeat("long text ", 1+r.IntN(9))
			at := r.IntN(len(long))
			return long[:at] + pick([]string{"", "|", "\"", "\\", "\n", "é", "^", "\x01", "~"}) + long[at:]
		}
		return pick([]string{"", "-", "x", "say \"hi\"", "a^b&c~d\\e", "007", "-0.50", "5.", "12", "0", "-", "+3", "1e5", "tab\tcr\r", "Male", "Female", "Other", "0.25", ".5", "äöü", "=1+1", "12345678", "123456789abcdef"})
	}
	columns := 0
	for n := range 1500 {
		kind := pick([]string{"json", "json", "csv", "hl7"})
		expressions := own
		body := "map m\nsource csv s\ntarget " + kind + " based on s\n"
		if kind == "json" {
			expressions = append(own[:len(own):len(own)], nulls...)
		}
		if kind == "hl7" {
			body += "keep MSH, PID-1, PV1-1\n"
		}
		for _, path := range paths[kind] {
			body += path + " = " + pick(expressions) + "\n"
			if kind == "json" && path == "b" {
				body += "repeat list for line in lines\np = " + pick(rows) + "\nq = " + pick(rows) + "\nrepeat sub for lot in lots\nlot = " + pick([]string{"lot", "p", "x", "lot | number if unreadable null"}) + "\np = " + pick([]string{"lot", "q", "n"}) + "\nend\nend\n"
			}
		}
		body = strings.ReplaceAll(strings.ReplaceAll(body, "lines.q", "q"), "position", "line.position")
		m, findings := Parse("m", body)
		if findings.HasErrors() {
			t.Fatalf("%s\n%v", body, findings)
		}
		fast, findings := Build(m, "m", body, targets[kind], scope)
		if findings.HasErrors() {
			t.Fatalf("%s\n%v", body, findings)
		}
		slow := *fast
		slow.columns = make([]column, len(fast.actions))
		for i := range fast.columns {
			if int(fast.columns[i].until) > i {
				columns++
			}
		}
		words := []string{word(), word(), word()}
		lines := []string{word(), word(), word(), word()}
		b := fuzzed(strings.ReplaceAll(strings.Join(words, ","), "|", "!") + "|" + strings.Join(lines, ","))
		for range r.IntN(3) {
			b.Spans[r.IntN(len(b.Spans))] = batch.Null
		}
		if r.IntN(2) == 0 { // there is memory behind the text, as behind that of files
			b.Buf = append(b.Buf, make([]byte, batch.Slack)...)[:len(b.Buf)]
		}
		made := func(p *Program) string {
			e, out, said := &Env{}, []byte(nil), ""
			if p.Begin(e, b); r.IntN(4) > 0 { // as from the fourth record on
				e.Buf = b.Buf
				p.mark(e)
			}
			for i := range b.Records() {
				from := len(out)
				var o *Outcome
				out, o = p.Run(e, b, i, out)
				if said += fmt.Sprintf("%q %+v\n", out[from:], o); kind == "json" && o.What == batch.Good && !json.Valid(out[from:]) {
					t.Errorf("%d: %s\n%s is not JSON", n, body, out[from:])
				}
			}
			return said
		}
		if got, want := made(fast), made(&slow); got != want {
			t.Fatalf("%d: %s\n%q %q\n%s\naction by action:\n%s", n, body, words, lines, got, want)
		}
	}
	if columns < 5000 {
		t.Errorf("only %d columns were tried", columns)
	}
}
