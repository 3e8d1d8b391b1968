package cli

import (
	"bufio"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/spf13/cobra"

	"ydrion/api"
	"ydrion/core/finding"
	"ydrion/core/flow"
	"ydrion/run"
	"ydrion/service"
	"ydrion/store"
	"ydrion/wire"
)

func (a *app) publish() *cobra.Command {
	var request api.PublishRequest
	var start bool
	var in func([]string) (string, error)
	c := a.jsonFlag(&cobra.Command{
		Use:   "publish [WORKSPACE]",
		Short: "Publish a workspace's routes to the service",
		Long: `Send a workspace to the service, which checks it and makes its routes current.
Nothing is published if anything is wrong. Pickups that are under way finish with
the revision they began with.`,
		Example: "  ydrion publish demo/workspace --dry-run\n  ydrion publish demo/workspace --route specimen-orders\n  ydrion publish demo/workspace --start",
		Args:    cobra.MaximumNArgs(1),
		RunE: a.asking(func(cmd *cobra.Command, client *api.Client, args []string) error {
			folder, err := in(args)
			if err != nil {
				return err
			}
			w, err := load(folder)
			if err != nil {
				return err
			}
			request.Files = w.Files
			answer, err := client.Publish(cmd.Context(), request)
			if err != nil {
				return err
			}
			if start && answer.Published {
				for _, r := range answer.Routes {
					if _, err := client.SetRunning(cmd.Context(), r.Route, true); err != nil {
						return err
					}
				}
			}
			if a.json {
				if err := a.printJSON(answer); err != nil {
					return err
				}
			} else {
				a.published(answer, request.Dry)
			}
			for _, r := range answer.Routes {
				if !r.OK {
					return errFindings
				}
			}
			if answer.Findings.HasErrors() {
				return errFindings
			}
			return nil
		}),
	})
	c.Flags().StringSliceVar(&request.Routes, "route", nil, "publish only these routes")
	c.Flags().BoolVar(&request.Dry, "dry-run", false, "only say what would be published")
	c.Flags().BoolVar(&start, "start", false, "start the routes too")
	in = workspaceFlag(c)
	return a.saying(c)
}

// asking makes a command out of a question to the service.
func (a *app) asking(ask func(cmd *cobra.Command, client *api.Client, args []string) error) func(*cobra.Command, []string) error {
	return func(cmd *cobra.Command, args []string) error {
		client, err := a.client()
		if err != nil {
			return err
		}
		return ask(cmd, client, args)
	}
}

// changes prints what would change, line by line.
func (a *app) changes(list []service.FileChange) {
	for _, f := range list {
		fmt.Fprintf(a.out, "  %s: %s\n", f.File, f.What)
		for _, l := range f.Lines {
			mark := "+"
			if l.Goes {
				mark = "-"
			}
			fmt.Fprintf(a.out, "  %6d %s %s\n", l.Line, mark, l.Text)
		}
		if f.More > 0 {
			fmt.Fprintf(a.out, "  and %s more\n", count(f.More, "line"))
		}
	}
}

func (a *app) published(answer api.PublishAnswer, dry bool) {
	a.findings(answer.Findings)
	for _, r := range answer.Routes {
		a.findings(r.Findings)
		switch {
		case !r.OK:
			fmt.Fprintf(a.out, "%s: not published\n", r.Route)
		case dry && !r.Changed:
			fmt.Fprintf(a.out, "%s: nothing would change, revision %d (%.12s)\n", r.Route, r.Number, r.Revision)
		case dry && r.Number == 0:
			fmt.Fprintf(a.out, "%s: would be published for the first time (%.12s)\n", r.Route, r.Revision)
		case dry:
			fmt.Fprintf(a.out, "%s: would change from revision %d to %.12s\n", r.Route, r.Number, r.Revision)
			a.changes(r.Changes)
		case !answer.Published:
			fmt.Fprintf(a.out, "%s: good, but nothing is published while something else is wrong\n", r.Route)
		case r.Changed:
			fmt.Fprintf(a.out, "%s: published as revision %d (%.12s)\n", r.Route, r.Number, r.Revision)
		default:
			fmt.Fprintf(a.out, "%s: unchanged, revision %d (%.12s)\n", r.Route, r.Number, r.Revision)
		}
		if r.OK && answer.Published && !dry && !r.InEffect {
			fmt.Fprintf(a.out, "%s: %s\n", r.Route, notYet)
		}
	}
}

