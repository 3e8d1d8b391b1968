package edifact

import (
	"strings"
	"time"

	"ydrion/core/segments"
)

// forms are how dates are written, by data element 2379; those with a zone are looked at without it,
// and two with a hyphen are a period.
var forms = map[string]string{
	"2": "020106", "101": "060102", "102": "20060102", "201": "0601021504", "203": "200601021504", "204": "20060102150405", "303": "200601021504", "304": "20060102150405",
	"401": "1504", "602": "2006", "610": "200601", "718": "20060102-20060102", "719": "200601021504-200601021504",
}

// dates tells of dates in DTM that are not of the form that stands behind them (C507).
func dates(s *segments.Segment, say func(field, component int, v *segments.Value, wrong string)) {
	if s.Name != "DTM" || len(s.Fields) == 0 || len(s.Fields[0]) == 0 || len(s.Fields[0][0].Parts) < 3 {
		return
	}
	parts := s.Fields[0][0].Parts
	v, qualifier := &parts[1], parts[2].Text
	form := forms[qualifier]
	if form == "" || v.Text == "" {
		return
	}
	text := v.Text
	if qualifier == "303" || qualifier == "304" { // three letters name the zone
		text = text[:min(len(form), len(text))]
	}
	from, to, period := strings.Cut(form, "-")
	first, second := text, ""
	if period {
		first, second = text[:min(len(from), len(text))], strings.TrimPrefix(text[min(len(from), len(text)):], "-")
	}
	_, err := time.Parse(from, first)
	wrong := err != nil || len(first) != len(from)
	if period {
		_, err = time.Parse(to, second)
		wrong = wrong || err != nil || len(second) != len(to) || second < first
	}
	if wrong {
		say(1, 2, v, "it is not of the form that "+qualifier+" names, such as "+strings.ReplaceAll(form, "-", ""))
	}
}
