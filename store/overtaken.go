package store

import (
	"context"
	"fmt"
)

// Later is what is known of an output of a later run that takes the place of one of an earlier run, as they have one name. The
// numbers of runs say in which order a route's files were taken, or asked for once more.
type Later struct {
	Run       int64  `db:"run"` // the earlier one's
	Ord       int    `db:"ord"`
	By        int64  `db:"by"`     // the later run, and
	Pickup    int64  `db:"pickup"` // its pickup, by
	File      string `db:"file"`   // the file that came
	State     string `db:"state"`
	Temporary string `db:"temporary"`
	Named     bool   `db:"named"` // it goes to a server, and was about to get its name there
}

// Later finds those outputs of a route's runs of which one of a later run is there, or on its way: of several the last one that is
// there.
func (s *Store) Later(ctx context.Context, route string, of []DeliveryOf) ([]Later, error) {
	runs, ords := make([]int64, len(of)), make([]int, len(of))
	for i, d := range of {
		runs[i], ords[i] = d.Run, d.Ord
	}
	var out []Later
	err := s.db.SelectContext(ctx, &out, later, route, runs, ords)
	if err != nil {
		err = fmt.Errorf("looking for later outputs: %w", err)
	}
	return out, err
}

const later = `select d.run, d.ord, l.run as by, p.id as pickup, p.name as file, l.state, l.temporary, l.named
	from unnest($2::bigint[], $3::int[]) as t (run, ord) join deliveries d on d.run = t.run and d.ord = t.ord
	cross join lateral (select l.run, l.state, l.temporary, l.named_at is not null as named from deliveries l join runs r on r.id = l.run
		where l.replaces and md5(l.folder || '/' || l.name) = md5(d.folder || '/' || d.name) and l.run > d.run and l.folder = d.folder and l.name = d.name
			and l.state in ('published', 'open', 'uncertain') and r.route = $1 and r.state <> 'working'
		order by l.state = 'published' desc, l.run desc limit 1) l
	join run_pickups rp on rp.run = l.run and rp.ord = 1 join pickups p on p.id = rp.pickup`

// OvertakenAt is an output whose place that of a later run has.
type OvertakenAt struct {
	DeliveryOf
	Reason string
}

// Overtaken records that outputs are not delivered, as those of later runs have their places.
func (s *Store) Overtaken(ctx context.Context, of []OvertakenAt) error {
	runs, ords, reasons := make([]int64, len(of)), make([]int, len(of)), make([]string, len(of))
	for i, d := range of {
		runs[i], ords[i], reasons[i] = d.Run, d.Ord, Readable(d.Reason)
	}
	_, err := s.quick.ExecContext(ctx, `update deliveries d set state = 'overtaken', reason = t.reason, next_try = null from unnest($1::bigint[], $2::int[], $3::text[]) as t (run, ord, reason) where d.run = t.run and d.ord = t.ord`, runs, ords, reasons)
	if err != nil {
		err = fmt.Errorf("recording that outputs are overtaken: %w", err)
	}
	return err
}
