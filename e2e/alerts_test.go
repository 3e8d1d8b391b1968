package e2e

import (
	"bufio"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"ydrion/service"
	"ydrion/tell"
	"ydrion/testbed"
	"ydrion/workspace"
)

// mailbox is a stand-in for a mail server: enough of SMTP (RFC 5321) to take
// messages.
type mailbox struct {
	net.Listener
	mu       sync.Mutex
	messages []string
}

func newMailbox(t *testing.T) *mailbox {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	m := &mailbox{Listener: l}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go m.serve(conn)
		}
	}()
	return m
}

func (m *mailbox) serve(conn net.Conn) {
	defer conn.Close()
	in := bufio.NewReader(conn)
	say := func(line string) { fmt.Fprintf(conn, "%s\r\n", line) }
	say("220 stand-in")
	for {
		line, err := in.ReadString('\n')
		if err != nil {
			return
		}
		switch verb := strings.ToUpper(strings.Fields(line + " x")[0]); verb {
		case "EHLO", "HELO":
			say("250 stand-in")
		case "DATA":
			say("354 go on")
			var b strings.Builder
			for {
				line, err := in.ReadString('\n')
				if err != nil || line == ".\r\n" {
					break
				}
				b.WriteString(line)
			}
			m.mu.Lock()
			m.messages = append(m.messages, b.String())
			m.mu.Unlock()
			say("250 taken")
		case "QUIT":
			say("221 bye")
			return
		default:
			say("250 good")
		}
	}
}

func (m *mailbox) all() string {
	m.mu.Lock()
	defer m.mu.Unlock()
	return strings.Join(m.messages, "\n")
}

// TestAlertsGoOut: to a webhook, signed, again when it refuses; to a mail
// address; each channel gets what it wants.
func TestAlertsGoOut(t *testing.T) {
	t.Setenv("DESK_KEY", "secret")
	var mu sync.Mutex
	var notes []tell.Note
	refuse := 1
	hook := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, err := io.ReadAll(r.Body)
		if err != nil {
			t.Error(err)
		}
		mac := hmac.New(sha256.New, []byte("secret"))
		mac.Write(body)
		if want := "sha256=" + hex.EncodeToString(mac.Sum(nil)); r.Header.Get("Ydrion-Signature") != want {
			t.Errorf("signed %s, want %s", r.Header.Get("Ydrion-Signature"), want)
		}
		mu.Lock()
		defer mu.Unlock()
		if refuse > 0 {
			refuse--
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		var n tell.Note
		if err := json.Unmarshal(body, &n); err != nil {
			t.Error(err)
		}
		notes = append(notes, n)
	}))
	defer hook.Close()
	box := newMailbox(t)
	b := testbed.Start(t, testbed.With(func(c *service.Config) {
		e := *c.Environment
		e.Tell = []workspace.Channel{
			{Name: "desk", Webhook: hook.URL, Secret: "DESK_KEY", Kinds: []string{"rejected"}},
			{Name: "night", Server: box.Addr().String(), From: "ydrion@skerry.example", To: []string{"maren@skerry.example"}, Routes: []string{"specimen-*"}},
		}
		c.Environment = &e
	}))
	b.Publish(inOneFile(t))
	b.Drop("stations/inbox", "a.csv", "not a sheet\nat all\n")
	b.Drop("stations/weights", "weights-2026-11-24.csv", "nor this\n")
	testbed.Until(t, "both were told", func() bool {
		mu.Lock()
		defer mu.Unlock()
		return len(notes) == 2 && strings.Contains(box.all(), "a.csv")
	})
	for _, n := range notes {
		if n.Kind != "rejected" || n.Environment != "demo" || !strings.Contains(n.Message, "was rejected:") {
			t.Errorf("%+v", n)
		}
	}
	mail := box.all()
	for _, part := range []string{"To: <maren@skerry.example>", "From: <ydrion@skerry.example>", "Subject: [ydrion] rejected: specimen-orders", "a.csv (pickup "} {
		if !strings.Contains(mail, part) {
			t.Errorf("the mail does not say %q but\n%s", part, mail)
		}
	}
	if strings.Contains(mail, "weights") {
		t.Errorf("the mail is about a route that the channel does not want:\n%s", mail)
	}
	if code, said := command(b, "alerts", "--seen-all", "--by", "Maren"); code != 0 || !strings.Contains(said, "2 alerts marked as seen") {
		t.Errorf("exit code %d: %s", code, said)
	}
	if _, said := command(b, "alerts"); !strings.Contains(said, "there is nothing that nobody has seen") {
		t.Errorf("%s", said)
	}
	if _, said := command(b, "alerts", "--all"); !strings.Contains(said, "seen by Maren") {
		t.Errorf("%s", said)
	}
}

