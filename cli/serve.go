package cli

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"ydrion/api"
	"ydrion/console"
	"ydrion/run"
	"ydrion/service"
	"ydrion/store"
	"ydrion/workspace"
)

// Hosted is a running service with its HTTP interface.
type Hosted struct {
	Service *service.Service
	Client  *api.Client
	URL     string
	Token   string
	server  *http.Server
	data    string
	lock    *os.File
}

// HostConfig says how to host a service.
type HostConfig struct {
	service.Config
	Listen string
	// Token overrides the generated one.
	Token string
}

// Host starts a service and its HTTP interface.
func Host(ctx context.Context, c HostConfig) (*Hosted, error) {
	data, err := filepath.Abs(c.Data)
	if err != nil {
		return nil, err
	}
	c.Data = data
	if err := os.MkdirAll(data, 0o755); err != nil {
		return nil, fmt.Errorf("making the data folder: %w", err)
	}
	h := &Hosted{data: data}
	if c.DatabaseURL == "" {
		// The private database has one owner. Services that share a database may
		// share a data folder too.
		if h.lock, err = lockData(data); err != nil {
			return nil, err
		}
	}
	if h.Token = c.Token; h.Token == "" {
		if h.Token, err = token(data); err != nil {
			return nil, err
		}
	}
	listener, err := net.Listen("tcp", c.Listen)
	if err != nil {
		return nil, fmt.Errorf("listening on %s: %w", c.Listen, err)
	}
	h.URL = "http://" + listener.Addr().String()
	c.Address = h.URL
	if h.Service, err = service.Open(ctx, c.Config); err != nil {
		return nil, errors.Join(err, listener.Close())
	}
	h.server = &http.Server{Handler: api.New(api.Config{Service: h.Service, Token: h.Token, Console: console.Files(), Log: c.Log}), ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute}
	go func() {
		if err := h.server.Serve(patient{listener}); !errors.Is(err, http.ErrServerClosed) {
			c.Log.Error("the HTTP interface has ended", "error", err)
		}
	}()
	h.Client = &api.Client{Base: h.URL, Token: h.Token}
	at, err := json.Marshal(address{h.URL, os.Getpid()})
	if err != nil {
		return nil, errors.Join(err, h.Close())
	}
	if err := os.WriteFile(addressFile(data), at, 0o644); err != nil {
		return nil, errors.Join(err, h.Close())
	}
	return h, nil
}

// patient gives up connections whose other end takes nothing any more.
type patient struct{ net.Listener }

func (p patient) Accept() (net.Conn, error) {
	c, err := p.Listener.Accept()
	if err != nil {
		return nil, err
	}
	return patientConn{c}, nil
}

type patientConn struct{ net.Conn }

// takesWithin is how long the other end of a connection may take nothing.
const takesWithin = time.Minute

func (c patientConn) Write(b []byte) (int, error) {
	if err := c.SetWriteDeadline(time.Now().Add(takesWithin)); err != nil {
		return 0, err
	}
	return c.Conn.Write(b)
}

// Close ends the interface, then the service.
func (h *Hosted) Close() error {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	err := h.unannounce()
	h.Service.End()
	if shut := h.server.Shutdown(ctx); shut != nil {
		err = errors.Join(err, h.server.Close())
	}
	err = errors.Join(err, h.Service.Close())
	if h.lock != nil {
		err = errors.Join(err, h.lock.Close())
	}
	return err
}

