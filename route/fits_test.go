package route

import (
	"strings"
	"testing"

	"ydrion/workspace"
)

// TestFits: what a place cannot do is said before a route is published that asks it to.
func TestFits(t *testing.T) {
	const environment = `environment: e
production: true
places:
  here: /srv
  holm: { address: sftp://h/base, user: a, password from: P, host key: "SHA256:x" }
  also: { address: sftp://h/base/out, user: a, password from: P, host key: "SHA256:x" }
  store: { kind: s3, address: "https://s/bucket", user: a, password from: P }
  lab: { address: "mllp://l:2575" }
  bench: { kind: mllp, "listen on": ":2575" }
  front: { kind: http, token from: T }
  post: { address: "imaps://m", user: a, password from: P }
  desk: { kind: http, address: "https://d/api" }
  office: { address: "smtp://m", tls: explicit, from: "a@b.example" }
`
	for settings, says := range map[string]string{
		`listen: {place: holm/out, taken to: done}|deliver: {place: store/in, name: "{file.name}"}`:                   "",
		`listen: {place: bench}|deliver: {place: lab, name: x}`:                                                       "",
		`listen: {place: front/orders}|deliver: {place: holm/in, name: x}`:                                            "",
		`listen: {folder: "{here}/in", taken to: done}|deliver: {place: holm/in, name: x}`:                            "is a folder of this machine, and its files go into the archive",
		`listen: {place: store/in, taken to: done}|deliver: {place: holm/in, name: x}`:                                "an object store renames nothing",
		`listen: {place: holm/in, originals: left, files that disappear: true}|deliver: {place: lab, name: x}`:        "files that disappear are told from folders of this machine only",
		`listen: {place: lab}|deliver: {place: holm/in, name: x}`:                                                     "nothing is fetched from places of the kind mllp",
		`listen: {place: bench, originals: left}|deliver: {place: holm/in, name: x}`:                                  "others send to {bench}",
		`listen: {place: holm/in}|deliver: {place: bench, name: x}`:                                                   "nothing can be delivered there",
		`listen: {place: holm/in}|deliver: {place: lab, name: x, name taken: replace}`:                                "there are no names that could be taken",
		`listen: {place: holm/in}|deliver: {place: store, name: x, name taken: replace and keep}`:                     "but not kept beside it",
		`listen: {place: holm/in}|deliver: {place: store, name: x, permissions: "0640"}`:                              "permissions and owner are set in folders of this machine only",
		`listen: {place: post/INBOX, taken to: /Taken}|deliver: {place: desk, name: x}`:                               "",
		`listen: {place: desk/x, originals: left}|deliver: {place: office, name: x, mail: {to: "a@b.example"}}`:       "",
		`listen: {place: post/INBOX}|deliver: {place: desk, name: x}`:                                                 "what becomes of mails that were taken is not said",
		`listen: {place: post/INBOX, taken to: .}|deliver: {place: desk, name: x}`:                                    "would be taken again",
		`listen: {place: holm/in, taken to: /in}|deliver: {place: desk, name: x}`:                                     "would be taken again",
		`listen: {place: post, originals: left, marker: "{file.stem}.ok"}|deliver: {place: desk, name: x}`:            "mails are whole when they are there",
		`listen: {place: post, originals: left, names: "*.csv", mails: {take: text}}|deliver: {place: desk, name: x}`: "which listen.names does not mean",
		`listen: {folder: "{here}/in", mails: {from: "*"}}|deliver: {place: desk, name: x}`:                           "only mails of a mailbox have senders",
		`listen: {place: desk/x}|deliver: {place: holm/in, name: x}`:                                                  "what is got by HTTP stays there",
		`listen: {place: holm/in}|deliver: {place: post, name: x}`:                                                    "nothing is written there",
		`listen: {place: holm/in}|deliver: {place: office, name: x}`:                                                  "to whom it is mailed is not said",
		`listen: {place: holm/in}|deliver: {place: desk, name: x, mail: {subject: x}}`:                                "subject is said to places of the kind smtp",
		`listen: {place: holm/in}|deliver: {folder: "{here}/out", name: x, headers: {X-A: x}}`:                        "header x-a is said where outputs are sent",
		`listen: {place: also}|deliver: {place: holm/out, name: x}`:                                                   "the route would pick up its own output",
	} {
		listen, deliver, _ := strings.Cut(settings, "|")
		w := workspace.FromFiles(map[string][]byte{"environments/e.yaml": []byte(environment), "routes/r.yaml": []byte("route: r\n" + listen + "\nread: {format: file}\n" + deliver + "\nrejected: {folder: \"{here}/rejected\"}\n")})
		e, r := w.Environments["e"], w.Routes["r"]
		if e == nil || r == nil {
			t.Fatalf("%s: %v", settings, w.Findings)
		}
		all := []*workspace.Route{r}
		said := ""
		for _, f := range append(Fits(all, e), Guard(all, func(f string) (string, error) { return e.Whereabouts(f, "/") })...) {
			said += f.String() + "\n"
		}
		if says == "" && said != "" || !strings.Contains(said, says) {
			t.Errorf("%s: want %q, got %q", settings, says, said)
		}
	}
}

