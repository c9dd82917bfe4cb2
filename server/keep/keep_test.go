package keep

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"sync"
	"sync/atomic"
	"testing"
	"time"
)

// sized makes a value that holds so many bytes.
func sized(bytes int64) Make {
	return func(context.Context, *Item) (any, int64, error) { return bytes, bytes, nil }
}

func get(t *testing.T, k *Keep, key string, bytes int64) *Item {
	t.Helper()
	x, err := k.Get(context.Background(), key, bytes, sized(bytes))
	if err != nil {
		t.Fatal(key, err)
	}
	return x
}

func TestMadeOnceHoweverManyAsk(t *testing.T) {
	k := New(100)
	var made atomic.Int32
	var all sync.WaitGroup
	for range 50 {
		all.Go(func() {
			x, err := k.Get(context.Background(), "a", 10, func(context.Context, *Item) (any, int64, error) {
				made.Add(1)
				time.Sleep(20 * time.Millisecond)
				return "a", 10, nil
			})
			if err != nil || x.Value() != "a" {
				t.Error(err)
				return
			}
			x.Release()
		})
	}
	all.Wait()
	if used, n := k.Used(); made.Load() != 1 || used != 10 || n != 1 {
		t.Errorf("made %d times, %d bytes in %d items", made.Load(), used, n)
	}
}

// TestWhatIsUsedStays and counts; of the rest the oldest goes first.
func TestWhatIsUsedStays(t *testing.T) {
	k := New(100)
	k.Patience = 50 * time.Millisecond
	a := get(t, k, "a", 40)
	get(t, k, "b", 40).Release()
	get(t, k, "c", 40).Release() // b has to go, since a is used
	if k.items["a"] == nil || k.items["b"] != nil || k.items["c"] == nil {
		t.Errorf("kept %v", k.items)
	}
	d := get(t, k, "d", 60)
	if _, err := k.Get(context.Background(), "e", 10, sized(10)); !errors.Is(err, ErrBusy) {
		t.Errorf("all is in use, and it is told %v", err)
	}
	if _, err := k.Get(context.Background(), "huge", 101, sized(101)); !errors.Is(err, ErrTooLarge) {
		t.Errorf("more than all: %v", err)
	}
	// Who waits gets what another lets go.
	time.AfterFunc(20*time.Millisecond, d.Release)
	k.Patience = 5 * time.Second
	get(t, k, "e", 50).Release()
	a.Release()
	if used, _ := k.Used(); used > 100 {
		t.Errorf("%d bytes are used", used)
	}
}

// TestInPassing: many that are looked at together put out each other, not what is
// read.
func TestInPassing(t *testing.T) {
	k := New(100)
	get(t, k, "read", 40).Release()
	for i := range 5 {
		for range 2 {
			x, err := k.GetInPassing(context.Background(), fmt.Sprint(i), 40, sized(40))
			if err != nil {
				t.Fatal(err)
			}
			x.Release()
		}
	}
	if used, n := k.Used(); used != 80 || n != 2 || k.items["read"] == nil {
		t.Errorf("%d bytes in %d items, what is read among them: %v", used, n, k.items["read"] != nil)
	}
	get(t, k, "4", 40).Release() // and is read from now on
	get(t, k, "other", 40).Release()
	if k.items["4"] == nil || k.items["read"] != nil {
		t.Errorf("kept %v", k.items)
	}
}

// TestWhatIsNeededStays as long as what needs it.
func TestWhatIsNeededStays(t *testing.T) {
	k := New(100)
	base := get(t, k, "take", 50)
	shape, err := k.Get(context.Background(), "shape", 20, func(_ context.Context, self *Item) (any, int64, error) {
		self.Needs(base)
		return "shape", 20, nil
	})
	if err != nil {
		t.Fatal(err)
	}
	shape.Release()
	k.mu.Lock()
	if x := k.oldest(); x == nil || x.key != "shape" {
		t.Errorf("the first to go is %v", x)
	}
	k.mu.Unlock()
	get(t, k, "large", 90).Release()
	if used, n := k.Used(); used != 90 || n != 1 {
		t.Errorf("%d bytes in %d items", used, n)
	}
}

// TestAbandonedWorkStops, and is made anew for who comes later.
func TestAbandonedWorkStops(t *testing.T) {
	k := New(100)
	ctx, leave := context.WithCancel(context.Background())
	stopped := make(chan struct{})
	go func() { time.Sleep(20 * time.Millisecond); leave() }()
	_, err := k.Get(ctx, "a", 10, func(ctx context.Context, _ *Item) (any, int64, error) {
		<-ctx.Done()
		close(stopped)
		return nil, 0, ctx.Err()
	})
	if !errors.Is(err, context.Canceled) {
		t.Error(err)
	}
	select {
	case <-stopped:
	case <-time.After(5 * time.Second):
		t.Fatal("it goes on for nobody")
	}
	get(t, k, "a", 10).Release()
	for range 100 { // the abandoned one may end a moment later
		if used, _ := k.Used(); used == 10 {
			return
		}
		time.Sleep(10 * time.Millisecond)
	}
	used, _ := k.Used()
	t.Errorf("%d bytes are used", used)
}

