package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"strings"
	"testing"

	"ydrion/testbed"
)

// listed is a route that weighs animals of a list, and one that brings the list.
func listed(settings string) map[string]string {
	return map[string]string{
		"routes/animals.yaml": `route: animals
listen: {folder: "{stations}/residents"}
read: {format: csv}
check: {schema: schemas/animal.json, tolerate: 20%}
map: maps/animal.map
deliver: {lookup: residents}
rejected: {folder: "{stations}/rejected"}
`,
		"routes/weights.yaml": `route: weights
listen: {folder: "{stations}/listed"}
` + settings + `
read: {format: csv}
check: {schema: schemas/weight.json}
map: maps/weight.map
deliver: {folder: "{laboratory}/listed", name: "{file.stem}.csv"}
rejected: {folder: "{stations}/rejected"}
`,
		"schemas/animal.json":   `{"fields": [{"name": "Tag"}, {"name": "Species"}, {"name": "Pool", "type": "integer"}]}`,
		"schemas/weight.json":   `{"fields": [{"name": "tag"}, {"name": "kg", "type": "number"}]}`,
		"maps/animal.map":       "map animal\nsource csv schemas/animal.json\ntarget csv based on samples/animals.csv\n\ntag = Tag | upper\nspecies = Species\npool = Pool\n",
		"maps/weight.map":       "map weight\nsource csv schemas/weight.json\ntarget csv based on samples/listed.csv\n\ntag = tag\nspecies = tag | lookup residents\npool = tag | lookup residents \"pool\" if unlisted \"none\"\nkg = kg\n",
		"lookups/residents.csv": "tag,species,pool\nT-1,grey,1\n",
		"samples/animals.csv":   "tag,species,pool\n",
		"samples/listed.csv":    "tag,species,pool,kg\n",
	}
}

// TestLookupsArrive: a list that comes with files is what later files are looked up in, without publishing; each run keeps
// the list that it worked with; one that is no such table changes nothing; how old it is is seen.
func TestLookupsArrive(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	b.Publish(listed("lookups: [{table: residents}]"))
	weigh := func(name string, tags ...string) string {
		content := "tag,kg\n"
		for _, tag := range tags {
			content += tag + ",5\n"
		}
		b.Drop("stations/listed", name+".csv", content)
		b.Ended(name+".csv", 0)
		return b.Read("laboratory/listed/" + name + ".csv")
	}
	const heading = "tag,species,pool,kg\n"
	if got := weigh("w-before", "T-1"); got != heading+"T-1,grey,1,5\n" {
		t.Errorf("%q", got)
	}
	bring := func(name, content, state string) int64 {
		b.Drop("stations/residents", name, content)
		p := b.Ended(name, 0)
		if p.State != state {
			t.Fatalf("%s: %+v", name, p)
		}
		return p.ID
	}
	first := bring("mon.csv", "Tag,Species,Pool\nt-1,harbour,2\nt-2,\"grey, old\",3\n", "delivered")
	if got := weigh("w-mon", "T-1", "T-2"); got != heading+"T-1,harbour,2,5\nT-2,\"grey, old\",3,5\n" {
		t.Errorf("%q", got)
	}
	// A key that stands twice with different answers makes no table: all of the file comes back.
	bring("bad.csv", "Tag,Species,Pool\nt-9,a,1\nt-9,b,2\n", "rejected")
	p, err := b.Client.Pickups(context.Background(), url.Values{"name": {"bad.csv"}})
	if err != nil || !strings.Contains(p.Items[0].Reason, "cannot be the table residents") {
		t.Errorf("%+v %v", p.Items[0], err)
	}
	bring("tue.csv", "Tag,Species,Pool\nt-1,hooded,4\nt-3,grey,1\n", "delivered")
	if got := weigh("w-tue", "T-1", "T-3"); got != heading+"T-1,hooded,4,5\nT-3,grey,1,5\n" {
		t.Errorf("%q", got)
	}
	list, err := b.Client.Lookups(context.Background(), "residents")
	if err != nil || len(list) != 2 || list[0].Version != 2 || list[1].Pickup != first || list[1].Rows != 2 {
		t.Errorf("%+v %v", list, err)
	}
	if text, err := b.Client.LookupContent(context.Background(), "residents", 1); err != nil || text != "tag,species,pool\nT-1,harbour,2\nT-2,\"grey, old\",3\n" {
		t.Errorf("%q %v", text, err)
	}
	// A run of Monday is shown with Monday's list, and the same once more, too.
	monday, err := b.Client.Pickups(context.Background(), url.Values{"name": {"w-mon.csv"}})
	if err != nil {
		t.Fatal(err)
	}
	trial, err := b.Client.Records(context.Background(), monday.Items[0].Run, url.Values{})
	if err != nil || len(trial.Records) != 2 || !strings.Contains(trial.Records[0].Became[0].Made, "T-1,harbour,2") {
		t.Errorf("%+v %v", trial, err)
	}
	if code, out := command(b, "again", fmt.Sprint(monday.Items[0].ID), "--same", "--yes"); code != 0 {
		t.Fatal(out)
	}
	testbed.Until(t, "it has been run again", func() bool { return len(b.List("laboratory/listed")) == 4 })
	if got := b.Read("laboratory/listed/w-mon-2.csv"); got != b.Read("laboratory/listed/w-mon.csv") {
		t.Errorf("%q", got)
	}
	code, out := command(b, "lookups")
	if code != 0 || !strings.Contains(out, "residents        2") {
		t.Errorf("%d %s", code, out)
	}
	if _, out = command(b, "route", "weights"); !strings.Contains(out, "Looks codes up in residents: version 2 with 2 rows, of 2") {
		t.Errorf("%s", out)
	}
	if _, out = command(b, "route", "animals"); !strings.Contains(out, "Delivers one file for each pickup as the newest content of the lookup residents.") {
		t.Errorf("%s", out)
	}
	if _, out = command(b, "pickup", fmt.Sprint(first)); !strings.Contains(out, "good     lookup/residents") {
		t.Errorf("%s", out)
	}
	_, out = command(b, "lookups", "residents", "--json")
	var versions []struct{ Version int }
	if err := json.Unmarshal([]byte(out), &versions); err != nil || len(versions) != 2 {
		t.Errorf("%s %v", out, err)
	}
	if code, out := command(b, "lookups", "nothing"); code != 2 {
		t.Errorf("%d %s", code, out)
	}
}

