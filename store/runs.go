package store

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jmoiron/sqlx"

	"ydrion/core/finding"
	"ydrion/core/flow"
	"ydrion/core/mail"
)

// Many pickups go through the protocol together: each of these calls is one
// exchange with the database, whatever their number. Only the commit waits for
// the disk; see docs/promises.md for what the others may lose.

// Claim is a file that a route is about to take.
type Claim struct {
	Path     string
	Folder   string // below the listened folder
	Name     string
	Size     int64
	Modified time.Time
	Device   uint64
	Inode    uint64
	Noticed  time.Time
	Lane     *string    // what it must stay in order with; nil: nothing
	Key      *string    // its business key; nil: none
	Event    string     // arrived, changed, gone
	Origin   string     // inbox, left
	Together bool       // with others, without which it does not go on
	CameFrom string     // where it was on a server; empty: it came here
	Mail     *mail.Head // that it was attached to; nil: to none
	SHA256   string     // of its content, where that is known before it is taken
}

// columns are claims as newPickups reads them, and where each path is among them.
func columns(node int64, route string, claims []Claim) (args []any, at map[string]int, err error) {
	n := len(claims)
	paths, folders, names, sizes, modified := make([]string, n), make([]string, n), make([]string, n), make([]int64, n), make([]time.Time, n)
	devices, inodes, noticed, lanes, keys := make([]string, n), make([]string, n), make([]time.Time, n), make([]*string, n), make([]*string, n)
	events, origins, raws, together, from := make([]string, n), make([]string, n), make([][]byte, n), make([]bool, n), make([]string, n)
	mails, sums := make([]*string, n), make([]string, n)
	at = make(map[string]int, n)
	for i, c := range claims {
		at[c.Path] = i
		if mails[i], err = mailText(c.Mail); err != nil {
			return nil, nil, err
		}
		paths[i], folders[i], names[i], sizes[i], modified[i] = Readable(c.Path), Readable(c.Folder), Readable(c.Name), c.Size, c.Modified
		devices[i], inodes[i], noticed[i], lanes[i], keys[i] = fmt.Sprint(c.Device), fmt.Sprint(c.Inode), c.Noticed, readable(c.Lane), readable(c.Key)
		events[i], origins[i], raws[i], together[i], from[i] = c.Event, c.Origin, rawPath(c.Path), c.Together, Readable(c.CameFrom)
		sums[i] = c.SHA256
	}
	return []any{node, route, paths, folders, names, sizes, modified, devices, inodes, noticed, lanes, keys, events, origins, raws, together, from, mails, sums}, at, nil
}

// newPickups makes pickups of claims in a state, with more columns and what they get, and counts them; a file that has an open one, as
// pickups_claimed says, gets none. Its parameters are those of columns.
func newPickups(state, more, given string) string {
	return `with new as (
			insert into pickups (route, path, folder, name, size, modified, device, inode, state, noticed_at, node, lane, business_key, event, origin, raw_path, together, came_from, mail` + more + `)
			select $2, path, folder, name, size, modified, device::numeric, inode::numeric, '` + state + `', noticed, $1, lane, key, event, origin, raw, together, came_from, mail::jsonb` + given + `
			from unnest($3::text[], $4::text[], $5::text[], $6::bigint[], $7::timestamptz[], $8::text[], $9::text[], $10::timestamptz[], $11::text[], $12::text[], $13::text[], $14::text[], $15::bytea[], $16::bool[], $17::text[], $18::text[], $19::text[])
				with ordinality as t (path, folder, name, size, modified, device, inode, noticed, lane, key, event, origin, raw, together, came_from, mail, sum, ord)
			where exists (select 1 from routes where name = $2 and leader = $1) order by ord
			on conflict do nothing returning id, path, raw_path, sha256, business_key, run),
		counted as (insert into tallies (route, quarter, pickups) select $2, date_bin('15 minutes', now(), 'epoch'), count(*) from new having count(*) > 0
			on conflict (route, quarter) do update set pickups = tallies.pickups + excluded.pickups)`
}

// Claim records that files are being taken by a route's leader and gives the
// pickups' numbers: 0 for a file on which there is an open claim already. All
// are 0 if the node does not lead the route.
func (s *Store) Claim(ctx context.Context, node int64, route string, claims []Claim) ([]int64, error) {
	args, at, err := columns(node, route, claims)
	if err != nil {
		return nil, err
	}
	ids := make([]int64, len(claims))
	var id int64
	var path string
	var raw []byte
	err = s.quick.rows(ctx, len(claims), newPickups("claimed", ", sha256", ", nullif(sum, '')")+` select id, path, raw_path from new`, args, []any{&id, &path, &raw}, func() error {
		path, _ := named(path, raw)
		ids[at[path]] = id
		return nil
	})
	if err != nil {
		return nil, fmt.Errorf("claiming files: %w", err)
	}
	return ids, nil
}

// Begin is Claim and Taken in one for files that nobody else can reach, whose contents are known before they are taken. It records them as
// taken, by a revision and with the moment that their maps see, and begins a run of each.
func (s *Store) Begin(ctx context.Context, node int64, route, revision string, now time.Time, claims []Claim) ([]int64, []Begun, error) {
	args, at, err := columns(node, route, claims)
	if err != nil {
		return nil, nil, err
	}
	ids, begun := make([]int64, len(claims)), make([]Begun, len(claims))
	var id int64
	var path string
	var raw []byte
	var b Begun
	err = s.quick.rows(ctx, len(claims), newPickups("taken", ", sha256, taken_at, run", ", sum, now(), nextval('runs_id_seq')")+`,
		r as (insert into runs (id, route, revision, state, facts_now) overriding system value select run, $2, $20, 'working', $21 from new),
		l as (insert into run_pickups (run, pickup, ord) select run, id, 1 from new)
		select new.id, new.path, new.raw_path, new.run, coalesce(b.id, 0), coalesce(b.name, ''), coalesce(k.id, 0), coalesce(k.name, '') from new
			`+earlier("new.sha256", "new.business_key", "$2", "new.id"),
		append(args, revision, now), []any{&id, &path, &raw, &b.Run, &b.Before, &b.BeforeName, &b.BeforeKey, &b.BeforeKeyName}, func() error {
			path, _ := named(path, raw)
			ids[at[path]], begun[at[path]] = id, b
			return nil
		})
	if err != nil {
		return nil, nil, fmt.Errorf("taking files: %w", err)
	}
	return ids, begun, nil
}

