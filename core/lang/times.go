package lang

import (
	"fmt"
	"math"
	"strings"
	"time"

	"ydrion/core/text"
	"ydrion/core/value"
)

// units are what a time is counted in.
var units = []string{"years", "months", "weeks", "days", "working days", "hours", "minutes", "seconds"}

var timeFunctions = []*Function{
	{Name: "shift", In: onTime, needs: needsUnit(1), Out: value.Time, Args: []Argument{{Name: "by", Kind: value.Number}, textArgument("unit")}, Doc: "later by so many years, months, weeks, days, working days (Monday to Friday), hours, minutes or seconds, or earlier; the 31st becomes the last day of a shorter month",
		Example: `value | date "yyyy-MM-dd" | shift 1 "months" | format "yyyy-MM-dd"`, Field: "2026-01-31", Gives: "2026-02-28", build: buildShift},
	{Name: "until", In: onTime, needs: needsUnit(1), Out: value.Number, Args: []Argument{{Name: "time", Kind: value.Time}, textArgument("unit")}, Doc: "how many whole years, months, weeks, days, working days, hours, minutes or seconds lie between it and a later time; negative for an earlier one",
		Example: `value | date "yyyy-MM-dd" | until ("2026-11-28" | date "yyyy-MM-dd") "years"`, Field: "2010-11-29", Gives: "15", build: buildUntil},
	{Name: "startof", In: onTime, needs: needsUnit(0), Out: value.Time, Args: []Argument{textArgument("unit")}, Doc: `the beginning of its "year", "month", "week" (on Monday), "day" or "hour"`, Example: `value | date "yyyy-MM-dd" | startof "week" | format "yyyy-MM-dd"`, Field: "2026-11-28", Gives: "2026-11-23", build: bounding(false)},
	{Name: "endof", In: onTime, needs: needsUnit(0), Out: value.Time, Args: []Argument{textArgument("unit")}, Doc: `the last day of its "year", "month" or "week"`, Example: `value | date "yyyy-MM-dd" | endof "month" | format "yyyy-MM-dd"`, Field: "2024-02-03", Gives: "2024-02-29", build: bounding(true)},
	{Name: "weekday", In: onTime, needs: needsDay, Out: value.Number, Doc: "its day of the week, from 1 for Monday to 7 (ISO 8601)", Example: `value | date "yyyy-MM-dd" | weekday`, Field: "2026-11-28", Gives: "6",
		build: ofTime(func(t time.Time) int64 { return int64(t.Weekday()+6)%7 + 1 })},
	{Name: "week", In: onTime, needs: needsDay, Out: value.Number, Doc: "the week of the year that it is in (ISO 8601)", Example: `value | date "yyyy-MM-dd" | week`, Field: "2027-01-02", Gives: "53",
		build: ofTime(func(t time.Time) int64 { _, week := t.ISOWeek(); return int64(week) })},
	{Name: "dayofyear", In: onTime, needs: needsDay, Out: value.Number, Doc: "its day of the year, from 1", Example: `value | date "yyyy-MM-dd" | dayofyear`, Field: "2026-02-01", Gives: "32", build: ofTime(func(t time.Time) int64 { return int64(t.YearDay()) })},
	{Name: "epoch", In: onTime, needs: needsDay, Out: value.Number, Doc: "seconds since the beginning of 1970 in UTC; a time without a zone is taken as UTC", Example: `value | date "yyyy-MM-dd'T'HH:mm:ssXXX" | epoch`, Field: "2026-11-28T01:00:00+01:00", Gives: "1795824000", build: ofTime(time.Time.Unix)},
	{Name: "fromepoch", In: onNumber, Out: value.Time, Doc: "the time so many seconds after the beginning of 1970, in UTC", Example: `value | number | fromepoch | format "yyyy-MM-dd HH:mm"`, Field: "1795824000", Gives: "2026-11-28 00:00",
		build: func([]argument) (operation, error) {
			return func(e *Env, in value.Value) value.Value {
				n, whole := in.Number.Round(0, value.Down).Int64()
				t := time.Unix(n, 0).UTC()
				if !whole || t.Year() < 0 || t.Year() > 9999 {
					return e.fail("%q seconds are not a time of the years 0 to 9999", in, "")
				}
				return value.OfTime(moment(t, value.Second, 0))
			}, nil
		}},
	{Name: "fromsheet", In: onNumber, Out: value.Time, Doc: "the date that a spreadsheet program counts so (1 is 1 January 1900, and 60 a day that never was)", Example: `value | number | fromsheet | format "yyyy-MM-dd"`, Field: "46354", Gives: "2026-11-28",
		build: func([]argument) (operation, error) {
			return func(e *Env, in value.Value) value.Value {
				n, whole := in.Number.Round(0, value.Down).Int64()
				if !whole || n < 1 || n == 60 || n > 2958465 {
					return e.fail("%q is not a day of a spreadsheet", in, "")
				}
				if n < 60 {
					n++
				}
				seconds, _ := in.Number.Sub(in.Number.Round(0, value.Down)).Mul(value.Int(86400)).Round(0, value.HalfEven).Int64()
				t := time.Date(1899, 12, 30, 0, 0, 0, 0, time.UTC).AddDate(0, 0, int(n)).Add(time.Duration(seconds) * time.Second)
				precision := value.Day
				if seconds > 0 {
					precision = value.Second
				}
				return value.OfTime(moment(t, precision, value.NoZone))
			}, nil
		}},
	{Name: "zone", In: onTime, needs: needsDay, Out: value.Time, Args: []Argument{textArgument("zone"), optional(textArgument("which"))}, Doc: `the same time in another zone (of the IANA database); one without a zone is taken as local there. Where clocks go back a time comes twice: "earlier" or "later" says which is meant, else it rejects, as does one that clocks pass over`,
		Example: `value | date "yyyy-MM-dd HH:mm" | zone "Europe/Dublin" | format "yyyy-MM-dd'T'HH:mmXXX"`, Field: "2026-07-01 12:00", Gives: "2026-07-01T12:00+01:00", build: buildZone},
	{Name: "local", In: onTime, Out: value.Time, Doc: "the time as its sender's clock showed it, without the offset from UTC that it may have",
		Example: `value | date "ISO 8601" | local | format "yyyy-MM-dd HH:mm"`, Field: "2026-07-01T12:00+02:00", Gives: "2026-07-01 12:00",
		build: func([]argument) (operation, error) {
			return func(_ *Env, in value.Value) value.Value { in.Time.Offset = value.NoZone; return in }, nil
		}},
}

