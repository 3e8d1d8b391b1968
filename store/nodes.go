package store

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jmoiron/sqlx"
	"golang.org/x/sys/unix"
)

// A node is one life of a service. It is alive as long as its connection holds a
// lock of its number and it renews its lease; what it led is then taken over by
// others. A service that has lost its connection comes back as a new node, so
// that whatever the old one still does is refused: every change of a pickup says
// which node makes it.

// nodeLocks is the class of the locks that nodes hold while they live.
const nodeLocks = 0x7964726e

// Lease is how long a node is believed to live after it was last heard of, while its
// connection stands, unless it says otherwise.
const Lease = 15 * time.Second

// terms are what follows from how long a node's lease is.
type terms struct {
	lease time.Duration
	sure  time.Duration // how long a node goes on without having renewed it
	renew time.Duration // how often it does
}

func termsOf(lease time.Duration) terms {
	if lease <= 0 {
		lease = Lease
	}
	return terms{lease: lease, sure: lease * 2 / 3, renew: lease / 8}
}

// channel is where nodes tell each other that something has changed.
const channel = "ydrion"

// Node is this service's life among the nodes.
type Node struct {
	ID    int64
	Name  string
	Life  context.Context // ends when the node is not sure any more that it lives
	end   context.CancelFunc
	hints chan string
	ended sync.WaitGroup
	terms terms
	sure  atomic.Int64 // until when (machine's time since its start) the node may be sure of its lease
}

// sinceBoot is the time since the machine started, which nobody can set and which goes
// on while a process or the machine sleeps.
func sinceBoot() time.Duration {
	var t unix.Timespec
	if err := unix.ClockGettime(unix.CLOCK_BOOTTIME, &t); err != nil {
		panic(err) // there is no such machine
	}
	return time.Duration(t.Nano())
}

// Sure tells whether the node can still be sure that nobody has taken over what it
// leads. Whoever is about to leave a mark outside the database asks first: a process
// that was stopped for a while wakes up in the middle of what it was doing. Once it is
// not sure the node's life ends.
func (n *Node) Sure() bool {
	if n.Life.Err() != nil {
		return false
	}
	if int64(sinceBoot()) >= n.sure.Load() {
		n.end()
		return false
	}
	return true
}

// Join makes the service a node. Its life ends with the connection, or when the
// database cannot be reached in time. Lease is how long it is believed to live after it
// was last heard of; 0 is the usual.
func (s *Store) Join(ctx context.Context, name, address string, lease time.Duration) (*Node, error) {
	ctx, cancel := context.WithTimeout(ctx, answerWithin)
	defer cancel()
	begun := sinceBoot()
	conn, err := pgx.ConnectConfig(ctx, s.db.pool.Config().ConnConfig)
	if err != nil {
		return nil, fmt.Errorf("joining the nodes: %w", away(err))
	}
	n := &Node{Name: name, hints: make(chan string, 64), terms: termsOf(lease)}
	// Nobody sees the node before it holds its lock, which outlives the
	// transaction.
	err = pgx.BeginFunc(ctx, conn, func(tx pgx.Tx) error {
		if err := tx.QueryRow(ctx, `insert into nodes (name, address, lease_until) values ($1, $2, now() + $3) returning id`, name, address, n.terms.lease).Scan(&n.ID); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, `select pg_advisory_lock($1, $2)`, nodeLocks, int32(n.ID))
		return err
	})
	if err == nil {
		_, err = conn.Exec(ctx, `listen `+channel)
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("joining the nodes: %w", away(err)), conn.Close(ctx))
	}
	n.Life, n.end = context.WithCancel(context.Background())
	n.sure.Store(int64(begun + n.terms.sure))
	n.ended.Go(func() {
		defer n.end()
		defer close(n.hints)
		n.live(s.closing, conn)
	})
	return n, nil
}

// Fresh tells whether the node has renewed its lease as often as it should. One that has
// not may have slept, and looks whether it still has what it works on.
func (n *Node) Fresh() bool {
	return n.Sure() && int64(sinceBoot()) < n.sure.Load()-int64(n.terms.sure-2*n.terms.renew)
}

// live renews the lease and passes hints on until the node's life ends.
func (n *Node) live(closing context.Context, conn *pgx.Conn) {
	defer func() {
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		conn.Exec(ctx, `update nodes set ended_at = now() where id = $1`, n.ID) //nolint: others find out by the lock
		conn.Close(ctx)                                                         //nolint: it goes away in any case
	}()
	renewed := time.Now()
	for n.Life.Err() == nil && closing.Err() == nil {
		wait, cancel := context.WithDeadline(n.Life, renewed.Add(n.terms.renew))
		note, err := conn.WaitForNotification(wait)
		cancel()
		if err == nil {
			select {
			case n.hints <- note.Payload:
			default: // whoever misses a hint looks every few seconds anyway
			}
		}
		if time.Since(renewed) < n.terms.renew {
			if conn.IsClosed() {
				return
			}
			continue
		}
		begun, boot := time.Now(), sinceBoot()
		renew, cancel := context.WithDeadline(closing, renewed.Add(n.terms.sure))
		tag, err := conn.Exec(renew, `update nodes set lease_until = now() + $2 where id = $1 and ended_at is null`, n.ID, n.terms.lease)
		cancel()
		if err != nil || tag.RowsAffected() == 0 {
			return
		}
		renewed = begun
		n.sure.Store(int64(boot + n.terms.sure))
	}
}

// Hints receives the names of what other nodes (or this one) have changed. It
// is closed when the node's life ends.
func (n *Node) Hints() <-chan string { return n.hints }

// Leave ends the node's life. What it led is free for others at once.
func (n *Node) Leave() {
	n.end()
	n.ended.Wait()
}

