package run

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"ydrion/store"
)

// memory keeps records in memory, for tests of conductors alone. It does what the
// database would, plainly.
type memory struct {
	mu      sync.Mutex
	leader  int64
	pickups []*kept
	numbers int64
	waiting map[string]store.Collection
	// late is called, if it is set, when open pickups have been looked up and before they are told.
	late func()
	// fail is asked before each call; an error is returned instead of making it.
	fail func(call string) error
}

// kept is a pickup with its run and what that brought forth.
type kept struct {
	store.Pending
	node       int64
	reason     string
	committed  int64 // the node that did
	deliveries []store.Delivery
	balance    store.Commit
	with       int64 // the first of its run
	part       store.Part
}

// fails sets what is asked before each call.
func (m *memory) fails(fail func(call string) error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.fail = fail
}

func (m *memory) call(name string) (func(), error) {
	m.mu.Lock()
	if m.fail != nil {
		if err := m.fail(name); err != nil {
			m.mu.Unlock()
			return nil, err
		}
	}
	return m.mu.Unlock, nil
}

func (m *memory) pickup(id int64) *kept {
	if id < 1 || id > int64(len(m.pickups)) {
		return nil
	}
	return m.pickups[id-1]
}

func (m *memory) run(id int64) *kept {
	for _, p := range m.pickups {
		if p.Run != nil && *p.Run == id {
			return p
		}
	}
	return nil
}

// ran is what a run has committed.
func (m *memory) ran(id int64) store.Commit {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.run(id).balance
}

// answer is what comes back of something that was done: an error if the answer is lost.
func (m *memory) answer(call string) error {
	if m.fail == nil {
		return nil
	}
	return m.fail(call)
}

// states lists the pickups as name=state, in their order.
func (m *memory) states() (out []string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, p := range m.pickups {
		out = append(out, p.Name+"="+p.State)
	}
	return out
}

// balances are what runs came to, with what was found.
func (m *memory) balances() (out []string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, p := range m.pickups {
		if c := p.balance; c.Run != 0 {
			out = append(out, fmt.Sprintf("%+v %v", c.Balance, c.Findings))
		}
	}
	return out
}

var opens = []string{"claimed", "taken", "committed", "held", "uncertain"}

func (m *memory) RevisionFiles(context.Context, string, string) (map[string][]byte, error) {
	return nil, store.ErrNotFound // tests put revisions into the engine
}

func (m *memory) Claim(_ context.Context, node int64, route string, claims []store.Claim) ([]int64, error) {
	done, err := m.call("claim")
	if err != nil {
		return nil, err
	}
	defer done()
	return m.claim(node, route, claims), m.answer("claim lost")
}

func (m *memory) claim(node int64, route string, claims []store.Claim) []int64 {
	ids := make([]int64, len(claims))
	for i, c := range claims {
		twice := slices.ContainsFunc(m.pickups, func(p *kept) bool {
			return (p.State == "claimed" || p.State == "taken" || p.State == "held") && (p.Run == nil || p.Origin == "inbox") && p.Path == c.Path && p.Event == c.Event && p.Inode == c.Inode && p.Size == c.Size && p.Modified.Equal(c.Modified)
		})
		if node != m.leader || twice {
			continue
		}
		p := &kept{node: node}
		p.Pending = store.Pending{Pickup: int64(len(m.pickups) + 1), Route: route, Path: c.Path, Folder: c.Folder, Name: c.Name, Size: c.Size, Modified: c.Modified, Device: c.Device, Inode: c.Inode, State: "claimed", Event: c.Event, Origin: c.Origin, Lane: c.Lane, Key: c.Key, Noticed: c.Noticed, Claimed: c.Together}
		m.pickups = append(m.pickups, p)
		ids[i] = p.Pickup
	}
	return ids
}

