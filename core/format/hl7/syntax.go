// Package hl7 reads and writes HL7 version 2 in its vertical-bar form (HL7
// v2.5.1, chapter 2).
//
// Terms:
//
//   - message: segments, the first of which is MSH;
//   - segment: a line that ends with CR; three letters, then fields;
//   - field: between field separators, may repeat;
//   - component, subcomponent: parts of a field;
//   - escape sequence: how a separator is said in data, such as \F\ for |.
//
// Paths are SEG[n]-field[repetition].component.subcomponent, all numbers from 1
// and [1] left out: PID-5.1, OBX[2]-5, PID-3[2].4.
package hl7

import (
	"bytes"
	"encoding/hex"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"unicode/utf8"

	"ydrion/core/segments"
	"ydrion/core/text"
)

// Separators are the characters that are structure in a message (chapter 2,
// 2.5.4: MSH-1 and MSH-2).
type Separators struct {
	Field, Component, Repetition, Escape, Subcomponent byte
	Truncation                                         byte // from 2.7 on; 0: none is said

	// Set is the character set of the bytes that hexadecimal sequences name; empty: UTF-8.
	Set text.Charset
	// Marked lets sequences that are not text stand between marks instead of escape characters, so
	// that a target can tell them from text and write them as they came.
	Marked bool
}

// chars are those by which fields and their parts are told apart.
func (s *Separators) chars() [5]byte {
	return [...]byte{s.Field, s.Component, s.Repetition, s.Escape, s.Subcomponent}
}

// Usual are the separators that the standard recommends.
var Usual = Separators{Field: '|', Component: '^', Repetition: '~', Escape: '\\', Subcomponent: '&'}

// Mark stands around sequences that are not text (highlighting, formatting, other character sets,
// local ones) in values that go on into HL7. It is a character that no message may hold.
const Mark = substitute

// Escapes is the table for values written with these separators (2.7.1), with
// line breaks as \.br\ and other control characters as \Xnn\.
func (s Separators) Escapes() *text.Escapes {
	esc := func(letters string) string { return string(s.Escape) + letters + string(s.Escape) }
	with := map[byte]string{}
	for c := range byte(' ') {
		with[c] = esc(fmt.Sprintf("X%02X", c))
	}
	for c, written := range map[byte]string{
		s.Field: esc("F"), s.Component: esc("S"), s.Subcomponent: esc("T"), s.Repetition: esc("R"), s.Escape: esc("E"),
		'\n': esc(".br"), '\r': esc(".br"), 0x7f: esc("X7F"),
	} {
		with[c] = written
	}
	if s.Marked {
		with[Mark] = string(s.Escape)
	}
	return text.NewEscapes(with)
}

// separators reads MSH-1 and MSH-2 of a message.
func separators(message []byte) (s Separators, problem string) {
	if len(message) < 8 || string(message[:3]) != "MSH" {
		return s, "it does not begin with MSH"
	}
	s.Field = message[3]
	end := bytes.IndexByte(message[4:], s.Field)
	if end < 0 {
		end = len(message) - 4
	}
	if i := bytes.IndexAny(message[4:4+end], "\r\n"); i >= 0 {
		end = i
	}
	said := bytes.TrimRight(message[4:4+end], " ")
	switch len(said) {
	case 5:
		s.Truncation = said[4]
		fallthrough
	case 4:
		s.Component, s.Repetition, s.Escape, s.Subcomponent = said[0], said[1], said[2], said[3]
	default:
		return s, fmt.Sprintf("MSH-2 must name four separators (or five from 2.7 on), not %d", len(said))
	}
	for i, all := 0, message[3:4+len(said)]; i < len(all); i++ {
		c := all[i]
		if letter(c) || c <= ' ' || c >= 0x80 {
			return s, fmt.Sprintf("%q cannot be a separator", c)
		}
		if j := bytes.IndexByte(all[:i], c); j >= 0 {
			return s, fmt.Sprintf("separators %d and %d are the same: %q", j+1, i+1, c)
		}
	}
	return s, ""
}

