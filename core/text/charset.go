// Package text turns bytes into characters and characters into dates and
// numbers: character sets, and the date patterns of Unicode TR 35.
package text

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"
)

// Charset is a character set that files come in.
type Charset string

const (
	UTF8        Charset = "utf-8"
	UTF16LE     Charset = "utf-16le"
	UTF16BE     Charset = "utf-16be"
	UTF16       Charset = "utf-16" // byte order told by the byte order mark
	Latin1      Charset = "iso-8859-1"
	Windows1252 Charset = "windows-1252"
	// Declared is that of formats whose records say themselves what they are
	// written in: their reader gets the bytes as they came.
	Declared Charset = "declared"
)

var charsetNames = map[string]Charset{
	"utf-8": UTF8, "utf8": UTF8, "utf-16": UTF16, "utf16": UTF16, "utf-16le": UTF16LE, "utf-16be": UTF16BE,
	"iso-8859-1": Latin1, "latin-1": Latin1, "latin1": Latin1, "windows-1252": Windows1252, "cp1252": Windows1252, "us-ascii": UTF8, "ascii": UTF8,
}

// parts are the other parts of ISO 8859, by their IANA names.
var parts = map[Charset]encoding.Encoding{
	"iso-8859-2": charmap.ISO8859_2, "iso-8859-3": charmap.ISO8859_3, "iso-8859-4": charmap.ISO8859_4, "iso-8859-5": charmap.ISO8859_5,
	"iso-8859-6": charmap.ISO8859_6, "iso-8859-7": charmap.ISO8859_7, "iso-8859-8": charmap.ISO8859_8, "iso-8859-9": charmap.ISO8859_9,
	"iso-8859-10": charmap.ISO8859_10, "iso-8859-13": charmap.ISO8859_13, "iso-8859-14": charmap.ISO8859_14, "iso-8859-15": charmap.ISO8859_15, "iso-8859-16": charmap.ISO8859_16,
}

// Charsets are the names that ParseCharset takes, preferred forms first.
var Charsets = []string{"utf-8", "utf-16", "utf-16le", "utf-16be", "iso-8859-1 to -16", "windows-1252"}

// ParseCharset finds a character set by its IANA name or a usual alias.
func ParseCharset(name string) (Charset, error) {
	if c, ok := charsetNames[strings.ToLower(name)]; ok {
		return c, nil
	}
	if c := Charset(strings.ToLower(name)); parts[c] != nil {
		return c, nil
	}
	return "", fmt.Errorf("unknown character set %q; known are %s", name, strings.Join(Charsets, ", "))
}

func (c Charset) encoding() encoding.Encoding {
	switch c {
	case UTF16LE, UTF16:
		return unicode.UTF16(unicode.LittleEndian, unicode.IgnoreBOM)
	case UTF16BE:
		return unicode.UTF16(unicode.BigEndian, unicode.IgnoreBOM)
	case Latin1:
		return charmap.ISO8859_1
	case Windows1252:
		return charmap.Windows1252
	}
	if e := parts[c]; e != nil {
		return e
	}
	return encoding.Nop
}

// Decoded is a stream of UTF-8 and what was found at its start.
type Decoded struct {
	io.Reader
	Charset Charset // the one in use: a byte order mark decides over the declared one
	Mark    []byte  // the byte order mark, if there was one
	// Unsure is what contradicts the declared set: a mark that names another
	// one, or a UTF-16 text declared without one.
	Unsure string
}

var marks = []struct {
	mark []byte
	set  Charset
}{{[]byte{0xEF, 0xBB, 0xBF}, UTF8}, {[]byte{0xFF, 0xFE}, UTF16LE}, {[]byte{0xFE, 0xFF}, UTF16BE}}

// Decode reads the byte order mark, if any, and gives the rest as UTF-8.
// UTF-8 itself is passed through unchecked; bytes that are not valid are left
// for the reader of the format, which knows their record.
func Decode(r io.Reader, declared Charset) (*Decoded, error) {
	head := bufio.NewReaderSize(r, 4096)
	first, err := head.Peek(64)
	if err != nil && err != io.EOF && err != bufio.ErrBufferFull {
		return nil, err
	}
	d := &Decoded{Charset: declared}
	for _, m := range marks {
		if bytes.HasPrefix(first, m.mark) && (m.set != UTF16LE || declared != Latin1 && declared != Windows1252) {
			d.Mark = bytes.Clone(m.mark)
			if declared != m.set && declared != Declared && !(declared == UTF16 && m.set != UTF8) {
				d.Unsure = fmt.Sprintf("declared as %s, but it begins with the byte order mark of %s", declared, m.set)
			}
			d.Charset = m.set
			if _, err := head.Discard(len(m.mark)); err != nil {
				return nil, err
			}
			break
		}
	}
	if d.Mark == nil && d.Charset == UTF8 && looksLikeUTF16(first) {
		d.Unsure = "declared as utf-8, but every second byte is zero as in utf-16 text"
	}
	if d.Mark == nil && d.Charset == UTF16 {
		d.Charset = UTF16LE
		if len(first) > 1 && first[0] == 0 {
			d.Charset = UTF16BE
		}
	}
	if d.Charset == UTF8 || d.Charset == Declared {
		d.Reader = head
		return d, nil
	}
	d.Reader = d.Charset.encoding().NewDecoder().Reader(head)
	return d, nil
}

func looksLikeUTF16(b []byte) bool {
	if len(b) < 4 {
		return false
	}
	even, odd := 0, 0
	for i, c := range b {
		if c == 0 {
			if i%2 == 0 {
				even++
			} else {
				odd++
			}
		}
	}
	return odd > len(b)/4 && even == 0 || even > len(b)/4 && odd == 0
}

// Encode gives text in a character set, so that a rejected record goes back in
// the form in which it came. Characters that the set does not have are an
// error.
func Encode(utf8Text []byte, set Charset) ([]byte, error) {
	if set == UTF8 || set == Declared {
		return utf8Text, nil
	}
	out, err := set.encoding().NewEncoder().Bytes(utf8Text)
	if err != nil {
		return nil, fmt.Errorf("text cannot be written in %s: %w", set, err)
	}
	return out, nil
}

// DecodeAll gives a piece of text as UTF-8. Bytes that are no character of the set
// are an error.
func DecodeAll(b []byte, set Charset) ([]byte, error) {
	out, err := set.encoding().NewDecoder().Bytes(b)
	if err == nil && bytes.Contains(out, []byte(string(utf8.RuneError))) {
		err = fmt.Errorf("a byte is no character of %s", set)
	}
	return out, err
}

// FirstInvalid gives the offset of the first byte that is not UTF-8, or -1.
func FirstInvalid(b []byte) int {
	if utf8.Valid(b) {
		return -1
	}
	for i := 0; i < len(b); {
		r, n := utf8.DecodeRune(b[i:])
		if r == utf8.RuneError && n == 1 {
			return i
		}
		i += n
	}
	return -1
}
