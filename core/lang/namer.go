package lang

import (
	"fmt"
	"strings"
	"unicode"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/place"
)

// Namer makes file names from a text with expressions.
type Namer struct {
	eval      evaluator
	PerRecord bool // uses fields, record or sequence: differs from record to record
	Sequence  bool
}

// CompileName compiles a file name's text.
func CompileName(n Node, scope Scope, at func(int) place.Place) (*Namer, finding.List) {
	c := &compiler{newChecker(scope, at)}
	c.check(n)
	if c.out.HasErrors() {
		return nil, c.out
	}
	namer := &Namer{eval: c.compile(n), PerRecord: len(c.used) > 0 || c.words["record"] || c.words["sequence"], Sequence: c.words["sequence"]}
	return namer, c.out
}

// NameRule is the rule of a batch note that says that a record's name cannot
// be a file name.
const NameRule = -1

// Name makes the file name for a record (or, without a batch, for a whole
// file), and says why that is not possible.
func (n *Namer) Name(e *Env, b *batch.Batch, record int) (name, problem string) {
	if b != nil {
		e.start(b, record)
	} else {
		e.failed, e.reason, e.scratch = false, "", e.scratch[:0]
	}
	name = string(n.eval(e).Append(nil))
	if e.failed {
		return "", e.reason
	}
	return name, CheckName(name)
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