// notYet is said of what is recorded and not so yet.
const notYet = "recorded, but the node that leads the route does not work by it yet; `ydrion route` says when it does"

// stands says how a route stands, and whether that is so already.
func stands(v service.RouteView) string {
	text := v.State + pausedUntil(v)
	if v.Problem != "" {
		text += ": " + v.Problem
	}
	if !v.InEffect {
		text += " (" + notYet + ")"
	}
	return text
}

func (a *app) overview() *cobra.Command {
	return a.jsonFlag(&cobra.Command{
		Use: "overview", Short: "Today at a glance: routes, records, latest pickups", Args: cobra.NoArgs,
		Example: "  ydrion overview",
		RunE: a.asking(func(cmd *cobra.Command, client *api.Client, _ []string) error {
			o, err := client.Overview(cmd.Context())
			if err != nil || a.json {
				if err == nil {
					err = a.printJSON(o)
				}
				return err
			}
			t := o.Total
			fmt.Fprintf(a.out, "since %s: %s, %s; %d held\n\n", o.Since.Local().Format("2006-01-02 15:04 MST"), count(int(t.Pickups), "pickup"), balance(t.In, t.Good, t.Rejected, t.Filtered, t.Merged, 0), t.Held)
			var rows [][]string
			for _, r := range o.Routes {
				rows = append(rows, []string{r.Name, r.State, n(r.Today.Pickups), n(r.Today.In), n(r.Today.Good), n(r.Today.Rejected), strconv.Itoa(r.Waiting), r.Problem})
			}
			if err := a.table("ROUTE,STATE,PICKUPS,IN,GOOD,REJECTED,WAITING,PROBLEM", rows); err != nil {
				return err
			}
			fmt.Fprintln(a.out)
			return a.pickupTable(o.Latest)
		}),
	})
}

func n(v int64) string { return strconv.FormatInt(v, 10) }

func (a *app) routes() *cobra.Command {
	return a.jsonFlag(&cobra.Command{
		Use: "routes", Short: "List the published routes", Args: cobra.NoArgs, Example: "  ydrion routes\n  ydrion routes --json",
		RunE: a.asking(func(cmd *cobra.Command, client *api.Client, _ []string) error {
			list, err := client.Routes(cmd.Context())
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(list)
			}
			if len(list) == 0 {
				fmt.Fprintln(a.out, "no routes are published yet; publish a workspace with `ydrion publish FOLDER`")
				return nil
			}
			var rows [][]string
			for _, r := range list {
				rows = append(rows, []string{r.Name, r.State, strconv.Itoa(r.Number), n(r.Today.Pickups), n(r.Today.Good), n(r.Today.Rejected), strconv.Itoa(r.Waiting), moment(r.PublishedAt, minutes)})
			}
			return a.table("ROUTE,STATE,REVISION,PICKUPS TODAY,GOOD,REJECTED,WAITING,"+zoned("PUBLISHED"), rows)
		}),
	})
}

