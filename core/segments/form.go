package segments

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"ydrion/core/batch"
	"ydrion/core/text"
)

// Segments in JSON are an object for each message, and one for what stands between two:
//
//	{"separators": {"element": "+", "component": ":", "release": "?", "terminator": "'"}, "advice": ".",
//	 "segments": [["UNB", ["UNOC", "3"], "SKERRY", "TIDE", ["261125", "0930"], "IC7"]]}
//	{"segments": [["UNH", "1", ["ORDERS", "D", "96A", "UN"]], ["BGM", "220", "PO1", "9"]]}
//
// The element n of a segment is its element n; one that holds nothing is null. A composite is a list
// of its components. An element that repeats is {"repeat": [element, …]}. Texts are undone
// of release characters; one that would not be written back as it stands is {"raw": "…"}.
//
// Where an interchange begins there are its separators, and with UNA its decimal mark as advice.
// What stands behind each terminator is the member ends. Counts, and numbers that are null, are computed
// when this is written back: those of closing segments, messages, groups and levels of a
// hierarchy; that of an interchange is handed in.

// Piece is a part of a batch's text: a message, or the segments between two.
type Piece struct {
	Raw     []byte
	Message int    // the record, -1: the segments between two
	Begins  bool   // an interchange begins in it
	Behind  []byte // line ends that follow it
}

// Pieces gives the text of a batch in its order.
func (r *Reader) Pieces(b *batch.Batch, take func(Piece)) {
	list, _ := messages(b)
	at := 0
	s := r.syntax(b.Base)
	between := func(end int) {
		from := skipLines(b.Buf[:end], at)
		give := func(to int) {
			if from < to {
				take(Piece{b.Buf[from:to], -1, r.opens(b.Buf[from:to]) || bytes.Contains(b.Buf[from:to], []byte(r.Levels[0].Open)), nil})
			}
			from = to
		}
		for p := from; p < end; p = skipLines(b.Buf[:end], p) {
			n := r.adviceSize(&s, b.Buf[p:end])
			if n > 0 { // the next interchange says again what separates
				give(p)
				p += n
				continue
			}
			p = min(r.segmentEnd(&s, b.Buf[:end], p)+1, end)
		}
		give(end)
	}
	for i, m := range list {
		between(int(m.Off))
		take(Piece{b.Buf[m.Off:m.End], i, false, b.Buf[m.End:skipLines(b.Buf[:b.N], int(m.End))]})
		at = int(m.End)
	}
	between(b.N)
}

// AppendJSON writes a piece of a batch in this form.
func (r *Reader) AppendJSON(out []byte, b *batch.Batch, p Piece) ([]byte, error) {
	s := r.syntax(b.Base)
	raw := p.Raw
	if set := s.Set; r.declared && set != "" && set != text.UTF8 && !text.IsASCII(raw) {
		decoded, err := text.DecodeAll(raw, set)
		if err != nil {
			return out, err
		}
		raw = decoded
	} else if i := text.FirstInvalid(raw); i >= 0 {
		return out, fmt.Errorf("byte %02X is not a text", raw[i])
	}
	out = append(out, '{')
	at := 0
	if p.Begins {
		out = append(out, `"separators":{`...)
		for i, c := range []byte{s.Element, s.Component, s.Repetition, s.Release, s.Terminator} {
			if c != 0 {
				out = append(out, '"')
				out = append(append(out, separatorNames[i]...), `":`...)
				out = append(text.JSON.Append(out, []byte{c}), ',')
			}
		}
		out = append(out[:len(out)-1], "},"...)
		if bytes.HasPrefix(raw, []byte("UNA")) && s.Size > 0 {
			out = append(text.JSON.Append(append(out, `"advice":`...), []byte{s.Decimal}), ',')
			at = s.Size
		}
	}
	first := s.end(raw, skipLines(raw, at)) + 1
	if end := skipLines(raw, min(first, len(raw))); end > first {
		out = append(text.JSON.Append(append(out, `"ends":`...), raw[first:end]), ',')
	} else if p.Behind != nil {
		out = append(text.JSON.Append(append(out, `"ends":`...), p.Behind), ',')
	}
	out = append(out, `"segments":[`...)
	n, classes := 0, s.classify()
	for at = skipLines(raw, at); at < len(raw); at = skipLines(raw, at) {
		stop := r.segmentEnd(&s, raw, at)
		if n++; n > 1 {
			out = append(out, ',')
		}
		var err error
		if out, err = r.appendSegment(out, &s, &classes, raw[at:stop]); err != nil {
			return out, err
		}
		at = stop + 1
	}
	return append(out, ']', '}'), nil
}

