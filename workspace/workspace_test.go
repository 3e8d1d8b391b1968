package workspace

import (
	"fmt"
	"os"
	"runtime"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"ydrion/core/finding"
)

const good = `route: orders
listen:
  folder: "{stations}/inbox"
  names: "*.csv"
check:
  schema: schemas/sheet.json
  tolerate: 2.5%
map: maps/orders.map
deliver:
  folder: "{laboratory}/orders"
  name: "{file.stem}.hl7"
rejected:
  folder: "{stations}/rejected"
`

func TestRoute(t *testing.T) {
	w, err := Load(fstest.MapFS{"routes/orders.yaml": {Data: []byte(good)}, "routes/.hidden.yaml": {Data: []byte("x: 1")}, "maps/a.map": {Data: []byte("x")}, "elsewhere/b": {Data: []byte("x")}})
	if err != nil || len(w.Findings) > 0 {
		t.Fatal(err, w.Findings)
	}
	r := w.Routes["orders"]
	if r == nil || len(w.Files) != 2 {
		t.Fatalf("routes %v, files %d", w.Routes, len(w.Files))
	}
	if r.Listen.Folder != "{stations}/inbox" || r.Notice != ByEvents || r.Rhythm != 30*time.Second || r.Tolerate != 0.025 || r.Branches[0].PerRecord || r.Charset != "utf-8" {
		t.Errorf("%+v", r)
	}
	for name, want := range map[string]bool{"a.csv": true, ".a.csv": false, "a.CSV": false, "a.csv.part": false} {
		if r.Matches(name) != want {
			t.Errorf("%s matches: %v", name, !want)
		}
	}
}

func TestRoutesThatAreWrong(t *testing.T) {
	tests := []struct{ change, to, says string }{
		{"route: orders", "route: Orders!", "routes/orders.yaml:1:8: error: a route's name is made of"},
		{"route: orders\n", "", "route is missing"},
		{`names: "*.csv"`, `name: "*.csv"`, `routes/orders.yaml:4:3: error: listen has no key "name"` + ` [workspace.key-unknown]` + "\n    was \"names\" meant?"},
		{`names: "*.csv"`, `names: "in/*.csv"`, "matched without their folder"},
		{`folder: "{stations}/inbox"`, `folder: "sftp://host/inbox"`, "name the server as a place of the environment"},
		{`names: "*.csv"`, `names: "[a"`, `"[a" is not a wildcard pattern`},
		{`names: "*.csv"`, "names: \"*.csv\"\n  expression: \"x\"", "cannot both be given"},
		{`names: "*.csv"`, `expression: "("`, "not a regular expression"},
		{`names: "*.csv"`, `rhythm: 5`, "listen.rhythm must be a duration such as"},
		{`names: "*.csv"`, `rhythm: 1ms`, "must be 100ms or more"},
		{`names: "*.csv"`, `since: yesterday`, "must be a time with its zone"},
		{`names: "*.csv"`, `subfolders: maybe`, "must be true or false"},
		{`names: "*.csv"`, `notice: sometimes`, `listen.notice is "sometimes"; it can be events or looks`},
		{"tolerate: 2.5%", "tolerate: 2.5", "must be a percentage"},
		{"tolerate: 2.5%", "tolerate: 250%", "must be a percentage"},
		{"check:", "read:\n  encoding: klingon\ncheck:", `unknown character set "klingon"`},
		{"check:", "read:\n  delimiter: abc\ncheck:", "must be one character, or tab"},
		{"check:", "read:\n  delimiter: '\"'\ncheck:", "delimiter and quote are the same character"},
		{"check:", "read:\n  heading: false\ncheck:", "needs the names of its columns"},
		{"check:", "read:\n  format: clay\ncheck:", "it can be csv"},
		{"map: maps/orders.map", "map: [a]", "map must be a text"},
		{"map: maps/orders.map", "notes: &n x\nmap: *n", "aliases are not used here"},
		{"listen:\n", "listen:\n\t- x\n", "routes/orders.yaml:"},
		{good, "- a\n- b\n", "must be a mapping"},
		{good, "", "one YAML document"},
	}
	for _, test := range tests {
		source := strings.Replace(good, test.change, test.to, 1)
		if source == good {
			t.Fatalf("%q is not in the good route", test.change)
		}
		w := FromFiles(map[string][]byte{"routes/orders.yaml": []byte(source)})
		if !strings.Contains(fmt.Sprint([]finding.Finding(w.Findings)), test.says) || !w.Findings.HasErrors() || w.Routes["orders"] != nil {
			t.Errorf("%s:\n%v\ndoes not say %q", test.to, w.Findings, test.says)
		}
	}
	w := FromFiles(map[string][]byte{"routes/a.yaml": []byte(good), "routes/b.yaml": []byte(good), "routes/c.txt": nil})
	if said := fmt.Sprint([]finding.Finding(w.Findings)); !strings.Contains(said, `routes/a.yaml is called "orders" too`) || !strings.Contains(said, "routes/c.txt: warning: this file is not read") {
		t.Error(said)
	}
}

