package route

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/flow"
	"ydrion/core/format"
	"ydrion/core/lang"
	"ydrion/core/place"
	"ydrion/core/standard"
	"ydrion/workspace"
)

// validating tells where what was made of the messages of a batch differs from what they are described by.
type validating func(from format.Reader, b *batch.Batch) func(record int, made []byte, say func(format.Difference))

// retouched is a target of messages as they came. Which description is theirs is known when they come.
type retouched interface {
	Validating(from format.Reader, b *batch.Batch) func(record int, made []byte, say func(format.Difference))
	By(own *standard.Catalog)
}

// described is a target of a sample, whose messages can be validated against their description.
type described interface {
	// Validate tells where a message differs from what it says that it is.
	Validate(message []byte, say func(format.Difference))
	// Sample is the message that the target is based on.
	Sample() []byte
	// Described tells whether there is a description of it.
	Described() bool
	// Required are the elements that its segments must have.
	Required() map[string][]bool
	// By gives it another description than the standard's.
	By(own *standard.Catalog)
}

// ofValues are the rules that can be validated against a message of which not all values are known, and which may have more segments
// than messages will.
var ofValues = []string{"standard.code", "standard.length", "standard.form", "standard.required", "standard.not-used", "standard.more-fields", "standard.more-parts"}

// draft checks what a map will make against its description: constants that do not fit, elements that are required and that
// nothing fills, and what is wrong with the sample and stays so.
func (c *compilation) draft(m *branchMap, of described, program *lang.Program) {
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
		i := slices.IndexFunc(standIns, func(s lang.StandIn) bool { return int(s.Off) <= d.At && d.At <= int(s.End) })
		fraction := i >= 0 && standIns[i].Fraction && d.Code == "standard.form"
		unknown := i >= 0 && !fraction
		if d.Code == "standard.required" && !strings.Contains(d.Path, ".") {
			unknown = false // nothing at all stands there
		}
		if told[key(d)] || unknown || m.excepted(d) || !before && !slices.Contains(ofValues, d.Code) {
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
		if f.Seen = d.Seen; fraction {
			f = f.Suggest("the map writes a number there that may have decimals, such as %s: make it whole, as in `| round 0`, or `* 100 | round 0` for hundredths; or say that it is (integer in the schema)", d.Seen)
		}
		c.out = append(c.out, f)
	})
	for k := range sample {
		told[k] = true
	}
	m.told = told
	before, behind := parts[0], parts[2]
	m.validating = func(format.Reader, *batch.Batch) func(int, []byte, func(format.Difference)) {
		return func(_ int, made []byte, say func(format.Difference)) {
			of.Validate(slices.Concat(before, made, behind), func(d format.Difference) {
				if d.At -= len(before); 0 <= d.At && d.At < len(made) {
					say(d)
				}
			})
		}
	}
}

// required tells which elements of what a branch makes must have a value: those of its description, where the route does not say what
// becomes of differences.
func (m *branchMap) required(of described) func(segment string, element int) bool {
	if m.branch.Differs != "" {
		return nil
	}
	all := of.Required()
	return func(segment string, element int) bool {
		if must := all[segment]; element > len(must) || !must[element-1] {
			return false
		}
		return (&flow.Against{As: format.Refused, Except: m.differs.Except}).Strictness(format.Difference{Code: "standard.required", Path: fmt.Sprintf("%s-%d", segment, element)}) == format.Refused
	}
}

// validatedBy is the setting of a branch that wants what is made validated against a description; "" if none does.
func validatedBy(b *workspace.Branch) string {
	switch {
	case b.Described != "":
		return "description"
	case b.Differs != "" && b.Differs != "ignore":
		return "differences"
	case len(b.Except) > 0:
		return "except"
	}
	return ""
}

