package cli

import (
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ydrion/api"
	"ydrion/service"
	"ydrion/store"
	"ydrion/wire"
)

func (a *app) again() *cobra.Command {
	var q service.AgainRequest
	var then, yes bool
	var since, until string
	c := a.saying(a.jsonFlag(&cobra.Command{
		Use: "again [PICKUP...]", ValidArgsFunction: a.completePickups("delivered", "rejected"),
		Short: "Run pickups again from the archive",
		Long: `Run pickups again from the archive: those that are named, or all that a route,
part of a file name or a time says, oldest first. New outputs are delivered;
those of earlier runs stay as they are. Without --yes it only says what would be
run.

Usually that is anew: with the revision that is published now, the present time
and new sequence numbers. --then uses the revision of the latest run. --same makes
the same once more, for a receiver that has lost it: that revision, with the time
and the sequence numbers of the latest run.

A pickup that is older than what its lane has delivered since is left out unless
--overtake says that it may overtake.`,
		Example: "  ydrion again 2\n  ydrion again 2 5 --yes\n  ydrion again --route specimen-orders --since 2026-11-24 --state rejected --yes\n  ydrion again 17 --same --yes",
		Args: func(_ *cobra.Command, args []string) error {
			for _, s := range args {
				id, err := pickupNumber(s)
				if err != nil {
					return err
				}
				q.Pickups = append(q.Pickups, id)
			}
			if len(args) == 0 && q.Route == "" && q.Name == "" && since == "" {
				return wrongUse("name pickups, or say which with --route, --name or --since")
			}
			return nil
		},
		RunE: a.asking(func(cmd *cobra.Command, client *api.Client, args []string) error {
			for flag, to := range map[string]**time.Time{since: &q.Since, until: &q.Until} {
				if flag == "" {
					continue
				}
				t, err := when(flag)
				if err != nil {
					return wrongUse("%v", err)
				}
				*to = &t
			}
			if then {
				q.Revision = "then"
			}
			q.Dry = !yes
			list, err := client.Again(cmd.Context(), q)
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(list)
			}
			return a.ranAgain(list, yes)
		}),
	}))
	f := c.Flags()
	f.StringVar(&q.Route, "route", "", "all of this route")
	f.StringSliceVar(&q.States, "state", nil, "only these states: delivered, rejected (both if left out)")
	f.StringVar(&q.Name, "name", "", "part of the file's name, or a pattern with *")
	f.StringVar(&since, "since", "", "claimed since then: a date, a time, or a duration before now")
	f.StringVar(&until, "until", "", "claimed until then")
	f.BoolVar(&then, "then", false, "with the revision of the latest run")
	f.BoolVar(&q.Same, "same", false, "the same once more: with its time and sequence numbers too")
	f.BoolVar(&q.Overtake, "overtake", false, "also what is older than what its lane has delivered since")
	f.BoolVarP(&yes, "yes", "y", false, "do it")
	return c
}

func (a *app) ranAgain(list []service.AgainAnswer, yes bool) error {
	if len(list) == 0 {
		fmt.Fprintln(a.out, "no pickups match")
		return nil
	}
	good, bad := 0, 0
	for _, r := range list {
		switch {
		case r.Problem != "":
			bad++
			fmt.Fprintf(a.out, "pickup %d (%s) is left out: %s\n", r.Pickup, r.Name, r.Problem)
		case yes:
			good++
			fmt.Fprintf(a.out, "pickup %d (%s): run %d has begun\n", r.Pickup, r.Name, r.Run)
		default:
			good++
			fmt.Fprintf(a.out, "would run pickup %d again: %s, route %s, %d records, %s\n", r.Pickup, r.Name, r.Route, r.Records, r.State)
		}
	}
	if !yes && good > 0 {
		fmt.Fprintf(a.out, "say --yes to run %s again\n", count(good, "pickup"))
	}
	if bad > 0 {
		return errFindings
	}
	return nil
}

var decisions = map[string]string{
	"try":       "try it again at once",
	"admit":     "it is no duplicate: take it",
	"pass":      "let those behind it in its lane pass; it goes on waiting",
	"withdraw":  "give it up: nothing is delivered, the original stays in the archive",
	"arrived":   "what is uncertain has arrived",
	"abandoned": "what is not delivered yet will not be",
}

