package tell

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"

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