func (m *memory) Begin(_ context.Context, node int64, route, revision string, now time.Time, claims []store.Claim) ([]int64, []store.Begun, error) {
	done, err := m.call("begin")
	if err != nil {
		return nil, nil, err
	}
	defer done()
	ids := m.claim(node, route, claims)
	var takes []store.Take
	for i, id := range ids {
		if id != 0 {
			takes = append(takes, store.Take{Pickup: id, SHA256: claims[i].SHA256, Size: claims[i].Size, Revision: revision, Now: now, With: id, Files: 1})
		}
	}
	taken := m.take(node, takes)
	begun := make([]store.Begun, len(ids))
	for i, id := range ids {
		if id != 0 {
			begun[i], taken = taken[0], taken[1:]
		}
	}
	return ids, begun, m.answer("begin lost")
}

func (m *memory) Withdrawn(_ context.Context, node, pickup int64, reason string) error {
	done, err := m.call("withdrawn")
	if err != nil {
		return err
	}
	defer done()
	if p := m.pickup(pickup); p.node == node && (p.State == "claimed" || p.State == "held" || p.State == "taken") {
		p.State, p.reason, p.NextTry = "withdrawn", reason, nil
	}
	return nil
}

func (m *memory) Taken(_ context.Context, node int64, _ string, taken []store.Take) ([]store.Begun, error) {
	done, err := m.call("taken")
	if err != nil {
		return nil, err
	}
	defer done()
	return m.take(node, taken), m.answer("taken lost")
}

func (m *memory) take(node int64, taken []store.Take) []store.Begun {
	out := make([]store.Begun, len(taken))
	for i, t := range taken {
		p := m.pickup(t.Pickup)
		if p.node != node || p.Run != nil {
			continue
		}
		run, state := t.With+1000, "working"
		p.State, p.SHA256, p.Size, p.Run, p.RunState, p.Revision, p.Now = "taken", &t.SHA256, t.Size, &run, &state, &t.Revision, &t.Now
		p.with, p.part, p.Files, p.Together = t.With, t.Part, t.Files, t.Together
		delete(m.waiting, t.CollectKey)
		out[i].Run = run
	}
	return out
}

func (m *memory) Members(_ context.Context, runs []int64) (map[int64][]store.Member, error) {
	done, err := m.call("members")
	if err != nil {
		return nil, err
	}
	defer done()
	out := map[int64][]store.Member{}
	for _, p := range m.pickups {
		if p.Run != nil && slices.Contains(runs, *p.Run) && p.with != p.Pickup {
			out[*p.Run] = append(out[*p.Run], store.Member{Pending: p.Pending, OfRun: *p.Run, Part: p.part})
		}
	}
	return out, nil
}

func (m *memory) Collections(_ context.Context, _ int64, _ string, keys []string) (map[string]store.Collection, error) {
	done, err := m.call("collections")
	if err != nil {
		return nil, err
	}
	defer done()
	if m.waiting == nil {
		m.waiting = map[string]store.Collection{}
	}
	out := map[string]store.Collection{}
	for _, key := range keys {
		if _, is := m.waiting[key]; !is {
			m.waiting[key] = store.Collection{Key: key, BeganAt: time.Now()}
		}
		out[key] = m.waiting[key]
	}
	return out, nil
}

// waits is how many sets of files wait for others.
func (m *memory) waits() int {
	m.mu.Lock()
	defer m.mu.Unlock()
	return len(m.waiting)
}

func (m *memory) Uncollect(_ context.Context, _ int64, _ string, but []string) error {
	done, err := m.call("uncollect")
	if err != nil {
		return err
	}
	defer done()
	maps.DeleteFunc(m.waiting, func(key string, _ store.Collection) bool { return !slices.Contains(but, key) })
	return nil
}

// its are a pickup and those that it goes on together with.
func (m *memory) its(p *kept) (out []*kept) {
	for _, o := range m.pickups {
		if o == p || p.Run != nil && o.Run != nil && *o.Run == *p.Run {
			out = append(out, o)
		}
	}
	return out
}

func (m *memory) Holders(_ context.Context, ids []int64) (map[int64]store.Holder, error) {
	done, err := m.call("holders")
	if err != nil {
		return nil, err
	}
	defer done()
	out := map[int64]store.Holder{}
	for _, id := range ids {
		if p := m.pickup(id); p != nil {
			h := store.Holder{ID: id, Route: p.Route, Node: p.node, Path: p.Path, State: p.State, Size: p.Size, Modified: p.Modified, Inode: p.Inode, Open: slices.Contains(opens, p.State)}
			if p.SHA256 != nil {
				h.SHA256 = *p.SHA256
			}
			out[id] = h
		}
	}
	return out, nil
}

