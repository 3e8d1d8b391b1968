// Package managed runs a private PostgreSQL cluster for the service: on
// loopback, under one folder, with a generated password, as an unprivileged
// account even when root starts it. It never touches a cluster of the system.
package managed

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"sort"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
)

// Account is the unprivileged account that the cluster runs under when root
// starts the service.
const Account = "postgres"

// Cluster is a running cluster. Should its process end by itself, it is started
// again at the same address.
type Cluster struct {
	URL     string
	Local   string // the same by a socket in its folder, which costs less; as URL where that has too long a name
	folder  string
	account *syscall.Credential
	options Options
	port    int
	sockets bool // it makes one in its folder

	mu       sync.Mutex
	process  *os.Process
	ended    chan struct{} // closed when the process has ended
	result   error         // how it ended
	stopping bool
}

// Options are what a cluster can be started with.
type Options struct {
	// Throwaway trades durability for speed: for tests only.
	Throwaway bool
	// Died is told when the cluster has ended by itself, before it is started
	// again.
	Died func(error)
	// Made is told that there is no cluster yet and one is being made, which takes a while.
	Made func(folder string)
}

// ErrNoServer says that PostgreSQL is not installed.
var ErrNoServer = errors.New("no PostgreSQL server was found; install the package postgresql, or name a server with --database-url")

func binary(name string) (string, error) {
	dirs, err := filepath.Glob("/usr/lib/postgresql/*/bin")
	if err != nil {
		return "", err
	}
	sort.Slice(dirs, func(i, j int) bool { return version(dirs[i]) > version(dirs[j]) })
	for _, d := range dirs {
		if p := filepath.Join(d, name); executable(p) {
			return p, nil
		}
	}
	if p, err := exec.LookPath(name); err == nil {
		return p, nil
	}
	return "", ErrNoServer
}

func version(dir string) int {
	n, _ := strconv.Atoi(filepath.Base(filepath.Dir(dir))) //nolint: 0 sorts last
	return n
}

func executable(path string) bool {
	st, err := os.Stat(path)
	return err == nil && st.Mode()&0o111 != 0
}

// Start starts the cluster in a folder, making it first if there is none.
func Start(ctx context.Context, folder string, o Options) (*Cluster, error) {
	folder, err := filepath.Abs(folder)
	if err != nil {
		return nil, err
	}
	account, err := runsAs(folder)
	if err != nil {
		return nil, err
	}
	password, err := secret(folder + ".password")
	if err != nil {
		return nil, err
	}
	if _, err := os.Stat(filepath.Join(folder, "PG_VERSION")); errors.Is(err, fs.ErrNotExist) {
		if o.Made != nil {
			o.Made(folder)
		}
		if err := createWhole(ctx, folder, password, account); err != nil {
			return nil, err
		}
	} else if err != nil {
		return nil, err
	}
	c := &Cluster{folder: folder, account: account, options: o}
	if c.port, err = freePort(); err != nil {
		return nil, err
	}
	c.URL = fmt.Sprintf("postgres://ydrion:%s@127.0.0.1:%d/postgres?sslmode=disable", url.QueryEscape(password), c.port)
	if c.Local, c.sockets = c.URL, c.takesSockets(); c.sockets {
		c.Local = fmt.Sprintf("postgres://ydrion:%s@/postgres?host=%s&port=%d&sslmode=disable", url.QueryEscape(password), url.QueryEscape(c.folder), c.port)
	}
	if err := c.launch(); err != nil {
		return nil, err
	}
	if err := c.wait(ctx); err != nil {
		return nil, errors.Join(err, c.Stop())
	}
	c.sweep()
	go c.supervise()
	return c, nil
}

// supervise starts the cluster again whenever it has ended by itself.
func (c *Cluster) supervise() {
	for {
		c.mu.Lock()
		ended := c.ended
		c.mu.Unlock()
		<-ended
		c.mu.Lock()
		stopping, result := c.stopping, c.result
		c.mu.Unlock()
		if stopping {
			return
		}
		if c.options.Died != nil {
			c.options.Died(result)
		}
		for {
			time.Sleep(500 * time.Millisecond)
			err := c.launch()
			if err == nil || errors.Is(err, errStopping) {
				break
			}
			if c.options.Died != nil {
				c.options.Died(err)
			}
		}
	}
}

var errStopping = errors.New("the cluster is being stopped")

// runsAs finds the account: nil is our own.
func runsAs(folder string) (*syscall.Credential, error) {
	if os.Geteuid() != 0 {
		return nil, nil
	}
	u, err := user.Lookup(Account)
	if err != nil {
		return nil, fmt.Errorf("the database cannot run as root, and there is no account %s: %w", Account, err)
	}
	uid, err := strconv.ParseUint(u.Uid, 10, 32)
	if err != nil {
		return nil, err
	}
	gid, err := strconv.ParseUint(u.Gid, 10, 32)
	if err != nil {
		return nil, err
	}
	if closed := closedTo(filepath.Dir(folder), uint32(uid), uint32(gid)); closed != "" {
		return nil, fmt.Errorf("the account %s cannot pass through the folder %s; choose another data folder, or chmod o+x it", Account, closed)
	}
	return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, nil
}

