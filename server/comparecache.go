package server

import (
	"context"
	"errors"
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
	for {
		x, mine := k.find(key)
		if mine {
			k.make(x, compare)
			return x.value, x.err
		}
		select {
		case <-x.ready:
		case <-ctx.Done():
			return nil, ctx.Err()
		}
		// Who made it may have gone before it was there; then it is made again.
		if !errors.Is(x.err, context.Canceled) || ctx.Err() != nil {
			return x.value, x.err
		}
	}
}

// find returns the comparison of a key; mine is set where it has to be made.
func (k *comparisons) find(key string) (x *keptComparison, mine bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for i, x := range k.list {
		if x.key == key {
			copy(k.list[1:i+1], k.list[:i])
			k.list[0] = x
			return x, false
		}
	}
	x = &keptComparison{key: key, ready: make(chan struct{})}
	k.list = append([]*keptComparison{x}, k.list[:min(len(k.list), keptComparisons-1)]...)
	return x, true
}

// make makes a comparison. Whatever happens, those who wait for it go on.
func (k *comparisons) make(x *keptComparison, compare func() (*compared, error)) {
	defer func() {
		if x.value == nil && x.err == nil {
			x.err = errors.New("the comparison was broken off")
		}
		if x.err != nil {
			k.forget(x)
		}
		close(x.ready)
	}()
	x.value, x.err = compare()
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
