package e2e

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"ydrion/files"
	"ydrion/testbed"
	"ydrion/wire"
)

// overHolm is the demo's route for orders: sheets come from the partner's server, orders go there and into a folder, and
// what is rejected goes there.
func overHolm(t *testing.T) map[string]string {
	t.Helper()
	out := fromHolm(t, "")
	r := out["routes/specimen-orders.yaml"]
	from, to := strings.Index(r, "deliver:"), strings.Index(r, "rejected:\n")
	rest := r[to+len("rejected:\n"):]
	for strings.HasPrefix(rest, " ") {
		_, rest, _ = strings.Cut(rest, "\n")
	}
	if from < 0 || to < from {
		t.Fatal("the demo's route has changed; this test must follow")
	}
	out["routes/specimen-orders.yaml"] = r[:from] + "deliver:\n  name: \"{file.stem}.hl7\"\n  to:\n    - place: holm/in\n    - folder: \"{laboratory}/orders\"\nrejected: {place: holm/rejected}\n" + rest
	return out
}

// sheetOverHolm is a sheet with two good records and a wrong one.
func sheetOverHolm() string {
	return heading + row(1) + strings.Replace(row(2), "36.5", "n/a", 1) + row(3)
}

// holmOracle asks whether a sheet has come from the partner's server, and gone there, exactly once.
func holmOracle(t *testing.T, b *testbed.Bed, holm *partner, stem string) {
	t.Helper()
	testbed.Until(t, stem+" has ended", func() bool {
		page, err := b.Client.Pickups(context.Background(), url.Values{"name": {stem + ".csv"}})
		if err != nil {
			t.Fatal(err)
		}
		items := slices.DeleteFunc(page.Items, func(p wire.Pickup) bool { return p.State == "withdrawn" })
		if len(items) > 1 {
			t.Fatalf("taken more than once: %+v", items)
		}
		if len(items) == 1 && items[0].State == "uncertain" {
			t.Fatalf("%+v", items[0])
		}
		return len(items) == 1 && items[0].EndedAt != nil && items[0].Good == 2 && items[0].Rejected == 1
	})
	own := func(all []string) (out []string) {
		for _, n := range all {
			if strings.HasPrefix(n, stem+".") || strings.HasPrefix(n, stem+"-") {
				out = append(out, n)
			}
		}
		return out
	}
	for where, got := range map[string][]string{"there": own(strings.Fields(holm.list("in"))), "here": own(b.List("laboratory/orders"))} {
		if len(got) != 1 || got[0] != stem+".hl7" {
			t.Errorf("%s: %v", where, got)
		}
	}
	if there, here := holm.read(t, "in/"+stem+".hl7"), b.Read("laboratory/orders", stem+".hl7"); there != here || strings.Count(there, "MSH|") != 2 {
		t.Errorf("there %q, here %q", there, here)
	}
	if got := own(strings.Fields(holm.list("rejected"))); len(got) != 3 {
		t.Errorf("rejected: %v", got)
	}
	testbed.Until(t, "nothing is left", func() bool {
		left := holm.hidden(t)
		for _, folder := range []string{"archive/spool", "archive/fetched"} {
			if err := filepath.WalkDir(b.Path(folder), func(path string, d os.DirEntry, err error) error {
				if err == nil && !d.IsDir() {
					left = append(left, path)
				}
				return err
			}); err != nil && !os.IsNotExist(err) {
				t.Fatal(err)
			}
		}
		return len(left) == 0 && holm.list("out") == ""
	})
}

// TestCutFromServer breaks the connection to a partner's server off at each thing that is asked of it, before it is done
// and after: what comes from there and goes there does so once.
func TestCutFromServer(t *testing.T) {
	for kind, last := range map[string]int64{"sftp": 32, "ftp": 45, "webdav": 60, "s3": 32} {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			cutFrom(t, partnerOf(t, kind), last)
		})
	}
}

