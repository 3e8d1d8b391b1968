package lang

import (
	"fmt"
	"strings"
	"testing"

	"ydrion/core/batch"
	"ydrion/core/format/hl7"
	"ydrion/core/place"
	"ydrion/core/shape"
	"ydrion/core/text"
	"ydrion/core/value"
)

// evaluated is what an expression gives for a field, and why it fails.
func evaluated(t *testing.T, expression, field string) string {
	t.Helper()
	scope := Scope{Fields: shape.Record{{Name: "x", Kind: value.Text}}}
	node, findings := ParseCondition("test", expression)
	c := &compiler{checker: newChecker(scope, func(int) place.Place { return place.Place{} })}
	if !findings.HasErrors() {
		c.check(node)
	}
	var eval evaluator
	if !findings.HasErrors() {
		eval = c.compile(node)
	}
	if findings = append(findings, c.out...); findings.HasErrors() {
		return "check: " + findings[0].Message
	}
	e := &Env{}
	e.start(batchOf([]string{field}), 0)
	v := eval(e)
	if e.failed {
		return "fails: " + e.reason
	}
	if !v.Has() && v.Kind != value.Empty {
		return "absent"
	}
	return string(v.Append(nil))
}

// TestFunctionsAtTheirEdges: expectations are written by hand, from the standards where there are some.
func TestFunctionsAtTheirEdges(t *testing.T) {
	day := `(x | date "yyyy-MM-dd")`
	for _, test := range []struct{ expression, field, want string }{
		{`x | fill 3`, "abcd", "abcd"}, {`x | fill 4 "é"`, "é", "éééé"},
		{`x | title`, "o'neill ÉCOLE 2nd", "O'neill École 2nd"},
		{`x | word 3`, "a b", "absent"}, {`x | piece "," 1`, ",b", ""}, {`x | piece "," 3`, "a,b", "absent"},
		{`x | rewrite "a+" "[$0]"`, "caat", "c[aa]t"}, {`x | rewrite "(" ""`, "a", "check: error parsing regexp: missing closing ): `(`"},
		{`x | translate "aa" "b"`, "a", `check: 'a' stands there twice`},
		{`x | times 1001`, "a", "check: a text can be written 0 to 1000 times"}, {`x | times 0`, "a", ""},
		{`x | plain`, "ŁÓDŹ – naïve “日本” ﬁ", `LODZ - naive "??" fi`},
		{`x | begins x`, "a", "true"}, {`x | contains "b"`, "a", "false"},
		{`x | unbase64`, "Y2F", `fails: "Y2F" is not a text in base64`}, {`x | unbase64`, "/w==", `fails: "/w==" is not a text in base64`},
		{`x | number | marks "," "."`, "-1234.5", "-1.234,5"}, {`x | number | marks "." " "`, "123", "123"}, {`x | number | marks "," ","`, "1", "check: the marks of a number are two different characters, and no digits"},
		{`x | number | min (5 / 2)`, "3", "2.500000000000"}, {`x | number | max 7`, "8", "8"},
		{`x | number | remainder 3`, "-7", "-1"}, {`x | number | remainder 0`, "7", `fails: "7" cannot be divided by zero`}, {`x | number | remainder 0.1`, "1", "0.0"}, {`x | number | remainder 1000000000000000`, "999999999999999.9", "999999999999999.9"},
		{`x | piece "--" 2`, "a--b", "b"}, {`x | piece "," 2`, "a,", ""}, {`x | word 2`, "a\u00a0b c", "b"}, {`x | replace "aa" "a"`, "aaaab", "aab"}, {`x | upper`, "straße é\u0131 ﬁn", "STRASSE ÉI FIN"}, {`x | upper`, "ab", "AB"}, {`x | title`, "o\u0301x o'neil a-b", "O\u0301x O'neil A-B"}, {`x | lower`, "ŁÓDŹ İ", "łódź i"}, {`x | translate "é" ""`, "aébé", "ab"},
		{day + ` | shift 1 "month"`, "2024-01-31", "2024-02-29"}, {day + ` | shift -12 "months"`, "2024-02-29", "2023-02-28"}, {day + ` | shift 1 "years"`, "2024-02-29", "2025-02-28"},
		{day + ` | shift 1 "working days"`, "2026-11-27", "2026-11-30"}, {day + ` | shift 5 "working days"`, "2026-11-28", "2026-12-04"}, {day + ` | shift -1 "working days"`, "2026-11-30", "2026-11-27"}, {day + ` | shift 0 "working days"`, "2026-11-28", "2026-11-28"},
		{day + ` | shift 36 "hours"`, "2026-11-28", "2026-11-29T12:00"}, {day + ` | shift 1 "fortnights"`, "2026-11-28", `check: "fortnights" is not what times are counted in: that is years, months, weeks, days, working days, hours, minutes, seconds`},
		{day + ` | shift 9000 "years"`, "2026-11-28", `fails: shifted by "9000" years, it is out of the years 0 to 9999`}, {day + ` | shift 1.5 "days"`, "2026-11-28", `fails: "1.5" is not a number of days that a time can be shifted by`},
		{day + ` | until ("2026-11-28" | date "yyyy-MM-dd") "years"`, "2010-11-28", "16"}, {day + ` | until ("2026-11-28" | date "yyyy-MM-dd") "days"`, "2026-12-01", "-3"}, {day + ` | until ("2026-11-28" | date "yyyy-MM-dd") "months"`, "2026-08-31", "2"},
		{day + ` | until ("2026-12-07" | date "yyyy-MM-dd") "working days"`, "2026-11-28", "6"},
		// What stands for no end.
		{day + ` | until ("9999-12-31" | date "yyyy-MM-dd") "days"`, "1900-01-01", "2958463"}, {day + ` | until ("2026-11-28" | date "yyyy-MM-dd") "hours"`, "9999-12-31", "-69890664"},
		{day + ` | shift 3000000 "hours"`, "1900-01-01", "2242-03-29T00:00"}, {`x | date "ISO 8601" | until ("2026-11-28T10:00:00.250" | date "ISO 8601") "seconds"`, "2026-11-28T09:59:58.500", "1"},
		{day + ` | startof "week"`, "2027-01-03", "2026-12-28"}, {day + ` | startof "year"`, "2026-11-28", "2026-01-01"}, {day + ` | endof "year"`, "2026-11-28", "2026-12-31"}, {day + ` | endof "week"`, "2026-11-30", "2026-12-06"}, {day + ` | endof "day"`, "2026-11-30", `check: "day" has no beginning or end here; year, month and week have, and day and hour a beginning`},
		{day + ` | weekday`, "2026-11-29", "7"}, {day + ` | week`, "2024-12-30", "1"}, {day + ` | dayofyear`, "2024-12-31", "366"},
		{`x | number | fromsheet`, "1", "1900-01-01"}, {`x | number | fromsheet`, "59", "1900-02-28"}, {`x | number | fromsheet`, "61", "1900-03-01"}, {`x | number | fromsheet`, "60", `fails: "60" is not a day of a spreadsheet`}, {`x | number | fromsheet`, "46354.5", "2026-11-28T12:00:00"},
		{`x | date "yyyy-MM-dd HH:mm" | zone "Europe/Dublin"`, "2026-03-29 01:30", `fails: "2026-03-29T01:30" does not exist in Europe/Dublin, where clocks pass over it`},
		{`x | date "yyyy-MM-dd HH:mm" | zone "Europe/Dublin"`, "2026-10-25 01:30", `fails: "2026-10-25T01:30" comes twice in Europe/Dublin, where clocks go back: say ` + "`\"earlier\"` or `\"later\"`"},
		{`x | date "yyyy-MM-dd HH:mm" | zone "Europe/Dublin" "earlier"`, "2026-10-25 01:30", "2026-10-25T01:30+01:00"}, {`x | date "yyyy-MM-dd HH:mm" | zone "Europe/Dublin" "later"`, "2026-10-25 01:30", "2026-10-25T01:30Z"},
		{`x | date "yyyy-MM-dd HH:mm" | zone "America/St_Johns" | zone "UTC"`, "2026-01-01 00:15", "2026-01-01T03:45Z"}, {day + ` | zone "Nowhere"`, "2026-01-01", `check: there is no zone "Nowhere"; zones are named as in Europe/Dublin, or UTC`},
		{`x | checkdigit "gs1"`, "0005", "5"}, {`x | checkdigit "luhn"`, "7992739871", "3"}, {`x | checkdigit "mod 11-2"`, "000000021825009", "7"}, {`x | checkdigit "mod 11-2"`, "079", "X"}, {`x | checkdigit "mod 97-10"`, "794", "44"},
		{`x | checked "mod 97-10"`, "79444", "true"}, {`x | checked "gs1"`, "4006381333932", "false"}, {`x | checked "gs1"`, "7", "false"}, {`x | checkdigit "gs1"`, "A1", `fails: "A1" has characters that no check digit of that kind is made of`},
		{`x | date "HL7"`, "2026", "2026"}, {`x | date "HL7"`, "202611", "2026-11"}, {`x | date "HL7"`, "20261125", "2026-11-25"}, {`x | date "HL7"`, "202611250930", "2026-11-25T09:30"}, {`x | date "HL7"`, "20261125093000.12+0100", "2026-11-25T09:30:00.120+01:00"}, {`x | date "HL7"`, "20261125-0500", "2026-11-25"},
		{`x | date "HL7"`, "20260230", `fails: "20260230" is not a date in the form of HL7`}, {`x | date "HL7"`, "2026-11-25", `fails: "2026-11-25" is not a date in the form of HL7`}, {`x | date "HL7"`, "20261", `fails: "20261" is not a date in the form of HL7`}, {`x | date "HL7" | format "HL7"`, "20261125093000.1200+0100", "20261125093000.12+0100"}, {`x | date "HL7" | format "HL7"`, "2026112509", "2026112509"},
		{`x | date "HL7" | format "yyyy-MM-dd HH:mm"`, "202611250930", "2026-11-25 09:30"}, {`x | date "HL7" | format "yyyy-MM-dd HH:mm:ss"`, "202611250930", "2026-11-25 09:30:00"}, {`x | date "HL7" | format "yyyy-MM-dd HH:mm"`, "20261125", `fails: the time of day of "2026-11-25" is not known, which format asks for`}, {`x | date "HL7" | format "yyyyMMdd"`, "2026", `fails: the month of "2026" is not known, which format asks for`}, {`x | date "HL7" | format "yyyy-MM-dd'T'HH:mmXXX"`, "202611250930", `fails: the offset from UTC of "2026-11-25T09:30" is not known, which format asks for`},
		{`x | date "HL7" if unreadable ("1999" | date "HL7")`, "soon", "1999"}, {`x | date "EDIFACT" "203"`, "202611250930", "2026-11-25T09:30"}, {`x | date "EDIFACT" "2"`, "251126", "2026-11-25"}, {`x | date "EDIFACT" "718"`, "2026112520261126", `fails: "718" is not the code of a form of times in EDIFACT that is known here; a period is cut first, by part or before`}, {`x | date "X12" "D8"`, "20261125", "2026-11-25"}, {`x | date "X12" "TS"`, "093001", "09:30:01"}, {`x | date "X12" "D8"`, "261125", `fails: "261125" is not a date in the form yyyyMMdd`},
		{`x | date "EDIFACT"`, "20261125", "check: EDIFACT has many forms: say which by the code that stands beside the time, as in DTM(137)-1.2 | date \"EDIFACT\" DTM(137)-1.3"}, {`x | date "HL7" "102"`, "20261125", "check: only EDIFACT and X12 have codes for the forms of times"}, {`x | date "ISO 8601" | format "X12"`, "2026-11-25", "check: X12 has many forms: write the pattern of the one that is meant, such as yyyyMMdd for D8"},
		{`x | date "ISO 8601" | format "HL7"`, "2026-11-25T09:30:15.123456Z", "20261125093015.1234+0000"}, {`x | date "ISO 8601"`, "2026-11-25T09:30:15.123456789+01:00", "2026-11-25T09:30:15.123456789+01:00"}, {`x | date "ISO 8601" | format "ISO 8601"`, "09:30", "09:30"}, {`x | date "ISO 8601" | format "HL7"`, "09:30", `fails: the year of "09:30" is not known, which format asks for`},
		{day + ` | format "yyyyMMddHHmm"`, "2026-11-25", "check: format asks for the time of day of a time of which that is not known; if midnight is meant, write it as a text between apostrophes, as in `format \"yyyyMMdd'0000'\"`"}, {day + ` | format "yyyyMMdd'0000'"`, "2026-11-25", "202611250000"}, {`x | date "yyyy-MM" | format "yyyyMMdd"`, "2026-11", "check: format asks for the day of a time of which that is not known"},
		{`x | date "yyyyMMddHHmm" | format "yyyy-MM-dd'T'HH:mmXXX"`, "202611250930", "check: format asks for the offset from UTC of a time of which that is not known; say before where it is local, as in `zone \"Europe/Dublin\"` or `zone \"UTC\"`"}, {`x | date "yyyyMMddHHmm" | zone "Europe/Dublin" | format "yyyy-MM-dd'T'HH:mmXXX"`, "202611250930", "2026-11-25T09:30Z"},
		{`x | date "HH:mm"`, "09:30", "09:30"}, {`x | date "HH:mm" | format "HHmmss"`, "09:30", "093000"}, {`x | date "HH:mm" | format "yyyy-MM-dd'T'HH:mm"`, "09:30", "check: format asks for the year of a time of which that is not known"}, {`x | date "dd.MM."`, "24.12.", "--12-24"}, {`x | date "dd.MM." | weekday`, "24.12.", "check: weekday asks for the year of a time of which that is not known"}, {`x | date "yyyy" | shift 1 "days"`, "2026", "check: shift asks for the month of a time of which that is not known"}, {`x | date "yyyy" | shift 1 "years"`, "2026", "2027"},
		{`x | date "yyyy dd"`, "2026 25", `check: date pattern "yyyy dd" leaves out what stands between two of its parts, such as the month between year and day`}, {`(x | date "HL7") < ("09:30" | date "HH:mm")`, "2026", `fails: "2026" has no year or day where the other time has one, or the other way round`}, {day + ` | until ("09:30" | date "HH:mm") "days"`, "2026-11-25", `fails: "2026-11-25" has no year or day where the other time has one, or the other way round`},
		{`x | uuid`, "T-1", evaluated(t, `x | uuid "ydrion"`, "T-1")},
	} {
		if got := evaluated(t, test.expression, test.field); got != test.want {
			t.Errorf("%s of %q gives %q, not %q", test.expression, test.field, got, test.want)
		}
	}
	if a, b := evaluated(t, `x | uuid "one"`, "T-1"), evaluated(t, `x | uuid "two"`, "T-1"); a == b || len(a) != 36 || strings.Count(a, "-") != 4 || a[14] != '5' {
		t.Errorf("%s and %s", a, b)
	}
}

