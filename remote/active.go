package remote

import (
	"bufio"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"time"

	"ydrion/workspace"
)

// active is the connection for commands to a server of FTP that connects to us for data (RFC 959, 3.3 and RFC 2428). The client library only knows servers that wait
// for data connections: where it asks for that, the server is asked to connect, and what it answers is put into the words that are expected.
type active struct {
	net.Conn
	place *workspace.Place
	watch *watch
	in    *bufio.Reader
	held  []byte       // of answers, which has not been read yet
	asked bool         // the next answer is about a data connection
	waits net.Listener // for that
	taken bool         // the last answer says that data comes or may come
}

// newActive begins with what the server has said already.
func newActive(c net.Conn, p *workspace.Place, w *watch, said string) *active {
	return &active{Conn: c, place: p, watch: w, in: bufio.NewReader(c), held: []byte(said)}
}

func (a *active) Write(b []byte) (int, error) {
	if command := string(b); command != "EPSV\r\n" && command != "PASV\r\n" {
		return a.Conn.Write(b)
	}
	if err := a.listen(); err != nil {
		return 0, err
	}
	to := a.waits.Addr().(*net.TCPAddr)
	ip := to.IP
	if a.place.DataAddress != nil {
		ip = a.place.DataAddress
	}
	command := fmt.Sprintf("EPRT |2|%s|%d|\r\n", ip, to.Port)
	if four := ip.To4(); four != nil {
		command = fmt.Sprintf("PORT %d,%d,%d,%d,%d,%d\r\n", four[0], four[1], four[2], four[3], to.Port/256, to.Port%256)
	}
	if _, err := io.WriteString(a.Conn, command); err != nil {
		return 0, err
	}
	a.asked = true
	return len(b), nil
}

// listen waits at the address of the connection for commands, at one of the ports that there are.
func (a *active) listen() error {
	a.done()
	at := a.Conn.LocalAddr().(*net.TCPAddr)
	if a.place.DataPorts[0] == 0 {
		var err error
		a.waits, err = net.ListenTCP("tcp", &net.TCPAddr{IP: at.IP})
		return err
	}
	err := errors.New("there are no ports")
	for port := a.place.DataPorts[0]; port <= a.place.DataPorts[1]; port++ {
		var l net.Listener
		if l, err = net.ListenTCP("tcp", &net.TCPAddr{IP: at.IP, Port: port}); err == nil {
			a.waits = l
			return nil
		}
	}
	return &noData{fmt.Sprintf("cannot connect to us for data: none of the ports %d to %d is free here (%v)", a.place.DataPorts[0], a.place.DataPorts[1], err)}
}

// noData says that there is no data connection.
type noData struct{ says string }

func (e *noData) Error() string { return e.says }

// done ends waiting.
func (a *active) done() {
	if a.waits != nil {
		a.waits.Close() //nolint: it was to wait
		a.waits = nil
	}
}

func (a *active) Read(b []byte) (int, error) {
	if len(a.held) == 0 {
		answer, err := readAnswer(a.in)
		if err != nil {
			return 0, err
		}
		a.taken = answer[0] == '1'
		if a.asked && answer[0] == '2' {
			answer = fmt.Sprintf("229 it connects (|||%d|)\r\n", a.waits.Addr().(*net.TCPAddr).Port)
		}
		a.asked, a.held = false, []byte(answer)
	}
	n := copy(b, a.held)
	a.held = a.held[n:]
	return n, nil
}

func (a *active) Close() error {
	a.done()
	return a.Conn.Close()
}

// readAnswer reads an answer with all its lines (RFC 959, 4.2).
func readAnswer(in *bufio.Reader) (answer string, err error) {
	last := ""
	for {
		line, err := in.ReadString('\n')
		if err != nil {
			return "", err
		}
		if answer += line; len(answer) > 1<<20 {
			return "", errors.New("an answer of more than a megabyte")
		}
		switch {
		case last == "" && len(line) > 4 && line[3] == '-':
			last = line[:3] + " "
		case last == "", strings.HasPrefix(line, last):
			return answer, nil
		}
	}
}