func (a *app) decide() *cobra.Command {
	var long strings.Builder
	long.WriteString("Say what is to become of a pickup that is held or uncertain, or whose outputs\nwait for a server (try, abandoned):\n\n")
	var names []string
	for _, d := range []string{"try", "admit", "pass", "withdraw", "arrived", "abandoned"} {
		fmt.Fprintf(&long, "  %-10s %s\n", d, decisions[d])
		names = append(names, d)
	}
	long.WriteString("\nThe same of an uncertain one is delivered once more by `arrived` or `abandoned`,\nand then `ydrion again PICKUP --same`.")
	return a.saying(a.jsonFlag(&cobra.Command{
		Use: "decide PICKUP DECISION", Short: "Say what is to become of a pickup that cannot go on", Long: long.String(), Args: cobra.ExactArgs(2),
		Example: "  ydrion decide 17 try\n  ydrion decide 17 withdraw",
		ValidArgsFunction: func(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
			if len(args) == 0 {
				return a.pickupNumbers(cmd, []string{"held", "uncertain"}), cobra.ShellCompDirectiveNoFileComp
			}
			if len(args) == 1 {
				return names, cobra.ShellCompDirectiveNoFileComp
			}
			return nil, cobra.ShellCompDirectiveNoFileComp
		},
		RunE: a.asking(func(cmd *cobra.Command, client *api.Client, args []string) error {
			id, err := pickupNumber(args[0])
			if err != nil {
				return err
			}
			if decisions[args[1]] == "" {
				return wrongUse("%q is not a decision; there are %s", args[1], strings.Join(names, ", "))
			}
			p, err := client.Decide(cmd.Context(), id, store.Person(args[1]))
			if err != nil {
				return fmt.Errorf("pickup %d: %w", id, err)
			}
			if a.json {
				return a.printJSON(p)
			}
			fmt.Fprintf(a.out, "pickup %d (%s): %s\n", p.ID, p.Name, decisions[args[1]])
			return nil
		}),
	}))
}

