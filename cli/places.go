package cli

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"ydrion/api"
	"ydrion/remote"
	"ydrion/wire"
)

func (a *app) places() *cobra.Command {
	c := a.jsonFlag(&cobra.Command{
		Use: "places", Short: "List where files come from and go to, how each place does, and what waits for it", Args: cobra.NoArgs,
		Long: `List the places of the service's environment: folders of its machine and servers.
A place is away if the service could not reach it the last time; what is to be
brought there waits meanwhile, and holds nothing that goes elsewhere.`,
		Example: "  ydrion places\n  ydrion places --json\n  ydrion places try holm --folder /outgoing",
		RunE: a.asking(func(cmd *cobra.Command, client *api.Client, _ []string) error {
			list, err := client.Places(cmd.Context())
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(list)
			}
			if len(list) == 0 {
				fmt.Fprintln(a.out, "the environment has no places")
				return nil
			}
			return a.placeTable(list)
		}),
	})
	c.AddCommand(a.tryPlace())
	return c
}

func (a *app) placeTable(list []wire.EnvironmentPlace) error {
	var rows [][]string
	for _, p := range list {
		reached := ""
		if p.Reached != nil {
			reached = moment(*p.Reached, seconds)
		}
		waits := n(p.Waiting)
		if p.Person > 0 {
			waits += fmt.Sprintf(" (%d for a person)", p.Person)
		}
		rows = append(rows, []string{p.Name, p.Kind, p.State, p.Where, reached, waits, n(p.Fetching)})
	}
	if err := a.table("PLACE,KIND,STATE,WHERE,"+zoned("REACHED")+",WAITING,FETCHING", rows); err != nil {
		return err
	}
	for _, p := range list {
		if p.Problem != "" {
			since := ""
			if p.Since != nil {
				since = " since " + moment(*p.Since, seconds)
			}
			fmt.Fprintf(a.out, "%s is away%s: %s\n", p.Name, since, p.Problem)
		}
	}
	return nil
}

func (a *app) tryPlace() *cobra.Command {
	var folder, environment string
	c := a.jsonFlag(&cobra.Command{
		Use: "try PLACE", ValidArgsFunction: a.completePlaces, Short: "Try what a place can do: reach it, look into it, write a probe there and remove it", Args: cobra.ExactArgs(1),
		Long: `Try a place as the service would use it, and say of each step whether it works. The
probe is a small hidden file, which is removed again. With --environment it is tried
from here, without a service, by a file of settings: also to see which key a server
has before it is pinned.`,
		Example: "  ydrion places try holm\n  ydrion places try holm --folder /outgoing\n  ydrion places try holm --environment environments/production.yaml",
		RunE: func(cmd *cobra.Command, args []string) error {
			var steps []wire.PlaceStep
			if environment != "" {
				e, err := loadEnvironment(environment)
				if err != nil {
					return err
				}
				if p, is := e.Places[args[0]]; !is || p.Kind == "" {
					return wrongUse("%s has no server %s", environment, args[0])
				}
				places := remote.New(e)
				defer places.Close()
				if folder == "" {
					folder = "/"
				}
				for _, s := range remote.Try(cmd.Context(), places, args[0], folder, fmt.Sprintf(".ydrion-probe-%d", time.Now().UnixNano())) {
					steps = append(steps, wire.PlaceStep{What: s.What, Says: s.Says, OK: s.OK, Seconds: s.Took.Seconds()})
				}
				return a.tried(steps)
			}
			return a.asking(func(cmd *cobra.Command, client *api.Client, args []string) error {
				steps, err := client.TryPlace(cmd.Context(), args[0], folder)
				if err != nil {
					return err
				}
				return a.tried(steps)
			})(cmd, args)
		},
	})
	c.Flags().StringVar(&folder, "folder", "", "below the place")
	c.Flags().StringVarP(&environment, "environment", "e", "", "file of an environment: try from here, without a service")
	return c
}

// tried prints what was tried with a place.
func (a *app) tried(steps []wire.PlaceStep) error {
	failed := ""
	for _, s := range steps {
		if !s.OK && failed == "" {
			failed = s.What
		}
	}
	if a.json {
		if err := a.printJSON(steps); err != nil {
			return err
		}
	} else {
		var rows [][]string
		for _, s := range steps {
			did := "works"
			if !s.OK {
				did = "fails"
			}
			rows = append(rows, []string{s.What, did, fmt.Sprintf("%.0f ms", s.Seconds*1000), s.Says})
		}
		if err := a.table("STEP,RESULT,TOOK,", rows); err != nil {
			return err
		}
	}
	if failed != "" {
		return errFindings
	}
	return nil
}
