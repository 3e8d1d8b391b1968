package text

import (
	"bytes"

	"ydrion/core/value"
)

// Standard is how a standard writes times.
type Standard struct {
	Name   string
	Coded  bool                                   // a code that stands beside a time says its form
	read   func(b []byte) (value.Moment, bool)    // of a standard without codes
	append func(to []byte, m value.Moment) []byte // as above
	forms  map[string]*Pattern                    // by their codes
}

// standards are those whose times are read with the precision that they are written in.
var standards = []*Standard{
	{Name: "HL7", read: readHL7, append: appendHL7},
	{Name: "ISO 8601", read: ReadISO, append: func(to []byte, m value.Moment) []byte { return m.Append(to) }},
	{Name: "EDIFACT", Coded: true, forms: patterns(map[string]string{
		"2": "ddMMyy", "3": "MMddyy", "4": "ddMMyyyy", "101": "yyMMdd", "102": "yyyyMMdd", "201": "yyMMddHHmm", "202": "yyMMddHHmmss", "203": "yyyyMMddHHmm", "204": "yyyyMMddHHmmss", "205": "yyyyMMddHHmmXX",
		"401": "HHmm", "402": "HHmmss", "602": "yyyy", "609": "yyMM", "610": "yyyyMM"})},
	{Name: "X12", Coded: true, forms: patterns(map[string]string{
		"CM": "yyyyMM", "CY": "yyyy", "D6": "yyMMdd", "D8": "yyyyMMdd", "DB": "MMddyyyy", "DT": "yyyyMMddHHmm", "RTS": "yyyyMMddHHmmss", "TM": "HHmm", "TS": "HHmmss", "TT": "MMddyy"})},
}

func patterns(of map[string]string) map[string]*Pattern {
	out := make(map[string]*Pattern, len(of))
	for code, source := range of {
		out[code] = MustPattern(source)
	}
	return out
}

// StandardOf finds a standard by its name; nil if there is none of that name.
func StandardOf(name string) *Standard {
	for _, s := range standards {
		if s.Name == name {
			return s
		}
	}
	return nil
}

// Form is the pattern that a code names (EDIFACT: data element 2379; X12: data element 1250); nil if it names none that
// is of one time.
func (s *Standard) Form(code string) *Pattern { return s.forms[code] }

// Read reads a whole text as a standard without codes writes it.
func (s *Standard) Read(b []byte) (value.Moment, bool) { return s.read(b) }

// Append writes a moment as a standard without codes does, as exactly as it is known.
func (s *Standard) Append(to []byte, m value.Moment) []byte { return s.append(to, m) }

// readHL7 reads YYYY[MM[DD[HH[MM[SS[.S[S[S[S]]]]]]]]][+/-ZZZZ] (HL7 v2.5.1, 2.A.22 DTM).
func readHL7(b []byte) (value.Moment, bool) {
	m := value.Moment{Month: 1, Day: 1, Offset: value.NoZone}
	if i := bytes.IndexAny(b, "+-"); i >= 0 {
		if len(b) != i+5 {
			return m, false
		}
		var n int
		var ok bool
		if m.Offset, n, ok = readOffset(b[i:]); !ok || n != 5 {
			return m, false
		}
		b = b[:i]
	}
	b, part, fraction := bytes.Cut(b, []byte("."))
	if fraction && (len(b) != 14 || len(part) < 1 || len(part) > 4) || len(b) > 14 || len(b) < 4 || len(b)%2 != 0 {
		return m, false
	}
	century, year := two(b, 0), two(b, 2)
	if century > 99 || year > 99 {
		return m, false
	}
	m.Year = int16(century)*100 + int16(year)
	for i, to := range []*uint8{&m.Month, &m.Day, &m.Hour, &m.Minute, &m.Second} {
		if at := 4 + 2*i; at < len(b) {
			*to, m.Precision = two(b, at), value.Month+value.Precision(i)
		}
	}
	if fraction {
		var ok bool
		if m.Nano, ok = nanoseconds(part); !ok {
			return m, false
		}
		m.Precision = value.Fraction
	}
	return m, m.Valid()
}

// appendHL7 writes what readHL7 reads. Of a second no more than four digits are written.
func appendHL7(to []byte, m value.Moment) []byte {
	to = value.AppendDigits(to, int(m.Year), 4)
	for i, part := range []uint8{m.Month, m.Day, m.Hour, m.Minute, m.Second} {
		if m.Precision >= value.Month+value.Precision(i) {
			to = value.AppendDigits(to, int(part), 2)
		}
	}
	if tenths := int(m.Nano / 1e5); m.Precision >= value.Fraction && tenths > 0 {
		to = bytes.TrimRight(value.AppendDigits(append(to, '.'), tenths, 4), "0")
	}
	if m.Offset != value.NoZone {
		to = value.AppendOffset(to, m.Offset, false)
	}
	return to
}

// nanoseconds are the digits behind a second's point, up to nine.
func nanoseconds(b []byte) (int32, bool) {
	n := int32(0)
	for i := range 9 {
		n *= 10
		if i < len(b) {
			if b[i]-'0' > 9 {
				return 0, false
			}
			n += int32(b[i] - '0')
		}
	}
	return n, len(b) > 0 && len(b) <= 9
}

// ReadISO reads the extended forms of ISO 8601 that RFC 3339 and XML Schema have in common: a year, a month of a year, a day, a day with
// a time of day to the minute or the second, a second's fraction, and an offset or Z; or a time of day alone.
func ReadISO(b []byte) (value.Moment, bool) {
	m := value.Moment{Year: 1, Month: 1, Day: 1, Offset: value.NoZone}
	if len(b) >= 5 && b[2] == ':' {
		m.From = value.Hour
		ok := readClock(&m, b)
		return m, ok && m.Valid()
	}
	if len(b) < 4 {
		return m, false
	}
	century, year := two(b, 0), two(b, 2)
	if century > 99 || year > 99 {
		return m, false
	}
	m.Year, b = int16(century)*100+int16(year), b[4:]
	for i, to := range []*uint8{&m.Month, &m.Day} {
		if len(b) == 0 {
			return m, m.Valid()
		}
		if len(b) < 3 || b[0] != '-' {
			return m, false
		}
		*to, m.Precision, b = two(b, 1), value.Month+value.Precision(i), b[3:]
	}
	if len(b) == 0 {
		return m, m.Valid()
	}
	if b[0] != 'T' && b[0] != 't' {
		return m, false
	}
	at := bytes.IndexAny(b, "Z+-z")
	if at >= 0 {
		offset, n, ok := readOffset(bytes.ToUpper(b[at:]))
		if !ok || at+n != len(b) {
			return m, false
		}
		m.Offset, b = offset, b[:at]
	}
	ok := readClock(&m, b[1:])
	return m, ok && m.Valid()
}

// readClock reads hh:mm[:ss[.fraction]].
func readClock(m *value.Moment, b []byte) bool {
	if len(b) < 5 || b[2] != ':' {
		return false
	}
	m.Hour, m.Minute, m.Precision, b = two(b, 0), two(b, 3), value.Minute, b[5:]
	if len(b) == 0 {
		return true
	}
	if len(b) < 3 || b[0] != ':' {
		return false
	}
	m.Second, m.Precision, b = two(b, 1), value.Second, b[3:]
	if len(b) == 0 {
		return true
	}
	if b[0] != '.' {
		return false
	}
	var ok bool
	m.Nano, ok = nanoseconds(b[1:])
	m.Precision = value.Fraction
	return ok
}
