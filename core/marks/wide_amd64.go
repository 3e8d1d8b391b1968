//go:build !purego

package marks

import "golang.org/x/sys/cpu"

// mark marks whole blocks.
func (s *Set) mark(marks []uint64, text []byte) {
	if s.odd || !cpu.X86.HasAVX2 {
		s.markEach(marks, text)
		return
	}
	_ = text[len(marks)*Block-1]
	markWide(&marks[0], &text[0], len(marks), s)
}

// blocks is how many blocks at the beginning of a text are known to have nothing of the set.
func (s *Set) blocks(text []byte) int {
	if s.odd || !cpu.X86.HasAVX2 || len(text) < Block {
		return 0
	}
	return blocksWide(&text[0], len(text)/Block, s)
}

// markWide marks so many blocks, at least one, 32 bytes at once (AVX2).
//
//go:noescape
func markWide(marks *uint64, text *byte, blocks int, of *Set)

// blocksWide is how many of so many blocks, at least one, come before the first that has something of the set.
//
//go:noescape
func blocksWide(text *byte, blocks int, of *Set) int
