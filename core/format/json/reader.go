package json

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"fmt"
	"io"
	"math/bits"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

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
	return bound{s, of}, nil
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
	buf, err := r.Fill(nil, r.Most())
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

	hold     func(level int, value []byte, elements int, say func(format.Difference)) // nil: nothing is said of what stands around records
	head     []byte                                                                   // of the file, up to the list
	tail     []byte                                                                   // of the document, from the end of the list on
	tailAt   place.Place
	elements int // of the list that have been passed
}

// outer is a value that stands around all records.
type outer struct {
	slot  int
	path  []string
	value []byte
	span  batch.Span // Null or Missing if there is no value
}

// table is a list of which rows are wanted.
type table struct {
	slots, above int
	keys         []int // slots that want the name, or the place in its list, of a row
	twins        []batch.Twin
}

// trie is the wanted members below a value.
type trie struct {
	table    int   // whose rows its elements or members are
	row      *trie // what is wanted of each of them, nil: they are no rows
	slot     int   // -1: the value itself is not wanted
	most     int   // elements are taken, if it is a list: places up to the second or higher are wanted; 0: there are none
	children []branch
}

type branch struct {
	name string
	key  uint64 // see keyed
	to   *trie
}

// keyed is a name's beginning and length as a number: names of up to seven bytes have one of their own.
func keyed(buf []byte, from, to int) uint64 {
	n := uint(to - from)
	return binary.LittleEndian.Uint64(buf[from:])&(1<<(8*min(n, 7))-1) | uint64(n&0xff)<<56
}

func (t *trie) child(name string) *trie {
	for i := range t.children {
		if t.children[i].name == name {
			return t.children[i].to
		}
	}
	return nil
}

// all are the slots of all values below.
func (t *trie) all(slots []int) []int {
	if t.slot >= 0 {
		slots = append(slots, t.slot)
	}
	for _, c := range t.children {
		slots = c.to.all(slots)
	}
	return slots
}

func (t *trie) add(path []string, slot int) { t.find(path).slot = slot }

// find gives what is wanted below a path, which may be nothing yet.
func (t *trie) find(path []string) *trie {
	for _, name := range path {
		c := t.child(name)
		if c == nil {
			c = &trie{slot: -1}
			if n, err := strconv.Atoi(name); err == nil && n > 0 {
				t.most = max(t.most, n+1)
			}
			t.children = append(t.children, branch{name, keyed(append([]byte(name), make([]byte, 8)...), 0, len(name)), c})
		}
		t = c
	}
	return t
}

// pointer takes a JSON Pointer apart.
func pointer(s string) ([]string, error) {
	if s == "" {
		return nil, nil
	}
	if s[0] != '/' {
		return nil, fmt.Errorf("a pointer begins with a slash: /%s", s)
	}
	names := strings.Split(s[1:], "/")
	for i, n := range names {
		names[i] = strings.NewReplacer("~1", "/", "~0", "~").Replace(n)
	}
	return names, nil
}

// bind finds out which members the wanted fields are.
func (r *Reader) bind() finding.List {
	var out finding.List
	r.names, r.outside, r.before, r.list = nil, nil, nil, false
	path, err := pointer(r.pointer)
	if err != nil {
		return finding.List{finding.New("json.records", place.Place{Line: 1, Column: 1}, "the records cannot be found: %v", err)}
	}
	if i := slices.Index(path, "*"); i >= 0 && r.apart == together {
		r.before, r.within, r.list = path[:i], path[i+1:], true
	} else {
		r.within = path
	}
	r.roots = make([]*trie, len(r.within)+1)
	r.keys = make([][]int, len(r.roots))
	for i := range r.roots {
		r.roots[i] = &trie{slot: -1}
	}
	r.twins = nil
	first := map[string]int{}
	for slot, f := range r.shape.Fields {
		r.names = append(r.names, f.Name)
		at, up, wanted := f.At(), 0, []string{f.At()}
		digits := len(at) - len(strings.TrimLeft(at, "0123456789"))
		if strings.HasPrefix(at, "/") || digits > 0 && (digits == len(at) || at[digits] == '/' || at[digits:] == "#") {
			up, _ = strconv.Atoi(at[:digits])
			wanted, _ = pointer(strings.TrimSuffix(at[digits:], "#"))
		}
		level := len(r.within) - up
		where := fmt.Sprintf("%d %v %q", up, digits > 0 && at[digits:] == "#", wanted)
		if as, twice := first[where]; twice {
			r.twins = append(r.twins, batch.Twin{Slot: slot, As: as})
			continue
		}
		first[where] = slot
		if key := digits > 0 && at[digits:] == "#"; key {
			if level >= 0 && level+len(r.before) > 0 || r.list {
				if level >= 0 {
					r.keys[level] = append(r.keys[level], slot)
				}
				r.whole = r.whole || r.list // places in a list that goes on and on are not counted
				continue
			}
		} else if level >= 0 {
			r.roots[level].add(wanted, slot)
			continue
		}
		// Above the outermost element: the list is one level, what holds it the next.
		if outside := len(r.before) + 1 + level; r.list && outside >= 0 && level < -1 {
			r.outside = append(r.outside, outer{slot: slot, path: append(slices.Clone(r.before[:outside]), wanted...), span: batch.Missing})
			continue
		}
		out = append(out, finding.New("json.path", place.Place{Line: 1, Column: 1, Path: f.Name}, "the field %s cannot be found: there are not %d levels above a record", f.Name, up))
	}
	r.slots = make([][]int, len(r.within))
	for level := range r.slots {
		r.slots[level] = append(r.roots[level].all(nil), r.keys[level]...)
	}
	return append(out, r.bindLists()...)
}

