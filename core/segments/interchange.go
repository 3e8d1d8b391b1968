package segments

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"math/bits"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/format"
	"ydrion/core/place"
	"ydrion/core/shape"
	"ydrion/core/standard"
	"ydrion/core/text"
)

// MaxMessage is the longest message that is read.
const MaxMessage = 64 << 20

// Syntax are the characters that are structure in an interchange; 0: there is none. Set is the
// character set that it says it is in.
type Syntax struct {
	Element, Component, Repetition, Release, Terminator byte
	Decimal                                             byte
	Set                                                 text.Charset // "": ASCII
	Narrow                                              bool         // of it only capital letters, digits and some signs
	Extends                                             bool         // it may change between sets
	Size                                                int          // of what says so, in bytes; 0: the first segment does
}

// Rules are what tells one standard for interchanges from another.
type Rules struct {
	Name       string // of the format, for the codes of findings
	Title      string // of the format, for people
	Makes      string // what outputs consist of, for people
	Nothing    string // why a file has no messages
	Example    string // a position
	Head, Tail string // the segments that begin and end a message
	// Levels are the envelopes around messages, the outermost first.
	Levels []Level
	Alone  []string // segments that may stand between envelopes
	Binary map[string]int
	// Begin reads what an interchange begins with, and says what is wrong with it.
	Begin func(b []byte) (Syntax, string)
	// HeadNumber is the element of the head that has the message's number; the tail has the
	// count of segments in element 1 and the number in 2.
	HeadNumber int
	HeadDigits int    // that the number has at least
	Usual      Syntax // the separators that are written when none are wanted
	// Names says which version a message is of and what it is, from its head and the segments
	// around it. The kind may have a letter behind digits that tells guides apart.
	Names func(around [][]byte, head []byte, s Syntax) (version, kind string)
	// Near is a version that describes messages of a kind as a version does that is not described; nil: there
	// is none.
	Near func(version, kind string) string
	// Catalog has the descriptions of messages.
	Catalog *standard.Catalog
	// Form says what is wrong with a text as a value of an elementary type, "" if nothing is.
	Form func(kind, text string) string
	// Dates is that of messages: see Message.
	Dates func(s *Segment, say func(field, component int, v *Value, wrong string))
	Dated []string
	// Hierarchy is the segment that begins a level of a hierarchy, with its number in element 1
	// and that of the level above in element 2; Last is the one that ends it.
	Hierarchy, Last string
	// Nested are the segments that begin levels, with where the level above is said.
	Nested []Nesting
	// Note is the segment that belongs to the one that it follows; empty: there is none.
	Note string
	// Widths are those of the elements of segments whose elements have fixed ones.
	Widths map[string][]int
	// Separating are elements that say what separates.
	Separating map[string][]int
	// Declares tells whether the interchange says its character set: text is decoded by it.
	Declares bool
	// Declaration is where it says that, and what stands there for UTF-8.
	Declaration [2]string
	// Parties are the elements of the outermost envelope, from and to, that say who sends to whom.
	Parties [2]int
	// Grouped tells that messages stand in groups only: the second level.
	Grouped bool
	// Nearest is the version by whose groups messages are read of one that is not described: the last before it, or the
	// first; "" where it is none.
	Nearest func(version string) string
	// Partly tells that segments are described as far as they are usually filled.
	Partly bool
	// Opening says what is wrong with a segment that opens a level, with its elements as texts
	// from 1 on: what must be there, dates, lengths. Warn tells that it is not much.
	Opening func(level int, elements []string, s Syntax, say func(element int, warn bool, problem string))
	// Fits says why a message of that kind cannot stand in a group of that kind; "" if it can.
	Fits func(group, kind string) string
}

// nests tells whether a segment begins a level of a hierarchy.
func (r *Rules) nests(segment string) bool {
	return slices.ContainsFunc(r.Nested, func(n Nesting) bool { return n.Segment == segment })
}

