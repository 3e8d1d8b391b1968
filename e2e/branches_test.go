package e2e

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"testing"

	"ydrion/testbed"
	"ydrion/wire"
)

const seals = `{"fields": [{"name": "station"}, {"name": "tag", "constraints": {"pattern": "T-[0-9]+"}}, {"name": "kg", "type": "number"}]}`

// branched is a route that sends rows into branches.
func branched(branches string) map[string]string {
	return map[string]string{
		"routes/seals.yaml":  "route: seals\nlisten: {folder: \"{stations}/seals\"}\nread: {format: csv}\ncheck: {schema: schemas/seals.json}\nbranches:\n" + branches + "rejected: {folder: \"{stations}/rejected\"}\n",
		"schemas/seals.json": seals,
		"maps/heavy.map":     "map heavy\nsource csv schemas/seals.json\ntarget json based on samples/heavy.json\n\nreject when station = \"S4\" because \"not at S4\"\nskip when kg > 98 because \"too heavy\"\ntag = tag\nkg = kg\n",
		"samples/heavy.json": `{"tag":"","kg":0}`,
	}
}

// TestBranches: rows go into several branches at once, each with a map and outputs of its own; what one cannot
// make of a row is made in none; what no branch takes is rejected; what a branch skips is left out, unless
// another makes something of it. What must come is found row by row.
func TestBranches(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	b.Publish(branched(`  - name: heavy
    notes: For the vet.
    when: kg > 90
    map: maps/heavy.map
    deliver: {folder: "{laboratory}/heavy", name: "{file.stem}.jsonl"}
  - name: by station
    when: station != "S9"
    deliver: {folder: "{laboratory}/stations", name: "{station}.csv", one file per: "{station}"}
  - name: first pool
    when: station = "S1"
    deliver:
      one file per: record
      name: "{tag}.csv"
      to:
        - {folder: "{laboratory}/light", when: kg < 3}
        - {folder: "{laboratory}/others", when: otherwise}
  - name: not ours
    when: station = "S8"
    skip: S8 is not ours
`))
	const rows = 20_000
	var in strings.Builder
	in.WriteString("station,tag,kg\n")
	var heavy []string
	stations, single := map[string][][]string{}, map[string]string{}
	good, rejected := 0, 0
	for i := range rows {
		station, tag, kg := fmt.Sprintf("S%d", i*i%11%10), fmt.Sprint("T-", i), i%101
		if i%97 == 0 {
			tag = "wrong"
		}
		fmt.Fprintf(&in, "%s,%s,%d\n", station, tag, kg)
		isHeavy := kg > 90
		if tag == "wrong" || isHeavy && station == "S4" || !isHeavy && station == "S9" {
			rejected++
			continue
		}
		makes := false
		if isHeavy && kg <= 98 {
			heavy, makes = append(heavy, fmt.Sprintf(`{"kg":%d,"tag":%q}`, kg, tag)), true
		}
		if station != "S9" {
			stations[station], makes = append(stations[station], []string{station, tag, fmt.Sprint(kg)}), true
		}
		if station == "S1" {
			folder := "others"
			if kg < 3 {
				folder = "light"
			}
			single[folder+"/"+tag+".csv"] = fmt.Sprintf("station,tag,kg\n%s,%s,%d\n", station, tag, kg)
		}
		if makes {
			good++
		}
	}
	b.Drop("stations/seals", "week.csv", in.String())
	p := b.Ended("week.csv", 0)
	if p.State != "delivered" || p.In != rows || p.Good != int64(good) || p.Rejected != int64(rejected) || p.Filtered != int64(rows-good-rejected) || p.Filtered == 0 {
		t.Fatalf("%+v; %d must be good, %d rejected", p, good, rejected)
	}
	inStations := 0
	for _, rows := range stations {
		inStations += len(rows)
	}
	detail, err := b.Client.Pickup(context.Background(), p.ID)
	if err != nil {
		t.Fatal(err)
	}
	if want := []wire.BranchCount{{Name: "heavy", Records: int64(len(heavy))}, {Name: "by station", Records: int64(inStations)}, {Name: "first pool", Records: int64(len(single))}, {Name: "not ours"}}; !slices.Equal(detail.Runs[0].Branches, want) {
		t.Errorf("%v, want %v", detail.Runs[0].Branches, want)
	}
	if _, said := command(b, "pickup", fmt.Sprint(p.ID)); !strings.Contains(said, fmt.Sprintf("records of each branch: heavy %d, by station %d, first pool %d, not ours 0", len(heavy), inStations, len(single))) {
		t.Errorf("%s", said)
	}
	var got []string
	for line := range strings.Lines(b.Read("laboratory/heavy/week.jsonl")) {
		var one any
		if err := json.Unmarshal([]byte(line), &one); err != nil {
			t.Fatal(err)
		}
		again, _ := json.Marshal(one)
		got = append(got, string(again))
	}
	if !slices.Equal(got, heavy) {
		t.Errorf("%d heavy ones, not %d", len(got), len(heavy))
	}
	if files := b.List("laboratory/stations"); len(files) != len(stations) {
		t.Errorf("%v", files)
	}
	for station, want := range stations {
		got, err := csv.NewReader(strings.NewReader(b.Read("laboratory/stations/" + station + ".csv"))).ReadAll()
		if err != nil || fmt.Sprint(got) != fmt.Sprint(append([][]string{{"station", "tag", "kg"}}, want...)) {
			t.Errorf("%s: %v, %d rows, not %d", station, err, len(got), len(want)+1)
		}
	}
	if n := len(b.List("laboratory/light")) + len(b.List("laboratory/others")); n != len(single) {
		t.Errorf("%d files of one row, not %d", n, len(single))
	}
	for name, want := range single {
		if got := b.Read("laboratory/" + name); got != want {
			t.Fatalf("%s: %q, not %q", name, got, want)
		}
	}

	shown, err := b.Client.Records(context.Background(), p.Run, url.Values{"from": {"112"}, "limit": {"1"}})
	if err != nil || len(shown.Records) != 1 {
		t.Fatal(shown, err)
	}
	for _, test := range [][]string{
		{"Sends records into 4 branches.", "heavy, when kg > 90: makes JSON objects, one a line, by maps/heavy.map. For the vet.", "by station, when station != \"S9\": passes CSV rows on as they came.", "not ours, when station = \"S8\": left out: S8 is not ours.", "by station: one file for each {station}, named {station}.csv."},
	} {
		_, said := command(b, "route", "seals")
		for _, want := range test {
			if !strings.Contains(said, want) {
				t.Errorf("%q is not in %s", want, said)
			}
		}
	}
	said := b.Read(fmt.Sprintf("stations/rejected/week.rejected-%d.findings.txt", p.Run))
	for _, want := range []string{"none of the route's branches takes it", "not at S4"} {
		if !strings.Contains(said, want) {
			t.Errorf("%q is not in what its sender is told", want)
		}
	}
}

