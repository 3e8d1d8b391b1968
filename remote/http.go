package remote

import (
	"context"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/http/httptrace"
	"net/url"
	"path"
	"strings"
	"sync/atomic"

	"ydrion/workspace"
)

// httpExchange is a place that outputs are posted to, or from which answers are got (RFC 9110).
type httpExchange struct {
	place  *workspace.Place
	watch  *watch
	client *http.Client
	pages  *pages
	tokens *tokens
	ctx    context.Context
	end    context.CancelFunc
}

var _ Exchange = (*httpExchange)(nil)

func dialHTTP(ctx context.Context, p *workspace.Place) (Conn, error) {
	x := &httpExchange{place: p, watch: newWatch(p.Patience), pages: &pages{}, tokens: &tokens{place: p}}
	x.ctx, x.end = context.WithCancel(context.Background())
	carrier, err := transport(p, x.watch)
	if err != nil {
		return nil, err
	}
	if err := x.reach(ctx); err != nil {
		return nil, err
	}
	if p.TokenAddress != nil {
		if _, err := x.tokens.get(ctx); err != nil {
			return nil, err
		}
	}
	x.client = &http.Client{Transport: carrier, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	return x, nil
}

// Send posts an output with its mark as Idempotency-Key, by which the receiver knows one that comes a second time
// (draft-ietf-httpapi-idempotency-key-header); or it puts it under its name.
func (x *httpExchange) Send(s Sending) (string, error) {
	defer x.watch.ask()()
	content, err := s.Content()
	if err != nil {
		return "", err
	}
	defer content.Close()
	at := *x.place.Address
	at.Path = path.Join("/", at.Path, s.Folder)
	if x.place.Method == http.MethodPut {
		at.Path = path.Join(at.Path, s.Name)
	}
	var whole atomic.Bool // the request was written to its end
	ctx := httptrace.WithClientTrace(x.ctx, &httptrace.ClientTrace{WroteRequest: func(w httptrace.WroteRequestInfo) {
		if w.Err == nil {
			whole.Store(true)
		}
	}})
	r, err := http.NewRequestWithContext(ctx, or(x.place.Method, http.MethodPost), at.String(), io.NopCloser(content))
	if err != nil {
		return "", err
	}
	r.ContentLength = s.Size
	r.Header.Set("Content-Type", or(x.place.Type, mime.TypeByExtension(path.Ext(s.Name)), "application/octet-stream"))
	r.Header.Set("Content-Disposition", "attachment; filename*=UTF-8''"+url.PathEscape(path.Base(s.Name)))
	for what, text := range s.Said {
		if name, is := strings.CutPrefix(what, "header "); is {
			r.Header.Set(name, text)
		}
	}
	r.Header.Set("Idempotency-Key", s.Mark)
	if x.place.SigningKey.Any() {
		if err := x.sign(r, s); err != nil {
			return "", err
		}
	}
	if err := x.prove(r); err != nil {
		return "", &Away{Place: x.place.Name, Err: err}
	}
	answer, err := x.client.Do(r)
	if err != nil {
		a := &Away{Place: x.place.Name, Sent: whole.Load()}
		switch bad := distrusted(err); {
		case bad != nil:
			a.Err = bad
		case x.watch.late.Load():
			a.Err = fmt.Errorf("has not answered for %s", x.place.Patience)
		case a.Sent:
			a.Err = fmt.Errorf("has broken off the connection without an answer: %w", plain(unwrapped(err)))
		default:
			a.Err = fmt.Errorf("does not answer at %s: %w", x.place.Port(), plain(unwrapped(err)))
		}
		return "", a
	}
	defer answer.Body.Close()
	said, err := io.ReadAll(io.LimitReader(answer.Body, 500))
	if err != nil {
		said = nil
	}
	return x.judge(answer, strings.TrimSpace(string(said)))
}

// sign signs what is sent.
func (x *httpExchange) sign(r *http.Request, s Sending) error {
	by, err := NewSigning(x.place)
	if err != nil {
		return &Away{Place: x.place.Name, Err: err}
	}
	content, err := s.Content()
	if err != nil {
		return err
	}
	_, err = io.Copy(by, content)
	r.Header.Set(x.place.Signature, by.String())
	return errors.Join(err, content.Close())
}

// unwrapped is an error of a request without what was asked.
func unwrapped(err error) error {
	if u, is := err.(*url.Error); is {
		return u.Err
	}
	return err
}

// prove says who we are.
func (x *httpExchange) prove(r *http.Request) error {
	if x.place.Tokened() {
		token, err := x.tokens.get(r.Context())
		if err != nil {
			return err
		}
		if x.place.TokenHeader != "" {
			r.Header.Set(x.place.TokenHeader, token)
		} else {
			r.Header.Set("Authorization", "Bearer "+token)
		}
		return nil
	}
	if x.place.User == "" {
		return nil
	}
	word, err := Secret(x.place.Password)
	if err != nil {
		return err
	}
	r.SetBasicAuth(x.place.User, word)
	return nil
}

// judge says what an answer means.
func (x *httpExchange) judge(answer *http.Response, said string) (string, error) {
	is := "it answers " + answer.Status
	if said != "" {
		is += fmt.Sprintf(": %.200s", said)
	}
	switch code := answer.StatusCode; {
	case code >= 200 && code < 300:
		if at := answer.Header.Get("Location"); at != "" {
			is += ", as " + at
		}
		return is, nil
	case code == http.StatusUnauthorized || code == http.StatusForbidden:
		return "", &Away{Place: x.place.Name, Err: fmt.Errorf("does not let us in: %s", is)}
	case code == http.StatusTooManyRequests || code == http.StatusServiceUnavailable || code == http.StatusBadGateway || code == http.StatusGatewayTimeout:
		return "", &Away{Place: x.place.Name, Err: fmt.Errorf("cannot take anything now: %s", is), Sent: code == http.StatusGatewayTimeout || code == http.StatusBadGateway}
	case code >= 500 || code == http.StatusRequestTimeout || code == http.StatusTooEarly || code == http.StatusConflict:
		return "", &Refused{Says: is}
	case code >= 300 && code < 400:
		return "", &Refused{Says: is + "; say the address that is meant: " + answer.Header.Get("Location"), Final: true}
	}
	return "", &Refused{Says: is, Final: true}
}

func (x *httpExchange) Repeats() bool { return x.place.Repeats }

// Rest asks nothing: a request finds out.
func (x *httpExchange) Rest() error { return nil }

// reach connects, without a request.
func (x *httpExchange) reach(ctx context.Context) error {
	defer x.watch.ask()()
	c, err := x.watch.dial(ctx, "tcp", x.place.Port())
	if err != nil {
		return fmt.Errorf("does not answer at %s: %w", x.place.Port(), plain(err))
	}
	return c.Close()
}

func (x *httpExchange) Break() {
	x.end()
	x.watch.end()
}