// Withdrawn ends the claim on a file that went away before it was taken, or
// that nobody wants any more.
func (s *Store) Withdrawn(ctx context.Context, node, pickup int64, reason string) error {
	_, err := s.quick.ExecContext(ctx, `with w as (update pickups set state = 'withdrawn', reason = $3, ended_at = now(), next_try = null where id = $2 and node = $1 and state in ('claimed', 'held', 'taken') returning route, claimed_at)
		update tallies t set pickups = t.pickups - 1 from w where t.route = w.route and t.quarter = date_bin('15 minutes', w.claimed_at, 'epoch')`, node, pickup, Readable(reason))
	return err
}

// Take is what is found out about a file when it is taken.
type Take struct {
	Pickup   int64
	SHA256   string
	Size     int64
	Revision string
	Now      time.Time
	// Of several that go on together: the first of them (0: it goes on by itself), how many they are, and what this
	// one is to the others.
	With  int64
	Files int
	Part  Part
	Together
}

// Together is what is known of files that go on together, with the first of them.
type Together struct {
	CollectKey string `db:"key"`     // what they have in common
	Missing    string `db:"missing"` // without what they go on that was waited for; empty: they are complete
	Refused    bool   `db:"refused"` // and are rejected, as the route says
	LateOf     int64  `db:"late_of"` // the pickup with which those went on that they were waited for with; 0: none
}

// Begun is a run that has begun.
type Begun struct {
	Run int64
	// Earlier pickups of the route with the same content or the same business
	// key, 0 if there are none.
	Before, BeforeKey         int64
	BeforeName, BeforeKeyName string
}

// Taken records the files' contents and begins their first runs, in the order
// given: one for each, or for all that go on together, which follow each other. A pickup that is not the node's any
// more is left out, with those that it goes on with: its run is 0.
func (s *Store) Taken(ctx context.Context, node int64, route string, taken []Take) ([]Begun, error) {
	n := len(taken)
	ids, sums, sizes, revisions, nows := make([]int64, n), make([]string, n), make([]int64, n), make([]string, n), make([]time.Time, n)
	firsts, files, parts, keys, missing, refused, late := make([]int64, n), make([]int, n), make([]string, n), make([]string, n), make([]string, n), make([]bool, n), make([]int64, n)
	at := make(map[int64]int, n)
	for i, t := range taken {
		at[t.Pickup] = i
		firsts[i], files[i], parts[i] = cmp.Or(t.With, t.Pickup), max(t.Files, 1), string(cmp.Or(t.Part, ToRead))
		keys[i], missing[i], refused[i], late[i] = t.CollectKey, t.Missing, t.Refused, t.LateOf
		ids[i], sums[i], sizes[i], revisions[i], nows[i] = t.Pickup, t.SHA256, t.Size, t.Revision, t.Now
	}
	out := make([]Begun, n)
	var pickup int64
	var b Begun
	err := s.quick.rows(ctx, n, take,
		[]any{node, route, ids, sums, sizes, revisions, nows, firsts, files, parts, keys, missing, refused, late},
		[]any{&pickup, &b.Run, &b.Before, &b.BeforeName, &b.BeforeKey, &b.BeforeKeyName}, func() error { out[at[pickup]] = b; return nil })
	if err != nil {
		return nil, fmt.Errorf("recording that files were taken: %w", err)
	}
	return out, nil
}

// take begins runs of pickups ($3) of a node ($1) and a route ($2), and tells what came before that had the same content or key.
var take = `with mine as (
			select t.*, p.business_key, p.together as p_together from unnest($3::bigint[], $4::text[], $5::bigint[], $6::text[], $7::timestamptz[], $8::bigint[], $9::int[], $10::text[], $11::text[], $12::text[], $13::bool[], $14::bigint[]) with ordinality as t (pickup, sum, size, revision, moment, first, files, part, key, missing, refused, late_of, ord)
			join pickups p on p.id = t.pickup and p.node = $1 and ` + stateOf + ` in ('claimed', 'held') and p.run is null),
		n as (select first, nextval('runs_id_seq') as run from (select first from mine group by first, files having count(*) = files order by min(ord)) as whole),
		t as (select mine.*, n.run, row_number() over (partition by mine.first order by mine.ord) as place from mine join n on n.first = mine.first),
		r as (insert into runs (id, route, revision, state, facts_now, files, key, missing, refused, late_of) overriding system value select run, $2, revision, 'working', moment, files, key, missing, refused, late_of from t where place = 1),
		l as (insert into run_pickups (run, pickup, ord, part) select run, pickup, place, part from t),
		c as (update collections set ended_at = now(), missing = t.missing, pickup = t.pickup, late_of = null from t where collections.route = $2 and collections.key = t.key and t.place = 1 and t.p_together),
		p as (update pickups set state = 'taken', reason = '', next_try = null, sha256 = t.sum, size = t.size, run = t.run, taken_at = now() from t where pickups.id = t.pickup)
		select t.pickup, t.run, coalesce(b.id, 0), coalesce(b.name, ''), coalesce(k.id, 0), coalesce(k.name, '') from t
			` + earlier("t.sum", "t.business_key", "$2", "t.pickup")

// Handed is a file that somebody gave to a route, by its content in the archive.
type Handed struct {
	Route, Revision, Name, SHA256, By string
	Size                              int64
	Now                               time.Time
	Said                              Said
}

// Hand makes a pickup of a file that is in the archive already. The route's
// leader goes on with it.
func (s *Store) Hand(ctx context.Context, h Handed) (pickup int64, err error) {
	err = s.in(ctx, "handing a file to "+h.Route, func(tx *sqlx.Tx) error {
		if err := tx.GetContext(ctx, &pickup, `insert into pickups (route, path, folder, name, size, modified, device, inode, state, sha256, noticed_at, taken_at, node, origin, handed_by)
			select name, '', '', $2, $3, now(), 0, 0, 'taken', $4, now(), now(), coalesce(leader, 0), 'handed', $5 from routes where name = $1 returning id`, h.Route, h.Name, h.Size, h.SHA256, h.By); err != nil {
			return notFound(err)
		}
		if _, err := beginRun(ctx, tx, pickup, h.Route, h.Revision, h.Now, nil); err != nil {
			return err
		}
		if err := act(ctx, tx, h.Route, &pickup, "handed in", h.Said); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `insert into tallies (route, quarter, pickups) values ($1, date_bin('15 minutes', now(), 'epoch'), 1) on conflict (route, quarter) do update set pickups = tallies.pickups + 1`, h.Route)
		return err
	})
	return pickup, err
}

