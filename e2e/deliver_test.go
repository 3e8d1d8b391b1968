package e2e

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"

	"ydrion/files"
	"ydrion/testbed"
)

// delivering replaces where good records go.
func delivering(t *testing.T, good string) map[string]string {
	t.Helper()
	w := testbed.Workspace(t)
	r := string(w.Files["routes/specimen-orders.yaml"])
	from, to := strings.Index(r, "deliver:\n"), strings.Index(r, "rejected:\n")
	if from < 0 || to < from {
		t.Fatal("the demo's route has changed; this test must follow")
	}
	return map[string]string{"routes/specimen-orders.yaml": r[:from] + good + r[to:]}
}

func TestSeveralDestinations(t *testing.T) {
	b := testbed.Start(t)
	b.Publish(delivering(t, `deliver:
  name: "{specimen_id}.hl7"
  one file per: record
  to:
    - folder: "{laboratory}/orders"
    - folder: "{laboratory}/by-station"
      name: "{station}/{species}/{specimen_id}.hl7"
      permissions: "0640"
    - folder: "{laboratory}/heavy"
      when: weight_kg > 100
      name: "{sequence}.hl7"
`))
	heavy := strings.Replace(row(2), "36.5", "120.5", 1)
	b.Drop("stations/inbox", "a.csv", heading+row(1)+heavy+strings.Replace(row(3), "36.5", "x", 1))
	p := b.Ended("a.csv", 0)
	if p.In != 3 || p.Good != 2 || p.Rejected != 1 {
		t.Errorf("%+v", p)
	}
	for folder, want := range map[string]string{"laboratory/orders": "AP-000001.hl7 AP-000002.hl7", "laboratory/by-station/Ansel Point/GS": "AP-000001.hl7 AP-000002.hl7", "laboratory/heavy": "2.hl7"} {
		if got := strings.Join(b.List(folder), " "); got != want {
			t.Errorf("%s holds %s, want %s", folder, got, want)
		}
	}
	if info, err := os.Stat(b.Path("laboratory/by-station/Ansel Point/GS/AP-000001.hl7")); err != nil || info.Mode().Perm() != 0o640 {
		t.Errorf("%v %v", info.Mode(), err)
	}
	code, said := command(b, "pickup", "1")
	if code != 0 || !strings.Contains(said, "laboratory/heavy/2.hl7") {
		t.Errorf("exit code %d: %s", code, said)
	}
	if code, said := command(b, "route", "specimen-orders"); code != 0 || !strings.Contains(said, "When weight_kg > 100; named {sequence}.hl7") && !strings.Contains(said, "laboratory/heavy: when weight_kg > 100") {
		t.Errorf("exit code %d: %s", code, said)
	}
}

// TestOtherwise: what no other destination takes goes to the one that takes that; records and files.
func TestOtherwise(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	publish := delivering(t, `deliver:
  name: "{specimen_id}.hl7"
  one file per: record
  to:
    - folder: "{laboratory}/rest"
      when: otherwise
    - folder: "{laboratory}/heavy"
      when: weight_kg > 100
    - folder: "{laboratory}/odd"
      when: specimen_id = "AP-000002"
`)
	publish["routes/any.yaml"] = `route: any
listen: {folder: "{stations}/any", names: "*"}
read: {format: file}
deliver:
  name: "{file.name}"
  to:
    - {folder: "{laboratory}/small", when: file.size < 3}
    - {folder: "{laboratory}/large", when: otherwise}
rejected: {folder: "{stations}/rejected"}
`
	b.Publish(publish)
	b.Drop("stations/inbox", "a.csv", heading+row(1)+strings.Replace(row(2), "36.5", "120.5", 1)+row(3)+strings.Replace(row(4), "36.5", "130", 1))
	if p := b.Ended("a.csv", 0); p.Good != 4 {
		t.Errorf("%+v", p)
	}
	b.Drop("stations/any", "s", "12")
	b.Drop("stations/any", "l", "123")
	b.Ended("s", 0)
	b.Ended("l", 0)
	for folder, want := range map[string]string{"rest": "AP-000001.hl7 AP-000003.hl7", "heavy": "AP-000002.hl7 AP-000004.hl7", "odd": "AP-000002.hl7", "small": "s", "large": "l"} {
		if got := strings.Join(b.List("laboratory/"+folder), " "); got != want {
			t.Errorf("%s holds %s, not %s", folder, got, want)
		}
	}
	if _, said := command(b, "route", "specimen-orders"); !strings.Contains(said, "laboratory/rest: what no other takes; a name that is taken") {
		t.Error(said)
	}
}

