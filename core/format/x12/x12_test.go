package x12

import (
	"fmt"
	"strconv"
	"strings"
	"testing"

	"ydrion/core/segments"
)

// TestDescriptions reads all that is described and walks through every group of every message.
func TestDescriptions(t *testing.T) {
	for _, wrong := range Releases.Check([]string{"ID", "AN", "N", "N2", "R", "DT", "TM"}) {
		t.Error(wrong)
	}
	for _, name := range []string{"850", "855", "856", "810", "997"} {
		if s := Releases.Version(Releases.Versions[0]).Structure(name); s == nil || len(s.Nodes) < 5 {
			t.Errorf("%s is not described", name)
		}
	}
	if Releases.Version("none") != nil {
		t.Error("a release that is not described has a book")
	}
}

func TestForm(t *testing.T) {
	for _, test := range []struct {
		kind, value string
		good        bool
	}{{"N", "-12", true}, {"N", "1.5", false}, {"R", "-1.50", true}, {"R", "1E-3", true}, {"R", ".", false}, {"R", "1,5", false}, {"DT", "20261125", true}, {"DT", "20261131", false}, {"DT", "240229", true}, {"DT", "230229", false}, {"DT", "1", true}, {"TM", "2400", false}, {"TM", "235959", true}, {"TM", "2360", false}, {"TM", "7", true}, {"DT", "-2026112", false}, {"TM", "09:3", false}, {"AN", "any", true}} {
		if wrong := form(test.kind, test.value); wrong == "" != test.good {
			t.Errorf("%s %q: %q", test.kind, test.value, wrong)
		}
	}
}

const isa = "ISA*00*          *00*          *ZZ*SKERRY         *ZZ*LABSUPPLY      *261125*0930*^*00501*000000007*0*T*>~"

// TestBegin: three characters of the ISA segment say what separates, and from 00402 on a fourth.
func TestBegin(t *testing.T) {
	with := func(old, new string) string { return strings.Replace(isa, old, new, 1) }
	for _, test := range []struct {
		header                                     string
		element, component, repetition, terminator byte
	}{
		{isa, '*', '>', '^', '~'},
		{with("*00501*", "*00401*"), '*', '>', 0, '~'},
		{with("^*00501*", "U*00401*"), '*', '>', 0, '~'},
		{with("^*00501*", "U*00501*"), '*', '>', 0, '~'}, // it names the standard still
		{strings.NewReplacer("*", "|", ">~", ":\n").Replace(isa), '|', ':', '^', '\n'},
		{strings.NewReplacer("*", "\x1d", ">~", "\x1f\x1c").Replace(isa), 0x1d, 0x1f, '^', 0x1c},
	} {
		s, problem := begin([]byte(test.header))
		if problem != "" || s.Element != test.element || s.Component != test.component || s.Repetition != test.repetition || s.Terminator != test.terminator || s.Release != 0 {
			t.Errorf("%q: %+v, %s", test.header, s, problem)
		}
	}
	for header, want := range map[string]string{
		"":                                 "106 characters",
		isa[:105]:                          "106 characters",
		with("ISA", "ISB"):                 "106 characters",
		with("SKERRY  ", "SKERRY ") + "GS": "character 51",
		with("*0*T*", "**T*") + "GS":       "character 102",
		with("*T*", "*TT*"):                "character 104",
		with(">~", "~~"):                   "separates two things",
		with("^*00501", "~*00501"):         "separates two things",
		with(">~", "A~"):                   "cannot be a separator",
		with(">~", "> "):                   "cannot be a separator",
		strings.ReplaceAll(isa, "*", "0"):  "cannot be a separator",
	} {
		if s, problem := begin([]byte(header)); !strings.Contains(problem, want) {
			t.Errorf("%q: %+v, %q, want %q", header, s, problem, want)
		}
	}
}

