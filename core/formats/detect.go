// Package formats knows all formats: it recognises what a file is, and looks at
// files that no route has been made for yet.
package formats

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"ydrion/core/format"
	"ydrion/core/format/csv"
	"ydrion/core/format/edifact"
	"ydrion/core/format/hl7"
	"ydrion/core/format/json"
	"ydrion/core/format/x12"
	"ydrion/core/segments"
	"ydrion/core/standard"
	"ydrion/core/text"
)

// Confidence says how sure a guess is.
type Confidence string

const (
	Certain Confidence = "certain" // the format says so itself
	Likely  Confidence = "likely"  // everything that was seen agrees
	Guessed Confidence = "guessed" // something had to be assumed
)

// Guess is what a file seems to be, from its first kilobytes.
type Guess struct {
	Format      string       `json:"format" doc:"csv, json, hl7, x12, edifact, or empty if it is none that is known"`
	Version     string       `json:"version" doc:"of the standard, as the file says it"`
	Type        string       `json:"type" doc:"of the first message or document"`
	Charset     text.Charset `json:"encoding"`
	Compression string       `json:"compression" doc:"gzip, zip or none"`
	Confidence  Confidence   `json:"confidence"`
	Reasons     []string     `json:"reasons" doc:"why, in sentences"`
	Settings    []string     `json:"settings" doc:"lines for the read part of a route"`

	dialect csv.Dialect
}

// Known is what somebody knows of a file; the zero value is nothing.
type Known struct {
	Format    string // csv, json, hl7, x12 or edifact
	Charset   text.Charset
	Delimiter byte  // of csv
	Heading   *bool // whether the first line of csv names the columns
}

// Head is how much of a file is looked at to recognise it.
const Head = 64 << 10

// Detect recognises a file from its first bytes (up to Head), undone of
// compression. What is known of it is not guessed.
func Detect(head []byte, known Known) Guess {
	g := Guess{Compression: "none", Confidence: Certain, Reasons: []string{}, Settings: []string{}}
	if known == (Known{}) && g.other(head) {
		return g
	}
	decoded := head
	if known.Charset != "" {
		g.because(Certain, "you say that it is in %s", known.Charset)
		decoded = g.decode(head, known.Charset)
	} else {
		decoded = g.charset(head)
	}
	start := bytes.TrimLeft(decoded, " \t\r\n\x0b\x1e")
	recognisers := map[string]func() bool{
		"hl7":     func() bool { return g.hl7(start) },
		"x12":     func() bool { return g.x12(start) },
		"edifact": func() bool { return g.edifact(start) },
		"json":    func() bool { return g.json(start, decoded) },
		"csv":     func() bool { g.csv(decoded, known); return true },
	}
	switch {
	case len(start) == 0:
		g.because(Certain, "there is nothing but blanks")
	case known.Format != "":
		g.because(Certain, "you say that it is %s", Name(known.Format))
		if !recognisers[known.Format]() {
			g.Format = known.Format
			g.because(Guessed, "it does not begin like %s", Name(known.Format))
		}
	default:
		recognisers["broken"] = func() bool { return g.broken(start) }
		for _, name := range []string{"hl7", "x12", "edifact", "json", "broken", "csv"} {
			if recognisers[name]() {
				break
			}
		}
	}
	if g.Format == "csv" || g.Format == "json" {
		if g.Charset != text.UTF8 {
			g.Settings = append(g.Settings, "encoding: "+string(g.Charset))
		}
	}
	return g
}

func (g *Guess) because(c Confidence, format string, args ...any) {
	if c == Guessed || c == Likely && g.Confidence == Certain {
		g.Confidence = c
	}
	g.Reasons = append(g.Reasons, fmt.Sprintf(format, args...))
}

// Name is what a format is called.
func Name(format string) string {
	return map[string]string{"csv": "CSV", "json": "JSON", "hl7": "HL7 v2", "x12": "X12", "edifact": "EDIFACT"}[format]
}

// decode gives text in a character set as UTF-8.
func (g *Guess) decode(head []byte, set text.Charset) []byte {
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
func (g *Guess) charset(head []byte) []byte {
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
		g.because(Certain, "it begins with the byte order mark of UTF-8")
		g.Charset = text.UTF8
		return head[3:]
	case bytes.HasPrefix(head, []byte("\xFF\xFE")), bytes.HasPrefix(head, []byte("\xFE\xFF")):
		g.because(Certain, "it begins with the byte order mark of UTF-16")
		if head[0] == 0xFE {
			return decode(text.UTF16BE)
		}
		return decode(text.UTF16LE)
	case zeros[1] > len(head)/4 && zeros[0] == 0:
		g.because(Likely, "every second byte is zero, as in UTF-16")
		return decode(text.UTF16LE)
	case zeros[0] > len(head)/4 && zeros[1] == 0:
		g.because(Likely, "every other byte is zero, as in UTF-16")
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
		g.because(Guessed, "it seems to be UTF-8: %d characters are; %s is not", right, odd)
		return head
	case slices.ContainsFunc(head, func(c byte) bool { return c >= 0x80 && c <= 0x9f }):
		g.because(Guessed, "it is not UTF-8 (%s); bytes from 80 to 9F are letters in windows-1252", odd)
		return decode(text.Windows1252)
	}
	g.because(Guessed, "it is not UTF-8 (%s); no byte speaks against iso-8859-1, and none proves it", odd)
	return decode(text.Latin1)
}

