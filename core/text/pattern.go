package text

import (
	"cmp"
	"encoding/binary"
	"fmt"
	"slices"
	"strings"

	"ydrion/core/value"
)

// Pattern is a compiled date and time pattern.
type Pattern struct {
	source string
	items  []item
	width  int          // bytes of every text that it reads, or 0 if they differ
	says   value.Moment // what is known of a time in its form: from, precision, and NoZone or 0
	gap    bool         // something between these is not in it
	fixed  *fixed
	loose  *Pattern // reads what does not have that width; nil: nothing else is read
	since  int      // the first year that two digits mean; 0: firstYear
}

// firstYear is the first year that two digits mean, 1969, if nobody says another: they go up to 2068 (POSIX, strptime, %y).
const firstYear = 1969

// Since is the pattern in which two digits mean the hundred years from one on; nil if there are none in it, or the year is none.
func (p *Pattern) Since(year int) *Pattern {
	if year < 1 || year > 9900 || !slices.ContainsFunc(p.items, func(it item) bool { return it.field == year2 }) {
		return nil
	}
	since := *p
	if since.since = year; p.loose != nil {
		since.loose = p.loose.Since(year)
	}
	return &since
}

// fixed is a pattern of fixed width with numeric fields only, laid out for
// reading at once: where each field begins (-1: not there) and which bytes are
// constant.
type fixed struct {
	at        [second + 1]int
	constants []constantByte
	precision value.Precision
}

type constantByte struct {
	at   int
	byte byte
}

type field uint8

const (
	literal field = iota
	year4
	month
	day
	hour24
	minute
	second // fields up to here may be of fixed width and numeric
	year2
	monthName
	hour12
	fraction
	halfDay
	offset
	dayOfYear
	weekday
)

type item struct {
	field field
	width int    // digits; 0 is one or two digits; of names and offsets how many letters
	text  string // of a literal
	zulu  bool   // of an offset: none is Z
}

var letterFields = map[byte]field{'y': year4, 'M': month, 'd': day, 'H': hour24, 'h': hour12, 'm': minute, 's': second, 'S': fraction, 'a': halfDay, 'X': offset, 'x': offset, 'Z': offset, 'D': dayOfYear, 'E': weekday}

// names are those of months, or of days of the week, in English: as three letters, or whole.
type names []string

var (
	monthNames = names{"January", "February", "March", "April", "May", "June", "July", "August", "September", "October", "November", "December"}
	dayNames   = names{"Sunday", "Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday"}
)

// append writes a name by how many letters of the pattern stand for it.
func (n names) append(to []byte, i, letters int) []byte {
	if letters <= 3 {
		return append(to, n[i][:3]...)
	}
	return append(to, n[i]...)
}

// read finds the name with which a text begins, in letters of any size; -1: it begins with none.
func (n names) read(b []byte, letters int) (i, size int) {
	for i, name := range n {
		if letters <= 3 {
			name = name[:3]
		}
		if len(b) >= len(name) && strings.EqualFold(name, string(b[:len(name)])) {
			return i, len(name)
		}
	}
	return -1, 0
}

// ParsePattern compiles a pattern of Unicode TR 35, part 4 (Dates), clause
// "Date Field Symbols": yyyy yy M MM MMM MMMM d dd DDD E EEE EEEE H HH h hh m mm s ss S… a X XX XXX x xx xxx Z ZZZZZ,
// text between apostrophes, and everything that is not a letter as itself.
// Letters that are commonly mistaken for others are refused with the right one
// named.
func ParsePattern(source string) (*Pattern, error) {
	p := &Pattern{source: source}
	for i := 0; i < len(source); {
		c := source[i]
		if c == '\'' {
			end := strings.IndexByte(source[i+1:], '\'')
			if end < 0 {
				return nil, fmt.Errorf("date pattern %q: the text after ' is not closed", source)
			}
			text := source[i+1 : i+1+end]
			if text == "" {
				text = "'"
			}
			p.literal(text)
			i += end + 2
			continue
		}
		if (c < 'a' || c > 'z') && (c < 'A' || c > 'Z') {
			p.literal(string(c))
			i++
			continue
		}
		n := 1
		for i+n < len(source) && source[i+n] == c {
			n++
		}
		if err := p.letters(c, n); err != nil {
			return nil, fmt.Errorf("date pattern %q: %w", source, err)
		}
		i += n
	}
	if err := p.check(); err != nil {
		return nil, err
	}
	p.layOut()
	return p, nil
}

