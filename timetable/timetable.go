// Package timetable says when something is due: on certain days, at certain
// times or in a rhythm, within a window of the day, in a time zone.
//
// A day has a missing hour when clocks go forward and a doubled one when they
// go back. A time in the missing hour is due at the end of the gap; a time in the
// doubled hour is due once, the first time; a rhythm goes on through both.
package timetable

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Clock is a time of the day in minutes after midnight; 24:00 is 1440.
type Clock int

// ParseClock reads 06:30.
func ParseClock(s string) (Clock, error) {
	var h, m int
	if n, err := fmt.Sscanf(s, "%d:%d", &h, &m); err != nil || n != 2 || len(s) != 5 || m < 0 || m > 59 || h < 0 || h > 24 || h == 24 && m > 0 {
		return 0, fmt.Errorf("%q is not a time of the day such as 06:30", s)
	}
	return Clock(h*60 + m), nil
}

func (c Clock) String() string { return fmt.Sprintf("%02d:%02d", c/60, c%60) }

// Days are days of the week, Sunday is 0, and of the month.
type Days struct {
	Week  [7]bool
	Month [32]bool // by their number
	Last  bool     // the last of each month
}

// EveryDay is all seven.
var EveryDay = Days{Week: [7]bool{true, true, true, true, true, true, true}}

var dayNames = []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}

// ParseDays reads mon-fri, sat or mon,wed,fri-sun; and days of the month: 1, 15-20, last.
func ParseDays(s string) (Days, error) {
	var d Days
	for _, part := range strings.Split(s, ",") {
		first, last, isRange := strings.Cut(strings.ToLower(strings.TrimSpace(part)), "-")
		if first == "last" && !isRange {
			d.Last = true
			continue
		}
		if !isRange {
			last = first
		}
		if from, to := ofMonth(first), ofMonth(last); from > 0 && from <= to {
			for ; from <= to; from++ {
				d.Month[from] = true
			}
			continue
		}
		i, j := slices.Index(dayNames, first), slices.Index(dayNames, last)
		if i < 0 || j < 0 {
			return d, fmt.Errorf("%q is not a day of the week or range such as mon-fri, nor one of the month such as 1 or last", strings.TrimSpace(part))
		}
		for ; ; i = (i + 1) % 7 {
			d.Week[i] = true
			if i == j {
				break
			}
		}
	}
	return d, nil
}

// ofMonth is the number of a day of the month; 0: it is none.
func ofMonth(s string) int {
	n, err := strconv.Atoi(s)
	if err != nil || n < 1 || n > 31 || len(s) > 2 {
		return 0
	}
	return n
}

func (d Days) String() string {
	if d == EveryDay {
		return "every day"
	}
	var out, month []string
	for i := range 7 {
		if k := (i + 1) % 7; d.Week[k] {
			out = append(out, dayNames[k])
		}
	}
	for n, is := range d.Month {
		if is {
			month = append(month, strconv.Itoa(n))
		}
	}
	switch {
	case d.Last && len(month) > 0:
		out = append(out, "day "+strings.Join(month, ", ")+" and the last of the month")
	case d.Last:
		out = append(out, "the last day of the month")
	case len(month) > 0:
		out = append(out, "day "+strings.Join(month, ", ")+" of the month")
	}
	return strings.Join(out, ", ")
}

// Date is a day on which nothing is due; without a year, of each.
type Date struct {
	Year  int
	Month time.Month
	Day   int
}

// ParseDate reads 2026-12-25, or 12-25 of each year.
func ParseDate(s string) (Date, error) {
	if t, err := time.Parse(time.DateOnly, s); err == nil {
		return Date{t.Year(), t.Month(), t.Day()}, nil
	}
	t, err := time.Parse(time.DateOnly, "2000-"+s) // a leap year
	if err != nil {
		return Date{}, fmt.Errorf("%q is not a date such as 2026-12-25, or 12-25 of each year", s)
	}
	return Date{Month: t.Month(), Day: t.Day()}, nil
}

func (d Date) String() string {
	if d.Year == 0 {
		return fmt.Sprintf("%02d-%02d", d.Month, d.Day)
	}
	return fmt.Sprintf("%d-%02d-%02d", d.Year, d.Month, d.Day)
}

// Table is a timetable. At and Every exclude each other; with neither, it is
// due at any moment within its window.
type Table struct {
	Days     Days
	Not      []Date // of these days
	At       []Clock
	Every    time.Duration
	From, To Clock // the window of the day; To is 24:00 if there is none, and the next day's if it is not behind From
	Zone     *time.Location
}

// Always tells whether files are taken at any moment of the window rather than
// at certain moments.
func (t *Table) Always() bool { return len(t.At) == 0 && t.Every == 0 }

// Open tells whether a moment lies in the window.
func (t *Table) Open(at time.Time) bool {
	y, m, d := at.In(t.Zone).Date()
	for day := d - 1; day <= d; day++ {
		if from, to := t.window(y, m, day); t.on(y, m, day) && !at.Before(from) && at.Before(to) {
			return true
		}
	}
	return false
}

