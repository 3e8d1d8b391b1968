package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"ydrion/api"
	"ydrion/service"
	"ydrion/store"
)

// BackedUp is what a backup holds, as it is told.
type BackedUp struct {
	File      string    `json:"file"`
	At        time.Time `json:"at"`
	Bytes     int64     `json:"bytes"`
	Pickups   int64     `json:"pickups"`
	Originals int       `json:"originals"`
	Missing   []string  `json:"missing"`
}

func backedUp(file string, size int64, m service.Manifest) BackedUp {
	out := BackedUp{File: file, At: m.Snapshot.At, Bytes: size, Originals: m.Originals, Missing: m.Missing}
	for _, t := range m.Snapshot.Tables {
		if t.Name == "pickups" {
			out.Pickups = t.Rows
		}
	}
	return out
}

// tellBackup tells what a backup holds.
func (a *app) tellBackup(what string, b BackedUp) error {
	if a.json {
		return a.printJSON(b)
	}
	fmt.Fprintf(a.out, "%s %s: %s and %s of %s, %d bytes\n", b.File, what, count(int(b.Pickups), "pickup"), count(b.Originals, "original"), b.At.Local().Format("2006-01-02 15:04:05 MST"), b.Bytes)
	if len(b.Missing) > 0 {
		fmt.Fprintf(a.out, "%s that pickups need were not in the archive any more\n", count(len(b.Missing), "original"))
	}
	return nil
}

func (a *app) backup() *cobra.Command {
	return a.jsonFlag(&cobra.Command{
		Use:   "backup FILE",
		Short: "Save the records and the originals of a running service",
		Long: `Save the records and the originals of a running service in one tar file, as they
stand at one moment, while everything goes on. The file is written under another
name, read through and compared, and then named.

Workspaces, environments, the token and what lies in inboxes are not in it.`,
		Example: "  ydrion backup /backups/ydrion-monday.tar\n  ydrion restore /backups/ydrion-monday.tar --check",
		Args:    cobra.ExactArgs(1),
		RunE: a.asking(func(cmd *cobra.Command, client *api.Client, args []string) (err error) {
			name := args[0]
			if _, err := os.Lstat(name); err == nil {
				return wrongUse("%s is there already; nothing is replaced", name)
			}
			part := name + ".part"
			f, err := os.OpenFile(part, os.O_RDWR|os.O_CREATE|os.O_TRUNC, 0o600)
			if err != nil {
				return err
			}
			defer func() {
				if err != nil {
					err = errors.Join(err, f.Close(), os.Remove(part))
				}
			}()
			shown := &counting{Writer: f, every: a.bytesSoFar()}
			if err := client.Backup(cmd.Context(), shown); err != nil {
				return err
			}
			m, err := service.CheckBackup(f)
			if err != nil {
				return err
			}
			if err := errors.Join(f.Sync(), f.Close()); err != nil {
				return err
			}
			if err := os.Rename(part, name); err != nil {
				return err
			}
			return a.tellBackup("is whole", backedUp(name, shown.n, m))
		}),
	})
}

// counting counts what is written and tells from time to time.
type counting struct {
	io.Writer
	n     int64
	every func(n int64)
}

func (c *counting) Write(b []byte) (int, error) {
	n, err := c.Writer.Write(b)
	c.n += int64(n)
	c.every(c.n)
	return n, err
}

// bytesSoFar tells a person at a terminal how far something has got.
func (a *app) bytesSoFar() func(n int64) {
	if !terminal(a.errRaw) {
		return func(int64) {}
	}
	told := time.Now()
	return func(n int64) {
		if time.Since(told) > time.Second {
			told = time.Now()
			fmt.Fprintf(a.errRaw, "\r%d MiB", n>>20)
		}
	}
}

// usualSkip is how far numbers go on behind those that a backup knows.
const usualSkip = 1_000_000

func (a *app) restore() *cobra.Command {
	var database string
	var skip int64
	var check bool
	c := a.jsonFlag(&cobra.Command{
		Use:   "restore FILE",
		Short: "Make the records and originals of a backup anew",
		Long: `Make the records and originals of a backup anew, in a data folder (--data) without
records or in an empty database (--database-url). No service may run there.
The file is read through and compared before anything is written; --check does
only that.

What happened after the backup is not known to it. So that no sequence or control
number is handed out twice, the numbers of each route go on a million behind those
that are known; --skip says how many. Outputs that were on their way are gone on
with where their hidden files are still there, and are uncertain otherwise.`,
		Example: "  ydrion restore /backups/ydrion-monday.tar --check\n  ydrion restore /backups/ydrion-monday.tar --data /var/lib/ydrion-new\n  ydrion restore monday.tar --data /srv/ydrion --database-url postgres://ydrion@db.example/empty",
		Args:    cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if skip < 1 {
				return wrongUse("--skip is %d; it must be 1 or more", skip)
			}
			f, err := os.Open(args[0])
			if err != nil {
				return wrongUse("the backup cannot be opened: %v", err)
			}
			defer f.Close()
			info, err := f.Stat()
			if err != nil {
				return err
			}
			if check {
				m, err := service.CheckBackup(f)
				if errors.Is(err, service.ErrBackup) {
					fmt.Fprintf(a.err, "ydrion: %v\n", err)
					return errFindings
				}
				if err != nil {
					return err
				}
				return a.tellBackup("is whole", backedUp(args[0], info.Size(), m))
			}
			data, err := filepath.Abs(a.data)
			if err != nil {
				return err
			}
			if err := os.MkdirAll(data, 0o755); err != nil {
				return err
			}
			if database == "" {
				lock, err := lockData(data)
				if err != nil {
					return err
				}
				defer lock.Close()
			}
			m, err := service.Restore(cmd.Context(), service.RestoreRequest{From: f, Data: data, DatabaseURL: database, Skip: skip, Progress: a.originalsSoFar()})
			switch {
			case errors.Is(err, store.ErrNotEmpty):
				return wrongUse("there are records already; choose another data folder (--data) or an empty database (--database-url)")
			case errors.Is(err, service.ErrBackup):
				fmt.Fprintf(a.err, "ydrion: %v\n", err)
				return errFindings
			case err != nil:
				return err
			}
			return a.tellBackup("was restored", backedUp(args[0], info.Size(), m))
		},
	})
	f := c.Flags()
	f.StringVar(&database, "database-url", "", "an empty PostgreSQL database instead of a private cluster")
	f.Int64Var(&skip, "skip", usualSkip, "how far behind the known ones the numbers go on")
	f.BoolVar(&check, "check", false, "only read the backup through and say what it holds")
	return c
}

func (a *app) originalsSoFar() func(done, all int) {
	if !terminal(a.errRaw) {
		return nil
	}
	told := time.Now()
	return func(done, all int) {
		if time.Since(told) > time.Second {
			told = time.Now()
			fmt.Fprintf(a.errRaw, "\r%d of %d originals", done, all)
		}
	}
}