func (m *memory) LeftFile(context.Context, string, string) (f store.LeftFile, err error) {
	return f, store.ErrNotFound
}
func (m *memory) Leave(context.Context, string, []store.LeftFile) error        { return nil }
func (m *memory) Forget(context.Context, string, string, string) error         { return nil }
func (m *memory) Due(context.Context, int64, string, time.Time) (bool, error)  { return true, nil }
func (m *memory) Dropped(context.Context, int64) (bool, error)                 { return false, nil }
func (m *memory) Needed(context.Context, string) (bool, error)                 { return true, nil }
func (m *memory) Sequences(context.Context, int64) ([]store.Block, error)      { return nil, nil }
func (m *memory) Drop(context.Context, int64) error                            { return nil }
func (m *memory) UncertainOf(context.Context, int64) ([]store.Delivery, error) { return nil, nil }
func (m *memory) Certain(context.Context, int64, store.RunOf) error            { return store.ErrNotFound }
func (m *memory) Part(context.Context, int64, []int) error                     { return m.away("part") }
func (m *memory) Uncertain(context.Context, int64, []int, string) error        { return m.away("uncertain") }
func (m *memory) Rename(context.Context, int64, store.RunOf, int, string) error {
	return m.away("rename")
}
func (m *memory) Later(context.Context, string, []store.DeliveryOf) ([]store.Later, error) {
	return nil, m.away("later")
}
func (m *memory) Overtaken(context.Context, []store.OvertakenAt) error { return m.away("overtaken") }
func (m *memory) Staged(context.Context, int64, store.RunOf, int, string, uint64, uint64) error {
	return m.away("staged")
}

// Keep removes what there is none of.
func (m *memory) Keep(_ context.Context, _ int64, deliveries []store.Delivery, rejects []store.Reject, _ bool) error {
	if len(deliveries)+len(rejects) > 0 {
		return fmt.Errorf("too much for a test in memory")
	}
	return m.away("keep")
}

func (m *memory) OpenAt(ctx context.Context, run int64, _ string, after, limit int) ([]store.Delivery, error) {
	return m.Open(ctx, run, after, limit)
}
func (m *memory) Naming(context.Context, int64, []store.DeliveryOf) error { return m.away("naming") }
func (m *memory) Unnamed(context.Context, int64, store.DeliveryOf) error  { return m.away("unnamed") }
func (m *memory) Uploading(context.Context, int64, store.DeliveryOf, string) error {
	return m.away("uploading")
}
func (m *memory) Arrived(context.Context, []store.ArrivedAt) error      { return m.away("arrived") }
func (m *memory) NotArrived(context.Context, []store.RefusedAt) error   { return m.away("not arrived") }
func (m *memory) Delayed(context.Context, int64, []int64, string) error { return m.away("delayed") }

// away fails if it is to.
func (m *memory) away(name string) error {
	done, err := m.call(name)
	if err == nil {
		done()
	}
	return err
}

func (m *memory) Unfinished(_ context.Context, _ string, after int64, limit int) ([]store.Pending, error) {
	done, err := m.call("unfinished")
	if err != nil {
		return nil, err
	}
	var out []store.Pending
	for _, p := range m.pickups {
		if p.Pickup > after && len(out) < limit && slices.Contains(opens, p.State) && (p.Run == nil || p.with == p.Pickup) {
			one := p.Pending
			if p.RunState != nil { // as it is now
				state := *p.RunState
				one.RunState = &state
			}
			out = append(out, one)
		}
	}
	late := m.late
	if done(); late != nil {
		late()
	}
	return out, nil
}

func (m *memory) Held(_ context.Context, node, pickup int64, state, reason string, next time.Time) error {
	done, err := m.call("held")
	if err != nil {
		return err
	}
	defer done()
	p := m.pickup(pickup)
	if p.node != node {
		return store.ErrNotFound
	}
	for _, p := range m.its(p) {
		p.State, p.reason, p.NextTry = state, reason, nil
		if p.Tries++; !next.IsZero() {
			p.NextTry = &next
		}
	}
	return nil
}