var separatorNames = [...]string{"element", "component", "repetition", "release", "terminator"}

func (r *Reader) appendSegment(out []byte, s *Syntax, classes *[256]class, segment []byte) ([]byte, error) {
	n := s.next(segment, 0, s.Element)
	if n < 2 || n > 3 || !upper(segment[:n]) {
		return out, fmt.Errorf("%.40q is not a segment", segment)
	}
	out = text.JSON.Append(append(out, '['), segment[:n])
	header := string(segment[:n]) == "ISA"
	binaryEnd := 0
	if r.Binary != nil {
		binaryEnd = r.Binary[string(segment[:n])]
	}
	for at, element := n+1, 1; at <= len(segment); element++ {
		end, has := at, plain
		for end < len(segment) {
			c := classes[segment[end]]
			if c&isElement != 0 {
				break
			}
			has |= c
			if end++; c&isRelease != 0 && end < len(segment) {
				has |= classes[segment[end]] & quotable
				end++
			}
		}
		if binaryEnd > 0 && element > binaryEnd {
			end = len(segment)
		}
		out = append(out, ',')
		value := segment[at:end]
		switch {
		case len(value) == 0:
			out = append(out, "null"...)
		case header || binaryEnd > 0 && element > binaryEnd:
			out = text.JSON.Append(out, value)
		default:
			out = s.appendElement(out, value, has)
		}
		at = end + 1
	}
	return append(out, ']'), nil
}

// quotable are the characters of a text that JSON does not take as they are.
const quotable class = 1 << 7

// classify gives the classes of characters for writing JSON.
func (s *Syntax) classify() (classes [256]class) {
	for c := range 0x20 {
		classes[c] = quotable
	}
	classes['"'], classes['\\'] = quotable, quotable
	classes[s.Element] |= isElement
	classes[s.Component] |= isComponent
	if s.Repetition != 0 {
		classes[s.Repetition] |= isRepetition
	}
	if s.Release != 0 {
		classes[s.Release] |= isRelease
	}
	return classes
}

// appendElement writes an element whose characters have these classes together.
func (s *Syntax) appendElement(out, value []byte, has class) []byte {
	if has&isRepetition != 0 {
		if i := s.next(value, 0, s.Repetition); i < len(value) {
			out = append(out, `{"repeat":[`...)
			for {
				out = s.appendComposite(out, value[:i], has)
				if i == len(value) {
					return append(out, "]}"...)
				}
				out, value = append(out, ','), value[i+1:]
				i = s.next(value, 0, s.Repetition)
			}
		}
	}
	return s.appendComposite(out, value, has)
}

func (s *Syntax) appendComposite(out, value []byte, has class) []byte {
	if has&isComponent == 0 {
		return s.appendText(out, value, has)
	}
	i := s.next(value, 0, s.Component)
	if i == len(value) {
		return s.appendText(out, value, has)
	}
	out = append(out, '[')
	for {
		out = s.appendText(out, value[:i], has)
		if i == len(value) {
			return append(out, ']')
		}
		out, value = append(out, ','), value[i+1:]
		i = s.next(value, 0, s.Component)
	}
}

func (s *Syntax) appendText(out, value []byte, has class) []byte {
	if len(value) == 0 {
		return append(out, "null"...)
	}
	if has&isRelease != 0 && bytes.IndexByte(value, s.Release) >= 0 {
		plain := s.AppendPlain(nil, value)
		if !bytes.Equal(s.appendReleased(nil, plain), value) {
			return append(text.JSON.Append(append(out, `{"raw":`...), value), '}')
		}
		value = plain
	}
	if has&quotable != 0 {
		return text.JSON.Append(out, value)
	}
	return append(append(append(out, '"'), value...), '"')
}

// special tells whether a character separates something.
func (s *Syntax) special(c byte) bool {
	return c == s.Element || c == s.Component || c == s.Terminator || s.Repetition != 0 && c == s.Repetition || s.Release != 0 && c == s.Release
}

