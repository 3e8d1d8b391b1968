package lang

import (
	"fmt"
	"slices"
	"strings"
	"unicode"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/place"
	"ydrion/core/value"
)

// FileWords are the context words that are known before a file is read.
var FileWords = map[string]bool{"now": true, "route": true, "file.name": true, "file.stem": true, "file.extension": true, "file.folder": true, "file.event": true, "collect.key": true, "collect.files": true, "mail.from": true, "mail.to": true, "mail.subject": true, "mail.date": true, "mail.id": true}

// OutputWords are those that are known of an output when it has been written: the record and its fields are
// its first.
var OutputWords = map[string]bool{"now": true, "route": true, "file.name": true, "file.stem": true, "file.extension": true, "file.folder": true, "file.event": true, "collect.key": true, "collect.files": true, "mail.from": true, "mail.to": true, "mail.subject": true, "mail.date": true, "mail.id": true, "record": true, "sequence": true, "part.number": true, "part.count": true, "part.records": true}

// UnreadWords are those that are known of a file that goes on unread.
var UnreadWords = map[string]bool{"now": true, "route": true, "file.name": true, "file.stem": true, "file.extension": true, "file.folder": true, "file.event": true, "collect.key": true, "collect.files": true, "mail.from": true, "mail.to": true, "mail.subject": true, "mail.date": true, "mail.id": true, "file.size": true, "file.type": true, "file.head": true, "sequence": true}

// PartWords are those that are known of one of several outputs of a file, when it has been written.
var PartWords = map[string]bool{"part.number": true, "part.count": true, "part.records": true}

// seldom tells of words that are known only where a scope says so.
func seldom(word string) bool {
	return word == "file.size" || word == "file.type" || word == "file.head" || PartWords[word]
}

// Template makes texts: file names, and what files have in common.
type Template struct {
	parts     []evaluator // folders, then the name
	folders   []bool      // of which part the file's own folders are all
	PerRecord bool        // uses fields, record or sequence: differs from record to record
	Sequence  bool
	Fields    bool // uses fields of the record, and not its number
	Part      bool // uses what is known of an output when it has been written
	Number    bool // and which of several it is
	totals    []figure
	words     map[string]bool     // that it uses
	alone     int                 // the slot of the text that it is as it stands, from 1; 0: it is something else
	escape    func(string) string // of a text whose parts stand one behind the other: what its values need; nil: nothing
	literal   []bool              // which of them stand in it as they are
}

// CompileText compiles a text that goes with an output. Escape is what values need that are put into it; nil: nothing.
func CompileText(n Node, scope Scope, at func(int) place.Place, escape func(string) string) (*Template, finding.List) {
	text, is := n.(*Text)
	if !is {
		return CompileName([]Node{n}, scope, at)
	}
	var nodes []Node
	var literal []bool
	for _, p := range text.Parts {
		one := &Text{}
		one.Parts = append(one.Parts, p)
		nodes, literal = append(nodes, one), append(literal, p.Node == nil)
	}
	t, findings := CompileName(nodes, scope, at)
	if t != nil {
		t.escape, t.literal = escape, literal
	}
	return t, findings
}

// Say makes a text of CompileText.
func (n *Template) Say(e *Env, b *batch.Batch, record int) (text, problem string) {
	e.begin(b, record)
	var made []byte
	for i, part := range n.parts {
		from := len(made)
		if made = part(e).Append(made); e.failed {
			return "", e.reason
		}
		if n.escape != nil && !n.literal[i] {
			made = append(made[:from], n.escape(string(made[from:]))...)
		}
	}
	return string(made), ""
}

// CompileName compiles the text of a file name: one node for each folder of it
// and for the name itself.
func CompileName(nodes []Node, scope Scope, at func(int) place.Place) (*Template, finding.List) {
	c := &compiler{checker: newChecker(scope, at), aside: true}
	namer := &Template{}
	for _, n := range nodes {
		c.check(n)
	}
	if c.out.HasErrors() {
		return nil, c.out
	}
	for i, n := range nodes {
		text, is := n.(*Text)
		own := is && i+1 < len(nodes) && len(text.Parts) == 1
		if own {
			name, is := text.Parts[0].Node.(*Name)
			own = is && name.Name == "file.folder"
		}
		namer.parts, namer.folders = append(namer.parts, c.compile(n)), append(namer.folders, own)
	}
	if len(nodes) == 1 {
		namer.alone = c.alone(nodes[0])
	}
	namer.PerRecord, namer.Sequence = c.perRecord(), c.words["sequence"]
	namer.Fields = len(c.used) > 0 && !c.words["record"]
	namer.totals, namer.words = c.totals, c.words
	namer.Number = c.words["part.number"]
	namer.Part = namer.Number || c.words["part.count"] || c.words["part.records"]
	return namer, c.out
}

