package format

import (
	"fmt"
	"io"
	"ydrion/core/batch"
	"ydrion/core/shape"

	"ydrion/core/finding"
	"ydrion/core/standard"
	"ydrion/core/text"
)

// Format is one format, whole: all that the rest of the house knows of it. Each format's package
// has one, and they are listed in core/formats.
type Format struct {
	Name  string // as routes and maps say it
	Title string // as people say it
	Makes string // what its outputs consist of, for people
	// Record is what a record is called that does not say its type itself; empty: it does.
	Record string
	// Nothing is why a file has no records.
	Nothing string
	// Declares tells that files say themselves which character set they are in.
	Declares bool
	// Says gives the character set that the beginning of a file names; empty: none, or one that is not known. Nil: that is not looked for.
	Says func(head []byte) text.Charset
	// Spreadsheets tells that spreadsheet programs write such files, and spoil values.
	Spreadsheets bool
	// Exponents tells that numbers may be written with one.
	Exponents bool
	// Reorders tells that its readers are Reordering.
	Reorders bool
	// Example is a position.
	Example string
	// Position tells why a text is not the position of a value, nil if it is one; nil: positions are
	// names like any others.
	Position func(path string) error
	// List says why a path is not that of a list, where Position names values.
	List func(path string) error
	// Standard tells that there are descriptions of its messages that ship with the program, and
	// that records may be checked against them.
	Standard bool
	// Catalog has those descriptions. Others may take their place: they say everything, or what differs if
	// Inherits says so.
	Catalog  *standard.Catalog
	Inherits bool
	// Canonical tells that there is a canonical style.
	Canonical bool

	// Recognise tells whether a file is of this format, and why; the guess names the format
	// already. Start is the file's text without what may stand before, whole with it.
	Recognise func(g *Guess, start, whole []byte, known Known) bool
	// Broken tells whether a file is meant to be of this format and does not begin as it must;
	// nil: that cannot be told.
	Broken func(g *Guess, start []byte) bool
	// Type notes what a value of a record says of its type; nil: records have none.
	Type func(path, value []byte, of *Type)
	// Meaning is what the standard of a version calls a position, empty where that is not known; nil:
	// there is no standard.
	Meaning func(path, version string) string
	// Settings reads what a route says of its files.
	Settings func(o Options) Source
	// Usual reads files that no route is for.
	Usual Source
	// Objects says records as JSON objects, file by file, and Written those as records; nil: that
	// needs a map.
	Objects func() Objects
	Written func(style Style) func(to, object []byte) ([]byte, error)
	// Target makes a target of a sample.
	Target func(file string, sample []byte) (Target, error)
	// AsCame makes a target of records of the same format as they came; nil: there is none.
	AsCame func() Target
}

// Objects calls say for each record of a batch that is wanted, and for everything that stands around
// records (-1), in the order of the file: with the JSON object that says it whole.
type Objects func(r Reader, b *batch.Batch, wanted func(record int) bool, say func(record int, object []byte, err error))

// Records are objects that are made of one record each.
func Records(object func(r Reader, raw []byte) ([]byte, error)) Objects {
	return func(r Reader, b *batch.Batch, wanted func(int) bool, say func(int, []byte, error)) {
		for i := range b.Records() {
			if wanted(i) {
				out, err := object(r, b.Raw(i))
				say(i, out, err)
			}
		}
	}
}

// Style says how interchanges are written.
type Style struct {
	Canonical bool  // with the usual separators, no line ends, nothing behind the last value
	Number    int64 // of the first interchange that has none; 0: there must be one
}

// Options are what a route says of how its files are read. What is wrong with an option is told to
// Bad; what nobody asks for is a mistake.
type Options interface {
	Text(key string) string // empty: it does not say
	List(key string) []string
	Number(key string) int
	Flag(key string, usual bool) bool
	Bad(key, format string, args ...any)
}

// Type is what a record says of its type.
type Type struct{ Name, Version []byte }

// Confidence says how sure a guess is.
type Confidence string

const (
	Certain Confidence = "certain" // the format says so itself
	Likely  Confidence = "likely"  // everything that was seen agrees
	Guessed Confidence = "guessed" // something had to be assumed
)

// Guess is what a file seems to be, from its first kilobytes.
type Guess struct {
	Format      string       `json:"format" doc:"csv, json, hl7, x12, edifact, or empty if it is none that is known"`
	Title       string       `json:"title" doc:"what people call the format; empty if it is none that is known"`
	Guided      bool         `json:"guided" doc:"its messages can be checked against a guideline of one's own"`
	Version     string       `json:"version" doc:"of the standard, as the file says it"`
	Type        string       `json:"type" doc:"of the first message or document"`
	Charset     text.Charset `json:"encoding"`
	Compression string       `json:"compression" doc:"gzip, zip or none"`
	Confidence  Confidence   `json:"confidence"`
	Reasons     []string     `json:"reasons" doc:"why, in sentences"`
	Settings    []string     `json:"settings" doc:"lines for the read part of a route"`

	// Source is how it can be read; nil: as its format is usually.
	Source Source `json:"-"`
}