// Unescape gives a value as it was before it was written.
func (s Separators) Unescape(value string) string {
	if strings.IndexByte(value, s.Escape) < 0 {
		return value
	}
	out, _ := s.AppendUnescaped(nil, []byte(value))
	return string(out)
}

// AppendUnescaped undoes the escape sequences of a value (2.7). Sequences that
// are not text (highlighting, formatting, other character sets, local ones) stay
// as they are; strange is where the first one stands that the standard does not
// know, -1 if there is none.
func (s Separators) AppendUnescaped(to, value []byte) (out []byte, strange int) {
	strange = -1
	for at := 0; ; {
		i := bytes.IndexByte(value[at:], s.Escape)
		if i < 0 {
			return append(to, value[at:]...), strange
		}
		to = append(to, value[at:at+i]...)
		at += i
		k := bytes.IndexByte(value[at+1:], s.Escape)
		if k < 0 { // it stands alone
			if strange < 0 {
				strange = at
			}
			return append(to, value[at:]...), strange
		}
		sequence := value[at+1 : at+1+k]
		var known bool
		if to, known = s.sequence(to, sequence); !known {
			if strange < 0 {
				strange = at
			}
			// What closes an unknown one may open the next.
			to = append(append(to, s.Escape), sequence...)
			if at += 1 + k; sequenceOfDigits(sequence) { // but that is one, of bytes that are no text here
				to, at = append(to, s.Escape), at+1
			}
			continue
		}
		at += k + 2
	}
}

// sequence writes what one escape sequence stands for, and tells whether the
// standard knows it.
func (s Separators) sequence(to, sequence []byte) ([]byte, bool) {
	if len(sequence) == 0 {
		return to, false
	}
	switch rest := sequence[1:]; sequence[0] {
	case 'F', 'S', 'T', 'R', 'E', 'P', 'H', 'N':
		if len(rest) > 0 {
			return to, false
		}
		c := map[byte]byte{'F': s.Field, 'S': s.Component, 'T': s.Subcomponent, 'R': s.Repetition, 'E': s.Escape, 'P': s.Truncation}[sequence[0]]
		if c != 0 {
			return append(to, c), true
		}
		if sequence[0] == 'P' {
			return to, false
		}
	case '.':
		if string(rest) == "br" {
			return append(to, '\n'), true
		}
		if len(rest) < 2 || strings.Index("br sp fi nf in ti sk ce ", string(rest[:2])+" ")%3 != 0 {
			return to, false
		}
	case 'X':
		if out, ok := s.unhex(to, rest); ok {
			return out, true
		}
		return to, false
	case 'C', 'M':
		if _, ok := digits(rest); !ok || sequence[0] == 'C' && len(rest) != 4 || sequence[0] == 'M' && len(rest) != 4 && len(rest) != 6 {
			return to, false
		}
	case 'Z':
	default:
		return to, false
	}
	around := s.Escape
	if s.Marked {
		around = Mark
	}
	return append(append(append(to, around), sequence...), around), true
}

// unhex gives the text of hexadecimal digits, which are bytes of the message's character set. What
// is not a text in it is not.
func (s Separators) unhex(to, written []byte) ([]byte, bool) {
	b, ok := digits(written)
	if !ok || bytes.IndexByte(b, 0) >= 0 || bytes.IndexByte(b, Mark) >= 0 {
		return to, false
	}
	if text.IsASCII(b) {
		return append(to, b...), true
	}
	if s.Set != "" && s.Set != text.UTF8 {
		decoded, err := text.DecodeAll(b, s.Set)
		return append(to, decoded...), err == nil
	}
	return append(to, b...), utf8.Valid(b)
}

// sequenceOfDigits tells whether a sequence is one of hexadecimal digits, whatever they stand for.
func sequenceOfDigits(sequence []byte) bool {
	if len(sequence) == 0 || sequence[0] != 'X' {
		return false
	}
	_, ok := digits(sequence[1:])
	return ok
}

