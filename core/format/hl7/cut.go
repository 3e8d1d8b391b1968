package hl7

import (
	"bytes"
	"io"
	"strconv"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/format"
	"ydrion/core/place"
)

// ahead is how much is read to find the first message.
const ahead = 64 << 10

// begin finds the first message.
func (r *Reader) begin(buf []byte) *finding.Finding {
	r.Carry = buf
	at := 0
	for at < len(buf) && between(buf[at]) {
		at++
	}
	for i := range 3 {
		if bytes.Count(buf, []byte("MSH"[i:i+1])) < bytes.Count(buf, []byte("MSH"[r.rare:r.rare+1])) {
			r.rare = i
		}
	}
	r.blocks = bytes.IndexByte(buf[:at], blockBegin) >= 0
	start := place.At("", buf, at)
	if at == len(buf) {
		f := finding.New("file.empty", place.Place{Line: 1, Column: 1}, "the file holds no message: %d bytes", len(buf))
		return &f
	}
	switch rest := buf[at:]; {
	case opens(rest, "FHS"), opens(rest, "BHS"):
		r.batches = true
	case !opens(rest, "MSH"):
		f := finding.New("hl7.no-message", start, "the file does not begin with a message: MSH was expected")
		f.Seen = finding.Shorten(rest[:min(len(rest), 60)])
		f.Expected = "MSH"
		return &f
	}
	return nil
}

// opens tells whether a text begins with a segment of that name, which no letter follows.
func opens(text []byte, name string) bool {
	return bytes.HasPrefix(text, []byte(name)) && (len(text) == len(name) || !letter(text[len(name)]))
}

// The characters around a message in a block of MLLP (HL7 v2 transport specification, appendix
// C).
const (
	blockBegin = 0x0b
	blockEnd   = 0x1c
)

// between tells what may stand before a message and between segments: line ends,
// blanks, and the block characters of MLLP.
func between(c byte) bool {
	return c == '\r' || c == '\n' || c == ' ' || c == '\t' || c == blockBegin || c == blockEnd
}

// next finds where the next message begins from i on, -1 if it does not. In a file of blocks each
// block is one, whatever it holds.
func (r *Reader) next(buf []byte, i int) int {
	message := r.nextMessage(buf, i)
	if !r.blocks {
		return message
	}
	for p := i; p < len(buf) && (message < 0 || p < message); p++ {
		k := bytes.IndexByte(buf[p:], blockBegin)
		if k < 0 {
			break
		}
		for p += k; p < len(buf) && between(buf[p]) && buf[p] != blockEnd; p++ {
		}
		if p == len(buf) {
			return -1 // what the block holds has not been read yet, or there is nothing
		}
		if buf[p] != blockEnd && (message < 0 || p < message) {
			return p
		}
	}
	return message
}

// nextMessage finds where the next message begins from i on, -1 if it does not. It
// looks for the letter of MSH that is rarest in the file.
func (r *Reader) nextMessage(buf []byte, i int) int {
	letter, before := "MSH"[r.rare], r.rare
	for i += before; i < len(buf); i++ {
		k := bytes.IndexByte(buf[i:], letter)
		if k < 0 {
			return -1
		}
		i += k
		at := i - before
		if (at+3 < len(buf) || r.EOF && at+3 == len(buf)) && buf[at] == 'M' && buf[at+1] == 'S' && buf[at+2] == 'H' && begins(buf, at) {
			return at
		}
	}
	return -1
}

// begins tells whether a segment of three letters may begin at a place: at the start of a line or
// of a block, with or without blanks before it.
func begins(buf []byte, at int) bool {
	if at+3 < len(buf) && letter(buf[at+3]) {
		return false
	}
	for at--; at >= 0; at-- {
		switch buf[at] {
		case '\r', '\n', blockBegin, blockEnd:
			return true
		case ' ', '\t':
		default:
			return false
		}
	}
	return true
}

// nextSegment finds where the next segment of that name begins from i on, -1 if
// it does not.
func nextSegment(buf []byte, i int, name string) int {
	for i < len(buf) {
		k := bytes.Index(buf[i:], []byte(name))
		if k < 0 {
			return -1
		}
		i += k
		if begins(buf, i) {
			return i
		}
		i += 3
	}
	return -1
}

func letter(c byte) bool { return c >= 'A' && c <= 'Z' || c >= 'a' && c <= 'z' || c >= '0' && c <= '9' }

