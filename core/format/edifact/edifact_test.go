package edifact

import (
	"strings"
	"testing"

	"ydrion/core/text"
)

// TestDescriptions reads all that is described and walks through every group of every message.
func TestDescriptions(t *testing.T) {
	for _, wrong := range Directories.Check([]string{"an", "a", "n"}) {
		t.Error(wrong)
	}
	for _, directory := range []string{"D.96A", "D.01B"} {
		for _, name := range []string{"ORDERS", "ORDCHG", "ORDRSP", "DESADV", "RECADV", "INVOIC", "REMADV", "PRICAT", "IFTMIN", "IFTSTA", "CODECO", "COPARN", "COARRI", "BAPLIE", "PAXLST", "SLSRPT", "INVRPT", "APERAK"} {
			if s := Directories.Version(directory).Structure(name); s == nil || len(s.Nodes) < 5 {
				t.Errorf("%s of %s is not described", name, directory)
			}
		}
	}
	if b := Directories.Version("D.3"); b.Structure("CONTRL") == nil || b.Structure("ORDERS") != nil {
		t.Error("CONTRL is described by another directory")
	}
	if Directories.Version("none") != nil {
		t.Error("a release that is not described has a book")
	}
}

func TestForm(t *testing.T) {
	for _, test := range []struct {
		kind, value string
		good        bool
	}{{"n", "-12", true}, {"n", "1.5", true}, {"n", "1,5", true}, {"n", "1.5.2", false}, {"n", "", false}, {"n", "12a", false}, {"n", "-", false}, {"an", "any", true}} {
		if wrong := form(test.kind, test.value); wrong == "" != test.good {
			t.Errorf("%s %q: %q", test.kind, test.value, wrong)
		}
	}
}

// TestBegin: UNA says what separates, or the usual characters do; UNB says the version and the
// repertoire.
func TestBegin(t *testing.T) {
	const unb = "UNB+UNOC:3+A+B+261125:0930+1'"
	for _, test := range []struct {
		header string
		want   string // element, component, repetition, release, terminator, decimal mark; - for none
		set    text.Charset
		size   int
	}{
		{unb, "+:-?'.", text.Latin1, 0},
		{strings.Replace(unb, "UNOC:3", "UNOC:4", 1), "+:*?'.", text.Latin1, 0},
		{"UNA:+.? '" + unb, "+:-?'.", text.Latin1, 9},
		{"UNA:+,? '\r\n" + unb, "+:-?',", text.Latin1, 9},
		{"UNA:+.  '" + unb, "+:--'.", text.Latin1, 9},
		{"UNA:+.?*'" + strings.Replace(unb, "UNOC:3", "UNOY:4", 1), "+:*?'.", text.UTF8, 9},
		{"UNA:+.? '" + strings.Replace(unb, "UNOC:3", "UNOW:4", 1), "+:-?'.", text.UTF8, 9},
		{"UNA|^.! ~" + strings.NewReplacer(":", "|", "+", "^", "'", "~").Replace(unb), "^|-!~.", text.Latin1, 9},
		{"UNB\x1dUNOB\x1f1\x1dA\x1dB\x1c", "\x1d\x1f--\x1c.", "", 0},
		{strings.Replace(unb, "UNOC", "UNOE", 1), "+:-?'.", "iso-8859-5", 0},
	} {
		s, problem := begin([]byte(test.header))
		got := []byte{s.Element, s.Component, s.Repetition, s.Release, s.Terminator, s.Decimal}
		for i, c := range got {
			if c == 0 {
				got[i] = '-'
			}
		}
		if problem != "" || string(got) != test.want || s.Set != test.set || s.Size != test.size {
			t.Errorf("%q: %q %q %d, %s", test.header, got, s.Set, s.Size, problem)
		}
	}
	for header, want := range map[string]string{
		"":                                      "begins with UNB",
		"UNA:+":                                 "six characters",
		"UNA:+.? 'UNH+1":                        "begins with UNB",
		"UIB+UNOA:4":                            "interactive",
		strings.Replace(unb, "UNOC", "ABCD", 1): "none of UNOA",
		"UNA::.? '" + strings.ReplaceAll(unb, "+", ":"):   "separates two things",
		"UNAA+.? '" + strings.ReplaceAll(unb, ":", "A"):   "cannot be a separator",
		"UNA:+.?+'" + strings.Replace(unb, ":3", ":4", 1): "separates two things",
	} {
		if s, problem := begin([]byte(header)); !strings.Contains(problem, want) {
			t.Errorf("%q: %+v, %q, want %q", header, s, problem, want)
		}
	}
	if s, _ := begin([]byte(strings.Replace(unb, "UNOC", "UNOA", 1))); !s.Narrow {
		t.Error("UNOA is not narrow")
	}
}

// TestKind: a message is described by the directory that UNH-2 names, and by no other.
func TestKind(t *testing.T) {
	syntax, _ := begin([]byte("UNB+UNOC:3+A+B+261125:0930+1'"))
	for head, want := range map[string]string{
		"UNH+1+ORDERS:D:96A:UN": "D.96A ORDERS", "UNH+1+ORDERS:D:96A:UN:EAN008": "D.96A ORDERS", "UNH+1+ORDERS:D:01B:UN": "D.01B ORDERS", "UNH+1+ORDERS:D:99B:UN": "none none",
		"UNH+1+CONTRL:D:3:UN": "D.3 CONTRL", "UNH+1+ABCDEF:D:96A:UN": "D.96A none", "UNH+1": "none none", "UNH+1+ORDERS": "none none",
	} {
		book, structure := Rules.Described(nil, []byte(head), syntax)
		got := []string{"none", "none"}
		if book != nil {
			got[0] = book.Version
		}
		if structure != nil {
			got[1] = structure.Name
		}
		if strings.Join(got, " ") != want {
			t.Errorf("%s is %v, want %s", head, got, want)
		}
	}
}
