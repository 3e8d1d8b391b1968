package e2e

import (
	"bufio"
	"bytes"
	"context"
	"crypto/md5"
	"crypto/rand"
	"crypto/sha1"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"encoding/pem"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"mime/quotedprintable"
	"net"
	"net/http"
	"net/http/httptest"
	"net/mail"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"ydrion/remote"
	"ydrion/standin"
	"ydrion/testbed"
	"ydrion/workspace"
)

// realServer starts a server of the distribution on loopback, which has files or mails of ours. It is for who may start it: root, as it
// takes other accounts itself.
func realServer(t *testing.T, kind string) *partner {
	t.Helper()
	kind, how, _ := strings.Cut(kind, " ")
	program := map[string]string{"ftp": "/usr/sbin/vsftpd", "webdav": "/usr/sbin/apache2", "imap": "/usr/sbin/dovecot", "smtp": "/usr/sbin/exim4"}[kind]
	if _, err := os.Stat(program); err != nil || os.Getuid() != 0 {
		t.Skipf("%s is not there, or may not be started by this account", program)
	}
	folder := t.TempDir()
	for at := folder; at != os.TempDir() && at != "/"; at = filepath.Dir(at) { // the servers' accounts pass through it
		if err := os.Chmod(at, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	write := func(name, content string) string {
		t.Helper()
		path := filepath.Join(folder, name)
		if err := os.WriteFile(path, []byte(content), 0o644); err != nil {
			t.Fatal(err)
		}
		return path
	}
	certificate, authority, err := standin.NewCertificate()
	if err != nil {
		t.Fatal(err)
	}
	key, err := x509.MarshalPKCS8PrivateKey(certificate.PrivateKey)
	if err != nil {
		t.Fatal(err)
	}
	write("cert.pem", string(authority))
	write("key.pem", string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: key})))
	write("word", "salt-and-ice\n")
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	port := l.Addr().(*net.TCPAddr).Port
	l.Close() //nolint: it was to find a number
	files := filepath.Join(folder, "files")
	fill := strings.NewReplacer("{folder}", folder, "{files}", files, "{port}", strconv.Itoa(port))
	account := ""
	var cmd *exec.Cmd
	p := &partner{folder: files, place: workspace.Place{Name: "holm", Kind: kind, User: "ydrion", Password: workspace.Secret{File: filepath.Join(folder, "word")}, Authorities: filepath.Join(folder, "cert.pem"), Connections: 2, Patience: 20 * time.Second, Zone: time.UTC}}
	address := "https://127.0.0.1:"
	switch kind {
	case "ftp":
		account, address, p.place.TLS, p.place.User = "ftp", "ftp://127.0.0.1:", "explicit", "anonymous"
		p.place.Active = strings.HasPrefix(how, "active")
		implicit, passive := "NO", "YES"
		if p.place.Active {
			passive = "NO"
		}
		if strings.HasSuffix(how, "implicit") {
			p.place.TLS, implicit = "implicit", "YES"
		}
		cmd = exec.Command(program, write("vsftpd.conf", fill.Replace(`listen=YES
listen_address=127.0.0.1
listen_port={port}
anonymous_enable=YES
anon_root={files}
anon_upload_enable=YES
anon_mkdir_write_enable=YES
anon_other_write_enable=YES
anon_world_readable_only=NO
anon_umask=022
anon_max_rate=16000000
write_enable=YES
ssl_enable=YES
allow_anon_ssl=YES
force_anon_logins_ssl=YES
force_anon_data_ssl=YES
require_ssl_reuse=YES
rsa_cert_file={folder}/cert.pem
rsa_private_key_file={folder}/key.pem
secure_chroot_dir={folder}
seccomp_sandbox=NO
background=NO
`)+"implicit_ssl="+implicit+"\npasv_enable="+passive+"\n"))
	case "webdav":
		account = "www-data"
		hashed := sha1.Sum([]byte("salt-and-ice"))
		proof, users := "Basic", "ydrion:{SHA}"+base64.StdEncoding.EncodeToString(hashed[:])+"\n"
		if how == "digest" {
			proof, users = "Digest", fmt.Sprintf("ydrion:seals:%x\n", md5.Sum([]byte("ydrion:seals:salt-and-ice")))
		}
		write("users", users)
		write("types", "")
		modules := ""
		for _, m := range []string{"mpm_event", "authn_core", "authn_file", "authz_core", "authz_user", "auth_basic", "auth_digest", "dav", "dav_fs", "ssl", "mime"} {
			modules += "LoadModule " + m + "_module /usr/lib/apache2/modules/mod_" + m + ".so\n"
		}
		cmd = exec.Command(program, "-D", "FOREGROUND", "-f", write("apache.conf", modules+fill.Replace(`ServerRoot {folder}
ServerName 127.0.0.1
PidFile {folder}/pid
ErrorLog {folder}/log
TypesConfig {folder}/types
Listen 127.0.0.1:{port}
User www-data
Group www-data
DavLockDB {files}/.lock
SSLEngine on
SSLCertificateFile {folder}/cert.pem
SSLCertificateKeyFile {folder}/key.pem
DocumentRoot {files}
<Directory {files}>
Dav On
AuthName seals
AuthUserFile {folder}/users
Require valid-user
`)+"AuthType "+proof+"\nAuth"+proof+"Provider file\n</Directory>\n"))
	case "imap":
		account, address, p.place.TLS = "nobody", "imaps://127.0.0.1:", "implicit"
		tokened := ""
		if mechanism, info, is := strings.Cut(how, " "); is { // who shows a token is asked for there
			tokened = "auth_mechanisms = plain " + mechanism + "\npassdb {\n  driver = oauth2\n  mechanisms = " + mechanism + "\n  args = " + write("tokens.conf", "tokeninfo_url = "+info+"\nusername_attribute = name\n") + "\n}\n"
		}
		cmd = exec.Command(program, "-F", "-c", write("dovecot.conf", fill.Replace(`protocols = imap
listen = 127.0.0.1
base_dir = {folder}/run
state_dir = {folder}/state
log_path = {folder}/log
ssl = required
ssl_cert = <{folder}/cert.pem
ssl_key = <{folder}/key.pem
mail_location = maildir:{files}/%u
first_valid_uid = 1
service imap-login {
  inet_listener imap {
    port = 0
  }
  inet_listener imaps {
    port = {port}
    ssl = yes
  }
}
service stats {
  unix_listener stats-writer {
    mode = 0666
  }
}
namespace inbox {
  inbox = yes
  separator = /
}
`)+tokened+fill.Replace(`passdb {
  driver = static
  args = password=salt-and-ice
}
userdb {
  driver = static
  args = uid=nobody gid=nogroup home={files}/%u
}
`)))
	case "smtp":
		account, address, p.place.TLS, p.place.From, p.place.To = "Debian-exim", "smtp://127.0.0.1:", "explicit", "Ydrion <ydrion@skerry.example>", []string{"office@skerry.example"}
		cmd = exec.Command(program, "-bdf", "-C", write("exim.conf", fill.Replace(`primary_hostname = mail.skerry.example
exim_user = Debian-exim
exim_group = Debian-exim
spool_directory = {files}/in
log_file_path = {files}/out/%s
pid_file_path = {files}/out/pid
local_interfaces = 127.0.0.1
daemon_smtp_ports = {port}
tls_advertise_hosts = *
tls_certificate = {folder}/cert.pem
tls_privatekey = {folder}/key.pem
auth_advertise_hosts = *
acl_smtp_rcpt = rcpt
smtp_accept_queue_per_connection = 0
keep_environment =
begin acl
rcpt:
  accept authenticated = *
         domains = skerry.example
  deny message = no such mailbox here
begin routers
all:
  driver = accept
  transport = kept
begin transports
kept:
  driver = appendfile
  directory = {files}/done
  maildir_format
  user = Debian-exim
  envelope_to_add = true
begin authenticators
plain:
  driver = plaintext
  public_name = PLAIN
  server_prompts = :
  server_condition = ${if and{{eq{$auth2}{ydrion}}{eq{$auth3}{salt-and-ice}}}}
  server_set_id = $auth2
`)))
	}
	for _, f := range []string{"in", "out", "done"} {
		if err := os.MkdirAll(filepath.Join(files, f), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	if out, err := exec.Command("chown", "-R", account, files).CombinedOutput(); err != nil {
		t.Fatal(string(out))
	}
	if kind == "ftp" { // it lets nobody in who could write there
		if err := os.Chown(files, 0, 0); err != nil {
			t.Fatal(err)
		}
	}
	said, err := os.Create(filepath.Join(folder, "said")) // a file: nobody waits until all that it has begun has ended
	if err != nil {
		t.Fatal(err)
	}
	cmd.Stdout, cmd.Stderr, cmd.SysProcAttr = said, said, &syscall.SysProcAttr{Setpgid: true}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		syscall.Kill(-cmd.Process.Pid, syscall.SIGTERM) //nolint: it may have ended
		late := time.AfterFunc(5*time.Second, func() {
			syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) //nolint: the same
		})
		cmd.Wait() //nolint: it was ended
		late.Stop()
		syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) //nolint: what it has begun
		said.Close()                                    //nolint: it was to read
		if t.Failed() {
			for _, name := range []string{"said", "log"} {
				if log, err := os.ReadFile(filepath.Join(folder, name)); err == nil {
					t.Logf("%s says: %s", program, log)
				}
			}
		}
	})
	for begun := time.Now(); ; time.Sleep(50 * time.Millisecond) {
		c, err := net.Dial("tcp", "127.0.0.1:"+strconv.Itoa(port))
		if err == nil {
			c.Close() //nolint: it was to see
			break
		}
		if time.Since(begun) > 30*time.Second {
			log, _ := os.ReadFile(filepath.Join(folder, "said"))
			t.Skipf("%s does not run here: %s", program, log)
		}
	}
	if p.place.Address, err = url.Parse(address + strconv.Itoa(port)); err != nil {
		t.Fatal(err)
	}
	return p
}

