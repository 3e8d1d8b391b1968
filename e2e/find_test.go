package e2e

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"sort"
	"strings"
	"testing"

	"ydrion/testbed"
)

// TestFind: a record is found by what stands in it, in whatever route, run or file of several, with what it went into;
// from what is not kept any more nothing is found.
func TestFind(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	b.Publish(inOneFile(t))
	for _, name := range []string{"night-pool-1.csv", "night-pool-2.csv"} {
		b.Drop("stations/night-logs", name, testbed.Demo(t, name))
	}
	testbed.Until(t, "they are there", func() bool { return len(waiting(t, b, "night-logs")) == 2 })
	if _, err := b.Client.Take(context.Background(), "night-logs", ""); err != nil {
		t.Fatal(err)
	}
	b.Ended("night-pool-2.csv", 0)
	for n := range 120 { // more than are looked at at once
		b.Drop("stations/inbox", fmt.Sprintf("sheet-%03d.csv", n), heading+row(n))
	}
	testbed.Until(t, "all have ended", func() bool {
		return strings.Count(states(b), "delivered") >= 100 && len(b.List("laboratory/orders")) == 120
	})
	b.Drop("stations/inbox", "wrong.csv", heading+row(500)+row(501)+strings.Replace(row(502), "36.5", "n/a", 1))
	b.Ended("wrong.csv", 0)
	b.Drop("stations/inbox", "whole.csv", heading+row(700)+strings.Replace(row(701), "36.5", "n/a", 1)+strings.Replace(row(702), "36.5", "n/a", 1))
	if p := b.Ended("whole.csv", 0); !p.Whole {
		t.Fatalf("%+v", p)
	}
	found := func(query url.Values) (out []string) {
		answer, err := b.Client.Find(context.Background(), query)
		if err != nil {
			t.Fatal(err)
		}
		for _, f := range answer.Items {
			out = append(out, fmt.Sprint(f.Name, " ", f.Record, " ", f.Line, " ", f.Outcome, " ", below(b, f.WentInto, "+")))
		}
		return out
	}
	for value, want := range map[string]string{
		"AP-000007":  "[sheet-007.csv 1 2 good laboratory/orders/sheet-007.hl7]",
		"AP-000502":  "[wrong.csv 3 4 rejected ]",
		"9.8,L-07":   "[night-pool-2.csv 2 2 good laboratory/nights/" + b.List("laboratory/nights")[0] + "]",
		"AP-0005":    "[wrong.csv 1 2 good laboratory/orders/wrong.hl7 wrong.csv 2 3 good laboratory/orders/wrong.hl7 wrong.csv 3 4 rejected ]",
		"AP-000700":  "[whole.csv 1 2 rejected ]", // good by itself, and rejected with its file
		"not there…": "[]",
	} {
		if got := fmt.Sprint(found(url.Values{"text": {value}})); got != want {
			t.Errorf("%s: %s, want %s", value, got, want)
		}
	}
	// Records of a run of several files are told once, however often is asked for more.
	once, query := map[string]int{}, url.Values{"text": {"pool-"}, "route": {"night-logs"}, "limit": {"1"}}
	for {
		answer, err := b.Client.Find(context.Background(), query)
		if err != nil {
			t.Fatal(err)
		}
		for _, f := range answer.Items {
			once[fmt.Sprint(f.Name, f.Line)]++
		}
		if answer.Next == 0 {
			break
		}
		query.Set("before", fmt.Sprint(answer.Next))
		query.Set("from", fmt.Sprint(answer.From))
	}
	if fmt.Sprint(once) != "map[night-pool-1.csv2:1 night-pool-1.csv3:1 night-pool-1.csv4:1 night-pool-2.csv2:1 night-pool-2.csv3:1 night-pool-2.csv4:1]" {
		t.Errorf("%v", once)
	}
	if got := found(url.Values{"text": {"AP-0"}, "limit": {"1000"}}); len(got) != 126 {
		t.Errorf("%d records", len(got))
	}
	if code, out := command(b, "find", "AP-000007", "--route", "specimen-orders"); code != 0 || !strings.Contains(out, "sheet-007.hl7") || !strings.Contains(out, "AS IT CAME") {
		t.Errorf("%d %s", code, out)
	}
	if code, out := command(b, "find", "nobody"); code != 0 || !strings.Contains(out, "no record has it, in 123 pickups") {
		t.Errorf("%d %s", code, out)
	}
}

