package server

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"testing"

	"entelon/core/made"
	"entelon/core/scope"
	"entelon/core/tree"
)

func TestCacheLoadsOnceHoweverManyAsk(t *testing.T) {
	c := newCache(1 << 20)
	var loads atomic.Int64
	begin := make(chan struct{})
	var wg sync.WaitGroup
	for range 20 {
		wg.Go(func() {
			<-begin
			got, err := c.get(context.Background(), "a", toRead, func() (*opened, error) {
				loads.Add(1)
				return &opened{bytes: 10}, nil
			})
			if err != nil || got == nil {
				t.Errorf("%v, %v", got, err)
			}
		})
	}
	close(begin)
	wg.Wait()
	if loads.Load() != 1 {
		t.Errorf("loaded %d times", loads.Load())
	}
}

func TestCacheStaysWithinItsBound(t *testing.T) {
	c := newCache(100)
	loads := map[string]int{}
	get := func(key string) {
		t.Helper()
		if _, err := c.get(context.Background(), key, toRead, func() (*opened, error) { loads[key]++; return &opened{bytes: 40}, nil }); err != nil {
			t.Fatal(err)
		}
	}
	get("a")
	get("b")
	get("a") // now b is the older one
	get("c") // and has to go
	get("a")
	get("b")
	if fmt.Sprint(loads) != "map[a:1 b:2 c:1]" {
		t.Errorf("loaded %v", loads)
	}
	if c.used > 100 || len(c.entries) != 2 {
		t.Errorf("it holds %d bytes in %d takes", c.used, len(c.entries))
	}
	// Many that are opened in passing put out each other, not the one that is read.
	get("b")
	for i := range 5 {
		for range 2 {
			if _, err := c.get(context.Background(), fmt.Sprint("passing ", i), inPassing, func() (*opened, error) { return &opened{bytes: 40}, nil }); err != nil {
				t.Fatal(err)
			}
		}
	}
	if c.used > 100 || len(c.entries) != 2 || c.entries["b"] == nil {
		t.Errorf("it holds %d bytes in %d takes, the one that is read among them: %v", c.used, len(c.entries), c.entries["b"] != nil)
	}
	// One that is larger than the bound is served all the same.
	if _, err := c.get(context.Background(), "huge", toRead, func() (*opened, error) { return &opened{bytes: 5000}, nil }); err != nil {
		t.Error(err)
	}
	get("a")
	if c.used > 100 {
		t.Errorf("it holds %d bytes after the huge one", c.used)
	}
}

func TestCacheForgetsFailures(t *testing.T) {
	c := newCache(100)
	broken := errors.New("broken")
	if _, err := c.get(context.Background(), "a", toRead, func() (*opened, error) { return nil, broken }); !errors.Is(err, broken) {
		t.Error(err)
	}
	if got, err := c.get(context.Background(), "a", toRead, func() (*opened, error) { return &opened{bytes: 1}, nil }); err != nil || got == nil {
		t.Errorf("the second try: %v, %v", got, err)
	}
	ended, end := context.WithCancel(context.Background())
	end()
	hold := make(chan struct{})
	go c.get(context.Background(), "slow", toRead, func() (*opened, error) { <-hold; return &opened{}, nil })
	defer close(hold)
	for {
		c.mu.Lock()
		_, loading := c.entries["slow"]
		c.mu.Unlock()
		if loading {
			break
		}
	}
	if _, err := c.get(ended, "slow", toRead, nil); !errors.Is(err, context.Canceled) {
		t.Errorf("one who has gone waits on: %v", err)
	}
}

// TestScopedCosts: the latest few scopes are kept, and each is right.
func TestScopedCosts(t *testing.T) {
	p := made.Profile(1, made.Small)
	o := &opened{view: &view{tree: tree.New(p)}}
	whole := o.cost(0, scope.Scope{}).cost
	if o.cost(0, scope.Scope{}).cost != whole {
		t.Error("the same scope was added up twice")
	}
	var parts int64
	for i := range int64(18) {
		parts += o.cost(0, scope.Between(i*100e6, (i+1)*100e6)).cost.Total(0)
	}
	if parts != whole.Total(0) {
		t.Errorf("the parts sum to %d, the whole is %d", parts, whole.Total(0))
	}
	if len(o.costs) != keptCosts {
		t.Errorf("%d scopes are kept, want %d", len(o.costs), keptCosts)
	}
	gone, leave := context.WithCancel(context.Background())
	leave()
	if _, err := o.costFor(gone, 0, scope.Between(0, 77e6)); err == nil || o.costs[0].scope.String() == scope.Between(0, 77e6).String() {
		t.Errorf("for one who has gone it was added up: %v", err)
	}
	again := o.cost(0, scope.Scope{})
	if again.cost.Total(0) != whole.Total(0) || again.cost == whole {
		t.Error("a scope that was forgotten was not added up anew")
	}
}
