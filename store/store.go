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
	"maps"
	"strings"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"

	"ydrion/core/finding"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Store is a connection to the records.
type Store struct {
	db *db
	// quick is for what need not survive a power failure by itself: its
	// transactions do not wait for the disk. What is committed through db
	// afterwards makes them durable too.
	quick *db
	// lists is for what people ask.
	lists *db

	// Mark tells the hidden files of this installation from those of others.
	Mark string

	ended   atomic.Bool     // pickups have, since the tables were tended
	closing context.Context // ends with the store
	close   context.CancelFunc
}

// ErrNotFound says that there is no such record.
var ErrNotFound = errors.New("there is no such record")

// missing says which record there is not. It is ErrNotFound.
type missing string

func (m missing) Error() string        { return string(m) }
func (m missing) Is(target error) bool { return target == ErrNotFound }

// noRoute is the error for a route that is not there, with the nearest name if one is near.
func (s *Store) noRoute(ctx context.Context, err error, name string) error {
	if !errors.Is(notFound(err), ErrNotFound) {
		return err
	}
	said := fmt.Sprintf("there is no route %q", Readable(name))
	var names []string
	if s.db.SelectContext(ctx, &names, `select name from routes where removed_at is null order by name`) == nil {
		if near := finding.Nearest(name, names); near != "" {
			said += fmt.Sprintf("; was %s meant?", near)
		}
	}
	return missing(said)
}

// noNumber is the error for a numbered record that is not there.
func noNumber(err error, what string, id int64) error {
	if errors.Is(notFound(err), ErrNotFound) {
		return missing(fmt.Sprintf("there is no %s %d", what, id))
	}
	return err
}

// Open connects and brings the tables up to date.
func Open(ctx context.Context, url string) (*Store, error) {
	s := &Store{}
	s.closing, s.close = context.WithCancel(context.Background())
	for _, p := range []struct {
		to       **db
		limit    time.Duration
		settings map[string]string
	}{
		{&s.db, answerWithin, map[string]string{"synchronous_commit": "on"}},
		{&s.quick, answerWithin, map[string]string{"synchronous_commit": "off"}},
		{&s.lists, listWithin, map[string]string{"synchronous_commit": "on", "jit": "off"}},
	} {
		config, err := pgxpool.ParseConfig(url)
		if err != nil {
			return nil, fmt.Errorf("the database's address: %w", err)
		}
		if !strings.Contains(url, "pool_max_conns=") { // each of the three has so many
			config.MaxConns = max(config.MaxConns, 8)
		}
		config.PingTimeout = probeWithin
		config.ConnConfig.ConnectTimeout = connectWithin
		maps.Copy(config.ConnConfig.RuntimeParams, p.settings)
		// What a service that has gone silent was doing is given up, so that nobody
		// waits for what it has locked.
		maps.Copy(config.ConnConfig.RuntimeParams, map[string]string{"idle_in_transaction_session_timeout": "20s", "client_connection_check_interval": "5s", "tcp_keepalives_idle": "10", "tcp_keepalives_interval": "5", "tcp_keepalives_count": "3"})
		if p.to != &s.lists {
			// What moves pickups on finds its rows by their keys. A plan that was made
			// while the tables were small would go through all of them later on.
			maps.Copy(config.ConnConfig.RuntimeParams, map[string]string{"enable_seqscan": "off", "enable_hashjoin": "off", "enable_mergejoin": "off", "jit": "off", "plan_cache_mode": "force_generic_plan"})
		}
		pool, err := pgxpool.NewWithConfig(ctx, config)
		if err != nil {
			s.Close()
			return nil, fmt.Errorf("connecting to the database: %w", err)
		}
		*p.to = &db{DB: sqlx.NewDb(stdlib.OpenDBFromPool(pool), "pgx"), pool: pool, limit: p.limit}
	}
	if err := s.migrate(ctx); err != nil {
		s.Close()
		return nil, err
	}
	if err := s.db.GetContext(ctx, &s.Mark, `select mark from installation`); err != nil {
		s.Close()
		return nil, fmt.Errorf("preparing the database's tables: %w", err)
	}
	for _, d := range s.all() {
		go d.probe(s.closing)
	}
	return s, nil
}

// all are the pools that are open.
func (s *Store) all() (out []*db) {
	for _, d := range []*db{s.db, s.quick, s.lists} {
		if d != nil {
			out = append(out, d)
		}
	}
	return out
}

// tablesLock is the lock of whoever changes the tables.
const tablesLock = 0x796472696f6e

func (s *Store) migrate(ctx context.Context) error {
	sub, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	// Several nodes may start at once: only one changes the tables.
	conn, err := pgx.ConnectConfig(ctx, s.db.pool.Config().ConnConfig)
	if err != nil {
		return fmt.Errorf("connecting to the database: %w", err)
	}
	defer conn.Close(ctx) //nolint: it goes away in any case, and the lock with it
	if _, err := conn.Exec(ctx, `select pg_advisory_lock($1)`, tablesLock); err != nil {
		return fmt.Errorf("preparing the database's tables: %w", err)
	}
	provider, err := goose.NewProvider(goose.DialectPostgres, s.db.DB.DB, sub)
	if err != nil {
		return fmt.Errorf("preparing the database's tables: %w", err)
	}
	if _, err := provider.Up(ctx); err != nil {
		return fmt.Errorf("bringing the database's tables up to date: %w", err)
	}
	return s.count(ctx)
}

