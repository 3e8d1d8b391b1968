package e2e

import (
	"fmt"
	"slices"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"

	"ydrion/files"
	"ydrion/service"
	"ydrion/standin"
	"ydrion/testbed"
)

// TestOutputsOfOneName: of outputs that have one name none is lost on a server, whether they are of one run, which brings them on several connections,
// or of files that come at the same time. Where they replace each other, the last one of a run remains.
func TestOutputsOfOneName(t *testing.T) {
	for _, kind := range []string{"sftp", "ftp", "webdav", "s3"} {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			var holm *partner
			if kind == "sftp" {
				holm = sftpPartner(t, t.TempDir(), "127.0.0.1:0")
			} else {
				holm = partnerOf(t, kind)
			}
			b := testbed.Start(t, holm.at())
			route := func(name, taken string) string {
				return "route: " + name + "\nlisten: {folder: \"{stations}/" + name + "\", names: \"*\"}\nread: {format: csv}\ncheck: {schema: schemas/same.json}\nmap: maps/same.map\n" +
					"deliver: {place: holm/" + name + ", name: \"{station}.csv\", one file per: record" + taken + "}\nrejected: {folder: \"{stations}/rejected\"}\n"
			}
			kept := route("kept", ", name taken: replace and keep")
			if kind == "s3" { // which renames nothing: such a route is for a folder here
				kept = strings.Replace(kept, "place: holm/kept", "folder: \"{laboratory}/kept\"", 1)
			}
			b.Publish(map[string]string{
				"routes/all.yaml": route("all", ""), "routes/last.yaml": route("last", ", name taken: replace"), "routes/kept.yaml": kept,
				"schemas/same.json": `{"fields": [{"name": "station"}, {"name": "id"}]}`,
				"maps/same.map":     "map same\nsource csv schemas/same.json\ntarget csv based on samples/same.csv\n\nid = id\n",
				"samples/same.csv":  "id\n",
			})
			sheet := func(from int) string {
				var s strings.Builder
				s.WriteString("station,id\n")
				for i := range 90 {
					fmt.Fprintf(&s, "%s,%d\n", []string{"ansel", "brun", "calder-2", "calder"}[i%4], from+i)
				}
				return s.String()
			}
			var want, got []string
			for k := range 3 {
				b.Drop("stations/all", fmt.Sprintf("%d.csv", k), sheet(k*100))
				for i := range 90 {
					want = append(want, fmt.Sprintf("id\n%d\n", k*100+i))
				}
			}
			b.Drop("stations/last", "last.csv", sheet(0))
			for k := range 3 {
				if p := b.Ended(fmt.Sprintf("%d.csv", k), 0); p.Good != 90 {
					t.Errorf("%+v", p)
				}
			}
			p := b.Ended("last.csv", 0)
			if _, said := command(b, "pickup", fmt.Sprint(p.ID)); !strings.Contains(said, "put a field, {record} or {sequence} into the name") {
				t.Error(said)
			}
			if p.Good != 90 {
				t.Errorf("%+v", p)
			} else if d, err := b.Client.Pickup(t.Context(), p.ID); err != nil || len(d.Runs[0].Findings) != 1 || !strings.Contains(d.Runs[0].Findings[0].Message, "86 outputs of this run were replaced by others of it that have the same name, such as brun.csv") {
				t.Errorf("nothing is said of those that are not there: %+v %v", d, err)
			}
			for _, name := range strings.Fields(holm.list("all")) {
				got = append(got, holm.read(t, "all/"+name))
			}
			slices.Sort(want)
			if slices.Sort(got); !slices.Equal(got, want) {
				t.Errorf("%d outputs are there, of %d", len(got), len(want))
			}
			if list := holm.list("last"); list != "ansel.csv brun.csv calder-2.csv calder.csv" {
				t.Errorf("there are %s", list)
			}
			// What was replaced is kept, also what the same run has made.
			for k := range 3 {
				b.Drop("stations/kept", fmt.Sprintf("kept-%d.csv", k), sheet(k*100))
			}
			for k := range 3 {
				if p := b.Ended(fmt.Sprintf("kept-%d.csv", k), 0); p.Good != 90 {
					t.Errorf("%+v", p)
				}
			}
			got = nil
			if kind == "s3" {
				for _, name := range b.List("laboratory/kept") {
					got = append(got, b.Read("laboratory/kept", name))
				}
			} else {
				for _, name := range strings.Fields(holm.list("kept")) {
					got = append(got, holm.read(t, "kept/"+name))
				}
			}
			if slices.Sort(got); !slices.Equal(got, want) {
				t.Errorf("%d outputs are there that replaced each other, of %d", len(got), len(want))
			}
			for name, id := range map[string]int{"ansel": 88, "brun": 89, "calder-2": 86, "calder": 87} {
				if s := holm.read(t, "last/"+name+".csv"); s != fmt.Sprintf("id\n%d\n", id) {
					t.Errorf("%s has %q", name, s)
				}
			}
		})
	}
}

