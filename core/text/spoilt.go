package text

import (
	"bytes"
	"regexp"
)

// What spreadsheet programs make of values, and write when they save a file.
const (
	Exponent = "exponent" // digits are lost: 1.23457E+12
	MonthDay = "month"    // 1-3 has become 1-Mar or Mar-26
	Formula  = "formula"  // one that says a text: ="00123"
	Failed   = "failed"   // what stands where a formula came to nothing: #N/A
	NoBreak  = "no-break" // it holds a no-break space
)

var (
	exponentForm = regexp.MustCompile(`^[0-9](?:[.,][0-9]+)?E\+?[0-9]+$`)
	monthForm    = regexp.MustCompile(`^(?:[0-9]{1,2}-(?:Jan|Feb|Mar|Apr|May|Jun|Jul|Aug|Sep|Oct|Nov|Dec)|(?:Jan|Feb|Mar|Apr|May|Jun|Jul|Aug|Sep|Oct|Nov|Dec)-[0-9]{2})$`)
	noBreaks     = []byte("\u00a0")
)

// failures are what spreadsheet programs show where a formula has no value.
var failures = map[string]bool{"#N/A": true, "#REF!": true, "#VALUE!": true, "#DIV/0!": true, "#NAME?": true, "#NUM!": true, "#NULL!": true}

// Spoilt says what a spreadsheet program has done to a value; empty if it has done nothing that shows.
func Spoilt(v []byte) string {
	switch {
	case len(v) < 3:
		return ""
	case v[0]-'0' <= 9 && len(v) > 3 && bytes.IndexByte(v, 'E') > 0 && exponentForm.Match(v):
		return Exponent
	case len(v) <= 6 && len(v) >= 5 && bytes.IndexByte(v, '-') > 0 && monthForm.Match(v):
		return MonthDay
	case len(v) > 3 && v[0] == '=' && v[1] == '"' && v[len(v)-1] == '"':
		return Formula
	case v[0] == '#' && failures[string(v)]:
		return Failed
	case bytes.Contains(v, noBreaks):
		return NoBreak
	}
	return ""
}
