package route

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/flow"
	"ydrion/core/format"
	"ydrion/core/formats"
	"ydrion/core/lang"
	"ydrion/core/place"
	"ydrion/core/value"
)

// mostSampled is how many records of a sample are looked at.
const mostSampled = 10_000

// sample checks a route against a file such as those that come: a field that no record of it has is
// mostly a mistake, as is one that stands more than once where the first is taken. What the route makes of
// it is told, too.
func (c *compilation) sample(p *flow.Plan, made []*branchMap) {
	said := c.route.Places["read.sample"]
	content, ok := c.file(c.route.Sample, said)
	if !ok {
		return
	}
	reader, _, findings, err := p.Open(bytes.NewReader(content))
	if reader == nil || err != nil {
		for _, f := range findings {
			c.warn("sample.unreadable", said, "%s cannot be read as this route reads: %s", c.route.Sample, f.Message)
			return
		}
		c.warn("sample.unreadable", said, "%s cannot be read: %v", c.route.Sample, err)
		return
	}
	found := look(reader, formats.Named(c.route.Format).Position != nil, len(p.Schema.Record))
	if found.records == 0 {
		c.warn("sample.empty", said, "%s has no records", c.route.Sample)
		return
	}
	mentioned := map[string]bool{}
	for _, m := range made {
		m.Mentions(func(name string, _ int) { mentioned[name] = true })
	}
	for slot, f := range p.Schema.Record {
		if p.Document != nil && !mentioned[f.Name] {
			continue
		}
		at := place.Place{File: c.route.Schema, Offset: -1, Path: f.Name}
		if said, is := c.said[f.Name]; is {
			at = said
		}
		switch {
		case !found.has[slot]:
			c.warn("sample.absent", at, "no record of %s has %s", c.route.Sample, f.At())
			if near := found.near(f.At()); near != "" {
				c.out[len(c.out)-1] = c.out[len(c.out)-1].Suggest("was %s meant?", near)
			}
		case found.repeated(f.At()) != "":
			part := found.repeated(f.At())
			c.warn("sample.first-only", at, "%s stands more than once in a record of %s, and %s is the first only", part, c.route.Sample, f.At())
			c.out[len(c.out)-1] = c.out[len(c.out)-1].Suggest("say %s if the first is meant, choose one by a value, or make each a record", strings.Replace(f.At(), part, part+"[1]", 1))
		}
	}
	seen := &tried{}
	for i, m := range made {
		if m.validating != nil {
			seen.made = append(seen.made, &validatedMade{branch: m, number: i})
		}
	}
	facts := lang.Facts{Route: c.route.Name, Now: value.FromTime(time.Now()), Name: path.Base(c.route.Sample)}
	result, err := p.Run(context.Background(), bytes.NewReader(content), flow.Inputs{Facts: facts, Cores: 1, Sequence: func(int) (int64, error) { return 1, nil }}, seen)
	if err == nil && (result.Rejected > 0 || result.Unreadable || result.Disagrees) {
		why := seen.first
		for _, f := range result.Findings {
			if f.Severity == finding.Error && why == "" {
				why = f.Message
			}
		}
		c.warn("sample.rejected", said, "this route rejects records of %s: %d of %d, the first because %s", c.route.Sample, result.Rejected, result.In, why)
	}
	for _, h := range seen.made {
		for i, d := range h.seen {
			at, says := saidOf(p.Branches[h.number].Program, d.Path)
			if !says {
				at = h.branch.at(h.branch.At.Target)
			}
			c.warn(d.Code, at, "%s of what is made of record %d of %s: %s", d.Path, h.record[i], c.route.Sample, d.Text)
			c.out[len(c.out)-1].Seen = d.Seen
		}
	}
}

func (c *compilation) warn(code string, at place.Place, says string, args ...any) {
	c.out = append(c.out, finding.Warn(code, at, says, args...))
}

