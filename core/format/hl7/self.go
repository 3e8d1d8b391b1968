package hl7

import (
	"bytes"
	"fmt"
	"strings"

	"ydrion/core/format"
	"ydrion/core/segments"
	"ydrion/core/standard"
	"ydrion/core/text"
)

// Format is HL7 v2.
var Format = &format.Format{
	Name: "hl7", Title: "HL7 v2", Makes: "HL7 v2 messages", Nothing: "there is no MSH segment",
	Declares: true, Says: says, Standard: true, Catalog: Versions, Inherits: true,
	Recognise: recognise,
	Broken:    broken,
	Type:      kind,
	Meaning:   Meaning,
	Position:  position, List: segments.IsList(parsePath), Example: "PID-5.1",
	Settings: settings,
	Usual:    Source{},
	Objects:  func() format.Objects { return (&speaker{sep: Usual, border: Usual}).objects },
	Written: func(format.Style) func(to, object []byte) ([]byte, error) {
		return (&speaker{sep: Usual, border: Usual}).message
	},
	Target: func(file string, sample []byte) (format.Target, error) { return NewTarget(file, sample) },
	AsCame: func() format.Target { return NewAsCame() },
}

// recognise knows the segments that files begin with.
func recognise(g *format.Guess, b, _ []byte, _ format.Known) bool {
	if len(b) < 8 || !opens(b, "MSH") && !opens(b, "FHS") && !opens(b, "BHS") {
		return false
	}
	name := string(b[:3])
	g.Because(format.Certain, "it begins with %s and its separators %s", name, b[3:8])
	at := b
	if name != "MSH" {
		i := bytes.Index(b, []byte("MSH"))
		if i < 0 {
			return true
		}
		at = b[i:]
	}
	if i := bytes.IndexAny(at, "\r\n"); i >= 0 {
		at = at[:i]
	}
	m, err := Parse(append(bytes.Clone(at), '\r'))
	if err != nil {
		return true
	}
	g.Version, _ = m.Get("MSH-12")
	code, _ := m.Get("MSH-9.1")
	event, _ := m.Get("MSH-9.2")
	g.Type = strings.TrimSuffix(code+"^"+event, "^")
	g.Because(format.Certain, "the first message says %s, version %s", g.Type, g.Version)
	switch book, of := DictionaryOf(g.Version); {
	case book == nil:
		groups := nearest(g.Version)
		if said, _ := m.Get("MSH-9.3"); structure(Versions.Version(groups), code, event, said) == nil {
			groups = ""
		}
		g.Because(format.Certain, "version %s is not described here: names and codes are not shown, and nothing is checked against it%s", g.Version, format.ReadBy(groups))
	case of != g.Version:
		g.Because(format.Certain, "version %s is not described here: names and codes are those of %s", g.Version, of)
	}
	if set, ok := m.Get("MSH-18"); ok {
		for n := 2; ; n++ {
			further, ok := m.Get(fmt.Sprintf("MSH-18[%d]", n))
			if !ok || further == "" {
				break
			}
			set += ", " + further
		}
		g.Because(format.Certain, "MSH-18 names its character set: %s", set)
	} else if g.Charset != text.UTF8 {
		g.Because(format.Guessed, "MSH-18 does not name a character set")
		g.Settings = append(g.Settings, "encoding: "+string(g.Charset))
	}
	return true
}

// says is the character set that the first message of a file names.
func says(head []byte) text.Charset {
	i := bytes.Index(head, []byte("MSH"))
	if i < 0 || len(bytes.Trim(head[:i], " \t\r\n\x0b")) > 0 && !opens(bytes.TrimLeft(head, " \t\r\n\x0b"), "FHS") && !opens(bytes.TrimLeft(head, " \t\r\n\x0b"), "BHS") {
		return ""
	}
	sep, problem := separators(head[i:])
	if problem != "" {
		return ""
	}
	line, _, _ := bytes.Cut(head[i:], []byte{terminatorOf(head[i:])})
	set, _ := declaredCharset(line, sep)
	return set
}

// broken looks for a message behind something else.
func broken(g *format.Guess, b []byte) bool {
	for at := 0; ; at += 3 {
		i := bytes.Index(b[at:], []byte("MSH"))
		if i < 0 {
			return false
		}
		at += i
		line := b[at:]
		if len(line) > 8 && !letter(line[3]) && line[8] == line[3] && (at == 0 || b[at-1] == '\r' || b[at-1] == '\n') {
			g.Because(format.Likely, "a message begins at byte %d, and something else stands before it", at)
			return true
		}
	}
}

// kind notes MSH-9 and MSH-12.
func kind(path, value []byte, of *format.Type) {
	if len(path) < 5 || string(path[:4]) != "MSH-" {
		return
	}
	switch string(path[4:]) {
	case "9", "9.1":
		of.Name = append(of.Name, value...)
	case "9.2":
		of.Name = append(append(of.Name, '^'), value...)
	case "12", "12.1":
		of.Version = append(of.Version, value...)
	}
}

func position(path string) error {
	p, err := parsePath(path)
	if err == nil && p.Field == 0 {
		err = fmt.Errorf("%q is a whole segment; name one of its fields, as in %s-1", path, path)
	}
	return err
}

// settings reads which segment is a record.
func settings(o format.Options) format.Source {
	unit := o.Text("record")
	if unit != "" && !IsSegment(unit) {
		o.Bad("record", "read.record is the name of the segment that is a record, such as OBX, not %q", unit)
	}
	return Source{Unit: unit}
}

// Says tells people what is read.
func (s Source) Says(set string) string {
	if set == "" {
		set = "the character set that each message names"
	}
	if s.Unit != "" {
		return fmt.Sprintf("HL7 v2 in %s; each segment %s is a record, with what stands around it", set, s.Unit)
	}
	return fmt.Sprintf("HL7 v2 in %s; each message is a record", set)
}

// By gives the source with descriptions of one's own.
func (s Source) By(own ...*standard.Catalog) format.Source {
	s.own = own
	return s
}

// Plain writes sequences that are not text with the usual escape character, for values that leave HL7.
func (r *Reader) Plain(text []byte) []byte {
	if !r.marked || bytes.IndexByte(text, Mark) < 0 {
		return nil
	}
	return bytes.ReplaceAll(text, []byte{Mark}, []byte{Usual.Escape})
}

// Into keeps escape sequences that are not text in values that go on into HL7.
func (s Source) Into(t format.Target) format.Source {
	switch to := t.(type) {
	case *Target:
		s.Marked = true
		to.FromMessages()
	case *AsCame:
		s.Marked = true
	}
	return s
}
