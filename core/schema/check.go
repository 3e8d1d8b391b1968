package schema

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"hash/maphash"
	"net/mail"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/format"
	"ydrion/core/shape"
	"ydrion/core/value"
)

var uuidForm = regexp.MustCompile(`^[0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}$`)

// stringForms are the formats of strings; nil has nothing to check.
var stringForms = map[string]func([]byte) bool{
	"": nil, "default": nil,
	"email": func(b []byte) bool {
		a, err := mail.ParseAddress(string(b))
		return err == nil && a.Address == string(b)
	},
	"uri":  func(b []byte) bool { u, err := url.Parse(string(b)); return err == nil && u.Scheme != "" },
	"uuid": uuidForm.Match,
}

// column is the compiled checks of one field.
type column struct {
	name      string
	slot      int32
	kind      value.Kind
	field     shape.Field
	typeName  string
	rules     string   // JSON Pointer of the field
	missing   []string // besides the empty text
	empty     bool     // the empty text is missing too
	plain     bool     // nothing is checked beyond the type
	required  bool
	integer   bool
	exponents bool // a spreadsheet's exponent form is as good as others
	unique    int  // index of the field's set of values, or -1

	form                 func([]byte) bool
	minLength, maxLength int
	minimum, maximum     *value.Value
	pattern              *regexp.Regexp
	patternText          string
	enum                 []string
	trues, falses        []string
}

// Rules of a column, as numbers in batch notes: column × rulesPerColumn + rule.
const (
	ruleRequired = iota
	ruleType
	ruleForm
	ruleMinLength
	ruleMaxLength
	ruleMinimum
	ruleMaximum
	rulePattern
	ruleEnum
	ruleUnique
	ruleKey // of the first column of a key of several
	ruleAgree
	ruleBlank // of a required text: a warning
	rulesPerColumn
)

// Check checks one record of a batch that was split into the schema's slots.
// Every discrepancy becomes a note; it tells whether there was none. It may be
// called for several batches at once. With like it is said that the record before was found
// right: what both share, as the parts of one message do, is not looked at again.
func (s *Schema) Check(b *batch.Batch, record int, like bool) bool {
	notes := len(b.Notes)
	row := b.Spans[record*b.Slots : record*b.Slots+b.Slots]
	if s.Rows {
		return s.checkRows(b, record, row)
	}
	before := row
	if like {
		before = b.Spans[(record-1)*b.Slots : record*b.Slots]
	}
	s.check(b, record, 0, 0, row, before, like)
	if len(s.tables) > 0 {
		s.checkLists(b, record)
	}
	return !refused(b.Notes[notes:])
}

// refused tells whether one of some notes is more than a warning.
func refused(notes []batch.Note) bool {
	return slices.ContainsFunc(notes, func(n batch.Note) bool { return !n.Warn })
}

// Single is the schema of records that are not yet put together, one by one.
func (s *Schema) Single() *Schema {
	single := *s
	single.Rows, single.tables, single.Lists = false, nil, nil
	return &single
}

// checkLists checks the rows of a record's lists.
func (s *Schema) checkLists(b *batch.Batch, record int) {
	var few [16][2]int
	ranges := few[:0]
	for n, rows := range s.tables {
		if rows == nil {
			rows = &anything
		}
		t := &b.Tables[n]
		var from, to int
		if t.Above < 0 {
			from, to = b.Rows(n, record)
			if rows.needed && from == to {
				b.Notes = append(b.Notes, batch.Note{Record: int32(record), Slot: -1, Rule: ruleRequired, Source: batch.Check, Table: int32(n + 1), Row: -1})
			}
		} else if above := ranges[t.Above]; above[0] < above[1] {
			from, _ = b.Rows(n, above[0])
			_, to = b.Rows(n, above[1]-1)
			for i := above[0]; i < above[1] && rows.needed; i++ {
				if f, end := b.Rows(n, i); f == end {
					b.Notes = append(b.Notes, batch.Note{Record: int32(record), Slot: -1, Rule: ruleRequired, Source: batch.Check, Table: int32(n + 1), Row: -1})
				}
			}
		}
		ranges = append(ranges, [2]int{from, to})
		for i := from; i < to && len(rows.busy) > 0; i++ {
			of := t.Spans[i*t.Slots : (i+1)*t.Slots]
			rows.check(b, record, n+1, i, of, of, false)
		}
	}
}

