package flow_test

import (
	"bytes"
	"context"
	"strings"
	"testing"
	"unicode/utf16"

	"ydrion/core/batch"
	"ydrion/core/flow"
	"ydrion/core/format"
	"ydrion/core/text"
)

// rejecting keeps what was rejected.
type rejecting struct {
	out    bytes.Buffer
	to     *flow.Rejects
	opened *flow.Opened
}

func (r *rejecting) Open(o *flow.Opened) (err error) {
	r.opened = o
	r.to, err = o.Rejects(&r.out)
	return err
}

func (r *rejecting) Batch(b *batch.Batch) error {
	for i, w := range b.What {
		if w == batch.Rejected {
			if err := r.to.Record(r.opened.Reader.Raw(b, i)); err != nil {
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