// TestMailsForSeveral: routes may share a mailbox if each mail is meant by one of them, or if all leave mails where they are.
func TestMailsForSeveral(t *testing.T) {
	const environment = "environment: e\nplaces:\n  here: /srv\n  post: { address: \"imaps://m\", user: a, password from: P }\n  also: { address: \"imaps://m:993\", user: a, password from: P }\n  other: { address: \"imaps://m\", user: b, password from: P }\n"
	for settings, says := range map[string]string{
		`place: post/INBOX, taken to: /A, mails: {from: "*@A.example"}|place: post/INBOX, taken to: /B, mails: {from: "*@b.example"}`:           "",
		`place: post/INBOX, taken to: /A, mails: {subject: "{order,sheet} *"}|place: also/INBOX, originals: left, mails: {subject: "result *"}`: "",
		`place: post/INBOX, taken to: /A|place: other/INBOX, taken to: /A`:                                                                      "",
		`place: post/INBOX, originals: left, names: "*.csv"|place: post/INBOX, originals: left, names: "*.hl7"`:                                 "",
		`place: post/INBOX, taken to: /A, names: "*.csv"|place: post/INBOX, taken to: /A, names: "*.hl7"`:                                       "would move a mail away from the other",
		`place: post/INBOX, taken to: /A, mails: {from: "*@a.example"}|place: also, taken to: /B, mails: {from: "kai@*"}`:                       "would move a mail away from the other",
		`place: post/INBOX, originals: left, names: "*.csv"|place: post/INBOX, originals: left, names: "a*"`:                                    "listen in imap://a@m:993/INBOX for names that both can have",
	} {
		var all []*workspace.Route
		files := map[string][]byte{"environments/e.yaml": []byte(environment)}
		for i, listen := range strings.Split(settings, "|") {
			name := string(rune('a' + i))
			files["routes/"+name+".yaml"] = []byte("route: " + name + "\nlisten: {" + listen + "}\nread: {format: file}\ndeliver: {folder: \"{here}/out\", name: \"{file.name}\"}\nrejected: {folder: \"{here}/rejected\"}\n")
		}
		w := workspace.FromFiles(files)
		e := w.Environments["e"]
		for _, name := range []string{"a", "b"} {
			if w.Routes[name] == nil {
				t.Fatalf("%s: %v", settings, w.Findings)
			}
			all = append(all, w.Routes[name])
		}
		said := ""
		for _, f := range append(Fits(all, e), Guard(all, func(f string) (string, error) { return e.Whereabouts(f, "/") })...) {
			said += f.String() + "\n"
		}
		if says == "" && said != "" || !strings.Contains(said, says) {
			t.Errorf("%s: want %q, got %q", settings, says, said)
		}
	}
}