// bindLists finds out where the lists of a record are, and what is wanted of their rows.
func (r *Reader) bindLists() finding.List {
	var out finding.List
	tables := r.shape.Tables()
	rows := make([]*trie, len(tables)) // what is wanted of them
	r.tables = make([]table, len(tables))
	for n, t := range tables {
		wrong := func(name, format string, args ...any) {
			out = append(out, finding.New("json.path", place.Place{Line: 1, Column: 1, Path: name}, format, args...))
		}
		above := r.roots[len(r.roots)-1]
		if t.Above >= 0 {
			above = rows[t.Above]
		}
		path := []string{t.At()}
		if strings.HasPrefix(t.At(), "/") {
			path, _ = pointer(t.At())
		} else if t.At() == "0" { // the row is a list itself
			path = nil
		}
		at := above.find(path)
		if at.row != nil {
			wrong(t.Name, "the list %s is at %s, where another is", t.Name, t.At())
		}
		rows[n] = &trie{slot: -1}
		at.table, at.row = n, rows[n]
		of := table{slots: len(t.Fields), above: t.Above}
		first := map[string]int{}
		for slot, f := range t.Fields {
			path := f.At()
			switch as, twice := first[path]; {
			case twice:
				of.twins = append(of.twins, batch.Twin{Slot: slot, As: as})
				continue
			case path == "0#":
				of.keys = append(of.keys, slot)
			case path == "0":
				rows[n].slot = slot
			case strings.HasPrefix(path, "/"):
				names, _ := pointer(path)
				rows[n].add(names, slot)
			case upwards(path):
				wrong(f.Name, "the field %s cannot be found: in a list, what is above it is asked for by its own field", f.Name)
			default:
				rows[n].add([]string{path}, slot)
			}
			first[path] = slot
		}
		r.tables[n] = of
	}
	return out
}

