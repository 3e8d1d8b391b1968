package run

import (
	"context"
	"sync"
	"sync/atomic"
	"time"
)

// quietTurn is how long a turn may pass without a sign of life before it is given to
// others: whoever has it hangs in a file system, and needs no core meanwhile.
const quietTurn = 10 * time.Second

// turn waits for a core. Done gives it back, if that has not happened by itself.
func (e *Engine) turn(ctx context.Context, beat *atomic.Int64) (done func(), err error) {
	select {
	case e.turns <- struct{}{}:
	case <-ctx.Done():
		return func() {}, ctx.Err()
	}
	beat.Store(time.Now().UnixNano())
	var once sync.Once
	giveBack := func() { once.Do(func() { <-e.turns }) }
	var look *time.Timer
	look = time.AfterFunc(quietTurn, func() {
		if quiet := time.Since(time.Unix(0, beat.Load())); quiet < quietTurn {
			look.Reset(quietTurn - quiet)
			return
		}
		giveBack()
	})
	return func() { look.Stop(); giveBack() }, nil
}