// anything is the schema of rows of which nothing is said.
var anything Schema

// checkRows checks the rows that a record is made of, and gives it the values of the first.
func (s *Schema) checkRows(b *batch.Batch, record int, row []batch.Span) bool {
	notes, t := len(b.Notes), &b.Tables[0]
	from, to := b.Rows(0, record)
	for i := from; i < to; i++ {
		of := t.Spans[i*t.Slots : (i+1)*t.Slots]
		s.check(b, record, 1, i, of, of, false)
	}
	copy(row, t.Spans[from*t.Slots:])
	good := !refused(b.Notes[notes:])
	for _, k := range s.Taken {
		s.columns[k].agree(b, record, from, to)
	}
	return good
}

// agree warns of the first row of a record that has another value than its first row in a column of which the record
// has the first row's. One that has none says nothing else: sheets have such a value once.
func (c *column) agree(b *batch.Batch, record, from, to int) {
	first, there := c.value(b, record, 1, from)
	there = there && !c.isMissing(first)
	for row := from + 1; row < to; row++ {
		v, has := c.value(b, record, 1, row)
		if !has || len(v) == 0 || c.isMissing(v) || there && c.alike(first, v) {
			continue
		}
		b.Notes = append(b.Notes, batch.Note{Record: int32(record), Slot: c.slot, Rule: c.slot*rulesPerColumn + ruleAgree, Source: batch.Check, Table: 1, Row: int32(row), Warn: true})
		return
	}
}

// alike tells whether two values of a column are the same, however they are written.
func (c *column) alike(v, w []byte) bool {
	if bytes.Equal(v, w) {
		return true
	}
	x, read := c.field.Read(v)
	y, too := c.field.Read(w)
	switch {
	case !read || !too:
		return false
	case c.kind == value.Number:
		return x.Number.Cmp(y.Number) == 0
	case c.kind == value.Time:
		return c.compare(v, &y) == 0
	case c.kind == value.Bool:
		return x.Truth == y.Truth
	}
	return false
}

// check checks a row of a table, from 1 on, or the record.
func (s *Schema) check(b *batch.Batch, record, table, number int, row, before []batch.Span, like bool) {
	notes := len(b.Notes)
	for _, i := range s.busy {
		c := &s.columns[i]
		span := &row[c.slot]
		if like && *span == before[c.slot] {
			continue
		}
		if span.Absent() || c.isMissing(b.Buf[span.Off:span.End]) {
			if !span.Absent() && span.Len() > 0 {
				*span = batch.Missing
			}
			if c.required {
				c.note(b, record, ruleRequired)
			}
			continue
		}
		c.check(b, record, b.Buf[span.Off:span.End])
	}
	for i := notes; i < len(b.Notes) && table > 0; i++ {
		b.Notes[i].Table, b.Notes[i].Row = int32(table), int32(number)
	}
}

// idle tells whether there is nothing about a column that could be wrong.
func (c *column) idle() bool {
	return c.kind == value.Text && c.form == nil && c.plain && !c.required && len(c.missing) == 0
}

func (c *column) isMissing(v []byte) bool {
	if len(v) == 0 {
		return c.empty
	}
	for _, m := range c.missing {
		if len(m) == len(v) && m == string(v) {
			return true
		}
	}
	return false
}

func (c *column) note(b *batch.Batch, record, rule int) {
	b.Notes = append(b.Notes, batch.Note{Record: int32(record), Slot: c.slot, Rule: c.slot*rulesPerColumn + int32(rule), Source: batch.Check})
}

