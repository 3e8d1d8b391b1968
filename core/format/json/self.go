package json

import (
	"bytes"
	"fmt"

	"ydrion/core/format"
	"ydrion/core/text"
)

// Format is JSON.
var Format = &format.Format{
	Name: "json", Title: "JSON", Makes: "JSON objects, one a line,", Record: "value", Nothing: "its list is empty",
	Exponents: true, Reorders: true,
	Recognise: recognise,
	Settings:  settings,
	Usual:     Source{},
	Objects: func() format.Objects {
		return format.Records(func(_ format.Reader, raw []byte) ([]byte, error) { return raw, nil })
	},
	Written: func(format.Style) func(to, object []byte) ([]byte, error) {
		return func(to, object []byte) ([]byte, error) { return append(append(to, object...), '\n'), nil }
	},
	Target: func(file string, sample []byte) (format.Target, error) { return NewTarget(file, sample) },
	AsCame: func() format.Target { return &AsCame{} },
}

// recognise knows what values begin with.
func recognise(g *format.Guess, b, whole []byte, _ format.Known) bool {
	first := b
	if i := bytes.IndexAny(b, "\r\n"); i >= 0 {
		first = b[:i]
	}
	first = bytes.TrimSpace(first)
	switch {
	case b[0] == '{' || b[0] == '[' || whole[0] == separator:
	case len(first) == len(bytes.TrimSpace(b)) && Valid(first):
		g.Type = "value"
		g.Because(format.Guessed, "it is one value of JSON; a table of one column and one line would look the same")
		return true
	default:
		return false
	}
	g.Type = "document"
	if g.Charset != text.UTF8 {
		g.Because(format.Guessed, "JSON is to be UTF-8 (RFC 8259, 8.1), and this is not: it may be broken")
	}
	_, rest, _ := bytes.Cut(b, []byte("\n"))
	rest = bytes.TrimLeft(rest, " \t\r\n\x1e")
	switch {
	case bytes.IndexByte(whole[:len(whole)-len(b)], separator) >= 0:
		g.Type = "text sequence"
		g.Because(format.Certain, "values follow the record separator of RFC 7464")
	case b[0] == '[':
		g.Type = "list"
		g.Because(format.Likely, "it begins with a bracket: each element is a record")
	case len(first) > 1 && first[len(first)-1] == '}' && len(rest) > 0 && rest[0] == '{':
		g.Type = "lines"
		g.Because(format.Likely, "its lines are objects")
	default:
		g.Because(format.Likely, "it begins with a brace")
	}
	return true
}

// settings reads where the records are.
func settings(o format.Options) format.Source {
	at := o.Text("record")
	if at != "" && at[0] != '/' {
		o.Bad("record", "read.record is a JSON Pointer in which * stands for each element of a list, such as /specimens/*, not %q", at)
	}
	return Source{Records: at}
}

// Says tells people what is read.
func (s Source) Says(set string) string {
	if s.Records != "" {
		return fmt.Sprintf("JSON in %s; the records are at %s", set, s.Records)
	}
	return fmt.Sprintf("JSON in %s; each value, or each element of a list, is a record", set)
}
