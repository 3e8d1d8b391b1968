package run

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ydrion/files"
	"ydrion/store"
)

// TestOvertaken: an output gives way to a later one that is there, comes out before one that is still on its way, and waits where nobody knows.
func TestOvertaken(t *testing.T) {
	there := filepath.Join(t.TempDir(), "there")
	if err := os.WriteFile(there, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	c := &Conductor{fs: files.Real{}}
	d := &store.Delivery{Run: 3, Ord: 2, Name: "ansel.csv"}
	for says, l := range map[string]store.Later{
		"gives way":    {State: "published"},
		"gives way, 2": {State: "published", Temporary: there + "-not", Named: true},
		"comes out":    {State: "open", Temporary: there},
		"waits":        {State: "open", Temporary: there + "-not"}, // it was published, and that is not recorded
		"waits, 2":     {State: "open", Temporary: there, Named: true},
		"waits, 3":     {State: "uncertain", Temporary: there},
	} {
		l.Run, l.Ord, l.Pickup, l.File = 3, 2, 12, "second.csv"
		by, err := c.overtaker(overtaken{outputOf{3, 2}: l}, d)
		got := "comes out"
		switch {
		case err != nil && by == nil && strings.Contains(err.Error(), "ansel.csv waits for that of pickup 12 (second.csv)"):
			got = "waits"
		case by != nil:
			got = "gives way"
		}
		if want, _, _ := strings.Cut(says, ","); got != want {
			t.Errorf("%s: %s, %v", says, got, err)
		}
		if by, err := c.overtaker(overtaken{outputOf{3, 1}: l}, d); by != nil || err != nil {
			t.Errorf("of another output: %v %v", by, err)
		}
	}
}
