// Package standin holds small servers that stand in for those of partners: for trying routes, for the demo and for
// tests. They speak the real protocols on a loopback address, keep files in a folder, and misbehave by order.
package standin

import (
	"errors"
	"fmt"
	"io/fs"
	"net"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"
)

// What is asked of a server.
const (
	Connect = "connect"
	List    = "list"
	Look    = "look"
	Read    = "read"  // a file is opened for reading
	Write   = "write" // a file is opened for writing
	Rename  = "rename"
	Remove  = "remove"
	Make    = "make" // a folder is made
)

var operations = []string{Connect, List, Look, Read, Write, Rename, Remove, Make}

// What a server does instead of what is asked of it.
const (
	Refuse   = "refuse"    // it says that this is not allowed
	Full     = "full"      // it says that there is no space left
	Cut      = "cut"       // it breaks off the connection without doing it
	CutAfter = "cut after" // it does it, and breaks off the connection without an answer
	Late     = "late"      // it does it, but takes its time
	Stale    = "stale"     // it gives the list that it gave before (sftp and ftp)
)

// Fault is one thing that goes wrong.
type Fault struct {
	On    string        // what is asked
	Do    string        // what is done instead
	From  int64         // from which time on that it is asked, counted from 1
	Times int64         // how often; 0: always
	For   time.Duration // how late
}

// ParseFault reads a fault: what is done, at what, and from which time on how often, as in "cut after rename",
// "refuse write 3", "late 2s list", "full write 1 every".
func ParseFault(text string) (Fault, error) {
	f := Fault{From: 1, Times: 1}
	bad := fmt.Errorf("%q is not a fault such as \"cut after rename\", \"refuse write 3\", \"late 2s list\" or \"full write 1 every\"", text)
	words := strings.Fields(text)
	take := func() string {
		if len(words) == 0 {
			return ""
		}
		w := words[0]
		words = words[1:]
		return w
	}
	switch f.Do = take(); f.Do {
	case Refuse, Full, Stale:
	case Cut:
		if len(words) > 0 && words[0] == "after" {
			take()
			f.Do = CutAfter
		}
	case Late:
		var err error
		if f.For, err = time.ParseDuration(take()); err != nil {
			return f, bad
		}
	default:
		return f, bad
	}
	f.On = take()
	known := false
	for _, o := range operations {
		known = known || o == f.On
	}
	if !known {
		return f, fmt.Errorf("%w; what is asked is one of %s", bad, strings.Join(operations, ", "))
	}
	if n := take(); n != "" {
		var err error
		if f.From, err = strconv.ParseInt(n, 10, 64); err != nil || f.From < 1 {
			return f, bad
		}
	}
	if take() == "every" {
		f.Times = 0
	}
	if len(words) > 0 {
		return f, bad
	}
	if f.Do == Stale && f.On != List {
		return f, fmt.Errorf("%w; only a list can be stale", bad)
	}
	return f, nil
}

// Manners are how a server behaves. The zero value behaves well.
type Manners struct {
	mu     sync.Mutex
	faults []Fault
	asked  map[string]int64
	every  int64          // exchanges so far
	cutAt  int64          // at which of them the connection is broken off; 0: never
	anew   chan struct{}  // closed when the manners change
	after  bool           // after it was done
	lists  map[string]any // by folder, as they were given last
	bytes  atomic.Int64
	cut    atomic.Int64 // after how many bytes the connection is broken off; 0: never
}

// Misbehave makes something go wrong, counted from now on. What is late by an earlier fault is late no more.
func (m *Manners) Misbehave(faults ...Fault) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.anew != nil {
		close(m.anew)
	}
	m.anew = make(chan struct{})
	m.faults, m.asked = faults, map[string]int64{}
}

// CutBytes breaks off the connection once, after so many bytes from now on.
func (m *Manners) CutBytes(n int64) {
	m.bytes.Store(0)
	m.cut.Store(n)
}

// Bytes is how much has come and gone since CutBytes was called.
func (m *Manners) Bytes() int64 { return m.bytes.Load() }

// CutAt breaks off the connection once, at the n-th thing asked from now on: before it is done, or after.
func (m *Manners) CutAt(n int64, after bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.every, m.cutAt, m.after = 0, n, after
}

// Times is how often something has been asked since faults were last said.
func (m *Manners) Times(what string) int64 {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.asked[what]
}

