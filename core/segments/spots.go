package segments

import (
	"slices"

	"ydrion/core/batch"
	"ydrion/core/standard"
)

// taking is a part that takes the segment at hand, the row that it fills, and how many of the part have come there.
type taking struct {
	part, occurrence int
	row              []batch.Span
	more             bool // it is the first of those for which there is no room
}

// spot is all that a course's next step depends on, but the segment, in messages of one structure: those of a kind
// come by the same few. What a segment does at a spot is found once, by going there, and done again from then on.
//
// Within loops, and into a level of a hierarchy that another is named for, a step depends on what the segment says:
// it is found anew.
type spot struct {
	node, place, group, depth int // see Course; there is no group outside of units
	inside                    bool
	first, deep               []int
	rows                      []spotRow
	levels                    []spotLevel
	saved                     []int // first and deep of each that is saved

	passages []*passage
	recent   [recent]*passage
}

// spotRow is that of a list; it says nothing if none is open.
type spotRow struct {
	open, last, level bool
	group, deep       int
}

// spotLevel is one of a hierarchy. It has a number.
type spotLevel struct{ nesting, end int }

// passage is what a segment does at a spot.
type passage struct {
	key    uint32
	chosen uint64 // of which parts it is that are chosen by an element
	to     *spot

	stands  int   // its node, -1: it has no place
	nesting int   // the level that it begins, under none of its kind; -1: it begins none
	end     int   // of that
	levels  int   // so many are open then
	leaves  bool  // a unit ends before it
	opens   bool  // and one begins with it
	forgets []int // parts that are no context any more
	begins  []int // lists of which it begins a row
	anew    []int // parts that are counted anew
	takes   []take
}

// take is a part that takes the segment.
type take struct {
	part int
	how  manner
	over bool // it stands before what the unit's parents have
}

// manner is how a part takes a segment.
type manner uint8

const (
	byRow    manner = iota // of a list
	byRecord               // which is the message
	byUnit
	asContext // of units to come
)

// chart has the spots of a structure, of which the first is where messages begin.
type chart struct {
	of    *standard.Structure
	spots []*spot
}

// atlas has the spots of all structures that messages of a kind of file have.
type atlas struct {
	charts []*chart
	astray bool // there are too many
}

// So much is kept. Messages that come by more have something else than what is usual.
const (
	mostCharts   = 32
	mostSpots    = 128
	mostPassages = 64
	mostChosen   = 64 // parts in one place
	recent       = 8
)

// End ends a walk: what it has found out is of use to the next.
func (c *Course) End() {
	if c.atlas != nil && !c.astray {
		c.atlases.Put(c.atlas)
	}
	c.atlas, c.chart, c.spot = nil, nil, nil
}

// turnTo prepares for messages of a structure.
func (c *Course) turnTo(of *standard.Structure) {
	if c.kin != nil || c.Loops != nil || c.crowded || c.follows && of == nil {
		c.chart, c.spot = nil, nil
		return
	}
	if c.atlas == nil {
		if c.atlas, _ = c.atlases.Get().(*atlas); c.atlas == nil {
			c.atlas = &atlas{}
		}
	}
	switch {
	case c.astray:
		c.chart, c.spot = nil, nil
		return
	case c.chart == nil || c.chart.of != of:
		i := slices.IndexFunc(c.charts, func(k *chart) bool { return k.of == of })
		if i < 0 {
			i, c.charts = len(c.charts), append(c.charts, &chart{of: of})
			c.astray = i == mostCharts
		}
		c.chart = c.charts[i]
	}
	if c.spot = nil; len(c.chart.spots) > 0 {
		c.spot = c.chart.spots[0]
	}
}

// Segment goes to a segment, and says how many parts take it. Each of them says Take, one after the other.
func (c *Course) Segment(name []byte, key uint32, start, end int) (takes int) {
	if c.passed = nil; c.spot == nil && !c.locate() {
		return c.find(name, key, start, end)
	}
	chosen := uint64(0)
	if at := bucket(key); (c.choosing|c.nests)>>at&1 != 0 {
		if c.nests>>at&1 != 0 && c.under(key) {
			c.leave()
			return c.find(name, key, start, end)
		}
		chosen = c.chosen(key)
	}
	p := c.spot.recent[spread(key)>>29]
	if p == nil || p.key != key || p.chosen != chosen {
		if p = c.spot.passage(key, chosen); p == nil {
			return c.learn(name, key, chosen, start, end)
		}
	}
	c.pass(p, start, end)
	return len(p.takes)
}

// Take gives one of the parts that take the segment at hand, the row that it fills, and how many of the part have come there.
// More tells that this is the first of those for which there is no room.
func (c *Course) Take(n int) (part int, row []batch.Span, occurrence int, more bool) {
	if c.passed == nil {
		t := &c.takings[n]
		return t.part, t.row, t.occurrence, t.more
	}
	t := &c.passed.takes[n]
	i := t.part
	k := &c.Parts[i]
	switch t.how {
	case byRow:
		row = c.rows[k.table].row
	case byRecord:
		c.seen[i]++
		return i, c.Row, c.seen[i], c.seen[i] == k.told
	case asContext: // what units have in common is not a list, which could have more of it
		c.seen[i]++
		return i, c.Row, c.seen[i], false
	default:
		if row = c.Row; t.over && c.counts[i] == 0 {
			c.clear(i, row)
		}
	}
	c.counts[i]++
	return i, row, c.counts[i], c.counts[i] == k.told
}

