package lang

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// said is a map without its places.
func said(m *Map) string {
	var body func([]Statement) string
	body = func(all []Statement) (out string) {
		for _, s := range all {
			out += s.Verb
			for _, p := range s.Paths {
				out += fmt.Sprintf(" %s/%v", p.Name, p.Field)
			}
			if s.Each != nil {
				out += " for " + s.Each.As + " in " + s.Each.String()
			}
			for _, n := range []Node{s.Condition, s.Value} {
				if n != nil {
					out += " ; " + n.String()
				}
			}
			out += "{" + body(s.Body) + "}\n"
		}
		return out
	}
	return strings.Join([]string{m.Name, m.SourceFormat, m.SourceSchema, m.TargetFormat, m.TargetSample, fmt.Sprint(m.AsCame), body(m.Body)}, "|")
}

func TestFormat(t *testing.T) {
	const ugly = "map test\nsource csv schemas/a.json  # from there\ntarget hl7 as it came\n\n\n\n# of its own\nkeep MSH,PID-1 ,  NTE\nPID-3.1=a|pad 6 \"0\"   # zeros\nA=\"x{ b |upper }  y\"\nlet  n = (  a | number )+ -1*2\n" +
		"OBX-8=\"H\" when x>1,\n      \"L\" when x<-1 ,\notherwise absent\nwhen not( a is absent )or b!=c\n   drop  NTE\nrepeat   LIN for l in lines where l.q>0 sorted by (l.q) down\nLIN-1 = l.position\n  LIN-3.1= round( l.q ,2 )\n" +
		"     | text\nif absent \"-\"\nend\nend\nreject when a=\"#\" because \"no # {a}\"#here\n"
	const want = "map test\nsource csv schemas/a.json  # from there\ntarget hl7 as it came\n\n# of its own\nkeep MSH, PID-1, NTE\nPID-3.1 = a | pad 6 \"0\"  # zeros\nA       = \"x{ b |upper }  y\"\nlet n = (a | number) + -1 * 2\nOBX-8 = \"H\" when x > 1,\n  \"L\" when x < -1,\n  otherwise absent\n" +
		"when not (a is absent) or b != c\n  drop NTE\n  repeat LIN for l in lines where l.q > 0 sorted by (l.q) down\n    LIN-1   = l.position\n    LIN-3.1 = round(l.q, 2)\n      | text\n      if absent \"-\"\n  end\nend\nreject when a = \"#\" because \"no # {a}\"  # here\n"
	got, findings := Format("t.map", ugly)
	if got != strings.Replace(want, "# here", "#here", 1) || len(findings) > 0 {
		t.Errorf("%s\n%v", got, findings)
	}
	if same, findings := Format("t.map", "map a\nx = = 1\n"); same != "map a\nx = = 1\n" || !findings.HasErrors() {
		t.Errorf("a map that cannot be read is changed: %s %v", same, findings)
	}
	files, err := filepath.Glob("../../*/workspace/maps/*.map")
	if err != nil || len(files) < 8 {
		t.Fatal(files, err)
	}
	for _, file := range files {
		source, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		for _, text := range []string{string(source), ugly, strings.ReplaceAll(string(source), "  ", " \t ")} {
			once, findings := Format(file, text)
			twice, _ := Format(file, once)
			before, _ := Parse(file, text)
			after, _ := Parse(file, once)
			if findings.HasErrors() || once != twice || said(before) != said(after) {
				t.Errorf("%s: %v\n%s\nbecomes\n%s\nand then\n%s", file, findings, text, once, twice)
			}
		}
		if once, _ := Format(file, string(source)); once != string(source) {
			t.Errorf("%s is not formatted: it would be\n%s", file, once)
		}
	}
}

// FuzzFormat: what a map says stays, and formatting twice changes nothing more.
func FuzzFormat(f *testing.F) {
	f.Add("map a\nsource csv s\ntarget csv based on t\nrepeat for l in x where y | z 1 = -2 up to 3\n a= \"{b|c}\"if empty 1\nend # x\n")
	f.Fuzz(func(t *testing.T, source string) {
		before, findings := Parse("f", source)
		if findings.HasErrors() {
			return
		}
		once, _ := Format("f", source)
		after, findings := Parse("f", once)
		if twice, _ := Format("f", once); findings.HasErrors() || said(before) != said(after) || once != twice {
			t.Errorf("%q\n%q\n%q %v\n%s\n%s", source, once, twice, findings, said(before), said(after))
		}
	})
}
