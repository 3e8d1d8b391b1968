package formats

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"unicode/utf8"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/format"
	"ydrion/core/format/edifact"
	"ydrion/core/format/hl7"
	"ydrion/core/format/x12"
	"ydrion/core/place"
	"ydrion/core/segments"
	"ydrion/core/text"
)

// Converted is what became of a file.
type Converted struct {
	From     string       `json:"from"`
	To       string       `json:"to"`
	Records  int64        `json:"records" doc:"that were read"`
	Written  int64        `json:"written"`
	Findings finding.List `json:"findings" doc:"the first ones"`
	Errors   int64        `json:"errors"`
}

// Unable says which conversion there is not.
type Unable string

func (u Unable) Error() string { return string(u) }

// Style says how interchanges are written.
type Style struct {
	Canonical bool  // with the usual separators, no line ends, nothing behind the last value
	Number    int64 // of the first interchange that has none; 0: there must be one
}

// Convert writes a file in another format, where that needs no map: CSV as JSON
// objects of texts, one a line, and back; HL7 v2, X12 and EDIFACT as JSON, and back; X12 and EDIFACT as
// themselves in canonical style. A record that cannot be said so is a finding and is left out.
func Convert(ctx context.Context, in io.Reader, name, to string, style Style, out io.Writer) (*Converted, error) {
	guess, decoded, err := recognise(in, format.Known{})
	if err != nil {
		return nil, err
	}
	c := &converter{Converted: Converted{From: guess.Format, To: to, Findings: finding.List{}}, name: name, out: bufio.NewWriterSize(out, 1<<16)}
	step := map[string]func([]byte) error{"csv json": c.rowToObject, "json csv": c.objectToRow, "hl7 json": c.messageToObject, "json hl7": c.objectToMessage,
		"x12 json": c.no, "edifact json": c.no, "json x12": c.objectToSegments, "json edifact": c.objectToSegments, "x12 x12": c.no, "edifact edifact": c.no}[guess.Format+" "+to]
	if guess.Format == to && step != nil && !style.Canonical {
		return nil, Unable(fmt.Sprintf("the file is %s already; only its canonical style could be written", to))
	}
	if step == nil {
		return nil, Unable(fmt.Sprintf("%s cannot be written as %s without a map: make a route for it", cmp.Or(guess.Format, "a file of no known format"), to))
	}
	c.writer = segments.Writer{Rules: map[string]*segments.Rules{"x12": x12.Rules, "edifact": edifact.Rules}[to], Number: style.Number, Canonical: style.Canonical}
	reader, findings, err := format.Open(sourceOf(&guess), decoded, nil)
	c.add(findings...)
	if err != nil || reader == nil {
		return &c.Converted, err
	}
	c.reader = reader
	if err := c.run(ctx, step); err != nil {
		return nil, err
	}
	c.add(reader.Ended(c.Records)...)
	return &c.Converted, c.out.Flush()
}

type converter struct {
	Converted
	name    string
	reader  format.Reader
	out     *bufio.Writer
	columns []string
	sep     hl7.Separators // of the last message
	border  hl7.Separators // of what stands around messages
	writer  segments.Writer
	scratch []byte
}

func (c *converter) add(findings ...finding.Finding) {
	for _, f := range findings {
		f.Place.File = c.name
		if f.Severity == finding.Error {
			c.Errors++
		}
		if len(c.Findings) < mostFindings {
			c.Findings = append(c.Findings, f)
		}
	}
}

func (c *converter) run(ctx context.Context, step func([]byte) error) error {
	c.sep, c.border = hl7.Usual, hl7.Usual
	return batches(ctx, c.reader, func(b *batch.Batch, broken *format.Broken) error {
		bad := map[int32]bool{}
		for _, n := range b.Notes {
			c.add(c.reader.Describe(b, n))
			bad[n.Record] = bad[n.Record] || !n.Warn
		}
		if b.Records() > 0 {
			c.around(b.Buf[:b.Bounds[0].Off])
		}
		if r, ok := c.reader.(*segments.Reader); ok {
			c.pieces(r, b, bad)
		}
		for i := range b.Records() {
			if c.From == "x12" || c.From == "edifact" {
				break
			}
			c.Records++
			if !bad[int32(i)] {
				if err := step(b.Raw(i)); err != nil {
					c.add(finding.New("convert.record", b.Place(i, b.Bounds[i].Off), "the record cannot be written as %s: %v", c.To, err))
				} else {
					c.Written++
				}
			}
			to := b.N
			if i+1 < b.Records() {
				to = int(b.Bounds[i+1].Off)
			}
			c.around(b.Buf[b.Bounds[i].End:to])
		}
		if broken != nil {
			c.Records++
			broken.Finding.Place.Record = c.Records
			c.add(broken.Finding)
		}
		_, err := c.out.Write(nil) // what has failed is kept there
		return err
	})
}

// no is what is not done record by record.
func (c *converter) no([]byte) error { return nil }

