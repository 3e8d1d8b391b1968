package cli

import (
	"bytes"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/johannesboyne/gofakes3"

	"ydrion/api"
	"ydrion/demo"
	"ydrion/standin"
	"ydrion/workspace"
)

// partners are the demo's stand-ins of others' servers.
type partners struct {
	environment *workspace.Environment // in which places are on them
	suppliers   *standin.SFTP
	letterbox   *standin.IMAP // mailboxes
	analyser    *standin.MLLP // of the laboratory
	vault       *standin.S3
	closers     []func()
}

func (p *partners) close() {
	for _, c := range p.closers {
		c()
	}
}

// partnersOf starts the demo's stand-ins.
func partnersOf(of *workspace.Environment, data string) (_ *partners, err error) {
	e := *of
	e.Places = maps.Clone(of.Places)
	p := &partners{environment: &e}
	defer func() {
		if err != nil {
			p.close()
		}
	}()
	folder := filepath.Join(data, "suppliers")
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return nil, err
	}
	certificate, pem, err := standin.NewCertificate()
	if err != nil {
		return nil, err
	}
	word, authorities := filepath.Join(data, "partners.password"), filepath.Join(data, "partners.pem")
	if err := errors.Join(os.WriteFile(word, []byte("seals like fish\n"), 0o600), os.WriteFile(authorities, pem, 0o644)); err != nil {
		return nil, err
	}
	login := standin.Login{User: "skerry", Password: "seals like fish"}
	add := func(name, kind, address, path string) *workspace.Place {
		scheme := kind
		if kind == "s3" {
			scheme = "https"
		}
		e.Places[name] = workspace.Place{Name: name, Kind: kind, Address: &url.URL{Scheme: scheme, Host: address, Path: path}, User: login.User, Password: workspace.Secret{File: word}, Authorities: authorities, Connections: 2, Patience: 10 * time.Second}
		place := e.Places[name]
		return &place
	}
	if p.suppliers, err = standin.NewSFTP("127.0.0.1:0", folder, data, login); err != nil {
		return nil, err
	}
	p.closers = append(p.closers, p.suppliers.Close)
	place := add("suppliers", "sftp", p.suppliers.Address(), "")
	place.HostKeys = []string{p.suppliers.HostKey}
	e.Places["suppliers"] = *place
	if p.letterbox, err = standin.NewIMAP("127.0.0.1:0", certificate, login, true); err != nil {
		return nil, err
	}
	p.closers = append(p.closers, p.letterbox.Close)
	place = add("letterbox", "imap", p.letterbox.Address(), "")
	place.TLS = "explicit"
	e.Places["letterbox"] = *place
	if p.analyser, err = standin.NewMLLP("127.0.0.1:0"); err != nil {
		return nil, err
	}
	p.closers = append(p.closers, p.analyser.Close)
	place = add("analyser", "mllp", p.analyser.Address(), "")
	place.Connections, place.Repeats = 1, true
	e.Places["analyser"] = *place
	if p.vault, err = standin.NewS3("127.0.0.1:0", certificate, login, "seals"); err != nil {
		return nil, err
	}
	p.closers = append(p.closers, p.vault.Close)
	add("vault", "s3", p.vault.Address(), "/seals")
	return p, nil
}

// mailed is a mail with a sheet and another file that is not meant.
func mailed(from, subject, file string, content []byte, at time.Time) []byte {
	var m bytes.Buffer
	fmt.Fprintf(&m, "From: Calder Ness <%s>\r\nTo: sheets@skerry.example\r\nSubject: %s\r\nDate: %s\r\nMessage-ID: <%d@calder-ness.example>\r\nMIME-Version: 1.0\r\nContent-Type: multipart/mixed; boundary=\"-\"\r\n\r\n---\r\nContent-Type: text/plain; charset=utf-8\r\n\r\nToday's sheet. The sea is calm.\r\n", from, subject, at.Format(time.RFC1123Z), at.UnixNano())
	for _, part := range []struct {
		name, kind string
		content    []byte
	}{{"sea.png", "image/png", []byte("\x89PNG\r\n\x1a\n")}, {file, "text/csv", content}} {
		fmt.Fprintf(&m, "---\r\nContent-Type: %s\r\nContent-Disposition: attachment; filename=%q\r\nContent-Transfer-Encoding: base64\r\n\r\n", part.kind, part.name)
		coded := base64.StdEncoding.EncodeToString(part.content)
		for line := range slices.Chunk([]byte(coded), 76) {
			m.Write(append(line[:len(line):len(line)], "\r\n"...))
		}
	}
	m.WriteString("-----\r\n")
	return m.Bytes()
}

// demoMail mails a sheet, and looks whether its orders came to the laboratory and into the vault, and the mail out of
// the way.
func (a *app) demoMail(ctx context.Context, client *api.Client, data string, p *partners) (row []string, good bool, err error) {
	latest, err := latestPickup(ctx, client)
	if err != nil {
		return nil, false, err
	}
	d := demo.Mailed
	content, err := fs.ReadFile(demo.Files(), d.File)
	if err != nil {
		return nil, false, err
	}
	before := len(p.analyser.Taken())
	if err := p.letterbox.Mail("INBOX", mailed("kai@calder-ness.example", "Our sheet", d.File, content, time.Now()), time.Now()); err != nil {
		return nil, false, err
	}
	pickup, err := waitPickup(ctx, client, d.File, latest)
	if err != nil {
		return nil, false, err
	}
	row, good, err = a.demoRow(ctx, client, data, d, pickup)
	if err != nil || !good {
		return row, good, err
	}
	row[len(row)-2] = fmt.Sprintf("analyser (%d acknowledged), vault", d.Good)
	kept, err := p.vault.Backend.ListBucket("seals", &gofakes3.Prefix{HasPrefix: true, Prefix: "orders/"}, gofakes3.ListBucketPage{})
	if err != nil {
		return nil, false, err
	}
	var taken, waiting int
	for until := time.Now().Add(10 * time.Second); ; time.Sleep(50 * time.Millisecond) { // the mail is moved last
		if waiting, _, err = p.letterbox.Holds("INBOX"); err != nil {
			return nil, false, err
		}
		if taken, _, err = p.letterbox.Holds("Taken"); err != nil {
			taken = 0 // the mailbox is not there yet
		}
		if waiting == 0 && taken > 0 || time.Now().After(until) {
			break
		}
	}
	if n := len(p.analyser.Taken()) - before; n != int(d.Good) || len(kept.Contents) < int(d.Good) || waiting != 0 || taken == 0 {
		row[len(row)-1], good = fmt.Sprintf("expected %d orders: %d were acknowledged, %d are in the vault; %d mails wait, %d were moved", d.Good, n, len(kept.Contents), waiting, taken), false
	}
	return row, good, nil
}