// completeRoutes offers the names of the published routes.
func (a *app) route() *cobra.Command {
	return a.jsonFlag(&cobra.Command{
		Use: "route NAME", Short: "Show one route: its stages, counts and waiting files", Args: cobra.ExactArgs(1), Example: "  ydrion route specimen-orders", ValidArgsFunction: a.completeRoutes,
		RunE: a.asking(func(cmd *cobra.Command, client *api.Client, args []string) error {
			s, err := client.Route(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(s)
			}
			fmt.Fprintf(a.out, "%s: %s, revision %d (%.12s)\n", s.Name, s.State, s.Number, s.Revision)
			if s.Problem != "" {
				fmt.Fprintf(a.out, "  %s\n", s.Problem)
			}
			if !s.InEffect {
				fmt.Fprintln(a.out, "  recorded, but the node that leads the route does not work by it yet")
			}
			if s.Notes != "" {
				fmt.Fprintf(a.out, "  %s\n", strings.ReplaceAll(s.Notes, "\n", "\n  "))
			}
			fmt.Fprintln(a.out)
			for _, stage := range s.Stages {
				fmt.Fprintf(a.out, "  %-8s %s  [%d %s today]\n", stage.Name, stage.Sentence, stage.Count, stage.Unit)
				for _, d := range stage.Details {
					fmt.Fprintf(a.out, "  %-8s %s\n", "", d)
				}
			}
			for _, p := range s.Current {
				fmt.Fprintf(a.out, "\n  under way: %s, %s\n", p.Name, underWay(p))
			}
			for _, w := range s.WaitingFiles {
				fmt.Fprintf(a.out, "\n  waiting: %s since %s: %s\n", inLine.Replace(w.Path), w.Since.Local().Format("15:04:05 MST"), w.Reason)
			}
			return nil
		}),
	})
}

// underWay says how far a run has got.
func underWay(p run.Progress) string {
	says := ""
	if p.Files > 1 {
		says = fmt.Sprintf("file %d of %d, ", p.File, p.Files)
	}
	if p.About > 0 {
		says += fmt.Sprintf("record %d of about %d", p.Balance.In, p.About)
	} else {
		says += count(int(p.Balance.In), "record")
	}
	if p.Stage == flow.Ordering {
		says += " read, to be put into order"
	} else {
		says += fmt.Sprintf(", %d good, %d rejected", p.Balance.Good, p.Balance.Rejected)
	}
	for _, b := range p.Branches {
		says += fmt.Sprintf(", %s %d", b.Name, b.Records)
	}
	return says + ", for " + time.Since(p.Since).Round(time.Second).String()
}

func (a *app) start() *cobra.Command { return a.running("start", "Start routes", true) }
func (a *app) stop() *cobra.Command {
	return a.running("stop", "Stop routes; what is under way is finished", false)
}

func (a *app) running(verb, short string, running bool) *cobra.Command {
	return a.saying(a.jsonFlag(&cobra.Command{
		Use: verb + " ROUTE...", Short: short, Args: cobra.MinimumNArgs(1), Example: "  ydrion " + verb + " specimen-orders\n  ydrion " + verb + " specimen-orders --because \"the laboratory is closed\"", ValidArgsFunction: a.completeRoutes,
		RunE: a.asking(func(cmd *cobra.Command, client *api.Client, args []string) error {
			var views []service.RouteView
			for _, name := range args {
				s, err := client.SetRunning(cmd.Context(), name, running)
				if err != nil {
					return fmt.Errorf("%s: %w", name, err)
				}
				if views = append(views, s.RouteView); !a.json {
					fmt.Fprintf(a.out, "%s: %s\n", s.Name, stands(s.RouteView))
				}
			}
			if a.json {
				return printEach(a, views)
			}
			return nil
		}),
	}))
}

