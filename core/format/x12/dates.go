package x12

import (
	"ydrion/core/segments"
	"ydrion/core/text"
)

// dated are the segments in which one element names the form of another (data elements 1250 and
// 1251).
var dated = map[string][2]int{"DTP": {2, 3}, "DMG": {1, 2}, "PAT": {5, 6}}

var (
	written = text.StandardOf("X12")
	// periods are codes of data element 1250 for two times with a hyphen between them, and those of one of them.
	periods = map[string]string{"RD8": "D8", "RD6": "D6", "RD5": "CM", "RD4": "CY", "RDT": "DT", "DTS": "RTS", "RTM": "TM"}
)

// dates tells of dates that are not of the form that stands beside them.
func dates(s *segments.Segment, say func(field, component int, v *segments.Value, wrong string)) {
	at, has := dated[s.Name]
	if !has || len(s.Fields) < at[1] || len(s.Fields[at[0]-1]) == 0 || len(s.Fields[at[1]-1]) == 0 {
		return
	}
	v := &s.Fields[at[1]-1][0]
	code := s.Fields[at[0]-1][0].Text
	if v.Text == "" {
		return
	}
	if form := written.Form(code); form != nil {
		if _, is := form.Read([]byte(v.Text)); !is {
			say(at[1], 0, v, "it is not of the form that "+code+" names, "+form.String())
		}
	} else if form := written.Form(periods[code]); form != nil {
		if _, _, is := form.ReadPeriod([]byte(v.Text), true); !is {
			say(at[1], 0, v, "it is not of the form that "+code+" names, "+form.String()+"-"+form.String()+", the first before the second")
		}
	}
}
