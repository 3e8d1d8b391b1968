package hl7

import (
	"bytes"
	"cmp"
	"encoding/binary"
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
	"ydrion/core/segments"
	"ydrion/core/shape"
	"ydrion/core/standard"
	"ydrion/core/text"
)

// MaxMessage is the longest message that is read.
const MaxMessage = 64 << 20

// Source says how files of messages are read.
type Source struct {
	// Unit is the segment that is a record by itself, with what stands around it
	// in its message as context. Without one the message is the record.
	Unit string
	// Marked says that values go on into HL7: escape sequences that are not text are kept as such.
	Marked bool

	own []*standard.Catalog // descriptions besides those of the standard, see format.Described
}

// bound is what is wanted of messages.
type bound struct {
	*segments.Wanted
	marked bool                // see Source
	own    []*standard.Catalog // see Source
}

// Open looks for the first message.
func (s *bound) Open(in *text.Decoded) (format.Reader, finding.List, error) {
	r := &Reader{bound: s, Stream: format.Stream{In: in, Line: 1}, declared: in.Charset == text.Declared, charset: in.Charset}
	buf, err := r.Fill(nil, ahead)
	if err != nil {
		return nil, nil, err
	}
	if f := r.begin(buf); f != nil {
		return nil, finding.List{*f}, nil
	}
	return r, nil, nil
}

// Reader reads one file of messages. Cut keeps the state of the stream; Split
// only reads what Open has set.
type Reader struct {
	format.Stream
	*bound
	declared bool // the text is as it came: MSH-18 says how to read it
	charset  text.Charset

	blocks  bool // the file begins with a block of MLLP: each message must end as one
	batches bool // the file begins with FHS or BHS: counts may follow
	count   counts
	opening opening // what is open where it has been cut to
	ended   finding.List

	rare int // index of the letter of MSH that is rarest

	kin           *segments.Kin // of the message of which a unit was asked for last
	kinOf, kinEnd int64         // where that stands
}

// counts is what has come of a file with batch segments.
type counts struct {
	messages, batches int64 // since the last BHS; since FHS
	open              bool  // a BHS without its BTS
	file              bool  // an FHS without its FTS
	loose             bool  // since FHS no BHS has come
}

// key is a segment's name as a number.
func key(name string) uint32 { return uint32(name[0])<<16 | uint32(name[1])<<8 | uint32(name[2]) }

func keyAt(b []byte, p int) uint32 {
	return uint32(b[p])<<16 | uint32(b[p+1])<<8 | uint32(b[p+2])
}

// ahead is how much is read to find the first message.
const ahead = 64 << 10

// Bind finds out which segments the wanted fields are in. Fields are positions such as PID-3.1; a
// field's path says which, or its name. Lists are segments or, for the repetitions of a field, positions.
func (s Source) Bind(of shape.Shape) (format.Bound, finding.List) {
	var unit *segments.Position
	if s.Unit != "" {
		unit = &segments.Position{Segment: s.Unit}
	}
	r := &bound{Wanted: segments.NewWanted(unit), marked: s.Marked, own: s.own}
	out := r.Add(of, segments.Demand{Code: "hl7.position", Parse: parsePath, Unknown: func(p segments.Position) (problem, near string) {
		if p.Segment[0] == 'Z' {
			return "", ""
		}
		return segments.Unknown(p, Versions, true)
	}, Belongs: func(segment, to string) bool {
		return segment[0] == 'Z' || to[0] == 'Z' || segments.Belongs(segment, to, Versions)
	}})
	if out.HasErrors() {
		return nil, out
	}
	return r, out
}

// begin finds the first message.
func (r *Reader) begin(buf []byte) *finding.Finding {
	r.Carry = buf
	at := 0
	for at < len(buf) && between(buf[at]) {
		at++
	}
	for i := range 3 {
		if bytes.Count(buf, []byte("MSH"[i:i+1])) < bytes.Count(buf, []byte("MSH"[r.rare:r.rare+1])) {
			r.rare = i
		}
	}
	r.blocks = bytes.IndexByte(buf[:at], blockBegin) >= 0
	start := place.At("", buf, at)
	if at == len(buf) {
		f := finding.New("file.empty", place.Place{Line: 1, Column: 1}, "the file holds no message: %d bytes", len(buf))
		return &f
	}
	switch rest := buf[at:]; {
	case bytes.HasPrefix(rest, []byte("FHS")), bytes.HasPrefix(rest, []byte("BHS")):
		r.batches = true
	case !bytes.HasPrefix(rest, []byte("MSH")):
		f := finding.New("hl7.no-message", start, "the file does not begin with a message: MSH was expected")
		f.Seen = finding.Shorten(rest[:min(len(rest), 60)])
		f.Expected = "MSH"
		return &f
	}
	return nil
}

// The characters around a message in a block of MLLP (HL7 v2 transport specification, appendix
// C).
const (
	blockBegin = 0x0b
	blockEnd   = 0x1c
)

// between tells what may stand before a message and between segments: line ends,
// blanks, and the block characters of MLLP.
func between(c byte) bool {
	return c == '\r' || c == '\n' || c == ' ' || c == '\t' || c == blockBegin || c == blockEnd
}