func beginRun(ctx context.Context, tx *sqlx.Tx, pickup int64, route, revision string, now time.Time, sameAs *int64) (run int64, err error) {
	// Nobody would go on with the pickup of a route that is not there any more. It stays
	// there until this has been written.
	var there string
	if err := tx.GetContext(ctx, &there, `select name from routes where name = $1 and removed_at is null for share`, route); errors.Is(notFound(err), ErrNotFound) {
		return 0, fmt.Errorf("%w: the route %s was removed; publish it first", ErrNotSo, route)
	} else if err != nil {
		return 0, err
	}
	if err := tx.GetContext(ctx, &run, `insert into runs (route, revision, state, again, facts_now, same_as, files, key) select $1, $2, 'working', b.id is not null, $3, $5, coalesce(b.files, 1), coalesce(b.key, '')
			from pickups p left join runs b on b.id = p.run where p.id = $4 returning id`, route, revision, now, pickup, sameAs); err != nil {
		return 0, err
	}
	if _, err := tx.ExecContext(ctx, `with before as (select rp.pickup, rp.ord, rp.part from run_pickups rp join pickups p on p.run = rp.run where p.id = $2)
		insert into run_pickups (run, pickup, ord, part) select $1::bigint, pickup, ord, part from before union all select $1::bigint, $2::bigint, 1, 'read' where not exists (select 1 from before)`, run, pickup); err != nil {
		return 0, err
	}
	_, err = tx.ExecContext(ctx, `update pickups set state = 'taken', reason = '', tries = 0, next_try = null, passed = false, run = $1, ended_at = null, node = coalesce((select leader from routes where name = pickups.route), node) from run_pickups rp where rp.run = $1 and rp.pickup = pickups.id`, run)
	return run, err
}

// Again is another run of a pickup that has ended.
type Again struct {
	Pickup   int64
	Revision string
	Now      time.Time
	SameAs   *int64 // the run whose time and sequence numbers it repeats
	Said     Said
}

// again are the states of pickups that can be run again.
var again = []string{"delivered", "rejected", "set aside"}

// Again begins another run of a pickup that has ended. The route's leader goes
// on with it.
func (s *Store) Again(ctx context.Context, a Again) (run int64, err error) {
	err = s.in(ctx, "beginning another run", func(tx *sqlx.Tx) error {
		var p struct {
			State, Route string
			Archived     bool
		}
		if err := tx.GetContext(ctx, &p, `select state, route, archived from pickups where id = $1 for update`, a.Pickup); err != nil {
			return notFound(err)
		}
		// The files of a run of several are run again together.
		var others []struct {
			ID       int64
			State    string
			Archived bool
		}
		if err := tx.SelectContext(ctx, &others, `select o.id, o.state, o.archived from pickups o where o.id = any(array(`+withIt("$1")+`)) order by o.id for update`, a.Pickup); err != nil {
			return err
		}
		if !slices.Contains(again, p.State) {
			return fmt.Errorf("%w: it is %s", ErrBusy, p.State)
		}
		for _, o := range others {
			if !slices.Contains(again, o.State) {
				return fmt.Errorf("%w: pickup %d, which goes on together with it, is %s", ErrBusy, o.ID, o.State)
			}
			p.Archived = p.Archived && o.Archived
		}
		if !p.Archived {
			return ErrPurged
		}
		if run, err = beginRun(ctx, tx, a.Pickup, p.Route, a.Revision, a.Now, a.SameAs); err != nil {
			return err
		}
		what := "run again"
		if a.SameAs != nil {
			what = "run once more, the same"
		}
		return act(ctx, tx, p.Route, &a.Pickup, what, a.Said)
	})
	return run, err
}

// ErrBusy says that a pickup cannot be run again now.
var ErrBusy = errors.New("the pickup has not ended")

// ErrPurged says that a pickup's original is no longer kept.
var ErrPurged = errors.New("its original is no longer kept")

// stateOf is the state of a pickup p in a form in which no index has it: rows that are told by their numbers are found by these. An index of
// the few pickups that are under way looks cheap while the tables are young, and is full of those that were a moment ago.
const stateOf = `(p.state || '')`

// deliveryStateOf is the same of a delivery d. Of many runs at once, the database would go through all deliveries that are
// open, and were a moment ago, for each.
const deliveryStateOf = `(d.state || '')`

// withIt selects the number of a pickup, and of those that are worked on together with it.
func withIt(pickup string) string {
	return `select o.pickup from pickups p join run_pickups o on o.run = p.run where p.id = ` + pickup + ` union select ` + pickup + `::bigint`
}

// Held records why a pickup cannot go on, and when it will be tried again; the
// zero time says that it waits for a person.
func (s *Store) Held(ctx context.Context, node, pickup int64, state, reason string, next time.Time) error {
	var at *time.Time
	if !next.IsZero() {
		at = &next
	}
	return s.one(s.db.ExecContext(ctx, `update pickups set state = $3, reason = $4, tries = tries + 1, next_try = $5 where id = any(array(`+withIt("$2")+`)) and node = $1 and state in ('claimed', 'taken', 'held', 'committed', 'uncertain')`, node, pickup, state, Readable(reason), at))
}

// Numbers hands out n numbers of a route's sequence to its leader. They are
// journalled when the run that uses them commits, which makes both durable;
// numbers of a run that is started over are not used again.
func (s *Store) Numbers(ctx context.Context, node int64, route string, n int) (first int64, err error) {
	if err = s.quick.GetContext(ctx, &first, `update routes set sequence = sequence + $3 where name = $2 and leader = $1 returning sequence - $3`, node, route, n); err != nil {
		err = fmt.Errorf("handing out sequence numbers: %w", notFound(err))
	}
	return first, err
}

// Delivery is one output of a run on its way to one destination.
type Delivery struct {
	Run         int64      `db:"run"`
	Ord         int        `db:"ord"`
	Kind        string     `db:"kind"`
	Output      int        `db:"output"`
	Folder      string     `db:"folder"`
	Name        string     `db:"name"`
	Temporary   string     `db:"temporary"`
	Said        string     `db:"said"` // what goes with it where it is sent, as a JSON object of texts; empty: nothing
	Size        int64      `db:"size"`
	SHA256      string     `db:"sha256"`
	Records     int64      `db:"records"`
	FirstRecord int64      `db:"first_record"`
	State       string     `db:"state"`
	Reason      string     `db:"reason"`
	PublishedAt *time.Time `db:"published_at"`
	Replaces    bool       // it takes the place of what has its name
	// The folder that held the output before it was published; 0 if it is not known.
	Device uint64 `db:"device"`
	Inode  uint64 `db:"inode"`
	// Of one that goes to a server.
	Tries   int        `db:"tries"`
	NextTry *time.Time `db:"next_try"`
	NamedAt *time.Time `db:"named_at"` // it was about to get its name there
	Receipt string     `db:"receipt"`
	InParts string     `db:"upload"` // as what an object store knows the parts that it has of it
}

