package text

import (
	"fmt"

	"ydrion/core/marks"
	"ydrion/core/value"
)

// Escapes is a table of the characters that are structure in a target and of
// what stands for each in data, and says whether values stand in quotes.
type Escapes struct {
	special [256]bool
	with    [256]string
	quote   byte // around values; 0: none
	always  bool // around all of them, not only those with special characters
	guard   bool // before what a spreadsheet program would take for a formula
	sieve   sieve
	set     *marks.Set
}

// NewEscapes makes a table. A CR LF in data is written as one line break where CR
// and LF are written alike.
func NewEscapes(with map[byte]string) *Escapes {
	e := &Escapes{}
	for c, s := range with {
		e.special[c], e.with[c] = true, s
	}
	e.sieve = newSieve(&e.special)
	e.set = marks.Where(func(c byte) bool { return e.special[c] })
	return e
}

// Quoted puts values into quotes: all, or those with special characters.
func (e *Escapes) Quoted(quote byte, always bool) *Escapes {
	e.quote, e.always = quote, always
	return e
}

// JSON is the table for strings (RFC 8259, 7).
var JSON = func() *Escapes {
	with := map[byte]string{'"': `\"`, '\\': `\\`, '\n': `\n`, '\r': `\r`, '\t': `\t`}
	for c := range byte(0x20) {
		if with[c] == "" {
			with[c] = fmt.Sprintf(`\u%04x`, c)
		}
	}
	return NewEscapes(with).Quoted('"', true)
}()

// Copies tells whether a value in which nothing is special stands as it is, in its quotes if there are any, whatever it begins with.
func (e *Escapes) Copies() bool { return !e.guard }

// Copy puts a value into a room as Append would write it, and gives how many bytes that are; -1: the value may
// have special characters, or the room is small, and Append is to write it. What the room holds behind them
// means nothing then.
func (e *Escapes) Copy(room, value []byte) int {
	if e.guard || len(room) < len(value)+2 {
		return -1
	}
	if !e.always {
		if !e.copy(room, value) {
			return -1
		}
		return len(value)
	}
	if !e.copy(room[1:], value) {
		return -1
	}
	room[0], room[len(value)+1] = e.quote, e.quote
	return len(value) + 2
}

// copy copies a value without special characters; it is false if there may be some.
func (e *Escapes) copy(room, value []byte) bool {
	if len(value) > short {
		n, ok := e.sieve.copy(room, value)
		return ok && n == len(value)
	}
	room = room[:len(value)]
	for i, c := range value {
		if e.special[c] {
			return false
		}
		room[i] = c
	}
	return true
}

// short is a length up to which a value is copied byte by byte.
const short = 12

// Specials are the characters that are written otherwise.
func (e *Escapes) Specials() *marks.Set { return e.set }

// Always gives the quote that stands around every text, 0 if there is none. Where
// there is one, numbers and truth values stand without.
func (e *Escapes) Always() byte {
	if e.always {
		return e.quote
	}
	return 0
}

// Guarded makes a table that puts an apostrophe before texts that spreadsheet
// programs take for formulas: those that begin with = + - @ or a control
// character, but for numbers.
func (e *Escapes) Guarded() *Escapes {
	guarded := *e
	guarded.guard = true
	return &guarded
}

func formula(v []byte) bool {
	switch {
	case len(v) == 0:
		return false
	case v[0] == '=' || v[0] == '@' || v[0] == '\t' || v[0] == '\r':
		return true
	}
	return (v[0] == '+' || v[0] == '-') && !value.IsNumber(v) && !value.IsNumber(v[1:])
}

// Append writes a value with every special character replaced.
func (e *Escapes) Append(to, value []byte) []byte {
	if e.guard && formula(value) {
		value = append([]byte{'\''}, value...)
	}
	if n := e.Copy(to[len(to):cap(to)], value); n >= 0 {
		return to[:len(to)+n]
	}
	first := 0
	for first < len(value) && !e.special[value[first]] {
		first++
	}
	quoted := e.always || e.quote != 0 && first < len(value)
	if quoted {
		to = append(to, e.quote)
	}
	if first == len(value) {
		to = append(to, value...)
	} else {
		to = e.replace(to, value, first)
	}
	if quoted {
		to = append(to, e.quote)
	}
	return to
}

// replace writes a value whose first special character is known.
func (e *Escapes) replace(to, value []byte, first int) []byte {
	from := 0
	for i := first; i < len(value); i++ {
		c := value[i]
		if !e.special[c] {
			continue
		}
		to = append(to, value[from:i]...)
		from = i + 1
		if c == '\r' && from < len(value) && value[from] == '\n' && e.with['\r'] == e.with['\n'] {
			continue
		}
		to = append(to, e.with[c]...)
	}
	return append(to, value[from:]...)
}

// Special tells whether a text has characters that are written otherwise, within quotes or
// without.
func (e *Escapes) Special(s string) bool {
	for i := range len(s) {
		if e.special[s[i]] {
			return true
		}
	}
	return false
}
