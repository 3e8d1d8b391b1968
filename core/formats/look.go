package formats

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/format"
	"ydrion/core/place"
	"ydrion/core/segments"
	"ydrion/core/standard"
	"ydrion/core/text"
)

// Request says what to look at.
type Request struct {
	Name    string // of the file, for places
	From    int64  // the first record to show, from 1
	Byte    int64  // show the record that holds this byte instead, -1: none
	Path    string // show only what stands here or below
	Records int    // how many to show
	// Own are descriptions that messages of X12 and EDIFACT are checked against before those of
	// the standard; nil: none.
	Own *standard.Catalog
	// Known is what is not to be guessed.
	Known format.Known
	// Progress, if set, is told now and then how many bytes have been read.
	Progress func(bytes int64)

	text  io.Writer  // gets the text as it is read, undone of compression and encoding
	marks *bookmarks // are set on the way
}

// Look is what there is to say about a file.
type Look struct {
	Name string `json:"name"`
	format.Guess
	Bytes    int64        `json:"bytes" doc:"of text, undone of compression"`
	Records  int64        `json:"records"`
	Kinds    []Kind       `json:"kinds" doc:"records by type"`
	Fields   []Field      `json:"fields" doc:"in the order in which they were met"`
	Errors   int64        `json:"errors"`
	Warnings int64        `json:"warnings"`
	Findings finding.List `json:"findings" doc:"the first ones"`
	Shown    []Shown      `json:"shown"`
	// Tables are the code tables that the parts of shown records refer to.
	Tables map[string]*standard.Table `json:"tables"`
}

// Kind is a type of record, and how many there are.
type Kind struct {
	Name    string `json:"name"`
	Version string `json:"version"`
	Count   int64  `json:"count"`
}

// Field is a position in which values were met.
type Field struct {
	Path    string `json:"path"`
	Meaning string `json:"meaning" doc:"its name in the standard, where that is known"`
	Filled  int64  `json:"filled" doc:"how many values there are"`
	Empty   int64  `json:"empty"`
	Looks   string `json:"looks_like"`
	Longest int    `json:"longest" doc:"in bytes"`
	Example string `json:"example"`
	forms   forms
	digits  digits
}

// Shown is one record.
type Shown struct {
	Record int64         `json:"record"`
	Line   int64         `json:"line"`
	Offset int64         `json:"offset"`
	Kind   string        `json:"kind"`
	Parts  []format.Node `json:"parts"`
	Raw    string        `json:"raw"`
}

// Limits of what is kept about a file, however large it is.
const (
	mostFindings = 200
	mostFields   = 2000
	mostKinds    = 200
	longExample  = 60
)

// Examine looks at a file from its beginning to its end. Whatever is wrong with it
// is among the findings; an error is one of reading it.
func Examine(ctx context.Context, in io.Reader, request Request) (*Look, error) {
	look := &Look{Name: request.Name, Kinds: []Kind{}, Fields: []Field{}, Findings: finding.List{}, Shown: []Shown{}, Tables: map[string]*standard.Table{}}
	guess, decoded, err := recognise(in, request.Known)
	if err != nil {
		return nil, err
	}
	look.Guess = guess
	if version := strings.TrimSpace(guess.Version); request.Own != nil && (request.Own.Version(version) != nil || guess.Format == "x12" && request.Own.Version(version[:min(6, len(version))]) != nil) {
		look.Reasons = slices.DeleteFunc(look.Reasons, func(r string) bool { return strings.Contains(r, "is not described here") })
	}
	e := &examination{Look: look, request: request, of: Named(look.Format), at: map[string]int{}, kinds: map[string]int{}, told: map[string]int{}}
	var read tally
	decoded.Reader = io.TeeReader(decoded.Reader, &read)
	if request.text != nil {
		decoded.Reader = io.TeeReader(decoded.Reader, request.text)
	}
	source := sourceOf(&look.Guess)
	if source == nil {
		_, err = io.Copy(io.Discard, decoded)
		look.Bytes = int64(read)
		return look, err
	}
	reader, findings, err := format.Open(describedBy(source, request.Own), decoded, nil)
	look.add(request.Name, findings...)
	if err == nil && reader == nil { // its text can be looked at all the same
		_, err = io.Copy(io.Discard, decoded)
		look.Bytes = int64(read)
	}
	if err != nil || reader == nil {
		return look, err
	}
	e.reader = reader
	if err := e.run(ctx); err != nil {
		return nil, err
	}
	look.add(request.Name, reader.Finish(look.Records)...)
	if look.Records == 0 && look.Errors == 0 {
		look.add(request.Name, finding.Warn("look.no-records", place.Place{Line: 1, Column: 1}, "there are no records: %s", e.of.Nothing).
			Suggest("if there should be some, say what the file is: --format, --encoding, --delimiter, --heading"))
	}
	for i := range look.Fields {
		f := &look.Fields[i]
		f.Looks = f.forms.String()
		look.add(request.Name, f.digits.findings(f)...)
	}
	slices.SortStableFunc(look.Findings, func(a, b finding.Finding) int { return cmp.Compare(a.Place.Offset, b.Place.Offset) })
	slices.SortStableFunc(look.Kinds, func(a, b Kind) int { return cmp.Compare(b.Count, a.Count) })
	return look, nil
}

