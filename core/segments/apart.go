package segments

import (
	"bytes"
	"fmt"
	"slices"
	"strconv"
	"sync"

	"ydrion/core/batch"
	"ydrion/core/format"
	"ydrion/core/standard"
	"ydrion/core/text"
)

var _ format.Validator = (*Reader)(nil)

// Survey calls f for the values of a message. Repeated segments and elements are not told apart.
func (r *Reader) Survey(raw []byte, f func(path, value []byte)) {
	s := r.current()
	path, scratch := make([]byte, 0, 32), make([]byte, 0, 256)
	for p := skipLines(raw, 0); p < len(raw); p = skipLines(raw, p) {
		stop := r.segmentEnd(&s, raw, p)
		segment := raw[p:stop]
		p = stop + 1
		n := s.next(segment, 0, s.Element)
		if n < 2 || n > 3 {
			continue
		}
		name := append(append(path[:0], segment[:n]...), '-')
		for at, number := n+1, 1; at <= len(segment); number++ {
			end := s.next(segment, at, s.Element)
			element := segment[at:end]
			at = end + 1
			if len(element) == 0 {
				continue
			}
			numbered := strconv.AppendInt(name, int64(number), 10)
			for len(element) > 0 {
				repetition := element
				element = nil
				if s.Repetition != 0 {
					i := s.next(repetition, 0, s.Repetition)
					element = repetition[min(i+1, len(repetition)):]
					repetition = repetition[:i]
				}
				several := s.next(repetition, 0, s.Component) < len(repetition)
				for c := 1; len(repetition) > 0; c++ {
					i := s.next(repetition, 0, s.Component)
					value := repetition[:i]
					repetition = repetition[min(i+1, len(repetition)):]
					if len(value) == 0 {
						continue
					}
					if s.Release != 0 && bytes.IndexByte(value, s.Release) >= 0 {
						scratch = s.AppendPlain(scratch[:0], value)
						value = scratch
					}
					if several {
						f(strconv.AppendInt(append(numbered, '.'), int64(c), 10), value)
					} else {
						f(numbered, value)
					}
				}
			}
		}
	}
}

// current is the syntax that was met last.
func (r *Reader) current() Syntax {
	all := *r.syntaxes.Load()
	return all[len(all)-1].Syntax
}

// Outline gives the groups, segments, elements and components of a message.
func (r *Reader) Outline(raw []byte) []format.Node {
	if s := r.current(); r.tooMany(&s, raw) {
		return format.Whole(r.Head, raw)
	}
	return r.apart(raw).Outline()
}

// Validate tells where a message differs from the standard's description, if it has one.
func (r *Reader) Validate(raw []byte, say func(format.Difference)) {
	r.validate(format.AsRead, raw, say)
}

func (r *Reader) validate(by int, raw []byte, say func(format.Difference)) {
	if s := r.current(); r.tooMany(&s, raw) {
		say(TooManyRemark(r.Head, max(0, bytes.Index(raw, []byte(r.Head)))))
		return
	}
	k := slabs.Get().(*slab)
	defer k.done()
	s := r.current()
	narrow := s.Narrow && r.Declares // all characters are looked at
	m := r.apartWithin(k, by, s, nil, raw, !narrow)
	if narrow {
		m.narrow(say)
	}
	if m.Structure != nil {
		if len(r.own) == 1 && !m.Book.Closed {
			head := max(0, slices.IndexFunc(m.Segments, func(s Segment) bool { return s.Name == r.Head }))
			say(format.Difference{Code: format.Undescribed, Path: r.Head, At: m.Segments[head].From, Text: "the description that was given has nothing on " + m.Structure.Name + " of " + m.Book.Version + "; the standard's is taken"})
		}
		m.Validate(say)
	}
}

// ValidateAll tells where the messages of a batch differ from their descriptions.
func (r *Reader) ValidateAll(b *batch.Batch, by func(int) int, say func(int, format.Difference)) {
	k := slabs.Get().(*slab)
	defer k.done()
	list, around := messages(b)
	w := newWalk(r, b)
	w.marks.Mark(b.Buf, 0, b.N, w.separators)
	for _, a := range around {
		w.envelope(int(a.Off), int(a.End))
	}
	at := 0
	for i, span := range list {
		w.between(at, int(span.Off))
		at = int(span.End)
		which := by(i)
		if which == format.ByNone {
			continue
		}
		r.judge(k, which, w.s, w.lines, b.Buf[span.Off:span.End], func(d format.Difference) {
			d.At += int(span.Off)
			say(i, d)
		})
	}
}

