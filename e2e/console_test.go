package e2e

import (
	"context"
	"flag"
	"fmt"
	"html"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/cdproto/target"
	"github.com/chromedp/chromedp"

	"ydrion/console"
	"ydrion/demo"
	"ydrion/files"
	"ydrion/testbed"
)

var shots = flag.String("screenshots", "", "folder to write screenshots of the console's pages to")

// browser starts a headless Chromium that ends with the test. Chromium crashes
// now and then while it starts, before it has seen a page: it gets three tries.
func browser(t *testing.T, more ...chromedp.ExecAllocatorOption) context.Context {
	t.Helper()
	path := "/usr/bin/chromium"
	if _, err := os.Stat(path); err != nil {
		t.Fatalf("the console's tests need Chromium: %v", err)
	}
	if _, err := fs.Stat(console.Files(), "index.html"); err != nil {
		t.Fatalf("the console was not built: %v", err)
	}
	for try := 1; ; try++ {
		options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(path), chromedp.NoSandbox, chromedp.DisableGPU, chromedp.UserDataDir(t.TempDir()), chromedp.WindowSize(1280, 800),
			chromedp.Flag("disable-quic", true), chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true), chromedp.Flag("no-first-run", true), chromedp.Flag("hide-scrollbars", true))
		allocator, cancelAllocator := chromedp.NewExecAllocator(context.Background(), append(options, more...)...)
		ctx, cancel := chromedp.NewContext(allocator)
		err := chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800))
		if err == nil {
			t.Cleanup(cancelAllocator)
			t.Cleanup(cancel)
			return ctx
		}
		cancel()
		cancelAllocator()
		if try == 3 {
			t.Fatal(err)
		}
		t.Logf("Chromium did not start (try %d): %v", try, err)
	}
}

// step is a browser action.
type step = chromedp.Action[chromedp.Void]

// inner gives the visible text of an element, "" if it is not there.
func inner(ctx context.Context, selector string) string {
	bounded, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	seen, err := chromedp.Run(bounded, chromedp.EvaluateAsDevTools[string](fmt.Sprintf("document.querySelector(%q)?.innerText ?? ''", selector)))
	if err != nil {
		return err.Error()
	}
	return seen
}

// do runs browser actions within a bound.
func do(t *testing.T, ctx context.Context, steps ...step) {
	t.Helper()
	bounded, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	if err := chromedp.Do(bounded, steps...); err != nil {
		t.Fatalf("%v; the page shows:\n%s", err, inner(ctx, "body"))
	}
}

// text waits until an element shows all the parts.
func text(t *testing.T, ctx context.Context, selector string, parts ...string) {
	t.Helper()
	deadline := time.Now().Add(time.Minute)
	for {
		seen, missing := inner(ctx, selector), ""
		for _, p := range parts {
			if !strings.Contains(seen, p) {
				missing = p
			}
		}
		if missing == "" {
			return
		}
		if time.Now().After(deadline) {
			t.Fatalf("%q does not show %q, but\n%s", selector, missing, seen)
		}
		time.Sleep(50 * time.Millisecond)
	}
}

// shot keeps a picture if pictures were asked for.
func shot(t *testing.T, ctx context.Context, name string) {
	t.Helper()
	if *shots == "" {
		return
	}
	do(t, ctx, chromedp.Sleep(350*time.Millisecond))
	png, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(*shots, name+".png"), png, 0o644); err != nil {
		t.Fatal(err)
	}
}

// pictured lets pictures show a path that says something.
func pictured(t *testing.T) (options []testbed.Option) {
	t.Helper()
	if *shots != "" {
		const data = "/var/tmp/skerry"
		if err := os.RemoveAll(data); err != nil {
			t.Fatal(err)
		}
		if err := os.MkdirAll(data, 0o755); err != nil {
			t.Fatal(err)
		}
		options = append(options, testbed.In(data, testbed.Database(t)))
		t.Cleanup(func() {
			if err := os.RemoveAll(data); err != nil {
				t.Error(err)
			}
		})
	}
	return options
}

// demoed drops the demo's files and waits for all of them.
func demoed(t *testing.T) *testbed.Bed {
	t.Helper()
	b := testbed.Start(t, pictured(t)...)
	b.Publish(nil)
	for _, d := range demo.Drops {
		b.Drop(d.Inbox, d.File, testbed.Demo(t, d.File))
		b.Ended(d.File, 0)
	}
	return b
}

