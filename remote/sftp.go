package remote

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"path"
	"slices"
	"strings"
	"sync"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/knownhosts"

	"ydrion/files"
	"ydrion/workspace"
)

// sftpTree is a place reached by the SSH File Transfer Protocol, version 3 (draft-ietf-secsh-filexfer-02).
type sftpTree struct {
	place *workspace.Place
	base  string
	watch *watch
	names *files.Turns
	ssh   *ssh.Client
	files *sftp.Client
	syncs bool // the server can be asked to make a file durable
	keeps bool // a rename of the server never replaces a file, as the draft says; not all servers follow it
}

// outstanding is how much of a file may be on its way to a server unanswered: behind a break, what lies less
// than that before a file's end may have holes.
const outstanding = 64 * 32 << 10

// keyKinds are the kinds of keys that servers have. One that has several shows that which it is asked for.
var keyKinds = [][]string{nil, {ssh.KeyAlgoED25519}, {ssh.KeyAlgoECDSA256, ssh.KeyAlgoECDSA384, ssh.KeyAlgoECDSA521}, {ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256}}

// shows remembers, by place, which kind of key the server was asked for with success.
var shows sync.Map

func dialSFTP(ctx context.Context, p *workspace.Place) (Conn, error) {
	first := 0
	if known, is := shows.Load(p); is {
		first = known.(int)
	}
	var refused error
	for i := range keyKinds {
		kind := (first + i) % len(keyKinds)
		t, other, err := dialKey(ctx, p, keyKinds[kind])
		switch {
		case err == nil:
			shows.Store(p, kind)
			return t, nil
		case !other && refused == nil:
			return nil, err
		case refused == nil:
			refused = err
		}
	}
	return nil, refused
}

// dialKey connects to a server that is asked for a kind of key. Other says that it shows one that is not known.
func dialKey(ctx context.Context, p *workspace.Place, kinds []string) (made Tree, other bool, err error) {
	config := &ssh.ClientConfig{Config: algorithms(p.Old), User: p.User, Timeout: p.Patience, HostKeyAlgorithms: kinds}
	var shown string
	if err := hostKeys(p, config, &shown); err != nil {
		return nil, false, err
	}
	if err := identity(p, config); err != nil {
		return nil, false, err
	}
	t := &sftpTree{place: p, base: p.Address.Path, watch: newWatch(p.Patience), names: &files.Turns{}}
	c, err := t.watch.dial(ctx, "tcp", p.Port())
	if err != nil {
		return nil, false, fmt.Errorf("does not answer at %s: %w", p.Port(), plain(err))
	}
	stop := context.AfterFunc(ctx, t.Break)
	defer stop()
	defer t.watch.ask()()
	var none *ssh.AlgorithmNegotiationError
	over, channels, requests, err := ssh.NewClientConn(c, p.Port(), config)
	switch {
	case err == nil:
	case shown != "":
		err = errors.New(shown)
	case strings.Contains(err.Error(), "unable to authenticate"):
		err = fmt.Errorf("does not let %s in: the server refuses the key or the password", p.User)
	case t.watch.late.Load():
		err = fmt.Errorf("does not answer at %s within %s", p.Port(), p.Patience)
	case errors.As(err, &none):
		err = fmt.Errorf("has only what we do not use for the %s: %s", none.What, strings.Join(none.RequestedAlgorithms, ", "))
		if !p.Old && slices.ContainsFunc(none.RequestedAlgorithms, weak) {
			err = fmt.Errorf("%w. Some of that is known to be weak, and can be used all the same: say `old algorithms: allowed` if the server cannot be renewed", err)
		}
	default:
		err = fmt.Errorf("cannot be spoken to by SSH at %s: %w", p.Port(), plain(err))
	}
	if err != nil {
		t.Break()
		return nil, shown != "", err
	}
	t.ssh = ssh.NewClient(over, channels, requests)
	if t.files, err = sftp.NewClient(t.ssh, sftp.UseConcurrentWrites(true), sftp.UseConcurrentReads(true)); err != nil {
		t.Break()
		return nil, false, fmt.Errorf("speaks SSH, but not SFTP: %w", plain(err))
	}
	_, t.syncs = t.files.HasExtension("fsync@openssh.com")
	_, t.keeps = t.files.HasExtension("posix-rename@openssh.com")
	return t, false, nil
}

// algorithms are those by which a server is spoken to: all that are held to be sound, and one that nearly all servers have. Old servers
// may have others only, which the library names insecure.
func algorithms(old bool) (out ssh.Config) {
	sound := ssh.SupportedAlgorithms()
	out.KeyExchanges = append(sound.KeyExchanges, ssh.InsecureKeyExchangeDH14SHA1)
	if old {
		weak := ssh.InsecureAlgorithms()
		out.KeyExchanges = append(sound.KeyExchanges, weak.KeyExchanges...)
		out.Ciphers = append(sound.Ciphers, weak.Ciphers...)
	}
	return out
}

