package store

import (
	"context"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"
)

// Said is who decides something, and why. Both may be empty.
type Said struct{ By, Because string }

// Act is something that a person did to a route or a pickup.
type Act struct {
	ID      int64     `db:"id"`
	At      time.Time `db:"at"`
	Route   string    `db:"route"`
	Pickup  *int64    `db:"pickup"`
	What    string    `db:"what"`
	By      string    `db:"by_whom"`
	Because string    `db:"because"`
}

// act notes in a transaction what somebody does.
func act(ctx context.Context, tx *sqlx.Tx, route string, pickup *int64, what string, said Said) error {
	_, err := tx.ExecContext(ctx, `insert into acts (route, pickup, what, by_whom, because) values ($1, $2, $3, $4, $5)`, route, pickup, what, Readable(said.By), Readable(said.Because))
	return err
}

// Acts lists what people did to a route, or with a pickup's number to that, newest first.
func (s *Store) Acts(ctx context.Context, route string, pickup int64, limit int) ([]Act, error) {
	out := []Act{}
	condition, of := `route = $1 and pickup is null`, any(route)
	if pickup != 0 {
		condition, of = `pickup = $1`, pickup
	}
	err := s.db.SelectContext(ctx, &out, `select id, at, route, pickup, what, by_whom, because from acts where `+condition+` order by id desc limit $2`, of, limit)
	return out, err
}

// idle says why a route is not at rest, nil if it is.
func idle(route string, running, stopped bool, open int64) error {
	switch {
	case running:
		return fmt.Errorf("%w: %s is running; stop it first", ErrNotSo, route)
	case !stopped:
		return fmt.Errorf("%w: %s has not stopped yet; try again in a moment", ErrNotSo, route)
	case open > 0:
		return fmt.Errorf("%w: %d pickups of %s have not ended; decide about them first", ErrNotSo, open, route)
	}
	return nil
}

// Removal is what removing a route means.
type Removal struct {
	Route   string
	Running bool
	Open    int64
	Pickups int64
	Removed bool
}

// Remove takes a stopped route without open pickups off the list; with dry it only says
// what that means. What is known of its pickups stays. Publishing it brings it back.
func (s *Store) Remove(ctx context.Context, route string, dry bool, said Said) (Removal, error) {
	r := Removal{Route: route}
	err := s.in(ctx, "removing "+route, func(tx *sqlx.Tx) error {
		stopped := false // whoever leads it has stopped, and takes nothing any more
		if err := tx.QueryRowxContext(ctx, `select running, leader is null or applied >= version and applied_by = leader from routes where name = $1 and removed_at is null for update`, route).Scan(&r.Running, &stopped); err != nil {
			return notFound(err)
		}
		if err := tx.QueryRowxContext(ctx, `select count(*), count(*) filter (where state in ('claimed', 'taken', 'committed', 'held', 'uncertain')) + (select count(*) from fetches where route = $1 and state in ('claimed', 'fetched', 'placed')) from pickups where route = $1`, route).Scan(&r.Pickups, &r.Open); err != nil {
			return err
		}
		if dry {
			return nil
		}
		if err := idle(route, r.Running, stopped, r.Open); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `update routes set removed_at = now(), leader = null, paused_until = null, version = version + 1, changed_at = now() where name = $1`, route); err != nil {
			return err
		}
		r.Removed = true
		return act(ctx, tx, route, nil, "removed", said)
	})
	return r, s.noRoute(ctx, err, route)
}

// Renaming is what renaming a route means.
type Renaming struct {
	Route   string
	To      string
	Running bool
	Open    int64
	Pickups int64
	Renamed bool
}

// RenameRoute gives a stopped route without open pickups another name, with all that is known of it; with dry it only says
// what that means. Its revisions stay as they are.
func (s *Store) RenameRoute(ctx context.Context, route, to string, dry bool, said Said) (Renaming, error) {
	r := Renaming{Route: route, To: to}
	err := s.in(ctx, "renaming "+route, func(tx *sqlx.Tx) error {
		stopped := false // whoever leads it has stopped, and takes nothing any more
		if err := tx.QueryRowxContext(ctx, `select running, leader is null or applied >= version and applied_by = leader from routes where name = $1 and removed_at is null for update`, route).Scan(&r.Running, &stopped); err != nil {
			return notFound(err)
		}
		taken := false
		if err := tx.QueryRowxContext(ctx, `select count(*), count(*) filter (where state in ('claimed', 'taken', 'committed', 'held', 'uncertain')) + (select count(*) from fetches where route = $1 and state in ('claimed', 'fetched', 'placed')), exists (select 1 from routes where name = $2) or exists (select 1 from pickups where route = $2) from pickups where route = $1`, route, to).Scan(&r.Pickups, &r.Open, &taken); err != nil {
			return err
		}
		if taken {
			return fmt.Errorf("%w: there is or was a route %s already: what is known of the two would be mixed", ErrNotSo, to)
		}
		if dry {
			return nil
		}
		if err := idle(route, r.Running, stopped, r.Open); err != nil {
			return err
		}
		for _, statement := range renaming {
			if _, err := tx.ExecContext(ctx, statement, route, to); err != nil {
				return err
			}
		}
		r.Renamed = true
		return act(ctx, tx, to, nil, "renamed from "+route, said)
	})
	return r, s.noRoute(ctx, err, route)
}

// renaming are the statements that give a route another name. Files of revisions refer to revisions.
var renaming = func() []string {
	out := []string{
		`update routes set name = $2, leader = null, version = version + 1, changed_at = now() where name = $1`,
		`insert into revisions select (jsonb_populate_record(r, jsonb_build_object('route', $2::text))).* from revisions r where route = $1`,
	}
	for _, table := range []string{"revision_files", "pickups", "runs", "tallies", "left_files", "expected", "alerts", "legal_holds", "acts", "collections", "lookup_versions", "fetches"} {
		out = append(out, `update `+table+` set route = $2 where route = $1`)
	}
	return append(out, `delete from revisions where route = $1 and $2 <> ''`, `delete from news where route in ($1, $2)`)
}()

// RemovedRoutes are the routes that were removed and of which something is known.
func (s *Store) RemovedRoutes(ctx context.Context) ([]Route, error) {
	out := []Route{}
	err := s.db.SelectContext(ctx, &out, `select `+routeColumns+` where r.removed_at is not null order by r.name`)
	return out, err
}
