package formats

import (
	"bytes"
	"fmt"
	"slices"
	"unicode/utf8"

	"ydrion/core/format"
	"ydrion/core/text"
)

// Head is how much of a file is looked at to recognise it.
const Head = 64 << 10

// recognising is a guess that is being made.
type recognising struct{ format.Guess }

// Detect recognises a file from its first bytes (up to Head), undone of
// compression. What is known of it is not guessed.
func Detect(head []byte, known format.Known) format.Guess {
	g := &recognising{format.Guess{Compression: "none", Confidence: format.Certain, Reasons: []string{}, Settings: []string{}}}
	if known == (format.Known{}) && g.other(head) {
		return g.Guess
	}
	decoded := head
	if known.Charset != "" {
		g.Because(format.Certain, "you say that it is in %s", known.Charset)
		decoded = g.decode(head, known.Charset)
	} else if decoded = g.says(head); decoded == nil {
		decoded = g.charset(head)
	}
	start := bytes.TrimLeft(decoded, " \t\r\n\x0b\x1e")
	said := Named(known.Format)
	switch {
	case len(start) == 0:
		g.Because(format.Certain, "there is nothing but blanks")
		return g.Guess
	case said != nil:
		g.Because(format.Certain, "you say that it is %s", said.Title)
		if g.Format = said.Name; !said.Recognise(&g.Guess, start, decoded, known) {
			g.Because(format.Guessed, "it does not begin like %s", said.Title)
		}
	default:
		g.recognise(start, decoded, known)
	}
	if f := Named(g.Format); f != nil {
		if g.Title, g.Guided = f.Title, f.Catalog != nil; !f.Declares && !f.Standard && g.Charset != text.UTF8 {
			g.Settings = append(g.Settings, "encoding: "+string(g.Charset))
		}
	}
	return g.Guess
}

// recognise tries all formats; what is meant to be of one and is broken, before the one that takes
// any text.
func (g *recognising) recognise(start, whole []byte, known format.Known) {
	for _, f := range slices.Backward(All[1:]) {
		if g.Format = f.Name; f.Recognise(&g.Guess, start, whole, known) {
			return
		}
	}
	for _, f := range All[1:] {
		if g.Format = f.Name; f.Broken != nil && f.Broken(&g.Guess, start) {
			return
		}
	}
	g.Format = All[0].Name
	All[0].Recognise(&g.Guess, start, whole, known)
}

// decode gives text in a character set as UTF-8.
func (g *recognising) decode(head []byte, set text.Charset) []byte {
	g.Charset = set
	if set == text.UTF8 {
		return bytes.TrimPrefix(head, []byte("\uFEFF"))
	}
	out, err := text.DecodeAll(head, set)
	if err != nil && len(out) == 0 {
		return head
	}
	return bytes.TrimPrefix(out, []byte("\uFEFF"))
}

// says gives the text in the character set that it names itself; nil if it names none, or is not in that.
func (g *recognising) says(head []byte) []byte {
	if i := bytes.LastIndexAny(head, "\r\n"); i >= 0 && len(head) >= Head {
		head = head[:i+1] // the last character may be cut
	}
	for _, f := range All {
		if f.Says == nil {
			continue
		}
		if set := f.Says(head); set != "" && set != text.UTF8 {
			if decoded, err := text.DecodeAll(head, set); err == nil {
				g.Charset = set
				return decoded
			}
		}
	}
	return nil
}

// letters counts the characters of several bytes that are whole, and the bytes that are none,
// and says where the first of those is.
func letters(b []byte) (whole, wrong, first int) {
	first = -1
	for i := 0; i < len(b); {
		r, n := utf8.DecodeRune(b[i:])
		switch {
		case r == utf8.RuneError && n == 1:
			if wrong++; first < 0 {
				first = i
			}
		case n > 1:
			whole++
		}
		i += n
	}
	return whole, wrong, first
}

// charset finds out what the text is written in, and gives it as UTF-8.
func (g *recognising) charset(head []byte) []byte {
	decode := func(set text.Charset) []byte { return g.decode(head, set) }
	zeros := [2]int{}
	for i, c := range head {
		if c == 0 {
			zeros[i%2]++
		}
	}
	whole := head
	for n := 0; n < utf8.UTFMax && !utf8.Valid(whole) && len(head) >= Head; n++ {
		whole = whole[:len(whole)-1] // the last character may be cut
	}
	switch {
	case bytes.HasPrefix(head, []byte("\xEF\xBB\xBF")):
		g.Because(format.Certain, "it begins with the byte order mark of UTF-8")
		g.Charset = text.UTF8
		return head[3:]
	case bytes.HasPrefix(head, []byte("\xFF\xFE")), bytes.HasPrefix(head, []byte("\xFE\xFF")):
		g.Because(format.Certain, "it begins with the byte order mark of UTF-16")
		if head[0] == 0xFE {
			return decode(text.UTF16BE)
		}
		return decode(text.UTF16LE)
	case zeros[1] > len(head)/4 && zeros[0] == 0:
		g.Because(format.Likely, "every second byte is zero, as in UTF-16")
		return decode(text.UTF16LE)
	case zeros[0] > len(head)/4 && zeros[1] == 0:
		g.Because(format.Likely, "every other byte is zero, as in UTF-16")
		return decode(text.UTF16BE)
	case utf8.Valid(whole):
		g.Charset = text.UTF8
		return head
	}
	// Letters of other sets hardly ever look like characters of UTF-8.
	right, wrong, first := letters(whole)
	odd := fmt.Sprintf("byte %02X at %d", head[first], first)
	if wrong > 1 {
		odd += fmt.Sprintf(" and %d more", wrong-1)
	}
	switch {
	case right > wrong:
		g.Charset = text.UTF8
		g.Because(format.Guessed, "it seems to be UTF-8: %d characters are; %s is not", right, odd)
		return head
	case slices.ContainsFunc(head, func(c byte) bool { return c >= 0x80 && c <= 0x9f }):
		g.Because(format.Guessed, "it is not UTF-8 (%s); bytes from 80 to 9F are letters in windows-1252", odd)
		return decode(text.Windows1252)
	}
	g.Because(format.Guessed, "it is not UTF-8 (%s); no byte speaks against iso-8859-1, and none proves it", odd)
	return decode(text.Latin1)
}