// TestMessagesIntoBranches: the messages of an interchange go different ways by their type, some through maps of
// their own and some as they came, and those of a branch stand in an envelope with their count.
func TestMessagesIntoBranches(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	b.Publish(map[string]string{
		"routes/supplier.yaml": `route: supplier
listen: {folder: "{suppliers}/out"}
read: {format: edifact}
branches:
  - name: answers
    when: UNH-2.1 = "ORDRSP"
    map: maps/answer.map
    deliver: {folder: "{stations}/answers", name: "{BGM-2}.json", one file per: record}
  - name: despatch
    when: UNH-2.1 = "DESADV" and UNB-2 = "TIDEWRACK"
    deliver: {folder: "{stations}/despatch", name: "{file.name}"}
  - name: rest
    when: otherwise
    deliver: {folder: "{stations}/rest", name: "{file.name}"}
rejected: {folder: "{stations}/rejected"}
`,
		"maps/answer.map":     "map answer\nsource edifact\ntarget json based on samples/answer.json\n\nnumber = BGM-2\norder = RFF(ON)-1.2\n",
		"samples/answer.json": `{"number":"","order":""}`,
	})
	message := func(n int, kind, number string) string {
		return fmt.Sprintf("UNH+%d+%s:D:96A:UN'BGM+1+%s+9'RFF+ON:SC-%d'UNT+4+%d'", n, kind, number, n, n)
	}
	in := "UNB+UNOC:3+TIDEWRACK+SKERRY+261125:0930+77'" + message(1, "ORDRSP", "A1") + message(2, "DESADV", "D1") + message(3, "INVOIC", "I1") + message(4, "DESADV", "D2") + message(5, "ORDRSP", "A2") + "UNZ+5+77'"
	b.Drop("suppliers/out", "a.edi", in)
	if p := b.Ended("a.edi", 0); p.In != 5 || p.Good != 5 {
		t.Fatalf("%+v", p)
	}
	const head, end = "UNB+UNOC:3+TIDEWRACK+SKERRY+261125:0930+77'", "UNZ+%d+77'"
	for name, want := range map[string]string{
		"despatch/a.edi": head + message(2, "DESADV", "D1") + message(4, "DESADV", "D2") + fmt.Sprintf(end, 2),
		"rest/a.edi":     head + message(3, "INVOIC", "I1") + fmt.Sprintf(end, 1),
	} {
		if got := b.Read("stations/" + name); got != want {
			t.Errorf("%s: %q, not %q", name, got, want)
		}
	}
	for name, want := range map[string]string{"A1": "SC-1", "A2": "SC-5"} {
		var got struct{ Number, Order string }
		if err := json.Unmarshal([]byte(b.Read("stations/answers/"+name+".json")), &got); err != nil || got.Number != name || got.Order != want {
			t.Errorf("%+v %v", got, err)
		}
	}
	if n := len(b.List("stations/rest")); n != 1 {
		t.Errorf("%d others", n)
	}
	// An interchange in which nothing is for a branch makes no file there.
	b.Drop("suppliers/out", "b.edi", strings.Replace(strings.Replace(in, "DESADV", "ORDRSP", -1), "TIDEWRACK", "HOLM", 1))
	if p := b.Ended("b.edi", 0); p.Good != 5 || len(b.List("stations/despatch")) != 1 {
		t.Errorf("%+v %v", p, b.List("stations/despatch"))
	}
	if code, said := command(b, "try", "supplier", "-", "-w", t.TempDir()); code == 0 {
		t.Error(said)
	}
}

