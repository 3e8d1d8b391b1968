package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"ydrion/core/finding"
	"ydrion/core/mail"
)

// Pickup is one file, taken once, with its latest run.
type Pickup struct {
	ID        int64      `db:"id"`
	Route     string     `db:"route"`
	Name      string     `db:"name"`
	Folder    string     `db:"folder"`
	Path      string     `db:"path"`
	Size      int64      `db:"size"`
	Modified  time.Time  `db:"modified"`
	SHA256    string     `db:"sha256"`
	State     string     `db:"state"`
	Reason    string     `db:"reason"`
	Event     string     `db:"event"`
	Origin    string     `db:"origin"`
	Lane      string     `db:"lane"`
	Key       string     `db:"business_key"`
	Tries     int        `db:"tries"`
	NextTry   *time.Time `db:"next_try"`
	Passed    bool       `db:"passed"`
	Archived  bool       `db:"archived"`
	NoticedAt time.Time  `db:"noticed_at"`
	ClaimedAt time.Time  `db:"claimed_at"`
	TakenAt   *time.Time `db:"taken_at"`
	EndedAt   *time.Time `db:"ended_at"`
	Run       int64      `db:"run"`
	Mail      *mail.Head `db:"mail"` // that it was attached to; nil: to none
	In        int64      `db:"records_in"`
	Good      int64      `db:"good"`
	Rejected  int64      `db:"rejected"`
	Filtered  int64      `db:"filtered"`
	Merged    int64      `db:"merged"`
	Warnings  int64      `db:"warnings"`
	Whole     bool       `db:"whole"`
	Files     int        `db:"files"` // that go on together with it, and itself
}

const pickupColumns = `select p.id, p.route, p.name, p.folder, coalesce(nullif(p.came_from, ''), p.path) as path, p.size, p.modified, coalesce(p.sha256, '') as sha256, p.state, p.reason, p.event, p.origin, coalesce(p.lane, '') as lane, coalesce(p.business_key, '') as business_key, p.tries, p.next_try, p.passed, p.archived, p.noticed_at, p.claimed_at, p.taken_at, p.ended_at, p.mail,
	coalesce(p.run, 0) as run, coalesce(rp.records_in, r.records_in, 0) as records_in, coalesce(rp.good, r.good, 0) as good, coalesce(rp.rejected, r.rejected, 0) as rejected, coalesce(rp.filtered, r.filtered, 0) as filtered, coalesce(rp.merged, r.merged, 0) as merged, coalesce(rp.warnings, r.warnings, 0) as warnings, coalesce(rp.whole, r.whole, false) as whole, coalesce(r.files, 1) as files
	from pickups p left join runs r on r.id = p.run left join run_pickups rp on p.together and rp.run = p.run and rp.pickup = p.id`

// States are the states of pickups.
var States = []string{"claimed", "taken", "committed", "delivered", "rejected", "set aside", "held", "uncertain", "withdrawn"}

// ErrNoState says that a filter names a state that there is not.
var ErrNoState = errors.New("there is no such state")

// Filter narrows the list of pickups.
type Filter struct {
	Route  string
	States []string
	Name   string // part of the name, or a pattern with *
	Lane   string
	Output string // the name of something that it has become, or a pattern with *
	Since  time.Time
	Until  time.Time
	Before int64 // only pickups with a smaller number: the next page
	// After follows the list: oldest first, only pickups with a larger number, and none behind
	// one that is still being written down, so that whoever goes on from the last misses none.
	After *int64
	Limit int
}

