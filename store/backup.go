package store

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
)

// A backup of the records is all their tables as they stood at one moment, each in
// PostgreSQL's own text form (COPY), whatever else goes on meanwhile.

// kept are the tables of a backup, in the order in which they can be filled again.
var kept = []string{"installation", "routes", "revisions", "revision_files", "pickups", "runs", "run_pickups", "run_sequences", "deliveries", "rejects", "tallies", "left_files", "expected", "alerts", "messages", "legal_holds", "acts", "collections", "lookup_versions", "run_lookups", "fetches"}

// passing are the tables that say only what is at the moment.
var passing = []string{"nodes", "news", "goose_db_version"}

// ErrNotEmpty says that a database has records already.
var ErrNotEmpty = errors.New("the database is not empty")

// Table is a table in a backup.
type Table struct {
	Name    string   `json:"name"`
	Columns []string `json:"columns"`
	Rows    int64    `json:"rows"`
}

// Snapshot is the records as they stood at a moment.
type Snapshot struct {
	At      time.Time `json:"at"`
	Version int64     `json:"version"` // of the tables
	Tables  []Table   `json:"tables"`
	// Originals are the contents that pickups need, by SHA-256, packed.
	Originals [][32]byte `json:"-"`
}

// Backup writes the records as they stand at one moment; each gets a table's rows.
func (s *Store) Backup(ctx context.Context, each func(t Table) io.Writer) (out Snapshot, err error) {
	conn, err := pgx.ConnectConfig(ctx, s.lists.pool.Config().ConnConfig)
	if err != nil {
		return out, away(err)
	}
	defer conn.Close(context.WithoutCancel(ctx)) //nolint: it was only read from
	if _, err := conn.Exec(ctx, `set idle_in_transaction_session_timeout = 0`); err != nil {
		return out, err
	}
	err = pgx.BeginTxFunc(ctx, conn, pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly}, func(tx pgx.Tx) error {
		if err := tx.QueryRow(ctx, `select now(), (select max(version_id) from goose_db_version where is_applied)`).Scan(&out.At, &out.Version); err != nil {
			return err
		}
		if err := all(ctx, tx); err != nil {
			return err
		}
		for _, name := range kept {
			t := Table{Name: name}
			rows, err := tx.Query(ctx, `select column_name from information_schema.columns where table_schema = current_schema() and table_name = $1 order by ordinal_position`, name)
			if err != nil {
				return err
			}
			if t.Columns, err = pgx.CollectRows(rows, pgx.RowTo[string]); err != nil {
				return err
			}
			tag, err := conn.PgConn().CopyTo(ctx, each(t), fmt.Sprintf("copy %s (%s) to stdout", name, strings.Join(t.Columns, ", ")))
			if err != nil {
				return fmt.Errorf("reading %s: %w", name, err)
			}
			t.Rows = tag.RowsAffected()
			out.Tables = append(out.Tables, t)
		}
		rows, err := tx.Query(ctx, `select sha256 from pickups where archived and sha256 is not null union select sha256 from left_files`)
		if err != nil {
			return err
		}
		var sum string
		_, err = pgx.ForEachRow(rows, []any{&sum}, func() error {
			var packed [32]byte
			if n, err := hex.Decode(packed[:], []byte(sum)); n == 32 && err == nil {
				out.Originals = append(out.Originals, packed)
			}
			return nil
		})
		return err
	})
	if err != nil {
		return out, fmt.Errorf("backing up the records: %w", away(err))
	}
	return out, nil
}

// all makes sure that no table is forgotten.
func all(ctx context.Context, tx pgx.Tx) error {
	rows, err := tx.Query(ctx, `select table_name from information_schema.tables where table_schema = current_schema() and table_type = 'BASE TABLE'`)
	if err != nil {
		return err
	}
	names, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return err
	}
	for _, name := range names {
		if !slices.Contains(kept, name) && !slices.Contains(passing, name) {
			return fmt.Errorf("the table %s is not known to backups", name)
		}
	}
	return nil
}

// Empty makes sure that a database has no tables of ours or of anybody else's:
// ErrNotEmpty otherwise.
func Empty(ctx context.Context, url string) error {
	conn, err := pgx.Connect(ctx, url)
	if err != nil {
		return away(err)
	}
	defer conn.Close(context.WithoutCancel(ctx)) //nolint: it was only read from
	return empty(ctx, conn)
}