// TestOutputsOfSoManyRecords: parts have so many records each, whatever was rejected between them, or so many
// bytes at most, with a heading each, and are named by which of how many they are, by their first record and by
// how many are in them.
func TestOutputsOfSoManyRecords(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	b.Publish(branched(`  - name: by count
    deliver: {folder: "{laboratory}/count", name: "{file.stem}-{part.number | pad 2 \"0\"}-of-{part.count}-{part.records}-{tag}.csv", one file per: 300 records}
  - name: by size
    deliver: {folder: "{laboratory}/size", name: "{file.stem}-{part.number}.csv", one file per: 1k}
  - name: whole
    deliver: {folder: "{laboratory}/whole", name: "{station}-{part.records}.csv"}
`))
	in, want := strings.Builder{}, [][]string{}
	in.WriteString("station,tag,kg\n")
	for i := range 1000 {
		tag := fmt.Sprint("T-", i)
		if i%7 == 0 {
			tag = "wrong"
		} else {
			want = append(want, []string{"S1", tag, fmt.Sprint(i)})
		}
		fmt.Fprintf(&in, "S1,%s,%d\n", tag, i)
	}
	b.Drop("stations/seals", "a.csv", in.String())
	if p := b.Ended("a.csv", 0); p.Good != int64(len(want)) || p.In != 1000 {
		t.Fatalf("%+v", p)
	}
	read := func(folder, name string) [][]string {
		got, err := csv.NewReader(strings.NewReader(b.Read(folder, name))).ReadAll()
		if err != nil || len(got) == 0 || strings.Join(got[0], ",") != "station,tag,kg" {
			t.Fatalf("%s: %v %v", name, err, got)
		}
		return got[1:]
	}
	if got := strings.Join(b.List("laboratory/count"), " "); got != "a-01-of-3-300-T-1.csv a-02-of-3-300-T-351.csv a-03-of-3-257-T-701.csv" {
		t.Error(got)
	}
	var all [][]string
	for _, name := range b.List("laboratory/count") {
		all = append(all, read("laboratory/count", name)...)
	}
	if fmt.Sprint(all) != fmt.Sprint(want) {
		t.Error("the parts are not the whole")
	}
	all = nil
	files := b.List("laboratory/size")
	for n := range files {
		name := fmt.Sprintf("a-%d.csv", n+1)
		size := len(b.Read("laboratory/size", name))
		if size > 1024 || n+1 < len(files) && size < 1024-20 {
			t.Errorf("%s has %d bytes", name, size)
		}
		all = append(all, read("laboratory/size", name)...)
	}
	if fmt.Sprint(all) != fmt.Sprint(want) {
		t.Error("the parts are not the whole")
	}
	if got := read("laboratory/whole", "S1-857.csv"); fmt.Sprint(got) != fmt.Sprint(want) {
		t.Error(b.List("laboratory/whole"))
	}
	// It can be seen where a record went, and which pickup an output is of.
	shown, err := b.Client.Records(context.Background(), 1, url.Values{"from": {"352"}, "limit": {"1"}})
	if err != nil || len(shown.Records) != 1 || len(shown.Records[0].Became) != 3 {
		t.Fatalf("%+v %v", shown, err)
	}
	for k, want := range []string{"a-02-of-3-300-T-351.csv", "", "S1-857.csv"} {
		of := shown.Records[0].Became[k]
		if len(of.Files) != 1 || want != "" && of.Files[0].Name != want || of.Files[0].Folder == "" {
			t.Errorf("%+v, not %s", of.Files, want)
		}
		if name := of.Files[0].Name; !strings.Contains(b.Read("laboratory", []string{"count", "size", "whole"}[k], name), "S1,T-351,351\n") {
			t.Errorf("the record is not in %s", name)
		}
	}
	for args, want := range map[string]bool{"a-02-of-3-300-T-351.csv": true, "a-*T-701.csv": true, "S1-8%": false, "T-351": false, "*.rejected-1.csv": true} {
		if _, said := command(b, "pickups", "--output", args); strings.Contains(said, "a.csv") != want {
			t.Errorf("--output %s: %s", args, said)
		}
	}
	// A name that cannot be made of the first record rejects the file whole.
	b.Drop("stations/seals", "b.csv", "station,tag,kg\na/b,T-1,1\n")
	if p := b.Ended("b.csv", 0); p.State != "rejected" || !strings.Contains(p.Reason, "slash") || len(b.List("laboratory/count")) != 3 {
		t.Errorf("%+v", p)
	}
	// Interchanges have numbers of their own.
	b.Publish(byStation("edifact", "UNB+UNOC:3+SKERRY+LAB+261125:0930+7'UNH+1+ORDERS:D:96A:UN'BGM+220+A+9'UNT+3+1'UNZ+1+7'",
		"keep UNB-1, UNB-2, UNB-3, UNB-4, UNH-2, BGM-1, BGM-3\nUNB-5 = sequence\nUNH-1 = record\nBGM-2 = tag\nignore kg, station\n", "  one file per: 2 records\n  name: \"{sequence}.edi\"\n  folder: \"{laboratory}/edi\"\n"))
	b.Drop("stations/many", "c.csv", "station,tag,kg\nX,T-1,1\nY,T-2,1\nX,wrong,1\nX,T-4,1\n")
	b.Ended("c.csv", 0)
	for name, ends := range map[string]string{"1": "UNZ+2+1'", "2": "UNZ+1+2'"} {
		if got := b.Read("laboratory/edi/" + name + ".edi"); !strings.HasSuffix(got, ends) || !strings.Contains(got, "+261125:0930+"+name+"'") {
			t.Error(got)
		}
	}
}