// Because adds a reason, and lowers the confidence to that of the reason.
func (g *Guess) Because(c Confidence, format string, args ...any) {
	if c == Guessed || c == Likely && g.Confidence == Certain {
		g.Confidence = c
	}
	g.Reasons = append(g.Reasons, fmt.Sprintf(format, args...))
}

// Described says when there is no description of a message, and by which version's groups it is read then; empty: by none.
func (g *Guess) Described(book *standard.Dictionary, structure *standard.Structure, groups string) {
	switch {
	case book == nil:
		g.Because(Certain, "%s is not described here: it is shown by its segments, and nothing is checked against it%s", g.Version, ReadBy(groups))
	case structure == nil:
		g.Because(Certain, "%s of %s is not described here: it is shown by its segments", g.Type, g.Version)
	}
}

// ReadBy says by which version's groups a message is read that is not described.
func ReadBy(groups string) string {
	if groups == "" {
		return ""
	}
	return "; what belongs to what is read by the groups of " + groups
}

// Known is what somebody knows of a file; the zero value is nothing.
type Known struct {
	Format    string // its name
	Charset   text.Charset
	Delimiter byte  // of csv
	Heading   *bool // whether the first line of csv names the columns
}

// Source is a source format with its settings.
type Source interface {
	// Says tells people what is read, after "Reads", in text that is in that character set.
	Says(set string) string
	// Bind finds the requested fields and lists, before there is any file. Each field gets the slot of
	// its index in the record or row, each list the table of its number. Findings of severity error say that no file of the format can have them; warnings, that
	// its standard does not know them. What can be read is nil then.
	Bind(of shape.Shape) (Bound, finding.List)
}

// Bound is a source that knows which fields are wanted.
type Bound interface {
	// Open reads what precedes the records of a file (a heading, an envelope). Findings of severity
	// error say that the file cannot be read as described; the reader is nil then.
	Open(in *text.Decoded) (Reader, finding.List, error)
}

// Described is a source whose messages can be checked against descriptions of one's own.
type Described interface {
	Source
	// By gives the source with descriptions of one's own. A single one stands before those of the standard. With
	// several, messages are read by the standard's where it describes them, and each is validated by the one
	// that is chosen for it.
	By(own ...*standard.Catalog) Source
}

// What a message is described by, besides the number of a description of one's own, from 0.
const (
	ByStandard = -1 - iota
	ByNone     // it is not validated
	AsRead     // by what it is read by
)

// Gathered is a source whose records are made of rows that stand together.
type Gathered interface {
	Source
	// Rows is the list of them: each has all fields of the record, whose values are those of the first.
	// It is empty if each is a record by itself.
	Rows() string
}

// Onward is a source that keeps what only its own format can say, in values that go on into it.
type Onward interface {
	Source
	// Into gives the source, and makes the target ready, if that is of the same format.
	Into(t Target) Source
}

// Reordering is a reader of records that each stand for themselves: they can be read in another order.
type Reordering interface {
	Reader
	// Alone adds a record's text to another, as Reordered reads it: what is wanted of it and around it is in it. Own is
	// where in the text the record itself begins, which stands there as in the file but for its line ends; -1: all of it stands there so.
	Alone(to []byte, b *batch.Batch, record int) (text []byte, own int)
	// Reordered reads such texts in another order.
	Reordered(in io.Reader) Reader
}

// Ending is a reader of records that end with their lines.
type Ending interface {
	Reader
	// Ended is a record's text as it ends when another follows it: the last of a file may end with the file.
	Ended(text []byte) []byte
}

// Alike is a reader that knows whether records of another file can stand among its own.
type Alike interface {
	// Differs tells in which fields another file is unlike this one, and in what form; empty if in none. Order
	// tells that only the order of the fields is another.
	Differs(other Reader) (fields, form string, order bool)
	// Recast is a record of another file, in whose batch it is, with its fields in the order of this one.
	Recast(other Reader, b *batch.Batch, record int) []byte
}

// Gathering is a source whose records can be put together by what they have in common.
type Gathering interface {
	Source
	// Gather gives the source of records that are made of all that have the same in some fields, and are a
	// list of that name. Its reader gives them out one by one until it is reordered so that they stand together.
	Gather(by []string, list string) Source
}

// Leaving is a reader whose values say what only its format can say, if they go on into it.
type Leaving interface {
	// Plain gives the text of a batch for values that do not; nil if there is no difference.
	Plain(text []byte) []byte
}

// Open binds fields and opens a file.
func Open(s Source, in *text.Decoded, fields shape.Record) (Reader, finding.List, error) {
	bound, findings := s.Bind(shape.Shape{Fields: fields})
	if bound == nil {
		return nil, findings, nil
	}
	r, more, err := bound.Open(in)
	return r, append(findings, more...), err
}
