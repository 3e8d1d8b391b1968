package hl7

import (
	"bytes"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/format"
	"ydrion/core/segments"
	"ydrion/core/standard"
	"ydrion/core/text"
	"ydrion/core/value"
)

// Outline gives the groups, segments, fields and components of a message, with what its
// version of the standard says of them.
func (r *Reader) Outline(raw []byte) []format.Node {
	return shown(&taker{own: r.own, by: format.AsRead, decoded: !r.declared, most: format.MostParts}, raw)
}

// Outline gives the parts of a message.
func Outline(raw []byte) []format.Node {
	return shown(&taker{by: format.AsRead, most: format.MostParts}, raw)
}

func shown(t *taker, raw []byte) []format.Node {
	if tooMany(raw) {
		return format.Whole("MSH", raw)
	}
	m, problem := apart(t, raw, false)
	if problem != "" {
		return format.Whole("", raw)
	}
	return m.Outline()
}

// Show gives all values of a message.
func Show(record []byte) []format.Line { return format.Lines(Outline(record)) }

var _ format.Validator = (*Reader)(nil)

// Validate tells where a message differs from its version of the standard.
func (r *Reader) Validate(raw []byte, say func(format.Difference)) {
	t := takers.Get().(*taker)
	defer t.done()
	t.own, t.by, t.decoded = r.own, format.AsRead, !r.declared
	if tooMany(raw) {
		say(segments.TooManyRemark("MSH", 0))
		return
	}
	if m, problem := apart(t, raw, true); problem == "" {
		if header := &m.Segments[0]; t.first(header, 12)[0] == "" {
			if t.Open(header); header.Value(12) == "" {
				say(unversioned(0))
			}
		}
		m.Validate(say)
	}
}

// ValidateAll tells where the messages of a batch differ from their version of the standard.
func (r *Reader) ValidateAll(b *batch.Batch, by func(int) int, say func(int, format.Difference)) {
	t := takers.Get().(*taker)
	defer t.done()
	t.own, t.by, t.decoded = r.own, format.AsRead, !r.declared
	for i, span := range b.Messages {
		if t.by = by(i); t.by == format.ByNone {
			continue
		}
		t.judge(b.Buf[span.Off:span.End], func(d format.Difference) {
			d.At += int(span.Off)
			say(i, d)
		})
	}
}

// validated tells where a message that was made differs from a description of one's own or, without one, from its version of
// the standard. It is in UTF-8 (decoded), or in its own character set.
func validated(own []*standard.Catalog, decoded bool, message []byte, say func(format.Difference)) {
	t := takers.Get().(*taker)
	defer t.done()
	if t.own, t.by, t.decoded = own, format.ByStandard, decoded; own != nil {
		t.by = 0
	}
	t.judge(message, say)
}

// judge tells where a message differs from what it is described by, or that nothing describes it.
func (t *taker) judge(raw []byte, say func(format.Difference)) {
	if tooMany(raw) {
		say(segments.TooManyRemark("MSH", 0))
		return
	}
	m, problem := apart(t, raw, true)
	if problem != "" {
		return // its syntax says so
	}
	if m.Structure != nil {
		m.Validate(say)
		return
	}
	header := &m.Segments[0]
	t.Open(header)
	kind, version := strconv.Quote(finding.Shorten([]byte(header.Value(9)))), header.Value(12)
	switch {
	case version == "":
		say(unversioned(0))
	case t.by >= 0:
		say(format.Difference{Code: format.Undescribed, Path: "MSH-9", Text: fmt.Sprintf("the description has nothing on messages %s of version %s", kind, version)})
	default:
		say(format.Difference{Code: format.Undescribed, Path: "MSH-9", Text: fmt.Sprintf("the standard has no structure for a message %s", kind)})
	}
}

// unversioned is the remark of a message that does not say of which version it is.
func unversioned(at int) format.Difference {
	return format.Difference{Code: "standard.required", Path: "MSH-12", At: at, Text: "MSH-12 is empty: it must say which version the message is of"}
}

// Dictionary gives the description that a message is checked against: its first segment says which.
func (r *Reader) Dictionary(raw []byte) *standard.Dictionary {
	if i := bytes.IndexAny(raw, "\r\n"); i >= 0 {
		raw = raw[:i]
	}
	if m, problem := apart(&taker{own: r.own, by: format.AsRead, decoded: !r.declared}, raw, false); problem == "" {
		return m.Book
	}
	return nil
}

