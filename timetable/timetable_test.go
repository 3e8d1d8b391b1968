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
		{"a rhythm through the night", every(3*time.Hour, 22*60, 4*60), "2026-11-25T23:00:00Z", []string{"2026-11-26T01:00:00Z", "2026-11-26T22:00:00Z", "2026-11-27T01:00:00Z"}},
		{"up to midnight", every(time.Hour, 23*60, 0), "2026-11-25T22:30:00Z", []string{"2026-11-25T23:00:00Z", "2026-11-26T23:00:00Z"}},
		{"a night in which clocks go forward", every(2*time.Hour, 22*60, 4*60), "2026-03-28T21:00:00Z", []string{"2026-03-28T22:00:00Z", "2026-03-29T00:00:00Z", "2026-03-29T02:00:00Z", "2026-03-29T21:00:00Z"}},
		{"a window of the night opens", Table{Days: Days{Week: [7]bool{5: true}}, From: 22 * 60, To: 4 * 60, Zone: dublin}, "2026-11-27T21:00:00Z", []string{"2026-11-27T22:00:00Z", "2026-12-04T22:00:00Z"}},
		{"no day", Table{At: []Clock{30}, Zone: dublin}, "2026-11-25T00:00:00Z", []string{"0001-01-01T00:00:00Z"}},
	} {
		after, err := time.Parse(time.RFC3339, test.after)
		if err != nil {
			t.Fatal(err)
		}
		for _, want := range test.want {
			before := after
			after = test.table.Next(after)
			if latest := test.table.Latest(after); !latest.Equal(after) || after.Sub(before) > time.Second && test.table.Latest(after.Add(-time.Second)).After(before) {
				t.Errorf("%s: the latest up to %s is %s", test.name, after, latest)
			}
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

// TestDaysOfMonth: days of the month and the last one, and days on which nothing is due.
func TestDaysOfMonth(t *testing.T) {
	table := func(days string, not ...string) Table {
		t.Helper()
		out := Table{At: []Clock{6 * 60}, To: 24 * 60, Zone: time.UTC}
		var err error
		if out.Days, err = ParseDays(days); err != nil {
			t.Fatal(err)
		}
		for _, s := range not {
			d, err := ParseDate(s)
			if err != nil {
				t.Fatal(err)
			}
			out.Not = append(out.Not, d)
		}
		return out
	}
	for _, test := range []struct {
		table Table
		says  string
		after string
		want  []string
	}{
		{table("last"), "the last day of the month at 06:00 (UTC)", "2027-12-31", []string{"2028-01-31", "2028-02-29", "2028-03-31", "2028-04-30"}},
		{table("31"), "day 31 of the month at 06:00 (UTC)", "2026-12-31", []string{"2027-01-31", "2027-03-31", "2027-05-31", "2027-07-31"}},
		{table("1,15-16"), "day 1, 15, 16 of the month at 06:00 (UTC)", "2026-11-28", []string{"2026-12-01", "2026-12-15", "2026-12-16", "2027-01-01"}},
		{table("fri, 1"), "fri, day 1 of the month at 06:00 (UTC)", "2026-11-27", []string{"2026-12-01", "2026-12-04"}},
		{table("mon-fri", "12-25", "2026-12-28"), "mon, tue, wed, thu, fri at 06:00, not on 12-25, 2026-12-28 (UTC)", "2026-12-24", []string{"2026-12-29", "2026-12-30"}},
		{table("mon-fri", "12-25", "2026-12-28"), "", "2028-12-22", []string{"2028-12-26"}},
		{table("29", "2027-01-29", "03-29"), "day 29 of the month at 06:00, not on 2027-01-29, 03-29 (UTC)", "2026-12-29", []string{"2027-04-29"}},
	} {
		if test.says != "" && test.table.String() != test.says {
			t.Errorf("%q, not %q", test.table.String(), test.says)
		}
		after, err := time.Parse(time.DateOnly, test.after)
		if err != nil {
			t.Fatal(err)
		}
		after = after.Add(6 * time.Hour)
		for _, want := range test.want {
			if after = test.table.Next(after); after.Format(time.DateOnly) != want || !test.table.Latest(after.Add(time.Hour)).Equal(after) {
				t.Errorf("%s: %s, want %s", test.says, after, want)
			}
		}
	}
	for _, bad := range []string{"2026-02-30", "02-30", "25.12.2026", "12-32", "", "2026-1-1"} {
		if d, err := ParseDate(bad); err == nil || !strings.Contains(err.Error(), "a date such as 2026-12-25") {
			t.Errorf("%q is %v, %v", bad, d, err)
		}
	}
}

// TestNights: a window past midnight is that of the day on which it begins.
func TestNights(t *testing.T) {
	days, err := ParseDays("mon-fri")
	if err != nil {
		t.Fatal(err)
	}
	table := Table{Days: days, From: 22 * 60, To: 4 * 60, Zone: zone(t, "Europe/Dublin")}
	for at, want := range map[string]bool{ // a Friday is the 27th
		"2026-11-27T02:00:00Z": true, "2026-11-27T04:00:00Z": false, "2026-11-27T21:59:59Z": false, "2026-11-27T22:00:00Z": true,
		"2026-11-28T03:59:59Z": true, "2026-11-28T22:30:00Z": false, "2026-11-30T01:00:00Z": false, "2026-11-30T23:00:00Z": true,
	} {
		moment, err := time.Parse(time.RFC3339, at)
		if err != nil {
			t.Fatal(err)
		}
		if table.Open(moment) != want {
			t.Errorf("at %s it is open: %v", at, !want)
		}
	}
	if table.String() != "mon, tue, wed, thu, fri from 22:00 to 04:00 the next day (Europe/Dublin)" {
		t.Errorf("%s", table.String())
	}
}

// TestMoment: a time of a day comes when clocks have first gone so far, as is found by going from minute to minute.
func TestMoment(t *testing.T) {
	for name, days := range map[string][]string{
		"Europe/Dublin": {"2026-03-29", "2026-10-25"}, "America/New_York": {"2026-03-08", "2026-11-01"}, "Australia/Lord_Howe": {"2026-04-05", "2026-10-04"},
		"Africa/Casablanca": {"2026-02-15", "2026-03-22"}, "Asia/Beirut": {"2026-03-29", "2026-10-25"}, "America/Sao_Paulo": {"2018-02-18", "2018-11-04"},
		"Pacific/Apia": {"2011-12-29", "2011-12-31"}, "Asia/Kathmandu": {"2026-11-25"}, "America/Havana": {"2026-03-08", "2026-11-01"},
	} {
		z := zone(t, name)
		for _, day := range days {
			of, err := time.Parse(time.DateOnly, day)
			if err != nil {
				t.Fatal(err)
			}
			for d := of.Day() - 1; d <= of.Day()+1; d++ {
				at := time.Date(of.Year(), of.Month(), d-2, 0, 0, 0, 0, time.UTC)
				for c := Clock(0); c <= 24*60; c++ {
					wanted := time.Date(of.Year(), of.Month(), d, 0, int(c), 0, 0, time.UTC)
					for ; ; at = at.Add(time.Minute) {
						_, offset := at.In(z).Zone()
						if !at.Add(time.Duration(offset) * time.Second).Before(wanted) {
							break
						}
					}
					if got := Moment(of.Year(), of.Month(), d, c, z); !got.Equal(at) {
						t.Errorf("%s, %s %s: %s, not %s", name, wanted.Format(time.DateOnly), c, got.UTC(), at)
					}
				}
			}
		}
	}
}

func TestParse(t *testing.T) {
	for _, bad := range []string{"6:30", "25:00", "24:30", "06:60", "noon", "", "06:30x", "-1:30"} {
		if c, err := ParseClock(bad); err == nil || !strings.Contains(err.Error(), "time of the day such as 06:30") {
			t.Errorf("%q is %v, %v", bad, c, err)
		}
	}
	for _, bad := range []string{"", "mon-", "monday", "mon,,tue", "mon-fri-sat", "0", "32", "15-1", "last-1", "001", "1-mon"} {
		if d, err := ParseDays(bad); err == nil || !strings.Contains(err.Error(), "day") {
			t.Errorf("%q is %v, %v", bad, d, err)
		}
	}
	if d, err := ParseDays("Sat-Mon, wed"); err != nil || d.String() != "mon, wed, sat, sun" {
		t.Errorf("%v %v", d, err)
	}
}
