package hl7

import (
	"fmt"
	"slices"
	"strings"

	"ydrion/core/finding"
	"ydrion/core/format"
	"ydrion/core/place"
	"ydrion/core/segments"
	"ydrion/core/standard"
	"ydrion/core/text"
)

// Target lays a map out on a sample message.
type Target struct {
	source  []byte
	blank   *segments.Template
	header  string // what says the separators, behind MSH, FHS or BHS
	escapes *text.Escapes
	end     string // of a segment

	separators Separators
	own        []*standard.Catalog // see By
}

// NewTarget takes the sample message apart.
func NewTarget(file string, sample []byte) (*Target, error) {
	m, err := Parse(sample)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	if set, known := Written(sample); known && set != text.UTF8 && !text.IsASCII(sample) {
		if text.FirstInvalid(sample) < 0 {
			return nil, fmt.Errorf("%s: it is UTF-8, and its MSH-18 says that it is %s: save it in that, or without characters beyond ASCII", file, set)
		}
		if sample, err = text.DecodeAll(sample, set); err == nil {
			m, err = Parse(sample)
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %w", file, err)
		}
	}
	if err := batched(m); err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	s := m.Separators
	blank := &segments.Template{
		File: file, Separators: [4]byte{s.Field, s.Repetition, s.Component, s.Subcomponent},
		Plain: s.Unescape, Parse: parsePath,
		Given: given,
	}
	for _, segment := range m.Segments {
		of := segments.Sampled{Name: segment.Name}
		for _, f := range segment.Fields {
			of.Fields = append(of.Fields, f)
		}
		blank.Segments = append(blank.Segments, of)
	}
	return &Target{source: sample, blank: blank, escapes: s.Escapes(), end: "\r",
		separators: s, header: string([]byte{s.Field, s.Component, s.Repetition, s.Escape, s.Subcomponent})}, nil
}

// By gives it a description of one's own, that its messages are validated against instead of the standard.
func (t *Target) By(own *standard.Catalog) { t.own = []*standard.Catalog{own} }

// by is what its messages are described by.
func (t *Target) by() int {
	if t.own != nil {
		return 0
	}
	return format.AsRead
}

// Described tells whether there is a description of its messages.
func (t *Target) Described() bool {
	m, problem := apart(&taker{own: t.own, by: t.by(), decoded: true}, t.source, false)
	return problem == "" && m.Structure != nil
}

// Required are the fields that its segments must have, see segments.Message.
func (t *Target) Required() map[string][]bool {
	m, problem := apart(&taker{own: t.own, by: t.by(), decoded: true}, t.source, false)
	if problem != "" {
		return nil
	}
	return m.Required()
}

// Sample is the message that it is based on.
func (t *Target) Sample() []byte { return t.source }

// Validate tells where a message differs from its description.
func (t *Target) Validate(message []byte, say func(format.Difference)) {
	validated(t.own, true, message, say)
}

// given tells of fields that no map says: separators, and the counts of batches and files (2.10.3).
func given(segment string, field int) bool {
	return header([]byte(segment)) && field <= 2 || (segment == "BTS" || segment == "FTS") && field == 1
}

// around tells whether a segment stands around messages.
func around(segment string) bool {
	return segment == "FHS" || segment == "BHS" || segment == "BTS" || segment == "FTS"
}

// batched holds that what stands around the sample's message begins and ends what it should.
func batched(m *Message) error {
	var names []string
	messages := 0
	for _, s := range m.Segments {
		switch {
		case around(s.Name):
			names = append(names, s.Name)
		case s.Name == "MSH":
			messages++
			names = append(names, s.Name)
		case len(names) == 0 || names[len(names)-1] != "MSH":
			return fmt.Errorf("%s stands outside of the message", s.Name)
		}
	}
	if messages != 1 {
		return fmt.Errorf("a sample has one message, which stands for all; this one has %d", messages)
	}
	if order := strings.Join(names, " "); order != "MSH" && order != "BHS MSH BTS" && order != "FHS BHS MSH BTS FTS" {
		return fmt.Errorf("around the message of a sample stand BHS and BTS, and around those FHS and FTS, or none; it has %s", order)
	}
	return nil
}

var _ format.Target = (*Target)(nil)

// FromMessages says that values come from HL7: sequences in them that are not text are written as
// they came.
func (t *Target) FromMessages() {
	t.separators.Marked = true
	t.escapes = t.separators.Escapes()
}

// EndAsSample makes segments end as those of the sample do, instead of with CR (2.5.4).
func (t *Target) EndAsSample() {
	first, rest, _ := strings.Cut(string(t.source), "\n")
	switch {
	case rest == "" && !strings.HasSuffix(string(t.source), "\n"):
	case strings.HasSuffix(first, "\r"):
		t.end = "\r\n"
	case !strings.Contains(first, "\r"):
		t.end = "\n"
	}
}

// Escapes is the table for the sample's separators.
func (t *Target) Escapes() *text.Escapes { return t.escapes }

// Null is how a field is told to be deleted (2.5.3, "the null value").
func (t *Target) Null() (string, bool) { return `""`, true }

