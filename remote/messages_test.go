package remote

import (
	"bytes"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"net"
	"net/mail"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ydrion/standin"
	"ydrion/workspace"
)

// taker is a stand-in that takes messages, as a place.
type taker struct {
	*standin.Manners
	place  workspace.Place
	taken  func() []standin.Message
	answer func(func(n int, m *standin.Message) string)
	// What is answered: for now not, never.
	later, never string
}

func takers(t *testing.T) map[string]taker {
	t.Helper()
	certificate, pem, err := standin.NewCertificate()
	if err != nil {
		t.Fatal(err)
	}
	folder := t.TempDir()
	for name, content := range map[string][]byte{"pem": pem, "word": []byte("salt\n")} {
		if err := os.WriteFile(filepath.Join(folder, name), content, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	place := workspace.Place{Name: "desk", Authorities: filepath.Join(folder, "pem"), Connections: 1, Patience: time.Minute}
	h, err := standin.NewHTTP("127.0.0.1:0", certificate, "salt")
	if err != nil {
		t.Fatal(err)
	}
	m, err := standin.NewMLLP("127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	s, err := standin.NewSMTP("127.0.0.1:0", certificate, standin.Login{User: "maren", Password: "salt"})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(h.Close)
	t.Cleanup(m.Close)
	t.Cleanup(s.Close)
	word := workspace.Secret{File: filepath.Join(folder, "word")}
	web, lab, post := place, place, place
	web.Kind, web.Address, web.Token, web.Method = "http", &url.URL{Scheme: "https", Host: h.Address(), Path: "/api"}, word, "POST"
	lab.Kind, lab.Address, lab.Repeats = "mllp", &url.URL{Scheme: "mllp", Host: m.Address()}, true
	post.Kind, post.Address, post.TLS, post.User, post.Password, post.From, post.To = "smtp", &url.URL{Scheme: "smtp", Host: s.Address()}, "explicit", "maren", word, "ydrion@skerry.example", []string{"lab@skerry.example", "office@skerry.example"}
	return map[string]taker{
		"http": {h.Manners, web, h.Taken, h.Answer, "503 later", "422 it has no weight"},
		"mllp": {m.Manners, lab, m.Taken, m.Answer, "AE later", "AR it has no weight"},
		"smtp": {s.Manners, post, s.Taken, s.Answer, "451 later", "554 it has no weight"},
	}
}

const order = "MSH|^~\\&|SKERRY|ANSEL|LAB|HOLM|20261129||ORM^O01|A-17|P|2.5\rPID|1||T-0816\r"

func sending(name string) Sending {
	return Sending{Folder: "/orders", Name: name, Mark: "mark-7-1", Size: int64(len(order)), Content: func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(order)), nil }}
}

// TestMessages: what is sent arrives as it is, with what tells it from others, and each answer is taken for what it is.
func TestMessages(t *testing.T) {
	for kind, of := range takers(t) {
		t.Run(kind, func(t *testing.T) {
			p := New(&workspace.Environment{Places: map[string]workspace.Place{"desk": of.place}})
			defer p.Close()
			send := func() (receipt string, err error) {
				err = p.Exchange(t.Context(), "desk", func(x Exchange) error { receipt, err = x.Send(sending("order 17.hl7")); return err })
				return receipt, err
			}
			for range 2 { // on one connection
				if receipt, err := send(); err != nil || receipt == "" {
					t.Fatalf("%q %v", receipt, err)
				}
			}
			taken := of.taken()
			if len(taken) != 2 {
				t.Fatalf("%d messages came", len(taken))
			}
			content, key := string(taken[0].Content), taken[0].Key
			switch kind {
			case "http":
				if taken[0].Path != "POST /api/orders" || key != "mark-7-1" {
					t.Errorf("%+v", taken[0])
				}
			case "mllp":
				if key != "A-17" {
					t.Errorf("%+v", taken[0])
				}
			case "smtp":
				if key != "ydrion-mark-7-1@skerry.example" || fmt.Sprint(taken[0].To) != "[lab@skerry.example office@skerry.example]" || taken[0].From != "ydrion@skerry.example" {
					t.Errorf("%+v", taken[0])
				}
				content = attached(t, taken[0].Content, "order 17.hl7")
			}
			if content != order {
				t.Errorf("it came as %q", content)
			}
			// For now not, and never.
			var no *Refused
			of.answer(func(int, *standin.Message) string { return of.later })
			if _, err := send(); !IsAway(err) && (!errors.As(err, &no) || no.Final) {
				t.Errorf("later: %v", err)
			}
			of.answer(func(int, *standin.Message) string { return of.never })
			if _, err := send(); !errors.As(err, &no) || !no.Final || !strings.Contains(err.Error(), "it has no weight") {
				t.Errorf("never: %v", err)
			}
			of.answer(nil)
			if _, err := send(); err != nil {
				t.Errorf("after that: %v", err)
			}
			// The answer is lost, or there is none in time.
			of.Misbehave(standin.Fault{On: standin.Write, Do: standin.CutAfter, From: 1, Times: 1})
			var a *Away
			if _, err := send(); !errors.As(err, &a) || !a.Sent {
				t.Errorf("cut: %v", err)
			}
			hasty := of.place
			hasty.Patience = 200 * time.Millisecond
			q := New(&workspace.Environment{Places: map[string]workspace.Place{"desk": hasty}})
			defer q.Close()
			of.Misbehave(standin.Fault{On: standin.Write, Do: standin.Late, From: 1, Times: 0, For: time.Hour})
			for { // a machine at work may need longer than that to reach it at all
				err := q.Exchange(t.Context(), "desk", func(x Exchange) error { _, err := x.Send(sending("order 17.hl7")); return err })
				if !errors.As(err, &a) {
					t.Errorf("late: %v", err)
				} else if !a.Sent {
					continue
				}
				break
			}
			of.Misbehave()
			if _, err := send(); err != nil {
				t.Errorf("at last: %v", err)
			}
		})
	}
}

// TestManyMails: a server takes only so many mails on a connection, and may end one as soon as it has taken a mail. None is sent twice by that.
func TestManyMails(t *testing.T) {
	of := takers(t)["smtp"]
	p := New(&workspace.Environment{Places: map[string]workspace.Place{"desk": of.place}})
	defer p.Close()
	send := func(n int) {
		t.Helper()
		one := sending("order.hl7")
		one.Mark = fmt.Sprint("mark-", n)
		err := p.Exchange(t.Context(), "desk", func(x Exchange) error { _, err := x.Send(one); return err })
		if err != nil {
			t.Fatalf("%d: %v", n, err)
		}
	}
	for n := range 70 {
		send(n)
	}
	for n := range 5 {
		of.Misbehave(standin.Fault{On: standin.Look, Do: standin.Cut, From: 1, Times: 1})
		send(70 + n)
	}
	keys := map[string]int{}
	for _, m := range of.taken() {
		keys[m.Key]++
	}
	for n := range 75 {
		if keys[fmt.Sprintf("ydrion-mark-%d@skerry.example", n)] != 1 {
			t.Errorf("%d came %d times", n, keys[fmt.Sprintf("ydrion-mark-%d@skerry.example", n)])
		}
	}
}

// attached is the content of a mail's attachment.
func attached(t *testing.T, text []byte, name string) string {
	t.Helper()
	m, err := mail.ReadMessage(bytes.NewReader(text))
	if err != nil {
		t.Fatal(err)
	}
	_, with, err := mime.ParseMediaType(m.Header.Get("Content-Type"))
	if err != nil {
		t.Fatal(err)
	}
	for parts := multipart.NewReader(m.Body, with["boundary"]); ; {
		part, err := parts.NextPart()
		if err != nil {
			t.Fatalf("there is no attachment %s: %v", name, err)
		}
		if part.FileName() != name {
			continue
		}
		b, err := io.ReadAll(base64.NewDecoder(base64.StdEncoding, part))
		if err != nil {
			t.Fatal(err)
		}
		return string(b)
	}
}

// TestNoMessage: what is no single message is not sent in a frame.
func TestNoMessage(t *testing.T) {
	of := takers(t)["mllp"]
	p := New(&workspace.Environment{Places: map[string]workspace.Place{"desk": of.place}})
	defer p.Close()
	for content, says := range map[string]string{"a,b\n1,2\n": "which begins with MSH", order + order: "one file per: record", strings.Replace(order, "T-", "T\x1C", 1): "ends a frame"} {
		err := p.Exchange(t.Context(), "desk", func(x Exchange) error {
			_, err := x.Send(Sending{Content: func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(content)), nil }})
			return err
		})
		var no *Refused
		if !errors.As(err, &no) || !no.Final || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v", content, err)
		}
	}
	if n := len(of.taken()); n > 0 {
		t.Errorf("%d were sent", n)
	}
}

