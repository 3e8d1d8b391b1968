package csv

import (
	"bytes"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/format"
	"ydrion/core/place"
	"ydrion/core/text"
)

// Reader reads one file. Cut keeps the state of the stream; Split only reads
// what open has set.
type Reader struct {
	dialect          Dialect
	in               io.Reader
	charset          text.Charset
	delimiter, quote byte
	quoting          bool
	terminator       byte // LF, or CR for files that know no LF

	names       []string
	columns     []int32 // slot of each column, or -1
	slotColumn  []int   // column of each slot
	heading     []byte
	headingLine int64

	carry []byte // text read and not given out yet: it starts a row
	eof   bool
	base  int64 // offset of carry
	line  int64 // line of carry
}

func newReader(d Dialect, in *text.Decoded) *Reader {
	return &Reader{dialect: d, in: in, charset: in.Charset, delimiter: d.delimiter(), quote: d.quote(), quoting: !d.NoQuote, terminator: '\n', line: 1}
}

// fill reads until the buffer has n bytes or the stream ends.
func (r *Reader) fill(buf []byte, n int) ([]byte, error) {
	if cap(buf) < n+batch.Slack {
		grown := make([]byte, len(buf), n+batch.Slack)
		copy(grown, buf)
		buf = grown
	}
	for len(buf) < n && !r.eof {
		k, err := r.in.Read(buf[len(buf):n])
		buf = buf[:len(buf)+k]
		if err == io.EOF {
			r.eof = true
		} else if err != nil {
			return buf, fmt.Errorf("reading: %w", err)
		}
	}
	return buf, nil
}

// ahead is how much is read to find the heading and the line ends.
const ahead = 64 << 10

// open reads ahead, finds the line ends out, and takes the heading.
func (r *Reader) open(fields []string) (finding.List, error) {
	buf, err := r.fill(nil, ahead)
	if err != nil {
		return nil, err
	}
	if len(buf) == 0 {
		return finding.List{finding.New("file.empty", place.Place{Offset: 0, Line: 1, Column: 1}, "the file holds nothing: 0 bytes")}, nil
	}
	r.terminator = r.lineEnd(buf)
	if r.dialect.NoHeading {
		r.names, r.carry, r.headingLine = r.dialect.Columns, buf, 0
		return r.bind(fields), nil
	}
	at := 0
	for range r.dialect.Skip {
		i := bytes.IndexByte(buf[at:], r.terminator)
		if i < 0 {
			return finding.List{finding.New("csv.heading-missing", place.Place{Line: 1, Column: 1}, "the file ends before its heading: %d lines were to be skipped", r.dialect.Skip)}, nil
		}
		at += i + 1
	}
	for at < len(buf) && (buf[at] == '\n' || buf[at] == '\r') {
		at++
	}
	r.headingLine = 1 + place.CountLines(buf[:at])
	state := scan{from: at}
	end, ok := r.firstRow(buf, &state)
	if !ok {
		if !r.eof {
			return finding.List{finding.New("csv.heading-long", place.Place{Line: r.headingLine, Column: 1}, "no end of the heading within %d bytes", ahead)}, nil
		}
		if state.open >= 0 {
			p := place.At("", buf, state.open)
			return finding.List{finding.New("csv.quote-unclosed", p, "the quote opened here in the heading is never closed")}, nil
		}
		end = len(buf)
	}
	if i := bytes.IndexByte(buf[at:end], 0); i >= 0 {
		return finding.List{finding.New("csv.nul", place.At("", buf, at+i), "the heading has a NUL byte: this is not a text file, or not %s", r.charset).Suggest("check the route's encoding: utf-16 text has a NUL in every second byte")}, nil
	}
	if i := text.FirstInvalid(buf[at:end]); i >= 0 {
		return finding.List{invalidText(buf[at+i], place.At("", buf, at+i))}, nil
	}
	r.heading = bytes.Clone(buf[:end])
	if n := len(r.heading); r.heading[n-1] != r.terminator {
		r.heading = append(r.heading, r.terminator)
	}
	r.names = r.Values(buf[at:end])
	for i := range r.names {
		r.names[i] = strings.TrimSpace(r.names[i])
	}
	r.base, r.line, r.carry = int64(end), 1+place.CountLines(buf[:end]), bytes.Clone(buf[end:])
	out := r.bind(fields)
	if len(r.names) == 1 && len(fields) > 1 && out.HasErrors() {
		for _, c := range []byte{';', '\t', '|', ','} {
			if c != r.delimiter && strings.Count(r.names[0], string(c)) >= 1 {
				f := finding.New("csv.delimiter", place.Place{Line: r.headingLine, Column: 1}, "the heading is not separated by %s; the delimiter seems to be %s", charName(r.delimiter), charName(c))
				f.Seen, f.Expected = charName(c), charName(r.delimiter)
				return finding.List{f.Suggest("send the file with %s, or change the route's delimiter", charName(r.delimiter))}, nil
			}
		}
	}
	return out, nil
}

