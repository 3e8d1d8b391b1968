package service

import (
	"context"
	"fmt"
	"sort"
	"strings"
	"time"

	"ydrion/core/value"
	"ydrion/listen"
	"ydrion/route"
	"ydrion/run"
	"ydrion/store"
)

// RouteView is a route as people see it in a list.
type RouteView struct {
	Name        string         `json:"name"`
	Notes       string         `json:"notes"`
	State       string         `json:"state" enum:"running,stopped,failing"`
	Problem     string         `json:"problem" doc:"why it is failing"`
	Revision    string         `json:"revision"`
	Number      int            `json:"revision_number"`
	PublishedAt time.Time      `json:"published_at"`
	Today       store.Tally    `json:"today"`
	Waiting     int            `json:"waiting" doc:"files in the inbox that are not ready"`
	Current     []run.Progress `json:"current" doc:"runs that are under way"`
}

// Sheet is a route with its stages.
type Sheet struct {
	RouteView
	Stages  []Stage          `json:"stages"`
	Files   []SourceFile     `json:"files" doc:"what the revision is made of"`
	Waiting []listen.Waiting `json:"waiting_files"`
}

// Stage is one stage of a route in a sentence.
type Stage struct {
	Name     string   `json:"name" enum:"listen,read,check,map,deliver,reject"`
	Sentence string   `json:"sentence"`
	Details  []string `json:"details"`
	Count    int64    `json:"count"`
	Unit     string   `json:"unit"`
}

// SourceFile is a file of a revision.
type SourceFile struct {
	Name    string `json:"name"`
	Content string `json:"content"`
}

// Midnight is the beginning of today.
func Midnight() time.Time {
	y, m, d := time.Now().Date()
	return time.Date(y, m, d, 0, 0, 0, 0, time.Local)
}

// Routes lists the published routes.
func (s *Service) Routes(ctx context.Context) ([]RouteView, error) {
	routes, err := s.store.Routes(ctx)
	if err != nil {
		return nil, err
	}
	tallies, err := s.store.Tallies(ctx, Midnight())
	if err != nil {
		return nil, err
	}
	out := make([]RouteView, 0, len(routes))
	for _, r := range routes {
		out = append(out, s.view(ctx, r, tallies[r.Name]))
	}
	return out, nil
}

func (s *Service) view(ctx context.Context, r store.Route, today store.Tally) RouteView {
	today.Route = r.Name
	v := RouteView{Name: r.Name, State: "stopped", Revision: r.Revision, Number: r.Number, PublishedAt: r.PublishedAt, Today: today, Current: []run.Progress{}}
	if c, err := s.engine.Compiled(ctx, r.Name, r.Revision); err == nil {
		v.Notes = strings.TrimSpace(c.Notes)
	} else {
		v.Problem = err.Error()
	}
	s.mu.Lock()
	l := s.listening[r.Name]
	if l != nil {
		v.Problem = l.failed
	}
	s.mu.Unlock()
	switch {
	case v.Problem != "":
		v.State = "failing"
	case l != nil:
		v.State = "running"
	}
	if l != nil {
		v.Waiting = len(l.listener.Waiting())
	}
	for _, p := range s.engine.Current() {
		if p.Route == r.Name {
			v.Current = append(v.Current, p)
		}
	}
	return v
}

// Waiting lists the files in a route's inbox that are not ready, and why.
func (s *Service) Waiting(name string) []listen.Waiting {
	s.mu.Lock()
	l := s.listening[name]
	s.mu.Unlock()
	if l == nil {
		return []listen.Waiting{}
	}
	return l.listener.Waiting()
}

// Sheet gives one route with its stages.
func (s *Service) Sheet(ctx context.Context, name string) (*Sheet, error) {
	r, err := s.store.Route(ctx, name)
	if err != nil {
		return nil, err
	}
	tallies, err := s.store.Tallies(ctx, Midnight())
	if err != nil {
		return nil, err
	}
	c, err := s.engine.Compiled(ctx, r.Name, r.Revision)
	if err != nil {
		return nil, err
	}
	sheet := &Sheet{RouteView: s.view(ctx, r, tallies[name]), Waiting: s.Waiting(name), Files: []SourceFile{}}
	sheet.Stages = s.stages(c, sheet.Today)
	for n, b := range c.Files {
		sheet.Files = append(sheet.Files, SourceFile{n, string(b)})
	}
	sort.Slice(sheet.Files, func(i, j int) bool { return sheet.Files[i].Name < sheet.Files[j].Name })
	return sheet, nil
}

func (s *Service) folder(f string) string {
	if path, err := s.resolve(f); err == nil {
		return path
	}
	return f
}