// replacing is a route whose outputs take each other's place.
func replacing(to string) map[string]string {
	return map[string]string{
		"routes/last.yaml": "route: last\nlisten: {folder: \"{stations}/last\", names: \"*\"}\nread: {format: csv}\ncheck: {schema: schemas/same.json}\nmap: maps/same.map\n" +
			"deliver: {" + to + ", name: \"{station}.csv\", one file per: record, name taken: replace}\nrejected: {folder: \"{stations}/rejected\"}\n",
		"schemas/same.json": `{"fields": [{"name": "station"}, {"name": "id"}]}`,
		"maps/same.map":     "map same\nsource csv schemas/same.json\ntarget csv based on samples/same.csv\n\nid = id\n",
		"samples/same.csv":  "id\n",
	}
}

// TestRefusedAndReplaced: an output that a partner does not take at first does not take the place of a later one of its run when it is tried again.
func TestRefusedAndReplaced(t *testing.T) {
	for _, kind := range []string{"sftp", "ftp", "webdav", "s3"} {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			holm := partnerOf(t, kind)
			b := testbed.Start(t, holm.at())
			b.Publish(replacing("place: holm/last"))
			for k, fault := range []string{standin.Write, standin.Rename} {
				if kind == "s3" && fault == standin.Rename { // which renames nothing
					continue
				}
				sheet := "station,id\n"
				for i := range 6 {
					sheet += fmt.Sprintf("%s,%d\n", []string{"ansel", "brun"}[i%2], k*10+i)
				}
				holm.Misbehave(standin.Fault{On: fault, Do: standin.Refuse, From: 1, Times: 1})
				b.Drop("stations/last", fault+".csv", sheet)
				if p := b.Ended(fault+".csv", 0); p.Good != 6 {
					t.Errorf("%+v", p)
				}
				for i, name := range []string{"ansel", "brun"} {
					if got, want := holm.read(t, "last/"+name+".csv"), fmt.Sprintf("id\n%d\n", k*10+4+i); got != want {
						t.Errorf("after a %s that was refused, %s has %q, want %q", fault, name, got, want)
					}
				}
			}
		})
	}
	t.Run("folder", func(t *testing.T) {
		t.Parallel()
		tried := 0
		broken := &files.Faulty{FS: files.Real{}, Fail: func(_ int64, operation, name string) error {
			if operation == "replace" && strings.Contains(name, "laboratory/last/") {
				if tried++; tried == 3 {
					return syscall.EIO
				}
			}
			return nil
		}}
		b := testbed.Start(t, testbed.On(broken))
		b.Publish(replacing("folder: \"{laboratory}/last\""))
		var sheet strings.Builder
		sheet.WriteString("station,id\n")
		for i := range 1300 { // more than are asked for at once
			fmt.Fprintf(&sheet, "%s,%d\n", []string{"ansel", "brun"}[i%2], i)
		}
		b.Drop("stations/last", "last.csv", sheet.String())
		if p := b.Ended("last.csv", 0); p.Good != 1300 || tried < 1301 {
			t.Errorf("%+v, %d tries", p, tried)
		}
		for i, name := range []string{"ansel", "brun"} {
			if got, want := b.Read("laboratory/last", name+".csv"), fmt.Sprintf("id\n%d\n", 1298+i); got != want {
				t.Errorf("%s has %q, want %q", name, got, want)
			}
		}
	})
	t.Run("http", func(t *testing.T) {
		t.Parallel()
		web, _, _ := takers(t)
		b := testbed.Start(t, withPlaces(webPlace("put", "PUT", web.Address(), 1)))
		tried := 0
		web.Answer(func(int, *standin.Message) string { // the first is not taken at first
			if tried++; tried == 1 {
				return "409"
			}
			return ""
		})
		b.Publish(delivering(t, "deliver: {place: put, name: \"{station}.hl7\", one file per: record}\n"))
		b.Drop("stations/inbox", "put.csv", heading+row(1)+row(2)+row(3))
		if p := b.Ended("put.csv", 0); p.Good != 3 {
			t.Errorf("%+v", p)
		}
		came := ""
		for _, m := range web.Taken() {
			for k := 1; k <= 3; k++ {
				if strings.Contains(string(m.Content), fmt.Sprintf("AP-%06d", k)) {
					came += fmt.Sprint(k)
				}
			}
		}
		if came != "1123" {
			t.Errorf("they came as %q, want the first one again before the others", came)
		}
	})
}

// TestPutUnderOneName: who puts outputs under their names to a partner is told that those of one name took each other's place there.
func TestPutUnderOneName(t *testing.T) {
	t.Parallel()
	web, _, _ := takers(t)
	b := testbed.Start(t, withPlaces(webPlace("put", "PUT", web.Address(), 1), webPlace("post", "POST", web.Address(), 1)))
	for _, how := range []string{"put", "post"} {
		b.Publish(delivering(t, "deliver: {place: "+how+", name: \"{station}.hl7\", one file per: record}\n"))
		b.Drop("stations/inbox", how+".csv", heading+row(1)+row(2)+row(3+len(how)))
		p := b.Ended(how+".csv", 0)
		d, err := b.Client.Pickup(t.Context(), p.ID)
		if err != nil || p.Good != 3 {
			t.Fatalf("%+v %v", p, err)
		}
		said := ""
		for _, f := range d.Runs[0].Findings {
			said += f.Code
		}
		if want := map[string]string{"put": "deliver.replaced", "post": ""}[how]; said != want {
			t.Errorf("%s: %q is said, want %q", how, said, want)
		}
	}
	if n := len(web.Taken()); n != 6 {
		t.Errorf("%d came", n)
	}
}

