package route

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"ydrion/core/finding"
	"ydrion/core/flow"
	"ydrion/core/lang"
)

// TestNamedByFirst: an output of several records is named by its first, and so is what is said with it. The first record in
// each that would say something else is told of, and no other: not one that is rejected or left out, not what is written
// in another way and comes to the same, not a number of the route or a record, nor what another file has. Checked against a
// plain look at the rows.
func TestNamedByFirst(t *testing.T) {
	type row struct {
		station, day, kg string
		nth              int // of those that go on
	}
	month := func(r row) string { return r.day[:7] }
	for name, test := range map[string]struct {
		deliver string
		by      func(r row) string // what tells outputs apart
		said    func(r row) string // by its records
		shows   func(r row) string // what is said of a record that differs
	}{
		"fixed":         {deliver: "name: \"{file.stem}.csv\""},
		"record":        {deliver: "name: \"{record}-{station}.csv\""},
		"each":          {deliver: "name: \"{station}-{record}.csv\", one file per: record"},
		"station":       {"name: \"{station}.csv\"", nil, func(r row) string { return r.station }, func(r row) string { return r.station + ".csv" }},
		"month":         {"name: \"{day | date \\\"yyyy-MM-dd\\\" | format \\\"yyyy-MM\\\"}.csv\"", nil, month, func(r row) string { return month(r) + ".csv" }},
		"sequence":      {"name: \"{station}-{sequence}.csv\"", nil, func(r row) string { return r.station }, func(row) string { return "another" }},
		"parts":         {"name: \"{station}-{part.records}.csv\"", nil, func(r row) string { return r.station }, func(row) string { return "another" }},
		"file":          {"name: \"{file.stem}-{station}.csv\"", nil, func(r row) string { return r.station }, func(r row) string { return "a-" + r.station + ".csv" }},
		"sevens":        {"name: \"{station}-{part.number}.csv\", one file per: 7 records", func(r row) string { return fmt.Sprint(r.nth / 7) }, func(r row) string { return r.station }, func(row) string { return "another" }},
		"subject":       {"place: office, mail: {subject: \"of {station}\"}, name: \"{file.name}\"", nil, func(r row) string { return r.station }, func(r row) string { return "of " + r.station }},
		"value":         {"name: \"{station}.csv\", one file per: \"{station}\"", func(r row) string { return r.station }, func(r row) string { return r.station }, nil},
		"other value":   {"name: \"{day}-{station}.csv\", one file per: \"{station}\"", func(r row) string { return r.station }, func(r row) string { return r.day }, func(r row) string { return r.day + "-" + r.station + ".csv" }},
		"many of value": {"name: \"{station}-{kg}-{file.stem}.csv\", one file per: \"{day}\"", func(r row) string { return r.day }, func(r row) string { return r.station + r.kg }, func(r row) string { return r.station + "-" + r.kg + "-a.csv" }},
	} {
		c, _ := routed(t, name, map[string]string{
			"routes/r.yaml":  "route: r\nlisten: {folder: \"{in}\"}\nread: {format: csv}\ncheck: {schema: schemas/s.json}\nmap: maps/m.map\ndeliver: {" + strings.Replace("folder: \"{out}\", "+test.deliver, "folder: \"{out}\", place:", "place:", 1) + "}\nrejected: {folder: \"{bad}\"}\n",
			"schemas/s.json": `{"fields": [{"name": "station"}, {"name": "day"}, {"name": "kg", "type": "number"}]}`,
			"maps/m.map":     "map m\nsource csv schemas/s.json\ntarget csv based on samples/o.csv\n\nkg = kg\nignore day, station\nskip when kg = 9 because \"no\"\n",
			"samples/o.csv":  "kg\n",
		})
		for seed := range uint64(6) {
			r := rand.New(rand.NewPCG(seed, 3))
			text, firsts, told := "station,day,kg\n", map[string]string{}, map[string]bool{}
			var want []string
			nth := 0
			stations := []string{"ST01", "ST01", "ST01", "ST02"}
			if seed%2 == 0 { // the others come late, in another batch
				stations = stations[:1]
			}
			for i := range []int{30, 30, 2500}[seed%3] {
				if i == 2400 {
					stations = []string{"ST03"}
				}
				at := row{stations[r.IntN(len(stations))], []string{"2026-12-01", "2026-12-02", "2027-01-01"}[r.IntN(2+int(seed%2))], []string{"1", "2", "9", "x"}[r.IntN(4)], nth}
				text += at.station + "," + at.day + "," + at.kg + "\n"
				if at.kg == "9" || at.kg == "x" || test.said == nil {
					continue
				}
				nth++
				key := ""
				if test.by != nil {
					key = test.by(at)
				}
				if first, is := firsts[key]; !is {
					firsts[key] = test.said(at)
				} else if first != test.said(at) && !told[key] {
					told[key] = true
					want = append(want, fmt.Sprintf("%d %s", i+2, test.shows(at)))
				}
			}
			for _, cores := range []int{1, 3} {
				o := &output{}
				result, err := c.Plan.Run(context.Background(), strings.NewReader(text), flow.Inputs{Facts: lang.Facts{Name: "a.csv"}, Cores: cores}, o)
				if err != nil {
					t.Fatal(name, err)
				}
				var got []string
				for _, w := range o.wrong {
					line, said, found := strings.Cut(w, " record ")
					if !found || !strings.Contains(w, "[deliver.first]") {
						continue
					}
					line, _, _ = strings.Cut(strings.TrimLeft(line, "a.csv:"), ":")
					_, said, _ = strings.Cut(said, "this one ")
					said = strings.TrimPrefix(said[:strings.Index(said, " [")], "its name would be ")
					got = append(got, line+" "+strings.Trim(strings.TrimPrefix(said, "it would be "), "\""))
				}
				if !slices.Equal(got, want) || result.Warnings != int64(len(want)) {
					t.Errorf("%s, seed %d, %d cores: %d warnings\n%v\nnot\n%v\n%v", name, seed, cores, result.Warnings, got, want, o.wrong[:min(3, len(o.wrong))])
				}
			}
		}
	}
}

