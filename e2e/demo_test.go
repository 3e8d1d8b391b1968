package e2e

import (
	"strings"
	"testing"

	"ydrion/cli"
	"ydrion/testbed"
)

// TestDemoOnce runs what `make demo ONCE=1` runs, twice: it goes on where it
// was, and everything is as it expects.
func TestDemoOnce(t *testing.T) {
	t.Parallel()
	folder, database := t.TempDir(), testbed.EmptyDatabase(t)
	for n, first := range []string{"pickup 1    ansel-point-2026-11-23.csv", "pickup 26   ansel-point-2026-11-23.csv"} {
		var out, errOut strings.Builder
		code := cli.Main([]string{"demo", "--once", "--folder", folder, "--listen", "127.0.0.1:0", "--database-url", database}, &out, &errOut)
		said := out.String()
		if code != 0 || strings.Count(said, "as expected") != 26 || !strings.Contains(said, first) || !strings.Contains(said, "/#token=") || !strings.Contains(said, "laboratory/results") {
			t.Errorf("round %d: exit code %d\n%s%s", n+1, code, said, errOut.String())
		}
	}
}
