package run

import (
	"strings"
	"testing"
	"time"

	"ydrion/core/flow"
	"ydrion/deliver"
	"ydrion/route"
	"ydrion/store"
	"ydrion/workspace"
)

func TestRejectName(t *testing.T) {
	for name, want := range map[string]string{
		"sheet.csv":                       "sheet.rejected-7.csv",
		"sheet.v2.csv":                    "sheet.v2.rejected-7.csv",
		"plain":                           "plain.rejected-7",
		strings.Repeat("x", 250) + ".csv": strings.Repeat("x", 180) + ".rejected-7.csv",
	} {
		o := &outputs{Maker: deliver.Maker{Run: 7}, name: name}
		if got := o.rejectName(""); got != want {
			t.Errorf("%s is rejected as %s, want %s", name, got, want)
		}
		if got := o.rejectName(".findings.json"); !strings.HasSuffix(got, ".rejected-7.findings.json") || len(got) > 255 {
			t.Errorf("the findings of %s are called %s", name, got)
		}
	}
}

// TestRejectNameOfAMember: records of a member stand in plain text, under the ending that it has, if that is a usual one.
func TestRejectNameOfAMember(t *testing.T) {
	for member, want := range map[string]string{"week/sheet.csv": "week.rejected-7.csv", "sheet": "week.rejected-7", "a.c\x00v": "week.rejected-7", "a.b/../c": "week.rejected-7", `a.b\c`: "week.rejected-7"} {
		o := &outputs{Maker: deliver.Maker{Run: 7}, name: "week.zip", undone: true, member: member}
		if got := o.rejectName(""); got != want {
			t.Errorf("what is rejected of %q is called %s, want %s", member, got, want)
		}
	}
}

func TestTooMany(t *testing.T) {
	f := tooMany("a.csv", flow.Balance{In: 40, Rejected: 3}, 0.025)
	if want := "3 of 40 records were rejected; the route tolerates 2.5%, so the whole file was rejected and nothing of it was delivered"; f.Message != want || f.Place.File != "a.csv" {
		t.Errorf("%s", f)
	}
}

func TestPausesGrowToAMinute(t *testing.T) {
	last := time.Duration(0)
	for n := 1; n < 200; n++ {
		p := pause(n)
		if p < last || p > time.Minute || p <= 0 {
			t.Fatalf("the pause before try %d is %v, after %v", n, p, last)
		}
		last = p
	}
	if pause(1) != time.Second || last != time.Minute {
		t.Errorf("the pauses go from %v to %v", pause(1), last)
	}
}

func TestStampIsWhatTheDatabaseKeeps(t *testing.T) {
	if s := stamp(); s.Nanosecond()%1000 != 0 {
		t.Errorf("%v is finer than a microsecond", s)
	}
}

// TestRejectsGoInPortions: memory holds one portion at most, the rest is
// stored, up to the limits.
func TestRejectsGoInPortions(t *testing.T) {
	var sizes []int
	firsts := 0
	o := &outputs{route: &route.Compiled{Route: &workspace.Route{Name: "orders"}}, keep: nil}
	o.keep = func(_ []store.Delivery, list []store.Reject, first bool) error {
		sizes = append(sizes, len(list))
		if first {
			firsts++
		}
		return nil
	}
	for i := range 2*portion + 10 {
		if err := o.remember(store.Reject{Record: int64(i + 1), Raw: make([]byte, 100)}); err != nil {
			t.Fatal(err)
		}
		if len(o.rejects) >= portion {
			t.Fatalf("%d are kept in memory", len(o.rejects))
		}
	}
	if len(sizes) != 2 || sizes[0] != portion || firsts != 1 || len(o.rejects) != 10 || o.stored != 2*portion {
		t.Errorf("stored %v, first %d times, %d left", sizes, firsts, len(o.rejects))
	}
	// A file of nothing but huge bad records does not fill the database.
	before := o.stored + len(o.rejects)
	for range 3 * maxRejectBytes / maxRejectRaw {
		if err := o.remember(store.Reject{Raw: make([]byte, maxRejectRaw)}); err != nil {
			t.Fatal(err)
		}
	}
	if kept := o.stored + len(o.rejects) - before; kept > maxRejectBytes/maxRejectRaw {
		t.Errorf("%d huge records were kept", kept)
	}
}

func TestTriedAddsThePauses(t *testing.T) {
	long := time.Duration(0)
	for n := 1; n < 30; n++ {
		if long += pause(n); tried(n) != long {
			t.Fatalf("after %d tries: %v, want %v", n, tried(n), long)
		}
	}
}
