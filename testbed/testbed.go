// Package testbed starts real services for tests in one line: on loopback, with
// a database of their own in a PostgreSQL cluster that the test process shares.
package testbed

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"ydrion/api"
	"ydrion/cli"
	"ydrion/demo"
	"ydrion/files"
	"ydrion/managed"
	"ydrion/service"
	"ydrion/store"
	"ydrion/wire"
	"ydrion/workspace"
)

var (
	once    sync.Once
	cluster *managed.Cluster
	folder  string
	failed  error
	number  atomic.Int64
)

// Main runs the tests of a package and ends the cluster. Call it from TestMain.
func Main(m *testing.M) int {
	broken, err := holdAnswers()
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	code := m.Run()
	for _, b := range broken() {
		fmt.Fprintln(os.Stderr, "an answer is not as docs/openapi.json has it:", b)
		code = 1
	}
	if cluster != nil {
		for _, wrong := range holdWords() {
			fmt.Fprintln(os.Stderr, "a record is not as it should be:", wrong)
			code = 1
		}
		if err := cluster.Stop(); err != nil {
			fmt.Fprintln(os.Stderr, err)
		}
	}
	if folder != "" {
		if err := os.RemoveAll(folder); err != nil {
			fmt.Fprintln(os.Stderr, err)
		}
	}
	return code
}

// prepared is a database that has its tables, of which others are copies.
const prepared = "prepared"

// begin starts the cluster.
func begin() error {
	once.Do(func() {
		if folder, failed = managed.TempFolder(); failed != nil {
			return
		}
		if cluster, failed = managed.Start(context.Background(), filepath.Join(folder, "postgres"), managed.Options{Throwaway: true}); failed != nil {
			return
		}
		if failed = at("postgres", "create database "+prepared); failed != nil {
			return
		}
		var s *store.Store
		if s, failed = store.Open(context.Background(), address(prepared)); failed == nil {
			s.Close()
		}
	})
	return failed
}

// Database makes a database as a service leaves it that was started once and ended, and gives its address.
func Database(t testing.TB) string {
	t.Helper()
	url, name := create(t, prepared)
	if err := at(name, "update installation set mark = substr(md5(random()::text || clock_timestamp()::text), 1, 8)"); err != nil {
		t.Fatal(err)
	}
	return url
}

// EmptyDatabase makes one without any tables.
func EmptyDatabase(t testing.TB) string {
	t.Helper()
	url, _ := create(t, "template1")
	return url
}

// create makes a copy of a database.
func create(t testing.TB, from string) (url, name string) {
	t.Helper()
	if err := begin(); err != nil {
		t.Fatalf("the tests need PostgreSQL: %v", err)
	}
	name = numbered(number.Add(1))
	if err := at("postgres", "create database "+name+" template "+from+" strategy file_copy"); err != nil {
		t.Fatal(err)
	}
	return address(name), name
}

// at executes a statement in a database.
func at(name, statement string) error {
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, address(name))
	if err != nil {
		return err
	}
	_, err = conn.Exec(ctx, statement)
	return errors.Join(err, conn.Close(ctx))
}

func numbered(n int64) string { return fmt.Sprintf("test_%d", n) }

func address(name string) string {
	return strings.Replace(cluster.URL, "/postgres?", "/"+name+"?", 1)
}

// Bed is a running service with the demo's workspace published.
type Bed struct {
	*cli.Hosted
	T        testing.TB
	Data     string
	Database string
	FS       files.FS
	Log      *Log
	private  bool
	change   []func(*service.Config)
	asks     *pgxpool.Pool // for those who ask the database
}

// Log keeps what a service logs, for when a test fails.
type Log struct {
	mu   sync.Mutex
	text strings.Builder
}

func (l *Log) Write(b []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.text.Write(b)
}

func (l *Log) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.text.String()
}

// Option changes how a service is started.
type Option func(*Bed)

// On makes the service use another file system.
func On(fsys files.FS) Option { return func(b *Bed) { b.FS = fsys } }

// In makes the service use a data folder and database of before.
func In(data, database string) Option {
	return func(b *Bed) { b.Data, b.Database = data, database }
}

// With changes the service's settings.
func With(change func(*service.Config)) Option {
	return func(b *Bed) { b.change = append(b.change, change) }
}

// Private makes the service run a cluster of its own under a data folder.
func Private(data string) Option {
	return func(b *Bed) { b.Data, b.private = data, true }
}

// Start starts a service; it is ended with the test.
func Start(t testing.TB, options ...Option) *Bed {
	t.Helper()
	b := &Bed{T: t, FS: files.Real{}, Log: &Log{}}
	for _, o := range options {
		o(b)
	}
	if b.Data == "" {
		b.Data = t.TempDir()
	}
	if b.Database == "" && !b.private {
		b.Database = Database(t)
	}
	config := service.Config{Data: b.Data, DatabaseURL: fewConnections(b.Database), Environment: Workspace(t).Environments["demo"], FS: b.FS, Throwaway: true, Log: slog.New(slog.NewTextHandler(b.Log, nil))}
	for _, change := range b.change {
		change(&config)
	}
	var err error
	b.Hosted, err = cli.Host(context.Background(), cli.HostConfig{Listen: "127.0.0.1:0", Config: config})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := b.End(); err != nil {
			t.Error(err)
		}
		if t.Failed() {
			t.Log(b.Log.String())
		}
	})
	return b
}