// judge tells where a message with these separators, which stands within envelopes, differs from what it is described by, or that
// nothing describes it.
func (r *Reader) judge(k *slab, by int, s Syntax, around [][]byte, text []byte, say func(format.Difference)) {
	if r.tooMany(&s, text) {
		say(TooManyRemark(r.Head, 0))
		return
	}
	m := r.apartWithin(k, by, s, around, text, true)
	if m.Structure == nil || by >= 0 && !m.Book.Closed {
		version, kind := r.Names(around, text[:s.end(text, 0)], s)
		say(format.Difference{Code: format.Undescribed, Path: r.Head, Text: fmt.Sprintf("the message is %s of %s, which nothing describes here", orNone(kind), orNone(version))})
		return
	}
	m.Validate(say)
}

// Dictionary gives the description that a message is checked against.
func (r *Reader) Dictionary(raw []byte) *standard.Dictionary { return r.apart(raw).Book }

// apart takes a message apart, with the envelopes that stand around it, as far as it is shown.
func (r *Reader) apart(raw []byte) *Message {
	return r.apartWithin(&slab{most: format.MostParts}, format.AsRead, r.current(), nil, raw, false)
}

// apartWithin is apart for text with these separators that stands within envelopes. The message is
// good until the slab is used again. Segments that can be proved are left as they are, if proves.
func (r *Reader) apartWithin(k *slab, by int, s Syntax, around [][]byte, raw []byte, proves bool) *Message {
	if at := skipLines(raw, 0); at < len(raw) && r.opens(raw[at:]) {
		if own, problem := r.Begin(raw[at:]); problem == "" {
			s = own
		}
	}
	k.begin(r, s, raw)
	m := &Message{Form: r.Form, Dates: r.Dates, Dated: r.Dated, Hierarchy: r.Hierarchy, Last: r.Last, Scratch: &k.Scratch, Proof: &k.proof, Apart: k}
	m.Closed = func(string, string) bool { return m.Book.Closed }
	around = slices.Clone(around)
	filled := 0
	for p := skipLines(raw, 0); p < len(raw) && (k.most == 0 || filled <= k.most); p = skipLines(raw, p) {
		if n := r.adviceSize(&s, raw[p:]); n > 0 {
			p += n
			continue
		}
		stop := r.segmentEnd(&s, raw, p)
		segment := k.segment(p, stop)
		if !proves {
			segment.Values = 0
		}
		if segment.Values == 0 {
			k.Open(&segment)
		}
		level := -1
		if k.heads[raw[p]] {
			level = r.level(raw[p:], &s)
		}
		segment.Outside = level >= 0
		if level >= 0 && level < len(r.Levels) {
			around = append(around[:min(level, len(around))], raw[p:stop])
		}
		if segment.Name == r.Head && m.Structure == nil && m.Book == nil {
			m.Book, m.Structure = r.describe(by, around, raw[p:stop], s)
		}
		if segment.Name != "" {
			k.segments = append(k.segments, segment)
		}
		if k.most > 0 {
			filled += segment.Filled()
		}
		p = stop + 1
	}
	m.Segments = k.segments
	return m
}

// slab is memory for segments, fields and values, of which pieces are taken.
type slab struct {
	Scratch
	segments []Segment
	fields   []Field
	values   []Value
	most     int // filled values are enough; 0: all are wanted
	of       Syntax
	class    [256]class // of the characters in that syntax
	r        *Reader
	raw      []byte // the message
	proof    Proof
	opened   [2]int    // how many fields and values there were before the segment that was opened last
	heads    [256]bool // characters that segments of envelopes begin with
}

// slabs are used again by who is done with a message.
var slabs = sync.Pool{New: func() any { return &slab{} }}

// done lets the slab be used again, unless an uncommon message has made it large.
func (k *slab) done() {
	small := cap(k.values) <= 1<<15 && cap(k.segments) <= 1<<12 && len(k.raw) <= 1<<20 // names of segments hold the text
	if k.r, k.raw, k.proof.Text = nil, nil, ""; small {
		slabs.Put(k)
	}
}

func (r *Reader) tooMany(s *Syntax, raw []byte) bool {
	return TooMany(raw, s.Element, s.Component, s.Repetition, s.Terminator)
}

