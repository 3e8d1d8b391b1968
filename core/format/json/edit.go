package json

import (
	"bytes"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/format"
	"ydrion/core/text"
)

// AsCame is a target whose records are those of the source, byte for byte, but for what a map says of them:
// members that are changed, added or taken away.
type AsCame struct {
	edits [][]string // the path of each
}

var _ format.Target = (*AsCame)(nil)
var _ format.Editor = (*AsCame)(nil)

// Escapes is the table for strings.
func (t *AsCame) Escapes() *text.Escapes { return text.JSON }

// Null is null.
func (t *AsCame) Null() (string, bool) { return "null", true }

// named takes a path apart: a JSON Pointer, or names with dots between.
func named(path string) ([]string, error) {
	if strings.HasPrefix(path, "/") {
		return pointer(path)
	}
	names := strings.Split(path, ".")
	if slices.Contains(names, "") {
		return nil, fmt.Errorf("%q is not a path: names of members stand between dots, or a pointer such as /animal/tag", path)
	}
	return names, nil
}

// Position is any member of the record, or of a row's element.
func (t *AsCame) Position(path string) (format.Position, error) {
	_, err := named(path)
	return format.Position{Key: path}, err
}

// Part is a member.
func (t *AsCame) Part(path string) (string, error) {
	_, err := named(path)
	return path, err
}

// Inside is a list of which the elements that came can be changed.
func (t *AsCame) Inside(path string) (string, format.Target, error) {
	if path == "" {
		return "", nil, fmt.Errorf("name the list whose elements are changed for each row, as in `repeat lines for line in lines`")
	}
	_, err := named(path)
	return path, t, err
}

// Layout keeps what is changed.
func (t *AsCame) Layout(in format.Instructions) (format.Layout, finding.List) {
	editor := *t // each layout has its own
	editor.edits = nil
	layout := format.Layout{Editor: &editor}
	return layout, editor.layout(in, nil, nil, &layout)
}

func (t *AsCame) layout(in format.Instructions, loops, conditions []int, layout *format.Layout) (out finding.List) {
	seen := map[string]bool{}
	take := func(n format.Named, e format.Edit) {
		path, err := named(n.Path)
		if err != nil {
			return // it has been complained about
		}
		key := strings.Join(path, "\x00")
		if e.Expression >= 0 && seen[key] {
			out = append(out, finding.New("map.twice", n.At, "%s is assigned twice", n.Path))
		}
		seen[key] = true
		e.Named, e.Loops, e.Conditions = n, loops, conditions
		if e.Condition >= 0 {
			e.Conditions = append(conditions[:len(conditions):len(conditions)], e.Condition)
		}
		layout.Edits, t.edits = append(layout.Edits, e), append(t.edits, path)
	}
	for _, a := range in.Assign {
		take(a.Named, format.Edit{Expression: a.Expression, Condition: -1})
	}
	for _, n := range in.Keep {
		out = append(out, finding.New("map.nothing-there", n.At, "everything stays as it came; %s need not be kept", n.Path))
	}
	for _, n := range in.Clear {
		take(n, format.Edit{Expression: -1, Condition: -1})
	}
	for _, d := range in.Drop {
		take(d.Named, format.Edit{Expression: -1, Condition: d.Condition})
	}
	for _, a := range in.Add {
		out = append(out, finding.New("map.segment", a.At, "a member is added where it is assigned; `add` is for segments"))
	}
	for _, r := range in.Repeat {
		part, _ := named(r.Path)
		of, err := named(r.List)
		if err != nil || !slices.Equal(part, of) {
			out = append(out, finding.New("map.repeat", r.At, "what is changed for each row is the row's element as it came, and %s is not %s", r.List, r.Path))
		}
		inner := conditions
		if r.Condition >= 0 {
			inner = append(conditions[:len(conditions):len(conditions)], r.Condition)
		}
		out = append(out, t.layout(r.Body, append(loops[:len(loops):len(loops)], r.Loop), inner, layout)...)
	}
	return out
}

// splice is a stretch of a record and what stands there instead.
type splice struct {
	from, to int
	with     []byte
	adds     []string // a member that is not there, as a path from the object in which it is to be
	takes    bool     // a member away; the first of its object if first says so
	first    bool
}

// joined puts members together that are taken away beside each other.
func joined(raw []byte, all []splice) []splice {
	out := all[:0]
	for _, s := range all {
		n := len(out) - 1
		if n < 0 || !s.takes || !out[n].takes || s.from > out[n].to {
			out = append(out, s)
			continue
		}
		to := max(out[n].to, s.to)
		if next := skipBlanks(raw, to); out[n].first && raw[next] == ',' { // what is left begins the object
			to = skipBlanks(raw, next+1)
		}
		out[n].to = to
	}
	return out
}

// twiceChanged is why a record is not written that two lines change in one place.
const twiceChanged = "two lines of the map change the same part of the record"

// grown are members of an object that were not there, in the order in which they came.
type grown []struct {
	name   string
	value  []byte
	inside grown // instead of a value
}