func TestEnvironment(t *testing.T) {
	w := FromFiles(map[string][]byte{"environments/test.yaml": []byte("environment: test\nplaces:\n  stations: stations\n  laboratory: /mnt/lab\n")})
	e := w.Environments["test"]
	if e == nil || len(w.Findings) > 0 {
		t.Fatal(w.Findings)
	}
	for folder, want := range map[string]string{"{stations}/inbox": "/data/stations/inbox", "{laboratory}/orders": "/mnt/lab/orders", "plain": "/data/plain", "/abs": "/abs"} {
		if got, err := e.Resolve(folder, "/data"); got != want || err != nil {
			t.Errorf("%s: %s, %v", folder, got, err)
		}
	}
	for folder, says := range map[string]string{"{pool}/x": `no place "pool"; it has laboratory, stations`, "{stations": "not closed"} {
		if _, err := e.Resolve(folder, "/data"); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", folder, err)
		}
	}
}

// TestNesting: a file that is nested without end is refused where it is, before anything is
// made of it.
func TestNesting(t *testing.T) {
	indents := "a:\n"
	for n := range 300 {
		indents += strings.Repeat(" ", n+1) + "b:\n"
	}
	for name, text := range map[string]string{
		"lists": "route: r\na: " + strings.Repeat("[", 50_000), "objects": "route: r\na: " + strings.Repeat("{b: ", 50_000),
		"dashes": "a:\n" + strings.Repeat("- ", 50_000) + "x", "keys": "a:\n" + strings.Repeat("? ", 50_000), "indents": indents,
	} {
		var out finding.List
		before := new(runtime.MemStats)
		runtime.ReadMemStats(before)
		if m := parseYAML("routes/r.yaml", []byte(text), &out); m != nil || len(out) != 1 || out[0].Code != "workspace.depth" || out[0].Place.Line < 2 {
			t.Errorf("%s: %v", name, out)
		}
		after := new(runtime.MemStats)
		if runtime.ReadMemStats(after); after.TotalAlloc-before.TotalAlloc > 1<<20 {
			t.Errorf("%s: %d bytes were allocated", name, after.TotalAlloc-before.TotalAlloc)
		}
	}
	var out finding.List
	if m := parseYAML("routes/r.yaml", []byte("a: [[[1]]]\nb:\n  - c:\n      - d: \"^[a-z]{2}$\"\n"), &out); m == nil {
		t.Errorf("%v", out)
	}
}

// TestWildcards: a pattern whose matching could take for ever is refused.
func TestWildcards(t *testing.T) {
	for pattern, says := range map[string]string{
		"*.csv": "", "{ansel,brunholm,calder}-*.{csv,txt}": "", "[": "is not a wildcard pattern",
		strings.Repeat("{a,b}", 9): "", strings.Repeat("{a,b}", 22): "has more than 1000 combinations", "{a,{b,c}}" + strings.Repeat("{a,b,c,d}", 5): "has more than 1000",
	} {
		if got := wildcard(pattern); !strings.HasPrefix(got, says) || (got == "") != (says == "") {
			t.Errorf("%s: %q, not %q", pattern, got, says)
		}
	}
}

