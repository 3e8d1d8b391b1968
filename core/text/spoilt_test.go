package text

import "testing"

func TestSpoilt(t *testing.T) {
	for v, want := range map[string]string{
		"1.23457E+12": Exponent, "1,5E+07": Exponent, "5E12": Exponent, "1-Mar": MonthDay, "11-Mar": MonthDay, "Mar-26": MonthDay, `="00123"`: Formula, "a\u00a0b": NoBreak,
		"#N/A": Failed, "#DIV/0!": Failed, "#REF!": Failed,
		"": "", "E": "", "1E": "", "E-1": "", "12-Marx": "", "2026": "", "A1E+05": "", "#1": "", "#N/": "", "=1+1": "", `="`: "", "1-mar": "",
	} {
		if got := Spoilt([]byte(v)); got != want {
			t.Errorf("%q: %q, want %q", v, got, want)
		}
	}
}