// next finds where the next message begins from i on, -1 if it does not. In a file of blocks each
// block is one, whatever it holds.
func (r *Reader) next(buf []byte, i int) int {
	message := r.nextMessage(buf, i)
	if !r.blocks {
		return message
	}
	for p := i; p < len(buf) && (message < 0 || p < message); p++ {
		k := bytes.IndexByte(buf[p:], blockBegin)
		if k < 0 {
			break
		}
		for p += k; p < len(buf) && between(buf[p]) && buf[p] != blockEnd; p++ {
		}
		if p == len(buf) {
			return -1 // what the block holds has not been read yet, or there is nothing
		}
		if buf[p] != blockEnd && (message < 0 || p < message) {
			return p
		}
	}
	return message
}

// nextMessage finds where the next message begins from i on, -1 if it does not. It
// looks for the letter of MSH that is rarest in the file.
func (r *Reader) nextMessage(buf []byte, i int) int {
	letter, before := "MSH"[r.rare], r.rare
	for i += before; i < len(buf); i++ {
		k := bytes.IndexByte(buf[i:], letter)
		if k < 0 {
			return -1
		}
		i += k
		at := i - before
		if (at+3 < len(buf) || r.EOF && at+3 == len(buf)) && buf[at] == 'M' && buf[at+1] == 'S' && buf[at+2] == 'H' && begins(buf, at) {
			return at
		}
	}
	return -1
}

// begins tells whether a segment of three letters may begin at a place: at the start of a line or
// of a block, with or without blanks before it.
func begins(buf []byte, at int) bool {
	if at+3 < len(buf) && letter(buf[at+3]) {
		return false
	}
	for at--; at >= 0; at-- {
		switch buf[at] {
		case '\r', '\n', blockBegin, blockEnd:
			return true
		case ' ', '\t':
		default:
			return false
		}
	}
	return true
}

// nextSegment finds where the next segment of that name begins from i on, -1 if
// it does not.
func nextSegment(buf []byte, i int, name string) int {
	for i < len(buf) {
		k := bytes.Index(buf[i:], []byte(name))
		if k < 0 {
			return -1
		}
		i += k
		if begins(buf, i) {
			return i
		}
		i += 3
	}
	return -1
}

func letter(c byte) bool { return c >= 'A' && c <= 'Z' || c >= 'a' && c <= 'z' || c >= '0' && c <= '9' }

// Cut fills b with the next whole messages. Their bounds are known then.
func (r *Reader) Cut(b *batch.Batch) (bool, error) {
	buf := r.Start(b)
	want, from, starts := max(r.Most(), len(buf)), 0, b.Messages[:0]
	for {
		var err error
		if buf, err = r.Fill(buf, want); err != nil {
			b.Buf, b.N = buf, 0
			return false, err
		}
		for {
			i := r.next(buf, from)
			if i < 0 {
				break
			}
			starts = append(starts, batch.Span{Off: uint32(i)})
			from = i + 3
		}
		if r.EOF || len(starts) > 1 {
			break
		}
		if len(buf) >= MaxMessage {
			b.Buf, b.N = buf, 0
			f := finding.New("hl7.message-long", r.Place(buf, 0), "no end of the message within %d MiB", MaxMessage>>20)
			return false, &format.Broken{Finding: f, Rest: io.MultiReader(bytes.NewReader(bytes.Clone(buf)), r.In)}
		}
		from = max(0, len(buf)-3)
		if n := len(starts); n > 0 {
			from = max(from, int(starts[n-1].Off)+3)
		}
		want = min(2*len(buf), MaxMessage)
	}
	n := len(buf)
	if !r.EOF { // the last one may not be whole
		n = int(starts[len(starts)-1].Off)
		starts = starts[:len(starts)-1]
	}
	for i := range starts {
		starts[i].End = uint32(n)
		if i+1 < len(starts) {
			starts[i].End = starts[i+1].Off
		}
	}
	b.Open = b.Open[:0]
	if r.batches {
		for _, o := range []batch.Opened{r.opening.file, r.opening.batch} {
			if o.Text != nil {
				b.Open = append(b.Open, o)
			}
		}
		starts = r.tally(buf[:n], starts)
	}
	b.Messages = starts
	if r.Unit < 0 {
		b.Bounds = append(b.Bounds[:0], starts...)
	}
	r.Give(b, buf, n, '\r')
	return !r.EOF || len(r.Carry) > 0, nil
}

