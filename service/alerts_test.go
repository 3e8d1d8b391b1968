package service

import (
	"fmt"
	"testing"
	"time"
)

// TestToldLately: the records are spared what they were told a moment ago, and nothing else: what another node has ended meanwhile is told again.
func TestToldLately(t *testing.T) {
	now := time.Now()
	known := told{}
	known.add("stuck orders", now)
	if !known.is("stuck orders", now.Add(lately/2)) || known.is("stuck orders", now.Add(lately)) || known.is("held orders", now) {
		t.Error(known)
	}
	// Of very many only those of the last minute are kept.
	for i := range 100_000 {
		now = now.Add(time.Millisecond * 6)
		known.add(fmt.Sprintf("uncertain pickup %d", i), now)
	}
	if len(known) > 12_000 {
		t.Errorf("%d are kept", len(known))
	}
	if !known.is("uncertain pickup 99999", now) || known.is("uncertain pickup 1", now) {
		t.Error("the wrong ones are kept")
	}
}
