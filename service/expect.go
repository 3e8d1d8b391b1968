package service

import (
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	"ydrion/run"
	"ydrion/store"
	"ydrion/wire"
	"ydrion/workspace"
)

// expecting is what is known of the expectations of the routes that this node
// leads.
type expecting struct {
	mu    sync.Mutex
	state map[string]*expectState // by route, revision and name
}

// expectState follows one expectation from deadline to deadline.
type expectState struct {
	due     time.Time // the next deadline
	from    time.Time // files count from then on
	counted int
	last    int64 // the newest pickup that was counted
	surplus bool  // has been told
	small   int   // how many of them were too small
	missing time.Time
}

// expectEvery is how often arrivals are compared with what is expected.
const expectEvery = 2 * time.Second

// expect compares what has come with what should have.
func (s *Service) expect(ctx context.Context) {
	for name, l := range s.leader.All() {
		compiled, running, since := l.Compiled(), l.Listener() != nil, l.PublishedAt()
		if !running || compiled == nil {
			continue
		}
		for i := range compiled.Expect {
			e := &compiled.Expect[i]
			if err := s.expectOne(ctx, name, compiled.Hash, e, since); err != nil && ctx.Err() == nil {
				s.Log.Error("comparing arrivals with what is expected", "route", name, "expectation", e.Name, "error", err)
			}
		}
	}
}

func (s *Service) expectOne(ctx context.Context, route, revision string, e *workspace.Expectation, since time.Time) error {
	s.expects.mu.Lock()
	if s.expects.state == nil {
		s.expects.state = map[string]*expectState{}
	}
	key := route + " " + revision + " " + e.Name
	st := s.expects.state[key]
	s.expects.mu.Unlock()
	if st == nil {
		last, err := s.store.LastJudged(ctx, route, e.Name)
		if err != nil {
			return err
		}
		st = &expectState{}
		if now := s.Clock(); since.After(now) {
			since = now
		}
		if last != nil {
			since = last.DueAt
			if last.State == "missing" {
				st.missing = last.DueAt
			}
		}
		st.begin(e, since)
		s.expects.mu.Lock()
		s.expects.state[key] = st
		s.expects.mu.Unlock()
	}
	if st.due.IsZero() {
		return nil // no day is named
	}
	if err := s.count(ctx, route, e, st); err != nil {
		return err
	}
	for now := s.Clock(); !st.due.IsZero() && !st.due.After(now); {
		if err := s.judge(ctx, route, e, st); err != nil {
			return err
		}
		if err := s.count(ctx, route, e, st); err != nil {
			return err
		}
	}
	return nil
}

// begin turns to the first deadline after a moment.
func (st *expectState) begin(e *workspace.Expectation, after time.Time) {
	st.due = e.By.Next(after)
	if !st.due.IsZero() {
		st.from, _ = e.Window(st.due)
	}
	st.counted, st.last, st.surplus, st.small = 0, 0, false, 0
}

// count counts what has come for the next deadline, and what came late for the
// last one.
func (s *Service) count(ctx context.Context, route string, e *workspace.Expectation, st *expectState) error {
	from := st.from
	if !st.missing.IsZero() && st.missing.Before(from) {
		from = st.missing
	}
	list, err := s.store.Arrivals(ctx, route, from, st.due, st.last)
	if err != nil {
		return err
	}
	for _, p := range list {
		st.last = p.ID
		if !workspace.MatchName(e.Names, p.Name) {
			continue
		}
		if !st.missing.IsZero() && !p.NoticedAt.Before(st.missing) {
			late, err := s.store.CameLate(ctx, route, e.Name, st.missing)
			if err != nil {
				return err
			}
			if late {
				s.over("missing", missed(route, e, st.missing))
				s.alert(store.Alert{Kind: "late", Route: route, Pickup: p.ID, About: missed(route, e, st.missing), Message: fmt.Sprintf("%s came at %s; it was expected by %s", p.Name, clock(p.NoticedAt, e), clock(st.missing, e))}, true)
			}
			st.missing = time.Time{}
		}
		if p.NoticedAt.Before(st.from) {
			continue
		}
		st.counted++
		if e.Smallest > 0 && p.Size < e.Smallest {
			st.small++
			s.alert(store.Alert{Kind: "small", Route: route, Pickup: p.ID, About: fmt.Sprintf("pickup %d", p.ID), Message: fmt.Sprintf("%s has only %d bytes; %d or more are expected", p.Name, p.Size, e.Smallest)}, true)
		}
		if e.Most > 0 && st.counted > e.Most && !st.surplus {
			st.surplus = true
			s.alert(store.Alert{Kind: "surplus", Route: route, Pickup: p.ID, About: missed(route, e, st.due), Message: fmt.Sprintf("%s is the file number %d for %s; at most %d are expected", p.Name, st.counted, clock(st.due, e), e.Most)}, true)
		}
	}
	return nil
}

