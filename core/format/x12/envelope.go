package x12

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"ydrion/core/segments"
)

// opening looks at the elements of ISA (X12.5) and GS (X12.6, 3.8).
func opening(level int, e []string, _ segments.Syntax, say func(element int, warn bool, problem string)) {
	if level == 0 {
		interchange(e, say)
		return
	}
	for _, n := range []int{1, 2, 3, 6, 8} {
		if n >= len(e) || e[n] == "" {
			say(n, false, "is required and empty")
		}
	}
	at := func(n int) string {
		if n < len(e) {
			return e[n]
		}
		return ""
	}
	moment(at(4), at(5), 4, say, "yyMMdd", "060102", "yyyyMMdd", "20060102")
	if strings.Trim(at(6), "0123456789") != "" || len(at(6)) > 9 {
		say(6, true, fmt.Sprintf("is %q: a control number is up to nine digits", at(6)))
	}
	if r := at(8); r != "" && (len(r) < 6 || strings.Trim(r[:6], "0123456789") != "") {
		say(8, true, fmt.Sprintf("is %q: a release is six digits, such as 004010, and perhaps a guide", r))
	}
}

func interchange(e []string, say func(element int, warn bool, problem string)) {
	if len(e) < 17 {
		return // the syntax would not have been found
	}
	for _, n := range []int{6, 8} {
		if strings.TrimSpace(e[n]) == "" {
			say(n, false, "is required and empty: who sends it, and to whom")
		}
	}
	moment(e[9], e[10], 9, say, "yyMMdd", "060102")
	if len(e[12]) != 5 || strings.Trim(e[12], "0123456789") != "" {
		say(12, true, fmt.Sprintf("is %q: a version is five digits, such as 00401", e[12]))
	}
	if strings.Trim(e[13], "0123456789") != "" {
		say(13, true, fmt.Sprintf("is %q: a control number is nine digits", e[13]))
	}
	if e[14] != "0" && e[14] != "1" {
		say(14, true, fmt.Sprintf("is %q: 1 asks for an acknowledgement, 0 does not", e[14]))
	}
	if !slices.Contains([]string{"P", "T", "I"}, e[15]) {
		say(15, true, fmt.Sprintf("is %q: P is production, T is a test, I is information", e[15]))
	}
}

// moment looks at a date and the time behind it; forms are pairs of how a date is written, for
// people and for the parser.
func moment(date, clock string, element int, say func(element int, warn bool, problem string), forms ...string) {
	known := false
	for i := 0; i < len(forms); i += 2 {
		_, err := time.Parse(forms[i+1], date)
		known = known || err == nil
	}
	if !known {
		say(element, true, fmt.Sprintf("is %q, which is not a date in the form %s", date, forms[len(forms)-2]))
	}
	if len(clock) < 4 || len(clock) > 8 || strings.Trim(clock, "0123456789") != "" || clock[:2] > "23" || clock[2:4] > "59" {
		say(element+1, true, fmt.Sprintf("is %q, which is not a time in the form HHmm", clock))
	}
}

// groups are the functional groups (GS-1, data element 479) in which transaction sets stand.
var groups = map[string]string{
	"204": "SM", "210": "IM", "214": "QM", "270": "HS", "271": "HB", "276": "HR", "277": "HN", "278": "HI",
	"810": "IN", "820": "RA", "824": "AG", "830": "PS", "832": "SC", "834": "BE", "835": "HP", "837": "HC", "840": "RQ", "843": "RR", "846": "IB",
	"850": "PO", "852": "PD", "855": "PR", "856": "SH", "860": "PC", "861": "RC", "862": "SS", "864": "TX", "865": "CA", "867": "PT", "875": "OG", "880": "GP",
	"940": "OW", "943": "AR", "944": "RE", "945": "SW", "947": "AW", "990": "GF", "997": "FA", "999": "FA",
}

// fits says why a set does not stand in the right group.
func fits(group, set string) string {
	if of := groups[set]; of != "" && of != group {
		return fmt.Sprintf("set %s stands in groups %s, not %s (GS-1)", set, of, group)
	}
	return ""
}
