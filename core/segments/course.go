package segments

import (
	"slices"

	"ydrion/core/batch"
	"ydrion/core/standard"
)

// Course goes through the segments of messages and says of each which records want something of
// it. It is told the segments one after the other; how they are written is the format's.
//
// A message is a record, or each of its units is: then what stands around a unit is its context. Where
// the standard knows the message, its groups say what belongs to what. Where it does not, a segment that
// comes again ends what has come after it, a unit takes all that is known by then, and what is met first
// behind a unit is a part of it.
type Course struct {
	*Wanted
	Habits
	Row    []batch.Span // what is filled: the record's, or the context of units to come
	Record int

	b        *batch.Batch
	at       Elements
	outside  []batch.Span // what stands around all messages, nil: nothing
	context  []batch.Span // of units to come
	seen     []int        // occurrences of each part in its scope
	first    []int        // when each part was met, 0: not yet
	deep     []int        // in which level of a hierarchy
	counts   []int        // occurrences of each part in the unit
	order    int
	levels   []level
	saved    []surroundings // what stood around the first level in each that is open
	outer    []hidden       // context that other context, nearer to the units to come, hides
	state    []int          // seen, first and deep
	looping  Looping        // where there are loops
	previous bool           // what came last, but notes, is a unit
	nested   []uint32       // the segments that begin levels
	nests    uint64         // the places of their names
	note     uint32         // see Habits, 0: there is none
	follows  bool           // something depends on where a segment stands
	rows     []rowing       // of the lists

	structure *standard.Structure // nil: not known
	holds     *standard.Structure // that holding is of
	holding   []bool              // of its nodes: a unit may stand in it
	node      int                 // of the segment that came last
	came      *standard.Step      // of it, nil: there is no structure
	stood     []bool              // of the structure's nodes: a segment has come for it
	aside     bool                // the segment at hand is none of a unit that goes on behind it, and
	unit      []batch.Span        // whose row this is
	late      bool                // the segment that came last comes later than it should, and
	place     int                 // the node at which the segment that came last stands: before that of those before it, where it is late
	group     int                 // of the unit
	depth     int                 // so many levels were open when it had begun
	below     bool                // the segment at hand begins a level under it
	inside    bool                // a unit's group goes on
	hops      [4 * buckets]hop    // that came last
	kin       *Kin                // takes what belongs to units, where that is wanted
	takings   []taking            // of the segment at hand

	*atlas
	chart    *chart   // of the message's structure, nil: each step is found anew
	spot     *spot    // where the course is, nil: that is not known. If it is, what a spot has is looked up there alone
	sought   spot     // see locate
	number   []byte   // of the level that the segment at hand begins
	passed   *passage // of the segment at hand, nil: it was not known
	learning *passage // keeps what is done, nil: nothing does
}

// rowing is a list of which a row may be open.
type rowing struct {
	open   bool
	group  int  // the node of the structure whose segments belong to the row
	deep   int  // in which level of a hierarchy it is
	level  bool // it is one
	last   bool // nothing but notes has come since it began
	begins bool // the segment at hand begins it
	row    []batch.Span
}

// Habits are what a standard says of all its messages.
type Habits struct {
	// Note is the segment that belongs to the one that it follows; empty: there is none. If Close says so,
	// it belongs to nothing else.
	Note  string
	Close bool
	// Bare is a segment to which nothing but notes belongs.
	Bare string
	// Nested are the segments that begin a level of a hierarchy, each before those that are in its levels;
	// Last is the one that ends the hierarchy where no structure says so.
	Nested []Nesting
	Last   string
}

// Nesting is a segment that begins a level of a hierarchy: with its number in element 1, and that of the
// level above in a component of another.
type Nesting struct {
	Segment          string
	Above, Component int
}

// Elements is the segment at which a format is.
type Elements interface {
	// Is tells whether the first component of an element has a value.
	Is(element int, value string) bool
	// Component is the text of a component of an element.
	Component(element, component int) []byte
	// Begins is where it begins in the batch.
	Begins() int
}