func missed(route string, e *workspace.Expectation, due time.Time) string {
	return fmt.Sprintf("%s %s %s", route, e.Name, due.UTC().Format(time.RFC3339))
}

func clock(t time.Time, e *workspace.Expectation) string {
	return t.In(e.By.Zone).Format("15:04 MST on 2006-01-02")
}

// complete counts the files that have come in time and wait in the inbox, for
// their lane or their time.
func (s *Service) complete(route string, e *workspace.Expectation, st *expectState) (n int) {
	l := s.leader.Route(route)
	if l == nil {
		return 0
	}
	listener := l.Listener()
	if listener == nil {
		return 0
	}
	for _, w := range listener.Complete() {
		if workspace.MatchName(e.Names, w.Name) && !w.Since.Before(st.from) && w.Since.Before(st.due) {
			n++
		}
	}
	return n
}

// judge records how an expectation was met, and turns to the next deadline.
func (s *Service) judge(ctx context.Context, route string, e *workspace.Expectation, st *expectState) error {
	seen := st.counted + s.complete(route, e, st)
	x := store.Expected{Route: route, Name: e.Name, DueAt: st.due, State: "met", Seen: seen, Wanted: e.String()}
	switch {
	case seen < e.Least:
		x.State = "missing"
	case st.small > 0, e.Most > 0 && seen > e.Most:
		x.State = "mismatch"
	}
	fresh, err := s.store.Judge(ctx, x)
	if err != nil {
		return err
	}
	if !st.missing.IsZero() {
		s.over("missing", missed(route, e, st.missing)) // the next one is asked for from now on
		st.missing = time.Time{}
	}
	if x.State == "missing" {
		st.missing = st.due
		if fresh {
			s.alert(store.Alert{Kind: "missing", Route: route, About: missed(route, e, st.due), Message: fmt.Sprintf("%d of %d expected files named %s had come to %s by %s", seen, e.Least, e.Names, route, clock(st.due, e))}, false)
		}
	}
	s.tell(run.Event{Kind: "route", Route: route, State: "expectation " + x.State, Name: e.Name})
	missing := st.missing
	st.begin(e, st.due)
	st.missing = missing
	return nil
}

// Expectations lists the deadlines since a time, those to come first.
func (s *Service) Expectations(ctx context.Context, name string, since time.Time) ([]wire.Expected, error) {
	routes, err := s.store.Routes(ctx)
	if err != nil {
		return nil, err
	}
	out := []wire.Expected{}
	now := s.Clock()
	for _, r := range routes {
		if name != "" && r.Name != name {
			continue
		}
		c, err := s.engine.Compiled(ctx, r.Name, r.Revision)
		if err != nil || !r.Running {
			continue // it is shown as failing, or expects nothing
		}
		for i := range c.Expect {
			e := &c.Expect[i]
			due := e.By.Next(now)
			if due.IsZero() {
				continue
			}
			x := wire.Expected{Route: r.Name, Name: e.Name, DueAt: due, State: "waiting", Wanted: e.String()}
			from, to := e.Window(due)
			list, err := s.store.Arrivals(ctx, r.Name, from, to, 0)
			if err != nil {
				return nil, err
			}
			for _, p := range list {
				if workspace.MatchName(e.Names, p.Name) {
					x.Seen++
				}
			}
			out = append(out, x)
		}
	}
	slices.SortStableFunc(out, func(a, b wire.Expected) int { return a.DueAt.Compare(b.DueAt) })
	past, err := s.store.Expectations(ctx, name, since)
	return append(out, all(past, expectedOf)...), err
}