// Described finds the description of a message.
func (r *Rules) Described(around [][]byte, head []byte, s Syntax) (*standard.Dictionary, *standard.Structure) {
	version, kind := r.Names(around, head, s)
	book := r.Catalog.Version(version)
	if book == nil && r.Near != nil {
		book = r.Catalog.Version(r.Near(version, kind))
	}
	if book == nil {
		return nil, nil
	}
	return book, book.Structure(kind)
}

// describe is Described for a reader that may have descriptions of its own.
func (r *Reader) describe(by int, around [][]byte, head []byte, s Syntax) (book *standard.Dictionary, structure *standard.Structure) {
	find := func(own []*standard.Catalog) bool {
		if len(own) == 0 {
			return false
		}
		version, kind := r.Names(around, head, s)
		for _, of := range own {
			if book = of.Version(version); book == nil {
				continue
			}
			for _, name := range []string{kind, strings.TrimRight(kind, "PIDA")} {
				if structure = book.Structure(name); structure != nil {
					return true
				}
			}
		}
		return false
	}
	before, behind := Chosen(r.own, by)
	if find(before) {
		return book, structure
	}
	standards, is := r.Described(around, head, s)
	if is == nil && find(behind) {
		return book, structure
	}
	return standards, is
}

// Chosen are the descriptions of one's own that stand before the standard's for what a message is described by, and
// those that count where the standard has none.
func Chosen(own []*standard.Catalog, by int) (before, behind []*standard.Catalog) {
	switch {
	case by >= 0:
		return own[by : by+1], nil
	case by == format.ByStandard:
		return nil, nil
	case len(own) < 2:
		return own, nil
	}
	return nil, own
}

// Level is an envelope: the segments that open and close it, and the element of the first
// that has its number. The second has a count in element 1 and the number in 2.
type Level struct {
	Open, Close string
	Number      int
}

// Interchanges says how files of interchanges are read.
type Interchanges struct {
	Rules *Rules
	// Own are descriptions besides those of the standard, see format.Described.
	Own []*standard.Catalog
	// Unit is the segment that is a record by itself, with what stands around it in its
	// message as context, and with what belongs to it. Without one the message is.
	Unit string
}

var _ format.Source = Interchanges{}

// ahead is how much is read to find the first message.
const ahead = 64 << 10

// bound is what is wanted of messages, and where it stands.
type bound struct {
	*Rules
	*Wanted
	own []*standard.Catalog
}

// Open reads the beginning of the first interchange.
func (s *bound) Open(in *text.Decoded) (format.Reader, finding.List, error) {
	levels := len(s.Levels)
	r := &Reader{bound: s, Stream: format.Stream{In: in, Line: 1}, charset: in.Charset, declared: in.Charset == text.Declared && s.Declares,
		around: make([][]byte, levels), since: make([]int64, levels), groups: make([]int64, levels), messages: make([]int64, levels), numbered: make([]numbers, levels+1), parties: map[string]numbers{}}
	buf, err := r.Fill(nil, ahead)
	if err != nil {
		return nil, nil, err
	}
	r.Carry = buf
	at := skipLines(buf, 0)
	if at == len(buf) {
		return nil, finding.List{finding.New("file.empty", place.Place{Line: 1, Column: 1}, "the file holds no interchange: %d bytes", len(buf))}, nil
	}
	syntax, problem := s.Begin(buf[at:])
	if problem != "" {
		f := finding.New(s.Name+".interchange", place.At("", buf, at), "%s", problem)
		f.Seen = finding.Shorten(buf[at:min(len(buf), at+60)])
		return nil, finding.List{f}, nil
	}
	r.syntaxes.Store(&[]dated{{0, syntax}})
	return r, nil, nil
}

// dated is the syntax of the text from an offset on.
type dated struct {
	from int64
	Syntax
}