func needsDay([]argument) func(value.Moment) string {
	return func(m value.Moment) string { return m.Lacks(value.Year, value.Day) }
}

// needsUnit asks for what is counted in by the unit that an argument names.
func needsUnit(arg int) func([]argument) func(value.Moment) string {
	return func(args []argument) func(value.Moment) string {
		part := value.Day
		switch strings.TrimSuffix(args[arg].text, "s") {
		case "year":
			part = value.Year
		case "month":
			part = value.Month
		}
		return func(m value.Moment) string { return m.Lacks(value.Year, part) }
	}
}

// incomparable says why two times cannot be compared.
func incomparable(x, y value.Value) string {
	if x.Time.From != y.Time.From {
		return "%q has no year or day where the other time has one, or the other way round"
	}
	return "%q has a time zone where the other time has none, or the other way round"
}

// buildDate reads times by a pattern, or as a standard writes them.
func buildDate(args []argument) (operation, error) {
	name := args[0].text
	standard := text.StandardOf(name)
	if coded := standard != nil && standard.Coded; coded != (len(args) > 1) {
		if coded {
			return nil, fmt.Errorf("%s has many forms: say which by the code that stands beside the time, as in %s", name, map[string]string{"EDIFACT": `DTM(137)-1.2 | date "EDIFACT" DTM(137)-1.3`, "X12": `DTP(472)-3 | date "X12" DTP(472)-2`}[name])
		}
		if standard != nil || args[1].num == 0 {
			return nil, fmt.Errorf("only EDIFACT and X12 have codes for the forms of times")
		}
	} else if coded {
		return func(e *Env, in value.Value) value.Value { return dateOf(e, in, standard, args[1].eval(e)) }, nil
	}
	read := func([]byte) (value.Moment, bool) { return value.Moment{}, false }
	if standard != nil {
		read, name = standard.Read, "of "+name
	} else {
		p, err := text.ParsePattern(name)
		if err != nil {
			return nil, err
		}
		if _, whole := p.Says(); !whole {
			return nil, fmt.Errorf("date pattern %q leaves out what stands between two of its parts, such as the month between year and day", name)
		}
		if len(args) > 1 {
			if p = p.Since(int(args[1].num)); p == nil {
				return nil, fmt.Errorf("%d is not the first year of those that two digits mean, or date pattern %q has no year of two digits (yy)", args[1].num, name)
			}
		}
		read = p.Read
	}
	return func(e *Env, in value.Value) value.Value {
		m, ok := read(in.Bytes)
		if !ok {
			return e.fail("%q is not a date in the form %s", in, name)
		}
		return value.OfTime(m)
	}, nil
}