// tally holds what the batch and file segments of a stretch say against the
// messages that have come (2.10.3). They belong to no message: it gives the messages without
// them, and as a message of its own what else stands between them.
func (r *Reader) tally(buf []byte, messages []batch.Span) (apart []batch.Span) {
	marks := marksIn(buf)
	c := &r.count
	misplaced := func(at int, format string, args ...any) {
		r.ended = append(r.ended, finding.New("hl7.batch", r.Place(buf, at), format, args...).Suggest("the file may be put together of others, or not be whole: ask for it again"))
	}
	for i, m := range marks {
		r.opening.pass(buf, r.Base, m)
		for len(messages) > 0 && int(messages[0].Off) < m.at {
			c.messages++
			message := messages[0]
			message.End = min(message.End, uint32(m.at))
			apart, messages = append(apart, message), messages[1:]
		}
		switch m.name {
		case "FHS":
			if c.file {
				misplaced(m.at, "FHS begins a file before the one before has ended (FTS)")
			}
			c.file, c.batches, c.messages, c.loose = true, 0, 0, true
		case "BHS":
			if c.open {
				misplaced(m.at, "BHS begins a batch before the one before has ended (BTS)")
			}
			c.messages, c.open, c.loose = 0, true, false
		case "BTS":
			if !c.open {
				misplaced(m.at, "BTS ends a batch that did not begin (BHS)")
			}
			r.compare(buf, m.at, "BTS-1", "messages", c.messages)
			c.batches++
			c.open = false
		case "FTS":
			if !c.file {
				misplaced(m.at, "FTS ends a file that did not begin (FHS)")
			}
			if c.loose && c.messages > 0 { // messages without BHS are one batch
				c.batches = 1
			}
			r.compare(buf, m.at, "FTS-1", "batches", c.batches)
			c.file, c.loose = false, false
		}
		// Behind its line, and before what comes next: nothing, or what is not a message.
		from, to := m.at, len(buf)
		if i+1 < len(marks) {
			to = marks[i+1].at
		}
		if len(messages) > 0 {
			to = min(to, int(messages[0].Off))
		}
		if k := bytes.IndexAny(buf[from:to], "\r\n"); k >= 0 {
			if from += k; len(bytes.TrimFunc(buf[from:to], func(c rune) bool { return c < 0x80 && between(byte(c)) })) > 0 {
				for between(buf[from]) {
					from++
				}
				apart = append(apart, batch.Span{Off: uint32(from), End: uint32(to)})
			}
		}
	}
	apart = append(apart, messages...)
	c.messages += int64(len(messages))
	if r.EOF && (c.open || c.file) {
		name := map[bool]string{true: "BTS", false: "FTS"}[c.open]
		f := finding.New("hl7.unfinished", r.Place(buf, len(buf)), "the file ends without %s: it may not be whole", name)
		r.ended = append(r.ended, f)
	}
	return apart
}

// compare holds a count that a segment says against what came.
func (r *Reader) compare(buf []byte, at int, path, what string, came int64) {
	line := buf[at:]
	if i := bytes.IndexAny(line, "\r\n"); i >= 0 {
		line = line[:i]
	}
	if len(line) < 5 {
		return // it says nothing
	}
	said, _, _ := bytes.Cut(line[4:], line[3:4])
	said = bytes.TrimSpace(said)
	if n, err := strconv.ParseInt(string(said), 10, 64); len(said) == 0 || err == nil && n == came {
		return
	}
	where := r.Place(buf, at)
	where.Path = path
	f := finding.New("hl7.count", where, "%s says %s %s, but %d came", path[:3], finding.Shorten(said), what, came)
	f.Seen, f.Expected = finding.Shorten(said), strconv.FormatInt(came, 10)
	r.ended = append(r.ended, f.Suggest("the file may not be whole: ask for it again"))
}

// Syntax rules, as numbers in batch notes.
const (
	ruleSeparators = iota
	ruleSegment
	ruleCharset   // a charset that MSH-18 names and nobody knows
	ruleUndecoded // a byte that the declared charset does not have
	ruleUndeclared
	ruleEscape
	ruleNoUnit
	ruleBlock // the block does not end
	ruleBehind
	ruleBatch
	ruleControl
	ruleControlled
	ruleMore
)

// Split finds the wanted fields of each message, or of each unit in it.
func (r *Reader) Split(b *batch.Batch) {
	r.Lay(b)
	messages := b.Bounds
	if r.Unit >= 0 {
		messages = b.Messages
	}
	plain := &inMessages
	if r.blocks {
		plain = &inBlocks
	}
	odd := !text.IsASCII(b.Buf[:b.N]) || bytes.IndexByte(b.Buf[:b.N], escape) >= 0
	w := newWalk(r, b)
	w.odd, w.controls = odd, text.Controlled(b.Buf[:b.N], plain)
	for i, m := range messages {
		w.message(i, int(m.Off), int(m.End))
	}
	b.Filled()
}

// habits are those of messages: a note belongs to what it follows, and to an observation belongs nothing
// else.
var habits = segments.Habits{Note: "NTE", Close: true, Bare: "OBX"}

func newWalk(r *Reader, b *batch.Batch) *walk {
	w := &walk{Reader: r, b: b}
	w.Course = segments.NewCourse(r.Wanted, habits, b, w)
	return w
}

// escape begins the sequences that change between character sets (ISO 2022).
const escape = 0x1b

// walk goes through one message after the other.
type walk struct {
	*Reader
	segments.Course
	b   *batch.Batch
	odd bool // there are bytes beyond ASCII
	// controls: there may be control characters.
	controls bool
	scan     []byte // the text, without what looks like a separator and is none
	mask     []byte
	sep      Separators
	charset  text.Charset // of the message, where it is not UTF-8
	p, stop  int          // the segment at which it is
	row      []batch.Span // that it fills
	ends     []int        // see fields

	kind, version []byte              // of the message that a structure was looked for last
	found         *standard.Structure // nil: not known

	class   [256]class
	classed Separators // what class is for
	highs   bool
}

func (w *walk) note(rule, slot, at int, warn bool) {
	w.b.Notes = append(w.b.Notes, batch.Note{Record: int32(w.Record), Slot: int32(slot), Rule: int32(rule), Source: batch.Syntax, At: uint32(at), Warn: warn})
}

// message walks through a message, and rejects all of it if it is a block that does not end or
// has something behind its end.
func (w *walk) message(i, start, end int) {
	first, stop := len(w.b.Bounds), end
	if w.blocks {
		if i := bytes.IndexByte(w.b.Buf[start:end], blockEnd); i >= 0 {
			stop = start + i
		}
	}
	w.segments(i, start, stop)
	if w.controls {
		w.control(first, start, stop)
	}
	if !w.blocks {
		return
	}
	if stop == end {
		w.all(first, ruleBlock, start, false)
	}
	for p := stop; p < end; p++ {
		if !between(w.b.Buf[p]) {
			w.all(first, ruleBehind, p, false)
			return
		}
	}
}