func TestFailuresAndFaultsAreForgotten(t *testing.T) {
	k := New(100)
	broken := errors.New("broken")
	if _, err := k.Get(context.Background(), "a", 10, func(context.Context, *Item) (any, int64, error) { return nil, 0, broken }); !errors.Is(err, broken) {
		t.Error(err)
	}
	if _, err := k.Get(context.Background(), "a", 10, func(context.Context, *Item) (any, int64, error) { panic("oh") }); err == nil {
		t.Error("a fault went by")
	}
	get(t, k, "a", 10).Release()
	k.Forget(func(key string) bool { return key == "a" })
	if used, n := k.Used(); used != 0 || n != 0 {
		t.Errorf("%d bytes in %d items", used, n)
	}
}

// TestUnderLoad: whatever many do at once, the bound holds, and nothing is left
// in use at the end.
func TestUnderLoad(t *testing.T) {
	k := New(1000)
	k.Patience = 2 * time.Second
	var all sync.WaitGroup
	for w := range 16 {
		all.Go(func() {
			r := rand.New(rand.NewPCG(uint64(w), 1))
			for range 400 {
				ctx, leave := context.WithTimeout(context.Background(), time.Duration(r.IntN(2000))*time.Microsecond+time.Millisecond)
				bytes, takes := int64(r.IntN(100)+1), time.Duration(r.IntN(500))*time.Microsecond
				if r.IntN(4) == 0 {
					if back, err := k.Borrow(ctx, bytes); err == nil {
						back()
					}
				} else if x, err := k.Get(ctx, fmt.Sprint(r.IntN(40)), bytes, func(ctx context.Context, _ *Item) (any, int64, error) {
					time.Sleep(takes)
					return nil, bytes, ctx.Err()
				}); err == nil {
					if used, _ := k.Used(); used > 1000+16*100 { // what is made may be larger than was thought
						t.Errorf("%d bytes are used", used)
					}
					x.Release()
				}
				leave()
			}
		})
	}
	all.Wait()
	time.Sleep(50 * time.Millisecond)
	k.Forget(func(string) bool { return true })
	if used, n := k.Used(); used != 0 || n != 0 {
		t.Errorf("at the end %d bytes in %d items", used, n)
	}
}

// TestAnItemMadeForNobody holds what it refers to until its making is over, and
// not longer.
func TestAnItemMadeForNobody(t *testing.T) {
	k := New(100)
	base := get(t, k, "take", 50)
	ctx, leave := context.WithCancel(context.Background())
	began, goOn := make(chan struct{}), make(chan struct{})
	left := make(chan error, 1)
	go func() {
		_, err := k.GetOver(ctx, base, "shape", 20, func(context.Context, *Item) (any, int64, error) {
			close(began)
			<-goOn
			return "shape", 20, nil
		})
		left <- err
	}()
	<-began
	leave()
	if err := <-left; !errors.Is(err, context.Canceled) {
		t.Error(err)
	}
	base.Release()
	k.Patience = 20 * time.Millisecond
	if _, err := k.Get(context.Background(), "large", 60, sized(60)); !errors.Is(err, ErrBusy) {
		t.Errorf("what it is made from was let go: %v", err)
	}
	k.Patience = 5 * time.Second
	close(goOn)
	get(t, k, "large", 100).Release()
	if used, n := k.Used(); used != 100 || n != 1 {
		t.Errorf("%d bytes in %d items", used, n)
	}
}

// TestOffered: what was made on the way is kept where there is room, and is the first to
// go.
func TestOffered(t *testing.T) {
	k := New(100)
	var self *Item
	k.Offer("a", 40, func(x *Item) any { self = x; return "a" })
	k.Offer("a", 40, func(*Item) any { t.Error("it is there already"); return nil })
	k.Offer("b", 70, func(*Item) any { t.Error("there is no room"); return nil })
	x, err := k.Get(t.Context(), "a", 40, func(context.Context, *Item) (any, int64, error) {
		t.Error("it is made again")
		return nil, 0, nil
	})
	if err != nil || x.Value() != "a" || x != self {
		t.Fatalf("%v %v", x.Value(), err)
	}
	if found := k.Find(func(key string) bool { return key == "a" }); found != x {
		t.Error("it is not found")
	} else {
		found.Release()
	}
	if found := k.Find(func(key string) bool { return key == "c" }); found != nil {
		t.Error("what is not there is found")
	}
	x.Release()
	if bytes, items := k.Used(); bytes != 40 || items != 1 {
		t.Errorf("%d bytes of %d", bytes, items)
	}
	y, err := k.Get(t.Context(), "c", 80, func(context.Context, *Item) (any, int64, error) { return "c", 80, nil })
	if err != nil {
		t.Fatal(err)
	}
	y.Release()
	if bytes, items := k.Used(); bytes != 80 || items != 1 {
		t.Errorf("%d bytes of %d after it had to go", bytes, items)
	}
}