// like is a pattern with * as the database has it.
func like(pattern string) string {
	return strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`, `*`, `%`).Replace(pattern)
}

// settled gives the number up to which all of a table's rows can be seen; class is the one
// with which its trigger marks what is under way.
func (s *Store) settled(ctx context.Context, sequence string, class int) (last int64, err error) {
	err = s.lists.GetContext(ctx, &last, `select numbers_settled($1, $2)`, sequence, class)
	return last, err
}

// Classes of the marks of what is being numbered.
const (
	pickupNumbers = 2026112801
	alertNumbers  = 2026112802
)

// Pickups lists pickups, newest first, or as they are followed.
func (s *Store) Pickups(ctx context.Context, f Filter) ([]Pickup, error) {
	var where []string
	var args []any
	add := func(condition string, arg any) {
		args = append(args, arg)
		where = append(where, fmt.Sprintf(condition, len(args)))
	}
	if f.Route != "" {
		add("p.route = $%d", f.Route)
	}
	if len(f.States) > 0 {
		// Written out: the planner must see that they are in a partial index.
		for _, state := range f.States {
			if !slices.Contains(States, state) {
				return nil, fmt.Errorf("%w: %q; the states are %s", ErrNoState, state, strings.Join(States, ", "))
			}
		}
		where = append(where, "p.state in ('"+strings.Join(f.States, "', '")+"')")
	}
	if f.Lane != "" {
		add("p.lane = $%d", f.Lane)
	}
	if f.Output != "" {
		add("p.id in (select rp.pickup from deliveries d join run_pickups rp on rp.run = d.run where d.kind in ('good', 'rejected') and d.name like $%d)", like(f.Output))
	}
	if f.Name != "" {
		pattern := like(f.Name)
		if !strings.Contains(f.Name, "*") {
			pattern = "%" + pattern + "%"
		}
		// In the form of the index, which has no names of those on their way.
		add("(p.name ilike $%[1]d and p.state not in ('claimed', 'taken', 'committed') or p.name ilike $%[1]d and p.state in ('claimed', 'taken', 'committed'))", pattern)
	}
	if !f.Since.IsZero() {
		add("p.claimed_at >= $%d", f.Since)
	}
	if !f.Until.IsZero() {
		add("p.claimed_at < $%d", f.Until)
	}
	if f.Before > 0 {
		add("p.id < $%d", f.Before)
	}
	query, order := pickupColumns, "desc"
	if f.After != nil {
		last, err := s.settled(ctx, "pickups_id_seq", pickupNumbers)
		if err != nil {
			return nil, err
		}
		add("p.id > $%d", *f.After)
		add("p.id <= $%d", last)
		order = "asc"
	}
	if len(where) > 0 {
		query += " where " + strings.Join(where, " and ")
	}
	args = append(args, f.Limit)
	out := []Pickup{}
	err := s.lists.SelectContext(ctx, &out, query+fmt.Sprintf(" order by p.id %s limit $%d", order, len(args)), args...)
	return out, err
}

// Pickup gives one pickup.
func (s *Store) Pickup(ctx context.Context, id int64) (Pickup, error) {
	var p Pickup
	err := s.lists.GetContext(ctx, &p, pickupColumns+` where p.id = $1`, id)
	return p, noNumber(err, "pickup", id)
}

// Run is one execution of a route over a pickup.
type Run struct {
	ID          int64        `db:"id"`
	Pickup      int64        `db:"pickup"`
	Route       string       `db:"route"`
	Revision    string       `db:"revision"`
	Number      int          `db:"number"`
	State       string       `db:"state"`
	SameAs      *int64       `db:"same_as"`
	Again       bool         `db:"again"`
	Now         time.Time    `db:"facts_now"`
	StartedAt   time.Time    `db:"started_at"`
	CommittedAt *time.Time   `db:"committed_at"`
	EndedAt     *time.Time   `db:"ended_at"`
	In          int64        `db:"records_in"`
	Good        int64        `db:"good"`
	Rejected    int64        `db:"rejected"`
	Filtered    int64        `db:"filtered"`
	Merged      int64        `db:"merged"`
	Warnings    int64        `db:"warnings"`
	Bytes       int64        `db:"bytes"`
	Whole       bool         `db:"whole"`
	RawFindings []byte       `db:"findings"`
	Findings    finding.List `db:"-"`
	Deliveries  []Delivery   `db:"-"`
	Outputs     int64        `db:"outputs"`
	Overtaken   int64        `db:"overtaken"` // of them
	Files       int          `db:"files"`     // that it is of
	Key         string       `db:"key"`       // what they have in common
	Of          []OfRun      `db:"-"`
	RawBranches []byte       `db:"branches"`
	Branches    []BranchOf   `db:"-"`
}

const runColumns = `select r.id, rp.pickup, r.route, r.revision, v.number, r.state, r.same_as, r.again, r.facts_now, r.started_at, r.committed_at, r.ended_at, r.records_in, r.good, r.rejected, r.filtered, r.merged, r.warnings, r.bytes, r.whole, r.findings, r.files, r.key, r.branches,
	(select count(*) from deliveries d where d.run = r.id) as outputs,
	(select count(*) from deliveries d where d.run = r.id and d.state = 'overtaken') as overtaken
	from runs r join run_pickups rp on rp.run = r.id join revisions v on v.route = r.route and v.hash = r.revision`

// Runs lists the runs of a pickup, newest first, with their first deliveries.
func (s *Store) Runs(ctx context.Context, pickup int64) ([]Run, error) {
	out := []Run{}
	if err := s.lists.SelectContext(ctx, &out, runColumns+` where rp.pickup = $1 order by r.id desc`, pickup); err != nil {
		return nil, err
	}
	for i := range out {
		if err := s.complete(ctx, &out[i]); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Run gives one run.
func (s *Store) Run(ctx context.Context, id int64) (Run, error) {
	var r Run
	if err := s.lists.GetContext(ctx, &r, runColumns+` where r.id = $1 and rp.ord = 1`, id); err != nil {
		return r, noNumber(err, "run", id)
	}
	return r, s.complete(ctx, &r)
}

func (s *Store) complete(ctx context.Context, r *Run) error {
	r.Findings, r.Deliveries = finding.List{}, []Delivery{}
	if err := json.Unmarshal(r.RawFindings, &r.Findings); err != nil {
		return fmt.Errorf("findings of run %d: %w", r.ID, err)
	}
	if err := json.Unmarshal(r.RawBranches, &r.Branches); err != nil {
		return fmt.Errorf("branches of run %d: %w", r.ID, err)
	}
	var err error
	if r.Of, err = s.FilesOf(ctx, r.ID); err != nil {
		return err
	}
	return s.lists.SelectContext(ctx, &r.Deliveries, `select `+deliveryColumns+` from deliveries where run = $1 and (kind <> 'good' or ord <= 200 or state in ('open', 'uncertain') and ord <= 1000) order by ord`, r.ID)
}

// Outputs lists what has become of records from one on up to another: the outputs that begin with one of them, and of
// each destination the one before.
func (s *Store) Outputs(ctx context.Context, run, from, to int64) ([]Delivery, error) {
	out := []Delivery{}
	err := s.lists.SelectContext(ctx, &out, `select `+deliveryColumns+` from deliveries where run = $1 and kind = 'good' and (first_record between $2 and $3
		or ord in (select distinct on (output) ord from deliveries where run = $1 and kind = 'good' and first_record < $2 order by output, first_record desc, ord desc))
		order by first_record, ord limit 10000`, run, from, to)
	return out, err
}

// OutputsOf lists the outputs that begin with one of these records.
func (s *Store) OutputsOf(ctx context.Context, run int64, records []int64) ([]Delivery, error) {
	out := []Delivery{}
	if len(records) == 0 {
		return out, nil
	}
	err := s.lists.SelectContext(ctx, &out, `select `+deliveryColumns+` from deliveries where run = $1 and kind = 'good' and first_record = any($2) order by ord`, run, records)
	return out, err
}

// Rejects lists the rejected records of a run in their order, after a record.
func (s *Store) Rejects(ctx context.Context, run, after int64, limit int) ([]Reject, error) {
	var rows []struct {
		Record   int64
		Line     int64
		Raw      []byte
		Findings []byte
		File     int
	}
	if err := s.lists.SelectContext(ctx, &rows, `select record, line, raw, findings, file from rejects where run = $1 and record > $2 order by record limit $3`, run, after, limit); err != nil {
		return nil, err
	}
	out := make([]Reject, len(rows))
	for i, r := range rows {
		out[i] = Reject{Record: r.Record, Line: r.Line, Raw: r.Raw, File: r.File}
		if err := json.Unmarshal(r.Findings, &out[i].Findings); err != nil {
			return nil, fmt.Errorf("findings of record %d: %w", r.Record, err)
		}
	}
	return out, nil
}

// Tally is what a route has done since a time.
type Tally struct {
	Route     string     `db:"route"`
	Pickups   int64      `db:"pickups"`
	In        int64      `db:"records_in"`
	Good      int64      `db:"good"`
	Rejected  int64      `db:"rejected"`
	Filtered  int64      `db:"filtered"`
	Merged    int64      `db:"merged"`
	Whole     int64      `db:"whole"`
	Held      int64      `db:"held"`
	Uncertain int64      `db:"uncertain"`
	Open      int64      `db:"open"`
	Last      *time.Time `db:"last"`
}

// Tallies sums up each route's pickups since a time, to the quarter of an hour.
// What is open, held or uncertain is counted whenever it came.
func (s *Store) Tallies(ctx context.Context, since time.Time) (map[string]Tally, error) {
	var rows []Tally
	err := s.lists.SelectContext(ctx, &rows, `with t as (select route, sum(pickups)::bigint as pickups, sum(records_in)::bigint as records_in, sum(good)::bigint as good, sum(rejected)::bigint as rejected, sum(filtered)::bigint as filtered, sum(merged)::bigint as merged, sum(whole)::bigint as whole
			from tallies where quarter >= $1 group by route),
		o as (select route, count(*) filter (where state = 'held') as held, count(*) filter (where state = 'uncertain') as uncertain, count(*) filter (where state in ('claimed', 'taken', 'committed')) as open
			from pickups where state in ('claimed', 'taken', 'committed', 'held', 'uncertain') group by route)
		select r.name as route, coalesce(pickups, 0) as pickups, coalesce(records_in, 0) as records_in, coalesce(good, 0) as good, coalesce(rejected, 0) as rejected, coalesce(filtered, 0) as filtered, coalesce(merged, 0) as merged, coalesce(whole, 0) as whole,
			coalesce(held, 0) as held, coalesce(uncertain, 0) as uncertain, coalesce(open, 0) as open, (select claimed_at from pickups p where p.route = r.name order by id desc limit 1) as last
		from routes r left join t on t.route = r.name left join o on o.route = r.name where r.removed_at is null`, since)
	out := map[string]Tally{}
	for _, r := range rows {
		out[r.Route] = r
	}
	return out, err
}

// Lane is a lane of a route in which something waits for a person or to be tried
// again.
type Lane struct {
	Route   string     `db:"route"`
	Lane    string     `db:"lane"`
	Pickup  int64      `db:"pickup"`
	Name    string     `db:"name"`
	State   string     `db:"state"`
	Reason  string     `db:"reason"`
	NextTry *time.Time `db:"next_try"`
	Behind  int64      `db:"behind"`
}

// HeldLanes lists the lanes whose first open pickup cannot go on.
func (s *Store) HeldLanes(ctx context.Context, route string) ([]Lane, error) {
	out := []Lane{}
	err := s.lists.SelectContext(ctx, &out, `with o as (select route, lane, id, name, state, reason, next_try, passed, row_number() over (partition by route, lane order by id) as place, count(*) over (partition by route, lane) as members
			from pickups where state in ('claimed', 'taken', 'committed', 'held', 'uncertain') and lane is not null and not passed and ($1 = '' or route = $1))
		select route, lane, id as pickup, name, state, reason, next_try, members - 1 as behind from o where place = 1 and state in ('held', 'uncertain') order by route, id limit 500`, route)
	return out, err
}

// Overtakes gives the latest delivered pickup of a pickup's lane if it is
// younger: running the older one again would overtake it. It is 0 if none is.
func (s *Store) Overtakes(ctx context.Context, pickup int64) (younger int64, err error) {
	err = s.lists.GetContext(ctx, &younger, `select coalesce((select o.id from pickups o where o.route = p.route and o.lane = p.lane and o.id > p.id and o.state = 'delivered' order by o.id desc limit 1), 0) from pickups p where p.id = $1`, pickup)
	return younger, notFound(err)
}
