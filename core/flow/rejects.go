package flow

import (
	"bytes"
	"cmp"
	"fmt"
	"io"
	"slices"
	"unicode/utf8"

	"ydrion/core/batch"
	"ydrion/core/finding"
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

// What surrounds the rejected records of one message is written so many times its length, and at
// least so many bytes: a file of rejects grows with its source, whatever that is.
const mostRepeated, leastRepeated = 8, 256 << 10

// surrounding is what has been written around the rejected records of one message.
type surrounding struct {
	at       int64 // where the message begins
	repeated int
}

// Rejected gives a rejected record as it is written, and why it was rejected. A record that is
// a part of a message comes with what surrounds it, so that it can be corrected and sent
// again. If many records of a large message are rejected, that would multiply it: a finding
// then says that a record comes alone.
func (o *Opened) Rejected(b *batch.Batch, record int) (raw []byte, findings finding.List) {
	findings = o.Findings(b, record)
	unit := b.Bounds[record]
	i, _ := slices.BinarySearchFunc(b.Messages, unit.Off, func(s batch.Span, off uint32) int { return cmp.Compare(s.End, off+1) })
	if i == len(b.Messages) || b.Messages[i] == unit {
		return o.Reader.Raw(b, record), findings
	}
	whole := b.Messages[i]
	if at := b.Base + int64(whole.Off); at != o.around.at {
		o.around = surrounding{at: at}
	}
	if o.around.repeated >= max(leastRepeated, mostRepeated*whole.Len()) {
		f := finding.Warn("reject.alone", b.Place(record, unit.Off), "so many records of this message are rejected that the rest of them are written without what surrounds them").
			Suggest("take the message from the original, correct it, and hand it in again")
		return append(bytes.Clone(b.Raw(record)), '\n'), append(findings, f)
	}
	raw = o.Reader.Raw(b, record)
	o.around.repeated += len(raw) - unit.Len()
	return raw, findings
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
