package lang

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/shape"
	"ydrion/core/value"
)

// Rows is a list of the record or of a row, or those of its rows that fit a condition. Where is nil if all
// do.
type Rows struct {
	at
	List  string
	As    string // what a row is called, empty: nothing
	Where Node
	Once  Node // of rows that have the same here only the first; nil: all
	By    Node // what they are sorted by, nil: they stand as they came
	Down  bool // the largest first
	Most  int  // so many of them, 0: all
}

func (n *Rows) String() string {
	s := n.List
	if n.Where != nil {
		s += fmt.Sprintf(" where %s", n.Where)
	}
	if n.Once != nil {
		s += fmt.Sprintf(" once by %s", operand(n.Once))
	}
	if n.By != nil {
		s += fmt.Sprintf(" sorted by %s", operand(n.By))
	}
	if n.Down {
		s += " down"
	}
	if n.Most > 0 {
		s += fmt.Sprintf(" up to %d", n.Most)
	}
	if s != n.List {
		return "(" + s + ")"
	}
	return s
}

// chosen tells whether not all rows are meant as they came.
func (n *Rows) chosen() bool { return n.Where != nil || n.Once != nil || n.By != nil || n.Most > 0 }

// asked is the function on lists that stands at the end of the condition, where the list's end was meant.
func (n *Rows) asked() string {
	for last := n.Where; last != nil; {
		if call, is := last.(*Call); is && call.Piped && functions[call.Name] != nil && functions[call.Name].Rows {
			return call.Name
		}
		below := children(last)
		if len(below) == 0 {
			break
		}
		last = below[len(below)-1]
	}
	return ""
}

// frame is what names may mean: the values of the record, or those of a row.
type frame struct {
	name   string // by which its values are asked for; empty for one that has none
	fields shape.Record
	table  int // of the row, -1: it is the record
	above  int // the frame that the row's list is in
	walk   int // the number of the walk through the rows, from 1; 0: it is the record
}

// rowWords are the words that stand for the place of a row in its list, with their kinds.
var rowWords = map[string]value.Kind{"position": value.Number, "first": value.Bool, "last": value.Bool}

// inner is the innermost frame.
func (c *checker) inner() int { return len(c.frames) - 1 }

// find finds the frame and slot of a name: the innermost that has it, or the one that it names. The
// slot is -1 if there is none; word is what it says of the row's place.
func (c *checker) find(n *Name) (depth, slot int, word string) {
	if head, rest, ok := strings.Cut(n.Name, "."); ok && !n.Field {
		for depth := c.inner(); depth >= 0; depth-- {
			f := &c.frames[depth]
			if f.name != head || depth == 0 && c.inner() == 0 {
				continue
			}
			slot := f.fields.Slot(rest)
			if _, is := rowWords[rest]; is && depth > 0 && slot < 0 {
				word = rest
			}
			return depth, slot, word
		}
	}
	for depth := c.inner(); depth >= 0; depth-- {
		if slot := c.frames[depth].fields.Slot(n.Name); slot >= 0 {
			return depth, slot, ""
		}
	}
	return 0, -1, ""
}

// listed finds a list by its name: in the innermost frame that has it, or in the one that is named. It
// is -1 if there is none.
func (c *checker) listed(name string) (depth, table int) {
	in := func(depth int, name string) int {
		for n, t := range c.tables {
			if t.Name == name && t.Above == c.frames[depth].table {
				return n
			}
		}
		return -1
	}
	for depth := c.inner(); depth >= 0; depth-- {
		if table := in(depth, name); table >= 0 {
			return depth, table
		}
	}
	if head, rest, ok := strings.Cut(name, "."); ok {
		for depth := c.inner(); depth >= 0; depth-- {
			if c.frames[depth].name == head {
				return depth, in(depth, rest)
			}
		}
	}
	return 0, -1
}

// enter goes into the rows of a list. It is false if there is no such list.
func (c *checker) enter(n *Rows) bool {
	depth, table := c.listed(n.List)
	if table < 0 {
		c.noList(n)
		return false
	}
	for _, f := range c.frames {
		if n.As != "" && f.name == n.As {
			c.bad(n, "map.name", "%s is the name of the row around this one already", n.As)
		}
	}
	c.walks++
	c.frames = append(c.frames[:len(c.frames):len(c.frames)], frame{n.As, c.tables[table].Fields, table, depth, c.walks})
	if n.Where != nil {
		c.want(n.Where, value.Bool, "where")
	}
	if n.Once != nil {
		done := c.deciding("what rows are compared by")
		c.check(n.Once)
		done()
	}
	if n.By != nil {
		done := c.deciding("what rows are sorted by")
		c.check(n.By)
		done()
	}
	c.usedLists[table] = true
	return true
}