// TestBranchesThatAreWrong: each is refused with its place and what to do.
func TestBranchesThatAreWrong(t *testing.T) {
	const one = "  - name: a\n    deliver: {folder: \"{laboratory}/a\", name: \"{file.name}\"}\n"
	for branches, want := range map[string]string{
		one + one: `routes/seals.yaml:8:11: error: two branches are called "a"`,
		"  - deliver: {folder: \"{laboratory}/a\", name: \"{file.name}\"}\n":                                                                                                                                                  "branches[1].name is missing",
		"  - name: a\n    when: kgs > 3\n    deliver: {folder: \"{laboratory}/a\", name: \"{file.name}\"}\n":                                                                                                                  "was kg meant?",
		"  - name: a\n    when: kg\n    deliver: {folder: \"{laboratory}/a\", name: \"{file.name}\"}\n":                                                                                                                       "a condition is needed",
		"  - name: a\n    when: sequence > 3\n    deliver: {folder: \"{laboratory}/a\", name: \"{file.name}\"}\n":                                                                                                             "has no meaning here",
		"  - name: a\n    skip: no\n    deliver: {folder: \"{laboratory}/a\", name: \"{file.name}\"}\n":                                                                                                                       "left out (skip)",
		"  - name: a\n    map: maps/none.map\n    deliver: {folder: \"{laboratory}/a\", name: \"{file.name}\"}\n":                                                                                                             "there is no file maps/none.map",
		"  - name: a\n    deliver: {folder: \"{laboratory}/a\", name: \"x.csv\", one file per: 3 records}\n":                                                                                                                  "put {part.number} into the name",
		"  - name: a\n    deliver: {folder: \"{laboratory}/a\", name: \"{part.number}.csv\", one file per: 0 records}\n":                                                                                                      "it can be pickup, record, so many records",
		"  - name: a\n    deliver: {folder: \"{laboratory}/a\", name: \"{sequence}.csv\", one file per: 3 records}\n" + strings.Replace(one, "a\n", "b\n", 1) + "    when: otherwise\n":                                       "",
		"  - name: a\n    deliver: {folder: \"{laboratory}/a\", name: \"{part.number}-{tag}.csv\", one file per: record}\n":                                                                                                   "part.number has no meaning here",
		"  - name: a\n    deliver: {folder: \"{laboratory}/a\", name: \"{sequence}.csv\", one file per: 3 records}\n  - name: b\n    deliver: {folder: \"{laboratory}/b\", name: \"{sequence}.csv\", one file per: record}\n": "nothing else of the route can use the sequence",
		"":                            "branches has none",
		one + "map: maps/heavy.map\n": "the route has branches: each says its own map",
	} {
		folder := t.TempDir()
		files := branched(branches)
		if branches == "" {
			files["routes/seals.yaml"] = strings.Replace(files["routes/seals.yaml"], "branches:\n", "branches: []\n", 1)
		}
		writeAll(t, folder, files)
		code, said := command(nil, "check", folder)
		if want != "" && code == 0 || want == "" && code != 0 || !strings.Contains(said, want) {
			t.Errorf("%s: %d %s does not say %s", branches, code, said, want)
		}
	}
}