// all notes something about a message: in each of its records, from the first on.
func (w *walk) all(first, rule, at int, warn bool) {
	if w.Unit < 0 {
		w.note(rule, -1, at, warn)
		return
	}
	for w.Record = first; w.Record < len(w.b.Bounds); w.Record++ {
		w.note(rule, -1, at, warn)
	}
}

// control notes the first control character of each kind in a message: NUL and SUB say that data
// was lost; others do not belong into a message (2.5.4), and are passed on. ESC changes character
// sets.
func (w *walk) control(first, start, end int) {
	lost, strange := -1, -1
	for p := start; p < end && lost < 0; p++ {
		switch c := w.b.Buf[p]; {
		case c >= ' ' && c != 0x7f || c == '\r' || c == '\n' || c == '\t' || c == escape:
		case c == 0 || c == substitute:
			lost = p
		case strange < 0:
			strange = p
		}
	}
	if lost >= 0 {
		w.within(first, ruleControl, lost, false)
	}
	if strange >= 0 {
		w.within(first, ruleControlled, strange, true)
	}
}

// within notes something about the unit, of those from the first on, in which an offset lies; about all of them if it lies in none.
func (w *walk) within(first, rule, at int, warn bool) {
	if w.Unit >= 0 {
		i, within := slices.BinarySearchFunc(w.b.Bounds[first:], uint32(at), func(s batch.Span, at uint32) int {
			if s.End <= at {
				return -1
			} else if s.Off > at {
				return 1
			}
			return 0
		})
		if within {
			w.Record = first + i
			w.note(rule, -1, at, warn)
			return
		}
	}
	w.all(first, rule, at, warn)
}

// substitute stands for a character that could not be read (ISO 646).
const substitute = 0x1a

// inMessages are the bytes that have their place in a message, inBlocks those of a file of blocks.
var inMessages, inBlocks = func() (messages, blocks [256]bool) {
	for c := range messages {
		messages[c] = c >= ' ' && c != 0x7f || c == '\r' || c == '\n' || c == '\t' || c == escape
	}
	blocks = messages
	blocks[blockBegin], blocks[blockEnd] = true, true
	return messages, blocks
}()

// segments walks through the segments of a message.
func (w *walk) segments(record, start, end int) {
	buf := w.b.Buf
	units := len(w.b.Bounds)
	if w.Unit >= 0 {
		record = units
	}
	var problem string
	w.sep, problem = separators(buf[start:end])
	if problem != "" {
		w.Begin(record, nil)
		if w.Unit >= 0 {
			w.Open(start, end)
		}
		w.note(ruleSeparators, -1, start, false)
		return
	}
	terminator := byte('\r')
	for _, c := range buf[start:end] {
		if c == '\r' || c == '\n' {
			terminator = c
			break
		}
	}
	var structure *standard.Structure
	if w.Placed() {
		structure = w.structureOf(buf[start:end], terminator)
	}
	w.Begin(record, structure)
	w.charset, w.scan = "", buf
	trouble := -1
	if w.odd && (!text.IsASCII(buf[start:end]) || bytes.IndexByte(buf[start:end], escape) >= 0) {
		trouble = w.character(start, end, terminator)
	}
	if w.sep.Set = w.charset; w.declared && w.charset == "" && bytes.IndexByte(buf[min(start+8, end):end], w.sep.Escape) >= 0 {
		line, _, _ := bytes.Cut(buf[start:end], []byte{terminator})
		w.sep.Set, _ = declaredCharset(line, w.sep)
	} else if !w.declared && w.Reader.charset != text.UTF8 {
		w.sep.Set = w.Reader.charset
	}
	w.sep.Marked = w.marked
	w.classify()
	if len(w.Positions) == 0 { // somebody only looks
		w.escapes(start, end)
	}
	for p := start; p < end; {
		if between(buf[p]) {
			p++
			continue
		}
		stop := end
		if i := bytes.IndexByte(buf[p:end], terminator); i >= 0 {
			stop = p + i
		}
		if stop-p < 3 || !nameAt(buf, p) || stop-p > 3 && buf[p+3] != w.sep.Field {
			w.note(ruleSegment, -1, p, false)
			p = stop + 1
			continue
		}
		name := keyAt(buf, p)
		if name == fhs || name == bhs || name == bts || name == fts {
			w.all(units, ruleBatch, p, false)
			p = stop + 1
			continue
		}
		w.p, w.stop = p, stop
		w.Segment(buf[p:p+3], name)
		for i := w.First(name); i >= 0; i = w.Next(i, name) {
			row, occurrence, more := w.Into(i, p, stop)
			if more {
				w.note(ruleMore, w.MostOf(i), p, true)
			}
			w.row = row
			w.take(w.Parts[i].Wants, name, occurrence)
		}
		buf = w.b.Buf
		p = stop + 1
	}
	if w.Unit >= 0 && len(w.b.Bounds) == units {
		w.Open(start, end)
		w.note(ruleNoUnit, -1, start, false)
	}
	if trouble < 0 {
		return
	}
	if w.Unit < 0 {
		w.note(trouble>>32, -1, trouble&0xffffffff, false)
		return
	}
	for w.Record = units; w.Record < len(w.b.Bounds); w.Record++ {
		w.note(trouble>>32, -1, trouble&0xffffffff, false)
	}
}