func (a *app) remove() *cobra.Command {
	var yes bool
	c := a.saying(a.jsonFlag(&cobra.Command{
		Use: "remove ROUTE...", Short: "Take stopped routes off the list", Args: cobra.MinimumNArgs(1), ValidArgsFunction: a.completeRoutes,
		Long: `Take stopped routes off the list: nobody listens for them any more. What is known of
their pickups stays as long as they said, and publishing a route brings it back. Files
in its folders are not touched. Without --yes it only says what it would do.`,
		Example: "  ydrion stop specimen-orders\n  ydrion remove specimen-orders\n  ydrion remove specimen-orders --yes --because \"it is called orders now\"",
		RunE: a.asking(func(cmd *cobra.Command, client *api.Client, args []string) error {
			var list []wire.Removal
			unable := false
			for _, name := range args {
				r, err := client.Remove(cmd.Context(), name, !yes)
				if err != nil {
					return fmt.Errorf("%s: %w", name, err)
				}
				unable = unable || r.Running || r.Open > 0 || r.Waiting > 0
				if list = append(list, r); a.json {
					continue
				}
				switch {
				case r.Removed:
					fmt.Fprintf(a.out, "%s: removed; %s stay on record\n", r.Route, count(int(r.Pickups), "pickup"))
				case r.Running:
					fmt.Fprintf(a.out, "%s: is running; stop it first\n", r.Route)
				case r.Open > 0:
					fmt.Fprintf(a.out, "%s: %s not ended; decide about them first\n", r.Route, count(int(r.Open), "pickup"))
				case r.Waiting > 0:
					fmt.Fprintf(a.out, "%s: still has to take %s that it has fetched or received; start it so that it does\n", r.Route, count(r.Waiting, "file"))
				default:
					fmt.Fprintf(a.out, "%s: would be removed, %s would stay on record; say --yes to do it\n", r.Route, count(int(r.Pickups), "pickup"))
				}
			}
			if a.json {
				if err := printEach(a, list); err != nil {
					return err
				}
			}
			if unable {
				return errFindings
			}
			return nil
		}),
	}))
	c.Flags().BoolVar(&yes, "yes", false, "do it")
	return c
}

func (a *app) rename() *cobra.Command {
	var yes bool
	c := a.saying(a.jsonFlag(&cobra.Command{
		Use: "rename ROUTE NAME", Short: "Give a stopped route another name, with its history", Args: cobra.ExactArgs(2), ValidArgsFunction: a.completeRoutes,
		Long: `Give a stopped route another name. Its pickups, runs and revisions go with it. Then call
it so in its file, publish the workspace, and start it. Without --yes it only says what
it would do.`,
		Example: "  ydrion stop specimen-orders\n  ydrion rename specimen-orders orders\n  ydrion rename specimen-orders orders --yes",
		RunE: a.asking(func(cmd *cobra.Command, client *api.Client, args []string) error {
			r, err := client.Rename(cmd.Context(), args[0], args[1], !yes)
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(r)
			}
			switch {
			case r.Renamed:
				fmt.Fprintf(a.out, "%s: is called %s now, with %s; call it so in its file, publish that, and start it\n", r.Route, r.To, count(int(r.Pickups), "pickup"))
			case r.Running:
				fmt.Fprintf(a.out, "%s: is running; stop it first\n", r.Route)
			case r.Open > 0:
				fmt.Fprintf(a.out, "%s: %s not ended; decide about them first\n", r.Route, count(int(r.Open), "pickup"))
			default:
				fmt.Fprintf(a.out, "%s: would be called %s, with %s; say --yes to do it\n", r.Route, r.To, count(int(r.Pickups), "pickup"))
				return nil
			}
			if !r.Renamed {
				return errFindings
			}
			return nil
		}),
	}))
	c.Flags().BoolVar(&yes, "yes", false, "do it")
	return c
}

