package remote

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/textproto"
	"path"
	"strings"

	"github.com/jlaffaye/ftp"

	"ydrion/files"
	"ydrion/workspace"
)

// ftpTree is a place reached by FTP (RFC 959, 2428, 3659), with or without TLS (RFC 4217). The server is asked to wait for data connections
// (passive), unless the place says that it is to connect (active).
type ftpTree struct {
	place *workspace.Place
	base  string
	watch *watch
	names *files.Turns
	conn  *ftp.ServerConn
	sends bool          // the next data connection is for a file that goes there
	hears *bytes.Buffer // takes what comes by the next data connection; nil: nothing does
}

func dialFTP(ctx context.Context, p *workspace.Place) (Conn, error) {
	word, err := Secret(p.Password)
	if err != nil {
		return nil, err
	}
	t, err := dialFTPWith(ctx, p, word)
	if err != nil || t.conn.IsTimePreciseInList() {
		return t, err
	}
	// An old server, without lists for machines: hidden files have to be asked for.
	t.Break()
	return dialFTPWith(ctx, p, word, ftp.DialWithForceListHidden(true))
}

func dialFTPWith(ctx context.Context, p *workspace.Place, word string, more ...ftp.DialOption) (*ftpTree, error) {
	t := &ftpTree{place: p, base: p.Address.Path, watch: newWatch(p.Patience), names: &files.Turns{}}
	options := append(more, ftp.DialWithContext(ctx), ftp.DialWithLocation(p.Zone))
	var err error
	var encrypted *tls.Config
	if p.TLS != "none" {
		if encrypted, err = trust(p); err != nil {
			return nil, err
		}
		// Servers may want the session of the one connection to be that of the others.
		encrypted.ClientSessionCache = tls.NewLRUClientSessionCache(4)
	}
	switch {
	case p.TLS == "explicit" && !p.Active:
		options = append(options, ftp.DialWithExplicitTLS(encrypted))
	case p.TLS != "none": // data connections are encrypted when that is asked for, there too (RFC 4217, 9)
		options = append(options, ftp.DialWithTLS(encrypted))
	}
	first := true // the connection for commands
	var bad error
	var commands *active
	options = append(options, ftp.DialWithDialFunc(func(network, address string) (net.Conn, error) {
		if commands != nil {
			c, err := commands.data(encrypted, t.sends)
			if err == nil && t.hears != nil {
				c = &heard{c, t.hears}
			}
			return c, err
		}
		c, err := t.watch.dial(context.Background(), network, address)
		if err == nil && p.Active {
			said := ""
			switch p.TLS {
			case "explicit":
				c, said, err = encrypt(c, encrypted)
			case "implicit":
				c = tls.Client(c, encrypted)
			}
			if err != nil {
				return nil, err
			}
			commands = newActive(c, p, t.watch, said)
			return commands, nil
		}
		plainly := encrypted == nil || first && p.TLS == "explicit"
		first = false
		if err == nil && encrypted != nil && t.sends {
			c = &parting{Conn: c}
		}
		if err == nil && !plainly {
			c = tls.Client(c, encrypted)
		}
		if err == nil && t.hears != nil {
			c = &heard{c, t.hears}
		}
		return c, err
	}))
	stop := context.AfterFunc(ctx, t.Break)
	defer stop()
	defer t.watch.ask()()
	if t.conn, bad = ftp.Dial(p.Port(), options...); bad == nil {
		if bad = t.conn.Login(or(p.User, "anonymous"), word); bad != nil {
			var says *textproto.Error
			if errors.As(bad, &says) && says.Code == ftp.StatusNotLoggedIn {
				bad = fmt.Errorf("does not let %s in: the server refuses the password", or(p.User, "anybody"))
			} else if errors.As(bad, &says) {
				bad = fmt.Errorf("does not let %s in: the server says %q", or(p.User, "anybody"), says.Msg)
			}
		}
	} else {
		var says *textproto.Error
		switch wrong := distrusted(bad); {
		case wrong != nil:
			bad = wrong
		case errors.As(bad, &says):
			bad = fmt.Errorf("does not let us in: the server says %q", says.Msg)
		case t.watch.late.Load():
			bad = fmt.Errorf("does not answer at %s within %s", p.Port(), p.Patience)
		default:
			bad = fmt.Errorf("does not answer at %s: %w", p.Port(), plain(bad))
		}
	}
	if bad != nil {
		t.Break()
		return nil, bad
	}
	return t, nil
}

