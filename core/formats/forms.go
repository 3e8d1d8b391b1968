package formats

import (
	"bytes"
	"fmt"
	"regexp"
	"strings"

	"ydrion/core/shape"
	"ydrion/core/text"
	"ydrion/core/value"
)

// forms are the forms that the values of a field have had so far. What more than a
// few of them do not have is ruled out; what is left is what the field looks like.
type forms struct {
	left   uint64 // a bit for each of known
	seen   int
	misses [25]int // of each form that is left
	told   uint8   // kinds of spoilt values that have been noted
}

// few is up to how many values may not have the form that a field looks like.
func (f *forms) few() int { return 2 + f.seen/20 }

// form is a form that values can have.
type form struct {
	name string
	has  func(b []byte) bool
}

var known = func() []form {
	list := []form{
		{"true or false", func(b []byte) bool {
			switch strings.ToLower(string(b)) {
			case "true", "false", "yes", "no":
				return true
			}
			return false
		}},
		{"integer", func(b []byte) bool { return value.IsInteger(b) && !leadingZero(b) }},
		{"number with a point", func(b []byte) bool { return value.IsNumber(b) && !leadingZero(b) }},
		{"number with a comma", marks(',', 0)},
		{"number with a comma and grouping points", marks(',', '.')},
		{"number with a point and grouping commas", marks('.', ',')},
		{"digits with leading zeros", func(b []byte) bool { return value.IsInteger(b) && b[0] != '-' }},
	}
	for _, p := range []string{"yyyy-MM-dd", "yyyy-MM-dd HH:mm", "yyyy-MM-dd HH:mm:ss", "yyyy-MM-dd'T'HH:mm:ss", "dd/MM/yyyy", "MM/dd/yyyy", "dd/MM/yyyy HH:mm", "MM/dd/yyyy HH:mm", "dd.MM.yyyy", "dd.MM.yyyy HH:mm",
		"dd-MM-yyyy", "dd/MM/yy", "MM/dd/yy", "yyyyMMdd", "yyyyMMddHHmm", "yyyyMMddHHmmss", "HH:mm", "HH:mm:ss"} {
		pattern := text.MustPattern(p)
		list = append(list, form{"date " + p, func(b []byte) bool { _, ok := pattern.Read(b); return ok }})
	}
	return list
}()

func leadingZero(b []byte) bool { return len(b) > 1 && b[0] == '0' && b[1]-'0' <= 9 }

func marks(decimal, group byte) func([]byte) bool {
	return func(b []byte) bool { _, ok := shape.Canonical(b, decimal, group); return ok && !leadingZero(b) }
}

var allForms = forms{left: 1<<len(known) - 1}

// see rules out the forms that too many values do not have.
func (f *forms) see(b []byte) {
	if f.seen++; f.left == 0 {
		return
	}
	for i := range known {
		if f.left&(1<<i) == 0 || len(b) < 40 && known[i].has(b) {
			continue
		}
		if f.misses[i]++; f.misses[i] > f.few() {
			f.left &^= 1 << i
		}
	}
}

// String says what values look like: the narrowest form of those that most have,
// or all dates that no value decides between.
func (f forms) String() string {
	best := -1
	var dates []string
	for i := range known {
		if f.left&(1<<i) == 0 || f.misses[i]*2 >= f.seen {
			continue
		}
		date, is := strings.CutPrefix(known[i].name, "date ")
		if best < 0 || f.misses[i] < f.misses[best] || is && dates == nil && f.misses[i] == f.misses[best] {
			best, dates = i, nil
		}
		if is && f.misses[i] == f.misses[best] {
			dates = append(dates, date)
		}
	}
	if best < 0 {
		return "text"
	}
	says := known[best].name
	if len(dates) > 1 {
		says = "date, " + strings.Join(dates, " or ") + " (no value decides)"
	}
	switch n := f.misses[best]; n {
	case 0:
		return says
	case 1:
		return says + ", but for 1 value"
	default:
		return fmt.Sprintf("%s, but for %d values", says, n)
	}
}

// Values that spreadsheet programs make of others.
const (
	exponent = "the value has been turned into exponent form, and digits may be lost"
	monthDay = "the value has been turned into a day of a month"
	formula  = "the value is a formula that says a text"
	noBreak  = "the value holds a no-break space"
)

var spoils = map[string]int{exponent: 0, monthDay: 1, formula: 2, noBreak: 3}

var (
	exponentForm = regexp.MustCompile(`^[0-9](?:[.,][0-9]+)?E\+?[0-9]+$`)
	monthForm    = regexp.MustCompile(`^(?:[0-9]{1,2}-(?:Jan|Feb|Mar|Apr|May|Jun|Jul|Aug|Sep|Oct|Nov|Dec)|(?:Jan|Feb|Mar|Apr|May|Jun|Jul|Aug|Sep|Oct|Nov|Dec)-[0-9]{2})$`)
)

// spoilt says what a spreadsheet program has done to a value, if it has.
func spoilt(v []byte) string {
	switch {
	case v[0]-'0' <= 9 && len(v) > 3 && bytes.IndexByte(v, 'E') > 0 && exponentForm.Match(v):
		return exponent
	case len(v) <= 6 && len(v) >= 5 && bytes.IndexByte(v, '-') > 0 && monthForm.Match(v):
		return monthDay
	case len(v) > 3 && v[0] == '=' && v[1] == '"' && v[len(v)-1] == '"':
		return formula
	case bytes.Contains(v, []byte("\u00a0")):
		return noBreak
	}
	return ""
}