// sampled is what there is in a sample.
type sampled struct {
	records int
	has     []bool // for each slot: a record has it
	paths   []string
	again   map[string]bool // paths that come more than once in a record
}

// look reads a sample. Parted tells that records are made of parts that can be named without being counted.
func look(r format.Reader, parted bool, slots int) *sampled {
	out := &sampled{has: make([]bool, slots), again: map[string]bool{}}
	seen := map[string]bool{}
	b := &batch.Batch{First: 1}
	for more := true; more && out.records < mostSampled; {
		b.Reset()
		var err error
		more, err = r.Cut(b)
		var broken *format.Broken
		if errors.As(err, &broken) {
			more = false
		} else if err != nil {
			return out
		}
		r.Split(b)
		for i := range b.Records() {
			for slot := range slots {
				out.has[slot] = out.has[slot] || b.Spans[i*b.Slots+slot] != batch.Missing
			}
			raw := b.Raw(i)
			if parted {
				raw = r.Raw(b, i)
				out.count(r.Outline(raw))
			}
			r.Survey(raw, func(path, _ []byte) {
				if !seen[string(path)] {
					seen[string(path)] = true
					out.paths = append(out.paths, string(path))
				}
			})
		}
		out.records += b.Records()
		b.First += int64(b.Records())
	}
	return out
}

// near is the path that may have been meant by one that no record has; "" if none comes near. Positions that
// are numbers in the same segment are not near each other.
func (s *sampled) near(path string) string {
	segment, _, numbered := strings.Cut(path, "-")
	if numbered && slices.ContainsFunc(s.paths, func(p string) bool { return strings.HasPrefix(p, segment+"-") }) {
		return ""
	}
	if near := finding.Nearest(path, s.paths); near != path {
		return near
	}
	return ""
}

// count notes the parts of a record that come more than once: segments, and repetitions of fields.
func (s *sampled) count(nodes []format.Node) {
	for _, n := range nodes {
		if segment, rest, ok := strings.Cut(n.Path, "["); ok {
			if n.Kind == format.Segment {
				s.again[segment] = true
			} else if strings.Contains(segment, "-") && !strings.HasPrefix(rest, "1]") {
				s.again[segment] = true
			}
		}
		if head, field, ok := strings.Cut(n.Path, "]-"); ok { // of a segment that is counted itself
			if number, _, repeats := strings.Cut(field, "["); repeats {
				segment, _, _ := strings.Cut(head, "[")
				s.again[segment+"-"+number] = true
			}
		}
	}
}

// repeated is the part of a path that comes more than once, and that the path neither counts nor chooses;
// "" if none does.
func (s *sampled) repeated(path string) string {
	segment, field, _ := strings.Cut(path, "-")
	if s.again[segment] {
		return segment
	}
	segment, _, _ = strings.Cut(segment, "[")
	segment, _, _ = strings.Cut(segment, "(")
	number := field
	if i := strings.IndexAny(field, ".["); i >= 0 {
		number = field[:i]
	}
	if part := segment + "-" + number; s.again[part] && !strings.Contains(field, "[") {
		return part
	}
	return ""
}

// tried keeps why a route rejects the first record that it does.
type tried struct {
	opened *flow.Opened
	first  string
	made   []*validatedMade
}

func (t *tried) Open(o *flow.Opened) error { t.opened = o; return nil }

func (t *tried) Batch(b *batch.Batch) error {
	for _, h := range t.made {
		h.validate(t.opened.Reader, b)
	}
	if i := slices.Index(b.Outcomes, batch.Rejected); i >= 0 && t.first == "" {
		for _, f := range t.opened.Findings(b, i) {
			if f.Severity == finding.Error && t.first == "" {
				t.first = fmt.Sprintf("in record %d %s", f.Place.Record, f.Message)
				if f.Place.Path != "" {
					t.first = fmt.Sprintf("in record %d %s: %s", f.Place.Record, f.Place.Path, f.Message)
				}
			}
		}
	}
	return nil
}

func (t *tried) Broken(*format.Broken) error { return nil }