// line is the first line of a text.
func line(b []byte) []byte {
	if i := bytes.IndexAny(b, "\r\n"); i >= 0 {
		return b[:i]
	}
	return b
}

func (g *Guess) hl7(b []byte) bool {
	name := string(b[:min(3, len(b))])
	if name != "MSH" && name != "FHS" && name != "BHS" || len(b) < 8 {
		return false
	}
	g.Format = "hl7"
	g.because(Certain, "it begins with %s and its separators %s", name, b[3:8])
	at := b
	if name != "MSH" {
		i := bytes.Index(b, []byte("MSH"))
		if i < 0 {
			return true
		}
		at = b[i:]
	}
	if m, err := hl7.Parse(append(bytes.Clone(line(at)), '\r')); err == nil {
		g.Version, _ = m.Get("MSH-12")
		code, _ := m.Get("MSH-9.1")
		event, _ := m.Get("MSH-9.2")
		g.Type = strings.TrimSuffix(code+"^"+event, "^")
		g.because(Certain, "the first message says %s, version %s", g.Type, g.Version)
		switch book, of := hl7.Book(g.Version); {
		case book == nil:
			g.because(Certain, "version %s is not described here: names and codes are not shown, and nothing is held against it", g.Version)
		case of != g.Version:
			g.because(Certain, "version %s is not described here: names and codes are those of %s", g.Version, of)
		}
		if set, ok := m.Get("MSH-18"); ok {
			g.because(Certain, "MSH-18 names its character set: %s", set)
		} else if g.Charset != text.UTF8 {
			g.because(Guessed, "MSH-18 does not name a character set")
			g.Settings = append(g.Settings, "encoding: "+string(g.Charset))
		}
	}
	return true
}

// x12 knows the fixed lengths of the ISA segment (X12.5).
func (g *Guess) x12(b []byte) bool {
	if len(b) < 106 || string(b[:3]) != "ISA" {
		return false
	}
	element := b[3]
	for _, at := range []int{6, 17, 20, 31, 34, 50, 53, 69, 76, 81, 83, 89, 99, 101, 103} {
		if b[at] != element {
			return false
		}
	}
	g.Format, g.Version = "x12", string(b[84:89])
	g.because(Certain, "it begins with an ISA segment of 106 characters; elements end with %q, segments with %q", element, b[105])
	name := func(from, to int) string { return strings.TrimSpace(string(b[from:to])) }
	g.because(Certain, "interchange %s from %s to %s, for %s", name(90, 99), name(35, 50), name(54, 69), map[byte]string{'P': "production", 'T': "test", 'I': "information"}[b[102]])
	var group []byte
	for _, s := range bytes.Split(b[106:], b[105:106]) {
		parts := bytes.Split(bytes.TrimLeft(s, "\r\n"), []byte{element})
		switch {
		case string(parts[0]) == "GS" && len(parts) > 8:
			g.Version, group = string(parts[8]), bytes.TrimLeft(s, "\r\n")
		case string(parts[0]) == "ST" && len(parts) > 1 && g.Type == "":
			g.Type = string(parts[1])
			g.because(Certain, "the first transaction set is a %s of %s", g.Type, g.Version)
			g.described(x12.Rules.Described([][]byte{group}, bytes.TrimLeft(s, "\r\n"), segments.Syntax{Element: b[3]}))
		}
	}
	return true
}

// edifact knows UNA and UNB (ISO 9735-1).
func (g *Guess) edifact(b []byte) bool {
	separators := "+:'"
	switch {
	case len(b) > 9 && string(b[:3]) == "UNA":
		separators = string([]byte{b[4], b[3], b[8]})
		g.because(Certain, "it begins with UNA and its separators %s", b[3:9])
	case len(b) > 4 && (string(b[:4]) == "UNB+" || string(b[:4]) == "UIB+"):
		g.because(Certain, "it begins with %s", b[:3])
	default:
		return false
	}
	g.Format = "edifact"
	for _, s := range strings.Split(string(b), separators[2:]) {
		parts := strings.Split(strings.TrimLeft(s, "\r\n"), separators[:1])
		switch {
		case parts[0] == "UNB" && len(parts) > 1:
			g.because(Certain, "the interchange says it is in %s", parts[1])
			if len(parts) > 5 {
				of := func(n int) string { s, _, _ := strings.Cut(parts[n], separators[1:2]); return s }
				use := "production"
				if len(parts) > 11 && parts[11] == "1" {
					use = "test"
				}
				g.because(Certain, "interchange %s from %s to %s, for %s", parts[5], of(2), of(3), use)
			}
		case parts[0] == "UNH" && len(parts) > 2 && g.Type == "":
			of := strings.Split(parts[2], separators[1:2])
			g.Type = of[0]
			if len(of) > 2 {
				g.Version = of[1] + "." + of[2]
			}
			g.because(Certain, "the first message is %s of %s", g.Type, g.Version)
			book := edifact.Directories.Book(g.Version)
			if book == nil {
				g.described(nil, nil)
			} else {
				g.described(book, book.Structure(g.Type))
			}
		}
	}
	return true
}