// hop is how a segment of a name follows the one at a node of a structure.
type hop struct {
	key   uint32
	from  int32
	of    *standard.Structure
	step  *standard.Step // nil: its elements choose it
	plain bool           // it has its place there
}

// hop finds how a segment follows the one that came last.
func (c *Course) hop(key uint32, name []byte) *hop {
	h := &c.hops[spread(key+uint32(c.node)<<24)>>24]
	if h.key != key || int(h.from) != c.node || h.of != c.structure {
		*h = hop{key: key, from: int32(c.node), of: c.structure}
		if !c.structure.Chooses(name) {
			h.step = c.structure.Next(c.node, name)
			h.plain = h.step.Node >= 0 && !h.step.Odd && !h.step.Late && !h.step.Passed
		}
	}
	return h
}

// NewCourse begins a walk through the messages of a batch.
func NewCourse(w *Wanted, habits Habits, b *batch.Batch, at Elements) Course {
	n := make([]int, 4*len(w.Parts))
	part := func(i int) []int { return n[i*len(w.Parts) : (i+1)*len(w.Parts)] }
	c := Course{Wanted: w, Habits: habits, b: b, at: at, state: n[:3*len(w.Parts)], seen: part(0), first: part(1), deep: part(2), counts: part(3)}
	for _, n := range habits.Nested {
		k := segmentKey(n.Segment)
		c.nested, c.nests = append(c.nested, k), c.nests|1<<bucket(k)
	}
	c.note = segmentKey(habits.Note)
	c.follows, c.rows = w.Placed(), make([]rowing, len(w.lists))
	if w.Unit >= 0 {
		c.context = make([]batch.Span, w.Slots)
	}
	return c
}

// Begin goes to a message, which is this record if there are no units. The structure is nil if it is not
// known.
func (c *Course) Begin(record int, structure *standard.Structure) {
	structure = c.hold(structure)
	clear(c.seen)
	clear(c.first)
	c.saved, c.outer, c.aside = c.saved[:0], c.outer[:0], false
	c.order, c.inside, c.previous, c.node, c.place, c.levels, c.structure = 0, false, false, 0, 0, c.levels[:0], structure
	clear(c.rows)
	if c.Record = record; c.Unit < 0 {
		c.Row = c.grow()
		c.b.Begin(-1, record)
	} else {
		c.Row = c.context
	}
	if c.outside != nil {
		copy(c.Row, c.outside)
	} else {
		for i := range c.Row {
			c.Row[i] = batch.Missing
		}
	}
	if structure != nil {
		c.stood = slices.Grow(c.stood[:0], len(structure.Nodes))[:len(structure.Nodes)]
		clear(c.stood)
	}
	if c.Loops != nil {
		c.looping.Begin(c.Loops, c.Unit >= 0, c.Note)
	}
	c.turnTo(structure)
}

// hold finds where in a structure units may stand. One without a place in it, such as a segment of one's own, may
// stand in all of it, where segments belong to what they follow; where they do not, the structure says nothing of it.
func (c *Course) hold(structure *standard.Structure) *standard.Structure {
	if structure == nil || c.Unit < 0 {
		return structure
	}
	if structure != c.holds {
		c.holding, c.holds = structure.Holding(c.Parts[c.Unit].Name), structure
		for i := range c.holding {
			c.holding[i] = c.holding[i] || c.Close && !structure.Knows(c.Parts[c.Unit].Name)
		}
	}
	if !c.holding[0] {
		return nil
	}
	return structure
}

// grow adds a row to the spans, for its caller to fill.
func (c *Course) grow() []batch.Span {
	spans, slots := c.b.Spans, c.Slots
	at := len(spans)
	if cap(spans)-at < slots {
		grown := make([]batch.Span, at, 2*cap(spans)+64*(slots+1))
		copy(grown, spans)
		spans = grown
	}
	spans = spans[:at+slots]
	c.b.Spans = spans
	return spans[at:]
}

