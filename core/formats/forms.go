package formats

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"ydrion/core/finding"
	"ydrion/core/place"
	"ydrion/core/shape"
	"ydrion/core/text"
	"ydrion/core/value"
)

// forms are the forms that the values of a field have had so far. What more than a
// few of them do not have is ruled out; what is left is what the field looks like.
type forms struct {
	left   uint64 // a bit for each of known
	seen   int
	misses [29]int // of each form that is left
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
		"dd-MM-yyyy", "dd-MMM-yyyy", "dd MMM yyyy", "dd/MM/yy", "MM/dd/yy", "yyyyMMdd", "yyyyMMddHHmm", "yyyyMMddHHmmss", "HH:mm", "HH:mm:ss"} {
		pattern := text.MustPattern(p)
		list = append(list, form{"date " + p, func(b []byte) bool { _, ok := pattern.Read(b); return ok }})
	}
	return append(list,
		form{"date ISO 8601", func(b []byte) bool {
			m, ok := text.ReadISO(b)
			return ok && m.From == value.Year && m.Precision >= value.Hour
		}},
		form{"date HL7", func(b []byte) bool {
			m, ok := hl7Times.Read(b)
			return ok && m.Precision >= value.Day && m.Year >= 1800 && m.Year < 2200
		}})
}()

var hl7Times = text.StandardOf("HL7")

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
	if len(dates) > 1 { // a pattern says more than a standard
		dates = slices.DeleteFunc(dates, func(s string) bool { return text.StandardOf(s) != nil })
	}
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

// spoils are what spreadsheet programs do to values, and what is said of that.
var spoils = map[string]struct {
	bit  int
	says string
}{
	text.Exponent: {0, "the value has been turned into exponent form, and digits may be lost"},
	text.MonthDay: {1, "the value has been turned into a day of a month"},
	text.Formula:  {2, "the value is a formula that says a text"},
	text.NoBreak:  {3, "the value holds a no-break space"},
	text.Failed:   {4, "the value is what stands where a formula came to nothing"},
}

// digits is what is remembered of the values of a field that are digits only, to find
// those that a spreadsheet program has changed on its own.
type digits struct {
	led   int            // that begin with a zero
	width int            // digits of those, -1 if they differ
	plain [19]remembered // those that do not, by how many digits they have
	days  remembered
}

// remembered is how many values there were of a kind, and the first of them.
type remembered struct {
	count int
	at    place.Place
	value string
}

func (r *remembered) add(v []byte, at func() place.Place) {
	if r.count++; r.count == 1 {
		r.at, r.value = at(), string(v)
	}
}

func (d *digits) see(v []byte, at func() place.Place) {
	if len(v) > 18 || v[0]-'0' > 9 || !value.IsInteger(v) {
		return
	}
	if leadingZero(v) {
		if d.led++; d.led == 1 {
			d.width = len(v)
		} else if d.width != len(v) {
			d.width = -1
		}
		return
	}
	d.plain[len(v)].add(v, at)
	if len(v) == 5 && string(v) >= "20000" && string(v) <= "60000" { // days from 1954 to 2064
		d.days.add(v, at)
	}
}

// findings says which values have lost their leading zeros, and which are numbers of
// days where the others are dates.
func (d *digits) findings(f *Field) (out finding.List) {
	add := func(r remembered, text, expected, suggestion string) {
		r.at.Path = f.Path
		values := "1 value"
		if r.count > 1 {
			values = fmt.Sprintf("%d values", r.count)
		}
		w := finding.Warn("csv.spreadsheet", r.at, text, values)
		w.Seen, w.Expected = r.value, expected
		out = append(out, w.Suggest("%s", suggestion))
	}
	const as = "format the column as text before saving"
	var shorter remembered
	for _, r := range d.plain[:max(d.width, 0)] {
		if r.count > 0 && (shorter.count == 0 || r.at.Offset < shorter.at.Offset) {
			shorter.at, shorter.value = r.at, r.value
		}
		shorter.count += r.count
	}
	if d.led > 1 && shorter.count > 0 && shorter.count*4 <= d.led {
		add(shorter, "%s with fewer digits than the others, and no leading zeros: a spreadsheet program may have taken them away", fmt.Sprintf("%d digits", d.width), as)
	}
	if strings.HasPrefix(f.Looks, "date") && d.days.count > 0 {
		n, _ := strconv.Atoi(d.days.value)
		day := time.Date(1899, 12, 30+n, 0, 0, 0, 0, time.UTC)
		add(d.days, "%s in digits among dates: a spreadsheet program has written days since 1899", "a date", fmt.Sprintf("%s is %s if it counts from 1899-12-30; format the column as dates before saving", d.days.value, day.Format(time.DateOnly)))
	}
	return out
}
