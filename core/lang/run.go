package lang

import (
	"bytes"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"ydrion/core/batch"
	"ydrion/core/value"
)

// Outcome of a record, and for one that was rejected or skipped the reason and
// the line of the map.
type Outcome struct {
	What   batch.Outcome
	Line   int32
	Reason string
	Table  int // from 1, of the row that it is about; 0: of none
	Row    int // in that table
	Slot   int // from 1, of the field in the row; 0: of none
	Parts  int // how many of the target the record has become, in outputs that count them
}

// Run writes one record of a batch. If the record does not become anything,
// what was written is taken back. The outcome holds until the environment is used again.
func (p *Program) Run(e *Env, b *batch.Batch, record int, out []byte) ([]byte, *Outcome) {
	begin := len(out)
	out, o := p.run(e, b, record, out)
	if o.What == batch.Good && len(out) > p.most(b) {
		out, o = out[:begin], p.tooMuch(b)
	}
	if o.What != batch.Rejected || o.Line < 0 {
		return out, o
	}
	o.Line = p.at(o.Line, e)
	if lists := p.lines[o.Line].lists; len(lists) > 0 { // which rows it was
		where := ""
		for _, w := range lists {
			where += fmt.Sprintf("%s %d, ", w.list, e.rows[w.walk].position)
		}
		o.Reason = strings.TrimSuffix(where, ", ") + ": " + o.Reason
		l := &p.lines[o.Line]
		of := lists[len(lists)-1] // the innermost row
		if l.row.walk > 0 {
			of.table, of.walk = l.row.table, l.row.walk
			o.Slot = l.slot + 1
		}
		if row := e.rows[of.walk].index; row >= 0 && (l.slot < 0 || o.Slot > 0) {
			o.Table, o.Row = of.table+1, row
		}
	}
	return out, o
}

