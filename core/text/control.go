package text

import (
	"strings"

	"ydrion/core/marks"
)

const (
	low  = 0x0101010101010101
	high = 0x8080808080808080
)

// Controls are the control characters (below 0x20, and DEL) that have no place in a text.
type Controls struct{ these, strange *marks.Set }

// AllBut are all control characters but some.
func AllBut(plain string) *Controls {
	these := marks.Where(func(c byte) bool { return (c < ' ' || c == 0x7f) && strings.IndexByte(plain, c) < 0 })
	return &Controls{these, these.With(marks.Beyond)}
}

// Has tells whether a byte is one of them.
func (c *Controls) Has(b byte) bool { return c.these.Has(b) }

// In tells whether a text is ASCII, and whether there are some of them in it.
func (c *Controls) In(text []byte) (ascii, controlled bool) {
	at := c.strange.First(text)
	if at < 0 {
		return true, false
	}
	return marks.Beyond.First(text[at:]) < 0, c.these.First(text[at:]) >= 0
}
