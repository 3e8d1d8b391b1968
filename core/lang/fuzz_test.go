package lang

import (
	"bytes"
	"encoding/csv"
	"strings"
	"testing"

	"ydrion/core/batch"
	source "ydrion/core/format/csv"
	"ydrion/core/lookup"
	"ydrion/core/shape"
	"ydrion/core/text"
	"ydrion/core/value"
)

// FuzzRun: a map that passes the check runs over whatever comes. It ends, it writes rows of the target's
// columns or says why not, and the same again; and an editor is answered at any place of any text.
func FuzzRun(f *testing.F) {
	for _, s := range []string{
		"a = x | trim | upper\nb = n * 2 + 1 | round 2\nc = t | format \"yyyy\"\n", "let y = \"{x}-{n}\"\na = y | part 2 3 if empty \"-\"\nwhen n > 1 and x is not empty\nb = y\nend\n",
		"a = lines | join p \",\"\nb = (lines where q = x once by p sorted by p down up to 3) | count\n", "repeat for l in lines\na = l.p\nb = l.position\nrepeat for m in lots\nc = m.lot\nend\nend\n",
		"a = \"one\" when n > 1, \"two\" otherwise\nskip when x = \"\"\nreject when n > 5 because \"{n} is too many\"\n", "a = x | replace \"a\" \"b\"\nb = n / 0\nc = t | format \"yy\"\n",
		"a = x | lookup sexes if unlisted \"?\"\nb = n / (n - n)\nc = x | pad 100000 \"x\"\n", "drop b when n < 1\nkeep c\na = (((x)))\n",
	} {
		f.Add(s, "abc,1.5,2026-11-25,äö|1e9,,0001-01-01")
	}
	for _, known := range Functions() {
		if example := known.Example; known.Rows {
			f.Add("a = "+strings.ReplaceAll(example, "value", "p")+"\n", "b,1,2026-11-25|c,d")
		} else if example != "" {
			f.Add("a = "+strings.ReplaceAll(example, "value", "x")+"\n", known.Field+",3")
			f.Add("a = "+strings.ReplaceAll(example, "value", "n")+"\nb = "+strings.ReplaceAll(example, "field", "t")+"\n", known.Field+",3")
		}
	}
	table, _ := lookup.Parse("lookups/sexes.csv", "sheet,hl7\nMale,M\nFemale,F\n")
	words := func(names ...string) (out shape.Record) {
		for _, n := range names {
			out = append(out, shape.Field{Name: n, Kind: value.Text})
		}
		return out
	}
	scope := Scope{Lookups: Tables{"sexes": table}, Fields: append(words("x"), shape.Field{Name: "n", Kind: value.Number, Checked: true}, shape.Field{Name: "t", Kind: value.Time, Checked: true}), Lists: []shape.List{
		{Name: "lines", Shape: shape.Shape{Fields: words("p", "q"), Lists: []shape.List{{Name: "lots", Shape: shape.Shape{Fields: words("lot")}}}}}}}
	target, err := source.NewTarget("out.csv", []byte("a,b,c\n"))
	if err != nil {
		f.Fatal(err)
	}
	now, _ := text.ReadISO([]byte("2026-11-25T08:09:10Z"))
	f.Fuzz(func(t *testing.T, body, data string) {
		if len(body) > 4<<10 || len(data) > 1<<10 {
			t.Skip()
		}
		for _, column := range []string{"a", "b", "c"} {
			if !strings.Contains(body, column+" =") {
				body += "clear " + column + "\n"
			}
		}
		body = "map m\nsource csv s\ntarget csv based on out.csv\n" + body
		editor := &Assistant{Target: target, Positions: []string{"a", "b", "c"}, Scope: scope}
		for _, at := range []int{len(body) / 3, len(body) / 2, len(body)} {
			if from, _ := editor.Complete(body, at); from < 0 || from > at {
				t.Errorf("%q: completed from %d at %d", body, from, at)
			}
			editor.Hover(body, at)
		}
		m, findings := Parse("m", body)
		if findings.HasErrors() {
			return
		}
		program, findings := Build(m, "m", body, target, scope)
		if findings.HasErrors() {
			return
		}
		if program == nil {
			t.Fatalf("%q: no program, and nothing is wrong", body)
		}
		b := fuzzed(data)
		made := func() (out []byte, said string) {
			e := &Env{Facts: Facts{Route: "r", Now: now, Name: "f.csv"}}
			program.Begin(e, b)
			e.Buf = b.Buf
			program.mark(e)
			for i := range b.Records() {
				before := len(out)
				var o *Outcome
				if out, o = program.Run(e, b, i, out); o.What != batch.Good {
					if said += o.Reason + "\n"; len(out) != before || o.Reason == "" && o.What == batch.Rejected {
						t.Fatalf("%q of %q: %q is left, because of %q", body, data, out[before:], o.Reason)
					}
				}
			}
			return out, said
		}
		out, said := made()
		if again, same := made(); !bytes.Equal(out, again) || said != same {
			t.Fatalf("%q of %q: %q and %q; %q and %q", body, data, out, again, said, same)
		}
		r := csv.NewReader(bytes.NewReader(out))
		r.FieldsPerRecord = 3
		if strings.IndexByte(string(out), '\r') < 0 || !strings.Contains(data+body, "\r") {
			if _, err := r.ReadAll(); err != nil {
				t.Fatalf("%q of %q: %q: %v", body, data, out, err)
			}
		}
	})
}

// fuzzed makes three records of a text: values are parted by commas and what follows a bar are lines.
// What a schema has checked holds: n is a number, t a day.
func fuzzed(data string) *batch.Batch {
	b := &batch.Batch{First: 1, Seq: 1, Slots: 3}
	b.Lay([]int{2, 1}, []int{-1, 0})
	own, lines, _ := strings.Cut(data, "|")
	values := strings.Split(own, ",")
	span := func(v string) batch.Span {
		if v == "-" {
			return batch.Missing
		}
		b.Buf = append(b.Buf, v...)
		return batch.Span{Off: uint32(len(b.Buf) - len(v)), End: uint32(len(b.Buf))}
	}
	for record := range 3 {
		at := func(i int) string { return values[(i+record)%len(values)] }
		x, n, day := at(0), at(1), at(2)
		if !value.IsNumber([]byte(n)) {
			n = []string{"0", "-1.50", "-"}[record]
		}
		if _, is := text.ReadISO([]byte(day)); !is || len(day) != 10 {
			day = []string{"2024-02-29", "-", "1999-12-31"}[record]
		}
		b.Bounds = append(b.Bounds, batch.Span{Off: uint32(len(b.Buf)), End: uint32(len(b.Buf))})
		b.Begin(-1, record)
		b.Spans = append(b.Spans, span(x), span(n), span(day))
		for i, line := range strings.Split(lines, ",")[:min(record*2, 1+strings.Count(lines, ","))] {
			row := b.Row(0, uint32(len(b.Buf)))
			row[0], row[1] = span(line), span(x)
			for range i {
				b.Row(1, uint32(len(b.Buf)))[0] = span(line + n)
			}
		}
	}
	b.N = len(b.Buf)
	b.Filled()
	return b
}