// TestRealServers: servers that others have written get what is sent there, and give what is taken from there.
func TestRealServers(t *testing.T) {
	t.Parallel()
	for _, kind := range []string{"ftp", "ftp implicit", "ftp active", "ftp active implicit", "webdav", "webdav digest"} {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			holm := realServer(t, kind)
			b := testbed.Start(t, holm.at())
			b.Publish(map[string]string{
				"routes/there.yaml": "route: there\nlisten: {folder: \"{stations}/there\", names: \"*\"}\nread: {format: file}\ndeliver: {place: holm/in, name: \"{file.name}\"}\nrejected: {folder: \"{stations}/rejected\"}\n",
				"routes/from.yaml":  "route: from\nlisten: {place: holm/out, names: \"*\", quiet: 300ms, rhythm: 200ms, taken to: /done}\nread: {format: file}\ndeliver: {folder: \"{laboratory}/from\", name: \"{file.name}\"}\nrejected: {folder: \"{stations}/rejected\"}\n",
			})
			steps, err := b.Client.TryPlace(context.Background(), "holm", "/in")
			if err != nil {
				t.Fatal(err)
			}
			for _, s := range steps {
				if !s.OK {
					t.Errorf("%s: %s", s.What, s.Says)
				}
			}
			contents := map[string][]byte{"a b.txt": []byte("one\n"), "Øst & vest #1%.txt": []byte("two\n"), "empty.txt": {}, "[1] {x} *?.txt": []byte("three\n"), "large.bin": make([]byte, 24<<20)}
			rand.Read(contents["large.bin"]) //nolint: it does not fail
			for name, content := range contents {
				b.Drop("stations/there", name, string(content))
				part := filepath.Join(holm.folder, "out", name)
				if err := os.WriteFile(part, content, 0o644); err != nil {
					t.Fatal(err)
				}
			}
			if out, err := exec.Command("chown", "-R", "--reference", filepath.Join(holm.folder, "in"), filepath.Join(holm.folder, "out")).CombinedOutput(); err != nil {
				t.Fatal(string(out))
			}
			testbed.Until(t, "all have ended", func() (all bool) {
				n := 0
				b.Ask(&n, `select count(*) from pickups where state = 'delivered'`)
				return n == 2*len(contents)
			})
			for name, content := range contents {
				for _, at := range []string{filepath.Join(holm.folder, "in", name), filepath.Join(holm.folder, "done", name), b.Path("laboratory/from", name)} {
					if got, err := os.ReadFile(at); err != nil || !bytes.Equal(got, content) {
						t.Errorf("%s has %d bytes of %d, %v", at, len(got), len(content), err)
					}
				}
			}
			// What is there is not replaced.
			theirs := filepath.Join(holm.folder, "in", "theirs [1].txt")
			if err := os.WriteFile(theirs, []byte("theirs\n"), 0o644); err != nil {
				t.Fatal(err)
			}
			b.Drop("stations/there", "theirs [1].txt", "ours\n")
			b.Ended("theirs [1].txt", 0)
			for at, want := range map[string]string{theirs: "theirs\n", filepath.Join(holm.folder, "in", "theirs [1]-2.txt"): "ours\n"} {
				if got, err := os.ReadFile(at); err != nil || string(got) != want {
					t.Errorf("%s: %q %v", at, got, err)
				}
				if err := os.Remove(at); err != nil {
					t.Error(err)
				}
			}
			for _, f := range []string{"in", "out"} {
				entries, err := os.ReadDir(filepath.Join(holm.folder, f))
				if want := map[string]int{"in": len(contents)}[f]; err != nil || len(entries) != want {
					t.Errorf("%s has %v, %v", f, entries, err)
				}
			}
		})
	}
	t.Run("imap", func(t *testing.T) {
		t.Parallel()
		holm := realServer(t, "imap")
		b := testbed.Start(t, holm.at())
		ask := rawMailbox(t, holm)
		ask("LOGIN ydrion salt-and-ice")
		post := func(subject, file, attached string) {
			t.Helper()
			mail := strings.ReplaceAll("From: Maren <maren@ansel.example>\nTo: post@skerry.example\nSubject: "+subject+"\nDate: Sun, 29 Nov 2026 10:00:00 +0000\nMessage-ID: <"+subject+"@ansel.example>\nMIME-Version: 1.0\nContent-Type: multipart/mixed; boundary=xx\n\n--xx\nContent-Type: text/plain\n\nHello\n--xx\nContent-Type: text/csv; name=\""+file+"\"\nContent-Disposition: attachment; filename=\""+file+"\"\nContent-Transfer-Encoding: base64\n\n"+base64.StdEncoding.EncodeToString([]byte(attached))+"\n--xx--\n", "\n", "\r\n")
			ask(fmt.Sprintf("APPEND INBOX {%d+}\r\n%s", len(mail), mail))
		}
		b.Publish(map[string]string{"routes/mailed.yaml": "route: mailed\nlisten: {place: holm/INBOX, names: \"*.csv\", rhythm: 200ms, mails: {subject: \"sheet*\"}, taken to: /Taken/2026}\nread: {format: file}\ndeliver: {folder: \"{laboratory}/mailed\", name: \"{mail.subject}-{file.name}\"}\nrejected: {folder: \"{stations}/rejected\"}\n"})
		for n := range 20 {
			post(fmt.Sprintf("sheet %d", n), fmt.Sprintf("s%d.csv", n), fmt.Sprintf("id\n%d\n", n))
		}
		post("greetings", "g.csv", "id\nnone\n")
		testbed.Until(t, "all have come", func() bool { entries, _ := os.ReadDir(b.Path("laboratory/mailed")); return visible(entries) == 20 })
		for n := range 20 {
			if got, err := os.ReadFile(b.Path("laboratory/mailed", fmt.Sprintf("sheet %d-s%d.csv", n, n))); err != nil || string(got) != fmt.Sprintf("id\n%d\n", n) {
				t.Errorf("%d: %q %v", n, got, err)
			}
		}
		testbed.Until(t, "all are moved", func() bool { return strings.Contains(ask("STATUS Taken/2026 (MESSAGES)"), "MESSAGES 20)") })
		if said := ask("STATUS INBOX (MESSAGES UNSEEN)"); !strings.Contains(said, "MESSAGES 1 UNSEEN 1") {
			t.Errorf("what was not meant: %s", said)
		}
	})
}

