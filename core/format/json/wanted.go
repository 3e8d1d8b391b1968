package json

import (
	"encoding/binary"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/place"
)

// outer is a value that stands around all records.
type outer struct {
	slot  int
	path  []string
	value []byte
	span  batch.Span // Null or Missing if there is no value
}

// table is a list of which rows are wanted.
type table struct {
	slots, above int
	keys         []int // slots that want the name, or the place in its list, of a row
	twins        []batch.Twin
}

// trie is the wanted members below a value.
type trie struct {
	table    int   // whose rows its elements or members are
	row      *trie // what is wanted of each of them, nil: they are no rows
	slot     int   // -1: the value itself is not wanted
	most     int   // elements are taken, if it is a list: places up to the second or higher are wanted; 0: there are none
	children []branch
}

type branch struct {
	name string
	key  uint64 // see keyed
	to   *trie
}

// keyed is a name's beginning and length as a number: names of up to seven bytes have one of their own.
func keyed(buf []byte, from, to int) uint64 {
	n := uint(to - from)
	return binary.LittleEndian.Uint64(buf[from:])&(1<<(8*min(n, 7))-1) | uint64(n&0xff)<<56
}

func (t *trie) child(name string) *trie {
	for i := range t.children {
		if t.children[i].name == name {
			return t.children[i].to
		}
	}
	return nil
}

// named is what is wanted of a member.
func (t *trie) named(buf []byte, name batch.Span) *trie {
	if t == nil || len(t.children) == 0 {
		return nil
	}
	key := keyed(buf, int(name.Off), int(name.End))
	for i := range t.children {
		if c := &t.children[i]; c.key == key && (len(c.name) < 8 || c.name == string(buf[name.Off:name.End])) {
			return c.to
		}
	}
	return nil
}

// all are the slots of all values below.
func (t *trie) all(slots []int) []int {
	if t.slot >= 0 {
		slots = append(slots, t.slot)
	}
	for _, c := range t.children {
		slots = c.to.all(slots)
	}
	return slots
}

func (t *trie) add(path []string, slot int) { t.find(path).slot = slot }

// find gives what is wanted below a path, which may be nothing yet.
func (t *trie) find(path []string) *trie {
	for _, name := range path {
		c := t.child(name)
		if c == nil {
			c = &trie{slot: -1}
			if n, err := strconv.Atoi(name); err == nil && n > 0 {
				t.most = max(t.most, n+1)
			}
			t.children = append(t.children, branch{name, keyed(append([]byte(name), make([]byte, 8)...), 0, len(name)), c})
		}
		t = c
	}
	return t
}

// pointer takes a JSON Pointer apart.
func pointer(s string) ([]string, error) {
	if s == "" {
		return nil, nil
	}
	if s[0] != '/' {
		return nil, fmt.Errorf("a pointer begins with a slash: /%s", s)
	}
	names := strings.Split(s[1:], "/")
	for i, n := range names {
		names[i] = strings.NewReplacer("~1", "/", "~0", "~").Replace(n)
	}
	return names, nil
}

