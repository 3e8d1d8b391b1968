package workspace

import (
	"fmt"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"ydrion/core/finding"
	"ydrion/timetable"
)

// loaded loads a workspace with one route that has more settings than the usual.
func loaded(t *testing.T, change, to string) (*Route, finding.List) {
	t.Helper()
	if !strings.Contains(good, change) {
		t.Fatalf("the route does not hold %q", change)
	}
	w, err := Load(fstest.MapFS{"routes/orders.yaml": {Data: []byte(strings.Replace(good, change, to, 1))}})
	if err != nil {
		t.Fatal(err)
	}
	return w.Routes["orders"], w.Findings
}

func TestTimetableOfARoute(t *testing.T) {
	r, findings := loaded(t, "listen:\n", "listen:\n  timetable:\n    days: mon-fri\n    every: 15m\n    from: \"06:00\"\n    to: \"20:00\"\n    zone: Europe/Dublin\n")
	if r == nil {
		t.Fatal(findings)
	}
	if got := r.Timetable.String(); got != "mon, tue, wed, thu, fri every 15m from 06:00 to 20:00 (Europe/Dublin)" {
		t.Errorf("%s", got)
	}
	for yaml, want := range map[string]string{
		"days: [1, 15-17, last]\n    not on: [12-25, 2027-01-04]\n    at: \"06:30\"": "day 1, 15, 16, 17 and the last of the month at 06:30, not on 12-25, 2027-01-04 (UTC)",
		"days: 1\n    not on: 2026-12-25\n    from: \"22:00\"\n    to: \"04:00\"":    "day 1 of the month from 22:00 to 04:00 the next day, not on 2026-12-25 (UTC)",
	} {
		r, findings := loaded(t, "listen:\n", "listen:\n  timetable:\n    "+yaml+"\n    zone: UTC\n")
		if r == nil {
			t.Fatal(findings)
		}
		if got := r.Timetable.String(); got != want {
			t.Errorf("%s", got)
		}
	}
	r, findings = loaded(t, "rejected:\n", "expect:\n  - {by: \"06:30\", days: last, not on: 12-31, zone: UTC}\nrejected:\n")
	if r == nil {
		t.Fatal(findings)
	}
	if got := r.Expect[0].String(); !strings.Contains(got, "by 06:30, the last day of the month, not on 12-31 (UTC)") {
		t.Errorf("%s", got)
	}
}

// TestMembers: which member of an archive is read is said by its name or, with a slash, with its folder.
func TestMembers(t *testing.T) {
	for pattern, fits := range map[string]map[string]bool{
		"*.csv":      {"sheet.csv": true, "week/sheet.csv": true, "sheet.csv.txt": false, "week.csv/notes": false},
		"week/*.csv": {"week/sheet.csv": true, "sheet.csv": false, "a/week/sheet.csv": false},
		"**/*.csv":   {"week/a/sheet.csv": true, "sheet.csv": true, "sheet.txt": false},
	} {
		r, findings := loaded(t, "listen:\n", "read: {format: csv, compression: zip, member: \""+pattern+"\"}\nlisten:\n")
		if r == nil {
			t.Fatal(findings)
		}
		for name, want := range fits {
			if r.InArchive()(name) != want {
				t.Errorf("%s: %s fits is %v", pattern, name, !want)
			}
		}
	}
	for member, says := range map[string]string{"member: \"*.csv\"": "only archives have members", "compression: zip, member: \"[\"": "is not a wildcard pattern"} {
		if _, findings := loaded(t, "listen:\n", "read: {format: csv, "+member+"}\nlisten:\n"); !strings.Contains(fmt.Sprint(findings), says) {
			t.Errorf("%s: %v", member, findings)
		}
	}
}