// TestRealTokens: a mailbox is opened with a token that is got for a name and a secret, in both ways in which servers are shown one.
func TestRealTokens(t *testing.T) {
	t.Parallel()
	for _, mechanism := range []string{"oauthbearer", "xoauth2"} {
		t.Run(mechanism, func(t *testing.T) {
			t.Parallel()
			var given atomic.Int64
			office := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				w.Header().Set("Content-Type", "application/json")
				name, word, _ := r.BasicAuth()
				switch good := fmt.Sprintf("ice-%d", given.Load()); {
				case r.URL.Path == "/token" && r.FormValue("grant_type") == "client_credentials" && name == "skerry" && word == "salt-and-ice":
					fmt.Fprintf(w, `{"access_token": "ice-%d", "token_type": "Bearer", "expires_in": 3600}`, given.Add(1))
				case r.URL.Path == "/info" && r.FormValue("token") == good:
					io.WriteString(w, `{"name": "ydrion"}`)
				default:
					http.Error(w, `{"error": "invalid_client"}`, http.StatusUnauthorized)
				}
			}))
			defer office.Close()
			holm := realServer(t, "imap "+mechanism+" "+office.URL+"/info?token=")
			address, err := url.Parse(office.URL + "/token")
			if err != nil {
				t.Fatal(err)
			}
			secret := holm.place.Password
			ask := rawMailbox(t, holm)
			ask("LOGIN ydrion salt-and-ice")
			const sheet = "Subject: sheet\r\nMIME-Version: 1.0\r\nContent-Type: text/csv; name=s.csv\r\nContent-Disposition: attachment; filename=s.csv\r\n\r\nid\r\n1\r\n"
			ask(fmt.Sprintf("APPEND INBOX {%d+}\r\n%s", len(sheet), sheet))
			holm.place.TokenAddress, holm.place.Client, holm.place.ClientSecret, holm.place.Password = address, "skerry", secret, workspace.Secret{}
			b := testbed.Start(t, holm.at())
			b.Publish(map[string]string{"routes/mailed.yaml": "route: mailed\nlisten: {place: holm/INBOX, names: \"*.csv\", rhythm: 200ms, taken to: /Taken}\nread: {format: file}\ndeliver: {folder: \"{laboratory}/mailed\", name: \"{file.name}\"}\nrejected: {folder: \"{stations}/rejected\"}\n"})
			testbed.Until(t, "it has come", func() bool {
				got, _ := os.ReadFile(b.Path("laboratory/mailed/s.csv"))
				return string(got) == "id\r\n1\r\n"
			})
			testbed.Until(t, "it is moved", func() bool { return strings.Contains(ask("STATUS INBOX (MESSAGES)"), "MESSAGES 0)") })
			if n := given.Load(); n < 1 {
				t.Errorf("%d tokens were given", n)
			}
			// Without a good one nobody is let in, and it is said.
			other, wrong := holm.place, filepath.Join(t.TempDir(), "token")
			if err := os.WriteFile(wrong, []byte("stale"), 0o600); err != nil {
				t.Fatal(err)
			}
			other.TokenAddress, other.Token = nil, workspace.Secret{File: wrong}
			p := remote.New(&workspace.Environment{Places: map[string]workspace.Place{"holm": other}})
			defer p.Close()
			err = p.With(t.Context(), "holm", func(remote.Tree) error { return nil })
			if !remote.IsAway(err) || !strings.Contains(err.Error(), "does not let ydrion in: the server says") || strings.Contains(err.Error(), "stale") {
				t.Errorf("with no good token: %v", err)
			}
		})
	}
}