func (c *column) check(b *batch.Batch, record int, v []byte) {
	switch c.kind {
	case value.Number:
		if c.integer && !integer(v) || c.field.Plain() && !value.IsNumber(v) && !c.number(v) || !c.field.Plain() && !c.reads(v) {
			c.note(b, record, ruleType)
			return
		}
	case value.Time:
		if !c.reads(v) {
			c.note(b, record, ruleType)
			return
		}
	case value.Bool:
		if !oneOf(c.trues, v) && !oneOf(c.falses, v) {
			c.note(b, record, ruleType)
			return
		}
	case value.Text:
		if c.form != nil && !c.form(v) {
			c.note(b, record, ruleForm)
		}
		if c.required && len(v) > 0 && v[0] <= ' ' && len(bytes.TrimSpace(v)) == 0 {
			c.note(b, record, ruleBlank)
			b.Notes[len(b.Notes)-1].Warn = true
		}
	}
	if c.plain {
		return
	}
	if c.minLength >= 0 && utf8.RuneCount(v) < c.minLength {
		c.note(b, record, ruleMinLength)
	}
	if c.maxLength >= 0 && len(v) > c.maxLength && utf8.RuneCount(v) > c.maxLength {
		c.note(b, record, ruleMaxLength)
	}
	if c.minimum != nil && c.compare(v, c.minimum) < 0 {
		c.note(b, record, ruleMinimum)
	}
	if c.maximum != nil && c.compare(v, c.maximum) > 0 {
		c.note(b, record, ruleMaximum)
	}
	if c.pattern != nil && !c.pattern.Match(v) {
		c.note(b, record, rulePattern)
	}
	if c.enum != nil && !oneOf(c.enum, v) {
		c.note(b, record, ruleEnum)
	}
}

// integer tells whether a text is a whole number, which may have a plus sign.
func integer(v []byte) bool {
	return value.IsInteger(v) || len(v) > 1 && v[0] == '+' && v[1] != '-' && value.IsInteger(v[1:])
}

// number tells whether a text is a number that is written in another way than most.
func (c *column) number(v []byte) bool {
	_, ok := value.Written(v)
	return ok && (c.exponents || !spreadsheet.Match(v))
}

func (c *column) reads(v []byte) bool {
	if c.kind == value.Time && c.field.Pattern != nil {
		_, ok := c.field.Pattern.Read(v)
		return ok
	}
	_, ok := c.field.Read(v)
	return ok
}

func (c *column) compare(v []byte, bound *value.Value) int {
	read, ok := c.field.Read(v)
	if !ok {
		return 0
	}
	if c.kind == value.Number {
		return read.Number.Cmp(bound.Number)
	}
	order, ok := read.Time.Compare(bound.Time)
	if !ok { // only one of them has an offset: they are compared as they are written
		one, other := read.Time, bound.Time
		one.Offset, other.Offset = value.NoZone, value.NoZone
		order, _ = one.Compare(other)
	}
	return order
}

func oneOf(list []string, v []byte) bool {
	for _, s := range list {
		if len(s) == len(v) && s == string(v) {
			return true
		}
	}
	return false
}

// Seen remembers the values of unique fields, and of the key of several fields, over a whole file, as hashes of
// 128 bits: about 40 bytes for each value. Its answers depend on the order of
// the records.
type Seen struct {
	seeds [2]maphash.Seed
	sets  []map[[2]uint64]int64
	both  []byte // the values of a key, one behind the other
}

// first gives the record that had a value of a set first; 0: this one does.
func (s *Seen) first(set int, v []byte, record int64) int64 {
	key := [2]uint64{maphash.Bytes(s.seeds[0], v), maphash.Bytes(s.seeds[1], v)}
	before := s.sets[set][key]
	if before == 0 {
		s.sets[set][key] = record
	}
	return before
}

// NewSeen is the memory for one file, or nil if nothing has to be unique.
func (s *Schema) NewSeen() *Seen {
	n := len(s.Unique)
	if len(s.key) > 0 {
		n++
	}
	if n == 0 {
		return nil
	}
	seen := &Seen{seeds: [2]maphash.Seed{maphash.MakeSeed(), maphash.MakeSeed()}, sets: make([]map[[2]uint64]int64, n)}
	for i := range seen.sets {
		seen.sets[i] = map[[2]uint64]int64{}
	}
	return seen
}

// CheckUnique checks the unique fields of a record; batches must come in the
// order of the file.
func (s *Schema) CheckUnique(b *batch.Batch, record int, seen *Seen) bool {
	if !s.Rows {
		return s.checkUnique(b, record, 0, 0, seen)
	}
	good := true
	for from, to := b.Rows(0, record); from < to; from++ {
		good = s.checkUnique(b, record, 1, from, seen) && good
	}
	return good
}