// upwards tells whether a path goes up so many levels first.
func upwards(path string) bool {
	digits := len(path) - len(strings.TrimLeft(path, "0123456789"))
	return digits > 0 && digits < len(path) && path[digits] == '/'
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

func blank(c byte) bool { return c == ' ' || c == '\n' || c == '\r' || c == '\t' }

func skipBlanks(buf []byte, p int) int {
	for p < len(buf) && blank(buf[p]) {
		p++
	}
	return p
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
	w := walk{Reader: r, b: b, end: n}
	w.row = make([]batch.Span, len(r.outside))
	for i := range w.row {
		w.row[i] = batch.Missing
	}
	w.value(skipBlanks(closed, 0), root, 0)
	for i, s := range w.row {
		if r.outside[i].span = s; !s.Absent() {
			r.outside[i].value = bytes.Clone(b.Buf[s.Off:s.End])
		}
	}
}

// framed keeps what stands before the list, or of much only the wanted members and the way to the
// list: so that an element can be a document that is read as this one.
func (r *Reader) framed(head []byte) {
	if r.pointer == "" {
		return // a list of records: each is a document
	}
	var tail []byte
	for i := len(r.levels) - 1; i >= 0; i-- {
		tail = append(tail, r.levels[i])
	}
	if len(head) > longestFrame {
		wanted := &trie{slot: -1}
		for i := range r.outside {
			wanted.add(r.outside[i].path, i)
		}
		wanted.add(r.before, len(r.outside))
		closed := append(bytes.Clone(head), tail...)
		head = pruned(nil, closed, 0, wanted)
		head = head[:len(head)-len(tail)]
	}
	r.frame = [2][]byte{bytes.Clone(head), tail}
}

// longestFrame is up to how many bytes all that stands before a list goes with each of its rejected
// elements.
const longestFrame = 1 << 10

// pruned writes of the object at p the members that are wanted.
func pruned(out, buf []byte, p int, t *trie) []byte {
	end, _, _ := skip(buf, p, true)
	if t.slot >= 0 || len(t.children) == 0 || buf[p] != '{' {
		return append(out, buf[p:end]...)
	}
	out = append(out, '{')
	kept := 0
	for p = skipBlanks(buf, p+1); p < end-1; p = skipBlanks(buf, p) {
		if buf[p] == ',' {
			p++
			continue
		}
		from := p
		nameEnd, _, _ := skip(buf, p, true)
		name, _ := unquote(nil, buf[p+1:nameEnd-1])
		p = skipBlanks(buf, nameEnd)
		p = skipBlanks(buf, min(p+1, end-1)) // the colon
		stop, _, _ := skip(buf, p, true)
		if stop <= p {
			break
		}
		if below := t.child(string(name)); below != nil {
			if kept++; kept > 1 {
				out = append(out, ',')
			}
			out = pruned(append(out, buf[from:p]...), buf, p, below)
		}
		p = stop
	}
	return append(out, '}')
}

// separator precedes each value of a text sequence (RFC 7464).
const separator = 0x1e

// skip finds the end of the value at p by its brackets and quotes alone. It is not
// whole if more has to be read; bad is where a bracket closes nothing, or -1.
func skip(buf []byte, p int, eof bool) (end int, whole bool, bad int) {
	switch c := buf[p]; c {
	case '"':
		if k := closing(buf, p+1); k >= 0 {
			return k + 1, true, -1
		}
		return 0, false, -1
	case '{', '[':
		return nested(buf, p)
	case '}', ']':
		return 0, false, p
	}
	i := p
	for i < len(buf) && kinds[buf[i]] == inside {
		i++
	}
	if i == p { // a comma or a colon where a value should be
		i++
	}
	return i, i < len(buf) || eof, -1
}

// kind says what a character is to who looks for the end of a value.
type kind uint8

const (
	inside  kind = iota // of a number or a word
	between             // blanks, commas, colons
	quote
	opening
	ending
)

var kinds = func() (k [256]kind) {
	for _, c := range " \t\r\n,:\x1e" {
		k[c] = between
	}
	k['"'], k['{'], k['['], k['}'], k[']'] = quote, opening, opening, ending, ending
	return k
}()

func nested(buf []byte, p int) (end int, whole bool, bad int) {
	var open [MaxDepth + 8]byte
	depth := 0
	for i := p; i < len(buf); i++ {
		// Eight bytes at once, of which none is a quote or a bracket: [ ] { } differ in one bit.
		for i+8 <= len(buf) {
			x := binary.LittleEndian.Uint64(buf[i:])
			quotes, opened, closed := x^low*'"', (x|low*0x20)^low*'{', (x|low*0x20)^low*'}'
			if m := ((quotes-low)&^quotes | (opened-low)&^opened | (closed-low)&^closed) & high; m != 0 {
				i += bits.TrailingZeros64(m) >> 3
				break
			}
			i += 8
		}
		if i >= len(buf) {
			break
		}
		switch kinds[buf[i]] {
		case quote:
			k := closing(buf, i+1)
			if k < 0 {
				return 0, false, -1
			}
			i = k
		case opening:
			if depth < len(open) {
				open[depth] = buf[i] + 2 // } and ] are two behind { and [
			}
			depth++
		case ending:
			if depth <= len(open) && open[depth-1] != buf[i] {
				return 0, false, i
			}
			if depth--; depth == 0 {
				return i + 1, true, -1
			}
		}
	}
	return 0, false, -1
}

// closing finds the quote that ends a string, from its first character on; -1 if there is none.
func closing(buf []byte, i int) int {
	for {
		for i+8 <= len(buf) {
			x := binary.LittleEndian.Uint64(buf[i:])
			quotes, slashes := x^low*'"', x^low*'\\'
			if m := ((quotes-low)&^quotes | (slashes-low)&^slashes) & high; m != 0 {
				i += bits.TrailingZeros64(m) >> 3
				break
			}
			i += 8
		}
		for i < len(buf) && buf[i] != '"' && buf[i] != '\\' {
			i++
		}
		if i >= len(buf) {
			return -1
		}
		if buf[i] == '"' {
			return i
		}
		i += 2
	}
}

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

// closed keeps what stands behind the list that the records are elements of.
func (r *Reader) closed(buf []byte, from, to int) {
	if r.hold == nil || len(r.head)+len(r.tail) > MaxValue {
		return
	}
	if len(r.tail) == 0 {
		r.tailAt = r.Place(buf, from)
	}
	r.tail = append(r.tail, buf[from:to]...)
}

// Finish tells what was found too late: what is wrong with what stands around all records.
func (r *Reader) Finish(int64) finding.List {
	if r.hold == nil || len(r.head) == 0 || r.state != over {
		return r.ended
	}
	document := append(slices.Clip(r.head), r.tail...)
	if len(document) > MaxValue {
		return append(r.ended, finding.New("json.long", place.Place{Line: 1, Column: 1}, "what stands around the list of records is longer than %d MiB, and was not checked against the schema", MaxValue>>20))
	}
	from, ended := skipBlanks(document, 0), slices.Clip(r.ended)
	r.hold(0, document[from:], r.elements, func(d format.Difference) {
		if len(ended) >= mostAround {
			return
		}
		at := from + d.At
		f := finding.New(d.Code, place.At("", document, min(at, len(r.head))), "%s", d.Text)
		if at >= len(r.head) {
			behind := place.At("", r.tail, at-len(r.head))
			f.Place = r.tailAt
			f.Place.Offset += behind.Offset
			if f.Place.Line += behind.Line - 1; behind.Line == 1 {
				f.Place.Column += behind.Column - 1
			} else {
				f.Place.Column = behind.Column
			}
		}
		f.Place.Path, f.Seen = d.Path, finding.Shorten([]byte(d.Seen))
		ended = append(ended, f)
	})
	return ended
}

// mostAround is how much is told of one value around records.
const mostAround = 20

// Survey calls f for the values in a record that are not objects and lists, with
// pointers in which * stands for each element of a list. The value of null is nil. What is
// nested deeper than MaxDepth, or stands behind what is not JSON, is left out.
func (r *Reader) Survey(raw []byte, f func(path, value []byte)) {
	s := survey{raw, make([]byte, 0, 64), nil, f}
	if p := skipBlanks(raw, 0); p < len(raw) {
		s.value(p, 0)
	}
}

type survey struct {
	raw, path, plain []byte
	f                func(path, value []byte)
}

// value goes through the value at p, and gives where it ends; -1 if it cannot be followed.
func (s *survey) value(p, depth int) int {
	open, base := s.raw[p], len(s.path)
	if open != '{' && open != '[' {
		end, whole, bad := skip(s.raw, p, true)
		switch {
		case !whole || bad >= 0:
			return -1
		case open == '"':
			s.f(s.path, s.text(s.raw[p+1:end-1]))
		case open == 'n':
			s.f(s.path, nil)
		default:
			s.f(s.path, s.raw[p:end])
		}
		return end
	}
	if depth == MaxDepth {
		return -1
	}
	for p = skipBlanks(s.raw, p+1); p < len(s.raw); p = skipBlanks(s.raw, p) {
		switch s.raw[p] {
		case ',':
			p++
			continue
		case open + 2:
			return p + 1
		}
		s.path = append(s.path[:base], '/')
		if open == '{' {
			stop := -1
			if s.raw[p] == '"' {
				stop = closing(s.raw, p+1)
			}
			if stop < 0 {
				break
			}
			for _, c := range s.text(s.raw[p+1 : stop]) {
				switch c {
				case '~':
					s.path = append(s.path, "~0"...)
				case '/':
					s.path = append(s.path, "~1"...)
				default:
					s.path = append(s.path, c)
				}
			}
			if p = skipBlanks(s.raw, skipBlanks(s.raw, stop+1)+1); p >= len(s.raw) {
				break
			}
		} else {
			s.path = append(s.path, '*')
		}
		if p = s.value(p, depth+1); p < 0 {
			break
		}
		s.path = s.path[:base]
	}
	s.path = s.path[:base]
	return -1
}

func (s *survey) text(b []byte) []byte {
	if bytes.IndexByte(b, '\\') < 0 {
		return b
	}
	s.plain, _ = unquote(s.plain[:0], b)
	return s.plain
}

// Outline gives the parts of a value.
func (r *Reader) Outline(raw []byte) []format.Node { return Outline(raw) }

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

// Raw is a record with what is around it, but without its neighbours, on a line.
func (r *Reader) Raw(b *batch.Batch, record int) []byte {
	unit := b.Bounds[record]
	i, _ := slices.BinarySearchFunc(b.Messages, unit.Off, func(s batch.Span, off uint32) int {
		if s.End > off {
			return 1
		}
		return -1
	})
	whole := b.Messages[i]
	out := bytes.Clone(r.frame[0])
	if whole == unit {
		out = append(out, b.Buf[unit.Off:unit.End]...)
	} else {
		if of := b.Base + int64(whole.Off); r.lists == nil || r.listsOf != of || r.lists.end != int(whole.End) {
			r.lists, r.listsOf = &list{end: int(whole.End)}, of
			r.lists.elements = listed(nil, b.Buf[:whole.End], int(whole.Off), r.within)
		}
		out = r.lists.alone(out, b.Buf, int(whole.Off), int(unit.Off))
	}
	return append(oneLine(append(out, r.frame[1]...)), '\n')
}

// Alone is a record in a document of its own, on a line.
func (r *Reader) Alone(to []byte, b *batch.Batch, record int) (text []byte, moved bool) {
	if r.implied { // the lists that hold them are nothing that anybody has asked for
		unit := b.Bounds[record]
		return append(oneLine(append(to, b.Buf[unit.Off:unit.End]...)), '\n'), true
	}
	return append(to, r.Raw(b, record)...), true
}

// Reordered reads such documents, a record in each.
func (r *Reader) Reordered(in io.Reader) format.Reader {
	of := &Reader{Stream: format.Stream{In: in, Line: 1, Size: r.Size}, charset: r.charset, state: values, apart: lines, pointer: r.pointer, shape: r.shape}
	if r.implied {
		of.pointer = ""
	}
	of.bind() // it was found right before
	return of
}

// list is where the elements of a list stand in a document, and what else of it.
type list struct {
	elements []item // in their order
	end      int    // of the document, or of the element that holds the list
}

// item is an element of a list, and the list in it that holds units, if it holds one.
type item struct {
	from, to int
	inner    []item
}

// listed finds the elements of the lists on a path, from the value at p on.
func listed(out []item, buf []byte, p int, path []string) []item {
	if len(path) == 0 || p >= len(buf) || buf[p] != '{' && buf[p] != '[' {
		return out
	}
	open, all := buf[p], path[0] == "*"
	end, _, _ := skip(buf, p, true)
	for p = skipBlanks(buf, p+1); p < end-1; p = skipBlanks(buf, p) {
		if buf[p] == ',' {
			p++
			continue
		}
		from, wanted := p, all
		if open == '{' {
			nameEnd, _, _ := skip(buf, p, true)
			if !all {
				name, _ := unquote(nil, buf[p+1:max(p+1, nameEnd-1)])
				wanted = string(name) == path[0]
			}
			p = skipBlanks(buf, nameEnd)
			p = skipBlanks(buf, min(p+1, end-1)) // the colon
		}
		stop, _, _ := skip(buf, p, true)
		if stop <= p {
			break
		}
		switch {
		case wanted && all:
			out = append(out, item{from, stop, listed(nil, buf, p, path[1:])})
		case wanted:
			return listed(out, buf, p, path[1:])
		}
		p = stop
	}
	return out
}

// alone writes a document, from an offset on, without the elements that do not hold a unit.
func (l *list) alone(out, buf []byte, from, unit int) []byte {
	i, _ := slices.BinarySearchFunc(l.elements, unit, func(e item, at int) int { return cmp.Compare(e.to, at+1) })
	if i == len(l.elements) || l.elements[i].from > unit {
		return append(out, buf[from:l.end]...)
	}
	e := l.elements[i]
	out = append(out, buf[from:l.elements[0].from]...)
	out = (&list{e.inner, e.to}).alone(out, buf, e.from, unit)
	return append(out, buf[l.elements[len(l.elements)-1].to:l.end]...)
}

// oneLine makes blanks of line ends that stand outside of texts: a file of rejected records has one a
// line, so that a broken one is told from the next.
func oneLine(b []byte) []byte {
	if bytes.IndexByte(b, '\n') < 0 && bytes.IndexByte(b, '\r') < 0 {
		return b
	}
	within := false
	for i := 0; i < len(b); i++ {
		switch c := b[i]; {
		case c == '\\' && within:
			i++
		case c == '"':
			within = !within
		case (c == '\n' || c == '\r') && !within:
			b[i] = ' '
		}
	}
	return b
}

// alone writes the value at p without those elements of the lists on a path that
// do not hold a unit.
func alone(out, buf []byte, p int, path []string, unit batch.Span) []byte {
	end, _, _ := skip(buf, p, true)
	if len(path) == 0 || buf[p] != '{' && buf[p] != '[' {
		return append(out, buf[p:end]...)
	}
	open := buf[p]
	out = append(out, open)
	kept := 0
	for p = skipBlanks(buf, p+1); p < end-1; p = skipBlanks(buf, p) {
		if buf[p] == ',' {
			p++
			continue
		}
		from, inner := p, path[:0:0]
		if open == '{' {
			nameEnd, _, _ := skip(buf, p, true)
			name, _ := unquote(nil, buf[p+1:nameEnd-1])
			p = skipBlanks(buf, nameEnd)
			p = skipBlanks(buf, min(p+1, end-1)) // the colon
			if string(name) == path[0] || path[0] == "*" {
				inner = path[1:]
			}
		} else if path[0] == "*" {
			inner = path[1:]
		}
		stop, _, _ := skip(buf, p, true)
		if stop <= p {
			break
		}
		if (open == '[' || path[0] == "*") && (int(unit.Off) < p || int(unit.Off) >= stop) {
			p = stop
			continue
		}
		if kept++; kept > 1 {
			out = append(out, ',')
		}
		out = append(out, buf[from:p]...)
		out = alone(out, buf, p, inner, unit)
		p = stop
	}
	return append(out, open+2)
}

// Syntax rules, as numbers in batch notes.
const (
	ruleSyntax = iota
	ruleTwice
	ruleEncoding
	ruleSurrogate
	ruleControl
	ruleEscape
	ruleNumber
	ruleDepth
	ruleNoRecord
	ruleMore
)

// Split finds the records and their wanted members, and holds everything in them
// against the grammar.
func (r *Reader) Split(b *batch.Batch) {
	b.Slots = len(r.names)
	slots, above := make([]int, len(r.tables)), make([]int, len(r.tables))
	for i, t := range r.tables {
		slots[i], above[i] = t.slots, t.above
	}
	b.Lay(slots, above)
	w := walk{Reader: r, b: b}
	w.odd = r.charset == text.UTF8 && !utf8.Valid(b.Buf[:b.N]) || r.charset != text.UTF8 && bytes.Contains(b.Buf[:b.N], []byte(string(utf8.RuneError)))
	w.context = make([]batch.Span, b.Slots)
	for i := range w.context {
		w.context[i] = batch.Missing
	}
	for _, o := range r.outside {
		w.context[o.slot] = o.span
		if !o.span.Absent() {
			b.Buf = binary.LittleEndian.AppendUint32(b.Buf, 0)
			off := len(b.Buf)
			b.Buf = append(b.Buf, o.value...)
			w.context[o.slot] = batch.Span{Off: uint32(off), End: uint32(len(b.Buf))}
		}
	}
	w.rows = make([][]batch.Span, len(r.within)+1)
	for level := range r.within {
		w.rows[level] = slices.Repeat([]batch.Span{batch.Missing}, b.Slots)
	}
	for _, whole := range b.Messages {
		w.whole(whole)
	}
	b.Give(r.twins)
	for i := range r.tables {
		b.Tables[i].Give(r.tables[i].twins)
	}
	b.Filled()
}

// walk goes through one value after the other.
type walk struct {
	*Reader
	b       *batch.Batch
	odd     bool // there is something that is not UTF-8
	row     []batch.Span
	context []batch.Span
	names   []batch.Span   // of the members of the objects that are open
	tables  []int          // rows of each before the whole that is read
	rows    [][]batch.Span // what is wanted of each level of the pointer that is open
	end     int            // of the whole that is read
	rule    int            // what is wrong, with failed
	at      int
	failed  bool
	record  int  // that is read, -1: what is around it
	escaped bool // the string that was read last has escape sequences
	empty   bool // there was a list without elements
}

// fail notes the first thing that is wrong with a whole.
func (w *walk) fail(rule, at int) int {
	if !w.failed {
		w.failed, w.rule, w.at = true, rule, at
	}
	return w.end
}

// whole reads one value of the file and finds the records in it.
func (w *walk) whole(s batch.Span) {
	w.end, w.failed, w.empty, w.names = int(s.End), false, false, w.names[:0]
	records := len(w.b.Bounds)
	w.tables = w.tables[:0]
	for i := range w.b.Tables {
		w.tables = append(w.tables, len(w.b.Tables[i].At))
	}
	if len(w.within) == 0 {
		w.record = len(w.b.Bounds)
		w.row = w.open(s)
		copy(w.row, w.context)
		end := w.value(int(s.Off), w.roots[0], 0)
		w.finish(end)
		w.cut(s)
	} else {
		w.record = -1
		notes := len(w.b.Notes)
		w.finish(w.along(int(s.Off), 0, 0, false, batch.Missing, -1))
		if w.failed { // its records are not what they seem
			w.b.Notes = w.b.Notes[:notes]
			w.b.Cut(records, w.tables)
		}
	}
	if len(w.b.Bounds) == records && (w.failed || !w.empty) {
		row := w.open(s)
		copy(row, w.context)
		if len(w.within) > 0 {
			w.settle(0, row)
		}
		if !w.failed {
			w.fail(ruleNoRecord, int(s.Off))
		}
	}
	if w.failed {
		for record := records; record < len(w.b.Bounds); record++ {
			w.b.Notes = append(w.b.Notes, batch.Note{Record: int32(record), Slot: -1, Rule: int32(w.rule), Source: batch.Syntax, At: uint32(w.at)})
		}
	}
}

// cut fails for a number or word of a text sequence that nothing follows: it may be the
// beginning of another one (RFC 7464, 2.4).
func (w *walk) cut(s batch.Span) {
	if w.apart != sequence || bytes.IndexByte([]byte("{[\""), w.b.Buf[s.Off]) >= 0 {
		return
	}
	if end := int(s.End); end >= w.b.N || !blank(w.b.Buf[end]) {
		w.fail(ruleSyntax, end)
	}
}

func (w *walk) finish(end int) {
	if end != w.end && !w.failed {
		w.fail(ruleSyntax, end)
	}
}

// open makes a record with an empty row.
func (w *walk) open(s batch.Span) []batch.Span {
	w.b.Begin(-1, len(w.b.Bounds))
	w.b.Bounds = append(w.b.Bounds, s)
	slots := w.b.Slots
	w.b.Spans = slices.Grow(w.b.Spans, slots)
	w.b.Spans = w.b.Spans[:len(w.b.Spans)+slots]
	row := w.b.Spans[len(w.b.Spans)-slots:]
	for i := range row {
		row[i] = batch.Missing
	}
	return row
}

// along reads a value that stands on the pointer to the records, at a level of it. What is wanted of it is
// known when it ends, and is then given to the records in it. Every tells that it is one of a list; it has
// a name, or a place in its list that is not negative.
func (w *walk) along(p, level, depth int, every bool, name batch.Span, place int) int {
	start, outer, row, first := p, w.row, w.rows[level], len(w.b.Bounds)
	record := level == len(w.within)
	if record {
		row = w.open(batch.Span{Off: uint32(p), End: uint32(p)})
		copy(row, w.context)
	} else {
		for _, slot := range w.slots[level] {
			row[slot] = batch.Missing
		}
	}
	if level > 0 {
		for _, slot := range w.keys[level] {
			if place >= 0 {
				name = w.numbered(p, place)
			}
			row[slot] = name
		}
	}
	w.row = row
	root, empty := w.roots[level], w.empty
	if record {
		w.record = first
		p = w.value(p, root, depth)
		w.record = -1
		w.b.Bounds[first].End = uint32(p)
		w.row = outer
		return p
	}
	w.empty = false
	switch all := w.within[level] == "*"; {
	case p >= w.end:
		p = w.fail(ruleSyntax, w.end)
	case w.b.Buf[p] == '{' && !(all && w.implied):
		p = w.object(p, root, depth, level)
	case w.b.Buf[p] == '[' && all:
		p = w.array(p, root, depth, level)
	default:
		p = w.value(p, root, depth)
	}
	if root.slot >= 0 && !w.failed {
		row[root.slot] = batch.Span{Off: uint32(start), End: uint32(p)}
	}
	if every && !w.empty && !w.failed && len(w.b.Bounds) == first { // an element without the list that is to be in it
		w.b.Notes = append(w.b.Notes, batch.Note{Record: int32(first), Slot: -1, Rule: ruleNoRecord, Source: batch.Syntax, At: uint32(start)})
		copy(w.open(batch.Span{Off: uint32(start), End: uint32(p)}), w.context)
	}
	if w.hold != nil && !w.failed && (level == 0 || w.within[level-1] == "*") {
		w.held(level, start, p, first)
	}
	if len(w.slots[level]) > 0 {
		for ; first < len(w.b.Bounds); first++ {
			w.settle(level, w.b.Spans[first*w.b.Slots:])
		}
	}
	w.empty = w.empty || empty
	w.row = outer
	return p
}

// held has a value held by the check of what stands around records: those from the first on stand in
// it. If there are none, it is rejected itself.
func (w *walk) held(level, start, end, first int) {
	path := w.within[level:]
	path = path[:slices.Index(path, "*")+1]
	if len(path) == 0 {
		return
	}
	value := w.b.Buf[start:end]
	list := listed(nil, w.b.Buf[:end], start, path)
	cut, gap := len(value), 0
	if len(list) > 0 {
		from, to := list[0].from, list[len(list)-1].to
		cut, gap = from-start, to-from
		value = append(bytes.Clone(value[:cut]), value[to-start:]...)
	}
	steps := 0 // that lead to what was cut
	if w.list {
		steps = len(w.before) + 1
	}
	told := 0
	w.Reader.hold(steps+level, value, len(list), func(d format.Difference) {
		at := d.At
		if at >= cut {
			at += gap
		}
		if told++; told > mostAround {
			return
		}
		if len(w.b.Bounds) == first {
			copy(w.open(batch.Span{Off: uint32(start), End: uint32(end)}), w.context)
		}
		note := batch.Note{Slot: -1, Source: batch.Standard, At: uint32(start + at), Text: d.Text, Detail: &batch.Detail{Code: d.Code, Path: d.Path, Seen: d.Seen}}
		for record := first; record < len(w.b.Bounds) && (told == 1 || record == first); record++ {
			note.Record = int32(record)
			w.b.Notes = append(w.b.Notes, note)
		}
	})
}

// settle gives a row what is wanted of a level.
func (w *walk) settle(level int, row []batch.Span) {
	for _, slot := range w.slots[level] {
		row[slot] = w.rows[level][slot]
	}
}

// value reads the value at p by the grammar, takes what is wanted of it, and gives
// where it ends.
func (w *walk) value(p int, wanted *trie, depth int) int {
	buf, start := w.b.Buf, p
	if p >= w.end {
		return w.fail(ruleSyntax, w.end)
	}
	if depth > MaxDepth {
		return w.fail(ruleDepth, p)
	}
	slot := -1
	if wanted != nil {
		slot = wanted.slot
	}
	switch c := buf[p]; {
	case c == '{':
		p = w.object(p, wanted, depth, -1)
	case c == '[':
		p = w.array(p, wanted, depth, -1)
	case c == '"':
		return w.str(p, slot)
	case c == '-' || c-'0' <= 9:
		if p = number(buf[:w.end], p); p < 0 {
			return w.fail(ruleNumber, start)
		}
	default:
		for _, word := range []string{"true", "false", "null"} {
			if bytes.HasPrefix(buf[p:w.end], []byte(word)) {
				if slot >= 0 && c == 'n' {
					w.row[slot] = batch.Null
					return p + len(word)
				}
				p += len(word)
				break
			}
		}
		if p == start {
			return w.fail(ruleSyntax, p)
		}
	}
	if slot >= 0 && !w.failed {
		w.row[slot] = batch.Span{Off: uint32(start), End: uint32(p)}
	}
	return p
}

// object reads an object; of the pointer's levels it is the one of that number, or -1.
func (w *walk) object(p int, wanted *trie, depth, level int) int {
	first, names, alike, end := len(w.names), uint64(0), false, w.end
	every := level >= 0 && w.within[level] == "*"
	if p = w.skip(p + 1); p < end && w.b.Buf[p] == '}' {
		w.empty = w.empty || every
		return p + 1
	}
	for {
		buf := w.b.Buf
		if p >= end || buf[p] != '"' {
			return w.fail(ruleSyntax, p)
		}
		// Most names are short and have nothing special: one word has them.
		var key uint64
		name := batch.Span{Off: uint32(p + 1)}
		x := binary.LittleEndian.Uint64(buf[p+1:])
		if n := bits.TrailingZeros64(special(x, high)) >> 3; n < 8 && buf[p+1+n] == '"' && p+1+n < end {
			name.End = uint32(p + 1 + n)
			key, p = x&(1<<(8*n)-1)|uint64(n)<<56, p+n+2
		} else {
			if p = w.str(p, -1); w.failed {
				return end
			}
			if name.End = uint32(p - 1); w.escaped {
				at := name
				w.b.Buf = binary.LittleEndian.AppendUint32(w.b.Buf, at.Off)
				name.Off = uint32(len(w.b.Buf))
				w.b.Buf, _ = unquote(w.b.Buf, w.b.Buf[at.Off:at.End])
				name.End = uint32(len(w.b.Buf))
				w.b.Buf = append(w.b.Buf, 0, 0, 0, 0, 0, 0, 0, 0)
				buf = w.b.Buf
			}
			key = keyed(buf, int(name.Off), int(name.End))
		}
		w.names = append(w.names, name)
		bit := uint64(1) << (key * 0x9E3779B97F4A7C15 >> 58) // names that are alike have one bit
		alike, names = alike || names&bit != 0, names|bit
		var below *trie
		if wanted != nil {
			for i := range wanted.children {
				if c := &wanted.children[i]; c.key == key && (len(c.name) < 8 || c.name == string(buf[name.Off:name.End])) {
					below = c.to
					break
				}
			}
		}
		if p = w.skip(p); p >= end || buf[p] != ':' {
			return w.fail(ruleSyntax, p)
		}
		p = w.skip(p + 1)
		switch {
		case level >= 0 && (every || w.within[level] == string(buf[name.Off:name.End])):
			if below != nil { // somebody wants a part of it by a pointer of its own
				w.value(p, below, depth+1)
			}
			p = w.along(p, level+1, depth+1, every, name, -1)
		case p < end && buf[p] == '"' && depth < MaxDepth && (wanted == nil || wanted.row == nil):
			slot := -1
			if below != nil {
				slot = below.slot
			}
			p = w.str(p, slot)
		case wanted != nil && wanted.row != nil && level < 0:
			if below != nil {
				w.value(p, below, depth+1)
			}
			p = w.element(p, wanted, depth, name, -1)
		default:
			p = w.value(p, below, depth+1)
		}
		if w.failed {
			return end
		}
		buf = w.b.Buf
		if p = w.skip(p); p >= end {
			return w.fail(ruleSyntax, p)
		}
		switch buf[p] {
		case ',':
			p = w.skip(p + 1)
		case '}':
			if alike {
				if at := w.twice(w.names[first:]); at >= 0 {
					return w.fail(ruleTwice, at)
				}
			}
			w.names = w.names[:first]
			return p + 1
		default:
			return w.fail(ruleSyntax, p)
		}
	}
}

// few is up to how many names are compared each with each.
const few = 24

// twice finds a name that stands twice in an object: where, or -1.
func (w *walk) twice(names []batch.Span) int {
	text := func(s batch.Span) []byte { return w.b.Buf[s.Off:s.End] }
	at := func(s batch.Span) int {
		if int(s.Off) >= w.b.N {
			return int(binary.LittleEndian.Uint32(w.b.Buf[s.Off-4:]))
		}
		return int(s.Off)
	}
	if len(names) <= few {
		for i := range names {
			for j := range i {
				if names[i].Len() == names[j].Len() && bytes.Equal(text(names[i]), text(names[j])) {
					return at(names[i]) - 1
				}
			}
		}
		return -1
	}
	sorted := slices.Clone(names)
	slices.SortFunc(sorted, func(a, b batch.Span) int { return bytes.Compare(text(a), text(b)) })
	for i := 1; i < len(sorted); i++ {
		if bytes.Equal(text(sorted[i]), text(sorted[i-1])) {
			return max(at(sorted[i]), at(sorted[i-1])) - 1
		}
	}
	return -1
}

func (w *walk) array(p int, wanted *trie, depth, level int) int {
	p = w.skip(p + 1)
	if p < w.end && w.b.Buf[p] == ']' {
		w.empty = w.empty || level >= 0
		return p + 1
	}
	for i := 0; ; i++ {
		var below *trie
		if wanted != nil && len(wanted.children) > 0 {
			below = wanted.child(strconv.Itoa(i))
		}
		if level >= 0 {
			if below != nil {
				w.value(p, below, depth+1)
			}
			p = w.along(p, level+1, depth+1, true, batch.Missing, i)
		} else if wanted != nil && wanted.row != nil {
			if below != nil {
				w.value(p, below, depth+1)
			}
			p = w.element(p, wanted, depth, batch.Missing, i)
		} else {
			p = w.value(p, below, depth+1)
		}
		if p = w.skip(p); w.failed {
			return w.end
		}
		if p >= w.end || w.b.Buf[p] != ',' && w.b.Buf[p] != ']' {
			return w.fail(ruleSyntax, p)
		}
		if w.b.Buf[p] == ']' {
			return p + 1
		}
		if p = w.skip(p + 1); wanted != nil && wanted.most > 0 && i+1 == wanted.most && w.record >= 0 {
			w.b.Notes = append(w.b.Notes, batch.Note{Record: int32(w.record), Slot: -1, Rule: ruleMore, Source: batch.Syntax, At: uint32(p), Warn: true})
		}
	}
}

// element reads a value that is a row of a list: with a name, or a place that is not negative.
func (w *walk) element(p int, list *trie, depth int, name batch.Span, place int) int {
	outer := w.row
	w.row = w.b.Row(list.table, uint32(p))
	for _, slot := range w.Reader.tables[list.table].keys {
		if place >= 0 {
			name = w.numbered(p, place)
		}
		w.row[slot] = name
	}
	p = w.value(p, list.row, depth+1)
	w.row = outer
	return p
}

// numbered writes the place of a value in its list behind the text.
func (w *walk) numbered(p, place int) batch.Span {
	w.b.Buf = binary.LittleEndian.AppendUint32(w.b.Buf, uint32(p))
	off := len(w.b.Buf)
	w.b.Buf = strconv.AppendInt(w.b.Buf, int64(place), 10)
	return batch.Span{Off: uint32(off), End: uint32(len(w.b.Buf))}
}

func (w *walk) skip(p int) int {
	if buf := w.b.Buf; p < w.end && buf[p] <= ' ' {
		for p < w.end && blank(buf[p]) {
			p++
		}
	}
	return p
}

const (
	low  = 0x0101010101010101
	high = 0x8080808080808080
)

// special has the highest bit of the first byte of eight that is a quote, a backslash, a control character,
// or has one of the strange bits; of those behind it there may be others.
func special(x, strange uint64) uint64 {
	quotes, slashes := x^low*'"', x^low*'\\'
	return ((quotes-low)&^quotes|(slashes-low)&^slashes|(x-low*0x20)&^x)&high | x&strange
}

// str reads a string, and where it is wanted gives its text to a slot.
func (w *walk) str(p, slot int) int {
	buf := w.b.Buf
	escaped := false
	strange := uint64(0) // bytes beyond ASCII are looked at
	if w.odd {
		strange = high
	}
	i := p + 1
	for ; ; i++ {
		for { // eight bytes at once, of which none is a quote, a backslash or a control character
			if m := special(binary.LittleEndian.Uint64(buf[i:]), strange); m != 0 { // there is slack behind the text
				i += bits.TrailingZeros64(m) >> 3
				break
			}
			if i += 8; i >= w.end {
				break
			}
		}
		if i >= w.end {
			return w.fail(ruleSyntax, p)
		}
		c := buf[i]
		if c == '"' {
			break
		}
		switch {
		case c == '\\':
			escaped = true
			n, rule := escape(buf[i:w.end])
			if n == 0 {
				return w.fail(rule, i)
			}
			i += n - 1
		case c < 0x20:
			return w.fail(ruleControl, i)
		case c >= 0x80 && w.odd:
			r, n := utf8.DecodeRune(buf[i:w.end])
			if r == utf8.RuneError && (n == 1 || w.charset != text.UTF8) {
				return w.fail(ruleEncoding, i)
			}
			i += n - 1
		}
	}
	w.escaped = escaped
	if slot >= 0 {
		s := batch.Span{Off: uint32(p + 1), End: uint32(i)}
		if escaped {
			w.b.Buf = binary.LittleEndian.AppendUint32(w.b.Buf, uint32(p+1))
			off := len(w.b.Buf)
			w.b.Buf, _ = unquote(w.b.Buf, w.b.Buf[p+1:i])
			s = batch.Span{Off: uint32(off), End: uint32(len(w.b.Buf))}
		}
		w.row[slot] = s
	}
	return i + 1
}

// escape measures the escape sequence at the start of b, both halves of a pair of
// surrogates included. It is 0 long if it is none, with the rule.
func escape(b []byte) (n, rule int) {
	if len(b) < 2 {
		return 0, ruleEscape
	}
	if strings.IndexByte(`"\/bfnrt`, b[1]) >= 0 {
		return 2, 0
	}
	first, ok := hex4(b)
	if !ok {
		return 0, ruleEscape
	}
	if first < 0xD800 || first > 0xDFFF {
		return 6, 0
	}
	if second, ok := hex4(b[6:]); first < 0xDC00 && ok && second >= 0xDC00 && second <= 0xDFFF {
		return 12, 0
	}
	return 0, ruleSurrogate
}

// hex4 reads a backslash, a u and four hexadecimal digits at the start of b.
func hex4(b []byte) (rune, bool) {
	if len(b) < 6 || b[0] != '\\' || b[1] != 'u' {
		return 0, false
	}
	n, err := strconv.ParseUint(string(b[2:6]), 16, 32)
	return rune(n), err == nil
}

// unquote undoes the escape sequences of a string's text; what is none is kept.
func unquote(to, b []byte) ([]byte, bool) {
	good := true
	for i := 0; i < len(b); {
		if b[i] != '\\' {
			k := bytes.IndexByte(b[i:], '\\')
			if k < 0 {
				k = len(b) - i
			}
			to = append(to, b[i:i+k]...)
			i += k
			continue
		}
		n, _ := escape(b[i:])
		switch {
		case n == 0:
			good = false
			to = append(to, '\\')
			n = 1
		case n == 2:
			c := b[i+1]
			if k := strings.IndexByte("bfnrt", c); k >= 0 {
				c = "\b\f\n\r\t"[k]
			}
			to = append(to, c)
		default:
			r, _ := hex4(b[i:])
			if n == 12 {
				second, _ := hex4(b[i+6:])
				r = (r-0xD800)<<10 + (second - 0xDC00) + 0x10000
			}
			to = utf8.AppendRune(to, r)
		}
		i += n
	}
	return to, good
}

// number finds where a number ends (RFC 8259, 6), -1 if it is none.
func number(b []byte, p int) int {
	if b[p] == '-' {
		p++
	}
	from := p
	if p = digits(b, p); p == from || p-from > 1 && b[from] == '0' {
		return -1
	}
	if p < len(b) && b[p] == '.' {
		from = p + 1
		if p = digits(b, from); p == from {
			return -1
		}
	}
	if p < len(b) && b[p]|0x20 == 'e' {
		if p++; p < len(b) && (b[p] == '+' || b[p] == '-') {
			p++
		}
		from = p
		if p = digits(b, from); p == from {
			return -1
		}
	}
	return p
}

// digits goes behind those at p.
func digits(b []byte, p int) int {
	for p < len(b) && b[p]-'0' <= 9 {
		p++
	}
	return p
}

// Describe makes the finding of a syntax note.
func (r *Reader) Describe(b *batch.Batch, n batch.Note) finding.Finding {
	at := b.Place(int(n.Record), n.At)
	from := min(int(n.At), b.N)
	seen := b.Buf[from:min(b.N, from+60)]
	if i := bytes.IndexByte(seen, '\n'); i >= 0 {
		seen = seen[:i]
	}
	var f finding.Finding
	switch n.Rule {
	case ruleTwice:
		f = finding.New("json.name-twice", at, "a member of this name stands in its object twice").Suggest("which one counts is not defined: send it once")
	case ruleEncoding:
		f = finding.New("text.encoding", at, "byte %02X here is not UTF-8", b.Buf[min(from, b.N-1)]).Suggest("JSON is UTF-8; write it so, or set the route's encoding")
	case ruleSurrogate:
		f = finding.New("json.surrogate", at, "half of a pair of surrogates stands alone: that is not a character")
	case ruleControl:
		f = finding.New("json.control", at, "a control character stands in a string").Suggest("write it as an escape sequence, such as \\n or \\u%04x", b.Buf[min(from, b.N-1)])
	case ruleEscape:
		f = finding.New("json.escape", at, "this is not an escape sequence of JSON")
	case ruleNumber:
		f = finding.New("json.number", at, "this is not a number of JSON").Suggest("no zero before other digits, digits on both sides of the point, no plus sign")
	case ruleDepth:
		f = finding.New("json.depth", at, "values are nested more than %d deep", MaxDepth)
	case ruleMore:
		f = finding.Warn("json.beyond", at, "the list has more elements than are taken: this one and those behind it go nowhere").Suggest("take more of them, or make each a record: record: /…/*")
	case ruleNoRecord:
		f = finding.New("json.no-record", at, "there is no record at %s in this value", shown(r.within))
	default:
		f = finding.New("json.syntax", at, "the text is not what JSON has here")
	}
	f.Seen = finding.Shorten(seen)
	return f
}
