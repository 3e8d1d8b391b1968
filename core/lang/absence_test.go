package lang

import (
	"strings"
	"testing"
)

// TestAbsenceIsSaid: where a comparison turns what is not there into something, the check asks what is
// meant; not where that was said, nor where every record has a value.
func TestAbsenceIsSaid(t *testing.T) {
	for body, want := range map[string]string{
		`skip when sex != "M" because "x"`:                                            `warning: sex may be absent or empty, and this does not hold then`,
		`skip when not sex = "M" because "x"`:                                         `warning: sex may be absent or empty, and this holds then, since a comparison with what is not there does not`,
		`skip when not (not sex = "M") because "x"`:                                   `sex may be absent or empty, and this does not hold then`,
		`skip when (sex | upper) != "M" because "x"`:                                  `sex may be absent or empty`,
		`skip when gain + 1 != 2 because "x"`:                                         `gain may be absent or empty`,
		`skip when "M" != sex because "x"`:                                            `sex may be absent or empty`,
		"let m = sex | upper\nskip when m != \"M\" because \"x\"":                     `m may be absent or empty`,
		"when animal_tag is empty\nskip when sex != \"M\" because \"x\"\nend":         `sex may be absent or empty`,
		`PID-3 = "a" when sex != "M", otherwise "b"`:                                  `sex may be absent or empty`,
		`skip when sex = "M" because "x"`:                                             "",
		`skip when sex is empty or sex != "M" because "x"`:                            "",
		`skip when sex != "M" and sex is not absent because "x"`:                      "",
		`skip when (sex if empty "") != "M" because "x"`:                              "",
		"when sex is not empty\nskip when sex != \"M\" because \"x\"\nend":            "",
		`PID-3 = "" when sex is absent, "a" when sex != "M", otherwise "b"`:           "",
		`skip when weight_kg != 5 because "x"`:                                        "",
		`skip when record != 5 because "x"`:                                           "",
		"let heavy = not gain > 100\nskip when heavy because \"x\"":                   `gain may be absent or empty, and this holds then`,
		`skip when sex != "M" because "x"` + "\nskip when sex != \"F\" because \"x\"": `sex may be absent or empty`,
	} {
		if !strings.Contains(body, "PID-3") {
			body += "\nclear PID-3"
		}
		p, said := build(t, body)
		all := strings.Join(said, "\n")
		if p == nil || want == "" && all != "" || want != "" && (!strings.Contains(all, want) || !strings.Contains(all, "[map.absent]")) {
			t.Errorf("%s: %s, not %q", body, all, want)
		}
	}
	// What it says to write can be written.
	for _, mended := range []string{`sex != "M" or sex is absent`, `sex != "M" and sex is not absent`} {
		if _, said := build(t, "skip when "+mended+" because \"x\"\nclear PID-3"); said != nil {
			t.Errorf("%s: %v", mended, said)
		}
	}
}