// TestLineEnds: a message whose segments end with LF or CRLF is sent with CR, and its acknowledgement is known for its own.
func TestLineEnds(t *testing.T) {
	of := takers(t)["mllp"]
	p := New(&workspace.Environment{Places: map[string]workspace.Place{"desk": of.place}})
	defer p.Close()
	for _, end := range []string{"\n", "\r\n", "\r"} {
		s := sending("order.hl7")
		text := strings.ReplaceAll("MSH|^~\\&|SKERRY|ANSEL|LAB|HOLM|20261129||ORM^O01|A-18\rPID|1||T-0816\r", "\r", end)
		s.Size, s.Content = int64(len(text)), func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(text)), nil }
		if err := p.Exchange(t.Context(), "desk", func(x Exchange) error { _, err := x.Send(s); return err }); err != nil {
			t.Errorf("%q: %v", end, err)
		}
		all := of.taken()
		if got := all[len(all)-1]; string(got.Content) != "MSH|^~\\&|SKERRY|ANSEL|LAB|HOLM|20261129||ORM^O01|A-18\rPID|1||T-0816\r" || got.Key != "A-18" {
			t.Errorf("%q came as %q (%q)", end, got.Content, got.Key)
		}
	}
}

// TestMessagesThatAskForNoAnswer: where a partner keeps silent as the message asks him to, it is said that it does.
func TestMessagesThatAskForNoAnswer(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go io.Copy(io.Discard, c) //nolint: it keeps silent
		}
	}()
	p := New(&workspace.Environment{Places: map[string]workspace.Place{"lab": {Name: "lab", Kind: "mllp", Address: &url.URL{Scheme: "mllp", Host: l.Addr().String()}, Connections: 1, Patience: time.Second}}})
	defer p.Close()
	for asks, says := range map[string]bool{"|||NE|NE": true, "|||NE": true, "": false, "|||NE|AL": false, "|||AL|NE": false} {
		s := sending("order.hl7")
		text := strings.Replace(order, "|2.5\r", "|2.5"+asks+"\r", 1)
		s.Size, s.Content = int64(len(text)), func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(text)), nil }
		var err error
		for ok := false; !ok; { // a place that is away is tried again a little later
			err = p.Exchange(t.Context(), "lab", func(x Exchange) error { ok = true; _, err := x.Send(s); return err })
		}
		if !IsAway(err) || strings.Contains(err.Error(), "the message asks for no answer") != says {
			t.Errorf("%q: %v", asks, err)
		}
	}
}
