package remote

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"path"
	"strconv"
	"strings"
	"time"

	"github.com/emersion/go-imap/v2"
	"github.com/emersion/go-imap/v2/imapclient"

	"ydrion/core/mail"
	"ydrion/workspace"
)

// Mails is a tree of mailboxes, in which each file is a mail. Nothing is written there.
type Mails interface {
	Tree
	// Done marks a mail as read, or moves it into another mailbox, which is made if it is missing.
	Done(path, mailbox string) error
}

// imapTree is the mailboxes of a place (RFC 3501, 9051). A mail is called by the validity of its mailbox's numbers, and its own
// number (UID): nothing else is ever called so.
type imapTree struct {
	place    *workspace.Place
	watch    *watch
	client   *imapclient.Client
	selected string // the mailbox that is looked into
	validity uint32 // of its numbers
	delim    string // between the names of mailboxes that lie in each other
	heads    map[string]map[imap.UID]Info
	silent   map[string]map[imap.UID]bool // mails of which nothing was said when they were listed last
}

var _ Mails = (*imapTree)(nil)

// noDeadlines is a connection that breaks off when its watch says so, not after a time of somebody else's.
type noDeadlines struct{ net.Conn }

func (noDeadlines) SetDeadline(time.Time) error      { return nil }
func (noDeadlines) SetReadDeadline(time.Time) error  { return nil }
func (noDeadlines) SetWriteDeadline(time.Time) error { return nil }

func dialIMAP(ctx context.Context, p *workspace.Place) (Conn, error) {
	word, err := Secret(p.Password)
	if p.Tokened() {
		word, err = (&tokens{place: p}).get(ctx)
	}
	if err != nil {
		return nil, err
	}
	trusted, err := trust(p)
	if err != nil {
		return nil, err
	}
	t := &imapTree{place: p, watch: newWatch(p.Patience), delim: "/", heads: map[string]map[imap.UID]Info{}, silent: map[string]map[imap.UID]bool{}}
	defer t.watch.ask()()
	c, err := t.watch.dial(ctx, "tcp", p.Port())
	if err != nil {
		return nil, fmt.Errorf("does not answer at %s: %w", p.Port(), plain(err))
	}
	c = noDeadlines{c}
	options := &imapclient.Options{TLSConfig: trusted, WordDecoder: mail.Words}
	defer context.AfterFunc(ctx, t.Break)()
	switch p.TLS {
	case "explicit":
		t.client, err = imapclient.NewStartTLS(c, options)
	case "implicit":
		over := tls.Client(c, trusted)
		if err = over.HandshakeContext(ctx); err == nil {
			t.client = imapclient.New(over, options)
		}
	default:
		t.client = imapclient.New(c, options)
	}
	if err == nil {
		err = t.client.WaitGreeting()
	}
	if err == nil {
		if err = t.prove(word); err == nil {
			return t, nil
		}
		var says *imap.Error
		if errors.As(err, &says) {
			err = fmt.Errorf("the server says %q", says.Text)
		}
		if says != nil || err == errNoToken {
			t.Break()
			return nil, fmt.Errorf("does not let %s in: %w", p.User, err)
		}
	}
	t.Break()
	switch wrong := distrusted(err); {
	case wrong != nil:
		return nil, wrong
	case t.watch.late.Load():
		return nil, fmt.Errorf("does not answer at %s within %s", p.Port(), p.Patience)
	}
	var says *imap.Error
	if errors.As(err, &says) {
		return nil, fmt.Errorf("does not let us in: the server says %q", says.Text)
	}
	return nil, fmt.Errorf("does not answer at %s as a server of mailboxes: %w", p.Port(), plain(err))
}

// prove says who we are, by a password or a token.
func (t *imapTree) prove(word string) error {
	if !t.place.Tokened() {
		return t.client.Login(t.place.User, word).Wait()
	}
	by := newBearer(t.place, word)
	if offers := t.client.Caps(); !offers.Has(imap.AuthCap(bearerMechanism)) {
		if by.mechanism = olderMechanism; !offers.Has(imap.AuthCap(olderMechanism)) {
			return errNoToken
		}
	}
	return t.client.Authenticate(by)
}