// appendReleased writes a text with the release character before what would separate.
func (s *Syntax) appendReleased(out, value []byte) []byte {
	for _, c := range value {
		if s.special(c) {
			out = append(out, s.Release)
		}
		out = append(out, c)
	}
	return out
}

// Writer writes interchanges from their form in JSON.
type Writer struct {
	Rules *Rules
	// Number is handed in for the first interchange that has none; those that follow count on. 0: an
	// interchange without a number cannot be written.
	Number int64
	// Canonical writes the usual separators, no line ends, and nothing behind the last value of a
	// segment or composite.
	Canonical bool

	syntax           Syntax
	said             Syntax // as the form has it
	levels           int    // of a hierarchy
	failed           bool   // the interchange could not be begun
	ends             []byte
	around           [][]string // of the segments that have opened each level: name and elements
	groups, messages []int
}

// object is a piece in JSON.
type object struct {
	Separators *struct{ Element, Component, Repetition, Release, Terminator string } `json:"separators"`
	Advice     *string                                                               `json:"advice"`
	Ends       string                                                                `json:"ends"`
	Segments   [][]json.RawMessage                                                   `json:"segments"`
}

// Append writes a piece. An error says what cannot be written; nothing of it is then.
func (w *Writer) Append(out, piece []byte) ([]byte, error) {
	before, groups, messages := len(out), slices.Clone(w.groups), slices.Clone(w.messages)
	out, begins, err := w.append(out, piece)
	if begins {
		w.failed = err != nil
	}
	if err != nil {
		w.groups, w.messages = groups, messages
		return out[:before], err
	}
	return out, nil
}

// append tells whether an interchange begins in the piece.
func (w *Writer) append(out, piece []byte) (written []byte, begins bool, err error) {
	d := json.NewDecoder(bytes.NewReader(piece))
	d.DisallowUnknownFields()
	var o object
	if err := d.Decode(&o); err != nil {
		return out, begins, err
	}
	if w.groups == nil {
		n := len(w.Rules.Levels)
		w.groups, w.messages, w.around = make([]int, n), make([]int, n), make([][]string, n)
	}
	if begins = o.Separators != nil; !begins && w.failed {
		return out, begins, fmt.Errorf("its interchange could not be begun")
	}
	if p := o.Separators; p != nil {
		s := Syntax{Set: text.UTF8}
		for _, c := range []struct {
			text string
			into *byte
		}{{p.Element, &s.Element}, {p.Component, &s.Component}, {p.Repetition, &s.Repetition}, {p.Release, &s.Release}, {p.Terminator, &s.Terminator}} {
			switch len(c.text) {
			case 0:
			case 1:
				*c.into = c.text[0]
			default:
				return out, begins, fmt.Errorf("%q is not a single separator", c.text)
			}
		}
		if s.Element == 0 || s.Component == 0 || s.Terminator == 0 {
			return out, begins, fmt.Errorf("the separators of elements and components and the terminator must be given")
		}
		w.syntax, w.said = s, s
		if w.Canonical {
			w.syntax = w.Rules.Usual
			if s.Repetition == 0 {
				w.syntax.Repetition = 0
			}
			w.syntax.Set = s.Set
		}
	}
	if w.syntax.Element == 0 {
		return out, begins, fmt.Errorf("the first object does not say which separators there are")
	}
	w.ends = []byte(o.Ends)
	s := &w.syntax
	if w.Canonical {
		w.ends = nil
		if o.Advice != nil && *o.Advice == "." {
			o.Advice = nil
		}
	}
	if o.Advice != nil && len(*o.Advice) == 1 {
		or := func(c byte) byte {
			if c == 0 {
				return ' '
			}
			return c
		}
		out = append(out, 'U', 'N', 'A', s.Component, s.Element, (*o.Advice)[0], or(s.Release), or(s.Repetition), s.Terminator)
		out = append(out, w.ends...)
	}
	begun := len(out)
	var head []string
	for i, segment := range o.Segments {
		elements, err := w.elements(segment)
		if err != nil {
			return out, begins, fmt.Errorf("segment %d: %w", i+1, err)
		}
		if elements[0] == w.Rules.Head {
			w.levels = 0
			for k := range w.messages {
				w.messages[k]++
			}
			elements = w.numbered(elements, w.Rules.HeadNumber, func() (string, error) { return fmt.Sprintf("%0*d", w.Rules.HeadDigits, w.messages[0]), nil }, &err)
			head = elements
		}
		if elements[0] == w.Rules.Hierarchy {
			w.levels++
			elements = w.numbered(elements, 1, func() (string, error) { return strconv.Itoa(w.levels), nil }, &err)
		}
		if elements[0] == w.Rules.Tail {
			elements = w.closing(elements, i+1, head, w.Rules.HeadNumber)
		}
		for k, l := range w.Rules.Levels {
			switch elements[0] {
			case l.Open:
				elements = w.numbered(elements, l.Number, func() (string, error) { return w.number(k) }, &err)
				if err != nil {
					return out, begins, fmt.Errorf("segment %d: %w", i+1, err)
				}
				elements = w.separating(elements)
				w.around[k] = elements
				for n := k; n < len(w.groups); n++ {
					w.groups[n], w.messages[n] = 0, 0
				}
				if k == 0 && w.Rules.Declares {
					if err := w.declared(elements); err != nil {
						return out, begins, err
					}
				}
			case l.Close:
				count := w.messages[k]
				if w.groups[k] > 0 {
					count = w.groups[k]
				}
				elements = w.closing(elements, count, w.around[k], l.Number)
				if k > 0 {
					w.groups[k-1]++
				}
			}
		}
		if w.Canonical && w.Rules.Widths[elements[0]] == nil {
			for len(elements) > 1 && elements[len(elements)-1] == "" {
				elements = elements[:len(elements)-1]
			}
		}
		for n, e := range elements {
			if n > 0 {
				out = append(out, s.Element)
			}
			out = append(out, e...)
		}
		out = append(append(out, s.Terminator), w.ends...)
	}
	if w.syntax.Set != text.UTF8 && !text.IsASCII(out[begun:]) {
		set := w.syntax.Set
		if set == "" {
			return out[:begun], begins, fmt.Errorf("the repertoire that UNB names has no characters beyond ASCII")
		}
		encoded, err := text.Encode(out[begun:], set)
		if err != nil {
			return out[:begun], begins, err
		}
		out = append(out[:begun], encoded...)
	}
	return out, begins, nil
}