// TestSettingsThatAreWrong: each is refused with its place and what is allowed.
func TestSettingsThatAreWrong(t *testing.T) {
	listen := func(s string) (string, string) { return "listen:\n", "listen:\n" + s }
	top := func(s string) (string, string) { return "listen:\n", s + "listen:\n" }
	deliver := func(s string) (string, string) { return "rejected:\n", s + "rejected:\n" }
	for _, test := range []struct {
		where func(string) (string, string)
		with  string
		says  string
	}{
		{listen, "  timetable:\n    at: \"6:30\"\n", `"6:30" is not a time of the day such as 06:30`},
		{listen, "  timetable:\n    at: \"06:30\"\n    every: 5m\n", "either certain times (at) or a window"},
		{listen, "  timetable:\n    every: 5s\n", "a timetable's rhythm is a minute or more"},
		{listen, "  timetable:\n    from: \"20:00\"\n    to: \"20:00\"\n", "the window ends when it begins"},
		{listen, "  timetable:\n    days: funday\n", `"funday" is not a day of the week`},
		{listen, "  timetable:\n    not on: 25.12.\n", `"25.12." is not a date such as 2026-12-25, or 12-25 of each year`},
		{listen, "  timetable:\n    zone: Atlantis/West\n", `"Atlantis/West" is not a time zone`},
		{listen, "  timetable:\n    at: \"06:30\"\n    minute: 5\n", `has no key "minute"`},
		{listen, "  originals: kept\n", `listen.originals is "kept"; it can be taken or left or removed`},
		{listen, "  files that disappear: true\n", "say `originals: left`"},
		{listen, "  last line: \"(\"\n", "the expression is not a regular expression"},
		{listen, "  ignore: [\"[\"]\n", "is not a wildcard pattern"},
		{top, "order:\n  failure: holds\n", "say `lane: all`"},
		{top, "order:\n  failure: waits\n", "it can be passes or holds"},
		{top, "duplicates:\n  content: ignore\n", "it can be warn or pass or hold or reject"},
		{top, "keep:\n  originals: soon\n", "must be a duration"},
		{top, "keep:\n  originals: 9d\n  records: 3d\n", "must be kept at least as long as its original"},
		{top, "keep:\n  rejects: xd\n", "must be a time such as 12h or 30d, or forever"},
		{top, "expect:\n  - files: \"a-*\"\n", "by is missing"},
		{top, "expect:\n  - by: \"06:30\"\n    count: 4..1\n", "the range 4..1 is upside down"},
		{top, "expect:\n  - by: \"06:30\"\n    count: some\n", "count is a number such as 4, or a range"},
		{top, "expect:\n  - by: \"06:30\"\n  - by: \"07:30\"\n", "give them names"},
		{top, "expect:\n  - by: \"06:30\"\n    smallest: 3X\n", "must be a size in bytes"},
		{top, "expect: soon\n", "expect must be a list"},
		{deliver, "retry:\n  for: long\n", "must be a duration"},
	} {
		change, to := test.where(test.with)
		r, findings := loaded(t, change, to)
		if said := fmt.Sprint([]finding.Finding(findings)); r != nil || !strings.Contains(said, test.says) || !strings.Contains(said, "routes/orders.yaml:") {
			t.Errorf("%q: does not say %q but\n%s", test.with, test.says, said)
		}
	}
}

func TestDestinations(t *testing.T) {
	from := strings.Index(good, "deliver:\n")
	to := strings.Index(good, "rejected:\n")
	with := func(text string) (*Route, string) {
		r, findings := loaded(t, good[from:to], "deliver:\n"+text)
		return r, fmt.Sprint([]finding.Finding(findings))
	}
	r, said := with("  name: a.hl7\n  to:\n    - folder: one\n      permissions: \"0640\"\n      owner: lab:lab\n    - folder: two\n      when: weight_kg > 100\n      name: \"{record}.hl7\"\n      name taken: replace and keep\n")
	if r == nil {
		t.Fatal(said)
	}
	if d := r.Branches[0].To; len(d) != 2 || d[0].Mode != 0o640 || d[0].Owner != "lab:lab" || d[0].Taken != Count || d[1].When != "weight_kg > 100" || d[1].Name != "{record}.hl7" || d[1].Taken != ReplaceKeep {
		t.Errorf("%+v", d)
	}
	for text, says := range map[string]string{
		"  name: a\n  folder: one\n  to:\n    - folder: two\n":   "either one folder or a list of destinations",
		"  name: a\n  to:\n    - when: x > 1\n":                  "deliver.to[1].folder is missing",
		"  name: a\n  folder: one\n  permissions: \"0999\"\n":    "permissions are given in octal digits",
		"  name: a\n  folder: one\n  owner: \"a b\"\n":           "the owner is given as user, user:group or :group",
		"  name: a\n  folder: one\n  name taken: overwrite\n":    "it can be count or replace or replace and keep or hold",
		"  name: a\n  to:\n    - folder: one\n      weight: 3\n": "has no key \"weight\"",
	} {
		if r, said := with(text); r != nil || !strings.Contains(said, says) {
			t.Errorf("%q: does not say %q but\n%s", text, says, said)
		}
	}
}