func (p *Program) run(e *Env, b *batch.Batch, record int, out []byte) ([]byte, *Outcome) {
	e.start(b, record)
	if e.records++; e.records == few {
		p.mark(e)
	}
	for i := range p.rules {
		r := &p.rules[i]
		hit := r.condition(e).Truth
		e.trace.did(p, r.line, e, value.OfBool(hit), 0, 0)
		if e.failed {
			return out, &Outcome{What: batch.Rejected, Line: r.line, Reason: e.reason}
		} else if hit {
			reason := string(r.because(e).Append(nil))
			if r.skip {
				return out, &Outcome{What: batch.Filtered, Line: r.line, Reason: reason}
			}
			return out, &Outcome{What: batch.Rejected, Line: r.line, Reason: reason}
		}
	}
	if p.editor != nil {
		return p.edit(e, b, record, out)
	}
	begin := len(out)
	buf, row := e.Buf, e.Row
	l := &e.before
	e.tally, e.levels, e.parts, e.empties = 0, e.levels[:0], 0, e.empties[:0]
	from, to, same := 0, 0, false // the actions whose text is that of the record before, or is kept for the next
	if len(p.leading) > 1 && l.looks() {
		same = l.common(p.leading, row)
		from, to = l.from, l.to
	}
	start := begin // of their text
	for i := 0; i < len(p.actions); i++ {
		if i == from && same {
			out = append(out, l.text...)
			if i, from = to, len(p.actions); i == len(p.actions) {
				break
			}
		}
		switch {
		case same || to == 0:
		case i == from:
			start = len(out)
		case i == to:
			l.keep(out[start:], e)
		}
		a := &p.actions[i]
		if e.trace != nil {
			e.trace.ends(out, begin)
			e.trace.begins(p, i, e, len(out)-begin)
		}
		if until := int(p.columns[i].until); until > i {
			if i < from {
				until = min(until, from)
			} else if i < to {
				until = min(until, to)
			}
			n := 0
			if out, n = p.stretch(p.columns[i:until], e, e.row(int(p.columns[i].walk)), out, begin); n > 0 {
				i += n - 1
				continue
			}
		}
		if len(a.prefix) == 1 { // a separator
			out = append(out, a.prefix[0])
		} else {
			out = append(out, a.prefix...)
		}
		mark, after := len(out), 0
		if a.member != nil {
			out = append(out, a.member...)
			after = len(out)
		}
		var s batch.Span
		if a.kind >= copyClean && a.kind <= rearrange {
			of := row
			if a.walk > 0 {
				of = e.rows[a.walk].row
			}
			if s = of[a.slot]; a.required && s == batch.Missing && (a.table == nil || a.table.absent == nil) {
				return out[:begin], p.lacking(a)
			}
			if s.Absent() && (a.kind != translate && a.kind != answered || s == batch.Null) {
				if s == batch.Null && !a.blank {
					if !p.nullable {
						return out[:begin], unsayable(a, "null")
					}
					out = append(out, p.null...)
				}
				out = p.after(a, out, mark, after)
				continue
			}
		}
		switch a.kind {
		case write:
		case copyClean:
			switch {
			case a.plain && s.Len() > 0 && !value.IsNumber(buf[s.Off:s.End]):
				v := a.eval(e)
				if e.failed {
					return out[:begin], &Outcome{What: batch.Rejected, Line: a.line, Reason: e.reason}
				}
				out = p.append(out, v, e)
			case !p.bare:
				out = append(out, buf[s.Off:s.End]...)
			case s.Len() == 0:
				return out[:begin], unsayable(a, "empty")
			default:
				out = appendNumber(out, buf[s.Off:s.End])
			}
		case copyText, answered:
			if a.kind == answered && s.Absent() {
				out = append(out, a.table.absent...)
				break
			}
			if a.kind == answered && s.Len() == 0 {
				out = append(out, a.table.empty...)
				break
			}
			if s.Len() == len(p.taken) && s.Len() > 0 && string(buf[s.Off:s.End]) == p.taken {
				return out[:begin], p.meansNull(a)
			}
			out = p.escapes.Append(out, buf[s.Off:s.End])
		case translate:
			if s.Absent() {
				out = append(out, a.table.absent...)
				break
			}
			var ok bool
			if out, ok = a.table.append(out, buf[s.Off:s.End]); !ok {
				e.fail("%q is not listed in %s", value.OfText(buf[s.Off:s.End]), a.table.file)
				return out[:begin], &Outcome{What: batch.Rejected, Line: a.line, Reason: e.reason}
			}
		case rearrange:
			v := buf[s.Off:s.End]
			if len(v) == 0 {
				out = p.append(out, value.Value{Kind: value.Empty}, e)
				break
			}
			if a.reads != nil {
				if _, ok := a.reads.Read(v); !ok {
					e.fail("%q is not a date in the form %s", value.OfText(v), a.reads.String())
					return out[:begin], &Outcome{What: batch.Rejected, Line: a.line, Reason: e.reason}
				}
			}
			if quote := p.escapes.Always(); quote != 0 {
				out = append(a.moves.Append(append(out, quote), v), quote)
				break
			}
			out = a.moves.Append(out, v)
		case evaluate:
			v := a.eval(e)
			if e.failed {
				return out[:begin], &Outcome{What: batch.Rejected, Line: a.line, Reason: e.reason}
			}
			if v.Kind == value.Absent && a.required {
				return out[:begin], p.lacking(a)
			}
			if v.Kind == value.Null && a.blank {
				v = value.Value{}
			}
			if v.Kind == value.Null && !p.nullable {
				return out[:begin], unsayable(a, "null")
			}
			if a.number && v.Kind == value.Empty {
				return out[:begin], unsayable(a, "empty")
			}
			from := len(out)
			out = p.append(out, v, e)
			if p.taken != "" && v.Kind != value.Null && string(out[from:]) == p.taken {
				return out[:begin], p.meansNull(a)
			}
		case jumpUnless, jumpIf:
			truth := a.eval(e).Truth
			if e.failed {
				return out[:begin], &Outcome{What: batch.Rejected, Line: a.line, Reason: e.reason}
			}
			if truth == (a.kind == jumpIf) {
				i = int(a.jump) - 1
			}
		case trim:
			out = trimmed(out, begin, a.set, a.extra.release)
		case filled:
			if n := len(out); n == begin || out[n-1] == '\n' || out[n-1] == '\r' {
				out = append(out, a.set...)
			}
		case tally:
			e.tally += a.extra.number
		case count:
			out = strconv.AppendInt(out, int64(a.extra.number+e.tally), 10)
			e.tally = 0
		case total:
			n := e.total
			if p.several {
				n = int64(e.parts)
			}
			out = strconv.AppendInt(out, n, 10)
		case one:
			e.levels = e.levels[:0]
			e.parts++
		case level:
			e.levels = append(e.levels, a.extra.number)
			out = strconv.AppendInt(out, int64(len(e.levels)), 10)
		case above:
			for _, k := range a.extra.chain {
				i := len(e.levels) - 1
				for i >= 0 && e.levels[i] != k {
					i--
				}
				if i >= 0 {
					out = strconv.AppendInt(out, int64(i+1), 10)
					break
				}
			}
		case each, again:
			more := false
			if l := a.extra.loop; a.kind == each {
				more = l.begin(e)
			} else {
				more = l.next(e)
			}
			if e.failed {
				return out[:begin], &Outcome{What: batch.Rejected, Line: a.line, Reason: e.reason}
			}
			if more && len(out) > p.most(b) {
				return out[:begin], p.tooMuch(b)
			}
			if more == (a.kind == again) {
				i = int(a.jump) - 1
			}
		}
		if a.nonempty && len(out) == mark && !slices.Contains(e.empties, a.line) {
			e.empties = append(e.empties, a.line)
		}
		if !a.bounded {
			if a.member != nil {
				out = p.after(a, out, mark, after)
			}
			continue
		}
		if a.extra != nil {
			var fits bool
			if out, fits = a.extra.pad(out, mark); !fits {
				return out[:begin], &Outcome{What: batch.Rejected, Line: a.line, Reason: fmt.Sprintf("%q is longer than the %d characters that are there for it", out[mark:], a.extra.width)}
			}
		}
		if problem := p.lacks(out[mark:]); problem != "" {
			return out[:begin], &Outcome{What: batch.Rejected, Line: a.line, Reason: problem}
		}
		if a.member != nil {
			out = p.after(a, out, mark, after)
		}
	}
	e.trace.ends(out, begin)
	if to == len(p.actions) && to > 0 && !same {
		l.keep(out[start:], e)
	}
	if !p.several {
		e.good.Parts = 1
		return out, &e.good
	}
	if e.parts == 0 { // nothing stands around nothing
		out = out[:begin]
	}
	e.good.Parts = e.parts
	return out, &e.good
}

