package e2e

import (
	"context"
	"fmt"
	"net/url"
	"strings"
	"sync"
	"testing"

	"github.com/chromedp/chromedp"

	"ydrion/files"
	"ydrion/testbed"
)

// TestConsoleBranches: while a run is under way, client and console show how far it has got, of about how many
// records, and how many have gone into each branch; when it has ended, what each of its records became in each.
func TestConsoleBranches(t *testing.T) {
	t.Parallel()
	hold, held := make(chan struct{}), make(chan struct{})
	writes := 0
	b := testbed.Start(t, testbed.On(&files.Faulty{FS: files.Real{}, Fail: func(_ int64, operation, name string) error {
		if operation == "write" && strings.Contains(name, "laboratory/stations/") {
			if writes++; writes == 60 { // it has got on by then
				close(held)
				<-hold
			}
		}
		return nil
	}}))
	release := sync.OnceFunc(func() { close(hold) })
	t.Cleanup(release) // before the service ends
	b.Publish(branched(`  - name: heavy
    notes: For the vet.
    when: kg > 90
    map: maps/heavy.map
    deliver: {folder: "{laboratory}/heavy", name: "{tag}.json", one file per: 50000 records}
  - name: whole week
    when: station != "S9"
    deliver: {folder: "{laboratory}/stations", name: "{file.name}"}
  - name: rest
    when: otherwise
    skip: S9 sends its own sheets
`))
	var in strings.Builder
	in.WriteString("station,tag,kg\n")
	for i := range 400_000 {
		fmt.Fprintf(&in, "S%d,T-%d,%d\n", i%3*4+1, i, (i+91)%97)
	}
	b.Drop("stations/seals", "week.csv", in.String())
	<-held
	var said string
	testbed.Until(t, "the client shows how far the run is", func() bool {
		_, said = command(b, "route", "seals")
		return strings.Contains(said, "under way: week.csv, record ")
	})
	ctx := browser(t)
	do(t, ctx, chromedp.Navigate(b.URL+"/routes/seals#token="+b.Token))
	text(t, ctx, ".run", "week.csv", "record ", " of about ", "heavy ", "whole week ")
	shot(t, ctx, "console-route-branches")
	release()
	var read, about, heavy, whole int64
	part := said[strings.Index(said, "under way: week.csv, record "):]
	if _, err := fmt.Sscanf(part, "under way: week.csv, record %d of about %d,", &read, &about); err != nil || read < 1000 || read >= 400_000 || about < 380_000 || about > 420_000 {
		t.Errorf("%v: %s", err, part)
	}
	if _, err := fmt.Sscanf(part[strings.Index(part, ", heavy "):], ", heavy %d, whole week %d, rest 0,", &heavy, &whole); err != nil || heavy < read/25 || heavy > read/10 || whole < read/2 || whole > read {
		t.Errorf("%v: %s", err, part)
	}
	p := b.Ended("week.csv", 0)
	if p.State != "delivered" || p.In != 400_000 || p.Filtered == 0 {
		t.Errorf("%+v", p)
	}
	shown, err := b.Client.Records(context.Background(), p.Run, url.Values{"limit": {"1"}})
	if err != nil || len(shown.Records) != 1 || len(shown.Records[0].Became) != 2 || shown.Records[0].Became[0].Branch != "heavy" || shown.Records[0].Became[1].Branch != "whole week" {
		t.Fatalf("%+v %v", shown, err)
	}
	do(t, ctx, chromedp.Navigate(fmt.Sprintf("%s/pickups/%d", b.URL, p.ID)))
	text(t, ctx, "[data-record='1']", "heavy", "whole week", "/tag", "T-0")
	do(t, ctx, chromedp.EvaluateAsDevTools[chromedp.Void]("window.scrollTo(0, document.querySelector(\"[data-record='1']\").offsetTop - 60)"))
	shot(t, ctx, "console-pickup-branches")
	do(t, ctx, chromedp.Navigate(b.URL+"/routes/seals"))
	text(t, ctx, "main", "Sends records into 3 branches", "heavy, when kg > 90: makes JSON objects", "For the vet.", "left out: S9 sends its own sheets", "one file for each 50000 records")
	if inner(ctx, ".run") != "" {
		t.Error("the run has ended, and is shown as under way")
	}
	shot(t, ctx, "console-route-branches-ended")
}
