package json

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/format"
	"ydrion/core/place"
	"ydrion/core/shape"
	"ydrion/core/text"
)

// MaxValue is the longest record that is read, and how far into a file its records
// may begin.
const MaxValue = 64 << 20

// MaxDepth is how deep values may be nested.
const MaxDepth = 500

// Source says where in a file the records are.
type Source struct {
	// Records is a JSON Pointer (RFC 6901) in which * stands for each element of a
	// list: /specimens/* or /stations/*/specimens/*. Without one, each value of the
	// file is a record (one document, one a line, or a text sequence as in RFC
	// 7464), and if that is a list, each of its elements. In a file with a document a
	// line, or a text sequence, the pointer holds for each of them, and one that is
	// broken is rejected alone.
	Records string
}

var _ format.Source = Source{}

// Bind says which fields no file can have. A field's path is a pointer within the record
// (/animal/tag), or its name is that of a member. A number before the pointer goes up so many
// levels first: 2/station is in what holds the list that holds the record, and 0 is the record
// itself.
//
// A list's path is a pointer to an array, or to an object whose members are its rows; the fields of
// a row are found in its element.
func (s Source) Bind(of shape.Shape) (format.Bound, finding.List) {
	r := &Reader{pointer: s.Records, shape: of}
	if findings := r.bind(); findings.HasErrors() {
		return nil, findings
	}
	return bound{s, of}, stars(of)
}

// stars warns of paths with a * in them, which is the name of a member there.
func stars(of shape.Shape) (out finding.List) {
	warn := func(name, path, instead string) {
		if strings.Contains(path+"/", "/*/") {
			out = append(out, finding.Warn("json.star", place.Place{Line: 1, Column: 1, Path: name}, "* in the path of %s, %s, is a member of that name, and not each element of a list", name, path).Suggest("%s", instead))
		}
	}
	const value = "a field is one value: make each element a record (read.record), or a row of a list (lists), of which fields are named from there: /kg"
	for _, f := range of.Fields {
		warn(f.Name, f.At(), value)
	}
	for _, t := range of.Tables() {
		warn(t.Name, t.At(), "a list's path is that of the array: /rows")
		for _, f := range t.Fields {
			warn(f.Name, f.At(), value)
		}
	}
	return out
}

// bound is a source and the members that are wanted. Which those are is known when a file shows how
// its documents are kept apart.
type bound struct {
	Source
	shape shape.Shape
}

// Open finds the first record and binds fields to members.
func (s bound) Open(in *text.Decoded) (format.Reader, finding.List, error) {
	r := &Reader{Stream: format.Stream{In: in, Line: 1}, charset: in.Charset, state: values}
	buf, err := r.Fill(nil, batch.Size)
	if err != nil {
		return nil, nil, err
	}
	for !r.EOF && len(buf) < longestLine && bytes.IndexByte(buf, '\n') < 0 {
		if buf, err = r.Fill(buf, 2*len(buf)); err != nil {
			return nil, nil, err
		}
	}
	r.recognise(buf)
	if s.Records == "" && bytes.HasPrefix(bytes.TrimLeft(buf, " \t\r\n\x1e"), []byte("[")) {
		switch r.apart {
		case lines, sequence:
			s.Records, r.implied = "/*", true
		case several: // a list of records is the whole document
			r.apart = together
		}
	}
	r.pointer, r.shape = s.Records, s.shape
	findings := r.bind()
	if findings.HasErrors() {
		return nil, findings, nil
	}
	f, err := r.begin(buf)
	if f != nil {
		return nil, append(findings, *f), err
	}
	return r, findings, err
}

// state is what may come next between records.
type state uint8

const (
	values  state = iota // a value, or the end of the file
	element              // an element, or the end of the list if it is the first
	comma                // a comma, or the end of the list
	rest                 // what closes around the list
	over                 // nothing
)

// apart is how the documents of a file are kept apart.
type apart uint8

const (
	together apart = iota // by their own ends, if there are several
	lines                 // each on a line
	sequence              // by record separators (RFC 7464)
	several               // by their own ends; each is read whole, and its records are found in it
)

