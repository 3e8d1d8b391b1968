package e2e

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"ydrion/testbed"
)

// byStation is a route that writes a file for each value of its records, as rows or as an interchange.
func byStation(target, sample, lines, good string) map[string]string {
	return map[string]string{
		"routes/by-station.yaml": "route: by-station\nlisten: {folder: \"{stations}/many\"}\nread: {format: csv}\ncheck: {schema: schemas/seen.json}\nmap: maps/seen.map\ndeliver:\n" + good + "rejected: {folder: \"{stations}/rejected\"}\n",
		"maps/seen.map":          "map seen\nsource csv schemas/seen.json\ntarget " + target + " based on samples/seen\n\n" + lines,
		"samples/seen":           sample,
		"schemas/seen.json":      `{"fields": [{"name": "station"}, {"name": "tag", "constraints": {"pattern": "T-[0-9]+"}}, {"name": "kg", "type": "number"}]}`,
	}
}

// TestOneFileForEachValue: records are told apart by a value, each file with its own heading, in the order of
// the records; far more values than files that are open at once; rejected records and conditions on each.
func TestOneFileForEachValue(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	b.Publish(byStation("csv", "tag,kg\n", "tag = tag\nkg = kg\n", `  one file per: "{station}"
  name: "{station}-{file.stem}.csv"
  to:
    - folder: "{laboratory}/all"
    - folder: "{laboratory}/heavy"
      when: kg > 90
`))
	var in strings.Builder
	in.WriteString("station,tag,kg\n")
	want, heavy := map[string][][]string{}, map[string][][]string{}
	const stations, rows = 150, 120_000 // more than are open at once, and more of each than is kept in memory
	for i := range rows {
		station, tag, kg := fmt.Sprintf("S%03d", i*7919%stations), fmt.Sprintf("T-%040d", i), fmt.Sprint(i%100)
		if i%97 == 0 {
			tag = "wrong"
		} else {
			want[station] = append(want[station], []string{tag, kg})
			if i%100 > 90 {
				heavy[station] = append(heavy[station], []string{tag, kg})
			}
		}
		fmt.Fprintf(&in, "%s,%s,%s\n", station, tag, kg)
	}
	b.Drop("stations/many", "week.csv", in.String())
	p := b.Ended("week.csv", 0)
	if p.State != "delivered" || p.In != rows || p.Good+p.Rejected != rows || p.Rejected != (rows+96)/97 {
		t.Fatalf("%+v", p)
	}
	for folder, files := range map[string]map[string][][]string{"laboratory/all": want, "laboratory/heavy": heavy} {
		if got := b.List(folder); len(got) != len(files) {
			t.Errorf("%s has %d files, not %d", folder, len(got), len(files))
		}
		for station, lines := range files {
			got, err := csv.NewReader(strings.NewReader(b.Read(folder + "/" + station + "-week.csv"))).ReadAll()
			if err != nil || fmt.Sprint(got) != fmt.Sprint(append([][]string{{"tag", "kg"}}, lines...)) {
				t.Fatalf("%s/%s: %v %v, not %v", folder, station, got, err, lines)
			}
		}
	}
	if _, said := command(b, "pickup", fmt.Sprint(p.ID)); !strings.Contains(said, "-week.csv") {
		t.Error(said)
	}
	if _, said := command(b, "route", "by-station"); !strings.Contains(said, "Delivers one file for each {station} to each of 2 destinations") {
		t.Error(said)
	}
}

