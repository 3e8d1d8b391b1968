package batch

import (
	"math/rand/v2"
	"strings"
	"testing"
	"unicode/utf8"
)

// lines makes a batch of the lines of a text.
func lines(text string) *Batch {
	b := &Batch{Buf: []byte(text), N: len(text), First: 100, Base: 5000, Line: 40, Slots: 1}
	at := 0
	for _, l := range strings.SplitAfter(text, "\n") {
		if l != "" {
			b.Bounds = append(b.Bounds, Span{uint32(at), uint32(at + len(l))})
			b.Spans = append(b.Spans, Span{uint32(at), uint32(at + len(l) - 1)})
		}
		at += len(l)
	}
	return b
}

func TestPlace(t *testing.T) {
	b := lines("one\ntwö two\n\"three\n")
	// Not only in the order of the records: a place may be asked for again.
	for _, test := range []struct {
		record       int
		offset       uint32
		line, column int64
	}{{0, 0, 40, 1}, {1, 9, 41, 5}, {2, 13, 42, 1}, {2, 15, 42, 3}, {0, 2, 40, 3}, {1, 4, 41, 1}, {2, 99, 43, 1}} {
		p := b.Place(test.record, test.offset)
		if p.Line != test.line || p.Column != test.column || p.Record != int64(100+test.record) || p.Offset != 5000+int64(min(test.offset, uint32(b.N))) {
			t.Errorf("record %d, offset %d is at %+v", test.record, test.offset, p)
		}
	}
}

func TestValuesAndOutputs(t *testing.T) {
	b := lines("a\nbc\n\n")
	for i, want := range []string{"a", "bc", ""} {
		if v, ok := b.Value(i, 0); !ok || string(v) != want {
			t.Errorf("record %d has %q %v", i, v, ok)
		}
	}
	b.Spans[1] = Missing
	if _, ok := b.Value(1, 0); ok || !Missing.Absent() || (Span{}).Absent() {
		t.Error("a missing span has a value")
	}
	made := &Branch{Out: []byte("xxyyy"), Ends: []uint32{2, 2, 5}}
	for i, want := range []string{"xx", "", "yyy"} {
		if got := string(made.Made(i)); got != want {
			t.Errorf("record %d became %q, want %q", i, got, want)
		}
	}
}

func TestResetKeepsUsualMemoryOnly(t *testing.T) {
	b := &Batch{Buf: make([]byte, 10, Size), Branches: []Branch{{Out: make([]byte, 10, Size)}}, Bounds: make([]Span, 3), Notes: make([]Note, 2)}
	b.Reset()
	if b.Records() != 0 || len(b.Notes) != 0 || len(b.Branches[0].Out) != 0 || cap(b.Buf) != Size {
		t.Errorf("%+v", b)
	}
	b.Buf, b.Branches[0].Out = make([]byte, 5*Size), make([]byte, 40*Size)
	b.Reset()
	if b.Buf != nil || b.Branches[0].Out != nil {
		t.Error("a batch keeps the memory of one huge record")
	}
}

// TestPlaceInLongLines: lines and columns are those of counting from the beginning, in whatever order
// places are asked for, and where a line began before the batch.
func TestPlaceInLongLines(t *testing.T) {
	r := rand.New(rand.NewPCG(2, 3))
	for round := range 300 {
		most := 5
		if round%10 == 0 { // longer than what is counted at once
			most = 800
		}
		var text strings.Builder
		b := &Batch{Base: 1000, Line: 7, Lead: int64(r.IntN(50)), First: 1}
		for range 1 + r.IntN(30) {
			from := uint32(text.Len())
			text.WriteString(strings.Repeat([]string{"a", "é☂", "", "x\n", "y\r\n", "z\r"}[r.IntN(6)], r.IntN(most)))
			text.WriteByte('.')
			b.Bounds = append(b.Bounds, Span{from, uint32(text.Len())})
		}
		b.Buf = []byte(text.String())
		b.N = len(b.Buf)
		for range 60 {
			record := r.IntN(len(b.Bounds))
			s := b.Bounds[record]
			at := s.Off + uint32(r.IntN(s.Len()))
			for at > 0 && !utf8.RuneStart(b.Buf[at]) || at > 0 && b.Buf[at] == '\n' && b.Buf[at-1] == '\r' {
				at--
			}
			line, column := int64(7), b.Lead+1
			for i, c := range text.String()[:at] {
				switch {
				case c == '\n' && i > 0 && b.Buf[i-1] == '\r':
				case c == '\n' || c == '\r':
					line, column = line+1, 1
				default:
					column++
				}
			}
			got := b.Place(record, at)
			if got.Line != line || got.Column != column || got.Offset != 1000+int64(at) || got.Record != int64(record)+1 {
				t.Fatalf("%q at %d: %+v, want %d:%d", text.String(), at, got, line, column)
			}
		}
	}
}
