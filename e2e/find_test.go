package e2e

import (
	"context"
	"fmt"
	"net/url"
	"strings"
	"testing"

	"ydrion/testbed"
)

// TestFind: a record is found by what stands in it, in whatever route, run or file of several, with what it went into;
// from what is not kept any more nothing is found.
func TestFind(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	b.Publish(inOneFile(t))
	for _, name := range []string{"night-pool-1.csv", "night-pool-2.csv"} {
		b.Drop("stations/night-logs", name, testbed.Demo(t, name))
	}
	testbed.Until(t, "they are there", func() bool { return len(waiting(t, b, "night-logs")) == 2 })
	if _, err := b.Client.Take(context.Background(), "night-logs", ""); err != nil {
		t.Fatal(err)
	}
	b.Ended("night-pool-2.csv", 0)
	for n := range 120 { // more than are looked at at once
		b.Drop("stations/inbox", fmt.Sprintf("sheet-%03d.csv", n), heading+row(n))
	}
	testbed.Until(t, "all have ended", func() bool {
		return strings.Count(states(b), "delivered") >= 100 && len(b.List("laboratory/orders")) == 120
	})
	b.Drop("stations/inbox", "wrong.csv", heading+row(500)+row(501)+strings.Replace(row(502), "36.5", "n/a", 1))
	b.Ended("wrong.csv", 0)
	b.Drop("stations/inbox", "whole.csv", heading+row(700)+strings.Replace(row(701), "36.5", "n/a", 1)+strings.Replace(row(702), "36.5", "n/a", 1))
	if p := b.Ended("whole.csv", 0); !p.Whole {
		t.Fatalf("%+v", p)
	}
	found := func(query url.Values) (out []string) {
		answer, err := b.Client.Find(context.Background(), query)
		if err != nil {
			t.Fatal(err)
		}
		for _, f := range answer.Items {
			out = append(out, fmt.Sprint(f.Name, " ", f.Record, " ", f.Line, " ", f.Outcome, " ", strings.Join(f.WentInto, "+")))
		}
		return out
	}
	for value, want := range map[string]string{
		"AP-000007":  "[sheet-007.csv 1 2 good sheet-007.hl7]",
		"AP-000502":  "[wrong.csv 3 4 rejected ]",
		"9.8,L-07":   "[night-pool-2.csv 2 2 good " + b.List("laboratory/nights")[0] + "]",
		"AP-0005":    "[wrong.csv 1 2 good wrong.hl7 wrong.csv 2 3 good wrong.hl7 wrong.csv 3 4 rejected ]",
		"AP-000700":  "[whole.csv 1 2 rejected ]", // good by itself, and rejected with its file
		"not there…": "[]",
	} {
		if got := fmt.Sprint(found(url.Values{"text": {value}})); got != want {
			t.Errorf("%s: %s, want %s", value, got, want)
		}
	}
	if got := found(url.Values{"text": {"AP-0"}, "limit": {"1000"}}); len(got) != 126 {
		t.Errorf("%d records", len(got))
	}
	if code, out := command(b, "find", "AP-000007", "--route", "specimen-orders"); code != 0 || !strings.Contains(out, "sheet-007.hl7") || !strings.Contains(out, "AS IT CAME") {
		t.Errorf("%d %s", code, out)
	}
	if code, out := command(b, "find", "nobody"); code != 0 || !strings.Contains(out, "no record has it, in 123 pickups") {
		t.Errorf("%d %s", code, out)
	}
}
