package store_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"ydrion/store"
	"ydrion/testbed"
)

// published is an empty database, opened as services open it, with a published route, and a connection beside them.
func published(t *testing.T) (s *store.Store, reopen func() *store.Store, conn *pgx.Conn) {
	t.Helper()
	url := testbed.Database(t)
	reopen = func() *store.Store {
		t.Helper()
		s, err := store.Open(ctx, url)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(s.Close)
		return s
	}
	s = reopen()
	if _, _, err := s.Publish(ctx, "orders", "r1", map[string][]byte{"a": nil}, store.Said{}); err != nil {
		t.Fatal(err)
	}
	conn, err := pgx.Connect(ctx, url)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { conn.Close(ctx) })
	return s, reopen, conn
}

// leaveAlone keeps the database from counting tables, and from putting names into their index, in a moment of its own.
func leaveAlone(t *testing.T, conn *pgx.Conn) {
	t.Helper()
	for _, table := range []string{"pickups", "runs", "run_pickups", "deliveries", "fetches"} {
		if _, err := conn.Exec(ctx, `alter table `+table+` set (autovacuum_enabled = off)`); err != nil {
			t.Fatal(err)
		}
	}
}

// TestTablesAreCounted: tables that have filled are counted before plans are made of them, when a service starts and while it tends
// them, also if they were counted when they were empty, and again when they have grown a lot; others are not. And names wait for their
// index together.
func TestTablesAreCounted(t *testing.T) {
	for _, tends := range []bool{false, true} {
		t.Run(fmt.Sprint("tended ", tends), func(t *testing.T) { tablesAreCounted(t, tends) })
	}
}

