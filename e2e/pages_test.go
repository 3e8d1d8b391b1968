package e2e

import (
	"context"
	"fmt"
	"maps"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"ydrion/service"
	"ydrion/testbed"
	"ydrion/workspace"
)

// desk is a partner's server that things are got from.
type desk struct {
	*httptest.Server
	mu      sync.Mutex
	pages   []string
	sent    int // pages that were sent whole
	asked   int
	cut     bool // the next answer breaks off
	further string
}

func newDesk(t *testing.T) *desk {
	d := &desk{}
	d.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		d.mu.Lock()
		defer d.mu.Unlock()
		d.asked++
		n := 0
		fmt.Sscan(r.URL.Query().Get("page"), &n) //nolint: the first has none
		if r.URL.Path != "/api/orders" || r.URL.Query().Get("state") != "open" || n >= len(d.pages) || r.Header.Get("Authorization") != "Bearer salt" {
			http.Error(w, "not here", http.StatusTeapot)
			return
		}
		if n+1 < len(d.pages) {
			w.Header().Set("Link", fmt.Sprintf(`</api/orders?state=open>; rel="first", <%s?state=open&page=%d>; title="a, b"; rel="last next"`, d.further, n+1))
		}
		tag := fmt.Sprintf("%q", fmt.Sprint(n, len(d.pages[n]), strings.Count(d.pages[n], "7")))
		w.Header().Set("ETag", tag)
		if r.Header.Get("If-None-Match") == tag {
			w.WriteHeader(http.StatusNotModified)
			return
		}
		w.Header().Set("Content-Type", "text/csv; charset=utf-8")
		w.Header().Set("Content-Length", fmt.Sprint(len(d.pages[n])))
		if d.cut {
			d.cut = false
			w.Write([]byte(d.pages[n][:len(d.pages[n])/2])) //nolint: that is what it is for
			panic(http.ErrAbortHandler)
		}
		d.sent++
		w.Write([]byte(d.pages[n])) //nolint: whoever asked has gone
	}))
	t.Cleanup(d.Close)
	return d
}

// set sets what is answered, and says how much has been sent so far.
func (d *desk) set(pages ...string) (sent int) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.pages = pages
	return d.sent
}

func (d *desk) at(word string) testbed.Option {
	return testbed.With(func(c *service.Config) {
		e := *c.Environment
		e.Places = maps.Clone(e.Places)
		u, _ := url.Parse(d.URL + "/api?state=open") //nolint: it is made by a package
		e.Places["holm"] = workspace.Place{Name: "holm", Kind: "http", Method: "POST", Address: u, Token: workspace.Secret{File: word}, Connections: 2, Patience: 5 * time.Second}
		c.Environment = &e
	})
}

// TestGot: what an address answers is taken when it has changed, page by page, whole or not at all, and never twice.
func TestGot(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	d.further = "/api/orders"
	word := filepath.Join(t.TempDir(), "word")
	salt(t, word)
	data, database := t.TempDir(), testbed.Database(t)
	b := testbed.Start(t, testbed.In(data, database), d.at(word))
	route := fromHolm(t, "")
	for name, r := range route {
		r = strings.Replace(r, "{place: holm/out, names: \"*.csv\", rhythm: 200ms, quiet: 300ms}", "{place: holm/orders, names: \"*.csv\", rhythm: 200ms, originals: left}", 1)
		route[name] = strings.Replace(r, "{file.folder}{file.stem}.hl7", "{file.stem}.hl7", 1)
	}
	pickups := func() (out []string) {
		page, err := b.Client.Pickups(context.Background(), url.Values{"limit": {"100"}})
		if err != nil {
			t.Fatal(err)
		}
		for _, p := range page.Items {
			if p.EndedAt != nil {
				out = append(out, fmt.Sprintf("%s %d", p.Name, p.Good))
			}
		}
		return out
	}
	have := func(n int) func() bool { return func() bool { return len(pickups()) == n } }
	d.set(heading+row(1), heading+row(2)+row(3))
	d.mu.Lock()
	d.cut = true
	d.mu.Unlock()
	b.Publish(route)
	testbed.Until(t, "both pages are taken", have(2))
	if got := fmt.Sprint(pickups()); got != "[orders-2.csv 2 orders.csv 1]" && got != "[orders.csv 1 orders-2.csv 2]" {
		t.Errorf("%s", got)
	}
	// Nothing changes: nothing is sent, nothing taken.
	sent, asked := d.set(d.pages...), d.asked
	testbed.Until(t, "it is asked again", func() bool { d.mu.Lock(); defer d.mu.Unlock(); return d.asked > asked+4 })
	if n := d.set(d.pages...); n != sent {
		t.Errorf("%d pages were sent again", n-sent)
	}
	// The second page changes, and there is a third.
	d.set(d.pages[0], heading+row(2)+row(7)+row(4), heading+row(5))
	testbed.Until(t, "what has changed is taken", have(4))
	if got := strings.Count(b.Read("laboratory/orders/orders-2-2.hl7"), "MSH|"); got != 3 {
		t.Errorf("%d orders", got)
	}
	// Another service on the same data knows what was taken.
	if err := b.End(); err != nil {
		t.Fatal(err)
	}
	b = testbed.Start(t, testbed.In(data, database), d.at(word))
	sent = d.set(d.pages...)
	testbed.Until(t, "it has asked", func() bool { return d.set(d.pages...) >= sent+3 })
	d.set(d.pages[0], d.pages[1], heading+row(77))
	testbed.Until(t, "the third is taken again", have(5))
	// What proves who we are is shown to no other server.
	d.mu.Lock()
	d.further = "http://elsewhere.example/api/orders"
	d.pages[0] += row(8)
	d.mu.Unlock()
	testbed.Until(t, "it is said", func() bool {
		sheet, err := b.Client.Route(context.Background(), "specimen-orders")
		return err == nil && strings.Contains(sheet.Problem, "its next page is on another server, elsewhere.example")
	})
	if got := len(pickups()); got != 5 {
		t.Errorf("%d pickups", got)
	}
}

// salt makes a file with a token.
func salt(t *testing.T, at string) {
	t.Helper()
	if err := os.WriteFile(at, []byte("salt\n"), 0o600); err != nil {
		t.Fatal(err)
	}
}

// TestTryingAnAddress: what an address answers is said, by asking it as the route would.
func TestTryingAnAddress(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	d.further = "/api/orders"
	d.set(heading+row(1), heading+row(2))
	word := filepath.Join(t.TempDir(), "word")
	salt(t, word)
	b := testbed.Start(t, d.at(word))
	if code, said := command(b, "places", "try", "holm", "--folder", "/orders"); code != 0 || !strings.Contains(said, "orders.csv (163 bytes), orders-2.csv (163 bytes)") {
		t.Errorf("%d %s", code, said)
	}
	if code, said := command(b, "places", "try", "holm", "--folder", "/none"); code != 1 || !strings.Contains(said, "answers 418 I'm a teapot") {
		t.Errorf("%d %s", code, said)
	}
}