// layOut prepares the fast way to read, if the pattern has one.
func (p *Pattern) layOut() {
	if p.width == 0 {
		return
	}
	f := &fixed{}
	for i := range f.at {
		f.at[i] = -1
	}
	precisions := [second + 1]value.Precision{month: value.Month, day: value.Day, hour24: value.Hour, minute: value.Minute, second: value.Second}
	pos := 0
	for _, it := range p.items {
		switch it.field {
		case literal:
			for i := range len(it.text) {
				f.constants = append(f.constants, constantByte{pos + i, it.text[i]})
			}
			pos += len(it.text)
			continue
		case year4, month, day, hour24, minute, second:
			f.at[it.field] = pos
			f.precision = max(f.precision, precisions[it.field])
			pos += it.width
		default:
			return
		}
	}
	if f.at[year4] >= 0 && f.at[month] >= 0 && f.at[day] >= 0 {
		p.fixed = f
	}
}

// two reads two digits; not below 100 if they are none.
func two(b []byte, at int) uint8 {
	tens, ones := b[at]-'0', b[at+1]-'0'
	if tens > 9 || ones > 9 {
		return 255
	}
	return tens*10 + ones
}

// read reads a text of the pattern's width.
func (f *fixed) read(b []byte) (value.Moment, bool) {
	for _, c := range f.constants {
		if b[c.at] != c.byte {
			return value.Moment{}, false
		}
	}
	century, year := two(b, f.at[year4]), two(b, f.at[year4]+2)
	m := value.Moment{Month: two(b, f.at[month]), Day: two(b, f.at[day]), Precision: f.precision, Offset: value.NoZone}
	if century > 99 || year > 99 {
		return m, false
	}
	m.Year = int16(century)*100 + int16(year)
	if at := f.at[hour24]; at >= 0 {
		m.Hour = two(b, at)
	}
	if at := f.at[minute]; at >= 0 {
		m.Minute = two(b, at)
	}
	if at := f.at[second]; at >= 0 {
		m.Second = two(b, at)
	}
	return m, m.Valid()
}

// MustPattern is ParsePattern for patterns in code.
func MustPattern(source string) *Pattern {
	p, err := ParsePattern(source)
	if err != nil {
		panic(err)
	}
	return p
}

func (p *Pattern) literal(text string) {
	if n := len(p.items); n > 0 && p.items[n-1].field == literal {
		p.items[n-1].text += text
		return
	}
	p.items = append(p.items, item{field: literal, text: text})
}

func (p *Pattern) letters(c byte, n int) error {
	switch c {
	case 'Y':
		return fmt.Errorf("Y is the year of a week; years are yyyy")
	case 'D':
		if n != 3 {
			return fmt.Errorf("D is the day of the year, which is DDD; days of the month are dd")
		}
	}
	f, ok := letterFields[c]
	if !ok {
		return fmt.Errorf("letter %c has no meaning here; put text between apostrophes", c)
	}
	it := item{field: f, width: n}
	switch {
	case f == year4 && n == 2:
		it.field = year2
	case f == year4 && n != 4:
		return fmt.Errorf("years are yyyy or yy")
	case f == month && (n == 3 || n == 4):
		it.field = monthName
	case f == offset && c == 'Z':
		switch n {
		case 1, 2, 3:
			it.width = 2
		case 5:
			it.width, it.zulu = 3, true
		default:
			return fmt.Errorf("offsets are Z (+0100), ZZZZZ or XXX (Z, +01:00) or xxx (+00:00, +01:00)")
		}
	case f == offset && n <= 3:
		it.zulu = c == 'X'
	case f == weekday && n <= 4:
		it.width = max(n, 3)
	case f == fraction && n <= 9, f == halfDay && n == 1, f == dayOfYear:
	case f != year4 && n > 2 || f == halfDay || f == offset || f == fraction || f == weekday:
		return fmt.Errorf("%s is too long", strings.Repeat(string(c), n))
	case n == 1 && f != fraction && f != halfDay:
		it.width = 0
	}
	p.items = append(p.items, it)
	return nil
}