// overLines is what an expression gives for lines, whose fields a and b stand in each of some texts.
func overLines(t *testing.T, expression string, lines ...string) string {
	t.Helper()
	scope := Scope{Lists: []shape.List{{Name: "lines", Shape: shape.Shape{Fields: shape.Record{{Name: "a", Kind: value.Text}, {Name: "b", Kind: value.Text}}}}}}
	node, findings := ParseCondition("test", expression)
	c := &compiler{checker: newChecker(scope, func(int) place.Place { return place.Place{} })}
	if !findings.HasErrors() {
		c.check(node)
	}
	if findings = append(findings, c.out...); findings.HasErrors() {
		return "check: " + findings[0].Message
	}
	eval := c.compile(node)
	b := batchOf(nil)
	b.Lay([]int{2}, []int{-1})
	for _, line := range lines {
		row := b.Row(0, 0)
		for i, v := range strings.Fields(line) {
			if v != "-" {
				row[i] = batch.Span{Off: uint32(len(b.Buf)), End: uint32(len(b.Buf) + len(v))}
				b.Buf = append(b.Buf, v...)
			}
		}
	}
	b.Filled()
	e := &Env{}
	e.start(b, 0)
	v := eval(e)
	if e.failed {
		return "fails: " + e.reason
	}
	if !v.Has() && v.Kind != value.Empty {
		return "absent"
	}
	return string(v.Append(nil))
}

