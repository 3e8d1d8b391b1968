package edifact

import (
	"fmt"
	"strings"
	"time"

	"ydrion/core/segments"
)

// opening looks at the elements of UNB and UNG (ISO 9735-1, annex C).
func opening(level int, e []string, s segments.Syntax, say func(element int, warn bool, problem string)) {
	part := func(n, component int) string {
		if n >= len(e) {
			return ""
		}
		parts := strings.Split(e[n], string(s.Component))
		if component > len(parts) {
			return ""
		}
		return strings.TrimSpace(parts[component-1])
	}
	if level > 0 {
		if part(5, 1) == "" {
			say(5, false, "is required and empty: the number of the group")
		}
		return
	}
	if v := part(1, 2); len(v) != 1 || v < "1" || v > "4" {
		say(1, true, fmt.Sprintf("names the syntax version %q; there are 1 to 4", v))
	}
	for _, n := range []int{2, 3} {
		switch party := part(n, 1); {
		case party == "":
			say(n, false, "is required and empty: who sends it, and to whom")
		case len([]rune(party)) > 35:
			say(n, true, "is longer than 35 characters")
		}
	}
	date, clock := part(4, 1), part(4, 2)
	_, short := time.Parse("060102", date)
	_, long := time.Parse("20060102", date)
	if short != nil && long != nil {
		say(4, true, fmt.Sprintf("says the date %q, which is not one in the form yyMMdd", date))
	}
	if _, err := time.Parse("1504", clock); err != nil {
		say(4, true, fmt.Sprintf("says the time %q, which is not one in the form HHmm", clock))
	}
	switch number := part(5, 1); {
	case number == "":
		say(5, false, "is required and empty: the number of the interchange")
	case len([]rune(number)) > 14:
		say(5, true, "is longer than 14 characters")
	}
	if test := part(11, 1); test != "" && test != "1" && test != "2" && test != "3" && test != "4" {
		say(11, true, fmt.Sprintf("is %q: 1 says that the interchange is a test", test))
	}
}

// fits says why a message does not stand in the right group: UNG-1 names the type of its messages.
func fits(group, kind string) string {
	if group != "" && kind != "" && group != kind {
		return fmt.Sprintf("%s stands in a group of %s (UNG-1)", kind, group)
	}
	return ""
}
