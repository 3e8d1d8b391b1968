package lang

import (
	"cmp"
	"fmt"
	"slices"
	"sync"

	"ydrion/core/finding"
	"ydrion/core/place"
	"ydrion/core/text"
	"ydrion/core/value"
)

// zoneless is a place of a map where times are written without the offset from UTC that they have: 12:00+02:00 and 12:00Z become the same.
type zoneless struct {
	at      place.Place
	written string
}

// LostZones counts the times of which the offset was not written, by where in the maps that is. Several cores may tell it.
type LostZones struct {
	guard sync.Mutex
	of    map[zonelessIn]*lostZone
}

// zonelessIn is such a place, for records of one of the files of a run.
type zonelessIn struct {
	*zoneless
	file int
}

type lostZone struct {
	times int
	first place.Place
	value []byte
}

func (l *LostZones) add(where *zoneless, e *Env, t value.Moment) {
	in := zonelessIn{where, e.batch.FileOf(e.index)}
	off := e.batch.Bounds[e.index].Off
	l.guard.Lock()
	defer l.guard.Unlock()
	one := l.of[in]
	if one == nil {
		if l.of == nil {
			l.of = map[zonelessIn]*lostZone{}
		}
		one = &lostZone{}
		l.of[in] = one
	}
	if one.times++; one.times == 1 || e.batch.First+int64(e.index) < one.first.Record { // batches are worked on in any order
		one.first, one.value = e.batch.Place(e.index, off), value.OfTime(t).Append(nil)
	}
}

// Findings tells of those of a file, and forgets them.
func (l *LostZones) Findings(file int) (out finding.List) {
	l.guard.Lock()
	defer l.guard.Unlock()
	for where, one := range l.of {
		if where.file != file {
			continue
		}
		delete(l.of, where)
		values := "a value has an offset from UTC, and is"
		if one.times > 1 {
			values = fmt.Sprintf("%d values have an offset from UTC, and are", one.times)
		}
		f := finding.Warn("map.zone", one.first, "%s written without it, %s: the first is %s", values, where.written, one.value)
		f.Rule = where.at.String()
		out = append(out, f.Suggest(sayZone))
	}
	slices.SortFunc(out, func(x, y finding.Finding) int { return cmp.Compare(x.Rule, y.Rule) })
	return out
}

const sayZone = "say which local time is meant: | zone \"Europe/Dublin\", or | local for the sender's; or write the offset: XXX"

// zoned watches over what writes times of day without an offset: of those that have one, read as their sender wrote them, it would be lost unsaid. It
// warns where all of them have, and counts them where they may.
func (c *compiler) zoned(n *Call, op operation) operation {
	pattern := c.arguments(n.Args[1:])[0].text
	p, err := text.ParsePattern(pattern)
	if err != nil || c.aside { // that says no time to anybody
		return op
	}
	if says, _ := p.Says(); says.Offset != value.NoZone || says.Precision < value.Hour {
		return op
	}
	switch may, must := c.offset(n.Args[0]); {
	case must && !c.warned[n.Pos()]:
		c.warned[n.Pos()] = true
		c.out = append(c.out, finding.Warn("map.zone", c.place(n.Pos()), "%s has an offset from UTC, and %q writes times without it: 12:00+02:00 and 12:00Z become the same", n.Args[0], pattern).Suggest(sayZone))
		return op
	case must || !may:
		return op
	}
	where := &zoneless{c.place(n.Pos()), fmt.Sprintf("as %q", pattern)}
	return func(e *Env, in value.Value) value.Value {
		if e.Zones != nil && e.batch != nil && in.Time.Offset != value.NoZone {
			e.Zones.add(where, e, in.Time)
		}
		return op(e, in)
	}
}

// offset tells whether a time may have, or has, the offset from UTC that its sender gave it. One that the map has brought into a zone is meant so.
func (c *compiler) offset(n Node) (may, must bool) {
	if known, is := c.known(n); is {
		return known.Offset != value.NoZone, known.Offset != value.NoZone
	}
	switch n := n.(type) {
	case *Name:
		if l := c.bound[n]; l != nil {
			defer c.inside(l)()
			return c.offset(l.node)
		}
		depth, slot, word := c.find(n)
		return word == "" && slot >= 0 && (n.Field || depth > 0 || !c.words[n.Name]) && c.frames[depth].fields[slot].Kind == value.Time, false
	case *Call:
		switch {
		case len(n.Args) == 0: // it has been complained about
		case n.Name == "date":
			return true, false
		case n.Name == "shift" || n.Name == "startof" || n.Name == "endof":
			return c.offset(n.Args[0])
		}
	case *Answer:
		return c.offset(n.X)
	case *Choice:
		for _, of := range n.Cases {
			one, _ := c.offset(of.Value)
			may = may || one
		}
		one, _ := c.offset(n.Otherwise)
		return may || one, false
	}
	return false, false
}
