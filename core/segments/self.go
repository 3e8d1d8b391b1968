package segments

import (
	"bytes"
	"cmp"
	"fmt"
	"ydrion/core/batch"
	"ydrion/core/standard"

	"ydrion/core/format"
)

// Format is what formats of interchanges have in common.
func (r *Rules) Format() *format.Format {
	return &format.Format{
		Name: r.Name, Title: r.Title, Makes: r.Makes, Nothing: r.Nothing,
		Declares: r.Declares, Standard: true, Catalog: r.Catalog, Canonical: true,
		Position: position, List: IsList(ParsePosition), Example: r.Example,
		Broken:   r.broken,
		Settings: func(o format.Options) format.Source { return Interchanges{Rules: r, Unit: o.Text("record")} },
		Usual:    Interchanges{Rules: r},
		Objects:  func() format.Objects { return objects },
		Written: func(style format.Style) func(to, object []byte) ([]byte, error) {
			return (&Writer{Rules: r, Number: style.Number, Canonical: style.Canonical}).Append
		},
		Target: func(file string, sample []byte) (format.Target, error) { return NewTarget(r, file, sample) },
		AsCame: func() format.Target { return NewAsCame(r) },
	}
}

// IsList says why a path is not that of a list: a segment, or a field whose repetitions are meant.
func IsList(parse func(string) (Position, error)) func(path string) error {
	return func(path string) error {
		p, err := parse(path)
		if err == nil && (p.Occurrence > 1 || p.Field > 0 && (p.Repetition > 1 || p.By > 0 || p.Component > 0)) {
			err = fmt.Errorf("%q is one value, and no list", path)
		}
		return err
	}
}

func position(path string) error {
	p, err := ParsePosition(path)
	if err == nil && p.Field == 0 {
		err = fmt.Errorf("%q is a whole segment; name one of its elements, as in %s-1", path, path)
	}
	return err
}

// broken looks for an interchange behind something else.
func (r *Rules) broken(g *format.Guess, b []byte) bool {
	for _, name := range []string{"UNA", r.Levels[0].Open} {
		for at := 0; ; at += 3 {
			i := bytes.Index(b[at:], []byte(name))
			if i < 0 {
				break
			}
			at += i
			if _, problem := r.Begin(b[at:]); problem == "" && (at == 0 || r.Widths[name] != nil || b[at-1] == '\r' || b[at-1] == '\n') {
				g.Because(format.Likely, "an interchange begins at byte %d, and something else stands before it", at)
				return true
			}
		}
	}
	return false
}

// Says tells people what is read.
func (s Interchanges) Says(set string) string {
	set = cmp.Or(set, "the character set that each interchange names")
	if s.Unit != "" {
		return fmt.Sprintf("%s in %s; each segment %s is a record, with what stands around it", s.Rules.Title, set, s.Unit)
	}
	return fmt.Sprintf("%s in %s; each message is a record", s.Rules.Title, set)
}

// By gives the source with descriptions of one's own.
func (s Interchanges) By(own ...*standard.Catalog) format.Source {
	s.Own = own
	return s
}

// objects says messages and what stands between them as JSON objects.
func objects(reader format.Reader, b *batch.Batch, wanted func(int) bool, say func(int, []byte, error)) {
	r := reader.(*Reader)
	r.Pieces(b, func(p Piece) {
		if p.Message < 0 || wanted(p.Message) {
			out, err := r.AppendJSON(nil, b, p)
			say(p.Message, out, err)
		}
	})
}
