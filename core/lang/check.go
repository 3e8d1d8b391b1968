package lang

import (
	"maps"
	"slices"
	"sort"
	"strings"

	"ydrion/core/finding"
	"ydrion/core/lookup"
	"ydrion/core/place"
	"ydrion/core/shape"
	"ydrion/core/value"
)

// anyKind is the kind of a node whose value may be of any kind: absent, empty
// or null itself.
const anyKind value.Kind = 255

// Lookups are the code tables that there are.
type Lookups interface {
	Table(name string) *lookup.Table // nil if there is none of that name
	Names() []string
}

// Tables are code tables in memory.
type Tables map[string]*lookup.Table

// Table gives a table by its name, nil if there is none.
func (t Tables) Table(name string) *lookup.Table { return t[name] }

// Names are the names of the tables.
func (t Tables) Names() []string { return slices.Collect(maps.Keys(t)) }

// table finds a code table by its name, nil if there is none.
func (s *Scope) table(name string) *lookup.Table {
	if s.Lookups == nil {
		return nil
	}
	return s.Lookups.Table(name)
}

// Scope is what expressions may refer to.
type Scope struct {
	Fields  shape.Record
	Lists   []shape.List
	Lookups Lookups
	// Words narrows the context words that make sense; nil allows all.
	Words map[string]bool
	// Separate tells that each record is an output of its own.
	Separate bool
	// Example is a position, where fields are named by theirs.
	Example string
	// Offered fields need not be used: a schema that others have written says which there are, they are
	// positions that are named somewhere, or everything goes on.
	Offered bool
	// Required tells whether a position of the target, an element of a segment, must have a value: a record without it is
	// rejected. Nil: none must.
	Required func(segment string, element int) bool
	// Elsewhere are the fields that are used outside of the map.
	Elsewhere map[string]bool
}

// contextWords are the words that stand for facts about the run, with their
// kinds and meanings.
var contextWords = map[string]struct {
	Kind value.Kind
	Doc  string
}{
	"now":            {value.Time, "the time at which the run began, in the machine's time zone"},
	"sequence":       {value.Number, "a number that the route gives to no other record"},
	"record":         {value.Number, "the record's number in its file, from 1"},
	"route":          {value.Text, "the route's name"},
	"file.name":      {value.Text, "the name of the file that was picked up"},
	"file.stem":      {value.Text, "that name without its last extension"},
	"file.extension": {value.Text, "its last extension, without the point"},
	"file.folder":    {value.Text, "its subfolder below the listened folder, empty if none"},
	"file.event":     {value.Text, "what happened to it: arrived, changed or gone"},
	"mail.from":      {value.Text, "who sent the mail that it was attached to; empty if it came in none"},
	"mail.to":        {value.Text, "to whom that was sent, with commas between"},
	"mail.subject":   {value.Text, "its subject"},
	"mail.date":      {value.Time, "when it was written, as it says; nothing if it does not"},
	"mail.id":        {value.Text, "its message id"},
	"collect.key":    {value.Text, "what the files have in common that were collected"},
	"collect.files":  {value.Number, "how many files were collected; 0 where they come one by one"},
	"part.number":    {value.Number, "of several outputs of a file, which one it is, from 1; known in names only"},
	"part.count":     {value.Number, "how many there are; known in names only"},
	"part.records":   {value.Number, "how many records are in the output; known in names only"},
	"file.size":      {value.Number, "its bytes, where files go on unread"},
	"file.head":      {value.Text, "its text at the beginning, up to 64 KiB, where files go on unread"},
	"file.type":      {value.Text, "what its content is, as a media type such as application/pdf, where files go on unread"},
}

// checker finds out the kind of every node.
type checker struct {
	scope Scope
	place func(pos int) place.Place
	kinds map[Node]value.Kind
	used  map[string]bool // fields
	taken map[string]bool // those of them that are the record's own, and not asked of its rows
	words map[string]bool // context words
	out   finding.List

	lets  map[string]*let // the values that have been named
	bound map[*Name]*let  // the names that mean them

	tables    []shape.Table // of the lists
	usedLists map[int]bool
	asked     asked
	joined    int          // so many and, or stand around
	turned    int          // so many not stand around
	warned    map[int]bool // where
	frames    []frame      // what names may mean: the record, and behind it the rows around an expression
	walks     int          // through rows
	named     int          // how large all that names stand for is, each where it is used
	decides   string       // what the expression is that is being checked, where it decides what becomes of records; empty: it does not
}

// mostNamed bounds what a map's names stand for: a value that is named by others twice, and those by others, doubles with each.
const mostNamed = 500_000

// size is how many nodes an expression is, with those that names in it stand for.
func (c *checker) size(n Node) int {
	if name, is := n.(*Name); is && c.bound[name] != nil {
		return c.bound[name].size
	}
	size := 1
	for _, below := range children(n) {
		if below != nil {
			size += c.size(below)
		}
	}
	return size
}

