package csv

import (
	"bytes"
	"fmt"
	"hash/maphash"
	"io"
	"strconv"
	"strings"
	"sync/atomic"
	"unicode/utf8"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/format"
	"ydrion/core/place"
	"ydrion/core/shape"
	"ydrion/core/text"
)

// Reader reads one file. Cut keeps the state of the stream; Split only reads
// what open has set.
type Reader struct {
	dialect Dialect
	format.Stream
	charset          text.Charset
	delimiter, quote byte
	quoting          bool
	terminator       byte // LF, or CR for files that know no LF

	fields      shape.Record
	spoils      *spoils // nil: nobody watches for any
	names       []string
	columns     []int32 // slot of each column, or -1
	slotColumn  []int   // column of each slot
	twins       []batch.Twin
	heading     []byte // and what stands before it
	again       []byte // its line, by which one is known that comes again; nil: none is
	scratch     []byte // of Survey
	footer      []byte
	footerAt    place.Place
	lastRow     []byte       // before those that may be the footer, of the batch before
	keys        []int        // slots by which rows are put together
	gathers     []int        // and those by which they will be, once they are reordered
	rowsIn      atomic.Int64 // where they are put together
	groups      []group      // those of the rows that were looked at last
	seed        maphash.Seed
	came        map[uint64]struct{} // the hashes of the groups that have come
	apartOnes   int                 // groups that came before
	ended       finding.List
	headingLine int64
}

func newReader(d Dialect, in *text.Decoded) *Reader {
	return &Reader{dialect: d, Stream: format.Stream{In: in, Line: 1}, charset: in.Charset, delimiter: d.delimiter(), quote: d.quote(), quoting: !d.NoQuote && d.Widths == nil, terminator: '\n'}
}

// ahead is how much is read at first to find the heading and the line ends.
const ahead = 64 << 10

// open reads ahead, finds the line ends out, and takes the heading.
func (r *Reader) open(fields shape.Record) (out finding.List, err error) {
	var buf []byte
	for want := ahead; ; want *= 4 {
		if buf, err = r.Fill(buf, min(want, MaxRow)); err != nil {
			return nil, err
		}
		if len(buf) == 0 {
			return finding.List{finding.New("file.empty", place.Place{Offset: 0, Line: 1, Column: 1}, "the file holds nothing: 0 bytes")}, nil
		}
		whole := r.EOF || len(buf) >= MaxRow
		if out, found := r.begin(buf, whole, fields); found || whole {
			return out, nil
		}
	}
}