func TestConsole(t *testing.T) {
	t.Parallel()
	b := demoed(t)
	ctx := browser(t)

	// Without a token the console asks for it; with it in the address it opens.
	do(t, ctx, chromedp.Navigate(b.URL))
	text(t, ctx, "main", "asks for its token")
	do(t, ctx, chromedp.Navigate(b.URL+"/?fresh#token="+b.Token))
	text(t, ctx, "main", "Today", "17 pickups", "111 in = 87 good + 18 rejected + 3 left out + 3 merged", "specimen-orders", "weight-log", "feed-requests-2026-11-24.csv")
	text(t, ctx, "header", "live")
	shot(t, ctx, "console-overview")

	// It is live: a new file appears by itself.
	b.Drop("stations/inbox", "dunmarra-live.csv", strings.ReplaceAll(testbed.Demo(t, "dunmarra-2026-11-24.csv"), "DU-30", "DU-90"))
	text(t, ctx, "table.pickups", "dunmarra-live.csv")

	// Routes: walk by keys, stop and start.
	do(t, ctx, chromedp.KeyEvent("g"), chromedp.KeyEvent("r"))
	text(t, ctx, "main", "specimen-orders", "weight-log", "running")
	shot(t, ctx, "console-routes")
	do(t, ctx, chromedp.Click("//tr[contains(., 'weight-log')]//button"))
	text(t, ctx, ".p-dialog", "Stop weight-log?")
	do(t, ctx, chromedp.KeyEvent("\r"), chromedp.WaitNotPresent(chromedp.CSS(".p-dialog-mask")))
	text(t, ctx, "main", "stopped")
	do(t, ctx, chromedp.Click("//tr[contains(., 'weight-log')]//button"), chromedp.WaitNotPresent(chromedp.CSS("[data-state=stopped]")))
	do(t, ctx, chromedp.KeyEvent("j"), chromedp.KeyEvent("j"), chromedp.KeyEvent("\r"))
	text(t, ctx, "main", "Picks up files named *.csv", "Checks 10 fields", "Delivers one file for each record", "specimen_id")
	shot(t, ctx, "console-route")

	// What came last as a lookup, and what it holds.
	do(t, ctx, chromedp.Navigate(b.URL+"/routes"))
	text(t, ctx, "table.lookups", "animals", "animal-list", "just now")
	do(t, ctx, chromedp.Click("//button[normalize-space()='animals']"))
	text(t, ctx, ".p-dialog", "Lookup animals", "version 1", "tag,")
	shot(t, ctx, "console-lookup")
	do(t, ctx, chromedp.KeyEvent("\x1b"), chromedp.WaitNotPresent(chromedp.CSS(".p-dialog-mask")))

	// Records are found by a text in them, and shown where they are.
	do(t, ctx, chromedp.KeyEvent("g"), chromedp.KeyEvent("d"))
	text(t, ctx, "main", "Find records by a text in them")
	do(t, ctx, chromedp.SendKeys(chromedp.CSS("input.filter"), "T-0816\r"))
	text(t, ctx, "main", "with “T-0816”", "pickups")
	shot(t, ctx, "console-records")
	do(t, ctx, chromedp.SendKeys(chromedp.CSS("input.filter"), "-nowhere\r"))
	text(t, ctx, "main", "No record with “T-0816-nowhere”")
	do(t, ctx, chromedp.Navigate(b.URL+"/records?text=B-214"))
	text(t, ctx, "table.found", "brunholm-2026-11-23.csv")
	do(t, ctx, chromedp.KeyEvent("j"), chromedp.KeyEvent("\r"))
	text(t, ctx, "main", "B-214")

	// Pickups: filter by typing, by state, empty result, clearing.
	do(t, ctx, chromedp.KeyEvent("g"), chromedp.KeyEvent("p"))
	text(t, ctx, "table.pickups", "brunholm-2026-11-23.csv", "delivered in part", "rejected whole")
	shot(t, ctx, "console-pickups")
	do(t, ctx, chromedp.KeyEvent("/"), chromedp.SendKeys(chromedp.CSS("input.filter"), "nothing-like-this"))
	text(t, ctx, "main", "No pickup matches")
	do(t, ctx, chromedp.Click("//button[contains(., 'Clear the filter')]"))
	do(t, ctx, chromedp.SendKeys(chromedp.CSS("input.filter"), "brunholm*23"))
	text(t, ctx, "main", "No pickup matches")
	do(t, ctx, chromedp.SendKeys(chromedp.CSS("input.filter"), ".csv"))
	text(t, ctx, "table.pickups", "brunholm-2026-11-23.csv")

	// One pickup: timeline, records side by side, the offending place marked.
	do(t, ctx, chromedp.Click("//a[normalize-space()='2']"))
	text(t, ctx, "main", "brunholm-2026-11-23.csv", "15 in = 9 good + 6 rejected", "noticed on", "taken into the archive", "committed", `weight_kg is not a number`, "write it with a point: 7.5", "Nothing went out")
	text(t, ctx, "[data-record='2'] dd.bad", "7,5")
	shot(t, ctx, "console-pickup")
	do(t, ctx, chromedp.Click(chromedp.CSS(".p-toggleswitch-input")))
	text(t, ctx, "[data-record='1']", "PID-3.1", "B-201", "Harbour seal")
	do(t, ctx, chromedp.Click("//*[@data-record='1']//button[contains(., 'what the map did')]"))
	text(t, ctx, "[data-record='1'] .map", "maps/specimen-to-order.map", `OBR-7 = collected_at | format "yyyyMMddHHmm"`, "23/11/2026 07:10", "line 2, column 27", "202611230710")
	shot(t, ctx, "map-steps")
	do(t, ctx, chromedp.Click("//*[@data-record='1']//button[contains(., 'by field')]"))
	text(t, ctx, "[data-record='1']", "Harbour seal")

	// Run again, with what it will do said before.
	do(t, ctx, chromedp.Click("//button[contains(., 'Run again')]"))
	text(t, ctx, ".p-dialog", "What earlier runs delivered stays as it is")
	do(t, ctx, chromedp.Click("//div[contains(@class, 'p-dialog')]//button[contains(., 'Run again')]"), chromedp.WaitNotPresent(chromedp.CSS(".p-dialog-mask")))
	text(t, ctx, "main", "asked for, revision 1", "published 12 outputs")

	// Both schemes.
	do(t, ctx, chromedp.Click("//button[contains(., 'Night')]"), chromedp.WaitVisible(chromedp.CSS("html.night")))
	shot(t, ctx, "console-pickup-night")
}