// closedTo gives the first folder on the way that an account cannot pass.
func closedTo(folder string, uid, gid uint32) string {
	for at := folder; ; at = filepath.Dir(at) {
		if st, err := os.Stat(at); err == nil {
			sys, ok := st.Sys().(*syscall.Stat_t)
			mode := st.Mode().Perm()
			if ok && !(sys.Uid == uid && mode&0o100 != 0 || sys.Gid == gid && mode&0o010 != 0 || mode&0o001 != 0) {
				return at
			}
		}
		if at == "/" || at == "." {
			return ""
		}
	}
}

// Reachable tells whether a cluster could run in a folder.
func Reachable(folder string) error {
	_, err := runsAs(folder)
	return err
}

// TempFolder makes a temporary folder in which a cluster can run: one that its
// account can pass through.
func TempFolder() (string, error) {
	var last error
	for _, parent := range []string{"", "/tmp", "/var/tmp"} {
		folder, err := os.MkdirTemp(parent, "ydrion-")
		if err == nil {
			err = errors.Join(os.Chmod(folder, 0o711), Reachable(filepath.Join(folder, "postgres")))
		}
		if err == nil {
			return folder, nil
		}
		last = errors.Join(err, os.RemoveAll(folder))
	}
	return "", last
}

// secret reads a password or makes one that only the owner can read.
func secret(file string) (string, error) {
	b, err := os.ReadFile(file)
	if known := strings.TrimSpace(string(b)); err == nil && known != "" {
		return known, nil // empty: a start that was cut off has left it
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return "", err
	}
	p := rand.Text()
	return p, os.WriteFile(file, []byte(p+"\n"), 0o600)
}

// createWhole makes the cluster in another folder first, so that a start that is cut off
// in the middle leaves nothing that looks like a cluster: the next one begins anew. What an
// earlier one began may still be written by a process of it that has outlived it: each has a
// folder of its own.
func createWhole(ctx context.Context, folder, password string, account *syscall.Credential) error {
	parent, begun := filepath.Dir(folder), filepath.Base(folder)+".making-"
	left, err := os.ReadDir(parent)
	if err != nil {
		return err
	}
	for _, l := range left {
		if strings.HasPrefix(l.Name(), begun) {
			os.RemoveAll(filepath.Join(parent, l.Name())) //nolint: who still writes into it leaves something for the next time
		}
	}
	making, err := os.MkdirTemp(parent, begun)
	if err != nil {
		return err
	}
	if err := create(ctx, making, password, account); err != nil {
		return err
	}
	// What an unfinished start of former times has left is empty or no cluster; a mount
	// point stays, and takes what was made.
	err = syscall.Rename(making, folder) // which replaces an empty folder
	if err == nil || !errors.Is(err, syscall.EEXIST) && !errors.Is(err, syscall.ENOTEMPTY) && !errors.Is(err, syscall.EBUSY) && !errors.Is(err, syscall.EXDEV) {
		return err
	}
	if err := os.RemoveAll(making); err != nil {
		return err
	}
	if errors.Is(err, syscall.EBUSY) || errors.Is(err, syscall.EXDEV) {
		return create(ctx, folder, password, account)
	}
	aside := fmt.Sprintf("%s.unfinished-%d", folder, time.Now().Unix())
	if err := os.Rename(folder, aside); err != nil {
		return err
	}
	return createWhole(ctx, folder, password, account)
}

func create(ctx context.Context, folder, password string, account *syscall.Credential) error {
	initdb, err := binary("initdb")
	if err != nil {
		return err
	}
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return err
	}
	// The account reads the password from a file of its own that only lives
	// until the cluster is made.
	initial := folder + ".initial"
	if err := os.WriteFile(initial, []byte(password+"\n"), 0o600); err != nil {
		return err
	}
	defer os.Remove(initial)
	cmd := exec.CommandContext(ctx, initdb, "-D", folder, "-U", "ydrion", "-A", "scram-sha-256", "--pwfile="+initial, "-E", "UTF8", "--locale=C.UTF-8", "--no-instructions")
	cmd.Dir = "/"
	if account != nil {
		for _, p := range []string{folder, initial} {
			if err := os.Chown(p, int(account.Uid), int(account.Gid)); err != nil {
				return err
			}
		}
	}
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: account, Pdeathsig: syscall.SIGKILL}
	if out, err := cmd.CombinedOutput(); err != nil {
		// A half-made cluster would look like a whole one at the next start.
		return errors.Join(fmt.Errorf("making the database cluster: %w: %s", err, bytes.TrimSpace(out)), os.RemoveAll(folder))
	}
	return nil
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	port := l.Addr().(*net.TCPAddr).Port
	return port, l.Close()
}