// longestLine is how far the end of the first line is looked for to find out whether each
// line is a document.
const longestLine = 2 << 20

// recognise finds out from the beginning of a file how its documents are kept apart. One a
// line, if the first line is a whole value and more follows; if the first is broken, the next
// ones tell.
func (r *Reader) recognise(buf []byte) {
	p := skipBlanks(buf, 0)
	if p == len(buf) {
		return
	}
	if buf[p] == separator {
		r.apart = sequence
		return
	}
	if end, whole, bad := skip(buf, p, r.EOF); p < len(buf) && bad < 0 && whole {
		if next := skipBlanks(buf, end); next < len(buf) {
			r.apart = several // unless each has a line of its own
		}
	}
	var first, second, third []byte
	for _, l := range []*[]byte{&first, &second, &third} {
		p = skipBlanks(buf, p)
		end := bytes.IndexByte(buf[p:], '\n')
		if end < 0 {
			if end = len(buf) - p; !r.EOF && l != &third {
				break
			}
		}
		*l = bytes.TrimRight(buf[p:p+end], " \t\r")
		p += end
	}
	whole := func(line []byte) bool {
		end, whole, bad := skip(line, 0, true)
		return whole && bad < 0 && end == len(line)
	}
	switch {
	case len(first) == 0 || len(second) == 0:
	case whole(first):
		r.apart = lines
	case second[0] == first[0] && whole(second) && !bytes.ContainsRune([]byte("[{,:"), rune(first[len(first)-1])) && (len(third) == 0 || third[0] == first[0]):
		r.apart = lines
	}
}

// Reader reads one file. Cut keeps the state of the stream; Split only reads what
// Open has set.
type Reader struct {
	format.Stream
	charset text.Charset
	pointer string      // where the records are
	shape   shape.Shape // what is wanted of them
	implied bool        // nobody has said so: the documents are lists
	names   []string
	before  []string // the pointer up to the first list
	list    bool     // there is one
	whole   bool     // the document must be read whole before its records are known
	within  []string // the pointer in its elements, * for each element of a list
	roots   []*trie  // what is wanted at each level of within; the last is the record's
	twins   []batch.Twin
	known   sync.Pool // of *known: what batches have taught of the members of objects
	tables  []table   // of the record's lists
	slots   [][]int   // those of each level but the last
	keys    [][]int   // slots that want the name, or the place in its list, of a value at each level
	outside []outer   // wanted values that stand around the outermost list
	lists   *list     // of the document of which a unit was asked for last
	listsOf int64     // where that stands
	frame   [2][]byte // what stands around an element of the outermost list in a document of its own

	apart  apart
	state  state
	first  bool // no element has come yet
	levels []byte

	member string // the name of the member that is passed behind the list
	valued bool   // its colon has come
	ended  finding.List
	unread *finding.Finding // why not all could be read of what stands around the list before it, nil: all could

	hold     func(level int, value []byte, elements int, say func(format.Difference)) // nil: nothing is said of what stands around records
	head     []byte                                                                   // of the file, up to the list
	tail     []byte                                                                   // of the document, from the end of the list on
	tailAt   place.Place
	elements int // of the list that have been passed
}

// Valid tells whether a text is one value (RFC 8259).
func Valid(b []byte) bool {
	in, err := text.Decode(bytes.NewReader(b), text.UTF8)
	if err != nil {
		return false
	}
	r, findings, err := format.Open(Source{}, in, nil)
	if r == nil || err != nil || findings.HasErrors() {
		return false
	}
	one := &batch.Batch{}
	_, err = r.Cut(one)
	r.Split(one)
	return err == nil && one.Records() == 1 && len(one.Notes) == 0
}