// TestLookupsAreTooOld: files wait for a list that is new enough, and go on as soon as it has come.
func TestLookupsAreTooOld(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	b.Publish(listed("lookups: [{table: residents, no older than: 36h}]"))
	b.Drop("stations/listed", "mon.csv", "tag,kg\nT-1,5\n")
	testbed.Until(t, "it waits for the list", func() bool {
		p := byName(t, b)["mon.csv"]
		return p.State == "held" && p.NextTry != nil && p.Reason == "no content of the table residents has come yet, and the route wants one that is no older than 36h"
	})
	b.Drop("stations/residents", "list.csv", "Tag,Species,Pool\nt-1,harbour,2\n")
	b.Ended("list.csv", 0)
	if p := b.Ended("mon.csv", 0); p.State != "delivered" || b.Read("laboratory/listed/mon.csv") != "tag,species,pool,kg\nT-1,harbour,2,5\n" {
		t.Errorf("%+v", p)
	}
	b.Ask(new(string), "update lookup_versions set at = at - interval '2 days' returning name")
	b.Drop("stations/listed", "wed.csv", "tag,kg\nT-1,5\n")
	testbed.Until(t, "it waits for a newer list", func() bool { return strings.Contains(byName(t, b)["wed.csv"].Reason, "(version 1)") })
	b.Publish(listed("lookups: [{table: residents, no older than: 36h, else: go on}]"))
	b.Drop("stations/listed", "thu.csv", "tag,kg\nT-1,5\n")
	p, err := b.Client.Pickup(context.Background(), b.Ended("thu.csv", 0).ID)
	if err != nil || p.State != "delivered" || len(p.Runs[0].Findings) != 2 || p.Runs[0].Findings[0].Code != "lookup.old" {
		t.Errorf("%+v %v", p, err)
	}
}

