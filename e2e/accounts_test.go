package e2e

import (
	"context"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"

	"ydrion/api"
	"ydrion/files"
	"ydrion/listen"
	"ydrion/testbed"
)

// Accounts of nobody: neither is the other's, nor root.
const (
	ofService = 61001
	ofSender  = 61002
)

// TestSenderOfAnotherAccount: the service runs under an account of its own and the senders
// under another. What a sender gives is taken; what he keeps a hand on is copied; what he
// points at is not followed; what the service may not read holds nobody else; and he cannot
// look at what was taken, of himself or of others.
func TestSenderOfAnotherAccount(t *testing.T) {
	t.Parallel()
	if os.Getuid() != 0 {
		t.Skip("only root can run programs under other accounts")
	}
	path, database := program(t), testbed.Database(t)
	data := t.TempDir()
	for _, folder := range []string{filepath.Dir(filepath.Dir(path)), filepath.Dir(path), filepath.Dir(data), data} {
		if err := os.Chmod(folder, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	inbox := filepath.Join(data, "stations", "inbox")
	for _, folder := range []string{data, filepath.Join(data, "stations"), inbox} {
		if err := os.MkdirAll(folder, 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.Chown(folder, ofService, ofService); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Chmod(inbox, 0o777); err != nil {
		t.Fatal(err)
	}
	secret := filepath.Join(data, "secret.csv")
	for name, content := range map[string]string{"secret.csv": sheet(666), "environment.yaml": "environment: demo\nproduction: false\nplaces:\n  stations: stations\n  laboratory: laboratory\n  suppliers: suppliers\n  letterbox: letterbox\n  analyser: analyser\n  vault: vault\n"} {
		if err := os.WriteFile(filepath.Join(data, name), []byte(content), 0o600); err != nil {
			t.Fatal(err)
		}
		if err := os.Chown(filepath.Join(data, name), ofService, ofService); err != nil {
			t.Fatal(err)
		}
	}
	serveAs(t, ofService, path, data, database, "--environment", filepath.Join(data, "environment.yaml"))
	client := clientOf(t, data)
	w := testbed.Workspace(t)
	content := map[string][]byte{}
	for n, c := range w.Files {
		content[n] = c
	}
	for n, c := range inOneFile(t) {
		content[n] = []byte(c)
	}
	ctx := context.Background()
	if answer, err := client.Publish(ctx, api.PublishRequest{Files: content, Routes: []string{"specimen-orders"}}); err != nil || !answer.Published {
		t.Fatalf("%+v %v", answer, err)
	}
	if _, err := client.SetRunning(ctx, "specimen-orders", true); err != nil {
		t.Fatal(err)
	}
	// sends runs a script as the sender, in the inbox.
	sends := func(script string) (string, error) {
		cmd := exec.Command("sh", "-c", script)
		cmd.Dir = inbox
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: ofSender, Gid: ofSender}}
		out, err := cmd.CombinedOutput()
		return string(out), err
	}
	send := func(name, content, mode string) {
		t.Helper()
		if out, err := sends(fmt.Sprintf("umask 022; cat > .part <<'END'\n%s\nEND\nchmod %s .part && mv .part %s", strings.TrimSuffix(content, "\n"), mode, name)); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
	}
	states := func() map[string]string {
		page, err := client.Pickups(ctx, url.Values{"limit": {"100"}})
		if err != nil {
			t.Fatal(err)
		}
		out := map[string]string{}
		for _, p := range page.Items {
			out[p.Name] = p.State
		}
		return out
	}
	delivered := func(name string) {
		t.Helper()
		testbed.Until(t, name+" is delivered", func() bool { return states()[name] == "delivered" })
	}
	send("good.csv", sheet(1), "644")
	delivered("good.csv")

	// He may not let the service read it: it says so, and others come out.
	send("closed.csv", sheet(2), "000")
	send("behind.csv", sheet(3), "644")
	delivered("behind.csv")
	testbed.Until(t, "people can see why the closed file waits", func() bool {
		sheet, err := client.Route(ctx, "specimen-orders")
		return err == nil && slices.ContainsFunc(sheet.WaitingFiles, func(w listen.Waiting) bool {
			return w.Name == "closed.csv" && w.Reason == "permission to read it is missing"
		})
	})
	// He rests in the middle of writing: the kernel does not tell the service of writers of
	// another account.
	if out, err := sends(fmt.Sprintf("{ printf %%s '%s'; sleep 3; printf %%s '%s'; } > slow.csv", sheet(7), row(8))); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	delivered("slow.csv")

	// He points at what only the service may read.
	if out, err := sends("ln -s ../../secret.csv .link && mv .link pointing.csv"); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	// He cannot give it a second name of his own.
	if _, err := sends("ln ../../secret.csv linked.csv"); err == nil {
		t.Log("the kernel lets anybody link to files of others")
	}
	// He keeps a second name and writes on by it, after it was taken.
	if out, err := sends("cat > .part <<'END'\n" + strings.TrimSuffix(sheet(4), "\n") + "\nEND\nln .part ../../kept.csv 2>/dev/null || ln .part .kept\nmv .part again.csv"); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	delivered("again.csv")
	if out, err := sends("test -e .kept && echo changed >> .kept"); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	kept := 0
	if err := filepath.WalkDir(filepath.Join(data, "archive"), func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		content, err := os.ReadFile(path)
		if string(content) == sheet(4) {
			kept++
		}
		if strings.Contains(string(content), "changed") {
			t.Errorf("the original is %q now", content)
		}
		return err
	}); err != nil || kept != 1 {
		t.Errorf("%d originals are what the sender sent: %v", kept, err)
	}

	// What was taken is nobody's to look at.
	for _, what := range []string{"ls " + files.Hidden, "ls ../../archive", "cat ../../token", "ls ../../archive/spool"} {
		if out, err := sends(what); err == nil {
			t.Errorf("a sender can %s: %s", what, out)
		}
	}
	send("last.csv", sheet(5), "644")
	delivered("last.csv")
	if now := states(); now["pointing.csv"] != "" || now["linked.csv"] != "" {
		t.Errorf("links became pickups: %v", now)
	}
	all := ""
	for _, name := range must(os.ReadDir(filepath.Join(data, "laboratory", "orders")))(t) {
		if name.IsDir() {
			continue // hidden
		}
		all += string(must(os.ReadFile(filepath.Join(data, "laboratory", "orders", name.Name())))(t))
	}
	for n, want := range map[int]int{1: 1, 2: 0, 3: 1, 4: 1, 5: 1, 7: 1, 8: 1, 666: 0} {
		if got := strings.Count(all, fmt.Sprintf("ORC|NW|AP-%06d", n)); got != want {
			t.Errorf("record %d came out %d times, not %d", n, got, want)
		}
	}
	if _, err := os.Stat(secret); err != nil {
		t.Error(err)
	}
}

// must gives a value, or ends the test.
func must[T any](v T, err error) func(t *testing.T) T {
	return func(t *testing.T) T {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
		return v
	}
}
