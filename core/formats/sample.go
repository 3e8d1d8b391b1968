package formats

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"sort"
	"unicode/utf8"

	"ydrion/core/batch"
	"ydrion/core/format"
	"ydrion/core/standard"
	"ydrion/core/text"
)

// Sample is a file that has been looked at whole, and of which any part can be
// looked at again without reading it from its beginning.
type Sample struct {
	*Look
	text  io.ReaderAt
	rows  rows
	marks bookmarks
	own   *standard.Catalog // as in Request
}

// Store keeps the text of a sample.
type Store interface {
	io.Writer
	io.ReaderAt
}

// NewSample looks at a file from its beginning to its end and writes its text, undone
// of compression and encoding, to a store. What more text comes than most bytes is
// ErrLong.
// Messages are checked against own, if it is not nil, before their standard.
func NewSample(ctx context.Context, in io.Reader, name string, own *standard.Catalog, store Store, most int64) (*Sample, error) {
	s := &Sample{text: store, own: own}
	s.marks.stride = 1
	look, err := Examine(ctx, in, Request{Name: name, Records: 1, Byte: -1, Own: own, marks: &s.marks, text: io.MultiWriter(&s.rows, &atMost{store, most})})
	if err != nil {
		return nil, err
	}
	s.Look = look
	s.rows.end()
	return s, nil
}

// ErrLong says that a sample is too long to be kept.
var ErrLong = errors.New("the file is too long to be kept for looking")

type atMost struct {
	io.Writer
	left int64
}

func (w *atMost) Write(b []byte) (int, error) {
	if w.left -= int64(len(b)); w.left < 0 {
		return 0, ErrLong
	}
	return w.Writer.Write(b)
}

// Mark is where a record begins.
type Mark struct {
	Record, Line, Offset int64
	preface              []byte
}

// bookmarks are the places of some records, at even distances.
type bookmarks struct {
	list   []Mark
	stride int64
}

const mostMarks = 4096

func (m *bookmarks) due(record int64) bool { return (record-1)%m.stride == 0 }

func (m *bookmarks) set(mark Mark) {
	m.list = append(m.list, mark)
	if len(m.list) < mostMarks {
		return
	}
	for i := range len(m.list) / 2 {
		m.list[i] = m.list[2*i]
	}
	m.list, m.stride = m.list[:len(m.list)/2], 2*m.stride
}

// before finds the last mark for which none of the records wanted has passed.
func (m *bookmarks) before(passed func(Mark) bool) (Mark, bool) {
	i := sort.Search(len(m.list), func(i int) bool { return passed(m.list[i]) })
	if i == 0 {
		return Mark{}, false
	}
	return m.list[i-1], true
}

// Records shows records: from a number on, the one that holds a byte, or the next ones that
// have a path.
func (s *Sample) Records(ctx context.Context, request Request) ([]Shown, map[string]*standard.Table, error) {
	mark, ok := s.marks.before(func(m Mark) bool {
		if request.Byte >= 0 {
			return m.Offset > request.Byte
		}
		return m.Record > max(request.From, 1)
	})
	look := &Look{Name: s.Name, Guess: s.Guess, Shown: []Shown{}, Tables: map[string]*standard.Table{}}
	if !ok {
		return look.Shown, look.Tables, nil
	}
	set := text.UTF8
	if declares(&s.Guess) {
		set = text.Declared
	}
	in := io.MultiReader(bytes.NewReader(mark.preface), io.NewSectionReader(s.text, mark.Offset, s.Bytes-mark.Offset))
	reader, findings, err := format.Open(describedBy(sourceOf(&s.Guess), s.own), &text.Decoded{Reader: in, Charset: set}, nil)
	if err != nil || reader == nil {
		return nil, nil, errors.Join(err, fmt.Errorf("record %d cannot be read again: %v", mark.Record, findings))
	}
	e := &examination{Look: look, request: request, reader: reader, of: Named(s.Format), kinds: map[string]int{}}
	look.Records = mark.Record - 1
	shift := mark.Offset - int64(len(mark.preface))
	lines := mark.Line - 1 - int64(bytes.Count(mark.preface, []byte{'\n'}))
	err = batches(ctx, reader, func(b *batch.Batch, _ *format.Broken) error {
		b.Base, b.Line = b.Base+shift, b.Line+lines
		defer func() { b.Base, b.Line = b.Base-shift, b.Line-lines }()
		for i := range b.Records() {
			look.Records++
			if len(look.Shown) >= request.Records || request.Byte >= 0 && b.Base+int64(b.Bounds[i].Off) > request.Byte {
				return errEnough
			}
			if !e.wanted(b, i) {
				continue
			}
			if e.of.Type != nil {
				reader.Survey(b.Raw(i), func(path, value []byte) { e.of.Type(path, value, &e.said) })
			}
			e.kind = e.counted()
			e.offer(b, i)
		}
		return nil
	})
	if err != nil && !errors.Is(err, errEnough) {
		return nil, nil, err
	}
	return look.Shown, look.Tables, nil
}

var errEnough = errors.New("enough records")

// Row is a line of text, or a part of one that is very long.
type Row struct {
	Row    int64  `json:"row" doc:"from 0"`
	Offset int64  `json:"offset" doc:"of its first byte in the text"`
	Text   string `json:"text" doc:"without its line end"`
	Bytes  int    `json:"bytes" doc:"of it in the text, whose encoding need not be UTF-8"`
	Goes   bool   `json:"goes_on,omitempty" doc:"its line is longer"`
}

// LongestRow is where a line is broken into rows, in bytes.
const LongestRow = 2048

const rowStride = 128