// begin takes the heading from what has been read of the file. Found tells whether it
// was there; if not, more has to be read, unless that was the whole.
func (r *Reader) begin(buf []byte, whole bool, fields shape.Record) (out finding.List, found bool) {
	var known bool
	if r.terminator, known = r.lineEnd(buf); !known && !whole {
		return nil, false
	}
	at := 0
	if end := bytes.IndexByte(buf, r.terminator); end > 4 && bytes.EqualFold(buf[:4], []byte("sep=")) && len(bytes.TrimRight(buf[4:end], "\r")) == 1 {
		// A line that spreadsheet programs write for each other.
		if r.dialect.Delimiter != 0 && buf[4] != r.delimiter {
			f := finding.New("csv.delimiter", place.At("", buf, 4), "the first line says that columns are separated by %s, the route says %s", charName(buf[4]), charName(r.delimiter))
			return finding.List{f}, true
		}
		r.delimiter, at = buf[4], end+1
	}
	at = r.skipComments(buf, at)
	for range r.dialect.Skip {
		i := bytes.IndexByte(buf[at:], r.terminator)
		if i < 0 {
			return finding.List{finding.New("csv.heading-missing", place.Place{Line: 1, Column: 1}, "the file ends before its first row: %d lines were to be skipped", r.dialect.Skip)}, false
		}
		at += i + 1
	}
	if r.dialect.NoHeading {
		skipped := buf[:at]
		r.Advance(skipped)
		r.names, r.Carry, r.headingLine = r.dialect.Columns, buf[at:], 0
		if out = r.bind(fields); r.dialect.Skip > 0 {
			if last := lineBefore(skipped, len(skipped), r.terminator); r.likeRow(last, nil) {
				f := finding.Warn("csv.left-out", place.At("", buf, len(skipped)-len(last)-1), "this line is skipped, and is like a row: there is a value in each column")
				f.Seen = finding.Shorten(last)
				out = append(out, f.Suggest("a row that is skipped goes nowhere: if no line stands before the rows, let the route skip none (read.skip)"))
			}
		}
		return out, true
	}
	for at < len(buf) && (buf[at] == '\n' || buf[at] == '\r') {
		at++
	}
	at = r.skipComments(buf, at)
	r.headingLine = 1 + place.CountLines(buf[:at])
	state := scan{from: at}
	end, ok := r.firstRow(buf, &state)
	if !ok {
		if state.open >= 0 {
			p := place.At("", buf, state.open)
			return finding.List{finding.New("csv.quote-unclosed", p, "the quote opened here in the heading is never closed")}, false
		}
		if !r.EOF {
			return finding.List{finding.New("csv.heading-long", place.Place{Line: r.headingLine, Column: 1}, "no end of the heading within %d MiB", MaxRow>>20)}, false
		}
		end = len(buf)
	}
	if i := bytes.IndexByte(buf[at:end], 0); i >= 0 {
		return finding.List{finding.New("csv.nul", place.At("", buf, at+i), "the heading has a NUL byte: this is not a text file, or not %s", r.charset).Suggest("check the route's encoding: utf-16 text has a NUL in every second byte")}, true
	}
	if i := text.FirstInvalid(buf[at:end]); i >= 0 {
		return finding.List{invalidText(buf[at+i], place.At("", buf, at+i))}, true
	}
	r.heading = bytes.Clone(buf[:end])
	if n := len(r.heading); r.heading[n-1] != r.terminator {
		r.heading = append(r.heading, r.terminator)
	}
	if r.names = r.Values(buf[at:end]); len(r.names) > 1 {
		r.again = bytes.Clone(bytes.TrimRight(buf[at:end], "\r\n"))
	}
	for i := range r.names {
		r.names[i] = strings.TrimSpace(r.names[i])
	}
	r.Base, r.Line, r.Carry = int64(end), 1+place.CountLines(buf[:end]), bytes.Clone(buf[end:])
	out = r.bind(fields)
	if len(r.names) == 1 && len(fields) > 1 && out.HasErrors() {
		for _, c := range []byte{';', '\t', '|', ','} {
			if c != r.delimiter && strings.Count(r.names[0], string(c)) >= 1 {
				f := finding.New("csv.delimiter", place.Place{Line: r.headingLine, Column: 1}, "the heading is not separated by %s; the delimiter seems to be %s", charName(r.delimiter), charName(c))
				f.Seen, f.Expected = charName(c), charName(r.delimiter)
				return finding.List{f.Suggest("send the file with %s, or change the route's delimiter", charName(r.delimiter))}, true
			}
		}
	}
	return out, true
}

