package managed

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
)

func TestCluster(t *testing.T) {
	folder, err := TempFolder()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := os.RemoveAll(folder); err != nil {
			t.Error(err)
		}
	})
	ctx := context.Background()
	at := filepath.Join(folder, "postgres")
	exec := func(url, sql string) error {
		conn, err := pgx.Connect(ctx, url)
		if err != nil {
			return err
		}
		defer conn.Close(ctx)
		_, err = conn.Exec(ctx, sql)
		return err
	}
	c, err := Start(ctx, at, Options{Throwaway: true})
	if err != nil {
		t.Fatal(err)
	}
	if err := exec(c.URL, "create table kept (n int)"); err != nil {
		t.Error(err)
	}
	// Nobody gets in without the password, by its socket neither, and a second start is refused.
	for _, url := range []string{c.URL, c.Local} {
		if err := exec(strings.Replace(url, "ydrion:", "ydrion:x", 1), "select 1"); err == nil || !strings.Contains(err.Error(), "password") {
			t.Errorf("with a wrong password: %v", err)
		}
	}
	if err := exec(c.Local, "insert into kept values (0)"); err != nil || c.Local == c.URL {
		t.Errorf("by its socket: %v", err)
	}
	if _, err := Start(ctx, at, Options{Throwaway: true}); err == nil || !strings.Contains(err.Error(), "already running") {
		t.Errorf("a second cluster in the same folder: %v", err)
	}
	for _, file := range []string{".password", ".log"} {
		if st, err := os.Stat(at + file); err != nil || st.Mode().Perm() != 0o600 {
			t.Errorf("%s: %v %v", file, st, err)
		}
	}
	if err := c.Stop(); err != nil {
		t.Fatal(err)
	}
	// It goes on where it was, and takes away what one that was killed would have left.
	for _, left := range []string{".s.PGSQL.1", ".s.PGSQL.1.lock"} {
		if err := os.WriteFile(filepath.Join(at, left), nil, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if c, err = Start(ctx, at, Options{Throwaway: true}); err != nil {
		t.Fatal(err)
	}
	for _, url := range []string{c.URL, c.Local} {
		if err := exec(url, "insert into kept values (1)"); err != nil {
			t.Error(err)
		}
	}
	if left, err := filepath.Glob(filepath.Join(at, ".s.PGSQL.*")); err != nil || len(left) != 2 {
		t.Errorf("sockets and their locks: %v %v", left, err)
	}
	// Killed, it comes back by itself, at the same address.
	if err := c.process.Signal(syscall.SIGQUIT); err != nil {
		t.Fatal(err)
	}
	<-c.ended
	deadline := time.Now().Add(time.Minute)
	for exec(c.URL, "insert into kept values (2)") != nil {
		if time.Now().After(deadline) {
			t.Fatal("the cluster does not come back")
		}
		time.Sleep(20 * time.Millisecond)
	}
	if err := c.Stop(); err != nil {
		t.Fatal(err)
	}
}

// TestNoSocket: where its name would be too long, the folder has a name that cannot be said in a list, or takes no socket, there is none.
func TestNoSocket(t *testing.T) {
	top, err := os.MkdirTemp("", "s")
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(top)
	fits := longestSocket - len(top) - len("/") - len("/.s.PGSQL.5")
	for name, want := range map[string]bool{"postgres": true, strings.Repeat("x", fits): true, strings.Repeat("x", fits+1): false, "a, b": false, `"a"`: false} {
		c := Cluster{folder: filepath.Join(top, name), port: 5}
		if c.takesSockets() {
			t.Errorf("%s, which is not there, takes a socket", name)
		}
		if err := os.Mkdir(c.folder, 0o700); err != nil {
			t.Fatal(err)
		}
		if got := c.takesSockets(); got != want {
			t.Errorf("%s (%d bytes with its socket): %v", name, len(c.socket()), got)
		}
		if left, err := os.ReadDir(c.folder); err != nil || len(left) > 0 {
			t.Errorf("%s: %v is left, %v", name, left, err)
		}
	}
}

func TestFolderThatTheAccountCannotReach(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root starts the cluster as another account")
	}
	folder := t.TempDir()
	if err := os.Chmod(folder, 0o700); err != nil {
		t.Fatal(err)
	}
	err := Reachable(filepath.Join(folder, "postgres"))
	if err == nil || !strings.Contains(err.Error(), "cannot pass through the folder "+folder) {
		t.Errorf("%v", err)
	}
}