func (k *slab) begin(r *Reader, s Syntax, raw []byte) {
	k.raw, k.proof.Text = raw, string(raw)
	if k.r != r {
		k.r, k.heads = r, [256]bool{}
		for _, l := range r.Levels {
			k.heads[l.Open[0]], k.heads[l.Close[0]] = true, true
		}
		for _, name := range r.Alone {
			k.heads[name[0]] = true
		}
	}
	k.segments, k.fields, k.values = k.segments[:0], k.fields[:0], k.values[:0]
	if k.of == s {
		return
	}
	k.of, k.class = s, s.classify()
	for c := 0x80; c < 0x100; c++ {
		k.class[c] |= isHigh
	}
	for c, of := range k.class {
		switch of & (isElement | isRepetition | isComponent | isRelease | isHigh) {
		case plain:
			k.proof.Kinds[c] = Ordinary
		case isElement:
			k.proof.Kinds[c] = EndsElement
		case isRepetition:
			k.proof.Kinds[c] = EndsRepetition
		case isComponent:
			k.proof.Kinds[c] = EndsComponent
		default:
			k.proof.Kinds[c] = Changes
		}
	}
}

// cut gives what has been appended since a length, and never more of it.
func cut[T any](of []T, from int) []T { return of[from:len(of):len(of)] }

// segment is the one at p. It can be proved if all its elements are separated as usual.
func (k *slab) segment(p, stop int) Segment {
	out := Segment{From: p, To: stop}
	n, b := 0, k.raw[p:stop]
	for n < min(len(b), 4) && k.class[b[n]] == plain {
		n++
	}
	if n < len(b) && k.class[b[n]]&isElement == 0 {
		n = k.of.next(b, 0, k.of.Element)
	}
	if n < 2 || n > 3 {
		return out
	}
	r := k.r
	out.Name = k.proof.Text[p : p+n]
	if r.Widths[out.Name] == nil && out.Name != r.Levels[0].Open && (r.Binary == nil || r.Binary[out.Name] == 0) {
		out.Values = p + n + 1
	}
	return out
}

// Open takes a segment apart. Its values are pieces of the text.
func (k *slab) Open(out *Segment) {
	if out.Name == "" {
		return
	}
	r, s, raw, whole, p, stop, n := k.r, &k.of, k.raw, k.proof.Text, out.From, out.To, len(out.Name)
	splits := isElement | isRepetition | isComponent
	switch {
	case r.Widths[out.Name] != nil:
		splits = isElement
	case out.Name == r.Levels[0].Open:
		splits &^= isRepetition
	}
	bytesIn := 0 // the element of bytes of a stated length
	if r.Binary != nil && r.binary(s, raw, p) > 0 {
		bytesIn, splits = r.Binary[out.Name]+1, isElement
	}
	firstField := len(k.fields)
	k.opened = [2]int{firstField, len(k.values)}
	for at, element := p+n+1, 1; at <= stop; element++ {
		if element == bytesIn {
			splits = 0
		}
		var few [4]Value
		field := few[:0]
		firstPart, from, part, has := -1, at, at, plain // of the repetition, of its component, and what characters it has
		for i := at; ; i++ {
			c := isElement
			if i < stop {
				if c = k.class[raw[i]] & (splits | isRelease | isHigh); c == plain {
					continue
				}
				if c&(splits&(isElement|isRepetition|isComponent)) == 0 {
					if has |= c; c&isRelease != 0 {
						i = min(i+1, stop-1)
					}
					continue
				}
			}
			if c&isComponent != 0 || firstPart >= 0 {
				if firstPart < 0 {
					firstPart = len(k.values)
				}
				k.values = append(k.values, Value{From: part, To: i, Text: r.plain(s, whole[part:i], has)})
				part, has = i+1, plain
			}
			if c&isComponent != 0 {
				continue
			}
			v := Value{From: from, To: i}
			if firstPart >= 0 {
				v.Parts = cut(k.values, firstPart)
			} else {
				v.Text = r.plain(s, whole[from:i], has)
			}
			field = append(field, v)
			firstPart, from, part, has = -1, i+1, i+1, plain
			if c&isElement != 0 {
				at = i + 1
				break
			}
		}
		first := len(k.values)
		k.values = append(k.values, field...)
		k.fields = append(k.fields, cut(k.values, first))
	}
	out.Fields = cut(k.fields, firstField)
}

// Close lets the memory for the segment that was opened last go.
func (k *slab) Close(s *Segment) {
	s.Fields, k.fields, k.values = nil, k.fields[:k.opened[0]], k.values[:k.opened[1]]
}

// plain is a value undone of release characters and of its character set, if it has such characters.
func (r *Reader) plain(s *Syntax, v string, has class) string {
	ascii := has&isHigh == 0 || !r.declared || s.Set == "" || s.Set == text.UTF8
	if ascii && has&isRelease == 0 {
		return v
	}
	b := []byte(v)
	if !ascii {
		if decoded, err := text.DecodeAll(b, s.Set); err == nil {
			b = decoded
		}
	}
	return string(s.AppendPlain(nil, b))
}