func (a *app) pickups() *cobra.Command {
	var route, name, output, since, until string
	var states []string
	var limit int
	var before, after int64
	c := a.jsonFlag(&cobra.Command{
		Use: "pickups", Short: "List pickups, newest first", Args: cobra.NoArgs,
		Long: `List pickups, newest first. --since and --until take a date, a time, or a
duration before now such as 90m or 24h.

--after N follows the list: oldest first, only numbers above N, and none behind one
that is still being written down. A program that asks again with the last number it
was told misses none.`,
		Example: "  ydrion pickups --route specimen-orders --state rejected,held\n  ydrion pickups --name 'brunholm*' --since 24h\n  ydrion pickups --before 1200\n  ydrion pickups --after 1200 --json",
		RunE: a.asking(func(cmd *cobra.Command, client *api.Client, _ []string) error {
			q := url.Values{"limit": {strconv.Itoa(limit)}}
			for k, v := range map[string]string{"route": route, "name": name, "output": output, "state": strings.Join(states, ",")} {
				if v != "" {
					q.Set(k, v)
				}
			}
			if before > 0 {
				q.Set("before", n(before))
			}
			follow := cmd.Flags().Changed("after")
			if follow {
				q.Set("after", n(after))
			}
			for k, v := range map[string]string{"since": since, "until": until} {
				if v == "" {
					continue
				}
				t, err := when(v)
				if err != nil {
					return wrongUse("--%s: %v", k, err)
				}
				q.Set(k, t.Format(time.RFC3339))
			}
			page, err := client.Pickups(cmd.Context(), q)
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(page)
			}
			if len(page.Items) == 0 {
				fmt.Fprintln(a.out, "no pickups match")
				return nil
			}
			if err := a.pickupTable(page.Items); err != nil {
				return err
			}
			switch last := page.Items[len(page.Items)-1].ID; {
			case follow:
				fmt.Fprintf(a.out, "what comes behind them: --after %d\n", last)
			case page.Next > 0:
				fmt.Fprintf(a.out, "older ones: --before %d\n", page.Next)
			}
			return nil
		}),
	})
	f := c.Flags()
	f.StringVar(&route, "route", "", "only this route")
	f.StringSliceVar(&states, "state", nil, "only these states: "+strings.Join(store.States, ", "))
	f.StringVar(&name, "name", "", "part of the file's name, or a pattern with *")
	f.StringVar(&output, "output", "", "the name of something that it has become, or a pattern with *")
	f.StringVar(&since, "since", "", "only since then")
	f.StringVar(&until, "until", "", "only until then")
	f.Int64Var(&before, "before", 0, "only pickups with smaller numbers: the next page")
	f.Int64Var(&after, "after", 0, "follow: oldest first, only pickups with larger numbers")
	c.MarkFlagsMutuallyExclusive("before", "after")
	f.IntVar(&limit, "limit", 50, "how many at most (500)")
	return c
}

// when reads a point in time.
// duration reads a duration as Go writes it, or in days or weeks.
func duration(s string) (time.Duration, error) {
	for unit, length := range map[string]time.Duration{"d": 24 * time.Hour, "w": 7 * 24 * time.Hour} {
		if n, err := strconv.ParseFloat(strings.TrimSuffix(s, unit), 64); err == nil && strings.HasSuffix(s, unit) {
			return time.Duration(n * float64(length)), nil
		}
	}
	return time.ParseDuration(s)
}

func when(s string) (time.Time, error) {
	if d, err := duration(s); err == nil {
		if d < 0 {
			return time.Time{}, fmt.Errorf("%q is less than nothing", s)
		}
		return time.Now().Add(-d), nil
	}
	for _, layout := range []string{time.RFC3339, "2006-01-02T15:04:05", "2006-01-02 15:04", "2006-01-02"} {
		if t, err := time.ParseInLocation(layout, s, time.Local); err == nil {
			return t, nil
		}
	}
	return time.Time{}, fmt.Errorf("%q is neither a time (2026-11-25 06:30), a date, nor a duration (24h, 7d, 2w)", s)
}

func (a *app) pickupTable(list []wire.Pickup) error {
	var rows [][]string
	heading := "PICKUP," + zoned("TIME") + ",ROUTE,FILE,STATE,IN,GOOD,REJECTED,FILTERED,"
	merged := slices.ContainsFunc(list, func(p wire.Pickup) bool { return p.Merged > 0 })
	if merged {
		heading += "MERGED,"
	}
	warned := slices.ContainsFunc(list, func(p wire.Pickup) bool { return p.Warnings > 0 })
	if warned {
		heading += "WARNINGS,"
	}
	for _, p := range list {
		row := []string{n(p.ID), moment(p.ClaimedAt, seconds), p.Route, p.Name, p.State, n(p.In), n(p.Good), n(p.Rejected), n(p.Filtered)}
		if merged {
			row = append(row, n(p.Merged))
		}
		if warned {
			row = append(row, n(p.Warnings))
		}
		rows = append(rows, append(row, p.Reason))
	}
	return a.table(heading+"REASON", rows)
}

func pickupNumber(s string) (int64, error) {
	id, err := strconv.ParseInt(s, 10, 64)
	if err != nil || id < 1 {
		return 0, wrongUse("%q is not a pickup number; `ydrion pickups` lists them", s)
	}
	return id, nil
}