// TestNowhereToGo: a record that no destination takes is rejected, never
// dropped.
func TestNowhereToGo(t *testing.T) {
	b := testbed.Start(t)
	b.Publish(delivering(t, `deliver:
  name: "{specimen_id}.hl7"
  one file per: record
  to:
    - folder: "{laboratory}/heavy"
      when: weight_kg > 100
`))
	b.Drop("stations/inbox", "a.csv", heading+row(1)+strings.Replace(row(2), "36.5", "120.5", 1))
	if p := b.Ended("a.csv", 0); p.Good != 1 || p.Rejected != 1 {
		t.Errorf("%+v", p)
	}
	if said := b.Read("stations/rejected/a.rejected-1.findings.txt"); !strings.Contains(said, "none of the route's destinations takes it") {
		t.Errorf("the sender is told %s", said)
	}
}

// broken is a file system on which nothing can be published in some folder.
type broken struct {
	files.Real
	folder atomic.Value
}

func (f *broken) Move(from, to string) error {
	if folder, _ := f.folder.Load().(string); folder != "" && filepath.Base(filepath.Dir(to)) == folder {
		return &os.LinkError{Op: "move", Old: from, New: to, Err: syscall.EROFS}
	}
	return f.Real.Move(from, to)
}

// TestOneDestinationIsStuck: the others get theirs, other routes go on, it is
// tried again, and nothing comes twice.
func TestOneDestinationIsStuck(t *testing.T) {
	t.Parallel()
	fsys := &broken{}
	b := testbed.Start(t, testbed.On(fsys))
	b.Publish(delivering(t, `deliver:
  name: "{file.stem}.hl7"
  one file per: pickup
  to:
    - folder: "{laboratory}/copies"
    - folder: "{laboratory}/orders"
`))
	fsys.folder.Store("copies")
	b.Drop("stations/inbox", "a.csv", sheet(1))
	until(b, "a.csv=held")
	if got := b.List("laboratory/orders"); len(got) != 1 {
		t.Errorf("the other destination has %v", got)
	}
	b.Drop("stations/weights", "weights-2026-11-25.csv", testbed.Demo(t, "weights-2026-11-25.csv"))
	b.Ended("weights-2026-11-25.csv", 0)
	b.Drop("stations/inbox", "b.csv", sheet(2))
	testbed.Until(t, "it is tried again in vain", func() bool {
		code, said := command(b, "pickups", "--json", "--state", "held")
		return code == 0 && strings.Contains(said, `"tries": 2`) && strings.Contains(said, "read-only file system")
	})
	testbed.Until(t, "people are told", func() bool {
		_, said := command(b, "alerts")
		return strings.Contains(said, "stuck") && strings.Contains(said, "cannot go on: publishing a.hl7")
	})
	if err := os.Remove(b.Path("laboratory/orders/a.hl7")); err != nil { // the reader takes it away
		t.Fatal(err)
	}
	fsys.folder.Store("")
	testbed.Until(t, "both have ended", func() bool { return strings.Count(states(b), "delivered") == 3 })
	if copies, orders := b.List("laboratory/copies"), b.List("laboratory/orders"); len(copies) != 2 || len(orders) != 1 {
		t.Errorf("delivered %v and %v", copies, orders)
	}
	testbed.Until(t, "the alert is over", func() bool {
		_, said := command(b, "alerts")
		return !strings.Contains(said, "stuck")
	})
}

// TestGivenUpForAPerson: after the route's limit nothing is tried by itself any
// more.
func TestGivenUpForAPerson(t *testing.T) {
	fsys := &broken{}
	b := testbed.Start(t, testbed.On(fsys))
	changes := inOneFile(t)
	changes["routes/specimen-orders.yaml"] += "retry:\n  for: 1s\n"
	b.Publish(changes)
	fsys.folder.Store("orders")
	b.Drop("stations/inbox", "a.csv", sheet(1))
	testbed.Until(t, "it waits for a person", func() bool {
		p, err := b.Client.Pickup(context.Background(), 1)
		return err == nil && p.State == "held" && p.NextTry == nil
	})
	fsys.folder.Store("")
	if code, said := command(b, "decide", "1", "try"); code != 0 {
		t.Errorf("exit code %d: %s", code, said)
	}
	until(b, "a.csv=delivered")
}