// rows counts the rows of a text that is written to it and keeps where some of them
// begin.
type rows struct {
	marks []int64 // where row 128 n begins
	count int64   // of rows that have ended
	at    int64   // bytes written
	begin int64   // of the row that has not ended
	cr    bool    // the last byte was a CR that ended a row
}

func (r *rows) ended(next int64) {
	if r.count%rowStride == 0 {
		r.marks = append(r.marks, r.begin)
	}
	r.count++
	r.begin = next
}

func (r *rows) Write(b []byte) (int, error) {
	for p := 0; p < len(b); {
		if r.cr && b[p] == '\n' {
			r.begin++
			p++
		}
		r.cr = false
		i := bytes.IndexAny(b[p:], "\r\n")
		end := len(b)
		if i >= 0 {
			end = p + i
		}
		for r.at+int64(end)-r.begin > LongestRow {
			r.ended(r.begin + LongestRow)
		}
		if i < 0 {
			break
		}
		r.cr = b[end] == '\r'
		r.ended(r.at + int64(end) + 1)
		p = end + 1
	}
	r.at += int64(len(b))
	return len(b), nil
}

func (r *rows) end() {
	if r.at > r.begin {
		r.ended(r.at)
	}
}

// Rows is how many rows the text has.
func (s *Sample) Rows() int64 { return s.rows.count }

// Read gives rows of the text, from one on.
func (s *Sample) Read(from, n int64) ([]Row, error) {
	out := []Row{}
	if from < 0 || from >= s.rows.count || n <= 0 {
		return out, nil
	}
	at := from / rowStride
	err := s.each(at, func(r Row, _ int64) bool {
		if r.Row >= from {
			out = append(out, r)
		}
		return r.Row+1 < from+n
	})
	return out, err
}

// RowAt finds the row that holds a byte.
func (s *Sample) RowAt(offset int64) (row int64, err error) {
	i := sort.Search(len(s.rows.marks), func(i int) bool { return s.rows.marks[i] > offset })
	if i == 0 {
		return 0, nil
	}
	row = int64(i-1) * rowStride
	return row, s.each(int64(i-1), func(r Row, end int64) bool {
		row = r.Row
		return end <= offset
	})
}

// each goes through the rows from a mark on.
func (s *Sample) each(mark int64, take func(r Row, end int64) bool) error {
	for ; mark < int64(len(s.rows.marks)); mark++ {
		from, to := s.rows.marks[mark], s.rows.at
		if mark+1 < int64(len(s.rows.marks)) {
			to = s.rows.marks[mark+1]
		}
		// The row before may have been cut, and the last one may end within a character.
		lead := min(from, 1)
		b := make([]byte, min(to+utf8.UTFMax-1, s.rows.at)-from+lead)
		if _, err := s.text.ReadAt(b, from-lead); err != nil && err != io.EOF {
			return err
		}
		cut := lead > 0 && b[0] != '\r' && b[0] != '\n'
		b = b[lead:]
		for number, left := mark*rowStride, int(to-from); left > 0; number++ {
			n, line := firstRow(b[:left])
			begin, end := 0, line
			if cut { // long lines are cut between bytes, and shown between characters
				begin = continued(b)
			}
			if cut = line == n && n == LongestRow; cut {
				end += continued(b[n:])
			}
			if !take(Row{Row: number, Offset: to - int64(left) + int64(begin), Text: s.readable(b[begin:end]), Bytes: end - begin, Goes: cut}, to-int64(left-n)) {
				return nil
			}
			b, left = b[n:], left-n
		}
	}
	return nil
}

// continued is how many bytes of a character begun before a text begins with.
func continued(b []byte) (n int) {
	for n < len(b) && n < utf8.UTFMax-1 && !utf8.RuneStart(b[n]) {
		n++
	}
	return n
}

// firstRow is how long the first row of a text is, with its line end and without.
func firstRow(b []byte) (with, without int) {
	i := bytes.IndexAny(b, "\r\n")
	switch {
	case i > LongestRow || i < 0 && len(b) > LongestRow:
		return LongestRow, LongestRow
	case i < 0:
		return len(b), len(b)
	case i+1 < len(b) && b[i] == '\r' && b[i+1] == '\n':
		return i + 2, i
	}
	return i + 1, i
}

// Hit is where something that was looked for stands.
type Hit struct {
	Offset int64 `json:"offset"`
	Length int   `json:"length" doc:"in bytes"`
	Row    int64 `json:"row"`
}

// Find looks for a text from a byte on, or backwards from it; ASCII letters are not told
// apart by their case. It gives no hit if there is none.
func (s *Sample) Find(ctx context.Context, what string, from int64, backwards bool) (*Hit, error) {
	if what == "" {
		return nil, nil
	}
	wanted := lower([]byte(what))
	const block = 1 << 20
	buf := make([]byte, block+len(wanted))
	for {
		start := from
		if backwards {
			start = max(0, from-block)
		}
		if err := ctx.Err(); err != nil || !backwards && start >= s.rows.at || backwards && from <= 0 {
			return nil, err
		}
		size := len(buf)
		if backwards {
			size = int(from-start) + len(wanted) - 1
		}
		n, err := s.text.ReadAt(buf[:size], start)
		if err != nil && err != io.EOF {
			return nil, err
		}
		b := lower(buf[:n])
		i := bytes.Index(b, wanted)
		if backwards {
			i = bytes.LastIndex(b, wanted)
		}
		if i >= 0 {
			row, err := s.RowAt(start + int64(i))
			return &Hit{start + int64(i), len(wanted), row}, err
		}
		if backwards {
			from = start
		} else {
			from = start + block
		}
	}
}

// lower changes ASCII capitals in place.
func lower(b []byte) []byte {
	for i, c := range b {
		if c >= 'A' && c <= 'Z' {
			b[i] = c + 'a' - 'A'
		}
	}
	return b
}
