package standin

import (
	"bufio"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"path"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// FTP is a server for FTP with what clients of today use: passive data connections, lists for machines, TLS.
type FTP struct{ *server }

// NewFTP serves a folder by FTP. With a certificate it offers TLS.
func NewFTP(address, folder string, certificate *tls.Certificate, login Login) (*FTP, error) {
	root, err := os.OpenRoot(folder)
	if err != nil {
		return nil, err
	}
	s, err := serve(address, func(c *conn) {
		(&ftpSession{root: root, conn: c, control: c, login: login, certificate: certificate, folder: "/"}).serve()
	})
	if err != nil {
		return nil, errors.Join(err, root.Close())
	}
	return &FTP{s}, nil
}

// ftpSession is a client that has connected.
type ftpSession struct {
	root        *os.Root
	conn        *conn
	control     net.Conn
	login       Login
	certificate *tls.Certificate
	user        string
	in          bool
	private     bool // data connections are encrypted
	folder      string
	rest        int64
	from        string // of a rename
	data        net.Listener
}

func (s *ftpSession) say(code int, format string, args ...any) error {
	_, err := fmt.Fprintf(s.control, "%d %s\r\n", code, fmt.Sprintf(format, args...))
	return err
}

func (s *ftpSession) serve() {
	defer func() {
		if s.data != nil {
			s.data.Close() //nolint: it is over
		}
	}()
	in := bufio.NewReader(s.control)
	err := s.say(220, "a stand-in")
	for err == nil {
		var line string
		if line, err = in.ReadString('\n'); err != nil {
			return
		}
		command, argument, _ := strings.Cut(strings.TrimRight(line, "\r\n"), " ")
		command = strings.ToUpper(command)
		switch {
		case command == "QUIT":
			s.say(221, "bye") //nolint: it is over
			return
		case command == "AUTH" && s.certificate != nil:
			if err = s.say(234, "go on"); err == nil {
				s.control = tls.Server(s.conn, &tls.Config{Certificates: []tls.Certificate{*s.certificate}})
				in = bufio.NewReader(s.control)
			}
		case !s.in && command != "USER" && command != "PASS" && command != "FEAT":
			err = s.say(530, "not let in")
		default:
			err = s.answer(command, argument)
		}
	}
}

// at is what a name of the client means.
func (s *ftpSession) at(name string) string {
	if !path.IsAbs(name) {
		name = path.Join(s.folder, name)
	}
	return below(name)
}

// told answers what has been done.
func (s *ftpSession) told(err error, code int, says string) error {
	switch {
	case err == nil:
		return s.say(code, "%s", says)
	case errors.Is(err, errCut):
		return err
	case errors.Is(err, syscall.ENOSPC):
		return s.say(452, "no space left")
	}
	return s.say(550, "that cannot be done")
}

func (s *ftpSession) answer(command, argument string) error {
	name := s.at(argument)
	switch command {
	case "USER":
		s.user = argument
		return s.say(331, "and the password")
	case "PASS":
		if s.in = s.user == s.login.User && argument == s.login.Password; !s.in {
			return s.say(530, "not let in")
		}
		return s.say(230, "come in")
	case "FEAT":
		_, err := io.WriteString(s.control, "211-what there is\r\n MLST type*;size*;modify*;\r\n EPSV\r\n REST STREAM\r\n UTF8\r\n MDTM\r\n SIZE\r\n211 end\r\n")
		return err
	case "TYPE", "OPTS", "NOOP", "PBSZ":
		return s.say(200, "well")
	case "PROT":
		s.private = argument == "P"
		return s.say(200, "well")
	case "PWD":
		return s.say(257, "%q", s.folder)
	case "CWD":
		if i, err := s.root.Stat(name); err != nil || !i.IsDir() {
			return s.say(550, "there is no such folder")
		}
		s.folder = "/" + strings.TrimPrefix(name, ".")
		return s.say(250, "well")
	case "EPSV":
		if s.data != nil {
			s.data.Close() //nolint: there is another
		}
		var err error
		if s.data, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
			return err
		}
		return s.say(229, "come (|||%d|)", s.data.Addr().(*net.TCPAddr).Port)
	case "REST":
		var err error
		if s.rest, err = strconv.ParseInt(argument, 10, 64); err != nil {
			return s.say(501, "not a number")
		}
		return s.say(350, "well")
	case "MLST":
		var line string
		err := s.conn.do(Look, func() error {
			i, err := s.root.Lstat(name)
			if err == nil {
				line = fact(i) + " " + argument
			}
			return err
		})
		if err != nil {
			return s.told(err, 0, "")
		}
		_, err = fmt.Fprintf(s.control, "250-this\r\n %s\r\n250 end\r\n", line)
		return err
	case "RNFR":
		s.from = name
		if _, err := s.root.Lstat(name); err != nil {
			return s.say(550, "there is no such file")
		}
		return s.say(350, "and the new name")
	case "RNTO":
		return s.told(s.conn.do(Rename, func() error { return s.root.Rename(s.from, name) }), 250, "well")
	case "DELE":
		return s.told(s.conn.do(Remove, func() error { return s.root.Remove(name) }), 250, "well")
	case "MKD":
		return s.told(s.conn.do(Make, func() error { return s.root.Mkdir(name, 0o755) }), 257, "well")
	case "MLSD", "LIST", "RETR", "STOR":
		return s.transfer(command, name)
	}
	return s.say(502, "not here")
}

