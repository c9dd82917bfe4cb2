// Package keep holds what was computed and may be asked for again, whatever it
// is, within one bound of memory for the whole process. What somebody uses at the
// moment stays; of the rest, what was not used for longest goes first. Work that
// needs memory and keeps nothing borrows from the same bound.
//
// One lock guards what there is and who uses it; nothing is made while it is held.
package keep

import (
	"container/list"
	"context"
	"errors"
	"fmt"
	"runtime/debug"
	"sync"
	"time"
)

// Keep is such a store. Its methods may be called by many goroutines.
type Keep struct {
	mu      sync.Mutex
	limit   int64
	used    int64
	order   *list.List // of *Item that are ready, the latest used first
	items   map[string]*Item
	changed chan struct{} // closed when memory came free, or may have
	// Patience is how long one waits for memory that others use.
	Patience time.Duration
}

// Item is something that is kept, or is being made.
type Item struct {
	keep  *Keep
	key   string
	bytes int64
	users int
	at    *list.Element // nil while it is being made, and once it has gone
	ready chan struct{}
	stop  context.CancelFunc
	value any
	err   error
	needs []*Item // what it refers to, which stays as long as it
	gone  bool
	// passing: it is one of many, and nobody reads it.
	passing bool
}

// Errors about memory.
var (
	ErrTooLarge = errors.New("it needs more memory than the server has for everything together")
	ErrBusy     = errors.New("the server's memory is in use by others")
)

// New returns an empty store with a bound, in bytes.
func New(limit int64) *Keep {
	return &Keep{limit: limit, order: list.New(), items: map[string]*Item{}, changed: make(chan struct{}), Patience: 30 * time.Second}
}

// Limit is the bound, in bytes.
func (k *Keep) Limit() int64 { return k.limit }

// Used is how much of it is in use, in bytes, and by how many items.
func (k *Keep) Used() (bytes int64, items int) {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.used, len(k.items)
}

// Make makes a value and says how much memory it holds. Its context ends when
// nobody waits for it any more.
type Make func(ctx context.Context, self *Item) (value any, bytes int64, err error)

// Get returns what is kept under a key, having it made once, however many ask.
// expect is how much memory that will need. What is returned has to be released.
func (k *Keep) Get(ctx context.Context, key string, expect int64, make Make) (*Item, error) {
	return k.get(ctx, key, expect, make, nil, false)
}

// Find returns one that is there under a key for which is says so, and has to be
// released; nil where there is none.
func (k *Keep) Find(is func(key string) bool) *Item {
	k.mu.Lock()
	defer k.mu.Unlock()
	for e := k.order.Front(); e != nil; e = e.Next() {
		if x := e.Value.(*Item); is(x.key) {
			x.users++
			return x
		}
	}
	return nil
}

// Offer keeps what was made on the way to something else, if there is room without
// letting anything go. value is given the item that it becomes.
func (k *Keep) Offer(key string, bytes int64, value func(self *Item) any) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.items[key] != nil || k.used+bytes > k.limit {
		return
	}
	x := &Item{keep: k, key: key, bytes: bytes, passing: true, ready: make(chan struct{}), stop: func() {}}
	x.value = value(x)
	close(x.ready)
	k.items[key] = x
	x.at = k.order.PushBack(x)
	k.used += bytes
}

// GetOver is Get for something that refers to another item, which stays as long as
// it. Whoever asks must be using that item.
func (k *Keep) GetOver(ctx context.Context, base *Item, key string, expect int64, make Make) (*Item, error) {
	return k.get(ctx, key, expect, make, base, false)
}

// GetInPassing is Get for one of many that are looked at together: where room is
// short, they put out each other, and not what somebody reads.
func (k *Keep) GetInPassing(ctx context.Context, key string, expect int64, make Make) (*Item, error) {
	return k.get(ctx, key, expect, make, nil, true)
}

func (k *Keep) get(ctx context.Context, key string, expect int64, make Make, base *Item, passing bool) (*Item, error) {
	for {
		x := k.find(key, expect, make, base, passing)
		select {
		case <-x.ready:
		case <-ctx.Done():
			x.Release()
			return nil, ctx.Err()
		}
		if x.err == nil {
			return x, nil
		}
		err := x.err
		x.Release()
		// Who it was made for may have gone before it was there; then it is made again.
		if !errors.Is(err, context.Canceled) || ctx.Err() != nil {
			return nil, err
		}
	}
}

func (k *Keep) find(key string, expect int64, mk Make, base *Item, passing bool) *Item {
	k.mu.Lock()
	defer k.mu.Unlock()
	if x := k.items[key]; x != nil {
		x.users++
		if x.passing = x.passing && passing; !passing && x.at != nil {
			k.order.MoveToFront(x.at)
		}
		return x
	}
	ctx, stop := context.WithCancel(context.Background())
	x := &Item{keep: k, key: key, users: 1, passing: passing, ready: make(chan struct{}), stop: stop}
	if base != nil {
		base.users++
		x.needs = []*Item{base}
	}
	k.items[key] = x
	go k.make(ctx, x, expect, mk)
	return x
}

