package text

import (
	"encoding/binary"
	"math/bits"
)

const (
	low  = 0x0101010101010101
	high = 0x8080808080808080
	most = high - low // 7f in each byte
)

// Classify tells whether a text is ASCII, and whether it has control characters (below 0x20, or DEL) that are not among
// the plain ones. It looks at eight bytes at once; CR, of which there are many, is plain, as LF is mostly.
func Classify(b []byte, plain *[256]bool) (ascii, controlled bool) {
	ends := uint64('\r' * low)
	if plain['\n'] {
		ends = '\n' * low
	}
	all := uint64(0)
	for len(b) >= 8 {
		v := binary.LittleEndian.Uint64(b)
		all |= v
		a := v & most
		// The high bit of each byte that is below 0x20 or DEL, and neither CR nor a plain LF. No byte carries into the next.
		if m := (^(a + 0x60*low) | (a + low)) & ((a ^ '\r'*low) + most) & ((a ^ ends) + most) &^ v & high; m != 0 {
			for ; m != 0; m &= m - 1 {
				if !plain[b[bits.TrailingZeros64(m)>>3]] {
					return all&high == 0 && IsASCII(b), true
				}
			}
		}
		b = b[8:]
	}
	for _, c := range b {
		all |= uint64(c)
		controlled = controlled || !plain[c] && (c < ' ' || c == 0x7f)
	}
	return all&high == 0, controlled
}