// numbered fills in an element that has no number.
func (w *Writer) numbered(elements []string, at int, number func() (string, error), failed *error) []string {
	for len(elements) <= at {
		elements = append(slices.Clone(elements), "")
	}
	if strings.TrimSpace(elements[at]) == "" {
		elements[at], *failed = number()
	}
	return elements
}

// number gives the number of a level that has none: the one handed in, or that of the level
// around it.
func (w *Writer) number(level int) (string, error) {
	l := w.Rules.Levels[level]
	if level > 0 && w.around[level-1] != nil {
		return strings.TrimLeft(w.around[level-1][w.Rules.Levels[level-1].Number], "0"), nil
	}
	if w.Number == 0 {
		return "", fmt.Errorf("%s-%d: the interchange has no number, and none was handed in", l.Open, l.Number)
	}
	number := strconv.FormatInt(w.Number, 10)
	w.Number++
	if widths := w.Rules.Widths[l.Open]; widths != nil {
		number = fmt.Sprintf("%0*s", widths[l.Number-1], number)
		if len(number) > widths[l.Number-1] {
			return "", fmt.Errorf("%s-%d: %s has more than %d digits", l.Open, l.Number, number, widths[l.Number-1])
		}
	}
	return number, nil
}

// separating lets elements that say what separates say so.
func (w *Writer) separating(elements []string) []string {
	if !w.Canonical {
		return elements
	}
	for _, n := range w.Rules.Separating[elements[0]] {
		for _, c := range [][2]byte{{w.said.Component, w.syntax.Component}, {w.said.Repetition, w.syntax.Repetition}} {
			if n < len(elements) && c[0] != 0 && elements[n] == string(c[0]) {
				elements[n] = string(c[1])
				break
			}
		}
	}
	return elements
}