func TestConsoleWithoutAnything(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	ctx := browser(t)
	do(t, ctx, chromedp.Navigate(b.URL+"/#token="+b.Token))
	text(t, ctx, "main", "No route has been published yet", "Nothing has been picked up yet")
	do(t, ctx, chromedp.Navigate(fmt.Sprintf("%s/pickups/77", b.URL)))
	text(t, ctx, "main", "This could not be loaded", "there is no ")
	do(t, ctx, chromedp.Navigate(b.URL+"/pickups"))
	text(t, ctx, "main", "Nothing has been picked up yet")
	if err := b.End(); err != nil {
		t.Fatal(err)
	}
	text(t, ctx, "header", "not live")
}

// TestConsoleTellsWhatIsWrong: files that wait, pickups that are held, a service
// that goes away, links to filtered lists.
func TestConsoleTellsWhatIsWrong(t *testing.T) {
	t.Parallel()
	var down atomic.Bool
	down.Store(true)
	broken := &files.Faulty{FS: files.Real{}, Fail: func(_ int64, operation, name string) error {
		if down.Load() && operation == "create" && strings.Contains(name, "laboratory") {
			return &os.PathError{Op: "open", Path: name, Err: syscall.ENOSPC}
		}
		return nil
	}}
	b := testbed.Start(t, testbed.On(broken))
	b.Drop("stations/inbox", "stuck.csv", heading+row(1))
	if err := syscall.Mkfifo(b.Path("stations/inbox/pipe.csv"), 0o644); err != nil {
		t.Fatal(err)
	}
	b.Publish(inOneFile(t))
	b.Drop("stations/inbox", "markup.csv", heading+strings.Replace(row(2), "calm", "<b>&amp;</b>", 1)+strings.Replace(row(3), "36.5", "<script>", 1))
	// Both are there before the list is: a row that comes later waits while the pointer is on it.
	testbed.Until(t, "both are held", func() bool { return strings.Count(states(b), "=held") == 2 })
	ctx := browser(t)
	do(t, ctx, chromedp.Navigate(b.URL+"/#token="+b.Token))
	text(t, ctx, "main", "held: cannot go on")
	do(t, ctx, chromedp.Click("//a[contains(., 'held: cannot go on')]"))
	text(t, ctx, "table.pickups", "stuck.csv", "no space left on device")
	if seen := inner(ctx, "table.pickups"); strings.Contains(seen, "delivered") {
		t.Errorf("the list is not filtered: %s", seen)
	}

	// It comes right by itself, and the page follows.
	down.Store(false)
	text(t, ctx, "main", "No pickup matches")
	do(t, ctx, chromedp.Navigate(b.URL+"/routes/specimen-orders"))
	text(t, ctx, "main", "1 file waiting in the folder", "pipe.csv", "it is not an ordinary file")
	text(t, ctx, "table.pickups", "stuck.csv", "delivered")
	do(t, ctx, chromedp.Click("//button[contains(., 'specimen-to-order.map')]"))
	text(t, ctx, "pre", "map specimen_to_order")

	// What stands in the data is shown, never obeyed.
	markup := b.Ended("markup.csv", 0)
	do(t, ctx, chromedp.Navigate(b.URL+"/pickups?name=markup"))
	do(t, ctx, chromedp.Click(fmt.Sprintf("//a[normalize-space()='%d']", markup.ID)))
	text(t, ctx, "[data-record='2'] dd.bad", "<script>")
	do(t, ctx, chromedp.Click(chromedp.CSS(".p-toggleswitch-input")))
	text(t, ctx, "[data-record='1']", "<b>&amp;</b>")

	// A page that is there when the service goes says so.
	if err := b.End(); err != nil {
		t.Fatal(err)
	}
	text(t, ctx, "header", "not live")
	do(t, ctx, chromedp.KeyEvent("g"), chromedp.KeyEvent("r"))
	text(t, ctx, "main", "This could not be loaded.", "The service does not answer", "Try again")
}

