package remote

import (
	"net"
	"sync/atomic"
	"time"
)

// patient is a connection that is broken off when something was asked and nothing has come or gone for a while. What
// rests is left alone.
type patient struct {
	net.Conn
	patience time.Duration
	asked    atomic.Int64 // how many answers are waited for
	moved    atomic.Int64 // when something last came or went, in nanoseconds
	timer    *time.Timer
	late     atomic.Bool
}

func newPatient(c net.Conn, patience time.Duration) *patient {
	p := &patient{Conn: c, patience: patience}
	p.timer = time.AfterFunc(time.Hour, p.look)
	p.timer.Stop()
	return p
}

// ask says that an answer is waited for until the function that it gives is called.
func (p *patient) ask() func() {
	p.moved.Store(time.Now().UnixNano())
	if p.asked.Add(1) == 1 {
		p.timer.Reset(p.patience)
	}
	return func() {
		if p.asked.Add(-1) == 0 {
			p.timer.Stop()
		}
	}
}

func (p *patient) look() {
	if p.asked.Load() == 0 {
		return
	}
	if left := p.patience - time.Duration(time.Now().UnixNano()-p.moved.Load()); left > 0 {
		p.timer.Reset(left)
		return
	}
	p.late.Store(true)
	p.Close() //nolint: it is given up
}

func (p *patient) Read(b []byte) (int, error) {
	n, err := p.Conn.Read(b)
	if n > 0 {
		p.moved.Store(time.Now().UnixNano())
	}
	return n, err
}

func (p *patient) Write(b []byte) (int, error) {
	n, err := p.Conn.Write(b)
	if n > 0 {
		p.moved.Store(time.Now().UnixNano())
	}
	return n, err
}
