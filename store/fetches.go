package store

import (
	"context"
	"fmt"
	"time"
)

// Fetch is a file that is being fetched from a server, or that stays there and is known.
type Fetch struct {
	ID       int64      `db:"id"`
	Route    string     `db:"route"`
	Place    string     `db:"place"`
	Path     string     `db:"path"` // below the place
	RawPath  []byte     `db:"raw_path"`
	Size     int64      `db:"size"`
	Modified *time.Time `db:"modified"` // by the server; nil: it does not say
	Tag      string     `db:"tag"`
	Stays    bool       `db:"stays"`
	State    string     `db:"state"`
	SHA256   string     `db:"sha256"`
	By       int64      `db:"fetched_by"` // the node that has copied it
	Reason   string     `db:"reason"`
	GoneAt   *time.Time `db:"gone_at"` // since when what is known is not there any more; nil: it is
}

// Is tells whether a file of the server looks like the one that is meant: by its tag where there are tags, else by its time. The database
// keeps microseconds.
func (f *Fetch) Is(size int64, modified time.Time, tag string) bool {
	if f.Size != size || f.Tag != tag {
		return false
	}
	if tag != "" {
		return true
	}
	if (f.Modified == nil) != modified.IsZero() {
		return false
	}
	return f.Modified == nil || f.Modified.Truncate(time.Microsecond).Equal(modified.Truncate(time.Microsecond))
}

const fetchColumns = `id, route, place, path, size, modified, tag, stays, state, sha256, fetched_by, reason, gone_at, raw_path`

// Adopt makes a route's leader the one that goes on with what was begun to be fetched, and gives that and what stays at a
// place.
func (s *Store) Adopt(ctx context.Context, node int64, route, place string) (open, known []Fetch, err error) {
	err = s.db.SelectContext(ctx, &open, `update fetches set node = $1 where route = $2 and state in ('claimed', 'fetched', 'placed') and exists (select 1 from routes where name = $2 and leader = $1) returning `+fetchColumns, node, route)
	if err == nil {
		err = s.db.SelectContext(ctx, &known, `select `+fetchColumns+` from fetches where route = $1 and place = $2 and state = 'known'`, route, place)
	}
	if err != nil {
		return nil, nil, fmt.Errorf("looking for what was begun to be fetched: %w", err)
	}
	for _, list := range [][]Fetch{open, known} {
		for i := range list {
			list[i].Path, _ = named(list[i].Path, list[i].RawPath)
		}
	}
	return open, known, nil
}

// BeginFetches records that files are being fetched by a route's leader and gives their numbers: 0 for one that is being
// fetched already, or if the node does not lead the route.
func (s *Store) BeginFetches(ctx context.Context, node int64, list []Fetch) ([]int64, error) {
	n := len(list)
	if n == 0 {
		return nil, nil
	}
	paths, raws, sizes, modified, tags, stays := make([]string, n), make([][]byte, n), make([]int64, n), make([]*time.Time, n), make([]string, n), make([]bool, n)
	at := map[string]int{}
	for i, f := range list {
		at[f.Path] = i
		paths[i], raws[i], sizes[i], modified[i], tags[i], stays[i] = Readable(f.Path), rawPath(f.Path), f.Size, f.Modified, Readable(f.Tag), f.Stays
	}
	var rows []Fetch
	err := s.quick.SelectContext(ctx, &rows, `insert into fetches (route, node, place, path, size, modified, tag, stays, state, raw_path)
		select $2, $1, $3, path, size, modified, tag, stays, 'claimed', raw from unnest($4::text[], $5::bigint[], $6::timestamptz[], $7::text[], $8::bool[], $9::bytea[]) with ordinality as t (path, size, modified, tag, stays, raw, ord)
		where exists (select 1 from routes where name = $2 and leader = $1) order by ord on conflict do nothing returning id, path, raw_path`, node, list[0].Route, list[0].Place, paths, sizes, modified, tags, stays, raws)
	if err != nil {
		return nil, fmt.Errorf("claiming files of a server: %w", err)
	}
	ids := make([]int64, n)
	for _, r := range rows {
		path, _ := named(r.Path, r.RawPath)
		ids[at[path]] = r.ID
	}
	return ids, nil
}

