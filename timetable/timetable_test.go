package timetable

import (
	"strings"
	"testing"
	"time"
	_ "time/tzdata"
)

func zone(t *testing.T, name string) *time.Location {
	t.Helper()
	z, err := time.LoadLocation(name)
	if err != nil {
		t.Fatal(err)
	}
	return z
}

func TestNext(t *testing.T) {
	dublin := zone(t, "Europe/Dublin")
	at := func(clocks ...string) Table {
		table := Table{Days: EveryDay, To: 24 * 60, Zone: dublin}
		for _, c := range clocks {
			clock, err := ParseClock(c)
			if err != nil {
				t.Fatal(err)
			}
			table.At = append(table.At, clock)
		}
		return table
	}
	every := func(d time.Duration, from, to Clock) Table {
		return Table{Days: EveryDay, Every: d, From: from, To: to, Zone: dublin}
	}
	weekdays := at("06:30")
	weekdays.Days, _ = ParseDays("mon-fri")
	for _, test := range []struct {
		name  string
		table Table
		after string
		want  []string
	}{
		{"two times a day", at("18:00", "06:30"), "2026-11-25T05:00:00Z", []string{"2026-11-25T06:30:00Z", "2026-11-25T18:00:00Z", "2026-11-26T06:30:00Z"}},
		{"not on the weekend", weekdays, "2026-11-27T06:30:00Z", []string{"2026-11-30T06:30:00Z"}},
		// Clocks go forward on 2026-03-29 at 01:00 and back on 2026-10-25 at 02:00.
		{"the missing hour", at("01:30"), "2026-03-28T12:00:00Z", []string{"2026-03-29T01:00:00Z", "2026-03-30T00:30:00Z"}},
		{"two times in the missing hour", at("01:15", "01:45"), "2026-03-28T12:00:00Z", []string{"2026-03-29T01:00:00Z", "2026-03-30T00:15:00Z"}},
		{"the doubled hour", at("01:30"), "2026-10-24T12:00:00Z", []string{"2026-10-25T00:30:00Z", "2026-10-26T01:30:00Z"}},
		{"a rhythm through the doubled hour", every(time.Hour, 0, 3*60), "2026-10-24T23:30:00Z", []string{"2026-10-25T00:00:00Z", "2026-10-25T01:00:00Z", "2026-10-25T02:00:00Z", "2026-10-26T00:00:00Z"}},
		{"a rhythm through the missing hour", every(time.Hour, 0, 3*60), "2026-03-28T23:30:00Z", []string{"2026-03-29T00:00:00Z", "2026-03-29T01:00:00Z", "2026-03-29T23:00:00Z"}},
		{"a rhythm within a window", every(4*time.Hour, 6*60, 18*60), "2026-11-25T09:59:00Z", []string{"2026-11-25T10:00:00Z", "2026-11-25T14:00:00Z", "2026-11-26T06:00:00Z"}},
		{"no day", Table{At: []Clock{30}, Zone: dublin}, "2026-11-25T00:00:00Z", []string{"0001-01-01T00:00:00Z"}},
	} {
		after, err := time.Parse(time.RFC3339, test.after)
		if err != nil {
			t.Fatal(err)
		}
		for _, want := range test.want {
			after = test.table.Next(after)
			if got := after.UTC().Format(time.RFC3339); got != want {
				t.Errorf("%s: %s, want %s", test.name, got, want)
			}
		}
	}
}

func TestOpen(t *testing.T) {
	days, err := ParseDays("fri-sun")
	if err != nil {
		t.Fatal(err)
	}
	table := Table{Days: days, From: 8 * 60, To: 20 * 60, Zone: zone(t, "America/New_York")}
	for at, want := range map[string]bool{
		"2026-11-27T12:59:59Z": false, "2026-11-27T13:00:00Z": true, "2026-11-28T00:59:00Z": true,
		"2026-11-28T01:00:00Z": false, "2026-11-29T15:00:00Z": true, "2026-11-30T15:00:00Z": false,
	} {
		moment, err := time.Parse(time.RFC3339, at)
		if err != nil {
			t.Fatal(err)
		}
		if table.Open(moment) != want {
			t.Errorf("at %s it is open: %v", at, !want)
		}
	}
	if !table.Always() || table.String() != "fri, sat, sun from 08:00 to 20:00 (America/New_York)" {
		t.Errorf("%s", table.String())
	}
}

func TestParse(t *testing.T) {
	for _, bad := range []string{"6:30", "25:00", "24:30", "06:60", "noon", "", "06:30x", "-1:30"} {
		if c, err := ParseClock(bad); err == nil || !strings.Contains(err.Error(), "time of the day such as 06:30") {
			t.Errorf("%q is %v, %v", bad, c, err)
		}
	}
	for _, bad := range []string{"", "mon-", "monday", "mon,,tue", "mon-fri-sat"} {
		if d, err := ParseDays(bad); err == nil || !strings.Contains(err.Error(), "day") {
			t.Errorf("%q is %v, %v", bad, d, err)
		}
	}
	if d, err := ParseDays("Sat-Mon, wed"); err != nil || d.String() != "mon, wed, sat, sun" {
		t.Errorf("%v %v", d, err)
	}
}
