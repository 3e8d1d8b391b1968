package format

import (
	"fmt"
	"sync"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/place"
	"ydrion/core/text"
)

// Misread counts messages that say that they are of another character set than UTF-8, and are UTF-8. It may be told by several batches at once.
type Misread struct {
	guard        sync.Mutex
	times        int
	first        place.Place
	set          text.Charset
	means, reads string
}

// Message looks at a message that has bytes beyond ASCII, in a batch, and is said to be of a set.
func (m *Misread) Message(b *batch.Batch, record, start, end int, set text.Charset) {
	one := text.NewMisread(set)
	if one.Write(b.Buf[start:end]); !one.Is() {
		return
	}
	at := start + int(one.Offset)
	m.guard.Lock()
	defer m.guard.Unlock()
	if m.times++; m.times == 1 || b.Base+int64(at) < m.first.Offset { // batches are looked at in any order
		m.first, m.set, m.means, m.reads = b.Unnumbered(record, uint32(at)), set, one.Means, one.Reads
	}
}

// Misread tells of a file that is said to be of another character set than UTF-8, by the route or by its messages, and is UTF-8. Who says it in messages
// is named, and what it must say instead.
func (s *Stream) Misread(of *Misread, who, instead string) finding.List {
	const says = "and all that is beyond ASCII is UTF-8: %q is read, where %q seems to be meant"
	if d, is := s.In.(*text.Decoded); is && d.Misread != nil && d.Misread.Is() {
		m := d.Misread
		f := finding.Warn("text.charset", place.Place{Offset: m.Offset, Line: m.Line, Column: m.Column}, "the route says %s, "+says, d.Charset, m.Reads, m.Means)
		return finding.List{f.Suggest("set the route's encoding to utf-8, if files come so")}
	}
	if of == nil || of.times == 0 {
		return nil
	}
	messages := "a message"
	if of.times > 1 {
		messages = fmt.Sprintf("%d messages", of.times)
	}
	f := finding.Warn("text.charset", of.first, "%s says %s in %s, "+says, who, of.set, messages, of.reads, of.means)
	return finding.List{f.Suggest("%s must say %s, or the route's encoding must be utf-8", who, instead)}
}
