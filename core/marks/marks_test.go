package marks

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
)

// sets are such as formats look for, and others.
func sets(random *rand.Rand) map[string]*Set {
	sets := map[string]*Set{
		"delimiters": Of(';', '\n'),
		"EDIFACT":    Of('+', ':', '\'', '?'),
		"HL7":        Of('|', '^', '~', '\\', '&').With(Beyond),
		"controls":   Where(func(c byte) bool { return c < ' ' && c != '\r' && c != '\n' || c >= 0x7f }),
		"all":        Where(func(byte) bool { return true }),
		"none":       Of(),
	}
	for n := range 40 {
		var chars []byte
		for range n {
			chars = append(chars, byte(random.Uint32()))
		}
		sets[fmt.Sprint(n, " random")] = Of(chars...)
	}
	return sets
}

func TestMarks(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	for name, set := range sets(random) {
		var b Bits
		for _, n := range []int{0, 1, 63, 64, 65, 127, 128, 129, 400, 3000} {
			text := make([]byte, n)
			for i := range text {
				text[i] = byte(random.Uint32())
				if n == 3000 { // long ways between marks
					text[i] = 'x'
				}
			}
			first := slices.IndexFunc(text, set.Has)
			if got := set.First(text); got != first {
				t.Errorf("%s: first of %d at %d instead of %d", name, n, got, first)
			}
			for _, from := range []int{0, n / 2, n} {
				b.Mark(text, from, n, set)
				for range 100 {
					p := from + random.IntN(n-from+1)
					to := p + random.IntN(min(n-p, 1+random.IntN(200))+1)
					if got, want := b.Within(p, to), slices.IndexFunc(text[p:to], set.Has) >= 0; got != want {
						t.Fatalf("%s: within %d and %d of %d: %v", name, p, to, n, got)
					}
				}
				for p := from; p <= n; p++ {
					next := n
					if i := slices.IndexFunc(text[p:], set.Has); i >= 0 {
						next = p + i
					}
					if got := b.Next(p); got != next {
						t.Fatalf("%s: of %d bytes from %d, next of %d is %d instead of %d", name, n, from, p, got, next)
					}
				}
			}
		}
	}
}

// TestOneByOne: what is found 32 bytes at once is what is found one by one.
func TestOneByOne(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 4))
	text := make([]byte, 64*Block)
	for name, set := range sets(random) {
		for i := range text {
			text[i] = byte(random.Uint32())
		}
		wide, each := make([]uint64, 64), make([]uint64, 64)
		set.mark(wide, text)
		if set.markEach(each, text); !slices.Equal(wide, each) {
			t.Errorf("%s: %x instead of %x", name, wide, each)
		}
		for c := range 256 {
			if at := set.First(bytes.Repeat([]byte{byte(c)}, 200)); (at == 0) != set.Has(byte(c)) {
				t.Errorf("%s: %02x is found at %d", name, c, at)
			}
		}
	}
}

func TestManyKindsOfRows(t *testing.T) {
	odd := Where(func(c byte) bool { return c&15 <= c>>4 })
	if !odd.odd {
		t.Fatal("sixteen kinds of rows have been taken for eight")
	}
	if of := Of([]byte("ab")...); of.odd || !of.Has('b') || of.Has('c') {
		t.Error("two characters are not as simple as they are")
	}
}

func BenchmarkMark(b *testing.B) {
	text := []byte(strings.Repeat("LIN+1++4012345000094:EN'", 1400))
	set := Of('+', ':', '\'', '?')
	var bits Bits
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		bits.Mark(text, 0, len(text), set)
	}
}

func BenchmarkFirst(b *testing.B) {
	text := []byte(strings.Repeat("LIN+1++4012345000094:EN'", 1400))
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		if Beyond.First(text) >= 0 {
			b.Fatal("there is none")
		}
	}
}

func BenchmarkOf(b *testing.B) {
	for b.Loop() {
		Of('+', ':', '\'', '?')
	}
}