// TestFindAllOfMany: what is found in portions is all that there is, each once, also where one file has more than a portion,
// where what is looked for stands far behind the beginning of a long record, or in what is left of a broken file; a file
// that goes on as it came is what its records went into.
func TestFindAllOfMany(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	route := func(name, check string) string {
		return "route: " + name + "\nlisten: {folder: \"{stations}/" + name + "\"}\nread: {format: json, record: /*}\ncheck: {" + check + "}\ndeliver: {folder: \"{laboratory}/" + name + "\", name: \"{file.name}\"}\nrejected: {folder: \"{stations}/rejected\"}\n"
	}
	b.Publish(map[string]string{"routes/events.yaml": route("events", "schema: schemas/e.json, tolerate: 90%"), "schemas/e.json": `{"fields": [{"name": "tag"}, {"name": "text"}]}`})
	var want []string
	for f := range 3 {
		var all []string
		for n := range 40 {
			tag := fmt.Sprintf("T-%d", n%2)
			all = append(all, fmt.Sprintf("{\"text\": %q, \"tag\": %q}", strings.Repeat("x", 1000*(n%3)*(n%7)*20), tag))
			if n%2 == 1 {
				want = append(want, fmt.Sprintf("f%d.json %d laboratory/events/f%[1]d.json", f, n+1))
			}
		}
		text := "[" + strings.Join(all, ",\n") + "]"
		if f == 2 { // it breaks off, far behind the beginning of what is left
			text = strings.TrimSuffix(text, "]") + ", {\"text\": \"" + strings.Repeat("y", 300_000) + "T-1"
			want = append(want, "f2.json 41 ")
		}
		b.Drop("stations/events", fmt.Sprintf("f%d.json", f), text)
		b.Ended(fmt.Sprintf("f%d.json", f), 0)
	}
	for i := range want {
		if strings.HasPrefix(want[i], "f2.json") {
			want[i] = strings.TrimSuffix(want[i], "laboratory/events/f2.json") // the broken file was rejected
		}
	}
	for _, limit := range []string{"1", "7", "20", "1000"} {
		var got []string
		query := url.Values{"text": {"T-1"}, "limit": {limit}}
		for {
			answer, err := b.Client.Find(context.Background(), query)
			if err != nil {
				t.Fatal(err)
			}
			for _, f := range answer.Items {
				got = append(got, fmt.Sprintf("%s %d %s", f.Name, f.Record, below(b, f.WentInto, " ")))
			}
			if answer.Next == 0 {
				break
			}
			query.Set("before", fmt.Sprint(answer.Next))
			query.Set("from", fmt.Sprint(answer.From))
		}
		sort.Strings(got)
		sort.Strings(want)
		if fmt.Sprint(got) != fmt.Sprint(want) {
			t.Errorf("%s at once: %q, not %q", limit, got, want)
		}
	}
	if code, out := command(b, "find", "T-1", "--limit", "1000"); code != 0 || strings.Count(out, "f1.json") != 40 {
		t.Errorf("%d %s", code, out)
	}
}