// TestTheDocumentedKeys: the YAML that the page shows can be read, and has no key that is not
// known. Keys that exclude each other stand there together.
func TestTheDocumentedKeys(t *testing.T) {
	page, err := os.ReadFile("../docs/workspace.md")
	if err != nil {
		t.Fatal(err)
	}
	blocks := strings.Split(string(page), "```yaml\n")[1:]
	for n, block := range blocks {
		block, _, _ = strings.Cut(block, "```")
		file := map[bool]string{true: "routes/specimen-orders.yaml", false: "environments/demo.yaml"}[strings.Contains(block, "route:") && strings.Contains(block, "listen:")]
		for _, f := range FromFiles(map[string][]byte{file: []byte(block)}).Findings {
			if strings.Contains(f.Message, `no key "record"`) {
				continue // of the formats that are not csv
			}
			if f.Code == "workspace.yaml" || f.Code == "workspace.key-unknown" || f.Code == "workspace.type" {
				t.Errorf("block %d: %s", n+1, f)
			}
		}
	}
	if len(blocks) < 2 {
		t.Errorf("only %d blocks were found", len(blocks))
	}
}

// blocks are the YAML blocks of a page.
func blocks(t *testing.T, page string) []string {
	t.Helper()
	text, err := os.ReadFile(page)
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	for i, part := range strings.Split(string(text), "```") {
		if body, is := strings.CutPrefix(part, "yaml\n"); is && i%2 == 1 {
			out = append(out, body)
		}
	}
	return out
}

// TestPlacesPage: what the page about places shows is read as it says.
func TestPlacesPage(t *testing.T) {
	all := blocks(t, "../docs/places.md")
	if len(all) != 6 {
		t.Fatalf("%d blocks", len(all))
	}
	sent := "route: sent\nlisten: {folder: \"{store}/in\"}\nread: {format: csv}\ncheck: {schema: s}\nmap: maps/m.map\nrejected: {place: store/rejected}\n" + all[5]
	w := FromFiles(map[string][]byte{"routes/mailed-sheets.yaml": []byte(all[2]), "environments/tokens.yaml": []byte("environment: tokens\nplaces:\n" + all[3]), "routes/desk-orders.yaml": []byte(all[4]), "routes/sent.yaml": []byte(sent), "routes/a.yaml": []byte(strings.Replace(all[0], "deliver:", "check: {description: standard}\ndeliver:", 1)), "environments/e.yaml": []byte(all[1])})
	if len(w.Findings) > 0 {
		t.Fatal(w.Findings)
	}
	e, r := w.Environments["production"], w.Routes["reagent-answers"]
	for name, kind := range map[string]string{"store": "", "holm": "sftp", "tidewrack": "ftp", "brunholm": "webdav", "archive": "s3", "post": "imap", "desk": "http", "laboratory": "mllp", "office": "smtp", "bench": "mllp", "front": "http"} {
		p := e.Places[name]
		if p.Kind != kind || kind != "" && p.Connections != map[string]int{"laboratory": 1, "bench": 50}[name] && p.Connections != 2 {
			t.Errorf("%s: %+v", name, p)
		}
		at, err := e.Resolve("{"+name+"}/a/../b", "/base")
		place, below, is := Distant(at)
		if err != nil || is != (kind != "") || is && (place != name || below != "/b") || !is && at != "/srv/store/b" {
			t.Errorf("%s is at %s (%s %s), %v", name, at, place, below, err)
		}
	}
	post := e.Places["post"]
	if m := w.Routes["mailed-sheets"]; !m.Mails.Fits("Maren@stations.skerry.EXAMPLE", "Our sheet 1/2") || m.Mails.Fits("maren@skerry.example", "Our sheet") || m.Mails.Fits("maren@stations.skerry.example", "Lunch") || m.Mails.Take != "attachments" || post.Port() != "mail.skerry.example:993" {
		t.Errorf("%+v", m.Listen)
	}
	if s := w.Routes["sent"].Branches[0].To; len(s) != 2 || len(s[0].Says) != 4 || !s[0].Bare || len(s[1].Says) != 2 || s[1].Says[0].What != "header x-file" {
		t.Errorf("%+v", s)
	}
	if r.Listen.Folder != "{holm}/outgoing" || r.TakenTo != "done" || r.Branches[0].To[0].Folder != "{archive}/answers" || r.Rejected.Folder != "{holm}/rejected" {
		t.Errorf("%+v", r)
	}
}

