package tell

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"ydrion/standin"
	"ydrion/workspace"
)

func TestWants(t *testing.T) {
	for _, test := range []struct {
		channel     workspace.Channel
		kind, route string
		want        bool
	}{
		{workspace.Channel{}, "held", "orders", true},
		{workspace.Channel{Kinds: []string{"held", "missing"}}, "missing", "orders", true},
		{workspace.Channel{Kinds: []string{"held"}}, "missing", "orders", false},
		{workspace.Channel{Routes: []string{"spec-*"}}, "held", "spec-orders", true},
		{workspace.Channel{Routes: []string{"spec-*"}}, "held", "weights", false},
		{workspace.Channel{Routes: []string{"spec-*"}}, "disk low", "", true}, // it is about none
	} {
		if got := Wants(&test.channel, test.kind, test.route); got != test.want {
			t.Errorf("%+v, %s of %q: %v", test.channel, test.kind, test.route, got)
		}
	}
}

// TestWhatGoesWrong: a channel that does not take a note says so; nothing is
// taken for sent.
func TestWhatGoesWrong(t *testing.T) {
	refusing := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusTeapot) }))
	defer refusing.Close()
	var followed atomic.Bool
	elsewhere := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { followed.Store(true) }))
	defer elsewhere.Close()
	redirecting := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, elsewhere.URL, http.StatusTemporaryRedirect)
	}))
	defer redirecting.Close()
	defer func() {
		if followed.Load() {
			t.Error("a redirect was followed, with the note and its signature")
		}
	}()
	for says, c := range map[string]workspace.Channel{
		"418":                       {Webhook: refusing.URL},
		"redirects to":              {Webhook: redirecting.URL},
		"refused":                   {Webhook: "http://127.0.0.1:1/"},
		"with the key of channel x": {Name: "x", Webhook: refusing.URL, Secret: "NO_SUCH_VARIABLE_IS_SET"},
		"the mail server":           {Server: "mail.example", From: "a@b.example", To: []string{"c@d.example"}},
		"connect":                   {Server: "127.0.0.1:1", From: "a@b.example", To: []string{"c@d.example"}},
		"address":                   {Server: "127.0.0.1:1", From: "nobody", To: []string{"c@d.example"}},
	} {
		if err := Send(context.Background(), &c, Note{}); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%+v: %v, want %q", c, err, says)
		}
	}
}

// TestOneRecipientIsRefused: a mail server that does not know one address takes the
// note for the others, and who was not told is said.
func TestOneRecipientIsRefused(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	taken := make(chan string, 10)
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go serveMail(conn, taken)
		}
	}()
	c := workspace.Channel{Name: "x", Server: l.Addr().String(), From: "a@b.example", To: []string{"one@d.example", "unknown@d.example", "two@d.example"}}
	err = Send(context.Background(), &c, Note{Kind: "held", Message: "hm"})
	var partly *Partly
	if !errors.As(err, &partly) || !strings.Contains(partly.Refused, "unknown@d.example") || strings.Contains(partly.Refused, "one@") {
		t.Errorf("%v", err)
	}
	close(taken)
	var got []string
	for to := range taken {
		got = append(got, to)
	}
	if len(got) != 2 || !strings.Contains(got[0]+got[1], "one@d.example") || !strings.Contains(got[0]+got[1], "two@d.example") {
		t.Errorf("taken for %v", got)
	}
	c.To = []string{"unknown@d.example"}
	if err := Send(context.Background(), &c, Note{}); err == nil || errors.As(err, &partly) {
		t.Errorf("nobody was told: %v", err)
	}
}