// dateOf reads a time of a form that a code names.
func dateOf(e *Env, in value.Value, standard *text.Standard, code value.Value) value.Value {
	if e.failed {
		return in
	}
	p := standard.Form(string(code.Append(nil)))
	if p == nil {
		return e.fail("%q is not the code of a form of times in "+standard.Name+" that is known here; a period is cut first, by part or before", code, "")
	}
	m, ok := p.Read(in.Bytes)
	if !ok {
		return e.fail("%q is not a date in the form %s", in, p.String())
	}
	return value.OfTime(m)
}

func buildFormat(args []argument) (operation, error) {
	name := args[0].text
	add := func(to []byte, _ value.Moment) []byte { return to }
	if standard := text.StandardOf(name); standard != nil {
		if standard.Coded {
			return nil, fmt.Errorf("%s has many forms: write the pattern of the one that is meant, such as yyyyMMdd for %s", name, map[string]string{"EDIFACT": "102", "X12": "D8"}[name])
		}
		add = standard.Append
	} else {
		p, err := text.ParsePattern(name)
		if err != nil {
			return nil, err
		}
		add = p.Append
	}
	return func(e *Env, in value.Value) value.Value {
		return e.text(in, func(to, _ []byte) []byte { return add(to, in.Time) })
	}, nil
}

func formatNeeds(args []argument) func(value.Moment) string {
	if p, err := text.ParsePattern(args[0].text); err == nil {
		return p.Lacks
	}
	if args[0].text == "HL7" {
		return func(m value.Moment) string { return m.Lacks(value.Year, value.Year) }
	}
	return func(value.Moment) string { return "" }
}

// moment is a time with a precision and an offset, or without one.
func moment(t time.Time, precision value.Precision, offset int16) value.Moment {
	m := value.FromTime(t)
	m.Precision, m.Offset = precision, offset
	if precision < value.Fraction {
		m.Nano = 0
	}
	return m
}

// ofTime makes an operation that gives a whole number.
func ofTime(f func(time.Time) int64) func([]argument) (operation, error) {
	return func([]argument) (operation, error) {
		return func(_ *Env, in value.Value) value.Value { return value.OfNumber(value.Int(f(in.Time.Std()))) }, nil
	}
}

// unit finds what a time is counted in; "day" is "days".
func unit(s string) (string, error) {
	for _, u := range units {
		if s == u || s+"s" == u {
			return u, nil
		}
	}
	return "", fmt.Errorf("%q is not what times are counted in: that is %s", s, strings.Join(units, ", "))
}