// Asked is how much has been asked since CutAt was called.
func (m *Manners) Asked() int64 {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.every
}

// errCut says that the connection is broken off.
var errCut = errors.New("the connection is broken off")

// errStale says that a list is to be given as it was before.
var errStale = errors.New("it is listed as it was before")

// listed remembers the list of a folder that is given or, if a stale one is to be given, gives the one before. Is tells whether there is one.
func (m *Manners) listed(folder string, list any, err error) (_ any, is bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if errors.Is(err, errStale) {
		before, is := m.lists[folder]
		return before, is
	}
	if m.lists == nil {
		m.lists = map[string]any{}
	}
	if err == nil {
		m.lists[folder] = list
	}
	return list, err == nil
}

// next says what happens when something is asked: before it is done, and after.
func (m *Manners) next(what string) (before, after error) {
	m.mu.Lock()
	if m.asked == nil {
		m.asked = map[string]int64{}
	}
	m.asked[what]++
	n := m.asked[what]
	var wait time.Duration
	if m.every++; m.cutAt > 0 && m.every == m.cutAt {
		m.cutAt = 0
		if before = errCut; m.after {
			before, after = nil, errCut
		}
	}
	for _, f := range m.faults {
		if f.On != what || n < f.From || f.Times > 0 && n >= f.From+f.Times {
			continue
		}
		switch f.Do {
		case Refuse:
			before = fs.ErrPermission
		case Full:
			before = syscall.ENOSPC
		case Cut:
			before = errCut
		case CutAfter:
			after = errCut
		case Stale:
			before = errStale
		case Late:
			wait = f.For
		}
	}
	anew := m.anew
	m.mu.Unlock()
	if wait > 0 {
		select {
		case <-time.After(wait):
		case <-anew:
		}
	}
	return before, after
}

// conn is a connection of a client.
type conn struct {
	net.Conn
	manners *Manners
}

func (c *conn) count(n int) {
	all := c.manners.bytes.Add(int64(n))
	if at := c.manners.cut.Load(); at > 0 && all >= at && c.manners.cut.CompareAndSwap(at, 0) {
		c.Conn.Close() //nolint: that is what it is for
	}
}

func (c *conn) Read(b []byte) (int, error) {
	n, err := c.Conn.Read(b)
	c.count(n)
	return n, err
}

func (c *conn) Write(b []byte) (int, error) {
	n, err := c.Conn.Write(b)
	c.count(n)
	return n, err
}

// do does what is asked, as the server's manners are.
func (c *conn) do(what string, doing func() error) error {
	before, after := c.manners.next(what)
	err := before
	if err == nil {
		if err = doing(); after != nil {
			err = after
		}
	}
	if err == errCut {
		c.Close() //nolint: that is what it is for
	}
	return err
}

// server accepts connections.
type server struct {
	*Manners
	listener net.Listener
	mu       sync.Mutex
	open     map[net.Conn]bool
	closed   bool
	work     sync.WaitGroup
}

// serve listens on an address, such as 127.0.0.1:0.
func serve(address string, each func(c *conn)) (*server, error) {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, err
	}
	s := &server{Manners: &Manners{}, listener: l, open: map[net.Conn]bool{}}
	s.work.Go(func() {
		for {
			n, err := l.Accept()
			if err != nil {
				return
			}
			c := &conn{n, s.Manners}
			s.mu.Lock()
			if s.closed {
				n.Close() //nolint: nobody has spoken yet
			}
			s.open[n] = true
			s.mu.Unlock()
			s.work.Go(func() {
				defer func() {
					n.Close() //nolint: it is over
					s.mu.Lock()
					delete(s.open, n)
					s.mu.Unlock()
				}()
				if c.do(Connect, func() error { return nil }) == nil {
					each(c)
				}
			})
		}
	})
	return s, nil
}

// Address is the host and port that the server listens on.
func (s *server) Address() string { return s.listener.Addr().String() }

// Close ends the server and all connections.
func (s *server) Close() {
	s.listener.Close() //nolint: it is over
	s.Misbehave()
	s.mu.Lock()
	s.closed = true
	s.mu.Unlock()
	s.hangUp()
	s.work.Wait()
}

// hangUp ends all connections.
func (s *server) hangUp() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for c := range s.open {
		c.Close() //nolint: it is over
	}
}
