// labels names the parts of its work by labels of its goroutines, and says how often it did each and how long
// that took by its own clock, in nanoseconds.
package main

import (
	"context"
	"fmt"
	label "runtime/pprof"
	"sort"
	"strings"
	"sync"
	"time"
)

const clerks, pages = 4, 50

var (
	mu    sync.Mutex
	count = map[string]int{}
	took  = map[string]time.Duration{}
)

// does does something under a label.
func does(ctx context.Context, name string, what func(context.Context)) {
	began := time.Now()
	label.Do(ctx, label.Labels("span", name), what)
	mu.Lock()
	count[name]++
	took[name] += time.Since(began)
	mu.Unlock()
}

func spin(d time.Duration) {
	for began := time.Now(); time.Since(began) < d; {
	}
}

func main() {
	var wg sync.WaitGroup
	long := strings.Repeat("a very long name ", 10)
	for clerk := range clerks {
		wg.Go(func() {
			ctx := label.WithLabels(context.Background(), label.Labels("clerk", fmt.Sprint(clerk)))
			for page := range pages {
				does(ctx, "space", func(ctx context.Context) {
					// Labels of another name leave it in the same part of its work.
					label.Do(ctx, label.Labels("page", fmt.Sprint(page)), func(context.Context) { spin(300 * time.Microsecond) })
				})
				does(ctx, "wait for paper", func(context.Context) { time.Sleep(2 * time.Millisecond) })
				time.Sleep(time.Millisecond)
			}
			does(ctx, long, func(context.Context) { time.Sleep(time.Millisecond) })
			// This one is left by the end of the goroutine.
			mu.Lock()
			count["last"]++
			mu.Unlock()
			label.SetGoroutineLabels(label.WithLabels(ctx, label.Labels("span", "last")))
			time.Sleep(3 * time.Millisecond)
		})
	}
	wg.Wait()
	var names []string
	for name := range count {
		names = append(names, name)
	}
	sort.Strings(names)
	for _, name := range names {
		fmt.Printf("%d %d %s\n", count[name], took[name].Nanoseconds(), name)
	}
}
