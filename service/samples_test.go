package service

import (
	"context"
	"errors"
	"strings"
	"sync"
	"testing"
	"time"

	"ydrion/core/formats"
)

// TestSamplesAreForgotten: a sample is kept as long as somebody looks at it, and no file of it stands
// in any folder.
func TestSamplesAreForgotten(t *testing.T) {
	now := time.Date(2026, 11, 25, 9, 0, 0, 0, time.UTC)
	s := &Service{Config: Config{Data: t.TempDir(), Clock: func() time.Time { return now }}}
	ctx := context.Background()
	look := func() string {
		t.Helper()
		v, err := s.Sample(ctx, strings.NewReader("tag,kg\nT-1,2\nT-2,3\n"), "x.csv", "", "")
		if err != nil || v.Look.Records != 2 || v.Rows != 3 {
			t.Fatalf("%+v, %v", v, err)
		}
		return v.ID
	}
	kept := func(id string) bool {
		_, err := s.SampleRows(id, 0, 1)
		if err != nil && !errors.Is(err, ErrSample) {
			t.Fatal(err)
		}
		return err == nil
	}
	used, unused := look(), look()
	for range 5 {
		now = now.Add(sampleUnused / 2)
		if !kept(used) {
			t.Fatal("a sample that is used is forgotten")
		}
	}
	third := look() // when another one comes, those are dropped that nobody uses
	if kept(unused) || !kept(used) || !kept(third) {
		t.Errorf("unused %t, used %t, new %t", kept(unused), kept(used), kept(third))
	}
	for range mostSamples {
		now = now.Add(time.Second)
		look()
	}
	if kept(used) || kept(third) {
		t.Error("more samples are kept than may be")
	}
	s.ForgetSample("nobody")
	// Forgetting waits for those who read.
	id := look()
	var readers sync.WaitGroup
	for range 8 {
		readers.Go(func() {
			for {
				if _, err := s.SampleRecords(ctx, id, formats.Request{From: 2, Byte: -1, Records: 1}); err != nil {
					if !errors.Is(err, ErrSample) {
						t.Error(err)
					}
					return
				}
			}
		})
	}
	time.Sleep(5 * time.Millisecond)
	s.ForgetSample(id)
	readers.Wait()
	if hit, err := s.SampleFind(ctx, look(), "t-2", 0, false); err != nil || hit == nil || hit.Row != 2 {
		t.Errorf("%+v, %v", hit, err)
	}
	if row, err := s.SampleRow(look(), 8); err != nil || row != 1 {
		t.Errorf("%d, %v", row, err)
	}
}
