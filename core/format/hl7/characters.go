package hl7

import (
	"bytes"
	"slices"
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
	lost, strange := -1, -1 // lost: that of the line, or the first
	for p := start; p < end; p++ {
		switch c := w.b.Buf[p]; {
		case c == '\r' || c == '\n':
			if w.Unit >= 0 {
				lost = -1
			}
		case c >= ' ' && c != 0x7f || c == '\t' || c == escape:
		case c == 0 || c == substitute:
			if lost < 0 {
				lost = p
				w.wrong(ruleControl, -1, p)
			}
		case strange < 0:
			strange = p
		}
	}
	if strange >= 0 {
		w.within(first, ruleControlled, strange, true)
	}
}

// substitute stands for a character that could not be read (ISO 646).
const substitute = 0x1a

// inMessages are the control characters that have no place in a message, inBlocks those that have none in a file of blocks.
var (
	inMessages = text.AllBut("\r\n\t\x1b")
	inBlocks   = text.AllBut("\r\n\t\x1b" + string([]byte{blockBegin, blockEnd}))
)

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
	if !w.declared {
		return w.stranger(ruleUndecoded, start, end)
	}
	at := w.stranger(ruleUndeclared, start, end) & 0xffffffff
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
		return w.stranger(ruleUndecoded, start, end)
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

// stranger finds the first byte of a text that a rule is about, -1 if there is none, and gives it with the rule: one that is no character, or else one
// beyond ASCII.
func (w *walk) stranger(rule, start, end int) int {
	line := w.b.Buf[start:end]
	i := -1
	switch {
	case rule != ruleUndecoded:
		i = slices.IndexFunc(line, func(c byte) bool { return c >= utf8.RuneSelf || c == escape })
	default:
		if i = text.FirstInvalid(line); i < 0 && !w.declared { // which was one before it was decoded
			i = bytes.Index(line, []byte(string(utf8.RuneError)))
		}
	}
	if i < 0 {
		return -1
	}
	return rule<<32 | (start + i)
}

// strangers notes the first byte that a rule is about in a message, or in each of its segments where its units are records.
func (w *walk) strangers(rule, start, end int, terminator byte) {
	for p := start; p < end; {
		stop := end
		if i := bytes.IndexByte(w.b.Buf[p:end], terminator); i >= 0 && w.Unit >= 0 {
			stop = p + i + 1
		}
		if at := w.stranger(rule, p, stop); at >= 0 {
			w.wrong(rule, -1, at&0xffffffff)
		}
		p = stop
	}
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