func charName(c byte) string {
	switch c {
	case ',':
		return "a comma"
	case ';':
		return "a semicolon"
	case '\t':
		return "a tab"
	case '|':
		return "a bar (|)"
	}
	return fmt.Sprintf("%q", c)
}

// lineEnd tells LF (or CR LF) files from those that know only CR.
func (r *Reader) lineEnd(buf []byte) byte {
	if bytes.IndexByte(buf, '\n') >= 0 {
		return '\n'
	}
	if bytes.IndexByte(buf, '\r') >= 0 {
		return '\r'
	}
	return '\n'
}

// scan is how far a search for row ends has come.
type scan struct {
	from int  // where to go on
	last int  // end of the last whole row, 0 if none
	open int  // position of the quote that is open, or -1
	odd  bool // something needs the careful look
}

// starts tells whether a field starts at i.
func (r *Reader) starts(buf []byte, i, from int) bool {
	return i == from || buf[i-1] == r.delimiter || buf[i-1] == r.terminator || buf[i-1] == '\n'
}

// rows searches for row ends from s.from on. It goes from quote to quote, so
// that its cost is that of a byte search where quotes are rare. Rows start at
// the beginning of buf.
func (r *Reader) rows(buf []byte, s *scan, first bool, start int) {
	s.open = -1
	for i := s.from; ; {
		stretch, at := buf[i:], -1
		if r.quoting {
			if at = bytes.IndexByte(stretch, r.quote); at >= 0 {
				stretch = stretch[:at]
			}
		}
		if first {
			if k := bytes.IndexByte(stretch, r.terminator); k >= 0 {
				s.last = i + k + 1
				return
			}
		} else if k := bytes.LastIndexByte(stretch, r.terminator); k >= 0 {
			s.last = i + k + 1
		}
		if at < 0 {
			s.from = len(buf)
			return
		}
		at += i
		if !r.starts(buf, at, start) {
			s.odd = true
			i = at + 1
			continue
		}
		end := closing(buf, at+1, r.quote)
		if end < 0 || end+1 == len(buf) && !r.eof {
			s.from, s.open = at, at
			if end >= 0 {
				s.open = -1
			}
			return
		}
		if end+1 < len(buf) {
			if c := buf[end+1]; c != r.delimiter && c != '\n' && c != '\r' {
				s.odd = true
			}
		}
		i = end + 1
	}
}

// closing finds the quote that closes a field, from within it.
func closing(buf []byte, i int, quote byte) int {
	for {
		k := bytes.IndexByte(buf[i:], quote)
		if k < 0 {
			return -1
		}
		i += k
		if i+1 < len(buf) && buf[i+1] == quote {
			i += 2
			continue
		}
		return i
	}
}

func (r *Reader) firstRow(buf []byte, s *scan) (int, bool) {
	r.rows(buf, s, true, s.from)
	return s.last, s.last > 0
}

