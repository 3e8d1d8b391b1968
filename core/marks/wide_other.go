//go:build !amd64 || purego

package marks

// mark marks whole blocks.
func (s *Set) mark(marks []uint64, text []byte) { s.markEach(marks, text) }

// blocks is how many blocks at the beginning of a text are known to have nothing of the set.
func (s *Set) blocks([]byte) int { return 0 }
