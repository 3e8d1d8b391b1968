package standin

import (
	"bufio"
	"bytes"
	"crypto/tls"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"sync"

	"github.com/emersion/go-sasl"
)

// Message is what a stand-in has taken.
type Message struct {
	Path    string // of a request
	Key     string // by which one is known that comes a second time
	Kind    string // of the content, as the sender says
	From    string // the user that was let in, or the sender of a mail
	To      []string
	Header  http.Header // of a request
	Content []byte
}

// box keeps what has been taken.
type box struct {
	mu    sync.Mutex
	taken []Message
	// Answer says what is answered to the nth message, from 1; nil, and an empty answer, take it.
	answer func(n int, m *Message) string
}

// put takes a message and gives the answer to it.
func (b *box) put(m Message) string {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.taken = append(b.taken, m)
	if b.answer == nil {
		return ""
	}
	return b.answer(len(b.taken), &m)
}

// Taken are the messages that have come.
func (b *box) Taken() []Message {
	b.mu.Lock()
	defer b.mu.Unlock()
	return append([]Message{}, b.taken...)
}

// Answer sets what is answered to the nth message that comes, from 1: for HTTP a status such as "503", for SMTP a reply
// such as "451 later", for MLLP a code such as "AE". An empty answer takes it.
func (b *box) Answer(what func(n int, m *Message) string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.answer = what
}

// HTTP is a partner that things are posted to.
type HTTP struct {
	*server
	*box
}

// NewHTTP serves a partner that takes whatever is posted or put, encrypted if there is a certificate, from whoever has the token.
func NewHTTP(address string, certificate *tls.Certificate, token string) (*HTTP, error) {
	b := &box{}
	s, err := serveWeb(address, certificate, func(*Manners) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if token != "" && r.Header.Get("Authorization") != "Bearer "+token {
				http.Error(w, "not let in", http.StatusUnauthorized)
				return
			}
			content, err := io.ReadAll(r.Body)
			if err != nil {
				http.Error(w, "it did not come whole", http.StatusBadRequest)
				return
			}
			var code int
			if says := b.put(Message{Path: r.Method + " " + r.URL.Path, Key: r.Header.Get("Idempotency-Key"), Kind: r.Header.Get("Content-Type"), Header: r.Header, Content: content}); says == "" {
				w.WriteHeader(http.StatusCreated)
			} else if _, err := fmt.Sscan(says, &code); err == nil {
				http.Error(w, strings.TrimSpace(strings.TrimPrefix(says, fmt.Sprint(code))), code)
			}
		})
	})
	if err != nil {
		return nil, err
	}
	return &HTTP{s, b}, nil
}

// MLLP is a partner that takes HL7 v2 messages in frames.
type MLLP struct {
	*server
	*box
}

// NewMLLP serves a partner that acknowledges messages.
func NewMLLP(address string) (*MLLP, error) {
	b := &box{}
	s, err := serve(address, func(c *conn) {
		in := bufio.NewReader(c)
		for {
			if _, err := in.ReadBytes(0x0B); err != nil {
				return
			}
			content, err := in.ReadBytes(0x1C)
			if err != nil {
				return
			}
			content = content[:len(content)-1]
			m := Message{Content: content}
			if fields := bytes.Split(bytes.SplitN(content, []byte("\r"), 2)[0], []byte("|")); len(fields) > 9 {
				m.Key = string(fields[9])
			}
			var code string
			if c.do(Write, func() error { code = b.put(m); return nil }) != nil {
				return
			}
			says := ""
			if code == "" {
				code = "AA"
			}
			code, says, _ = strings.Cut(code, " ")
			if _, err := fmt.Fprintf(c, "\x0BMSH|^~\\&|LAB|SKERRY|||20261129||ACK|1|P|2.5\rMSA|%s|%s|%s\r\x1C\r", code, m.Key, says); err != nil {
				return
			}
		}
	})
	if err != nil {
		return nil, err
	}
	return &MLLP{s, b}, nil
}

// SMTP is a server that takes mails.
type SMTP struct {
	*server
	*box
}

// NewSMTP serves a mail server. With a certificate it offers TLS; with a login it lets nobody else in.
func NewSMTP(address string, certificate *tls.Certificate, login Login) (*SMTP, error) {
	b := &box{}
	s, err := serve(address, func(c *conn) {
		(&smtpSession{conn: c, control: c, box: b, certificate: certificate, login: login}).serve()
	})
	if err != nil {
		return nil, err
	}
	return &SMTP{s, b}, nil
}

