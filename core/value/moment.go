package value

import "time"

// Precision says how much of a moment is known.
type Precision uint8

const (
	Year Precision = iota
	Month
	Day
	Hour
	Minute
	Second
	Fraction
)

// NoZone is the offset of a moment whose zone is not known.
const NoZone = -1 << 15

// Moment is a calendar date, with or without a time of day, with or without an
// offset from UTC, and with the precision that was written.
type Moment struct {
	Year         int16
	Month, Day   uint8
	Hour, Minute uint8
	Second       uint8
	From         Precision // the largest part that is known: Month of a day of any year, Hour of a time of day
	Precision    Precision // the smallest one
	Offset       int16     // minutes east of UTC, or NoZone
	Nano         int32
}

var monthDays = [13]uint8{0, 31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31}

// DaysIn gives the days of a month of the Gregorian calendar.
func DaysIn(year int, month uint8) uint8 {
	if month == 2 && year%4 == 0 && (year%100 != 0 || year%400 == 0) {
		return 29
	}
	return monthDays[month]
}

// OnlyDigits tells whether a text has no other characters.
func OnlyDigits(s string) bool {
	for i := range len(s) {
		if s[i]-'0' > 9 {
			return false
		}
	}
	return true
}

// IsDate tells whether eight digits, yyyyMMdd, are a day of the Gregorian calendar.
func IsDate(s string) bool {
	n := func(from, to int) (n int) {
		for i := from; i < to; i++ {
			n = n*10 + int(s[i]-'0')
		}
		return n
	}
	month, day := n(4, 6), n(6, 8)
	return month >= 1 && month <= 12 && day >= 1 && day <= int(DaysIn(n(0, 4), uint8(month)))
}

// OfYear is the day's number in its year, from 1.
func (m Moment) OfYear() int {
	n := int(m.Day)
	for month := uint8(1); month < m.Month; month++ {
		n += int(DaysIn(int(m.Year), month))
	}
	return n
}

// InYear makes it the nth day of its year; false if the year has no such day.
func (m *Moment) InYear(nth int) bool {
	for m.Month = 1; m.Month <= 12; m.Month++ {
		days := int(DaysIn(int(m.Year), m.Month))
		if nth >= 1 && nth <= days {
			m.Day = uint8(nth)
			return true
		}
		nth -= days
	}
	return false
}

// Valid tells whether the moment exists.
func (m Moment) Valid() bool {
	return m.Year >= 0 && m.Year <= 9999 && m.Month >= 1 && m.Month <= 12 && m.Day >= 1 && m.Day <= DaysIn(int(m.Year), m.Month) &&
		m.Hour < 24 && m.Minute < 60 && m.Second < 60
}

// Lacks is the part of the moment that is asked for and not known, where its parts from one down to another are asked for: "" if
// all are. A minute and what is below it is 0 where the hour is known and they are not.
func (m Moment) Lacks(from, to Precision) string {
	parts := [...]string{"year", "month", "day", "time of day"}
	switch {
	case from < m.From:
		return parts[from]
	case min(to, Hour) > m.Precision:
		return parts[m.Precision+1]
	}
	return ""
}

// FromTime is a moment with an offset and nanoseconds.
func FromTime(t time.Time) Moment {
	_, offset := t.Zone()
	return Moment{Year: int16(t.Year()), Month: uint8(t.Month()), Day: uint8(t.Day()), Hour: uint8(t.Hour()), Minute: uint8(t.Minute()),
		Second: uint8(t.Second()), Nano: int32(t.Nanosecond()), Precision: Fraction, Offset: int16(offset / 60)}
}

// Std is the moment as the standard library has it; a moment without a zone is
// taken as UTC.
func (m Moment) Std() time.Time {
	zone := time.UTC
	if m.Offset != NoZone && m.Offset != 0 {
		zone = time.FixedZone("", int(m.Offset)*60)
	}
	return time.Date(int(m.Year), time.Month(m.Month), int(m.Day), int(m.Hour), int(m.Minute), int(m.Second), int(m.Nano), zone)
}

// Compare orders two moments; false when only one of them has a zone, or a year or day.
func (m Moment) Compare(n Moment) (int, bool) {
	if (m.Offset == NoZone) != (n.Offset == NoZone) || m.From != n.From {
		return 0, false
	}
	return m.Std().Compare(n.Std()), true
}

// Append writes the forms of ISO 8601, cut to the precision: 2026, 2026-11, 2026-11-25, 2026-11-25T06:30, and so on; 06:30 without
// a day, --11-25 without a year.
func (m Moment) Append(to []byte) []byte {
	if m.From < Hour {
		to = m.appendDay(to)
	}
	if m.Precision >= Hour {
		if m.From < Hour {
			to = append(to, 'T')
		}
		to = AppendDigits(to, int(m.Hour), 2)
		to = AppendDigits(append(to, ':'), int(m.Minute), 2)
	}
	if m.Precision >= Second {
		to = AppendDigits(append(to, ':'), int(m.Second), 2)
	}
	if m.Precision >= Fraction && m.Nano != 0 {
		n, width := int(m.Nano), 9
		for width > 3 && n%1000 == 0 {
			n, width = n/1000, width-3
		}
		to = AppendDigits(append(to, '.'), n, width)
	}
	if m.Precision >= Hour && m.Offset != NoZone {
		to = AppendOffset(to, m.Offset, true)
	}
	return to
}

func (m Moment) appendDay(to []byte) []byte {
	if m.From == Year {
		to = AppendDigits(to, int(m.Year), 4)
	} else {
		to = append(to, '-')
	}
	if m.From <= Month && m.Precision >= Month {
		to = AppendDigits(append(to, '-'), int(m.Month), 2)
	} else if m.From > Month {
		to = append(to, '-')
	}
	if m.Precision >= Day {
		to = AppendDigits(append(to, '-'), int(m.Day), 2)
	}
	return to
}

// AppendOffset writes Z or +hh:mm (or +hhmm).
func AppendOffset(to []byte, offset int16, colon bool) []byte {
	if offset == 0 && colon {
		return append(to, 'Z')
	}
	sign, n := byte('+'), int(offset)
	if n < 0 {
		sign, n = '-', -n
	}
	to = AppendDigits(append(to, sign), n/60, 2)
	if colon {
		to = append(to, ':')
	}
	return AppendDigits(to, n%60, 2)
}

// AppendDigits writes n with leading zeros, width digits wide.
func AppendDigits(to []byte, n, width int) []byte {
	var d [10]byte
	for i := width - 1; i >= 0; i-- {
		d[i] = byte('0' + n%10)
		n /= 10
	}
	return append(to, d[:width]...)
}