func empty(ctx context.Context, conn *pgx.Conn) error {
	var tables int
	if err := conn.QueryRow(ctx, `select count(*) from information_schema.tables where table_schema = current_schema() and table_type = 'BASE TABLE' and table_name <> 'goose_db_version'`).Scan(&tables); err != nil {
		return err
	}
	if tables > 0 {
		return ErrNotEmpty
	}
	return nil
}

// Restore fills an empty database with a backup. Content gives a table's rows. What was
// handed out after the backup is not known: numbers go on far behind those that are, by
// Skip, and no node leads any more.
func Restore(ctx context.Context, url string, of Snapshot, skip int64, content func(t Table) (io.Reader, error)) error {
	conn, err := pgx.Connect(ctx, url)
	if err != nil {
		return away(err)
	}
	defer conn.Close(context.WithoutCancel(ctx)) //nolint: everything was committed
	if err := empty(ctx, conn); err != nil {
		return err
	}
	sub, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	sql := stdlib.OpenDB(*conn.Config())
	defer sql.Close() //nolint: as above
	provider, err := goose.NewProvider(goose.DialectPostgres, sql, sub)
	if err != nil {
		return err
	}
	sources := provider.ListSources()
	if newest := sources[len(sources)-1].Version; of.Version > newest {
		return fmt.Errorf("the backup was made by a newer program: its tables are of version %d, this one knows %d", of.Version, newest)
	}
	if _, err := provider.UpTo(ctx, of.Version); err != nil {
		return fmt.Errorf("making the tables: %w", err)
	}
	err = pgx.BeginFunc(ctx, conn, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `delete from installation`); err != nil {
			return err
		}
		for _, t := range of.Tables {
			if !slices.Contains(kept, t.Name) {
				return fmt.Errorf("the table %s is not known", t.Name)
			}
			in, err := content(t)
			if err != nil {
				return err
			}
			var columns []string
			for _, c := range t.Columns {
				columns = append(columns, pgx.Identifier{c}.Sanitize())
			}
			tag, err := conn.PgConn().CopyFrom(ctx, in, fmt.Sprintf("copy %s (%s) from stdin", t.Name, strings.Join(columns, ", ")))
			if err != nil {
				return fmt.Errorf("filling %s: %w", t.Name, err)
			}
			if tag.RowsAffected() != t.Rows {
				return fmt.Errorf("%s has %d rows instead of %d", t.Name, tag.RowsAffected(), t.Rows)
			}
		}
		if _, err := tx.Exec(ctx, `update routes set leader = null, sequence = sequence + $1`, skip); err != nil {
			return fmt.Errorf("numbers: %w", err)
		}
		// What was fetched and not taken yet is not in a backup: if it is still on its server, it is fetched once more.
		if _, err := tx.Exec(ctx, `do $$ begin if to_regclass('fetches') is not null then
			update fetches set state = 'withdrawn', ended_at = now(), reason = 'the records were restored from a backup' where state in ('fetched', 'placed'); end if; end $$`); err != nil {
			return fmt.Errorf("what was being fetched: %w", err)
		}
		return onward(ctx, tx, skip)
	})
	if err != nil {
		// Tables without records would be in the way of another try.
		_, undo := provider.DownTo(ctx, 0)
		return errors.Join(fmt.Errorf("restoring the records: %w", err), undo)
	}
	if _, err := provider.Up(ctx); err != nil {
		return fmt.Errorf("bringing the tables up to date: %w", err)
	}
	return nil
}

// onward lets each table that numbers its rows go on so many numbers behind the last one that it
// holds: what was numbered after the backup may be known elsewhere.
func onward(ctx context.Context, tx pgx.Tx, skip int64) error {
	rows, err := tx.Query(ctx, `select table_name, column_name from information_schema.columns where table_schema = current_schema() and is_identity = 'YES' order by 1`)
	if err != nil {
		return fmt.Errorf("numbers: %w", err)
	}
	numbered, err := pgx.CollectRows(rows, pgx.RowToStructByPos[struct{ Table, Column string }])
	for _, n := range numbered {
		if err != nil {
			break
		}
		table, column := pgx.Identifier{n.Table}.Sanitize(), pgx.Identifier{n.Column}.Sanitize()
		_, err = tx.Exec(ctx, fmt.Sprintf(`select setval(pg_get_serial_sequence($1, $2), greatest(coalesce(max(%s), 0) + $3, 1), coalesce(max(%s), 0) + $3 > 0) from %s`, column, column, table), table, n.Column, skip)
	}
	if err != nil {
		return fmt.Errorf("numbers: %w", err)
	}
	return nil
}