// declared takes the character set that an interchange says it is in.
func (w *Writer) declared(elements []string) error {
	var header []byte
	for n, e := range elements {
		if n > 0 {
			header = append(header, w.syntax.Element)
		}
		header = append(header, e...)
	}
	header = append(header, w.syntax.Terminator)
	advice := []byte{'U', 'N', 'A', w.syntax.Component, w.syntax.Element, '.', max(w.syntax.Release, ' '), max(w.syntax.Repetition, ' '), w.syntax.Terminator}
	s, problem := w.Rules.Begin(append(advice, header...))
	if problem != "" {
		return fmt.Errorf("%s", problem)
	}
	w.syntax.Set = s.Set
	return nil
}

// closing fills in the count and the number of a closing segment where they are empty.
func (w *Writer) closing(elements []string, count int, open []string, number int) []string {
	for len(elements) < 3 {
		elements = append(slices.Clone(elements), "")
	}
	if elements[1] == "" || w.Canonical {
		elements[1] = strconv.Itoa(count)
	}
	if elements[2] == "" && number < len(open) {
		elements[2] = open[number]
	}
	return elements
}

// elements gives the name of a segment and its elements as they are written.
func (w *Writer) elements(segment []json.RawMessage) ([]string, error) {
	if len(segment) == 0 {
		return nil, fmt.Errorf("it has no name")
	}
	var name string
	if err := json.Unmarshal(segment[0], &name); err != nil || len(name) < 2 || len(name) > 3 || !upper([]byte(name)) {
		return nil, fmt.Errorf("%s is not a segment's name", segment[0])
	}
	out := []string{name}
	for n, raw := range segment[1:] {
		plain := name == "ISA" || n+1 > w.Rules.Binary[name] && w.Rules.Binary[name] > 0
		e, err := w.element(raw, plain)
		if err != nil {
			return nil, fmt.Errorf("%s-%d: %w", name, n+1, err)
		}
		out = append(out, e)
	}
	return out, nil
}

func (w *Writer) element(raw json.RawMessage, plain bool) (string, error) {
	if len(raw) > 0 && raw[0] == '{' {
		var r struct {
			Repeat []json.RawMessage `json:"repeat"`
			Raw    *string           `json:"raw"`
		}
		if err := json.Unmarshal(raw, &r); err != nil {
			return "", err
		}
		if r.Raw != nil && w.Canonical {
			return w.plain(string(w.said.AppendPlain(nil, []byte(*r.Raw))))
		}
		if r.Raw != nil {
			return *r.Raw, nil
		}
		if w.syntax.Repetition == 0 {
			return "", fmt.Errorf("nothing repeats in this interchange: it has no separator for that")
		}
		var out []byte
		for i, e := range r.Repeat {
			if i > 0 {
				out = append(out, w.syntax.Repetition)
			}
			s, err := w.composite(e)
			if err != nil {
				return "", err
			}
			out = append(out, s...)
		}
		return string(out), nil
	}
	if plain {
		var s *string
		if err := json.Unmarshal(raw, &s); err != nil || s == nil {
			return "", err
		}
		return *s, nil
	}
	return w.composite(raw)
}

func (w *Writer) composite(raw json.RawMessage) (string, error) {
	if len(raw) == 0 || raw[0] != '[' {
		return w.text(raw)
	}
	var list []json.RawMessage
	if err := json.Unmarshal(raw, &list); err != nil {
		return "", err
	}
	var out []byte
	for i, e := range list {
		if i > 0 {
			out = append(out, w.syntax.Component)
		}
		s, err := w.text(e)
		if err != nil {
			return "", err
		}
		out = append(out, s...)
	}
	for w.Canonical && len(out) > 0 && out[len(out)-1] == w.syntax.Component && !w.syntax.released(out, 0, len(out)-1) {
		out = out[:len(out)-1]
	}
	return string(out), nil
}

func (w *Writer) text(raw json.RawMessage) (string, error) {
	if len(raw) > 0 && raw[0] == '{' {
		return w.element(raw, false)
	}
	var s *string
	if err := json.Unmarshal(raw, &s); err != nil || s == nil {
		return "", err
	}
	return w.plain(*s)
}

// plain writes a text.
func (w *Writer) plain(s string) (string, error) {
	for i := 0; i < len(s); i++ {
		if w.syntax.special(s[i]) && w.syntax.Release == 0 {
			return "", fmt.Errorf("%q holds %q, which separates here, and nothing releases it", s, s[i])
		}
	}
	return string(w.syntax.appendReleased(nil, []byte(s))), nil
}