// weak tells whether an algorithm is one of those that are used only where the place allows it.
func weak(name string) bool {
	all := ssh.InsecureAlgorithms()
	return slices.Contains(all.KeyExchanges, name) || slices.Contains(all.Ciphers, name)
}

// hostKeys lets only that server in front of us whose key is known. Shown says in words why another was refused.
func hostKeys(p *workspace.Place, config *ssh.ClientConfig, shown *string) error {
	var known ssh.HostKeyCallback
	if p.KnownHosts != "" {
		var err error
		if known, err = knownhosts.New(p.KnownHosts); err != nil {
			return fmt.Errorf("cannot be reached: the file with known hosts cannot be read: %w", err)
		}
	}
	config.HostKeyCallback = func(host string, from net.Addr, key ssh.PublicKey) error {
		print := ssh.FingerprintSHA256(key)
		if slices.Contains(p.HostKeys, print) {
			return nil
		}
		if known != nil && known(host, from, key) == nil {
			return nil
		}
		*shown = fmt.Sprintf("is not let in: the server shows the key %s (%s), which is not the one that the place names; if that is right, say `host key: %q`", print, key.Type(), print)
		return errors.New(*shown)
	}
	return nil
}

// identity is how the server knows us.
func identity(p *workspace.Place, config *ssh.ClientConfig) error {
	if p.KeyFile != "" {
		b, err := os.ReadFile(p.KeyFile)
		if err != nil {
			return fmt.Errorf("cannot be reached: the private key cannot be read: %w", err)
		}
		var signer ssh.Signer
		if p.Passphrase.Any() {
			phrase, err := Secret(p.Passphrase)
			if err != nil {
				return err
			}
			signer, err = ssh.ParsePrivateKeyWithPassphrase(b, []byte(phrase))
			if err != nil {
				return fmt.Errorf("cannot be reached: the private key %s cannot be opened with its passphrase", p.KeyFile)
			}
		} else if signer, err = ssh.ParsePrivateKey(b); err != nil {
			return fmt.Errorf("cannot be reached: %s is not a private key that can be used: %w", p.KeyFile, err)
		}
		config.Auth = append(config.Auth, ssh.PublicKeys(signer))
	}
	if p.Password.Any() {
		word, err := Secret(p.Password)
		if err != nil {
			return err
		}
		config.Auth = append(config.Auth, ssh.Password(word), ssh.KeyboardInteractive(func(_, _ string, questions []string, _ []bool) ([]string, error) {
			answers := make([]string, len(questions))
			for i := range answers {
				answers[i] = word
			}
			return answers, nil
		}))
	}
	return nil
}

// plain is an error of the network without addresses that say nothing.
func plain(err error) error {
	var op *net.OpError
	if errors.As(err, &op) && op.Err != nil {
		var sys *os.SyscallError
		if errors.As(op.Err, &sys) {
			return sys.Err
		}
		return op.Err
	}
	return err
}

func (t *sftpTree) at(p string) string { return path.Join(t.base, p) }

// said puts an error of the server into words.
func (t *sftpTree) said(doing, p string, err error) error {
	var status *sftp.StatusError
	if errors.As(err, &status) && status.FxCode() != sftp.ErrSSHFxConnectionLost && status.FxCode() != sftp.ErrSSHFxNoConnection {
		return refused(t.place, doing, p, strings.TrimPrefix(strings.TrimPrefix(status.Error(), "sftp: "), "\"\""))
	}
	return said(t.place, t.watch, doing, p, err)
}

func (t *sftpTree) List(folder string) ([]Info, error) {
	defer t.watch.ask()()
	all, err := t.files.ReadDir(t.at(folder))
	if err != nil {
		return nil, t.said("looking into", folder, err)
	}
	out := make([]Info, 0, len(all))
	for _, i := range all {
		out = append(out, ofFile(i))
	}
	return out, nil
}

func ofFile(i fs.FileInfo) Info {
	return Info{Name: i.Name(), Size: i.Size(), Modified: i.ModTime().UTC(), Folder: i.IsDir(), Other: !i.IsDir() && !i.Mode().IsRegular()}
}

func (t *sftpTree) Look(p string) (Info, error) {
	defer t.watch.ask()()
	i, err := t.files.Lstat(t.at(p))
	if err != nil {
		return Info{}, t.said("looking at", p, err)
	}
	return ofFile(i), nil
}

func (t *sftpTree) Open(p string, from int64) (io.ReadCloser, error) {
	defer t.watch.ask()()
	f, err := t.files.Open(t.at(p))
	if err != nil {
		return nil, t.said("reading", p, err)
	}
	if from > 0 {
		if _, err := f.Seek(from, io.SeekStart); err != nil {
			f.Close() //nolint: nothing was written
			return nil, t.said("reading", p, err)
		}
	}
	return &sftpReader{f, t, p}, nil
}

// sftpReader reads a file of a server.
type sftpReader struct {
	*sftp.File
	of   *sftpTree
	path string
}

