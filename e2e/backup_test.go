package e2e

import (
	"archive/tar"
	"context"
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"ydrion/testbed"
)

// TestBackupAndRestore saves a service while files come, and makes it anew elsewhere:
// every pickup that the backup knows balances there, its original is what it was, it can
// be run again, and no sequence number is handed out that either service had handed out.
func TestBackupAndRestore(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	b.Publish(inOneFile(t))
	for n := range 40 {
		content := sheet(n)
		if n%10 == 3 {
			content += strings.Replace(row(1000+n), "36.5", "n/a", 1)
		}
		b.Drop("stations/inbox", fmt.Sprintf("before-%02d.csv", n), content)
	}
	testbed.Until(t, "some have ended", func() bool { return strings.Count(states(b), "=delivered") > 20 })
	file := filepath.Join(t.TempDir(), "backup.tar")
	stop, coming := make(chan struct{}), make(chan struct{})
	go func() { // files go on coming
		defer close(coming)
		for n := 0; ; n++ {
			select {
			case <-stop:
				return
			default:
				b.Drop("stations/inbox", fmt.Sprintf("during-%03d.csv", n), sheet(2000+n))
			}
		}
	}()
	code, said := command(b, "backup", file)
	close(stop)
	<-coming
	if code != 0 || !strings.Contains(said, "is whole: ") {
		t.Fatalf("exit code %d: %s", code, said)
	}
	if code, said := command(b, "backup", file); code != 2 || !strings.Contains(said, "is there already") {
		t.Errorf("exit code %d: %s", code, said)
	}
	testbed.Until(t, "all have ended", func() bool { return len(b.List("stations/inbox")) == 0 })
	var last int64
	b.Ask(&last, `select sequence from routes where name = 'specimen-orders'`)
	looked, said := command(b, "restore", file, "--check", "--json")
	if looked != 0 || !strings.Contains(said, `"missing": []`) {
		t.Errorf("exit code %d: %s", looked, said)
	}
	notWhole(t, b, file)

	data, database := t.TempDir(), testbed.EmptyDatabase(t)
	if code, said := command(nil, "restore", file, "--data", data, "--database-url", database); code != 0 || !strings.Contains(said, "was restored") {
		t.Fatalf("exit code %d: %s", code, said)
	}
	if code, said := command(nil, "restore", file, "--data", data, "--database-url", database); code != 2 || !strings.Contains(said, "there are records already") {
		t.Errorf("exit code %d: %s", code, said)
	}
	mark := b.Mark()
	if err := b.End(); err != nil {
		t.Fatal(err)
	}
	c := testbed.Start(t, testbed.In(data, database))
	if c.Mark() != mark {
		t.Error("it is another installation now")
	}
	ctx := context.Background()
	testbed.Until(t, "what was under way has come to an end", func() bool {
		page, err := c.Client.Pickups(ctx, url.Values{"state": {"claimed,taken,committed"}})
		return err == nil && len(page.Items) == 0
	})
	page, err := c.Client.Pickups(ctx, url.Values{"limit": {"500"}})
	if err != nil || len(page.Items) < 20 {
		t.Fatalf("%d pickups (%v)", len(page.Items), err)
	}
	ended := 0
	for _, p := range page.Items {
		if p.In != p.Good+p.Rejected+p.Filtered {
			t.Errorf("%s does not balance: %+v", p.Name, p)
		}
		if p.State != "delivered" {
			continue
		}
		ended++
		n, _ := strconv.Atoi(strings.Trim(p.Name, "beforduing-.csv"))
		want := sheet(n)
		if strings.HasPrefix(p.Name, "during") {
			want = sheet(2000 + n)
		} else if n%10 == 3 {
			want += strings.Replace(row(1000+n), "36.5", "n/a", 1)
		}
		original(t, c, p, want)
	}
	if ended < 20 {
		t.Errorf("only %d have ended", ended)
	}
	if code, said := command(c, "again", fmt.Sprint(page.Items[len(page.Items)-1].ID), "--yes"); code != 0 {
		t.Errorf("exit code %d: %s", code, said)
	}
	var first int64
	testbed.Until(t, "it was run again", func() bool {
		c.Ask(&first, `select coalesce(min(first), 0) from run_sequences s join runs r on r.id = s.run where r.again`)
		return first > 0
	})
	c.Ask(&first, `select min(first) from run_sequences s join runs r on r.id = s.run where r.again`)
	if first < last {
		t.Errorf("it was given the number %d; the other service had handed out up to %d", first, last)
	}
}

// notWhole checks that a backup that is not whole is not a backup.
func notWhole(t *testing.T, b *testbed.Bed, file string) {
	t.Helper()
	whole, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	// Where an original stands, as another reader finds it.
	in, at := tar.NewReader(strings.NewReader(string(whole))), 0
	for {
		h, err := in.Next()
		if err != nil {
			t.Fatal(err)
		}
		if strings.HasPrefix(h.Name, "originals/") {
			content, err := io.ReadAll(in)
			if err != nil {
				t.Fatal(err)
			}
			at = strings.Index(string(whole), string(content))
			break
		}
	}
	changed := append([]byte{}, whole...)
	changed[at+3] ^= 1
	for name, content := range map[string][]byte{"cut": whole[:len(whole)-4096], "changed": changed, "empty": nil, "other": []byte("something else")} {
		path := filepath.Join(t.TempDir(), name)
		if err := os.WriteFile(path, content, 0o600); err != nil {
			t.Fatal(err)
		}
		data := filepath.Join(t.TempDir(), "data")
		for _, args := range [][]string{{"restore", path, "--check"}, {"restore", path, "--data", data, "--database-url", b.Database}} {
			if code, said := command(nil, args...); code != 1 || !strings.Contains(said, "this is not a whole backup") {
				t.Errorf("%s: %v: exit code %d: %s", name, args, code, said)
			}
		}
		if _, err := os.Stat(filepath.Join(data, "archive")); err == nil {
			t.Errorf("%s: something was restored", name)
		}
	}
}
