package flow

import (
	"fmt"
	"io"
	"unicode/utf8"

	"ydrion/core/text"
)

// Rejects writes rejected records as they stood in the source: in its character set, behind
// its byte order mark and heading.
type Rejects struct {
	opened *Opened
	to     io.Writer
}

// Rejects begins a file of rejected records.
func (o *Opened) Rejects(to io.Writer) (*Rejects, error) {
	r := &Rejects{o, to}
	if _, err := to.Write(o.Mark); err != nil {
		return nil, err
	}
	return r, r.Record(o.Reader.Heading())
}

// Record writes one record. What the source's character set cannot say (bytes that were
// wrong to begin with) goes out as UTF-8.
func (r *Rejects) Record(raw []byte) error {
	b, err := text.Encode(raw, r.opened.Charset)
	if err != nil {
		b = raw
	}
	_, err = r.to.Write(b)
	return err
}

// Rest writes what follows the place where a file could not be followed any more. Seen is
// shown each piece.
func (r *Rejects) Rest(rest io.Reader, seen func(piece []byte)) error {
	buf := make([]byte, 64<<10)
	n := 0
	for {
		k, err := rest.Read(buf[n:])
		seen(buf[n : n+k])
		n += k
		whole := n
		if at := start(buf[:n]); err == nil && n-at < utf8.UTFMax && !utf8.FullRune(buf[at:n]) {
			whole = at // a character is cut off
		}
		if err := r.Record(buf[:whole]); err != nil {
			return err
		}
		n = copy(buf, buf[whole:n])
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return fmt.Errorf("reading: %w", err)
		}
	}
}

// start is where the last character of a text begins.
func start(b []byte) int {
	for i := len(b) - 1; i >= 0; i-- {
		if utf8.RuneStart(b[i]) {
			return i
		}
	}
	return 0
}
