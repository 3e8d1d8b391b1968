// Package finding has the one type for everything that is wrong: in a data
// file, in a schema, in a map, in a route.
package finding

import (
	"fmt"
	"strings"
	"unicode/utf8"

	"ydrion/core/place"
)

// Severity tells what stops a record (or a publication) from what does not.
type Severity string

const (
	Error   Severity = "error"
	Warning Severity = "warning"
)

// Finding is one discrepancy. Message is a sentence that the person who made
// the file can act on without knowing anything about Ydrion.
type Finding struct {
	Severity   Severity    `json:"severity" enum:"error,warning"`
	Code       string      `json:"code" doc:"stable identifier, such as schema.type"`
	Place      place.Place `json:"place"`
	Rule       string      `json:"rule,omitempty" doc:"what said so: file and place in it"`
	Seen       string      `json:"seen,omitempty" doc:"the value found, shortened if long"`
	Expected   string      `json:"expected,omitempty" doc:"what would have been right"`
	Message    string      `json:"message"`
	Suggestion string      `json:"suggestion,omitempty"`
}

// New is an error with a place and a sentence.
func New(code string, at place.Place, format string, args ...any) Finding {
	return Finding{Severity: Error, Code: code, Place: at, Message: fmt.Sprintf(format, args...)}
}

// Warn is a warning with a place and a sentence.
func Warn(code string, at place.Place, format string, args ...any) Finding {
	f := New(code, at, format, args...)
	f.Severity = Warning
	return f
}

// Suggest adds what to do about it.
func (f Finding) Suggest(format string, args ...any) Finding {
	f.Suggestion = fmt.Sprintf(format, args...)
	return f
}

// String prints a finding the way compilers do: one line, and a second one
// with the suggestion if there is one.
func (f Finding) String() string {
	var b strings.Builder
	if at := f.Place.String(); at != "" {
		b.WriteString(at)
		b.WriteString(": ")
	}
	fmt.Fprintf(&b, "%s: %s [%s]", f.Severity, f.Message, f.Code)
	if f.Suggestion != "" {
		b.WriteString("\n    ")
		b.WriteString(f.Suggestion)
	}
	return b.String()
}

// List is several findings.
type List []Finding

// HasErrors tells whether anything in the list stops.
func (l List) HasErrors() bool {
	for _, f := range l {
		if f.Severity == Error {
			return true
		}
	}
	return false
}

// Warnings counts them.
func (l List) Warnings() (n int64) {
	for _, f := range l {
		if f.Severity == Warning {
			n++
		}
	}
	return n
}

// Error makes a list usable as an error: its first error and how many more.
func (l List) Error() string {
	errors, first := 0, ""
	for _, f := range l {
		if f.Severity == Error {
			if errors == 0 {
				first = f.String()
			}
			errors++
		}
	}
	switch errors {
	case 0:
		return "no errors"
	case 1:
		return first
	}
	return fmt.Sprintf("%s (and %d more)", first, errors-1)
}

// shown is how many bytes of a value a finding shows.
const shown = 120

// Shorten makes a value fit for a finding: control characters made visible,
// long values cut with their length told.
func Shorten(value []byte) string {
	cut := len(value) > shown
	text := value
	if cut {
		n := shown
		for n > shown-utf8.UTFMax && !utf8.RuneStart(value[n]) {
			n--
		}
		text = value[:n]
	}
	var b strings.Builder
	for len(text) > 0 {
		r, n := utf8.DecodeRune(text)
		switch {
		case r == utf8.RuneError && n == 1:
			fmt.Fprintf(&b, "<%02X>", text[0])
		case r == '\n':
			b.WriteString("⏎")
		case r < ' ' || r == 0x7f:
			fmt.Fprintf(&b, "<%02X>", r)
		default:
			b.WriteRune(r)
		}
		text = text[n:]
	}
	if cut {
		fmt.Fprintf(&b, "… (%d bytes)", len(value))
	}
	return b.String()
}

// Nearest gives the name of a list that differs least from a mistyped one, or
// "" if none is near.
func Nearest(name string, names []string) string {
	best, distance := "", max(2, len([]rune(name))/2+1)
	for _, n := range names {
		if d := edits(strings.ToLower(name), strings.ToLower(n)); d < distance {
			best, distance = n, d
		}
	}
	return best
}

// edits is how many letters must be added, left out, changed or swapped with their neighbours to make one of two short
// names of the other.
func edits(a, b string) int {
	s, t := []rune(a), []rune(b)
	rows := make([][]int, len(s)+1)
	for i := range rows {
		rows[i] = make([]int, len(t)+1)
		for j := range rows[i] {
			if i == 0 || j == 0 {
				rows[i][j] = i + j
				continue
			}
			changed := rows[i-1][j-1]
			if s[i-1] != t[j-1] {
				changed++
			}
			rows[i][j] = min(changed, rows[i-1][j]+1, rows[i][j-1]+1)
			if i > 1 && j > 1 && s[i-1] == t[j-2] && s[i-2] == t[j-1] {
				rows[i][j] = min(rows[i][j], rows[i-2][j-2]+1)
			}
		}
	}
	return rows[len(s)][len(t)]
}