// TestRarePlaces: settings that few servers need are read as they are said.
func TestRarePlaces(t *testing.T) {
	w := FromFiles(map[string][]byte{"environments/e.yaml": []byte("environment: e\nplaces:\n  a: { address: ftp://h/x, tls: none, data connections: active, data address: 192.0.2.7, data ports: 50000-50099 }\n  b: { address: ftp://h/x, tls: none, old algorithms: allowed }\n  c: { address: https://h/x, kind: http, next page: /a~1b/relation=next, next page parameter: after }\n  d: { address: imaps://h, user: a, token address: \"https://login/t?tenant=s\", client: c, client secret file: s, scope: [mail.read, mail.write] }\n")})
	if len(w.Findings) > 0 {
		t.Fatal(w.Findings)
	}
	a, b := w.Environments["e"].Places["a"], w.Environments["e"].Places["b"]
	if !a.Active || a.DataAddress.String() != "192.0.2.7" || a.DataPorts != [2]int{50000, 50099} || !b.Old || a.Old || b.Active || b.DataAddress != nil || b.DataPorts[0] != 0 {
		t.Errorf("%+v %+v", a, b)
	}
	if d := w.Environments["e"].Places["d"]; d.TokenAddress.String() != "https://login/t?tenant=s" || d.Client != "c" || d.ClientSecret.File == "" || !slices.Equal(d.Scope, []string{"mail.read", "mail.write"}) || !d.Tokened() || a.Tokened() {
		t.Errorf("%+v", d)
	}
	if c := w.Environments["e"].Places["c"]; !slices.Equal(c.NextPage, []string{"a/b", "relation=next"}) || c.NextBy != "after" {
		t.Errorf("%+v", c)
	}
}

