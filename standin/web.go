package standin

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"io/fs"
	"math/big"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/johannesboyne/gofakes3"
	"github.com/johannesboyne/gofakes3/backend/s3mem"
	"golang.org/x/net/webdav"
)

// asks puts a request into words: what is asked of the server.
func asks(r *http.Request) string {
	switch r.Method {
	case "PROPFIND":
		if r.Header.Get("Depth") == "0" {
			return Look
		}
		return List
	case http.MethodHead:
		return Look
	case http.MethodGet:
		if strings.Contains(r.URL.RawQuery, "list-type") {
			return List
		}
		return Read
	case http.MethodPut, http.MethodPost:
		return Write
	case "MOVE", "COPY":
		return Rename
	case http.MethodDelete:
		return Remove
	case "MKCOL":
		return Make
	}
	return ""
}

// mind lets a handler behave as a server's manners are.
func mind(m *Manners, h http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		what := asks(r)
		if what == "" {
			h.ServeHTTP(w, r)
			return
		}
		cut := func() {
			if c, _, err := http.NewResponseController(w).Hijack(); err == nil {
				c.Close() //nolint: that is what it is for
			}
		}
		before, after := m.next(what)
		switch {
		case errors.Is(before, errCut):
			cut()
		case errors.Is(before, fs.ErrPermission):
			http.Error(w, "not allowed", http.StatusForbidden)
		case errors.Is(before, syscall.ENOSPC):
			http.Error(w, "no space left", http.StatusInsufficientStorage)
		case after != nil:
			h.ServeHTTP(&nothing{header: http.Header{}}, r)
			cut()
		default:
			h.ServeHTTP(w, r)
		}
	})
}

// nothing is an answer that nobody hears.
type nothing struct{ header http.Header }

func (n *nothing) Header() http.Header         { return n.header }
func (n *nothing) Write(b []byte) (int, error) { return len(b), nil }
func (n *nothing) WriteHeader(int)             {}

// serveWeb serves a handler, encrypted if there is a certificate.
func serveWeb(address string, certificate *tls.Certificate, handler func(m *Manners) http.Handler) (*server, error) {
	arrived := make(chan net.Conn)
	var h http.Server
	s, err := serve(address, func(c *conn) {
		done := make(chan struct{})
		arrived <- &ending{Conn: c, done: done}
		<-done
	})
	if err != nil {
		return nil, err
	}
	h.Handler = mind(s.Manners, handler(s.Manners))
	l := net.Listener(&channel{arrived, s.listener.Addr()})
	if certificate != nil {
		l = tls.NewListener(l, &tls.Config{Certificates: []tls.Certificate{*certificate}})
	}
	go h.Serve(l) //nolint: it ends with the connections
	return s, nil
}

// channel is a listener whose connections come from somewhere else.
type channel struct {
	from    chan net.Conn
	address net.Addr
}

func (c *channel) Accept() (net.Conn, error) { return <-c.from, nil }
func (c *channel) Close() error              { return nil }
func (c *channel) Addr() net.Addr            { return c.address }

// ending tells when a connection is over.
type ending struct {
	net.Conn
	done chan struct{}
}

func (e *ending) Close() error {
	defer func() {
		recover() //nolint: it was closed before
	}()
	err := e.Conn.Close()
	close(e.done)
	return err
}

// NewWebDAV serves a folder by WebDAV, encrypted if there is a certificate.
func NewWebDAV(address, folder string, certificate *tls.Certificate, login Login) (*WebDAV, error) {
	h := &webdav.Handler{FileSystem: confined{webdav.Dir(folder)}, LockSystem: webdav.NewMemLS()}
	s, err := serveWeb(address, certificate, func(*Manners) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if user, word, _ := r.BasicAuth(); user != login.User || word != login.Password {
				w.Header().Set("WWW-Authenticate", `Basic realm="stand-in"`)
				http.Error(w, "not let in", http.StatusUnauthorized)
				return
			}
			h.ServeHTTP(w, r)
		})
	})
	if err != nil {
		return nil, err
	}
	return &WebDAV{s}, nil
}

// WebDAV is a server for WebDAV.
type WebDAV struct{ *server }

// confined follows no links out of the folder: there are none that it would follow.
type confined struct{ webdav.Dir }

func (c confined) OpenFile(ctx context.Context, name string, flag int, perm os.FileMode) (webdav.File, error) {
	if i, err := os.Lstat(filepath.Join(string(c.Dir), filepath.FromSlash(name))); err == nil && i.Mode()&fs.ModeSymlink != 0 {
		return nil, fs.ErrPermission
	}
	return c.Dir.OpenFile(ctx, name, flag, perm)
}

// S3 is an object store with the S3 interface. It keeps its objects in memory.
type S3 struct {
	*server
	Backend  gofakes3.Backend
	Careless atomic.Bool // it replaces objects although it is asked not to, as stores do that do not know conditions
}

// NewS3 serves buckets, encrypted if there is a certificate. Whoever knows the key is let in.
func NewS3(address string, certificate *tls.Certificate, login Login, buckets ...string) (*S3, error) {
	backend := s3mem.New()
	for _, b := range buckets {
		if err := backend.CreateBucket(b); err != nil {
			return nil, err
		}
	}
	h := gofakes3.New(backend, gofakes3.WithLogger(gofakes3.DiscardLog())).Server()
	out := &S3{Backend: backend}
	var err error
	out.server, err = serveWeb(address, certificate, func(*Manners) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if out.Careless.Load() {
				r.Header.Del("If-None-Match")
			}
			if !strings.Contains(r.Header.Get("Authorization"), "Credential="+login.User+"/") {
				http.Error(w, "not let in", http.StatusForbidden)
				return
			}
			h.ServeHTTP(w, r)
		})
	})
	if err != nil {
		return nil, err
	}
	return out, nil
}

// NewCertificate makes a certificate for servers on loopback, and gives it in PEM, too: whoever knows that trusts them.
func NewCertificate() (*tls.Certificate, []byte, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, nil, err
	}
	of := &x509.Certificate{SerialNumber: big.NewInt(1), NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(1, 0, 0), IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, DNSNames: []string{"localhost"},
		IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth}}
	der, err := x509.CreateCertificate(rand.Reader, of, of, &key.PublicKey, key)
	if err != nil {
		return nil, nil, err
	}
	return &tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), nil
}
