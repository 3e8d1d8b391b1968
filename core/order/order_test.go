package order

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"ydrion/core/value"
)

// TestSorter checks what comes out against a plain sort: whatever is kept in memory, items come once each and in the
// order of their keys.
func TestSorter(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for _, n := range []int{0, 1, 2, 17, 3000} {
		var want []string
		for i := range n {
			want = append(want, fmt.Sprintf("%s\x00%05d|%s", strings.Repeat("k", r.IntN(5))+fmt.Sprint(r.IntN(50)), i, strings.Repeat("x", r.IntN(200))))
		}
		for _, memory := range []int{0, 1, 300, 20_000} {
			spilled := 0
			s := New(memory, func() (Spill, error) {
				spilled++
				return os.CreateTemp(t.TempDir(), "")
			})
			for _, w := range want {
				key, of, _ := strings.Cut(w, "|")
				if err := s.Add([]byte(key), []byte(of)); err != nil {
					t.Fatal(err)
				}
			}
			if err := s.Sorted(); err != nil {
				t.Fatal(err)
			}
			var got []string
			for {
				key, of, more, err := s.Next()
				if err != nil {
					t.Fatal(err)
				}
				if !more {
					break
				}
				got = append(got, string(key)+"|"+string(of))
			}
			sorted := slices.Clone(want)
			slices.SortFunc(sorted, func(a, b string) int {
				x, _, _ := strings.Cut(a, "|")
				y, _, _ := strings.Cut(b, "|")
				return strings.Compare(x, y)
			})
			if !slices.Equal(got, sorted) {
				t.Fatalf("%d items, %d bytes of memory: other items, or another order", n, memory)
			}
			if must := n > 10 && memory > 0 && memory < 1000 || n == 3000 && memory == 20_000; must != (spilled > 0) && n != 2 {
				t.Errorf("%d items, %d bytes of memory: %d files", n, memory, spilled)
			}
			if err := s.Close(); err != nil {
				t.Error(err)
			}
		}
	}
}

// full is a disk that takes no more than some bytes.
type full struct {
	*os.File
	left int
}

func (f *full) Write(b []byte) (int, error) {
	if f.left -= len(b); f.left < 0 {
		return 0, errors.New("no space left")
	}
	return f.File.Write(b)
}

// TestSorterOnAFullDisk: it says so, and what has been sorted is not taken for the whole.
func TestSorterOnAFullDisk(t *testing.T) {
	s := New(10, func() (Spill, error) {
		f, err := os.CreateTemp(t.TempDir(), "")
		return &full{f, 100}, err
	})
	var err error
	for i := 0; i < 100 && err == nil; i++ {
		err = s.Add(fmt.Appendf(nil, "%d", i), []byte("xxxxxxxxxx"))
	}
	if err == nil {
		err = s.Sorted()
	}
	if err == nil || !strings.Contains(err.Error(), "no space left") {
		t.Error(err)
	}
	s.Close() //nolint: it is a test's
	s = New(10, func() (Spill, error) { return nil, errors.New("no folder") })
	if err := errors.Join(s.Add([]byte("a"), nil), s.Add([]byte("b"), []byte("long enough")), s.Sorted()); err == nil || !strings.Contains(err.Error(), "no folder") {
		t.Error(err)
	}
}

// TestKeys: the bytes of keys compare as the values do, ascending and descending, and with other keys behind.
func TestKeys(t *testing.T) {
	number := func(s string) value.Value {
		d, err := value.ParseDecimal([]byte(s))
		if err != nil {
			t.Fatal(err)
		}
		return value.OfNumber(d)
	}
	day := func(s string) value.Value {
		at, err := time.Parse(time.RFC3339Nano, s)
		if err != nil {
			t.Fatal(err)
		}
		return value.OfTime(value.FromTime(at))
	}
	text := func(s string) value.Value { return value.OfText([]byte(s)) }
	for _, values := range [][]value.Value{
		{{}, number("-1000000000000000000000000000.5"), number("-1000"), number("-999.99"), number("-10"), number("-9"), number("-1.5"), number("-1"), number("-0.5"), number("-0.05"), number("-0.0499"), number("0"),
			number("0.0009"), number("0.001"), number("0.05"), number("0.5"), number("1"), number("1.0000000001"), number("9"), number("10"), number("99.9"), number("100"), number("123456789012345678901234567890")},
		{{}, text("\x00"), text("\x00\x00"), text("\x00a"), text("\x01"), text("a"), text("a\x00"), text("a\x00b"), text("aa"), text("b"), text("ä"), text("日")},
		{{}, value.OfBool(false), value.OfBool(true)},
		{{}, day("1066-10-14T09:00:00Z"), day("1969-12-31T23:59:59Z"), day("1970-01-01T00:00:00Z"), day("2026-11-29T03:00:00Z"), day("2026-11-29T03:00:00.5Z"), day("9999-01-01T00:00:00Z")},
	} {
		for i, a := range values {
			for j, b := range values {
				for _, behind := range []string{"\x00", "\xff"} {
					x, y := append(Append(nil, a, true, nil), behind...), append(Append(nil, b, true, nil), "\x80"...)
					if i == j {
						continue // what is behind decides
					}
					if got, want := bytes.Compare(x, y), cmp.Compare(i, j); got != want {
						t.Errorf("%s and %s compare %d, not %d", a.Append(nil), b.Append(nil), got, want)
					}
					Descending(x, 0)
					Descending(y, 0)
					if got, want := bytes.Compare(x, y), cmp.Compare(j, i); got != want {
						t.Errorf("descending, %s and %s compare %d, not %d", a.Append(nil), b.Append(nil), got, want)
					}
				}
			}
		}
	}
	for _, same := range [][2]string{{"1", "1.000"}, {"-0", "0.00"}, {"0010", "10"}} {
		if x, y := Append(nil, number(same[0]), true, nil), Append(nil, number(same[1]), true, nil); !bytes.Equal(x, y) {
			t.Errorf("%v differ", same)
		}
	}
	if x := Append(nil, value.Value{}, false, []byte("x")); bytes.Compare(x, Append(nil, number("9e9"[:1]), true, nil)) < 0 {
		t.Error("what is no number stands before numbers")
	}
}