// TestConsoleWarnings: how many warnings there are stands with each pickup, and a switch shows the records that they are about; where they are
// about the file, that is said.
func TestConsoleWarnings(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	b.Publish(branched("  - name: all\n    deliver: {folder: \"{laboratory}/all\", name: \"{station}.csv\"}\n"))
	b.Drop("stations/seals", "two.csv", "station,tag,kg\nS1,T-1,1\nS1,T-2,2\nS2,T-3,3\n")
	two := b.Ended("two.csv", 0)
	b.Drop("stations/seals", "spoilt.csv", "station,tag,kg\n11-Mar,T-1,1\n")
	spoilt := b.Ended("spoilt.csv", 0)
	ctx := browser(t)
	do(t, ctx, chromedp.Navigate(b.URL+"/pickups#token="+b.Token))
	text(t, ctx, "table.pickups", "two.csv", "1 warning")
	do(t, ctx, chromedp.Click(fmt.Sprintf("//a[normalize-space()='%d']", two.ID)))
	text(t, ctx, "main", "3 in = 3 good + 0 rejected", "1 warning", "only those with a warning", "1 to 3 of 3")
	warned := chromedp.Click("//label[contains(., 'with a warning')]//input")
	do(t, ctx, warned, chromedp.WaitNotPresent(chromedp.CSS("[data-record='1']")))
	text(t, ctx, "[data-record='3']", `by this one its name would be "S2.csv"`)
	do(t, ctx, chromedp.Navigate(fmt.Sprintf("%s/pickups/%d", b.URL, spoilt.ID)))
	text(t, ctx, "main", "a value of station has been turned into a day of a month", "1 to 1 of 1")
	do(t, ctx, warned)
	text(t, ctx, "main", "No record has a warning: what there is to say is about the file as a whole.")
	shot(t, ctx, "console-warnings")
}