// TestJoin: rows of one file of a collection are looked up in another of it; a row without a partner is rejected with
// that reason, unless the map says what stands for it; a file that is no such table rejects those that need it.
func TestJoin(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	b.Publish(listed(`collect: {by: '{file.stem | after "-"}', complete: ["weights-*.csv", "list-*.csv"]}
lookups: [{table: residents, file: "list-*.csv"}]`))
	b.Drop("stations/listed", "list-mon.csv", "tag,species,pool\nT-1,harbour,2\nT-2,grey,3\n")
	b.Drop("stations/listed", "weights-mon.csv", "tag,kg\nT-2,7\nT-9,8\nT-1,9\n")
	p := b.Ended("weights-mon.csv", 0)
	if got := b.Read("laboratory/listed/weights-mon.csv"); got != "tag,species,pool,kg\nT-2,grey,3,7\nT-1,harbour,2,9\n" || p.Good != 2 || p.Rejected != 1 {
		t.Errorf("%q %+v", got, p)
	}
	list := byName(t, b)["list-mon.csv"]
	if want := fmt.Sprintf("the others look codes up in it, as the table residents (pickup %d)", p.ID); list.State != "set aside" || list.Reason != want || list.Run != p.Run {
		t.Errorf("%+v", list)
	}
	rejects, err := b.Client.Rejects(context.Background(), p.Run, url.Values{})
	if err != nil || len(rejects.Items) != 1 || !strings.Contains(rejects.Items[0].Findings[0].Message, "T-9") {
		t.Errorf("%+v %v", rejects, err)
	}
	trial, err := b.Client.Records(context.Background(), p.Run, url.Values{"limit": {"1"}})
	if err != nil || !strings.Contains(trial.Records[0].Became[0].Made, "T-2,grey,3") {
		t.Errorf("%+v %v", trial, err)
	}
	b.Drop("stations/listed", "weights-tue.csv", "tag,kg\nT-2,7\n")
	b.Drop("stations/listed", "list-tue.csv", "animal,species\nT-2,grey\n")
	q := b.Ended("weights-tue.csv", 0)
	if q.State != "rejected" || q.Reason != "the table residents has the columns tag, species, pool, and list-tue.csv has animal, species" {
		t.Errorf("%+v", q)
	}
	if got := b.Read(fmt.Sprintf("stations/rejected/weights-tue.rejected-%d.csv", q.Run)); got != "tag,kg\nT-2,7\n" {
		t.Errorf("%q", got)
	}
	// What of the table no record has looked up is told, in each run anew: by one key, by another column, and not where
	// nothing came of the records.
	b.Publish(listed(`collect: {by: '{file.stem | after "-"}', complete: ["weights-*.csv", "list-*.csv"]}
lookups: [{table: residents, file: "list-*.csv", unmatched: warn}]`))
	const list3 = "tag,species,pool\nT-1,harbour,2\nT-2,grey,3\nT-3,grey,3\n"
	for day, test := range map[string]struct{ weights, want string }{
		"wed": {"T-2,7\nT-9,8\n", "no record looked up 2 of the 3 rows of list-wed.csv: T-1 (line 2), T-3 (line 4)"},
		"thu": {"T-3,7\nT-1,8\nT-2,9\n", ""},
		"fri": {"T-1,7\nT-2,9\n", "no record looked up 1 of the 3 rows of list-fri.csv: T-3 (line 4)"},
	} {
		b.Drop("stations/listed", "list-"+day+".csv", list3)
		b.Drop("stations/listed", "weights-"+day+".csv", "tag,kg\n"+test.weights)
		p := b.Ended("weights-"+day+".csv", 0)
		detail, err := b.Client.Pickup(context.Background(), p.ID)
		if err != nil {
			t.Fatal(err)
		}
		var said []string
		for _, f := range detail.Runs[0].Findings {
			said = append(said, f.Message)
		}
		if got := strings.Join(said, "\n"); got != test.want {
			t.Errorf("%s: %q, not %q", day, got, test.want)
		}
	}
}

// TestTableMadeTwice: of two branches that make the same table from one file neither takes the other's place; one alone makes it.
func TestTableMadeTwice(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	files := listed("lookups: [{table: residents}]")
	files["routes/animals.yaml"] = strings.Replace(files["routes/animals.yaml"], "map: maps/animal.map\ndeliver: {lookup: residents}\n", `branches:
  - {name: grey, when: 'Species = "grey"', map: maps/animal.map, deliver: {lookup: residents}}
  - {name: others, when: 'Species != "grey"', map: maps/animal.map, deliver: {lookup: residents}}
`, 1)
	b.Publish(files)
	b.Drop("stations/residents", "both.csv", "Tag,Species,Pool\nt-1,grey,2\nt-2,harbour,3\n")
	if p := b.Ended("both.csv", 0); p.State != "rejected" || !strings.Contains(p.Reason, "two destinations have made the table residents") {
		t.Errorf("%+v", p)
	}
	b.Drop("stations/residents", "one.csv", "Tag,Species,Pool\nt-1,grey,2\nt-3,grey,3\n")
	if p := b.Ended("one.csv", 0); p.State != "delivered" || p.Good != 2 {
		t.Errorf("%+v", p)
	}
	b.Drop("stations/listed", "w.csv", "tag,kg\nT-3,5\n")
	if b.Ended("w.csv", 0); b.Read("laboratory/listed/w.csv") != "tag,species,pool,kg\nT-3,grey,3,5\n" {
		t.Errorf("%q", b.Read("laboratory/listed/w.csv"))
	}
}