// apart takes a message apart. It is good until the taker is used again. Segments that can be proved are left as they are, if proves.
func apart(t *taker, raw []byte, proves bool) (*segments.Message, string) {
	sep, problem := separators(raw)
	if problem != "" {
		return nil, problem
	}
	t.begin(raw, sep, proves)
	terminator := terminatorOf(raw)
	first, _, _ := bytes.Cut(raw, []byte{terminator})
	if set, ok := declaredCharset(first, sep); ok && !t.decoded && set != "" && set != text.UTF8 {
		t.charset = set
		if set.Wide() {
			t.scan = bytes.Clone(raw)
			set.Mask(t.scan)
		}
	}
	m := &segments.Message{Typed: typed, Form: wellFormed, Closed: closed, Local: func(name string) bool { return name[0] == 'Z' || name == "ADD" }, Scratch: &t.Scratch, Proof: &t.proof, Apart: t}
	filled := 0
	for p := 0; p < len(raw) && (t.most == 0 || filled <= t.most); {
		for p < len(raw) && between(raw[p]) {
			p++
		}
		from := p
		stop, next := segmentEnd(raw, p, terminator)
		if stop-from >= 3 && nameAt(raw, from) && (stop-from == 3 || raw[from+3] == sep.Field) {
			s := segments.Segment{Name: t.proof.Text[from : from+3], From: from, To: stop}
			if proves && t.charset == "" {
				if s.Values, s.Before = t.values(&s); s.Values == from+len("MSH||") && s.Before > 0 {
					s.Values = 0 // no separators are said
				}
			}
			if s.Values == 0 {
				t.Open(&s)
			}
			s.Outside = s.Name == "FHS" || s.Name == "BHS" || s.Name == "BTS" || s.Name == "FTS"
			if s.Partial = s.Name == "ADD"; s.Partial && len(t.segments) > 0 {
				t.segments[len(t.segments)-1].Partial = true
			}
			t.segments = append(t.segments, s)
			if t.most > 0 {
				filled += s.Filled()
			}
		}
		p = next
	}
	m.Segments = t.segments
	kind := t.first(&t.segments[0], 9)
	m.Book, m.Structure = described(t.own, t.by, t.first(&t.segments[0], 12)[0], kind[0], kind[1], kind[2])
	return m, ""
}

// first gives the first components of a field, in its first repetition.
func (t *taker) first(s *segments.Segment, field int) (parts [3]string) {
	if s.Fields == nil {
		text, plain := t.field(s, field)
		if plain {
			for i := range parts {
				parts[i], text, _ = strings.Cut(text, t.between)
			}
			return parts
		}
		t.Open(s)
	}
	if len(s.Fields) < field || len(s.Fields[field-1]) == 0 {
		return parts
	}
	v := s.Fields[field-1][0]
	parts[0] = v.Text
	for i := range min(len(v.Parts), len(parts)) {
		parts[i] = v.Parts[i].Text
	}
	return parts
}

// field gives the text of a field of a segment that is not taken apart; it is not plain if it has more than components.
func (t *taker) field(s *segments.Segment, field int) (text string, plain bool) {
	at, before := t.values(s)
	for n := before + 1; at <= s.To; n++ {
		end := t.end(at, s.To, t.sep.Field)
		if n == field {
			for i := at; i < end; i++ {
				if t.proof.Kinds[t.raw[i]]&^segments.EndsComponent != segments.Ordinary {
					return "", false
				}
			}
			return t.proof.Text[at:end], true
		}
		at = end + 1
	}
	return "", true
}

// taker takes segments apart.
type taker struct {
	segments.Scratch
	proof     segments.Proof // its text is the same as raw: values are pieces of it
	raw, scan []byte         // scan has no separators within characters of several bytes
	sep       Separators
	charset   text.Charset
	all       []segments.Value // of all segments: theirs are pieces of it
	fields    []segments.Field
	segments  []segments.Segment
	opened    [2]int              // how many fields and values there were before the segment that was opened last
	own       []*standard.Catalog // see Source
	by        int                 // what the message is described by
	decoded   bool                // the text is UTF-8, whatever MSH-18 says
	most      int                 // filled values are enough; 0: all are wanted
	between   string              // components: their separator
	odd       [256]bool           // characters that say that a field is not a plain text
}

// takers are used again by who is done with a message.
var takers = sync.Pool{New: func() any { return &taker{} }}

// done lets the taker be used again, unless an uncommon message has made it large.
func (t *taker) done() {
	small := cap(t.all) <= 1<<15 && cap(t.segments) <= 1<<12 && len(t.raw) <= 1<<20 // names of segments hold the text
	if t.raw, t.scan, t.proof.Text = nil, nil, ""; small {
		takers.Put(t)
	}
}