// value is that of a column in a record, or in a row of a table from 1 on.
func (c *column) value(b *batch.Batch, record, table, row int) ([]byte, bool) {
	if table == 0 {
		return b.Value(record, int(c.slot))
	}
	t := &b.Tables[table-1]
	s := t.Spans[row*t.Slots+int(c.slot)]
	if s.Absent() {
		return nil, false
	}
	return b.Buf[s.Off:s.End], true
}

func (s *Schema) checkUnique(b *batch.Batch, record, table, row int, seen *Seen) bool {
	good := true
	for i := range s.columns {
		c := &s.columns[i]
		if c.unique < 0 {
			continue
		}
		v, ok := c.value(b, record, table, row)
		if !ok || len(v) == 0 || oneOf(c.missing, v) {
			continue
		}
		if first := seen.first(c.unique, v, b.First+int64(record)); first > 0 {
			twice(b, record, table, row, c, ruleUnique, first)
			good = false
		}
	}
	if len(s.key) == 0 {
		return good
	}
	seen.both = seen.both[:0]
	for _, i := range s.key {
		v, _ := s.columns[i].value(b, record, table, row)
		seen.both = append(binary.AppendUvarint(seen.both, uint64(len(v))), v...)
	}
	if first := seen.first(len(s.Unique), seen.both, b.First+int64(record)); first > 0 {
		twice(b, record, table, row, &s.columns[s.key[0]], ruleKey, first)
		good = false
	}
	return good
}

// twice notes that what must differ was in an earlier record.
func twice(b *batch.Batch, record, table, row int, c *column, rule int32, first int64) {
	b.Notes = append(b.Notes, batch.Note{Record: int32(record), Slot: c.slot, Rule: c.slot*rulesPerColumn + rule, Source: batch.Check, Text: fmt.Sprint(first), Table: int32(table), Row: int32(row)})
}

