package e2e

import (
	"context"
	"errors"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"ydrion/api"
	"ydrion/service"
	"ydrion/testbed"
	"ydrion/wire"
)

// TestWhoDidWhat: what people do to routes and pickups is kept with who, when and why; a route
// can be removed once nothing is left to do, is then not led and not listed, and comes back
// when it is published.
func TestWhoDidWhat(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	ctx := context.Background()
	c := b.Client
	c.By, c.Because = "Maren", "the first day"
	b.Publish(inOneFile(t))
	c.Because = "the laboratory is closed"
	if _, err := c.Pause(ctx, "specimen-orders", time.Time{}); err != nil {
		t.Fatal(err)
	}
	if _, err := c.SetRunning(ctx, "specimen-orders", true); err != nil {
		t.Fatal(err)
	}
	b.Drop("stations/inbox", "a.csv", sheet(1))
	b.Ended("a.csv", 0)
	if _, err := c.Pause(ctx, "specimen-orders", time.Now().Add(-time.Hour)); err == nil || !strings.Contains(err.Error(), "later than now") {
		t.Errorf("a pause that ends before it begins: %v", err)
	}
	if r, err := c.Remove(ctx, "specimen-orders", true); err != nil || !r.Running || r.Removed || r.Pickups != 1 {
		t.Errorf("%+v %v", r, err)
	}
	var problem *api.Problem
	if _, err := c.Remove(ctx, "specimen-orders", false); !errors.As(err, &problem) || problem.Status != 409 || !strings.Contains(problem.Detail, "stop it first") {
		t.Errorf("a running route: %v", err)
	}
	sheetOf, err := c.SetRunning(ctx, "specimen-orders", false)
	if err != nil {
		t.Fatal(err)
	}
	var done []string
	for _, a := range sheetOf.Acts {
		done = append(done, a.What+" by "+a.By+": "+a.Because)
	}
	closed := " by Maren: the laboratory is closed"
	if want := "stopped" + closed + ", started" + closed + ", paused" + closed + ", started by Maren: the first day, published revision 1 by Maren: the first day"; strings.Join(done, ", ") != want {
		t.Errorf("%s\nnot\n%s", strings.Join(done, ", "), want)
	}
	if r, err := c.Remove(ctx, "specimen-orders", false); err != nil || !r.Removed {
		t.Fatalf("%+v %v", r, err)
	}
	routes, err := c.Routes(ctx)
	if err != nil {
		t.Fatal(err)
	}
	for _, r := range routes {
		if r.Name == "specimen-orders" {
			t.Errorf("it is still there: %+v", r)
		}
	}
	for _, err := range []error{
		func() error { _, err := c.Route(ctx, "specimen-orders"); return err }(),
		func() error { _, err := c.SetRunning(ctx, "specimen-orders", true); return err }(),
		func() error { _, err := c.Remove(ctx, "specimen-orders", false); return err }(),
		func() error { _, err := c.Hand(ctx, "specimen-orders", "x.csv", strings.NewReader("")); return err }(),
	} {
		if !errors.As(err, &problem) || problem.Status != 404 {
			t.Errorf("a removed route: %v", err)
		}
	}
	// Its pickups are not run again: nobody would go on with them.
	for _, same := range []bool{false, true} {
		list, err := c.Again(ctx, service.AgainRequest{Pickups: []int64{1}, Same: same})
		if err != nil || len(list) != 1 || list[0].Run != 0 || list[0].Problem == "" {
			t.Errorf("same %v: %+v %v", same, list, err)
		}
	}
	if got := states(b); got != "a.csv=delivered" {
		t.Errorf("what was known of its pickups: %s", got)
	}
	testbed.Until(t, "nobody leads it", func() bool {
		var leader *int64
		b.Ask(&leader, `select leader from routes where name = 'specimen-orders'`)
		return leader == nil
	})
	// It comes back, and goes on counting.
	b.Publish(inOneFile(t))
	b.Drop("stations/inbox", "b.csv", sheet(2))
	b.Ended("b.csv", 0)
	if back, err := c.Route(ctx, "specimen-orders"); err != nil || back.Number != 1 || len(back.Acts) < 7 {
		t.Errorf("%+v %v", back, err)
	}
}

// TestDryPublish says what would change, line by line, and does nothing; a route that the
// workspace does not have any more is named.
func TestDryPublish(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	b.Publish(inOneFile(t))
	ctx := context.Background()
	w := testbed.Workspace(t)
	request := api.PublishRequest{Files: map[string][]byte{}, Dry: true}
	for n, content := range w.Files {
		request.Files[n] = content
	}
	for n, content := range inOneFile(t) {
		request.Files[n] = []byte(content)
	}
	dry := func() api.PublishAnswer {
		t.Helper()
		answer, err := b.Client.Publish(ctx, request)
		if err != nil || answer.Published {
			t.Fatalf("%+v %v", answer, err)
		}
		return answer
	}
	for _, r := range dry().Routes {
		if r.Changed || len(r.Changes) > 0 {
			t.Errorf("nothing was changed, but %s would be: %+v", r.Route, r.Changes)
		}
	}
	const table = "lookups/sex_codes.csv"
	request.Files[table] = []byte(strings.Replace(string(request.Files[table]), "Male,M", "Male,X", 1))
	found := false
	for _, r := range dry().Routes {
		if r.Route != "specimen-orders" {
			continue
		}
		found = r.Changed && len(r.Changes) == 1 && r.Changes[0].File == table && len(r.Changes[0].Lines) == 2 && r.Changes[0].Lines[0].Text == "Male,M" && r.Changes[0].Lines[0].Goes && r.Changes[0].Lines[1].Text == "Male,X"
		if !found {
			t.Errorf("%+v", r)
		}
	}
	if !found {
		t.Error("the changed line is not named")
	}
	// The route gets another name: the old one is mentioned, as long as it runs.
	route := string(request.Files["routes/specimen-orders.yaml"])
	delete(request.Files, "routes/specimen-orders.yaml")
	request.Files["routes/orders.yaml"] = []byte(strings.NewReplacer("route: specimen-orders", "route: orders", "{stations}/inbox", "{stations}/other").Replace(route))
	said := func() (all string) {
		for _, f := range dry().Findings {
			all += f.String() + "\n"
		}
		return all
	}
	if all := said(); !strings.Contains(all, "specimen-orders is published and runs, and this workspace does not have it") {
		t.Error(all)
	}
	if _, err := b.Client.SetRunning(ctx, "specimen-orders", false); err != nil {
		t.Fatal(err)
	}
	if all := said(); strings.Contains(all, "does not have it") {
		t.Error(all)
	}
}