const deliveryColumns = `run, ord, kind, output, folder, name, temporary, size, sha256, records, first_record, state, reason, published_at, coalesce(device, 0) as device, coalesce(inode, 0) as inode, tries, next_try, named_at, receipt, upload, coalesce(said::text, '') as said`

// Reject is a record that did not pass.
type Reject struct {
	Record   int64
	Line     int64
	Raw      []byte
	Findings finding.List
	File     int // of those of the run, from 1; 0 is the first, too
}

// Block is a block of sequence numbers that a run has used.
type Block struct{ First, Count int64 }

// Commit is what a run has come to, before anything is visible.
type Commit struct {
	Run, Pickup int64
	Attempt     int // of the run, see Abandon
	Balance     flow.Balance
	Whole       bool
	Findings    finding.List
	Deliveries  []Delivery
	Kept        int // deliveries that were stored before, in portions
	Rejects     []Reject
	Numbers     []Block
	Files       []FileCommit // of a run of several
	Versions    []Version    // of lookups
	Branches    []BranchOf   // where the route has several
}

// BranchOf is of how many records a branch has made something.
type BranchOf struct {
	Name    string `json:"name"`
	Records int64  `json:"records"`
}

// FileCommit is what a run has come to with one of its files.
type FileCommit struct {
	Pickup  int64
	Balance flow.Balance
	Whole   bool
	Reason  string
}

// chunk is how many rows go into the database in one statement.
const chunk = 1000

// Commit records the outputs of runs in one transaction with their states. From
// then on they are only published, never made again. It is one exchange with the
// database: either all of it is there afterwards or nothing. A run that is not
// the node's any more fails the whole.
func (s *Store) Commit(ctx context.Context, node int64, commits []Commit) error {
	var batch pgx.Batch
	if err := queueRuns(&batch, node, commits); err != nil {
		return err
	}
	var deliveries []Delivery
	for _, c := range commits {
		deliveries = append(deliveries, c.Deliveries...)
		if err := queueRejects(&batch, c.Run, c.Rejects); err != nil {
			return err
		}
	}
	queueDeliveries(&batch, deliveries)
	for _, c := range commits {
		queueOvertaken(&batch, c)
	}
	if err := s.db.send(ctx, len(deliveries), &batch); err != nil {
		var said *pgconn.PgError
		if errors.As(err, &said) && said.Code == "22012" { // division by zero: see queueRuns
			err = ErrNotOurs
		}
		return fmt.Errorf("committing: %w", err)
	}
	return nil
}

// ErrNotOurs says that a run cannot be committed by who wants to: it is not there, is not at work
// any more, or belongs to another node.
var ErrNotOurs = errors.New("a run of the group has ended, or another node works on it")

func queueRuns(batch *pgx.Batch, node int64, commits []Commit) error {
	n := len(commits)
	runs, pickups, attempts, reasons, findings, wholes := make([]int64, n), make([]int64, n), make([]int, n), make([]string, n), make([]string, n), make([]bool, n)
	branches := make([]string, n)
	in, good, rejected, filtered, merged, warnings, bytes := make([]int64, n), make([]int64, n), make([]int64, n), make([]int64, n), make([]int64, n), make([]int64, n), make([]int64, n)
	var blockRuns, firsts, counts []int64
	var ords []int
	for i, c := range commits {
		f, err := json.Marshal(append(finding.List{}, c.Findings...))
		if err != nil {
			return err
		}
		of, err := json.Marshal(append([]BranchOf{}, c.Branches...))
		if err != nil {
			return err
		}
		branches[i] = string(of)
		b := c.Balance
		if b.In != b.Good+b.Rejected+b.Filtered+b.Merged {
			return fmt.Errorf("run %d does not balance: %s", c.Run, b)
		}
		runs[i], pickups[i], attempts[i], reasons[i], findings[i], wholes[i] = c.Run, c.Pickup, c.Attempt, Readable(c.reason()), jsonText(f), c.Whole
		in[i], good[i], rejected[i], filtered[i], merged[i], warnings[i], bytes[i] = b.In, b.Good, b.Rejected, b.Filtered, b.Merged, b.Warnings, b.Bytes
		for k, block := range c.Numbers {
			blockRuns, firsts, counts, ords = append(blockRuns, c.Run), append(firsts, block.First), append(counts, block.Count), append(ords, k+1)
		}
	}
	several := slices.ContainsFunc(commits, func(c Commit) bool { return len(c.Files) > 0 })
	batch.Queue(commit(several), node, runs, pickups, reasons, findings, wholes, in, good, rejected, filtered, warnings, bytes, n, attempts, branches, merged)
	for _, c := range commits {
		queueFiles(batch, c)
		queueVersions(batch, c)
	}
	if len(blockRuns) > 0 {
		batch.Queue(`insert into run_sequences (run, ord, first, count) select * from unnest($1::bigint[], $2::int[], $3::bigint[], $4::bigint[])`, blockRuns, ords, firsts, counts)
	}
	return nil
}

// commit records what became of runs ($2) and pickups ($3) of a node ($1), $13 of them; of runs of several files, also of the other files.
// A run that is not there, or not working any more, or not ours, or does not balance, fails the whole: the count divides by zero.
func commit(several bool) string {
	theirs := `c where pickups.id = c.pickup`
	if several {
		// With `=` the database may go through all pickups in the order of their numbers, to join them to these.
		theirs = `c join run_pickups rp on rp.run = c.run where pickups.id = any(array[rp.pickup])`
	}
	return `with c as (select * from unnest($2::bigint[], $3::bigint[], $4::text[], $5::text[], $6::bool[], $7::bigint[], $8::bigint[], $9::bigint[], $10::bigint[], $11::bigint[], $12::bigint[], $14::int[], $15::text[], $16::bigint[])
			as t (run, pickup, reason, findings, whole, n, good, rejected, filtered, warnings, bytes, attempt, branches, merged)),
		r as (update runs set state = 'committed', reason = '', committed_at = now(), committed_by = $1, records_in = c.n, good = c.good, rejected = c.rejected, filtered = c.filtered, merged = c.merged, warnings = c.warnings, bytes = c.bytes, whole = c.whole, findings = c.findings::jsonb, branches = c.branches::jsonb
			from c where runs.id = c.run and runs.state = 'working' and runs.attempt = c.attempt and c.n = c.good + c.rejected + c.filtered + c.merged returning runs.id),
		p as (update pickups set state = 'committed', reason = c.reason, tries = 0, next_try = null from ` + theirs + ` and pickups.run = c.run and pickups.node = $1 returning case when pickups.id = c.pickup then pickups.id end as id)
		select 1 / (case when (select count(*) from r) = $13 and (select count(id) from p) = $13 then 1 else 0 end)`
}

