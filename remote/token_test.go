package remote

import (
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/wneessen/go-mail/smtp"

	"ydrion/standin"
	"ydrion/workspace"
)

// office is a server that gives tokens, and one that takes what is posted by whoever shows the last of them.
type office struct {
	place  workspace.Place
	secret string // the file that holds it
	given  int    // tokens
	good   string // the token that is good
	taken  int
	answer func(w http.ResponseWriter, token string) // nil: as RFC 6749, 5.1, says
	seen   []string                                  // what was wrong with requests
}

func newOffice(t *testing.T) *office {
	t.Helper()
	o := &office{secret: filepath.Join(t.TempDir(), "secret")}
	tokens := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		user, word, _ := r.BasicAuth()
		if err := r.ParseForm(); err != nil || r.Method != "POST" || r.URL.String() != "/token?tenant=seals" || user != "skerry+coast" || word != "salt%3Aice" || r.PostForm.Encode() != "grant_type=client_credentials&scope=orders.write+orders.read" {
			o.seen = append(o.seen, fmt.Sprintf("%s %s %s:%s %s %v", r.Method, r.URL, user, word, r.PostForm.Encode(), err))
		}
		o.given++
		o.good = fmt.Sprintf("token-%d", o.given)
		if w.Header().Set("Content-Type", "application/json"); o.answer != nil {
			o.answer(w, o.good)
			return
		}
		fmt.Fprintf(w, `{"access_token": %q, "token_type": "bearer", "expires_in": 3600}`, o.good)
	}))
	t.Cleanup(tokens.Close)
	desk := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "Bearer "+o.good {
			http.Error(w, "not let in", http.StatusUnauthorized)
			return
		}
		o.taken++
		w.WriteHeader(http.StatusCreated)
	}))
	t.Cleanup(desk.Close)
	authorities := filepath.Join(t.TempDir(), "pem")
	for name, content := range map[string]string{o.secret: "salt:ice\n", authorities: string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: desk.Certificate().Raw}))} {
		if err := os.WriteFile(name, []byte(content), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	at := func(s *httptest.Server, path string) *url.URL {
		u, err := url.Parse(s.URL + path)
		if err != nil {
			t.Fatal(err)
		}
		return u
	}
	o.place = workspace.Place{Name: "desk", Kind: "http", Address: at(desk, "/api"), Method: "POST", TokenAddress: at(tokens, "/token?tenant=seals"), Client: "skerry coast", ClientSecret: workspace.Secret{File: o.secret}, Scope: []string{"orders.write", "orders.read"}, Authorities: authorities, Connections: 1, Patience: 5 * time.Second}
	return o
}

func (o *office) places(t *testing.T) (p *Places, send func() error) {
	p = New(&workspace.Environment{Places: map[string]workspace.Place{"desk": o.place}})
	t.Cleanup(p.Close)
	return p, func() error {
		return p.Exchange(t.Context(), "desk", func(x Exchange) error { _, err := x.Send(sending("order.hl7")); return err })
	}
}

// TestTokens: a token is got once and used until it ends, or is not let in any more.
func TestTokens(t *testing.T) {
	o := newOffice(t)
	_, send := o.places(t)
	for range 3 {
		if err := send(); err != nil {
			t.Fatal(err)
		}
	}
	if o.taken != 3 || o.given != 1 || o.seen != nil {
		t.Errorf("%d taken, %d tokens given, %q", o.taken, o.given, o.seen)
	}
	o.good = "another" // it was called back
	if err := send(); !IsAway(err) || !strings.Contains(err.Error(), "does not let us in") {
		t.Errorf("with a token that was called back: %v", err)
	}
	err := send()
	for until := time.Now().Add(20 * time.Second); IsAway(err) && time.Now().Before(until); err = send() {
		time.Sleep(50 * time.Millisecond) // a place that is away is tried again a little later
	}
	if err != nil || o.given != 2 {
		t.Errorf("after that: %v, %d given", err, o.given)
	}
	o = newOffice(t)
	o.answer = func(w http.ResponseWriter, token string) {
		fmt.Fprintf(w, `{"access_token": %q, "token_type": "Bearer", "expires_in": 3}`, token)
	}
	_, send = o.places(t)
	for range 2 {
		if err := send(); err != nil {
			t.Fatal(err)
		}
	}
	if o.given < 3 { // one when it connected
		t.Errorf("%d tokens given, though none was good for long", o.given)
	}
}

// TestTokenHeader: a token is shown in the header that the server reads, and in no other.
func TestTokenHeader(t *testing.T) {
	word := filepath.Join(t.TempDir(), "token")
	if err := os.WriteFile(word, []byte("salt\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	var seen http.Header
	desk := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { seen = r.Header }))
	defer desk.Close()
	at, err := url.Parse(desk.URL)
	if err != nil {
		t.Fatal(err)
	}
	for header, want := range map[string][2]string{"": {"Bearer salt", ""}, "x-api-key": {"", "salt"}} {
		p := New(&workspace.Environment{Places: map[string]workspace.Place{"desk": {Name: "desk", Kind: "http", Address: at, Token: workspace.Secret{File: word}, TokenHeader: header, Connections: 1, Patience: 5 * time.Second}}})
		err := p.Exchange(t.Context(), "desk", func(x Exchange) error { _, err := x.Send(sending("order.hl7")); return err })
		if got := [2]string{seen.Get("Authorization"), seen.Get("X-Api-Key")}; err != nil || got != want {
			t.Errorf("%q: %q %v", header, got, err)
		}
		p.Close()
	}
}

// TestNoTokens: why there is no token is said, and nothing secret.
func TestNoTokens(t *testing.T) {
	for want, answer := range map[string]func(http.ResponseWriter, string){
		`says "invalid_client: this secret has ended"`: func(w http.ResponseWriter, _ string) {
			w.WriteHeader(http.StatusUnauthorized)
			io.WriteString(w, `{"error": "invalid_client", "error_description": "this secret has ended"}`)
		},
		`says "invalid_scope"`: func(w http.ResponseWriter, _ string) {
			w.WriteHeader(http.StatusBadRequest)
			io.WriteString(w, `{"error": "invalid_scope"}`)
		},
		"answers 500 Internal Server Error, and that is no token": func(w http.ResponseWriter, _ string) {
			w.Header().Set("Content-Type", "text/html")
			w.WriteHeader(http.StatusInternalServerError)
			io.WriteString(w, "<html>salt:ice</html>")
		},
		"answers 302 Found": func(w http.ResponseWriter, _ string) {
			w.Header().Set("Location", "/elsewhere")
			w.WriteHeader(http.StatusFound)
		},
		"is no token": func(w http.ResponseWriter, _ string) { io.WriteString(w, `{"expires_in": 60}`) },
		"gives tokens of the type mac": func(w http.ResponseWriter, token string) {
			fmt.Fprintf(w, `{"access_token": %q, "token_type": "mac"}`, token)
		},
		"has broken off": func(http.ResponseWriter, string) { panic(http.ErrAbortHandler) },
	} {
		o := newOffice(t)
		o.answer = answer
		_, send := o.places(t)
		err := send()
		if !IsAway(err) || !strings.Contains(err.Error(), want) || strings.Contains(err.Error(), "salt") || strings.Contains(err.Error(), "token-") || o.taken > 0 {
			t.Errorf("%v; %q was to be said", err, want)
		}
	}
	o := newOffice(t)
	if err := os.Remove(o.secret); err != nil {
		t.Fatal(err)
	}
	if _, send := o.places(t); !strings.Contains(fmt.Sprint(send()), "what is secret cannot be read") {
		t.Error("without a secret")
	}
	o.place.TokenAddress = &url.URL{Scheme: "https", Host: "127.0.0.1:1", Path: "/token"}
	if err := os.WriteFile(o.secret, []byte("salt:ice"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, send := o.places(t); !strings.Contains(fmt.Sprint(send()), "127.0.0.1:1 does not answer") {
		t.Error("where nobody listens", send())
	}
}

// TestMailTokens: servers of mails let in who shows a token, and say why they do not.
func TestMailTokens(t *testing.T) {
	word := filepath.Join(t.TempDir(), "token")
	login := standin.Login{User: "maren", Password: "salt", Token: "ice"}
	in, err := standin.NewIMAP("127.0.0.1:0", nil, login, true)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(in.Close)
	out, err := standin.NewSMTP("127.0.0.1:0", nil, login)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(out.Close)
	place := workspace.Place{User: "maren", TLS: "none", Token: workspace.Secret{File: word}, Connections: 1, Patience: 10 * time.Second, From: "ydrion@skerry.example", To: []string{"lab@skerry.example"}}
	post, office := place, place
	post.Name, post.Kind, post.Address = "post", "imap", &url.URL{Scheme: "imap", Host: in.Address()}
	office.Name, office.Kind, office.Address = "office", "smtp", &url.URL{Scheme: "smtp", Host: out.Address()}
	for token, good := range map[string]bool{"ice\n": true, "salt\n": false} {
		if err := os.WriteFile(word, []byte(token), 0o600); err != nil {
			t.Fatal(err)
		}
		p := New(&workspace.Environment{Places: map[string]workspace.Place{"post": post, "office": office}})
		look := p.With(t.Context(), "post", func(t Tree) error { _, err := t.List("/INBOX"); return err })
		send := p.Exchange(t.Context(), "office", func(x Exchange) error { _, err := x.Send(sending("order.hl7")); return err })
		for _, err := range []error{look, send} {
			if good != (err == nil) || !good && (!IsAway(err) || !strings.Contains(err.Error(), "does not let maren in") || strings.Contains(err.Error(), "salt")) {
				t.Errorf("token %q: %v", token, err)
			}
		}
		p.Close()
	}
	if n := len(out.Taken()); n != 1 {
		t.Errorf("%d mails came", n)
	}
}

// TestBearer: what is shown is what RFC 7628, 3.1, asks for, and what servers take that are older than it.
func TestBearer(t *testing.T) {
	p := &workspace.Place{Kind: "smtp", User: "seal=1,2@skerry.example", Address: &url.URL{Scheme: "smtp", Host: "mail.skerry.example"}}
	for offers, want := range map[string]string{
		"PLAIN OAUTHBEARER XOAUTH2": "OAUTHBEARER n,a=seal=3D1=2C2@skerry.example,\x01host=mail.skerry.example\x01port=587\x01auth=Bearer ice\x01\x01 \x01",
		"LOGIN XOAUTH2":             "XOAUTH2 user=seal=1,2@skerry.example\x01auth=Bearer ice\x01\x01 ",
	} {
		by := mailed{newBearer(p, "ice")}
		mechanism, first, err := by.Start(&smtp.ServerInfo{Auth: strings.Fields(offers)})
		second, more := by.Next([]byte(`{"status": "invalid_token"}`), true)
		if got := mechanism + " " + string(first) + " " + string(second); errors.Join(err, more) != nil || got != want {
			t.Errorf("%s: %q %v %v, not %q", offers, got, err, more, want)
		}
	}
	if _, _, err := (mailed{newBearer(p, "ice")}).Start(&smtp.ServerInfo{Auth: []string{"PLAIN"}}); err != errNoToken {
		t.Error(err)
	}
}
