package e2e

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/johannesboyne/gofakes3"

	"ydrion/api"
	"ydrion/standin"
	"ydrion/testbed"
	"ydrion/workspace"
)

// written is a place as it stands in an environment.
func written(name string, p workspace.Place) string {
	out := fmt.Sprintf("  %s:\n    kind: %s\n    address: %s\n", name, p.Kind, p.Address)
	for key, v := range map[string]string{"user": p.User, "password file": p.Password.File, "authorities": p.Authorities, "tls": p.TLS, "from": p.From, "to": strings.Join(p.To, "")} {
		if v != "" {
			out += fmt.Sprintf("    %s: %q\n", key, v)
		}
	}
	return out
}

// TestKilledOverEveryKind kills a real service again and again while messages come from servers of four kinds, and each goes to four others.
// Everything is taken once, and arrives: once where it can be told, else under the same key.
func TestKilledOverEveryKind(t *testing.T) {
	t.Parallel()
	kills := 2
	if soak {
		kills = 40
	}
	web, lab, post := takers(t)
	mails, letterbox := mailboxes(t, true)
	sources := map[string]*partner{"ftp": partnerOf(t, "ftp"), "webdav": partnerOf(t, "webdav"), "s3": partnerOf(t, "s3"), "imap": letterbox}
	vault := partnerOf(t, "s3")
	data, database := t.TempDir(), testbed.Database(t)
	to := func(kind, address, more string) string {
		return fmt.Sprintf("  %s:\n    kind: %s\n    address: %s://%s\n%s", kind, kind, kind, address, more)
	}
	settings := "environment: demo\nplaces:\n  stations: stations\n  laboratory: laboratory\n  suppliers: suppliers\n  letterbox: letterbox\n  analyser: analyser\n  vault: vault\n" +
		to("http", web.Address(), "    sent twice: harmless\n") + to("mllp", lab.Address(), "") + to("smtp", post.Address(), "    tls: none\n    from: ydrion@skerry.example\n    to: office@skerry.example\n    sent twice: harmless\n") + written("kept", vault.place)
	routes := map[string]string{}
	for kind, p := range sources {
		settings += written("from-"+kind, p.place)
		listen := "place: from-" + kind + "/in, quiet: 300ms"
		if kind == "imap" {
			listen = "place: from-imap/INBOX, taken to: /Taken"
		} else if p.objects == nil {
			if err := os.MkdirAll(filepath.Join(p.folder, "in"), 0o755); err != nil {
				t.Fatal(err)
			}
		}
		routes["routes/from-"+kind+".yaml"] = fmt.Sprintf("route: from-%s\nlisten: {%s, names: \"*.hl7\", rhythm: 200ms}\nread: {format: file}\ndeliver:\n  name: \"{file.name}\"\n  to:\n    - place: http/%s\n    - place: mllp\n    - place: smtp\n    - place: kept/%s\nrejected: {folder: \"{stations}/rejected\"}\n", kind, listen, kind, kind)
	}
	environment := filepath.Join(data, "environment.yaml")
	if err := os.WriteFile(environment, []byte(settings), 0o644); err != nil {
		t.Fatal(err)
	}
	program := program(t)
	service := serveAs(t, 0, program, data, database, "--environment", environment)
	client := clientOf(t, data)
	files := map[string][]byte{}
	for name, r := range routes {
		files[name] = []byte(r)
	}
	answer, err := client.Publish(context.Background(), api.PublishRequest{Files: files})
	if err != nil || !answer.Published {
		t.Fatalf("%+v %v", answer, err)
	}
	for kind := range sources {
		if _, err := client.SetRunning(context.Background(), "from-"+kind, true); err != nil {
			t.Fatal(err)
		}
	}
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	dice := rand.New(rand.NewPCG(seed, 5))
	want := map[string]string{} // control ids, by name
	for round := range kills + 1 {
		for i := range 5 {
			for kind, p := range sources {
				id := fmt.Sprintf("%s-%d-%d", strings.ToUpper(kind), round, i)
				name := id + ".hl7"
				want[name] = id
				if kind == "imap" {
					p.mail(t, mails, posted("maren@ansel.example", id, name, oru(id, "T-1")))
				} else {
					p.drop(t, "in/"+name, oru(id, "T-1"))
				}
			}
		}
		if round == kills {
			break
		}
		time.Sleep(time.Duration(dice.IntN(2500)) * time.Millisecond)
		if err := service.Process.Kill(); err != nil {
			t.Fatal(err)
		}
		service.Wait() //nolint: it was killed
		service = serveAs(t, 0, program, data, database, "--environment", environment)
		client = clientOf(t, data)
	}
	taken := map[string]int{}
	testbed.Until(t, "everything has ended", func() bool {
		clear(taken)
		for kind := range sources {
			page, err := client.Pickups(context.Background(), url.Values{"limit": {"500"}, "route": {"from-" + kind}})
			if err != nil {
				return false
			}
			for _, p := range page.Items {
				switch p.State {
				case "delivered":
					taken[p.Name]++
				case "withdrawn":
				case "uncertain":
					t.Fatalf("%+v", p)
				default:
					return false
				}
			}
		}
		return len(taken) >= len(want)
	})
	// Arrived, under one key.
	keys := map[string]map[string]bool{}
	for kind, came := range map[string][]standin.Message{"http": web.Taken(), "mllp": lab.Taken(), "smtp": post.Taken()} {
		for _, m := range came {
			id := ""
			for _, i := range want {
				if strings.Contains(string(m.Content), "|"+i+"|") || strings.Contains(string(m.Content), "\""+i+".hl7\"") || strings.Contains(string(m.Content), "Subject: "+i+".hl7") {
					id = i
				}
			}
			if keys[kind+" "+id] == nil {
				keys[kind+" "+id] = map[string]bool{}
			}
			keys[kind+" "+id][m.Key] = true
		}
	}
	for name, id := range want {
		if taken[name] != 1 {
			t.Errorf("%s was taken %d times", name, taken[name])
		}
		for _, kind := range []string{"http", "mllp", "smtp"} {
			if n := len(keys[kind+" "+id]); n != 1 {
				t.Errorf("%s came to %s under %d keys", id, kind, n)
			}
		}
		if got := vault.read(t, strings.ToLower(strings.SplitN(id, "-", 2)[0])+"/"+name); got != oru(id, "T-1") {
			t.Errorf("%s is kept as %q", name, got)
		}
	}
	kept, err := vault.objects.ListBucket("seals", &gofakes3.Prefix{}, gofakes3.ListBucketPage{})
	if err != nil || len(kept.Contents) != len(want) {
		var keys []string
		for _, o := range kept.Contents {
			keys = append(keys, o.Key)
		}
		t.Errorf("%d objects are kept, not %d: %q %v", len(keys), len(want), keys, err)
	}
	testbed.Until(t, "nothing is left where it came from", func() bool {
		left := slices.Concat(strings.Fields(sources["ftp"].list("in")), strings.Fields(sources["webdav"].list("in")), strings.Fields(sources["s3"].list("in")), sources["ftp"].hidden(t), sources["webdav"].hidden(t))
		waiting, _, err := mails.Holds("INBOX")
		return err == nil && waiting == 0 && len(left) == 0
	})
	t.Logf("%d kills, %d messages, %d posts, %d frames, %d mails", kills, len(want), len(web.Taken()), len(lab.Taken()), len(post.Taken()))
}