// TestRowsThatAreMeant: which rows of a list are gone through, and in which order.
func TestRowsThatAreMeant(t *testing.T) {
	lines := []string{"c 10", "a 9", "b -", "a 7", "c 10"}
	for expression, want := range map[string]string{
		`lines | join a`: "cabac", `(lines sorted by a) | join b ","`: "9,7,10,10", `(lines sorted by (b | number)) | join a`: "baacc", `(lines sorted by (b | number) down) | join a`: "ccaab",
		`(lines once by a) | join a`: "cab", `(lines once by b) | join a`: "caba", `(lines once by "{a}{b}") | count`: "4",
		`(lines where b is not absent sorted by a down up to 2) | join b " "`: "10 10", `(lines up to 3) | join a`: "cab", `(lines where a | begins "a" sorted by b) | join b " "`: "7 9",
		`(lines where a = "x") | first b`: "absent", `(lines where a = "x") | join b`: "absent", `(lines where a = "x") | sum (b | number)`: "0", `(lines where a = "x") | largest (b | number)`: "absent",
		`lines | smallest (b | number)`: "7", `lines | last a`: "c", `(lines where a = "b") | first b`: "absent",
		`(lines where (lines | count) = 5) | count`: "5", `lines | sum (lines | count)`: "25",
		`lines | sum b`: "check: sum needs a number of each row, b is a text", `lines | largest (b | number | text)`: "check: largest needs numbers or times, b | number | text is a text",
		`(lines up to 0) | count`: "check: `up to 10` takes so many rows, and 0 are none", `(lines sorted a) | count`: "check: by was expected, this is a", `lines`: "check: lines is a list, and a value is needed here",
		`lines | upper`: "check: lines is a list, and a value is needed here", `a | count`: `check: there is no list "a"`, `(lines where a = "a") = 1`: "check: (lines where a = \"a\") is a list, and a value is needed here",
		`(lines where (b | number) > 1 | count) = 1`: "check: (lines where (b | number) > (1 | count)) is a list, and a value is needed here",
	} {
		if got := overLines(t, expression, lines...); got != want {
			t.Errorf("%s gives %q, not %q", expression, got, want)
		}
	}
}