// begin goes to the first record, in what has been read of the file.
func (r *Reader) begin(buf []byte) (_ *finding.Finding, err error) {
	p := skipBlanks(buf, 0)
	for p < len(buf) && buf[p] == separator {
		p = skipBlanks(buf, p+1)
	}
	if p == len(buf) {
		f := finding.New("file.empty", place.Place{Line: 1, Column: 1}, "the file holds no value: %d bytes", len(buf))
		return &f, nil
	}
	if !r.list && r.apart == together && buf[p] == '[' { // a list of records
		r.list = true
	}
	if !r.list {
		r.Carry = buf
		return nil, nil
	}
	at, f, more := r.enter(buf, p)
	for more && !r.EOF && len(buf) < MaxValue {
		if buf, err = r.Fill(buf, min(2*len(buf), MaxValue)); err != nil {
			return nil, err
		}
		at, f, more = r.enter(buf, p)
	}
	if !more && f == nil {
		r.around(buf[:at])
		if r.whole || slices.ContainsFunc(r.outside, func(o outer) bool { return o.span == batch.Missing }) {
			// What is wanted of the document may stand behind the list.
			if buf, err = r.all(buf, p); err != nil || r.apart == several {
				return nil, err
			}
			if r.whole {
				g := finding.New("json.long", place.At("", buf, p), "the document is longer than %d MiB: names and places of its records are not told", MaxValue>>20)
				f = &g
			}
		}
	}
	if more {
		g := finding.New("json.no-records", place.At("", buf, p), "the list at %s was not found within %d bytes", shown(r.before), len(buf))
		f = &g
	}
	if f != nil {
		return f, nil
	}
	r.framed(buf[p:at])
	r.head = bytes.Clone(buf[:at])
	r.Advance(buf[:at])
	r.Carry = bytes.Clone(buf[at:])
	r.state, r.first = element, true
	return nil, nil
}

// all reads the document at p to its end, if it is not longer than a value may be: then its records
// are found in it as in one of several documents.
func (r *Reader) all(buf []byte, p int) (_ []byte, err error) {
	for {
		if _, whole, bad := skip(buf, p, r.EOF); bad >= 0 || whole || r.EOF || len(buf) >= MaxValue {
			if whole {
				r.apart = several
				r.bind()
				r.Carry = buf
			}
			return buf, nil
		}
		if buf, err = r.Fill(buf, min(2*len(buf), MaxValue)); err != nil {
			return buf, err
		}
	}
}

func shown(path []string) string {
	if len(path) == 0 {
		return "the beginning"
	}
	return "/" + strings.Join(path, "/")
}

// enter finds the place behind the bracket that opens the list of records.
func (r *Reader) enter(buf []byte, p int) (at int, wrong *finding.Finding, more bool) {
	fail := func(at int, format string, args ...any) (int, *finding.Finding, bool) {
		f := finding.New("json.no-records", place.At("", buf, min(at, len(buf))), format, args...)
		f.Seen = finding.Shorten(buf[min(at, len(buf)):min(len(buf), at+60)])
		return 0, &f, false
	}
	r.levels = r.levels[:0]
	for i := 0; ; i++ {
		if p = skipBlanks(buf, p); p == len(buf) {
			return 0, nil, true
		}
		if i == len(r.before) {
			if buf[p] == '{' { // the members of an object are read as the elements of a list
				r.whole = true
				return p + 1, nil, false
			}
			if buf[p] != '[' {
				return fail(p, "a list of records was expected at %s", shown(r.before))
			}
			r.levels = append(r.levels, ']')
			return p + 1, nil, false
		}
		if buf[p] != '{' {
			return fail(p, "an object with the member %q was expected at %s", r.before[i], shown(r.before[:i]))
		}
		r.levels = append(r.levels, '}')
		p++
		for {
			if p = skipBlanks(buf, p); p == len(buf) {
				return 0, nil, true
			}
			if buf[p] == '}' {
				return fail(p, "there is no member %q at %s", r.before[i], shown(r.before[:i]))
			}
			end, whole, bad := skip(buf, p, r.EOF)
			if bad >= 0 || !whole {
				return unfinished(fail, bad)
			}
			if buf[p] != '"' {
				return fail(p, "the name of a member was expected")
			}
			name, _ := unquote(nil, buf[p+1:end-1])
			if p = skipBlanks(buf, end); p == len(buf) {
				return 0, nil, true
			}
			if buf[p] != ':' {
				return fail(p, "a colon was expected")
			}
			if p = skipBlanks(buf, p+1); p == len(buf) {
				return 0, nil, true
			}
			if string(name) == r.before[i] {
				break
			}
			if end, whole, bad = skip(buf, p, r.EOF); bad >= 0 || !whole {
				return unfinished(fail, bad)
			}
			if p = skipBlanks(buf, end); p == len(buf) {
				return 0, nil, true
			}
			if buf[p] == ',' {
				p++
			} else if buf[p] != '}' {
				return fail(p, "a comma or the end of the object was expected")
			}
		}
	}
}

