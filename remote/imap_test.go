package remote

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"ydrion/standin"
	"ydrion/workspace"
)

// postbox is a mail server with the mailbox INBOX, as the place post.
func postbox(t *testing.T, moves bool, connections int) (*standin.IMAP, *Places) {
	t.Helper()
	word := filepath.Join(t.TempDir(), "word")
	if err := os.WriteFile(word, []byte("salt\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	s, err := standin.NewIMAP("127.0.0.1:0", nil, standin.Login{User: "maren", Password: "salt"}, moves)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	p := New(&workspace.Environment{Places: map[string]workspace.Place{"post": {Name: "post", Kind: "imap", Address: &url.URL{Scheme: "imap", Host: s.Address()}, TLS: "none", User: "maren", Password: workspace.Secret{File: word}, Connections: connections, Patience: time.Minute}}})
	t.Cleanup(p.Close)
	return s, p
}

// TestMailsThatCameSince: a connection that was told of a mailbox before a mail came finds it all the same, reads it, and moves it. A mail that is
// taken for moved would be taken twice.
func TestMailsThatCameSince(t *testing.T) {
	for _, moves := range []bool{true, false} {
		s, p := postbox(t, moves, 1)
		err := p.With(t.Context(), "post", func(tree Tree) error {
			if all, err := tree.List("/INBOX"); err != nil || len(all) > 0 {
				t.Fatalf("%+v %v", all, err)
			}
			for range 3 {
				if err := s.Mail("INBOX", []byte("Subject: seals\r\n\r\nthree\r\n"), time.Now()); err != nil {
					t.Fatal(err)
				}
			}
			if i, err := tree.Look("/INBOX/1.1"); err != nil || i.Mail == nil || i.Mail.Subject != "seals" {
				t.Errorf("%+v %v", i, err)
			}
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
		err = p.With(t.Context(), "post", func(tree Tree) error {
			if err := s.Mail("INBOX", []byte("Subject: more\r\n\r\nfour\r\n"), time.Now()); err != nil {
				t.Fatal(err)
			}
			in, err := tree.Open("/INBOX/1.4", 0)
			if err != nil {
				return err
			}
			if b, err := io.ReadAll(in); errors.Join(err, in.Close()) != nil || string(b) != "Subject: more\r\n\r\nfour\r\n" {
				t.Errorf("%q", b)
			}
			if err := s.Mail("INBOX", []byte("Subject: last\r\n\r\nfive\r\n"), time.Now()); err != nil {
				t.Fatal(err)
			}
			if err := tree.(Mails).Done("/INBOX/1.5", "/Taken"); err != nil {
				t.Error(err)
			}
			if _, err := tree.Look("/INBOX/1.5"); moves && !errors.Is(err, fs.ErrNotExist) {
				t.Errorf("it is still there: %v", err)
			}
			if _, err := tree.Open("/INBOX/1.77", 0); !errors.Is(err, fs.ErrNotExist) {
				t.Errorf("what was never there: %v", err)
			}
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
		if all, _, err := s.Holds("Taken"); err != nil || all != 1 {
			t.Errorf("%d were moved, %v", all, err)
		}
	}
}

// TestMailsMovedAtOnce: two connections that move mails into a mailbox that has to be made leave none behind, and say of none that it is not there;
// where it cannot be made, the mails stay, and that is said.
func TestMailsMovedAtOnce(t *testing.T) {
	for round := range 40 {
		s, p := postbox(t, round%4 < 2, 2)
		for range 6 {
			if err := s.Mail("INBOX", []byte("Subject: seals\r\n\r\nthree\r\n"), time.Now()); err != nil {
				t.Fatal(err)
			}
		}
		refused := round%10 == 9
		if refused {
			s.Misbehave(standin.Fault{On: standin.Make, Do: standin.Refuse, From: 1})
		}
		var all sync.WaitGroup
		for _, uids := range []string{"135", "246"} {
			all.Go(func() {
				err := p.With(t.Context(), "post", func(tree Tree) error {
					for _, u := range uids {
						err := tree.(Mails).Done("/INBOX/1."+string(u), "/Taken")
						if !refused && err != nil || refused && (err == nil || errors.Is(err, fs.ErrNotExist) || IsAway(err) || !strings.Contains(err.Error(), "moving /INBOX/1."+string(u)+" to /Taken at post: the server says")) {
							t.Errorf("%d, %c: %v", round, u, err)
						}
					}
					return nil
				})
				if err != nil {
					t.Error(err)
				}
			})
		}
		all.Wait()
		moved, _, err := s.Holds("Taken")
		if refused && err == nil || !refused && (err != nil || moved != 6) {
			t.Errorf("%d: %d were moved, %v", round, moved, err)
		}
	}
}

// TestMailThatNothingIsSaidOf: a mail that a server lists, and is silent about, is told of the second time; what was removed in between is
// not there then.
func TestMailThatNothingIsSaidOf(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	go func() {
		conn, err := l.Accept()
		if err != nil {
			return
		}
		defer conn.Close()
		fmt.Fprint(conn, "* OK here\r\n")
		for in := bufio.NewReader(conn); ; {
			line, err := in.ReadString('\n')
			if err != nil {
				return
			}
			tag, rest, _ := strings.Cut(strings.ToUpper(line), " ")
			switch {
			case strings.HasPrefix(rest, "CAPABILITY"):
				fmt.Fprint(conn, "* CAPABILITY IMAP4rev1\r\n")
			case strings.HasPrefix(rest, "SELECT"), strings.HasPrefix(rest, "EXAMINE"):
				fmt.Fprint(conn, "* 2 EXISTS\r\n* FLAGS ()\r\n* OK [UIDVALIDITY 7] x\r\n* OK [UIDNEXT 3] x\r\n")
			case strings.HasPrefix(rest, "UID SEARCH"):
				fmt.Fprint(conn, "* SEARCH 1 2\r\n")
			case strings.HasPrefix(rest, "UID FETCH"):
				if strings.Contains(rest, "FETCH 1") {
					fmt.Fprint(conn, `* 1 FETCH (UID 1 RFC822.SIZE 10 INTERNALDATE "25-Nov-2026 08:00:00 +0000" ENVELOPE (NIL "one" NIL NIL NIL NIL NIL NIL NIL NIL))`+"\r\n")
				}
			}
			fmt.Fprintf(conn, "%s OK done\r\n", tag)
		}
	}()
	word := filepath.Join(t.TempDir(), "word")
	if err := os.WriteFile(word, []byte("salt\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	p := New(&workspace.Environment{Places: map[string]workspace.Place{"post": {Name: "post", Kind: "imap", Address: &url.URL{Scheme: "imap", Host: l.Addr().String()}, TLS: "none", User: "maren", Password: workspace.Secret{File: word}, Connections: 1, Patience: time.Minute}}})
	defer p.Close()
	err = p.With(t.Context(), "post", func(tree Tree) error {
		for look := range 3 {
			all, err := tree.List("/INBOX")
			if err != nil {
				return err
			}
			slices.SortFunc(all, func(a, b Info) int { return strings.Compare(a.Name, b.Name) })
			if want := min(look+1, 2); len(all) != want || all[0].Mail.Subject != "one" || all[0].Odd != "" || want > 1 && (all[1].Name != "7.2" || !strings.Contains(all[1].Odd, "says nothing of it")) {
				t.Errorf("look %d: %+v", look, all)
			}
		}
		return nil
	})
	if err != nil {
		t.Error(err)
	}
}
