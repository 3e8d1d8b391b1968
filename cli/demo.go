package cli

import (
	"context"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ydrion/api"
	"ydrion/demo"
	"ydrion/managed"
	"ydrion/service"
	"ydrion/store"
	"ydrion/wire"
	"ydrion/workspace"
)

func (a *app) demo() *cobra.Command {
	var once bool
	var data, listen, database string
	c := &cobra.Command{
		Annotations: map[string]string{hosts: "yes"},
		Use:         "demo",
		Short:       "Run the demo: a service, a workspace, and field stations that send files",
		Long: `Run a service with the workspace of Skerry Coast Seal Rescue and send files to it
as field stations would: renamed in, written slowly, some of them broken.
Interrupt it to end; starting again goes on where it was.

With --once, send the shipped files only, print what became of them, and end.
The exit code is 1 if anything is not as the demo expects.`,
		Example: "  ydrion demo\n  ydrion demo --once",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.runDemo(cmd.Context(), data, listen, database, once)
		},
	}
	c.Flags().BoolVar(&once, "once", false, "send the shipped files and end")
	c.Flags().StringVar(&data, "folder", ".demo", "folder for everything that the demo writes")
	c.Flags().StringVar(&listen, "listen", "127.0.0.1:8470", "address of the HTTP interface; another port is taken if it is busy")
	c.Flags().StringVar(&database, "database-url", "", "an existing PostgreSQL database instead of a private cluster")
	return c
}

func (a *app) runDemo(ctx context.Context, data, listen, database string, once bool) error {
	data, err := demoFolder(a.out, data, database)
	if err != nil {
		return err
	}
	if l, err := net.Listen("tcp", listen); err != nil {
		listen = "127.0.0.1:0"
	} else if err := l.Close(); err != nil {
		return err
	}
	w, err := workspace.Load(demo.Workspace())
	if err != nil {
		return err
	}
	logFile, err := os.OpenFile(filepath.Join(data, "service.log"), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o644)
	if err != nil {
		return err
	}
	defer logFile.Close()
	log, err := logger(logFile, "text", "info")
	if err != nil {
		return err
	}
	p, err := partnersOf(w.Environments["demo"], data)
	if err != nil {
		return err
	}
	defer p.close()
	fmt.Fprintln(a.out, "starting the service and its database")
	h, err := Host(ctx, HostConfig{Config: service.Config{Data: data, DatabaseURL: database, Environment: p.environment, Log: log}, Listen: listen})
	if err != nil {
		return err
	}
	fmt.Fprintf(a.out, "console   %s\ndata      %s\n", consoleURL(h), data)
	for _, of := range [][2]string{{"suppliers", "their server, with the files in " + filepath.Join(data, "suppliers")}, {"letterbox", "the mailboxes into which Calder Ness mails"}, {"analyser", "the laboratory, which acknowledges orders"}, {"vault", "an object store"}} {
		place := p.environment.Places[of[0]]
		fmt.Fprintf(a.out, "%-9s %s (a stand-in: %s)\n", of[0], place.Where(), of[1])
	}
	fmt.Fprintln(a.out)
	err = a.demoDrops(ctx, h, w, data, p, once)
	if ctx.Err() != nil {
		fmt.Fprintln(a.out, "\nending: finishing what is under way, stopping the database")
		err = nil
	}
	if closed := h.Close(); err == nil {
		err = closed
	}
	return err
}

// demoFolder makes the folder, elsewhere if the database's account could not
// get there.
func demoFolder(out io.Writer, data, database string) (string, error) {
	data, err := filepath.Abs(data)
	if err != nil {
		return "", err
	}
	if database == "" {
		if err := managed.Reachable(filepath.Join(data, "postgres")); err != nil {
			other := filepath.Join("/var/tmp", "ydrion-demo-"+strconv.Itoa(os.Getuid()))
			fmt.Fprintf(out, "%v; using %s\n", err, other)
			data = other
		}
	}
	return data, os.MkdirAll(data, 0o755)
}