func buildShift(args []argument) (operation, error) {
	in, err := unit(args[1].text)
	if err != nil {
		return nil, err
	}
	return func(e *Env, v value.Value) value.Value {
		by := args[0].eval(e)
		if !by.Has() || e.failed {
			return by
		}
		n, whole := by.Number.Int64()
		if !whole || n > 4_000_000 || n < -4_000_000 || by.Number.Cmp(value.Int(n)) != 0 {
			return e.fail("%q is not a number of %s that a time can be shifted by", by, in)
		}
		m := v.Time
		t, ok := shifted(m.Std(), int(n), in)
		if !ok || t.Year() < 0 || t.Year() > 9999 {
			return e.fail("shifted by %q %s, it is out of the years 0 to 9999", by, in)
		}
		precision := m.Precision
		switch {
		case in == "hours":
			precision = max(precision, value.Hour)
		case in == "minutes":
			precision = max(precision, value.Minute)
		case in == "seconds":
			precision = max(precision, value.Second)
		case in != "years" && in != "months":
			precision = max(precision, value.Day)
		case in == "months":
			precision = max(precision, value.Month)
		}
		out := moment(t, precision, m.Offset)
		out.Nano = m.Nano
		return value.OfTime(out)
	}, nil
}

// shifted is a time so many units later.
func shifted(t time.Time, n int, in string) (time.Time, bool) {
	switch in {
	case "years", "months":
		if in == "years" {
			n *= 12
		}
		month := int(t.Month()) - 1 + n
		year := t.Year() + int(math.Floor(float64(month)/12))
		if year < 0 || year > 9999 {
			return t, false
		}
		first := time.Date(year, time.Month((month%12+12)%12+1), 1, t.Hour(), t.Minute(), t.Second(), t.Nanosecond(), t.Location())
		day := min(t.Day(), int(value.DaysIn(year, uint8(first.Month()))))
		return first.AddDate(0, 0, day-1), true
	case "weeks":
		return t.AddDate(0, 0, 7*n), true
	case "days":
		return t.AddDate(0, 0, n), true
	case "working days":
		return workingDays(t, n), true
	case "hours":
		n *= 3600
	case "minutes":
		n *= 60
	}
	return time.Unix(t.Unix()+int64(n), int64(t.Nanosecond())).In(t.Location()), true
}

// workingDays is the day so many days from Monday to Friday later.
func workingDays(t time.Time, n int) time.Time {
	step := 1
	if n < 0 {
		step, n = -1, -n
	}
	for n > 0 && (t.Weekday() == time.Saturday || t.Weekday() == time.Sunday) { // as from the day before the weekend
		t = t.AddDate(0, 0, -step)
	}
	t = t.AddDate(0, 0, step*7*(n/5)) // five working days are a week, from whatever day
	for n %= 5; n > 0; {
		t = t.AddDate(0, 0, step)
		if d := t.Weekday(); d != time.Saturday && d != time.Sunday {
			n--
		}
	}
	return t
}

func buildUntil(args []argument) (operation, error) {
	in, err := unit(args[1].text)
	if err != nil {
		return nil, err
	}
	return func(e *Env, v value.Value) value.Value {
		to := args[0].eval(e)
		if !to.Has() || e.failed {
			return to
		}
		if _, ok := v.Time.Compare(to.Time); !ok {
			return e.fail(incomparable(v, to), v, "")
		}
		from, end := v.Time.Std(), to.Time.Std()
		sign := int64(1)
		if from.After(end) {
			from, end, sign = end, from, -1
		}
		return value.OfNumber(value.Int(sign * between(from, end, in)))
	}, nil
}