// Cut fills b with the next whole messages. Their bounds are known then.
func (r *Reader) Cut(b *batch.Batch) (bool, error) {
	buf := r.Start(b)
	want, from, starts := max(r.Most(), len(buf)), 0, b.Messages[:0]
	for {
		var err error
		if buf, err = r.Fill(buf, want); err != nil {
			b.Buf, b.N = buf, 0
			return false, err
		}
		for {
			i := r.next(buf, from)
			if i < 0 {
				break
			}
			starts = append(starts, batch.Span{Off: uint32(i)})
			from = i + 3
		}
		if r.EOF || len(starts) > 1 {
			break
		}
		if len(buf) >= MaxMessage {
			b.Buf, b.N = buf, 0
			f := finding.New("hl7.message-long", r.Place(buf, 0), "no end of the message within %d MiB", MaxMessage>>20)
			return false, &format.Broken{Finding: f, Rest: io.MultiReader(bytes.NewReader(bytes.Clone(buf)), r.In)}
		}
		from = max(0, len(buf)-3)
		if n := len(starts); n > 0 {
			from = max(from, int(starts[n-1].Off)+3)
		}
		want = min(2*len(buf), MaxMessage)
	}
	n := len(buf)
	if !r.EOF { // the last one may not be whole
		n = int(starts[len(starts)-1].Off)
		starts = starts[:len(starts)-1]
	}
	for i := range starts {
		starts[i].End = uint32(n)
		if i+1 < len(starts) {
			starts[i].End = starts[i+1].Off
		}
	}
	b.Open = b.Open[:0]
	if r.batches {
		for _, o := range []batch.Opened{r.opening.file, r.opening.batch} {
			if o.Text != nil {
				b.Open = append(b.Open, o)
			}
		}
		starts = r.tally(buf[:n], starts)
	}
	b.Messages = starts
	if r.Unit < 0 {
		b.Bounds = append(b.Bounds[:0], starts...)
	}
	r.Give(b, buf, n, '\r')
	return !r.EOF || len(r.Carry) > 0, nil
}

// tally holds what the batch and file segments of a stretch say against the
// messages that have come (2.10.3). They belong to no message: it gives the messages without
// them, and as a message of its own what else stands between them.
func (r *Reader) tally(buf []byte, messages []batch.Span) (apart []batch.Span) {
	marks := marksIn(buf)
	c := &r.count
	misplaced := func(at int, format string, args ...any) {
		r.ended = append(r.ended, finding.New("hl7.batch", r.Place(buf, at), format, args...).Suggest("the file may be put together of others, or not be whole: ask for it again"))
	}
	for i, m := range marks {
		r.opening.pass(buf, r.Base, m)
		for len(messages) > 0 && int(messages[0].Off) < m.at {
			c.messages++
			message := messages[0]
			message.End = min(message.End, uint32(m.at))
			apart, messages = append(apart, message), messages[1:]
		}
		switch m.name {
		case "FHS":
			if c.file {
				misplaced(m.at, "FHS begins a file before the one before has ended (FTS)")
			}
			c.file, c.batches, c.messages, c.loose = true, 0, 0, true
		case "BHS":
			if c.open {
				misplaced(m.at, "BHS begins a batch before the one before has ended (BTS)")
			}
			c.messages, c.open, c.loose = 0, true, false
		case "BTS":
			if !c.open {
				misplaced(m.at, "BTS ends a batch that did not begin (BHS)")
			}
			r.compare(buf, m.at, "BTS-1", "messages", c.messages)
			c.batches++
			c.open = false
		case "FTS":
			if !c.file {
				misplaced(m.at, "FTS ends a file that did not begin (FHS)")
			}
			if c.loose && c.messages > 0 { // messages without BHS are one batch
				c.batches = 1
			}
			r.compare(buf, m.at, "FTS-1", "batches", c.batches)
			c.file, c.loose = false, false
		}
		// Behind its line, and before what comes next: nothing, or what is not a message.
		from, to := m.at, len(buf)
		if i+1 < len(marks) {
			to = marks[i+1].at
		}
		if len(messages) > 0 {
			to = min(to, int(messages[0].Off))
		}
		if k := bytes.IndexAny(buf[from:to], "\r\n"); k >= 0 {
			if from += k; len(bytes.TrimFunc(buf[from:to], func(c rune) bool { return c < 0x80 && between(byte(c)) })) > 0 {
				for between(buf[from]) {
					from++
				}
				apart = append(apart, batch.Span{Off: uint32(from), End: uint32(to)})
			}
		}
	}
	apart = append(apart, messages...)
	c.messages += int64(len(messages))
	if r.EOF && (c.open || c.file) {
		name := map[bool]string{true: "BTS", false: "FTS"}[c.open]
		f := finding.New("hl7.unfinished", r.Place(buf, len(buf)), "the file ends without %s: it may not be whole", name)
		r.ended = append(r.ended, f)
	}
	return apart
}

// compare checks a count that a segment says against what came.
func (r *Reader) compare(buf []byte, at int, path, what string, came int64) {
	line := buf[at:]
	if i := bytes.IndexAny(line, "\r\n"); i >= 0 {
		line = line[:i]
	}
	if len(line) < 5 {
		return // it says nothing
	}
	said, _, _ := bytes.Cut(line[4:], line[3:4])
	said = bytes.TrimSpace(said)
	if n, err := strconv.ParseInt(string(said), 10, 64); len(said) == 0 || err == nil && n == came {
		return
	}
	where := r.Place(buf, at)
	where.Path = path
	f := finding.New("hl7.count", where, "%s says %s %s, but %d came", path[:3], finding.Shorten(said), what, came)
	f.Seen, f.Expected = finding.Shorten(said), strconv.FormatInt(came, 10)
	r.ended = append(r.ended, f.Suggest("the file may not be whole: ask for it again"))
}