// stages says in sentences what a route does.
func (s *Service) stages(c *route.Compiled, t store.Tally) []Stage {
	l := c.Listen
	names := fmt.Sprintf("files named %s", l.Names)
	if l.Expression != nil {
		names = fmt.Sprintf("files whose name matches %s", l.Expression)
	}
	notice := fmt.Sprintf("A look every %s.", l.Rhythm)
	if l.Events {
		notice = fmt.Sprintf("Kernel events, and a look every %s.", l.Rhythm)
	}
	listen := Stage{Name: "listen", Sentence: fmt.Sprintf("Picks up %s from %s", names, s.folder(l.Folder)), Details: []string{notice}, Count: t.Pickups, Unit: "pickups"}
	if l.Subfolders {
		listen.Sentence += " and its subfolders"
	}
	listen.Sentence += "."
	if l.Quiet > 0 {
		listen.Details = append(listen.Details, fmt.Sprintf("A file must have been left alone for %s.", l.Quiet))
	}
	if !l.Since.IsZero() {
		listen.Details = append(listen.Details, "Files changed before "+l.Since.Format(time.RFC3339)+" are left where they are.")
	}
	d := c.Dialect
	heading := "the first line names the columns"
	if d.NoHeading {
		heading = fmt.Sprintf("without a heading, %d columns named by the route", len(d.Columns))
	}
	delimiter := map[byte]string{0: "commas", ',': "commas", ';': "semicolons", '\t': "tabs", '|': "bars"}[d.Delimiter]
	if delimiter == "" {
		delimiter = fmt.Sprintf("%q", d.Delimiter)
	}
	read := Stage{Name: "read", Sentence: fmt.Sprintf("Reads CSV in %s, separated by %s; %s.", c.Charset, delimiter, heading), Details: []string{}, Count: t.In, Unit: "records"}
	return append([]Stage{listen, read}, s.later(c, t)...)
}

func (s *Service) later(c *route.Compiled, t store.Tally) []Stage {
	kinds := map[value.Kind]int{}
	for _, f := range c.Plan.Schema.Record {
		kinds[f.Kind]++
	}
	check := Stage{Name: "check", Sentence: fmt.Sprintf("Checks %d fields against %s.", len(c.Plan.Schema.Record), c.Schema), Details: []string{}, Count: t.Rejected, Unit: "rejected"}
	if len(c.Plan.Schema.Unique) > 0 {
		check.Details = append(check.Details, "Must differ from record to record: "+strings.Join(c.Plan.Schema.Unique, ", ")+".")
	}
	if c.Tolerate >= 0 {
		check.Details = append(check.Details, fmt.Sprintf("A file with more than %g%% rejected records is rejected whole.", c.Tolerate*100))
	}
	mapping := Stage{Name: "map", Sentence: fmt.Sprintf("Makes HL7 v2 messages by %s.", c.Map), Details: []string{}, Count: t.Filtered, Unit: "left out"}
	deliver := Stage{Name: "deliver", Sentence: fmt.Sprintf("Delivers one file for each pickup to %s, named %s.", s.folder(c.Good.Folder), c.Good.Name), Details: []string{"Nothing is overwritten: a name that is taken gets a number."}, Count: t.Good, Unit: "good"}
	if c.Good.PerRecord {
		deliver.Sentence = fmt.Sprintf("Delivers one file for each record to %s, named %s.", s.folder(c.Good.Folder), c.Good.Name)
	}
	reject := Stage{Name: "reject", Sentence: fmt.Sprintf("Puts rejected records and files into %s, with the reasons beside them.", s.folder(c.Rejected)), Details: []string{}, Count: t.Whole, Unit: "whole files"}
	return []Stage{check, mapping, deliver, reject}
}

// Overview is what came in today and what is going on.
type Overview struct {
	Since  time.Time      `json:"since"`
	Routes []RouteView    `json:"routes"`
	Total  store.Tally    `json:"total"`
	Latest []store.Pickup `json:"latest"`
}

// Overview sums up today.
func (s *Service) Overview(ctx context.Context) (*Overview, error) {
	o := &Overview{Since: Midnight()}
	var err error
	if o.Routes, err = s.Routes(ctx); err != nil {
		return nil, err
	}
	for _, r := range o.Routes {
		t := r.Today
		o.Total.Pickups += t.Pickups
		o.Total.In += t.In
		o.Total.Good += t.Good
		o.Total.Rejected += t.Rejected
		o.Total.Filtered += t.Filtered
		o.Total.Whole += t.Whole
		o.Total.Held += t.Held
		o.Total.Open += t.Open
	}
	o.Latest, err = s.store.Pickups(ctx, store.Filter{Limit: 12})
	return o, err
}

// Pickups lists pickups, newest first.
func (s *Service) Pickups(ctx context.Context, f store.Filter) ([]store.Pickup, error) {
	return s.store.Pickups(ctx, f)
}

// PickupDetail is a pickup with all its runs.
type PickupDetail struct {
	store.Pickup
	Runs []store.Run `json:"runs" doc:"newest first"`
}

// Pickup gives one pickup.
func (s *Service) Pickup(ctx context.Context, id int64) (*PickupDetail, error) {
	p, err := s.store.Pickup(ctx, id)
	if err != nil {
		return nil, err
	}
	runs, err := s.store.Runs(ctx, id)
	return &PickupDetail{p, runs}, err
}

// Rejects lists the rejected records of a run after a record.
func (s *Service) Rejects(ctx context.Context, runID, after int64, limit int) ([]store.Reject, error) {
	if _, err := s.store.Run(ctx, runID); err != nil {
		return nil, err
	}
	return s.store.Rejects(ctx, runID, after, limit)
}
