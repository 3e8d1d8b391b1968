package json

import (
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"
)

// TestCourses: what is known of the objects before changes nothing of what is read of one, whatever members it has,
// in whatever order; nor which name stands twice.
func TestCourses(t *testing.T) {
	names := []string{"a", "b", "id", "tag", "weight", "species", "stations", "station", "station_code", "station_name", "stationen", "€uro", "Größe der Robbe", `\u0061`, `\u0062b`, "a ", ""}
	paths := []string{"a", "b", "weight", "station_code", "stations", "/station/a", "/station/species", "/l/1/a", "/€uro", "2/tag", "2/station_name", "2/a"}
	r := rand.New(rand.NewPCG(1, 2))
	var object func(usual []string, depth int) string
	value := func(depth int) string {
		switch k := r.IntN(12); {
		case k == 0 && depth < 3:
			return object(names[:r.IntN(len(names))], depth+1)
		case k == 1 && depth < 3:
			var all []string
			for range r.IntN(3) {
				all = append(all, object([]string{"a", "id", "tag"}, depth+1))
			}
			return "[" + strings.Join(all, ", ") + "]"
		default:
			return []string{"1", `"x"`, `"eight or more"`, "null", "true", `"\n"`, `"é"`, "-1.5e3", `"\u20ac, and more"`, "12"}[k%10]
		}
	}
	object = func(usual []string, depth int) string {
		members := slices.Clone(usual)
		if r.IntN(3) == 0 && len(members) > 0 {
			i := r.IntN(len(members))
			members = slices.Delete(members, i, i+1)
		}
		if r.IntN(4) == 0 {
			members = slices.Insert(members, r.IntN(len(members)+1), names[r.IntN(len(names))])
		}
		if r.IntN(4) == 0 {
			r.Shuffle(len(members), func(i, k int) { members[i], members[k] = members[k], members[i] })
		}
		if r.IntN(60) == 0 {
			for i := range 70 {
				members = append(members, fmt.Sprint("n", i))
			}
		}
		for i, m := range members {
			members[i] = `"` + m + `"` + []string{":", ": ", " :"}[r.IntN(3)] + value(depth)
		}
		return "{" + strings.Join(members, []string{",", ", "}[r.IntN(2)]) + "}"
	}
	for round := range 60 {
		var file strings.Builder
		var twice []bool
		for range 100 {
			usual := names[:1+r.IntN(len(names))]
			if round%2 > 0 {
				usual = names[:1+round%len(names)]
			}
			members := object(usual, 0)
			line := fmt.Sprintf(`%s,"l":[%s,%s,%s]}`, members[:len(members)-1], object(usual, 1), object([]string{"tag", "a", "id"}, 1), object(usual, 1))
			if members == "{}" {
				line = strings.Replace(line, "{,", "{", 1)
			}
			if strings.Count(line, `"l":`) > 1 {
				t.Fatal(line)
			}
			file.WriteString(line + "\n")
			twice = append(twice, standsTwice(t, line))
		}
		for _, records := range []string{"", "/l/*"} {
			got, _, _ := read(t, file.String(), records, 1<<20, of(paths, records)...)
			few, _, _ := read(t, file.String(), records, 1<<10, of(paths, records)...)
			var alone []string // with a line around it, so that it is one
			for _, line := range strings.SplitAfter(strings.TrimSpace(file.String()), "\n") {
				one, _, _ := read(t, "0\n"+line+"\n0", records, 1, of(paths, records)...)
				alone = append(alone, one[1:len(one)-1]...)
			}
			if !slices.Equal(unplaced(got), unplaced(alone)) || !slices.Equal(few, got) {
				t.Fatalf("%q: %q, alone %q, in several batches %q", records, got, alone, few)
			}
			for i, line := range strings.Split(strings.TrimSpace(file.String()), "\n") {
				wrong := strings.Contains(got[0], "json.name-twice")
				if wrong != twice[i] {
					t.Fatalf("%q: %d: %q, a name stands twice: %v\n%s", records, i, got[0], twice[i], line)
				}
				if got = got[1:]; !wrong && records != "" {
					got = got[2:] // of three elements; what is broken is one
				}
			}
			if len(got) > 0 {
				t.Fatalf("%q: %d more", records, len(got))
			}
		}
	}
}

