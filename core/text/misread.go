package text

import (
	"bytes"
	"unicode/utf8"

	"ydrion/core/marks"
)

// Misread looks at the bytes of a text that is said to be of another character set than UTF-8, as they come. Where all of them that are beyond ASCII
// are UTF-8, the text is that: in another set they hardly ever stand so by chance. It is then read as something that nobody has written, of which no
// byte is wrong.
type Misread struct {
	Offset, Line, Column int64  // of the first character beyond ASCII; line and column from 1
	Means, Reads         string // it, with what stands beside it: as UTF-8, and as it is read

	set        Charset
	lineStart  int64
	halved     bool // what came last is CR, and LF may follow
	count      int
	likely     int    // of the characters: those that are hardly there by chance
	different  bool   // there is a byte that is not UTF-8
	incomplete []byte // a character whose other bytes are still to come
	at         int64  // so many bytes have come
}

// NewMisread looks at a text that is said to be of a set.
func NewMisread(set Charset) *Misread { return &Misread{set: set} }

// Is tells whether all that came, beyond ASCII, is UTF-8, and something is.
func (m *Misread) Is() bool {
	return !m.different && len(m.incomplete) == 0 && (m.likely > 0 || m.count > 3 && !m.set.severalBytes())
}

// severalBytes tells whether characters beyond ASCII have more than one byte: such as may by chance be one of two bytes in UTF-8.
func (c Charset) severalBytes() bool { return c.Wide() || c == "gbk" || c == "euc-kr" || c == "euc-jp" }

// likely tells whether a character of UTF-8 is hardly read by chance in a text of a set. Of one byte for each character it may be a capital letter before a
// sign: É» is U+027B.
func (c Charset) likely(r rune) bool {
	return r >= 0x800 || !c.severalBytes() && (r < 0x180 || r >= 0x370 && r < 0x500) // Latin, and Greek and Cyrillic
}

// Write looks at the next bytes.
func (m *Misread) Write(b []byte) (int, error) {
	if n := len(b); m.different {
		return n, nil
	} else if len(m.incomplete) > 0 {
		b = append(m.incomplete, b...)
		m.at, m.incomplete = m.at-int64(len(m.incomplete)), nil
		m.look(b)
		return n, nil
	}
	m.look(b)
	return len(b), nil
}

func (m *Misread) look(b []byte) {
	from := m.at
	m.at += int64(len(b))
	for at := 0; ; {
		i := marks.Beyond.First(b[at:])
		if i < 0 {
			if m.count == 0 {
				m.lines(b, from)
			}
			return
		}
		at += i
		r, n := utf8.DecodeRune(b[at:])
		switch {
		case !utf8.FullRune(b[at:]):
			if m.count == 0 {
				m.lines(b[:at], from)
			}
			m.incomplete = bytes.Clone(b[at:])
			return
		case r == utf8.RuneError && n == 1:
			m.different = true
			return
		}
		if m.count == 0 {
			m.lines(b[:at], from)
			m.Offset, m.Line, m.Column = from+int64(at), m.Line+1, from+int64(at)-m.lineStart+1
			m.Means, m.Reads = misreading(b, at, m.set)
		}
		if m.count++; m.set.likely(r) {
			m.likely++
		}
		at += n
	}
}

// lines counts those that end in a text which has nothing beyond ASCII, with CR, LF or CR LF.
func (m *Misread) lines(b []byte, from int64) {
	if len(b) == 0 {
		return
	}
	m.Line += int64(bytes.Count(b, []byte{'\n'}) + bytes.Count(b, []byte{'\r'}) - bytes.Count(b, []byte("\r\n")))
	if m.halved && b[0] == '\n' {
		m.Line--
	}
	if i := bytes.LastIndexAny(b, "\r\n"); i >= 0 {
		m.lineStart = from + int64(i) + 1
	}
	m.halved = b[len(b)-1] == '\r'
}

// misreading gives the word at an offset, where a character beyond ASCII stands, as UTF-8 and as another set has it.
func misreading(b []byte, at int, set Charset) (means, reads string) {
	word := func(c byte) bool {
		return c >= utf8.RuneSelf || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9'
	}
	from, to := at, at
	for from > 0 && at-from < 12 && word(b[from-1]) {
		from--
	}
	for from < at && !utf8.RuneStart(b[from]) {
		from++
	}
	for to < len(b) && to-at < 24 && word(b[to]) {
		_, n := utf8.DecodeRune(b[to:])
		to += n
	}
	read, _ := set.encoding().NewDecoder().Bytes(b[from:min(to, len(b))])
	return string(b[from:min(to, len(b))]), string(read)
}
