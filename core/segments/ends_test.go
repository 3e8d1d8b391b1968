package segments

import (
	"math/rand/v2"
	"testing"
)

// TestEndsOfSegments: the end of a segment is found as a plain loop finds it, wherever it stands and whatever is released.
func TestEndsOfSegments(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 3))
	for range 40_000 {
		s := Syntax{Terminator: "'~\n"[r.IntN(3)], Release: "?\x00"[r.IntN(2)]}
		b, usual := make([]byte, r.IntN(150)), 2+r.IntN(60)
		for i := range b {
			if b[i] = "aA1?\x80\xff&"[r.IntN(7)]; r.IntN(usual) == 0 {
				b[i] = []byte{s.Terminator, s.Terminator + 1, s.Terminator - 1, '?', s.Terminator ^ 0x80}[r.IntN(5)]
			}
		}
		p := r.IntN(len(b) + 1)
		want, released := p, false
		for ; want < len(b) && (released || b[want] != s.Terminator); want++ {
			released = s.Release != 0 && !released && b[want] == s.Release
		}
		if got := s.end(b, p); got != want {
			t.Fatalf("%q from %d, ending with %q, released by %q: %d, not %d", b, p, s.Terminator, s.Release, got, want)
		}
	}
}