// described says when there is no description of a message.
func (g *Guess) described(book *standard.Book, structure *standard.Structure) {
	switch {
	case book == nil:
		g.because(Certain, "%s is not described here: it is shown by its segments, and nothing is held against it", g.Version)
	case structure == nil:
		g.because(Certain, "%s of %s is not described here: it is shown by its segments", g.Type, g.Version)
	}
}

func (g *Guess) json(b, whole []byte) bool {
	first := bytes.TrimSpace(line(b))
	switch {
	case b[0] == '{' || b[0] == '[' || whole[0] == 0x1e:
	case len(first) == len(bytes.TrimSpace(b)) && json.Valid(first):
		g.Format, g.Type = "json", "value"
		g.because(Guessed, "it is one value of JSON; a table of one column and one line would look the same")
		return true
	default:
		return false
	}
	g.Format, g.Type = "json", "document"
	if g.Charset != text.UTF8 {
		g.because(Guessed, "JSON is to be UTF-8 (RFC 8259, 8.1), and this is not: it may be broken")
	}
	_, rest, _ := bytes.Cut(b, []byte("\n"))
	rest = bytes.TrimLeft(rest, " \t\r\n\x1e")
	switch {
	case bytes.IndexByte(whole[:len(whole)-len(b)], 0x1e) >= 0:
		g.Type = "text sequence"
		g.because(Certain, "values follow the record separator of RFC 7464")
	case b[0] == '[':
		g.Type = "list"
		g.because(Likely, "it begins with a bracket: each element is a record")
	case len(first) > 1 && first[len(first)-1] == '}' && len(rest) > 0 && rest[0] == '{':
		g.Type = "lines"
		g.because(Likely, "its lines are objects")
	default:
		g.because(Likely, "it begins with a brace")
	}
	return true
}

// csv counts columns with each delimiter.
func (g *Guess) csv(b []byte, known Known) {
	g.Format = "csv"
	if i := bytes.IndexByte(b, 0); i >= 0 {
		control := 0
		for _, c := range b {
			if c < ' ' && c != '\t' && c != '\r' && c != '\n' {
				control++
			}
		}
		if control > max(8, len(b)/20) && known.Format == "" {
			g.Format = ""
			g.because(Guessed, "it is no text: of %d bytes %d are control characters", len(b), control)
			return
		}
		g.because(Guessed, "it has NUL bytes, the first at %d, which no text has: it may be damaged", i)
		b = bytes.ReplaceAll(b, []byte{0}, []byte{' '})
	}
	d, rows := csv.Guess(b, known.Delimiter, known.Heading)
	g.dialect = d
	if len(rows) == 0 {
		g.Format = ""
		g.because(Guessed, "no format that is known begins like this")
		return
	}
	columns := len(rows[0])
	if columns == 1 {
		g.because(Guessed, "nothing separates columns: it may be a list of one column, or no table at all")
	} else {
		g.because(Likely, "its first %s %d columns, separated by %s", lines(len(rows)), columns, csv.CharName(d.Delimiter))
		if d.Delimiter != ',' {
			g.Settings = append(g.Settings, fmt.Sprintf("delimiter: %s", map[byte]string{';': `";"`, '\t': "tab", '|': `"|"`}[d.Delimiter]))
		}
	}
	if d.Comment != 0 {
		g.because(Likely, "lines before the table begin with %c: comments", d.Comment)
		g.Settings = append(g.Settings, fmt.Sprintf("comment: %q", string(d.Comment)))
	}
	if d.Skip > 0 {
		g.because(Guessed, "a title seems to stand before the heading: %d of the lines", d.Skip)
		g.Settings = append(g.Settings, fmt.Sprintf("skip: %d", d.Skip))
	}
	if known.Heading != nil {
		g.because(Certain, "you say whether there is a heading")
	}
	if d.NoHeading {
		if known.Heading == nil {
			g.because(Guessed, "the first line looks like the others, or holds numbers: it is no heading")
		}
		g.Settings = append(g.Settings, "heading: false", "columns: ["+strings.Join(d.Columns, ", ")+"]")
	} else if known.Heading == nil {
		c, because := Likely, "the first line names the columns"
		if len(rows) == 1 {
			c, because = Guessed, "the first line seems to name the columns, and no other one is there to compare it with"
		}
		g.because(c, "%s", because)
	}
}

func lines(n int) string {
	if n == 1 {
		return "line has"
	}
	return fmt.Sprintf("%d lines have", n)
}

// Source is the format as it was recognised; nil if it cannot be read yet.
func (g *Guess) Source() format.Source {
	switch g.Format {
	case "csv":
		return g.dialect
	case "hl7":
		return hl7.Source{}
	case "json":
		return json.Source{}
	case "x12":
		return segments.Interchanges{Rules: x12.Rules}
	case "edifact":
		return segments.Interchanges{Rules: edifact.Rules}
	}
	return nil
}
