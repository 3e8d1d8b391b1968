package flow_test

import (
	"bytes"
	"context"
	"fmt"
	"regexp"
	"strings"
	"testing"
	"unicode/utf16"

	"ydrion/core/batch"
	"ydrion/core/flow"
	"ydrion/core/format"
	"ydrion/core/format/json"
	"ydrion/core/lang"
	"ydrion/core/schema"
	"ydrion/core/text"
)

// rejecting keeps what was rejected.
type rejecting struct {
	out    bytes.Buffer
	to     *flow.Rejects
	opened *flow.Opened
	alone  int // records that say that they come without what surrounds them
}

func (r *rejecting) Open(o *flow.Opened) (err error) {
	r.opened = o
	r.to, err = o.Rejects(&r.out)
	return err
}

func (r *rejecting) Batch(b *batch.Batch) error {
	for i, w := range b.Outcomes {
		if w == batch.Rejected {
			raw, findings := r.opened.Rejected(b, i)
			if findings[len(findings)-1].Code == "reject.alone" {
				r.alone++
			}
			if err := r.to.Record(raw); err != nil {
				return err
			}
		}
	}
	return nil
}

func (r *rejecting) Broken(b *format.Broken) error { return r.to.Rest(b.Rest, func([]byte) {}) }

// TestRejectsAsTheyCame: rejected records and what follows a place that cannot be followed
// have the bytes that the source had, mark and heading included.
func TestRejectsAsTheyCame(t *testing.T) {
	good := "SC1,T-1,GS,ST01,25/11/2026 06:30,Male,12.50,é,WBC,R,57.1,-2.5\n"
	bad := "SC2,T-2,HS,ST02,25/11/2026 07:05,,abc,çé,WBC,R,57.1,-2.5\n"
	latin := func(s string) []byte {
		var out []byte
		for _, r := range s {
			out = append(out, byte(r))
		}
		return out
	}
	wide := func(s string) []byte {
		var out []byte
		for _, u := range utf16.Encode([]rune(s)) {
			out = append(out, byte(u), byte(u>>8))
		}
		return out
	}
	same := func(s string) []byte { return []byte(s) }
	for name, test := range map[string]struct {
		charset string
		mark    []byte
		encode  func(string) []byte
	}{"utf-8": {"utf-8", nil, same}, "utf-8 with mark": {"utf-8", []byte("\xEF\xBB\xBF"), same}, "iso-8859-1": {"iso-8859-1", nil, latin}, "utf-16": {"utf-16", []byte("\xFF\xFE"), wide}} {
		for shift := range 4 {
			rest := "\"" + strings.Repeat("x", shift) + strings.Repeat("é", 200_000)
			charset, err := text.ParseCharset(test.charset)
			if err != nil {
				t.Fatal(err)
			}
			p := plan(t)
			p.Charset = charset
			in := append(bytes.Clone(test.mark), test.encode(header+good+bad+rest)...)
			r := &rejecting{}
			if _, err := p.Run(context.Background(), bytes.NewReader(in), flow.Inputs{}, r); err != nil {
				t.Fatal(err)
			}
			if want := append(bytes.Clone(test.mark), test.encode(header+bad+rest)...); !bytes.Equal(r.out.Bytes(), want) {
				at := 0
				for at < min(len(want), r.out.Len()) && want[at] == r.out.Bytes()[at] {
					at++
				}
				t.Errorf("%s, %d: %d bytes, not %d, and another one at %d", name, shift, r.out.Len(), len(want), at)
			}
		}
	}
}

// TestRejectsOfOneMessage: however many records of a message are rejected, what is written of
// them is a bounded number of times the message, each is written once, and those that come
// without what surrounds them say so.
func TestRejectsOfOneMessage(t *testing.T) {
	s, findings := schema.Parse("s.json", []byte(`{"fields": [{"name": "w", "type": "number"}]}`))
	if findings.HasErrors() {
		t.Fatal(findings)
	}
	target, err := json.NewTarget("s.json", []byte(`{"w": 0}`))
	if err != nil {
		t.Fatal(err)
	}
	const text1 = "map m\nsource json s.json\ntarget json based on s.json\n\nw = w\n"
	m, findings := lang.Parse("m.map", text1)
	program, more := lang.Build(m, "m.map", text1, target, lang.Scope{Fields: s.Record})
	if findings.HasErrors() || more.HasErrors() {
		t.Fatal(findings, more)
	}
	for _, n := range []int{10, 1_000, 20_000} {
		in := `{"of": "` + strings.Repeat("x", 1000) + `", "lines": [`
		for i := range n {
			in += fmt.Sprintf(`{"w": "bad", "n": "n%d."},`, i)
		}
		in = strings.TrimSuffix(in, ",") + "]}"
		in += "\n" + `{"lines": [{"w": 1}]}` + "\n"
		bound, _ := json.Source{Records: "/lines/*"}.Bind(s.Shape())
		p := &flow.Plan{Source: bound, Charset: text.UTF8, Schema: s, Branches: []flow.Branch{{Program: program, Target: target}}}
		r := &rejecting{}
		if _, err := p.Run(context.Background(), strings.NewReader(in), flow.Inputs{Cores: 1}, r); err != nil {
			t.Fatal(err)
		}
		written := r.out.String()
		if len(written) > 12*len(in)+1<<20 {
			t.Errorf("%d records of %d bytes became %d bytes", n, len(in), len(written))
		}
		seen := map[string]int{}
		for _, name := range regexp.MustCompile(`"n[0-9]+\."`).FindAllString(written, -1) {
			seen[name]++
		}
		for i := range n {
			if times := seen[fmt.Sprintf(`"n%d."`, i)]; times != 1 {
				t.Fatalf("%d records: record %d is there %d times", n, i, times)
			}
		}
		around := strings.Count(written, `"of"`)
		if around == 0 || around+r.alone != n || (r.alone > 0) != (n > 250) {
			t.Errorf("%d records: %d come with their surroundings, %d say that they come alone", n, around, r.alone)
		}
	}
}
