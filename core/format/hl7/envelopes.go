package hl7

import (
	"bytes"
	"slices"

	"ydrion/core/batch"
	"ydrion/core/format"
)

// mark is a segment of a batch or file in a text (2.10.3).
type mark struct {
	at   int
	name string
}

func marksIn(buf []byte) (marks []mark) {
	for _, name := range []string{"FHS", "BHS", "BTS", "FTS"} {
		for i := nextSegment(buf, 0, name); i >= 0; i = nextSegment(buf, i+3, name) {
			marks = append(marks, mark{i, name})
		}
	}
	slices.SortFunc(marks, func(a, b mark) int { return a.at - b.at })
	return marks
}

// opening are the lines that have opened a file and a batch, without text if none is open.
type opening struct{ file, batch batch.Opened }

// pass goes past a mark in a text that stands at an offset.
func (o *opening) pass(buf []byte, base int64, m mark) {
	line := buf[m.at:]
	if i := bytes.IndexAny(line, "\r\n"); i >= 0 {
		for line = line[:i+1]; m.at+i+1 < len(buf) && line[i] == '\r' && buf[m.at+i+1] == '\n' && len(line) == i+1; {
			line = buf[m.at : m.at+i+2]
		}
	}
	this := batch.Opened{Text: bytes.Clone(line), At: base + int64(m.at)}
	switch m.name {
	case "FHS":
		*o = opening{file: this}
	case "BHS":
		o.batch = this
	case "BTS":
		o.batch = batch.Opened{}
	case "FTS":
		*o = opening{}
	}
}

// around are the envelopes that are open.
func (o *opening) around() (out []format.Envelope) {
	for i, opened := range []batch.Opened{o.file, o.batch} {
		line := opened.Text
		if len(line) < 4 {
			continue
		}
		end := line[len(bytes.TrimRight(line, "\r\n")):]
		if len(end) == 0 {
			end = []byte{'\r'}
		}
		opens := append(bytes.TrimRight(line, "\r\n"), end...)
		out = append(out, format.Envelope{Opens: bytes.Clone(opens), Closes: append([]byte([]string{"FTS", "BTS"}[i]), line[3]), Number: bytes.Clone(end), Together: i == 0, At: opened.At})
	}
	return out
}

var _ format.Enveloped = (*Reader)(nil)
var _ format.Ending = (*Reader)(nil)

// Ended ends a message's last segment.
func (r *Reader) Ended(message []byte) []byte {
	if n := len(message); n > 0 && message[n-1] != '\r' && message[n-1] != '\n' {
		return append(message, '\r')
	}
	return message
}

// Envelopes tells in which file and batch each message of a batch stands.
func (r *Reader) Envelopes(b *batch.Batch, say func(record int, around []format.Envelope, end []byte)) {
	open := opening{}
	for _, o := range b.Open {
		open.pass(o.Text, o.At, mark{0, string(o.Text[:3])})
	}
	var marks []mark
	if r.batches {
		marks = marksIn(b.Buf[:b.N])
	}
	around := open.around()
	for i, m := range b.Bounds {
		changed := false
		for len(marks) > 0 && marks[0].at < int(m.Off) {
			open.pass(b.Buf[:b.N], b.Base, marks[0])
			marks, changed = marks[1:], true
		}
		if changed {
			around = open.around()
		}
		say(i, around, nil)
	}
}