// skipComments goes behind the lines from at on that are comments.
func (r *Reader) skipComments(buf []byte, at int) int {
	for r.dialect.Comment != 0 && at < len(buf) && buf[at] == r.dialect.Comment {
		k := bytes.IndexByte(buf[at:], r.terminator)
		if k < 0 {
			return len(buf)
		}
		at += k + 1
	}
	return at
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

// lineEnd tells files with LF or CR LF from those whose rows end in CR, by the first line
// end that is not within quotes. Known tells whether there is one.
func (r *Reader) lineEnd(buf []byte) (terminator byte, known bool) {
	end := bytes.IndexAny(buf, "\r\n")
	if end >= 0 && r.quoting && r.dialect.Skip == 0 && (r.dialect.Comment == 0 || buf[0] != r.dialect.Comment) {
		if i := r.outside(buf); i >= 0 {
			end = i
		}
	}
	switch {
	case end < 0:
		return '\n', false
	case buf[end] == '\n' || end+1 < len(buf) && buf[end+1] == '\n':
		return '\n', true
	}
	return '\r', end+1 < len(buf)
}

// outside gives the first line end that is not within quotes, -1 if there is none.
func (r *Reader) outside(buf []byte) int {
	for i := 0; i < len(buf); i++ {
		switch c := buf[i]; {
		case c == '\n' || c == '\r':
			return i
		case c == r.quote && (i == 0 || buf[i-1] == r.delimiter):
			end := r.closing(buf, i+1)
			if end < 0 {
				return -1
			}
			i = end
		}
	}
	return -1
}

// scan is how far a search for row ends has come.
type scan struct {
	from int // where to go on
	last int // end of the last whole row, 0 if none
	// whole is the end of the last row whose record is whole.
	whole int
	open  int  // position of the quote that is open, or -1
	odd   bool // something needs the careful look
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
	row := -1 // where the first row may end
	for i := s.from; ; {
		stretch, at := buf[i:], -1
		if first { // no further than the row goes: the next one would be searched again
			if row < i {
				row = i + len(stretch)
				if k := bytes.IndexByte(stretch, r.terminator); k >= 0 {
					row = i + k
				}
			}
			stretch = buf[i:row]
		}
		if r.quoting {
			if at = bytes.IndexByte(stretch, r.quote); at >= 0 {
				stretch = stretch[:at]
			}
		}
		if first {
			if at < 0 && row < len(buf) {
				s.last = row + 1
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
		if r.dialect.Comment != 0 {
			if line := r.lineOf(buf, i, at, start); line >= 0 && buf[line] == r.dialect.Comment {
				k := bytes.IndexByte(buf[at:], r.terminator)
				if k < 0 {
					s.from = line
					return
				}
				if i = at + k + 1; i > s.last {
					s.last = i
				}
				continue
			}
		}
		if !r.starts(buf, at, start) {
			s.odd = true
			i = at + 1
			continue
		}
		end := r.closing(buf, at+1)
		if end < 0 || end+1 == len(buf) && !r.EOF {
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

// lineOf gives where the line begins that a character outside of quotes is in, if
// it begins at or behind from; -1 if it begins before that.
func (r *Reader) lineOf(buf []byte, from, at, start int) int {
	if k := bytes.LastIndexByte(buf[from:at], r.terminator); k >= 0 {
		return from + k + 1
	}
	if from == start || buf[from-1] == r.terminator {
		return from
	}
	return -1
}

// closing finds the quote that closes a field, from within it.
func (r *Reader) closing(buf []byte, i int) int {
	for {
		k := bytes.IndexByte(buf[i:], r.quote)
		if k < 0 {
			return -1
		}
		if r.dialect.Escape != 0 {
			if e := bytes.IndexByte(buf[i:i+k], r.dialect.Escape); e >= 0 {
				if i += e + 2; i > len(buf) {
					return -1
				}
				continue
			}
		}
		i += k
		if i+1 < len(buf) && buf[i+1] == r.quote {
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
	buf := r.Start(b)
	want := max(r.Most(), len(buf))
	var s scan
	for {
		var err error
		if buf, err = r.Fill(buf, want); err != nil {
			b.Buf, b.N = buf, 0
			return false, err
		}
		r.rows(buf, &s, false, 0)
		if s.whole = s.last; r.keys != nil && !r.EOF {
			s.whole = r.whole(buf, s.last)
		}
		if r.EOF || s.whole > 0 {
			break
		}
		if len(buf) >= MaxRow {
			return false, r.broken(b, buf, 0, s.open)
		}
		want = min(2*len(buf), MaxRow)
	}
	n := s.whole
	if r.EOF {
		if s.open >= 0 {
			b.Unusual = s.odd
			last := s.last
			if r.keys != nil { // the rest may have more rows of the last record
				last = r.whole(buf, s.last)
			}
			return false, r.broken(b, buf, last, s.open)
		}
		n = len(buf)
		if n > 0 && r.terminator == '\r' && buf[n-1] == '\n' {
			buf[n-1] = '\r' // some programs end a file with LF whatever its rows end with
		}
	}
	if r.keys != nil && r.EOF {
		r.whole(buf, n)
	}
	if r.dialect.Footer > 0 {
		n = r.holdBack(buf, n)
		if r.EOF {
			r.footer = bytes.Clone(buf[n:])
			r.footerAt = r.Place(buf, n)
			r.missed(buf, n)
			buf = buf[:n]
		} else if last := lineBefore(buf, n, r.terminator); len(last) > 0 {
			r.lastRow = append(r.lastRow[:0], last...)
		}
	}
	if r.keys != nil {
		r.apart(buf, n)
	}
	r.Give(b, buf, n, r.terminator)
	b.Unusual = s.odd
	return !r.EOF || len(r.Carry) > 0, nil
}

// missed warns of a line of the footer, from n on, that is like a row: nobody holds it against a total, and it would be lost.
func (r *Reader) missed(buf []byte, n int) {
	last := lineBefore(buf, n, r.terminator)
	if len(last) == 0 {
		last = r.lastRow
	}
	if r.dialect.Total != nil {
		return
	}
	row := r.Values(last)
	if len(row) != len(r.names) { // there is none, or it is of several lines
		row = nil
	}
	for at := n; at < len(buf); {
		line, _, _ := bytes.Cut(buf[at:], []byte{r.terminator})
		if r.likeRow(line, row) {
			like := "there is a value in each column"
			if row != nil {
				like += " in which the row before has one"
			}
			f := finding.Warn("csv.left-out", r.Place(buf, at), "this line is taken for the footer, and is like a row: %s", like)
			f.Seen = finding.Shorten(bytes.TrimRight(line, "\r"))
			r.ended = append(r.ended, f.Suggest("a row that is taken for a footer goes nowhere: if the file has none, let the route expect none (read.footer), or let a total in it tell (read.total)"))
		}
		at += len(line) + 1
	}
}

// likeRow tells whether a line has a value in each column in which a row has one, or, without a row, in each; and as many of them.
func (r *Reader) likeRow(line []byte, row []string) bool {
	values := r.Values(line)
	if len(values) != len(r.names) || len(values) < 2 {
		return false
	}
	for i, v := range values {
		if v == "" && (row == nil || row[i] != "") {
			return false
		}
	}
	return true
}

// lineBefore is the last line before n that is not empty.
func lineBefore(buf []byte, n int, terminator byte) []byte {
	buf = bytes.TrimRight(buf[:n], "\r\n")
	return buf[bytes.LastIndexByte(buf, terminator)+1:]
}

// holdBack leaves the lines out that may be the footer: those at the end.
func (r *Reader) holdBack(buf []byte, n int) int {
	for range r.dialect.Footer {
		for n > 0 && (buf[n-1] == '\n' || buf[n-1] == '\r') {
			n--
		}
		n = bytes.LastIndexByte(buf[:n], r.terminator) + 1
	}
	return n
}

// Finish checks the total that the footer says against the rows that came.
func (r *Reader) Finish(records int64) finding.List {
	if r.spoils != nil {
		r.ended, r.spoils = append(r.ended, r.spoils.findings(r.fields)...), nil
	}
	r.ended = append(r.ended, r.Misread(nil, "", "")...)
	total := r.dialect.Total
	if total == nil {
		return r.ended
	}
	found := total.FindSubmatch(r.footer)
	if found == nil {
		f := finding.New("csv.total-missing", r.footerAt, "the last %d lines hold no total: %s was expected", r.dialect.Footer, total)
		f.Seen, f.Expected = finding.Shorten(bytes.TrimSpace(r.footer)), total.String()
		return append(r.ended, f.Suggest("the file may not be whole: ask for it again"))
	}
	if r.keys != nil {
		records = r.rowsIn.Load()
	}
	if n, err := strconv.ParseInt(string(found[1]), 10, 64); err == nil && n == records {
		return r.ended
	}
	f := finding.New("csv.total", r.footerAt, "the footer says %s rows, but %d came", found[1], records)
	f.Seen, f.Expected = finding.Shorten(found[1]), strconv.FormatInt(records, 10)
	return append(r.ended, f.Suggest("the file may not be whole: ask for it again"))
}

// broken gives out what precedes the row that cannot be followed.
func (r *Reader) broken(b *batch.Batch, buf []byte, n, open int) error {
	at := max(open, 0)
	p := r.Place(buf, at)
	f := finding.New("csv.row-long", p, "no end of the row within %d MiB", MaxRow>>20)
	if r.keys != nil {
		f = finding.New("csv.row-long", p, "no end of the rows that are put together within %d MiB", MaxRow>>20)
	}
	if open >= 0 {
		f = finding.New("csv.quote-unclosed", p, "the quote opened here is never closed; everything from this row on was rejected as one piece").
			Suggest("close the quote, or double it if it is part of the value")
	}
	rest := io.MultiReader(bytes.NewReader(bytes.Clone(buf[n:])), r.In)
	r.Give(b, buf, n, r.terminator)
	r.Carry = nil
	return &format.Broken{Finding: f, Rest: rest}
}

// Raw is a row as it stands in the file.
func (r *Reader) Raw(b *batch.Batch, record int) []byte { return b.Raw(record) }

// Outline gives the columns of a row.
func (r *Reader) Outline(raw []byte) []format.Node {
	var out format.Parts
	buf := r.slackened(raw)
	for k, p, row := 0, 0, 1; ; k++ {
		at, value, next, last := r.field(buf, p, len(raw), k, nil)
		n := format.Node{Kind: format.Leaf, From: int(at.Off), To: int(at.End), Value: string(value)}
		if k < len(r.names) {
			if n.Path = r.names[k]; row > 1 {
				n.Path = fmt.Sprintf("%s[%d]", n.Path, row)
			}
		}
		if !out.Add(n) || last && (r.keys == nil || next >= len(raw)) {
			return out.Nodes
		}
		if p = next; last {
			k, row = -1, row+1
		}
	}
}

// Survey calls f for the columns of a row.
func (r *Reader) Survey(raw []byte, f func(path, value []byte)) {
	n := len(raw)
	for k, p := 0, 0; ; k++ {
		_, value, next, last := r.field(raw, p, n, k, nil)
		var name []byte
		if k < len(r.names) {
			name = append(r.scratch[:0], r.names[k]...)
			r.scratch = name
		}
		f(name, value)
		if last && (r.keys == nil || next >= n) {
			return
		}
		if p = next; last {
			k = -1
		}
	}
}

// Heading is everything before the first row, as it stands in the file.
func (r *Reader) Heading() []byte { return r.heading }

// Preface is the heading.
func (r *Reader) Preface(*batch.Batch, int) []byte { return r.heading }

// slackened is a row with what a batch has behind its text.
func (r *Reader) slackened(raw []byte) []byte {
	buf := append(bytes.Clone(raw), make([]byte, batch.Slack)...)
	for i := range batch.Slack {
		buf[len(raw)+i] = r.terminator
	}
	return buf
}

// Values gives the fields of one row.
func (r *Reader) Values(raw []byte) []string {
	var out []string
	buf := r.slackened(raw)
	for k, p := 0, 0; ; k++ {
		_, value, next, last := r.field(buf, p, len(raw), k, nil)
		out = append(out, string(value))
		if last {
			return out
		}
		p = next
	}
}

// field reads the field at p the careful way: its raw bounds, its value
// (rewritten into tail if it holds quotes), where the next one starts, and
// whether it was the last of its row. It is the column of that index, which
// matters where columns have fixed widths.
func (r *Reader) field(buf []byte, p, n, column int, tail []byte) (raw batch.Span, value []byte, next int, last bool) {
	if r.dialect.Widths != nil {
		return r.fixed(buf, p, n, column)
	}
	start := p
	var quoted []byte
	if r.quoting && p < n && buf[p] == r.quote {
		if end := r.closing(buf[:n], p+1); end >= 0 {
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
	case end == from && bytes.IndexByte(quoted, r.quote) < 0 && (r.dialect.Escape == 0 || bytes.IndexByte(quoted, r.dialect.Escape) < 0):
		value = quoted
	default:
		for i := 0; i < len(quoted); i++ {
			c := quoted[i]
			if c == r.quote || c == r.dialect.Escape && c != 0 {
				i++ // what it announces is data
			}
			if i < len(quoted) {
				tail = append(tail, quoted[i])
			}
		}
		value = append(tail, buf[from:end]...)
	}
	return raw, value, p + 1, p >= n || buf[p] == r.terminator
}

// fixed reads the field of a fixed width at p. What stands behind the last column is
// a column more.
func (r *Reader) fixed(buf []byte, p, n, column int) (raw batch.Span, value []byte, next int, last bool) {
	width := n
	if column < len(r.dialect.Widths) {
		width = r.dialect.Widths[column]
	}
	end := p
	for ; width > 0 && end < n && buf[end] != r.terminator; width-- {
		_, size := utf8.DecodeRune(buf[end:n])
		end += size
	}
	next, last = end, end >= n || buf[end] == r.terminator
	stop := end
	if last && stop > p && buf[stop-1] == '\r' {
		stop--
	} else if !last && buf[end] == '\r' && (end+1 >= n || buf[end+1] == r.terminator) {
		last = true
	}
	return batch.Span{Off: uint32(p), End: uint32(stop)}, bytes.Trim(buf[p:stop], " "), next, last
}

// Locate finds where a field of a row starts by splitting the row again.
func (r *Reader) Locate(b *batch.Batch, record, slot int) (uint32, string) {
	column := r.slotColumn[slot]
	bounds := b.Bounds[record]
	for k, p := 0, int(bounds.Off); ; k++ {
		raw, _, next, last := r.field(b.Buf, p, int(bounds.End), k, nil)
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
	ruleHeading // it is the heading once more
	ruleEncoding
	ruleLineEnd
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
	n := int(bounds.End)
	other := byte('\r')
	if r.terminator == '\r' {
		other = '\n'
	}
	if r.dialect.Widths != nil {
		if i := bytes.IndexByte(bytes.TrimRight(raw, "\r\n"), other); i >= 0 {
			note(ruleLineEnd, int(bounds.Off)+i, false)
		}
		return
	}
	for p := int(bounds.Off); ; {
		start := p
		span, _, next, last := r.field(b.Buf, p, n, 0, nil)
		field, plain := b.Buf[span.Off:span.End], 0
		if len(field) > 0 && field[0] == r.quote && r.quoting {
			if end := r.closing(field, 1); end >= 0 {
				if plain = end + 1; plain < len(field) {
					note(ruleAfterQuote, start+plain, false)
				}
			}
		} else if i := bytes.IndexByte(field, r.quote); i >= 0 && r.quoting {
			note(ruleStrayQuote, start+i, true)
		}
		if i := bytes.IndexByte(field[plain:], other); i >= 0 {
			note(ruleLineEnd, start+plain+i, false)
		}
		if last {
			return
		}
		p = next
	}
}

// isHeading tells whether a row is the heading once more, as in files that were put together of several.
func (r *Reader) isHeading(row []byte) bool {
	if n := len(r.again); n == 0 || len(row) < n || row[0] != r.again[0] && row[0] != byteOrderMark[0] || len(row) > len(byteOrderMark)+n+len("\r\n") {
		return false
	}
	return bytes.Equal(bytes.TrimRight(bytes.TrimPrefix(row, byteOrderMark), "\r\n"), r.again)
}

// byteOrderMark is that of UTF-8, within a text.
var byteOrderMark = []byte("\uFEFF")

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
	values := len(r.Values(b.Buf[min(n.At, b.Bounds[record].End):b.Bounds[record].End])) // where a row begins
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
	case ruleLineEnd:
		here, there := "CR", "LF"
		if r.terminator == '\r' {
			here, there = there, here
		}
		f = finding.New("csv.line-end", at, "%s stands alone in the row here, but the rows of this file end in %s", here, there).
			Suggest("write one kind of line end in the whole file, or put a value that holds one in quotes")
		f.Seen = finding.Shorten(raw)
	case ruleHeading:
		f = finding.New("csv.heading-again", at, "this is the heading once more").Suggest("the file may be put together of others: have one heading at its beginning only")
		f.Seen = finding.Shorten(raw)
	case ruleNUL:
		f = finding.New("csv.nul", at, "the row has a NUL byte")
		f.Seen = finding.Shorten(raw)
	default:
		f = invalidText(b.Buf[min(int(n.At), b.N-1)], at)
		if r.charset != text.UTF8 {
			f.Message = fmt.Sprintf("the bytes here are not characters of %s", r.charset)
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