// on tells whether its window begins on a day.
func (t *Table) on(y int, m time.Month, d int) bool {
	day := time.Date(y, m, d, 12, 0, 0, 0, time.UTC)
	if y, m, d = day.Date(); slices.Contains(t.Not, Date{y, m, d}) || slices.Contains(t.Not, Date{0, m, d}) {
		return false
	}
	return t.Days.Week[day.Weekday()] || t.Days.Month[d] || t.Days.Last && day.AddDate(0, 0, 1).Day() == 1
}

// far is how many days a day that is named may be away: the 31st comes after 62 days, and dates can leave out many.
const far = 400

// window is the one that begins on a day.
func (t *Table) window(y int, m time.Month, d int) (from, to time.Time) {
	end := d
	if t.To <= t.From {
		end++
	}
	return Moment(y, m, d, t.From, t.Zone), Moment(y, m, end, t.To, t.Zone)
}

// Next is the first moment after another at which it is due, or at which its
// window opens. It is zero if there is none for more than a year (no day is named).
func (t *Table) Next(after time.Time) time.Time {
	y, m, d := after.In(t.Zone).Date()
	for day := d - 1; day < d+far; day++ {
		if !t.on(y, m, day) {
			continue
		}
		for _, due := range t.due(y, m, day) {
			if due.After(after) {
				return due
			}
		}
	}
	return time.Time{}
}

// Latest is the last moment, not after another, of which Next says that it is due. It is zero if there is none for more than
// a year.
func (t *Table) Latest(until time.Time) time.Time {
	y, m, d := until.In(t.Zone).Date()
	for day := d; day > d-far; day-- {
		if !t.on(y, m, day) {
			continue
		}
		for _, due := range slices.Backward(t.due(y, m, day)) {
			if !due.After(until) {
				return due
			}
		}
	}
	return time.Time{}
}

// due lists the moments of one day in order.
func (t *Table) due(y int, m time.Month, d int) []time.Time {
	var out []time.Time
	from, to := t.window(y, m, d)
	switch {
	case t.Every > 0:
		for at := from; at.Before(to); at = at.Add(t.Every) {
			out = append(out, at)
		}
	case len(t.At) > 0:
		for _, c := range t.At {
			out = append(out, Moment(y, m, d, c, t.Zone))
		}
		slices.SortFunc(out, time.Time.Compare)
	default:
		out = append(out, from)
	}
	return out
}

// Moment is when a clock in a zone first shows a time of a day; if it never
// does, the end of the gap.
func Moment(y int, m time.Month, d int, c Clock, zone *time.Location) time.Time {
	h, min := int(c)/60, int(c)%60
	t := time.Date(y, m, d, h, min, 0, 0, zone)
	wanted := time.Date(y, m, d, h, min, 0, 0, time.UTC)
	shown := func(t time.Time) time.Time {
		_, offset := t.Zone()
		return time.Unix(t.Unix()+int64(offset), 0).UTC()
	}
	begin, end := t.ZoneBounds()
	switch {
	case shown(t).After(wanted):
		return begin.In(zone)
	case shown(t).Before(wanted):
		return end.In(zone)
	case begin.IsZero():
		return t
	}
	// It may have been shown before the clock went back.
	_, now := t.Zone()
	_, before := begin.Add(-time.Second).In(zone).Zone()
	if earlier := t.Add(time.Duration(now-before) * time.Second); earlier.Before(begin) && shown(earlier).Equal(wanted) {
		return earlier
	}
	return t
}

// String says the timetable in words.
func (t *Table) String() string {
	var b strings.Builder
	b.WriteString(t.Days.String())
	switch {
	case t.Every > 0:
		fmt.Fprintf(&b, " every %s", Short(t.Every))
	case len(t.At) > 0:
		for i, c := range t.At {
			b.WriteString([]string{" at ", ", "}[min(i, 1)] + c.String())
		}
	}
	if t.From > 0 || t.To < 24*60 {
		fmt.Fprintf(&b, " from %s to %s", t.From, t.To)
		if t.To <= t.From {
			b.WriteString(" the next day")
		}
	}
	b.WriteString(t.Without())
	fmt.Fprintf(&b, " (%s)", ZoneName(t.Zone))
	return b.String()
}

// Without says on which days nothing is due: "" if there are none.
func (t *Table) Without() string {
	const shown = 4
	var b strings.Builder
	for i, d := range t.Not {
		if i == shown {
			fmt.Fprintf(&b, " and %d more", len(t.Not)-shown)
			break
		}
		b.WriteString([]string{", not on ", ", "}[min(i, 1)] + d.String())
	}
	return b.String()
}

// ZoneName says a time zone; the machine's own is "local time".
func ZoneName(z *time.Location) string {
	if z == time.Local {
		return "local time"
	}
	return z.String()
}

// Short prints a duration without zero parts: 15m, not 15m0s.
func Short(d time.Duration) string {
	s := d.String()
	if strings.HasSuffix(s, "m0s") {
		s = strings.TrimSuffix(s, "0s")
	}
	if strings.HasSuffix(s, "h0m") {
		s = strings.TrimSuffix(s, "0m")
	}
	return s
}
