package segments

import (
	"bytes"
	"fmt"
	"strings"
	"sync"
	"unicode/utf8"

	"ydrion/core/format"
	"ydrion/core/marks"
	"ydrion/core/text"
)

// changes are the characters that change between sets (ISO 2022): escape, shift out and in.
const changes = "\x1b\x0e\x0f"

// control finds the first byte of a segment that stands for a lost character (NUL, SUB), and the
// first other control character.
func (w *walk) control(p, stop int, lost, strange *int) {
	controls := w.s.sets().controls
	for ; p < stop; p++ {
		switch c := w.b.Buf[p]; {
		case !controls.Has(c):
		case (c == 0 || c == 0x1a) && *lost < 0:
			*lost = p
		case *strange < 0 && c != 0 && c != 0x1a:
			*strange = p
		}
	}
}

// sets are those of characters that mean something in a syntax.
type sets struct {
	controls   *text.Controls // that have no place in an interchange
	terminator *marks.Set
	separators *marks.Set // all that separates or releases
	strange    *marks.Set // and what is beyond ASCII
}

func (s *Syntax) sets() *sets {
	if known, ok := known.Load(*s); ok {
		return known.(*sets)
	}
	special := ""
	for c := 1; c < 0x100; c++ {
		if s.special(byte(c)) {
			special += string([]byte{byte(c)})
		}
	}
	n := &sets{terminator: marks.Of(s.Terminator), separators: marks.Of([]byte(special)...)}
	n.strange = n.separators.With(marks.Beyond)
	if special += "\r\n\t"; s.Extends {
		special += changes
	}
	n.controls = text.AllBut(special)
	known.Store(*s, n)
	return n
}

// known are the sets of the syntaxes that have come.
var known sync.Map

// characters says what is wrong with the bytes beyond ASCII of a message: a rule and an offset,
// -1 if nothing is.
func (w *walk) characters(start, end int) int {
	text1 := w.b.Buf[start:end]
	if w.declared && w.s.Extends {
		if i := bytes.IndexAny(text1, changes); i >= 0 {
			return ruleExtended<<32 | (start + i)
		}
	}
	if text.IsASCII(text1) {
		return -1
	}
	switch {
	case w.declared && w.s.Set == "":
		for i, c := range text1 {
			if c >= utf8.RuneSelf {
				return ruleUndeclared<<32 | (start + i)
			}
		}
	case !w.declared || w.s.Set == text.UTF8:
		if i := text.FirstInvalid(text1); i >= 0 {
			return ruleUndecoded<<32 | (start + i)
		}
		if i := bytes.Index(text1, []byte(string(utf8.RuneError))); i >= 0 {
			return ruleUndecoded<<32 | (start + i)
		}
	}
	return -1
}

// levelA tells whether a character is of level A.
func levelA(c rune) bool {
	return c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || strings.ContainsRune(" .,-()/='+:?!\"%&*;<>", c)
}

// narrow tells where a message first has a character that is not of level A (ISO 9735, annex A):
// capital letters, digits, blanks and some signs.
func (m *Message) narrow(say func(format.Difference)) {
	var look func(s *Segment, v *Value, at where) bool
	look = func(s *Segment, v *Value, at where) bool {
		for c := range v.Parts {
			if look(s, &v.Parts[c], at.below(c+1)) {
				return true
			}
		}
		for _, c := range v.Text {
			if levelA(c) {
				continue
			}
			say(format.Difference{Code: "edifact.repertoire", At: v.From, Path: at.String(), Seen: v.Text, Text: fmt.Sprintf("%q is not among the characters of UNOA, which the interchange says it is in", c)})
			return true
		}
		return false
	}
	count := map[string]int{}
	for i := range m.Segments {
		s := &m.Segments[i]
		count[s.Name]++
		for f, field := range s.Fields {
			for r := range field {
				if !s.Outside && look(s, &field[r], where{segment: s.Name, occurrence: count[s.Name], field: f + 1, repetition: r + 1}) {
					return
				}
			}
		}
	}
}