func newChecker(scope Scope, place func(int) place.Place) *checker {
	whole := shape.Shape{Fields: scope.Fields, Lists: scope.Lists}
	return &checker{scope: scope, place: place, kinds: map[Node]value.Kind{}, used: map[string]bool{}, taken: map[string]bool{}, words: map[string]bool{}, usedLists: map[int]bool{}, lets: map[string]*let{}, bound: map[*Name]*let{}, asked: asked{}, warned: map[int]bool{},
		tables: whole.Tables(), frames: []frame{{name: "record", fields: scope.Fields, table: -1}}}
}

func (c *checker) bad(n Node, code, format string, args ...any) {
	c.out = append(c.out, finding.New(code, c.place(n.Pos()), format, args...))
}

func (c *checker) suggest(format string, args ...any) {
	c.out[len(c.out)-1] = c.out[len(c.out)-1].Suggest(format, args...)
}

// check finds the kind of a node and of all below it.
func (c *checker) check(n Node) value.Kind {
	k := c.kindOf(n)
	c.kinds[n] = k
	return k
}

// kindOnce is the kind of a node that has been checked, where that was: names that were known there may be forgotten.
func (c *checker) kindOnce(n Node) value.Kind {
	if k, checked := c.kinds[n]; checked {
		return k
	}
	return c.check(n)
}

func (c *checker) kindOf(n Node) value.Kind {
	switch n := n.(type) {
	case *Text:
		for _, p := range n.Parts {
			if p.Node != nil && c.check(p.Node) == value.Time {
				c.bad(p.Node, "map.type", "%s is a time; say how it is written", p.Node)
				c.suggest(`as in {%s | format "yyyyMMdd"}`, p.Node)
			}
		}
		return value.Text
	case *Number:
		return value.Number
	case *Constant:
		if n.Name == "true" || n.Name == "false" {
			return value.Bool
		}
		return anyKind
	case *Name:
		return c.name(n)
	case *Call:
		return c.call(n)
	case *Rows:
		c.bad(n, "map.list", "%s is a list, and a value is needed here", n)
		if asked := n.asked(); asked != "" {
			c.suggest("close the list before it is asked for something: (%s where …) | %s", n.List, asked)
		} else {
			c.suggest("say what of it: %s | count, %s | first …", n, n)
		}
		return anyKind
	case *Answer:
		x, v := c.check(n.X), c.check(n.Value)
		if x != v && x != anyKind && v != anyKind {
			if x == value.Text || nothing(n.Value) {
				return x
			}
			c.bad(n.Value, "map.type", "the answer is a %s, what it stands for is a %s", v, x)
		}
		if x == anyKind {
			return v
		}
		return x
	case *Choice:
		return c.choice(n)
	case *Not:
		c.turned++
		c.want(n.X, value.Bool, "not")
		c.turned--
		return value.Bool
	case *Is:
		c.check(n.X)
		return value.Bool
	case *Binary:
		return c.binary(n)
	}
	return anyKind
}

// below are the nodes directly below a node, or the one that a name stands for.
func (c *checker) below(n Node) []Node {
	if name, is := n.(*Name); is && c.bound[name] != nil {
		return []Node{c.bound[name].node}
	}
	return children(n)
}

// deciding marks what is checked from now on, until the function that it gives is called, as something that decides
// what becomes of records.
func (c *checker) deciding(what string) func() {
	before := c.decides
	c.decides = what
	return func() { c.decides = before }
}

// numbered tells whether a node is the route's sequence or is made of it.
func (c *checker) numbered(n Node) bool {
	name, is := n.(*Name)
	if is && name.Name == "sequence" && !name.Field && c.bound[name] == nil {
		_, slot, word := c.find(name)
		return slot < 0 && word == ""
	}
	return slices.ContainsFunc(c.below(n), c.numbered)
}

// unnumbered holds that nothing is decided by the route's sequence: a file that is fed again would go another way.
func (c *checker) unnumbered(n *Name) {
	if c.decides == "" || !c.numbered(n) {
		return
	}
	c.bad(n, "map.sequence", "%s cannot stand in %s: it is another number when the file is fed again", n.Name, c.decides)
	c.suggest("`record` is the record's number in its file")
}

// choice finds the kind that all cases have.
func (c *checker) choice(n *Choice) value.Kind {
	c.asked.add(n, 1)
	defer c.asked.add(n, -1)
	kind := anyKind
	of := func(v Node) {
		switch got := c.check(v); {
		case kind == anyKind:
			kind = got
		case got != kind && got != anyKind && !nothing(v):
			c.bad(v, "map.type", "%s is a %s, and another case is a %s", v, got, kind)
			if kind == value.Text && got == value.Number {
				c.suggest("turn the number into a text: (%s | text)", v)
			}
		}
	}
	for _, k := range n.Cases {
		c.want(k.When, value.Bool, "when")
		of(k.Value)
	}
	of(n.Otherwise)
	return kind
}