// unfinished is what enter gives for a value that could not be skipped: bad if a
// bracket in it closes nothing, otherwise more has to be read.
func unfinished(fail func(int, string, ...any) (int, *finding.Finding, bool), bad int) (int, *finding.Finding, bool) {
	if bad >= 0 {
		return fail(bad, "this closes nothing that is open")
	}
	return 0, nil, true
}

// around takes the wanted values that stand before the list in what holds it.
func (r *Reader) around(buf []byte) {
	if len(r.outside) == 0 {
		return
	}
	root := &trie{slot: -1}
	for i := range r.outside {
		root.add(r.outside[i].path, i)
	}
	closed := bytes.Clone(buf)
	for i := len(r.levels) - 1; i >= 0; i-- {
		closed = append(closed, r.levels[i])
	}
	n := len(closed)
	closed = append(closed, make([]byte, batch.Slack)...)
	b := &batch.Batch{Buf: closed, N: n, Slots: len(r.outside)}
	w := newWalk(r, b)
	w.row = make([]batch.Span, len(r.outside))
	for i := range w.row {
		w.row[i] = batch.Missing
	}
	w.value(skipBlanks(closed, 0), root, 0, nil)
	for i, s := range w.row {
		if r.outside[i].span = s; !s.Absent() {
			r.outside[i].value = bytes.Clone(b.Buf[s.Off:s.End])
		}
	}
	r.unread = nil
	if w.failed { // what is wanted may be what could not be read
		f := r.Describe(b, batch.Note{Slot: -1, Rule: int32(w.rule), At: uint32(w.at)})
		f.Place = place.At("", buf, min(w.at, len(buf)))
		r.unread = &f
	}
}

// separator precedes each value of a text sequence (RFC 7464).
const separator = 0x1e

// Cut fills b with the next whole records, or what they are parts of.
func (r *Reader) Cut(b *batch.Batch) (bool, error) {
	buf := r.Start(b)
	want, p := max(r.Most(), len(buf)), 0
	for {
		var err error
		if buf, err = r.Fill(buf, want); err != nil {
			b.Buf, b.N = buf, 0
			return false, err
		}
		var problem string
		at := p
		if p, at, problem = r.records(b, buf, p); problem != "" {
			return false, r.broken(b, buf, p, at, problem)
		}
		if r.EOF || len(b.Messages) > 0 || r.state >= rest && p > 0 {
			break
		}
		if len(buf) >= MaxValue {
			return false, r.broken(b, buf, p, p, fmt.Sprintf("no end of the record within %d MiB", MaxValue>>20))
		}
		want = min(2*len(buf), MaxValue)
	}
	if r.EOF && p < len(buf) {
		return false, r.broken(b, buf, p, p, "what begins here is never closed")
	}
	if r.EOF && (r.state == element || r.state == comma || r.state == rest) {
		return false, r.broken(b, buf, p, p, "the file ends before the list of records is closed: it may not be whole")
	}
	r.Give(b, buf, p, ' ')
	return !r.EOF || len(r.Carry) > 0, nil
}