// launch starts the process.
func (c *Cluster) launch() error {
	postgres, err := binary("postgres")
	if err != nil {
		return err
	}
	in := ""
	if c.sockets {
		in = c.folder
	}
	args := []string{"-D", c.folder, "-p", strconv.Itoa(c.port), "-c", "listen_addresses=127.0.0.1", "-c", "unix_socket_directories=" + in, "-c", "max_connections=60", "-c", "log_timezone=UTC"}
	if c.options.Throwaway {
		args = append(args, "-c", "fsync=off", "-c", "synchronous_commit=off", "-c", "full_page_writes=off", "-c", "max_connections=300")
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.stopping {
		return errStopping
	}
	out, err := os.OpenFile(c.log(), os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	started, ended := make(chan error), make(chan struct{})
	cmd := exec.Command(postgres, args...)
	go func() {
		// The signal at our death follows the thread that started the process.
		runtime.LockOSThread()
		defer runtime.UnlockOSThread()
		defer out.Close()
		cmd.Dir = "/"
		cmd.Stdout, cmd.Stderr = out, out
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: c.account, Pdeathsig: syscall.SIGQUIT, Setpgid: true}
		if err := cmd.Start(); err != nil {
			started <- err
			return
		}
		started <- nil
		result := cmd.Wait()
		c.mu.Lock()
		c.result = result
		c.mu.Unlock()
		close(ended)
	}()
	if err := <-started; err != nil {
		return fmt.Errorf("starting the database: %w", err)
	}
	c.process, c.ended = cmd.Process, ended
	return nil
}

// longestSocket is how long the name of a socket may be (unix(7)).
const longestSocket = 107

func (c *Cluster) socket() string { return filepath.Join(c.folder, fmt.Sprintf(".s.PGSQL.%d", c.port)) }

// sweep removes sockets of former times, which a cluster leaves that is killed. The folder is this one's, since it runs.
func (c *Cluster) sweep() {
	left, _ := filepath.Glob(filepath.Join(c.folder, ".s.PGSQL.*")) //nolint: the pattern is right but for folders like [a], where nothing is swept
	for _, l := range left {
		if l != c.socket() && l != c.socket()+".lock" {
			os.Remove(l) //nolint: it is looked for again
		}
	}
}

// takesSockets tells whether the folder can have the cluster's socket: its name can be said, and its file system has sockets,
// which not all have that come from elsewhere. Without one the cluster would not start.
func (c *Cluster) takesSockets() bool {
	if len(c.socket()) > longestSocket || strings.ContainsAny(c.folder, `,"`) { // it takes a list of folders
		return false
	}
	probe := filepath.Join(c.folder, ".s.probe")
	os.Remove(probe) //nolint: it was left by a death, or is not there
	l, err := net.Listen("unix", probe)
	if err != nil {
		return false
	}
	return l.Close() == nil
}

func (c *Cluster) log() string { return c.folder + ".log" }

// wait waits until the cluster answers.
func (c *Cluster) wait(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 60*time.Second)
	defer cancel()
	for {
		conn, err := pgx.Connect(ctx, c.URL)
		if err == nil {
			return conn.Close(ctx)
		}
		select {
		case <-c.ended:
			log, _ := os.ReadFile(c.log()) //nolint: the reason is a help, not needed
			if bytes.Contains(log, []byte("postmaster.pid")) {
				return fmt.Errorf("the database of this data folder is already running: is another service using it?")
			}
			return fmt.Errorf("the database ended at its start: %w: %s", c.result, lastLine(log))
		case <-ctx.Done():
			return fmt.Errorf("the database does not answer: %w", err)
		case <-time.After(20 * time.Millisecond):
		}
	}
}

func lastLine(b []byte) []byte {
	b = bytes.TrimSpace(b)
	return b[bytes.LastIndexByte(b, '\n')+1:]
}

// Stop ends the cluster: open connections are closed, what was committed is
// kept.
func (c *Cluster) Stop() error {
	c.mu.Lock()
	c.stopping = true
	process, ended := c.process, c.ended
	c.mu.Unlock()
	if err := process.Signal(syscall.SIGINT); err != nil && !errors.Is(err, os.ErrProcessDone) {
		return fmt.Errorf("stopping the database: %w", err)
	}
	select {
	case <-ended:
		return nil
	case <-time.After(30 * time.Second):
		return errors.Join(errors.New("the database did not stop within 30 s and was ended"), process.Signal(syscall.SIGQUIT))
	}
}
