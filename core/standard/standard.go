// Package standard holds what a standard for messages says about them: segments and
// their elements, data types, code tables, and the structures of messages with their
// groups. It is read from our own text format; each format brings its files.
package standard

import (
	"fmt"
	"io/fs"
	"slices"
	"strconv"
	"strings"
)

// Book is one version of a standard.
type Book struct {
	Version    string
	Segments   map[string]*Composite
	Types      map[string]*Composite
	Tables     map[string]*Table
	Structures map[string]*Structure
}

// Composite is a segment with its elements, or a data type with its components.
type Composite struct {
	Name, Title string
	Elements    []Element
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
}

// Table is a list of codes.
type Table struct {
	Name  string `json:"name"`
	Title string `json:"title"`
	Codes []Code `json:"codes"`
}

// Code is a code and what it means.
type Code struct {
	Code    string `json:"code"`
	Meaning string `json:"meaning"`
}

// Meaning of a code, and whether the table has it.
func (t *Table) Meaning(code string) (string, bool) {
	i, ok := slices.BinarySearchFunc(t.Codes, code, func(c Code, s string) int { return strings.Compare(c.Code, s) })
	if !ok {
		return "", false
	}
	return t.Codes[i].Meaning, true
}

// Versions lists which versions the files in a folder tell of.
func Versions(files fs.FS) ([]string, error) {
	seen := map[string]bool{}
	err := blocks(files, func(b block) error {
		for _, v := range b.versions {
			seen[v] = true
		}
		return nil
	})
	out := make([]string, 0, len(seen))
	for v := range seen {
		out = append(out, v)
	}
	slices.Sort(out)
	return out, err
}

// Read reads what the files in a folder say of one version. Errors name the file and
// the line.
func Read(files fs.FS, version string) (*Book, error) {
	b := &Book{Version: version, Segments: map[string]*Composite{}, Types: map[string]*Composite{}, Tables: map[string]*Table{}, Structures: map[string]*Structure{}}
	err := blocks(files, func(k block) error {
		if k.kind != "table" && !slices.Contains(k.versions, version) {
			return nil
		}
		switch k.kind {
		case "segment", "type":
			c := &Composite{Name: k.name, Title: k.title}
			for _, line := range k.lines {
				e, err := element(line)
				if err != nil {
					return err
				}
				c.Elements = append(c.Elements, e)
			}
			if k.kind == "type" {
				b.Types[k.name] = c
			} else {
				b.Segments[k.name] = c
			}
		case "table":
			t := &Table{Name: k.name, Title: k.title}
			for _, line := range k.lines {
				code, meaning, ok := strings.Cut(line, " = ")
				if !ok {
					return fmt.Errorf("%q is no code with its meaning", line)
				}
				t.Codes = append(t.Codes, Code{code, meaning})
			}
			slices.SortFunc(t.Codes, func(x, y Code) int { return strings.Compare(x.Code, y.Code) })
			b.Tables[k.name] = t
		case "structure":
			s, err := parseStructure(k.name, k.title, strings.Join(k.lines, " "))
			if err != nil {
				return err
			}
			b.Structures[k.name] = s
		}
		return nil
	})
	return b, err
}

// block is a part of a file: a line that says what it is, and its lines, up to an empty
// one. Several such lines may share what follows them.
type block struct {
	kind, name, title string
	versions          []string
	lines             []string
}

func blocks(files fs.FS, take func(block) error) error {
	names, err := fs.Glob(files, "*.txt")
	if err != nil {
		return err
	}
	for _, name := range names {
		content, err := fs.ReadFile(files, name)
		if err != nil {
			return err
		}
		var heads []block
		var lines []string
		number := 0
		flush := func() error {
			for _, b := range heads {
				b.lines = lines
				if err := take(b); err != nil {
					return fmt.Errorf("%s, before line %d: %s %s: %w", name, number, b.kind, b.name, err)
				}
			}
			heads, lines = heads[:0], nil
			return nil
		}
		for line := range strings.Lines(string(content)) {
			number++
			line = strings.TrimSpace(line)
			if line == "" { // it ends a block
				if err := flush(); err != nil {
					return err
				}
				continue
			}
			if line[0] == '#' {
				continue
			}
			kind, rest, _ := strings.Cut(line, " ")
			if !slices.Contains([]string{"segment", "type", "table", "structure"}, kind) {
				lines = append(lines, line)
				continue
			}
			if len(lines) > 0 {
				if err := flush(); err != nil {
					return err
				}
			}
			b := block{kind: kind}
			b.name, rest, _ = strings.Cut(rest, " ")
			if kind != "table" {
				var versions string
				versions, rest, _ = strings.Cut(rest, " ")
				b.versions = strings.Split(versions, ",")
			}
			b.title = rest
			heads = append(heads, b)
		}
		if err := flush(); err != nil {
			return err
		}
	}
	return nil
}

// element reads a line such as "R* CX(250)#0203 Patient Identifier List".
func element(line string) (Element, error) {
	usage, rest, _ := strings.Cut(line, " ")
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
