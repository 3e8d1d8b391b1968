package json

import (
	"math/rand/v2"
	"testing"
)

// TestNested: the end of a value, its lack and what closes nothing are found as by going from character to character.
func TestNested(t *testing.T) {
	plain := func(buf []byte) (end int, whole bool, bad int) {
		var open []byte
		for i := 0; i < len(buf); i++ {
			switch c := buf[i]; c {
			case '"':
				for i++; i < len(buf) && buf[i] != '"'; i++ {
					if buf[i] == '\\' {
						i++
					}
				}
			case '{', '[':
				open = append(open, c+2)
			case '}', ']':
				if open[len(open)-1] != c {
					return 0, false, i
				}
				if open = open[:len(open)-1]; len(open) == 0 {
					return i + 1, true, -1
				}
			}
		}
		return 0, false, -1
	}
	r := rand.New(rand.NewPCG(7, 9))
	ends := map[string]int{}
	for range 200_000 {
		buf := []byte{"{["[r.IntN(2)]}
		characters := []string{`"`, `"[]{}`, `"[]{}\`, `"\`, `[`, `{}`, ``}[r.IntN(7)] + "aYy_\x7f,: \xdb\xdd\xa2é"
		often, open := 1+r.IntN(40), []byte{buf[0] + 2}
		for range r.IntN(300) {
			c := byte('x')
			switch r.IntN(often) {
			case 0:
				c = characters[r.IntN(len(characters))]
			case 1:
				if r.IntN(3) == 0 && len(open) > 0 { // more often than not it is the one that is open
					c, open = open[len(open)-1], open[:len(open)-1]
				}
			}
			if c == '[' || c == '{' {
				open = append(open, c+2)
			}
			buf = append(buf, c)
		}
		end, whole, bad := nested(buf, 0)
		if wantEnd, wantWhole, wantBad := plain(buf); end != wantEnd || whole != wantWhole || bad != wantBad {
			t.Fatalf("%q: ends at %d, whole %v, bad at %d; not %d, %v, %d", buf, end, whole, bad, wantEnd, wantWhole, wantBad)
		}
		switch {
		case whole && end > 100:
			ends["whole"]++
		case bad > 100:
			ends["bad"]++
		case !whole && bad < 0:
			ends["neither"]++
		}
	}
	for _, kind := range []string{"whole", "bad", "neither"} {
		if ends[kind] < 1000 {
			t.Errorf("only %d of 200,000 are %s", ends[kind], kind)
		}
	}
}
