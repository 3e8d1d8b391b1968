package lang

import (
	"ydrion/core/batch"
	"ydrion/core/format"
	"ydrion/core/value"
)

// edit is a line about a record as it came.
type edit struct {
	eval       evaluator // nil: what stands there is taken away
	conditions []evaluator
	loops      []*loop // that it is in, the outermost first
	line       int32
}

// edit compiles a line about a record as it came.
func (b *builder) edit(p *Program, e format.Edit) edit {
	outside := b.frames
	defer func() { b.frames = outside }()
	var out edit
	for _, k := range e.Loops {
		b.frames = b.loops[k].frames
		out.loops = append(out.loops, b.loop(b.loops[k].rows))
	}
	condition := func(x expression) {
		for _, n := range []Node{x.node, x.condition} {
			if n != nil {
				b.frames = x.frames
				out.conditions = append(out.conditions, b.compile(n))
			}
		}
	}
	for _, k := range e.Conditions {
		condition(b.nodes[k])
	}
	about := []Node{}
	if e.Expression >= 0 {
		x := b.nodes[e.Expression]
		condition(expression{condition: x.condition, frames: x.frames})
		b.frames = x.frames
		out.eval = b.compile(x.node)
		about = append(about, x.node)
	}
	out.line = b.line(p, int(e.At.Offset), e.Path, about...)
	if p.lines[out.line].blocks == 0 {
		p.lines[out.line].at = e.At
	}
	return out
}

// edit writes a record as it came, with what the map says of it.
func (p *Program) edit(e *Env, b *batch.Batch, record int, out []byte) ([]byte, *Outcome) {
	begin := len(out)
	e.changes = e.changes[:0]
	for i := range p.edits {
		if !p.edits[i].rows(e, b, p, i, 0) {
			return out[:begin], &Outcome{What: batch.Rejected, Line: p.edits[i].line, Reason: e.reason}
		}
	}
	out, problem := p.editor.Edit(out, e.Reader, b, record, e.changes)
	if problem != "" {
		line := int32(KeptRule)
		if len(p.edits) > 0 {
			line = p.edits[0].line
		}
		return out[:begin], &Outcome{What: batch.Rejected, Line: line, Reason: problem}
	}
	e.good.Parts = 1
	return out, &e.good
}

// rows makes the changes of an edit for each row of its loops from one on. It is false if an expression
// fails.
func (d *edit) rows(e *Env, b *batch.Batch, p *Program, number, from int) bool {
	if from < len(d.loops) {
		l := d.loops[from]
		for more := l.begin(e); more && !e.failed; more = l.next(e) {
			e.trace.forget()
			if !d.rows(e, b, p, number, from+1) {
				return false
			}
		}
		return !e.failed
	}
	e.block = 0
	for _, holds := range d.conditions {
		truth := holds(e).Truth
		if e.failed || !truth {
			e.trace.did(p, d.line, e, value.OfBool(truth), 0, 0)
		}
		if e.failed {
			return false
		}
		if !truth {
			return true
		}
	}
	c := format.Change{Edit: number, At: -1, Absent: true}
	if len(d.loops) > 0 {
		l := d.loops[len(d.loops)-1]
		c.At = int(b.Tables[l.table].At[e.rows[l.walk].index]) - int(b.Bounds[e.index].Off)
	}
	if d.eval != nil {
		v := d.eval(e)
		e.trace.did(p, d.line, e, v, 0, 0)
		if e.failed {
			return false
		}
		c.Absent, c.Null = v.Kind == value.Absent || v.Kind == value.Empty && p.escapes.Always() == 0, v.Kind == value.Null
		c.Bare = v.Kind == value.Number || v.Kind == value.Bool
		if v.Kind == value.Number && !value.IsNumber(v.Bytes) {
			v.Bytes = nil
		}
		start := len(e.scratch)
		if c.Bare && p.escapes.Always() != 0 {
			e.scratch = appendNumber(e.scratch, v.Append(nil))
		} else {
			e.scratch = v.Append(e.scratch)
		}
		c.Value = e.scratch[start:len(e.scratch):len(e.scratch)]
	}
	e.changes = append(e.changes, c)
	return true
}
