package edifact

import (
	"strings"

	"ydrion/core/segments"
	"ydrion/core/text"
)

var (
	written = text.StandardOf("EDIFACT")
	// periods are codes of data element 2379 for two times with a hyphen between them, and those of one of them.
	periods = map[string]string{"713": "201", "718": "102", "719": "203"}
	// zoned are codes behind whose times three letters name a zone, and those without.
	zoned = map[string]string{"301": "201", "303": "203", "304": "204", "404": "402"}
)

// dates tells of dates in DTM that are not of the form that stands behind them (C507).
func dates(s *segments.Segment, say func(field, component int, v *segments.Value, wrong string)) {
	if s.Name != "DTM" || len(s.Fields) == 0 || len(s.Fields[0]) == 0 || len(s.Fields[0][0].Parts) < 3 {
		return
	}
	v, code := &s.Fields[0][0].Parts[1], s.Fields[0][0].Parts[2].Text
	if v.Text == "" {
		return
	}
	form, right := written.Form(code), func() bool { return true }
	switch one := v.Text; {
	case form != nil:
		right = func() bool { _, is := form.Read([]byte(one)); return is }
	case periods[code] != "":
		form = written.Form(periods[code])
		right = func() bool { _, _, is := form.ReadPeriod([]byte(one), false); return is }
	case zoned[code] != "":
		form = written.Form(zoned[code])
		right = func() bool { _, is := form.Read([]byte(one[:min(form.Width(), len(one))])); return is }
	}
	if !right() {
		say(1, 2, v, "it is not of the form that "+code+" names, "+strings.Repeat(form.String()+"-", min(len(periods[code]), 1))+form.String())
	}
}
