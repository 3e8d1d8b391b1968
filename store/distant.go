package store

import (
	"context"
	"fmt"
	"time"
)

// Deliveries to servers are tried again one by one: what one of them waits for holds no other.

// DeliveryOf names a delivery, with the pickup that it is of.
type DeliveryOf struct {
	RunOf
	Ord int
}

// OpenAt gives the outputs of a run that are still to be brought to a place on a server, after one of them and at
// most so many.
func (s *Store) OpenAt(ctx context.Context, run int64, place string, after, limit int) ([]Delivery, error) {
	out := []Delivery{}
	err := s.db.SelectContext(ctx, &out, `select `+deliveryColumns+` from deliveries where run = $1 and ord > $3 and state = 'open' and (folder = $2 or starts_with(folder, $2 || '/')) order by ord limit $4`, run, "{"+place+"}", after, limit)
	return out, err
}

// Naming records that outputs lie on their server under temporary names, whole, and are about to get their own: from
// then on the absence of such a temporary says that its output has arrived. It fails if one of them is not the
// node's any more.
func (s *Store) Naming(ctx context.Context, node int64, of []DeliveryOf) error {
	n := len(of)
	runs, pickups, ords := make([]int64, n), make([]int64, n), make([]int, n)
	for i, d := range of {
		runs[i], pickups[i], ords[i] = d.Run, d.Pickup, d.Ord
	}
	done, err := s.db.ExecContext(ctx, naming, node, runs, pickups, ords)
	if err != nil {
		return fmt.Errorf("recording that outputs are about to be named: %w", err)
	}
	if k, err := done.RowsAffected(); err != nil || k != int64(n) {
		return fmt.Errorf("recording that outputs are about to be named: %w", ErrNotOurs)
	}
	return nil
}

const naming = `update deliveries d set named_at = now() from unnest($2::bigint[], $3::bigint[], $4::int[]) as t (run, pickup, ord) join pickups p on p.id = t.pickup and p.run = t.run and p.node = $1
	where d.run = t.run and d.ord = t.ord and ` + deliveryStateOf + ` = 'open'`

// Unnamed records of an output that was about to be sent that it was not: its receiver cannot have it.
func (s *Store) Unnamed(ctx context.Context, node int64, of DeliveryOf) error {
	return s.one(s.db.ExecContext(ctx, `update deliveries set named_at = null where run = $2 and ord = $4 and state = 'open' and exists (select 1 from pickups p where p.id = $3 and p.run = $2 and p.node = $1)`, node, of.Run, of.Pickup, of.Ord))
}

// Uploading records as what an object store knows the parts of an output; empty: it knows none any more.
func (s *Store) Uploading(ctx context.Context, node int64, of DeliveryOf, upload string) error {
	return s.one(s.db.ExecContext(ctx, `update deliveries set upload = $5 where run = $2 and ord = $4 and state = 'open' and exists (select 1 from pickups p where p.id = $3 and p.run = $2 and p.node = $1)`, node, of.Run, of.Pickup, of.Ord, upload))
}

// ArrivedAt is an output that has arrived, by what its server says or shows.
type ArrivedAt struct {
	DeliveryOf
	Receipt string
}

// Arrived records that outputs have arrived at their servers.
func (s *Store) Arrived(ctx context.Context, of []ArrivedAt) error {
	n := len(of)
	runs, ords, receipts := make([]int64, n), make([]int, n), make([]string, n)
	for i, d := range of {
		runs[i], ords[i], receipts[i] = d.Run, d.Ord, Readable(d.Receipt)
	}
	_, err := s.quick.ExecContext(ctx, `update deliveries d set state = 'published', published_at = now(), reason = '', next_try = null, receipt = t.receipt from unnest($1::bigint[], $2::int[], $3::text[]) as t (run, ord, receipt) where d.run = t.run and d.ord = t.ord`, runs, ords, receipts)
	if err != nil {
		return fmt.Errorf("recording that outputs have arrived: %w", err)
	}
	return nil
}

// RefusedAt is an output that could not be brought to its server.
type RefusedAt struct {
	DeliveryOf
	Reason string
	Next   time.Time // when it is tried again; zero: it waits for a person
}

// NotArrived records that outputs could not be brought to their servers.
func (s *Store) NotArrived(ctx context.Context, of []RefusedAt) error {
	n := len(of)
	runs, ords, reasons, nexts := make([]int64, n), make([]int, n), make([]string, n), make([]*time.Time, n)
	for i, d := range of {
		runs[i], ords[i], reasons[i] = d.Run, d.Ord, Readable(d.Reason)
		if !d.Next.IsZero() {
			nexts[i] = &of[i].Next
		}
	}
	_, err := s.quick.ExecContext(ctx, refused, runs, ords, reasons, nexts)
	if err != nil {
		return fmt.Errorf("recording that outputs could not be delivered: %w", err)
	}
	return nil
}

const refused = `update deliveries d set tries = d.tries + 1, reason = t.reason, next_try = t.next from unnest($1::bigint[], $2::int[], $3::text[], $4::timestamptz[]) as t (run, ord, reason, next)
	where d.run = t.run and d.ord = t.ord and ` + deliveryStateOf + ` = 'open'`

// Delayed says of pickups whose outputs are on their way why they have not arrived.
func (s *Store) Delayed(ctx context.Context, node int64, pickups []int64, reason string) error {
	_, err := s.quick.ExecContext(ctx, delay, node, pickups, Readable(reason))
	return err
}

const delay = `update pickups p set reason = $3 where id = any($2) and node = $1 and ` + stateOf + ` in ('committed', 'held')`

// PlaceCount is what waits for a place on a server.
type PlaceCount struct {
	Place   string `db:"place"`
	Waiting int64  `db:"waiting"` // outputs that are to be brought there
	Tried   int64  `db:"tried"`   // of those: could not be brought there yet
	Person  int64  `db:"person"`  // of those: wait for a person
	Fetched int64  `db:"fetched"` // files that are being fetched
}

// PlaceCounts tells what waits for each place on a server.
func (s *Store) PlaceCounts(ctx context.Context) (map[string]PlaceCount, error) {
	var rows []PlaceCount
	err := s.db.SelectContext(ctx, &rows, `with d as (select substring(d.folder from '^\{([^}]*)\}') as place, count(*) as waiting, count(*) filter (where d.tries > 0) as tried, count(*) filter (where p.state in ('held', 'uncertain') and p.next_try is null) as person
			from deliveries d join runs r on r.id = d.run and r.state = 'committed' join run_pickups rp on rp.run = r.id and rp.ord = 1 join pickups p on p.id = rp.pickup where d.state in ('open', 'uncertain') and starts_with(d.folder, '{') group by 1),
		f as (select place, count(*) as fetched from fetches where state in ('claimed', 'fetched', 'placed') group by 1)
		select coalesce(d.place, f.place) as place, coalesce(waiting, 0) as waiting, coalesce(tried, 0) as tried, coalesce(person, 0) as person, coalesce(fetched, 0) as fetched from d full join f on f.place = d.place`)
	out := map[string]PlaceCount{}
	for _, r := range rows {
		out[r.Place] = r
	}
	return out, err
}