func (c *checker) noList(n *Rows) {
	var names []string
	for _, t := range c.tables {
		names = append(names, t.Name)
	}
	if _, slot, _ := c.find(&Name{Name: n.List}); slot >= 0 {
		c.bad(n, "map.list", "%s is a value, and a list is needed here", n.List)
		return
	}
	c.bad(n, "map.list-unknown", "there is no list %q", n.List)
	switch near := finding.Nearest(n.List, names); {
	case near != "":
		c.suggest("was %s meant?", near)
	case len(names) > 0:
		c.suggest("the lists are %s", strings.Join(names, ", "))
	default:
		c.suggest("the source has none that a schema or a position says")
	}
}

// leave goes back to what is around the rows.
func (c *checker) leave() { c.frames = c.frames[:c.inner()] }

// list turns the first argument of a function on lists into the list that it is.
func list(n Node) *Rows {
	switch n := n.(type) {
	case *Rows:
		return n
	case *Name:
		return &Rows{at: n.at, List: n.Name}
	}
	return nil
}

// overRows checks a function that works on the rows of a list: what it is given is asked of each row.
func (c *checker) overRows(n *Call, f *Function) value.Kind {
	if c.ofPart(n) {
		return c.overPart(n, f)
	}
	rows := list(n.Args[0])
	if rows == nil {
		c.bad(n.Args[0], "map.list", "%s works on a list, as in lines | %s", n.Name, f.usage())
		return f.Out
	}
	if !c.enter(rows) {
		return f.Out
	}
	defer c.leave()
	return c.ofEach(n, f)
}

// ofEach checks what is asked of each row.
func (c *checker) ofEach(n *Call, f *Function) value.Kind {
	kind := f.Out
	for i, a := range n.Args[1:] {
		p := f.Args[i]
		if p.Constant && !constant(a) {
			c.bad(a, "map.arguments", "the %s of %s must be written out, not computed", p.Name, n.Name)
			continue
		}
		got := c.check(a)
		if p.Kind != anyKind && got != p.Kind && got != anyKind {
			c.bad(a, "map.type", "%s needs a %s of each row, %s is a %s", n.Name, p.Kind, a, got)
			if p.Kind == value.Number && got == value.Text {
				c.suggest("turn the text into a number: %s | %s (%s | number)", n.Args[0], n.Name, a)
			}
		}
		if kind == anyKind && i == 0 {
			kind = got
		}
	}
	if (n.Name == "smallest" || n.Name == "largest") && kind != value.Number && kind != value.Time && kind != anyKind {
		c.bad(n, "map.type", "%s needs numbers or times, %s is a %s", n.Name, n.Args[1], kind)
		if kind == value.Text {
			c.suggest("turn the text into a number: %s | %s (%s | number)", n.Args[0], n.Name, n.Args[1])
		}
	}
	return kind
}

// walking is where an evaluation stands in the rows of a list.
type walking struct {
	row      []batch.Span
	index    int // of the row in its table
	at, end  int // its place among those that are walked through, and behind the last
	position int
	fitting  []int32 // those that fit a condition
}

// loop goes through the rows of a list.
type loop struct {
	walk, table int
	above       int       // the walk through the list above, 0: the list is the record's
	where       evaluator // nil: all fit
	once, by    evaluator // nil: none
	down        bool
	most        int
	chosen      bool // not all rows are gone through as they came
}

// loop compiles the frame that has just been entered.
func (c *compiler) loop(n *Rows) *loop {
	f := c.frames[c.inner()]
	l := &loop{walk: f.walk, table: f.table, above: c.frames[f.above].walk}
	if n.Where != nil {
		l.where = c.compile(n.Where)
	}
	if n.Once != nil {
		l.once = c.compile(n.Once)
	}
	if n.By != nil {
		l.by = c.compile(n.By)
	}
	l.down, l.most, l.chosen = n.Down, n.Most, n.chosen()
	return l
}

// begin goes to the first row; it is false if there is none.
func (l *loop) begin(e *Env) bool {
	for len(e.rows) <= l.walk {
		e.rows = append(e.rows, walking{})
	}
	above := e.index
	if l.above > 0 {
		above = e.rows[l.above].index
	}
	from, to := e.batch.Rows(l.table, above)
	w := &e.rows[l.walk]
	w.fitting = w.fitting[:0]
	w.at, w.end = from, to
	if l.chosen {
		if !l.choose(e, from, to) {
			return false
		}
		w = &e.rows[l.walk]
		w.at, w.end = 0, len(w.fitting)
	}
	w.at--
	w.position = 0
	return l.next(e)
}

