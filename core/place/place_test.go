package place

import (
	"strings"
	"testing"
)

func TestResolve(t *testing.T) {
	text := []byte("ab\ncä\r\nd\re\n\nf")
	tests := []struct {
		offset       int
		line, column int64
	}{
		{0, 1, 1}, {1, 1, 2}, {2, 1, 3}, {3, 2, 1}, {4, 2, 2}, {6, 2, 3}, {8, 3, 1}, {9, 3, 2}, {10, 4, 1}, {12, 5, 1}, {13, 6, 1}, {14, 6, 2},
	}
	for _, test := range tests {
		if line, column := Resolve(text, test.offset); line != test.line || column != test.column {
			t.Errorf("offset %d (%q): %d:%d, want %d:%d", test.offset, text[:test.offset], line, column, test.line, test.column)
		}
	}
	for text, want := range map[string]int64{"": 0, "a": 0, "a\n": 1, "a\r\n": 1, "a\r": 1, "a\r\rb\n\r\n": 4, "\n\r": 2} {
		if got := CountLines([]byte(text)); got != want {
			t.Errorf("%q has %d line ends, want %d", text, got, want)
		}
	}
}

func TestAtStaysWithin(t *testing.T) {
	for _, offset := range []int{-5, 99} {
		if p := At("f", []byte("ab"), offset); p.Line != 1 || p.Column < 1 || p.Column > 3 {
			t.Errorf("offset %d is at %v", offset, p)
		}
	}
}

func TestString(t *testing.T) {
	for want, p := range map[string]Place{
		"a.csv:3:7 record 2 weight_kg": {File: "a.csv", Record: 2, Line: 3, Column: 7, Path: "weight_kg"},
		"a.csv":                        InFile("a.csv"),
		"3:1":                          {Line: 3},
		"record 4":                     {Record: 4},
		"/fields/0":                    {Path: "/fields/0"},
	} {
		if got := strings.TrimSpace(p.String()); got != want {
			t.Errorf("%+v is printed as %q, want %q", p, got, want)
		}
	}
}

// TestIndex: the places of an index are those found one by one.
func TestIndex(t *testing.T) {
	for _, text := range []string{"", "a", "\n", "\r", "\r\n", "a\nb\r\nc\rdé\n\n\r\r\nx", "é\r\n\r\n"} {
		x := NewIndex("f", []byte(text))
		for offset := -1; offset <= len(text)+1; offset++ {
			if got, want := x.At(offset), At("f", []byte(text), offset); got != want {
				t.Errorf("%q at %d: %+v, not %+v", text, offset, got, want)
			}
		}
	}
}