func (a *app) demoDrops(ctx context.Context, h *Hosted, w *workspace.Workspace, data string, p *partners, once bool) error {
	if !once {
		// The deadline is near, so that one sees it missed.
		soon := time.Now().Add(time.Minute).Format("15:04")
		const file = "routes/dunmarra-orders.yaml"
		w.Files[file] = []byte(strings.Replace(string(w.Files[file]), `by: "23:30"`, fmt.Sprintf("by: %q", soon), 1))
	}
	answer, err := h.Client.Publish(ctx, api.PublishRequest{Files: w.Files})
	if err != nil {
		return err
	}
	if !answer.Published {
		a.published(answer, false)
		return errFindings
	}
	for _, r := range answer.Routes {
		if _, err := h.Client.SetRunning(ctx, r.Route, true); err != nil {
			return err
		}
	}
	var rows [][]string
	good := true
	for _, d := range demo.Drops {
		p, err := sendDemo(ctx, h.Client, data, d)
		if err != nil {
			return err
		}
		row, expected, err := a.demoRow(ctx, h.Client, data, d, p)
		if err != nil {
			return err
		}
		rows, good = append(rows, row), good && expected
	}
	for _, set := range demo.Sets {
		more, fine, err := a.demoSet(ctx, h.Client, data, set)
		if err != nil {
			return err
		}
		rows, good = append(rows, more...), good && fine
	}
	row, fine, err := a.demoMail(ctx, h.Client, data, p)
	if err != nil {
		return err
	}
	rows, good = append(rows, row), good && fine
	more, fine, err := a.demoDay(ctx, h.Client, data)
	if err != nil {
		return err
	}
	rows, good = append(rows, more...), good && fine
	fmt.Fprintln(a.out)
	if err := a.table("PICKUP,FILE,CAME,STATE,IN,GOOD,REJECTED,FILTERED,MERGED,WHERE TO,", rows); err != nil {
		return err
	}
	if !good {
		fmt.Fprintln(a.out, "\nsomething is not as the demo expects")
		return errFindings
	}
	if once {
		return nil
	}
	fmt.Fprintln(a.out, "\nDunmarra's night sheet is expected within two minutes and will be missed.\nThe stations go on sending; interrupt to end.")
	return a.demoForever(ctx, h.Client, data)
}

// demoRow is a line about a file, and whether it became what was expected of it.
func (a *app) demoRow(ctx context.Context, client *api.Client, data string, d demo.Drop, p wire.Pickup) (row []string, expected bool, err error) {
	expected = p.State == d.State && p.In == d.In && p.Good == d.Good && p.Rejected == d.Rejected && p.Filtered == d.Filtered && p.Merged == d.Merged
	as := "as expected"
	if !expected {
		as = fmt.Sprintf("expected %s: %s", d.State, balance(d.In, d.Good, d.Rejected, d.Filtered, d.Merged, 0))
	}
	to, err := whereTo(ctx, client, p, data)
	a.demoLine(p)
	return []string{n(p.ID), d.File, string(d.Way), p.State, n(p.In), n(p.Good), n(p.Rejected), n(p.Filtered), n(p.Merged), to, as}, expected, err
}

// demoSet sends files that go on together.
func (a *app) demoSet(ctx context.Context, client *api.Client, data string, set demo.Set) (rows [][]string, good bool, err error) {
	latest, err := latestPickup(ctx, client)
	if err != nil {
		return nil, false, err
	}
	for _, d := range set.Drops {
		b, err := fs.ReadFile(demo.Files(), d.File)
		if err == nil {
			err = drop(ctx, filepath.Join(data, filepath.FromSlash(d.Inbox)), d.File, b, d.Way)
		}
		if err != nil {
			return nil, false, err
		}
	}
	if set.Ask {
		if err := demoAsk(ctx, client, set); err != nil {
			return nil, false, err
		}
	}
	good = true
	var run int64
	for _, d := range set.Drops {
		p, err := waitPickup(ctx, client, d.File, latest)
		if err != nil {
			return nil, false, err
		}
		row, expected, err := a.demoRow(ctx, client, data, d, p)
		if err != nil {
			return nil, false, err
		}
		if run == 0 {
			run = p.Run
		}
		if p.Run != run {
			row[len(row)-1], expected = fmt.Sprintf("expected in run %d", run), false
		}
		rows, good = append(rows, row), good && expected
	}
	return rows, good, nil
}