// Open makes a record of a unit. What is known of its surroundings is there already.
func (c *Course) Open(start, end int) {
	c.Record = len(c.b.Bounds)
	c.b.Bounds = append(c.b.Bounds, batch.Span{Off: uint32(start), End: uint32(end)})
	c.Row = c.grow()
	copy(c.Row, c.context)
	clear(c.counts)
	clear(c.rows)
	c.b.Begin(-1, c.Record)
}

// find goes to a segment, and finds which parts take it.
func (c *Course) find(name []byte, key uint32, start, end int) (takes int) {
	if c.follows {
		c.follow(name, key)
	}
	c.takings = c.takings[:0]
	for i := c.of(c.parted[bucket(key)], key); i >= 0; i = c.of(c.Parts[i].next, key) {
		if t := c.into(i, start, end); t.occurrence > 0 {
			c.takings = append(c.takings, t)
		}
	}
	return len(c.takings)
}

func (c *Course) follow(name []byte, key uint32) {
	if c.aside {
		c.inside, c.Row, c.aside = true, c.unit, false
	}
	nesting := -1
	if c.nests>>bucket(key)&1 != 0 {
		nesting = slices.Index(c.nested, key)
	}
	hierarchy := nesting >= 0
	if hierarchy && (c.Unit >= 0 || len(c.rows) > 0) {
		of := &c.Nested[nesting]
		c.descend(nesting, c.at.Component(of.Above, of.Component), c.at.Component(1, 1))
	}
	if c.came = nil; c.structure != nil {
		c.step(key, name, hierarchy)
	}
	if c.Unit >= 0 && key != c.note {
		c.previous = key == c.Parts[c.Unit].key
		if c.inside && c.bare(name) {
			c.inside, c.Row = false, c.context
			if c.learning != nil {
				c.learning.leaves = true
			}
		}
	}
	if c.Loops != nil {
		c.loop(key, name, hierarchy)
	}
	if len(c.rows) > 0 && c.kin == nil {
		c.list(key, name, hierarchy)
	}
}

// bare tells whether a segment, which is no note, cannot belong to a unit before it.
func (c *Course) bare(name []byte) bool {
	unit := c.Parts[c.Unit].Name
	return c.Close && unit[0] == ofOnesOwn && name[0] != ofOnesOwn || c.structure == nil && c.Bare != "" && unit == c.Bare
}

// ofOnesOwn begins the names of segments that partners have agreed on, where notes belong to what they follow (HL7 v2, 2.11).
const ofOnesOwn = 'Z'

// loop goes to a segment in the loops.
func (c *Course) loop(key uint32, name []byte, hierarchy bool) {
	if u := c.Unit; u >= 0 && c.is(u, key) {
		c.looping.Renew()
	}
	c.looping.Segment(name, c.structure, c.came, hierarchy, c.late, func(l *Loop) bool { return c.at.Is(l.Element, l.Value) })
	for _, loop := range c.looping.Again {
		for k := range c.Parts {
			if c.Unit >= 0 && !c.inside && c.Loops.Within(c.Parts[k].loop, loop) {
				c.forget(k)
			}
		}
	}
}

