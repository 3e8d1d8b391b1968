package route

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/format"
	"ydrion/core/lang"
	"ydrion/core/place"
)

// described is a target whose messages can be held against their description.
type described interface {
	// Validate tells where a message differs from what it says that it is.
	Validate(message []byte, say func(format.Difference))
	// Sample is the message that the target is based on.
	Sample() []byte
	// Described tells whether there is a description of it.
	Described() bool
}

// ofValues are the rules that can be held against a message of which not all values are known, and which may have more segments
// than messages will.
var ofValues = []string{"standard.code", "standard.length", "standard.form", "standard.required", "standard.not-used", "standard.more-fields", "standard.more-parts"}

// draft holds what a map will make against its description: constants that do not fit, elements that are required and that
// nothing fills, and what is wrong with the sample and stays so.
func (c *compilation) draft(m *branchMap, target format.Target, program *lang.Program) {
	of, can := target.(described)
	if !can {
		return
	}
	sample := map[string]place.Place{}
	of.Validate(of.Sample(), func(d format.Difference) {
		if _, twice := sample[key(d)]; !twice {
			sample[key(d)] = place.At(m.TargetSample, of.Sample(), d.At)
		}
	})
	told := map[string]bool{}
	parts, standIns := program.Draft()
	of.Validate(slices.Concat(parts[0], parts[1], parts[2]), func(d format.Difference) {
		at, before := sample[key(d)]
		unknown := slices.ContainsFunc(standIns, func(s batch.Span) bool { return int(s.Off) <= d.At && d.At <= int(s.End) })
		if d.Code == "standard.required" && !strings.Contains(d.Path, ".") {
			unknown = false // nothing at all stands there
		}
		if told[key(d)] || unknown || !before && !slices.Contains(ofValues, d.Code) {
			return
		}
		told[key(d)] = true
		said := d.Text
		if mapped, says := saidOf(program, d.Path); says || !before {
			if at = mapped; !says {
				at = m.at(m.At.Target)
			}
			said = d.Path + " of what is made: " + d.Text
		} else {
			at.Path = d.Path
		}
		f := finding.Warn(d.Code, at, "%s", said)
		f.Seen = d.Seen
		c.out = append(c.out, f)
	})
	for k := range sample {
		told[k] = true
	}
	m.told, m.envelope = told, [2][]byte{parts[0], parts[2]}
}

// held is what holds each message that a branch makes against its standard; nil if the route does not want that.
func (c *compilation) held(m *branchMap, target format.Target) func(made []byte) string {
	b := m.branch
	if b.Differs == "" || b.Differs == "ignore" {
		return nil
	}
	of, can := target.(described)
	switch {
	case !can:
		c.out = append(c.out, finding.New("route.differences", c.where(b, "differences"), "only messages of edifact, hl7 and x12 that a map makes of a sample are held against a standard"))
		return nil
	case !of.Described():
		c.out = append(c.out, finding.New("route.differences", c.where(b, "differences"), "nothing describes the message of %s, and so it cannot be held against anything", m.TargetSample))
		return nil
	}
	before, behind := m.envelope[0], m.envelope[1]
	return func(made []byte) string {
		var said []string
		more := 0
		of.Validate(slices.Concat(before, made, behind), func(d format.Difference) {
			switch text := d.Path + ": " + d.Text; {
			case d.At < len(before) || d.At >= len(before)+len(made) || slices.Contains(said, text):
			case len(said) < 3:
				said = append(said, text)
			default:
				more++
			}
		})
		if more > 0 {
			said = append(said, fmt.Sprintf("and %d more", more))
		}
		return strings.Join(said, "; ")
	}
}

// key is what tells differences apart: where, whichever of several segments that is in, and against which rule.
func key(d format.Difference) string { return uncounted.ReplaceAllString(d.Path, "") + " " + d.Code }

var uncounted = regexp.MustCompile(`\[\d+\]`)

// saidOf is where a map says what stands at a position: at that one, or at its like in all segments of the name.
func saidOf(program *lang.Program, path string) (place.Place, bool) {
	if at, says := program.At(path); says {
		return at, true
	}
	return program.At(uncounted.ReplaceAllString(path, ""))
}

// heldMade is what a branch makes of the records of a sample, held against its description.
type heldMade struct {
	number int
	branch *branchMap
	of     described
	seen   []format.Difference
	record []int64 // in which each was seen first
}

// mostMade is how many records of a sample are held against a description, in each branch.
const mostMade = 200

// hold holds what a record became.
func (m *heldMade) hold(record int64, text []byte) {
	before, behind := m.branch.envelope[0], m.branch.envelope[1]
	m.of.Validate(slices.Concat(before, text, behind), func(d format.Difference) {
		if d.At < len(before) || d.At >= len(before)+len(text) || m.branch.told[key(d)] {
			return
		}
		m.branch.told[key(d)] = true
		m.seen, m.record = append(m.seen, d), append(m.record, record)
	})
}
