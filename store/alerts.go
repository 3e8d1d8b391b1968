package store

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"
)

// Alert is something that a person should know.
type Alert struct {
	ID      int64      `db:"id"`
	At      time.Time  `db:"at"`
	Kind    string     `db:"kind"`
	Route   string     `db:"route"`
	Pickup  int64      `db:"pickup"`
	About   string     `db:"about"`
	Message string     `db:"message"`
	SeenAt  *time.Time `db:"seen_at"`
	SeenBy  string     `db:"seen_by"`
	EndedAt *time.Time `db:"ended_at"`
}

const alertColumns = `id, at, kind, route, pickup, about, message, seen_at, seen_by, ended_at`

// Alert notes something that a person should know, with a message to send for
// each channel. It is false if it is known already and still open. An alert
// that is over at once (a file was rejected) is not kept open; what is so once and for
// all (a file was too small) is told once.
func (s *Store) Alert(ctx context.Context, a Alert, channels []string, over bool) (id int64, fresh bool, err error) {
	err = s.in(ctx, "noting an alert", func(tx *sqlx.Tx) error {
		err := tx.GetContext(ctx, &id, `insert into alerts (kind, route, pickup, about, message, ended_at) select $1, $2, $3, $4, $5, case when $6 then now() end
			where not ($1 in ('small', 'surplus', 'late') and exists (select 1 from alerts where kind = $1 and about = $4))
			on conflict (kind, about) where ended_at is null do nothing returning id`, a.Kind, a.Route, a.Pickup, a.About, a.Message, over)
		if errors.Is(err, sql.ErrNoRows) {
			return nil
		}
		if err != nil {
			return err
		}
		fresh = true
		_, err = tx.ExecContext(ctx, `insert into messages (alert, channel) select $1, unnest($2::text[])`, id, channels)
		return err
	})
	return id, fresh, err
}

// Over ends an alert whose reason has gone away. It tells whether there was one.
func (s *Store) Over(ctx context.Context, kind, about string) (bool, error) {
	err := s.one(s.quick.ExecContext(ctx, `update alerts set ended_at = now() where kind = $1 and about = $2 and ended_at is null`, kind, about))
	if errors.Is(err, ErrNotFound) {
		return false, nil
	}
	return err == nil, err
}

// AlertFilter narrows the list of alerts.
type AlertFilter struct {
	Open   bool // neither seen nor over
	Route  string
	Before int64
	After  *int64 // as in Filter
	Limit  int
}

// Alerts lists alerts, newest first, or as they are followed.
func (s *Store) Alerts(ctx context.Context, f AlertFilter) ([]Alert, error) {
	out := []Alert{}
	before, after, order := f.Before, int64(0), "desc"
	if f.After != nil {
		last, err := s.settled(ctx, "alerts_id_seq", alertNumbers)
		if err != nil {
			return nil, err
		}
		before, after, order = last+1, *f.After, "asc"
	}
	err := s.lists.SelectContext(ctx, &out, `select `+alertColumns+` from alerts where ($1 = '' or route = $1) and ($2::bigint = 0 or id < $2) and id > $5 and (not $3 or seen_at is null and (ended_at is null or kind in ('rejected', 'missing', 'late', 'surplus', 'small', 'duplicate', 'database away', 'defect'))) order by id `+order+` limit $4`, f.Route, before, f.Open, f.Limit, after)
	return out, err
}

// See notes that somebody has seen alerts: those named or, without any, all up
// to now. It gives how many.
func (s *Store) See(ctx context.Context, ids []int64, by string) (int64, error) {
	r, err := s.db.ExecContext(ctx, `update alerts set seen_at = now(), seen_by = $2 where seen_at is null and (cardinality($1::bigint[]) = 0 or id = any($1))`, append([]int64{}, ids...), by)
	if err != nil {
		return 0, err
	}
	return r.RowsAffected()
}

// Message is an alert on its way to a channel.
type Message struct {
	Alert
	Channel string `db:"channel"`
	Tries   int    `db:"tries"`
}

// messageLease is how long a node has for sending a message before another one
// sends it too.
const messageLease = time.Minute

