package store

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"
)

// Expiry says what of a route has been kept long enough: what ended before
// these times. The zero time keeps.
type Expiry struct {
	Route                       string
	Originals, Rejects, Records time.Time
}

// Purged is what was purged, or would be.
type Purged struct {
	Route     string
	Originals int64
	Bytes     int64
	Rejects   int64
	Pickups   int64
	Held      int64
}

const (
	ended    = `p.route = $1 and p.ended_at < $2 and p.state in ('delivered', 'rejected', 'set aside', 'withdrawn')`
	legally  = `exists (select 1 from legal_holds h where h.lifted_at is null and (h.pickup = p.id or h.pickup = 0 and (h.route = p.route or h.route = '')))`
	purgeMax = 1000 // pickups at a time: nobody waits long for a purge

	forgotten = ended + ` and (not p.archived or p.sha256 is null) and not ` + legally
)

// Those that were worked on together are removed at once: none of them if one is still needed.
var allForgotten = forgotten + ` and not (p.together and exists (select 1 from run_pickups a join run_pickups b on b.run = a.run join pickups o on o.id = b.pickup where a.pickup = p.id and o.id <> p.id and not (` + strings.ReplaceAll(forgotten, "p.", "o.") + `)))`

// Original is a file of the archive that no pickup needs any more.
type Original struct {
	SHA256 string `db:"sha256"`
	Size   int64  `db:"size"`
}

// ExpiredOriginals gives up the originals of up to a thousand pickups, and says
// whose content no other pickup still needs. Those files can be removed.
func (s *Store) ExpiredOriginals(ctx context.Context, e Expiry) (gone []Original, more bool, err error) {
	err = s.in(ctx, "giving up originals", func(tx *sqlx.Tx) error {
		var ids []int64
		if err := tx.SelectContext(ctx, &ids, `select p.id from pickups p where `+ended+` and p.archived and not `+legally+` order by p.id limit $3 for update skip locked`, e.Route, e.Originals, purgeMax); err != nil {
			return err
		}
		more = len(ids) == purgeMax
		if len(ids) == 0 {
			return nil
		}
		var sums []string
		if err := tx.SelectContext(ctx, &sums, `update pickups set archived = false where id = any($1) returning coalesce(sha256, '')`, ids); err != nil {
			return err
		}
		return tx.SelectContext(ctx, &gone, `select distinct p.sha256, p.size from pickups p where p.sha256 = any($1) and p.sha256 <> '' and not exists (select 1 from pickups o where o.sha256 = p.sha256 and o.archived) and not exists (select 1 from left_files l where l.sha256 = p.sha256)`, sums)
	})
	return gone, more, err
}

// Needed tells whether a pickup still needs an original: one may have come while
// it was being given up.
func (s *Store) Needed(ctx context.Context, sha256 string) (needed bool, err error) {
	err = s.db.GetContext(ctx, &needed, `select exists (select 1 from pickups where sha256 = $1 and archived) or exists (select 1 from left_files where sha256 = $1)`, sha256)
	return needed, err
}

// ExpiredRejects removes the rejected records of up to a thousand pickups.
func (s *Store) ExpiredRejects(ctx context.Context, e Expiry) (n int64, err error) {
	r, err := s.db.ExecContext(ctx, `delete from rejects where run in (select rp.run from pickups p join run_pickups rp on rp.pickup = p.id where `+ended+` and not `+legally+` and exists (select 1 from rejects j where j.run = rp.run) order by p.id limit $3)`, e.Route, e.Rejects, purgeMax)
	if err != nil {
		return 0, err
	}
	return r.RowsAffected()
}

// ExpiredPickups removes up to a thousand pickups with all about them, once
// their originals are gone.
func (s *Store) ExpiredPickups(ctx context.Context, e Expiry) (n int64, err error) {
	err = s.in(ctx, "removing old pickups", func(tx *sqlx.Tx) error {
		var ids, runs []int64
		if err := tx.SelectContext(ctx, &ids, `select p.id from pickups p where `+allForgotten+` order by p.id limit $3 for update of p skip locked`, e.Route, e.Records, purgeMax); err != nil {
			return err
		}
		n = int64(len(ids))
		if n == 0 {
			return nil
		}
		if err := tx.SelectContext(ctx, &runs, `select run from run_pickups where pickup = any($1)`, ids); err != nil {
			return err
		}
		if err := tx.SelectContext(ctx, &ids, `select distinct pickup from run_pickups where run = any($1) union select unnest($2::bigint[])`, runs, ids); err != nil {
			return err
		}
		for _, statement := range []string{`delete from rejects where run = any($1)`, `delete from deliveries where run = any($1)`, `delete from run_sequences where run = any($1)`, `delete from run_lookups where run = any($1)`, `delete from run_pickups where run = any($1)`, `delete from runs where id = any($1)`} {
			if _, err := tx.ExecContext(ctx, statement, runs); err != nil {
				return err
			}
		}
		if _, err := tx.ExecContext(ctx, `delete from pickups where id = any($1)`, ids); err != nil {
			return err
		}
		// Nobody asks any more what runs have worked with that are gone.
		_, err := tx.ExecContext(ctx, `delete from lookup_versions v where exists (select 1 from lookup_versions n where n.name = v.name and n.version > v.version) and not exists (select 1 from run_lookups l where l.name = v.name and l.version = v.version)`)
		return err
	})
	return n, err
}

