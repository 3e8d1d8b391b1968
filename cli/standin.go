package cli

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"mime"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ydrion/standin"
)

// standIns are the kinds of servers that there are stand-ins of, with what is said of each.
var standIns = map[string]string{"sftp": "files in a folder", "ftp": "files in a folder", "webdav": "files in a folder", "s3": "objects, in memory", "imap": "mailboxes, in memory; mails (.eml) that are put into the folder come into INBOX",
	"http": "takes what is posted", "smtp": "takes mails", "mllp": "takes and acknowledges HL7 v2 messages"}

func (a *app) standIn() *cobra.Command {
	var listen, folder, user string
	var faults []string
	c := &cobra.Command{
		Annotations: map[string]string{hosts: "yes"},
		Use:         "stand-in KIND", Short: "Run a small server that stands in for a partner's, to try routes with", Args: cobra.ExactArgs(1), ValidArgs: slices.Sorted(maps.Keys(standIns)),
		Long: `Run a server of a kind on this machine until it is interrupted, and print the place
to put into an environment. What is sent to it one by one (http, smtp, mllp) is kept
in its folder, a file each.

It can misbehave by order (--fault): "refuse write 3" refuses the third file that is
written, "full write", "cut rename" breaks off the connection before a rename is done,
"cut after rename" after it, "late 5s list" answers late, "stale list" gives the list of
before; "... every" goes on with it.
What can be asked is connect, list, look, read, write, rename, remove and make.
What one such server takes is a write.`,
		Example: "  ydrion stand-in sftp --folder holm --listen 127.0.0.1:2222\n  ydrion stand-in mllp --fault \"late 40s write\"\n  ydrion stand-in imap --folder mails",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.runStandIn(cmd.Context(), args[0], listen, folder, user, faults)
		},
	}
	c.Flags().StringVar(&listen, "listen", "127.0.0.1:0", "address of this machine that it is reached at; 0 is any free port")
	c.Flags().StringVar(&folder, "folder", ".stand-in", "folder for its files, and for its password and certificate (hidden)")
	c.Flags().StringVar(&user, "user", "ydrion", "who is let in")
	c.Flags().StringArrayVar(&faults, "fault", nil, "what goes wrong, such as \"cut after rename 2\"; can be given several times")
	return c
}

func (a *app) runStandIn(ctx context.Context, kind, listen, folder, user string, orders []string) error {
	if standIns[kind] == "" {
		return wrongUse("there is no stand-in of the kind %s; there are %s", kind, strings.Join(slices.Sorted(maps.Keys(standIns)), ", "))
	}
	host, _, err := net.SplitHostPort(listen)
	if ip := net.ParseIP(host); err != nil || ip == nil || !ip.IsLoopback() {
		return wrongUse("%q is not an address of this machine alone, such as 127.0.0.1:2222: a stand-in is for trying, not for others", listen)
	}
	var faults []standin.Fault
	for _, o := range orders {
		f, err := standin.ParseFault(o)
		if err != nil {
			return wrongUse("%v", err)
		}
		if f.Do == standin.Stale && kind != "sftp" && kind != "ftp" {
			return wrongUse("only stand-ins of the kinds sftp and ftp give stale lists")
		}
		faults = append(faults, f)
	}
	if folder, err = filepath.Abs(folder); err != nil {
		return err
	}
	hidden := filepath.Join(folder, ".stand-in")
	word := make([]byte, 8)
	if _, err := rand.Read(word); err != nil {
		return err
	}
	password := filepath.Join(hidden, "password")
	kept, err := os.ReadFile(password)
	if err == nil && len(kept) > 0 { // it stays the same from one time to the next
		word = kept
	} else {
		word = fmt.Appendf(nil, "%x", word)
	}
	certificate, pem, err := standin.NewCertificate()
	if err == nil {
		err = errors.Join(os.MkdirAll(hidden, 0o755), os.WriteFile(password, word, 0o600), os.WriteFile(filepath.Join(hidden, "certificate.pem"), pem, 0o644))
	}
	if err != nil {
		return err
	}
	s, err := newStandIn(kind, listen, folder, hidden, certificate, standin.Login{User: user, Password: string(word), Token: string(word)})
	if err != nil {
		return err
	}
	defer s.close()
	s.manners.Misbehave(faults...)
	fmt.Fprintf(a.out, "a stand-in: %s. Put this into an environment:\n\n  partner:\n", standIns[kind])
	for _, line := range s.settings {
		fmt.Fprintln(a.out, "    "+line)
	}
	fmt.Fprintln(a.out, "\nInterrupt it to end.")
	for n := 0; ; {
		select {
		case <-ctx.Done():
			s.close()
			if s.keeps {
				return s.each(a.out, folder, &n)
			}
			return nil
		case <-time.After(200 * time.Millisecond):
		}
		if s.each != nil {
			if err := s.each(a.out, folder, &n); err != nil {
				return err
			}
		}
	}
}

// oneStandIn is a stand-in that runs.
type oneStandIn struct {
	manners  *standin.Manners
	close    func()
	settings []string
	// each is asked again and again what has happened; n is what it counts. Nil: nothing is to be told.
	each  func(out io.Writer, folder string, n *int) error
	keeps bool // each keeps what is taken, and is asked once more when it has ended: something may have come just before
}

