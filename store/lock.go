package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
)

// ErrInUse says that another service works with the same database.
var ErrInUse = errors.New("another service is using this database")

// ours is the number of the advisory lock that the one service of a database
// holds.
const ours = 0x7964726f

// lockPatience is how long the database may take to notice that an earlier
// service has died.
const lockPatience = 10 * time.Second

// lock makes sure that no other service goes on with our pickups. It holds the
// lock until Close, and takes it again should the connection die.
func (s *Store) lock(ctx context.Context, config *pgx.ConnConfig) error {
	deadline := time.Now().Add(lockPatience)
	for {
		conn, err := tryLock(ctx, config)
		if err == nil {
			s.keeping.Go(func() { s.keepLock(config, conn) })
			return nil
		}
		if !errors.Is(err, ErrInUse) || time.Now().After(deadline) {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
}

func tryLock(ctx context.Context, config *pgx.ConnConfig) (*pgx.Conn, error) {
	conn, err := pgx.ConnectConfig(ctx, config)
	if err != nil {
		return nil, fmt.Errorf("connecting to the database: %w", err)
	}
	var got bool
	if err = conn.QueryRow(ctx, `select pg_try_advisory_lock($1)`, ours).Scan(&got); err == nil && !got {
		err = ErrInUse
	}
	if err != nil {
		return nil, errors.Join(err, conn.Close(ctx))
	}
	return conn, nil
}

// keepLock looks after the connection that holds the lock.
func (s *Store) keepLock(config *pgx.ConnConfig, conn *pgx.Conn) {
	for {
		select {
		case <-s.closing.Done():
			conn.Close(context.Background()) //nolint: it goes away in any case
			return
		case <-time.After(2 * time.Second):
		}
		if conn.Ping(s.closing) == nil || s.closing.Err() != nil {
			continue
		}
		if again, err := tryLock(s.closing, config); err == nil {
			conn = again
		}
	}
}
