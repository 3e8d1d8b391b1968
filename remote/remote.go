// Package remote reaches places on other machines: servers on which files lie in folders.
//
// What a server can do differs. A Tree is what delivering and fetching need of it; each kind of server is one file
// of this package. Connections are lent: a place has so many at once, those that rest are used again, and one that
// does not answer for a while is broken off, whatever was asked.
package remote

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"runtime/debug"
	"sort"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"ydrion/core/mail"
	"ydrion/files"
	"ydrion/workspace"
)

// Info is what a server says of a file or a folder.
type Info struct {
	Name     string
	Size     int64
	Modified time.Time // by the server's clock, as exactly as it says it; zero if it does not
	Tag      string    // changes with the content (the ETag of HTTP); empty if the server has none
	Folder   bool
	Other    bool       // neither a file nor a folder: a link, a device
	Odd      string     // why nothing can be done with it: its name is a line of a list that cannot be understood, or a key that is no path
	Mail     *mail.Head // what a mail says of itself; nil: it is none
}

// Same tells whether nothing is known to have happened to a file in between. Where a server has tags, they tell: its lists and its
// answers need not agree on times.
func (i Info) Same(o Info) bool {
	return i.Size == o.Size && i.Tag == o.Tag && (i.Tag != "" || i.Modified.Equal(o.Modified))
}

// Tree is the files of a place, seen through one connection that one at a time uses, if it does not say more (Parallel). Paths begin with a slash and
// are below the place. What is not there is fs.ErrNotExist, what is in the way fs.ErrExist, what we may not do
// fs.ErrPermission. After any Away the connection is of no use.
type Tree interface {
	Conn
	// List gives what is in a folder, in no order.
	List(folder string) ([]Info, error)
	Look(path string) (Info, error)
	// Open reads a file from a byte on.
	Open(path string, from int64) (io.ReadCloser, error)
	// Write makes a file, or goes on with it at a byte: what it held from there on is replaced.
	Write(path string, from int64, content io.Reader) error
	// Move gives a file another name. It replaces nothing.
	Move(from, to string) error
	// Replace gives a file the name of another, which it replaces.
	Replace(from, to string) error
	Remove(path string) error
	// MakeFolder makes a folder whose parent is there. One that is there already is none the worse.
	MakeFolder(path string) error
	// Parallel is how much may be asked at once, for different files; 1: one after the other.
	Parallel() int
	// Resumes tells whether Write can go on with a file.
	Resumes() bool
	// Durable tells whether what was written stays written, whatever becomes of the server.
	Durable() bool
}

// Conn is a connection to a place.
type Conn interface {
	// Rest asks whether the connection still works.
	Rest() error
	// Break ends the connection at once, also while it is in use.
	Break()
}

// leaving is a connection that is taken leave of, as its protocol has it, when it rests and is not needed any more.
type leaving interface{ Leave() }

// leave ends a connection that rests.
func leave(c Conn) {
	if l, is := c.(leaving); is {
		late := time.AfterFunc(leaves, c.Break)
		l.Leave()
		late.Stop()
	}
	c.Break()
}

// leaves is how long taking leave may take.
const leaves = 2 * time.Second

// Exchange is a place that outputs are sent to one by one, with an answer to each. What cannot be sent is Away, what the
// receiver does not take Refused; if the answer is lost, the place is Away, and something was Sent.
type Exchange interface {
	Conn
	// Send sends an output and gives the receiver's answer in words.
	Send(s Sending) (receipt string, err error)
	// Repeats tells whether an output may be sent a second time whose answer was lost: the receiver knows it, or it does no harm.
	Repeats() bool
}

// Sending is an output that is sent.
type Sending struct {
	Folder  string // below the place
	Name    string
	Mark    string            // tells it from all others, and stays the same if it is sent again
	Size    int64             // bytes
	Said    map[string]string // what goes with it: of a mail to, cc, subject, text and html, or headers by their names in small letters behind "header "
	Bare    bool              // of a mail: the output is not attached
	Content func() (io.ReadCloser, error)
}

// Refused says that the receiver has answered, and does not take an output.
type Refused struct {
	Says  string
	Final bool // it will not take it the next time either
}

func (r *Refused) Error() string { return r.Says }

// Away says that a place cannot be worked with now: it does not answer, or does not let us in.
type Away struct {
	Place string
	Err   error
	Sent  bool // to an Exchange: it may have taken what was sent, although there was no answer
}