// queueFiles adds what became of each file of a run of several.
func queueFiles(batch *pgx.Batch, c Commit) {
	n := len(c.Files)
	if n == 0 {
		return
	}
	pickups, in, good, rejected, filtered, merged, warnings, wholes, reasons := make([]int64, n), make([]int64, n), make([]int64, n), make([]int64, n), make([]int64, n), make([]int64, n), make([]int64, n), make([]bool, n), make([]string, n)
	for i, f := range c.Files {
		b := f.Balance
		pickups[i], in[i], good[i], rejected[i], filtered[i], merged[i], warnings[i], wholes[i], reasons[i] = f.Pickup, b.In, b.Good, b.Rejected, b.Filtered, b.Merged, b.Warnings, f.Whole, Readable(f.Reason)
	}
	batch.Queue(`update run_pickups set records_in = t.n, good = t.good, rejected = t.rejected, filtered = t.filtered, merged = t.merged, warnings = t.warnings, whole = t.whole, reason = t.reason
		from unnest($2::bigint[], $3::bigint[], $4::bigint[], $5::bigint[], $6::bigint[], $7::bool[], $8::text[], $9::bigint[], $10::bigint[]) as t (pickup, n, good, rejected, filtered, whole, reason, merged, warnings) where run = $1 and run_pickups.pickup = t.pickup`, c.Run, pickups, in, good, rejected, filtered, wholes, reasons, merged, warnings)
}

// Keep stores portions of what a run brings forth before its commit. The first
// portion replaces what an earlier try of the run has left.
func (s *Store) Keep(ctx context.Context, run int64, deliveries []Delivery, rejects []Reject, first bool) error {
	var batch pgx.Batch
	if first {
		for _, table := range []string{"deliveries", "rejects"} {
			batch.Queue(`delete from `+table+` where run = $1 and exists (select 1 from runs where id = $1 and state = 'working')`, run)
		}
	}
	queueDeliveries(&batch, deliveries)
	if err := queueRejects(&batch, run, rejects); err != nil {
		return err
	}
	if err := s.quick.send(ctx, len(deliveries)+len(rejects), &batch); err != nil {
		return fmt.Errorf("keeping a part of a run: %w", err)
	}
	return nil
}

// Drop removes the deliveries that were stored for a run before its commit.
func (s *Store) Drop(ctx context.Context, run int64) error {
	_, err := s.quick.ExecContext(ctx, `delete from deliveries where run = $1 and exists (select 1 from runs where id = $1 and state = 'working')`, run)
	return err
}

// reason is why a file was rejected whole, in a sentence.
func (c Commit) reason() string {
	for _, f := range c.Findings {
		if c.Whole && f.Severity == finding.Error {
			return f.Message
		}
	}
	return ""
}

// queueDeliveries adds deliveries in chunks, as arrays.
func queueDeliveries(batch *pgx.Batch, all []Delivery) {
	for len(all) > 0 {
		n := min(len(all), chunk)
		runs, ords, outputs, sizes, records, firsts := make([]int64, n), make([]int, n), make([]int, n), make([]int64, n), make([]int64, n), make([]int64, n)
		kinds, folders, names, temporaries, sums := make([]string, n), make([]string, n), make([]string, n), make([]string, n), make([]string, n)
		devices, inodes, states, said, replaces := make([]string, n), make([]string, n), make([]string, n), make([]string, n), make([]bool, n)
		for i, d := range all[:n] {
			states[i] = cmp.Or(d.State, "open")
			runs[i], ords[i], outputs[i], sizes[i], records[i], firsts[i] = d.Run, d.Ord, d.Output, d.Size, d.Records, d.FirstRecord
			kinds[i], folders[i], names[i], temporaries[i], sums[i] = d.Kind, d.Folder, d.Name, d.Temporary, d.SHA256
			devices[i], inodes[i] = fmt.Sprint(d.Device), fmt.Sprint(d.Inode)
			said[i], replaces[i] = d.Said, d.Replaces
		}
		batch.Queue(`insert into deliveries (run, ord, kind, output, folder, name, temporary, size, sha256, records, first_record, device, inode, state, published_at, said, replaces)
			select run, ord, kind, output, folder, name, temporary, size, sha256, records, first_record, device::numeric, inode::numeric, state, case when state = 'published' then now() end, nullif(said, '')::jsonb, replaces
			from unnest($1::bigint[], $2::int[], $3::text[], $4::int[], $5::text[], $6::text[], $7::text[], $8::bigint[], $9::text[], $10::bigint[], $11::bigint[], $12::text[], $13::text[], $14::text[], $15::text[], $16::bool[])
				as t (run, ord, kind, output, folder, name, temporary, size, sha256, records, first_record, device, inode, state, said, replaces)`,
			runs, ords, kinds, outputs, folders, names, temporaries, sizes, sums, records, firsts, devices, inodes, states, said, replaces)
		all = all[n:]
	}
}

func queueRejects(batch *pgx.Batch, run int64, all []Reject) error {
	for len(all) > 0 {
		n := min(len(all), chunk)
		records, lines, files := make([]int64, n), make([]int64, n), make([]int, n)
		raws, findings := make([][]byte, n), make([]string, n)
		for i, r := range all[:n] {
			f, err := json.Marshal(r.Findings)
			if err != nil {
				return err
			}
			records[i], lines[i], raws[i], findings[i], files[i] = r.Record, r.Line, r.Raw, jsonText(f), max(r.File, 1)
		}
		batch.Queue(`insert into rejects (run, record, line, raw, findings, file)
			select $1, record, line, raw, findings::jsonb, file from unnest($2::bigint[], $3::bigint[], $4::bytea[], $5::text[], $6::int[]) as t (record, line, raw, findings, file)
			on conflict (run, record) do update set line = excluded.line, raw = excluded.raw, findings = excluded.findings, file = excluded.file`, run, records, lines, raws, findings, files)
		all = all[n:]
	}
	return nil
}

