// Works in two goroutines, in functions whose names, files and lines the test
// looks for; one of them is inlined.
package main

import "fmt"

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
	go func() { done <- beams(900_000_000) }()
	go func() { done <- route(900_000_000) }()
	fmt.Println(<-done + <-done)
}