// Cut fills b with the next whole rows.
func (r *Reader) Cut(b *batch.Batch) (bool, error) {
	buf := append(b.Buf[:0], r.carry...)
	r.carry = r.carry[:0]
	b.Base, b.Line = r.base, r.line
	want := max(batch.Size, len(buf))
	var s scan
	for {
		var err error
		if buf, err = r.fill(buf, want); err != nil {
			b.Buf, b.N = buf, 0
			return false, err
		}
		r.rows(buf, &s, false, 0)
		if r.eof || s.last > 0 {
			break
		}
		if len(buf) >= MaxRow {
			return false, r.broken(b, buf, 0, s.open)
		}
		want = min(2*len(buf), MaxRow)
	}
	n := s.last
	if r.eof {
		if s.open >= 0 {
			return false, r.broken(b, buf, s.last, s.open)
		}
		n = len(buf)
	}
	r.give(b, buf, n)
	b.Odd = s.odd
	return !r.eof || len(r.carry) > 0, nil
}

// give hands n bytes of buf to the batch and keeps the rest.
func (r *Reader) give(b *batch.Batch, buf []byte, n int) {
	r.carry = append(r.carry[:0], buf[n:]...)
	buf = buf[:n+batch.Slack]
	for i := range batch.Slack {
		buf[n+i] = r.terminator
	}
	b.Buf, b.N = buf, n
	b.Lines = place.CountLines(buf[:n])
	r.base, r.line = r.base+int64(n), r.line+b.Lines
}

// broken gives out what precedes the row that cannot be followed.
func (r *Reader) broken(b *batch.Batch, buf []byte, n, open int) error {
	at := max(open, 0)
	line, column := place.Resolve(buf, at)
	p := place.Place{Offset: r.base + int64(at), Line: r.line + line - 1, Column: column}
	f := finding.New("csv.row-long", p, "no end of the row within %d MiB", MaxRow>>20)
	if open >= 0 {
		f = finding.New("csv.quote-unclosed", p, "the quote opened here is never closed; everything from this row on was rejected as one piece").
			Suggest("close the quote, or double it if it is part of the value")
	}
	rest := io.MultiReader(bytes.NewReader(bytes.Clone(buf[n:])), r.in)
	r.give(b, buf, n)
	r.carry = nil
	return &format.Broken{Finding: f, Rest: rest}
}

// Fields are the columns' names in the file's order.
func (r *Reader) Fields() []string { return r.names }

// Heading is everything before the first row, as it stands in the file.
func (r *Reader) Heading() []byte { return r.heading }

// Values gives the fields of one row.
func (r *Reader) Values(raw []byte) []string {
	var out []string
	buf := append(bytes.Clone(raw), make([]byte, batch.Slack)...)
	for i := range batch.Slack {
		buf[len(raw)+i] = r.terminator
	}
	for p := 0; ; {
		_, value, next, last := r.field(buf, p, len(raw), nil)
		out = append(out, string(value))
		if last {
			return out
		}
		p = next
	}
}

// field reads the field at p the careful way: its raw bounds, its value
// (rewritten into tail if it holds quotes), where the next one starts, and
// whether it was the last of its row.
func (r *Reader) field(buf []byte, p, n int, tail []byte) (raw batch.Span, value []byte, next int, last bool) {
	start := p
	var quoted []byte
	if r.quoting && p < n && buf[p] == r.quote {
		if end := closing(buf[:n], p+1, r.quote); end >= 0 {
			quoted, p = buf[p+1:end], end+1
		}
	}
	from := p
	for p < n && buf[p] != r.delimiter && buf[p] != r.terminator {
		p++
	}
	end := p
	if end > from && end < n && buf[end] == '\n' && buf[end-1] == '\r' {
		end--
	} else if end > from && end == n && buf[end-1] == '\r' {
		end--
	}
	raw = batch.Span{Off: uint32(start), End: uint32(end)}
	switch {
	case quoted == nil:
		value = buf[from:end]
	case end == from && bytes.IndexByte(quoted, r.quote) < 0:
		value = quoted
	default:
		for i := 0; i < len(quoted); i++ {
			tail = append(tail, quoted[i])
			if quoted[i] == r.quote {
				i++
			}
		}
		value = append(tail, buf[from:end]...)
	}
	return raw, value, p + 1, p >= n || buf[p] == r.terminator
}

// Locate finds where a field of a row starts by splitting the row again.
func (r *Reader) Locate(b *batch.Batch, record, slot int) (uint32, string) {
	column := r.slotColumn[slot]
	bounds := b.Bounds[record]
	for k, p := 0, int(bounds.Off); ; k++ {
		raw, _, next, last := r.field(b.Buf, p, int(bounds.End), nil)
		if k == column {
			return raw.Off, r.names[column]
		}
		if last {
			return raw.End, r.names[column]
		}
		p = next
	}
}

