package fetch

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path/filepath"
	"strings"

	"ydrion/core/mail"
	"ydrion/deliver"
	"ydrion/files"
	"ydrion/listen"
	"ydrion/remote"
	"ydrion/store"
)

// A mail becomes several files here, or none. It is copied, its files are made of it beside the inbox, and the copy gives way to
// a list of them: from then on it stands for all of them, and is gone when they are in the inbox. Beside each file that waits
// there lies what its mail says of itself.

// unpacked is the list of files that were made of a mail.
type unpacked struct {
	Mail  mail.Head `json:"mail"`
	Files []string  `json:"files"` // their names
}

// piece is where a file lies that was made of a mail, until it is in the inbox.
func piece(temporary string, n int) string { return fmt.Sprintf("%s+%d", temporary, n) }

// errNothing says that nothing of a mail is meant for the route.
type errNothing struct{ says string }

func (e *errNothing) Error() string { return e.says }

// meant tells whether a name is one of a file that the route takes out of mails.
func (f *Fetcher) meant(name string) bool { return f.Settings.Matches(name) && len(name) <= mostName }

// unpack makes a mail's files of its copy.
func (f *Fetcher) unpack(x *store.Fetch) error {
	at := f.temporary(x)
	in, err := f.FS.Open(at)
	if err != nil {
		return &errOurs{err}
	}
	defer in.Close()
	var list unpacked
	var passed []string // names of what is attached and not meant
	taken := map[string]bool{}
	write := func(name string, content io.Reader) error {
		for n, plain := 2, name; taken[name]; n++ {
			name = deliver.Counted(plain, n)
		}
		taken[name] = true
		to, err := f.createPiece(piece(at, len(list.Files)))
		if err != nil {
			return &errOurs{err}
		}
		list.Files = append(list.Files, name)
		here := &remembering{Writer: to}
		_, err = io.Copy(here, content)
		if closing := to.Close(); here.err == nil {
			here.err = closing
		}
		if here.err != nil {
			return &errOurs{fmt.Errorf("what is attached to a mail cannot be written here: %w", here.err)}
		}
		return err
	}
	var plain, marked *mailText // the texts of the mail
	list.Mail, err = mail.Read(in, f.meant, func(p mail.Part) error {
		if p.Attached && p.Name == "" {
			p.Name = "attachment" + files.Ending(p.Type)
		}
		switch {
		case f.Settings.Mails.Take == "attachments" && strings.EqualFold(p.Name, "winmail.dat"):
			return errors.New("what is attached to it is packed into a winmail.dat (TNEF), which only some programs open: ask the sender to write plain or HTML mails")
		case f.Settings.Mails.Take == "attachments" && p.Attached && f.meant(p.Name):
			return write(p.Name, p.Content)
		case p.Attached:
			passed = append(passed, p.Name)
		case f.Settings.Mails.Take == "text" && (p.Type == "text/plain" && plain == nil || p.Type == "text/html" && marked == nil):
			text := &mailText{charset: p.Charset}
			if text.raw, err = io.ReadAll(io.LimitReader(p.Content, mostText+1)); err != nil {
				return err
			}
			if len(text.raw) > mostText {
				return fmt.Errorf("its text has more than %d bytes", mostText)
			}
			if p.Type == "text/plain" {
				plain = text
			} else {
				marked = text
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	stem := filepath.Base(x.Path)
	switch f.Settings.Mails.Take {
	case "whole":
		if again, err := f.FS.Open(at); err != nil {
			return &errOurs{err}
		} else if err := errors.Join(write(stem+".eml", again), again.Close()); err != nil {
			return err
		}
	case "text":
		ending := ".txt"
		if plain == nil {
			plain, ending = marked, ".html"
		}
		if plain == nil {
			return &errNothing{"it has no text"}
		}
		text, err := mail.UTF8(plain.raw, plain.charset)
		if err != nil {
			return fmt.Errorf("its text cannot be read: %w", err)
		}
		if err := write(stem+ending, strings.NewReader(text)); err != nil {
			return err
		}
	}
	if len(list.Files) == 0 {
		if len(passed) == 0 {
			return &errNothing{"nothing is attached to it"}
		}
		return &errNothing{fmt.Sprintf("nothing that is attached to it is meant (listen.names): %.300s", strings.Join(passed, ", "))}
	}
	return f.list(at, list)
}

// mailText is a text of a mail as it stands there.
type mailText struct {
	raw     []byte
	charset string
}

// mostText is how long the text of a mail may be that becomes a file, in bytes.
const mostText = 32 << 20

// createPiece makes a file, in the place of one that was begun before.
func (f *Fetcher) createPiece(at string) (files.File, error) {
	if err := f.FS.Remove(at); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	return f.FS.Create(at, 0o600)
}

// list lets the list of its files take the place of a mail's copy, once they are durable.
func (f *Fetcher) list(at string, list unpacked) error {
	b, err := json.Marshal(list)
	if err != nil {
		return err
	}
	to, err := f.createPiece(at + "+list")
	if err != nil {
		return &errOurs{err}
	}
	_, err = to.Write(b)
	if err = errors.Join(err, to.Close()); err == nil {
		if err = f.FS.SyncAll(f.hidden()); err == nil {
			err = f.FS.Replace(at+"+list", at)
		}
	}
	if err != nil {
		return &errOurs{err}
	}
	return nil
}

// placePieces puts a mail's files into the inbox. It may be repeated.
func (f *Fetcher) placePieces(x *store.Fetch) error {
	if !f.Sure() {
		return ErrGiven
	}
	at := f.temporary(x)
	in, err := f.FS.Open(at)
	if errors.Is(err, fs.ErrNotExist) {
		return nil // all of them were put there before: nobody but us does
	}
	if err != nil {
		return err
	}
	b, err := io.ReadAll(in)
	if err = errors.Join(err, in.Close()); err != nil {
		return err
	}
	var list unpacked
	if err := json.Unmarshal(b, &list); err != nil {
		return fmt.Errorf("the list of what was attached to a mail cannot be read (%s): %w", at, err)
	}
	for i, name := range list.Files {
		from := piece(at, i)
		if _, err := f.FS.Look(from); errors.Is(err, fs.ErrNotExist) {
			continue // it was put there before
		}
		to, err := f.free(name)
		if err != nil {
			return err
		}
		// It is durable before the file is there: a file without it would be one that came in no mail.
		if err := errors.Join(listen.NoteMail(f.FS, to, list.Mail), f.FS.SyncFolder(f.hidden())); err != nil {
			return err
		}
		if err := f.FS.Move(from, to); err != nil {
			return err
		}
	}
	if err := errors.Join(f.FS.SyncFolder(f.Inbox), f.FS.SyncFolder(f.hidden())); err != nil {
		return err
	}
	return f.FS.Remove(at)
}

// free is where a file can be put that was attached to a mail: many senders call theirs the same, and none waits for another's.
func (f *Fetcher) free(name string) (string, error) {
	as, err := deliver.Free(name, files.There(f.FS, f.Inbox))
	return filepath.Join(f.Inbox, as), err
}

// sweepNotes removes what lay beside files that have been taken.
func (f *Fetcher) sweepNotes() {
	if err := listen.SweepNotes(f.FS, f.Inbox); err != nil {
		f.Log.Warn("what is known of mails that were taken cannot be removed now", "route", f.Route, "error", err)
	}
}

// removePieces removes what was made of a mail that is not fetched now.
func (f *Fetcher) removePieces(x *store.Fetch) {
	at := f.temporary(x)
	entries, err := f.FS.List(f.hidden())
	if err != nil {
		return // it is looked for again
	}
	for _, e := range entries {
		if e.Name == filepath.Base(at) || strings.HasPrefix(e.Name, filepath.Base(at)+"+") {
			f.FS.Remove(filepath.Join(f.hidden(), e.Name)) //nolint: it is looked for again
		}
	}
}

// leaveMail takes leave of a mail whose files are in the inbox. It may be repeated.
func (f *Fetcher) leaveMail(t remote.Mails, x *store.Fetch) error {
	to := ""
	if !x.Stays {
		to = f.takenTo()
	}
	err := t.Done(x.Path, to)
	if errors.Is(err, fs.ErrNotExist) {
		return nil // it was moved before, or by somebody else
	}
	if err != nil {
		return fmt.Errorf("taking leave of a mail that was taken: %w", err)
	}
	return nil
}

// isMails tells whether what is fetched at a place is mails.
func (f *Fetcher) isMails(place string) bool {
	r, _ := f.Places.Report(place)
	return r.Place.Kind == "imap"
}

// unmeant begins what is kept in the place of the hash of a mail of which nothing was meant, before what was asked for.
const unmeant = "nothing for "

// wanted is what is asked for of mails, as it is kept.
func (f *Fetcher) wanted() string {
	l := &f.Settings
	expression := ""
	if l.Expression != nil {
		expression = l.Expression.String()
	}
	return unmeant + fmt.Sprintf("%q", []string{l.Mails.Take, l.Names, expression, strings.Join(l.Also, "/"), strings.Join(l.Ignore, "/")})
}
