// Package tell brings alerts to people who do not look at the console: to a
// webhook, as JSON, or to mail addresses, as plain text (RFC 5322, over SMTP).
package tell

import (
	"bytes"
	"cmp"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/wneessen/go-mail"

	"ydrion/remote"
	"ydrion/workspace"
)

// Note is what people are told.
type Note struct {
	ID          int64     `json:"id" doc:"the same note may come twice: it has the same number then"`
	At          time.Time `json:"at"`
	Kind        string    `json:"kind"`
	Route       string    `json:"route"`
	Pickup      int64     `json:"pickup"`
	Message     string    `json:"message"`
	Environment string    `json:"environment"`
}

// Wants tells whether a channel is for a note.
func Wants(c *workspace.Channel, kind, route string) bool {
	return matches(c.Kinds, kind) && (route == "" || matches(c.Routes, route))
}

func matches(patterns []string, s string) bool {
	if len(patterns) == 0 {
		return true
	}
	for _, p := range patterns {
		if ok := workspace.MatchName(p, s); ok {
			return true
		}
	}
	return false
}

// timeout is how long a webhook or a mail server may take.
const timeout = 20 * time.Second

// Mails tells whether a channel takes several notes together.
func Mails(c *workspace.Channel) bool { return c.Webhook == "" }

// Send brings notes to a channel: several only if it takes them together.
func Send(ctx context.Context, c *workspace.Channel, notes ...Note) error {
	ctx, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	if !Mails(c) {
		return post(ctx, c, notes[0])
	}
	return send(ctx, c, notes)
}

// post sends a note to a webhook. If the channel has a key, the body's HMAC-SHA-256
// (RFC 2104) goes with it in a header.
func post(ctx context.Context, c *workspace.Channel, n Note) error {
	body, err := json.Marshal(n)
	if err != nil {
		return err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, c.Webhook, bytes.NewReader(body))
	if err != nil {
		return err
	}
	r.Header.Set("Content-Type", "application/json")
	if c.Secret != "" {
		key := os.Getenv(c.Secret)
		if key == "" {
			return fmt.Errorf("the variable %s with the key of channel %s is not set", c.Secret, c.Name)
		}
		mac := hmac.New(sha256.New, []byte(key))
		mac.Write(body)
		r.Header.Set("Ydrion-Signature", "sha256="+hex.EncodeToString(mac.Sum(nil)))
	}
	// What is told, and its signature, goes to no address that nobody named.
	client := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	answer, err := client.Do(r)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	if _, err := io.Copy(io.Discard, io.LimitReader(answer.Body, 64<<10)); err != nil {
		return err
	}
	if to := answer.Header.Get("Location"); answer.StatusCode >= 300 && answer.StatusCode <= 399 && to != "" {
		return fmt.Errorf("%s redirects to %s; name the address that takes notes", c.Webhook, to)
	}
	if answer.StatusCode < 200 || answer.StatusCode > 299 {
		return fmt.Errorf("%s answers %s", c.Webhook, answer.Status)
	}
	return nil
}

// mailer makes a client of the mail server of a channel. The connection is encrypted as its place says or, without one, if the server
// offers it.
func mailer(ctx context.Context, c *workspace.Channel) (*mail.Client, error) {
	if c.Through != nil {
		client, err := remote.Mailer(ctx, c.Through)
		if err != nil {
			return nil, fmt.Errorf("%s %w", c.Through.Name, err)
		}
		return client, nil
	}
	host, port, err := net.SplitHostPort(c.Server)
	if err != nil {
		return nil, fmt.Errorf("the mail server %q: %w", c.Server, err)
	}
	number, err := strconv.Atoi(port)
	if err != nil {
		return nil, fmt.Errorf("the mail server %q: %w", c.Server, err)
	}
	return mail.NewClient(host, mail.WithPort(number), mail.WithTLSPortPolicy(mail.TLSOpportunistic), mail.WithPort(number), mail.WithTimeout(timeout))
}

