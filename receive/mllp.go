package receive

import (
	"bufio"
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"runtime/debug"
	"strings"
	"sync"
	"time"

	"ydrion/core/format/hl7"
)

// MLLP takes HL7 v2 messages in frames (MLLP, release 1) and acknowledges each.
type MLLP struct {
	Route       string
	Address     string
	Certificate *tls.Certificate // nil: not encrypted
	Clients     *x509.CertPool   // who vouches for senders, which then show certificates; nil: they need not
	Box         *Box
	Answers     *Answers
	Committed   bool          // a message is acknowledged when what became of it is committed; otherwise when it is stored
	Patience    time.Duration // how long that may take
	Largest     int64         // bytes of a message
	Most        int           // connections
	Log         *slog.Logger

	mu   sync.Mutex
	open map[*sender]bool
	over bool
}

// sender is a connection. Between messages it may rest as long as it likes, until another needs its place; a message that has
// begun has to get on.
type sender struct {
	net.Conn
	by    *MLLP
	begun time.Time // of the message that comes; zero: none does
	got   int64     // bytes of it
	rests time.Time // since when nothing has come; zero: something is under way
	ended bool      // to make room: what comes now is not taken, and not answered
}

// slowest is how fast a message has to come, in bytes a second, behind the first while (Patience).
const slowest = 8 << 10

// Read reads what comes, as long as it gets on.
func (s *sender) Read(b []byte) (int, error) {
	s.by.mu.Lock()
	until := time.Time{}
	if !s.begun.IsZero() {
		until = s.begun.Add(s.by.Patience + time.Duration(s.got/slowest)*time.Second)
	} else {
		s.rests = time.Now()
	}
	if s.by.over {
		until = time.Now()
	}
	err := s.Conn.SetReadDeadline(until)
	s.by.mu.Unlock()
	if err != nil {
		return 0, err
	}
	n, err := s.Conn.Read(b)
	s.by.mu.Lock()
	defer s.by.mu.Unlock()
	if s.ended {
		return 0, net.ErrClosed
	}
	if n > 0 {
		s.rests = time.Time{}
	}
	s.got += int64(n)
	return n, err
}

// comes says that a message begins to come, or has come.
func (s *sender) comes(begun time.Time) {
	s.by.mu.Lock()
	defer s.by.mu.Unlock()
	s.begun, s.got = begun, 0
}

// makeRoom ends the connection that has rested longest, if there is one that rests. The lock is held.
func (m *MLLP) makeRoom() bool {
	var longest *sender
	for s := range m.open {
		if !s.rests.IsZero() && time.Since(s.rests) > m.Patience && (longest == nil || s.rests.Before(longest.rests)) {
			longest = s
		}
	}
	if longest == nil {
		return false
	}
	m.Log.Info("a connection that rests is ended, for another", "route", m.Route, "from", longest.RemoteAddr().String(), "since", longest.rests)
	longest.ended = true
	go longest.Close() // its sender connects again; saying goodbye may take a while
	delete(m.open, longest)
	return true
}

// What frames are made of.
const (
	begins = 0x0B
	ends   = 0x1C
)

// Run takes messages until the context ends.
func (m *MLLP) Run(ctx context.Context) error {
	l, err := net.Listen("tcp", m.Address)
	if err != nil {
		return fmt.Errorf("messages cannot be taken on %s: %w", m.Address, err)
	}
	if m.Certificate != nil {
		settings := &tls.Config{Certificates: []tls.Certificate{*m.Certificate}}
		if m.Clients != nil {
			settings.ClientAuth, settings.ClientCAs = tls.RequireAndVerifyClientCert, m.Clients
		}
		l = tls.NewListener(l, settings)
	}
	m.mu.Lock()
	m.open, m.over = map[*sender]bool{}, false
	m.mu.Unlock()
	stop := context.AfterFunc(ctx, func() {
		l.Close() //nolint: it is over
		m.mu.Lock()
		defer m.mu.Unlock()
		m.over = true
		for c := range m.open {
			c.SetReadDeadline(time.Now()) //nolint: what is under way is answered
		}
	})
	defer stop()
	var all sync.WaitGroup
	defer all.Wait()
	for {
		c, err := l.Accept()
		if ctx.Err() != nil {
			return nil
		}
		if err != nil {
			return fmt.Errorf("messages cannot be taken on %s: %w", m.Address, err)
		}
		s := &sender{Conn: c, by: m, rests: time.Now()}
		m.mu.Lock()
		full := len(m.open) >= m.Most && !m.makeRoom()
		if !full {
			m.open[s] = true
		}
		m.mu.Unlock()
		all.Go(func() {
			defer func() {
				if p := recover(); p != nil {
					m.Log.Error("a defect of this program ends a connection; its sender was not answered", "route", m.Route, "panic", p, "stack", string(debug.Stack()))
				}
				m.mu.Lock()
				delete(m.open, s)
				m.mu.Unlock()
				c.Close() //nolint: its place is free when its sender sees that it is over
			}()
			if full {
				m.Log.Warn("a connection is refused: there are as many as may be", "route", m.Route, "from", c.RemoteAddr().String(), "connections", m.Most)
				return
			}
			m.serve(ctx, s)
		})
	}
}

// serve takes the messages of one sender.
func (m *MLLP) serve(ctx context.Context, c *sender) {
	in := bufio.NewReaderSize(c, 64<<10)
	for ctx.Err() == nil {
		message, err := m.read(in, c)
		var answer []byte
		switch {
		case errors.Is(err, ErrTooLarge):
			answer = acknowledge(message, "AR", err.Error())
		case err != nil:
			if !errors.Is(err, io.EOF) && ctx.Err() == nil {
				m.Log.Warn("a connection has ended in the middle of a message; its sender was not answered", "route", m.Route, "from", c.RemoteAddr().String(), "error", err)
			}
			return
		default:
			if answer = m.take(ctx, message); answer == nil {
				return // nobody can tell: the sender sends it again
			}
		}
		if len(answer) == 0 {
			continue // the sender wants none
		}
		if err := c.SetWriteDeadline(time.Now().Add(m.Patience)); err != nil {
			return
		}
		if _, err := c.Write(answer); err != nil {
			return
		}
	}
}