// failed puts an error into words: the server's answer, or what is wrong with the connection.
func (t *imapTree) failed(doing, at string, err error) error {
	var says *imap.Error
	if errors.As(err, &says) && says.Type != imap.StatusResponseTypeBye {
		switch {
		case says.Code == imap.ResponseCodeNonExistent, says.Code == imap.ResponseCodeTryCreate:
			err = fs.ErrNotExist
		case says.Code == imap.ResponseCodeNoPerm:
			err = fs.ErrPermission
		default:
			return refused(t.place, doing, at, says.Text)
		}
	}
	return said(t.place, t.watch, doing, at, err)
}

// mailbox is the name of the mailbox at a path: without one, that into which mail comes.
func (t *imapTree) mailbox(folder string) string {
	return or(strings.ReplaceAll(strings.Trim(path.Join("/", t.place.Address.Path, folder), "/"), "/", t.delim), "INBOX")
}

// open looks into a mailbox.
func (t *imapTree) open(folder string) error {
	box := t.mailbox(folder)
	if box == t.selected {
		return nil
	}
	t.selected = ""
	got, err := t.client.Select(box, nil).Wait()
	if err != nil {
		var says *imap.Error
		if errors.As(err, &says) && says.Type == imap.StatusResponseTypeNo {
			// Not every server says in its code that there is none.
			if all, no := t.client.List("", box, nil).Collect(); no == nil && len(all) == 0 {
				err = fs.ErrNotExist
			}
		}
		return t.failed("looking into", "/"+box, err)
	}
	if got.UIDValidity == 0 {
		return refused(t.place, "looking into", "/"+box, "nothing of how long the numbers of mails are valid (UIDVALIDITY)")
	}
	if t.selected = box; t.validity != got.UIDValidity {
		delete(t.heads, box)
	}
	t.validity = got.UIDValidity
	return nil
}

// find gives the number of the mail at a path, in the mailbox that it opens for it.
func (t *imapTree) find(at string) (imap.UID, error) {
	if err := t.open(path.Dir(at)); err != nil {
		return 0, err
	}
	validity, number, _ := strings.Cut(path.Base(at), ".")
	v, bad := strconv.ParseUint(validity, 10, 32)
	n, worse := strconv.ParseUint(number, 10, 32)
	if bad != nil || worse != nil || n == 0 || uint32(v) != t.validity {
		return 0, fmt.Errorf("looking at %s at %s: %w", at, t.place.Name, fs.ErrNotExist)
	}
	return imap.UID(n), nil
}

// heading is what is asked of each mail of a list.
var heading = &imap.FetchOptions{UID: true, Envelope: true, InternalDate: true, RFC822Size: true}

// info is what is known of a mail.
func (t *imapTree) info(m *imapclient.FetchMessageBuffer) Info {
	out := Info{Name: fmt.Sprintf("%d.%d", t.validity, m.UID), Size: m.RFC822Size, Modified: m.InternalDate.UTC(), Mail: &mail.Head{}}
	if e := m.Envelope; e != nil {
		list := func(of []imap.Address) string {
			var all []string
			for _, a := range of {
				if address := a.Addr(); address != "" {
					all = append(all, address)
				}
			}
			return strings.Join(all, ", ")
		}
		*out.Mail = mail.Head{From: list(e.From), To: list(append(e.To, e.Cc...)), Subject: mail.Text(e.Subject), ID: e.MessageID, Date: e.Date}
	}
	return out
}

// mostHeads is how many mails are asked for at once.
const mostHeads = 500

