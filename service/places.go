package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net"
	"slices"
	"strings"
	"time"

	"ydrion/remote"
	"ydrion/store"
	"ydrion/wire"
	"ydrion/workspace"
)

// Places lists the places of the environment, with what waits for them, and how they do as far as this node knows.
func (s *Service) Places(ctx context.Context) ([]wire.EnvironmentPlace, error) {
	counts, err := s.store.PlaceCounts(ctx)
	if err != nil {
		return nil, err
	}
	users, err := s.usersOfPlaces(ctx)
	if err != nil {
		return nil, err
	}
	out := []wire.EnvironmentPlace{}
	for _, name := range slices.Sorted(maps.Keys(s.Environment.Places)) {
		p, c := s.Environment.Places[name], counts[name]
		v := wire.EnvironmentPlace{Name: name, Kind: cmp.Or(p.Kind, "folder"), Where: p.Where(), State: "works", Waiting: c.Waiting, Tried: c.Tried, Person: c.Person, Fetching: c.Fetched, Uses: users[name]}
		if v.Uses == nil {
			v.Uses = []wire.PlaceUse{}
		}
		if p.Kind == "" {
			s.lookAt(&v)
		} else if r, is := s.places.Report(name); is && !p.Receives {
			switch {
			case r.Problem != "":
				v.State, v.Problem, v.Since = "away", r.Problem, &r.Since
			case r.Reached.IsZero():
				v.State = "not tried"
			}
			if !r.Reached.IsZero() {
				v.Reached = &r.Reached
			}
		}
		out = append(out, v)
	}
	return out, nil
}

// lookAt says how a folder of this machine does.
func (s *Service) lookAt(v *wire.EnvironmentPlace) {
	folder, err := s.resolve("{" + v.Name + "}")
	if err != nil {
		v.State, v.Problem = "away", err.Error()
		return
	}
	v.Where = folder
	if info, err := s.FS.Look(folder); errors.Is(err, fs.ErrNotExist) {
		v.State = "not tried" // it is made when something is delivered there
	} else if err != nil {
		v.State, v.Problem = "away", fmt.Sprintf("the folder %s cannot be looked at: %v", folder, err)
	} else if !info.Mode.IsDir() {
		v.State, v.Problem = "away", fmt.Sprintf("%s is not a folder", folder)
	}
}

// usersOfPlaces tells which routes use which places, and what for.
func (s *Service) usersOfPlaces(ctx context.Context) (map[string][]wire.PlaceUse, error) {
	routes, err := s.store.Routes(ctx)
	if err != nil {
		return nil, err
	}
	out := map[string][]wire.PlaceUse{}
	for _, r := range routes {
		c, err := s.engine.Compiled(ctx, r.Name, r.Revision)
		if err != nil {
			continue // its page says why
		}
		use := func(what, folder string) {
			name, _, is := strings.Cut(strings.TrimPrefix(folder, "{"), "}")
			u := wire.PlaceUse{Route: r.Name, What: what, Folder: folder}
			if is && strings.HasPrefix(folder, "{") && !slices.Contains(out[name], u) {
				out[name] = append(out[name], u)
			}
		}
		use("takes files from", c.Listen.Folder)
		for _, d := range c.Destinations() {
			use("delivers to", d.Folder)
		}
		use("rejects to", c.Rejected.Folder)
	}
	return out, nil
}

// TryPlace tries what a place can do: it is reached, looked into, and a probe is written there and removed again.
func (s *Service) TryPlace(ctx context.Context, name, folder string) ([]wire.PlaceStep, error) {
	p, is := s.Environment.Places[name]
	if !is {
		return nil, store.ErrNotFound
	}
	if p.Kind == "" {
		return s.tryFolder(p, folder), nil
	}
	if p.Receives {
		return s.tryReceiving(ctx, p), nil
	}
	steps := remote.Try(ctx, s.places, name, cmp.Or(folder, "/"), fmt.Sprintf(".ydrion-probe-%s-%d", s.store.Mark, time.Now().UnixNano()))
	return all(steps, func(t remote.Step) wire.PlaceStep {
		return wire.PlaceStep{What: t.What, Says: t.Says, OK: t.OK, Seconds: t.Took.Seconds()}
	}), nil
}

// tryReceiving says whether others can send to a place.
func (s *Service) tryReceiving(ctx context.Context, p workspace.Place) []wire.PlaceStep {
	step := wire.PlaceStep{What: "take what is posted to /receive/" + p.Name, OK: true, Says: "this service listens; a route with the place in `listen` takes it"}
	if p.ListenOn != "" {
		begun := time.Now()
		step = wire.PlaceStep{What: "take messages on " + p.ListenOn, OK: true, Says: "somebody listens there"}
		c, err := (&net.Dialer{Timeout: p.Patience}).DialContext(ctx, "tcp", p.ListenOn)
		if err == nil {
			err = c.Close()
		}
		if err != nil {
			step.OK, step.Says = false, fmt.Sprintf("nobody listens there: %v; a running route with the place in `listen` does, on the node that leads it", err)
		}
		step.Seconds = time.Since(begun).Seconds()
	}
	return []wire.PlaceStep{step}
}

// tryFolder tries what a folder of this machine can do.
func (s *Service) tryFolder(p workspace.Place, folder string) []wire.PlaceStep {
	var out []wire.PlaceStep
	do := func(what string, f func() error) bool {
		begun := time.Now()
		err := f()
		step := wire.PlaceStep{What: what, OK: err == nil, Seconds: time.Since(begun).Seconds()}
		if err != nil {
			step.Says = err.Error()
		}
		out = append(out, step)
		return step.OK
	}
	at, err := s.resolve("{" + p.Name + "}" + folder)
	probe := at + fmt.Sprintf("/.ydrion-probe-%s-%d", s.store.Mark, time.Now().UnixNano())
	if do("look into "+at, func() error {
		if err == nil {
			_, err = s.FS.List(at)
		}
		return err
	}) && do("write a probe", func() error {
		f, err := s.FS.Create(probe, 0o600)
		if err == nil {
			err = f.Close()
		}
		return err
	}) {
		do("remove it", func() error { return s.FS.Remove(probe) })
	}
	return out
}
