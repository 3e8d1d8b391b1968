package lang

import (
	"strings"
	"unicode"
	"unicode/utf8"
)

// kind is the kind of a token.
type kind uint8

const (
	end kind = iota
	newline
	word    // a name, keyword or path
	literal // a text in quotes, still escaped
	digits  // a number
	sign    // = != < <= > >= | ( ) , + - * /
	broken  // what cannot be a token; text says why
)

type token struct {
	kind kind
	text string
	pos  int // byte offset
}

// scanner cuts a source into tokens on demand. A line that begins with | or
// with an answer (if …) goes on with the line before.
type scanner struct {
	source string
	at     int
}

func letter(r rune) bool { return r == '_' || unicode.IsLetter(r) }

func alnum(r rune) bool { return letter(r) || unicode.IsDigit(r) }

func (s *scanner) rune(at int) (rune, int) { return utf8.DecodeRuneInString(s.source[at:]) }

// space skips blanks and comments, not line ends.
func (s *scanner) space() {
	for s.at < len(s.source) {
		switch c := s.source[s.at]; {
		case c == ' ' || c == '\t' || c == '\r':
			s.at++
		case c == '#':
			for s.at < len(s.source) && s.source[s.at] != '\n' {
				s.at++
			}
		default:
			return
		}
	}
}

func (s *scanner) next() token {
	s.space()
	if s.at >= len(s.source) {
		return token{end, "the end", s.at}
	}
	start := s.at
	c := s.source[s.at]
	if c == '\n' {
		return s.lineEnd()
	}
	if c == '"' {
		return s.text()
	}
	if c >= '0' && c <= '9' {
		for s.at < len(s.source) && (s.source[s.at]-'0' <= 9 || s.source[s.at] == '.' && s.at+1 < len(s.source) && s.source[s.at+1]-'0' <= 9) {
			s.at++
		}
		return token{digits, s.source[start:s.at], start}
	}
	if r, _ := s.rune(s.at); letter(r) {
		return s.word()
	}
	if c == '/' && s.at+1 < len(s.source) {
		if r, _ := s.rune(s.at + 1); alnum(r) || r == '~' {
			return s.pointer()
		}
	}
	for _, two := range []string{"!=", "<=", ">="} {
		if strings.HasPrefix(s.source[s.at:], two) {
			s.at += 2
			return token{sign, two, start}
		}
	}
	if strings.IndexByte("=<>|(),+-*/", c) >= 0 {
		s.at++
		return token{sign, string(c), start}
	}
	_, n := s.rune(s.at)
	s.at += n
	return token{broken, "the character " + s.source[start:s.at] + " has no meaning here", start}
}

// lineEnd joins empty lines, and finds out whether the next line goes on.
func (s *scanner) lineEnd() token {
	start := s.at
	for s.at < len(s.source) && s.source[s.at] == '\n' {
		s.at++
		s.space()
	}
	rest := s.source[s.at:]
	if strings.HasPrefix(rest, "|") || strings.HasPrefix(rest, "if ") {
		return s.next()
	}
	return token{newline, "the end of the line", start}
}

// segment tells whether a word is the name of a segment, which functions are never called.
func segment(s string) bool {
	return (len(s) == 2 || len(s) == 3) && s[0] >= 'A' && s[0] <= 'Z' && strings.Trim(s, "ABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789") == ""
}

// loop tells whether a slash stands between segments: a segment before it, maybe chosen, and another one
// behind.
func (s *scanner) loop(start int) bool {
	before, rest := last(s.source[start:s.at]), s.source[s.at+1:]
	if i := strings.IndexByte(before, '('); i >= 0 && strings.HasSuffix(before, ")") {
		before = before[:i]
	}
	n := 0
	for n < len(rest) && (rest[n] >= 'A' && rest[n] <= 'Z' || n > 0 && rest[n]-'0' <= 9) {
		n++
	}
	return segment(before) && segment(rest[:n])
}

// last is what stands behind the last slash of a path, but for those in parentheses.
func last(path string) string {
	if i := strings.LastIndexByte(path, ')'); i >= 0 && strings.IndexByte(path[i:], '/') < 0 {
		return path[strings.LastIndexByte(path[:strings.LastIndexByte(path[:i], '(')+1], '/')+1:]
	}
	return path[strings.LastIndexByte(path, '/')+1:]
}