// List gives the mails of a mailbox that are not about to be removed, and the mailboxes in it. What a mail says of itself is asked for once on a connection.
func (t *imapTree) List(folder string) ([]Info, error) {
	defer t.watch.ask()()
	if err := t.open(folder); err != nil {
		return nil, err
	}
	box := t.selected
	found, err := t.client.UIDSearch(&imap.SearchCriteria{NotFlag: []imap.Flag{imap.FlagDeleted}}, nil).Wait()
	if err != nil {
		return nil, t.failed("listing", "/"+box, err)
	}
	known, kept := t.heads[box], map[imap.UID]Info{}
	var fresh []imap.UID
	for _, u := range found.AllUIDs() {
		if i, is := known[u]; is {
			kept[u] = i
		} else {
			fresh = append(fresh, u)
		}
	}
	for len(fresh) > 0 {
		some := fresh[:min(len(fresh), mostHeads)]
		fresh = fresh[len(some):]
		all, err := t.client.Fetch(imap.UIDSetNum(some...), heading).Collect()
		if err != nil {
			return nil, t.failed("listing", "/"+box, err)
		}
		for _, m := range all {
			if m.UID != 0 { // the server may say something about others, too
				kept[m.UID] = t.info(m)
			}
		}
	}
	t.heads[box] = kept
	out, silent := make([]Info, 0, len(kept)), map[imap.UID]bool{}
	for _, i := range kept {
		out = append(out, i)
	}
	for _, u := range found.AllUIDs() {
		if _, is := kept[u]; is {
			continue
		}
		if silent[u] = true; t.silent[box][u] { // at first it may have been removed in between
			out = append(out, Info{Name: fmt.Sprintf("%d.%d", t.validity, u), Mail: &mail.Head{}, Odd: "the server lists it, and says nothing of it when it is asked"})
		}
	}
	t.silent[box] = silent
	below, err := t.client.List("", box+t.delim+"%", nil).Collect()
	if err != nil {
		return nil, t.failed("listing", "/"+box, err)
	}
	for _, b := range below {
		if name, is := strings.CutPrefix(b.Mailbox, box+t.delim); is && name != "" {
			out = append(out, Info{Name: name, Folder: true})
		}
		if b.Delim != 0 && string(b.Delim) != t.delim {
			t.delim = string(b.Delim)
		}
	}
	return out, nil
}

func (t *imapTree) Look(at string) (Info, error) {
	defer t.watch.ask()()
	uid, err := t.find(at)
	if err != nil {
		return Info{}, err
	}
	for try := 1; ; try++ {
		all, err := t.client.Fetch(imap.UIDSetNum(uid), heading).Collect()
		if err != nil {
			return Info{}, t.failed("looking at", at, err)
		}
		for _, m := range all {
			if m.UID == uid {
				return t.info(m), nil
			}
		}
		if err := t.news(at, try); err != nil {
			return Info{}, err
		}
	}
}

// news lets a server say what has come since this connection was told last: what it has not said, it may not know of (RFC 9051, 7.4.1). Who still does not find
// a mail behind that is told that it is not there.
func (t *imapTree) news(at string, try int) error {
	if try > 1 {
		return fmt.Errorf("looking at %s at %s: %w", at, t.place.Name, fs.ErrNotExist)
	}
	return t.failed("looking at", at, t.client.Noop().Wait())
}

// Open reads a mail as it came. It is not marked as read by that.
func (t *imapTree) Open(at string, from int64) (io.ReadCloser, error) {
	over := t.watch.ask()
	uid, err := t.find(at)
	if err != nil {
		over()
		return nil, err
	}
	section := &imap.FetchItemBodySection{Peek: true}
	if from > 0 {
		section.Partial = &imap.SectionPartial{Offset: from, Size: 1<<32 - 1}
	}
	for try := 1; ; try++ {
		command := t.client.Fetch(imap.UIDSetNum(uid), &imap.FetchOptions{UID: true, BodySection: []*imap.FetchItemBodySection{section}})
		for m := command.Next(); m != nil; m = command.Next() {
			for item := m.Next(); item != nil; item = m.Next() {
				if body, is := item.(imapclient.FetchItemDataBodySection); is && body.Literal != nil {
					return &mailReader{t, at, command, body.Literal, body.Literal.Size(), over}, nil
				}
			}
		}
		err := t.failed("reading", at, command.Close())
		if err == nil {
			err = t.news(at, try)
		}
		if err != nil {
			over()
			return nil, err
		}
	}
}

