package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
)

// Version is a content of a lookup that a route has delivered.
type Version struct {
	Name    string    `db:"name"`
	Version int       `db:"version"` // from 1; 0: none has come
	At      time.Time `db:"at"`
	SHA256  string    `db:"sha256"`
	Rows    int64     `db:"rows"`
	Size    int64     `db:"size"` // bytes
	Route   string    `db:"route"`
	Run     int64     `db:"run"`
	Pickup  int64     `db:"pickup"`
	Content string    `db:"content"`
}

const versionColumns = `v.name, v.version, v.at, v.sha256, v.rows, octet_length(v.content) as size, v.route, v.run, coalesce((select pickup from run_pickups rp where rp.run = v.run and rp.ord = 1), 0) as pickup`

// queueVersions adds contents of lookups that a run has brought, each as the newest, unless a later run's is there already.
func queueVersions(batch *pgx.Batch, c Commit) {
	for _, v := range c.Versions {
		batch.Queue(`insert into lookup_versions (name, version, sha256, rows, content, route, run) select $1, coalesce(max(version), 0) + 1, $2, $3, $4, (select route from runs where id = $5), $5 from lookup_versions where name = $1 having coalesce(max(run), 0) <= $5`, v.Name, v.SHA256, v.Rows, v.Content, c.Run)
	}
}

// queueOvertaken says of contents that a run has brought whether a later run's was there already.
func queueOvertaken(batch *pgx.Batch, c Commit) {
	for _, v := range c.Versions {
		batch.Queue(`update deliveries d set state = 'overtaken', published_at = null, reason = 'that of pickup ' || p.id || ' (' || p.name || '), which came later, is there'
			from (select max(run) as run from lookup_versions where name = $2) l join run_pickups rp on rp.run = l.run and rp.ord = 1 join pickups p on p.id = rp.pickup
			where d.run = $1 and d.folder = 'lookup' and d.name = $2 and l.run > $1`, c.Run, v.Name)
	}
}

// Pin notes which contents of lookups a run works with: the newest ones, or those that it worked with before if it is the
// same once more. It gives those that there are.
func (s *Store) Pin(ctx context.Context, run int64, names []string) (map[string]Version, error) {
	var rows []Version
	err := s.db.SelectContext(ctx, &rows, `with newest as (select distinct on (name) name, version from lookup_versions where name = any($2) order by name, version desc),
		same as (select same_as from runs where id = $1),
		wanted as (select l.name, l.version from run_lookups l join same on l.run = same.same_as where l.name = any($2) union all select name, version from newest where (select same_as from same) is null),
		pinned as (insert into run_lookups (run, name, version) select $1, name, version from wanted on conflict (run, name) do update set version = excluded.version)
		select `+versionColumns+`, v.content from wanted w join lookup_versions v on v.name = w.name and v.version = w.version`, run, names)
	return byName(rows), err
}

// Pinned gives the contents of lookups that a run worked with.
func (s *Store) Pinned(ctx context.Context, run int64) (map[string]Version, error) {
	var rows []Version
	err := s.lists.SelectContext(ctx, &rows, `select `+versionColumns+`, v.content from run_lookups l join lookup_versions v on v.name = l.name and v.version = l.version where l.run = $1`, run)
	return byName(rows), err
}

func byName(rows []Version) map[string]Version {
	out := map[string]Version{}
	for _, v := range rows {
		out[v.Name] = v
	}
	return out
}

// Versions lists what is known of the contents of lookups that routes have delivered, the newest first: of one, or of
// all the newest alone.
func (s *Store) Versions(ctx context.Context, name string) ([]Version, error) {
	out := []Version{}
	if name == "" {
		err := s.lists.SelectContext(ctx, &out, `select `+versionColumns+` from (select distinct on (name) * from lookup_versions order by name, version desc) v order by v.name limit 1000`)
		return out, err
	}
	err := s.lists.SelectContext(ctx, &out, `select `+versionColumns+` from lookup_versions v where v.name = $1 order by v.version desc limit 1000`, name)
	return out, err
}

// TableContent gives a content of a lookup; version 0 is the newest.
func (s *Store) TableContent(ctx context.Context, name string, version int) (Version, error) {
	var v Version
	err := s.lists.GetContext(ctx, &v, `select `+versionColumns+`, v.content from lookup_versions v where v.name = $1 and ($2::bigint = 0 or v.version = $2) order by v.version desc limit 1`, name, version)
	return v, notFound(err)
}
