package text

import (
	"fmt"
	"strings"
	"unicode/utf8"
)

// Readable makes a text that can be stored and shown of one that may be anything, such
// as a file name: what is not UTF-8, and NUL, is written as \x and two hexadecimal digits. A text without such bytes stays as it is.
func Readable(s string) string {
	if utf8.ValidString(s) && !strings.Contains(s, "\x00") {
		return s
	}
	var b strings.Builder
	for len(s) > 0 {
		r, n := utf8.DecodeRuneInString(s)
		if r == utf8.RuneError && n == 1 || r == 0 {
			fmt.Fprintf(&b, `\x%02x`, s[0])
		} else {
			b.WriteString(s[:n])
		}
		s = s[n:]
	}
	return b.String()
}
