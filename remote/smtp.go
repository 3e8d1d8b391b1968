package remote

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"path"
	"strconv"
	"strings"

	"github.com/wneessen/go-mail"

	"ydrion/workspace"
)

// smtpExchange is a place to which outputs are mailed (RFC 5321), each as the attachment of a mail.
type smtpExchange struct {
	place  *workspace.Place
	watch  *watch
	client *mail.Client
	used   bool // it has been worked with since it was made
	ctx    context.Context
	end    context.CancelFunc
}

var _ Exchange = (*smtpExchange)(nil)

// mostMail is how large an output may be that is mailed.
const mostMail = 32 << 20

func dialSMTP(ctx context.Context, p *workspace.Place) (Conn, error) {
	x := &smtpExchange{place: p, watch: newWatch(p.Patience)}
	x.ctx, x.end = context.WithCancel(context.Background())
	var err error
	if x.client, err = Mailer(ctx, p, mail.WithDialContextFunc(x.watch.dial)); err != nil {
		return nil, err
	}
	if err := x.dial(ctx); err != nil {
		x.Break()
		switch bad := distrusted(err); {
		case bad != nil:
			return nil, bad
		case strings.Contains(strings.ToLower(err.Error()), "auth"):
			return nil, fmt.Errorf("does not let %s in: %w", or(p.User, "us"), err)
		}
		return nil, fmt.Errorf("does not answer at %s: %w", p.Port(), plain(err))
	}
	return x, nil
}

// Mailer makes a client of the mail server of a place, which has not connected yet.
func Mailer(ctx context.Context, p *workspace.Place, more ...mail.Option) (*mail.Client, error) {
	host, port, _ := net.SplitHostPort(p.Port())
	number, err := strconv.Atoi(port)
	if err != nil {
		return nil, fmt.Errorf("cannot be reached: its port is %q", port)
	}
	trusted, err := trust(p)
	if err != nil {
		return nil, err
	}
	options := []mail.Option{mail.WithPort(number), mail.WithTimeout(p.Patience), mail.WithTLSConfig(trusted), mail.WithoutNoop()} // servers count what is no mail, and end connections with too much of it
	switch p.TLS {
	case "none":
		options = append(options, mail.WithTLSPolicy(mail.NoTLS))
	case "implicit":
		options = append(options, mail.WithSSL())
	default:
		options = append(options, mail.WithTLSPolicy(mail.TLSMandatory))
	}
	switch {
	case p.Tokened():
		token, err := (&tokens{place: p}).get(ctx)
		if err != nil {
			return nil, err
		}
		options = append(options, mail.WithSMTPAuthCustom(mailed{newBearer(p, token)}))
	case p.User != "":
		word, err := Secret(p.Password)
		if err != nil {
			return nil, err
		}
		options = append(options, mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover), mail.WithUsername(p.User), mail.WithPassword(word))
	}
	client, err := mail.NewClient(host, append(options, more...)...)
	if err != nil {
		return nil, fmt.Errorf("cannot be reached: %w", err)
	}
	return client, nil
}

func (x *smtpExchange) dial(ctx context.Context) error {
	defer x.watch.ask()()
	x.used = false
	return x.client.DialWithContext(ctx)
}

