package service

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"ydrion/core/lang"
	"ydrion/core/value"

	"ydrion/core/flow"
	"ydrion/store"
	"ydrion/wire"
)

// AgainRequest says which pickups are to be run again, and how.
type AgainRequest struct {
	Pickups  []int64    `json:"pickups,omitempty" doc:"these; otherwise those that the rest says"`
	Route    string     `json:"route,omitempty"`
	States   []string   `json:"states,omitempty" doc:"delivered and rejected if left out"`
	Lane     string     `json:"lane,omitempty"`
	Name     string     `json:"name,omitempty" doc:"part of the file's name, or a pattern with *"`
	Since    *time.Time `json:"since,omitempty" doc:"claimed since then"`
	Until    *time.Time `json:"until,omitempty"`
	Revision string     `json:"revision,omitempty" enum:"now,then" doc:"the revision of now, or of the latest run; now if left out"`
	Same     bool       `json:"same,omitempty" doc:"the same once more: with the time and the sequence numbers of the latest run and its revision, for a receiver that lost it"`
	Overtake bool       `json:"overtake,omitempty" doc:"run also what is older than what its lane has delivered since"`
	Dry      bool       `json:"dry,omitempty" doc:"only say what would be run"`
}

// AgainAnswer says what became of each pickup.
type AgainAnswer struct {
	Pickup  int64  `json:"pickup"`
	Name    string `json:"name"`
	Route   string `json:"route"`
	State   string `json:"state"`
	Records int64  `json:"records"`
	Run     int64  `json:"run" doc:"that has begun; 0 if none"`
	Problem string `json:"problem" doc:"why it is not run again"`
	Younger int64  `json:"younger" doc:"a younger pickup of its lane that was delivered already: running this one overtakes it"`
}

// mostAgain is how many pickups are run again at once.
const mostAgain = 10_000

// Again runs pickups again from the archive, oldest first.
func (s *Service) Again(ctx context.Context, q AgainRequest, said store.Said) ([]AgainAnswer, error) {
	pickups, err := s.selected(ctx, q)
	if err != nil {
		return nil, err
	}
	out := make([]AgainAnswer, 0, len(pickups))
	routes := map[string]bool{}
	for _, p := range pickups {
		a := AgainAnswer{Pickup: p.ID, Name: p.Name, Route: p.Route, State: p.State, Records: p.In}
		if p.Archived && (p.State == "delivered" || p.State == "rejected") {
			if a.Younger, err = s.store.Overtakes(ctx, p.ID); err != nil {
				return nil, err
			}
		}
		switch {
		case p.State != "delivered" && p.State != "rejected":
			a.Problem = fmt.Sprintf("%v: it is %s", store.ErrBusy, p.State)
		case !p.Archived:
			a.Problem = store.ErrPurged.Error()
		case a.Younger > 0 && !q.Overtake:
			a.Problem = fmt.Sprintf("pickup %d of the same lane was delivered since; running this one again would overtake it", a.Younger)
		case !q.Dry:
			if a.Run, err = s.again(ctx, p, q, said); err != nil {
				if !errors.Is(err, store.ErrBusy) && !errors.Is(err, store.ErrPurged) && !errors.Is(err, store.ErrNotSo) && !errors.Is(err, store.ErrNotFound) {
					return out, err
				}
				a.Problem = err.Error()
			}
			routes[p.Route] = true
		}
		out = append(out, a)
	}
	for name := range routes {
		s.leader.ToDo(ctx, name)
	}
	return out, nil
}

// selected finds the pickups that a request is about, oldest first.
func (s *Service) selected(ctx context.Context, q AgainRequest) ([]store.Pickup, error) {
	var out []store.Pickup
	if len(q.Pickups) > 0 {
		for _, id := range q.Pickups {
			p, err := s.store.Pickup(ctx, id)
			if err != nil {
				return nil, fmt.Errorf("pickup %d: %w", id, err)
			}
			out = append(out, p)
		}
		return out, nil
	}
	if q.Route == "" && q.Since == nil && q.Name == "" && q.Lane == "" && len(q.States) == 0 {
		return nil, fmt.Errorf("%w: name pickups, a route, a file name, a lane, states or a time", store.ErrNotSo)
	}
	f := store.Filter{Route: q.Route, Lane: q.Lane, States: q.States, Name: q.Name, Limit: 500}
	if len(f.States) == 0 {
		f.States = []string{"delivered", "rejected"}
	}
	if q.Since != nil {
		f.Since = *q.Since
	}
	if q.Until != nil {
		f.Until = *q.Until
	}
	for {
		page, err := s.store.Pickups(ctx, f)
		if err != nil {
			return nil, err
		}
		out = append(out, page...)
		if len(page) < f.Limit {
			break
		}
		if len(out) > mostAgain {
			return nil, fmt.Errorf("%w: more than %d pickups; narrow the time", store.ErrNotSo, mostAgain)
		}
		f.Before = page[len(page)-1].ID
	}
	for i, j := 0, len(out)-1; i < j; i, j = i+1, j-1 {
		out[i], out[j] = out[j], out[i]
	}
	return out, nil
}

