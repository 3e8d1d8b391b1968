package store

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jmoiron/sqlx"
)

// A connection can go silent: a firewall forgets it, a cable is pulled, the other
// machine hangs. Nothing tells; whoever waits for an answer waits for ever. So every
// statement has a time limit, connections that do nothing are probed, and when one is
// found silent all of its age are thrown away.

const (
	// answerWithin is how long a statement of the protocol may take.
	answerWithin = 15 * time.Second
	// listWithin is how long a question of a person may take.
	listWithin = 20 * time.Second
	// rowWithin is added for each row of statements with very many.
	rowWithin = time.Millisecond
	// probeEvery is how often connections that do nothing are probed, and
	// probeWithin how long they may take to answer.
	probeEvery  = 3 * time.Second
	probeWithin = 2 * time.Second
	// connectWithin is how long making a connection may take.
	connectWithin = 10 * time.Second
)

// ErrSilent says that the database did not answer in time.
var ErrSilent = errors.New("the database does not answer")

// ErrAway says that the database cannot be reached.
var ErrAway = errors.New("the database cannot be reached")

// ErrUnable says that the database is there and cannot work.
var ErrUnable = errors.New("the database cannot work")

// Unavailable gives what keeps the database from working, in words for people; empty if
// an error is of another kind.
func Unavailable(err error) string {
	var said *pgconn.PgError
	switch {
	case errors.Is(err, ErrSilent):
		return ErrSilent.Error()
	case errors.Is(err, ErrAway):
		return ErrAway.Error()
	case errors.Is(err, ErrUnable) && errors.As(err, &said):
		return ErrUnable.Error() + ": " + said.Message
	}
	return ""
}

// db is a pool of connections whose statements have a time limit.
type db struct {
	*sqlx.DB
	pool  *pgxpool.Pool
	limit time.Duration
}

// do runs something within the limit. If that is over, the pool's connections are
// taken for silent.
func (d *db) do(ctx context.Context, rows int, f func(ctx context.Context) error) error {
	limit := d.limit + time.Duration(rows)*rowWithin
	within, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	err := f(within)
	if err != nil && within.Err() != nil && ctx.Err() == nil {
		d.pool.Reset()
		return fmt.Errorf("%w (no answer within %s)", ErrSilent, limit)
	}
	return away(err)
}

// away says in our words that the database is not there or cannot work.
func away(err error) error {
	var connect *pgconn.ConnectError
	var said *pgconn.PgError
	switch {
	case err == nil:
		return nil
	case errors.As(err, &said):
		// Classes of SQLSTATE: connection, resources, intervention by whoever runs it,
		// system.
		for _, class := range []string{"08", "53", "57", "58"} {
			if strings.HasPrefix(said.Code, class) && said.Code != "57014" {
				return fmt.Errorf("%w: %w", ErrUnable, err)
			}
		}
	case errors.As(err, &connect):
		return fmt.Errorf("%w: %w", ErrAway, err)
	case errors.Is(err, net.ErrClosed), errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, syscall.ECONNRESET), errors.Is(err, syscall.EPIPE), errors.Is(err, driver.ErrBadConn):
		return fmt.Errorf("%w: the connection was lost", ErrAway)
	}
	return err
}

func (d *db) GetContext(ctx context.Context, dest any, query string, args ...any) error {
	return d.do(ctx, 0, func(ctx context.Context) error { return d.DB.GetContext(ctx, dest, query, args...) })
}

func (d *db) SelectContext(ctx context.Context, dest any, query string, args ...any) error {
	return d.do(ctx, 0, func(ctx context.Context) error { return d.DB.SelectContext(ctx, dest, query, args...) })
}

func (d *db) ExecContext(ctx context.Context, query string, args ...any) (result sql.Result, err error) {
	err = d.do(ctx, 0, func(ctx context.Context) (err error) { result, err = d.DB.ExecContext(ctx, query, args...); return err })
	return result, err
}

// rows runs a statement and calls each for every row, scanned into scans.
func (d *db) rows(ctx context.Context, n int, query string, args []any, scans []any, each func() error) error {
	return d.do(ctx, n, func(ctx context.Context) error {
		rows, err := d.pool.Query(ctx, query, args...)
		if err != nil {
			return err
		}
		_, err = pgx.ForEachRow(rows, scans, each)
		return err
	})
}

// send runs several statements in one exchange: all or none.
func (d *db) send(ctx context.Context, n int, batch *pgx.Batch) error {
	return d.do(ctx, n, func(ctx context.Context) error { return d.pool.SendBatch(ctx, batch).Close() })
}

// probe asks the connections that do nothing whether they are there, for as long as
// the store is open.
func (d *db) probe(closing context.Context) {
	rhythm := time.NewTicker(probeEvery)
	defer rhythm.Stop()
	for {
		select {
		case <-closing.Done():
			return
		case <-rhythm.C:
		}
		var asking sync.WaitGroup
		silent := make(chan bool, 1)
		for _, c := range d.pool.AcquireAllIdle(closing) {
			asking.Go(func() {
				defer c.Release()
				ctx, cancel := context.WithTimeout(closing, probeWithin)
				defer cancel()
				if c.Ping(ctx) != nil {
					select {
					case silent <- true:
					default: // it has been said
					}
				}
			})
		}
		asking.Wait()
		if len(silent) > 0 && closing.Err() == nil {
			d.pool.Reset()
		}
	}
}
