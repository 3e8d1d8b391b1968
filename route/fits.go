package route

import (
	"path"
	"slices"
	"strings"

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
		case from == "" && r.TakenTo != "" && !e.Production: // a folder of this machine stands in for it
		case from == "" && r.TakenTo != "":
			out = append(out, finding.Warn("route.place", r.Places["listen.taken to"], "files that are taken are moved (taken to) on servers only; in the environment %s, %s is a folder of this machine, and its files go into the archive", e.Name, r.Listen.Folder))
		case from != "" && r.TakenTo != "" && takenTo(e, r) == "":
			bad(r.Places["listen.taken to"], "files that were taken are moved (taken to) into the folder that they come from, and would be taken again; say another one")
		case from == "imap" && (r.Marker != "" || r.Gone || r.EndsWith != nil):
			bad(r.Places["listen.folder"], "mails are whole when they are there: there are no markers, no last lines, and no files that disappear (%s)", r.Listen.Folder)
		case from == "imap" && r.TakenTo == "" && r.Originals != workspace.Left:
			bad(r.Places["listen.folder"], "what becomes of mails that were taken is not said: they are moved into another mailbox (`taken to: /Taken`), or stay there and are marked as read (`originals: left`)")
		case from == "imap" && r.Mails.Take != "attachments" && !r.Listen.Matches("1.1"+map[string]string{"text": ".txt", "whole": ".eml"}[r.Mails.Take]):
			bad(r.Places["listen.mails"], "mails are taken as files such as %q, which listen.names does not mean", "1.1"+map[string]string{"text": ".txt", "whole": ".eml"}[r.Mails.Take])
		case from == "s3" && r.TakenTo != "":
			bad(r.Places["listen.taken to"], "an object store renames nothing: files that were taken cannot be moved there; leave `taken to` out")
		case receives(r.Listen.Folder) && (r.TakenTo != "" || r.Marker != "" || r.Originals == workspace.Left):
			bad(r.Places["listen.folder"], "others send to %s: there is no folder in which files could have markers, stay (originals: left) or be moved (taken to)", r.Listen.Folder)
		case receives(r.Listen.Folder) && from != "http" && r.AnswerOutput:
			bad(r.Places["listen.answer"], "what is sent by MLLP is acknowledged, not answered with an output (answer: output); say `answer: committed`")
		case receives(r.Listen.Folder):
		case from == "http" && (r.Originals != workspace.Left || r.TakenTo != "" || r.Marker != "" || r.Subfolders):
			bad(r.Places["listen.folder"], "what is got by HTTP stays there, and is taken when it has changed: say `originals: left`; there are no markers, no subfolders, and nothing is moved (taken to)")
		case from == "smtp" || from == "mllp":
			bad(r.Places["listen.folder"], "nothing is fetched from places of the kind %s: outputs are sent there", from)
		case from != "" && r.Gone:
			bad(r.Places["listen.folder"], "files that disappear are told from folders of this machine only, not from servers (%s)", r.Listen.Folder)
		}
		if at, is := r.Places["listen.mails"]; is && kind(r.Listen.Folder) != "imap" && e.Production {
			out = append(out, finding.Warn("route.place", at, "only mails of a mailbox have senders and subjects (mails); in the environment %s, %s is none, and all files that fit listen.names are taken", e.Name, r.Listen.Folder))
		}
		for _, d := range append(slices.Clone(r.Destinations()), r.Rejected) {
			to := kind(d.Folder)
			at := r.Places[d.Place+".folder"]
			for _, s := range d.Says {
				header := strings.HasPrefix(s.What, "header ")
				if fits := map[bool]string{true: "http", false: "smtp"}[header]; to != "" && to != fits {
					bad(r.Places[s.Key], "%s is said to places of the kind %s, and %s is of the kind %s", s.What, fits, d.Folder, to)
				} else if to == "" && e.Production {
					out = append(out, finding.Warn("route.place", r.Places[s.Key], "%s is said where outputs are sent; in the environment %s, %s is a folder, and it is left out", s.What, e.Name, d.Folder))
				}
			}
			if to == "smtp" && !slices.ContainsFunc(d.Says, func(s workspace.Say) bool { return s.What == "to" }) && len(mailed(e, d.Folder)) == 0 {
				bad(at, "to whom it is mailed is not said, neither here (mail.to) nor by the place (to)")
			}
			switch {
			case to == "" || d.Lookup != "":
			case receives(d.Folder):
				bad(at, "others send to %s; nothing can be delivered there", d.Folder)
			case to == "http" || to == "smtp" || to == "mllp":
				if d.Taken != workspace.Count {
					bad(at, "outputs are sent to places of the kind %s: there are no names that could be taken (name taken)", to)
				}
			case to == "imap":
				bad(at, "mails are taken from mailboxes, and nothing is written there; name a place of the kind smtp to mail something")
			case d.Mode != 0 || d.Owner != "":
				bad(at, "permissions and owner are set in folders of this machine only, not on servers (%s)", d.Folder)
			case to == "s3" && d.Taken == workspace.ReplaceKeep:
				bad(at, "an object store renames nothing: what is there can be replaced, but not kept beside it")
			}
		}
	}
	return out
}

// mailed are those to whom a place mails what is said to nobody else.
func mailed(e *workspace.Environment, folder string) []string {
	resolved, err := e.Resolve(folder, "/")
	if err != nil {
		return nil
	}
	name, _, _ := workspace.Distant(resolved)
	return e.Places[name].To
}

// takenTo is the folder on a server that a route's files are moved into which were taken; empty if it is the one that they come
// from.
func takenTo(e *workspace.Environment, r *workspace.Route) string {
	from, err := e.Resolve(r.Listen.Folder, "/")
	if err != nil {
		return r.TakenTo // it has been said
	}
	_, below, _ := workspace.Distant(from)
	to := r.TakenTo
	if !path.IsAbs(to) {
		to = path.Join(below, to)
	}
	if path.Clean(to) == path.Clean(below) {
		return ""
	}
	return to
}