// tally counts what is written to it.
type tally int64

func (t *tally) Write(b []byte) (int, error) {
	*t += tally(len(b))
	return len(b), nil
}

// recognise undoes compression, says what a file is, and gives its text in the encoding that was
// found, or as it comes where it says its encoding itself.
func recognise(in io.Reader, known format.Known) (guess format.Guess, decoded *text.Decoded, err error) {
	plain, compression, err := text.Undo(in)
	if err != nil {
		return guess, nil, err
	}
	if compression == text.Zip {
		return guess, nil, errors.New("the zip archive is damaged or not whole, or comes as a stream: its list of members, which stands at its end, cannot be read")
	}
	buffered := bufio.NewReaderSize(plain, Head)
	head, err := buffered.Peek(Head)
	if err != nil && err != io.EOF {
		return guess, nil, err
	}
	guess = Detect(head, known)
	guess.Compression = string(compression)
	set := guess.Charset
	if declares(&guess) {
		set = text.Declared
	}
	decoded, err = text.Decode(buffered, set)
	return guess, decoded, err
}

// declares tells whether the text says itself which character set it is in: what it says is
// then checked against what is there.
func declares(g *format.Guess) bool {
	f := Named(g.Format)
	return f != nil && f.Declares && g.Charset != text.UTF16LE && g.Charset != text.UTF16BE
}

// sourceOf is the format as it was recognised; nil if it cannot be read.
func sourceOf(g *format.Guess) format.Source {
	f := Named(g.Format)
	if f == nil || g.Source != nil {
		return g.Source
	}
	return f.Usual
}

func (l *Look) add(name string, findings ...finding.Finding) {
	for _, f := range findings {
		f.Place.File = name
		if f.Severity == finding.Error {
			l.Errors++
		} else {
			l.Warnings++
		}
		if len(l.Findings) < mostFindings {
			l.Findings = append(l.Findings, f)
		}
	}
}

// examination is the state of looking at one file.
type examination struct {
	*Look
	request Request
	reader  format.Reader
	at      map[string]int // index of each field
	kinds   map[string]int

	of                *format.Format
	said              format.Type // what the record that is surveyed says of its type
	scratch           []byte
	kind              string // of the record
	frame, validating framer
	told              map[string]int // differences from the standard, by kind and path
}

// batches goes through a file: its batches, split, with their notes in the order of
// the records; the last one with what broke the file, if something did.
func batches(ctx context.Context, r format.Reader, take func(b *batch.Batch, broken *format.Broken) error) error {
	b := &batch.Batch{First: 1}
	for more := true; more; {
		if err := ctx.Err(); err != nil {
			return err
		}
		b.Reset()
		var err error
		more, err = r.Cut(b)
		var broken *format.Broken
		if errors.As(err, &broken) {
			more = false
		} else if err != nil {
			return err
		}
		r.Split(b)
		slices.SortStableFunc(b.Notes, func(x, y batch.Note) int { return cmp.Compare(x.Record, y.Record) })
		if err := take(b, broken); err != nil {
			return err
		}
		b.First += int64(b.Records())
	}
	return nil
}

