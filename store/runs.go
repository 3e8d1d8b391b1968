package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jmoiron/sqlx"

	"ydrion/core/finding"
	"ydrion/core/flow"
)

// Claim is a file that a route is about to take.
type Claim struct {
	Route    string    `db:"route"`
	Path     string    `db:"path"`
	Folder   string    `db:"folder"`
	Name     string    `db:"name"`
	Size     int64     `db:"size"`
	Modified time.Time `db:"modified"`
	Device   uint64    `db:"device"`
	Inode    uint64    `db:"inode"`
	Noticed  time.Time `db:"noticed_at"`
}

// Claim records that a file is being taken and gives the pickup's number. It is
// false if there is an open claim on the same file already.
func (s *Store) Claim(ctx context.Context, c Claim) (int64, bool, error) {
	var id int64
	err := s.quick.GetContext(ctx, &id, `insert into pickups (route, path, folder, name, size, modified, device, inode, state, noticed_at)
		values ($1, $2, $3, $4, $5, $6, $7, $8, 'claimed', $9) returning id`,
		c.Route, c.Path, c.Folder, c.Name, c.Size, c.Modified, fmt.Sprint(c.Device), fmt.Sprint(c.Inode), c.Noticed)
	if duplicate(err) {
		return 0, false, nil
	}
	if err != nil {
		return 0, false, fmt.Errorf("claiming %s: %w", c.Path, err)
	}
	return id, true, nil
}

// Withdrawn ends a claim on a file that went away before it was taken.
func (s *Store) Withdrawn(ctx context.Context, pickup int64, reason string) error {
	_, err := s.quick.ExecContext(ctx, `update pickups set state = 'withdrawn', reason = $2, ended_at = now() where id = $1 and state = 'claimed'`, pickup, reason)
	return err
}

// Begun is a run that has begun.
type Begun struct {
	Run int64 `db:"run"`
	// An earlier pickup of the route with the same content, 0 if there is none.
	Before     int64  `db:"before"`
	BeforeName string `db:"before_name"`
}

// Taken records a file's content and begins its first run.
func (s *Store) Taken(ctx context.Context, pickup int64, sha256 string, size int64, r NewRun) (Begun, error) {
	var b Begun
	err := s.quick.GetContext(ctx, &b, `with r as (`+beginRun+`), l as (insert into run_pickups (run, pickup, ord) select id, $5, 1 from r),
		b as (select id, name from pickups where sha256 = $6 and route = $1 and id < $5 order by id limit 1),
		p as (update pickups set state = 'taken', sha256 = $6, size = $7, run = r.id, taken_at = now() from r where pickups.id = $5)
		select r.id as run, coalesce(b.id, 0) as before, coalesce(b.name, '') as before_name from r left join b on true`,
		r.Route, r.Revision, r.Again, r.Now, pickup, sha256, size)
	if err != nil {
		return b, fmt.Errorf("recording that the file was taken: %w", err)
	}
	return b, nil
}

// NewRun is what a run begins with.
type NewRun struct {
	Route, Revision string
	Again           bool
	Now             time.Time
}

const beginRun = `insert into runs (route, revision, state, again, facts_now) values ($1, $2, 'working', $3, $4) returning id`

// Again begins another run of a pickup that has ended.
func (s *Store) Again(ctx context.Context, pickup int64, r NewRun) (int64, error) {
	var id int64
	err := s.in(ctx, "beginning another run", func(tx *sqlx.Tx) error {
		var state string
		if err := tx.GetContext(ctx, &state, `select state from pickups where id = $1 for update`, pickup); err != nil {
			return notFound(err)
		}
		if state != "delivered" && state != "rejected" {
			return fmt.Errorf("%w: it is %s", ErrBusy, state)
		}
		if err := tx.GetContext(ctx, &id, beginRun, r.Route, r.Revision, r.Again, r.Now); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `insert into run_pickups (run, pickup, ord) values ($1, $2, 1)`, id, pickup); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `update pickups set state = 'taken', reason = '', run = $2, ended_at = null where id = $1`, pickup, id)
		return err
	})
	return id, err
}

