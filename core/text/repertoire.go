package text

import (
	"unicode/utf8"

	"ydrion/core/marks"
)

// Repertoire are the characters that a target can say.
type Repertoire struct {
	Name    string    // for people
	Charset Charset   // in which outputs are written; empty: UTF-8
	ASCII   bool      // nothing beyond ASCII
	Lacks   [128]bool // of ASCII
}

// Lacking finds the first character of a text that the repertoire does not have.
func (r *Repertoire) Lacking(v []byte) (c rune, lacking bool) {
	for i := 0; i < len(v); i++ {
		switch {
		case v[i] < utf8.RuneSelf:
			if r.Lacks[v[i]] {
				return rune(v[i]), true
			}
		case r.ASCII || r.Charset != "" && r.Charset != UTF8:
			c, size := utf8.DecodeRune(v[i:])
			if r.ASCII {
				return c, true
			}
			if _, err := Encode(v[i:i+size], r.Charset); err != nil {
				return c, true
			}
			i += size - 1
		}
	}
	return 0, false
}

// Encode gives text in the repertoire's character set.
func (r *Repertoire) Encode(b []byte) ([]byte, error) {
	if r == nil || r.Charset == "" || IsASCII(b) {
		return b, nil
	}
	return Encode(b, r.Charset)
}

// IsASCII tells whether a text has only ASCII characters.
func IsASCII(b []byte) bool {
	return marks.Beyond.First(b) < 0
}
