package cli

import (
	"net/url"
	"os"
	"slices"
	"strings"
	"unicode"
	"ydrion/core/formats"

	"github.com/spf13/cobra"

	"ydrion/store"
)

// words are the flags that take one of a few words, whichever command they are of.
var words = map[string][]string{
	"state":      store.States,
	"format":     formats.Names(),
	"to":         formats.Names(),
	"encoding":   {"utf-8", "windows-1252", "iso-8859-1", "iso-8859-15", "utf-16le", "utf-16be", "us-ascii"},
	"delimiter":  {",", ";", "tab", "|"},
	"heading":    {"yes", "no"},
	"log-format": {"text", "json"},
	"log-level":  {"debug", "info", "warn", "error"},
}

// folders are the flags that take a folder.
var folders = []string{"data", "workspace", "folder"}

type completion = func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective)

// completeFlags lets the flags of a command and of those below it be completed.
func (a *app) completeFlags(c *cobra.Command) {
	register := func(flag string, f completion) {
		if c.Flags().Lookup(flag) != nil || c.PersistentFlags().Lookup(flag) != nil {
			c.RegisterFlagCompletionFunc(flag, f) //nolint: the flag is there
		}
	}
	for flag, list := range words {
		if flag == "state" && c.Name() == "again" {
			list = []string{"delivered", "rejected"}
		}
		register(flag, func(_ *cobra.Command, _ []string, part string) ([]string, cobra.ShellCompDirective) {
			return several(list, part), cobra.ShellCompDirectiveNoFileComp
		})
	}
	for _, flag := range folders {
		register(flag, func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			return nil, cobra.ShellCompDirectiveFilterDirs
		})
	}
	register("route", func(cmd *cobra.Command, _ []string, part string) ([]string, cobra.ShellCompDirective) {
		return several(a.routeNames(cmd, nil), part), cobra.ShellCompDirectiveNoFileComp
	})
	register("pickup", func(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
		return a.pickupNumbers(cmd, nil), cobra.ShellCompDirectiveNoFileComp
	})
	for _, below := range c.Commands() {
		a.completeFlags(below)
	}
}

// several completes the last of words that stand with commas between them.
func several(list []string, part string) (out []string) {
	before := part[:strings.LastIndexByte(part, ',')+1]
	for _, word := range list {
		if !slices.Contains(strings.Split(before, ","), word) {
			out = append(out, before+word)
		}
	}
	return out
}

// routeNames are the published routes that have not been named yet.
func (a *app) routeNames(cmd *cobra.Command, named []string) (names []string) {
	client, err := a.client()
	if err != nil {
		return nil
	}
	list, err := client.Routes(cmd.Context())
	if err != nil {
		return nil
	}
	for _, r := range list {
		if !slices.Contains(named, r.Name) {
			names = append(names, r.Name)
		}
	}
	return names
}

// pickupNumbers are the latest pickups with their files, which shells show beside them.
func (a *app) pickupNumbers(cmd *cobra.Command, states []string) (numbers []string) {
	client, err := a.client()
	if err != nil {
		return nil
	}
	q := url.Values{"limit": {"30"}}
	if len(states) > 0 {
		q.Set("state", strings.Join(states, ","))
	}
	page, err := client.Pickups(cmd.Context(), q)
	if err != nil {
		return nil
	}
	for _, p := range page.Items {
		numbers = append(numbers, n(p.ID)+"\t"+p.State+" "+harmless(p.Name))
	}
	return numbers
}

// completeRoutes completes the names of one route or of several.
func (a *app) completeRoutes(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	if len(args) > 0 && !strings.Contains(cmd.Use, "ROUTE...") {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	return a.routeNames(cmd, args), cobra.ShellCompDirectiveNoFileComp
}

// completePlaces completes the name of a place, which shells show with its kind and state.
func (a *app) completePlaces(cmd *cobra.Command, args []string, _ string) (names []string, _ cobra.ShellCompDirective) {
	client, err := a.client()
	if err != nil || len(args) > 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	list, err := client.Places(cmd.Context())
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	for _, p := range list {
		names = append(names, p.Name+"\t"+p.Kind+", "+p.State)
	}
	return names, cobra.ShellCompDirectiveNoFileComp
}

// completePickups completes the number of one pickup, or of several where that is possible; of
// those in some states, or of all.
func (a *app) completePickups(states ...string) completion {
	return func(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
		if len(args) > 0 && !strings.Contains(cmd.Use, "PICKUP...") {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		return a.pickupNumbers(cmd, states), cobra.ShellCompDirectiveNoFileComp
	}
}

// completeWaiting completes a route, then the files that wait in its inbox.
func (a *app) completeWaiting(cmd *cobra.Command, args []string, part string) ([]string, cobra.ShellCompDirective) {
	if len(args) == 0 {
		return a.completeRoutes(cmd, args, part)
	}
	client, err := a.client()
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	sheet, err := client.Route(cmd.Context(), args[0])
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	var files []string
	for _, w := range sheet.WaitingFiles {
		if !slices.Contains(args[1:], w.Name) {
			files = append(files, w.Name)
		}
	}
	return files, cobra.ShellCompDirectiveNoFileComp
}

// completeTry completes a route of the workspace, then a file.
func completeTry(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	if len(args) > 0 {
		return nil, cobra.ShellCompDirectiveDefault
	}
	folder, err := cmd.Flags().GetString("workspace")
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	entries, err := os.ReadDir(folder + "/routes")
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	var names []string
	for _, e := range entries {
		if name, is := strings.CutSuffix(e.Name(), ".yaml"); is {
			names = append(names, name)
		}
	}
	return names, cobra.ShellCompDirectiveNoFileComp
}

// completeHolds completes the number of a legal hold that has not been lifted.
func (a *app) completeHolds(cmd *cobra.Command, args []string, _ string) (numbers []string, _ cobra.ShellCompDirective) {
	client, err := a.client()
	if err != nil || len(args) > 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	list, err := client.LegalHolds(cmd.Context())
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	for _, h := range list {
		if h.LiftedAt == nil {
			numbers = append(numbers, n(h.ID)+"\t"+harmless(h.Because))
		}
	}
	return numbers, cobra.ShellCompDirectiveNoFileComp
}

// harmless is a text without what would end a line or command a terminal.
func harmless(s string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsControl(r) {
			return ' '
		}
		return r
	}, s)
}
