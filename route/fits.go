package route

import (
	"slices"

	"ydrion/core/finding"
	"ydrion/core/place"
	"ydrion/workspace"
)

// Fits says what routes ask of places that these cannot do: a server is no folder of this machine, and no kind of server
// is as the others.
func Fits(routes []*workspace.Route, e *workspace.Environment) (out finding.List) {
	receives := func(folder string) bool {
		resolved, err := e.Resolve(folder, "/")
		name, _, is := workspace.Distant(resolved)
		return err == nil && is && e.Places[name].Receives
	}
	kind := func(folder string) string {
		resolved, err := e.Resolve(folder, "/")
		if err != nil {
			return "" // it has been said
		}
		name, _, is := workspace.Distant(resolved)
		if !is {
			return ""
		}
		return e.Places[name].Kind
	}
	for _, r := range routes {
		bad := func(at place.Place, says string, args ...any) {
			out = append(out, finding.New("route.place", at, says, args...))
		}
		switch from := kind(r.Listen.Folder); {
		case from == "" && r.TakenTo != "":
			out = append(out, finding.Warn("route.place", r.Places["listen.taken to"], "files that are taken are moved (taken to) on servers only; in the environment %s, %s is a folder of this machine, and its files go into the archive", e.Name, r.Listen.Folder))
		case from == "s3" && r.TakenTo != "":
			bad(r.Places["listen.taken to"], "an object store renames nothing: files that were taken cannot be moved there; leave `taken to` out")
		case receives(r.Listen.Folder) && (r.TakenTo != "" || r.Marker != "" || r.Originals == workspace.Left):
			bad(r.Places["listen.folder"], "others send to %s: there is no folder in which files could have markers, stay (originals: left) or be moved (taken to)", r.Listen.Folder)
		case receives(r.Listen.Folder):
		case from == "http" || from == "smtp" || from == "mllp":
			bad(r.Places["listen.folder"], "nothing is fetched from places of the kind %s: outputs are sent there", from)
		case from != "" && r.Gone:
			bad(r.Places["listen.folder"], "files that disappear are told from folders of this machine only, not from servers (%s)", r.Listen.Folder)
		}
		for _, d := range append(slices.Clone(r.Destinations()), r.Rejected) {
			to := kind(d.Folder)
			at := r.Places[d.Place+".folder"]
			switch {
			case to == "" || d.Lookup != "":
			case receives(d.Folder):
				bad(at, "others send to %s; nothing can be delivered there", d.Folder)
			case to == "http" || to == "smtp" || to == "mllp":
				if d.Taken != workspace.Count {
					bad(at, "outputs are sent to places of the kind %s: there are no names that could be taken (name taken)", to)
				}
			case d.Mode != 0 || d.Owner != "":
				bad(at, "permissions and owner are set in folders of this machine only, not on servers (%s)", d.Folder)
			case to == "s3" && d.Taken == workspace.ReplaceKeep:
				bad(at, "an object store renames nothing: what is there can be replaced, but not kept beside it")
			}
		}
	}
	return out
}