// parting is an encrypted connection over which a file has been sent. The server may have said something that nobody reads here (TLS 1.3
// gives tickets at any time). A connection that is closed then is reset, and what is still on its way to the server is lost.
type parting struct {
	net.Conn
	used bool // otherwise the server has refused to take anything, and may never look at it
}

func (c *parting) Write(b []byte) (int, error) {
	c.used = true
	return c.Conn.Write(b)
}

// Close says that nothing more comes, and waits until the server is done, too.
func (c *parting) Close() error {
	if half, is := c.Conn.(interface{ CloseWrite() error }); is && c.used && half.CloseWrite() == nil {
		io.Copy(io.Discard, c.Conn) //nolint: whoever is late is found by the watch
	}
	return c.Conn.Close()
}

func (t *ftpTree) at(p string) string { return path.Join("/", t.base, p) }

// said puts an error into words. The protocol has one number for what is not there, what is in the way and what one may
// not do: missing is asked where it matters.
func (t *ftpTree) said(doing, p string, err error, missing func() bool) error {
	var without *noData
	if errors.As(err, &without) {
		return &Away{Place: t.place.Name, Err: without}
	}
	var says *textproto.Error
	if errors.As(err, &says) {
		switch {
		case (says.Code == ftp.StatusFileUnavailable || says.Code == ftp.StatusBadFileName) && missing != nil && missing():
			err = fs.ErrNotExist
		case says.Code == ftp.StatusFileUnavailable || says.Code == ftp.StatusBadFileName || says.Code == ftp.StatusNotLoggedIn:
			err = fs.ErrPermission
		case says.Code == ftp.StatusTransfertAborted: // the connection of a file, not that of the conversation
			return &Away{Place: t.place.Name, Err: fmt.Errorf("has broken off the connection (%s %s): %q", doing, p, says.Msg)}
		case says.Code == ftp.StatusNotAvailable:
			return &Away{Place: t.place.Name, Err: fmt.Errorf("ends the connection: %q", says.Msg)}
		default:
			return refused(t.place, doing, p, fmt.Sprintf("%d %s", says.Code, says.Msg))
		}
	}
	return said(t.place, t.watch, doing, p, err)
}

func (t *ftpTree) ofEntry(e *ftp.Entry, name string) Info {
	return Info{Name: name, Size: int64(e.Size), Modified: e.Time.UTC(), Folder: e.Type == ftp.EntryTypeFolder, Other: e.Type == ftp.EntryTypeLink}
}

// heard keeps what is read.
type heard struct {
	net.Conn
	all *bytes.Buffer
}

func (c *heard) Read(b []byte) (int, error) {
	n, err := c.Conn.Read(b)
	c.all.Write(b[:n])
	return n, err
}

// notUnderstood gives the lines of a list for which there is no entry: there are as many forms of lists as there are old servers.
func notUnderstood(list string, entries []*ftp.Entry) (lines []string) {
	for line := range strings.Lines(list) {
		line = strings.TrimRight(line, "\r\n")
		words := strings.Fields(line)
		switch {
		case len(entries) > 0 && (strings.HasSuffix(line, entries[0].Name) || strings.HasSuffix(line, entries[0].Name+" -> "+entries[0].Target)):
			entries = entries[1:]
		case len(words) == 0, len(words) == 2 && strings.Trim(words[1], "0123456789") == "": // "total 12"
		default:
			lines = append(lines, line)
		}
	}
	return lines
}

// list asks for what is in a folder. Old servers may take a path for a pattern, or for several: then they are asked there.
func (t *ftpTree) list(folder string) ([]*ftp.Entry, error) {
	if t.conn.IsTimePreciseInList() || literal(folder) {
		return t.conn.List(folder)
	}
	if err := t.conn.ChangeDir(folder); err != nil {
		return nil, err
	}
	return t.conn.List("")
}

// literal tells whether a path means itself, whatever a server makes of it.
func literal(p string) bool { return !strings.ContainsAny(p, " \t*?[]{}()<>|&;$'`\"\\~!#^") }

func (t *ftpTree) List(folder string) ([]Info, error) {
	defer t.watch.ask()()
	t.hears = &bytes.Buffer{}
	all, err := t.list(t.at(folder))
	said := t.hears.String()
	t.hears = nil
	if err == nil && len(all) == 0 {
		// Many servers have an empty list for what is not there.
		err = t.conn.ChangeDir(t.at(folder))
	}
	if err != nil {
		return nil, t.said("looking into", folder, err, func() bool { return t.conn.ChangeDir(t.at(folder)) != nil })
	}
	out := make([]Info, 0, len(all))
	for _, e := range all {
		if e.Name != "." && e.Name != ".." {
			out = append(out, t.ofEntry(e, e.Name))
		}
	}
	for _, line := range notUnderstood(said, all) {
		out = append(out, Info{Name: line, Odd: "the list of the server has this line, which cannot be understood: if it is a file, it is not taken"})
	}
	return out, nil
}

