package e2e

import (
	"bufio"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
)

// TestStandIns: each stand-in that the program runs is one that its own settings reach; what cannot be is said.
func TestStandIns(t *testing.T) {
	t.Parallel()
	path := program(t)
	for _, kind := range []string{"sftp", "ftp", "webdav", "s3", "imap", "http", "smtp", "mllp"} {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			folder := t.TempDir()
			c := exec.Command(path, "stand-in", kind, "--folder", folder)
			out, err := c.StdoutPipe()
			if err != nil {
				t.Fatal(err)
			}
			c.Stderr = os.Stderr
			if err := c.Start(); err != nil {
				t.Fatal(err)
			}
			defer func() {
				if err := c.Process.Signal(syscall.SIGINT); err != nil {
					t.Error(err)
				}
				if err := c.Wait(); err != nil {
					t.Errorf("it ends with %v", err)
				}
			}()
			settings, within := "environment: e\nplaces:\n", false
			for lines := bufio.NewScanner(out); lines.Scan() && !strings.Contains(lines.Text(), "Interrupt"); {
				if within = within || strings.HasPrefix(lines.Text(), "  partner:"); within {
					settings += lines.Text() + "\n"
				}
			}
			environment := filepath.Join(t.TempDir(), "e.yaml")
			if err := os.WriteFile(environment, []byte(settings), 0o644); err != nil {
				t.Fatal(err)
			}
			if said, err := exec.Command(path, "places", "try", "partner", "-e", environment).CombinedOutput(); err != nil || strings.Contains(string(said), "fails") {
				t.Errorf("%s\n%s", settings, said)
			}
		})
	}
	t.Run("the last one is kept", func(t *testing.T) { // what comes just before the end is in the folder behind it
		folder := t.TempDir()
		c := exec.Command(path, "stand-in", "mllp", "--folder", folder)
		out, err := c.StdoutPipe()
		if err != nil {
			t.Fatal(err)
		}
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		address := ""
		for lines := bufio.NewScanner(out); lines.Scan() && !strings.Contains(lines.Text(), "Interrupt"); {
			if _, after, is := strings.Cut(lines.Text(), "mllp://"); is {
				address = after
			}
		}
		connection, err := net.Dial("tcp", address)
		if err != nil {
			t.Fatal(err)
		}
		const message = "MSH|^~\\&|HOLM|SCSR|LAB|SCSR|20261130||ADT^A01|1|P|2.5\r"
		if _, err := connection.Write([]byte("\x0b" + message + "\x1c\r")); err != nil {
			t.Fatal(err)
		}
		if answer, err := bufio.NewReader(connection).ReadString('\x1c'); err != nil || !strings.Contains(answer, "MSA|AA|1") {
			t.Errorf("%q %v", answer, err)
		}
		if err := c.Process.Signal(syscall.SIGINT); err != nil {
			t.Fatal(err)
		}
		go io.Copy(io.Discard, out) //nolint: nobody reads it
		if err := c.Wait(); err != nil {
			t.Errorf("it ends with %v", err)
		}
		kept, _ := filepath.Glob(filepath.Join(folder, "*.hl7")) //nolint: the pattern is right
		if len(kept) != 1 {
			t.Fatal(kept)
		}
		if text, err := os.ReadFile(kept[0]); err != nil || string(text) != message {
			t.Errorf("%q %v", text, err)
		}
	})
	for _, wrong := range [][]string{{"gopher"}, {"sftp", "--listen", "0.0.0.0:2222"}, {"sftp", "--fault", "stale write"}, {"s3", "--fault", "stale list"}} {
		if said, err := exec.Command(path, append([]string{"stand-in"}, wrong...)...).CombinedOutput(); err == nil || err.(*exec.ExitError).ExitCode() != 2 {
			t.Errorf("%v: %v %s", wrong, err, said)
		}
	}
}
