// Package format is the contract between the engine and the formats.
//
// A source format cuts a stream into batches of whole records (sequential) and
// splits the records of a batch into the fields that were asked for (on any
// core). A target format says which positions there are and lays a map's
// assignments out as a list of pieces: constants, values, conditions.
package format

import (
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/place"
	"ydrion/core/standard"
	"ydrion/core/text"
)

// Reader reads one file.
type Reader interface {
	// Cut fills the batch with the next whole records and tells whether there
	// may be more. It returns a *Broken when the syntax can no longer be
	// followed; the batch then holds what precedes.
	Cut(b *batch.Batch) (more bool, err error)
	// Split finds the records of a batch and their requested fields, and notes
	// what is wrong with them. It may be called on several batches at once.
	Split(b *batch.Batch)
	// Describe makes the finding of a syntax note.
	Describe(b *batch.Batch, n batch.Note) finding.Finding
	// Locate gives the offset in the batch at which a field of a record starts
	// and the field's name.
	Locate(b *batch.Batch, record, slot int) (offset uint32, name string)
	// Raw is a record as text that can stand for itself behind a heading.
	Raw(b *batch.Batch, record int) []byte
	// Outline gives the parts of one record's raw text, in the file's order: what holds
	// others stands before them.
	Outline(raw []byte) []Node
	// Survey calls f for each value in a record whose syntax is right: with its path,
	// in which nothing is counted, and its text. Both are valid during the call.
	Survey(raw []byte, f func(path, value []byte))
	// Finish says what is wrong with the file as a whole, once it has been cut to
	// its end and so many records have been found: totals that do not agree. An error
	// rejects all of it.
	Finish(records int64) finding.List
	// Heading is the raw text before the first record, which a file of rejected
	// records begins with.
	Heading() []byte
	// Preface is what must stand before the text from a record on, so that it can be
	// read as a file by itself.
	Preface(b *batch.Batch, record int) []byte
}

// Validator is a reader that knows what a standard says about its records.
type Validator interface {
	// Validate tells where one record's raw text differs from the standard.
	Validate(raw []byte, say func(Difference))
	// ValidateAll tells where the messages of a batch differ, by their number in Messages, from what each is to
	// be validated against: the number of a description, ByStandard, ByNone or AsRead. Offsets are those
	// of the batch. A message that nothing describes is one remark with the code Undescribed.
	ValidateAll(b *batch.Batch, by func(whole int) int, say func(whole int, r Difference))
	// Dictionary gives the description that a record is checked against, with the tables that its outline
	// names; nil if there is none.
	Dictionary(raw []byte) *standard.Dictionary
}

// Divider is a reader that knows which parts of a message belong to one record alone.
type Divider interface {
	// Divide calls say for each stretch of a message, by its number in Messages, that belongs to one
	// record only: the nth of the message, from 0. Offsets are those of the batch.
	Divide(b *batch.Batch, whole int, say func(from, to, n int))
}

// Enveloped is a reader of messages that stand in envelopes; outputs of messages as they came have the like.
type Enveloped interface {
	// Envelopes tells what stands around each record of a batch, the outermost first, and what line end
	// follows its text.
	Envelopes(b *batch.Batch, say func(record int, around []Envelope, end []byte))
}

// Envelope is one: what opens it, and what closes it but for the count of what stands in it.
type Envelope struct {
	Opens, Closes, Number []byte
	At                    int64 // offset in the decoded stream of the segment that opens it: two may read alike
	File                  int   // of those of the run, from 0
	Together              bool  // messages that stand directly in it count as one
}

// Around is a reader of records that stand in values of which a schema says something, too.
type Around interface {
	// HoldAround has each such value held by a check before its records are given out; what is said of it
	// is wrong with all of them. The value is handed over without the records: the list that they are
	// elements of is empty in its text, and had so many. Level is how many steps of the pointer to the
	// records lead to the value.
	HoldAround(check func(level int, value []byte, elements int, say func(Difference)))
}

