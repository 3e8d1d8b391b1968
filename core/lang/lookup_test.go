package lang

import (
	"slices"
	"strings"
	"testing"
)

// TestLookupsOfRanges: numbers and times are looked up in the ranges of a table, beside codes or alone; of
// what kind a key must be is said at check.
func TestLookupsOfRanges(t *testing.T) {
	with := func(values ...string) []string {
		out := slices.Clone(record)
		for i := 0; i < len(values); i += 2 {
			out[slices.IndexFunc(fields.Names(), func(n string) bool { return n == values[i] })] = values[i+1]
		}
		return out
	}
	for _, test := range []struct {
		expression string
		values     []string
		want       string
	}{
		{`weight_kg | lookup bands`, record, "young"}, {`weight_kg | lookup bands`, with("weight_kg", "100.0"), "adult"}, {`weight_kg | lookup bands`, with("weight_kg", "9.995"), `rejected: "9.995" is not listed in lookups/bands.csv`},
		{`weight_kg | lookup bands if unlisted "?"`, with("weight_kg", "99.999"), "?"}, {`weight_kg | lookup bands "band"`, with("weight_kg", "-1"), "pup"}, {`gain * 100 | lookup bands`, record, "adult"},
		{`sex | lookup doses "dose" collected_at`, record, "new"}, {`sex | lookup doses "dose" collected_at`, with("collected_at", "31/12/2025 23:59"), "old"},
		{`sex | lookup doses "dose" collected_at`, with("sex", "Female"), `rejected: "Female, 2026-11-25T06:30" is not listed in lookups/doses.csv`},
		{`sex | lookup doses "dose" collected_at`, with("collected_at", "-"), `rejected: "Male, " is not listed in lookups/doses.csv`},
		{`sex | lookup sex_codes | lookup sex_codes "sheet"`, record, "Male"}, {`"Z" | lookup sex_codes "sheet"`, record, `rejected: "Z" is not listed in lookups/sex_codes.csv`}, {`"Z" | lookup sex_codes "sheet" if unlisted "?"`, record, "?"},
		{`weight_kg | lookup bands if absent "none"`, with("weight_kg", "-"), "none"},
	} {
		if got := run(t, "PID-3 = "+test.expression, test.values); got != test.want {
			t.Errorf("%s of %v: %q, not %q", test.expression, test.values, got, test.want)
		}
	}
	for expression, want := range map[string]string{
		`sex | lookup bands`:                           `sex is looked up in "kg" of lookups/bands.csv, which needs a number; it is a text`,
		`weight_kg | lookup sex_codes "sheet"`:         `weight_kg is looked up in "hl7" of lookups/sex_codes.csv, which needs a text; it is a number`,
		`weight_kg | lookup sex_codes`:                 `weight_kg is looked up in "sheet" of lookups/sex_codes.csv, which needs a text; it is a number`,
		`sex | lookup doses "dose" "2026-01-01"`:       `needs a time; it is a text`,
		`collected_at | lookup doses "dose" now`:       `needs a text; it is a time`,
		`sex | lookup doses`:                           `has a range where the answer is looked for`,
		`sex | lookup doses "dose"`:                    `has "Male" twice, with "old" in line 2 and with "new" in line 3`,
		`weight_kg | lookup bands "band" collected_at`: `the answer is another one`,
	} {
		if _, said := build(t, "PID-3 = "+expression); !strings.Contains(strings.Join(said, "\n"), want) {
			t.Errorf("%s: %v does not say %s", expression, said, want)
		}
	}
}