// ErrBusy says that a pickup cannot be run again now.
var ErrBusy = errors.New("the pickup has not ended")

// Held records why a run cannot go on; it will be tried again.
func (s *Store) Held(ctx context.Context, pickup int64, reason string) error {
	_, err := s.db.ExecContext(ctx, `update pickups set state = case when state = 'taken' then 'held' else state end, reason = $2 where id = $1 and state in ('claimed', 'taken', 'held', 'committed')`, pickup, reason)
	return err
}

// Sequence hands out n numbers of a route to a run and journals them. A run
// that is started over gets the numbers of its earlier try.
func (s *Store) Sequence(ctx context.Context, route string, run int64, ord, n int) (first int64, err error) {
	err = s.in(ctx, "handing out sequence numbers", func(tx *sqlx.Tx) error {
		var had []struct{ First, Count int64 }
		if err := tx.SelectContext(ctx, &had, `select first, count from run_sequences where run = $1 and ord = $2`, run, ord); err != nil {
			return err
		}
		if len(had) == 1 && had[0].Count >= int64(n) {
			first = had[0].First
			return nil
		}
		if err := tx.GetContext(ctx, &first, `update routes set sequence = sequence + $2 where name = $1 returning sequence - $2`, route, n); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `insert into run_sequences (run, ord, first, count) values ($1, $2, $3, $4) on conflict (run, ord) do update set first = excluded.first, count = excluded.count`, run, ord, first, n)
		return err
	})
	return first, err
}

// Delivery is one output of a run.
type Delivery struct {
	Run         int64      `db:"run" json:"run"`
	Ord         int        `db:"ord" json:"number"`
	Kind        string     `db:"kind" json:"kind" enum:"good,rejected,findings,report"`
	Folder      string     `db:"folder" json:"folder"`
	Name        string     `db:"name" json:"name"`
	Temporary   string     `db:"temporary" json:"-"`
	Size        int64      `db:"size" json:"size" doc:"bytes"`
	SHA256      string     `db:"sha256" json:"sha256"`
	Records     int64      `db:"records" json:"records"`
	FirstRecord int64      `db:"first_record" json:"first_record"`
	PublishedAt *time.Time `db:"published_at" json:"published_at,omitempty"`
}

// Reject is a record that did not pass.
type Reject struct {
	Record   int64        `json:"record"`
	Line     int64        `json:"line"`
	Raw      []byte       `json:"-"`
	Findings finding.List `json:"findings"`
}

// Commit is what a run has come to, before anything is visible.
type Commit struct {
	Run, Pickup int64
	Balance     flow.Balance
	Whole       bool
	Findings    finding.List
	Deliveries  []Delivery
	Rejects     []Reject
}

// chunk is how many rows go into the database in one statement.
const chunk = 1000

// Commit records a run's outputs in one transaction with its state. From then
// on the run is only published, never made again. It is one exchange with the
// database: either all of it is there afterwards or nothing.
func (s *Store) Commit(ctx context.Context, c Commit) error {
	findings, err := json.Marshal(append(finding.List{}, c.Findings...))
	if err != nil {
		return err
	}
	var batch pgx.Batch
	b := c.Balance
	batch.Queue(`update runs set state = 'committed', reason = '', committed_at = now(), records_in = $2, good = $3, rejected = $4, filtered = $5, warnings = $6, bytes = $7, whole = $8, findings = $9::text::jsonb
		where id = $1 and state = 'working'`, c.Run, b.In, b.Good, b.Rejected, b.Filtered, b.Warnings, b.Bytes, c.Whole, string(findings))
	// A run that is not there, or not working any more, fails the whole.
	batch.Queue(`select 1 / count(*) from runs where id = $1 and state = 'committed'`, c.Run)
	queueDeliveries(&batch, c.Deliveries)
	if err := queueRejects(&batch, c.Run, c.Rejects); err != nil {
		return err
	}
	batch.Queue(`update pickups set state = 'committed', reason = $2 where id = $1`, c.Pickup, c.reason())
	if err := s.pools[0].SendBatch(ctx, &batch).Close(); err != nil {
		return fmt.Errorf("committing the run: %w", err)
	}
	return nil
}