// Position finds a position; its segment must be in the sample or be added.
func (t *Target) Position(p string) (format.Position, error) {
	at, err := parsePath(p)
	if err != nil {
		return format.Position{}, err
	}
	if at.Field == 0 {
		return format.Position{}, fmt.Errorf("%q is a whole segment; name one of its fields, as in %s-1", p, p)
	}
	if at.Within != "" {
		return format.Position{}, fmt.Errorf("%q is in a loop, and what is written is counted: name it as in OBX[2]-5", p)
	}
	if at.Element > 0 || at.By > 0 {
		return format.Position{}, fmt.Errorf("%q chooses by a value, and what is written is counted: name it as in OBX[2]-5 or PID-3[2].1", p)
	}
	if given(at.Segment, at.Field) {
		return format.Position{}, fmt.Errorf("%s is computed, or says the separators and follows the sample", p)
	}
	return format.Position{Key: at.String()}, nil
}

// Part finds a segment of the sample.
func (t *Target) Part(p string) (string, error) {
	at, err := parsePath(p)
	if err != nil {
		return "", err
	}
	if at.Element > 0 || at.Within != "" {
		return "", fmt.Errorf("%q chooses by a value, and what is written is counted: name it as in OBX[2]", p)
	}
	if at.Field != 0 {
		return "", fmt.Errorf("%q is a field; name a segment, as in %s", p, at.Part())
	}
	if around(at.Segment) {
		return "", fmt.Errorf("%s stands around messages: it can be neither dropped, added nor repeated", p)
	}
	return at.Part(), nil
}

// Layout turns instructions into pieces. Each message stands for itself.
func (t *Target) Layout(in format.Instructions) (format.Layout, finding.List) {
	out, several := in.Around(func(path string) bool { return around(path[:min(3, len(path))]) }), in.Several()
	var begins, ends []format.Piece
	layout := format.Layout{Decimal: '.'} // numbers: HL7 v2 chapter 2A, NM
	layout.Record = in.Rows(func(in format.Instructions) []format.Piece {
		plans, findings := t.blank.Plan(in)
		if out = append(out, findings...); findings.HasErrors() {
			return nil
		}
		w := &segments.Composer{Blank: t.blank}
		for _, p := range plans {
			if p.Name == "MSH" {
				layout.Says, findings = t.says(p, in)
				out = append(out, findings...)
			}
		}
		head := slices.IndexFunc(plans, func(p *segments.SegmentLayout) bool { return p.Name == "MSH" })
		tail := len(plans) - head // as many close as open
		for _, p := range plans[:head] {
			t.segment(w, p)
		}
		begins = w.Pieces()
		if several {
			w.Piece(format.Piece{Kind: format.One})
		}
		w.Each(plans[head:tail], func(p *segments.SegmentLayout) { t.segment(w, p) })
		record := w.Pieces()
		for _, p := range plans[tail:] {
			w.Text(p.Name + string(t.separators.Field))
			if p.Name == "BTS" && (!in.Separate || several) {
				w.Piece(format.Piece{Kind: format.Total})
			} else {
				w.Text("1")
			}
			w.Fields(p, 2)
			w.Text(t.end)
		}
		ends = w.Pieces()
		return record
	})
	if in.Separate {
		layout.Record = slices.Concat(begins, layout.Record, ends)
	} else {
		layout.Begins, layout.Ends = begins, ends
	}
	return layout, out
}

// segment writes a segment.
func (t *Target) segment(w *segments.Composer, p *segments.SegmentLayout) {
	if w.Text(p.Name); header([]byte(p.Name)) {
		w.Text(t.header)
		w.Fields(p, 3)
	} else {
		w.Fields(p, 1)
	}
	w.Text(t.end)
}

// Inside is a segment that can be repeated, with those behind it that something is said about in its block.
func (t *Target) Inside(path string) (string, format.Target, error) {
	if path == "" { // a message for each row
		return "", t, nil
	}
	part, err := t.Part(path)
	if err == nil && part == "MSH" {
		err = fmt.Errorf("MSH begins the message, and is not repeated")
	}
	return part, t, err
}

// says is the character set in which messages are written: the one that their MSH-18 names. What
// names none is written in UTF-8.
func (t *Target) says(msh *segments.SegmentLayout, in format.Instructions) (*text.Repertoire, finding.List) {
	slot := msh.Fields.Parts[18]
	if slot == nil {
		return nil, nil
	}
	named := slot.First()
	if named == nil || named.Expression >= 0 {
		for _, a := range in.Assign {
			if strings.HasPrefix(a.Path, "MSH-18") {
				f := finding.New("map.charset", a.At, "MSH-18 says in which character set the messages are written: it is the one of the sample")
				return nil, finding.List{f.Suggest("keep MSH-18, and let it name the character set in the sample %s", t.blank.File)}
			}
		}
		return nil, nil
	}
	set, known := declaredCharset([]byte(strings.Repeat("|", 17)+named.Constant), Usual)
	switch {
	case !known:
		return nil, finding.List{finding.New("map.charset", place.InFile(t.blank.File), "MSH-18 of the sample names the character set %q, which is not known", named.Constant).
			Suggest("as in UNICODE UTF-8, 8859/1 or ASCII (HL7 v2 table 0211)")}
	case set == text.UTF8:
		return nil, nil
	case set == "":
		return &text.Repertoire{Name: "ASCII, which the sample's MSH-18 names", ASCII: true}, nil
	}
	return &text.Repertoire{Name: named.Constant + ", which the sample's MSH-18 names", Charset: set}, nil
}

// Show gives a written message as lines of path and unescaped value.
func (t *Target) Show(record []byte) []format.Line { return Show(record) }
