package e2e

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"ydrion/core/mail"
	"ydrion/service"
	"ydrion/standin"
	"ydrion/testbed"
	"ydrion/wire"
	"ydrion/workspace"
)

// takers are partners that take outputs one by one.
func takers(t *testing.T) (web *standin.HTTP, lab *standin.MLLP, post *standin.SMTP) {
	t.Helper()
	var errs [3]error
	web, errs[0] = standin.NewHTTP("127.0.0.1:0", nil, "")
	lab, errs[1] = standin.NewMLLP("127.0.0.1:0")
	post, errs[2] = standin.NewSMTP("127.0.0.1:0", nil, standin.Login{})
	if err := errors.Join(errs[:]...); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(web.Close)
	t.Cleanup(lab.Close)
	t.Cleanup(post.Close)
	return web, lab, post
}

// withPlaces lets a service know these places, too.
func withPlaces(places ...workspace.Place) testbed.Option {
	return testbed.With(func(c *service.Config) {
		e := *c.Environment
		e.Places = maps.Clone(e.Places)
		for _, p := range places {
			p.Patience = 5 * time.Second
			e.Places[p.Name] = p
		}
		c.Environment = &e
	})
}

// webPlace is a place that outputs are sent to by a method of HTTP.
func webPlace(name, method, host string, connections int) workspace.Place {
	return workspace.Place{Name: name, Kind: "http", Method: method, Address: &url.URL{Scheme: "http", Host: host}, Connections: connections}
}

// TestSaid: what goes with outputs is made of their content: a mail's addresses, subject and texts, and headers.
func TestSaid(t *testing.T) {
	t.Parallel()
	web, _, post := takers(t)
	b := testbed.Start(t, withPlaces(webPlace("desk", "POST", web.Address(), 1),
		workspace.Place{Name: "post", Kind: "smtp", TLS: "none", From: "ydrion@skerry.example", Address: &url.URL{Scheme: "smtp", Host: post.Address()}, Connections: 1}))
	b.Publish(delivering(t, `deliver:
  name: "{specimen_id}.hl7"
  one file per: record
  to:
    - place: desk
      headers: {X-Specimen: "{specimen_id}", X-File: "{file.name}"}
    - place: post
      mail:
        to: ["{specimen_id | lower}@lab.example", lab@skerry.example]
        cc: "{note}@seals.example"
        subject: "Specimen {specimen_id}: Grüße"
        text: "{note} <{specimen_id}>"
        html: "<p>{note}</p>"
        attach: false
`))
	b.Drop("stations/inbox", "a.csv", heading+row(1)+strings.Replace(row(2), "calm", "a&b", 1)+strings.Replace(row(3), "calm", "Flipper the first", 1))
	a := b.Ended("a.csv", 0)
	if a.Good != 2 || a.Rejected != 1 || a.State != "delivered" {
		t.Errorf("%+v", a)
	}
	posted, mailed := web.Taken(), post.Taken()
	if len(posted) != 2 || len(mailed) != 2 {
		t.Fatalf("%d were posted, %d mailed", len(posted), len(mailed))
	}
	if h := posted[1].Header; h.Get("X-Specimen") != "AP-000002" || h.Get("X-File") != "a.csv" {
		t.Errorf("%v", h)
	}
	slices.SortFunc(mailed, func(a, b standin.Message) int { return strings.Compare(a.To[0], b.To[0]) })
	if to := fmt.Sprint(mailed[0].To); to != "[ap-000001@lab.example lab@skerry.example calm@seals.example]" {
		t.Errorf("mailed to %s", to)
	}
	var texts []string
	head, err := mail.Read(bytes.NewReader(mailed[1].Content), func(string) bool { return true }, func(p mail.Part) error {
		text, err := io.ReadAll(p.Content)
		texts = append(texts, p.Type+" "+p.Name+" "+string(text))
		return err
	})
	if err != nil || head.Subject != "Specimen AP-000002: Grüße" || head.To != "ap-000002@lab.example, lab@skerry.example, a&b@seals.example" {
		t.Errorf("%+v %v", head, err)
	}
	if got := fmt.Sprintf("%q", texts); got != `["text/plain  a&b <AP-000002>" "text/html  <p>a&amp;b</p>"]` {
		t.Errorf("%s", got)
	}
	// What cannot be addressed is rejected, with its reason.
	if _, said := command(b, "rejects", "1"); !strings.Contains(said, "cc: \"Flipper the first@seals.example\" is not a list of mail addresses") {
		t.Error(said)
	}
	// What a sender writes is mailed to nobody else.
	b.Drop("stations/inbox", "b.csv", heading+strings.Replace(row(4), "calm", `"somebody@elsewhere.example,x"`, 1)+strings.Replace(row(5), "calm", `x@elsewhere.example`, 1))
	if b := b.Ended("b.csv", 0); b.Good != 0 || b.Rejected != 2 || len(post.Taken()) != 2 {
		t.Errorf("%+v, %d mails", b, len(post.Taken()))
	}
	if _, said := command(b, "pickup", "1"); !strings.Contains(said, "to ap-000001@lab.example") || !strings.Contains(said, "header x-specimen AP-000002") {
		t.Error(said)
	}
}