// Reader reads one file. Cut keeps the state of the stream; Split only reads what Open
// has set, and the syntaxes.
type Reader struct {
	format.Stream
	*bound
	declared bool // text is decoded as the interchange says
	charset  text.Charset
	syntaxes atomic.Pointer[[]dated]

	around           [][]byte // the segments that have opened each level
	since            []int64  // where they stand
	groups, messages []int64  // in each level: how many of the next one, and of messages
	ended            finding.List
	kin              *Kin       // of the message of which a unit was asked for last
	kinOf, kinEnd    int64      // where that stands
	kinTail          batch.Span // its last segment
	untoldErrors     bool
	untold           int // findings that were too many
	firsts           Firsts
	misread          format.Misread
	numbered         []numbers          // the numbers that came in each level, the last: of messages
	parties          map[string]numbers // those of interchanges, by who sends to whom
}

// Bind finds out which segments the wanted fields are in. Fields are positions such as LIN-3.1 or
// NAD(BY)-2.1; a field's path says which, or its name. Lists are segments or, for the repetitions of an
// element, positions.
func (s Interchanges) Bind(of shape.Shape) (format.Bound, finding.List) {
	var out finding.List
	var unit *Position
	if s.Unit != "" {
		p, err := ParsePosition(s.Unit)
		if err != nil || p.Field != 0 || p.Occurrence != 1 || p.Within != "" {
			out = append(out, finding.New(s.Rules.Name+".position", place.Place{Line: 1, Column: 1}, "%q is not a segment that can be a record: it is named as LIN, or HL(3=22)", s.Unit))
		}
		unit = &p
	}
	r := &bound{Rules: s.Rules, own: s.Own, Wanted: NewWanted(unit)}
	out = append(out, r.Add(of, Demand{Code: r.Name + ".position", Parse: ParsePosition, Unknown: s.unknown, Belongs: s.belongs, Level: r.nests, Partly: r.Partly})...)
	if out.HasErrors() {
		return nil, out
	}
	return r, out
}

func (s Interchanges) belongs(segment, to string) bool {
	for _, own := range s.Own {
		if Belongs(segment, to, own) {
			return true
		}
	}
	return Belongs(segment, to, s.Rules.Catalog)
}

// unknown says that neither a description nor the standard knows a position, and what comes near.
func (s Interchanges) unknown(p Position) (problem, suggestion string) {
	for _, l := range s.Rules.Levels {
		if p.Segment == l.Open || p.Segment == l.Close {
			return "", ""
		}
	}
	for _, own := range s.Own {
		if problem, _ = Unknown(p, own, true); problem == "" {
			return "", ""
		}
	}
	problem, suggestion = Unknown(p, s.Rules.Catalog, false)
	return problem, suggestion
}

// syntax is that of the text at an offset.
func (r *Reader) syntax(base int64) Syntax {
	all := *r.syntaxes.Load()
	i := len(all) - 1
	for i > 0 && all[i].from > base {
		i--
	}
	return all[i].Syntax
}

func skipLines(b []byte, p int) int {
	for p < len(b) && (b[p] == '\r' || b[p] == '\n' || b[p] == ' ') {
		p++
	}
	return p
}

// released tells whether the character at p is data because of a release character.
func (s *Syntax) released(b []byte, from, p int) bool {
	if s.Release == 0 {
		return false
	}
	n := 0
	for p-1-n >= from && b[p-1-n] == s.Release {
		n++
	}
	return n%2 == 1
}

// shortSegment is how many bytes of a segment are looked through for its end in place.
const shortSegment = 64