// Send mails an output. Its mark is in the message id, by which a second sending is known.
func (x *smtpExchange) Send(s Sending) (string, error) {
	if s.Size > mostMail {
		return "", &Refused{Says: fmt.Sprintf("an output of %d bytes is not mailed; %d is the most", s.Size, mostMail), Final: true}
	}
	content, err := s.Content()
	if err != nil {
		return "", err
	}
	b, err := io.ReadAll(content)
	if err := errors.Join(err, content.Close()); err != nil {
		return "", err
	}
	m := mail.NewMsg()
	to := x.place.To
	addressed := m.From(x.place.From)
	if said := s.Said["to"]; said != "" {
		addressed = errors.Join(addressed, m.ToFromString(said))
	} else {
		addressed = errors.Join(addressed, m.To(to...))
	}
	if said := strings.Trim(s.Said["cc"], ", "); said != "" {
		addressed = errors.Join(addressed, m.CcFromString(said))
	}
	if addressed != nil {
		return "", &Refused{Says: addressed.Error(), Final: true}
	}
	_, domain, _ := strings.Cut(strings.Trim(x.place.From, "<> "), "@")
	id := fmt.Sprintf("ydrion-%s@%s", s.Mark, or(domain, "localhost"))
	m.SetMessageIDWithValue(id)
	m.SetDate()
	m.Subject(or(s.Said["subject"], path.Base(s.Name)))
	plainly, marked := s.Said["text"], s.Said["html"]
	switch {
	case plainly != "" && marked != "":
		m.SetBodyString(mail.TypeTextPlain, plainly)
		m.AddAlternativeString(mail.TypeTextHTML, marked)
	case marked != "":
		m.SetBodyString(mail.TypeTextHTML, marked)
	default:
		m.SetBodyString(mail.TypeTextPlain, or(plainly, fmt.Sprintf("%s is attached (%d bytes).\n", path.Base(s.Name), len(b))))
	}
	if !s.Bare {
		if err := m.AttachReader(path.Base(s.Name), strings.NewReader(string(b))); err != nil {
			return "", err
		}
	}
	for {
		used := x.used
		err := x.send(m)
		var a *Away
		if used && errors.As(err, &a) && !a.Sent && !x.watch.late.Load() {
			// A server may end a connection between two mails, or take only so many on each.
			x.client.Close() //nolint: it has ended already
			if x.dial(x.ctx) == nil {
				continue
			}
		}
		if err != nil {
			return "", err
		}
		return "it was taken, with the message id " + id, nil
	}
}

// closing is the answer of a server that ends the connection (RFC 5321, 3.8).
const closing = 421

func (x *smtpExchange) send(m *mail.Msg) error {
	defer x.watch.ask()()
	err := x.client.Send(m)
	if err == nil || m.IsDelivered() { // what happens to the connection after that is no matter of the mail's
		x.used = true
		return nil
	}
	var says *mail.SendError
	if errors.As(err, &says) && says.ErrorCode() >= 400 {
		x.used = true // it has answered
	}
	switch {
	case x.watch.late.Load():
		return &Away{Place: x.place.Name, Err: fmt.Errorf("has not answered for %s", x.place.Patience), Sent: true}
	case !errors.As(err, &says), says.Reason == mail.ErrSMTPDataClose && says.ErrorCode() < 400:
		return &Away{Place: x.place.Name, Err: fmt.Errorf("has broken off the connection without an answer: %w", err), Sent: true}
	case says.ErrorCode() < 400:
		return &Away{Place: x.place.Name, Err: fmt.Errorf("has broken off the connection: %w", err)}
	case says.ErrorCode() == closing:
		return &Away{Place: x.place.Name, Err: fmt.Errorf("has ended the connection: %s", answered(says))}
	}
	return &Refused{Says: answered(says), Final: !says.IsTemp()}
}

// answered puts into words what a server has answered, and to what.
func answered(says *mail.SendError) string {
	said := strings.TrimPrefix(says.Error(), says.Reason.String()+": ")
	said, _, _ = strings.Cut(said, ", affected message ID: ")
	said, whom, _ := strings.Cut(said, ", affected recipient(s): ")
	switch says.Reason {
	case mail.ErrSMTPMailFrom:
		return "the server does not take mail from this sender: " + said
	case mail.ErrSMTPRcptTo:
		return fmt.Sprintf("the server does not take mail to %s: %s", strings.NewReplacer("<", "", ">", "").Replace(whom), said)
	case mail.ErrSMTPData, mail.ErrSMTPDataClose:
		return "the server does not take the mail: " + said
	}
	return says.Error()
}

func (x *smtpExchange) Repeats() bool { return x.place.Repeats }

func (x *smtpExchange) Rest() error {
	defer x.watch.ask()()
	return x.client.Reset()
}

func (x *smtpExchange) Leave() { x.client.Close() } //nolint: it is over in any case

func (x *smtpExchange) Break() {
	x.end()
	x.watch.end()
}