func (r *sftpReader) Read(b []byte) (int, error) {
	defer r.of.watch.ask()()
	n, err := r.File.Read(b)
	if err != nil && err != io.EOF {
		err = r.of.said("reading", r.path, err)
	}
	return n, err
}

// WriteTo has several portions on their way at once.
func (r *sftpReader) WriteTo(w io.Writer) (int64, error) {
	defer r.of.watch.ask()()
	ours := &ourWriter{Writer: w}
	n, err := r.File.WriteTo(ours)
	if ours.err != nil {
		return n, ours.err
	}
	return n, r.of.said("reading", r.path, err)
}

func (r *sftpReader) Close() error {
	defer r.of.watch.ask()()
	return r.of.said("reading", r.path, r.File.Close())
}

// ourWriter remembers errors that are ours, not the server's.
type ourWriter struct {
	io.Writer
	err error
}

func (o *ourWriter) Write(b []byte) (int, error) {
	n, err := o.Writer.Write(b)
	o.err = err
	return n, err
}

// ourReader remembers errors that are ours, not the server's.
type ourReader struct {
	io.Reader
	size int64 // how much there is; -1: that is not known
	err  error
}

// Size tells how much there is, which bounds what is on its way at once.
func (o *ourReader) Size() int64 { return o.size }

func (o *ourReader) Read(b []byte) (int, error) {
	n, err := o.Reader.Read(b)
	if err != nil && err != io.EOF {
		o.err = err
	}
	return n, err
}

func (t *sftpTree) Write(p string, from int64, content io.Reader) error {
	defer t.watch.ask()()
	how := os.O_WRONLY | os.O_CREATE
	if from == 0 {
		how |= os.O_TRUNC
	}
	f, err := t.files.OpenFile(t.at(p), how)
	if err != nil {
		return t.said("writing", p, err)
	}
	if from > 0 {
		_, err = f.Seek(from, io.SeekStart)
	}
	ours := &ourReader{Reader: content, size: -1}
	if s, is := content.(interface{ Size() int64 }); is {
		ours.size = s.Size()
	}
	if err == nil {
		_, err = f.ReadFrom(ours)
	}
	if err == nil && t.syncs {
		err = f.Sync()
	}
	closing := f.Close()
	switch {
	case ours.err != nil:
		return ours.err
	case err != nil:
		return t.said("writing", p, err)
	}
	return t.said("writing", p, closing)
}

func (t *sftpTree) Move(from, to string) error {
	defer t.watch.ask()()
	if !t.keeps {
		// The server may replace what is there.
		defer t.names.Take(t.at(to))()
		if _, err := t.files.Lstat(t.at(to)); err == nil {
			return t.said("naming", to, fs.ErrExist)
		}
	}
	err := t.files.Rename(t.at(from), t.at(to))
	if err == nil || lost(err) {
		return t.said("naming", to, err)
	}
	// The protocol has no word for what is in the way.
	if _, look := t.files.Lstat(t.at(from)); errors.Is(look, fs.ErrNotExist) {
		return t.said("naming", from, fs.ErrNotExist)
	}
	if _, look := t.files.Lstat(t.at(to)); look == nil {
		return t.said("naming", to, fs.ErrExist)
	}
	return t.said("naming", to, err)
}

// lost tells whether the server has not answered.
func lost(err error) bool {
	var status *sftp.StatusError
	return !errors.As(err, &status) && kindOf(err) == err || status != nil && (status.FxCode() == sftp.ErrSSHFxConnectionLost || status.FxCode() == sftp.ErrSSHFxNoConnection)
}

func (t *sftpTree) Replace(from, to string) error {
	defer t.watch.ask()()
	if t.keeps {
		return t.said("replacing", to, t.files.PosixRename(t.at(from), t.at(to)))
	}
	if err := t.files.Remove(t.at(to)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return t.said("replacing", to, err)
	}
	return t.said("replacing", to, t.files.Rename(t.at(from), t.at(to)))
}

func (t *sftpTree) Remove(p string) error {
	defer t.watch.ask()()
	return t.said("removing", p, t.files.Remove(t.at(p)))
}

func (t *sftpTree) MakeFolder(p string) error {
	defer t.watch.ask()()
	err := t.files.Mkdir(t.at(p))
	if err == nil || lost(err) {
		return t.said("making", p, err)
	}
	if i, look := t.files.Stat(t.at(p)); look == nil && i.IsDir() {
		return nil
	}
	return t.said("making", p, err)
}

func (t *sftpTree) Durable() bool { return t.syncs }

// Parallel is 4: requests are answered in any order.
func (t *sftpTree) Parallel() int { return 4 }

func (t *sftpTree) Resumes() bool { return true }

func (t *sftpTree) Rest() error {
	defer t.watch.ask()()
	_, err := t.files.Lstat(t.at("/"))
	return t.said("asking for", "/", err)
}

func (t *sftpTree) Break() {
	t.watch.end()
	if t.files != nil {
		t.files.Close() //nolint: it is given up
	}
	if t.ssh != nil {
		t.ssh.Close() //nolint: it is given up
	}
}