// digits gives the bytes of hexadecimal digits.
func digits(written []byte) ([]byte, bool) {
	b, err := hex.AppendDecode(nil, written)
	return b, err == nil && len(b) > 0
}

// Header gives the fields of the segment that a message begins with, as they are written: MSH-1, the separator itself, is the first. There are
// none if it does not begin with MSH and a separator. What looks like a separator within a character of the set that MSH-18 names is none.
func Header(message []byte) [][]byte {
	line, _, _ := bytes.Cut(message, []byte{terminatorOf(message)})
	if len(line) < 9 || !bytes.HasPrefix(line, []byte("MSH")) {
		return nil
	}
	sep, problem := separators(line)
	if problem != "" {
		sep = Separators{Field: line[3]}
	}
	set, _ := declaredCharset(line, sep)
	fields := pieces(line, sep.Field, set)
	fields[0] = line[3:4]
	return fields
}

// terminatorOf is what ends the segments of a message: what ends its first. The other half of a line end may stand beside it; elsewhere it is
// a part of a value.
func terminatorOf(message []byte) byte {
	if i := lineEnds.First(message); i >= 0 {
		return message[i]
	}
	return '\r'
}

// segmentEnd is where the segment that begins at an offset of a message ends, and where the next begins, behind all that may stand between them.
func segmentEnd(message []byte, at int, terminator byte) (stop, next int) {
	stop = len(message)
	if i := bytes.IndexByte(message[at:], terminator); i >= 0 {
		stop = at + i
	}
	for next = stop; next < len(message) && between(message[next]); {
		next++
	}
	for stop > at && (message[stop-1] == '\r' || message[stop-1] == '\n') {
		stop--
	}
	return stop, next
}

// pieces cuts a text that is written in a character set at a separator.
func pieces(text []byte, separator byte, set text.Charset) [][]byte {
	if !set.Wide() {
		return bytes.Split(text, []byte{separator})
	}
	scan := bytes.Clone(text)
	set.Mask(scan)
	var out [][]byte
	from := 0
	for i, c := range scan {
		if c == separator {
			out, from = append(out, text[from:i:i]), i+1
		}
	}
	return append(out, text[from:])
}

// says tells whether a value, as it is written in a message in a character set, is a text.
func (s Separators) says(written []byte, set text.Charset, is string) bool {
	if set != "" && set != text.UTF8 && (!text.IsASCII(written) || bytes.IndexByte(written, escape) >= 0) {
		decoded, err := text.DecodeAll(written, set)
		if err != nil {
			return false
		}
		written = decoded
	}
	if bytes.IndexByte(written, s.Escape) >= 0 {
		written, _ = s.AppendUnescaped(nil, written)
	}
	return string(written) == is
}

// declaredCharset is what MSH-18 says (table 0211), "" if it says nothing or
// ASCII. It is not ok if the set is not known.
func declaredCharset(line []byte, sep Separators) (set text.Charset, ok bool) {
	if !text.IsASCII(line) || bytes.IndexByte(line, escape) >= 0 { // what looks like a separator before MSH-18 may be a part of a character
		for _, wide := range []text.Charset{text.ISO2022JP, text.GB18030, text.Big5, text.ShiftJIS} {
			scan := bytes.Clone(line)
			wide.Mask(scan)
			if set, ok := namedCharset(scan, sep); ok && set == wide {
				return set, true
			}
		}
	}
	return namedCharset(line, sep)
}

func namedCharset(line []byte, sep Separators) (set text.Charset, ok bool) {
	value, _ := field(line, sep.Field, 18)
	first, further, _ := bytes.Cut(value, []byte{sep.Repetition})
	if bytes.Contains(further, []byte("ISO IR87")) || bytes.Contains(further, []byte("ISO IR159")) {
		return text.ISO2022JP, true // ASCII, and what escape sequences change to
	}
	said := string(bytes.TrimSpace(first))
	if set, known := charsets[said]; known {
		return set, true
	}
	name, isISO := strings.CutPrefix(said, "8859/")
	if !isISO {
		return "", false
	}
	set, err := text.ParseCharset("iso-8859-" + name)
	return set, err == nil
}