// bind finds out which members the wanted fields are.
func (r *Reader) bind() finding.List {
	var out finding.List
	r.names, r.outside, r.before, r.list = nil, nil, nil, false
	path, err := pointer(r.pointer)
	if err != nil {
		return finding.List{finding.New("json.records", place.Place{Line: 1, Column: 1}, "the records cannot be found: %v", err)}
	}
	if i := slices.Index(path, "*"); i >= 0 && r.apart == together {
		r.before, r.within, r.list = path[:i], path[i+1:], true
	} else {
		r.within = path
	}
	r.roots = make([]*trie, len(r.within)+1)
	r.keys = make([][]int, len(r.roots))
	for i := range r.roots {
		r.roots[i] = &trie{slot: -1}
	}
	r.twins = nil
	first := map[string]int{}
	for slot, f := range r.shape.Fields {
		r.names = append(r.names, f.Name)
		at, up, wanted := f.At(), 0, []string{f.At()}
		digits := len(at) - len(strings.TrimLeft(at, "0123456789"))
		if strings.HasPrefix(at, "/") || digits > 0 && (digits == len(at) || at[digits] == '/' || at[digits:] == "#") {
			up, _ = strconv.Atoi(at[:digits])
			wanted, _ = pointer(strings.TrimSuffix(at[digits:], "#"))
		}
		level := len(r.within) - up
		where := fmt.Sprintf("%d %v %q", up, digits > 0 && at[digits:] == "#", wanted)
		if as, twice := first[where]; twice {
			r.twins = append(r.twins, batch.Twin{Slot: slot, As: as})
			continue
		}
		first[where] = slot
		if key := digits > 0 && at[digits:] == "#"; key {
			if level >= 0 && level+len(r.before) > 0 || r.list {
				if level >= 0 {
					r.keys[level] = append(r.keys[level], slot)
				}
				r.whole = r.whole || r.list // places in a list that goes on and on are not counted
				continue
			}
		} else if level >= 0 {
			r.roots[level].add(wanted, slot)
			continue
		}
		// Above the outermost element: the list is one level, what holds it the next.
		if outside := len(r.before) + 1 + level; r.list && outside >= 0 && level < -1 {
			r.outside = append(r.outside, outer{slot: slot, path: append(slices.Clone(r.before[:outside]), wanted...), span: batch.Missing})
			continue
		}
		out = append(out, finding.New("json.path", place.Place{Line: 1, Column: 1, Path: f.Name}, "the field %s cannot be found: there are not %d levels above a record", f.Name, up))
	}
	r.slots = make([][]int, len(r.within))
	for level := range r.slots {
		r.slots[level] = append(r.roots[level].all(nil), r.keys[level]...)
	}
	return append(out, r.bindLists()...)
}

// bindLists finds out where the lists of a record are, and what is wanted of their rows.
func (r *Reader) bindLists() finding.List {
	var out finding.List
	tables := r.shape.Tables()
	rows := make([]*trie, len(tables)) // what is wanted of them
	r.tables = make([]table, len(tables))
	for n, t := range tables {
		wrong := func(name, format string, args ...any) {
			out = append(out, finding.New("json.path", place.Place{Line: 1, Column: 1, Path: name}, format, args...))
		}
		above := r.roots[len(r.roots)-1]
		if t.Above >= 0 {
			above = rows[t.Above]
		}
		path := []string{t.At()}
		if strings.HasPrefix(t.At(), "/") {
			path, _ = pointer(t.At())
		} else if t.At() == "0" { // the row is a list itself
			path = nil
		}
		at := above.find(path)
		if at.row != nil {
			wrong(t.Name, "the list %s is at %s, where another is", t.Name, t.At())
		}
		rows[n] = &trie{slot: -1}
		at.table, at.row = n, rows[n]
		of := table{slots: len(t.Fields), above: t.Above}
		first := map[string]int{}
		for slot, f := range t.Fields {
			path := f.At()
			switch as, twice := first[path]; {
			case twice:
				of.twins = append(of.twins, batch.Twin{Slot: slot, As: as})
				continue
			case path == "0#":
				of.keys = append(of.keys, slot)
			case path == "0":
				rows[n].slot = slot
			case strings.HasPrefix(path, "/"):
				names, _ := pointer(path)
				rows[n].add(names, slot)
			case upwards(path):
				wrong(f.Name, "the field %s cannot be found: in a list, what is above it is asked for by its own field", f.Name)
			default:
				rows[n].add([]string{path}, slot)
			}
			first[path] = slot
		}
		r.tables[n] = of
	}
	return out
}

// upwards tells whether a path goes up so many levels first.
func upwards(path string) bool {
	digits := len(path) - len(strings.TrimLeft(path, "0123456789"))
	return digits > 0 && digits < len(path) && path[digits] == '/'
}
