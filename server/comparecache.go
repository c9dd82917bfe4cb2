package server

import (
	"context"
	"sync"
)

// keptComparisons is how many comparisons are kept: the parts of one page ask
// about the same one after the other.
const keptComparisons = 3

// comparisons are those that were made last.
type comparisons struct {
	mu   sync.Mutex
	list []*keptComparison // the latest first
}

type keptComparison struct {
	key   string
	ready chan struct{}
	value *compared
	err   error
}

// get returns a comparison, making it once however many ask.
func (k *comparisons) get(ctx context.Context, key string, compare func() (*compared, error)) (*compared, error) {
	k.mu.Lock()
	for i, x := range k.list {
		if x.key == key {
			copy(k.list[1:i+1], k.list[:i])
			k.list[0] = x
			k.mu.Unlock()
			select {
			case <-x.ready:
				return x.value, x.err
			case <-ctx.Done():
				return nil, ctx.Err()
			}
		}
	}
	x := &keptComparison{key: key, ready: make(chan struct{})}
	k.list = append([]*keptComparison{x}, k.list[:min(len(k.list), keptComparisons-1)]...)
	k.mu.Unlock()
	x.value, x.err = compare()
	if x.err != nil {
		k.forget(x)
	}
	close(x.ready)
	return x.value, x.err
}

// forget leaves the next who asks to try again.
func (k *comparisons) forget(x *keptComparison) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for i := range k.list {
		if k.list[i] == x {
			k.list = append(k.list[:i:i], k.list[i+1:]...)
			return
		}
	}
}

// forgetAll drops what was compared, such as when a take is removed.
func (k *comparisons) forgetAll() {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.list = nil
}