func tooMany(raw []byte) bool {
	s, problem := separators(raw)
	return problem == "" && segments.TooMany(raw, s.Field, s.Component, s.Repetition, s.Subcomponent, '\r', '\n')
}

func (t *taker) begin(raw []byte, sep Separators, proves bool) {
	if t.sep != sep {
		t.proof.Kinds = [256]segments.Kind{}
		for c := 0x80; c < 0x100; c++ {
			t.proof.Kinds[c] = segments.Changes
		}
		t.proof.Kinds[sep.Field], t.proof.Kinds[sep.Repetition], t.proof.Kinds[sep.Component] = segments.EndsElement, segments.EndsRepetition, segments.EndsComponent
		t.proof.Kinds[sep.Subcomponent], t.proof.Kinds[sep.Escape] = segments.EndsSub, segments.Changes
		t.between = string([]byte{sep.Component})
		t.odd = [256]bool{}
		for _, c := range []byte{sep.Component, sep.Repetition, sep.Subcomponent, sep.Escape} {
			t.odd[c] = true
		}
	}
	t.raw, t.scan, t.sep, t.proof.Text, t.charset = raw, raw, sep, string(raw), ""
	t.all, t.fields, t.segments = t.all[:0], t.fields[:0], t.segments[:0]
	if len(raw) > segments.Long && t.most == 0 {
		lines, fields := segments.Count(raw, '\r', '\n'), segments.Count(raw, sep.Field)
		if t.segments = slices.Grow(t.segments, lines+1); proves { // most are not taken apart
			return
		}
		t.fields = slices.Grow(t.fields, lines+fields+2)
		t.all = slices.Grow(t.all, lines+fields+segments.Count(raw, sep.Component, sep.Repetition, sep.Subcomponent)*5/4+2)
	}
}

// values is where the fields of a segment begin behind those that are the separators themselves, and how many those are.
func (t *taker) values(s *segments.Segment) (at, before int) {
	at = s.From + 4
	if s.Name != "MSH" && s.Name != "FHS" && s.Name != "BHS" {
		return at, 0
	}
	for at < s.To && t.raw[at] != t.sep.Field {
		at++
	}
	return at + 1, 2
}

// Open takes a segment apart.
func (t *taker) Open(s *segments.Segment) {
	at, before := t.values(s)
	stop := s.To
	if s.Fields = nil; before > 0 {
		s.Fields = append(s.Fields, segments.Field{{From: s.From + 3, To: s.From + 4, Syntax: true}}, segments.Field{{From: s.From + 4, To: at - 1, Syntax: true}})
	}
	first := len(t.fields)
	t.opened = [2]int{first, len(t.all)}
	t.fields = append(t.fields, s.Fields...)
	for at <= stop {
		end, plain := at, t.charset == ""
		for end < stop && t.scan[end] != t.sep.Field {
			plain = plain && !t.odd[t.scan[end]]
			end++
		}
		if plain {
			n := len(t.all)
			t.all = append(t.all, segments.Value{From: at, To: end, Text: t.proof.Text[at:end]})
			t.fields = append(t.fields, t.all[n:len(t.all):len(t.all)])
			at = end + 1
			continue
		}
		var few [4]segments.Value
		field := few[:0]
		for from := at; from <= end; {
			to := t.end(from, end, t.sep.Repetition)
			field = append(field, t.repetition(from, to))
			from = to + 1
		}
		n := len(t.all)
		t.all = append(t.all, field...)
		t.fields = append(t.fields, t.all[n:len(t.all):len(t.all)])
		at = end + 1
	}
	s.Fields = t.fields[first:len(t.fields):len(t.fields)]
}

// Close lets the memory for the segment that was opened last go.
func (t *taker) Close(s *segments.Segment) {
	s.Fields, t.fields, t.all = nil, t.fields[:t.opened[0]], t.all[:t.opened[1]]
}

func (t *taker) end(from, stop int, c byte) int {
	if i := bytes.IndexByte(t.scan[from:stop], c); i >= 0 {
		return from + i
	}
	return stop
}

// repetition takes a repetition of a field apart, into components and those into
// subcomponents.
func (t *taker) repetition(from, to int) segments.Value {
	piece := t.scan[from:to]
	components := bytes.IndexByte(piece, t.sep.Component) >= 0
	if !components && bytes.IndexByte(piece, t.sep.Subcomponent) < 0 {
		return t.leaf(from, to)
	}
	var few [8]segments.Value
	parts := few[:0]
	for at := from; at <= to; {
		end := t.end(at, to, t.sep.Component)
		parts = append(parts, t.component(at, end))
		at = end + 1
	}
	n := len(t.all)
	t.all = append(t.all, parts...)
	return segments.Value{From: from, To: to, Parts: t.all[n:len(t.all):len(t.all)]}
}

