package format

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"fmt"
	"io"
	"unicode/utf8"

	"ydrion/core/batch"
	"ydrion/core/place"
)

// Stream is what a reader has read and not given out, and where it is in the
// text.
type Stream struct {
	In    io.Reader
	EOF   bool
	Carry []byte // text that has been read and belongs to records to come
	Base  int64  // offset of Carry
	Line  int64  // line of Carry, from 1
	Lead  int64  // characters that stand before Carry in its line
	Size  int    // bytes of a batch of small records; 0: what suits the records

	larger int // how often records were found to be larger than batches

	last struct { // the place that was found last in the text that begins at base
		base       int64
		at         int
		line, lead int64
	}
}

// Batches says how many bytes a batch of small records has, for tests.
func (s *Stream) Batches(size int) { s.Size = size }

// Most is how many bytes a batch of small records has: as few as leave all that is made of it near the processor,
// and more where records are larger than that.
func (s *Stream) Most() int { return cmp.Or(s.Size, min(batch.Small<<s.larger, batch.Size)) }

// Fill reads until the buffer has n bytes or the stream ends.
func (s *Stream) Fill(buf []byte, n int) ([]byte, error) {
	for len(buf) < n && !s.EOF {
		if cap(buf) < len(buf)+1+batch.Slack { // a small file does not pay for the memory of a large one
			grown := make([]byte, len(buf), min(n, max(4<<10, 8*len(buf)))+batch.Slack)
			copy(grown, buf)
			buf = grown
		}
		k, err := s.In.Read(buf[len(buf):min(n, cap(buf)-batch.Slack)])
		buf = buf[:len(buf)+k]
		if err == io.EOF {
			s.EOF = true
		} else if err != nil {
			return buf, fmt.Errorf("reading: %w", err)
		}
	}
	return buf, nil
}

// Start says in a batch where its text begins, and gives its buffer with what has
// been read already.
func (s *Stream) Start(b *batch.Batch) []byte {
	b.Base, b.Line, b.Lead = s.Base, s.Line, s.Lead
	buf := append(b.Buf[:0], s.Carry...)
	s.Carry = s.Carry[:0]
	return buf
}

// Give hands n bytes of buf to the batch, with slack of a certain character behind
// them, and keeps the rest.
func (s *Stream) Give(b *batch.Batch, buf []byte, n int, slack byte) {
	if n > batch.Small<<s.larger {
		s.larger++
	}
	s.Carry = append(s.Carry[:0], buf[n:]...)
	buf = append(buf[:n], slacks[slack][:]...)
	b.Buf, b.N = buf, n
	b.Lines = s.Advance(buf[:n])
}

var slacks = func() (s [128][batch.Slack]byte) {
	for c := range s {
		for i := range s[c] {
			s[c][i] = byte(c)
		}
	}
	return s
}()

// Advance counts text that has been read, and gives the line ends in it.
func (s *Stream) Advance(b []byte) (lines int64) {
	lines = place.CountLines(b)
	s.Base, s.Line = s.Base+int64(len(b)), s.Line+lines
	if lines > 0 {
		s.Lead, b = 0, b[bytes.LastIndexAny(b, "\r\n")+1:]
	}
	s.Lead += characters(b)
	return lines
}

// characters counts them, quickly where there is only ASCII.
func characters(b []byte) int64 {
	n := 0
	for n+8 <= len(b) && binary.LittleEndian.Uint64(b[n:])&0x8080808080808080 == 0 {
		n += 8
	}
	return int64(n + utf8.RuneCount(b[n:]))
}

// Place is where an offset of text stands that begins at Carry. It is cheap when asked from
// the beginning to the end: lines that were counted are not counted again.
func (s *Stream) Place(buf []byte, at int) place.Place {
	from, line, lead := 0, s.Line, s.Lead
	if s.last.base == s.Base && s.last.at <= at {
		if s.last.at > 0 {
			from, line, lead = s.last.at, s.last.line, s.last.lead
		}
	}
	text := buf[from:at]
	if lines := place.CountLines(text); lines > 0 {
		line, lead, text = line+lines, 0, text[bytes.LastIndexAny(text, "\r\n")+1:]
	}
	lead += characters(text)
	if at == 0 || buf[at-1] != '\r' { // perhaps within a CR LF
		s.last.base, s.last.at, s.last.line, s.last.lead = s.Base, at, line, lead
	}
	return place.Place{Offset: s.Base + int64(at), Line: line, Column: lead + 1}
}