// pieces writes messages and what stands between them as objects.
func (c *converter) pieces(r *segments.Reader, b *batch.Batch, bad map[int32]bool) {
	r.Pieces(b, func(p segments.Piece) {
		if p.Message >= 0 {
			if c.Records++; bad[int32(p.Message)] {
				return
			}
		}
		out, err := r.AppendJSON(c.scratch[:0], b, p)
		if c.scratch = append(out, '\n'); err == nil && c.writer.Rules != nil {
			c.scratch, err = c.writer.Append(nil, out)
		}
		switch {
		case err != nil && p.Message >= 0:
			c.add(finding.New("convert.record", b.Place(p.Message, b.Bounds[p.Message].Off), "the message cannot be written as %s: %v", c.To, err))
			return
		case err != nil:
			c.add(finding.New("convert.around", place.InFile(c.name), "what stands between messages cannot be written as %s: %v", c.To, err))
			return
		case p.Message >= 0:
			c.Written++
		}
		c.out.Write(c.scratch) //nolint: the first failure comes back with the next write
	})
}

// objectToSegments writes a message or what stands between two.
func (c *converter) objectToSegments(raw []byte) error {
	out, err := c.writer.Append(c.scratch[:0], raw)
	if c.scratch = out; err != nil {
		return err
	}
	_, err = c.out.Write(out)
	return err
}

func (c *converter) rowToObject(raw []byte) error {
	out := append(c.scratch[:0], '{')
	for i, l := range format.Lines(c.reader.Outline(raw)) {
		if i > 0 {
			out = append(out, ',')
		}
		out = text.JSON.Append(append(text.JSON.Append(out, []byte(l.Path)), ':'), []byte(l.Value))
	}
	c.scratch = append(out, '}', '\n')
	_, err := c.out.Write(c.scratch)
	return err
}

// objectToRow writes an object without lists and objects in it. The first one says
// which columns there are.
func (c *converter) objectToRow(raw []byte) error {
	d := json.NewDecoder(bytes.NewReader(raw))
	d.UseNumber()
	if t, err := d.Token(); err != nil || t != json.Delim('{') {
		return errors.New("it is no object")
	}
	var names []string
	values := map[string]string{}
	for d.More() {
		key, err := d.Token()
		if err != nil {
			return err
		}
		value, err := d.Token()
		if err != nil {
			return err
		}
		name := key.(string) // the decoder lets nothing else be a name
		if _, nested := value.(json.Delim); nested {
			return fmt.Errorf("the member %q holds more than one value", name)
		}
		names = append(names, name)
		if value != nil {
			values[name] = fmt.Sprint(value)
		}
	}
	if c.columns == nil {
		c.columns = names
		c.row(func(name string) string { return name })
	}
	for _, n := range names {
		if !slices.Contains(c.columns, n) {
			return fmt.Errorf("the member %q is not among those of the first record, which are the columns", n)
		}
	}
	c.row(func(name string) string { return values[name] })
	return nil
}

// csvEscapes are those of RFC 4180.
var csvEscapes = text.NewEscapes(map[byte]string{'"': `""`, ',': ",", '\n': "\n", '\r': "\r"}).Quoted('"', false)

func (c *converter) row(value func(name string) string) {
	out := c.scratch[:0]
	for i, name := range c.columns {
		if i > 0 {
			out = append(out, ',')
		}
		out = csvEscapes.Append(out, []byte(value(name)))
	}
	if len(c.columns) == 1 && len(out) == 0 {
		out = append(out, `""`...) // an empty line is no row
	}
	c.scratch = append(out, '\n')
	c.out.Write(c.scratch) //nolint: the first failure comes back with the next write
}

func (c *converter) messageToObject(raw []byte) error {
	message := raw
	if set, ok := hl7.Written(message); !ok {
		return errors.New("its character set is not known")
	} else if set != text.UTF8 {
		var err error
		if message, err = text.DecodeAll(message, set); err != nil {
			return err
		}
	}
	out, sep, err := hl7.AppendJSON(c.scratch[:0], message, c.sep)
	if err != nil {
		return err
	}
	c.sep = sep
	c.scratch = append(out, '\n')
	_, err = c.out.Write(c.scratch)
	return err
}

// around writes segments around messages of HL7 as an object of their own. They have the
// separators that the last FHS or BHS names, whatever the messages have.
func (c *converter) around(segments []byte) {
	if segments = bytes.Trim(segments, "\r\n\x0b\x1c \t"); c.From != "hl7" || len(segments) == 0 {
		return
	}
	out, sep, err := hl7.AppendJSON(nil, segments, c.border)
	c.border = sep
	if err == nil && !utf8.Valid(segments) {
		err = errors.New("it is not UTF-8")
	}
	if err != nil {
		f := finding.New("convert.around", place.InFile(c.name), "what stands around the messages cannot be written as json: %v", err)
		c.add(f)
		return
	}
	c.out.Write(append(out, '\n')) //nolint: the first failure comes back with the next write
}

func (c *converter) objectToMessage(raw []byte) error {
	message, sep, err := hl7.FromJSON(raw, c.sep)
	if err != nil {
		return err
	}
	switch name := string(message[:min(3, len(message))]); name {
	case "FHS", "BHS":
		c.border = sep
	case "BTS", "FTS":
		if message, c.border, err = hl7.FromJSON(raw, c.border); err != nil {
			return err
		}
	default:
		c.sep = sep
	}
	set, ok := hl7.Written(message)
	if !ok {
		return errors.New("its MSH-18 names a character set that is not known")
	}
	if message, err = text.Encode(message, set); err != nil {
		return err
	}
	_, err = c.out.Write(message)
	return err
}