// TestPicturesOfTheClient renders what the client prints as it looks in a
// terminal. It only does so when pictures are asked for; what the client prints
// is tested elsewhere.
func TestPicturesOfTheClient(t *testing.T) {
	t.Setenv("COLUMNS", "158") // as much as a picture has room for
	if *shots == "" {
		t.Skip("no pictures were asked for")
	}
	b := demoed(t)
	ctx := browser(t)
	broken := t.TempDir()
	if err := os.CopyFS(broken, os.DirFS("../demo/workspace")); err != nil {
		t.Fatal(err)
	}
	m := filepath.Join(broken, "maps", "specimen-to-order.map")
	c, err := os.ReadFile(m)
	if err != nil {
		t.Fatal(err)
	}
	wrong := strings.NewReplacer("= weight_kg", "= wait_kg", `"yyyyMMddHHmm"`, `"YYYYMMddHHmm"`, "keep MSH-3, ", "keep ").Replace(string(c))
	if err := os.WriteFile(m, []byte(wrong), 0o644); err != nil {
		t.Fatal(err)
	}
	for name, commands := range map[string][]string{
		"client-check":   {"check " + broken},
		"client-try":     {"try specimen-orders ../demo/files/brunholm-2026-11-23.csv -w ../demo/workspace --rejected --limit 1", "try reagent-orders ../demo/files/reagents-2026-11-26.csv -w ../demo/workspace --limit 1"},
		"client-routes":  {"routes", "route specimen-orders"},
		"client-pickups": {"overview", "pickups --state rejected"},
		"client-pickup":  {"pickup 2 --rejected --limit 1"},
		"client-rejects": {"rejects 2"},
		"client-look":    {"look ../demo/workspace/samples/weights-broken.csv"},
	} {
		var page strings.Builder
		page.WriteString("<body style='margin:0;background:#14181b;color:#dfe6e8'><pre style='font:13px/1.4 monospace;padding:18px;margin:0'>")
		for _, line := range commands {
			_, said := command(b, strings.Fields(line)...)
			shown := strings.ReplaceAll(strings.ReplaceAll(line, broken, "demo/workspace"), "../", "")
			fmt.Fprintf(&page, "<b style='color:#7bb0bf'>$ ydrion %s</b>\n%s\n", html.EscapeString(shown), html.EscapeString(strings.ReplaceAll(strings.ReplaceAll(said, broken, "demo/workspace"), "../", "")))
		}
		file := filepath.Join(t.TempDir(), "page.html")
		if err := os.WriteFile(file, []byte("<!doctype html><meta charset=utf-8>"+page.String()), 0o644); err != nil {
			t.Fatal(err)
		}
		do(t, ctx, chromedp.Navigate("file://"+file))
		shot(t, ctx, name)
	}
}