// Undescribed is the code of a message that no description is of.
const Undescribed = "standard.undescribed"

// Strictness says what a difference from a standard does to a message in a route.
type Strictness byte

const (
	Unvalidated Strictness = iota
	Warned
	Refused
)

// Difference is a difference from a standard.
type Difference struct {
	Code, Text, Seen string
	Path             string
	At               int // the byte in the record
}

// Kind says what a part of a record is.
type Kind string

// The kinds of parts. Only a leaf has a value; the others hold parts that are deeper.
const (
	Group     Kind = "group" // of segments
	Segment   Kind = "segment"
	Composite Kind = "composite" // a value with components, an object or a list
	Leaf      Kind = "value"
)

// Node is a part of a record, for people.
type Node struct {
	Kind   Kind   `json:"kind"`
	Depth  int    `json:"depth"`
	Path   string `json:"path"`
	Value  string `json:"value"`
	From   int    `json:"from" doc:"its first byte in the record's text"`
	To     int    `json:"to" doc:"behind its last byte"`
	Name   string `json:"name,omitempty" doc:"its name in the standard, where that is known"`
	Type   string `json:"type,omitempty"`
	Number string `json:"number,omitempty" doc:"of its data element in the standard's dictionary, where that is known"`
	Table  string `json:"table,omitempty" doc:"the codes that it takes"`
	Means  string `json:"means,omitempty" doc:"the meaning of its code"`
	Cut    bool   `json:"cut,omitempty" doc:"there is more than is shown: of the value, or of the record behind this"`
}

// Limits of what is shown of one record, whatever its format and however large it is.
const (
	MostParts  = 20_000
	MostShown  = 4 << 20  // bytes of all paths and values
	LongValue  = 64 << 10 // bytes
	MostLevels = 200
)

// Parts collect the nodes of an outline, up to the limits of what is shown.
type Parts struct {
	Nodes []Node
	bytes int
	Full  bool // a limit was met: nothing more is taken
}

// Add takes a node, and tells whether more may follow. The last one says that there is more.
func (p *Parts) Add(n Node) bool {
	if p.Full {
		return false
	}
	if len(p.Nodes) >= MostParts || p.bytes >= MostShown || n.Depth > MostLevels {
		p.Full = true
		p.Nodes = append(p.Nodes, Node{Kind: Group, From: n.From, To: n.To, Name: "the record has more than is shown here", Cut: true})
		return false
	}
	n.Value, n.Cut = Clip(n.Value)
	p.bytes += len(n.Path) + len(n.Value) + len(n.Name)
	p.Nodes = append(p.Nodes, n)
	return true
}

// Whole shows a record that is not taken apart.
func Whole(path string, raw []byte) []Node {
	var p Parts
	p.Add(Node{Kind: Leaf, Path: path, Value: string(raw), To: len(raw)})
	return p.Nodes
}

// Clip bounds a value that is shown, and tells whether something was left out.
func Clip(s string) (string, bool) {
	if len(s) <= LongValue {
		return s, false
	}
	n := LongValue
	for n > LongValue-utf8.UTFMax && !utf8.RuneStart(s[n]) {
		n--
	}
	return strings.Clone(s[:n]), true
}

// Broken says that a file cannot be followed any further: the place and the
// reason, and what is left from the start of the record that broke.
type Broken struct {
	Finding finding.Finding
	Rest    io.Reader
}

func (b *Broken) Error() string { return b.Finding.String() }

// Position is a position of a target, in normal form. Two paths for one
// position give the same key.
type Position struct{ Key string }

// Target is a target format based on a sample.
type Target interface {
	// Position finds a position by its path.
	Position(path string) (Position, error)
	// Part finds something that can be dropped or added as a whole.
	Part(path string) (string, error)
	// Inside finds a part that can be repeated, or with an empty path the record as a whole, and gives
	// the target for what is said about it.
	Inside(path string) (key string, target Target, err error)
	// Layout turns a map's instructions into pieces.
	Layout(in Instructions) (Layout, finding.List)
	// Escapes is the table for values in this target.
	Escapes() *text.Escapes
	// Null is how the target says null, and whether it can.
	Null() (string, bool)
	// Show gives a written record as lines of name and value, for people.
	Show(record []byte) []Line
}