// end finds the terminator of the segment at p, len(b) if there is none.
func (s *Syntax) end(b []byte, p int) int {
	const low, high = 0x0101010101010101, 0x8080808080808080
	wanted := uint64(s.Terminator) * low
	for i := p; i+8 <= len(b) && i < p+shortSegment; i += 8 { // eight bytes at once: a call would cost as much as looking
		v := binary.LittleEndian.Uint64(b[i:]) ^ wanted
		if m := (v - low) &^ v & high; m != 0 { // its lowest bit is that of the first byte that is the terminator
			if i += bits.TrailingZeros64(m) >> 3; s.Release == 0 || i == p || b[i-1] != s.Release {
				return i
			}
			break
		}
	}
	for from := p; ; {
		i := bytes.IndexByte(b[from:], s.Terminator)
		if i < 0 {
			return len(b)
		}
		if i += from; !s.released(b, p, i) {
			return i
		}
		from = i + 1
	}
}

// segmentEnd is end for segments that may hold binary data of a stated length.
func (r *Reader) segmentEnd(s *Syntax, b []byte, p int) int {
	if r.Binary != nil && p+4 < len(b) && b[p] == 'B' {
		if n := r.binary(s, b, p); n > p && n < len(b) {
			return n
		}
	}
	return s.end(b, p)
}

// binary is where the data of a binary segment ends, 0 if it is none.
func (r *Reader) binary(s *Syntax, b []byte, p int) int {
	n := bytes.IndexByte(b[p:min(len(b), p+4)], s.Element)
	if n < 0 {
		return 0
	}
	element := r.Binary[string(b[p:p+n])]
	at := p + n + 1
	for ; element > 1 && at < len(b); element-- {
		i := bytes.IndexByte(b[at:], s.Element)
		if i < 0 {
			return 0
		}
		at += i + 1
	}
	if element == 0 {
		return 0
	}
	i := bytes.IndexByte(b[at:min(len(b), at+16)], s.Element)
	if i < 0 {
		return 0
	}
	length, err := strconv.Atoi(string(b[at : at+i]))
	if err != nil || length < 0 {
		return 0
	}
	return at + i + 1 + length
}

// nextHead finds where the next message begins from i on, -1 if it does not.
func (r *Reader) nextHead(s *Syntax, buf []byte, i int) int {
	var pattern [4]byte
	n := copy(pattern[:], r.Head)
	pattern[n] = s.Element
	for i < len(buf) {
		k := bytes.Index(buf[i:], pattern[:n+1])
		if k < 0 {
			return -1
		}
		if i += k; s.starts(buf, i) {
			return i
		}
		i += n
	}
	return -1
}

// starts tells whether a segment may begin at p: behind a terminator.
func (s *Syntax) starts(b []byte, p int) bool {
	for p--; p >= 0 && (b[p] == '\n' || b[p] == '\r' || b[p] == ' '); p-- {
		if b[p] == s.Terminator {
			break
		}
	}
	return p < 0 || b[p] == s.Terminator && !s.released(b, 0, p)
}

