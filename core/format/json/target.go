// Package json reads and writes JSON (RFC 8259).
package json

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"ydrion/core/finding"
	"ydrion/core/format"
	"ydrion/core/place"
	"ydrion/core/text"
)

// Target writes each record as one object in one line, with the members of a sample in the
// sample's order. A member whose value is absent is left out. Numbers and
// truth values are written as such, everything else as a string. If the sample is a
// list with one object, each output is a list of all its records.
//
// Positions are member names with dots between: station.code, or a JSON Pointer
// (RFC 6901): /station/code. A list in the sample has one element, which stands for all: what is
// said within it is said of its members or, if it has none, of the position "value".
type Target struct {
	file   string
	sample *member
	list   bool
	within string // the list whose element it is, in a block for that; empty: it is the record
}

// member is a member of the sample: an object, or something else that is kept as
// it is written.
type member struct {
	name     string
	children []*member
	object   bool
	list     *member // its element, if it is a list
	empty    bool    // it is a list without one
	value    string
}

// NewTarget takes the members from a sample: an object, or a list with one.
func NewTarget(file string, sample []byte) (*Target, error) {
	d := json.NewDecoder(bytes.NewReader(sample))
	d.UseNumber()
	list := bytes.HasPrefix(bytes.TrimLeft(sample, " \t\r\n"), []byte("["))
	if list {
		if _, err := d.Token(); err != nil {
			return nil, fmt.Errorf("%s: %w", file, err)
		}
	}
	m, err := readMember(d, "")
	if err == nil && !m.object {
		err = fmt.Errorf("an object was expected, or a list with one")
	}
	if err == nil && list && d.More() {
		err = fmt.Errorf("at byte %d: a list that is a sample has one element, which stands for all", d.InputOffset())
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	return &Target{file: file, sample: m, list: list}, nil
}

func readMember(d *json.Decoder, name string) (*member, error) {
	m := &member{name: name}
	var raw json.RawMessage
	before := d.InputOffset()
	token, err := d.Token()
	if err != nil {
		return nil, err
	}
	switch token {
	case json.Delim('{'):
		m.object = true
		for d.More() {
			key, err := d.Token()
			if err != nil {
				return nil, err
			}
			name := key.(string) // the decoder lets nothing else be a name
			if slices.ContainsFunc(m.children, func(c *member) bool { return c.name == name }) {
				return nil, fmt.Errorf("the member %q stands there twice", name)
			}
			child, err := readMember(d, name)
			if err != nil {
				return nil, err
			}
			m.children = append(m.children, child)
		}
		_, err = d.Token()
		return m, err
	case json.Delim('['):
		if m.empty = !d.More(); !m.empty {
			if m.list, err = readMember(d, ""); err != nil {
				return nil, err
			}
			if d.More() {
				return nil, fmt.Errorf("at byte %d: a list in a sample has one element, which stands for all", before)
			}
			m.value = "[" + m.list.text() + "]"
		} else {
			m.value = "[]"
		}
		_, err = d.Token()
		return m, err
	}
	raw, err = json.Marshal(token)
	m.value = string(raw)
	return m, err
}

// text is a member's value as it stands in the sample.
func (m *member) text() string {
	if !m.object {
		return m.value
	}
	s := "{"
	for i, c := range m.children {
		if i > 0 {
			s += ","
		}
		s += string(text.JSON.Append(nil, []byte(c.name))) + ":" + c.text()
	}
	return s + "}"
}

// Inside is a list, or the record as a whole.
func (t *Target) Inside(path string) (string, format.Target, error) {
	if path == "" {
		return "", t, nil
	}
	m, _, err := t.find(path)
	switch {
	case err != nil:
		return "", nil, err
	case m.list == nil:
		return "", nil, fmt.Errorf("%s is not a list with an element in the sample %s: what is repeated is the element of one", path, t.file)
	}
	of := m.list
	if !of.object {
		of = &member{object: true, children: []*member{m.list}}
		m.list.name = "value"
	}
	return path, &Target{file: t.file, sample: of, within: path}, nil
}

var _ format.Target = (*Target)(nil)

// Escapes is the table for strings.
func (t *Target) Escapes() *text.Escapes { return text.JSON }

// Null is null.
func (t *Target) Null() (string, bool) { return "null", true }

// find goes to a member.
func (t *Target) find(path string) (*member, string, error) {
	names := strings.Split(path, ".")
	if rest, ok := strings.CutPrefix(path, "/"); ok {
		names = strings.Split(rest, "/")
		for i, n := range names {
			names[i] = strings.NewReplacer("~1", "/", "~0", "~").Replace(n)
		}
	}
	at := t.sample
	for _, name := range names {
		i := slices.IndexFunc(at.children, func(c *member) bool { return c.name == name })
		if i < 0 {
			var known []string
			for _, c := range at.children {
				known = append(known, c.name)
			}
			err := fmt.Errorf("the sample %s has no member %s", t.file, path)
			if alone, is := strings.CutPrefix(path, t.within+"."); is && t.within != "" {
				if _, _, wrong := t.find(alone); wrong == nil {
					return nil, "", fmt.Errorf("in a block for %s its members are said without it: write %s", t.within, alone)
				}
			}
			if near := finding.Nearest(name, known); near != "" {
				err = fmt.Errorf("%w; was %q meant?", err, near)
			}
			return nil, "", err
		}
		at = at.children[i]
	}
	return at, strings.Join(names, "\x00"), nil
}

// Position finds a member that is not an object.
func (t *Target) Position(path string) (format.Position, error) {
	m, _, err := t.find(path)
	if err != nil {
		return format.Position{}, err
	}
	if m.object {
		return format.Position{}, fmt.Errorf("%s is an object; name one of its members", path)
	}
	if m.list != nil || m.empty {
		return format.Position{}, fmt.Errorf("%s is a list; say `repeat %s for … in …`, and in that block what stands in each element", path, path)
	}
	return format.Position{Key: path}, nil
}

// Part is nothing yet that an object has.
func (t *Target) Part(string) (string, error) {
	return "", fmt.Errorf("members of objects cannot be dropped or added")
}

// Layout writes the members in the sample's order. Each must be assigned, kept or
// cleared.
func (t *Target) Layout(in format.Instructions) (format.Layout, finding.List) {
	l := &layout{}
	record := in.Rows(func(in format.Instructions) []format.Piece {
		begins, ends := "{", "}"
		switch {
		case t.list && in.Separate:
			ends += ","
		case t.list:
			begins = ",\n{"
		default:
			ends += "\n"
		}
		l.text(begins)
		t.object(l, in, "")
		l.text(ends)
		l.flush()
		pieces := l.pieces
		l.pieces = nil
		return pieces
	})
	literal := func(s string) []format.Piece { return []format.Piece{{Kind: format.Literal, Bytes: []byte(s)}} }
	switch {
	case t.list && in.Separate:
		record = append(append(literal("[\n"), record...), format.Piece{Kind: format.Trim, Bytes: []byte(",")})
		record = append(record, literal("\n]\n")...)
	case t.list:
		return format.Layout{Begins: literal("["), Skip: 1, Record: record, Ends: literal("\n]\n")}, l.out
	}
	return format.Layout{Record: record}, l.out
}

// object writes the members of the sample, or of an element, and what is said about them. Path is
// that of the element.
func (t *Target) object(l *layout, in format.Instructions, path string) {
	const kept, cleared = -1, -2
	said, repeated := map[*member]int{}, map[*member]*format.Repeated{}
	for _, a := range in.Assign {
		m, _, err := t.find(a.Path)
		if err != nil {
			continue // it has been complained about
		}
		if _, twice := said[m]; twice {
			l.out = append(l.out, finding.New("map.twice", a.At, "%s is assigned twice", a.Path))
		}
		said[m] = a.Expression
	}
	for i := range in.Repeat {
		r := &in.Repeat[i]
		m, _, err := t.find(r.Path)
		if err != nil {
			continue
		}
		if repeated[m] != nil {
			l.out = append(l.out, finding.New("map.twice", r.At, "%s is repeated twice", r.Path))
		}
		repeated[m] = r
	}
	mark := func(names []format.Named, as int) {
		for _, n := range names {
			m, _, err := t.find(n.Path)
			if err != nil {
				l.out = append(l.out, finding.New("map.nothing-there", n.At, "%v", err))
				continue
			}
			m.each(func(m *member) {
				if _, assigned := said[m]; !assigned {
					said[m] = as
				}
			})
		}
	}
	mark(in.Clear, cleared)
	mark(in.Keep, kept)
	t.members(l, t.sample, path, said, repeated)
	l.piece(format.Piece{Kind: format.Trim, Bytes: []byte(",")})
}

// each calls f for a member and, if it is an object, for all in it.
func (m *member) each(f func(*member)) {
	f(m)
	for _, c := range m.children {
		c.each(f)
	}
}

// layout collects pieces, joining constants.
type layout struct {
	pieces  []format.Piece
	literal []byte
	out     finding.List
}

func (l *layout) text(s string) { l.literal = append(l.literal, s...) }

func (l *layout) flush() {
	if l.literal != nil {
		l.pieces = append(l.pieces, format.Piece{Kind: format.Literal, Bytes: l.literal})
		l.literal = nil
	}
}

func (l *layout) piece(p format.Piece) {
	l.flush()
	l.pieces = append(l.pieces, p)
}

func (t *Target) members(l *layout, of *member, path string, said map[*member]int, repeated map[*member]*format.Repeated) {
	for _, m := range of.children {
		label := append(text.JSON.Append(nil, []byte(m.name)), ':')
		at := path + m.name
		if strings.ContainsAny(m.name, "./~") {
			at = strconv.Quote(at)
		}
		e, is := said[m]
		switch r := repeated[m]; {
		case m.object:
			l.text(string(label) + "{")
			t.members(l, m, at+".", said, repeated)
			l.piece(format.Piece{Kind: format.Trim, Bytes: []byte(",")})
			l.text("},")
		case r != nil:
			t.elements(l, m, r, label, at)
		case !is:
			f := finding.New("map.sample-value", place.InFile(""), "the sample's value at %s would go into every record", at)
			if m.list != nil {
				f = f.Suggest("say `repeat %s for … in …`, `clear %s` if it is to be left out, or `keep %s` if it is a constant", at, at, at)
			} else {
				f = f.Suggest("say `keep %s` if it is a constant, `clear %s` if not, or assign it", at, at)
			}
			l.out = append(l.out, f)
		case e >= 0:
			l.piece(format.Piece{Kind: format.Member, Bytes: label, Expression: e})
		case e == -1:
			l.text(string(label) + m.value + ",")
		}
	}
}

// elements writes a list, with an element for each row.
func (t *Target) elements(l *layout, m *member, r *format.Repeated, label []byte, at string) {
	if r.Condition >= 0 {
		l.piece(format.Piece{Kind: format.If, Expression: r.Condition})
	}
	l.text(string(label) + "[")
	l.piece(format.Piece{Kind: format.Each, Number: r.Loop})
	if _, inner, err := t.Inside(r.Path); err == nil {
		of := inner.(*Target)
		if m.list.object {
			l.text("{")
			of.object(l, r.Body, at+".")
			l.text("},")
		} else {
			l.element(of, r, at)
		}
	}
	l.piece(format.Piece{Kind: format.End})
	l.piece(format.Piece{Kind: format.Trim, Bytes: []byte(",")})
	l.text("],")
	if r.Condition >= 0 {
		l.piece(format.Piece{Kind: format.End})
	}
}

// element writes one that is not an object.
func (l *layout) element(of *Target, r *format.Repeated, at string) {
	for i, a := range r.Body.Assign {
		if i > 0 {
			l.out = append(l.out, finding.New("map.twice", a.At, "%s is assigned twice", a.Path))
		}
		l.piece(format.Piece{Kind: format.Member, Bytes: []byte{}, Expression: a.Expression})
	}
	for _, r := range r.Body.Repeat {
		if of.sample.children[0].list != nil {
			of.elements(l, of.sample.children[0], &r, nil, at)
		}
	}
	if len(r.Body.Assign)+len(r.Body.Repeat) == 0 {
		f := finding.New("map.sample-value", r.At, "nothing is said of the elements of %s", at)
		l.out = append(l.out, f.Suggest("assign `value = …` in the block"))
	}
}

// Show gives a written object as lines of path and value.
func (t *Target) Show(record []byte) []format.Line {
	if record = bytes.TrimPrefix(record, []byte(",")); t.list {
		record = bytes.TrimSuffix(bytes.TrimPrefix(record, []byte("[")), []byte("]\n"))
	}
	return format.Lines(Outline(record))
}

// Outline gives the parts of a value, as far as it can be read.
func Outline(record []byte) []format.Node {
	d := json.NewDecoder(bytes.NewReader(record))
	d.UseNumber()
	var out format.Parts
	token := func() (t json.Token, from int, err error) {
		before := int(d.InputOffset())
		t, err = d.Token()
		for from = before; from < len(record) && strings.IndexByte(" \t\r\n,:\x1e", record[from]) >= 0; from++ {
		}
		return t, from, err
	}
	var walk func(path string, depth int) bool
	walk = func(path string, depth int) bool {
		t, from, err := token()
		if err != nil {
			return false
		}
		delim, nested := t.(json.Delim)
		if !nested {
			value, _ := json.Marshal(t)
			kind := "number"
			switch v := t.(type) {
			case string:
				value, kind = []byte(v), "text"
			case bool:
				kind = "boolean"
			case nil:
				kind = "null"
			}
			return out.Add(format.Node{Kind: format.Leaf, Depth: depth, Path: path, Value: string(value), From: from, To: int(d.InputOffset()), Type: kind})
		}
		me := len(out.Nodes)
		if !out.Add(format.Node{Kind: format.Composite, Depth: depth, Path: path, From: from, To: len(record), Type: map[json.Delim]string{'{': "object", '[': "list"}[delim]}) {
			return false
		}
		for i := 0; d.More(); i++ {
			name := strconv.Itoa(i)
			if delim == '{' {
				key, _, err := token()
				if err != nil {
					return false
				}
				name = strings.NewReplacer("~", "~0", "/", "~1").Replace(key.(string))
			}
			if !walk(path+"/"+name, depth+1) {
				return false
			}
		}
		_, _, err = token()
		out.Nodes[me].To = int(d.InputOffset())
		return err == nil
	}
	if !walk("", 0) && len(out.Nodes) == 0 {
		out.Add(format.Node{Kind: format.Leaf, To: len(record), Value: string(record)})
	}
	return out.Nodes
}