func (p *Pattern) check() error {
	has := map[field]bool{}
	for _, it := range p.items {
		f := it.field
		switch f {
		case year2:
			f = year4
		case monthName:
			f = month
		case literal:
			continue
		}
		if has[f] {
			return fmt.Errorf("date pattern %q says one thing twice", p.source)
		}
		has[f] = true
	}
	switch {
	case len(has) == 0:
		return fmt.Errorf("date pattern %q has no date in it", p.source)
	case has[dayOfYear] && (has[month] || has[day]):
		return fmt.Errorf("date pattern %q says one thing twice: DDD is the day of the year, months are MM and their days dd", p.source)
	case has[dayOfYear] && !has[year4]:
		return fmt.Errorf("date pattern %q: which day DDD is depends on the year, which is not in it", p.source)
	case has[hour12] && !has[halfDay]:
		return fmt.Errorf("date pattern %q: hh goes from 1 to 12 and needs a; hours from 0 to 23 are HH", p.source)
	case has[minute] && !has[hour24] && !has[hour12]:
		return fmt.Errorf("date pattern %q: mm is minutes; months are MM", p.source)
	case has[month] && has[hour24] && !has[minute] && has[second]:
		return fmt.Errorf("date pattern %q: MM is months; minutes are mm", p.source)
	}
	p.know(has)
	for _, it := range p.items {
		switch {
		case it.field == literal:
			p.width += len(it.text)
		case it.field == monthName && it.width == 3, it.field == weekday && it.width == 3:
			p.width += 3
		case it.width == 0, it.field == halfDay, it.field == offset, it.field == monthName, it.field == weekday:
			p.width = 0
			return nil
		default:
			p.width += it.width
		}
	}
	return nil
}

// parts are the fields by how large what they say is.
var parts = map[field]value.Precision{year4: value.Year, year2: value.Year, month: value.Month, monthName: value.Month, day: value.Day, dayOfYear: value.Day, hour24: value.Hour, hour12: value.Hour, halfDay: value.Hour,
	minute: value.Minute, second: value.Second, fraction: value.Fraction}

// know notes what is known of a time in the pattern's form.
func (p *Pattern) know(has map[field]bool) {
	p.says = value.Moment{From: value.Fraction, Offset: value.NoZone}
	var said [value.Fraction + 1]bool
	for f := range has {
		if f == offset {
			p.says.Offset = 0
			continue
		}
		if f == weekday { // it says nothing that the date does not
			p.says.From, p.says.Precision = value.Year, max(p.says.Precision, value.Day)
			continue
		}
		part := parts[f]
		said[part] = true
		if f == dayOfYear {
			said[value.Month] = true
		}
		p.says.From, p.says.Precision = min(p.says.From, part), max(p.says.Precision, part)
	}
	for part := p.says.From; part <= p.says.Precision; part++ {
		p.gap = p.gap || !said[part]
	}
}

// Says is what is known of each time that the pattern reads: From, Precision, and whether it has an offset. It is false
// if no time can be read by the pattern, since what it says has gaps, such as a year and a day without a month.
func (p *Pattern) Says() (value.Moment, bool) { return p.says, !p.gap }

// Lacks is what the pattern asks for that is not known of a moment: "" if it can be written. Minutes and seconds of a known
// hour are 0 where they are not known.
func (p *Pattern) Lacks(m value.Moment) string {
	if part := m.Lacks(p.says.From, p.says.Precision); part != "" {
		return part
	}
	if p.says.Offset != value.NoZone && m.Offset == value.NoZone {
		return "offset from UTC"
	}
	return ""
}

var strptime = map[byte]string{'Y': "yyyy", 'y': "yy", 'm': "MM", 'd': "dd", 'j': "DDD", 'H': "HH", 'I': "hh", 'M': "mm", 'S': "ss", 'f': "SSSSSS", 'p': "a", 'z': "xx", 'a': "EEE", 'A': "EEEE", 'b': "MMM", 'B': "MMMM", '%': "%"}

