package remote

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"

	"github.com/wneessen/go-mail/smtp"
	"golang.org/x/oauth2"
	"golang.org/x/oauth2/clientcredentials"

	"ydrion/workspace"
)

// tokens are those by which a server knows us: the one that the environment names, or one that another server gives for our
// name and secret (RFC 6749, 4.4), and that is used until it ends.
type tokens struct {
	place *workspace.Place
	mu    sync.Mutex
	last  *oauth2.Token
}

// get gives the token of now.
func (t *tokens) get(ctx context.Context) (string, error) {
	if t.place.TokenAddress == nil {
		return Secret(t.place.Token)
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.last.Valid() {
		return t.last.AccessToken, nil
	}
	secret, err := Secret(t.place.ClientSecret)
	if err != nil {
		return "", err
	}
	trusted, err := trust(t.place)
	if err != nil {
		return "", err
	}
	trusted.ServerName = "" // that of the address that is asked
	ctx, end := context.WithTimeout(ctx, t.place.Patience)
	defer end()
	carrier := &http.Transport{Proxy: http.ProxyFromEnvironment, TLSClientConfig: trusted, DisableKeepAlives: true}
	by := &http.Client{Transport: carrier, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	of := clientcredentials.Config{ClientID: t.place.Client, ClientSecret: secret, TokenURL: t.place.TokenAddress.String(), Scopes: t.place.Scope}
	got, err := of.Token(context.WithValue(ctx, oauth2.HTTPClient, by))
	if err != nil {
		return "", fmt.Errorf("cannot be reached: no token was got for it: %w", t.worded(err))
	}
	if !strings.EqualFold(got.Type(), "Bearer") {
		return "", fmt.Errorf("cannot be reached: %s gives tokens of the type %s; what is meant is Bearer (RFC 6750)", t.place.TokenAddress.Host, got.TokenType)
	}
	t.last = got
	return got.AccessToken, nil
}

// worded says why there is no token. Servers say it in a code (RFC 6749, 5.2), and most in words, too.
func (t *tokens) worded(err error) error {
	host := t.place.TokenAddress.Host
	var said *oauth2.RetrieveError
	if errors.As(err, &said) && said.ErrorCode != "" {
		return fmt.Errorf("%s says %q", host, strings.TrimSuffix(said.ErrorCode+": "+said.ErrorDescription, ": "))
	}
	if said != nil {
		return fmt.Errorf("%s answers %s, and that is no token", host, said.Response.Status)
	}
	if bad := distrusted(err); bad != nil {
		return fmt.Errorf("%s %w", host, bad)
	}
	var of *url.Error
	var over net.Error
	switch {
	case errors.As(err, &over) && over.Timeout():
		return fmt.Errorf("%s has not answered within %s", host, t.place.Patience)
	case errors.Is(err, io.EOF):
		return fmt.Errorf("%s has broken off the connection without an answer", host)
	case errors.As(err, &of):
		return fmt.Errorf("%s does not answer: %w", host, plain(of.Err))
	}
	return fmt.Errorf("what %s answers is no token: %w", host, err)
}

// Mechanisms by which a mail server is shown a token (SASL): that of RFC 7628, and the one that many servers had before it.
const (
	bearerMechanism = "OAUTHBEARER"
	olderMechanism  = "XOAUTH2"
)

// errNoToken is what is wrong with a mail server that knows neither.
var errNoToken = fmt.Errorf("it offers no way to be shown a token (%s, %s)", bearerMechanism, olderMechanism)

// bearer shows a mail server a token.
type bearer struct {
	user, token, host, port string
	mechanism               string // of the two; the first that a server of outgoing mails offers
}

// newBearer shows a token to the server of a place.
func newBearer(p *workspace.Place, token string) *bearer {
	host, port, _ := net.SplitHostPort(p.Port())
	return &bearer{user: p.User, token: token, host: host, port: port, mechanism: bearerMechanism}
}

// Start is what is said first.
func (b *bearer) Start() (mechanism string, says []byte, err error) {
	if b.mechanism == olderMechanism {
		return b.mechanism, []byte("user=" + b.user + "\x01auth=Bearer " + b.token + "\x01\x01"), nil
	}
	user := strings.NewReplacer("=", "=3D", ",", "=2C").Replace(b.user) // RFC 5801, 4
	return b.mechanism, []byte("n,a=" + user + ",\x01host=" + b.host + "\x01port=" + b.port + "\x01auth=Bearer " + b.token + "\x01\x01"), nil
}

// Next answers a server that says why it does not let us in; it says so once more, without the code, when it has the answer.
func (b *bearer) Next([]byte) ([]byte, error) {
	if b.mechanism == olderMechanism {
		return []byte{}, nil
	}
	return []byte{1}, nil // RFC 7628, 3.2.3
}

// mailed is a bearer for servers of outgoing mails.
type mailed struct{ *bearer }

var _ smtp.Auth = mailed{}

func (m mailed) Start(server *smtp.ServerInfo) (string, []byte, error) {
	if !slices.Contains(server.Auth, bearerMechanism) {
		if !slices.Contains(server.Auth, olderMechanism) {
			return "", nil, errNoToken
		}
		m.mechanism = olderMechanism
	}
	return m.bearer.Start()
}

func (m mailed) Next(says []byte, more bool) ([]byte, error) {
	if !more {
		return nil, nil
	}
	return m.bearer.Next(says)
}