// counted are the tables that statements which move pickups on go through.
const counted = `'pickups', 'runs', 'run_pickups', 'deliveries', 'fetches'`

// count has tables counted that are more than four times as long as when they were counted last, or were never. By itself the database may do it a
// minute later, and until then keep plans that go through all of a table because it was empty.
func (s *Store) count(ctx context.Context) error {
	var grown []string
	if err := s.lists.SelectContext(ctx, &grown, `select relname from pg_class where oid in (select t::regclass from unnest(array[`+counted+`]) as t)
		and pg_relation_size(oid) / current_setting('block_size')::int > 4 * greatest(relpages, 0) + 16`); err != nil {
		return fmt.Errorf("asking which tables have grown: %w", err)
	}
	if len(grown) == 0 {
		return nil
	}
	if _, err := s.lists.ExecContext(ctx, `analyze `+strings.Join(grown, ", ")); err != nil {
		return fmt.Errorf("having the database count its tables: %w", err)
	}
	return nil
}

// Tend does for the tables, in some moments of its own, what would otherwise be done by a commit, or late: if this store has ended pickups since
// it did so last, their names are put into the index by which parts of them are found (until then they stand in a list, which is
// gone through with each search), and tables that have grown a lot are counted.
func (s *Store) Tend(ctx context.Context) error {
	if !s.ended.Swap(false) {
		return nil
	}
	if err := s.count(ctx); err != nil {
		return err
	}
	if _, err := s.lists.ExecContext(ctx, `select gin_clean_pending_list(name) from (select to_regclass('pickups_by_name') as name) as i where name is not null`); err != nil {
		return fmt.Errorf("putting names into their index: %w", err)
	}
	return nil
}

// Close ends the connections.
func (s *Store) Close() {
	s.close()
	for _, d := range s.all() {
		d.Close() //nolint: the pool below holds the connections
		d.pool.Close()
	}
}

// pingWithin is how long the database may take to say that it is there.
const pingWithin = 2 * time.Second

// Ping tells whether the database answers.
func (s *Store) Ping(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, pingWithin)
	defer cancel()
	err := s.db.PingContext(ctx)
	if errors.Is(err, context.DeadlineExceeded) {
		return fmt.Errorf("%w (within %s)", ErrSilent, pingWithin)
	}
	return away(err)
}

// in runs f in a transaction.
func (s *Store) in(ctx context.Context, what string, f func(tx *sqlx.Tx) error) error {
	err := s.db.do(ctx, 0, func(ctx context.Context) error {
		tx, err := s.db.BeginTxx(ctx, nil)
		if err != nil {
			return err
		}
		if err := f(tx); err != nil {
			if rollback := tx.Rollback(); rollback != nil && !errors.Is(rollback, sql.ErrTxDone) {
				err = errors.Join(err, rollback)
			}
			return err
		}
		return tx.Commit()
	})
	if err != nil {
		return fmt.Errorf("%s: %w", what, err)
	}
	return nil
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
	Leader      int64     `db:"leader"` // the node that leads it, 0 if none does
	// Files are noticed but not taken until then; zero if it is not paused.
	PausedUntil *time.Time `db:"paused_until"`
	DueAt       *time.Time `db:"due_at"`   // the latest moment of its timetable that was kept
	AskedAt     *time.Time `db:"asked_at"` // when somebody asked to take what is there
	Since       time.Time  `db:"since"`    // when it was started or came to its revision
	Version     int64      `db:"version"`  // counts what people changed about it
	Applied     bool       `db:"applied"`  // its leader works by that version
	Holding     string     `db:"holding"`  // the folder in which what is fetched for it waits to be taken
}

// Paused tells whether a route is paused at a moment.
func (r *Route) Paused(at time.Time) bool { return r.PausedUntil != nil && at.Before(*r.PausedUntil) }

const routeColumns = `r.name, r.revision, v.number, r.running, v.published_at, coalesce(r.leader, 0) as leader, r.paused_until, r.due_at, r.asked_at, r.since, r.version, r.applied >= r.version and r.applied_by = coalesce(r.leader, 0) as applied, r.holding from routes r join revisions v on v.route = r.name and v.hash = r.revision`

// Routes lists the published routes by name.
func (s *Store) Routes(ctx context.Context) ([]Route, error) {
	out := []Route{}
	err := s.db.SelectContext(ctx, &out, `select `+routeColumns+` where r.removed_at is null order by r.name`)
	return out, err
}

// Route gives one published route.
func (s *Store) Route(ctx context.Context, name string) (Route, error) {
	var r Route
	err := s.db.GetContext(ctx, &r, `select `+routeColumns+` where r.name = $1 and r.removed_at is null`, name)
	return r, s.noRoute(ctx, err, name)
}