func (t *taker) component(from, to int) segments.Value {
	if bytes.IndexByte(t.scan[from:to], t.sep.Subcomponent) < 0 {
		return t.leaf(from, to)
	}
	n := len(t.all)
	for at := from; at <= to; {
		end := t.end(at, to, t.sep.Subcomponent)
		t.all = append(t.all, t.leaf(at, end))
		at = end + 1
	}
	return segments.Value{From: from, To: to, Parts: t.all[n:len(t.all):len(t.all)]}
}

// leaf is a value without parts: decoded, its escape sequences undone.
func (t *taker) leaf(from, to int) segments.Value {
	v := segments.Value{From: from, To: to}
	if t.charset == "" && strings.IndexByte(t.proof.Text[from:to], t.sep.Escape) < 0 {
		v.Text = t.proof.Text[from:to]
		return v
	}
	value := t.raw[from:to]
	if t.charset != "" {
		if decoded, err := text.DecodeAll(value, t.charset); err == nil {
			value = decoded
		}
	}
	v.Text = t.sep.Unescape(string(value))
	return v
}

// typed gives the field of a segment that another one types: OBX-5 by OBX-2 (7.4.2), MFE-4 by MFE-5 (8.5.3).
func typed(segment string) (field, by int) {
	switch segment {
	case "OBX":
		return 5, 2
	case "MFE":
		return 4, 5
	}
	return 0, 0
}

// wellFormed checks a text against a simple data type (2A, 2.8 before 2.5).
func wellFormed(kind, s string) string {
	switch kind {
	case "NM":
		signs, digits, points := 0, 0, 0
		for i := range len(s) {
			switch c := s[i]; {
			case c-'0' <= 9:
				digits++
			case c == '.':
				points++
			case (c == '+' || c == '-') && i == 0:
				signs++
			default:
				signs = 2
			}
		}
		if signs > 1 || points > 1 || digits == 0 {
			return "a number is digits, with a point and a sign where needed"
		}
	case "SI":
		if !value.OnlyDigits(s) {
			return "a sequence number is digits"
		}
	case "DT":
		return moment(s, "", 4, 6, 8)
	case "TM":
		return moment("00000000"+s, s, 10, 12, 14)
	case "TS", "DTM":
		return moment(s, "", 4, 6, 8, 10, 12, 14)
	}
	return ""
}

// closed tells whether a table is the standard's own: type ID has such tables, IS those of
// sites. Coding systems are registered without end.
func closed(kind, table string) bool { return kind == "ID" && table != "0396" }

// moment checks a text against YYYY[MM[DD[HH[MM[SS[.S]]]]]][+/-ZZZZ].
func moment(s, shown string, lengths ...int) string {
	bad := func(why string) string {
		return why + ": it is written " + map[bool]string{true: "HHMMSS", false: "YYYYMMDDHHMMSS"}[shown != ""] + ", short of as much at its end as is not known"
	}
	digits := s
	if i := strings.IndexAny(s, "+-"); i >= 0 {
		digits = s[:i]
		if zone := s[i+1:]; len(zone) != 4 || !value.OnlyDigits(zone) {
			return "the offset from UTC is written +HHMM"
		}
	}
	whole, fraction, fractions := strings.Cut(digits, ".")
	if !value.OnlyDigits(whole) || !value.OnlyDigits(fraction) || fractions && (len(whole) != 14 || fraction == "") {
		return bad("there are characters that are not digits")
	}
	fits := false
	for _, n := range lengths {
		fits = fits || len(whole) == n
	}
	if !fits {
		return bad(fmt.Sprintf("%d digits", len(whole)-8*min(len(shown), 1)))
	}
	for _, part := range []struct {
		at, low, high int
		name          string
	}{{4, 1, 12, "month"}, {6, 1, 31, "day"}, {8, 0, 23, "hour"}, {10, 0, 59, "minute"}, {12, 0, 59, "second"}} {
		if len(whole) < part.at+2 || shown != "" && part.at < 8 {
			continue
		}
		if n := int(whole[part.at]-'0')*10 + int(whole[part.at+1]-'0'); n < part.low || n > part.high {
			return fmt.Sprintf("there is no %s %02d", part.name, n)
		}
	}
	if shown == "" && len(whole) >= 8 && !value.IsDate(whole[:8]) {
		return "there is no such day"
	}
	return ""
}
