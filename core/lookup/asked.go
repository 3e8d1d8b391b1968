package lookup

import (
	"strings"
	"sync"
)

// asked is what of a table has been looked up.
type asked struct {
	mu    sync.Mutex
	keys  map[int]map[string]bool // by how many keys: those that were found
	lines map[int]bool            // of ranges that were found
}

func (a *asked) key(keys int, found string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.keys[keys] == nil {
		a.keys[keys] = map[string]bool{}
	}
	a.keys[keys][found] = true
}

func (a *asked) line(n int) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.lines[n] = true
}

// Track lets the table remember which of its rows are looked up, from now on. It must be called before the table is used.
func (t *Table) Track() {
	if t.asked == nil {
		t.asked = &asked{}
	}
	t.asked.mu.Lock()
	defer t.asked.mu.Unlock()
	t.asked.keys, t.asked.lines = map[int]map[string]bool{}, map[int]bool{}
}

// Tracked tells whether it does.
func (t *Table) Tracked() bool { return t.asked != nil }

// Unasked gives of each row that nothing has looked up its first column and its line, in the table's order. A row that says
// the same as one that was looked up counts as looked up.
func (t *Table) Unasked() (keys []string, lines []int) {
	if t.asked == nil {
		return nil, nil
	}
	t.asked.mu.Lock()
	defer t.asked.mu.Unlock()
	for i, row := range t.rows {
		was := t.asked.lines[t.lines[i]]
		for n, found := range t.asked.keys {
			was = was || found[strings.Join(row[:n], "\x00")]
		}
		if !was {
			keys, lines = append(keys, row[0]), append(lines, t.lines[i])
		}
	}
	return keys, lines
}