// TestPlacesThatAreWrong: settings of servers that do not fit are said with their place.
func TestPlacesThatAreWrong(t *testing.T) {
	for settings, says := range map[string]string{
		"address: sftp://h/x, user: a, password: b":                                           "the password itself does not stand here",
		"address: \"sftp://a:b@h/x\", password from: P, host key: \"SHA256:x\"":               "a password does not stand in an address",
		"address: sftp://h/x, user: a, host key: \"SHA256:x\"":                                "how the server knows us is not said",
		"address: sftp://h/x, user: a, password from: P, host key: abc":                       "is not the fingerprint of a key",
		"address: sftp://h/x, user: a, password from: P":                                      "which key the server must show is not said",
		"address: sftp://h/x, password from: P, host key: \"SHA256:x\"":                       "user is missing",
		"address: ftp://h/x, user: a, password from: P":                                       "whether the connection is encrypted is not said",
		"address: ftp://h/x, tls: none, key file: k":                                          "a certificate that we show has its key in a file, too",
		"address: ftp://h/x, tls: explicit, data address: 192.0.2.7":                          "data address is for servers that connect to us",
		"address: ftp://h/x, tls: explicit, data connections: active, data ports: 70-60":      "are not ports: say them as in 50000-50099",
		"address: ftp://h/x, tls: explicit, data connections: active, data ports: 1-99999":    "are not ports",
		"address: ftp://h/x, tls: explicit, data connections: active, data address: here":     "is not an address: say it as in 192.0.2.7",
		"address: ftp://h/x, tls: explicit, data connections: both":                           "passive or active",
		"address: sftp://h/x, user: a, password from: P, data connections: active":            "data connections is a setting of places of the kind ftp",
		"address: sftp://h/x, user: a, password from: P, host key: \"SHA256:x\", largest: 1M": "largest is a setting of places of the kind http",
		"address: https://h/x, kind: http, next page: links":                                  "is not a JSON Pointer such as /links/next",
		"address: https://h/x, kind: http, next page parameter: after":                        "where the answer says what follows it is missing",
		"address: https://h/x, kind: webdav, user: a, password from: P, next page: /next":     "next page is a setting of places of the kind http",
		"kind: http, token from: T, next page: /next":                                         "next page is not a setting of places of the kind http that others send to",
		"address: https://h/x, user: a":                                                       "kind is http or s3 or webdav",
		"address: gopher://h/x, user: a":                                                      "places of gopher are not known; there are ftp, http, imap, mllp, s3, sftp, smtp, webdav",
		"address: https://h/, kind: s3, user: a, password from: P":                            "the address names the bucket, too",
		"kind: mllp, listen on: nowhere":                                                      "is not an address of this machine with a port",
		"kind: http":                                                                          "what lets others in is not said",
		"kind: http, token from: T, user: a":                                                  "user is not a setting of places of the kind http that others send to",
		"kind: mllp, listen on: \":1\", certificate: c":                                       "a certificate has its key in a file, too",
		"address: mllp://h":                                                                                            "has a port",
		"address: imap://h, user: a, password from: P":                                                                 "whether the connection is encrypted is not said",
		"address: imaps://h, password from: P":                                                                         "user is missing",
		"address: imaps://h, tls: none, user: a, password from: P":                                                     "means that tls is implicit",
		"address: smtp://h, tls: none":                                                                                 "from is missing",
		"address: mllp://h:1, old algorithms: welcome":                                                                 "refused or allowed",
		"address: https://h, kind: http, token header: X-Api-Key":                                                      "the token that the header shows is not said",
		"kind: http, token from: T, token header: Authorization":                                                       "cannot be the header of a token",
		"address: imaps://h, user: a, token from: T, token header: X-Api-Key":                                          "token header is a setting of places of the kind http",
		"address: imaps://h, user: a, password from: P, token from: T":                                                 "either a token or a password lets us in",
		"address: imaps://h, user: a, client: c":                                                                       "client is for getting a token: say where (token address)",
		"address: imaps://h, user: a, token address: login.example, client: c, client secret from: S":                  "is not an address such as https://login.skerry.example/oauth2/token",
		"address: imaps://h, user: a, token address: \"http://h/t\", client: c, client secret from: S":                 "a token is got over https",
		"address: imaps://h, user: a, token address: \"https://h/t\", client secret from: S":                           "client is missing",
		"address: imaps://h, user: a, token address: \"https://h/t\", client: c":                                       "the secret by which a token is got is not said",
		"address: imaps://h, user: a, token address: \"https://h/t\", client: c, client secret: s":                     "the client secret itself does not stand here",
		"address: imaps://h, user: a, token from: T, token address: \"https://h/t\", client: c, client secret from: S": "either a token is got (token address), or there is one",
		"address: smtp://h, tls: explicit, from: a@h, token from: T":                                                   "user is missing",
		"address: ftp://h, tls: explicit, token from: T":                                                               "token from is a setting of places of the kind http, imap, smtp",
		"address: sftp://h/x, user: a, password from: P, host key: \"SHA256:x\", listen on: \":1\"":                    "listen on is a setting of places that others send to",
		"address: h, user: a": "is not an address such as",
		"kind: sftp, address: https://h/x, user: a, password from: P":                      "begins with sftp://, not https://",
		"address: https://h/x, kind: webdav, user: a, password from: P, password file: /p": "either the variable with the password",
		"address: https://h/x, kind: webdav, user: a, password from: P, connections: 1000": "connections is from 1 to 100",
		"address: https://h/x, kind: webdav, user: a, password from: P, patience: 1ms":     "is a second or more",
		"address: https://h/x, kind: webdav, user: a, password from: P, passwort from: P":  "has no key \"passwort from\"",
	} {
		w := FromFiles(map[string][]byte{"environments/e.yaml": []byte("environment: e\nplaces:\n  holm: { " + settings + " }\n")})
		said := ""
		for _, f := range w.Findings {
			said += f.String() + "\n"
		}
		if !strings.Contains(said, says) {
			t.Errorf("%s: want %q, got %s", settings, says, said)
		}
	}
}

// TestWhereabouts: a folder on a server is the same by whatever place it is named.
func TestWhereabouts(t *testing.T) {
	w := FromFiles(map[string][]byte{"environments/e.yaml": []byte(`environment: e
places:
  here: /srv
  one: { address: sftp://h/base, user: a, password from: P, host key: "SHA256:x" }
  two: { address: "sftp://h:22/base/out", user: b, password from: P, host key: "SHA256:x" }
`)})
	e := w.Environments["e"]
	if e == nil {
		t.Fatal(w.Findings)
	}
	for folder, want := range map[string]string{"{here}/x": "/srv/x", "{one}/out/x": "sftp://h:22/base/out/x", "{two}/x/": "sftp://h:22/base/out/x", "{two}": "sftp://h:22/base/out"} {
		if got, err := e.Whereabouts(folder, "/"); got != want || err != nil {
			t.Errorf("%s is %s (%v), not %s", folder, got, err, want)
		}
	}
}
