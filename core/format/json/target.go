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
// (RFC 6901): /station/code.
type Target struct {
	file   string
	sample *member
	list   bool
}

// member is a member of the sample: an object, or something else that is kept as
// it is written.
type member struct {
	name     string
	children []*member
	object   bool
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
	return &Target{file, m, list}, nil
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
		return nil, fmt.Errorf("at byte %d: lists within a record cannot be written yet", before)
	}
	raw, err = json.Marshal(token)
	m.value = string(raw)
	return m, err
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
			if near := finding.Nearest(name, known); near != "" {
				err = fmt.Errorf("%w; was %q meant?", err, near)
			}
			return nil, "", err
		}
		at = at.children[i]
	}
	return at, strings.Join(names, "\x00"), nil
}

// Position finds a member that is no object.
func (t *Target) Position(path string) (format.Position, error) {
	m, _, err := t.find(path)
	if err != nil {
		return format.Position{}, err
	}
	if m.object {
		return format.Position{}, fmt.Errorf("%s is an object; name one of its members", path)
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
	var out finding.List
	const kept, cleared = -1, -2
	said := map[*member]int{}
	for _, a := range in.Assign {
		m, _, err := t.find(a.Path)
		if err != nil {
			continue // it has been complained about
		}
		if _, twice := said[m]; twice {
			out = append(out, finding.New("map.twice", a.At, "%s is assigned twice", a.Path))
		}
		said[m] = a.Expression
	}
	mark := func(names []format.Named, as int) {
		for _, n := range names {
			m, _, err := t.find(n.Path)
			if err != nil {
				out = append(out, finding.New("map.nothing-there", n.At, "%v", err))
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
	l := &layout{said: said}
	switch {
	case t.list && in.Separate:
		l.text("[\n")
	case t.list:
		l.text(",\n")
	}
	l.text("{")
	l.members(t.sample, "")
	for _, path := range l.unsaid {
		f := finding.New("map.sample-value", place.InFile(""), "the sample's value at %s would go into every record", path)
		out = append(out, f.Suggest("say `keep %s` if it is a constant, `clear %s` if not, or assign it", path, path))
	}
	l.piece(format.Piece{Kind: format.Trim, Bytes: []byte(",")})
	l.text("}")
	if t.list && in.Separate {
		l.text("\n]")
	}
	if !t.list || in.Separate {
		l.text("\n")
	}
	l.flush()
	if t.list && !in.Separate {
		literal := func(s string) []format.Piece { return []format.Piece{{Kind: format.Literal, Bytes: []byte(s)}} }
		return format.Layout{Begins: literal("["), Skip: 1, Record: l.pieces, Ends: literal("\n]\n")}, out
	}
	return format.Layout{Record: l.pieces}, out
}

// each calls f for a member and, if it is an object, for all in it.
func (m *member) each(f func(*member)) {
	f(m)
	for _, c := range m.children {
		c.each(f)
	}
}

type layout struct {
	said    map[*member]int
	pieces  []format.Piece
	literal []byte
	unsaid  []string
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

func (l *layout) members(of *member, path string) {
	for _, m := range of.children {
		label := append(text.JSON.Append(nil, []byte(m.name)), ':')
		at := path + m.name
		if strings.ContainsAny(m.name, "./~") {
			at = strconv.Quote(at)
		}
		e, said := l.said[m]
		switch {
		case m.object:
			l.text(string(label) + "{")
			l.members(m, at+".")
			l.piece(format.Piece{Kind: format.Trim, Bytes: []byte(",")})
			l.text("},")
		case !said:
			l.unsaid = append(l.unsaid, at)
		case e >= 0:
			l.piece(format.Piece{Kind: format.Member, Bytes: label, Expression: e})
		case e == -1:
			l.text(string(label) + m.value + ",")
		}
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