// send mails notes.
func send(ctx context.Context, c *workspace.Channel, notes []Note) error {
	client, err := mailer(ctx, c)
	if err != nil {
		return err
	}
	// One mail for each: a recipient that is refused takes nothing from the others.
	var mails []*mail.Msg
	for i, to := range c.To {
		m, err := letter(c, notes, i, to)
		if err != nil {
			return err
		}
		mails = append(mails, m)
	}
	err = client.DialAndSendWithContext(ctx, mails...)
	var refused []string
	for i, m := range mails {
		if m.HasSendError() {
			refused = append(refused, fmt.Sprintf("%s: %v", c.To[i], m.SendError()))
		}
	}
	if err != nil && len(refused) > 0 && len(refused) < len(mails) {
		return &Partly{strings.Join(refused, "; ")}
	}
	return err
}

// Partly says that some have been told and others could not be.
type Partly struct{ Refused string }

func (p *Partly) Error() string { return "not everybody was told: " + p.Refused }

// letter writes notes to one recipient.
func letter(c *workspace.Channel, notes []Note, number int, to string) (*mail.Msg, error) {
	m := mail.NewMsg()
	if err := m.From(c.From); err != nil {
		return nil, err
	}
	if err := m.To(to); err != nil {
		return nil, err
	}
	numbers := strconv.FormatInt(notes[0].ID, 10)
	if last := notes[len(notes)-1].ID; len(notes) > 1 {
		numbers += fmt.Sprintf("-to-%d", last)
	}
	m.SetMessageIDWithValue(fmt.Sprintf("alert-%s-%s-%d@%s", numbers, c.Name, number, domain(c.From)))
	m.SetDate()
	subject, body := written(notes)
	m.Subject("[ydrion] " + subject)
	m.SetBodyString(mail.TypeTextPlain, body)
	return m, nil
}

// mostTold is how many notes of one kind about one route a mail has in words.
const mostTold = 20

// written are the subject and the text of a mail with notes: those of one kind about one route stand together, in the
// order in which the first of each came.
func written(notes []Note) (subject, body string) {
	type subjects struct{ kind, about string }
	var order []subjects
	of := map[subjects][]Note{}
	for _, n := range notes {
		s := subjects{n.Kind, cmp.Or(n.Route, n.Environment)}
		if of[s] == nil {
			order = append(order, s)
		}
		of[s] = append(of[s], n)
	}
	first := notes[0]
	subject = fmt.Sprintf("%s: %s", order[0].kind, order[0].about)
	if len(notes) == 1 {
		return subject, fmt.Sprintf("%s\n\n%s, %s, environment %s, alert %d\n", first.Message, first.Kind, first.At.Local().Format("2006-01-02 15:04:05 MST"), first.Environment, first.ID)
	}
	if len(order) == 1 {
		subject += fmt.Sprintf(" (%d alerts)", len(notes))
	} else {
		subject = fmt.Sprintf("%d alerts: %s", len(notes), first.Environment)
	}
	var b strings.Builder
	fmt.Fprintf(&b, "%d alerts since %s, environment %s.\n", len(notes), first.At.Local().Format("2006-01-02 15:04:05 MST"), first.Environment)
	for _, s := range order {
		told := of[s]
		fmt.Fprintf(&b, "\n%s, %s: %d\n", s.kind, s.about, len(told))
		for _, n := range told[:min(len(told), mostTold)] {
			fmt.Fprintf(&b, "  %s alert %d: %s\n", n.At.Local().Format("15:04:05"), n.ID, strings.ReplaceAll(n.Message, "\n", "\n    "))
		}
		if more := len(told) - mostTold; more > 0 {
			fmt.Fprintf(&b, "  and %d more, to alert %d\n", more, told[len(told)-1].ID)
		}
	}
	b.WriteString("\n`ydrion alerts --all` and the console show each of them.\n")
	return subject, b.String()
}

func domain(address string) string {
	_, domain, ok := strings.Cut(strings.TrimRight(address, ">"), "@")
	if !ok {
		return "localhost"
	}
	return domain
}