// records finds whole records from p on. It gives where it stopped, and if the
// text cannot be followed, where and why.
func (r *Reader) records(b *batch.Batch, buf []byte, p int) (stopped, at int, problem string) {
	for {
		from := p
		if p = skipBlanks(buf, p); r.state == rest {
			r.closed(buf, from, p)
		}
		if p == len(buf) {
			return p, 0, ""
		}
		switch c := buf[p]; r.state {
		case values:
			if c == separator {
				p++
				continue
			}
			if r.apart == lines || r.apart == sequence {
				end := bytes.IndexByte(buf[p:], []byte{lines: '\n', sequence: separator}[r.apart])
				if end < 0 {
					if end = len(buf) - p; !r.EOF {
						return p, 0, ""
					}
				}
				text := bytes.TrimRight(buf[p:p+end], " \t\r\n")
				b.Messages = append(b.Messages, batch.Span{Off: uint32(p), End: uint32(p + len(text))})
				p += end
				continue
			}
		case element:
			if c == ']' && r.first {
				r.state = comma
				continue
			}
		case comma:
			switch c {
			case ',':
				r.state, r.first = element, false
			case ']':
				r.levels, r.state = r.levels[:len(r.levels)-1], rest
				if len(r.levels) == 0 {
					r.state = over
				}
				r.closed(buf, p, p+1)
			default:
				return p, p, "a comma or the end of the list was expected"
			}
			p++
			continue
		case rest:
			// What is left of the objects around the list.
			switch {
			case c == r.levels[len(r.levels)-1]:
				r.member, r.valued = "", false
				if r.levels = r.levels[:len(r.levels)-1]; len(r.levels) == 0 {
					r.state = over
				}
				r.closed(buf, p, p+1)
				p++
			case c == ',' || c == ':':
				r.valued = c == ':'
				r.closed(buf, p, p+1)
				p++
			default:
				end, whole, bad := skip(buf, p, r.EOF)
				if bad >= 0 {
					return p, bad, "this closes nothing that is open"
				}
				if !whole {
					return p, 0, ""
				}
				if r.valued {
					r.late(buf, p)
				} else if c == '"' {
					name, _ := unquote(nil, buf[p+1:end-1])
					r.member = string(name)
				}
				r.closed(buf, p, end)
				p = end
			}
			continue
		case over:
			return p, p, "text follows the end of the document"
		}
		end, whole, bad := skip(buf, p, r.EOF)
		if bad >= 0 {
			return p, bad, "this closes nothing that is open"
		}
		if !whole {
			return p, 0, ""
		}
		b.Messages = append(b.Messages, batch.Span{Off: uint32(p), End: uint32(end)})
		p = end
		if r.state == element {
			r.state = comma
			r.elements++
		}
	}
}

// late tells of a member behind the list that is wanted: the records have been given out without
// it.
func (r *Reader) late(buf []byte, p int) {
	depth := len(r.levels) - 1
	for _, o := range r.outside {
		if o.span == batch.Missing && len(o.path) > depth && o.path[depth] == r.member && slices.Equal(o.path[:depth], r.before[:depth]) && len(r.ended) == 0 {
			f := finding.New("json.behind", r.Place(buf, p), "%s stands behind the list of records, and the document is longer than %d MiB: the records were read without it", shown(o.path), MaxValue>>20)
			r.ended = append(r.ended, f.Suggest("the sender must write it before the list, or the document must be sent in parts"))
		}
	}
}

// broken gives out what precedes the place that cannot be followed.
func (r *Reader) broken(b *batch.Batch, buf []byte, n, at int, problem string) error {
	p := r.Place(buf, at)
	f := finding.New("json.structure", p, "%s; everything from this record on was rejected as one piece", problem)
	f.Seen = finding.Shorten(buf[min(at, len(buf)):min(len(buf), at+60)])
	rest := io.MultiReader(bytes.NewReader(bytes.Clone(buf[n:])), r.In)
	r.Give(b, buf, n, ' ')
	r.Carry = nil
	return &format.Broken{Finding: f, Rest: rest}
}

// Heading is empty: rejected records go into a file of values, one after the other.
func (r *Reader) Heading() []byte { return nil }