// TestSentOneByOne: orders are posted, mailed, and sent by MLLP; what each receiver answers is kept, and what it refuses,
// or does not answer, is as its protocol lets one say.
func TestSentOneByOne(t *testing.T) {
	t.Parallel()
	web, lab, post := takers(t)
	place := func(kind, address string) workspace.Place {
		return workspace.Place{Name: kind, Kind: kind, Address: &url.URL{Scheme: kind, Host: address}, Connections: 1, Patience: 5 * time.Second}
	}
	b := testbed.Start(t, testbed.With(func(c *service.Config) {
		e := *c.Environment
		e.Places = maps.Clone(e.Places)
		w, l, p := place("http", web.Address()), place("mllp", lab.Address()), place("smtp", post.Address())
		w.Method, l.Repeats, p.TLS, p.From, p.To = "POST", true, "none", "ydrion@skerry.example", []string{"lab@skerry.example"}
		e.Places["desk"], e.Places["lab"], e.Places["post"] = w, l, p
		c.Environment = &e
	}))
	b.Publish(delivering(t, `deliver:
  name: "{specimen_id}.hl7"
  one file per: record
  to:
    - place: desk/orders
    - place: lab
    - place: post
`))
	arrived := func() string {
		return fmt.Sprint(len(web.Taken()), len(lab.Taken()), len(post.Taken()))
	}
	b.Drop("stations/inbox", "a.csv", heading+row(1)+row(2))
	a := b.Ended("a.csv", 0)
	if got := arrived(); a.State != "delivered" || got != "2 2 2" {
		t.Errorf("%+v, came %s", a, got)
	}
	if w, l := web.Taken()[0], lab.Taken()[0]; w.Path != "POST /orders" || w.Key == "" || w.Key == web.Taken()[1].Key || string(w.Content) != string(l.Content) || !strings.HasPrefix(string(l.Content), "MSH|") {
		t.Errorf("posted %+v, framed %+v", w, l)
	}
	if _, said := command(b, "pickup", "1"); !strings.Contains(said, "{lab}/AP-000001.hl7") || !strings.Contains(said, "it answers AA") || !strings.Contains(said, "it answers 201 Created") || !strings.Contains(said, "it was taken, with the message id") {
		t.Error(said)
	}
	// Refused for now by the laboratory, for good at the desk: each is by itself.
	lab.Answer(func(n int, _ *standin.Message) string { return map[bool]string{true: "AE busy"}[n == 3] })
	web.Answer(func(n int, _ *standin.Message) string { return map[bool]string{true: "422 no such specimen"}[n == 3] })
	b.Drop("stations/inbox", "b.csv", heading+row(3)+row(4))
	var p wire.Pickup
	testbed.Until(t, "it waits for a person", func() bool {
		p = byName(t, b)["b.csv"]
		return p.State == "held" && strings.Contains(p.Reason, "422 Unprocessable Entity: no such specimen") && len(lab.Taken()) == 5
	})
	if n := lab.Taken(); n[2].Key != n[3].Key && n[2].Key != n[4].Key {
		t.Errorf("what was refused for now was not sent again: %s, %s, %s", n[2].Key, n[3].Key, n[4].Key)
	}
	if got := arrived(); got != "4 5 4" {
		t.Errorf("came %s", got)
	}
	if code, said := command(b, "decide", fmt.Sprint(p.ID), "try"); code != 0 {
		t.Fatal(said)
	}
	b.Ended("b.csv", 0)
	if got := arrived(); got != "5 5 4" {
		t.Errorf("came %s", got)
	}
	// The answers are lost. The laboratory knows a message that comes again; nobody can tell of a posted one, nor of a mail.
	for _, m := range []*standin.Manners{web.Manners, lab.Manners, post.Manners} {
		m.Misbehave(standin.Fault{On: standin.Write, Do: standin.CutAfter, From: 1, Times: 1})
	}
	b.Drop("stations/inbox", "c.csv", heading+row(5))
	testbed.Until(t, "a person is asked", func() bool { p = byName(t, b)["c.csv"]; return p.State == "uncertain" })
	if got := arrived(); got != "6 7 5" || lab.Taken()[5].Key != lab.Taken()[6].Key {
		t.Errorf("came %s", got)
	}
	detail, err := b.Client.Pickup(context.Background(), p.ID)
	if err != nil {
		t.Fatal(err)
	}
	states := map[string]string{}
	for _, d := range detail.Runs[0].Deliveries {
		states[d.Folder] = d.State
	}
	if fmt.Sprint(states) != "map[{desk}/orders:uncertain {lab}:published {post}:uncertain]" || !strings.Contains(p.Reason, "it was sent, and the answer was lost") {
		t.Errorf("%v: %s", states, p.Reason)
	}
	if code, said := command(b, "decide", fmt.Sprint(p.ID), "arrived"); code != 0 {
		t.Fatal(said)
	}
	b.Ended("c.csv", 0)
	if got := arrived(); got != "6 7 5" {
		t.Errorf("came %s", got)
	}
}