// take adds a member, in objects that it adds too; false: it is there, or a value is where an object is to be.
func (g *grown) take(path []string, value []byte) bool {
	i := 0
	for i < len(*g) && (*g)[i].name != path[0] {
		i++
	}
	switch fresh := i == len(*g); {
	case fresh:
		*g = append(*g, make(grown, 1)...)
		if (*g)[i].name = path[0]; len(path) == 1 {
			(*g)[i].value = value
			return true
		}
	case (*g)[i].value != nil || len(path) == 1:
		return false
	}
	return (*g)[i].inside.take(path[1:], value)
}

// append writes them.
func (g grown) append(to []byte) []byte {
	for i := range g {
		if i > 0 {
			to = append(to, ',')
		}
		if to = append(text.JSON.Append(to, []byte(g[i].name)), ':'); g[i].value != nil {
			to = append(to, g[i].value...)
			continue
		}
		to = append(g[i].inside.append(append(to, '{')), '}')
	}
	return to
}

// Edit writes a record with changes. The problem says why that is not possible.
func (t *AsCame) Edit(out []byte, _ format.Reader, b *batch.Batch, record int, changes []format.Change) (_ []byte, problem string) {
	raw := b.Raw(record)
	var all []splice
	for i := range changes {
		c, path := &changes[i], t.edits[changes[i].Edit]
		s, why := spliced(raw, max(c.At, 0), path, c)
		if why != "" {
			return out, fmt.Sprintf("%s: %s", strings.Join(path, "."), why)
		}
		if s != nil {
			all = append(all, *s)
		}
	}
	slices.SortStableFunc(all, func(a, b splice) int { return a.from - b.from })
	all = joined(raw, all)
	at := 0
	for len(all) > 0 {
		s, same := all[0], 1
		if s.adds != nil { // several may be in one object that is not there either
			var members grown
			for same = 0; same < len(all) && all[same].adds != nil && all[same].from == s.from; same++ {
				if !members.take(all[same].adds, all[same].with) {
					return out, twiceChanged
				}
			}
			s.with = members.append(nil)
		}
		all = all[same:]
		if s.from < at {
			return out, twiceChanged
		}
		out = append(out, raw[at:s.from]...)
		if s.adds != nil && !bytes.HasSuffix(bytes.TrimRight(out, " \t\r\n"), []byte("{")) {
			out = append(out, ',')
		}
		out = append(out, s.with...)
		at = s.to
	}
	return append(append(out, strings.TrimRight(string(raw[at:]), " \t\r\n")...), '\n'), ""
}

// written is a value as it stands in JSON.
func written(c *format.Change) []byte {
	switch {
	case c.Null:
		return []byte("null")
	case c.Bare:
		return c.Value
	}
	return text.JSON.Append(nil, c.Value)
}

// spliced finds what a change does to the value at p: nil if nothing.
func spliced(raw []byte, p int, path []string, c *format.Change) (*splice, string) {
	for i, name := range path {
		if p = skipBlanks(raw, p); p >= len(raw) || raw[p] != '{' && raw[p] != '[' {
			if c.Absent {
				return nil, ""
			}
			return nil, fmt.Sprintf("there is no object that %s could be a member of", name)
		}
		object := raw[p] == '{'
		end, _, _ := skip(raw, p, true)
		found, count, before := -1, 0, -1 // where its value begins, how many there are, where what stands before it ends
		var member, behind int            // where it begins with its name, and where its value ends
		for q := skipBlanks(raw, p+1); q < end-1; q = skipBlanks(raw, q) {
			if raw[q] == ',' {
				q++
				continue
			}
			from, is := q, strconv.Itoa(count) == name && !object
			if object {
				nameEnd, _, _ := skip(raw, q, true)
				key, _ := unquote(nil, raw[q+1:nameEnd-1])
				is = string(key) == name
				q = skipBlanks(raw, skipBlanks(raw, nameEnd)+1) // behind the colon
			}
			stop, _, _ := skip(raw, q, true)
			if is {
				found, member, behind = q, from, stop
				break
			}
			count++
			q, before = stop, stop
		}
		switch {
		case found < 0 && c.Absent:
			return nil, ""
		case found < 0 && !object:
			return nil, fmt.Sprintf("the list has %d elements", count)
		case found < 0:
			at := end - 1
			if before >= 0 { // blanks before the end stay there
				at = before
			}
			return &splice{from: at, to: at, with: written(c), adds: path[i:]}, ""
		case i < len(path)-1:
			p = found
			continue
		case !c.Absent:
			return &splice{from: found, to: behind, with: written(c)}, ""
		case !object:
			return nil, "an element of a list is not taken away: its neighbours would be others"
		}
		if before >= 0 {
			return &splice{from: before, to: behind, takes: true}, ""
		}
		if next := skipBlanks(raw, behind); raw[next] == ',' { // what follows takes its place
			behind = skipBlanks(raw, next+1)
		}
		return &splice{from: member, to: behind, takes: true, first: true}, ""
	}
	return nil, ""
}

// Show gives a written object as lines of path and value.
func (t *AsCame) Show(record []byte) []format.Line { return format.Lines(Outline(record)) }
