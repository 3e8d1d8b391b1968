package x12

import (
	"strings"
	"time"

	"ydrion/core/segments"
)

// dated are the segments in which one element names the form of another (data elements 1250 and
// 1251).
var dated = map[string][2]int{"DTP": {2, 3}, "DMG": {1, 2}, "PAT": {5, 6}}

// forms are how dates are written, by data element 1250; two with a hyphen are a period.
var forms = map[string]string{
	"D6": "060102", "D8": "20060102", "DT": "200601021504", "RD8": "20060102-20060102", "RD6": "060102-060102", "RDT": "200601021504-200601021504", "CM": "200601", "CY": "2006", "TM": "1504", "TS": "20060102150405",
}

// dates tells of dates that are not of the form that stands beside them.
func dates(s *segments.Segment, say func(field, component int, v *segments.Value, wrong string)) {
	at, has := dated[s.Name]
	if !has || len(s.Fields) < at[1] || len(s.Fields[at[0]-1]) == 0 || len(s.Fields[at[1]-1]) == 0 {
		return
	}
	v := &s.Fields[at[1]-1][0]
	qualifier := s.Fields[at[0]-1][0].Text
	form := forms[qualifier]
	if form == "" || v.Text == "" {
		return
	}
	from, to, period := strings.Cut(form, "-")
	first, second, hyphen := strings.Cut(v.Text, "-")
	_, err := time.Parse(from, first)
	wrong := err != nil || len(first) != len(from) || period != hyphen
	if period && hyphen {
		_, err = time.Parse(to, second)
		wrong = wrong || err != nil || len(second) != len(to) || second < first
	}
	if wrong {
		say(at[1], 0, v, "it is not of the form that "+qualifier+" names: "+map[bool]string{true: "two days with a hyphen between them, the first before the second", false: "such as " + form}[period])
	}
}
