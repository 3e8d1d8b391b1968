package lang

import (
	"strings"

	"ydrion/core/batch"
	"ydrion/core/place"
)

// StandIn is in the place of a value that only a record can give, in a draft.
type StandIn struct {
	batch.Span
	Fraction bool // it is a number that may have decimals, and has some
}

// Draft is an output of one record of which nothing is known: what stands before it, what it becomes, and what stands behind. What the map says
// itself stands there as it is, and a stand-in, at the spans (of all three together), for each value that comes from the record. Everything that
// may stand there does, once.
func (p *Program) Draft() (parts [3][]byte, standIns []StandIn) {
	before := 0
	for k, x := range []*Program{p.begins, p, p.ends} {
		if x == nil {
			continue
		}
		text := []byte{}
		for i := range x.actions {
			a := &x.actions[i]
			text = append(append(text, a.prefix...), a.member...)
			mark := len(text)
			switch a.kind {
			case copyClean, copyText, answered, translate, rearrange, evaluate, count, total, level, above:
				if text = append(text, '1'); a.fraction {
					text = append(text, p.decimal, '5')
				}
				if a.extra != nil && a.extra.width > 0 {
					text, _ = a.extra.pad(text, mark)
				}
				standIns = append(standIns, StandIn{batch.Span{Off: uint32(before + mark), End: uint32(before + len(text))}, a.fraction})
			case trim:
				text = trimmed(text, 0, a.set, a.extra.release)
			case filled:
				if n := len(text); n == 0 || text[n-1] == '\n' || text[n-1] == '\r' {
					text = append(text, a.set...)
				}
			}
		}
		parts[k], before = text, before+len(text)
	}
	return parts, standIns
}

// At is where the map says what stands at a position, or at one that it is in.
func (p *Program) At(path string) (place.Place, bool) {
	for {
		if at, says := p.assigned[path]; says {
			return at, true
		}
		i := strings.LastIndexByte(path, '.')
		if i < 0 {
			return place.Place{}, false
		}
		path = path[:i]
	}
}