// Preface opens the list that the records of a file are elements of.
func (r *Reader) Preface(*batch.Batch, int) []byte {
	if r.list {
		return []byte("[")
	}
	return nil
}

// HoldAround has what stands around records held by a check.
func (r *Reader) HoldAround(check func(level int, value []byte, elements int, say func(format.Difference))) {
	r.hold = check
}

// longestAround is how much of what stands around a list of records is validated against the grammar.
const longestAround = 8 << 20

// kept is how much of it is kept: more where a schema has something to say of it.
func (r *Reader) kept() int {
	if r.hold != nil {
		return MaxValue
	}
	return longestAround
}

// closed keeps what stands behind the list of records.
func (r *Reader) closed(buf []byte, from, to int) {
	if len(r.head)+len(r.tail) > r.kept() {
		return
	}
	if len(r.tail) == 0 {
		r.tailAt = r.Place(buf, from)
	}
	r.tail = append(r.tail, buf[from:to]...)
}

// Finish tells what was found too late: what is wrong with what stands around all records.
func (r *Reader) Finish(int64) finding.List {
	r.ended = append(r.ended, r.Misread(nil, "", "")...)
	if len(r.head) == 0 || r.state != over {
		return r.ended
	}
	document := append(slices.Clip(r.head), r.tail...)
	ended := slices.Clip(r.ended)
	if most := r.kept(); len(document) > most {
		f := finding.New("json.long", place.Place{Line: 1, Column: 1}, "what stands around the list of records is longer than %d MiB, and was not checked", most>>20)
		if r.hold == nil { // nobody has asked for more than its grammar
			f.Severity = finding.Warning
		}
		if ended = append(ended, f); r.unread != nil {
			ended = append(ended, *r.unread)
		}
		return ended
	}
	from := skipBlanks(document, 0)
	if f := r.proved(document, from); f != nil {
		return append(ended, *f)
	}
	if r.hold == nil {
		return ended
	}
	r.hold(0, document[from:], r.elements, func(d format.Difference) {
		if len(ended) >= mostAround {
			return
		}
		f := finding.New(d.Code, r.aroundAt(document, from+d.At), "%s", d.Text)
		f.Place.Path, f.Seen = d.Path, finding.Shorten([]byte(d.Seen))
		ended = append(ended, f)
	})
	return ended
}

// proved tells what is wrong with the grammar of a document from which its records are left out; nil if nothing is.
func (r *Reader) proved(document []byte, from int) *finding.Finding {
	text := bytes.TrimRight(document, " \t\r\n")
	b := &batch.Batch{Buf: append(text[:len(text):len(text)], make([]byte, batch.Slack)...), N: len(text)}
	w := newWalk(r, b)
	w.finish(w.value(from, &trie{slot: -1}, 0, nil))
	if !w.failed {
		return nil
	}
	f := r.Describe(b, batch.Note{Slot: -1, Rule: int32(w.rule), At: uint32(w.at)})
	f.Place = r.aroundAt(document, w.at)
	return &f
}

// aroundAt is the place in the file of something in the document from which the records are left out.
func (r *Reader) aroundAt(document []byte, at int) place.Place {
	if at < len(r.head) {
		return place.At("", document, at)
	}
	out, behind := r.tailAt, place.At("", r.tail, min(at-len(r.head), len(r.tail)))
	out.Offset += behind.Offset
	if out.Line += behind.Line - 1; behind.Line == 1 {
		out.Column += behind.Column - 1
	} else {
		out.Column = behind.Column
	}
	return out
}

// mostAround is how much is told of one value around records.
const mostAround = 20

// Locate gives where a field of a record starts in the text: its value, or the
// record if it is absent.
func (r *Reader) Locate(b *batch.Batch, record, slot int) (uint32, string) {
	s := b.Spans[record*b.Slots+slot]
	switch {
	case s.Absent():
		return b.Bounds[record].Off, r.names[slot]
	case int(s.Off) >= b.N:
		return binary.LittleEndian.Uint32(b.Buf[s.Off-4:]), r.names[slot]
	}
	return s.Off, r.names[slot]
}