// read reads what is in the next frame. Of one that is too large it gives the beginning.
func (m *MLLP) read(in *bufio.Reader, from *sender) ([]byte, error) {
	for {
		b, err := in.ReadByte()
		if err != nil {
			return nil, io.EOF // between messages everybody may go
		}
		if b == begins {
			break
		}
	}
	from.comes(time.Now())
	defer from.comes(time.Time{})
	var out []byte
	large := false
	for {
		part, err := in.ReadSlice(ends)
		if large = large || int64(len(out)+len(part)) > m.Largest; !large {
			out = append(out, part...)
		}
		if err == nil {
			// The end of a frame is two characters: the first alone is a part of the message.
			next, err := in.Peek(1)
			if err != nil {
				return nil, broken(err)
			}
			if next[0] == '\r' {
				in.Discard(1) //nolint: it was there
				break
			}
			continue
		}
		if !errors.Is(err, bufio.ErrBufferFull) {
			return nil, broken(err)
		}
	}
	if large {
		return out[:min(len(out), 4096)], fmt.Errorf("%w: more than %d bytes", ErrTooLarge, m.Largest)
	}
	return out[:len(out)-1], nil
}

// broken says why a message has not come to its end.
func broken(err error) error {
	if errors.Is(err, os.ErrDeadlineExceeded) {
		return fmt.Errorf("it does not get on: %w", err)
	}
	return io.ErrUnexpectedEOF
}

// take stores a message and gives its acknowledgement; nil if none can be given, empty if none is wanted.
func (m *MLLP) take(ctx context.Context, message []byte) []byte {
	if !bytes.HasPrefix(message, []byte("MSH")) || len(message) < 9 {
		return acknowledge(message, "AR", "it is not a message: it does not begin with MSH")
	}
	name := Name(".hl7")
	heard, over := m.Answers.Expect(m.Route, name)
	defer over()
	if _, err := m.Box.Put(name, bytes.NewReader(message), m.Largest, func(as string) bool { return as == name }); err != nil {
		m.Log.Error("a message cannot be stored", "route", m.Route, "error", err)
		return acknowledge(message, "AE", "it cannot be stored now; send it again")
	}
	if !m.Committed {
		return acknowledge(message, "AA", "")
	}
	waiting, end := context.WithTimeout(context.WithoutCancel(ctx), m.Patience)
	defer end()
	switch o := Until(waiting, heard, true); {
	case o.State == "rejected":
		return acknowledge(message, "AE", strings.TrimSpace(o.Reason))
	case o.Safe():
		return acknowledge(message, "AA", "")
	default:
		m.Log.Warn("a message is stored and could not be committed in time; its sender was not answered", "route", m.Route, "file", name, "state", o.State, "reason", o.Reason)
		return nil
	}
}

// wanted is the code with which a message is acknowledged, as it asks for an accept acknowledgement (MSH-15) and for one of the
// application (MSH-16; HL7 Version 2, chapter 2, enhanced mode and table 0155); empty: it wants none. There is one answer: who wants
// both gets the first.
func wanted(accept, application, code string) string {
	on := func(when string) bool {
		switch when {
		case "", "NE":
			return false
		case "SU":
			return code == "AA"
		case "ER":
			return code != "AA"
		}
		return true
	}
	switch {
	case accept == "" && application == "", !on(accept) && on(application):
		return code
	case on(accept):
		return "C" + code[1:]
	}
	return ""
}

// acknowledge makes an acknowledgement (HL7 Version 2, chapter 2, ACK) in a frame, with the separators of the message that it is
// about; an empty one if it wants none.
func acknowledge(message []byte, code, says string) []byte {
	header := hl7.Header(message)
	field := func(n int) string { // MSH-n
		if n-1 < len(header) {
			return string(header[n-1])
		}
		return ""
	}
	separator, encoding := "|", `^~\&`
	if header != nil {
		separator, encoding = field(1), field(2)
	}
	if code = wanted(field(15), field(16), code); code == "" {
		return []byte{}
	}
	kind := "ACK"
	component := "^"
	if encoding != "" {
		component = encoding[:1]
	}
	if parts := strings.Split(field(9), component); len(parts) > 1 {
		if kind += component + parts[1]; len(parts) > 2 {
			kind += component + "ACK"
		}
	}
	head := []string{"MSH", encoding, field(5), field(6), field(3), field(4), time.Now().Format("20060102150405-0700"), "", kind, Name(""), field(11), field(12)}
	if field(18) != "" { // the names are written in it
		head = append(head, "", "", "", "", "", field(18))
	}
	unicode := strings.Contains(field(18), "UTF-8")
	out := []string{strings.Join(head, separator), strings.Join([]string{"MSA", code, field(10)}, separator)}
	if says != "" {
		out[1] += separator + plain(says, separator+encoding, unicode)
	}
	return []byte("\x0B" + strings.Join(out, "\r") + "\r\x1C\r")
}

// plain leaves out of a sentence what would be structure and, where characters beyond ASCII are not those that the sender says he has (MSH-18),
// what he could not read.
func plain(says, structure string, unicode bool) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r < ' ' || strings.ContainsRune(structure, r):
			return ' '
		case r > '~' && !unicode:
			return '?'
		}
		return r
	}, says)
}