// Is tells whether the first component of a field of the segment at hand has a value.
func (w *walk) Is(element int, is string) bool {
	value := w.element(element)
	for i, c := range value {
		if c == w.sep.Component || c == w.sep.Repetition || c == w.sep.Subcomponent {
			value = value[:i]
			break
		}
	}
	return string(value) == is
}

// Begins is where the segment at hand begins.
func (w *walk) Begins() int { return w.p }

// Component is the text of a component of the first repetition of a field of the segment at hand.
func (w *walk) Component(n, component int) []byte {
	repetition, _ := field(w.element(n), w.sep.Repetition, 1)
	value, _ := field(repetition, w.sep.Component, component)
	return value
}

func (w *walk) element(n int) []byte {
	value, _ := field(w.b.Buf[min(w.p+3+1, w.stop):w.stop], w.sep.Field, n)
	return value
}

// escapes notes the first sequence in a message that is none.
func (w *walk) escapes(start, end int) {
	from := start + len("MSH|^~\\&")
	if from >= end || w.charset.Wide() || bytes.IndexByte(w.b.Buf[from:end], w.sep.Escape) < 0 {
		return
	}
	var strange int
	n := len(w.b.Buf)
	if w.b.Buf, strange = w.sep.AppendUnescaped(w.b.Buf, w.b.Buf[from:end]); strange >= 0 {
		w.note(ruleEscape, -1, from+strange, true)
	}
	w.b.Buf = w.b.Buf[:n]
}

// nameAt tells whether a segment's name stands at p.
func nameAt(b []byte, p int) bool {
	upper := func(c byte) bool { return c >= 'A' && c <= 'Z' }
	return upper(b[p]) && (upper(b[p+1]) || b[p+1]-'0' <= 9) && (upper(b[p+2]) || b[p+2]-'0' <= 9)
}

// take takes the wanted fields of the segment at hand.
func (w *walk) take(wants []segments.Want, name uint32, occurrence int) {
	if len(wants) == 0 || occurrence == 0 {
		return
	}
	first := 1 // the number of the field behind the name
	if name == msh {
		first = 2 // MSH-1 is the separator itself
		for len(wants) > 0 && wants[0].Field == 1 {
			w.row[wants[0].Slot] = batch.Span{Off: uint32(w.p + 3), End: uint32(w.p + 4)}
			wants = wants[1:]
		}
		if len(wants) == 0 {
			return
		}
	}
	ends := w.fields(wants[len(wants)-1].Field - first + 1)
	buf, row := w.scan, w.row
	for i := range wants {
		n := &wants[i]
		at := n.Field - first + 1
		if at >= len(ends) {
			return
		}
		from, end := ends[at-1]>>1+1, ends[at]>>1
		switch {
		case n.Occurrence != occurrence || from == end:
		case name == msh && n.Field == 2:
			row[n.Slot] = batch.Span{Off: uint32(from), End: uint32(end)}
		case n.Rows >= 0:
			w.repetitions(n, from, end)
		case ends[at]&1 != 0 || n.By > 0:
			w.piece(n, from, end)
		case !n.First:
		case end-from == 2 && buf[from] == '"' && buf[from+1] == '"':
			row[n.Slot] = batch.Null
		default:
			row[n.Slot] = batch.Span{Off: uint32(from), End: uint32(end)}
		}
	}
}

// fields gives where so many fields of the segment at hand end, twice that, and one more where not all of a field is plain; as the first,
// where the separator stands before them.
func (w *walk) fields(most int) []int {
	if most+1 > cap(w.ends) {
		w.ends = make([]int, most+1)
	}
	buf, class, stop, ends := w.scan, &w.class, w.stop, w.ends[:most+1]
	field, component, repetition := low*uint64(w.sep.Field), low*uint64(w.sep.Component), low*uint64(w.sep.Repetition)
	subcomponent, escape := low*uint64(w.sep.Subcomponent), low*uint64(w.sep.Escape)
	highs := uint64(0)
	if w.highs {
		highs = high
	}
	at := w.p + 3
	ends[0] = at << 1
	if at >= stop {
		return ends[:1]
	}
	n, structured := 1, 0
	for at++; at < stop; at += 8 {
		word := binary.LittleEndian.Uint64(buf[at : at+8])
		x := word ^ field
		m := (x - low) &^ x
		x = word ^ component
		m |= (x - low) &^ x
		x = word ^ repetition
		m |= (x - low) &^ x
		x = word ^ subcomponent
		m |= (x - low) &^ x
		x = word ^ escape
		m |= (x - low) &^ x
		for m = m&high | word&highs; m != 0; m &= m - 1 {
			i := at + bits.TrailingZeros64(m)>>3
			if i >= stop {
				break
			}
			switch class[buf[i]] {
			case plain: // words see more than there is
			case isField:
				ends[n] = i<<1 | structured
				if n++; n == len(ends) {
					return ends
				}
				structured = 0
			default:
				structured = 1
			}
		}
	}
	ends[n] = stop<<1 | structured
	return ends[:n+1]
}

// class says what a character is in a message.
type class uint8

const (
	plain class = iota
	isField
	isRepetition
	isComponent
	isSubcomponent
	isEscape
	isHigh // beyond ASCII, where that has to be decoded
)