func (a *Away) Error() string { return fmt.Sprintf("%s %v", a.Place, a.Err) }
func (a *Away) Unwrap() error { return a.Err }

// IsAway tells whether an error says that a place is away.
func IsAway(err error) bool {
	var a *Away
	return errors.As(err, &a)
}

// Objects is a tree in which nothing is renamed: a file appears whole, or not at all. Move, Replace and Write are not
// for it.
type Objects interface {
	Tree
	// Put makes a file with so many bytes, which may be Parted. Mark is kept with it. What is there is fs.ErrExist, unless it is to be replaced.
	Put(path string, content io.Reader, size int64, mark string, replace bool) error
	// Tidy removes what a Put of this mark may have left beside a file, if the process ended in it.
	Tidy(path, mark string) error
	// Marked gives the mark of a file.
	Marked(path string) (string, error)
	// Discard removes a file that was just looked at.
	Discard(path string) error
}

// Parted is a content of which a server keeps the parts that it has, until the last one is there.
type Parted interface {
	// Upload is as what the server knows them, from an earlier try; empty: it has none.
	Upload() string
	// Begun records that before any is sent, or that the server has none any more (empty).
	Begun(upload string) error
}

// Snapshot is what a file was like whose content is read, whatever becomes of it meanwhile: what Open gives may have it.
type Snapshot interface{ Of() Info }

// Steady is a content of which its server can be asked, when it has been read to its end, whether the file is as it was when it was opened. Of
// what is not sure to be, nothing is said.
type Steady interface{ Still() bool }

// said puts an error into words: of the server, or of the connection.
func said(p *workspace.Place, w *watch, doing, path string, err error) error {
	switch {
	case err == nil:
		return nil
	case errors.Is(err, fs.ErrNotExist), errors.Is(err, fs.ErrExist), errors.Is(err, fs.ErrPermission):
		return fmt.Errorf("%s %s at %s: %w", doing, path, p.Name, kindOf(err))
	case w.late.Load():
		return &Away{Place: p.Name, Err: fmt.Errorf("has not answered for %s (%s %s)", p.Patience, doing, path)}
	}
	if !isBroken(err) {
		return &Away{Place: p.Name, Err: fmt.Errorf("gives an answer that cannot be understood (%s %s): %w", doing, path, err)}
	}
	return &Away{Place: p.Name, Err: fmt.Errorf("has broken off the connection (%s %s): %w", doing, path, plain(err))}
}

// isBroken tells whether an error is that of a connection.
func isBroken(err error) bool {
	var network net.Error
	for _, e := range []error{io.EOF, io.ErrUnexpectedEOF, net.ErrClosed, context.Canceled, syscall.EPIPE, syscall.ECONNRESET} {
		if errors.Is(err, e) {
			return true
		}
	}
	return errors.As(err, &network) || strings.Contains(err.Error(), "connection lost")
}

// refused is an answer of the server that something cannot be done.
func refused(p *workspace.Place, doing, path, says string) error {
	return fmt.Errorf("%s %s at %s: the server says %q", doing, path, p.Name, says)
}

// kindOf is the plain kind of an error.
func kindOf(err error) error {
	for _, k := range []error{fs.ErrNotExist, fs.ErrExist, fs.ErrPermission} {
		if errors.Is(err, k) {
			return k
		}
	}
	return err
}

// dial makes a connection to a place of a kind.
type dial func(ctx context.Context, p *workspace.Place) (Conn, error)

var kinds = map[string]dial{"sftp": dialSFTP, "webdav": dialWebDAV, "s3": dialS3, "ftp": dialFTP, "http": dialHTTP, "smtp": dialSMTP, "mllp": dialMLLP, "imap": dialIMAP}

// Places lends connections to the places of an environment.
type Places struct {
	by map[string]*site
}

// site is a place with its connections.
type site struct {
	workspace.Place
	turns chan struct{} // one for each connection that may be

	pages  pages  // of http
	honest honest // of s3
	// names are those that are being given at a server that cannot be asked to replace nothing (s3, ftp, some of sftp): it is looked first, and in between
	// nobody of this service gives the same.
	names files.Turns

	mu      sync.Mutex
	idle    []rested
	problem string // of the last try; empty: it worked
	since   time.Time
	reached time.Time
}

type rested struct {
	Conn
	since time.Time
}