// Abandoned is what became of a run whose commit nobody has heard of.
type Abandoned struct {
	ID         int64
	Attempt    int  // its new one, if it is still being worked on
	Committed  bool // by this node: what it wrote is what is to be published
	OutOfReach bool `db:"out_of_reach"` // another node goes on with it
}

// Abandon makes sure that runs are not committed any more by a commit that is
// still on its way: after a lost connection the database may yet carry it out.
// Either this goes first, and the late commit is refused, or it waits for the
// commit and sees it. Runs that another node has taken over are left alone: their
// outputs are the other's.
func (s *Store) Abandon(ctx context.Context, node int64, runs []int64) (map[int64]Abandoned, error) {
	var rows []Abandoned
	err := s.db.SelectContext(ctx, &rows, `with mine as (select r.id from runs r join run_pickups rp on rp.run = r.id join pickups p on p.id = rp.pickup and p.run = r.id where r.id = any($2) and p.node = $1),
		a as (update runs set attempt = attempt + 1 from mine where runs.id = mine.id and state = 'working' returning runs.id, attempt)
		select id, attempt, false as committed, false as out_of_reach from a`, node, runs)
	if err != nil {
		return nil, err
	}
	out := map[int64]Abandoned{}
	for _, r := range rows {
		out[r.ID] = r
	}
	// What the first statement has not met was committed, or is another's: it is seen
	// as it stands after the first has waited.
	rows = nil
	err = s.db.SelectContext(ctx, &rows, `select r.id, r.attempt, r.state in ('committed', 'published') and r.committed_by = $1 and p.node = $1 as committed, p.node <> $1 or r.committed_by is distinct from $1 as out_of_reach
		from runs r join run_pickups rp on rp.run = r.id join pickups p on p.id = rp.pickup where r.id = any($2)`, node, runs)
	for _, r := range rows {
		if _, again := out[r.ID]; !again {
			out[r.ID] = r
		}
	}
	return out, err
}

// Mine gives those of some pickups that a node still works on: nobody has taken
// them over.
func (s *Store) Mine(ctx context.Context, node int64, pickups []int64) (map[int64]bool, error) {
	var ids []int64
	err := s.quick.SelectContext(ctx, &ids, `select p.id from pickups p join nodes n on n.id = p.node where p.id = any($2) and p.node = $1 and n.ended_at is null`, node, pickups)
	out := map[int64]bool{}
	for _, id := range ids {
		out[id] = true
	}
	return out, err
}

// RunOwner is the node that works on a run.
type RunOwner struct {
	ID      int64
	Node    int64
	Working bool // it is not committed yet
	Open    bool // it is committed, and some of its outputs are not published
}

// Owners gives the nodes that work on some runs. Runs that nobody knows are missing.
func (s *Store) Owners(ctx context.Context, runs []int64) (map[int64]RunOwner, error) {
	var rows []RunOwner
	err := s.db.SelectContext(ctx, &rows, `select r.id, p.node, r.state = 'working' as working, exists (select 1 from deliveries d where d.run = r.id and d.state in ('open', 'uncertain')) as open
		from runs r join run_pickups rp on rp.run = r.id join pickups p on p.id = rp.pickup where r.id = any($1)`, runs)
	out := map[int64]RunOwner{}
	for _, r := range rows {
		out[r.ID] = r
	}
	return out, err
}

// Staged records that an output lies beside its destination now, in a hidden folder
// that is told by its device and inode.
func (s *Store) Staged(ctx context.Context, node int64, of RunOf, ord int, temporary string, device, inode uint64) error {
	return s.one(s.db.ExecContext(ctx, `update deliveries set temporary = $5, device = $6::text::numeric, inode = $7::text::numeric where run = $2 and ord = $4 and exists (select 1 from pickups p where p.id = $3 and p.run = $2 and p.node = $1)`, node, of.Run, of.Pickup, ord, temporary, fmt.Sprint(device), fmt.Sprint(inode)))
}

// UncertainOf gives the outputs of a run of which nobody can tell whether they have
// arrived.
func (s *Store) UncertainOf(ctx context.Context, run int64) ([]Delivery, error) {
	out := []Delivery{}
	err := s.db.SelectContext(ctx, &out, `select `+deliveryColumns+` from deliveries where run = $1 and state = 'uncertain' order by ord limit 1000`, run)
	return out, err
}

// Certain records that it can be told after all whether outputs have arrived: the
// folder that held them is back. Their pickup is gone on with.
func (s *Store) Certain(ctx context.Context, node int64, of RunOf) error {
	return s.one(s.db.ExecContext(ctx, `with d as (update deliveries set state = 'open', reason = '' where run = $2 and state = 'uncertain')
		update pickups set state = 'held', next_try = now() where id = any(array(`+withIt("$3")+`)) and run = $2 and node = $1 and state = 'uncertain'`, node, of.Run, of.Pickup))
}

// Open gives the outputs of a run that are still to be made visible, after one
// of them and at most so many.
func (s *Store) Open(ctx context.Context, run int64, after, limit int) ([]Delivery, error) {
	out := []Delivery{}
	err := s.db.SelectContext(ctx, &out, `select `+deliveryColumns+` from deliveries where run = $1 and ord > $2 and state = 'open' order by ord limit $3`, run, after, limit)
	return out, err
}

// Rename records that an output will get another name, before it gets it.
func (s *Store) Rename(ctx context.Context, node int64, of RunOf, ord int, name string) error {
	return s.one(s.db.ExecContext(ctx, `update deliveries set name = $5 where run = $2 and ord = $4 and exists (select 1 from pickups p where p.id = $3 and p.run = $2 and p.node = $1)`, node, of.Run, of.Pickup, ord, name))
}

// Part records that some outputs of a run are visible, before all are.
func (s *Store) Part(ctx context.Context, run int64, ords []int) error {
	_, err := s.quick.ExecContext(ctx, `update deliveries set state = 'published', published_at = now(), reason = '' where run = $1 and ord = any($2)`, run, ords)
	return err
}

