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
	"golang.org/x/text/encoding/japanese"
	"golang.org/x/text/encoding/korean"
	"golang.org/x/text/encoding/simplifiedchinese"
	"golang.org/x/text/encoding/traditionalchinese"
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

// others are further sets, by their IANA names.
var others = map[Charset]encoding.Encoding{
	"iso-8859-2": charmap.ISO8859_2, "iso-8859-3": charmap.ISO8859_3, "iso-8859-4": charmap.ISO8859_4, "iso-8859-5": charmap.ISO8859_5,
	"iso-8859-6": charmap.ISO8859_6, "iso-8859-7": charmap.ISO8859_7, "iso-8859-8": charmap.ISO8859_8, "iso-8859-9": charmap.ISO8859_9,
	"iso-8859-10": charmap.ISO8859_10, "iso-8859-13": charmap.ISO8859_13, "iso-8859-14": charmap.ISO8859_14, "iso-8859-15": charmap.ISO8859_15, "iso-8859-16": charmap.ISO8859_16,
	"windows-1250": charmap.Windows1250, "windows-1251": charmap.Windows1251, "windows-1253": charmap.Windows1253, "windows-1254": charmap.Windows1254,
	"windows-1255": charmap.Windows1255, "windows-1256": charmap.Windows1256, "windows-1257": charmap.Windows1257, "windows-1258": charmap.Windows1258,
	"windows-874": charmap.Windows874, "iso-8859-11": charmap.Windows874, "tis-620": charmap.Windows874, // each has what the next has, and more
	"ibm437": charmap.CodePage437, "ibm850": charmap.CodePage850, "ibm852": charmap.CodePage852, "ibm855": charmap.CodePage855, "ibm858": charmap.CodePage858,
	"ibm865": charmap.CodePage865, "ibm866": charmap.CodePage866, "koi8-r": charmap.KOI8R, "koi8-u": charmap.KOI8U, "macintosh": charmap.Macintosh,
	GB18030: simplifiedchinese.GB18030, Big5: traditionalchinese.Big5, ShiftJIS: japanese.ShiftJIS, ISO2022JP: japanese.ISO2022JP,
	"gbk": simplifiedchinese.GBK, "euc-kr": korean.EUCKR, "euc-jp": japanese.EUCJP,
}

// Sets in which the later bytes of a character may look like ASCII.
const (
	GB18030   Charset = "gb18030"
	Big5      Charset = "big5"
	ShiftJIS  Charset = "shift_jis"
	ISO2022JP Charset = "iso-2022-jp"
)

// Wide tells whether the later bytes of a character may look like ASCII, so that a
// separator cannot be looked for before Mask has been called.
func (c Charset) Wide() bool {
	return c == GB18030 || c == Big5 || c == ShiftJIS || c == ISO2022JP
}

// Mask overwrites the bytes of a wide set's characters that look like ASCII. A line end
// ends every character and every shift.
func (c Charset) Mask(b []byte) {
	const masked = 0xff
	if c == ISO2022JP {
		shifted := false
		for i := 0; i < len(b); i++ {
			switch {
			case b[i] == 0x1b && i+2 < len(b):
				shifted = b[i+1] == '$'
				i += 2
				if shifted && b[i] == '(' {
					i++
				}
			case b[i] == '\r' || b[i] == '\n':
				shifted = false
			case shifted:
				b[i] = masked
			}
		}
		return
	}
	for i := 0; i+1 < len(b); i++ {
		lead := b[i] > 0x80 && b[i] < 0xff
		if c == ShiftJIS {
			lead = b[i] > 0x80 && b[i] < 0xa0 || b[i] >= 0xe0 && b[i] < 0xfd
		}
		if lead && b[i+1] != '\r' && b[i+1] != '\n' {
			i++
			b[i] = masked
		}
	}
}

// Charsets are the names that ParseCharset takes, preferred forms first.
var Charsets = []string{"utf-8", "utf-16", "utf-16le", "utf-16be", "iso-8859-1 to -11", "iso-8859-13 to -16", "windows-1250 to -1258", "windows-874", "gb18030", "gbk", "big5", "euc-kr", "euc-jp", "shift_jis", "iso-2022-jp", "koi8-r", "koi8-u", "ibm437", "ibm850", "ibm852", "ibm855", "ibm858", "ibm865", "ibm866", "macintosh"}

// ParseCharset finds a character set by its IANA name or a usual alias.
func ParseCharset(name string) (Charset, error) {
	if c, ok := charsetNames[strings.ToLower(name)]; ok {
		return c, nil
	}
	plain := strings.ToLower(name)
	if number, is := strings.CutPrefix(plain, "cp"); is { // as code pages are often called
		if plain = "ibm" + number; others[Charset(plain)] == nil {
			plain = "windows-" + number
		}
	}
	if c := Charset(plain); others[c] != nil {
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
	if e := others[c]; e != nil {
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
	Member string // of an archive that it is the text of
	// Misread watches bytes that are declared as another set than UTF-8; nil: nobody needs to.
	Misread *Misread
}

var orderMarks = []struct {
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
	for _, m := range orderMarks {
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
	in := io.Reader(head)
	if d.Charset != UTF16LE && d.Charset != UTF16BE {
		d.Misread = NewMisread(d.Charset)
		in = io.TeeReader(head, d.Misread)
	}
	d.Reader = d.Charset.encoding().NewDecoder().Reader(in)
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

// DecodeAll gives a piece of text as UTF-8. Bytes that are not characters of the set
// are an error.
func DecodeAll(b []byte, set Charset) ([]byte, error) {
	out, err := set.encoding().NewDecoder().Bytes(b)
	if err == nil && bytes.Contains(out, []byte(string(utf8.RuneError))) {
		err = fmt.Errorf("a byte is not a character of %s", set)
	}
	return out, err
}

// FirstUndecoded gives the offset of the first byte that is not a character of a set; in one whose characters have several bytes, the first that is not ASCII.
func FirstUndecoded(b []byte, set Charset) int {
	var is [256]bool // a character, as has been seen
	for i, c := range b {
		if c < utf8.RuneSelf || is[c] {
			continue
		}
		if _, err := DecodeAll(b[i:i+1], set); err != nil || set.Wide() {
			return i
		}
		is[c] = true
	}
	return 0
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