// TestRealMailServer: mails of more than a server takes on one connection arrive once each, as they are meant; what it refuses waits for a person.
func TestRealMailServer(t *testing.T) {
	t.Parallel()
	holm := realServer(t, "smtp")
	b := testbed.Start(t, holm.at())
	b.Publish(map[string]string{
		"routes/mailing.yaml": "route: mailing\nlisten: {folder: \"{stations}/mailing\", names: \"*\"}\nread: {format: csv}\ncheck: {schema: schemas/mailing.json}\nmap: maps/mailing.map\nrejected: {folder: \"{stations}/rejected\"}\n" +
			"deliver:\n  name: \"{id} Øst.csv\"\n  one file per: record\n  to:\n    - place: holm\n      mail:\n        to: [\"{who}\"]\n        subject: \"Specimen {id}: {text}\"\n        text: |\n          Seal {id}: {text}\n          .\n          .dot\n          From here\n        html: \"<p>{text}</p>\"\n",
		"schemas/mailing.json": `{"fields": [{"name": "id"}, {"name": "text"}, {"name": "who"}]}`,
		"maps/mailing.map":     "map mailing\nsource csv schemas/mailing.json\ntarget csv based on samples/mailing.csv\nignore who\n\nid = id\ntext = text\n",
		"samples/mailing.csv":  "id,text\n",
	})
	const mails = 60
	rows := "id,text,who\n"
	for n := range mails {
		rows += fmt.Sprintf("%d,\"æøå <b> & €, %d\",Maren <maren@skerry.example>\n", n, n)
	}
	b.Drop("stations/mailing", "sheet.csv", rows)
	b.Ended("sheet.csv", 0)
	b.Drop("stations/mailing", "nobody.csv", "id,text,who\nx,x,nobody@elsewhere.example\n")
	testbed.Until(t, "it is refused", func() bool {
		p := byName(t, b)["nobody.csv"]
		return p.State == "held" && strings.Contains(p.Reason, "the server does not take mail to nobody@elsewhere.example: 550")
	})
	came := map[string]int{}
	testbed.Until(t, "all are in the mailbox", func() bool {
		entries, _ := os.ReadDir(filepath.Join(holm.folder, "done/new"))
		return len(entries) == mails
	})
	entries, err := os.ReadDir(filepath.Join(holm.folder, "done/new"))
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range entries {
		text, err := os.ReadFile(filepath.Join(holm.folder, "done/new", e.Name()))
		if err != nil {
			t.Fatal(err)
		}
		m, err := mail.ReadMessage(bytes.NewReader(text))
		if err != nil {
			t.Fatal(err)
		}
		subject, err := new(mime.WordDecoder).DecodeHeader(m.Header.Get("Subject"))
		id, said, is := strings.Cut(strings.TrimPrefix(subject, "Specimen "), ": ")
		if err != nil || !is || m.Header.Get("Envelope-To") != "maren@skerry.example" {
			t.Errorf("%q to %q: %v", subject, m.Header.Get("Envelope-To"), err)
		}
		came[id]++
		parts := map[string]string{}
		takeApart(t, m.Header.Get("Content-Type"), m.Header.Get("Content-Transfer-Encoding"), m.Body, parts)
		want := map[string]string{
			"text/plain": "Seal " + id + ": " + said + "\n.\n.dot\nFrom here\n", "text/html": "<p>æøå &lt;b&gt; &amp; €, " + id + "</p>",
			id + " Øst.csv": "id,text\n" + id + ",\"" + said + "\"\n",
		}
		for name, content := range want {
			if strings.ReplaceAll(parts[name], "\r\n", "\n") != content {
				t.Errorf("%s: %q, not %q", name, parts[name], content)
			}
		}
		if said != "æøå <b> & €, "+id || len(parts) != len(want) {
			t.Errorf("%q has %d parts", subject, len(parts))
		}
	}
	if len(came) != mails {
		t.Errorf("%d of %d came: %v", len(came), mails, came)
	}
}