// KeepRejects stores a portion of a run's rejected records before its commit.
// The first portion replaces what an earlier try of the run has left.
func (s *Store) KeepRejects(ctx context.Context, run int64, list []Reject, first bool) error {
	var batch pgx.Batch
	if first {
		batch.Queue(`delete from rejects where run = $1`, run)
	}
	if err := queueRejects(&batch, run, list); err != nil {
		return err
	}
	if err := s.pools[1].SendBatch(ctx, &batch).Close(); err != nil {
		return fmt.Errorf("keeping rejected records: %w", err)
	}
	return nil
}

// reason is why a file was rejected whole, in a sentence.
func (c Commit) reason() string {
	for _, f := range c.Findings {
		if c.Whole && f.Severity == finding.Error {
			return f.Message
		}
	}
	return ""
}

// queueDeliveries adds deliveries in chunks, as arrays.
func queueDeliveries(batch *pgx.Batch, all []Delivery) {
	for len(all) > 0 {
		n := min(len(all), chunk)
		runs, ords, sizes, records, firsts := make([]int64, n), make([]int, n), make([]int64, n), make([]int64, n), make([]int64, n)
		kinds, folders, names, temporaries, sums := make([]string, n), make([]string, n), make([]string, n), make([]string, n), make([]string, n)
		for i, d := range all[:n] {
			runs[i], ords[i], sizes[i], records[i], firsts[i] = d.Run, d.Ord, d.Size, d.Records, d.FirstRecord
			kinds[i], folders[i], names[i], temporaries[i], sums[i] = d.Kind, d.Folder, d.Name, d.Temporary, d.SHA256
		}
		batch.Queue(`insert into deliveries (run, ord, kind, folder, name, temporary, size, sha256, records, first_record)
			select * from unnest($1::bigint[], $2::int[], $3::text[], $4::text[], $5::text[], $6::text[], $7::bigint[], $8::text[], $9::bigint[], $10::bigint[])`,
			runs, ords, kinds, folders, names, temporaries, sizes, sums, records, firsts)
		all = all[n:]
	}
}

func queueRejects(batch *pgx.Batch, run int64, all []Reject) error {
	for len(all) > 0 {
		n := min(len(all), chunk)
		records, lines := make([]int64, n), make([]int64, n)
		raws, findings := make([][]byte, n), make([]string, n)
		for i, r := range all[:n] {
			f, err := json.Marshal(r.Findings)
			if err != nil {
				return err
			}
			records[i], lines[i], raws[i], findings[i] = r.Record, r.Line, r.Raw, string(f)
		}
		batch.Queue(`insert into rejects (run, record, line, raw, findings)
			select $1, record, line, raw, findings::jsonb from unnest($2::bigint[], $3::bigint[], $4::bytea[], $5::text[]) as t (record, line, raw, findings)
			on conflict (run, record) do update set line = excluded.line, raw = excluded.raw, findings = excluded.findings`, run, records, lines, raws, findings)
		all = all[n:]
	}
	return nil
}

// Committed tells whether a run has got as far as its commit: after a lost
// connection nobody knows.
func (s *Store) Committed(ctx context.Context, run int64) (bool, error) {
	var state string
	err := s.db.GetContext(ctx, &state, `select state from runs where id = $1`, run)
	return state == "committed" || state == "published", notFound(err)
}