// encrypt asks for encryption (RFC 4217, 4), and gives what the server said before.
func encrypt(c net.Conn, how *tls.Config) (net.Conn, string, error) {
	in := bufio.NewReader(c)
	said, err := readAnswer(in)
	if err != nil || said[0] != '2' {
		return c, said, err
	}
	if _, err := io.WriteString(c, "AUTH TLS\r\n"); err != nil {
		return nil, "", err
	}
	answer, err := readAnswer(in)
	if err == nil && !strings.HasPrefix(answer, "234") {
		err = fmt.Errorf("it does not encrypt: it says %q", strings.TrimSpace(answer))
	}
	if err == nil && in.Buffered() > 0 {
		err = errors.New("it says something that is not encrypted behind that")
	}
	return tls.Client(c, how), said, err
}

// data is the next data connection. The server makes it when it is told what for.
func (a *active) data(encrypted *tls.Config, sends bool) (net.Conn, error) {
	l := a.waits
	if a.waits = nil; l == nil {
		return nil, errors.New("no data connection was asked for")
	}
	return &incoming{listener: l, from: a.Conn.RemoteAddr().(*net.TCPAddr).IP, by: a, encrypted: encrypted, sends: sends}, nil
}

// incoming is a connection that the server makes, when something is read or written.
type incoming struct {
	listener  net.Listener
	from      net.IP
	by        *active
	encrypted *tls.Config
	sends     bool

	once sync.Once
	conn net.Conn
	err  error
}

// accept waits for the server. Who else connects is not listened to.
func (i *incoming) accept() (net.Conn, error) {
	i.once.Do(func() {
		defer i.listener.Close()                                                                //nolint: nobody else is waited for
		i.listener.(*net.TCPListener).SetDeadline(time.Now().Add(i.by.place.Patience * 9 / 10)) //nolint: a listener of TCP has one
		for {
			c, err := i.listener.Accept()
			if err != nil {
				i.err = &noData{fmt.Sprintf("has not connected to us for data within %s: whatever stands between must let it through, or `data connections` be passive", i.by.place.Patience)}
				return
			}
			if !c.RemoteAddr().(*net.TCPAddr).IP.Equal(i.from) {
				c.Close() //nolint: it is not wanted
				continue
			}
			if i.conn, i.err = i.by.watch.take(c); i.err != nil {
				return
			}
			if i.encrypted != nil {
				if i.sends {
					i.conn = &parting{Conn: i.conn}
				}
				i.conn = tls.Client(i.conn, i.encrypted)
			}
			return
		}
	})
	return i.conn, i.err
}

func (i *incoming) Read(b []byte) (int, error) {
	c, err := i.accept()
	if err != nil {
		return 0, err
	}
	return c.Read(b)
}

func (i *incoming) Write(b []byte) (int, error) {
	c, err := i.accept()
	if err != nil {
		return 0, err
	}
	return c.Write(b)
}

// Close ends the connection. For a file with nothing in it, it is made first, if the server takes one.
func (i *incoming) Close() error {
	if !i.by.taken {
		i.once.Do(func() { i.err = i.listener.Close() })
	}
	c, err := i.accept()
	if c == nil {
		return err
	}
	if over, is := c.(*tls.Conn); is {
		if err := over.HandshakeContext(context.Background()); err != nil {
			return errors.Join(err, c.Close())
		}
	}
	return c.Close()
}

func (i *incoming) LocalAddr() net.Addr                { return i.listener.Addr() }
func (i *incoming) RemoteAddr() net.Addr               { return i.by.Conn.RemoteAddr() }
func (i *incoming) SetDeadline(t time.Time) error      { return nil } // the watch sees to it
func (i *incoming) SetReadDeadline(t time.Time) error  { return nil }
func (i *incoming) SetWriteDeadline(t time.Time) error { return nil }
