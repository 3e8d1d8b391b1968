package main

import (
	"runtime"
	"runtime/metrics"
	"testing"
	"time"
)

// TestBegin: the first collection is put off, and behind it collections come as they usually do.
func TestBegin(t *testing.T) {
	percent := func() uint64 {
		sample := []metrics.Sample{{Name: "/gc/gogc:percent"}}
		metrics.Read(sample)
		return sample[0].Value.Uint64()
	}
	begin()
	if n := percent(); n != 400 {
		t.Errorf("%d before the first collection", n)
	}
	runtime.GC()
	for end := time.Now().Add(10 * time.Second); percent() != 100; time.Sleep(time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("%d behind it", percent())
		}
	}
}