// Syntax rules, as numbers in batch notes.
const (
	ruleShort = iota
	ruleSurplus
	ruleAfterQuote
	ruleStrayQuote
	ruleNUL
	ruleEncoding
)

// inspect takes the careful look at a row.
func (r *Reader) inspect(b *batch.Batch, record int) {
	note := func(rule int, at int, warn bool) {
		b.Notes = append(b.Notes, batch.Note{Record: int32(record), Slot: -1, Rule: int32(rule), Source: batch.Syntax, At: uint32(at), Warn: warn})
	}
	bounds := b.Bounds[record]
	raw := b.Buf[bounds.Off:bounds.End]
	if i := bytes.IndexByte(raw, 0); i >= 0 {
		note(ruleNUL, int(bounds.Off)+i, false)
	}
	if i := r.undecodable(raw); i >= 0 {
		note(ruleEncoding, int(bounds.Off)+i, false)
	}
	if !r.quoting {
		return
	}
	n := int(bounds.End)
	for p := int(bounds.Off); ; {
		start := p
		span, _, next, last := r.field(b.Buf, p, n, nil)
		field := b.Buf[span.Off:span.End]
		if len(field) > 0 && field[0] == r.quote {
			if end := closing(field, 1, r.quote); end >= 0 && end+1 < len(field) {
				note(ruleAfterQuote, start+end+1, false)
			}
		} else if i := bytes.IndexByte(field, r.quote); i >= 0 {
			note(ruleStrayQuote, start+i, true)
		}
		if last {
			return
		}
		p = next
	}
}

// undecodable finds a character that could not be decoded.
func (r *Reader) undecodable(b []byte) int {
	if r.charset == text.UTF8 {
		return text.FirstInvalid(b)
	}
	return bytes.Index(b, []byte(string(utf8.RuneError)))
}

// Describe makes the finding of a syntax note.
func (r *Reader) Describe(b *batch.Batch, n batch.Note) finding.Finding {
	record := int(n.Record)
	at := b.Place(record, n.At)
	raw := bytes.TrimRight(b.Raw(record), "\r\n")
	values := len(r.Values(b.Raw(record)))
	var f finding.Finding
	switch n.Rule {
	case ruleShort:
		f = finding.New("csv.columns-missing", at, "the row has %d columns, the heading has %d", values, len(r.names))
		f.Seen, f.Expected = fmt.Sprint(values), fmt.Sprint(len(r.names))
	case ruleSurplus:
		f = finding.New("csv.columns-surplus", at, "the row has %d columns, the heading has %d", values, len(r.names)).
			Suggest("a value that holds %s must stand in quotes", charName(r.delimiter))
		f.Seen, f.Expected = fmt.Sprint(values), fmt.Sprint(len(r.names))
	case ruleAfterQuote:
		f = finding.New("csv.quote-text", at, "text follows the closing quote").Suggest("double a quote that is part of the value")
		f.Seen = finding.Shorten(raw)
	case ruleStrayQuote:
		f = finding.Warn("csv.quote-stray", at, "a quote stands inside an unquoted value; it was taken as data")
		f.Seen = finding.Shorten(raw)
	case ruleNUL:
		f = finding.New("csv.nul", at, "the row has a NUL byte")
		f.Seen = finding.Shorten(raw)
	default:
		f = invalidText(b.Buf[min(int(n.At), b.N-1)], at)
		if r.charset != text.UTF8 {
			f.Message = fmt.Sprintf("the bytes here are no character of %s", r.charset)
		}
		f.Seen = finding.Shorten(raw)
	}
	return f
}

func invalidText(c byte, at place.Place) finding.Finding {
	f := finding.New("text.encoding", at, "byte %02X here is not UTF-8", c)
	if c >= 0x80 && c <= 0x9f {
		return f.Suggest("the file looks like windows-1252; save it as UTF-8, or set the route's encoding")
	}
	return f.Suggest("the file looks like iso-8859-1 or windows-1252; save it as UTF-8, or set the route's encoding")
}