func TestReplacing(t *testing.T) {
	b := testbed.Start(t)
	for _, test := range []struct{ taken, state, want string }{
		{"replace", "delivered", "now.hl7=AP-000002"},
		{"replace and keep", "delivered", "now.former-R.hl7=AP-000002 now.hl7=AP-000003"},
		{"hold", "held", "now.former-R.hl7=AP-000002 now.hl7=AP-000003"},
	} {
		b.Publish(delivering(t, fmt.Sprintf("deliver:\n  folder: \"{laboratory}/orders\"\n  name: now.hl7\n  name taken: %s\n\n", test.taken)))
		if test.taken == "replace" {
			b.Drop("stations/inbox", "a.csv", sheet(1))
			b.Ended("a.csv", 0)
			b.Drop("stations/inbox", "b.csv", sheet(2))
			b.Ended("b.csv", 0)
		} else {
			n := 3
			if test.taken == "hold" {
				n = 4
			}
			b.Drop("stations/inbox", test.taken+".csv", sheet(n))
		}
		last := map[string]string{"replace": "b.csv"}[test.taken]
		if last == "" {
			last = test.taken + ".csv"
		}
		testbed.Until(t, "it has ended or is held", func() bool { p := newest(b); return p.Name == last && p.State == test.state })
		var got []string
		for _, name := range b.List("laboratory/orders") {
			for _, line := range strings.Split(b.Read("laboratory/orders", name), "\r") {
				if strings.HasPrefix(line, "ORC|") {
					got = append(got, fmt.Sprintf("%s=%s", name, strings.Split(line, "|")[2]))
				}
			}
		}
		want := strings.Replace(test.want, "former-R", "former-3", 1)
		if strings.Join(got, " ") != want {
			t.Errorf("%s: %v, want %s", test.taken, got, want)
		}
	}
	p := newest(b)
	if !strings.Contains(p.Reason, "there is a file now.hl7 in") || p.NextTry != nil {
		t.Errorf("%+v", p)
	}
	if err := os.Remove(b.Path("laboratory/orders/now.hl7")); err != nil {
		t.Fatal(err)
	}
	if code, said := command(b, "decide", fmt.Sprint(p.ID), "try"); code != 0 {
		t.Errorf("exit code %d: %s", code, said)
	}
	testbed.Until(t, "it has come out", func() bool { return newest(b).State == "delivered" })
}

// vanishing takes the hidden folder of a destination away before something is
// published from it, as a share does that is mounted anew.
type vanishing struct {
	files.Real
	once atomic.Bool
}

func (f *vanishing) Move(from, to string) error {
	if filepath.Base(filepath.Dir(to)) == "orders" && f.once.CompareAndSwap(false, true) {
		if err := os.RemoveAll(filepath.Dir(from)); err != nil {
			return err
		}
	}
	return f.Real.Move(from, to)
}

// TestUncertain: what nobody can tell is not guessed; a person decides, and can
// have the same delivered once more.
func TestUncertain(t *testing.T) {
	b := testbed.Start(t, testbed.On(&vanishing{}))
	b.Publish(inOneFile(t))
	b.Drop("stations/inbox", "a.csv", sheet(1))
	until(b, "a.csv=uncertain")
	testbed.Until(t, "people are told", func() bool {
		_, said := command(b, "alerts")
		return strings.Contains(said, "uncertain") && strings.Contains(said, "nobody can tell whether a.hl7 has arrived")
	})
	if code, said := command(b, "decide", "1", "abandoned"); code != 0 {
		t.Errorf("exit code %d: %s", code, said)
	}
	until(b, "a.csv=delivered")
	if code, said := command(b, "pickup", "1"); code != 0 || !strings.Contains(said, "abandoned") {
		t.Errorf("exit code %d: %s", code, said)
	}
	if code, said := command(b, "again", "1", "--same", "--yes"); code != 0 {
		t.Errorf("exit code %d: %s", code, said)
	}
	testbed.Until(t, "it has come out", func() bool { return len(b.List("laboratory/orders")) == 1 })
}

// TestTheSameAgain: the same identifiers and times for a receiver that has lost
// it; otherwise new ones.
func TestTheSameAgain(t *testing.T) {
	b := testbed.Start(t)
	b.Publish(nil)
	b.Drop("stations/inbox", "a.csv", heading+row(1)+row(2))
	b.Ended("a.csv", 0)
	first := map[string]string{}
	for _, name := range b.List("laboratory/orders") {
		first[name] = b.Read("laboratory/orders", name)
		if err := os.Remove(b.Path("laboratory/orders", name)); err != nil {
			t.Fatal(err)
		}
	}
	if code, said := command(b, "again", "1", "--same", "--yes"); code != 0 {
		t.Errorf("exit code %d: %s", code, said)
	}
	testbed.Until(t, "it has ended", func() bool { return len(b.List("laboratory/orders")) == 2 && newest(b).State == "delivered" })
	for _, name := range b.List("laboratory/orders") {
		if got := b.Read("laboratory/orders", name); got != first[name] {
			t.Errorf("%s holds %q, was %q", name, got, first[name])
		}
	}
	if code, said := command(b, "again", "1", "--yes"); code != 0 {
		t.Errorf("exit code %d: %s", code, said)
	}
	testbed.Until(t, "it has ended", func() bool { return len(b.List("laboratory/orders")) == 4 && newest(b).State == "delivered" })
	if got := strings.Join(b.List("laboratory/orders"), " "); got != "AP-000001-000001.hl7 AP-000001-000003.hl7 AP-000002-000002.hl7 AP-000002-000004.hl7" {
		t.Errorf("anew: %s", got)
	}
}
