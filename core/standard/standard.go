// Package standard holds what a standard for messages says about them: segments and
// their elements, data types, code tables, and the structures of messages with their
// groups. It is read from our own text format; each format brings its files.
package standard

import (
	"fmt"
	"io"
	"io/fs"
	"iter"
	"slices"
	"strconv"
	"strings"
	"sync"
)

// Dictionary is one version of a standard. What it holds is read when it is first asked for; a
// file with mistakes is found by Check, and by a panic later.
type Dictionary struct {
	Version string
	// Closed tells that its tables have all codes that there may be.
	Closed  bool
	entries map[entryKey]*entry
	typed   sync.Map // of typedKey: *Element; as many as there are types
}

type entryKey struct{ kind, name string }

// entry is a block, and what has been made of it.
type entry struct {
	block
	book      *Dictionary
	once      sync.Once
	composite *Composite
	table     *Table
	structure *Structure
	err       error
}

func (b *Dictionary) get(kind, name string) *entry {
	if e := b.entries[entryKey{kind, name}]; e != nil {
		return e.get()
	}
	return &nothing
}

var nothing entry

// get reads the entry if that has not been done.
func (e *entry) get() *entry {
	if e.once.Do(e.read); e.err != nil {
		panic(fmt.Sprintf("%s %s: %v", e.kind, e.name, e.err))
	}
	return e
}

// Segment gives a segment by its name, nil if there is none.
func (b *Dictionary) Segment(name string) *Composite { return b.get("segment", name).composite }

// Type gives a data type, nil if it is not known.
func (b *Dictionary) Type(name string) *Composite { return b.get("type", name).composite }

// Table gives a code table, nil if it is not known.
func (b *Dictionary) Table(name string) *Table { return b.get("table", name).table }

// Typed is an element with another type, as where a field says the type of another.
func (b *Dictionary) Typed(e *Element, kind string) *Element {
	key := typedKey{e, kind}
	if t, ok := b.typed.Load(key); ok {
		return t.(*Element)
	}
	t := *e
	t.Type, t.of = kind, b.entries[entryKey{"type", kind}]
	if t.of == nil { // there are as many as somebody likes to write
		return &t
	}
	made, _ := b.typed.LoadOrStore(key, &t)
	return made.(*Element)
}

type typedKey struct {
	of   *Element
	kind string
}

// Structure gives the structure of a message, nil if it is not known.
func (b *Dictionary) Structure(name string) *Structure { return b.get("structure", name).structure }

// Names lists what there is of a kind: segment, type, table or structure.
func (b *Dictionary) Names(kind string) []string {
	var out []string
	for k := range b.entries {
		if k.kind == kind {
			out = append(out, k.name)
		}
	}
	slices.Sort(out)
	return out
}

// Check reads everything, and gives the first mistake.
func (b *Dictionary) Check() error {
	for k, e := range b.entries {
		if e.once.Do(e.read); e.err != nil {
			return fmt.Errorf("%s %s: %w", k.kind, k.name, e.err)
		}
	}
	return nil
}

// Composite is a segment with its elements, or a data type with its components.
type Composite struct {
	Name, Title string
	Elements    []Element
	Conditions  []Condition
	demanded    uint64 // those of the first 64 elements that are required, and those that are not used
	unused      uint64
}

// Has tells whether elements are there as they are described, by the first 64 of them: the lowest bit is the first one's. Of those that are
// not used it is asked where that counts. False may be wrong if there are more.
func (c *Composite) Has(there uint64, used bool) bool {
	if there&c.demanded != c.demanded || used && there&c.unused != 0 || len(c.Elements) > 64 {
		return false
	}
	for i := range c.Conditions {
		if !c.Conditions[i].Holds(there) {
			return false
		}
	}
	return true
}

// Usage says whether an element must be there.
type Usage byte

// The usages, as they are written.
const (
	Required    Usage = 'R'
	Optional    Usage = 'O'
	Conditional Usage = 'C'
	NotUsed     Usage = 'X'
)

// Element is an element of a segment, or a component of a type.
type Element struct {
	Title    string
	Type     string
	Usage    Usage
	Repeats  int    // how often it may come, 0: any number
	Min, Max int    // length in characters; Max 0: any
	Table    string // the codes it takes, empty: any text
	Number   string // of the data element in its standard's dictionary, if that is known (X12.3: 324)

	of, codes *entry // of the type and the table
}

// Of is what the type of an element consists of; nil if it is elementary.
func (e *Element) Of() *Composite {
	if e.of == nil || len(e.of.get().composite.Elements) == 0 {
		return nil
	}
	return e.of.composite
}

