// Package cli is the command line.
package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"os/signal"
	"os/user"
	"path/filepath"
	"runtime"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"ydrion/api"
	"ydrion/core/finding"
	"ydrion/workspace"
)

// Exit codes.
const (
	exitGood     = 0
	exitFindings = 1 // something is wrong with the data, the workspace or what was asked about
	exitUse      = 2 // the command was used wrongly
	exitSystem   = 3 // the service or the system failed

	exitInterrupted = 130 // by a signal, as shells say it
)

// errFindings says that findings have been printed already.
var errFindings = errors.New("there are findings")

// errUse marks wrong use of a command.
type errUse struct{ error }

func wrongUse(format string, args ...any) error { return errUse{fmt.Errorf(format, args...)} }

// app is what the commands share.
type app struct {
	out, err io.Writer // for people: control characters in names and values are made harmless
	raw      io.Writer // for data
	errRaw   io.Writer // the progress of a terminal
	data     string
	service  string
	token    string
	json     bool

	by, because string
}

// hosts is the annotation of commands that host a service.
const hosts = "hosts"

// stopWithin is how long a command has to end in order when it is interrupted.
const stopWithin = 300 * time.Millisecond

// Main runs the command line and gives the exit code.
func Main(args []string, out, errOut io.Writer) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	var ended atomic.Bool
	safeOut, safeErr := &safe{to: out}, &safe{to: errOut}
	defer safeOut.flush() //nolint: there is nobody to tell
	defer safeErr.flush() //nolint: as above
	a := &app{out: safeOut, err: safeErr, raw: out, errRaw: errOut}
	errOut = safeErr
	root := a.root()
	root.SetArgs(args)
	root.SetOut(out)
	root.SetErr(safeErr)
	// Whoever hosts a service ends by itself, and in order; everything else at once,
	// whatever it is computing or waiting for.
	if command, _, err := root.Find(args); err == nil && command.Annotations[hosts] == "" {
		context.AfterFunc(ctx, func() {
			time.Sleep(stopWithin)
			if ended.Load() {
				return
			}
			fmt.Fprintln(errOut, "ydrion: interrupted")
			os.Exit(exitInterrupted)
		})
	}
	command, err := root.ExecuteContextC(ctx)
	ended.Store(true)
	var use errUse
	var problem *api.Problem
	switch {
	case err == nil:
		return exitGood
	case ctx.Err() != nil && errors.Is(err, context.Canceled):
		fmt.Fprintln(errOut, "ydrion: interrupted")
		return exitInterrupted
	case errors.Is(err, errFindings):
		return exitFindings
	case errors.As(err, &use):
		fmt.Fprintf(errOut, "ydrion: %v\n", err)
		return exitUse
	case isCobraUse(err):
		fmt.Fprintf(errOut, "ydrion: %s\n\n%s", strings.TrimSpace(err.Error()), howToUse(command))
		return exitUse
	case errors.As(err, &problem) && problem.Status < 500 && problem.Status != 401:
		fmt.Fprintf(errOut, "ydrion: %v\n", err)
		return exitUse
	}
	fmt.Fprintf(errOut, "ydrion: %v\n", err)
	return exitSystem
}

// howToUse says how a command is written, to somebody who wrote it otherwise.
func howToUse(c *cobra.Command) string {
	if c.HasSubCommands() {
		return fmt.Sprintf("`%s --help` lists the commands.\n", c.CommandPath())
	}
	return fmt.Sprintf("It is written so: %s\n`%s --help` has examples.\n", c.UseLine(), c.CommandPath())
}

// isCobraUse recognises the errors that the argument parser makes itself.
func isCobraUse(err error) bool {
	for _, s := range []string{"unknown command", "unknown flag", "unknown shorthand", "accepts ", "requires ", "invalid argument", "flag needs", "required flag"} {
		if strings.HasPrefix(err.Error(), s) {
			return true
		}
	}
	return false
}

// revision is the state of the sources that the program is built from, and its day; whoever builds it says so.
var revision string

// built says of what the program is built.
func built() string {
	return fmt.Sprintf("%s, with %s for %s/%s", cmp.Or(revision, "unnoted sources"), runtime.Version(), runtime.GOOS, runtime.GOARCH)
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "ydrion",
		Short: "Listens for files, reads, checks and maps them, and delivers good and rejected records apart",
		Long: `Ydrion picks files up from folders, reads them, checks every record against a
schema, maps it into another format, and delivers good and rejected records to
different places. Nothing is lost, nothing is delivered twice.

Begin with a workspace: a folder with routes, maps, schemas, lookups and samples.
Check it, try its routes on samples, then publish it to a running service.`,
		Example: `  ydrion check demo/workspace
  ydrion try specimen-orders demo/files/brunholm-2026-11-23.csv --workspace demo/workspace
  ydrion serve --data /var/lib/ydrion --environment demo/workspace/environments/demo.yaml
  ydrion publish demo/workspace --start
  ydrion pickups --state rejected`,
		SilenceUsage: true, SilenceErrors: true,
		Version: built(),
	}
	root.SetVersionTemplate("{{.Name}} from {{.Version}}\n")
	root.PersistentPreRun = func(*cobra.Command, []string) { a.settle() }
	flags := root.PersistentFlags()
	// What the environment says is not shown as a default: help is pasted into tickets.
	flags.StringVar(&a.data, "data", "", "the service's data folder; the client finds address and token in it (YDRION_DATA; usually /var/lib/ydrion)")
	flags.StringVar(&a.service, "service", "", "address of the service, such as http://127.0.0.1:8470 (YDRION_SERVICE)")
	flags.StringVar(&a.token, "token", "", "token of the service (YDRION_TOKEN)")
	root.AddGroup(&cobra.Group{ID: "build", Title: "Building routes (no service needed):"}, &cobra.Group{ID: "operate", Title: "Operating a service:"}, &cobra.Group{ID: "run", Title: "Running a service:"})
	for group, commands := range map[string][]*cobra.Command{
		"build":   {a.fresh(), a.look(), a.convert(), a.guideline(), a.check(), a.try(), a.format(), a.functions()},
		"operate": {a.publish(), a.overview(), a.routes(), a.route(), a.start(), a.stop(), a.pause(), a.remove(), a.rename(), a.take(), a.hand(), a.pickups(), a.pickup(), a.find(), a.rejects(), a.again(), a.decide(), a.lanes(), a.places(), a.lookups(), a.alerts(), a.expected(), a.nodes(), a.purge(), a.legalHold(), a.watch(), a.backup()},
		"run":     {a.serve(), a.restore(), a.demo(), a.standIn(), a.openapi()},
	} {
		for _, c := range commands {
			c.GroupID = group
			root.AddCommand(c)
		}
	}
	a.completeFlags(root)
	return root
}