// repetitions makes rows of those of a field.
func (w *walk) repetitions(n *segments.Want, from, end int) {
	above := w.row
	for at := from; at <= end; {
		stop := at
		for stop < end && w.class[w.scan[stop]] != isRepetition {
			stop++
		}
		w.row = w.b.Row(n.Rows, uint32(at))
		for i := range n.Wants {
			w.piece(&n.Wants[i], at, stop)
		}
		at = stop + 1
	}
	w.row = above
}

// classify sets the classes of a message's characters.
func (w *walk) classify() {
	if w.classed == w.sep && w.highs == (w.charset != "") {
		return
	}
	w.classed, w.highs = w.sep, w.charset != ""
	w.class = [256]class{}
	if w.highs {
		for c := 0x80; c < 0x100; c++ {
			w.class[c] = isHigh
		}
	}
	w.class[w.sep.Field], w.class[w.sep.Repetition], w.class[w.sep.Component] = isField, isRepetition, isComponent
	w.class[w.sep.Subcomponent], w.class[w.sep.Escape] = isSubcomponent, isEscape
}

const (
	low  = 0x0101010101010101
	high = 0x8080808080808080
)

var msh, fhs, bhs, bts, fts = key("MSH"), key("FHS"), key("BHS"), key("BTS"), key("FTS")

// structureOf finds the structure of a message; nil if it is not known.
func (w *walk) structureOf(message []byte, terminator byte) *standard.Structure {
	line := message
	if i := bytes.IndexByte(line, terminator); i >= 0 {
		line = line[:i]
	}
	kind, rest := field(line[4:], line[3], 9-1) // the text begins with MSH-2
	version, _ := field(rest, line[3], 12-9)
	if w.kind != nil && bytes.Equal(kind, w.kind) && bytes.Equal(version, w.version) {
		return w.found
	}
	parts := append(strings.Split(string(kind), string(w.sep.Component)), "", "")
	of, _, _ := strings.Cut(string(version), string(w.sep.Component))
	w.kind, w.version = kind, version
	_, w.found = described(w.own, format.AsRead, of, parts[0], parts[1], parts[2])
	return w.found
}

// field gives the nth field of a text and what follows it.
func field(line []byte, separator byte, n int) (field, rest []byte) {
	for ; n > 1; n-- {
		i := bytes.IndexByte(line, separator)
		if i < 0 {
			return nil, nil
		}
		line = line[i+1:]
	}
	if i := bytes.IndexByte(line, separator); i >= 0 {
		return line[:i], line[i+1:]
	}
	return line, nil
}

// piece finds the repetition, component and subcomponent that is wanted of a field, and undoes
// escapes.
func (w *walk) piece(p *segments.Want, from, end int) {
	buf, slot := w.scan, p.Slot
	if p.By > 0 {
		if from, end = w.repetition(p, from, end); from < 0 {
			return
		}
	}
	repetition, component, sub := p.Repetition-1, p.Component-1, p.Sub-1 // still to come
	written := false
	at := from
	for ; at < end; at++ {
		c := w.class[buf[at]]
		switch c {
		case plain:
			continue
		case isEscape, isHigh:
			written = true
			continue
		}
		if repetition|component|sub == 0 {
			break // the wanted piece ends here
		}
		switch {
		case c == isRepetition && repetition > 0:
			repetition--
		case c == isComponent && repetition == 0 && component > 0:
			component--
		case c == isSubcomponent && repetition|component == 0 && sub > 0:
			sub--
		case c == isRepetition || repetition == 0 && (c == isComponent || component == 0):
			return // there are not so many
		default:
			continue
		}
		from, written = at+1, false
	}
	switch {
	case repetition|component|sub != 0 || from == at:
	case at-from == 2 && buf[from] == '"' && buf[from+1] == '"':
		w.row[slot] = batch.Null
	case written:
		w.rewrite(slot, from, at)
	default:
		w.row[slot] = batch.Span{Off: uint32(from), End: uint32(at)}
	}
}

// repetition finds that of a field whose component is the one by which it is chosen; -1: none is.
func (w *walk) repetition(p *segments.Want, from, end int) (int, int) {
	for at := from; at <= end; {
		stop := at
		for stop < end && w.class[w.scan[stop]] != isRepetition {
			stop++
		}
		component, _ := field(w.b.Buf[at:stop], w.sep.Component, p.By)
		if i := bytes.IndexByte(component, w.sep.Subcomponent); i >= 0 {
			component = component[:i]
		}
		if string(component) == p.Is {
			return at, stop
		}
		at = stop + 1
	}
	return -1, -1
}

// rewrite puts a value that is not written as it is behind the text: where it
// stands in the text, then the value.
func (w *walk) rewrite(slot, from, end int) {
	b := w.b
	value := b.Buf[from:end]
	if w.charset != "" {
		decoded, err := text.DecodeAll(value, w.charset)
		if err != nil {
			w.note(ruleUndecoded, slot, from, false)
			return
		}
		value = decoded
	}
	b.Buf = binary.LittleEndian.AppendUint32(b.Buf, uint32(from))
	off := len(b.Buf)
	var strange int
	b.Buf, strange = w.sep.AppendUnescaped(b.Buf, value)
	if strange >= 0 {
		w.note(ruleEscape, slot, from, true)
	}
	w.row[slot] = batch.Span{Off: uint32(off), End: uint32(len(b.Buf))}
}

