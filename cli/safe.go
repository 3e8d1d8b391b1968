package cli

import (
	"fmt"
	"io"
	"unicode/utf8"
)

// safe writes text to a terminal or a pipe so that no name or value that somebody sent can
// command the terminal: control characters but LF and TAB are written as \u001b, which is
// what they are in JSON as well. Bytes that are not UTF-8 go as they are.
type safe struct {
	to   io.Writer
	held []byte // the beginning of a character that a write has cut off
}

func (s *safe) Write(b []byte) (int, error) {
	n := len(b)
	if len(s.held) > 0 {
		b = append(s.held, b...)
		s.held = nil
	}
	out, from := []byte(nil), 0
	for i := 0; i < len(b); {
		if c := b[i]; c >= ' ' && c < 0x7f || c == '\n' || c == '\t' {
			i++
			continue
		}
		if !utf8.FullRune(b[i:]) {
			s.held = append([]byte(nil), b[i:]...)
			b = b[:i]
			break
		}
		r, size := utf8.DecodeRune(b[i:])
		if r < ' ' || r >= 0x7f && r < 0xa0 {
			out = fmt.Appendf(append(out, b[from:i]...), "\\u%04x", r)
			from = i + size
		}
		i += size
	}
	if from > 0 {
		b = append(out, b[from:]...)
	}
	if _, err := s.to.Write(b); err != nil {
		return 0, err
	}
	return n, nil
}

// flush writes what was cut off and never went on.
func (s *safe) flush() error {
	_, err := s.to.Write(s.held)
	s.held = nil
	return err
}