// fact tells of a file as lists for machines do.
func fact(i fs.FileInfo) string {
	kind := "file"
	if i.IsDir() {
		kind = "dir"
	}
	return fmt.Sprintf("type=%s;size=%d;modify=%s;", kind, i.Size(), i.ModTime().UTC().Format("20060102150405.000"))
}

// transfer does what has a connection of its own.
func (s *ftpSession) transfer(command, name string) error {
	from := s.rest
	s.rest = 0
	var file *os.File
	var list strings.Builder
	what := map[string]string{"MLSD": List, "LIST": List, "RETR": Read, "STOR": Write}[command]
	before, after := s.conn.manners.next(what)
	err := before
	if errors.Is(err, errStale) {
		kept, is := s.conn.manners.listed(name, nil, err)
		if err = nil; is {
			list.WriteString(kept.(string))
		}
	}
	if err == nil && list.Len() == 0 {
		switch what {
		case Read:
			file, err = s.root.Open(name)
		case Write:
			how := os.O_WRONLY | os.O_CREATE
			if from == 0 {
				how |= os.O_TRUNC
			}
			file, err = s.root.OpenFile(name, how, 0o644)
		default:
			if err = s.list(name, &list); err == nil {
				s.conn.manners.listed(name, list.String(), nil)
			}
		}
	}
	if err == nil && from > 0 && file != nil {
		_, err = file.Seek(from, io.SeekStart)
	}
	if file != nil {
		defer file.Close()
	}
	if errors.Is(err, errCut) {
		return errors.Join(err, s.conn.Close())
	}
	if err != nil || s.data == nil {
		return s.told(errors.Join(err, fs.ErrInvalid), 0, "")
	}
	if err := s.say(150, "it comes"); err != nil {
		return err
	}
	if err := s.data.(*net.TCPListener).SetDeadline(time.Now().Add(5 * time.Second)); err != nil {
		return err
	}
	n, err := s.data.Accept()
	if err != nil {
		return s.say(425, "nobody came")
	}
	var data net.Conn = &conn{n, s.conn.manners}
	if s.private {
		data = tls.Server(data, &tls.Config{Certificates: []tls.Certificate{*s.certificate}})
	}
	switch what {
	case Read:
		_, err = io.Copy(data, file)
	case Write:
		_, err = io.Copy(file, data)
	default:
		_, err = io.WriteString(data, list.String())
	}
	if err := errors.Join(err, data.Close()); err != nil {
		return s.say(426, "broken off")
	}
	if after != nil {
		return errors.Join(after, s.conn.Close())
	}
	return s.say(226, "that was it")
}

func (s *ftpSession) list(name string, to *strings.Builder) error {
	f, err := s.root.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	entries, err := f.ReadDir(-1)
	for _, e := range entries {
		if i, err := e.Info(); err == nil {
			fmt.Fprintf(to, "%s %s\r\n", fact(i), e.Name())
		}
	}
	return err
}