// Cut fills b with the next whole messages.
func (r *Reader) Cut(b *batch.Batch) (bool, error) {
	buf := r.Start(b)
	base := r.Base
	buf, err := r.renew(buf)
	if err != nil {
		b.Buf, b.N = buf, 0
		return false, err
	}
	s := r.syntax(base)
	want, from, starts := max(r.Most(), len(buf)), 0, b.Messages[:0]
	for {
		if buf, err = r.Fill(buf, want); err != nil {
			b.Buf, b.N = buf, 0
			return false, err
		}
		for {
			i := r.nextHead(&s, buf, from)
			if i < 0 {
				break
			}
			starts = append(starts, batch.Span{Off: uint32(i)})
			from = i + 2
		}
		if r.Binary != nil {
			starts = r.outsideBinary(&s, buf, starts)
		}
		if r.EOF || len(starts) > 1 {
			break
		}
		if len(buf) >= MaxMessage {
			b.Buf, b.N = buf, 0
			return false, r.broken(buf, 0, "message-long", fmt.Sprintf("no end of the message within %d MiB", MaxMessage>>20))
		}
		from = max(0, len(buf)-3)
		if n := len(starts); n > 0 {
			from = max(from, int(starts[n-1].Off)+2)
		}
		want = min(2*len(buf), MaxMessage)
	}
	n := len(buf)
	if !r.EOF { // the last one may not be whole
		n = int(starts[len(starts)-1].Off)
		starts = starts[:len(starts)-1]
	}
	// What was open before the text is put behind it, for those who want its fields.
	before := r.open()
	first := n
	if len(starts) > 0 {
		first = int(starts[0].Off)
	}
	stop, broken := r.gap(&s, buf, 0, first)
	if broken == nil && stop == first {
		for i := range starts {
			next := n
			if i+1 < len(starts) {
				next = int(starts[i+1].Off)
			}
			tail := r.tail(&s, buf, int(starts[i].Off), next)
			starts[i].End = uint32(tail)
			r.heads(&s, b, i, buf[starts[i].Off:tail], int(starts[i].Off))
			for k := range r.messages {
				r.messages[k]++
			}
			if stop, broken = r.gap(&s, buf, tail, next); broken != nil || stop < next {
				starts = starts[:i+1]
				break
			}
			stop = next
		}
	} else {
		starts = starts[:0]
	}
	if broken != nil || stop < n {
		n = stop
	}
	b.Messages = starts
	if r.Unit < 0 {
		b.Bounds = append(b.Bounds[:0], starts...)
	}
	if broken != nil {
		b.Buf, b.N = append(buf[:n:n], bytes.Repeat([]byte{s.Terminator}, batch.Slack)...), n
		b.Lines = r.Advance(buf[:n])
		r.surround(b, before)
		return false, broken
	}
	r.Give(b, buf, n, s.Terminator)
	r.surround(b, before)
	more := !r.EOF || len(r.Carry) > 0
	if !more {
		r.finish()
	}
	return more, nil
}

// open are the segments that have opened the envelopes that are open.
func (r *Reader) open() (out []batch.Opened) {
	for level, segment := range r.around {
		if segment != nil {
			out = append(out, batch.Opened{Text: segment, At: r.since[level]})
		}
	}
	return out
}

// surround puts the segments that were open before a batch behind its text: their spans follow
// those of the messages.
func (r *Reader) surround(b *batch.Batch, open []batch.Opened) {
	b.Open = open
	for _, o := range open {
		from := len(b.Buf)
		b.Buf = append(append(b.Buf, o.Text...), b.Buf[b.N])
		b.Messages = append(b.Messages, batch.Span{Off: uint32(from), End: uint32(from + len(o.Text))})
	}
}

// messages splits what surround has put together.
func messages(b *batch.Batch) (messages, around []batch.Span) {
	i := len(b.Messages)
	for i > 0 && int(b.Messages[i-1].Off) >= b.N {
		i--
	}
	return b.Messages[:i], b.Messages[i:]
}

// renew reads the beginning of an interchange, whose syntax may be another one.
func (r *Reader) renew(buf []byte) ([]byte, error) {
	at := skipLines(buf, 0)
	if at >= len(buf) || !r.opens(buf[at:]) {
		return buf, nil
	}
	buf, err := r.Fill(buf, max(len(buf), at+longestHeader))
	if err != nil {
		return buf, err
	}
	syntax, problem := r.Begin(buf[at:])
	if problem != "" {
		return buf, r.broken(buf, at, "interchange", problem)
	}
	if all := *r.syntaxes.Load(); syntax != all[len(all)-1].Syntax {
		next := append(slices.Clone(all), dated{r.Base + int64(at), syntax})
		if len(next) > 64 { // those of batches that have gone
			next = next[len(next)-64:]
		}
		r.syntaxes.Store(&next)
	}
	return buf, nil
}

// longestHeader is how much of an interchange says what its syntax is.
const longestHeader = 256

// opens tells whether a text begins with an interchange.
func (r *Reader) opens(b []byte) bool {
	return bytes.HasPrefix(b, []byte(r.Levels[0].Open)) || bytes.HasPrefix(b, []byte("UNA")) && r.Head == "UNH"
}