func (c *checker) want(n Node, kind value.Kind, who string) {
	if kind == value.Bool {
		defer c.deciding("a condition")()
	}
	if got := c.check(n); got != kind && got != anyKind && kind != anyKind {
		c.bad(n, "map.type", "%s needs a %s, %s is a %s", who, kind, n, got)
		if kind == value.Number && got == value.Text {
			c.suggest("turn the text into a number: %s | number", n)
		}
	}
}

func (c *checker) binary(n *Binary) value.Kind {
	switch n.Op {
	case "and", "or":
		if c.joined++; c.joined == 1 { // those in it stand in the same condition
			c.asked.add(n, 1)
			defer c.asked.add(n, -1)
		}
		defer func() { c.joined-- }()
		c.want(n.L, value.Bool, n.Op)
		c.want(n.R, value.Bool, n.Op)
		return value.Bool
	case "+", "-", "*", "/":
		c.want(n.L, value.Number, n.Op)
		c.want(n.R, value.Number, n.Op)
		return value.Number
	}
	l, r := c.check(n.L), c.check(n.R)
	if l != r && l != anyKind && r != anyKind {
		c.bad(n, "map.type", "%s is a %s and %s a %s; they cannot be compared", n.L, l, n.R, r)
		if l == value.Text && r == value.Number {
			c.suggest("turn the text into a number: (%s | number)", n.L)
		}
	} else if l == value.Text && n.Op != "=" && n.Op != "!=" {
		c.bad(n, "map.type", "texts have no order; %s needs numbers or times", n.Op)
	} else {
		c.unsaid(n)
	}
	return value.Bool
}

func (c *checker) name(n *Name) value.Kind {
	if l := c.lets[n.Name]; l != nil && !n.Field {
		l.used = true
		if before := c.named; before <= mostNamed {
			if c.named += l.size; c.named > mostNamed {
				c.bad(n, "map.size", "with %s the map's named values are more than %d steps, each counted where it is used", n.Name, mostNamed)
				c.suggest("name fewer values by others, or use them less often")
			}
		}
		if c.named > mostNamed {
			return anyKind
		}
		c.bound[n] = l
		c.unnumbered(n)
		return c.kinds[l.node]
	}
	depth, slot, word := c.find(n)
	if word != "" {
		return rowWords[word]
	}
	if !n.Field {
		if w, ok := contextWords[n.Name]; ok && slot < 0 {
			if c.scope.Words != nil && !c.scope.Words[n.Name] || c.scope.Words == nil && seldom(n.Name) {
				c.bad(n, "map.name", "%s has no meaning here", n.Name)
			}
			c.words[n.Name] = true
			c.unnumbered(n)
			return w.Kind
		}
	}
	if slot < 0 {
		names := c.frames[c.inner()].fields.Names()
		if c.inner() > 0 {
			names = append(names, c.scope.Fields.Names()...)
		}
		if _, table := c.listed(n.Name); table >= 0 {
			c.bad(n, "map.list", "%s is a list, and a value is needed here", n.Name)
			c.suggest("say what of it: %s | count, %s | first …, or `repeat … for row in %s`", n.Name, n.Name, n.Name)
			return anyKind
		}
		c.bad(n, "map.field-unknown", "there is no field %q", n.Name)
		for w := range contextWords {
			names = append(names, w)
		}
		sort.Strings(names)
		if near := finding.Nearest(n.Name, names); near != "" {
			c.suggest("was %s meant?", near)
		} else if f, ok := functions[n.Name]; ok {
			c.suggest("%s is a function: VALUE | %s", n.Name, f.usage())
		} else if c.scope.Example != "" {
			c.suggest("without a schema values are named by their positions, such as %s; a text stands in quotes: %q", c.scope.Example, n.Name)
		} else {
			c.suggest("the fields are %s", strings.Join(c.scope.Fields.Names(), ", "))
		}
		return anyKind
	}
	if _, both := contextWords[n.Name]; both && !n.Field {
		c.bad(n, "map.name", "%s is a field and a word of the language", n.Name)
		c.suggest("say field %q for the field", n.Name)
	}
	if c.used[c.frames[depth].fields[slot].Name] = true; depth == 0 {
		c.taken[c.frames[depth].fields[slot].Name] = true
	}
	return c.frames[depth].fields[slot].Kind
}

