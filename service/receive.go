package service

import (
	"cmp"
	"context"
	"crypto/subtle"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"time"

	"ydrion/deliver"
	"ydrion/files"
	"ydrion/receive"
	"ydrion/remote"
	"ydrion/route"
	"ydrion/store"
	"ydrion/workspace"
)

// Received is what has become of something that was sent to a route.
type Received struct {
	Route  string        `json:"route"`
	Name   string        `json:"name" doc:"under which it goes on"`
	Pickup int64         `json:"pickup" doc:"its number; 0 if that is not known yet"`
	State  string        `json:"state" doc:"received, taken or, where the route answers when it is committed: committed, delivered, rejected, held"`
	Reason string        `json:"reason"`
	Safe   bool          `json:"-"` // what the route answers for has happened
	Output *deliver.Made `json:"-"` // that the route answers with; nil: none
}

// Why something that is sent is not received.
var (
	ErrNotLetIn   = errors.New("the token is not the one of this place")
	ErrNoReceiver = errors.New("no running route takes what is sent here")
)

// Sent is something that is sent to a route by HTTP.
type Sent struct {
	Place, Below string // where to
	Token        string
	Header       func(name string) string
	Body         io.Reader
	// Unwrap gives the content that is in a body, with its name and media type, as the sender says. Neither has more than so many bytes.
	Unwrap func(body io.Reader, most int64) (content io.Reader, name, kind string, err error)
}

// soon is how long it may take until something that was received has a number.
const soon = 2 * time.Second

// Receive takes what is sent to a route's own address.
func (s *Service) Receive(ctx context.Context, sent Sent) (Received, error) {
	p, is := s.Environment.Places[sent.Place]
	if !is || !p.Receives || p.Kind != "http" {
		return Received{}, store.ErrNotFound
	}
	body, err := s.letIn(&p, sent)
	if err != nil {
		return Received{}, err
	}
	to, compiled, err := s.receiverOf(ctx, sent.Place, sent.Below)
	if err != nil {
		return Received{}, err
	}
	content, name, kind, err := sent.Unwrap(receive.Bounded(body, p.Largest+formBytes), p.Largest+formBytes)
	switch {
	case errors.Is(err, remote.ErrSignature):
		return Received{}, ErrNotLetIn
	case err != nil:
		return Received{}, err
	}
	if name = receive.GoodName(name); name == "" {
		name = receive.Name(files.Ending(kind))
	}
	if !compiled.Listen.Matches(name) {
		return Received{}, fmt.Errorf("%w: the route takes %s, and this is called %s", store.ErrNotSo, cmp.Or(compiled.Names, "other names"), name)
	}
	box := &receive.Box{FS: s.FS, Folder: filepath.Join(s.Data, "archive", "fetched", to.Holding), Mark: s.store.Mark}
	var heard <-chan receive.Outcome
	over := func() {}
	defer func() { over() }()
	name, err = box.Put(name, content, p.Largest, func(as string) bool {
		over()
		over = func() {}
		c, end := s.answers.Expect(to.Name, as)
		if end == nil {
			return false
		}
		heard, over = c, end
		return true
	})
	if errors.Is(err, remote.ErrSignature) {
		return Received{}, ErrNotLetIn
	}
	if err != nil {
		return Received{}, err
	}
	patience := soon
	if compiled.AnswerCommitted {
		patience = p.Patience
	}
	waiting, end := context.WithTimeout(ctx, patience)
	defer end()
	o := receive.Until(waiting, heard, compiled.AnswerCommitted)
	out := Received{Route: to.Name, Name: name, Pickup: o.Pickup, State: cmp.Or(o.State, "received"), Reason: o.Reason, Safe: o.Safe()}
	out.Output = o.Output
	return out, nil
}

// formBytes is how much may be around the content that was sent.
const formBytes = 1 << 20

// letIn looks whether somebody may send to a place, and gives what he sends: its signature is found to be right before its end is told.
func (s *Service) letIn(p *workspace.Place, sent Sent) (io.Reader, error) {
	if p.Token.Any() {
		word, err := remote.Secret(p.Token)
		if err != nil || word == "" {
			s.Log.Error("the token of a place cannot be read; nobody is let in", "place", sent.Place, "error", err)
			return nil, ErrNotLetIn
		}
		shown := sent.Token
		if p.TokenHeader != "" {
			shown = sent.Header(p.TokenHeader)
		}
		if subtle.ConstantTimeCompare([]byte(word), []byte(shown)) != 1 {
			return nil, ErrNotLetIn
		}
	}
	if !p.SigningKey.Any() {
		return sent.Body, nil
	}
	by, err := remote.NewSigning(p)
	if err != nil {
		s.Log.Error("the key of a place's signatures cannot be read; nobody is let in", "place", sent.Place, "error", err)
		return nil, ErrNotLetIn
	}
	return remote.Signed(sent.Body, by, sent.Header(p.Signature)), nil
}

// receiverOf finds the running route that takes what is sent to an address.
func (s *Service) receiverOf(ctx context.Context, place, below string) (store.Route, *route.Compiled, error) {
	routes, err := s.store.Routes(ctx)
	if err != nil {
		return store.Route{}, nil, err
	}
	for _, r := range routes {
		if !r.Running {
			continue
		}
		c, err := s.engine.Compiled(ctx, r.Name, r.Revision)
		if err != nil {
			continue // its page says why
		}
		folder, err := s.resolve(c.Listen.Folder)
		if at, under, is := workspace.Distant(folder); err == nil && is && at == place && under == below {
			return r, c, nil
		}
	}
	return store.Route{}, nil, ErrNoReceiver
}
