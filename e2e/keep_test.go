package e2e

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ydrion/testbed"
)

// originals counts the files in the archive.
func originals(b *testbed.Bed) int {
	b.T.Helper()
	n := 0
	err := filepath.WalkDir(b.Path("archive"), func(_ string, d os.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() {
			n++
		}
		return err
	})
	if err != nil && !os.IsNotExist(err) {
		b.T.Fatal(err)
	}
	return n
}

// TestPurge removes what a route need not keep; asked first, never what is under
// a legal hold or what another route still keeps.
func TestPurge(t *testing.T) {
	b := testbed.Start(t)
	changes := inOneFile(t)
	changes["routes/specimen-orders.yaml"] += "keep:\n  originals: 0d\n  rejects: 0d\n  records: 0d\n"
	b.Publish(changes)
	bad := heading + row(1) + strings.Replace(row(2), "36.5", "x", 1)
	b.Drop("stations/inbox", "a.csv", bad)
	b.Ended("a.csv", 0)
	b.Drop("stations/inbox", "b.csv", sheet(5))
	b.Ended("b.csv", 0)
	// Another route keeps the same content.
	if _, err := b.Client.Hand(context.Background(), "dunmarra-orders", "c.csv", strings.NewReader(bad)); err != nil {
		t.Fatal(err)
	}
	b.Ended("c.csv", 0)
	if code, said := command(b, "legal-hold", "place", "--pickup", "2", "--because", "inquiry"); code != 0 || !strings.Contains(said, "legal hold 1 is placed on pickup 2") {
		t.Errorf("exit code %d: %s", code, said)
	}
	code, said := command(b, "purge", "specimen-orders")
	if code != 0 || !strings.Contains(said, "1 original (") || !strings.Contains(said, "1 rejected record, 1 pickup would be removed; say --yes to do it") || !strings.Contains(said, "1 pickup under a legal hold stay") || originals(b) != 2 {
		t.Errorf("exit code %d: %s", code, said)
	}
	code, said = command(b, "purge", "specimen-orders", "--yes")
	if code != 0 || !strings.Contains(said, "specimen-orders: 0 originals (0 bytes), 1 rejected record, 1 pickup removed") || originals(b) != 2 {
		t.Errorf("exit code %d: %s; %d originals", code, said, originals(b))
	}
	if got := states(b); got != "b.csv=delivered c.csv=delivered" {
		t.Errorf("left: %s", got)
	}
	if code, said := command(b, "again", "3", "--yes"); code != 0 {
		t.Errorf("what the other route keeps cannot be run again: %d %s", code, said)
	}
	testbed.Until(t, "it has ended", func() bool { return newest(b).State == "delivered" })
	if code, said := command(b, "legal-hold", "lift", "1"); code != 0 {
		t.Errorf("exit code %d: %s", code, said)
	}
	if code, said := command(b, "legal-hold", "list"); code != 0 || !strings.Contains(said, "lifted") || !strings.Contains(said, "inquiry") {
		t.Errorf("exit code %d: %s", code, said)
	}
	if code, said := command(b, "purge", "specimen-orders", "--yes"); code != 0 || !strings.Contains(said, "1 original (") || originals(b) != 1 {
		t.Errorf("exit code %d: %s; %d originals", code, said, originals(b))
	}
}

// TestBackPressure: while deliveries stall, new files stay in the inbox with the
// reason; when they go on again, all comes out, once.
func TestBackPressure(t *testing.T) {
	t.Parallel()
	fsys := &broken{}
	b := testbed.Start(t, testbed.On(fsys))
	b.Publish(inOneFile(t))
	fsys.folder.Store("orders")
	const total = 1000
	for n := range total {
		b.Drop("stations/inbox", fmt.Sprintf("sheet-%03d.csv", n), sheet(n))
	}
	testbed.Until(t, "new files wait", func() bool {
		s, err := b.Client.Route(context.Background(), "specimen-orders")
		if err != nil {
			t.Fatal(err)
		}
		for _, w := range s.WaitingFiles {
			if strings.Contains(w.Reason, "pickups of the route cannot go on and are tried again") {
				return true
			}
		}
		return false
	})
	// Another route does not mind.
	b.Drop("stations/weights", "weights-2026-11-25.csv", testbed.Demo(t, "weights-2026-11-25.csv"))
	b.Ended("weights-2026-11-25.csv", 0)
	if left := len(b.List("stations/inbox")); left == 0 {
		t.Error("everything was taken although nothing can be delivered")
	}
	fsys.folder.Store("")
	testbed.Until(t, "all have come out", func() bool { return len(b.List("laboratory/orders")) == total })
	for id, n := range specimens(b) {
		if n != 1 {
			t.Errorf("%s came out %d times", id, n)
		}
	}
}
