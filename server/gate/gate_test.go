package gate

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"testing"
	"time"
)

func TestBounds(t *testing.T) {
	g := New(Options{Inside: 3, Each: 2, Waiting: 2, Wait: 50 * time.Millisecond})
	ctx := context.Background()
	enter := func(name string) func() {
		t.Helper()
		leave, err := g.Enter(ctx, name)
		if err != nil {
			t.Fatal(err)
		}
		return leave
	}
	a, _ := enter("mara"), enter("mara")
	if _, err := g.Enter(ctx, "mara"); !errors.Is(err, ErrLate) {
		t.Errorf("a third of one person: %v", err)
	}
	b := enter("ole")
	if _, err := g.Enter(ctx, "ole"); !errors.Is(err, ErrLate) {
		t.Errorf("a fourth of all: %v", err)
	}
	a()
	a() // leaving twice is leaving once
	c := enter("ole")
	b()
	c()
	gone, go1 := context.WithCancel(ctx)
	go1()
	g.o.Each = 1
	if _, err := g.Enter(gone, "mara"); !errors.Is(err, context.Canceled) {
		t.Errorf("who has gone: %v", err)
	}
	if in, wait := g.Load(); in != 1 || wait != 0 {
		t.Errorf("%d inside, %d waiting", in, wait)
	}
	var all sync.WaitGroup
	var many atomic.Int32
	for range 10 {
		all.Go(func() {
			if _, err := g.Enter(ctx, "mara"); errors.Is(err, ErrTooMany) {
				many.Add(1)
			}
		})
	}
	all.Wait()
	if many.Load() != 8 {
		t.Errorf("%d of 10 were refused at once", many.Load())
	}
}

// TestFair: who asks for little waits for one of who asks for much, not for all.
func TestFair(t *testing.T) {
	g := New(Options{Inside: 1, Each: 1, Waiting: 1000, Wait: time.Minute})
	ctx := context.Background()
	leave, err := g.Enter(ctx, "many")
	if err != nil {
		t.Fatal(err)
	}
	var order []string
	var mu sync.Mutex
	var all sync.WaitGroup
	queue := func(name string) {
		before := 0
		_, before = g.Load()
		all.Go(func() {
			leave, err := g.Enter(ctx, name)
			if err != nil {
				t.Error(err)
				return
			}
			mu.Lock()
			order = append(order, name)
			mu.Unlock()
			leave()
		})
		for {
			if _, n := g.Load(); n > before {
				return
			}
			time.Sleep(time.Millisecond)
		}
	}
	for range 50 {
		queue("many")
	}
	queue("few")
	leave()
	all.Wait()
	if len(order) != 51 || order[0] != "many" || order[1] != "few" {
		t.Errorf("the first were %v", order[:3])
	}
}

func TestUnderLoad(t *testing.T) {
	g := New(Options{Inside: 5, Each: 3, Waiting: 1000, Wait: 20 * time.Millisecond})
	var inside, most atomic.Int32
	var all sync.WaitGroup
	for i := range 100 {
		all.Go(func() {
			for n := range 50 {
				ctx, stop := context.WithTimeout(context.Background(), time.Duration(n)*100*time.Microsecond)
				if leave, err := g.Enter(ctx, fmt.Sprint(i%7)); err == nil {
					now := inside.Add(1)
					for m := most.Load(); now > m && !most.CompareAndSwap(m, now); m = most.Load() {
					}
					time.Sleep(100 * time.Microsecond)
					inside.Add(-1)
					leave()
				}
				stop()
			}
		})
	}
	all.Wait()
	if in, wait := g.Load(); in != 0 || wait != 0 || len(g.persons) != 0 || len(g.line) != 0 || most.Load() > 5 {
		t.Errorf("at the end %d inside, %d waiting, %d persons; at most %d were inside", in, wait, len(g.persons), most.Load())
	}
}