// choose finds the rows that are meant, in their order. It is false if an expression fails.
func (l *loop) choose(e *Env, from, to int) bool {
	var seen map[string]bool
	if l.once != nil {
		seen = map[string]bool{}
	}
	var keys []value.Value // what they are sorted by
	for i := from; i < to; i++ {
		w := &e.rows[l.walk]
		w.at, w.position, w.end = i, i-from+1, to
		l.step(e, i)
		if l.where != nil && !l.where(e).Truth || e.failed {
			if e.failed {
				return false
			}
			continue
		}
		if l.once != nil {
			v := l.once(e)
			key := string(v.Append([]byte{byte(v.Kind)}))
			if e.failed {
				return false
			}
			if seen[key] {
				continue
			}
			seen[key] = true
		}
		if l.by != nil {
			if keys = append(keys, l.by(e)); e.failed {
				return false
			}
		}
		w = &e.rows[l.walk]
		if w.fitting = append(w.fitting, int32(i)); l.most > 0 && l.by == nil && len(w.fitting) == l.most {
			break
		}
	}
	w := &e.rows[l.walk]
	if l.by != nil {
		order := make([]int, len(keys))
		for i := range order {
			order[i] = i
		}
		slices.SortStableFunc(order, func(i, j int) int {
			n := before(keys[i], keys[j])
			if l.down {
				n = -n
			}
			return n
		})
		rows := slices.Clone(w.fitting)
		for at, i := range order {
			w.fitting[at] = rows[i]
		}
	}
	if l.most > 0 && len(w.fitting) > l.most {
		w.fitting = w.fitting[:l.most]
	}
	return true
}

// before orders values: absent, null and empty ones first, then numbers and times by their size, texts by
// their characters.
func before(x, y value.Value) int {
	if !x.Has() || !y.Has() || x.Kind != y.Kind {
		return cmp.Compare(x.Kind, y.Kind)
	}
	if x.Kind == value.Time {
		return x.Time.Std().Compare(y.Time.Std())
	}
	order, _ := compare(x, y)
	return order
}

// next goes to the next row; it is false if there is none.
func (l *loop) next(e *Env) bool {
	w := &e.rows[l.walk]
	if w.at++; w.at >= w.end {
		return false
	}
	w.position++
	if l.chosen {
		l.step(e, int(w.fitting[w.at]))
	} else {
		l.step(e, w.at)
	}
	return true
}

// mostSteps is how many rows a map may go through for one record: lists in lists of themselves would go on for
// years.
const mostSteps = 100_000_000

// step goes to a row of the table.
func (l *loop) step(e *Env, index int) {
	if e.steps++; e.steps > mostSteps {
		e.fail("the map goes through rows more than %s times for this record", value.OfNumber(value.Int(mostSteps)), "")
	}
	t, w := &e.batch.Tables[l.table], &e.rows[l.walk]
	w.index, w.row = index, t.Spans[index*t.Slots:(index+1)*t.Slots]
}

// row is the record, or the row at which a walk is.
func (e *Env) row(walk int) []batch.Span {
	if walk == 0 {
		return e.Row
	}
	return e.rows[walk].row
}

// place is the word for the place of a row in its list.
func placeOf(walk int, word string) evaluator {
	switch word {
	case "position":
		return func(e *Env) value.Value { return value.OfNumber(value.Int(int64(e.rows[walk].position))) }
	case "first":
		return func(e *Env) value.Value { return value.OfBool(e.rows[walk].position == 1) }
	}
	return func(e *Env) value.Value { return value.OfBool(e.rows[walk].at+1 == e.rows[walk].end) }
}

// compileRows compiles a function on lists.
func (c *compiler) compileRows(n *Call) evaluator {
	if c.ofPart(n) {
		return c.compilePart(n)
	}
	rows := list(n.Args[0])
	if rows == nil || !c.enter(rows) {
		return func(*Env) value.Value { return value.Value{} } // it has been complained about
	}
	defer c.leave()
	l := c.loop(rows)
	var of evaluator
	separator := []byte(nil)
	if len(n.Args) > 1 {
		of = c.compile(n.Args[1])
	}
	if len(n.Args) > 2 {
		separator = []byte(c.arguments(n.Args[2:])[0].text)
	}
	return func(e *Env) value.Value { return overRows(e, l, n.Name, of, separator) }
}

// overRows asks each row for a value. Those that have none count for nothing, but for the count.
func overRows(e *Env, l *loop, name string, of evaluator, separator []byte) value.Value {
	var out value.Value
	var joined, between []byte
	sum, count := value.Int(0), int64(0)
	for more := l.begin(e); more && !e.failed; more = l.next(e) {
		if count++; of == nil {
			continue
		}
		v := of(e)
		if e.failed {
			return value.Value{}
		}
		if name == "first" || name == "last" {
			if out = v; name == "first" {
				return out
			}
			continue
		}
		if !v.Has() {
			continue
		}
		switch name {
		case "sum":
			sum = sum.Add(v.Number)
		case "join":
			if joined = v.Append(append(joined, between...)); between == nil {
				between = separator
			}
		default:
			order, ok := 0, true
			if out.Has() {
				if order, ok = compare(v, out); !ok {
					return e.fail("%q has a time zone where another time has none", v, "")
				}
			}
			if !out.Has() || name == "smallest" && order < 0 || name == "largest" && order > 0 {
				out = v
			}
		}
	}
	if e.failed {
		return value.Value{}
	}
	switch name {
	case "count":
		return value.OfNumber(value.Int(count))
	case "sum":
		return value.OfNumber(sum)
	case "join":
		if joined == nil {
			return value.Value{}
		}
		return value.OfText(joined)
	}
	return out
}
