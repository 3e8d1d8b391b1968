// Package place says where something is in a file.
//
// A place is kept small while data is being processed (a record number and a
// byte offset) and is resolved to lines and columns only for what a person
// will read.
package place

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"
)

// Place is a position in a file. Numbers start at 1, and 0 says "does not
// apply", except for Offset, which counts bytes from 0 and is -1 when unknown.
// Offsets, lines and columns are those of the text after its character set
// has been decoded; a column counts characters.
type Place struct {
	File   string `json:"file,omitempty" doc:"file name, relative to the workspace or as it arrived"`
	Record int64  `json:"record,omitempty" doc:"record number, the first is 1"`
	Offset int64  `json:"offset" doc:"byte offset from the start of the decoded text, -1 if unknown"`
	Line   int64  `json:"line,omitempty" doc:"line, the first is 1"`
	Column int64  `json:"column,omitempty" doc:"column in characters, the first is 1"`
	Path   string `json:"path,omitempty" doc:"the format's own path: a column name, PID-5.1, /tests/0"`
}

// InFile is a place that names no more than the file.
func InFile(name string) Place { return Place{File: name, Offset: -1} }

// At resolves a byte offset of a whole text to its place.
func At(file string, text []byte, offset int) Place {
	offset = max(0, min(offset, len(text)))
	line, column := Resolve(text, offset)
	return Place{File: file, Offset: int64(offset), Line: line, Column: column}
}

// Index finds many places in one text: its lines are counted once, when the first is asked for.
type Index struct {
	file   string
	text   []byte
	starts []int // of the lines
}

// NewIndex makes an index of a file's text.
func NewIndex(file string, text []byte) *Index { return &Index{file: file, text: text} }

// At is the place of an offset, as the function of that name gives it.
func (x *Index) At(offset int) Place {
	if x.starts == nil {
		x.starts = []int{0}
		for i, c := range x.text {
			if c == '\n' || c == '\r' && (i+1 == len(x.text) || x.text[i+1] != '\n') {
				x.starts = append(x.starts, i+1)
			}
		}
	}
	offset = max(0, min(offset, len(x.text)))
	if offset > 0 && x.text[offset-1] == '\r' { // perhaps within a CR LF
		return At(x.file, x.text, offset)
	}
	line, found := slices.BinarySearch(x.starts, offset)
	if found {
		line++
	}
	return Place{File: x.file, Offset: int64(offset), Line: int64(line), Column: int64(utf8.RuneCount(x.text[x.starts[line-1]:offset])) + 1}
}

// Resolve gives the line and column of a byte offset. Lines end with LF, CR LF
// or a lone CR.
func Resolve(text []byte, offset int) (line, column int64) {
	line = 1 + CountLines(text[:offset])
	start := offset
	for start > 0 && text[start-1] != '\n' && text[start-1] != '\r' {
		start--
	}
	return line, int64(utf8.RuneCount(text[start:offset])) + 1
}

// CountLines counts the line ends of a text: LF, CR LF or a lone CR. It goes from
// one to the next of the rarer of the two characters, and counts the others as fast
// as the machine can.
func CountLines(text []byte) int64 {
	lf, cr := bytes.Count(text, []byte{'\n'}), bytes.Count(text, []byte{'\r'})
	if lf == 0 || cr == 0 {
		return int64(lf + cr)
	}
	n := lf + cr // less the pairs
	if lf < cr {
		for i := bytes.IndexByte(text, '\n'); i >= 0; {
			if i > 0 && text[i-1] == '\r' {
				n--
			}
			k := bytes.IndexByte(text[i+1:], '\n')
			if k < 0 {
				break
			}
			i += 1 + k
		}
		return int64(n)
	}
	for i := bytes.IndexByte(text, '\r'); i >= 0; {
		if i+1 < len(text) && text[i+1] == '\n' {
			n--
		}
		k := bytes.IndexByte(text[i+1:], '\r')
		if k < 0 {
			break
		}
		i += 1 + k
	}
	return int64(n)
}

// String is the place in the order a compiler prints it: file, line and column
// with colons between, then record and path.
func (p Place) String() string {
	var b strings.Builder
	b.WriteString(p.File)
	if p.Line > 0 {
		if b.Len() > 0 {
			b.WriteByte(':')
		}
		fmt.Fprintf(&b, "%d:%d", p.Line, max(p.Column, 1))
	}
	if p.Record > 0 {
		if b.Len() > 0 {
			b.WriteByte(' ')
		}
		fmt.Fprintf(&b, "record %d", p.Record)
	}
	if p.Path != "" {
		if b.Len() > 0 {
			b.WriteByte(' ')
		}
		b.WriteString(p.Path)
	}
	return b.String()
}