// outsideBinary leaves out what looks like a head within binary data.
func (r *Reader) outsideBinary(s *Syntax, buf []byte, starts []batch.Span) []batch.Span {
	for p := 0; p < len(buf); {
		next := len(buf)
		for name := range r.Binary {
			if i := bytes.Index(buf[p:], []byte(name+string(s.Element))); i >= 0 && p+i < next {
				next = p + i
			}
		}
		if next == len(buf) {
			break
		}
		end := 0
		if s.starts(buf, next) {
			end = r.binary(s, buf, next)
		}
		if end == 0 {
			p = next + 3
			continue
		}
		starts = slices.DeleteFunc(starts, func(m batch.Span) bool { return int(m.Off) > next && int(m.Off) < end })
		p = end
	}
	return starts
}

// tail finds where a message ends: behind its last segment's terminator.
func (r *Reader) tail(s *Syntax, buf []byte, from, next int) int {
	var room [4]byte
	pattern := append(append(room[:0], r.Tail...), s.Element)
	for end := next; ; {
		i := bytes.LastIndex(buf[from:end], pattern)
		if i < 0 {
			break
		}
		if i += from; s.starts(buf, i) {
			return min(s.end(buf[:next], i)+1, next)
		}
		end = i
	}
	// There is none: what is not an envelope belongs to the message.
	for p := from; p < next; {
		start := skipLines(buf[:next], p)
		if start == next || r.level(buf[start:next], s) >= 0 && start > from {
			return p
		}
		p = min(r.segmentEnd(s, buf[:next], start)+1, next)
	}
	return next
}

// level tells of which level a segment is: the opening ones first, then the closing ones; -1:
// of none.
func (r *Reader) level(segment []byte, s *Syntax) int {
	named := func(name string) bool {
		return len(segment) > len(name) && string(segment[:len(name)]) == name && (segment[len(name)] == s.Element || segment[len(name)] == s.Terminator)
	}
	for i, l := range r.Levels {
		if named(l.Open) {
			return i
		}
		if named(l.Close) {
			return len(r.Levels) + i
		}
	}
	for _, name := range r.Alone {
		if named(name) {
			return 2 * len(r.Levels)
		}
	}
	return -1
}

// gap goes through the envelopes between messages. It stops before an interchange with
// another syntax.
func (r *Reader) gap(s *Syntax, buf []byte, p, end int) (int, error) {
	first := skipLines(buf, 0)
	for {
		p = skipLines(buf[:end], p)
		if p == end {
			return end, nil
		}
		if r.opens(buf[p:end]) {
			if p > first {
				if syntax, problem := r.Begin(buf[p:]); problem != "" || syntax != *s {
					return p, nil
				}
			}
			if n := r.adviceSize(s, buf[p:end]); n > 0 {
				p += n
				first = skipLines(buf[:end], p)
				continue
			}
		}
		stop := r.segmentEnd(s, buf[:end], p)
		level, n := r.level(buf[p:end], s), len(r.Levels)
		switch {
		case level < 0:
			return p, r.broken(buf, p, "envelope", "this is not a segment that may stand between messages")
		case level < n:
			if r.around[level] != nil {
				r.unclosed(r.Place(buf, p), level)
			}
			r.around[level], r.since[level] = bytes.Clone(buf[p:stop]), r.Base+int64(p)
			r.begun(s, buf, p, level)
			for k := level; k < n; k++ {
				r.groups[k], r.messages[k] = 0, 0
				if k > level {
					r.around[k] = nil
				}
			}
		case level < 2*n:
			r.close(s, buf, p, stop, level-n)
		}
		p = min(stop+1, end)
	}
}

