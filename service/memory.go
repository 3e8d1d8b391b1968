package service

import (
	"runtime/debug"
	measures "runtime/metrics"
	"time"
)

// How much memory the service may keep after large files without looking whether it is needed,
// and how often it looks.
const (
	keptMemory = 192 << 20
	memoryLook = 5 * time.Second
)

// giveBack gives memory that large files have needed back to the system. The runtime by itself
// would keep it until it collects the next time, which may be long in a service that rests.
func (s *Service) giveBack() {
	for {
		select {
		case <-s.life.Done():
			return
		case <-time.After(memoryLook):
		}
		if held() > keptMemory {
			debug.FreeOSMemory()
		}
	}
}

// held is how much memory the process holds, in bytes, without what the system has got back.
func held() uint64 {
	samples := []measures.Sample{{Name: "/memory/classes/total:bytes"}, {Name: "/memory/classes/heap/released:bytes"}}
	measures.Read(samples)
	return samples[0].Value.Uint64() - samples[1].Value.Uint64()
}