// Blanking is a target in which nothing stands where a number or a truth value is null: an empty text cannot be meant
// there.
type Blanking interface {
	Target
	Blanks()
}

// Layout is how a target writes records and what stands around them in an output.
type Layout struct {
	Record []Piece
	// Begins and Ends stand around all records of an output; of its first record so many
	// bytes are left out that only stand between two.
	Begins, Ends []Piece
	Skip         int
	Says         *text.Repertoire // nil: all characters, as UTF-8
	// Decimal is the decimal mark of a target whose standard wants numbers in plain decimal
	// notation; 0: numbers may stand as they were written.
	Decimal byte
	// Editor writes records as they came, with Edits instead of pieces; nil: pieces write them.
	Editor Editor
	Edits  []Edit
}

// Editor writes a record as it came, with changes.
type Editor interface {
	// Edit appends a record of a batch. The problem says why a change is not possible.
	Edit(out []byte, from Reader, b *batch.Batch, record int, changes []Change) (made []byte, problem string)
}

// Framer is an editor of records that stand between what a file begins and ends with, in its own character
// set; so do those of an output.
type Framer interface {
	Begins(from Reader) []byte
	// Ends is asked for when all has been read, with how many records are written.
	Ends(from Reader, records int64) []byte
}

// Edit is a line of a map about a record as it came.
type Edit struct {
	Named
	Expression int   // -1: it is taken away
	Condition  int   // of its own, -1: none
	Conditions []int // all that must hold for it
	Loops      []int // that it is in, the outermost first
}

// Change is what an edit comes to in a record.
type Change struct {
	Edit   int // its number
	At     int // where the segment begins that it is about, in the record; -1: the edit says
	Value  []byte
	Absent bool // there is no value: what stands there is taken away
	Null   bool
	Bare   bool // it is a number or a truth value
}

// Instructions is what a map says about its target. Expressions and conditions
// are numbers that only the map language can resolve.
type Instructions struct {
	Assign []Assignment
	Keep   []Named // positions or parts whose sample values are constants
	Clear  []Named
	Drop   []Conditional
	Add    []Added
	Repeat []Repeated
	// Of is the part that they are about, as far as a target has noted it.
	Of string
	// Separate tells that each record is an output of its own: what stands around it is part of it.
	Separate bool
}

