package formats

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"ydrion/core/format"
)

// memory is a store for tests.
type memory struct {
	bytes.Buffer
}

func (m *memory) ReadAt(b []byte, at int64) (int, error) {
	return bytes.NewReader(m.Bytes()).ReadAt(b, at)
}

func sample(t *testing.T, in string) *Sample {
	t.Helper()
	s, err := NewSample(context.Background(), strings.NewReader(in), "x", nil, &memory{}, 1<<30)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// TestSampleRecords: any record is shown as it was met on the way through the whole file.
func TestSampleRecords(t *testing.T) {
	const n = 10_000
	var rows, messages, list strings.Builder
	rows.WriteString("title\nid;text;sum\n")
	list.WriteString("[ ")
	for i := 1; i <= n; i++ {
		fmt.Fprintf(&rows, "%d;\"a;\nb\";%d\n", i, i*i)
		messages.WriteString(strings.Replace(message, "M1", fmt.Sprint("M", i), 1))
		fmt.Fprintf(&list, "%s{\"id\":%d,\"in\":[{\"x\":\"é\"}]}", strings.Repeat(",\n", min(i-1, 1)), i)
	}
	list.WriteString("]\n")
	for _, test := range []struct {
		name, in, path string
	}{{"csv", rows.String(), "id"}, {"hl7", messages.String(), "MSH-10"}, {"json list", list.String(), "/id"},
		{"json lines", strings.ReplaceAll(strings.Trim(list.String(), "[] \n"), ",\n", "\n"), "/id"},
		{"utf-16", "\xff\xfe" + utf16(t, rows.String()), "id"}, {"gzip", string(pack(t, []byte(rows.String()))), "id"}} {
		t.Run(test.name, func(t *testing.T) {
			s := sample(t, test.in)
			if s.Look.Records != n {
				t.Fatalf("%d records", s.Look.Records)
			}
			if len(s.marks.list) >= mostMarks || len(s.marks.list) < mostMarks/4 {
				t.Errorf("%d marks", len(s.marks.list))
			}
			for _, k := range []int64{1, 2, 3, 777, 4096, n - 1, n} {
				got, _, err := s.Records(context.Background(), Request{From: k, Byte: -1, Records: 2})
				if err != nil || len(got) != min(2, int(n-k)+1) {
					t.Fatalf("record %d: %d, %v", k, len(got), err)
				}
				first := got[0]
				if id := valueAt(first, test.path); first.Record != k || strings.Trim(id, "M") != fmt.Sprint(k) {
					t.Errorf("record %d is %d with %q", k, first.Record, id)
				}
				// Where it is said to be, there it is: in the text and by its byte.
				raw := make([]byte, len(first.Raw))
				if _, err := s.text.ReadAt(raw, first.Offset); err != nil || string(raw) != first.Raw {
					t.Errorf("record %d: at byte %d stands %.40q, not %.40q", k, first.Offset, raw, first.Raw)
				}
				at, _, err := s.Records(context.Background(), Request{Byte: first.Offset + int64(len(first.Raw)) - 1, Records: 1})
				if err != nil || len(at) != 1 || at[0].Record != k || at[0].Line != first.Line {
					t.Errorf("record %d is not found by its last byte: %+v, %v", k, at, err)
				}
				if row, err := s.RowAt(first.Offset); err != nil || row != first.Line-1 {
					t.Errorf("record %d, line %d, is in row %d, %v", k, first.Line, row, err)
				}
			}
			if got, _, err := s.Records(context.Background(), Request{From: n + 1, Byte: -1, Records: 1}); err != nil || len(got) != 0 {
				t.Errorf("behind the end: %d, %v", len(got), err)
			}
			if got, _, _ := s.Records(context.Background(), Request{From: 5000, Byte: -1, Records: 1, Path: test.path}); len(got) != 1 || len(format.Lines(got[0].Parts)) != 1 {
				t.Errorf("by path: %+v", got)
			}
		})
	}
}

func valueAt(s Shown, path string) string {
	for _, l := range format.Lines(s.Parts) {
		if l.Path == path {
			return l.Value
		}
	}
	return ""
}

// TestSampleRows: the rows of any text, put together, are the text; and each is where it says.
func TestSampleRows(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 9))
	for round := range 60 {
		var b strings.Builder
		for range 1 + r.IntN(400) {
			b.WriteString(strings.Repeat("aé☂,", r.IntN(12)*r.IntN(1+40*(round%3))))
			b.WriteString([]string{"\n", "\r\n", "\r", "\n\n", ""}[r.IntN(5)])
		}
		in := "a,b\n" + b.String()
		s := &Sample{Look: &Look{}, text: &memory{*bytes.NewBufferString(in)}}
		for rest := in; rest != ""; { // in pieces of any size
			n := 1 + r.IntN(len(rest))
			s.rows.Write([]byte(rest[:n]))
			rest = rest[n:]
		}
		s.rows.end()
		all, err := s.Read(0, s.Rows())
		if err != nil || int64(len(all)) != s.Rows() {
			t.Fatalf("%d rows of %d, %v", len(all), s.Rows(), err)
		}
		var whole strings.Builder
		for i, row := range all {
			if row.Row != int64(i) || !strings.HasPrefix(in[row.Offset:], row.Text) {
				t.Fatalf("row %d says it is %d at %d: %.30q", i, row.Row, row.Offset, row.Text)
			}
			whole.WriteString(row.Text)
		}
		if got, want := whole.String(), strings.NewReplacer("\r", "", "\n", "").Replace(in); got != want {
			t.Fatalf("the rows are %d characters, the text %d", len(got), len(want))
		}
		for range 20 {
			k := r.Int64N(s.Rows())
			some, err := s.Read(k, 3)
			if err != nil || some[0] != all[k] {
				t.Fatalf("row %d alone is %v, %v", k, some[0], err)
			}
			if row, _ := s.RowAt(all[k].Offset); row != k && all[k].Text != "" {
				t.Fatalf("byte %d of row %d is in row %d", all[k].Offset, k, row)
			}
		}
	}
}

func TestSampleFind(t *testing.T) {
	in := "id,name\n" + strings.Repeat("1,grey seal\n", 200_000) + "2,Harbour Seal\n" + strings.Repeat("3,x\n", 10)
	s := sample(t, in)
	there := int64(strings.Index(in, "Harbour"))
	for _, test := range []struct {
		what      string
		from      int64
		backwards bool
		want      int64
	}{{"harbour", 0, false, there}, {"HARBOUR SEAL", there, false, there}, {"harbour", there + 1, false, -1}, {"harbour", int64(len(in)), true, there},
		{"id,", 2000, true, 0}, {"id,", 0, true, -1}, {"nothing", 0, false, -1}, {"", 0, false, -1}, {"grey", 1 << 20, false, int64(strings.Index(in[1<<20:], "grey")) + 1<<20}} {
		hit, err := s.Find(context.Background(), test.what, test.from, test.backwards)
		got := int64(-1)
		if hit != nil {
			got = hit.Offset
		}
		if err != nil || got != test.want {
			t.Errorf("%q from %d: %d, want %d, %v", test.what, test.from, got, test.want, err)
		}
	}
	if _, err := NewSample(context.Background(), strings.NewReader(in), "x", nil, &memory{}, 1000); !errors.Is(err, ErrLong) {
		t.Errorf("too long: %v", err)
	}
}
