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

// oldServer is an FTP server that only knows lists for people, and gives this one of each folder. It waits for data connections or, if it is told how, makes them
// by what it is asked with PORT.
func oldServer(t *testing.T, list string, connects func(port string) (net.Conn, error)) workspace.Place {
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
		var where string
		say("220-this is\r\n220-an old one\r\n220 ready")
		for in := bufio.NewScanner(c); in.Scan(); {
			switch command, with, _ := strings.Cut(in.Text(), " "); command {
			case "USER":
				say("331 and the password")
			case "PASS":
				say("230 come in")
			case "PORT":
				if where = with; connects == nil {
					say("500 illegal PORT command")
					continue
				}
				say("200 well")
			case "PASV":
				if connects != nil {
					say("502 not here")
					continue
				}
				if data, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
					say("425 no")
					continue
				}
				port := data.Addr().(*net.TCPAddr).Port
				say(fmt.Sprintf("227 here (127,0,0,1,%d,%d)", port/256, port%256))
			case "LIST":
				say("150 it comes")
				var to net.Conn
				if connects != nil {
					to, err = connects(where)
				} else {
					to, err = data.Accept()
					data.Close()
				}
				if err == nil {
					fmt.Fprint(to, list)
					to.Close()
				}
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

// TestActive: a server that is to connect for data is told where, does, and nobody else is listened to. One that does not is said.
func TestActive(t *testing.T) {
	const list = "-rw-r--r--   1 seal     seal            3 Nov 29 10:00 a.csv\r\n"
	look := func(place workspace.Place) ([]Info, error) {
		p := New(&workspace.Environment{Places: map[string]workspace.Place{"old": place}})
		defer p.Close()
		var all []Info
		err := p.With(t.Context(), "old", func(tree Tree) (err error) { all, err = tree.List("/out"); return err })
		return all, err
	}
	asked := make(chan string, 9)
	dial := func(from string) func(string) (net.Conn, error) {
		return func(to string) (net.Conn, error) {
			n := make([]int, 6)
			if _, err := fmt.Sscanf(to, "%d,%d,%d,%d,%d,%d", &n[0], &n[1], &n[2], &n[3], &n[4], &n[5]); err != nil {
				return nil, err
			}
			asked <- to
			return (&net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(from)}}).Dial("tcp", fmt.Sprintf("127.0.0.1:%d", n[4]*256+n[5]))
		}
	}
	free, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	port := free.Addr().(*net.TCPAddr).Port
	free.Close() //nolint: it was to find a number
	place := oldServer(t, list, dial("127.0.0.1"))
	place.Active, place.DataPorts, place.DataAddress = true, [2]int{port, port}, net.ParseIP("192.0.2.7")
	all, err := look(place)
	if want := fmt.Sprintf("192,0,2,7,%d,%d", port/256, port%256); err != nil || len(all) != 1 || all[0].Name != "a.csv" || <-asked != want {
		t.Errorf("%+v %v, not %s", all, err, want)
	}
	busy, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
	if err == nil {
		defer busy.Close()
		if _, err := look(place); err == nil || !strings.Contains(err.Error(), fmt.Sprintf("none of the ports %d to %d is free here", port, port)) {
			t.Errorf("no port is free: %v", err)
		}
	}
	stranger := oldServer(t, list, dial("127.0.0.2"))
	stranger.Active, stranger.Patience = true, 300*time.Millisecond
	if all, err := look(stranger); len(all) > 0 || !IsAway(err) {
		t.Errorf("from somewhere else: %+v %v", all, err)
	}
	away := oldServer(t, list, func(string) (net.Conn, error) { return nil, net.ErrClosed })
	away.Active, away.Patience = true, 300*time.Millisecond
	if all, err := look(away); len(all) > 0 || !IsAway(err) {
		t.Errorf("it does not connect: %+v %v", all, err)
	} else {
		t.Log(err)
	}
	refuses := oldServer(t, list, nil)
	refuses.Active = true
	if all, err := look(refuses); len(all) > 0 || err == nil || !strings.Contains(err.Error(), "illegal PORT command") {
		t.Errorf("it refuses: %+v %v", all, err)
	}
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
`, "\n", "\r\n"), nil)
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
	if steps := Try(t.Context(), p, "old", "/out", "probe"); len(steps) < 2 || !strings.Contains(steps[1].Says, "4 files and 1 folders, and 3 that cannot be taken, such as \"G.CSV;1") {
		t.Errorf("%+v", steps)
	}
}