// TestConsoleAttention walks through what an operator does about what cannot go
// on: sees it, finds the lane, lets others pass, gives up, runs the same again.
func TestConsoleAttention(t *testing.T) {
	t.Parallel()
	b := demoed(t)
	w := testbed.Workspace(t)
	minute := time.Now().Add(-time.Minute)
	route := strings.Replace(string(w.Files["routes/dunmarra-orders.yaml"]), `by: "23:30"`, fmt.Sprintf("by: %q", minute.Format("15:04")), 1)
	b.Publish(map[string]string{"routes/dunmarra-orders.yaml": route})
	names, texts := demo.Day(time.Now())
	for i, name := range names {
		b.Drop("stations/dunmarra", name, texts[i])
		b.Drop("stations/dunmarra", strings.TrimSuffix(name, ".csv")+".ok", "")
		testbed.Until(t, name+" has come as far as it can", func() bool {
			return strings.Contains(states(b), name+"="+[]string{"delivered", "held", ""}[i]) || i == 2 && hasWaiting(b, "dunmarra-orders", name)
		})
	}
	noon := newest(b)
	ctx := browser(t)
	do(t, ctx, chromedp.Navigate(b.URL+"/attention#token="+b.Token))
	text(t, ctx, "table.alerts", "duplicate", names[1], "waits for a person", "lane held", "rejected")
	text(t, ctx, "table.lanes", "dunmarra-orders", "all", names[1], "came before, as "+names[0], "It waits for a person")
	text(t, ctx, "table.expected", "night sheet", "to come")
	text(t, ctx, "table.nodes", "alive", "\t14")
	shot(t, ctx, "console-attention")
	do(t, ctx, chromedp.Navigate(b.URL+"/routes/dunmarra-orders"))
	text(t, ctx, "main", "held", "1 file waiting in the folder", names[2], "its lane all is held by pickup", "A file is complete when {file.stem}.ok is beside it", "when priority = \"urgent\"")
	shot(t, ctx, "console-route-held")
	do(t, ctx, chromedp.Navigate(fmt.Sprintf("%s/pickups/%d", b.URL, noon.ID)))
	text(t, ctx, ".trouble", "came before", "It waits for a person", "Take it", "Let others pass", "Withdraw")
	shot(t, ctx, "console-pickup-held")
	do(t, ctx, chromedp.Click("//button[contains(., 'Let others pass')]"))
	text(t, ctx, ".p-dialog", "Let others pass?")
	do(t, ctx, chromedp.KeyEvent("\r"), chromedp.WaitNotPresent(chromedp.CSS(".p-dialog-mask")))
	testbed.Until(t, "the one behind has passed", func() bool { return strings.Contains(states(b), names[2]+"=delivered") })
	do(t, ctx, chromedp.WaitNotPresent("//button[contains(., 'Let others pass')]"), chromedp.Click("//button[contains(., 'Withdraw')]"))
	// What cannot be taken back is asked, with who and why, and stays on record.
	text(t, ctx, ".p-dialog", "Withdraw?", "nothing is delivered; the original stays in the archive", "Why", "Who")
	do(t, ctx, chromedp.KeyEvent("it was sent twice"), chromedp.Click(chromedp.CSS(".p-dialog input[placeholder='your name']")), chromedp.KeyEvent("Maren"))
	do(t, ctx, chromedp.KeyEvent("\r"))
	text(t, ctx, ".head", "gone again")
	text(t, ctx, ".acts", "withdrawn", "Maren", "it was sent twice", "others let pass", "the console")
	// All seen.
	do(t, ctx, chromedp.WaitNotPresent(chromedp.CSS(".p-dialog")), chromedp.KeyEvent("g"), chromedp.KeyEvent("a"))
	text(t, ctx, "table.alerts", "duplicate")
	do(t, ctx, chromedp.Click("//button[contains(., 'All seen')]"))
	text(t, ctx, "main", "There is nothing that nobody has seen.")
	// A selection again, with what it would do said first.
	do(t, ctx, chromedp.Navigate(b.URL+"/pickups?route=specimen-orders"))
	text(t, ctx, "table.pickups", "specimen-orders")
	do(t, ctx, chromedp.Click("//button[contains(., 'Run these again')]"))
	text(t, ctx, ".p-dialog", "7 pickups, from ansel-point-2026-11-23.csv to", "The same once more", "Run 7 again")
	shot(t, ctx, "console-run-again")
	do(t, ctx, chromedp.Click("//button[contains(., 'Run 7 again')]"))
	testbed.Until(t, "all have run again", func() bool {
		list, err := b.Client.Pickup(context.Background(), 1)
		return err == nil && len(list.Runs) == 2 && list.EndedAt != nil
	})
	// What is run again is what is listed: held or withdrawn pickups are named as such, and
	// nothing else takes their place.
	do(t, ctx, chromedp.Navigate(b.URL+"/pickups?state=withdrawn"))
	text(t, ctx, "table.pickups", names[1])
	do(t, ctx, chromedp.Click("//button[contains(., 'Run these again')]"))
	text(t, ctx, ".p-dialog", "None of them can be run again", names[1]+" is left out")
	if focused, err := chromedp.Run(ctx, chromedp.Evaluate[string](`document.activeElement.innerText`)); err != nil || focused != "Leave it" {
		t.Errorf("the dialog's focus is on %q: %v", focused, err)
	}
	do(t, ctx, chromedp.Click("//button[contains(., 'Leave it')]"))
	do(t, ctx, chromedp.Navigate(b.URL+"/pickups?lane=all&route=dunmarra-orders"))
	text(t, ctx, "table.pickups", names[0], names[2])
	do(t, ctx, chromedp.Click("//button[contains(., 'Run these again')]"))
	text(t, ctx, ".p-dialog", names[1]+" is left out", "would overtake")
	do(t, ctx, chromedp.Click("//button[contains(., 'Leave it')]"))
	// The mark stays on its row when others come; under the pointer none moves before it is
	// asked for.
	do(t, ctx, chromedp.WaitNotPresent(chromedp.CSS(".p-dialog")), chromedp.Navigate(b.URL+"/pickups"))
	text(t, ctx, "table.pickups", names[2])
	do(t, ctx, chromedp.KeyEvent("j"))
	text(t, ctx, "tr.at", names[2])
	b.Drop("stations/inbox", "marked.csv", sheet(71))
	b.Ended("marked.csv", 0)
	text(t, ctx, "table.pickups", "marked.csv")
	text(t, ctx, "tr.at", names[2])
	if _, err := chromedp.Run(ctx, chromedp.Evaluate[bool](`document.querySelector("table.pickups").parentElement.dispatchEvent(new PointerEvent("pointerenter"))`)); err != nil {
		t.Fatal(err)
	}
	b.Drop("stations/inbox", "over.csv", sheet(72))
	b.Ended("over.csv", 0)
	text(t, ctx, ".fresh", "1 new")
	if shown, err := chromedp.Run(ctx, chromedp.Evaluate[string](`document.querySelector("table.pickups").innerText`)); err != nil || strings.Contains(shown, "over.csv") {
		t.Errorf("a row moved under the pointer: %v %s", err, shown)
	}
	do(t, ctx, chromedp.Click("//button[contains(., '1 new')]"))
	text(t, ctx, "table.pickups", "over.csv", "marked.csv")
	// Stopping is asked.
	do(t, ctx, chromedp.Navigate(b.URL+"/routes/specimen-orders"))
	do(t, ctx, chromedp.Click("//button[contains(., 'Stop')]"))
	text(t, ctx, ".p-dialog", "Stop specimen-orders?", "What is under way is finished")
	do(t, ctx, chromedp.KeyEvent("a test"), chromedp.KeyEvent("\r"))
	text(t, ctx, ".head", "stopped")
	text(t, ctx, ".acts", "stopped", "Maren", "a test")
	do(t, ctx, chromedp.WaitNotPresent(chromedp.CSS(".p-dialog")), chromedp.Click("//button[contains(., 'Start')]"))
	text(t, ctx, ".head", "running")
	// Pausing and going on.
	do(t, ctx, chromedp.Navigate(b.URL+"/routes/specimen-orders"))
	text(t, ctx, ".head", "running")
	do(t, ctx, chromedp.Click("//button[contains(., 'Pause')]"))
	text(t, ctx, ".p-dialog", "Pause specimen-orders?", "Files are noticed and wait")
	do(t, ctx, chromedp.KeyEvent("\r"), chromedp.WaitNotPresent(chromedp.CSS(".p-dialog-mask")))
	text(t, ctx, ".head", "paused")
	do(t, ctx, chromedp.Click("//button[contains(., 'Go on')]"))
	text(t, ctx, ".head", "running")
	// A file handed over from the browser: first a trial.
	file := filepath.Join(t.TempDir(), "by-hand.csv")
	if err := os.WriteFile(file, []byte(heading+row(1)), 0o644); err != nil {
		t.Fatal(err)
	}
	do(t, ctx, chromedp.Click("//button[contains(., 'Hand a file')]"))
	text(t, ctx, ".p-dialog", "A trial delivers and records nothing")
	do(t, ctx, chromedp.SetUploadFiles(chromedp.CSS("input[type=file]"), []string{file}))
	do(t, ctx, chromedp.Click("//button[contains(., 'Try it')]"))
	text(t, ctx, ".p-dialog", "1 in = 1 good", "AP-000001", "PID")
	do(t, ctx, chromedp.Click("//button[contains(., 'Hand it over')]"))
	text(t, ctx, "main", "by-hand.csv", "handed over")
}

