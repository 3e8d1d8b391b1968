package e2e

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/johannesboyne/gofakes3"

	"ydrion/service"
	"ydrion/standin"
	"ydrion/testbed"
	"ydrion/wire"
	"ydrion/workspace"
)

// partner is a stand-in of a partner's server, with the folder that it serves.
type partner struct {
	*standin.Manners
	place  workspace.Place
	folder string
	close  func()

	objects gofakes3.Backend // of an object store, which has no folder
}

// sftpPartner starts a partner's server; folder and address may be those of before.
func sftpPartner(t testing.TB, folder, address string) *partner {
	t.Helper()
	s, err := standin.NewSFTP(address, folder, "holm", standin.Login{User: "ydrion", Password: "salt and ice"})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	word := filepath.Join(t.TempDir(), "word")
	if err := os.WriteFile(word, []byte("salt and ice\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	return &partner{Manners: s.Manners, place: workspace.Place{Name: "holm", Kind: "sftp", Address: &url.URL{Scheme: "sftp", Host: s.Address()}, User: "ydrion", Password: workspace.Secret{File: word}, HostKeys: []string{s.HostKey}, Connections: 2, Patience: 5 * time.Second}, folder: folder, close: s.Close}
}

// partnerOf starts a partner's server of a kind, with a folder of its own.
func partnerOf(t testing.TB, kind string) *partner {
	t.Helper()
	if kind == "sftp" {
		return sftpPartner(t, t.TempDir(), "127.0.0.1:0")
	}
	certificate, pem, err := standin.NewCertificate()
	if err != nil {
		t.Fatal(err)
	}
	keys, folder, login := t.TempDir(), t.TempDir(), standin.Login{User: "ydrion", Password: "salt and ice"}
	for name, content := range map[string][]byte{"pem": pem, "word": []byte("salt and ice\n")} {
		if err := os.WriteFile(filepath.Join(keys, name), content, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	p := &partner{folder: folder, place: workspace.Place{Name: "holm", Kind: kind, User: "ydrion", Password: workspace.Secret{File: filepath.Join(keys, "word")}, Authorities: filepath.Join(keys, "pem"), Connections: 2, Patience: 5 * time.Second, Zone: time.UTC}}
	var address string
	switch kind {
	case "ftp":
		s, err := standin.NewFTP("127.0.0.1:0", folder, certificate, login)
		if err != nil {
			t.Fatal(err)
		}
		p.Manners, p.close, address, p.place.TLS = s.Manners, s.Close, "ftp://"+s.Address(), "explicit"
	case "webdav":
		s, err := standin.NewWebDAV("127.0.0.1:0", folder, certificate, login)
		if err != nil {
			t.Fatal(err)
		}
		p.Manners, p.close, address = s.Manners, s.Close, "https://"+s.Address()
	case "s3":
		s, err := standin.NewS3("127.0.0.1:0", certificate, login, "seals")
		if err != nil {
			t.Fatal(err)
		}
		p.Manners, p.close, address, p.objects = s.Manners, s.Close, "https://"+s.Address()+"/seals", s.Backend
	}
	t.Cleanup(p.close)
	if p.place.Address, err = url.Parse(address); err != nil {
		t.Fatal(err)
	}
	return p
}

// at is an option: the service knows the partner's server as the place holm.
func (p *partner) at() testbed.Option {
	return testbed.With(func(c *service.Config) {
		e := *c.Environment
		e.Places = maps.Clone(e.Places)
		e.Places["holm"] = p.place
		c.Environment = &e
	})
}

// list are the files in a folder of the partner's server, without those that are hidden.
func (p *partner) list(folder string) string {
	if p.objects != nil {
		l, err := p.objects.ListBucket("seals", &gofakes3.Prefix{HasPrefix: true, Prefix: folder + "/"}, gofakes3.ListBucketPage{})
		if err != nil {
			return err.Error()
		}
		var out []string
		for _, o := range l.Contents {
			out = append(out, strings.TrimPrefix(o.Key, folder+"/"))
		}
		return strings.Join(out, " ")
	}
	entries, _ := os.ReadDir(filepath.Join(p.folder, folder)) //nolint: not there yet
	var out []string
	for _, e := range entries {
		if !strings.HasPrefix(e.Name(), ".") {
			out = append(out, e.Name())
		}
	}
	return strings.Join(out, " ")
}

// hidden are the hidden files anywhere on the partner's server.
func (p *partner) hidden(t *testing.T) (out []string) {
	t.Helper()
	if err := filepath.WalkDir(p.folder, func(path string, d os.DirEntry, err error) error {
		if err == nil && strings.HasPrefix(d.Name(), ".") {
			out = append(out, path)
		}
		return err
	}); err != nil {
		t.Fatal(err)
	}
	return out
}

func (p *partner) read(t *testing.T, name string) string {
	t.Helper()
	if p.objects != nil {
		o, err := p.objects.GetObject("seals", name, nil)
		if err != nil {
			t.Fatal(err)
		}
		b, err := io.ReadAll(o.Contents)
		if err := errors.Join(err, o.Contents.Close()); err != nil {
			t.Fatal(err)
		}
		return string(b)
	}
	b, err := os.ReadFile(filepath.Join(p.folder, name))
	if err != nil {
		t.Fatal(err)
	}
	return string(b)
}

const toHolm = `deliver:
  name: "{specimen_id}.hl7"
  one file per: record
  to:
    - folder: "{laboratory}/orders"
    - place: holm/in
      when: weight_kg < 100
`

// TestToServer: outputs go to a server and to a folder; what is away holds nobody else, and gets its own when it is back.
func TestToServer(t *testing.T) {
	t.Parallel()
	holm := sftpPartner(t, t.TempDir(), "127.0.0.1:0")
	b := testbed.Start(t, holm.at())
	b.Publish(delivering(t, toHolm))
	b.Drop("stations/inbox", "a.csv", heading+row(1)+row(2)+strings.Replace(row(3), "36.5", "120.5", 1))
	if p := b.Ended("a.csv", 0); p.Good != 3 || p.State != "delivered" {
		t.Errorf("%+v", p)
	}
	if here, there := strings.Join(b.List("laboratory/orders"), " "), holm.list("in"); here != "AP-000001.hl7 AP-000002.hl7 AP-000003.hl7" || there != "AP-000001.hl7 AP-000002.hl7" {
		t.Errorf("here %s, there %s", here, there)
	}
	if here, there := b.Read("laboratory/orders/AP-000001.hl7"), holm.read(t, "in/AP-000001.hl7"); here != there || !strings.HasPrefix(there, "MSH|") {
		t.Errorf("here %q, there %q", here, there)
	}
	// However many of its name are at either, an output gets a name that is free, in a moment.
	for n := 2; n <= 1200; n++ {
		b.Drop("laboratory/orders", fmt.Sprintf("AP-000001-%d.hl7", n), "former")
		holm.drop(t, fmt.Sprintf("in/AP-000001-%d.hl7", n), "former")
	}
	b.Drop("stations/inbox", "again.csv", heading+row(1)+row(5))
	if p := b.Ended("again.csv", 0); p.Good != 2 || p.State != "delivered" {
		t.Errorf("%+v", p)
	}
	if here, there := b.Read("laboratory/orders/AP-000001-1201.hl7"), holm.read(t, "in/AP-000001-1201.hl7"); here != there || !strings.HasPrefix(there, "MSH|") {
		t.Errorf("here %q, there %q", here, there)
	}
	for n := 2; n <= 1201; n++ {
		for _, folder := range []string{b.Path("laboratory/orders"), filepath.Join(holm.folder, "in")} {
			if err := os.Remove(filepath.Join(folder, fmt.Sprintf("AP-000001-%d.hl7", n))); err != nil {
				t.Fatal(err)
			}
		}
	}
	if err := errors.Join(os.Remove(b.Path("laboratory/orders/AP-000005.hl7")), os.Remove(filepath.Join(holm.folder, "in/AP-000005.hl7"))); err != nil {
		t.Fatal(err)
	}
	// The server is away.
	address := holm.place.Address.Host
	holm.close()
	b.Drop("stations/inbox", "b.csv", heading+row(4))
	testbed.Until(t, "the folder gets its own", func() bool { return slices.Contains(b.List("laboratory/orders"), "AP-000004.hl7") })
	testbed.Until(t, "it is said why the server does not", func() bool {
		p := byName(t, b)["b.csv"]
		return p.State == "committed" && strings.Contains(p.Reason, "holm does not answer")
	})
	if got := holm.list("in"); got != "AP-000001.hl7 AP-000002.hl7" {
		t.Errorf("there: %s", got)
	}
	back := sftpPartner(t, holm.folder, address)
	if p := b.Ended("b.csv", 0); p.State != "delivered" || p.Reason != "" {
		t.Errorf("%+v", p)
	}
	if got := back.list("in"); got != "AP-000001.hl7 AP-000002.hl7 AP-000004.hl7" {
		t.Errorf("there: %s", got)
	}
	if left := back.hidden(t); len(left) > 0 {
		t.Errorf("left: %v", left)
	}
	if entries, err := os.ReadDir(b.Path("archive/spool")); err != nil || len(entries) > 0 {
		t.Errorf("left in the spool: %v %v", entries, err)
	}
}

// drop puts a file on the partner's server.
func (p *partner) drop(t testing.TB, name, content string) {
	t.Helper()
	if p.objects != nil {
		if _, err := p.objects.PutObject("seals", name, map[string]string{"Last-Modified": time.Now().UTC().Format(http.TimeFormat)}, strings.NewReader(content), int64(len(content)), nil); err != nil {
			t.Fatal(err)
		}
		return
	}
	at := filepath.Join(p.folder, name)
	if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(at, []byte(content), 0o644); err != nil {
		t.Fatal(err)
	}
}

// fromHolm is the demo's route for orders, with one file for each that comes from the partner's server.
func fromHolm(t *testing.T, listen string) map[string]string {
	t.Helper()
	w := testbed.Workspace(t)
	r := string(w.Files["routes/specimen-orders.yaml"])
	from, to := strings.Index(r, "listen:\n"), strings.Index(r, "read:\n")
	deliver, end := strings.Index(r, "deliver:\n"), strings.Index(r, "rejected:\n")
	if from < 0 || to < from || deliver < to || end < deliver {
		t.Fatal("the demo's route has changed; this test must follow")
	}
	return map[string]string{"routes/specimen-orders.yaml": r[:from] + "listen: {place: holm/out, names: \"*.csv\", rhythm: 200ms, quiet: 300ms" + listen + "}\n" + r[to:deliver] +
		"deliver: {folder: \"{laboratory}/orders\", name: \"{file.folder}{file.stem}.hl7\"}\n" + r[end:]}
}

// TestFromServer: files are fetched from a server when they look complete, and are gone there.
func TestFromServer(t *testing.T) {
	t.Parallel()
	holm := sftpPartner(t, t.TempDir(), "127.0.0.1:0")
	b := testbed.Start(t, holm.at())
	holm.drop(t, "out/a.csv", heading+row(1)+row(2))
	b.Publish(fromHolm(t, ", subfolders: true"))
	holm.drop(t, "out/.b.csv", heading+row(3))
	holm.drop(t, "out/c.part", heading+row(3))
	p := b.Ended("a.csv", 0)
	if p.Good != 2 || p.Path != "{holm}/out/a.csv" {
		t.Errorf("%+v", p)
	}
	if got := strings.Count(b.Read("laboratory/orders/a.hl7"), "MSH|"); got != 2 {
		t.Errorf("%d messages", got)
	}
	testbed.Until(t, "it is gone there", func() bool { return holm.list("out") == "c.part" })
	if left := holm.hidden(t); len(left) != 1 || filepath.Base(left[0]) != ".b.csv" {
		t.Errorf("left: %v", left)
	}
	// A link is not taken, and that is said.
	if err := os.Symlink("c.part", filepath.Join(holm.folder, "out/link.csv")); err != nil {
		t.Fatal(err)
	}
	testbed.Until(t, "it is said of the link", func() bool {
		return strings.Join(waiting(t, b, "specimen-orders"), " ") == "link.csv: it is neither a file nor a folder (a link?), and is not taken"
	})
	// One of a folder below, and one of the name of before.
	holm.drop(t, "out/north/d.csv", heading+row(4))
	holm.drop(t, "out/a.csv", heading+row(5))
	if d, a := b.Ended("d.csv", 0), b.Ended("a.csv", p.ID); d.Good != 1 || d.Path != "{holm}/out/north/d.csv" || a.Good != 1 {
		t.Errorf("%+v %+v", d, a)
	}
	if got := strings.Join(b.List("laboratory/orders"), " "); got != "a-2.hl7 a.hl7 northd.hl7" {
		t.Errorf("delivered %s", got)
	}
	// One that is still written to waits: between two looks at it there is always a row more.
	at := filepath.Join(holm.folder, "out/slow.csv")
	look := func() { // lets one go on that waits, and the next wait
		holm.Misbehave(standin.Fault{On: standin.List, Do: standin.Late, From: 1, For: time.Minute})
		testbed.Until(t, "it is looked again", func() bool { return holm.Times(standin.List) > 0 })
	}
	look()
	var whole strings.Builder
	whole.WriteString(heading)
	for i := range 6 {
		whole.WriteString(row(10 + i))
		if err := os.WriteFile(at, []byte(whole.String()), 0o644); err != nil {
			t.Fatal(err)
		}
		look()
		if i == 3 {
			testbed.Until(t, "it is said why it waits", func() bool {
				w := strings.Join(waiting(t, b, "specimen-orders"), " ")
				return strings.Contains(w, "slow.csv: it is watched until it has looked the same for 300ms")
			})
		}
	}
	holm.Misbehave()
	if p := b.Ended("slow.csv", 0); p.Good != 6 {
		t.Errorf("%+v", p)
	}
	// The server goes away, and comes back.
	address := holm.place.Address.Host
	holm.close()
	testbed.Until(t, "it is said why nothing comes", func() bool {
		_, said := command(b, "route", "specimen-orders")
		return strings.Contains(said, "holm does not answer at 127.0.0.1")
	})
	back := sftpPartner(t, holm.folder, address)
	back.drop(t, "out/late.csv", heading+row(20))
	if p := b.Ended("late.csv", 0); p.Good != 1 {
		t.Errorf("%+v", p)
	}
}

// TestTakenOnServer: what becomes of files on the server is as the route says, and who may not rename there is told so.
func TestTakenOnServer(t *testing.T) {
	t.Parallel()
	holm := sftpPartner(t, t.TempDir(), "127.0.0.1:0")
	b := testbed.Start(t, holm.at())
	// Moved.
	b.Publish(fromHolm(t, `, taken to: done, marker: "{file.name}.ok"`))
	holm.drop(t, "out/a.csv", heading+row(1))
	if _, said := command(b, "route", "specimen-orders"); !strings.Contains(said, "from {holm}/out") || !strings.Contains(said, "The server is looked at every 200ms.") || !strings.Contains(said, "What was taken is moved to done there.") || strings.Contains(said, "Kernel events") {
		t.Error(said)
	}
	testbed.Until(t, "it waits for its marker", func() bool {
		return strings.Join(waiting(t, b, "specimen-orders"), " ") == "a.csv: its marker a.csv.ok is not there"
	})
	holm.drop(t, "out/a.csv.ok", "")
	b.Ended("a.csv", 0)
	testbed.Until(t, "it is moved", func() bool { return holm.list("out") == "done" && holm.list("out/done") == "a.csv" })
	holm.drop(t, "out/a.csv", heading+row(2))
	holm.drop(t, "out/a.csv.ok", "")
	testbed.Until(t, "nothing is replaced", func() bool { return holm.list("out/done") == "a-2.csv a.csv" })
	// However many are there of its name, one more finds a free one.
	for n := 3; n <= 1200; n++ {
		holm.drop(t, fmt.Sprintf("out/done/a-%d.csv", n), "former")
	}
	holm.drop(t, "out/a.csv", heading+row(2)+row(3))
	holm.drop(t, "out/a.csv.ok", "")
	testbed.Until(t, "it is moved to a name that is free", func() bool { return strings.Contains(holm.list("out/done"), "a-1201.csv") })
	if content, err := os.ReadFile(filepath.Join(holm.folder, "out/done/a-1201.csv")); err != nil || string(content) != heading+row(2)+row(3) {
		t.Errorf("%q %v", content, err)
	}
	// Who sees that his file is gone sends the next at once, while the one before is still moved: its marker stays its own.
	holm.Misbehave(standin.Fault{On: standin.Rename, Do: standin.Late, From: 2, Times: 1, For: 4 * time.Second})
	holm.drop(t, "out/m.csv", heading+row(3))
	holm.drop(t, "out/m.csv.ok", "")
	testbed.Until(t, "it is out of sight, with its marker", func() bool { return holm.list("out") == "done" })
	if strings.Contains(holm.list("out/done"), "m.csv") {
		t.Error("its marker was there until it had been moved")
	}
	holm.drop(t, "out/m.csv", heading+row(4)+row(5))
	holm.drop(t, "out/m.csv.ok", "")
	if p := b.Ended("m.csv", b.Ended("m.csv", 0).ID); p.Good != 2 {
		t.Errorf("the next one: %+v", p)
	}
	testbed.Until(t, "both markers are gone", func() bool { return holm.list("out") == "done" })
	// Left there.
	b.Publish(fromHolm(t, ", originals: left"))
	holm.drop(t, "out/b.csv", heading+row(3))
	first := b.Ended("b.csv", 0)
	time.Sleep(time.Second)
	if holm.list("out") != "b.csv done" || len(holm.hidden(t)) > 0 {
		t.Errorf("there: %s %v", holm.list("out"), holm.hidden(t))
	}
	holm.drop(t, "out/b.csv", heading+row(3)) // with the same content
	time.Sleep(time.Second)
	holm.drop(t, "out/b.csv", heading+row(4)+row(5))
	if p := b.Ended("b.csv", first.ID); p.ID != first.ID+1 || p.Good != 2 {
		t.Errorf("the same content was taken again, or the changed one was not: %+v after %d", p, first.ID)
	}
	// What has gone and is there again is still known.
	gone := func() (n int) {
		b.Ask(&n, `select count(*) from fetches where path = '/out/b.csv' and state = 'known' and gone_at is not null`)
		return n
	}
	if err := os.Remove(filepath.Join(holm.folder, "out/b.csv")); err != nil {
		t.Fatal(err)
	}
	testbed.Until(t, "it is known to be gone", func() bool { return gone() == 1 })
	holm.drop(t, "out/b.csv", heading+row(4)+row(5))
	testbed.Until(t, "it is known to be back", func() bool { return gone() == 0 })
	// One that somebody goes on writing between being noticed and being renamed is put back, and taken when it is whole.
	holm.Misbehave(standin.Fault{On: standin.Rename, Do: standin.Late, From: 1, Times: 1, For: 700 * time.Millisecond})
	only := fromHolm(t, "")
	only["routes/specimen-orders.yaml"] = strings.Replace(only["routes/specimen-orders.yaml"], "names: \"*.csv\"", "names: \"g*.csv\"", 1)
	b.Publish(only)
	holm.drop(t, "out/g.csv", heading+row(6))
	testbed.Until(t, "it is asked to rename it", func() bool {
		n := 0
		b.Ask(&n, `select count(*) from fetches where path = '/out/g.csv'`)
		return n == 1
	})
	g, err := os.OpenFile(filepath.Join(holm.folder, "out/g.csv"), os.O_APPEND|os.O_WRONLY, 0o644)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := io.WriteString(g, row(7)); err != nil {
		t.Fatal(err)
	}
	testbed.Until(t, "it is put back", func() bool {
		return strings.Contains(strings.Join(waiting(t, b, "specimen-orders"), " "), "g.csv: it has changed since it was noticed") && strings.Contains(holm.list("out"), "g.csv")
	})
	if _, err := io.WriteString(g, row(8)); err != nil {
		t.Fatal(err)
	}
	if err := g.Close(); err != nil {
		t.Fatal(err)
	}
	if code, said := command(b, "take", "specimen-orders", "g.csv"); code != 0 {
		t.Fatal(said)
	}
	if p := b.Ended("g.csv", 0); p.Good != 3 {
		t.Errorf("it was taken in part: %+v", p)
	}
	// Who may not rename.
	holm.Misbehave(standin.Fault{On: standin.Rename, Do: standin.Refuse, From: 1})
	b.Publish(fromHolm(t, ""))
	testbed.Until(t, "it is said what to do", func() bool {
		return strings.Contains(strings.Join(waiting(t, b, "specimen-orders"), " "), "ask for the right to rename and remove files, or say `originals: left`")
	})
	if holm.list("out") != "b.csv done" {
		t.Errorf("there: %s", holm.list("out"))
	}
}

// TestConsolePlaces: the console shows how places do, what waits for them and why, and tries one.
func TestConsolePlaces(t *testing.T) {
	t.Parallel()
	holm := sftpPartner(t, t.TempDir(), "127.0.0.1:0")
	b := testbed.Start(t, append(pictured(t), holm.at())...)
	b.Publish(delivering(t, toHolm))
	for _, f := range []string{"brunholm-2026-11-23.csv", "ansel-point-2026-11-23.csv"} {
		b.Drop("stations/inbox", f, testbed.Demo(t, f))
		b.Ended(f, 0)
	}
	address := holm.place.Address.Host
	holm.close()
	b.Drop("stations/inbox", "calder-ness-2026-11-23.csv", testbed.Demo(t, "calder-ness-2026-11-23.csv"))
	testbed.Until(t, "it waits", func() bool { return byName(t, b)["calder-ness-2026-11-23.csv"].Reason != "" })
	ctx := browser(t)
	do(t, ctx, chromedp.Navigate(b.URL+"/places#token="+b.Token))
	text(t, ctx, "table.places", "holm sftp", "away", "3 outputs to be brought there", "holm does not answer at "+address+": connection refused", "outputs come from specimen-orders", "laboratory folder", "works")
	shot(t, ctx, "console-places")
	p := byName(t, b)["calder-ness-2026-11-23.csv"]
	do(t, ctx, chromedp.Navigate(fmt.Sprintf("%s/pickups/%d", b.URL, p.ID)))
	text(t, ctx, "main", "delivering", "holm does not answer", "not there yet", "Try now", "Abandon the rest")
	shot(t, ctx, "console-delivering")
	if _, said := command(b, "places"); !strings.Contains(said, "holm is away since") || !strings.Contains(said, "sftp://"+address) {
		t.Error(said)
	}
	if code, said := command(b, "places", "try", "holm"); code != 1 || !strings.Contains(said, "fails") {
		t.Errorf("%d: %s", code, said)
	}
	back := sftpPartner(t, holm.folder, address)
	do(t, ctx, chromedp.Click("//button[contains(., 'Try now')]"))
	text(t, ctx, ".head", "delivered")
	if got := strings.Count(back.list("in"), ".hl7"); got != 17 {
		t.Errorf("%d files there", got)
	}
	do(t, ctx, chromedp.KeyEvent("g"), chromedp.KeyEvent("l"))
	text(t, ctx, "table.places", "holm sftp", "works")
	do(t, ctx, chromedp.Click("//tr[@data-place='holm']//button"))
	text(t, ctx, ".p-dialog table.steps", "reach it", "look into /in", "17 files and 0 folders", "not replace what is there", "remove it")
	if seen := inner(ctx, ".p-dialog table.steps"); strings.Contains(seen, "fails") {
		t.Error(seen)
	}
	shot(t, ctx, "console-place-tried")
	if code, said := command(b, "places", "try", "holm", "--folder", "/in"); code != 0 || !strings.Contains(said, "17 files") {
		t.Errorf("%d: %s", code, said)
	}
}

// TestAbandonedOnTheWay: what waits for a server can be given up; it holds nothing else then.
func TestAbandonedOnTheWay(t *testing.T) {
	t.Parallel()
	holm := sftpPartner(t, t.TempDir(), "127.0.0.1:0")
	b := testbed.Start(t, holm.at())
	r := delivering(t, toHolm)
	r["routes/specimen-orders.yaml"] = strings.Replace(r["routes/specimen-orders.yaml"], "read:\n", "order: {lane: all, failure: holds}\nread:\n", 1)
	b.Publish(r)
	holm.close()
	b.Drop("stations/inbox", "a.csv", heading+row(1))
	testbed.Until(t, "it waits for the server", func() bool { return byName(t, b)["a.csv"].Reason != "" })
	b.Drop("stations/inbox", "b.csv", heading+row(2))
	testbed.Until(t, "the next waits for it", func() bool {
		return strings.Contains(strings.Join(waiting(t, b, "specimen-orders"), " "), "b.csv: its lane all is held by pickup 1")
	})
	if code, said := command(b, "decide", "1", "abandoned"); code != 0 {
		t.Fatal(said)
	}
	b.Ended("a.csv", 0)
	testbed.Until(t, "the next comes", func() bool { return byName(t, b)["b.csv"].State == "committed" })
	sftpPartner(t, holm.folder, holm.place.Address.Host)
	b.Ended("b.csv", 0)
	if got := holm.list("in"); got != "AP-000002.hl7" {
		t.Errorf("there: %s", got)
	}
}

// TestNamesOnServers: files are fetched whatever their names are, and one that is known is known after a restart.
func TestNamesOnServers(t *testing.T) {
	t.Parallel()
	names := []string{"good.csv", "\xe6\xff.csv", `\xe6\xff.csv`, "new\nline.csv", "tab\t.csv", "-rf.csv", "a:b.csv", "%41.csv", " .csv", "[1] *?.csv", "e\u0301.csv"}
	for _, kind := range []string{"sftp", "ftp", "webdav"} {
		for _, originals := range []string{"taken", "left"} {
			t.Run(kind+" "+originals, func(t *testing.T) {
				t.Parallel()
				names := names
				var holm *partner
				if kind == "sftp" {
					holm = sftpPartner(t, t.TempDir(), "127.0.0.1:0")
				} else {
					holm = partnerOf(t, kind)
				}
				if kind == "ftp" { // its lists have no place for a line end in a name
					names = slices.DeleteFunc(slices.Clone(names), func(n string) bool { return strings.Contains(n, "\n") })
				}
				for _, n := range names {
					holm.drop(t, "out/"+n, n)
				}
				data, database := t.TempDir(), testbed.Database(t)
				b := testbed.Start(t, holm.at(), testbed.In(data, database))
				route := "route: from\nlisten: {place: holm/out, names: \"*.csv\", quiet: 100ms, rhythm: 200ms}\nread: {format: file}\ndeliver: {folder: \"{laboratory}/from\", name: \"{sequence}.csv\"}\nrejected: {folder: \"{stations}/rejected\"}\n"
				if originals == "left" {
					route = strings.Replace(route, "rhythm", "originals: left, rhythm", 1)
				}
				b.Publish(map[string]string{"routes/from.yaml": route})
				came := func() (contents []string) {
					for _, n := range b.List("laboratory/from") {
						contents = append(contents, b.Read("laboratory/from/"+n))
					}
					slices.Sort(contents)
					return contents
				}
				testbed.Until(t, "all have come", func() bool { return len(came()) >= len(names) })
				slices.Sort(names)
				if got := came(); !slices.Equal(got, names) {
					t.Errorf("%q came", got)
				}
				if originals == "taken" {
					testbed.Until(t, "they are gone there", func() bool { return holm.list("out") == "" && len(holm.hidden(t)) == 0 })
					return
				}
				testbed.Until(t, "all are known", func() bool {
					n := 0
					b.Ask(&n, `select count(*) from fetches where state = 'known'`)
					return n == len(names)
				})
				if err := b.End(); err != nil {
					t.Fatal(err)
				}
				b = testbed.Start(t, holm.at(), testbed.In(data, database))
				time.Sleep(time.Second)
				if got := came(); !slices.Equal(got, names) {
					t.Errorf("%q came after a restart", got)
				}
			})
		}
	}
}

// TestOthersUseConnections: fetching does not wait for a connection that something else uses all the time.
func TestOthersUseConnections(t *testing.T) {
	t.Parallel()
	holm := sftpPartner(t, t.TempDir(), "127.0.0.1:0")
	holm.place.Patience = time.Hour
	b := testbed.Start(t, holm.at())
	b.Publish(map[string]string{
		"routes/there.yaml": "route: there\nlisten: {folder: \"{stations}/there\", names: \"*\"}\nread: {format: file}\ndeliver: {place: holm/in, name: \"{file.name}\"}\nrejected: {folder: \"{stations}/rejected\"}\n",
		"routes/from.yaml":  "route: from\nlisten: {place: holm/out, names: \"*\", quiet: 1ms, rhythm: 200ms}\nread: {format: file}\ndeliver: {folder: \"{laboratory}/from\", name: \"{file.name}\"}\nrejected: {folder: \"{stations}/rejected\"}\n",
	})
	holm.Misbehave(standin.Fault{On: standin.Write, Do: standin.Late, From: 1, Times: 1, For: time.Hour})
	b.Drop("stations/there", "long", "lasts")
	testbed.Until(t, "it is on its way", func() bool { return holm.Times(standin.Write) > 0 })
	for i := range 6 {
		holm.drop(t, fmt.Sprintf("out/%d", i), "seal")
	}
	for i := range 6 {
		b.Ended(fmt.Sprint(i), 0)
	}
	testbed.Until(t, "they are gone there", func() bool { return holm.list("out") == "" && len(holm.hidden(t)) == 0 })
	if state := byName(t, b)["long"].State; state != "committed" || holm.list("in") != "" {
		t.Errorf("what takes long is %s", state)
	}
	holm.Misbehave()
	b.Ended("long", 0)
}

// TestTriedAtOnce: what a server has refused is tried again when a person says so, not when it would have been.
func TestTriedAtOnce(t *testing.T) {
	t.Parallel()
	holm := sftpPartner(t, t.TempDir(), "127.0.0.1:0")
	b := testbed.Start(t, holm.at())
	b.Publish(delivering(t, toHolm))
	holm.Misbehave(standin.Fault{On: standin.Write, Do: standin.Refuse, From: 1})
	b.Drop("stations/inbox", "a.csv", heading+row(1))
	var next time.Time
	testbed.Until(t, "it rests for a while", func() bool {
		var rests bool
		b.Ask(&rests, `select exists (select 1 from deliveries where state = 'open' and tries > 2 and next_try > now() + interval '2 s')`)
		return rests
	})
	b.Ask(&next, `select next_try from deliveries where state = 'open'`)
	holm.Misbehave()
	if code, said := command(b, "decide", "1", "try"); code != 0 {
		t.Fatal(said)
	}
	if p := b.Ended("a.csv", 0); !p.EndedAt.Before(next) {
		t.Errorf("it ended at %s, and would have been tried at %s", p.EndedAt, next)
	}
}

// TestStaleList: a server that lists what is gone, and not yet what has come, makes nothing come twice, and nothing be lost.
func TestStaleList(t *testing.T) {
	t.Parallel()
	for _, kind := range []string{"sftp", "ftp"} {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			holm := partnerOf(t, kind)
			b := testbed.Start(t, holm.at())
			holm.drop(t, "out/a.csv", heading+row(1))
			holm.drop(t, "out/b.csv", heading+row(2))
			b.Publish(fromHolm(t, ""))
			b.Ended("a.csv", 0)
			b.Ended("b.csv", 0)
			holm.drop(t, "out/a.csv", heading+row(3))
			b.Ended("a.csv", 1)
			holm.Misbehave(standin.Fault{On: standin.List, Do: standin.Stale, From: 2, Times: 6})
			holm.drop(t, "out/c.csv", heading+row(4))
			b.Ended("c.csv", 0)
			holm.drop(t, "out/d.csv", heading+row(5))
			b.Ended("d.csv", 0)
			page, err := b.Client.Pickups(t.Context(), url.Values{})
			if err != nil || len(page.Items) != 5 {
				t.Errorf("%d pickups, %v", len(page.Items), err)
			}
			if left := holm.list("out"); left != "" || len(holm.hidden(t)) != 0 {
				t.Errorf("left: %s, %v", left, holm.hidden(t))
			}
		})
	}
}

// TestLargeObject: a large output whose connection breaks off is gone on with at the part where it was, also by a service that was started since.
func TestLargeObject(t *testing.T) {
	t.Parallel()
	for _, restarted := range []bool{false, true} {
		t.Run(fmt.Sprintf("restarted %v", restarted), func(t *testing.T) {
			holm := partnerOf(t, "s3")
			data, database := t.TempDir(), testbed.Database(t)
			b := testbed.Start(t, holm.at(), testbed.In(data, database))
			b.Publish(map[string]string{"routes/there.yaml": "route: there\nlisten: {folder: \"{stations}/large\"}\nread: {format: file}\ndeliver: {place: holm/in, name: \"{file.name}\"}\nrejected: {folder: \"{stations}/rejected\"}\n"})
			content := make([]byte, 70<<20)
			dice := rand.NewChaCha8([32]byte{7})
			dice.Read(content) //nolint: it always can
			holm.CutBytes(40 << 20)
			b.Drop("stations/large", "large.bin", string(content))
			testbed.Until(t, "it breaks off", func() bool { return holm.Bytes() >= 40<<20 })
			if restarted {
				holm.Misbehave(standin.Fault{On: standin.Connect, Do: standin.Cut, From: 1})
				if err := b.End(); err != nil {
					t.Fatal(err)
				}
				holm.Misbehave()
				b = testbed.Start(t, holm.at(), testbed.In(data, database))
			}
			b.Ended("large.bin", 0)
			if got := holm.read(t, "in/large.bin"); got != string(content) {
				t.Errorf("%d bytes came, not %d, or others", len(got), len(content))
			}
			// Two parts of 16 MiB are on their way at a time, so more than 8 of the 40 MiB were a part that was there as a whole.
			if sent := holm.Bytes(); sent > 41<<20+int64(len(content))-16<<20 {
				t.Errorf("%d MiB were sent in all", sent>>20)
			}
		})
	}
}

// TestEndedWhilePut: a service that ends at any of the requests that make an object, and is started again, leaves the object there, and nothing
// else.
func TestEndedWhilePut(t *testing.T) {
	t.Parallel()
	for k := int64(1); k <= 5; k++ {
		t.Run(fmt.Sprintf("request %d", k), func(t *testing.T) {
			t.Parallel()
			holm := partnerOf(t, "s3")
			data, database := t.TempDir(), testbed.Database(t)
			b := testbed.Start(t, holm.at(), testbed.In(data, database))
			b.Publish(map[string]string{"routes/there.yaml": "route: there\nlisten: {folder: \"{stations}/put\"}\nread: {format: file}\ndeliver: {place: holm/in, name: \"{file.name}\"}\nrejected: {folder: \"{stations}/rejected\"}\n"})
			holm.Misbehave(standin.Fault{On: standin.Connect, Do: standin.Cut, From: 2}) // nobody reaches it behind the cut
			holm.CutAt(k, true)
			b.Drop("stations/put", "a.csv", "one")
			testbed.Until(t, "it breaks off, or has arrived", func() bool {
				return holm.Times(standin.Connect) > 1 || byName(t, b)["a.csv"].EndedAt != nil
			})
			if err := b.End(); err != nil {
				t.Fatal(err)
			}
			holm.Misbehave()
			holm.CutAt(0, false)
			b = testbed.Start(t, holm.at(), testbed.In(data, database))
			b.Ended("a.csv", 0)
			there, err := holm.objects.ListBucket("seals", &gofakes3.Prefix{}, gofakes3.ListBucketPage{})
			var keys []string
			for _, o := range there.Contents {
				keys = append(keys, o.Key)
			}
			if err != nil || len(keys) != 1 || keys[0] != "in/a.csv" || holm.read(t, "in/a.csv") != "one" {
				t.Errorf("%q %v", keys, err)
			}
		})
	}
}

// TestLargeFetchGoesOn: a large file whose copying ends with the service is gone on with by the next one, if the machine has not been started anew since.
func TestLargeFetchGoesOn(t *testing.T) {
	t.Parallel()
	for _, started := range []bool{false, true} {
		t.Run(fmt.Sprintf("started anew %v", started), func(t *testing.T) {
			t.Parallel()
			holm := partnerOf(t, "sftp")
			data, database := t.TempDir(), testbed.Database(t)
			b := testbed.Start(t, holm.at(), testbed.In(data, database))
			content := make([]byte, 60<<20)
			dice := rand.NewChaCha8([32]byte{8})
			dice.Read(content) //nolint: it always can
			holm.drop(t, "out/large.bin", string(content))
			holm.CutBytes(40 << 20)
			holm.Misbehave(standin.Fault{On: standin.Read, Do: standin.Cut, From: 2}) // not before the service has ended
			b.Publish(map[string]string{"routes/large.yaml": "route: large\nlisten: {place: holm/out, names: \"*\", quiet: 300ms, rhythm: 200ms}\nread: {format: file}\ndeliver: {folder: \"{laboratory}/large\", name: \"{file.name}\"}\nrejected: {folder: \"{stations}/rejected\"}\n"})
			testbed.Until(t, "it breaks off", func() bool { return holm.Bytes() >= 40<<20 })
			if err := b.End(); err != nil {
				t.Fatal(err)
			}
			before := holm.Bytes()
			witnesses, err := filepath.Glob(b.Path("archive/fetched/*/.ydrion*/*+start"))
			if err != nil || len(witnesses) != 1 {
				t.Fatal(witnesses, err)
			}
			if started { // what was written last may be lost, in the middle, too
				copied := strings.TrimSuffix(witnesses[0], "+start")
				w, err := os.OpenFile(copied, os.O_WRONLY, 0)
				if err == nil {
					_, err = w.WriteAt(make([]byte, 1<<20), 5<<20)
				}
				if err := errors.Join(err, w.Close(), os.WriteFile(witnesses[0], []byte("another start"), 0o600)); err != nil {
					t.Fatal(err)
				}
			}
			holm.Misbehave()
			b = testbed.Start(t, holm.at(), testbed.In(data, database))
			b.Ended("large.bin", 0)
			if got := b.Read("laboratory/large/large.bin"); got != string(content) {
				t.Errorf("%d bytes came, not %d, or others", len(got), len(content))
			}
			if sent := holm.Bytes() - before; started != (sent >= int64(len(content))) || !started && sent > int64(len(content))-30<<20 {
				t.Errorf("%d MiB were sent again", sent>>20)
			}
			testbed.Until(t, "nothing is left of it", func() bool {
				left, err := filepath.Glob(b.Path("archive/fetched/*/.ydrion*/*"))
				return err == nil && len(left) == 0
			})
		})
	}
}

// TestLeftBehind: what was fetched for a route, or is being taken on a server, is told of when the route fetches no more.
func TestLeftBehind(t *testing.T) {
	t.Parallel()
	holm := sftpPartner(t, t.TempDir(), "127.0.0.1:0")
	b := testbed.Start(t, holm.at())
	holm.drop(t, "out/a.csv", heading+row(1))
	b.Publish(fromHolm(t, ""))
	b.Ended("a.csv", 0)
	// One is renamed there when the server goes away.
	holm.Misbehave(standin.Fault{On: standin.Read, Do: standin.Cut, From: 1})
	holm.drop(t, "out/b.csv", heading+row(2))
	testbed.Until(t, "it is renamed there", func() bool { return len(holm.hidden(t)) == 1 })
	holdings, err := os.ReadDir(b.Path("archive/fetched"))
	if err != nil || len(holdings) != 1 {
		t.Fatal(holdings, err)
	}
	if _, err := b.Client.SetRunning(context.Background(), "specimen-orders", false); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(b.Path("archive/fetched", holdings[0].Name(), "c.csv"), []byte(heading+row(3)), 0o644); err != nil {
		t.Fatal(err)
	}
	b.Publish(nil)
	testbed.Until(t, "it is told", func() bool {
		page, err := b.Client.Alerts(context.Background(), url.Values{})
		return err == nil && slices.ContainsFunc(page.Items, func(a wire.Alert) bool {
			return strings.Contains(a.Message, "1 that were fetched before wait in") && strings.Contains(a.Message, "1 are renamed on holm to be taken (/out/b.csv is one)")
		})
	})
	// It fetches once more.
	holm.Misbehave()
	b.Publish(fromHolm(t, ""))
	b.Ended("b.csv", 0)
	b.Ended("c.csv", 0)
	// It is not removed while others wait for it, which nobody would see then.
	if _, err := b.Client.SetRunning(context.Background(), "specimen-orders", false); err != nil {
		t.Fatal(err)
	}
	waits := b.Path("archive/fetched", holdings[0].Name(), "d.csv")
	if err := os.WriteFile(waits, []byte(heading+row(4)), 0o644); err != nil {
		t.Fatal(err)
	}
	if code, said := command(b, "remove", "specimen-orders"); code != 1 || !strings.Contains(said, "specimen-orders: still has to take 1 file that it has fetched or received; start it so that it does") {
		t.Errorf("%d: %s", code, said)
	}
	if code, said := command(b, "remove", "specimen-orders", "--yes"); code == 0 || !strings.Contains(said, "files that were fetched or received for specimen-orders wait to be taken: 1 in "+filepath.Dir(waits)) {
		t.Errorf("%d: %s", code, said)
	}
	if err := os.Remove(waits); err != nil {
		t.Fatal(err)
	}
	if code, said := command(b, "remove", "specimen-orders", "--yes"); code != 0 {
		t.Errorf("%d: %s", code, said)
	}
}

// TestLargeFetch: a large file whose connection breaks off while it is fetched is gone on with where it was, and comes whole. One that has
// become another meanwhile is fetched anew.
func TestLargeFetch(t *testing.T) {
	t.Parallel()
	for _, test := range []struct{ kind, originals string }{{"sftp", "taken"}, {"sftp", "left"}, {"ftp", "taken"}, {"webdav", "taken"}, {"s3", "left"}, {"sftp", "another"}} {
		t.Run(test.kind+" "+test.originals, func(t *testing.T) {
			t.Parallel()
			holm := partnerOf(t, test.kind)
			b := testbed.Start(t, holm.at())
			originals := strings.Replace(test.originals, "another", "left", 1)
			content := make([]byte, 30<<20)
			dice := rand.NewChaCha8([32]byte{8})
			dice.Read(content) //nolint: it always can
			holm.drop(t, "out/large.bin", string(content))
			if at := time.Date(2026, 11, 30, 6, 30, 15, 0, time.UTC); holm.objects == nil { // of a whole minute it would be fetched anew
				if err := os.Chtimes(filepath.Join(holm.folder, "out/large.bin"), at, at); err != nil {
					t.Fatal(err)
				}
			}
			holm.CutBytes(20 << 20)
			b.Publish(map[string]string{"routes/here.yaml": "route: here\nlisten: {place: holm/out, rhythm: 200ms, quiet: 300ms, originals: " + originals + "}\nread: {format: file}\ndeliver: {folder: \"{laboratory}/large\", name: \"{file.name}\"}\nrejected: {folder: \"{stations}/rejected\"}\n"})
			testbed.Until(t, "it breaks off", func() bool { return holm.Bytes() >= 20<<20 })
			if test.originals == "another" {
				copy(content, "what came first is another thing by now")
				holm.drop(t, "out/large.bin", string(content))
			}
			b.Ended("large.bin", 0)
			if got := b.Read("laboratory/large/large.bin"); got != string(content) {
				t.Errorf("%d bytes came, not %d, or others", len(got), len(content))
			}
			if sent := holm.Bytes(); test.originals != "another" && sent > int64(len(content))+4<<20 {
				t.Errorf("%d MiB came in all, of %d", sent>>20, len(content)>>20)
			}
		})
	}
}
