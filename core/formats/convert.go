package formats

import (
	"bufio"
	"cmp"
	"context"
	"fmt"
	"io"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/format"
	"ydrion/core/place"
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

// Convert writes a file in another format, where that needs no map: CSV as JSON
// objects of texts, one a line, and back; HL7 v2, X12 and EDIFACT as JSON, and back; X12 and EDIFACT as
// themselves in canonical style. A record that cannot be said so is a finding and is left out.
func Convert(ctx context.Context, in io.Reader, name, to string, style format.Style, out io.Writer) (*Converted, error) {
	guess, decoded, err := recognise(in, format.Known{})
	if err != nil {
		return nil, err
	}
	c := &converter{Converted: Converted{From: guess.Format, To: to, Findings: finding.List{}}, name: name, out: bufio.NewWriterSize(out, 1<<16)}
	source, target := Named(guess.Format), Named(to)
	switch {
	case source == nil || source != target && source.Name != "json" && to != "json" || source == target && !source.Canonical:
		return nil, Unable(fmt.Sprintf("%s cannot be written as %s without a map: make a route for it", cmp.Or(guess.Format, "a file of no known format"), to))
	case source == target && !style.Canonical:
		return nil, Unable(fmt.Sprintf("the file is %s already; only its canonical style could be written", to))
	}
	reader, findings, err := format.Open(sourceOf(&guess), decoded, nil)
	c.add(findings...)
	if err != nil || reader == nil {
		return &c.Converted, err
	}
	if err := c.run(ctx, reader, source.Objects(), target.Written(style)); err != nil {
		return nil, err
	}
	c.add(reader.Finish(c.Records)...)
	return &c.Converted, c.out.Flush()
}

type converter struct {
	Converted
	name    string
	out     *bufio.Writer
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

func (c *converter) run(ctx context.Context, r format.Reader, objects format.Objects, write func(to, object []byte) ([]byte, error)) error {
	return batches(ctx, r, func(b *batch.Batch, broken *format.Broken) error {
		bad := map[int32]bool{}
		for _, n := range b.Notes {
			c.add(r.Describe(b, n))
			bad[n.Record] = bad[n.Record] || !n.Warn
		}
		c.Records += int64(b.Records())
		objects(r, b, func(record int) bool { return !bad[int32(record)] }, func(record int, object []byte, err error) {
			if err == nil {
				c.scratch, err = write(c.scratch[:0], object)
			}
			switch {
			case err != nil && record >= 0:
				c.add(finding.New("convert.record", b.Place(record, b.Bounds[record].Off), "the record cannot be written as %s: %v", c.To, err))
				return
			case err != nil:
				c.add(finding.New("convert.around", place.InFile(c.name), "what stands between records cannot be written as %s: %v", c.To, err))
				return
			case record >= 0:
				c.Written++
			}
			c.out.Write(c.scratch) //nolint: the first failure comes back with the next write
		})
		if broken != nil {
			c.Records++
			broken.Finding.Place.Record = c.Records
			c.add(broken.Finding)
		}
		_, err := c.out.Write(nil) // what has failed is kept there
		return err
	})
}