// TestConsoleTabs: a new tab needs no token of its own, a row opens in one with the middle button,
// a token that is not accepted is said to be so, and times have the viewer's zone with the
// service's day told apart.
func TestConsoleTabs(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	b.Publish(inOneFile(t))
	b.Drop("stations/inbox", "tabs.csv", heading+row(1))
	b.Ended("tabs.csv", 0)
	ctx := browser(t, chromedp.Env("TZ=America/New_York"))
	do(t, ctx, chromedp.Navigate(b.URL+"/#token=WRONG"))
	text(t, ctx, "main", "does not accept this token", "paste the token")
	do(t, ctx, chromedp.SendKeys(chromedp.CSS("input[type=password]"), "with ümlaut\r"))
	text(t, ctx, "main", "This is not a token")
	do(t, ctx, chromedp.Clear(chromedp.CSS("input[type=password]")), chromedp.SendKeys(chromedp.CSS("input[type=password]"), b.URL+"/#token="+b.Token+"\r"))
	text(t, ctx, "main", "Today", "tabs.csv")
	newYork, err := time.LoadLocation("America/New_York")
	if err != nil {
		t.Fatal(err)
	}
	midnight := time.Date(time.Now().Year(), time.Now().Month(), time.Now().Day(), 0, 0, 0, 0, time.Local)
	text(t, ctx, "header", "America/New York "+time.Now().In(newYork).Format("-07:00"))
	want := midnight.Format("2006-01-02")
	if here := midnight.In(newYork); here.Format("-07:00") != midnight.Format("-07:00") {
		want += ", the service's day (" + midnight.Format("-07:00") + "): since " + here.Format("2006-01-02 15:04:05") + " here"
	}
	text(t, ctx, ".head", want)

	// A tab that was opened by hand has no token; the other one gives it.
	tab, done := chromedp.NewContext(ctx)
	defer done()
	if err := chromedp.Do(tab, chromedp.Navigate(b.URL+"/routes")); err != nil { // a tab ends with its first context
		t.Fatal(err)
	}
	text(t, tab, "main", "specimen-orders", "running")

	// The middle button opens a row elsewhere; this tab stays where it is.
	opened := chromedp.WaitNewTarget(ctx, func(i *target.Info) bool { return strings.HasSuffix(i.URL, "/pickups/1") })
	at, err := chromedp.Run(ctx, chromedp.Evaluate[[]float64](`(() => { const cell = document.querySelector("table.pickups td.name"); cell.scrollIntoView({ block: "center" }); const r = cell.getBoundingClientRect(); return [r.x + 5, r.y + 5] })()`))
	if err != nil {
		t.Fatal(err)
	}
	do(t, ctx, chromedp.MouseClickXY(at[0], at[1], chromedp.ButtonMiddle))
	select {
	case id := <-opened:
		other, done := chromedp.NewContext(ctx, chromedp.WithTargetID(id))
		defer done()
		if err := chromedp.Do(other, chromedp.EmulateViewport(1280, 800)); err != nil {
			t.Fatal(err)
		}
		text(t, other, "main", "tabs.csv", "1 in = 1 good")
	case <-time.After(20 * time.Second):
		t.Error("no tab was opened")
	}
	text(t, ctx, "main", "Today")
	do(t, ctx, chromedp.MouseClickXY(at[0], at[1]))
	text(t, ctx, "main", "Pickup 1 of")
}

