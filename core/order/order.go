// Package order puts items into the order of their keys, however many there are: what does not fit into memory is
// sorted in portions, which are spilled and merged.
package order

import (
	"bufio"
	"bytes"
	"cmp"
	"container/heap"
	"encoding/binary"
	"fmt"
	"io"
	"slices"
)

// Spill is where portions are kept that do not fit into memory.
type Spill interface {
	io.Writer
	io.ReaderAt
	io.Closer
}

// Memory is how many bytes of items are kept in memory, if nobody says.
const Memory = 64 << 20

// Sorter takes items and gives them in the order of their keys, as bytes. Keys must differ.
type Sorter struct {
	memory   int
	make     func() (Spill, error) // nil: everything stays in memory
	arena    []byte
	items    []item
	file     Spill
	written  int64
	portions []portion
	merging  portions
	given    bool // the first of those that are merged has been given
	next     int  // of the items, where nothing was spilled
}

// item is one in the arena: its key, then what belongs to it.
type item struct {
	first       uint64 // bytes of its key
	at, key, to int
}

// portion is a sorted part of what was spilled, while it is read.
type portion struct {
	from, to int64
	in       *bufio.Reader
	key, of  []byte
}

// New makes a sorter that keeps so many bytes in memory (0: Memory) and spills the rest.
func New(memory int, spill func() (Spill, error)) *Sorter {
	return &Sorter{memory: cmp.Or(memory, Memory), make: spill}
}

// Add takes an item. Both parts are copied.
func (s *Sorter) Add(key, of []byte) error {
	const each = 40 // bytes that are kept of each besides
	if s.make != nil && len(s.items) > 0 && len(s.arena)+len(s.items)*each+len(key)+len(of) > s.memory {
		if err := s.spill(); err != nil {
			return err
		}
	}
	at := len(s.arena)
	s.arena = append(append(s.arena, key...), of...)
	var first [8]byte
	copy(first[:], key)
	s.items = append(s.items, item{binary.BigEndian.Uint64(first[:]), at, at + len(key), len(s.arena)})
	return nil
}

// sort brings what is in memory into its order.
func (s *Sorter) sort() {
	slices.SortFunc(s.items, func(a, b item) int {
		if a.first != b.first {
			return cmp.Compare(a.first, b.first)
		}
		return bytes.Compare(s.arena[a.at:a.key], s.arena[b.at:b.key])
	})
}

// spill writes what is in memory as a sorted portion.
func (s *Sorter) spill() (err error) {
	if s.file == nil {
		if s.file, err = s.make(); err != nil {
			return fmt.Errorf("making room for what is sorted: %w", err)
		}
	}
	s.sort()
	w := bufio.NewWriterSize(s.file, 256<<10)
	from := s.written
	var head []byte
	for _, i := range s.items {
		head = binary.AppendUvarint(binary.AppendUvarint(head[:0], uint64(i.key-i.at)), uint64(i.to-i.key))
		if _, err = w.Write(head); err == nil {
			_, err = w.Write(s.arena[i.at:i.to])
		}
		if err != nil {
			break
		}
		s.written += int64(len(head) + i.to - i.at)
	}
	if err == nil {
		err = w.Flush()
	}
	if err != nil {
		return fmt.Errorf("keeping what is sorted: %w", err)
	}
	s.portions = append(s.portions, portion{from: from, to: s.written})
	s.items, s.arena = s.items[:0], s.arena[:0]
	return nil
}

// Sorted ends taking: Next gives the items from now on.
func (s *Sorter) Sorted() error {
	if len(s.portions) == 0 {
		s.sort()
		return nil
	}
	if len(s.items) > 0 {
		if err := s.spill(); err != nil {
			return err
		}
	}
	s.items, s.arena = nil, nil
	size := max(16<<10, min(1<<20, s.memory/2/len(s.portions)))
	for i := range s.portions {
		p := &s.portions[i]
		p.in = bufio.NewReaderSize(io.NewSectionReader(s.file, p.from, p.to-p.from), size)
		if more, err := p.advance(); err != nil {
			return err
		} else if more {
			s.merging = append(s.merging, p)
		}
	}
	heap.Init(&s.merging)
	return nil
}

// advance reads the next item of a portion.
func (p *portion) advance() (more bool, err error) {
	key, err := binary.ReadUvarint(p.in)
	if err == io.EOF {
		return false, nil
	}
	var of uint64
	if err == nil {
		of, err = binary.ReadUvarint(p.in)
	}
	if err == nil {
		p.key, p.of = slices.Grow(p.key[:0], int(key))[:key], slices.Grow(p.of[:0], int(of))[:of]
		if _, err = io.ReadFull(p.in, p.key); err == nil {
			_, err = io.ReadFull(p.in, p.of)
		}
	}
	if err != nil {
		return false, fmt.Errorf("reading what was sorted: %w", err)
	}
	return true, nil
}

// Next gives the next item, until more is false. What it gives is valid until it is called again.
func (s *Sorter) Next() (key, of []byte, more bool, err error) {
	if s.portions == nil {
		if s.next == len(s.items) {
			return nil, nil, false, nil
		}
		i := s.items[s.next]
		s.next++
		return s.arena[i.at:i.key], s.arena[i.key:i.to], true, nil
	}
	if s.given && len(s.merging) > 0 {
		more, err := s.merging[0].advance()
		switch {
		case err != nil:
			return nil, nil, false, err
		case more:
			heap.Fix(&s.merging, 0)
		default:
			heap.Pop(&s.merging)
		}
	}
	if s.given = true; len(s.merging) == 0 {
		return nil, nil, false, nil
	}
	return s.merging[0].key, s.merging[0].of, true, nil
}

// Close gives up what is kept.
func (s *Sorter) Close() error {
	s.items, s.arena, s.merging = nil, nil, nil
	if s.file == nil {
		return nil
	}
	file := s.file
	s.file = nil
	return file.Close()
}

// portions is a heap of them by the keys that come next.
type portions []*portion

func (p portions) Len() int           { return len(p) }
func (p portions) Less(i, j int) bool { return bytes.Compare(p[i].key, p[j].key) < 0 }
func (p portions) Swap(i, j int)      { p[i], p[j] = p[j], p[i] }
func (p *portions) Push(x any)        { *p = append(*p, x.(*portion)) }
func (p *portions) Pop() any {
	last := (*p)[len(*p)-1]
	*p = (*p)[:len(*p)-1]
	return last
}