// word takes a name and what belongs to a path: a tight hyphen, a tight dot, an
// index in brackets, the choice of a segment in parentheses.
func (s *scanner) word() token {
	start := s.at
	for s.at < len(s.source) {
		r, n := s.rune(s.at)
		switch {
		case alnum(r):
			s.at += n
		case (r == '-' || r == '.') && s.at+1 < len(s.source):
			if after, _ := s.rune(s.at + 1); !alnum(after) {
				return token{word, s.source[start:s.at], start}
			}
			s.at++
		case r == '[':
			close := strings.IndexAny(s.source[s.at:], "]\n")
			if close < 0 || s.source[s.at+close] == '\n' {
				s.at = len(s.source)
				return token{broken, "[ is not closed", start}
			}
			s.at += close + 1
		case r == '/' && s.loop(start): // NAD(BY)/CTA-2
			s.at++
		case r == '(' && segment(last(s.source[start:s.at])): // NAD(BY)-2
			close := strings.IndexAny(s.source[s.at:], ")\n")
			if close < 0 || s.source[s.at+close] == '\n' {
				s.at = len(s.source)
				return token{broken, "( is not closed", start}
			}
			s.at += close + 1
		default:
			return token{word, s.source[start:s.at], start}
		}
	}
	return token{word, s.source[start:s.at], start}
}

// pointer takes a JSON Pointer (RFC 6901): a slash, and what follows without a gap.
func (s *scanner) pointer() token {
	start := s.at
	for s.at < len(s.source) && !strings.ContainsRune(" \t\r\n,|)}", rune(s.source[s.at])) {
		s.at++
	}
	return token{word, s.source[start:s.at], start}
}

// text takes a text in quotes; it ends on its line.
func (s *scanner) text() token {
	start := s.at
	end := textEnd(s.source, start)
	if end < 0 {
		if s.at = len(s.source); strings.IndexByte(s.source[start:], '\n') >= 0 {
			s.at = start + strings.IndexByte(s.source[start:], '\n')
		}
		return token{broken, "the text is not closed on its line", start}
	}
	s.at = end + 1
	return token{literal, s.source[start+1 : end], start}
}

// mostTexts is how deep texts may stand in expressions that stand in texts.
const mostTexts = 20

// textEnd gives the quote that ends the text that begins with the quote at i, -1 if there is
// none on its line. Expressions in it may hold texts of their own; if their braces and quotes
// do not close, it is the next quote.
func textEnd(s string, i int) int {
	if end := nestedEnd(s, i); end >= 0 {
		return end
	}
	for i++; i < len(s) && s[i] != '\n'; i++ {
		switch s[i] {
		case '\\':
			i++
		case '"':
			return i
		}
	}
	return -1
}

// nestedEnd gives the quote or brace that ends what begins with the one at i: a text, in which
// expressions stand in braces, or an expression, in which texts stand in quotes. It is -1 if
// there is none on its line.
func nestedEnd(s string, i int) int {
	texts := []bool{s[i] == '"'} // what is open: a text, or an expression
	for i++; i < len(s) && s[i] != '\n' && len(texts) <= 2*mostTexts; i++ {
		c, last := s[i], len(texts)-1
		switch {
		case texts[last] && c == '\\':
			i++
		case texts[last] && c == '{' && i+1 < len(s) && s[i+1] == '{':
			i++
		case texts[last] && c == '{':
			texts = append(texts, false)
		case !texts[last] && c == '"':
			texts = append(texts, true)
		case texts[last] && c == '"', !texts[last] && c == '}':
			if texts = texts[:last]; last == 0 {
				return i
			}
		}
	}
	return -1
}

// ExpressionEnd gives the brace that ends the expression in a text that begins with the brace
// at i, -1 if there is none.
func ExpressionEnd(text string, i int) int { return nestedEnd(text, i) }

// line takes the rest of the line as blank-separated parts, for headings that
// hold file names.
func (s *scanner) line() (parts []token) {
	for {
		for s.at < len(s.source) && (s.source[s.at] == ' ' || s.source[s.at] == '\t' || s.source[s.at] == '\r') {
			s.at++
		}
		start := s.at
		for s.at < len(s.source) && !strings.ContainsRune(" \t\r\n", rune(s.source[s.at])) {
			s.at++
		}
		if start == s.at {
			return parts
		}
		if s.source[start] == '#' {
			s.at = start
			s.space()
			return parts
		}
		parts = append(parts, token{word, s.source[start:s.at], start})
	}
}
