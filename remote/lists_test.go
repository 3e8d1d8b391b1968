package remote

import (
	"bufio"
	"fmt"
	"net"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"ydrion/workspace"
)

// oldServer is an FTP server that only knows lists for people, and gives this one of each folder.
func oldServer(t *testing.T, list string) workspace.Place {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	serve := func(c net.Conn) {
		defer c.Close()
		say := func(line string) { fmt.Fprintf(c, "%s\r\n", line) }
		var data net.Listener
		say("220 ready")
		for in := bufio.NewScanner(c); in.Scan(); {
			switch command, _, _ := strings.Cut(in.Text(), " "); command {
			case "USER":
				say("331 and the password")
			case "PASS":
				say("230 come in")
			case "PASV":
				if data, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
					say("425 no")
					continue
				}
				port := data.Addr().(*net.TCPAddr).Port
				say(fmt.Sprintf("227 here (127,0,0,1,%d,%d)", port/256, port%256))
			case "LIST":
				say("150 it comes")
				if to, err := data.Accept(); err == nil {
					fmt.Fprint(to, list)
					to.Close()
				}
				data.Close()
				say("226 that was it")
			case "TYPE", "CWD", "NOOP":
				say("200 well")
			default:
				say("502 not here")
			}
		}
	}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go serve(c)
		}
	}()
	return workspace.Place{Name: "old", Kind: "ftp", Address: &url.URL{Scheme: "ftp", Host: l.Addr().String(), Path: "/"}, TLS: "none", Connections: 1, Patience: time.Minute, Zone: time.UTC}
}

// TestListsOfOldServers: what a list says that cannot be understood is said, not passed over.
func TestListsOfOldServers(t *testing.T) {
	place := oldServer(t, strings.ReplaceAll(`total 12
drwxr-xr-x   2 seal     seal         4096 Nov 29 10:00 .
drwxr-xr-x   2 seal     seal         4096 Nov 29 10:00 ..
-rw-r--r--   1 seal     seal            3 Nov 29 10:00 a b.csv
-rw-r--r--   1 seal     seal            3 29 Nov 10:00 c.csv
-rw-r--r--   1 seal     seal            3 Mär 29 10:00 d e.csv
lrwxrwxrwx   1 seal     seal            7 Nov 29 10:00 latest.csv -> a b.csv
drwxr-xr-x   2 seal     seal         4096 Nov 29 10:00 done
11-29-26  03:04PM                   10 f.csv

G.CSV;1        3/3       29-NOV-2026 10:00:12
-rw-r--r--   1 seal     seal            3 Nov 29  2025 last.csv
`, "\n", "\r\n"))
	p := New(&workspace.Environment{Places: map[string]workspace.Place{"old": place}})
	defer p.Close()
	var got []string
	err := p.With(t.Context(), "old", func(tree Tree) error {
		all, err := tree.List("/out")
		for _, i := range all {
			got = append(got, fmt.Sprint(i.Name, "|", i.Size, "|", i.Folder, "|", i.Other, "|", i.Odd != ""))
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	want := []string{
		"a b.csv|3|false|false|false", "latest.csv|0|false|true|false", "done|0|true|false|false", "f.csv|10|false|false|false", "last.csv|3|false|false|false",
		"-rw-r--r--   1 seal     seal            3 29 Nov 10:00 c.csv|0|false|false|true", "-rw-r--r--   1 seal     seal            3 Mär 29 10:00 d e.csv|0|false|false|true", "G.CSV;1        3/3       29-NOV-2026 10:00:12|0|false|false|true",
	}
	if !slices.Equal(got, want) {
		t.Errorf("%s\nnot\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	if steps := Try(t.Context(), p, "old", "/out", "probe"); len(steps) < 2 || !strings.Contains(steps[1].Says, "4 files and 1 folders; and what nothing can be done with, such as \"G.CSV;1") {
		t.Errorf("%+v", steps)
	}
}
