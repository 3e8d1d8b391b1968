package text

import (
	"archive/zip"
	"bytes"
	"fmt"
	"io"
	"strings"
	"testing"
)

// TestMembers: the members of an archive are listed, and one is read.
func TestMembers(t *testing.T) {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, name := range []string{"monday.csv", "week/", "week/tuesday.csv"} {
		w, err := z.Create(name)
		if err != nil {
			t.Fatal(err)
		}
		if !strings.HasSuffix(name, "/") {
			fmt.Fprintf(w, "id\n%s\n", name)
		}
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	at, size := bytes.NewReader(b.Bytes()), int64(b.Len())
	list, ok := Members(at, size)
	if !ok || len(list) != 2 || list[1].Name != "week/tuesday.csv" {
		t.Fatalf("%v", list)
	}
	in, _, err := OpenMember(at, size, "week/tuesday.csv")
	if err != nil {
		t.Fatal(err)
	}
	if got, err := io.ReadAll(in); err != nil || string(got) != "id\nweek/tuesday.csv\n" {
		t.Errorf("%q %v", got, err)
	}
	for name, says := range map[string]string{"": "name one of monday.csv, week/tuesday.csv", "x": `no member "x"`} {
		if _, _, err := OpenMember(at, size, name); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v", name, err)
		}
	}
	if _, ok := Members(strings.NewReader("PK\x03\x04"), 4); ok {
		t.Error("four bytes were taken for an archive")
	}
}

// TestOddMembers: members that are encrypted, have no name, or have that of another are not
// guessed at.
func TestOddMembers(t *testing.T) {
	for says, headers := range map[string][]*zip.FileHeader{
		`"a.csv" is encrypted`:     {{Name: "a.csv", Flags: 1}},
		`2 members called "a.csv"`: {{Name: "a.csv"}, {Name: "a.csv"}},
		"has no name":              {{Name: ""}},
		"has no members":           {},
	} {
		var b bytes.Buffer
		z := zip.NewWriter(&b)
		for _, h := range headers {
			w, err := z.CreateRaw(h)
			if err != nil {
				t.Fatal(err)
			}
			fmt.Fprint(w, "")
		}
		if err := z.Close(); err != nil {
			t.Fatal(err)
		}
		for _, name := range []string{"", "a.csv"} {
			if name != "" && (len(headers) == 0 || headers[0].Name == "") || name == "" && len(headers) > 1 {
				continue
			}
			if _, _, err := OpenMember(bytes.NewReader(b.Bytes()), int64(b.Len()), name); err == nil || !strings.Contains(err.Error(), says) {
				t.Errorf("%q: %v, not %q", name, err, says)
			}
		}
	}
}