// settle takes from the environment what no flag says.
func (a *app) settle() {
	a.data = cmp.Or(a.data, defaultData())
	a.service = cmp.Or(a.service, os.Getenv("YDRION_SERVICE"))
	a.token = cmp.Or(a.token, os.Getenv("YDRION_TOKEN"))
}

func defaultData() string {
	if d := os.Getenv("YDRION_DATA"); d != "" {
		return d
	}
	if os.Geteuid() == 0 {
		return "/var/lib/ydrion"
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return ".ydrion"
	}
	return filepath.Join(home, ".local", "state", "ydrion")
}

// address is what a running service leaves in its data folder for clients.
type address struct {
	URL string `json:"url"`
	PID int    `json:"pid"`
}

func addressFile(data string) string { return filepath.Join(data, "service.json") }
func tokenFile(data string) string   { return filepath.Join(data, "token") }

// client finds the service.
func (a *app) client() (*api.Client, error) {
	a.settle() // completion asks without a run
	c := &api.Client{Base: a.service, Token: a.token, By: a.by, Because: a.because}
	if c.Base == "" {
		b, err := os.ReadFile(addressFile(a.data))
		if err != nil {
			return nil, fmt.Errorf("no service is running with the data folder %s; start one with `ydrion serve`, or name it with --service or --data", a.data)
		}
		var at address
		if err := json.Unmarshal(b, &at); err != nil {
			return nil, fmt.Errorf("%s: %w", addressFile(a.data), err)
		}
		c.Base = at.URL
	}
	if u, err := url.Parse(c.Base); err != nil || u.Host == "" {
		return nil, wrongUse("--service must be an address such as http://127.0.0.1:8470, not %q", c.Base)
	}
	if c.Token == "" {
		b, err := os.ReadFile(tokenFile(a.data))
		if err != nil {
			return nil, fmt.Errorf("the service's token is needed: --token, YDRION_TOKEN, or a readable %s", tokenFile(a.data))
		}
		c.Token = strings.TrimSpace(string(b))
	}
	return c, nil
}

// saying adds --by and --because to a command that changes something.
func (a *app) saying(c *cobra.Command) *cobra.Command {
	who := ""
	if u, err := user.Current(); err == nil {
		who = u.Username
	}
	c.Flags().StringVar(&a.by, "by", who, "who says so; it is kept")
	c.Flags().StringVar(&a.because, "because", "", "why; it is kept")
	return c
}

// printEach prints one thing as it is, and several as a list: one document in any case.
func printEach[T any](a *app, list []T) error {
	if len(list) == 1 {
		return a.printJSON(list[0])
	}
	return a.printJSON(list)
}

// jsonFlag adds --json to a command.
func (a *app) jsonFlag(c *cobra.Command) *cobra.Command {
	c.Flags().BoolVar(&a.json, "json", false, "print JSON")
	return c
}

// workspaceFlag lets a command whose argument is a workspace have it named by a flag, too, as the others do; what it gives
// finds out which it is.
func workspaceFlag(c *cobra.Command) func(args []string) (string, error) {
	folder := c.Flags().StringP("workspace", "w", "", "folder of the workspace, instead of the argument (default \".\")")
	return func(args []string) (string, error) {
		if len(args) > 0 && *folder != "" {
			return "", wrongUse("the workspace is named twice: %s and %s", args[0], *folder)
		}
		return cmp.Or(append(args, *folder, ".")...), nil
	}
}

func (a *app) printJSON(v any) error {
	e := json.NewEncoder(a.out)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return e.Encode(v)
}

func (a *app) findings(list finding.List) {
	for _, f := range list {
		fmt.Fprintln(a.out, f)
	}
}

// load reads the workspace in a folder.
func load(folder string) (*workspace.Workspace, error) {
	st, err := os.Stat(folder)
	if err != nil {
		return nil, wrongUse("%s is not a workspace: %v", folder, err)
	}
	if !st.IsDir() {
		return nil, wrongUse("%s is not a folder; name the workspace's folder", folder)
	}
	return workspace.Load(os.DirFS(folder))
}

// loadEnvironment reads one environment file.
func loadEnvironment(file string) (*workspace.Environment, error) {
	b, err := os.ReadFile(file)
	if err != nil {
		return nil, wrongUse("the environment cannot be read: %v", err)
	}
	name := "environments/" + filepath.Base(file)
	w := workspace.FromFiles(map[string][]byte{name: b})
	if w.Findings.HasErrors() {
		return nil, fmt.Errorf("the environment has errors: %w", w.Findings)
	}
	for _, e := range w.Environments {
		return e, nil
	}
	return nil, wrongUse("%s is not an environment: its name must end in .yaml", file)
}
