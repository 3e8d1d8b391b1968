package route

import (
	"cmp"
	"fmt"
	"path"
	"regexp"
	"sort"
	"strings"

	"ydrion/core/finding"
	"ydrion/workspace"
)

// Guard refuses routes whose outputs would be picked up again: by the route
// itself, or by others in a circle. Folders must be resolved: they are compared
// as they are. It is careful: names that might match count as matching.
func Guard(routes []*workspace.Route, resolve func(folder string) (string, error)) finding.List {
	var out finding.List
	type edge struct {
		to              int
		setting, folder string
	}
	sort.Slice(routes, func(i, j int) bool { return routes[i].Name < routes[j].Name })
	edges := make([][]edge, len(routes))
	for i, from := range routes {
		type output struct {
			setting, folder, name string
			below                 bool // in a folder below, whose name comes from the values
		}
		outputs := []output{{from.Rejected.Place + ".folder", from.Rejected.Folder, "", false}}
		for k := range from.Branches {
			for _, d := range from.Branches[k].To {
				name := cmp.Or(d.Name, from.Branches[k].FileName)
				file := name[strings.LastIndexByte(name, '/')+1:]
				if d.Lookup != "" {
					continue
				}
				outputs = append(outputs, output{d.Place + ".folder", d.Folder, file, file != name})
			}
		}
		for _, o := range outputs {
			folder, err := resolve(o.folder)
			if err != nil {
				out = append(out, finding.New("route.place", from.Places[o.setting], "%v", err))
				continue
			}
			for j, to := range routes {
				inbox, err := resolve(to.Listen.Folder)
				if err != nil {
					if i == j && o.setting == from.Rejected.Place+".folder" {
						out = append(out, finding.New("route.place", to.Places["listen.folder"], "%v", err))
					}
					continue
				}
				if (within(folder, inbox, to.Subfolders) || o.below && strings.HasPrefix(inbox, folder+"/")) && mayMatch(o.name, to) {
					edges[i] = append(edges[i], edge{j, o.setting, folder})
				}
			}
		}
	}
	out = append(out, together(routes, resolve)...)
	for i, from := range routes {
		var visit func(at int, trail []string, seen map[int]bool) []string
		visit = func(at int, trail []string, seen map[int]bool) []string {
			for _, e := range edges[at] {
				step := append(append([]string{}, trail...), fmt.Sprintf("%s delivers to %s (%s), where %s listens", routes[at].Name, e.folder, e.setting, routes[e.to].Name))
				if e.to == i {
					return step
				}
				if !seen[e.to] {
					seen[e.to] = true
					if found := visit(e.to, step, seen); found != nil {
						return found
					}
				}
			}
			return nil
		}
		if circle := visit(i, nil, map[int]bool{i: true}); circle != nil {
			setting := edges[i][0].setting
			for _, e := range edges[i] {
				if strings.Contains(circle[0], "("+e.setting+")") {
					setting = e.setting
				}
			}
			out = append(out, finding.New("route.circle", from.Places[setting], "the route would pick up its own output: %s", strings.Join(circle, "; ")).
				Suggest("deliver to another folder, or listen for names that the outputs cannot have"))
		}
	}
	return out
}

// together finds routes that listen for the same files: each would go to one of them, and
// nobody could say to which.
func together(routes []*workspace.Route, resolve func(folder string) (string, error)) (out finding.List) {
	for i, a := range routes {
		for _, b := range routes[i+1:] {
			one, err := resolve(a.Listen.Folder)
			if err != nil {
				continue // it has been said
			}
			other, err := resolve(b.Listen.Folder)
			if err != nil || !within(one, other, b.Subfolders) && !within(other, one, a.Subfolders) {
				continue
			}
			if strings.HasPrefix(one, "imap:") && (a.Originals != workspace.Left || b.Originals != workspace.Left) {
				// Whichever takes a mail first moves it, with all that is attached to it.
				if sameMails(a, b) {
					out = append(out, finding.New("route.shared", b.Places["listen"], "%s and %s take mails from %s that both can mean: one of them would move a mail away from the other", a.Name, b.Name, other).
						Suggest("say whose mails each takes (mails: from, subject), or let both leave them there (originals: left)"))
				}
				continue
			}
			suggestion := "let them listen in folders of their own, or for names that have nothing in common"
			switch shared, known := share(a, b); {
			case shared && known:
				out = append(out, finding.New("route.shared", b.Places["listen"], "%s and %s listen in %s for names that both can have: a file would go to one of them, and nobody could say to which", a.Name, b.Name, other).Suggest("%s", suggestion))
			case shared:
				out = append(out, finding.Warn("route.shared", b.Places["listen"], "%s and %s listen in %s, and whether a file could be for both cannot be told from their expressions", a.Name, b.Name, other).Suggest("%s", suggestion))
			}
		}
	}
	return out
}

func within(folder, inbox string, subfolders bool) bool {
	return folder == inbox || subfolders && strings.HasPrefix(folder, strings.TrimSuffix(inbox, "/")+"/")
}

var braces = regexp.MustCompile(`\{[^}]*\}`)

// mayMatch tells whether an output of that name could be one of the files that
// a route listens for. The empty name is that of the source (for rejects).
func mayMatch(output string, to *workspace.Route) bool {
	if output == "" || to.Expression != nil {
		return true
	}
	fixed := output[strings.LastIndexByte(output, '}')+1:]
	wanted := to.Listen.Names[strings.LastIndexAny(to.Listen.Names, "*?]}")+1:]
	n := min(len(fixed), len(wanted))
	if !strings.EqualFold(fixed[len(fixed)-n:], wanted[len(wanted)-n:]) {
		return false
	}
	if !strings.Contains(output, "{") {
		return to.Listen.Matches(path.Base(braces.ReplaceAllString(output, "x")))
	}
	return true
}