// cutFrom breaks the connection off at up to so many of the things that are asked.
func cutFrom(t *testing.T, holm *partner, last int64) {
	if err := os.MkdirAll(filepath.Join(holm.folder, "out"), 0o755); err != nil {
		t.Fatal(err)
	}
	b := testbed.Start(t, holm.at())
	b.Publish(overHolm(t))
	step := last / 2 // beginning anywhere: a while of runs tells of all of them
	if testing.Short() {
		step = last
	}
	if soak {
		step = 1
	}
	cuts := 0
	for k := 1 + time.Now().UnixNano()%step; ; k += step {
		for _, after := range []bool{false, true} {
			stem := fmt.Sprintf("sheet-%d-%v", k, after)
			holm.CutAt(k, after)
			if holm.objects != nil {
				holm.drop(t, "out/"+stem+".csv", sheetOverHolm())
			} else {
				holm.drop(t, "out/.arriving", sheetOverHolm())
				if err := os.Rename(filepath.Join(holm.folder, "out/.arriving"), filepath.Join(holm.folder, "out", stem+".csv")); err != nil {
					t.Fatal(err)
				}
			}
			holmOracle(t, b, holm, stem)
			cuts++
		}
		if k > last {
			break
		}
	}
	t.Logf("%d cuts", cuts)
}

// TestCrashOverServer crashes a service that works with a partner's server at calls of its file system, and at exchanges
// with its database, and lets another go on.
func TestCrashOverServer(t *testing.T) {
	t.Parallel()
	step := int64(30)
	if testing.Short() {
		step = 25
	}
	if soak {
		step = 1
	}
	die := func(name string, fsys files.FS, database, after string, arm func(), dead func() bool) (reached bool) {
		t.Run(name, func(t *testing.T) {
			holm := sftpPartner(t, t.TempDir(), "127.0.0.1:0")
			data := t.TempDir()
			b := testbed.Start(t, testbed.On(fsys), testbed.In(data, database), holm.at())
			if err := os.MkdirAll(filepath.Join(holm.folder, "out"), 0o755); err != nil {
				t.Fatal(err)
			}
			b.Publish(overHolm(t))
			arm()
			holm.drop(t, "out/sheet.csv", sheetOverHolm())
			testbed.Until(t, "it crashes or ends", func() bool {
				if dead() {
					return true
				}
				page, err := b.Client.Pickups(context.Background(), url.Values{})
				return err == nil && len(page.Items) == 1 && page.Items[0].EndedAt != nil && holm.list("out") == "" && len(holm.hidden(t)) == 0
			})
			reached = dead()
			time.Sleep(50 * time.Millisecond) // what it still does then
			if err := b.End(); err != nil && database == after {
				t.Fatal(err)
			}
			holmOracle(t, testbed.Start(t, testbed.In(data, after), holm.at()), holm, "sheet")
		})
		return reached
	}
	for k := 1 + time.Now().UnixNano()%step; ; k += step {
		database := testbed.Database(t)
		var first, last atomic.Int64 // the last call that goes well
		first.Store(math.MaxInt64)
		last.Store(math.MaxInt64)
		broken := &files.Faulty{FS: files.Real{}, Fail: func(call int64, _, _ string) error {
			if call > last.Load() {
				return errCrash
			}
			return nil
		}}
		if !die(fmt.Sprintf("call %d", k), broken, database, database, func() { first.Store(broken.Calls.Load() + k); last.Store(first.Load() - 1) }, func() bool { return broken.Calls.Load() >= first.Load() }) || k > 150 {
			break
		}
	}
	for k := 1 + int(time.Now().UnixNano()%step); k < 40; k += int(step) {
		for _, after := range []bool{false, true} {
			database := testbed.Database(t)
			proxy := testbed.NewProxy(t, database)
			dead := &files.Faulty{FS: files.Real{}, Fail: func(int64, string, string) error {
				if proxy.Reached() {
					return errCrash
				}
				return nil
			}}
			die(fmt.Sprintf("exchange %d after %v", k, after), dead, proxy.URL, database, func() { proxy.DieAt(k, after) }, proxy.Reached)
		}
	}
}

