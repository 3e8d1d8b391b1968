package cli

import (
	"bytes"
	"encoding/json"
	"os"
	"strings"
	"testing"
)

// TestNothingCommandsTheTerminal: whatever names and values hold, and however they are cut into
// writes, no control character but LF and TAB comes out; JSON stays what it was.
func TestNothingCommandsTheTerminal(t *testing.T) {
	text := "a\x1b[31mred\x1b]0;title\x07\r\x9b\u009b2J\u0085\x7f\té\u00a0\n🦭 \xc2"
	var want string
	for _, size := range []int{1, 2, 3, 7, 1000} {
		var b bytes.Buffer
		s := &safe{to: &b}
		for rest := text; rest != ""; {
			n := min(size, len(rest))
			if k, err := s.Write([]byte(rest[:n])); k != n || err != nil {
				t.Fatal(k, err)
			}
			rest = rest[n:]
		}
		if err := s.flush(); err != nil {
			t.Fatal(err)
		}
		if want = "a\\u001b[31mred\\u001b]0;title\\u0007\\u000d\x9b\\u009b2J\\u0085\\u007f\té\u00a0\n🦭 \xc2"; b.String() != want {
			t.Errorf("in pieces of %d: %q, not %q", size, b.String(), want)
		}
	}
	value := map[string]string{"name": "\u009b2J\x7f\x1b[0m é"}
	var b bytes.Buffer
	if err := json.NewEncoder(&safe{to: &b}).Encode(value); err != nil {
		t.Fatal(err)
	}
	var back map[string]string
	if err := json.Unmarshal(b.Bytes(), &back); err != nil || back["name"] != value["name"] || strings.ContainsAny(b.String(), "\x7f\u009b\x1b") {
		t.Errorf("%q became %q: %v", value, b.String(), err)
	}
}

// TestSafeEverywhere: a file whose name and values are commands to a terminal is shown.
func TestSafeEverywhere(t *testing.T) {
	folder := t.TempDir()
	file := folder + "/a\x1b[2J.csv"
	if err := os.WriteFile(file, []byte("id,na\x1bme\n1,\x1b[31m\u009b\n2\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	for _, args := range [][]string{{"look", file}, {"look", file, "--json"}, {"look", file + "x"}, {"check", file}, {"try", "a\x1bb", file}} {
		var out, errOut bytes.Buffer
		Main(args, &out, &errOut)
		if all := out.String() + errOut.String(); strings.ContainsAny(all, "\x1b\u009b\r") || all == "" {
			t.Errorf("%q: %q", args, all)
		}
	}
}
