package e2e

import (
	"maps"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"ydrion/service"
	"ydrion/standin"
	"ydrion/testbed"
	"ydrion/workspace"
)

// partner is a stand-in of a partner's server, with the folder that it serves.
type partner struct {
	*standin.Manners
	place  workspace.Place
	folder string
	close  func()
}

// sftpPartner starts a partner's server; folder and address may be those of before.
func sftpPartner(t *testing.T, folder, address string) *partner {
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
	return &partner{s.Manners, workspace.Place{Name: "holm", Kind: "sftp", Address: &url.URL{Scheme: "sftp", Host: s.Address()}, User: "ydrion", Password: workspace.Secret{File: word}, HostKeys: []string{s.HostKey}, Connections: 2, Patience: 5 * time.Second}, folder, s.Close}
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
    - place: holm/in/{file.stem}
      when: weight_kg < 100
`

// TestToServer: outputs go to a server and to a folder; what is away holds nobody else, and gets its own when it is back.
func TestToServer(t *testing.T) {
	t.Parallel()
	holm := sftpPartner(t, t.TempDir(), "127.0.0.1:0")
	b := testbed.Start(t, holm.at())
	b.Publish(delivering(t, strings.Replace(toHolm, "/{file.stem}", "", 1)))
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