// Parts is how many components an element has: 1 if it is elementary, 0 if that is not known.
func (e *Element) Parts() int {
	switch {
	case e.Type == "VARIES":
		return 0
	case e.of != nil:
		return max(1, len(e.of.get().composite.Elements))
	case elementary[e.Type]:
		return 1
	}
	return 0
}

// Codes is the table of an element; nil if it takes any text, or the table is not known.
func (e *Element) Codes() *Table {
	if e.codes == nil || len(e.codes.get().table.Codes) == 0 {
		return nil
	}
	return e.codes.table
}

// Table is a list of codes.
type Table struct {
	Name  string `json:"name"`
	Title string `json:"title"`
	Codes []Code `json:"codes"`
	// Own tells that it is one's own, and has all codes that there may be.
	Own bool `json:"-"`

	places map[string]int // of the codes, if there are many
}

// fewCodes are searched through.
const fewCodes = 6

// Code is a code and what it means.
type Code struct {
	Code    string `json:"code"`
	Meaning string `json:"meaning"`
}

// Meaning of a code, and whether the table has it.
func (t *Table) Meaning(code string) (string, bool) {
	if t.places != nil {
		if i, ok := t.places[code]; ok {
			return t.Codes[i].Meaning, true
		}
		return "", false
	}
	for i := range t.Codes {
		if t.Codes[i].Code == code {
			return t.Codes[i].Meaning, true
		}
	}
	return "", false
}

// Versions lists which versions the files in a folder tell of.
func Versions(files fs.FS) ([]string, error) {
	var out []string
	err := blocks(files, func(b *block) error {
		for v := range strings.SplitSeq(b.versions, ",") {
			if v != "" && !slices.Contains(out, v) {
				out = append(out, v)
			}
		}
		return nil
	})
	slices.Sort(out)
	return out, err
}

// Read finds what the files in a folder say of one version.
func Read(files fs.FS, version string) (*Dictionary, error) {
	all := make([]block, 0, 2<<10)
	err := blocks(files, func(k *block) error {
		if k.kind == "table" || k.of(version) {
			all = append(all, *k)
		}
		return nil
	})
	return bookOf(version, all), err
}

func bookOf(version string, all []block) *Dictionary {
	b := &Dictionary{Version: version, entries: make(map[entryKey]*entry, len(all))}
	entries := make([]entry, len(all))
	for i := range all {
		if k := &all[i]; k.kind == "table" || k.of(version) {
			entries[i].block, entries[i].book = *k, b
			b.entries[entryKey{k.kind, k.name}] = &entries[i]
		}
	}
	return b
}

// number gives the elements before their data elements' numbers; - for one that has none.
func (c *Composite) number(numbers []string) error {
	if len(numbers) > len(c.Elements) {
		return fmt.Errorf("there are %d numbers for %d elements", len(numbers), len(c.Elements))
	}
	for i, n := range numbers {
		if n != "-" {
			c.Elements[i].Number = n
		}
	}
	return nil
}

// read makes of a block what it says.
func (e *entry) read() {
	switch e.kind {
	case "segment", "type":
		e.composite = &Composite{Name: e.name, Title: e.title}
		for line := range e.lines() {
			if notes, ok := strings.CutPrefix(line, "notes "); ok {
				for note := range strings.FieldsSeq(notes) {
					c, err := ParseCondition(note)
					if err != nil {
						e.err = err
						return
					}
					e.composite.Conditions = append(e.composite.Conditions, c)
				}
				continue
			}
			if numbers, ok := strings.CutPrefix(line, "numbers "); ok {
				e.err = e.composite.number(strings.Fields(numbers))
				if e.err != nil {
					return
				}
				continue
			}
			element, err := element(line)
			if err != nil {
				e.err = err
				return
			}
			element.of, element.codes = e.book.entries[entryKey{"type", element.Type}], e.book.entries[entryKey{"table", element.Table}]
			if element.of == e { // it would consist of itself
				element.of = nil
			}
			if bit := uint64(1) << len(e.composite.Elements); element.Usage == Required {
				e.composite.demanded |= bit
			} else if element.Usage == NotUsed {
				e.composite.unused |= bit
			}
			e.composite.Elements = append(e.composite.Elements, element)
		}
	case "table":
		e.table = &Table{Name: e.name, Title: e.title}
		for line := range e.lines() {
			code, meaning, ok := strings.Cut(line, " = ")
			if !ok {
				e.err = fmt.Errorf("%q is not a code with its meaning", line)
				return
			}
			e.table.Codes = append(e.table.Codes, Code{code, meaning})
		}
		slices.SortFunc(e.table.Codes, func(x, y Code) int { return strings.Compare(x.Code, y.Code) })
		if len(e.table.Codes) > fewCodes {
			e.table.places = make(map[string]int, len(e.table.Codes))
			for i := len(e.table.Codes) - 1; i >= 0; i-- {
				e.table.places[e.table.Codes[i].Code] = i
			}
		}
	case "structure":
		e.structure, e.err = parseStructure(e.name, e.title, strings.ReplaceAll(e.body, "\n", " "))
	}
}