// unannounce takes the service's address away, unless another service has put
// its own there.
func (h *Hosted) unannounce() error {
	b, err := os.ReadFile(addressFile(h.data))
	var at address
	if err == nil && json.Unmarshal(b, &at) == nil && at.URL == h.URL {
		err = os.Remove(addressFile(h.data))
	}
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// lockData keeps two services from using one data folder.
func lockData(data string) (*os.File, error) {
	f, err := os.OpenFile(filepath.Join(data, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		return nil, errors.Join(fmt.Errorf("another service is using the data folder %s", data), f.Close())
	}
	return f, nil
}

// token reads the service's token or makes one.
func token(data string) (string, error) {
	b, err := os.ReadFile(tokenFile(data))
	if err == nil {
		return strings.TrimSpace(string(b)), nil
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return "", err
	}
	t := rand.Text()
	return t, os.WriteFile(tokenFile(data), []byte(t+"\n"), 0o600)
}

func (a *app) serve() *cobra.Command {
	var listen, database, environment, format, level string
	var cores int
	var lease time.Duration
	c := &cobra.Command{
		Annotations: map[string]string{hosts: "yes"},
		Use:         "serve",
		Short:       "Run the service",
		Long: `Run the service until it is interrupted: routes that are set running, the HTTP
interface, and the console.

Several services may share one database: each route is then led by one of them, and
taken over by another when it ends. They need the same data folder, or at least
the same archive in it, and the same folders under the same paths.

Without --database-url it runs a private PostgreSQL cluster of its own under the
data folder, on loopback, as an unprivileged account. A token is generated at the
first start and kept in the data folder; clients on the same machine find it
there, and the console's address is printed with it.

Environment variables: YDRION_DATA, YDRION_DATABASE_URL.`,
		Example: `  ydrion serve --data /var/lib/ydrion --environment environments/production.yaml
  ydrion serve --database-url postgres://ydrion@db.example/ydrion --environment environments/test.yaml`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			log, err := logger(a.errRaw, format, level)
			if err != nil {
				return err
			}
			slog.SetDefault(log)
			if lease < time.Second {
				return wrongUse("--lease is %s; it must be 1s or more", lease)
			}
			env := &workspace.Environment{Name: "none", Places: map[string]workspace.Place{}}
			if environment != "" {
				if env, err = loadEnvironment(environment); err != nil {
					return err
				}
			}
			database = cmp.Or(database, os.Getenv("YDRION_DATABASE_URL"))
			h, err := Host(cmd.Context(), HostConfig{Config: service.Config{Data: a.data, DatabaseURL: database, Environment: env, Log: log, Cores: cores, Lease: lease}, Listen: listen, Token: a.token})
			if err != nil {
				return err
			}
			log.Info("ready", "address", h.URL, "environment", env.Name, "data", h.data, "built", built())
			fmt.Fprintf(a.out, "console: %s\n", consoleURL(h))
			<-cmd.Context().Done()
			log.Info("stopping")
			return h.Close()
		},
	}
	f := c.Flags()
	f.StringVar(&listen, "listen", "127.0.0.1:8470", "address of the HTTP interface")
	f.StringVar(&database, "database-url", "", "an existing PostgreSQL database instead of a private cluster (YDRION_DATABASE_URL)")
	f.StringVarP(&environment, "environment", "e", "", "file of the environment: where the places of the routes are")
	f.StringVar(&format, "log-format", "text", "text or json")
	f.StringVar(&level, "log-level", "info", "debug, info, warn or error")
	f.IntVar(&cores, "cores", 0, "cores that one run may use; 0 takes all")
	f.DurationVar(&lease, "lease", store.Lease, "how long other nodes believe that this one lives while it does not answer; 1s or more")
	return c
}

// consoleURL has the token in its fragment, which browsers do not send.
func consoleURL(h *Hosted) string { return h.URL + "/#token=" + h.Token }

func logger(w interface{ Write([]byte) (int, error) }, format, level string) (*slog.Logger, error) {
	var l slog.Level
	if err := l.UnmarshalText([]byte(level)); err != nil {
		return nil, wrongUse("--log-level is debug, info, warn or error, not %q", level)
	}
	o := &slog.HandlerOptions{Level: l}
	switch format {
	case "json":
		return slog.New(slog.NewJSONHandler(w, o)), nil
	case "text":
		return slog.New(slog.NewTextHandler(w, o)), nil
	}
	return nil, wrongUse("--log-format is text or json, not %q", format)
}

// eventLine tells an event in a line.
func eventLine(data string) string {
	var e run.Event
	if err := json.Unmarshal([]byte(data), &e); err != nil {
		return data
	}
	s := fmt.Sprintf("%-8s %s", e.Kind, e.Route)
	if e.Pickup > 0 {
		s += fmt.Sprintf(" pickup %d %s", e.Pickup, e.Name)
	}
	s += " " + e.State
	if e.Balance != nil {
		s += ": " + e.Balance.String()
	}
	if e.Reason != "" {
		s += ": " + e.Reason
	}
	return s
}

func (a *app) openapi() *cobra.Command {
	return &cobra.Command{
		Use: "openapi", Short: "Print the OpenAPI document of the HTTP interface", Args: cobra.NoArgs, Example: "  ydrion openapi > openapi.json",
		RunE: func(*cobra.Command, []string) error {
			b, err := api.Document()
			if err != nil {
				return err
			}
			_, err = fmt.Fprintln(a.raw, string(b))
			return err
		},
	}
}