// fewConnections lets a service have few connections to its database: each costs more than most that tests ask there.
func fewConnections(url string) string {
	if url == "" {
		return ""
	}
	return url + "&pool_max_conns=4"
}

// End ends the service before the test does.
func (b *Bed) End() error {
	if b.Hosted == nil {
		return nil
	}
	err := b.Hosted.Close()
	b.Hosted = nil
	return err
}

// Workspace is the demo's workspace.
func Workspace(t testing.TB) *workspace.Workspace {
	t.Helper()
	w, err := workspace.Load(demo.Workspace())
	if err != nil {
		t.Fatal(err)
	}
	if w.Findings.HasErrors() {
		t.Fatal(w.Findings)
	}
	return w
}

// Publish publishes the demo's workspace, with changes, and starts all routes.
func (b *Bed) Publish(changes map[string]string) {
	b.T.Helper()
	w := Workspace(b.T)
	content := map[string][]byte{}
	for n, c := range w.Files {
		content[n] = c
	}
	for n, c := range changes {
		content[n] = []byte(c)
	}
	answer, err := b.Client.Publish(context.Background(), api.PublishRequest{Files: content})
	if err != nil {
		b.T.Fatal(err)
	}
	if !answer.Published {
		b.T.Fatalf("not published: %+v", answer)
	}
	for _, r := range answer.Routes {
		if _, err := b.Client.SetRunning(context.Background(), r.Route, true); err != nil {
			b.T.Fatal(err)
		}
	}
}

// Ask asks the service's database something that has one answer.
func (b *Bed) Ask(into any, query string, args ...any) {
	b.T.Helper()
	if b.asks == nil {
		pool, err := pgxpool.New(context.Background(), b.Database)
		if err != nil {
			b.T.Fatal(err)
		}
		b.T.Cleanup(pool.Close)
		b.asks = pool
	}
	if err := b.asks.QueryRow(context.Background(), query, args...).Scan(into); err != nil {
		b.T.Fatal(err)
	}
}

// Mark tells the service's hidden files from those of others.
func (b *Bed) Mark() (mark string) {
	b.T.Helper()
	b.Ask(&mark, `select mark from installation`)
	return mark
}

// Path is a path below the data folder.
func (b *Bed) Path(elements ...string) string {
	return filepath.Join(append([]string{b.Data}, elements...)...)
}

// Drop renames a file into an inbox below the data folder.
func (b *Bed) Drop(inbox, name, content string) {
	b.T.Helper()
	if err := os.MkdirAll(b.Path(inbox), 0o755); err != nil {
		b.T.Fatal(err)
	}
	part := b.Path(inbox, ".arriving-"+name)
	if err := os.WriteFile(part, []byte(content), 0o644); err != nil {
		b.T.Fatal(err)
	}
	if err := os.Rename(part, b.Path(inbox, name)); err != nil {
		b.T.Fatal(err)
	}
}

// patience is how long tests wait; a shorter one helps while looking for a defect.
var patience = func() time.Duration {
	if d, err := time.ParseDuration(os.Getenv("TEST_PATIENCE")); err == nil {
		return d
	}
	return 2 * time.Minute
}()

// Until waits for a condition; it fails the test after two minutes,
// which only a machine that hardly gets on needs.
func Until(t testing.TB, what string, condition func() bool) {
	t.Helper()
	deadline := time.Now().Add(patience)
	for !condition() {
		if time.Now().After(deadline) {
			t.Fatalf("waited in vain until %s", what)
		}
		time.Sleep(5 * time.Millisecond)
	}
}

// Ended waits until the newest pickup of a name has come to its end (or, with
// a number, one after it).
func (b *Bed) Ended(name string, after int64) wire.Pickup {
	b.T.Helper()
	var p wire.Pickup
	Until(b.T, name+" has ended", func() bool {
		page, err := b.Client.Pickups(context.Background(), url.Values{"limit": {"500"}})
		if err != nil {
			b.T.Fatal(err)
		}
		for _, q := range page.Items {
			if q.Name == name && q.ID > after && q.EndedAt != nil {
				p = q
				return true
			}
		}
		return false
	})
	return p
}

// Read reads a file below the data folder.
func (b *Bed) Read(elements ...string) string {
	b.T.Helper()
	c, err := os.ReadFile(b.Path(elements...))
	if err != nil {
		b.T.Fatal(err)
	}
	return string(c)
}

// List lists the visible files of a folder below the data folder.
func (b *Bed) List(elements ...string) []string {
	b.T.Helper()
	entries, err := os.ReadDir(b.Path(elements...))
	if err != nil && !os.IsNotExist(err) {
		b.T.Fatal(err)
	}
	var names []string
	for _, e := range entries {
		if !strings.HasPrefix(e.Name(), ".") {
			names = append(names, e.Name())
		}
	}
	return names
}

// Demo reads a file of the demo.
func Demo(t testing.TB, name string) string {
	t.Helper()
	f, err := demo.Files().Open(name)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	c, err := io.ReadAll(f)
	if err != nil {
		t.Fatal(err)
	}
	return string(c)
}