func (e *examination) run(ctx context.Context) error {
	return batches(ctx, e.reader, func(b *batch.Batch, broken *format.Broken) error {
		for _, n := range b.Notes {
			e.add(e.request.Name, e.reader.Describe(b, n))
		}
		validating := e.validate(b)
		for i := range b.Records() {
			e.record(b, i)
		}
		if validating != nil {
			for _, r := range <-validating {
				e.remark(b, r)
			}
		}
		e.Bytes = b.Base + int64(b.N)
		if broken != nil {
			e.Records++
			broken.Finding.Place.Record = e.Records
			e.add(e.request.Name, broken.Finding)
			n, err := io.Copy(io.Discard, broken.Rest)
			e.Bytes += n
			return err
		}
		if e.request.Progress != nil {
			e.request.Progress(e.Bytes)
		}
		return nil
	})
}

func (e *examination) record(b *batch.Batch, i int) {
	e.Records++
	e.reader.Survey(b.Raw(i), func(path, value []byte) {
		if e.of.Type != nil {
			e.of.Type(path, value, &e.said)
		}
		e.value(b, i, path, value)
	})
	e.kind = e.counted()
	if m := e.request.marks; m != nil && m.due(e.Records) {
		m.set(Mark{Record: e.Records, Line: b.Place(i, b.Bounds[i].Off).Line, Offset: b.Base + int64(b.Bounds[i].Off), preface: bytes.Clone(e.reader.Preface(b, i))})
	}
	if e.wanted(b, i) {
		e.offer(b, i)
	}
}

// wanted tells whether a record may be one to show.
func (e *examination) wanted(b *batch.Batch, i int) bool {
	if len(e.Shown) >= e.request.Records {
		return false
	}
	if e.request.Byte >= 0 {
		from, to := b.Base+int64(b.Bounds[i].Off), b.Base+int64(b.Bounds[i].End)
		return e.request.Byte >= from && e.request.Byte < to
	}
	return e.Records >= max(e.request.From, 1)
}

// offer shows a record, if it has what is looked for.
func (e *examination) offer(b *batch.Batch, i int) {
	s := e.show(b, i)
	if e.request.Path == "" || len(s.Parts) > 0 {
		e.Shown = append(e.Shown, s)
	}
}

// framer puts before a record what must stand there so that all is known about it.
type framer struct {
	preface []byte // what stands around the record
	record  int64  // that it was found for
}

// framed gives a record with its surroundings, and how long those are.
func (f *framer) framed(reader format.Reader, b *batch.Batch, i int) ([]byte, int) {
	raw := b.Raw(i)
	r, ok := reader.(*segments.Reader)
	if !ok {
		return raw, 0
	}
	number := b.First + int64(i)
	follows := i > 0 && f.record == number-1 && len(bytes.TrimSpace(b.Buf[b.Bounds[i-1].End:b.Bounds[i].Off])) == 0
	if f.record != number && !follows {
		f.preface = append(f.preface[:0], r.Preface(b, i)...)
	}
	f.record = number
	n := len(f.preface)
	f.preface = append(f.preface, raw...)
	framed := f.preface
	f.preface = f.preface[:n]
	return framed, n
}

