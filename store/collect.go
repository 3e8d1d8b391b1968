package store

import (
	"context"
	"time"

	"ydrion/core/mail"
)

// Part is what a file is to the run of several that it is one of.
type Part string

const (
	ToRead Part = "read"
	Codes  Part = "table"  // the others look codes up in it
	Marker Part = "marker" // its coming completed the others; it is not read
	Older  Part = "older"  // a newer one was taken instead; it is not read
)

// Collection is files of a route that wait for others, by what they have in common.
type Collection struct {
	Key     string    `db:"key"`
	BeganAt time.Time `db:"began_at"`
	// LateOf is the pickup with which those went on that had the same key, without what was missing; 0: none did
	// lately.
	LateOf int64 `db:"late_of"`
}

// lately is for how long it is known of files that they went on without others.
const lately = 7 * 24 * time.Hour

// Collections notes that files wait for others, and gives since when.
func (s *Store) Collections(ctx context.Context, node int64, route string, keys []string) (map[string]Collection, error) {
	var rows []Collection
	// Keys are readable texts: what the database keeps is what was asked for.
	err := s.quick.SelectContext(ctx, &rows, `insert into collections as c (route, key) select $2, key from unnest($3::text[]) as k (key) where exists (select 1 from routes where name = $2 and leader = $1)
		on conflict (route, key) do update set ended_at = null, missing = '',
			began_at = case when c.ended_at is null then c.began_at else now() end,
			late_of = case when c.ended_at is null then c.late_of when c.missing <> '' and c.ended_at > now() - make_interval(secs => $4) then c.pickup end
		returning key, began_at, coalesce(late_of, 0) as late_of`, node, route, keys, lately.Seconds())
	out := map[string]Collection{}
	for _, r := range rows {
		out[r.Key] = r
	}
	return out, err
}

// Uncollect forgets files that waited for others and are not there any more: all of a route but those with some keys.
func (s *Store) Uncollect(ctx context.Context, node int64, route string, but []string) error {
	_, err := s.quick.ExecContext(ctx, `delete from collections where route = $2 and (ended_at is null and not key = any($3) or ended_at < now() - make_interval(secs => $4)) and exists (select 1 from routes where name = $2 and leader = $1)`, node, route, but, lately.Seconds())
	return err
}

// Member is a file of a run of several.
type Member struct {
	Pending
	OfRun int64 `db:"of_run"`
	Part  Part  `db:"part"`
}

// Members gives the files of runs of several, but for the first of each, in their order.
func (s *Store) Members(ctx context.Context, runs []int64) (map[int64][]Member, error) {
	var rows []Member
	err := s.db.SelectContext(ctx, &rows, `select m.run as of_run, m.part, o.* from run_pickups m join lateral (`+openColumns+` where p.id = m.pickup) o on true where m.run = any($1) and m.ord > 1 order by m.run, m.ord`, runs)
	out := map[int64][]Member{}
	for _, m := range rows {
		m.Path, _ = named(m.Path, m.RawPath)
		out[m.OfRun] = append(out[m.OfRun], m)
	}
	return out, err
}

// OfRun is a file of a run, and what became of it.
type OfRun struct {
	Pickup   int64      `db:"pickup"`
	Ord      int        `db:"ord"`
	Name     string     `db:"name"`
	Folder   string     `db:"folder"`
	Event    string     `db:"event"`
	SHA256   string     `db:"sha256"`
	Size     int64      `db:"size"`
	Mail     *mail.Head `db:"mail"`
	State    string     `db:"state"`
	Part     Part       `db:"part"`
	Archived bool       `db:"archived"`
	In       int64      `db:"records_in"`
	Good     int64      `db:"good"`
	Rejected int64      `db:"rejected"`
	Filtered int64      `db:"filtered"`
	Merged   int64      `db:"merged"`
	Warnings int64      `db:"warnings"`
	Whole    bool       `db:"whole"`
}

// FilesOf gives the files of a run, in their order.
func (s *Store) FilesOf(ctx context.Context, run int64) ([]OfRun, error) {
	out := []OfRun{}
	err := s.lists.SelectContext(ctx, &out, `select rp.pickup, rp.ord, p.name, p.folder, p.event, coalesce(p.sha256, '') as sha256, p.size, p.mail, p.state, rp.part, p.archived,
		coalesce(rp.records_in, r.records_in) as records_in, coalesce(rp.good, r.good) as good, coalesce(rp.rejected, r.rejected) as rejected, coalesce(rp.filtered, r.filtered) as filtered, coalesce(rp.merged, r.merged) as merged, coalesce(rp.warnings, r.warnings) as warnings, coalesce(rp.whole, r.whole) as whole
		from run_pickups rp join pickups p on p.id = rp.pickup join runs r on r.id = rp.run where rp.run = $1 order by rp.ord`, run)
	return out, err
}