// takeApart gives the parts of a mail (RFC 2045, 2046) by their file's name or their type.
func takeApart(t *testing.T, kind, encoding string, body io.Reader, into map[string]string) {
	t.Helper()
	is, with, err := mime.ParseMediaType(kind)
	if err != nil {
		t.Fatal(err)
	}
	if strings.HasPrefix(is, "multipart/") {
		for parts := multipart.NewReader(body, with["boundary"]); ; {
			part, err := parts.NextRawPart()
			if err != nil {
				return
			}
			takeApart(t, part.Header.Get("Content-Type"), part.Header.Get("Content-Transfer-Encoding"), part, into)
		}
	}
	switch strings.ToLower(encoding) {
	case "base64":
		body = base64.NewDecoder(base64.StdEncoding, body)
	case "quoted-printable":
		body = quotedprintable.NewReader(body)
	}
	content, err := io.ReadAll(body)
	if err != nil {
		t.Fatal(err)
	}
	name, err := new(mime.WordDecoder).DecodeHeader(with["name"])
	if err != nil {
		t.Fatal(err)
	}
	if name == "" {
		name = is
	}
	into[name] = string(content)
}

// visible counts entries that are not hidden.
func visible(entries []os.DirEntry) (n int) {
	for _, e := range entries {
		if !strings.HasPrefix(e.Name(), ".") {
			n++
		}
	}
	return n
}

// rawMailbox speaks to a mailbox (RFC 9051) line by line, and gives what is answered.
func rawMailbox(t *testing.T, holm *partner) func(command string) string {
	t.Helper()
	c, err := tls.Dial("tcp", holm.place.Address.Host, &tls.Config{InsecureSkipVerify: true})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Close() })
	in, n := bufio.NewReader(c), 0
	return func(command string) (said string) {
		t.Helper()
		n++
		tag := fmt.Sprintf("a%d ", n)
		if _, err := c.Write([]byte(tag + command + "\r\n")); err != nil {
			t.Fatal(err)
		}
		for {
			line, err := in.ReadString('\n')
			if err != nil {
				t.Fatal(said, err)
			}
			if said += line; strings.HasPrefix(line, tag) {
				if !strings.HasPrefix(line, tag+"OK") {
					t.Fatalf("%.60s: %s", command, said)
				}
				return said
			}
		}
	}
}