// begun checks a segment that opens a level against what came before it, and looks at its elements.
func (r *Reader) begun(s *Syntax, buf []byte, p, level int) {
	at := r.Place(buf, p)
	name, segment := r.Levels[level].Open, r.around[level]
	say := func(element int, warn bool, problem string) {
		where := at
		where.Path = fmt.Sprintf("%s-%d", name, element)
		make := finding.New
		if warn {
			make = finding.Warn
		}
		r.tell(make(r.Name+".envelope", where, "%s %s", where.Path, problem))
	}
	if level > 0 && r.around[level-1] == nil {
		r.tell(finding.New(r.Name+".envelope", at, "%s stands in no interchange: there is no %s before it", name, r.Levels[0].Open))
	}
	if level > 0 && r.groups[level-1] == 0 && r.messages[level-1] > 0 {
		r.tell(finding.New(r.Name+".envelope", at, "%s begins a group behind messages that stand in none", name))
	}
	elements := r.elements(s, segment)
	if r.Opening != nil {
		r.Opening(level, elements, *s, say)
	}
	number := r.Levels[level].Number
	seen := &r.numbered[level]
	if level == 0 { // by who sends to whom
		clear(r.numbered)
		key := strings.Join(elements[min(len(elements), r.Parties[0]):min(len(elements), r.Parties[1]+1)], "\x00")
		if len(r.parties) >= mostParties {
			clear(r.parties)
		}
		of := r.parties[key]
		seen = &of
		defer func() { r.parties[key] = of }()
	} else {
		r.numbered[len(r.numbered)-1] = numbers{}
	}
	if len(elements) > number && elements[number] != "" && seen.add(elements[number]) {
		say(number, true, fmt.Sprintf("is %s, as in one before: control numbers differ from each other", elements[number]))
	}
}

// elements are the elements of a segment as they are meant, its name before them.
func (r *Reader) elements(s *Syntax, segment []byte) (out []string) {
	for p := 0; p <= len(segment); {
		end := s.next(segment, p, s.Element)
		out = append(out, string(s.AppendPlain(nil, bytes.TrimRight(segment[p:end], " \r\n"))))
		p = end + 1
	}
	return out
}

// heads notes what is wrong with where a message stands, and with its number.
func (r *Reader) heads(s *Syntax, b *batch.Batch, message int, text []byte, at int) {
	note := func(rule int, warn bool) {
		b.Notes = append(b.Notes, batch.Note{Record: int32(message), Slot: -1, Rule: int32(rule), Source: batch.Syntax, At: uint32(at), Warn: warn})
	}
	head := text[:s.end(text, 0)]
	number := s.field(head, r.HeadNumber)
	if len(number) > 0 && r.numbered[len(r.numbered)-1].add(string(number)) {
		note(ruleTwice, true)
	}
	last := len(r.around) - 1
	switch {
	case r.around[0] == nil:
		note(ruleOutside, false)
	case r.around[last] == nil && (r.Grouped || r.groups[0] > 0):
		note(ruleLoose, false)
	case r.around[last] != nil && r.Fits != nil:
		kind := s.field(head, 3-r.HeadNumber) // beside the number
		kind = kind[:s.next(kind, 0, s.Component)]
		if r.Fits(string(s.field(r.around[last], 1)), string(kind)) != "" {
			note(ruleMisfit, true)
		}
	}
}

// mostParties is of how many pairs of sender and receiver the numbers are kept.
const mostParties = 10_000

// close checks what a closing segment says against what came.
func (r *Reader) close(s *Syntax, buf []byte, p, stop, level int) {
	l := r.Levels[level]
	count, what := r.messages[level], "messages"
	if r.groups[level] > 0 {
		count, what = r.groups[level], "groups"
	}
	at := r.Place(buf, p)
	wrong := func(code, message string, args ...any) {
		r.tell(finding.New(r.Name+"."+code, at, message, args...).Suggest("the file may not be whole: ask for it again"))
	}
	segment := buf[p:stop]
	if said := string(bytes.TrimSpace(s.field(segment, 1))); said != "" {
		at.Path = l.Close + "-1"
		if n, err := strconv.ParseInt(said, 10, 64); err != nil || n != count {
			wrong("count", "%s says %s %s, but %d came", l.Close, said, what, count)
		}
	}
	at.Path = l.Close + "-2"
	if open := r.around[level]; open == nil {
		wrong("envelope", "%s closes what no %s has opened", l.Close, l.Open)
	} else if a, b := string(s.field(open, l.Number)), string(s.field(segment, 2)); a != b {
		wrong("number", "%s says number %s, but %s said %s", l.Close, b, l.Open, a)
	}
	for k := level; k < len(r.around); k++ {
		if k > level && r.around[k] != nil {
			r.unclosed(at, k)
		}
		r.around[k] = nil
	}
	if level > 0 {
		r.groups[level-1]++
	}
}