func hasWaiting(b *testbed.Bed, route, name string) bool {
	s, err := b.Client.Route(context.Background(), route)
	if err != nil {
		b.T.Fatal(err)
	}
	for _, w := range s.WaitingFiles {
		if w.Name == name && strings.Contains(w.Reason, "its lane") {
			return true
		}
	}
	return false
}

// TestConsoleLongRecord: the rows of a long list are folded, and come a page at a time.
func TestConsoleLongRecord(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	b.Publish(nil)
	var rows strings.Builder
	rows.WriteString("order,for,article,description,quantity,unit,price,wanted\n")
	for i := range 400 {
		fmt.Fprintf(&rows, "SC-9200,LAB,HR-%03d,Saline 500 ml,2,each,1.15,\n", i+1)
	}
	b.Drop("laboratory/purchases", "reagents-long.csv", rows.String())
	id := b.Ended("reagents-long.csv", 0).ID
	ctx := browser(t)
	do(t, ctx, chromedp.Navigate(fmt.Sprintf("%s/pickups/%d#token=%s", b.URL, id, b.Token)))
	text(t, ctx, "[data-record='1']", "HR-003", "… 3,176 values", "CTT-1", "400", "920.00")
	if seen := inner(ctx, "[data-record='1']"); strings.Contains(seen, "HR-050") {
		t.Error("all rows of a long list are shown")
	}
	shot(t, ctx, "long-record")
	do(t, ctx, chromedp.Click("//button[contains(., 'what the map did')]"))
	text(t, ctx, "[data-record='1'] .map", "PO1-7 = article", "rows 2", "HR-002", "more steps")
	do(t, ctx, chromedp.Click("//button[contains(., 'by field')]"))
	do(t, ctx, chromedp.Click("//button[contains(., 'show more rows')]"))
	text(t, ctx, "[data-record='1']", "HR-100", "HR-050", "… 2,400 values", "PO1[100]-7")
	do(t, ctx, chromedp.Click("//button[contains(., 'show more rows')]"))
	text(t, ctx, "[data-record='1']", "PO1[400]-7", "HR-400")
	if seen := inner(ctx, "[data-record='1']"); strings.Contains(seen, "show more rows") {
		t.Error("more rows are offered than there are")
	}
	code, said := command(b, "pickup", fmt.Sprint(id), "--rows", "60")
	if code != 0 || !strings.Contains(said, "article  description") || !strings.Contains(said, "HR-060") || strings.Contains(said, "HR-061") || !strings.Contains(said, "order[61] … 2720 values (--rows)") {
		t.Errorf("%d %s", code, said)
	}
	if code, said := command(b, "pickup", fmt.Sprint(id), "--rows", "0"); code != 2 && code != 1 || !strings.Contains(said, "rows") {
		t.Errorf("%d %s", code, said)
	}
}
