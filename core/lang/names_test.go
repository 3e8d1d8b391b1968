package lang

import (
	"fmt"
	"strings"
	"testing"
)

// TestCasesAndNames: a value by condition is the first case that holds; a named value means the same
// wherever it is used.
func TestCasesAndNames(t *testing.T) {
	heavy := []string{"T-1", "80", "25/11/2026 06:30", "Male", "", "1,5", "yes"}
	for _, test := range []struct {
		body   string
		values []string
		want   string
	}{
		{"PID-3 = \"H\" when weight_kg > 50, \"L\" when weight_kg < 5, otherwise \"N\"", heavy, "H"},
		{"PID-3 = \"H\" when weight_kg > 50, \"L\" when weight_kg < 5, otherwise \"N\"", record, "N"},
		{"PID-3 = \"H\" when weight_kg > 100,\n  \"all\" when weight_kg > 50, # a comment\n  otherwise absent", heavy, "all"},
		{"PID-3 = weight_kg when weight_kg > 100, otherwise absent", heavy, ""},
		{"PID-3 = sex when sex is not absent and released, otherwise \"\"", heavy, "Male"},
		{"PID-3 = \"{(\"a\" when released, otherwise \"b\")}{animal_tag}\"", heavy, "aT-1"},
		{"PID-3 = (weight_kg when released, otherwise 0) + 1", heavy, "81"},
		{"PID-3 = (sex | lookup sex_codes) when weight_kg > 1, otherwise \"?\"", []string{"", "2", "25/11/2026 06:30", "Rat", "", "1,5", "yes"}, `rejected: "Rat" is not listed in lookups/sex_codes.csv`},
		{"PID-3 = \"?\" when weight_kg > 1, (sex | lookup sex_codes) when released, otherwise absent", []string{"", "2", "25/11/2026 06:30", "Rat", "", "1,5", "yes"}, "?"},
		{"let pounds = weight_kg * 2.2\nlet heavy = pounds > 100\nPID-3 = \"{pounds | round 0} {heavy}\"", heavy, "176 true"},
		{"when released\n  let a = sex | upper\n  PID-3 = a\nend\nPID-5 = animal_tag", heavy, "MALE||T-1"},
		{"let who = sex | lookup sex_codes\nPID-3 = who\nPID-5 = who when released, otherwise \"x\"", heavy, "M||M"},
		{"let day = collected_at\nPID-3 = day | shift 1 \"day\" | format \"yyyyMMdd\"", heavy, "20261126"},
		{"let n = sequence\nPID-3 = n", heavy, "41"},
	} {
		if got := run(t, test.body, test.values); got != test.want {
			t.Errorf("%s\ngives %q, not %q", test.body, got, test.want)
		}
	}
	if p, said := build(t, "let n = sequence\nPID-3 = n"); p == nil || !p.Sequence {
		t.Errorf("a named sequence is not seen: %v", said)
	}
	for body, want := range map[string]string{
		"PID-3 = \"H\" when weight_kg > 50":                         "say what it is if nothing of this holds",
		"PID-3 = \"H\" when weight_kg > 50, \"L\", otherwise \"N\"": "`when CONDITION` was expected after \"L\"",
		"PID-3 = \"H\" when weight_kg, otherwise \"N\"":             "when needs a boolean",
		"PID-3 = \"H\" when weight_kg > 50, otherwise 1":            "turn the number into a text: (1 | text)",
		"let sex = animal_tag\nPID-3 = sex":                         "sex is a field",
		"let now = animal_tag\nPID-3 = \"x\"":                       "now is a word of the language",
		"let trim = animal_tag\nPID-3 = \"x\"":                      "trim is a word of the language",
		"let a = animal_tag\nlet a = sex\nPID-3 = a":                "a is named already",
		"let a = animal_tag\nPID-3 = \"x\"":                         "a is named, and not used",
		"PID-3 = a\nlet a = animal_tag":                             `there is no field "a"`,
		"when released\n  let a = sex\n  PID-5 = a\nend\nPID-3 = a": `there is no field "a"`,
		"let a = a\nPID-3 = a":                                      `there is no field "a"`,
		"let PID-3 = sex":                                           "`let NAME = VALUE` was expected",
	} {
		if _, said := build(t, body); !strings.Contains(strings.Join(said, "\n"), want) {
			t.Errorf("%s\nsays %q, not %q", body, said, want)
		}
	}
}

// TestNamesThatDouble: names of which each stands for the one before twice are refused where they become too much, at once.
func TestNamesThatDouble(t *testing.T) {
	for n, wrong := range map[int]bool{10: false, 60: true} {
		text := "let v0 = weight_kg + 1\n"
		for i := 1; i < n; i++ {
			text += fmt.Sprintf("let v%d = v%d + v%d\n", i, i-1, i-1)
		}
		p, said := build(t, text+fmt.Sprintf("PID-3 = v%d | text", n-1))
		if told := strings.Join(said, "\n"); wrong != (p == nil) || wrong && (strings.Count(told, "map.size") != 1 || !strings.Contains(told, "test.map:17:17: error: with v15 the map's named values are more than 500000 steps")) {
			t.Errorf("%d: %s", n, told)
		}
	}
}

// TestNamesInRules: a name holds to the end of its block, in what rejects and skips records, too.
func TestNamesInRules(t *testing.T) {
	for body, want := range map[string]string{
		"let m = sex | upper\nskip when m = \"MALE\" because \"{m} is {weight_kg}\"\nPID-3 = m":                 "skipped: MALE is 12.50",
		"let heavy = weight_kg > 10\nreject when heavy because \"x\"\nclear PID-3":                              "rejected: x",
		"when weight_kg > 1\nlet m = sex\nreject when m = \"Male\" because \"no {m}\"\nend\nclear PID-3":        "rejected: no Male",
		"when weight_kg > 100\nlet m = sex\nreject when m = \"Male\" because \"no {m}\"\nend\nPID-3 = \"good\"": "good",
	} {
		if got := run(t, body, record); got != want {
			t.Errorf("%s: %q, not %q", body, got, want)
		}
	}
}