// list ends the rows that the segment at hand does not belong to, and begins those that it begins.
func (c *Course) list(key uint32, name []byte, hierarchy bool) {
	moved := c.structure != nil && c.came.Node >= 0 && !c.late
	for i := range c.rows {
		r, l := &c.rows[i], &c.lists[i]
		switch {
		case !r.open:
		case l.above >= 0 && !c.rows[l.above].open,
			moved && !(hierarchy && r.level) && (c.came.Started <= r.group || c.came.Node >= c.structure.Nodes[r.group].End),
			c.structure == nil && l.part >= 0 && c.Bare != "" && c.Parts[l.part].Name == c.Bare && key != c.note:
			r.open = false
		}
		r.last, r.begins = r.last && key == c.note, false
	}
	if c.beginning>>bucket(key)&1 == 0 {
		return
	}
	for i := range c.rows {
		r, l := &c.rows[i], &c.lists[i]
		if l.part < 0 || c.Parts[l.part].key != key || !c.is(l.part, key) || !c.looping.In(c.Parts[l.part].loop, c.structure, c.came) {
			continue
		}
		if l.above < 0 && c.Unit >= 0 && !c.inside || l.above >= 0 && (!c.rows[l.above].open || !c.mine(&c.rows[l.above], &c.Parts[l.part])) {
			continue
		}
		r.open, r.begins, r.last = true, true, true
		r.deep, r.level, r.row = len(c.levels), hierarchy, c.b.Row(i, uint32(c.at.Begins()))
		if c.learning != nil {
			c.learning.begins, c.learning.anew = append(c.learning.begins, i), append(c.learning.anew, l.parts...)
		}
		if r.group = 0; c.structure != nil {
			r.group = c.structure.Scope(c.place)
		}
		c.closeBelow(i)
		for _, k := range l.parts {
			c.counts[k] = 0
		}
	}
}

// mine tells whether the segment at hand is a row's own, and not that of something in it, where that makes a
// difference: a note that belongs to what it follows.
func (c *Course) mine(r *rowing, k *Part) bool {
	switch {
	case !c.Close || k.key != c.note || k.loop >= 0 || r.begins:
		return true
	case c.structure == nil || c.came.Node < 0:
		return r.last
	}
	return c.structure.Nodes[c.came.Node].Parent == r.group
}

// closeBelow ends the rows of the lists in a list.
func (c *Course) closeBelow(i int) {
	for _, below := range c.lists[i].inner {
		c.rows[below].open = false
		c.closeBelow(below)
	}
}

// is tells whether the segment at hand is of a part, whatever loop that is in.
func (c *Course) is(i int, key uint32) bool {
	k := &c.Parts[i]
	return k.key == key && (k.Element == 0 || c.at.Is(k.Element, k.Value))
}

// of is the first part, of one and those behind it, that the segment at hand is of; -1 if it is of none.
func (c *Course) of(i int, key uint32) int {
	for i >= 0 && !(c.is(i, key) && (c.Parts[i].loop < 0 || c.looping.In(c.Parts[i].loop, c.structure, c.came))) {
		i = c.Parts[i].next
	}
	return i
}

// into finds the row that takes the segment at hand for a part. None does if no occurrence of the part has come there.
func (c *Course) into(i, start, end int) taking {
	k := &c.Parts[i]
	switch {
	case k.table >= 0:
		r := &c.rows[k.table]
		if !r.open || !c.mine(r, k) {
			return taking{}
		}
		c.counts[i]++
		return c.took(take{part: i, how: byRow}, c.counts[i], r.row)
	case c.Unit < 0:
		c.seen[i]++
		return c.took(take{part: i, how: byRecord}, c.seen[i], c.Row)
	}
	switch {
	case c.beneath(i):
		return taking{}
	case i == c.Unit:
		c.Open(start, end)
		c.enclose()
		if c.learning != nil {
			c.learning.opens = true
		}
	case c.structure != nil:
		if !c.inside && !c.around(i) {
			return taking{}
		}
	case c.inside && int(c.b.Bounds[c.Record].Off) == start: // another way to name the unit
	case !c.enter(i):
		return taking{}
	}
	if !c.inside {
		c.seen[i]++
		return c.took(take{part: i, how: asContext}, c.seen[i], c.Row)
	}
	over := c.first[i] != 0
	if c.counts[i]++; over && c.counts[i] == 1 { // its own stands before its parents'
		c.clear(i, c.Row)
	}
	return c.took(take{part: i, how: byUnit, over: over}, c.counts[i], c.Row)
}

// took is what a part takes. What units have in common is not a list, which could have more of it.
func (c *Course) took(t take, occurrence int, row []batch.Span) taking {
	if c.learning != nil {
		c.learning.takes = append(c.learning.takes, t)
	}
	return taking{t.part, occurrence, row, occurrence == c.Parts[t.part].told && t.how != asContext}
}