func (a *app) pause() *cobra.Command {
	var until, length string
	c := a.jsonFlag(&cobra.Command{
		Use: "pause ROUTE...", Short: "Let running routes notice files but take none", Args: cobra.MinimumNArgs(1), ValidArgsFunction: a.completeRoutes,
		Long:    "Let running routes notice files but take none, for a time or until they are\nstarted. The files that wait are shown by `ydrion route`.",
		Example: "  ydrion pause specimen-orders --for 2h\n  ydrion start specimen-orders",
		RunE: a.asking(func(cmd *cobra.Command, client *api.Client, args []string) error {
			var end time.Time
			switch {
			case length != "" && until != "":
				return wrongUse("either --for or --until")
			case length != "":
				d, err := duration(length)
				if err != nil || d <= 0 {
					return wrongUse("--for is a time such as 30m, 2h or 1d, not %q", length)
				}
				end = time.Now().Add(d)
			case until != "":
				if _, err := duration(until); err == nil {
					return wrongUse("--until is a moment such as \"2026-11-26 06:00\"; for a length of time there is --for")
				}
				var err error
				if end, err = when(until); err != nil {
					return wrongUse("--until: %v", err)
				}
				if !end.After(time.Now()) {
					return wrongUse("--until must be later than now, not %s", end.Format("2006-01-02 15:04 MST"))
				}
			}
			var views []service.RouteView
			for _, name := range args {
				s, err := client.Pause(cmd.Context(), name, end)
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
	})
	c.Flags().StringVar(&length, "for", "", "how long, such as 30m, 2h or 1d")
	c.Flags().StringVar(&until, "until", "", "until when, such as \"2026-11-26 06:00\"")
	return a.saying(c)
}

func pausedUntil(v service.RouteView) string {
	if v.PausedUntil == nil || v.PausedUntil.Year() > 9000 {
		return ""
	}
	return " until " + v.PausedUntil.Local().Format("2006-01-02 15:04 MST")
}

func (a *app) take() *cobra.Command {
	return a.jsonFlag(&cobra.Command{
		Use: "take ROUTE [FILE...]", Short: "Take what waits in a route's inbox now", Args: cobra.MinimumNArgs(1), ValidArgsFunction: a.completeWaiting,
		Long: `Take what waits in a route's inbox now, whatever its timetable says. Files that
are not complete yet follow when they are.

With the names of files, take those, whatever they wait for: their time, their
marker, the route's beginning. A file that somebody is writing stays where it is.`,
		Example: "  ydrion take weight-log\n  ydrion take weight-log pool-1/weights-2026-11-24.csv",
		RunE: a.asking(func(cmd *cobra.Command, client *api.Client, args []string) error {
			files := args[1:]
			if len(files) == 0 {
				files = []string{""}
			}
			for _, f := range files {
				s, err := client.Take(cmd.Context(), args[0], f)
				if err != nil {
					return err
				}
				switch {
				case a.json:
					err = a.printJSON(s.RouteView)
				case f == "":
					_, err = fmt.Fprintf(a.out, "%s takes what is there now\n", s.Name)
				default:
					_, err = fmt.Fprintf(a.out, "%s takes %s\n", s.Name, f)
				}
				if err != nil {
					return err
				}
			}
			return nil
		}),
	})
}

func (a *app) hand() *cobra.Command {
	var trial, rejected, warned, explain bool
	var from int64
	var limit int
	c := a.saying(a.jsonFlag(&cobra.Command{
		Use: "hand ROUTE FILE...", Short: "Give files to a route, as if they had come into its inbox", Args: cobra.MinimumNArgs(1),
		Long: `Give files from this machine to a published route, whether it runs or not. Each
becomes a pickup; the files themselves stay as they are. With --pickup, give the
original of a pickup from the archive instead, to the same or another route.

With --trial nothing is delivered or recorded: the route's published revision runs
over the file and shows what would come of it.`,
		Example: "  ydrion hand specimen-orders sheet.csv\n  ydrion hand specimen-orders sheet.csv --trial --rejected\n  ydrion hand specimen-orders --pickup 12",
		ValidArgsFunction: func(cmd *cobra.Command, args []string, part string) ([]string, cobra.ShellCompDirective) {
			if len(args) == 0 {
				return a.completeRoutes(cmd, args, part)
			}
			return nil, cobra.ShellCompDirectiveDefault
		},
		RunE: a.asking(func(cmd *cobra.Command, client *api.Client, args []string) error {
			if from > 0 {
				if len(args) > 1 || trial {
					return wrongUse("--pickup goes with neither files nor --trial")
				}
				id, err := client.HandOver(cmd.Context(), args[0], from)
				return a.handed(fmt.Sprintf("the original of pickup %d", from), id, err)
			}
			if len(args) < 2 {
				return wrongUse("name a file, or a pickup with --pickup")
			}
			for _, name := range args[1:] {
				if !trial {
					id, err := a.handOne(cmd, client, args[0], name)
					if err := a.handed(name, id, err); err != nil {
						return err
					}
					continue
				}
				q := url.Values{"limit": {strconv.Itoa(max(1, limit))}, "rejected": {strconv.FormatBool(rejected)}, "warned": {strconv.FormatBool(warned)}, "explain": {strconv.FormatBool(explain)}}
				if err := a.tryOne(cmd, client, args[0], name, q); err != nil {
					return err
				}
			}
			return nil
		}),
	}))
	f := c.Flags()
	f.BoolVar(&trial, "trial", false, "deliver and record nothing, show what would come of it")
	f.BoolVar(&rejected, "rejected", false, "of a trial, show rejected records only")
	f.BoolVar(&warned, "warned", false, "of a trial, show only records with a warning; with --rejected both")
	f.BoolVar(&explain, "explain", false, "of a trial, show what each line of the map did, of the first 20 records")
	f.IntVar(&limit, "limit", 3, "how many records of a trial to show")
	f.Int64Var(&from, "pickup", 0, "give the original of this pickup instead of a file")
	return c
}

func (a *app) handOne(cmd *cobra.Command, client *api.Client, route, name string) (int64, error) {
	f, err := os.Open(name)
	if err != nil {
		return 0, wrongUse("the file cannot be opened: %v", err)
	}
	defer f.Close()
	return client.Hand(cmd.Context(), route, filepath.Base(name), f)
}

// tryOne shows what a route would make of a file.
func (a *app) tryOne(cmd *cobra.Command, client *api.Client, route, name string, query url.Values) error {
	f, err := os.Open(name)
	if err != nil {
		return wrongUse("the file cannot be opened: %v", err)
	}
	defer f.Close()
	t, err := client.HandTrial(cmd.Context(), route, filepath.Base(name), query, f)
	if err != nil {
		return err
	}
	if a.json {
		err = a.printJSON(t)
	} else {
		a.trial(t, filepath.Base(name), "")
	}
	if err == nil && (t.Unreadable || t.Findings.HasErrors() || t.Balance.Rejected > 0) {
		err = errFindings
	}
	return err
}

func (a *app) handed(what string, id int64, err error) error {
	if err != nil {
		return fmt.Errorf("%s: %w", what, err)
	}
	if a.json {
		return a.printJSON(api.Handed{Pickup: id})
	}
	_, err = fmt.Fprintf(a.out, "%s is pickup %d\n", what, id)
	return err
}

func (a *app) lanes() *cobra.Command {
	var route string
	c := a.jsonFlag(&cobra.Command{
		Use: "lanes", Short: "List the lanes that are held, and by which pickup", Args: cobra.NoArgs,
		Example: "  ydrion lanes\n  ydrion decide 17 pass",
		RunE: a.asking(func(cmd *cobra.Command, client *api.Client, _ []string) error {
			list, err := client.Lanes(cmd.Context(), route)
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(list)
			}
			if len(list) == 0 {
				fmt.Fprintln(a.out, "no lane is held")
				return nil
			}
			var rows [][]string
			for _, l := range list {
				next := "waits for a person"
				if l.NextTry != nil {
					next = "tried again at " + l.NextTry.Local().Format("15:04:05 MST")
				}
				rows = append(rows, []string{l.Route, l.Lane, n(l.Pickup), l.Name, l.State, next, n(l.Behind), l.Reason})
			}
			return a.table("ROUTE,LANE,PICKUP,FILE,STATE,NEXT,BEHIND,REASON", rows)
		}),
	})
	c.Flags().StringVar(&route, "route", "", "only this route")
	return c
}

func (a *app) alerts() *cobra.Command {
	var all, seenAll bool
	var route, by string
	var seen []int64
	var limit int
	var before, after int64
	c := a.jsonFlag(&cobra.Command{
		Use: "alerts", Short: "List what a person should know: rejected files, stuck deliveries, missed deadlines", Args: cobra.NoArgs,
		Long:    "List what a person should know and nobody has seen yet, newest first; with --all,\nwhat was seen too. --seen says that alerts have been seen.",
		Example: "  ydrion alerts\n  ydrion alerts --seen 3,4 --by Maren\n  ydrion alerts --all --route specimen-orders",
		RunE: a.asking(func(cmd *cobra.Command, client *api.Client, _ []string) error {
			if len(seen) > 0 && seenAll {
				return wrongUse("either all alerts, or some of them")
			}
			if len(seen) > 0 || seenAll {
				done, err := client.See(cmd.Context(), seen, by)
				if err == nil && !a.json {
					fmt.Fprintf(a.out, "%s marked as seen\n", count(int(done), "alert"))
				} else if err == nil {
					err = a.printJSON(api.Seen{Alerts: done})
				}
				return err
			}
			q := url.Values{"open": {strconv.FormatBool(!all)}, "limit": {strconv.Itoa(limit)}, "route": {route}, "before": {n(before)}}
			follow := cmd.Flags().Changed("after")
			if follow {
				q.Del("before")
				q.Set("after", n(after))
			}
			page, err := client.Alerts(cmd.Context(), q)
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(page)
			}
			if len(page.Items) == 0 {
				fmt.Fprintln(a.out, "there is nothing that nobody has seen")
				return nil
			}
			var rows [][]string
			for _, x := range page.Items {
				rows = append(rows, []string{n(x.ID), moment(x.At, seconds), x.Kind, alertState(x), x.Route, x.Message})
			}
			if err := a.table("ALERT,"+zoned("TIME")+",KIND,STATE,ROUTE,MESSAGE", rows); err != nil {
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
	f.BoolVar(&all, "all", false, "also those that were seen or are over")
	f.StringVar(&route, "route", "", "only this route")
	f.Int64SliceVar(&seen, "seen", nil, "say that these have been seen")
	f.BoolVar(&seenAll, "seen-all", false, "say that all have been seen")
	f.StringVar(&by, "by", os.Getenv("USER"), "who has seen them")
	f.IntVar(&limit, "limit", 50, "how many at most (500)")
	f.Int64Var(&before, "before", 0, "only smaller numbers: the next page")
	f.Int64Var(&after, "after", 0, "follow: oldest first, only larger numbers")
	c.MarkFlagsMutuallyExclusive("before", "after")
	return c
}

func alertState(x wire.Alert) string {
	switch {
	case x.SeenAt != nil && x.SeenBy != "":
		return "seen by " + x.SeenBy
	case x.SeenAt != nil:
		return "seen"
	case x.EndedAt != nil && x.EndedAt.Sub(x.At) > time.Millisecond:
		return "over"
	}
	return "new"
}

func (a *app) expected() *cobra.Command {
	var route, since string
	c := a.jsonFlag(&cobra.Command{
		Use: "expected", Short: "List the deadlines for files, to come and past, and what had come by then", Args: cobra.NoArgs,
		Example: "  ydrion expected\n  ydrion expected --route weight-log --since 48h",
		RunE: a.asking(func(cmd *cobra.Command, client *api.Client, _ []string) error {
			q := url.Values{"route": {route}}
			if since != "" {
				t, err := when(since)
				if err != nil {
					return wrongUse("--since: %v", err)
				}
				q.Set("since", t.Format(time.RFC3339))
			}
			list, err := client.Expectations(cmd.Context(), q)
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(list)
			}
			if len(list) == 0 {
				fmt.Fprintln(a.out, "no running route expects anything; a route says so under `expect:`")
				return nil
			}
			var rows [][]string
			for _, x := range list {
				rows = append(rows, []string{moment(x.DueAt, minutes), x.State, strconv.Itoa(x.Seen), x.Route, x.Name, x.Wanted})
			}
			return a.table(zoned("DUE")+",STATE,SEEN,ROUTE,NAME,EXPECTED", rows)
		}),
	})
	c.Flags().StringVar(&route, "route", "", "only this route")
	c.Flags().StringVar(&since, "since", "", "past deadlines since then (a week if left out)")
	return c
}

func (a *app) nodes() *cobra.Command {
	return a.jsonFlag(&cobra.Command{
		Use: "nodes", Short: "List the services that share the database", Args: cobra.NoArgs, Example: "  ydrion nodes",
		RunE: a.asking(func(cmd *cobra.Command, client *api.Client, _ []string) error {
			list, err := client.Nodes(cmd.Context())
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(list)
			}
			var rows [][]string
			for _, x := range list {
				state := "alive"
				if x.EndedAt != nil {
					state = "ended " + moment(*x.EndedAt, seconds)
				}
				if x.Self {
					state += ", answers"
				}
				rows = append(rows, []string{n(x.ID), x.Name, x.Address, state, moment(x.BeganAt, seconds), strconv.Itoa(x.Routes)})
			}
			return a.table("NODE,NAME,ADDRESS,STATE,"+zoned("SINCE")+",ROUTES", rows)
		}),
	})
}

func (a *app) purge() *cobra.Command {
	var yes bool
	c := a.jsonFlag(&cobra.Command{
		Use: "purge ROUTE...", Short: "Remove what routes need not keep any longer", Args: cobra.MinimumNArgs(1), ValidArgsFunction: a.completeRoutes,
		Long:    "Remove what routes need not keep any longer, as they say under `keep:`; running\nroutes do so every hour by themselves. Open pickups and what is under a legal hold\nstay. Without --yes it only says what would be removed.",
		Example: "  ydrion purge specimen-orders\n  ydrion purge specimen-orders --yes",
		RunE: a.asking(func(cmd *cobra.Command, client *api.Client, args []string) error {
			for _, name := range args {
				p, err := client.Purge(cmd.Context(), name, !yes)
				if err != nil {
					return fmt.Errorf("%s: %w", name, err)
				}
				if a.json {
					if err := a.printJSON(p); err != nil {
						return err
					}
					continue
				}
				verb := "would be removed; say --yes to do it"
				if yes {
					verb = "removed"
				}
				fmt.Fprintf(a.out, "%s: %s (%d bytes), %s, %s %s\n", name, count(int(p.Originals), "original"), p.Bytes, count(int(p.Rejects), "rejected record"), count(int(p.Pickups), "pickup"), verb)
				if p.Held > 0 {
					fmt.Fprintf(a.out, "%s under a legal hold stay\n", count(int(p.Held), "pickup"))
				}
			}
			return nil
		}),
	})
	c.Flags().BoolVarP(&yes, "yes", "y", false, "do it")
	return c
}

func (a *app) legalHold() *cobra.Command {
	c := &cobra.Command{Use: "legal-hold", Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() }, Short: "Keep things from being purged, whatever the routes say", Example: "  ydrion legal-hold place --route specimen-orders --because \"inquiry 2026-7\"\n  ydrion legal-hold list\n  ydrion legal-hold lift 1"}
	var h wire.LegalHold
	place := a.jsonFlag(&cobra.Command{
		Use: "place", Short: "Keep a pickup, a route's pickups or everything", Args: cobra.NoArgs, Example: "  ydrion legal-hold place --pickup 12 --because \"inquiry 2026-7\"\n  ydrion legal-hold place --because \"audit\"",
		RunE: a.asking(func(cmd *cobra.Command, client *api.Client, _ []string) error {
			if h.Because == "" {
				return wrongUse("say why with --because")
			}
			placed, err := client.PlaceLegalHold(cmd.Context(), h)
			if err != nil || a.json {
				if err == nil {
					err = a.printJSON(placed)
				}
				return err
			}
			fmt.Fprintf(a.out, "legal hold %d is placed on %s\n", placed.ID, heldThing(placed))
			return nil
		}),
	})
	place.Flags().StringVar(&h.Route, "route", "", "all pickups of this route")
	place.Flags().Int64Var(&h.Pickup, "pickup", 0, "this pickup")
	place.Flags().StringVar(&h.Because, "because", "", "why")
	lift := &cobra.Command{
		Use: "lift NUMBER", Short: "End a legal hold", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeHolds, Example: "  ydrion legal-hold lift 1",
		RunE: a.asking(func(cmd *cobra.Command, client *api.Client, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return wrongUse("%q is not a number of a legal hold; `ydrion legal-hold list` lists them", args[0])
			}
			if err := client.LiftLegalHold(cmd.Context(), id); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "legal hold %d is lifted\n", id)
			return nil
		}),
	}
	list := a.jsonFlag(&cobra.Command{
		Use: "list", Short: "List legal holds, newest first", Args: cobra.NoArgs, Example: "  ydrion legal-hold list",
		RunE: a.asking(func(cmd *cobra.Command, client *api.Client, _ []string) error {
			list, err := client.LegalHolds(cmd.Context())
			if err != nil || a.json {
				if err == nil {
					err = a.printJSON(list)
				}
				return err
			}
			if len(list) == 0 {
				fmt.Fprintln(a.out, "there are no legal holds")
				return nil
			}
			var rows [][]string
			for _, h := range list {
				state := "holds"
				if h.LiftedAt != nil {
					state = "lifted " + moment(*h.LiftedAt, minutes)
				}
				rows = append(rows, []string{n(h.ID), moment(h.PlacedAt, minutes), state, heldThing(h), h.Because})
			}
			return a.table("HOLD,"+zoned("PLACED")+",STATE,ON,BECAUSE", rows)
		}),
	})
	c.AddCommand(place, lift, list)
	return c
}

func heldThing(h wire.LegalHold) string {
	switch {
	case h.Pickup > 0:
		return fmt.Sprintf("pickup %d", h.Pickup)
	case h.Route != "":
		return "route " + h.Route
	}
	return "everything"
}
