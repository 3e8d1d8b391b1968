package json

import (
	"bytes"
	"encoding/binary"
	"slices"
	"strconv"
	"unicode/utf8"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/format"
	"ydrion/core/marks"
	"ydrion/core/text"
)

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
	w := newWalk(r, b)
	w.known, _ = r.known.Get().(*known)
	if w.known == nil {
		w.known = &known{}
	}
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
	if w.known.batches++; w.known.batches < mostBatches {
		r.known.Put(w.known)
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
	strange bool // there may be something that is not UTF-8: bytes beyond ASCII are looked at, too
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
	known   *known
}

// stops are the characters of a string that are looked at.
var stops = map[bool]*marks.Set{
	false: marks.Where(func(c byte) bool { return c == '"' || c == '\\' || c < 0x20 }),
	true:  marks.Where(func(c byte) bool { return c == '"' || c == '\\' || c < 0x20 || c >= 0x80 }),
}

func newWalk(r *Reader, b *batch.Batch) walk {
	w := walk{Reader: r, b: b, end: b.N}
	if r.charset == text.UTF8 && !utf8.Valid(b.Buf[:b.N]) || r.charset != text.UTF8 && bytes.Contains(b.Buf[:b.N], []byte(string(utf8.RuneError))) {
		w.strange = true
	}
	b.Marks.Mark(b.Buf, 0, b.N, stops[w.strange])
	return w
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
		end := w.value(int(s.Off), w.roots[0], 0, &w.known.course)
		w.finish(end)
		w.cut(s)
	} else {
		w.record = -1
		notes := len(w.b.Notes)
		w.finish(w.along(int(s.Off), 0, 0, false, batch.Missing, -1, &w.known.course))
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
func (w *walk) along(p, level, depth int, every bool, name batch.Span, place int, of *course) int {
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
		p = w.value(p, root, depth, of)
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
		p = w.object(p, root, depth, level, of)
	case w.b.Buf[p] == '[' && all:
		p = w.array(p, root, depth, level, of)
	default:
		p = w.value(p, root, depth, of)
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
func (w *walk) value(p int, wanted *trie, depth int, of *course) int {
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
		p = w.object(p, wanted, depth, -1, of)
	case c == '[':
		p = w.array(p, wanted, depth, -1, of)
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

// course is what members the objects at one place of a document have had, in their order. Most are alike: a member
// that comes where the ones before had it is known by comparing its name once.
type course struct {
	wanted *trie // with which they were read
	steps  []step
}

// known is what the batches before have taught.
type known struct {
	course  course // of whole values
	courses int    // that there are
	batches int
}

// mostBatches is after how many batches all is learnt anew: what is in a file may change.
const mostBatches = 100

// step is a member of a course.
type step struct {
	word, mask uint64 // the beginning of the name, with its closing quote if that is among eight bytes
	name       []byte
	lead       lead
	below      *trie   // what is wanted of it
	along      bool    // it stands on the pointer to the records
	inner      *course // of objects that are its value, or elements of it
}

const (
	mostSteps  = 64   // of one course
	usualSteps = 8    // there is room for, at first
	lookahead  = 8    // is where a member is looked for: those before it are not there
	courses    = 1000 // of all objects
)

// lead is what stood before a member's value the first time: from the end of the value before it, or from the brace
// that opens the object, on. Who writes JSON writes it alike each time, so that all of it is known by comparing it.
type lead struct {
	text       []byte // empty: it is not known
	head, mask uint64 // its first eight bytes, and which of them it has
	tail       uint64 // the last eight of its first sixteen, if it has more than eight
	named      int    // where the name begins in it
	opens      bool   // a brace stands before it
}

// longestLead is how long one is at most.
const longestLead = 64

func newLead(text []byte, named int, opens bool) lead {
	if len(text) > longestLead {
		return lead{}
	}
	l := lead{text: bytes.Clone(text), named: named, opens: opens, mask: 1<<(8*min(uint(len(text)), 8)) - 1}
	padded := append(bytes.Clone(text), make([]byte, 8)...)
	l.head = binary.LittleEndian.Uint64(padded)
	l.tail = binary.LittleEndian.Uint64(padded[max(0, min(len(text), 16)-8):])
	return l
}

// at tells whether it stands at p.
func (l *lead) at(buf []byte, p, end int, opens bool) bool {
	n := len(l.text)
	if binary.LittleEndian.Uint64(buf[p:])&l.mask != l.head || n == 0 || p+n > end || l.opens != opens {
		return false
	}
	return n <= 8 || binary.LittleEndian.Uint64(buf[p+min(n, 16)-8:]) == l.tail && (n <= 16 || string(buf[p+16:p+n]) == string(l.text[16:]))
}

// next finds the member whose name begins at p, from a step on.
func (c *course) next(buf []byte, p, from int) int {
	x := binary.LittleEndian.Uint64(buf[p:])
	for i := from; i < min(len(c.steps), from+lookahead); i++ {
		if s := &c.steps[i]; x&s.mask == s.word && s.is(buf, p) {
			return i
		}
	}
	return -1
}

// is tells whether the name at p, which begins as the step's, is that.
func (s *step) is(buf []byte, p int) bool {
	n := len(s.name)
	return n < 8 || len(buf)-p > n && buf[p+n] == '"' && string(buf[p:p+n]) == string(s.name)
}

// learn takes a member that none of the objects before had into a course, if there is room for it, and gives the
// step behind it. A name stands in a course once.
func (w *walk) learn(of *course, at int, name []byte, below *trie, along bool) int {
	if len(of.steps) >= mostSteps || slices.ContainsFunc(of.steps, func(s step) bool { return bytes.Equal(s.name, name) }) {
		return at
	}
	begin := append(append(make([]byte, 0, len(name)+8), name...), `"0000000`...)
	s := step{word: binary.LittleEndian.Uint64(begin), mask: 1<<(8*min(uint(len(name))+1, 8)) - 1, name: bytes.Clone(name), below: below, along: along}
	s.word &= s.mask
	if of.steps == nil {
		of.steps = make([]step, 0, usualSteps)
	}
	of.steps = slices.Insert(of.steps, at, s)
	return at + 1
}

// inner is the course of the objects that are a step's value, or elements of it; nil: it has none, or there are too
// many of them.
func (w *walk) inner(s *step, p int) *course {
	if s.inner == nil && w.b.Buf[p]|0x20 == '{' && w.known.courses < courses { // [ is { without a bit
		w.known.courses++
		s.inner = &course{}
	}
	return s.inner
}

// object reads an object; of the pointer's levels it is the one of that number, or -1. The members are those of a
// course, or others.
func (w *walk) object(p int, wanted *trie, depth, level int, of *course) int {
	first, end := len(w.names), w.end
	if of != nil && of.wanted != wanted {
		if len(of.steps) > 0 {
			of = nil // it is another one's
		} else {
			of.wanted = wanted
		}
	}
	every := level >= 0 && w.within[level] == "*"
	rows := level < 0 && wanted != nil && wanted.row != nil // its members are those of a list
	at, strayed := 0, of == nil                             // in the course
	p++
	for opens := true; ; opens = false {
		buf := w.b.Buf
		var name batch.Span
		var below *trie
		var along bool
		var inner *course
		if of != nil && at < len(of.steps) && of.steps[at].lead.at(buf, p, end, opens) {
			s := &of.steps[at]
			name.Off = uint32(p + s.lead.named)
			name.End = name.Off + uint32(len(s.name))
			p = w.skip(p + len(s.lead.text))
			at, below, along, inner = at+1, s.below, s.along, w.inner(s, p)
		} else {
			from := p
			if p = w.skip(p); !opens {
				if p >= end {
					return w.fail(ruleSyntax, p)
				}
				switch buf[p] {
				case ',':
					p = w.skip(p + 1)
				case '}':
					if strayed {
						if at := w.twice(w.names[first:]); at >= 0 {
							return w.fail(ruleTwice, at)
						}
					}
					w.names = w.names[:first]
					return p + 1
				default:
					return w.fail(ruleSyntax, p)
				}
			} else if p < end && buf[p] == '}' {
				w.empty = w.empty || every
				return p + 1
			}
			if p >= end || buf[p] != '"' {
				return w.fail(ruleSyntax, p)
			}
			name.Off = uint32(p + 1)
			step, learnt := -1, false // the member's
			if of != nil {
				step = of.next(buf, p+1, at)
			}
			if step >= 0 {
				s := &of.steps[step]
				at, below, along = step+1, s.below, s.along
				name.End = name.Off + uint32(len(s.name))
				p = int(name.End) + 1
			} else {
				if p = w.str(p, -1); w.failed {
					return end
				}
				if name.End = uint32(p - 1); w.escaped {
					name = w.unescaped(name)
					buf = w.b.Buf
				}
				text := buf[name.Off:name.End]
				below = wanted.named(buf, name)
				along = level >= 0 && (every || w.within[level] == string(text))
				if strayed = true; of != nil && !w.escaped {
					if to := w.learn(of, at, text, below, along); to > at {
						step, at, learnt = at, to, true
					}
				}
			}
			if p < end && buf[p] == ':' {
				p++
			} else if p = w.skip(p) + 1; p > end || buf[p-1] != ':' {
				return w.fail(ruleSyntax, min(p-1, end))
			}
			if p = w.skip(p); step >= 0 {
				s := &of.steps[step]
				if inner = w.inner(s, p); learnt {
					s.lead = newLead(buf[from:p], int(name.Off)-from, opens)
				}
			}
		}
		w.names = append(w.names, name)
		switch {
		case along:
			if below != nil { // somebody wants a part of it by a pointer of its own
				w.value(p, below, depth+1, nil)
			}
			p = w.along(p, level+1, depth+1, every, name, -1, inner)
		case rows:
			if below != nil {
				w.value(p, below, depth+1, nil)
			}
			p = w.element(p, wanted, depth, name, -1, inner)
		case p < end && buf[p] == '"' && depth < MaxDepth:
			slot := -1
			if below != nil {
				slot = below.slot
			}
			// Most strings have nothing special before the quote that ends them.
			i := w.b.Marks.Next(p + 1)
			if i >= end || buf[i] != '"' {
				p = w.str(p, slot)
				break
			}
			if slot >= 0 {
				w.row[slot] = batch.Span{Off: uint32(p + 1), End: uint32(i)}
			}
			p = i + 1
		default:
			p = w.value(p, below, depth+1, inner)
		}
		if w.failed {
			return end
		}
	}
}

// unescaped writes a name behind the text without its escape sequences.
func (w *walk) unescaped(name batch.Span) batch.Span {
	w.b.Buf = binary.LittleEndian.AppendUint32(w.b.Buf, name.Off)
	out := batch.Span{Off: uint32(len(w.b.Buf))}
	w.b.Buf, _ = unquote(w.b.Buf, w.b.Buf[name.Off:name.End])
	out.End = uint32(len(w.b.Buf))
	w.b.Buf = append(w.b.Buf, 0, 0, 0, 0, 0, 0, 0, 0)
	return out
}

// few is up to how many names are compared each with each.
const few = 24

// twice finds a name that stands twice in an object: where, or -1.
func (w *walk) twice(names []batch.Span) int {
	seen, alike := uint64(0), false // names that are alike have one bit
	for _, n := range names {
		bit := uint64(1) << (keyed(w.b.Buf, int(n.Off), int(n.End)) * 0x9E3779B97F4A7C15 >> 58)
		alike, seen = alike || seen&bit != 0, seen|bit
	}
	if !alike {
		return -1
	}
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

func (w *walk) array(p int, wanted *trie, depth, level int, of *course) int {
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
				w.value(p, below, depth+1, nil)
			}
			p = w.along(p, level+1, depth+1, true, batch.Missing, i, of)
		} else if wanted != nil && wanted.row != nil {
			if below != nil {
				w.value(p, below, depth+1, nil)
			}
			p = w.element(p, wanted, depth, batch.Missing, i, of)
		} else {
			p = w.value(p, below, depth+1, of)
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
func (w *walk) element(p int, list *trie, depth int, name batch.Span, place int, of *course) int {
	outer := w.row
	w.row = w.b.Row(list.table, uint32(p))
	for _, slot := range w.Reader.tables[list.table].keys {
		if place >= 0 {
			name = w.numbered(p, place)
		}
		w.row[slot] = name
	}
	p = w.value(p, list.row, depth+1, of)
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

// str reads a string, and where it is wanted gives its text to a slot.
func (w *walk) str(p, slot int) int {
	buf := w.b.Buf
	escaped := false
	i := p + 1
	for ; ; i++ {
		if i = w.b.Marks.Next(i); i >= w.end {
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
		case c >= 0x80:
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