// show takes a record apart, and keeps what stands at the wanted path.
func (e *examination) show(b *batch.Batch, i int) Shown {
	raw := b.Raw(i)
	s := Shown{Record: e.Records, Line: b.Place(i, b.Bounds[i].Off).Line, Offset: b.Base + int64(b.Bounds[i].Off), Kind: e.kind, Parts: []format.Node{}, Raw: e.readable(raw)}
	framed, shift := e.frame.framed(e.reader, b, i)
	var book *standard.Dictionary
	if validator, can := e.reader.(format.Validator); can {
		book = validator.Dictionary(framed)
	}
	nodes := e.reader.Outline(framed)
	paths := chosen(nodes, e.request.Path)
	for _, n := range nodes {
		if n.From < shift {
			continue
		}
		n.From, n.To = n.From-shift, n.To-shift
		n.Value = e.readable([]byte(n.Value))
		if e.request.Path != "" && !slices.ContainsFunc(paths, func(path string) bool { return below(n.Path, path) }) {
			continue
		}
		s.Parts = append(s.Parts, n)
		if n.Table != "" && book != nil && e.Tables[n.Table] == nil {
			e.Tables[n.Table] = book.Table(n.Table)
		}
	}
	return s
}

// chosen are the paths in an outline that a position such as NAD(BY)-2 stands for: those of the
// segments that have the value. Any other path stands for itself.
func chosen(nodes []format.Node, path string) []string {
	p, err := segments.ParsePosition(path)
	if err != nil || p.Element == 0 {
		return []string{path}
	}
	var out []string
	_, rest, _ := strings.Cut(path, ")")
	for i, n := range nodes {
		if n.Kind != format.Segment || general(n.Path) != p.Segment {
			continue
		}
		element := fmt.Sprintf("%s-%d", n.Path, p.Element)
		for _, of := range nodes[i+1:] {
			if of.Kind == format.Segment {
				break
			}
			if (of.Path == element || of.Path == element+".1") && of.Kind == format.Leaf && of.Value == p.Value {
				out = append(out, n.Path+rest)
				break
			}
		}
	}
	return out
}

// describedBy is a source whose messages are checked against descriptions of one's own.
func describedBy(source format.Source, own *standard.Catalog) format.Source {
	if of, can := source.(format.Described); can && own != nil {
		return of.By(own)
	}
	return source
}

// validated are the differences from the standard in a batch, by record.
type validated struct {
	record int
	format.Difference
}

// validate checks the records of a batch against their standard, while they are surveyed.
func (e *examination) validate(b *batch.Batch) <-chan []validated {
	validator, ok := e.reader.(format.Validator)
	if !ok {
		return nil
	}
	done := make(chan []validated, 1)
	go func() {
		var out []validated
		for i := range b.Records() {
			framed, shift := e.validating.framed(e.reader, b, i)
			validator.Validate(framed, func(r format.Difference) {
				if r.At >= shift {
					r.At -= shift
					out = append(out, validated{i, r})
				}
			})
		}
		done <- out
	}()
	return done
}

// remark tells a difference from the standard. Of each kind the first ones are told, and all
// are counted.
func (e *examination) remark(b *batch.Batch, r validated) {
	e.scratch = append(append(append(e.scratch[:0], r.Code...), ' '), general(r.Path)...)
	if len(e.told) < mostFields || e.told[string(e.scratch)] > 0 {
		e.told[string(e.scratch)]++
	}
	if e.told[string(e.scratch)] > alike {
		e.Warnings++
		return
	}
	at := b.Place(r.record, b.Bounds[r.record].Off+uint32(r.At))
	at.Path = r.Path
	f := finding.Warn(r.Code, at, "%s", r.Text)
	if r.Seen != "" {
		f.Seen = finding.Shorten([]byte(e.readable([]byte(r.Seen))))
	}
	e.add(e.request.Name, f)
}

// alike is how many differences of a kind are told.
const alike = 3

// general is a path without what is counted.
func general(path string) string {
	for {
		i := strings.IndexByte(path, '[')
		if i < 0 {
			return path
		}
		k := strings.IndexByte(path[i:], ']')
		path = path[:i] + path[i+k+1:]
	}
}

// readable is a text for people, whatever its record says about its encoding.
func (l *Look) readable(b []byte) string {
	if !utf8.Valid(b) {
		if decoded, err := text.DecodeAll(b, l.Charset); err == nil {
			return string(decoded)
		}
	}
	return string(b)
}

