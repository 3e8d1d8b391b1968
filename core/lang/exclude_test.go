package lang

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"ydrion/core/batch"
)

// TestBlocksThatExclude: one position in blocks that never hold together has the value of the one that holds; where they might,
// it is assigned twice.
func TestBlocksThatExclude(t *testing.T) {
	heavy := []string{"T-1", "80", "25/11/2026 06:30", "Male", "", "1,5", "yes"}
	two := func(first, second string) string {
		return "when " + first + "\n  PID-3 = \"one\"\nend\nwhen " + second + "\n  PID-3 = \"two\"\nend"
	}
	for _, test := range []struct{ first, second, want string }{
		{"weight_kg > 100", "weight_kg <= 100", "two"}, {"weight_kg > 50", "not weight_kg > 50", "one"}, {"weight_kg < 50", "weight_kg > 50", "two"}, {"weight_kg < 90", "weight_kg >= 90.0", "one"}, {"weight_kg = 80", "weight_kg > 80", "one"},
		{"sex = \"Male\"", "sex = \"Female\"", "one"}, {"sex = \"Female\"", "sex != \"Female\"", "two"}, {"sex is absent", "sex is not absent", "two"}, {"sex is empty", "sex is absent", ""}, {"sex is empty", "sex = \"Male\"", "two"},
		{"released and weight_kg > 50", "animal_tag = \"x\" and weight_kg < 10", "one"}, {"weight_kg < 10 or weight_kg > 90", "weight_kg > 20 and weight_kg < 85", "two"}, {"released", "not released", "one"},
	} {
		if got := run(t, two(test.first, test.second), heavy); got != test.want {
			t.Errorf("%s, %s: %q, not %q", test.first, test.second, got, test.want)
		}
	}
	for _, both := range [][2]string{
		{"weight_kg > 100", "weight_kg > 50"}, {"weight_kg >= 50", "weight_kg <= 50"}, {"sex = \"Male\"", "animal_tag = \"Male\""}, {"sex = \"Male\"", "sex != \"Female\""}, {"sex = \"Male\"", "sex = \"Male\""}, {"sex is not absent", "sex = \"Male\""},
		{"weight_kg < 10 or released", "weight_kg > 20"}, {"weight_kg = 50", "weight_kg != 60"}, {"not weight_kg > 50", "not weight_kg > 60"}, {"weight_kg = 50", "weight_kg = 50.0"},
	} {
		if _, said := build(t, two(both[0], both[1])); !strings.Contains(strings.Join(said, "\n"), "assigned twice") {
			t.Errorf("%v: %q", both, said)
		}
	}
	if got := run(t, "when sex = \"a\"\n  PID-3 = \"1\"\nend\nwhen sex = \"Male\"\n  let w = weight_kg + 1\n  PID-3 = w | text\nend\nwhen sex = \"c\"\n  PID-3 = \"3\"\nend", heavy); got != "81" {
		t.Errorf("of three: %q", got)
	}
	// What fails is said of the block's own line.
	p, said := build(t, "when sex = \"Female\"\n  PID-3 = animal_tag\nend\nwhen sex = \"Male\"\n  PID-3 = animal_tag | number | text\nend")
	if p == nil {
		t.Fatal(said)
	}
	if _, o := p.Run(&Env{}, batchOf(heavy), 0, nil); o.What != batch.Rejected || p.lines[o.Line].at.Line != 10 || p.lines[o.Line].slot != 0 {
		t.Errorf("%+v at line %v", o, p.lines[o.Line].at)
	}
	named := "when released\n  let q = sex\n  when q = \"Male\"\n    PID-3 = \"a\"\n  end\nend\nwhen released\n  let q = %s\n  when q = \"T-1\"\n    PID-3 = \"b\"\n  end\nend"
	if _, said := build(t, fmt.Sprintf(named, "animal_tag")); !strings.Contains(strings.Join(said, "\n"), "PID-3 is assigned twice") {
		t.Errorf("one name of two values: %q", said)
	}
	if _, said := build(t, "PID-3 = \"x\"\nwhen released\n  PID-3 = \"y\"\nend"); !strings.Contains(strings.Join(said, "\n"), "assigned twice") {
		t.Error(said)
	}
}

// TestExcludesNever: of random conditions that are seen to exclude each other, never two hold.
func TestExcludesNever(t *testing.T) {
	r := rand.New(rand.NewPCG(8, 1))
	var condition func(deep int) string
	condition = func(deep int) string {
		number := func() string { return []string{"1", "1.0", "2", "3"}[r.IntN(4)] }
		op := []string{"=", "!=", "<", "<=", ">", ">="}[r.IntN(6)]
		switch n := r.IntN(8); {
		case n < 2 && deep > 0:
			return "(" + condition(deep-1) + []string{" and ", " or "}[n] + condition(deep-1) + ")"
		case n == 2 && deep > 0:
			return "not (" + condition(deep-1) + ")"
		case n == 3:
			return "x is " + []string{"", "not "}[r.IntN(2)] + []string{"empty", "absent"}[r.IntN(2)]
		case n == 4:
			return "x " + []string{"=", "!="}[r.IntN(2)] + ` "` + []string{"1", "a", ""}[r.IntN(3)] + `"`
		}
		return "(x | number if unreadable absent) " + op + " " + number()
	}
	parsed := func(s string) Node {
		n, findings := ParseCondition("test", s)
		if findings.HasErrors() {
			t.Fatal(s, findings)
		}
		return n
	}
	seen := 0
	for range 3000 {
		a, b := condition(2), condition(2)
		if !(&checker{}).excludes(parsed(a), parsed(b)) {
			continue
		}
		seen++
		for _, x := range []string{"", "a", "0", "1", "1.5", "2", "3", "4"} {
			if evaluated(t, a, x) == "true" && evaluated(t, b, x) == "true" {
				t.Errorf("%s and %s both hold of %q", a, b, x)
			}
		}
	}
	if seen < 100 {
		t.Errorf("only %d of the conditions exclude each other", seen)
	}
}