// ParseStrptime compiles the pattern form that Table Schema uses: %Y %m %d %H
// %M %S and the like (POSIX strptime: zeros before a number are allowed and not needed).
// Numbers of two digits are read with one, too, where no other number stands beside them.
func ParseStrptime(source string) (*Pattern, error) {
	var b strings.Builder
	loose := ""
	for i := 0; i < len(source); i++ {
		c := source[i]
		if c != '%' {
			plain := string(c)
			if c >= 'A' && c <= 'Z' || c >= 'a' && c <= 'z' {
				plain = "'" + plain + "'"
			} else if c == '\'' {
				plain = "''"
			}
			b.WriteString(plain)
			loose += plain
			continue
		}
		i++
		if i == len(source) || strptime[source[i]] == "" {
			return nil, fmt.Errorf("date format %q: %% must be followed by one of Y y m b B d j a A H I M S f p z", source)
		}
		letters := strptime[source[i]]
		b.WriteString(letters)
		alone := (i < 2 || source[i-2]-'0' > 9) && (i < 3 || source[i-3] != '%') &&
			(i+1 == len(source) || source[i+1] != '%' && source[i+1]-'0' > 9)
		if strings.IndexByte("dmHIMS", source[i]) >= 0 && alone {
			letters = letters[:1]
		}
		loose += letters
	}
	p, err := ParsePattern(b.String())
	if err == nil && p.width > 0 && loose != b.String() {
		p.loose, err = ParsePattern(loose)
	}
	return p, err
}

// String is the pattern in its TR 35 form.
func (p *Pattern) String() string { return p.source }

// Width is how many bytes each text in the pattern's form has; 0: they differ.
func (p *Pattern) Width() int { return p.width }

// ReadPeriod reads two times of a pattern of fixed width, with a hyphen between them or, if that may be, with nothing. It is false if
// there is something else, or the second is before the first.
func (p *Pattern) ReadPeriod(b []byte, hyphen bool) (from, to value.Moment, ok bool) {
	if len(b) < 2*p.width {
		return from, to, false
	}
	first, second := b[:p.width], b[p.width:]
	if second[0] == '-' {
		second = second[1:]
	} else if hyphen {
		return from, to, false
	}
	from, begins := p.Read(first)
	to, ends := p.Read(second)
	order, _ := from.Compare(to)
	return from, to, begins && ends && order <= 0
}

// HasDate tells whether year, month and day are all in the pattern.
func (p *Pattern) HasDate() bool {
	n := 0
	for _, it := range p.items {
		switch it.field {
		case year4, year2, month, monthName, day:
			n++
		case dayOfYear:
			n += 2
		}
	}
	return n == 3
}

func digits(b []byte, n int) (int, int, bool) {
	v, i := 0, 0
	for i < len(b) && (n == 0 && i < 2 || i < n) && b[i]-'0' <= 9 {
		v = v*10 + int(b[i]-'0')
		i++
	}
	return v, i, i > 0 && (n == 0 || i == n)
}

// Read reads a whole text. It is false if the text does not have the pattern's
// form or the date does not exist. Two-digit years are 1969 to 2068, or as Since says.
func (p *Pattern) Read(b []byte) (value.Moment, bool) {
	m := value.Moment{Year: 1, Month: 1, Day: 1, Offset: value.NoZone}
	if p.width > 0 && len(b) != p.width {
		if p.loose != nil {
			return p.loose.Read(b)
		}
		return m, false
	}
	if p.fixed != nil {
		return p.fixed.read(b)
	}
	m.From = p.says.From
	afternoon, hasHalf, hour12Seen, nth, named := false, false, false, 1, -1
	note := func(precision value.Precision) { m.Precision = max(m.Precision, precision) }
	for i := range p.items {
		it := &p.items[i]
		switch it.field {
		case literal:
			if len(b) < len(it.text) || string(b[:len(it.text)]) != it.text {
				return m, false
			}
			b = b[len(it.text):]
			continue
		case monthName:
			i, size := monthNames.read(b, it.width)
			if i < 0 {
				return m, false
			}
			m.Month, b = uint8(i+1), b[size:]
			note(value.Month)
			continue
		case weekday:
			i, size := dayNames.read(b, it.width)
			if i < 0 {
				return m, false
			}
			named, b = i, b[size:]
			continue
		case halfDay:
			if len(b) < 2 || b[1]|0x20 != 'm' || b[0]|0x20 != 'a' && b[0]|0x20 != 'p' {
				return m, false
			}
			afternoon, hasHalf, b = b[0]|0x20 == 'p', true, b[2:]
			continue
		case offset:
			n, ok := 0, false
			if m.Offset, n, ok = readOffset(b); !ok {
				return m, false
			}
			b = b[n:]
			continue
		}
		v, n, ok := digits(b, it.width)
		if !ok {
			return m, false
		}
		switch it.field {
		case year4:
			m.Year = int16(v)
		case year2:
			since := cmp.Or(p.since, firstYear)
			if m.Year = int16(since - since%100 + v); int(m.Year) < since {
				m.Year += 100
			}
		case month:
			if v > 12 {
				return m, false
			}
			m.Month = uint8(v)
			note(value.Month)
		case day:
			m.Day = uint8(min(v, 99))
			note(value.Day)
		case dayOfYear:
			nth = v
			note(value.Day)
		case hour24:
			m.Hour = uint8(min(v, 99))
			note(value.Hour)
		case hour12:
			if v < 1 || v > 12 {
				return m, false
			}
			m.Hour, hour12Seen = uint8(v%12), true
			note(value.Hour)
		case minute:
			m.Minute = uint8(min(v, 99))
			note(value.Minute)
		case second:
			m.Second = uint8(min(v, 99))
			note(value.Second)
		case fraction:
			for k := it.width; k < 9; k++ {
				v *= 10
			}
			m.Nano = int32(v)
			note(value.Fraction)
		}
		b = b[n:]
	}
	if hour12Seen && hasHalf && afternoon {
		m.Hour += 12
	}
	if nth != 1 && !m.InYear(nth) {
		return m, false
	}
	if len(b) > 0 || !m.Valid() {
		return m, false
	}
	return m, named < 0 || int(m.Std().Weekday()) == named // which of the two is wrong nobody knows
}