// TestPouncedOnServer: a reader takes files from the server as soon as they are there. Whatever answer is lost, each comes once; of
// those of which nobody can tell, a person is asked.
func TestPouncedOnServer(t *testing.T) {
	t.Parallel()
	holm := sftpPartner(t, t.TempDir(), "127.0.0.1:0")
	b := testbed.Start(t, holm.at())
	b.Publish(delivering(t, strings.Replace(toHolm, "{specimen_id}.hl7", "{file.stem}-{specimen_id}.hl7", 1)))
	stop := make(chan struct{})
	got := map[string]int{}
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		for {
			for _, folder := range []string{"in"} {
				if err := filepath.WalkDir(filepath.Join(holm.folder, folder), func(path string, d os.DirEntry, err error) error {
					if err == nil && !d.IsDir() && !strings.HasPrefix(d.Name(), ".") && os.Remove(path) == nil {
						got[d.Name()]++
					}
					return nil
				}); err != nil {
					return
				}
			}
			select {
			case <-stop:
				return
			case <-time.After(time.Millisecond):
			}
		}
	}()
	uncertain := 0
	for k := int64(1); k <= 8; k++ {
		stem := fmt.Sprintf("s%d", k)
		holm.CutAt(k, true)
		b.Drop("stations/inbox", stem+".csv", heading+row(1)+row(2))
		var p wire.Pickup
		testbed.Until(t, stem+" has ended", func() bool {
			p = byName(t, b)[stem+".csv"]
			return p.EndedAt != nil || p.State == "uncertain"
		})
		if p.State == "uncertain" {
			uncertain++
			if code, said := command(b, "decide", fmt.Sprint(p.ID), "arrived"); code != 0 {
				t.Fatal(said)
			}
			b.Ended(stem+".csv", 0)
		}
	}
	close(stop)
	<-ended
	t.Logf("%d of 8 uncertain", uncertain)
	if len(got) != 16 {
		t.Errorf("%d files came: %v", len(got), got)
	}
	for name, n := range got {
		if n != 1 {
			t.Errorf("%s came %d times", name, n)
		}
	}
	// The answers to the two renames of a pickup are lost in two of the cuts.
	if uncertain < 1 || uncertain > 3 {
		t.Errorf("%d were uncertain", uncertain)
	}
}

// TestKilledOverServer kills one of two real services in turn while sheets come to a partner's server, from which they are fetched, and
// their orders go back there. Every record comes out exactly once, and nothing of ours is left there.
func TestKilledOverServer(t *testing.T) {
	t.Parallel()
	kills := 3
	switch {
	case testing.Short():
		kills = 2
	case soak:
		kills = 50
	}
	holm := sftpPartner(t, t.TempDir(), "127.0.0.1:0")
	out := filepath.Join(holm.folder, "out")
	if err := os.MkdirAll(out, 0o755); err != nil {
		t.Fatal(err)
	}
	path, data, database := program(t), t.TempDir(), testbed.Database(t)
	environment := filepath.Join(data, "environment.yaml")
	if err := os.WriteFile(environment, []byte(fmt.Sprintf("environment: demo\nplaces:\n  stations: stations\n  laboratory: laboratory\n  suppliers: suppliers\n  letterbox: letterbox\n  analyser: analyser\n  vault: vault\n  holm:\n    address: sftp://%s\n    user: ydrion\n    password file: %s\n    host key: %q\n", holm.place.Address.Host, holm.place.Password.File, holm.place.HostKeys[0])), 0o600); err != nil {
		t.Fatal(err)
	}
	start := func() *exec.Cmd { return serveAs(t, 0, path, data, database, "--environment", environment) }
	nodes := []*exec.Cmd{start(), nil}
	client := clientOf(t, data)
	route := fromHolm(t, "")
	r := route["routes/specimen-orders.yaml"]
	from, to := strings.Index(r, "deliver:"), strings.Index(r, "rejected:\n")
	route["routes/specimen-orders.yaml"] = r[:from] + "deliver: {place: holm/in, name: \"{file.stem}.hl7\"}\n" + r[to:]
	beginWith(t, client, route, "specimen-orders")
	nodes[1] = start()
	clientOf(t, data)
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	dice := rand.New(rand.NewPCG(seed, 3))
	total := 0
	for n := range kills {
		for range 15 {
			drop(t, out, fmt.Sprintf("sheet-%05d.csv", total), heading+row(2*total)+row(2*total+1))
			total++
		}
		time.Sleep(time.Duration(dice.IntN(1500)) * time.Millisecond)
		k := n % 2
		if err := nodes[k].Process.Kill(); err != nil {
			t.Fatal(err)
		}
		nodes[k].Wait() //nolint: it was killed
		nodes[k] = start()
		client = clientOf(t, data)
	}
	testbed.Until(t, "everything has come out", func() bool { return len(strings.Fields(holm.list("in"))) >= total })
	testbed.Until(t, "everything has ended", func() bool {
		page, err := client.Pickups(context.Background(), url.Values{"limit": {"500"}, "state": {"claimed,taken,committed,held,uncertain"}})
		return err == nil && len(page.Items) == 0 && holm.list("out") == "" && len(holm.hidden(t)) == 0
	})
	p := &pouncer{t, filepath.Join(holm.folder, "in"), map[string]int{}}
	p.pounce()
	p.once(2 * total)
	t.Logf("%d kills, %d files", kills, total)
}
