package json

import (
	"bytes"
	"encoding/binary"
	"math/bits"
	"strings"
	"unicode/utf8"

	"ydrion/core/marks"
)

func blank(c byte) bool { return c == ' ' || c == '\n' || c == '\r' || c == '\t' }

func skipBlanks(buf []byte, p int) int {
	for p < len(buf) && blank(buf[p]) {
		p++
	}
	return p
}

// skip finds the end of the value at p by its brackets and quotes alone. It is not
// whole if more has to be read; bad is where a bracket closes nothing, or -1.
func skip(buf []byte, p int, eof bool) (end int, whole bool, bad int) {
	switch c := buf[p]; c {
	case '"':
		if k := closing(buf, p+1); k >= 0 {
			return k + 1, true, -1
		}
		return 0, false, -1
	case '{', '[':
		return nested(buf, p)
	case '}', ']':
		return 0, false, p
	}
	i := p
	for i < len(buf) && kinds[buf[i]] == inside {
		i++
	}
	if i == p { // a comma or a colon where a value should be
		i++
	}
	return i, i < len(buf) || eof, -1
}

// kind says what a character is to who looks for the end of a value.
type kind uint8

const (
	inside  kind = iota // of a number or a word
	between             // blanks, commas, colons, quotes, closing brackets
	opening
)

var kinds = func() (k [256]kind) {
	for _, c := range " \t\r\n,:\x1e\"}]" {
		k[c] = between
	}
	k['{'], k['['] = opening, opening
	return k
}()

// nested finds the end of the object or list at p: by the brackets that are in no string, which are found for many characters at once.
func nested(buf []byte, p int) (end int, whole bool, bad int) {
	var open [MaxDepth + 8]byte
	depth := 0
	var quotes, brackets, slashes [ahead]uint64
	var rest [marks.Block]byte
	within, passed := uint64(0), false // all bits: a string is open; a backslash in it was the last character
	for p < len(buf) {
		text := buf[p:]
		n := min(len(text)/marks.Block, ahead)
		if n == 0 {
			copy(rest[:], text)
			text, n = rest[:], 1
		}
		aQuote.Blocks(quotes[:n], text)
		aBracket.Blocks(brackets[:n], text)
		aBackslash.Blocks(slashes[:n], text)
		for i, q := range quotes[:n] {
			if passed || slashes[i] != 0 {
				q, passed = closingOnes(q, slashes[i], within != 0, passed)
			}
			strings := betweenPairs(q) ^ within
			within = uint64(int64(strings) >> 63)
			for m := brackets[i] &^ strings; m != 0; m &= m - 1 {
				at := p + bits.TrailingZeros64(m)
				if c := buf[at]; kinds[c] == opening {
					if depth < len(open) {
						open[depth] = c + 2 // } and ] are two behind { and [
					}
					depth++
				} else if depth <= len(open) && open[depth-1] != c {
					return 0, false, at
				} else if depth--; depth == 0 {
					return at + 1, true, -1
				}
			}
			p += marks.Block
		}
	}
	return 0, false, -1
}

// ahead is how many blocks are looked at before what is in them is gone through.
const ahead = 4

var (
	aQuote     = marks.Of('"')
	aBackslash = marks.Of('\\')
	aBracket   = marks.Of('{', '[', '}', ']')
)

// closingOnes are the quotes of a block that begin and end strings. A string may be open before it, and its first character one
// that follows a backslash in a string, as that of the next block may be.
func closingOnes(quotes, slashes uint64, open, passed bool) (ends uint64, passes bool) {
	m := quotes | slashes
	if passed {
		m &^= 1
	}
	for m != 0 {
		bit := m & -m
		m &^= bit
		switch {
		case quotes&bit != 0:
			open, ends = !open, ends|bit
		case open:
			m &^= bit << 1
			passes = bit<<1 == 0
		}
	}
	return ends, passes
}

// betweenPairs has the bits from each first mark of a pair on, up to the one before the second.
func betweenPairs(m uint64) uint64 {
	for shift := 1; shift < 64; shift <<= 1 {
		m ^= m << shift
	}
	return m
}