func readOffset(b []byte) (minutes int16, n int, ok bool) {
	if len(b) > 0 && b[0] == 'Z' {
		return 0, 1, true
	}
	if len(b) < 3 || b[0] != '+' && b[0] != '-' {
		return 0, 0, false
	}
	h, _, ok := digits(b[1:], 2)
	if !ok {
		return 0, 0, false
	}
	n = 3
	m := 0
	rest := b[3:]
	if len(rest) > 0 && rest[0] == ':' {
		rest, n = rest[1:], n+1
	}
	if v, _, got := digits(rest, 2); got {
		m, n = v, n+2
	} else if n == 4 {
		return 0, 0, false
	}
	if h > 18 || m > 59 {
		return 0, 0, false
	}
	total := h*60 + m
	if b[0] == '-' {
		total = -total
	}
	return int16(total), n, true
}

// Append writes a moment in the pattern's form.
func (p *Pattern) Append(to []byte, m value.Moment) []byte {
	for i := range p.items {
		it := &p.items[i]
		switch it.field {
		case literal:
			to = append(to, it.text...)
		case year4:
			to = value.AppendDigits(to, int(m.Year), 4)
		case year2:
			to = value.AppendDigits(to, int(m.Year)%100, 2)
		case month:
			to = appendNumber(to, int(m.Month), it.width)
		case monthName:
			to = monthNames.append(to, int(m.Month)-1, it.width)
		case weekday:
			to = dayNames.append(to, int(m.Std().Weekday()), it.width)
		case day:
			to = appendNumber(to, int(m.Day), it.width)
		case dayOfYear:
			to = value.AppendDigits(to, m.OfYear(), it.width)
		case hour24:
			to = appendNumber(to, int(m.Hour), it.width)
		case hour12:
			to = appendNumber(to, (int(m.Hour)+11)%12+1, it.width)
		case minute:
			to = appendNumber(to, int(m.Minute), it.width)
		case second:
			to = appendNumber(to, int(m.Second), it.width)
		case fraction:
			n := int(m.Nano)
			for k := it.width; k < 9; k++ {
				n /= 10
			}
			to = value.AppendDigits(to, n, it.width)
		case halfDay:
			if m.Hour < 12 {
				to = append(to, "AM"...)
			} else {
				to = append(to, "PM"...)
			}
		case offset:
			off := m.Offset
			if off == value.NoZone {
				off = 0
			}
			to = appendOffset(to, off, it)
		}
	}
	return to
}