// Publish stores a revision, if it is new, and makes it the route's current
// one. It gives the revision's number.
func (s *Store) Publish(ctx context.Context, route, hash string, files map[string][]byte, said Said) (number int, changed bool, err error) {
	err = s.in(ctx, "publishing "+route, func(tx *sqlx.Tx) error {
		var current string
		if err := tx.GetContext(ctx, &current, `select revision from routes where name = $1 and removed_at is null for update`, route); err != nil && !errors.Is(err, sql.ErrNoRows) {
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
		_, err = tx.ExecContext(ctx, `insert into routes (name, revision) values ($1, $2) on conflict (name) do update set revision = excluded.revision, removed_at = null, since = case when routes.revision = excluded.revision then routes.since else now() end, version = routes.version + 1, changed_at = now()`, route, hash)
		if err != nil || !changed {
			return err
		}
		return act(ctx, tx, route, nil, fmt.Sprintf("published revision %d", number), said)
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

// SetRunning starts or stops a route. Starting ends a pause.
func (s *Store) SetRunning(ctx context.Context, route string, running bool, said Said) error {
	what := "stopped"
	if running {
		what = "started"
	}
	return s.change(ctx, route, what, said, `update routes set running = $2, since = case when $2 and not running then now() else since end, paused_until = null, version = version + 1, changed_at = now() where name = $1 and removed_at is null`, running)
}

// change changes a route, and notes who did and why. The route is the statement's first
// parameter.
func (s *Store) change(ctx context.Context, route, what string, said Said, statement string, args ...any) error {
	err := s.in(ctx, "changing "+route, func(tx *sqlx.Tx) error {
		if err := s.one(tx.ExecContext(ctx, statement, append([]any{route}, args...)...)); err != nil {
			return err
		}
		return act(ctx, tx, route, nil, what, said)
	})
	return s.noRoute(ctx, err, route)
}

// farAway is when a pause without an end ends.
var farAway = time.Date(9999, 1, 1, 0, 0, 0, 0, time.UTC)

// Pause lets a route take nothing until a moment; the zero time is without end.
func (s *Store) Pause(ctx context.Context, route string, until time.Time, said Said) error {
	what := "paused"
	if until.IsZero() {
		until = farAway
	} else {
		what += " until " + until.Format("2006-01-02 15:04 MST")
	}
	return s.change(ctx, route, what, said, `update routes set paused_until = $2, version = version + 1, changed_at = now() where name = $1 and removed_at is null`, until)
}

// Ask notes that somebody wants the files taken that are there now.
func (s *Store) Ask(ctx context.Context, route string) error {
	return s.one(s.db.ExecContext(ctx, `update routes set asked_at = now() where name = $1`, route))
}

// Applied records that a route's leader works by a version of it.
func (s *Store) Applied(ctx context.Context, node int64, route string, version int64) error {
	_, err := s.quick.ExecContext(ctx, `update routes set applied = $3, applied_by = $1 where name = $2 and leader = $1`, node, route, version)
	return err
}

// NotApplied gives those of some routes whose leaders do not work by their latest
// versions yet. A route that is stopped and led by nobody is as it should be.
func (s *Store) NotApplied(ctx context.Context, routes []string) ([]string, error) {
	out := []string{}
	err := s.db.SelectContext(ctx, &out, `select name from routes where name = any($1) and not (applied >= version and applied_by = coalesce(leader, 0)) and (running or leader is not null) order by name`, routes)
	return out, err
}

// Due notes that a moment of a route's timetable is being kept. It is false if
// that was done already, or if the node does not lead the route.
func (s *Store) Due(ctx context.Context, node int64, route string, due time.Time) (bool, error) {
	err := s.one(s.db.ExecContext(ctx, `update routes set due_at = $3 where name = $2 and leader = $1 and (due_at is null or due_at < $3)`, node, route, due))
	if errors.Is(err, ErrNotFound) {
		return false, nil
	}
	return err == nil, err
}

// one makes sure that a statement has met a row.
func (s *Store) one(result sql.Result, err error) error {
	if err != nil {
		return err
	}
	if n, err := result.RowsAffected(); err != nil || n == 0 {
		return errors.Join(ErrNotFound, err)
	}
	return nil
}

// Unfit tells that the database cannot hold a value that it was given, such as a text with NUL.
func Unfit(err error) bool {
	var pg *pgconn.PgError
	return errors.As(err, &pg) && strings.HasPrefix(pg.Code, "22")
}

// Refused tells that the database does not take what it was given, as opposed to not
// being there or not being able to: another try comes to the same.
func Refused(err error) bool {
	var pg *pgconn.PgError
	// Classes of SQLSTATE: data exceptions, integrity, syntax and rights.
	return errors.As(err, &pg) && (strings.HasPrefix(pg.Code, "22") || strings.HasPrefix(pg.Code, "23") || strings.HasPrefix(pg.Code, "42"))
}