// TestFindBesideWhatIsBroken: a pickup that cannot be looked into, because its original is not whole any more, is told, and keeps nobody from finding
// what is in others.
func TestFindBesideWhatIsBroken(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	b.Publish(inOneFile(t))
	for n, name := range []string{"one.csv", "two.csv", "three.csv"} {
		b.Drop("stations/inbox", name, heading+row(n)+row(n+10))
		p := b.Ended(name, 0)
		if name != "two.csv" {
			continue
		}
		kept := b.Path("archive", p.SHA256[:2], p.SHA256)
		if err := os.Remove(kept); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(kept, []byte(heading+row(n)), 0o400); err != nil {
			t.Fatal(err)
		}
	}
	code, said := command(b, "find", "AP-0000")
	if code != 1 || !strings.Contains(said, "one.csv") || !strings.Contains(said, "three.csv") || !strings.Contains(said, "not looked into: two.csv (pickup 2): ") {
		t.Errorf("exit code %d: %s", code, said)
	}
	if code, said := command(b, "find", "AP-0000", "--json"); code != 1 || !strings.Contains(said, `"missed": [`) {
		t.Errorf("exit code %d: %s", code, said)
	}
}

// below are paths below the data folder.
func below(b *testbed.Bed, paths []string, between string) string {
	return strings.ReplaceAll(strings.Join(paths, between), b.Path()+"/", "")
}

// TestFindInOutputsOfValues: of outputs that are told apart by a value, at several destinations, under names that are taken or that
// are known only when all records are in them, each record says which are its own.
func TestFindInOutputsOfValues(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	b.Publish(map[string]string{
		"routes/groups.yaml": "route: groups\nlisten: {folder: \"{stations}/groups\"}\nread: {format: csv}\ncheck: {schema: schemas/g.json}\nmap: maps/g.map\ndeliver:\n  name: \"{pool}.csv\"\n  one file per: \"{pool}\"\n  to:\n    - folder: \"{laboratory}/pools\"\n    - folder: \"{laboratory}/counted\"\n      when: kg > 5\n      name: \"{pool}-{part.records}.csv\"\nrejected: {folder: \"{stations}/rejected\"}\n",
		"schemas/g.json":     `{"fields": [{"name": "tag"}, {"name": "pool"}, {"name": "kg", "type": "number"}]}`,
		"maps/g.map":         "map g\nsource csv schemas/g.json\ntarget csv based on samples/g.csv\n\ntag = tag\npool = pool\nkg = kg\nskip when kg = 0 because \"it was not weighed\"\n",
		"samples/g.csv":      "tag,pool,kg\n",
	})
	for _, name := range []string{"one", "two"} {
		b.Drop("stations/groups", name+".csv", strings.ReplaceAll("tag,pool,kg\nX-1,north,0\nX-2,north,1\nX-3,south,7\nX-4,north,9\nX-5,south,2\nX-6,north,8\n", "X", name))
		b.Ended(name+".csv", 0)
	}
	for text, want := range map[string]string{
		"one-1": "", "one-2": "pools/north.csv", "one-3": "pools/south.csv counted/south-1.csv", "one-4": "pools/north.csv counted/north-2.csv", "one-5": "pools/south.csv", "one-6": "pools/north.csv counted/north-2.csv",
		"two-1": "", "two-2": "pools/north-2.csv", "two-3": "pools/south-2.csv counted/south-1-2.csv", "two-4": "pools/north-2.csv counted/north-2-2.csv", "two-5": "pools/south-2.csv", "two-6": "pools/north-2.csv counted/north-2-2.csv",
	} {
		answer, err := b.Client.Find(context.Background(), url.Values{"text": {text}})
		if err != nil || len(answer.Items) != 1 {
			t.Fatalf("%s: %+v %v", text, answer, err)
		}
		if got := strings.ReplaceAll(below(b, answer.Items[0].WentInto, " "), "laboratory/", ""); got != want {
			t.Errorf("%s went into %s, want %s", text, got, want)
		}
		for _, file := range answer.Items[0].WentInto {
			if content := b.Read(below(b, []string{file}, "")); !strings.Contains(content, text+",") {
				t.Errorf("%s is not in %s: %s", text, file, content)
			}
		}
	}
}
