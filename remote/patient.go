package remote

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"ydrion/workspace"
)

// watch breaks off connections to a server when something was asked and nothing has come or gone for a while. What
// rests is left alone.
type watch struct {
	patience time.Duration
	asked    atomic.Int64 // how many answers are waited for
	moved    atomic.Int64 // when something last came or went, in nanoseconds
	timer    *time.Timer
	late     atomic.Bool

	mu   sync.Mutex
	open map[net.Conn]bool
	over bool
}

func newWatch(patience time.Duration) *watch {
	w := &watch{patience: patience, open: map[net.Conn]bool{}}
	w.timer = time.AfterFunc(time.Hour, w.look)
	w.timer.Stop()
	return w
}

// ask says that an answer is waited for until the function that it gives is called.
func (w *watch) ask() func() {
	w.moved.Store(time.Now().UnixNano())
	if w.asked.Add(1) == 1 {
		w.timer.Reset(w.patience)
	}
	return func() {
		if w.asked.Add(-1) == 0 {
			w.timer.Stop()
		}
	}
}

func (w *watch) look() {
	if w.asked.Load() == 0 {
		return
	}
	if left := w.patience - time.Duration(time.Now().UnixNano()-w.moved.Load()); left > 0 {
		w.timer.Reset(left)
		return
	}
	w.late.Store(true)
	w.end()
}

// end breaks all connections off.
func (w *watch) end() {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.over = true
	for c := range w.open {
		c.Close() //nolint: it is given up
	}
}

// dial makes a connection that is watched.
func (w *watch) dial(ctx context.Context, network, address string) (net.Conn, error) {
	c, err := (&net.Dialer{Timeout: w.patience}).DialContext(ctx, network, address)
	if err != nil {
		return nil, err
	}
	return w.take(c)
}

// take watches a connection.
func (w *watch) take(c net.Conn) (net.Conn, error) {
	out := &watched{c, w}
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.over {
		return nil, errors.Join(net.ErrClosed, c.Close())
	}
	w.open[c] = true
	return out, nil
}

// watched is a connection that is watched.
type watched struct {
	net.Conn
	by *watch
}

func (c *watched) Read(b []byte) (int, error) {
	n, err := c.Conn.Read(b)
	if n > 0 {
		c.by.moved.Store(time.Now().UnixNano())
	}
	return n, err
}

func (c *watched) Write(b []byte) (int, error) {
	n, err := c.Conn.Write(b)
	if n > 0 {
		c.by.moved.Store(time.Now().UnixNano())
	}
	return n, err
}

// CloseWrite says that nothing more comes.
func (c *watched) CloseWrite() error {
	half, is := c.Conn.(interface{ CloseWrite() error })
	if !is {
		return errors.ErrUnsupported
	}
	return half.CloseWrite()
}

func (c *watched) Close() error {
	c.by.mu.Lock()
	delete(c.by.open, c.Conn)
	c.by.mu.Unlock()
	return c.Conn.Close()
}

// trust is how a place's certificates are judged.
func trust(p *workspace.Place) (*tls.Config, error) {
	out := &tls.Config{ServerName: p.Address.Hostname()}
	if p.Old {
		out.MinVersion = tls.VersionTLS10
		for _, all := range [][]*tls.CipherSuite{tls.CipherSuites(), tls.InsecureCipherSuites()} {
			for _, suite := range all {
				out.CipherSuites = append(out.CipherSuites, suite.ID)
			}
		}
	}
	if p.Certificate != "" {
		own, err := tls.LoadX509KeyPair(p.Certificate, p.KeyFile)
		if err != nil {
			return nil, fmt.Errorf("cannot be reached: our certificate cannot be read: %w", err)
		}
		out.Certificates = []tls.Certificate{own}
	}
	if p.Authorities == "" {
		return out, nil
	}
	var err error
	if out.RootCAs, err = Authorities(p.Authorities); err != nil {
		return nil, fmt.Errorf("cannot be reached: %w", err)
	}
	return out, nil
}

// Authorities are those whose certificates are in a file (PEM).
func Authorities(file string) (*x509.CertPool, error) {
	b, err := os.ReadFile(file)
	if err != nil {
		return nil, fmt.Errorf("the certificates of authorities cannot be read: %w", err)
	}
	out := x509.NewCertPool()
	if !out.AppendCertsFromPEM(b) {
		return nil, fmt.Errorf("there is no certificate in %s", file)
	}
	return out, nil
}

// transport is how a place is spoken to by HTTP: each tree has connections of its own, which are watched.
func transport(p *workspace.Place, w *watch) (http.RoundTripper, error) {
	trusted, err := trust(p)
	if err != nil {
		return nil, err
	}
	return &reusing{&http.Transport{Proxy: http.ProxyFromEnvironment, TLSClientConfig: trusted, DialContext: w.dial, TLSHandshakeTimeout: p.Patience, ExpectContinueTimeout: time.Second, MaxConnsPerHost: 2, MaxIdleConnsPerHost: 2, DisableCompression: true}}, nil
}

// reusing uses connections again although who asked has not read the answer to its end, as libraries do where only its status counts: a new
// connection costs more than most requests.
type reusing struct{ *http.Transport }

func (r *reusing) RoundTrip(of *http.Request) (*http.Response, error) {
	answer, err := r.Transport.RoundTrip(of)
	if err == nil && answer.Body != nil {
		answer.Body = &drained{answer.Body}
	}
	return answer, err
}

type drained struct{ io.ReadCloser }

// Close reads what is left, if it is little.
func (d *drained) Close() error {
	io.CopyN(io.Discard, d.ReadCloser, 4<<10) //nolint: nobody wants it; if it does not come the connection is not used again
	return d.ReadCloser.Close()
}

// distrusted says in words why a certificate was not accepted; nil if that is not what is wrong.
func distrusted(err error) error {
	var unknown x509.UnknownAuthorityError
	var name x509.HostnameError
	var invalid x509.CertificateInvalidError
	old := func(says string) bool { return err != nil && strings.Contains(err.Error(), says) } // what a peer sends has no type
	switch {
	case old("tls: handshake failure"), old("tls: protocol version not supported"), old("tls: server selected unsupported protocol version"), old("tls: insufficient security level"):
		return errors.New("cannot be spoken to by TLS of 1.2 or later with ciphers that are held to be sound: say `old algorithms: allowed` if the server cannot be renewed")
	case errors.As(err, &unknown):
		return errors.New("shows a certificate that nobody known vouches for; name a file with the certificate of who does (authorities)")
	case errors.As(err, &name), errors.As(err, &invalid):
		return fmt.Errorf("shows a certificate that is not good: %w", err)
	}
	return nil
}