// charsets are the sets of table 0211 but for the parts of ISO 8859. CNS 11643-1992 is
// not known.
var charsets = map[string]text.Charset{
	"": "", "ASCII": "", "UNICODE UTF-8": text.UTF8, "UTF-8": text.UTF8, "UNICODE": text.UTF8,
	"GB 18030-2000": text.GB18030, "BIG-5": text.Big5, "KS X 1001": "euc-kr",
	"ISO IR14": text.ShiftJIS, "ISO IR87": text.ISO2022JP, "ISO IR159": text.ISO2022JP,
}

// Field is a field as repetitions of components of subcomponents, all escaped
// as in the message.
type Field [][][]string

// Segment is a segment's name and its fields; Fields[0] is field 1.
type Segment struct {
	Name   string
	Fields []Field
}

// Message is a message taken apart.
type Message struct {
	Separators Separators
	Segments   []Segment
}

// Parse takes one message apart. Segments may end with CR, LF or CR LF. What stands around a message in a
// batch (FHS, BHS, BTS, FTS) may stand around it.
func Parse(b []byte) (*Message, error) {
	first := b
	if len(b) > 3 && header(b[:3]) {
		first = append([]byte("MSH"), b[3:]...)
	}
	sep, problem := separators(first)
	if problem != "" {
		return nil, errors.New(problem)
	}
	m := &Message{Separators: sep}
	for len(b) > 0 {
		i := bytes.IndexAny(b, "\r\n")
		next := i + 1
		if i < 0 {
			i, next = len(b), len(b)
		}
		if line := string(b[:i]); line != "" {
			s, err := m.segment(line)
			if err != nil {
				return nil, fmt.Errorf("segment %d: %w", len(m.Segments)+1, err)
			}
			m.Segments = append(m.Segments, s)
		}
		b = b[next:]
	}
	return m, nil
}

func (m *Message) segment(line string) (Segment, error) {
	sep := m.Separators
	parts := strings.Split(line, string(sep.Field))
	s := Segment{Name: parts[0]}
	if !segmentName(s.Name) {
		return s, fmt.Errorf("%q is not a segment name: three capital letters or digits", s.Name)
	}
	for i, f := range parts[1:] {
		if header([]byte(s.Name)) && i == 0 {
			s.Fields = append(s.Fields, Field{{{string(sep.Field)}}}, Field{{{f}}})
			if own := string([]byte{sep.Component, sep.Repetition, sep.Escape, sep.Subcomponent}); !strings.HasPrefix(f, own) {
				return s, fmt.Errorf("%s names other separators than what stands before it", s.Name)
			}
			continue
		}
		var field Field
		for _, r := range strings.Split(f, string(sep.Repetition)) {
			var repetition [][]string
			for _, c := range strings.Split(r, string(sep.Component)) {
				repetition = append(repetition, strings.Split(c, string(sep.Subcomponent)))
			}
			field = append(field, repetition)
		}
		s.Fields = append(s.Fields, field)
	}
	return s, nil
}

// IsSegment tells whether a text can be the name of a segment.
func IsSegment(s string) bool { return segmentName(s) }

func segmentName(s string) bool {
	if len(s) != 3 || s[0] < 'A' || s[0] > 'Z' {
		return false
	}
	for _, c := range s[1:] {
		if (c < 'A' || c > 'Z') && (c < '0' || c > '9') {
			return false
		}
	}
	return true
}