// TestWindow: files count from a time of the day, of the day before if the
// deadline is earlier.
func TestWindow(t *testing.T) {
	due := time.Date(2026, 11, 25, 6, 30, 0, 0, time.UTC)
	for from, want := range map[timetable.Clock]string{0: "2026-11-25T00:00:00Z", 6 * 60: "2026-11-25T06:00:00Z", 18 * 60: "2026-11-24T18:00:00Z"} {
		e := Expectation{From: from, By: timetable.Table{Zone: time.UTC}}
		if got, until := e.Window(due); got.Format(time.RFC3339) != want || !until.Equal(due) {
			t.Errorf("from %s: %v to %v, want %s", from, got, until, want)
		}
	}
}

func TestChannels(t *testing.T) {
	load := func(tell string) (*Environment, string) {
		w, err := Load(fstest.MapFS{"environments/x.yaml": {Data: []byte("environment: x\nplaces:\n  a: b\n  office: {address: \"smtp://h\", tls: explicit, from: a@h, to: [b@h]}\ntell:\n" + tell)}})
		if err != nil {
			t.Fatal(err)
		}
		return w.Environments["x"], fmt.Sprint([]finding.Finding(w.Findings))
	}
	e, said := load("  - name: desk\n    kinds: [missing, held]\n    webhook:\n      address: https://desk.example/x\n      key from: KEY\n  - name: night\n    mail:\n      server: mail.example:25\n      from: a@example.org\n      to: b@example.org\n")
	if e == nil || len(e.Tell) != 2 || e.Tell[0].Webhook != "https://desk.example/x" || e.Tell[0].Secret != "KEY" || len(e.Tell[0].Kinds) != 2 || e.Tell[1].To[0] != "b@example.org" {
		t.Fatalf("%+v %s", e, said)
	}
	e, said = load("  - name: desk\n    mail: {place: office}\n  - name: night\n    mail: {place: office, from: c@h, to: [d@h]}\n")
	if e == nil || e.Tell[0].Through.Name != "office" || e.Tell[0].From != "a@h" || e.Tell[0].To[0] != "b@h" || e.Tell[1].From != "c@h" || e.Tell[1].To[0] != "d@h" {
		t.Errorf("%+v %s", e, said)
	}
	for tell, says := range map[string]string{
		"  - name: desk\n    mail: {place: offices}\n":                 "there is no place \"offices\"",
		"  - name: desk\n    mail: {place: a}\n":                       "a does not mail",
		"  - name: desk\n    mail: {place: office, server: \"b:2\"}\n": "either through a place or by a server",
		"  - name: desk\n": "a channel has either a webhook or mail",
		"  - name: desk\n    kinds: [missed]\n    webhook:\n      address: https://a.example\n": "the kinds are rejected, held",
		"  - name: desk\n    webhook:\n      address: desk\n":                                   "is not an http or https address",
		"  - name: desk\n    mail:\n      server: a:25\n      from: x@y\n":                      "mail.to is missing",
		"  - webhook:\n      address: https://a.example\n":                                      "name is missing",
	} {
		if e, said := load(tell); e != nil || !strings.Contains(said, says) {
			t.Errorf("%q: does not say %q but\n%s", tell, says, said)
		}
	}
}
