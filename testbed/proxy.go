package testbed

import (
	"io"
	"net"
	"net/url"
	"sync"
	"testing"
)

// Proxy stands between a service and its database and cuts all connections at a
// chosen exchange: before the service's words are passed on, or after they were
// and the answer is lost.
type Proxy struct {
	URL    string
	server string

	mu       sync.Mutex
	conns    map[net.Conn]bool
	left     int // exchanges until the cut; 0: none is wanted
	after    bool
	die      bool // nothing passes after the cut
	reached  bool
	lostNext net.Conn // the connection whose next answer is lost
	silent   map[net.Conn]bool
	mute     bool // new connections are silent too
	speaks   *sync.Cond
}

// NewProxy stands in for a database.
func NewProxy(t testing.TB, database string) *Proxy {
	t.Helper()
	u, err := url.Parse(database)
	if err != nil {
		t.Fatal(err)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	p := &Proxy{server: u.Host, conns: map[net.Conn]bool{}, silent: map[net.Conn]bool{}}
	p.speaks = sync.NewCond(&p.mu)
	u.Host = l.Addr().String()
	p.URL = u.String()
	t.Cleanup(func() { l.Close(); p.Cut(); p.Speak() })
	go func() {
		for {
			client, err := l.Accept()
			if err != nil {
				return
			}
			go p.serve(client)
		}
	}()
	return p
}

// CutAt arms the proxy for the k-th exchange from now: before it reaches the
// database or after.
func (p *Proxy) CutAt(k int, after bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.left, p.after, p.die, p.reached, p.lostNext = k, after, false, false, nil
}

// DieAt is CutAt after which nothing passes any more: what the database sees when
// the service dies.
func (p *Proxy) DieAt(k int, after bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.left, p.after, p.die, p.reached = k, after, true, false
}

// Reached tells whether the exchange has come.
func (p *Proxy) Reached() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.reached
}

// Silence lets nothing pass on the connections that there are: neither side is told,
// and what is said waits. With all, new ones are silent too.
func (p *Proxy) Silence(all bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.mute = all
	for c := range p.conns {
		p.silent[c] = true
	}
}

// Speak lets everything pass again, what has been said meanwhile first.
func (p *Proxy) Speak() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.mute = false
	clear(p.silent)
	p.speaks.Broadcast()
}

// waits keeps what comes from a connection while that is silent.
func (p *Proxy) waits(from net.Conn) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for p.silent[from] {
		p.speaks.Wait()
	}
}

// Cut ends all connections.
func (p *Proxy) Cut() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.cut()
}

func (p *Proxy) cut() {
	for c := range p.conns {
		c.Close()
		delete(p.conns, c)
	}
	p.lostNext = nil
}

func (p *Proxy) serve(client net.Conn) {
	server, err := net.Dial("tcp", p.server)
	if err != nil {
		client.Close()
		return
	}
	p.mu.Lock()
	p.conns[client], p.conns[server] = true, true
	if p.mute {
		p.silent[client], p.silent[server] = true, true
	}
	p.mu.Unlock()
	go p.pass(client, server, p.asks)
	p.pass(server, client, p.answers)
	p.mu.Lock()
	delete(p.conns, client)
	delete(p.conns, server)
	p.mu.Unlock()
	client.Close()
	server.Close()
}

// pass hands what comes from one side to the other while it may.
func (p *Proxy) pass(from, to net.Conn, may func(server net.Conn) bool) {
	buf := make([]byte, 64<<10)
	for {
		n, err := from.Read(buf)
		p.waits(from)
		if n > 0 {
			server := to
			if may != nil && !may(server) {
				return
			}
			if _, err := to.Write(buf[:n]); err != nil {
				return
			}
		}
		if err == io.EOF || err != nil {
			return
		}
	}
}

// asks counts what the service says, and cuts when its turn has come.
func (p *Proxy) asks(server net.Conn) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.die && p.reached {
		p.cut()
		return false
	}
	if p.left == 0 {
		return true
	}
	if p.left--; p.left > 0 {
		return true
	}
	p.reached = true
	if p.after {
		p.lostNext = server
		return true
	}
	p.cut()
	return false
}

// answers loses the answer of the chosen exchange, and everything else.
func (p *Proxy) answers(net.Conn) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.lostNext != nil {
		p.cut()
		return false
	}
	return true
}