// TestAStormOfAlerts: what comes soon after a mail goes out together, and nothing of it twice.
func TestAStormOfAlerts(t *testing.T) {
	box := newMailbox(t)
	b := testbed.Start(t, testbed.With(func(c *service.Config) {
		e := *c.Environment
		e.Tell = []workspace.Channel{{Name: "night", Server: box.Addr().String(), From: "ydrion@skerry.example", To: []string{"maren@skerry.example"}}}
		c.Environment, c.Rest = &e, 2*time.Second
	}))
	b.Publish(inOneFile(t))
	b.Drop("stations/inbox", "first.csv", "not a sheet\nat all\n")
	testbed.Until(t, "the first was told", func() bool { return strings.Contains(box.all(), "first.csv") })
	for i := range 15 {
		b.Drop("stations/inbox", fmt.Sprintf("bad-%02d.csv", i), fmt.Sprintf("not a sheet\nat all %d\n", i))
	}
	testbed.Until(t, "all were told", func() bool {
		mail := box.all()
		for i := range 15 {
			if !strings.Contains(mail, fmt.Sprintf("bad-%02d.csv", i)) {
				return false
			}
		}
		return true
	})
	mail := box.all()
	for i := range 15 {
		if n := strings.Count(mail, fmt.Sprintf("bad-%02d.csv (pickup", i)); n != 1 {
			t.Errorf("bad-%02d.csv was told %d times:\n%s", i, n, mail)
		}
	}
	if n := strings.Count(mail, "Subject:"); n > 5 || !strings.Contains(mail, "Subject: [ydrion] rejected: specimen-orders (") {
		t.Errorf("%d mails:\n%s", n, mail)
	}
}

// expecting starts a service whose clock is five seconds before a full minute,
// which is the deadline of what is expected.
func expecting(t *testing.T, minute time.Time, more string) *testbed.Bed {
	t.Helper()
	// Until the service looks out for files its clock stands five seconds before the minute, however long
	// that takes here.
	began := time.Now()
	var out atomic.Int64
	b := testbed.Start(t, testbed.With(func(c *service.Config) {
		c.Clock = func() time.Time {
			if at := out.Load(); at != 0 {
				return minute.Add(time.Since(time.Unix(0, at)) - 5*time.Second)
			}
			return minute.Add(min(time.Since(began)-10*time.Second, -5*time.Second))
		}
	}))
	changes := inOneFile(t)
	changes["routes/specimen-orders.yaml"] += fmt.Sprintf(`expect:
  - name: Ansel Point
    files: "ansel-*"
    by: "%s"
    zone: UTC
%s`, minute.UTC().Format("15:04"), strings.ReplaceAll(more, "BY", minute.UTC().Format("15:04")))
	b.Publish(changes)
	time.Sleep(3 * time.Second) // it looks every two
	out.Store(time.Now().UnixNano())
	return b
}

