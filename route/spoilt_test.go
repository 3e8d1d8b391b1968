package route

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"ydrion/core/flow"
	"ydrion/core/lang"
)

// TestSpoiltTexts: what spreadsheet programs have made of texts goes on, and the file says in which columns there are such, how many, and where
// the first stands; of each file for itself. Checked against a plain look at the values.
func TestSpoiltTexts(t *testing.T) {
	kinds := map[string]string{
		"1.23457E+12": "exponent", "4E+07": "exponent", "11-Mar": "a day", "Mar-26": "a day", `="00123"`: "formula that says", "#N/A": "came to nothing", "#REF!": "came to nothing",
		"4006381333931": "", "4E07": "", "A-1": "", "1-3": "", "B+2": "", "#4": "", "a=b": "", "": "", "n/a": "", "#NUM!": "", // the last one stands for no value here
	}
	values := []string{}
	for v := range kinds {
		values = append(values, v)
	}
	slices.Sort(values)
	for name, rest := range map[string]string{
		"in order":    "read: {format: csv}\n",
		"sorted":      "read: {format: csv}\nshape: [{sort: nr}]\n",
		"in groups":   "read: {format: csv, together: [k]}\n",
		"gathered":    "read: {format: csv}\nshape: [{gather: rows, by: [k]}]\n",
		"fixed width": "read: {format: csv, widths: [4, 3, 16, 16]}\n",
	} {
		m := "map m\nsource csv schemas/s.json\ntarget json based on samples/o.json\n\nk = k\n"
		if strings.Contains(rest, "[k]") {
			m += "repeat list for r in rows\ncode = code\nend\nignore nr, other\n"
		} else {
			m += "clear list\nignore nr, other, code\n"
		}
		c, _ := routed(t, name, map[string]string{
			"routes/r.yaml":  "route: r\nlisten: {folder: \"{in}\"}\n" + rest + "check: {schema: schemas/s.json}\nmap: maps/m.map\ndeliver: {folder: \"{out}\", name: \"{file.stem}.json\"}\nrejected: {folder: \"{bad}\"}\n",
			"schemas/s.json": `{"fields": [{"name": "nr", "type": "integer"}, {"name": "k"}, {"name": "code"}, {"name": "other"}], "missingValues": ["", "#NUM!"]}`,
			"maps/m.map":     m,
			"samples/o.json": "{\"k\": \"a\", \"list\": [{\"code\": \"\"}]}\n",
		})
		for seed := range uint64(8) {
			r := rand.New(rand.NewPCG(seed, 4))
			row := func(fields ...string) string {
				if name == "fixed width" {
					return fmt.Sprintf("%-4s%-3s%-16s%-16s\n", fields[0], fields[1], fields[2], fields[3])
				}
				for i, f := range fields {
					if strings.Contains(f, `"`) && r.IntN(2) == 0 {
						fields[i] = `"` + strings.ReplaceAll(f, `"`, `""`) + `"`
					}
				}
				return strings.Join(fields, ",") + "\n"
			}
			text := row("nr", "k", "code", "other")
			type about struct{ column, kind string }
			count, first := map[about]int{}, map[about]int{}
			n := []int{4, 40, 3000, 20}[seed%4]
			for i := range n {
				code, other := values[r.IntN(len(values))], "plain"
				if seed%4 == 3 {
					code = []string{"a", "b", "4-Mar"}[r.IntN(3)] // no other hint
				}
				if r.IntN(3) == 0 {
					other = values[r.IntN(len(values))]
				}
				text += row(fmt.Sprint(n-i), fmt.Sprintf("k%d", i/3%10), code, other)
				for column, v := range map[string]string{"code": code, "other": other} {
					if of := (about{column, kinds[v]}); kinds[v] != "" || v == "4-Mar" {
						if v == "4-Mar" {
							of.kind = "a day"
						}
						if count[of]++; count[of] == 1 {
							first[of] = i + 2
						}
					}
				}
			}
			var want []string
			for of, n := range count {
				values := "a value of "
				if n > 1 {
					values = fmt.Sprintf("%d values of ", n)
				}
				want = append(want, fmt.Sprintf("%d %s%s %s", first[of], values, of.column, of.kind))
			}
			for _, cores := range []int{1, 3} {
				o := &output{}
				result, err := c.Plan.Run(context.Background(), strings.NewReader(text), flow.Inputs{Facts: lang.Facts{Name: "a.csv"}, Cores: cores}, o)
				if err != nil {
					t.Fatal(name, err)
				}
				var got []string
				for _, f := range result.Findings {
					if f.Code != "csv.spreadsheet" {
						continue
					}
					for of := range count {
						if strings.Contains(f.Message, of.kind) && strings.Contains(f.Message, " of "+of.column+" ") {
							values, _, _ := strings.Cut(f.Message, of.column)
							got = append(got, fmt.Sprintf("%d %s%s %s", f.Place.Line, values, of.column, of.kind))
						}
					}
				}
				slices.Sort(want)
				slices.Sort(got)
				if !slices.Equal(got, want) {
					t.Errorf("%s, seed %d, %d cores:\n%s\nnot\n%s", name, seed, cores, strings.Join(got, "\n"), strings.Join(want, "\n"))
				}
			}
		}
	}
}

// TestSpoiltTextsOfSeveralFiles: each file says what is in it.
func TestSpoiltTextsOfSeveralFiles(t *testing.T) {
	c, why := collected(t, asCameRows, map[string]string{"schemas/s.json": `{"fields": [{"name": "tag"}, {"name": "kg", "type": "number"}]}`})
	if c == nil {
		t.Fatal(why)
	}
	for _, cores := range []int{1, 3} {
		all, _, _ := runAll(t, c, cores, "tag,kg\n1E+05,1\na,2\n", "tag,kg\nb,1\n", "tag,kg\n3-Mar,1\n4-Mar,1\n")
		for k, want := range []string{"a value of tag has been turned into exponent form, and digits may be lost: \"1E+05\"", "", "2 values of tag have been turned into a day of a month; the first is \"3-Mar\""} {
			got := ""
			for _, f := range all.Files[k].Findings {
				got += f.Message
			}
			if got != want || all.Files[k].Warnings != int64(len(all.Files[k].Findings)) {
				t.Errorf("file %d: %q, not %q", k, got, want)
			}
		}
	}
}