func (a *app) pickup() *cobra.Command {
	var from int64
	var limit, rows int
	var rejected, warned, explain bool
	c := a.jsonFlag(&cobra.Command{
		Use: "pickup NUMBER", Short: "Show one pickup: timeline, deliveries, records in and out side by side, findings", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completePickups(),
		Example: "  ydrion pickup 2\n  ydrion pickup 2 --rejected\n  ydrion pickup 2 --from 100 --limit 5\n  ydrion pickup 2 --from 4 --limit 1 --explain",
		RunE: a.asking(func(cmd *cobra.Command, client *api.Client, args []string) error {
			id, err := pickupNumber(args[0])
			if err != nil {
				return err
			}
			p, err := client.Pickup(cmd.Context(), id)
			if err != nil {
				return err
			}
			q := url.Values{"from": {n(from)}, "limit": {strconv.Itoa(limit)}, "rejected": {strconv.FormatBool(rejected)}, "warned": {strconv.FormatBool(warned)}, "rows": {strconv.Itoa(rows)}, "explain": {strconv.FormatBool(explain)}}
			out := map[string]any{"pickup": p}
			if !a.json {
				a.timeline(p.Pickup, p.Runs)
			}
			if len(p.Runs) > 0 && limit > 0 {
				trial, err := client.Records(cmd.Context(), p.Runs[0].ID, q)
				var problem *api.Problem
				switch {
				case errors.As(err, &problem) && problem.Status == http.StatusConflict:
					out["records"], out["problem"] = []any{}, problem.Error()
					if !a.json {
						fmt.Fprintf(a.out, "\nits records cannot be shown: %v\n", problem)
					}
				case err != nil:
					return err
				default:
					out["records"] = trial.Records
				}
				if !a.json && err == nil {
					trial.Findings = nil // the run has them
					r := p.Runs[0]
					trial.Balance = flow.Balance{In: r.In, Good: r.Good, Rejected: r.Rejected, Filtered: r.Filtered, Merged: r.Merged, Warnings: r.Warnings, Bytes: trial.Balance.Bytes}
					more := ""
					if shown := len(trial.Records); shown > 0 {
						more = fmt.Sprintf("; more records: --from %d", trial.Records[shown-1].Record+1)
					}
					name := p.Name
					if n := len(p.Runs[0].Files); n > 1 {
						name = count(n, "file")
					}
					a.trial(trial, name, more)
				}
			}
			if a.json {
				return a.printJSON(out)
			}
			return nil
		}),
	})
	c.Flags().Int64Var(&from, "from", 1, "first record to show")
	c.Flags().IntVar(&limit, "limit", 3, "how many records to show")
	c.Flags().IntVar(&rows, "rows", service.FewRows, "how many rows of long lists to show, at most 1000")
	c.Flags().BoolVar(&rejected, "rejected", false, "show rejected records only")
	c.Flags().BoolVar(&warned, "warned", false, "show only records with a warning; with --rejected both")
	c.Flags().BoolVar(&explain, "explain", false, "show what each line of the map did, with the fields that went into it; of the first 20 records")
	return c
}