// TestThroughAPlace: alerts are mailed through a place whose server lets in who it knows, and nobody else.
func TestThroughAPlace(t *testing.T) {
	certificate, pem, err := standin.NewCertificate()
	if err != nil {
		t.Fatal(err)
	}
	s, err := standin.NewSMTP("127.0.0.1:0", certificate, standin.Login{User: "maren", Password: "salt"})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	folder := t.TempDir()
	for name, content := range map[string]string{"pem": string(pem), "good": "salt\n", "wrong": "brine\n"} {
		if err := os.WriteFile(filepath.Join(folder, name), []byte(content), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	for word, good := range map[string]bool{"good": true, "wrong": false, "missing": false} {
		place := workspace.Place{Name: "office", Kind: "smtp", Address: &url.URL{Scheme: "smtp", Host: s.Address()}, TLS: "explicit", User: "maren", Password: workspace.Secret{File: filepath.Join(folder, word)}, Authorities: filepath.Join(folder, "pem"), Patience: 20 * time.Second}
		c := workspace.Channel{Name: "x", Through: &place, From: "ydrion@skerry.example", To: []string{"maren@skerry.example"}}
		if err := Send(t.Context(), &c, Note{Kind: "held", Message: "hm", Environment: "sea"}); good != (err == nil) || err != nil && strings.Contains(err.Error(), "brine") {
			t.Errorf("with a %s password: %v", word, err)
		}
	}
	all := s.Taken()
	if len(all) != 1 || all[0].From != "ydrion@skerry.example" || fmt.Sprint(all[0].To) != "[maren@skerry.example]" || !strings.Contains(string(all[0].Content), "hm") {
		t.Errorf("%+v", all)
	}
}

// serveMail is enough of SMTP (RFC 5321) to refuse an address and take the rest.
func serveMail(conn net.Conn, taken chan<- string) {
	defer conn.Close()
	in := bufio.NewReader(conn)
	to := ""
	for fmt.Fprint(conn, "220 stand-in\r\n"); ; {
		line, err := in.ReadString('\n')
		if err != nil {
			return
		}
		switch verb := strings.ToUpper(line); {
		case strings.HasPrefix(verb, "RCPT") && strings.Contains(line, "unknown"):
			fmt.Fprint(conn, "550 no such mailbox\r\n")
		case strings.HasPrefix(verb, "RCPT"):
			to = line
			fmt.Fprint(conn, "250 good\r\n")
		case strings.HasPrefix(verb, "DATA"):
			fmt.Fprint(conn, "354 go on\r\n")
			for line != ".\r\n" {
				if line, err = in.ReadString('\n'); err != nil {
					return
				}
			}
			taken <- to
			fmt.Fprint(conn, "250 taken\r\n")
		case strings.HasPrefix(verb, "QUIT"):
			fmt.Fprint(conn, "221 bye\r\n")
			return
		default:
			fmt.Fprint(conn, "250 good\r\n")
		}
	}
}

// TestRhythm: the first mail goes out at once, and the rests grow while there is more to tell. When it was quiet all begins
// anew.
func TestRhythm(t *testing.T) {
	r := Rhythm{Shortest: time.Minute, Longest: 5 * time.Minute}
	now := time.Date(2026, 11, 25, 8, 0, 0, 0, time.UTC)
	for i, rest := range []time.Duration{1, 2, 4, 5, 5} {
		if wait := r.Wait(now); wait != 0 {
			t.Errorf("mail %d waits %s more", i, wait)
		}
		r.Sent(now)
		if wait := r.Wait(now.Add(20 * time.Second)); wait != rest*time.Minute-20*time.Second {
			t.Errorf("behind mail %d the next one waits %s, want %d minutes", i, wait, rest)
		}
		now = now.Add(rest * time.Minute)
	}
	now = now.Add(6 * time.Minute)
	if r.Sent(now); r.Wait(now) != time.Minute {
		t.Errorf("after a quiet time the next one waits %s", r.Wait(now))
	}
}

// TestWritten: one alert is its message; several are told by kind and route, with their numbers, and not all in words.
func TestWritten(t *testing.T) {
	at := time.Date(2026, 11, 25, 8, 0, 0, 0, time.Local)
	note := func(id int64, kind, route, message string) Note {
		return Note{ID: id, At: at.Add(time.Duration(id) * time.Second), Kind: kind, Route: route, Message: message, Environment: "production"}
	}
	if subject, body := written([]Note{note(7, "held", "orders", "a.csv is held")}); subject != "held: orders" || !strings.HasPrefix(body, "a.csv is held\n\nheld, 2026-11-25 08:00:07 ") || !strings.HasSuffix(body, "environment production, alert 7\n") {
		t.Errorf("%q\n%s", subject, body)
	}
	subject, body := written([]Note{note(1, "rejected", "orders", "a.csv"), note(2, "disk low", "", "full"), note(3, "rejected", "orders", "b.csv\nline 2")})
	_, body, _ = strings.Cut(body, "\n")
	if want := "\nrejected, orders: 2\n  08:00:01 alert 1: a.csv\n  08:00:03 alert 3: b.csv\n    line 2\n\ndisk low, production: 1\n  08:00:02 alert 2: full\n\n`ydrion alerts --all` and the console show each of them.\n"; subject != "3 alerts: production" || body != want {
		t.Errorf("%q\n%s", subject, body)
	}
	var many []Note
	for i := range int64(50) {
		many = append(many, note(i+1, "rejected", "orders", "x"))
	}
	if subject, body = written(many); subject != "rejected: orders (50 alerts)" || strings.Count(body, ": x\n") != mostTold || !strings.Contains(body, "  and 30 more, to alert 50\n") {
		t.Errorf("%q\n%s", subject, body)
	}
}