// block is a part of a file: a line that says what it is, and its lines, up to an empty
// one. Several such lines may share what follows them.
type block struct {
	kind, name, versions, title string
	body                        string
}

// of tells whether a block is about a version.
func (b *block) of(version string) bool {
	for rest := b.versions; rest != ""; {
		var v string
		if v, rest, _ = strings.Cut(rest, ","); v == version {
			return true
		}
	}
	return false
}

func (b *block) lines() iter.Seq[string] {
	return func(yield func(string) bool) {
		for rest := b.body; rest != ""; {
			var line string
			if line, rest, _ = strings.Cut(rest, "\n"); line != "" && line[0] != '#' && !yield(line) {
				return
			}
		}
	}
}

// head reads the line that says what a block is.
func (b *block) head(line string) bool {
	kind, rest, _ := strings.Cut(line, " ")
	if kind != "segment" && kind != "type" && kind != "table" && kind != "structure" {
		return false
	}
	b.kind = kind
	b.name, b.title, _ = strings.Cut(rest, " ")
	if b.versions = ""; kind != "table" {
		b.versions, b.title, _ = strings.Cut(b.title, " ")
	}
	return true
}

func blocks(files fs.FS, take func(*block) error) error {
	names, err := fs.Glob(files, "*.txt")
	if err != nil {
		return err
	}
	for _, name := range names {
		text, err := textOf(files, name)
		if err != nil {
			return err
		}
		if err := blocksOf(text, take); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
	}
	return nil
}

// textOf reads a file without having it in memory twice.
func textOf(files fs.FS, name string) (string, error) {
	f, err := files.Open(name)
	if err != nil {
		return "", err
	}
	defer f.Close()
	var text strings.Builder
	if info, err := f.Stat(); err == nil {
		text.Grow(int(info.Size()))
	}
	_, err = io.CopyBuffer(&text, f, make([]byte, 8<<10))
	return text.String(), err
}

func blocksOf(rest string, take func(*block) error) error {
	var b block
	for rest != "" {
		b = block{}
		var text string
		for len(rest) > 0 && rest[0] == '\n' {
			rest = rest[1:]
		}
		text, rest, _ = strings.Cut(rest, "\n\n")
		heads := text
		for text != "" && (strings.HasPrefix(text, "#") || b.head(text)) {
			_, text, _ = strings.Cut(text, "\n")
		}
		heads, b.body = heads[:len(heads)-len(text)], strings.TrimSuffix(text, "\n")
		if b.body != "" && b.kind == "" {
			return fmt.Errorf("%.60q begins no segment, type, table or structure", b.body)
		}
		for heads != "" {
			var line string
			if line, heads, _ = strings.Cut(heads, "\n"); !b.head(line) {
				continue
			}
			if err := take(&b); err != nil {
				return err
			}
		}
	}
	return nil
}

// element reads a line such as "R* CX(250)#0203 Patient Identifier List".
func element(line string) (Element, error) {
	usage, rest, _ := strings.Cut(line, " ")
	if usage == "" {
		return Element{}, fmt.Errorf("%q begins with a blank", line)
	}
	kind, title, _ := strings.Cut(rest, " ")
	e := Element{Title: title, Usage: Usage(usage[0]), Repeats: 1}
	if !strings.Contains("ROCX", usage[:1]) {
		return e, fmt.Errorf("%q does not begin with a usage: R, O, C or X", line)
	}
	bad := func(what string) (Element, error) { return e, fmt.Errorf("%q: %s", line, what) }
	if many := usage[1:]; many == "*" {
		e.Repeats = 0
	} else if many != "" {
		n, err := strconv.Atoi(strings.TrimPrefix(many, "*"))
		if err != nil || n < 2 {
			return bad("a repetition is written * or *3")
		}
		e.Repeats = n
	}
	kind, e.Table, _ = strings.Cut(kind, "#")
	name, length, measured := strings.Cut(kind, "(")
	e.Type = name
	if !measured {
		return e, nil
	}
	from, to, both := strings.Cut(strings.TrimSuffix(length, ")"), "..")
	if !both {
		from, to = "0", from
	}
	var err1, err2 error
	e.Min, err1 = strconv.Atoi(from)
	e.Max, err2 = strconv.Atoi(to)
	if err1 != nil || err2 != nil || e.Max < e.Min {
		return bad("a length is written (20) or (1..20)")
	}
	return e, nil
}