func (a *app) timeline(p wire.Pickup, runs []wire.Run) {
	fmt.Fprintf(a.out, "pickup %d: %s, %d bytes, route %s: %s\n", p.ID, p.Path, p.Size, p.Route, p.State)
	if p.Reason != "" {
		fmt.Fprintf(a.out, "  %s\n", p.Reason)
	}
	switch {
	case p.State == "held" && p.NextTry != nil:
		fmt.Fprintf(a.out, "  tried %s so far, again at %s\n", count(p.Tries, "time"), p.NextTry.Local().Format("15:04:05 MST"))
	case p.State == "held" || p.State == "uncertain":
		fmt.Fprintf(a.out, "  it waits for a person: `ydrion decide %d …`\n", p.ID)
	}
	if p.Mail != nil {
		fmt.Fprintf(a.out, "  attached to a mail from %s: %s\n", p.Mail.From, oneLine(p.Mail.Subject, 100))
	}
	if p.Lane != "" {
		fmt.Fprintf(a.out, "  lane %s\n", p.Lane)
	}
	stamp := func(what string, t *time.Time) {
		if t != nil {
			fmt.Fprintf(a.out, "  %s  %s\n", t.Local().Format("2006-01-02 15:04:05.000 MST"), what)
		}
	}
	stamp("noticed", &p.NoticedAt)
	stamp("claimed", &p.ClaimedAt)
	stamp("taken", p.TakenAt)
	for i := len(runs) - 1; i >= 0; i-- {
		r := runs[i]
		stamp(fmt.Sprintf("run %d began, revision %d", r.ID, r.Number), &r.StartedAt)
		a.together(r)
		stamp(fmt.Sprintf("run %d committed: %s", r.ID, balance(r.In, r.Good, r.Rejected, r.Filtered, r.Merged, r.Warnings)), r.CommittedAt)
		if len(r.Branches) > 0 {
			var of []string
			for _, b := range r.Branches {
				of = append(of, fmt.Sprintf("%s %d", b.Name, b.Records))
			}
			fmt.Fprintf(a.out, "      records of each branch: %s\n", strings.Join(of, ", "))
		}
		published := fmt.Sprintf("run %d published %s", r.ID, count(int(r.Outputs-r.Overtaken), "output"))
		if r.Overtaken > 0 {
			published += fmt.Sprintf(", %s overtaken", count(int(r.Overtaken), "output"))
		}
		stamp(published, r.EndedAt)
		a.deliveries(r)
		for _, f := range r.Findings {
			fmt.Fprintf(a.out, "      %s\n", strings.ReplaceAll(f.String(), "\n", "\n      "))
		}
	}
}

// mostShown is how many files of a run are named.
const mostShown = 20

// together says which files a run is of, and what became of each, if they are several.
func (a *app) together(r wire.Run) {
	if len(r.Files) < 2 {
		return
	}
	with := ""
	if r.Key != "" {
		with = " with " + r.Key
	}
	fmt.Fprintf(a.out, "      of %d files%s:\n", len(r.Files), with)
	shown, wide := r.Files[:min(len(r.Files), mostShown)], 0
	for _, f := range shown {
		wide = max(wide, utf8.RuneCountInString(f.Name))
	}
	for _, f := range shown {
		what := map[string]string{"marker": "a marker, not read", "older": "older, not read"}[f.Part]
		if what == "" {
			what = balance(f.In, f.Good, f.Rejected, f.Filtered, f.Merged, f.Warnings)
		}
		if f.Whole {
			what += ", rejected whole"
		}
		fmt.Fprintf(a.out, "        pickup %-5d %-*s  %s\n", f.Pickup, wide, f.Name, what)
	}
	if more := len(r.Files) - mostShown; more > 0 {
		fmt.Fprintf(a.out, "      … and %d more\n", more)
	}
}

// shownGood is how many good outputs of a run are named.
const shownGood = 5

func (a *app) deliveries(r wire.Run) {
	good, others := []wire.Delivery{}, []wire.Delivery{}
	for _, d := range r.Deliveries {
		if d.Kind == "good" {
			good = append(good, d)
		} else {
			others = append(others, d)
		}
	}
	shown := good[:min(len(good), shownGood)]
	for _, d := range append(shown, others...) {
		if d.Kind != "good" && d.Ord == others[0].Ord && len(good) > len(shown) {
			fmt.Fprintf(a.out, "      good     … and %d more\n", r.Outputs-int64(len(others)+len(shown)))
		}
		state := ""
		if d.State != "published" {
			state = ": " + map[string]string{"open": "not delivered yet", "uncertain": "nobody can tell whether it has arrived", "abandoned": "abandoned, not delivered", "overtaken": "not delivered"}[d.State]
			if d.Reason != "" && (d.State == "open" || d.State == "overtaken") {
				state += ": " + d.Reason
			}
			if d.NextTry != nil && d.State == "open" {
				state += "; it is tried again at " + moment(*d.NextTry, seconds)
			}
		} else if d.Receipt != "" {
			state = ": " + d.Receipt
		}
		fmt.Fprintf(a.out, "      %-8s %s/%s (%d bytes)%s\n", d.Kind, d.Folder, d.Name, d.Size, state)
		for _, what := range slices.Sorted(maps.Keys(d.Said)) {
			fmt.Fprintf(a.out, "               %s\n", oneLine(what+" "+d.Said[what], 100))
		}
	}
	if len(others) == 0 && len(good) > len(shown) {
		fmt.Fprintf(a.out, "      good     … and %d more\n", r.Outputs-int64(len(shown)))
	}
}