func (m *memory) Numbers(_ context.Context, _ int64, _ string, n int) (int64, error) {
	done, err := m.call("numbers")
	if err != nil {
		return 0, err
	}
	defer done()
	m.numbers += int64(n)
	return m.numbers - int64(n) + 1, nil
}

func (m *memory) Owners(_ context.Context, runs []int64) (map[int64]store.RunOwner, error) {
	done, err := m.call("owners")
	if err != nil {
		return nil, err
	}
	defer done()
	out := map[int64]store.RunOwner{}
	for _, r := range runs {
		if p := m.run(r); p != nil {
			out[r] = store.RunOwner{ID: r, Node: p.node, Working: *p.RunState == "working", Open: *p.RunState == "committed"}
		}
	}
	return out, nil
}

func (m *memory) Mine(_ context.Context, node int64, pickups []int64) (map[int64]bool, error) {
	done, err := m.call("mine")
	if err != nil {
		return nil, err
	}
	defer done()
	out := map[int64]bool{}
	for _, id := range pickups {
		out[id] = m.pickup(id).node == node
	}
	return out, nil
}

func (m *memory) Commit(_ context.Context, node int64, commits []store.Commit) error {
	done, err := m.call("commit")
	if err != nil {
		return err
	}
	defer done()
	for _, c := range commits {
		if p := m.pickup(c.Pickup); p.node != node || *p.RunState != "working" || p.Attempt != c.Attempt {
			return fmt.Errorf("division by zero")
		}
	}
	for _, c := range commits {
		p, state := m.pickup(c.Pickup), "committed"
		p.deliveries, p.balance = c.Deliveries, c
		for _, p := range m.its(p) {
			p.State, p.RunState, p.Tries, p.NextTry, p.committed = "committed", &state, 0, nil, node
		}
	}
	return nil
}

func (m *memory) Abandon(_ context.Context, node int64, runs []int64) (map[int64]store.Abandoned, error) {
	done, err := m.call("abandon")
	if err != nil {
		return nil, err
	}
	defer done()
	out := map[int64]store.Abandoned{}
	for _, r := range runs {
		p := m.run(r)
		if p.node == node && *p.RunState == "working" {
			p.Attempt++
		}
		out[r] = store.Abandoned{ID: r, Attempt: p.Attempt, Committed: *p.RunState != "working" && p.committed == node && p.node == node, OutOfReach: p.node != node}
	}
	return out, nil
}

func (m *memory) Run(_ context.Context, run int64) (out store.Run, err error) {
	done, err := m.call("run")
	if err != nil {
		return out, err
	}
	defer done()
	b := m.run(run).balance.Balance
	out.In, out.Good, out.Rejected, out.Filtered = b.In, b.Good, b.Rejected, b.Filtered
	return out, nil
}

func (m *memory) FilesOf(_ context.Context, run int64) (out []store.OfRun, err error) {
	done, err := m.call("files of")
	if err != nil {
		return nil, err
	}
	defer done()
	for _, p := range m.its(m.run(run)) {
		out = append(out, store.OfRun{Pickup: p.Pickup, Name: p.Name, Part: p.part})
	}
	return out, nil
}

func (m *memory) Pin(context.Context, int64, []string) (map[string]store.Version, error) {
	return nil, nil
}

func (m *memory) Open(_ context.Context, run int64, after, _ int) (out []store.Delivery, err error) {
	done, err := m.call("open")
	if err != nil {
		return nil, err
	}
	defer done()
	for _, d := range m.run(run).deliveries {
		if d.Ord > after {
			out = append(out, d)
		}
	}
	return out, nil
}

func (m *memory) Published(_ context.Context, node int64, ended []store.RunOf) (map[int64]string, error) {
	done, err := m.call("published")
	if err != nil {
		return nil, err
	}
	defer done()
	out := map[int64]string{}
	for _, e := range ended {
		if p, state := m.pickup(e.Pickup), "published"; p.node == node {
			for _, p := range m.its(p) {
				p.State, p.RunState = "delivered", &state
				out[p.Pickup] = p.State
			}
		}
	}
	return out, nil
}
