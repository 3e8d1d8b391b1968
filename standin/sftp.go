package standin

import (
	"crypto/ed25519"
	"crypto/sha256"
	"errors"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"sort"
	"strings"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
)

// SFTP is a server for the SSH File Transfer Protocol.
type SFTP struct {
	*server
	// HostKey is the fingerprint of the key that the server shows.
	HostKey string
	// Program, if set before the first client comes, speaks SFTP instead, such as that of OpenSSH: it sees the whole
	// machine, and minds no manners.
	Program string
}

// Login is who is let in.
type Login struct {
	User     string
	Password string // empty: nobody by a password
	Token    string // of servers of mails: who shows it is let in, too; empty: nobody by a token
	Key      ssh.PublicKey
}

// NewSFTP serves a folder by SFTP. The server's key is made from seed, so that it stays the same over restarts.
func NewSFTP(address, folder, seed string, login Login) (*SFTP, error) {
	root, err := os.OpenRoot(folder)
	if err != nil {
		return nil, err
	}
	sum := sha256.Sum256([]byte(seed))
	signer, err := ssh.NewSignerFromKey(ed25519.NewKeyFromSeed(sum[:]))
	if err != nil {
		return nil, err
	}
	refused := errors.New("not let in")
	config := &ssh.ServerConfig{}
	if login.Password != "" {
		config.PasswordCallback = func(c ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
			if c.User() != login.User || string(password) != login.Password {
				return nil, refused
			}
			return nil, nil
		}
	}
	if login.Key != nil {
		config.PublicKeyCallback = func(c ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
			if c.User() != login.User || string(key.Marshal()) != string(login.Key.Marshal()) {
				return nil, refused
			}
			return nil, nil
		}
	}
	config.AddHostKey(signer)
	out := &SFTP{HostKey: ssh.FingerprintSHA256(signer.PublicKey())}
	out.server, err = serve(address, func(c *conn) { out.session(c, config, root) })
	if err != nil {
		return nil, errors.Join(err, root.Close())
	}
	return out, nil
}

// session serves one client.
func (s *SFTP) session(c *conn, config *ssh.ServerConfig, root *os.Root) {
	over, channels, requests, err := ssh.NewServerConn(c, config)
	if err != nil {
		return
	}
	defer over.Close()
	go ssh.DiscardRequests(requests)
	for offered := range channels {
		if offered.ChannelType() != "session" {
			offered.Reject(ssh.UnknownChannelType, "sessions only") //nolint: the client is told
			continue
		}
		channel, asked, err := offered.Accept()
		if err != nil {
			return
		}
		go func() {
			for r := range asked {
				is := r.Type == "subsystem" && len(r.Payload) > 4 && string(r.Payload[4:]) == "sftp"
				r.Reply(is, nil) //nolint: the client is told
			}
		}()
		if s.Program != "" {
			program := exec.Command(s.Program)
			program.Stdin, program.Stdout = channel, channel
			program.Run()   //nolint: however it ended
			channel.Close() //nolint: it is over
			continue
		}
		t := &tree{root: root, conn: c}
		files := sftp.NewRequestServer(channel, sftp.Handlers{FileGet: t, FilePut: t, FileCmd: t, FileList: t})
		files.Serve() //nolint: however it ended
		files.Close() //nolint: it is over
	}
}

// tree are the files below a folder, as a client asks for them.
type tree struct {
	root *os.Root
	conn *conn
}

func below(name string) string {
	if name = strings.Trim(filepath.Clean("/"+name), "/"); name == "" {
		return "."
	}
	return name
}

func (t *tree) Fileread(r *sftp.Request) (io.ReaderAt, error) {
	var f *os.File
	err := t.conn.do(Read, func() (err error) { f, err = t.root.Open(below(r.Filepath)); return err })
	if err != nil {
		return nil, said(err)
	}
	return f, nil
}

func (t *tree) Filewrite(r *sftp.Request) (io.WriterAt, error) {
	var f *os.File
	err := t.conn.do(Write, func() (err error) {
		how := os.O_RDWR
		if flags := r.Pflags(); flags.Creat {
			how |= os.O_CREATE
			if flags.Trunc {
				how |= os.O_TRUNC
			}
			if flags.Excl {
				how |= os.O_EXCL
			}
		}
		f, err = t.root.OpenFile(below(r.Filepath), how, 0o644)
		return err
	})
	if err != nil {
		return nil, said(err)
	}
	return f, nil
}

func (t *tree) Filecmd(r *sftp.Request) error {
	name, to := below(r.Filepath), below(r.Target)
	switch r.Method {
	case "Setstat":
		return nil
	case "Rename":
		return said(t.conn.do(Rename, func() error {
			if err := t.root.Link(name, to); err != nil {
				return err
			}
			return t.root.Remove(name)
		}))
	case "Remove":
		return said(t.conn.do(Remove, func() error { return t.root.Remove(name) }))
	case "Rmdir":
		if i, err := t.root.Lstat(name); err == nil && !i.IsDir() {
			return sftp.ErrSSHFxFailure
		}
		return said(t.root.Remove(name))
	case "Mkdir":
		return said(t.conn.do(Make, func() error { return t.root.Mkdir(name, 0o755) }))
	}
	return sftp.ErrSSHFxOpUnsupported
}

// PosixRename replaces what is there.
func (t *tree) PosixRename(r *sftp.Request) error {
	return said(t.conn.do(Rename, func() error { return t.root.Rename(below(r.Filepath), below(r.Target)) }))
}

func (t *tree) Filelist(r *sftp.Request) (sftp.ListerAt, error) {
	name := below(r.Filepath)
	if r.Method != "List" {
		return t.look(name, t.root.Stat)
	}
	var out infos
	err := t.conn.do(List, func() error {
		f, err := t.root.Open(name)
		if err != nil {
			return err
		}
		defer f.Close()
		entries, err := f.ReadDir(-1)
		if err != nil {
			return err
		}
		for _, e := range entries {
			if i, err := e.Info(); err == nil {
				out = append(out, i)
			}
		}
		sort.Slice(out, func(i, j int) bool { return out[i].Name() < out[j].Name() })
		return nil
	})
	if given, is := t.conn.manners.listed(name, out, err); is {
		return given.(infos), nil
	}
	return out, said(err)
}

// Lstat does not follow links.
func (t *tree) Lstat(r *sftp.Request) (sftp.ListerAt, error) {
	return t.look(below(r.Filepath), t.root.Lstat)
}

func (t *tree) look(name string, how func(string) (fs.FileInfo, error)) (sftp.ListerAt, error) {
	var out infos
	err := t.conn.do(Look, func() error {
		i, err := how(name)
		if err == nil {
			out = infos{i}
		}
		return err
	})
	return out, said(err)
}

// infos gives files in portions.
type infos []fs.FileInfo

func (l infos) ListAt(to []os.FileInfo, from int64) (int, error) {
	if from >= int64(len(l)) {
		return 0, io.EOF
	}
	n := copy(to, l[from:])
	if n < len(to) {
		return n, io.EOF
	}
	return n, nil
}

// said is an error as the protocol has it.
func said(err error) error {
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return sftp.ErrSSHFxNoSuchFile
	case errors.Is(err, fs.ErrPermission):
		return sftp.ErrSSHFxPermissionDenied
	}
	return err
}