// TestMailedToTheFirst: who would mail all records to whom the first of them names is told so before it happens.
func TestMailedToTheFirst(t *testing.T) {
	for deliver, want := range map[string]bool{
		`mail: {to: "{station}@skerry.example"}, name: "a.csv"`:                                    true,
		`mail: {to: lab@skerry.example, cc: "{station}@skerry.example"}, name: "a.csv"`:            true,
		`mail: {to: lab@skerry.example, subject: "{station}"}, name: "a.csv"`:                      false,
		`mail: {to: "{station}@skerry.example"}, name: "{record}.csv", one file per: record`:       false,
		`mail: {to: "{station}@skerry.example"}, name: "{station}.csv", one file per: "{station}"`: false,
		`mail: {to: "{file.stem}@skerry.example"}, name: "a.csv"`:                                  false,
	} {
		_, findings := routed(t, deliver, map[string]string{
			"routes/r.yaml":  "route: r\nlisten: {folder: \"{in}\"}\nread: {format: csv}\ncheck: {schema: schemas/s.json}\nmap: maps/m.map\ndeliver: {place: office, " + deliver + "}\nrejected: {folder: \"{bad}\"}\n",
			"schemas/s.json": `{"fields": [{"name": "station"}]}`,
			"maps/m.map":     "map m\nsource csv schemas/s.json\ntarget csv based on samples/o.csv\n\nstation = station\n",
			"samples/o.csv":  "station\n",
		})
		if got := slices.ContainsFunc(findings, func(f finding.Finding) bool { return f.Code == "deliver.first" }); got != want {
			t.Errorf("%s: %v", deliver, findings)
		}
	}
}

// TestOneNameInSubfolders: where files of several subfolders would replace each other's outputs, that is told before it happens.
func TestOneNameInSubfolders(t *testing.T) {
	for about, want := range map[string]bool{
		`subfolders: true| name: "{file.name}", name taken: replace`:                                     true,
		`subfolders: true| name: "{file.stem}.csv", name taken: replace and keep`:                        true,
		`subfolders: true| name: "{file.name}"`:                                                          false,
		`subfolders: false| name: "{file.name}", name taken: replace`:                                    false,
		`subfolders: true| name: "{file.folder}/{file.name}", name taken: replace`:                       false,
		`subfolders: true| name: "{file.stem}-{now | format \"HHmmss\"}.csv", name taken: replace`:       false,
		`subfolders: true| name: "{file.stem}-{sequence}.csv", name taken: replace`:                      false,
		`subfolders: true| name: "{station}.csv", one file per: "{station}", name taken: replace`:        false,
		`subfolders: true| name: "{file.name}-{station}.csv", one file per: record, name taken: replace`: false,
	} {
		listen, deliver, _ := strings.Cut(about, "|")
		_, findings := routed(t, about, map[string]string{
			"routes/r.yaml":  "route: r\nlisten: {folder: \"{in}\", " + listen + "}\nread: {format: csv}\ncheck: {schema: schemas/s.json}\nmap: maps/m.map\ndeliver: {folder: \"{out}\", " + deliver + "}\nrejected: {folder: \"{bad}\"}\n",
			"schemas/s.json": `{"fields": [{"name": "station"}]}`,
			"maps/m.map":     "map m\nsource csv schemas/s.json\ntarget csv based on samples/o.csv\n\nstation = station\n",
			"samples/o.csv":  "station\n",
		})
		if got := slices.ContainsFunc(findings, func(f finding.Finding) bool { return f.Code == "route.name-fixed" }); got != want {
			t.Errorf("%s: %v", about, findings)
		}
	}
}
