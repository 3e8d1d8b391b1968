package json

import (
	"bytes"
	"cmp"
	"io"
	"slices"

	"ydrion/core/batch"
	"ydrion/core/format"
)

// framed keeps what stands before the list, or of much only the wanted members and the way to the
// list: so that an element can be a document that is read as this one.
func (r *Reader) framed(head []byte) {
	if r.pointer == "" {
		return // a list of records: each is a document
	}
	var tail []byte
	for i := len(r.levels) - 1; i >= 0; i-- {
		tail = append(tail, r.levels[i])
	}
	if len(head) > longestFrame {
		wanted := &trie{slot: -1}
		for i := range r.outside {
			wanted.add(r.outside[i].path, i)
		}
		wanted.add(r.before, len(r.outside))
		closed := append(bytes.Clone(head), tail...)
		head = pruned(nil, closed, 0, wanted)
		head = head[:len(head)-len(tail)]
	}
	r.frame = [2][]byte{bytes.Clone(head), tail}
}

// longestFrame is up to how many bytes all that stands before a list goes with each of its rejected
// elements.
const longestFrame = 1 << 10

// pruned writes of the object at p the members that are wanted.
func pruned(out, buf []byte, p int, t *trie) []byte {
	end, _, _ := skip(buf, p, true)
	if t.slot >= 0 || len(t.children) == 0 || buf[p] != '{' {
		return append(out, buf[p:end]...)
	}
	out = append(out, '{')
	kept := 0
	for p = skipBlanks(buf, p+1); p < end-1; p = skipBlanks(buf, p) {
		if buf[p] == ',' {
			p++
			continue
		}
		from := p
		nameEnd, _, _ := skip(buf, p, true)
		name, _ := unquote(nil, buf[p+1:nameEnd-1])
		p = skipBlanks(buf, nameEnd)
		p = skipBlanks(buf, min(p+1, end-1)) // the colon
		stop, _, _ := skip(buf, p, true)
		if stop <= p {
			break
		}
		if below := t.child(string(name)); below != nil {
			if kept++; kept > 1 {
				out = append(out, ',')
			}
			out = pruned(append(out, buf[from:p]...), buf, p, below)
		}
		p = stop
	}
	return append(out, '}')
}

// Raw is a record with what is around it, but without its neighbours, on a line.
func (r *Reader) Raw(b *batch.Batch, record int) []byte {
	out, _ := r.standing(b, record)
	return out
}

// standing is a record with what is around it, and where it begins in that.
func (r *Reader) standing(b *batch.Batch, record int) (out []byte, own int) {
	unit := b.Bounds[record]
	i, _ := slices.BinarySearchFunc(b.Messages, unit.Off, func(s batch.Span, off uint32) int {
		if s.End > off {
			return 1
		}
		return -1
	})
	whole := b.Messages[i]
	out = bytes.Clone(r.frame[0])
	if whole == unit {
		out, own = append(out, b.Buf[unit.Off:unit.End]...), len(out)
	} else {
		if of := b.Base + int64(whole.Off); r.lists == nil || r.listsOf != of || r.lists.end != int(whole.End) {
			r.lists, r.listsOf = &list{end: int(whole.End)}, of
			r.lists.elements = listed(nil, b.Buf[:whole.End], int(whole.Off), r.within)
		}
		out, own = r.lists.alone(out, b.Buf, int(whole.Off), int(unit.Off))
	}
	return append(oneLine(append(out, r.frame[1]...)), '\n'), own
}

// Alone is a record in a document of its own, on a line.
func (r *Reader) Alone(to []byte, b *batch.Batch, record int) (text []byte, own int) {
	if r.implied { // the lists that hold them are nothing that anybody has asked for
		unit := b.Bounds[record]
		return append(oneLine(append(to, b.Buf[unit.Off:unit.End]...)), '\n'), len(to)
	}
	text, own = r.standing(b, record)
	return append(to, text...), len(to) + own
}

// Reordered reads such documents, a record in each.
func (r *Reader) Reordered(in io.Reader) format.Reader {
	of := &Reader{Stream: format.Stream{In: in, Line: 1, Size: r.Size}, charset: r.charset, state: values, apart: lines, pointer: r.pointer, shape: r.shape}
	if r.implied {
		of.pointer = ""
	}
	of.bind() // it was found right before
	return of
}

// list is where the elements of a list stand in a document, and what else of it.
type list struct {
	elements []item // in their order
	end      int    // of the document, or of the element that holds the list
}

// item is an element of a list, and the list in it that holds units, if it holds one.
type item struct {
	from, to int
	inner    []item
}

// listed finds the elements of the lists on a path, from the value at p on.
func listed(out []item, buf []byte, p int, path []string) []item {
	if len(path) == 0 || p >= len(buf) || buf[p] != '{' && buf[p] != '[' {
		return out
	}
	open, all := buf[p], path[0] == "*"
	end, _, _ := skip(buf, p, true)
	for p = skipBlanks(buf, p+1); p < end-1; p = skipBlanks(buf, p) {
		if buf[p] == ',' {
			p++
			continue
		}
		from, wanted := p, all
		if open == '{' {
			nameEnd, _, _ := skip(buf, p, true)
			if !all {
				name, _ := unquote(nil, buf[p+1:max(p+1, nameEnd-1)])
				wanted = string(name) == path[0]
			}
			p = skipBlanks(buf, nameEnd)
			p = skipBlanks(buf, min(p+1, end-1)) // the colon
		}
		stop, _, _ := skip(buf, p, true)
		if stop <= p {
			break
		}
		switch {
		case wanted && all:
			out = append(out, item{from, stop, listed(nil, buf, p, path[1:])})
		case wanted:
			return listed(out, buf, p, path[1:])
		}
		p = stop
	}
	return out
}

// alone writes a document, from an offset on, without the elements that do not hold a unit, and tells where that begins in what is written.
func (l *list) alone(out, buf []byte, from, unit int) (_ []byte, own int) {
	i, _ := slices.BinarySearchFunc(l.elements, unit, func(e item, at int) int { return cmp.Compare(e.to, at+1) })
	if i == len(l.elements) || l.elements[i].from > unit {
		return append(out, buf[from:l.end]...), len(out) + unit - from
	}
	e := l.elements[i]
	out = append(out, buf[from:l.elements[0].from]...)
	out, own = (&list{e.inner, e.to}).alone(out, buf, e.from, unit)
	return append(out, buf[l.elements[len(l.elements)-1].to:l.end]...), own
}

// oneLine makes blanks of line ends that stand outside of texts: a file of rejected records has one a
// line, so that a broken one is told from the next.
func oneLine(b []byte) []byte {
	if bytes.IndexByte(b, '\n') < 0 && bytes.IndexByte(b, '\r') < 0 {
		return b
	}
	within := false
	for i := 0; i < len(b); i++ {
		switch c := b[i]; {
		case c == '\\' && within:
			i++
		case c == '"':
			within = !within
		case (c == '\n' || c == '\r') && !within:
			b[i] = ' '
		}
	}
	return b
}