// character finds out how the bytes beyond ASCII of a message are to be read: as
// MSH-18 says. It gives a rule and an offset if that cannot be done, or -1.
func (w *walk) character(start, end int, terminator byte) int {
	buf := w.b.Buf
	at := start
	for at < end && buf[at] < 0x80 && buf[at] != escape {
		at++
	}
	if at == end {
		return -1
	}
	if !w.declared {
		if bytes.Contains(buf[start:end], []byte(string(utf8.RuneError))) {
			return ruleUndecoded<<32 | (start + bytes.Index(buf[start:end], []byte(string(utf8.RuneError))))
		}
		if i := text.FirstInvalid(buf[start:end]); i >= 0 {
			return ruleUndecoded<<32 | (start + i)
		}
		return -1
	}
	line, _, _ := bytes.Cut(buf[start:end], []byte{terminator})
	said, ok := declaredCharset(line, w.sep)
	switch {
	case !ok:
		return ruleCharset<<32 | at
	case said == "" && text.IsASCII(buf[start:end]):
		return -1
	case said == "":
		return ruleUndeclared<<32 | at
	case said == text.UTF8:
		if i := text.FirstInvalid(buf[start:end]); i >= 0 {
			return ruleUndecoded<<32 | (start + i)
		}
		return -1
	}
	w.charset = said
	if said.Wide() {
		if len(w.mask) < end+batch.Slack {
			w.mask = make([]byte, len(buf))
		}
		copy(w.mask[start:], buf[start:end+batch.Slack])
		said.Mask(w.mask[start:end])
		w.scan = w.mask
	}
	return -1
}

// Raw is a record as a piece that can stand for itself: a message, or a unit with what it stands
// under in its message and what belongs to it, and without its siblings and what belongs to those.
func (r *Reader) Raw(b *batch.Batch, record int) []byte {
	unit := b.Bounds[record]
	if r.Unit < 0 || bytes.HasPrefix(b.Buf[unit.Off:], []byte("MSH")) {
		return b.Raw(record)
	}
	i, _ := slices.BinarySearchFunc(b.Messages, unit.Off, func(s batch.Span, off uint32) int { return cmp.Compare(s.End, off+1) })
	whole := b.Messages[i]
	if of := b.Base + int64(whole.Off); r.kin == nil || r.kinOf != of || r.kinEnd != of+int64(whole.Len()) {
		r.kin, r.kinOf, r.kinEnd = r.kindred(b, i), of, of+int64(whole.Len())
	}
	this := r.kin.At(unit.Off)
	if this < 0 {
		return b.Raw(record)
	}
	var out []byte
	r.kin.Of(this, func(p batch.Span) { out = append(out, b.Buf[p.Off:p.End]...) })
	return out
}

// kindred walks through a message and finds which segments belong to its units.
func (r *Reader) kindred(b *batch.Batch, whole int) *segments.Kin {
	message := b.Messages[whole]
	end := int(message.End)
	if i := bytes.IndexByte(b.Buf[message.Off:end], blockEnd); r.blocks && i >= 0 {
		end = int(message.Off) + i
	}
	w := newWalk(r, b)
	var problem string
	if w.sep, problem = separators(b.Buf[message.Off:end]); problem != "" {
		return &segments.Kin{}
	}
	terminator := byte('\r')
	if i := bytes.IndexAny(b.Buf[message.Off:end], "\r\n"); i >= 0 {
		terminator = b.Buf[int(message.Off)+i]
	}
	kin := w.Kindred(w.structureOf(b.Buf[message.Off:end], terminator))
	for p := int(message.Off); p < end; {
		next := end
		if i := bytes.IndexByte(b.Buf[p:end], terminator); i >= 0 {
			next = p + i
		}
		w.p, w.stop = p, next
		for next < end && (b.Buf[next] == '\r' || b.Buf[next] == '\n') {
			next++
		}
		if next-p < 3 {
			kin.Context(p, next, 0, 0, false)
		} else {
			w.Keep(b.Buf[p:p+3], keyAt(b.Buf, p), p, next)
		}
		p = next
	}
	return kin
}

// Divide tells which stretches of a message belong to one unit alone: its segment, and what stands
// in its group.
func (r *Reader) Divide(b *batch.Batch, whole int, say func(from, to, n int)) {
	if r.Unit < 0 {
		return
	}
	kin := r.kindred(b, whole)
	for n := range kin.Units() {
		kin.Stretches(n, func(p batch.Span) { say(int(p.Off), int(p.End), n) })
	}
}

// Locate gives where a field of a record starts in the text: its value, or the
// record if it is absent.
func (r *Reader) Locate(b *batch.Batch, record, slot int) (uint32, string) {
	s := b.Spans[record*b.Slots+slot]
	name := r.Fields[slot]
	switch {
	case s.Absent():
		return b.Bounds[record].Off, name
	case int(s.Off) >= b.N:
		return binary.LittleEndian.Uint32(b.Buf[s.Off-4:]), name
	}
	return s.Off, name
}