// Describe makes the finding of a check note.
func (s *Schema) Describe(b *batch.Batch, n batch.Note, r format.Reader) finding.Finding {
	if n.Row < 0 {
		of := s.tables[n.Table-1]
		f := finding.New("schema.required", b.Place(int(n.Record), b.Bounds[n.Record].Off), "the list %s has no row", s.list(int(n.Table)-1))
		f.Expected, f.Rule = "a row or more", s.File+"#"+of.rules+"/constraints/required"
		return f
	}
	of, offset, name := s, uint32(0), ""
	if n.Table > 0 && !s.Rows {
		of = s.tables[n.Table-1]
	}
	c := &of.columns[n.Slot]
	rule := int(n.Rule) % rulesPerColumn
	v, there := c.value(b, int(n.Record), int(n.Table), int(n.Row))
	if n.Table > 0 {
		t := &b.Tables[n.Table-1]
		if offset = t.At[n.Row]; there {
			if s := t.Spans[int(n.Row)*t.Slots+int(c.slot)]; int(s.Off) < b.N {
				offset = s.Off
			}
		}
		if name = c.name; s.Rows {
			name = c.field.At()
			if from, _ := b.Rows(0, int(n.Record)); int(n.Row) > from { // as rows behind the first are shown
				name = fmt.Sprintf("%s[%d]", name, int(n.Row)-from+1)
			}
		} else {
			name = s.list(int(n.Table)-1) + "." + c.name
		}
	} else {
		offset, name = r.Locate(b, int(n.Record), int(n.Slot))
	}
	at := b.Place(int(n.Record), offset)
	at.Path = name
	seen := finding.Shorten(v)
	var f finding.Finding
	switch rule {
	case ruleRequired:
		f = finding.New("schema.required", at, "%s is missing", c.name)
		f.Expected = "a value"
	case ruleType:
		f = finding.New("schema.type", at, "%s is not %s: %q", c.name, c.typeName, seen)
		f.Expected = c.typeName
		f.Suggestion = c.advice(v)
	case ruleForm:
		f = finding.New("schema.format", at, "%s does not have its form: %q", c.name, seen)
	case ruleMinLength:
		f = finding.New("schema.minLength", at, "%s has %d characters, at least %d are needed", c.name, utf8.RuneCount(v), c.minLength)
		f.Expected = fmt.Sprintf("%d characters or more", c.minLength)
	case ruleMaxLength:
		f = finding.New("schema.maxLength", at, "%s has %d characters, at most %d are allowed", c.name, utf8.RuneCount(v), c.maxLength)
		f.Expected = fmt.Sprintf("%d characters or fewer", c.maxLength)
	case ruleMinimum:
		f = finding.New("schema.minimum", at, "%s is %s, the least allowed is %s", c.name, seen, c.minimum.Append(nil))
		f.Expected = "at least " + string(c.minimum.Append(nil))
	case ruleMaximum:
		f = finding.New("schema.maximum", at, "%s is %s, the most allowed is %s", c.name, seen, c.maximum.Append(nil))
		f.Expected = "at most " + string(c.maximum.Append(nil))
	case rulePattern:
		f = finding.New("schema.pattern", at, "%s does not match %s: %q", c.name, c.patternText, seen)
		f.Expected = c.patternText
	case ruleEnum:
		f = finding.New("schema.enum", at, "%s is %q, allowed are %s", c.name, seen, strings.Join(c.enum, ", "))
		f.Expected = strings.Join(c.enum, ", ")
		if near := finding.Nearest(string(v), c.enum); near != "" && len(v) < 60 {
			f = f.Suggest("was %q meant?", near)
		}
	case ruleUnique:
		f = finding.New("schema.unique", at, "%s %q was in record %s already", c.name, seen, n.Text)
		f.Expected = "a value that no other record has"
	case ruleBlank:
		f = finding.Warn("schema.blank", at, "%s is required, and there are only blanks", c.name)
		f.Expected = "a value"
		f = f.Suggest("if that is no value, name it among missingValues, or ask for one by a pattern")
	case ruleAgree:
		from, _ := b.Rows(0, int(n.Record))
		first, there := c.value(b, int(n.Record), 1, from)
		list, field := format.Word(s.Lists[0].Name), format.Word(c.name)
		instead := "has none"
		if there && !c.isMissing(first) {
			instead = fmt.Sprintf("has %q", finding.Shorten(first))
		}
		f = finding.Warn("csv.disagree", at, "%s is %q in this row; the first row of the record, whose value is taken, %s", c.name, seen, instead)
		f.Expected = "the same in all rows of a record"
		f = f.Suggest("if it may differ, take it from each row (repeat … for row in %s), or say which is meant (%s | first %s); if not, reject such records (reject when (%s once by %s) | count > 1 because …)", list, list, field, list, field)
	case ruleKey:
		var said []string
		for _, i := range of.key {
			v, _ := of.columns[i].value(b, int(n.Record), int(n.Table), int(n.Row))
			said = append(said, fmt.Sprintf("%s %q", of.columns[i].name, finding.Shorten(v)))
		}
		f = finding.New("schema.unique", at, "%s were together in record %s already", strings.Join(said, ", "), n.Text)
		f.Expected = "values that no other record has together"
		f.Rule = s.File + "#/primaryKey"
		return f
	}
	f.Seen = seen
	f.Rule = s.File + "#" + c.rules + rulePointers[rule]
	return f
}

// list is the name of a list by the number of its table.
func (s *Schema) list(table int) string {
	whole := s.Shape()
	return whole.Tables()[table].Name
}

var rulePointers = [rulesPerColumn]string{"/constraints/required", "/type", "/format", "/constraints/minLength", "/constraints/maxLength", "/constraints/minimum", "/constraints/maximum",
	"/constraints/pattern", "/constraints/enum", "/constraints/unique", "/primaryKey", "", "/constraints/required"}

// advice knows the usual ways in which a value loses its form.
func (c *column) advice(v []byte) string {
	s := string(v)
	switch {
	case c.kind == value.Number && strings.Count(s, ",") == 1 && value.IsNumber([]byte(strings.Replace(s, ",", ".", 1))):
		return fmt.Sprintf("write it with a point: %s", strings.Replace(s, ",", ".", 1))
	case c.kind == value.Number && strings.TrimSpace(s) != s:
		return "take the spaces away"
	case c.kind == value.Number && spreadsheet.MatchString(s):
		return "a spreadsheet program has turned it into exponent form and may have lost digits; format the column as text before saving"
	case c.kind == value.Time && len(v) <= 5 && value.IsNumber(v):
		return "this looks like a spreadsheet's day number; format the column as a date before saving"
	}
	return ""
}

var spreadsheet = regexp.MustCompile(`^-?[0-9][.,][0-9]+E\+[0-9]+$`)
