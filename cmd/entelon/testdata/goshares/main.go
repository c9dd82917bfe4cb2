// Works in two goroutines, in functions whose names, files and lines the test
// looks for; one of them is inlined. Their work has labels.
package main

import (
	"context"
	"fmt"
	label "runtime/pprof"
)

//go:noinline
func beams(n int) (s int) {
	for i := range n {
		s += slope(i, s)
	}
	return s
}

func slope(a, b int) int { return a*31 ^ b>>3 }

//go:noinline
func route(n int) (s int) {
	for i := range n {
		s = s*17 + i
	}
	return s
}

func main() {
	done := make(chan int)
	work := func(f func(int) int, labels ...string) {
		label.Do(context.Background(), label.Labels(labels...), func(context.Context) { done <- f(900_000_000) })
	}
	go work(beams, "voice", "viola da gamba", "page", "4")
	go work(route, "span", "route")
	fmt.Println(<-done + <-done)
}