// Hint tells all nodes that something has changed. It is only a hint: should it
// be lost, they find out a little later.
func (s *Store) Hint(ctx context.Context, what string) {
	s.quick.ExecContext(ctx, `select pg_notify($1, $2)`, channel, what) //nolint: a hint
}

// NodeView is a node as people see it.
type NodeView struct {
	ID      int64      `db:"id"`
	Name    string     `db:"name"`
	Address string     `db:"address"`
	BeganAt time.Time  `db:"began_at"`
	EndedAt *time.Time `db:"ended_at"`
	Routes  int        `db:"routes"`
}

// Nodes lists the living nodes, and those that ended in the last day.
func (s *Store) Nodes(ctx context.Context) ([]NodeView, error) {
	out := []NodeView{}
	err := s.db.SelectContext(ctx, &out, `select n.id, n.name, n.address, n.began_at, n.ended_at, (select count(*) from routes r where r.leader = n.id) as routes
		from nodes n where n.ended_at is null or n.ended_at > now() - interval '1 day' order by n.ended_at nulls first, n.id limit 100`)
	return out, err
}

// Leading says how the routes are shared out.
type Leading struct {
	Mine    []Route  // the routes that the node leads
	Surplus int      // how many of them are more than its share
	Others  int      // living nodes besides this one
	Orphans []string // running routes that nobody leads, or whose leader does not work by what people decided
}

// Lead ends the nodes that have died, and takes what nobody leads up to the
// node's share. Open pickups of the routes that it leads become its own.
//
// Rescue are routes that nobody has led for a while, although another node is there
// whose share they are: they are taken whatever the shares.
func (s *Store) Lead(ctx context.Context, node int64, rescue []string) (Leading, error) {
	var l Leading
	err := s.in(ctx, "sharing out the routes", func(tx *sqlx.Tx) error {
		var others []int64
		if err := tx.SelectContext(ctx, &others, `select id from nodes where ended_at is null and id <> $1`, node); err != nil {
			return err
		}
		alive := 1
		for _, other := range others {
			var dead bool
			if err := tx.GetContext(ctx, &dead, `select pg_try_advisory_xact_lock($1, $2::int) or coalesce((select lease_until < now() from nodes where id = $2), true)`, nodeLocks, other); err != nil {
				return err
			}
			if !dead {
				alive++
				continue
			}
			if _, err := tx.ExecContext(ctx, `update nodes set ended_at = now() where id = $1 and ended_at is null`, other); err != nil {
				return err
			}
		}
		var living bool
		if err := tx.GetContext(ctx, &living, `select count(*) = 1 from nodes where id = $1 and ended_at is null`, node); err != nil {
			return err
		}
		if !living {
			return ErrGone
		}
		var total, mine int
		if err := tx.QueryRowxContext(ctx, `select count(*), count(*) filter (where leader = $1) from routes where removed_at is null`, node).Scan(&total, &mine); err != nil {
			return err
		}
		share := (total + alive - 1) / alive
		l.Others = alive - 1
		l.Surplus = max(0, mine-share)
		taken := 0
		if want := share - mine; want > 0 {
			var names []string
			if err := tx.SelectContext(ctx, &names, `update routes set leader = $1 where name in (select name from routes r where removed_at is null and (leader is null or not exists (select 1 from nodes n where n.id = r.leader and n.ended_at is null)) order by name limit $2 for update skip locked) returning name`, node, want); err != nil {
				return err
			}
			taken = len(names)
		}
		if len(rescue) > 0 {
			r, err := tx.ExecContext(ctx, `update routes set leader = $1 where name = any($2) and removed_at is null and not exists (select 1 from nodes n where n.id = routes.leader and n.ended_at is null)`, node, rescue)
			if err != nil {
				return err
			}
			n, err := r.RowsAffected()
			if err != nil {
				return err
			}
			taken += int(n)
		}
		if mine+taken > 0 {
			if _, err := tx.ExecContext(ctx, `update pickups p set node = $1 from routes r where r.name = p.route and r.leader = $1 and p.node <> $1 and p.state in ('claimed', 'taken', 'committed', 'held', 'uncertain')`, node); err != nil {
				return err
			}
		}
		if err := tx.SelectContext(ctx, &l.Orphans, `select r.name from routes r left join nodes n on n.id = r.leader and n.ended_at is null where r.running and (n.id is null or r.leader <> $1 and not (r.applied >= r.version and r.applied_by = r.leader)) order by r.name`, node); err != nil {
			return err
		}
		return tx.SelectContext(ctx, &l.Mine, `select `+routeColumns+` where r.leader = $1 order by r.name`, node)
	})
	return l, err
}

// ErrGone says that a node has been given up by the others.
var ErrGone = errors.New("the other nodes have given this one up")

// SetNews records what the leader of a route sees at the moment.
func (s *Store) SetNews(ctx context.Context, route string, content []byte) error {
	_, err := s.quick.ExecContext(ctx, `insert into news (route, content) values ($1, $2::text::jsonb) on conflict (route) do update set content = excluded.content`, route, string(content))
	return err
}

// News gives what the leader of a route has recorded last, nil if nothing.
func (s *Store) News(ctx context.Context, route string) ([]byte, error) {
	var content []byte
	err := s.db.GetContext(ctx, &content, `select content from news where route = $1`, route)
	if errors.Is(notFound(err), ErrNotFound) {
		return nil, nil
	}
	return content, err
}

// Yield gives up leading a route, for others to take.
func (s *Store) Yield(ctx context.Context, node int64, route string) error {
	_, err := s.db.ExecContext(ctx, `update routes set leader = null where name = $2 and leader = $1`, node, route)
	return err
}
