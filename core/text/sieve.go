package text

import (
	"encoding/binary"
	"math/bits"
)

// sieve finds characters of a set in eight bytes at once. A character c is in it if c&mask is the value of
// one of its pairs, both of which stand in each byte of a word.
type sieve struct {
	masks, values [pairs]uint64
	whole         bool // the pairs find all of the set; otherwise it cannot be used
}

// pairs is how many a sieve has. Characters that differ in one bit share one, as | ~ ^ \ of HL7 do.
const pairs = 4

// newSieve makes one for a set. Where a control character is in it all are, for the sieve: whoever uses it
// looks closer at what it finds.
func newSieve(set *[256]bool) (s sieve) {
	type pair struct{ mask, value byte }
	var found []pair
	for c := 0; c < 256; c++ {
		if !set[c] {
			continue
		}
		if c < ' ' {
			found = append(found, pair{0xe0, 0})
			c = ' ' - 1
			continue
		}
		found = append(found, pair{0xff, byte(c)})
	}
	for merged := true; merged; {
		merged = false
	search:
		for i, a := range found {
			for k, b := range found[:i] {
				if differ := a.value ^ b.value; a.mask == b.mask && bits.OnesCount8(differ) == 1 {
					found[k] = pair{a.mask &^ differ, a.value &^ differ}
					found = append(found[:i], found[i+1:]...)
					merged = true
					break search
				}
			}
		}
	}
	for i := range s.values {
		s.values[i] = low // nothing that is not looked at is 1
	}
	s.whole = len(found) <= pairs
	for i, f := range found[:min(len(found), pairs)] {
		s.masks[i], s.values[i] = low*uint64(f.mask), low*uint64(f.value)
	}
	return s
}

// copy copies text into a room up to the first character that the sieve finds, and gives how many bytes those
// are. Behind them the room gets up to seven bytes that mean nothing. It is false if the set has no sieve, or
// there is no memory behind the text or the room to go by words.
func (s *sieve) copy(room, text []byte) (int, bool) {
	size := len(text)
	whole := (size + 7) &^ 7
	if !s.whole || whole > len(room) || whole > cap(text) {
		return 0, false
	}
	text, room = text[:whole], room[:whole]
	for at := 0; at+8 <= len(text) && at+8 <= len(room); at += 8 {
		w := binary.LittleEndian.Uint64(text[at:])
		binary.LittleEndian.PutUint64(room[at:], w)
		a, b := w&s.masks[0]^s.values[0], w&s.masks[1]^s.values[1]
		c, d := w&s.masks[2]^s.values[2], w&s.masks[3]^s.values[3]
		// The lowest mark of each is right: a byte of nothing but zeros is where one is taken from and the
		// high bit appears.
		if m := ((a-low)&^a | (b-low)&^b | (c-low)&^c | (d-low)&^d) & high; m != 0 {
			return min(at+bits.TrailingZeros64(m)>>3, size), true
		}
	}
	return size, true
}
