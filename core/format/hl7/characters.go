package hl7

import (
	"bytes"
	"unicode/utf8"

	"ydrion/core/batch"
	"ydrion/core/text"
)

// escape begins the sequences that change between character sets (ISO 2022).
const escape = 0x1b

// control notes the first control character of each kind in a message: NUL and SUB say that data
// was lost; others do not belong into a message (2.5.4), and are passed on. ESC changes character
// sets.
func (w *walk) control(first, start, end int) {
	lost, strange := -1, -1
	for p := start; p < end && lost < 0; p++ {
		switch c := w.b.Buf[p]; {
		case c >= ' ' && c != 0x7f || c == '\r' || c == '\n' || c == '\t' || c == escape:
		case c == 0 || c == substitute:
			lost = p
		case strange < 0:
			strange = p
		}
	}
	if lost >= 0 {
		w.within(first, ruleControl, lost, false)
	}
	if strange >= 0 {
		w.within(first, ruleControlled, strange, true)
	}
}

// substitute stands for a character that could not be read (ISO 646).
const substitute = 0x1a

// inMessages are the bytes that have their place in a message, inBlocks those of a file of blocks.
var inMessages, inBlocks = func() (messages, blocks [256]bool) {
	for c := range messages {
		messages[c] = c >= ' ' && c != 0x7f || c == '\r' || c == '\n' || c == '\t' || c == escape
	}
	blocks = messages
	blocks[blockBegin], blocks[blockEnd] = true, true
	return messages, blocks
}()

// escapes notes the first sequence in a message that is none.
func (w *walk) escapes(start, end int) {
	from := start + len("MSH|^~\\&")
	if from >= end || w.charset.Wide() || bytes.IndexByte(w.b.Buf[from:end], w.sep.Escape) < 0 {
		return
	}
	var strange int
	n := len(w.b.Buf)
	if w.b.Buf, strange = w.sep.AppendUnescaped(w.b.Buf, w.b.Buf[from:end]); strange >= 0 {
		w.note(ruleEscape, -1, from+strange, true)
	}
	w.b.Buf = w.b.Buf[:n]
}

// character finds out how the bytes beyond ASCII of a message are to be read: as
// MSH-18 says. It gives a rule and an offset if that cannot be done, or -1.
func (w *walk) character(start, end int, terminator byte) int {
	buf := w.b.Buf
	if w.charset, w.scan = "", buf; !w.odd || text.IsASCII(buf[start:end]) && bytes.IndexByte(buf[start:end], escape) < 0 {
		return -1
	}
	at := start
	for at < end && buf[at] < 0x80 && buf[at] != escape {
		at++
	}
	if !w.declared {
		if bytes.Contains(buf[start:end], []byte(string(utf8.RuneError))) {
			return ruleUndecoded<<32 | (start + bytes.Index(buf[start:end], []byte(string(utf8.RuneError))))
		}
		if i := text.FirstInvalid(buf[start:end]); i >= 0 {
			return ruleUndecoded<<32 | (start + i)
		}
		return -1
	}
	line, _, _ := bytes.Cut(buf[start:end], []byte{terminator})
	said, ok := declaredCharset(line, w.sep)
	switch {
	case !ok:
		return ruleCharset<<32 | at
	case said == "" && text.IsASCII(buf[start:end]) && !shifts(buf[at:end]):
		return -1
	case said == "":
		return ruleUndeclared<<32 | at
	case said == text.UTF8:
		if i := text.FirstInvalid(buf[start:end]); i >= 0 {
			return ruleUndecoded<<32 | (start + i)
		}
		return -1
	}
	w.charset = said
	if said.Wide() {
		if len(w.mask) < end+batch.Slack {
			w.mask = make([]byte, len(buf))
		}
		copy(w.mask[start:], buf[start:end+batch.Slack])
		said.Mask(w.mask[start:end])
		w.scan = w.mask
	}
	return -1
}

// shifts tells whether there is an escape sequence that changes to another set (ISO 2022): behind one, what looks like a separator may be a part
// of a character.
func shifts(b []byte) bool {
	for {
		i := bytes.IndexByte(b, escape)
		if i < 0 || i+1 >= len(b) {
			return false
		}
		if b = b[i+1:]; b[0] == '$' || b[0] == '(' {
			return true
		}
	}
}