// mailReader reads a mail while it comes.
type mailReader struct {
	tree    *imapTree
	at      string
	command *imapclient.FetchCommand
	in      io.Reader
	left    int64
	over    func()
}

func (r *mailReader) Read(b []byte) (int, error) {
	n, err := r.in.Read(b)
	if r.left -= int64(n); err == io.EOF && r.left > 0 {
		err = io.ErrUnexpectedEOF
	}
	if err != nil && err != io.EOF {
		err = r.tree.failed("reading", r.at, err)
	}
	return n, err
}

func (r *mailReader) Close() error {
	defer r.over()
	if err := r.command.Close(); err != nil {
		return r.tree.failed("reading", r.at, err)
	}
	return nil
}

// Done marks a mail as read, or moves it (RFC 6851). Where the server cannot move, it is copied and marked as deleted: if the answer to that is lost,
// it may lie in the other mailbox twice.
func (t *imapTree) Done(at, mailbox string) error {
	defer t.watch.ask()()
	if _, err := t.Look(at); err != nil { // servers answer differently to what is asked of mails that are not there
		return err
	}
	uid, err := t.find(at)
	if err != nil {
		return err
	}
	one := imap.UIDSetNum(uid)
	mark := func(flag imap.Flag) error {
		return t.client.Store(one, &imap.StoreFlags{Op: imap.StoreFlagsAdd, Silent: true, Flags: []imap.Flag{flag}}, nil).Close()
	}
	if mailbox == "" {
		return t.failed("marking as read", at, mark(imap.FlagSeen))
	}
	to := t.mailbox(mailbox)
	moves := t.client.Caps().Has(imap.CapMove)
	move := func() error {
		if moves {
			_, err := t.client.Move(one, to).Wait()
			return err
		}
		_, err := t.client.Copy(one, to).Wait()
		return err
	}
	err = move()
	var says *imap.Error
	if errors.As(err, &says) && says.Type == imap.StatusResponseTypeNo { // the mail is there: the mailbox may not be
		made := t.client.Create(to, nil).Wait() // or somebody else has made it meanwhile
		if err = move(); errors.As(err, &says) && says.Type == imap.StatusResponseTypeNo {
			why := says.Text
			if missing := says.Code == imap.ResponseCodeTryCreate || says.Code == imap.ResponseCodeNonExistent; missing && errors.As(made, &says) {
				why = says.Text // it cannot be made
			}
			return refused(t.place, "moving "+at+" to", "/"+to, why)
		}
	}
	if err != nil || moves {
		return t.failed("moving to /"+to, at, err)
	}
	if err = mark(imap.FlagDeleted); err == nil && t.client.Caps().Has(imap.CapUIDPlus) {
		err = t.client.UIDExpunge(one).Close()
	}
	return t.failed("removing after it was copied", at, err)
}

// errMails says that nothing is written into mailboxes.
var errMails = errors.New("mails are taken from mailboxes; nothing is written there: say a place of the kind smtp to mail something")

func (t *imapTree) Write(string, int64, io.Reader) error { return errMails }
func (t *imapTree) Move(string, string) error            { return errMails }
func (t *imapTree) Replace(string, string) error         { return errMails }
func (t *imapTree) Remove(string) error                  { return errMails }
func (t *imapTree) MakeFolder(string) error              { return errMails }
func (t *imapTree) Parallel() int                        { return 1 }
func (t *imapTree) Resumes() bool                        { return false }
func (t *imapTree) Durable() bool                        { return true }

func (t *imapTree) Rest() error {
	defer t.watch.ask()()
	return t.client.Noop().Wait()
}

func (t *imapTree) Leave() { t.client.Logout().Wait() } //nolint: it is over in any case

func (t *imapTree) Break() { t.watch.end() }
