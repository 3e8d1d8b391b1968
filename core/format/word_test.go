package format

import (
	"strconv"
	"testing"
)

// TestWord: what a map takes without quotes stands without them; all else in quotes.
func TestWord(t *testing.T) {
	for _, name := range []string{"tag", "Tag_2", "full-name", "animal.born", "PID-3.1", "PID-3[2].1", "OBX(3=WBC)-5", "NAD(BY)-2.1", "PO1[2]-4", "_x"} {
		if got := Word(name); got != name {
			t.Errorf("%s became %s", name, got)
		}
	}
	for _, name := range []string{"", "Tag no.", "a=b", "x(y", "a--b", "a-", ".a", "2nd", "a/b", "kg (net)", "when", "é", "a\"b", "[1]"} {
		if got := Word(name); got != strconv.Quote(name) {
			t.Errorf("%s became %s", name, got)
		}
	}
}
