package text

import (
	"encoding/binary"
	"math/bits"
)

const (
	low  = 0x0101010101010101
	high = 0x8080808080808080
)

// Controlled tells whether a text has control characters (below 0x20, or DEL) that are not among
// the plain ones. It looks at eight bytes at once.
func Controlled(b []byte, plain *[256]bool) bool {
	i := 0
	for ; i+8 <= len(b); i += 8 {
		v := binary.LittleEndian.Uint64(b[i:])
		d := v ^ 0x7f*low
		// A borrow from the byte before may flag one that is none, and never hides one.
		for m := ((v-0x20*low)&^v | (d-low)&^d) & high; m != 0; m &= m - 1 {
			if !plain[b[i+bits.TrailingZeros64(m)>>3]] {
				return true
			}
		}
	}
	for ; i < len(b); i++ {
		if !plain[b[i]] {
			return true
		}
	}
	return false
}