// Alone tells whether of a part the first is taken, and nobody says that it is meant.
func (c *Course) Alone(i int) bool { return c.Parts[i].alone }

// MostOf is the position of the last that is taken of a part.
func (c *Course) MostOf(i int) int { return c.Parts[i].mostOf }

// enclose begins what belongs to a unit.
func (c *Course) enclose() {
	switch c.inside, c.depth = true, len(c.levels); {
	case c.structure == nil:
	case c.came.Node < 0: // it belongs to what it follows
		c.group = c.structure.Nodes[c.place].Parent
	default:
		c.group = c.structure.Scope(c.place)
	}
}

// step goes to a segment in the structure. What a group that begins anew had is no context
// any more, if units stand in it. The levels of a hierarchy see to themselves. A segment that the structure
// does not know belongs to what it follows.
func (c *Course) step(key uint32, name []byte, hierarchy bool) {
	hop := c.hop(key, name)
	step := hop.step
	if step == nil {
		step = c.structure.Follow(c.node, name, func(by *standard.Choice) bool {
			return slices.ContainsFunc(by.Values, func(v string) bool { return c.at.Is(by.Element, v) })
		})
	}
	if hop.plain {
		c.came, c.late, c.place, c.stood[step.Node] = step, false, step.Node, true
	} else {
		if (step.Odd || step.Late) && c.Close && key == c.note { // a note that has no place here belongs to what it follows, not to what might come
			step = c.structure.At(c.node, 0)
		}
		if c.came, c.late = step, false; step.Node < 0 {
			return
		}
		c.place = step.Node
		again := c.stood[c.place] && c.structure.Nodes[c.place].Max == 1
		c.stood[c.place] = true
		if c.late = step.Late || step.Passed && !again; c.late { // all that is open goes on behind it
			if c.inside && (step.Started <= c.group || step.Node >= c.structure.Nodes[c.group].End) {
				c.aside, c.unit = !c.is(c.Unit, key), c.Row
				c.inside, c.Row = false, c.context
			}
			return
		}
	}
	c.node = step.Node
	if n := len(c.levels); hierarchy && n > 0 {
		c.levels[n-1].end = c.structure.Nodes[c.structure.Scope(c.node)].End
	}
	for n := len(c.levels); n > 0 && !hierarchy && c.levels[n-1].end > 0 && c.node >= c.levels[n-1].end; n-- {
		c.levels = c.levels[:n-1]
	}
	if c.Unit < 0 {
		return
	}
	if hierarchy && c.below && slices.Contains(c.nested, c.Parts[c.Unit].key) { // what belongs to the level has its place elsewhere
		for c.group > 0 && (step.Node < c.group || step.Node >= c.structure.Nodes[c.group].End) {
			c.group = c.structure.Nodes[c.group].Parent
		}
	} else if c.inside && (key == c.Parts[c.Unit].key || step.Started <= c.group || step.Node >= c.structure.Nodes[c.group].End || len(c.levels) < c.depth) {
		c.inside, c.Row = false, c.context
		if c.learning != nil {
			c.learning.leaves = true
		}
	}
	if hierarchy {
		return
	}
	from, to := step.Started, c.structure.Nodes[step.Started].End
	if step.Passed {
		to = len(c.structure.Nodes)
	}
	if !c.holding[from] && !step.Passed {
		return
	}
	if from != step.Node {
		c.looping.Ends(from, to)
		if c.kin != nil {
			c.kin.Ends(from, to, anyLevel)
		}
	}
	goes := func(first int) bool {
		return first >= from && first < to && !(first == step.Node && from == step.Node && !step.Passed)
	}
	if len(c.outer) > 0 {
		c.outer = slices.DeleteFunc(c.outer, func(h hidden) bool { return goes(h.first) })
	}
	for k := range c.Parts {
		if goes(c.first[k]) {
			c.forget(k)
			c.show(k)
		}
	}
}