// Survey calls f for the values of a message. Repeated segments and fields are not
// told apart.
func (r *Reader) Survey(raw []byte, f func(path, value []byte)) {
	sep, problem := separators(raw)
	if problem != "" {
		return
	}
	path, plain := make([]byte, 0, 16), make([]byte, 0, 256)
	rest := raw
	for len(rest) > 0 {
		line := rest
		if i := bytes.IndexAny(rest, "\r\n"); i >= 0 {
			line, rest = rest[:i], rest[i+1:]
		} else {
			rest = nil
		}
		if len(line) < 4 || !nameAt(line, 0) {
			continue
		}
		segment := append(path[:0], line[:3]...)
		segment = append(segment, '-')
		number := 0
		fields := line[4:]
		if string(line[:3]) == "MSH" || string(line[1:3]) == "HS" { // their first field is the separator, the second the others
			number = 2
			_, fields, _ = bytes.Cut(fields, []byte{sep.Field})
		}
		for more := true; more; {
			var field []byte
			field, fields, more = bytes.Cut(fields, []byte{sep.Field})
			if number++; len(field) == 0 {
				continue
			}
			at := strconv.AppendInt(segment, int64(number), 10)
			for again := true; again; {
				var repetition []byte
				repetition, field, again = bytes.Cut(field, []byte{sep.Repetition})
				parts(at, repetition, []byte{sep.Component, sep.Subcomponent}, func(path, value []byte) {
					if bytes.IndexByte(value, sep.Escape) >= 0 {
						plain, _ = sep.AppendUnescaped(plain[:0], value)
						value = plain
					}
					f(path, value)
				})
			}
		}
	}
}

// parts calls f for the pieces of a value that are there, with their numbers behind
// its path if there are several.
func parts(path, value, separators []byte, f func(path, value []byte)) {
	switch {
	case len(value) == 0:
		return
	case len(separators) == 0 || bytes.IndexByte(value, separators[0]) < 0 && len(separators) == 1:
		f(path, value)
		return
	case bytes.IndexByte(value, separators[0]) < 0:
		if bytes.IndexByte(value, separators[1]) < 0 {
			f(path, value)
			return
		}
	}
	for n, more := 1, true; more; n++ {
		var piece []byte
		piece, value, more = bytes.Cut(value, separators[:1])
		parts(strconv.AppendInt(append(path, '.'), int64(n), 10), piece, separators[1:], f)
	}
}

// Finish says whether the counts of batches agree with what came.
func (r *Reader) Finish(int64) finding.List { return r.ended }

// Heading is empty: messages bring their own.
func (r *Reader) Heading() []byte { return nil }

// Preface is empty: each message says all that is needed to read it.
func (r *Reader) Preface(*batch.Batch, int) []byte { return nil }

// Describe makes the finding of a syntax note.
func (r *Reader) Describe(b *batch.Batch, n batch.Note) finding.Finding {
	at := b.Place(int(n.Record), n.At)
	rest := b.Buf[min(int(n.At), b.N):b.N]
	line := rest
	if i := bytes.IndexAny(rest, "\r\n"); i >= 0 {
		line = rest[:i]
	}
	if n.Slot >= 0 {
		at.Path = r.Positions[n.Slot].String()
	}
	seen := func(f finding.Finding, b []byte) finding.Finding { f.Seen = finding.Shorten(b); return f }
	switch n.Rule {
	case ruleSeparators:
		_, problem := separators(rest)
		return seen(finding.New("hl7.separators", at, "the message's separators cannot be read: %s", problem), line)
	case ruleSegment:
		return seen(finding.New("hl7.segment", at, "this line is not a segment: a name of three capital letters or digits and %q must begin it", b.Buf[b.Bounds[n.Record].Off+3]), line).
			Suggest("a line break in a value must be written as an escape sequence, such as \\.br\\")
	case ruleBlock:
		return finding.New("hl7.block", at, "the block that begins before this message (VT) does not end (FS CR): the message may not be whole").Suggest("ask for it again")
	case ruleBehind:
		return seen(finding.New("hl7.block", at, "something stands behind the end of the message's block (FS) and is in no block"), line).Suggest("ask for the file again")
	case ruleBatch:
		return seen(finding.New("hl7.batch", at, "%s stands among messages, and the file does not begin with FHS or BHS", line[:min(3, len(line))]), line).Suggest("the file may be put together of others, or not be whole: ask for it again")
	case ruleControl:
		return finding.New("hl7.control", at, "byte %02X here stands for a character that was lost", b.Buf[n.At]).Suggest("the sender must send the text that was meant")
	case ruleMore:
		return finding.Warn("hl7.beyond", at, "there are more %s here than the %d that are taken: this one and those behind it go nowhere", r.Positions[n.Slot].Segment, r.Positions[n.Slot].Occurrence).
			Suggest("take more of them, choose by a value as in OBX(3=WBC)-5, or make each a record")
	case ruleControlled:
		return finding.Warn("hl7.control", at, "byte %02X here is a control character, which has no place in a message (HL7 v2 chapter 2, 2.5.4)", b.Buf[n.At])
	case ruleCharset:
		return finding.New("hl7.charset", at, "MSH-18 names a character set that is not known").Suggest("set the route's encoding")
	case ruleUndeclared:
		return finding.New("hl7.charset", at, "byte %02X here is not ASCII, and MSH-18 does not say which character set it is of", b.Buf[n.At]).
			Suggest("MSH-18 must name it, or the route's encoding must be set")
	case ruleUndecoded:
		return finding.New("text.encoding", at, "byte %02X here is none of the character set that MSH-18 names", b.Buf[n.At]).Suggest("MSH-18 must name the one in use, or the route's encoding must be set")
	case ruleNoUnit:
		return finding.New("hl7.no-unit", at, "the message has none of the segments that are records in this route")
	}
	return seen(finding.Warn("hl7.escape", at, "an escape sequence here has no meaning in text; it was kept as it is"), line)
}
