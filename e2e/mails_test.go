package e2e

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"math"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"ydrion/files"
	"ydrion/standin"
	"ydrion/testbed"
	"ydrion/wire"
	"ydrion/workspace"
)

// mailboxes are a stand-in of a mail server, as the place holm.
func mailboxes(t *testing.T, moves bool) (*standin.IMAP, *partner) {
	t.Helper()
	certificate, pem, err := standin.NewCertificate()
	if err != nil {
		t.Fatal(err)
	}
	keys := t.TempDir()
	for name, content := range map[string][]byte{"pem": pem, "word": []byte("salt and ice\n")} {
		if err := os.WriteFile(filepath.Join(keys, name), content, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	s, err := standin.NewIMAP("127.0.0.1:0", certificate, standin.Login{User: "sheets", Password: "salt and ice"}, moves)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	return s, &partner{Manners: s.Manners, close: s.Close, place: workspace.Place{Name: "holm", Kind: "imap", Address: &url.URL{Scheme: "imap", Host: s.Address()}, TLS: "explicit", User: "sheets",
		Password: workspace.Secret{File: filepath.Join(keys, "word")}, Authorities: filepath.Join(keys, "pem"), Connections: 2, Patience: 5 * time.Second}}
}

// posted is a mail with files.
func posted(from, subject string, attached ...string) []byte {
	var m strings.Builder
	fmt.Fprintf(&m, "From: <%s>\r\nTo: sheets@skerry.example\r\nSubject: %s\r\nMessage-ID: <%s-%s>\r\nDate: Sun, 29 Nov 2026 07:12:00 +0100\r\nContent-Type: multipart/mixed; boundary=o\r\n\r\n--o\r\nContent-Type: text/plain; charset=iso-8859-1\r\n\r\nGr\xFC\xDFe\r\n", from, subject, strings.ReplaceAll(subject, " ", "-"), from)
	for i := 0; i < len(attached); i += 2 {
		fmt.Fprintf(&m, "--o\r\nContent-Type: application/octet-stream; name=%q\r\nContent-Disposition: attachment\r\nContent-Transfer-Encoding: base64\r\n\r\n%s\r\n", attached[i], base64.StdEncoding.EncodeToString([]byte(attached[i+1])))
	}
	return []byte(m.String() + "--o--\r\n")
}

func (p *partner) mail(t *testing.T, s *standin.IMAP, text []byte) {
	t.Helper()
	if err := s.Mail("INBOX", text, time.Now()); err != nil {
		t.Fatal(err)
	}
}

// fromMails is the demo's route for orders, with sheets that are mailed.
func fromMails(t *testing.T, listen string) map[string]string {
	t.Helper()
	out := fromHolm(t, "")
	for name, r := range out {
		r = strings.Replace(r, "{place: holm/out, names: \"*.csv\", rhythm: 200ms, quiet: 300ms}", "{place: holm/INBOX, names: \"*.csv\", rhythm: 200ms, "+listen+"}", 1)
		out[name] = strings.Replace(r, "{file.folder}{file.stem}.hl7", "{mail.from}/{mail.subject}/{file.stem}.hl7", 1)
	}
	return out
}

func holds(t *testing.T, s *standin.IMAP, mailbox string) string {
	t.Helper()
	all, unread, err := s.Holds(mailbox)
	if err != nil {
		return "none"
	}
	return fmt.Sprintf("%d, %d new", all, unread)
}

// TestMails: what is attached to mails is taken, with what the mail says of itself to hand; the mail is moved when that is safe, and not before. Others stay,
// and it is said why.
func TestMails(t *testing.T) {
	t.Parallel()
	s, holm := mailboxes(t, true)
	b := testbed.Start(t, holm.at())
	holm.mail(t, s, posted("maren@ansel.example", "Day 1", "sheet.csv", heading+row(1), "plan.pdf", "%PDF", "sheet.csv", heading+row(2)+row(3)))
	holm.mail(t, s, posted("maren@ansel.example", "Day 2", "SHEET.CSV", heading+row(4)))
	holm.mail(t, s, posted("maren@ansel.example", "Day 3", "winmail.dat", "x\x9F\x3E\x22"))
	holm.mail(t, s, posted("maren@ansel.example", "Day 4"))
	holm.mail(t, s, posted("somebody@elsewhere.example", "Win a boat", "sheet.csv", heading+row(9)))
	broken := posted("maren@ansel.example", "Day 5", "sheet.csv", heading+row(5))
	holm.mail(t, s, broken[:len(broken)-7])
	b.Publish(fromMails(t, "taken to: /Taken, mails: {from: \"*@ANSEL.example\", subject: \"day *\"}"))
	holm.mail(t, s, posted("kai@ansel.example", "Day 6", "sheet.csv", heading+row(6)))
	b.Ended("sheet-2.csv", 0)
	testbed.Until(t, "both have ended", func() bool {
		return len(b.List("laboratory/orders/kai@ansel.example/Day 6")) == 1 && len(b.List("laboratory/orders/maren@ansel.example/Day 1")) == 2
	})
	testbed.Until(t, "they are moved", func() bool { return holds(t, s, "INBOX") == "5, 5 new" && holds(t, s, "Taken") == "2, 2 new" })
	for folder, want := range map[string]string{"maren@ansel.example/Day 1": "[1 2]", "kai@ansel.example/Day 6": "[1]"} { // which of them all is called sheet-2 is chance
		var orders []int
		for _, file := range b.List("laboratory/orders/" + folder) {
			orders = append(orders, strings.Count(b.Read("laboratory/orders", folder, file), "MSH|"))
		}
		if slices.Sort(orders); fmt.Sprint(orders) != want {
			t.Errorf("%s: %d orders in its files, not %s", folder, orders, want)
		}
	}
	why := map[string]string{}
	testbed.Until(t, "it is said why the others wait", func() bool {
		sheet, err := b.Client.Route(context.Background(), "specimen-orders")
		if err != nil {
			t.Fatal(err)
		}
		why = map[string]string{}
		for _, w := range sheet.WaitingFiles {
			why[w.Name] = w.Reason
		}
		return len(why) == 4 && why["Day 4"] != "it is about to be fetched" && why["Day 5"] != "it is about to be fetched"
	})
	for name, says := range map[string]string{"Day 2": "is meant (listen.names): SHEET.CSV", "Day 3": "TNEF", "Day 4": "nothing is attached", "Day 5": "ends before its last part"} {
		if !strings.Contains(why[name], says) {
			t.Errorf("%s: %s", name, why[name])
		}
	}
	page, err := b.Client.Pickups(context.Background(), url.Values{"name": {"sheet-2.csv"}})
	if err != nil || len(page.Items) != 1 || page.Items[0].Mail == nil || page.Items[0].Mail.From != "maren@ansel.example" || page.Items[0].Mail.Subject != "Day 1" || page.Items[0].Path != "{holm}/INBOX/sheet-2.csv" {
		t.Errorf("%+v %v", page, err)
	}
	// The route is told to take the other names, too.
	wider := fromMails(t, "taken to: /Taken, mails: {from: \"*@ansel.example\"}")
	for name, r := range wider {
		wider[name] = strings.Replace(r, "names: \"*.csv\"", "expression: \"(?i)[.]csv$\"", 1)
	}
	b.Publish(wider)
	testbed.Until(t, "what was not meant before is taken", func() bool { return len(b.List("laboratory/orders/maren@ansel.example/Day 2")) == 1 })
	// What has no name is called after its type.
	holm.mail(t, s, []byte("From: maren@ansel.example\r\nSubject: Day 7\r\nContent-Type: text/csv; charset=utf-8\r\nContent-Disposition: attachment\r\n\r\n"+strings.ReplaceAll(heading+row(7), "\n", "\r\n")))
	if p := b.Ended("attachment.csv", 0); p.Good != 1 {
		t.Errorf("%+v", p)
	}
}

// TestMailsLeft: mails that stay are marked as read when they were taken, and are never taken twice, even if their mailbox gives them new numbers.
func TestMailsLeft(t *testing.T) {
	t.Parallel()
	s, holm := mailboxes(t, false)
	b := testbed.Start(t, holm.at())
	for n := range 5 {
		holm.mail(t, s, posted("maren@ansel.example", fmt.Sprintf("Day %d", n), "sheet.csv", heading+row(n)))
	}
	b.Publish(fromMails(t, "originals: left"))
	all := func() (n int) {
		page, err := b.Client.Pickups(context.Background(), url.Values{"limit": {"100"}})
		if err != nil {
			t.Fatal(err)
		}
		for _, p := range page.Items {
			if p.EndedAt != nil {
				n++
			}
		}
		return n
	}
	testbed.Until(t, "they are taken", func() bool { return all() == 5 && holds(t, s, "INBOX") == "5, 0 new" })
	if err := s.Forget("INBOX"); err != nil {
		t.Fatal(err)
	}
	holm.mail(t, s, posted("maren@ansel.example", "Day 5", "sheet.csv", heading+row(5)))
	testbed.Until(t, "the new one is taken", func() bool { return all() == 6 && holds(t, s, "INBOX") == "6, 0 new" })
	if n := len(b.List("laboratory/orders/maren@ansel.example")); n != 6 || all() != 6 {
		t.Errorf("%d days, %d pickups", n, all())
	}
}

// TestMailTexts: the text of a mail is a file, in UTF-8, and so is the mail as it came.
func TestMailTexts(t *testing.T) {
	t.Parallel()
	s, holm := mailboxes(t, true)
	b := testbed.Start(t, holm.at())
	text := posted("maren@ansel.example", "Day 1", "sheet.csv", "x")
	holm.mail(t, s, text)
	if err := errors.Join(s.Make("Other"), s.Mail("Other", text, time.Now())); err != nil {
		t.Fatal(err)
	}
	route := func(take, mailbox string) string {
		return "route: " + take + "\nlisten: {place: holm/" + mailbox + ", rhythm: 200ms, originals: left, mails: {take: " + take + "}}\nread: {format: file}\ndeliver: {folder: \"{laboratory}/" + take + "\", name: \"{mail.id}.txt\"}\nrejected: {folder: \"{stations}/rejected\"}\n"
	}
	b.Publish(map[string]string{"routes/text.yaml": route("text", "INBOX"), "routes/whole.yaml": route("whole", "Other")})
	for take, want := range map[string]string{"text": "Grüße", "whole": string(text)} {
		testbed.Until(t, take+" has come", func() bool { return len(b.List("laboratory/"+take)) == 1 })
		if got := b.Read("laboratory/" + take + "/Day-1-maren@ansel.example.txt"); got != want {
			t.Errorf("%s came as %q", take, got)
		}
	}
}

// mailOracle asks whether a mail with two sheets was taken exactly once.
func mailOracle(t *testing.T, b *testbed.Bed, s *standin.IMAP, day string, mails int) {
	t.Helper()
	testbed.Until(t, day+" has ended", func() bool {
		page, err := b.Client.Pickups(context.Background(), url.Values{"limit": {"500"}})
		if err != nil {
			t.Fatal(err)
		}
		items := slices.DeleteFunc(page.Items, func(p wire.Pickup) bool { return p.State == "withdrawn" || p.Mail == nil || p.Mail.Subject != day })
		if len(items) > 2 {
			t.Fatalf("taken more than once: %+v", items)
		}
		return len(items) == 2 && items[0].EndedAt != nil && items[1].EndedAt != nil
	})
	folder := "laboratory/orders/maren@ansel.example/" + day
	if got := b.List(folder); strings.Join(got, " ") != "a.hl7 b.hl7" || strings.Count(b.Read(folder, "a.hl7"), "MSH|") != 1 || strings.Count(b.Read(folder, "b.hl7"), "MSH|") != 2 {
		t.Errorf("%s: %v", day, got)
	}
	testbed.Until(t, "it is moved", func() bool {
		there, _, err := s.Holds("INBOX")
		taken, _, no := s.Holds("Taken")
		return err == nil && no == nil && there == 0 && taken >= mails
	})
	testbed.Until(t, "nothing is left", func() bool {
		var left []string
		if err := filepath.WalkDir(b.Path("archive/fetched"), func(path string, d os.DirEntry, err error) error {
			if err == nil && !d.IsDir() && !strings.HasPrefix(d.Name(), "about-") {
				left = append(left, path)
			}
			return err
		}); err != nil && !os.IsNotExist(err) {
			t.Fatal(err)
		}
		return len(left) == 0
	})
}

// TestCutFromMails breaks the connection off at each thing that is asked of a mail server, before it is done and after.
func TestCutFromMails(t *testing.T) {
	t.Parallel()
	s, holm := mailboxes(t, time.Now().UnixNano()%2 == 0 || testing.Short())
	b := testbed.Start(t, holm.at())
	b.Publish(fromMails(t, "taken to: /Taken"))
	step, n := int64(4), 0
	if soak {
		step = 1
	}
	for k := 1 + time.Now().UnixNano()%step; k < 16; k += step {
		for _, after := range []bool{false, true} {
			day := fmt.Sprintf("Day %d %v", k, after)
			holm.CutAt(k, after)
			holm.mail(t, s, posted("maren@ansel.example", day, "a.csv", heading+row(1), "b.csv", heading+row(2)+row(3)))
			n++
			mailOracle(t, b, s, day, n)
		}
	}
}

// TestCrashOverMails crashes a service that takes mails at calls of its file system, and lets another go on.
func TestCrashOverMails(t *testing.T) {
	t.Parallel()
	step := int64(30)
	if soak {
		step = 1
	}
	for k := 1 + time.Now().UnixNano()%step; k < 90; k += step {
		t.Run(fmt.Sprintf("call %d", k), func(t *testing.T) {
			s, holm := mailboxes(t, true)
			data, database := t.TempDir(), testbed.Database(t)
			var first, last atomic.Int64
			first.Store(math.MaxInt64)
			last.Store(math.MaxInt64)
			broken := &files.Faulty{FS: files.Real{}, Fail: nil}
			broken.Fail = func(call int64, _, _ string) error {
				if call > last.Load() {
					return errCrash
				}
				return nil
			}
			b := testbed.Start(t, testbed.On(broken), testbed.In(data, database), holm.at())
			b.Publish(fromMails(t, "taken to: /Taken"))
			first.Store(broken.Calls.Load() + k)
			last.Store(first.Load() - 1)
			holm.mail(t, s, posted("maren@ansel.example", "Day 1", "a.csv", heading+row(1), "b.csv", heading+row(2)+row(3)))
			testbed.Until(t, "it crashes or ends", func() bool {
				if broken.Calls.Load() >= first.Load() {
					return true
				}
				page, err := b.Client.Pickups(context.Background(), url.Values{})
				return err == nil && len(page.Items) == 2 && page.Items[0].EndedAt != nil && page.Items[1].EndedAt != nil
			})
			time.Sleep(50 * time.Millisecond) // what it still does then
			if err := b.End(); err != nil {
				t.Log(err)
			}
			mailOracle(t, testbed.Start(t, testbed.In(data, database), holm.at()), s, "Day 1", 1)
		})
	}
}