// TestWhoRanWhat: that a pickup was handed in, or run again, is kept with who and why, and a
// request that only asks what would be run leaves no trace.
func TestWhoRanWhat(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	ctx := context.Background()
	b.Publish(inOneFile(t))
	folder := t.TempDir()
	if err := os.WriteFile(filepath.Join(folder, "late.csv"), []byte(sheet(1)), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, args := range [][]string{
		{"hand", "specimen-orders", filepath.Join(folder, "late.csv"), "--by", "Maren", "--because", "came by mail"},
		{"again", "1", "--by", "Per"},
		{"again", "1", "--yes", "--by", "Per", "--because", "new table"},
		{"again", "1", "--yes", "--same", "--by", "Per"},
		{"hand", "specimen-orders", "--pickup", "1", "--by", "Per", "--because", "once more"},
	} {
		if code, said := command(b, args...); code != 0 {
			t.Fatalf("%v: exit code %d: %s", args, code, said)
		}
		testbed.Until(t, "it has ended", func() bool { return !strings.Contains(states(b), "taken") && !strings.Contains(states(b), "committed") })
	}
	var did []string
	for id := int64(2); id > 0; id-- {
		p, err := b.Client.Pickup(ctx, id)
		if err != nil {
			t.Fatal(err)
		}
		for _, a := range p.Acts {
			did = append(did, a.What+" by "+a.By+": "+a.Because)
		}
	}
	if want := "handed in by Per: once more, run once more, the same by Per: , run again by Per: new table, handed in by Maren: came by mail"; strings.Join(did, ", ") != want {
		t.Errorf("%s\nnot\n%s", strings.Join(did, ", "), want)
	}
}

// TestRename: a route gets another name, and what is known of it goes with it: its pickups, what they became, the number
// of its next revision and of its sequence.
func TestRename(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	b.Publish(inOneFile(t))
	b.Drop("stations/inbox", "before.csv", heading+row(1)+row(2))
	before := b.Ended("before.csv", 0)
	rename := func(args ...string) (int, string) {
		return command(b, append([]string{"rename", "specimen-orders"}, args...)...)
	}
	if code, out := rename("orders", "--yes"); code == 0 || !strings.Contains(out, "is running; stop it first") {
		t.Fatalf("%d %s", code, out)
	}
	if code, out := command(b, "stop", "specimen-orders"); code != 0 {
		t.Fatal(out)
	}
	for name, says := range map[string]string{"weight-log": "there is or was a route weight-log already", "Orders!": "small letters"} {
		if code, out := rename(name); code == 0 || !strings.Contains(out, says) {
			t.Errorf("%d %s", code, out)
		}
	}
	if code, out := rename("orders"); code != 0 || !strings.Contains(out, "specimen-orders: would be called orders, with 1 pickup; say --yes to do it") {
		t.Errorf("%d %s", code, out)
	}
	testbed.Until(t, "it is renamed", func() bool {
		code, out := rename("orders", "--yes", "--because", "it is shorter")
		return code == 0 && strings.Contains(out, "is called orders now")
	})
	// What was known of it is known of the new name.
	p, err := b.Client.Pickup(context.Background(), before.ID)
	if err != nil || p.Route != "orders" || p.Runs[0].Number != 1 {
		t.Errorf("%+v %v", p, err)
	}
	trial, err := b.Client.Records(context.Background(), before.Run, url.Values{})
	if err != nil || len(trial.Records) != 2 {
		t.Errorf("%+v %v", trial, err)
	}
	files := inOneFile(t)
	files["routes/specimen-orders.yaml"] = strings.Replace(files["routes/specimen-orders.yaml"], "route: specimen-orders", "route: orders", 1)
	b.Publish(files)
	b.Drop("stations/inbox", "after.csv", heading+row(3))
	after, err := b.Client.Pickup(context.Background(), b.Ended("after.csv", 0).ID)
	if err != nil || after.Route != "orders" || after.Runs[0].Number != 2 {
		t.Errorf("%+v %v", after, err)
	}
	page, err := b.Client.Pickups(context.Background(), url.Values{"route": {"orders"}})
	if err != nil || len(page.Items) != 2 {
		t.Errorf("%+v %v", page, err)
	}
	sheet, err := b.Client.Route(context.Background(), "orders")
	if err != nil || sheet.Today.Pickups != 2 || !slices.ContainsFunc(sheet.Acts, func(a wire.Act) bool { return a.What == "renamed from specimen-orders" && a.Because == "it is shorter" }) {
		t.Errorf("%+v %v", sheet, err)
	}
	list, err := b.Client.Routes(context.Background())
	if err != nil || slices.ContainsFunc(list, func(r service.RouteView) bool { return r.Name == "specimen-orders" }) {
		t.Errorf("%+v %v", list, err)
	}
}