// ahead is a deadline so far ahead that what comes during a test comes before it: files
// are noticed by the machine's clock.
func ahead(t *testing.T) time.Time {
	t.Helper()
	minute := time.Now().Truncate(time.Minute).Add(10 * time.Minute)
	if minute.UTC().Hour() == 0 && minute.UTC().Minute() < 11 {
		t.Skip("the day is about to change")
	}
	return minute
}

// TestExpectations: a file that has not come by its time is told once; what came
// is met; too many and too small ones are told.
func TestExpectations(t *testing.T) {
	t.Parallel()
	minute := ahead(t)
	b := expecting(t, minute, `  - name: Brunholm
    files: "brunholm-*"
    by: "BY"
    zone: UTC
    count: 1..1
    smallest: 1k
`)
	b.Drop("stations/inbox", "brunholm-1.csv", sheet(1))
	b.Drop("stations/inbox", "brunholm-2.csv", sheet(2))
	b.Ended("brunholm-2.csv", 0)
	code, said := command(b, "expected")
	if code != 0 || !strings.Contains(said, "waiting") || !strings.Contains(said, "1 or more files named ansel-* by") {
		t.Errorf("exit code %d: %s", code, said)
	}
	testbed.Until(t, "it is missed", func() bool {
		_, said := command(b, "alerts")
		return strings.Contains(said, "0 of 1 expected files named ansel-* had come to specimen-orders by") && strings.Contains(said, "surplus") && strings.Contains(said, "small")
	})
	// One deadline is judged after the other.
	testbed.Until(t, "both are judged", func() bool {
		_, said = command(b, "expected")
		return strings.Contains(said, "missing") && strings.Contains(said, "mismatch")
	})
	if strings.Contains(said, "met ") {
		t.Errorf("%s", said)
	}
	// The same is not told again, neither when the route is published anew nor after a
	// restart.
	var before, after int
	b.Ask(&before, `select count(*) from alerts where kind in ('small', 'surplus')`)
	changed := orders(t, "read:\n", "# another revision\nread:\n")
	b.Publish(changed)
	data, database := b.Data, b.Database
	if err := b.End(); err != nil {
		t.Fatal(err)
	}
	b = testbed.Start(t, testbed.In(data, database))
	time.Sleep(5 * time.Second) // arrivals are counted every two
	b.Ask(&after, `select count(*) from alerts where kind in ('small', 'surplus')`)
	if before != 3 || after != before {
		t.Errorf("%d alerts about small and surplus files before, %d afterwards", before, after)
	}
}

// TestComeButNotTaken: a file that waits in the inbox has come.
func TestComeButNotTaken(t *testing.T) {
	t.Parallel()
	b := expecting(t, ahead(t), "")
	if _, err := b.Client.Pause(t.Context(), "specimen-orders", time.Time{}); err != nil {
		t.Fatal(err)
	}
	b.Drop("stations/inbox", "ansel-1.csv", sheet(3))
	waits(b, "ansel-1.csv", "paused")
	testbed.Until(t, "the deadline has come", func() bool {
		_, said := command(b, "expected")
		return strings.Contains(said, "met") || strings.Contains(said, "missing")
	})
	if _, said := command(b, "expected"); strings.Contains(said, "missing") {
		t.Errorf("%s", said)
	}
}

// TestLate: what was missed and comes after all is late, and no longer missing.
func TestLate(t *testing.T) {
	t.Parallel()
	b := expecting(t, time.Now().Truncate(time.Minute), "")
	testbed.Until(t, "it is missed", func() bool {
		_, said := command(b, "alerts")
		return strings.Contains(said, "0 of 1 expected files")
	})
	b.Drop("stations/inbox", "ansel-1.csv", sheet(3))
	testbed.Until(t, "it came late", func() bool {
		_, said := command(b, "alerts", "--all")
		return strings.Contains(said, "it was expected by") && strings.Contains(said, "over ")
	})
	if _, said := command(b, "expected"); !strings.Contains(said, "late") {
		t.Errorf("%s", said)
	}
}