// asWord is how names stand in a map without quotes: words, and positions such as NAD(BY)-2.1 and OBX[2]-5.
var asWord = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*(\([A-Za-z0-9=.]+\)|\[\d+\])*([-.][A-Za-z0-9_]+(\[\d+\])?)*$`)

// Word is a name as a map says it: in quotes, if it is not a word.
func Word(name string) string {
	if !asWord.MatchString(name) {
		return strconv.Quote(name)
	}
	if slices.Contains([]string{"keep", "clear", "ignore", "drop", "add", "when", "repeat", "reject", "skip", "end", "let", "map", "source", "target"}, name) {
		return strconv.Quote(name)
	}
	return name
}

// Named is a path and where the map says it.
type Named struct {
	Path string
	At   place.Place
}

// Assignment is one `position = expression` line.
type Assignment struct {
	Named
	Expression int
}

// Within are the instructions for a body in which what is said around it holds, too.
func (in Instructions) Within(body Instructions) Instructions {
	body.Assign = append(slices.Clone(in.Assign), body.Assign...)
	body.Keep = append(slices.Clone(in.Keep), body.Keep...)
	body.Clear = append(slices.Clone(in.Clear), body.Clear...)
	body.Drop = append(slices.Clone(in.Drop), body.Drop...)
	body.Add = append(slices.Clone(in.Add), body.Add...)
	body.Separate = in.Separate
	return body
}

// Rows lays a record out that becomes several, where a block at the top says so: what layout gives for
// each. Where none does it is laid out once.
func (in Instructions) Rows(layout func(Instructions) []Piece) []Piece {
	var pieces []Piece
	around, several := in, false
	around.Repeat = nil
	for _, r := range in.Repeat {
		if r.Path != "" {
			around.Repeat = append(around.Repeat, r)
		}
	}
	for _, r := range in.Repeat {
		if r.Path != "" {
			continue
		}
		several = true
		body := around.Within(r.Body)
		body.Repeat = append(slices.Clone(around.Repeat), r.Body.Repeat...)
		pieces = append(pieces, r.Pieces(body.Rows(layout))...)
	}
	if !several {
		return layout(in)
	}
	return pieces
}

// Several tells whether a record becomes one of the target for each row of a list.
func (in *Instructions) Several() bool {
	return slices.ContainsFunc(in.Repeat, func(r Repeated) bool { return r.Path == "" })
}

// Around tells of assignments to what stands around all that a record becomes, in a block that writes one for
// each row.
func (in *Instructions) Around(around func(path string) bool) (out finding.List) {
	for _, r := range in.Repeat {
		if r.Path != "" {
			continue
		}
		for _, a := range r.Body.Assign {
			if around(a.Path) {
				f := finding.New("map.repeat", a.At, "%s stands around all that is written for the rows of %s, and this is said of each", a.Path, r.List)
				out = append(out, f.Suggest("say it outside of the block"))
			}
		}
		out = append(out, r.Body.Around(around)...)
	}
	return out
}

// Pieces writes others for each row, under the condition of the block.
func (r *Repeated) Pieces(of []Piece) []Piece {
	var pieces []Piece
	if r.Condition >= 0 {
		pieces = append(pieces, Piece{Kind: If, Expression: r.Condition})
	}
	pieces = append(append(append(pieces, Piece{Kind: Each, Number: r.Loop}), of...), Piece{Kind: End})
	if r.Condition >= 0 {
		pieces = append(pieces, Piece{Kind: End})
	}
	return pieces
}

// Conditional is a part that is dropped when a condition holds (-1: always).
type Conditional struct {
	Named
	Condition int
}

// Added is a part that is added when a condition holds (-1: always).
type Added struct {
	Named
	Condition int
	Assign    []Assignment
}

// Repeated is a part that is written for each row of a list.
type Repeated struct {
	Named            // the part; without a path the record as a whole
	Condition int    // -1: always
	Loop      int    // a number that only the map language can resolve
	List      string // what the list's path is in the source
	// Body is what the map says about the part. Its paths are those of the target that Inside gave.
	Body Instructions
}

// PieceKind says what a piece does.
type PieceKind uint8

const (
	Literal PieceKind = iota // append Bytes
	Value                    // append the escaped value of Expression
	If                       // go to the matching End unless Expression holds
	Unless                   // go to the matching End if Expression holds
	End
	Filled // append Bytes if nothing has been written of the row, which follows one that ends with a line end
	Trim   // take bytes of the set Bytes off the end, but for those behind Release
	Member // append Bytes, the value of Expression and a comma; nothing of it if the value is absent
	Tally  // add Number to what the record counts
	Count  // append Number and what the record counts, and forget that
	Total  // append how many records the output has, or how many have been written of the record
	One    // one more of those that the record becomes begins
	Level  // append the next number of the record's hierarchy, and keep it under Number
	Above  // append what is kept under the first of Chain that has been written last
	Each   // for each row of the loop Number: what follows, up to the matching End
)

// Piece is a step of writing a record.
type Piece struct {
	Kind       PieceKind
	Bytes      []byte
	Expression int
	Number     int
	Chain      []int
	Release    byte
	// Width is how many characters a value has exactly: with zeros before a number if Zeros
	// says so, else with blanks behind. 0: any.
	Width int
	Zeros bool
}
