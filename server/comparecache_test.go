package server

import (
	"context"
	"errors"
	"sync"
	"sync/atomic"
	"testing"
)

// A comparison is made once however many ask, and again where the one who made it
// went away, or where it failed.
func TestComparisonsAreMadeOnce(t *testing.T) {
	var k comparisons
	var made atomic.Int32
	want := &compared{}
	var all sync.WaitGroup
	for range 20 {
		all.Go(func() {
			got, err := k.get(context.Background(), "a", func() (*compared, error) { made.Add(1); return want, nil })
			if got != want || err != nil {
				t.Errorf("%p, %v; want %p", got, err, want)
			}
		})
	}
	all.Wait()
	if made.Load() != 1 {
		t.Errorf("it was made %d times", made.Load())
	}
	begun, gone := make(chan struct{}), make(chan struct{})
	all.Go(func() {
		_, err := k.get(context.Background(), "b", func() (*compared, error) { close(begun); <-gone; return nil, context.Canceled })
		if !errors.Is(err, context.Canceled) {
			t.Errorf("who went away was told %v", err)
		}
	})
	<-begun
	all.Go(func() {
		got, err := k.get(context.Background(), "b", func() (*compared, error) { return want, nil })
		if got != want || err != nil {
			t.Errorf("who stayed got %p, %v", got, err)
		}
	})
	close(gone)
	all.Wait()
	for range 2 {
		if _, err := k.get(context.Background(), "c", func() (*compared, error) { return nil, errors.New("bad") }); err == nil || err.Error() != "bad" {
			t.Errorf("a failure was told as %v", err)
		}
	}
	for _, key := range []string{"d", "e", "f", "g"} {
		if _, err := k.get(context.Background(), key, func() (*compared, error) { return want, nil }); err != nil {
			t.Error(err)
		}
	}
	if len(k.list) != keptComparisons {
		t.Errorf("%d are kept", len(k.list))
	}
}