// under tells whether the segment at hand begins a level that is, or may be, within another of its kind.
func (c *Course) under(key uint32) bool {
	i := slices.Index(c.nested, key)
	if i < 0 {
		return false
	}
	c.number = c.at.Component(1, 1)
	return len(c.number) == 0 || len(c.at.Component(c.Nested[i].Above, c.Nested[i].Component)) > 0
}

// chosen tells of which parts a segment is that are chosen by an element, by their places among those with such names.
func (c *Course) chosen(key uint32) (chosen uint64) {
	for i, n := c.parted[bucket(key)], 0; i >= 0; i, n = c.Parts[i].next, n+1 {
		if k := &c.Parts[i]; k.key == key && k.Element > 0 && c.at.Is(k.Element, k.Value) {
			chosen |= 1 << n
		}
	}
	return chosen
}

// passage is the one of a segment, nil: it is not known.
func (s *spot) passage(key uint32, chosen uint64) *passage {
	for _, p := range s.passages {
		if p.key == key && p.chosen == chosen {
			s.recent[spread(key)>>29] = p
			return p
		}
	}
	return nil
}

// pass does what a segment does at the spot, as find does it.
func (c *Course) pass(p *passage, start, end int) {
	c.passed = p
	if p.nesting >= 0 {
		copy(c.first, c.spot.first)
		copy(c.deep, c.spot.deep)
		c.inside, c.depth = c.spot.inside, c.spot.depth
		c.descend(p.nesting, nil, c.number)
		c.levels[p.levels-1].end = p.end
	}
	c.spot, c.levels = p.to, c.levels[:p.levels]
	if p.stands >= 0 {
		c.stood[p.stands] = true
	}
	if p.leaves {
		c.Row = c.context
	}
	for _, k := range p.forgets {
		c.seen[k] = 0
		c.clear(k, c.context)
	}
	for _, i := range p.begins {
		c.rows[i].row = c.b.Row(i, uint32(c.at.Begins()))
	}
	for _, k := range p.anew {
		c.counts[k] = 0
	}
	if p.opens {
		c.Open(start, end)
	}
}

// clear takes the values of a part out of a row.
func (c *Course) clear(part int, row []batch.Span) {
	for n := range c.Parts[part].Wants {
		row[c.Parts[part].Wants[n].Slot] = batch.Missing
	}
}

// learn goes to a segment that has not been met at the spot, and keeps what it has done.
func (c *Course) learn(name []byte, key uint32, chosen uint64, start, end int) (takes int) {
	from := c.spot
	c.leave()
	p := &passage{key: key, chosen: chosen, stands: -1, nesting: -1}
	if c.follows {
		hop := c.hop(key, name)
		switch p.nesting = slices.Index(c.nested, key); {
		case hop.step == nil, !hop.plain && (hop.step.Node >= 0 || p.nesting >= 0):
			return c.find(name, key, start, end)
		case hop.plain:
			p.stands = hop.step.Node
		}
	}
	c.learning = p
	takes = c.find(name, key, start, end)
	if c.learning = nil; c.locate() {
		p.to, from.passages = c.spot, append(from.passages, p)
		if p.levels = len(c.levels); p.nesting >= 0 {
			p.end = c.levels[p.levels-1].end
		}
		c.astray = len(from.passages) > mostPassages
	}
	return takes
}

// leave goes on from a spot without it.
func (c *Course) leave() {
	s := c.spot
	c.spot, c.node, c.place, c.group, c.depth, c.inside, c.late = nil, s.node, s.place, s.group, s.depth, s.inside, false
	copy(c.first, s.first)
	copy(c.deep, s.deep)
	for i, r := range s.rows {
		c.rows[i].open, c.rows[i].last, c.rows[i].level, c.rows[i].group, c.rows[i].deep = r.open, r.last, r.level, r.group, r.deep
	}
}

// locate finds the spot at which the course is, if it is at one.
func (c *Course) locate() bool {
	if c.chart == nil || c.astray || c.aside || len(c.outer) > 0 {
		return false
	}
	s := &c.sought
	s.node, s.place, s.inside, s.group, s.depth = c.node, c.place, c.inside, 0, 0
	s.first, s.deep, s.rows, s.levels, s.saved = c.first, c.deep, s.rows[:0], s.levels[:0], s.saved[:0]
	if c.inside {
		s.group, s.depth = c.group, c.depth
	}
	for i := range c.rows {
		row := spotRow{}
		if r := &c.rows[i]; r.open {
			row = spotRow{true, r.last, r.level, r.group, r.deep}
		}
		s.rows = append(s.rows, row)
	}
	for _, l := range c.levels {
		if len(l.number) == 0 {
			return false
		}
		s.levels = append(s.levels, spotLevel{l.nesting, l.end})
	}
	for _, l := range c.saved {
		s.saved = append(s.saved, l.state[len(c.Parts):]...)
	}
	for _, k := range c.chart.spots {
		if k.is(s) {
			c.spot = k
			return true
		}
	}
	if len(c.chart.spots) == mostSpots {
		c.astray = true
		return false
	}
	kept := *s
	c.spot = &kept
	kept.first, kept.deep, kept.rows, kept.levels, kept.saved = slices.Clone(s.first), slices.Clone(s.deep), slices.Clone(s.rows), slices.Clone(s.levels), slices.Clone(s.saved)
	c.chart.spots = append(c.chart.spots, c.spot)
	return true
}

// is tells whether two spots are one.
func (s *spot) is(other *spot) bool {
	return s.node == other.node && s.place == other.place && s.group == other.group && s.depth == other.depth && s.inside == other.inside && slices.Equal(s.rows, other.rows) &&
		slices.Equal(s.levels, other.levels) && slices.Equal(s.first, other.first) && slices.Equal(s.deep, other.deep) && slices.Equal(s.saved, other.saved)
}