func (c *checker) call(n *Call) value.Kind {
	f, ok := functions[n.Name]
	if !ok {
		c.bad(n, "map.function-unknown", "there is no function %q", n.Name)
		if near := finding.Nearest(n.Name, functionNames()); near != "" {
			c.suggest("was %s meant?", near)
		}
		for _, a := range n.Args {
			c.check(a)
		}
		return anyKind
	}
	if len(n.Args) == 0 {
		c.bad(n, "map.arguments", "%s works on a value: VALUE | %s", n.Name, f.usage())
		return f.Out
	}
	if args := n.Args[1:]; f.Rows {
		if len(args) > len(f.Args) || len(args) < f.needed() {
			c.bad(n, "map.arguments", "%s has %d arguments here; it is used as LIST | %s", n.Name, len(args), f.usage())
			return f.Out
		}
		return c.overRows(n, f)
	}
	if n.Name == "lookup" {
		defer c.deciding("what is looked up")()
	}
	in := c.check(n.Args[0])
	if !f.takes(in) {
		c.bad(n, "map.type", "%s works on %s, %s is a %s", n.Name, f.inputs(), n.Args[0], in)
		switch {
		case in == value.Time && n.Name == "date":
			c.suggest("the schema has read the date already; go on with | format")
		case in == value.Text && f.takes(value.Number):
			c.suggest("turn the text into a number first: %s | number | %s", n.Args[0], n.Name)
		case in == value.Text && f.takes(value.Time):
			c.suggest(`read the date first: %s | date "dd/MM/yyyy" | %s`, n.Args[0], n.Name)
		}
	}
	args := n.Args[1:]
	if len(args) > len(f.Args) || len(args) < f.needed() {
		c.bad(n, "map.arguments", "%s has %d arguments here; it is used as VALUE | %s", n.Name, len(args), f.usage())
		return f.Out
	}
	for i, a := range args {
		p := f.Args[i]
		if p.Table {
			c.table(a)
			continue
		}
		if p.Constant && !constant(a) {
			c.bad(a, "map.arguments", "the %s of %s must be written out, not computed", p.Name, n.Name)
			continue
		}
		c.want(a, p.Kind, n.Name)
	}
	if n.Name == "lookup" {
		c.columns(n, args)
	}
	if n.Instead != nil {
		defer c.deciding("")()
		c.want(n.Instead, f.Out, "if "+instead[n.Name])
	}
	if f.Out == anyKind {
		return in
	}
	return f.Out
}

// columns holds that a table answers what is looked up in it.
func (c *checker) columns(n *Call, args []Node) {
	name, is := args[0].(*Name)
	if !is || c.scope.table(name.Name) == nil {
		return // it has been complained about
	}
	answer := ""
	if len(args) > 1 {
		text, is := args[1].(*Text)
		if !is || len(text.Parts) != 1 {
			return
		}
		answer = text.Parts[0].Text
	}
	table := c.scope.table(name.Name)
	index, err := table.By(max(1, len(args)-1), answer)
	if err != nil {
		c.bad(n, "map.lookup", "%v", err)
		return
	}
	for i, kind := range index.Kinds() {
		key := n.Args[0]
		if i > 0 {
			key = args[i+1]
		}
		if got := c.kinds[key]; got != kind && got != anyKind {
			c.bad(key, "map.type", "%s is looked up in %q of %s, which needs a %s; it is a %s", key, table.Name(i+index.First()), table.File, kind, got)
			switch {
			case kind == value.Text:
				c.suggest("turn it into a text: (%s | text)", key)
			case got == value.Text && kind == value.Number:
				c.suggest("turn it into a number: (%s | number)", key)
			case got == value.Text:
				c.suggest(`read the date first: (%s | date "dd/MM/yyyy")`, key)
			}
		}
	}
}

func (c *checker) table(n Node) {
	name, ok := n.(*Name)
	if !ok {
		c.bad(n, "map.lookup", "the name of a lookup table was expected, this is %s", n)
		return
	}
	if c.scope.table(name.Name) == nil {
		var names []string
		if c.scope.Lookups != nil {
			names = c.scope.Lookups.Names()
		}
		sort.Strings(names)
		c.bad(n, "map.lookup-unknown", "there is no lookup table %q", name.Name)
		if near := finding.Nearest(name.Name, names); near != "" {
			c.suggest("was %s meant?", near)
		} else {
			c.suggest("put it into lookups/%s.csv", name.Name)
		}
	}
}

// nothing tells whether a node is the empty text: an answer that fits what has any kind.
func nothing(n Node) bool {
	t, is := n.(*Text)
	return is && len(t.Parts) == 0
}

// constant tells whether a node is a number or a text without expressions.
func constant(n Node) bool {
	switch n := n.(type) {
	case *Number:
		return true
	case *Text:
		return len(n.Parts) == 0 || len(n.Parts) == 1 && n.Parts[0].Node == nil
	}
	return false
}
