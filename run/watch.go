package run

import (
	"fmt"
	"time"

	"ydrion/core/text"
)

// Stuck is something that does not move although nothing holds it.
type Stuck struct {
	Pickup int64 // 0 if it is about none
	What   string
}

// Stuck finds what has not moved for so long; nil if everything does. A stage that
// works on something must show a sign of life; a file that is ready must be taken
// while the stages have nothing else to do.
func (c *Conductor) Stuck(still time.Duration) *Stuck {
	c.mu.Lock()
	defer c.mu.Unlock()
	now := time.Now()
	var last time.Time
	for at := taking; at < ended; at++ {
		beat := time.Unix(0, c.beat[at].Load())
		if it := c.at[at]; it != nil {
			if quiet := now.Sub(beat); quiet > still {
				return &Stuck{it.Pickup, fmt.Sprintf("%s %s (pickup %d) has shown no sign of life for %s; does its folder or share answer?", at, it.Name, it.Pickup, quiet.Round(time.Second))}
			}
			return nil // what comes behind waits for it
		}
		if beat.After(last) {
			last = beat
		}
	}
	if c.listener == nil {
		return nil
	}
	if path, since, ok := c.listener.Oldest(); ok && now.Sub(since) > still && now.Sub(c.tookAt) > still && c.gated == "" {
		return &Stuck{0, fmt.Sprintf("%s is ready since %s, nothing holds it, and it is not taken", text.Readable(path), since.Format("15:04:05 MST"))}
	}
	return nil
}