// Get gives the unescaped value at a path, and whether it is there.
func (m *Message) Get(path string) (string, bool) {
	p, err := parsePath(path)
	if err != nil || p.Field == 0 {
		return "", false
	}
	n := 0
	for _, s := range m.Segments {
		if s.Name != p.Segment {
			continue
		}
		if n++; n < p.Occurrence {
			continue
		}
		if p.Field > len(s.Fields) {
			return "", false
		}
		f := s.Fields[p.Field-1]
		component, sub := max(p.Component, 1), max(p.Sub, 1)
		if p.Repetition > len(f) || component > len(f[p.Repetition-1]) || sub > len(f[p.Repetition-1][component-1]) {
			return "", false
		}
		return m.Separators.Unescape(f[p.Repetition-1][component-1][sub-1]), true
	}
	return "", false
}

// parsePath reads a position of a message, which may be in a loop.
func parsePath(s string) (segments.Position, error) {
	within, inner, err := segments.Inner(s)
	if err != nil {
		return segments.Position{}, fmt.Errorf("%q is not an HL7 position: %w", s, err)
	}
	p, err := parseInner(inner)
	p.Within = within
	return p, err
}

func parseInner(s string) (segments.Position, error) {
	bad := func(why string) (segments.Position, error) {
		return segments.Position{}, fmt.Errorf("%q is not an HL7 position: %s", s, why)
	}
	p := segments.Position{Occurrence: 1, Repetition: 1}
	if len(s) < 3 || !segmentName(s[:3]) {
		return bad("it begins with a segment name such as PID")
	}
	p.Segment = s[:3]
	rest := s[3:]
	index := func(into *int) bool {
		if !strings.HasPrefix(rest, "[") {
			return true
		}
		end := strings.IndexByte(rest, ']')
		if end < 0 {
			return false
		}
		n, err := strconv.Atoi(rest[1:end])
		if err != nil || n < 1 || n > 99999 {
			return false
		}
		*into, rest = n, rest[end+1:]
		return true
	}
	number := func(into *int) bool {
		n := 0
		for n < len(rest) && rest[n] >= '0' && rest[n] <= '9' {
			n++
		}
		v, err := strconv.Atoi(rest[:n])
		if err != nil || v < 1 || v > 999 {
			return false
		}
		*into, rest = v, rest[n:]
		return true
	}
	if inner, after, ok := strings.Cut(rest, ")"); ok && strings.HasPrefix(inner, "(") {
		of, value, ok := strings.Cut(inner[1:], "=")
		n, err := strconv.Atoi(of)
		if !ok || err != nil || n < 1 || n > 999 || value == "" {
			return bad("parentheses choose by a field's first component, as in OBX(3=WBC)-5")
		}
		p.Element, p.Value, rest = n, value, after
	}
	if !index(&p.Occurrence) {
		return bad("[n] counts segments from 1")
	}
	if rest == "" {
		return p, nil
	}
	if rest[0] != '-' {
		return bad("a hyphen and the field's number follow the segment, as in PID-5")
	}
	rest = rest[1:]
	if !number(&p.Field) {
		return bad("the field's number must follow the hyphen")
	}
	if inner, after, ok := strings.Cut(rest, "]"); ok && strings.HasPrefix(inner, "[") && strings.Contains(inner, "=") {
		of, value, _ := strings.Cut(inner[1:], "=")
		n, err := strconv.Atoi(of)
		if err != nil || n < 1 || n > 999 || value == "" {
			return bad("a repetition is chosen by a component, as in PID-3[5=MR].1")
		}
		p.By, p.Is, rest = n, value, after
	}
	if p.By == 0 && !index(&p.Repetition) {
		return bad("[n] counts repetitions from 1")
	}
	for _, into := range []*int{&p.Component, &p.Sub} {
		if rest == "" {
			return p, nil
		}
		if rest[0] != '.' {
			break
		}
		rest = rest[1:]
		if !number(into) {
			return bad("a number must follow the dot, as in PID-5.1")
		}
	}
	if rest != "" {
		return bad("nothing can follow the subcomponent")
	}
	return p, nil
}