// TestKind: the release stands in GS-8, and which claims are meant in ST-3 or there.
func TestKind(t *testing.T) {
	syntax, _ := begin([]byte(isa))
	for _, test := range []struct{ release, set, want string }{
		{"005010", "ST*850*0001", "005010 850"}, {"004010", "ST*850*0001", "004010 850"}, {"004010VICS", "ST*850*0001", "004010 850"},
		{"005010X222A1", "ST*837*0001*005010X222A1", "005010 837P"}, {"005010X222A1", "ST*837*0001", "005010 837P"},
		{"005010X223A2", "ST*837*0001*005010X223A2", "005010 837I"}, {"005010X224A2", "ST*837*0001*005010X224A2", "005010 837D"},
		{"005010", "ST*837*0001", "005010 none"}, {"005010X214", "ST*277*0001*005010X214", "005010 277A"}, {"005010X214", "ST*277*0001", "005010 277A"}, {"005010X212", "ST*277*0001*005010X212", "005010 277"}, {"004010X093", "ST*277*0001", "004010 277"}, {"005010X221A1", "ST*835*0001", "005010 835"}, {"004010X091A1", "ST*835*0001", "004010 835"}, {"004010X098A1", "ST*837*0001", "004010 837P"}, {"004010X096A1", "ST*837*0001", "004010 837I"}, {"004010X097A1", "ST*837*0001", "004010 837D"},
		{"008010", "ST*850*0001", "none none"}, {"", "ST*850*0001", "none none"}, {"005010", "ST", "005010 none"}, {"005010", "ST*999*1", "005010 999"}, {"004010", "ST*999*1", "004010 none"},
	} {
		book, structure := Rules.Described([][]byte{[]byte(isa[:105]), []byte("GS*PO*S*H*20261125*0930*3*X*" + test.release)}, []byte(test.set), syntax)
		got := []string{"none", "none"}
		if book != nil {
			got[0] = book.Version
		}
		if structure != nil {
			got[1] = structure.Name
		}
		if strings.Join(got, " ") != test.want {
			t.Errorf("%s %s is %v, want %s", test.release, test.set, got, test.want)
		}
	}
}

// TestElementNumbers: elements have the numbers of the data element dictionary (X12.3), which
// acknowledgements name; those with a table of codes have the number of the table.
func TestElementNumbers(t *testing.T) {
	book := Releases.Version("005010")
	for path, want := range map[string]string{"BEG/3": "324", "ISA/13": "I12", "REF/2": "127", "N1/2": "93", "PO1/7": "234", "CLM/2": "782", "HL/3": "735", "DTP/3": "1251", "CAS/2": "1034", "SV1/1": "", "TDS/1": "610"} {
		name, n, _ := strings.Cut(path, "/")
		i, _ := strconv.Atoi(n)
		if got := book.Segment(name).Elements[i-1].Number; got != want {
			t.Errorf("%s: %q, not %q", path, got, want)
		}
	}
	// What is not known is said to be.
	unknown := map[string]bool{"W05-5": true, "W06-5": true, "W06-8": true, "W66-4": true}
	own := map[string]bool{"IK5": true} // its 618 has the codes of 718
	for _, release := range []string{"004010", "005010"} {
		book := Releases.Version(release)
		for _, kind := range []string{"segment", "type"} {
			for _, name := range book.Names(kind) {
				of := book.Segment(name)
				if kind == "type" {
					of = book.Type(name)
				}
				for i := range of.Elements {
					e, at := &of.Elements[i], fmt.Sprintf("%s-%d", name, i+1)
					if e.Number != "" && e.Table != "" && e.Number != e.Table && !own[name] {
						t.Errorf("%s: %s is %s, and has the codes of %s", release, at, e.Number, e.Table)
					}
					if (e.Number == "") != (e.Of() != nil || unknown[at]) {
						t.Errorf("%s: %s (%s) has the number %q", release, at, e.Title, e.Number)
					}
				}
			}
		}
	}
}

// TestWhatPartnersFill: elements that orders, ship notices and invoices have far behind in their segments are known.
func TestWhatPartnersFill(t *testing.T) {
	for path, want := range map[string]string{"TD5-12": "", "SDQ-22": "", "SLN-10": "", "ACK-8": "", "REF-4.2": "", "PO4-14": "", "FOB-7": "", "MAN-5": "", "PID-8": "", "CUR-21": "", "AK9-9": "", "N4-7": "", "SAC-16": "", "TD5-16": "TD5 has 15 fields", "REF-4.7": "REF-4 (More references, type C040) has no component 7"} {
		p, err := segments.ParsePosition(path)
		if err != nil {
			t.Fatal(err)
		}
		if problem, _ := segments.Unknown(p, Releases, false); problem != want {
			t.Errorf("%s: %q, not %q", path, problem, want)
		}
	}
}