// Uncertain records that nobody can tell whether outputs have arrived.
func (s *Store) Uncertain(ctx context.Context, run int64, ords []int, reason string) error {
	_, err := s.db.ExecContext(ctx, `update deliveries set state = 'uncertain', reason = $3 where run = $1 and ord = any($2)`, run, ords, Readable(reason))
	return err
}

// RunOf is a run and its pickup.
type RunOf struct {
	Run, Pickup int64
	Several     bool // it is of several pickups; this is the first
}

// Published records that all outputs of runs are visible and ends their
// pickups, whose states it gives by number. Should this record be lost, publishing
// again finds every output published. A run with an output that is still to be brought to a server is left out.
func (s *Store) Published(ctx context.Context, node int64, ended []RunOf) (map[int64]string, error) {
	runs, pickups := make([]int64, len(ended)), make([]int64, len(ended))
	for i, e := range ended {
		runs[i], pickups[i] = e.Run, e.Pickup
	}
	out := map[int64]string{}
	var id int64
	var state string
	s.ended.Store(true)
	several := slices.ContainsFunc(ended, func(e RunOf) bool { return e.Several })
	err := s.quick.rows(ctx, len(ended), publish(several), []any{node, runs, pickups}, []any{&id, &state}, func() error { out[id] = state; return nil })
	if err != nil {
		return nil, fmt.Errorf("recording that runs were published: %w", err)
	}
	return out, nil
}

// publish ends runs ($2) and pickups ($3) of a node ($1). The files of runs of several are looked up; the others need not be.
func publish(several bool) string {
	files := `select pickup, 'read' as part, null as reason, whole, good, rejected from r`
	if several {
		files = `select rp.pickup, rp.part, rp.reason, coalesce(rp.whole, r.whole) as whole, coalesce(rp.good, r.good) as good, coalesce(rp.rejected, r.rejected) as rejected from r join run_pickups rp on rp.run = r.id`
	}
	return `with e as (select t.run, t.pickup from unnest($2::bigint[], $3::bigint[]) as t (run, pickup) join pickups p on p.id = t.pickup and p.run = t.run and p.node = $1 and ` + stateOf + ` in ('committed', 'held')
				where not exists (select 1 from deliveries d where d.run = t.run and ` + deliveryStateOf + ` = 'open' and starts_with(d.folder, '{'))),
		d as (update deliveries d set state = 'published', published_at = now(), reason = '' from e where d.run = e.run and ` + deliveryStateOf + ` = 'open'),
		r as (update runs set state = 'published', ended_at = now() from e where runs.id = e.run returning runs.id, e.pickup, runs.route, runs.whole, runs.good, runs.rejected, runs.filtered, runs.merged, runs.records_in),
		t as (insert into tallies (route, quarter, records_in, good, rejected, filtered, merged, whole)
			select route, date_bin('15 minutes', now(), 'epoch'), sum(records_in), sum(good), sum(rejected), sum(filtered), sum(merged), count(*) filter (where whole) from r group by route
			on conflict (route, quarter) do update set records_in = tallies.records_in + excluded.records_in, good = tallies.good + excluded.good, rejected = tallies.rejected + excluded.rejected, filtered = tallies.filtered + excluded.filtered, merged = tallies.merged + excluded.merged, whole = tallies.whole + excluded.whole),
		o as (` + files + `)
		update pickups set state = case when o.part <> 'read' then 'set aside' when o.whole or (o.good = 0 and o.rejected > 0) then 'rejected' else 'delivered' end,
			reason = case when o.whole or o.part <> 'read' then coalesce(o.reason, pickups.reason) else '' end, next_try = null, ended_at = now() from o where pickups.id = o.pickup returning pickups.id, pickups.state`
}

// Pending is a pickup that has not come to its end.
type Pending struct {
	Pickup   int64      `db:"id"`
	Route    string     `db:"route"`
	Path     string     `db:"path"`   // as it is; not always UTF-8
	Folder   string     `db:"folder"` // readable
	Name     string     `db:"name"`   // readable
	RawPath  []byte     `db:"raw_path"`
	Size     int64      `db:"size"`
	Modified time.Time  `db:"modified"`
	Device   uint64     `db:"device"`
	Inode    uint64     `db:"inode"`
	State    string     `db:"state"`
	Event    string     `db:"event"`
	Origin   string     `db:"origin"`
	SHA256   *string    `db:"sha256"`
	Lane     *string    `db:"lane"`
	Key      *string    `db:"business_key"`
	Tries    int        `db:"tries"`
	NextTry  *time.Time `db:"next_try"`
	Passed   bool       `db:"passed"`
	Admitted bool       `db:"admitted"`
	Noticed  time.Time  `db:"noticed_at"`
	Run      *int64     `db:"run"`
	Mail     *mail.Head `db:"mail"`
	// Of the run, if there is one.
	RunState *string    `db:"run_state"`
	Attempt  int        `db:"attempt"`
	Revision *string    `db:"revision"`
	Now      *time.Time `db:"facts_now"`
	SameAs   *int64     `db:"same_as"`
	Again    bool       `db:"again"`
	Files    int        `db:"files"`    // of the run; this is the first of them
	Claimed  bool       `db:"together"` // with others, without which it does not go on
	Together
	// Earlier pickups of the route with the same content or business key.
	Before        int64  `db:"before"`
	BeforeName    string `db:"before_name"`
	BeforeKey     int64  `db:"before_key"`
	BeforeKeyName string `db:"before_key_name"`
}

// Committed tells whether its run is only to be published.
func (p *Pending) Committed() bool { return p.RunState != nil && *p.RunState == "committed" }

var openColumns = `select p.id, p.route, p.path, p.folder, p.name, p.raw_path, p.size, p.modified, p.device, p.inode, p.state, p.event, p.origin, p.sha256, p.lane, p.business_key, p.tries, p.next_try, p.passed, p.admitted, p.noticed_at, p.run, p.mail,
	r.state as run_state, coalesce(r.attempt, 0) as attempt, r.revision, r.facts_now, r.same_as, coalesce(r.again, false) as again, coalesce(r.files, 1) as files, p.together, coalesce(r.key, '') as key, coalesce(r.missing, '') as missing, coalesce(r.refused, false) as refused, coalesce(r.late_of, 0) as late_of,
	coalesce(b.id, 0) as before, coalesce(b.name, '') as before_name, coalesce(k.id, 0) as before_key, coalesce(k.name, '') as before_key_name
	from pickups p left join runs r on r.id = p.run
	` + earlier("p.sha256", "p.business_key", "p.route", "p.id")