// TestRowsInOrder: rows are sorted, chosen and gathered by a route as its service runs it, and what is shown of the
// pickup afterwards is the same; the balance counts what was left out.
func TestRowsInOrder(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	files := branched("")
	files["routes/seals.yaml"] = `route: seals
listen: {folder: "{stations}/seals"}
read: {format: csv}
check: {schema: schemas/seals.json}
shape:
  - one per: tag
    keep: last
  - gather: animals
    by: station
    sort: kg descending
map: maps/pool.map
deliver: {folder: "{laboratory}/pools", name: "{file.stem}.jsonl"}
rejected: {folder: "{stations}/rejected"}
`
	files["maps/pool.map"] = "map pool\nsource csv schemas/seals.json\ntarget json based on samples/pool.json\n\nstation = station\nrepeat animals for a in animals\n  tag = a.tag\nend\n"
	files["samples/pool.json"] = `{"station":"","animals":[{"tag":""}]}`
	b.Publish(files)
	b.Drop("stations/seals", "a.csv", "station,tag,kg\nS2,T-1,9\nS1,T-2,10\nS2,T-3,100\nS3,T-4,x\nS1,T-1,30\nS2,T-5,9.5\n")
	p := b.Ended("a.csv", 0)
	if p.State != "delivered" || p.In != 6 || p.Good != 2 || p.Rejected != 1 || p.Filtered != 1 || p.Merged != 2 {
		t.Fatalf("%+v", p)
	}
	if got := b.Read("laboratory/pools/a.jsonl"); got != `{"station":"S1","animals":[{"tag":"T-1"},{"tag":"T-2"}]}`+"\n"+`{"station":"S2","animals":[{"tag":"T-3"},{"tag":"T-5"}]}`+"\n" {
		t.Error(got)
	}
	if got := b.Read(fmt.Sprintf("stations/rejected/a.rejected-%d.csv", p.Run)); got != "station,tag,kg\nS3,T-4,x\n" {
		t.Error(got)
	}
	if got := b.Read(fmt.Sprintf("stations/rejected/a.rejected-%d.findings.txt", p.Run)); !strings.Contains(got, "line 5, column 8") {
		t.Error(got)
	}
	shown, err := b.Client.Records(context.Background(), p.Run, url.Values{"from": {"2"}, "limit": {"1"}})
	if err != nil || len(shown.Records) != 1 || shown.Records[0].Line != 4 || shown.Records[0].Became[0].Lines[1].Value != "T-3" {
		t.Errorf("%+v %v", shown, err)
	}
	// A record that rows went into says where they stand, and is found by any of them.
	if rows := shown.Records[0]; rows.Rows != 2 || fmt.Sprint(rows.Sources) != "[{ 4} { 7}]" {
		t.Errorf("%+v", rows)
	}
	found, err := b.Client.Find(context.Background(), url.Values{"text": {"S2,T-5"}})
	if err != nil || len(found.Items) != 1 || found.Items[0].Line != 7 || found.Items[0].Record != 2 || !strings.HasSuffix(fmt.Sprint(found.Items[0].WentInto), "/a.jsonl]") {
		t.Errorf("%+v %v", found, err)
	}
	if _, said := command(b, "pickup", fmt.Sprint(p.ID)); !strings.Contains(said, "line 4 (2 rows: lines 4, 7): good") {
		t.Error(said)
	}
	for _, args := range [][]string{{"route", "seals"}, {"pickup", fmt.Sprint(p.ID)}} {
		_, said := command(b, args...)
		want := map[string]string{"route": "Records with the same station become one, with the list animals, sorted by kg descending.", "pickup": "1 record was left out: others have the same tag, and only the last of them goes on"}[args[0]]
		if !strings.Contains(said, want) {
			t.Errorf("%s does not say %q", said, want)
		}
	}
}