// New makes the places of an environment that are on servers ready to be reached.
func New(e *workspace.Environment) *Places {
	out := &Places{by: map[string]*site{}}
	for name, p := range e.Places {
		if p.Kind != "" {
			out.by[name] = &site{Place: p, turns: make(chan struct{}, p.Connections)}
		}
	}
	return out
}

// Names are those of the places on servers, in order.
func (p *Places) Names() []string {
	var out []string
	for n := range p.by {
		out = append(out, n)
	}
	sort.Strings(out)
	return out
}

// Report is how a place does.
type Report struct {
	Place   workspace.Place
	Problem string    // why it cannot be worked with, by the last try; empty: it can, or nobody has tried
	Since   time.Time // of the problem
	Reached time.Time // when it last answered; zero: not yet
}

// Report tells how a place does.
func (p *Places) Report(name string) (Report, bool) {
	s, is := p.by[name]
	if !is {
		return Report{}, false
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	return Report{s.Place, s.problem, s.since, s.reached}, true
}

const (
	// restsFor is how long a connection that nobody uses is kept, and trusted how long it need not be asked whether it
	// still works.
	restsFor = time.Minute
	trusted  = time.Second
)

// With lends a connection to a place with files. It waits until there is one.
func (p *Places) With(ctx context.Context, name string, do func(Tree) error) error {
	return p.lend(ctx, name, func(c Conn) error {
		t, is := c.(Tree)
		if !is {
			return fmt.Errorf("%s has no files: outputs are sent to it one by one", name)
		}
		return do(t)
	})
}

// Exchange lends a connection to a place that outputs are sent to. It waits until there is one.
func (p *Places) Exchange(ctx context.Context, name string, do func(Exchange) error) error {
	return p.lend(ctx, name, func(c Conn) error {
		x, is := c.(Exchange)
		if !is {
			return fmt.Errorf("%s is a place with files", name)
		}
		return do(x)
	})
}

// Spread does something for each of n things of a place with files: on a connection that it waits for, and on up to so many in all as nobody else
// has now. It ends with the first error.
func (p *Places) Spread(ctx context.Context, name string, most, n int, do func(t Tree, i int) error) error {
	if n == 0 {
		return nil
	}
	working, stop := context.WithCancel(ctx)
	defer stop()
	var next atomic.Int64
	var first, defect atomic.Value
	var over atomic.Bool // something is wrong: nothing more is begun, though what is being done on the same connection goes on
	guarded := func(do func() error) (err error) {
		defer func() {
			if p := recover(); p != nil {
				defect.Store(fmt.Sprintf("%v\n%s", p, debug.Stack()))
				err = errDefect
			}
			if err != nil && first.CompareAndSwap(nil, &err) {
				stop()
			}
		}()
		return do()
	}
	work := func(c Conn) error {
		return guarded(func() error {
			t := c.(Tree)
			return Each(t, n, func(int) error {
				i := int(next.Add(1)) - 1
				if i >= n || over.Load() || working.Err() != nil {
					return nil
				}
				err := errDefect
				defer func() {
					if err != nil {
						over.Store(true)
					}
				}()
				err = do(t, i)
				return err
			})
		})
	}
	var others sync.WaitGroup
	err := p.With(working, name, func(t Tree) error {
		more, enough := context.WithCancel(working)
		defer enough() // all is done, or being done: nobody need be reached for it any more
		s := p.by[name]
		for range min(most, n) - 1 {
			select {
			case s.turns <- struct{}{}:
				others.Go(func() {
					defer func() { <-s.turns }()
					guarded(func() error { //nolint: the first error is kept
						c, err := s.connect(more)
						if err != nil {
							return nil // it goes on without
						}
						return s.use(working, c, work)
					})
				})
			default:
			}
		}
		return work(t)
	})
	others.Wait()
	if p := defect.Load(); p != nil {
		panic(p) // where whoever asked is supervised
	}
	if wrong, is := first.Load().(*error); is {
		return *wrong // by which the others were ended
	}
	return err
}

var errDefect = errors.New("a defect of this program")

func (p *Places) lend(ctx context.Context, name string, do func(Conn) error) error {
	s, is := p.by[name]
	if !is {
		return fmt.Errorf("the environment has no server %q", name)
	}
	if s.Receives {
		return fmt.Errorf("others send to %s; nothing is reached there", name)
	}
	select {
	case s.turns <- struct{}{}:
	case <-ctx.Done():
		return ctx.Err()
	}
	defer func() { <-s.turns }()
	c, err := s.connect(ctx)
	if err == nil {
		return s.use(ctx, c, do)
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	s.note(err)
	return err
}

// use does something with a connection, and keeps it for the next if it still works.
func (s *site) use(ctx context.Context, c Conn, do func(Conn) error) error {
	stop := context.AfterFunc(ctx, c.Break)
	err := do(c)
	if whole := stop(); whole && !IsAway(err) {
		s.rest(c)
	} else {
		c.Break()
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	s.note(err)
	return err
}

// note remembers how a try went.
func (s *site) note(err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if !IsAway(err) {
		s.problem, s.reached = "", time.Now()
		return
	}
	if s.problem == "" {
		s.since = time.Now()
	}
	s.problem = err.Error()
}

// connect takes a connection that rests, or makes one.
func (s *site) connect(ctx context.Context) (Conn, error) {
	for {
		s.mu.Lock()
		n := len(s.idle)
		if n == 0 {
			s.mu.Unlock()
			break
		}
		r := s.idle[n-1]
		s.idle = s.idle[:n-1]
		s.mu.Unlock()
		switch age := time.Since(r.since); {
		case age < trusted || age < restsFor && r.Rest() == nil:
			return r.Conn, nil
		case age >= restsFor:
			go leave(r.Conn)
		default:
			r.Break()
		}
	}
	made, err := kinds[s.Kind](ctx, &s.Place)
	if err != nil && ctx.Err() == nil {
		err = &Away{Place: s.Name, Err: err}
	}
	if err != nil {
		return nil, err
	}
	switch x := made.(type) {
	case *httpExchange:
		x.pages = &s.pages
	case *s3Tree:
		x.honest, x.names = &s.honest, &s.names
	case *ftpTree:
		x.names = &s.names
	case *sftpTree:
		x.names = &s.names
	}
	return made, nil
}

// rest keeps a connection for the next.
func (s *site) rest(t Conn) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.idle = append(s.idle, rested{t, time.Now()})
	for len(s.idle) > 0 && time.Since(s.idle[0].since) > restsFor {
		go leave(s.idle[0].Conn)
		s.idle = s.idle[1:]
	}
}

// Close ends all connections that rest.
func (p *Places) Close() {
	var all sync.WaitGroup
	for _, s := range p.by {
		s.mu.Lock()
		for _, r := range s.idle {
			all.Go(func() { leave(r.Conn) })
		}
		s.idle = nil
		s.mu.Unlock()
	}
	all.Wait()
}

// Secret reads what is secret: from a variable or a file, without the line end.
func Secret(s workspace.Secret) (string, error) {
	switch {
	case s.Variable != "":
		v, is := os.LookupEnv(s.Variable)
		if !is {
			return "", fmt.Errorf("cannot be reached: the variable %s, which should hold the password, is not set", s.Variable)
		}
		return v, nil
	case s.File != "":
		b, err := os.ReadFile(s.File)
		if err != nil {
			return "", fmt.Errorf("cannot be reached: what is secret cannot be read: %w", err)
		}
		return strings.TrimRight(string(b), "\r\n"), nil
	}
	return "", nil
}

// MakeFolders makes a folder with those above it, as far as they are missing.
func MakeFolders(t Tree, folder string) error {
	if folder == "/" || folder == "." {
		return nil
	}
	err := t.MakeFolder(folder)
	if errors.Is(err, fs.ErrNotExist) {
		if err = MakeFolders(t, filepath.Dir(folder)); err == nil {
			err = t.MakeFolder(folder)
		}
	}
	return err
}

// There tells whether there is something at a path.
func There(t Tree, path string) (bool, error) {
	_, err := t.Look(path)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	return err == nil, err
}

// Each does something for each of n things, as many at once as may be. It ends with the first error.
func Each(t Tree, n int, do func(i int) error) error {
	var mu sync.Mutex
	next := 0
	var away error
	var defect any
	var all sync.WaitGroup
	for range min(max(t.Parallel(), 1), n) {
		all.Go(func() {
			defer func() {
				if p := recover(); p != nil {
					mu.Lock()
					defect, away = p, errDefect
					mu.Unlock()
				}
			}()
			for {
				mu.Lock()
				i := next
				next++
				over := i >= n || away != nil
				mu.Unlock()
				if over {
					return
				}
				if err := do(i); err != nil {
					mu.Lock()
					if away == nil {
						away = err
					}
					mu.Unlock()
				}
			}
		})
	}
	all.Wait()
	if defect != nil {
		panic(defect) // where whoever asked is supervised
	}
	return away
}
