package lang

import (
	"fmt"
	"strings"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/format"
	"ydrion/core/place"
	"ydrion/core/value"
)

// Step is what one line of a map did for a record.
type Step struct {
	Line   int64       `json:"line" doc:"of the map"`
	Says   string      `json:"says" doc:"the line, as it stands in the map"`
	Target string      `json:"target" doc:"the position that it writes; or when, reject, skip"`
	Rows   []string    `json:"rows,omitempty" doc:"the rows of lists that it was at, such as PO1 2"`
	Parts  []StepValue `json:"parts" doc:"its fields, and what became of them, in the order of the work"`
	More   int         `json:"more,omitempty" doc:"how many parts are not shown"`
	Kind   string      `json:"kind" doc:"of what came out: text, number, time, boolean, absent, empty, null; failed, if nothing did"`
	Value  string      `json:"value" doc:"what came out, or why nothing did"`
	From   int         `json:"from" doc:"where it stands in what was made, in bytes; nowhere if that is its end"`
	To     int         `json:"to"`
}

// StepValue is a field of a record, or what an expression made.
type StepValue struct {
	Says  string       `json:"says" doc:"as the map says it"`
	Kind  string       `json:"kind"`
	Value string       `json:"value"`
	At    *place.Place `json:"at,omitempty" doc:"where the field stands in the file"`

	Table int `json:"-"` // that the row is of which has the field, from 1; 0: the record has it
	Row   int `json:"-"`
	Slot  int `json:"-"` // of the field, -1: it is none
}

// mostParts is how many parts of a step are kept, and mostTraced how many steps.
const (
	mostParts  = 40
	mostTraced = 1000
)

// trace notes what a program does.
type trace struct {
	parts   []StepValue
	more    int
	steps   []Step
	dropped int  // steps behind them
	open    bool // the last step has not ended
	added   int  // bytes behind its value that are not its
}

// noting notes what an expression gave, if it is one that a reader of the map would ask for.
func (c *compiler) noting(n Node, eval evaluator) evaluator {
	part := StepValue{Slot: -1}
	walk := 0
	switch n := n.(type) {
	case *Name:
		if c.bound[n] == nil {
			if depth, slot, word := c.find(n); word == "" && slot >= 0 {
				part.Slot, walk = slot, c.frames[depth].walk
				if depth > 0 {
					part.Table = c.frames[depth].table + 1
				}
			}
		}
	case *Choice, *Binary, *Not, *Is:
	case *Call: // what its input is has been said
		if n.Piped {
			part.Says = strings.TrimPrefix(n.String(), fmt.Sprint(n.Args[0])+" ")
		}
	case *Answer:
		part.Says = strings.TrimPrefix(n.String(), fmt.Sprint(n.X)+" ")
	case *Text:
		if constant(n) {
			return eval
		}
	default:
		return eval
	}
	if part.Says == "" {
		part.Says = fmt.Sprint(n)
	}
	return func(e *Env) value.Value {
		v := eval(e)
		if t := e.trace; t != nil && !e.failed {
			if len(t.parts) == mostParts {
				t.more++
				return v
			}
			made := part
			made.Kind, made.Value = v.Kind.String(), shown(v)
			if made.Table > 0 {
				made.Row = e.rows[walk].index
			}
			t.parts = append(t.parts, made)
		}
		return v
	}
}

// shown is a value as people read it.
func shown(v value.Value) string { return finding.Shorten(v.Append(nil)) }

// forget leaves out what chose a row.
func (t *trace) forget() {
	if t != nil {
		t.parts, t.more = nil, 0
	}
}

// did ends a step: the line of the program that was at work, what came out, and where that stands.
func (t *trace) did(p *Program, line int32, e *Env, v value.Value, from, to int) {
	if t == nil {
		return
	}
	l := &p.lines[p.at(line, e)]
	s := Step{Line: l.at.Line, Target: l.target, Parts: t.parts, More: t.more, Kind: v.Kind.String(), Value: shown(v), From: from, To: to}
	if e.failed {
		s.Kind, s.Value = "failed", e.reason
	}
	if n := int(l.at.Line); n >= 1 && n <= len(p.source) {
		s.Says = strings.TrimSpace(p.source[n-1])
	}
	for _, w := range l.lists {
		s.Rows = append(s.Rows, fmt.Sprintf("%s %d", w.list, e.rows[w.walk].position))
	}
	if n := len(s.Parts) - 1; n >= 0 && s.Parts[n].Slot < 0 && s.Parts[n].Kind == s.Kind && s.Parts[n].Value == s.Value {
		s.Parts = s.Parts[:n] // the whole expression: what came out
	}
	if s.Parts == nil {
		s.Parts = []StepValue{}
	}
	if t.parts, t.more = nil, 0; len(t.steps) == mostTraced {
		t.dropped++
		return
	}
	t.steps = append(t.steps, s)
}

// begins is told when an action begins, behind so many bytes.
func (t *trace) begins(p *Program, action int, e *Env, at int) {
	noted := p.noted[action]
	if noted == nil {
		return
	}
	v := noted(e)
	a := &p.actions[action]
	at += len(a.prefix) + len(a.member)
	if t.open, t.added = len(t.steps) < mostTraced, 0; a.member != nil {
		t.added = len(",")
	}
	t.did(p, a.line, e, v, at, at)
	e.failed, e.reason = false, ""
}

// ends is told what has been written since.
func (t *trace) ends(out []byte, begin int) {
	if t == nil || !t.open {
		return
	}
	t.open = false
	s := &t.steps[len(t.steps)-1]
	if s.To = len(out) - begin - t.added; s.To <= s.From {
		s.From, s.To = 0, 0
	}
}

// Explaining builds a map as Build does, into a program that is slow and can say what it does.
func Explaining(m *Map, file, source string, target format.Target, scope Scope) (*Program, finding.List) {
	return assemble(m, file, source, target, scope, true)
}

// Explain runs a program that Explaining has built over one record of a batch, and says what each line of the map did. What it
// makes is what Run makes; more is how many steps are behind those that are given.
func (p *Program) Explain(e *Env, b *batch.Batch, record int) (made []byte, o *Outcome, steps []Step, more int) {
	e.trace = &trace{}
	defer func() { e.trace = nil }()
	made, o = p.Run(e, b, record, nil)
	return made, o, e.trace.steps, e.trace.dropped
}