// TestLaterStays: an output that is late does not take the place of that of a file that came later.
func TestLaterStays(t *testing.T) {
	first, second := "station,id\nansel,1\n", "station,id\nansel,2\n"
	check := func(t *testing.T, b *testbed.Bed, again func(), read func(name string) string, keeps bool) {
		t.Helper()
		b.Drop("stations/last", "first.csv", first)
		testbed.Until(t, "the first could not be delivered", func() (failed bool) {
			b.Ask(&failed, `select exists (select 1 from pickups where name = 'first.csv' and (reason <> '' or run in (select run from deliveries where reason <> '')))`)
			return failed
		})
		again()
		b.Drop("stations/last", "second.csv", second)
		later, earlier := b.Ended("second.csv", 0), b.Ended("first.csv", 0)
		if got := read("ansel.csv"); got != "id\n2\n" {
			t.Errorf("what stays is %q, of the file that came first", got)
		}
		d, err := b.Client.Pickup(t.Context(), earlier.ID)
		if err != nil || len(d.Runs) == 0 || len(d.Runs[0].Deliveries) != 1 {
			t.Fatalf("%+v %v", d, err)
		}
		switch of := d.Runs[0].Deliveries[0]; {
		case keeps:
			if of.State != "published" || !strings.Contains(of.Name, ".former-") || read(of.Name) != "id\n1\n" {
				t.Errorf("the earlier one should be kept: %+v", of)
			}
		case d.Runs[0].Overtaken != 1 || of.State != "overtaken" || !strings.Contains(of.Reason, fmt.Sprintf("pickup %d (second.csv)", later.ID)):
			t.Errorf("the earlier one is %q: %s", of.State, of.Reason)
		}
		// Who asks for the first one again wants it.
		if _, err := b.Client.Again(t.Context(), service.AgainRequest{Pickups: []int64{earlier.ID}}); err != nil {
			t.Fatal(err)
		}
		testbed.Until(t, "the first has been delivered again", func() bool {
			d, err = b.Client.Pickup(t.Context(), earlier.ID)
			return err == nil && len(d.Runs) == 2 && d.Runs[0].State == "published"
		})
		if got := read("ansel.csv"); got != "id\n1\n" {
			t.Errorf("it was asked for again, and %q is there", got)
		}
	}
	t.Run("http", func(t *testing.T) {
		t.Parallel()
		web, _, _ := takers(t)
		b := testbed.Start(t, withPlaces(webPlace("put", "PUT", web.Address(), 2)))
		var works atomic.Bool
		web.Answer(func(int, *standin.Message) string {
			if works.Load() {
				return ""
			}
			return "409"
		})
		w := replacing("place: put")
		w["routes/last.yaml"] = strings.Replace(w["routes/last.yaml"], ", name taken: replace", "", 1)
		b.Publish(w)
		check(t, b, func() { works.Store(true) }, func(string) string { all := web.Taken(); return string(all[len(all)-1].Content) }, false)
	})
	for _, taken := range []string{"replace", "replace and keep"} {
		as := func(to string) map[string]string {
			w := replacing(to)
			w["routes/last.yaml"] = strings.Replace(w["routes/last.yaml"], "name taken: replace", "name taken: "+taken, 1)
			return w
		}
		t.Run("folder/"+taken, func(t *testing.T) {
			t.Parallel()
			var works atomic.Bool
			b := testbed.Start(t, testbed.On(&files.Faulty{FS: files.Real{}, Fail: func(_ int64, operation, name string) error {
				if operation == "replace" && strings.Contains(name, "laboratory/last/") && !works.Load() {
					return syscall.EIO
				}
				return nil
			}}))
			b.Publish(as("folder: \"{laboratory}/last\""))
			check(t, b, func() { works.Store(true) }, func(name string) string { return b.Read("laboratory/last", name) }, taken != "replace")
		})
		for _, kind := range []string{"sftp", "ftp", "webdav", "s3"} {
			if kind == "s3" && taken != "replace" { // which renames nothing
				continue
			}
			t.Run(kind+"/"+taken, func(t *testing.T) {
				t.Parallel()
				holm := partnerOf(t, kind)
				b := testbed.Start(t, holm.at())
				b.Publish(as("place: holm/last"))
				holm.Misbehave(standin.Fault{On: standin.Write, Do: standin.Refuse, From: 1}, standin.Fault{On: standin.Rename, Do: standin.Refuse, From: 1})
				check(t, b, func() { holm.Misbehave() }, func(name string) string { return holm.read(t, "last/"+name) }, taken != "replace")
			})
		}
	}
}