// WouldPurge counts what a purge would remove.
func (s *Store) WouldPurge(ctx context.Context, e Expiry) (Purged, error) {
	out := Purged{Route: e.Route}
	if err := s.db.rows(ctx, 0, `select count(*), coalesce(sum(p.size), 0)::bigint from pickups p where `+ended+` and p.archived and p.sha256 is not null and not `+legally, []any{e.Route, e.Originals}, []any{&out.Originals, &out.Bytes}, func() error { return nil }); err != nil {
		return out, err
	}
	if err := s.db.GetContext(ctx, &out.Rejects, `select count(*) from pickups p join run_pickups rp on rp.pickup = p.id join rejects j on j.run = rp.run where `+ended+` and not `+legally, e.Route, e.Rejects); err != nil {
		return out, err
	}
	if err := s.db.GetContext(ctx, &out.Pickups, `select count(*) from pickups p where `+ended+` and not `+legally, e.Route, e.Records); err != nil {
		return out, err
	}
	latest := e.Originals
	for _, t := range []time.Time{e.Rejects, e.Records} {
		if t.After(latest) {
			latest = t
		}
	}
	err := s.db.GetContext(ctx, &out.Held, `select count(*) from pickups p where `+ended+` and `+legally, e.Route, latest)
	return out, err
}

// LegalHold keeps things from being purged.
type LegalHold struct {
	ID       int64      `db:"id"`
	Route    string     `db:"route"`
	Pickup   int64      `db:"pickup"`
	Because  string     `db:"because"`
	PlacedAt time.Time  `db:"placed_at"`
	LiftedAt *time.Time `db:"lifted_at"`
}

// PlaceLegalHold keeps a pickup, a route's pickups or all from being purged.
func (s *Store) PlaceLegalHold(ctx context.Context, h LegalHold) (id int64, err error) {
	err = s.db.GetContext(ctx, &id, `insert into legal_holds (route, pickup, because) select $1::text, $2::bigint, $3 where ($1::text = '' or exists (select 1 from routes where name = $1)) and ($2::bigint = 0 or exists (select 1 from pickups where id = $2)) returning id`, h.Route, h.Pickup, h.Because)
	return id, notFound(err)
}

// LiftLegalHold ends a legal hold.
func (s *Store) LiftLegalHold(ctx context.Context, id int64) error {
	return s.one(s.db.ExecContext(ctx, `update legal_holds set lifted_at = now() where id = $1 and lifted_at is null`, id))
}

// LegalHolds lists legal holds, newest first.
func (s *Store) LegalHolds(ctx context.Context) ([]LegalHold, error) {
	out := []LegalHold{}
	err := s.db.SelectContext(ctx, &out, `select id, route, pickup, because, placed_at, lifted_at from legal_holds order by id desc limit 500`)
	return out, err
}

// Dropped gives up the original of a pickup that its route does not keep, and
// tells whether the file can be removed.
func (s *Store) Dropped(ctx context.Context, pickup int64) (gone bool, err error) {
	err = s.db.GetContext(ctx, &gone, `with d as (update pickups p set archived = false where id = $1 and not `+legally+` returning sha256)
		select not exists (select 1 from pickups o, d where o.sha256 = d.sha256 and o.archived and o.id <> $1) and exists (select 1 from d)`, pickup)
	if errors.Is(notFound(err), ErrNotFound) {
		return false, nil
	}
	return gone, err
}

// Tidy removes what is only about the service itself and has long been over:
// nodes, and what was fetched from servers, after a week, what is known and has been gone from its server after 90 days, alerts, deadlines and
// counts after two years.
func (s *Store) Tidy(ctx context.Context) error {
	for _, statement := range []string{
		`delete from fetches where state in ('done', 'withdrawn') and ended_at < now() - interval '7 days'`,
		fmt.Sprintf(`delete from fetches where state = 'known' and gone_at < now() - interval '%d days'`, ForgottenAfter),
		`delete from nodes where ended_at < now() - interval '7 days'`,
		`delete from alerts where at < now() - interval '2 years' and (seen_at is not null or ended_at is not null)`,
		`delete from expected where due_at < now() - interval '2 years'`,
		`delete from tallies where quarter < now() - interval '2 years'`,
	} {
		if _, err := s.quick.ExecContext(ctx, statement); err != nil {
			return err
		}
	}
	return nil
}

// IsTaken tells whether a content is that of a pickup that is being worked on.
func (s *Store) IsTaken(ctx context.Context, sha256 string) (is bool, err error) {
	err = s.db.GetContext(ctx, &is, `select exists (select 1 from pickups where sha256 = $1 and state in ('taken', 'held'))`, sha256)
	return is, err
}

// NotArchived notes that originals are not kept.
func (s *Store) NotArchived(ctx context.Context, sums []string) error {
	_, err := s.db.ExecContext(ctx, `update pickups set archived = false where sha256 = any($1)`, sums)
	return err
}
