package run

import (
	"testing"
	"time"
)

// TestEndsTogether: the first of a stream is recorded at once, what comes behind it together, and what somebody waits for at once.
func TestEndsTogether(t *testing.T) {
	now := time.Now()
	e := &ending{}
	add := func(n int, hurry bool) {
		if len(e.items) == 0 {
			e.begun = now
		}
		for range n {
			e.items = append(e.items, &item{})
		}
		e.hurry = e.hurry || hurry
	}
	is := func(what string, items int, wait time.Duration) {
		t.Helper()
		if got, rest := e.due(now); len(got) != items || rest != wait {
			t.Errorf("%s: %d items, %s; not %d, %s", what, len(got), rest, items, wait)
		}
	}
	is("nothing has ended", 0, 0)
	add(1, false)
	is("one alone", 1, 0)
	now = now.Add(endsStream / 2)
	add(2, false)
	is("soon after it", 0, endsWait)
	now = now.Add(endsWait - time.Millisecond)
	add(1, false)
	is("one more", 0, time.Millisecond)
	now = now.Add(time.Millisecond)
	is("it is time", 3, 0)
	add(2, true)
	is("one is waited for", 2, 0)
	add(1, false)
	is("nobody waits any more", 0, endsWait)
	now = now.Add(endsWait)
	is("it is time again", 1, 0)
	add(groupFiles+5, false)
	is("very many", groupFiles, 0)
	is("the rest of them", 0, endsWait)
	now = now.Add(endsStream + endsWait)
	is("they are all", 5, 0)
	add(1, false)
	now = now.Add(endsStream)
	is("long after them", 1, 0)
}
