package mail

import (
	"bufio"
	"fmt"
	"io"
)

// quotedReader decodes quoted-printable (RFC 2045, 6.7). Lines may be of any length, and characters beyond ASCII may stand
// for themselves: there are programs that write so. What is not as the standard says otherwise is broken: the same text
// could have meant something else.
type quotedReader struct {
	in     *bufio.Reader
	loose  bool   // what is broken is passed on as it stands: nobody wants it
	blanks []byte // that count only if something follows them in their line
	out    []byte // decoded, not yet given out
	err    error
}

// mostBlanks is how many blanks may stand in a row.
const mostBlanks = 64 << 10

func (r *quotedReader) Read(b []byte) (n int, err error) {
	for n < len(b) {
		if len(r.out) == 0 {
			if r.err != nil {
				return n, r.err
			}
			r.out = r.out[:0]
			r.err = r.next()
			continue
		}
		k := copy(b[n:], r.out)
		r.out, n = r.out[k:], n+k
	}
	return n, nil
}

// next decodes the next character.
func (r *quotedReader) next() error {
	c, err := r.in.ReadByte()
	switch {
	case err != nil:
		return err
	case c == ' ' || c == '\t':
		if r.blanks = append(r.blanks, c); len(r.blanks) > mostBlanks {
			if r.loose {
				r.blanks = r.blanks[:0]
				return nil
			}
			return fmt.Errorf("%w: there are more than %d blanks in a row", ErrBroken, mostBlanks)
		}
		return nil
	case c == '\n' || c == '\r' && r.ahead(0) == '\n':
		r.blanks = r.blanks[:0]
	}
	r.out, r.blanks = append(r.out, r.blanks...), r.blanks[:0]
	switch {
	case c == '=':
		return r.equals()
	case (c < ' ' && c != '\r' && c != '\n' || c == 0x7f) && !r.loose:
		return fmt.Errorf("%w: quoted-printable has byte %02X in it, which must be written as =%02X", ErrBroken, c, c)
	}
	r.out = append(r.out, c)
	return nil
}

// equals decodes what an equals sign begins: two digits, or the end of a line that is none of the text.
func (r *quotedReader) equals() error {
	high, low := digit(r.ahead(0)), digit(r.ahead(1))
	if high >= 0 && low >= 0 {
		_, err := r.in.Discard(2)
		r.out = append(r.out, byte(high<<4|low))
		return err
	}
	n := 0
	for c := r.ahead(n); (c == ' ' || c == '\t') && n < 1000; c = r.ahead(n) {
		n++
	}
	switch end := r.ahead(n); {
	case end == '\n':
		n++
	case end == '\r' && r.ahead(n+1) == '\n':
		n += 2
	case end == none: // the end of the line belongs to what ends the part
	case r.loose:
		r.out, n = append(r.out, '='), 0
	default:
		near, err := r.in.Peek(2)
		if err != nil && err != io.EOF {
			return err
		}
		return fmt.Errorf("%w: quoted-printable has %q in it, which is no character and no end of a line", ErrBroken, "="+string(near))
	}
	_, err := r.in.Discard(n)
	return err
}

// none is what stands behind the end.
const none = -1

// ahead is the character that stands so many behind the next one.
func (r *quotedReader) ahead(n int) int {
	b, err := r.in.Peek(n + 1)
	if len(b) <= n {
		if err != io.EOF { // it is told when it is read
			return 0
		}
		return none
	}
	return int(b[n])
}

// digit is the value of a hexadecimal digit, -1 if it is none.
func digit(c int) int {
	switch {
	case c >= '0' && c <= '9':
		return c - '0'
	case c >= 'A' && c <= 'F':
		return c - 'A' + 10
	case c >= 'a' && c <= 'f':
		return c - 'a' + 10
	}
	return -1
}