func (t *ftpTree) Look(p string) (Info, error) {
	defer t.watch.ask()()
	e, err := t.conn.GetEntry(t.at(p))
	var says *textproto.Error
	if err == nil {
		return t.ofEntry(e, path.Base(p)), nil
	}
	if !errors.As(err, &says) && !strings.Contains(err.Error(), "not supported") {
		return Info{}, t.said("looking at", p, err, nil)
	}
	if says != nil && says.Code == ftp.StatusFileUnavailable {
		return Info{}, t.said("looking at", p, fs.ErrNotExist, nil)
	}
	// An old server tells of a single file as of a folder with it.
	at := t.at(p)
	if !literal(at) {
		at = path.Dir(at)
	}
	all, err := t.list(at)
	if err != nil {
		return Info{}, t.said("looking at", p, err, func() bool { return true })
	}
	for _, e := range all {
		if path.Base(e.Name) == path.Base(p) {
			return t.ofEntry(e, path.Base(p)), nil
		}
	}
	return Info{}, t.said("looking at", p, fs.ErrNotExist, nil)
}

// isMissing tells whether a file is not there.
func (t *ftpTree) isMissing(p string) func() bool {
	return func() bool {
		_, err := t.Look(p)
		return errors.Is(err, fs.ErrNotExist)
	}
}

// noFolder tells whether the folder of a file is not there.
func (t *ftpTree) noFolder(p string) func() bool {
	return func() bool { return t.conn.ChangeDir(path.Dir(t.at(p))) != nil }
}

func (t *ftpTree) Open(p string, from int64) (io.ReadCloser, error) {
	defer t.watch.ask()()
	r, err := t.conn.RetrFrom(t.at(p), uint64(from))
	if err != nil {
		return nil, t.said("reading", p, err, t.isMissing(p))
	}
	return &watchedReader{r, t.watch, func(err error) error { return t.said("reading", p, err, nil) }}, nil
}

func (t *ftpTree) Write(p string, from int64, content io.Reader) error {
	defer t.watch.ask()()
	ours := &ourReader{Reader: content}
	t.sends = true
	defer func() { t.sends = false }()
	err := t.conn.StorFrom(t.at(p), ours, uint64(from))
	if ours.err != nil {
		return ours.err
	}
	return t.said("writing", p, err, t.noFolder(p))
}

// Move looks first whether the new name is free: many servers replace what is there. Between the two another may come.
func (t *ftpTree) Move(from, to string) error {
	defer t.names.Take(strings.ToLower(t.at(to)))() // others may give it between the two, none of ours
	defer t.watch.ask()()
	if _, err := t.Look(to); err == nil {
		return t.said("naming", to, fs.ErrExist, nil)
	} else if IsAway(err) {
		return err
	}
	return t.said("naming", to, t.conn.Rename(t.at(from), t.at(to)), func() bool { return t.isMissing(from)() || t.noFolder(to)() })
}

func (t *ftpTree) Replace(from, to string) error {
	defer t.watch.ask()()
	err := t.conn.Rename(t.at(from), t.at(to))
	var says *textproto.Error
	if errors.As(err, &says) && !t.isMissing(from)() {
		// A server that does not replace.
		if gone := t.conn.Delete(t.at(to)); gone == nil {
			err = t.conn.Rename(t.at(from), t.at(to))
		}
	}
	return t.said("replacing", to, err, t.isMissing(from))
}

func (t *ftpTree) Remove(p string) error {
	defer t.watch.ask()()
	return t.said("removing", p, t.conn.Delete(t.at(p)), t.isMissing(p))
}

func (t *ftpTree) MakeFolder(p string) error {
	defer t.watch.ask()()
	err := t.conn.MakeDir(t.at(p))
	var says *textproto.Error
	if errors.As(err, &says) && t.conn.ChangeDir(t.at(p)) == nil {
		return nil // it is there
	}
	return t.said("making", p, err, t.noFolder(p))
}

func (t *ftpTree) Parallel() int { return 1 }

func (t *ftpTree) Resumes() bool { return true }

func (t *ftpTree) Durable() bool { return false }

func (t *ftpTree) Rest() error {
	defer t.watch.ask()()
	return t.said("asking for", "/", t.conn.NoOp(), nil)
}

func (t *ftpTree) Leave() { t.conn.Quit() } //nolint: it is over in any case

func (t *ftpTree) Break() {
	t.watch.end()
}