// oneLine is a text in one line, with so many characters at most.
func oneLine(text string, most int) string {
	letters := []rune(strings.Join(strings.Fields(text), " "))
	if len(letters) > most {
		letters = append(letters[:most-1], '…')
	}
	return string(letters)
}

func (a *app) rejects() *cobra.Command {
	var limit int
	var after int64
	c := a.jsonFlag(&cobra.Command{
		Use: "rejects PICKUP", Short: "List the rejected records of a pickup's latest run with their findings", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completePickups(), Example: "  ydrion rejects 2\n  ydrion rejects 2 --json",
		RunE: a.asking(func(cmd *cobra.Command, client *api.Client, args []string) error {
			id, err := pickupNumber(args[0])
			if err != nil {
				return err
			}
			p, err := client.Pickup(cmd.Context(), id)
			if err != nil {
				return err
			}
			page := api.Page[wire.Reject]{Items: []wire.Reject{}}
			if p.Run > 0 {
				if page, err = client.Rejects(cmd.Context(), p.Run, url.Values{"limit": {strconv.Itoa(limit)}, "after": {n(after)}}); err != nil {
					return err
				}
			}
			if a.json {
				return a.printJSON(page)
			}
			about := 0
			if len(p.Runs) > 0 && after == 0 {
				for _, f := range p.Runs[0].Findings {
					if f.Severity == finding.Error {
						fmt.Fprintln(a.out, f)
						about++
					}
				}
			}
			if len(page.Items) == 0 && about == 0 {
				fmt.Fprintf(a.out, "pickup %d has no rejected records\n", id)
				return nil
			}
			for _, r := range page.Items {
				a.findings(r.Findings)
				fmt.Fprintf(a.out, "    | %s\n", finding.Shorten([]byte(strings.TrimRight(r.Raw, "\r\n"))))
			}
			if page.Next > 0 {
				fmt.Fprintf(a.out, "more: --after %d\n", page.Next)
			}
			return nil
		}),
	})
	c.Flags().IntVar(&limit, "limit", 100, "how many at most (1000)")
	c.Flags().Int64Var(&after, "after", 0, "only records after this one")
	return c
}

func (a *app) watch() *cobra.Command {
	return a.jsonFlag(&cobra.Command{
		Use: "watch", Short: "Print what happens, as it happens, until interrupted", Args: cobra.NoArgs, Example: "  ydrion watch\n  ydrion watch --json | jq .",
		RunE: a.asking(func(cmd *cobra.Command, client *api.Client, _ []string) error {
			r, err := http.NewRequestWithContext(cmd.Context(), http.MethodGet, client.Base+"/api/events", nil)
			if err != nil {
				return err
			}
			r.Header.Set("Authorization", "Bearer "+client.Token)
			answer, err := http.DefaultClient.Do(r)
			if err != nil {
				return err
			}
			defer answer.Body.Close()
			if answer.StatusCode != http.StatusOK {
				return fmt.Errorf("the service answers %s", answer.Status)
			}
			lines := bufio.NewScanner(answer.Body)
			for lines.Scan() {
				data, ok := strings.CutPrefix(lines.Text(), "data: ")
				if !ok {
					continue
				}
				if a.json {
					fmt.Fprintln(a.out, data)
					continue
				}
				fmt.Fprintln(a.out, time.Now().Format("15:04:05 MST"), eventLine(data))
			}
			if cmd.Context().Err() != nil {
				return nil
			}
			return errors.New("the service has ended, or cannot be reached any more")
		}),
	})
}
