package service

import (
	"context"
	"testing"
	"testing/synctest"
	"time"
)

// TestMemoryIsGivenBack: what a large file has needed goes back to the system soon, in a service
// that rests as well.
func TestMemoryIsGivenBack(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		large := make([]byte, 2*keptMemory)
		for i := 0; i < len(large); i += 4096 {
			large[i] = 1
		}
		if before := held(); before < 2*keptMemory {
			t.Fatalf("%d bytes are held", before)
		}
		s := &Service{}
		s.life, s.end = context.WithCancel(t.Context())
		go s.giveBack()
		synctest.Wait()
		large = nil
		time.Sleep(2 * memoryLook) // of the bubble: at once
		s.end()
		if now := held(); now > keptMemory {
			t.Errorf("%d bytes are still held", now)
		}
	})
}
