package cli

import (
	"fmt"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ydrion/api"
	"ydrion/core/finding"
	"ydrion/service"
)

func (a *app) find() *cobra.Command {
	var route, since string
	var limit int
	c := a.jsonFlag(&cobra.Command{
		Use: "find TEXT", Short: "Find records by a text in them: which file and line they came in, and what they went into", Args: cobra.ExactArgs(1),
		Long: `Find records that have a text, in all originals that are kept, newest first: a tag, a
number, a name, as it stands in the file. That is read again file by file; name a route
or a time to be quicker. Files that go on unread have no records, and are not looked into.
The exit code is 1 if some could not be looked into.`,
		Example: "  ydrion find T-0816\n  ydrion find T-0816 --route weighings --since 7d\n  ydrion find BR-1102 --json | jq .items[].went_into",
		RunE: a.asking(func(cmd *cobra.Command, client *api.Client, args []string) error {
			q := url.Values{"text": {args[0]}, "route": {route}, "limit": {strconv.Itoa(limit)}}
			if since != "" {
				t, err := when(since)
				if err != nil {
					return wrongUse("%v", err)
				}
				q.Set("since", t.Format(time.RFC3339))
			}
			all := service.FindAnswer{Items: []service.FoundRecord{}, Missed: []string{}}
			for {
				q.Set("limit", strconv.Itoa(limit-len(all.Items)))
				answer, err := client.Find(cmd.Context(), q)
				if err != nil {
					return err
				}
				all.Items, all.Looked, all.Next = append(all.Items, answer.Items...), all.Looked+answer.Looked, answer.Next
				all.From, all.Missed = answer.From, append(all.Missed, answer.Missed...)
				if answer.Next == 0 || len(all.Items) >= limit {
					break
				}
				fmt.Fprintf(a.err, "looked through %s, %s found; going on before pickup %d\n", count(all.Looked, "pickup"), count(len(all.Items), "record"), answer.Next)
				q.Set("before", n(answer.Next))
				q.Set("from", n(answer.From))
			}
			show := a.foundTable
			if a.json {
				show = func(all service.FindAnswer) error { return a.printJSON(all) }
			}
			err := show(all)
			if err == nil && len(all.Missed) > 0 {
				err = errFindings
			}
			return err
		}),
	})
	c.Flags().StringVar(&route, "route", "", "only this route")
	c.Flags().StringVar(&since, "since", "", "only pickups since a time, or for so long (24h, 7d)")
	c.Flags().IntVar(&limit, "limit", 20, "how many records at most (1000)")
	return c
}

func (a *app) foundTable(all service.FindAnswer) error {
	for _, missed := range all.Missed {
		fmt.Fprintf(a.err, "not looked into: %s\n", missed)
	}
	if len(all.Items) == 0 {
		fmt.Fprintf(a.out, "no record has it, in %s\n", count(all.Looked, "pickup"))
		return nil
	}
	var rows [][]string
	for _, f := range all.Items {
		record := n(f.Record)
		if f.Record == 0 {
			record = "-"
		}
		rows = append(rows, []string{n(f.Pickup), f.Route, f.Name, record, n(f.Line), f.Outcome, strings.Join(f.WentInto, " "), finding.Shorten([]byte(strings.TrimRight(f.Raw, "\r\n")))})
	}
	if err := a.table("PICKUP,ROUTE,FILE,RECORD,LINE,OUTCOME,WENT INTO,AS IT CAME", rows); err != nil {
		return err
	}
	if all.Next > 0 {
		fmt.Fprintln(a.out, "there may be more: --limit")
	}
	return nil
}