// mostTold is how many findings about envelopes are kept.
const mostTold = 1000

// tell keeps a finding about the envelopes.
func (r *Reader) tell(f finding.Finding) {
	if len(r.ended) >= mostTold {
		r.untold++
		r.untoldErrors = r.untoldErrors || f.Severity == finding.Error
		return
	}
	r.ended = append(r.ended, f)
}

func (r *Reader) unclosed(at place.Place, level int) {
	at.Path = ""
	r.tell(finding.New(r.Name+".unfinished", at, "%s was opened before and not closed by %s", r.Levels[level].Open, r.Levels[level].Close))
}

// finish says what is still open at the end of the file.
func (r *Reader) finish() {
	for i := len(r.around) - 1; i >= 0; i-- {
		if r.around[i] != nil {
			r.tell(finding.New(r.Name+".unfinished", r.Place(nil, 0), "the file ends without %s: it may not be whole", r.Levels[i].Close))
			return
		}
	}
}

func (r *Reader) broken(buf []byte, at int, code, message string) error {
	f := finding.New(r.Name+"."+code, r.Place(buf, at), "%s", message)
	f.Seen = finding.Shorten(buf[at:min(len(buf), at+60)])
	return &format.Broken{Finding: f, Rest: io.MultiReader(bytes.NewReader(bytes.Clone(buf[at:])), r.In)}
}

// field is the text of an element of a segment, with what it is written as.
func (s *Syntax) field(segment []byte, n int) []byte {
	for p := 0; ; {
		end := s.next(segment, p, s.Element)
		if n == 0 {
			return segment[p:end]
		}
		if end == len(segment) {
			return nil
		}
		p = end + 1
		n--
	}
}

// next finds a separator that is not released.
func (s *Syntax) next(b []byte, p int, separator byte) int {
	for from := p; ; {
		i := bytes.IndexByte(b[from:], separator)
		if i < 0 {
			return len(b)
		}
		if i += from; !s.released(b, p, i) {
			return i
		}
		from = i + 1
	}
}

// AppendPlain undoes the release characters of a text.
func (s *Syntax) AppendPlain(to, value []byte) []byte {
	if s.Release == 0 {
		return append(to, value...)
	}
	for p := 0; p < len(value); p++ {
		if value[p] == s.Release && p+1 < len(value) {
			p++
		}
		to = append(to, value[p])
	}
	return to
}

// Finish says whether the envelopes agree with what came, of which segments only the first was taken, and whether a character set is not that of the text.
func (r *Reader) Finish(int64) finding.List {
	alone := append(r.Misread(&r.misread, r.Declaration[0], r.Declaration[1]), r.firsts.Findings(r.Wanted, r.Name+".first-only", r.Name+".cut-off")...)
	if r.untold == 0 {
		return append(r.ended, alone...)
	}
	last, make := r.ended[len(r.ended)-1].Place, finding.Warn
	if r.untoldErrors {
		make = finding.New
	}
	return append(append(r.ended, make(r.Name+".more", last, "%d more findings like these follow, about envelopes behind this one", r.untold)), alone...)
}

// Heading is empty: rejected messages bring their envelopes.
func (r *Reader) Heading() []byte { return nil }