// Unpublished gives the outputs of a run that are still to be made visible.
func (s *Store) Unpublished(ctx context.Context, run int64) ([]Delivery, error) {
	out := []Delivery{}
	err := s.db.SelectContext(ctx, &out, `select run, ord, kind, folder, name, temporary, size, sha256, records, first_record, published_at from deliveries where run = $1 and published_at is null order by ord`, run)
	return out, err
}

// Rename records that an output will get another name, before it gets it.
func (s *Store) Rename(ctx context.Context, run int64, ord int, name string) error {
	_, err := s.db.ExecContext(ctx, `update deliveries set name = $3 where run = $1 and ord = $2`, run, ord, name)
	return err
}

// Published records that all outputs of a run are visible and ends the pickup,
// whose state it gives. Should this record be lost, publishing again finds every
// output published.
func (s *Store) Published(ctx context.Context, run, pickup int64) (state string, err error) {
	err = s.quick.GetContext(ctx, &state, `with d as (update deliveries set published_at = now() where run = $1 and published_at is null),
		r as (update runs set state = 'published', ended_at = now() where id = $1 returning whole, good, rejected)
		update pickups set state = case when r.whole or (r.good = 0 and r.rejected > 0) then 'rejected' else 'delivered' end, ended_at = now() from r where pickups.id = $2 returning state`, run, pickup)
	if err != nil {
		return "", fmt.Errorf("recording that the run was published: %w", err)
	}
	return state, nil
}

// Pending is a pickup that was not at its end when the service stopped.
type Pending struct {
	Pickup int64   `db:"id"`
	Route  string  `db:"route"`
	Path   string  `db:"path"`
	Folder string  `db:"folder"`
	Name   string  `db:"name"`
	State  string  `db:"state"`
	SHA256 *string `db:"sha256"`
	Size   int64   `db:"size"`
	Run    *int64  `db:"run"`
	// Of the run, if there is one.
	Revision *string    `db:"revision"`
	Now      *time.Time `db:"facts_now"`
	// An earlier pickup of the route with the same content.
	Before     int64  `db:"before"`
	BeforeName string `db:"before_name"`
}

const openColumns = `select p.id, p.route, p.path, p.folder, p.name, p.state, p.sha256, p.size, p.run, r.revision, r.facts_now, coalesce(b.id, 0) as before, coalesce(b.name, '') as before_name from pickups p left join runs r on r.id = p.run
	left join lateral (select id, name from pickups o where o.sha256 = p.sha256 and o.route = p.route and o.id < p.id order by o.id limit 1) b on true`

// Unfinished lists the open pickups in the order in which they were claimed.
func (s *Store) Unfinished(ctx context.Context) ([]Pending, error) {
	out := []Pending{}
	err := s.db.SelectContext(ctx, &out, openColumns+` where p.state in ('claimed', 'taken', 'committed', 'held') order by p.id`)
	return out, err
}

// OpenPickup gives one pickup as it has to be gone on with.
func (s *Store) OpenPickup(ctx context.Context, id int64) (Pending, error) {
	var o Pending
	err := s.db.GetContext(ctx, &o, openColumns+` where p.id = $1`, id)
	return o, notFound(err)
}

// Sequences gives the first numbers that were handed out to a run, in order.
func (s *Store) Sequences(ctx context.Context, run int64) ([]int64, error) {
	var out []int64
	err := s.db.SelectContext(ctx, &out, `select first from run_sequences where run = $1 order by ord`, run)
	return out, err
}

// OpenPaths gives the paths of the open pickups among some numbers.
func (s *Store) OpenPaths(ctx context.Context, ids []int64) (map[int64]string, error) {
	var rows []struct {
		ID   int64
		Path string
	}
	err := s.db.SelectContext(ctx, &rows, `select id, path from pickups where id = any($1) and state in ('claimed', 'taken', 'committed', 'held')`, ids)
	out := map[int64]string{}
	for _, r := range rows {
		out[r.ID] = r.Path
	}
	return out, err
}
