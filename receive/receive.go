// Package receive takes what others send to us: it stores it in a folder that is listened to, from where it goes on like
// any file, and answers when that is safe.
package receive

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"ydrion/deliver"
	"ydrion/files"
)

// Box is where what comes for a route is stored.
type Box struct {
	FS     files.FS
	Folder string // that is listened to
	Mark   string // of the installation and the node, in hidden names
	// Later says that nobody is answered before the commit, which makes what came durable: it need not be before.
	Later bool
}

var number atomic.Int64

// received begins the names of what is coming.
const received = "received-"

// ErrTooLarge says that something is larger than may be.
var ErrTooLarge = errors.New("it is larger than may be")

// Put stores something durably (unless that comes Later) under a name, or with a number if that is taken, and gives the name. Most is how many bytes
// there may be. Before is told each name before it is tried, so that
// whoever waits for what becomes of it waits before anybody can take it; it may refuse one.
func (b *Box) Put(name string, content io.Reader, most int64, before func(as string) bool) (string, error) {
	hidden := filepath.Join(b.Folder, files.Hidden)
	at := filepath.Join(hidden, fmt.Sprintf("%s%s-%d-%d", received, b.Mark, time.Now().UnixNano(), number.Add(1)))
	f, err := b.FS.Create(at, 0o600)
	if errors.Is(err, fs.ErrNotExist) {
		if err = b.FS.MakeFolder(hidden, 0o700); err == nil {
			f, err = b.FS.Create(at, 0o600)
		}
	}
	if err != nil {
		return "", err
	}
	if text, is := content.(*bytes.Reader); !is || int64(text.Len()) > most {
		content = io.LimitReader(content, most+1)
	}
	n, err := io.Copy(f, content)
	if err == nil && n > most {
		err = fmt.Errorf("%w: more than %d bytes", ErrTooLarge, most)
	}
	if err == nil && !b.Later {
		err = f.Sync()
	}
	if err := errors.Join(err, f.Close()); err != nil {
		return "", errors.Join(err, b.FS.Remove(at))
	}
	as := name
	err = deliver.Number(name, files.There(b.FS, b.Folder), func(free string) (taken bool, err error) {
		if as = free; !before(as) {
			return true, nil
		}
		if err = b.FS.Move(at, filepath.Join(b.Folder, as)); errors.Is(err, fs.ErrExist) {
			return true, nil
		}
		return false, err
	})
	if err != nil {
		return "", errors.Join(err, b.FS.Remove(at))
	}
	if b.Later {
		return as, nil
	}
	return as, b.FS.SyncFolder(b.Folder)
}

// Bounded reads at most so many bytes; more are ErrTooLarge.
func Bounded(in io.Reader, most int64) io.Reader { return &bounded{in, most} }

type bounded struct {
	io.Reader
	left int64
}

func (b *bounded) Read(into []byte) (int, error) {
	n, err := b.Reader.Read(into)
	if b.left -= int64(n); b.left < 0 {
		return 0, ErrTooLarge
	}
	return n, err
}

// Sweep removes what came in part and was never whole, a day after it came.
func (b *Box) Sweep() error {
	hidden := filepath.Join(b.Folder, files.Hidden)
	entries, err := b.FS.List(hidden)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	for _, e := range entries {
		if strings.HasPrefix(e.Name, received) && time.Since(e.Modified) > 24*time.Hour {
			err = errors.Join(err, b.FS.Remove(filepath.Join(hidden, e.Name)))
		}
	}
	return err
}

// Name makes a name that nothing else has, with an ending.
func Name(ending string) string {
	return fmt.Sprintf("%s-%06d%s", time.Now().UTC().Format("20060102-150405.000000"), number.Add(1)%1_000_000, ending)
}

// GoodName is the name that somebody gave, as a file can be called here; empty if it cannot.
func GoodName(given string) string {
	name := filepath.Base(filepath.FromSlash(strings.ReplaceAll(given, "\\", "/")))
	if name == "." || name == "/" || strings.HasPrefix(name, ".") || len(name) > 200 || strings.ContainsAny(name, "\x00\r\n") {
		return ""
	}
	return name
}

// Outcome is what has become of something that came.
type Outcome struct {
	Pickup int64
	State  string // taken, committed, delivered, rejected, held, ...
	Reason string
	Output *deliver.Made // that was made of it first, if the route answers with that; nil: it does not, or nothing was made
}

// Safe tells whether it can be answered for.
func (o *Outcome) Safe() bool {
	return o.State == "committed" || o.State == "delivered" || o.State == "rejected" || o.State == "set aside"
}

// Answers brings what has become of things to those who wait for it.
type Answers struct {
	mu      sync.Mutex
	waiting map[string]chan Outcome // by route and name
}

// Expect begins to wait for what becomes of a file of a route; the function ends that. It is nil if somebody else waits for one of the
// name.
func (a *Answers) Expect(route, name string) (<-chan Outcome, func()) {
	key := route + "/" + name
	c := make(chan Outcome, 8)
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.waiting == nil {
		a.waiting = map[string]chan Outcome{}
	}
	if a.waiting[key] != nil {
		return nil, nil
	}
	a.waiting[key] = c
	return c, func() {
		a.mu.Lock()
		defer a.mu.Unlock()
		delete(a.waiting, key)
		for {
			select {
			case o := <-c:
				if o.Output != nil {
					o.Output.Content.Close() //nolint: nobody reads it
				}
			default:
				return
			}
		}
	}
}

// Tell says what has become of a file of a route.
func (a *Answers) Tell(route, name string, o Outcome) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if c := a.waiting[route+"/"+name]; c != nil {
		select {
		case c <- o:
			return
		default: // whoever waits has enough to read
		}
	}
	if o.Output != nil {
		o.Output.Content.Close() //nolint: nobody reads it
	}
}

// Until waits until what came is taken (its number is known then) or, with safe, until it can be answered for or cannot go
// on. The last outcome that was heard of is given when the context ends.
func Until(ctx context.Context, heard <-chan Outcome, safe bool) (last Outcome) {
	for {
		select {
		case o := <-heard:
			if o.Pickup == 0 {
				o.Pickup = last.Pickup
			}
			last = o
			if !safe || o.Safe() || o.State == "held" || o.State == "uncertain" {
				return last
			}
		case <-ctx.Done():
			return last
		}
	}
}