// A stand-in is as strict as servers are: it takes so many mails on a connection, and so much that is no mail.
const (
	mostMails = 20
	mostIdle  = 10
)

// smtpSession is a client that has connected.
type smtpSession struct {
	conn        *conn
	control     net.Conn
	box         *box
	certificate *tls.Certificate
	login       Login
	in          bool
	mail        Message
	mails       int // that were taken on the connection
	idle        int // how much has been asked that is no mail
}

func (s *smtpSession) serve() {
	in := bufio.NewReader(s.control)
	say := func(text string) bool {
		_, err := io.WriteString(s.control, text+"\r\n")
		return err == nil
	}
	for alive := say("220 a stand-in"); alive; {
		line, err := in.ReadString('\n')
		if err != nil {
			return
		}
		command, argument, _ := strings.Cut(strings.TrimRight(line, "\r\n"), " ")
		switch command = strings.ToUpper(command); command {
		case "EHLO", "HELO":
			_, encrypted := s.control.(*tls.Conn)
			offers := "PLAIN"
			if s.login.Token != "" {
				offers += " " + sasl.OAuthBearer
			}
			if s.certificate != nil && !encrypted {
				alive = say("250-here\r\n250-STARTTLS\r\n250 AUTH " + offers)
			} else {
				alive = say("250-here\r\n250 AUTH " + offers)
			}
		case "STARTTLS":
			alive = say("220 go on")
			s.control = tls.Server(s.conn, &tls.Config{Certificates: []tls.Certificate{*s.certificate}})
			in = bufio.NewReader(s.control)
		case "AUTH":
			mechanism, word, _ := strings.Cut(argument, " ")
			b, err := base64.StdEncoding.DecodeString(word)
			token := mechanism == sasl.OAuthBearer && s.login.Token != ""
			if token {
				_, shown, _ := strings.Cut(string(b), "\x01auth=Bearer ")
				s.in = err == nil && strings.HasPrefix(string(b), "n,a="+s.login.User+",\x01") && shown == s.login.Token+"\x01\x01"
			} else {
				s.in = err == nil && string(b) == "\x00"+s.login.User+"\x00"+s.login.Password
			}
			if !s.in && token { // RFC 7628, 3.2.3
				if say("334 " + base64.StdEncoding.EncodeToString([]byte(`{"status":"invalid_token"}`))) {
					in.ReadString('\n') //nolint: whatever it is, nobody is let in
				}
			}
			if s.in {
				alive = say("235 come in")
			} else {
				alive = say("535 not let in")
			}
		case "MAIL", "RCPT":
			address := strings.Trim(argument[strings.IndexByte(argument, ':')+1:], "<> ")
			address, _, _ = strings.Cut(address, ">")
			switch {
			case s.login.User != "" && !s.in:
				alive = say("530 not let in")
			case command == "MAIL" && s.mails == mostMails:
				say("421 that is enough for one connection")
				return
			case command == "MAIL":
				s.mail = Message{From: address}
				alive = say("250 well")
			default:
				s.mail.To = append(s.mail.To, address)
				alive = say("250 well")
			}
		case "DATA":
			if alive = say("354 it comes"); alive {
				alive = s.data(in, say)
			}
		case "RSET", "NOOP":
			if s.idle++; s.idle-s.mails > mostIdle {
				say("421 too much that is no mail")
				return
			}
			if errors.Is(s.conn.do(Look, func() error { return nil }), errCut) {
				return
			}
			alive = say("250 well")
		case "QUIT":
			say("221 bye")
			return
		default:
			alive = say("502 not here")
		}
	}
}

// data takes the text of a mail.
func (s *smtpSession) data(in *bufio.Reader, say func(string) bool) bool {
	var text bytes.Buffer
	for {
		line, err := in.ReadBytes('\n')
		if err != nil {
			return false
		}
		if bytes.Equal(line, []byte(".\r\n")) {
			break
		}
		text.Write(bytes.TrimPrefix(line, []byte(".")))
	}
	s.mail.Content = text.Bytes()
	for line := range strings.SplitSeq(text.String(), "\r\n") {
		if id, is := strings.CutPrefix(line, "Message-ID: "); is {
			s.mail.Key = strings.Trim(id, "<>")
		}
	}
	var answer string
	if err := s.conn.do(Write, func() error { answer = s.box.put(s.mail); return nil }); errors.Is(err, errCut) {
		return false
	} else if err != nil {
		return say("452 it cannot be taken")
	}
	if answer == "" {
		answer = "250 taken"
	}
	s.mails++
	return say(answer)
}