func tablesAreCounted(t *testing.T, tends bool) {
	s, reopen, conn := published(t)
	node := must(s.Join(ctx, "test", "", 0))(t)
	defer node.Leave()
	must(s.Lead(ctx, node.ID, nil))(t)
	tend := func() {
		t.Helper()
		if !tends {
			reopen()
			return
		}
		must(s.Published(ctx, node.ID, []store.RunOf{{Run: 1, Pickup: 1}}))(t)
		if err := s.Tend(ctx); err != nil {
			t.Fatal(err)
		}
	}
	counts := func(table string) (n int) {
		t.Helper()
		if err := conn.QueryRow(ctx, `select reltuples from pg_class where relname = $1`, table).Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	leaveAlone(t, conn)
	if _, err := conn.Exec(ctx, `analyze pickups`); err != nil {
		t.Fatal(err)
	}
	have := 0
	for _, fill := range []struct{ to, counted int }{{0, 0}, {96, 0}, {1056, 1056}, {1152, 1056}, {8064, 8064}} {
		for ; have < fill.to; have += 96 {
			var claims []store.Claim
			for k := range 96 {
				claims = append(claims, claim(fmt.Sprintf("f%d-%d.csv", have, k)))
			}
			must(s.Claim(ctx, node.ID, "orders", claims))(t)
		}
		tend()
		if n := counts("pickups"); n != fill.counted {
			t.Errorf("of %d pickups, %d are counted", have, n)
		}
		if n := counts("runs"); n != -1 {
			t.Errorf("of an empty table, %d are counted", n)
		}
	}
	var options string
	if err := conn.QueryRow(ctx, `select coalesce(array_to_string(reloptions, ' '), '') from pg_class where relname = 'pickups_by_name'`).Scan(&options); err != nil && err != pgx.ErrNoRows {
		t.Fatal(err)
	} else if err == nil && options != "fastupdate=on gin_pending_list_limit=4096" {
		t.Errorf("the index of names has %q", options)
	}
}

// TestOpenTwice: records of before, in which a file has two open pickups, are brought up to date, and both go on.
func TestOpenTwice(t *testing.T) {
	_, reopen, conn := published(t)
	for _, do := range []string{
		`drop index pickups_claimed`,
		`create unique index pickups_claimed on pickups (route, path, device, inode, size, modified) where state in ('claimed', 'held') and run is null`,
		`alter table fetches drop column gone_at, drop column raw_path`, // as before the next ones
		`alter table deliveries drop column upload`,
		`alter table run_pickups drop column warnings`,
		`delete from goose_db_version where version_id >= 15`,
		`insert into pickups (route, path, folder, name, size, modified, device, inode, state, noticed_at, node, event, origin, run)
			select 'orders', '/in/a.csv', '', 'a.csv', 1, '2026-11-29', 1, 7, 'taken', now(), 1, 'arrived', 'inbox', g from generate_series(1, 3) g`,
		`insert into runs (id, route, revision, state, facts_now) overriding system value select g, 'orders', 'r1', 'working', now() from generate_series(1, 3) g`,
		`insert into run_pickups (run, pickup, ord) select run, id, 1 from pickups`,
	} {
		if _, err := conn.Exec(ctx, do); err != nil {
			t.Fatal(do, err)
		}
	}
	if list := must(reopen().Unfinished(ctx, "orders", 0, 10))(t); len(list) != 3 || list[0].Device != 1 || list[1].Device == list[2].Device {
		t.Errorf("%+v", list)
	}
}

// TestEarlierByContent: whether a content or a business key came before is looked up by it, before the database has counted anything, and even where the database has counted
// the table at a moment when nearly all of it was one content or none. (By the route it goes through all that the route
// ever took, for each file.)
func TestEarlierByContent(t *testing.T) {
	url := testbed.Database(t)
	s, err := store.Open(ctx, url)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	conn, err := pgx.Connect(ctx, url)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(ctx)
	byThem := func(when string) {
		t.Helper()
		if plan := must(s.PlanOfEarlier(ctx))(t); !strings.Contains(plan, "Index Scan using pickups_by_content") || !strings.Contains(plan, "Index Scan using pickups_by_key") || strings.Contains(plan, "Sort") {
			t.Errorf("%s:\n%s", when, plan)
		}
	}
	byThem("without any")
	for _, content := range []string{"'same'", "case when g % 10 = 0 then 'same' end", "case when g % 100 = 0 then g::text end", "g::text"} {
		for _, do := range []string{`truncate pickups cascade`, `insert into pickups (route, path, folder, name, size, modified, device, inode, state, noticed_at, node, event, sha256)
			select 'orders', g::text, '', g::text, 1, now(), 1, g, 'delivered', now(), 1, 'arrived', ` + content + ` from generate_series(1, 3000) g`, `analyze pickups`} {
			if _, err := conn.Exec(ctx, do); err != nil {
				t.Fatal(err)
			}
		}
		byThem("with " + content)
	}
}

// TestByKeys: what moves several pickups, deliveries or fetches on finds each by its key, whatever the database has counted, and when. An
// index of what is open looks short where next to nothing was when it counted: gone through for each, thousands of messages that
// wait for their end cost the square of their number.
func TestByKeys(t *testing.T) {
	s, _, conn := published(t)
	leaveAlone(t, conn)
	byThem := func(when string) {
		t.Helper()
		for name, plan := range must(s.Plans(ctx))(t) {
			lines := strings.Split(plan, "\n")
			for i, line := range lines {
				if strings.Contains(line, "Seq Scan") || strings.Contains(line, "Index Scan") && (i+1 == len(lines) || !strings.Contains(lines[i+1], "Index Cond")) {
					t.Errorf("%s: %s: %s in\n%s", when, name, strings.TrimSpace(line), plan)
				}
			}
		}
	}
	byThem("without any")
	for _, state := range []string{"g <= 3000", "g < 3000", "g < 1500", "g < 1"} { // is ended
		for _, do := range []string{`truncate pickups, fetches cascade`, `truncate runs cascade`, `analyze pickups, runs, run_pickups, deliveries, fetches`, // they are empty
			`insert into pickups (route, path, folder, name, size, modified, device, inode, state, noticed_at, node, event, run)
				select 'orders', g::text, '', g::text, 1, now(), 1, g, case when ` + state + ` then 'delivered' else 'committed' end, now(), 1, 'arrived', g from generate_series(1, 3000) g`,
			`insert into runs (id, route, revision, state, facts_now) overriding system value select g, 'orders', 'r1', case when ` + state + ` then 'published' else 'committed' end, now() from generate_series(1, 3000) g`,
			`insert into run_pickups (run, pickup, ord) select run, id, 1 from pickups`,
			`insert into deliveries (run, ord, kind, folder, name, temporary, size, sha256, records, first_record, replaces, state) select g, 1, 'good', '/out', g::text, '', 1, '', 1, 1, true, case when ` + state + ` then 'published' else 'open' end from generate_series(1, 3000) g`,
			`insert into fetches (route, node, place, path, size, stays, state) select 'orders', 1, 'holm', g::text, 1, true, case when ` + state + ` then 'known' else 'claimed' end from generate_series(1, 3000) g`} {
			if _, err := conn.Exec(ctx, do); err != nil {
				t.Fatal(do, err)
			}
		}
		must(s.Published(ctx, 1, []store.RunOf{{Run: -1, Pickup: -1}}))(t)
		if err := s.Tend(ctx); err != nil {
			t.Fatal(err)
		}
		byThem("with " + state)
	}
}

// TestNamesAreFiled: the names of pickups that have ended go into their index when they are asked to, if there may be new ones.
func TestNamesAreFiled(t *testing.T) {
	s, _, conn := published(t)
	leaveAlone(t, conn)
	var is bool
	if err := conn.QueryRow(ctx, `select to_regclass('pickups_by_name') is not null`).Scan(&is); err != nil {
		t.Fatal(err)
	}
	if !is {
		t.Skip("this database has no index of names")
	}
	for _, ends := range []bool{true, false, true} {
		if _, err := conn.Exec(ctx, `insert into pickups (route, path, folder, name, size, modified, device, inode, state, noticed_at, node, event)
			select 'orders', gen_random_uuid()::text, '', 'brunholm-' || g || '.csv', 1, now(), 1, g, 'delivered', now(), 1, 'arrived' from generate_series(1, 50) g`); err != nil {
			t.Fatal(err)
		}
		if ends {
			must(s.Published(ctx, 1, []store.RunOf{{Run: 1, Pickup: 1}}))(t)
		}
		if err := s.Tend(ctx); err != nil {
			t.Fatal(err)
		}
		var pages int
		if err := conn.QueryRow(ctx, `select gin_clean_pending_list('pickups_by_name')`).Scan(&pages); err != nil {
			t.Fatal(err)
		}
		if pages > 0 == ends {
			t.Errorf("ends %v: %d pages of names waited", ends, pages)
		}
	}
}