// between is how many whole units lie between a time and a later one.
func between(from, to time.Time, in string) int64 {
	// In seconds: nanoseconds of more than 292 years are no number of 64 bits.
	passed := to.Unix() - from.Unix()
	if to.Nanosecond() < from.Nanosecond() {
		passed--
	}
	const day = 24 * 60 * 60
	switch in {
	case "years", "months":
		to = to.In(from.Location())
		n := (to.Year()-from.Year())*12 + int(to.Month()) - int(from.Month())
		if t, ok := shifted(from, n, "months"); ok && t.After(to) {
			n--
		}
		if in == "years" {
			n /= 12
		}
		return int64(n)
	case "weeks":
		return passed / (7 * day)
	case "days":
		return passed / day
	case "working days":
		days := passed / day
		n := days / 7 * 5
		for t, left := from.AddDate(0, 0, int(days/7*7)), days%7; left > 0; left-- {
			t = t.AddDate(0, 0, 1)
			if d := t.Weekday(); d != time.Saturday && d != time.Sunday {
				n++
			}
		}
		return n
	case "hours":
		return passed / 3600
	case "minutes":
		return passed / 60
	}
	return passed
}

// bounding makes an operation that goes to the beginning or the last day of a stretch of time.
func bounding(end bool) func([]argument) (operation, error) {
	return func(args []argument) (operation, error) {
		in := args[0].text
		if in != "year" && in != "month" && in != "week" && (end || in != "day" && in != "hour") {
			return nil, fmt.Errorf("%q has no beginning or end here; year, month and week have, and day and hour a beginning", in)
		}
		return func(_ *Env, v value.Value) value.Value {
			m := v.Time
			t := m.Std()
			hour := 0
			if in == "hour" {
				hour = t.Hour()
			}
			begin := time.Date(t.Year(), t.Month(), t.Day(), hour, 0, 0, 0, t.Location())
			months, days := 0, 0
			switch in {
			case "year":
				begin, months = time.Date(t.Year(), 1, 1, 0, 0, 0, 0, t.Location()), 12
			case "month":
				begin, months = begin.AddDate(0, 0, 1-t.Day()), 1
			case "week":
				begin, days = begin.AddDate(0, 0, -int(t.Weekday()+6)%7), 7
			}
			precision := value.Day
			if in == "hour" || in == "day" {
				precision = max(value.Day, min(m.Precision, value.Minute))
			}
			if end {
				begin = begin.AddDate(0, months, days-1)
			}
			return value.OfTime(moment(begin, precision, m.Offset))
		}, nil
	}
}

func buildZone(args []argument) (operation, error) {
	place, err := time.LoadLocation(args[0].text)
	if err != nil || args[0].text == "" || args[0].text == "Local" {
		return nil, fmt.Errorf("there is no zone %q; zones are named as in Europe/Dublin, or UTC", args[0].text)
	}
	which := ""
	if len(args) > 1 {
		if which = args[1].text; which != "earlier" && which != "later" {
			return nil, fmt.Errorf("of a time that comes twice the earlier or later is meant, not %q", which)
		}
	}
	return func(e *Env, v value.Value) value.Value {
		m := v.Time
		var t time.Time
		if m.Offset != value.NoZone {
			t = m.Std().In(place)
		} else {
			var found int
			if t, found = local(m.Std(), place, which == "later"); found == 0 {
				return e.fail("%q does not exist in %s, where clocks pass over it", v, place.String())
			} else if found > 1 && which == "" {
				return e.fail("%q comes twice in %s, where clocks go back: say `\"earlier\"` or `\"later\"`", v, place.String())
			}
		}
		out := value.FromTime(t)
		out.Precision, out.Nano = max(m.Precision, value.Minute), m.Nano
		return value.OfTime(out)
	}, nil
}

// local finds a time by what clocks show in a zone, and how many there are: none, one or two.
func local(shown time.Time, place *time.Location, later bool) (t time.Time, found int) {
	seen := map[int]bool{}
	for _, hours := range []int{-30, 30} { // the offsets before and after
		_, offset := shown.Add(time.Duration(hours) * time.Hour).In(place).Zone()
		if seen[offset] {
			continue
		}
		seen[offset] = true
		at := shown.Add(-time.Duration(offset) * time.Second).In(place)
		if _, there := at.Zone(); there != offset {
			continue
		}
		if found++; found == 1 || later == at.After(t) {
			t = at
		}
	}
	return t, found
}