// DueMessages gives messages to send, to one channel or to all, and keeps other nodes from sending them
// meanwhile.
func (s *Store) DueMessages(ctx context.Context, channel string, limit int) ([]Message, error) {
	var out []Message
	err := s.db.SelectContext(ctx, &out, `with due as (update messages set next_try = now() + $2, tries = tries + 1 where (alert, channel) in (select alert, channel from messages where sent_at is null and next_try <= now() and ($3 = '' or channel = $3) order by next_try limit $1 for update skip locked) returning alert, channel, tries)
		select a.id, a.at, a.kind, a.route, a.pickup, a.about, a.message, a.seen_at, a.seen_by, a.ended_at, d.channel, d.tries from due d join alerts a on a.id = d.alert order by a.id`, limit, messageLease, channel)
	return out, err
}

// Sent records how sending a message went. After a failure it is tried again at
// a time; the zero time gives it up.
func (s *Store) Sent(ctx context.Context, m Message, failed string, next time.Time) error {
	if failed == "" || next.IsZero() {
		_, err := s.db.ExecContext(ctx, `update messages set sent_at = now(), reason = $3 where alert = $1 and channel = $2`, m.ID, m.Channel, failed)
		return err
	}
	_, err := s.db.ExecContext(ctx, `update messages set next_try = $3, reason = $4 where alert = $1 and channel = $2`, m.ID, m.Channel, next, failed)
	return err
}

// Wait puts off messages that were to be sent to a channel, which have not been tried.
func (s *Store) Wait(ctx context.Context, channel string, alerts []int64, wait time.Duration) error {
	_, err := s.db.ExecContext(ctx, `update messages set next_try = now() + $3, tries = tries - 1 where channel = $1 and alert = any($2)`, channel, alerts, wait)
	return err
}

// Expected is what became of an expectation at one of its deadlines.
type Expected struct {
	Route  string    `db:"route"`
	Name   string    `db:"name"`
	DueAt  time.Time `db:"due_at"`
	State  string    `db:"state"`
	Seen   int       `db:"seen"`
	Wanted string    `db:"wanted"`
}

// Judge records how an expectation was met at a deadline. It is false if that
// has been recorded before.
func (s *Store) Judge(ctx context.Context, e Expected) (bool, error) {
	err := s.one(s.db.ExecContext(ctx, `insert into expected (route, name, due_at, state, seen, wanted) values ($1, $2, $3, $4, $5, $6) on conflict do nothing`, e.Route, e.Name, e.DueAt, e.State, e.Seen, e.Wanted))
	if errors.Is(err, ErrNotFound) {
		return false, nil
	}
	return err == nil, err
}

// CameLate turns a missing expectation into a late one. It is false if it was
// not missing.
func (s *Store) CameLate(ctx context.Context, route, name string, due time.Time) (bool, error) {
	err := s.one(s.db.ExecContext(ctx, `update expected set state = 'late' where route = $1 and name = $2 and due_at = $3 and state = 'missing'`, route, name, due))
	if errors.Is(err, ErrNotFound) {
		return false, nil
	}
	return err == nil, err
}

// LastJudged gives the latest deadline of an expectation that was judged.
func (s *Store) LastJudged(ctx context.Context, route, name string) (*Expected, error) {
	var e Expected
	err := s.db.GetContext(ctx, &e, `select route, name, due_at, state, seen, wanted from expected where route = $1 and name = $2 order by due_at desc limit 1`, route, name)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return &e, err
}

// Expectations lists what became of expectations since a time, latest deadline
// first.
func (s *Store) Expectations(ctx context.Context, route string, since time.Time) ([]Expected, error) {
	out := []Expected{}
	err := s.db.SelectContext(ctx, &out, `select route, name, due_at, state, seen, wanted from expected where ($1 = '' or route = $1) and due_at >= $2 order by due_at desc, route, name limit 1000`, route, since)
	return out, err
}

// Arrivals lists the names and sizes of a route's pickups that were noticed in
// a time, after a number.
func (s *Store) Arrivals(ctx context.Context, route string, from, to time.Time, after int64) ([]Pickup, error) {
	out := []Pickup{}
	err := s.db.SelectContext(ctx, &out, `select id, name, size, noticed_at, claimed_at from pickups where route = $1 and claimed_at >= $2 and noticed_at >= $2 and noticed_at < $3 and state <> 'withdrawn' and event <> 'gone' and origin <> 'handed' and id > $4 order by id`, route, from, to, after)
	return out, err
}