// make makes an item, whatever happens to who asked for it.
func (k *Keep) make(ctx context.Context, x *Item, expect int64, mk Make) {
	var value any
	var bytes int64
	err := k.reserve(ctx, expect)
	reserved := err == nil
	if reserved {
		value, bytes, err = guarded(ctx, x, mk)
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	defer x.stop()
	if reserved {
		k.used -= expect
	}
	x.value, x.err = value, err
	close(x.ready)
	if err != nil {
		k.forget(x)
	} else {
		x.bytes = bytes
		k.used += bytes
		if x.passing {
			x.at = k.order.PushBack(x)
		} else {
			x.at = k.order.PushFront(x)
		}
		k.shrink(0)
	}
	if x.users == 0 && x.gone {
		k.letGo(x)
	}
	k.tell()
}

// guarded has a fault in the making be an error.
func guarded(ctx context.Context, x *Item, mk Make) (value any, bytes int64, err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("a fault: %v\n%s", p, debug.Stack())
		}
	}()
	return mk(ctx, x)
}

// Needs has an item that is being made hold on to another one, which it takes
// over from who had it.
func (x *Item) Needs(other *Item) {
	x.keep.mu.Lock()
	defer x.keep.mu.Unlock()
	x.needs = append(x.needs, other)
}

// Key is what it is kept under.
func (x *Item) Key() string { return x.key }

// Value is what is kept.
func (x *Item) Value() any { return x.value }

// Release lets an item go again.
func (x *Item) Release() {
	k := x.keep
	k.mu.Lock()
	defer k.mu.Unlock()
	k.release(x)
}

func (k *Keep) release(x *Item) {
	x.users--
	if x.users > 0 {
		return
	}
	select {
	case <-x.ready:
		if x.gone {
			k.letGo(x)
		}
	default: // nobody waits for it any more
		x.stop()
		k.forget(x)
	}
	k.tell()
}

// forget has nobody find an item any more.
func (k *Keep) forget(x *Item) {
	if k.items[x.key] == x {
		delete(k.items, x.key)
	}
	if x.at != nil {
		k.order.Remove(x.at)
		x.at = nil
	}
	x.gone = true
}

// letGo takes back the memory of an item that nobody uses or finds.
func (k *Keep) letGo(x *Item) {
	k.used -= x.bytes
	x.bytes, x.value = 0, nil
	needs := x.needs
	x.needs = nil
	for _, n := range needs {
		k.release(n)
	}
}

// shrink lets go of what nobody uses until so many bytes more have room; it
// reports whether they have.
func (k *Keep) shrink(more int64) bool {
	for k.used+more > k.limit {
		x := k.oldest()
		if x == nil {
			return false
		}
		k.forget(x)
		k.letGo(x)
	}
	return true
}

// oldest is the item that nobody uses and nobody has used for longest.
func (k *Keep) oldest() *Item {
	for e := k.order.Back(); e != nil; e = e.Prev() {
		if x := e.Value.(*Item); x.users == 0 {
			return x
		}
	}
	return nil
}

// tell wakes who waits for memory.
func (k *Keep) tell() {
	close(k.changed)
	k.changed = make(chan struct{})
}

// reserve takes so many bytes, waiting for a while for others to let some go.
func (k *Keep) reserve(ctx context.Context, bytes int64) error {
	if bytes > k.limit {
		return ErrTooLarge
	}
	late := time.NewTimer(k.Patience)
	defer late.Stop()
	for {
		k.mu.Lock()
		if k.shrink(bytes) {
			k.used += bytes
			k.mu.Unlock()
			return nil
		}
		changed := k.changed
		k.mu.Unlock()
		select {
		case <-changed:
		case <-ctx.Done():
			return ctx.Err()
		case <-late.C:
			return ErrBusy
		}
	}
}

// Borrow takes so many bytes for work that keeps nothing, until back is called.
func (k *Keep) Borrow(ctx context.Context, bytes int64) (back func(), err error) {
	if err := k.reserve(ctx, bytes); err != nil {
		return nil, err
	}
	return sync.OnceFunc(func() {
		k.mu.Lock()
		defer k.mu.Unlock()
		k.used -= bytes
		k.tell()
	}), nil
}

// Forget drops what is kept under keys for which is says so. Who uses it at the
// moment keeps it.
func (k *Keep) Forget(is func(key string) bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for key, x := range k.items {
		if !is(key) {
			continue
		}
		k.forget(x)
		select {
		case <-x.ready:
			if x.users == 0 {
				k.letGo(x)
			}
		default:
		}
	}
	k.tell()
}