// unplaced leaves out where something is wrong.
func unplaced(lines []string) (out []string) {
	for _, line := range lines {
		line, _, _ = strings.Cut(line, " at ")
		out = append(out, line)
	}
	return out
}

// TestDamagedCourses: what is known of the objects before lets nothing pass that is no JSON: of a text, each byte is left out,
// stands twice, or is another.
func TestDamagedCourses(t *testing.T) {
	const text = `{"new":0,"id": "S-1", "kg":12.5,"of": {"a": null , "b" :[1, {"x": true, "y": "é"}]}, "a name of many bytes, longer than two words": "z", "l": [{"c": 1, "d": "q"}, {"c": 22, "d": "r"}] }`
	var made []string
	for i := range len(text) {
		made = append(made, text[:i]+text[i+1:], text[:i+1]+text[i:])
		for _, c := range "\",:{}[]\\ x0-\t" {
			made = append(made, text[:i]+string(c)+text[i+1:])
		}
	}
	paths := []string{"id", "kg", "/of/a", "/of/b/1/y", "a name of many bytes, longer than two words", "/l/1/d", "l"}
	good := 0
	for _, records := range []string{"", "/l/*"} {
		paths := of(append(paths, "2/id", "2/kg", "c"), records)
		before := "{" + text[len(`{"new":0,`):] // its first member is another's later
		for _, line := range made {
			got, _, _ := read(t, before+"\n"+text+"\n"+line+"\n0", records, 1<<10, paths...)
			got = got[2*map[string]int{"": 1, "/l/*": 2}[records] : len(got)-1]
			alone, _, _ := read(t, "0\n"+line+"\n0", records, 1, paths...)
			if alone = alone[1 : len(alone)-1]; !slices.Equal(unplaced(got), unplaced(alone)) {
				t.Fatalf("%q %s: %q, alone %q", records, line, got, alone)
			}
			wrong := !json.Valid([]byte(line)) || !utf8.ValidString(line) || standsTwice(t, line)
			if told := slices.ContainsFunc(alone, func(l string) bool { return strings.Contains(l, "json.") || strings.Contains(l, "text.") }); records == "" && told != wrong {
				t.Errorf("%s: %q, and it is wrong: %v", line, alone, wrong)
			}
			if !wrong {
				good++
			}
		}
	}
	if good < 500 {
		t.Errorf("%d of all are JSON", good)
	}
}

// of leaves out the paths that go up where there is nothing above.
func of(paths []string, records string) []string {
	if records != "" {
		return paths
	}
	return slices.DeleteFunc(slices.Clone(paths), func(p string) bool { return strings.HasPrefix(p, "2/") })
}

// standsTwice tells whether an object of a document has a name twice, by the standard library's reader.
func standsTwice(t *testing.T, document string) bool {
	t.Helper()
	type open struct {
		names  map[string]bool
		member bool // a name comes next
	}
	var levels []open
	twice := false
	d := json.NewDecoder(strings.NewReader(document))
	for {
		token, err := d.Token()
		if err == io.EOF {
			return twice
		}
		if err != nil {
			t.Fatalf("%v: %s", err, document)
		}
		last := len(levels) - 1
		switch token {
		case json.Delim('{'):
			levels = append(levels, open{map[string]bool{}, true})
			continue
		case json.Delim('['):
			levels = append(levels, open{})
			continue
		case json.Delim('}'), json.Delim(']'):
			levels = levels[:last]
			last--
		default:
			if last >= 0 && levels[last].member {
				twice = twice || levels[last].names[token.(string)]
				levels[last].names[token.(string)], levels[last].member = true, false
				continue
			}
		}
		if last >= 0 && levels[last].names != nil {
			levels[last].member = true
		}
	}
}