func (s *Service) again(ctx context.Context, p store.Pickup, q AgainRequest, said store.Said) (int64, error) {
	a := store.Again{Pickup: p.ID, Now: time.Now().Truncate(time.Microsecond), Said: said}
	if (q.Revision == "then" || q.Same) && p.Run != 0 {
		last, err := s.store.Run(ctx, p.Run)
		if err != nil {
			return 0, err
		}
		a.Revision = last.Revision
		if q.Same {
			a.Now, a.SameAs = last.Now, &last.ID
			if last.SameAs != nil {
				a.SameAs = last.SameAs
			}
		}
		return s.store.Again(ctx, a)
	}
	r, err := s.store.Route(ctx, p.Route)
	if err != nil {
		return 0, err
	}
	a.Revision = r.Revision
	return s.store.Again(ctx, a)
}

// Hand gives a file to a route, as if it had come into its inbox. Its pickup has
// the file's name.
func (s *Service) Hand(ctx context.Context, route, name string, content io.Reader, by string, said store.Said) (pickup int64, err error) {
	r, err := s.store.Route(ctx, route)
	if err != nil {
		return 0, err
	}
	if problem := lang.CheckName(name); problem != "" {
		return 0, fmt.Errorf("%w: %s", store.ErrNotSo, problem)
	}
	_, _, err = s.engine.Archive.TakeFor(content, func(sum string, size int64) error {
		pickup, err = s.store.Hand(ctx, store.Handed{Route: route, Revision: r.Revision, Name: name, SHA256: sum, Size: size, By: by, Now: time.Now().Truncate(time.Microsecond), Said: said})
		return err
	})
	if err == nil {
		s.leader.ToDo(ctx, route)
	}
	return pickup, err
}

// HandOver gives the original of a pickup to a route, which may be another one.
func (s *Service) HandOver(ctx context.Context, route string, pickup int64, by string, said store.Said) (int64, error) {
	p, f, err := s.Original(ctx, pickup)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	return s.Hand(ctx, route, p.Name, f, by, said)
}

// TakeFile takes one file of a route's inbox now, whatever it waits for.
func (s *Service) TakeFile(ctx context.Context, name, file string) error {
	r, err := s.store.Route(ctx, name)
	if err != nil {
		return err
	}
	if !r.Running {
		return fmt.Errorf("%w: the route is stopped", store.ErrNotSo)
	}
	if s.leader.Route(name) == nil {
		s.store.Hint(ctx, hintTake+name+" "+file)
		return nil
	}
	if err := s.takeHere(name, file); err != nil {
		return fmt.Errorf("%w: %s: %v", store.ErrNotSo, file, err)
	}
	return nil
}

func (s *Service) takeHere(name, file string) error {
	l := s.leader.Route(name)
	if l == nil {
		return nil
	}
	return l.Demand(file)
}

// TryOn runs a published route over a file without delivering or recording
// anything.
func (s *Service) TryOn(ctx context.Context, name, file string, content io.Reader, request TrialRequest) (*Trial, error) {
	r, err := s.store.Route(ctx, name)
	if err != nil {
		return nil, err
	}
	c, err := s.engine.Compiled(ctx, name, r.Revision)
	if err != nil {
		return nil, err
	}
	inputs := flow.Inputs{Facts: lang.Facts{Route: name, Now: value.FromTime(time.Now()), Name: file, Event: "arrived"}, Cores: 1, Spill: s.engine.Spill}
	return Try(ctx, c, One(content, file), inputs, request)
}

// Decide records what a person says about a pickup that cannot go on.
func (s *Service) Decide(ctx context.Context, pickup int64, what store.Person, said store.Said) (wire.Pickup, error) {
	if err := s.store.Decide(ctx, pickup, what, said); err != nil {
		return wire.Pickup{}, err
	}
	p, err := s.store.Pickup(ctx, pickup)
	if err != nil {
		return wire.Pickup{}, err
	}
	s.Log.Info("a person has decided", "pickup", pickup, "decision", string(what))
	if what == store.Withdraw {
		for _, kind := range []string{"duplicate", "held", "stuck", "uncertain"} {
			s.over(kind, fmt.Sprintf("pickup %d", pickup))
		}
		s.over("held", p.Route)
		s.over("stuck", p.Route)
	}
	s.leader.ToDo(ctx, p.Route)
	return pickupOf(p), nil
}

// Lanes lists the lanes that are held.
func (s *Service) Lanes(ctx context.Context, route string) ([]wire.Lane, error) {
	list, err := s.store.HeldLanes(ctx, route)
	seen := map[string]map[string]int{}
	for i, l := range list {
		if seen[l.Route] == nil {
			seen[l.Route] = s.newsOf(ctx, l.Route).Behind
		}
		list[i].Behind += int64(seen[l.Route][l.Lane])
	}
	return all(list, laneOf), err
}
