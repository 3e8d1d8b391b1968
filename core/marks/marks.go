// Package marks finds where characters of a set stand in a text, 64 bytes at once, for readers that go from one
// separator to the next.
package marks

import (
	"math/bits"
	"slices"
)

// Set is a set of bytes.
type Set struct {
	// A byte is of the set if its row, by its high four bits, and its column, by its low ones, have a bit in common. Each
	// bit stands for rows that have the same columns.
	columns, rows [16]byte
	has           [256]byte // 1: it is of the set
	odd           bool      // its rows are of more than eight kinds: only has says what is of it
}

// Of is a set of characters.
func Of(chars ...byte) *Set {
	s := &Set{}
	for _, c := range chars {
		s.has[c] = 1
	}
	s.settle()
	return s
}

// Where is the set of all bytes of which something is so.
func Where(is func(byte) bool) *Set {
	s := &Set{}
	for c := range s.has {
		if is(byte(c)) {
			s.has[c] = 1
		}
	}
	s.settle()
	return s
}

// settle makes the rows and columns of what is of the set.
func (s *Set) settle() {
	var kinds [8]uint16
	n := 0
	for row := range s.rows {
		columns := uint16(0)
		for column, has := range s.has[row*16 : row*16+16] {
			columns |= uint16(has) << column
		}
		if columns == 0 {
			continue
		}
		kind := slices.Index(kinds[:n], columns)
		if kind < 0 {
			if n == len(kinds) {
				s.odd = true
				return
			}
			kind = n
			kinds[n] = columns
			n++
		}
		s.rows[row] = 1 << kind
		for column := range s.columns {
			s.columns[column] |= byte(columns >> column & 1 << kind)
		}
	}
}

// With is a set with all bytes of another, too.
func (s *Set) With(other *Set) *Set {
	both := &Set{}
	for c := range both.has {
		both.has[c] = s.has[c] | other.has[c]
	}
	both.settle()
	return both
}

// Has tells whether a byte is of the set.
func (s *Set) Has(c byte) bool { return s.has[c] != 0 }

// First is where the first byte of the set stands in a text, -1: nowhere.
func (s *Set) First(text []byte) int {
	at := s.blocks(text) * Block
	for m := [1]uint64{}; at+Block <= len(text); at += Block {
		if s.mark(m[:], text[at:at+Block]); m[0] != 0 {
			return at + bits.TrailingZeros64(m[0])
		}
	}
	for i, c := range text[at:] {
		if s.has[c] != 0 {
			return at + i
		}
	}
	return -1
}

// Beyond are the bytes beyond ASCII.
var Beyond = Where(func(c byte) bool { return c >= 0x80 })

// Blocks marks as many whole blocks at the beginning of a text as there is room for. The lowest bit is the first byte's.
func (s *Set) Blocks(marks []uint64, text []byte) {
	if len(marks) > 0 {
		s.mark(marks, text[:len(marks)*Block])
	}
}

// Bits has a bit for each byte of a text.
type Bits struct{ words []uint64 }

// Block is how many bytes a word has bits for.
const Block = 64

// Mark marks what is of a set in text[from:to], and its end, so that there always is a next. What was marked behind it
// does not count any more, and nor does what was marked in the block in which it begins.
func (b *Bits) Mark(text []byte, from, to int, of *Set) {
	first, last := from/Block, to/Block
	if n := last + 1 - len(b.words); n > 0 {
		b.words = slices.Grow(b.words, n)[:last+1]
	}
	if first < last {
		of.mark(b.words[first:last], text[first*Block:last*Block])
	}
	var rest [Block]byte
	copy(rest[:], text[last*Block:to])
	of.mark(b.words[last:last+1], rest[:])
	end := uint64(1) << (to % Block)
	b.words[last] = b.words[last]&(end-1) | end
}

// Next is where the first mark at or behind p is. There is one, as long as p is not behind the end of what was marked.
func (b *Bits) Next(p int) int {
	if w := b.words[p>>6] >> (p & 63); w != 0 {
		return p + bits.TrailingZeros64(w)
	}
	return b.later(p >> 6)
}

// later is the first mark behind a word.
func (b *Bits) later(word int) int {
	for word++; b.words[word] == 0; word++ {
	}
	return word<<6 + bits.TrailingZeros64(b.words[word])
}

// From gives the marks at or behind p in the block in which p is, and where that begins. The lowest bit is its first byte's.
func (b *Bits) From(p int) (block int, marks uint64) {
	return p &^ 63, b.words[p>>6] >> (p & 63) << (p & 63)
}

// Behind gives the marks of the block behind one.
func (b *Bits) Behind(at int) (block int, marks uint64) {
	return at + 64, b.words[at>>6+1]
}

// Within tells whether there is a mark at or behind from and before to, which is not behind the end of what was marked.
func (b *Bits) Within(from, to int) bool {
	w := b.words[from>>6] >> (from & 63)
	if n := to - from; n <= 64-from&63 {
		return w<<(64-n) != 0
	}
	return w != 0 || b.across(from>>6, to)
}

// across tells whether there is a mark behind a word and before an offset.
func (b *Bits) across(word, to int) bool {
	for word++; word < to>>6; word++ {
		if b.words[word] != 0 {
			return true
		}
	}
	return to&63 != 0 && b.words[word]<<(64-to&63) != 0
}

// Trim lets go of memory for texts that are longer than most bytes.
func (b *Bits) Trim(most int) {
	if cap(b.words) > most/Block {
		b.words = nil
	}
}

// markEach marks whole blocks, one byte after the other.
func (s *Set) markEach(marks []uint64, text []byte) {
	for i := range marks {
		m := uint64(0)
		for at := 0; at < Block; at += 8 {
			t := text[i*Block+at : i*Block+at+8]
			m |= (uint64(s.has[t[0]]) | uint64(s.has[t[1]])<<1 | uint64(s.has[t[2]])<<2 | uint64(s.has[t[3]])<<3 |
				uint64(s.has[t[4]])<<4 | uint64(s.has[t[5]])<<5 | uint64(s.has[t[6]])<<6 | uint64(s.has[t[7]])<<7) << at
		}
		marks[i] = m
	}
}