func newStandIn(kind, listen, folder, hidden string, certificate *tls.Certificate, login standin.Login) (*oneStandIn, error) {
	say := func(lines ...string) []string {
		return append(lines, "user: "+login.User, "password file: "+filepath.Join(hidden, "password"))
	}
	trusted := "authorities: " + filepath.Join(hidden, "certificate.pem")
	switch kind {
	case "sftp":
		s, err := standin.NewSFTP(listen, folder, folder, login)
		if err != nil {
			return nil, err
		}
		return &oneStandIn{manners: s.Manners, close: s.Close, settings: say("address: sftp://"+s.Address(), "host key: \""+s.HostKey+"\"")}, nil
	case "ftp":
		s, err := standin.NewFTP(listen, folder, certificate, login)
		if err != nil {
			return nil, err
		}
		return &oneStandIn{manners: s.Manners, close: s.Close, settings: say("address: ftp://"+s.Address(), "tls: explicit", trusted)}, nil
	case "webdav":
		s, err := standin.NewWebDAV(listen, folder, certificate, login)
		if err != nil {
			return nil, err
		}
		return &oneStandIn{manners: s.Manners, close: s.Close, settings: say("kind: webdav", "address: https://"+s.Address(), trusted)}, nil
	case "s3":
		s, err := standin.NewS3(listen, certificate, login, "bucket")
		if err != nil {
			return nil, err
		}
		return &oneStandIn{manners: s.Manners, close: s.Close, settings: say("kind: s3", "address: https://"+s.Address()+"/bucket", trusted)}, nil
	case "imap":
		s, err := standin.NewIMAP(listen, certificate, login, true)
		if err != nil {
			return nil, err
		}
		return &oneStandIn{manners: s.Manners, close: s.Close, settings: say("address: imap://"+s.Address(), "tls: explicit", trusted), each: mailsFrom(s)}, nil
	case "http":
		s, err := standin.NewHTTP(listen, certificate, login.Password)
		if err != nil {
			return nil, err
		}
		return &oneStandIn{manners: s.Manners, close: s.Close, settings: []string{"kind: http", "address: https://" + s.Address(), "token file: " + filepath.Join(hidden, "password"), trusted}, each: keep(s.Taken, ""), keeps: true}, nil
	case "smtp":
		s, err := standin.NewSMTP(listen, certificate, login)
		if err != nil {
			return nil, err
		}
		return &oneStandIn{manners: s.Manners, close: s.Close, settings: say("address: smtp://"+s.Address(), "tls: explicit", trusted, "from: ydrion@skerry.example", "to: office@skerry.example"), each: keep(s.Taken, ".eml"), keeps: true}, nil
	}
	s, err := standin.NewMLLP(listen)
	if err != nil {
		return nil, err
	}
	return &oneStandIn{manners: s.Manners, close: s.Close, settings: []string{"address: mllp://" + s.Address()}, each: keep(s.Taken, ".hl7"), keeps: true}, nil
}

// keep keeps each message that has come in a file, with an ending; empty: that of its media type.
func keep(taken func() []standin.Message, ending string) func(out io.Writer, folder string, n *int) error {
	return func(out io.Writer, folder string, n *int) error {
		all := taken()
		for ; *n < len(all); *n++ {
			m := all[*n]
			end := ending
			if all, err := mime.ExtensionsByType(m.Kind); end == "" && err == nil && len(all) > 0 {
				end = all[0]
			}
			name := fmt.Sprintf("%s-%04d%s", time.Now().Format("20060102-150405"), *n+1, end)
			if err := os.WriteFile(filepath.Join(folder, name), m.Content, 0o644); err != nil {
				return err
			}
			fmt.Fprintf(out, "%s  %d bytes %s\n", name, len(m.Content), strings.Join(strings.Fields(strings.Join(append([]string{m.Path, m.From, m.Key}, m.To...), " ")), " "))
		}
		return nil
	}
}

// mailsFrom brings mails that lie in a folder into a mailbox.
func mailsFrom(s *standin.IMAP) func(out io.Writer, folder string, n *int) error {
	sizes := map[string]int64{}
	return func(out io.Writer, folder string, n *int) error {
		entries, err := os.ReadDir(folder)
		if err != nil {
			return err
		}
		for _, e := range entries {
			at := filepath.Join(folder, e.Name())
			i, err := os.Stat(at)
			if errors.Is(err, fs.ErrNotExist) || !strings.HasSuffix(e.Name(), ".eml") {
				continue
			}
			if err != nil {
				return err
			}
			if before, seen := sizes[at]; !seen || before != i.Size() { // it may be written still
				sizes[at] = i.Size()
				continue
			}
			text, err := os.ReadFile(at)
			if err != nil {
				return err
			}
			if err := errors.Join(s.Mail("INBOX", text, time.Now()), os.Remove(at)); err != nil {
				return err
			}
			delete(sizes, at)
			*n++
			fmt.Fprintf(out, "%s has come into INBOX\n", e.Name())
		}
		return nil
	}
}