// appendOffset writes an offset in minutes: X or x as hours, with minutes if there are some, XX or xx with both, XXX or xxx with a
// colon between them. Of none, X makes Z (TR 35, part 4, "Zone").
func appendOffset(to []byte, minutes int16, it *item) []byte {
	switch {
	case minutes == 0 && it.zulu:
		return append(to, 'Z')
	case it.width == 1 && minutes%60 == 0:
		return value.AppendOffset(to, minutes, false)[:len(to)+len("+hh")]
	case it.width == 3 && minutes == 0:
		return append(to, "+00:00"...)
	}
	return value.AppendOffset(to, minutes, it.width == 3)
}

func appendNumber(to []byte, n, width int) []byte {
	if width == 0 {
		width = 1
		if n > 9 {
			width = 2
		}
	}
	return value.AppendDigits(to, n, width)
}

// Rearrangement is a change from one fixed-width pattern to another that only
// moves digits: every byte of the result is a constant or a byte of the
// source.
type Rearrangement struct {
	Width int    // bytes of the source text; others are read and written in whole
	Fixed []byte // the result, with the constants in place
	From  []int8 // for each byte of the result its position in the source, or -1

	from, to *Pattern
	moves    []move
}

// move writes eight bytes of the result, of which the last may be written over by the next one: those of the source
// that begin at a place, or a constant.
type move struct {
	at, from int // from -1: the word
	word     uint64
}

// Rearrange tells how to come from one pattern to another by moving digits. It
// is false if that needs more: names, offsets, a field that the source lacks,
// or fields of varying width.
func Rearrange(from, to *Pattern) (Rearrangement, bool) {
	if from.width == 0 || to.width == 0 || from.width > 127 {
		return Rearrangement{}, false
	}
	at := map[field][2]int{}
	pos := 0
	for _, it := range from.items {
		n := it.width
		if it.field == literal {
			n = len(it.text)
		}
		at[it.field] = [2]int{pos, n}
		pos += n
	}
	r := Rearrangement{Width: from.width, from: from, to: to}
	for _, it := range to.items {
		if it.field == literal {
			r.constant(it.text)
			continue
		}
		src, ok := at[it.field]
		switch {
		case ok && src[1] == it.width && it.field != monthName && it.field != weekday:
			for k := range it.width {
				r.Fixed, r.From = append(r.Fixed, 0), append(r.From, int8(src[0]+k))
			}
		case !ok && (it.field == second || it.field == fraction || it.field == minute && at[hour24] == [2]int{} || it.field == hour24):
			r.constant(strings.Repeat("0", it.width))
		default:
			return Rearrangement{}, false
		}
	}
	for i, f := range r.From {
		switch m := len(r.moves) - 1; {
		case f >= 0 && m >= 0 && i < r.moves[m].at+8 && r.moves[m].from >= 0 && r.moves[m].from == int(f)-(i-r.moves[m].at):
		case f < 0 && m >= 0 && i < r.moves[m].at+8 && r.moves[m].from < 0:
			r.moves[m].word |= uint64(r.Fixed[i]) << (8 * (i - r.moves[m].at))
		default:
			r.moves = append(r.moves, move{i, int(f), uint64(r.Fixed[i])})
		}
	}
	return r, true
}

func (r *Rearrangement) constant(text string) {
	for i := range len(text) {
		r.Fixed, r.From = append(r.Fixed, text[i]), append(r.From, -1)
	}
}

// Copy writes the rearranged text into a room, which gets up to seven bytes more, and gives its size; -1: the text has not
// the width, or there is no memory behind it or the room to go by words, and Append is to write it.
func (r *Rearrangement) Copy(room, source []byte) int {
	if len(source) != r.Width || cap(source) < r.Width+8 || len(room) < len(r.Fixed)+8 {
		return -1
	}
	source = source[:r.Width+8]
	for i := range r.moves {
		m := &r.moves[i]
		w := m.word
		if m.from >= 0 {
			w = binary.LittleEndian.Uint64(source[m.from:])
		}
		binary.LittleEndian.PutUint64(room[m.at:], w)
	}
	return len(r.Fixed)
}

// Append writes the rearranged text. The source must have been read with the
// source pattern before.
func (r *Rearrangement) Append(to, source []byte) []byte {
	if len(source) != r.Width {
		m, _ := r.from.Read(source)
		return r.to.Append(to, m)
	}
	n := len(to)
	to = append(to, r.Fixed...)
	out := to[n:]
	for i, f := range r.From {
		if f >= 0 {
			out[i] = source[f]
		}
	}
	return to
}