// describing is a branch's target with what its messages are validated against; nil if that is nothing, or known only when messages
// come.
func (c *compilation) describing(m *branchMap, target format.Target) described {
	b := m.branch
	of, can := target.(described)
	came, asCame := target.(retouched)
	bad := func(says string, args ...any) described {
		if by := validatedBy(b); by != "" {
			c.out = append(c.out, finding.New("route.differences", c.where(b, by), says, args...))
		}
		return nil
	}
	if !can && !asCame {
		return bad("only messages of edifact, hl7 and x12 are validated against a description")
	}
	if b.Described != "" {
		own := c.description(b.Described, m.TargetFormat, c.where(b, "description"))
		if own == nil {
			return nil
		}
		target.(interface{ By(*standard.Catalog) }).By(own)
	}
	if asCame {
		m.validating, m.told = came.Validating, map[string]bool{}
		return nil
	}
	switch {
	case of.Described():
	case b.Described != "":
		return bad("%s has nothing on the message of %s", b.Described, m.TargetSample)
	default:
		return bad("nothing describes the message of %s, and so it cannot be validated against anything", m.TargetSample)
	}
	return of
}

// excepted tells whether a difference does not count.
func (m *branchMap) excepted(d format.Difference) bool {
	for i := range m.differs.Except {
		if m.differs.Except[i].Fits(d) {
			return m.differs.Except[i].As == format.Unvalidated
		}
	}
	return false
}

// validation is what checks each message that a branch makes against its description; nil if the route does not want that.
func (c *compilation) validation(m *branchMap) func(from format.Reader, b *batch.Batch) func(record int, made []byte) (refused, told string) {
	counts := func(e workspace.Exception) bool { return e.As != "ignore" }
	if m.differs.As == format.Unvalidated && !slices.ContainsFunc(m.branch.Except, counts) {
		return nil
	}
	by := cmp.Or(m.branch.Described, "its standard")
	return func(from format.Reader, b *batch.Batch) func(record int, made []byte) (refused, told string) {
		validate := m.validating(from, b)
		return func(record int, made []byte) (refused, told string) {
			var said [2]differences
			validate(record, made, func(d format.Difference) {
				switch m.differs.Strictness(d) {
				case format.Refused:
					said[0].add(d)
				case format.Warned:
					said[1].add(d)
				}
			})
			return said[0].from(by), said[1].from(by)
		}
	}
}

// differences are those of a message that are told.
type differences struct {
	said []string
	more int
}

func (s *differences) add(d format.Difference) {
	switch text := d.Path + ": " + d.Text; {
	case slices.Contains(s.said, text):
	case len(s.said) < 3:
		s.said = append(s.said, text)
	default:
		s.more++
	}
}

// from says from what a message differs, and where; "" if nowhere.
func (s *differences) from(description string) string {
	switch {
	case s.said == nil:
		return ""
	case s.more > 0:
		s.said = append(s.said, fmt.Sprintf("and %d more", s.more))
	}
	return description + ": " + strings.Join(s.said, "; ")
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

// validatedMade is what a branch makes of the records of a sample, validated against its description.
type validatedMade struct {
	number int
	branch *branchMap
	seen   []format.Difference
	record []int64 // in which each was seen first
}

// mostMade is how many records of a sample are validated against a description, in each branch.
const mostMade = 200

// validate validates what the records of a batch became. What a message was that goes on as it came, it may stay.
func (m *validatedMade) validate(from format.Reader, b *batch.Batch) {
	validate := m.branch.validating(from, b)
	for i := range b.Records() {
		record := b.First + int64(i)
		if record > mostMade || !b.In(m.number, i) {
			continue
		}
		was := map[string]bool{}
		if m.branch.AsCame {
			validate(i, b.Raw(i), func(d format.Difference) { was[key(d)] = true })
		}
		validate(i, b.Branches[m.number].Made(i), func(d format.Difference) {
			if m.branch.told[key(d)] || was[key(d)] || m.branch.excepted(d) {
				return
			}
			m.branch.told[key(d)] = true
			m.seen, m.record = append(m.seen, d), append(m.record, record)
		})
	}
}