// demoAsk asks a route to take files, when they are all there: they would wait for its time.
func demoAsk(ctx context.Context, client *api.Client, set demo.Set) error {
	for {
		sheet, err := client.Route(ctx, set.Route)
		if err != nil {
			return err
		}
		if len(sheet.WaitingFiles) >= len(set.Drops) {
			_, err := client.Take(ctx, set.Route, "")
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// demoDay sends the sheets of a day to the route that keeps them in order. The
// second waits for a person, and the third waits behind it.
func (a *app) demoDay(ctx context.Context, client *api.Client, data string) (rows [][]string, good bool, err error) {
	const route = "dunmarra-orders"
	left, err := client.Pickups(ctx, url.Values{"route": {route}, "state": {"held"}})
	if err != nil {
		return nil, false, err
	}
	for _, p := range left.Items { // of an earlier demo
		if _, err := client.Decide(ctx, p.ID, store.Withdraw); err != nil {
			return nil, false, err
		}
	}
	inbox := filepath.Join(data, "stations", "dunmarra")
	names, texts := demo.Day(time.Now())
	good = true
	for i, want := range []string{"delivered", "held", "waiting"} {
		for _, f := range []struct{ name, text string }{{names[i], texts[i]}, {strings.TrimSuffix(names[i], ".csv") + ".ok", ""}} {
			if err := drop(ctx, inbox, f.name, []byte(f.text), demo.Renamed); err != nil {
				return nil, false, err
			}
		}
		p, state, err := demoState(ctx, client, route, names[i], want)
		if err != nil {
			return nil, false, err
		}
		as := "as expected"
		if state != want {
			as, good = "expected "+want, false
		}
		row := []string{"", names[i], "with its marker", state, "", "", "", "", "", "", as}
		if p.ID > 0 {
			to, err := whereTo(ctx, client, p, data)
			if err != nil {
				return nil, false, err
			}
			row = []string{n(p.ID), names[i], "with its marker", state, n(p.In), n(p.Good), n(p.Rejected), n(p.Filtered), n(p.Merged), to, as}
			a.demoLine(p)
		}
		rows = append(rows, row)
	}
	return rows, good, nil
}

// demoState waits until a file has come to a state, or to its end.
func demoState(ctx context.Context, client *api.Client, route, name, want string) (p wire.Pickup, state string, err error) {
	deadline := time.Now().Add(time.Minute)
	for {
		page, err := client.Pickups(ctx, url.Values{"name": {name}, "limit": {"1"}})
		if err != nil {
			return p, "", err
		}
		if len(page.Items) == 1 {
			p, state = page.Items[0], page.Items[0].State
		}
		sheet, err := client.Route(ctx, route)
		if err != nil {
			return p, "", err
		}
		for _, w := range sheet.WaitingFiles {
			if w.Name == name && strings.Contains(w.Reason, "its lane") {
				state = "waiting"
			}
		}
		if state == want || p.EndedAt != nil || time.Now().After(deadline) {
			return p, state, nil
		}
		select {
		case <-ctx.Done():
			return p, "", ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
}

func (a *app) demoLine(p wire.Pickup) {
	fmt.Fprintf(a.out, "%s  pickup %-4d %-32s %-10s %s\n", time.Now().Format("15:04:05"), p.ID, p.Name, p.State, balance(p.In, p.Good, p.Rejected, p.Filtered, p.Merged, p.Warnings))
}

// demoForever sends made-up sheets until it is interrupted.
func (a *app) demoForever(ctx context.Context, client *api.Client, data string) error {
	r := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 1))
	scratch := filepath.Join(data, "stations", "inbox")
	for number := int(time.Now().Unix()); ; number++ {
		name, text := demo.Sheet(number, r, time.Now())
		way := []demo.Way{demo.Renamed, demo.Written, demo.Slowly}[r.IntN(3)]
		latest, err := latestPickup(ctx, client)
		if err != nil && ctx.Err() == nil {
			fmt.Fprintf(a.out, "%v; going on\n", err)
		}
		if err := drop(ctx, scratch, name, []byte(text), way); err != nil {
			return err
		}
		switch p, err := waitPickup(ctx, client, name, latest); {
		case ctx.Err() != nil:
			return nil
		case err != nil: // a slow machine is no reason to end
			fmt.Fprintf(a.out, "%v; going on\n", err)
		default:
			a.demoLine(p)
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(time.Duration(1500+r.IntN(2500)) * time.Millisecond):
		}
	}
}

func latestPickup(ctx context.Context, client *api.Client) (int64, error) {
	page, err := client.Pickups(ctx, url.Values{"limit": {"1"}})
	if err != nil || len(page.Items) == 0 {
		return 0, err
	}
	return page.Items[0].ID, nil
}

func sendDemo(ctx context.Context, client *api.Client, data string, d demo.Drop) (wire.Pickup, error) {
	latest, err := latestPickup(ctx, client)
	if err != nil {
		return wire.Pickup{}, err
	}
	b, err := fs.ReadFile(demo.Files(), d.File)
	if err != nil {
		return wire.Pickup{}, err
	}
	if err := drop(ctx, filepath.Join(data, filepath.FromSlash(d.Inbox)), d.File, b, d.Way); err != nil {
		return wire.Pickup{}, err
	}
	return waitPickup(ctx, client, d.File, latest)
}

// drop brings a file into an inbox the way a station would.
func drop(ctx context.Context, inbox, name string, b []byte, way demo.Way) error {
	if err := os.MkdirAll(inbox, 0o755); err != nil {
		return err
	}
	if way == demo.Renamed {
		part := filepath.Join(inbox, ".arriving-"+name)
		if err := os.WriteFile(part, b, 0o644); err != nil {
			return err
		}
		return os.Rename(part, filepath.Join(inbox, name))
	}
	f, err := os.Create(filepath.Join(inbox, name))
	if err != nil {
		return err
	}
	piece := len(b)
	if way == demo.Slowly {
		piece = max(1, len(b)/6)
	}
	for len(b) > 0 {
		k := min(piece, len(b))
		if _, err := f.Write(b[:k]); err != nil {
			return err
		}
		if b = b[k:]; len(b) == 0 {
			break
		}
		select {
		case <-ctx.Done():
		case <-time.After(250 * time.Millisecond):
		}
	}
	return f.Close()
}

// waitPickup waits until a file has come to its end.
func waitPickup(ctx context.Context, client *api.Client, name string, after int64) (wire.Pickup, error) {
	ctx, cancel := context.WithTimeoutCause(ctx, 60*time.Second, fmt.Errorf("%s did not come to its end within a minute", name))
	defer cancel()
	for {
		page, err := client.Pickups(ctx, url.Values{"name": {name}, "limit": {"1"}})
		if err != nil {
			if cause := context.Cause(ctx); cause != nil {
				err = cause
			}
			return wire.Pickup{}, err
		}
		if len(page.Items) == 1 && page.Items[0].ID > after && page.Items[0].EndedAt != nil {
			return page.Items[0], nil
		}
		select {
		case <-ctx.Done():
			return wire.Pickup{}, context.Cause(ctx)
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// whereTo says where a pickup's good records, or else the whole file, went.
func whereTo(ctx context.Context, client *api.Client, p wire.Pickup, data string) (string, error) {
	d, err := client.Pickup(ctx, p.ID)
	if err != nil || len(d.Runs) == 0 || len(d.Runs[0].Deliveries) == 0 {
		return "", err
	}
	folder := d.Runs[0].Deliveries[0].Folder
	if rel, err := filepath.Rel(data, folder); err == nil {
		folder = rel
	}
	return folder, nil
}
