// Package store keeps Ydrion's records in PostgreSQL. Nothing above it writes
// SQL.
package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"sync"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Store is a connection to the records.
type Store struct {
	db *sqlx.DB
	// quick is for what need not survive a power failure by itself: its
	// transactions do not wait for the disk. What is committed through db
	// afterwards makes them durable too.
	quick *sqlx.DB
	pools []*pgxpool.Pool // below db and quick

	closing context.Context // ends with the store
	close   context.CancelFunc
	keeping sync.WaitGroup
}

// ErrNotFound says that there is no such record.
var ErrNotFound = errors.New("not found")

// Open connects, makes sure that no other service works with the database, and
// brings the tables up to date.
func Open(ctx context.Context, url string) (*Store, error) {
	s := &Store{}
	s.closing, s.close = context.WithCancel(context.Background())
	for _, p := range []struct {
		db     **sqlx.DB
		commit string
	}{{&s.db, "on"}, {&s.quick, "off"}} {
		config, err := pgxpool.ParseConfig(url)
		if err != nil {
			return nil, fmt.Errorf("the database's address: %w", err)
		}
		config.MaxConns = max(config.MaxConns, 8)
		config.ConnConfig.RuntimeParams["synchronous_commit"] = p.commit
		pool, err := pgxpool.NewWithConfig(ctx, config)
		if err != nil {
			s.Close()
			return nil, fmt.Errorf("connecting to the database: %w", err)
		}
		s.pools = append(s.pools, pool)
		*p.db = sqlx.NewDb(stdlib.OpenDBFromPool(pool), "pgx")
	}
	if err := s.lock(ctx, s.pools[0].Config().ConnConfig); err != nil {
		s.Close()
		return nil, err
	}
	if err := s.migrate(ctx); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

func (s *Store) migrate(ctx context.Context) error {
	sub, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	provider, err := goose.NewProvider(goose.DialectPostgres, s.db.DB, sub)
	if err != nil {
		return fmt.Errorf("preparing the database's tables: %w", err)
	}
	if _, err := provider.Up(ctx); err != nil {
		return fmt.Errorf("bringing the database's tables up to date: %w", err)
	}
	return nil
}

// Close ends the connections.
func (s *Store) Close() {
	s.close()
	s.keeping.Wait()
	for _, db := range []*sqlx.DB{s.db, s.quick} {
		if db != nil {
			db.Close() //nolint: the pool below holds the connections
		}
	}
	for _, p := range s.pools {
		p.Close()
	}
}

// Ping tells whether the database answers.
func (s *Store) Ping(ctx context.Context) error { return s.db.PingContext(ctx) }

// in runs f in a transaction.
func (s *Store) in(ctx context.Context, what string, f func(tx *sqlx.Tx) error) error {
	tx, err := s.db.BeginTxx(ctx, nil)
	if err != nil {
		return fmt.Errorf("%s: %w", what, err)
	}
	if err := f(tx); err != nil {
		if rollback := tx.Rollback(); rollback != nil && !errors.Is(rollback, sql.ErrTxDone) {
			err = errors.Join(err, rollback)
		}
		return fmt.Errorf("%s: %w", what, err)
	}
	if err := tx.Commit(); err != nil {
		return fmt.Errorf("%s: %w", what, err)
	}
	return nil
}

func duplicate(err error) bool {
	var pg *pgconn.PgError
	return errors.As(err, &pg) && pg.Code == "23505"
}

func notFound(err error) error {
	if errors.Is(err, sql.ErrNoRows) {
		return ErrNotFound
	}
	return err
}

// Route is a published route.
type Route struct {
	Name        string    `db:"name"`
	Revision    string    `db:"revision"`
	Number      int       `db:"number"`
	Running     bool      `db:"running"`
	PublishedAt time.Time `db:"published_at"`
}

const routeColumns = `r.name, r.revision, v.number, r.running, v.published_at from routes r join revisions v on v.route = r.name and v.hash = r.revision`

// Routes lists the published routes by name.
func (s *Store) Routes(ctx context.Context) ([]Route, error) {
	out := []Route{}
	err := s.db.SelectContext(ctx, &out, `select `+routeColumns+` order by r.name`)
	return out, err
}

// Route gives one published route.
func (s *Store) Route(ctx context.Context, name string) (Route, error) {
	var r Route
	err := s.db.GetContext(ctx, &r, `select `+routeColumns+` where r.name = $1`, name)
	return r, notFound(err)
}

// Publish stores a revision, if it is new, and makes it the route's current
// one. It gives the revision's number.
func (s *Store) Publish(ctx context.Context, route, hash string, files map[string][]byte) (number int, changed bool, err error) {
	err = s.in(ctx, "publishing "+route, func(tx *sqlx.Tx) error {
		var current string
		if err := tx.GetContext(ctx, &current, `select revision from routes where name = $1 for update`, route); err != nil && !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		changed = current != hash
		err := tx.GetContext(ctx, &number, `select number from revisions where route = $1 and hash = $2`, route, hash)
		if errors.Is(err, sql.ErrNoRows) {
			if err := tx.GetContext(ctx, &number, `insert into revisions (route, hash, number) select $1, $2, coalesce(max(number), 0) + 1 from revisions where route = $1 returning number`, route, hash); err != nil {
				return err
			}
			for name, content := range files {
				if _, err := tx.ExecContext(ctx, `insert into revision_files (route, hash, name, content) values ($1, $2, $3, $4)`, route, hash, name, append([]byte{}, content...)); err != nil {
					return err
				}
			}
		} else if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `insert into routes (name, revision) values ($1, $2) on conflict (name) do update set revision = excluded.revision, changed_at = now()`, route, hash)
		return err
	})
	return number, changed, err
}

// RevisionFiles gives the files that a revision was made from.
func (s *Store) RevisionFiles(ctx context.Context, route, hash string) (map[string][]byte, error) {
	var rows []struct {
		Name    string `db:"name"`
		Content []byte `db:"content"`
	}
	if err := s.db.SelectContext(ctx, &rows, `select name, content from revision_files where route = $1 and hash = $2`, route, hash); err != nil {
		return nil, err
	}
	if len(rows) == 0 {
		return nil, ErrNotFound
	}
	out := map[string][]byte{}
	for _, r := range rows {
		out[r.Name] = r.Content
	}
	return out, nil
}

// SetRunning starts or stops a route.
func (s *Store) SetRunning(ctx context.Context, route string, running bool) error {
	result, err := s.db.ExecContext(ctx, `update routes set running = $2, changed_at = now() where name = $1`, route, running)
	if err != nil {
		return err
	}
	if n, err := result.RowsAffected(); err != nil || n == 0 {
		return errors.Join(ErrNotFound, err)
	}
	return nil
}