// earlier joins the first pickup of a route before another that had the same content, as b, and the first that had the
// same business key, as k.
func earlier(content, key, route, pickup string) string {
	of := func(first, second, one, other string) string {
		// Compared as rows in the order of their index, nothing but that index gives them in order. (With `=`, the
		// database may count on coming by one soon, and go through all that the route ever took for each file.)
		columns := `(o.` + first + `, o.` + second + `, o.id)`
		return `select id, name from pickups o where ` + columns + ` >= (` + one + `, ` + other + `, 0) and ` + columns + ` < (` + one + `, ` + other + `, ` + pickup + `)
			and o.` + first + ` is not null and o.` + second + ` is not null and ` + other + ` is not null and o.state <> 'withdrawn' order by o.` + first + `, o.` + second + `, o.id limit 1`
	}
	return `left join lateral (` + of("sha256", "route", content, route) + `) b on true
		left join lateral (` + of("business_key", "route", key, route) + `) k on true`
}

// Unfinished lists the open pickups of a route in the order in which they were
// claimed, after a number and at most so many; of those of a run of several files the first.
func (s *Store) Unfinished(ctx context.Context, route string, after int64, limit int) ([]Pending, error) {
	out := []Pending{}
	err := s.db.SelectContext(ctx, &out, openColumns+` where p.route = $1 and p.id > $2 and p.state in ('claimed', 'taken', 'committed', 'held', 'uncertain')
		and not (p.together and exists (select 1 from run_pickups rp where rp.run = p.run and rp.pickup = p.id and rp.ord > 1)) order by p.id limit $3`, route, after, limit)
	for i := range out {
		out[i].Path, _ = named(out[i].Path, out[i].RawPath)
	}
	return out, err
}

// Sequences gives the blocks of numbers that a run has used, in order.
func (s *Store) Sequences(ctx context.Context, run int64) ([]Block, error) {
	var out []Block
	err := s.db.SelectContext(ctx, &out, `select first, count from run_sequences where run = $1 order by ord`, run)
	return out, err
}

// Holder is the pickup for which a file is held.
type Holder struct {
	ID       int64     `db:"id"`
	Route    string    `db:"route"`
	Node     int64     `db:"node"`
	Path     string    `db:"path"`
	RawPath  []byte    `db:"raw_path"`
	State    string    `db:"state"`
	SHA256   string    `db:"sha256"`
	Size     int64     `db:"size"`
	Modified time.Time `db:"modified"`
	Inode    uint64    `db:"inode"`
	Open     bool      `db:"open"` // it has not ended
}

// Holders gives the pickups among some numbers.
func (s *Store) Holders(ctx context.Context, ids []int64) (map[int64]Holder, error) {
	var rows []Holder
	err := s.db.SelectContext(ctx, &rows, `select id, route, node, path, raw_path, state, coalesce(sha256, '') as sha256, size, modified, inode, state in ('claimed', 'taken', 'committed', 'held', 'uncertain') as open from pickups where id = any($1)`, ids)
	out := map[int64]Holder{}
	for _, r := range rows {
		r.Path, _ = named(r.Path, r.RawPath)
		out[r.ID] = r
	}
	return out, err
}

// Person is what somebody decides about a pickup that waits for a person.
type Person string

const (
	TryNow   Person = "try"       // try again at once
	Admit    Person = "admit"     // it is no duplicate: take it
	LetPass  Person = "pass"      // those behind it in its lane may pass
	Withdraw Person = "withdraw"  // give it up: nothing is delivered
	Arrived  Person = "arrived"   // what is uncertain has arrived
	Abandon  Person = "abandoned" // what is not delivered yet will not be
)

// onTheWay tells whether outputs of a pickup p are on their way to a server, and have been tried in vain.
const onTheWay = `state = 'committed' and exists (select 1 from deliveries d where d.run = p.run and d.state = 'open' and starts_with(d.folder, '{'))`

// ErrNotSo says that a decision does not fit a pickup.
var ErrNotSo = errors.New("that cannot be done now")

// Decide records a person's decision. The route's leader acts on it.
func (s *Store) Decide(ctx context.Context, pickup int64, what Person, said Said) error {
	// What is decided about one file of a run of several is decided about all.
	these := `id = any(array(` + withIt("$1") + `))`
	statements := map[Person]string{
		TryNow:   `with d as (update deliveries set next_try = null from pickups p where p.id = $1 and deliveries.run = p.run and deliveries.state = 'open' and deliveries.next_try is not null) update pickups p set state = 'held', next_try = now() where ` + these + ` and (state = 'held' or ` + onTheWay + `)`,
		Admit:    `update pickups set admitted = true, next_try = now() where ` + these + ` and state = 'held'`,
		LetPass:  `update pickups set passed = true where ` + these + ` and state in ('held', 'uncertain')`,
		Withdraw: `update pickups p set state = 'withdrawn', reason = 'given up: ' || p.reason, ended_at = now(), next_try = null where ` + these + ` and state = 'held' and not exists (select 1 from runs r where r.id = p.run and r.state = 'committed')`,
		Arrived:  `with d as (update deliveries set state = 'published', published_at = now() from pickups p where p.id = $1 and deliveries.run = p.run and deliveries.state = 'uncertain') update pickups set state = 'held', next_try = now() where ` + these + ` and state = 'uncertain'`,
		Abandon:  `with d as (update deliveries set state = 'abandoned' from pickups p where p.id = $1 and deliveries.run = p.run and deliveries.state in ('uncertain', 'open')) update pickups p set state = 'held', next_try = now() where ` + these + ` and (state in ('held', 'uncertain') or ` + onTheWay + `) and exists (select 1 from runs r where r.id = p.run and r.state = 'committed')`,
	}
	statement, ok := statements[what]
	if !ok {
		return fmt.Errorf("%w: %q is not a decision", ErrNotSo, what)
	}
	err := s.in(ctx, "deciding", func(tx *sqlx.Tx) error {
		if err := s.one(tx.ExecContext(ctx, statement, pickup)); err != nil {
			return err
		}
		var route string
		if err := tx.GetContext(ctx, &route, `select route from pickups where id = $1`, pickup); err != nil {
			return err
		}
		return act(ctx, tx, route, &pickup, string(what), said)
	})
	if errors.Is(err, ErrNotFound) {
		p, err := s.Pickup(ctx, pickup)
		if err != nil {
			return err
		}
		return fmt.Errorf("%w: it is %s", ErrNotSo, p.State)
	}
	return err
}