// TestInterchangesForEachValue: each file is an interchange with a number and counts of its own.
func TestInterchangesForEachValue(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	const head = "UNB+UNOC:3+SKERRY+LAB+261125:0930+%s'"
	b.Publish(byStation("edifact", fmt.Sprintf(head, "7")+"UNH+1+ORDERS:D:96A:UN'BGM+220+A+9'UNT+3+1'UNZ+1+7'",
		"keep UNB-1, UNB-2, UNB-3, UNB-4, UNH-2, BGM-1, BGM-3\nUNB-5 = sequence\nUNH-1 = record\nBGM-2 = tag\nignore kg\n", "    one file per: \"{station}\"\n    name: \"{station}.edi\"\n    folder: \"{laboratory}/edi\"\n"))
	message := func(n int, tag string) string {
		return fmt.Sprintf("UNH+%d+ORDERS:D:96A:UN'BGM+220+%s+9'UNT+3+%d'", n, tag, n)
	}
	b.Drop("stations/many", "a.csv", "station,tag,kg\nX,T-1,1\nY,T-2,1\nX,wrong,1\nX,T-4,1\nY,T-5,1\nX,T-6,1\n")
	if p := b.Ended("a.csv", 0); p.Good != 5 || p.Rejected != 1 {
		t.Fatalf("%+v", p)
	}
	for name, want := range map[string]string{
		"X": fmt.Sprintf(head, "1") + message(1, "T-1") + message(4, "T-4") + message(6, "T-6") + "UNZ+3+1'",
		"Y": fmt.Sprintf(head, "2") + message(2, "T-2") + message(5, "T-5") + "UNZ+2+2'",
	} {
		if got := b.Read("laboratory/edi/" + name + ".edi"); got != want {
			t.Errorf("%s: %q, not %q", name, got, want)
		}
	}
	b.Publish(byStation("json", `[{"tag":"","kg":0}]`, "tag = tag\nkg = kg\n", "    one file per: \"{station}\"\n    name: \"{station}.json\"\n    folder: \"{laboratory}/json\"\n"))
	b.Drop("stations/many", "b.csv", "station,tag,kg\nX,T-1,1\nY,T-2,2\nX,T-3,3\n")
	if p := b.Ended("b.csv", 0); p.Good != 3 {
		t.Fatalf("%+v", p)
	}
	for name, want := range map[string]string{"X": `[{"kg":1,"tag":"T-1"},{"kg":3,"tag":"T-3"}]`, "Y": `[{"kg":2,"tag":"T-2"}]`} {
		var got any
		if err := json.Unmarshal([]byte(b.Read("laboratory/json/"+name+".json")), &got); err != nil {
			t.Errorf("%s: %v", name, err)
		} else if again, _ := json.Marshal(got); string(again) != want {
			t.Errorf("%s: %s, not %s", name, again, want)
		}
	}
	for good, want := range map[string]string{
		"    one file per: \"{station}\"\n    name: \"all.csv\"\n    folder: \"{laboratory}/x\"\n":         "but all would be called \"all.csv\"",
		"    one file per: \"{file.stem}\"\n    name: \"{station}.csv\"\n    folder: \"{laboratory}/x\"\n": "is the same for all records of a file",
		"    one file per: \"{statoin}\"\n    name: \"{station}.csv\"\n    folder: \"{laboratory}/x\"\n":   "was station meant?",
		"    one file per: station\n    name: \"{station}.csv\"\n    folder: \"{laboratory}/x\"\n":         "such as \"{station}\"",
		"    one file per: \"{sequence}\"\n    name: \"{station}.csv\"\n    folder: \"{laboratory}/x\"\n":  "has no meaning here",
	} {
		folder := t.TempDir()
		writeAll(t, folder, byStation("csv", "tag,kg\n", "tag = tag\nkg = kg\n", good))
		if code, said := command(nil, "check", folder); code == 0 || !strings.Contains(said, want) {
			t.Errorf("%s: %s does not say %s", good, said, want)
		}
	}
}

// TestTotalsInNames: an output's name says what all its records come to, whatever goes into one output; what does not go
// into it is not in its totals.
func TestTotalsInNames(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	const name = "    name: '%s-{part | sum kg | round 2}-{part | largest kg}-of-{part.records}-{route}-{file.stem}.csv'\n"
	routes := map[string]string{
		"each": "    one file per: \"{station}\"\n" + fmt.Sprintf(name, "{station}"),
		"some": "    one file per: 3 records\n" + fmt.Sprintf(name, "{part.number}"),
		"all":  fmt.Sprintf(name, "all"),
	}
	changes := byStation("csv", "tag,kg\n", "tag = tag\nkg = kg\nskip when tag = \"T-0\" because \"a test\"\n", "")
	whole := changes["routes/by-station.yaml"]
	delete(changes, "routes/by-station.yaml")
	for route, good := range routes {
		changes["routes/"+route+".yaml"] = strings.NewReplacer("by-station", route, "/many", "/"+route, "deliver:\n", "deliver:\n"+good+"    folder: \"{laboratory}/"+route+"\"\n").Replace(whole)
	}
	b.Publish(changes)
	content := "station,tag,kg\nX,T-1,1.25\nY,T-2,40\nX,wrong,500\nX,T-0,700\nX,T-3,3\nY,T-4,2.5\nX,T-5,-1\n"
	for route := range routes {
		b.Drop("stations/"+route, "w.csv", content)
		b.Ended("w.csv", 0)
	}
	testbed.Until(t, "all have ended", func() bool { return strings.Count(states(b), "delivered") == 3 })
	for route, want := range map[string]string{
		"each": "[X-3.25-3-of-3-each-w.csv Y-42.50-40-of-2-each-w.csv]",
		"some": "[1-44.25-40-of-3-some-w.csv 2-1.50-2.5-of-2-some-w.csv]",
		"all":  "[all-45.75-40-of-5-all-w.csv]",
	} {
		if got := fmt.Sprint(b.List("laboratory/" + route)); got != want {
			t.Errorf("%s: %s, not %s", route, got, want)
		}
	}
	for asks, want := range map[string]string{
		"{part | count}":                 "how many records are in the output is part.records",
		"{part | sum tag}":               "sum needs a number of each row",
		"{part | first tag}":             "a field by itself is that of the first record: tag",
		"{part | join tag}":              "sum, smallest and largest can be asked, not join",
		"{part | smallest tag}":          "smallest needs numbers or times",
		"{part | sum kilos}":             `there is no field "kilos"`,
		"{(part where kg > 3) | sum kg}": "part",
	} {
		folder := t.TempDir()
		changes["routes/each.yaml"] = strings.NewReplacer("by-station", "each", "deliver:\n", "deliver:\n    name: '"+asks+".csv'\n    folder: \"{laboratory}/x\"\n").Replace(whole)
		writeAll(t, folder, changes)
		if code, said := command(nil, "check", folder); code != 1 || !strings.Contains(said, want) {
			t.Errorf("%s: %d %s", asks, code, said)
		}
	}
}