// closing finds the quote that ends a string, from its first character on; -1 if there is none.
func closing(buf []byte, i int) int {
	for {
		for i+8 <= len(buf) {
			x := binary.LittleEndian.Uint64(buf[i:])
			quotes, slashes := x^low*'"', x^low*'\\'
			if m := ((quotes-low)&^quotes | (slashes-low)&^slashes) & high; m != 0 {
				i += bits.TrailingZeros64(m) >> 3
				break
			}
			i += 8
		}
		for i < len(buf) && buf[i] != '"' && buf[i] != '\\' {
			i++
		}
		if i >= len(buf) {
			return -1
		}
		if buf[i] == '"' {
			return i
		}
		i += 2
	}
}

const (
	low  = 0x0101010101010101
	high = 0x8080808080808080
)

// escape measures the escape sequence at the start of b, both halves of a pair of
// surrogates included. It is 0 long if it is none, with the rule.
func escape(b []byte) (n, rule int) {
	if len(b) < 2 {
		return 0, ruleEscape
	}
	if strings.IndexByte(`"\/bfnrt`, b[1]) >= 0 {
		return 2, 0
	}
	first, ok := hex4(b)
	if !ok {
		return 0, ruleEscape
	}
	if first < 0xD800 || first > 0xDFFF {
		return 6, 0
	}
	if second, ok := hex4(b[6:]); first < 0xDC00 && ok && second >= 0xDC00 && second <= 0xDFFF {
		return 12, 0
	}
	return 0, ruleSurrogate
}

// hex4 reads a backslash, a u and four hexadecimal digits at the start of b.
func hex4(b []byte) (rune, bool) {
	if len(b) < 6 || b[0] != '\\' || b[1] != 'u' {
		return 0, false
	}
	n := rune(0)
	for _, c := range b[2:6] {
		switch {
		case c-'0' <= 9:
			c -= '0'
		case c|0x20-'a' <= 5:
			c = c | 0x20 - 'a' + 10
		default:
			return 0, false
		}
		n = n<<4 | rune(c)
	}
	return n, true
}

// unquote undoes the escape sequences of a string's text; what is none is kept.
func unquote(to, b []byte) ([]byte, bool) {
	good := true
	for i := 0; i < len(b); {
		if b[i] != '\\' {
			k := bytes.IndexByte(b[i:], '\\')
			if k < 0 {
				k = len(b) - i
			}
			to = append(to, b[i:i+k]...)
			i += k
			continue
		}
		n, _ := escape(b[i:])
		switch {
		case n == 0:
			good = false
			to = append(to, '\\')
			n = 1
		case n == 2:
			c := b[i+1]
			if k := strings.IndexByte("bfnrt", c); k >= 0 {
				c = "\b\f\n\r\t"[k]
			}
			to = append(to, c)
		default:
			r, _ := hex4(b[i:])
			if n == 12 {
				second, _ := hex4(b[i+6:])
				r = (r-0xD800)<<10 + (second - 0xDC00) + 0x10000
			}
			to = utf8.AppendRune(to, r)
		}
		i += n
	}
	return to, good
}

// number finds where a number ends (RFC 8259, 6), -1 if it is none.
func number(b []byte, p int) int {
	if b[p] == '-' {
		p++
	}
	from := p
	if p = digits(b, p); p == from || p-from > 1 && b[from] == '0' {
		return -1
	}
	if p < len(b) && b[p] == '.' {
		from = p + 1
		if p = digits(b, from); p == from {
			return -1
		}
	}
	if p < len(b) && b[p]|0x20 == 'e' {
		if p++; p < len(b) && (b[p] == '+' || b[p] == '-') {
			p++
		}
		from = p
		if p = digits(b, from); p == from {
			return -1
		}
	}
	return p
}

// digits goes behind those at p.
func digits(b []byte, p int) int {
	for p < len(b) && b[p]-'0' <= 9 {
		p++
	}
	return p
}