// TestRowsAreBounded: lists in lists of themselves end.
func TestRowsAreBounded(t *testing.T) {
	lines := make([]string, 500)
	for i := range lines {
		lines[i] = "a 1"
	}
	if got := overLines(t, `lines | sum (lines | count)`, lines...); got != "250000" {
		t.Error(got)
	}
	if got := overLines(t, `lines | sum (lines | sum (lines | sum (lines | count)))`, lines...); got != `fails: the map goes through rows more than 100000000 times for this record` {
		t.Error(got)
	}
}

// TestWrongArguments: a call that has not the arguments that its function asks for is a finding, wherever it stands.
func TestWrongArguments(t *testing.T) {
	target, err := hl7.NewTarget("s.hl7", []byte("MSH|^~\\&|A\rPID|1||||||||||\r"))
	if err != nil {
		t.Fatal(err)
	}
	fields := shape.Record{{Name: "x", Kind: value.Text}, {Name: "n", Kind: value.Number, Checked: true}, {Name: "d", Kind: value.Time, Checked: true, Pattern: text.MustPattern("yyyy-MM-dd'T'HH:mmXXX")}}
	for name := range functions {
		for _, call := range []string{name + "()", "x | " + name, "n | " + name, "d | " + name, "x | " + name + " n", "n | " + name + " x \"a\" 1", name + "(" + name + "())"} {
			for _, around := range []string{"%s", "(%s) | format \"HH:mm\"", "(%s) | local | format \"HH:mm\"", "(%s) | shift 1 \"hours\" | format \"HH\"", "(%s) | round 0", "(%s) + 1", "(%s) if empty 1", "1 when (%s) is empty, otherwise 2"} {
				body := "map m\nsource csv s\ntarget hl7 based on s\nkeep MSH\nignore x, n, d\nPID-1 = " + fmt.Sprintf(around, call) + "\n"
				m, findings := Parse("m", body)
				if !findings.HasErrors() {
					_, findings = Build(m, "m", body, target, Scope{Fields: fields})
				}
				if call == name+"()" && !findings.HasErrors() {
					t.Errorf("%s: nothing is wrong with it", body)
				}
			}
		}
	}
}
