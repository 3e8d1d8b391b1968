package tell

import "time"

// Rhythm spaces what is mailed to a channel: what comes soon after a mail waits and goes out together, after a rest
// that grows while there is always more to tell.
type Rhythm struct {
	Shortest, Longest time.Duration // of the rests

	last time.Time
	rest time.Duration
}

// Wait is how long the next mail is to wait.
func (r *Rhythm) Wait(now time.Time) time.Duration {
	return max(0, r.last.Add(r.rest).Sub(now))
}

// Sent notes that a mail has gone out.
func (r *Rhythm) Sent(now time.Time) {
	if now.Sub(r.last) > 2*r.rest { // it was quiet
		r.rest = 0
	}
	r.rest = min(max(2*r.rest, r.Shortest), r.Longest)
	r.last = now
}
