package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"ydrion/api"
	"ydrion/wire"
)

func (a *app) lookups() *cobra.Command {
	var content bool
	var version int
	c := a.jsonFlag(&cobra.Command{
		Use: "lookups [NAME]", Short: "List the lookups whose content comes with files: how old each is, and what it holds", Args: cobra.MaximumNArgs(1),
		Long: `List the lookups whose content routes deliver, each with its newest version; with
NAME all versions of one. What a workspace has under lookups/ is not listed: it
counts until the first content has come.`,
		Example: "  ydrion lookups\n  ydrion lookups animals\n  ydrion lookups animals --content > animals.csv\n  ydrion lookups animals --content --version 3",
		RunE: a.asking(func(cmd *cobra.Command, client *api.Client, args []string) error {
			name := ""
			if len(args) > 0 {
				name = args[0]
			}
			if content {
				if name == "" {
					return wrongUse("--content needs the name of a lookup")
				}
				text, err := client.LookupContent(cmd.Context(), name, version)
				if err != nil {
					return err
				}
				if a.json {
					return a.printJSON(api.LookupContent{Content: text})
				}
				_, err = fmt.Fprint(a.out, text)
				return err
			}
			list, err := client.Lookups(cmd.Context(), name)
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(list)
			}
			if len(list) == 0 {
				fmt.Fprintln(a.out, "no content of a lookup has come with files yet")
				return nil
			}
			return a.lookupTable(list)
		}),
	})
	c.Flags().BoolVar(&content, "content", false, "print the content of NAME, as CSV")
	c.Flags().IntVar(&version, "version", 0, "of which version; the newest if left out")
	return c
}

func (a *app) lookupTable(list []wire.Lookup) error {
	var rows [][]string
	for _, l := range list {
		rows = append(rows, []string{l.Name, fmt.Sprint(l.Version), moment(l.At, seconds), n(l.Rows), n(l.Size), l.Route, n(l.Pickup)})
	}
	return a.table("LOOKUP,VERSION,"+zoned("CAME")+",ROWS,BYTES,ROUTE,PICKUP", rows)
}