// Fetched records that files lie beside their inbox, whole and durable. It fails if one of them is not the node's any
// more.
func (s *Store) Fetched(ctx context.Context, node int64, list []Fetch) error {
	n := len(list)
	ids, sums, sizes := make([]int64, n), make([]string, n), make([]int64, n)
	for i, f := range list {
		ids[i], sums[i], sizes[i] = f.ID, f.SHA256, f.Size
	}
	done, err := s.db.ExecContext(ctx, fetched, node, ids, sums, sizes)
	if err != nil {
		return fmt.Errorf("recording that files were fetched: %w", err)
	}
	if k, err := done.RowsAffected(); err != nil || k != int64(n) {
		return fmt.Errorf("recording that files were fetched: %w", ErrNotOurs)
	}
	return nil
}

const fetched = `update fetches f set state = 'fetched', sha256 = t.sum, size = t.size, fetched_by = $1, reason = '' from unnest($2::bigint[], $3::text[], $4::bigint[]) as t (id, sum, size)
	where f.id = t.id and f.node = $1 and ` + fetchStateOf + ` in ('claimed', 'fetched')`

// fetchStateOf is the state of a fetch f as stateOf is that of a pickup.
const fetchStateOf = `(f.state || '')`

// EndFetches records the states that files have come to, and why. One that is known from now on takes the place of what was
// known under its name.
func (s *Store) EndFetches(ctx context.Context, node int64, list []Fetch) error {
	n := len(list)
	ids, states, reasons, sums := make([]int64, n), make([]string, n), make([]string, n), make([]string, n)
	for i, f := range list {
		ids[i], states[i], reasons[i], sums[i] = f.ID, f.State, Readable(f.Reason), f.SHA256
	}
	_, err := s.quick.ExecContext(ctx, known, node, ids, states)
	if err == nil {
		_, err = s.quick.ExecContext(ctx, `update fetches f set state = t.state, reason = t.reason, sha256 = t.sum, ended_at = case when t.state in ('done', 'known', 'withdrawn') then now() end
			from unnest($2::bigint[], $3::text[], $4::text[], $5::text[]) as t (id, state, reason, sum) where f.id = t.id and f.node = $1`, node, ids, states, reasons, sums)
	}
	if err != nil {
		return fmt.Errorf("recording what became of fetched files: %w", err)
	}
	return nil
}

// known removes what was known of files ($2) under their names, if their new states ($3) are that they are known. There is
// one at most of each name.
const known = `delete from fetches where id in (select (select k.id from fetches k where k.state = 'known' and k.route = f.route and k.place = f.place and k.path = f.path and coalesce(k.raw_path, '') = coalesce(f.raw_path, '') and k.id <> f.id)
	from unnest($2::bigint[], $3::text[]) as t (id, state) join fetches f on f.id = t.id and f.node = $1 where t.state = 'known')`

// ForgottenAfter is for how many days what is known must have been gone from its server until it is forgotten.
const ForgottenAfter = 90

// Gone records which of what is known is not on its server any more, and which is there again.
func (s *Store) Gone(ctx context.Context, gone, back []int64) error {
	_, err := s.quick.ExecContext(ctx, leave, gone, back)
	if err != nil {
		return fmt.Errorf("recording what is not on its server any more: %w", err)
	}
	return nil
}

const leave = `update fetches f set gone_at = case when id = any($1::bigint[]) then now() end where id = any($1 || $2::bigint[]) and ` + fetchStateOf + ` = 'known'`

// OpenFetches tells which of some files are still being fetched.
func (s *Store) OpenFetches(ctx context.Context, ids []int64) (map[int64]bool, error) {
	var open []int64
	if err := s.db.SelectContext(ctx, &open, openOf, ids); err != nil {
		return nil, fmt.Errorf("asking which files are being fetched: %w", err)
	}
	out := map[int64]bool{}
	for _, id := range open {
		out[id] = true
	}
	return out, nil
}

const openOf = `select id from fetches f where id = any($1::bigint[]) and ` + fetchStateOf + ` in ('claimed', 'fetched', 'placed')`