// counted counts the type of the record that has been surveyed.
func (e *examination) counted() string {
	defer func() { e.said.Name, e.said.Version = e.said.Name[:0], e.said.Version[:0] }()
	key := append(append(e.scratch[:0], e.said.Name...), '\x00')
	name := len(key) - 1
	key = append(key, e.said.Version...)
	e.scratch = key
	k, known := e.kinds[string(key)]
	if !known {
		if len(e.Kinds) >= mostKinds {
			return string(key[:name])
		}
		kind := Kind{Name: cmp.Or(string(key[:name]), e.of.Record), Version: string(e.said.Version)}
		k = len(e.Kinds)
		e.kinds[string(key)] = k
		e.Kinds = append(e.Kinds, kind)
	}
	e.Kinds[k].Count++
	return e.Kinds[k].Name
}

// below tells whether a path is another or stands below it.
func below(path, above string) bool {
	rest, ok := strings.CutPrefix(path, above)
	return ok && (rest == "" || strings.IndexByte(".-[/", rest[0]) >= 0)
}

// value counts a value in its field.
func (e *examination) value(b *batch.Batch, record int, path, value []byte) {
	k, known := e.at[string(path)]
	if !known {
		if len(e.Fields) >= mostFields {
			return
		}
		k = len(e.Fields)
		name := string(path)
		e.at[name] = k
		e.Fields = append(e.Fields, Field{Path: name, Meaning: e.Meaning(name), forms: allForms})
	}
	f := &e.Fields[k]
	if len(value) == 0 {
		f.Empty++
		return
	}
	f.Filled++
	f.Longest = max(f.Longest, len(value))
	if f.Example == "" {
		f.Example = finding.Shorten([]byte(e.readable(value[:min(len(value), longExample)])))
	}
	f.forms.see(value)
	if !e.of.Spreadsheets {
		return
	}
	if f.forms.told != 1<<len(spoils)-1 {
		e.ruined(b, record, f, value)
	}
	f.digits.see(value, func() place.Place { return b.Place(record, b.Bounds[record].Off) })
}

// Meaning is what the standard calls a position, where that is known.
func (l *Look) Meaning(path string) string {
	f := Named(l.Format)
	if f == nil || f.Meaning == nil {
		return ""
	}
	return f.Meaning(path, l.Version)
}

// ruined notes values that a spreadsheet program has changed when it saved the
// file. Of each field the first is told, and the others are counted with it.
func (e *examination) ruined(b *batch.Batch, record int, f *Field, value []byte) {
	what := text.Spoilt(value)
	if what == "" || f.forms.told&(1<<spoils[what].bit) != 0 {
		return
	}
	f.forms.told |= 1 << spoils[what].bit
	at := b.Place(record, b.Bounds[record].Off)
	at.Path = f.Path
	w := finding.Warn("csv.spreadsheet", at, "%s", spoils[what].says)
	w.Seen = finding.Shorten(value)
	e.add(e.request.Name, w.Suggest("format the column as text before saving; further values of this kind in the column are not listed"))
}

// At reads a place as people say it: record 4711 or its number, byte 88112, or a
// path such as PID-5.1.
func At(place string) (r Request, err error) {
	r.Byte, r.Records = -1, 1
	words := strings.Fields(strings.ReplaceAll(place, ",", ""))
	number := func(s string) (int64, error) {
		n, err := strconv.ParseInt(s, 10, 64)
		if err != nil || n < 0 {
			return 0, fmt.Errorf("%q is not a place; places are such as 4711, \"record 4711\", \"byte 88112\", PID-5.1", place)
		}
		return n, nil
	}
	switch {
	case len(words) == 2 && words[0] == "record":
		r.From, err = number(words[1])
	case len(words) == 2 && words[0] == "byte":
		r.Byte, err = number(words[1])
	case len(words) == 1 && words[0][0]-'0' <= 9:
		r.From, err = number(words[0])
	case len(words) == 1:
		r.Path = words[0]
	default:
		_, err = number("")
	}
	return r, err
}
