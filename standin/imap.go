package standin

import (
	"bytes"
	"crypto/tls"
	"errors"
	"io"
	"io/fs"
	"log"
	"net"
	"syscall"
	"time"

	"github.com/emersion/go-imap/v2"
	"github.com/emersion/go-imap/v2/imapserver"
	"github.com/emersion/go-imap/v2/imapserver/imapmemserver"
	"github.com/emersion/go-sasl"
)

// IMAP is a server of mailboxes.
type IMAP struct {
	*server
	user *imapmemserver.User
}

// NewIMAP serves the mailboxes of one user, encrypted if there is a certificate (STARTTLS). Others than INBOX have to be made. Without moves it is one of
// the old servers, which only copy.
func NewIMAP(address string, certificate *tls.Certificate, login Login, moves bool) (*IMAP, error) {
	user := imapmemserver.NewUser(login.User, login.Password)
	if err := user.Create("INBOX", nil); err != nil {
		return nil, err
	}
	out := &IMAP{user: user}
	caps := imap.CapSet{imap.CapIMAP4rev1: {}, imap.CapUIDPlus: {}}
	if moves {
		caps[imap.CapMove] = struct{}{}
	}
	options := &imapserver.Options{Caps: caps, InsecureAuth: certificate == nil, Logger: log.New(io.Discard, "", 0), NewSession: func(c *imapserver.Conn) (imapserver.Session, *imapserver.GreetingData, error) {
		s := &imapSession{UserSession: imapmemserver.NewUserSession(user), conn: c, server: out}
		if login.Token != "" {
			return &tokenSession{s, login}, &imapserver.GreetingData{}, nil
		}
		return s, &imapserver.GreetingData{}, nil
	}}
	if certificate != nil {
		options.TLSConfig = &tls.Config{Certificates: []tls.Certificate{*certificate}}
	}
	protocol := imapserver.New(options)
	arrived := make(chan net.Conn)
	s, err := serve(address, func(c *conn) {
		e := &ending{c, make(chan struct{})}
		arrived <- e
		<-e.done
	})
	if err != nil {
		return nil, err
	}
	go protocol.Serve(&channel{arrived, s.listener.Addr()}) //nolint: it ends with the connections
	out.server = s
	return out, nil
}

// Mail puts a mail into a mailbox, at a time of the server.
func (s *IMAP) Mail(mailbox string, text []byte, at time.Time) error {
	_, err := s.user.Append(mailbox, &literal{bytes.NewReader(text), int64(len(text))}, &imap.AppendOptions{Time: at})
	return err
}

// Make makes a mailbox.
func (s *IMAP) Make(mailbox string) error { return s.user.Create(mailbox, nil) }

// Forget gives a mailbox new numbers, as some servers do when they are set up anew: the mails stay, and nothing knows them again.
func (s *IMAP) Forget(mailbox string) error {
	err := s.user.Rename(mailbox, mailbox+"-old", nil)
	if err == nil {
		err = s.user.Create(mailbox, nil)
	}
	if err != nil {
		return err
	}
	session := imapmemserver.NewUserSession(s.user)
	defer session.Close() //nolint: it is only a view
	if _, err := session.Select(mailbox+"-old", nil); err != nil {
		return err
	}
	all := imap.SeqSet{}
	all.AddRange(1, 0)
	_, err = session.Copy(all, mailbox)
	err = errors.Join(err, s.user.Delete(mailbox+"-old"))
	s.hangUp()
	return err
}

// Holds is how many mails a mailbox holds, and how many of them are not marked as read.
func (s *IMAP) Holds(mailbox string) (all, unread int, err error) {
	d, err := s.user.Status(mailbox, &imap.StatusOptions{NumMessages: true, NumUnseen: true})
	if err != nil {
		return 0, 0, err
	}
	return int(*d.NumMessages), int(*d.NumUnseen), nil
}

type literal struct {
	io.Reader
	size int64
}

func (l *literal) Size() int64 { return l.size }

// imapSession is a client that has connected.
type imapSession struct {
	*imapmemserver.UserSession
	conn   *imapserver.Conn
	server *IMAP
}

var _ imapserver.SessionMove = (*imapSession)(nil)

// tokenSession is a client that may show a token (RFC 7628).
type tokenSession struct {
	*imapSession
	login Login
}

var _ imapserver.SessionSASL = (*tokenSession)(nil)

func (s *tokenSession) AuthenticateMechanisms() []string {
	return []string{sasl.Plain, sasl.OAuthBearer}
}

func (s *tokenSession) Authenticate(mechanism string) (sasl.Server, error) {
	if mechanism == sasl.Plain {
		return sasl.NewPlainServer(func(_, user, password string) error { return s.Login(user, password) }), nil
	}
	return sasl.NewOAuthBearerServer(func(o sasl.OAuthBearerOptions) *sasl.OAuthBearerError {
		if o.Username != s.login.User || o.Token != s.login.Token {
			return &sasl.OAuthBearerError{Status: "invalid_token", Schemes: "bearer"}
		}
		return nil
	}), nil
}

// do does what is asked, as the server's manners are.
func (s *imapSession) do(what string, doing func() error) error {
	before, after := s.server.next(what)
	err := before
	if err == nil {
		if err = doing(); after != nil {
			err = after
		}
	}
	no := &imap.Error{Type: imap.StatusResponseTypeNo}
	switch {
	case errors.Is(err, errCut):
		s.conn.NetConn().Close() //nolint: that is what it is for
	case errors.Is(err, fs.ErrPermission):
		no.Code, no.Text = imap.ResponseCodeNoPerm, "not allowed"
		return no
	case errors.Is(err, syscall.ENOSPC):
		no.Code, no.Text = imap.ResponseCodeOverQuota, "no space left"
		return no
	}
	return err
}

func (s *imapSession) Search(kind imapserver.NumKind, criteria *imap.SearchCriteria, options *imap.SearchOptions) (found *imap.SearchData, err error) {
	err = s.do(List, func() error { found, err = s.UserSession.Search(kind, criteria, options); return err })
	return found, err
}

func (s *imapSession) Fetch(w *imapserver.FetchWriter, of imap.NumSet, options *imap.FetchOptions) error {
	what := Look
	if len(options.BodySection) > 0 {
		what = Read
	}
	return s.do(what, func() error { return s.UserSession.Fetch(w, of, options) })
}

func (s *imapSession) Store(w *imapserver.FetchWriter, of imap.NumSet, flags *imap.StoreFlags, options *imap.StoreOptions) error {
	return s.do(Write, func() error { return s.UserSession.Store(w, of, flags, options) })
}

func (s *imapSession) Copy(of imap.NumSet, to string) (made *imap.CopyData, err error) {
	err = s.do(Rename, func() error { made, err = s.UserSession.Copy(of, to); return err })
	return made, err
}

func (s *imapSession) Move(w *imapserver.MoveWriter, of imap.NumSet, to string) error {
	return s.do(Rename, func() error { return s.UserSession.Move(w, of, to) })
}

func (s *imapSession) Expunge(w *imapserver.ExpungeWriter, of *imap.UIDSet) error {
	return s.do(Remove, func() error { return s.UserSession.Expunge(w, of) })
}

func (s *imapSession) Create(mailbox string, options *imap.CreateOptions) error {
	return s.do(Make, func() error { return s.UserSession.Create(mailbox, options) })
}