// alone finds the slot of the field of a record that a text is, and nothing else, from 1; 0: it is something else.
func (c *compiler) alone(n Node) int {
	text, is := n.(*Text)
	if !is || len(text.Parts) != 1 {
		return 0
	}
	name, is := text.Parts[0].Node.(*Name)
	if !is || c.bound[name] != nil {
		return 0
	}
	depth, slot, word := c.find(name)
	if depth != 0 || slot < 0 || word != "" || !name.Field && c.words[name.Name] || c.frames[0].fields[slot].Kind != value.Text {
		return 0
	}
	return slot + 1
}

func (c *checker) perRecord() bool {
	return len(c.used) > 0 || c.words["record"] || c.words["sequence"]
}

// NameRule is the rule of a batch note that says that a record's name cannot
// be a file name.
const NameRule = -1

// MadeRule is the rule of a batch note that says that too much would be made.
const MadeRule = -2

// DescriptionRule is the rule of a batch note that says that what a record became differs from its description.
const DescriptionRule = -4

// KeptRule is the rule of a batch note that says that a record cannot go on as it came.
const KeptRule = -3

// Name makes the file name for a record (or, without a batch, for a whole
// file), and says why that is not possible.
func (n *Template) Name(e *Env, b *batch.Batch, record int) (name, problem string) {
	return n.make(e, b, record, CheckName)
}

// Uses tells whether one of some words is used.
func (n *Template) Uses(words ...string) bool {
	return slices.ContainsFunc(words, func(word string) bool { return n.words[word] })
}

// OfFile tells whether anything is used that is known of the file which a record is of.
func (n *Template) OfFile() bool {
	for word := range n.words {
		if strings.HasPrefix(word, "file.") || strings.HasPrefix(word, "mail.") {
			return true
		}
	}
	return false
}

// Text makes a text that need not be a file name.
func (n *Template) Text(e *Env, b *batch.Batch, record int) (text, problem string) {
	return n.make(e, b, record, func(string) string { return "" })
}

// Append adds a text that need not be a file name to another.
func (n *Template) Append(to []byte, e *Env, b *batch.Batch, record int) (text []byte, problem string) {
	if n.alone > 0 && b != nil {
		if s := b.Spans[record*b.Slots+n.alone-1]; !s.Absent() && s.End > s.Off {
			return append(to, e.bufferOf(b)[s.Off:s.End]...), ""
		}
	}
	e.begin(b, record)
	for _, part := range n.parts {
		if to = part(e).Append(to); e.failed {
			return nil, e.reason
		}
	}
	return to, ""
}

func (n *Template) make(e *Env, b *batch.Batch, record int, check func(string) string) (string, string) {
	e.begin(b, record)
	var made []byte
	for i, part := range n.parts {
		if len(made) > 0 {
			made = append(made, '/')
		}
		if n.folders[i] { // those that the file came from, if it came from any
			for _, folder := range strings.Split(e.Folder, "/") {
				if problem := check(folder); problem != "" && e.Folder != "" {
					return "", problem
				}
			}
			made = append(made, e.Folder...)
			continue
		}
		from := len(made)
		made = part(e).Append(made)
		if e.failed {
			return "", e.reason
		}
		if problem := check(string(made[from:])); problem != "" {
			return "", problem
		}
	}
	return string(made), ""
}

// begin makes the environment ready for a record or, without a batch, for a
// whole file.
func (e *Env) begin(b *batch.Batch, record int) {
	if b != nil {
		e.start(b, record)
	} else {
		e.failed, e.reason, e.scratch = false, "", e.scratch[:0]
	}
}

// CheckName says why a text cannot be a file name; empty if it can.
func CheckName(name string) string {
	switch {
	case name == "" || strings.HasPrefix(name, "."):
		return fmt.Sprintf("the name %q is empty or begins with a point", name)
	case len(name) > 240:
		return fmt.Sprintf("the name %q is longer than 240 bytes", name[:40]+"…")
	case strings.ContainsAny(name, "/\\") || strings.ContainsFunc(name, unicode.IsControl):
		return fmt.Sprintf("the name %q holds a slash or a control character", name)
	}
	return ""
}

// Test is a condition on its own.
type Test struct {
	eval      evaluator
	PerRecord bool // differs from record to record
}

// CompileTest compiles a condition.
func CompileTest(n Node, scope Scope, at func(int) place.Place) (*Test, finding.List) {
	c := &compiler{checker: newChecker(scope, at), aside: true}
	c.decides = "a condition"
	if kind := c.check(n); !c.out.HasErrors() && kind != value.Bool {
		c.bad(n, "map.type", "this is a %s; a condition is needed", kind)
	}
	if c.out.HasErrors() {
		return nil, c.out
	}
	return &Test{eval: c.compile(n), PerRecord: c.perRecord()}, c.out
}

// Holds tells whether the condition holds for a record (or, without a batch, for
// a whole file), and says why that cannot be told.
func (t *Test) Holds(e *Env, b *batch.Batch, record int) (holds bool, problem string) {
	e.begin(b, record)
	v := t.eval(e)
	if e.failed {
		return false, e.reason
	}
	return v.Truth, ""
}