// pad brings what stands behind mark to its width.
func (x *extra) pad(out []byte, mark int) ([]byte, bool) {
	n := utf8.RuneCount(out[mark:])
	if n > x.width {
		return out, false
	}
	for ; n < x.width; n++ {
		if x.zeros {
			out = slices.Insert(out, mark, '0')
		} else {
			out = append(out, ' ')
		}
	}
	return out, true
}

// unsayable is what becomes of a record with a value that its target cannot say.
func unsayable(a *action, what string) *Outcome {
	return &Outcome{What: batch.Rejected, Line: a.line, Reason: "the value is " + what + ", which cannot be said here; answer it with `if " + what + " …`"}
}

// lacking is what becomes of a record without a value that its target must have.
func (p *Program) lacking(a *action) *Outcome {
	return &Outcome{What: batch.Rejected, Line: a.line, Reason: p.lines[a.line].target + " must have a value, and there is none; answer it with `if absent …`"}
}

// Empties calls say for each line whose value, in the record that was written last, must be there and is empty.
func (p *Program) Empties(e *Env, say func(line int32, problem string)) {
	for _, line := range e.empties {
		say(line, p.lines[line].target+" must have a value, and is empty; answer it with `if empty …`")
	}
}

// meansNull is what becomes of a record with a text that would be read as null.
func (p *Program) meansNull(a *action) *Outcome {
	return &Outcome{What: batch.Rejected, Line: a.line, Reason: fmt.Sprintf("the value is the text %s, which says null here; write something else for it", p.taken)}
}

// after ends a member: with a comma, or without a trace if it has no value.
func (p *Program) after(a *action, out []byte, mark, after int) []byte {
	switch {
	case a.member == nil:
		return out
	case len(out) == after:
		return out[:mark]
	}
	return append(out, ',')
}

func (p *Program) append(out []byte, v value.Value, e *Env) []byte {
	switch v.Kind {
	case value.Text:
		return p.escapes.Append(out, v.Bytes)
	case value.Null:
		return append(out, p.null...)
	case value.Absent:
		return out
	case value.Number, value.Bool:
		if p.bare {
			e.scratch = v.Append(e.scratch[:0])
			return appendNumber(out, e.scratch)
		}
	}
	if v.Kind == value.Number && p.decimal != 0 {
		if !value.IsNumber(v.Bytes) {
			v.Bytes = nil
		}
		e.scratch = v.Append(e.scratch[:0])
		if i := bytes.IndexByte(e.scratch, '.'); i >= 0 && p.decimal != '.' {
			e.scratch[i] = p.decimal
			return append(out, e.scratch...)
		}
		return p.escapes.Append(out, e.scratch)
	}
	e.scratch = v.Append(e.scratch[:0])
	return p.escapes.Append(out, e.scratch)
}

func trimmed(out []byte, begin int, set []byte, release byte) []byte {
	for len(out) > begin {
		if last := out[len(out)-1]; bytes.IndexByte(set, last) < 0 || last == 0 {
			return out
		}
		if release != 0 && released(out[begin:len(out)-1], release) {
			return out
		}
		out = out[:len(out)-1]
	}
	return out
}

// released tells whether what follows a text has lost its meaning.
func released(before []byte, release byte) bool {
	n := 0
	for n < len(before) && before[len(before)-1-n] == release {
		n++
	}
	return n%2 == 1
}

// appendNumber writes a number as JSON wants it (RFC 8259, 6): without plus sign and zeros
// before it, with a digit on both sides of its point; or a truth value as it is.
func appendNumber(out, written []byte) []byte {
	if len(written) > 0 && (written[0] == '-' || written[0] == '+') {
		if written[0] == '-' {
			out = append(out, '-')
		}
		written = written[1:]
	}
	for len(written) > 1 && written[0] == '0' && written[1]-'0' <= 9 {
		written = written[1:]
	}
	if len(written) > 0 && written[0] == '.' {
		out = append(out, '0')
	}
	if i := bytes.IndexByte(written, '.'); i >= 0 && (i+1 == len(written) || written[i+1]-'0' > 9) {
		out, written = append(out, written[:i]...), written[i+1:]
	}
	return append(out, written...)
}
